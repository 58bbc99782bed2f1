//! The simulated world: a service with a store, workers with links, and what goes wrong between them.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, BinaryHeap, VecDeque},
};

use kesmo_core::{
    measure::{Counts, Measured, Part},
    name::TestName,
    plan::{Only, Park, PartOf, Plan, PlannedEntry, Priority},
    run::{
        BatchEnd, BatchId, Cores, Effect, Engine, Fit, Grant, Input, PastBatch, Policy, ToRun, WorkerId,
        cases::CaseTold,
        share::{Share, Sharing},
    },
    suite::Variant,
    time::{Span, Timestamp},
    words::{Ended, Outcome, Verdict},
};

use crate::{
    cases::{known, tells_of_all, told},
    ledger::Ledger,
    random::Random,
    scenario::{Faults, Report, Scenario},
};

/// A batch of one of the runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Key {
    run: usize,
    batch: BatchId,
}

#[derive(Debug, Clone, PartialEq)]
enum Said {
    Began {
        entry: u32,
    },
    Cases {
        entry: u32,
        first: u32,
        cases: Vec<CaseTold>,
    },
    Ended {
        entry: u32,
        ended: Ended,
        spent: Span,
        cases: u32,
        with_start: Option<Cores>,
    },
    GaveBack {
        entries: Vec<u32>,
    },
    Measured(Part),
    Wrong,
    AtGate,
    /// With whether it was told to end.
    BatchEnded {
        revoked: bool,
    },
}

