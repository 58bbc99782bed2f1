//! Workers and their slots.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use kesmo_core::run::{BatchId, Engine};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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

/// The machine of a pool that a token is for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WorkingMachine {
    /// What its worker is to be named.
    pub name: String,
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
