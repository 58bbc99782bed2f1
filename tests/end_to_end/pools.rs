//! Pools that start their own machines: containers of a real engine, pods of the pod harbour, and jobs of the job yard.

use std::{
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
    time::{Duration, Instant},
};

use serde_json::Value;

use crate::{
    engine::Engine,
    holes::call,
    quay::{KESMO, Process, Quay, all_said, assert_says, repository, spawn, stand_in, text, until},
};

const WORKER: &str = "localhost/kesmo-worker:1";
const SECRET: &str = "yard-secret-77";

/// Has something go wrong with a stand-in.
fn trouble(at: &str, kind: &str, times: u32) {
    let url = format!("http://{at}/trouble");
    let body = format!("{{\"kind\": \"{kind}\", \"times\": {times}}}");
    let bearer = format!("authorization: Bearer {SECRET}");
    let put = Command::new("curl").args(["-sf", "-X", "PUT", "-H", &bearer, "-d", &body, &url]).output();
    assert!(put.expect("curl runs").status.success(), "{kind}");
}

/// What a stand-in answers.
fn asked(at: &str, path: &str) -> Value {
    let bearer = format!("authorization: Bearer {SECRET}");
    let got =
        Command::new("curl").args(["-sf", "-H", &bearer, &format!("http://{at}{path}")]).output().expect("curl runs");
    serde_json::from_slice(&got.stdout).unwrap_or_else(|e| panic!("{path}: {e}: {}", all_said(&got)))
}

fn secret_file(quay: &Quay) -> String {
    let file = quay.path("secret");
    fs::write(&file, format!("{SECRET}\n")).expect("the secret");
    file.display().to_string()
}

/// A job yard with a pipeline that lends its machine to the pool `boats`.
fn yard(quay: &Quay, agents: u32) -> (Process, String) {
    let pipelines = quay.path("pipelines.json");
    fs::write(
        &pipelines,
        format!("{{\"lend\": [\"{KESMO} join --pool boats --slots 1 --engine none\"], \"nap\": [\"sleep 600\"]}}"),
    )
    .expect("pipelines");
    let agents = agents.to_string();
    stand_in("job-yard", &[&pipelines.display().to_string(), "--agents", &agents, "--token-file", &secret_file(quay)])
}

/// How jobs of that yard are described; `change` is made in the text.
fn description(quay: &Quay, at: &str, change: (&str, &str)) -> String {
    let text = format!(
        "[start]\nmethod = \"POST\"\naddress = \"http://{at}/jobs\"\nheaders = {{ authorization = \"Bearer {{secret}}\" }}\n\
         body = {{ pipeline = \"lend\", values = {{ KESMO_URL = \"{{url}}\", KESMO_TOKEN = \"{{token}}\" }} }}\njob = \"/id\"\nlink = \"/page\"\n\
         [state]\naddress = \"http://{at}/jobs/{{job}}\"\nheaders = {{ authorization = \"Bearer {{secret}}\" }}\nat = \"/state\"\nwhy = \"/why\"\n\
         waiting = [\"queued\"]\nrunning = [\"running\"]\nended = [\"passed\", \"failed\", \"ended\"]\n\
         [log]\naddress = \"http://{at}/jobs/{{job}}/log\"\nheaders = {{ authorization = \"Bearer {{secret}}\" }}\n\
         [end]\nmethod = \"POST\"\naddress = \"http://{at}/jobs/{{job}}/end\"\nheaders = {{ authorization = \"Bearer {{secret}}\" }}\n"
    );
    assert!(text.contains(change.0), "{change:?}");
    let file = quay.path("yard.toml");
    fs::write(&file, text.replacen(change.0, change.1, 1)).expect("the description");
    file.display().to_string()
}

fn add(quay: &Quay, words: &[&str]) -> String {
    let mut all = vec!["pool", "add"];
    all.extend(words);
    let added = quay.kesmo(&all);
    assert!(added.status.success(), "{words:?}: {}", all_said(&added));
    all_said(&added)
}

fn add_boats(quay: &Quay, at: &str, more: &[&str]) {
    let file = description(quay, at, ("", ""));
    let secret = secret_file(quay);
    let mut words = vec!["boats", "--kind", "ci", "--describe", &file, "--secret-file", &secret, "--slots", "1"];
    words.extend(more);
    add(quay, &words);
}

fn pool(quay: &Quay, name: &str) -> Value {
    quay.json(&["pool", "show", name])
}

/// Machines of a pool in that state.
fn machines(quay: &Quay, name: &str, state: &str) -> usize {
    pool(quay, name)["machines"].as_array().expect("machines").iter().filter(|m| m["state"] == state).count()
}

