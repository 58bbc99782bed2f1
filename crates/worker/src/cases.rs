//! The cases that the files of one process tell of: gives them titles unlike each other, and says how each file ended itself.
//! Decides only; it reads no clock and starts nothing.

use std::collections::{BTreeSet, HashMap, HashSet};

use kesmo_core::{
    format::{Reported, Step},
    name::{Titles, case_title, part_by_file, shorten},
    run::{ToRun, cases::MOST_CASES},
    time::Span,
    words::Ended,
};
use kesmo_wire::link::{CaseReport, GrantedEntry};

use crate::progress::{Finished, ProcessEnd};

/// Cases that are told in one message, and the bytes of their texts.
const MOST_AT_ONCE: usize = 500;
const MOST_BYTES: usize = 256 << 10;
/// Cases of a file that have begun and not ended, whose times and steps are known.
const MOST_BEGUN: usize = 1000;
/// Steps of a case that are kept.
const MOST_STEPS: usize = 200;

/// The files of one process, in order.
pub struct Files {
    names: Vec<String>,
    by_name: HashMap<String, usize>,
    of: Vec<SoFar>,
    /// The file that told of a case last.
    last: Option<usize>,
    waiting: Vec<(usize, CaseReport)>,
}

/// What a file has told so far.
#[derive(Default)]
struct SoFar {
    titles: Titles,
    told: u32,
    sent: u32,
    failing: u32,
    first_failing: String,
    began_us: Option<i64>,
    last_us: i64,
    /// What the file said of itself.
    own: Option<(Ended, String)>,
    /// Why it has failed itself, though its process ended well.
    wrong: Option<String>,
    /// Cases that it was to run and has not told of, and how many those were.
    asked: BTreeSet<String>,
    of_asked: usize,
    beyond: u32,
    /// Cases that another part of the file runs, how many of them it told of all the same, and how many of those failed.
    aside: HashSet<String>,
    /// No others than these count here, if there are any.
    only: HashSet<String>,
    left_aside: u32,
    failing_aside: u32,
    /// Cases that nobody knew of are among those that it was to run.
    more_may_come: bool,
    begun: HashMap<String, Begun>,
}

/// A case that has not ended.
struct Begun {
    at: i64,
    steps: Vec<Step>,
    /// It said so, and not only that it did a step.
    said: bool,
}

/// How a process ended.
pub struct EndOfProcess<'e> {
    pub end: &'e ProcessEnd,
    /// A signal ended it, or it bailed out: no failing case explains that.
    pub abrupt: bool,
    /// Whether a bad end after good cases counts.
    pub counts: bool,
    pub now: i64,
    pub last_words: &'e str,
}

impl Files {
    /// The files of a process that was started at `began`; `to_run` is about its one file.
    pub fn new(entries: &[GrantedEntry], to_run: &ToRun, began: i64) -> Self {
        let names: Vec<String> = entries.iter().map(|e| e.name.clone()).collect();
        let mut of: Vec<SoFar> = names.iter().map(|_| SoFar::default()).collect();
        if let Some(first) = of.first_mut() {
            first.asked = to_run.cases.iter().cloned().collect();
            first.of_asked = first.asked.len();
            first.more_may_come = to_run.rest;
            first.aside = to_run.aside.iter().cloned().collect();
            first.only = to_run.only.iter().cloned().collect();
            first.began_us = Some(began);
            first.last_us = began;
        }
        Self {
            by_name: names.iter().cloned().enumerate().map(|(i, n)| (n, i)).collect(),
            names,
            of,
            last: None,
            waiting: Vec::new(),
        }
    }

    /// The file of the process to which a name belongs, and the title behind it, empty for the file itself. Where the process
    /// has one file, all is that file's.
    pub fn place(&self, name: &str) -> Option<(usize, String)> {
        if let Some(position) = self.by_name.get(name) {
            return Some((*position, String::new()));
        }
        let parted = part_by_file(name, |file| self.by_name.contains_key(file));
        let placed = parted.and_then(|(file, title)| Some((*self.by_name.get(file)?, title.to_owned())));
        placed.or_else(|| (self.names.len() == 1).then(|| (0, name.to_owned())))
    }

