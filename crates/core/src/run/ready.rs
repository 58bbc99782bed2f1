//! What waits to be granted: first attempts by longest expected work, and retries in the order in which they came.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet},
};

use super::WorkerId;
use crate::time::{Span, Timestamp};

/// Entries that are granted together: one, or the members of a group in listed order.
#[derive(Debug, Clone)]
pub(super) struct Unit {
    pub entries: Vec<u32>,
    /// What the entries are expected to take, for ordering.
    pub work: Span,
    pub group: Option<u32>,
}

/// Units may share a batch when they agree in this.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Class {
    pub variant: u16,
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
    classes: BTreeMap<Class, BTreeMap<(Reverse<Span>, u32), Unit>>,
    retries: Vec<Retry>,
}

impl Ready {
    pub fn add(&mut self, class: Class, unit: Unit) {
        let key = (Reverse(unit.work), unit.entries[0]);
        self.classes.entry(class).or_default().insert(key, unit);
    }

    pub fn add_retry(&mut self, retry: Retry) {
        self.retries.push(retry);
    }

    /// The class whose longest unit is longest, among those that `may` run now.
    pub fn longest_class(&self, may: impl Fn(&Class) -> bool) -> Option<Class> {
        self.classes
            .iter()
            .filter(|(class, units)| !units.is_empty() && may(class))
            .map(|(class, units)| (units.first_key_value().map(|(key, _)| key.0), *class))
            .min_by_key(|(longest, class)| (*longest, *class))
            .map(|(_, class)| class)
    }

    /// The longest unit of a class.
    pub fn longest(&self, class: Class) -> Option<&Unit> {
        self.classes.get(&class)?.first_key_value().map(|(_, unit)| unit)
    }

    /// Takes the longest unit of a class.
    pub fn take_longest(&mut self, class: Class) -> Option<Unit> {
        self.classes.get_mut(&class)?.pop_first().map(|(_, unit)| unit)
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

    pub fn is_empty(&self) -> bool {
        self.retries.is_empty() && self.classes.values().all(BTreeMap::is_empty)
    }

    /// Takes every entry away.
    pub fn clear(&mut self) -> BTreeSet<u32> {
        let mut all: BTreeSet<u32> = self.drain_retries().iter().map(|r| r.entry).collect();
        for units in std::mem::take(&mut self.classes).into_values() {
            all.extend(units.into_values().flat_map(|u| u.entries));
        }
        all
    }
}
