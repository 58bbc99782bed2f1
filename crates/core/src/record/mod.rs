//! What history says of a test.
//!
//! So far: how long it takes ([`Estimate`]), and how often it passed, failed or was flaky ([`Record`]).

use serde::{Deserialize, Serialize};

use crate::{time::Span, words::Outcome};

/// How long a test takes: a smoothed mean and a smoothed mean deviation, both in microseconds.
///
/// The estimator is the one that RFC 6298 (section 2) uses for round-trip times, after Van Jacobson: cheap, quick to
/// follow a real change, and with a spread. A sample is first held within a third and three times the mean, so that one
/// outlier moves the mean by at most half of itself; a real change still arrives within a few runs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Default)]
pub struct Estimate {
    pub samples: u32,
    pub mean: f64,
    pub deviation: f64,
}

impl Estimate {
    const GAIN: f64 = 0.25;

    /// The estimate with one more sample.
    #[must_use]
    pub fn with(self, spent: Span) -> Self {
        let sample = spent.0.max(1) as f64;
        if self.samples == 0 {
            return Self { samples: 1, mean: sample, deviation: sample / 2.0 };
        }
        let held = sample.clamp(self.mean / 3.0, self.mean * 3.0);
        let deviation = self.deviation + Self::GAIN * ((held - self.mean).abs() - self.deviation);
        let mean = self.mean + Self::GAIN * (held - self.mean);
        Self { samples: self.samples.saturating_add(1), mean, deviation }
    }

    /// The expected duration.
    #[must_use]
    pub fn expected(self) -> Span {
        Span(self.mean.round() as u64)
    }
}

/// The record of one test in one variant.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Default)]
pub struct Record {
    pub estimate: Estimate,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub last: Option<Outcome>,
}

impl Record {
    /// The record with one more run of the test. `spent` is what its last attempt took, where it had one.
    #[must_use]
    pub fn with(mut self, outcome: Outcome, spent: Option<Span>) -> Self {
        match outcome {
            Outcome::Passed => self.passed += 1,
            Outcome::Flaky => self.flaky += 1,
            Outcome::Failed => self.failed += 1,
            Outcome::Skipped => self.skipped += 1,
            Outcome::Parked | Outcome::Unrun => return self,
        }
        // A skipped test says nothing of how long it takes when it runs.
        if let (Some(spent), false) = (spent, outcome == Outcome::Skipped) {
            self.estimate = self.estimate.with(spent);
        }
        self.last = Some(outcome);
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn after(samples: &[u64]) -> Estimate {
        samples.iter().fold(Estimate::default(), |e, ms| e.with(Span::millis(*ms)))
    }

    #[test]
    fn the_mean_settles_where_the_samples_are() {
        let estimate = after(&[100; 20]);
        assert_eq!(estimate.expected(), Span::millis(100));
        assert!(estimate.deviation < 1000.0);
    }

    #[test]
    fn one_outlier_moves_the_mean_by_at_most_half_of_itself() {
        let mut samples = vec![100; 20];
        samples.push(60_000);
        assert!(after(&samples).mean <= 150_000.0 + 1.0);
    }

    #[test]
    fn a_real_change_is_followed_within_a_few_runs() {
        let mut samples = vec![100; 20];
        samples.extend([400; 8]);
        let expected = after(&samples).expected();
        assert!(expected > Span::millis(330), "{expected}");
    }

    #[test]
    fn outcomes_are_counted_and_parked_ones_are_not() {
        let record = Record::default()
            .with(Outcome::Flaky, Some(Span::millis(5)))
            .with(Outcome::Parked, None)
            .with(Outcome::Skipped, Some(Span::millis(500)));
        assert_eq!((record.flaky, record.skipped, record.last), (1, 1, Some(Outcome::Skipped)));
        assert_eq!(record.estimate.expected(), Span::millis(5));
    }
}
