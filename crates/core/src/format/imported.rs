//! Results that ran elsewhere, read from the files that they left: JUnit XML, TAP or event lines, told apart by how they begin.
//!
//! What a file promises and does not hold, or says beside its results, is no result, and is told as wrong: a run of it fails.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::{
    Reported, Step,
    events::{Event, read_line},
    junit,
    subtests::SubtestReader,
    tap::{Tap, TapReader},
};
use crate::{
    name::{LONGEST_TEST_NAME, TestName, case_title, shorten},
    suite::listing::MOST_TESTS,
    time::Span,
    words::Ended,
};

/// A test or file with what was read of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Imported {
    pub name: TestName,
    /// Of a file, how it ended itself: as good as its cases let it.
    pub reported: Reported,
    /// What it printed, if that was told.
    pub output: String,
    /// The cases of a file, each with whether its title came before.
    pub cases: Vec<(String, Reported, bool)>,
}

impl Imported {
    /// What it took: what was said of it, or what its cases took together.
    #[must_use]
    pub fn spent(&self) -> Span {
        let cases = || Span(self.cases.iter().filter_map(|c| c.1.spent).map(|s| s.0).sum());
        self.reported.spent.unwrap_or_else(cases)
    }
}

/// Results gathered from files.
#[derive(Debug, Default)]
pub struct Import {
    /// The suite's list names files, whose cases the results are.
    of_files: bool,
    /// Names that the suite is known to have.
    known: HashSet<String>,
    entries: Vec<Imported>,
    places: HashMap<String, usize>,
    wrongs: Vec<String>,
    titles: Vec<HashMap<String, u32>>,
}

/// The most that is said to be wrong of one file.
const MOST_WRONGS: usize = 20;

/// What a file of results is called where a test or file has to be named after it: its path without the ending.
fn stem(path: &str) -> String {
    let file = path.rsplit('/').next().unwrap_or(path);
    file.rsplit_once('.').map_or(file, |(stem, _)| stem).to_owned()
}

impl Import {
    /// For a suite of files or of tests; `known` are names that it is known to have.
    #[must_use]
    pub fn new(of_files: bool, known: HashSet<String>) -> Self {
        Self { of_files, known, ..Self::default() }
    }

    /// Reads one file, which was found at `path`.
    ///
    /// # Errors
    /// In words, if it is none of JUnit XML, TAP and event lines, or is broken.
    pub fn read(&mut self, path: &str, content: &[u8]) -> Result<(), String> {
        let said = |why: String| format!("{path}: {why}");
        let text = std::str::from_utf8(content).map(|text| text.trim_start_matches('\u{feff}'));
        match text.unwrap_or_default().trim_start().chars().next() {
            _ if content.starts_with(b"<") => self.read_junit(path, content).map_err(said),
            Some('<') => self.read_junit(path, content).map_err(said),
            Some('{') => self.read_events(path, text.unwrap_or_default()).map_err(said),
            _ => match text {
                Ok(text) => self.read_tap(path, text).map_err(said),
                Err(e) => Err(said(format!("it is not UTF-8 ({e})"))),
            },
        }
    }

    /// What was gathered, and what is wrong beside the results.
    ///
    /// # Errors
    /// In words, if there is no result at all.
    pub fn finish(self) -> Result<(Vec<Imported>, Vec<String>), String> {
        if self.entries.is_empty() {
            return Err("the files hold no result".into());
        }
        Ok((self.entries, self.wrongs))
    }

    fn read_junit(&mut self, path: &str, content: &[u8]) -> Result<(), String> {
        let file = junit::read(content)?;
        if file.cases.is_empty() && file.loose.is_empty() {
            return Err("it holds no <testcase>".into());
        }
        for case in file.cases {
            let candidates = case.candidates();
            self.take(path, &candidates, (&case.class, &case.name), case.reported, &case.output)?;
        }
        let loose = file.loose.into_iter().take(MOST_WRONGS);
        self.wrongs.extend(loose.map(|why| format!("{path} holds {why}")));
        Ok(())
    }

    fn read_tap(&mut self, path: &str, text: &str) -> Result<(), String> {
        let mut found = Vec::new();
        if self.of_files {
            let mut reader = SubtestReader::default();
            text.lines().for_each(|line| found.extend(reader.line(line)));
            found.extend(reader.finish());
        } else {
            let mut reader = TapReader::default();
            text.lines().for_each(|line| found.extend(reader.line(line)));
            found.extend(reader.finish());
        }
        if found.is_empty() {
            return Err("it holds neither JUnit XML nor TAP nor event lines".into());
        }
        let mut wrongs = 0;
        for tap in found {
            match tap {
                Tap::Point { number, description, reported } => {
                    let name = if description.is_empty() { format!("{} {number}", stem(path)) } else { description };
                    self.take(path, std::slice::from_ref(&name), ("", &name), reported, "")?;
                }
                Tap::Nothing(why) => {
                    let reported = Reported { message: why, ..Reported::plain(Ended::Skipped) };
                    self.take(path, &[stem(path)], (&stem(path), ""), reported, "")?;
                }
                Tap::BailOut(why) => self.wrongs.push(format!("{path}: it bailed out: {}", shorten(&why, 300))),
                Tap::Broken(why) | Tap::Unkept(why) => {
                    wrongs += 1;
                    if wrongs <= MOST_WRONGS {
                        self.wrongs.push(format!("{path}: {why}"));
                    }
                }
            }
        }
        Ok(())
    }

