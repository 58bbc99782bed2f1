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
    clock::now,
    hub::Hub,
    workers::{Known, Use, Workers},
};

impl ActiveRun {
    pub fn snapshot(&self, now: Timestamp, workers: &Workers) -> RunSnapshot {
        RunSnapshot {
            run: self.detail(now),
            slots: workers.slots_of(self.row.id, self),
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
    pub fn slots_of(&self, run_id: i64, run: &ActiveRun) -> Vec<RunSlot> {
        let mut of_run: Vec<(usize, &Known, BatchId)> = Vec::new();
        for known in self.known.values() {
            let batches = known.slots.iter().enumerate().filter_map(|(number, what)| match what {
                Use::Batch(key) if key.run == run_id => Some((number, known, BatchId(key.batch))),
                _ => None,
            });
            of_run.extend(batches);
        }
        if of_run.len() > MOST_SLOTS {
            let began = |one: &(usize, &Known, BatchId)| run.engine.running_in(one.2).map_or(i64::MAX, |(_, at)| at.0);
            let mut first: Vec<(i64, usize)> = of_run.iter().map(began).zip(0..).collect();
            first.select_nth_unstable(MOST_SLOTS);
            of_run = first[..MOST_SLOTS].iter().map(|(_, at)| of_run[*at]).collect();
        }
        let filled = |(number, known, batch): (usize, &Known, BatchId)| {
            let mut slot = Slot { number: number as u32, trouble: known.trouble[number], ..Slot::default() };
            run.fill_slot(&mut slot, batch);
            RunSlot { worker: known.name.clone(), slot }
        };
        let mut slots: Vec<RunSlot> = of_run.into_iter().map(filled).collect();
        slots.sort_by(|a, b| (&a.worker, a.slot.number).cmp(&(&b.worker, b.slot.number)));
        slots
    }
}
