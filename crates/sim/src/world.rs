//! The simulated world: a service with a store, workers with links, and what goes wrong between them.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, BinaryHeap},
};

use kesmo_core::{
    name::TestName,
    plan::{Plan, PlannedEntry, RetriesFrom},
    run::{
        AttemptKept, BatchEnd, BatchId, Effect, Engine, Grant, Input, MOST_LOST_IN_A_ROW, PastAttempt, PastBatch,
        Policy, WorkerId,
    },
    suite::Variant,
    time::{Span, Timestamp},
    words::{Ended, Outcome, Verdict},
};

use crate::Random;

/// How likely things go wrong. Likelihoods are for each message, commit or batch.
#[derive(Debug, Clone, Copy, Default)]
pub struct Faults {
    /// A worker is killed while it reports (and another comes under its name).
    pub kill_worker: f64,
    /// A link is cut for a while; the worker goes on.
    pub cut_link: f64,
    /// The service is killed before a commit and started again.
    pub kill_service: f64,
    /// An attempt's process dies under it.
    pub crash: f64,
}

/// How attempts end.
#[derive(Debug, Clone, Copy)]
pub struct Outcomes {
    /// An attempt of a flaky test fails.
    pub flaky: f64,
    /// The share of tests that are flaky, and of those that always fail.
    pub flaky_tests: f64,
    pub broken_tests: f64,
}

/// One simulated run.
#[derive(Debug, Clone)]
pub struct Scenario {
    pub seed: u64,
    /// What each entry really takes.
    pub durations: Vec<Span>,
    /// What is expected of each, if anything.
    pub expected: Vec<Option<Span>>,
    pub workers: u32,
    pub slots_each: u16,
    /// What starting a process costs.
    pub start_cost: Span,
    /// What a message takes each way.
    pub latency: Span,
    pub retries: u8,
    pub other_worker: bool,
    pub give_up_after: Option<u32>,
    pub shards: Option<u32>,
    /// Every so many entries form a group of that size; 0 for none.
    pub group_size: usize,
    /// Every so many entries hold one of two claims; 0 for none.
    pub claim_every: usize,
    pub outcomes: Outcomes,
    pub faults: Faults,
}

/// How a simulated run went.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    pub verdict: Verdict,
    /// From the first grant to the verdict.
    pub makespan: Span,
    pub attempts: usize,
    pub lost: usize,
    pub batches: usize,
    pub restarts: usize,
    pub inputs: usize,
    pub outcomes: BTreeMap<Outcome, usize>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Message {
    Began { batch: BatchId, entry: u32 },
    Ended { batch: BatchId, entry: u32, ended: Ended, spent: Span },
    BatchEnded { batch: BatchId },
}

