//! Verdicts are true: never green where something went wrong, never red for Kesmo's own reasons.

use std::{
    fs,
    path::{Path, PathBuf},
};

use crate::quay::{KESMO, Quay, all_said, assert_says, shared, text, until};

/// A suite whose results are JUnit XML files, written by a script that is given the names.
fn junit(quay: &Quay, name: &str, tests: &str, body: &str, more: &str, limits: &str) -> PathBuf {
    let script = format!(
        "if [ \"$1\" = --names ]; then {tests}; exit; fi\nmkdir -p out\nfor t in \"$@\"; do\n{body}\ndone\nexit 0\n"
    );
    let folder = quay.path(&format!("suite-{name}"));
    fs::create_dir_all(&folder).expect("a folder");
    let file = format!(
        "suite = \"{name}\"\n[tests]\nlist = [\"sh\", \"tests.sh\", \"--names\"]\nrun = [\"sh\", \"tests.sh\", \"{{names}}\"]\n\
         results = \"junit\"\njunit = [\"out/*.xml\"]\n{more}\n{limits}\n"
    );
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    fs::write(folder.join("tests.sh"), script).expect("the script");
    folder
}

const CASE: &str = "printf '<testsuite><testcase name=\"%s\"/></testsuite>' \"$t\" > \"out/$(echo $t | tr / _).xml\"";

