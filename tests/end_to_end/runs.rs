//! Runs as a user has them: started, watched, retried, stopped, repeated, reported.

use crate::quay::{Process, all_said, assert_says, processes_with, shared, text, until};

#[test]
fn a_suite_is_added_listed_started_and_read() {
    let quay = shared();
    let folder = quay.tap("ferry", "ferry/loads ferry/sails ferry/lands", "echo \"ok - $t\"", "[settings]\nknots = 12");
    let folder = folder.to_string_lossy();
    let check = quay.kesmo(&["suite", "check", &folder]);
    assert_says(&all_said(&check), &["is good: suite ferry"]);
    let add = quay.kesmo(&["suite", "add", &folder]);
    assert_says(&all_said(&add), &["Suite ferry is added (2 files"]);
    let again = quay.kesmo(&["suite", "add", &folder]);
    assert_says(&all_said(&again), &["its files were here already"]);
    let tests = quay.kesmo(&["tests", "ferry", "--pick", "ferry/s*"]);
    assert_says(&all_said(&tests), &["ferry/sails", "1 of 3 tests"]);
    let started = quay.kesmo(&["start", "ferry", "--wait", "--label", "release=1187", "--set", "knots=9"]);
    assert_eq!(started.status.code(), Some(0), "{}", all_said(&started));
    assert_says(&all_said(&started), &["● passed  ferry/1", "● 3", "labels release=1187"]);
    assert_says(&all_said(&quay.kesmo(&["runs", "--label", "release=1187"])), &["ferry/1"]);
    assert_says(&all_said(&quay.kesmo(&["tests", "ferry"])), &["● 1 passed", "of work"]);
    assert_says(&all_said(&quay.kesmo(&["suite", "list"])), &["ferry", "● passed ferry/1"]);
}

#[test]
fn a_flaky_test_passes_at_a_retry_and_every_attempt_is_kept() {
    let quay = shared();
    let body = r#"
if [ "$KESMO_ATTEMPT" = 3 ] || [ $t = steady ]; then echo "ok - $t"
else echo "attempt $KESMO_ATTEMPT says no"; printf 'not ok - %s\n# wet ticket\n' $t; fi"#;
    let (status, said) =
        quay.wait(&quay.tap("flaky", "steady wet", body, "[retry]\ntimes = 2\nother-worker = true"), &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["● 1  ◐ 1", "wet  passed at attempt 3; failed before with: wet ticket"]);
    let attempts = quay.history("flaky/1", "wet");
    let ended: Vec<&str> = attempts.iter().filter_map(|a| a["ended"].as_str()).collect();
    assert_eq!(ended, ["failed", "failed", "passed"]);
    assert_ne!(attempts[0]["worker"], attempts[1]["worker"], "other-worker");
    assert_ne!(attempts[1]["worker"], attempts[2]["worker"], "other-worker");
    assert_says(&text(&quay.kesmo(&["log", "flaky/1", "wet", "--attempt", "2"]).stdout), &["attempt 2 says no"]);
    let again = quay.kesmo(&["again", "flaky/1", "--not-passed"]);
    assert_says(&all_said(&again), &["there is nothing to repeat"]);
}

#[test]
fn a_start_option_and_a_rule_decide_about_retries() {
    let quay = shared();
    let rules = "[retry]\ntimes = 1\n[[rule]]\ntests = [\"never\"]\nretry = 0";
    let folder = quay.tap("retries", "never often", "echo \"not ok - $t\"", rules);
    let (status, said) = quay.wait(&folder, &["--retries", "3"]);
    assert_eq!(status, 1, "{said}");
    assert_eq!(quay.history("retries/1", "never").len(), 1);
    assert_eq!(quay.history("retries/1", "often").len(), 4);
    assert_says(&text(&quay.kesmo(&["log", "retries/1", "never"]).stdout), &["0 retries, from kesmo.toml line 8"]);
    assert_says(&text(&quay.kesmo(&["log", "retries/1", "often"]).stdout), &["3 retries, from --retries of the start"]);
}