    fn read_events(&mut self, path: &str, text: &str) -> Result<(), String> {
        let mut begun: BTreeMap<String, Vec<Step>> = BTreeMap::new();
        for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
            let event = read_line(line).map_err(|why| format!("line {}: {why}", number + 1))?;
            match event.event {
                Event::Start => drop(begun.entry(event.test).or_default()),
                Event::Step(step) => begun.entry(event.test).or_default().push(step),
                Event::File { .. } => {}
                Event::End(reported) => {
                    let steps = begun.remove(&event.test).unwrap_or_default();
                    let (class, name) = event.test.rsplit_once('/').unwrap_or(("", &event.test));
                    let reported = Reported { steps, ..reported };
                    self.take(path, std::slice::from_ref(&event.test), (class, name), reported, "")?;
                }
            }
        }
        for (test, steps) in begun {
            let message = format!("{path} tells of its beginning, and of no end");
            let reported = Reported { message, steps, ..Reported::plain(Ended::Crashed) };
            let (class, name) = test.rsplit_once('/').unwrap_or(("", &test));
            self.take(path, std::slice::from_ref(&test), (class, name), reported, "")?;
        }
        Ok(())
    }

    /// Takes one result: of a test by the first of its names that the suite has, or of a case of a file.
    fn take(
        &mut self,
        path: &str,
        candidates: &[String],
        (class, name): (&str, &str),
        reported: Reported,
        output: &str,
    ) -> Result<(), String> {
        if !self.of_files {
            let own = candidates.iter().find(|c| self.known.contains(c.as_str())).or(candidates.first());
            let own = usable(own.map_or(name, String::as_str));
            let mut unlike = own.clone();
            let mut again = 1;
            while self.places.contains_key(&unlike) {
                again += 1;
                unlike = format!("{own} ({again})");
            }
            let at = self.entry(&unlike)?;
            (self.entries[at].reported, self.entries[at].output) = (reported, output.to_owned());
            return Ok(());
        }
        let of_known = |candidate: &String| {
            let mut ends = candidate.match_indices('/').map(|(at, _)| at).collect::<Vec<_>>();
            ends.reverse();
            let file = ends.into_iter().find(|at| self.known.contains(&candidate[..*at]))?;
            Some((candidate[..file].to_owned(), candidate[file + 1..].to_owned()))
        };
        let (file, title) = candidates.iter().find_map(of_known).unwrap_or_else(|| {
            let file = if class.is_empty() { stem(path) } else { class.to_owned() };
            (file, name.to_owned())
        });
        let at = self.entry(&usable(&file))?;
        if title.is_empty() {
            self.entries[at].reported = reported;
            return Ok(());
        }
        let title = case_title(&title);
        let count = self.titles[at].entry(title.clone()).or_default();
        *count += 1;
        let (title, copy) =
            if *count == 1 { (title, false) } else { (case_title(&format!("{title} ({count})")), true) };
        let entry = &mut self.entries[at];
        if !output.is_empty() && entry.output.len() < 256 << 10 {
            entry.output += output;
        }
        entry.cases.push((title, reported, copy));
        Ok(())
    }

    fn entry(&mut self, name: &str) -> Result<usize, String> {
        if let Some(at) = self.places.get(name) {
            return Ok(*at);
        }
        if self.entries.len() == MOST_TESTS {
            return Err(format!("there are more than {MOST_TESTS} tests"));
        }
        let parsed = TestName::parse(name).map_err(|e| e.to_string())?;
        self.places.insert(name.to_owned(), self.entries.len());
        self.titles.push(HashMap::new());
        let reported = Reported::plain(Ended::Passed);
        self.entries.push(Imported { name: parsed, reported, output: String::new(), cases: Vec::new() });
        Ok(self.entries.len() - 1)
    }
}

