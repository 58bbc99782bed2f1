//! What runs and workers show of each other.

use std::{collections::BTreeMap, sync::Arc};

use kesmo_core::{
    run::{BatchId, WorkerId},
    time::Timestamp,
};
use kesmo_wire::{
    api::{Slot, Worker},
    live::{Gathered, MOST_SLOTS, RunSlot, RunSnapshot, thin},
};
use tokio::time::Instant;

use crate::{
    active::{ActiveRun, LONG_STRIP},
    chain::Chain,
    clock::now,
    hub::Hub,
    workers::{Use, Workers},
};

impl ActiveRun {
    pub fn snapshot(&self, now: Timestamp, workers: &Workers, chain: Chain) -> RunSnapshot {
        RunSnapshot {
            run: self.detail(now, chain),
            slots: workers.slots_of(self),
            trouble: self.trouble.iter().cloned().collect(),
            strip: thin(&self.strip, LONG_STRIP),
        }
    }

    /// What changed since the last time; none if nobody watches it.
    pub fn show(&mut self, workers: &Workers) -> Option<Shown> {
        self.dirty = false;
        self.published = Instant::now();
        if !self.hub.watched() && !self.finished() {
            self.new = Gathered::default();
            self.hub.pass_over();
            return None;
        }
        let slots = self.slots(workers);
        let change = self.new.take(self.summary(now()), slots);
        let kind = if self.finished() { "end" } else { "change" };
        Some(Shown::new(&self.hub, kind, serde_json::to_string(&change).unwrap_or_default()))
    }
}

/// An event of a stream that is made, and not let out yet.
pub(crate) struct Shown {
    hub: Arc<Hub>,
    kind: &'static str,
    data: String,
}

impl Shown {
    /// `data`: as JSON.
    pub fn new(hub: &Arc<Hub>, kind: &'static str, data: String) -> Self {
        Self { hub: Arc::clone(hub), kind, data }
    }

    /// Whether it is the last of its stream.
    pub fn is_end(&self) -> bool {
        self.kind == "end"
    }

    pub fn publish(self) {
        self.hub.publish(self.kind, self.data);
    }
}

impl Workers {
    pub fn view(&self, worker: WorkerId, runs: &BTreeMap<i64, ActiveRun>) -> Option<Worker> {
        let known = self.known.get(&worker)?;
        let slot = |(number, what): (usize, &Use)| {
            let mut slot = Slot { number: number as u32, trouble: known.trouble[number], ..Slot::default() };
            match what {
                Use::Idle => {}
                Use::Listing(_) => slot.doing = Some("listing".into()),
                Use::Batch(key) => {
                    if let Some(run) = runs.get(&key.run) {
                        run.fill_slot(&mut slot, BatchId(key.batch));
                    }
                }
            }
            slot
        };
        Some(Worker {
            name: known.name.clone(),
            pool: known.pool.clone(),
            offers: known.offers.clone(),
            connected: known.link.is_some(),
            since: known.since,
            slots: known.slots.iter().enumerate().map(slot).collect(),
            overloaded: known.load.overloaded().map(|c| c.said(&known.name)),
            fills: known.load.fill(),
            only_run: known.only_run.clone(),
            draining: known.draining,
        })
    }

    pub fn views(&self, runs: &BTreeMap<i64, ActiveRun>) -> Vec<Worker> {
        let mut all: Vec<Worker> = self.known.keys().filter_map(|w| self.view(*w, runs)).collect();
        all.sort_by(|a, b| (&a.pool, &a.name).cmp(&(&b.pool, &b.name)));
        all
    }

    /// The slots that work for a run; of many those whose tests began first, which are the likeliest to take long.
    pub fn slots_of(&self, run: &ActiveRun) -> Vec<RunSlot> {
        let at_work = run.engine.at_work();
        let began = |at: Option<Timestamp>| at.map_or(i64::MAX, |at| at.0);
        let mut of_run: Vec<_> = at_work.map(|(batch, worker, slot, at)| (began(at), batch, worker, slot)).collect();
        if of_run.len() > MOST_SLOTS {
            of_run.select_nth_unstable(MOST_SLOTS);
            of_run.truncate(MOST_SLOTS);
        }
        let filled = |(_, batch, worker, number): (i64, BatchId, WorkerId, u16)| {
            let known = self.known.get(&worker)?;
            let trouble = known.trouble.get(usize::from(number)).copied().unwrap_or_default();
            let mut slot = Slot { number: u32::from(number), trouble, ..Slot::default() };
            run.fill_slot(&mut slot, batch);
            Some(RunSlot { worker: known.name.clone(), slot })
        };
        let mut slots: Vec<RunSlot> = of_run.into_iter().filter_map(filled).collect();
        slots.sort_by(|a, b| (&a.worker, a.slot.number).cmp(&(&b.worker, b.slot.number)));
        slots
    }
}
