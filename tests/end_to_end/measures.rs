//! Measures: gathered live over all slots, exact, once, and held against limits.

use std::{fs, time::Duration};

use serde_json::Value;

use crate::quay::{Quay, all_said, assert_says, until};

/// A suite of these tests, each of which writes these event lines (`$t` is its name).
fn measuring(quay: &Quay, name: &str, names: &str, lines: &str, more: &str) -> std::path::PathBuf {
    let script = format!(
        "if [ \"$1\" = --names ]; then printf '%s\\n' {names}; exit; fi\nexec 3>\"$KESMO_EVENTS\"\n\
         for t in \"$@\"; do printf '{{\"test\":\"%s\",\"event\":\"start\"}}\\n' $t >&3\n{lines}\n\
         printf '{{\"test\":\"%s\",\"event\":\"end\",\"outcome\":\"passed\"}}\\n' $t >&3; done"
    );
    quay.suite(name, "events", &script, more)
}

/// A shell command that reports a measure.
fn say(what: &str) -> String {
    format!("printf '{{\"test\":\"%s\",\"event\":\"measure\",{what}}}\\n' $t >&3")
}

fn measures(quay: &Quay, of: &str) -> Vec<Value> {
    quay.json(&["measures", of])["measures"].as_array().expect("measures").clone()
}

