//! Which run is given a slot that is idle, and who gives one back for it: as shares and dues say
//! ([`kesmo_core::run::share`]).

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    time::Duration,
};

use kesmo_core::{
    run::{
        Input, WorkerId,
        share::{Beside, Holding},
    },
    time::Timestamp,
};
use tokio::time::Instant;

use crate::{
    active::{ActiveRun, Lack},
    clock::now,
    floor::{Floor, IDLE_EVERY},
};

/// A run that has less than its due waits so long before others are asked to give back, and again before they are asked for more.
const HUNGRY_AFTER: Duration = Duration::from_secs(1);
/// So many slots are given something before that is committed: what else comes does not wait for thousands of them. With fewer, slots
/// are idle for longer where a run begins.
const MOST_GIVEN: usize = 150;

impl Floor {
    /// Offers idle slots to the runs, as their shares say.
    pub(super) fn give_slots_out(&mut self) {
        self.tell_dues();
        let mut idle = Vec::new();
        self.gives_on = false;
        for (worker, slot) in self.workers.idle_slots() {
            if self.given >= MOST_GIVEN {
                self.gives_on = true;
                return;
            }
            let mut order: Vec<(f64, f64, i64)> = self
                .runs
                .iter()
                .filter(|(_, r)| r.engine.wants_slots() && r.capable.contains(&worker))
                .filter(|(id, r)| r.engine.policy().senders.is_none() || self.may_gather(**id, r))
                .map(|(id, r)| {
                    let tag = self.sharing.get(&r.row.pool).copied().unwrap_or_default().tag(&r.share);
                    (tag, r.row.place(), *id)
                })
                .collect();
            // Runs that had nothing yet have the same tag: they are served in the order of the queue.
            let lacks = |id: &i64| self.runs.get(id).is_some_and(ActiveRun::lacks_slots);
            let gathers = |id: &i64| self.runs.get(id).is_some_and(|r| r.engine.gathers());
            // What holds slots that do nothing until it has all of them goes first.
            order.sort_by(|a, b| {
                gathers(&b.2)
                    .cmp(&gathers(&a.2))
                    // What others were asked to give up for it is not theirs again, by whatever they had so far.
                    .then(lacks(&b.2).cmp(&lacks(&a.2)))
                    .then(a.0.total_cmp(&b.0))
                    .then(a.1.total_cmp(&b.1))
                    .then(a.2.cmp(&b.2))
            });
            for (_, _, run) in order {
                self.feed(run, Input::Free { worker, slot });
                if !self.workers.is_idle(worker, slot) {
                    break;
                }
            }
            if self.workers.is_idle(worker, slot) {
                idle.push(worker);
            } else {
                self.given += 1;
            }
        }
        self.put_idle_to_use(&idle);
    }

    /// Tells each run how many slots are its due, where others of its pool hold or want some, too.
    fn tell_dues(&mut self) {
        let stamp = now();
        let mut dues: HashMap<i64, u32> = HashMap::new();
        for (pool, runs) in self.runs_by_pool() {
            if runs.iter().any(|id| self.runs[id].engine.wants_slots()) {
                let beside = self.beside(pool, &runs, &BTreeSet::new(), stamp);
                dues.extend(runs.iter().enumerate().map(|(place, id)| (*id, beside.due(place))));
            }
        }
        for (id, run) in &mut self.runs {
            run.engine.share(dues.get(id).copied());
        }
    }

    /// The runs of each pool that has several which hold slots or want some.
    fn runs_by_pool(&self) -> BTreeMap<&str, Vec<i64>> {
        let mut pools: BTreeMap<&str, Vec<i64>> = BTreeMap::new();
        for (id, run) in self.runs.iter().filter(|(id, r)| r.engine.slots_in_use() > 0 || self.wants_slot(**id, r)) {
            pools.entry(&run.row.pool).or_default().push(*id);
        }
        pools.retain(|_, runs| runs.len() > 1);
        pools
    }

    /// The runs of a pool beside each other.
    fn beside(&self, pool: &str, runs: &[i64], idle: &BTreeSet<WorkerId>, now: Timestamp) -> Beside {
        let holdings = runs.iter().map(|id| self.holding(*id, &self.runs[id], idle, now)).collect();
        Beside::of(self.workers.slots_in(pool), holdings)
    }

