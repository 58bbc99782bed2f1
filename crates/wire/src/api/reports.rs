//! A run as a JSON report, as other programs read it.

use kesmo_core::{
    suite::container::Image,
    words::{Ended, Outcome},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::runs::RunSummary;

/// A finished run as a JSON report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JsonReport {
    pub run: RunSummary,
    /// What went wrong beside the tests and fails the run.
    pub wrongs: Vec<String>,
    /// The images that its processes ran in.
    pub images: Vec<Image>,
    /// Its tests; of a suite of files their cases, and a file itself where they do not show what became of it.
    pub entries: Vec<JsonEntry>,
}

/// A test or case of a JSON report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JsonEntry {
    pub test: String,
    /// The file that it is a case of; empty for a test.
    pub file: String,
    /// As written, `browser=chromium`; empty for a suite without facets.
    pub variant: String,
    pub outcome: Outcome,
    /// What the attempt that decided took, in microseconds.
    pub spent_us: u64,
    /// Why it is set aside, of a parked one.
    pub why_parked: Option<String>,
    /// In order.
    pub attempts: Vec<JsonAttempt>,
}

/// An attempt of a JSON report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JsonAttempt {
    pub ended: Ended,
    pub message: String,
    pub detail: String,
    /// The end of what it printed, of a failing one; of the first 200 of a run.
    pub output: String,
}
