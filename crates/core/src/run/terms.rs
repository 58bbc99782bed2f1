//! What the engine of a run takes, gives and counts.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
};

use serde::{Deserialize, Serialize};

use super::cases::{CaseTally, CaseTold};
use crate::{
    measure::{Limit, Part},
    plan::{Plan, RunOptions},
    suite::{
        SuiteFile,
        covers::Requirement,
        file::{NamesAs, Results},
    },
    time::{Span, Timestamp},
    words::{Ended, Outcome, Verdict},
};

/// After this many lost attempts in a row an entry fails, saying so.
pub const MOST_LOST_IN_A_ROW: u8 = 5;

/// After this many batches in a row without a single result, when the run has had none at all, it is void.
pub const MOST_BARREN_BATCHES: u32 = 10;

/// A worker, as numbered by whoever feeds the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct WorkerId(pub u32);

/// A batch's number within its run, from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct BatchId(pub u32);

impl fmt::Display for BatchId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0)
    }
}

/// What a run's engine is told once, besides its plan.
#[derive(Debug, Clone)]
pub struct Policy {
    pub other_worker: bool,
    pub pause: Span,
    /// In percent of the entries; retries stop when more than this share has failed.
    pub give_up_after: Option<u32>,
    pub run_limit: Span,
    /// How long to wait for a worker.
    pub patience: Span,
    /// The most batches at once.
    pub shards: Option<u32>,
    /// The most bytes of names in a batch; bounds the command line.
    pub most_name_bytes: usize,
    /// How long a batch may take.
    pub batch_limit: Span,
    /// What starting a process cost in earlier runs of the suite.
    pub start_cost: Option<Span>,
    /// A batch may be cut short after a test.
    pub give_back: bool,
    /// What the plan's entries name are files, which tell of their cases.
    pub files: bool,
    /// Some cases of a file can be run alone.
    pub rerun: bool,
    /// Processes stay, and are fed tests one by one.
    pub fed: bool,
    pub flaky_fails: bool,
    pub run_parked: bool,
    /// Limits of measures: a run that passes one fails.
    pub limits: Vec<Limit>,
    /// The run is of all tests: a limit of what nothing measured is passed, too.
    pub whole: bool,
    /// The order of tests is drawn from this seed.
    pub shuffle: Option<u64>,
    /// Every test runs on so many slots at once, as its senders: the entries of a test in a variant follow each other.
    pub senders: Option<u32>,
}

impl Policy {
    /// The policy that a suite file and a start's options give. `seed` is the run's.
    #[must_use]
    pub fn of(suite: &SuiteFile, options: &RunOptions, seed: u64, start_cost: Option<Span>) -> Self {
        Self {
            other_worker: suite.retry.other_worker,
            pause: suite.retry.pause,
            give_up_after: suite.retry.give_up_after,
            run_limit: suite.limits.run,
            patience: suite.limits.patience,
            // Batches that are to run in an order run one after the other.
            shards: if options.order.is_some() { Some(1) } else { options.shards },
            most_name_bytes: if suite.tests.names_as == NamesAs::Arguments { 1 << 20 } else { 64 << 20 },
            batch_limit: suite.limits.batch,
            start_cost,
            // Results that are read when the process ends would be lost with it.
            // Files that share a process cannot be taken from it, and nothing is left to be given back of what is fed.
            give_back: suite.tests.give_back
                && suite.tests.results != Results::Junit
                && (!suite.tests.of_files() || suite.tests.names_as == NamesAs::OneEach),
            files: suite.tests.of_files(),
            rerun: suite.tests.rerun.is_some(),
            // Each sender has a process of its own.
            fed: suite.tests.names_as == NamesAs::Fed && options.senders().is_none(),
            flaky_fails: options.flaky_fails,
            run_parked: options.run_parked,
            limits: suite.measured.clone(),
            whole: options.is_whole(),
            shuffle: options.shuffle.then_some(seed),
            senders: options.senders(),
        }
    }
}