fn none_open(quay: &Quay, name: &str) {
    until("all machines have ended", || {
        let open = ["asked", "coming", "up", "leaving"].iter().map(|state| machines(quay, name, state)).sum::<usize>();
        (open == 0).then_some(())
    });
}

/// A suite of so many tests, each of which takes a while.
fn suite(quay: &Quay, name: &str, tests: usize, takes: &str) -> PathBuf {
    let names: Vec<String> = (1..=tests).map(|n| format!("t{n}")).collect();
    quay.tap(name, &names.join(" "), &format!("sleep {takes}; echo ok - $t"), "")
}

/// Every entry of a run passed, each with one attempt.
fn once_each(quay: &Quay, run: &str, tests: usize) {
    let entries = quay.entries(run);
    assert_eq!(entries.len(), tests);
    let attempts: BTreeMap<String, u64> = entries
        .iter()
        .map(|e| {
            (
                format!("{} {}", e["test"].as_str().unwrap_or_default(), e["outcome"]),
                e["attempts"].as_u64().unwrap_or(0),
            )
        })
        .filter(|(what, attempts)| !what.ends_with("\"passed\"") || *attempts != 1)
        .collect();
    // Who reads that one was lost wants to know whose doing it was.
    let machines = || all_said(&quay.kesmo(&["show", run, "--shards"])) + &quay.run(run)["notes"].to_string();
    let again = |what: &String| quay.history(run, what.split(' ').next().unwrap_or_default());
    assert!(attempts.is_empty(), "{attempts:?}: {:?}\n{}", attempts.keys().map(again).collect::<Vec<_>>(), machines());
}

/// An engine that has a worker image made from the program under test and this machine's own files.
fn engine_with_worker() -> Engine {
    let engine = Engine::start();
    let folder = tempfile::tempdir().expect("a folder");
    let made = Command::new(repository("scripts/worker-image")).arg(KESMO).arg(folder.path()).output();
    let made = made.expect("the script runs");
    assert!(made.status.success(), "{}", all_said(&made));
    engine.call(&["build", "--quiet", "--tag", WORKER, &folder.path().display().to_string()]);
    engine
}

#[test]
fn containers_are_started_for_a_run_and_go_when_nothing_waits() {
    // Its workers have the time to come back to a service that starts slowly beside other tests.
    let (mut quay, engine) = (Quay::with_patience("40s"), engine_with_worker());
    let address = engine.address();
    add(
        &quay,
        &[
            "night", "--kind", "engine", "--image", WORKER, "--engine", &address, "--idle", "2s", "--most", "3",
            "--slots", "1", "--offer", "os=linux",
        ],
    );
    let folder = suite(&quay, "sounding", 120, "0.2");
    let began = Instant::now();
    let run = quay.start_run(&folder, &["--pool", "night"]);
    until("a test has ended", || (quay.run(&run)["tally"]["passed"].as_u64() > Some(0)).then_some(()));
    let first = began.elapsed();
    // The service is killed with machines up, and finds them again; their workers come back by themselves.
    until("it wants more than one", || (machines(&quay, "night", "up") > 1).then_some(()));
    quay.kill_service();
    quay.start();
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    once_each(&quay, &run, 120);
    let shown = quay.run(&run);
    let notes = shown["notes"].to_string();
    assert!(notes.contains("machines of the pool night: ") && notes.contains(" of 3: "), "{notes}");
    let since = Instant::now();
    none_open(&quay, "night");
    engine.none_left();
    assert!(since.elapsed() < Duration::from_secs(20), "idle ones went late: {:?}", since.elapsed());
    assert!(first < Duration::from_secs(30), "the first test was late: {first:?}");
    let log = quay.kesmo(&["log", &run, "--job", "1"]);
    assert_says(
        &all_said(&log),
        &["This machine is night-1 of the pool night", "begins run=\"sounding/1\"", "needs this machine no more"],
    );
    let none = quay.kesmo(&["log", &run, "--job", "9"]);
    assert_says(&all_said(&none), &["has no machine 9: it has"]);
    let ended = machines(&quay, "night", "ended");
    assert!((2..=3).contains(&ended), "started once each: {ended}");
    // A need that its machines do not have is told; the run waits, and starts none for nothing.
    let needy = quay.suite("needy", "exit", "exit 0", "[needs]\ngpu = \"yes\"");
    let run = quay.start_run(&needy, &["--pool", "night"]);
    until("it says what is missing", || {
        quay.run(&run)["waiting_for"]
            .as_str()
            .unwrap_or_default()
            .contains("a worker that offers gpu=yes: the machines of the pool night offer os=linux")
            .then_some(())
    });
    assert_eq!(machines(&quay, "night", "ended"), ended);
    assert!(quay.kesmo(&["stop", &run]).status.success());
}

