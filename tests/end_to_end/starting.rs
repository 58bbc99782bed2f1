//! Starting without a person: briefs, schedules, webhooks, version control, polled branches, chains and the queue.

use std::{fs, process::Command};

use serde_json::{Value, json};

use crate::quay::{KESMO, Quay, Repo, all_said, assert_says, shared, text, until};

/// A call that is to succeed; what it printed.
#[track_caller]
fn done(quay: &Quay, words: &[&str]) -> String {
    let output = quay.kesmo(words);
    assert!(output.status.success(), "{words:?}: {}", all_said(&output));
    text(&output.stdout).trim().to_owned()
}

/// A call that is to be refused as wrong; everything that it said.
#[track_caller]
fn refused(quay: &Quay, words: &[&str]) -> String {
    let output = quay.kesmo(words);
    assert_eq!(output.status.code(), Some(2), "{words:?}: {}", all_said(&output));
    all_said(&output)
}

fn add(quay: &Quay, name: &str, body: &str) {
    let folder = quay.tap(name, "gate/open gate/shut slow/late", body, "[settings]\npassengers = 200\n");
    done(quay, &["suite", "add", &folder.to_string_lossy()]);
}

/// Waits until a run has its verdict.
fn verdict(quay: &Quay, run: &str) -> Value {
    until("the verdict", || Some(quay.run(run)).filter(|r| r["phase"] == "finished"))
}

/// The newest run of a suite, once there are so many.
fn newest(quay: &Quay, suite: &str, count: usize) -> Value {
    until("the run is started", || {
        let runs = quay.json(&["runs", "--suite", suite]);
        let runs = runs.as_array()?.clone();
        (runs.len() >= count).then(|| runs[0].clone())
    })
}

const OK: &str = "echo \"ok - $t\"";

#[test]
fn a_brief_is_started_from_a_ci_job_with_a_report_and_a_status() {
    let quay = shared();
    add(quay, "ci-brief", "if [ $t = slow/late ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi");
    done(
        quay,
        &["brief", "add", "ci", "--suite", "ci-brief", "--pick", "gate/**", "--label", "by=ci", "--retries", "1"],
    );
    let token = done(quay, &["token", "add", "ci-job", "--role", "operator"]);
    // As the shell step of a CI job: the token in the environment, status and report at the end.
    let step = |more: &str, report: &str| {
        let script = format!("{KESMO} start --brief ci {more} --wait --report junit={report}");
        let mut sh = Command::new("sh");
        sh.args(["-c", &script]).current_dir(quay.dir.path()).env("HOME", quay.dir.path());
        sh.env("KESMO_URL", &quay.url).env("KESMO_TOKEN", &token).output().expect("a shell")
    };
    let passed = step("", "one.xml");
    assert_eq!(passed.status.code(), Some(0), "{}", all_said(&passed));
    let xml = fs::read_to_string(quay.path("one.xml")).expect("the report");
    assert_says(&xml, &["<testsuite", "tests=\"2\"", "name=\"open\" classname=\"gate\""]);
    let failed = step("--pick 'slow/**' --retries 0 --label release=1187", "two.xml");
    assert_eq!(failed.status.code(), Some(1), "{}", all_said(&failed));
    assert_says(
        &all_said(&failed),
        &[
            "Changed: labels.release = 1187 (the brief says nothing)",
            "Changed: pick = ",
            "Changed: retries = 0 (the brief says 1)",
        ],
    );
    let run = newest(quay, "ci-brief", 2);
    let shown = text(&quay.kesmo(&["show", run["name"].as_str().expect("a name")]).stdout);
    assert_says(&shown, &["brief ci", "changed: retries = 0 (the brief says 1)", "labels by=ci release=1187"]);
    // As a file and back, it is the same brief.
    let file = done(quay, &["brief", "show", "ci", "--toml"]);
    fs::write(quay.path("ci.toml"), file + "\n").expect("a file");
    done(quay, &["brief", "add", "ci-again", "--from", "ci.toml", "--shards", "2"]);
    assert_says(&done(quay, &["brief", "show", "ci-again", "--toml"]), &["retries = 1", "shards = 2", "by = \"ci\""]);
}

