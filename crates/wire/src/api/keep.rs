//! What is kept for how long.

use chrono::{DateTime, Utc};
use kesmo_core::keep::{Freed, Rule};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A rule to keep.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewKeep {
    pub rule: Rule,
    /// Changes the one of that name.
    #[serde(default)]
    pub replace: bool,
}

/// A rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KeepRule {
    pub name: String,
    pub rule: Rule,
    /// In words.
    pub said: String,
    pub by: String,
    pub made_at: DateTime<Utc>,
}

/// A sweep.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Swept {
    pub at: DateTime<Utc>,
    pub freed: Freed,
    /// In words.
    pub said: String,
}

/// What is kept, and what was removed of late.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Keeping {
    pub rules: Vec<KeepRule>,
    /// The latest 20 sweeps that freed something.
    pub sweeps: Vec<Swept>,
}
