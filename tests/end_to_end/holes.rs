//! What an enemy would try: on the worker link, through the API, from a page in a browser, with files, from a test's process.

use std::{
    collections::BTreeMap,
    fs,
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    path::Path,
    process::{Command, Stdio},
    sync::Arc,
    time::{Duration, Instant},
};

use futures::{SinkExt, StreamExt};
use kesmo_core::{run::BatchEnd, words::Ended};
use kesmo_wire::{
    Digest,
    link::{
        AttemptReport, BatchKey, FromWorker, Grant, GrantedEntry, Hello, KeptFile, Log, ToWorker, VERSION, WorkerEvent,
    },
};
use serde_json::{Value, json};
use tokio::runtime::Runtime;
use tokio_tungstenite::{
    MaybeTlsStream, WebSocketStream,
    tungstenite::{Message, client::IntoClientRequest, http::HeaderValue},
};

use crate::{
    console::browser,
    quay::{KESMO, Process, Quay, all_said, assert_says, processes_with, psql, shared, text, until},
};

/// A worker's link, spoken by the test.
struct Link {
    socket: WebSocketStream<MaybeTlsStream<tokio::net::TcpStream>>,
    number: u64,
    /// How often the service said no more than that it is there.
    pinged: u32,
}

fn hello(name: &str, offers: &[(&str, &str)]) -> Hello {
    Hello {
        version: VERSION,
        name: name.into(),
        pool: "main".into(),
        slots: 1,
        offers: offers.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
        process: "0123456789abcdef".into(),
        home: "fedcba9876543210".into(),
        holds: Vec::new(),
        held_back: Vec::new(),
        listing: Vec::new(),
        ease: false,
        draining: false,
        only_run: None,
        back: false,
    }
}

impl Link {
    async fn open(url: &str, token: &str) -> Self {
        let address = format!("{}/api/work/link", url.replace("http://", "ws://"));
        let mut request = address.into_client_request().expect("a request");
        let bearer = HeaderValue::from_str(&format!("Bearer {token}")).expect("a header");
        request.headers_mut().insert("Authorization", bearer);
        let (socket, _) = tokio_tungstenite::connect_async(request).await.expect("it links");
        Self { socket, number: 0, pinged: 0 }
    }

    /// A link that said hello and was welcomed.
    async fn welcomed(url: &str, token: &str, hello: Hello) -> Self {
        let mut link = Self::open(url, token).await;
        link.say(&FromWorker::Hello(hello)).await;
        let welcome = link.hear().await;
        assert!(matches!(welcome, Some(ToWorker::Welcome { version: VERSION, .. })), "{welcome:?}");
        link
    }

    async fn say(&mut self, message: &FromWorker) {
        self.say_text(serde_json::to_string(message).expect("it can be written")).await;
    }

    async fn say_text(&mut self, text: String) {
        self.socket.send(Message::Text(text)).await.expect("it is sent");
    }

    async fn report(&mut self, events: Vec<WorkerEvent>) {
        self.number += 1;
        let number = self.number;
        self.say(&FromWorker::Report { number, events }).await;
    }

    /// The next message; none when the link is closed. It beats meanwhile, as a worker does.
    async fn hear(&mut self) -> Option<ToWorker> {
        let since = Instant::now();
        while since.elapsed() < Duration::from_secs(30) {
            match tokio::time::timeout(Duration::from_millis(500), self.socket.next()).await {
                Ok(Some(Ok(Message::Text(text)))) => return Some(serde_json::from_str(&text).expect("a message")),
                Ok(Some(Ok(Message::Close(_)) | Err(_)) | None) => return None,
                Ok(Some(Ok(Message::Ping(_)))) => self.pinged += 1,
                Ok(Some(Ok(_))) => {}
                // A link that is closed meanwhile is found so above.
                Err(_) => drop(self.socket.send(Message::Ping(Vec::new())).await),
            }
        }
        panic!("it says nothing for 30 s");
    }

    /// Waits until the last report is acknowledged; tells what came besides.
    async fn stored(&mut self) -> Vec<ToWorker> {
        let mut others = Vec::new();
        loop {
            match self.hear().await.expect("the link lives") {
                ToWorker::Stored { number } if number == self.number => return others,
                other => others.push(other),
            }
        }
    }
}

fn worker_token(quay: &Quay, name: &str) -> String {
    text(&quay.kesmo(&["token", "add", name, "--role", "worker"]).stdout).trim().to_owned()
}

fn report(key: BatchKey, entry: u32, ended: Ended) -> AttemptReport {
    AttemptReport {
        key,
        entry,
        ended,
        began_us: 1_700_000_000_000_000,
        ended_us: 1_700_000_000_000_001,
        spent_us: 1,
        message: String::new(),
        detail: String::new(),
        steps: Vec::new(),
        log: Log::None,
        cases: 0,
        with_start: None,
    }
}

fn run_id(quay: &Quay, run: &str) -> i64 {
    let (suite, number) = run.split_once('/').expect("a name");
    quay.sql(&format!(
        "select r.id from runs r join suites s on s.id = r.suite_id where s.slug = '{suite}' and r.number = {number}"
    ))
    .parse()
    .expect("an id")
}

#[test]
fn a_worker_that_speaks_otherwise_is_told_plainly() {
    let quay = shared();
    let token = worker_token(quay, "odd-hellos");
    let runtime = Runtime::new().expect("a runtime");
    let refused = |hello: Value| {
        runtime.block_on(async {
            let mut link = Link::open(&quay.url, &token).await;
            link.say_text(hello.to_string()).await;
            match link.hear().await {
                Some(ToWorker::Refused { message }) => message,
                other => panic!("{other:?}"),
            }
        })
    };
    let with = |key: &str, value: Value| {
        let mut hello = serde_json::to_value(FromWorker::Hello(hello("odd", &[]))).expect("it can be written");
        hello[key] = value;
        hello
    };
    let mut old = with("name", json!("odd"));
    old.as_object_mut().expect("an object").remove("version");
    assert_says(&refused(old), &["speaks version 0 of the link", &format!("version {}", kesmo_wire::link::VERSION)]);
    for (key, value) in [
        ("pool", json!("night\u{0}")),
        ("pool", json!("n".repeat(5000))),
        ("name", json!("Odd One")),
        ("slots", json!(0)),
        ("offers", json!({ "os": "\u{0}" })),
        ("only_run", json!("no run")),
    ] {
        assert!(!refused(with(key, value)).is_empty(), "{key}");
    }
    // The service goes on as if nothing had been.
    assert_eq!(quay.kesmo(&["workers"]).status.code(), Some(0));
}

