//! Batches give back what they have not begun: for slots that are idle, for other runs, and where a machine has too much to do.

use std::collections::BTreeSet;

use super::{AskedBack, Batch, Engine, Round, State};
use crate::{
    run::terms::{BatchId, Effect},
    time::{Span, Timestamp},
};

/// Giving back is worth it for at least this much work, however cheap it is to start a process.
const LEAST_TO_GIVE_BACK: Span = Span::millis(400);

/// A batch that was asked for a part and has not answered for so long is asked again: its worker may not have heard it.
const UNANSWERED: Span = Span::seconds(5);

impl Engine {
    /// Asks the batches with the most work that has not begun to give it back, one for each slot, where that is worth starting other
    /// processes. Where the slots are idle, a batch keeps its part, so that its process goes on; else its own slot is wanted.
    pub(super) fn ask_largest_back(&mut self, slots: u32, idle: bool, now: Timestamp, effects: &mut Vec<Effect>) {
        let (pace, start_cost) = (self.pace(), self.start_cost());
        let least = LEAST_TO_GIVE_BACK.0.max(self.cost_of_starting(slots).0 * 3);
        let mut candidates: Vec<(u64, BatchId)> = Vec::new();
        let asked = |id: &BatchId| self.asked_back.get(id).is_some_and(|asked| now.since(asked.at) < UNANSWERED);
        let may = |id: &BatchId, batch: &Batch| !asked(id) && self.may_give_back(*id, batch);
        for (id, batch) in self.batches.iter().filter(|(id, batch)| may(id, batch)) {
            let begun = batch.entries.iter().any(
                |i| matches!(self.entries[*i as usize].state, State::Held { batch, began: Some(_) } if batch == *id),
            );
            // A batch that was granted just now has its process still to start.
            let fresh = batch.granted_at.is_some_and(|t| now.since(t).0 < start_cost.0);
            let open = batch.entries.iter().filter(|i| self.not_begun(*id, **i));
            let work: u64 = open.map(|i| self.expected(*i).0).sum();
            let work = (work as f64 * pace) as u64;
            if work >= least && (begun || !fresh) {
                candidates.push((work, *id));
            }
        }
        candidates.sort_unstable();
        let parts = 1 + u64::from(slots).div_ceil((candidates.len() as u64).max(1));
        for (_, id) in candidates.into_iter().rev().take(slots as usize) {
            let from =
                self.batches.get(&id).filter(|_| idle).and_then(|batch| self.beyond_its_part(id, batch, parts, now));
            self.ask_back(id, from, now, effects);
        }
    }

    /// The first entry of a batch that is not in its own part, where what is left of it is dealt out in so many: each ends at about the
    /// same time, as the process of this one runs already, and the others are still to be started.
    fn beyond_its_part(&self, id: BatchId, batch: &Batch, parts: u64, now: Timestamp) -> Option<u32> {
        let pace = self.pace();
        let takes = |index: u32| (self.expected(index).0 as f64 * pace) as u64;
        let left = |index: &u32| match self.entries[*index as usize].state {
            State::Held { batch, began: None } if batch == id => takes(*index),
            State::Held { batch, began: Some(at) } if batch == id => takes(*index).saturating_sub(now.since(at).0),
            _ => 0,
        };
        let all: u64 = batch.entries.iter().map(left).sum();
        let own = (all + self.start_cost().0 * (parts - 1)) / parts;
        let (mut sum, mut kept) = (0, 0);
        let mut last = None;
        for index in &batch.entries {
            let (open, takes) = (self.not_begun(id, *index), left(index));
            if open && sum + takes / 2 > own {
                // Where what has begun takes longer than its part, all the others are given.
                return Some(*index).filter(|_| kept > 0);
            }
            sum += takes;
            if open {
                (kept, last) = (kept + 1, Some(*index));
            }
        }
        // Starting another process takes so long that no more than one is to go to it.
        last.filter(|_| kept > 1)
    }

    /// Whether a batch holds an entry that it has not begun.
    pub(super) fn not_begun(&self, id: BatchId, index: u32) -> bool {
        self.entries[index as usize].state == State::Held { batch: id, began: None }
    }

    /// Groups, claims and orders stay whole, and nothing is asked twice.
    fn may_give_back(&self, id: BatchId, batch: &Batch) -> bool {
        self.policy.give_back
            && batch.stream.is_none()
            && self.plan.order.is_none()
            && !self.given_up.contains(&id)
            && batch.claims.is_empty()
            && batch.groups.is_empty()
    }

    /// Asks a batch to give back what it has not begun, from this entry on or all, if it may.
    pub(super) fn ask_back(&mut self, id: BatchId, from: Option<u32>, now: Timestamp, effects: &mut Vec<Effect>) {
        self.close_stream(id, effects);
        if self.batches.get(&id).is_some_and(|batch| self.may_give_back(id, batch))
            && let Some(batch) = self.batches.get_mut(&id)
        {
            self.asked_back.insert(id, AskedBack { from, at: now });
            if from.is_none() {
                self.given_up.insert(id);
            }
            batch.telling = false;
            effects.push(Effect::GiveBack { worker: batch.worker, batch: id, from });
        }
    }

    /// Says once more what a batch was asked for, if it has not answered.
    pub(super) fn ask_again(&mut self, id: BatchId, now: Timestamp, effects: &mut Vec<Effect>) {
        if let Some((batch, asked)) = self.batches.get(&id).zip(self.asked_back.get_mut(&id)) {
            asked.at = now;
            effects.push(Effect::GiveBack { worker: batch.worker, batch: id, from: asked.from });
        }
    }

    pub(super) fn gave_back(&mut self, id: BatchId, entries: &[u32], now: Timestamp, effects: &mut Vec<Effect>) {
        self.asked_back.remove(&id);
        let held = |i: &u32| (*i as usize) < self.entries.len() && self.held_by(*i, id);
        let back: BTreeSet<u32> = entries.iter().copied().filter(held).collect();
        for index in &back {
            self.goes_back(*index, effects);
        }
        if let Some(batch) = self.batches.get_mut(&id).filter(|_| !back.is_empty()) {
            batch.entries.retain(|i| !back.contains(i));
            effects.push(Effect::GaveBack { batch: id, left: batch.entries.clone() });
            self.queue(&back.into_iter().collect::<Vec<_>>(), now);
            // What comes back is dealt out anew.
            self.round = Round::default();
        }
    }
}
