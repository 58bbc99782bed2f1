//! A run on this machine, without a service.
//!
//! [`run`] is a floor for one run: it lists the tests, plans, feeds the same engine that the service has, and has the
//! same worker code run the batches, in this process. What changes is told as on a run's live stream, so that the same
//! views show it. What history says is kept in a file for each suite ([`history`]).

mod error;
pub mod history;
pub mod trying;
mod view;

use std::{collections::BTreeMap, path::PathBuf, time::Duration};

use chrono::Utc;
use kesmo_core::{
    plan::{
        Plan, RunOptions,
        cutting::{Cut, Long, deal, may_cut, too_long},
        portion::{Portion, portions},
    },
    run::{BatchId, Effect, Engine, Fit, Input, Policy, WorkerId},
    suite::{ListedTest, SuiteFile, Variant, container::Image, listing},
    time::Timestamp,
};
use kesmo_wire::{
    link::{BatchKey, Grant, GrantedEntry, KeptFile, ListJob, Log, Said, SecretGiven, Setup, ToWorker, WorkerEvent},
    live::{RunChange, RunSnapshot},
    reach::variable,
};
use kesmo_worker::{Config, Hearing, Home, Slots};
use tokio::time::Instant;

pub use error::Error;
use error::file_error;
pub use history::History;
use view::Shown;
pub use view::{Finished, WORKER};

/// Changes are told at most this often.
const TELL_EVERY: Duration = Duration::from_millis(60);
/// Idle slots are put to use at most this often.
const IDLE_EVERY: Duration = Duration::from_millis(250);

/// What to run.
pub struct Job {
    pub file: SuiteFile,
    /// The packed files and their SHA-256.
    pub digest: String,
    pub bundle: Vec<u8>,
    pub options: RunOptions,
    pub seed: u64,
    pub slots: u16,
    pub portion: Option<Portion>,
    /// By what portions are cut: nothing that differs between machines.
    pub shared_history: History,
    /// What this machine knows.
    pub history: History,
    /// Where files of running batches, bundles, logs and artifacts go.
    pub home: PathBuf,
    /// That folder, if it was taken before.
    pub taken: Option<Home>,
    /// The container engine, for a suite that runs in an image.
    pub engine: Option<kesmo_worker::ContainerEngine>,
    /// Where what the suite reaches is from here, by name.
    pub reach: BTreeMap<String, String>,
    /// The secrets that its processes are given.
    pub secrets: Vec<SecretGiven>,
}

/// What a run tells while it goes on.
pub enum Told {
    Snapshot(Box<RunSnapshot>),
    Change(Box<RunChange>),
}

/// The time as the engine counts it: by the worker's clock, which is not set while the run goes on.
fn now() -> Timestamp {
    Timestamp(kesmo_worker::now_us())
}

/// The id of the one run.
const RUN: i64 = 0;
const HERE: WorkerId = WorkerId(0);

/// Runs a job to its verdict, or until `stop` resolves; then the run is stopped.
///
/// # Errors
/// If the worker's home cannot be used, the tests cannot be listed, or nothing is to be run.
pub async fn run(job: Job, tell: impl FnMut(Told), stop: impl Future<Output = ()>) -> Result<Finished, Error> {
    let at = Place::open(&job, None).await?;
    let closing = at.slots.closing();
    let finished = carry_out(job, at, tell, stop).await;
    closing.close().await;
    finished
}

