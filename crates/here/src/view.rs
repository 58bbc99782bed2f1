//! A run on this machine as views show it: the same summaries, snapshots and changes as on a service's live stream.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, Utc};
use kesmo_core::{
    format::{
        junit::{ReportAttempt, ReportCase, says_of_file},
        report::{self, Format, Whole},
    },
    name::shorten,
    plan::{Plan, RunOptions, cutting::KnownCase},
    record::causes,
    run::{AttemptKept, BatchId, Engine, cases::Shown as CaseShown},
    suite::{SuiteFile, container::Image},
    time::{Span, Timestamp},
    words::{Outcome, Verdict},
};
use kesmo_wire::{
    api::{CauseOf, Entries, Entry, Failing, MeasureNow, Run, RunSummary, Slot, entry_name, report_properties},
    link::{AttemptReport, CaseReport, KeptFile},
    live::{AttemptChange, DecidedChange, Gathered, RunChange, RunSlot, RunSnapshot, letter, thin},
};

/// The worker's name.
pub const WORKER: &str = "here";

/// One attempt, as it is kept until the end.
#[derive(Debug, Clone)]
pub struct Attempt {
    pub kept: AttemptKept,
    pub message: String,
    pub detail: String,
    pub log: String,
}

/// A case that a file told of.
#[derive(Debug, Clone)]
pub struct Case {
    /// The number of the file's attempt.
    pub number: u16,
    pub parked: bool,
    pub told: CaseReport,
}

/// What has been shown of a run, and what has not.
pub(crate) struct Shown {
    suite: String,
    pub options: RunOptions,
    digest: String,
    seed: u64,
    created_at: DateTime<Utc>,
    pub finished_at: Option<DateTime<Utc>>,
    choice: String,
    listed: usize,
    variants: Vec<String>,
    strip: String,
    notes: Vec<String>,
    /// The images that it runs in.
    pub images: Vec<Image>,
    wrongs: Vec<String>,
    attempts: BTreeMap<u32, Vec<Attempt>>,
    cases: BTreeMap<u32, Vec<Case>>,
    files: Vec<(u32, Option<u32>, KeptFile)>,
    pub changed: bool,
    new: Gathered,
}

fn clock(stamp: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(stamp.0).unwrap_or_default()
}

impl Shown {
    pub fn new(file: &SuiteFile, options: &RunOptions, digest: &str, seed: u64) -> Self {
        Self {
            suite: file.suite.to_string(),
            options: options.clone(),
            digest: digest.to_owned(),
            seed,
            created_at: Utc::now(),
            finished_at: None,
            choice: String::new(),
            listed: 0,
            variants: Vec::new(),
            strip: String::new(),
            notes: Vec::new(),
            images: Vec::new(),
            wrongs: Vec::new(),
            attempts: BTreeMap::new(),
            cases: BTreeMap::new(),
            files: Vec::new(),
            changed: true,
            new: Gathered::default(),
        }
    }

    pub fn begin(&mut self, plan: &Plan) {
        self.choice = plan.choice_said(&RunOptions { seed: Some(self.seed), ..self.options.clone() });
        self.listed = plan.listed;
        self.variants = plan.variants.iter().map(ToString::to_string).collect();
    }

    pub fn note(&mut self, text: String) {
        self.new.note(text.clone());
        self.notes.push(text);
        self.changed = true;
    }

    /// Something beside the tests went wrong that fails the run.
    pub fn wrong(&mut self, text: String) {
        self.wrongs.push(text.clone());
        self.note(text);
    }

    pub fn kept(&mut self, batch: u32, entry: Option<u32>, files: Vec<KeptFile>) {
        self.files.extend(files.into_iter().map(|file| (batch, entry, file)));
    }

    /// A file told of cases.
    pub fn cases(&mut self, entry: u32, number: u16, cases: impl Iterator<Item = (CaseReport, bool)>) {
        let of = self.cases.entry(entry).or_default();
        of.extend(cases.map(|(told, parked)| Case { number, parked, told }));
    }