#[test]
fn a_container_that_is_killed_costs_no_test_and_a_pool_can_be_removed_in_mid_run() {
    let (quay, mut engine) = (Quay::open(), engine_with_worker());
    let address = engine.address();
    add(
        &quay,
        &[
            "night", "--kind", "engine", "--image", WORKER, "--engine", &address, "--idle", "1s", "--most", "2",
            "--slots", "1",
        ],
    );
    let folder = suite(&quay, "sounding", 30, "0.2");
    let run = quay.start_run(&folder, &["--pool", "night"]);
    until("a machine is up", || (machines(&quay, "night", "up") > 0).then_some(()));
    let first = engine.call(&["ps", "--quiet"]).lines().next().expect("a container").to_owned();
    engine.call(&["rm", "--force", "--time", "0", &first]);
    until("it is missed", || (machines(&quay, "night", "failed") > 0).then_some(()));
    // The engine goes away, and comes back: whatever runs goes on meanwhile.
    engine.away();
    until("that is told", || {
        pool(&quay, "night")["trouble"].as_str().unwrap_or_default().contains("does not answer").then_some(())
    });
    engine.serve();
    let removed = quay.kesmo(&["pool", "remove", "night"]);
    assert!(removed.status.success(), "{}", all_said(&removed));
    until("the run is told", || {
        let waits = quay.run(&run)["waiting_for"].as_str().unwrap_or_default().to_owned();
        let over = quay.run(&run)["verdict"].is_string();
        (over || waits.contains("none is in the pool night") || waits.contains("is being removed")).then_some(())
    });
    engine.none_left();
    until("the pool is gone", || (!quay.kesmo(&["pool", "show", "night"]).status.success()).then_some(()));
    // Others may take its place.
    let _worker = quay.command(&["worker"]);
    add(
        &quay,
        &[
            "night", "--kind", "engine", "--image", WORKER, "--engine", &address, "--idle", "1s", "--most", "2",
            "--slots", "1",
        ],
    );
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    // What was running on the container that was removed ran again, as it was lost.
    let entries = quay.entries(&run);
    assert!(entries.len() == 30 && entries.iter().all(|e| e["outcome"] == "passed"), "{entries:?}");
    none_open(&quay, "night");
    engine.none_left();
}

#[test]
fn a_pool_is_not_removed_before_it_is_known_whether_a_container_was_started() {
    let (quay, engine) = (Quay::open(), engine_with_worker());
    let between = engine.between("/containers/create");
    let address = between.address();
    let words = ["night", "--kind", "engine", "--image", WORKER, "--engine", address, "--most", "1", "--slots", "1"];
    add(&quay, &words);
    let run = quay.start_run(&suite(&quay, "sounding", 1, "0"), &["--pool", "night"]);
    until("the engine makes a container, and nobody hears of it", || between.is_away().then_some(()));
    until("that is told", || (machines(&quay, "night", "leaving") > 0).then_some(()));
    assert_eq!(engine.containers(), 1);
    let removed = quay.kesmo(&["pool", "remove", "night"]);
    assert!(removed.status.success(), "{}", all_said(&removed));
    assert_says(&all_said(&removed), &["goes with the last of its machines: 1 are still there", "--forget"]);
    assert_says(&all_said(&quay.kesmo(&["pool", "show", "night"])), &["It is being removed", "does not answer"]);
    between.come_back();
    until("the pool is gone", || (!quay.kesmo(&["pool", "show", "night"]).status.success()).then_some(()));
    assert_eq!(engine.containers(), 0, "none was left behind");
    assert!(quay.kesmo(&["stop", &run]).status.success());
}

#[test]
fn what_a_service_was_ending_when_it_was_killed_is_ended_and_told_by_the_next() {
    let (mut quay, engine) = (Quay::open(), engine_with_worker());
    let between = engine.between("/containers/create");
    let address = between.address();
    let words = ["night", "--kind", "engine", "--image", WORKER, "--engine", address, "--most", "1", "--slots", "1"];
    add(&quay, &[&words[..], &["--idle", "1s"]].concat());
    let run = quay.start_run(&suite(&quay, "sounding", 1, "0"), &["--pool", "night"]);
    until("the engine makes a container, and nobody hears of it", || between.is_away().then_some(()));
    until("that is told", || (machines(&quay, "night", "leaving") > 0).then_some(()));
    quay.kill_service();
    quay.start();
    // Not before the engine has told that it is not there: whoever looks sees why it is being ended.
    until("the next service keeps the pool", || pool(&quay, "night")["why"].as_str().map(|_| ()));
    assert_eq!(machines(&quay, "night", "leaving"), 1, "{}", pool(&quay, "night"));
    between.come_back();
    until("it has been ended", || (machines(&quay, "night", "failed") == 1).then_some(()));
    assert_says(&all_said(&quay.kesmo(&["pool", "show", "night"])), &["⊘ failed", "does not answer"]);
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    once_each(&quay, &run, 1);
    none_open(&quay, "night");
    assert_eq!(engine.containers(), 0, "none was left behind");
}

