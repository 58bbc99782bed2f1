//! Numbers of a run while it goes: what attempts took, how fast results come, and the same by groups of names.

use std::collections::{BTreeMap, VecDeque};

use serde::{Deserialize, Serialize};

use super::terms::{AttemptStats, Tally};
use crate::{
    time::{Span, Timestamp},
    words::Ended,
};

/// Cells of the histogram for each doubling of a time: what is read from it is off by at most 2.2 %.
const CELLS: f64 = 16.0;

/// The rate now is that of so many seconds.
const WINDOW: i64 = 10;

/// Groups of names that are told apart; the rest is one more.
pub const MOST_PARTS: usize = 500;

/// What attempts took: exact sums, and a histogram with cells that grow with the time, for the median and the 95th
/// percentile in bounded memory.
#[derive(Debug, Clone, Default)]
pub struct Figures {
    stats: AttemptStats,
    cells: BTreeMap<u16, u32>,
}

impl Figures {
    /// Counts an attempt.
    pub fn add(&mut self, ended: Ended, spent: Span) {
        self.stats.add(ended, spent);
        *self.cells.entry(cell(spent)).or_default() += 1;
    }

    /// The sums, with median and 95th percentile.
    #[must_use]
    pub fn stats(&self) -> AttemptStats {
        AttemptStats { median_us: self.quantile(0.5).0, p95_us: self.quantile(0.95).0, ..self.stats }
    }

    /// The sums alone.
    pub(super) fn sums(&self) -> &AttemptStats {
        &self.stats
    }

    /// What that share of attempts took at most: the nearest rank, to the middle of its cell, and within what was seen.
    #[must_use]
    pub fn quantile(&self, share: f64) -> Span {
        let rank = (f64::from(self.stats.ended) * share).ceil().max(1.0) as u32;
        let mut seen = 0;
        for (cell, count) in &self.cells {
            seen += count;
            if seen >= rank {
                let middle = ((f64::from(*cell) + 0.5) / CELLS).exp2() - 1.0;
                return Span((middle.max(0.0) as u64).clamp(self.stats.shortest_us, self.stats.longest_us));
            }
        }
        Span::ZERO
    }
}

fn cell(spent: Span) -> u16 {
    ((spent.0 as f64 + 1.0).log2() * CELLS) as u16
}

/// How many results came in each of the last seconds.
#[derive(Debug, Clone, Default)]
pub struct Rate {
    seconds: VecDeque<(i64, u32)>,
}

impl Rate {
    /// Counts a result.
    pub fn add(&mut self, now: Timestamp) {
        let second = now.0.div_euclid(1_000_000);
        match self.seconds.back_mut() {
            Some((last, count)) if *last == second => *count += 1,
            _ => {
                self.seconds.push_back((second, 1));
                while self.seconds.front().is_some_and(|(s, _)| *s < second - WINDOW) {
                    self.seconds.pop_front();
                }
            }
        }
    }

    /// Results a second over the last ten seconds, or since `began` if that is shorter ago; the second that is not over
    /// is left out, unless it is the only one.
    #[must_use]
    pub fn now(&self, began: Timestamp, now: Timestamp) -> f64 {
        let (second, first) = (now.0.div_euclid(1_000_000), began.0.div_euclid(1_000_000));
        if second == first {
            let count: u32 = self.seconds.iter().map(|(_, n)| n).sum();
            return f64::from(count) / now.since(began).as_seconds().max(0.1);
        }
        let from = (second - WINDOW).max(first);
        let counted = self.seconds.iter().filter(|(s, _)| (from..second).contains(s)).map(|(_, n)| n).sum::<u32>();
        f64::from(counted) / (second - from) as f64
    }
}

/// A group of names: the tests whose names begin with the same part.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Part {
    /// The first part of the names; empty for names of one part, and `…` for what is beyond the first 500 groups.
    pub name: String,
    pub tally: Tally,
    pub stats: AttemptStats,
}

/// The groups of a run's names, and which entry is in which.
#[derive(Debug, Clone, Default)]
pub struct Parts {
    names: Vec<String>,
    of: Vec<u16>,
    figures: Vec<Figures>,
}

