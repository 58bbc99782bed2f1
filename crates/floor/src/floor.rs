//! The floor itself: what it holds, and its one loop.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::{Arc, OnceLock, atomic::AtomicBool},
    time::Duration,
};

use futures::FutureExt;
use kesmo_core::{
    run::{BatchId, Input, WorkerId, share::Sharing},
    time::Timestamp,
};
use kesmo_files::{blobs::Blobs, git::Git};
use kesmo_store::{Store, commit::Commit};
use kesmo_wire::{
    api::{MeasuresOf, RunSummary},
    link::{BatchKey, ToWorker},
    live::Floor as FloorView,
};
use tokio::{
    runtime::Handle,
    sync::{Notify, mpsc, oneshot},
    task::JoinHandle,
    time::Instant,
};

use crate::{
    active::{ActiveRun, PUBLISH_EVERY},
    asking::{Ask, FloorHandle, Message, Stalled, tell},
    clock::now,
    error::Error,
    figures::Figures,
    following::Following,
    hub::Hub,
    leases::{ClaimLeases, Leases},
    lists::Listing,
    portion::{After, Portion, Writer},
    recording::Recorder,
    says::{Says, none_because},
    shown::Shown,
    threads::Threads,
    unopened::Unopened,
    workers::{Asking, NotLinked, Workers},
};

/// A service that ends waits no longer than this for records: what is left is written by the next that starts.
const RECORDS_AT_END: Duration = Duration::from_secs(20);
/// The floor's changes are published at most this often.
pub(crate) const FLOOR_EVERY: Duration = Duration::from_millis(250);
/// Idle slots are put to use by what running batches give back at most this often.
pub(crate) const IDLE_EVERY: Duration = Duration::from_millis(250);
/// Connections to PostgreSQL of the floor's own; as many again for what is done beside it.
const CONNECTIONS: usize = 4;
/// Runs that are not open that a view of the floor holds, at the most.
const MOST_QUEUE_SHOWN: usize = 100;
/// Messages handled before a commit, at the most: a thousand workers that each tell of a test or two make as many.
pub(crate) const MOST_BEFORE_COMMIT: usize = 1500;

pub(crate) struct Floor {
    pub(crate) figures: Figures,
    pub(crate) store: Store,
    /// For what is read and written beside the floor's own work, so that commits do not wait for it.
    pub(crate) beside: Store,
    pub(crate) blobs: Blobs,
    pub(crate) hub: Arc<Hub>,
    pub(crate) patience: Duration,
    pub(crate) runs: BTreeMap<i64, ActiveRun>,
    pub(crate) workers: Workers,
    pub(crate) listings: HashMap<String, Listing>,
    pub(crate) following: Following,
    pub(crate) commit: Commit,
    /// Runs whose rows PostgreSQL refuses whatever is done about it.
    pub(crate) unstorable: BTreeSet<i64>,
    /// Runs of which a list has become known, and runs that are over and not yet recorded.
    pub(crate) to_plan: Vec<i64>,
    pub(crate) to_record: Vec<i64>,
    pub(crate) recorder: Recorder,
    pub(crate) after: Vec<After>,
    pub(crate) floor_published: Instant,
    /// How the runs of each pool share its slots.
    pub(crate) sharing: HashMap<String, Sharing>,
    /// When idle slots were last looked at with running batches that might give something back, and whether there are.
    pub(crate) idle_looked: Instant,
    pub(crate) idle: bool,
    /// There were more idle slots than are given something at once.
    pub(crate) gives_on: bool,
    pub(crate) fleet_changed: bool,
    pub(crate) leaving: bool,
    pub(crate) leases: Leases,
    pub(crate) claims: ClaimLeases,
    /// Runs that are not open, by id.
    pub(crate) queue: BTreeMap<i64, Unopened>,
    pub(crate) queue_changed: bool,
    /// Runs that are over and stored, and those that ended without having been opened, to publish.
    pub(crate) closed: Vec<RunSummary>,
    /// Those of them whose verdict is not stored.
    pub(crate) closing: BTreeSet<i64>,
    /// The places of runs that nothing was begun of.
    pub(crate) places: BTreeMap<i64, (u32, u32)>,
    pub(crate) places_numbered: Instant,
    pub(crate) git: Git,
    /// For what tasks of its own bring.
    pub(crate) own: mpsc::Sender<Message>,
    /// Where those go on: not on the floor's own threads.
    pub(crate) others: Handle,
    /// Told when a run is over.
    pub(crate) over: Arc<Notify>,
    pub(crate) writer: Writer,
    pub(crate) writing: Option<Portion>,
    /// Messages that were heard, and slots that were given something, since a portion was closed.
    pub(crate) heard: usize,
    pub(crate) given: usize,
    /// Rows were given up, as the service is to stop.
    pub(crate) given_up: bool,
    /// Private addresses that are offered to each pool: names, and where each leads.
    pub(crate) reachable: HashMap<String, BTreeMap<String, String>>,
    /// What pools that start machines say of themselves.
    pub(crate) pools: HashMap<String, Says>,
}

