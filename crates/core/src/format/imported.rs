//! Results that ran elsewhere, read from the files that they left: JUnit XML, TAP or event lines, told apart by how they begin.
//!
//! What a file promises and does not hold, or says beside its results, is no result, and is told as wrong: a run of it fails.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    slice::from_ref,
};

use super::{
    Reported, Step,
    events::{Event, read_line},
    junit,
    points::Points,
    tap::Tap,
};
use crate::{
    name::{LONGEST_TEST_NAME, TestName, Titles, case_title, part_by_file, shorten},
    run::cases::MOST_CASES,
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
    /// What it took: what was said of it, or what its cases took together; at most [`Span::LONGEST`].
    #[must_use]
    pub fn spent(&self) -> Span {
        let all = self.cases.iter().filter_map(|case| case.1.spent);
        let cases = || Span(all.fold(0, |sum, spent| spent.0.saturating_add(sum)));
        self.reported.spent.unwrap_or_else(cases).min(Span::LONGEST)
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
    /// What is wrong, with how much more of each file is not named.
    wrongs: Vec<String>,
    /// The titles of each file, or the names of all tests.
    titles: Vec<Titles>,
    names: Titles,
    /// How many results there are.
    results: u32,
}

/// The most that is said to be wrong of one file, and of all together.
const MOST_WRONGS: usize = 20;
const MOST_WRONGS_OF_ALL: usize = 500;
/// What is kept of what the cases of a file printed, in bytes, before the last of them.
const LONGEST_OUTPUT: usize = 256 << 10;
/// The most steps of a test that are kept.
const MOST_STEPS: usize = 1000;

/// What a file of results is called where a test or file has to be named after it: its path without the ending.
#[must_use]
pub fn stem(path: &str) -> String {
    let file = path.rsplit('/').next().unwrap_or(path);
    file.rsplit_once('.').map_or(file, |(stem, _)| stem).to_owned()
}

/// What is wrong of one file: the first of it, and how much there is.
#[derive(Default)]
struct Wrongs {
    kept: Vec<String>,
    count: usize,
}

impl Wrongs {
    fn push(&mut self, why: String) {
        self.count += 1;
        if self.kept.len() < MOST_WRONGS {
            self.kept.push(why);
        }
    }
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
        let mut wrongs = Wrongs::default();
        let text = std::str::from_utf8(content).map_err(|e| format!("it is not UTF-8 ({e})"));
        let read = text.and_then(|text| {
            let text = text.trim_start_matches('\u{feff}');
            match text.trim_start().chars().next() {
                Some('<') => self.read_junit(path, text, &mut wrongs),
                Some('{') => self.read_events(path, text),
                _ => self.read_tap(path, text, &mut wrongs),
            }
        });
        self.note_wrongs(path, wrongs);
        read.map_err(|why| format!("{path}: {why}"))
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

    /// Keeps what is wrong of a file: some of it in words, and how much more there is.
    fn note_wrongs(&mut self, path: &str, wrongs: Wrongs) {
        let room = MOST_WRONGS.min(MOST_WRONGS_OF_ALL.saturating_sub(self.wrongs.len()));
        let more = wrongs.count.saturating_sub(room);
        self.wrongs.extend(wrongs.kept.into_iter().take(room).map(|why| format!("{path}: {why}")));
        if more > 0 && self.wrongs.len() < MOST_WRONGS_OF_ALL + MOST_WRONGS {
            self.wrongs.push(format!("{path}: {more} more like that"));
        }
    }

    fn read_junit(&mut self, path: &str, text: &str, wrongs: &mut Wrongs) -> Result<(), String> {
        // Counted before they are read, as each takes far more memory than its text.
        if text.matches("<testcase").count() > MOST_CASES as usize {
            return Err(format!("it holds more than {MOST_CASES} test cases"));
        }
        let file = junit::read(text.as_bytes())?;
        if file.cases.is_empty() && file.loose.is_empty() && file.unshown.is_empty() {
            return Err("it holds no <testcase>".into());
        }
        for case in file.cases {
            let candidates = case.candidates();
            self.take(path, &candidates, (&case.class, &case.name), case.reported, &case.output)?;
        }
        file.loose.into_iter().for_each(|why| wrongs.push(format!("it holds {why}")));
        file.unshown.into_iter().chain(file.missing).for_each(|why| wrongs.push(why));
        Ok(())
    }

    fn read_tap(&mut self, path: &str, text: &str, wrongs: &mut Wrongs) -> Result<(), String> {
        let mut points = Points::new(self.of_files);
        let mut any = false;
        let mut take = |tap: Tap| {
            any = true;
            match tap {
                Tap::Point { number, description, reported } => {
                    let name = if description.is_empty() { format!("{} {number}", stem(path)) } else { description };
                    self.take(path, from_ref(&name), ("", &name), reported, "")?;
                }
                Tap::Nothing(why) => {
                    let reported = Reported { message: why, ..Reported::plain(Ended::Skipped) };
                    self.take(path, &[stem(path)], (&stem(path), ""), reported, "")?;
                }
                Tap::BailOut(why) => wrongs.push(format!("it bailed out: {}", shorten(&why, 300))),
                Tap::Broken(why) | Tap::Unkept(why) => wrongs.push(why),
            }
            Ok::<_, String>(())
        };
        for line in text.lines() {
            points.line(line).into_iter().try_for_each(&mut take)?;
        }
        points.finish().into_iter().try_for_each(&mut take)?;
        if any { Ok(()) } else { Err("it holds neither JUnit XML nor TAP nor event lines".into()) }
    }

    fn read_events(&mut self, path: &str, text: &str) -> Result<(), String> {
        let mut begun: BTreeMap<String, Vec<Step>> = BTreeMap::new();
        for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
            let event = read_line(line).map_err(|broken| format!("line {}: {}", number + 1, broken.why))?;
            match event.event {
                Event::Start => drop(begun.entry(event.test).or_default()),
                Event::Step(step) => {
                    let steps = begun.entry(event.test).or_default();
                    if steps.len() < MOST_STEPS {
                        steps.push(step);
                    }
                }
                // Files are elsewhere, and what was measured has no time here.
                Event::File { .. } | Event::Measure(_) | Event::Covers(_) => {}
                Event::End(reported) => {
                    let steps = begun.remove(&event.test).unwrap_or_default();
                    let (class, name) = event.test.rsplit_once('/').unwrap_or(("", &event.test));
                    let reported = Reported { steps, ..reported };
                    self.take(path, from_ref(&event.test), (class, name), reported, "")?;
                }
            }
        }
        for (test, steps) in begun {
            let message = format!("{path} tells of its beginning, and of no end");
            let reported = Reported { message, steps, ..Reported::plain(Ended::Crashed) };
            let (class, name) = test.rsplit_once('/').unwrap_or(("", &test));
            self.take(path, from_ref(&test), (class, name), reported, "")?;
        }
        Ok(())
    }

    /// Takes one result: of a test by the first of its names that the suite has, or of a case of a file.
    fn take<'c>(
        &mut self,
        path: &str,
        candidates: &'c [String],
        (class, name): (&str, &str),
        mut reported: Reported,
        output: &str,
    ) -> Result<(), String> {
        if self.results == MOST_CASES {
            return Err(format!("there are more than {MOST_CASES} results: bring them in several calls"));
        }
        self.results += 1;
        reported.steps.truncate(MOST_STEPS);
        reported.spent = reported.spent.map(|spent| spent.min(Span::LONGEST));
        if !self.of_files {
            let own = candidates.iter().find(|c| self.known.contains(c.as_str())).or(candidates.first());
            let own = usable(own.map_or(name, String::as_str));
            let unlike = self.names.unlike(&own, |numbered| numbered);
            let at = self.entry(&unlike)?;
            (self.entries[at].reported, self.entries[at].output) = (reported, output.to_owned());
            return Ok(());
        }
        let of_known = |candidate: &'c String| match self.known.contains(candidate) {
            true => Some((candidate.as_str(), "")),
            false => part_by_file(candidate, |file| self.known.contains(file)),
        };
        let own = if class.is_empty() { stem(path) } else { class.to_owned() };
        let (file, title) = candidates.iter().find_map(of_known).unwrap_or((&own, name));
        let at = self.entry(&usable(file))?;
        let entry = &mut self.entries[at];
        if title.is_empty() {
            // What failed and is said to be well then has not shown that it is.
            if !entry.reported.ended.failing() {
                entry.reported = reported;
            }
            return Ok(());
        }
        let title = case_title(title);
        let unlike = self.titles[at].unlike(&title, |numbered| case_title(&numbered));
        if !output.is_empty() && entry.output.len() < LONGEST_OUTPUT {
            entry.output += output;
        }
        let copy = unlike != title;
        entry.cases.push((unlike, reported, copy));
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
        self.titles.push(Titles::default());
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
    fn a_million_alike_are_taken_in_time_and_what_is_wrong_is_counted() {
        let many = "not ok 1 - a\n".repeat(60_000) + &"Bail out! again\n".repeat(60_000);
        let (entries, wrongs) = import(false, &[], &[("x.tap", &many), ("y.tap", &many)]);
        assert_eq!((entries.len(), entries[119_999].name.as_str()), (120_000, "a (120000)"));
        assert_eq!(wrongs.len(), 2 * (MOST_WRONGS + 1));
        assert_eq!(wrongs[MOST_WRONGS], "x.tap: 59980 more like that");
        let bad: Vec<(String, &str)> = (0..2000).map(|n| (format!("{n}.tap"), "ok 1 - a\nBail out!\n")).collect();
        let bad: Vec<(&str, &str)> = bad.iter().map(|(path, content)| (path.as_str(), *content)).collect();
        assert!(import(true, &[], &bad).1.len() <= MOST_WRONGS_OF_ALL + MOST_WRONGS);
        let steps = "{\"test\":\"a\",\"event\":\"step\",\"name\":\"s\"}\n".repeat(5000);
        let (entries, _) = import(false, &[], &[("e", &steps)]);
        assert_eq!(entries[0].reported.steps.len(), MOST_STEPS);
        let cases = format!("<testsuite>{}</testsuite>", "<testcase/>".repeat(MOST_CASES as usize + 1));
        let error = Import::new(false, HashSet::new()).read("x", cases.as_bytes()).unwrap_err();
        assert!(error.contains("more than 1000000 test cases"), "{error}");
    }

    #[test]
    fn times_without_measure_are_bounded() {
        let case = |time: &str| format!("<testcase classname=\"gate\" name=\"a\" time=\"{time}\"/>");
        let all: String = ["1e300", "99999999999999999999", "inf", "-5", "NaN", "2"].map(case).concat();
        let xml = format!("<testsuite>{all}</testsuite>");
        for of_files in [true, false] {
            let (entries, _) = import(of_files, &[], &[("x.xml", &xml)]);
            assert!(entries.iter().all(|entry| entry.spent() <= Span::LONGEST), "{entries:?}");
        }
    }

    #[test]
    fn a_title_that_looks_numbered_is_told_from_one_that_is_and_a_file_that_failed_stays_so() {
        let (entries, _) = import(true, &[], &[("x.tap", "ok 1 - a\nok 2 - a (2)\nnot ok 3 - a\n")]);
        let titles: Vec<&str> = entries[0].cases.iter().map(|case| case.0.as_str()).collect();
        assert_eq!(titles, ["a", "a (2)", "a (3)"]);
        let end = |outcome: &str| format!("{{\"file\":\"desk\",\"event\":\"end\",\"outcome\":\"{outcome}\"}}\n");
        let (entries, _) = import(true, &["desk"], &[("e", &(end("failed") + &end("passed")))]);
        assert_eq!(names(&entries), [("desk", Ended::Failed)]);
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
