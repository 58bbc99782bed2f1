//! The state machine itself. See the folder's first lines for what it promises.

mod estimates;
mod feeding;
mod files;
mod giving;
pub(super) mod preparing;
mod senders;
mod starting;

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use super::{
    cases::{CaseTally, FileCases},
    figures::{Figures, Part, Parts, Rate},
    fleet::Fleet,
    ready::{Class, Ready, Retry, Unit},
    terms::{
        AttemptKept, AttemptStats, BatchEnd, BatchId, Cores, Effect, Grant, Input, MOST_BARREN_BATCHES,
        MOST_LOST_IN_A_ROW, PastAttempt, PastBatch, Policy, Tally, ToRun, WorkerId,
    },
    together::{Gate, Together},
};
use crate::{
    measure::{self, Gathered, Taken, left_out_said},
    plan::{Plan, batch},
    suite::covers::{MOST_OF_A_SUITE, Requirement},
    time::{Span, Timestamp},
    words::{Ended, Outcome, Phase, Verdict},
};

/// Expected for a test of which nothing is known, before anything was measured in this run.
const UNKNOWN: Span = Span::seconds(1);

/// So many ended tests say how long tests of unknown length take.
const KNOWN_FROM: u32 = 3;

/// What starting a process is taken to cost before it was measured.
const UNKNOWN_START: Span = Span::millis(50);

/// Starts of processes that are remembered.
const MOST_STARTS: usize = 15;
/// Grants whose times are remembered, to tell which processes started together.
const MOST_GRANTED: usize = 1000;

/// What the way to a process and back is taken to be before it was measured.
const FIRST_ROUND_TRIP: Span = Span::millis(3);

/// No way there and back is taken to be longer.
const MOST_ROUND_TRIP: Span = Span::millis(200);

/// The most tests that a process is fed before it needs them.
const MOST_AHEAD: u64 = 200;

/// The most entries of a batch.
const MOST_ENTRIES: usize = 5000;
/// Durations are known well where they differ from what is expected by less than this, as a part of the mean.
const KNOWN_WELL: f64 = 0.25;

/// What went wrong beside the tests is told singly so often; more is counted.
const MOST_WRONGS: usize = 20;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Waiting,
    Held { batch: BatchId, began: Option<Timestamp> },
    Done(Outcome),
}

/// One entry as it runs. Kept small: a run may have hundreds of thousands.
#[derive(Debug, Clone, Copy)]
struct Entry {
    state: State,
    attempts: u16,
    failing: u8,
    lost_in_a_row: u8,
    failed_on: Option<WorkerId>,
    /// What its last failing attempt took, in milliseconds.
    failing_ms: u32,
}

#[derive(Debug)]
struct Batch {
    worker: WorkerId,
    slot: u16,
    entries: Vec<u32>,
    /// Its entries that hold claims, each with its set.
    claims: Vec<(u32, u32)>,
    groups: Vec<u32>,
    /// Whether any attempt of it was reported, besides crashed and lost ones.
    fruitful: bool,
    /// When it was granted, if this engine did it, and what its attempts took so far.
    granted_at: Option<Timestamp>,
    spent: u64,
    /// What starting its process cost can be told from its times: nothing else held it up.
    telling: bool,
    took: Took,
    /// Its process is fed as long as there is something for it.
    stream: Option<Stream>,
}

/// What the attempts of a batch took, as far as it tells what its process's start cost.
#[derive(Debug, Clone, Default)]
struct Took {
    /// The entry whose time holds the start, with that time in microseconds.
    first: Option<(u32, u64)>,
    /// What the process made of the machine's cores until then.
    cores: Cores,
    /// The others: how many, what they took, and of those of known length what they took and were expected to take.
    others: u32,
    spent: u64,
    spent_known: u64,
    expected_known: u64,
    /// Something in it did not take its own time: it waited for a limit, or ended with its process.
    odd: bool,
}

/// What starting processes cost, in microseconds; without what they waited for a core; and the share of each in what it and those
/// that started with it made each other wait. Each in order.
#[derive(Debug, Clone, Default)]
struct Starts {
    costs: Vec<u64>,
    alone: Vec<u64>,
    shares: Vec<u64>,
}

/// What tests took by themselves.
#[derive(Debug, Clone, Copy, Default)]
struct OwnTimes {
    ended: u32,
    sum: u64,
}

/// A process that stays.
#[derive(Debug, Clone, Copy, Default)]
struct Stream {
    /// What it was fed and has not told of.
    open: u32,
    /// Nothing more will come.
    closed: bool,
    /// When it was fed something while it had nothing.
    hungry_fed_at: Option<Timestamp>,
}

/// How a file or test stands after an attempt.
#[derive(Clone, Copy)]
enum Stands {
    Well(Outcome),
    /// It failed, and may be tried again.
    Failing,
    Lost,
}

/// A round of batches: see [`batch`].
#[derive(Debug, Clone, Copy, Default)]
struct Round {
    draws_left: u32,
    /// Work that the round leaves to later ones.
    reserve: u64,
}

/// What a batch was asked to give back.
#[derive(Debug, Clone, Copy)]
struct AskedBack {
    /// From this entry on; all without.
    from: Option<u32>,
    at: Timestamp,
}

/// One run. See [`super`] for its promises.
#[derive(Debug)]
pub struct Engine {
    policy: Policy,
    plan: Plan,
    phase: Phase,
    entries: Vec<Entry>,
    batches: BTreeMap<BatchId, Batch>,
    /// Those of them that were asked to give back what they have not begun, or are fed nothing more.
    given_up: BTreeSet<BatchId>,
    /// Those that were asked for some of what they have not begun or for all, and have not answered.
    asked_back: BTreeMap<BatchId, AskedBack>,
    next_batch: u32,
    ready: Ready,
    fleet: Fleet,
    none_because: String,
    none_for: BTreeMap<u16, String>,
    held_claims: BTreeSet<String>,
    /// The claims that other runs hold, with the names of those runs.
    taken: BTreeMap<String, String>,
    busy_groups: BTreeSet<u32>,
    tally: Tally,
    figures: Figures,
    parts: Parts,
    rate: Rate,
    /// Entries of which an attempt failed.
    stumbled: u32,
    gave_up: bool,
    barren: u32,
    any_result: bool,
    /// Known work that waits, and the number of waiting entries of unknown length.
    left_known: u64,
    left_unknown: u32,
    /// Squares of the spreads of known work that waits, in seconds, summed; and those of what attempts took.
    left_variance: f64,
    squares: f64,
    /// What tests took by themselves: how many, and the sum in microseconds.
    own: OwnTimes,
    round: Round,
    /// Slots that are its due beside other runs; none: it shares them with nobody.
    due: Option<u32>,
    /// What starting processes cost of late, in microseconds; and workers that have prepared the suite's files.
    starts: VecDeque<u64>,
    /// All that were measured; and when the latest batches were granted.
    all_starts: Starts,
    /// Entries whose last attempt's time holds the start of its process, and what that made of the cores.
    with_start: BTreeMap<u32, Cores>,
    granted: VecDeque<Timestamp>,
    prepared: BTreeSet<WorkerId>,
    /// What passed attempts of known length took, and what they were expected to take, in microseconds.
    took_known: u64,
    expected_known: u64,
    /// Squares of the spreads of those, in seconds, summed.
    variance_known: f64,
    began_at: Option<Timestamp>,
    waiting_since: Option<Timestamp>,
    waiting_said: Option<String>,
    /// Variants that no worker may run, since when; and why entries were not run in the end.
    stranded: BTreeMap<u16, Timestamp>,
    left_behind: Vec<String>,
    /// The claim that other runs hold and that keeps all that waits from running, in words.
    blocked: Option<String>,
    /// What went wrong beside the tests and fails the run, and how often something did.
    wrongs: Vec<String>,
    wrong: u32,
    finished: Option<(Verdict, String)>,
    /// What it takes from feeding a process that has nothing to do until it begins, the mean of late.
    round_trip: Span,
    /// The cases of files that have no outcome yet; how those of each file stand; and all together.
    cases: BTreeMap<u32, FileCases>,
    cases_of: Vec<CaseTally>,
    case_tally: CaseTally,
    /// What its slots measured.
    measured: Gathered,
    /// How often its tests told that they cover a requirement, and whether that was too often.
    covered: usize,
    covered_all: bool,
    /// Its tests run on several slots at once.
    together: Option<Together>,
    /// The first entry of each file that is cut, and how many parts it has.
    cut: Vec<(u32, u32)>,
}

