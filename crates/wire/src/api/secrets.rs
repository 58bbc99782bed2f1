//! Secrets: values that runs need and nobody may read back.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A secret to keep.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSecret {
    /// Text of 6 bytes to 64 KiB.
    pub value: String,
    /// Only runs of these suites are given it ...
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
    /// ... or those that these briefs started; with neither, all runs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub briefs: Vec<String>,
    /// Git uses it where it calls addresses that begin so, `https://git.quay.example/lamps/`, and no run is given it: `USER:PASSWORD`, a
    /// token alone, or the private key of ssh.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub git: Option<String>,
    /// Changes the one of that name.
    #[serde(default)]
    pub replace: bool,
}

/// A secret, without its value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretOf {
    pub name: String,
    pub suites: Vec<String>,
    pub briefs: Vec<String>,
    pub by: String,
    pub made_at: DateTime<Utc>,
    pub changed_at: DateTime<Utc>,
    /// Where git uses it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub git: Option<String>,
    /// When a run was given it last, or git used it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used_at: Option<DateTime<Utc>>,
}
