//! Exactly once: two services on one database, killed without warning around the moment at which something is to start. Each
//! planned start, each delivery and each new commit starts one run, and no more.
//!
//! The moments are drawn from a seed. `KESMO_TRIALS` asks for more trials than a usual run of the tests makes.

use std::{
    collections::BTreeMap,
    fs,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use kesmo_database::Postgres;
use serde_json::Value;

use crate::{
    network::Network,
    quay::{Clock, Process, Quay, Repo, all_said, psql, text, until},
};

/// Draws by a linear congruential generator (D. E. Knuth's MMIX): the same for a seed.
struct Draw(u64);

impl Draw {
    fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % bound
    }
}

fn trials(usual: usize) -> usize {
    std::env::var("KESMO_TRIALS").ok().and_then(|n| n.parse().ok()).unwrap_or(usual).max(1)
}

/// Two services on one database.
pub struct Twins {
    pub both: [Quay; 2],
    clock: Clock,
    postgres: Option<Postgres>,
    pub dir: tempfile::TempDir,
    pub token: String,
}

impl Twins {
    pub fn open(start: &str) -> Self {
        Self::with_patience(start, "2s")
    }

    fn with_patience(start: &str, patience: &'static str) -> Self {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().expect("a folder");
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).expect("its rights");
        let postgres = Postgres::start(dir.path()).expect("PostgreSQL runs");
        let clock = Clock::new(dir.path().join("clock"), start);
        let blobs = dir.path().join("blobs");
        let one = || Quay::sharing(patience, &postgres.url(), &blobs, &clock);
        let first = one();
        let token = first.token();
        let second = one();
        Self { both: [first, second], clock, postgres: Some(postgres), dir, token }
    }

    /// A service that runs.
    fn up(&self) -> &Quay {
        self.both.iter().find(|q| q.is_up()).expect("one of them runs")
    }

    /// Calls one of them, until one answers.
    pub fn kesmo(&self, words: &[&str]) -> std::process::Output {
        until("a service answers", || {
            let output = self.up().kesmo_as(&self.token, words);
            (output.status.code() != Some(12)).then_some(output)
        })
    }

    pub fn done(&self, words: &[&str]) -> String {
        let output = self.kesmo(words);
        assert!(output.status.success(), "{words:?}: {}", all_said(&output));
        text(&output.stdout).trim().to_owned()
    }

    pub fn json(&self, words: &[&str]) -> Value {
        let mut all = words.to_vec();
        all.push("--json");
        let output = self.kesmo(&all);
        serde_json::from_slice(&output.stdout).unwrap_or_else(|e| panic!("{words:?}: {e}: {}", all_said(&output)))
    }

    /// Kills one of them, or both, as drawn, and starts them again.
    fn kill_some(&mut self, draw: &mut Draw) {
        let which = draw.below(4);
        for (i, quay) in self.both.iter_mut().enumerate() {
            if which == i as u64 || which == 2 {
                quay.kill_service();
            } else if which == 3 && i == 0 {
                // Politely, too.
                quay.service().signal(libc::SIGTERM);
                quay.service().wait();
                quay.ended();
            }
        }
        for quay in &mut self.both {
            if !quay.is_up() {
                quay.start();
            }
        }
    }

    /// What the API answers.
    fn api(&self, path: &str) -> Value {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        let client = self.up().client(&self.token);
        runtime.block_on(client.get(path, &[])).expect("an answer")
    }

    fn wait_for_postgres(&self) {
        until("PostgreSQL answers", || self.sql("select 1"));
    }

    /// What PostgreSQL says, unless it is away.
    fn sql(&self, statement: &str) -> Option<String> {
        psql(&self.postgres.as_ref().expect("it runs").url(), statement).ok()
    }

    /// All runs of a suite.
    fn runs(&self, suite: &str) -> Vec<Value> {
        self.json(&["runs", "--suite", suite, "--limit", "500"]).as_array().expect("runs").clone()
    }
}

