//! The types of the REST API under `/api`. Times of day are RFC 3339 in UTC; durations are microseconds (`…_us`).

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use kesmo_core::{
    calendar::schedule::{Times, What},
    format::Step,
    name::shorten,
    plan::{
        RetriesFrom, RunOptions,
        brief::{Brief, Changes, Origin},
    },
    record::Cause,
    run::{
        AttemptStats, BatchId, Engine, Tally, TimeLeft,
        cases::CaseTally,
        timeline::{Block, Tail},
    },
    source::GitSource,
    webhook::Did,
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
    /// What has ended that should not, if something has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
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
    Admin,
    /// Only works: for workers.
    Worker,
}

impl Role {
    pub const ALL: [Self; 4] = [Self::Reader, Self::Operator, Self::Admin, Self::Worker];

    /// The role's word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Reader => "reader",
            Self::Operator => "operator",
            Self::Admin => "admin",
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

/// Adds a suite, or gives it new files: one of both.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewSuite {
    /// The SHA-256 of the bundle with the suite's files, uploaded before.
    pub bundle: Option<String>,
    /// Where its files come from in version control; what a run needs is fetched when it starts.
    pub git: Option<GitSource>,
}

/// A suite.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Suite {
    pub name: String,
    pub about: String,
    /// The SHA-256 of its bundle.
    pub bundle: String,
    pub added_at: DateTime<Utc>,
    /// How many tests and variants were listed last; none if that never happened.
    pub entries: Option<u32>,
    /// The latest runs, newest first.
    pub last_runs: Vec<RunSummary>,
    /// Where its files come from in version control.
    #[serde(default)]
    pub git: Option<GitSource>,
    /// What is wrong with that, if something is.
    #[serde(default)]
    pub trouble: Option<String>,
    /// When something of it starts next by itself, and from which schedule.
    #[serde(default)]
    pub next_start: Option<(DateTime<Utc>, String)>,
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
    pub parks: Vec<Park>,
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

/// Tests that are set aside.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Park {
    pub suite: String,
    /// As `--pick` takes it.
    pub pattern: String,
    pub why: String,
    /// The last day on which it holds, `2026-12-31`, by UTC.
    pub until: String,
    /// That day has passed: the tests count again.
    pub over: bool,
    pub by: String,
    pub at: DateTime<Utc>,
}

/// Sets tests aside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPark {
    pub pattern: String,
    pub until: String,
    pub why: String,
}

/// A park that was made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Parked {
    #[serde(flatten)]
    pub park: Park,
    /// The tests that it sets aside, as they are listed now.
    pub tests: Vec<String>,
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

/// Failures that look as if they had one cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CauseOf {
    /// The message without what differs from one failure to the next.
    pub likeness: String,
    pub example: String,
    /// How many tests failed so, and how many of those were flaky in the end.
    pub count: u32,
    pub flaky: u32,
    /// The first of them: index and name.
    pub tests: Vec<(u32, String)>,
}

impl CauseOf {
    /// Tests that a cause names.
    const MOST_NAMED: usize = 20;

    /// A cause of a run, with what is known of its entries.
    pub fn new(cause: Cause<u32>, name: impl Fn(u32) -> String, is_flaky: impl Fn(u32) -> bool) -> Self {
        Self {
            count: cause.members.len() as u32,
            flaky: cause.members.iter().filter(|i| is_flaky(**i)).count() as u32,
            tests: cause.members.iter().take(Self::MOST_NAMED).map(|i| (*i, name(*i))).collect(),
            likeness: cause.likeness,
            example: shorten(&cause.example, 500),
        }
    }
}

/// What one slot carried out of a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Shard {
    /// From 1, in the order in which slots got their first batch.
    pub number: u32,
    pub worker: String,
    pub slot: u32,
    pub batches: Vec<ShardBatch>,
}

/// A batch of a shard.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShardBatch {
    pub number: u32,
    /// Names and variants, in the order in which they ran.
    pub entries: Vec<(String, String)>,
}

/// Results side by side, by variant.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Variants {
    pub variants: Vec<VariantOf>,
    /// Tests whose outcomes are not the same in all variants, with an outcome for each variant that has the test.
    pub differing: Vec<Differing>,
    /// How many differ; `differing` holds at most 200.
    pub total: u32,
}

