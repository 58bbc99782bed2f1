//! Choosing, sharding and explaining: parks, repetitions, portions, joining, running here, hunting, forecasts, variants.

use std::{collections::BTreeSet, path::Path, process::Command};

use crate::quay::{KESMO, Process, Quay, all_said, assert_says, shared, text, until};

const PASS: &str = "echo \"ok - $t\"";
/// Fails when a test named `spoiler` ran before it in its process.
const SPOILED: &str = r#"
case $t in
    spoiler) spoilt=yes; sleep 0.05; echo "ok - $t" ;;
    victim) if [ -n "$spoilt" ]; then printf 'not ok - %s\n# the table is not clean\n' $t; else echo "ok - $t"; fi ;;
    *) echo "ok - $t" ;;
esac"#;

fn folder(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

fn added(quay: &Quay, path: &Path) {
    let output = quay.kesmo(&["suite", "add", &folder(path)]);
    assert!(output.status.success(), "{}", all_said(&output));
}

fn names(output: &[u8]) -> BTreeSet<String> {
    text(output).lines().map(str::to_owned).collect()
}

#[test]
fn parked_tests_do_not_run_until_they_are_taken_back() {
    let quay = shared();
    added(quay, &quay.tap("parks", "gate/open gate/late gate/torn", "echo \"not ok - $t\"", ""));
    let park = |test: &str, until: &str, why: &str| {
        let output = quay.kesmo(&["park", "parks", test, "--until", until, "--why", why]);
        (output.status.code(), all_said(&output))
    };
    assert_says(&park("gate/laet", "2w", "fog").1, &["no test of parks matches gate/laet", "gate/late"]);
    assert_says(&park("gate/late", "2020-01-01", "fog").1, &["has passed"]);
    assert_says(&park("gate/late", "2w", " ").1, &["--why is missing"]);
    assert_says(&park("regex:(", "2w", "fog").1, &["cannot be read"]);
    let (status, said) = park("gate/*", "2w", "the fog horn is being mended");
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["3 tests are parked in parks", "gate/late"]);
    assert_says(&all_said(&quay.kesmo(&["parked"])), &["gate/*", "the fog horn is being mended"]);
    assert_says(&all_said(&quay.kesmo(&["tests", "parks"])), &["▭ parked until", "3 parked"]);
    let void = quay.kesmo(&["start", "parks", "--wait"]);
    assert_eq!(void.status.code(), Some(10), "a run that tested nothing never passes");
    assert_says(&all_said(&void), &["nothing was tested", "▭ 3"]);
    let without_counting = quay.kesmo(&["start", "parks", "--wait", "--run-parked"]);
    assert_eq!(without_counting.status.code(), Some(10), "{}", all_said(&without_counting));
    assert_says(&all_said(&without_counting), &["3 parked, run without counting"]);
    assert_eq!(quay.history("parks/2", "gate/late")[0]["ended"], "failed", "its attempts show beneath");
    assert_says(&all_said(&quay.kesmo(&["unpark", "parks", "gate/x"])), &["is not parked", "gate/*"]);
    assert!(quay.kesmo(&["unpark", "parks", "gate/*"]).status.success());
    assert_eq!(quay.kesmo(&["start", "parks", "--wait"]).status.code(), Some(1), "they count again");
}

