//! The four ways in which suites report, and what happens when what they report is broken.

use crate::quay::{assert_says, shared};

#[test]
fn a_process_for_each_test_is_judged_by_its_status() {
    let quay = shared();
    let script = r#"
[ "$1" = --names ] && { printf 'exit/well\nexit/badly\nexit/killed\n'; exit; }
echo "running $1"
case $1 in exit/badly) echo 'the ramp is up' >&2; exit 3 ;; exit/killed) kill -SEGV $$ ;; esac
"#;
    let (status, said) = quay.wait(&quay.suite("by-exit", "exit", script, ""), &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["● 1", "◆ 2", "the ramp is up", "(status 3)", "signal 11 (segmentation fault)"]);
    let attempts = quay.history("by-exit/1", "exit/killed");
    assert_eq!(attempts[0]["ended"], "crashed");
}

#[test]
fn event_lines_bring_steps_and_files() {
    let quay = shared();
    let script = r#"
[ "$1" = --names ] && { printf 'gate/open\ngate/shut\n'; exit; }
for t in "$@"; do
  echo "{\"test\":\"$t\",\"event\":\"start\"}" >> "$KESMO_EVENTS"
  echo "{\"test\":\"$t\",\"event\":\"step\",\"name\":\"scan ticket\",\"ms\":12}" >> "$KESMO_EVENTS"
  echo note > "$KESMO_ARTIFACTS/$(basename $t).txt"
  echo "{\"test\":\"$t\",\"event\":\"file\",\"path\":\"$(basename $t).txt\",\"about\":\"what was scanned\"}" >> "$KESMO_EVENTS"
  echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\",\"ms\":48}" >> "$KESMO_EVENTS"
done
echo '{"test":"gate/open","event":"open"}' >> "$KESMO_EVENTS"
"#;
    let (status, said) = quay.wait(&quay.suite("by-events", "events", script, ""), &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["\"open\" is not a valid event"]);
    let attempt = &quay.history("by-events/1", "gate/shut")[0];
    assert_eq!(attempt["steps"][0]["name"], "scan ticket");
    assert_eq!(attempt["spent_us"], 48_000);
    assert_eq!(attempt["artifacts"][0]["about"], "what was scanned");
    let to = quay.path("files-of-events");
    assert!(quay.kesmo(&["artifacts", "by-events/1", "--to", &to.to_string_lossy()]).status.success());
    assert_eq!(std::fs::read_to_string(to.join("gate/open/attempt-1/open.txt")).unwrap(), "note\n");
}

#[test]
fn junit_files_are_read_when_the_process_ends() {
    let quay = shared();
    let script = r#"
[ "$1" = --names ] && { printf 'fares/adult\nfares/child\nfares/dog\n'; exit; }
mkdir -p out
{ echo '<testsuites><testsuite name="fares">'
  for t in "$@"; do
    case $t in
      fares/child) echo '<testcase classname="fares" name="child" time="0.25"><failure message="expected 4, got 5">at line 3</failure></testcase>' ;;
      fares/dog) echo '<testcase classname="fares" name="dog"><skipped message="no dogs"/></testcase>' ;;
      *) echo '<testcase classname="fares" name="adult" time="0.125"/>' ;;
    esac
  done
  echo '</testsuite></testsuites>'; } > out/fares.xml
"#;
    let folder = quay.suite("by-junit", "junit", script, "junit = [\"out/*.xml\"]");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["● 1", "◆ 1", "▽ 1", "expected 4, got 5"]);
    let attempt = &quay.history("by-junit/1", "fares/child")[0];
    assert_eq!((attempt["spent_us"].as_u64(), attempt["detail"].as_str()), (Some(250_000), Some("at line 3")));
}

#[test]
fn broken_xml_fails_its_tests_and_says_where_it_is_broken() {
    let quay = shared();
    let script = r#"
[ "$1" = --names ] && { printf 'fares/adult\nfares/child\n'; exit; }
mkdir -p out; printf '<testsuites>\n<testsuite><testcase name="adult">' > out/fares.xml
"#;
    let (status, said) = quay.wait(&quay.suite("broken-xml", "junit", script, "junit = [\"out/*.xml\"]"), &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["broken JUnit XML at line 2", "out/fares.xml"]);
}