/// Which service carries out the runs of a pool.
enum Whose {
    Own,
    /// Another, at this address.
    Others(String),
    /// Another, or none: that is not known now.
    Unknown,
}

/// What a floor stands on.
pub struct Ground {
    pub store: Store,
    pub blobs: Blobs,
    pub git: Git,
    /// How long a worker's link may be silent before its batches are lost.
    pub patience: Duration,
    /// The service's id, the same after a restart, and the address at which workers reach it, once that is known.
    pub service: String,
    pub address: Arc<OnceLock<String>>,
    /// Told when a run is over.
    pub over: Arc<Notify>,
}

/// Starts the floor with all unfinished runs of the pools that no other service has, on threads of its own; what it has done beside
/// its own work goes on where this is called.
///
/// # Errors
/// If what is stored cannot be read, or the system gives no threads.
pub async fn start(ground: Ground) -> Result<(FloorHandle, JoinHandle<()>), Error> {
    let Ground { store, blobs, git, patience, service, address, over } = ground;
    let threads = Threads::start()?;
    // Commits wait for no call that is answered meanwhile.
    let (store, beside) = (store.apart(CONNECTIONS)?, store.apart(CONNECTIONS)?);
    let recorder = Recorder::start(beside.clone(), Handle::current());
    let recording = recorder.under_way();
    let (sender, receiver) = mpsc::channel(1024);
    let hub = Arc::new(Hub::default());
    let leaving = Arc::new(AtomicBool::new(false));
    let figures = Figures::default();
    let mut floor = Floor {
        store: store.clone(),
        beside,
        blobs,
        hub: Arc::clone(&hub),
        patience,
        figures: figures.clone(),
        runs: BTreeMap::new(),
        workers: Workers::default(),
        listings: HashMap::new(),
        following: Following::default(),
        commit: Commit::default(),
        unstorable: BTreeSet::new(),
        to_plan: Vec::new(),
        to_record: Vec::new(),
        recorder,
        after: Vec::new(),
        floor_published: Instant::now(),
        sharing: HashMap::new(),
        idle_looked: Instant::now(),
        idle: false,
        gives_on: false,
        fleet_changed: true,
        leaving: false,
        leases: Leases::new(service, address),
        claims: ClaimLeases::default(),
        queue: BTreeMap::new(),
        queue_changed: false,
        closed: Vec::new(),
        closing: BTreeSet::new(),
        places: BTreeMap::new(),
        places_numbered: Instant::now(),
        git,
        own: sender.clone(),
        others: Handle::current(),
        over,
        writer: Writer { store: store.clone(), stopping: Arc::clone(&leaving), stalled: Stalled::default() },
        writing: None,
        heard: 0,
        given: 0,
        given_up: false,
        reachable: HashMap::new(),
        pools: HashMap::new(),
    };
    let stalled = Arc::clone(&floor.writer.stalled);
    let (told, looked) = oneshot::channel();
    let task = threads.run(async move {
        let before = floor.take_up().await;
        let goes_on = before.is_ok();
        tell(told, before);
        if goes_on {
            floor.work(receiver).await;
        }
    });
    looked.await.map_err(|_| Error::Ended)??;
    Ok((FloorHandle { sender, leaving, hub, patience, stalled, figures, recording }, task))
}

impl Floor {
    /// Takes up all unfinished runs of the pools that no other service has.
    async fn take_up(&mut self) -> Result<(), Error> {
        self.look().await?;
        self.begin_writing().await;
        self.settle().await;
        Ok(())
    }

