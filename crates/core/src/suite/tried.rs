//! What a few tests of a suite, run to try it, show of how it is read: what was understood, what was not, and what would be
//! better said otherwise in its suite file.
//!
//! It judges no suite: whether tests pass is not what it asks.

use serde::Serialize;

use super::{
    SuiteFile,
    file::{NamesAs, Results, Tests},
};
use crate::{
    format::{events::read_line, tap},
    name::shorten,
    time::Span,
    words::Ended,
};

/// What was tried.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Tried {
    /// The names that the list gave, all of them.
    pub listed: usize,
    /// How many of them are picked.
    pub picked: usize,
    /// What listing took, with the fetching and preparing of the files.
    pub listing_us: Span,
    /// Processes of one test or file each.
    pub alone: Vec<TriedProcess>,
    /// One process of the same, where one takes several.
    pub together: Option<TriedProcess>,
}

/// A process that was run to try a suite.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct TriedProcess {
    /// What it was to run.
    pub names: Vec<String>,
    pub took_us: Span,
    pub results: Vec<TriedResult>,
    /// What Kesmo had to remark.
    pub remarks: Vec<String>,
    /// What would fail a run besides its tests.
    pub wrongs: Vec<String>,
    /// Why it could not be run at all.
    pub unfit: Option<String>,
    #[serde(skip)]
    pub printed: Printed,
}

/// What a process printed, each bounded.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Printed {
    pub out: String,
    pub err: String,
    pub events: String,
    /// XML files that it wrote within the suite's folder, and that the suite file does not name.
    pub xml: Vec<String>,
}

/// What was read of one test or file.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct TriedResult {
    pub name: String,
    pub ended: Ended,
    pub message: String,
    pub spent_us: Span,
    pub limit_us: Span,
    /// Titles of its cases, where it is a file.
    pub cases: Vec<(String, Ended)>,
}

/// A line that looks like a result and is not read as one of a test or file that is listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Unread {
    /// What the process ran.
    pub of: String,
    /// Where: `standard output`, `standard error`, `event lines`.
    pub place: &'static str,
    /// Counted from 1.
    pub line: usize,
    pub text: String,
    pub why: String,
}

/// What is to be said of a suite that was tried.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Findings {
    /// Whether every test or file that was run had a result that was read.
    pub understood: bool,
    pub said: Vec<String>,
    pub unread: Vec<Unread>,
    pub advice: Vec<String>,
}

/// The most lines that are named as not read, for each process.
const MOST_UNREAD: usize = 5;

impl Tried {
    /// What is to be said of it.
    ///
    /// What starting a process costs is told from the same tests run alone and together: with `n` of them that is the
    /// difference divided by `n - 1`.
    #[must_use]
    pub fn findings(&self, file: &SuiteFile) -> Findings {
        let tests = &file.tests;
        let unread: Vec<Unread> = self.processes().flat_map(|p| p.unread(tests)).collect();
        let read =
            |p: &TriedProcess| p.unfit.is_none() && p.wrongs.is_empty() && p.results.iter().all(TriedResult::read);
        let understood = !self.alone.is_empty() && self.processes().all(read);
        Findings { understood, said: self.said(tests), advice: self.advice(file, &unread), unread }
    }

    fn processes(&self) -> impl Iterator<Item = &TriedProcess> {
        self.alone.iter().chain(&self.together)
    }

    /// What starting a process costs, as far as can be told.
    #[must_use]
    pub fn start_cost(&self) -> Option<Span> {
        let together = self.together.as_ref().filter(|p| p.well() && self.alone.iter().all(TriedProcess::well))?;
        let alone: u64 = self.alone.iter().map(|p| p.took_us.0).sum();
        let more = u64::try_from(self.alone.len()).ok()?.checked_sub(1).filter(|n| *n > 0)?;
        Some(Span(alone.saturating_sub(together.took_us.0) / more))
    }