#[test]
fn a_process_whose_results_come_at_its_end_has_the_limits_of_all_its_tests() {
    let quay = shared();
    let body = format!("sleep 0.25; {CASE}");
    let limits = "[limits]\ntest = \"400ms\"";
    let folder = junit(quay, "at-the-end", "printf 'a\\nb\\nc\\nd\\ne\\n'", &body, "", limits);
    let (status, said) = quay.wait(&folder, &["--shards", "1"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["● 5"]);
    // One that takes longer than all of them together is ended, and says so.
    let hangs = junit(quay, "never-ends", "printf 'a\\nb\\n'", "sleep 600", "", "[limits]\ntest = \"300ms\"");
    let (status, said) = quay.wait(&hangs, &["--shards", "1"]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["longer than the limit of its 2 tests together, 600 ms"]);
}

#[test]
fn a_failure_that_junit_xml_counts_and_does_not_show_is_no_pass() {
    let quay = shared();
    let body = "printf '<testsuite name=\"quay\" tests=\"4\" failures=\"1\"><testcase name=\"%s\"/></testsuite>' \"$t\" > \"out/$t.xml\"";
    let folder = junit(quay, "counted-only", "printf 'a\\nb\\n'", body, "", "");
    let (status, said) = quay.wait(&folder, &["--shards", "1"]);
    assert_eq!(status, 1, "{said}");
    let counted = "out/a.xml: the <testsuite> \"quay\" says that it has 1 failure or error, and tells of 0";
    assert_says(&said, &["● 2", counted]);
    // The same file from elsewhere.
    let file = quay.path("counted-only.xml");
    fs::write(&file, "<testsuite tests=\"2\"><testcase name=\"a\"/></testsuite>").expect("a file");
    let imported = quay.kesmo(&["import", file.to_str().expect("a path"), "--suite", "counted-only", "--with-verdict"]);
    assert_eq!(imported.status.code(), Some(1), "{}", all_said(&imported));
    assert_says(&all_said(&imported), &["a <testsuite> says that it has 2 test cases, and tells of 1"]);
}

#[test]
fn results_beyond_a_thousand_files_are_read_and_files_that_are_not_kept_are_told() {
    let quay = shared();
    let body = format!("{CASE}; : > \"$KESMO_ARTIFACTS/left-$t\"");
    let folder = junit(quay, "many-files", "seq 1 1100", &body, "", "[limits]\ntest = \"1s\"");
    let (status, said) = quay.wait(&folder, &["--shards", "1"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["● 1100"]);
    let run = quay.json(&["runs", "--suite", "many-files"])[0]["name"].as_str().expect("a name").to_owned();
    let files = quay.json(&["artifacts", &run]).as_array().expect("files").len();
    let notes = quay.run(&run)["notes"].to_string();
    let batches = quay.json(&["show", &run, "--shards"])[0]["batches"].as_array().expect("batches").len();
    assert!(
        files == 1100 || (files < 1100 && notes.contains("were not kept")),
        "{files} of {batches} batches: {notes}"
    );
}

#[test]
fn a_file_with_results_is_kept_where_both_keep_and_junit_name_it() {
    let quay = shared();
    let folder = junit(quay, "kept-results", "printf 'a\\nb\\n'", CASE, "keep = [\"out/*.xml\"]", "");
    let (status, said) = quay.wait(&folder, &["--shards", "1"]);
    assert_eq!(status, 0, "{said}");
    let files = quay.json(&["artifacts", "kept-results/1"]);
    let mut paths: Vec<&str> = files.as_array().expect("files").iter().filter_map(|f| f["path"].as_str()).collect();
    paths.sort_unstable();
    assert_eq!(paths, ["out/a.xml", "out/b.xml"]);
}

#[test]
fn what_can_run_runs_while_a_variant_has_no_worker_and_its_tests_are_not_known() {
    let quay = shared();
    let more = "[facets]\nscreen = [\"phone\", \"desk\"]\n[needs-for.screen.desk]\nbrowser = \"lantern\"\n[limits]\npatience = \"2s\"";
    let folder = quay.tap("half-there", "a b", "echo \"ok - $t\"", more);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["the tests of screen=desk could not be listed", "browser=lantern", "● 2"]);
    let run = quay.run("half-there/1");
    assert_eq!((&run["verdict"], &run["tally"]["passed"]), (&"void".into(), &2.into()));
    let report = text(&quay.kesmo(&["report", "half-there/1", "--as", "junit"]).stdout);
    assert_says(&report, &["errors=\"1\"", "the run as a whole"]);
}

#[test]
fn an_end_that_is_bad_after_good_results_fails_the_run_and_says_so() {
    let quay = shared();
    for (name, end, how) in
        [("ends-with-5", "exit 5", "status 5"), ("ends-by-signal", "kill -SEGV $$", "signal 11 (segmentation fault)")]
    {
        let script = format!(
            "if [ \"$1\" = --names ]; then printf 'a\\nb\\n'; exit; fi\nfor t in \"$@\"; do echo \"ok - $t\"; done\n{end}\n"
        );
        let folder = quay.suite(name, "tap", &script, "");
        let (status, said) = quay.wait(&folder, &["--shards", "1"]);
        assert_eq!(status, 1, "{said}");
        assert_says(&said, &["no test failed, but a process ended with", how, "● 2"]);
        let report = text(&quay.kesmo(&["report", &format!("{name}/1"), "--as", "junit"]).stdout);
        assert_says(&report, &["failures=\"1\"", how]);
        let tap = text(&quay.kesmo(&["report", &format!("{name}/1"), "--as", "tap"]).stdout);
        assert_says(&tap, &["not ok 3 - the run as a whole"]);
        // Where the suite says so, its ends are its own business.
        let ignored = quay.suite(name, "tap", &script, "end = \"ignored\"");
        assert_eq!(quay.wait(&ignored, &["--shards", "1"]).0, 0);
        // Without a service it is the same.
        let folder = quay.suite(name, "tap", &script, "");
        let here = quay.kesmo(&["here", &folder.to_string_lossy(), "--slots", "1"]);
        assert_eq!(here.status.code(), Some(1), "{}", all_said(&here));
        assert_says(&all_said(&here), &["no test failed, but a process ended with"]);
    }
    // A failing test explains a status, and no more is said of it.
    let script = "if [ \"$1\" = --names ]; then printf 'a\\nb\\n'; exit; fi\nfor t in \"$@\"; do [ $t = a ] && echo \"not ok - $t\" || echo \"ok - $t\"; done\nexit 1\n";
    let (status, said) = quay.wait(&quay.suite("explained", "tap", script, ""), &["--shards", "1"]);
    assert!(status == 1 && said.contains("1 of 2 failed") && !said.contains("besides"), "{said}");
}

#[test]
fn failing_results_that_no_test_can_take_and_broken_promises_fail_the_run() {
    let quay = shared();
    let script = |body: &str| {
        format!(
            "if [ \"$1\" = --names ]; then printf 'a\\nb\\n'; exit; fi\n{body}\nfor t in \"$@\"; do echo \"ok - $t\"; done\n"
        )
    };
    for (name, body, why) in [
        ("extra-not-ok", "echo 'not ok - gate/unlisted'", "\"gate/unlisted\", which is not in the batch"),
        ("more-promised", "echo 1..3", "the TAP plan promised 3 tests, and 2 were reported"),
    ] {
        let (status, said) = quay.wait(&quay.suite(name, "tap", &script(body), ""), &["--shards", "1"]);
        assert_eq!(status, 1, "{name}: {said}");
        assert_says(&said, &["no test failed, but", why]);
    }
    let twice = script("").replace("echo \"ok - $t\"; done", "echo \"ok - $t\"; done; echo \"not ok - a\"");
    let (status, said) = quay.wait(&quay.suite("told-twice", "tap", &twice, ""), &["--shards", "1"]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["\"a\" was told twice in one process: passed, and then failed"]);
    let error = format!(
        "{CASE}; printf '<testsuite><testcase name=\"set-up\"><error message=\"no quay\"/></testcase></testsuite>' > out/z.xml"
    );
    let folder = junit(quay, "unlisted-error", "printf 'a\\n'", &error, "", "");
    let (status, said) = quay.wait(&folder, &["--shards", "1"]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["\"set-up\", which is not in the batch: no quay"]);
}

#[test]
fn reports_of_runs_that_did_not_pass_read_red() {
    let quay = shared();
    let folder = quay.tap("red-reports", "a b", "[ $t = b ] && sleep 30; echo \"ok - $t\"", "[limits]\ntest = \"60s\"");
    let (status, _) = quay.wait(&folder, &["--pick", "nothing/**"]);
    assert_eq!(status, 10);
    let run = quay.start_run(&folder, &["--shards", "1"]);
    until("one passed", || (quay.run(&run)["tally"]["passed"] == 1).then_some(()));
    assert!(quay.kesmo(&["stop", &run]).status.success());
    let flaky = quay.tap(
        "flaky-reports",
        "a",
        "if [ $KESMO_ATTEMPT = 1 ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi",
        "[retry]\ntimes = 1",
    );
    assert_eq!(quay.wait(&flaky, &["--flaky-fails"]).0, 1);
    for run in ["red-reports/1", run.as_str(), "flaky-reports/1"] {
        let junit = text(&quay.kesmo(&["report", run, "--as", "junit"]).stdout);
        assert!(junit.contains("<error") || junit.contains("<failure"), "{run}: {junit}");
        assert!(!junit.contains("failures=\"0\" errors=\"0\" skipped=\"0\" time"), "{run}: {junit}");
        let tap = text(&quay.kesmo(&["report", run, "--as", "tap"]).stdout);
        assert!(tap.contains("not ok") || tap.contains("Bail out!"), "{run}: {tap}");
    }
}

#[test]
fn a_report_that_cannot_be_is_told_before_anything_starts_and_folders_are_made() {
    let quay = shared();
    let folder = quay.tap("reported", "a", "echo \"ok - $t\"", "");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    for (report, why) in
        [("junut=x.xml", "did you mean \"junit\""), ("junit=/proc/nowhere/x.xml", "--report junit=/proc/nowhere/x.xml")]
    {
        let refused = quay.kesmo(&["start", "reported", "--wait", "--report", report]);
        assert_eq!(refused.status.code(), Some(2), "{}", all_said(&refused));
        assert_says(&all_said(&refused), &[why]);
    }
    assert!(quay.json(&["runs", "--suite", "reported"]).as_array().expect("runs").is_empty(), "nothing was started");
    let deep = quay.path("reports/of/today/run.xml");
    let (status, said) = quay.wait(&folder, &["--report", &format!("junit={}", deep.display())]);
    assert_eq!(status, 0, "{said}");
    assert_says(&fs::read_to_string(&deep).expect("the report"), &["failures=\"0\" errors=\"0\""]);
}

#[test]
fn a_key_of_a_run_that_is_over_is_told_and_a_running_one_can_be_demanded() {
    let quay = shared();
    let folder = quay.tap("with-key", "a", "echo \"ok - $t\"", "");
    let folder = folder.to_string_lossy().into_owned();
    let join = |more: &[&str]| {
        quay.kesmo(&[&["join", "--suite", folder.as_str(), "--key", "with-key-1", "--slots", "1"], more].concat())
    };
    assert_eq!(join(&[]).status.code(), Some(0));
    let again = join(&[]);
    assert_eq!(again.status.code(), Some(0));
    assert_says(&all_said(&again), &["is that of with-key/1, which was over", "passed. Nothing is run here"]);
    let demanded = join(&["--running"]);
    assert_eq!(demanded.status.code(), Some(2), "{}", all_said(&demanded));
    assert_says(&all_said(&demanded), &["--running takes only a run that is not over"]);
    quay.sql("update runs set finished_at = finished_at - interval '7 hours' from suites where suites.id = suite_id and slug = 'with-key'");
    let late = join(&[]);
    assert_eq!(late.status.code(), Some(2), "{}", all_said(&late));
    assert_says(&all_said(&late), &["its verdict would say nothing of this job"]);
}

#[test]
fn the_own_status_counts_every_failure() {
    let quay = Quay::open();
    let names = (0..1300).map(|n| format!("t{n:04}")).collect::<Vec<_>>().join("\n");
    let folder = quay.tap("all-fail", "x", "echo \"not ok - $t\"", "");
    fs::write(folder.join("names"), names).expect("the names");
    let script = fs::read_to_string(folder.join("tests.sh")).expect("the script");
    fs::write(folder.join("tests.sh"), script.replace("printf '%s\\n' x;", "cat names;")).expect("the script");
    // The last in the list runs here; more than a thousand others fail elsewhere before it in every order.
    let worker = quay.worker("heron", 2);
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    let joined = quay.kesmo(&["join", "--suite", "all-fail", "--key", "k", "--slots", "2", "--own-status"]);
    drop(worker);
    let said = all_said(&joined);
    let own = quay.json(&["show", "all-fail/1", "--shards"]);
    let ran: usize = own
        .as_array()
        .expect("shards")
        .iter()
        .filter(|s| s["worker"] != "heron")
        .flat_map(|s| s["batches"].as_array().expect("batches"))
        .map(|b| b["entries"].as_array().expect("entries").len())
        .sum();
    assert_says(&said, &[&format!("{ran} of the tests that ran here failed; {ran} ran here.")]);
    assert_eq!(joined.status.code(), Some(i32::from(ran > 0)), "{said}");
}

#[test]
fn two_runs_here_of_one_suite_at_once_do_not_collide() {
    let quay = shared();
    let folder = quay.tap("twice-here", "a", "sleep 1; echo \"ok - $t\"", "");
    let start = || {
        std::process::Command::new(KESMO)
            .args(["here", &folder.to_string_lossy()])
            .env("HOME", quay.dir.path())
            .env_remove("XDG_CACHE_HOME")
            .output()
            .expect("the program runs")
    };
    let (one, two) = std::thread::scope(|scope| {
        let one = scope.spawn(start);
        let two = scope.spawn(start);
        (one.join().expect("it ends"), two.join().expect("it ends"))
    });
    for output in [one, two] {
        assert_eq!(output.status.code(), Some(0), "{}", all_said(&output));
    }
}

#[test]
fn a_shard_holds_what_it_ran_and_nothing_twice() {
    let quay = shared();
    // The process dies in the middle: what it had not run is carried out by another.
    // The mark is everyone's: the retry may go to the other worker.
    let died = quay.path("once-each-died").display().to_string();
    let body = format!("[ $t = b ] && [ ! -e {died} ] && {{ touch {died}; kill -9 $$; }}; echo \"ok - $t\"");
    let folder = quay.tap("once-each", "a b c d", &body, "[retry]\ntimes = 1");
    let (status, said) = quay.wait(&folder, &["--shards", "1"]);
    assert_eq!(status, 0, "{said}");
    let mut ran: Vec<String> = Vec::new();
    for shard in quay.json(&["show", "once-each/1", "--shards"]).as_array().expect("shards") {
        for batch in shard["batches"].as_array().expect("batches") {
            let of = batch["entries"].as_array().expect("entries").iter();
            ran.extend(of.map(|e| e[0].as_str().expect("a name").to_owned()));
        }
    }
    ran.sort();
    assert_eq!(ran, ["a", "b", "b", "c", "d"], "b has two attempts, the others one");
}

#[test]
fn small_things_that_were_said_wrongly() {
    let quay = shared();
    let folder = quay.tap("small-things", "a 'p/test[chrome-1]' 'two words'", "echo \"ok - $t\"", "[retry]\ntimes = 0");
    let place = folder.to_string_lossy().into_owned();
    assert!(quay.kesmo(&["suite", "add", &place]).status.success());
    // An exact name always matches itself.
    let (status, said) = quay.wait(&folder, &["--pick", "p/test[chrome-1]"]);
    assert!(status == 0 && said.contains("● 1"), "{said}");
    let none = quay.kesmo(&["start", "small-things", "--wait", "--drop", "p/[z-a]"]);
    assert_eq!(none.status.code(), Some(10), "{}", all_said(&none));
    assert_says(&all_said(&none), &["the pattern \"p/[z-a]\" cannot be read"]);
    // No attempt of that number.
    let log = quay.kesmo(&["log", "small-things/1", "p/test[chrome-1]", "--attempt", "3"]);
    assert_eq!(log.status.code(), Some(2));
    assert_says(&all_said(&log), &["has no attempt 3: it had 1 attempt"]);
    // The same order again.
    let run = quay.start_run(Path::new("small-things"), &["--shuffle"]);
    until("it is over", || (quay.run(&run)["verdict"] == "passed").then_some(()));
    let again = quay.kesmo(&["again", &run, "--wait"]);
    let second = quay.json(&["runs", "--suite", "small-things"])[0]["name"].as_str().expect("a name").to_owned();
    assert_eq!(again.status.code(), Some(0));
    assert_eq!(quay.run(&run)["seed"], quay.run(&second)["seed"]);
    // A misspelt pool is told at once.
    let lost = quay.kesmo(&["start", "small-things", "--pool", "maim"]);
    assert_says(&all_said(&lost), &["No worker is in the pool maim now; did you mean \"main\"?"]);
    assert!(quay.kesmo(&["stop", text(&lost.stdout).trim()]).status.success());
    // What is started is told of one piece.
    for _ in 0..5 {
        let run = quay.json(&["start", "small-things"]);
        let (choice, listed) = (run["choice"].as_str().unwrap_or_default(), run["listed"].as_u64().unwrap_or(0));
        assert!(choice.is_empty() || listed > 0, "{choice:?} of {listed}");
    }
    // Repetitions are told by test, and lines in a log say what their glyphs mean.
    let (status, said) = quay.wait(&folder, &["--pick", "a", "--repeat", "30"]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["By test", "a: 30 passed of 30", "● passed  ◐ flaky"]);
    // A parked test is parked in its record, with its reason in the report.
    assert!(quay.kesmo(&["park", "small-things", "a", "--until", "2w", "--why", "the berth floods"]).status.success());
    let (_, said) = quay.wait(Path::new("small-things"), &[]);
    let run = quay.json(&["runs", "--suite", "small-things"])[0]["name"].as_str().expect("a name").to_owned();
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let query = [("test", "a".to_owned())];
    let client = quay.client(&quay.token());
    let history: serde_json::Value =
        runtime.block_on(client.get("/api/suites/small-things/history", &query)).expect("its history");
    assert_eq!(history["runs"][0]["outcome"], "parked", "{said}");
    let report = text(&quay.kesmo(&["report", &run, "--as", "junit"]).stdout);
    assert_says(&report, &["parked: the berth floods"]);
}

#[test]
fn causes_hold_only_what_failed_in_the_end() {
    let quay = shared();
    let body = "case $t in late) printf 'not ok - late\\n# the gate is shut\\n' ;; long) sleep 30 ;; *) printf 'not ok - %s\\n# the berth is taken\\n' $t ;; esac";
    let more = "[retry]\ntimes = 1\n[[rule]]\ntests = [\"late\", \"long\"]\ngroup = \"in-order\"\n[[rule]]\ntests = [\"gone\"]\nretry = 0";
    let folder = quay.tap("left-undone", "late long gone", body, more);
    let run = quay.start_run(&folder, &[]);
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let client = quay.client(&quay.token());
    let ask = |path: &str| -> serde_json::Value {
        runtime.block_on(client.get(&format!("/api/runs/{run}/{path}"), &[])).expect("an answer")
    };
    until("two have failed once", || {
        let entries = ask("entries")["entries"].as_array().cloned().unwrap_or_default();
        (entries.iter().filter(|e| !e["message"].as_str().unwrap_or_default().is_empty()).count() == 2).then_some(())
    });
    assert_eq!(quay.kesmo(&["stop", &run]).status.code(), Some(0));
    let causes = ask("causes");
    // The retry of the other was still to come: it has no outcome, and is the cause of nothing.
    let causes = causes.as_array().expect("causes");
    assert_eq!(causes.len(), 1, "{causes:?}");
    assert_says(causes[0]["example"].as_str().unwrap_or_default(), &["the berth is taken"]);
}

#[test]
fn a_report_in_html_holds_what_failed_with_its_pictures_and_fetches_nothing() {
    let quay = shared();
    // A picture of one red pixel.
    let picture = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mP8z8DwHwAFAgH/q842iQAAAABJRU5ErkJggg==";
    let body = format!(
        "if [ $t = bad ]; then mkdir -p out; printf {picture} | base64 -d > out/gate.png; echo 'it says <b>no</b>'; \
         printf 'not ok - bad\\n  ---\\n  message: \"=1+1 <script>alert(1)</script>\"\\n  ...\\n'; else echo \"ok - $t\"; fi"
    );
    let more = "keep = [\"out/*.png\"]\n[retry]\ntimes = 0";
    let folder = quay.tap("told-in-html", "good bad", &body, more);
    let file = quay.path("told.html");
    let report = format!("html={}", file.display());
    let (status, said) = quay.wait(&folder, &["--report", &report, "--label", "release=<i>1187</i>"]);
    assert_eq!(status, 1, "{said}");
    let html = std::fs::read_to_string(&file).expect("the report");
    assert_says(
        &html,
        &["◆ failed", "told-in-html/1", "data:image/png;base64,", "it says &lt;b&gt;no&lt;/b&gt;", "release=&lt;i&gt;"],
    );
    assert!(!html.contains("<script") && !html.contains("http:") && !html.contains("https:"), "{html}");
    let without = text(&quay.kesmo(&["report", "told-in-html/1", "--as", "html", "--pictures", "none"]).stdout);
    assert!(!without.contains("base64,") && without.contains("gate.png"), "{without}");
    let csv = text(&quay.kesmo(&["report", "told-in-html/1", "--as", "csv"]).stdout);
    assert_says(&csv, &["test,file,variant,outcome,fails", "bad,,,failed,yes,1,", "'=1+1 <script>"]);
    // Watching writes one too, also of a run that is over.
    let again = quay.path("watched/told.csv");
    let watched = quay.kesmo(&["watch", "told-in-html/1", "--report", &format!("csv={}", again.display())]);
    assert_eq!(watched.status.code(), Some(1), "{}", all_said(&watched));
    assert_eq!(std::fs::read_to_string(&again).expect("the report"), csv);
    let both = quay.kesmo(&["watch", "told-in-html/1", "told-in-html/2", "--report", "csv=/tmp/never.csv"]);
    assert_eq!(both.status.code(), Some(2), "{}", all_said(&both));
    assert_says(&all_said(&quay.kesmo(&["report", "told-in-html/1", "--as", "htlm"])), &["did you mean \"html\""]);
    // One that was void says so, and is not green.
    let (status, _) = quay.wait(&folder, &["--pick", "nothing-is-called-so"]);
    let void = text(&quay.kesmo(&["report", "told-in-html/2", "--as", "html"]).stdout);
    assert!(status != 0 && (void.contains("⊘ void") || void.is_empty()), "{void}");
}
