//! What a run's slots measured, put together: in all, and over time.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{
    spread::{Counts, Sample, Spread},
    stat::Stat,
};
use crate::time::Span;

/// Measures of a run that are told apart: more names than that are a name with something in it that always differs.
pub const MOST_NAMES: usize = 100;
/// Points of a measure over time; when there would be more, two become one.
const MOST_POINTS: u64 = 300;
/// Buckets of a point: of more, neighbours are put together.
const PAIRS_OF_POINT: usize = 300;
/// The longest time that is told, in seconds: a run is over long before.
const LONGEST: u64 = 366 * 86_400;
/// Buckets of one measure in one part, in the same way.
const MOST_PAIRS: usize = 1_000;

/// What one slot measured under one name in one second.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Measured {
    pub name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub unit: String,
    pub counts: Counts,
    /// Buckets, and how many values each holds ([`Spread::pairs`]).
    pub pairs: Vec<(u64, u64)>,
}

impl Measured {
    /// Whether it can be: what comes over the network may say anything.
    ///
    /// # Errors
    /// In words, what cannot.
    pub fn check(&self) -> Result<(), String> {
        Sample::new(&self.name, &self.unit, vec![(0.0, 1)], 0)?;
        let count = self.pairs.iter().fold(0u64, |sum, pair| sum.saturating_add(pair.1));
        if self.pairs.len() > MOST_PAIRS || count != self.counts.count || !self.counts.can_be() {
            return Err(format!("what is told of the measure {} cannot be", self.name));
        }
        Ok(())
    }
}

/// What one slot measured in one second: it is counted once, however often it is told.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// From 1, in the order in which a batch tells them.
    pub number: u32,
    /// Whole seconds since 1970.
    pub second: i64,
    pub measures: Vec<Measured>,
}

/// Some seconds of a measure.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Point {
    /// Seconds from the first one.
    pub at: u64,
    pub counts: Counts,
    pub pairs: Vec<(u64, u64)>,
}

/// A measure of a run.
#[derive(Debug, Clone, PartialEq)]
pub struct Measure {
    pub name: String,
    pub unit: String,
    pub spread: Spread,
    /// From the first second in which something was measured to the last, both counted.
    pub seconds: u64,
    /// In order; seconds without a value have none.
    pub points: Vec<Point>,
    /// How many seconds a point holds.
    pub step: u64,
}

impl Measure {
    /// A figure of it.
    #[must_use]
    pub fn stat(&self, stat: Stat) -> f64 {
        let c = self.spread.counts;
        match stat {
            Stat::Count => c.count as f64,
            Stat::Errors => c.errors as f64,
            Stat::Rate => rate(c.count, Span::seconds(self.seconds)),
            Stat::Mean => c.mean(),
            Stat::Min => c.min,
            Stat::Max => c.max,
            Stat::P50 => self.spread.below(0.5),
            Stat::P90 => self.spread.below(0.9),
            Stat::P95 => self.spread.below(0.95),
            Stat::P99 => self.spread.below(0.99),
        }
    }

    fn take(&mut self, at: u64, told: &Measured) {
        let spread = Spread::of(told.counts, &told.pairs);
        self.spread.put_together(&spread);
        self.seconds = self.seconds.max(at + 1);
        let place = at / self.step * self.step;
        match self.points.binary_search_by_key(&place, |point| point.at) {
            Ok(found) => put_together(&mut self.points[found], &spread),
            Err(next) => {
                let pairs = spread.coarse(PAIRS_OF_POINT);
                let point = Point { at: place, counts: spread.counts, pairs };
                self.points.insert(next, point);
            }
        }
        self.keep_few();
    }

    /// As many seconds go into a point as it takes to have few of them over the whole time, gaps counted.
    fn keep_few(&mut self) {
        while self.seconds.div_ceil(self.step) > MOST_POINTS {
            self.halve();
        }
    }