    fn slowest(&self) -> Option<&TriedResult> {
        self.alone.iter().flat_map(|p| &p.results).filter(|r| r.read()).max_by_key(|r| r.spent_us)
    }

    fn said(&self, tests: &Tests) -> Vec<String> {
        let (one, many) = if tests.of_files() { ("file", "files") } else { ("test", "tests") };
        let how = match tests.results {
            Results::Tap => "lines of TAP on standard output",
            Results::Junit => "JUnit XML, read when its process has ended",
            Results::Events => "event lines",
            Results::Exit => "the exit status of a process of its own",
        };
        let mut said = vec![format!("The list names {many}; the result of each {one} is read from {how}.")];
        let cases: usize = self.alone.iter().flat_map(|p| &p.results).map(|r| r.cases.len()).sum();
        if tests.of_files() && tests.results != Results::Exit {
            said.push(format!("The {} that were run told of {cases} cases.", self.alone.len()));
        }
        said.push(match tests.names_as {
            NamesAs::OneEach => format!("Every {one} has a process of its own."),
            NamesAs::Fed => {
                "A process stays as long as its slot has tests, and is given their names one by one.".into()
            }
            NamesAs::Arguments | NamesAs::File => format!("A process is given several {many} at once."),
        });
        if let Some(cost) = self.start_cost() {
            said.push(format!("Starting a process costs about {cost} here."));
        }
        let work: u64 = self.alone.iter().filter(|p| p.well()).map(|p| p.took_us.0).sum();
        let well = self.alone.iter().filter(|p| p.well()).count() as u64;
        if self.picked > self.alone.len() && well > 0 {
            let all = Span(work / well * self.picked as u64);
            said.push(format!("If all {} take as long, and each alone, that is {all} of work.", self.picked));
        }
        said
    }

    fn advice(&self, file: &SuiteFile, unread: &[Unread]) -> Vec<String> {
        let tests = &file.tests;
        let mut advice = Vec::new();
        let printed: usize = self.processes().map(|p| points(&p.printed.out).count()).sum();
        let elsewhere: usize = self.processes().map(|p| points(&p.printed.err).count()).sum();
        let xml = self.processes().flat_map(|p| &p.printed.xml).next();
        let unresolved = self.processes().flat_map(|p| &p.results).any(|r| !r.read());
        let strange = unread.iter().any(|u| u.why == NOT_LISTED);
        match (tests.results, xml) {
            (Results::Exit, _) if printed > 0 => advice.push(format!(
                "The processes print {} of TAP, which are not read. If they are results: each = \"file\" and results = \"tap\" \
                 make each of them a case of its own.",
                if printed == 1 { "a line".to_owned() } else { format!("{printed} lines") }
            )),
            (Results::Exit, Some(xml)) => advice.push(format!(
                "{xml} was written. If it is JUnit XML: each = \"file\", results = \"junit\" and junit = [\"{}\"] make each of \
                 its test cases a case of its own.",
                pattern_of(xml)
            )),
            (Results::Junit, Some(xml)) if unresolved => advice.push(format!(
                "{xml} was written and is not among junit = {:?}. Should that say {:?}?",
                tests.junit,
                pattern_of(xml)
            )),
            (Results::Junit, None) if unresolved && printed > 0 => {
                advice.push("The processes print TAP: results = \"tap\" would read that.".to_owned());
            }
            (Results::Tap, xml) if printed == 0 => {
                let other = match xml {
                    _ if elsewhere > 0 => {
                        "It stands on standard error, and is read from standard output only.".to_owned()
                    }
                    Some(xml) => format!(
                        "{xml} was written. If it is JUnit XML: results = \"junit\" and junit = [\"{}\"].",
                        pattern_of(xml)
                    ),
                    None => "If the exit status of each says all there is: results = \"exit\", with {name} in run.".to_owned(),
                };
                advice.push(format!("No line of TAP was printed to standard output. {other}"));
            }
            _ => {}
        }
        if strange && !tests.of_files() {
            advice.push(
                "Results came under names that are not in the list. If the list names files, whose tests are known only as \
                 they run: each = \"file\". Else the names that are printed must be those of the list."
                    .to_owned(),
            );
        }
        let planless =
            |p: &TriedProcess| points(&p.printed.out).next().is_some() && !p.printed.out.lines().any(tap::is_plan);
        if tests.of_files()
            && tests.results == Results::Tap
            && let Some(without) = self.processes().find(|p| planless(p))
        {
            advice.push(format!(
                "{} prints no plan, which is a line 1..N before or after its points. With one a file that loses points cannot pass.",
                without.names.join(", ")
            ));
        }
        self.advise_on_time(file, &mut advice);
        let cases = self.alone.iter().flat_map(|p| &p.results).map(|r| r.cases.len()).max().unwrap_or(0);
        if tests.of_files() && tests.rerun.is_none() && cases > 1 && file.retry.times != Some(0) {
            advice.push(
                "A retry runs a file whole. If its program can run some cases of it: rerun, with {name} and {cases-file}."
                    .to_owned(),
            );
        }
        if tests.of_files()
            && tests.results != Results::Exit
            && self.alone.iter().flat_map(|p| &p.results).any(|r| r.cases.is_empty() && r.read())
        {
            advice.push(
                "A file told of no case. If it has none of its own: results = \"exit\", or each = \"test\".".to_owned(),
            );
        }
        if self.listed == 1 {
            advice.push("The list has one name: there is nothing to share out over slots.".to_owned());
        }
        advice
    }

