//! Results that ran elsewhere, as they are brought.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::Run;

/// What a file of results may hold, and all of an import together, in MiB.
pub const MOST_MIB: usize = 64;

/// A file of results.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResultFile {
    /// Its path, to name it by.
    pub path: String,
    /// JUnit XML, TAP or event lines.
    pub content: String,
}

/// Results that ran elsewhere, to be a run of a suite.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewImport {
    pub files: Vec<ResultFile>,
    pub pool: Option<String>,
    pub labels: BTreeMap<String, String>,
    pub branch: Option<String>,
    pub commit: Option<String>,
    /// When they ran, if not now.
    pub at: Option<DateTime<Utc>>,
    /// Of a suite with variants, the values of the one that ran: `screen=phone`.
    pub variant: Vec<String>,
    pub flaky_fails: bool,
}

/// What became of an import.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImportedRun {
    pub run: Run,
    /// False if the same was imported before: that run is given, and nothing is counted twice.
    pub made: bool,
}
