//! The types of the REST API under `/api`. Times of day are RFC 3339 in UTC; durations are microseconds (`…_us`).

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use kesmo_core::{
    format::Step,
    plan::{RetriesFrom, RunOptions},
    run::{AttemptStats, Tally},
    words::{Ended, Outcome, Phase, Verdict},
};

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
}

/// What a token may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Sees.
    Reader,
    /// Also starts and stops runs.
    Operator,
    /// Everything.
    Keeper,
    /// Only works: for workers.
    Worker,
}

impl Role {
    pub const ALL: [Self; 4] = [Self::Reader, Self::Operator, Self::Keeper, Self::Worker];

    /// The role's word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Reader => "reader",
            Self::Operator => "operator",
            Self::Keeper => "keeper",
            Self::Worker => "worker",
        }
    }

    /// The role of a word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|role| role.word() == word)
    }
}

/// Signs the console in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    pub token: String,
}

/// Who is calling.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The token's name.
    pub name: String,
    pub role: Role,
}

/// Asks for a new token.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    pub name: String,
    pub role: Role,
}

/// A token as it is listed; its text is shown only once, when it is made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Token {
    pub name: String,
    pub role: Role,
    pub created_at: DateTime<Utc>,
    pub last_used_at: Option<DateTime<Utc>>,
    /// Only in the answer that makes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// Adds a suite, or gives it new files.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSuite {
    /// The SHA-256 of the bundle with the suite's files, uploaded before.
    pub bundle: String,
}

/// A suite.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Suite {
    pub name: String,
    pub about: String,
    /// The SHA-256 of its bundle.
    pub bundle: String,
    pub added_at: DateTime<Utc>,
    /// How many entries the last run had; none if it was never listed.
    pub entries: Option<u32>,
    /// The latest runs, newest first.
    pub last_runs: Vec<RunSummary>,
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
    /// What a worker must offer.
    pub needs: BTreeMap<String, String>,
    pub retries: u32,
}

/// A facet and its values.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FacetDetail {
    pub name: String,
    pub values: Vec<String>,
}

/// What a suite's tests are asked by.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct TestsQuery {
    /// The suite's bundle; none means the one it was added with.
    pub bundle: Option<String>,
    pub options: RunOptions,
}

/// A test that a pick would run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TestLine {
    pub name: String,
    pub variant: String,
    pub tags: Vec<String>,
    /// From the record, or as the suite says.
    pub expected_us: Option<u64>,
    pub retries: u32,
    #[schema(value_type = String)]
    pub retries_from: RetriesFrom,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub last: Option<Outcome>,
}

/// The tests that a pick would run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Tests {
    pub suite: String,
    /// Before choosing.
    pub listed: u32,
    pub tests: Vec<TestLine>,
}

/// Starts a run.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewRun {
    /// The suite's name; with a `bundle` it may be left out, as the bundle says it.
    pub suite: Option<String>,
    /// Files to run as they are, instead of those the suite was added with.
    pub bundle: Option<String>,
    pub pool: Option<String>,
    pub options: RunOptions,
}

/// Repeats a run.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Again {
    /// Only the entries that neither passed nor were flaky.
    pub unpassed: bool,
}

/// Ends a run.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct StopRun {
    pub why: Option<String>,
}

/// A run in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSummary {
    /// `boarding-gate/42`
    pub name: String,
    pub suite: String,
    pub number: u32,
    pub phase: Phase,
    pub verdict: Option<Verdict>,
    /// Why, where the verdict alone does not say; empty otherwise.
    pub reason: String,
    /// What it waits for now.
    pub waiting_for: Option<String>,
    pub tally: Tally,
    pub stats: AttemptStats,
    pub labels: BTreeMap<String, String>,
    pub pool: String,
    pub started_by: String,
    pub created_at: DateTime<Utc>,
    /// When its tests were known.
    pub began_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    /// About how long it still takes.
    pub left_us: Option<u64>,
    /// Outcomes in the order in which they came, a letter each, thinned to at most 200: see `live::strip`.
    pub strip: String,
    /// Slots at work for it now.
    pub slots: u32,
}

/// A run in full, but for its entries.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Run {
    #[serde(flatten)]
    pub summary: RunSummary,
    pub bundle: String,
    pub options: RunOptions,
    /// How many entries there were before choosing.
    pub listed: u32,
    pub variants: Vec<String>,
    /// Remarks, oldest first.
    pub notes: Vec<String>,
}

/// An entry of a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Entry {
    /// Its place in the run's list, from 0.
    pub index: u32,
    pub test: String,
    pub variant: String,
    /// None while it waits or runs.
    pub outcome: Option<Outcome>,
    pub running: bool,
    pub attempts: u32,
    /// What its last attempt took.
    pub spent_us: Option<u64>,
    /// What its last failing attempt said.
    pub message: String,
    pub worker: Option<String>,
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
    /// The log's size in bytes; 0 if it printed nothing.
    pub log_bytes: u64,
    pub artifacts: Vec<Artifact>,
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

/// A worker and its slots.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Worker {
    pub name: String,
    pub pool: String,
    pub offers: BTreeMap<String, String>,
    /// False while its link is down and its patience not over.
    pub connected: bool,
    pub since: DateTime<Utc>,
    pub slots: Vec<Slot>,
}

/// A slot and what it does.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Slot {
    pub number: u32,
    /// The run that it works for; none if it is idle.
    pub run: Option<String>,
    /// `listing`, or the test that runs.
    pub doing: Option<String>,
    pub variant: Option<String>,
    pub since: Option<DateTime<Utc>>,
    /// The attempt before this one, here, ended badly.
    pub trouble: bool,
}

/// An upload was taken.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    pub digest: String,
    pub bytes: u64,
}