impl Message {
    fn batch(&self) -> BatchId {
        match self {
            Self::Began { batch, .. } | Self::Ended { batch, .. } | Self::BatchEnded { batch } => *batch,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Happening {
    /// The worker's slot goes on with its batch; void if the worker's life or the batch has changed.
    Step {
        worker: u32,
        life: u32,
        slot: u16,
    },
    /// The oldest `upto` messages of the worker's outbox reach the service.
    Arrive {
        worker: u32,
        link: u32,
        upto: usize,
    },
    Commit {
        service: u32,
    },
    Granted {
        worker: u32,
        link: u32,
        grant: usize,
    },
    LinkUp {
        worker: u32,
        link: u32,
    },
    LinkLost {
        worker: u32,
        link: u32,
    },
    Wake {
        service: u32,
    },
}

#[derive(Debug, Clone)]
struct AtWork {
    batch: BatchId,
    entries: Vec<u32>,
    attempts: Vec<u16>,
    position: usize,
    began: bool,
}

#[derive(Debug)]
struct Worker {
    life: u32,
    /// Counts links; a message of an older link does not arrive.
    link: u32,
    up: bool,
    slots: Vec<Option<AtWork>>,
    /// Messages with their running numbers that are not acknowledged.
    outbox: Vec<(usize, Message)>,
    sent: usize,
    next_number: usize,
}

struct World<'s> {
    scenario: &'s Scenario,
    random: Random,
    now: Timestamp,
    heap: BinaryHeap<Reverse<(Timestamp, usize, Happening)>>,
    counter: usize,
    workers: Vec<Worker>,
    engine: Engine,
    service: u32,
    // What the service did since its last commit.
    uncommitted: Vec<Effect>,
    to_acknowledge: BTreeMap<u32, usize>,
    commit_planned: bool,
    // The store.
    attempts: Vec<AttemptKept>,
    decided: BTreeMap<u32, Outcome>,
    batches: BTreeMap<BatchId, PastBatch>,
    grants: Vec<Grant>,
    began_at: Option<Timestamp>,
    verdict: Option<Verdict>,
    report_restarts: usize,
    inputs: usize,
}

const PATIENCE: Span = Span::seconds(5);

/// Runs a scenario to its verdict.
///
/// # Errors
/// The promise that was broken, in words.
pub fn simulate(scenario: &Scenario) -> Result<Report, String> {
    let mut world = World::new(scenario);
    world.start();
    let most = 200_000 + scenario.durations.len() * 2000;
    for _ in 0..most {
        if world.verdict.is_some() {
            return world.close();
        }
        let Some(Reverse((time, _, happening))) = world.heap.pop() else {
            return Err("the run waits for something that cannot happen".into());
        };
        world.now = time;
        world.happen(happening)?;
    }
    Err("the run does not end".into())
}

impl<'s> World<'s> {
    fn new(scenario: &'s Scenario) -> Self {
        let worker = |_| Worker {
            life: 0,
            link: 0,
            up: true,
            slots: vec![None; usize::from(scenario.slots_each)],
            outbox: Vec::new(),
            sent: 0,
            next_number: 0,
        };
        Self {
            random: Random::new(scenario.seed),
            now: Timestamp(0),
            heap: BinaryHeap::new(),
            counter: 0,
            workers: (0..scenario.workers).map(worker).collect(),
            engine: Engine::new(policy(scenario)),
            service: 0,
            uncommitted: Vec::new(),
            to_acknowledge: BTreeMap::new(),
            commit_planned: false,
            attempts: Vec::new(),
            decided: BTreeMap::new(),
            batches: BTreeMap::new(),
            grants: Vec::new(),
            began_at: None,
            verdict: None,
            report_restarts: 0,
            inputs: 0,
            scenario,
        }
    }

    fn after(&mut self, span: Span, happening: Happening) {
        self.counter += 1;
        self.heap.push(Reverse((self.now + span, self.counter, happening)));
    }

    fn start(&mut self) {
        self.fleet();
        self.feed(Input::Planned(plan(self.scenario)));
        self.offer();
    }

    fn feed(&mut self, input: Input) {
        self.inputs += 1;
        let effects = self.engine.handle(input, self.now);
        if !effects.is_empty() {
            self.uncommitted.extend(effects);
        }
        self.plan_commit();
        if let Some(at) = self.engine.wake_at(self.now) {
            let service = self.service;
            self.after(at.since(self.now) + Span::millis(1), Happening::Wake { service });
        }
    }

    fn plan_commit(&mut self) {
        if !self.commit_planned {
            self.commit_planned = true;
            let (delay, service) = (Span(500 + self.random.below(3000)), self.service);
            self.after(delay, Happening::Commit { service });
        }
    }

    fn fleet(&mut self) {
        let up = |(i, w): (usize, &Worker)| w.up.then_some((WorkerId(i as u32), w.slots.len() as u32));
        let workers = self.workers.iter().enumerate().filter_map(up).collect();
        self.feed(Input::Fleet { workers, none_because: "waiting for a worker".into() });
    }

    /// Offers every slot that has no batch, as the service knows it.
    fn offer(&mut self) {
        let busy: BTreeSet<(u32, u16)> = self.engine.open_batches().map(|(_, worker, slot)| (worker.0, slot)).collect();
        for worker in 0..self.scenario.workers {
            for slot in 0..self.scenario.slots_each {
                if self.workers[worker as usize].up && !busy.contains(&(worker, slot)) && self.engine.wants_slots() {
                    self.feed(Input::Free { worker: WorkerId(worker), slot, taken: BTreeSet::new() });
                }
            }
        }
    }

    fn happen(&mut self, happening: Happening) -> Result<(), String> {
        match happening {
            Happening::Step { worker, life, slot } => self.step(worker, life, slot),
            Happening::Arrive { worker, link, upto } => self.arrive(worker, link, upto),
            Happening::Commit { service } => return self.commit(service),
            Happening::Granted { worker, link, grant } => self.granted(worker, link, grant),
            Happening::LinkUp { worker, link } => self.link_up(worker, link),
            Happening::LinkLost { worker, link } => {
                let w = &self.workers[worker as usize];
                if w.link == link && !w.up {
                    self.feed(Input::WorkerLost { worker: WorkerId(worker) });
                    self.offer();
                }
            }
            Happening::Wake { service } => {
                if service == self.service {
                    let effects = self.engine.handle(Input::Tick, self.now);
                    self.uncommitted.extend(effects);
                    self.plan_commit();
                    self.offer();
                }
            }
        }
        Ok(())
    }

    fn granted(&mut self, worker: u32, link: u32, grant: usize) {
        let scenario = self.scenario;
        let w = &mut self.workers[worker as usize];
        if w.link != link || !w.up {
            return;
        }
        let grant = &self.grants[grant];
        let attempts =
            grant.entries.iter().map(|e| self.attempts.iter().filter(|a| a.entry == *e).count() as u16).collect();
        let work = AtWork { batch: grant.batch, entries: grant.entries.clone(), attempts, position: 0, began: false };
        let (life, slot) = (w.life, grant.slot);
        w.slots[usize::from(slot)] = Some(work);
        self.after(scenario.start_cost, Happening::Step { worker, life, slot });
    }

    fn step(&mut self, worker: u32, life: u32, slot: u16) {
        let w = &mut self.workers[worker as usize];
        if w.life != life {
            return;
        }
        let Some(work) = &mut w.slots[usize::from(slot)] else {
            return;
        };
        let batch = work.batch;
        if work.position == work.entries.len() {
            w.slots[usize::from(slot)] = None;
            self.send(worker, Message::BatchEnded { batch });
            return;
        }
        let entry = work.entries[work.position];
        let duration = self.scenario.durations[entry as usize];
        if !work.began {
            work.began = true;
            self.send(worker, Message::Began { batch, entry });
            self.after(duration, Happening::Step { worker, life, slot });
            return;
        }
        let attempt = work.attempts[work.position];
        work.began = false;
        work.position += 1;
        let mut ended = how(self.scenario, entry, attempt);
        if ended != Ended::Skipped && self.random.chance(self.scenario.faults.crash) {
            ended = Ended::Crashed;
            let w = &mut self.workers[worker as usize];
            if let Some(work) = &mut w.slots[usize::from(slot)] {
                work.position = work.entries.len();
            }
        }
        self.send(worker, Message::Ended { batch, entry, ended, spent: duration });
        if self.random.chance(self.scenario.faults.kill_worker) {
            self.kill_worker(worker);
        } else {
            if self.random.chance(self.scenario.faults.cut_link) {
                self.cut(worker);
            }
            self.after(Span::ZERO, Happening::Step { worker, life, slot });
        }
    }

    fn send(&mut self, worker: u32, message: Message) {
        let latency = self.scenario.latency;
        let w = &mut self.workers[worker as usize];
        w.outbox.push((w.next_number, message));
        w.next_number += 1;
        if w.up {
            let (link, upto) = (w.link, w.next_number);
            self.after(latency, Happening::Arrive { worker, link, upto });
        }
    }

    fn kill_worker(&mut self, worker: u32) {
        let same_name_at_once = self.random.chance(0.5);
        let w = &mut self.workers[worker as usize];
        w.life += 1;
        w.outbox.clear();
        w.slots.iter_mut().for_each(|s| *s = None);
        self.cut_for(worker, if same_name_at_once { Span::millis(100) } else { PATIENCE + Span::seconds(1) });
    }

    fn cut(&mut self, worker: u32) {
        let span = Span(self.random.below(PATIENCE.0 * 2));
        self.cut_for(worker, span);
    }

    fn cut_for(&mut self, worker: u32, span: Span) {
        let w = &mut self.workers[worker as usize];
        w.up = false;
        w.link += 1;
        let link = w.link;
        self.after(PATIENCE, Happening::LinkLost { worker, link });
        self.after(span, Happening::LinkUp { worker, link });
        self.fleet();
    }

    fn link_up(&mut self, worker: u32, link: u32) {
        let w = &mut self.workers[worker as usize];
        if w.link != link || w.up {
            return;
        }
        w.up = true;
        w.sent = 0;
        let mut holds: BTreeSet<BatchId> = w.slots.iter().flatten().map(|s| s.batch).collect();
        holds.extend(w.outbox.iter().map(|(_, m)| m.batch()));
        let upto = w.next_number;
        // What runs now is said again, as the service may not know it.
        let running: Vec<Message> = w
            .slots
            .iter()
            .flatten()
            .filter(|s| s.began)
            .map(|s| Message::Began { batch: s.batch, entry: s.entries[s.position] })
            .collect();
        self.fleet();
        self.feed(Input::WorkerBack { worker: WorkerId(worker), holds });
        self.after(self.scenario.latency, Happening::Arrive { worker, link, upto });
        for message in running {
            self.send(worker, message);
        }
        self.offer();
    }

    /// Messages up to a number reach the service, some of them for the second time.
    fn arrive(&mut self, worker: u32, link: u32, upto: usize) {
        let w = &self.workers[worker as usize];
        if w.link != link || !w.up {
            return;
        }
        let repeat = self.random.chance(self.scenario.faults.cut_link);
        let w = &mut self.workers[worker as usize];
        let from = if repeat { 0 } else { w.sent };
        let messages: Vec<(usize, Message)> =
            w.outbox.iter().filter(|(n, _)| *n >= from && *n < upto).cloned().collect();
        w.sent = w.sent.max(upto);
        for (_, message) in messages {
            match message {
                Message::Began { batch, entry } => self.feed(Input::Began { batch, entry }),
                Message::Ended { batch, entry, ended, spent } => self.feed(Input::Ended { batch, entry, ended, spent }),
                Message::BatchEnded { batch } => {
                    self.feed(Input::BatchEnded { batch, end: BatchEnd::Done });
                }
            }
        }
        self.to_acknowledge.insert(worker, upto);
        self.offer();
    }

    fn commit(&mut self, service: u32) -> Result<(), String> {
        if service != self.service {
            return Ok(());
        }
        self.commit_planned = false;
        if self.random.chance(self.scenario.faults.kill_service) {
            self.restart();
            return Ok(());
        }
        for effect in std::mem::take(&mut self.uncommitted) {
            self.keep(effect)?;
        }
        for (worker, upto) in std::mem::take(&mut self.to_acknowledge) {
            self.workers[worker as usize].outbox.retain(|(n, _)| *n >= upto);
        }
        Ok(())
    }

    fn restart(&mut self) {
        self.service += 1;
        self.report_restarts += 1;
        self.uncommitted.clear();
        self.to_acknowledge.clear();
        let policy = policy(self.scenario);
        let plan = plan(self.scenario);
        match self.began_at {
            Some(began) => {
                let attempts: Vec<PastAttempt> = self.attempts.iter().map(|a| past(a, &self.decided)).collect();
                let batches: Vec<PastBatch> = self.batches.values().cloned().collect();
                self.engine = Engine::restore(policy, plan, began, &attempts, &batches);
            }
            None => {
                self.engine = Engine::new(policy);
                self.feed(Input::Planned(plan));
            }
        }
        for worker in 0..self.scenario.workers {
            let span = Span(self.random.below(2_000_000));
            self.cut_for(worker, span);
        }
    }

    /// Applies an effect to the store, checking what the engine promises.
    fn keep(&mut self, effect: Effect) -> Result<(), String> {
        match effect {
            Effect::Grant(grant) => {
                self.check_grant(&grant)?;
                self.began_at.get_or_insert(Timestamp(0));
                let row = PastBatch {
                    batch: grant.batch,
                    worker: grant.worker,
                    slot: grant.slot,
                    entries: grant.entries.clone(),
                    granted_at: self.now,
                    open: true,
                };
                if self.batches.insert(grant.batch, row).is_some() {
                    return Err(format!("batch {} was granted twice", grant.batch));
                }
                let (worker, index) = (grant.worker.0, self.grants.len());
                self.grants.push(grant);
                let link = self.workers[worker as usize].link;
                self.after(self.scenario.latency, Happening::Granted { worker, link, grant: index });
            }
            Effect::Attempt(attempt) => self.check_attempt(attempt)?,
            Effect::Decided { entry, outcome, .. } => self.decide(entry, outcome)?,
            Effect::BatchOver { batch } => {
                let row = self.batches.get_mut(&batch).ok_or("a batch ended that was never granted")?;
                if !std::mem::replace(&mut row.open, false) {
                    return Err(format!("batch {batch} ended twice"));
                }
            }
            Effect::Revoke { worker, batch } => {
                let w = &mut self.workers[worker.0 as usize];
                for slot in &mut w.slots {
                    slot.take_if(|work| work.batch == batch);
                }
                w.outbox.retain(|(_, m)| m.batch() != batch);
                self.offer();
            }
            Effect::Verdict { verdict, .. } => self.verdict = Some(verdict),
            Effect::Began { .. } | Effect::WentBack { .. } | Effect::Note(_) | Effect::Waiting(_) => {}
        }
        Ok(())
    }

    fn check_grant(&self, grant: &Grant) -> Result<(), String> {
        let plan = self.engine.plan();
        let claims = |entry: &u32| plan.claim_sets[plan.entries[*entry as usize].claims as usize].clone();
        let wanted: BTreeSet<String> = grant.entries.iter().flat_map(claims).collect();
        for other in self.batches.values().filter(|b| b.open) {
            if let Some(claim) = other.entries.iter().flat_map(claims).find(|c| wanted.contains(c)) {
                return Err(format!("batches {} and {} overlap in the claim {claim}", other.batch, grant.batch));
            }
            if other.worker == grant.worker && other.slot == grant.slot {
                return Err(format!("slot {} of worker {} has two batches", grant.slot, grant.worker.0));
            }
            if let Some(entry) =
                grant.entries.iter().find(|e| other.entries.contains(e) && !self.settled_in(**e, other.batch))
            {
                return Err(format!("entry {entry} is in two batches at once"));
            }
        }
        let open = self.batches.values().filter(|b| b.open).count() as u32;
        if self.scenario.shards.is_some_and(|most| open >= most) {
            return Err(format!("{} slots are in use, more than --shards", open + 1));
        }
        for entry in &grant.entries {
            if self.decided.contains_key(entry) {
                return Err(format!("entry {entry} was granted after its outcome"));
            }
            let failing = self.attempts.iter().filter(|a| a.entry == *entry && a.ended.failing()).count();
            if failing > 0 && grant.entries.len() > 1 {
                return Err(format!("the retry of entry {entry} shares its process"));
            }
        }
        self.check_group(grant)
    }

    fn settled_in(&self, entry: u32, batch: BatchId) -> bool {
        self.attempts.iter().any(|a| a.entry == entry && a.batch == batch)
    }

    fn check_group(&self, grant: &Grant) -> Result<(), String> {
        let plan = self.engine.plan();
        let Some(group) = plan.entries[grant.entries[0] as usize].group else {
            return Ok(());
        };
        if !grant.entries.is_sorted() {
            return Err(format!("group {group} runs out of order"));
        }
        let failed_before = |e: &u32| self.attempts.iter().any(|a| a.entry == *e && a.ended.failing());
        if failed_before(&grant.entries[0]) {
            return Ok(());
        }
        let missing = (0..plan.entries.len() as u32)
            .filter(|e| plan.entries[*e as usize].group == Some(group))
            .find(|e| !self.decided.contains_key(e) && !failed_before(e) && !grant.entries.contains(e));
        match missing {
            Some(entry) => Err(format!("entry {entry} was parted from its group {group}")),
            None => Ok(()),
        }
    }

    fn check_attempt(&mut self, attempt: AttemptKept) -> Result<(), String> {
        let entry = attempt.entry;
        let earlier: Vec<&AttemptKept> = self.attempts.iter().filter(|a| a.entry == entry).collect();
        if usize::from(attempt.number) != earlier.len() + 1 {
            return Err(format!("attempt {} of entry {entry} follows {} others", attempt.number, earlier.len()));
        }
        if earlier.iter().any(|a| a.batch == attempt.batch) {
            return Err(format!("entry {entry} was counted twice in batch {}", attempt.batch));
        }
        let counted = earlier.iter().filter(|a| a.ended != Ended::Lost).count();
        if counted > usize::from(self.scenario.retries) && attempt.ended != Ended::Lost {
            return Err(format!("entry {entry} had more attempts than its retries allow"));
        }
        let failed = self.attempts.iter().any(|a| a.entry == entry && a.ended.failing());
        if let Some(outcome) = attempt.decided {
            let right = match attempt.ended {
                Ended::Passed => outcome == if failed { Outcome::Flaky } else { Outcome::Passed },
                Ended::Skipped => outcome == if failed { Outcome::Failed } else { Outcome::Skipped },
                Ended::Lost => {
                    let row = self.attempts.iter().rev().filter(|a| a.entry == entry);
                    let in_a_row = row.take_while(|a| a.ended == Ended::Lost).count() + 1;
                    outcome == Outcome::Failed && in_a_row >= usize::from(MOST_LOST_IN_A_ROW)
                }
                _ => outcome == Outcome::Failed,
            };
            if !right {
                return Err(format!("entry {entry} was called {outcome} after an attempt that {}", attempt.ended));
            }
            self.decide(entry, outcome)?;
        }
        self.attempts.push(attempt);
        Ok(())
    }

    fn decide(&mut self, entry: u32, outcome: Outcome) -> Result<(), String> {
        match self.decided.insert(entry, outcome) {
            Some(earlier) => Err(format!("entry {entry} has two outcomes, {earlier} and {outcome}")),
            None => Ok(()),
        }
    }

    fn close(self) -> Result<Report, String> {
        let all = self.scenario.durations.len();
        if self.decided.len() != all {
            return Err(format!("{} of {all} entries have an outcome", self.decided.len()));
        }
        let mut outcomes = BTreeMap::new();
        for outcome in self.decided.values() {
            *outcomes.entry(*outcome).or_insert(0) += 1;
        }
        let tally = self.engine.tally();
        for outcome in Outcome::ALL {
            if tally.of(*outcome) as usize != outcomes.get(outcome).copied().unwrap_or(0) {
                return Err(format!("the tally of {outcome} does not agree with the outcomes"));
            }
        }
        Ok(Report {
            verdict: self.verdict.unwrap_or(Verdict::Void),
            makespan: self.now.since(Timestamp(0)),
            attempts: self.attempts.len(),
            lost: self.attempts.iter().filter(|a| a.ended == Ended::Lost).count(),
            batches: self.batches.len(),
            restarts: self.report_restarts,
            inputs: self.inputs,
            outcomes,
        })
    }
}

fn past(kept: &AttemptKept, decided: &BTreeMap<u32, Outcome>) -> PastAttempt {
    PastAttempt {
        entry: kept.entry,
        number: kept.number,
        batch: kept.batch,
        worker: kept.worker,
        ended: kept.ended,
        spent: kept.spent,
        decided: decided.get(&kept.entry).copied(),
    }
}

/// How an attempt ends: a function of the seed, the entry and the number of attempts before it, so that it is repeatable.
fn how(scenario: &Scenario, entry: u32, before: u16) -> Ended {
    let mut of_test = Random::new(scenario.seed ^ (u64::from(entry) << 20) ^ 0x51ab);
    let kind = of_test.unit();
    let mut of_attempt = Random::new(of_test.bits() ^ u64::from(before));
    let outcomes = &scenario.outcomes;
    let broken = kind < outcomes.broken_tests;
    let flaky = kind < outcomes.broken_tests + outcomes.flaky_tests;
    if broken || (flaky && of_attempt.chance(outcomes.flaky)) { Ended::Failed } else { Ended::Passed }
}

fn policy(scenario: &Scenario) -> Policy {
    Policy {
        other_worker: scenario.other_worker,
        pause: Span::millis(50),
        give_up_after: scenario.give_up_after,
        run_limit: Span::seconds(365 * 86400),
        patience: Span::seconds(86400),
        shards: scenario.shards,
        most_name_bytes: 1 << 20,
    }
}

fn plan(scenario: &Scenario) -> Plan {
    let entry = |i: usize| {
        let grouped = scenario.group_size > 0 && (i / scenario.group_size).is_multiple_of(3);
        let claimed = scenario.claim_every > 0 && i.is_multiple_of(scenario.claim_every);
        let name =
            TestName::parse(&format!("sim/test-{i}")).unwrap_or_else(|_| unreachable!("the name keeps the rules"));
        PlannedEntry {
            name,
            variant: 0,
            group: grouped.then(|| (i / scenario.group_size) as u32),
            expected: scenario.expected.get(i).copied().flatten(),
            retries: scenario.retries,
            retries_from: RetriesFrom::Start,
            limit: Span::seconds(3600),
            claims: if claimed { 1 + (i as u32 / scenario.claim_every as u32) % 2 } else { 0 },
        }
    };
    Plan {
        variants: vec![Variant::default()],
        entries: (0..scenario.durations.len()).map(entry).collect(),
        claim_sets: vec![vec![], vec!["berth".into()], vec!["crane".into()]],
        listed: scenario.durations.len(),
    }
}