impl Drop for Twins {
    fn drop(&mut self) {
        for quay in &mut self.both {
            quay.end();
        }
        if let Some(postgres) = self.postgres.take()
            && let Err(e) = postgres.stop()
        {
            eprintln!("{e}");
        }
    }
}

#[test]
fn every_planned_start_starts_one_run_whoever_is_killed() {
    const SCHEDULES: usize = 8;
    let mut twins = Twins::open("2026-03-28T23:57:30Z");
    let folder = twins.both[0].tap("planned", "a b", "echo \"ok - $t\"", "");
    twins.done(&["suite", "add", &folder.to_string_lossy()]);
    for n in 0..SCHEDULES {
        let name = format!("every-{n}");
        // Around a clock change, in a zone that has one, and with starts that are spread over the minute.
        let times = ["--cron", "* * * * *", "--zone", "Europe/Oslo", "--spread", "20s", "--if-busy", "stop-old"];
        let mut words = vec!["schedule", "add", &name, "--suite", "planned"];
        words.extend(times);
        twins.done(&words);
    }
    let mut draw = Draw(5);
    let trials = trials(10);
    for _ in 0..trials {
        // Beyond every spread of the next minute; a kill comes somewhere within what that sets off.
        twins.clock.go_on(60);
        std::thread::sleep(Duration::from_millis(draw.below(120)));
        twins.kill_some(&mut draw);
        let now = twins.clock.micros();
        until("every planned start is answered for", || {
            let all = twins.json(&["schedule", "list"]);
            let all = all.as_array()?;
            let ahead = |s: &Value| s["next"].as_str().and_then(|n| n.parse::<chrono::DateTime<chrono::Utc>>().ok());
            all.iter().all(|s| ahead(s).is_some_and(|at| at.timestamp_micros() > now)).then_some(())
        });
    }
    let runs = twins.runs("planned");
    let mut of_start: BTreeMap<(String, i64), usize> = BTreeMap::new();
    for run in &runs {
        let origin = &run["origin"];
        let key =
            (origin["name"].as_str().expect("a name").to_owned(), origin["planned_us"].as_i64().expect("a moment"));
        *of_start.entry(key).or_default() += 1;
    }
    assert!(of_start.values().all(|n| *n == 1), "a planned start had two runs: {of_start:?}");
    for n in 0..SCHEDULES {
        let name = format!("every-{n}");
        let shown = twins.json(&["schedule", "show", &name]);
        let planned = shown["planned"].as_array().expect("rows");
        let started = planned.iter().filter(|p| p["what"] == "started").count();
        let answered: u64 = planned.iter().map(|p| p["count"].as_u64().expect("a number")).sum();
        assert_eq!(answered as usize, trials, "{name}: {planned:?}");
        assert!(planned.iter().all(|p| (p["what"] == "started") == p["run"].is_string()), "{planned:?}");
        assert_eq!(started, of_start.keys().filter(|(s, _)| *s == name).count(), "{name}");
    }
    println!("{} runs of {SCHEDULES} schedules in {trials} trials", runs.len());
}