    async fn work(mut self, mut receiver: mpsc::Receiver<Message>) {
        while !self.leaving {
            self.hear_until_written(&mut receiver).await;
            if !self.has_gathered() {
                let wake = self.next_wake();
                tokio::select! {
                    message = receiver.recv() => match message {
                        Some(message) => self.handle(message).await,
                        None => self.leaving = true,
                    },
                    () = tokio::time::sleep_until(wake) => {}
                }
            }
            self.hear(&mut receiver).await;
            for run in std::mem::take(&mut self.to_plan) {
                self.plan_if_listed(run);
            }
            if self.leases.look_at() <= Instant::now()
                && let Err(e) = self.look().await
            {
                tracing::warn!("unfinished runs could not be looked at, and will be soon: {e}");
            }
            self.move_queue().await;
            if self.claims.due
                && let Err(e) = self.hold_claims().await
            {
                tracing::warn!("claims could not be asked for, and will be soon: {e}");
            }
            self.advance();
            self.begin_writing().await;
            for (worker, message) in self.following.tend(&self.runs) {
                self.workers.send(worker, message);
            }
            // Beside the writing, what has come is heard, and slots that became idle are given something.
            self.hear(&mut receiver).await;
            if self.heard > 0 {
                self.advance();
            }
        }
        self.settle().await;
        if !self.given_up {
            self.begin_writing().await;
            self.settle().await;
        }
        if tokio::time::timeout(RECORDS_AT_END, self.recorder.finish()).await.is_err() {
            tracing::warn!("records of some runs are brought up to date when a service starts again");
        }
        if let Err(e) = self.store.give_pools_up(&self.leases.holder()).await {
            tracing::warn!("the leases could not be given up and will run out: {e}");
        }
    }

    fn next_wake(&self) -> Instant {
        let stamp = now();
        let instant = Instant::now();
        let at = |t: Timestamp| instant + Duration::from_micros(t.since(stamp).0);
        let engines = self.runs.values().filter_map(|r| r.engine.wake_at(stamp)).map(at);
        let changes = self.runs.values().filter(|r| r.dirty).map(|r| r.published + PUBLISH_EVERY);
        let floor = self.floor_dirty().then_some(self.floor_published + FLOOR_EVERY);
        let lost = self.workers.next_loss();
        let idle = self.idle.then_some(self.idle_looked + IDLE_EVERY);
        let look = self.leases.look_at();
        let queue = self.queue_wakes().into_iter().chain([look]).chain(self.gives_on.then_some(instant));
        let soonest = engines.chain(changes).chain(floor).chain(lost).chain(idle).chain(queue).min();
        // A time that has just passed is not asked for twice in the same moment.
        soonest.unwrap_or(look).max(instant + Duration::from_millis(1))
    }

    pub(crate) fn floor_dirty(&self) -> bool {
        self.workers.changed() || !self.closed.is_empty() || self.runs.values().any(|r| r.floor_dirty)
    }

    /// Hears what has come by now.
    async fn hear(&mut self, receiver: &mut mpsc::Receiver<Message>) {
        while self.heard < MOST_BEFORE_COMMIT {
            match receiver.try_recv() {
                Ok(message) => self.handle(message).await,
                Err(_) => break,
            }
        }
    }