#[test]
fn a_test_past_its_limit_is_ended_with_all_its_processes() {
    let quay = shared();
    let body = "[ $t = slow ] && { setsid sleep 7654 & (sleep 7654 &) ; sleep 7654; }; echo \"ok - $t\"";
    let (status, said) = quay.wait(&quay.tap("overrun", "quick slow after", body, "[limits]\ntest = \"3s\""), &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["● 2  ◆ 1", "it ran longer than its limit of 3.0 s and was ended"]);
    assert_eq!(quay.history("overrun/1", "slow")[0]["ended"], "timed-out");
    assert_eq!(quay.history("overrun/1", "after").len(), 1, "the ones after it go back uncharged");
    assert_eq!(processes_with("sleep\u{0}7654"), 0, "no orphan is left");
}

#[test]
fn what_a_batch_leaves_running_is_ended() {
    let quay = shared();
    let body = "setsid sleep 8765 >/dev/null 2>&1 & echo \"ok - $t\"; sleep 0.2";
    let (status, said) = quay.wait(&quay.tap("leftover", "a", body, ""), &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["a batch left a process running; it was ended"]);
    until("the leftover is gone", || (processes_with("sleep\u{0}8765") == 0).then_some(()));
}

#[test]
fn a_crash_charges_the_test_that_ran_and_no_other() {
    let quay = shared();
    let body = "[ $t = boom ] && kill -9 $$; echo \"ok - $t\"";
    let group = "[[rule]]\ntests = [\"*\"]\ngroup = \"one-process\"";
    let (status, said) = quay.wait(&quay.tap("crash", "before boom after", body, group), &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["● 2  ◆ 1", "its process ended under it, with signal 9"]);
    assert_eq!(quay.history("crash/1", "boom")[0]["ended"], "crashed");
    assert_eq!(quay.history("crash/1", "after").len(), 1);
}

#[test]
fn a_run_is_stopped_and_its_not_passed_tests_repeated() {
    let quay = shared();
    let body = "[ -n \"$SLOW\" ] && [ $t != one ] && sleep 30; echo \"ok - $t\"";
    let more = "[env-for.slow]\nSLOW = \"1\"\n[[rule]]\ntests = [\"*\"]\ngroup = \"in-order\"";
    let folder = quay.tap("stopped", "one two three", body, more);
    let run = quay.start_run(&folder, &["--env", "slow"]);
    until("the first test passed", || (quay.run(&run)["tally"]["passed"] == 1).then_some(()));
    let stop = quay.kesmo(&["stop", &run, "--why", "the harbour is shut"]);
    assert_says(&all_said(&stop), &["■ stopped", "stopped by first-admin: the harbour is shut"]);
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(11), "{}", all_said(&watched));
    assert_says(&all_said(&watched), &["● 1  ◌ 2"]);
    let twice = quay.kesmo(&["stop", &run]);
    assert_eq!(twice.status.code(), Some(2));
    assert_says(&all_said(&twice), &["is over already"]);
    let again = quay.json(&["again", &run, "--not-passed"]);
    assert_eq!(again["options"]["only"].as_array().map(Vec::len), Some(2));
    let name = again["name"].as_str().expect("its name").to_owned();
    assert_eq!(quay.kesmo(&["stop", &name]).status.code(), Some(0));
}

#[test]
fn variants_are_run_side_by_side_and_can_be_chosen() {
    let quay = shared();
    let body = "[ $KESMO_FACET_SCREEN = phone ] && [ $t = wide ] && echo \"not ok - $t\" || echo \"ok - $t\"";
    let folder = quay.tap("facets", "wide narrow", body, "[facets]\nscreen = [\"phone\", \"desk\"]");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["● 3  ◆ 1", "wide (screen=phone)"]);
    let (status, said) = quay.wait(&folder, &["--variant", "screen=desk"]);
    assert_eq!(status, 0, "{said}");
    let (status, said) = quay.wait(&folder, &["--variant", "screen=watch"]);
    assert_eq!(status, 2, "{said}");
    assert_says(&said, &["the facet screen has no value \"watch\"; it has phone, desk"]);
}

