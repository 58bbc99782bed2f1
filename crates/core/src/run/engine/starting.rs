//! What starting a process costs here and now. Under load it is many times what it is alone, so that what earlier runs had
//! says little; and where a process tells of its tests only as they end, its start is part of what its first test took.
//!
//! The first test of a process shows the start by what it took beyond what tests like it take: beyond what the others of its
//! process took of what was expected of them, or what they took on average, or what is usual in this run. What is taken for a
//! start is no longer taken for the test's own time.

use super::{Batch, Engine, KNOWN_FROM, MOST_GRANTED, MOST_STARTS, Starts, Took};
use crate::{
    run::terms::Cores,
    time::{Span, Timestamp},
    words::Ended,
};

/// The longest that a start can have been whose process made that of the cores until its first result, in microseconds: a start
/// works, or waits to work. What only slept was a test. A quarter more, and 20 ms, are left for files and for its children.
fn longest_start(cores: Cores) -> u64 {
    let busy = cores.ran.0.saturating_add(cores.waited.0);
    busy.saturating_add(busy / 4).saturating_add(20_000)
}

/// The value that so many tenths of those in order are below; `None` where there is none.
fn tenths_below(sorted: &[u64], tenths: usize) -> Option<u64> {
    sorted.get((sorted.len() * tenths / 10).min(sorted.len().saturating_sub(1))).copied()
}

impl Engine {
    /// Says what starting a process of the suite cost in its latest run, where that became known after this one was begun.
    pub fn know_start_cost(&mut self, cost: Option<Span>) {
        self.policy.start_cost = cost.or(self.policy.start_cost);
    }

    /// What the last attempt of an entry took by itself, told with all that this run has shown: `spent` is what it took with the
    /// start of its process, if that is in it.
    #[must_use]
    pub fn own_of(&self, index: u32, spent: Span) -> Span {
        let Some(cores) = self.with_start.get(&index) else { return spent };
        let beyond = match self.usual_of(index) {
            Some(usual) => spent.0.saturating_sub(usual.0),
            // Nothing says how long it takes: it is not nothing.
            None => spent.0 - spent.0 / 10,
        };
        Span(spent.0 - self.dear_start().min(beyond).min(longest_start(*cores)))
    }

    /// What a start costs when it is dear, in microseconds: nine of ten cost less, and a quarter more than that may be.
    fn dear_start(&self) -> u64 {
        let tenths = if self.all_starts.costs.len() < 10 { 5 } else { 9 };
        tenths_below(&self.all_starts.costs, tenths).map_or(self.start_cost().0, |dear| dear + dear / 4)
    }

    /// What an entry usually takes in this run, if anything says so.
    fn usual_of(&self, index: u32) -> Option<Span> {
        match self.plan.entries[index as usize].expected {
            Some(expected) => Some(Span((expected.0 as f64 * self.pace()) as u64)),
            None => (self.own.ended >= KNOWN_FROM).then(|| self.usual()),
        }
    }

    /// An attempt of a batch took so long.
    pub(super) fn note_took(
        &mut self,
        id: super::BatchId,
        index: u32,
        ended: Ended,
        spent: Span,
        start: Option<Cores>,
    ) {
        let expected = self.plan.entries[index as usize].expected;
        let Some(batch) = self.batches.get_mut(&id) else { return };
        match start {
            Some(cores) => drop(self.with_start.insert(index, cores)),
            None => drop(self.with_start.remove(&index)),
        }
        let took = &mut batch.took;
        took.odd |= !matches!(ended, Ended::Passed | Ended::Failed | Ended::Skipped);
        if let Some(cores) = start {
            (took.first, took.cores) = (Some((index, spent.0)), cores);
            return;
        }
        took.others += 1;
        took.spent += spent.0;
        if let Some(expected) = expected {
            took.spent_known += spent.0;
            took.expected_known += expected.0;
        }
    }

    /// A batch ended well: what starting its process cost is known now, if its times tell.
    pub(super) fn note_start(&mut self, batch: &Batch, now: Timestamp) {
        if batch.took.odd {
            return;
        }
        // From the grant to the end, without the tests; the first batch on a worker waited for the suite's files.
        let around = batch.granted_at.filter(|_| batch.telling).map(|at| now.since(at).0.saturating_sub(batch.spent));
        let cost = match (around, batch.took.first) {
            (around, Some((index, spent))) => {
                let usual = self.usual_beside(&batch.took, index);
                let most = longest_start(batch.took.cores);
                usual.map(|usual| around.unwrap_or(0) + spent.saturating_sub(usual).min(most))
            }
            (around, None) => around,
        };
        let Some(cost) = cost else { return };
        let waited = batch.took.cores.waited.0.min(cost);
        let share = waited / self.granted_with(batch, cost);
        if self.starts.len() == MOST_STARTS {
            self.starts.pop_front();
        }
        self.starts.push_back(cost);
        let Starts { costs, alone, shares } = &mut self.all_starts;
        if costs.len() < MOST_GRANTED {
            for (all, new) in [(costs, cost), (alone, cost - waited), (shares, share)] {
                all.insert(all.partition_point(|old| *old <= new), new);
            }
        }
    }

    /// How many processes were started so close to a batch's that they may have made it wait; itself among them.
    fn granted_with(&self, batch: &Batch, cost: u64) -> u64 {
        let Some(at) = batch.granted_at else { return 1 };
        let close = |other: &&Timestamp| other.0.abs_diff(at.0) <= cost;
        (self.granted.iter().filter(close).count() as u64).max(1)
    }

    /// What it costs to start so many processes at once, where no others start: what one costs alone, and what they make each
    /// other wait.
    pub(super) fn cost_of_starting(&self, processes: u32) -> Span {
        match tenths_below(&self.all_starts.alone, 5) {
            Some(alone) => Span(alone + self.start_share().0 * u64::from(processes)),
            None => self.start_cost(),
        }
    }

    /// By how much each process that is started makes those wait that start with it. Where few start at once they do not: that
    /// says nothing of many.
    pub(super) fn start_share(&self) -> Span {
        Span(tenths_below(&self.all_starts.shares, 8).unwrap_or(0))
    }

    /// What the first test of a process would have taken, told from the others of that process.
    fn usual_beside(&self, took: &Took, index: u32) -> Option<u64> {
        match self.plan.entries[index as usize].expected {
            Some(expected) if took.expected_known > 0 => {
                Some((expected.0 as f64 * took.spent_known as f64 / took.expected_known as f64) as u64)
            }
            None if took.others > 0 => Some(took.spent / u64::from(took.others)),
            _ => self.usual_of(index).map(|usual| usual.0),
        }
    }
}
