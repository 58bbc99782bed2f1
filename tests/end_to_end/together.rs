//! Two services on one database: each tells all, streams too, of what the other carries out, and one that ends hands over.

use std::{
    fs,
    path::PathBuf,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

use serde_json::{Value, json};

use crate::{
    holes::call,
    once::Twins,
    quay::{Quay, all_said, assert_says, text, until},
};

/// What a stream has brought so far.
#[derive(Clone, Default)]
struct Heard(Arc<Mutex<Vec<(Instant, String, Value)>>>);

impl Heard {
    /// Listens to a stream of a service, and again where it is cut.
    fn of(quay: &Quay, token: &str, path: &str) -> Self {
        let heard = Self::default();
        let (kept, client, path) = (heard.clone(), quay.client(token), path.to_owned());
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
            runtime.block_on(async {
                let Ok(mut stream) = client.watch(&path, None).await else { return };
                while let Ok(Some(event)) = stream.next().await {
                    let data = serde_json::from_str(&event.data).unwrap_or_default();
                    kept.0.lock().expect("nobody failed").push((Instant::now(), event.kind, data));
                }
            });
        });
        heard
    }

    fn find<T>(&self, what: &str, look: impl Fn(&Instant, &str, &Value) -> Option<T>) -> T {
        until(what, || self.0.lock().expect("nobody failed").iter().find_map(|(at, kind, data)| look(at, kind, data)))
    }
}