#[test]
fn a_park_may_hold_somewhere_only() {
    let quay = shared();
    let more = "[env-for.ci]\nGATE = \"north\"\n[facets]\nscreen = [\"phone\", \"desk\"]\n";
    added(
        quay,
        &quay.tap(
            "places",
            "gate/open gate/late",
            "[ $t = gate/late ] && echo \"not ok - $t\" || echo \"ok - $t\"",
            more,
        ),
    );
    let park = |only: &[&str]| {
        let mut words = vec!["park", "places", "gate/late", "--until", "2w", "--why", "no fog horn there"];
        only.iter().for_each(|place| words.extend(["--only", place]));
        let output = quay.kesmo(&words);
        (output.status.code(), all_said(&output))
    };
    assert_says(&park(&["evn=ci"]).1, &["\"evn\" says no place; did you mean \"env\"?"]);
    assert_says(&park(&["env=cii"]).1, &["has no [env-for.cii]; did you mean \"ci\"?"]);
    assert_says(&park(&["variant=screen=phnoe"]).1, &["phone"]);
    let (status, said) = park(&["env=ci", "variant=screen=phone"]);
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["only where env=ci, variant=screen=phone"]);
    assert_says(&all_said(&quay.kesmo(&["parked", "places"])), &["where", "env=ci, variant=screen=phone"]);

    let tally = |more: &[&str]| {
        let mut words = vec!["start", "places", "--wait"];
        words.extend(more);
        let run = quay.kesmo(&words);
        let name = all_said(&run).split_whitespace().find(|w| w.starts_with("places/")).expect("a run").to_owned();
        let tally = quay.run(name.trim_end_matches(':'))["tally"].clone();
        (run.status.code(), tally["failed"].as_u64(), tally["parked"].as_u64())
    };
    assert_eq!(tally(&[]), (Some(1), Some(2), Some(0)), "elsewhere it counts");
    assert_eq!(tally(&["--env", "ci"]), (Some(1), Some(1), Some(1)), "in one variant it is set aside");
    assert_eq!(tally(&["--env", "ci", "--variant", "screen=phone"]), (Some(0), Some(0), Some(1)));

    let (_, said) = park(&["branch=release/*"]);
    assert_says(&said, &["only where branch=release/*"]);
    assert_eq!(tally(&["--variant", "screen=desk"]), (Some(1), Some(1), Some(0)), "its branch is not known");
}

#[test]
fn tests_are_repeated_and_shuffled_by_a_seed() {
    let quay = shared();
    added(quay, &quay.tap("again-and-again", "t/a t/b t/c t/d", PASS, ""));
    let start = |seed: &str| {
        let words =
            ["start", "again-and-again", "--repeat", "3", "--shuffle", "--seed", seed, "--shards", "1", "--wait"];
        let output = quay.kesmo(&words);
        assert_eq!(output.status.code(), Some(0), "{}", all_said(&output));
        all_said(&output)
    };
    assert_says(&start("7"), &["● 12", "all 4 tests: 3 times each, shuffled with seed 7"]);
    start("7");
    start("8");
    // One slot at a time is used, and it need not be the same one.
    let order = |run: &str| {
        let shards = quay.json(&["show", run, "--shards"]);
        let of = |shard: &serde_json::Value| shard["batches"].as_array().expect("batches").clone();
        let mut batches: Vec<serde_json::Value> = shards.as_array().expect("shards").iter().flat_map(of).collect();
        batches.sort_by_key(|batch| batch["number"].as_u64());
        batches
    };
    assert_eq!(order("again-and-again/1"), order("again-and-again/2"), "the same seed, the same order");
    assert_ne!(order("again-and-again/1"), order("again-and-again/3"));
    for (words, why) in [
        (["--repeat", "0"], "would run nothing"),
        (["--repeat", "99999"], "the most is 10000"),
        (["--retries", "1000"], "the most is 100"),
        (["--shards", "0"], "would run nothing"),
    ] {
        let output = quay.kesmo(&[&["start", "again-and-again"][..], &words].concat());
        assert_eq!(output.status.code(), Some(2));
        assert_says(&all_said(&output), &[why]);
    }
    let many = quay.kesmo(&["start", "again-and-again", "--shards", "500", "--wait"]);
    assert_says(&all_said(&many), &["--shards 500 is more than the pool main has now: 4 slots", "● passed"]);
}

#[test]
fn flaky_tests_fail_a_run_that_is_to_and_not_passed_ones_are_picked_from_an_earlier_run() {
    let quay = shared();
    let body = r#"if [ $t = wet ] && [ "$KESMO_ATTEMPT" != 2 ] || [ $t = bad ]; then echo "not ok - $t"; else echo "ok - $t"; fi"#;
    added(quay, &quay.tap("strict", "dry wet bad", body, "[retry]\ntimes = 1"));
    let strict = quay.kesmo(&["start", "strict", "--drop", "bad", "--flaky-fails", "--wait"]);
    assert_eq!(strict.status.code(), Some(1));
    assert_says(&all_said(&strict), &["1 of 2 flaky, which fails this run (--flaky-fails)"]);
    assert_eq!(quay.kesmo(&["start", "strict", "--wait"]).status.code(), Some(1));
    let rest = quay.kesmo(&["start", "strict", "--not-passed-in", "strict/2", "--wait"]);
    assert_eq!(rest.status.code(), Some(1));
    assert_says(&all_said(&rest), &["1 of 3 tests: not passed in strict/2"]);
    let wrong = quay.kesmo(&["start", "strict", "--not-passed-in", "strict/77"]);
    assert_says(&all_said(&wrong), &["there is no run strict/77"]);
    let nothing = quay.kesmo(&["start", "strict", "--not-passed-in", "strict/1"]);
    assert_says(&all_said(&nothing), &["every test of strict/1 passed"]);
}

