//! What an engine expects: how long tests and the run still take, from what is known and what was measured.

use super::{Engine, KNOWN_FROM, State, UNKNOWN, UNKNOWN_START};
use crate::{
    fleet::Demand,
    record::median,
    run::left::{self, Ahead, TimeLeft, Work},
    time::{Span, Timestamp},
    words::{Ended, Phase},
};

/// What the listing of tests is taken to need.
const LISTING: Span = Span::seconds(1);

/// What the tests that run now have taken together.
#[derive(Default)]
struct Running {
    /// In seconds.
    elapsed: f64,
    /// Those of known length beyond what was expected of them, in microseconds.
    overdue: u64,
}

impl Engine {
    /// What some entries are expected to take, one after the other.
    #[must_use]
    pub fn worth(&self, entries: &[u32]) -> Span {
        Span(entries.iter().map(|i| self.expected(*i).0).sum())
    }

    /// How long the run still takes. `None` while tests of unknown length are left and too few have ended to say how
    /// long those take, and where there are no slots.
    #[must_use]
    pub fn time_left(&self, now: Timestamp) -> Option<TimeLeft> {
        let slots = self.usable_slots().max(self.slots_in_use());
        // While it waits for a worker, nobody can say how long that takes.
        let waits = self.batches.is_empty() && self.waiting_said.is_some();
        if self.phase != Phase::Running || slots == 0 || waits {
            return None;
        }
        let running = self.running(now);
        let strangers = self.strangers(&running);
        let took = Span(self.took_known).as_seconds() + Span(running.overdue).as_seconds();
        let (pace, pace_error) = left::pace(Span(self.expected_known).as_seconds(), took, self.variance_known);
        let work_of = |index: u32| self.work_of(index, pace, strangers);
        let (mut unknown, mut entries, mut starting) = (self.left_unknown, 0, 0);
        let mut rests: Vec<Work> = Vec::with_capacity(self.batches.len());
        for (id, batch) in &self.batches {
            let mut rest = Work::default();
            let mut begun = false;
            for index in batch.entries.iter().filter(|i| self.held_by(**i, *id)) {
                unknown += u32::from(self.plan.entries[*index as usize].expected.is_none());
                entries += 1;
                rest = rest.plus(match self.entries[*index as usize].state {
                    State::Held { began: Some(began), .. } => {
                        begun = true;
                        work_of(*index).begun(began, now)
                    }
                    _ => work_of(*index),
                });
            }
            starting += u32::from(!batch.fruitful && !begun);
            rests.push(rest);
        }
        if unknown > 0 && self.figures.sums().ended < KNOWN_FROM {
            return None;
        }
        let known = Work { mean: Span(self.left_known).as_seconds(), variance: self.left_variance }.times(pace);
        let of_strangers = f64::from(self.left_unknown);
        let queued =
            known.plus(Work { mean: of_strangers * strangers.mean, variance: of_strangers * strangers.variance });
        let queued = Work { mean: queued.mean + self.retries_beyond(pace, strangers), ..queued };
        let chain = self.ready.longest().unwrap_or_default().iter().map(|i| work_of(*i));
        let units = self.ready.units() + self.ready.retries() as u32;
        let ahead = Ahead {
            queued,
            chain: chain.fold(Work::default(), Work::plus),
            batches: &rests,
            slots,
            start_cost: self.start_cost().as_seconds(),
            starts: self.starts_ahead(queued.mean, slots) + f64::from(starting),
            retries_each: self.attempts_each() - 1.0,
            entries: entries + units,
            pace_error,
            unknown_error: f64::from(unknown) * strangers.variance.sqrt()
                / f64::from(self.figures.sums().ended.max(1)).sqrt(),
        };
        Some(left::estimate(&ahead))
    }