async fn carry_out(
    job: Job,
    at: Place,
    mut tell: impl FnMut(Told),
    stop: impl Future<Output = ()>,
) -> Result<Finished, Error> {
    tokio::pin!(stop);
    let mut floor = Floor {
        at,
        engine: Engine::new(Policy::of(&job.file, &job.options, job.seed, job.history.start_cost)),
        busy: vec![None; usize::from(job.slots)],
        shown: Shown::new(&job.file, &job.options, &job.digest, job.seed),
        idle_looked: Instant::now(),
    };
    let mut lists = Vec::new();
    for variant in job.file.facets.chosen(&job.options.variants)? {
        let tests = tokio::select! {
            tests = floor.at.list(&variant) => tests?,
            () = &mut stop => return Err(Error::Void("it was stopped while its tests were listed".into())),
        };
        lists.push((variant, tests));
    }
    floor.shown.images = floor.at.images();
    floor.shown.kept(0, None, std::mem::take(&mut floor.at.logs));
    let (plan, options) = plan(&job, &lists)?;
    floor.shown.options = options;
    floor.begin(plan, &job.file);
    tell(Told::Snapshot(Box::new(floor.shown.snapshot(&floor.engine, &floor.busy))));
    let mut told = Instant::now();
    while floor.engine.verdict().is_none() {
        floor.give_out();
        let due = told + TELL_EVERY;
        let wake = floor.next_wake();
        tokio::select! {
            events = floor.at.slots.next() => floor.take(events),
            () = tokio::time::sleep_until(wake) => floor.feed(Input::Tick, Said::Nothing),
            () = tokio::time::sleep_until(due), if floor.shown.changed => {}
            () = &mut stop => floor.feed(Input::Stop { reason: "stopped by you".into() }, Said::Nothing),
        }
        if floor.shown.changed && Instant::now() >= due {
            told = Instant::now();
            tell(Told::Change(Box::new(floor.shown.change(&floor.engine, &floor.busy))));
        }
    }
    floor.shown.finished_at = Some(Utc::now());
    tell(Told::Change(Box::new(floor.shown.change(&floor.engine, &floor.busy))));
    Ok(floor.shown.finish(&floor.engine))
}

/// Cuts files of a plan that take longer than their share, by what was told of their cases here.
fn cut(job: &Job, plan: Plan) -> Plan {
    if !may_cut(&job.file, &job.options) {
        return plan;
    }
    let slots = job.options.shards.map_or(u32::from(job.slots), |most| most.min(u32::from(job.slots)));
    let rest = job.file.tests.rest.is_some();
    let cut = |long: Long| {
        let (file, variant) =
            (plan.entries[long.entry as usize].name.to_string(), plan.variant_of(long.entry).to_string());
        Some(Cut { parts: deal(&job.history.cases_of(&file, &variant), long.parts)?, file, variant, rest })
    };
    // What is new where the rest cannot be run would be found only where it runs whole: on one's own machine it always does.
    let long = if rest { too_long(&plan, slots, job.history.start_cost.unwrap_or_default()) } else { Vec::new() };
    let cuts: Vec<Cut> = long.into_iter().filter_map(cut).collect();
    plan.with_cuts(&cuts)
}

/// The plan of a job, and the options that it follows from; of a portion, only its share.
fn plan(job: &Job, lists: &[(Variant, Vec<ListedTest>)]) -> Result<(Plan, RunOptions), Error> {
    let make = |options: &RunOptions, history: &History| Plan::make(&job.file, options, lists, &[], history.known());
    let void = |e: kesmo_core::Error| Error::Void(e.to_string());
    let Some(portion) = job.portion else {
        let plan = make(&job.options, &job.history).map_err(void)?;
        return Ok((cut(job, plan), job.options.clone()));
    };
    let whole = make(&job.options, &job.shared_history).map_err(void)?;
    let of = portions(&whole, portion.of).swap_remove(portion.number as usize - 1);
    let name = |i: u32| (whole.entries[i as usize].name.to_string(), whole.variant_of(i).to_string());
    let only: Vec<(String, String)> = of.into_iter().map(name).collect();
    if only.is_empty() {
        let (number, of, tests) = (portion.number, portion.of, whole.entries.len());
        return Err(Error::Void(format!(
            "the portion {number}/{of} is empty: there are only {tests} tests to share out"
        )));
    }
    let because = Some(format!("portion {}/{}", portion.number, portion.of));
    let options = RunOptions { only: Some(only), only_because: because, ..job.options.clone() };
    Ok((make(&options, &job.history).map_err(void)?, options))
}

/// Where a suite is run: the slots, and what every batch is set up with.
struct Place {
    slots: Slots,
    setup: Setup,
    blobs: PathBuf,
    /// What images printed as they were built.
    logs: Vec<KeptFile>,
}

