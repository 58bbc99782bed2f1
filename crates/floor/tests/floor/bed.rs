//! A floor on a database of its own, and workers that are played.

use std::{
    collections::VecDeque,
    sync::{
        Arc, OnceLock,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use kesmo_core::{plan::RunOptions, run::BatchEnd, words::Ended};
use kesmo_files::{blobs::Blobs, git::Git};
use kesmo_floor::{FloorHandle, Ground, NotLinked};
use kesmo_store::{
    Store,
    runs::{NewRun, RunRow},
};
use kesmo_wire::{
    Digest,
    link::{AttemptReport, BatchKey, FromWorker, Grant, Hello, KeptFile, Log, ToWorker, VERSION, WorkerEvent},
};
use tokio::{sync::mpsc, task::JoinHandle};

use crate::cluster::{CLUSTER, sql, told, url_of};

/// How long a worker's link may be silent.
const PATIENCE: Duration = Duration::from_millis(600);
/// Whatever is waited for comes within this, also on a busy machine.
const LONG: Duration = Duration::from_secs(30);

static LINKS: AtomicU64 = AtomicU64::new(1);

pub struct Bed {
    pub floor: FloorHandle,
    task: Option<JoinHandle<()>>,
    pub store: Store,
    blobs: Blobs,
    name: String,
    url: String,
    folder: tempfile::TempDir,
}

async fn floor(store: &Store, blobs: &Blobs, folder: &std::path::Path, service: &str) -> (FloorHandle, JoinHandle<()>) {
    let address = Arc::new(OnceLock::new());
    address.set(format!("http://{service}")).expect("it is not set");
    let ground = Ground {
        store: store.clone(),
        blobs: blobs.clone(),
        git: Git::new(folder.join("git"), blobs.clone(), Vec::new()),
        patience: PATIENCE,
        service: service.into(),
        address,
        over: Arc::default(),
    };
    kesmo_floor::start(ground).await.expect("the floor starts")
}

impl Bed {
    pub async fn new(name: &str) -> Self {
        sql(&CLUSTER.postgres.url(), &format!("create database {name}")).await;
        let url = url_of(name);
        let store = Store::open(&url).await.unwrap();
        let folder = tempfile::tempdir().unwrap();
        let blobs = Blobs::open(folder.path().join("blobs")).unwrap();
        let (floor, task) = floor(&store, &blobs, folder.path(), "first").await;
        Self { floor, task: Some(task), store, blobs, name: name.into(), url, folder }
    }

    /// Another floor on the same database and files.
    pub async fn another(&self, service: &str) -> (FloorHandle, JoinHandle<()>) {
        floor(&self.store, &self.blobs, self.folder.path(), service).await
    }

    /// The floor lets go of everything.
    pub async fn leave(&mut self) {
        self.floor.leave().await;
        self.task.take().expect("it works").await.unwrap();
    }

    pub async fn suite(&self, name: &str, more: &str) -> i64 {
        let file = format!(
            "suite = \"{name}\"\n[tests]\nlist = [\"sh\", \"tests.sh\"]\nrun = [\"sh\", \"tests.sh\", \"{{names}}\"]\nresults = \"tap\"\n{more}\n"
        );
        let digest = Digest::of(file.as_bytes()).to_string();
        self.store.add_source(&digest, &file).await.unwrap();
        self.store.put_suite(name, "about it", &digest, true).await.unwrap().id
    }

    /// Starts a run, and hands it to the floor.
    pub async fn start(&self, suite: i64, options: RunOptions) -> i64 {
        let run = self.add(suite, options).await;
        let named = self.store.runs_of(&[run]).await.unwrap().remove(0);
        self.floor.new_run(named).await;
        run
    }

    /// Has a run made by somebody else, so that the floor finds it, also while the suite's row is held.
    pub async fn start_aside(&self, suite: i64, options: &RunOptions) -> i64 {
        let options = serde_json::to_string(options).unwrap();
        let last = self.told("select max(number)::text from runs").await.remove(0);
        self.sql(&format!(
            "insert into runs (suite_id, number, source, pool, options, labels, seed, started_by, created_at) \
             select suite_id, {last} + 100, source, pool, '{options}', labels, seed, started_by, now() from runs where suite_id = {suite} limit 1"
        ))
        .await;
        let run = self.told("select max(id)::text from runs").await.remove(0).parse().unwrap();
        self.floor.look().await;
        run
    }

    async fn add(&self, suite: i64, options: RunOptions) -> i64 {
        let source = self.told(&format!("select source from suites where id = {suite}")).await.remove(0);
        let new = NewRun {
            suite_id: suite,
            source: Some(source),
            pool: "main".into(),
            started_by: "asta".into(),
            options,
            ..NewRun::default()
        };
        self.store.add_run(&new).await.unwrap().id
    }

    pub async fn sql(&self, statements: &str) {
        sql(&self.url, statements).await;
    }

    /// Carries statements out on a connection that stays open until it is dropped.
    pub async fn hold(&self, statements: &str) -> AsyncPgConnection {
        let mut c = AsyncPgConnection::establish(&self.url).await.unwrap();
        c.batch_execute(statements).await.unwrap();
        c
    }

    /// What a query tells in its one column, which is text, a line each.
    pub async fn told(&self, query: &str) -> Vec<String> {
        told(&self.url, query).await
    }

    /// PostgreSQL takes no connection to this database any more, and ends those that there are.
    pub async fn shut(&self) {
        let name = &self.name;
        let shut = format!(
            "alter database {name} allow_connections false; select pg_terminate_backend(pid) from pg_stat_activity where datname = '{name}'"
        );
        sql(&CLUSTER.postgres.url(), &shut).await;
    }

    pub async fn open_again(&self) {
        sql(&CLUSTER.postgres.url(), &format!("alter database {} allow_connections true", self.name)).await;
    }

    /// How many attempts of a run are kept.
    pub async fn attempts(&self, run: i64) -> usize {
        self.told(&format!("select number::text from attempts where run_id = {run} and ended <> 'lost'")).await.len()
    }

    pub async fn until(&self, what: &str, mut look: impl AsyncFnMut() -> bool) {
        let since = Instant::now();
        while !look().await {
            assert!(since.elapsed() < LONG, "waited for: {what}");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    /// PostgreSQL refuses each attempt of a run.
    pub async fn refuse_attempts_of(&self, run: i64) {
        self.sql(&format!(
            "create function no_more() returns trigger language plpgsql as $$ begin raise check_violation using message = 'not this one'; end $$;
             create trigger no_more before insert on attempts for each row when (new.run_id = {run}) execute function no_more();"
        ))
        .await;
    }

    /// Waits until something that is written waits for a lock.
    pub async fn writes(&self) {
        let waits =
            "select 'yes' from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'";
        self.until("something is being written", async || !self.told(waits).await.is_empty()).await;
    }

    /// The row of a run once it is over.
    pub async fn over(&self, run: i64) -> RunRow {
        let row = async || self.store.run_of(run).await.unwrap().expect("it is kept");
        self.until("the run is over", async || row().await.verdict.is_some()).await;
        row().await
    }

    /// Keeps a file's content.
    pub async fn blob(&self, content: &str) -> Digest {
        let digest = Digest::of(content.as_bytes());
        self.blobs.take(&digest, content.as_bytes()).await.expect("it is kept");
        digest
    }

    pub async fn hand(&self, name: &str, slots: u16) -> Hand {
        self.hand_holding(name, slots, Vec::new()).await
    }

    pub async fn hand_holding(&self, name: &str, slots: u16, holds: Vec<BatchKey>) -> Hand {
        self.hand_at(&self.floor, name, slots, holds).await
    }

    pub async fn hand_at(&self, floor: &FloorHandle, name: &str, slots: u16, holds: Vec<BatchKey>) -> Hand {
        let link = LINKS.fetch_add(1, Ordering::Relaxed);
        let coming = self.link_to(floor, name, slots, holds, link).await.expect("it may link");
        Hand { floor: floor.clone(), blobs: self.blobs.clone(), link, coming, put_by: VecDeque::new(), number: 0 }
    }

    /// Links a worker of the pool that runs are in.
    pub async fn link_to(
        &self,
        floor: &FloorHandle,
        name: &str,
        slots: u16,
        holds: Vec<BatchKey>,
        link: u64,
    ) -> Result<mpsc::Receiver<ToWorker>, NotLinked> {
        self.link_in("main", floor, name, slots, holds, link).await
    }

    /// Links a worker of some pool.
    pub async fn link_in(
        &self,
        pool: &str,
        floor: &FloorHandle,
        name: &str,
        slots: u16,
        holds: Vec<BatchKey>,
        link: u64,
    ) -> Result<mpsc::Receiver<ToWorker>, NotLinked> {
        let (sender, coming) = mpsc::channel(10_000);
        let mark: String = Digest::of(name.as_bytes()).to_string().chars().take(16).collect();
        let hello = Hello {
            version: VERSION,
            name: name.into(),
            pool: pool.into(),
            slots,
            offers: std::collections::BTreeMap::new(),
            process: mark.clone(),
            home: mark,
            back: !holds.is_empty(),
            holds,
            held_back: Vec::new(),
            listing: Vec::new(),
            ease: false,
            draining: false,
            only_run: None,
        };
        floor.link_up(hello, pool.into(), link, sender).await?;
        Ok(coming)
    }
}

pub fn file(path: &str) -> KeptFile {
    KeptFile { path: path.into(), about: String::new(), digest: nowhere(), bytes: 1 }
}

/// The digest of what nobody has kept.
pub fn nowhere() -> Digest {
    Digest::of(b"nobody has kept this")
}

fn ended(key: BatchKey, entry: u32, ended: Ended) -> WorkerEvent {
    WorkerEvent::Ended(Box::new(AttemptReport {
        key,
        entry,
        ended,
        began_us: 1_700_000_000_000_000,
        ended_us: 1_700_000_000_001_000,
        spent_us: 1000,
        message: String::new(),
        detail: String::new(),
        steps: Vec::new(),
        log: Log::None,
        cases: 0,
        with_start: None,
    }))
}

pub fn passes(key: BatchKey, entry: u32) -> WorkerEvent {
    ended(key, entry, Ended::Passed)
}

/// It passes, and takes this many microseconds.
pub fn passes_in(spent_us: u64, key: BatchKey, entry: u32) -> WorkerEvent {
    match passes(key, entry) {
        WorkerEvent::Ended(report) => WorkerEvent::Ended(Box::new(AttemptReport { spent_us, ..*report })),
        other => other,
    }
}

pub fn fails(key: BatchKey, entry: u32) -> WorkerEvent {
    ended(key, entry, Ended::Failed)
}

/// A worker that is played.
pub struct Hand {
    floor: FloorHandle,
    blobs: Blobs,
    pub link: u64,
    coming: mpsc::Receiver<ToWorker>,
    /// What came while something else was waited for.
    put_by: VecDeque<ToWorker>,
    number: u64,
}

impl Hand {
    /// The next that it is told.
    pub async fn next(&mut self) -> ToWorker {
        self.within(LONG).await.expect("it is told something")
    }

    /// The next that comes within some time.
    async fn within(&mut self, time: Duration) -> Option<ToWorker> {
        if let Some(told) = self.put_by.pop_front() {
            return Some(told);
        }
        tokio::time::timeout(time, self.coming.recv()).await.ok().map(|told| told.expect("its link stays"))
    }

    /// Whether nothing comes within some time.
    pub async fn nothing(&mut self, time: Duration) -> bool {
        self.within(time).await.is_none()
    }

    /// All that it is told until nothing comes for some time.
    pub async fn told_within(&mut self, time: Duration) -> Vec<ToWorker> {
        let mut all = Vec::new();
        while let Some(told) = self.within(time).await {
            all.push(told);
        }
        all
    }

    /// Whether its link ends without a word more.
    pub async fn is_told_nothing_more(&mut self) -> bool {
        self.put_by.is_empty() && matches!(tokio::time::timeout(LONG, self.coming.recv()).await, Ok(None))
    }

    /// The next that it is told that is no acknowledgement.
    pub async fn next_but_stored(&mut self) -> ToWorker {
        loop {
            match self.next().await {
                ToWorker::Stored { .. } => {}
                other => return other,
            }
        }
    }

    /// Whether it is granted nothing within some time.
    pub async fn no_grant(&mut self, within: Duration) -> bool {
        let until = Instant::now() + within;
        while let Some(left) = until.checked_duration_since(Instant::now()) {
            match self.within(left).await {
                None => return true,
                Some(ToWorker::Grant(_)) => return false,
                Some(_) => {}
            }
        }
        true
    }

    /// Reports; tells the report's number.
    pub async fn report(&mut self, events: Vec<WorkerEvent>) -> u64 {
        self.number += 1;
        self.floor.link_message(self.link, FromWorker::Report { number: self.number, events }).await;
        self.number
    }

    /// Waits until a report is acknowledged.
    pub async fn stored(&mut self, wanted: u64) {
        let mut others = VecDeque::new();
        loop {
            match self.next().await {
                ToWorker::Stored { number } if number >= wanted => break,
                ToWorker::Stored { .. } => {}
                other => others.push_back(other),
            }
        }
        others.append(&mut self.put_by);
        self.put_by = others;
    }

    /// Waits for a batch.
    pub async fn granted(&mut self) -> Grant {
        loop {
            match self.next().await {
                ToWorker::Grant(grant) => return *grant,
                ToWorker::Stored { .. } => {}
                other => panic!("not granted but told: {other:?}"),
            }
        }
    }

    /// Makes the list that it is asked for.
    pub async fn list(&mut self, names: &[&str]) {
        let content = names.join("\n");
        let digest = Digest::of(content.as_bytes());
        self.blobs.take(&digest, content.as_bytes()).await.expect("it is kept");
        self.answers_list(Ok(digest)).await;
    }

    pub async fn answers_list(&mut self, result: Result<Digest, String>) {
        loop {
            match self.next().await {
                ToWorker::List(job) => {
                    let listed = WorkerEvent::Listed { job: job.job, result, image: None, files: Vec::new() };
                    self.report(vec![listed]).await;
                    return;
                }
                ToWorker::Stored { .. } => {}
                other => panic!("not asked for a list but told: {other:?}"),
            }
        }
    }

    /// One of two makes the list.
    pub async fn list_or(&mut self, other: &mut Self, names: &[&str]) {
        let mine = tokio::select! {
            told = self.coming.recv() => Ok(told),
            told = other.coming.recv() => Err(told),
        };
        let (hand, told) = match mine {
            Ok(told) => (self, told),
            Err(told) => (other, told),
        };
        let Some(ToWorker::List(job)) = told else { panic!("not asked for a list but told: {told:?}") };
        let content = names.join("\n");
        let digest = Digest::of(content.as_bytes());
        hand.blobs.take(&digest, content.as_bytes()).await.expect("it is kept");
        hand.report(vec![WorkerEvent::Listed { job: job.job, result: Ok(digest), image: None, files: Vec::new() }])
            .await;
    }

    /// Of two workers first the one that is granted a batch.
    pub async fn who_is_granted(mut one: Self, mut other: Self) -> (Self, Self, Grant) {
        loop {
            let (told, first) = tokio::select! {
                told = one.coming.recv() => (told, true),
                told = other.coming.recv() => (told, false),
            };
            if let Some(ToWorker::Grant(grant)) = told {
                return if first { (one, other, *grant) } else { (other, one, *grant) };
            }
        }
    }

    /// Runs all that it is given until a run is over.
    pub async fn work_until(&mut self, bed: &Bed, run: i64, good: impl Fn(u32) -> bool) {
        let since = Instant::now();
        while bed.store.run_of(run).await.unwrap().expect("it is kept").verdict.is_none() {
            assert!(since.elapsed() < LONG, "the run does not come to its end");
            self.work(&good).await;
        }
    }

    /// The same of two workers.
    pub async fn both_until(one: &mut Self, other: &mut Self, bed: &Bed, run: i64) {
        let since = Instant::now();
        while bed.store.run_of(run).await.unwrap().expect("it is kept").verdict.is_none() {
            assert!(since.elapsed() < LONG, "the run does not come to its end");
            one.work(&|_| true).await;
            other.work(&|_| true).await;
        }
    }

    /// Runs what it is given within a moment.
    async fn work(&mut self, good: &impl Fn(u32) -> bool) {
        while let Some(told) = self.within(Duration::from_millis(20)).await {
            let ToWorker::Grant(grant) = told else { continue };
            let of = |entry: u32| if good(entry) { passes(grant.key, entry) } else { fails(grant.key, entry) };
            let mut events: Vec<WorkerEvent> = grant.entries.iter().map(|entry| of(entry.index)).collect();
            events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
            self.report(events).await;
        }
    }
}