    /// What is left to do, and how many slots could do it at once, for whoever starts machines. While its tests are not known
    /// one slot can do something for it.
    #[must_use]
    pub fn demand(&self, now: Timestamp) -> Demand {
        if self.finished.is_some() {
            return Demand::default();
        }
        if self.phase != Phase::Running {
            return Demand { work: LISTING, longest: LISTING, slots: 1, ..Demand::default() };
        }
        let running = self.running(now);
        let strangers = self.strangers(&running);
        let took = Span(self.took_known).as_seconds() + Span(running.overdue).as_seconds();
        let (pace, _) = left::pace(Span(self.expected_known).as_seconds(), took, self.variance_known);
        let (mut work, mut longest, mut slots) = (0.0, 0.0f64, 0);
        for (id, batch) in &self.batches {
            let (mut rest, mut held) = (0.0, 0);
            for index in batch.entries.iter().filter(|i| self.held_by(**i, *id)) {
                let of = self.work_of(*index, pace, strangers);
                let of = match self.entries[*index as usize].state {
                    State::Held { began: Some(began), .. } => of.begun(began, now),
                    _ => of,
                };
                longest = longest.max(of.mean);
                rest += of.mean;
                held += 1;
            }
            work += rest;
            // What it has not begun can be given back.
            slots += held.max(1);
        }
        let waits = Span(self.left_known).as_seconds() * pace + f64::from(self.left_unknown) * strangers.mean;
        let waits = waits + self.retries_beyond(pace, strangers);
        let units = self.ready.units() + self.ready.retries() as u32;
        slots += units;
        let in_use = self.slots_in_use().max(1);
        work += waits + self.starts_ahead(waits, in_use) * self.start_cost().as_seconds();
        let chain: f64 =
            self.ready.longest().unwrap_or_default().iter().map(|i| self.work_of(*i, pace, strangers).mean).sum();
        // What claims the same goes one after the other.
        let claimed = self.ready.claim_sets().map(|set| Span(self.ready.claimed(set)).as_seconds() * pace);
        let longest = claimed.fold(longest.max(chain), f64::max);
        let span = |seconds: f64| Span((seconds.max(0.0) * 1e6) as u64);
        let slots = self.policy.shards.map_or(slots, |most| slots.min(most));
        Demand { work: span(work), longest: span(longest), slots, ..Demand::default() }
    }

    /// Attempts for each entry that is done.
    pub(super) fn attempts_each(&self) -> f64 {
        let done = self.tally.done() - self.tally.parked - self.tally.not_run;
        if done < 10 || self.gave_up {
            1.0
        } else {
            (f64::from(self.figures.sums().ended) / f64::from(done)).clamp(1.0, 3.0)
        }
    }

    /// What an entry takes at the pace of this run.
    pub(super) fn work_of(&self, index: u32, pace: f64, strangers: Work) -> Work {
        let planned = &self.plan.entries[index as usize];
        let work = planned.expected.map_or(strangers, |expected| Work::of(expected, planned.spread, pace));
        // What failed takes about as long when it fails again, whatever it takes when it passes.
        let failing = f64::from(self.entries[index as usize].failing_ms) / 1000.0;
        Work { mean: work.mean.max(failing), ..work }
    }

    /// What retries that wait take beyond what is expected of tests that pass, in seconds.
    pub(super) fn retries_beyond(&self, pace: f64, strangers: Work) -> f64 {
        let beyond = |index: u32| {
            let planned = &self.plan.entries[index as usize];
            let expected = planned.expected.map_or(strangers.mean, |expected| expected.as_seconds() * pace);
            self.work_of(index, pace, strangers).mean - expected
        };
        self.ready.waiting_retries().map(beyond).sum()
    }

    /// What the tests that run now have taken.
    fn running(&self, now: Timestamp) -> Running {
        let mut running = Running::default();
        for (index, began) in self.batches.keys().filter_map(|id| self.running_in(*id)) {
            let elapsed = now.since(began);
            running.elapsed += elapsed.as_seconds();
            if let Some(expected) = self.plan.entries[index as usize].expected {
                running.overdue += elapsed.0.saturating_sub(expected.0);
            }
        }
        running
    }