#[derive(Debug, Clone, PartialEq)]
struct Message {
    key: Key,
    said: Said,
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
    AskedBack {
        worker: u32,
        link: u32,
        key: Key,
        from: Option<u32>,
    },
    /// A sender may begin.
    Begin {
        worker: u32,
        link: u32,
        key: Key,
    },
    /// What a process that stays is fed reaches the worker.
    Fed {
        worker: u32,
        link: u32,
        key: Key,
        entries: Vec<u32>,
        last: bool,
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
    key: Key,
    entries: Vec<u32>,
    attempts: Vec<u16>,
    position: usize,
    began: bool,
    /// The only cases that its one file is to run.
    asked: ToRun,
    /// More may be fed to its process, which waits for it.
    more: bool,
    waits: bool,
    /// What starting its process takes, where that is part of its first test's time; and what of that it waits.
    hidden: Span,
    waited: Span,
    /// What it has measured so far, in parts.
    parts: u32,
    /// It waits for the other senders.
    held_back: bool,
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

/// One run: its engine, its share of the fleet, and its store.
struct OneRun {
    engine: Engine,
    share: Share,
    ledger: Ledger,
    began_at: Option<Timestamp>,
    verdict: Option<Verdict>,
}

/// One value that a batch measured.
fn part_of(number: u32, now: Timestamp) -> Part {
    let counts = Counts { count: 1, errors: 0, sum: 1.0, min: 1.0, max: 1.0 };
    let measured = Measured { name: "scan".into(), unit: String::new(), counts, pairs: vec![(1_000_000, 1)] };
    Part { number, second: now.0 / 1_000_000, measures: vec![measured] }
}

struct World<'s> {
    scenario: &'s Scenario,
    random: Random,
    now: Timestamp,
    heap: BinaryHeap<Reverse<(Timestamp, usize, Happening)>>,
    counter: usize,
    workers: Vec<Worker>,
    runs: Vec<OneRun>,
    sharing: Sharing,
    service: u32,
    // What the service did since its last commit, in order.
    uncommitted: Vec<(usize, Effect)>,
    /// The cases that its effects are of, in order; and how many each attempt told of, by run, batch and entry.
    told: VecDeque<Vec<CaseTold>>,
    counts: BTreeMap<(usize, BatchId, u32), u32>,
    /// How many parts of what it measured each batch told that has ended; and batches whose ends were believed.
    parts: BTreeMap<(usize, BatchId), u32>,
    whole: BTreeSet<(usize, BatchId)>,
    to_acknowledge: BTreeMap<u32, usize>,
    commit_planned: bool,
    wake_planned: Option<Timestamp>,
    grants: Vec<(usize, Grant)>,
    asked_back: usize,
    report_restarts: usize,
    /// When the processes that start now have done so.
    starting: Vec<Timestamp>,
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
    for _ in 0..most * scenario.runs.max(1) as usize {
        if world.runs.iter().all(|run| run.verdict.is_some()) {
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
        let one = |number: u32| OneRun {
            engine: Engine::new(policy(scenario, number)),
            share: Share::new(Priority::ALL[number as usize % 3].weight()),
            ledger: Ledger::new(),
            began_at: None,
            verdict: None,
        };
        Self {
            random: Random::new(scenario.seed),
            now: Timestamp(0),
            heap: BinaryHeap::new(),
            counter: 0,
            workers: (0..scenario.workers).map(worker).collect(),
            runs: (0..scenario.runs.max(1)).map(one).collect(),
            sharing: Sharing::default(),
            service: 0,
            uncommitted: Vec::new(),
            told: VecDeque::new(),
            counts: BTreeMap::new(),
            parts: BTreeMap::new(),
            whole: BTreeSet::new(),
            to_acknowledge: BTreeMap::new(),
            commit_planned: false,
            wake_planned: None,
            grants: Vec::new(),
            asked_back: 0,
            report_restarts: 0,
            starting: Vec::new(),
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
        for run in 0..self.runs.len() {
            self.feed(run, Input::Planned(plan(self.scenario)));
        }
        self.offer();
    }

    fn feed(&mut self, run: usize, input: Input) {
        self.inputs += 1;
        self.tell_what_others_hold(run, &input);
        let effects = self.runs[run].engine.handle(input, self.now);
        self.uncommitted.extend(effects.into_iter().map(|effect| (run, effect)));
        self.plan_commit();
        self.plan_wake();
    }

    /// Wakes the service when an engine wants it, unless it is woken before anyway.
    fn plan_wake(&mut self) {
        let soonest = self.runs.iter().filter_map(|run| run.engine.wake_at(self.now)).min();
        if let Some(at) = soonest
            && self.wake_planned.is_none_or(|planned| at < planned)
        {
            self.wake_planned = Some(at);
            let service = self.service;
            self.after(at.since(self.now) + Span::millis(1), Happening::Wake { service });
        }
    }

    fn feed_all(&mut self, input: impl Fn() -> Input) {
        for run in 0..self.runs.len() {
            self.feed(run, input());
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
        let scenario = self.scenario;
        let fit = |(i, w): (usize, &Worker)| {
            let takes: BTreeSet<u16> = (0..scenario.variants).filter(|v| scenario.takes(i as u32, *v)).collect();
            let variants = (takes.len() < usize::from(scenario.variants)).then_some(takes);
            w.up.then_some((WorkerId(i as u32), Fit { slots: w.slots.len() as u32, variants }))
        };
        let workers: BTreeMap<WorkerId, Fit> = self.workers.iter().enumerate().filter_map(fit).collect();
        self.feed_all(|| Input::Fleet {
            workers: workers.clone(),
            none_because: "waiting for a worker".into(),
            none_for: BTreeMap::new(),
        });
    }

    /// Offers every slot that has no batch, as the service knows it, to the runs as their shares say; what stays idle may
    /// have something given back.
    fn offer(&mut self) {
        let batches = |run: &OneRun| run.engine.open_batches().map(|(_, w, s)| (w.0, s)).collect::<Vec<_>>();
        let busy: BTreeSet<(u32, u16)> = self.runs.iter().flat_map(batches).collect();
        let mut idle = 0;
        for worker in 0..self.scenario.workers {
            for slot in 0..self.scenario.slots_each {
                if self.workers[worker as usize].up && !busy.contains(&(worker, slot)) {
                    idle += u32::from(!self.offer_slot(WorkerId(worker), slot));
                }
            }
        }
        if idle > 0 && busy.len() > 1 {
            self.split_for_idle(idle);
        } else if self.runs.len() > 1 && self.random.chance(0.02) {
            let run = self.random.below(self.runs.len() as u64) as usize;
            let slots = 1 + self.random.below(3) as u32;
            self.feed(run, Input::Wanted { slots });
        }
    }

    /// What one run is asked to give back for an idle slot, another need not.
    fn split_for_idle(&mut self, idle: u32) {
        let mut idle = idle.saturating_sub(self.runs.iter().map(|run| run.engine.still_asked()).sum());
        let mut order: Vec<usize> = (0..self.runs.len()).collect();
        let tag = |r: &usize| self.sharing.tag(&self.runs[*r].share);
        order.sort_by(|a, b| tag(a).total_cmp(&tag(b)));
        for run in order {
            if idle == 0 {
                break;
            }
            let before = self.runs[run].engine.still_asked();
            self.feed(run, Input::Idle { slots: idle });
            idle = idle.saturating_sub(self.runs[run].engine.still_asked().saturating_sub(before));
        }
    }

    /// Two runs that gather slots at once might each hold what the other needs.
    fn may_gather(&self, run: usize) -> bool {
        let gathers = |r: &OneRun| r.engine.gathers();
        self.scenario.senders == 0 || gathers(&self.runs[run]) || !self.runs.iter().any(gathers)
    }

    fn offer_slot(&mut self, worker: WorkerId, slot: u16) -> bool {
        let mut order: Vec<usize> =
            (0..self.runs.len()).filter(|r| self.runs[*r].engine.wants_slots() && self.may_gather(*r)).collect();
        let tag = |r: &usize| self.sharing.tag(&self.runs[*r].share);
        order.sort_by(|a, b| tag(a).total_cmp(&tag(b)));
        for run in order {
            let before = self.uncommitted.len();
            self.feed(run, Input::Free { worker, slot });
            let granted = self.uncommitted[before..].iter().find_map(|(_, effect)| match effect {
                Effect::Grant(grant) => Some(grant.entries.clone()),
                _ => None,
            });
            if let Some(entries) = granted {
                let work = self.runs[run].engine.worth(&entries);
                let Self { sharing, runs, .. } = self;
                sharing.served(&mut runs[run].share, work);
                return true;
            }
        }
        false
    }

    fn happen(&mut self, happening: Happening) -> Result<(), String> {
        match happening {
            Happening::Step { worker, life, slot } => self.step(worker, life, slot),
            Happening::Arrive { worker, link, upto } => self.arrive(worker, link, upto),
            Happening::Commit { service } => return self.commit(service),
            Happening::Granted { worker, link, grant } => self.granted(worker, link, grant),
            Happening::AskedBack { worker, link, key, from } => self.asked_back(worker, link, key, from),
            Happening::Begin { worker, link, key } => self.let_through(worker, link, key),
            Happening::Fed { worker, link, key, entries, last } => self.fed(worker, link, key, &entries, last),
            Happening::LinkUp { worker, link } => self.link_up(worker, link),
            Happening::LinkLost { worker, link } => {
                let w = &self.workers[worker as usize];
                if w.link == link && !w.up {
                    self.feed_all(|| Input::WorkerLost { worker: WorkerId(worker) });
                    self.offer();
                }
            }
            Happening::Wake { service } => {
                if service == self.service {
                    self.wake_planned = None;
                    for (number, run) in self.runs.iter_mut().enumerate() {
                        let effects = run.engine.handle(Input::Tick, self.now);
                        self.uncommitted.extend(effects.into_iter().map(|effect| (number, effect)));
                    }
                    self.plan_commit();
                    self.offer();
                    self.plan_wake();
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
        let (run, grant) = &self.grants[grant];
        let had = |e: &u32| self.runs[*run].ledger.attempts.iter().filter(|a| a.entry == *e).count() as u16;
        let attempts = grant.entries.iter().map(had).collect();
        let key = Key { run: *run, batch: grant.batch };
        let asked = grant.to_run.clone();
        let (more, waits, entries) = (grant.more, false, grant.entries.clone());
        // Those that start at once wait for each other.
        let (now, cores) = (self.now, u64::from(scenario.cores));
        self.starting.retain(|end| *end > now);
        let ahead = self.starting.len() as u64 + 1;
        let start = if cores == 0 { scenario.start_cost } else { Span(scenario.start_cost.0 * ahead.div_ceil(cores)) };
        self.starting.push(now + start);
        let waited = Span(start.0 - scenario.start_cost.0.min(start.0));
        let (start, hidden) = if scenario.hidden_starts { (Span::ZERO, start) } else { (start, Span::ZERO) };
        let work = AtWork {
            key,
            entries,
            attempts,
            position: 0,
            began: false,
            asked,
            more,
            waits,
            hidden,
            waited,
            parts: 0,
            held_back: false,
        };
        let held_back = grant.senders.is_some();
        let work = AtWork { held_back, ..work };
        let w = &mut self.workers[worker as usize];
        let (life, slot) = (w.life, grant.slot);
        w.slots[usize::from(slot)] = Some(work);
        self.after(start, Happening::Step { worker, life, slot });
    }

    /// A sender may begin, and is told so perhaps for the second time.
    fn let_through(&mut self, worker: u32, link: u32, key: Key) {
        let w = &mut self.workers[worker as usize];
        if w.link != link || !w.up {
            return;
        }
        // What it says again in a while, it does not say then: it begins.
        if let Some(work) = w.slots.iter_mut().flatten().find(|work| work.key == key) {
            work.held_back = false;
        }
    }

    /// More is fed to a process that stays, some of it perhaps for the second time.
    fn fed(&mut self, worker: u32, link: u32, key: Key, entries: &[u32], last: bool) {
        let w = &mut self.workers[worker as usize];
        if w.link != link || !w.up {
            return;
        }
        let life = w.life;
        let Some(slot) = w.slots.iter().position(|work| work.as_ref().is_some_and(|work| work.key == key)) else {
            return;
        };
        let Some(work) = &mut w.slots[slot] else { return };
        // A process that has died takes nothing more.
        if !work.more {
            return;
        }
        let new: Vec<u32> = entries.iter().copied().filter(|e| !work.entries.contains(e)).collect();
        let had = |e: &u32| self.runs[key.run].ledger.attempts.iter().filter(|a| a.entry == *e).count() as u16;
        work.attempts.extend(new.iter().map(had));
        work.entries.extend(new);
        work.more = !last;
        if std::mem::take(&mut work.waits) {
            self.after(Span::ZERO, Happening::Step { worker, life, slot: slot as u16 });
        }
    }

    /// A worker is asked to give back what a batch has not begun, or a part of it. One that cannot tell a part gives all.
    fn asked_back(&mut self, worker: u32, link: u32, key: Key, from: Option<u32>) {
        let from = from.filter(|_| !self.random.chance(0.1));
        let w = &mut self.workers[worker as usize];
        if w.link != link || !w.up {
            return;
        }
        let Some(work) = w.slots.iter_mut().flatten().find(|work| work.key == key) else { return };
        let kept = from.and_then(|from| work.entries.iter().position(|entry| *entry == from)).unwrap_or(1);
        let kept = (work.position + usize::from(work.began)).max(kept).min(work.entries.len());
        let entries = work.entries.split_off(kept);
        if !entries.is_empty() || from.is_some() {
            self.send(worker, Message { key, said: Said::GaveBack { entries } });
        }
    }

    fn step(&mut self, worker: u32, life: u32, slot: u16) {
        let w = &mut self.workers[worker as usize];
        if w.life != life {
            return;
        }
        let Some(work) = &mut w.slots[usize::from(slot)] else {
            return;
        };
        let key = work.key;
        if work.held_back {
            // It says so again until it may begin.
            self.send(worker, Message { key, said: Said::AtGate });
            self.after(Span::seconds(2), Happening::Step { worker, life, slot });
            return;
        }
        if work.position == work.entries.len() && work.more {
            work.waits = true;
            return;
        }
        if work.position == work.entries.len() {
            let parts = work.parts;
            w.slots[usize::from(slot)] = None;
            if self.random.chance(self.scenario.faults.bad_end) {
                self.send(worker, Message { key, said: Said::Wrong });
            }
            self.parts.insert((key.run, key.batch), parts);
            self.send(worker, Message { key, said: Said::BatchEnded { revoked: false } });
            return;
        }
        let entry = work.entries[work.position];
        let duration = self.scenario.durations[entry as usize];
        let hidden = if work.position == 0 { work.hidden } else { Span::ZERO };
        let waited = work.waited;
        let waited = (hidden > Span::ZERO).then(|| Cores { ran: Span(hidden.0 - waited.0.min(hidden.0)), waited });
        let before = work.attempts[work.position];
        let mut cases = match self.scenario.files {
            true => told(self.scenario, key.run, entry, before, &work.asked),
            false => Vec::new(),
        };
        let misses = self.scenario.parts > 0 && !tells_of_all(self.scenario, key.run, entry, &work.asked);
        // The first half of its cases is told as a file begins, the rest when it ends.
        let later = cases.split_off(cases.len() / 2);
        let first = cases.len() as u32;
        if !work.began {
            work.began = true;
            self.send(worker, Message { key, said: Said::Began { entry } });
            if !cases.is_empty() {
                self.send(worker, Message { key, said: Said::Cases { entry, first: 0, cases } });
            }
            self.after(duration + hidden, Happening::Step { worker, life, slot });
            return;
        }
        let attempt = work.attempts[work.position];
        work.began = false;
        work.position += 1;
        let mut ended = how(self.scenario, key.run, entry, attempt);
        if misses {
            ended = Ended::Failed;
        }
        if ended != Ended::Skipped && self.random.chance(self.scenario.faults.crash) {
            ended = Ended::Crashed;
            let w = &mut self.workers[worker as usize];
            if let Some(work) = &mut w.slots[usize::from(slot)] {
                work.position = work.entries.len();
                work.more = false;
            }
        }
        let mut cases = first;
        if ended != Ended::Crashed && !later.is_empty() {
            cases += later.len() as u32;
            self.send(worker, Message { key, said: Said::Cases { entry, first, cases: later } });
        }
        self.counts.insert((key.run, key.batch, entry), cases);
        if let Some(part) = self.measure(worker, slot, key) {
            self.send(worker, Message { key, said: Said::Measured(part) });
        }
        self.send(
            worker,
            Message { key, said: Said::Ended { entry, ended, spent: duration + hidden, cases, with_start: waited } },
        );
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
        let mut holds: BTreeSet<Key> = w.slots.iter().flatten().map(|s| s.key).collect();
        holds.extend(w.outbox.iter().map(|(_, m)| m.key));
        let upto = w.next_number;
        // What runs now is said again, as the service may not know it.
        let running: Vec<Message> = w
            .slots
            .iter()
            .flatten()
            .filter(|s| s.began)
            .map(|s| Message { key: s.key, said: Said::Began { entry: s.entries[s.position] } })
            .collect();
        self.fleet();
        let held_back: BTreeSet<Key> =
            self.workers[worker as usize].slots.iter().flatten().filter(|s| s.held_back).map(|s| s.key).collect();
        for run in 0..self.runs.len() {
            let of_run: BTreeSet<BatchId> = holds.iter().filter(|key| key.run == run).map(|key| key.batch).collect();
            self.feed(run, Input::WorkerBack { worker: WorkerId(worker), holds: of_run.clone() });
            for batch in of_run.into_iter().filter(|batch| !held_back.contains(&Key { run, batch: *batch })) {
                if self.runs[run].engine.holder(batch) == Some(WorkerId(worker)) {
                    self.feed(run, Input::WasThrough { batch });
                }
            }
        }
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
        for (_, Message { key: Key { run, batch }, said }) in messages {
            let input = match said {
                Said::Began { entry } => Input::Began { batch, entry },
                Said::Ended { entry, ended, spent, cases, with_start } => {
                    Input::Ended { batch, entry, ended, spent, cases, with_start }
                }
                Said::Cases { entry, first, cases } => Input::Cases { batch, entry, first, cases },
                Said::GaveBack { entries } => Input::GaveBack { batch, entries },
                Said::Measured(part) => Input::Measured { batch, part },
                Said::Wrong => Input::Wrong { batch, why: "a process ended badly".into() },
                Said::AtGate => Input::AtGate { batch },
                Said::BatchEnded { revoked: false } => Input::BatchEnded { batch, end: BatchEnd::Done },
                Said::BatchEnded { revoked: true } => Input::BatchEnded { batch, end: BatchEnd::Revoked },
            };
            self.hear(run, worker, input);
        }
        self.to_acknowledge.insert(worker, upto);
        if self.random.chance(self.scenario.faults.lie) {
            self.lie(worker);
        }
        self.offer();
    }

    /// What an attempt measured, as the next part of its batch.
    /// Where nothing goes wrong it would only be in the way of what is measured there.
    fn measure(&mut self, worker: u32, slot: u16, key: Key) -> Option<Part> {
        if self.scenario.faults == Faults::default() {
            return None;
        }
        let work = self.workers[worker as usize].slots[usize::from(slot)].as_mut().filter(|work| work.key == key)?;
        work.parts += 1;
        Some(part_of(work.parts, self.now))
    }

    fn tell_what_others_hold(&mut self, run: usize, before: &Input) {
        if self.runs[run].engine.minds_others(before) {
            let others = self.runs.iter().enumerate().filter(|(other, _)| *other != run);
            let held = others.flat_map(|(_, r)| r.engine.held_claims().map(|c| (c.to_owned(), "another".to_owned())));
            let held = held.collect();
            self.runs[run].engine.others_hold(held);
        }
    }

    /// What a worker says.
    fn hear(&mut self, run: usize, worker: u32, input: Input) {
        self.inputs += 1;
        let cases = if let Input::Cases { cases, .. } = &input { cases.clone() } else { Vec::new() };
        let ends = if let Input::BatchEnded { batch, .. } = &input { Some(*batch) } else { None };
        self.tell_what_others_hold(run, &input);
        let effects = self.runs[run].engine.hear(WorkerId(worker), input, self.now);
        if effects.iter().any(|effect| matches!(effect, Effect::Cases { .. })) {
            self.told.push_back(cases);
        }
        if let Some(batch) = ends.filter(|batch| effects.contains(&Effect::BatchOver { batch: *batch })) {
            self.whole.insert((run, batch));
        }
        self.uncommitted.extend(effects.into_iter().map(|effect| (run, effect)));
        self.plan_commit();
        self.plan_wake();
    }

    /// Something that is not so: of a batch that the liar does not hold, or of entries that its own does not have. The engine
    /// must have nothing of it.
    fn lie(&mut self, worker: u32) {
        let run = self.random.below(self.runs.len() as u64) as usize;
        let batch = BatchId(self.random.below(60) as u32);
        let own = self.runs[run].engine.holder(batch) == Some(WorkerId(worker));
        let some = self.random.below(self.scenario.durations.len() as u64 * 2) as u32;
        let entry = if own { u32::MAX - some } else { some };
        let spent = Span(u64::MAX);
        let lie = CaseTold { title: "a lie".into(), ended: Ended::Failed, spent, copy: false };
        let input = match self.random.below(if own { 4 } else { 8 }) {
            0 => Input::Began { batch, entry },
            1 => Input::Ended { batch, entry, ended: Ended::Passed, spent, cases: 0, with_start: None },
            2 => Input::GaveBack { batch, entries: vec![entry, u32::MAX] },
            3 => Input::Cases { batch, entry, first: 0, cases: vec![lie] },
            4 => Input::Wrong { batch, why: "a lie".into() },
            5 => Input::BatchEnded { batch, end: BatchEnd::Unfit("a lie".into()) },
            6 => Input::Measured { batch, part: part_of(u32::MAX, self.now) },
            _ => Input::Stop { reason: "a lie".into() },
        };
        self.hear(run, worker, input);
    }

    fn commit(&mut self, service: u32) -> Result<(), String> {
        if service != self.service {
            return Ok(());
        }
        self.commit_planned = false;
        if self.random.chance(self.scenario.faults.kill_service) {
            return self.restart();
        }
        for (run, effect) in std::mem::take(&mut self.uncommitted) {
            self.keep(run, effect)?;
        }
        self.check_claims()?;
        for (worker, upto) in std::mem::take(&mut self.to_acknowledge) {
            self.workers[worker as usize].outbox.retain(|(n, _)| *n >= upto);
        }
        Ok(())
    }

    /// Two runs must not hold one claim at once.
    fn check_claims(&self) -> Result<(), String> {
        let mut held: BTreeSet<&str> = BTreeSet::new();
        for run in &self.runs {
            for claim in run.ledger.held_claims(run.engine.plan()) {
                if !held.insert(claim) {
                    return Err(format!("two runs hold the claim {claim}"));
                }
            }
        }
        Ok(())
    }

    fn restart(&mut self) -> Result<(), String> {
        self.service += 1;
        self.report_restarts += 1;
        self.uncommitted.clear();
        self.told.clear();
        self.whole.clear();
        self.to_acknowledge.clear();
        self.wake_planned = None;
        self.sharing = Sharing::default();
        for number in 0..self.runs.len() {
            let policy = policy(self.scenario, number as u32);
            let plan = plan(self.scenario);
            let run = &mut self.runs[number];
            run.share = Share::new(run.share.weight());
            match run.began_at {
                _ if run.verdict.is_some() => {}
                Some(began) => {
                    let batches: Vec<PastBatch> = run.ledger.batches.values().cloned().collect();
                    let past = run.ledger.past();
                    let wrongs = run.ledger.wrongs.clone();
                    let (tallies, rows) = (run.ledger.cases.tallies().0, run.ledger.cases.past());
                    let engine = Engine::restore(policy, plan, began, &past, &batches)?.with_wrongs(wrongs);
                    run.engine = engine.with_measured(run.ledger.gathered()).with_cases(&tallies, &rows);
                }
                None => {
                    run.engine = Engine::new(policy);
                    self.feed(number, Input::Planned(plan));
                }
            }
        }
        for worker in 0..self.scenario.workers {
            let span = Span(self.random.below(2_000_000));
            self.cut_for(worker, span);
        }
        Ok(())
    }

    /// Applies an effect to the store, checking what the engine promises.
    fn keep(&mut self, run: usize, effect: Effect) -> Result<(), String> {
        let one = &mut self.runs[run];
        let plan = one.engine.plan();
        match effect {
            Effect::Cases { entry, number, first, skip, outcomes } => {
                let cases = self.told.pop_front().ok_or("cases were kept that nobody told of")?;
                if cases.len() != skip as usize + outcomes.len() {
                    return Err(format!("{} outcomes for {} cases", outcomes.len(), cases.len()));
                }
                if cases.iter().any(|case| case.title == "a lie") {
                    return Err("a lie about cases was believed".into());
                }
                one.ledger.cases.add(entry, number, first, cases.into_iter().skip(skip as usize).zip(outcomes))?;
            }
            Effect::CasesSettled { entry } => one.ledger.cases.settle(entry),
            Effect::CasesLost { entry, number } => one.ledger.cases.lost(entry, number),
            Effect::Grant(grant) => {
                one.ledger.grant(plan, self.scenario, &grant, self.now)?;
                one.began_at.get_or_insert(Timestamp(0));
                let (worker, index) = (grant.worker.0, self.grants.len());
                self.grants.push((run, grant));
                let link = self.workers[worker as usize].link;
                self.after(self.scenario.latency, Happening::Granted { worker, link, grant: index });
            }
            Effect::GiveBack { worker: WorkerId(worker), batch, from } => {
                self.asked_back += 1;
                let link = self.workers[worker as usize].link;
                let asked = Happening::AskedBack { worker, link, key: Key { run, batch }, from };
                self.after(self.scenario.latency, asked);
            }
            Effect::Attempt(attempt) => {
                let (entry, kept) = (attempt.entry, one.ledger.cases.count(attempt.entry, attempt.number));
                let told = self.counts.get(&(run, attempt.batch, entry)).copied().unwrap_or(0);
                let wanted = if attempt.ended == Ended::Lost { 0 } else { told };
                if kept != wanted as usize {
                    return Err(format!(
                        "of attempt {} of entry {entry} {kept} cases are kept of {wanted}",
                        attempt.number
                    ));
                }
                if matches!(attempt.decided, Some(Outcome::Passed | Outcome::Flaky)) && self.scenario.files {
                    let aside = plan.aside_of(entry).to_vec();
                    // What is new may run in the last part alone, or not at all where the rest cannot be run.
                    let only = match plan.entries[entry as usize].part {
                        Some(part) if !part.rest => plan.cases_of(entry).to_vec(),
                        _ => Vec::new(),
                    };
                    let all =
                        crate::cases::told(self.scenario, run, entry, 0, &ToRun { aside, only, ..ToRun::default() });
                    let shown = one.ledger.cases.merged(entry);
                    if let Some(never) = all.iter().find(|case| !shown.contains_key(case.title.as_str())) {
                        return Err(format!("entry {entry} did not fail, and its {:?} never ran", never.title));
                    }
                }
                one.ledger.attempt(plan, self.scenario, attempt)?;
            }
            Effect::Decided { entry, number, outcome } => {
                // A parked entry has no row of its own: the plan says what it is.
                if number > 0 || outcome != Outcome::Parked || !one.ledger.decided.contains_key(&entry) {
                    one.ledger.decide(entry, outcome)?;
                }
            }
            Effect::Feed { worker: WorkerId(worker), batch, entries, last } => {
                one.ledger.fed(plan, batch, &entries)?;
                let link = self.workers[worker as usize].link;
                let key = Key { run, batch };
                self.after(self.scenario.latency, Happening::Fed { worker, link, key, entries, last });
            }
            Effect::Measured { batch, part } => one.ledger.measured(batch, part)?,
            Effect::WentBack { .. } | Effect::Covers { .. } => {}
            Effect::GaveBack { batch, left } => one.ledger.gave_back(batch, left),
            Effect::Wrong(why) if why == "a lie" => return Err("a lie was believed".into()),
            Effect::Wrong(why) => one.ledger.wrongs.push(why),
            Effect::Unlisted(_) => return Err("tests were called unlisted after the plan was made".into()),
            Effect::BatchOver { batch } => {
                one.ledger.over(batch)?;
                let (kept, wanted) = (one.ledger.parts_of(batch), self.parts.get(&(run, batch)).copied());
                if self.whole.remove(&(run, batch)) && wanted.is_some_and(|wanted| wanted != kept) {
                    return Err(format!("of batch {batch} {kept} parts of what it measured are kept of {wanted:?}"));
                }
            }
            Effect::Begin { worker, batch } => {
                one.ledger.all_begin(plan, batch)?;
                let (worker, link) = (worker.0, self.workers[worker.0 as usize].link);
                self.after(self.scenario.latency, Happening::Begin { worker, link, key: Key { run, batch } });
            }
            Effect::Revoke { worker, batch } => {
                let w = &mut self.workers[worker.0 as usize];
                let key = Key { run, batch };
                let mut had = false;
                for slot in &mut w.slots {
                    had |= slot.take_if(|work| work.key == key).is_some();
                }
                w.outbox.retain(|(_, m)| m.key != key);
                if had && one.ledger.batches.get(&batch).is_some_and(|b| b.open) {
                    self.send(worker.0, Message { key, said: Said::BatchEnded { revoked: true } });
                }
                self.offer();
            }
            Effect::Verdict { verdict, .. } => one.verdict = Some(verdict),
            Effect::Began { .. } | Effect::Note(_) | Effect::Waiting(_) => {}
        }
        Ok(())
    }

    fn close(self) -> Result<Report, String> {
        let all = self.scenario.durations.len();
        let mut outcomes = BTreeMap::new();
        for run in &self.runs {
            if run.ledger.decided.len() != all {
                return Err(format!("{} of {all} entries have an outcome", run.ledger.decided.len()));
            }
            for outcome in run.ledger.decided.values() {
                *outcomes.entry(*outcome).or_insert(0) += 1;
            }
            if run.verdict == Some(Verdict::Passed) && !run.ledger.wrongs.is_empty() {
                return Err("a run passed though a process of it ended badly".into());
            }
            let measured = run.engine.measured().named("scan").map_or(0, |m| m.spread.counts.count);
            if measured != run.ledger.parts() {
                return Err(format!("{measured} values are counted, and {} kept", run.ledger.parts()));
            }
            let tally = run.engine.tally();
            // What was told of files that were not over when the run ended stays as it was told.
            if tally.cases != run.ledger.cases.tallies().1 {
                return Err(format!(
                    "{:?} is not how the cases stand: {:?}",
                    tally.cases,
                    run.ledger.cases.tallies().1
                ));
            }
            run.ledger.cases_are_apart(run.engine.plan(), self.scenario)?;
            let outcomes = run.ledger.of_files(self.scenario);
            for outcome in Outcome::ALL {
                let kept = outcomes.iter().filter(|o| *o == outcome).count();
                if tally.of(*outcome) as usize != kept {
                    return Err(format!("the tally of {outcome} does not agree with the outcomes"));
                }
            }
        }
        let attempts = || self.runs.iter().flat_map(|run| &run.ledger.attempts);
        Ok(Report {
            verdict: self.runs[0].verdict.unwrap_or(Verdict::Void),
            makespan: self.now.since(Timestamp(0)),
            asked_back: self.asked_back,
            attempts: attempts().count(),
            lost: attempts().filter(|a| a.ended == Ended::Lost).count(),
            batches: self.runs.iter().map(|run| run.ledger.batches.len()).sum(),
            restarts: self.report_restarts,
            inputs: self.inputs,
            outcomes,
        })
    }
}

/// How an attempt ends: a function of the seed, the entry and the number of attempts before it, so that it is repeatable.
fn how(scenario: &Scenario, run: usize, entry: u32, before: u16) -> Ended {
    let mut of_test = Random::new(scenario.seed ^ (u64::from(entry) << 20) ^ ((run as u64) << 50) ^ 0x51ab);
    let kind = of_test.unit();
    let mut of_attempt = Random::new(of_test.bits() ^ u64::from(before));
    let outcomes = &scenario.outcomes;
    let broken = kind < outcomes.broken_tests;
    let flaky = kind < outcomes.broken_tests + outcomes.flaky_tests;
    if broken || (flaky && of_attempt.chance(outcomes.flaky)) { Ended::Failed } else { Ended::Passed }
}

fn policy(scenario: &Scenario, run: u32) -> Policy {
    Policy {
        other_worker: scenario.other_worker,
        pause: Span::millis(50),
        give_up_after: scenario.give_up_after,
        run_limit: Span::seconds(365 * 86400),
        patience: Span::seconds(86400),
        shards: scenario.shards,
        batch_limit: Span::seconds(86400),
        start_cost: Some(scenario.start_known.unwrap_or(scenario.start_cost)),
        run_parked: scenario.run_parked,
        shuffle: scenario.shuffle.then_some(scenario.seed ^ u64::from(run)),
        files: scenario.files,
        rerun: scenario.rerun,
        fed: scenario.fed && !scenario.files && scenario.senders == 0,
        senders: (scenario.senders > 0).then_some(scenario.senders),
        ..Policy::default()
    }
}

fn plan(scenario: &Scenario) -> Plan {
    let entry = |i: usize| {
        // The senders of a load are of one test, and the parts of a file of one file.
        let senders = scenario.senders as usize;
        let several = senders.max(scenario.parts as usize);
        let of = i.checked_div(several).unwrap_or(i);
        let grouped = senders == 0 && scenario.group_size > 0 && (i / scenario.group_size).is_multiple_of(3);
        let claimed = senders == 0 && scenario.claim_every > 0 && i.is_multiple_of(scenario.claim_every);
        let parked = scenario.park_every > 0 && of % scenario.park_every == 1;
        let name =
            TestName::parse(&format!("sim/test-{of}")).unwrap_or_else(|_| unreachable!("the name keeps the rules"));
        let expected = scenario.expected.get(i).copied().flatten();
        // The members of a group are of one variant.
        let variant = match several {
            0 => i.checked_div(scenario.group_size).unwrap_or(i),
            _ => of,
        } as u16
            % scenario.variants.max(1);
        PlannedEntry {
            variant,
            parked: parked.then_some(0),
            group: grouped.then(|| (i / scenario.group_size) as u32),
            expected,
            spread: Span(expected.unwrap_or_default().0 / 10),
            repeat: i.checked_rem(several).map_or(0, |n| n as u16 + 1),
            retries: if senders > 0 { 0 } else { scenario.retries },
            limit: Span::seconds(3600),
            claims: if claimed { 1 + (i as u32 / scenario.claim_every as u32) % 2 } else { 0 },
            ..PlannedEntry::plain(name)
        }
    };
    let variant = |n: u16| Variant::of(vec![("sea".into(), n.to_string())]);
    let plan = Plan {
        variants: (0..scenario.variants.max(1)).map(variant).collect(),
        entries: (0..scenario.durations.len()).map(entry).collect(),
        claim_sets: vec![vec![], vec!["berth".into()], vec!["crane".into()]],
        parks: vec![Park {
            pattern: "**".into(),
            why: String::new(),
            until: String::new(),
            over: false,
            only: Only::default(),
        }],
        listed: scenario.durations.len(),
        case_sets: vec![vec![]],
        ..Plan::default()
    };
    if scenario.parts > 0 { in_parts(scenario, plan) } else { plan }
}

/// Entries as the parts of files.
fn in_parts(scenario: &Scenario, mut plan: Plan) -> Plan {
    for index in 0..plan.entries.len() {
        let dealt = known(scenario, index as u32);
        let at = index % dealt.len();
        let last = at + 1 == dealt.len();
        let others = dealt.iter().enumerate().filter(|(other, _)| *other != at).flat_map(|(_, of)| of.iter().cloned());
        plan.case_sets.push(others.collect());
        let aside = plan.case_sets.len() as u32 - 1;
        plan.case_sets.push(dealt[at].clone());
        let entry = &mut plan.entries[index];
        entry.cases = aside + 1;
        let (rest, only) = (scenario.rest && last, scenario.rest && !last);
        entry.part = Some(PartOf { of: dealt.len() as u16, aside, rest, only });
    }
    plan
}