#[test]
fn nobody_speaks_of_what_another_worker_holds() {
    let quay = Quay::open();
    let honest = quay.worker("heron", 1);
    let gate = quay.path("open");
    let body = format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"not ok - $t\"", gate.display());
    let folder = quay.tap("lied-about", "a b", &body, "[limits]\ntest = \"60s\"");
    let run = quay.start_run(&folder, &["--shards", "1"]);
    until("it runs", || (quay.run(&run)["tally"]["running"] == 1).then_some(()));
    let id = run_id(&quay, &run);
    let token = worker_token(&quay, "a-liar");
    let runtime = Runtime::new().expect("a runtime");
    runtime.block_on(async {
        // It offers nothing that the suite lacks, so that it is given no batch of its own here: the one slot is in use.
        let mut liar = Link::welcomed(&quay.url, &token, hello("liar", &[])).await;
        let mut lies = Vec::new();
        for batch in 0..5 {
            let key = BatchKey { run: id, batch };
            for entry in [0, 1, 7, u32::MAX] {
                lies.push(WorkerEvent::Began { key, entry, at_us: 1 });
                lies.push(WorkerEvent::Ended(Box::new(report(key, entry, Ended::Passed))));
            }
            lies.push(WorkerEvent::Note { key, text: "a lie".into() });
            lies.push(WorkerEvent::Wrong { key, text: "a lie".into() });
            let file = KeptFile { path: "a-lie".into(), about: String::new(), digest: Digest::of(b"a lie"), bytes: 5 };
            lies.push(WorkerEvent::Kept { key, entry: None, files: vec![file] });
            lies.push(WorkerEvent::GaveBack { key, entries: vec![0, 1] });
            lies.push(WorkerEvent::BatchEnded { key, end: BatchEnd::Unfit("a lie".into()) });
        }
        lies.push(WorkerEvent::Listed {
            job: "0".repeat(64),
            result: Ok(Digest::of(b"a lie")),
            image: None,
            files: Vec::new(),
        });
        // Twice, and late.
        liar.report(lies.clone()).await;
        liar.report(lies).await;
        liar.stored().await;
    });
    fs::write(&gate, "").expect("the gate opens");
    until("it is over", || quay.run(&run)["verdict"].as_str().map(|_| ()));
    let told = quay.run(&run);
    assert_eq!((&told["verdict"], &told["tally"]["failed"]), (&json!("failed"), &json!(2)), "{told}");
    assert!(!told.to_string().contains("a lie"), "{told}");
    assert!(quay.json(&["artifacts", &run]).as_array().expect("files").is_empty());
    for test in ["a", "b"] {
        let history = quay.history(&run, test);
        assert!(history.len() == 1 && history[0]["worker"] == "heron", "{history:?}");
    }
    drop(honest);
}

#[test]
fn a_digest_that_leads_elsewhere_is_refused_and_the_service_goes_on() {
    let mut quay = Quay::open();
    let folder =
        quay.tap("led-astray", "a", "echo \"ok - $t\"", "[needs]\nberth = \"odd\"\n[limits]\npatience = \"60s\"");
    let run = quay.start_run(&folder, &[]);
    let token = worker_token(&quay, "astray");
    let runtime = Runtime::new().expect("a runtime");
    let fifo = quay.path("service/blobs/fi");
    fs::create_dir_all(&fifo).expect("a folder");
    assert!(Command::new("mkfifo").arg(fifo.join("fo")).status().expect("mkfifo").success());
    for digest in ["", "x", "xx/../../admin-token", "fifo", "../admin-token", &"F".repeat(64)] {
        runtime.block_on(async {
            let mut link = Link::welcomed(&quay.url, &token, hello("astray", &[("berth", "odd")])).await;
            let job = loop {
                match link.hear().await.expect("the link lives") {
                    ToWorker::List(job) => break job.job,
                    _ => continue,
                }
            };
            let listed = json!({ "say": "report", "number": 1, "events": [
                { "event": "listed", "job": job, "result": { "Ok": digest } } ] });
            link.say_text(listed.to_string()).await;
            let refused = loop {
                match link.hear().await {
                    Some(ToWorker::Refused { message }) => break message,
                    Some(_) => continue,
                    None => panic!("it is told why"),
                }
            };
            assert_says(&refused, &["not a SHA-256"]);
        });
        // Its name is free again once it is lost.
        until("it is gone", || quay.json(&["workers"]).as_array().expect("workers").is_empty().then_some(()));
    }
    assert_eq!(quay.kesmo(&["runs"]).status.code(), Some(0), "the service answers");
    // The same with a log: the run that it holds goes elsewhere, and a reader is given nothing of another file.
    runtime.block_on(async {
        let mut link = Link::welcomed(&quay.url, &token, hello("astray", &[("berth", "odd")])).await;
        let job = loop {
            if let ToWorker::List(job) = link.hear().await.expect("the link lives") {
                break job.job;
            }
        };
        let list = b"a\n".to_vec();
        let digest = Digest::of(&list);
        let put = kesmo_tls::Trust::default()
            .http()
            .build()
            .expect("a client")
            .put(format!("{}/api/work/blobs/{digest}", quay.url));
        assert!(put.bearer_auth(&token).body(list).send().await.expect("an answer").status().is_success());
        link.report(vec![WorkerEvent::Listed { job, result: Ok(digest), image: None, files: Vec::new() }]).await;
        let grant = loop {
            if let ToWorker::Grant(grant) = link.hear().await.expect("the link lives") {
                break grant;
            }
        };
        let mut ended =
            serde_json::to_value(WorkerEvent::Ended(Box::new(report(grant.key, 0, Ended::Passed)))).expect("json");
        ended["log"] = json!({ "blob": { "digest": "xx/../../admin-token", "bytes": 9 } });
        link.say_text(json!({ "say": "report", "number": 9, "events": [ended] }).to_string()).await;
        while let Some(message) = link.hear().await {
            if let ToWorker::Refused { message } = message {
                assert_says(&message, &["not a SHA-256"]);
                return;
            }
        }
        panic!("it is told why");
    });
    quay.kesmo(&["stop", &run]);
    assert!(!fs::read_to_string(quay.path("service.log")).expect("the log").contains("panicked"));
    quay.end();
}

#[test]
fn a_list_from_an_image_that_is_not_named_or_is_another_is_not_taken() {
    let quay = shared();
    let token = worker_token(quay, "faceless");
    let folder = quay.tap("faceless", "a", "echo ok - $t", "[container]\nimage = \"localhost/quay-gate:12\"");
    let digest = format!("sha256:{}", "a1".repeat(32));
    let image = |name: &str, digest: &str| json!({ "name": name, "digest": digest });
    for said in [
        json!(null),
        image("localhost/another:1", &digest),
        image("localhost/quay-gate:12", "sha256:a1"),
        image("localhost/quay-gate:12\u{0}", &digest),
        json!({ "name": "localhost/quay-gate:12", "digest": digest, "at": format!("evil.example/gate@{digest}") }),
    ] {
        let run = quay.start_run(&folder, &[]);
        Runtime::new().expect("a runtime").block_on(async {
            let mut link = Link::welcomed(&quay.url, &token, hello("faceless", &[("containers", "yes")])).await;
            let job = loop {
                if let ToWorker::List(job) = link.hear().await.expect("the link lives") {
                    break job.job;
                }
            };
            let list = b"a\n".to_vec();
            let listed = Digest::of(&list);
            let http = kesmo_tls::Trust::default().http().build().expect("a client");
            let put = http.put(format!("{}/api/work/blobs/{listed}", quay.url)).bearer_auth(&token).body(list);
            assert!(put.send().await.expect("an answer").status().is_success());
            let event = json!({ "event": "listed", "job": job, "result": { "Ok": listed }, "image": said });
            link.say_text(json!({ "say": "report", "number": 1, "events": [event] }).to_string()).await;
            // It stays until the run is over.
            let over = tokio::task::spawn_blocking({
                let (url, run) = (quay.url.clone(), run.clone());
                move || {
                    until(&format!("{url}/runs/{run} is over"), || {
                        (shared().run(&run)["phase"] == "finished").then_some(())
                    })
                }
            });
            over.await.expect("it ends");
        });
        let over = quay.run(&run);
        assert_eq!(over["verdict"], "void", "{said}: {over}");
        assert_says(&over["reason"].to_string(), &["faceless listed the tests, and did not say in which image"]);
    }
}

/// Plays the only worker of a run until its verdict: lists `a` and `b`, and says of each batch what it is told to.
async fn play(quay: &Quay, token: &str, run: &str, says: impl Fn(&Grant) -> Vec<WorkerEvent>) {
    let mut link = Link::welcomed(&quay.url, token, hello("played", &[("berth", "odd")])).await;
    loop {
        match link.hear().await.expect("the link lives") {
            ToWorker::List(job) => {
                let digest = put(quay, token, b"a\nb\n").await;
                link.report(vec![WorkerEvent::Listed {
                    job: job.job,
                    result: Ok(digest),
                    image: None,
                    files: Vec::new(),
                }])
                .await;
            }
            ToWorker::Grant(grant) => {
                let mut events = says(&grant);
                events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
                link.report(events).await;
                link.stored().await;
                if quay.run(run)["verdict"].is_string() {
                    return;
                }
            }
            _ => {}
        }
    }
}

