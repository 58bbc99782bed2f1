//! What happened, and whether it concerns a notice.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use globset::Glob;
use serde::{Deserialize, Serialize};

use crate::{
    name::{lasting_hash, shorten},
    record::likeness,
    time::Span,
    words::Verdict,
};

use super::rule::{Notice, To, When, any_fits};

/// Causes of one run that are told apart, and tests that are named in a list.
pub const MOST_CAUSES: usize = 20;
pub const MOST_TESTS: usize = 20;

/// A test that is named in a notice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TestFact {
    pub test: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub variant: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub message: String,
}

/// Failures that look as if they had one cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cause {
    /// What the first of them said.
    pub message: String,
    pub tests: u32,
    /// The first of them.
    pub first: Vec<String>,
}

/// Tests of which the first are named.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Tests {
    pub total: u32,
    pub first: Vec<TestFact>,
}

/// What is said of a run.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct RunFacts {
    pub suite: String,
    /// `boarding-gate/42`
    pub run: String,
    /// None while it is not over.
    pub verdict: Option<Verdict>,
    /// Why, where the verdict alone does not say.
    pub reason: String,
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub brief: Option<String>,
    pub labels: BTreeMap<String, String>,
    pub pool: String,
    pub started_by: String,
    /// What it chose, in words.
    pub choice: String,
    /// From its start to its end.
    #[serde(rename = "took_us")]
    pub took: Span,
    /// What runs like it took before: their median.
    #[serde(rename = "usual_us")]
    pub usual: Option<Span>,
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub parked: u32,
    pub not_run: u32,
    pub causes: Vec<Cause>,
    /// The run that it is compared with.
    pub against: Option<String>,
    pub newly_failing: Tests,
    pub mended: Tests,
    pub still_failing: u32,
    /// Where a person reads it.
    pub link: String,
}

impl RunFacts {
    /// Tests that came to run.
    #[must_use]
    pub fn tested(&self) -> u32 {
        self.passed + self.flaky + self.failed
    }

    /// What tells its failure from another: its causes, or why it is void.
    #[must_use]
    pub fn cause_keys(&self) -> BTreeSet<i64> {
        let key = |kind: &str, message: &str| lasting_hash(&format!("{kind} {}", likeness(message))).cast_signed();
        match self.verdict {
            Some(Verdict::Failed) if self.causes.is_empty() => [key("failed", &self.reason)].into(),
            Some(Verdict::Failed) => self.causes.iter().take(MOST_CAUSES).map(|c| key("failed", &c.message)).collect(),
            Some(Verdict::Void) => [key("void", &self.reason)].into(),
            _ => BTreeSet::new(),
        }
    }
}

/// A planned start that did not take place, or several in a row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Missed {
    pub schedule: String,
    pub brief: Option<String>,
    pub suite: Option<String>,
    pub planned: DateTime<Utc>,
    pub count: u32,
    /// `skipped`, `missed` or `refused`
    pub what: String,
    pub why: String,
    pub link: String,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Happened {
    /// A run is over.
    Ended(Box<RunFacts>),
    ScheduleMissed(Missed),
    /// A run has waited for a worker for so long; what it waits for, in words.
    NoWorker(Box<RunFacts>, Span, String),
    /// A run is expected to take so long in all.
    ForecastOver(Box<RunFacts>, Span),
}