#[test]
fn every_delivery_starts_one_run_whoever_is_killed() {
    let mut twins = Twins::open("2026-11-23T12:00:00Z");
    let folder = twins.both[0].tap("delivered", "a b", "echo \"ok - $t\"", "");
    twins.done(&["suite", "add", &folder.to_string_lossy()]);
    twins.done(&["brief", "add", "push", "--suite", "delivered"]);
    let words = ["webhook", "add", "push", "--brief", "push", "--take", "label.n=/n", "--per-minute", "60000"];
    let secret = twins.done(&words);
    let mut draw = Draw(7);
    let over = Arc::new(AtomicBool::new(false));
    // Senders that go on until each of their deliveries is taken, by whichever service answers.
    let senders: Vec<_> = (0..3)
        .map(|sender| {
            let (over, secret) = (Arc::clone(&over), secret.clone());
            let urls = [twins.both[0].url.clone(), twins.both[1].url.clone()];
            std::thread::spawn(move || send_all(sender, &secret, &urls, &over))
        })
        .collect();
    for _ in 0..trials(6) {
        std::thread::sleep(Duration::from_millis(100 + draw.below(400)));
        twins.kill_some(&mut draw);
    }
    over.store(true, Ordering::SeqCst);
    let mut sent = BTreeMap::new();
    for sender in senders {
        sent.extend(sender.join().expect("the sender ends well"));
    }
    assert!(sent.len() > 20, "only {} deliveries were sent", sent.len());
    let mut started: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut skip = 0;
    loop {
        let page = twins.api(&format!("/api/runs?suite=delivered&limit=500&skip={skip}"));
        let page = page.as_array().expect("runs");
        for run in page {
            let n = run["labels"]["n"].as_str().expect("its label").to_owned();
            started.entry(n).or_default().push(run["name"].as_str().expect("a name").to_owned());
        }
        if page.len() < 500 {
            break;
        }
        skip += 500;
    }
    for (n, answered) in &sent {
        let runs = started.get(n).cloned().unwrap_or_default();
        assert_eq!(runs.len(), 1, "the delivery {n} started {runs:?}");
        // What was answered with a run has that run.
        assert!(answered.is_empty() || *answered == runs[0], "{n}: {answered} {runs:?}");
    }
    assert_eq!(started.len(), sent.len(), "something was started that nobody sent");
    println!("{} deliveries", sent.len());
}

/// Sends one delivery after the other; tells what each was answered: its run, or nothing if it was told that it had come
/// before.
fn send_all(sender: usize, secret: &str, urls: &[String; 2], over: &AtomicBool) -> BTreeMap<String, String> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let secret = kesmo_core::webhook::read_secret(secret).expect("a secret");
    let mut sent = BTreeMap::new();
    let mut number = 0;
    while !over.load(Ordering::SeqCst) {
        number += 1;
        let (n, id) = (format!("{sender}-{number}"), format!("msg-{sender}-{number}"));
        let content = format!("{{\"n\":\"{n}\"}}").into_bytes();
        let mut tries = 0;
        let answer = until("a delivery is taken", || {
            tries += 1;
            let now = chrono::Utc::now().timestamp();
            let headers = [
                ("webhook-id", id.clone()),
                ("webhook-timestamp", now.to_string()),
                ("webhook-signature", kesmo_core::webhook::sign(&secret, &id, now, &content)),
            ];
            let client = kesmo_client::Client::new(&urls[(number + tries) % 2], "", &kesmo_tls::Trust::default())
                .expect("a client");
            let taken: Result<Value, _> =
                runtime.block_on(client.post_signed("/webhook/push", &headers, content.clone()));
            match taken {
                Ok(delivery) => Some(delivery["run"].as_str().expect("it starts a run").to_owned()),
                Err(kesmo_client::Error::Refused { status: 409, .. }) => Some(String::new()),
                Err(kesmo_client::Error::Refused { status, message, .. }) if status < 500 => {
                    panic!("{status}: {message}")
                }
                Err(_) => None,
            }
        });
        sent.insert(n, answer);
    }
    sent
}