/// Sends a file as a worker does.
async fn put(quay: &Quay, token: &str, content: &[u8]) -> Digest {
    let digest = Digest::of(content);
    let client = kesmo_tls::Trust::default().http().build().expect("a client");
    let put = client.put(format!("{}/api/work/blobs/{digest}", quay.url)).bearer_auth(token).body(content.to_vec());
    assert!(put.send().await.expect("an answer").status().is_success());
    digest
}

#[test]
fn what_a_test_may_have_made_is_kept_within_bounds_and_nothing_is_lost() {
    let quay = Quay::open();
    let folder = quay.tap("beyond-bounds", "a b", "echo \"ok - $t\"", "[needs]\nberth = \"odd\"");
    let run = quay.start_run(&folder, &["--shards", "1"]);
    let token = worker_token(&quay, "beyond");
    Runtime::new().expect("a runtime").block_on(play(&quay, &token, &run, |grant| {
        let odd = |entry: &GrantedEntry| {
            WorkerEvent::Ended(Box::new(AttemptReport {
                began_us: -377_000_000_000_000_000,
                ended_us: i64::MAX,
                spent_us: u64::MAX,
                message: "a \0 in it".into(),
                ..report(grant.key, entry.index, Ended::Passed)
            }))
        };
        let (path, about, digest) = ("p\0".repeat(9000), "\0".into(), Digest::of(b"file"));
        let file = KeptFile { path, about, digest, bytes: u64::MAX };
        let kept = WorkerEvent::Kept { key: grant.key, entry: None, files: vec![file] };
        grant.entries.iter().map(odd).chain([kept]).collect()
    }));
    let told = quay.run(&run);
    assert_eq!((&told["verdict"], &told["tally"]["passed"]), (&json!("passed"), &json!(2)), "{told}");
    assert_eq!(quay.history(&run, "a")[0]["message"], "a \u{fffd} in it");
}

#[test]
fn files_with_odd_names_stay_in_their_folder_and_move_no_cursor() {
    let quay = Quay::open();
    let folder = quay.tap("odd-names", "a b", "echo \"ok - $t\"", "[needs]\nberth = \"odd\"");
    let run = quay.start_run(&folder, &["--shards", "1"]);
    let token = worker_token(&quay, "odd-names");
    let names = [
        "..",
        "../../out-of-it",
        "/out-of-root",
        "shots/a.txt",
        "\u{1b}[2J\u{1b}]0;title\u{7}.txt",
        "shots/\u{202e}txt.exe",
        ".",
    ];
    Runtime::new().expect("a runtime").block_on(async {
        let digest = put(&quay, &token, b"a shot").await;
        play(&quay, &token, &run, |grant| {
            let file = |path: &&str| KeptFile {
                path: (*path).into(),
                about: "\u{1b}[31mred".into(),
                digest: digest.clone(),
                bytes: 6,
            };
            let files: Vec<KeptFile> = names.iter().map(file).collect();
            let ended = |e: &GrantedEntry| WorkerEvent::Ended(Box::new(report(grant.key, e.index, Ended::Passed)));
            let kept =
                |e: &GrantedEntry| WorkerEvent::Kept { key: grant.key, entry: Some(e.index), files: files.clone() };
            grant.entries.iter().flat_map(|e| [ended(e), kept(e)]).collect()
        })
        .await;
    });
    let to = quay.path("down/here");
    let place = to.to_string_lossy().into_owned();
    for words in [vec!["artifacts", &run], vec!["log", &run, "a"], vec!["artifacts", &run, "--to", &place]] {
        let output = quay.kesmo(&words);
        let said = all_said(&output);
        assert!(
            output.status.success() && !said.contains('\u{1b}') && !said.contains('\u{202e}'),
            "{words:?}: {said:?}"
        );
    }
    let found = Command::new("find").arg(quay.path("down")).args(["-type", "f"]).output().expect("find");
    let found = text(&found.stdout);
    assert!(found.lines().count() >= 3 && found.lines().all(|f| f.starts_with(&place)), "{found}");
    assert!(found.contains("shots/a.txt"), "{found}");
    assert!(!Path::new("/out-of-root").exists());
}

#[test]
fn a_full_disk_of_postgresql_is_waited_for_and_nothing_is_lost() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap("full-disk", "a b c d", "sleep 0.3; echo \"ok - $t\"", "");
    let refuse = |code: &str| {
        format!(
            "create or replace function refuse() returns trigger language plpgsql as \
             $$ begin raise exception 'could not extend file: No space left on device' using errcode = '{code}'; end $$"
        )
    };
    quay.sql(&refuse("53100"));
    quay.sql("create trigger full_disk before insert on attempts for each row execute function refuse()");
    let run = quay.start_run(&folder, &[]);
    // Longer than a commit that is refused was tried before.
    std::thread::sleep(Duration::from_secs(20));
    // Nobody waits for an answer meanwhile, and health says why.
    for words in [vec!["show", &run], vec!["workers"], vec!["runs"]] {
        let output = quay.kesmo(&words);
        assert_eq!(output.status.code(), Some(12), "{}", all_said(&output));
        assert_says(&all_said(&output), &["nothing could be stored for", "No space left on device"]);
    }
    let (status, said, _) = self::call(&quay, "GET", "/api/health", &[], b"");
    assert!(status == 503 && said.contains("No space left on device"), "{status} {said}");
    quay.sql("drop trigger full_disk on attempts");
    until("it answers again", || quay.kesmo(&["show", &run]).status.success().then_some(()));
    until("it is over", || quay.run(&run)["verdict"].as_str().map(|_| ()));
    let told = quay.run(&run);
    assert_eq!((&told["verdict"], &told["tally"]["passed"]), (&json!("passed"), &json!(4)), "{told}");
    for test in ["a", "b", "c", "d"] {
        assert_eq!(quay.history(&run, test).len(), 1, "{test} was carried out once");
    }
}

#[test]
fn a_worker_that_was_killed_leaves_nothing_in_its_home_when_it_is_started_again() {
    let quay = Quay::open();
    let mut first = quay.worker("heron", 1);
    let body = "echo \"ok - $t\"; [ $t = a ] && [ ! -e \"$QUAY/again\" ] && { head -c 1000000 /dev/zero > \"$KESMO_ARTIFACTS/big\"; sleep 6543; }; true";
    let more = format!("[limits]\ntest = \"60s\"\n[env]\nQUAY = \"{}\"", quay.dir.path().display());
    let run = quay.start_run(&quay.tap("killed-home", "a b", body, &more), &["--shards", "1"]);
    let home = quay.path("worker-heron");
    let big = || {
        let found = Command::new("find").arg(&home).args(["-name", "big", "-size", "+900k"]).output().expect("find");
        text(&found.stdout).lines().map(str::to_owned).next()
    };
    let left = until("it has written", big);
    first.0.kill().expect("it is killed");
    first.0.wait().expect("it ends");
    fs::write(quay.path("again"), "").expect("a file");
    let _second = quay.worker("heron", 1);
    assert!(!Path::new(&left).exists(), "{left} is cleared away");
    until("the process is ended", || (processes_with("sleep\u{0}6543") == 0).then_some(()));
    until("it is over", || quay.run(&run)["verdict"].as_str().map(|_| ()));
    assert_eq!(quay.run(&run)["verdict"], "passed");
    let homes = fs::read_dir(quay.dir.path()).expect("a folder").flatten();
    assert_eq!(homes.filter(|e| e.file_name().to_string_lossy().starts_with("worker-heron")).count(), 1);
}