#[test]
fn what_all_slots_measure_is_put_together_exactly_and_held_against_limits() {
    let quay = Quay::open();
    let _workers = [quay.worker("heron", 2), quay.worker("tern", 2)];
    let lines = [
        say(r#""name":"scan","value":12.5,"unit":"ms""#),
        say(r#""name":"scan","value":40,"unit":"ms","errors":1"#),
        "sleep 2.3".to_owned(),
        say(r#""name":"scan","histogram":[[10,100],[20,50]],"unit":"ms""#),
        say(r#""name":"boats","errors":3"#),
    ];
    let limits = "[[limit]]\nmeasure = \"scan\"\nstat = \"max\"\nbelow = \"0.1s\"\n[[limit]]\nmeasure = \"scan\"\nstat = \"count\"\nabove = \"100\"";
    let folder = measuring(&quay, "load", "a b c d", &lines.join("\n"), limits);
    let (status, said) = quay.wait(&folder, &["--shards", "4"]);
    assert_eq!(status, 0, "{said}");
    assert_says(
        &said,
        &["Measured", "  scan   608  ", "mean 13.5 ms  min 10  max 40", "errors 4", "  boats  0  0/s  errors 12"],
    );
    assert!(said.matches("  scan ").count() > 1, "it is told as it runs: {said}");
    let found = measures(&quay, "load/1");
    let scan = found.iter().find(|m| m["name"] == "scan").expect("it was measured");
    assert_eq!(
        (&scan["count"], &scan["errors"], &scan["min"], &scan["max"]),
        (&608.into(), &4.into(), &10.0.into(), &40.0.into())
    );
    let points = scan["points"].as_array().expect("points");
    assert!(points.len() >= 2, "{points:?}");
    assert_eq!(points.iter().map(|p| p["count"].as_u64().expect("a number")).sum::<u64>(), 608);
    assert_eq!(quay.sql("select count(*) from measure_parts"), "0", "it is kept once");
    // Limits that are passed fail the run, and say by how much; one that nothing measured too.
    let limits = "[[limit]]\nmeasure = \"scan\"\nstat = \"p50\"\nbelow = \"5ms\"\n[[limit]]\nmeasure = \"scna\"\nstat = \"mean\"\nbelow = \"5ms\"";
    let folder = measuring(&quay, "load", "a b c d", &lines.join("\n"), limits);
    let (status, said) = quay.wait(&folder, &["--shards", "4"]);
    assert_eq!(status, 1, "{said}");
    assert_says(
        &said,
        &["no test failed, but scan p50 was 10 ms, and is to stay below 5ms (and 1 more like it; see the notes)"],
    );
    let shown = all_said(&quay.kesmo(&["show", "load/2"]));
    assert_says(&shown, &["nothing measured scna, so that its limit (scna mean below 5ms) cannot be held", "Measured"]);
    let junit = all_said(&quay.kesmo(&["report", "load/2", "--as", "junit"]));
    assert_says(&junit, &["scan p50 was 10 ms", "<property name=\"measure scan\" value=\"608, "]);
    assert_says(
        &all_said(&quay.kesmo(&["report", "load/2", "--as", "html"])),
        &["Measured: scan", "max 40, 95% below 20, errors 4"],
    );
    let json: Value =
        serde_json::from_str(&all_said(&quay.kesmo(&["report", "load/2", "--as", "json"]))).expect("JSON");
    assert_eq!(json["run"]["measures"][1]["count"], 608);
    // Of some tests, a measure may lack.
    let limits = "[[limit]]\nmeasure = \"other\"\nstat = \"mean\"\nbelow = \"5ms\"";
    let folder = measuring(&quay, "load", "a b c d", &lines.join("\n"), limits);
    let (status, said) = quay.wait(&folder, &["--pick", "a"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["nothing measured other"]);
    // Over runs, those of the same choice.
    let over = quay.json(&["measures", "load", "--measure", "scan"]);
    let runs = |over: &Value| over[0]["runs"].as_array().expect("runs").len();
    assert_eq!((runs(&over), &over[0]["choice"]), (1, &"pick a".into()));
    assert_eq!(quay.wait(&folder, &[]).0, 1, "what nothing measured cannot be held in a whole run");
    assert_eq!(runs(&quay.json(&["measures", "load", "--measure", "scan"])), 3);
    assert_says(
        &all_said(&quay.kesmo(&["measures", "load"])),
        &["scan in ms, in runs of all tests", "load/1", "load/4"],
    );
    assert_says(
        &all_said(&quay.kesmo(&["measures", "load/1", "--measure", "scna"])),
        &["there is no measure named \"scna\"", "did you mean \"scan\"?"],
    );
    // The same here, without a service.
    let here = quay.kesmo(&["here", &folder.display().to_string(), "--slots", "2"]);
    assert_eq!(here.status.code(), Some(1), "{}", all_said(&here));
    assert_says(&all_said(&here), &["Measured", "scan", "608"]);
}

#[test]
fn odd_measures_are_told_and_cost_no_result() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 1);
    let lines = [
        say(r#""name":"scan","value":NaN"#),
        say(r#""name":"scan","value":-3"#),
        say(r#""name":"","value":3"#),
        say(r#""name":"scan","histogram":[[1,0]]"#),
        "printf '{\"test\":\"nobody\",\"event\":\"measure\",\"name\":\"scan\",\"value\":1}\\n' >&3".to_owned(),
        "n=0; while [ $n -lt 300 ]; do printf '{\"test\":\"%s\",\"event\":\"measure\",\"name\":\"call-%s\",\"value\":1}\\n' $t $n >&3; n=$((n+1)); done".to_owned(),
        say(r#""name":"scan","value":7"#),
    ];
    let folder = measuring(&quay, "odd", "a", &lines.join("\n"), "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(
        &said,
        &[
            "a broken event line: expected value",
            "-3 cannot be a measure",
            "the name of a measure has 1 to 100 letters",
            "0 times cannot be counted",
            "more than 100 measures",
        ],
    );
    let found = measures(&quay, "odd/1");
    assert_eq!(found.len(), 100);
    // A suite of files may measure too, and a process that stays.
    let script = "if [ \"$1\" = --names ]; then echo specs/one; exit; fi; exec 3>\"$KESMO_EVENTS\"; echo '{\"test\":\"specs/one\",\"event\":\"measure\",\"name\":\"scan\",\"value\":3}' >&3; echo '{\"test\":\"specs/one/x\",\"event\":\"end\",\"outcome\":\"passed\"}' >&3";
    let folder = quay.suite("filed", "events", script, "");
    let toml = fs::read_to_string(folder.join("kesmo.toml")).expect("a suite file");
    fs::write(folder.join("kesmo.toml"), toml.replace("[tests]", "[tests]\neach = \"file\"")).expect("a suite file");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_eq!(measures(&quay, "filed/1")[0]["count"], 1);
}

#[test]
fn what_was_measured_outlives_the_service_and_is_counted_once() {
    let mut quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let lines = "n=0; while [ $n -lt 40 ]; do printf '{\"test\":\"%s\",\"event\":\"measure\",\"name\":\"scan\",\"value\":1}\\n' $t >&3; n=$((n+1)); sleep 0.1; done";
    let folder = measuring(&quay, "long", "a b", lines, "");
    let run = quay.start_run(&folder, &["--shards", "2"]);
    let counted = |quay: &Quay| measures(quay, &run).first().and_then(|m| m["count"].as_u64()).unwrap_or(0);
    until("something is measured", || (counted(&quay) > 10).then_some(()));
    quay.kill_service();
    std::thread::sleep(Duration::from_millis(700));
    quay.start();
    assert!(counted(&quay) > 0, "what was kept is there");
    assert_eq!(quay.kesmo(&["watch", &run]).status.code(), Some(0));
    assert_eq!(counted(&quay), 80, "each once");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_run_measures_stands_on_its_page_and_over_runs_on_the_suites() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let lines = [
        say(r#""name":"scan","value":12.5,"unit":"ms""#),
        "sleep 3".to_owned(),
        say(r#""name":"scan","histogram":[[10,100],[40,7]],"unit":"ms","errors":3"#),
        say(r#""name":"boats","value":1234567"#),
    ];
    let limits = "[[limit]]\nmeasure = \"scan\"\nstat = \"max\"\nbelow = \"20ms\"";
    let folder = measuring(&quay, "load", "a b", &lines.join("\n"), limits);
    let page = crate::console::browser(1280, 900).await;
    let url = &quay.url;
    page.client.goto(&format!("{url}/#token={}", quay.token())).await.expect("the page opens");
    page.shows(&["Nothing has run yet"]).await;
    let open = async |path: &str| page.client.goto(&format!("{url}{path}")).await.expect("the page opens");
    let run = quay.start_run(&folder, &["--shards", "2"]);
    open(&format!("/runs/{run}")).await;
    // As it runs, and when it is over.
    page.shows(&["Measured", "scan ms", "12.5"]).await;
    page.shows(&["◆ failed", "scan max was 40 ms, and is to stay below 20ms", "216", "◆ 6", "1,234,567"]).await;
    page.shows(&["over time: mean, 95 % below, largest", "A second, and ◆ errors"]).await;
    page.click("//button[text()='boats']").await;
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    open("/suites/load").await;
    page.shows(&["Over the last 2 runs of all tests", "95 % below", "◆ 6 errors", "load/2"]).await;
    page.client.clone().close().await.expect("the browser ends");
}

/// What the senders of a load wrote down: when each began and ended, in milliseconds, and which it was.
fn sent(log: &std::path::Path) -> Vec<(u64, u64, String)> {
    let text = fs::read_to_string(log).unwrap_or_default();
    let parts = |line: &str| {
        let words: Vec<&str> = line.split(' ').collect();
        Some((words.first()?.parse().ok()?, words.get(1)?.parse().ok()?, words[2..].join(" ")))
    };
    text.lines().filter_map(parts).collect()
}

#[test]
fn the_senders_of_a_load_begin_together_over_several_workers() {
    // A machine that stands still for some seconds has lost no worker.
    let quay = Quay::with_patience("6s");
    let _heron = quay.worker("heron", 2);
    let tern = quay.worker("tern", 2);
    let [log, held, begun] = ["sent.log", "held", "begun.log"].map(|name| quay.path(name));
    // The files of a worker are prepared once, which one of them does slowly.
    let prepare = "[prepare]\nrun = [\"sh\", \"-c\", \"[ $KESMO_WORKER = heron ] || sleep 2\"]";
    let lines = [
        format!("began=$(date +%s%3N); echo $t >> {}", begun.display()),
        say(r#""name":"scan","value":5,"unit":"ms""#),
        format!("sleep 0.4; while [ -e {} ]; do sleep 0.05; done", held.display()),
        format!("echo $began $(date +%s%3N) $t $KESMO_SENDER of $KESMO_SENDERS >> {}", log.display()),
    ];
    let folder = measuring(&quay, "load", "a b", &lines.join("\n"), prepare);
    let (status, said) = quay.wait(&folder, &["--each-slot"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["all 2 tests: each on 4 slots at once", "  scan  8  "]);
    for test in ["a", "b"] {
        let of: Vec<_> = sent(&log).into_iter().filter(|(_, _, who)| who.starts_with(test)).collect();
        let mut who: Vec<&str> = of.iter().map(|(_, _, who)| who.as_str()).collect();
        who.sort_unstable();
        assert_eq!(who, (1..=4).map(|n| format!("{test} {n} of 4")).collect::<Vec<_>>(), "{of:?} {said}");
        let last_began = of.iter().map(|(began, ..)| *began).max().expect("some");
        let first_ended = of.iter().map(|(_, ended, _)| *ended).min().expect("some");
        assert!(last_began < first_ended, "{test}: all of them sent at once: {of:?}");
    }
    let ended = |test: &str| sent(&log).into_iter().filter(|(_, _, who)| who.starts_with(test)).map(|s| s.1).max();
    let next = sent(&log).into_iter().filter(|(_, _, who)| who.starts_with('b')).map(|s| s.0).min();
    assert!(ended("a") <= next, "one test after the other");
    // A worker that dies in the middle: the others are ended, and all begin again. The service is killed besides.
    fs::remove_file(&log).expect("it is there");
    fs::write(&held, "").expect("a file");
    let run = quay.start_run(&folder, &["--each-slot", "--pick", "a"]);
    until("all send", || (quay.run(&run)["tally"]["running"] == 4).then_some(()));
    // Four senders of each of the two tests, and these: a process that is started has not done anything.
    let have_begun = || fs::read_to_string(&begun).unwrap_or_default().lines().count();
    until("all have begun", || (have_begun() == 12).then_some(()));
    drop(tern);
    until("the others are ended", || quay.run(&run)["notes"].to_string().contains("went away as it ran").then_some(()));
    let waits = until("it says what it lacks", || {
        let waits = quay.run(&run)["waiting_for"].as_str()?.to_owned();
        waits.contains("slots at once").then_some(waits)
    });
    assert_eq!(waits, "a needs 4 slots at once, and there are 2");
    let other = quay.tap("plain", "x y", "echo \"ok - $t\"", "");
    assert_eq!(quay.wait(&other, &[]).0, 0, "the slots that are there serve others meanwhile");
    let mut quay = quay;
    quay.kill_service();
    quay.start();
    let _tern = quay.worker("tern", 2);
    until("all send again", || (quay.run(&run)["tally"]["running"] == 4).then_some(()));
    until("all have begun again", || (have_begun() == 16).then_some(()));
    // Killed as they send: they go on, and no more of them begin.
    quay.kill_service();
    fs::remove_file(&held).expect("a file");
    quay.start();
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    let of = sent(&log);
    assert_eq!(
        (of.len(), have_begun()),
        (4, 16),
        "each goes on, and sends to the end: {of:?} {}",
        quay.run(&run)["notes"]
    );
    let (last_began, first_ended) = (of.iter().map(|s| s.0).max(), of.iter().map(|s| s.1).min());
    assert!(last_began < first_ended, "{of:?}");
}

#[test]
fn a_load_that_cannot_be_sent_is_told_before_anything_runs() {
    let quay = Quay::open();
    let folder =
        measuring(&quay, "load", "a b", "", "[retry]\ntimes = 2\n[[rule]]\ntests = [\"b\"]\nclaims = [\"berth\"]");
    let place = folder.display().to_string();
    let refused = |more: &[&str]| {
        let words: Vec<&str> = ["start", &place, "--each-slot"].iter().chain(more).copied().collect();
        let said = quay.kesmo(&words);
        assert_ne!(said.status.code(), Some(0), "{words:?}");
        all_said(&said)
    };
    assert_says(&refused(&[]), &["there is none that fits", "--shards N"]);
    assert_says(&refused(&["--repeat", "2"]), &["cannot be used with", "--repeat"]);
    assert_says(&refused(&["--shards", "2", "--retries", "1"]), &["is not retried"]);
    let _worker = quay.worker("heron", 3);
    let (status, said) = quay.wait(&folder, &["--each-slot"]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["b holds the claim \"berth\"", "--drop \"b\""]);
    // Those of the suite file are not made, and slots that are there are counted.
    let (status, said) = quay.wait(&folder, &["--each-slot", "--drop", "b"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["each on 3 slots at once"]);
    // Two of them that need all slots of one pool do not wait for each other.
    let both = [(); 2].map(|()| quay.start_run(&folder, &["--each-slot", "--drop", "b"]));
    for run in &both {
        let watched = quay.kesmo(&["watch", run]);
        assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    }
    let here = quay.kesmo(&["here", &place, "--each-slot", "--drop", "b", "--slots", "2"]);
    assert_eq!(here.status.code(), Some(0), "{}", all_said(&here));
    assert_says(&all_said(&here), &["each on 2 slots at once", "a: 2 passed of 2"]);
    let more = quay.kesmo(&["here", &place, "--each-slot", "--shards", "5", "--slots", "2"]);
    assert_says(&all_said(&more), &["on 5 slots at once, and this machine is to have 2"]);
}
