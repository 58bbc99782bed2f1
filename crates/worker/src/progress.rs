//! Which test of a batch does what: attributes results, output and time to tests, and says what is left when the process
//! has ended. Decides only; it reads no clock and starts nothing.

use std::collections::{HashMap, HashSet};

use kesmo_core::{
    format::{Reported, Step},
    name::shorten,
    time::Span,
    words::Ended,
};
use kesmo_wire::link::GrantedEntry;

/// So many tests in their order do not come so at random: one time in six at most, and in a batch of ten one in 720.
const ENOUGH_IN_ORDER: usize = 3;

/// Remarks about results that could not be attributed, for each batch.
const MOST_REMARKS: usize = 5;

/// An attempt that ended.
#[derive(Debug, Clone, PartialEq)]
pub struct Finished {
    /// Position in the batch.
    pub position: usize,
    pub ended: Ended,
    pub began_us: i64,
    pub ended_us: i64,
    pub spent: Span,
    pub message: String,
    pub detail: String,
    pub steps: Vec<Step>,
    /// How many cases a file told of.
    pub cases: u32,
    /// Its time is taken from the start of its process, as nothing said when it began itself.
    pub with_start: bool,
}

/// How the process of a batch ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ProcessEnd {
    /// By itself, with status 0.
    Well,
    /// By itself, otherwise; in words.
    Badly(String),
    /// It was ended, because this test was past its limit, or the batch was.
    TimedOut(String),
}

/// What does not belong to a result: to be said, or to fail the run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Aside {
    Remark(String),
    Wrong(String),
}

/// The tests of one process, in order.
pub struct Progress {
    names: Vec<String>,
    limits: Vec<Span>,
    by_name: HashMap<String, usize>,
    done: Vec<bool>,
    /// Tests that run, with the time at which they began. Without start events it is the next one in order.
    running: Vec<(usize, i64)>,
    steps: HashMap<usize, Vec<Step>>,
    remarks: usize,
    wrongs: usize,
    /// How each that is done ended.
    ended: Vec<Option<Ended>>,
    /// When the process was started.
    began_us: i64,
    /// When results come.
    told: Told,
    /// The process is fed its tests one by one, and ends when it wants.
    fed: bool,
    /// Tests that it was fed while it had another.
    ahead: Vec<usize>,
    /// Tests that it was fed and did not read of before it ended, where that is known.
    unread: Option<Vec<usize>>,
    /// Tests that it said something of besides a result.
    spoken_of: HashSet<usize>,
    /// Tests that were given back: what the process still says of them does not count.
    given_back: Vec<usize>,
    /// It said something of one of those.
    strayed: bool,
}

/// When a process tells of its tests.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Told {
    /// Each result as it is known; the next test is taken to run from then on.
    AsTheyEnd,
    /// Each test says that it starts, too; then nothing is assumed.
    WithStarts,
    /// All when the process ends: no test has a time limit of its own until then.
    AtTheEnd,
}

impl Progress {
    pub fn new(entries: &[GrantedEntry], told: Told) -> Self {
        let names: Vec<String> = entries.iter().map(|e| e.name.clone()).collect();
        Self {
            by_name: names.iter().cloned().enumerate().map(|(i, n)| (n, i)).collect(),
            limits: entries.iter().map(|e| Span(e.limit_us)).collect(),
            done: vec![false; names.len()],
            ended: vec![None; names.len()],
            names,
            running: Vec::new(),
            steps: HashMap::new(),
            remarks: 0,
            wrongs: 0,
            began_us: 0,
            told,
            fed: false,
            ahead: Vec::new(),
            unread: None,
            spoken_of: HashSet::new(),
            given_back: Vec::new(),
            strayed: false,
        }
    }

    /// The same for a process that is fed its tests.
    pub fn of_fed(entries: &[GrantedEntry]) -> Self {
        Self { fed: true, ahead: (1..entries.len()).collect(), ..Self::new(entries, Told::AsTheyEnd) }
    }