#[test]
fn a_repository_of_the_services_own_machine_is_read_only_where_it_may_be() {
    let quay = Quay::open();
    let operator = text(&quay.kesmo(&["token", "add", "op", "--role", "operator"]).stdout).trim().to_owned();
    // One where the clones of others' repositories are, and one in no folder that is named.
    let hidden = quay.path("service/git/hidden.git");
    let made = Command::new("git").args(["init", "--quiet", "--bare"]).arg(&hidden).status().expect("git");
    assert!(made.success());
    let ways = [hidden, quay.path("service/git/../git/hidden.git"), "/var/lib/nowhere.git".into(), "/etc".into()];
    for place in ways {
        let url = format!("file://{}", place.display());
        let added = quay.kesmo_as(&operator, &["suite", "add", "--git", &url, "--branch", "main"]);
        assert_ne!(added.status.code(), Some(0), "{url}");
        assert_says(&all_said(&added), &["--git-folder"]);
    }
}

#[test]
fn a_file_with_a_long_path_is_kept_and_its_results_with_it() {
    let quay = shared();
    let body = "d=\"$KESMO_ARTIFACTS\"; for i in $(seq 14); do d=\"$d/$(head -c 120 /dev/urandom | od -An -tx1 | tr -d ' \\n' | head -c 238)\"; done; \
                mkdir -p \"$d\"; echo shot > \"$d/shot.txt\"; echo \"ok - $t\"";
    let folder = quay.tap("long-path", "a", body, "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    let files = quay.json(&["artifacts", "long-path/1"]);
    assert!(files[0]["path"].as_str().is_some_and(|p| p.len() > 3200), "{files}");
}

#[test]
fn rows_that_postgresql_refuses_make_their_run_void_and_no_other() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 4);
    let body = "echo \"# $KESMO_SET_SAY\"; echo \"not ok - $t\"; echo \"# $KESMO_SET_SAY\"; sleep 0.2";
    let folder = quay.tap("refusable", "a b c d e f", body, "[settings]\nsay = \"hello\"");
    quay.sql("alter table attempts add constraint no_storm check (message not like '%a storm%')");
    let good = quay.start_run(&folder, &["--shards", "2"]);
    let bad = quay.start_run(&folder, &["--shards", "2", "--set", "say=a storm"]);
    let over = |run: &str| until("it is over", || Some(quay.run(run)).filter(|r| r["verdict"].is_string()));
    let (good, bad) = (over(&good), over(&bad));
    assert_eq!((&good["verdict"], &good["tally"]["failed"]), (&json!("failed"), &json!(6)), "{good}");
    assert_eq!(bad["verdict"], "void", "{bad}");
    assert_says(bad["reason"].as_str().expect("a reason"), &["cannot be kept"]);
    let log = fs::read_to_string(quay.path("service.log")).expect("the log");
    assert!(!log.contains("a storm"), "no content stands in a log");
}

#[test]
fn a_list_that_arrives_while_postgresql_is_killed_is_kept() {
    let mut quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let gate = quay.path("listing");
    let script = format!(
        "if [ \"$1\" = --names ]; then touch {}; sleep 1; printf 'a\\nb\\n'; exit; fi\nfor t in \"$@\"; do echo \"ok - $t\"; done\n",
        gate.display()
    );
    let run = quay.start_run(&quay.suite("kept-list", "tap", &script, ""), &[]);
    until("it is listed", || gate.exists().then_some(()));
    std::thread::sleep(Duration::from_millis(900));
    let pids = fs::read_to_string(quay.path("service/postgres/postmaster.pid")).expect("its number");
    let pid: i32 = pids.lines().next().and_then(|l| l.trim().parse().ok()).expect("a number");
    // SAFETY: plain numbers.
    unsafe { libc::kill(pid, libc::SIGKILL) };
    let verdict = || {
        let output = quay.kesmo(&["show", &run, "--json"]);
        serde_json::from_slice::<Value>(&output.stdout).ok().filter(|r| r["run"]["verdict"].is_string())
    };
    let told = until("it is over", verdict);
    assert_eq!((&told["run"]["verdict"], &told["run"]["tally"]["passed"]), (&json!("passed"), &json!(2)), "{told}");
    quay.kill_service();
    quay.start();
    assert_eq!(quay.entries(&run).len(), 2, "also after a restart");
}

#[test]
fn a_removed_token_ends_its_workers_link_and_its_streams() {
    let quay = Quay::open();
    let token = worker_token(&quay, "short-lived");
    let reader = text(&quay.kesmo(&["token", "add", "watcher", "--role", "reader"]).stdout).trim().to_owned();
    Runtime::new().expect("a runtime").block_on(async {
        let mut link = Link::welcomed(&quay.url, &token, hello("short", &[])).await;
        let client = quay.client(&reader);
        let mut stream = client.watch("/api/live", None).await.expect("a stream");
        stream.next().await.expect("a snapshot");
        assert!(quay.kesmo(&["token", "remove", "short-lived"]).status.success());
        assert!(quay.kesmo(&["token", "remove", "watcher"]).status.success());
        let since = Instant::now();
        while link.hear().await.is_some() {}
        while let Ok(Some(_)) = stream.next().await {}
        assert!(since.elapsed() < Duration::from_secs(10), "they end soon: {:?}", since.elapsed());
    });
}

#[test]
fn a_worker_that_comes_back_to_a_name_that_another_has_waits_for_it() {
    let quay = Quay::with_patience("4s");
    let token = worker_token(&quay, "gulls");
    let mut command = Command::new(KESMO);
    command.args(["worker", "--name", "gull", "--slots", "1", "--offer", "berth=7", "--home"]).arg(quay.path("gull"));
    command.env("KESMO_URL", &quay.url).env("KESMO_TOKEN", &token).stdout(Stdio::null()).stderr(Stdio::null());
    let mut process = Process(command.spawn().expect("it starts"));
    let pid = nix::unistd::Pid::from_raw(process.0.id() as i32);
    // The connected worker of that name: what it offers, if there is one.
    let gull = || {
        let workers = quay.json(&["workers"]);
        let gull = workers.as_array()?.iter().find(|w| w["name"] == "gull" && w["connected"] == true)?;
        Some(gull["offers"]["berth"].as_str().map(str::to_owned))
    };
    until("it is there", || gull().filter(|berth| berth.as_deref() == Some("7")));
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGSTOP).expect("it stands still");
    Runtime::new().expect("a runtime").block_on(async {
        until("it is lost", || quay.json(&["workers"]).as_array()?.iter().all(|w| w["name"] != "gull").then_some(()));
        let gull_of = |mark: &str| Hello { process: mark.repeat(16), home: mark.repeat(16), ..hello("gull", &[]) };
        let other = Link::welcomed(&quay.url, &token, gull_of("a")).await;
        // Who chooses a name that is taken is refused, and was not welcome for a moment: it would take itself for one that comes back.
        let mut third = Link::open(&quay.url, &token).await;
        third.say(&FromWorker::Hello(gull_of("b"))).await;
        let said = third.hear().await;
        let Some(ToWorker::Refused { message }) = said else { panic!("it is not refused: {said:?}") };
        assert_says(&message, &["a worker named gull is here already"]);
        nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGCONT).expect("it goes on");
        tokio::time::sleep(Duration::from_millis(1000)).await;
        assert!(matches!(process.0.try_wait(), Ok(None)), "it has not ended");
        assert_eq!(gull(), Some(None), "the name is another's");
        drop(other);
    });
    until("it has its name again", || gull().filter(|berth| berth.as_deref() == Some("7")));
}

