//! What runs and workers show of each other.

use std::collections::BTreeMap;

use kesmo_core::{
    run::{BatchId, WorkerId},
    time::Timestamp,
};
use kesmo_wire::{
    api::{Slot, Worker},
    live::{RunSlot, RunSnapshot, thin},
};
use tokio::time::Instant;

use crate::{
    active::{ActiveRun, LONG_STRIP},
    clock::now,
    workers::{Use, Workers},
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

    /// Publishes what changed since the last time.
    pub fn publish(&mut self, workers: &Workers) {
        self.dirty = false;
        self.published = Instant::now();
        let change = self.new.take(self.summary(now()), workers.slots_of(self.row.id, self));
        let kind = if self.finished() { "end" } else { "change" };
        if self.hub.watched() || self.finished() {
            self.hub.publish(kind, serde_json::to_string(&change).unwrap_or_default());
        } else {
            self.hub.pass_over();
        }
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

    /// The slots that work for a run.
    pub fn slots_of(&self, run_id: i64, run: &ActiveRun) -> Vec<RunSlot> {
        let mut slots = Vec::new();
        for known in self.known.values() {
            for (number, what) in known.slots.iter().enumerate() {
                if let Use::Batch(key) = what
                    && key.run == run_id
                {
                    let mut slot = Slot { number: number as u32, trouble: known.trouble[number], ..Slot::default() };
                    run.fill_slot(&mut slot, BatchId(key.batch));
                    slots.push(RunSlot { worker: known.name.clone(), slot });
                }
            }
        }
        slots.sort_by(|a, b| (&a.worker, a.slot.number).cmp(&(&b.worker, b.slot.number)));
        slots
    }
}