#[test]
fn each_service_tells_all_of_what_the_other_carries_out() {
    let mut twins = Twins::open("2026-11-23T12:00:00Z");
    let gate: PathBuf = twins.dir.path().join("open");
    let body = format!("echo begun $t; while [ ! -e {}-$t ]; do sleep 0.02; done; echo \"ok - $t\"", gate.display());
    let folder = twins.both[0].tap("told", "a b c", &body, "[limits]\ntest = \"60s\"");
    twins.done(&["suite", "add", &folder.to_string_lossy()]);
    let urls = format!("{},{}", twins.both[0].url, twins.both[1].url);
    let _worker = twins.both[0].worker_at("heron", 1, &urls, &twins.token);
    until("the worker is here", || {
        twins.both[0].kesmo_as(&twins.token, &["workers"]).stdout.len().gt(&30).then_some(())
    });
    let other = &twins.both[1];
    let as_other = |words: &[&str]| other.kesmo_as(&twins.token, words);
    // The other one knows the worker, starts a run on it, and tells it in full as it goes.
    assert_says(&text(&as_other(&["workers"]).stdout), &["heron"]);
    let all = Heard::of(other, &twins.token, "/api/live");
    all.find("the worker is told", |_, kind, data| {
        (kind == "snapshot" && data["workers"].as_array().is_some_and(|all| all.len() == 1)).then_some(())
    });
    let started = as_other(&["start", "told"]);
    assert!(started.status.success(), "{}", all_said(&started));
    let run = text(&started.stdout).trim().to_owned();
    let get = |path: &str| -> Value {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        runtime.block_on(other.client(&twins.token).get(path, &[])).expect("an answer")
    };
    let (index, test) = until("the first test runs", || {
        let entries = get(&format!("/api/runs/{run}/entries"));
        let running = entries["entries"].as_array()?.iter().find(|entry| entry["running"] == true)?;
        Some((running["index"].as_u64()?, running["test"].as_str()?.to_owned()))
    });
    let watched = Heard::of(other, &twins.token, &format!("/api/runs/{run}/live"));
    watched.find("a snapshot with the slot", |_, kind, data| {
        (kind == "snapshot" && data["slots"].as_array().is_some_and(|slots| !slots.is_empty())).then_some(())
    });
    let output = Heard::of(other, &twins.token, &format!("/api/runs/{run}/entries/{index}/output"));
    output.find("what the test prints", |_, _, data| {
        data["text"].as_str()?.contains(&format!("begun {test}")).then_some(())
    });
    fs::write(format!("{}-{test}", gate.display()), "").expect("the gate is opened");
    let opened = Instant::now();
    let (told, change) = watched.find("the attempt is told", |at, kind, data| {
        (kind == "change" && data["attempts"].to_string().contains(&format!("\"{test}\""))).then(|| (*at, data.clone()))
    });
    // At the least within a few times of what the test itself takes to see that its gate is open.
    assert!(told.duration_since(opened) < Duration::from_secs(5), "{change}");
    // The queue and the order in it are of all.
    let second = text(&as_other(&["start", "told"]).stdout).trim().to_owned();
    until("it waits", || get("/api/queue").to_string().contains(&second).then_some(()));
    let third = text(&as_other(&["start", "told"]).stdout).trim().to_owned();
    until("it waits", || get("/api/queue").to_string().contains(&third).then_some(()));
    let moved = as_other(&["queue", "move", &third, "--first"]);
    assert!(moved.status.success(), "{}", all_said(&moved));
    until("it is the first", || (get("/api/queue")[0]["name"] == third.as_str()).then_some(()));
    // A worker is drained through the other, in the name of who asks.
    let drained = as_other(&["worker", "drain", "heron"]);
    assert!(drained.status.success(), "{}", all_said(&drained));
    let of_first = text(&twins.both[0].kesmo_as(&twins.token, &["workers", "--json"]).stdout);
    assert_says(&of_first, &["\"draining\": true"]);
    // Rights are those of who asks, wherever it is asked, and a service's word cannot be made up.
    let limited =
        text(&as_other(&["token", "add", "few", "--role", "reader", "--suite", "none-*"]).stdout).trim().to_owned();
    let (status, ..) =
        call(other, "GET", &format!("/api/runs/{run}"), &[("Authorization", &format!("Bearer {limited}"))], b"");
    assert_eq!(status, 403);
    for token in ["kesmo-service-", "kesmo-service-AAAA", twins.token.as_str()] {
        let bearer = format!("Bearer {token}");
        assert_eq!(call(other, "GET", "/api/peers/floor", &[("Authorization", &bearer)], b"").0, 401, "{token}");
    }
    // The one that carries it out is killed: this one takes over within ten seconds, and streams say so.
    let killed = Instant::now();
    twins.both[0].kill_service();
    let other = &twins.both[1];
    for name in ["a", "b", "c"] {
        fs::write(format!("{}-{name}", gate.display()), "").expect("the gate is opened");
    }
    until("the worker is at the other", || {
        let said = text(&other.kesmo_as(&twins.token, &["workers", "--json"]).stdout);
        (said.contains("heron") && said.contains("\"connected\": true")).then_some(())
    });
    let took = killed.elapsed();
    assert!(took < Duration::from_secs(15), "{took:?}");
    eprintln!("another service had taken over {:.1} s after one was killed", took.as_secs_f64());
    let back = other.kesmo_as(&twins.token, &["worker", "drain", "heron", "--undo"]);
    assert!(back.status.success(), "{}", all_said(&back));
    until("the verdict", || {
        let shown: Value =
            serde_json::from_slice(&other.kesmo_as(&twins.token, &["show", &run, "--json"]).stdout).ok()?;
        (shown["run"]["verdict"] == "passed").then_some(())
    });
    all.find("the end is told to who watches all", |_, _, data| {
        let runs = data["runs"].as_array()?;
        runs.iter().any(|one| one["name"] == run.as_str() && one["verdict"] == "passed").then_some(())
    });
}