impl Happened {
    /// The type of its CloudEvent.
    #[must_use]
    pub const fn kind(&self) -> &'static str {
        match self {
            Self::Ended(_) => "kesmo.run.ended",
            Self::ScheduleMissed(_) => "kesmo.schedule.missed",
            Self::NoWorker(..) => "kesmo.run.no-worker",
            Self::ForecastOver(..) => "kesmo.run.forecast-over",
        }
    }

    /// The run that it is about.
    #[must_use]
    pub fn run(&self) -> Option<&RunFacts> {
        match self {
            Self::Ended(run) | Self::NoWorker(run, ..) | Self::ForecastOver(run, _) => Some(run),
            Self::ScheduleMissed(_) => None,
        }
    }

    /// Which of a notice's conditions it meets, if it concerns the notice at all.
    #[must_use]
    pub fn meets(&self, notice: &Notice) -> Vec<When> {
        if !self.concerns(notice) {
            return Vec::new();
        }
        notice.when.iter().copied().filter(|when| self.is(*when)).collect()
    }

    fn concerns(&self, notice: &Notice) -> bool {
        let labels_fit = |labels: &BTreeMap<String, String>| {
            let fits =
                |pattern: &str, value: &str| Glob::new(pattern).is_ok_and(|g| g.compile_matcher().is_match(value));
            notice.labels.iter().all(|(key, pattern)| labels.get(key).is_some_and(|value| fits(pattern, value)))
        };
        match self {
            // Nothing is known of its branch or labels yet.
            Self::ScheduleMissed(missed) => {
                notice.branches.is_empty()
                    && notice.labels.is_empty()
                    && any_fits(&notice.suites, missed.suite.as_deref())
                    && any_fits(&notice.briefs, missed.brief.as_deref())
            }
            Self::Ended(run) | Self::NoWorker(run, ..) | Self::ForecastOver(run, _) => {
                // A commit's status needs a commit.
                (!matches!(notice.to, To::CommitStatus(_)) || run.commit.is_some())
                    && any_fits(&notice.suites, Some(&run.suite))
                    && any_fits(&notice.briefs, run.brief.as_deref())
                    && any_fits(&notice.branches, run.branch.as_deref())
                    && labels_fit(&run.labels)
            }
        }
    }

    fn is(&self, when: When) -> bool {
        match self {
            Self::Ended(run) => match when {
                When::Failed => run.verdict == Some(Verdict::Failed),
                When::Passed => run.verdict == Some(Verdict::Passed),
                When::Void => run.verdict == Some(Verdict::Void),
                When::Stopped => run.verdict == Some(Verdict::Stopped),
                When::NewlyFailing => run.newly_failing.total > 0,
                When::Mended => run.mended.total > 0,
                When::FlakyOver(share) => run.tested() > 0 && f64::from(run.flaky) > share * f64::from(run.tested()),
                // One that was ended early, or could not be carried out, says nothing of how fast it is.
                When::SlowerThan(times) => {
                    matches!(run.verdict, Some(Verdict::Passed | Verdict::Failed))
                        && run.usual.is_some_and(|u| u > Span::ZERO && run.took.as_seconds() > times * u.as_seconds())
                }
                When::ScheduleMissed | When::NoWorker(_) | When::ForecastOver(_) => false,
            },
            Self::ScheduleMissed(_) => when == When::ScheduleMissed,
            Self::NoWorker(_, waited, _) => matches!(when, When::NoWorker(bound) if *waited >= bound),
            Self::ForecastOver(_, expected) => matches!(when, When::ForecastOver(bound) if *expected > bound),
        }
    }
}

/// What happened, as it concerns a notice.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// The conditions that it meets.
    pub because: Vec<When>,
    pub at: DateTime<Utc>,
    pub happened: Happened,
}

impl Event {
    /// Why it is not told, where every cause of the failure was told by this notice and nothing else is to be told of it.
    #[must_use]
    pub fn told_before(&self, notice: &Notice, told: &BTreeSet<i64>) -> Option<String> {
        let Happened::Ended(run) = &self.happened else { return None };
        let causes = run.cause_keys();
        let only_that = self.because.iter().all(|when| matches!(when, When::Failed | When::Void));
        let known = !notice.every_time && only_that && !causes.is_empty() && causes.is_subset(told);
        known.then(|| {
            let what = run.causes.first().map_or(run.reason.as_str(), |cause| cause.message.as_str());
            format!("told before, and not passed since: {}", shorten(what.trim(), 120))
        })
    }
}

#[cfg(test)]
#[path = "event_tests.rs"]
pub(super) mod tests;
