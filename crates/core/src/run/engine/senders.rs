//! Tests that run on several slots at once.

use super::{
    super::{
        terms::{BatchId, Effect, Fit, Grant, WorkerId},
        together::{Gate, Together},
    },
    Batch, Engine, State,
};
use crate::{time::Timestamp, words::Outcome};

impl Engine {
    /// The entries of the wave that is gathered or runs.
    fn wave(&mut self) -> Vec<u32> {
        let entries = &self.entries;
        let done = |entry: u32| matches!(entries[entry as usize].state, State::Done(_));
        self.together.as_mut().map(|t| t.wave(done)).unwrap_or_default().filter(|e| !done(*e)).collect()
    }

    /// Whether a sender of the wave has no slot yet.
    pub(super) fn wants_senders(&self) -> bool {
        let waits = |entry: u32| self.entries[entry as usize].state == State::Waiting;
        self.together.as_ref().is_some_and(|together| !together.lacks && together.now().any(waits))
    }

    /// Whether some senders have their slots and wait for others, as far as is known: those slots do nothing meanwhile.
    #[must_use]
    pub fn gathers(&self) -> bool {
        self.together.as_ref().is_some_and(Together::gathers)
    }

    fn is_early(&self, id: BatchId) -> bool {
        self.together.as_ref().and_then(|t| t.gate(id)).is_some_and(Gate::is_early)
    }

    /// What a wave that is gathered waits for, in words.
    pub(super) fn gathers_said(&self) -> Option<String> {
        let wave = self.together.as_ref().filter(|_| self.wants_senders())?.now();
        let undone = |e: &u32| !matches!(self.entries[*e as usize].state, State::Done(_));
        let all = wave.clone().filter(undone).count();
        let held = self.batches.keys().filter(|id| self.is_early(**id)).count();
        Some(format!("waiting for {all} slots at once: {held} are free so far"))
    }

    /// Gives a slot to a sender of the wave that has none.
    pub(super) fn join_wave(&mut self, worker: WorkerId, slot: u16, fit: &Fit, now: Timestamp) -> Option<Grant> {
        let wave = self.wave();
        if self.together.as_ref().is_some_and(|together| together.lacks) {
            return None;
        }
        let entry = wave.into_iter().find(|entry| self.entries[*entry as usize].state == State::Waiting)?;
        let planned = &self.plan.entries[entry as usize];
        let (claims, variant) = (planned.claims, planned.variant);
        let held = self.plan.claim_sets[claims as usize].iter().find(|claim| self.taken.contains_key(*claim));
        if let Some(claim) = held {
            self.blocked = Some(format!("waiting for the claim {claim}, held by {}", self.taken[claim]));
            return None;
        }
        if !fit.takes(variant) {
            return None;
        }
        let grant = self.hand_over(worker, slot, vec![entry], now);
        if let Some(batch) = self.batches.get_mut(&grant.batch) {
            // It waits for the others before it starts its process.
            batch.telling = false;
        }
        if let Some(together) = &mut self.together {
            together.set(grant.batch, Gate::Preparing);
        }
        Some(Grant { senders: self.policy.senders, ..grant })
    }

    pub(super) fn at_gate(&mut self, id: BatchId, effects: &mut Vec<Effect>) {
        let Some(worker) = self.holder(id) else { return };
        let Some(together) = &mut self.together else { return };
        match together.gate(id) {
            Some(Gate::Unsaid | Gate::Preparing) => together.set(id, Gate::There),
            // It was not told, or it is told twice.
            Some(Gate::Through) => effects.push(Effect::Begin { worker, batch: id }),
            Some(Gate::Ending) => effects.push(Effect::Revoke { worker, batch: id }),
            Some(Gate::There) | None => {}
        }
        self.open_gate(effects);
    }

    pub(super) fn was_through(&mut self, id: BatchId) {
        if let Some(together) = &mut self.together
            && matches!(together.gate(id), Some(Gate::Unsaid | Gate::Preparing))
        {
            together.set(id, Gate::Through);
        }
    }