impl Default for Policy {
    /// What a suite file that says nothing gives.
    fn default() -> Self {
        Self {
            other_worker: false,
            pause: Span::ZERO,
            give_up_after: None,
            run_limit: Span::seconds(4 * 3600),
            patience: Span::seconds(600),
            shards: None,
            most_name_bytes: 1 << 20,
            batch_limit: Span::seconds(1800),
            start_cost: None,
            give_back: true,
            files: false,
            rerun: false,
            fed: false,
            flaky_fails: false,
            run_parked: false,
            limits: Vec::new(),
            whole: false,
            shuffle: None,
            senders: None,
        }
    }
}

/// A worker that a run may use.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Fit {
    pub slots: u32,
    /// The variants that it offers everything for; `None`: all.
    pub variants: Option<BTreeSet<u16>>,
}

impl Fit {
    /// A worker for all variants.
    #[must_use]
    pub fn all(slots: u32) -> Self {
        Self { slots, variants: None }
    }

    /// Whether it may run a variant.
    #[must_use]
    pub fn takes(&self, variant: u16) -> bool {
        self.slots > 0 && self.variants.as_ref().is_none_or(|v| v.contains(&variant))
    }
}

/// Why a batch ended on its worker.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BatchEnd {
    /// Its processes ended; what they did not report goes back.
    Done,
    /// It was revoked.
    Revoked,
    /// The worker could not fetch or prepare the source, or start the command: it can do nothing for this run.
    Unfit(String),
}

/// Something that happened.
#[derive(Debug, Clone)]
pub enum Input {
    /// The tests are known.
    Planned(Plan),
    /// Listing failed, or the run cannot be carried out for another reason.
    Void(String),
    /// The workers that offer what this run needs; with a sentence for people where there are none, and one for each
    /// variant that none of them may run.
    Fleet { workers: BTreeMap<WorkerId, Fit>, none_because: String, none_for: BTreeMap<u16, String> },
    /// A slot has nothing to do.
    Free { worker: WorkerId, slot: u16 },
    /// So many slots that this run may use stay idle.
    Idle { slots: u32 },
    /// Runs that have less than their due want so many of this run's slots.
    Wanted { slots: u32 },
    /// This batch is to give back what it has not begun: its slot is not to be filled any longer.
    Overloaded { batch: BatchId },
    /// A batch gives these entries back; it has not begun them and will not.
    GaveBack { batch: BatchId, entries: Vec<u32> },
    /// An attempt began.
    Began { batch: BatchId, entry: u32 },
    /// A file told of cases as it runs; `first` is the place of the first of them among all of this attempt.
    Cases { batch: BatchId, entry: u32, first: u32, cases: Vec<CaseTold> },
    /// A batch measured something in some second.
    Measured { batch: BatchId, part: Part },
    /// A test told which requirements it covers.
    Covers { batch: BatchId, entry: u32, of: Vec<Requirement> },
    /// An attempt ended; `spent` is what it took. Of a file, `ended` is how the file itself ended, whatever its cases did,
    /// and `cases` how many it told of. With `with_start` what it took holds the start of its
    /// process, which until then had made that of the machine's cores.
    Ended { batch: BatchId, entry: u32, ended: Ended, spent: Span, cases: u32, with_start: Option<Cores> },
    /// A sender has what it needs, and waits for the others; it may be said again.
    AtGate { batch: BatchId },
    /// A sender was let through before this engine was built.
    WasThrough { batch: BatchId },
    /// Something beside the tests' own results went wrong in a batch: its process ended badly after good results, a result
    /// came that cannot be true, or fewer than were promised. The run fails by it.
    Wrong { batch: BatchId, why: String },
    /// A batch ended.
    BatchEnded { batch: BatchId, end: BatchEnd },
    /// A worker's link came up; it still holds these batches. Batches of that worker that it does not hold are lost.
    WorkerBack { worker: WorkerId, holds: BTreeSet<BatchId> },
    /// A worker's link was silent for too long: all its batches are lost.
    WorkerLost { worker: WorkerId },
    /// A person or a rule ends the run.
    Stop { reason: String },
    /// The time asked for by [`Engine::wake_at`] has come.
    Tick,
}

