//! A test over its runs.

use chrono::{DateTime, Utc};
use kesmo_core::{
    record::flakiness::{GoesWith, Share, Trend},
    words::Outcome,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::parks::Park;

/// A test in one of its runs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PastEntry {
    /// `boarding-gate/42`
    pub run: String,
    /// Its place in that run's list, from 0.
    pub index: u32,
    pub created_at: DateTime<Utc>,
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub pool: String,
    pub outcome: Outcome,
    pub attempts: u32,
    /// What its last attempt took.
    pub spent_us: Option<u64>,
    /// What its last failing attempt said.
    pub message: String,
}

/// A run, as far as a history names it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HistoryRun {
    /// `boarding-gate/42`
    pub run: String,
    pub created_at: DateTime<Utc>,
    pub commit: Option<String>,
    /// Who made that commit; none where the service does not know its repository.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub author: Option<String>,
}

/// A time in which a test failed whenever it ran.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FailedSpell {
    pub branch: Option<String>,
    pub from: HistoryRun,
    /// In so many runs.
    pub runs: u32,
    /// Where it did not fail any more; none while it still does.
    pub mended: Option<HistoryRun>,
    /// What it said last.
    pub message: String,
}

/// A lasting change of what a test takes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DurationShift {
    /// The first run after it.
    pub at: HistoryRun,
    pub pool: String,
    /// Medians before and after, in microseconds.
    pub before_us: u64,
    pub after_us: u64,
    /// How sure it is that it was not by chance, from 0 to 1.
    pub sure: f64,
}

/// A test over its runs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestHistory {
    pub suite: String,
    pub test: String,
    pub variant: String,
    /// All variants in which it ran, this one among them; none where no run that is over had it.
    pub variants: Vec<String>,
    /// Newest first.
    pub runs: Vec<PastEntry>,
    /// Ask with this as `before` for older ones; none if there are no more.
    pub before: Option<u32>,
    /// How often it was flaky, and how often it failed, of the runs above in which it came to an end.
    pub flaky: Share,
    pub failed: Share,
    /// Newest first.
    pub spells: Vec<FailedSpell>,
    pub shifts: Vec<DurationShift>,
    /// The parks that set it aside now.
    pub parks: Vec<Park>,
}

impl TestHistory {
    /// The history of a test that no run had.
    #[must_use]
    pub fn none(suite: &str, test: &str, variant: &str) -> Self {
        Self {
            suite: suite.to_owned(),
            test: test.to_owned(),
            variant: variant.to_owned(),
            variants: Vec::new(),
            runs: Vec::new(),
            before: None,
            flaky: Share::of(0, 0),
            failed: Share::of(0, 0),
            spells: Vec::new(),
            shifts: Vec::new(),
            parks: Vec::new(),
        }
    }
}

/// A commit of a suite's repository.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CommitOf {
    pub commit: String,
    pub author: String,
    /// When it was committed, RFC 3339.
    pub at: String,
    /// The first line of its message.
    pub subject: String,
}

/// A test that was flaky of late.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlakyTest {
    pub suite: String,
    pub test: String,
    pub variant: String,
    /// Of its last runs, at most 100.
    pub flaky: Share,
    /// How many of those it failed in.
    pub failed: u32,
    pub trend: Trend,
    /// What its retries cost in those runs: all attempts but the last of each, in microseconds.
    pub retried_us: u64,
    /// The latest run in which it was flaky, and its place in that.
    pub last: String,
    pub last_at: DateTime<Utc>,
    pub entry: u32,
    /// What its last failing attempt there said.
    pub message: String,
    /// How its last runs ended, oldest first, a letter each: `p`assed, `k` for flaky, `f`ailed.
    pub series: String,
}

/// Tests that were flaky of late.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlakyTests {
    /// Since that day.
    pub since: chrono::NaiveDate,
    /// What the retries of those that are listed cost together, in microseconds.
    pub retried_us: u64,
    /// Those that are most surely flaky often come first; at most 500.
    pub tests: Vec<FlakyTest>,
}

/// What a test's failing goes with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlakyEvidence {
    pub suite: String,
    pub test: String,
    /// The variants that were looked at.
    pub variants: Vec<String>,
    /// How many of its last attempts failed.
    pub attempts: Share,
    /// The surest first; empty where nothing stands out.
    pub goes_with: Vec<GoesWith>,
}