    /// What an attempt told of cases does not count.
    pub fn lost_cases(&mut self, entry: u32, number: u16) {
        if let Some(of) = self.cases.get_mut(&entry) {
            of.retain(|case| case.number != number);
        }
    }

    pub fn attempt(&mut self, engine: &Engine, kept: AttemptKept, report: Option<AttemptReport>, log: String) {
        let planned = &engine.plan().entries[kept.entry as usize];
        let (message, detail) = report.map(|r| (r.message, r.detail)).unwrap_or_default();
        self.new.attempt(kept.ended, kept.decided, || AttemptChange {
            index: kept.entry,
            test: planned.name.to_string(),
            variant: engine.plan().variant_of(kept.entry).to_string(),
            repeat: u32::from(planned.repeat),
            parts: planned.parts(),
            number: u32::from(kept.number),
            ended: kept.ended,
            outcome: kept.decided,
            spent_us: kept.spent.0,
            message: shorten(&message, 500),
            worker: WORKER.to_owned(),
            slot: u32::from(kept.slot),
            ended_at_us: Utc::now().timestamp_micros(),
        });
        self.strip.extend(kept.decided.map(letter));
        self.attempts.entry(kept.entry).or_default().push(Attempt { kept, message, detail, log });
    }

    pub fn decided(&mut self, engine: &Engine, index: u32, outcome: Outcome) {
        self.strip.push(letter(outcome));
        self.new.decided(outcome, || DecidedChange {
            index,
            test: engine.plan().entries[index as usize].name.to_string(),
            variant: engine.plan().variant_of(index).to_string(),
            outcome,
        });
    }

    fn summary(&self, engine: &Engine) -> RunSummary {
        let verdict = engine.verdict().map(|(v, r)| (v, r.to_owned()));
        RunSummary {
            name: format!("{}/here", self.suite),
            suite: self.suite.clone(),
            number: 0,
            phase: engine.phase(),
            verdict: verdict.as_ref().map(|v| v.0),
            reason: verdict.map(|v| v.1).unwrap_or_default(),
            waiting_for: engine.waiting_for().map(str::to_owned),
            no_worker: false,
            tally: engine.tally(),
            stats: engine.stats(),
            labels: self.options.labels.clone(),
            pool: WORKER.to_owned(),
            started_by: "you".to_owned(),
            created_at: self.created_at,
            began_at: engine.began_at().map(clock),
            finished_at: self.finished_at,
            left: engine.time_left(crate::now()),
            rate: engine.rate(crate::now()),
            strip: thin(&self.strip, 200),
            slots: engine.slots_in_use(),
            branch: None,
            commit: None,
            origin: kesmo_core::plan::brief::Origin::default(),
            place: None,
            machines: None,
            alike: kesmo_core::plan::Alike::default(),
            measures: match engine.verdict() {
                None => MeasureNow::all(engine.measured(), crate::now().0.div_euclid(1_000_000)),
                Some(_) => MeasureNow::in_all(engine.measured()),
            },
        }
    }

    fn run(&self, engine: &Engine) -> Run {
        Run {
            summary: self.summary(engine),
            bundle: self.digest.clone(),
            git: None,
            chain: Vec::new(),
            then: None,
            options: self.options.clone(),
            listed: self.listed as u32,
            choice: self.choice.clone(),
            seed: self.seed,
            variants: self.variants.clone(),
            notes: self.notes.clone(),
            images: self.images.clone(),
            reach: self.options.reach.clone(),
        }
    }

    fn slots(engine: &Engine, slots: &[Option<BatchId>]) -> Vec<RunSlot> {
        let view = |(number, batch): (usize, &Option<BatchId>)| {
            let batch = (*batch)?;
            let mut slot = Slot { number: number as u32, ..Slot::default() };
            slot.fill(engine, batch);
            Some(RunSlot { worker: WORKER.to_owned(), slot })
        };
        slots.iter().enumerate().filter_map(view).collect()
    }

