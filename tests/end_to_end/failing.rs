//! What is true of a suite now: the tests whose latest outcome that counts is failed.

use std::fs;

use serde_json::Value;

use crate::quay::{Quay, Repo, all_said, assert_says, text};

/// What fails now: `test since for passes-before`, as the command tells programs.
fn failing(quay: &Quay, more: &[&str]) -> Vec<String> {
    let mut words = vec!["failing"];
    words.extend(more);
    let found: Value = quay.json(&words);
    let text = |test: &Value, key: &str| test[key].as_str().unwrap_or_default().to_owned();
    let one = |test: &Value| {
        format!(
            "{} since {} for {} after {}",
            text(test, "test"),
            text(test, "since"),
            test["runs"],
            test["passes_before"]
        )
    };
    let mut all: Vec<String> = found["tests"].as_array().expect("tests").iter().map(one).collect();
    all.sort();
    all
}

fn becomes(quay: &Quay, more: &[&str], wanted: &[&str]) {
    // The records follow the verdict within a moment.
    let since = std::time::Instant::now();
    while failing(quay, more) != wanted {
        assert!(since.elapsed().as_secs() < 40, "{:?}, and not {wanted:?}", failing(quay, more));
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
}

#[test]
fn a_run_of_some_tests_that_passes_does_not_clear_what_it_did_not_run() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let script = "if [ \"$1\" = --names ]; then cat names; exit; fi; for t in \"$@\"; do if grep -qx $t broken; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi; done";
    let folder = quay.suite("gate", "tap", script, "[retry]\ntimes = 0");
    let write = |names: &str, broken: &str| {
        fs::write(folder.join("names"), names).expect("names");
        fs::write(folder.join("broken"), broken).expect("what is broken");
    };
    write("a\nb\nc\nd\n", "nothing\n");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    becomes(&quay, &["gate"], &[]);
    assert_says(&all_said(&quay.kesmo(&["failing", "gate"])), &["No test of gate fails now"]);
    write("a\nb\nc\nd\n", "a\nc\n");
    assert_eq!(quay.wait(&folder, &["--commit", &"1".repeat(40), "--branch", "main"]).0, 1);
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    // On a branch, and where none is known: each for itself.
    let on_main = ["a since gate/3 for 1 after 2", "c since gate/3 for 1 after 2"];
    becomes(&quay, &["gate", "--branch", "main"], &on_main);
    let all = [
        "a since gate/3 for 1 after 2",
        "a since gate/4 for 1 after 0",
        "c since gate/3 for 1 after 2",
        "c since gate/4 for 1 after 0",
    ];
    becomes(&quay, &["gate"], &all);
    write("a\nb\nc\nd\n", "nothing\n");
    assert_eq!(quay.wait(&folder, &["--commit", &"2".repeat(40), "--branch", "main"]).0, 0);
    becomes(&quay, &["gate"], &["a since gate/4 for 1 after 0", "c since gate/4 for 1 after 0"]);
    // A run of one test that passes is no news of the others, whatever its verdict.
    write("a\nb\nc\nd\n", "c\n");
    assert_eq!(quay.wait(&folder, &["--pick", "b"]).0, 0);
    assert_eq!(quay.wait(&folder, &["--pick", "a"]).0, 0);
    becomes(&quay, &["gate"], &["c since gate/4 for 1 after 0"]);
    let suites: Value = quay.json(&["suite", "list"]);
    assert_eq!(suites[0]["failing"], 1, "{suites}");
    assert_eq!(quay.wait(&folder, &["--pick", "c"]).0, 1);
    becomes(&quay, &["gate"], &["c since gate/4 for 2 after 0"]);
    let said = all_said(&quay.kesmo(&["failing"]));
    assert_says(&said, &["gate", "◆ c", "since", "gate/4", "2 runs", "kesmo log gate/8 c"]);
    // One that is parked does not count; one that is skipped or gone fails no more.
    assert!(quay.kesmo(&["park", "gate", "c", "--until", "2w", "--why", "the gate is being painted"]).status.success());
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    becomes(&quay, &["gate"], &["c since gate/4 for 2 after 0"]);
    write("a\nb\nd\n", "nothing\n");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    becomes(&quay, &["gate"], &[]);
    assert_says(&all_said(&quay.kesmo(&["failing", "gaet"])), &["there is no suite named \"gaet\""]);
}