    /// The process is fed another test. Tells its position if it is taken to run from now on: its time counts from here.
    pub fn add(&mut self, entry: &GrantedEntry, now: i64) -> Option<usize> {
        let position = self.names.len();
        self.names.push(entry.name.clone());
        self.by_name.insert(entry.name.clone(), position);
        self.limits.push(Span(entry.limit_us));
        self.done.push(false);
        self.ended.push(None);
        if self.running.is_empty() {
            return self.assume_next(position, now);
        }
        self.ahead.push(position);
        None
    }

    /// The test whose output is being printed, as far as one can tell: the first that runs.
    pub fn current(&self) -> Option<usize> {
        self.running.first().map(|r| r.0)
    }

    /// Whether the process has a test of that name.
    pub fn has(&self, name: &str) -> bool {
        self.by_name.contains_key(name)
    }

    /// How many tests the process has.
    pub fn len(&self) -> usize {
        self.done.len()
    }

    /// Whether the tests run in their order, as far as those show that have ended: enough of them, and none before another that is ahead
    /// of it.
    pub fn in_order(&self) -> bool {
        let ended = self.ended.iter().filter(|ended| ended.is_some()).count();
        let begun = |i: &usize| self.ended[*i].is_some() || self.running.iter().any(|r| r.0 == *i);
        let all = (0..self.names.len()).filter(begun).count();
        self.told != Told::AtTheEnd && ended >= ENOUGH_IN_ORDER && (0..all).all(|i| begun(&i))
    }

    /// Whether the process said something of a test that was given back: it runs it, or has.
    pub fn strayed(&self) -> bool {
        self.strayed
    }

    /// Gives back what has not begun, from this position on, but never all: tells the positions.
    pub fn give_back(&mut self, from: usize) -> Vec<usize> {
        let runs = |i: &usize| self.running.iter().any(|r| r.0 == *i);
        let mut open: Vec<usize> = (0..self.done.len()).filter(|i| !self.done[*i] && !runs(i)).collect();
        if self.running.is_empty() && !open.is_empty() {
            // The next one may begin at any moment.
            open.remove(0);
        }
        open.retain(|position| *position >= from);
        for position in &open {
            self.done[*position] = true;
        }
        self.given_back.extend(&open);
        open
    }

    /// Whether the process has tests that are no longer its.
    pub fn cut_short(&self) -> bool {
        !self.given_back.is_empty()
    }

    /// The process has started; tells the test that is taken to run.
    pub fn started(&mut self, now: i64) -> Option<usize> {
        self.began_us = now;
        if self.told == Told::WithStarts { None } else { self.assume_next(0, now) }
    }

    /// The process shows its first sign of life: its first test is timed from here, so that starting it is not counted.
    pub fn alive(&mut self, now: i64) {
        if self.told == Told::AsTheyEnd && self.done.iter().all(|d| !d) {
            self.running.iter_mut().for_each(|r| r.1 = now);
        }
    }

    /// For so many microseconds before now nothing could be read: the process may have told something meanwhile, or waited until it
    /// could. That time is no test's.
    pub fn held_up(&mut self, us: i64, now: i64) {
        let later = |began: i64| now.min(began.saturating_add(us)).max(began);
        self.began_us = later(self.began_us);
        self.running.iter_mut().for_each(|r| r.1 = later(r.1));
    }

    fn assume_next(&mut self, from: usize, now: i64) -> Option<usize> {
        let next = (from..self.done.len()).chain(0..from).find(|i| !self.done[*i])?;
        self.running = vec![(next, now)];
        Some(next)
    }

    /// Whether all results come when the process ends.
    pub fn ends_together(&self) -> bool {
        self.told == Told::AtTheEnd
    }

    /// A file tells of its first case: it runs too. Tells whether that is news.
    pub fn runs_too(&mut self, position: usize, now: i64) -> bool {
        let news = self.running.iter().all(|r| r.0 != position);
        if news {
            self.running = vec![(position, now)];
        }
        news
    }

