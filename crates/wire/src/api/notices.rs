//! Notices: who is told what, and what was sent.

use chrono::{DateTime, Utc};
use kesmo_core::notice::Notice;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A notice to make, or to make anew.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNotice {
    pub notice: Notice,
    /// What `{secret}` stands for in a described request; where a notice is replaced, none means that what is kept stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// Replaces the notice of that name, if there is one.
    #[serde(default)]
    pub replace: bool,
}

/// A notice.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticeOf {
    pub name: String,
    /// What it asks, as it was written; to admins alone, as addresses often hold a secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notice: Option<Notice>,
    /// When it tells something: `failed`, `flaky-over 5%` …
    pub when: Vec<String>,
    /// Of which runs, in words.
    pub of: String,
    /// `mail`, `http`, `chat` or `commit-status`
    pub to: String,
    /// Where it goes, without what may be secret.
    pub address: String,
    /// When it is sent, where that is not at once, in words.
    pub sent: Option<String>,
    pub paused: bool,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    /// Messages that were sent, that are tried, and that were given up.
    pub sent_count: u32,
    pub trying: u32,
    pub given_up: u32,
    /// What waits for its digest, or for the end of quiet hours; and what is not told as its cause was told before.
    pub gathering: u32,
    pub told_before: u32,
    /// What keeps it from being told.
    pub trouble: Option<String>,
    /// What signs what is sent to an HTTP address: in the answer that makes it, and never again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// The latest messages, newest first; where one notice is asked for.
    pub messages: Vec<NoticeMessage>,
    /// What happened and is in no message, newest first; where one notice is asked for.
    pub kept: Vec<NoticeEvent>,
}

/// A message that was sent, or is to be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticeMessage {
    pub number: i64,
    /// The same at every try.
    pub id: String,
    pub subject: String,
    /// `trying`, `sent` or `given-up`
    pub state: String,
    /// A trial: nothing happened.
    pub sample: bool,
    pub tries: u32,
    /// What its receiver said last.
    pub said: String,
    pub made_at: DateTime<Utc>,
    /// When it is tried next, while it is.
    pub next_at: Option<DateTime<Utc>>,
    pub ended_at: Option<DateTime<Utc>>,
    /// What it says; where one message is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// Something that happened and is in no message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticeEvent {
    pub title: String,
    pub at: DateTime<Utc>,
    /// When it is sent; none if it is not told.
    pub due_at: Option<DateTime<Utc>>,
    /// Why it is not told.
    pub why: Option<String>,
}