    /// What a test of unknown length takes. Those that run now have shown that they take at least what they have taken:
    /// without them, short ones would be all that is seen at first (the estimate of the mean from censored times).
    fn strangers(&self, running: &Running) -> Work {
        let mean = self.usual().as_seconds() + running.elapsed / f64::from(self.own.ended.max(KNOWN_FROM));
        Work { mean, variance: self.unknown_variance().max(mean * mean * 0.25) }
    }

    /// About how many processes are still to be started, with that much work waiting, in seconds: each round of batches
    /// takes about half of what is left, until a batch is one test or not worth its start.
    pub(super) fn starts_ahead(&self, queued: f64, slots: u32) -> f64 {
        let units = f64::from(self.ready.units()) + self.ready.retries() as f64;
        if units < 1.0 {
            return 0.0;
        }
        let each = f64::from(slots);
        let least = (queued / units).max(self.start_cost().as_seconds() * 2.0).max(1e-6);
        let rounds = (queued / each / least).max(1.0).log2() + 1.0;
        (rounds * each).min(units)
    }

    /// How much longer this run's tests take than their records say; 1 until enough is known.
    pub(in crate::run) fn pace(&self) -> f64 {
        let ratio = self.took_known as f64 / (self.expected_known as f64).max(1.0);
        if self.figures.sums().ended >= 5 && self.expected_known > 0 { ratio.clamp(0.2, 20.0) } else { 1.0 }
    }

    /// What a test of unknown length is taken to need.
    pub(super) fn usual(&self) -> Span {
        if self.own.ended >= KNOWN_FROM { Span(self.own.sum / u64::from(self.own.ended)) } else { UNKNOWN }
    }

    pub(super) fn expected(&self, index: u32) -> Span {
        self.plan.entries[index as usize].expected.unwrap_or_else(|| self.usual())
    }

    /// An attempt took so long; `own` is what it took by itself, where that says something of others.
    pub(super) fn measure(&mut self, index: u32, ended: Ended, spent: Span, own: Option<Span>) {
        self.figures.add(ended, spent);
        self.parts.add(index, ended, spent);
        if let Some(own) = own {
            self.own.ended += 1;
            self.own.sum += own.0;
            self.squares += own.as_seconds().powi(2);
        }
    }

    /// The standard deviation of what a unit takes beside what is expected, as a part of the mean.
    pub(super) fn variation(&self) -> f64 {
        let units = f64::from(self.ready.units().max(1));
        let mean = self.left().as_seconds() / units;
        let variance = (self.left_variance + f64::from(self.left_unknown) * self.unknown_variance()) / units;
        if mean > 0.0 { variance.sqrt() / mean } else { 0.0 }
    }

    /// The variance of tests of unknown length, in seconds.
    pub(super) fn unknown_variance(&self) -> f64 {
        if self.own.ended >= 10 {
            let n = f64::from(self.own.ended);
            let measured = self.usual().as_seconds();
            (self.squares / n - measured * measured).max(0.0)
        } else {
            // As with times between independent events: as wide as the mean.
            self.usual().as_seconds().powi(2)
        }
    }

    /// Expected work that waits.
    pub(super) fn left(&self) -> Span {
        Span(self.left_known + u64::from(self.left_unknown) * self.usual().0)
    }

    /// What starting a process costs: the median of the latest in this run, else what earlier runs had.
    #[must_use]
    pub fn start_cost(&self) -> Span {
        if self.starts.is_empty() || (self.starts.len() < 3 && self.policy.start_cost.is_some()) {
            return self.policy.start_cost.unwrap_or(UNKNOWN_START);
        }
        Span(median(&mut self.starts.iter().copied().collect::<Vec<_>>()))
    }

    /// What it costs in this run to start processes in all slots at once, if the run itself has measured it.
    #[must_use]
    pub fn measured_start_cost(&self) -> Option<Span> {
        (self.starts.len() >= 3).then(|| self.cost_of_starting(self.usable_slots()))
    }
}
