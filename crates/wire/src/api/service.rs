//! The service itself, and what a refused call is answered with.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is wrong with a call, for a person and for a program.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Refusal {
    /// A short word for programs: `unauthorized`, `forbidden`, `not-found`, `invalid`, `conflict`, `too-large`, `unavailable`.
    pub kind: String,
    /// What was wrong, where, and what to do.
    pub message: String,
}

/// Answers of `/api/health`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Health {
    pub service: String,
    pub version: String,
    /// Whether PostgreSQL answers.
    pub database: bool,
    /// What has ended that should not, if something has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}