/// Whether neither this run nor another holds any of these claims.
fn are_free(claims: &[String], held: &BTreeSet<String>, taken: &BTreeMap<String, String>) -> bool {
    claims.iter().all(|claim| !held.contains(claim) && !taken.contains_key(claim))
}

impl Engine {
    /// An engine that waits for its plan.
    #[must_use]
    pub fn new(policy: Policy) -> Self {
        Self {
            policy,
            plan: Plan::default(),
            phase: Phase::Listing,
            entries: Vec::new(),
            batches: BTreeMap::new(),
            given_up: BTreeSet::new(),
            asked_back: BTreeMap::new(),
            next_batch: 1,
            ready: Ready::default(),
            fleet: Fleet::default(),
            none_because: "waiting for a worker".into(),
            none_for: BTreeMap::new(),
            held_claims: BTreeSet::new(),
            taken: BTreeMap::new(),
            busy_groups: BTreeSet::new(),
            tally: Tally::default(),
            figures: Figures::default(),
            parts: Parts::default(),
            rate: Rate::default(),
            stumbled: 0,
            gave_up: false,
            barren: 0,
            any_result: false,
            left_known: 0,
            left_unknown: 0,
            left_variance: 0.0,
            squares: 0.0,
            own: OwnTimes::default(),
            round: Round::default(),
            due: None,
            starts: VecDeque::new(),
            all_starts: Starts::default(),
            with_start: BTreeMap::new(),
            granted: VecDeque::new(),
            prepared: BTreeSet::new(),
            took_known: 0,
            expected_known: 0,
            variance_known: 0.0,
            began_at: None,
            waiting_since: None,
            waiting_said: None,
            stranded: BTreeMap::new(),
            left_behind: Vec::new(),
            blocked: None,
            wrongs: Vec::new(),
            wrong: 0,
            finished: None,
            round_trip: FIRST_ROUND_TRIP,
            cases: BTreeMap::new(),
            cases_of: Vec::new(),
            case_tally: CaseTally::default(),
            measured: Gathered::default(),
            covered: 0,
            covered_all: false,
            together: None,
            cut: Vec::new(),
        }
    }

    /// What it was told besides its plan.
    #[must_use]
    pub fn policy(&self) -> &Policy {
        &self.policy
    }

    /// Builds the engine of a running run again from what was kept. Its open batches are held to be with their workers
    /// until those come back ([`Input::WorkerBack`]) or are lost ([`Input::WorkerLost`]).
    ///
    /// # Errors
    /// In words, if what was kept does not fit the plan.
    pub fn restore(
        policy: Policy,
        plan: Plan,
        began_at: Timestamp,
        attempts: &[PastAttempt],
        batches: &[PastBatch],
    ) -> Result<Self, String> {
        let known = plan.entries.len();
        let kept = attempts.iter().map(|a| a.entry).chain(batches.iter().flat_map(|b| b.entries.iter().copied()));
        if let Some(stray) = kept.into_iter().find(|entry| *entry as usize >= known) {
            return Err(format!("what is kept of it names entry {stray}, and its plan has {known}"));
        }
        let mut engine = Self::new(policy);
        engine.adopt(plan);
        engine.phase = Phase::Running;
        engine.began_at = Some(began_at);
        let mut in_order = attempts.to_vec();
        in_order.sort_by_key(|a| (a.entry, a.number));
        let mut done_in: BTreeSet<(BatchId, u32)> = BTreeSet::new();
        for index in engine.set_aside() {
            engine.entries[index as usize].state = State::Done(Outcome::Parked);
        }
        for past in &in_order {
            done_in.insert((past.batch, past.entry));
            let counts = engine.plan.entries[past.entry as usize].parked.is_none();
            if past.ended != Ended::Lost && counts {
                engine.measure(past.entry, past.ended, past.spent, Some(past.spent));
                engine.any_result |= past.ended != Ended::Crashed;
            }
            let entry = &mut engine.entries[past.entry as usize];
            entry.attempts = entry.attempts.max(past.number);
            engine.stumbled += u32::from(past.ended.failing() && entry.failing == 0 && counts);
            entry.note(past.ended, past.worker, past.spent);
            if let Some(outcome) = past.decided {
                entry.state = State::Done(outcome);
            }
        }
        for past in batches {
            engine.next_batch = engine.next_batch.max(past.batch.0 + 1);
            if !past.open {
                continue;
            }
            for index in &past.entries {
                let entry = &mut engine.entries[*index as usize];
                if entry.state == State::Waiting && !done_in.contains(&(past.batch, *index)) {
                    entry.state = State::Held { batch: past.batch, began: None };
                }
            }
            engine.hold(past.batch, past.worker, past.slot, past.entries.clone(), None);
            // Its worker says it when it comes back.
            if let Some(together) = &mut engine.together {
                together.set(past.batch, Gate::Unsaid);
            }
        }
        engine.take_up_streams(attempts, batches);
        engine.gave_up = engine.should_give_up();
        let waiting: Vec<u32> = engine.indexes_where(|e| e.state == State::Waiting);
        engine.tally = Tally::default();
        for entry in &engine.entries {
            match entry.state {
                State::Done(outcome) => engine.tally.count(outcome),
                State::Waiting | State::Held { .. } => engine.tally.waiting += 1,
            }
        }
        engine.recount_left();
        engine.queue(&waiting, began_at);
        Ok(engine)
    }

    /// Takes up what went wrong beside the tests before the engine was built again ([`Effect::Wrong`]).
    #[must_use]
    pub fn with_wrongs(mut self, wrongs: Vec<String>) -> Self {
        self.wrong = wrongs.len() as u32;
        self.wrongs = wrongs;
        self.wrongs.truncate(MOST_WRONGS);
        self
    }

    /// Takes up what was measured before the engine was built again ([`Effect::Measured`]).
    #[must_use]
    pub fn with_measured(mut self, measured: Gathered) -> Self {
        self.measured = measured;
        self
    }

    /// What its slots measured.
    #[must_use]
    pub fn measured(&self) -> &Gathered {
        &self.measured
    }

    /// What went wrong beside the tests and fails the run, the first of it.
    #[must_use]
    pub fn wrongs(&self) -> &[String] {
        &self.wrongs
    }

    /// The worker that holds a batch: only it may speak of the batch.
    #[must_use]
    pub fn holder(&self, batch: BatchId) -> Option<WorkerId> {
        self.batches.get(&batch).map(|b| b.worker)
    }

    /// Whether an entry is one of a batch's.
    #[must_use]
    pub fn is_in(&self, batch: BatchId, entry: u32) -> bool {
        self.batches.get(&batch).is_some_and(|b| b.entries.contains(&entry))
    }

    /// Handles what a worker says. What it says of batches that another holds, or that nobody does, changes nothing, and it
    /// can say nothing of the run as a whole.
    pub fn hear(&mut self, worker: WorkerId, input: Input, now: Timestamp) -> Vec<Effect> {
        let batch = match &input {
            Input::Began { batch, .. }
            | Input::Ended { batch, .. }
            | Input::Cases { batch, .. }
            | Input::Measured { batch, .. }
            | Input::Covers { batch, .. }
            | Input::AtGate { batch }
            | Input::WasThrough { batch }
            | Input::GaveBack { batch, .. }
            | Input::Wrong { batch, .. }
            | Input::BatchEnded { batch, .. } => *batch,
            _ => return Vec::new(),
        };
        if self.holder(batch) == Some(worker) { self.handle(input, now) } else { Vec::new() }
    }

