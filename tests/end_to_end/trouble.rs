//! Bad input, and trouble in the middle of a run.

use std::{collections::BTreeSet, path::Path, process::Command};

use crate::quay::{Quay, all_said, assert_says, shared, until};

#[test]
fn a_misspelt_suite_file_is_refused_before_anything_runs() {
    let quay = shared();
    let folder = quay.tap("misspelt", "a", "echo \"ok - $t\"", "[retry]\ntime = 3\n[limits]\ntest = 30");
    for words in [&["suite", "check"][..], &["suite", "add"], &["start"]] {
        let mut all = words.to_vec();
        let path = folder.to_string_lossy().into_owned();
        all.push(&path);
        let output = quay.kesmo(&all);
        assert_eq!(output.status.code(), Some(2), "{}", all_said(&output));
        let said = all_said(&output);
        assert_says(&said, &["kesmo.toml line 7: [retry] has no key \"time\"; did you mean \"times\"?"]);
        assert_says(&said, &["kesmo.toml line 9: \"test\" in [limits] must be a duration"]);
    }
}

#[test]
fn a_pick_that_matches_nothing_is_void_and_names_the_nearest() {
    let quay = shared();
    let folder = quay.tap("nothing", "gate/open gate/shut", "echo \"ok - $t\"", "");
    let (status, said) = quay.wait(&folder, &["--pick", "gaet/open"]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["⊘ void", "of 2 tests none is chosen by --pick gaet/open", "nearest to gaet/open: gate/open"]);
    let (status, said) = quay.wait(&folder, &["--retires", "3"]);
    assert_eq!(status, 2, "{said}");
    assert_says(&said, &["--retries"]);
    let unknown = quay.kesmo(&["start", "nothin", "--wait"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert_says(&all_said(&unknown), &["there is no suite named \"nothin\"; did you mean \"nothing\"?"]);
}

#[test]
fn a_folder_that_is_named_like_a_suite_is_told_how_it_is_meant() {
    let quay = shared();
    quay.tap("unmoored", "a", "echo \"ok - $t\"", "");
    for words in [&["start", "suite-unmoored"][..], &["tests", "suite-unmoored"], &["forecast", "suite-unmoored"]] {
        let output = quay.kesmo(words);
        assert_eq!(output.status.code(), Some(2), "{}", all_said(&output));
        let hint = "the suite in the folder suite-unmoored is named as ./suite-unmoored";
        assert_says(&all_said(&output), &["there is no suite named \"suite-unmoored\"", hint]);
    }
    assert_eq!(quay.kesmo(&["start", "./suite-unmoored", "--wait"]).status.code(), Some(0));
}

#[test]
fn a_list_that_is_empty_broken_or_fails_makes_the_run_void() {
    let quay = shared();
    let cases = [
        ("list-empty", "true", "the list command printed no test"),
        ("list-fails", "echo 'no quay' >&2; exit 3", "the list command failed with status 3: no quay"),
        ("list-twice", "printf 'a\\nb\\na\\n'", "the name \"a\" stands twice, on lines 1 and 3"),
        ("list-binary", "printf '\\377\\376\\n'", "is not UTF-8"),
    ];
    for (name, list, why) in cases {
        let (status, said) = quay.wait(&quay.suite(name, "tap", list, ""), &[]);
        assert_eq!(status, 10, "{name}: {said}");
        assert_says(&said, &["⊘ void", why]);
    }
}

#[test]
fn a_run_that_tested_nothing_never_passes() {
    let quay = shared();
    let (status, said) = quay.wait(&quay.tap("all-skipped", "a b", "echo \"ok - $t # SKIP no boat\"", ""), &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["nothing was tested: 2 skipped"]);
    let (status, said) = quay.wait(&quay.tap("silent", "a b", "true", ""), &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["its process ended with status 0 and never reported this test"]);
}

#[test]
fn a_command_that_cannot_start_and_a_prepare_that_fails_make_the_run_void() {
    let quay = shared();
    let folder = quay.tap("no-command", "a", "true", "");
    let file = folder.join("kesmo.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, text.replace("run = [\"sh\", \"tests.sh\"", "run = [\"./not-there\"")).unwrap();
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["no worker can carry it out", "./not-there", "could not be started"]);
    let prepare = "[prepare]\nrun = [\"sh\", \"-c\", \"echo the ramp is iced; exit 4\"]";
    let (status, said) = quay.wait(&quay.tap("no-prepare", "a", "echo \"ok - $t\"", prepare), &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["preparing failed", "status 4: the ramp is iced"]);
}

#[test]
fn a_run_without_a_worker_says_so_at_once_and_turns_void_after_its_patience() {
    let quay = shared();
    let needs = "[needs]\nbrowser = \"lantern\"\n[limits]\npatience = \"1s\"";
    let (status, said) = quay.wait(&quay.tap("no-worker", "a", "echo \"ok - $t\"", needs), &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(
        &said,
        &[
            "waiting for a worker that offers browser=lantern",
            "kesmo worker --pool main --offer browser=lantern",
            "none came within 1.0 s",
        ],
    );
}

#[test]
fn listing_tests_without_a_worker_says_what_to_start() {
    let quay = shared();
    let folder = quay.tap("no-lister", "a", "echo \"ok - $t\"", "[needs]\nbrowser = \"lantern\"");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    let tests = quay.kesmo(&["tests", "no-lister"]);
    assert_eq!(tests.status.code(), Some(2));
    assert_says(
        &all_said(&tests),
        &["its tests are not listed yet", "kesmo worker --pool main --offer browser=lantern"],
    );
}

/// Tests that each leave a line in a file when they run, so that what really ran can be counted.
fn counted(quay: &Quay, name: &str, count: usize, seconds: &str) -> (std::path::PathBuf, std::path::PathBuf) {
    let names: String = (0..count).map(|i| format!("t{i} ")).collect();
    let file = quay.path(&format!("{name}-ran"));
    let body = format!("sleep {seconds}; echo $t >> '{}'; echo \"ok - $t\"", file.display());
    (quay.tap(name, &names, &body, "[retry]\ntimes = 0"), file)
}

/// Every entry passed, with exactly one attempt that counts.
fn assert_each_counted_once(quay: &Quay, run: &str, count: usize) {
    let entries = quay.entries(run);
    assert_eq!(entries.len(), count);
    let names: BTreeSet<&str> = entries.iter().filter_map(|e| e["test"].as_str()).collect();
    assert_eq!(names.len(), count);
    for entry in &entries {
        assert_eq!(entry["outcome"], "passed", "{entry}");
    }
    let run = quay.run(run);
    assert_eq!(run["tally"]["passed"], count);
    assert_eq!(run["stats"]["ended"], count, "nothing is counted twice");
}

#[test]
fn a_worker_killed_in_mid_batch_loses_nothing() {
    let quay = Quay::with_patience("1s");
    let mut first = quay.worker("gull", 2);
    let _second = quay.worker("tern", 1);
    let (folder, _) = counted(&quay, "killed-worker", 30, "0.1");
    let run = quay.start_run(&folder, &[]);
    until("some tests passed", || (quay.run(&run)["tally"]["passed"].as_u64() >= Some(4)).then_some(()));
    first.signal(libc::SIGKILL);
    first.wait();
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    assert_each_counted_once(&quay, &run, 30);
    let lost: usize =
        (0..30).flat_map(|i| quay.history(&run, &format!("t{i}"))).filter(|attempt| attempt["ended"] == "lost").count();
    assert!((1..=2).contains(&lost), "what ran on its two slots is lost and told so: {lost}");
}

#[test]
fn a_service_killed_in_mid_run_goes_on_to_the_right_verdict() {
    let mut quay = Quay::with_patience("5s");
    let _workers = [quay.worker("gull", 2), quay.worker("tern", 1)];
    let (folder, file) = counted(&quay, "killed-service", 40, "0.1");
    let run = quay.start_run(&folder, &[]);
    until("some tests passed", || (quay.run(&run)["tally"]["passed"].as_u64() >= Some(5)).then_some(()));
    let before = quay.run(&run)["tally"]["passed"].as_u64().unwrap_or(0);
    quay.kill_service();
    std::thread::sleep(std::time::Duration::from_millis(700));
    quay.start();
    assert!(quay.run(&run)["tally"]["passed"].as_u64() >= Some(before), "every acknowledged result is kept");
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    assert_each_counted_once(&quay, &run, 40);
    let ran = std::fs::read_to_string(file).expect("what ran");
    assert_eq!(ran.lines().count(), 40, "the workers went on meanwhile, and no test ran twice");
}

/// Stops the PostgreSQL of a service as an administrator would; the service starts it again.
fn stop_postgres(data: &Path) {
    let cluster = [data.join("postgres"), Path::new("/var/lib/kesmo").to_owned()].into_iter().find(|p| p.exists());
    let cluster = cluster.expect("a cluster");
    let programs =
        std::fs::read_dir("/usr/lib/postgresql").expect("PostgreSQL").flatten().map(|e| e.path().join("bin/pg_ctl"));
    let pg_ctl = programs.max().expect("pg_ctl");
    // SAFETY: geteuid only reads.
    let mut command = if unsafe { libc::geteuid() } == 0 {
        let mut command = Command::new("runuser");
        command.args(["-u", "postgres", "--"]).arg(pg_ctl);
        command
    } else {
        Command::new(pg_ctl)
    };
    let pid = std::fs::read_to_string(cluster.join("postmaster.pid")).expect("it runs");
    let pid = Path::new("/proc").join(pid.lines().next().expect("its number").trim());
    // pg_ctl's own waiting does not see an end that is followed by a new start at once.
    let stopped = command.arg("-D").arg(cluster).args(["-m", "immediate", "-W", "stop"]).current_dir("/").output();
    let stopped = stopped.expect("pg_ctl runs");
    assert!(stopped.status.success(), "{}", all_said(&stopped));
    until("it has ended", || (!pid.exists()).then_some(()));
}

#[test]
fn a_postgresql_restarted_in_mid_run_loses_nothing() {
    let quay = Quay::with_patience("10s");
    let _worker = quay.worker("gull", 3);
    let (folder, file) = counted(&quay, "killed-database", 40, "0.1");
    let run = quay.start_run(&folder, &[]);
    until("some tests passed", || (quay.run(&run)["tally"]["passed"].as_u64() >= Some(5)).then_some(()));
    stop_postgres(&quay.path("service"));
    // Until the service has started it again, calls that need it are refused in words.
    until("PostgreSQL is back", || quay.kesmo(&["show", &run]).status.success().then_some(()));
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    assert_each_counted_once(&quay, &run, 40);
    assert_eq!(std::fs::read_to_string(file).expect("what ran").lines().count(), 40);
}

#[test]
fn a_worker_that_leaves_in_good_order_gives_its_work_back_at_once() {
    let quay = Quay::with_patience("60s");
    let mut first = quay.worker("gull", 1);
    let (folder, _) = counted(&quay, "leaving", 6, "0.3");
    let run = quay.start_run(&folder, &[]);
    until("it is under way", || (quay.run(&run)["tally"]["running"] == 1).then_some(()));
    first.signal(libc::SIGTERM);
    assert_eq!(first.wait(), 0);
    let _second = quay.worker("tern", 2);
    let watched = quay.kesmo(&["watch", &run]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    assert_each_counted_once(&quay, &run, 6);
}

#[test]
fn a_clock_that_is_set_ends_no_test_and_keeps_no_retry_waiting() {
    let (quay, wall) = Quay::with_wall();
    let _worker = quay.worker("heron", 1);
    let body = "sleep 1; if [ $t = a ] && [ \"$KESMO_ATTEMPT\" != 2 ]; then echo not ok - $t; else echo ok - $t; fi";
    let limits = "[limits]\ntest = \"20s\"\nrun = \"40s\"\n[retry]\ntimes = 1\npause = \"2s\"";
    let folder = quay.tap("clocks", "a b c d", body, limits);
    let began = std::time::Instant::now();
    let run = quay.start_run(&folder, &["--shards", "1"]);
    until("it runs", || (quay.run(&run)["phase"] == "running").then_some(()));
    for by in ["+5h", "-5h", "+0"] {
        std::thread::sleep(std::time::Duration::from_millis(1200));
        wall.set(by);
    }
    until("it is over", || (quay.run(&run)["phase"] == "finished").then_some(()));
    let over = quay.run(&run);
    assert_eq!((over["verdict"].as_str(), over["tally"]["flaky"].as_u64()), (Some("passed"), Some(1)), "{over}");
    assert!(began.elapsed().as_secs() < 40, "nothing waited for the clock: {} s", began.elapsed().as_secs());
    let spent = quay.history(&run, "b")[0]["spent_us"].as_u64().expect("a time");
    assert!((900_000..20_000_000).contains(&spent), "{spent}");
}
