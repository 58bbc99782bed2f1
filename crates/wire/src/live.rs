//! What live views send: a snapshot, then changes, as server-sent events with ids.
//!
//! A run's stream has the events `snapshot` ([`RunSnapshot`]), `change` ([`RunChange`]) and, last, `end` ([`RunChange`]). The
//! floor's stream has `snapshot` and `change`, both a [`Floor`]; a change holds only the runs and workers that changed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use kesmo_core::words::{Ended, Outcome};

use crate::api::{Entry, Run, RunSummary, Slot, Worker};

/// Where a run stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSnapshot {
    pub run: Run,
    /// What its slots do now.
    pub slots: Vec<RunSlot>,
    /// The latest entries that failed or were flaky, newest last; at most 200.
    pub trouble: Vec<Entry>,
    /// Outcomes in the order in which they came, a letter each (see [`letter`]); thinned to at most 2,000.
    pub strip: String,
}

/// A slot that works for a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSlot {
    pub worker: String,
    #[serde(flatten)]
    pub slot: Slot,
}

/// What changed in a run with one commit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunChange {
    pub summary: RunSummary,
    /// Attempts that ended.
    pub attempts: Vec<AttemptChange>,
    /// Entries that got their outcome without a new attempt.
    pub decided: Vec<DecidedChange>,
    pub slots: Vec<RunSlot>,
    /// Remarks that came.
    pub notes: Vec<String>,
}

/// An attempt that ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AttemptChange {
    pub index: u32,
    pub test: String,
    pub variant: String,
    pub number: u32,
    pub ended: Ended,
    /// The entry's outcome, where this attempt decided it.
    pub outcome: Option<Outcome>,
    pub spent_us: u64,
    pub message: String,
    pub worker: String,
    /// When it ended on the worker, in microseconds since 1970.
    pub ended_at_us: i64,
}

/// An entry that got its outcome without a new attempt.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DecidedChange {
    pub index: u32,
    pub test: String,
    pub variant: String,
    pub outcome: Outcome,
}

/// Runs and workers as they are, or those of them that changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Floor {
    pub runs: Vec<RunSummary>,
    /// In a change: all workers whose slots changed.
    pub workers: Vec<Worker>,
    /// Names of workers that went away.
    pub gone: Vec<String>,
}

/// The letter of an outcome in a strip.
#[must_use]
pub fn letter(outcome: Outcome) -> char {
    match outcome {
        Outcome::Passed => 'p',
        Outcome::Flaky => 'k',
        Outcome::Failed => 'f',
        Outcome::Skipped => 's',
        Outcome::Parked => 'r',
        Outcome::Unrun => 'u',
    }
}

/// Thins a strip to at most `most` letters: each keeps the worst outcome of its stretch, so that no failure disappears.
#[must_use]
pub fn thin(strip: &str, most: usize) -> String {
    let letters = strip.as_bytes();
    if letters.len() <= most || most == 0 {
        return strip.to_owned();
    }
    let rank = |b: &u8| b"fkursp".iter().position(|r| r == b);
    let stretch = |i: usize| &letters[i * letters.len() / most..(i + 1) * letters.len() / most];
    (0..most).filter_map(|i| stretch(i).iter().min_by_key(|b| rank(b)).map(|b| *b as char)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thinning_keeps_the_worst_of_each_stretch() {
        assert_eq!(thin("ppp", 10), "ppp");
        assert_eq!(thin("ppppfpppkp", 2), "fk");
        assert_eq!(thin(&"p".repeat(5000), 2000).len(), 2000);
    }

    #[test]
    fn every_outcome_has_its_letter() {
        let letters: std::collections::BTreeSet<char> = Outcome::ALL.iter().map(|o| letter(*o)).collect();
        assert_eq!(letters.len(), Outcome::ALL.len());
    }
}