#[test]
fn what_a_service_that_was_killed_did_not_record_is_recorded_after_and_once() {
    let mut quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap(
        "gate",
        "a b",
        "if [ $t = a ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi",
        "[retry]\ntimes = 0",
    );
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    becomes(&quay, &["gate"], &["a since gate/1 for 1 after 0"]);
    // As if the service had been killed between the verdict and the records.
    quay.sql("insert into unrecorded select id from runs; delete from failing; delete from records");
    quay.kill_service();
    quay.start();
    becomes(&quay, &["gate"], &["a since gate/1 for 1 after 0"]);
    assert_eq!(quay.sql("select count(*) from unrecorded"), "0");
    assert_eq!(quay.sql("select passed + failed from records order by test").lines().collect::<Vec<_>>(), ["1", "1"]);
    // Older results that are brought later are no news.
    let results = quay.path("results.tap");
    fs::write(&results, "1..2\nok 1 - a\nnot ok 2 - b\n").expect("results");
    let file = results.display().to_string();
    let brought = quay.kesmo(&["import", &file, "--suite", "gate", "--at", "2026-01-01T00:00:00Z"]);
    assert!(brought.status.success(), "{}", all_said(&brought));
    let later = quay.kesmo(&["import", &file, "--suite", "gate", "--at", &text(&now())]);
    assert!(later.status.success(), "{}", all_said(&later));
    becomes(&quay, &["gate"], &["b since gate/3 for 1 after 0"]);
}

#[test]
fn what_failed_on_a_branch_that_is_gone_can_be_forgotten() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("gate", "a b", "if [ -e bad ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi", "");
    let repo = Repo::of(&folder, quay.path("gate.git"));
    assert!(quay.kesmo(&["suite", "add", "--git", &repo.url()]).status.success());
    repo.git(&["checkout", "--quiet", "-b", "late/boats"]);
    fs::write(repo.path.join("bad"), "").expect("a file");
    repo.commit("worse");
    let failed = quay.kesmo(&["start", "gate", "--branch", "late/boats", "--wait"]);
    assert_eq!(failed.status.code(), Some(1), "{}", all_said(&failed));
    becomes(&quay, &["gate"], &["a since gate/1 for 1 after 0", "b since gate/1 for 1 after 0"]);
    let forget = |branch: &str| all_said(&quay.kesmo(&["failing", "gate", "--branch", branch, "--gone"]));
    assert_says(&forget("late/boats"), &["late/boats of gate is still there"]);
    repo.git(&["checkout", "--quiet", "main"]);
    repo.git(&["branch", "--quiet", "-D", "late/boats"]);
    assert_says(&forget("late/boat"), &["no test of gate fails on the branch \"late/boat\" now", "did you mean"]);
    assert_eq!(failing(&quay, &["gate"]).len(), 2, "nothing was forgotten so far");
    assert_says(&forget("late/boats"), &["2 tests failed on late/boats, which is gone"]);
    assert!(failing(&quay, &["gate"]).is_empty());
    assert_says(&all_said(&quay.kesmo(&["show", "gate/1"])), &["failed"]);
    assert_says(&all_said(&quay.kesmo(&["audit"])), &["failing forget", "gate"]);
    assert_ne!(quay.kesmo(&["failing", "--branch", "main", "--gone"]).status.code(), Some(0), "of which suite?");
}

fn now() -> Vec<u8> {
    let now = std::process::Command::new("date").args(["-u", "+%Y-%m-%dT%H:%M:%SZ"]).output().expect("date runs");
    now.stdout.trim_ascii().to_vec()
}