#[test]
fn an_engine_or_an_image_that_is_not_there_is_told_where_one_looks() {
    let quay = Quay::open();
    let engine = Engine::start();
    add(&quay, &["nowhere", "--kind", "engine", "--image", WORKER, "--engine", "unix:///nowhere/engine.sock"]);
    add(&quay, &["unmade", "--kind", "engine", "--image", "localhost/unmade:1", "--engine", &engine.address()]);
    let folder = suite(&quay, "sounding", 1, "0");
    for (pool_name, why) in
        [("nowhere", "is the engine's service started?"), ("unmade", "localhost/unmade:1 is not there")]
    {
        let run = quay.start_run(&folder, &["--pool", pool_name]);
        let waits = until("the run is told", || {
            let waits = quay.run(&run)["waiting_for"].as_str().unwrap_or_default().to_owned();
            waits.contains(why).then_some(waits)
        });
        assert!(waits.contains(&format!("waiting for a machine of the pool {pool_name}: ")), "{waits}");
        assert!(quay.run(&run)["notes"].to_string().contains(why), "{}", quay.run(&run)["notes"]);
        let shown = all_said(&quay.kesmo(&["pool", "show", pool_name]));
        assert!(shown.contains(why) && shown.contains("⊘ failed"), "{shown}");
        assert_says(&all_said(&quay.kesmo(&["pool", "list"])), &[why]);
        assert!(quay.kesmo(&["stop", &run]).status.success());
    }
}

#[test]
fn pods_that_do_not_come_or_are_ended_say_why_and_no_test_is_lost() {
    let quay = Quay::open();
    let (_harbour, at) = stand_in("pod-harbour", &[KESMO, "--token-file", &secret_file(&quay)]);
    let template = quay.path("pod.yaml");
    fs::write(&template, "apiVersion: v1\nkind: Pod\nspec: { containers: [{ name: boat, image: a, env: [{ name: TZ, value: UTC }] }] }\n").unwrap();
    let (cluster, secret, template) = (format!("http://{at}"), secret_file(&quay), template.display().to_string());
    let words = [
        "harbour",
        "--kind",
        "cluster",
        "--cluster",
        &cluster,
        "--namespace",
        "quay",
        "--service-account",
        "boats",
        "--image",
        WORKER,
    ];
    let words = [
        &words[..],
        &["--template", &template, "--secret-file", &secret, "--idle", "1s", "--most", "2", "--slots", "1"],
    ]
    .concat();
    add(&quay, &words);
    let waits_for = |run: &str, why: &str| {
        until(why, || quay.run(run)["waiting_for"].as_str().unwrap_or_default().contains(why).then_some(()));
    };
    // Not to be placed, then not to be pulled, then refused: each is told on the run and on the pool.
    let folder = suite(&quay, "sounding", 1, "0");
    for (kind, why) in [
        ("no-room", "the pod is pending: Unschedulable: 0/1 berths are available"),
        ("no-image", "the pod is pending: ImagePullBackOff: Back-off pulling image"),
    ] {
        trouble(&at, kind, 1);
        let run = quay.start_run(&folder, &["--pool", "harbour"]);
        waits_for(&run, why);
        assert_says(&all_said(&quay.kesmo(&["pool", "show", "harbour"])), &[why]);
        assert!(quay.kesmo(&["stop", &run]).status.success());
        none_open(&quay, "harbour");
    }
    // A pod that was asked for a run that is stopped may be the one that is refused.
    until("a run is told of it", || {
        trouble(&at, "forbidden", 1);
        let run = quay.start_run(&folder, &["--pool", "harbour"]);
        let watched = quay.kesmo(&["watch", &run]);
        assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
        none_open(&quay, "harbour");
        let why = "the cluster refuses (starting a pod, 403 Forbidden): pods is forbidden";
        quay.run(&run)["notes"].to_string().contains(why).then_some(())
    });
    // Evicted, and killed for memory, while tests run in them.
    for (kind, why) in [
        ("evicted", "the pod was evicted: The node was low on resource"),
        ("memory", "the memory it may have was used up"),
    ] {
        trouble(&at, kind, 1);
        let folder = suite(&quay, &format!("long-{kind}"), 20, "0.3");
        let run = quay.start_run(&folder, &["--pool", "harbour"]);
        let watched = quay.kesmo(&["watch", &run]);
        assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
        let entries = quay.entries(&run);
        assert!(entries.len() == 20 && entries.iter().all(|e| e["outcome"] == "passed"), "{entries:?}");
        assert_says(&quay.run(&run)["notes"].to_string(), &[why]);
        none_open(&quay, "harbour");
    }
    assert_eq!(asked(&at, "/api/v1/namespaces/quay/pods")["items"], serde_json::json!([]), "nothing is left running");
    // A pod that ends at once is told with what it printed.
    trouble(&at, "broken", 1);
    let run = quay.start_run(&folder, &["--pool", "harbour"]);
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    assert_says(&quay.run(&run)["notes"].to_string(), &["the pod ended with status 2: Error"]);
    assert_says(&all_said(&quay.kesmo(&["log", &run, "--job", "1"])), &["it is broken"]);
}

