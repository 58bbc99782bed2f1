//! Suites that run in images, on a real container engine.

use std::{
    fs,
    path::{Path, PathBuf},
    time::Duration,
};

use crate::{
    engine::{Engine, IMAGE, suite},
    quay::{Quay, all_said, assert_says, shared, text, until},
};

const TAP: &str =
    "list = [\"sh\", \"tests.sh\", \"--names\"]\nrun = [\"sh\", \"tests.sh\", \"{names}\"]\nresults = \"tap\"";

fn image() -> String {
    format!("image = \"{IMAGE}\"")
}

/// A suite with two tests, whose script runs `body` for each.
fn tap(quay: &Quay, name: &str, container: &str, body: &str) -> PathBuf {
    let folder = quay.path(&format!("suite-{name}"));
    let script = format!("if [ \"$1\" = --names ]; then echo a; echo b; exit; fi\nfor t in \"$@\"; do\n{body}\ndone\n");
    suite(&folder, name, container, TAP, &script);
    folder
}

/// How many containers run.
fn running(engine: &Engine) -> usize {
    engine.call(&["ps", "--quiet"]).lines().count()
}

/// Runs a suite on this machine, without a service.
fn here(quay: &Quay, engine: &Engine, folder: &Path, more: &[&str]) -> (i32, String) {
    let folder = folder.to_string_lossy().into_owned();
    let mut words = vec!["here", &folder];
    words.extend(more);
    let output = quay.command(&words).env("KESMO_ENGINE", engine.address()).output().expect("the program runs");
    (output.status.code().unwrap_or(-1), all_said(&output))
}

#[test]
fn a_suite_runs_in_its_image_with_all_that_a_bare_process_has() {
    let (quay, engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 2, &engine.address());
    let folder = quay.path("suite-whole");
    let tests = "list = [\"sh\", \"-c\", \"cat made /etc/made\"]\nrun = [\"sh\", \"tests.sh\", \"{names-file}\"]\nresults = \"events\"\nkeep = [\"kept/*\"]\n\
                 [prepare]\nrun = [\"sh\", \"-c\", \"echo gate > made; echo quay > /etc/made\"]\n[env]\nTZ = \"UTC\"\n[settings]\npassengers = 200\n[retry]\ntimes = 1";
    let script = r#"say() { echo "$1" >> "$KESMO_EVENTS"; }
mkdir -p kept
while read -r t; do
    say "{\"test\":\"$t\",\"event\":\"start\"}"
    echo "$t in $(cat /etc/mark) with $(cat /etc/made), $TZ, $KESMO_SET_PASSENGERS, $KESMO_FACET_SCREEN, as $(id -u) in $PWD; token ${KESMO_TOKEN:-none}"
    echo shot > "$KESMO_ARTIFACTS/$t.txt"
    echo kept > "kept/$t.log"
    echo named > named-$t
    say "{\"test\":\"$t\",\"event\":\"step\",\"name\":\"scan ticket\",\"ms\":12}"
    say "{\"test\":\"$t\",\"event\":\"file\",\"path\":\"$PWD/named-$t\",\"about\":\"what was named\"}"
    outcome=passed
    if [ "$t" = quay ] && [ "$KESMO_ATTEMPT" != 2 ]; then outcome=failed; fi
    say "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"$outcome\",\"message\":\"got Boarding\"}"
done < "$1"
"#;
    suite(&folder, "whole", &format!("{}\nmemory = \"256 MiB\"\ncpus = 1.5", image()), tests, script);
    let toml = folder.join("kesmo.toml");
    let text_of = fs::read_to_string(&toml).unwrap() + "[facets]\nscreen = [\"phone\"]\n";
    fs::write(&toml, text_of).unwrap();
    let report = quay.path("whole.xml");
    let (status, said) = quay.wait(&folder, &["--report", &format!("junit={}", report.display())]);
    assert_eq!(status, 0, "{said}");
    let digest = engine.digest(IMAGE);
    let short = &digest["sha256:".len()..][..12];
    assert_says(&said, &["passed", &format!("in the image {IMAGE} ({short})"), "quay"]);
    let run = quay.run("whole/1");
    assert_eq!(
        (run["images"][0]["name"].as_str(), run["images"][0]["digest"].as_str()),
        (Some(IMAGE), Some(digest.as_str()))
    );
    assert_says(
        &fs::read_to_string(&report).unwrap(),
        &[&format!("<property name=\"image {IMAGE}\" value=\"{digest}\"/>")],
    );
    let detail = quay.json(&["log", "whole/1", "gate", "--variant", "screen=phone"]);
    assert_eq!(detail["image"]["digest"], digest.as_str(), "{detail}");
    let log = text(&quay.kesmo(&["log", "whole/1", "gate", "--variant", "screen=phone"]).stdout);
    assert_says(&log, &["gate in quay with quay, UTC, 200, phone, as 0 in /kesmo/suite; token none"]);
    let of_entry = detail["history"][0].clone();
    assert_eq!(of_entry["steps"][0]["name"], "scan ticket", "{of_entry}");
    let mut paths: Vec<&str> =
        of_entry["artifacts"].as_array().unwrap().iter().map(|a| a["path"].as_str().unwrap()).collect();
    paths.sort_unstable();
    assert_eq!(paths, ["gate.txt", "kept/gate.log", "named-gate"]);
    let flaky = quay.json(&["log", "whole/1", "quay", "--variant", "screen=phone"]);
    assert_eq!(flaky["outcome"], "flaky", "{flaky}");
    engine.none_left();
}

