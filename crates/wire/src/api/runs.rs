//! Runs.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use kesmo_core::{
    plan::brief::Origin,
    plan::{Alike, CasesOf, RunOptions},
    run::{AttemptStats, Tally, TimeLeft},
    source::GitSource,
    suite::container::Image,
    words::{Phase, Verdict},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::measures::MeasureNow;

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
    /// It waits because no worker that may take it is there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_worker: bool,
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
    /// In a pool that starts machines: how many it has, and why not more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machines: Option<String>,
    /// Which tests it chose, and in which environment: what makes it comparable with other runs of its suite.
    #[serde(default)]
    pub alike: Alike,
    /// What it measures, at most 20 by name, while it goes on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub measures: Vec<MeasureNow>,
}

/// What a report tells of a run by name: labels, branch, commit, and what it measured.
#[must_use]
pub fn report_properties(run: &RunSummary, measures: &[MeasureNow]) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = run.labels.iter().map(|(k, v)| (format!("label {k}"), v.clone())).collect();
    let optional = [("branch", &run.branch), ("commit", &run.commit)];
    all.extend(optional.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value.clone()?))));
    all.extend(measures.iter().map(|measure| (format!("measure {}", measure.name), measure.said())));
    all
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
    /// The brief that is still to follow: the last of its chain, or it if it is alone.
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
    /// The images that its processes ran in.
    #[serde(default)]
    pub images: Vec<Image>,
    /// What its processes reach in private networks, by name.
    #[serde(default)]
    pub reach: Vec<String>,
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

/// What of a run is to be run again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NotPassed {
    /// Tests or files, each with its variant as written.
    pub only: Vec<(String, String)>,
    /// Of these files only some cases.
    pub cases: Vec<CasesOf>,
}
