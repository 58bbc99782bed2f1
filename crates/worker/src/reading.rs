//! What is read from one process: its results, what it prints, and what is to be reported of both.

use kesmo_core::{
    format::{
        Reported,
        events::{Event, EventLine, Meant, read_line},
        points::Points,
        tap::Tap,
    },
    measure::{Gathering, Part, Sample},
    name::shorten,
    run::{Cores, ToRun},
    suite::{
        covers::Requirement,
        file::{NamesAs, Results, Tests},
    },
    time::Bytes,
    words::Ended,
};
use kesmo_wire::link::GrantedEntry;

use crate::{
    capture::{CappedLog, Lines},
    cases::{EndOfProcess, Files},
    exit::{self, Exit},
    hearing::Heard,
    mask::{Mask, Piecewise},
    progress::{Aside, Finished, ProcessEnd, Progress, Told as When},
};

/// Lines are read for results up to this length.
const LONGEST_LINE: usize = 64 << 10;
/// What is kept of what was printed before a failing case, in bytes.
const MOST_PRINTED: usize = 4 << 10;
/// Event lines of a process that are kept for its end because they may have been results; others are told as they come.
const MOST_UNREAD: usize = 5;

/// Something to report.
pub(crate) enum Step {
    Began(usize, i64),
    /// With what was printed until then.
    Finished(Finished, String),
    Remark(String),
    /// Something that fails the run.
    Wrong(String),
}

impl From<Aside> for Step {
    fn from(aside: Aside) -> Self {
        match aside {
            Aside::Remark(text) => Self::Remark(text),
            Aside::Wrong(text) => Self::Wrong(text),
        }
    }
}

/// What is read from one process.
pub(crate) struct Reading {
    pub progress: Progress,
    /// The files of the process, where its suite is of files.
    pub files: Option<Files>,
    pub points: Option<Points>,
    pub log: CappedLog,
    out: Lines,
    events: Lines,
    pub found: Vec<Step>,
    pub bailed: Option<String>,
    pub broken: Option<String>,
    /// Event lines that cannot be read and may have been results.
    unread: Vec<String>,
    /// Its start is part of its first test's time. Where every test has a process of its own, it is part of what a test costs.
    pub hides_start: bool,
    /// What the process had made of the machine's cores when its first result came, where that tells of its start.
    pub cores: Option<Cores>,
    /// What it prints word for word, where that is kept.
    pub heard: Option<Heard>,
    /// Secrets that are not told of: what a process prints comes without them, its event lines do not.
    pub mask: Option<Mask>,
    masked: Piecewise,
    /// How much had been printed when the last case was told.
    told_at: u64,
    /// What it measures in this second, and in those that are over.
    gathering: Gathering,
    pub measured: Vec<Part>,
    /// What tests, or files for their cases, told that they cover.
    pub covers: Vec<(usize, Vec<Requirement>)>,
}

impl Reading {
    /// What is read from a process that was started at `began` for these entries; `to_run` is about its one file.
    pub fn new(entries: &[GrantedEntry], to_run: &ToRun, tests: &Tests, output: Bytes, began: i64) -> Self {
        let of_files = tests.of_files() && tests.results != Results::Exit;
        let told = match tests.results {
            _ if of_files => When::AtTheEnd,
            Results::Events => When::WithStarts,
            Results::Junit => When::AtTheEnd,
            Results::Tap | Results::Exit => When::AsTheyEnd,
        };
        let points = (tests.results == Results::Tap).then(|| Points::new(of_files));
        Self {
            progress: if tests.names_as == NamesAs::Fed {
                Progress::of_fed(entries)
            } else {
                Progress::new(entries, told)
            },
            files: of_files.then(|| Files::new(entries, to_run, began)),
            points,
            log: CappedLog::new(output),
            out: Lines::new(LONGEST_LINE),
            events: Lines::new(1 << 20),
            found: Vec::new(),
            bailed: None,
            broken: None,
            unread: Vec::new(),
            hides_start: told == When::AsTheyEnd && tests.names_as != NamesAs::OneEach,
            cores: None,
            heard: None,
            mask: None,
            masked: Piecewise::default(),
            told_at: 0,
            gathering: Gathering::default(),
            measured: Vec::new(),
            covers: Vec::new(),
        }
    }