#[test]
fn portions_together_are_the_whole_and_agree_by_key() {
    let quay = shared();
    let all: Vec<String> = (0..23).map(|n| format!("t/{n}")).collect();
    added(quay, &quay.tap("shares", &all.join(" "), PASS, "[[rule]]\ntests = [\"t/1*\"]\ngroup = \"ones\""));
    assert!(quay.kesmo(&["start", "shares", "--wait"]).status.success());
    let portion = |which: &str| {
        let output = quay.kesmo(&["portion", "shares", which, "--key", "build-7"]);
        assert!(output.status.success(), "{}", all_said(&output));
        names(&output.stdout)
    };
    let before: Vec<BTreeSet<String>> = (1..=3).map(|n| portion(&format!("{n}/3"))).collect();
    // Another run changes the records, but not what jobs of the same key are told.
    assert!(quay.kesmo(&["start", "shares", "--wait"]).status.success());
    let after: Vec<BTreeSet<String>> = (1..=3).map(|n| portion(&format!("{n}/3"))).collect();
    assert_eq!(before, after);
    assert_eq!(before.iter().map(BTreeSet::len).sum::<usize>(), 23);
    assert_eq!(before.iter().flatten().collect::<BTreeSet<_>>(), all.iter().collect::<BTreeSet<_>>());
    assert_eq!(before.iter().filter(|p| p.contains("t/1") || p.contains("t/15")).count(), 1, "the group is whole");
    for (words, why) in [
        (&["portion", "shares", "6/5"][..], "there are portions 1/5 to 5/5"),
        (&["portion", "shares", "5"], "like 2/5"),
        (&["portion", "shares", "1/5", "--stamp", "999"], "the stamp 999 is not kept"),
    ] {
        let output = quay.kesmo(words);
        assert_eq!(output.status.code(), Some(2));
        assert_says(&all_said(&output), &[why]);
    }
}

#[test]
fn jobs_meet_on_a_key_and_lend_their_machines_to_one_run() {
    let quay = Quay::open();
    let path = quay.tap("meeting", "a b c d e f g h", "sleep 0.2; echo \"ok - $t\"", "[limits]\npatience = \"30s\"");
    let token = text(&quay.kesmo(&["token", "add", "ci", "--role", "operator"]).stdout).trim().to_owned();
    let join = |name: &str| {
        let mut command = Command::new(KESMO);
        let words = ["join", "--suite", &folder(&path), "--key", "build-1187", "--slots", "1", "--name", name];
        command.args(words).args(["--refresh", "1s"]).env("HOME", quay.dir.path());
        command.env("KESMO_URL", &quay.url).env("KESMO_TOKEN", &token);
        command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().expect("it starts")
    };
    // No worker is there: the jobs bring their own machines, and one of them dies.
    let mut dies = Process(join("job-0"));
    until("a job has begun", || (quay.json(&["runs"])[0]["tally"]["running"].as_u64() > Some(0)).then_some(()));
    let (one, two) = (join("job-1"), join("job-2"));
    until("another has begun too", || (quay.json(&["runs"])[0]["slots"].as_u64() > Some(1)).then_some(()));
    dies.signal(libc::SIGKILL);
    dies.wait();
    for job in [one, two] {
        let output = job.wait_with_output().expect("it ends");
        assert_eq!(output.status.code(), Some(0), "{}", all_said(&output));
        assert_says(&all_said(&output), &["joins meeting/1", "● 8"]);
    }
    assert_eq!(quay.json(&["runs"]).as_array().map(Vec::len), Some(1), "one run for all");
    let late = join("job-3").wait_with_output().expect("it ends");
    assert_eq!(late.status.code(), Some(0), "who comes late has the status too: {}", all_said(&late));
    let other = quay.tap("other", "x", PASS, "");
    let wrong = quay.kesmo(&["join", "--suite", &folder(&other), "--key", "build-1187"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert_says(&all_said(&wrong), &["the key build-1187 belongs to meeting/1, a run of another suite than other"]);
    let worker = quay.kesmo_as(&token, &["worker", "--name", "sneaky", "--home", &folder(&quay.path("sneaky"))]);
    assert_says(&all_said(&worker), &["lends a machine to one run"]);
}

#[test]
fn the_suite_runs_here_without_a_service() {
    let quay = shared();
    let body = r#"
echo "words of $t"
case $t in
    bad) printf 'not ok - %s\n# the gate stuck at 7 degrees\n' $t ;;
    wet) if [ "$KESMO_ATTEMPT" = 2 ]; then echo "ok - $t"; else printf 'not ok - %s\n# wet\n' $t; fi ;;
    *) echo "ok - $t" ;;
