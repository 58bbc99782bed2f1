//! Getting a suite in: a first suite file, a trial of it, and results that ran elsewhere.

use std::{fs, path::Path};

use crate::quay::{all_said, assert_says, shared};

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
    assert_says(&said, &["Every one of them had a result that was read.", "rerun, with {name} and {cases-file}"]);
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