    /// A result that belongs to nothing in the process: a failing one is wrong, another is remarked.
    pub fn stray(&mut self, name: &str, reported: &Reported) -> Option<Aside> {
        let shown = shorten(name, 120);
        if reported.ended.failing() {
            let (ended, why) = (reported.ended, because(reported));
            return self.wrong(format!("a result {ended} came for {shown:?}, which is of no file in the batch{why}"));
        }
        self.remark(format!("a result for {shown:?}, which is of no file in the batch, was left aside"))
            .map(Aside::Remark)
    }

    /// Whether every test has a result.
    pub fn complete(&self) -> bool {
        self.done.iter().all(|d| *d)
    }

    /// What all tests of the process may take together.
    pub fn limits(&self) -> Span {
        self.limits.iter().fold(Span::ZERO, |sum, limit| sum + *limit)
    }

    /// Whether any test has a result.
    pub fn any_done(&self) -> bool {
        self.ended.iter().any(Option::is_some)
    }

    /// Whether any test of the process ended in a failure.
    pub fn any_failing(&self) -> bool {
        self.ended.iter().flatten().any(|ended| ended.failing())
    }

    /// When the first running test is past its limit, and which it is. Where results come at the process's end, it has the
    /// limits of all its tests together.
    pub fn deadline(&self) -> Option<(i64, usize)> {
        if self.told == Told::AtTheEnd {
            let first = self.done.iter().position(|done| !done)?;
            return Some((self.began_us.saturating_add(i64::try_from(self.limits().0).unwrap_or(i64::MAX)), first));
        }
        self.running.iter().map(|(i, began)| (began + self.limits[*i].0 as i64, *i)).min()
    }

    /// A test says that it starts. Tells its position, or a remark.
    pub fn start(&mut self, name: &str, now: i64) -> Result<Option<usize>, Option<String>> {
        let position = self.find(name, "an event")?;
        self.strayed |= self.given_back.contains(&position);
        self.spoken_of.insert(position);
        if self.done[position] || self.running.iter().any(|r| r.0 == position) {
            return Ok(None);
        }
        self.running.push((position, now));
        Ok(Some(position))
    }

    /// A test says that it did a step.
    pub fn step(&mut self, name: &str, step: Step) -> Result<(), Option<String>> {
        let position = self.find(name, "a step")?;
        self.spoken_of.insert(position);
        let steps = self.steps.entry(position).or_default();
        if steps.len() < 1000 {
            steps.push(step);
        }
        Ok(())
    }

    /// The position of a test that is in the batch.
    pub fn find(&mut self, name: &str, what: &str) -> Result<usize, Option<String>> {
        match self.by_name.get(name) {
            Some(position) => Ok(*position),
            None => {
                let shown = shorten(name, 120);
                Err(self.remark(format!("{what} for {shown:?}, which is not in the batch, was left aside")))
            }
        }
    }

    fn remark(&mut self, text: String) -> Option<String> {
        self.remarks += 1;
        (self.remarks <= MOST_REMARKS).then_some(text)
    }

    /// Something that is not right and can be laid to no test.
    fn wrong(&mut self, text: String) -> Option<Aside> {
        // Counted apart from remarks, as however many of those must not keep it from being told.
        self.wrongs += 1;
        (self.wrongs <= MOST_REMARKS).then_some(Aside::Wrong(text))
    }