    /// Makes one point of two.
    fn halve(&mut self) {
        self.step *= 2;
        let mut halved: Vec<Point> = Vec::new();
        for point in std::mem::take(&mut self.points) {
            let place = point.at / self.step * self.step;
            match halved.last_mut().filter(|last| last.at == place) {
                Some(last) => put_together(last, &Spread::of(point.counts, &point.pairs)),
                None => halved.push(Point { at: place, ..point }),
            }
        }
        self.points = halved;
    }

    /// How many a second in the last so many seconds before `now`, which counts from the first second.
    #[must_use]
    pub fn rate_before(&self, now: u64, seconds: u64) -> f64 {
        let from = now.saturating_sub(seconds);
        let count = self.points.iter().rev().take_while(|p| p.at >= from).map(|p| p.counts.count).sum();
        rate(count, Span::seconds(seconds.min(now.max(1))))
    }
}

fn put_together(point: &mut Point, other: &Spread) {
    let mut spread = Spread::of(point.counts, &point.pairs);
    spread.put_together(other);
    (point.counts, point.pairs) = (spread.counts, spread.coarse(PAIRS_OF_POINT));
}

/// What became of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Taken {
    Now,
    /// It had come before.
    Before,
    /// It counts, but for this name and all others that come now: there are too many.
    Without(String),
}

/// What a run's slots measured.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Gathered {
    measures: BTreeMap<String, Measure>,
    /// The second in which the first value came, since 1970.
    first: Option<i64>,
    /// The last part that was counted of each batch.
    counted: BTreeMap<u32, u32>,
    /// Names that are left out, the first of them.
    left_out: Option<String>,
}

impl Gathered {
    /// Counts a part of a batch, unless it was counted.
    pub fn take(&mut self, batch: u32, part: &Part) -> Taken {
        let last = self.counted.entry(batch).or_default();
        if part.number <= *last {
            return Taken::Before;
        }
        *last = part.number;
        let first = *self.first.get_or_insert(part.second);
        if part.second < first {
            self.begin_earlier(first.abs_diff(part.second));
            self.first = Some(part.second.max(first.saturating_sub(LONGEST.cast_signed())));
        }
        let at = part.second.saturating_sub(self.first.unwrap_or(first)).max(0).unsigned_abs().min(LONGEST);
        let mut taken = Taken::Now;
        for told in &part.measures {
            if !self.measures.contains_key(&told.name) && self.measures.len() >= MOST_NAMES {
                if self.left_out.is_none() {
                    self.left_out = Some(told.name.clone());
                    taken = Taken::Without(told.name.clone());
                }
                continue;
            }
            let fresh = || Measure {
                name: told.name.clone(),
                unit: told.unit.clone(),
                spread: Spread::default(),
                seconds: 0,
                points: Vec::new(),
                step: 1,
            };
            self.measures.entry(told.name.clone()).or_insert_with(fresh).take(at, told);
        }
        taken
    }

    /// A slot whose clock is behind told of a second before the first one.
    fn begin_earlier(&mut self, by: u64) {
        let by = by.min(LONGEST);
        for measure in self.measures.values_mut() {
            measure.seconds += by;
            let step = measure.step;
            for point in &mut measure.points {
                point.at = (point.at + by) / step * step;
            }
            measure.keep_few();
        }
    }

    /// The measures, by name.
    pub fn all(&self) -> impl Iterator<Item = &Measure> {
        self.measures.values()
    }

    /// The measure of that name.
    #[must_use]
    pub fn named(&self, name: &str) -> Option<&Measure> {
        self.measures.get(name)
    }

    /// Whether nothing was measured.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.measures.is_empty()
    }

    /// The second in which the first value came, since 1970.
    #[must_use]
    pub fn begins(&self) -> Option<i64> {
        self.first
    }

    /// Builds it again from parts that were kept, in the order of their numbers.
    #[must_use]
    pub fn of(parts: impl IntoIterator<Item = (u32, Part)>) -> Self {
        let mut gathered = Self::default();
        for (batch, part) in parts {
            gathered.take(batch, &part);
        }
        gathered
    }
}

