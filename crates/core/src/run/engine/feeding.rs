//! Processes that stay: what they are fed, and when nothing more.

use std::collections::{BTreeMap, BTreeSet};

use super::{Batch, Engine, KNOWN_FROM, MOST_AHEAD, State, Stream};
use crate::{
    run::{
        ready::{Class, Unit},
        terms::{BatchId, Effect, Grant, PastAttempt, PastBatch, WorkerId},
    },
    time::Timestamp,
    words::{Ended, Phase},
};

/// Whether a test that ended so costs the process that ran it.
fn ends_its_process(ended: Ended) -> bool {
    matches!(ended, Ended::TimedOut | Ended::Crashed)
}

impl Engine {
    /// Gives a slot a process that stays, with what it begins with.
    pub(super) fn open_stream(&mut self, worker: WorkerId, slot: u16, unit: Unit, now: Timestamp) -> Grant {
        let mut grant = Grant { more: true, ..self.hand_over(worker, slot, unit.entries, now) };
        let open = grant.entries.len() as u32;
        if let Some(batch) = self.batches.get_mut(&grant.batch) {
            batch.telling = false;
            batch.stream = Some(Stream { open, ..Stream::default() });
        }
        let ahead = self.more_for(grant.batch, now);
        grant.entries.extend(ahead);
        if grant.entries.len() > 1 {
            grant.attempt = None;
        }
        grant
    }

    /// Which of the batches that are open have processes that stay, after the engine was built again; and which claims of them are
    /// free, as the tests that held them are over.
    pub(super) fn take_up_streams(&mut self, attempts: &[PastAttempt], batches: &[PastBatch]) {
        if !self.policy.fed || self.plan.order.is_some() {
            return;
        }
        // A retry has a process of its own, that is fed nothing: its test failed in a batch before.
        let mut failed: BTreeMap<u32, BatchId> = BTreeMap::new();
        let mut through: BTreeMap<BatchId, BTreeSet<u32>> = BTreeMap::new();
        for past in attempts {
            if past.ended.failing() {
                failed.entry(past.entry).and_modify(|first| *first = past.batch.min(*first)).or_insert(past.batch);
            }
            if !ends_its_process(past.ended) {
                through.entry(past.batch).or_default().insert(past.entry);
            }
        }
        for past in batches.iter().filter(|past| past.open) {
            if past.entries.first().and_then(|entry| failed.get(entry)).is_some_and(|first| *first < past.batch) {
                continue;
            }
            let open = past.entries.iter().filter(|i| self.held_by(**i, past.batch)).count() as u32;
            if let Some(batch) = self.batches.get_mut(&past.batch) {
                batch.stream = Some(Stream { open, ..Stream::default() });
            }
            if let (Some(batch), Some(through)) = (self.batches.get_mut(&past.batch), through.get(&past.batch)) {
                batch.claims.retain(|(entry, _)| !through.contains(entry));
            }
        }
        // What one was through with another may hold by now.
        let sets = self.batches.values().flat_map(|batch| &batch.claims).map(|(_, set)| *set);
        self.held_claims = sets.flat_map(|set| self.plan.claim_sets[set as usize].iter().cloned()).collect();
    }

    /// Entries begin to hold their claims: those that have any, each with its set.
    pub(super) fn holding(&mut self, entries: &[u32]) -> Vec<(u32, u32)> {
        let of = |i: &u32| Some((*i, self.plan.entries[*i as usize].claims)).filter(|(_, set)| *set != 0);
        let claims: Vec<(u32, u32)> = entries.iter().filter_map(of).collect();
        let sets = claims.iter().flat_map(|(_, set)| &self.plan.claim_sets[*set as usize]);
        self.held_claims.extend(sets.cloned());
        claims
    }

    /// A process that stays is through with a test: the claims of which no other test has need that it was fed are free.
    pub(super) fn lets_go(&mut self, id: BatchId, index: u32) {
        let Some(batch) = self.batches.get_mut(&id) else { return };
        let Some(at) = batch.claims.iter().position(|(entry, _)| *entry == index) else { return };
        let (_, set) = batch.claims.remove(at);
        let sets = &self.plan.claim_sets;
        let needed = |claim: &String| batch.claims.iter().any(|(_, set)| sets[*set as usize].contains(claim));
        for claim in sets[set as usize].iter().filter(|claim| !needed(claim)) {
            self.held_claims.remove(claim);
        }
    }

    /// How many tests a process is fed beside the one that it runs: what is needed to bridge the way there and back, where
    /// enough is left for all slots. With long tests that is nothing, so that none waits behind another while a slot idles.
    pub(super) fn ahead(&self) -> u64 {
        let (slots, units) = (u64::from(self.usable_slots().max(1)), u64::from(self.ready.units()));
        if self.figures.sums().ended < KNOWN_FROM || units <= slots {
            return 0;
        }
        let mean = self.usual().0.max(20);
        if self.round_trip.0 * 20 < mean {
            return 0;
        }
        // Never more than its part of a quarter of what is left.
        (self.round_trip.0 * 2).div_ceil(mean).min(MOST_AHEAD).min(units / (slots * 4))
    }

