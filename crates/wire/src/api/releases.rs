//! All runs with a label as one.

use kesmo_core::words::{Outcome, Verdict};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::runs::RunSummary;

/// How many tests of a variant stand how, by their latest outcomes in the runs of a release.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReleaseVariant {
    /// Empty for a suite without facets.
    pub variant: String,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    /// In a run of the release, but parked or not run in all of them.
    pub never_run: u32,
}

/// A test of a release that one looks at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReleaseTest {
    pub test: String,
    pub variant: String,
    /// Its latest outcome in the runs of the release; none where it never ran in them.
    pub outcome: Option<Outcome>,
    /// The run that says so, and its place in it; empty and 0 where no run of the release had it.
    pub run: String,
    pub entry: u32,
    pub message: String,
}

/// A suite in a release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleaseSuite {
    pub suite: String,
    /// None while a run of it goes on.
    pub verdict: Option<Verdict>,
    /// Why, where the tests alone do not say.
    pub reason: String,
    pub variants: Vec<ReleaseVariant>,
    /// Those that still fail; at most 200, of `failing_total`.
    pub failing: Vec<ReleaseTest>,
    pub failing_total: u32,
    /// Those that never ran in the release, though the suite has them; at most 200, of `never_run_total`.
    pub never_run: Vec<ReleaseTest>,
    pub never_run_total: u32,
    /// Its runs of the release, newest first.
    pub runs: Vec<RunSummary>,
}

/// All runs with a label as one.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Release {
    /// `release=1187`
    pub label: String,
    /// Of the whole; none while a run of it goes on.
    pub verdict: Option<Verdict>,
    pub suites: Vec<ReleaseSuite>,
    /// Suites without a run of the release.
    pub without: Vec<String>,
}