#[test]
fn every_new_commit_starts_one_run_whoever_is_killed() {
    let mut twins = Twins::open("2026-11-23T12:00:00Z");
    let folder = twins.both[0].tap("watched", "a b", "echo \"ok - $t\"", "");
    let repo = Repo::of(&folder, twins.dir.path().join("repo"));
    twins.done(&["suite", "add", "--git", &repo.url()]);
    twins.done(&["suite", "poll", "watched", "--branch", "*", "--every", "1s"]);
    // The clock goes a second on every few milliseconds.
    let over = Arc::new(AtomicBool::new(false));
    let ticking = {
        let (clock, over) = (twins.clock.clone(), Arc::clone(&over));
        std::thread::spawn(move || {
            while !over.load(Ordering::SeqCst) {
                clock.go_on(1);
                std::thread::sleep(Duration::from_millis(30));
            }
        })
    };
    let mut draw = Draw(11);
    let mut commits = Vec::new();
    for n in 0..trials(6) {
        let branch = if draw.below(3) == 0 { format!("release-{n}") } else { "main".to_owned() };
        let exists = text(
            &std::process::Command::new("git")
                .args(["branch", "--list", &branch])
                .current_dir(&repo.path)
                .output()
                .expect("git")
                .stdout,
        );
        if exists.trim().is_empty() {
            repo.git(&["checkout", "--quiet", "-b", &branch]);
        } else {
            repo.git(&["checkout", "--quiet", &branch]);
        }
        let commit = repo.commit(&format!("change {n}"));
        std::thread::sleep(Duration::from_millis(draw.below(200)));
        twins.kill_some(&mut draw);
        until("the new commit has a run", || {
            twins.runs("watched").iter().any(|r| r["commit"] == commit.as_str()).then_some(())
        });
        commits.push((branch, commit));
    }
    over.store(true, Ordering::SeqCst);
    ticking.join().expect("the clock ends well");
    // A branch that is made is seen with the commit it begins at, too: that is a head of its own.
    let mut of_head: BTreeMap<(String, String), usize> = BTreeMap::new();
    for run in twins.runs("watched") {
        let of = |key: &str| run[key].as_str().expect("a text").to_owned();
        *of_head.entry((of("branch"), of("commit"))).or_default() += 1;
    }
    assert!(of_head.values().all(|n| *n == 1), "a head was run twice: {of_head:?}");
    assert!(commits.iter().all(|head| of_head.contains_key(head)), "{commits:?} {of_head:?}");
}

#[test]
fn a_run_goes_on_at_the_other_service_when_its_own_is_killed() {
    let mut twins = Twins::open("2026-11-23T12:00:00Z");
    let gate: PathBuf = twins.dir.path().join("open");
    let body = format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"ok - $t\"", gate.display());
    let folder = twins.both[0].tap("moved", "a b c d", &body, "[limits]\ntest = \"60s\"");
    twins.done(&["suite", "add", &folder.to_string_lossy()]);
    let urls = format!("{},{}", twins.both[0].url, twins.both[1].url);
    let worker = twins.both[0].worker_at("heron", 2, &urls, &twins.token);
    let run = twins.done(&["start", "moved"]);
    let running = |t: &Twins| t.json(&["show", &run])["run"]["phase"] == "running";
    until("it runs", || running(&twins).then_some(()));
    twins.both[0].kill_service();
    fs::write(&gate, "").expect("the gate is opened");
    // The other service takes the lease once it has run out, and the worker brings what it has.
    until("the verdict", || {
        let shown = twins.json(&["show", &run]);
        (shown["run"]["phase"] == "finished").then(|| assert_eq!(shown["run"]["verdict"], "passed", "{shown}"))
    });
    let shown = twins.json(&["show", &run, "--state", "all"]);
    let entries = shown["entries"]["entries"].as_array().expect("entries");
    assert!(entries.iter().all(|e| e["attempts"] == 1), "{entries:?}");
    drop(worker);
}