#[test]
fn tap_brings_subtests_directives_and_messages() {
    let quay = shared();
    let body = r#"
case $t in
  tap/sub) printf '# Subtest: %s\n    ok 1 - scan\n    ok 2 - open\n    1..2\nok 1 - %s\n' $t $t ;;
  tap/skip) echo "ok - $t # SKIP no boat" ;;
  tap/bad) printf 'not ok - %s\n  ---\n  message: "expected 36 minutes, got 35"\n  ...\n' $t ;;
  *) echo "ok - $t" ;;
esac"#;
    let (status, said) = quay.wait(&quay.tap("by-tap", "tap/sub tap/skip tap/bad tap/plain", body, ""), &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["● 2", "▽ 1", "◆ 1", "expected 36 minutes, got 35"]);
    assert_eq!(quay.history("by-tap/1", "tap/sub")[0]["steps"].as_array().map(Vec::len), Some(2));
    assert_eq!(quay.history("by-tap/1", "tap/skip")[0]["message"], "no boat");
}

#[test]
fn a_result_for_a_test_that_is_not_in_the_batch_is_told_and_left_aside() {
    let quay = shared();
    let folder = quay.tap("stranger", "a b", "echo \"ok - $t\"; echo 'ok - somebody/else'", "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &["a result for \"somebody/else\", which is not in the batch, was left aside", "● 2"]);
}

#[test]
fn broken_tap_fails_the_test_that_has_no_result() {
    let quay = shared();
    let folder =
        quay.tap("broken-tap", "a b c", "[ $t = c ] || echo \"ok - $t\"", "[[rule]]\ntests = [\"*\"]\ngroup = \"all\"");
    let script = std::fs::read_to_string(folder.join("tests.sh")).unwrap().replace("for t in", "echo 1..3\nfor t in");
    std::fs::write(folder.join("tests.sh"), script).unwrap();
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    assert_says(&said, &["the TAP plan promised 3 tests, and 2 were reported", "never reported this test", "● 2  ◆ 1"]);
}

#[test]
fn output_that_is_not_text_is_kept_and_says_so() {
    let quay = shared();
    let (status, said) = quay.wait(&quay.tap("not-text", "a", "printf 'caf\\351\\n'; echo \"ok - $t\"", ""), &[]);
    assert_eq!(status, 0, "{said}");
    let log = quay.kesmo(&["log", "not-text/1", "a"]);
    assert_says(&String::from_utf8_lossy(&log.stdout), &["this output is not UTF-8", "caf\u{fffd}"]);
}

#[test]
fn a_hundred_megabytes_on_one_line_stay_within_bounds() {
    let quay = shared();
    let body = "echo first; head -c 100000000 /dev/zero | tr '\\0' x; echo; echo \"ok - $t\"";
    let (status, said) = quay.wait(&quay.tap("long-line", "a", body, "[limits]\noutput = \"64 KiB\""), &[]);
    assert_eq!(status, 0, "{said}");
    let log = quay.kesmo(&["log", "long-line/1", "a"]);
    assert!(log.stdout.len() < 200_000, "{}", log.stdout.len());
    assert_says(&String::from_utf8_lossy(&log.stdout), &["first", "95.3 MiB cut here", "64.0 KiB"]);
    let most = |status: String| {
        let line = status.lines().find(|l| l.starts_with("VmHWM")).map(str::to_owned);
        line.and_then(|l| l.split_whitespace().nth(1)?.parse::<u64>().ok()).unwrap_or(0)
    };
    for process in std::fs::read_dir("/proc").unwrap().flatten() {
        let command = std::fs::read(process.path().join("cmdline")).unwrap_or_default();
        if String::from_utf8_lossy(&command).starts_with(crate::quay::KESMO) {
            let kib = most(std::fs::read_to_string(process.path().join("status")).unwrap_or_default());
            assert!(kib < 300_000, "a kesmo process took {kib} KiB");
        }
    }
}