    /// Whether a run may gather slots for tests that run on several at once: two that did so in one pool might each hold what the
    /// other needs.
    fn may_gather(&self, id: i64, run: &ActiveRun) -> bool {
        let gathers = |(other, r): (&i64, &ActiveRun)| *other != id && r.row.pool == run.row.pool && r.engine.gathers();
        run.engine.gathers() || !self.runs.iter().any(gathers)
    }

    /// Slots that stay idle, and runs that have less than their due, have running batches give back what they have not
    /// begun.
    fn put_idle_to_use(&mut self, idle: &[WorkerId]) {
        let working = self.runs.values().any(|r| r.engine.slots_in_use() > 0);
        let hungry = self.runs.len() > 1 && self.runs.iter().any(|(id, r)| self.wants_slot(*id, r));
        self.idle = working && (!idle.is_empty() || hungry);
        if !self.idle || self.idle_looked.elapsed() < IDLE_EVERY {
            return;
        }
        self.idle_looked = Instant::now();
        self.split_for_idle(idle.to_vec());
        self.feed_hungry(&idle.iter().copied().collect());
    }

    /// Has running batches give back what they have not begun, one for each idle slot, of those runs first that would be given it.
    fn split_for_idle(&mut self, mut idle: Vec<WorkerId>) {
        let tag = |r: &ActiveRun| self.sharing.get(&r.row.pool).copied().unwrap_or_default().tag(&r.share);
        let at_work = self.runs.iter().filter(|(_, r)| r.engine.slots_in_use() > 0);
        let mut order: Vec<(f64, i64)> = at_work.map(|(id, r)| (tag(r), *id)).collect();
        order.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        // What is on its way to one of them, or will be, is not for others as well.
        for (_, run) in &order {
            self.runs[run].take_asked_for(&mut idle, 0);
        }
        for (_, run) in order {
            let Some(active) = self.runs.get(&run) else { continue };
            let slots = idle.iter().filter(|worker| active.capable.contains(worker)).count() as u32;
            if slots > 0 {
                let before = active.engine.still_asked();
                self.feed(run, Input::Idle { slots });
                if let Some(active) = self.runs.get(&run) {
                    active.take_asked_for(&mut idle, before);
                }
            }
        }
    }

    /// Whether a run wants a slot: for a batch, or to have its tests listed.
    fn wants_slot(&self, id: i64, run: &ActiveRun) -> bool {
        run.engine.wants_slots() || self.listings.values().any(|l| l.is_waited_for_by(id))
    }

    /// For each run that wants slots and has had fewer than its due for a while, the runs of its pool with the most beyond their own due
    /// are asked for some.
    fn feed_hungry(&mut self, idle: &BTreeSet<WorkerId>) {
        let (now, stamp) = (Instant::now(), now());
        let mut lacking: HashMap<i64, Lack> = HashMap::new();
        let mut asked: Vec<(i64, u32)> = Vec::new();
        for (pool, runs) in self.runs_by_pool() {
            let beside = self.beside(pool, &runs, idle, stamp);
            let mut long = vec![false; runs.len()];
            for (place, id) in runs.iter().enumerate().filter(|(place, _)| beside.lacks(*place) > 0) {
                // Looks that follow each other.
                let before = self.runs[id].lacks.filter(|lack| lack.looked.elapsed() < HUNGRY_AFTER);
                let since = before.map_or(now, |lack| lack.since);
                long[place] = since.elapsed() >= HUNGRY_AFTER;
                let since = if long[place] { now } else { since };
                lacking.insert(*id, Lack { since, looked: now, due: beside.due(place) });
            }
            asked.extend(runs.iter().copied().zip(beside.asked(|run| long[run])).filter(|(_, slots)| *slots > 0));
        }
        for (id, run) in &mut self.runs {
            run.lacks = lacking.remove(id);
        }
        for (run, slots) in asked {
            self.feed(run, Input::Wanted { slots });
        }
    }

    /// What a run holds of its pool's slots, and could use beyond what is idle and was offered to it.
    fn holding(&self, id: i64, run: &ActiveRun, idle: &BTreeSet<WorkerId>, now: Timestamp) -> Holding {
        let gives = run.engine.slots_given_up();
        let needs = match run.engine.wants_slots() {
            _ if !run.capable.is_disjoint(idle) => 0,
            // What waits for a claim or for its pause to end needs no slot.
            true => run.engine.could_use(now),
            // A list needs one.
            false => u32::from(self.wants_slot(id, run)),
        };
        Holding { weight: run.share.weight(), keeps: run.engine.slots_in_use() - gives, gives, needs }
    }
}
