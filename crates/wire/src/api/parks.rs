//! Tests that are set aside.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Tests that are set aside.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Park {
    pub suite: String,
    /// As `--pick` takes it.
    pub pattern: String,
    pub why: String,
    /// The last day on which it holds, `2026-12-31`, by UTC.
    pub until: String,
    /// That day has passed: the tests count again.
    pub over: bool,
    /// Where it holds, `env=ci, branch=release/*`; empty for everywhere.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub only: String,
    pub by: String,
    pub at: DateTime<Utc>,
}

/// Sets tests aside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPark {
    pub pattern: String,
    pub until: String,
    pub why: String,
    /// Where it is to hold: `env=NAME`, `pool=NAME`, `branch=GLOB` or `variant=FACET=VALUE`; all of them must be so.
    #[serde(default)]
    pub only: Vec<String>,
}

/// A park that was made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Parked {
    #[serde(flatten)]
    pub park: Park,
    /// The tests that it sets aside, as they are listed now.
    pub tests: Vec<String>,
}