    /// Handles one input at the time `now`.
    pub fn handle(&mut self, input: Input, now: Timestamp) -> Vec<Effect> {
        let mut effects = Vec::new();
        if self.finished.is_some() {
            self.handle_after_end(input, &mut effects);
            return effects;
        }
        match input {
            Input::Planned(plan) => self.begin(plan, now, &mut effects),
            Input::Void(reason) => self.end(Verdict::Void, reason, &mut effects),
            Input::Fleet { workers, none_because, none_for } => {
                self.fleet.change(workers);
                self.none_because = none_because;
                self.none_for = none_for;
                self.round = Round::default();
            }
            Input::Free { worker, slot } => {
                if let Some(grant) = self.grant(worker, slot, now) {
                    effects.push(Effect::Grant(grant));
                }
            }
            Input::Idle { slots } => {
                // A run that may not use more slots has no use for idle ones.
                let more = self.policy.shards.map_or(slots, |most| most.saturating_sub(self.slots_in_use()));
                self.ask_largest_back(slots.min(more), true, now, &mut effects);
            }
            Input::Wanted { slots } if self.policy.fed => self.close_some(slots, &mut effects),
            Input::Wanted { slots } => self.ask_largest_back(slots, false, now, &mut effects),
            Input::Overloaded { batch } => self.ask_back(batch, None, now, &mut effects),
            Input::GaveBack { batch, entries } => self.gave_back(batch, &entries, now, &mut effects),
            Input::Began { batch, entry } => self.began(batch, entry, now, &mut effects),
            // A worker cannot say of itself that it went away.
            Input::Ended { ended: Ended::Lost, .. } => {}
            Input::Ended { batch, entry, ended, spent, cases, with_start } => {
                let missing = self.told(batch, entry).is_some_and(|told| told < cases);
                if missing && self.policy.files {
                    // What it told first never came here: it cannot be counted as if it had.
                    let name = &self.plan.entries[entry as usize].name;
                    self.went_wrong(
                        batch,
                        format!("some of the cases that {name} told of did not arrive"),
                        &mut effects,
                    );
                }
                self.attempt(batch, entry, ended, (spent.min(Span::LONGEST), with_start), now, &mut effects);
            }
            Input::Cases { batch, entry, first, cases } => self.take_cases(batch, entry, first, &cases, &mut effects),
            Input::Measured { batch, part } => self.take_measured(batch, part, now, &mut effects),
            Input::Covers { batch, entry, of } => self.take_covers(batch, entry, of, &mut effects),
            Input::AtGate { batch } => self.at_gate(batch, &mut effects),
            Input::WasThrough { batch } => self.was_through(batch),
            Input::Wrong { batch, why } => self.went_wrong(batch, why, &mut effects),
            Input::BatchEnded { batch, end } => self.batch_ended(batch, end, now, &mut effects),
            Input::WorkerBack { worker, holds } => {
                let gone: Vec<BatchId> = self.batches_of(worker).filter(|b| !holds.contains(b)).collect();
                self.lose(&gone, now, &mut effects);
                let unknown = holds.iter().filter(|b| !self.batches.contains_key(b));
                effects.extend(unknown.map(|batch| Effect::Revoke { worker, batch: *batch }));
                // What it was fed may not have come to it, nor what it was asked for.
                let held: Vec<BatchId> = self.batches_of(worker).collect();
                for batch in held {
                    self.feed_again(batch, &mut effects);
                    self.feed(batch, now, &mut effects);
                    self.ask_again(batch, now, &mut effects);
                }
                // What kept it from this run may have been mended since.
                self.fleet.take_back(worker);
            }
            Input::WorkerLost { worker } => {
                let gone: Vec<BatchId> = self.batches_of(worker).collect();
                self.lose(&gone, now, &mut effects);
            }
            Input::Stop { reason } => self.end(Verdict::Stopped, reason, &mut effects),
            Input::Tick => {}
        }
        if self.finished.is_none() {
            self.judge(now, &mut effects);
        }
        effects
    }

    /// The next time at which the engine wants an [`Input::Tick`] or an offer of free slots.
    #[must_use]
    pub fn wake_at(&self, now: Timestamp) -> Option<Timestamp> {
        if self.finished.is_some() {
            return None;
        }
        let limit = self.began_at.map(|t| t + self.policy.run_limit);
        let waits = self.stranded.values().copied().min().into_iter().chain(self.waiting_since).min();
        let patience = waits.map(|t| t + self.policy.patience);
        [limit, patience, self.ready.next_pause_end(now)].into_iter().flatten().min()
    }

    /// Where the run stands.
    #[must_use]
    pub fn phase(&self) -> Phase {
        self.phase
    }

    /// The verdict and its reason, once the run is over.
    #[must_use]
    pub fn verdict(&self) -> Option<(Verdict, &str)> {
        self.finished.as_ref().map(|(verdict, reason)| (*verdict, reason.as_str()))
    }

    /// How many entries are in each state; the parts of a file that is cut count as one, which waits until one of them runs, and has
    /// its outcome when all have.
    #[must_use]
    pub fn tally(&self) -> Tally {
        self.with_whole_files(Tally { cases: self.case_tally, ..self.tally })
    }

    /// What attempts took so far.
    #[must_use]
    pub fn stats(&self) -> AttemptStats {
        self.figures.stats()
    }

    /// Results a second: over the last ten seconds.
    #[must_use]
    pub fn rate(&self, now: Timestamp) -> f64 {
        self.began_at.map_or(0.0, |began| self.rate.now(began, now))
    }

    /// The run by groups of names: the first parts of names.
    #[must_use]
    pub fn parts(&self) -> Vec<Part> {
        self.parts.told(|index, tally| match self.entries[index as usize].state {
            State::Done(outcome) => tally.count(outcome),
            State::Held { began: Some(_), .. } => tally.running += 1,
            State::Held { .. } | State::Waiting => tally.waiting += 1,
        })
    }

    /// The entries as planned.
    #[must_use]
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// What the run waits for, in words for people.
    #[must_use]
    pub fn waiting_for(&self) -> Option<&str> {
        self.waiting_said.as_deref()
    }

    /// When the first batch could be granted.
    #[must_use]
    pub fn began_at(&self) -> Option<Timestamp> {
        self.began_at
    }

    /// Whether a free slot may be offered with some hope: something waits, and the run may use another slot.
    #[must_use]
    pub fn wants_slots(&self) -> bool {
        self.phase == Phase::Running
            && self.finished.is_none()
            && (!self.ready.is_empty() || self.wants_senders())
            && self.may_hold_more()
    }

    /// How many more slots it could put to use now, at the most: by what waits, and neither for a claim nor for its pause to end.
    #[must_use]
    pub fn could_use(&self, now: Timestamp) -> u32 {
        if !self.wants_slots() {
            return 0;
        }
        let more = self.policy.shards.map_or(u32::MAX, |most| most.saturating_sub(self.slots_in_use()));
        if self.wants_senders() {
            return more;
        }
        let may = |class: &Class| {
            let claims = &self.plan.claim_sets[class.claims as usize];
            are_free(claims, &self.held_claims, &self.taken)
        };
        let may_retry = |retry: &Retry| {
            retry.not_before <= now && may(&retry.class) && retry.group.is_none_or(|g| !self.busy_groups.contains(&g))
        };
        more.min(u32::try_from(self.ready.could_begin(may, may_retry)).unwrap_or(u32::MAX))
    }

    /// Batches at work now.
    #[must_use]
    pub fn slots_in_use(&self) -> u32 {
        self.batches.len() as u32
    }

    /// Those of them that are about to end, as what they had not begun was asked back, or as they are fed nothing more.
    #[must_use]
    pub fn slots_given_up(&self) -> u32 {
        self.given_up.len() as u32
    }

    /// Batches that were asked to give back what they had not begun, and have not answered.
    #[must_use]
    pub fn still_asked(&self) -> u32 {
        let open = |id: &&BatchId| {
            let asked = self.batches.get(*id).filter(|batch| batch.stream.is_none());
            asked.is_some_and(|batch| batch.entries.iter().any(|i| self.not_begun(**id, *i)))
        };
        self.asked_back.keys().filter(open).count() as u32
    }

    /// Whether what other runs hold matters to what an input brings about: then [`Engine::others_hold`] goes before it. A slot
    /// that has nothing to do is given tests, and processes that stay are fed at any time.
    #[must_use]
    pub fn minds_others(&self, input: &Input) -> bool {
        self.plan.claim_sets.len() > 1 && (self.policy.fed || matches!(input, Input::Free { .. }))
    }

    /// The claims that what waits needs.
    #[must_use]
    pub fn waited_for_claims(&self) -> BTreeSet<&str> {
        let of = |set: u32| self.plan.claim_sets[set as usize].iter().map(String::as_str);
        if self.finished.is_some() || self.plan.claim_sets.len() < 2 {
            return BTreeSet::new();
        }
        if self.together.is_some() {
            return self.plan.entries.iter().flat_map(|entry| of(entry.claims)).collect();
        }
        self.ready.waiting_classes().into_iter().flat_map(|class| of(class.claims)).collect()
    }

    /// Takes note of the claims that other runs hold now, with the names of those runs: nothing that needs one is granted or fed.
    pub fn others_hold(&mut self, taken: BTreeMap<String, String>) {
        self.taken = taken;
    }

    /// The claims that running batches hold; of processes that stay, those of the tests that they were fed and have not told of.
    pub fn held_claims(&self) -> impl Iterator<Item = &str> {
        self.held_claims.iter().map(String::as_str)
    }