/// Something to do.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// Keep the batch, then hand it to the slot.
    Grant(Grant),
    /// Tell the worker to end the batch.
    Revoke { worker: WorkerId, batch: BatchId },
    /// The batch gave entries back: keep that it has only these.
    GaveBack { batch: BatchId, left: Vec<u32> },
    /// Keep that a batch has these entries too, then hand them to its process; with `last` nothing more will come. Entries that
    /// it was given before are not given twice.
    Feed { worker: WorkerId, batch: BatchId, entries: Vec<u32>, last: bool },
    /// Let a sender through: it begins now, with all others.
    Begin { worker: WorkerId, batch: BatchId },
    /// Ask the worker to give back what this batch has not begun: from this entry on, in the order of the batch, or all.
    GiveBack { worker: WorkerId, batch: BatchId, from: Option<u32> },
    /// An entry began to run (a change for watchers; nothing to keep).
    Began { entry: u32, batch: BatchId },
    /// Keep an attempt.
    Attempt(AttemptKept),
    /// Keep cases that a file told of: all but the first `skip` of those that came, with the outcomes they have so far; or
    /// without, if those come when the attempt has ended.
    Cases { entry: u32, number: u16, first: u32, skip: u32, outcomes: Vec<(bool, Option<Outcome>)> },
    /// Keep what a batch measured in some second.
    Measured { batch: BatchId, part: Part },
    /// Keep that a test told that it covers these; it may be told again.
    Covers { entry: u32, of: Vec<Requirement> },
    /// Set the outcomes of a file's cases by what all its attempts together have shown ([`Shown`]).
    ///
    /// [`Shown`]: super::cases::Shown
    CasesSettled { entry: u32 },
    /// What an attempt told of cases does not count: it was lost.
    CasesLost { entry: u32, number: u16 },
    /// An entry got its outcome without a new attempt; `number` is its last attempt, 0 if it had none.
    Decided { entry: u32, number: u16, outcome: Outcome },
    /// An entry goes back to waiting, uncharged.
    WentBack { entry: u32 },
    /// A batch is over.
    BatchOver { batch: BatchId },
    /// A remark on the run, for people.
    Note(String),
    /// Something beside the tests went wrong that fails the run; to be kept, and given to [`Engine::with_wrongs`] when the
    /// engine is built again.
    Wrong(String),
    /// The tests of these variants could not be listed in time, with the reasons: the run is to be planned without them, and
    /// the reasons given to [`Plan::unlisted`]; where nothing else is known, it is to be ended with [`Input::Void`].
    Unlisted(BTreeMap<u16, String>),
    /// The run waits for this, or no longer waits.
    Waiting(Option<String>),
    /// The run is over.
    Verdict { verdict: Verdict, reason: String },
}

/// What an attempt of a file is to run, and what of it counts. By default all of it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct ToRun {
    /// Only these cases, of which all are to be told of.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cases: Vec<String>,
    /// All but the cases set aside, of which `cases` are known.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub rest: bool,
    /// Cases that other parts of the file run: they do not count here.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub aside: Vec<String>,
    /// No others count here, where there are any, but those that fail where only some run, and that are none of another part.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
}

/// A batch that was granted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    pub batch: BatchId,
    pub worker: WorkerId,
    pub slot: u16,
    /// In the order in which they run.
    pub entries: Vec<u32>,
    /// The number of the attempt, when the batch is one entry.
    pub attempt: Option<u16>,
    /// What is to run of the one file of the batch.
    pub to_run: ToRun,
    /// More entries may come while its process runs ([`Effect::Feed`]).
    pub more: bool,
    /// It is one of so many senders, and does not begin before it is let through ([`Effect::Begin`]).
    pub senders: Option<u32>,
}