#[test]
fn a_job_of_a_ci_server_is_seen_from_the_queue_to_its_end() {
    let quay = Quay::open();
    let (_yard, at) = yard(&quay, 1);
    add_boats(&quay, &at, &["--idle", "1s", "--most", "2"]);
    let said = quay.kesmo(&["pool", "show", "boats", "--job"]);
    assert_eq!(text(&said.stdout).trim(), "kesmo join --pool boats --slots 1");
    let folder = suite(&quay, "sounding", 10, "0.3");
    assert!(quay.kesmo(&["suite", "add", &folder.display().to_string()]).status.success());
    assert!(
        quay.kesmo(&[
            "brief", "add", "nightly", "--suite", "sounding", "--pool", "boats", "--within", "5m", "--budget", "1h"
        ])
        .status
        .success()
    );
    // The one agent is busy at first.
    let nap = Command::new("curl")
        .args([
            "-sf",
            "-H",
            &format!("authorization: Bearer {SECRET}"),
            "-d",
            "{\"pipeline\": \"nap\"}",
            &format!("http://{at}/jobs"),
        ])
        .output();
    assert!(nap.expect("curl runs").status.success());
    until("it naps", || (asked(&at, "/jobs/1")["state"] == "running").then_some(()));
    let mut start = quay.command(&["start", "--brief", "nightly", "--wait", "--refresh", "500ms"]);
    let log = fs::File::create(quay.path("start.log")).expect("a log");
    start.stdout(log.try_clone().expect("a log")).stderr(log);
    let mut start = Process(spawn(start));
    let said = || fs::read_to_string(quay.path("start.log")).unwrap_or_default();
    until("the job is seen in the queue", || {
        said().contains("job 2 is coming: queued: no agent is free (http://").then_some(())
    });
    let end = Command::new("curl")
        .args([
            "-sf",
            "-X",
            "POST",
            "-H",
            &format!("authorization: Bearer {SECRET}"),
            &format!("http://{at}/jobs/1/end"),
        ])
        .output();
    assert!(end.expect("curl runs").status.success());
    assert_eq!(start.wait(), 0, "{}", said());
    once_each(&quay, "sounding/1", 10);
    let shown = all_said(&quay.kesmo(&["show", "sounding/1"]));
    assert_says(
        &shown,
        &["of the pool boats; what one printed: kesmo log sounding/1 --job", &format!("http://{at}/jobs/2/page")],
    );
    let log = all_said(&quay.kesmo(&["log", "sounding/1", "--job", "1", "--follow"]));
    assert_says(
        &log,
        &[
            "step 1: ",
            "This machine is boats-1 of the pool boats",
            "needs this machine no more",
            "step 1 ended with status 0",
        ],
    );
    assert!(!log.contains(SECRET), "{log}");
    none_open(&quay, "boats");
    // Its token is good no more.
    let (status, ..) = call(&quay, "GET", "/api/pools", &[("Authorization", "Bearer kesmo-nobody")], b"");
    assert_eq!(status, 401);
    let fixed = quay.kesmo(&["start", "sounding", "--within", "5m"]);
    assert_eq!(fixed.status.code(), Some(2));
    assert_says(&all_said(&fixed), &["--within and --budget are for pools that start machines, and main starts none"]);
}