esac"#;
    let path = quay.tap("local", "dry wet bad", body, "[retry]\ntimes = 1\n[needs]\ndevice = \"handset\"");
    let here = |more: &[&str]| {
        let mut command = Command::new(KESMO);
        command.arg("here").arg(&path).args(more).env("HOME", quay.dir.path()).env_remove("KESMO_URL");
        let output = command.env_remove("XDG_CACHE_HOME").output().expect("it runs");
        (output.status.code(), all_said(&output))
    };
    let report = quay.path("local.xml");
    let kept = quay.path("local-kept");
    let (status, said) = here(&["--report", &format!("junit={}", folder(&report)), "--keep", &folder(&kept)]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(
        &said,
        &["◆ failed  local/here  1 of 3 failed", "the gate stuck at 7 degrees", "wet  passed at attempt 2"],
    );
    assert_says(&said, &["the suite needs device=handset; on this machine that is taken to be so"]);
    let xml = std::fs::read_to_string(&report).expect("the report");
    assert_says(&xml, &["tests=\"3\" failures=\"1\"", "the gate stuck at 7 degrees"]);
    let words = std::fs::read_to_string(kept.join("bad/attempt-1/output.txt")).expect("what it printed");
    assert_says(&words, &["words of bad"]);
    let (status, said) = here(&["--pick", "dry", "--json"]);
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["{\"event\":\"snapshot\"", "{\"event\":\"end\"", "\"verdict\":\"passed\""]);
    let (status, said) = here(&["--pick", "nothing"]);
    assert_eq!(status, Some(10), "{said}");
    assert_says(&said, &["of 3 tests none is chosen by --pick nothing"]);
    for (words, why) in [
        (&["--portion", "6/5"][..], "there are portions 1/5 to 5/5"),
        (&["--report", "pdf=x"], "use junit, tap, json, csv or html"),
        (&["--set", "knots=3"], "has no setting"),
        (&["--retires", "3"], "--retries"),
    ] {
        let (status, said) = here(words);
        assert_eq!(status, Some(2), "{said}");
        assert_says(&said, &[why]);
    }
}

#[test]
fn portions_run_here_are_together_the_whole() {
    let quay = shared();
    let path = quay.tap("local-shares", "a b c d e f g", PASS, "");
    let mut all = Vec::new();
    for n in 1..=3 {
        let report = quay.path(&format!("share-{n}.json"));
        let words = ["--portion", &format!("{n}/3"), "--report", &format!("json={}", folder(&report))];
        let output = Command::new(KESMO).arg("here").arg(&path).args(words).env("HOME", quay.dir.path()).output();
        let output = output.expect("it runs");
        assert_eq!(output.status.code(), Some(0), "{}", all_said(&output));
        let report: serde_json::Value =
            serde_json::from_str(&std::fs::read_to_string(&report).expect("the report")).expect("JSON");
        all.extend(report["entries"].as_array().expect("entries").iter().map(|e| e["test"].to_string()));
    }
    all.sort();
    assert_eq!(all, ["a", "b", "c", "d", "e", "f", "g"].map(|n| format!("{n:?}")));
}