impl Place {
    /// Puts the suite's files where the worker looks for them, and opens its slots.
    async fn open(job: &Job, hearing: Option<Hearing>) -> Result<Self, Error> {
        let bundles = job.home.join("local/bundles");
        std::fs::create_dir_all(&bundles).map_err(|e| file_error(&bundles, &e))?;
        let bundle = bundles.join(&job.digest);
        std::fs::write(&bundle, &job.bundle).map_err(|e| file_error(&bundle, &e))?;
        let slots = Slots::open(Config {
            name: WORKER.into(),
            slots: job.slots,
            home: job.home.clone(),
            taken: job.taken.clone(),
            local: Some(job.home.join("local")),
            hearing,
            engine: job.engine.clone(),
            ..Config::default()
        })
        .await?;
        let mut env = job.file.environment(job.options.env.as_deref())?;
        env.extend(job.reach.iter().map(|(name, to)| (variable(name), to.clone())));
        let setup = Setup {
            run: format!("{}/here", job.file.suite),
            bundle: job.digest.clone(),
            variant: Vec::new(),
            settings: job.file.settings_with(&job.options.set)?,
            env,
            seed: job.seed,
            branch: None,
            commit: None,
            image: job.file.container.as_ref().map(|container| container.from.clone()),
            images: job.options.images.clone(),
            reach: Vec::new(),
            secrets: job.secrets.clone(),
        };
        job.options.check(&job.file)?;
        Ok(Self { slots, setup, blobs: job.home.join("local/blobs"), logs: Vec::new() })
    }

    /// The images that it has settled on.
    fn images(&self) -> Vec<Image> {
        let mut images = self.setup.images.clone();
        images.sort();
        images.dedup();
        images
    }

    /// Has the tests of a variant listed.
    async fn list(&mut self, variant: &Variant) -> Result<Vec<ListedTest>, Error> {
        let setup = Setup { variant: variant.pairs().to_vec(), ..self.setup.clone() };
        self.slots.tell(ToWorker::List(Box::new(ListJob { job: "list-here".into(), slot: 0, setup })));
        loop {
            for event in self.slots.next().await {
                if let WorkerEvent::Listed { result, image, files, .. } = event {
                    self.logs.extend(files);
                    // Whatever the engine has under its name later, this run keeps to it.
                    self.setup.images.extend(image);
                    let path = self.blobs.join(result.map_err(Error::Void)?.as_str());
                    let output = std::fs::read(&path).map_err(|e| file_error(&path, &e))?;
                    return listing::read(&output).map_err(|e| Error::Void(e.to_string()));
                }
            }
        }
    }
}

struct Floor {
    at: Place,
    engine: Engine,
    busy: Vec<Option<BatchId>>,
    shown: Shown,
    idle_looked: Instant,
}

impl Floor {
    fn begin(&mut self, plan: Plan, file: &SuiteFile) {
        let mut needs: Vec<String> = file.needs.iter().map(|(k, v)| format!("{k}={v}")).collect();
        needs.extend(file.needs_for.iter().flat_map(|(_, n)| n.iter().map(|(k, v)| format!("{k}={v}"))));
        self.shown.begin(&plan);
        let workers = BTreeMap::from([(HERE, Fit::all(self.busy.len() as u32))]);
        self.feed(Input::Fleet { workers, none_because: String::new(), none_for: BTreeMap::new() }, Said::Nothing);
        self.feed(Input::Planned(plan), Said::Nothing);
        if !needs.is_empty() {
            self.shown.note(format!("the suite needs {}; on this machine that is taken to be so", needs.join(", ")));
        }
    }

    fn next_wake(&self) -> Instant {
        let stamp = now();
        let soonest = self.engine.wake_at(stamp).map(|t| Instant::now() + Duration::from_micros(t.since(stamp).0));
        let idle = self.busy.iter().any(Option::is_none).then(|| self.idle_looked + IDLE_EVERY);
        let latest = Instant::now() + Duration::from_secs(1);
        [soonest, idle].into_iter().flatten().min().unwrap_or(latest).max(Instant::now() + Duration::from_millis(1))
    }