/// An attempt as it is kept.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AttemptKept {
    pub entry: u32,
    /// From 1, lost ones included.
    pub number: u16,
    pub batch: BatchId,
    pub worker: WorkerId,
    pub slot: u16,
    pub ended: Ended,
    pub spent: Span,
    /// What it took without the start of its process, as far as that can be told.
    pub own: Span,
    /// The entry's outcome, where this attempt decided it.
    pub decided: Option<Outcome>,
    /// It ended so by itself. Of a file that only its cases fail it is not: then they are all that has to run again.
    pub itself: bool,
}

/// What a process made of the machine's cores: how long it ran on one, and how long it waited for one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Cores {
    pub ran: Span,
    pub waited: Span,
}

/// How many entries are in each state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tally {
    pub waiting: u32,
    pub running: u32,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub parked: u32,
    #[serde(rename = "not-run")]
    pub not_run: u32,
    /// Of the entries' own cases, where they are files.
    #[serde(default, skip_serializing_if = "CaseTally::is_empty")]
    pub cases: CaseTally,
}

impl Tally {
    /// All entries.
    #[must_use]
    pub fn total(&self) -> u32 {
        self.waiting + self.running + self.done()
    }

    /// Entries that have an outcome.
    #[must_use]
    pub fn done(&self) -> u32 {
        Outcome::ALL.iter().map(|o| self.of(*o)).sum()
    }

    /// Entries with that outcome.
    #[must_use]
    pub fn of(&self, outcome: Outcome) -> u32 {
        match outcome {
            Outcome::Passed => self.passed,
            Outcome::Flaky => self.flaky,
            Outcome::Failed => self.failed,
            Outcome::Skipped => self.skipped,
            Outcome::Parked => self.parked,
            Outcome::NotRun => self.not_run,
        }
    }

    /// Counts one more entry with that outcome.
    pub fn count(&mut self, outcome: Outcome) {
        *self.field(outcome) += 1;
    }

    /// Counts one less.
    pub(super) fn uncount(&mut self, outcome: Outcome) {
        *self.field(outcome) -= 1;
    }

    fn field(&mut self, outcome: Outcome) -> &mut u32 {
        match outcome {
            Outcome::Passed => &mut self.passed,
            Outcome::Flaky => &mut self.flaky,
            Outcome::Failed => &mut self.failed,
            Outcome::Skipped => &mut self.skipped,
            Outcome::Parked => &mut self.parked,
            Outcome::NotRun => &mut self.not_run,
        }
    }
}

/// What attempts took so far. Times are in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AttemptStats {
    /// Attempts that ended, lost ones left out.
    pub ended: u32,
    pub failing: u32,
    pub total_us: u64,
    pub shortest_us: u64,
    pub longest_us: u64,
    /// Half of them took at most this, and 95 of 100 at most that; off by at most 2.2 %.
    #[serde(default)]
    pub median_us: u64,
    #[serde(default)]
    pub p95_us: u64,
}

impl AttemptStats {
    pub(crate) fn add(&mut self, ended: Ended, spent: Span) {
        self.shortest_us = if self.ended == 0 { spent.0 } else { self.shortest_us.min(spent.0) };
        self.longest_us = self.longest_us.max(spent.0);
        self.ended += 1;
        self.failing += u32::from(ended.failing());
        self.total_us += spent.0;
    }

    /// The mean, zero before the first attempt.
    #[must_use]
    pub fn mean(&self) -> Span {
        Span(self.total_us.checked_div(u64::from(self.ended)).unwrap_or(0))
    }
}

/// An attempt of a run that is built again from its rows.
#[derive(Debug, Clone, Copy)]
pub struct PastAttempt {
    pub entry: u32,
    pub number: u16,
    pub batch: BatchId,
    pub worker: WorkerId,
    pub ended: Ended,
    pub spent: Span,
    pub decided: Option<Outcome>,
}

/// A batch of a run that is built again from its rows.
#[derive(Debug, Clone)]
pub struct PastBatch {
    pub batch: BatchId,
    pub worker: WorkerId,
    pub slot: u16,
    pub entries: Vec<u32>,
    pub granted_at: Timestamp,
    /// Whether its end has not been kept yet.
    pub open: bool,
}