    /// Draws what a process that stays is to be fed now; it is held for its batch.
    pub(super) fn more_for(&mut self, id: BatchId, now: Timestamp) -> Vec<u32> {
        let Some(batch) = self.batches.get(&id) else { return Vec::new() };
        let Some(stream) = batch.stream.filter(|s| !s.closed) else { return Vec::new() };
        let Some(first) = batch.entries.first() else { return Vec::new() };
        let of = self.class_of(*first);
        let mut open = u64::from(stream.open);
        let mut held = batch.claims.clone();
        let mut new: Vec<u32> = Vec::new();
        while open <= self.ahead() {
            // What it has a claim for already it may have ready; another claim is not held by a test that waits behind one.
            let own = |claim: &String| held.iter().any(|(_, set)| self.plan.claim_sets[*set as usize].contains(claim));
            let is_free = |claim: &String| !self.held_claims.contains(claim) && !self.taken.contains_key(claim);
            let may = |class: &Class| {
                let claims = &self.plan.claim_sets[class.claims as usize];
                let fits = class.variant == of.variant && class.repeat == of.repeat;
                fits && claims.iter().all(|claim| own(claim) || open == 0 && is_free(claim))
            };
            let first = self.ready.take_first(may).map(|(_, unit)| unit);
            let next = || self.ready.next_class(may, |class: &Class, unit: &Unit| self.urgency(class, unit));
            let unit = match first {
                Some(unit) => Some(unit),
                None => next().and_then(|(class, _)| self.ready.take_next(class)),
            };
            let Some(unit) = unit else { break };
            open += unit.entries.len() as u64;
            held.extend(self.holding(&unit.entries));
            new.extend(unit.entries);
        }
        for index in &new {
            self.entries[*index as usize].state = State::Held { batch: id, began: None };
            self.leaves(*index);
        }
        let groups: Vec<u32> = new.iter().filter_map(|i| self.plan.entries[*i as usize].group).collect();
        self.busy_groups.extend(&groups);
        if let Some(batch) = self.batches.get_mut(&id) {
            batch.entries.extend(&new);
            batch.claims = held;
            batch.groups.extend(groups);
            batch.groups.dedup();
            if let Some(stream) = &mut batch.stream {
                stream.hungry_fed_at = (stream.open == 0 && !new.is_empty()).then_some(now).or(stream.hungry_fed_at);
                stream.open += new.len() as u32;
            }
        }
        new
    }

    /// A process that stays is fed what it needs, or told that nothing more comes.
    pub(super) fn feed(&mut self, id: BatchId, now: Timestamp, effects: &mut Vec<Effect>) {
        if self.phase != Phase::Running || self.batches.get(&id).is_none_or(|b| b.stream.is_none_or(|s| s.closed)) {
            return;
        }
        let entries = self.more_for(id, now);
        let Some(Batch { worker, stream: Some(stream), .. }) = self.batches.get_mut(&id) else { return };
        let worker = *worker;
        if !entries.is_empty() {
            effects.push(Effect::Feed { worker, batch: id, entries, last: false });
        } else if stream.open == 0 {
            stream.closed = true;
            self.given_up.insert(id);
            effects.push(Effect::Feed { worker, batch: id, entries: Vec::new(), last: true });
        }
    }

    /// Says once more what a process that stays was fed.
    pub(super) fn feed_again(&mut self, id: BatchId, effects: &mut Vec<Effect>) {
        let Some(Batch { worker, stream: Some(stream), entries, .. }) = self.batches.get(&id) else { return };
        let (worker, last) = (*worker, stream.closed);
        let entries: Vec<u32> = entries.iter().copied().filter(|i| self.held_by(*i, id)).collect();
        effects.push(Effect::Feed { worker, batch: id, entries, last });
    }

    /// Slots are wanted elsewhere: the processes with the least to do are fed nothing more.
    pub(super) fn close_some(&mut self, slots: u32, effects: &mut Vec<Effect>) {
        let open = |b: &Batch| b.stream.filter(|s| !s.closed).map(|s| s.open);
        let mut fed: Vec<(u32, BatchId)> = self.batches.iter().filter_map(|(id, b)| Some((open(b)?, *id))).collect();
        fed.sort_unstable();
        for (_, id) in fed.into_iter().take(slots as usize) {
            self.close_stream(id, effects);
        }
    }

    pub(super) fn close_stream(&mut self, id: BatchId, effects: &mut Vec<Effect>) {
        if let Some(Batch { worker, stream: Some(stream), .. }) = self.batches.get_mut(&id)
            && !stream.closed
        {
            stream.closed = true;
            self.given_up.insert(id);
            effects.push(Effect::Feed { worker: *worker, batch: id, entries: Vec::new(), last: true });
        }
    }

    /// A test of a process that stays has ended. One that cost its process holds its claims until that is over.
    pub(super) fn digested(
        &mut self,
        id: BatchId,
        index: u32,
        ended: Ended,
        now: Timestamp,
        effects: &mut Vec<Effect>,
    ) {
        if let Some(Batch { stream: Some(stream), .. }) = self.batches.get_mut(&id) {
            stream.open = stream.open.saturating_sub(1);
            if !ends_its_process(ended) {
                self.lets_go(id, index);
            }
            self.feed(id, now, effects);
        }
    }
}
