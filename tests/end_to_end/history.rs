//! Tests over their runs, and runs against each other.

use std::{fs, path::PathBuf};

use serde_json::Value;

use crate::quay::{Quay, Repo, all_said, assert_says};

/// A suite whose tests do what files in its folder say: `names` lists them, `broken` those that fail, `wobbly` those that fail in
/// every other attempt, `slow` those that take long.
const SCRIPT: &str = "if [ \"$1\" = --names ]; then cat names; exit; fi
for t in \"$@\"; do
  if grep -qx $t slow; then sleep 0.3; else sleep 0.02; fi
  if grep -qx $t broken; then echo \"not ok - $t\"
  elif grep -qx $t wobbly && mkdir \"$MARKS/$t\" 2>/dev/null; then echo \"not ok - $t\"; echo \"# it wobbled\"
  else rmdir \"$MARKS/$t\" 2>/dev/null; echo \"ok - $t\"; fi
done";

struct Gate<'a> {
    quay: &'a Quay,
    folder: PathBuf,
}

impl<'a> Gate<'a> {
    fn new(quay: &'a Quay, more: &str) -> Self {
        let marks = quay.path("marks");
        fs::create_dir_all(&marks).expect("a folder");
        let env = format!("[env]\nMARKS = {:?}\n{more}", marks.display().to_string());
        let folder = quay.suite("gate", "tap", SCRIPT, &env);
        let gate = Self { quay, folder };
        gate.write("a b c d", "", "", "");
        gate
    }

    fn write(&self, names: &str, broken: &str, wobbly: &str, slow: &str) {
        for (file, tests) in [("names", names), ("broken", broken), ("wobbly", wobbly), ("slow", slow)] {
            let lines: Vec<String> = tests.split_whitespace().map(|t| format!("{t}\n")).collect();
            fs::write(self.folder.join(file), lines.concat()).expect("a file");
        }
    }

    fn run(&self, more: &[&str]) -> i32 {
        self.quay.wait(&self.folder, more).0
    }
}

fn names(list: &Value) -> Vec<&str> {
    list["tests"].as_array().expect("tests").iter().map(|t| t["test"].as_str().expect("a name")).collect()
}