#[test]
fn what_is_wrong_with_a_brief_is_said_when_it_is_saved() {
    let quay = shared();
    add(quay, "wrong-brief", OK);
    let said = |words: &[&str]| refused(quay, &[&["brief", "add"], words].concat());
    assert_says(&said(&["w1", "--suite", "wrong-brie"]), &["did you mean \"wrong-brief\"?"]);
    assert_says(&said(&["w1", "--suite", "wrong-brief", "--set", "passenger=1"]), &["passenger", "passengers"]);
    assert_says(
        &said(&["w1", "--suite", "wrong-brief", "--branch", "main"]),
        &["wrong-brief is neither", "kesmo suite add --git URL"],
    );
    assert_says(&said(&["w1", "--suite", "wrong-brief", "--then", "nowhere"]), &["--then: there is no brief named"]);
    assert_says(&said(&["W 1", "--suite", "wrong-brief"]), &["the brief's name", "a-z, 0-9"]);
    done(quay, &["brief", "add", "w1", "--suite", "wrong-brief"]);
    assert_says(&said(&["w1", "--suite", "wrong-brief"]), &["there is a brief named w1 already", "--replace"]);
    assert_says(&said(&["w1", "--suite", "wrong-brief", "--then", "w1", "--replace"]), &["w1 → w1"]);
    done(quay, &["brief", "add", "w2", "--suite", "wrong-brief", "--then", "w1", "--then-if", "failed"]);
    assert_says(&said(&["w1", "--suite", "wrong-brief", "--then", "w2", "--replace"]), &["w1 → w2 → w1"]);
    assert_says(&refused(quay, &["brief", "remove", "w1"]), &["is started by brief w2 (--then)"]);
    assert_says(&refused(quay, &["start", "--brief", "w3"]), &["there is no brief named \"w3\"", "did you mean"]);
    // What would make its runs void is told too.
    done(quay, &["start", "wrong-brief", "--wait"]);
    done(quay, &["park", "wrong-brief", "slow/**", "--until", "2w", "--why", "the tide"]);
    let output = quay.kesmo(&["brief", "add", "w4", "--suite", "wrong-brief", "--pick", "slow/**"]);
    assert_says(&all_said(&output), &["the only test that it picks is parked", "the tide", "its runs would be void"]);
    let output = quay.kesmo(&["brief", "add", "w5", "--suite", "wrong-brief", "--pool", "nobody"]);
    assert_says(&all_said(&output), &["no worker is in the pool nobody now"]);
}

