//! Brings the records of tests up to date when runs are over, beside the floor's work: a verdict need not wait for it.
//!
//! Runs are taken in the order of their verdicts, and all that have ended meanwhile are written together (as commits are), so
//! that many short runs of one suite do not queue for its row.

use std::collections::{BTreeMap, BTreeSet};

use kesmo_core::{run::Engine, time::Span, words::Outcome};
use kesmo_store::{Error, Store};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// Runs that are written together at most.
const MOST_TOGETHER: usize = 1000;

/// What a run that is over tells of its tests.
pub struct ToRecord {
    pub suite: i64,
    pub pool: String,
    /// The run's name, for the log.
    pub run: String,
    /// Test and variant, the outcome, and what it took where that says something of what it usually takes.
    pub outcomes: Vec<((String, String), Outcome, Option<Span>)>,
    pub start_cost: Option<Span>,
}

/// What the entries of a run tell of their tests. `took` says what an entry's last attempt took, in microseconds, and whether
/// that says something of what it usually takes.
pub(crate) fn outcomes_of(
    engine: &Engine,
    took: impl Fn(u32) -> (u64, bool),
) -> Vec<((String, String), Outcome, Option<Span>)> {
    let plan = engine.plan();
    let mut outcomes = Vec::new();
    for index in 0..plan.entries.len() as u32 {
        let (Some(outcome), _, _) = engine.entry(index) else { continue };
        if !matches!(outcome, Outcome::NotRun | Outcome::Parked) {
            let key = (plan.entries[index as usize].name.to_string(), plan.variant_of(index).to_string());
            let (spent, usual) = took(index);
            // What a test took that failed says nothing of what it usually takes.
            let telling = usual && spent > 0 && matches!(outcome, Outcome::Passed | Outcome::Flaky);
            outcomes.push((key, outcome, telling.then_some(Span(spent))));
        }
    }
    outcomes
}

/// Hands runs to the task that records them.
pub(crate) struct Recorder {
    sender: mpsc::UnboundedSender<ToRecord>,
    done: watch::Receiver<u64>,
    handed: u64,
    task: JoinHandle<()>,
}

/// What was handed over until some moment.
#[derive(Clone)]
pub(crate) struct Recorded {
    done: watch::Receiver<u64>,
    upto: u64,
}

impl Recorder {
    /// Starts the task, which writes through this store.
    pub fn start(store: Store) -> Self {
        let (sender, receiver) = mpsc::unbounded_channel();
        let (told, done) = watch::channel(0);
        Self { sender, done, handed: 0, task: tokio::spawn(work(store, receiver, told)) }
    }

    /// Hands a run over.
    pub fn record(&mut self, run: ToRecord) {
        self.handed += 1;
        if self.sender.send(run).is_err() {
            tracing::error!("records are no longer written");
        }
    }

    /// What was handed over until now.
    pub fn until_now(&self) -> Recorded {
        Recorded { done: self.done.clone(), upto: self.handed }
    }

    /// Waits until all that was handed over is written.
    pub async fn finish(self) {
        drop(self.sender);
        if let Err(e) = self.task.await {
            tracing::error!("records were not brought up to date: {e}");
        }
    }
}

impl Recorded {
    /// Waits until it is written.
    pub async fn written(mut self) {
        // A task that is gone writes nothing more.
        drop(self.done.wait_for(|done| *done >= self.upto).await);
    }
}

async fn work(store: Store, mut receiver: mpsc::UnboundedReceiver<ToRecord>, told: watch::Sender<u64>) {
    let mut together = Vec::new();
    while receiver.recv_many(&mut together, MOST_TOGETHER).await > 0 {
        let count = together.len() as u64;
        let mut by_suite: BTreeMap<(i64, String), Vec<ToRecord>> = BTreeMap::new();
        for run in together.drain(..) {
            by_suite.entry((run.suite, run.pool.clone())).or_default().push(run);
        }
        for ((suite, pool), runs) in by_suite {
            let last = runs.last().map(|r| r.run.clone()).unwrap_or_default();
            let (of, more) = (runs.len(), runs.len().saturating_sub(1));
            if let Err(e) = write(&store, suite, &pool, runs).await {
                tracing::warn!(
                    runs = of,
                    "the records of {last} and {more} more runs could not be brought up to date: {e}"
                );
            }
        }
        told.send_modify(|done| *done += count);
    }
}

async fn write(store: &Store, suite: i64, pool: &str, runs: Vec<ToRecord>) -> Result<(), Error> {
    let mut records = store.records_in(suite, pool).await?;
    let (mut changed, mut start_cost) = (BTreeSet::new(), None);
    for run in runs {
        start_cost = run.start_cost.or(start_cost);
        // A test that was repeated has several outcomes.
        for (key, outcome, spent) in run.outcomes {
            let record = records.remove(&key).unwrap_or_default().with(outcome, spent);
            records.insert(key.clone(), record);
            changed.insert(key);
        }
    }
    let changed: Vec<_> =
        changed.into_iter().filter_map(|key| records.remove(&key).map(|r| (key.0, key.1, r))).collect();
    if changed.is_empty() { Ok(()) } else { store.put_records(suite, pool, &changed, start_cost).await }
}
