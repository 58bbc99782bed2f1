//! Branches that are polled.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Polls branches of a suite from version control.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewPoll {
    /// A branch, or a glob like `release/*`.
    pub branches: String,
    /// How often to look: `1m`.
    pub every: String,
    /// The brief to start; none: the suite as it is.
    pub brief: Option<String>,
    /// Start runs for the heads that are there now, too.
    pub now: bool,
}

/// Polled branches.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PollOf {
    pub suite: String,
    pub branches: String,
    pub every_us: u64,
    pub brief: Option<String>,
    pub looked_at: Option<DateTime<Utc>>,
    pub next_look: DateTime<Utc>,
    /// Looks that failed in a row, and why.
    pub failures: u32,
    pub trouble: Option<String>,
    pub made_by: String,
    /// The latest heads that runs were started for: branch, commit, run.
    pub heads: Vec<(String, String, String)>,
}