    pub fn snapshot(&mut self, engine: &Engine, slots: &[Option<BatchId>]) -> RunSnapshot {
        self.changed = false;
        // What the snapshot holds is not told again.
        self.new = Gathered::default();
        let strip = thin(&self.strip, 2000);
        RunSnapshot { run: self.run(engine), slots: Self::slots(engine, slots), trouble: Vec::new(), strip }
    }

    pub fn change(&mut self, engine: &Engine, slots: &[Option<BatchId>]) -> RunChange {
        self.changed = false;
        self.new.take(self.summary(engine), Self::slots(engine, slots))
    }

    pub fn finish(mut self, engine: &Engine) -> Finished {
        // What the whole run has shown of its processes' starts tells what tests took by themselves.
        for (index, attempts) in &mut self.attempts {
            if let Some(last) = attempts.last_mut() {
                last.kept.own = engine.own_of(*index, last.kept.spent);
            }
        }
        let entry = |index: u32| {
            let planned = &engine.plan().entries[index as usize];
            let (outcome, running, attempts) = engine.entry(index);
            let history = self.attempts.get(&index).map(Vec::as_slice).unwrap_or_default();
            let told = history.iter().rev().find(|a| !a.message.is_empty());
            Entry {
                index,
                test: planned.name.to_string(),
                variant: engine.plan().variant_of(index).to_string(),
                repeat: u32::from(planned.repeat),
                parts: planned.parts(),
                outcome,
                running,
                attempts: u32::from(attempts),
                spent_us: history.last().map(|a| a.kept.spent.0),
                message: told.map(|a| a.message.clone()).unwrap_or_default(),
                worker: None,
                cases: engine.cases_of(index),
            }
        };
        let entries = (0..engine.plan().entries.len() as u32).map(entry).collect();
        let tests = self.of_tests(engine);
        Finished {
            run: self.run(engine),
            entries,
            tests,
            start_cost: engine.measured_start_cost(),
            attempts: self.attempts,
            cases: self.cases.into_iter().map(|(entry, cases)| (entry, merged(cases))).collect(),
            of_files: engine.policy().files,
            files: self.files,
            wrongs: self.wrongs,
        }
    }
}

impl Shown {
    fn of_tests(&self, engine: &Engine) -> Vec<OfTest> {
        let mut all: Vec<OfTest> = Vec::new();
        for (index, planned) in engine.plan().entries.iter().enumerate() {
            let (outcome, _, attempts) = engine.entry(index as u32);
            let Some(outcome) = outcome else { continue };
            let last = self.attempts.get(&(index as u32)).and_then(|all| all.last()).map(|a| a.kept);
            let (of_some, whole) = (planned.cases > 0 && planned.part.is_none(), attempts == 1);
            // What a test took that failed says nothing of what it usually takes, nor does what some cases of a file took.
            let telling = matches!(outcome, Outcome::Passed | Outcome::Flaky) && !of_some;
            let telling = telling && (whole || !engine.policy().rerun);
            let usual = last.map(|kept| kept.own).filter(|own| telling && own.0 > 0);
            let told = self.cases.get(&(index as u32)).map(Vec::as_slice).unwrap_or_default();
            let ran = last.is_some_and(|kept| !(kept.ended.failing() && kept.itself)) && outcome != Outcome::NotRun;
            let nameable = ran && !of_some && !told.iter().any(|case| case.told.copy);
            let cases = if nameable { merged(told.to_vec()) } else { Vec::new() };
            let known =
                |(_, case): (Outcome, Case)| KnownCase { title: case.told.title, spent: Span(case.told.spent_us) };
            let of = OfTest {
                test: planned.name.to_string(),
                variant: engine.plan().variant_of(index as u32).to_string(),
                outcome,
                usual,
                cases: cases.into_iter().map(known).collect(),
            };
            match all.last_mut().filter(|_| planned.part.is_some() && planned.repeat > 1) {
                Some(file) => file.take_part(of),
                None => all.push(of),
            }
        }
        all
    }
}