    /// A result by name, or by position where the name is empty. Tells the attempt, and the test taken to run next. A failing
    /// result that can be laid to no test of the batch, or that comes after a good one of the same test, is wrong: the run
    /// must not pass by leaving it aside.
    pub fn result(
        &mut self,
        name: &str,
        number: usize,
        mut reported: Reported,
        now: i64,
    ) -> Result<(Finished, Option<usize>), Option<Aside>> {
        let position = if name.is_empty() && (1..=self.names.len()).contains(&number) {
            number - 1
        } else if reported.ended.failing() && !self.by_name.contains_key(name) {
            let shown = if name.is_empty() { format!("number {number}") } else { format!("{:?}", shorten(name, 120)) };
            let (ended, why) = (reported.ended, because(&reported));
            return Err(self.wrong(format!("a result {ended} came for {shown}, which is not in the batch{why}")));
        } else {
            self.find(name, "a result").map_err(|remark| remark.map(Aside::Remark))?
        };
        if std::mem::replace(&mut self.done[position], true) {
            if self.given_back.contains(&position) {
                self.strayed = true;
                // Beside another process that runs it now it may fail for that alone.
                let text = format!(
                    "{:?} failed in a process that it was taken from{}; what counts is the process that it was given to",
                    shorten(&self.names[position], 120),
                    because(&reported)
                );
                let told = reported.ended.failing().then(|| self.remark(text)).flatten();
                return Err(told.map(Aside::Remark));
            }
            let (name, first) = (self.names[position].clone(), self.ended[position]);
            if reported.ended.failing() && first.is_some_and(|first| !first.failing()) {
                let (first, second) = (first.unwrap_or(Ended::Passed), reported.ended);
                let why = because(&reported);
                return Err(
                    self.wrong(format!("{name:?} was told twice in one process: {first}, and then {second}{why}"))
                );
            }
            let text = format!("a second result for {name:?} in one process was left aside");
            return Err(self.remark(text).map(Aside::Remark));
        }
        self.ended[position] = Some(reported.ended);
        let began = self.running.iter().find(|r| r.0 == position).map(|r| r.1);
        let assumed_began = self.running.first().map_or(now, |r| r.1);
        let began_us = began.unwrap_or(assumed_began);
        self.running.retain(|r| r.0 != position);
        let mut steps = self.steps.remove(&position).unwrap_or_default();
        steps.append(&mut reported.steps);
        let own_time = reported.spent;
        let spent = own_time.unwrap_or(Span(u64::try_from(now - began_us).unwrap_or(0)));
        let finished = Finished {
            position,
            ended: reported.ended,
            began_us,
            ended_us: now,
            spent,
            message: reported.message,
            detail: reported.detail,
            steps,
            cases: 0,
            with_start: own_time.is_none() && self.told == Told::AsTheyEnd && began_us == self.began_us,
        };
        let next = if self.told == Told::WithStarts { None } else { self.assume_next(position + 1, now) };
        Ok((finished, next))
    }

    /// The process has ended, and so many bytes of the names that it was fed were not read; none where nobody knows.
    pub fn left_unread(&mut self, bytes: Option<u64>) {
        let Some(mut bytes) = bytes else { return };
        let mut unread = Vec::new();
        for position in (0..self.names.len()).rev() {
            if bytes == 0 {
                break;
            }
            unread.push(position);
            bytes = bytes.saturating_sub(self.names[position].len() as u64 + 1);
        }
        self.unread = Some(unread);
    }

    /// Whether the process, which was fed and ended well, had begun a test of which it told no result; none where nobody knows: it may
    /// have read ahead what it was fed ahead.
    fn begun(&self, position: usize) -> Option<bool> {
        // One that told of nothing costs the test that it was started for: another would do the same.
        if !self.any_done() || self.spoken_of.contains(&position) {
            return Some(true);
        }
        match &self.unread {
            Some(unread) if unread.contains(&position) => Some(false),
            Some(_) if !self.ahead.contains(&position) => Some(true),
            _ => None,
        }
    }

    /// What is to be said where a process that was fed ended well and nobody knows whether it had begun another test.
    pub fn unsure(&mut self) -> Option<String> {
        let unsure = |(position, _): &&(usize, i64)| !self.done[*position] && self.begun(*position).is_none();
        let of = self.running.iter().find(unsure).filter(|_| self.fed);
        let name = shorten(&self.names[of?.0], 120);
        self.remark(format!(
            "a process ended with status 0, and told nothing of {name:?}, which it had been handed: it runs in another process"
        ))
    }