    /// Batches that are with workers: number, worker, slot.
    pub fn open_batches(&self) -> impl Iterator<Item = (BatchId, WorkerId, u16)> {
        self.batches.iter().map(|(id, b)| (*id, b.worker, b.slot))
    }

    /// Batches that are with workers, each with when the entry began that it runs now.
    pub fn at_work(&self) -> impl Iterator<Item = (BatchId, WorkerId, u16, Option<Timestamp>)> {
        self.batches.iter().map(|(id, b)| (*id, b.worker, b.slot, self.runs_in(*id, b).map(|(_, began)| began)))
    }

    /// Where a batch is: its worker and slot.
    #[must_use]
    pub fn slot_of(&self, batch: BatchId) -> Option<(WorkerId, u16)> {
        self.batches.get(&batch).map(|b| (b.worker, b.slot))
    }

    /// The entry that a batch runs now, with the time it began.
    #[must_use]
    pub fn running_in(&self, batch: BatchId) -> Option<(u32, Timestamp)> {
        self.runs_in(batch, self.batches.get(&batch)?)
    }

    fn runs_in(&self, id: BatchId, batch: &Batch) -> Option<(u32, Timestamp)> {
        batch.entries.iter().rev().find_map(|index| match self.entries[*index as usize].state {
            State::Held { batch: held, began: Some(began) } if held == id => Some((*index, began)),
            _ => None,
        })
    }

    /// Where an entry runs now, if it does: its worker and batch.
    #[must_use]
    pub fn place_of(&self, index: u32) -> Option<(WorkerId, BatchId)> {
        let State::Held { batch, began: Some(_) } = self.entries.get(index as usize)?.state else { return None };
        self.batches.get(&batch).map(|b| (b.worker, batch))
    }

    /// An entry's state: its outcome, or whether it runs, and how many attempts it has had.
    #[must_use]
    pub fn entry(&self, index: u32) -> (Option<Outcome>, bool, u16) {
        let entry = &self.entries[index as usize];
        match entry.state {
            State::Done(outcome) => (Some(outcome), false, entry.attempts),
            State::Held { began, .. } => (None, began.is_some(), entry.attempts),
            State::Waiting => (None, false, entry.attempts),
        }
    }

    fn adopt(&mut self, plan: Plan) {
        let fresh =
            Entry { state: State::Waiting, attempts: 0, failing: 0, lost_in_a_row: 0, failed_on: None, failing_ms: 0 };
        self.entries = vec![fresh; plan.entries.len()];
        self.tally = Tally { waiting: plan.entries.len() as u32, ..Tally::default() };
        self.parts = Parts::new(plan.entries.iter().map(|e| e.name.as_str()));
        self.left_behind.clone_from(&plan.unlisted);
        let first = plan.entries.iter().enumerate().filter(|(_, e)| e.part.is_some() && e.repeat == 1);
        self.cut = first.map(|(index, e)| (index as u32, e.parts())).collect();
        self.cases_of = if self.policy.files { vec![CaseTally::default(); plan.entries.len()] } else { Vec::new() };
        self.together = self.policy.senders.map(|_| {
            let alike = |a: u32, b: u32| {
                let (a, b) = (&plan.entries[a as usize], &plan.entries[b as usize]);
                a.name == b.name && a.variant == b.variant
            };
            Together::new(plan.entries.len() as u32, alike)
        });
        self.plan = plan;
    }

    fn indexes_where(&self, is: impl Fn(&Entry) -> bool) -> Vec<u32> {
        self.entries.iter().enumerate().filter(|(_, e)| is(e)).map(|(i, _)| i as u32).collect()
    }

    /// Entries that are set aside and do not run.
    fn set_aside(&self) -> Vec<u32> {
        if self.policy.run_parked {
            return Vec::new();
        }
        let parked = self.plan.entries.iter().enumerate().filter(|(_, e)| e.parked.is_some());
        parked.map(|(index, _)| index as u32).collect()
    }

    fn recount_left(&mut self) {
        (self.left_known, self.left_unknown, self.left_variance) = (0, 0, 0.0);
        for index in self.indexes_where(|e| e.state == State::Waiting) {
            self.joins(index);
        }
    }

    /// An entry waits again: its work is left.
    fn joins(&mut self, index: u32) {
        let planned = &self.plan.entries[index as usize];
        match planned.expected {
            Some(span) => {
                self.left_known += span.0;
                self.left_variance += planned.spread.as_seconds().powi(2);
            }
            None => self.left_unknown += 1,
        }
    }

    /// An entry waits no longer.
    fn leaves(&mut self, index: u32) {
        let planned = &self.plan.entries[index as usize];
        match planned.expected {
            Some(span) => {
                self.left_known = self.left_known.saturating_sub(span.0);
                self.left_variance = (self.left_variance - planned.spread.as_seconds().powi(2)).max(0.0);
            }
            None => self.left_unknown = self.left_unknown.saturating_sub(1),
        }
    }

    /// Units of entries: single ones, and groups with their members in listed order.
    fn units_of(&self, indexes: &[u32]) -> Vec<(Option<u32>, Vec<u32>)> {
        let mut groups: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
        let mut units = Vec::new();
        for index in indexes {
            match self.plan.entries[*index as usize].group {
                Some(group) => groups.entry(group).or_default().push(*index),
                None => units.push((None, vec![*index])),
            }
        }
        units.extend(groups.into_iter().map(|(group, mut members)| {
            members.sort_unstable();
            (Some(group), members)
        }));
        units
    }

    /// The set of all claims of some entries.
    fn claims_of(&mut self, entries: &[u32]) -> u32 {
        let mut sets: Vec<u32> = entries.iter().map(|i| self.plan.entries[*i as usize].claims).collect();
        sets.sort_unstable();
        sets.dedup();
        if let [one] = sets.as_slice() {
            return *one;
        }
        let mut claims: Vec<String> =
            sets.iter().flat_map(|set| self.plan.claim_sets[*set as usize].iter().cloned()).collect();
        claims.sort();
        claims.dedup();
        self.plan.claim_set(claims)
    }

    fn class_of(&self, index: u32) -> Class {
        let planned = &self.plan.entries[index as usize];
        // The members of an order say themselves what shares a process.
        let repeat = if self.plan.order.is_some() { 0 } else { planned.repeat };
        Class { variant: planned.variant, repeat, claims: planned.claims }
    }

    /// Puts entries where they wait: retries apart, members of a group together in listed order, an order as it is.
    fn queue(&mut self, indexes: &[u32], now: Timestamp) {
        if self.together.is_some() {
            return;
        }
        if let Some(order) = &self.plan.order {
            let waiting: BTreeSet<u32> = indexes.iter().copied().collect();
            let batches: Vec<Vec<u32>> = order
                .iter()
                .map(|batch| batch.iter().copied().filter(|i| waiting.contains(i)).collect::<Vec<u32>>())
                .filter(|batch| !batch.is_empty())
                .collect();
            let whole = batches.len() > 1;
            for entries in batches {
                let class = Class { claims: self.claims_of(&entries), ..self.class_of(entries[0]) };
                let unit = Unit { entries, work: Span::ZERO, rank: 0, group: None };
                // What comes back from a batch goes on before the batches after it.
                self.ready.add_ordered(class, unit, !whole);
            }
            return;
        }
        let (failed, fresh): (Vec<u32>, Vec<u32>) =
            indexes.iter().partition(|index| self.entries[**index as usize].failing > 0);
        for index in failed {
            let retry = Retry {
                entry: index,
                class: self.class_of(index),
                group: self.plan.entries[index as usize].group,
                not_before: now,
                failed_on: self.entries[index as usize].failed_on,
            };
            self.ready.add_retry(retry);
        }
        for (group, entries) in self.units_of(&fresh) {
            let class = Class { claims: self.claims_of(&entries), ..self.class_of(entries[0]) };
            let work = Span(entries.iter().map(|i| self.expected(*i).0).sum());
            let rank = match self.policy.shuffle {
                Some(seed) => mixed(seed, entries[0]),
                None => u64::MAX - work.0,
            };
            let first = self.plan.entries[entries[0] as usize].first;
            let unit = Unit { entries, work, rank, group };
            if first { self.ready.add_first(class, unit) } else { self.ready.add(class, unit) }
        }
    }

    fn may_hold_more(&self) -> bool {
        self.policy.shards.is_none_or(|most| (self.batches.len() as u32) < most)
    }