    pub(crate) async fn handle(&mut self, message: Message) {
        self.heard += 1;
        if !message.is_by_itself() {
            self.settle().await;
        }
        match message {
            Message::NewRun(run) => {
                let (row, suite) = *run;
                self.take(row, suite).await;
            }
            Message::Stop { run, reason, reply } => {
                if self.stop_run(run, reason) {
                    self.after.push(After::Stopped(reply));
                } else {
                    tell(reply, false);
                }
            }
            Message::LinkUp { hello, pool, link, sender, reply } => {
                let answer = match self.whose(&pool).await {
                    Whose::Own => self.link_up(*hello, link, sender),
                    Whose::Others(url) => Err(NotLinked::Elsewhere(url)),
                    Whose::Unknown => Err(NotLinked::Later(format!(
                        "which service carries out the runs of the pool {pool} is not known yet"
                    ))),
                };
                tell(reply, answer);
            }
            Message::Link { link, message } => self.take_message(link, message),
            Message::LinkDown { link } => {
                self.workers.link_down(link, self.patience);
                self.fleet_changed = true;
            }
            Message::List(ask, reply) => self.list(*ask, reply),
            Message::Want(ask, reply) => self.want_for_ask(*ask, reply),
            Message::ListRead(job, read) => self.list_read(&job, read),
            Message::Reachable(pool, offered) => self.reachable(pool, offered),
            Message::ReachedBy(run, reply) => {
                let active = self.runs.values().find(|active| !active.finished() && active.name() == run);
                tell(reply, active.map(|active| (active.row.pool.clone(), active.setup.reach.clone())));
            }
            Message::Waits(pool, claim, reply) => {
                let waits = self.waits_in(&pool, claim).await;
                tell(reply, waits);
            }
            Message::PoolSays(pool, says) => self.pool_says(pool, says),
            Message::Retire(names) => self.retire(&names),
            Message::TurnAway(name, reply) => tell(reply, self.workers.turn_away(&name)),
            Message::Remark(runs, text) => runs.into_iter().for_each(|run| self.note(run, text.clone())),
            Message::Elsewhere(pool, reply) => match self.whose(&pool).await {
                Whose::Others(url) => tell(reply, Some(url)),
                Whose::Own | Whose::Unknown => tell(reply, None),
            },
            Message::Planned(run, made) => self.planned(run, made),
            Message::Ask(ask) => self.after.push(After::Ask(ask)),
            Message::Fetched(run, result) => self.fetched(run, *result).await,
            Message::Recorded(suite, mut reply) => {
                let of_suite = |suite| self.recorder.until_now_of(suite);
                let recorded = suite.map_or_else(|| self.recorder.until_now(), of_suite);
                let hurry = self.beside.hurry();
                tokio::spawn(async move {
                    // Who asked may wait no longer.
                    tokio::select! {
                        () = recorded.written() => tell(reply, ()),
                        () = reply.closed() => {}
                    }
                    drop(hurry);
                });
            }
            Message::Look(reply) => {
                if let Err(e) = self.look().await {
                    tracing::warn!("unfinished runs could not be looked at, and will be soon: {e}");
                }
                tell(reply, ());
            }
            Message::Leave => self.leaving = true,
        }
    }

    /// Everything that time, or a changed fleet, brings about.
    fn advance(&mut self) {
        for worker in self.workers.take_lost() {
            self.worker_lost(worker);
        }
        if std::mem::take(&mut self.fleet_changed) {
            self.tell_fleet();
        }
        let stamp = now();
        let due: Vec<i64> = self
            .runs
            .iter()
            .filter(|(_, r)| r.engine.wake_at(stamp).is_some_and(|t| t <= stamp))
            .map(|(id, _)| *id)
            .collect();
        for run in due {
            self.feed(run, Input::Tick);
        }
        self.give_lists_out();
        self.give_slots_out();
    }

    pub(crate) fn worker_lost(&mut self, worker: WorkerId) {
        if self.workers.is_idle_and_draining(worker) {
            tracing::info!(worker = self.workers.name(worker), "a worker has left");
        } else {
            tracing::warn!(worker = self.workers.name(worker), "a worker is lost");
        }
        for run in self.runs.keys().copied().collect::<Vec<_>>() {
            self.feed(run, Input::WorkerLost { worker });
        }
        self.lists_lost(worker);
        self.workers.remove(worker);
        self.fleet_changed = true;
    }

    /// What private addresses are offered to a pool has changed: runs that name them go on, or wait.
    fn reachable(&mut self, pool: String, offered: BTreeMap<String, String>) {
        let before = self.reachable.get(&pool).cloned().unwrap_or_default();
        let of_pool = |active: &&ActiveRun| active.row.pool == pool && !active.finished();
        let mut said: Vec<(i64, String)> = Vec::new();
        for active in self.runs.values().filter(of_pool) {
            for name in &active.setup.reach {
                match (before.get(name), offered.get(name)) {
                    (_, Some(to)) if before.get(name) != Some(to) => {
                        said.push((active.row.id, format!("{name} is {to}")))
                    }
                    (Some(_), None) => {
                        said.push((active.row.id, format!("{name} can be reached no more: it was taken back")))
                    }
                    _ => {}
                }
            }
        }
        for (run, text) in said {
            self.note(run, text);
        }
        self.reachable.insert(pool, offered);
        self.fleet_changed = true;
    }