    /// Whether the process has one file alone.
    pub fn one(&self) -> bool {
        self.names.len() == 1
    }

    /// Whether the process was to run all cases of its files.
    pub fn whole(&self) -> bool {
        self.of.iter().all(|file| file.of_asked == 0 && !file.more_may_come)
    }

    /// A case says that it starts.
    pub fn begin(&mut self, position: usize, title: &str, now: i64) {
        self.begun(position, title, now).into_iter().for_each(|begun| begun.said = true);
    }

    /// What is known of a case that has begun, from now on if it is new; nothing where too many are open.
    fn begun(&mut self, position: usize, title: &str, now: i64) -> Option<&mut Begun> {
        let (begun, title) = (&mut self.of[position].begun, case_title(title));
        if begun.len() >= MOST_BEGUN && !begun.contains_key(&title) {
            return None;
        }
        Some(begun.entry(title).or_insert_with(|| Begun { at: now, steps: Vec::new(), said: false }))
    }

    /// A case says that it did a step.
    pub fn step(&mut self, position: usize, title: &str, step: Step, now: i64) {
        if let Some(begun) = self.begun(position, title, now).filter(|begun| begun.steps.len() < MOST_STEPS) {
            begun.steps.push(step);
        }
    }

    /// The process has ended: a case that said that it began, and of whose end nothing was told, did not pass.
    pub fn end_begun(&mut self, how: &EndOfProcess<'_>) {
        let (ended, message) = match how.end {
            ProcessEnd::Well => (Ended::Crashed, "it began, and nothing told of its end".to_owned()),
            ProcessEnd::TimedOut(why) => (Ended::TimedOut, why.clone()),
            ProcessEnd::Badly(end) => (Ended::Crashed, format!("its process ended under it, with {end}")),
        };
        for position in 0..self.of.len() {
            let said = self.of[position].begun.iter().filter(|(_, begun)| begun.said);
            let mut open: Vec<(i64, String)> = said.map(|(title, begun)| (begun.at, title.clone())).collect();
            open.sort_unstable();
            for (_, title) in open {
                let reported = Reported { message: message.clone(), ..Reported::plain(ended) };
                self.take(position, &title, reported, how.now, "");
            }
        }
    }

    /// Takes a case; `printed` is what came out since the last one. Tells whether it is the first of its file.
    pub fn take(&mut self, position: usize, title: &str, reported: Reported, now: i64, printed: &str) -> bool {
        let title = case_title(title);
        let file = &mut self.of[position];
        if file.told == MOST_CASES {
            file.wrong
                .get_or_insert_with(|| format!("it told of more than {MOST_CASES} cases; those beyond are not kept"));
            return false;
        }
        let (began, steps) = file
            .begun
            .remove(&title)
            .map(|begun| (begun.at, begun.steps))
            .unwrap_or((file.last_us.max(file.began_us.unwrap_or(now)), Vec::new()));
        let first = file.began_us.is_none() || file.told == 0;
        file.began_us.get_or_insert(began);
        let unlike = file.titles.unlike(&title, |numbered| case_title(&numbered));
        let failing = reported.ended.failing();
        // What is new runs in the part that runs all the rest. It does not come to what another makes of the name of a case that is its own.
        let new = !file.only.is_empty() && !file.only.contains(&title);
        let of_its_own = failing && file.of_asked > 0;
        if file.aside.contains(&title) || new && !of_its_own {
            file.left_aside += 1;
            file.failing_aside += u32::from(failing);
            file.last_us = now;
            return false;
        }
        if file.of_asked > 0 && !file.asked.remove(&unlike) && !file.more_may_come {
            file.beyond += 1;
        }
        let mut detail = reported.detail;
        if failing {
            for step in &steps {
                let took = step.ms.map_or_else(String::new, |ms| format!(" ({ms} ms)"));
                detail += &format!("{} {}{took}\n", if step.ok { "ok" } else { "not ok" }, step.name);
            }
            if detail.trim().is_empty() {
                printed.trim_end().clone_into(&mut detail);
            }
            if file.failing == 0 {
                file.first_failing = match shorten(reported.message.trim(), 300) {
                    why if why.is_empty() => unlike.clone(),
                    why => format!("{unlike}: {why}"),
                };
            }
            file.failing += 1;
        }
        file.told += 1;
        file.last_us = now;
        let spent = reported.spent.unwrap_or(Span(u64::try_from(now - began).unwrap_or(0)));
        let report = CaseReport {
            copy: unlike != title,
            title: unlike,
            ended: reported.ended,
            spent_us: spent.0,
            message: shorten(&reported.message, 2000),
            detail: shorten(&detail, CaseReport::LONGEST_DETAIL),
        };
        self.waiting.push((position, report));
        self.last = Some(position);
        first
    }

