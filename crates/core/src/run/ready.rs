//! What waits to be granted: first attempts by rank (the longest work first, or drawn from the seed), those that go
//! before all others, the batches of an order, and retries as they came.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet, VecDeque},
};

use super::terms::WorkerId;
use crate::time::{Span, Timestamp};

/// Entries that are granted together: one, or the members of a group in listed order.
#[derive(Debug, Clone)]
pub(super) struct Unit {
    pub entries: Vec<u32>,
    /// What the entries are expected to take.
    pub work: Span,
    /// Its place among others: smaller comes first.
    pub rank: u64,
    pub group: Option<u32>,
}

impl Unit {
    /// What tells it from others of its class, in their order.
    pub fn key(&self) -> (u64, u32) {
        (self.rank, self.entries[0])
    }
}

/// Units may share a batch when they agree in this.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Class {
    pub variant: u16,
    /// Two repetitions of a test need processes of their own.
    pub repeat: u16,
    /// Index into the plan's claim sets.
    pub claims: u32,
}

/// An entry that waits for its retry.
#[derive(Debug, Clone, Copy)]
pub(super) struct Retry {
    pub entry: u32,
    pub class: Class,
    pub group: Option<u32>,
    pub not_before: Timestamp,
    /// The worker of the attempt that failed.
    pub failed_on: Option<WorkerId>,
}

/// Everything that waits.
#[derive(Debug, Default)]
pub(super) struct Ready {
    classes: BTreeMap<Class, BTreeMap<(u64, u32), Unit>>,
    /// Units that go before all others.
    first: BTreeMap<(u64, u32), (Class, Unit)>,
    /// Whole batches, in the order in which they are to run.
    ordered: VecDeque<(Class, Unit)>,
    retries: Vec<Retry>,
    /// Units in `classes` and `first`.
    units: u32,
    /// Work that waits, by set of claims.
    claimed: BTreeMap<u32, u64>,
}

impl Ready {
    pub fn add(&mut self, class: Class, unit: Unit) {
        self.count_in(class, &unit);
        self.classes.entry(class).or_default().insert(unit.key(), unit);
    }

    pub fn add_first(&mut self, class: Class, unit: Unit) {
        self.count_in(class, &unit);
        self.first.insert(unit.key(), (class, unit));
    }

    /// Adds a batch to an order: at its end, or before everything else.
    pub fn add_ordered(&mut self, class: Class, unit: Unit, in_front: bool) {
        if in_front {
            self.ordered.push_front((class, unit));
        } else {
            self.ordered.push_back((class, unit));
        }
    }

    pub fn add_retry(&mut self, retry: Retry) {
        self.retries.push(retry);
    }

    fn count_in(&mut self, class: Class, unit: &Unit) {
        self.units += 1;
        if class.claims != 0 {
            *self.claimed.entry(class.claims).or_default() += unit.work.0;
        }
    }

    fn count_out(&mut self, class: Class, unit: &Unit) {
        self.units -= 1;
        if let Some(left) = self.claimed.get_mut(&class.claims) {
            *left = left.saturating_sub(unit.work.0);
        }
    }

    /// The number of first attempts that wait, a group counted as one.
    pub fn units(&self) -> u32 {
        self.units
    }

    /// The work that waits in a set of claims.
    pub fn claimed(&self, set: u32) -> u64 {
        self.claimed.get(&set).copied().unwrap_or(0)
    }

    /// The sets of claims in which something waits.
    pub fn claim_sets(&self) -> impl Iterator<Item = u32> {
        self.claimed.iter().filter(|(_, left)| **left > 0).map(|(set, _)| *set)
    }

    /// The class that is next, among those that `may` run now: the one with the smallest rank, where `urgency` may bring
    /// a class forward that has more work behind it than its next unit shows. With its urgency, in microseconds.
    pub fn next_class(
        &self,
        may: impl Fn(&Class) -> bool,
        urgency: impl Fn(&Class, &Unit) -> u64,
    ) -> Option<(Class, u64)> {
        self.classes
            .iter()
            .filter(|(class, _)| may(class))
            .filter_map(|(class, units)| {
                let unit = units.first_key_value()?.1;
                Some((Reverse(urgency(class, unit)), unit.rank, *class))
            })
            .min()
            .map(|(Reverse(urgency), _, class)| (class, urgency))
    }

    /// The next unit of a class.
    pub fn next(&self, class: Class) -> Option<&Unit> {
        self.classes.get(&class)?.first_key_value().map(|(_, unit)| unit)
    }

    /// The unit of a class that takes longest, of those that take no more than that; where their rank is their length.
    pub fn longest_within(&self, class: Class, most: Span) -> Option<&Unit> {
        let of = self.classes.get(&class)?;
        of.range((u64::MAX - most.0, 0)..).next().map(|(_, unit)| unit)
    }

