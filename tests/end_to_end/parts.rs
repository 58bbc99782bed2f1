//! Long files that are cut by their known cases, so that several slots run them at once.

use std::{collections::BTreeSet, fmt::Write as _, fs, path::Path, path::PathBuf, time::Duration};

use serde_json::Value;

use crate::quay::{Quay, all_said, assert_says, text, until};

/// A suite of one long file, with a case for each title that takes so long, and a short one.
fn suite(quay: &Quay, name: &str, rest: &str, cases: &[(&str, &str)]) -> PathBuf {
    let folder = quay.path(&format!("suite-{name}"));
    fs::create_dir_all(folder.join("specs")).expect("a folder");
    let file = format!(
        "suite = \"{name}\"\n[tests]\neach = \"file\"\nlist = [\"sh\", \"-c\", \"ls specs/*.sh\"]\nrun = [\"sh\", \"{{name}}\"]\n\
         rerun = [\"sh\", \"{{name}}\", \"--only\", \"{{cases-file}}\"]\n{rest}\nresults = \"tap\"\n"
    );
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    fs::write(folder.join("specs/short.sh"), "echo ok 1 - opens\n").expect("a file");
    long(&folder, cases);
    folder
}

const REST: &str = "rest = [\"sh\", \"{name}\", \"--not\", \"{cases-file}\"]";

/// Writes the long file: titles and what each does.
fn long(folder: &Path, cases: &[(&str, &str)]) {
    let mut script = "wanted() {
  case $how in
    --only) grep -qxF -- \"$1\" \"$of\" ;;
    --not) ! grep -qxF -- \"$1\" \"$of\" ;;
  esac
}
how=$1 of=$2 bad=0
one() { if eval \"$2\"; then echo \"ok - $1\"; else echo \"not ok - $1\"; bad=1; fi; }
"
    .to_owned();
    for (title, does) in cases {
        writeln!(script, "wanted '{title}' && one '{title}' '{does}'").expect("it is a text");
    }
    script += "exit $bad\n";
    fs::write(folder.join("specs/long.sh"), script).expect("a file");
}

fn told(quay: &Quay, run: &str) -> Vec<(String, String, u64)> {
    let cases = quay.json(&["show", run, "--cases"])["cases"].as_array().expect("cases").clone();
    let one = |case: &Value| {
        let word = |key: &str| case[key].as_str().unwrap_or_default().to_owned();
        (word("title"), word("outcome"), case["entry"].as_u64().unwrap_or(99))
    };
    let mut all: Vec<_> = cases.iter().map(one).collect();
    all.sort();
    all
}

fn titles(quay: &Quay, run: &str) -> Vec<String> {
    told(quay, run).into_iter().map(|case| case.0).collect()
}

fn parts(quay: &Quay, run: &str) -> Vec<(u64, u64)> {
    let number = |entry: &Value, key: &str| entry[key].as_u64().unwrap_or(0);
    let long = quay.entries(run).into_iter().filter(|entry| entry["test"] == "specs/long.sh");
    long.map(|entry| (number(&entry, "repeat"), number(&entry, "parts"))).collect()
}

const SLOW: &str = "sleep 0.7";

