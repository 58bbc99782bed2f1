//! Requirements, and which tests cover them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a requirement stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Shown {
    /// The latest outcome of a test that covers it is failed.
    Failed,
    /// None failed, and not all were shown to pass: some never ran, were skipped or are parked.
    InPart,
    /// No test that covers it ever came to run.
    NotRun,
    /// All tests that cover it passed, maybe after a retry.
    Passed,
}

impl Shown {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Failed => "failed",
            Self::InPart => "in part",
            Self::NotRun => "not run",
            Self::Passed => "passed",
        }
    }
}

/// A requirement, with how many of its tests (each in each variant) had which latest outcome.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RequirementShown {
    pub requirement: String,
    pub shown: Shown,
    pub tests: u32,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub parked: u32,
    /// They never came to run.
    pub never: u32,
}

/// Requirements by their names.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RequirementsShown {
    /// How many there are.
    pub total: u64,
    /// At most 1,000, from `from` on.
    pub requirements: Vec<RequirementShown>,
}

/// A test that covers a requirement, with its latest outcome.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CoveringTest {
    pub suite: String,
    pub test: String,
    pub variant: String,
    /// It told so itself as it ran; else its suite file or list says so.
    pub told: bool,
    /// None: it never came to run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<String>,
    /// The number of the run that it is from, the test's place in it, and when that run ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entry: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<DateTime<Utc>>,
}

/// A requirement and its tests.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RequirementTests {
    pub requirement: RequirementShown,
    /// At most 10,000.
    pub tests: Vec<CoveringTest>,
}