#[test]
fn a_run_keeps_to_one_image_and_is_repeated_in_the_same() {
    let (quay, engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 1, &engine.address());
    let folder = tap(&quay, "same", &image(), "echo \"in $(cat /etc/mark)\"; echo ok - $t");
    let old = engine.digest(IMAGE);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    // The name stands for another image from now on, whose suite has another test.
    engine.import(IMAGE, "newer", &[]);
    let new = engine.digest(IMAGE);
    assert_ne!(old, new);
    let again = quay.kesmo(&["again", "same/1", "--wait"]);
    assert!(again.status.success(), "{}", all_said(&again));
    assert_eq!(quay.run("same/2")["images"][0]["digest"], old.as_str());
    assert_says(&text(&quay.kesmo(&["log", "same/2", "a"]).stdout), &["in quay"]);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_eq!(quay.run("same/3")["images"][0]["digest"], new.as_str());
    let shard = ["--as", "same/1/1"];
    let (status, said) = here(&quay, &engine, &folder, &shard);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &[&format!("in the image {IMAGE} ({})", &old["sha256:".len()..][..12])]);
    // One that is gone is not replaced by another of its name.
    engine.call(&["image", "rm", "--force", &old]);
    let gone = quay.kesmo(&["again", "same/1", "--wait"]);
    assert_eq!(gone.status.code(), Some(10), "{}", all_said(&gone));
    assert_says(
        &all_said(&gone),
        &[
            "void",
            &format!("this run uses the image {IMAGE} with the digest {old}"),
            &format!("this engine has {new} under that name"),
        ],
    );
    let other = quay.kesmo(&["start", "same", "--wait", "--image", "localhost/none:1"]);
    assert_says(&all_said(&other), &["void", "the image localhost/none:1 is not there, and cannot be brought"]);
    assert_eq!(quay.run("same/5")["options"]["image"], "localhost/none:1");
    engine.none_left();
}

