//! Portions: fixed shares of the entries, cut before a run, for CI servers that start their own jobs.
//!
//! Units (a test, or the members of a group) are dealt out longest first, each to the portion with the least work so far
//! (R. L. Graham, "Bounds on multiprocessing timing anomalies", SIAM Journal on Applied Mathematics 17, 1969). The same
//! plan gives the same portions everywhere: all ties are broken by number.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, BinaryHeap},
};

use serde::{Deserialize, Serialize};

use super::Plan;
use crate::error::Error;

/// Which of how many: `2/5`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Portion {
    /// From 1.
    pub number: u32,
    pub of: u32,
}

/// The most portions.
pub const MOST_PORTIONS: u32 = 10_000;

impl Portion {
    /// Reads `2/5`.
    ///
    /// # Errors
    /// If it is not two numbers of which the first is at least 1 and at most the second.
    ///
    /// ```
    /// use kesmo_core::plan::portion::Portion;
    /// assert_eq!(Portion::parse("2/5").unwrap(), Portion { number: 2, of: 5 });
    /// assert!(Portion::parse("6/5").unwrap_err().to_string().contains("there are portions 1/5 to 5/5"));
    /// ```
    pub fn parse(text: &str) -> Result<Self, Error> {
        let numbers = text.split_once('/').and_then(|(n, of)| Some((n.trim().parse().ok()?, of.trim().parse().ok()?)));
        let (number, of) = numbers.ok_or_else(|| wrong(text, "write which of how many, like 2/5"))?;
        Self::new(number, of)
    }

    /// The portion with that number, of so many.
    ///
    /// # Errors
    /// If there is none.
    pub fn new(number: u32, of: u32) -> Result<Self, Error> {
        let text = format!("{number}/{of}");
        if of == 0 || of > MOST_PORTIONS {
            return Err(wrong(&text, &format!("there can be 1 to {MOST_PORTIONS} portions")));
        }
        if number == 0 || number > of {
            return Err(wrong(&text, &format!("there are portions 1/{of} to {of}/{of}")));
        }
        Ok(Self { number, of })
    }
}

fn wrong(text: &str, why: &str) -> Error {
    Error::Options(format!("the portion {text:?} is none: {why}"))
}

/// Cuts a plan into portions: lists of entries in listed order. Together they are exactly the plan, and groups are not
/// broken. An entry of unknown length counts as the mean of the known ones, or as one second.
#[must_use]
pub fn portions(plan: &Plan, of: u32) -> Vec<Vec<u32>> {
    let known: Vec<u64> = plan.entries.iter().filter_map(|e| e.expected).map(|s| s.0).collect();
    let usual = if known.is_empty() { 1_000_000 } else { known.iter().sum::<u64>() / known.len() as u64 };
    let mut grouped: BTreeMap<u32, (u64, Vec<u32>)> = BTreeMap::new();
    let mut units: Vec<(u64, Vec<u32>)> = Vec::new();
    for (index, entry) in plan.entries.iter().enumerate() {
        let work = entry.expected.map_or(usual, |s| s.0).max(1);
        match entry.group {
            Some(group) => {
                let unit = grouped.entry(group).or_default();
                unit.0 += work;
                unit.1.push(index as u32);
            }
            None => units.push((work, vec![index as u32])),
        }
    }
    units.extend(grouped.into_values());
    units.sort_by_key(|(work, entries)| (Reverse(*work), entries[0]));
    let mut portions: Vec<Vec<u32>> = vec![Vec::new(); of as usize];
    let mut least: BinaryHeap<Reverse<(u64, usize)>> = (0..of as usize).map(|p| Reverse((0, p))).collect();
    for (work, entries) in units {
        let Some(Reverse((load, portion))) = least.pop() else { break };
        portions[portion].extend(entries);
        least.push(Reverse((load + work, portion)));
    }
    for portion in &mut portions {
        portion.sort_unstable();
    }
    portions
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::{name::TestName, plan::PlannedEntry, suite::Variant, time::Span};

    fn plan(entries: &[(u64, Option<u32>)]) -> Plan {
        let entry = |(index, (ms, group)): (usize, &(u64, Option<u32>))| PlannedEntry {
            group: *group,
            expected: Some(Span::millis(*ms)),
            ..PlannedEntry::plain(TestName::parse(&format!("fares/{index}")).unwrap())
        };
        let entries = entries.iter().enumerate().map(entry).collect();
        Plan { variants: vec![Variant::default()], entries, claim_sets: vec![vec![]], ..Plan::default() }
    }

    fn loads(plan: &Plan, portions: &[Vec<u32>]) -> Vec<u64> {
        let work = |p: &Vec<u32>| p.iter().map(|i| plan.entries[*i as usize].expected.unwrap_or_default().0).sum();
        portions.iter().map(work).collect()
    }

    proptest! {
        #[test]
        fn portions_are_exactly_the_whole_and_groups_stay_whole(
            entries in proptest::collection::vec((1u64..5000, proptest::option::of(0u32..8)), 1..200),
            of in 1u32..12,
        ) {
            let plan = plan(&entries);
            let portions = portions(&plan, of);
            prop_assert_eq!(portions.len(), of as usize);
            let mut all: Vec<u32> = portions.iter().flatten().copied().collect();
            all.sort_unstable();
            prop_assert_eq!(all, (0..entries.len() as u32).collect::<Vec<_>>());
            for group in 0..8 {
                let of_group = |p: &&Vec<u32>| p.iter().any(|i| plan.entries[*i as usize].group == Some(group));
                prop_assert!(portions.iter().filter(of_group).count() <= 1);
            }
            prop_assert_eq!(super::portions(&plan, of), portions);
        }
    }

    #[test]
    fn uneven_work_is_balanced() {
        let entries: Vec<(u64, Option<u32>)> = (0..300).map(|n| (20 + (n * n * 7919) % 3000, None)).collect();
        let plan = plan(&entries);
        let loads = loads(&plan, &portions(&plan, 5));
        let mean = loads.iter().sum::<u64>() / 5;
        assert!(loads.iter().max().unwrap() * 100 <= mean * 102, "{loads:?}");
    }

    #[test]
    fn more_portions_than_tests_leave_some_empty() {
        let portions = portions(&plan(&[(5, None), (7, None)]), 3);
        assert_eq!(portions, [vec![1], vec![0], vec![]]);
    }

    #[test]
    fn what_is_no_portion_says_what_there_is() {
        for (text, why) in [("6/5", "1/5 to 5/5"), ("0/5", "1/5 to 5/5"), ("2", "like 2/5"), ("1/0", "1 to 10000")] {
            let error = Portion::parse(text).unwrap_err().to_string();
            assert!(error.contains(why), "{error}");
        }
    }
}