#[test]
fn a_run_is_compared_with_the_last_of_its_choice_and_branch() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let gate = Gate::new(&quay, "[retry]\ntimes = 1");
    let said = quay.wait(&gate.folder, &["--branch", "main", "--commit", &"1".repeat(40)]);
    assert_eq!(said.0, 0);
    let first: Value = quay.json(&["compare", "gate/1"]);
    assert_eq!((&first["with"], &first["because"]), (&Value::Null, &"there is no earlier run of all tests".into()));
    // One of some tests is not what the next whole run is compared with.
    gate.write("a b c d", "b", "", "");
    assert_eq!(gate.run(&["--branch", "main", "--commit", &"2".repeat(40), "--pick", "b"]), 1);
    gate.write("a b c e", "a", "c", "");
    let (status, said) = quay.wait(&gate.folder, &["--branch", "main", "--commit", &"3".repeat(40)]);
    assert_eq!(status, 1);
    assert_says(&said, &["Against gate/1: 1 newly failing, 1 newly flaky", "newly failing: a"]);
    let found: Value = quay.json(&["compare", "gate/3"]);
    assert_eq!((&found["with"], &found["because"]), (&"gate/1".into(), &"the last run of all tests on main".into()));
    assert_eq!(names(&found["newly_failing"]), ["a"]);
    assert_eq!(names(&found["newly_flaky"]), ["c"]);
    assert_eq!((names(&found["new"]), names(&found["gone"])), (vec!["e"], vec!["d"]));
    assert_eq!((&found["both"], &found["same_choice"]), (&3.into(), &true.into()));
    let setup = found["setup"].to_string();
    assert!(setup.contains("1111111111") && setup.contains("3333333333"), "{setup}");
    let said = all_said(&quay.kesmo(&["compare", "gate/3"]));
    assert_says(
        &said,
        &[
            "gate/3 against gate/1, the last run of all tests on main",
            "Newly failing (1)",
            "Gone (1)",
            "kesmo log gate/3 a",
        ],
    );
    // The first run of a branch is held against what was there before.
    gate.write("a b c e", "e", "", "");
    assert_eq!(gate.run(&["--branch", "fix", "--commit", &"4".repeat(40)]), 1);
    let found: Value = quay.json(&["compare", "gate/4"]);
    assert_eq!(found["with"], "gate/3", "{}", found["because"]);
    assert!(
        found["because"].as_str().is_some_and(|b| b.ends_with("on main, as it is the first on fix")),
        "{}",
        found["because"]
    );
    assert_eq!((names(&found["mended"]), names(&found["newly_failing"])), (vec!["a"], vec!["e"]));
    // What a service that was killed did not record is there before it is compared.
    quay.sql("insert into unrecorded select id from runs; delete from results");
    let again: Value = quay.json(&["compare", "gate/4"]);
    assert_eq!((names(&again["mended"]), names(&again["newly_failing"])), (vec!["a"], vec!["e"]));
    // Asked for otherwise.
    assert_eq!(quay.json(&["compare", "gate/4", "--with", "branch:main"])["with"], "gate/3");
    assert_eq!(quay.json(&["compare", "gate/3", "--with", "last-passed"])["with"], "gate/1");
    assert_eq!(quay.json(&["compare", "gate/4", "--with", "yesterday"])["with"], Value::Null);
    let part = quay.json(&["compare", "gate/2", "gate/1"]);
    assert_eq!((&part["same_choice"], names(&part["gone"])), (&false.into(), vec!["a", "c", "d"]));
    assert_says(
        &all_said(&quay.kesmo(&["compare", "gate/2", "1"])),
        &["choice: all tests → pick b", "Not in this run (3)"],
    );
    for (words, wanted) in [
        (["compare", "gate/4", "--with", "lst"], "give a run"),
        (["compare", "gate/4", "--with", "fares/1"], "of another suite"),
        (["compare", "gate/4", "--with", "gate/99"], "there is no run gate/99"),
        (["compare", "gate/4", "--with", "branch:nowhere"], "no run of all tests on nowhere came to a verdict"),
    ] {
        assert_says(&all_said(&quay.kesmo(&words)), &[wanted]);
    }
    // One that was void says nothing that could be compared, and no report of it reads calm.
    assert_eq!(gate.run(&["--pick", "nothing-is-called-so"]), 10);
    assert_says(&all_said(&quay.kesmo(&["compare", "gate/5"])), &["gate/5 is void"]);
    let report = quay.kesmo(&["report", "gate/5", "--as", "html"]);
    let html = String::from_utf8_lossy(&report.stdout).into_owned();
    assert!(html.contains("⊘ void") && !html.contains("No test ended otherwise"), "{html}");
}