#[test]
fn a_list_is_made_anew_where_an_image_may_be_another() {
    let (quay, engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 1, &engine.address());
    let folder = quay.path("suite-lists");
    let tests = "list = [\"cat\", \"/etc/mark\"]\nrun = [\"sh\", \"tests.sh\", \"{names}\"]\nresults = \"tap\"";
    suite(&folder, "lists", &image(), tests, "for t in \"$@\"; do echo ok - $t; done");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    engine.import(IMAGE, "newer", &[]);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    let names =
        |run: &str| quay.entries(run).iter().map(|e| e["test"].as_str().unwrap().to_owned()).collect::<Vec<_>>();
    assert_eq!((names("lists/1"), names("lists/2")), (vec!["quay".to_owned()], vec!["newer".to_owned()]));
    // What is known by now is told without asking a worker again.
    let tests = quay.kesmo(&["tests", "lists"]);
    assert_says(&all_said(&tests), &["newer"]);
}

#[test]
fn what_goes_wrong_in_an_image_is_told_as_what_it_is() {
    let (quay, engine) = (shared(), Engine::start());
    engine.import("localhost/quay-far:1", "far", &["--arch", "s390x"]);
    for (name, container, body, status, wanted) in [
        (
            "memory",
            "memory = \"40 MiB\"",
            "sleep 0.5; exec tail -c 300m /dev/zero",
            1,
            vec!["signal 9 (killed); its container had no memory left (40.0 MiB, [container] memory)"],
        ),
        (
            "memory-child",
            "memory = \"40 MiB\"",
            "sleep 0.5; tail -c 300m /dev/zero; echo not ok - $t",
            1,
            vec!["its container had no memory left (40.0 MiB, [container] memory), and a process was ended for it"],
        ),
        ("time", "", "echo before; exec sleep 100", 1, vec!["it ran longer than its limit of 1.0 s and was ended"]),
        ("crash", "init = true", "kill -SEGV $$", 1, vec!["signal 11 (segmentation fault)"]),
        ("status", "", "exit 5", 1, vec!["status 5"]),
        ("network", "network = \"nowhere\"", "echo ok - $t", 10, vec!["void", "network not found"]),
    ] {
        let container = format!("{}\n{container}", image());
        let folder = tap(quay, name, &container, body);
        let toml = folder.join("kesmo.toml");
        // Memory takes its time to be full on a busy machine: only what is to overrun has a short limit.
        let limit = if name == "time" { "1s" } else { "60s" };
        fs::write(&toml, format!("{}[limits]\ntest = \"{limit}\"\n", fs::read_to_string(&toml).unwrap())).unwrap();
        let (code, said) = here(quay, &engine, &folder, &[]);
        assert_eq!(code, status, "{name}: {said}");
        assert_says(&said, &wanted);
    }
    let folder = tap(quay, "troubles", &image(), "echo ok - $t");
    for (image, wanted) in [
        ("localhost/none:3", "the image localhost/none:3 is not there, and cannot be brought: "),
        (
            "localhost/quay-far:1",
            "the image localhost/quay-far:1 cannot run here: it is made for s390x, and this machine is",
        ),
    ] {
        let (code, said) = here(quay, &engine, &folder, &["--image", image]);
        assert_eq!(code, 10, "{said}");
        assert_says(&said, &[wanted]);
    }
    let (code, said) = here(quay, &engine, &folder, &["--image", "No Image"]);
    assert_eq!(code, 2, "{said}");
    assert_says(&said, &["--image: \"No Image\" is not the name of an image"]);
    let toml = folder.join("kesmo.toml");
    fs::write(&toml, fs::read_to_string(&toml).unwrap().replace("run = [\"sh\",", "run = [\"./nothing\",")).unwrap();
    let (code, said) = here(quay, &engine, &folder, &[]);
    assert_eq!(code, 10, "{said}");
    assert_says(
        &said,
        &["the command \"./nothing\" could not be started in localhost/quay-gate:12", "no such file or directory"],
    );
    engine.none_left();
}