#[test]
fn a_database_that_stands_still_cuts_no_link_to_a_worker() {
    let quay = Quay::open();
    let token = worker_token(&quay, "gulls");
    let worker = quay.worker("heron", 2);
    let names: Vec<String> = (0..40).map(|n| format!("t{n}")).collect();
    let run = quay.start_run(&quay.tap("gate", &names.join(" "), "sleep 0.3; echo ok - $t", ""), &[]);
    until("it runs", || (quay.run(&run)["phase"] == "running").then_some(()));
    Runtime::new().expect("a runtime").block_on(async {
        let mut gulls = Vec::new();
        for n in 0..10 {
            let hello = Hello { pool: "aside".into(), ..hello(&format!("gull-{n}"), &[]) };
            gulls.push(Link::welcomed(&quay.url, &token, hello).await);
        }
        // For four times as long as a link may be silent, nothing can be kept.
        let database = quay.database();
        let still = std::thread::spawn(move || {
            let lock = "begin; lock table attempts, batches in access exclusive mode; select pg_sleep(8); commit";
            psql(&database, lock).expect("it stands still");
        });
        let waits = "select count(*) > 0 from pg_stat_activity where wait_event_type = 'Lock'";
        let since = Instant::now();
        while quay.sql(waits) != "t" {
            assert!(since.elapsed() < Duration::from_secs(60), "all is kept");
            for gull in &mut gulls {
                gull.socket.send(Message::Ping(Vec::new())).await.expect("its link lives");
            }
        }
        // So much is said meanwhile that the service has to let it wait.
        let floods = gulls.into_iter().map(|mut gull| {
            tokio::spawn(async move {
                for _ in 0..800 {
                    gull.report(Vec::new()).await;
                }
                gull.stored().await;
                gull.pinged
            })
        });
        let mut pinged = 0;
        for flood in floods.collect::<Vec<_>>() {
            pinged += flood.await.expect("its link lives");
        }
        assert!(pinged > 0, "who waits for the service hears that it is there");
        still.join().expect("it goes on");
    });
    until("the verdict", || {
        let shown = quay.run(&run);
        (shown["phase"] == "finished").then(|| assert_eq!(shown["verdict"], "passed", "{shown}"))
    });
    drop(worker);
    let said = |log: &str, word: &str| {
        let log = fs::read_to_string(quay.path(log)).expect("a log");
        log.lines().filter(|line| line.contains(word)).map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(said("service.log", "silent"), [""; 0], "the service let its worker go");
    assert_eq!(said("workers.log", " linked").len(), 1, "the worker let its service go: {:?}", said("workers.log", ""));
    assert_eq!(quay.sql("select count(*) from attempts where ended = 'lost'"), "0");
}

/// The answer to a call, as it comes.
pub fn raw(quay: &Quay, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> String {
    let address = quay.url.strip_prefix("http://").expect("an address");
    let mut stream = TcpStream::connect(address).expect("it answers");
    let mut head = format!(
        "{method} {path} HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\nContent-Length: {}\r\n",
        body.len()
    );
    headers.iter().for_each(|(name, value)| head += &format!("{name}: {value}\r\n"));
    stream.write_all(format!("{head}\r\n").as_bytes()).and_then(|()| stream.write_all(body)).expect("it is sent");
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).expect("it answers");
    text(&answer)
}

/// A plain call: status and body.
pub fn call(
    quay: &Quay,
    method: &str,
    path: &str,
    headers: &[(&str, &str)],
    body: &[u8],
) -> (u16, String, Vec<String>) {
    let answer = raw(quay, method, path, headers, body);
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    let status = head
        .split_whitespace()
        .nth(1)
        .and_then(|s| s.parse().ok())
        .unwrap_or_else(|| panic!("{method} {path}: {head}"));
    let cookies = head
        .lines()
        .filter_map(|l| l.strip_prefix("set-cookie: ").or(l.strip_prefix("Set-Cookie: ")))
        .map(str::to_owned);
    (status, body.to_owned(), cookies.collect())
}

#[test]
fn a_browsers_session_is_not_the_token_and_only_the_consoles_own_pages_change_anything() {
    let quay = shared();
    let token = quay.token();
    let body = json!({ "token": token }).to_string();
    let json_kind = ("Content-Type", "application/json");
    let (status, _, cookies) = call(quay, "POST", "/api/session", &[json_kind, ("Origin", &quay.url)], body.as_bytes());
    assert_eq!(status, 200);
    let cookie = cookies[0].split(';').next().expect("a cookie").to_owned();
    assert!(
        !cookies[0].contains(&token) && cookies[0].contains("HttpOnly") && cookies[0].contains("SameSite=Strict"),
        "{cookies:?}"
    );
    // Anybody can write such a header: it counts only of a proxy that was named.
    let (_, _, forged) =
        call(quay, "POST", "/api/session", &[json_kind, ("X-Forwarded-Proto", "https")], body.as_bytes());
    assert!(!forged[0].contains("Secure"), "{forged:?}");
    let behind = Quay::with_options(&["--behind-proxy", "127.0.0.1"]);
    let own = json!({ "token": behind.token() }).to_string();
    let (_, _, secure) =
        call(&behind, "POST", "/api/session", &[json_kind, ("X-Forwarded-Proto", "https")], own.as_bytes());
    assert!(secure[0].contains("Secure"), "{secure:?}");
    let with = ("Cookie", cookie.as_str());
    assert_eq!(call(quay, "GET", "/api/runs", &[with], b"").0, 200);
    let new = json!({ "name": "made-by-a-page", "role": "admin" }).to_string();
    let post = |headers: &[(&str, &str)]| call(quay, "POST", "/api/tokens", headers, new.as_bytes());
    for (headers, wanted, why) in [
        (
            vec![with, ("Content-Type", "text/plain"), ("Origin", "http://127.0.0.1:9")],
            403,
            "a page of http://127.0.0.1:9",
        ),
        (vec![with, json_kind, ("Origin", "http://127.0.0.1:9")], 403, "may change nothing"),
        (vec![with, json_kind, ("Origin", "null")], 403, "may change nothing"),
        (vec![with, json_kind], 403, "says where it comes from"),
        (vec![with, ("Content-Type", "text/plain"), ("Origin", quay.url.as_str())], 415, "application/json"),
    ] {
        let (status, said, _) = post(&headers);
        assert!(status == wanted && said.contains(why), "{headers:?}: {status} {said}");
    }
    // A page that knows the token is no better, and nobody works with a cookie.
    let bearer = format!("Bearer {token}");
    assert_eq!(post(&[("Authorization", &bearer), json_kind, ("Origin", "http://evil.example")]).0, 403);
    let link = [
        ("Connection", "Upgrade"),
        ("Upgrade", "websocket"),
        ("Sec-WebSocket-Version", "13"),
        ("Sec-WebSocket-Key", "dGhlIHNhbXBsZSBub25jZQ=="),
    ];
    let (status, said, _) = call(quay, "GET", "/api/work/link", &[&link[..], &[with]].concat(), b"");
    assert!(status == 401, "{status} {said}");
    let sign_in_elsewhere =
        call(quay, "POST", "/api/session", &[json_kind, ("Origin", "http://evil.example")], body.as_bytes());
    assert_eq!(sign_in_elsewhere.0, 403);
    assert!(!all_said(&quay.kesmo(&["token", "list"])).contains("made-by-a-page"));
    assert_eq!(call(quay, "DELETE", "/api/session", &[with, ("Origin", &quay.url)], b"").0, 204);
    let (status, said, _) = call(quay, "GET", "/api/runs", &[with], b"");
    assert!(status == 401 && said.contains("not signed in any more"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_another_port_makes_no_token() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let other = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = other.local_addr().expect("a port").port();
    let (seen, told) = std::sync::mpsc::channel::<String>();
    std::thread::spawn(move || {
        for stream in other.incoming() {
            let Ok(mut stream) = stream else { return };
            let mut request = vec![0; 8192];
            let read = stream.read(&mut request).unwrap_or(0);
            if seen.send(text(&request[..read])).is_err() {
                return;
            }
            let page = "<html><body>another page</body></html>";
            let answer = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{page}",
                page.len()
            );
            drop(stream.write_all(answer.as_bytes()));
        }
    });
    let page = browser(1000, 700).await;
    page.client.goto(&format!("{}/#token={}", quay.url, quay.token())).await.expect("the console");
    page.shows(&["Now"]).await;
    page.client.goto(&format!("http://127.0.0.1:{port}/")).await.expect("the other page");
    page.shows(&["another page"]).await;
    let script = r#"
        const done = arguments[arguments.length - 1];
        const post = (type) => fetch(arguments[0] + '/api/tokens', { method: 'POST', credentials: 'include', mode: 'no-cors',
            headers: { 'Content-Type': type }, body: JSON.stringify({ name: 'page-of-another-port', role: 'admin' }) });
        Promise.allSettled([post('text/plain'), post('application/x-www-form-urlencoded')]).then(() => done('asked'));"#;
    page.client.execute_async(script, vec![json!(quay.url)]).await.expect("the page asks");
    assert!(!all_said(&quay.kesmo(&["token", "list"])).contains("page-of-another-port"));
    // What the other port is sent is not the token.
    let sent: Vec<String> = told.try_iter().collect();
    assert!(!sent.is_empty() && sent.iter().all(|request| !request.contains(&quay.token())), "{sent:?}");
}

/// A gzipped tar archive of raw blocks.
fn gzipped(blocks: &[&[u8]]) -> Vec<u8> {
    let mut gzip = Command::new("gzip").arg("-c").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("gzip");
    let mut input = gzip.stdin.take().expect("its input");
    let blocks: Vec<Vec<u8>> = blocks.iter().map(|b| b.to_vec()).collect();
    let writer = std::thread::spawn(move || blocks.iter().for_each(|b| input.write_all(b).expect("it is written")));
    let mut out = Vec::new();
    gzip.stdout.take().expect("its output").read_to_end(&mut out).expect("it is read");
    writer.join().expect("it was written");
    gzip.wait().expect("it ends");
    out
}

/// A header of a tar archive (POSIX.1-1988).
fn tar_header(name: &str, kind: u8, size: &[u8; 12], target: &str) -> [u8; 512] {
    let mut header = [0u8; 512];
    header[..name.len()].copy_from_slice(name.as_bytes());
    header[100..108].copy_from_slice(b"0000644\0");
    header[124..136].copy_from_slice(size);
    header[148..156].copy_from_slice(b"        ");
    header[156] = kind;
    header[157..157 + target.len()].copy_from_slice(target.as_bytes());
    header[257..265].copy_from_slice(b"ustar  \0");
    let sum: u32 = header.iter().map(|b| u32::from(*b)).sum();
    header[148..155].copy_from_slice(format!("{sum:06o}\0").as_bytes());
    header
}

#[test]
fn a_bundle_that_claims_too_much_takes_no_memory_and_is_refused() {
    let quay = Quay::open();
    let zeros = vec![0u8; 64 << 20];
    // 5 GiB, as the tar format of GNU writes what has no place in octal digits.
    let huge = [0x80, 0, 0, 0, 0, 0, 0, 1, 0x40, 0, 0, 0];
    let name = tar_header("././@LongLink", b'L', &huge, "");
    let link = tar_header("kesmo.toml", b'2', b"00000000000\0", "/dev/zero");
    let fifo = tar_header("odd", b'6', b"00000000000\0", "");
    let memory = |what: &str| {
        let pid = quay.json(&["workers"]).is_array().then(|| quay.service_pid()).expect("it answers");
        let status = fs::read_to_string(format!("/proc/{pid}/status")).expect("its status");
        let line = status.lines().find(|l| l.starts_with(what)).expect("its memory").to_owned();
        line.split_whitespace().nth(1).and_then(|kb| kb.parse::<u64>().ok()).expect("a number") >> 10
    };
    let before = memory("VmHWM");
    for (blocks, why) in [
        (vec![name.as_slice(), zeros.as_slice(), zeros.as_slice()], "a header of 5368709120 bytes"),
        (vec![link.as_slice(), &[0; 1024]], "not a regular file"),
        (vec![fifo.as_slice(), &[0; 1024]], "no file, folder or link"),
    ] {
        let bundle = gzipped(&blocks);
        let path = format!("/api/bundles/{}", Digest::of(&bundle));
        let bearer = format!("Bearer {}", quay.token());
        let (status, said, _) =
            call(&quay, "PUT", &path, &[("Authorization", &bearer), ("Content-Type", "application/gzip")], &bundle);
        assert!(status == 422 && said.contains(why), "{status}: {said}");
    }
    let after = memory("VmHWM");
    assert!(after < before + 300, "from {before} to {after} MiB");
}

#[test]
fn every_call_bears_whatever_is_sent_and_answers_as_its_document_says() {
    let quay = shared();
    let token = |role: &str| {
        text(&quay.kesmo(&["token", "add", &format!("odd-{role}"), "--role", role]).stdout).trim().to_owned()
    };
    let tokens: BTreeMap<&str, String> = ["reader", "operator", "worker"]
        .into_iter()
        .map(|role| (role, token(role)))
        .chain([("admin", quay.token()), ("nobody", String::new())])
        .collect();
    let bearer = format!("Bearer {}", quay.token());
    let (_, document, _) = call(quay, "GET", "/api/openapi.json", &[("Authorization", &bearer)], b"");
    let document: Value = serde_json::from_str(&document).unwrap_or_else(|e| panic!("{e}: {document:.200}"));
    let (mut calls, mut odd) = (0, Vec::new());
    for (path, item) in document["paths"].as_object().expect("paths") {
        for (method, operation) in item.as_object().expect("methods") {
            if path.ends_with("/live") || path.ends_with("/output") {
                continue;
            }
            let declared = operation["responses"].as_object().expect("responses");
            let fill = |with: &str| {
                let parts = path.split('/').map(|p| if p.starts_with('{') { with } else { p });
                parts.collect::<Vec<_>>().join("/")
            };
            let bodies: [&[u8]; 5] =
                [b"", b"{", b"{\"name\": \"\\u0000\", \"key\": \"\\u0000\"}", b"{\"a\": \"\xff\xfe\"}", b"[]"];
            let paths = [
                fill("7"),
                fill("x%00y"),
                fill(&"n".repeat(3000)),
                format!("{}?suite=%00&test=%00&name=%00", fill("1")),
            ];
            for (role, token) in &tokens {
                for (number, path) in paths.iter().enumerate() {
                    let bodies =
                        if operation["requestBody"].is_object() && number < 2 { &bodies[..] } else { &bodies[..1] };
                    for body in bodies {
                        // A call that would do something is made with what cannot be done.
                        if *role == "admin" && method == "delete" && path.contains("session") {
                            continue;
                        }
                        let bearer = format!("Bearer {token}");
                        let mut headers = vec![("Content-Type", "application/json")];
                        if !token.is_empty() {
                            headers.push(("Authorization", bearer.as_str()));
                        }
                        let (status, said, _) = call(quay, &method.to_uppercase(), path, &headers, body);
                        calls += 1;
                        let shown = text(body);
                        if status >= 500 || !declared.contains_key(&status.to_string()) {
                            odd.push(format!("{role} {method} {path:.80} {shown:?}: {status} {said:.160}"));
                        }
                    }
                }
            }
        }
    }
    assert!(odd.is_empty(), "{} of {calls} calls:\n{}", odd.len(), odd.join("\n"));
    assert!(calls > 2000, "{calls}");
}

#[test]
fn a_test_finds_its_workers_token_nowhere() {
    let quay = Quay::open();
    let token = worker_token(&quay, "hidden");
    let as_root = nix::unistd::Uid::effective().is_root();
    let body = r##"
{ tr '\0' '\n' < /proc/$PPID/environ; tr '\0' '\n' < /proc/$PPID/cmdline; env; ls -l /proc/$PPID/fd; cat "$HOME/.config/kesmo/login.json"; } 2>&1 | sed 's/^/# /'
[ "$(id -u)" = 0 ] || { cat /proc/$PPID/maps > /dev/null 2>&1 && echo '# it can read the memory of its worker'; }
echo "# it runs as $(id -un)"
echo "not ok - $t""##;
    let folder = quay.tap("curious", "a", body, "");
    for how in ["environment", "argument", "file"] {
        let name = format!("by-{how}");
        let mut command = Command::new(KESMO);
        command.args(["worker", "--name", &name, "--slots", "1", "--home"]).arg(quay.path(&name));
        command.env("KESMO_URL", &quay.url).env("HOME", quay.dir.path()).stdout(Stdio::null()).stderr(Stdio::null());
        let file = quay.path("the-token");
        fs::write(&file, &token).expect("a file");
        match how {
            "environment" => command.env("KESMO_TOKEN", &token),
            "argument" => command.args(["--token", &token]).env_remove("KESMO_TOKEN"),
            _ => command.arg("--token-file").arg(&file).env_remove("KESMO_TOKEN"),
        };
        if as_root {
            command.args(["--run-as", "nobody"]);
        }
        let worker = Process(command.spawn().expect("it starts"));
        let (status, said) = quay.wait(&folder, &[]);
        assert_eq!(status, 1, "{said}");
        let run = quay.json(&["runs", "--suite", "curious"])[0]["name"].as_str().expect("a name").to_owned();
        let found = all_said(&quay.kesmo(&["log", &run, "a"]));
        assert!(found.contains("it runs as") && !found.contains(&token), "{how}: {found}");
        assert!(!found.contains("it can read the memory"), "{how}: {found}");
        if as_root {
            assert_says(&found, &["it runs as nobody"]);
        }
        drop(worker);
        until("it is gone", || quay.json(&["workers"]).as_array().expect("workers").is_empty().then_some(()));
    }
    let nobody = quay.kesmo_as(&token, &["worker", "--run-as", "no-such-user"]);
    assert_eq!(nobody.status.code(), Some(2));
    assert_says(&all_said(&nobody), &["--run-as no-such-user: "]);
}

#[test]
fn what_is_seen_of_a_service_holds_no_secret() {
    let quay = Quay::fresh();
    let log = fs::read_to_string(quay.path("service.log")).expect("the log");
    assert!(!log.contains(&quay.token()));
    // What it says where no terminal reads it names the file and not the token.
    assert_says(&quay.greeting(), &["The first admin's token is in ", "admin-token"]);
    assert!(!quay.greeting().contains(&quay.token()));
    use std::os::unix::fs::PermissionsExt;
    let mode = fs::metadata(quay.path("service/blobs")).expect("the folder").permissions().mode();
    assert_eq!(mode & 0o777, 0o700);
    // Its debug log holds neither the tokens that callers send, nor the parameters of statements.
    let mut loud = Command::new(KESMO);
    loud.args(["serve", "--listen", "127.0.0.1:0", "--data"]).arg(quay.path("loud"));
    let log = fs::File::create(quay.path("loud.log")).expect("a log");
    loud.env("KESMO_LOG", "trace").stdout(Stdio::piped()).stderr(log);
    let mut loud = Process(loud.spawn().expect("it starts"));
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(loud.0.stdout.take().expect("its output")), &mut line)
        .expect("it says where");
    let url = line.trim().strip_prefix("Kesmo is listening on ").expect("it listens").to_owned();
    let token = fs::read_to_string(quay.path("loud/admin-token")).expect("its token").trim().to_owned();
    let client = kesmo_client::Client::new(&url, &token, &kesmo_tls::Trust::default()).expect("a client");
    let made: Value = Runtime::new()
        .expect("a runtime")
        .block_on(client.post("/api/tokens", &json!({ "name": "seen", "role": "reader" })))
        .expect("a token");
    let said = fs::read_to_string(quay.path("loud.log")).expect("the log");
    for secret in [token.as_str(), made["token"].as_str().expect("its text")] {
        assert!(said.len() > 100 && !said.contains(secret), "a token stands in the log");
    }
}

#[test]
fn an_upload_that_is_broken_off_leaves_nothing_behind() {
    let quay = shared();
    let folder = quay.tap("broken-off", "a", "echo \"ok - $t\"", "");
    // Random, so that it does not pack small and is sent in pieces.
    let mut noise = vec![0; 3 << 20];
    std::fs::File::open("/dev/urandom").and_then(|mut f| f.read_exact(&mut noise)).expect("noise");
    fs::write(folder.join("noise"), noise).expect("a file");
    let bundle = kesmo_client::pack::pack(&folder).expect("a bundle");
    let coming = quay.path("service/blobs/coming");
    let left = || fs::read_dir(&coming).map_or(0, Iterator::count);
    let address = quay.url.strip_prefix("http://").expect("an address");
    let mut stream = TcpStream::connect(address).expect("it answers");
    let head = format!(
        "PUT /api/bundles/{} HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {}\r\nContent-Type: application/gzip\r\n\
         Content-Length: {}\r\n\r\n",
        bundle.digest,
        quay.token(),
        bundle.content.len()
    );
    let half = &bundle.content[..bundle.content.len() / 2];
    stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(half)).expect("half of it is sent");
    until("it comes", || (left() > 0).then_some(()));
    drop(stream);
    until("what came is cleared away", || (left() == 0).then_some(()));
    let bearer = format!("Bearer {}", quay.token());
    let known = || call(quay, "HEAD", &format!("/api/bundles/{}", bundle.digest), &[("Authorization", &bearer)], b"").0;
    assert_eq!(known(), 404, "half a bundle is none");
    assert_eq!(quay.wait(&folder, &[]).0, 0, "sent whole it is one");
    assert_eq!(known(), 200);
}