#[test]
fn a_failure_by_order_is_explained_hunted_and_repeated() {
    let quay = shared();
    let path = quay.tap("order", "one two three four spoiler victim", SPOILED, "");
    // With a record the spoiler, which takes longest, runs first.
    for _ in 0..2 {
        quay.wait(&path, &["--shards", "1"]);
    }
    let (status, said) = quay.wait(&path, &["--shards", "1"]);
    assert_eq!(status, 1, "{said}");
    assert_says(&text(&quay.kesmo(&["log", "order/3", "victim"]).stdout), &["before it in its process:", "in shard 1"]);
    let hunt = quay.kesmo(&["hunt", "order/3", "victim"]);
    assert!(hunt.status.success(), "{}", all_said(&hunt));
    assert_says(&all_said(&hunt), &["victim fails after spoiler", "alone it failed 0 of 3 times"]);
    let told = quay.json(&["hunt", "order/3", "victim", "--at-most", "5"]);
    assert!(told["trials"].as_array().expect("trials").len() <= 5, "{told}");
    assert_says(&all_said(&quay.kesmo(&["hunt", "order/3", "one"])), &["no attempt that failed"]);
    let again = quay.kesmo(&["again", "order/3", "--shard", "1", "--wait"]);
    assert_eq!(again.status.code(), Some(1), "the same order fails the same: {}", all_said(&again));
    assert_says(&all_said(&again), &["6 tests in the order of an earlier run"]);
    let here = quay.kesmo(&["here", &folder(&path), "--as", "order/3/1"]);
    assert_eq!(here.status.code(), Some(1), "{}", all_said(&here));
    assert_says(&all_said(&here), &["the table is not clean"]);
    let none = quay.kesmo(&["here", &folder(&path), "--as", "order/3/9"]);
    assert_eq!(none.status.code(), Some(2));
    assert_says(&all_said(&none), &["order/3 has no shard 9: it has 1"]);
}