#[test]
fn a_tests_history_tells_when_it_failed_was_flaky_and_what_it_took() {
    let mut quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let gate = Gate::new(&quay, "[retry]\ntimes = 1");
    gate.write("a b", "", "", "");
    assert_eq!(gate.run(&["--branch", "fix"]), 0);
    for n in 0..11 {
        gate.write("a b", if n == 3 || n == 4 { "a" } else { "" }, if n == 6 { "a" } else { "" }, "");
        assert_eq!(gate.run(&["--branch", "main"]), i32::from(n == 3 || n == 4));
    }
    for _ in 0..10 {
        gate.write("a b", "", "", "a");
        assert_eq!(gate.run(&["--branch", "main"]), 0);
    }
    let found = quay.json(&["history", "gate", "a", "--limit", "50"]);
    assert_eq!(found["runs"].as_array().map(Vec::len), Some(22));
    assert_eq!((&found["runs"][21]["run"], &found["runs"][21]["branch"]), (&"gate/1".into(), &"fix".into()));
    assert_eq!(
        (&found["failed"]["hits"], &found["failed"]["of"], &found["flaky"]["hits"]),
        (&2.into(), &22.into(), &1.into())
    );
    let spell = &found["spells"][0];
    assert_eq!(
        (&spell["from"]["run"], &spell["runs"], &spell["mended"]["run"]),
        (&"gate/5".into(), &2.into(), &"gate/7".into())
    );
    let shift = &found["shifts"][0];
    assert_eq!(shift["at"]["run"], "gate/13", "{found}");
    assert!(shift["after_us"].as_u64() > shift["before_us"].as_u64().map(|us| us * 3), "{shift}");
    assert_says(
        &all_said(&quay.kesmo(&["history", "gate", "a", "--limit", "17"])),
        &["since gate/13", "◐ flaky", "older ones than gate/6"],
    );
    assert_eq!(quay.json(&["history", "gate", "a", "--branch", "fix"])["runs"].as_array().map(Vec::len), Some(1));
    // As the lists of a database that an earlier version filled: made again from the attempts.
    let before = quay.sql("select entry, outcome, attempts, spent_us, retried_us from results order by run_id, entry");
    quay.sql("insert into older_runs select id from runs; delete from results");
    quay.kill_service();
    quay.start();
    let since = std::time::Instant::now();
    while quay.sql("select count(*) from older_runs") != "0" {
        assert!(since.elapsed().as_secs() < 40, "{}", quay.sql("select count(*) from older_runs"));
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    assert_eq!(
        quay.sql("select entry, outcome, attempts, spent_us, retried_us from results order by run_id, entry"),
        before
    );
    assert_says(&all_said(&quay.kesmo(&["history", "gate", "z"])), &["had a test \"z\"", "kesmo tests gate"]);
}

#[test]
fn what_is_flaky_is_told_with_how_often_and_proved_to_be_mended() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let gate = Gate::new(&quay, "[retry]\ntimes = 1");
    gate.write("a b c d", "", "c", "");
    for _ in 0..6 {
        assert_eq!(gate.run(&[]), 0);
    }
    let found = quay.json(&["flaky", "gate"]);
    let tests = found["tests"].as_array().expect("tests");
    assert_eq!(tests.len(), 1, "{found}");
    let test = &tests[0];
    assert_eq!((&test["test"], &test["flaky"]["hits"], &test["flaky"]["of"]), (&"c".into(), &6.into(), &6.into()));
    assert_eq!((&test["series"], &test["last"]), (&"kkkkkk".into(), &"gate/6".into()));
    assert!(test["flaky"]["low"].as_f64().is_some_and(|low| (0.6..0.63).contains(&low)), "{test}");
    assert!(test["retried_us"].as_u64().is_some_and(|us| us > 0), "{test}");
    assert!(test["message"].as_str().is_some_and(|m| m.contains("wobbled")), "{test}");
    assert_says(&all_said(&quay.kesmo(&["flaky"])), &["gate", "◐ c", "6 of 6", "kesmo flaky gate c"]);
    let evidence = quay.json(&["flaky", "gate", "c"]);
    assert_eq!((&evidence["attempts"]["hits"], &evidence["attempts"]["of"]), (&6.into(), &12.into()));
    // Half of its attempts fail: it is still flaky, and that shows soon.
    assert!(quay.kesmo(&["suite", "add", &gate.folder.display().to_string()]).status.success());
    let proved = quay.kesmo(&["prove", "gate", "c"]);
    assert_eq!(proved.status.code(), Some(1), "{}", all_said(&proved));
    assert_says(&all_said(&proved), &["6 of its last 12 attempts", "◐ still flaky", "(99% sure)"]);
    // Mended: seven passes in a row say so, as half of them would have failed.
    gate.write("a b c d", "", "", "");
    assert!(quay.kesmo(&["suite", "add", &gate.folder.display().to_string()]).status.success());
    let proved = quay.kesmo(&["prove", "gate", "c"]);
    assert_eq!(proved.status.code(), Some(0), "{}", all_said(&proved));
    assert_says(&all_said(&proved), &["7 passes in a row would prove it mended", "● mended"]);
    let open = quay.kesmo(&["prove", "gate", "c", "--rate", "1%", "--at-most", "9"]);
    assert_eq!(open.status.code(), Some(10), "{}", all_said(&open));
    assert_says(&all_said(&open), &["not proved either way after 9 repetitions", "--at-most"]);
    // Repetitions that pass in a process that ends badly prove nothing.
    fs::write(gate.folder.join("tests.sh"), format!("{SCRIPT}\nexit 5\n")).expect("a file");
    assert!(quay.kesmo(&["suite", "add", &gate.folder.display().to_string()]).status.success());
    let beside = quay.kesmo(&["prove", "gate", "c"]);
    assert_eq!(beside.status.code(), Some(12), "{}", all_said(&beside));
    assert_says(&all_said(&beside), &["cannot be counted", "status 5"]);
    let never = quay.kesmo(&["prove", "gate", "a"]);
    assert_eq!(never.status.code(), Some(2));
    assert_says(&all_said(&never), &["failed in none of its last 6 attempts", "--rate"]);
    // What was repeated on purpose is no history.
    assert_eq!(quay.json(&["history", "gate", "c"])["runs"].as_array().map(Vec::len), Some(6));
    assert_says(&all_said(&quay.kesmo(&["compare", "gate/7"])), &["repeats tests on purpose"]);
}