#[test]
fn a_run_goes_on_at_the_other_service_while_its_own_takes_connections_and_says_nothing() {
    // Shorter than a lease, so that the other still names the one that is silent; long enough for a worker to come on a busy machine.
    let mut twins = Twins::with_patience("2026-11-23T12:00:00Z", "6s");
    let gate: PathBuf = twins.dir.path().join("open");
    let body = format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"ok - $t\"", gate.display());
    let folder = twins.both[0].tap("stands", "a b c d", &body, "[limits]\ntest = \"60s\"");
    twins.done(&["suite", "add", &folder.to_string_lossy()]);
    let urls = format!("{},{}", twins.both[0].url, twins.both[1].url);
    let worker = twins.both[0].worker_at("heron", 2, &urls, &twins.token);
    let run = twins.done(&["start", "stands"]);
    until("it runs", || (twins.json(&["show", &run])["run"]["phase"] == "running").then_some(()));
    let still = std::time::Instant::now();
    twins.both[0].service().signal(libc::SIGSTOP);
    fs::write(&gate, "").expect("the gate is opened");
    let other = |words: &[&str]| -> Value {
        let words = [words, &["--json"]].concat();
        serde_json::from_slice(&twins.both[1].kesmo_as(&twins.token, &words).stdout).unwrap_or_default()
    };
    until("the verdict", || {
        let shown = other(&["show", &run]);
        (shown["run"]["phase"] == "finished").then(|| assert_eq!(shown["run"]["verdict"], "passed", "{shown}"))
    });
    eprintln!("a run whose service stood still had its verdict after {:.1} s", still.elapsed().as_secs_f64());
    // It goes on as if nothing had been, and finds that the run is another's.
    twins.both[0].service().signal(libc::SIGCONT);
    let shown = until("it answers again", || {
        Some(twins.json(&["show", &run, "--state", "all"])).filter(|shown| shown["run"]["phase"] == "finished")
    });
    let entries = shown["entries"]["entries"].as_array().expect("entries");
    assert!(entries.len() == 4 && entries.iter().all(|e| e["attempts"] == 1), "{entries:?}");
    drop(worker);
}

/// Tests of the run that goes through the storm; the eighth of them fails.
const STORMY: usize = 24;

/// What is done to what carries a run out.
#[derive(Debug, Clone, Copy)]
enum Blow {
    Service(usize),
    BothServices,
    Worker(usize),
    Postgres,
    /// It stands still for so long, and believes afterwards that it is what it was.
    ServiceStill(usize, u64),
    /// The same: its link is silent, for longer or shorter than is waited for.
    WorkerStill(usize, u64),
    /// Nothing gets from it to the services or back, and nobody is told, while it goes on.
    NetworkCut(usize, u64),
}

impl Blow {
    fn drawn(draw: &mut Draw) -> Self {
        let (which, ms) = (draw.below(2) as usize, 200 + draw.below(4000));
        match draw.below(9) {
            0 => Self::Service(which),
            1 => Self::BothServices,
            2 | 3 => Self::Worker(which),
            4 => Self::Postgres,
            // Longer than a lease lasts.
            5 => Self::ServiceStill(which, ms * 3),
            6 => Self::WorkerStill(which, ms),
            _ => Self::NetworkCut(which, ms),
        }
    }

    fn fall(
        self,
        twins: &mut Twins,
        workers: &mut [Process],
        networks: &[Network],
        link: impl Fn(&Twins, usize) -> Process,
    ) {
        let still = |process: &Process, ms| {
            process.signal(libc::SIGSTOP);
            std::thread::sleep(Duration::from_millis(ms));
            process.signal(libc::SIGCONT);
        };
        match self {
            Self::Service(which) => {
                twins.both[which].kill_service();
                twins.wait_for_postgres();
                twins.both[which].start();
            }
            Self::BothServices => {
                twins.both.iter_mut().for_each(Quay::kill_service);
                // Without PostgreSQL a service does not start, and says so.
                twins.wait_for_postgres();
                twins.both.iter_mut().for_each(Quay::start);
            }
            Self::Worker(which) => {
                workers[which].signal(libc::SIGKILL);
                workers[which].wait();
                workers[which] = link(twins, which);
            }
            Self::Postgres => {
                twins.wait_for_postgres();
                let said = twins.sql("select pg_read_file('postmaster.pid')").expect("it answers");
                let pid: i32 = said.lines().next().and_then(|line| line.trim().parse().ok()).expect("its number");
                // SAFETY: plain numbers.
                unsafe { libc::kill(pid, libc::SIGKILL) };
            }
            Self::ServiceStill(which, ms) => still(twins.both[which].service(), ms),
            Self::WorkerStill(which, ms) => still(&workers[which], ms),
            Self::NetworkCut(which, ms) => networks[which].cut(Duration::from_millis(ms)),
        }
    }
}

