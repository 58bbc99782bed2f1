//! Addresses that show one thing without a sign-in.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What an address shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ShareKind {
    /// The report of a run, as a page.
    Run,
    /// How a suite or brief stands, as a picture (SVG).
    Badge,
    /// The runs of a suite or brief that are over, as a feed (Atom).
    Feed,
}

/// A new address.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewShare {
    pub kind: ShareKind,
    /// The run, `boarding-gate/42`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// The suite of a badge or feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suite: Option<String>,
    /// The brief of a badge or feed; with a suite, only runs of both.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub brief: Option<String>,
    /// Only runs on this branch, of a badge or feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// The last day (UTC), `2026-12-31`, or in how many days or weeks that is: `7d`, `2w`. A run's address ends after 7 days if
    /// nothing is said; badges and feeds do not end by themselves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// An address.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SharedAddress {
    pub id: i64,
    pub kind: ShareKind,
    /// The run, suite, brief or branch that it shows.
    pub of: String,
    /// It is good until then; none: until it is ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    pub by: String,
    pub made_at: DateTime<Utc>,
    /// When somebody looked last, to a minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used_at: Option<DateTime<Utc>>,
    /// The address; only in the answer that made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}