    fn tell_fleet(&mut self) {
        for run in self.runs.keys().copied().collect::<Vec<_>>() {
            let Some(active) = self.runs.get_mut(&run) else { continue };
            let name = active.name();
            let asking = Asking { pool: &active.row.pool, run: Some(&name), needs: &active.needs };
            let mut workers = self.workers.capable(asking);
            let offered = self.reachable.get(&active.row.pool);
            let is_offered = |name: &&String| offered.is_some_and(|offered| offered.contains_key(*name));
            let unreached = active.setup.reach.iter().find(|name| !is_offered(name)).cloned();
            // Its tests would fail for nothing that is theirs.
            if unreached.is_some() {
                workers.clear();
            }
            active.capable = workers.keys().copied().collect();
            let pool = &active.row.pool;
            let because = |needs| match &unreached {
                Some(name) => format!(
                    "waiting for {name}, which nobody lets be reached: on a machine that can, `kesmo reach {name}=HOST:PORT --pool {pool}`"
                ),
                None => none_because(&self.pools, &self.workers, pool, needs),
            };
            let none_because = because(active.needs.first().unwrap_or(&active.file.needs));
            let none = |v: &usize| !workers.values().any(|fit| fit.takes(*v as u16));
            let none_for =
                (0..active.needs.len()).filter(none).map(|v| (v as u16, because(&active.needs[v]))).collect();
            self.feed(run, Input::Fleet { workers, none_because, none_for });
        }
    }

    /// Which service carries out the runs of a pool.
    async fn whose(&mut self, pool: &str) -> Whose {
        let before = self.leases.held.contains(pool);
        if self.leases.known_of(pool).is_none() && self.holds(pool).await {
            // What the worker holds belongs to runs that must be known before it is asked about them.
            if !before && let Err(e) = self.look().await {
                tracing::warn!("unfinished runs could not be looked at, and will be soon: {e}");
            }
            return Whose::Own;
        }
        // One that has just been started has no address yet; and one that has just gone has no lease any more.
        match self.leases.known_of(pool).and_then(|others| others.address.clone()) {
            Some(address) => Whose::Others(address),
            None => Whose::Unknown,
        }
    }

    fn link_up(
        &mut self,
        hello: kesmo_wire::link::Hello,
        link: u64,
        sender: mpsc::Sender<ToWorker>,
    ) -> Result<(), NotLinked> {
        let holds: Vec<BatchKey> = hello.holds.clone();
        let held_back: std::collections::BTreeSet<BatchKey> = hello.held_back.iter().copied().collect();
        let listing = hello.listing.clone();
        let name = hello.name.clone();
        let (worker, other_process) = self.workers.link_up(hello, link, sender)?;
        tracing::info!(worker = name, batches = holds.len(), "a worker is here");
        if other_process {
            self.lists_lost(worker);
        }
        self.following.forget_told(worker);
        // First the fleet, so that what goes back finds this worker's slots.
        self.tell_fleet();
        let unknown = holds.iter().filter(|k| !self.runs.contains_key(&k.run));
        self.after.extend(unknown.map(|key| After::Send(worker, ToWorker::Revoke { key: *key })));
        for run in self.runs.keys().copied().collect::<Vec<_>>() {
            let of_run = holds.iter().filter(|k| k.run == run).map(|k| BatchId(k.batch)).collect();
            self.feed(run, Input::WorkerBack { worker, holds: of_run });
        }
        for key in holds.iter().filter(|key| !held_back.contains(key)) {
            self.hear_of_batch(worker, *key);
        }
        let mut busy: Vec<(u16, BatchKey)> = Vec::new();
        for (id, run) in &self.runs {
            let of_worker = run.engine.open_batches().filter(|(_, w, _)| *w == worker);
            busy.extend(of_worker.map(|(batch, _, slot)| (slot, BatchKey { run: *id, batch: batch.0 })));
        }
        self.workers.set_busy(worker, &busy);
        self.lists_back(worker, &listing);
        Ok(())
    }

    /// A worker that comes back has begun a batch, or was free to.
    fn hear_of_batch(&mut self, worker: WorkerId, key: BatchKey) {
        let of_it =
            |r: &ActiveRun| r.engine.holder(BatchId(key.batch)) == Some(worker) && r.engine.policy().senders.is_some();
        if self.runs.get(&key.run).is_some_and(of_it) {
            self.feed(key.run, Input::WasThrough { batch: BatchId(key.batch) });
        }
    }