    fn advise_on_time(&self, file: &SuiteFile, advice: &mut Vec<String>) {
        let (tests, limit) = (&file.tests, file.limits.test);
        let what = if tests.of_files() { "file" } else { "test" };
        if let Some(late) = self.processes().flat_map(|p| &p.results).find(|r| r.ended == Ended::TimedOut) {
            let longer = round_up(Span(late.limit_us.0.saturating_mul(5)));
            let place = if late.limit_us == limit { "[limits] test" } else { "its [[rule]] with limit" };
            let name = &late.name;
            advice.push(format!(
                "{name} ran into its limit of {}. If it needs longer: {place} = \"{longer}\".",
                late.limit_us
            ));
        } else if let Some(slowest) = self.slowest() {
            let (name, took) = (&slowest.name, slowest.spent_us);
            if took.0.saturating_mul(3) > limit.0 {
                let more = round_up(Span(took.0.saturating_mul(10)));
                advice.push(format!(
                    "{name} took {took}, near the limit of {limit}: under load it may run into it. [limits] test = \"{more}\" \
                     leaves room."
                ));
            } else if took.0.saturating_mul(100) < limit.0 && limit > Span::seconds(10) {
                let less = round_up(Span(took.0.saturating_mul(20)).max(Span::seconds(10)));
                if Span::parse(&less).is_ok_and(|less| less < limit) {
                    advice.push(format!(
                        "The slowest of those that were run took {took}, and a {what} that hangs is noticed after {limit}. If \
                         the others are like them: [limits] test = \"{less}\"."
                    ));
                }
            }
        }
        let well: Vec<u64> = self.alone.iter().filter(|p| p.well()).map(|p| p.took_us.0).collect();
        let mean = well.iter().sum::<u64>() / well.len().max(1) as u64;
        match self.start_cost() {
            Some(cost) if cost > Span::millis(30) && cost.0 * 10 > mean * 3 && tests.names_as != NamesAs::Fed => {
                advice.push(format!(
                    "Of the {} that a process of one {what} takes, its start is about {cost}. If its program can read names \
                     from standard input while it runs, feed = \"lines\" pays that once a slot.",
                    Span(mean)
                ));
            }
            None if tests.names_as == NamesAs::OneEach && self.picked >= 50 && mean > 0 && mean < 300_000 => {
                advice.push(format!(
                    "{} processes of about {} each: if the program takes several names, {{names}} in place of {{name}} starts \
                     fewer of them.",
                    self.picked,
                    Span(mean)
                ));
            }
            _ => {}
        }
        if self.listing_us > Span::seconds(10) {
            advice.push(format!(
                "Listing took {}, with what came before it. That is paid once for every change of the files.",
                self.listing_us
            ));
        }
    }
}