#[test]
fn a_service_that_is_drained_hands_over_and_says_so() {
    let mut twins = Twins::open("2026-11-23T12:00:00Z");
    let gate: PathBuf = twins.dir.path().join("open");
    let body = format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"ok - $t\"", gate.display());
    let folder = twins.both[0].tap("drained", "a b", &body, "[limits]\ntest = \"60s\"");
    let urls = format!("{},{}", twins.both[0].url, twins.both[1].url);
    let _worker = twins.both[0].worker_at("tern", 1, &urls, &twins.token);
    let run = twins.done(&["start", &folder.to_string_lossy()]);
    until("it runs", || (twins.json(&["show", &run])["run"]["phase"] == "running").then_some(()));
    let ready = |quay: &Quay| call(quay, "GET", "/api/ready", &[], b"");
    assert_eq!(ready(&twins.both[0]).0, 200);
    let data = twins.both[0].path("service").display().to_string();
    // A process that the folder's file names, and which is not the service, is left alone.
    let mut stranger = crate::quay::Process(std::process::Command::new("sleep").arg("600").spawn().expect("it sleeps"));
    let lock = twins.both[0].path("service").join("lock");
    let named = fs::read_to_string(&lock).expect("the process of the service");
    fs::write(&lock, stranger.0.id().to_string()).expect("it is named");
    let refused = twins.both[0].kesmo(&["serve", "--drain", "1s", "--data", &data]);
    assert_says(&all_said(&refused), &["does not use that file", "drain it in there"]);
    assert!(stranger.0.try_wait().expect("it can be waited for").is_none(), "it sleeps on");
    fs::write(&lock, named).expect("the service is named again");
    let mut drain =
        crate::quay::Process(crate::quay::spawn(twins.both[0].command(&["serve", "--drain", "2s", "--data", &data])));
    let said =
        until("it says that it is not ready", || Some(ready(&twins.both[0])).filter(|(status, ..)| *status == 503));
    assert_says(&said.1, &["it is drained, and about to end"]);
    // It still answers.
    assert_eq!(call(&twins.both[0], "GET", "/api/health", &[], b"").0, 200);
    assert_eq!(drain.wait(), 0);
    twins.both[0].service().wait();
    twins.both[0].ended();
    let ended = Instant::now();
    fs::write(&gate, "").expect("the gate is opened");
    until("the verdict", || {
        let shown = twins.json(&["show", &run]);
        (shown["run"]["phase"] == "finished").then(|| assert_eq!(shown["run"]["verdict"], "passed", "{shown}"))
    });
    eprintln!("a drained service's run had its verdict {:.1} s after it had ended", ended.elapsed().as_secs_f64());
    let entries = twins.json(&["show", &run, "--state", "all"]);
    let entries = entries["entries"]["entries"].as_array().expect("entries").clone();
    assert!(entries.iter().all(|e| e["attempts"] == 1), "{entries:?}");
    let none = twins.both[0].kesmo_as(&twins.token, &["serve", "--drain", "--data", &data]);
    assert_says(&all_said(&none), &["no service runs with the folder"]);
    assert_eq!(json!(none.status.code()), json!(2));
}

#[test]
fn a_claim_is_held_once_by_runs_of_two_services_and_goes_to_and_fro_between_them() {
    let twins = Twins::open("2026-11-23T02:00:00Z");
    let [one, two] = &twins.both;
    let _near = one.worker_in("main", "heron", 2, &twins.token);
    let _far = two.worker_in("far", "gull", 2, &twins.token);
    let lock = twins.dir.path().join("berth-lock");
    let body = format!(
        "mkdir '{0}' 2>/dev/null || {{ echo \"not ok - $t\"; continue; }}; sleep 0.1; rmdir '{0}'; echo \"ok - $t\"",
        lock.display()
    );
    let rule = "[[rule]]\ntests = [\"*\"]\nclaims = [\"berth-db\"]\n[limits]\nbatch = \"1s\"";
    let many: String = (0..150).map(|n| format!("a{n} ")).collect();
    let long = one.tap("long-berth", &many, &body, rule);
    let short = two.tap("short-berth", "a b c", &body, rule);
    let start = |quay: &Quay, folder: &std::path::Path, pool: &str| {
        let output = quay.kesmo_as(&twins.token, &["start", &folder.to_string_lossy(), "--pool", pool]);
        assert!(output.status.success(), "{}", all_said(&output));
    };
    let stands = |run: &str| twins.json(&["show", run])["run"].clone();
    start(one, &long, "main");
    until("the first run holds it", || (stands("long-berth/1")["tally"]["passed"].as_u64() > Some(0)).then_some(()));
    start(two, &short, "far");
    until("the second waits for it", || {
        let waits = stands("short-berth/1")["waiting_for"].as_str().unwrap_or_default().to_owned();
        (waits == "waiting for the claim berth-db, held by long-berth/1").then_some(())
    });
    // It is handed over before the first run is through, and handed back.
    until("the second is over", || stands("short-berth/1")["verdict"].as_str().map(str::to_owned));
    assert!(stands("long-berth/1")["verdict"].is_null(), "it need not wait for all of the other");
    for (run, tests) in [("long-berth/1", 150), ("short-berth/1", 3)] {
        let verdict = until("the run is over", || stands(run)["verdict"].as_str().map(str::to_owned));
        assert_eq!(verdict, "passed", "{run}: {}", stands(run));
        assert_eq!(stands(run)["tally"]["passed"], tests, "none held it beside another");
    }
}