    /// Lets the wave begin, if all of it is there.
    fn open_gate(&mut self, effects: &mut Vec<Effect>) {
        let senders: Vec<Option<(WorkerId, BatchId)>> = self
            .wave()
            .into_iter()
            .map(|entry| match self.entries[entry as usize].state {
                State::Held { batch, .. } => self.holder(batch).map(|worker| (worker, batch)),
                State::Waiting | State::Done(_) => None,
            })
            .collect();
        let Some(together) = &mut self.together else { return };
        let opened = together.opens(&senders);
        if !opened.is_empty() && opened.len() < senders.len() {
            let name = &self.plan.entries[together.now().start as usize].name;
            effects.push(Effect::Note(format!(
                "the senders of {name} did not all begin together: the service was started anew in between"
            )));
        }
        effects.extend(opened.into_iter().map(|(worker, batch)| Effect::Begin { worker, batch }));
    }

    /// A batch is over: if it was a sender that had begun and has no outcome, the others of its wave are ended, and all begin again.
    pub(super) fn left_wave(&mut self, id: BatchId, batch: &Batch, effects: &mut Vec<Effect>) {
        let Some(together) = &mut self.together else { return };
        let gate = together.forget(id);
        let undone = |of: &Batch| of.entries.iter().any(|e| !matches!(self.entries[*e as usize].state, State::Done(_)));
        if undone(batch) {
            // One was let through only if all were.
            let through = |(id, of): &(&BatchId, &Batch)| together.gate(**id) == Some(Gate::Through) && undone(of);
            let others: Vec<(BatchId, WorkerId)> =
                self.batches.iter().filter(through).map(|(id, of)| (*id, of.worker)).collect();
            for (other, worker) in &others {
                together.set(*other, Gate::Ending);
                effects.push(Effect::Revoke { worker: *worker, batch: *other });
            }
            let name = &self.plan.entries[batch.entries[0] as usize].name;
            let ended = match others.len() {
                0 => "it begins again".to_owned(),
                1 => "the other was ended, and both begin again together".to_owned(),
                n => format!("the {n} others were ended, and all begin again together"),
            };
            if gate == Some(Gate::Through) || !others.is_empty() {
                effects.push(Effect::Note(format!("a sender of {name} went away as it ran: {ended}")));
            }
        }
        self.open_gate(effects);
    }

    /// Whether there are fewer slots than the wave that is gathered needs. They are waited for as long as the suite's patience
    /// goes, without holding those that there are, and then the wave is not run.
    pub(super) fn lacks_senders(&mut self, now: Timestamp, effects: &mut Vec<Effect>) -> bool {
        let wave = self.wave();
        let Some(together) = &mut self.together else { return false };
        together.lacks = false;
        let Some(first) = wave.first() else { return false };
        let held = |entry: &u32| match self.entries[*entry as usize].state {
            State::Held { batch, .. } => Some((self.batches.get(&batch)?.worker, batch)),
            State::Waiting | State::Done(_) => None,
        };
        let early = |(_, batch): (WorkerId, BatchId)| together.gate(batch).is_none_or(Gate::is_early);
        let gathers = |entry: &u32| held(entry).is_none_or(early);
        let variant = self.plan.entries[*first as usize].variant;
        let slots: u32 = self.fleet.fit().filter(|(_, fit)| fit.takes(variant)).map(|(_, fit)| fit.slots).sum();
        if slots as usize >= wave.len() || !wave.iter().any(gathers) {
            return false;
        }
        // Whoever is away may have begun.
        let holding: Vec<(WorkerId, BatchId)> =
            wave.iter().filter_map(held).filter(|of| self.fleet.has(of.0) && early(*of)).collect();
        together.lacks = true;
        for (worker, batch) in holding {
            together.set(batch, Gate::Ending);
            effects.push(Effect::Revoke { worker, batch });
        }
        let name = &self.plan.entries[*first as usize].name;
        let said = format!("{name} needs {} slots at once, and there are {slots}", wave.len());
        let since = *self.waiting_since.get_or_insert(now);
        if now < since + self.policy.patience {
            self.say_waiting(Some(said), effects);
            return true;
        }
        let reason = format!("{said}; no more came within {} (patience in [limits])", self.policy.patience);
        effects.push(Effect::Note(reason.clone()));
        self.left_behind.push(reason);
        for index in wave {
            if let State::Held { batch, .. } = self.entries[index as usize].state
                && let Some(worker) = self.holder(batch)
            {
                effects.push(Effect::Revoke { worker, batch });
            }
            self.back_to_waiting(index);
            let number = self.entries[index as usize].attempts;
            self.decide(index, Outcome::NotRun);
            effects.push(Effect::Decided { entry: index, number, outcome: Outcome::NotRun });
        }
        // What comes after it has waited as long.
        self.lacks_senders(now, effects)
    }
}