#[test]
fn a_long_file_is_cut_by_its_known_cases_and_what_is_new_runs_with_the_rest() {
    let quay = Quay::with_options(&[]);
    let _worker = quay.worker("heron", 3);
    let six: Vec<(&str, &str)> = ["berths", "cranes", "decks", "fares", "gates", "hulls"].map(|t| (t, SLOW)).to_vec();
    let folder = suite(&quay, "quay", REST, &six);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_eq!(parts(&quay, "quay/1"), [(0, 0)], "nothing was known of it");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["specs/long.sh runs in 3 parts"]);
    assert_eq!(parts(&quay, "quay/2"), [(1, 3), (2, 3), (3, 3)]);
    assert_eq!(titles(&quay, "quay/2"), titles(&quay, "quay/1"), "each case ran, and once");
    let by_entry: BTreeSet<u64> = told(&quay, "quay/2").iter().map(|case| case.2).collect();
    assert_eq!(by_entry.len(), 4, "every part ran some");
    let tally = quay.run("quay/2")["tally"].clone();
    assert_eq!((&tally["passed"], &tally["cases"]["passed"]), (&2.into(), &7.into()), "a cut file is one: {tally}");
    assert_says(&all_said(&quay.kesmo(&["show", "quay/2", "--state", "all"])), &["specs/long.sh, part 2 of 3"]);
    // Outside it is one file.
    let junit = text(&quay.kesmo(&["report", "quay/2", "--as", "junit"]).stdout);
    assert!(junit.matches("classname=\"specs/long.sh\"").count() == 6 && !junit.contains("part 2"), "{junit}");
    let history = quay.json(&["history", "quay", "specs/long.sh"]);
    let runs = history["runs"].as_array().expect("runs");
    assert_eq!(runs.len(), 2, "{history}");
    let spent = |at: usize| runs[at]["spent_us"].as_u64().expect("a time");
    assert!(spent(0) >= 6 * 600_000 && spent(1) >= 6 * 600_000, "its parts together took what it takes: {history}");
    assert_eq!(quay.json(&["history", "quay", "specs/long.sh/gates"])["runs"].as_array().map(Vec::len), Some(2));

    // Three cases are gone, two of them under other titles, and one is new and fails. Each part has two: not all of the three are in the
    // part that fails.
    let other = [
        ("berths", SLOW),
        ("cranes", SLOW),
        ("decks", SLOW),
        ("fares at night", SLOW),
        ("gates at night", SLOW),
        ("ramps", "false"),
    ];
    long(&folder, &other);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["1 of 2 files failed; 1 of 7 cases", "gone, or have other titles now"]);
    let all = told(&quay, "quay/3");
    let mut wanted: Vec<&str> = other.iter().map(|(title, _)| *title).chain(["opens"]).collect();
    wanted.sort_unstable();
    assert_eq!(all.iter().map(|case| case.0.as_str()).collect::<Vec<_>>(), wanted, "each once, whatever was known");
    assert!(all.iter().all(|case| (case.1 == "failed") == (case.0 == "ramps")), "{all:?}");
    let failing = quay.json(&["failing"]);
    assert_eq!(failing["tests"].as_array().map(Vec::len), Some(1), "{failing}");
    assert_eq!(failing["tests"][0]["test"], "specs/long.sh", "{failing}");

    // What failed of it is run again, alone.
    let again = text(&quay.kesmo(&["again", "quay/3", "--not-passed"]).stdout).trim().to_owned();
    until("it is over", || (quay.run(&again)["phase"] == "finished").then_some(()));
    assert_eq!(titles(&quay, &again), ["ramps"]);
    // And that run of one case is not what the next is cut by.
    let (_, said) = quay.wait(&folder, &[]);
    assert_says(&said, &["1 of 2 files failed; 1 of 7 cases"]);
    assert_eq!(parts(&quay, "quay/5").len(), 3);
}