#[test]
fn an_image_is_built_once_for_a_bundle_and_its_user_may_write() {
    let (quay, engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 2, &engine.address());
    let body = "id -u; touch mine \"$KESMO_ARTIFACTS/mine\" && gate; echo ok - $t";
    let folder = tap(&quay, "built", "build = \"images/Containerfile\"", body);
    fs::create_dir_all(folder.join("images")).unwrap();
    let file = format!(
        "FROM {IMAGE}\nCOPY images/gate /bin/gate\nRUN echo the gate is hung; chmod 755 /bin/gate\nUSER 1000\n"
    );
    fs::write(folder.join("images/Containerfile"), &file).unwrap();
    fs::write(folder.join("images/gate"), "#!/bin/sh\necho the gate opens\n").unwrap();
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    let log = text(&quay.kesmo(&["log", "built/1", "a"]).stdout);
    assert_says(&log, &["1000", "the gate opens"]);
    assert_eq!(quay.run("built/1")["images"][0]["name"], "images/Containerfile");
    let files = quay.json(&["artifacts", "built/1"]);
    assert_says(&files.to_string(), &["images/Containerfile.log", "what its build printed on heron"]);
    let images = engine.call(&["images", "--quiet", "--filter", "reference=localhost/kesmo-made"]);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_eq!(
        engine.call(&["images", "--quiet", "--filter", "reference=localhost/kesmo-made"]),
        images,
        "it is built once"
    );
    fs::write(folder.join("images/Containerfile"), file.replace("RUN ", "RUN echo no hinges; exit 3; ")).unwrap();
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["void", "images/Containerfile cannot be built", "no hinges"]);
    assert_says(&quay.json(&["artifacts", "built/3"]).to_string(), &["images/Containerfile.log"]);
    engine.none_left();
}

#[test]
fn what_stays_is_fed_and_some_cases_run_again_in_an_image() {
    let (quay, engine) = (shared(), Engine::start());
    let folder = quay.path("suite-fed-boxed");
    let tests = "list = [\"seq\", \"20\"]\nrun = [\"sh\", \"tests.sh\"]\nfeed = \"lines\"\nresults = \"tap\"";
    suite(&folder, "fed-boxed", &image(), tests, "while read -r t; do echo ok - $t; done; echo cleared up");
    let (status, said) = here(quay, &engine, &folder, &["--slots", "1"]);
    assert_eq!(status, 0, "{said}");
    assert!(!said.contains('!'), "it ended by itself: {said}");
    let folder = quay.path("suite-cases-boxed");
    let tests = "each = \"file\"\nlist = [\"echo\", \"gate.sh\"]\nrun = [\"sh\", \"tests.sh\"]\n\
                 rerun = [\"sh\", \"tests.sh\", \"{name}\", \"{cases-file}\"]\nresults = \"tap\"\n[retry]\ntimes = 1";
    let tests = tests.replace("run = [\"sh\", \"tests.sh\"]\nrerun", "run = [\"sh\", \"tests.sh\", \"{name}\"]\nrerun");
    let script = "if [ -n \"$2\" ]; then sed 's/^/ok - /' \"$2\"; else echo ok - opens; echo not ok - shuts; fi";
    suite(&folder, "cases-boxed", &image(), &tests, script);
    let (status, said) = here(quay, &engine, &folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["(2 cases: ◐ 1)", "passed at attempt 2"]);
    engine.none_left();
}

#[test]
fn a_worker_that_is_killed_leaves_no_container_for_longer_than_until_it_is_back() {
    let (quay, engine) = (Quay::open(), Engine::start());
    let mut worker = quay.worker_with("heron", 2, &engine.address());
    let folder = tap(&quay, "killed", &image(), "[ -e /kesmo/suite/go ] || sleep 300; echo ok - $t");
    let run = quay.start_run(&folder, &["--shards", "1"]);
    until("it runs", || {
        (quay.run(&run)["stats"]["running"].as_u64() > Some(0) || engine.containers() == 1).then_some(())
    });
    until("its container runs", || (engine.call(&["ps", "--quiet"]).lines().count() == 1).then_some(()));
    worker.signal(libc::SIGKILL);
    worker.wait();
    assert_eq!(engine.containers(), 1, "nobody is there to remove it");
    let _worker = quay.worker_with("heron", 2, &engine.address());
    assert!(
        text(&fs::read(quay.path("workers.log")).unwrap())
            .contains("1 containers of a worker that was killed were removed")
    );
    // It has the lost test anew, in a new container; a stop ends that at once.
    until("it runs again", || (running(&engine) == 1).then_some(()));
    assert!(quay.kesmo(&["stop", &run]).status.success());
    engine.none_left();
}