/// A name as a test may have it: what others write may hold anything.
fn usable(name: &str) -> String {
    let room = LONGEST_TEST_NAME - 12;
    let whole = if name.len() > room { case_title(name) } else { name.trim().replace(char::is_control, "\u{fffd}") };
    if whole.is_empty() { "(no name)".to_owned() } else { whole }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn import(of_files: bool, known: &[&str], files: &[(&str, &str)]) -> (Vec<Imported>, Vec<String>) {
        let mut import = Import::new(of_files, known.iter().map(|n| (*n).to_owned()).collect());
        for (path, content) in files {
            import.read(path, content.as_bytes()).unwrap();
        }
        import.finish().unwrap()
    }

    fn names(entries: &[Imported]) -> Vec<(&str, Ended)> {
        entries.iter().map(|e| (e.name.as_str(), e.reported.ended)).collect()
    }

    const JUNIT: &str = "<testsuite><testcase classname=\"gate\" name=\"opens\" time=\"0.5\"/>\
        <testcase classname=\"gate\" name=\"late\"><failure message=\"closed\"/></testcase></testsuite>";

    #[test]
    fn each_kind_is_told_by_how_it_begins() {
        let tap = "TAP version 14\n1..2\nok 1 - fares/adult\nnot ok 2 - fares/child\n";
        let events =
            "{\"test\":\"bell\",\"event\":\"start\"}\n{\"test\":\"bell\",\"event\":\"end\",\"outcome\":\"skipped\"}\n";
        let (entries, wrongs) = import(false, &["opens"], &[("a.xml", JUNIT), ("b.tap", tap), ("c.jsonl", events)]);
        let wanted = [
            ("opens", Ended::Passed),
            ("gate/late", Ended::Failed),
            ("fares/adult", Ended::Passed),
            ("fares/child", Ended::Failed),
            ("bell", Ended::Skipped),
        ];
        assert_eq!(names(&entries), wanted, "the name that the suite knows is taken");
        assert_eq!((entries[0].spent(), wrongs.len()), (Span::millis(500), 0));
    }

    #[test]
    fn results_of_a_suite_of_files_are_cases() {
        let tap = "ok 1 - pays\nnot ok 2 - late\nok 3 - pays\n1..3\n";
        let (entries, _) = import(
            true,
            &["specs/gate"],
            &[("out/desk.tap", tap), ("x.xml", &JUNIT.replace("\"gate\"", "\"specs.gate\""))],
        );
        assert_eq!(names(&entries), [("desk", Ended::Passed), ("specs/gate", Ended::Passed)]);
        let titles: Vec<_> = entries[0].cases.iter().map(|c| (c.0.as_str(), c.2)).collect();
        assert_eq!(titles, [("pays", false), ("late", false), ("pays (2)", true)]);
        assert_eq!(entries[1].cases.len(), 2);
        assert_eq!(entries[1].spent(), Span::millis(500));
    }

    #[test]
    fn what_a_file_promises_and_does_not_hold_is_wrong() {
        let tap = "1..3\nok 1 - a\nBail out! the sea\n";
        let (_, wrongs) = import(false, &[], &[("a.tap", tap), ("b.tap", "1..2\nok 1 - b\n")]);
        assert!(wrongs[0].contains("a.tap: it bailed out: the sea"), "{wrongs:?}");
        assert!(wrongs[1].contains("b.tap") && wrongs[1].contains("promised 2"), "{wrongs:?}");
        let (_, wrongs) =
            import(false, &[], &[("a.xml", &format!("<testsuite><error message=\"no sea\"/>{}", &JUNIT[11..]))]);
        assert!(wrongs[0].contains("no sea"), "{wrongs:?}");
        let open = "{\"test\":\"bell\",\"event\":\"start\"}\n";
        assert_eq!(names(&import(false, &[], &[("e", open)]).0), [("bell", Ended::Crashed)]);
    }

    #[test]
    fn a_name_that_comes_twice_is_numbered_and_odd_ones_are_made_usable() {
        let tap = "ok 1 - a\nnot ok 2 - a\nok 3\n";
        let (entries, _) = import(false, &[], &[("x/run.tap", tap)]);
        assert_eq!(names(&entries), [("a", Ended::Passed), ("a (2)", Ended::Failed), ("run 3", Ended::Passed)]);
        let xml = format!(
            "<testsuite><testcase name=\"&#10;a&#9;b \"/><testcase name=\"{}\"/><testcase name=\" \"/></testsuite>",
            "x".repeat(5000)
        );
        let (entries, _) = import(false, &[], &[("x.xml", &xml)]);
        assert_eq!(entries[0].name.as_str(), "a\u{fffd}b");
        assert!(entries[1].name.as_str().len() < LONGEST_TEST_NAME);
        assert_eq!(entries[2].name.as_str(), "(no name)");
    }

    #[test]
    fn what_is_no_result_says_so() {
        for (content, why) in [
            ("hello\n", "neither JUnit XML nor TAP nor event lines"),
            ("<html></html>", "the root is <html>"),
            ("<testsuite/>", "no <testcase>"),
            ("{\"test\":\"a\"}", "line 1: a broken event line"),
            ("", "neither"),
        ] {
            let error = Import::new(false, HashSet::new()).read("x", content.as_bytes()).unwrap_err();
            assert!(error.starts_with("x: ") && error.contains(why), "{error}");
        }
        assert!(Import::default().finish().is_err());
        assert!(Import::new(false, HashSet::new()).read("x", b"ok 1 - \xff\n").unwrap_err().contains("not UTF-8"));
    }
}
