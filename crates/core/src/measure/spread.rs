//! Values, counted and spread.

use hdrhistogram::Histogram;
use serde::{Deserialize, Serialize};

/// Significant digits of a bucket.
const DIGITS: u8 = 2;
/// Buckets count whole numbers: this many to one of a measure's unit.
const TO_ONE: f64 = 1e6;
/// The largest value, in a measure's unit: above it the buckets would have no numbers left.
pub const LARGEST: f64 = 1e13;
/// The longest name and unit, in letters.
const LONGEST_NAME: usize = 100;
const LONGEST_UNIT: usize = 20;
/// Values of one event, and how often each may come.
const MOST_PAIRS: usize = 10_000;
const MOST_OF_ONE: u64 = 1_000_000_000_000;

/// What one event reports of a measure.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    pub name: String,
    pub unit: String,
    /// Values, and how often each came.
    pub values: Vec<(f64, u64)>,
    pub errors: u64,
}

impl Sample {
    /// A sample that can be counted.
    ///
    /// # Errors
    /// In words, if a name, unit or number cannot be used.
    pub fn new(name: &str, unit: &str, values: Vec<(f64, u64)>, errors: u64) -> Result<Self, String> {
        let name = name.trim();
        if name.is_empty() || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
            return Err(format!("the name of a measure has 1 to {LONGEST_NAME} letters on one line"));
        }
        if unit.chars().count() > LONGEST_UNIT || unit.chars().any(char::is_control) {
            return Err(format!("the unit of a measure has at most {LONGEST_UNIT} letters"));
        }
        if values.len() > MOST_PAIRS {
            return Err(format!("a histogram has at most {MOST_PAIRS} values in one event"));
        }
        for (value, times) in &values {
            if !value.is_finite() || *value < 0.0 || *value > LARGEST {
                return Err(format!("{value} cannot be a measure: it is a number from 0 to {LARGEST:e}"));
            }
            if *times == 0 || *times > MOST_OF_ONE {
                return Err(format!("a value that comes {times} times cannot be counted"));
            }
        }
        if errors > MOST_OF_ONE {
            return Err(format!("{errors} errors cannot be counted"));
        }
        if values.is_empty() && errors == 0 {
            return Err("a measure needs \"value\", \"histogram\" or \"errors\"".to_owned());
        }
        Ok(Self { name: name.to_owned(), unit: unit.to_owned(), values, errors })
    }
}

/// How many values there were, and what is exact of them.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Counts {
    pub count: u64,
    pub errors: u64,
    pub sum: f64,
    /// Zero where there is no value.
    pub min: f64,
    pub max: f64,
}

impl Counts {
    /// The mean; zero where there is no value.
    #[must_use]
    pub fn mean(&self) -> f64 {
        if self.count == 0 { 0.0 } else { self.sum / self.count as f64 }
    }

    fn add(&mut self, value: f64, times: u64) {
        (self.min, self.max) =
            if self.count == 0 { (value, value) } else { (self.min.min(value), self.max.max(value)) };
        self.count = self.count.saturating_add(times);
        self.sum += value * times as f64;
    }

    fn put_together(&mut self, other: &Self) {
        if other.count > 0 {
            let first = self.count == 0;
            self.min = if first { other.min } else { self.min.min(other.min) };
            self.max = if first { other.max } else { self.max.max(other.max) };
        }
        self.count = self.count.saturating_add(other.count);
        self.errors = self.errors.saturating_add(other.errors);
        self.sum += other.sum;
    }

    /// Whether they can be: what comes from outside may say anything.
    #[must_use]
    pub fn can_be(&self) -> bool {
        let within = |value: f64| value.is_finite() && (0.0..=LARGEST).contains(&value);
        within(self.min) && within(self.max) && self.min <= self.max && self.sum.is_finite() && self.sum >= 0.0
    }
}