    /// A file says how it did itself.
    pub fn own(&mut self, position: usize, reported: Reported) {
        let file = &mut self.of[position];
        // What failed and says besides that it did not has failed.
        if !file.own.as_ref().is_some_and(|(ended, _)| ended.failing()) {
            file.own = Some((reported.ended, reported.message));
        }
    }

    /// Something is wrong with the one file of the process, whatever its cases say. With several it cannot be laid to any.
    pub fn wrong(&mut self, why: String) -> Result<(), String> {
        match self.of.as_mut_slice() {
            [file] => {
                file.wrong.get_or_insert(why);
                Ok(())
            }
            _ => Err(why),
        }
    }

    /// Whether there are cases to be told.
    pub fn waits(&self) -> bool {
        !self.waiting.is_empty()
    }

    /// The cases that are to be told now: the position of a file, the place of the first among its cases, and the cases.
    pub fn take_waiting(&mut self) -> Vec<(usize, u32, Vec<CaseReport>)> {
        let mut all: Vec<(usize, u32, Vec<CaseReport>)> = Vec::new();
        let mut bytes = 0;
        for (position, case) in std::mem::take(&mut self.waiting) {
            let place = self.of[position].sent;
            self.of[position].sent += 1;
            let size = case.title.len() + case.message.len() + case.detail.len();
            match all.last_mut() {
                Some((of, _, cases)) if *of == position && cases.len() < MOST_AT_ONCE && bytes + size <= MOST_BYTES => {
                    bytes += size;
                    cases.push(case);
                }
                _ => {
                    bytes = size;
                    all.push((position, place, vec![case]));
                }
            }
        }
        all
    }

    /// What the one file ran beyond what it was asked to, in words.
    pub fn beyond(&self) -> Option<String> {
        let file = self.of.first()?;
        let name = &self.names[0];
        // A file that runs whole tells of all its cases.
        if file.left_aside > 0 && (file.of_asked > 0 || file.failing_aside > 0) {
            let left = file.left_aside;
            let failed = match file.failing_aside {
                0 => String::new(),
                n => format!(", {n} of which failed here"),
            };
            return Some(format!("{name} told of {left} cases that another part of it runs{failed}; they count there"));
        }
        let (beyond, asked) = (file.beyond, file.of_asked);
        if beyond == 0 {
            return None;
        }
        Some(format!("{name} was to run {asked} of its cases and told of {beyond} others too"))
    }

    /// The process has ended: how each file did itself, whatever its cases did. A file that is not among them goes back,
    /// uncharged.
    pub fn ended(&self, how: &EndOfProcess<'_>) -> Vec<Finished> {
        let ran = self.last.unwrap_or(0);
        let with_words = |said: String| match shorten(how.last_words, 400) {
            words if words.is_empty() => said,
            words => format!("{said}: {words}"),
        };
        let mut all = Vec::new();
        for (position, file) in self.of.iter().enumerate() {
            let well = || match file.stands() {
                Some(said) => said,
                None if file.told + file.left_aside == 0 => {
                    (Ended::Crashed, with_words("its process ended with status 0 and told of no case".into()))
                }
                None => (Ended::Passed, file.failed_said()),
            };
            let untold = file.told + file.left_aside == 0 && file.own.is_none();
            let said = match how.end {
                ProcessEnd::Well => well(),
                _ if position != ran && untold => continue,
                _ if position != ran => well(),
                ProcessEnd::TimedOut(why) => (Ended::TimedOut, with_words(why.clone())),
                ProcessEnd::Badly(end) if how.abrupt => {
                    (Ended::Crashed, with_words(format!("its process ended under it, with {end}")))
                }
                ProcessEnd::Badly(end) if untold => {
                    (Ended::Crashed, with_words(format!("its process ended with {end} and told of no case")))
                }
                ProcessEnd::Badly(end) => match file.stands() {
                    Some(said) if said.0.failing() => said,
                    _ if file.failing + file.failing_aside > 0 || !how.counts => (Ended::Passed, file.failed_said()),
                    _ => {
                        let cases = if file.told == 1 {
                            "its case was good".to_owned()
                        } else {
                            format!("all its {} cases were good", file.told)
                        };
                        (Ended::Failed, with_words(format!("{cases}, and then its process ended with {end}")))
                    }
                },
            };
            let began_us = file.began_us.unwrap_or(how.now);
            let ended_us = if self.one() || file.told == 0 { how.now } else { file.last_us };
            all.push(Finished {
                position,
                ended: said.0,
                began_us,
                ended_us,
                spent: Span(u64::try_from(ended_us - began_us).unwrap_or(0)),
                message: said.1,
                detail: String::new(),
                steps: Vec::new(),
                cases: file.told,
                with_start: false,
            });
        }
        all
    }
}