    fn usable_slots(&self) -> u32 {
        let slots = self.fleet.slots();
        self.policy.shards.map_or(slots, |most| slots.min(most))
    }

    fn grant(&mut self, worker: WorkerId, slot: u16, now: Timestamp) -> Option<Grant> {
        let fit = self.fleet.get(worker)?.clone();
        if self.phase != Phase::Running || !self.may_hold_more() {
            return None;
        }
        if self.together.is_some() {
            return self.join_wave(worker, slot, &fit, now);
        }
        let may = |class: &Class| {
            let claims = &self.plan.claim_sets[class.claims as usize];
            fit.takes(class.variant) && are_free(claims, &self.held_claims, &self.taken)
        };
        if self.plan.order.is_some() {
            let unit = self.ready.take_ordered(may)?;
            return Some(self.hand_over(worker, slot, unit.entries, now));
        }
        let urgency = |class: &Class, unit: &Unit| self.urgency(class, unit);
        let next = self.ready.next_class(may, urgency);
        // What could end last goes before what failed recently.
        let even = self.left().0 / u64::from(self.usable_slots().max(1));
        let pressing = self.policy.shuffle.is_none() && next.is_some_and(|(_, urgency)| urgency > even);
        if !pressing && let Some((_, unit)) = self.ready.take_first(may) {
            if self.policy.fed {
                return Some(self.open_stream(worker, slot, unit, now));
            }
            return Some(self.hand_over(worker, slot, unit.entries, now));
        }
        if let Some((class, _)) = next {
            if self.policy.fed {
                let unit = self.ready.take_next(class)?;
                return Some(self.open_stream(worker, slot, unit, now));
            }
            let entries = self.draw(class)?;
            return Some(self.hand_over(worker, slot, entries, now));
        }
        let fleet = &self.fleet;
        let other_for = |variant: u16| fleet.fit().any(|(other, fit)| other != worker && fit.takes(variant));
        let may_retry = |retry: &Retry| {
            retry.not_before <= now
                && may(&retry.class)
                && retry.group.is_none_or(|g| !self.busy_groups.contains(&g))
                && !(self.policy.other_worker && retry.failed_on == Some(worker) && other_for(retry.class.variant))
        };
        let Some(retry) = self.ready.take_retry(may_retry) else {
            self.blocked = self.blocked_by();
            return None;
        };
        Some(self.hand_over(worker, slot, vec![retry.entry], now))
    }

    /// How pressing a class is: its next unit's work, or all the work that must run one after the other because it shares
    /// a claim, whichever is more. So a chain is begun early enough not to become the tail.
    fn urgency(&self, class: &Class, unit: &Unit) -> u64 {
        if self.policy.shuffle.is_some() {
            return 0;
        }
        if class.claims == 0 {
            return unit.work.0;
        }
        let claims = &self.plan.claim_sets[class.claims as usize];
        let sharing = |claim: &String| -> u64 {
            let with = |set: &u32| self.plan.claim_sets[*set as usize].contains(claim);
            self.ready.claim_sets().filter(with).map(|set| self.ready.claimed(set)).sum()
        };
        claims.iter().map(sharing).max().unwrap_or(0).max(unit.work.0)
    }

    /// If everything that waits needs claims that other runs hold: which, in words.
    fn blocked_by(&self) -> Option<String> {
        if self.taken.is_empty() {
            return None;
        }
        let mut held: BTreeMap<&str, &str> = BTreeMap::new();
        for class in self.ready.waiting_classes() {
            let claims = &self.plan.claim_sets[class.claims as usize];
            let (claim, run) = claims.iter().find_map(|c| self.taken.get_key_value(c))?;
            held.insert(claim, run);
        }
        let said: Vec<String> = held.iter().map(|(claim, run)| format!("{claim}, held by {run}")).collect();
        (!said.is_empty()).then(|| format!("waiting for the claim {}", said.join("; ")))
    }

    /// Says how many slots are its due while other runs hold or want some, too: batches are made for as many. Should more become free, what was
    /// not begun is given back as ever ([`Input::Idle`]).
    pub fn share(&mut self, due: Option<u32>) {
        self.due = due;
    }

    /// What the coming batch aims at: see [`batch`]. In a round, what long units take beyond their share is missing from
    /// the batches after them, and not from later rounds.
    fn batch_target(&mut self) -> Span {
        let slots = self.usable_slots().min(self.due.unwrap_or(u32::MAX)).max(1);
        let (left, start_cost) = (self.left(), self.start_cost());
        let pace = self.pace();
        if self.round.draws_left == 0 || left.0 <= self.round.reserve {
            let of = batch::Left {
                work: left,
                units: self.ready.units(),
                variation: self.variation(),
                slots,
                start_cost: Span((start_cost.0 as f64 / pace) as u64),
                start_share: Span((self.start_share().0 as f64 / pace) as u64),
                first: self.next_batch == 1,
            };
            let each = batch::target(of).0.max(1);
            let draws = left.0.div_ceil(each).clamp(1, u64::from(slots));
            self.round = Round { draws_left: draws as u32, reserve: left.0.saturating_sub(each * u64::from(slots)) };
        }
        let each = left.0.saturating_sub(self.round.reserve) / u64::from(self.round.draws_left);
        self.round.draws_left -= 1;
        Span(each.min(self.longest_batch()))
    }

    /// The most that a batch is worth, in microseconds: one that is killed at its limit has helped nobody.
    fn longest_batch(&self) -> u64 {
        (self.policy.batch_limit.0 as f64 / (2.0 * self.pace())) as u64
    }

    /// Takes units of a class, in their order, until they are worth a batch.
    fn draw(&mut self, class: Class) -> Option<Vec<u32>> {
        let mut target = self.batch_target();
        if class.claims != 0 {
            // What shares a claim runs one after the other anyway: more processes would only cost their starts.
            target = Span(target.0.max(self.ready.claimed(class.claims).min(self.longest_batch())));
        }
        let work = |engine: &Self, unit: &Unit| unit.entries.iter().map(|i| engine.expected(*i).0).sum::<u64>();
        let bytes = |engine: &Self, unit: &Unit| {
            unit.entries.iter().map(|i| engine.plan.entries[*i as usize].name.as_str().len() + 1).sum::<usize>()
        };
        let first = self.ready.take_next(class)?;
        let mut sum = work(self, &first);
        let mut name_bytes = bytes(self, &first);
        // Some cases of a file are run by a command of their own.
        let some_cases = |unit: &Unit| unit.entries.iter().any(|i| self.plan.entries[*i as usize].cases > 0);
        let alone = first.group.is_some() || some_cases(&first);
        let mut entries = first.entries;
        // A group keeps its batch to itself: what ran before it must not depend on chance.
        let fits = |engine: &Self, unit: &Unit, room: u64, so_far: (usize, usize)| {
            work(engine, unit) <= room
                && unit.group.is_none()
                && !unit.entries.iter().any(|i| engine.plan.entries[*i as usize].cases > 0)
                && so_far.0 < MOST_ENTRIES
                && so_far.1 + bytes(engine, unit) <= engine.policy.most_name_bytes
        };
        // What is longer than the room that is left leaves it to the longest that is not; else the slot would need one process more
        // for what it lacks of its share. Where lengths are not known well, what is short is kept for evening out instead.
        let by_length = self.policy.shuffle.is_none() && self.variation() < KNOWN_WELL;
        if alone {
            return Some(entries);
        }
        loop {
            let room = target.0.saturating_sub(sum);
            let so_far = (entries.len(), name_bytes);
            let fitting = |unit: &&Unit| fits(self, unit, room, so_far);
            let next = self.ready.next(class).filter(fitting);
            let next =
                next.or_else(|| self.ready.longest_within(class, Span(room)).filter(|_| by_length).filter(fitting));
            let Some(key) = next.map(Unit::key) else { break };
            let unit = self.ready.take(class, key)?;
            sum += work(self, &unit);
            name_bytes += bytes(self, &unit);
            entries.extend(unit.entries);
        }
        Some(entries)
    }

    fn hand_over(&mut self, worker: WorkerId, slot: u16, entries: Vec<u32>, now: Timestamp) -> Grant {
        let batch = BatchId(self.next_batch);
        self.next_batch += 1;
        self.blocked = None;
        for index in &entries {
            self.entries[*index as usize].state = State::Held { batch, began: None };
            self.leaves(*index);
        }
        let attempt = (entries.len() == 1).then(|| self.entries[entries[0] as usize].attempts + 1);
        let to_run = match entries.as_slice() {
            [one] => self.to_run(*one),
            _ => ToRun::default(),
        };
        self.hold(batch, worker, slot, entries.clone(), Some(now));
        if self.granted.len() == MOST_GRANTED {
            self.granted.pop_front();
        }
        self.granted.push_back(now);
        Grant { batch, worker, slot, entries, attempt, to_run, more: false, senders: None }
    }