/// Counts, and how the values are spread. It can be put together with others, in any order.
#[derive(Debug, Clone, Default)]
pub struct Spread {
    pub counts: Counts,
    histogram: Option<Histogram<u64>>,
}

impl PartialEq for Spread {
    fn eq(&self, other: &Self) -> bool {
        self.counts == other.counts && self.pairs() == other.pairs()
    }
}

impl Spread {
    /// What was kept of one: counts, and buckets with how many each holds.
    #[must_use]
    pub fn of(counts: Counts, pairs: &[(u64, u64)]) -> Self {
        let mut spread = Self { counts, histogram: None };
        pairs.iter().for_each(|(bucket, times)| spread.bucket(*bucket, *times));
        spread
    }

    /// Counts what an event reports.
    pub fn take(&mut self, sample: &Sample) {
        for (value, times) in &sample.values {
            self.counts.add(*value, *times);
            self.bucket((value * TO_ONE).round() as u64, *times);
        }
        self.counts.errors = self.counts.errors.saturating_add(sample.errors);
    }

    fn bucket(&mut self, at: u64, times: u64) {
        if self.histogram.is_none() {
            // These digits are a constant that the crate takes.
            self.histogram = Histogram::new(DIGITS).ok().map(|mut histogram| {
                histogram.auto(true);
                histogram
            });
        }
        if let Some(histogram) = &mut self.histogram {
            // It grows as it needs to, and every number up to the largest has a bucket.
            let kept = histogram.record_n(at.min((LARGEST * TO_ONE) as u64), times);
            debug_assert!(kept.is_ok(), "{kept:?}");
        }
    }

    /// Takes another one in.
    pub fn put_together(&mut self, other: &Self) {
        self.counts.put_together(&other.counts);
        other.pairs().into_iter().for_each(|(bucket, times)| self.bucket(bucket, times));
    }

    /// The value below which this share of the values lies, from 0 to 1, to 1 %: at least the smallest and at most the largest. Zero where there is none.
    #[must_use]
    pub fn below(&self, share: f64) -> f64 {
        let Some(histogram) = self.histogram.as_ref().filter(|h| !h.is_empty()) else { return 0.0 };
        if share >= 1.0 {
            return self.counts.max;
        }
        // The middle of its bucket.
        let found = histogram.median_equivalent(histogram.value_at_quantile(share)) as f64 / TO_ONE;
        found.clamp(self.counts.min, self.counts.max)
    }

    /// Its buckets, at most so many: of more, neighbours are put together, as often as that takes.
    #[must_use]
    pub fn coarse(&self, most: usize) -> Vec<(u64, u64)> {
        let mut pairs = self.pairs();
        while pairs.len() > most.max(1) {
            let two = |two: &[(u64, u64)]| {
                (two[two.len() - 1].0, two.iter().fold(0, |sum: u64, pair| sum.saturating_add(pair.1)))
            };
            pairs = pairs.chunks(2).map(two).collect();
        }
        pairs
    }

