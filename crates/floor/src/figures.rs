//! What the floor has done since it was started, for whoever watches the service from outside.

use std::time::Duration;

use prometheus_client::{
    metrics::{counter::Counter, family::Family, histogram::Histogram},
    registry::{Registry, Unit},
};

/// One label: its name, and its value.
type Label = Vec<(&'static str, &'static str)>;

/// Bounds of how long a run takes, and a commit, in seconds.
const RUNS: [f64; 12] = [1.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0, 14_400.0];
const COMMITS: [f64; 11] = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 5.0];

/// Counters and histograms; a copy counts the same.
#[derive(Debug, Clone)]
pub struct Figures {
    runs: Family<Label, Counter>,
    run_seconds: Family<Label, Histogram>,
    results: Family<Label, Counter>,
    grants: Counter,
    measured: Counter,
    rows: Counter,
    commits: Histogram,
}

impl Default for Figures {
    fn default() -> Self {
        Self {
            runs: Family::default(),
            run_seconds: Family::new_with_constructor(|| Histogram::new(RUNS)),
            results: Family::default(),
            grants: Counter::default(),
            measured: Counter::default(),
            rows: Counter::default(),
            commits: Histogram::new(COMMITS),
        }
    }
}

impl Figures {
    /// Has a registry show them.
    pub fn register(&self, registry: &mut Registry) {
        registry.register("kesmo_runs_ended", "Runs that came to a verdict on this service's floor", self.runs.clone());
        let about = "From a run's start to its verdict";
        registry.register_with_unit("kesmo_run_duration", about, Unit::Seconds, self.run_seconds.clone());
        registry.register("kesmo_results", "Attempts that ended, by how", self.results.clone());
        registry.register("kesmo_batches", "Batches that slots were given", self.grants.clone());
        registry.register("kesmo_measure_parts", "Seconds of measures that slots told of", self.measured.clone());
        registry.register("kesmo_rows", "Rows that were committed", self.rows.clone());
        let about = "How long PostgreSQL took for a commit of the floor";
        registry.register_with_unit("kesmo_commit_duration", about, Unit::Seconds, self.commits.clone());
    }

    pub(crate) fn run(&self, verdict: &'static str, took: Duration) {
        let of = vec![("verdict", verdict)];
        self.runs.get_or_create(&of).inc();
        self.run_seconds.get_or_create(&of).observe(took.as_secs_f64());
    }

    pub(crate) fn result(&self, ended: &'static str) {
        self.results.get_or_create(&vec![("ended", ended)]).inc();
    }

    pub(crate) fn grant(&self) {
        self.grants.inc();
    }

    pub(crate) fn measured(&self) {
        self.measured.inc();
    }

    pub(crate) fn commit(&self, rows: usize, took: Duration) {
        self.rows.inc_by(rows as u64);
        self.commits.observe(took.as_secs_f64());
    }
}