#[test]
fn the_commit_that_broke_a_test_is_found_also_by_a_flaky_one() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 4);
    let body = "if [ $t = b ] && [ -e broken ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi";
    let folder = quay.tap("notices", "a b", body, "[retry]\ntimes = 0");
    let repo = Repo::of(&folder, quay.path("notices.git"));
    assert!(quay.kesmo(&["suite", "add", "--git", &repo.url()]).status.success());
    let first = repo.git(&["rev-parse", "HEAD"]);
    assert!(quay.kesmo(&["start", "notices", "--wait"]).status.success());
    let mut broke = String::new();
    for n in 1..=40 {
        fs::write(repo.path.join("board"), n.to_string()).expect("a file");
        if n == 27 {
            fs::write(repo.path.join("broken"), "").expect("a file");
        }
        // With this one it cannot be told: its suite file is wrong.
        let whole = fs::read_to_string(repo.path.join("kesmo.toml")).expect("the suite file");
        if n == 15 {
            fs::write(repo.path.join("kesmo.toml"), "suite = ").expect("a file");
        }
        let commit = repo.commit(&format!("Board {n}"));
        fs::write(repo.path.join("kesmo.toml"), whole).expect("the suite file");
        if n == 27 {
            broke = commit;
        }
    }
    let last = repo.git(&["rev-parse", "HEAD"]);
    assert_eq!(quay.kesmo(&["start", "notices", "--wait"]).status.code(), Some(1));
    // Between the two runs that are known: 40 commits, of which few are looked at.
    let found = quay.json(&["since", "notices", "b"]);
    assert_eq!(found["found"], "commit", "{found}");
    assert_eq!(found["commits"].as_array().map(Vec::len), Some(1));
    assert_eq!(
        (&found["commits"][0]["commit"], &found["commits"][0]["subject"]),
        (&broke.clone().into(), &"Board 27".into())
    );
    assert!(found["times"].as_u64().is_some_and(|times| times <= 20), "{}", found["times"]);
    assert!(found["commits"][0]["author"].as_str().is_some_and(|author| !author.is_empty()), "{found}");
    let said = quay.kesmo(&["since", "notices", "b", "--good", &first, "--bad", &last[..12]]);
    assert_says(
        &all_said(&said),
        &[&format!("{broke} broke b"), "Board 27 by ", "sure)", "◆ failed", "● passed", "hunt=since-notices"],
    );
    assert_eq!(said.status.code(), Some(0));
    // Ends that are not what they are said to be.
    let both = quay.kesmo(&["since", "notices", "b", "--good", &broke, "--bad", &last]);
    assert_eq!(both.status.code(), Some(10), "{}", all_said(&both));
    assert_says(&all_said(&both), &["fails at", "already", "--good"]);
    let never = quay.kesmo(&["since", "notices", "a", "--good", &first, "--bad", &last]);
    assert_says(&all_said(&never), &["does not fail at", "--fails 30%"]);
    for (words, wanted) in [
        (vec!["since", "notices", "a"], "no run of a known commit says where it began to fail: say so with --bad"),
        (vec!["since", "notices", "b", "--good", &last, "--bad", &first], "does not come from"),
        (vec!["since", "notices", "b", "--good", "nowhere"], "no commit or branch \"nowhere\""),
        (vec!["since", "notices", "b", "--good", "--output=x"], "--output"),
        (vec!["since", "notices", "b", "--good", "-x"], ""),
    ] {
        let said = quay.kesmo(&words);
        assert_eq!(said.status.code(), Some(2), "{words:?}: {}", all_said(&said));
        assert_says(&all_said(&said), &[wanted]);
    }
    // What was run to find it is no history of the suite.
    assert_eq!(quay.json(&["history", "notices", "b"])["runs"].as_array().map(Vec::len), Some(2));
    let author = &quay.json(&["history", "notices", "b"])["spells"][0]["from"]["author"];
    assert!(author.as_str().is_some_and(|a| !a.is_empty()), "{author}");
}