#[test]
fn a_run_comes_to_its_true_verdict_whatever_is_killed_or_cut_off_or_stands_still_meanwhile() {
    let mut twins = Twins::open("2026-11-23T12:00:00Z");
    let warden = twins.postgres.clone().expect("it runs");
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        runtime.block_on(warden.keep_up());
    });
    let names: String = (0..STORMY).map(|n| format!("t{n} ")).collect();
    let body = "sleep 0.1; if [ $t = t7 ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi";
    let folder = twins.both[0].tap("storm", &names, body, "[retry]\ntimes = 0");
    twins.done(&["suite", "add", &folder.to_string_lossy()]);
    let urls = format!("{},{}", twins.both[0].url, twins.both[1].url);
    let networks = [Network::reaching(&urls), Network::reaching(&urls)];
    let link = |twins: &Twins, which: usize| {
        twins.up().worker_within(&networks[which], ["heron", "tern"][which], 2, &urls, &twins.token)
    };
    let mut workers = [link(&twins, 0), link(&twins, 1)];
    let seed = std::env::var("KESMO_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(7);
    let mut draw = Draw(seed);
    let (mut left, mut told) = (trials(4), Vec::new());
    while left > 0 {
        let run = twins.done(&["start", "storm"]);
        let blows = left.min(1 + draw.below(3) as usize);
        for _ in 0..blows {
            std::thread::sleep(Duration::from_millis(draw.below(1500)));
            let blow = Blow::drawn(&mut draw);
            told.push(format!("{run}: {blow:?}"));
            blow.fall(&mut twins, &mut workers, &networks, link);
        }
        left -= blows;
        let since = std::time::Instant::now();
        while twins.json(&["show", &run])["run"]["phase"] != "finished" {
            let mut stands = || {
                let files = ["service.log", "workers.log"];
                let all = twins.both.iter().flat_map(|quay| files.map(|file| quay.path(file)));
                let logs = all.map(|path| fs::read_to_string(path).unwrap_or_default());
                let last = |log: String| {
                    let lines = log.lines().rev().filter(|line| !line.contains("forwarding")).take(25);
                    lines.collect::<Vec<_>>().join("\n")
                };
                let ends: Vec<_> = logs.map(last).collect();
                let alive: Vec<_> = workers.iter_mut().map(|worker| worker.0.try_wait()).collect();
                format!("{}\n{alive:?}\n{}", twins.json(&["show", &run]), ends.join("\n--\n"))
            };
            assert!(since.elapsed() < Duration::from_secs(60), "seed {seed}, {told:?}: {}", stands());
            std::thread::sleep(Duration::from_millis(100));
        }
        let shown = twins.json(&["show", &run, "--state", "all"]);
        let what = format!("seed {seed}, {told:?}: {shown}");
        assert_eq!(shown["run"]["verdict"], "failed", "{what}");
        let entries = shown["entries"]["entries"].as_array().expect("entries");
        assert_eq!(entries.len(), STORMY, "{what}");
        for entry in entries {
            let wanted = if entry["test"] == "t7" { "failed" } else { "passed" };
            assert_eq!(entry["outcome"], wanted, "{what}");
        }
        assert_eq!(shown["run"]["tally"]["passed"], STORMY - 1, "{what}");
        // Of each test one attempt counts, and what is told of all is the same as what is kept of each.
        let counts = format!(
            "select count(*), count(distinct entry) from attempts where ended <> 'lost' and run_id = \
             (select r.id from runs r join suites s on s.id = r.suite_id where s.slug || '/' || r.number = '{run}')"
        );
        let kept = until("PostgreSQL answers", || twins.sql(&counts));
        assert_eq!(kept.trim(), format!("{STORMY}|{STORMY}"), "{what}");
        told.clear();
    }
}