    /// The process has ended: the attempts that end with it. What is not among them goes back, uncharged.
    pub fn process_ended(&mut self, end: &ProcessEnd, now: i64, last_words: &str) -> Vec<Finished> {
        let undone: Vec<usize> = (0..self.done.len()).filter(|i| !self.done[*i]).collect();
        let running: Vec<usize> = self.running.iter().map(|r| r.0).filter(|i| !self.done[*i]).collect();
        let (ended, charged, message) = match end {
            // It may end when it wants, but not under a test.
            ProcessEnd::Well if self.fed => {
                let mut ran = if running.is_empty() { undone.into_iter().take(1).collect() } else { running };
                ran.retain(|position| self.begun(*position) == Some(true));
                (Ended::Crashed, ran, "its process ended under it, with status 0".to_owned())
            }
            // It says that it is done: nothing is to come for what it did not name.
            ProcessEnd::Well => {
                (Ended::Crashed, undone, "its process ended with status 0 and never reported this test".to_owned())
            }
            ProcessEnd::Badly(how) => {
                let could_run = if running.is_empty() { undone.into_iter().take(1).collect() } else { running };
                (Ended::Crashed, could_run, format!("its process ended under it, with {how}"))
            }
            ProcessEnd::TimedOut(why) => {
                let charged = match self.deadline() {
                    Some((at, position)) if at <= now => vec![position],
                    _ if running.is_empty() => undone.into_iter().take(1).collect(),
                    _ => running,
                };
                (Ended::TimedOut, charged, why.clone())
            }
        };
        let message = if last_words.is_empty() { message } else { format!("{message}: {}", shorten(last_words, 400)) };
        let mut finished = Vec::new();
        for position in charged {
            self.done[position] = true;
            self.ended[position] = Some(ended);
            let began_us = self.running.iter().find(|r| r.0 == position).map_or(now, |r| r.1);
            finished.push(Finished {
                position,
                ended,
                began_us,
                ended_us: now,
                spent: Span(u64::try_from(now - began_us).unwrap_or(0)),
                message: message.clone(),
                detail: String::new(),
                steps: self.steps.remove(&position).unwrap_or_default(),
                cases: 0,
                with_start: false,
            });
        }
        self.running.clear();
        finished
    }
}