    /// Whether there is something to report.
    pub fn has_news(&self) -> bool {
        !self.found.is_empty()
            || !self.measured.is_empty()
            || !self.covers.is_empty()
            || self.files.as_ref().is_some_and(Files::waits)
    }

    /// Ends the second in which something was measured, if it is over now, or with the process.
    pub fn end_second(&mut self, now: i64, all: bool) {
        if all || self.gathering.is_due(now / 1_000_000) {
            self.measured.extend(self.gathering.finish());
        }
    }

    fn measure(&mut self, sample: &Sample, now: i64) {
        let (over, remark) = self.gathering.take(sample, now / 1_000_000);
        self.measured.extend(over);
        self.found.extend(remark.map(Step::Remark));
    }

    /// The last line of standard output, if it has no end.
    pub fn finish_out(&mut self, now: i64) {
        if let Some(line) = self.out.finish() {
            self.take_line(&line, now);
        }
    }

    /// Takes standard output. With TAP the log of a test is what was printed up to its result.
    pub fn take_out(&mut self, bytes: &[u8], now: i64) {
        if let Some(heard) = &mut self.heard {
            Heard::add(&mut heard.out, bytes);
        }
        if self.points.is_none() {
            self.log.add(bytes);
            return;
        }
        let mut lines = std::mem::replace(&mut self.out, Lines::new(0));
        lines.take(bytes, |line, raw| {
            if self.files.is_some() {
                // Of a file all that it printed is kept together, in its order.
                self.log.add(raw);
                if raw.ends_with(b"\n") {
                    self.take_line(line, now);
                }
            } else if raw.ends_with(b"\n") {
                self.take_line(line, now);
                if !is_tap(line) {
                    self.log.add(raw);
                }
            } else {
                self.log.add(raw);
            }
        });
        self.out = lines;
    }

    /// Takes standard error: it is kept, and holds no results.
    pub fn take_err(&mut self, bytes: &[u8]) {
        if let Some(heard) = &mut self.heard {
            Heard::add(&mut heard.err, bytes);
        }
        self.log.add(bytes);
    }

    fn take_line(&mut self, line: &str, now: i64) {
        let Some(points) = &mut self.points else { return };
        if line.starts_with("TAP version") || line.starts_with("1..") {
            self.progress.alive(now);
        }
        for tap in points.line(line) {
            self.take_tap(tap, now);
        }
    }

    pub fn take_tap(&mut self, tap: Tap, now: i64) {
        match tap {
            Tap::Point { description, reported, .. } if self.files.is_some() => {
                self.take_case(&description, reported, now);
            }
            Tap::Unkept(why) if self.files.is_some() => self.file_wrong(why),
            Tap::Nothing(why) => {
                if let Some(files) = self.files.as_mut().filter(|f| f.one()) {
                    files.own(0, Reported { message: why, ..Reported::plain(Ended::Skipped) });
                }
            }
            Tap::Point { number, description, reported } => {
                self.take_result(&description, number as usize, reported, now)
            }
            Tap::BailOut(why) => self.bailed = Some(why),
            Tap::Broken(why) => {
                self.found.push(Step::Remark(why.clone()));
                self.broken = Some(why);
            }
            // With a test that was never told of, that test shows it; else nothing would.
            Tap::Unkept(why) if self.progress.complete() => self.found.push(Step::Wrong(why)),
            Tap::Unkept(why) => {
                self.found.push(Step::Remark(why.clone()));
                self.broken = Some(why);
            }
        }
    }

