//! Reports, held against the schemas that their readers go by.

use std::{fs, process::Command};

use serde_json::Value;

use crate::quay::{Quay, all_said, assert_says, until};

/// A run of everything that a report may tell of, for the verdict `failed`; parked, variants, labels, odd output.
fn mixed(quay: &Quay) -> String {
    let script = r#"if [ "$1" = --names ]; then printf '%s\n' well torn shy wobbly aside; exit; fi
for t; do case $t in
  torn) printf 'before it tore <quay> \001\033[31m ]]> \377 &amp;\n'; echo "not ok - torn"; printf '  ---\n  message: "expected <Closed> & \\"late\\""\n  ...\n';;
  shy) echo "ok - shy # SKIP no tide";;
  wobbly) if [ -e wobbled ]; then echo "ok - wobbly"; else touch wobbled; echo "not ok - wobbly"; fi;;
  *) echo "ok - $t";;
esac; done"#;
    let folder = quay.suite("mixed", "tap", script, "[facets]\nsea = [\"calm\", \"rough & high\"]\n[retry]\ntimes = 1");
    let added = quay.kesmo(&["suite", "add", &folder.display().to_string()]);
    assert!(added.status.success(), "{}", all_said(&added));
    let parked = quay.kesmo(&["park", "mixed", "aside", "--why", "a <broken> scanner", "--until", "2w"]);
    assert!(parked.status.success(), "{}", all_said(&parked));
    let (_, said) = quay.wait(&folder, &["--label", "release=11\"87", "--label", "quay=<north>"]);
    assert_says(&said, &["failed"]);
    "mixed/1".to_owned()
}

fn report(quay: &Quay, run: &str, format: &str) -> String {
    let said = quay.kesmo(&["report", run, "--as", format]);
    assert!(said.status.success(), "{}", all_said(&said));
    String::from_utf8(said.stdout).expect("text")
}

/// Holds a JUnit report against the schema; `xmllint` is of the package libxml2-utils.
fn is_junit(text: &str, quay: &Quay) {
    let file = quay.path("report.xml");
    fs::write(&file, text).expect("a file");
    let schema = concat!(env!("CARGO_MANIFEST_DIR"), "/../../tests/schemas/junit.xsd");
    let held = Command::new("xmllint").args(["--noout", "--nonet", "--schema", schema]).arg(&file).output();
    let held = held.expect("xmllint is here: ./check.sh installs it");
    assert!(held.status.success(), "{}\n{text}", all_said(&held));
}

/// Holds a JSON report against the schema that the service publishes.
fn is_json(text: &str, schema: &Value) -> Value {
    let report: Value = serde_json::from_str(text).expect("JSON");
    let held = jsonschema::validator_for(schema).expect("a schema");
    let wrong: Vec<String> = held.iter_errors(&report).map(|e| format!("{}: {e}", e.instance_path)).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
    report
}

#[test]
fn reports_of_every_verdict_keep_to_their_schemas() {
    let quay = Quay::open();
    let published = include_str!("../../docs/report.schema.json");
    let schema: Value = serde_json::from_str(published).expect("JSON");
    let worker = quay.worker("heron", 2);
    let run = mixed(&quay);
    let junit = report(&quay, &run, "junit");
    is_junit(&junit, &quay);
    for said in [
        "<property name=\"label quay\" value=\"&lt;north&gt;\"/>",
        "<failure type=\"failed\" message=\"expected &lt;Closed&gt; &amp; &quot;late&quot;\">",
        "what attempt 2 printed:\n",
        "before it tore &lt;quay&gt; ",
        "timestamp=\"20",
        "parked: a &lt;broken&gt; scanner",
        "flaky: attempt 1 failed",
    ] {
        assert!(junit.contains(said), "{said}: {junit}");
    }
    let json = is_json(&report(&quay, &run, "json"), &schema);
    let torn = json["entries"].as_array().expect("entries").iter().find(|e| e["test"] == "torn").expect("it is told");
    assert_says(torn["attempts"][0]["output"].as_str().expect("its output"), &["before it tore <quay>"]);
    // What no schema says is refused, so that the schema is known to tell.
    let mut more = json.clone();
    more["entries"][0]["outcome"] = "green".into();
    more["entires"] = Value::Null;
    let held = jsonschema::validator_for(&schema).expect("a schema");
    assert_eq!(held.iter_errors(&more).count(), 2);
    // A strict run, a stopped one, one that is void, and one without a service.
    let steady = quay.tap(
        "steady",
        "a b",
        "if [ -e $t.once ]; then echo \"ok - $t\"; else touch $t.once; echo \"not ok - $t\"; fi",
        "[retry]\ntimes = 1",
    );
    let (status, said) = quay.wait(&steady, &["--flaky-fails"]);
    assert_eq!(status, 1, "{said}");
    let slow = quay.tap("slow", "a b", "sleep 60; echo \"ok - $t\"", "");
    let stopped = quay.start_run(&slow, &[]);
    until("it runs", || (quay.run(&stopped)["tally"]["running"].as_u64() > Some(0)).then_some(()));
    assert!(quay.kesmo(&["stop", &stopped, "--why", "a <late> boat"]).status.success());
    drop(worker);
    let lonely = quay.tap("lonely", "a", "echo \"ok - $t\"", "[limits]\npatience = \"1s\"");
    let (status, said) = quay.wait(&lonely, &[]);
    assert_eq!(status, 10, "{said}");
    for (run, red) in
        [("steady/1", "type=\"flaky\""), (stopped.as_str(), "type=\"stopped\""), ("lonely/1", "type=\"void\"")]
    {
        let junit = report(&quay, run, "junit");
        is_junit(&junit, &quay);
        assert!(junit.contains(red), "{red}: {junit}");
        is_json(&report(&quay, run, "json"), &schema);
    }
    let (xml, file) = (quay.path("here.xml"), quay.path("here.json"));
    let wanted = [format!("junit={}", xml.display()), format!("json={}", file.display())];
    let broken = quay.tap("broken", "a", "echo \"too <late>\"; echo \"not ok - $t\"", "");
    let here = quay.kesmo(&["here", &broken.display().to_string(), "--report", &wanted[0], "--report", &wanted[1]]);
    assert_eq!(here.status.code(), Some(1), "{}", all_said(&here));
    let junit = fs::read_to_string(&xml).expect("a report");
    is_junit(&junit, &quay);
    assert!(junit.contains("too &lt;late&gt;"), "{junit}");
    is_json(&fs::read_to_string(&file).expect("a report"), &schema);
}