    /// Takes a unit of a class by its key.
    pub fn take(&mut self, class: Class, key: (u64, u32)) -> Option<Unit> {
        let units = self.classes.get_mut(&class)?;
        let unit = units.remove(&key)?;
        if units.is_empty() {
            self.classes.remove(&class);
        }
        self.count_out(class, &unit);
        Some(unit)
    }

    /// Takes the next unit of a class.
    pub fn take_next(&mut self, class: Class) -> Option<Unit> {
        let units = self.classes.get_mut(&class)?;
        let (_, unit) = units.pop_first()?;
        if units.is_empty() {
            self.classes.remove(&class);
        }
        self.count_out(class, &unit);
        Some(unit)
    }

    /// Retries that wait.
    pub fn retries(&self) -> usize {
        self.retries.len()
    }

    /// The entries that wait for a retry.
    pub fn waiting_retries(&self) -> impl Iterator<Item = u32> {
        self.retries.iter().map(|retry| retry.entry)
    }

    /// The entries of the unit with the most work, of those that are next in their class.
    pub fn longest(&self) -> Option<&[u32]> {
        let next = self.classes.values().filter_map(|units| units.values().next());
        next.max_by_key(|unit| unit.work).map(|unit| unit.entries.as_slice())
    }

    /// Takes the first of those that go before all others and `may` run now.
    pub fn take_first(&mut self, may: impl Fn(&Class) -> bool) -> Option<(Class, Unit)> {
        let key = self.first.iter().find(|(_, (class, _))| may(class)).map(|(key, _)| *key)?;
        let (class, unit) = self.first.remove(&key)?;
        self.count_out(class, &unit);
        Some((class, unit))
    }

    /// Takes the next batch of an order, if it `may` run now.
    pub fn take_ordered(&mut self, may: impl Fn(&Class) -> bool) -> Option<Unit> {
        if !may(&self.ordered.front()?.0) {
            return None;
        }
        self.ordered.pop_front().map(|(_, unit)| unit)
    }

    /// Takes the first retry that `may` run now.
    pub fn take_retry(&mut self, may: impl Fn(&Retry) -> bool) -> Option<Retry> {
        let found = self.retries.iter().position(may)?;
        Some(self.retries.remove(found))
    }

    /// Takes all retries.
    pub fn drain_retries(&mut self) -> Vec<Retry> {
        std::mem::take(&mut self.retries)
    }

    /// The next time at which a pause ends, after `now`.
    pub fn next_pause_end(&self, now: Timestamp) -> Option<Timestamp> {
        self.retries.iter().map(|r| r.not_before).filter(|t| *t > now).min()
    }

    /// How many batches could begin at the same time, at the most, of what `may` run now. What shares a claim is one after the other.
    pub fn could_begin(&self, may: impl Fn(&Class) -> bool, may_retry: impl Fn(&Retry) -> bool) -> usize {
        let of_class = |(class, units): (&Class, &BTreeMap<_, _>)| if class.claims == 0 { units.len() } else { 1 };
        let classes: usize = self.classes.iter().filter(|(class, _)| may(class)).map(of_class).sum();
        let first = self.first.values().filter(|(class, _)| may(class)).count();
        let ordered = self.ordered.iter().take_while(|(class, _)| may(class)).count();
        classes + first + ordered + self.retries.iter().filter(|retry| may_retry(retry)).count()
    }

    pub fn is_empty(&self) -> bool {
        self.retries.is_empty() && self.units == 0 && self.ordered.is_empty()
    }

    /// The classes of everything that waits.
    pub fn waiting_classes(&self) -> BTreeSet<Class> {
        let retries = self.retries.iter().map(|r| r.class);
        let first = self.first.values().map(|(class, _)| *class);
        let ordered = self.ordered.iter().map(|(class, _)| *class);
        self.classes.keys().copied().chain(retries).chain(first).chain(ordered).collect()
    }

    /// Takes away every entry of a variant.
    pub fn take_variant(&mut self, variant: u16) -> Vec<u32> {
        let mut taken: Vec<u32> = Vec::new();
        self.retries.retain(|r| {
            let of = r.class.variant == variant;
            taken.extend(of.then_some(r.entry));
            !of
        });
        let classes: Vec<Class> = self.classes.keys().filter(|c| c.variant == variant).copied().collect();
        for class in classes {
            while let Some(unit) = self.take_next(class) {
                taken.extend(unit.entries);
            }
        }
        while let Some((_, unit)) = self.take_first(|class| class.variant == variant) {
            taken.extend(unit.entries);
        }
        self.ordered.retain(|(class, unit)| {
            let of = class.variant == variant;
            if of {
                taken.extend(&unit.entries);
            }
            !of
        });
        taken
    }

    /// Takes everything away.
    pub fn clear(&mut self) {
        *self = Self::default();
    }
}

#[cfg(test)]
#[path = "ready_tests.rs"]
mod tests;