impl OfTest {
    /// Another part of its file.
    fn take_part(&mut self, part: Self) {
        self.outcome = Outcome::of_parts(Some(self.outcome), Some(part.outcome)).unwrap_or(part.outcome);
        self.usual = self.usual.zip(part.usual).map(|(one, other)| Span(one.0 + other.0));
        // A part that told of none may have ended before it told of any.
        if self.cases.is_empty() || part.cases.is_empty() {
            self.cases.clear();
        } else {
            self.cases.extend(part.cases);
        }
    }
}

/// The cases of a file with their outcomes, each as it was told last.
fn merged(cases: Vec<Case>) -> Vec<(Outcome, Case)> {
    let mut place: HashMap<String, usize> = HashMap::new();
    let mut all: Vec<(CaseShown, Case)> = Vec::new();
    for case in cases {
        let shown = CaseShown::of(case.told.ended, case.parked);
        match place.get(&case.told.title) {
            Some(at) => {
                let before = &mut all[*at];
                *before = (before.0.and(shown), case);
            }
            None => {
                place.insert(case.told.title.clone(), all.len());
                all.push((shown, case));
            }
        }
    }
    all.into_iter().map(|(shown, case)| (shown.outcome(), case)).collect()
}

/// What a run says of a test or a file; the parts of a file that was cut say it together.
#[derive(Debug, Clone)]
pub struct OfTest {
    pub test: String,
    pub variant: String,
    pub outcome: Outcome,
    /// What it usually takes, as far as this run says something of that.
    pub usual: Option<Span>,
    /// The cases of a file that told of all of them, in the order in which it told; none where one has no name of its own.
    pub cases: Vec<KnownCase>,
}

/// A run that is over.
pub struct Finished {
    pub run: Run,
    pub entries: Vec<Entry>,
    /// What it says of its tests.
    pub tests: Vec<OfTest>,
    /// By entry, in order.
    pub attempts: BTreeMap<u32, Vec<Attempt>>,
    /// By the entry of their file, each with its outcome and what was told of it last, in the order in which they were told.
    pub cases: BTreeMap<u32, Vec<(Outcome, Case)>>,
    /// The entries are files.
    pub of_files: bool,
    /// Batch, entry and file of what was left behind.
    pub files: Vec<(u32, Option<u32>, KeptFile)>,
    pub start_cost: Option<Span>,
    /// What went wrong beside the tests and failed the run.
    pub wrongs: Vec<String>,
}

impl Finished {
    #[must_use]
    pub fn verdict(&self) -> Verdict {
        self.run.summary.verdict.unwrap_or(Verdict::Void)
    }

    /// Entries with that outcome, at most `most` of them.
    #[must_use]
    pub fn with_outcome(&self, outcome: Outcome, most: usize) -> Entries {
        let of: Vec<&Entry> = self.entries.iter().filter(|e| e.outcome == Some(outcome)).collect();
        Entries { total: of.len() as u32, entries: of.into_iter().take(most).cloned().collect() }
    }

    /// The entries that took longest.
    #[must_use]
    pub fn slowest(&self, most: usize) -> Entries {
        let mut all = self.entries.clone();
        all.sort_by_key(|e| std::cmp::Reverse(e.spent_us));
        all.truncate(most);
        Entries { total: self.entries.len() as u32, entries: all }
    }

    /// Failures gathered by cause.
    #[must_use]
    pub fn causes(&self) -> Vec<CauseOf> {
        let failed = |index: u32| {
            let of = self.cases.get(&index).into_iter().flatten();
            of.filter(|(outcome, _)| *outcome == Outcome::Failed)
        };
        let first = self.attempts.iter().filter_map(|(index, history)| {
            let failing = history.iter().find(|a| a.kept.ended.failing())?;
            let itself = failed(*index).next().is_none();
            itself.then(|| (Failing { entry: *index, case: None }, failing.message.clone()))
        });
        let cases = self.cases.keys().flat_map(|index| {
            failed(*index).map(|(_, case)| {
                (Failing { entry: *index, case: Some(case.told.title.clone()) }, case.told.message.clone())
            })
        });
        let entry = |i: u32| &self.entries[i as usize];
        let name = |i: u32| entry(i).test.clone();
        let view = |cause| CauseOf::new(cause, name, |i| entry(i).outcome == Some(Outcome::Flaky));
        causes(first.chain(cases)).into_iter().map(view).collect()
    }

