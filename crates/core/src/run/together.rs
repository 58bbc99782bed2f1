//! Tests that several slots run at once, as senders of one load: who is at the gate, and when it opens.
//!
//! The entries of a test in a variant are its senders, a *wave*. A wave is gathered: each of its senders gets a slot, prepares what it
//! needs and waits at the gate. When the last one is there, all begin. Where one of them goes away in the middle, the others
//! are ended, as what they sent alone was not the load that was asked for, and the wave is gathered again.

use std::{collections::BTreeMap, ops::Range};

use super::terms::{BatchId, WorkerId};

/// Where a sender stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Gate {
    /// It is known from what is kept, and its worker has not said yet whether it was let through.
    Unsaid,
    /// It prepares what it needs.
    Preparing,
    /// It waits for the others.
    There,
    /// It was let through.
    Through,
    /// It is to end: another sender of its wave went away, or too few can be had.
    Ending,
}

impl Gate {
    /// Whether it holds its slot and does nothing yet.
    pub fn is_early(self) -> bool {
        matches!(self, Self::Preparing | Self::There)
    }
}

/// The waves of a run, one after the other.
#[derive(Debug, Default)]
pub(super) struct Together {
    /// The entries of each.
    waves: Vec<Range<u32>>,
    now: usize,
    gates: BTreeMap<BatchId, Gate>,
    /// There are fewer slots than the wave needs: it is not gathered until there are more.
    pub lacks: bool,
}

impl Together {
    /// Waves of entries that follow each other and are `alike`.
    pub fn new(entries: u32, alike: impl Fn(u32, u32) -> bool) -> Self {
        let mut waves: Vec<Range<u32>> = Vec::new();
        for entry in 0..entries {
            match waves.last_mut() {
                Some(wave) if alike(wave.start, entry) => wave.end = entry + 1,
                _ => waves.push(entry..entry + 1),
            }
        }
        Self { waves, ..Self::default() }
    }

    /// The wave that is gathered or runs; waves of which all is `done` are passed over. Empty when there is none left.
    pub fn wave(&mut self, done: impl Fn(u32) -> bool) -> Range<u32> {
        while let Some(wave) = self.waves.get(self.now) {
            if wave.clone().any(|entry| !done(entry)) {
                return wave.clone();
            }
            self.now += 1;
        }
        0..0
    }

    /// The same, of what was last asked.
    pub fn now(&self) -> Range<u32> {
        self.waves.get(self.now).cloned().unwrap_or(0..0)
    }

    /// Where a sender stands.
    pub fn gate(&self, batch: BatchId) -> Option<Gate> {
        self.gates.get(&batch).copied()
    }

    pub fn set(&mut self, batch: BatchId, gate: Gate) {
        self.gates.insert(batch, gate);
    }

    pub fn forget(&mut self, batch: BatchId) -> Option<Gate> {
        self.gates.remove(&batch)
    }

    /// Whether some senders hold slots and wait for others, or may do so.
    pub fn gathers(&self) -> bool {
        self.gates.values().any(|gate| gate.is_early() || *gate == Gate::Unsaid)
    }

    /// The senders that are to be let through now, given the `senders` of the wave that have no outcome yet: `None` for one that
    /// has no slot. They are those that wait, if nobody is missing and nobody is still to end.
    pub fn opens(&mut self, senders: &[Option<(WorkerId, BatchId)>]) -> Vec<(WorkerId, BatchId)> {
        let mut waiting = Vec::new();
        for sender in senders {
            let Some((worker, batch)) = sender else { return Vec::new() };
            match self.gate(*batch) {
                Some(Gate::There) => waiting.push((*worker, *batch)),
                Some(Gate::Through) => {}
                Some(Gate::Unsaid | Gate::Preparing | Gate::Ending) | None => return Vec::new(),
            }
        }
        for (_, batch) in &waiting {
            self.set(*batch, Gate::Through);
        }
        waiting
    }
}