#[test]
fn trouble_of_a_ci_server_is_told_and_made_good() {
    let quay = Quay::open();
    let (_yard, at) = yard(&quay, 3);
    add_boats(&quay, &at, &["--idle", "1s", "--most", "1"]);
    let folder = suite(&quay, "sounding", 4, "0.1");
    for (kind, why) in [
        (
            "busy",
            "the CI server refuses (starting a job, 503 Service Unavailable): {\\\"why\\\": \\\"the yard is full\\\"}",
        ),
        ("refused", "the CI server refuses (starting a job, 401 Unauthorized)"),
        ("garbage", "the answer is not JSON"),
        ("no-id", "/id finds nothing in the answer"),
        ("lost", "the CI server does not know this job any more"),
    ] {
        let failed = machines(&quay, "boats", "failed");
        trouble(&at, kind, 1);
        let run = quay.start_run(&folder, &["--pool", "boats"]);
        let watched = quay.kesmo(&["watch", &run]);
        assert_eq!(watched.status.code(), Some(0), "{kind}: {}", all_said(&watched));
        once_each(&quay, &run, 4);
        none_open(&quay, "boats");
        let notes = quay.run(&run)["notes"].to_string();
        // Whose worker is here before the answer is read was started, and nothing is wrong.
        let came = ["garbage", "no-id"].contains(&kind) && machines(&quay, "boats", "failed") == failed;
        assert!(notes.contains(why) || came, "{kind}: {notes}");
        assert!(!notes.contains(SECRET), "{notes}");
    }
    // Twice, and late: no test is carried out twice, and who comes second is turned away.
    for kind in ["twice", "late"] {
        trouble(&at, kind, 1);
        let run = quay.start_run(&folder, &["--pool", "boats"]);
        let watched = quay.kesmo(&["watch", &run]);
        assert_eq!(watched.status.code(), Some(0), "{kind}: {}", all_said(&watched));
        once_each(&quay, &run, 4);
        none_open(&quay, "boats");
    }
    // Whose state cannot be had: it works all the same.
    trouble(&at, "mute", 1);
    let run = quay.start_run(&folder, &["--pool", "boats"]);
    assert_eq!(quay.kesmo(&["watch", &run]).status.code(), Some(0));
    none_open(&quay, "boats");
}

#[test]
fn a_pool_that_cannot_be_is_refused_with_what_to_do() {
    let quay = Quay::open();
    let secret = secret_file(&quay);
    let refused = |words: &[&str]| {
        let mut all = vec!["pool", "add", "boats"];
        all.extend(words);
        let said = quay.kesmo(&all);
        assert_eq!(said.status.code(), Some(2), "{words:?}: {}", all_said(&said));
        all_said(&said)
    };
    let broken = description(&quay, "127.0.0.1:1", ("\"/state\"", "\"state\""));
    assert_says(
        &refused(&["--kind", "ci", "--describe", &broken, "--secret-file", &secret]),
        &["yard.toml: state.at: \"state\" is not a valid JSON Pointer"],
    );
    let good = description(&quay, "127.0.0.1:1", ("", ""));
    assert_says(
        &refused(&["--kind", "ci", "--describe", &good]),
        &["its requests hold {secret}: give it with --secret-file"],
    );
    let template = quay.path("pod.yaml");
    fs::write(&template, "apiVersion: v1\nkind: Pod\nspec: { containers: [{ name: a, imgae: b }] }\n").unwrap();
    let template = template.display().to_string();
    assert_says(
        &refused(&["--kind", "cluster", "--image", "a", "--template", &template]),
        &["--template: a pod has no spec.containers[0].imgae"],
    );
    assert_says(&refused(&["--kind", "boat"]), &["boat", "fixed, engine, cluster, ci"]);
    assert_says(
        &refused(&["--kind", "engine", "--image", "a", "--most", "0"]),
        &["--most 0 is out of bounds: 1 to 1000"],
    );
    assert_says(&refused(&["--kind", "fixed", "--most", "3"]), &["--most means nothing for a pool of the kind fixed"]);
    // Another pool of that name, and none of it.
    add(&quay, &["boats", "--kind", "ci", "--describe", &good, "--secret-file", &secret]);
    assert_says(&refused(&["--kind", "fixed"]), &["there is a pool named boats already", "--replace"]);
    let shown = quay.kesmo(&["pool", "show", "boats", "--json"]);
    assert!(
        !all_said(&shown).contains(SECRET) && all_said(&shown).contains("\"has_secret\": true"),
        "{}",
        all_said(&shown)
    );
    assert_says(
        &all_said(&quay.kesmo(&["pool", "show", "baots"])),
        &["there is no pool named \"baots\"", "did you mean \"boats\"?"],
    );
    // It keeps its secret when it is changed, and a pool that nothing runs in goes at once.
    add(&quay, &["boats", "--kind", "ci", "--describe", &good, "--most", "2", "--replace"]);
    // One that becomes fixed starts nothing any more.
    add(&quay, &["boats", "--kind", "fixed", "--replace"]);
    let run = quay.start_run(&suite(&quay, "sounding", 1, "0"), &["--pool", "boats"]);
    until("it waits for a worker", || {
        let waits = quay.run(&run)["waiting_for"].as_str().unwrap_or_default().to_owned();
        waits.contains("start one with `kesmo worker --pool boats`").then_some(())
    });
    assert_eq!(pool(&quay, "boats")["machines"], serde_json::json!([]));
    assert!(quay.kesmo(&["stop", &run]).status.success());
    assert!(quay.kesmo(&["pool", "remove", "boats"]).status.success());
    until("it is gone", || (!quay.kesmo(&["pool", "show", "boats"]).status.success()).then_some(()));
    // Only who may keep the service says what runs on its machines.
    let operator = text(&quay.kesmo(&["token", "add", "ops", "--role", "operator"]).stdout).trim().to_owned();
    let said = quay.kesmo_as(&operator, &["pool", "add", "boats", "--kind", "engine", "--image", "a"]);
    assert_says(&all_said(&said), &["lacks the right to keep the service"]);
}