#[test]
fn reports_can_be_read_by_other_programs() {
    let quay = shared();
    let folder = quay.tap("report", "gate/a gate/b", "[ $t = gate/b ] && echo \"not ok - $t\" || echo \"ok - $t\"", "");
    quay.wait(&folder, &[]);
    let file = quay.path("out/report.xml");
    let made = quay.kesmo(&["report", "report/1", "--as", "junit", "-o", &file.to_string_lossy()]);
    assert!(made.status.success(), "{}", all_said(&made));
    let xml = std::fs::read(&file).expect("the report");
    let cases = kesmo_core::format::junit::read(&xml).expect("it is JUnit XML").cases;
    assert_eq!(cases.len(), 2);
    let tap = text(&quay.kesmo(&["report", "report/1", "--as", "tap"]).stdout);
    assert_says(&tap, &["TAP version 14\n1..2\nok 1 - gate/a\nnot ok 2 - gate/b\n"]);
    let bad = quay.kesmo(&["report", "report/1", "--as", "xls"]);
    assert_eq!(bad.status.code(), Some(2));
}

#[test]
fn the_change_stream_is_json_lines() {
    let quay = shared();
    let folder = quay.tap("stream", "a b", "sleep 0.2; echo \"ok - $t\"", "");
    let (status, said) = quay.wait(&folder, &["--json"]);
    assert_eq!(status, 0, "{said}");
    let events: Vec<serde_json::Value> =
        said.lines().map(|l| serde_json::from_str(l).unwrap_or_else(|e| panic!("{e}: {l}"))).collect();
    assert_eq!(events.first().expect("a first")["event"], "snapshot");
    let last = events.last().expect("a last");
    assert_eq!((&last["event"], &last["data"]["summary"]["verdict"]), (&"end".into(), &"passed".into()));
    let attempts: usize = events.iter().filter_map(|e| Some(e["data"]["attempts"].as_array()?.len())).sum();
    let whole = events.iter().filter(|e| e["event"] == "snapshot").any(|e| e["data"]["run"]["tally"]["passed"] == 2);
    assert!(attempts == 2 || whole, "every attempt is told once: {said}");
}

#[test]
fn a_watcher_that_was_cut_off_goes_on_from_where_it_was() {
    let quay = shared();
    let folder =
        quay.tap("cut", "a b c d e f", "sleep 0.4; echo \"ok - $t\"", "[[rule]]\ntests = [\"*\"]\ngroup = \"one\"");
    let run = quay.start_run(&folder, &[]);
    let client = quay.client(&quay.token());
    let path = format!("/api/runs/{run}/live");
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let numbers = runtime.block_on(async {
        let mut events = client.watch(&path, None).await.expect("a stream");
        let mut last = None;
        for _ in 0..3 {
            let event = events.next().await.expect("no cut").expect("an event");
            last = event.id.or(last);
        }
        drop(events);
        // Meanwhile more happens.
        let passed = || quay.run(&run)["tally"]["passed"].as_u64().unwrap_or(0);
        let before = passed();
        crate::quay::until("two more pass", || (passed() >= before + 2).then_some(()));
        let last = last.expect("events have ids");
        let mut events = client.watch(&path, Some(&last)).await.expect("a stream again");
        let mut seen = vec![last];
        while let Some(event) = events.next().await.expect("no cut") {
            assert_ne!(event.kind, "snapshot", "it goes on without a snapshot");
            seen.extend(event.id);
        }
        seen.iter()
            .map(|id| id.rsplit('-').next().expect("a number").parse::<u64>().expect("a number"))
            .collect::<Vec<_>>()
    });
    assert!(numbers.len() > 2, "{numbers:?}");
    assert!(numbers.windows(2).all(|w| w[1] == w[0] + 1), "nothing is missed and nothing repeated: {numbers:?}");
}