    /// What changed of the floor; none if nobody watches it.
    pub(crate) fn show_floor(&mut self) -> Option<Shown> {
        self.floor_published = Instant::now();
        if !self.hub.watched() {
            self.runs.values_mut().for_each(|run| run.floor_dirty = false);
            self.closed.clear();
            drop(self.workers.take_changes());
            self.hub.pass_over();
            return None;
        }
        let stamp = now();
        // One that is over is shown once its verdict is stored.
        let changed =
            |r: &mut ActiveRun| (!r.finished() && std::mem::take(&mut r.floor_dirty)).then(|| r.summary(stamp));
        let mut runs: Vec<RunSummary> = self.runs.values_mut().filter_map(changed).collect();
        runs.append(&mut self.closed);
        runs.extend(self.queue_summaries().take(MOST_QUEUE_SHOWN).map(|(_, summary)| summary));
        let (changed, gone) = self.workers.take_changes();
        let workers = changed.into_iter().filter_map(|w| self.workers.view(w, &self.runs)).collect();
        let view = FloorView { runs, workers, gone };
        Some(Shown::new(&self.hub, "change", serde_json::to_string(&view).unwrap_or_default()))
    }

    pub(crate) fn answer(&mut self, ask: Ask) {
        let stamp = now();
        match ask {
            Ask::Snapshot(run, chain, reply) => {
                let answer = self.runs.get_mut(&run).map(|active| {
                    // The snapshot must not hold what a later change brings again.
                    if active.dirty {
                        active.show(&self.workers).into_iter().for_each(Shown::publish);
                    }
                    (Box::new(active.snapshot(stamp, &self.workers, chain)), Arc::clone(&active.hub), active.hub.last())
                });
                tell(reply, answer);
            }
            Ask::Run(run, chain, reply) => tell(reply, self.runs.get(&run).map(|r| Box::new(r.detail(stamp, chain)))),
            Ask::Summary(run, reply) => {
                let in_queue = || self.queue_summary(run).map(Box::new);
                tell(reply, self.runs.get(&run).map(|r| Box::new(r.summary(stamp))).or_else(in_queue));
            }
            Ask::Summaries(reply) => {
                self.number_places();
                let open = self.runs.iter().map(|(id, r)| (*id, r.summary(stamp)));
                tell(reply, open.chain(self.queue_summaries()).collect());
            }
            Ask::Workers(reply) => tell(reply, self.workers.views(&self.runs)),
            Ask::Floor(reply) => {
                if self.floor_dirty() {
                    self.show_floor().into_iter().for_each(Shown::publish);
                }
                let queue = self.queue_summaries().take(MOST_QUEUE_SHOWN).map(|(_, summary)| summary);
                let runs = self.runs.values().rev().map(|r| r.summary(stamp)).chain(queue).collect();
                let view = FloorView { runs, workers: self.workers.views(&self.runs), gone: Vec::new() };
                tell(reply, (Box::new(view), self.hub.last()));
            }
            Ask::Entries(run, question, reply) => tell(reply, self.runs.get(&run).map(|r| r.entries(&question))),
            Ask::Parts(run, reply) => tell(reply, self.runs.get(&run).map(|r| r.engine.parts())),
            Ask::Measures(run, reply) => {
                tell(reply, self.runs.get(&run).map(|r| MeasuresOf::of(r.engine.measured())));
            }
            Ask::Drain(worker, drain, reply) => {
                let known = self.workers.drain(&worker, drain);
                self.fleet_changed |= known;
                tell(reply, known);
            }
            Ask::Follow(run, entry, reply) => {
                let known = self.runs.get(&run).is_some_and(|r| (entry as usize) < r.engine.plan().entries.len());
                tell(reply, known.then(|| self.following.follow(run, entry)));
            }
            Ask::Imported(record, reply) => {
                self.recorder.record(record.suite, record.id, futures::future::ready(Some(*record)).boxed());
                self.over.notify_one();
                tell(reply, ());
            }
            Ask::Slots(pool, reply) => tell(reply, self.workers.slots_in(&pool)),
            Ask::SlotsOffering(pool, needs, reply) => tell(reply, self.workers.slots_offering(&pool, &needs)),
            Ask::States(run, reply) => {
                let states = |r: &ActiveRun| {
                    let all = 0..r.engine.plan().entries.len() as u32;
                    all.map(|i| (r.engine.entry(i).0, r.last.get(i as usize).copied().unwrap_or(0))).collect()
                };
                tell(reply, self.runs.get(&run).map(states));
            }
            Ask::EntryState(run, entry, reply) => {
                let known = |r: &&ActiveRun| (entry as usize) < r.engine.plan().entries.len();
                tell(reply, self.runs.get(&run).filter(known).map(|r| r.engine.entry(entry)));
            }
        }
    }
}