impl Parts {
    /// Groups names, in the order in which they come.
    pub fn new<'a>(names: impl Iterator<Item = &'a str>) -> Self {
        let mut parts = Self::default();
        let mut known: BTreeMap<&'a str, u16> = BTreeMap::new();
        for name in names {
            let first = name.split_once('/').map_or("", |(first, _)| first);
            let index = match known.get(first) {
                Some(index) => *index,
                None if known.len() < MOST_PARTS => {
                    parts.names.push(first.to_owned());
                    known.insert(first, parts.names.len() as u16 - 1);
                    parts.names.len() as u16 - 1
                }
                None => {
                    if parts.names.len() == MOST_PARTS {
                        parts.names.push("…".to_owned());
                    }
                    MOST_PARTS as u16
                }
            };
            parts.of.push(index);
        }
        parts.figures = vec![Figures::default(); parts.names.len()];
        parts
    }

    /// Counts an attempt of an entry.
    pub fn add(&mut self, entry: u32, ended: Ended, spent: Span) {
        if let Some(of) = self.of.get(entry as usize) {
            self.figures[usize::from(*of)].add(ended, spent);
        }
    }

    /// The groups with their figures; `count` counts an entry into the tally of its group. Those with failures first, then
    /// in listed order.
    #[must_use]
    pub fn told(&self, mut count: impl FnMut(u32, &mut Tally)) -> Vec<Part> {
        let mut tallies = vec![Tally::default(); self.names.len()];
        for (entry, of) in self.of.iter().enumerate() {
            count(entry as u32, &mut tallies[usize::from(*of)]);
        }
        let part = |((name, tally), figures): ((&String, Tally), &Figures)| Part {
            name: name.clone(),
            tally,
            stats: figures.stats(),
        };
        let mut told: Vec<Part> = self.names.iter().zip(tallies).zip(&self.figures).map(part).collect();
        told.sort_by_key(|p| std::cmp::Reverse(p.tally.failed));
        told
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_median_and_the_95th_percentile_are_within_a_cell() {
        let mut figures = Figures::default();
        (1..=1000u64).for_each(|ms| figures.add(Ended::Passed, Span::millis(ms)));
        let stats = figures.stats();
        assert!((stats.median_us as f64 / 500_000.0 - 1.0).abs() < 0.025, "{stats:?}");
        assert!((stats.p95_us as f64 / 950_000.0 - 1.0).abs() < 0.025, "{stats:?}");
        assert_eq!((stats.shortest_us, stats.longest_us, stats.ended), (1000, 1_000_000, 1000));
        assert_eq!(Figures::default().stats(), AttemptStats::default());
    }

    #[test]
    fn quantiles_lie_within_what_was_seen() {
        let mut figures = Figures::default();
        figures.add(Ended::Failed, Span(777));
        assert_eq!((figures.stats().median_us, figures.stats().p95_us), (777, 777));
        figures.add(Ended::Passed, Span::ZERO);
        assert!(figures.stats().median_us < 777);
    }

    #[test]
    fn the_rate_is_that_of_the_last_ten_seconds() {
        let at = |seconds: f64| Timestamp((seconds * 1e6) as i64);
        let mut rate = Rate::default();
        for tenth in 0..200 {
            rate.add(at(100.0 + f64::from(tenth) / 10.0));
        }
        assert!((rate.now(at(100.0), at(120.0)) - 10.0).abs() < 1e-9);
        // Nothing came for five seconds.
        assert!((rate.now(at(100.0), at(125.0)) - 5.0).abs() < 1e-9);
        assert!(rate.now(at(100.0), at(200.0)) < 1e-9);
        let mut young = Rate::default();
        (0..5).for_each(|_| young.add(at(50.2)));
        assert!((young.now(at(50.0), at(50.5)) - 10.0).abs() < 1e-9);
        assert!((young.now(at(50.0), at(52.0)) - 2.5).abs() < 1e-9);
    }

    #[test]
    fn names_are_grouped_by_their_first_part() {
        let mut parts = Parts::new(["gate/a", "fares/b", "gate/c/d", "alone"].into_iter());
        parts.add(0, Ended::Passed, Span(5));
        parts.add(2, Ended::Failed, Span(15));
        let told = parts.told(|entry, tally| match entry {
            0 => tally.passed += 1,
            2 => tally.failed += 1,
            _ => tally.waiting += 1,
        });
        let names: Vec<&str> = told.iter().map(|p| p.name.as_str()).collect();
        assert_eq!(names, ["gate", "fares", ""]);
        assert_eq!((told[0].stats.ended, told[0].stats.failing, told[0].stats.longest_us), (2, 1, 15));
        assert_eq!(told[0].tally.total(), 2);
    }

    #[test]
    fn many_groups_are_bounded() {
        let names: Vec<String> = (0..2000).map(|n| format!("p{n}/t")).collect();
        let told = Parts::new(names.iter().map(String::as_str)).told(|_, tally| tally.waiting += 1);
        assert_eq!(told.len(), MOST_PARTS + 1);
        assert_eq!(told.last().map(|p| (p.name.as_str(), p.tally.waiting)), Some(("…", 1500)));
    }
}
