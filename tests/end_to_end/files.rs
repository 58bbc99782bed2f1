//! Suites of files whose cases are found as they run, and of processes that stay.

use std::{fs, path::PathBuf, time::Duration};

use serde_json::Value;

use crate::{
    console::browser,
    quay::{Quay, all_said, assert_says, processes_with, shared, text, until},
};

/// A suite of shell files that print TAP; each is a name and what it does. `$only` is the file with the cases it is to run, if
/// it is to run some.
fn files(quay: &Quay, name: &str, files: &[(&str, &str)], more: &str) -> PathBuf {
    let folder = quay.path(&format!("suite-{name}"));
    fs::create_dir_all(folder.join("specs")).expect("a folder");
    let file = format!(
        "suite = \"{name}\"\n[tests]\neach = \"file\"\nlist = [\"sh\", \"-c\", \"ls specs/*.sh\"]\nrun = [\"sh\", \"{{name}}\"]\n\
         results = \"tap\"\n{more}\n"
    );
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    for (file, body) in files {
        let head = "only=$2\nwanted() { [ -z \"$only\" ] || grep -qxF -- \"$1\" \"$only\"; }\n";
        fs::write(folder.join("specs").join(file), format!("{head}{body}\n")).expect("a file");
    }
    folder
}

const RERUN: &str = "rerun = [\"sh\", \"{name}\", \"--only\", \"{cases-file}\"]\n";

fn get(quay: &Quay, path: &str) -> Value {
    let bearer = format!("Bearer {}", quay.token());
    let (_, said, _) = crate::holes::call(quay, "GET", path, &[("Authorization", &bearer)], b"");
    serde_json::from_str(&said).unwrap_or_else(|e| panic!("{path}: {e}: {said}"))
}

fn cases(quay: &Quay, run: &str, more: &[&str]) -> Vec<Value> {
    let mut words = vec!["show", run, "--cases"];
    words.extend(more);
    quay.json(&words)["cases"].as_array().expect("cases").clone()
}

/// Title, outcome, the attempt that decided it, and how many told of it.
fn told(case: &Value) -> (String, String, u64, u64) {
    let word = |key: &str| case[key].as_str().unwrap_or_default().to_owned();
    (word("title"), word("outcome"), case["attempt"].as_u64().unwrap_or(0), case["attempts"].as_u64().unwrap_or(0))
}

