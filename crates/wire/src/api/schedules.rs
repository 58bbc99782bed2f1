//! Planned starts.

use chrono::{DateTime, Utc};
use kesmo_core::{
    calendar::schedule::{Times, What},
    plan::brief::Changes,
    words::Verdict,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::runs::RunSummary;

/// Saves a schedule.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewSchedule {
    pub name: String,
    /// What it starts: a brief, or a suite.
    pub brief: Option<String>,
    pub suite: Option<String>,
    pub times: Times,
    /// What is otherwise than the brief says.
    pub changes: Changes,
    /// Change the one of that name.
    pub replace: bool,
}

/// What a schedule would do, before it is saved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchedulePreview {
    /// In words: `at 02:15, Monday to Friday (Europe/Oslo)`.
    pub said: String,
    /// The next five starts, and how they read on the zone's clock.
    pub next: Vec<DateTime<Utc>>,
    pub next_said: Vec<String>,
    /// What moves of the clock do to it within a year, and what else should be known before saving it.
    pub warnings: Vec<String>,
}

/// A schedule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScheduleOf {
    pub name: String,
    pub brief: Option<String>,
    pub suite: Option<String>,
    pub times: Times,
    pub changes: Changes,
    pub said: String,
    pub paused: bool,
    pub next: Option<DateTime<Utc>>,
    pub next_said: Option<String>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub last_run: Option<RunSummary>,
    /// What became of its planned starts, newest first; only where one schedule is asked for.
    pub planned: Vec<PlannedStart>,
}

/// What became of a planned start.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PlannedStart {
    pub planned_at: DateTime<Utc>,
    /// On the clock of the schedule's zone.
    pub planned_said: String,
    /// The last of several that were missed in a row, and how many they are.
    pub to_at: DateTime<Utc>,
    pub count: u32,
    pub what: What,
    pub why: String,
    /// The run that it started.
    pub run: Option<String>,
    pub verdict: Option<Verdict>,
}

/// Planned starts within a stretch of time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Calendar {
    pub from: DateTime<Utc>,
    pub to: DateTime<Utc>,
    /// Starts that were planned and that are to come, in order; at most 2,000.
    pub starts: Vec<CalendarStart>,
    /// Starts to come within each hour from `from` on, and what their runs are expected to take together, in microseconds of
    /// one slot.
    pub hours: Vec<(u32, u64)>,
    /// How many starts there are; more than `starts` holds where that is too few.
    pub total: u32,
}

/// A start in a calendar.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CalendarStart {
    pub at: DateTime<Utc>,
    pub schedule: String,
    /// None: it is to come.
    pub what: Option<What>,
    pub run: Option<String>,
    pub verdict: Option<Verdict>,
}

/// Pauses something or goes on with it.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pause {
    pub paused: bool,
}