impl TriedResult {
    /// Whether there is a result that the suite itself told.
    #[must_use]
    pub fn read(&self) -> bool {
        matches!(self.ended, Ended::Passed | Ended::Failed | Ended::Skipped)
    }
}

const NOT_LISTED: &str = "it is no name of the list";

impl TriedProcess {
    fn well(&self) -> bool {
        self.unfit.is_none() && self.results.iter().all(TriedResult::read)
    }

    /// The lines that look like results and are not read as such.
    fn unread(&self, tests: &Tests) -> Vec<Unread> {
        let of = self.names.join(", ");
        let at = |place, line: usize, text: &str, why: String| Unread {
            of: of.clone(),
            place,
            line: line + 1,
            text: shorten(text.trim_end(), 160),
            why,
        };
        let mut found: Vec<Unread> = match tests.results {
            Results::Events => {
                let lines = self.printed.events.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
                lines
                    .filter_map(|(i, line)| {
                        let why = match read_line(line) {
                            Err(broken) => broken.why,
                            Ok(event) if !tests.of_files() && !self.names.contains(&event.test) => NOT_LISTED.into(),
                            Ok(_) => return None,
                        };
                        Some(at("event lines", i, line, why))
                    })
                    .collect()
            }
            Results::Tap => {
                let strange = |(i, line): (usize, &str)| {
                    let why = match tap::title_of(line) {
                        Some(title) if tests.of_files() || title.is_empty() || self.names.contains(&title) => {
                            return None;
                        }
                        // A subtest, which is a step of its test.
                        Some(_) if line.starts_with("    ") => return None,
                        Some(_) => NOT_LISTED.to_owned(),
                        None => near_tap(line)?.to_owned(),
                    };
                    Some(at("standard output", i, line, why))
                };
                self.printed.out.lines().enumerate().filter_map(strange).collect()
            }
            Results::Junit | Results::Exit => Vec::new(),
        };
        if tests.results == Results::Tap && points(&self.printed.out).next().is_none() {
            let lost = points(&self.printed.err);
            found
                .extend(lost.map(|(i, line)| at("standard error", i, line, "TAP is read from standard output".into())));
        }
        found.truncate(MOST_UNREAD);
        found
    }
}

fn points(text: &str) -> impl Iterator<Item = (usize, &str)> {
    text.lines().enumerate().filter(|(_, line)| tap::title_of(line).is_some())
}

/// Why a line that looks like a result is none of TAP's.
fn near_tap(line: &str) -> Option<&'static str> {
    let line = line.trim();
    let first = line.split(|c: char| !c.is_ascii_alphanumeric()).find(|word| !word.is_empty())?;
    let lower = first.to_ascii_lowercase();
    let is_word = |words: &[&str]| words.contains(&lower.as_str());
    // A comment may begin with any word, and prose too; a result says little more than its name.
    if line.starts_with('#') || line.len() > 200 {
        return None;
    }
    if lower == "ok" || line.to_ascii_lowercase().starts_with("not ok") || tap::is_near_failing(line) {
        return Some("TAP has \"ok\" or \"not ok\" in small letters at the start of the line, then a space");
    }
    let upper = first.len() > 1 && first.chars().all(|c| c.is_ascii_uppercase());
    let marked = line.starts_with(['[', '(', '*']) || line[first.len()..].trim_start().starts_with([':', '-']);
    if is_word(&["pass", "passed", "fail", "failed", "skip", "skipped", "success", "failure"]) && (upper || marked) {
        return Some("TAP says \"ok\" or \"not ok\" of a test, and \"ok … # SKIP why\" of one that is skipped");
    }
    None
}