    fn hold(&mut self, id: BatchId, worker: WorkerId, slot: u16, entries: Vec<u32>, granted_at: Option<Timestamp>) {
        let claims = self.holding(&entries);
        let mut groups: Vec<u32> = entries.iter().filter_map(|i| self.plan.entries[*i as usize].group).collect();
        groups.dedup();
        self.busy_groups.extend(&groups);
        let telling = self.prepared.contains(&worker) && granted_at.is_some();
        let batch = Batch {
            worker,
            slot,
            entries,
            claims,
            groups,
            fruitful: false,
            granted_at,
            spent: 0,
            telling,
            took: Took::default(),
            stream: None,
        };
        self.batches.insert(id, batch);
    }

    fn release(&mut self, id: BatchId) -> Option<Batch> {
        let batch = self.batches.remove(&id)?;
        self.given_up.remove(&id);
        self.asked_back.remove(&id);
        for claim in batch.claims.iter().flat_map(|(_, set)| &self.plan.claim_sets[*set as usize]) {
            self.held_claims.remove(claim);
        }
        for group in &batch.groups {
            self.busy_groups.remove(group);
        }
        Some(batch)
    }

    fn batches_of(&self, worker: WorkerId) -> impl Iterator<Item = BatchId> {
        self.batches.iter().filter(move |(_, b)| b.worker == worker).map(|(id, _)| *id)
    }

    fn began(&mut self, batch: BatchId, index: u32, now: Timestamp, effects: &mut Vec<Effect>) {
        if let Some(entry) = self.entries.get_mut(index as usize)
            && entry.state == (State::Held { batch, began: None })
        {
            entry.state = State::Held { batch, began: Some(now) };
            if let Some(together) = &mut self.together {
                together.set(batch, Gate::Through);
            }
            if let Some(Batch { stream: Some(stream), .. }) = self.batches.get_mut(&batch)
                && let Some(fed) = stream.hungry_fed_at.take()
            {
                // What it took this time counts a fifth.
                self.round_trip = Span((self.round_trip.0 * 4 + now.since(fed).0.min(MOST_ROUND_TRIP.0)) / 5);
            }
            self.tally.waiting -= 1;
            self.tally.running += 1;
            effects.push(Effect::Began { entry: index, batch });
        }
    }

    fn attempt(
        &mut self,
        id: BatchId,
        index: u32,
        ended: Ended,
        (spent, start): (Span, Option<Cores>),
        now: Timestamp,
        effects: &mut Vec<Effect>,
    ) {
        let holds = |e: &Entry| matches!(e.state, State::Held { batch, .. } if batch == id);
        let Some(batch) = self.batches.get_mut(&id) else {
            return;
        };
        // A repeated message, or one of an entry that the batch does not hold, changes nothing.
        if !self.entries.get(index as usize).is_some_and(holds) {
            return;
        }
        batch.fruitful |= !matches!(ended, Ended::Crashed | Ended::Lost);
        batch.spent += spent.0;
        let (worker, slot, alone) = (batch.worker, batch.slot, batch.entries.len() == 1);
        self.back_to_waiting(index);
        let with_start = start.is_some();
        self.note_took(id, index, ended, spent, start);
        let own_time = (ended != Ended::Lost).then(|| self.own_of(index, spent));
        let own = ended;
        let failing_before = self.failing(index);
        let (ended, standing) = self.end_file(index, ended, effects);
        let counts = self.plan.entries[index as usize].parked.is_none();
        let entry = &mut self.entries[index as usize];
        entry.attempts += 1;
        entry.note(ended, worker, spent);
        let lost = entry.lost_in_a_row;
        let failing = self.failing(index);
        let first_stumble = failing > 0 && failing_before == 0 && counts;
        if ended != Ended::Lost && counts {
            self.measure(index, ended, spent, own_time.filter(|_| !with_start || self.own.ended < KNOWN_FROM));
            self.rate.add(now);
            self.any_result |= ended != Ended::Crashed;
        }
        // A test that failed took its time too, unless it waited for something that did not come.
        if let (Ended::Passed | Ended::Failed, Some(expected)) = (ended, self.plan.entries[index as usize].expected)
            && (ended == Ended::Passed || spent.0 / 10 <= expected.0)
        {
            // Nor does a time say much of the pace that holds a start, where the process has others.
            if !with_start || alone {
                self.took_known += own_time.unwrap_or(spent).0;
                self.expected_known += expected.0;
                self.variance_known += self.plan.entries[index as usize].spread.as_seconds().powi(2);
            }
        }
        self.stumbled += u32::from(first_stumble);
        let allowed = u32::from(self.plan.entries[index as usize].retries);
        if !self.gave_up && self.should_give_up() {
            self.gave_up = true;
            let (stumbled, total) = (self.stumbled, self.entries.len());
            let share = self.policy.give_up_after.unwrap_or_default();
            effects.push(Effect::Note(format!(
                "no more retries: {stumbled} of {total} tests failed, more than {share}% (give-up-after in [retry])"
            )));
        }
        // All of its file was run to see what is gone, and a case that had failed passed then: that was more than it was allowed. With
        // retries the attempt that failed may have been another than the one that missed something.
        let once_more = allowed == 0 && self.entries[index as usize].failing > 0;
        let stands = match (ended, standing) {
            (Ended::Lost, _) => Stands::Lost,
            // Of a file that ended well itself its cases decide, over all attempts.
            (_, Some(s)) if !own.failing() && s.failed_now && s.cases.failed > 0 => Stands::Failing,
            // What failed and was skipped then, or not told of again, has not shown that it passes.
            (_, Some(s)) if !own.failing() && s.cases.failed > 0 => Stands::Well(Outcome::Failed),
            (_, Some(s)) if !own.failing() && s.cases.flaky > 0 && once_more => Stands::Well(Outcome::Failed),
            (_, Some(s)) if !own.failing() && (failing > 0 || s.cases.flaky > 0) => Stands::Well(Outcome::Flaky),
            (Ended::Passed, _) if failing > 0 => Stands::Well(Outcome::Flaky),
            (Ended::Passed, _) => Stands::Well(Outcome::Passed),
            (Ended::Skipped, _) if failing == 0 => Stands::Well(Outcome::Skipped),
            // A test that failed and then skipped itself has not shown that it passes.
            (Ended::Skipped, _) => Stands::Well(Outcome::Failed),
            (Ended::Failed | Ended::TimedOut | Ended::Crashed, _) => Stands::Failing,
        };
        let decided = match stands {
            Stands::Well(outcome) => Some(outcome),
            Stands::Lost => (lost >= MOST_LOST_IN_A_ROW).then_some(Outcome::Failed),
            Stands::Failing => (failing > allowed || self.gave_up && failing > 0).then_some(Outcome::Failed),
        };
        let decided = decided.map(|outcome| if counts { outcome } else { Outcome::Parked });
        let number = self.entries[index as usize].attempts;
        if decided.is_some_and(|outcome| outcome != Outcome::Failed)
            && failing < u32::from(self.entries[index as usize].failing)
        {
            let planned = &self.plan.entries[index as usize];
            let (name, of) = (&planned.name, planned.parts());
            effects.push(Effect::Note(format!(
                "part {} of {of} of {name} was to run cases that are gone, or have other titles now: all of the file was run to see",
                planned.repeat
            )));
        }
        if lost >= MOST_LOST_IN_A_ROW {
            let name = &self.plan.entries[index as usize].name;
            effects
                .push(Effect::Note(format!("{name} failed: its worker was lost {lost} times in a row while it ran")));
        }
        effects.push(Effect::Attempt(AttemptKept {
            entry: index,
            number,
            batch: id,
            worker,
            slot,
            ended,
            spent,
            own: own_time.unwrap_or(spent),
            decided,
            itself: own.failing() || !ended.failing(),
        }));
        match decided {
            Some(outcome) => self.decide(index, outcome),
            None if matches!(stands, Stands::Failing) => {
                self.ready.add_retry(Retry {
                    entry: index,
                    class: self.class_of(index),
                    group: self.plan.entries[index as usize].group,
                    not_before: now + self.policy.pause,
                    failed_on: Some(worker),
                });
            }
            // A lost attempt: the caller queues the entry together with the rest of its batch.
            None => {}
        }
        if ended != Ended::Lost {
            self.digested(id, index, own, now, effects);
        }
        if self.gave_up {
            for retry in self.ready.drain_retries() {
                if self.failing(retry.entry) == 0 {
                    self.ready.add_retry(retry);
                    continue;
                }
                let number = self.entries[retry.entry as usize].attempts;
                let counts = self.plan.entries[retry.entry as usize].parked.is_none();
                let outcome = if counts { Outcome::Failed } else { Outcome::Parked };
                self.decide(retry.entry, outcome);
                effects.push(Effect::Decided { entry: retry.entry, number, outcome });
            }
        }
    }