#[test]
fn many_forecasts_at_once_keep_nobody_else_waiting() {
    let quay = shared();
    let names: Vec<String> = (0..400).map(|n| format!("sea/{n}")).collect();
    let folder = quay.tap("weathers", &names.join(" "), "echo \"ok - $t\"", "");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    assert_eq!(quay.kesmo(&["start", "weathers", "--wait"]).status.code(), Some(0));
    let bearer = format!("Bearer {}", quay.token());
    let headers = [("Authorization", bearer.as_str()), ("Content-Type", "application/json")];
    let shards: Vec<u32> = (1..=64).collect();
    let body = serde_json::json!({ "shards": shards }).to_string();
    let longest = std::thread::scope(|scope| {
        let forecast = || call(quay, "POST", "/api/suites/weathers/forecast", &headers, body.as_bytes());
        let asked: Vec<_> = (0..12).map(|_| scope.spawn(forecast)).collect();
        let mut longest = Duration::ZERO;
        while !asked.iter().all(|job| job.is_finished()) {
            let began = std::time::Instant::now();
            assert_eq!(call(quay, "GET", "/api/health", &[], b"").0, 200);
            longest = longest.max(began.elapsed());
            std::thread::sleep(Duration::from_millis(10));
        }
        for job in asked {
            let (status, said, _) = job.join().expect("it is answered");
            assert!(status == 200 || (status == 503 && said.contains("try again soon")), "{status}: {said}");
        }
        longest
    });
    assert!(longest < Duration::from_secs(5), "others were kept waiting for {longest:?}");
}

