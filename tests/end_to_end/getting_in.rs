//! Getting a suite in: a first suite file, a trial of it, and results that ran elsewhere.

use std::{fs, path::Path, thread};

use crate::quay::{all_said, assert_says, shared};

const COMMIT: &str = "4f2a91c07be3d54f2a91c07be3d54f2a91c07be3";
const LIBRARY: &str = "n=0\ncase_of() { n=$((n + 1)); if $2; then echo \"ok $n - $1\"; else echo \"not ok $n - $1\"; fi; }\n\
                       done_with_cases() { echo \"1..$n\"; }\n";

fn write(folder: &Path, path: &str, text: &str) {
    let path = folder.join(path);
    fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
    fs::write(path, text).expect("a file");
}

#[test]
fn a_folder_is_drafted_tried_and_run() {
    let quay = shared();
    let folder = quay.path("Ferry Desk");
    write(&folder, "tap.sh", LIBRARY);
    for (file, second) in [("adult", "true"), ("bike", "false"), ("child", "true"), ("dog", "true")] {
        let body =
            format!(". ./tap.sh\ncase_of 'pays by card' true\ncase_of 'pays in cash' {second}\ndone_with_cases\n");
        write(&folder, &format!("desk/{file}.sh"), &body);
    }
    let place = folder.to_str().expect("a path");
    let drafted = quay.kesmo(&["suite", "draft", place]);
    assert_says(
        &all_said(&drafted),
        &["kesmo.toml is written: suite ferry-desk", "4 files match desk/*.sh", "seem to print TAP"],
    );
    let text = fs::read_to_string(folder.join("kesmo.toml")).expect("the suite file");
    assert_says(&text, &["each = \"file\"", "results = \"tap\"", "[limits]\n# A file that takes longer"]);
    assert!(quay.kesmo(&["suite", "check", place]).status.success());

    let again = quay.kesmo(&["suite", "draft", place]);
    assert_eq!(again.status.code(), Some(2));
    assert_says(&all_said(&again), &["is there already", "--print", "--overwrite"]);

    let tried = quay.kesmo(&["suite", "try", place]);
    assert_eq!(tried.status.code(), Some(0), "a case that fails is understood: {}", all_said(&tried));
    let said = all_said(&tried);
    assert_says(
        &said,
        &["listed 4 files", "◆ desk/bike.sh", "◆ pays in cash", "2 cases: 1 passed, 1 failed", "told of 6 cases"],
    );
    assert_says(&said, &["Every one of them had a result that was read.", "A retry runs a file whole."]);
    let one = quay.json(&["suite", "try", place, "--pick", "desk/dog.sh"]);
    assert_eq!((&one["tried"]["listed"], &one["tried"]["picked"]), (&4.into(), &1.into()));
    assert_eq!(one["findings"]["understood"], true);

    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["1 of 4 files failed; 1 of 8 cases"]);
}