#[test]
fn a_failure_that_needs_nothing_else_is_told_from_one() {
    let quay = shared();
    let path =
        quay.tap("alone", "good bad", "if [ $t = bad ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi", "");
    let (status, said) = quay.wait(&path, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(
        &all_said(&quay.kesmo(&["hunt", "alone/1", "bad"])),
        &["bad fails alone", "alone it failed 3 of 3 times"],
    );
    let listed = quay.json(&["suite", "list"]);
    let suite = listed.as_array().expect("suites").iter().find(|s| s["name"] == "alone").expect("the suite");
    let runs: Vec<&str> =
        suite["last_runs"].as_array().expect("runs").iter().filter_map(|r| r["name"].as_str()).collect();
    assert_eq!(runs, ["alone/1"], "a hunt's runs say nothing of how the suite does");
}

#[test]
fn failures_of_one_cause_read_as_one() {
    let quay = shared();
    let all: Vec<String> = (0..12).map(|n| format!("berth/{n}")).collect();
    let body = r#"printf 'not ok - %s\n# no answer from %s after 3%s ms\n' $t $t ${#t}"#;
    let path = quay.tap("causes", &all.join(" "), body, "");
    let (_, said) = quay.wait(&path, &[]);
    assert_says(&said, &["Causes", "12 tests: no answer from berth/<n> after <n> ms"]);
}

#[test]
fn a_forecast_tells_how_many_shards_are_enough() {
    let quay = shared();
    let path = quay.tap(
        "weather",
        "a b c d e f g h",
        "if [ $t = a ]; then sleep 0.4; else sleep 0.1; fi; echo \"ok - $t\"",
        "",
    );
    added(quay, &path);
    let early = quay.kesmo(&["forecast", "weather"]);
    assert_eq!(early.status.code(), Some(2), "{}", all_said(&early));
    assert_says(&all_said(&early), &["nothing is known yet", "run it once"]);
    assert!(quay.kesmo(&["start", "weather", "--wait"]).status.success());
    let made = quay.json(&["forecast", "weather", "--shards", "1..12"]);
    assert_eq!(made["floor"], "the test a");
    let time = |n: usize| made["points"][n - 1]["time_us"].as_u64().expect("a time");
    assert!(time(1) > time(2) && time(2) > time(4), "{made}");
    assert!(time(12) >= 400_000, "{made}");
    let enough = made["enough"].as_u64().expect("more stop helping");
    assert!((2..=6).contains(&enough), "1.1 s of work against 0.4 s: {made}");
    assert_says(&all_said(&quay.kesmo(&["forecast", "weather", "--shards", "x"])), &["cannot be read"]);
}

#[test]
fn a_variant_runs_only_where_its_needs_are_offered() {
    let quay = shared();
    let facets = "[limits]\npatience = \"2s\"\n[facets]\nscreen = [\"phone\", \"desk\"]\n[needs-for.screen.phone]\ndevice = \"handset\"";
    let body = r#"if [ $t = b ] && [ $KESMO_FACET_SCREEN = phone ]; then echo "not ok - $t"; else echo "ok - $t"; fi"#;
    let path = quay.tap("screens", "a b", body, facets);
    added(quay, &path);
    let alone = quay.kesmo(&["start", "screens", "--wait", "--variant", "screen=desk"]);
    assert_eq!(alone.status.code(), Some(0), "{}", all_said(&alone));
    let both = quay.kesmo(&["start", "screens", "--wait"]);
    assert_eq!(both.status.code(), Some(10), "{}", all_said(&both));
    assert_says(&all_said(&both), &["waiting for a worker that offers device=handset", "--offer device=handset"]);
    let token = text(&quay.kesmo(&["token", "add", "handset", "--role", "worker"]).stdout).trim().to_owned();
    let mut command = Command::new(KESMO);
    command.args(["worker", "--name", "handset", "--slots", "1", "--offer", "device=handset", "--home"]);
    command.arg(quay.path("handset")).env("KESMO_URL", &quay.url).env("KESMO_TOKEN", token);
    let _handset = Process(command.stderr(std::process::Stdio::null()).spawn().expect("it starts"));
    until("the worker is linked", || text(&quay.kesmo(&["workers"]).stdout).contains("device=handset").then_some(()));
    let both = quay.kesmo(&["start", "screens", "--wait"]);
    assert_eq!(both.status.code(), Some(1), "{}", all_said(&both));
    let shards = quay.json(&["show", "screens/3", "--shards"]);
    for shard in shards.as_array().expect("shards").iter().filter(|s| s["worker"] != "handset") {
        assert!(!shard.to_string().contains("phone"), "{shard}");
    }
    let side_by_side = text(&quay.kesmo(&["show", "screens/3", "--variants"]).stdout);
    assert_says(&side_by_side, &["screen=phone", "screen=desk", "b     ◆ failed", "● passed"]);
}

#[test]
fn a_slow_batch_gives_back_what_an_idle_slot_can_run() {
    let quay = Quay::open();
    let all: Vec<String> = (0..20).map(|n| format!("t{n:02}")).collect();
    let body = r#"
if [ $KESMO_SET_STORM = yes ] && [ $t = t00 ]; then sleep 4; elif [ $t = t00 ]; then sleep 0.3; else sleep 0.1; fi
echo "ok - $t""#;
    let path = quay.tap("storm", &all.join(" "), body, "[settings]\nstorm = \"no\"");
    let _worker = quay.worker("heron", 2);
    for _ in 0..3 {
        assert_eq!(quay.wait(&path, &[]).0, 0);
    }
    assert_eq!(quay.wait(&path, &["--set", "storm=yes"]).0, 0);
    let shards = quay.json(&["show", "storm/4", "--shards"]);
    let batches = shards.as_array().expect("shards").iter().flat_map(|s| s["batches"].as_array().expect("batches"));
    let slow: Vec<String> = batches
        .map(|b| b["entries"].as_array().expect("entries").iter().map(|e| e[0].to_string()).collect::<Vec<_>>())
        .find(|names| names.iter().any(|n| n == "\"t00\""))
        .expect("it ran");
    assert!(slow.len() <= 3, "what waited behind the slow test ran elsewhere: {slow:?}");
    let slow_ended = quay.history("storm/4", "t00");
    assert_eq!(slow_ended.len(), 1, "and nothing was interrupted");
}

#[test]
fn a_short_urgent_run_is_not_stuck_behind_a_nightly_one() {
    let quay = Quay::open();
    let all: Vec<String> = (0..90).map(|n| format!("night/{n}")).collect();
    let nightly = quay.tap("nightly", &all.join(" "), "sleep 0.25; echo \"ok - $t\"", "");
    let urgent = quay.tap("urgent", "a b c d", PASS, "");
    let _worker = quay.worker("heron", 2);
    let night = quay.start_run(&nightly, &["--priority", "low"]);
    until("it has begun", || (quay.run(&night)["tally"]["passed"].as_u64() > Some(2)).then_some(()));
    let (status, said) = quay.wait(&urgent, &["--priority", "high"]);
    assert_eq!(status, 0, "{said}");
    let run = quay.run(&night);
    assert_eq!(run["phase"], "running", "the urgent one did not wait for the nightly one: {run}");
    assert!(run["tally"]["waiting"].as_u64() > Some(8), "{run}");
    until("it ends too", || (quay.run(&night)["verdict"] == "passed").then_some(()));
    let wrong = quay.kesmo(&["start", "nightly", "--priority", "urgent"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert_says(&all_said(&wrong), &["use low, normal or high"]);
}

#[test]
fn who_may_only_see_can_neither_park_nor_join_nor_cut_portions() {
    let quay = shared();
    added(quay, &quay.tap("guarded", "a b", PASS, ""));
    assert!(quay.kesmo(&["start", "guarded", "--wait"]).status.success());
    let token = text(&quay.kesmo(&["token", "add", "onlooker", "--role", "reader"]).stdout).trim().to_owned();
    for words in [
        &["park", "guarded", "a", "--until", "2w", "--why", "fog"][..],
        &["unpark", "guarded", "a"],
        &["portion", "guarded", "1/2"],
        &["join", "--suite", "guarded", "--key", "k"],
        &["hunt", "guarded/1", "a"],
    ] {
        let output = quay.kesmo_as(&token, words);
        assert!(!output.status.success(), "{words:?}");
    }
    for words in [&["parked"][..], &["forecast", "guarded"], &["show", "guarded/1", "--shards"], &["tests", "guarded"]]
    {
        assert!(quay.kesmo_as(&token, words).status.success(), "{words:?}");
    }
}

#[test]
fn a_park_says_who_made_it_and_holds_for_the_runs_after_it() {
    let quay = shared();
    added(quay, &quay.tap("over", "a b", PASS, ""));
    assert!(quay.kesmo(&["park", "over", "a", "--until", "1d", "--why", "low tide"]).status.success());
    let parked = quay.kesmo(&["start", "over", "--wait"]);
    assert_says(&all_said(&parked), &["1 parked", "▭ 1"]);
    let again = quay.json(&["parked", "over"]);
    assert_eq!((&again[0]["over"], &again[0]["why"]), (&false.into(), &"low tide".into()));
    assert_eq!(again[0]["by"], "first-admin");
}

#[test]
fn groups_and_claims_of_a_run_here_are_kept_too() {
    let quay = shared();
    let rules = "[[rule]]\ntests = [\"g/**\"]\ngroup = \"g\"\n[[rule]]\ntests = [\"c/**\"]\nclaims = [\"dock\"]";
    let body = r#"
case $t in
    c/*) mkdir "$KESMO_SET_PLACE/dock" || { echo "not ok - $t"; continue; }; sleep 0.05; rmdir "$KESMO_SET_PLACE/dock" ;;
    g/*) echo "$t" >> "$KESMO_SET_PLACE/order" ;;
esac
echo "ok - $t""#;
    let settings = format!("{rules}\n[settings]\nplace = {:?}", folder(&quay.path("here-place")));
    std::fs::create_dir_all(quay.path("here-place")).expect("a folder");
    let path = quay.tap("kept", "g/3 g/1 g/2 c/1 c/2 c/3 c/4", body, &settings);
    let output =
        Command::new(KESMO).arg("here").arg(&path).args(["--slots", "4"]).env("HOME", quay.dir.path()).output();
    let output = output.expect("it runs");
    assert_eq!(output.status.code(), Some(0), "{}", all_said(&output));
    let order = std::fs::read_to_string(quay.path("here-place/order")).expect("the order");
    assert_eq!(order, "g/3\ng/1\ng/2\n", "as they are listed");
}