impl SoFar {
    /// What stands of the file itself, whatever its cases did.
    fn stands(&self) -> Option<(Ended, String)> {
        // That a case failed that counts elsewhere is told there.
        if let Some((ended, message)) =
            self.own.as_ref().filter(|(ended, _)| ended.failing() && (self.failing_aside == 0 || self.failing > 0))
        {
            return Some((*ended, message.clone()));
        }
        if let Some(why) = &self.wrong {
            return Some((Ended::Failed, why.clone()));
        }
        if let Some(missing) = self.asked.first() {
            let (asked, left) = (self.of_asked, self.asked.len());
            let others = if left > 1 { format!(" and {} more", left - 1) } else { String::new() };
            let why =
                format!("it was to run {asked} of its cases, and did not tell of {:?}{others}", shorten(missing, 120));
            return Some((Ended::Failed, why));
        }
        self.own.clone().filter(|(ended, _)| self.told == 0 || *ended == Ended::Passed)
    }

    /// How many of its cases failed, and the first of them, in words.
    fn failed_said(&self) -> String {
        match self.failing {
            0 => String::new(),
            failing => format!("{failing} of {} cases failed: {}", self.told, self.first_failing),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(names: &[&str], asked: &[&str]) -> Files {
        let entries: Vec<GrantedEntry> = names
            .iter()
            .enumerate()
            .map(|(i, name)| GrantedEntry { index: i as u32, name: (*name).into(), limit_us: 1000 })
            .collect();
        Files::new(&entries, &ToRun { cases: owned(asked), ..ToRun::default() }, 100)
    }

    fn passed() -> Reported {
        Reported::plain(Ended::Passed)
    }

    fn failed(why: &str) -> Reported {
        Reported { message: why.into(), ..Reported::plain(Ended::Failed) }
    }

    fn end(files: &Files, end: &ProcessEnd, abrupt: bool) -> Vec<(usize, Ended, String)> {
        let how = EndOfProcess { end, abrupt, counts: true, now: 500, last_words: "" };
        files.ended(&how).into_iter().map(|f| (f.position, f.ended, f.message)).collect()
    }

    fn badly() -> ProcessEnd {
        ProcessEnd::Badly("status 5".into())
    }

    #[test]
    fn a_title_that_comes_again_is_numbered_and_no_two_are_alike() {
        let mut f = files(&["a.sh"], &[]);
        for title in ["x", "x", "x (2)", "x", "x (2)"] {
            f.take(0, title, passed(), 200, "");
        }
        let told = f.take_waiting();
        let titles: Vec<(&str, bool)> = told[0].2.iter().map(|c| (c.title.as_str(), c.copy)).collect();
        assert_eq!(titles, [("x", false), ("x (2)", true), ("x (2) (2)", true), ("x (3)", true), ("x (2) (3)", true)]);
        for _ in 0..100_000 {
            f.take(0, "y", passed(), 200, "");
        }
        let all: BTreeSet<String> = f.take_waiting().into_iter().flat_map(|t| t.2).map(|c| c.title).collect();
        assert_eq!(all.len(), 100_000);
    }

    #[test]
    fn what_never_ends_is_bounded_and_fails_the_file() {
        let mut f = files(&["a.sh"], &[]);
        for n in 0..5000 {
            f.begin(0, &format!("case {n}"), 100);
            f.step(0, &format!("step {n}"), Step { name: "scan".into(), ok: true, ms: None }, 100);
        }
        assert_eq!(f.of[0].begun.len(), MOST_BEGUN);
        f.take(0, "case 1", passed(), 160, "");
        f.take(0, "case 4999", passed(), 170, "");
        let told = f.take_waiting().remove(0).2;
        assert_eq!(told.iter().map(|c| c.spent_us).collect::<Vec<_>>(), [60, 10], "the other is timed from the last");
        f.of[0].told = MOST_CASES - 1;
        f.take(0, "the last", passed(), 180, "");
        assert!(!f.take(0, "beyond", failed("no"), 190, ""));
        assert_eq!((f.of[0].told, f.take_waiting()[0].2.len()), (MOST_CASES, 1));
        let said = end(&f, &ProcessEnd::Well, false).remove(0);
        assert_eq!(
            (said.1, said.2.as_str()),
            (Ended::Failed, "it told of more than 1000000 cases; those beyond are not kept")
        );
    }

    #[test]
    fn cases_are_told_in_pieces_that_follow_each_other() {
        let mut f = files(&["a.sh"], &[]);
        (0..1200).for_each(|n| {
            f.take(0, &format!("{n}"), passed(), 200, "");
        });
        let told: Vec<(u32, usize)> = f.take_waiting().iter().map(|t| (t.1, t.2.len())).collect();
        assert_eq!(told, [(0, 500), (500, 500), (1000, 200)]);
        f.take(0, "last", failed(&"w".repeat(9000)), 300, "");
        let told = f.take_waiting();
        assert_eq!((told[0].1, told[0].2[0].message.len() <= 2010), (1200, true));
        assert!(!f.waits());
    }

    #[test]
    fn names_find_their_file() {
        let one = files(&["gate/a.sh"], &[]);
        assert_eq!(one.place("gate/a.sh/opens"), Some((0, "opens".into())));
        assert_eq!(one.place("opens/late"), Some((0, "opens/late".into())));
        assert_eq!(one.place("gate/a.sh"), Some((0, String::new())));
        let two = files(&["gate/a.sh", "gate/a.sh/b"], &[]);
        assert_eq!(two.place("gate/a.sh/b/x/y"), Some((1, "x/y".into())), "the longest name is meant");
        assert_eq!(two.place("gate/c.sh/x"), None);
    }

    #[test]
    fn a_case_takes_as_long_as_it_says_or_as_it_was_since_the_last() {
        let mut f = files(&["a.sh"], &[]);
        assert!(f.take(0, "a", passed(), 150, ""));
        assert!(!f.take(0, "b", Reported { spent: Some(Span(7)), ..passed() }, 190, ""));
        f.begin(0, "d", 195);
        f.take(0, "c", passed(), 200, "");
        f.take(0, "d", passed(), 230, "");
        let told = f.take_waiting();
        assert_eq!(told[0].2.iter().map(|c| c.spent_us).collect::<Vec<_>>(), [50, 7, 10, 35]);
    }

    #[test]
    fn what_was_printed_before_a_failing_case_explains_it() {
        let mut f = files(&["a.sh"], &[]);
        f.take(0, "a", failed("no"), 150, "the gate is shut\n");
        f.take(0, "b", Reported { detail: "own words".into(), ..failed("no") }, 150, "printed");
        f.step(0, "c", Step { name: "scan".into(), ok: false, ms: Some(2.0) }, 160);
        f.take(0, "c", failed("no"), 170, "");
        f.take(0, "d", passed(), 180, "printed");
        let details: Vec<String> = f.take_waiting().remove(0).2.into_iter().map(|c| c.detail).collect();
        assert_eq!(details, ["the gate is shut", "own words", "not ok scan (2 ms)\n", ""]);
    }

    #[test]
    fn a_file_that_ends_badly_after_good_cases_has_failed_itself() {
        let mut f = files(&["a.sh"], &[]);
        f.take(0, "a", passed(), 150, "");
        assert_eq!(
            end(&f, &badly(), false)[0],
            (0, Ended::Failed, "its case was good, and then its process ended with status 5".into())
        );
        assert_eq!(end(&f, &badly(), true)[0].1, Ended::Crashed);
        f.take(0, "b", failed("no quay"), 160, "");
        assert_eq!(
            end(&f, &badly(), false)[0],
            (0, Ended::Passed, "1 of 2 cases failed: b: no quay".into()),
            "a failing case explains a status"
        );
        assert_eq!(end(&f, &badly(), true)[0].1, Ended::Crashed, "and no signal");
        assert_eq!(end(&f, &ProcessEnd::TimedOut("past its limit".into()), false)[0].1, Ended::TimedOut);
    }

    #[test]
    fn a_file_that_tells_of_nothing_crashed_unless_it_says_that_it_is_skipped() {
        let mut f = files(&["a.sh"], &[]);
        assert_eq!(
            end(&f, &ProcessEnd::Well, false)[0],
            (0, Ended::Crashed, "its process ended with status 0 and told of no case".into())
        );
        assert_eq!(
            end(&f, &badly(), false)[0],
            (0, Ended::Crashed, "its process ended with status 5 and told of no case".into())
        );
        f.own(0, Reported { message: "no boat".into(), ..Reported::plain(Ended::Skipped) });
        assert_eq!(end(&f, &ProcessEnd::Well, false)[0], (0, Ended::Skipped, "no boat".into()));
        f.take(0, "a", passed(), 150, "");
        assert_eq!(end(&f, &ProcessEnd::Well, false)[0].1, Ended::Passed, "it told of a case all the same");
    }

    #[test]
    fn a_promise_that_is_not_kept_fails_the_file() {
        let mut f = files(&["a.sh"], &[]);
        f.take(0, "a", passed(), 150, "");
        f.wrong("the TAP plan promised 3 tests, and 1 were reported".into()).unwrap();
        assert_eq!(end(&f, &ProcessEnd::Well, false)[0].1, Ended::Failed);
        let mut two = files(&["a.sh", "b.sh"], &[]);
        assert!(two.wrong("a plan".into()).is_err(), "it can be laid to neither");
    }

    #[test]
    fn cases_that_were_asked_for_are_held_against_those_that_came() {
        let mut f = files(&["a.sh"], &["x", "y", "z"]);
        f.take(0, "x", passed(), 150, "");
        f.take(0, "other", passed(), 150, "");
        let said = end(&f, &ProcessEnd::Well, false).remove(0);
        assert_eq!(
            (said.1, said.2.as_str()),
            (Ended::Failed, "it was to run 3 of its cases, and did not tell of \"y\" and 1 more")
        );
        assert_eq!(f.beyond().unwrap(), "a.sh was to run 3 of its cases and told of 1 others too");
        f.take(0, "y", failed("no"), 150, "");
        f.take(0, "z", passed(), 150, "");
        assert_eq!(end(&f, &ProcessEnd::Well, false)[0].1, Ended::Passed);
    }

    fn owned(titles: &[&str]) -> Vec<String> {
        titles.iter().map(|title| (*title).to_owned()).collect()
    }

    fn part(cases: &[&str], aside: &[&str], rest: bool) -> Files {
        let entry = GrantedEntry { index: 0, name: "a.sh".into(), limit_us: 1000 };
        Files::new(&[entry], &ToRun { cases: owned(cases), rest, aside: owned(aside), only: Vec::new() }, 100)
    }

    #[test]
    fn what_is_new_counts_where_all_the_rest_runs() {
        let entry = GrantedEntry { index: 0, name: "a.sh".into(), limit_us: 1000 };
        let mut f = Files::new(std::slice::from_ref(&entry), &ToRun { only: owned(&["x"]), ..ToRun::default() }, 100);
        for title in ["x", "x", "new", "y"] {
            f.take(0, title, passed(), 150, "");
        }
        let told: Vec<String> = f.take_waiting().into_iter().flat_map(|t| t.2).map(|c| c.title).collect();
        assert_eq!(told, ["x", "x (2)"]);
        f.take(0, "new", failed("no"), 160, "");
        assert!(f.take_waiting().is_empty(), "all of the file ran only to see what is gone");
        let said = "a.sh told of 3 cases that another part of it runs, 1 of which failed here; they count there";
        assert_eq!(f.beyond().unwrap(), said);

        let mut asked =
            Files::new(&[entry], &ToRun { cases: owned(&["x"]), only: owned(&["x"]), ..ToRun::default() }, 100);
        asked.take(0, "x/step", failed("no"), 160, "");
        let told: Vec<String> = asked.take_waiting().into_iter().flat_map(|t| t.2).map(|c| c.title).collect();
        assert_eq!(told, ["x/step"], "where the rest is run without x, nobody else sees it");
    }

    #[test]
    fn cases_that_another_part_of_the_file_runs_do_not_count_here() {
        let mut f = part(&["x"], &["y", "z"], false);
        f.take(0, "x", passed(), 150, "");
        f.take(0, "y", failed("no"), 160, "");
        f.take(0, "new", passed(), 170, "");
        let told: Vec<String> = f.take_waiting().into_iter().flat_map(|t| t.2).map(|c| c.title).collect();
        assert_eq!(told, ["x", "new"], "what nobody knows of is not lost");
        assert_eq!(end(&f, &badly(), false)[0], (0, Ended::Passed, String::new()), "what failed is told elsewhere");
        let said = "a.sh told of 1 cases that another part of it runs, 1 of which failed here; they count there";
        assert_eq!(f.beyond().unwrap(), said);
        assert_eq!(end(&f, &badly(), true)[0].1, Ended::Crashed, "and no failing case explains a signal");
        f.own(0, failed("the file"));
        assert_eq!(end(&f, &ProcessEnd::Well, false)[0].1, Ended::Passed);
        f.take(0, "x", failed("no"), 180, "");
        assert_eq!(end(&f, &ProcessEnd::Well, false)[0].1, Ended::Failed, "one of its own failed, too");
    }

    #[test]
    fn a_part_whose_cases_are_gone_has_told_of_the_others() {
        let mut whole = part(&[], &["y", "z"], false);
        whole.take(0, "y", passed(), 150, "");
        whole.take(0, "z", passed(), 150, "");
        assert_eq!(end(&whole, &ProcessEnd::Well, false)[0].1, Ended::Passed);
        assert_eq!(whole.beyond(), None, "it ran whole: that is no surprise");
        assert!(whole.take_waiting().is_empty());
        let nothing = part(&[], &["y"], false);
        assert_eq!(end(&nothing, &ProcessEnd::Well, false)[0].1, Ended::Crashed);
    }

    #[test]
    fn the_last_part_runs_what_is_new_and_is_held_to_what_is_known() {
        let mut rest = part(&["x"], &["y"], true);
        rest.take(0, "new", passed(), 150, "");
        rest.take(0, "newer", passed(), 150, "");
        assert_eq!(rest.beyond(), None, "that is what it is for");
        let said = end(&rest, &ProcessEnd::Well, false).remove(0);
        assert_eq!(
            (said.1, said.2.as_str()),
            (Ended::Failed, "it was to run 1 of its cases, and did not tell of \"x\"")
        );
        rest.take(0, "x", passed(), 160, "");
        assert_eq!(end(&rest, &ProcessEnd::Well, false)[0].1, Ended::Passed);
    }

    #[test]
    fn of_several_files_in_a_process_that_dies_only_the_one_that_ran_is_charged() {
        let mut f = files(&["a.sh", "b.sh", "c.sh"], &[]);
        f.take(0, "x", passed(), 150, "");
        f.take(1, "x", passed(), 180, "");
        let said = end(&f, &badly(), true);
        assert_eq!(said.iter().map(|s| (s.0, s.1)).collect::<Vec<_>>(), [(0, Ended::Passed), (1, Ended::Crashed)]);
        assert_eq!(end(&files(&["a.sh", "b.sh"], &[]), &badly(), true).len(), 1, "the first is taken to have run");
        let well = end(&f, &ProcessEnd::Well, false);
        assert_eq!(well[2].1, Ended::Crashed, "it says that it is done, and never told of c.sh");
    }
}
