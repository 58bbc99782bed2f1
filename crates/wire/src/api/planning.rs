//! Before a run: its tests, portions, forecasts, and where CI jobs meet.

use kesmo_core::{
    plan::{RetriesFrom, RunOptions},
    words::Outcome,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::runs::{NewRun, Run};

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
    /// Why it is parked, if it is.
    pub parked: Option<String>,
}

/// The tests that a pick would run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Tests {
    pub suite: String,
    /// Before choosing.
    pub listed: u32,
    /// What was chosen, in words: `412 of 655 tests: pick gate/**, drop tag:slow; 3 parked`.
    pub choice: String,
    pub tests: Vec<TestLine>,
}

/// Asks for portions, or for a forecast, of a suite's tests.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PortionQuery {
    /// The suite's bundle; none means the one it was added with.
    pub bundle: Option<String>,
    pub pool: Option<String>,
    pub options: RunOptions,
    /// How many portions.
    pub of: u32,
    /// Which of them, from 1.
    pub number: u32,
    /// Cut as at this stamp, instead of by the latest records.
    pub stamp: Option<i64>,
    /// Jobs that name the same key cut by the same stamp.
    pub key: Option<String>,
}

/// A fixed share of a suite's tests.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PortionOf {
    pub number: u32,
    pub of: u32,
    /// The state of the records that it was cut by: the same stamp gives the same portions.
    pub stamp: i64,
    /// Names, in listed order.
    pub tests: Vec<String>,
    /// What every portion is expected to take, in microseconds.
    pub expected_us: Vec<u64>,
}

/// Asks how long a run would take.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ForecastQuery {
    pub bundle: Option<String>,
    pub pool: Option<String>,
    pub options: RunOptions,
    /// Numbers of shards, at most 64 of them.
    pub shards: Vec<u32>,
}

/// How long a run would take, by number of shards.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Forecast {
    pub suite: String,
    pub choice: String,
    pub points: Vec<ForecastPoint>,
    /// From this number on more shards stop helping.
    pub enough: Option<u32>,
    /// What no number of shards can go below, and how long that takes.
    pub floor: String,
    pub floor_us: u64,
    /// All work, one test after the other.
    pub work_us: u64,
    pub start_cost_us: u64,
    /// Tests that were never measured: their share of the work is a guess.
    pub guessed: u32,
    pub tests: u32,
    /// The slots that the pool has now.
    pub slots: u32,
}

/// One number of shards.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct ForecastPoint {
    pub shards: u32,
    /// The median; four of five draws lie between `low_us` and `high_us`.
    pub time_us: u64,
    pub low_us: u64,
    pub high_us: u64,
    /// Shards times time.
    pub slot_minutes: f64,
}

/// Comes to a run to lend it a machine.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Meet {
    /// A word on which jobs meet, `build-1187`.
    pub key: String,
    /// What to start, for the first who comes.
    pub start: NewRun,
    /// Only a run that is not over.
    #[serde(default)]
    pub running: bool,
}

/// The run on which jobs met.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Met {
    pub run: Run,
    /// Whether this call started it.
    pub started: bool,
    /// Whether its files are those that were sent.
    pub same_files: bool,
}