    fn give_out(&mut self) {
        for slot in 0..self.busy.len() {
            if self.busy[slot].is_none() && self.engine.wants_slots() {
                self.feed(Input::Free { worker: HERE, slot: slot as u16 }, Said::Nothing);
            }
        }
        let idle = self.busy.iter().filter(|s| s.is_none()).count() as u32;
        if idle > 0 && self.idle_looked.elapsed() >= IDLE_EVERY {
            self.idle_looked = Instant::now();
            self.feed(Input::Idle { slots: idle }, Said::Nothing);
        }
    }

    fn take(&mut self, events: Vec<WorkerEvent>) {
        for event in events {
            if let Some((_, input)) = event.input() {
                let said = Said::from(event);
                self.feed(input, said);
                continue;
            }
            match event {
                WorkerEvent::Note { text, .. } => self.shown.note(text),
                WorkerEvent::Kept { key, entry, files } => self.shown.kept(key.batch, entry, files),
                _ => {}
            }
        }
    }

    fn feed(&mut self, input: Input, mut said: Said) {
        let key = |batch: BatchId| BatchKey { run: RUN, batch: batch.0 };
        for effect in self.engine.handle(input, now()) {
            self.shown.changed = true;
            match effect {
                Effect::Grant(grant) => self.grant(grant),
                Effect::Begin { batch, .. } => self.at.slots.tell(ToWorker::Begin { key: key(batch) }),
                Effect::Revoke { batch, .. } => self.at.slots.tell(ToWorker::Revoke { key: key(batch) }),
                Effect::Feed { batch, entries, last, .. } => {
                    let plan = self.engine.plan();
                    let entries = entries.iter().map(|index| GrantedEntry::new(*index, plan)).collect();
                    self.at.slots.tell(ToWorker::Feed { key: key(batch), entries, last });
                }
                Effect::GiveBack { batch, from, .. } => {
                    self.at.slots.tell(ToWorker::GiveBack { key: key(batch), from });
                }
                Effect::Attempt(kept) => {
                    let report = said.take_attempt();
                    let log = report.as_ref().map(|r| self.log_of(&r.log)).unwrap_or_default();
                    self.shown.attempt(&self.engine, kept, report, log);
                }
                Effect::Cases { entry, number, skip, outcomes, .. } => {
                    let new = said.take_cases().into_iter().skip(skip as usize).zip(outcomes);
                    self.shown.cases(entry, number, new.map(|(case, (parked, _))| (case, parked)));
                }
                Effect::CasesLost { entry, number } => self.shown.lost_cases(entry, number),
                Effect::Decided { entry, outcome, .. } => self.shown.decided(&self.engine, entry, outcome),
                Effect::BatchOver { batch } => {
                    self.busy.iter_mut().filter(|s| **s == Some(batch)).for_each(|s| *s = None);
                }
                Effect::Note(text) => self.shown.note(text),
                Effect::Wrong(text) => self.shown.wrong(text),
                // Here every variant may run.
                Effect::Unlisted(_)
                | Effect::CasesSettled { .. }
                | Effect::Measured { .. }
                | Effect::Covers { .. }
                | Effect::Began { .. }
                | Effect::WentBack { .. }
                | Effect::GaveBack { .. }
                | Effect::Waiting(_)
                | Effect::Verdict { .. } => {}
            }
        }
    }

    fn log_of(&self, log: &Log) -> String {
        match log {
            Log::None => String::new(),
            Log::Text(text) => text.clone(),
            Log::Blob { digest, .. } => std::fs::read(self.at.blobs.join(digest.as_str()))
                .map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
                .unwrap_or_else(|e| format!("(its output cannot be read: {e})")),
        }
    }

    fn grant(&mut self, grant: kesmo_core::run::Grant) {
        self.busy[usize::from(grant.slot)] = Some(grant.batch);
        let message = Grant::new(RUN, &grant, self.engine.plan(), &self.at.setup);
        self.at.slots.tell(ToWorker::Grant(Box::new(message)));
    }
}