#[test]
fn briefs_follow_each_other_as_their_verdicts_say() {
    let quay = shared();
    add(quay, "chain-a", OK);
    add(quay, "chain-b", "echo \"not ok - $t\"");
    done(quay, &["brief", "add", "c3", "--suite", "chain-a", "--label", "step=three"]);
    done(quay, &["brief", "add", "c2", "--suite", "chain-b", "--then", "c3"]);
    done(quay, &["brief", "add", "c1", "--suite", "chain-a", "--then", "c2"]);
    let first = done(quay, &["start", "--brief", "c1", "--label", "release=9"]);
    let second = newest(quay, "chain-b", 1);
    let name = second["name"].as_str().expect("a name").to_owned();
    assert_eq!((&second["labels"]["release"], &second["origin"]["name"]), (&json!("9"), &json!(first)));
    verdict(quay, &name);
    // The third comes only after a run that passed.
    until("it is said", || {
        let run = quay.run(&name);
        run["notes"].to_string().contains("the brief c3 did not follow: it comes after passed runs").then_some(())
    });
    let shown = text(&quay.kesmo(&["show", &first]).stdout);
    assert_says(&shown, &[&format!("chain ● {first} → ◆ {name}")]);
    done(quay, &["brief", "add", "c2", "--suite", "chain-b", "--then", "c3", "--then-if", "any", "--replace"]);
    done(quay, &["start", "--brief", "c1"]);
    let third = newest(quay, "chain-a", 3);
    assert_eq!(third["labels"]["step"], "three");
    let chain = verdict(quay, third["name"].as_str().expect("a name"));
    let chain: Vec<&str> =
        chain["chain"].as_array().expect("a chain").iter().filter_map(|l| l["brief"].as_str()).collect();
    assert_eq!(chain, ["c1", "c2", "c3"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chain_is_told_while_its_runs_go_on() {
    let quay = shared();
    let held = quay.path("step-held");
    fs::write(&held, "").expect("a file");
    add(quay, "step-a", OK);
    add(quay, "step-b", &format!("while [ -e {} ]; do sleep 0.05; done; {OK}", held.display()));
    done(quay, &["brief", "add", "s3", "--suite", "step-a"]);
    done(quay, &["brief", "add", "s2", "--suite", "step-b", "--then", "s3"]);
    done(quay, &["brief", "add", "s1", "--suite", "step-a", "--then", "s2"]);
    let limited = done(quay, &["token", "add", "step-b-only", "--role", "reader", "--suite", "step-b"]);
    let first = done(quay, &["start", "--brief", "s1"]);
    let second = newest(quay, "step-b", 1)["name"].as_str().expect("a name").to_owned();
    until("it runs", || quay.run(&second)["tally"]["running"].as_u64().filter(|n| *n > 0));
    let links = |run: &Value| -> Vec<(String, String)> {
        let said = |link: &Value, key: &str| link[key].as_str().unwrap_or_default().to_owned();
        let links = run["chain"].as_array().expect("a chain");
        links.iter().map(|link| (said(link, "run"), said(link, "phase"))).collect()
    };
    let both = [(first.clone(), "finished".to_owned()), (second.clone(), "running".to_owned())];
    for run in [&first, &second] {
        let told = quay.run(run);
        assert_eq!((links(&told).as_slice(), &told["then"]), (&both[..], &json!("s3")), "{run}");
    }
    let path = format!("/api/runs/{second}/live");
    let mut events = quay.client(&quay.token()).watch(&path, None).await.expect("a stream");
    let event = events.next().await.expect("no cut").expect("an event");
    let snapshot: Value = serde_json::from_str(&event.data).expect("a snapshot");
    assert_eq!((links(&snapshot["run"]).as_slice(), &snapshot["run"]["then"]), (&both[..], &json!("s3")));
    let seen = text(&quay.kesmo_as(&limited, &["show", &second, "--json"]).stdout);
    let seen: Value = serde_json::from_str(&seen).expect("JSON");
    assert_eq!(links(&seen["run"]), both[1..], "of suites that are somebody else's nothing is told");
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        fs::remove_file(&held).expect("it is there");
        return;
    }
    // What follows comes to a page that is open.
    let page = crate::console::browser(1280, 900).await;
    page.client.goto(&format!("{}/#token={}", quay.url, quay.token())).await.expect("the link");
    page.shows(&["Now"]).await;
    page.client.goto(&format!("{}/runs/{second}", quay.url)).await.expect("the page");
    page.shows(&[&first, "– then s3"]).await;
    fs::remove_file(&held).expect("it is there");
    let third = newest(quay, "step-a", 2)["name"].as_str().expect("a name").to_owned();
    page.shows(&[&first, &third]).await;
    let text = page.text().await;
    assert!(!text.contains("then s3") && text.contains(&format!("● {second}")), "{text}");
    page.client.clone().close().await.expect("the browser ends");
}

#[test]
fn a_schedule_follows_the_clock_that_it_is_given() {
    let (quay, clock) = Quay::with_clock("2026-03-28T12:00:00Z");
    let _worker = quay.worker("heron", 2);
    add(&quay, "planned", OK);
    let words = ["--cron", "15 2 * * *", "--zone", "Europe/Oslo", "--suite", "planned"];
    let said = done(&quay, &[&["schedule", "add", "nightly"], &words[..]].concat());
    assert_says(&said, &["At 02:15 (Europe/Oslo)", "Sun 2026-03-29 03:00 CEST", "Mon 2026-03-30 02:15 CEST"]);
    let warned = all_said(&quay.kesmo(&[&["schedule", "look", "x"], &words[..]].concat()));
    assert_says(&warned, &["Sun 2026-03-29: the clock skips 02:00 to 03:00, the start of 02:15 runs at 03:00"]);
    let shown = |quay: &Quay| quay.json(&["schedule", "show", "nightly"])["planned"].as_array().expect("rows").clone();
    clock.set("2026-03-29T00:59:59Z");
    clock.set("2026-03-29T01:00:01Z");
    let run = newest(&quay, "planned", 1);
    assert_eq!(run["origin"]["kind"], "schedule");
    verdict(&quay, run["name"].as_str().expect("a name"));
    // A clock that is put back starts nothing twice.
    clock.set("2026-03-29T00:30:00Z");
    until("the clock was seen", || {
        (quay.json(&["schedule", "show", "nightly"])["next"] == "2026-03-29T01:00:00Z").then_some(())
    });
    clock.set("2026-03-29T01:00:02Z");
    until("it goes on", || {
        (quay.json(&["schedule", "show", "nightly"])["next"] == "2026-03-30T00:15:00Z").then_some(())
    });
    assert_eq!(shown(&quay).len(), 1);
    assert_eq!(quay.json(&["runs", "--suite", "planned"]).as_array().expect("runs").len(), 1);
    // Three nights without a service are one run, and the rows say so.
    clock.set("2026-04-02T00:15:30Z");
    newest(&quay, "planned", 2);
    let rows = until("all rows", || Some(shown(&quay)).filter(|rows| rows.len() == 3));
    assert_eq!(
        (&rows[0]["what"], &rows[1]["what"], &rows[1]["count"]),
        (&json!("started"), &json!("missed"), &json!(3)),
        "{rows:?}"
    );
    // Paused, nothing starts; what was due meanwhile is left out.
    done(&quay, &["schedule", "pause", "nightly"]);
    clock.set("2026-04-05T12:00:00Z");
    assert_says(&done(&quay, &["schedule", "resume", "nightly"]), &["next: Mon 2026-04-06 02:15 CEST"]);
    assert_eq!(quay.json(&["runs", "--suite", "planned"]).as_array().expect("runs").len(), 2);
    // By hand, beside its times.
    let run = done(&quay, &["schedule", "now", "nightly"]);
    assert_eq!(verdict(&quay, &run)["verdict"], "passed");
    assert_says(
        &text(&quay.kesmo(&["schedule", "show", "nightly"]).stdout),
        &["started by first-admin, beside its times", "missed (3 starts)"],
    );
    // What it starts goes away: the row says why nothing was started.
    done(&quay, &["suite", "remove", "planned"]);
    clock.set("2026-04-06T00:15:01Z");
    let rows = until("the row", || Some(shown(&quay)).filter(|rows| rows[0]["what"] == "refused"));
    assert_says(rows[0]["why"].as_str().expect("why"), &["there is no suite named \"planned\""]);
    done(&quay, &["schedule", "remove", "nightly"]);
    assert_says(&refused(&quay, &["schedule", "show", "nightly"]), &["there is no schedule named"]);
}

#[test]
fn a_busy_schedule_skips_waits_or_stops_and_another_begins_after_each_run() {
    let (quay, clock) = Quay::with_clock("2026-11-23T12:00:30Z");
    let _worker = quay.worker("heron", 4);
    let gate = quay.path("open");
    let held = format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"ok - $t\"", gate.display());
    for name in ["skips", "waits", "stops"] {
        let folder = quay.tap(name, "a", &held, "[limits]\ntest = \"60s\"");
        done(&quay, &["suite", "add", &folder.to_string_lossy()]);
        let rule = match name {
            "skips" => "skip",
            "waits" => "wait",
            _ => "stop-old",
        };
        done(&quay, &["schedule", "add", name, "--cron", "* * * * *", "--suite", name, "--if-busy", rule]);
    }
    clock.set("2026-11-23T12:01:00Z");
    for name in ["skips", "waits", "stops"] {
        newest(&quay, name, 1);
    }
    clock.set("2026-11-23T12:02:00Z");
    let row = |name: &str, n: usize| {
        let shown = quay.json(&["schedule", "show", name]);
        let rows = shown["planned"].as_array().expect("rows").clone();
        (rows.len() >= n).then(|| rows[0].clone())
    };
    let skipped = until("skipped", || row("skips", 2));
    assert_eq!((&skipped["what"], &skipped["why"]), (&json!("skipped"), &json!("skips/1 still goes")));
    assert_eq!(until("waiting", || row("waits", 2))["what"], "waiting");
    let stopped = verdict(&quay, "stops/1");
    assert_says(stopped["reason"].as_str().expect("why"), &["the next start of schedule stops was due"]);
    clock.set("2026-11-23T12:03:00Z");
    let second = until("one waits already", || row("waits", 3));
    assert_says(second["why"].as_str().expect("why"), &["waits/1 still goes, and an earlier start waits for it"]);
    fs::write(&gate, "").expect("the gate is opened");
    verdict(&quay, "waits/1");
    let run = newest(&quay, "waits", 2);
    assert_eq!(run["origin"]["planned_us"], 1_795_435_320_000_000_i64);
    // After every run: the next start is counted from the end of the last.
    let folder = quay.tap("again", "a", OK, "");
    done(&quay, &["suite", "add", &folder.to_string_lossy()]);
    done(&quay, &["schedule", "add", "again", "--after-every", "5m", "--suite", "again"]);
    clock.go_on(301);
    let first = newest(&quay, "again", 1);
    let over = verdict(&quay, first["name"].as_str().expect("a name"));
    let ended: chrono::DateTime<chrono::Utc> = over["finished_at"].as_str().expect("an end").parse().expect("a moment");
    let next = until("the next start", || {
        let next = quay.json(&["schedule", "show", "again"])["next"].as_str().map(str::to_owned);
        next.and_then(|n| n.parse::<chrono::DateTime<chrono::Utc>>().ok())
    });
    assert_eq!(next - ended, chrono::TimeDelta::minutes(5));
}

#[test]
fn wrong_schedules_say_what_is_allowed() {
    let quay = shared();
    add(quay, "wrong-times", OK);
    let said =
        |words: &[&str]| refused(quay, &[&["schedule", "add", "wrong", "--suite", "wrong-times"], words].concat());
    assert_says(&said(&["--cron", "61 2 * * *"]), &["field 1 (minute) is \"61\"", "Allowed are 0 to 59"]);
    assert_says(&said(&["--cron", "0 0 30 2 *"]), &["it never comes: February has no day 30"]);
    assert_says(&said(&["--cron", "0 0 * * *", "--zone", "Europe/Olso"]), &["did you mean Europe/Oslo?"]);
    assert_says(&said(&["--cron", "0 0 * * *", "--until", "2020-01-01"]), &["nothing would ever start"]);
    assert_says(&said(&["--at", "2020-01-01 12:00"]), &["has passed"]);
    assert_says(&said(&[]), &["exactly one of --cron"]);
    assert_says(&said(&["--cron", "0 0 * * *", "--at", "2030-01-01 12:00"]), &["exactly one of --cron"]);
    assert_says(&said(&["--cron", "0 0 * * *", "--if-busy", "stop"]), &["stop-old"]);
    assert_says(&said(&["--cron", "0 0 * * *", "--retries", "999"]), &["--retries 999 is too many"]);
}

/// Sends a body, signed, by the program.
fn send(quay: &Quay, name: &str, secret: &str, body: &str, more: &[&str]) -> (i32, String) {
    let file = quay.path(&format!("body-{name}"));
    fs::write(&file, body).expect("a file");
    let path = file.to_string_lossy().into_owned();
    let output = quay.kesmo(&[&["webhook", "send", name, "--body", &path, "--secret", secret], more].concat());
    (output.status.code().unwrap_or(-1), all_said(&output))
}

#[test]
fn a_delivery_starts_a_run_once_and_says_what_it_did() {
    let quay = shared();
    add(quay, "called", OK);
    done(quay, &["brief", "add", "called", "--suite", "called", "--pick", "gate/**"]);
    let takes = [
        "--take",
        "commit=/commit",
        "--take",
        "branch=/branch",
        "--take",
        "label.author=/author",
        "--take",
        "set.passengers?=/passengers",
    ];
    let words = [&["webhook", "add", "called", "--brief", "called", "--when", "/branch!=tags/**"], &takes[..]].concat();
    let secret = done(quay, &words);
    let commit = "a1".repeat(20);
    let push = json!({ "branch": "release/1187", "commit": commit, "author": "Ada", "passengers": 3 }).to_string();
    fs::write(quay.path("push.json"), &push).expect("a file");
    let tried = done(quay, &["webhook", "try", "called", "--body", "push.json"]);
    assert_says(
        &tried,
        &["It would start a run", "branch = \"release/1187\"", "passengers = \"3\"", "author = \"Ada\""],
    );
    let (status, run) = send(quay, "called", &secret, &push, &["--id", "first"]);
    assert_eq!(status, 0, "{run}");
    let shown = verdict(quay, run.trim());
    assert_eq!(
        (&shown["verdict"], &shown["commit"], &shown["branch"]),
        (&json!("passed"), &json!(commit), &json!("release/1187"))
    );
    assert_eq!((&shown["labels"]["author"], &shown["options"]["set"]["passengers"]), (&json!("Ada"), &json!("3")));
    let (status, said) = send(quay, "called", &secret, &push, &["--id", "first"]);
    assert_eq!(status, 2);
    assert_says(&said, &["this delivery had come before", run.trim(), "it is not taken twice"]);
    let (_, said) = send(quay, "called", &secret, r#"{"branch":"tags/7"}"#, &[]);
    assert_says(&said, &["ignored: --when /branch!=tags/**: /branch is \"tags/7\""]);
    let (status, said) = send(quay, "called", &secret, r#"{"branch":"main","comit":"x"}"#, &[]);
    assert_eq!(status, 2);
    assert_says(&said, &["/commit finds nothing in the body", "did you mean \"comit\"?"]);
    let (_, said) = send(quay, "called", &secret, "{", &[]);
    assert_says(&said, &["the body is not valid JSON"]);
    let other = kesmo_core::webhook::write_secret(&[9; 32]);
    let (status, said) = send(quay, "called", &other, &push, &[]);
    assert_eq!(status, 12, "{said}");
    assert_says(&said, &["the signature is wrong"]);
    let (status, said) = send(quay, "called", &secret, &format!("\"{}\"", "x".repeat(300_000)), &[]);
    assert_eq!(status, 2);
    assert_says(&said, &["a delivery has at most 256.0 KiB"]);
    // A CloudEvent is known by its source and id, whatever its delivery is called.
    let event =
        json!({ "specversion": "1.0", "id": "e1", "source": "/quay", "type": "pushed", "data": {} }).to_string();
    let event_type = ["--content-type", "application/cloudevents+json"];
    let secret_2 = done(quay, &["webhook", "add", "events", "--brief", "called", "--take", "label.kind=/type"]);
    let (status, run) = send(quay, "events", &secret_2, &event, &event_type);
    assert_eq!(status, 0, "{run}");
    assert_eq!(quay.run(run.trim())["labels"]["kind"], "pushed");
    assert_says(&send(quay, "events", &secret_2, &event, &event_type).1, &["this delivery had come before"]);
    // Every delivery is kept with what it did; one can be taken again.
    let shown = quay.json(&["webhook", "show", "called"]);
    let kept = shown["deliveries"].as_array().expect("deliveries");
    let did: Vec<&str> = kept.iter().rev().filter_map(|d| d["did"].as_str()).collect();
    assert_eq!(did, ["started", "ignored", "refused", "refused", "refused"], "{kept:?}");
    assert_eq!(kept[0]["genuine"], false);
    let number = kept.last().expect("the first")["id"].to_string();
    assert_says(&done(quay, &["webhook", "body", "called", &number]), &["release/1187"]);
    let again = done(quay, &["webhook", "redeliver", "called", &number]);
    assert_ne!(again, run.trim());
    assert_says(
        &refused(quay, &["webhook", "redeliver", "called", &kept[0]["id"].to_string()]),
        &["it was not genuine"],
    );
    // Paused, and with a new secret.
    done(quay, &["webhook", "pause", "called"]);
    assert_says(&send(quay, "called", &secret, &push, &[]).1, &["the webhook called is paused"]);
    done(quay, &["webhook", "resume", "called"]);
    let fresh = done(quay, &["webhook", "new-secret", "called"]);
    assert_says(&send(quay, "called", &secret, &push, &[]).1, &["the signature is wrong"]);
    assert_eq!(send(quay, "called", &fresh, &push, &[]).0, 0);
    // Too many in a minute.
    let few = done(quay, &["webhook", "add", "few", "--brief", "called", "--per-minute", "2"]);
    // What is not genuine does not use up what is taken.
    for _ in 0..3 {
        assert_says(&send(quay, "few", &other, "{}", &[]).1, &["the signature is wrong"]);
    }
    let all: Vec<i32> = (0..3).map(|_| send(quay, "few", &few, "{}", &[]).0).collect();
    assert_eq!(all, [0, 0, 12]);
    assert_says(
        &send(quay, "few", &few, "{}", &[]).1,
        &["more than 2 deliveries a minute are not taken: try again in"],
    );
}

#[test]
fn wrong_webhooks_are_refused_when_they_are_made() {
    let quay = shared();
    add(quay, "wrong-calls", OK);
    done(quay, &["brief", "add", "wrong-calls", "--suite", "wrong-calls"]);
    let said = |more: &[&str]| refused(quay, &[&["webhook", "add", "wc", "--brief", "wrong-calls"], more].concat());
    assert_says(&said(&["--take", "comit=/commit"]), &["a target is branch, commit, env"]);
    assert_says(&said(&["--take", "commit=after"]), &["is not a valid JSON Pointer"]);
    assert_says(&said(&["--take", "set.passenger=/n"]), &["no such setting; did you mean \"passengers\"?"]);
    assert_says(&said(&["--when", "/branch"]), &["write POINTER=GLOB"]);
    assert_says(&said(&["--per-minute", "0"]), &["is out of bounds"]);
    assert_says(&refused(quay, &["webhook", "add", "wc", "--brief", "nowhere"]), &["there is no brief named"]);
    let gone = quay.kesmo(&["webhook", "send", "nowhere", "--body", "kesmo.toml", "--secret", "x"]);
    assert_eq!(gone.status.code(), Some(2));
}

#[test]
fn a_suite_from_version_control_is_pinned_to_a_commit() {
    let quay = shared();
    let gate = quay.path("git-open");
    let body = format!(
        "echo \"# $KESMO_BRANCH $KESMO_COMMIT\"; while [ ! -e {} ]; do sleep 0.05; done; echo \"ok - $t\"",
        gate.display()
    );
    let folder = quay.tap("pinned", "a b", &body, "[limits]\ntest = \"60s\"");
    let repo = Repo::of(&folder, quay.path("pinned.git"));
    let first = repo.git(&["rev-parse", "HEAD"]);
    done(quay, &["suite", "add", "--git", &repo.url()]);
    let run = done(quay, &["start", "pinned", "--shards", "1"]);
    // The branch goes on while the run does; the run does not.
    fs::write(repo.path.join("tests.sh"), "exit 9\n").expect("a file");
    repo.commit("broken");
    fs::write(&gate, "").expect("the gate is opened");
    let shown = verdict(quay, &run);
    assert_eq!(
        (&shown["verdict"], &shown["commit"], &shown["branch"]),
        (&json!("passed"), &json!(first), &json!("main"))
    );
    assert_says(&text(&quay.kesmo(&["log", &run, "a"]).stdout), &[&format!("# main {first}")]);
    let again = done(quay, &["again", &run]);
    assert_eq!(verdict(quay, &again)["commit"], json!(first));
    // The newest commit is broken; an exact one is not.
    let void = quay.kesmo(&["start", "pinned", "--wait"]);
    assert_eq!(void.status.code(), Some(10), "{}", all_said(&void));
    let exact = quay.kesmo(&["start", "pinned", "--commit", &first, "--wait"]);
    assert_eq!(exact.status.code(), Some(0), "{}", all_said(&exact));
    assert_says(
        &refused(quay, &["start", "pinned", "--branch", "mian"]),
        &["has no branch \"mian\"; did you mean \"main\"?"],
    );
    assert_says(&refused(quay, &["start", "pinned", "--commit", "abc"]), &["give all 40 (or 64) digits"]);
    assert_says(&refused(quay, &["suite", "add", "--git", "ext::sh -c true"]), &["is not usable"]);
    assert_says(
        &refused(quay, &["suite", "add", "--git", &repo.url(), "--folder", "deep"]),
        &["holds no deep/kesmo.toml"],
    );
}

#[test]
fn a_watched_branch_starts_a_run_for_every_new_commit_and_says_what_is_wrong() {
    let quay = shared();
    let folder = quay.tap("looked", "a b", OK, "");
    let repo = Repo::of(&folder, quay.path("looked.git"));
    done(quay, &["suite", "add", "--git", &repo.url()]);
    done(quay, &["brief", "add", "looked", "--suite", "looked", "--label", "by=watch"]);
    let words = ["suite", "poll", "looked", "--branch", "release/*", "--every", "1s", "--brief", "looked"];
    let started = std::time::Instant::now();
    assert_says(&done(quay, &words), &["release/* of looked is polled"]);
    assert_says(
        &refused(quay, &["suite", "poll", "looked", "--branch", "mian"]),
        &["there is no branch \"mian\" now; did you mean \"main\"?"],
    );
    // That no branch matches yet is nothing to be troubled by, and it is looked at as often as before.
    until("several looks", || {
        let watch = &quay.json(&["suite", "show", "looked"]);
        let said = text(&quay.kesmo(&["suite", "show", "looked"]).stdout);
        assert!(watch["trouble"].is_null() && !said.contains("next look"), "{said}");
        std::thread::sleep(std::time::Duration::from_millis(300));
        (started.elapsed().as_secs() >= 3).then_some(())
    });
    // The branch appears with its commit: one made first would be run at the commit that it came from.
    repo.git(&["checkout", "--quiet", "--detach"]);
    let commit = repo.commit("a release");
    repo.git(&["checkout", "--quiet", "-b", "release/1"]);
    let run = newest(quay, "looked", 1);
    assert_eq!(
        (&run["commit"], &run["branch"], &run["labels"]["by"]),
        (&json!(commit), &json!("release/1"), &json!("watch"))
    );
    assert_eq!(verdict(quay, run["name"].as_str().expect("a name"))["verdict"], "passed");
    // A commit whose suite file is wrong gives a void run that says so.
    let good = fs::read_to_string(repo.path.join("kesmo.toml")).expect("the suite file");
    fs::write(repo.path.join("kesmo.toml"), format!("{good}\n[retry]\ntime = 3\n")).expect("a file");
    repo.commit("a misspelt suite file");
    let run = newest(quay, "looked", 2);
    let void = verdict(quay, run["name"].as_str().expect("a name"));
    assert_eq!(void["verdict"], "void");
    assert_says(void["reason"].as_str().expect("why"), &["[retry] has no key \"time\"; did you mean \"times\"?"]);
    // The server is away for a while: it is said, and nothing is lost.
    let away = repo.path.with_extension("away");
    fs::write(repo.path.join("kesmo.toml"), good).expect("a file");
    let mended = repo.commit("mended");
    fs::rename(&repo.path, &away).expect("it is moved away");
    // A run whose start is not waited for stands in line until the files are there.
    until("the trouble is told", || {
        let said = text(&quay.kesmo(&["suite", "show", "looked"]).stdout);
        (said.contains("trouble") && said.contains("does not appear to be a git repository")).then_some(())
    });
    fs::rename(&away, &repo.path).expect("it is back");
    let run = until("the run of the mended commit", || {
        let runs = quay.json(&["runs", "--suite", "looked"]);
        runs.as_array()?.iter().find(|r| r["commit"] == mended.as_str()).cloned()
    });
    assert_eq!(verdict(quay, run["name"].as_str().expect("a name"))["verdict"], "passed");
    until("the trouble is over", || {
        (!text(&quay.kesmo(&["suite", "show", "looked"]).stdout).contains("trouble")).then_some(())
    });
    done(quay, &["suite", "unpoll", "looked", "--branch", "release/*"]);
    let runs = quay.json(&["runs", "--suite", "looked"]).as_array().expect("runs").len();
    assert!((3..=4).contains(&runs), "each head was run once: {runs}");
}

#[test]
fn a_scheduled_run_waits_for_a_server_that_is_away() {
    let (quay, clock) = Quay::with_clock("2026-11-23T12:00:30Z");
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap("away", "a b", OK, "");
    let repo = Repo::of(&folder, quay.path("away.git"));
    done(&quay, &["suite", "add", "--git", &repo.url()]);
    done(&quay, &["schedule", "add", "away", "--cron", "1 12 * * *", "--suite", "away"]);
    let gone = repo.path.with_extension("gone");
    fs::rename(&repo.path, &gone).expect("it is moved away");
    clock.set("2026-11-23T12:01:00Z");
    let run = newest(&quay, "away", 1);
    let name = run["name"].as_str().expect("a name").to_owned();
    let waits = until("it says what it waits for", || {
        let waits = quay.run(&name)["waiting_for"].as_str()?.to_owned();
        waits.contains("tried").then_some(waits)
    });
    assert_says(&waits, &["does not appear to be a git repository", "again in"]);
    assert_says(&text(&quay.kesmo(&["queue"]).stdout), &[&name, "1 of 1"]);
    // Also across a restart.
    fs::rename(&gone, &repo.path).expect("it is back");
    let mut quay = quay;
    quay.kill_service();
    quay.start();
    assert_eq!(verdict(&quay, &name)["verdict"], "passed");
    assert_eq!(quay.json(&["runs", "--suite", "away"]).as_array().expect("runs").len(), 1);
}

#[test]
fn a_newer_commit_replaces_a_run_of_its_branch_and_the_queue_can_be_ordered() {
    let quay = Quay::open();
    let gate = quay.path("open");
    let held = format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"ok - $t\"", gate.display());
    let folder = quay.tap("newest", "a", &held, "[limits]\ntest = \"60s\"");
    let repo = Repo::of(&folder, quay.path("newest.git"));
    done(&quay, &["suite", "add", "--git", &repo.url()]);
    done(&quay, &["brief", "add", "newest", "--suite", "newest", "--replace-older"]);
    let _worker = quay.worker("heron", 1);
    let first = done(&quay, &["start", "--brief", "newest"]);
    until("it runs", || (quay.run(&first)["phase"] == "running").then_some(()));
    // The same commit again replaces nothing; a newer one does.
    let same = done(&quay, &["start", "--brief", "newest"]);
    repo.commit("newer");
    let newer = done(&quay, &["start", "--brief", "newest"]);
    for old in [&first, &same] {
        let run = verdict(&quay, old);
        assert_eq!(run["verdict"], "stopped");
        assert_eq!(run["reason"], format!("replaced by {newer}"));
    }
    until("it runs", || (quay.run(&newer)["slots"] == 1).then_some(()));
    // One slot, four runs: three wait, in the order in which they came.
    let [a, b, c] = [(); 3].map(|()| done(&quay, &["start", "newest"]));
    let order = || -> Vec<String> {
        let queue = quay.json(&["queue"]);
        queue.as_array().expect("runs").iter().map(|r| r["name"].as_str().expect("a name").to_owned()).collect()
    };
    until("three wait", || (order() == [a.clone(), b.clone(), c.clone()]).then_some(()));
    done(&quay, &["queue", "move", &c, "--first"]);
    until("moved", || (order() == [c.clone(), a.clone(), b.clone()]).then_some(()));
    done(&quay, &["queue", "move", &b, "--before", &a]);
    until("moved", || (order() == [c.clone(), b.clone(), a.clone()]).then_some(()));
    done(&quay, &["queue", "move", &c, "--last"]);
    until("moved", || (order() == [b.clone(), a.clone(), c.clone()]).then_some(()));
    assert_says(
        &text(&quay.kesmo(&["queue"]).stdout),
        &["1 of 3", "all slots of the pool main are busy; 2 runs are before it"],
    );
    done(&quay, &["queue", "remove", &a]);
    assert_eq!(verdict(&quay, &a)["verdict"], "stopped");
    assert_says(&refused(&quay, &["queue", "move", &newer, "--first"]), &["does not wait"]);
    fs::write(&gate, "").expect("the gate is opened");
    let began = |run: &str| verdict(&quay, run)["finished_at"].as_str().expect("an end").to_owned();
    assert!(began(&b) < began(&c), "they ran in the order of the queue");
}