#[test]
fn idle_connections_do_not_keep_others_out() {
    let quay = shared();
    let data = quay.path("narrow");
    let mut service = Command::new("sh");
    service.args(["-c", "ulimit -n 300; exec \"$0\" serve --listen 127.0.0.1:0 --data \"$1\"", KESMO]).arg(&data);
    service.stdout(Stdio::piped()).stderr(Stdio::null());
    let mut service = Process(service.spawn().expect("it starts"));
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(service.0.stdout.take().expect("its output")), &mut line)
        .expect("it says where");
    let address = line.trim().strip_prefix("Kesmo is listening on http://").expect("it listens").to_owned();
    let idle: Vec<TcpStream> = (0..600).filter_map(|_| TcpStream::connect(&address).ok()).collect();
    assert!(idle.len() > 250, "{}", idle.len());
    until("it answers though", || {
        let mut stream = TcpStream::connect(&address).ok()?;
        stream.set_read_timeout(Some(Duration::from_secs(2))).ok()?;
        stream
            .write_all(format!("GET /api/health HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\n\r\n").as_bytes())
            .ok()?;
        let mut answer = String::new();
        stream.read_to_string(&mut answer).ok()?;
        answer.starts_with("HTTP/1.1 200").then_some(())
    });
    drop(idle);
}