/// Gathers what one slot measures, second by second, for the parts that it tells.
#[derive(Debug, Default)]
pub struct Gathering {
    number: u32,
    second: i64,
    now: BTreeMap<String, (String, Spread)>,
    /// A name that is left out.
    left_out: bool,
}

impl Gathering {
    /// Takes a sample at a second. Gives the part that is over by it, if one is; and a remark where its name is left out or its unit is another than before.
    pub fn take(&mut self, sample: &Sample, second: i64) -> (Option<Part>, Option<String>) {
        let over = if second == self.second { None } else { self.finish() };
        self.second = second;
        if !self.now.contains_key(&sample.name) && self.now.len() >= MOST_NAMES {
            let remark = (!self.left_out).then(|| left_out_said(&sample.name));
            self.left_out = true;
            return (over, remark);
        }
        let (_, spread) =
            self.now.entry(sample.name.clone()).or_insert_with(|| (sample.unit.clone(), Spread::default()));
        spread.take(sample);
        (over, None)
    }

    /// Whether the second that is gathered is over by now.
    #[must_use]
    pub fn is_due(&self, second: i64) -> bool {
        !self.now.is_empty() && second != self.second
    }

    /// What was gathered, if anything.
    pub fn finish(&mut self) -> Option<Part> {
        if self.now.is_empty() {
            return None;
        }
        self.number += 1;
        let measures = std::mem::take(&mut self.now).into_iter().map(|(name, (unit, spread))| Measured {
            pairs: spread.coarse(MOST_PAIRS),
            counts: spread.counts,
            name,
            unit,
        });
        Some(Part { number: self.number, second: self.second, measures: measures.collect() })
    }
}

/// What is said where there are more names than are told apart.
#[must_use]
pub fn left_out_said(name: &str) -> String {
    let name = crate::name::shorten(name, 60);
    format!(
        "more than {MOST_NAMES} measures: {name:?} and what comes after it is left out. A measure's name says what is measured, and nothing that differs each time"
    )
}