#[test]
fn files_tell_of_cases_and_a_retry_runs_those_that_failed() {
    let quay = shared();
    let gate = "wanted opens && echo ok - opens
wanted 'refuses late' && if [ \"$KESMO_ATTEMPT\" = 1 ]; then echo not ok - refuses late; echo '# got Boarding'; else echo ok - refuses late; fi
wanted 'pays by card' && { echo the reader hums; echo not ok - pays by card; echo '# declined'; }
exit 1";
    let quiet = "echo '# Subtest: night'; echo '    ok 1 - one boat'; echo '    ok 2 - no dogs # SKIP it rains'; echo 'ok 1 - night'; echo 1..1";
    let folder = files(quay, "cases", &[("gate.sh", gate), ("quiet.sh", quiet)], &format!("{RERUN}[retry]\ntimes = 1"));
    let report = quay.path("cases.xml");
    let (status, said) = quay.wait(&folder, &["--report", &format!("junit={}", report.display())]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["1 of 2 files failed; 1 of 5 cases", "pays by card: declined"]);
    let all: Vec<_> = cases(quay, "cases/1", &[]).iter().map(told).collect();
    let wanted = [
        ("pays by card", "failed", 2, 2),
        ("refuses late", "flaky", 2, 2),
        ("opens", "passed", 1, 1),
        ("night/one boat", "passed", 1, 1),
        ("night/no dogs", "skipped", 1, 1),
    ];
    assert_eq!(all, wanted.map(|(t, o, a, n)| (t.to_owned(), o.to_owned(), a, n)));
    let tally = quay.run("cases/1")["tally"]["cases"].clone();
    assert_eq!(tally, serde_json::json!({"passed": 2, "flaky": 1, "failed": 1, "skipped": 1, "parked": 0}));
    assert_eq!(quay.entries("cases/1")[0]["cases"]["failed"], 1, "a file says how its cases stand");
    // What is read as lines: the cases in trouble, one with its attempts, and a filter.
    assert_says(&all_said(&quay.kesmo(&["show", "cases/1"])), &["specs/gate.sh/pays by card", "2 of 2", "declined"]);
    let log = all_said(&quay.kesmo(&["log", "cases/1", "specs/gate.sh/refuses late"]));
    assert_says(
        &log,
        &["◐ flaky", "attempt 1 of its file: ◆ failed", "got Boarding", "attempt 2 of its file: ● passed"],
    );
    assert_says(&all_said(&quay.kesmo(&["log", "cases/1", "specs/gate.sh"])), &["the reader hums", "attempt 2"]);
    assert_eq!(cases(quay, "cases/1", &["--name", "specs/quiet.sh/one"]).len(), 1);
    assert_eq!(cases(quay, "cases/1", &["--state", "flaky"]).len(), 1);
    let wrong = quay.kesmo(&["show", "cases/1", "--cases", "--state", "brken"]);
    assert_says(&all_said(&wrong), &["\"brken\" is not a valid state of a case: use passed, flaky"]);
    assert_says(&all_said(&quay.kesmo(&["log", "cases/1", "specs/gate.sh/nonsense"])), &["has no test"]);
    // A testcase each, under its file.
    let junit = fs::read_to_string(report).expect("the report");
    assert_says(
        &junit,
        &["name=\"pays by card\" classname=\"specs/gate.sh\"", "tests=\"5\" failures=\"1\"", "skipped=\"1\""],
    );
    let tap = text(&quay.kesmo(&["report", "cases/1", "--as", "tap"]).stdout);
    assert_says(&tap, &["1..5", "not ok", "specs/gate.sh/pays by card", "ok 4 - specs/quiet.sh/night/one boat"]);
    // A case has a history of its own, over several runs.
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let history = |case: &str| quay.json(&["history", "cases", case]);
    let late = history("specs/gate.sh/refuses late");
    let runs = late["runs"].as_array().expect("runs");
    assert_eq!(runs.len(), 2, "{late}");
    assert!(
        runs.iter().all(|r| r["outcome"] == "flaky" && r["attempts"] == 2 && r["message"] == "got Boarding"),
        "{late}"
    );
    assert_eq!((&late["test"], &late["flaky"]["hits"]), (&"specs/gate.sh/refuses late".into(), &2.into()));
    assert_eq!(history("specs/gate.sh/pays by card")["spells"][0]["runs"], 2);
    assert_eq!(history("specs/quiet.sh/night/one boat")["runs"][0]["outcome"], "passed");
    assert_eq!(history("specs/gate.sh")["runs"].as_array().map(Vec::len), Some(2), "and so has the file");
    assert_says(
        &all_said(&quay.kesmo(&["history", "cases", "specs/gate.sh/pays"])),
        &["had a test \"specs/gate.sh/pays\""],
    );
}

#[test]
fn the_timeline_shows_the_cases_within_their_file() {
    let quay = shared();
    let gate = "sleep 0.2; echo ok - opens; sleep 0.3; echo not ok - pays; sleep 0.1; echo ok - leaves; exit 1";
    let many = "seq -f 'ok - case %g' 500; sleep 0.3";
    let folder = files(quay, "placed-cases", &[("gate.sh", gate), ("many.sh", many)], "");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let timeline = |asked: &str| get(quay, &format!("/api/runs/placed-cases/1/timeline{asked}"));
    let seen = timeline("");
    let marks: Vec<&Value> = seen["cases"].as_array().expect("cases").iter().collect();
    let of = |entry: u64| marks.iter().filter(move |m| m["entry"] == entry).copied().collect::<Vec<_>>();
    let titles: Vec<&str> = of(0).iter().filter_map(|m| m["title"].as_str()).collect();
    assert_eq!(titles, ["opens", "pays", "leaves"], "{seen}");
    assert_eq!((&of(0)[1]["ended"], &of(0)[1]["outcome"]), (&"failed".into(), &"failed".into()));
    let us = |mark: &Value, key: &str| mark[key].as_u64().expect("a time");
    let block = seen["blocks"].as_array().expect("blocks").iter().find(|b| b["entry"] == 0).expect("its block");
    let took = us(of(0)[1], "to_us") - us(of(0)[1], "from_us");
    assert!((250_000..600_000).contains(&took), "{took} µs");
    assert!(of(0).windows(2).all(|two| us(two[0], "to_us") == us(two[1], "from_us")), "end to end");
    assert!(us(of(0)[0], "from_us") >= us(block, "from_us") && us(of(0)[2], "to_us") == us(block, "to_us"));
    // What cannot be told apart is one mark; none is lost.
    let counted: u64 = of(1).iter().map(|m| m["count"].as_u64().expect("a count")).sum();
    assert_eq!(counted, 500);
    assert!(of(1).len() < 100, "{}", of(1).len());
    // Of a part in which nothing of a file lies it shows none, and of tests that have no cases neither.
    assert_eq!(timeline("?from=0&to=0&width=50")["cases"].as_array().map(Vec::len), Some(0));
}

#[test]
fn cases_that_failed_of_one_cause_read_as_one_over_all_files() {
    let quay = shared();
    let body =
        |n: u32| format!("echo 'not ok 1 - pays {n}'; echo '# no answer after 3{n} ms'; echo 'ok 2 - rests'; exit 1");
    let (a, b) = (body(1), body(2));
    // This one fails by itself.
    let torn = "echo ok - floats; exit 3";
    let folder = files(quay, "causes-of-cases", &[("a.sh", &a), ("b.sh", &b), ("torn.sh", torn)], "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["no answer after <n> ms"]);
    let causes = get(quay, "/api/runs/causes-of-cases/1/causes");
    assert_eq!(causes[0]["count"], 2, "{causes}");
    assert_eq!(causes[0]["tests"][1][1], "specs/b.sh/pays 2", "{causes}");
    assert!(causes[1]["tests"][0][1] == "specs/torn.sh", "{causes}");
    let here = quay.kesmo(&["here", &folder.to_string_lossy(), "--home", &quay.path("causes-home").to_string_lossy()]);
    assert_says(&all_said(&here), &["2 tests: no answer after <n> ms"]);
}

#[test]
fn what_did_not_pass_is_repeated_case_by_case_where_it_can_be() {
    let quay = shared();
    let gate = "wanted opens && echo ok - opens\nwanted shuts && echo not ok - shuts\nwanted locks && echo not ok - locks\nexit 1";
    // It fails by itself after good cases: no case says what to run.
    let torn = "echo ok - floats\necho ok - steers\nexit 3";
    let folder =
        files(quay, "repeated", &[("gate.sh", gate), ("torn.sh", torn), ("calm.sh", "echo ok - rests")], RERUN);
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let again = quay.kesmo(&["again", "repeated/1", "--not-passed", "--wait"]);
    assert_eq!(again.status.code(), Some(1), "{}", all_said(&again));
    let mut all: Vec<_> = cases(quay, "repeated/2", &[]).iter().map(|case| told(case).0).collect();
    all.sort();
    assert_eq!(all, ["floats", "locks", "shuts", "steers"], "of the gate only what failed, the torn file whole");
    let (status, said) = quay.wait(&folder, &["--not-passed-in", "repeated/2"]);
    assert_eq!(status, 1, "{said}");
    assert_eq!(cases(quay, "repeated/3", &[]).len(), 4);
    // On one's own machine, too.
    let home = quay.path("repeated-home").display().to_string();
    let here = quay.kesmo(&["here", &folder.to_string_lossy(), "--home", &home, "--not-passed-in", "repeated/2"]);
    assert_eq!(here.status.code(), Some(1), "{}", all_said(&here));
    assert_says(&all_said(&here), &["2 of 2 files failed; 2 of 4 cases"]);
    let passed = quay.kesmo(&["here", &folder.to_string_lossy(), "--not-passed-in", "repeated/77"]);
    assert_says(&all_said(&passed), &["there is no run repeated/77"]);

    // Without a way to run some cases the file runs whole.
    let folder = files(quay, "repeated-whole", &[("gate.sh", gate)], "");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    assert_eq!(quay.kesmo(&["again", "repeated-whole/1", "--not-passed", "--wait"]).status.code(), Some(1));
    assert_eq!(cases(quay, "repeated-whole/2", &[]).len(), 3);
}

#[test]
fn the_reason_of_a_failing_case_is_hunted_among_the_cases_of_its_file() {
    let quay = shared();
    let gate = "rm -f spoiled
wanted opens && echo ok - opens
wanted spoils && { touch spoiled; echo ok - spoils; }
wanted rests && echo ok - rests
wanted boards && if [ -e spoiled ]; then echo not ok - boards; else echo ok - boards; fi
wanted leaves && echo ok - leaves
wanted sinks && echo not ok - sinks
exit 0";
    let folder = files(quay, "hunted-case", &[("gate.sh", gate)], RERUN);
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let hunt = all_said(&quay.kesmo(&["hunt", "hunted-case/1", "specs/gate.sh/boards"]));
    assert_says(
        &hunt,
        &[
            "3 cases ran before it in its file",
            "specs/gate.sh/boards fails after spoils",
            "alone it failed 0 of 3 times",
        ],
    );
    let told = quay.json(&["hunt", "hunted-case/1", "specs/gate.sh/sinks"]);
    assert_eq!((&told["test"], &told["reason"]), (&"specs/gate.sh/sinks".into(), &"alone".into()), "{told}");
    let well = all_said(&quay.kesmo(&["hunt", "hunted-case/1", "specs/gate.sh/opens"]));
    assert_says(&well, &["specs/gate.sh/opens of hunted-case/1 has no attempt that failed"]);
    // Where cases cannot be run alone that is said, and nothing runs that would tell something else.
    let folder = files(quay, "unhunted-case", &[("gate.sh", "echo not ok - boards")], "");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let cannot = quay.kesmo(&["hunt", "unhunted-case/1", "specs/gate.sh/boards"]);
    assert_says(&all_said(&cannot), &["the suite cannot run cases alone: give \"rerun\""]);
}

#[test]
fn more_is_told_at_once_than_one_message_takes() {
    let quay = shared();
    let folder = quay.path("suite-verbose");
    fs::create_dir_all(&folder).expect("a folder");
    let file = "suite = \"verbose\"\n[tests]\neach = \"file\"\nlist = [\"echo\", \"all.sh\"]\nrun = [\"sh\", \"{name}\"]\n\
                results = \"junit\"\njunit = [\"out.xml\"]\n[limits]\noutput = \"8 KiB\"\n";
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    // 24 MB of explanations, all when the process ends.
    let script = "awk 'BEGIN { w = \"x\"; while (length(w) < 16000) w = w w; print \"<testsuite>\"
        for (i = 0; i < 1500; i++) print \"<testcase name=\\\"case \" i \"\\\"><failure message=\\\"no\\\">\" w \"</failure></testcase>\"
        print \"</testsuite>\" }' > out.xml; exit 1";
    fs::write(folder.join("all.sh"), script).expect("a file");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["1 of 1 files failed; 1,500 of 1,500 cases"]);
    let log = all_said(&quay.kesmo(&["log", "verbose/1", "all.sh/case 1499"]));
    assert!(log.len() > 15_000, "its explanation is kept: {log:.200}");
}

#[test]
fn a_case_is_picked_or_parked_by_its_whole_name() {
    let quay = shared();
    let gate = "for t in opens 'pays by card' 'pays by coin'; do wanted \"$t\" && case $t in *card) echo \"not ok - $t\";; *) echo \"ok - $t\";; esac; done; exit 0";
    let folder = files(quay, "picked", &[("gate.sh", gate), ("quay.sh", "echo ok - a")], RERUN);
    let (status, said) = quay.wait(&folder, &["--pick", "specs/gate.sh/pays by coin"]);
    assert_eq!(status, 0, "{said}");
    assert_eq!(cases(quay, "picked/1", &[]).iter().map(told).map(|c| c.0).collect::<Vec<_>>(), ["pays by coin"]);
    let refused = |more: &[&str]| {
        let (status, said) = quay.wait(&folder, more);
        assert_eq!(status, 10, "{said}");
        said
    };
    assert_says(
        &refused(&["--pick", "specs/gate.sh/pays*"]),
        &["cases are known only as the file runs", "by its whole title"],
    );
    assert_says(&refused(&["--drop", "specs/gate.sh/opens"]), &["a file runs with all its cases", "kesmo park picked"]);
    // A case that was asked for and is not there fails its file; it is not passed over.
    let (status, said) = quay.wait(&folder, &["--pick", "specs/gate.sh/pays by cheque"]);
    assert_eq!(status, 1, "{said}");
    let park = ["park", "picked", "specs/gate.sh/pays by card", "--until", "2w", "--why", "the reader is away"];
    assert!(quay.kesmo(&park).status.success());
    let (status, said) = quay.wait(&folder, &["--retries", "2"]);
    assert_eq!(status, 0, "{said}");
    let run = quay.json(&["runs", "--suite", "picked"])[0]["name"].as_str().expect("a name").to_owned();
    assert_eq!(quay.run(&run)["tally"]["cases"]["parked"], 1);
    assert_eq!(quay.history(&run, "specs/gate.sh").len(), 1, "a parked case is not run again");
    assert_says(&text(&quay.kesmo(&["report", &run, "--as", "junit"]).stdout), &["parked: the reader is away"]);
    let whole = files(quay, "no-rerun", &[("gate.sh", "echo ok - opens")], "");
    let (status, said) = quay.wait(&whole, &["--pick", "specs/gate.sh/opens"]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["the suite cannot run cases alone: pick the file, or give \"rerun\" in [tests]"]);
}

#[test]
fn no_case_is_lost_or_doubled_when_the_service_or_a_worker_is_killed() {
    let mut quay = Quay::open();
    let worker = quay.worker("gull", 2);
    let many =
        "i=0; while [ $i -lt 4000 ]; do i=$((i + 1)); echo \"ok - case $i\"; [ $((i % 200)) = 0 ] && sleep 0.1; done";
    let folder = files(&quay, "killed", &[("a.sh", many), ("b.sh", many), ("c.sh", many)], "[limits]\ntest = \"60s\"");
    let run = quay.start_run(&folder, &[]);
    let some = |quay: &Quay| quay.run(&run)["tally"]["cases"]["passed"].as_u64().unwrap_or(0);
    until("cases come", || (some(&quay) > 1500).then_some(()));
    quay.kill_service();
    quay.start();
    until("cases go on", || (some(&quay) > 4500).then_some(()));
    // What a worker that dies has told does not count, and its files run again.
    worker.signal(libc::SIGKILL);
    drop(worker);
    let _worker = quay.worker("tern", 2);
    until("the run is over", || quay.run(&run)["verdict"].as_str().map(str::to_owned));
    let stands = quay.run(&run);
    assert_eq!(
        (stands["verdict"].as_str(), stands["tally"]["cases"]["passed"].as_u64()),
        (Some("passed"), Some(12_000))
    );
    let rows = quay.sql("select count(*), count(distinct (entry, title)) from cases where outcome = 'passed'");
    assert_eq!(rows, "12000|12000", "each is kept once");
    let page = quay.json(&["show", &run, "--cases", "--name", "specs/b.sh/case 3999"]);
    assert_eq!(page["total"], 1);
}

/// A suite whose program is fed the names of its tests, and writes down when it starts.
fn fed(quay: &Quay, name: &str, count: u32, more: &str) -> (PathBuf, PathBuf) {
    let folder = quay.path(&format!("suite-{name}"));
    fs::create_dir_all(&folder).expect("a folder");
    let starts = quay.path(&format!("starts-{name}"));
    let file = format!(
        "suite = \"{name}\"\n[tests]\nlist = [\"seq\", \"-f\", \"t/%g\", \"{count}\"]\nrun = [\"sh\", \"tests.sh\", \"mark={name}=\"]\n\
         feed = \"lines\"\nresults = \"tap\"\n{more}\n"
    );
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    let script = format!(
        "echo start >> {}\nwhile read -r t; do\n  case $t in\n    t/7) [ \"${{KESMO_ATTEMPT:-1}}\" -gt 1 ] && echo \"ok - $t\" || echo \"not ok - $t\" ;;\n    \
         t/11) [ \"${{KESMO_ATTEMPT:-1}}\" -gt 1 ] && echo \"ok - $t\" || exit 3 ;;\n    *) sleep 0.02; echo \"ok - $t\" ;;\n  esac\ndone\n",
        starts.display()
    );
    fs::write(folder.join("tests.sh"), script).expect("the script");
    (folder, starts)
}

#[test]
fn a_process_that_stays_is_started_once_a_slot_and_anew_for_a_retry() {
    let quay = shared();
    let (folder, starts) = fed(quay, "fed", 200, "[retry]\ntimes = 1");
    let (status, said) = quay.wait(&folder, &["--shards", "2"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["● 198", "◐ 2"]);
    let started = fs::read_to_string(&starts).expect("starts").lines().count();
    // Two slots, one more process after the one that died, and one for each retry.
    assert!((4..=6).contains(&started), "{started} processes were started");
    let history = quay.history("fed/1", "t/11");
    let ended: Vec<&str> = history.iter().filter_map(|a| a["ended"].as_str()).collect();
    assert_eq!(ended, ["crashed", "passed"]);
    assert_eq!(processes_with("mark=fed="), 0);
    let shards = quay.json(&["show", "fed/1", "--shards"]);
    let carried: usize = shards
        .as_array()
        .expect("shards")
        .iter()
        .flat_map(|s| s["batches"].as_array().expect("batches"))
        .map(|b| b["entries"].as_array().expect("entries").len())
        .sum();
    assert!(carried >= 202, "each attempt stands in a shard: {carried}");
}

#[test]
fn a_process_that_stays_survives_the_service_and_is_fed_on() {
    let mut quay = Quay::open();
    let _worker = quay.worker("gull", 1);
    let (folder, starts) = fed(&quay, "fed-on", 150, "[retry]\ntimes = 1");
    let run = quay.start_run(&folder, &["--drop", "t/7", "--drop", "t/11"]);
    let done = |quay: &Quay| quay.run(&run)["tally"]["passed"].as_u64().unwrap_or(0);
    for least in [20, 70] {
        until("tests pass", || (done(&quay) > least).then_some(()));
        quay.kill_service();
        std::thread::sleep(Duration::from_millis(100));
        quay.start();
    }
    until("the run is over", || quay.run(&run)["verdict"].as_str().map(str::to_owned));
    let stands = quay.run(&run);
    assert_eq!(
        (stands["verdict"].as_str(), stands["tally"]["passed"].as_u64()),
        (Some("passed"), Some(148)),
        "{stands}"
    );
    assert_eq!(fs::read_to_string(&starts).expect("starts").lines().count(), 1, "one process ran them all");
    assert_eq!(quay.sql("select count(*) from attempts"), "148", "each ran once");
}

#[test]
fn tests_with_a_claim_are_fed_too_and_no_two_hold_it_at_once() {
    let quay = shared();
    let (lock, starts) = (quay.path("fed-berth"), quay.path("starts-fed-claims"));
    let folder = quay.path("suite-fed-claims");
    fs::create_dir_all(&folder).expect("a folder");
    let file = "suite = \"fed-claims\"\n[tests]\nlist = [\"sh\", \"-c\", \"seq -f db/%g 30; seq -f t/%g 60\"]\n\
                run = [\"sh\", \"tests.sh\"]\nfeed = \"lines\"\nresults = \"tap\"\n\
                [[rule]]\ntests = [\"db/**\"]\nclaims = [\"fed-berth\"]\n";
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    let script = format!(
        "echo start >> {1}\nwhile read -r t; do\n  case $t in\n    db/*) mkdir '{0}' 2>/dev/null || {{ echo \"not ok - $t\"; continue; }}\n      \
         sleep 0.02; rmdir '{0}'; echo \"ok - $t\" ;;\n    *) sleep 0.02; echo \"ok - $t\" ;;\n  esac\ndone\n",
        lock.display(),
        starts.display()
    );
    fs::write(folder.join("tests.sh"), script).expect("the script");
    let first = quay.start_run(&folder, &[]);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["● 90"]);
    assert_eq!(quay.kesmo(&["watch", &first]).status.code(), Some(0));
    // A process where all else has run and the other run holds the claim ends, and one is started when it is free.
    let started = fs::read_to_string(&starts).expect("starts").lines().count();
    assert!(started <= 20, "{started} processes were started for 180 tests");
    let batches = quay.json(&["show", &first, "--shards"]);
    let largest = batches.as_array().expect("shards").iter().flat_map(|s| s["batches"].as_array().expect("batches"));
    let largest = largest.map(|b| b["entries"].as_array().expect("entries").len()).max();
    assert!(largest > Some(20), "one process ran many, with a claim and without: {batches}");
}

#[test]
fn files_and_fed_processes_run_here_as_well() {
    let quay = shared();
    let gate = "wanted a && echo ok - a; wanted b && { [ \"$KESMO_ATTEMPT\" = 2 ] && echo ok - b || echo not ok - b; }; exit 0";
    let folder = files(quay, "files-here", &[("gate.sh", gate)], &format!("{RERUN}[retry]\ntimes = 1"));
    let home = quay.path("home-files-here");
    let here = |folder: &PathBuf, more: &[&str]| {
        let mut command = quay.command(&["here", &folder.to_string_lossy(), "--home", &home.to_string_lossy()]);
        let output = command.args(more).output().expect("it runs");
        (output.status.code(), all_said(&output))
    };
    let report = quay.path("here.xml");
    let (status, said) = here(&folder, &["--report", &format!("junit={}", report.display())]);
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["2 cases: ◐ 1"]);
    assert_says(
        &fs::read_to_string(report).expect("the report"),
        &["tests=\"2\" failures=\"0\"", "classname=\"specs/gate.sh\""],
    );
    let (folder, starts) = fed(quay, "fed-here", 60, "[retry]\ntimes = 1");
    let (status, said) = here(&folder, &["--slots", "2"]);
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["● 58", "◐ 2"]);
    let started = fs::read_to_string(&starts).expect("starts").lines().count();
    assert!((4..=6).contains(&started), "{started} processes were started");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_cases_of_a_run_and_of_a_file() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let gate =
        "sleep 0.2; echo 'ok - opens <b>wide</b>'; sleep 0.2; echo not ok - pays by card; echo '# declined'; exit 1";
    let folder = files(quay, "seen-cases", &[("gate.sh", gate), ("quay.sh", "echo ok - calm")], "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    let page = browser(1280, 900).await;
    page.client.goto(&format!("{}/runs/seen-cases/1#token={}", quay.url, quay.token())).await.expect("the run");
    page.shows(&["1 of 2 files failed; 1 of 3 cases", "3 cases: 1 failed", "pays by card", "opens <b>wide</b>"]).await;
    page.shows(&["of their time in tests; ", "cases within their files"]).await;
    page.click("//section[@aria-label='Cases']//summary[contains(., 'pays by card')]").await;
    page.shows(&["Attempt 1 of its file", "All of its file"]).await;
    page.click("//section[@aria-label='Cases']//a[contains(., 'All of its file')]").await;
    page.shows(&["specs/gate.sh", "Cases", "2 cases", "not ok - pays by card"]).await;
    page.client.clone().close().await.expect("the browser closes");
}