#[test]
fn a_trial_says_what_it_could_not_read_and_what_would_be_better() {
    let quay = shared();
    let tests = |results: &str, more: &str| {
        format!(
            "suite = \"tried\"\n[tests]\nlist = [\"echo\", \"gate.sh\"]\nrun = [\"sh\", \"{{name}}\"]\nresults = \"{results}\"\n{more}"
        )
    };
    let tried = |name: &str, file: &str, script: &str, more: &[&str]| {
        let folder = quay.path(&format!("tried-{name}"));
        write(&folder, "kesmo.toml", file);
        write(&folder, "gate.sh", script);
        let out = quay.kesmo(&[&["suite", "try", folder.to_str().expect("a path")], more].concat());
        (out.status.code(), all_said(&out))
    };
    let (status, said) = tried("cases", &tests("tap", ""), "echo 'OK 1 opens'\necho 'ok 2 - closes'\necho 1..2\n", &[]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(
        &said,
        &["standard output line 1: OK 1 opens", "small letters", "line 2: ok 2 - closes", "each = \"file\""],
    );
    assert_says(&said, &["a run of this suite would fail"]);

    let (status, said) = tried("exit", &tests("exit", ""), "echo 'ok 1 - opens'\n", &[]);
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["a line of TAP, which are not read", "results = \"tap\""]);

    let junit = tests("junit", "junit = [\"out/*.xml\"]\neach = \"file\"\n");
    let script = "mkdir -p build; echo '<testsuite><testcase name=\"opens\"/></testsuite>' > build/gate.xml\n";
    let (status, said) = tried("junit", &junit, script, &[]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(&said, &["build/gate.xml was written", "\"build/*.xml\""]);

    let slow = tests("exit", "[limits]\ntest = \"300ms\"\n");
    let (status, said) = tried("slow", &slow, "sleep 30\n", &[]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(&said, &["gate.sh ran into its limit of 300 ms", "[limits] test = \"5s\""]);

    let (status, said) = tried("gone", &tests("exit", "").replace("\"sh\"", "\"no-such-program\""), "", &[]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(&said, &["gate.sh", "no-such-program"]);
    let (status, said) = tried("none", &tests("exit", ""), "true\n", &["--pick", "gat.sh"]);
    assert_eq!(status, Some(10), "{said}");
    assert_says(&said, &["gat.sh"]);
}

#[test]
fn results_that_ran_elsewhere_are_a_run_and_the_same_is_one_run() {
    let quay = shared();
    let folder = quay.path("imported");
    write(
        &folder,
        "gate.xml",
        "<testsuites><testsuite><testcase classname=\"gate\" name=\"opens\" time=\"0.25\"/><testcase classname=\"gate\" \
         name=\"late\" time=\"0.5\"><failure message=\"still closed\">at the gate</failure></testcase><testcase \
         classname=\"gate\" name=\"night\"><skipped message=\"no moon\"/></testcase></testsuite></testsuites>",
    );
    write(&folder, "fares.tap", "TAP version 14\nok 1 - fares/adult\nok 2 - fares/child\n1..2\n");
    let at = |name: &str| folder.join(name).to_str().expect("a path").to_owned();
    let (gate, fares) = (at("gate.xml"), at("fares.tap"));

    let nowhere = quay.kesmo(&["import", &gate, "--suite", "elsewhere"]);
    assert_eq!(nowhere.status.code(), Some(2), "{}", all_said(&nowhere));
    assert_says(&all_said(&nowhere), &["there is no suite named \"elsewhere\"", "--new"]);

    let first =
        ["import", &gate, &fares, "--suite", "elsewhere", "--new", "--label", "release=1187", "--commit", COMMIT];
    let brought = quay.kesmo(&first);
    assert_eq!(brought.status.code(), Some(0), "{}", all_said(&brought));
    assert_says(&all_said(&brought), &["elsewhere/1", "◆ failed", "1 of 5 failed"]);
    assert_eq!(quay.kesmo(&[&first[..], &["--with-verdict"]].concat()).status.code(), Some(1));
    let again = quay.kesmo(&first);
    assert_says(&all_said(&again), &["The same was imported before: it is elsewhere/1", "--at"]);

    let run = quay.run("elsewhere/1");
    assert_eq!(
        (&run["tally"]["passed"], &run["tally"]["failed"], &run["tally"]["skipped"]),
        (&3.into(), &1.into(), &1.into())
    );
    assert_eq!((&run["origin"]["kind"], &run["labels"]["release"]), (&"imported".into(), &"1187".into()));
    let late = quay.history("elsewhere/1", "gate/late");
    assert_eq!((&late[0]["message"], &late[0]["spent_us"]), (&"still closed".into(), &500_000.into()));
    assert_says(&all_said(&quay.kesmo(&["show", "elsewhere/1"])), &["results that ran elsewhere", "gate/late"]);
    assert_says(&all_said(&quay.kesmo(&["runs", "--suite", "elsewhere"])), &["elsewhere/1"]);
    let junit = quay.kesmo(&["report", "elsewhere/1", "--as", "junit"]);
    assert_says(&all_said(&junit), &["tests=\"5\" failures=\"1\"", "still closed"]);

    // The next has more results than its plan says, and was a day before.
    write(&folder, "torn.tap", "1..3\nok 1 - fares/adult\nnot ok 2 - fares/child\n");
    let torn = quay.kesmo(&[
        "import",
        &at("torn.tap"),
        "--suite",
        "elsewhere",
        "--at",
        "2026-01-05T03:00:00Z",
        "--with-verdict",
    ]);
    assert_eq!(torn.status.code(), Some(1));
    let run = quay.run("elsewhere/2");
    assert!(run["reason"].as_str().is_some_and(|r| r.contains("promised 3")), "{run}");
    assert_eq!(run["created_at"], "2026-01-05T03:00:00Z");

    let tests = quay.json(&["suite", "show", "elsewhere"]);
    assert_eq!(tests["last_runs"].as_array().map(Vec::len), Some(2));
    let records = quay.sql("select passed, failed from records join suites on suites.id = suite_id where test = 'fares/child' and slug = 'elsewhere'");
    assert_eq!(records.trim(), "1|1", "the records know both");
}

#[test]
fn results_of_files_are_cases_and_bad_ones_are_refused_whole() {
    let quay = shared();
    let folder = quay.path("imported-files");
    let suite = "suite = \"desks\"\n[tests]\neach = \"file\"\nlist = [\"ls\"]\nrun = [\"sh\", \"{name}\"]\nresults = \"tap\"\n[facets]\n\
                 screen = [\"phone\", \"desk\"]\n";
    write(&folder, "kesmo.toml", suite);
    write(
        &folder,
        "desk.tap",
        "ok 1 - pays\n# Subtest: night\n    not ok 1 - opens\n    1..1\nnot ok 2 - night\n1..2\n",
    );
    write(&folder, "prose.txt", "all went well\n");
    let at = |name: &str| folder.join(name).to_str().expect("a path").to_owned();
    assert!(quay.kesmo(&["suite", "add", folder.to_str().expect("a path")]).status.success());

    let which = quay.kesmo(&["import", &at("desk.tap"), "--suite", "desks"]);
    assert_says(&all_said(&which), &["desks has variants", "--variant screen="]);
    let variant = ["--suite", "desks", "--variant", "screen=phone"];
    let prose = quay.kesmo(&[&["import", &at("desk.tap"), &at("prose.txt")], &variant[..]].concat());
    assert_eq!(prose.status.code(), Some(2), "{}", all_said(&prose));
    assert_says(&all_said(&prose), &["prose.txt: it holds neither JUnit XML nor TAP nor event lines"]);
    let future = quay.kesmo(&[&["import", &at("desk.tap"), "--at", "2099-01-01T00:00:00Z"], &variant[..]].concat());
    assert_says(&all_said(&future), &["in the future"]);

    let brought = quay.kesmo(&[&["import", &at("desk.tap")], &variant[..]].concat());
    assert_says(&all_said(&brought), &["desks/1", "1 of 1 files failed; 1 of 2 cases"]);
    // Of another file the same results are others; of the same at another place they are not.
    fs::copy(folder.join("desk.tap"), folder.join("quay.tap")).expect("a copy");
    write(&folder, "elsewhere/desk.tap", &fs::read_to_string(folder.join("desk.tap")).expect("a file"));
    let moved = quay.kesmo(&[&["import", &at("elsewhere/desk.tap")], &variant[..]].concat());
    assert_says(&all_said(&moved), &["imported before: it is desks/1"]);
    let other = quay.kesmo(&[&["import", &at("quay.tap")], &variant[..]].concat());
    assert_says(&all_said(&other), &["desks/2", "1 of 1 files failed"]);
    let cases = quay.json(&["show", "desks/1", "--cases"]);
    assert_eq!(cases["total"], 2, "{cases}");
    assert_eq!(quay.run("desks/1")["variants"][0], "screen=phone");
}

#[test]
fn the_same_import_several_times_at_once_is_one_run() {
    let quay = shared();
    let folder = quay.path("imported-at-once");
    write(&folder, "fares.tap", "ok 1 - fares/adult\nok 2 - fares/child\n1..2\n");
    let file = folder.join("fares.tap").to_str().expect("a path").to_owned();
    assert!(quay.kesmo(&["import", &file, "--suite", "at-once", "--new", "--label", "night=0"]).status.success());
    let all: Vec<String> = thread::scope(|scope| {
        let import = || all_said(&quay.kesmo(&["import", &file, "--suite", "at-once", "--label", "night=1"]));
        let at_once: Vec<_> = (0..5).map(|_| scope.spawn(import)).collect();
        at_once.into_iter().map(|job| job.join().expect("it ends")).collect()
    });
    assert!(all.iter().all(|said| said.contains("at-once/2")), "{all:?}");
    assert_eq!(all.iter().filter(|said| said.contains("imported before")).count(), 4, "{all:?}");
    assert_eq!(
        quay.sql("select count(*) from runs join suites on suites.id = suite_id where slug = 'at-once'").trim(),
        "2"
    );
    assert_eq!(quay.sql("select passed from records join suites on suites.id = suite_id where test = 'fares/adult' and slug = 'at-once'").trim(), "2");
}

#[test]
fn what_is_brought_as_results_is_checked_at_the_edge() {
    let quay = shared();
    let folder = quay.path("imported-badly");
    let import = |name: &str, content: &[u8], more: &[&str]| {
        write(&folder, name, "");
        fs::write(folder.join(name), content).expect("a file");
        let file = folder.join(name).to_str().expect("a path").to_owned();
        let out = quay.kesmo(&[&["import", &file, "--suite", "badly", "--new"], more].concat());
        (out.status.code(), all_said(&out))
    };
    let refused = |name: &str, content: &[u8], more: &[&str], why: &str| {
        let (status, said) = import(name, content, more);
        assert_eq!(status, Some(2), "{name}: {said}");
        assert_says(&said, &[why]);
    };
    refused("nul.tap", b"ok 1 - a\0b\n", &[], "holds a NUL");
    refused("latin.tap", b"ok 1 - bl\xe5skjell\n", &[], "not UTF-8");
    refused("torn.xml", b"<testsuite><testcase name=\"a\">", &[], "torn.xml: broken JUnit XML at line 1");
    refused("empty.xml", b"<testsuite/>", &[], "no <testcase>");
    refused("events.jsonl", b"{\"test\":\"a\",\"event\":\"start\"}\n{\"tst\":1}\n", &[], "line 2: a broken event line");
    refused("good.tap", b"ok 1 - a\n", &["--at", "yesterday"], "--at \"yesterday\" is no time");
    refused("good.tap", b"ok 1 - a\n", &["--commit", "4f2a"], "is not usable");
    refused("good.tap", b"ok 1 - a\n", &["--pool", "No Pool"], "the pool");
    refused("good.tap", b"ok 1 - a\n", &["--variant", "screen=phone"], "screen");
    assert_eq!(
        quay.sql("select count(*) from runs join suites on suites.id = suite_id where slug = 'badly'").trim(),
        "0"
    );

    // A great many names, some very long and some alike, are kept each for itself.
    let many: String = (0..20_000).map(|n| format!("ok {n} - berths/{}/{}\n", n % 7_000, "x".repeat(n % 40))).collect();
    let long = format!("ok 1 - {}\nnot ok 2 - {}y\n", "long".repeat(400), "long".repeat(400));
    let (status, said) = import("many.tap", format!("{many}{long}").as_bytes(), &["--with-verdict"]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(&said, &["1 of 20002 failed"]);
    let page = quay.json(&["show", "badly/1"]);
    assert_eq!(page["run"]["listed"].as_u64().or(page["listed"].as_u64()), Some(20_002));
}

#[test]
fn a_trial_ends_when_it_is_told_to_and_two_go_on_at_once() {
    let quay = shared();
    let folder = quay.path("tried-twice");
    let suite = "suite = \"tried-twice\"\n[tests]\nlist = [\"echo\", \"a\"]\nrun = [\"sh\", \"-c\", \"sleep $LONG\", \"{name}\"]\nresults = \"exit\"\n\
                 [env]\nLONG = \"1\"\n[env-for.long]\nLONG = \"61.07\"\n";
    write(&folder, "kesmo.toml", suite);
    let place = folder.to_str().expect("a path").to_owned();
    thread::scope(|scope| {
        let tried = || quay.kesmo(&["suite", "try", &place]).status.code();
        let (first, second) = (scope.spawn(tried), scope.spawn(tried));
        assert_eq!((first.join().expect("it ends"), second.join().expect("it ends")), (Some(0), Some(0)));
    });
    let mut long =
        crate::quay::Process(quay.command(&["suite", "try", &place, "--env", "long"]).spawn().expect("it starts"));
    crate::quay::until("its test runs", || (crate::quay::processes_with("61.07") > 0).then_some(()));
    long.signal(15);
    assert_eq!(long.wait(), 10, "it was stopped");
    crate::quay::until("nothing stays behind", || (crate::quay::processes_with("61.07") == 0).then_some(()));
}