    /// Takes a case of a file, by its name within the process: `FILE/TITLE`, or the title alone where the process has one file.
    pub fn take_case(&mut self, name: &str, reported: Reported, now: i64) {
        let Some(files) = &mut self.files else { return };
        match files.place(name) {
            Some((position, title)) if title.is_empty() => files.own(position, reported),
            Some((position, title)) => {
                let printed = match reported.ended.failing() {
                    true => own_words(&self.log.since(self.told_at, MOST_PRINTED).2),
                    false => String::new(),
                };
                self.told_at = self.log.total();
                if files.take(position, &title, reported, now, &printed) && self.progress.runs_too(position, now) {
                    self.found.push(Step::Began(position, now));
                }
            }
            None => self.found.extend(self.progress.stray(name, &reported).map(Step::from)),
        }
    }

    /// Something is wrong with the file of the process, or with one of them.
    pub fn file_wrong(&mut self, why: String) {
        if let Some(Err(why)) = self.files.as_mut().map(|files| files.wrong(why)) {
            self.found.push(Step::Wrong(why));
        }
    }

    /// The process has ended: what is to be said of each file, or of tests that have no result.
    pub fn end(&mut self, how: &EndOfProcess<'_>) {
        let ended = match &mut self.files {
            Some(files) => {
                files.end_begun(how);
                self.found.extend(files.beyond().map(Step::Remark));
                files.ended(how)
            }
            None => {
                if matches!(how.end, ProcessEnd::Well) {
                    self.found.extend(self.progress.unsure().map(Step::Remark));
                }
                self.progress.process_ended(how.end, how.now, how.last_words)
            }
        };
        for finished in ended {
            let log = self.log.take();
            self.found.push(Step::Finished(finished, log));
        }
    }

    pub fn take_result(&mut self, name: &str, number: usize, reported: Reported, now: i64) {
        match self.progress.result(name, number, reported, now) {
            Ok((finished, next)) => {
                let log = self.log.take();
                self.found.push(Step::Finished(finished, log));
                self.found.extend(next.map(|position| Step::Began(position, now)));
            }
            Err(aside) => self.found.extend(aside.map(Step::from)),
        }
    }

    /// Why the end of a process that ended by itself fails the run: all its results were there, and none of them explains
    /// it. A failing test explains a status, but no signal.
    pub fn bad_end(&self, status: Option<&Exit>, counts: bool, last_words: &str) -> Option<String> {
        if !self.progress.complete() {
            return None;
        }
        if let Some(why) = &self.bailed {
            return Some(format!("a process bailed out after its last test: {why}"));
        }
        let explained = status.is_some_and(|s| !s.killed()) && self.progress.any_failing();
        if !counts || explained || status.is_some_and(|s| s.success()) {
            return None;
        }
        let how = exit::said(status);
        let words = if last_words.is_empty() { String::new() } else { format!(": {}", shorten(last_words, 400)) };
        let results = if self.progress.any_failing() { "all its results" } else { "only good results" };
        Some(format!("a process ended with {how} after {results}{words}"))
    }

    /// Takes event lines; tells the files that they name.
    pub fn take_events(&mut self, bytes: &[u8], now: i64) -> Vec<(usize, String, String)> {
        match &self.mask {
            None => self.take_told(bytes, now),
            Some(mask) => {
                let bytes = self.masked.take(mask, bytes);
                self.take_told(&bytes, now)
            }
        }
    }

    fn take_told(&mut self, bytes: &[u8], now: i64) -> Vec<(usize, String, String)> {
        if let Some(heard) = &mut self.heard {
            Heard::add(&mut heard.events, bytes);
        }
        let mut whole = Vec::new();
        self.events.take(bytes, |line, raw| {
            if raw.ends_with(b"\n") && !line.trim().is_empty() {
                whole.push(line.to_owned());
            }
        });
        let mut named = Vec::new();
        for line in whole {
            match read_line(&line) {
                Ok(event) if self.files.is_some() => self.event_of_file(event, now, &mut named),
                Ok(event) => self.event_of_test(event, now, &mut named),
                Err(broken) => {
                    self.broken = Some(broken.why.clone());
                    // Where tests are named, one whose result is of another kind lacks it; cases are known by their results alone.
                    let may_be_result = match broken.meant {
                        Meant::Result => true,
                        Meant::Unknown => self.files.is_some(),
                        Meant::NoResult => false,
                    };
                    if may_be_result && self.unread.len() < MOST_UNREAD {
                        self.unread.push(broken.why);
                    } else {
                        self.found.push(Step::Remark(broken.why));
                    }
                }
            }
        }
        named
    }

