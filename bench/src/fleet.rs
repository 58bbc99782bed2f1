//! Growth: simulated workers on real links, a thousand of them or some that do nothing but tell; what is kept of that against PostgreSQL
//! alone; and a sweep while a run goes on.

use std::{
    collections::VecDeque,
    path::Path,
    process::Command,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use futures::{SinkExt, StreamExt};
use kesmo_core::{run::BatchEnd, words::Ended};
use kesmo_wire::{
    Digest,
    api::Run,
    link::{AttemptReport, BatchKey, FromWorker, Hello, Log, ToWorker, VERSION, WorkerEvent},
    live::RunChange,
};
use tokio::{runtime::Runtime, task::JoinHandle};
use tokio_tungstenite::tungstenite::{Message, client::IntoClientRequest, http::HeaderValue};

use crate::{
    Line,
    floor::median,
    quay::{Quay, now_us},
};

/// How a simulated fleet works.
#[derive(Debug, Clone, Copy)]
struct Way {
    workers: u16,
    slots: u16,
    /// What a test takes on average, in microseconds: half to one and a half of it.
    takes: u64,
}

/// Workers that are simulated, but for their links.
struct Fleet {
    tasks: Vec<JoinHandle<()>>,
    lost: Arc<AtomicU64>,
}

impl Fleet {
    /// Links them all.
    async fn link(quay: &Quay, way: Way) -> Self {
        Self::link_to(quay, way, "main", &[quay.client.url().to_owned()]).await
    }

    /// Links them all as workers of a pool, to the first of some services that takes them.
    async fn link_to(quay: &Quay, way: Way, pool: &str, urls: &[String]) -> Self {
        let before = quay.workers().await;
        let lost = Arc::new(AtomicU64::new(0));
        let mut tasks = Vec::new();
        for number in 0..way.workers {
            let worker = Simulated {
                urls: urls.iter().map(|url| url.trim_end_matches('/').to_owned()).collect(),
                pool: pool.to_owned(),
                token: quay.worker_token().to_owned(),
                name: format!("{pool}{number}"),
                way,
                slots: (0..way.slots).map(|_| Slot::default()).collect(),
                unstored: VecDeque::new(),
                number: 0,
            };
            tasks.push(tokio::spawn(worker.work(Arc::clone(&lost))));
        }
        let since = Instant::now();
        while quay.workers().await < before + usize::from(way.workers) {
            assert!(since.elapsed() < Duration::from_secs(120), "they do not all come");
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        Self { tasks, lost }
    }
}

impl Drop for Fleet {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

#[derive(Default)]
struct Slot {
    key: Option<BatchKey>,
    queue: VecDeque<u32>,
    /// What runs: its entry, when it began and when it ends, in microseconds since 1970.
    runs: Option<(u32, i64, i64)>,
}

struct Simulated {
    /// The services, first the one that it links to.
    urls: VecDeque<String>,
    pool: String,
    token: String,
    name: String,
    way: Way,
    slots: Vec<Slot>,
    /// Reports that the service has not said it stored.
    unstored: VecDeque<(u64, Vec<WorkerEvent>)>,
    number: u64,
}

type Socket = tokio_tungstenite::WebSocketStream<tokio_tungstenite::MaybeTlsStream<tokio::net::TcpStream>>;

impl Simulated {
    async fn work(mut self, lost: Arc<AtomicU64>) {
        let mut back = false;
        loop {
            if let Ok(mut socket) = self.open(back).await {
                back = true;
                self.stay(&mut socket).await;
                lost.fetch_add(1, Ordering::Relaxed);
            }
            self.urls.rotate_left(1);
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
    }

    async fn open(&self, back: bool) -> Result<Socket, Box<dyn std::error::Error + Send + Sync>> {
        let mut request =
            format!("{}/api/work/link", self.urls[0].replace("http://", "ws://")).into_client_request()?;
        request.headers_mut().insert("Authorization", HeaderValue::from_str(&format!("Bearer {}", self.token))?);
        let (mut socket, _) = tokio_tungstenite::connect_async(request).await?;
        let hello = Hello {
            version: VERSION,
            name: self.name.clone(),
            pool: self.pool.clone(),
            slots: self.way.slots,
            offers: std::collections::BTreeMap::new(),
            process: mark("process", &self.name),
            home: mark("home", &self.name),
            holds: self.slots.iter().filter_map(|slot| slot.key).collect(),
            held_back: Vec::new(),
            listing: Vec::new(),
            ease: false,
            draining: false,
            only_run: None,
            back,
        };
        say(&mut socket, &FromWorker::Hello(hello)).await?;
        for (number, events) in &self.unstored {
            say(&mut socket, &FromWorker::Report { number: *number, events: events.clone() }).await?;
        }
        Ok(socket)
    }

    /// Works until the link is lost.
    async fn stay(&mut self, socket: &mut Socket) {
        let mut ping = tokio::time::interval(Duration::from_secs(3));
        loop {
            let mut events = Vec::new();
            self.ends(&mut events);
            if !events.is_empty() {
                self.number += 1;
                self.unstored.push_back((self.number, events.clone()));
                if say(socket, &FromWorker::Report { number: self.number, events }).await.is_err() {
                    return;
                }
            }
            let next = self.slots.iter().filter_map(|slot| slot.runs.map(|(_, _, ends)| ends)).min();
            let wait =
                next.map_or(Duration::from_secs(3600), |at| Duration::from_micros((at - now_us()).max(0) as u64));
            tokio::select! {
                message = socket.next() => match message {
                    Some(Ok(Message::Text(text))) => {
                        let said: ToWorker = serde_json::from_str(&text).expect("a message");
                        if !self.hear(said, socket).await {
                            return;
                        }
                    }
                    Some(Ok(_)) => {}
                    Some(Err(_)) | None => return,
                },
                () = tokio::time::sleep(wait) => {}
                _ = ping.tick() => if socket.send(Message::Ping(Vec::new())).await.is_err() { return },
            }
        }
    }

    /// Hears one message; false if the link is over.
    async fn hear(&mut self, said: ToWorker, socket: &mut Socket) -> bool {
        let mut events = Vec::new();
        match said {
            ToWorker::Stored { number } => {
                while self.unstored.front().is_some_and(|(n, _)| *n <= number) {
                    self.unstored.pop_front();
                }
            }
            ToWorker::Grant(grant) => {
                let slot = &mut self.slots[usize::from(grant.slot)];
                slot.key = Some(grant.key);
                slot.queue = grant.entries.iter().map(|entry| entry.index).collect();
                begin(slot, now_us(), self.way, &mut events);
            }
            ToWorker::List(job) => {
                let tests: u32 = job.setup.settings["tests"].parse().expect("a suite says how many tests it has");
                let list: String = (0..tests).map(|n| format!("t/{n}\n")).collect();
                let digest = Digest::of(list.as_bytes());
                let put = reqwest::Client::new().put(format!("{}/api/work/blobs/{}", self.urls[0], digest.as_str()));
                let put = put.bearer_auth(&self.token).body(list).send().await.expect("it is taken");
                assert!(put.status().is_success(), "{}", put.status());
                events.push(WorkerEvent::Listed { job: job.job, result: Ok(digest), image: None, files: Vec::new() });
            }
            ToWorker::GiveBack { key, from } => {
                for slot in self.slots.iter_mut().filter(|slot| slot.key == Some(key)) {
                    let kept = from.and_then(|from| slot.queue.iter().position(|entry| *entry == from)).unwrap_or(0);
                    events.push(WorkerEvent::GaveBack { key, entries: slot.queue.drain(kept..).collect() });
                }
            }
            ToWorker::Revoke { key } => {
                for slot in self.slots.iter_mut().filter(|slot| slot.key == Some(key)) {
                    *slot = Slot::default();
                    events.push(WorkerEvent::BatchEnded { key, end: BatchEnd::Revoked });
                }
            }
            ToWorker::Refused { message } => panic!("{}: {message}", self.name),
            ToWorker::Later { .. } | ToWorker::Elsewhere { .. } | ToWorker::Retire => return false,
            ToWorker::Welcome { .. }
            | ToWorker::Drain { .. }
            | ToWorker::Follow { .. }
            | ToWorker::Feed { .. }
            | ToWorker::Begin { .. } => {}
        }
        if events.is_empty() {
            return true;
        }
        self.number += 1;
        self.unstored.push_back((self.number, events.clone()));
        say(socket, &FromWorker::Report { number: self.number, events }).await.is_ok()
    }

    /// What has ended by now, and what began after it.
    fn ends(&mut self, events: &mut Vec<WorkerEvent>) {
        let now = now_us();
        for slot in &mut self.slots {
            let Some(key) = slot.key else { continue };
            while let Some((entry, began, ends)) = slot.runs.filter(|(_, _, ends)| *ends <= now) {
                events.push(WorkerEvent::Ended(Box::new(AttemptReport {
                    key,
                    entry,
                    ended: Ended::Passed,
                    began_us: began,
                    ended_us: ends,
                    spent_us: (ends - began).max(0) as u64,
                    message: String::new(),
                    detail: String::new(),
                    steps: Vec::new(),
                    log: Log::Text("ok\n".into()),
                    cases: 0,
                    with_start: None,
                })));
                slot.runs = None;
                begin(slot, ends, self.way, events);
            }
            if slot.runs.is_none() && slot.queue.is_empty() {
                slot.key = None;
                events.push(WorkerEvent::BatchEnded { key, end: BatchEnd::Done });
            }
        }
    }
}

/// What tells a process, or a home, from others.
fn mark(what: &str, name: &str) -> String {
    Digest::of(format!("{what} of {name}").as_bytes()).as_str()[..16].to_owned()
}

/// Begins the next of a slot.
fn begin(slot: &mut Slot, at: i64, way: Way, events: &mut Vec<WorkerEvent>) {
    let (Some(key), Some(entry)) = (slot.key, slot.queue.pop_front()) else { return };
    // The same for the same test, and spread evenly: Knuth's multiplicative hash.
    let drawn = (u64::from(entry.wrapping_mul(2_654_435_769)) * way.takes) >> 32;
    slot.runs = Some((entry, at, at + (way.takes / 2 + drawn) as i64));
    events.push(WorkerEvent::Began { key, entry, at_us: at });
}

async fn say(socket: &mut Socket, message: &FromWorker) -> Result<(), tokio_tungstenite::tungstenite::Error> {
    socket.send(Message::Text(serde_json::to_string(message).expect("it can be written"))).await
}

/// Suites of that many tests, of which so many runs go on beside each other, one after the other.
const TESTS: u32 = 50_000;
const BESIDE: u32 = 3;

/// How many runs go on beside each other: `KESMO_BENCH_BESIDE` makes it more or fewer.
fn beside() -> u32 {
    asked_for("KESMO_BENCH_BESIDE").unwrap_or(BESIDE)
}

/// How long the fleet is measured: a minute; `KESMO_BENCH_SECONDS` makes it longer.
fn seconds() -> u32 {
    asked_for("KESMO_BENCH_SECONDS").unwrap_or(60)
}

fn asked_for(variable: &str) -> Option<u32> {
    std::env::var(variable).ok()?.parse().ok()
}

/// How late results came to their watcher, in milliseconds: of those that are told one by one, which are spread evenly over all that a
/// change tells; each stands for as many as were not.
#[derive(Default)]
struct Lateness(Vec<(f64, f64)>);

impl Lateness {
    /// Takes the results of a change that came at this time, in microseconds since 1970.
    fn take(&mut self, change: &RunChange, at: i64) {
        let told = change.attempts.len() as f64;
        let each = (told + f64::from(change.left_out)) / told;
        self.0.extend(change.attempts.iter().map(|a| ((at - a.ended_at_us) as f64 / 1000.0, each)));
    }

    /// What 99 of 100 results are not later than; and of how many that is, and how many were told.
    fn worst(&mut self) -> (f64, String) {
        self.0.sort_by(|a, b| a.0.total_cmp(&b.0));
        let all: f64 = self.0.iter().map(|(_, each)| each).sum();
        let mut left = all / 100.0;
        let later = self.0.iter().rev().find(|(_, each)| {
            left -= each;
            left < 0.0
        });
        (
            later.map_or(0.0, |(late, _)| *late),
            format!("{all:.0} results, by {} that are told one by one", self.0.len()),
        )
    }
}

/// What the watcher of a lane saw.
struct Seen {
    late: Lateness,
    /// How many tests passed, as its runs said at their ends.
    passed: u32,
    /// When the first and the last change came, in microseconds since 1970.
    first: i64,
    last: i64,
}

/// Runs one after the other.
async fn one_after_the_other(quay: &Quay, pool: &str, bundles: &[String]) -> Seen {
    let mut seen = Seen { late: Lateness::default(), passed: 0, first: i64::MAX, last: 0 };
    for bundle in bundles {
        let mut passed = 0;
        quay.stay_in(pool, bundle, |change, at| {
            (seen.first, seen.last) = (seen.first.min(at), at);
            seen.late.take(change, at);
            passed = change.summary.tally.passed;
        })
        .await;
        seen.passed += passed;
    }
    seen
}

/// The runs of each of so many lanes. The first runs are of different sizes, so that a fleet is not left without work by all lanes ending
/// at the same time, as they would again and again where slots are shared evenly.
async fn lanes(quay: &Quay, name: &str, lanes: u32, runs: u32) -> Vec<Vec<String>> {
    let mut all = Vec::new();
    for lane in 0..lanes {
        let tests = TESTS * (lane + 1) / lanes;
        let first = quay.suite(&format!("{name}-{lane}-first"), tests, 0).await;
        let then = quay.suite(&format!("{name}-{lane}"), TESTS, 0).await;
        all.push(std::iter::once(first).chain(std::iter::repeat_n(then, runs as usize - 1)).collect());
    }
    all
}

/// 1,000 workers with 10,000 slots: how many results a second are kept and shown, how late, in what memory, and how many links are lost.
pub fn fleet(runtime: &Runtime) -> Vec<Line> {
    let beside = beside();
    let runs = (seconds() * 5000).div_ceil(TESTS * beside);
    runtime.block_on(async {
        let quay = Quay::open(0, 0).await;
        let way = Way { workers: 1000, slots: 10, takes: 1_900_000 };
        let fleet = Fleet::link(&quay, way).await;
        let bundles = lanes(&quay, "fleet", beside, runs).await;
        let each = bundles.iter().map(|bundles| one_after_the_other(&quay, "main", bundles));
        let told = futures::future::join_all(each).await;
        let first = told.iter().map(|seen| seen.first).min().unwrap_or(0);
        let last = told.iter().map(|seen| seen.last).max().unwrap_or(0);
        let passed: u32 = told.iter().map(|seen| seen.passed).sum();
        let mut late = Lateness(told.into_iter().flat_map(|seen| seen.late.0).collect());
        let (worst, of) = late.worst();
        let took = (last - first) as f64 / 1e6;
        let rate = f64::from(passed) / took;
        let lost = fleet.lost.load(Ordering::Relaxed);
        vec![
            Line {
                what: "1,000 simulated workers, 10,000 slots, tests of 1 to 3 s: 5,000 results a second, by what is kept and shown",
                measured: format!(
                    "{rate:.0} a second over {took:.0} s: {passed} tests, starts and tails of {} runs of {TESTS} (the first ones smaller) included, {beside} at a time",
                    beside * runs
                ),
                compared_with: "10,000 slots, 1.9 s a test: 5,263 a second".into(),
                figure: 5000.0 / rate,
                bound: 1.0,
                unit: "",
            },
            Line {
                what: "those runs: from a test's end in the worker to the watcher, 99th percentile",
                measured: of,
                compared_with: "a clock".into(),
                figure: worst,
                bound: 250.0,
                unit: " ms",
            },
            Line {
                what: "those runs: the service's memory",
                measured: "the most it had (VmHWM)".into(),
                compared_with: "nothing".into(),
                figure: quay.most_memory(),
                bound: 600.0,
                unit: " MiB",
            },
            Line {
                what: "those runs: links lost",
                measured: format!("of 1,000, over {took:.0} s"),
                compared_with: "none".into(),
                figure: lost as f64,
                bound: 0.0,
                unit: "",
            },
        ]
    })
}

/// The same with two services on one PostgreSQL, each with half of the workers in a pool of its own; the watchers of both runs ask
/// one of them. In the middle of another pair of runs one service is killed.
pub fn fleets(runtime: &Runtime) -> Vec<Line> {
    let runs = (seconds() * 5000).div_ceil(TESTS * 4);
    runtime.block_on(async {
        let mut quay = Quay::open(0, 0).await;
        let (one, two) = (quay.client.url().to_owned(), quay.second());
        let way = Way { workers: 500, slots: 10, takes: 1_900_000 };
        let near = Fleet::link_to(&quay, way, "main", &[one.clone(), two.clone()]).await;
        let far = Fleet::link_to(&quay, way, "far", &[two, one]).await;
        let mut bundles = lanes(&quay, "fleets-near", 2, runs).await;
        bundles.extend(lanes(&quay, "fleets-far", 2, runs).await);
        let began = Instant::now();
        let pools = ["main", "main", "far", "far"];
        let each = bundles.iter().zip(pools).map(|(bundles, pool)| one_after_the_other(&quay, pool, bundles));
        let told = futures::future::join_all(each).await;
        let took = began.elapsed().as_secs_f64();
        let mut lates = [Lateness::default(), Lateness::default()];
        let passed: u32 = told.iter().map(|seen| seen.passed).sum();
        for (seen, pool) in told.into_iter().zip(pools) {
            lates[usize::from(pool == "far")].0.extend(seen.late.0);
        }
        let rate = f64::from(passed) / took;
        let lost = near.lost.load(Ordering::Relaxed) + far.lost.load(Ordering::Relaxed);
        let memory = quay.memory_of(0).max(quay.memory_of(1));
        let mut lines = vec![Line {
            what: "two services, 500 simulated workers each, 10,000 slots: 5,000 results a second together",
            measured: format!("{rate:.0} a second over {took:.0} s: {passed} tests, starts and tails included"),
            compared_with: "10,000 slots, 1.9 s a test: 5,263 a second".into(),
            figure: 5000.0 / rate,
            bound: 1.0,
            unit: "",
        }];
        for (of, what) in [
            (0, "those runs: from a test's end in the worker to the watcher at its own service, 99th percentile"),
            (1, "those runs: to the watcher at the other service"),
        ] {
            let (worst, results) = lates[of].worst();
            lines.push(Line {
                what,
                measured: results,
                compared_with: "a clock".into(),
                figure: worst,
                bound: 250.0,
                unit: " ms",
            });
        }
        let line = |what, measured: String, compared_with: &str, figure, bound, unit| Line {
            what,
            measured,
            compared_with: compared_with.into(),
            figure,
            bound,
            unit,
        };
        lines.push(line(
            "those runs: the memory of the larger service",
            "the most it had (VmHWM)".into(),
            "nothing",
            memory,
            600.0,
            " MiB",
        ));
        lines.push(line("those runs: links lost", format!("of 1,000, over {took:.0} s"), "none", lost as f64, 0.0, ""));
        // One service is killed while both have a run.
        let (near_one, far_one) = (&bundles[1][0], &bundles[3][0]);
        let runs = [quay.start(near_one).await, quay.start_in("far", far_one).await];
        while stands(&quay, &runs[1]).await.0 < TESTS / 4 {
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        quay.kill_second();
        let killed = Instant::now();
        // What was on its way to PostgreSQL when the service died is there by then.
        tokio::time::sleep(Duration::from_secs(1)).await;
        let before = quay.sql(OF_FAR).trim().parse::<u32>().expect("a count");
        let mut gap = None;
        loop {
            let stand = [stands(&quay, &runs[0]).await, stands(&quay, &runs[1]).await];
            let kept = quay.sql(OF_FAR).trim().parse::<u32>().expect("a count");
            if gap.is_none() && kept > before {
                gap = Some(killed.elapsed().as_secs_f64());
            }
            if stand.iter().all(|(_, verdict)| verdict.is_some()) {
                assert!(stand.iter().all(|(passed, _)| *passed == TESTS), "{stand:?}");
                break;
            }
            assert!(killed.elapsed().as_secs() < 300, "it is not carried on: {stand:?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let doubled: f64 = quay.sql(DOUBLED).trim().parse().expect("a count");
        let missing: f64 = quay.sql(&MISSING.replace("$tests", &TESTS.to_string())).trim().parse().expect("a count");
        lines.push(line(
            "one of them is killed in the middle of both runs: until results of its run are kept again",
            "by what is kept; its workers link to the other service by themselves".into(),
            "a clock",
            gap.unwrap_or(f64::INFINITY),
            10.0,
            " s",
        ));
        lines.push(line(
            "those runs: results lost or doubled",
            format!("of {}, both passed", 2 * TESTS),
            "none",
            doubled + missing,
            0.0,
            "",
        ));
        lines
    })
}

/// How many of a run's tests passed, and its verdict.
async fn stands(quay: &Quay, run: &Run) -> (u32, Option<kesmo_core::words::Verdict>) {
    let now: Run = quay.client.get(&format!("/api/runs/{}", run.summary.name), &[]).await.expect("the run");
    (now.summary.tally.passed, now.summary.verdict)
}

/// Results of the latest run of the far pool; tests of the latest two runs with two that count; and without one.
const OF_FAR: &str = "select count(*) from attempts where run_id = (select max(id) from runs where pool = 'far')";
const DOUBLED: &str = "select count(*) from (select run_id, entry from attempts where run_id in (select id from runs order by id desc \
    limit 2) and ended <> 'lost' group by run_id, entry having count(*) > 1) as twice";
const MISSING: &str = "select 2 * $tests - count(*) from (select distinct run_id, entry from attempts where run_id in (select id from \
    runs order by id desc limit 2) and ended = 'passed') as once";

/// Results of tests that take no time, as fast as they are kept, against the same rows written by PostgreSQL's own COPY in batches.
pub fn rows(runtime: &Runtime) -> Vec<Line> {
    const TELLING: u32 = 200_000;
    runtime.block_on(async {
        let quay = Quay::open(0, 0).await;
        let way = Way { workers: 4, slots: 10, takes: 0 };
        let _fleet = Fleet::link(&quay, way).await;
        let bundle = quay.suite("rows", TELLING, 0).await;
        let mut kept = Vec::new();
        for _ in 0..3 {
            let (mut first, mut last) = (i64::MAX, 0);
            quay.wait(&bundle, |change, at| {
                if !change.strip.is_empty() {
                    (first, last) = (first.min(at), at);
                }
            })
            .await;
            kept.push(f64::from(TELLING) / ((last - first) as f64 / 1e6));
        }
        let rate = median(kept);
        let alone = alone(&quay, TELLING);
        vec![Line {
            what: "rows of results kept a second, and shown to a watcher",
            measured: format!("{rate:.0} a second (median of 3 runs of {TELLING})"),
            compared_with: format!("{alone:.0} a second: COPY of the same rows by 1,000 into a table of the same kind"),
            // The share of it, so that less is better: 0.3 of what PostgreSQL takes is 3.33.
            figure: alone / rate,
            bound: 3.33,
            unit: "",
        }]
    })
}

/// How many of the last run's rows PostgreSQL itself takes in a second, in batches of 1,000, each a transaction.
fn alone(quay: &Quay, tests: u32) -> f64 {
    let folder = quay.dir.path().join("rows");
    std::fs::create_dir(&folder).expect("a folder");
    let all = folder.join("all");
    quay.sql(&format!(
        "create table alone (like attempts including all);\n\
         \\copy (select * from attempts where run_id = (select max(run_id) from attempts)) to '{}'",
        all.display()
    ));
    let split = Command::new("split").args(["-l", "1000", "-a", "4"]).arg(&all).arg(folder.join("part-")).status();
    assert!(split.expect("split runs").success());
    let mut parts: Vec<_> = std::fs::read_dir(&folder).expect("a folder").flatten().map(|entry| entry.path()).collect();
    parts.retain(|path| path != &all);
    parts.sort();
    let copy = |path: &Path| format!("\\copy alone from '{}'\n", path.display());
    let statements: String = parts.iter().map(|path| copy(path)).collect();
    let began = Instant::now();
    quay.sql(&statements);
    f64::from(tests) / began.elapsed().as_secs_f64()
}

/// A sweep that removes a month of 1,000,000 attempts and 200,000 files while a run goes on, against the same run without one.
pub fn sweeping(runtime: &Runtime) -> Vec<Line> {
    const FILES: u32 = 200_000;
    const ROUNDS: usize = 3;
    runtime.block_on(async {
        let quay = Quay::open(2, 4).await;
        let bundle = quay.suite("beside", 1600, 100_000).await;
        quay.wait(&bundle, |_, _| ()).await;
        let (mut alone, mut beside, mut swept) = (Vec::new(), Vec::new(), Vec::new());
        for round in 0..ROUNDS {
            alone.push(quay.wait(&bundle, |_, _| ()).await);
            crate::history::make_old(&quay, round, 500, 2000);
            files(&quay, round, FILES);
            let rule = serde_json::json!({ "rule": { "what": "runs", "suite": "old-*", "count": 1 }, "replace": true });
            let _: serde_json::Value = quay.client.put("/api/keep/old", &rule).await.expect("a rule");
            let client = quay.client.clone();
            let sweep = tokio::spawn(async move {
                let began = Instant::now();
                let said: serde_json::Value =
                    client.post("/api/sweep", &serde_json::json!({})).await.expect("it sweeps");
                (began.elapsed().as_secs_f64(), said["said"].as_str().unwrap_or_default().to_owned())
            });
            beside.push(quay.wait(&bundle, |_, _| ()).await);
            swept.push(sweep.await.expect("it ends"));
        }
        let longest = swept.iter().map(|(took, _)| *took).fold(0.0, f64::max);
        let (alone, beside) = (median(alone), median(beside));
        vec![Line {
            what: "a run while a sweep removes 1,000,000 attempts and 200,000 files",
            measured: format!("{beside:.2} s (median of {ROUNDS}); the sweep took {longest:.1} s: {}", swept[0].1),
            compared_with: format!("{alone:.2} s without"),
            figure: beside / alone,
            bound: 1.05,
            unit: "",
        }]
    })
}

/// Files that nothing needs, and that are old enough to go.
fn files(quay: &Quay, round: usize, count: u32) {
    let blobs = quay.dir.path().join("service/blobs");
    let script = r#"
import hashlib, os, sys
root, round, count = sys.argv[1], sys.argv[2], int(sys.argv[3])
old = __import__("time").time() - 40 * 86400
for n in range(count):
    content = f"{round} {n}".encode()
    digest = hashlib.sha256(content).hexdigest()
    folder = os.path.join(root, digest[:2])
    os.makedirs(folder, exist_ok=True)
    path = os.path.join(folder, digest[2:])
    with open(path, "wb") as file: file.write(content)
    os.utime(path, (old, old))
"#;
    let made =
        Command::new("python3").args(["-c", script]).arg(&blobs).args([round.to_string(), count.to_string()]).status();
    assert!(made.expect("python runs").success());
}