#[test]
fn an_engine_that_goes_away_costs_no_test_anything() {
    let (quay, mut engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 1, &engine.address());
    let folder = tap(&quay, "away", &image(), "echo begun; sleep 3; echo ok - $t");
    let run = quay.start_run(&folder, &[]);
    until("its test runs", || (quay.run(&run)["phase"] == "running" && running(&engine) == 1).then_some(()));
    std::thread::sleep(Duration::from_millis(300));
    engine.away();
    std::thread::sleep(Duration::from_millis(1500));
    engine.serve();
    until("it is over", || (quay.run(&run)["phase"] == "finished").then_some(()));
    let over = quay.run(&run);
    assert_eq!(over["verdict"], "passed", "{over}");
    assert_says(&over["notes"].to_string(), &["the container engine at", "what was running there goes back"]);
    for test in ["a", "b"] {
        let history = quay.history(&run, test);
        assert!(history.iter().filter(|a| a["ended"] != "lost").count() == 1, "{history:?}");
    }
    engine.none_left();
}

#[test]
fn a_container_that_somebody_kills_is_a_crash_and_others_are_not_touched() {
    let (quay, engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 2, &engine.address());
    // One of another's, with nothing of Kesmo's on it, stays whatever a worker clears away.
    engine.call(&["run", "--detach", "--network", "host", "--name", "strangers", IMAGE, "sleep", "600"]);
    let folder = tap(&quay, "strangled", &image(), "[ $t = b ] || sleep 300; echo ok - $t");
    let run = quay.start_run(&folder, &[]);
    let own = || {
        let lines = engine.call(&["ps", "--format", "{{.Names}}"]);
        lines.lines().filter(|name| name.starts_with("kesmo-")).map(str::to_owned).collect::<Vec<_>>()
    };
    until("its test runs", || (quay.run(&run)["tally"]["passed"] == 1 && own().len() == 1).then_some(()));
    engine.call(&["kill", &own()[0]]);
    until("it is over", || (quay.run(&run)["phase"] == "finished").then_some(()));
    let history = quay.history(&run, "a");
    assert_eq!(history[0]["ended"], "crashed", "{history:?}");
    assert_says(&history[0]["message"].to_string(), &["its process ended under it, with signal 9 (killed)"]);
    until("its own are gone", || own().is_empty().then_some(()));
    assert_eq!(engine.call(&["ps", "--format", "{{.Names}}"]), "strangers");
}

#[test]
fn where_no_engine_is_a_suite_in_an_image_waits_and_says_for_what() {
    let (quay, engine) = (shared(), Engine::start());
    let folder = tap(quay, "none", &image(), "echo ok - $t");
    let toml = folder.join("kesmo.toml");
    fs::write(&toml, fs::read_to_string(&toml).unwrap() + "[limits]\npatience = \"1s\"\n").unwrap();
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["void", "waiting for a worker that has a container engine"]);
    let folder = folder.to_string_lossy().into_owned();
    let output = quay.kesmo(&["here", &folder]);
    assert_eq!(output.status.code(), Some(10), "{}", all_said(&output));
    assert_says(&all_said(&output), &["the suite runs in an image, and no container engine was found here"]);
    let gone = quay.command(&["here", &folder]).env("KESMO_ENGINE", "unix:///nowhere/s").output().unwrap();
    assert_eq!(gone.status.code(), Some(2), "{}", all_said(&gone));
    assert_says(&all_said(&gone), &["there is no socket /nowhere/s; is the engine's service started?"]);
    drop(engine);
}
