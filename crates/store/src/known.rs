//! What tests of suites are kept as, remembered of those that were written of late: to look for each of a suite's tests by its name
//! takes PostgreSQL nearly as long as to write what a run says of it.
//!
//! Nothing deletes tests, but a database may be put back to what it was before. No connection outlives that: with a new one everything
//! is forgotten. And whoever uses what is remembered makes sure that it is there.

use std::{
    collections::HashMap,
    hash::{BuildHasher, RandomState},
    sync::{Mutex, MutexGuard, PoisonError},
};

/// Tests that are remembered at most, of all suites: some 20 MB.
const MOST: usize = 400_000;

/// A test of a suite in a variant, by two hashes whose keys nobody knows: among fewer than 2^60 tests no two are expected to share it.
type Key = (u64, u64);

/// What was found out while something was written: it counts once that is kept.
#[derive(Debug, Default)]
pub(crate) struct Found(Vec<(Key, i64)>);

/// Ids of tests.
#[derive(Debug, Default)]
pub(crate) struct Known {
    first: RandomState,
    second: RandomState,
    suites: Mutex<Suites>,
}

#[derive(Debug, Default)]
struct Suites {
    all: HashMap<i64, Suite>,
    /// How often one was asked for.
    asked: u64,
}

#[derive(Debug, Default)]
struct Suite {
    tests: HashMap<Key, i64>,
    /// When it was asked for last, by that count.
    used: u64,
}

impl Known {
    fn suites(&self) -> MutexGuard<'_, Suites> {
        self.suites.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn key(&self, test: &str, variant: &str) -> Key {
        (self.first.hash_one((test, variant)), self.second.hash_one((test, variant)))
    }

    /// The ids of some tests of a suite, in their order; none where it is not remembered.
    pub fn of<'a>(&self, suite: i64, tests: impl Iterator<Item = (&'a str, &'a str)>) -> Vec<Option<i64>> {
        let keys: Vec<Key> = tests.map(|(test, variant)| self.key(test, variant)).collect();
        let mut suites = self.suites();
        suites.asked += 1;
        let asked = suites.asked;
        let Some(suite) = suites.all.get_mut(&suite) else { return vec![None; keys.len()] };
        suite.used = asked;
        keys.iter().map(|key| suite.tests.get(key).copied()).collect()
    }

    /// Notes the id of a test, for when it is kept.
    pub fn found(&self, found: &mut Found, (test, variant): (&str, &str), id: i64) {
        found.0.push((self.key(test, variant), id));
    }

    /// What was found of a suite is kept now. Of too many tests those suites are forgotten that were not asked for the longest; one that
    /// has too many by itself is not remembered.
    pub fn keep(&self, suite: i64, found: Found) {
        if found.0.is_empty() {
            return;
        }
        let mut suites = self.suites();
        suites.asked += 1;
        let asked = suites.asked;
        let of = suites.all.entry(suite).or_default();
        of.used = asked;
        of.tests.extend(found.0);
        if of.tests.len() > MOST {
            suites.all.remove(&suite);
        }
        let mut count: usize = suites.all.values().map(|suite| suite.tests.len()).sum();
        while count > MOST {
            let Some(oldest) = suites.all.iter().min_by_key(|(_, suite)| suite.used).map(|(id, _)| *id) else { break };
            count -= suites.all.remove(&oldest).map_or(0, |suite| suite.tests.len());
        }
    }

    /// What is remembered of a suite is not so.
    pub fn forget(&self, suite: i64) {
        self.suites().all.remove(&suite);
    }

    /// Nothing that is remembered need be so.
    pub fn forget_all(&self) {
        self.suites().all.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(known: &Known, suite: i64, tests: &[(&str, i64)]) {
        let mut found = Found::default();
        tests.iter().for_each(|(test, id)| known.found(&mut found, (test, ""), *id));
        known.keep(suite, found);
    }

    #[test]
    fn a_test_is_known_by_its_suite_its_name_and_its_variant() {
        let known = Known::default();
        told(&known, 7, &[("boards", 3), ("leaves", 4)]);
        let of = |suite, tests: [(&'static str, &'static str); 2]| known.of(suite, tests.into_iter());
        assert_eq!(of(7, [("leaves", ""), ("boards", "")]), [Some(4), Some(3)]);
        assert_eq!(of(7, [("leaves", "tide=low"), ("board", "s")]), [None, None], "names are not put together");
        assert_eq!(of(8, [("leaves", ""), ("boards", "")]), [None, None]);
        known.forget(7);
        assert_eq!(of(7, [("leaves", ""), ("boards", "")]), [None, None]);
    }

    #[test]
    fn of_too_many_tests_the_suite_goes_that_was_not_asked_for_the_longest() {
        let known = Known::default();
        let many = |suite: i64, count: usize| {
            let mut found = Found::default();
            (0..count).for_each(|n| known.found(&mut found, (&n.to_string(), ""), n as i64));
            known.keep(suite, found);
        };
        many(1, MOST / 2);
        many(2, MOST / 2);
        known.of(1, [("0", "")].into_iter());
        many(3, 1);
        assert_eq!(known.suites().all.keys().copied().collect::<std::collections::BTreeSet<_>>(), [1, 3].into());
        // One that is too large by itself is not remembered, and takes no other's place.
        many(4, MOST + 1);
        assert_eq!(known.suites().all.keys().copied().collect::<std::collections::BTreeSet<_>>(), [1, 3].into());
    }
}