    /// Something beside a test's own result went wrong in a batch: the run fails, unless all of the batch is parked.
    fn went_wrong(&mut self, id: BatchId, why: String, effects: &mut Vec<Effect>) {
        let Some(batch) = self.batches.get(&id) else { return };
        let counts = batch.entries.iter().any(|i| self.plan.entries[*i as usize].parked.is_none());
        if !counts && !batch.entries.is_empty() {
            effects.push(Effect::Note(why));
            return;
        }
        self.wrong += 1;
        if self.wrongs.len() < MOST_WRONGS {
            self.wrongs.push(why.clone());
            effects.push(Effect::Wrong(why));
        }
    }

    /// Counts what a batch measured, and keeps it.
    fn take_measured(&mut self, batch: BatchId, mut part: measure::Part, now: Timestamp, effects: &mut Vec<Effect>) {
        // It was measured while the run went on, whatever a worker's clock says: else rates would be those of another time.
        let second = |at: Timestamp| at.0.div_euclid(1_000_000);
        let latest = second(now);
        let earliest = self.began_at.map_or(latest, second).min(latest);
        part.second = part.second.clamp(earliest, latest);
        match self.measured.take(batch.0, &part) {
            Taken::Before => return,
            Taken::Now => {}
            Taken::Without(name) => effects.push(Effect::Note(left_out_said(&name))),
        }
        effects.push(Effect::Measured { batch, part });
    }

    /// Keeps what a test says that it covers, within bounds.
    fn take_covers(&mut self, batch: BatchId, entry: u32, mut of: Vec<Requirement>, effects: &mut Vec<Effect>) {
        if !self.is_in(batch, entry) || of.is_empty() {
            return;
        }
        let room = MOST_OF_A_SUITE.saturating_sub(self.covered);
        if of.len() > room {
            if !self.covered_all {
                let text = format!(
                    "its tests told that they cover requirements more than {MOST_OF_A_SUITE} times: what came after that is not kept"
                );
                effects.push(Effect::Note(text));
            }
            self.covered_all = true;
            of.truncate(room);
        }
        self.covered += of.len();
        if !of.is_empty() {
            effects.push(Effect::Covers { entry, of });
        }
    }

    /// Ends the run by what its tests, and the limits of what they measured, say.
    fn close(&mut self, effects: &mut Vec<Effect>) {
        for limit in std::mem::take(&mut self.policy.limits) {
            let measure = self.measured.named(&limit.measure);
            let Some(why) = limit.passed(measure) else { continue };
            // A run of some tests need not be of those that measure it.
            if measure.is_none() && !self.policy.whole {
                effects.push(Effect::Note(why));
                continue;
            }
            self.wrong += 1;
            self.wrongs.push(why.clone());
            effects.push(Effect::Wrong(why));
        }
        let (verdict, reason) = self.closing_verdict();
        self.end(verdict, reason, effects);
    }

    fn should_give_up(&self) -> bool {
        let share = |percent: u32| u64::from(self.stumbled) * 100 > u64::from(percent) * self.entries.len() as u64;
        self.policy.give_up_after.is_some_and(share)
    }

    /// Moves an entry from its batch to waiting, in the tally too.
    fn back_to_waiting(&mut self, index: u32) {
        let entry = &mut self.entries[index as usize];
        let State::Held { began, .. } = entry.state else { return };
        entry.state = State::Waiting;
        if began.is_some() {
            self.tally.running -= 1;
            self.tally.waiting += 1;
        }
        self.joins(index);
    }

    /// An entry goes back from its batch without an attempt.
    fn goes_back(&mut self, index: u32, effects: &mut Vec<Effect>) {
        self.back_to_waiting(index);
        self.forget_told(index, effects);
        effects.push(Effect::WentBack { entry: index });
    }

    fn decide(&mut self, index: u32, outcome: Outcome) {
        self.cases.remove(&index);
        self.entries[index as usize].state = State::Done(outcome);
        self.tally.waiting -= 1;
        self.tally.count(outcome);
        self.leaves(index);
    }

    fn batch_ended(&mut self, id: BatchId, end: BatchEnd, now: Timestamp, effects: &mut Vec<Effect>) {
        let Some(batch) = self.release(id) else {
            return;
        };
        effects.push(Effect::BatchOver { batch: id });
        if end == BatchEnd::Done {
            // The first batch on a worker waited for the suite's files to be fetched and prepared.
            self.prepared.insert(batch.worker);
            self.note_start(&batch, now);
        }
        let back: Vec<u32> = batch.entries.iter().copied().filter(|i| self.held_by(*i, id)).collect();
        for index in &back {
            self.goes_back(*index, effects);
        }
        self.left_wave(id, &batch, effects);
        self.queue(&back, now);
        match end {
            BatchEnd::Unfit(reason) => {
                self.fleet.set_aside(batch.worker, reason.clone());
                effects.push(Effect::Note(format!("a worker can do nothing for this run: {reason}")));
            }
            BatchEnd::Revoked => {}
            BatchEnd::Done if batch.fruitful => self.barren = 0,
            BatchEnd::Done => self.barren += 1,
        }
    }

    fn held_by(&self, index: u32, id: BatchId) -> bool {
        matches!(self.entries[index as usize].state, State::Held { batch, .. } if batch == id)
    }

    /// Batches whose worker went away: what ran gets a lost attempt, and all goes back.
    fn lose(&mut self, gone: &[BatchId], now: Timestamp, effects: &mut Vec<Effect>) {
        for id in gone {
            let Some(batch) = self.batches.get(id) else {
                continue;
            };
            let held: Vec<u32> = batch.entries.iter().copied().filter(|i| self.held_by(*i, *id)).collect();
            if held.is_empty() {
                let text =
                    "a process was lost with its worker when its tests had their results: how it ended is not known";
                effects.push(Effect::Note(text.to_owned()));
            }
            let began = |i: &u32| matches!(self.entries[*i as usize].state, State::Held { began: Some(_), .. });
            // After a restart of the service it is not known what had begun: then it was the first that has no result.
            let running: Vec<u32> = held.iter().copied().filter(began).collect();
            let running = if running.is_empty() { held.iter().copied().take(1).collect() } else { running };
            for index in &running {
                self.attempt(*id, *index, Ended::Lost, (Span::ZERO, None), now, effects);
            }
            let released = self.release(*id);
            effects.push(Effect::BatchOver { batch: *id });
            let mut back = Vec::new();
            for index in held {
                if self.held_by(index, *id) {
                    self.goes_back(index, effects);
                    back.push(index);
                } else if self.entries[index as usize].state == State::Waiting {
                    back.push(index);
                }
            }
            if let Some(batch) = released {
                self.left_wave(*id, &batch, effects);
            }
            self.queue(&back, now);
        }
    }

