//! Saved briefs.

use chrono::{DateTime, Utc};
use kesmo_core::plan::brief::Brief;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::runs::RunSummary;

/// Saves a brief.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewBrief {
    pub name: String,
    pub brief: Brief,
    /// Change the one of that name.
    pub replace: bool,
}

/// A saved brief.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BriefOf {
    pub name: String,
    pub brief: Brief,
    /// As a file.
    pub toml: String,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub changed_at: DateTime<Utc>,
    /// What starts it: `schedule nightly`.
    pub used_by: Vec<String>,
    /// The briefs that follow it, itself first.
    pub chain: Vec<String>,
    pub last_run: Option<RunSummary>,
    /// What would keep it from running, or make its run void.
    pub warnings: Vec<String>,
}
