//! Suites and their files.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use kesmo_core::source::GitSource;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{parks::Park, runs::RunSummary};

/// Adds a suite, or gives it new files: one of both.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewSuite {
    /// The SHA-256 of the bundle with the suite's files, uploaded before.
    pub bundle: Option<String>,
    /// Where its files come from in version control; what a run needs is fetched when it starts.
    pub git: Option<GitSource>,
}

/// A suite.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Suite {
    pub name: String,
    pub about: String,
    /// The SHA-256 of its bundle.
    pub bundle: String,
    pub added_at: DateTime<Utc>,
    /// How many tests and variants were listed last; none if that never happened.
    pub entries: Option<u32>,
    /// The latest runs, newest first.
    pub last_runs: Vec<RunSummary>,
    /// How many tests fail now, on whichever branch, pool and variant: whose latest outcome that counts is failed.
    #[serde(default)]
    pub failing: u32,
    /// Where its files come from in version control.
    #[serde(default)]
    pub git: Option<GitSource>,
    /// What is wrong with that, if something is.
    #[serde(default)]
    pub trouble: Option<String>,
    /// When something of it starts next by itself, and from which schedule.
    #[serde(default)]
    pub next_start: Option<(DateTime<Utc>, String)>,
}

/// A suite with what its file says.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SuiteDetail {
    #[serde(flatten)]
    pub suite: Suite,
    /// The text of `kesmo.toml`.
    pub file: String,
    /// Facets and their values.
    pub facets: Vec<FacetDetail>,
    pub settings: BTreeMap<String, String>,
    /// Names of `[env-for]`.
    pub environments: Vec<String>,
    /// The image that its processes run in, or the file that one is built by.
    #[serde(default)]
    pub image: Option<String>,
    /// What its processes reach in private networks, by name.
    pub reach: Vec<String>,
    /// What a worker must offer.
    pub needs: BTreeMap<String, String>,
    pub retries: u32,
    pub parks: Vec<Park>,
}

/// A facet and its values.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FacetDetail {
    pub name: String,
    pub values: Vec<String>,
}

/// A first suite file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SuiteDraft {
    pub suite: String,
    /// The text of its `kesmo.toml`.
    pub file: String,
}

/// An upload was taken.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    pub digest: String,
    pub bytes: u64,
}