/// The outcomes of one variant.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VariantOf {
    pub variant: String,
    pub tally: Tally,
    pub spent_us: u64,
}

/// A test whose outcomes differ.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Differing {
    pub test: String,
    /// Index of the entry and its outcome, by variant.
    pub entries: Vec<Option<(u32, Option<Outcome>)>>,
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
    /// The brief to start; what else is given overrides it.
    pub brief: Option<String>,
    /// The branch or commit to run, of a suite from version control.
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub options: RunOptions,
    /// Only what neither passed nor was flaky nor skipped in this run.
    pub not_passed_in: Option<String>,
}

/// Repeats a run.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Again {
    /// Only the entries that neither passed nor were flaky.
    pub not_passed: bool,
    /// Exactly the batches of that shard, in their order and with the run's seed.
    pub shard: Option<u32>,
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
    /// How long it still takes: a range that holds at least four times of five.
    pub left: Option<TimeLeft>,
    /// Results a second over the last ten seconds.
    #[serde(default)]
    pub rate: f64,
    /// Outcomes in the order in which they came, a letter each, thinned to at most 200: see `live::strip`.
    pub strip: String,
    /// Slots at work for it now.
    pub slots: u32,
    /// The branch and the commit that it runs, where that is known.
    #[serde(default)]
    pub branch: Option<String>,
    #[serde(default)]
    pub commit: Option<String>,
    /// What started it.
    #[serde(default)]
    pub origin: Origin,
    /// Its place among the runs of its pool that nothing was begun of, from 1, and how many those are.
    #[serde(default)]
    pub place: Option<(u32, u32)>,
}

/// A run in full, but for its entries.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Run {
    #[serde(flatten)]
    pub summary: RunSummary,
    /// The SHA-256 of its files; empty before they are fetched from version control.
    pub bundle: String,
    /// Where its files come from in version control.
    #[serde(default)]
    pub git: Option<GitSource>,
    /// The runs of its chain, in order, itself among them; empty if it is alone.
    #[serde(default)]
    pub chain: Vec<ChainLink>,
    /// The brief that is to follow it.
    #[serde(default)]
    pub then: Option<String>,
    pub options: RunOptions,
    /// How many entries there were before choosing.
    pub listed: u32,
    /// What was chosen, in words; empty before the tests are known.
    pub choice: String,
    pub seed: u64,
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
    /// Which repetition it is, from 1; 0 where nothing is repeated.
    pub repeat: u32,
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
    /// What its load is, in words, if it is overloaded.
    pub overloaded: Option<String>,
    /// How many of its slots are filled: fewer than it has while it eases.
    pub fills: u32,
    /// The only run that it works for.
    pub only_run: Option<String>,
    /// It finishes what it has and takes nothing new.
    #[serde(default)]
    pub draining: bool,
}

/// Has a worker finish what it has and take nothing new, or take work again.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Drain {
    pub drain: bool,
}

impl Slot {
    /// Says what a slot does that has this batch of a run.
    pub fn fill(&mut self, engine: &Engine, batch: BatchId) {
        let Some((entry, began)) = engine.running_in(batch) else { return };
        let plan = engine.plan();
        self.doing = Some(plan.entries[entry as usize].name.to_string());
        let variant = plan.variant_of(entry);
        self.variant = (!variant.is_plain()).then(|| variant.to_string());
        self.since = DateTime::from_timestamp_micros(began.0);
        (self.expected_us, self.late_after_us) = plan.usual_of(entry);
    }
}

/// A test in one of the last runs of its suite.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PastEntry {
    /// `boarding-gate/42`
    pub run: String,
    /// Its place in that run's list, from 0.
    pub index: u32,
    pub created_at: DateTime<Utc>,
    pub outcome: Outcome,
    pub attempts: u32,
    /// What its last attempt took.
    pub spent_us: Option<u64>,
    /// What its last failing attempt said.
    pub message: String,
}