#[test]
fn whoever_begins_to_watch_as_a_run_ends_sees_the_whole_of_it() {
    let quay = shared();
    let folder = quay.tap("just-missed", "a b c", "sleep 0.2; echo \"ok - $t\"", "");
    let run = quay.start_run(&folder, &[]);
    let path = format!("/api/runs/{run}/live");
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let first = |client: kesmo_client::Client, path: String| async move {
        let mut events = client.watch(&path, None).await.expect("a stream");
        let event = events.next().await.expect("no cut").expect("an event");
        let over = event.data.contains("\"verdict\":\"passed\"");
        (event.kind, over)
    };
    let watchers = (0..12).map(|_| {
        let (client, path) = (quay.client(&quay.token()), path.clone());
        runtime.spawn(async move {
            let mut kinds = std::collections::BTreeSet::new();
            loop {
                let (kind, over) = first(client.clone(), path.clone()).await;
                kinds.insert(kind);
                if over {
                    return kinds;
                }
            }
        })
    });
    for watcher in watchers.collect::<Vec<_>>() {
        let kinds = runtime.block_on(watcher).expect("a watcher");
        assert_eq!(kinds.into_iter().collect::<Vec<_>>(), ["snapshot"], "what a stream begins with");
    }
}

#[test]
fn two_runs_share_the_slots() {
    let quay = shared();
    let names: String = (0..24).map(|i| format!("t{i} ")).collect();
    let long = quay.tap("share-long", &names, "sleep 0.3; echo \"ok - $t\"", "");
    let short = quay.tap("share-short", "a b", "echo \"ok - $t\"", "");
    let run = quay.start_run(&long, &[]);
    until("the long run is under way", || (quay.run(&run)["tally"]["running"].as_u64() > Some(2)).then_some(()));
    let (status, said) = quay.wait(&short, &[]);
    assert_eq!(status, 0, "{said}");
    assert!(quay.run(&run)["verdict"].is_null(), "the short run does not wait for the long one");
    assert_eq!(quay.kesmo(&["stop", &run]).status.code(), Some(0));
}

#[test]
fn claims_are_not_held_twice_even_by_two_runs() {
    let quay = shared();
    let lock = quay.path("berth-lock");
    let body = format!(
        "mkdir '{0}' 2>/dev/null || {{ echo \"not ok - $t\"; continue; }}; sleep 0.1; rmdir '{0}'; echo \"ok - $t\"",
        lock.display()
    );
    let more = "[[rule]]\ntests = [\"*\"]\nclaims = [\"berth-db\"]";
    let folder = quay.tap("claims", "a b c d e f", &body, more);
    let first = quay.start_run(&folder, &[]);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_eq!(quay.kesmo(&["watch", &first]).status.code(), Some(0));
}

#[test]
fn ctrl_c_leaves_the_run_alone_and_says_so() {
    let quay = shared();
    let go = quay.path("left-go");
    let body = format!("until [ -e {} ]; do sleep 0.05; done; echo \"ok - $t\"", go.display());
    let folder = quay.tap("left", "a", &body, "[limits]\ntest = \"60s\"");
    let run = quay.start_run(&folder, &[]);
    let mut command = std::process::Command::new(crate::quay::KESMO);
    command.args(["watch", &run]).env("KESMO_URL", &quay.url).env("KESMO_TOKEN", quay.token());
    let (read, write) = std::io::pipe().expect("a pipe");
    command.stdout(write.try_clone().expect("the same")).stderr(write);
    let mut watcher = Process(command.spawn().expect("it starts"));
    drop(command);
    // It watches when it says how the run stands.
    let mut said = std::io::BufReader::new(read);
    let mut lines = String::new();
    while !lines.contains(&run) {
        assert_ne!(std::io::BufRead::read_line(&mut said, &mut lines).expect("a line"), 0, "{lines}");
    }
    watcher.signal(libc::SIGINT);
    assert_eq!(watcher.wait(), 130, "{lines}");
    std::fs::write(go, "").expect("the test may end");
    assert_eq!(quay.kesmo(&["watch", &run]).status.code(), Some(0));
}