    /// Decides whether the run is over, and what it waits for.
    fn judge(&mut self, now: Timestamp, effects: &mut Vec<Effect>) {
        let all_decided = self.phase == Phase::Running && self.tally.waiting + self.tally.running == 0;
        // What batches left behind is reported until their ends; every batch ends, or is lost with its worker.
        if all_decided && self.batches.is_empty() {
            self.close(effects);
            return;
        }
        if self.barren >= MOST_BARREN_BATCHES && !self.any_result {
            let reason = format!("nothing was tested: {} processes ended without a single result", self.barren);
            self.end(Verdict::Void, reason, effects);
            return;
        }
        if self.began_at.is_some_and(|t| now >= t + self.policy.run_limit) {
            let reason = format!("it ran longer than the suite's limit of {} (run in [limits])", self.policy.run_limit);
            self.end(Verdict::Stopped, reason, effects);
            return;
        }
        let usable = self.fleet.slots() > 0;
        if usable
            && self.phase == Phase::Listing
            && let Some(because) = self.none_for.values().next().cloned()
        {
            // The tests of a variant are listed by a worker that may run it.
            let since = *self.waiting_since.get_or_insert(now);
            if now >= since + self.policy.patience {
                // What can be listed and run is not kept from it any longer.
                self.waiting_since = None;
                let late =
                    |why: &String| format!("{why}; none came within {} (patience in [limits])", self.policy.patience);
                let of = self.none_for.iter().map(|(variant, why)| (*variant, late(why))).collect();
                effects.push(Effect::Unlisted(of));
            }
            self.say_waiting(Some(because), effects);
            return;
        }
        if usable && !all_decided {
            if self.lacks_senders(now, effects) {
                return;
            }
            self.waiting_since = None;
            let stranded = self.look_for_stranded(now, effects);
            if self.phase == Phase::Running && self.tally.waiting + self.tally.running == 0 && self.batches.is_empty() {
                self.close(effects);
                return;
            }
            let blocked = self.blocked.clone().filter(|_| self.batches.is_empty());
            self.say_waiting(stranded.or(blocked).or_else(|| self.gathers_said()), effects);
            return;
        }
        if all_decided || !self.batches.is_empty() {
            self.waiting_since = None;
            self.say_waiting(None, effects);
            return;
        }
        if let Some(reason) = self.fleet.why_unfit() {
            self.end(Verdict::Void, format!("no worker can carry it out: {reason}"), effects);
            return;
        }
        let since = *self.waiting_since.get_or_insert(now);
        if now >= since + self.policy.patience {
            let reason =
                format!("{}; none came within {} (patience in [limits])", self.none_because, self.policy.patience);
            self.end(Verdict::Void, reason, effects);
            return;
        }
        self.say_waiting(Some(self.none_because.clone()), effects);
    }

    /// Variants that no worker may run are waited for as long as the suite's patience goes, and then not run. Says what
    /// is waited for.
    fn look_for_stranded(&mut self, now: Timestamp, effects: &mut Vec<Effect>) -> Option<String> {
        // Only a fleet of which some worker does not take all variants can leave one without any.
        if self.fleet.fit().any(|(_, fit)| fit.slots > 0 && fit.variants.is_none()) {
            self.stranded.clear();
            return None;
        }
        let all = 0..self.plan.variants.len() as u16;
        let mut without: Vec<u16> = all.filter(|v| !self.fleet.fit().any(|(_, fit)| fit.takes(*v))).collect();
        if !without.is_empty() {
            let waiting: BTreeSet<u16> = self.ready.waiting_classes().iter().map(|c| c.variant).collect();
            without.retain(|variant| waiting.contains(variant));
        }
        self.stranded.retain(|variant, _| without.contains(variant));
        let mut said = None;
        for variant in without {
            let because = self.none_for.get(&variant).unwrap_or(&self.none_because).clone();
            let since = *self.stranded.entry(variant).or_insert(now);
            if now < since + self.policy.patience {
                said.get_or_insert(because);
                continue;
            }
            let entries = self.ready.take_variant(variant);
            let of = self.plan.variants.get(usize::from(variant)).map(ToString::to_string).unwrap_or_default();
            let reason = format!(
                "{} entries of {of} were not run: {because}; none came within {} (patience in [limits])",
                entries.len(),
                self.policy.patience
            );
            effects.push(Effect::Note(reason.clone()));
            self.left_behind.push(reason);
            for index in entries {
                let number = self.entries[index as usize].attempts;
                self.decide(index, Outcome::NotRun);
                effects.push(Effect::Decided { entry: index, number, outcome: Outcome::NotRun });
            }
        }
        said
    }

    fn say_waiting(&mut self, said: Option<String>, effects: &mut Vec<Effect>) {
        if said != self.waiting_said {
            self.waiting_said.clone_from(&said);
            effects.push(Effect::Waiting(said));
        }
    }

    fn closing_verdict(&self) -> (Verdict, String) {
        let t = &self.tally;
        if let Some(reason) = self.left_behind.first() {
            let failed = if t.failed > 0 { format!("; {} of {} failed", t.failed, t.total()) } else { String::new() };
            (Verdict::Void, format!("{reason}{failed}"))
        } else if t.failed > 0 {
            let beside = self.wrong_said().map(|said| format!("; besides, {said}")).unwrap_or_default();
            (Verdict::Failed, format!("{}{beside}", self.failed_said()))
        } else if let (Some(said), true) = (self.wrong_said(), t.passed + t.flaky > 0) {
            (Verdict::Failed, format!("no test failed, but {said}"))
        } else if t.flaky > 0 && self.policy.flaky_fails {
            let files = if self.policy.files { " files" } else { "" };
            let (flaky, all) = self.files_where(|state| state == State::Done(Outcome::Flaky));
            let why = format!("{flaky} of {all}{files} flaky, which fails this run (--flaky-fails)");
            (Verdict::Failed, why)
        } else if t.passed + t.flaky > 0 {
            (Verdict::Passed, String::new())
        } else {
            let beside = self.wrong_said().map(|said| format!("; besides, {said}")).unwrap_or_default();
            (Verdict::Void, format!("nothing was tested: {} skipped, {} parked, none run{beside}", t.skipped, t.parked))
        }
    }

    /// How much failed, in words.
    fn failed_said(&self) -> String {
        let (t, c) = (&self.tally, &self.case_tally);
        if self.policy.files {
            let (cases, failed) = (grouped(c.total()), grouped(c.failed));
            let (files, all) = self.files_where(|state| state == State::Done(Outcome::Failed));
            format!("{} of {} files failed; {failed} of {cases} cases", grouped(files), grouped(all))
        } else {
            format!("{} of {} failed", t.failed, t.total())
        }
    }

    /// What went wrong beside the tests, in words.
    fn wrong_said(&self) -> Option<String> {
        let first = self.wrongs.first()?;
        Some(match self.wrong {
            1 => first.clone(),
            n => format!("{first} (and {} more like it; see the notes)", n - 1),
        })
    }

    fn end(&mut self, verdict: Verdict, reason: String, effects: &mut Vec<Effect>) {
        for (id, batch) in std::mem::take(&mut self.batches) {
            effects.push(Effect::Revoke { worker: batch.worker, batch: id });
            effects.push(Effect::BatchOver { batch: id });
        }
        self.held_claims.clear();
        self.busy_groups.clear();
        self.ready.clear();
        for index in self.indexes_where(|e| !matches!(e.state, State::Done(_))) {
            self.back_to_waiting(index);
            let number = self.entries[index as usize].attempts;
            self.decide(index, Outcome::NotRun);
            effects.push(Effect::Decided { entry: index, number, outcome: Outcome::NotRun });
        }
        self.say_waiting(None, effects);
        self.phase = Phase::Finished;
        effects.push(Effect::Verdict { verdict, reason: reason.clone() });
        self.finished = Some((verdict, reason));
    }

    /// Workers may come back to a run that is over: what they hold of it is to end. And what it ended with may turn out not
    /// to be kept: then it is void.
    fn handle_after_end(&mut self, input: Input, effects: &mut Vec<Effect>) {
        match input {
            Input::WorkerBack { worker, holds } => {
                effects.extend(holds.into_iter().map(|batch| Effect::Revoke { worker, batch }));
            }
            Input::Void(reason) if self.verdict().is_some_and(|(verdict, _)| verdict != Verdict::Void) => {
                effects.push(Effect::Verdict { verdict: Verdict::Void, reason: reason.clone() });
                self.finished = Some((Verdict::Void, reason));
            }
            _ => {}
        }
    }
}

/// A count with its thousands set apart: `3,112`.
fn grouped(count: u32) -> String {
    let digits = count.to_string();
    let mut said = String::with_capacity(digits.len() + 3);
    for (at, digit) in digits.char_indices() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            said.push(',');
        }
        said.push(digit);
    }
    said
}

/// A number for an entry that looks random and is the same for the same seed (the finaliser of `SplitMix64`, Steele, Lea
/// and Flood, OOPSLA 2014).
fn mixed(seed: u64, entry: u32) -> u64 {
    let mut z = seed ^ u64::from(entry).wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

impl Entry {
    fn note(&mut self, ended: Ended, worker: WorkerId, spent: Span) {
        if ended == Ended::Lost {
            self.lost_in_a_row = self.lost_in_a_row.saturating_add(1);
        } else {
            self.lost_in_a_row = 0;
        }
        if ended.failing() {
            self.failing = self.failing.saturating_add(1);
            self.failed_on = Some(worker);
            self.failing_ms = u32::try_from(spent.0 / 1000).unwrap_or(u32::MAX);
        }
    }
}
