//! The types of the REST API under `/api`. Times of day are RFC 3339 in UTC; durations are microseconds (`…_us`). A file for each
//! subject; the names are all known here.

mod accounts;
mod breakdown;
mod briefs;
mod comparing;
mod covers;
mod entries;
mod failing;
mod history;
mod keep;
mod measures;
mod notices;
mod parks;
mod people;
mod planning;
mod polls;
mod pools;
mod queue;
mod releases;
mod reports;
mod runs;
mod schedules;
mod secrets;
mod service;
mod shares;
mod suites;
mod usage;
mod webhooks;
mod workers;

pub use accounts::{
    Account, CameBack, ChangeAccount, ChangePassword, ChoosePassword, Chosen, GoTo, LogIn, NewAccount, OwnToken,
    PasswordLink, Session, SignInAt,
};
pub use breakdown::{CauseOf, Differing, Failing, Shard, ShardBatch, Timeline, VariantOf, Variants};
pub use briefs::{BriefOf, NewBrief};
pub use comparing::{Compared, ComparedTest, ComparedTests, SeenTest, SetupDifference};
pub use covers::{CoveringTest, RequirementShown, RequirementTests, RequirementsShown, Shown};
pub(crate) use entries::is_none;
pub use entries::{Around, Artifact, Attempt, Entries, Entry, EntryDetail, entry_name, part_name};
pub use failing::{FailingTest, FailingTests, ForgottenBranch};
pub use history::{
    CommitOf, DurationShift, FailedSpell, FlakyEvidence, FlakyTest, FlakyTests, HistoryRun, PastEntry, TestHistory,
};
pub use keep::{KeepRule, Keeping, NewKeep, Swept};
pub use measures::{MeasureNow, MeasureOf, MeasureOfSuite, MeasurePoint, MeasuredRun, MeasuresOf};
pub use notices::{NewNotice, NoticeEvent, NoticeMessage, NoticeOf};
pub use parks::{NewPark, Park, Parked};
pub use people::{Audited, Me, NewToken, Role, SignIn, Token};
pub use planning::{
    Forecast, ForecastPoint, ForecastQuery, Meet, Met, PortionOf, PortionQuery, TestLine, Tests, TestsQuery,
};
pub use polls::{NewPoll, PollOf};
pub use pools::{MachineOf, MachineState, NewPool, PoolOf};
pub use queue::MoveRun;
pub use releases::{Release, ReleaseSuite, ReleaseTest, ReleaseVariant};
pub use reports::{JsonAttempt, JsonEntry, JsonReport};
pub use runs::{Again, ChainLink, NewRun, NotPassed, Run, RunSummary, StopRun, report_properties};
pub use schedules::{Calendar, CalendarStart, NewSchedule, Pause, PlannedStart, ScheduleOf, SchedulePreview};
pub use secrets::{NewSecret, SecretOf};
pub use service::{Health, Refusal};
pub use shares::{NewShare, ShareKind, SharedAddress};
pub use suites::{FacetDetail, NewSuite, Stored, Suite, SuiteDetail, SuiteDraft};
pub use usage::{Usage, UsageRow};
pub use webhooks::{Delivery, NewWebhook, Tried, TryWebhook, WebhookOf};
pub use workers::{Drain, Slot, Worker, WorkingMachine};
