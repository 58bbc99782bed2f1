//! The entries of a run, their attempts and what those left behind.

use chrono::{DateTime, Utc};
use kesmo_core::{
    format::Step,
    run::cases::CaseTally,
    suite::container::Image,
    words::{Ended, Outcome},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An entry of a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Entry {
    /// Its place in the run's list, from 0.
    pub index: u32,
    pub test: String,
    pub variant: String,
    /// Which repetition it is, or which part of its file, from 1; 0 where nothing is repeated or cut.
    pub repeat: u32,
    /// Into how many parts its file is cut, of which it is one; 0 where it is not.
    #[serde(default, skip_serializing_if = "is_none")]
    pub parts: u32,
    /// None while it waits or runs.
    pub outcome: Option<Outcome>,
    pub running: bool,
    pub attempts: u32,
    /// What its last attempt took.
    pub spent_us: Option<u64>,
    /// What its last failing attempt said.
    pub message: String,
    pub worker: Option<String>,
    /// How its cases stand, of a file.
    #[serde(default, skip_serializing_if = "CaseTally::is_empty")]
    pub cases: CaseTally,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde wants it so")]
pub(crate) fn is_none(count: &u32) -> bool {
    *count == 0
}

impl Entry {
    /// Which repetition it is, from 1; 0 where nothing is repeated.
    #[must_use]
    pub fn repetition(&self) -> u32 {
        if self.parts > 0 { 0 } else { self.repeat }
    }

    /// Its name for people.
    #[must_use]
    pub fn name(&self) -> String {
        part_name(&self.test, &self.variant, self.repeat, self.parts)
    }
}

/// The name for people of an entry that may be a part of its file.
///
/// ```
/// use kesmo_wire::api::part_name;
/// assert_eq!(part_name("specs/gate.sh", "screen=phone", 2, 3), "specs/gate.sh (screen=phone), part 2 of 3");
/// assert_eq!(part_name("specs/gate.sh", "", 2, 0), "specs/gate.sh #2");
/// ```
#[must_use]
pub fn part_name(test: &str, variant: &str, repeat: u32, parts: u32) -> String {
    match parts {
        0 => entry_name(test, variant, repeat),
        _ => format!("{}, part {repeat} of {parts}", entry_name(test, variant, 0)),
    }
}

/// An entry's name for people: the test, its variant and which repetition it is, as far as it has them.
///
/// ```
/// use kesmo_wire::api::entry_name;
/// assert_eq!(entry_name("gate/late", "screen=phone", 3), "gate/late (screen=phone) #3");
/// assert_eq!(entry_name("gate/late", "", 0), "gate/late");
/// ```
#[must_use]
pub fn entry_name(test: &str, variant: &str, repeat: u32) -> String {
    let variant = if variant.is_empty() { String::new() } else { format!(" ({variant})") };
    let repeat = if repeat == 0 { String::new() } else { format!(" #{repeat}") };
    format!("{test}{variant}{repeat}")
}

/// A page of entries.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Entries {
    /// How many match the question.
    pub total: u32,
    pub entries: Vec<Entry>,
}

/// An entry with its attempts.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EntryDetail {
    #[serde(flatten)]
    pub entry: Entry,
    pub retries: u32,
    /// Who decided the number of retries, in words: `2 retries, from [retry] in kesmo.toml`.
    pub retries_said: String,
    pub expected_us: Option<u64>,
    pub group: bool,
    pub claims: Vec<String>,
    /// Why it is parked, if it is.
    pub parked: Option<String>,
    /// The image that its processes ran in.
    #[serde(default)]
    pub image: Option<Image>,
    pub history: Vec<Attempt>,
}

/// One attempt.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    pub number: u32,
    pub ended: Ended,
    pub worker: String,
    pub slot: u32,
    pub batch: u32,
    pub began_at: DateTime<Utc>,
    pub spent_us: u64,
    pub message: String,
    pub detail: String,
    pub steps: Vec<Step>,
    /// Busy slots of its worker when it ended, and all of them; 0 where that is not known.
    pub busy: u32,
    pub of_slots: u32,
    /// What was expected of it.
    pub expected_us: Option<u64>,
    /// Where and after what it ran; only of failing attempts.
    pub around: Option<Around>,
    /// The log's size in bytes; 0 if it printed nothing.
    pub log_bytes: u64,
    pub artifacts: Vec<Artifact>,
}

/// What of the same run was around an attempt.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Around {
    /// The number of its shard, and its place in the order of that shard, from 1.
    pub shard: u32,
    pub place: u32,
    /// What ran before it in its process, the latest last; at most 50, of `before_count`.
    pub before: Vec<String>,
    pub before_count: u32,
    /// What ran before it on its worker in other processes, the latest last; at most 5.
    pub on_worker: Vec<String>,
    /// What ran on its worker at the same time.
    pub beside: Vec<String>,
}

/// A file that an attempt or a run left behind.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Artifact {
    /// Empty for a file of the run as a whole.
    pub test: String,
    pub variant: String,
    /// 0 for a file of the run as a whole.
    pub attempt: u32,
    pub path: String,
    pub about: String,
    pub bytes: u64,
    /// The SHA-256 of its content; fetch it at `/api/blobs/SHA`.
    pub digest: String,
    pub media_type: String,
}
