//! How long a run still takes, as a range, from what is left, the slots, and how well durations are known.
//!
//! Slots draw, so all of them end at about the same time: the work that is left over the slots, and never before the
//! longest chain of what runs or waits. Around that stands what is not known: each test by its own spread (their variances
//! add up, and are shared by the slots), and the pace of this run against the records, which all tests share and which
//! does not average out. A test that already takes longer than it should is expected to go on for a part of the time it
//! has taken: of times with a heavy tail, what is left grows with what was waited (see docs/watching.md).

use serde::{Deserialize, Serialize};

use crate::time::{Span, Timestamp};

/// How many standard deviations the range goes to each side.
const WIDE: f64 = 1.6;

/// How far the pace of a run is from what the records say before anything was measured, as a standard deviation: about
/// what differs between machines and days.
const UNKNOWN_PACE: f64 = 0.12;

/// The error of a mean is so many times what its variance says where times have a tail that was not seen yet.
const UNSEEN: f64 = 2.0;

/// A run is never all of a piece: what was measured of its first part is not better known for the rest of it than this.
const LEAST_ERROR: f64 = 0.02;

/// What a test that is over its time is expected to go on for, as a part of the time it has taken.
const OVERDUE: f64 = 0.4;

/// How long a run still takes, in microseconds: the likely time, and what it lies between at least four times of five.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TimeLeft {
    pub low_us: u64,
    pub likely_us: u64,
    pub high_us: u64,
}

impl TimeLeft {
    /// As a person says it: `40 to 55 s`, `about 12 s`, `2 to 3 m`, `under 1 s`.
    ///
    /// ```
    /// use kesmo_core::run::TimeLeft;
    /// let left = |low: f64, high: f64| TimeLeft { low_us: (low * 1e6) as u64, likely_us: 0, high_us: (high * 1e6) as u64 };
    /// assert_eq!(left(41.0, 53.0).said(), "40 to 55 s");
    /// assert_eq!(left(7.2, 7.4).said(), "about 7 s");
    /// assert_eq!(left(0.1, 0.6).said(), "under 1 s");
    /// assert_eq!(left(0.1, 3.6).said(), "up to 4 s");
    /// assert_eq!(left(150.0, 290.0).said(), "2.5 to 5 m");
    /// assert_eq!(left(5_000.0, 9_100.0).said(), "1.4 to 2.6 h");
    /// ```
    #[must_use]
    pub fn said(&self) -> String {
        let (low, high) = (Span(self.low_us).as_seconds(), Span(self.high_us).as_seconds());
        let (unit, size) = match high {
            h if h < 99.5 => ("s", 1.0),
            h if h < 5970.0 => ("m", 60.0),
            _ => ("h", 3600.0),
        };
        let (low, high) = (low / size, high / size);
        // As fine as one can use: whole seconds, then steps of five; halves of minutes, then whole ones.
        let step = match (unit, high) {
            ("s", h) if h < 20.0 => 1.0,
            ("s", _) => 5.0,
            ("m", h) if h < 10.0 => 0.5,
            ("m", _) => 1.0,
            _ => 0.1,
        };
        let round = |v: f64| (v / step).round() * step;
        let text = |v: f64| {
            let text = format!("{v:.1}");
            text.strip_suffix(".0").map_or(text.clone(), str::to_owned)
        };
        let (from, to) = (round(low), (high / step - 0.001).ceil() * step);
        if unit == "s" && high <= 1.0 {
            "under 1 s".into()
        } else if from <= 0.0 {
            format!("up to {} {unit}", text(to))
        } else if to - from <= step && (high - low) < step {
            format!("about {} {unit}", text(round((low + high) / 2.0)))
        } else {
            format!("{} to {} {unit}", text(from), text(to.max(from + step)))
        }
    }
}

/// Work with what is not known of it: mean and variance, in seconds.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Work {
    pub mean: f64,
    pub variance: f64,
}

impl Work {
    /// What a test takes.
    pub fn of(expected: Span, spread: Span, pace: f64) -> Self {
        Self { mean: expected.as_seconds() * pace, variance: (spread.as_seconds() * pace).powi(2) }
    }

    /// What is left of it, when it began at that moment.
    pub fn begun(self, began: Timestamp, now: Timestamp) -> Self {
        let elapsed = now.since(began).as_seconds();
        let rest = self.mean - elapsed;
        let deviation = self.variance.sqrt();
        if rest > deviation {
            return Self { mean: rest, ..self };
        }
        let over = (1.0 - rest.max(0.0) / deviation.max(1e-9)).max(0.3);
        let goes_on = (deviation * 0.5).max(elapsed * OVERDUE * over);
        Self { mean: rest.max(goes_on), variance: goes_on.powi(2) }
    }

    pub fn times(self, factor: f64) -> Self {
        Self { mean: self.mean * factor, variance: self.variance * factor * factor }
    }

    pub fn plus(self, other: Self) -> Self {
        Self { mean: self.mean + other.mean, variance: self.variance + other.variance }
    }
}

/// What lies ahead of a run.
#[derive(Debug)]
pub(super) struct Ahead<'a> {
    /// All that waits.
    pub queued: Work,
    /// The longest unit or chain that waits.
    pub chain: Work,
    /// What each batch at work has left.
    pub batches: &'a [Work],
    pub slots: u32,
    /// What starting a process costs, in seconds, and how many will still be started.
    pub start_cost: f64,
    pub starts: f64,
    /// Retries that are to be expected, for each entry that is left.
    pub retries_each: f64,
    /// Entries that are left, waiting and held.
    pub entries: u32,
    /// The standard error of the pace, as a part of it.
    pub pace_error: f64,
    /// The standard error of all work of unknown length together, in seconds.
    pub unknown_error: f64,
}