#[test]
fn a_machines_token_makes_no_other_machine() {
    let quay = Quay::open();
    let (_yard, at) = yard(&quay, 1);
    // Nobody takes its jobs.
    trouble(&at, "late", 9);
    add_boats(&quay, &at, &["--most", "1"]);
    let folder = suite(&quay, "sounding", 1, "0");
    let run = quay.start_run(&folder, &["--pool", "boats"]);
    until("a job is asked for", || (machines(&quay, "boats", "coming") > 0).then_some(()));
    // As an enemy who found the token in a job's values.
    let token = "kesmo-stolen";
    let hash = "encode(sha256(convert_to('kesmo-stolen', 'UTF8')), 'hex')";
    quay.sql(&format!("update machines set token = decode({hash}, 'hex')"));
    let mut other = quay.command(&["worker", "--name", "raven", "--pool", "main", "--engine", "none", "--home"]);
    other.arg(quay.path("raven")).env("KESMO_TOKEN", token);
    let said = other.output().expect("it runs");
    assert_says(&all_said(&said), &["this token is of the machine boats-1, and this worker is named raven"]);
    assert_says(&all_said(&quay.kesmo_as(token, &["runs"])), &["lacks the right to see runs"]);
    assert!(quay.kesmo(&["stop", &run]).status.success());
    none_open(&quay, "boats");
    let late = quay.command(&["join", "--pool", "boats"]).env("KESMO_TOKEN", token).output().expect("it runs");
    assert!(!late.status.success());
    until("its token is known no more", || {
        let late = quay.command(&["join", "--pool", "boats"]).env("KESMO_TOKEN", token).output().expect("it runs");
        all_said(&late).contains("does not wait for this machine, or no more").then_some(())
    });
}

#[test]
fn the_stand_ins_do_what_they_say() {
    let trials = Command::new("python3").arg(repository("standins/trials.py")).output().expect("python3 runs");
    assert!(trials.status.success(), "{}", all_said(&trials));
    assert_says(&all_said(&trials), &["OK"]);
}

/// Jobs that the yard carries out or will.
fn jobs_open(at: &str) -> usize {
    let jobs = asked(at, "/jobs");
    jobs.as_array().expect("jobs").iter().filter(|j| j["state"] == "queued" || j["state"] == "running").count()
}

#[test]
fn of_two_services_one_starts_the_machines_and_the_other_goes_on_with_them() {
    use std::os::unix::fs::PermissionsExt;
    let dir = tempfile::tempdir().expect("a folder");
    fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).expect("its rights");
    let postgres = kesmo_database::Postgres::start(dir.path()).expect("PostgreSQL runs");
    let clock = crate::quay::Clock::new(dir.path().join("clock"), "2026-11-02T02:00:00Z");
    let blobs = dir.path().join("blobs");
    let one = || Quay::sharing("2s", &postgres.url(), &blobs, &clock);
    let mut first = one();
    let token = first.token();
    let second = one();
    let (_yard, at) = yard(&first, 4);
    add_boats(&first, &at, &["--idle", "1s", "--most", "2"]);
    let folder = suite(&first, "sounding", 60, "0.3");
    let run = first.start_run(&folder, &["--pool", "boats"]);
    let ask = |quay: &Quay, words: &[&str]| -> Value {
        let mut all = words.to_vec();
        all.push("--json");
        serde_json::from_slice(&quay.kesmo_as(&token, &all).stdout).unwrap_or_default()
    };
    until("its jobs are up", || (jobs_open(&at) == 2).then_some(()));
    // Whoever keeps the pool is the one to be killed; the other says so.
    let kept_by_first =
        !ask(&first, &["pool", "show", "boats"])["why"].as_str().unwrap_or_default().contains("keeps it");
    let most = std::sync::atomic::AtomicUsize::new(0);
    let seen = |open: usize| most.fetch_max(open, std::sync::atomic::Ordering::Relaxed);
    let mut other = second;
    let (killed, left): (&mut Quay, &Quay) = if kept_by_first { (&mut first, &other) } else { (&mut other, &first) };
    assert!(ask(left, &["pool", "show", "boats"])["why"].as_str().unwrap_or_default().contains("keeps it"));
    killed.kill_service();
    let verdict = until("the other service brings it to its verdict", || {
        seen(jobs_open(&at));
        ask(left, &["show", &run])["run"]["verdict"].as_str().map(str::to_owned)
    });
    assert_eq!(verdict, "passed", "{}", ask(left, &["show", &run]));
    until("nothing is left running", || (jobs_open(&at) == 0).then_some(()));
    let most = most.load(std::sync::atomic::Ordering::Relaxed);
    assert!(most <= 4, "two of the service that was killed, and two in their place: {most}");
    drop((first, other));
    postgres.stop().expect("PostgreSQL ends");
}

