//! The queue.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Puts a run elsewhere in the queue.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct MoveRun {
    /// `boarding-gate/42`
    pub run: String,
    /// Before this run; none: to the front, or with `last` to the end.
    pub before: Option<String>,
    pub last: bool,
}