/// The pace of a run against its records and its standard error, from tests of `expected` seconds that took `took`, with
/// that much variance: what was thought before and what was measured, each by its weight.
pub(super) fn pace(expected: f64, took: f64, variance: f64) -> (f64, f64) {
    let before = UNKNOWN_PACE.powi(2);
    if expected <= 0.0 {
        return (1.0, UNKNOWN_PACE);
    }
    let ratio = (took / expected).clamp(0.05, 20.0);
    let measured = variance / (expected * expected) + f64::EPSILON;
    let pace = (measured + ratio * before) / (measured + before);
    (pace, (measured * before / (measured + before)).sqrt().max(LEAST_ERROR))
}

/// The range.
pub(super) fn estimate(ahead: &Ahead) -> TimeLeft {
    let slots = f64::from(ahead.slots.max(1));
    let all = ahead.batches.iter().fold(ahead.queued, |sum, batch| sum.plus(*batch));
    // What fails is run again, in a process of its own.
    let again = ahead.retries_each * (all.mean + f64::from(ahead.entries) * ahead.start_cost);
    let even = (all.mean + again + ahead.starts * ahead.start_cost) / slots;
    let shared = ahead.pace_error * even;
    // How many fail is drawn by chance: about as far from its mean as the root of it.
    let each = all.mean / f64::from(ahead.entries.max(1)) + ahead.start_cost;
    let chance = f64::from(ahead.entries) * ahead.retries_each * each * each;
    let unknown = UNSEEN * ahead.unknown_error;
    let deviation = ((all.variance + chance + unknown * unknown) / (slots * slots) + shared * shared).sqrt();
    let (mut low, mut likely, mut high) = (even - WIDE * deviation, even, even + WIDE * deviation);
    // Slots do not end together: the last units begin at any moment of each other's time.
    let extreme = |n: f64| (2.0 * n.max(1.0).ln()).sqrt();
    if ahead.entries > ahead.slots && ahead.slots > 1 {
        let entries = f64::from(ahead.entries);
        let each = all.mean / entries + ahead.start_cost;
        let spread = (all.variance / entries).sqrt();
        // One of those that end last may fail, and is run once more.
        let fails = 1.0 - (1.0 - ahead.retries_each.clamp(0.0, 1.0)).powf(slots);
        likely += (0.5 + fails) * each;
        high += (1.0 + fails) * each + 0.5 * spread * extreme(slots);
    }
    // Of many chains that end at about the same time the last one is late by more than one of them would be.
    let many = extreme(ahead.batches.len() as f64);
    for chain in ahead.batches.iter().chain([&ahead.chain]) {
        let deviation = (chain.variance + (ahead.pace_error * chain.mean).powi(2)).sqrt();
        low = low.max(chain.mean - WIDE * deviation);
        likely = likely.max(chain.mean);
        high = high.max(chain.mean + WIDE.max(many) * deviation);
    }
    let micros = |seconds: f64| (seconds.max(0.0) * 1e6) as u64;
    TimeLeft { low_us: micros(low.min(likely)), likely_us: micros(likely), high_us: micros(high.max(likely)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ahead(batches: &[Work]) -> Ahead<'_> {
        Ahead {
            queued: Work { mean: 100.0, variance: 4.0 },
            chain: Work { mean: 2.0, variance: 0.0 },
            batches,
            slots: 10,
            start_cost: 0.0,
            starts: 0.0,
            retries_each: 0.0,
            entries: 100,
            pace_error: 0.02,
            unknown_error: 0.0,
        }
    }

    #[test]
    fn the_range_lies_around_an_even_share() {
        let left = estimate(&ahead(&[]));
        assert!(left.low_us < 10_000_000 && left.high_us > 10_000_000, "{left:?}");
        assert!(left.low_us > 9_000_000 && left.high_us < 13_000_000, "{left:?}");
    }

    #[test]
    fn no_range_ends_before_the_longest_chain() {
        let long = estimate(&ahead(&[Work { mean: 60.0, variance: 1.0 }]));
        assert!(long.low_us > 55_000_000 && long.high_us < 70_000_000, "{long:?}");
        let waits = estimate(&Ahead { chain: Work { mean: 40.0, variance: 0.0 }, ..ahead(&[]) });
        assert!(waits.low_us > 35_000_000, "{waits:?}");
    }

    #[test]
    fn what_is_not_known_widens_it() {
        let known = estimate(&ahead(&[]));
        for wider in [
            Ahead { pace_error: 0.2, ..ahead(&[]) },
            Ahead { unknown_error: 30.0, ..ahead(&[]) },
            Ahead { queued: Work { mean: 100.0, variance: 4000.0 }, ..ahead(&[]) },
            Ahead { retries_each: 0.3, ..ahead(&[]) },
        ] {
            let left = estimate(&wider);
            assert!(left.high_us > known.high_us + 500_000, "{wider:?}: {left:?}");
        }
    }

    #[test]
    fn a_test_that_is_overdue_goes_on_for_a_part_of_what_it_took() {
        let test = Work::of(Span::seconds(10), Span::seconds(1), 1.0);
        let after = |seconds: u64| test.begun(Timestamp(0), Timestamp(0) + Span::seconds(seconds)).mean;
        assert!((after(4) - 6.0).abs() < 1e-9);
        assert!(after(20) > 5.0 && after(100) > after(20), "{} {}", after(20), after(100));
    }

    #[test]
    fn a_pace_is_believed_as_far_as_it_was_measured() {
        assert_eq!(pace(0.0, 0.0, 0.0).0, 1.0);
        let (few, wide) = pace(1.0, 2.0, 0.25);
        let (many, narrow) = pace(100.0, 200.0, 25.0);
        assert!(few < 1.2 && many > 1.8 && narrow < wide, "{few} {many}");
    }
}