/// A proxy that speaks TLS before a service: its address, and the file with the authority that certified it.
fn behind_tls(quay: &Quay) -> (String, std::path::PathBuf) {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
    let ca = quay.path("authority.pem");
    fs::write(&ca, made.cert.pem()).expect("a file");
    let key = rustls_pki_types::PrivateKeyDer::Pkcs8(made.signing_key.serialize_der().into());
    let config = rustls::ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .expect("the usual versions")
        .with_no_client_auth()
        .with_single_cert(vec![made.cert.der().clone()], key)
        .expect("a certificate with its key");
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let (told, port) = std::sync::mpsc::channel();
    let service = quay.url.strip_prefix("http://").expect("an address").to_owned();
    std::thread::spawn(move || {
        Runtime::new().expect("a runtime").block_on(async move {
            let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
            told.send(listener.local_addr().expect("a port").port()).expect("the test waits");
            while let Ok((stream, _)) = listener.accept().await {
                let (acceptor, service) = (acceptor.clone(), service.clone());
                tokio::spawn(async move {
                    let Ok(mut stream) = acceptor.accept(stream).await else { return };
                    let Ok(mut inner) = tokio::net::TcpStream::connect(service).await else { return };
                    drop(tokio::io::copy_bidirectional(&mut stream, &mut inner).await);
                });
            }
        });
    });
    (format!("https://localhost:{}", port.recv().expect("a port")), ca)
}

#[test]
fn clients_workers_and_those_that_join_speak_tls() {
    let quay = Quay::open();
    let (url, ca) = behind_tls(&quay);
    let ca = ca.to_string_lossy().into_owned();
    let token = quay.token();
    let call = |words: &[&str]| quay.kesmo(&[&["--url", url.as_str()], words].concat());
    assert_eq!(call(&["--ca", &ca, "runs"]).status.code(), Some(0), "{}", all_said(&call(&["--ca", &ca, "runs"])));
    let untrusted = call(&["runs"]);
    assert_eq!(untrusted.status.code(), Some(12));
    assert!(all_said(&untrusted).to_lowercase().contains("certificate"), "{}", all_said(&untrusted));
    let none = call(&["--ca", "/nowhere.pem", "runs"]);
    assert_eq!(none.status.code(), Some(2));
    assert_says(&all_said(&none), &["--ca /nowhere.pem"]);
    let worker_token = worker_token(&quay, "over-tls");
    let mut worker = Command::new(KESMO);
    worker.args(["worker", "--name", "over-tls", "--url", &url, "--ca", &ca, "--home"]).arg(quay.path("over-tls"));
    worker.env("KESMO_TOKEN", worker_token).stdout(Stdio::null()).stderr(Stdio::null());
    let worker = Process(worker.spawn().expect("it starts"));
    let folder = quay.tap(
        "over-tls",
        "a b",
        "echo $KESMO_WORKER; head -c 40000 /dev/zero | tr '\\0' x; echo; echo \"ok - $t\"",
        "",
    );
    let place = folder.to_string_lossy().into_owned();
    let started = call(&["--ca", &ca, "start", &place, "--wait"]);
    assert_eq!(started.status.code(), Some(0), "{}", all_said(&started));
    assert_eq!(quay.history("over-tls/1", "a")[0]["worker"], "over-tls");
    drop(worker);
    let joined = Command::new(KESMO)
        .args(["join", "--url", &url, "--ca", &ca, "--suite", &place, "--key", "tls-1", "--slots", "1"])
        .env("KESMO_TOKEN", &token)
        .env("HOME", quay.dir.path())
        .env_remove("XDG_CACHE_HOME")
        .output()
        .expect("it runs");
    assert_eq!(joined.status.code(), Some(0), "{}", all_said(&joined));
    // A login keeps whom it trusts.
    let login = Command::new(KESMO)
        .args(["login", &url, "--ca", &ca])
        .env("KESMO_TOKEN", &token)
        .env("HOME", quay.dir.path())
        .env_remove("XDG_CONFIG_HOME")
        .output()
        .expect("it runs");
    assert_eq!(login.status.code(), Some(0), "{}", all_said(&login));
    let later = Command::new(KESMO)
        .arg("runs")
        .env("HOME", quay.dir.path())
        .env_remove("KESMO_TOKEN")
        .env_remove("KESMO_URL")
        .env_remove("XDG_CONFIG_HOME")
        .output()
        .expect("it runs");
    assert_eq!(later.status.code(), Some(0), "{}", all_said(&later));
}

#[test]
fn a_worker_waits_for_a_service_that_is_away_while_it_fetches_files() {
    let mut quay = Quay::with_patience("20s");
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("fetched-late", "a", "echo \"ok - $t\"", "");
    // The blob is out of the way as the worker asks for it: the service answers that it has trouble, until it is back.
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    let run = quay.start_run(&folder, &[]);
    quay.kill_service();
    std::thread::sleep(Duration::from_secs(6));
    quay.start();
    let told = until("it is over", || Some(quay.run(&run)).filter(|r| r["verdict"].is_string()));
    assert_eq!(told["verdict"], "passed", "{told}");
}

#[test]
fn one_row_that_cannot_be_read_stops_no_other() {
    let (quay, clock) = Quay::with_clock("2026-11-23T12:00:30Z");
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap("rowed", "a", "echo \"ok - $t\"", "");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    for name in ["torn", "whole"] {
        let made = quay.kesmo(&["schedule", "add", name, "--suite", "rowed", "--cron", "* * * * *", "--yes"]);
        assert!(made.status.success(), "{}", all_said(&made));
    }
    for name in ["torn-brief", "whole-brief"] {
        assert!(quay.kesmo(&["brief", "add", name, "--suite", "rowed"]).status.success());
    }
    quay.sql("update schedules set times = '{\"cron\": 7}' where name = 'torn'");
    quay.sql("update briefs set brief = '{\"suite\": 7}' where name = 'torn-brief'");
    quay.sql("update briefs set brief = brief || '{\"of_a_newer_version\": true}' where name = 'whole-brief'");
    clock.set("2026-11-23T12:01:01Z");
    let started = until("the other starts", || {
        let runs = quay.json(&["runs", "--suite", "rowed"]);
        runs.as_array().expect("runs").first().cloned()
    });
    assert_eq!(started["origin"]["name"], "whole");
    assert_says(&all_said(&quay.kesmo(&["brief", "list"])), &["torn-brief", "whole-brief"]);
    let again = quay.kesmo(&["start", "--brief", "whole-brief", "--wait"]);
    assert_eq!(again.status.code(), Some(0), "{}", all_said(&again));
    let says = until("it is told where it is seen", || {
        let shown = all_said(&quay.kesmo(&["schedule", "show", "torn", "--json"]));
        (shown.contains("refused") || shown.contains("cannot be read")).then_some(shown)
    });
    assert_says(&says, &["cannot be read"]);
}

#[test]
fn a_run_whose_rows_do_not_fit_its_plan_is_void_and_the_service_starts() {
    let mut quay = Quay::open();
    let worker = quay.worker("heron", 1);
    let folder = quay.tap("misfit", "a b", "sleep 60; echo \"ok - $t\"", "[limits]\ntest = \"90s\"");
    let run = quay.start_run(&folder, &["--shards", "1"]);
    until("it runs", || (quay.run(&run)["tally"]["running"] == 1).then_some(()));
    quay.sql("update batches set entries = '[0, 4000000]'");
    quay.kill_service();
    quay.start();
    let told = until("it is void", || Some(quay.run(&run)).filter(|r| r["verdict"].is_string()));
    assert_eq!(told["verdict"], "void", "{told}");
    assert_says(told["reason"].as_str().expect("a reason"), &["names entry 4000000, and its plan has 2"]);
    drop(worker);
}