/// A pattern for a file and those like it.
fn pattern_of(path: &str) -> String {
    match path.rsplit_once('/') {
        Some((folder, _)) => format!("{folder}/*.xml"),
        None => path.to_owned(),
    }
}

/// The next time that a person would write.
fn round_up(span: Span) -> String {
    const STEPS: [u64; 12] = [5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200];
    let seconds = span.0.div_ceil(1_000_000);
    let next = STEPS.iter().copied().find(|step| *step >= seconds).unwrap_or(seconds.div_ceil(3600) * 3600);
    match next {
        s if s % 3600 == 0 => format!("{}h", s / 3600),
        s if s % 60 == 0 => format!("{}m", s / 60),
        s => format!("{s}s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn suite(tests: &str) -> SuiteFile {
        SuiteFile::parse("kesmo.toml", &format!("suite = \"fares\"\n[tests]\nlist = [\"ls\"]\n{tests}")).unwrap()
    }

    fn process(name: &str, ended: Ended, out: &str) -> TriedProcess {
        let message = if ended == Ended::Crashed { "never reported this test" } else { "" };
        let result = TriedResult {
            name: name.into(),
            ended,
            message: message.into(),
            spent_us: Span::millis(200),
            limit_us: Span::seconds(60),
            cases: Vec::new(),
        };
        TriedProcess {
            names: vec![name.into()],
            took_us: Span::millis(200),
            results: vec![result],
            printed: Printed { out: out.into(), ..Printed::default() },
            ..TriedProcess::default()
        }
    }

    fn tried(alone: Vec<TriedProcess>) -> Tried {
        Tried { listed: 82, picked: 82, alone, ..Tried::default() }
    }

    const TAP: &str = "run = [\"sh\", \"{name}\"]\nresults = \"tap\"\n";
    const EXIT: &str = "run = [\"sh\", \"{name}\"]\nresults = \"exit\"\n";

    #[test]
    fn files_that_are_taken_for_tests_are_recognised() {
        let out = "1..2\nok 1 - pays by card\nnot ok 2 - pays in cash\n";
        let findings = tried(vec![process("fares.sh", Ended::Crashed, out)]).findings(&suite(TAP));
        assert!(!findings.understood);
        let lines: Vec<_> = findings.unread.iter().map(|u| (u.line, u.text.as_str(), u.why.as_str())).collect();
        assert_eq!(lines, [(2, "ok 1 - pays by card", NOT_LISTED), (3, "not ok 2 - pays in cash", NOT_LISTED)]);
        assert!(findings.advice.iter().any(|a| a.contains("each = \"file\"")), "{:?}", findings.advice);
    }

    #[test]
    fn results_that_are_not_read_are_pointed_at() {
        let exit = tried(vec![process("a.sh", Ended::Passed, "ok 1 - a\nok 2 - b\n")]).findings(&suite(EXIT));
        assert!(exit.understood);
        assert!(exit.advice[0].contains("2 lines of TAP, which are not read"), "{:?}", exit.advice);

        let near =
            "OK 1 adult fare\nPASS: child fare\nnot okay\n...not ok 2\nPassengers board at nine.\n[failed] late\n";
        let findings = tried(vec![process("a.sh", Ended::Crashed, near)]).findings(&suite(TAP));
        let lines: Vec<usize> = findings.unread.iter().map(|u| u.line).collect();
        assert_eq!(lines, [1, 2, 3, 4, 6], "{:?}", findings.unread);

        let mut wrong_pipe = process("a.sh", Ended::Crashed, "");
        wrong_pipe.printed.err = "+ true\nok 1 - a.sh\n".into();
        let findings = tried(vec![wrong_pipe]).findings(&suite(TAP));
        assert_eq!((findings.unread[0].place, findings.unread[0].line), ("standard error", 2));
        assert!(findings.advice[0].contains("standard error"), "{:?}", findings.advice);
    }

    #[test]
    fn a_file_without_a_plan_is_named() {
        let advice = |out: &str, file: &str| {
            let findings = tried(vec![process("a.sh", Ended::Passed, out)]).findings(&suite(file));
            findings.advice.iter().filter(|a| a.contains("a.sh prints no plan")).count()
        };
        let files = "each = \"file\"\nrun = [\"sh\", \"{name}\"]\nresults = \"tap\"\n";
        assert_eq!(advice("ok 1 - a\n    1..1\n", files), 1);
        assert_eq!(advice("ok 1 - a\n1..1\n", files), 0);
        assert_eq!(advice("", files), 0, "there is other advice for what prints nothing");
        assert_eq!(advice("ok 1 - a.sh\n", TAP), 0, "whose tests are named needs none");
    }

    #[test]
    fn a_junit_file_that_is_elsewhere_is_found() {
        let mut process = process("a", Ended::Crashed, "");
        process.printed.xml = vec!["build/results/a.xml".into()];
        let junit = "run = [\"./t\", \"{names}\"]\nresults = \"junit\"\njunit = [\"out/*.xml\"]\n";
        let findings = tried(vec![process]).findings(&suite(junit));
        assert!(findings.advice[0].contains("\"build/results/*.xml\""), "{:?}", findings.advice);
    }

    #[test]
    fn what_starting_costs_is_told_from_alone_and_together() {
        let file = suite("run = [\"./t\", \"{names}\"]\nresults = \"tap\"\n");
        let alone: Vec<_> = ["a", "b", "c"].map(|n| process(n, Ended::Passed, &format!("ok 1 - {n}\n"))).into();
        let mut together = process("a", Ended::Passed, "ok 1 - a\n");
        together.took_us = Span::millis(240);
        let tried = Tried { together: Some(together), ..tried(alone) };
        assert_eq!(tried.start_cost(), Some(Span::millis(180)));
        let findings = tried.findings(&file);
        assert!(findings.understood, "{findings:?}");
        assert!(findings.advice.iter().any(|a| a.contains("feed = \"lines\"")), "{:?}", findings.advice);
        let fed = suite("run = [\"./t\"]\nfeed = \"lines\"\nresults = \"tap\"\n");
        assert!(!tried.findings(&fed).advice.iter().any(|a| a.contains("feed")));
    }

    #[test]
    fn limits_that_do_not_fit_are_told() {
        let with = |limit: &str| suite(&format!("{TAP}[limits]\ntest = \"{limit}\"\n"));
        let of = |limit: &str, ended| {
            let findings = tried(vec![process("a", ended, "ok 1 - a\n")]).findings(&with(limit));
            findings.advice.into_iter().find(|a| a.contains("[limits]"))
        };
        assert!(of("500ms", Ended::Passed).is_some_and(|a| a.contains("test = \"5s\"")));
        assert_eq!(of("10s", Ended::Passed), None);
        assert!(of("1m", Ended::Passed).is_some_and(|a| a.contains("test = \"10s\"")));
        assert!(of("1m", Ended::TimedOut).is_some_and(|a| a.contains("test = \"5m\"")));
        assert_eq!(round_up(Span::seconds(10_000)), "3h");
    }

    #[test]
    fn broken_event_lines_are_named_with_their_line() {
        let mut process = process("a", Ended::Crashed, "");
        process.printed.events =
            "{\"test\":\"a\",\"event\":\"start\"}\n\n{\"test\":\"b\",\"event\":\"start\"}\noops\n".into();
        let file = suite("run = [\"./t\", \"{names}\"]\nresults = \"events\"\n");
        let unread = tried(vec![process]).findings(&file).unread;
        assert_eq!(unread.iter().map(|u| u.line).collect::<Vec<_>>(), [3, 4]);
        assert_eq!(unread[0].why, NOT_LISTED);
        assert!(unread[1].why.starts_with("a broken event line"), "{}", unread[1].why);
    }

    #[test]
    fn nothing_that_was_run_is_not_understood() {
        assert!(!Tried::default().findings(&suite(TAP)).understood);
    }
}
