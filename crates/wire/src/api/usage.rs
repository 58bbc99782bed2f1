//! What runs took of slots.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What some runs took; times are microseconds of slots, but for waiting.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UsageRow {
    /// What they have in common; empty where they have none of it.
    pub key: String,
    pub runs: u32,
    /// In tests, retries among it.
    pub tests_us: u64,
    /// All attempts of tests but their last ones.
    pub retried_us: u64,
    /// Of the slots that worked for a run, from its beginning to its end, what no test ran in: starts of processes, and having nothing to do.
    pub idle_us: u64,
    /// From a run's start until its tests were known and could begin, by the clock.
    pub waited_us: u64,
}

/// What runs took of slots, by what they have in common.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Usage {
    /// `suite`, `brief`, `account`, `pool`, `month`, `run` or `label:KEY`.
    pub by: String,
    /// Runs that were made from that day on, and before that one (UTC).
    pub from: NaiveDate,
    pub until: NaiveDate,
    /// Those that took most come first; at most 1,000.
    pub rows: Vec<UsageRow>,
    /// All of them together.
    pub total: UsageRow,
}