    /// Its buckets that hold something, and how many each holds: what [`Spread::of`] reads.
    #[must_use]
    pub fn pairs(&self) -> Vec<(u64, u64)> {
        let all = self.histogram.iter().flat_map(|h| h.iter_recorded());
        all.map(|step| (step.value_iterated_to(), step.count_since_last_iteration())).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(values: &[(f64, u64)], errors: u64) -> Sample {
        Sample::new("ticket_scan", "ms", values.to_vec(), errors).expect("it can be counted")
    }

    #[test]
    fn counts_are_exact_and_spreads_within_a_hundredth() {
        let mut all = Spread::default();
        for n in 1..=1000 {
            all.take(&sample(&[(f64::from(n) / 10.0, 1)], u64::from(n % 100 == 0)));
        }
        let c = all.counts;
        assert_eq!((c.count, c.errors, c.min, c.max), (1000, 10, 0.1, 100.0));
        assert!((c.mean() - 50.05).abs() < 1e-9);
        for (share, value) in [(0.5, 50.0), (0.9, 90.0), (0.95, 95.0), (0.99, 99.0), (1.0, 100.0), (0.0, 0.1)] {
            let found = all.below(share);
            assert!((found - value).abs() <= value * 0.011 + 0.1, "{share}: {found}");
        }
    }

    #[test]
    fn what_is_put_together_is_as_if_it_had_come_at_once_in_any_order() {
        let values: Vec<f64> = (0..3000u32).map(|n| f64::from(n.wrapping_mul(2_654_435_761) % 90_000) / 7.0).collect();
        let mut whole = Spread::default();
        values.iter().for_each(|v| whole.take(&sample(&[(*v, 3)], 1)));
        let mut parts: Vec<Spread> = vec![Spread::default(); 7];
        values.iter().enumerate().for_each(|(n, v)| parts[n % 7].take(&sample(&[(*v, 3)], 1)));
        let mut together = Spread::default();
        // As what crosses the network and is kept.
        parts.iter().rev().for_each(|part| together.put_together(&Spread::of(part.counts, &part.pairs())));
        assert_eq!(together.pairs(), whole.pairs());
        let (a, b) = (together.counts, whole.counts);
        assert_eq!((a.count, a.errors, a.min, a.max), (b.count, b.errors, b.min, b.max));
        assert!((a.sum - b.sum).abs() < b.sum * 1e-12);
        assert_eq!(
            Spread::of(whole.counts, &whole.pairs()).pairs(),
            whole.pairs(),
            "written and read they stay as they are"
        );
    }

    #[test]
    fn what_is_spread_wide_is_told_in_fewer_buckets_and_loses_no_value() {
        let mut all = Spread::default();
        for n in 0..20_000u32 {
            all.take(&sample(&[(1.0005f64.powi(n.cast_signed()), 2)], 0));
        }
        assert!(all.pairs().len() > 1000);
        let coarse = all.coarse(1000);
        assert!(coarse.len() <= 1000 && coarse.iter().map(|pair| pair.1).sum::<u64>() == 40_000);
        let again = Spread::of(all.counts, &coarse);
        for share in [0.5, 0.95, 0.99] {
            assert!((again.below(share) / all.below(share) - 1.0).abs() < 0.03, "{share}");
        }
        assert_eq!(all.coarse(0).len(), 1);
        assert!(Spread::default().coarse(5).is_empty());
    }

    #[test]
    fn edges_are_counted_and_what_is_none_is_refused() {
        let mut all = Spread::default();
        all.take(&sample(&[(0.0, 1), (LARGEST, 2), (0.000_001, 1)], 0));
        assert_eq!((all.counts.count, all.counts.min, all.counts.max), (4, 0.0, LARGEST));
        assert_eq!(all.below(1.0), LARGEST);
        assert_eq!((Spread::default().below(0.5), Spread::default().counts.mean()), (0.0, 0.0));
        let refused = |values: &[(f64, u64)], errors| Sample::new("a", "", values.to_vec(), errors).unwrap_err();
        for value in [f64::NAN, f64::INFINITY, -1.0, 1e14] {
            assert!(refused(&[(value, 1)], 0).contains("cannot be a measure"), "{value}");
        }
        assert!(refused(&[], 0).contains("needs \"value\""));
        assert!(refused(&[(1.0, 0)], 0).contains("0 times"));
        assert!(refused(&[(1.0, u64::MAX)], 0).contains("cannot be counted"));
        assert!(refused(&[], u64::MAX).contains("errors cannot be counted"));
        assert!(refused(&[(1.0, 1); 10_001], 0).contains("at most 10000"));
        for name in ["", " ", "a\nb", &"x".repeat(101)] {
            assert!(
                Sample::new(name, "ms", vec![(1.0, 1)], 0).unwrap_err().contains("the name of a measure"),
                "{name}"
            );
        }
        assert!(Sample::new("a", &"x".repeat(21), vec![(1.0, 1)], 0).is_err());
    }
}
