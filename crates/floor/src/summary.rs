//! What is told of a run that is not open, from its row.

use kesmo_core::words::{Phase, Verdict};
use kesmo_store::runs::RunRow;
use kesmo_wire::{api::RunSummary, live::thin};

use crate::active::SHORT_STRIP;

/// The summary of a run that is not active.
#[must_use]
pub fn summary_of_row(row: &RunRow, suite: &str) -> RunSummary {
    RunSummary {
        name: format!("{suite}/{}", row.number),
        suite: suite.to_owned(),
        number: row.number as u32,
        phase: Phase::of(&row.phase).unwrap_or(Phase::Queued),
        verdict: row.verdict.as_deref().and_then(Verdict::of),
        reason: row.reason.clone(),
        waiting_for: None,
        no_worker: false,
        tally: serde_json::from_value(row.tally.clone()).unwrap_or_default(),
        stats: serde_json::from_value(row.stats.clone()).unwrap_or_default(),
        labels: serde_json::from_value(row.labels.clone()).unwrap_or_default(),
        pool: row.pool.clone(),
        started_by: row.started_by.clone(),
        created_at: row.created_at,
        began_at: row.began_at,
        finished_at: row.finished_at,
        left: None,
        rate: 0.0,
        strip: thin(&row.strip, SHORT_STRIP),
        slots: 0,
        branch: row.branch.clone(),
        commit: row.commit.clone(),
        origin: row.origin().unwrap_or_default(),
        place: None,
        machines: None,
        alike: row.run_options().map(|options| options.alike()).unwrap_or_default(),
        measures: Vec::new(),
    }
}