/// The time over which a rate is told; at least a second.
fn rate(count: u64, over: Span) -> f64 {
    count as f64 / over.as_seconds().max(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(number: u32, second: i64, values: &[(&str, f64)]) -> Part {
        let mut gathering = Gathering { number: number - 1, ..Gathering::default() };
        for (name, value) in values {
            let sample = Sample::new(name, "ms", vec![(*value, 1)], 0).expect("a sample");
            assert_eq!(gathering.take(&sample, second).0, None);
        }
        gathering.finish().expect("something was gathered")
    }

    #[test]
    fn a_part_counts_once_and_totals_are_those_of_all_slots() {
        let mut all = Gathered::default();
        let (one, other) = (1, 2);
        all.take(one, &part(1, 100, &[("scan", 10.0), ("scan", 30.0)]));
        all.take(other, &part(1, 100, &[("scan", 50.0), ("sail", 1.0)]));
        all.take(one, &part(1, 100, &[("scan", 10.0), ("scan", 30.0)]));
        all.take(one, &part(2, 104, &[("scan", 70.0)]));
        let scan = all.named("scan").expect("it was measured");
        let c = scan.spread.counts;
        assert_eq!((c.count, c.sum, c.min, c.max, scan.seconds), (4, 160.0, 10.0, 70.0, 5));
        assert_eq!(scan.points.iter().map(|p| (p.at, p.counts.count)).collect::<Vec<_>>(), [(0, 3), (4, 1)]);
        assert_eq!(all.all().map(|m| m.name.as_str()).collect::<Vec<_>>(), ["sail", "scan"]);
        assert!((scan.stat(Stat::Rate) - 0.8).abs() < 1e-9);
        assert!((scan.rate_before(5, 2) - 0.5).abs() < 1e-9, "one in the last two seconds");
        // A slot whose clock is behind.
        all.take(3, &part(1, 97, &[("scan", 5.0)]));
        let scan = all.named("scan").expect("it was measured");
        assert_eq!(scan.points.iter().map(|p| (p.at, p.counts.count)).collect::<Vec<_>>(), [(0, 1), (3, 3), (7, 1)]);
        assert_eq!(scan.seconds, 8);
    }

    #[test]
    fn a_long_run_keeps_few_points_and_loses_nothing() {
        let mut all = Gathered::default();
        for second in 0..5000u32 {
            all.take(1, &part(second + 1, 1_000_000 + i64::from(second), &[("scan", f64::from(second))]));
        }
        let scan = all.named("scan").expect("it was measured");
        let points = scan.points.len() as u64;
        assert!(points <= MOST_POINTS && points > MOST_POINTS / 2 - 1, "{points}");
        assert_eq!(scan.points.iter().map(|p| p.counts.count).sum::<u64>(), 5000);
        assert_eq!((scan.step, scan.spread.counts.count), (32, 5000));
        assert!(scan.points.iter().all(|p| p.pairs.len() <= PAIRS_OF_POINT));
        let pairs: u64 = scan.points.iter().flat_map(|p| p.pairs.iter().map(|pair| pair.1)).sum();
        assert_eq!(pairs, 5000);
        // Two values that are hours apart have few places between them, too.
        let mut apart = Gathered::default();
        apart.take(1, &part(1, 1_000_000, &[("scan", 1.0)]));
        apart.take(2, &part(1, 1_020_000, &[("scan", 1.0)]));
        assert_eq!(apart.named("scan").map(|m| (m.points.len(), m.step)), Some((2, 128)));
        // Clocks that are years apart neither hang nor overflow.
        all.take(2, &part(1, i64::MIN, &[("scan", 1.0)]));
        all.take(3, &part(1, i64::MAX, &[("scan", 1.0)]));
        assert_eq!(all.named("scan").map(|m| m.spread.counts.count), Some(5002));
    }

    #[test]
    fn too_many_names_are_told_once_and_the_others_go_on() {
        let mut all = Gathered::default();
        let many: Vec<String> = (0..150).map(|n| format!("call-{n:03}")).collect();
        let told: Vec<String> = many
            .iter()
            .enumerate()
            .filter_map(|(n, name)| match all.take(1, &part(n as u32 + 1, 7, &[(name.as_str(), 1.0)])) {
                Taken::Without(name) => Some(name),
                _ => None,
            })
            .collect();
        assert_eq!(told, ["call-100"]);
        assert_eq!(all.all().count(), MOST_NAMES);
        let mut gathering = Gathering::default();
        let remarks: Vec<String> = many
            .iter()
            .filter_map(|name| gathering.take(&Sample::new(name, "", vec![(1.0, 1)], 0).expect("a sample"), 7).1)
            .collect();
        assert_eq!(remarks.len(), 1);
        assert!(remarks[0].contains("call-100"));
        assert_eq!(gathering.finish().map(|part| part.measures.len()), Some(MOST_NAMES));
    }

    #[test]
    fn parts_end_with_their_second_and_what_cannot_be_is_refused() {
        let mut gathering = Gathering::default();
        let sample = Sample::new("scan", "ms", vec![(1.0, 1)], 0).expect("a sample");
        assert_eq!(gathering.take(&sample, 7), (None, None));
        assert!(!gathering.is_due(7) && gathering.is_due(8));
        let first = gathering.take(&sample, 8).0.expect("the second is over");
        assert_eq!((first.number, first.second), (1, 7));
        assert_eq!(gathering.finish().map(|part| (part.number, part.second)), Some((2, 8)));
        assert_eq!(gathering.finish(), None);
        let good = first.measures[0].clone();
        assert_eq!(good.check(), Ok(()));
        let odd = [
            Measured { name: "a\0".into(), ..good.clone() },
            Measured { counts: Counts { count: 2, ..good.counts }, ..good.clone() },
            Measured { counts: Counts { sum: f64::NAN, ..good.counts }, ..good.clone() },
            Measured { counts: Counts { min: 5.0, max: 1.0, ..good.counts }, ..good.clone() },
            Measured { pairs: vec![(1, 1); 1001], counts: Counts { count: 1001, ..good.counts }, ..good.clone() },
        ];
        assert!(odd.iter().all(|measured| measured.check().is_err()));
    }
}