/// An engine that is reached over TCP, by TLS with a certificate of the client: its port, and the folder with the certificates.
fn behind_tls(quay: &Quay, socket: PathBuf) -> (u16, PathBuf) {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
    let folder = quay.path("certificates");
    fs::create_dir_all(&folder).expect("a folder");
    for (name, text) in
        [("ca.pem", made.cert.pem()), ("cert.pem", made.cert.pem()), ("key.pem", made.signing_key.serialize_pem())]
    {
        fs::write(folder.join(name), text).expect("a file");
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut known = rustls::RootCertStore::empty();
    known.add(made.cert.der().clone()).expect("an authority");
    let clients = rustls::server::WebPkiClientVerifier::builder_with_provider(Arc::new(known), Arc::clone(&provider));
    let key = rustls_pki_types::PrivateKeyDer::Pkcs8(made.signing_key.serialize_der().into());
    let config = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the usual versions")
        .with_client_cert_verifier(clients.build().expect("clients are asked for theirs"))
        .with_single_cert(vec![made.cert.der().clone()], key)
        .expect("a certificate with its key");
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let (told, port) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        tokio::runtime::Runtime::new().expect("a runtime").block_on(async move {
            let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
            told.send(listener.local_addr().expect("a port").port()).expect("the test waits");
            while let Ok((stream, _)) = listener.accept().await {
                let (acceptor, socket) = (acceptor.clone(), socket.clone());
                tokio::spawn(async move {
                    let Ok(mut stream) = acceptor.accept(stream).await else { return };
                    let Ok(mut inner) = tokio::net::UnixStream::connect(socket).await else { return };
                    drop(tokio::io::copy_bidirectional(&mut stream, &mut inner).await);
                });
            }
        });
    });
    (port.recv().expect("a port"), folder)
}

#[test]
fn an_engine_elsewhere_is_talked_to_by_tls_with_certificates() {
    let (quay, engine) = (Quay::open(), engine_with_worker());
    let socket = PathBuf::from(engine.address().trim_start_matches("unix://"));
    let (port, folder) = behind_tls(&quay, socket);
    let (address, folder) = (format!("tcp://localhost:{port}"), folder.display().to_string());
    let kind = ["far", "--kind", "engine", "--image", WORKER, "--engine", &address, "--idle", "1s", "--slots", "1"];
    let mut all = vec!["pool", "add"];
    all.extend(kind);
    let bare = quay.kesmo(&all);
    assert_eq!(bare.status.code(), Some(2));
    assert_says(&all_said(&bare), &["give a folder with ca.pem, cert.pem and key.pem with --certificates"]);
    add(&quay, &[&kind[..], &["--certificates", &folder]].concat());
    let folder_of_tests = suite(&quay, "sounding", 4, "0.1");
    let run = quay.start_run(&folder_of_tests, &["--pool", "far"]);
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    once_each(&quay, &run, 4);
    none_open(&quay, "far");
    engine.none_left();
    // Whose certificate is not known there is turned away, and that is told.
    let other = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
    fs::write(Path::new(&folder).join("cert.pem"), other.cert.pem()).expect("a file");
    fs::write(Path::new(&folder).join("key.pem"), other.signing_key.serialize_pem()).expect("a file");
    add(&quay, &[&kind[..], &["--certificates", &folder, "--replace"]].concat());
    let run = quay.start_run(&folder_of_tests, &["--pool", "far"]);
    until("the run is told", || {
        quay.run(&run)["waiting_for"].as_str().unwrap_or_default().contains("does not answer").then_some(())
    });
    assert!(quay.kesmo(&["stop", &run]).status.success());
}
