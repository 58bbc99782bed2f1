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
    link::{AttemptReport, BatchKey, FromWorker, Hello, Log, ToWorker, VERSION, WorkerEvent},
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
    /// Tests that its list has.
    tests: u32,
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
        let lost = Arc::new(AtomicU64::new(0));
        let mut tasks = Vec::new();
        for number in 0..way.workers {
            let worker = Simulated {
                url: quay.client.url().trim_end_matches('/').to_owned(),
                token: quay.worker_token().to_owned(),
                name: format!("s{number}"),
                way,
                slots: (0..way.slots).map(|_| Slot::default()).collect(),
                unstored: VecDeque::new(),
                number: 0,
            };
            tasks.push(tokio::spawn(worker.work(Arc::clone(&lost))));
        }
        let since = Instant::now();
        while quay.workers().await < usize::from(way.workers) {
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
    url: String,
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
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
    }

    async fn open(&self, back: bool) -> Result<Socket, Box<dyn std::error::Error + Send + Sync>> {
        let mut request = format!("{}/api/work/link", self.url.replace("http://", "ws://")).into_client_request()?;
        request.headers_mut().insert("Authorization", HeaderValue::from_str(&format!("Bearer {}", self.token))?);
        let (mut socket, _) = tokio_tungstenite::connect_async(request).await?;
        let hello = Hello {
            version: VERSION,
            name: self.name.clone(),
            pool: "main".into(),
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
                let list: String = (0..self.way.tests).map(|n| format!("t/{n}\n")).collect();
                let digest = Digest::of(list.as_bytes());
                let put = reqwest::Client::new().put(format!("{}/api/work/blobs/{}", self.url, digest.as_str()));
                let put = put.bearer_auth(&self.token).body(list).send().await.expect("it is taken");
                assert!(put.status().is_success(), "{}", put.status());
                events.push(WorkerEvent::Listed { job: job.job, result: Ok(digest), image: None, files: Vec::new() });
            }
            ToWorker::GiveBack { key } => {
                for slot in self.slots.iter_mut().filter(|slot| slot.key == Some(key)) {
                    events.push(WorkerEvent::GaveBack { key, entries: slot.queue.drain(..).collect() });
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

/// 1,000 workers with 10,000 slots: how many results a second are kept and shown, how late, in what memory, and how many links are lost.
/// A minute long; `KESMO_BENCH_SECONDS` makes it longer.
pub fn fleet(runtime: &Runtime) -> Vec<Line> {
    let seconds = std::env::var("KESMO_BENCH_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(60u32);
    runtime.block_on(async {
        let quay = Quay::open(0, 0).await;
        let way = Way { workers: 1000, slots: 10, tests: (seconds * 5000).min(500_000), takes: 1_900_000 };
        let fleet = Fleet::link(&quay, way).await;
        let bundle = quay.suite("fleet", way.tests, 0).await;
        let (mut late, mut first, mut last) = (Vec::new(), i64::MAX, 0);
        for _ in 0..(seconds * 5000).div_ceil(way.tests) {
            quay.wait(&bundle, |change, at| {
                first = first.min(at);
                last = at;
                late.extend(change.attempts.iter().map(|a| (at - a.ended_at_us) as f64 / 1000.0));
            })
            .await;
        }
        late.sort_by(f64::total_cmp);
        let took = (last - first) as f64 / 1e6;
        let rate = f64::from(way.tests * (seconds * 5000).div_ceil(way.tests)) / took;
        let lost = fleet.lost.load(Ordering::Relaxed);
        vec![
            Line {
                what: "1,000 simulated workers, 10,000 slots, tests of 1 to 3 s: 5,000 results a second, by what is kept and shown",
                measured: format!("{rate:.0} a second over {took:.0} s, tails included"),
                compared_with: "10,000 slots, 1.9 s a test: 5,263 a second".into(),
                figure: 5000.0 / rate,
                bound: 1.0,
                unit: "",
            },
            Line {
                what: "that run: from a test's end in the worker to the watcher, 99th percentile",
                measured: format!("{} of the results, as many as are told one by one", late.len()),
                compared_with: "a clock".into(),
                figure: late[late.len() * 99 / 100],
                bound: 250.0,
                unit: " ms",
            },
            Line {
                what: "that run: the service's memory",
                measured: "the most it had (VmHWM)".into(),
                compared_with: "nothing".into(),
                figure: quay.most_memory(),
                bound: 600.0,
                unit: " MiB",
            },
            Line {
                what: "that run: links lost",
                measured: format!("of 1,000, over {took:.0} s"),
                compared_with: "none".into(),
                figure: lost as f64,
                bound: 0.0,
                unit: "",
            },
        ]
    })
}

/// Results of tests that take no time, as fast as they are kept, against the same rows written by PostgreSQL's own COPY in batches.
pub fn rows(runtime: &Runtime) -> Vec<Line> {
    const TESTS: u32 = 200_000;
    runtime.block_on(async {
        let quay = Quay::open(0, 0).await;
        let way = Way { workers: 4, slots: 10, tests: TESTS, takes: 0 };
        let _fleet = Fleet::link(&quay, way).await;
        let bundle = quay.suite("rows", TESTS, 0).await;
        let mut kept = Vec::new();
        for _ in 0..3 {
            let (mut first, mut last) = (i64::MAX, 0);
            quay.wait(&bundle, |change, at| {
                if !change.strip.is_empty() {
                    (first, last) = (first.min(at), at);
                }
            })
            .await;
            kept.push(f64::from(TESTS) / ((last - first) as f64 / 1e6));
        }
        let rate = median(kept);
        let alone = alone(&quay, TESTS);
        vec![Line {
            what: "rows of results kept a second, and shown to a watcher",
            measured: format!("{rate:.0} a second (median of 3 runs of {TESTS})"),
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