#[test]
fn a_long_file_is_cut_on_ones_own_machine_too() {
    let quay = Quay::with_options(&[]);
    let six: Vec<(&str, &str)> = ["berths", "cranes", "decks", "fares", "gates", "hulls"].map(|t| (t, SLOW)).to_vec();
    let folder = suite(&quay, "own", REST, &six);
    let home = quay.path("own-home").display().to_string();
    let record = quay.path("own-record.json").display().to_string();
    let here = |more: &[&str]| {
        let mut words =
            vec!["here", folder.to_str().expect("a path"), "--slots", "3", "--home", &home, "--record", &record];
        words.extend(more);
        let output = quay.kesmo(&words);
        (output.status.code(), all_said(&output))
    };
    let (status, said) = here(&[]);
    assert_eq!((status, said.contains("parts")), (Some(0), false), "{said}");
    let report = quay.path("own.xml");
    let (status, said) = here(&["--report", &format!("junit={}", report.display())]);
    assert_eq!(status, Some(0), "{said}");
    assert_says(&said, &["specs/long.sh runs in 3 parts"]);
    let junit = fs::read_to_string(report).expect("a report");
    assert_eq!(junit.matches("classname=\"specs/long.sh\"").count(), 6, "{junit}");
    // What is new runs with the rest, and the next time it is dealt out, too.
    long(&folder, &[six.clone(), vec![("ramps", "false")]].concat());
    let (status, said) = here(&[]);
    assert_eq!(status, Some(1), "{said}");
    assert_says(&said, &["1 of 2 files failed; 1 of 8 cases"]);
    let (_, said) = here(&["--pick", "specs/long.sh/ramps"]);
    assert_says(&said, &["1 of 1 files failed; 1 of 1 cases"]);
    let (_, said) = here(&[]);
    assert_says(&said, &["specs/long.sh runs in 3 parts", "1 of 2 files failed; 1 of 8 cases"]);
}

#[test]
fn a_cut_run_goes_on_where_it_was_when_its_service_is_killed() {
    let mut quay = Quay::with_options(&[]);
    let _worker = quay.worker("heron", 3);
    let mut cases: Vec<(String, &str)> = (0..9).map(|n| (format!("boat {n}"), "sleep 0.6")).collect();
    let of = |cases: &[(String, &'static str)]| cases.iter().map(|(t, d)| (t.clone(), *d)).collect::<Vec<_>>();
    let folder = {
        let now = of(&cases);
        let borrowed: Vec<(&str, &str)> = now.iter().map(|(t, d)| (t.as_str(), *d)).collect();
        suite(&quay, "night", REST, &borrowed)
    };
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let run = quay.start_run(&folder, &[]);
    until("some cases are told", || (quay.run(&run)["tally"]["cases"]["passed"].as_u64()? >= 2).then_some(()));
    quay.kill_service();
    std::thread::sleep(Duration::from_millis(200));
    quay.start();
    until("it is over", || (quay.run(&run)["phase"] == "finished").then_some(()));
    assert_eq!(quay.run(&run)["verdict"], "passed");
    assert_eq!(parts(&quay, &run).len(), 3);
    cases.push(("opens".to_owned(), ""));
    let mut wanted: Vec<&str> = cases.iter().map(|(title, _)| title.as_str()).collect();
    wanted.sort_unstable();
    assert_eq!(titles(&quay, &run), wanted, "each once");
}

#[test]
fn where_what_is_new_cannot_run_with_the_rest_it_is_said_and_runs_the_next_time_the_file_is_whole() {
    let quay = Quay::with_options(&[]);
    let _worker = quay.worker("heron", 3);
    let four: Vec<(&str, &str)> = ["berths", "cranes", "decks", "fares"].map(|t| (t, "sleep 0.6")).to_vec();
    let folder = suite(&quay, "uncut", "", &four);
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    assert_eq!(parts(&quay, "uncut/2"), [(0, 0)], "without \"rest\" nothing is cut that was not asked for");
    let folder = suite(&quay, "uncut", "split = true", &four);
    let (_, said) = quay.wait(&folder, &[]);
    assert_says(&said, &["specs/long.sh runs in", "cases that are new since it last ran whole do not run this time"]);
    long(&folder, &[four.clone(), vec![("ramps", "false")]].concat());
    for run in 4..=6 {
        let (status, said) = quay.wait(&folder, &[]);
        assert_eq!((status, parts(&quay, &format!("uncut/{run}")).len() > 1), (0, true), "{said}");
        assert_says(&said, &["do not run this time"]);
    }
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!((status, parts(&quay, "uncut/7")), (1, vec![(0, 0)]), "{said}");
    assert_says(&said, &["1 of 2 files failed; 1 of 6 cases"]);
}