/// What each slot of a run did when, in blocks of bounded number. Times are microseconds from the beginning of the run.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Timeline {
    pub began_at: Option<DateTime<Utc>>,
    /// The slots, in order: worker and number; a block's `lane` counts in this list from 0.
    pub lanes: Vec<(String, u32)>,
    pub blocks: Vec<Block>,
    /// The names of the entries that blocks and the tail name, by index.
    #[schema(value_type = BTreeMap<String, String>)]
    pub names: BTreeMap<u32, String>,
    pub from_us: u64,
    /// The end of the run, or now.
    pub to_us: u64,
    /// The share of the slots' time that tests ran in.
    pub busy: f64,
    /// What held up the end, if something did; only of a run that is over.
    pub tail: Option<Tail>,
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
    /// What the test that runs is expected to take.
    #[serde(default)]
    pub expected_us: Option<u64>,
    /// From then on it takes clearly longer than it usually does.
    #[serde(default)]
    pub late_after_us: Option<u64>,
    /// The attempt before this one, here, ended badly.
    pub trouble: bool,
}

/// An upload was taken.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    pub digest: String,
    pub bytes: u64,
}

/// A run of a chain.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChainLink {
    /// `boarding-gate/42`
    pub run: String,
    pub brief: Option<String>,
    pub phase: Phase,
    pub verdict: Option<Verdict>,
}

/// Saves a brief.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewBrief {
    pub name: String,
    pub brief: Brief,
    /// Change the one of that name.
    pub replace: bool,
}

/// A saved brief.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BriefOf {
    pub name: String,
    pub brief: Brief,
    /// As a file.
    pub toml: String,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub changed_at: DateTime<Utc>,
    /// What starts it: `schedule nightly`.
    pub used_by: Vec<String>,
    /// The briefs that follow it, itself first.
    pub chain: Vec<String>,
    pub last_run: Option<RunSummary>,
    /// What would keep it from running, or make its run void.
    pub warnings: Vec<String>,
}

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

/// Adds a webhook.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewWebhook {
    pub name: String,
    /// The brief that it starts.
    pub brief: String,
    /// `TARGET=POINTER`, as `--take` takes it.
    pub takes: Vec<String>,
    /// `POINTER=GLOB`, as `--when` takes it.
    pub whens: Vec<String>,
    /// Deliveries a minute, at most; none means 120.
    pub per_minute: Option<u32>,
}

/// A webhook.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WebhookOf {
    pub name: String,
    pub brief: String,
    pub takes: Vec<String>,
    pub whens: Vec<String>,
    pub per_minute: u32,
    pub paused: bool,
    /// The path to post to.
    pub path: String,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    /// Only in the answer to its making, or to a change of the secret.
    pub secret: Option<String>,
    /// Its deliveries, newest first: the latest one, or more where one webhook is asked for.
    pub deliveries: Vec<Delivery>,
}

/// A delivery to a webhook.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    pub id: i64,
    /// The sender's id of it.
    pub message_id: String,
    pub at: DateTime<Utc>,
    /// Whether its signature and time stamp were right.
    pub genuine: bool,
    pub did: Did,
    pub why: String,
    pub run: Option<String>,
    /// The delivery that it repeats by hand.
    pub redelivery_of: Option<i64>,
    pub bytes: u32,
    pub content_type: String,
    /// Only where one delivery is asked for.
    pub body: Option<String>,
}

/// Tries a body on a webhook: nothing is started or kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct TryWebhook {
    pub body: String,
    pub content_type: String,
}

/// What a body would do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    pub did: Did,
    pub why: String,
    /// The settings of the run that it would start, as a file.
    pub toml: Option<String>,
}

/// Pauses something or goes on with it.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pause {
    pub paused: bool,
}

/// Polls branches of a suite from version control.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewPoll {
    /// A branch, or a glob like `release/*`.
    pub branches: String,
    /// How often to look: `1m`.
    pub every: String,
    /// The brief to start; none: the suite as it is.
    pub brief: Option<String>,
    /// Start runs for the heads that are there now, too.
    pub now: bool,
}

/// Polled branches.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PollOf {
    pub suite: String,
    pub branches: String,
    pub every_us: u64,
    pub brief: Option<String>,
    pub looked_at: Option<DateTime<Utc>>,
    pub next_look: DateTime<Utc>,
    /// Looks that failed in a row, and why.
    pub failures: u32,
    pub trouble: Option<String>,
    pub made_by: String,
    /// The latest heads that runs were started for: branch, commit, run.
    pub heads: Vec<(String, String, String)>,
}

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