    /// The process has ended: what could not be read may have been a failure. A test that lacks a result shows it, and one that was ended
    /// in the middle of a line could not help it; else nothing would.
    pub fn tell_unread(&mut self, by_itself: bool) {
        for why in std::mem::take(&mut self.unread) {
            match self.files {
                Some(_) if by_itself => self.file_wrong(why),
                None if by_itself && self.progress.complete() => self.found.push(Step::Wrong(why)),
                _ => self.found.push(Step::Remark(why)),
            }
        }
    }

    fn event_of_file(
        &mut self,
        EventLine { test, event }: EventLine,
        now: i64,
        named: &mut Vec<(usize, String, String)>,
    ) {
        let Some(files) = &mut self.files else { return };
        match (event, files.place(&test)) {
            (Event::End(reported), _) => self.take_case(&test, reported, now),
            (Event::Start, Some((position, title))) if !title.is_empty() => files.begin(position, &title, now),
            (Event::Start, Some(_)) => {}
            (Event::Step(step), Some((position, title))) => files.step(position, &title, step, now),
            (Event::File { path, about }, Some((position, _))) => named.push((position, path, about)),
            (Event::Measure(sample), Some(_)) => self.measure(&sample, now),
            (Event::Covers(of), Some((position, _))) => self.covers.push((position, of)),
            (_, None) => {
                let remark = self.progress.stray(&test, &Reported::plain(Ended::Passed));
                self.found.extend(remark.map(Step::from));
            }
        }
    }

    fn event_of_test(
        &mut self,
        EventLine { test, event }: EventLine,
        now: i64,
        named: &mut Vec<(usize, String, String)>,
    ) {
        let remark = match event {
            Event::Start => match self.progress.start(&test, now) {
                Ok(position) => {
                    self.found.extend(position.map(|p| Step::Began(p, now)));
                    None
                }
                Err(remark) => remark,
            },
            Event::Step(step) => self.progress.step(&test, step).err().flatten(),
            Event::File { path, about } => match self.progress.find(&test, "a file") {
                Ok(position) => {
                    named.push((position, path, about));
                    None
                }
                Err(remark) => remark,
            },
            Event::End(reported) => {
                self.take_result(&test, 0, reported, now);
                None
            }
            Event::Covers(of) => match self.progress.find(&test, "what it covers") {
                Ok(position) => {
                    self.covers.push((position, of));
                    None
                }
                Err(remark) => remark,
            },
            Event::Measure(sample) => match self.progress.find(&test, "a measure") {
                Ok(_) => {
                    self.measure(&sample, now);
                    None
                }
                Err(remark) => remark,
            },
        };
        self.found.extend(remark.map(Step::Remark));
    }

    /// A process of its own has ended: its status is the result.
    pub fn exit(&mut self, status: Option<&Exit>, now: i64, last_words: &str) {
        let how = exit::said(status);
        let (ended, message) = match status {
            Some(status) if status.success() => (Ended::Passed, String::new()),
            Some(status) if status.killed() => (Ended::Crashed, format!("ended with {how}: {last_words}")),
            _ => (
                Ended::Failed,
                if last_words.is_empty() { format!("ended with {how}") } else { format!("{last_words} ({how})") },
            ),
        };
        self.take_result("", 1, Reported { message, ..Reported::plain(ended) }, now);
    }
}

/// What a file printed that is not TAP: results and the comments on them are told already.
fn own_words(printed: &str) -> String {
    let own = printed.lines().filter(|line| !is_tap(line.trim_start()) && !line.trim_start().starts_with('#'));
    own.fold(String::new(), |all, line| all + line + "\n")
}

/// Whether a line is TAP's own, so that it need not stand in a test's log.
fn is_tap(line: &str) -> bool {
    ["ok", "not ok", "1..", "TAP version"].iter().any(|start| line.starts_with(start))
}