/// What a result says of why, to be put behind something else.
fn because(reported: &Reported) -> String {
    match shorten(reported.message.trim(), 200) {
        said if said.is_empty() => String::new(),
        said => format!(": {said}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn progress(told: Told) -> Progress {
        let entry = |(i, name): (usize, &str)| GrantedEntry { index: 10 + i as u32, name: name.into(), limit_us: 1000 };
        let entries: Vec<GrantedEntry> = ["a", "b", "c"].into_iter().enumerate().map(entry).collect();
        Progress::new(&entries, told)
    }

    fn passed() -> Reported {
        Reported::plain(Ended::Passed)
    }

    #[test]
    fn time_in_which_nothing_was_read_is_no_tests() {
        let mut p = progress(Told::AsTheyEnd);
        p.started(100);
        p.held_up(5000, 5300);
        assert_eq!(p.deadline(), Some((6100, 0)));
        let (a, _) = p.result("a", 0, passed(), 5400).unwrap();
        assert_eq!((a.began_us, a.spent), (5100, Span(300)));
        // What began after that does not begin later for it.
        p.held_up(5000, 5400);
        assert_eq!(p.deadline(), Some((6400, 1)));
    }

    #[test]
    fn a_process_that_is_fed_may_end_between_two_tests() {
        let entry = |name: &str| GrantedEntry { index: 0, name: name.into(), limit_us: 1000 };
        let fed = |ahead: bool, unread: Option<u64>| {
            let mut p = Progress::of_fed(&[entry("a")]);
            p.started(100);
            if ahead {
                p.add(&entry("bb"), 110);
            }
            p.result("a", 0, passed(), 150).unwrap();
            if !ahead {
                p.add(&entry("bb"), 160);
            }
            p.left_unread(unread);
            p
        };
        let charged = |mut p: Progress, end: &ProcessEnd| {
            let said = p.unsure().is_some();
            (p.process_ended(end, 200, "").iter().map(|f| f.position).collect::<Vec<_>>(), said)
        };
        let badly = ProcessEnd::Badly("signal 9".into());
        for ahead in [true, false] {
            assert_eq!(charged(fed(ahead, Some(3)), &ProcessEnd::Well), (vec![], false), "it did not read of bb");
            assert_eq!(charged(fed(ahead, Some(1)), &ProcessEnd::Well), (vec![], false), "nor all of it");
            assert_eq!(charged(fed(ahead, None), &ProcessEnd::Well), (vec![], true), "nobody knows");
            let mut began = fed(ahead, None);
            began.start("bb", 155).unwrap();
            assert_eq!(charged(began, &ProcessEnd::Well), (vec![1], false));
            assert_eq!(charged(fed(ahead, None), &badly).0, [1], "it died");
        }
        assert_eq!(charged(fed(true, Some(0)), &ProcessEnd::Well), (vec![], true), "it may have read ahead");
        assert_eq!(charged(fed(false, Some(0)), &ProcessEnd::Well), (vec![1], false), "it had nothing else to do");
        let mut first = Progress::of_fed(&[entry("a"), entry("bb")]);
        first.started(100);
        first.left_unread(Some(5));
        assert_eq!(charged(first, &ProcessEnd::Well), (vec![0], false), "it told of nothing at all, and read nothing");
    }

    #[test]
    fn time_is_measured_from_result_to_result() {
        let mut p = progress(Told::AsTheyEnd);
        assert_eq!(p.started(100), Some(0));
        let (a, next) = p.result("a", 1, passed(), 150).unwrap();
        assert_eq!((a.began_us, a.spent, next), (100, Span(50), Some(1)));
        let (b, next) = p.result("", 2, passed(), 170).unwrap();
        assert_eq!((b.position, b.spent, next), (1, Span(20), Some(2)));
        let own = Reported { spent: Some(Span(7)), ..passed() };
        assert_eq!(p.result("c", 3, own, 999).unwrap().0.spent, Span(7));
    }

    #[test]
    fn starting_the_process_is_not_counted_where_it_shows() {
        let mut p = progress(Told::AsTheyEnd);
        p.started(100);
        p.alive(160);
        assert_eq!(p.result("a", 1, passed(), 170).unwrap().0.spent, Span(10));
        p.alive(500);
        assert_eq!(p.result("b", 2, passed(), 510).unwrap().0.spent, Span(340));
    }

    #[test]
    fn results_that_do_not_belong_are_remarked_and_left_aside() {
        let mut p = progress(Told::AsTheyEnd);
        p.started(0);
        let remark = |r: Result<_, Option<Aside>>| match r {
            Err(Some(Aside::Remark(text))) => text,
            other => panic!("{other:?}"),
        };
        assert!(remark(p.result("z", 9, passed(), 1)).contains("\"z\", which is not in the batch"));
        p.result("a", 1, passed(), 1).unwrap();
        assert!(remark(p.result("a", 1, passed(), 1)).contains("a second result for \"a\""));
        for _ in 0..20 {
            assert!(p.result("y", 9, passed(), 1).is_err());
        }
        assert!(p.result("y", 9, passed(), 1).unwrap_err().is_none(), "remarks are bounded");
        let failed = Reported { ended: Ended::Failed, ..passed() };
        assert!(matches!(p.result("y", 9, failed, 1), Err(Some(Aside::Wrong(_)))), "and hide nothing that is wrong");
    }

    #[test]
    fn a_bad_end_charges_what_ran_and_no_other() {
        let mut p = progress(Told::AsTheyEnd);
        p.started(0);
        p.result("a", 1, passed(), 5).unwrap();
        let ended = p.process_ended(&ProcessEnd::Badly("signal 11".into()), 9, "boom");
        assert_eq!(ended.len(), 1);
        assert_eq!((ended[0].position, ended[0].ended, ended[0].spent), (1, Ended::Crashed, Span(4)));
        assert!(ended[0].message.contains("signal 11: boom"));
    }

    #[test]
    fn a_good_end_charges_everything_that_was_not_named() {
        let mut p = progress(Told::AsTheyEnd);
        p.started(0);
        p.result("b", 2, passed(), 5).unwrap();
        let ended = p.process_ended(&ProcessEnd::Well, 9, "");
        assert_eq!(ended.iter().map(|f| f.position).collect::<Vec<_>>(), [0, 2]);
        assert!(p.process_ended(&ProcessEnd::Well, 9, "").is_empty());
    }

    #[test]
    fn tests_that_run_side_by_side_have_times_and_limits_of_their_own() {
        let mut p = progress(Told::WithStarts);
        assert_eq!(p.started(0), None);
        assert_eq!(p.start("b", 10), Ok(Some(1)));
        assert_eq!(p.start("c", 20), Ok(Some(2)));
        assert_eq!(p.start("b", 30), Ok(None));
        assert_eq!(p.deadline(), Some((1010, 1)));
        assert_eq!(p.result("c", 0, passed(), 50).unwrap().0.spent, Span(30));
        let ended = p.process_ended(&ProcessEnd::TimedOut("past its limit".into()), 1010, "");
        assert_eq!((ended.len(), ended[0].position, ended[0].ended), (1, 1, Ended::TimedOut));
    }

    #[test]
    fn what_is_given_back_no_longer_counts() {
        let mut progress = progress(Told::AsTheyEnd);
        progress.started(0);
        assert_eq!(progress.give_back(0), [1, 2]);
        assert!(progress.cut_short() && !progress.complete());
        assert!(progress.result("a", 1, passed(), 10).is_ok());
        assert!(progress.complete());
        assert!(matches!(progress.result("b", 2, passed(), 20), Err(None)), "it is left aside without a remark");
        let failed = Reported { message: "no berth".into(), ..Reported::plain(Ended::Failed) };
        let Err(Some(Aside::Remark(said))) = progress.result("c", 3, failed, 25) else {
            panic!("a failing one is told")
        };
        assert_eq!(
            said,
            r#""c" failed in a process that it was taken from: no berth; what counts is the process that it was given to"#
        );
        assert!(progress.process_ended(&ProcessEnd::Badly("signal 9".into()), 30, "").is_empty());
        let mut before_any = self::progress(Told::WithStarts);
        assert_eq!(before_any.give_back(0), [1, 2], "one test stays");
    }

    #[test]
    fn a_part_is_given_back_where_tests_run_in_their_order_and_one_that_strays_is_seen() {
        let entry = |i: u32| GrantedEntry { index: i, name: i.to_string(), limit_us: 1000 };
        let of_eight = |told, ended: &[&str]| {
            let mut progress = Progress::new(&(0..8).map(entry).collect::<Vec<_>>(), told);
            progress.started(0);
            for name in ended {
                progress.result(name, 0, passed(), 10).unwrap();
            }
            progress
        };
        assert!(!of_eight(Told::AsTheyEnd, &["0", "1"]).in_order(), "two may come so at random");
        assert!(!of_eight(Told::AsTheyEnd, &["0", "1", "3"]).in_order());
        assert!(!of_eight(Told::AtTheEnd, &["0", "1", "2"]).in_order(), "nobody knows in which order they run");
        let mut beside_each_other = of_eight(Told::WithStarts, &["0", "1", "2"]);
        beside_each_other.start("4", 10).unwrap();
        assert!(!beside_each_other.in_order());
        beside_each_other.start("3", 10).unwrap();
        assert!(beside_each_other.in_order());

        let mut progress = of_eight(Told::AsTheyEnd, &["0", "1", "2"]);
        assert!(progress.in_order());
        assert_eq!(progress.give_back(6), [6, 7]);
        assert_eq!(progress.give_back(5), [5], "what is left may be asked for too");
        assert!(progress.result("3", 0, passed(), 20).is_ok() && !progress.strayed() && !progress.complete());
        assert!(matches!(progress.result("7", 0, passed(), 30), Err(None)));
        assert!(progress.strayed());
        assert!(progress.result("4", 0, passed(), 40).is_ok() && progress.complete());
        let mut starts = of_eight(Told::WithStarts, &["0", "1", "2"]);
        assert_eq!(starts.give_back(5), [5, 6, 7]);
        assert_eq!((starts.start("6", 20), starts.strayed()), (Ok(None), true));
    }

    #[test]
    fn a_process_that_is_fed_runs_what_it_has_and_is_charged_for_that_alone() {
        let entry = |name: &str| GrantedEntry { index: 0, name: name.into(), limit_us: 1000 };
        let mut p = Progress::of_fed(&[entry("a")]);
        assert_eq!(p.started(100), Some(0));
        assert_eq!(p.add(&entry("b"), 150), None, "it waits for a");
        assert_eq!(p.result("a", 1, passed(), 200).unwrap().1, Some(1));
        assert_eq!(p.deadline(), Some((1200, 1)));
        assert_eq!(p.result("b", 2, passed(), 300).unwrap().1, None);
        assert!(p.complete());
        assert_eq!(p.add(&entry("c"), 5000), Some(2), "its time counts from here");
        assert_eq!(p.add(&entry("d"), 5001), None);
        assert_eq!(p.deadline(), Some((6000, 2)));
        p.left_unread(Some(0));
        let ended = p.process_ended(&ProcessEnd::Well, 5100, "");
        assert_eq!(ended.iter().map(|f| (f.position, f.ended)).collect::<Vec<_>>(), [(2, Ended::Crashed)]);
    }

    #[test]
    fn steps_stay_with_their_test() {
        let mut p = progress(Told::WithStarts);
        let step = Step { name: "scan".into(), ok: true, ms: Some(1.0) };
        p.step("a", step.clone()).unwrap();
        assert_eq!(p.result("a", 0, passed(), 1).unwrap().0.steps, [step]);
    }

    fn failed(why: &str) -> Reported {
        Reported { message: why.into(), ..Reported::plain(Ended::Failed) }
    }

    #[test]
    fn a_failing_result_that_no_test_can_take_is_wrong() {
        let wrong = |r: Result<_, Option<Aside>>| match r {
            Err(Some(Aside::Wrong(text))) => text,
            other => panic!("{other:?}"),
        };
        let mut p = progress(Told::AsTheyEnd);
        p.started(0);
        let text = wrong(p.result("z", 9, failed("no quay"), 1));
        assert!(text.contains("\"z\", which is not in the batch: no quay"), "{text}");
        assert!(wrong(p.result("", 9, failed(""), 1)).contains("number 9, which is not in the batch"));
        p.result("a", 1, passed(), 1).unwrap();
        assert!(
            wrong(p.result("a", 1, failed(""), 1))
                .contains("\"a\" was told twice in one process: passed, and then failed")
        );
        assert!(!p.any_failing());
        p.result("b", 2, failed(""), 1).unwrap();
        assert!(p.any_failing());
        assert!(matches!(p.result("b", 2, passed(), 1), Err(Some(Aside::Remark(_)))), "it has failed already");
    }

    #[test]
    fn a_process_that_tells_all_at_its_end_has_the_limits_of_all_its_tests() {
        let mut p = progress(Told::AtTheEnd);
        assert_eq!(p.started(100), Some(0));
        assert_eq!(p.deadline(), Some((3100, 0)), "three tests of 1,000 each");
        p.result("a", 1, passed(), 2000).unwrap();
        assert_eq!(p.deadline(), Some((3100, 1)));
        let ended = p.process_ended(&ProcessEnd::TimedOut("past its limit".into()), 3100, "");
        assert_eq!((ended.len(), ended[0].position), (1, 1), "the others go back");
    }
}