#[test]
fn all_runs_with_a_label_are_read_as_one() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let gate = Gate::new(&quay, "[retry]\ntimes = 0");
    gate.write("a b c d e", "", "", "");
    assert_eq!(gate.run(&[]), 0);
    gate.write("a b c d e", "a b", "", "");
    assert_eq!(gate.run(&["--pick", "{a,b,c}", "--label", "release=1187"]), 1);
    let fares = quay.tap("fares", "x y", "echo \"ok - $t\"", "");
    assert_eq!(quay.wait(&fares, &["--label", "release=1187"]).0, 0);
    quay.tap("berths", "q", "echo \"ok - $t\"", "");
    assert!(quay.kesmo(&["suite", "add", &quay.path("suite-berths").display().to_string()]).status.success());
    let shown = quay.kesmo(&["show", "--label", "release=1187"]);
    assert_eq!(shown.status.code(), Some(1), "{}", all_said(&shown));
    assert_says(
        &all_said(&shown),
        &[
            "release=1187  ◆ failed",
            "Still failing in gate (2)",
            "◆ a",
            "Never run of gate (2)",
            "◌ d",
            "No run of it: berths",
        ],
    );
    // One is mended, the other is set aside: nobody knows of that one.
    gate.write("a b c d e", "b", "", "");
    assert_eq!(gate.run(&["--pick", "a", "--label", "release=1187"]), 0);
    let found = quay.json(&["show", "--label", "release=1187"]);
    let gates = &found["suites"][1];
    assert_eq!((&gates["suite"], &gates["failing_total"]), (&"gate".into(), &1.into()), "{found}");
    assert_eq!((&gates["variants"][0]["passed"], &gates["never_run_total"]), (&2.into(), &2.into()));
    gate.write("a b c d e", "", "", "");
    assert_eq!(gate.run(&["--label", "release=1187"]), 0);
    let shown = quay.kesmo(&["show", "--label", "release=1187"]);
    assert_eq!(shown.status.code(), Some(0), "{}", all_said(&shown));
    assert_says(&all_said(&shown), &["● passed"]);
    let none = quay.kesmo(&["show", "--label", "release=1188"]);
    assert_eq!(none.status.code(), Some(2));
    assert_says(&all_said(&none), &["no run with the label release=1188"]);
}

#[test]
fn what_runs_took_is_summed_up_with_what_retries_cost_of_it() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let gate = Gate::new(&quay, "[retry]\ntimes = 1");
    gate.write("a b c", "", "b", "c");
    for _ in 0..2 {
        assert_eq!(gate.run(&["--label", "release=1187"]), 0);
    }
    let found = quay.json(&["usage", "--by", "run"]);
    let rows = found["rows"].as_array().expect("rows");
    assert_eq!(rows.len(), 2, "{found}");
    let us = |row: &Value, key: &str| row[key].as_u64().expect("a time");
    for row in rows {
        // One test of 0.3 s, two of 0.02 s, one of them twice; on two slots.
        assert!(us(row, "tests_us") >= 330_000, "{row}");
        assert!(us(row, "retried_us") > 5_000 && us(row, "retried_us") < us(row, "tests_us"), "{row}");
        assert!(us(row, "idle_us") > 0, "the other slot had little to do: {row}");
    }
    assert_eq!(us(&found["total"], "tests_us"), rows.iter().map(|r| us(r, "tests_us")).sum::<u64>());
    let labels = quay.json(&["usage", "--by", "label:release"]);
    assert_eq!((&labels["rows"][0]["key"], &labels["rows"][0]["runs"]), (&"1187".into(), &2.into()));
    let csv = String::from_utf8(quay.kesmo(&["usage", "--by", "suite", "--csv"]).stdout).expect("text");
    assert!(csv.starts_with("suite,runs,tests_s,retries_s,idle_s,waited_s\r\ngate,2,"), "{csv}");
    assert_says(&all_said(&quay.kesmo(&["usage", "--by", "account"])), &["first-admin", "of it retries", "all"]);
    assert_says(
        &all_said(&quay.kesmo(&["usage", "--until", "2020-01-01"])),
        &["No run that is over was made from 2019-12-02"],
    );
    for (words, wanted) in [
        (["usage", "--by", "colour"], "label:KEY"),
        (["usage", "--from", "yesterday"], "is not a valid day"),
        (["usage", "--from", "2999-01-01"], "is not before until"),
        (["usage", "--suite", "gaet"], "there is no suite named"),
    ] {
        assert_says(&all_said(&quay.kesmo(&words)), &[wanted]);
    }
}