    /// The run as a report.
    #[must_use]
    pub fn report(&self, format: Format) -> String {
        let names: Vec<String> = self.entries.iter().map(|e| entry_name(&e.test, "", e.repetition())).collect();
        let mut outputs = 0;
        let mut attempt = |a: &'_ Attempt| -> (kesmo_core::words::Ended, String, String, String) {
            let told = a.kept.ended.failing() && !a.log.is_empty() && outputs < report::MOST_OUTPUTS;
            outputs += usize::from(told);
            let output = if told { report::end_of(a.log.clone()) } else { String::new() };
            (a.kept.ended, a.message.clone(), a.detail.clone(), output)
        };
        let told: Vec<Vec<_>> = self
            .entries
            .iter()
            .map(|e| self.attempts.get(&e.index).into_iter().flatten().map(&mut attempt).collect())
            .collect();
        let case = |(i, e): (usize, &'_ Entry)| ReportCase {
            name: names[i].as_str(),
            file: if self.of_files { names[i].as_str() } else { "" },
            variant: self.entries[i].variant.as_str(),
            outcome: e.outcome.unwrap_or(Outcome::NotRun),
            spent: Span(e.spent_us.unwrap_or(0)),
            attempts: told[i]
                .iter()
                .map(|(ended, message, detail, output)| ReportAttempt {
                    ended: *ended,
                    message,
                    detail,
                    output: output.clone(),
                })
                .collect(),
            why_parked: None,
        };
        let of_files: Vec<Vec<String>> = (0..self.entries.len())
            .map(|i| {
                let cases = self.cases.get(&(i as u32)).into_iter().flatten();
                cases.map(|(_, c)| format!("{}/{}", names[i], c.told.title)).collect()
            })
            .collect();
        let mut cases: Vec<ReportCase<'_>> = Vec::new();
        for (i, entry) in self.entries.iter().enumerate() {
            let of_file = self.cases.get(&entry.index).map(Vec::as_slice).unwrap_or_default();
            cases.extend(of_file.iter().zip(&of_files[i]).map(|((outcome, c), name)| ReportCase {
                name,
                file: &names[i],
                variant: &entry.variant,
                outcome: *outcome,
                spent: Span(c.told.spent_us),
                attempts: vec![ReportAttempt {
                    ended: c.told.ended,
                    message: &c.told.message,
                    detail: &c.told.detail,
                    output: String::new(),
                }],
                why_parked: None,
            }));
            let last = told[i].last().map(|a| a.0);
            if !self.of_files || says_of_file(entry.outcome.unwrap_or(Outcome::NotRun), &entry.cases, last) {
                cases.push(case((i, entry)));
            }
        }
        let summary = &self.run.summary;
        let took = summary.finished_at.zip(summary.began_at).and_then(|(f, b)| (f - b).num_microseconds()).unwrap_or(0);
        let run = serde_json::to_value(summary).unwrap_or_default();
        let properties = report_properties(summary, &summary.measures);
        let began = summary.began_at.map(|at| at.format("%Y-%m-%dT%H:%M:%S").to_string()).unwrap_or_default();
        let whole = Whole {
            began: &began,
            properties: &properties,
            name: &summary.name,
            took: Span(took.max(0) as u64),
            verdict: summary.verdict,
            reason: &summary.reason,
            wrongs: &self.wrongs,
            flaky_fails: self.run.options.flaky_fails,
            images: &self.run.images,
        };
        report::write(format, &whole, run, &cases, &report::More::default())
    }
}
