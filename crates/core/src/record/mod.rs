//! What history says of a test: how long it takes ([`Estimate`]), and how often it passed, failed or was flaky
//! ([`Record`]); two runs side by side ([`compare()`]); when durations changed ([`shifts`]); how flaky it is ([`flakiness`]).

mod compare;
pub mod flakiness;
mod likeness;
mod middle;
mod shift;
mod spell;

use serde::{Deserialize, Serialize};

pub use compare::{Change, Comparison, Seen, beyond_noise, compare};
pub use likeness::{Cause, causes, likeness};
pub use middle::median;
pub use shift::{Shift, shifts};
pub use spell::{Spell, spells};

use crate::{time::Span, words::Outcome};

/// How long a test takes, from its last [`Estimate::KEPT`] durations.
///
/// The middle is the median of the last five, so that up to two outliers among them move it no further than the nearest
/// usual value, and a real change is followed after three runs. The spread is the median absolute deviation of all that
/// are kept, times 1.4826, which for normally distributed durations is their standard deviation (F. R. Hampel, "The
/// influence curve and its role in robust estimation", Journal of the American Statistical Association 69, 1974; P. J.
/// Rousseeuw and C. Croux, "Alternatives to the median absolute deviation", same journal 88, 1993).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
pub struct Estimate {
    /// How often it was measured.
    pub samples: u32,
    /// The last durations in microseconds, newest last.
    pub recent: Vec<u64>,
}

impl Estimate {
    /// Durations that are kept.
    pub const KEPT: usize = 9;
    const MIDDLE_OF: usize = 5;

    /// The estimate with one more sample.
    #[must_use]
    pub fn with(mut self, spent: Span) -> Self {
        if self.recent.len() == Self::KEPT {
            self.recent.remove(0);
        }
        self.recent.push(spent.0.max(1));
        self.samples = self.samples.saturating_add(1);
        self
    }

    /// The expected duration; zero without samples.
    #[must_use]
    pub fn expected(&self) -> Span {
        let from = self.recent.len().saturating_sub(Self::MIDDLE_OF);
        Span(median(&mut self.recent[from..].to_vec()))
    }

    /// How far a duration usually is from the expected one. A half of it where there are too few samples to tell, and
    /// never less than a fiftieth.
    #[must_use]
    pub fn spread(&self) -> Span {
        let middle = self.expected().0;
        if self.recent.len() < 3 {
            return Span(middle / 2);
        }
        let mut away: Vec<u64> = self.recent.iter().map(|s| s.abs_diff(middle)).collect();
        Span(((median(&mut away) as f64 * 1.4826) as u64).max(middle / 50))
    }
}

/// The record of one test in one variant, in one pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
pub struct Record {
    pub estimate: Estimate,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub last: Option<Outcome>,
    /// Runs since it last failed or was flaky: 0 if that was the last one, `None` if it never was.
    pub since_trouble: Option<u32>,
}

impl Record {
    /// A test that failed or was flaky within so many of its last runs is one that fails recently.
    pub const RECENT: u32 = 10;

    /// The record with one more run of the test. `spent` is what its last attempt took, where that says something of how
    /// long it usually takes.
    #[must_use]
    pub fn with(mut self, outcome: Outcome, spent: Option<Span>) -> Self {
        match outcome {
            Outcome::Passed => self.passed += 1,
            Outcome::Flaky => self.flaky += 1,
            Outcome::Failed => self.failed += 1,
            Outcome::Skipped => self.skipped += 1,
            Outcome::Parked | Outcome::NotRun => return self,
        }
        self.since_trouble = match outcome {
            Outcome::Failed | Outcome::Flaky => Some(0),
            _ => self.since_trouble.map(|n| n.saturating_add(1)),
        };
        // A skipped test says nothing of how long it takes when it runs.
        if let (Some(spent), false) = (spent, outcome == Outcome::Skipped) {
            self.estimate = self.estimate.with(spent);
        }
        self.last = Some(outcome);
        self
    }

    /// How many runs ago it was in trouble, if that was recently.
    #[must_use]
    pub fn recent_trouble(&self) -> Option<u32> {
        self.since_trouble.filter(|n| *n < Self::RECENT)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn after(samples: &[u64]) -> Estimate {
        samples.iter().fold(Estimate::default(), |e, ms| e.with(Span::millis(*ms)))
    }

    #[test]
    fn the_middle_settles_where_the_samples_are() {
        let estimate = after(&[100; 20]);
        assert_eq!(estimate.expected(), Span::millis(100));
        assert_eq!(estimate.spread(), Span::millis(2), "the least spread");
        assert_eq!((estimate.samples, estimate.recent.len()), (20, Estimate::KEPT));
    }

    #[test]
    fn two_outliers_do_not_move_the_middle() {
        let estimate = after(&[100, 102, 98, 101, 60_000, 100, 60_000, 99]);
        assert_eq!(estimate.expected(), Span::millis(101), "the median of 101, 60000, 100, 60000 and 99");
        assert!(estimate.spread() < Span::millis(10), "{:?}", estimate.spread());
    }

    #[test]
    fn a_real_change_is_followed_after_three_runs() {
        assert_eq!(after(&[100, 100, 100, 100, 100, 400, 400]).expected(), Span::millis(100));
        assert_eq!(after(&[100, 100, 100, 100, 100, 400, 400, 400]).expected(), Span::millis(400));
    }

    #[test]
    fn one_sample_leaves_much_open() {
        let estimate = after(&[300]);
        assert_eq!((estimate.expected(), estimate.spread()), (Span::millis(300), Span::millis(150)));
        assert_eq!(Estimate::default().expected(), Span::ZERO);
    }

    #[test]
    fn the_spread_follows_the_samples() {
        let wide = after(&[50, 150, 100, 60, 140, 100, 80]).spread();
        assert!(wide > Span::millis(20) && wide < Span::millis(80), "{wide:?}");
    }

    #[test]
    fn outcomes_are_counted_and_parked_ones_are_not() {
        let record = Record::default()
            .with(Outcome::Flaky, Some(Span::millis(5)))
            .with(Outcome::Parked, None)
            .with(Outcome::Skipped, Some(Span::millis(500)));
        assert_eq!((record.flaky, record.skipped, record.last), (1, 1, Some(Outcome::Skipped)));
        assert_eq!(record.estimate.expected(), Span::millis(5));
        assert_eq!(record.recent_trouble(), Some(1));
    }

    #[test]
    fn trouble_is_forgotten_after_a_while() {
        let mut record = Record::default().with(Outcome::Failed, None);
        for _ in 0..Record::RECENT {
            assert!(record.recent_trouble().is_some());
            record = record.with(Outcome::Passed, Some(Span::millis(1)));
        }
        assert_eq!(record.recent_trouble(), None);
    }
}
