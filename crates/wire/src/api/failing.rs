//! Tests that fail now.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A test whose latest outcome that counts is failed, in a variant, on a branch and in a pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FailingTest {
    pub suite: String,
    pub test: String,
    /// Empty for a suite without facets.
    pub variant: String,
    /// None where no branch is known.
    pub branch: Option<String>,
    pub pool: String,
    /// The run in which it failed first since it passed last, when that ended, and the commit that it ran.
    pub since: String,
    pub since_at: Option<DateTime<Utc>>,
    pub since_commit: Option<String>,
    /// So many runs of it before that did not fail and were not flaky.
    pub passes_before: u32,
    /// The latest run in which it failed, when that ended, and the test's place in it.
    pub last: String,
    pub last_at: Option<DateTime<Utc>>,
    pub entry: u32,
    /// Runs in which it has failed since.
    pub runs: u32,
    /// What its last attempt said.
    pub message: String,
}

/// The tests that fail now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FailingTests {
    /// How many there are, also beyond those that are listed.
    pub total: u32,
    /// Those that began to fail last come first.
    pub tests: Vec<FailingTest>,
}

/// What failed on a branch that is gone, and is forgotten.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct ForgottenBranch {
    /// How many tests that were.
    pub tests: u32,
}
