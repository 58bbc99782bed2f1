//! Requirements and what their tests showed last; and addresses that show one thing without a sign-in.

use std::fs;

use serde_json::Value;

use crate::{
    holes::call,
    quay::{Quay, all_said, assert_says, text, until},
};

/// A suite of tests that tell what they cover: each fails whose name is in the file `broken`, and `told` is what `gate/tells` tells.
fn gate(quay: &Quay, covers: &str) -> std::path::PathBuf {
    let script = "if [ \"$1\" = --names ]; then cat names; exit; fi\nexec 3>\"$KESMO_EVENTS\"\n\
        for t in \"$@\"; do printf '{\"test\":\"%s\",\"event\":\"start\"}\\n' $t >&3\n\
        if [ $t = gate/tells ]; then cat told >&3; fi\n\
        if grep -qx $t broken; then o=failed; else o=passed; fi\n\
        printf '{\"test\":\"%s\",\"event\":\"end\",\"outcome\":\"%s\"}\\n' $t $o >&3; done";
    let folder = quay.suite("gate", "events", script, &format!("[retry]\ntimes = 0\n[covers]\n{covers}"));
    let names =
        "gate/late/refused\ngate/late/pays\n{\"name\":\"gate/early\",\"covers\":[\"REQ-9\",\"=1+1\"]}\ngate/tells\n";
    fs::write(folder.join("names"), names).expect("the names");
    fs::write(folder.join("broken"), "").expect("what is broken");
    let told = "{\"test\":\"gate/tells\",\"event\":\"covers\",\"of\":[\"REQ-7\",\"REQ-7\"]}\n";
    fs::write(folder.join("told"), told).expect("what is told");
    folder
}

fn shown(quay: &Quay, words: &[&str]) -> Vec<(String, String)> {
    let all = quay.json(&[&["covers"], words].concat());
    let one = |r: &Value| {
        (r["requirement"].as_str().expect("a name").to_owned(), r["shown"].as_str().expect("a word").to_owned())
    };
    all["requirements"].as_array().expect("requirements").iter().map(one).collect()
}

fn pairs(pairs: &[(&str, &str)]) -> Vec<(String, String)> {
    pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
}

#[test]
fn requirements_are_told_by_what_their_tests_showed_last() {
    let mut quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    assert_says(&all_said(&quay.kesmo(&["covers"])), &["No test covers a requirement", "[covers]"]);
    let folder = gate(&quay, "\"gate/late/**\" = [\"REQ-118\"]\n\"gate/late/pays\" = [\"REQ-204\"]");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let all = ["=1+1", "REQ-118", "REQ-204", "REQ-7", "REQ-9"];
    assert_eq!(shown(&quay, &[]), pairs(&all.map(|r| (r, "passed"))));
    // A failing test is told until it passes, whatever passes besides.
    fs::write(folder.join("broken"), "gate/late/pays\n").expect("what is broken");
    assert_eq!(quay.wait(&folder, &["--label", "release=1"]).0, 1);
    fs::write(folder.join("broken"), "").expect("what is broken");
    assert_eq!(quay.wait(&folder, &["--pick", "gate/late/refused"]).0, 0);
    assert_eq!(
        shown(&quay, &[]),
        pairs(&[
            ("=1+1", "passed"),
            ("REQ-118", "failed"),
            ("REQ-204", "failed"),
            ("REQ-7", "passed"),
            ("REQ-9", "passed")
        ])
    );
    let of = all_said(&quay.kesmo(&["covers", "REQ-118"]));
    assert_says(&of, &["REQ-118", "◆ failed", "gate/late/pays", "gate/2", "gate/late/refused", "gate/3", "the suite"]);
    assert_says(&all_said(&quay.kesmo(&["covers", "REQ-7"])), &["gate/tells", "the test itself"]);
    let none = quay.kesmo(&["covers", "REQ-1"]);
    assert_eq!(none.status.code(), Some(2));
    assert_says(&all_said(&none), &["no test covers the requirement \"REQ-1\"", "[covers]"]);
    // One that is parked shows nothing now; one that no run of a branch had was never run there.
    assert!(quay.kesmo(&["park", "gate", "gate/late/pays", "--until", "2w", "--why", "late"]).status.success());
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let late: Vec<_> =
        shown(&quay, &[]).into_iter().filter(|r| r.0.starts_with("REQ-118") || r.0 == "REQ-204").collect();
    assert_eq!(late, pairs(&[("REQ-118", "in-part"), ("REQ-204", "in-part")]));
    assert!(shown(&quay, &["--branch", "nowhere"]).iter().all(|r| r.1 == "not-run"));
    let csv = text(&quay.kesmo(&["covers", "--csv"]).stdout);
    assert_says(
        &csv,
        &[
            "requirement,suite,test,variant,outcome,run,at,told",
            "REQ-118,gate,gate/late/pays,,parked,gate/4,",
            "REQ-7,gate,gate/tells,,passed,gate/4,",
        ],
    );
    assert!(csv.lines().all(|line| !line.starts_with('=')), "no cell is a formula: {csv}");
    // What the suite says anew stands, what a test tells anew too; what is not there any more covers nothing. The service ends before the
    // run is told to the records, and another does that.
    assert!(quay.kesmo(&["unpark", "gate", "gate/late/pays"]).status.success());
    let folder = gate(&quay, "\"gate/late/pays\" = [\"REQ-205\"]");
    fs::write(folder.join("names"), "gate/late/pays\ngate/tells\n").expect("the names");
    fs::write(folder.join("told"), "{\"test\":\"gate/tells\",\"event\":\"covers\",\"of\":[\"REQ-8\"]}\n")
        .expect("told");
    quay.sql("alter table covers add constraint held check (requirement <> 'REQ-205')");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    quay.kill_service();
    quay.sql("alter table covers drop constraint held");
    quay.sql("update runs set finished_at = finished_at - interval '5 minutes' where number = 5");
    quay.start();
    let now = until("the run is recorded", || {
        let now = shown(&quay, &[]);
        now.iter().any(|r| r.0 == "REQ-205").then_some(now)
    });
    assert_eq!(now, pairs(&[("REQ-205", "passed"), ("REQ-8", "passed")]));
    assert_eq!(quay.sql("select count(*) from run_covers"), "0");
    // What cannot be is refused with its line, and what a test cannot tell does not pass unseen.
    let refused = quay.kesmo(&["start", &gate(&quay, "\"gate/**\" = []").to_string_lossy()]);
    assert_eq!(refused.status.code(), Some(2));
    assert_says(&all_said(&refused), &["kesmo.toml line 9", "names no requirement"]);
    let folder = gate(&quay, "\"gate/late/pays\" = [\"REQ-205\"]");
    fs::write(folder.join("told"), "{\"test\":\"gate/tells\",\"event\":\"covers\",\"of\":[\"\"]}\n").expect("told");
    let (_, said) = quay.wait(&folder, &[]);
    assert_says(&said, &["the requirement \"\" must have 1 to 200 bytes"]);
}

fn key(address: &str) -> &str {
    address.rsplit_once("/shared/").expect("an address").1
}

/// What the address shows to somebody who is not signed in.
fn look(quay: &Quay, address: &str) -> (u16, String) {
    let (status, said, _) = call(quay, "GET", &format!("/shared/{}", key(address)), &[], b"");
    (status, said)
}

#[test]
fn what_is_shared_is_shown_to_whoever_has_the_address_until_it_ends() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    assert_says(&all_said(&quay.kesmo(&["share"])), &["Nothing is shared"]);
    let folder = quay.tap(
        "gate",
        "good bad",
        "case $t in bad) echo not ok - bad;; *) echo ok - $t;; esac",
        "[retry]\ntimes = 0",
    );
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    assert!(quay.kesmo(&["brief", "add", "smoke", "--suite", "gate", "--pick", "good"]).status.success());
    let share = |words: &[&str]| text(&quay.kesmo(&[&["share"], words].concat()).stdout).trim().to_owned();
    let badge = share(&["--badge", "gate"]);
    assert_says(&look(&quay, &badge).1, &["<svg", "no run yet"]);
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    assert!(quay.kesmo(&["start", "--brief", "smoke", "--wait"]).status.success());
    // A run's report, without a sign-in and without anything of the console.
    let report = share(&["gate/1"]);
    let (status, said) = look(&quay, &report);
    assert_eq!(status, 200);
    assert_says(&said, &["gate/1", "bad", "<!doctype html>"]);
    // The picture tells what fails, though the last run of it passed; a brief's tells of its own runs.
    let (status, said) = look(&quay, &badge);
    assert_eq!(status, 200);
    assert_says(&said, &["aria-label=\"gate: ◆ 1 test fails\""]);
    let of_brief = share(&["--badge", "--brief", "smoke"]);
    assert_says(&look(&quay, &of_brief).1, &["aria-label=\"smoke: ● passed 20"]);
    // What fails on another branch is not told by one of a branch.
    quay.sql("update runs set branch = case number when 1 then 'tides' else 'main' end");
    quay.sql("update failing set branch = 'tides'");
    let of_branch = share(&["--badge", "gate", "--branch", "main"]);
    assert_says(&look(&quay, &of_branch).1, &["aria-label=\"gate main: ● passed 20"]);
    let of_other = share(&["--badge", "gate", "--branch", "tides"]);
    assert_says(&look(&quay, &of_other).1, &["aria-label=\"gate tides: ◆ 1 test fails\""]);
    let of_both = share(&["--feed", "gate", "--brief", "smoke", "--branch", "main"]);
    let said = look(&quay, &of_both).1;
    assert!(said.contains("gate/2 passed") && !said.contains("gate/1"), "{said}");
    assert_says(&all_said(&quay.kesmo(&["share"])), &["gate, brief smoke, branch main"]);
    let feed = share(&["--feed", "gate", "--until", "2w"]);
    assert_says(
        &look(&quay, &feed).1,
        &["<feed", "◆ gate/1 failed", "● gate/2 passed", &format!("{}/runs/gate/1", quay.url)],
    );
    // It can be ended, ends by itself, and says nothing of what it was.
    let list = quay.json(&["share"]);
    let id_of = |of: &str, kind: &str| {
        let all = list.as_array().expect("a list");
        all.iter().find(|s| s["of"] == of && s["kind"] == kind).expect("it is listed")["id"].to_string()
    };
    assert!(!list.to_string().contains(key(&report)), "keys are told once");
    assert!(!quay.sql("select string_agg(shares::text, ' ') from shares").contains(key(&report)), "and kept as hashes");
    assert_says(&all_said(&quay.kesmo(&["share"])), &["gate/1", "brief smoke", "it is ended"]);
    assert!(quay.kesmo(&["share", "--end", &id_of("gate", "badge")]).status.success());
    quay.sql(&format!("update shares set until = now() where id = {}", id_of("gate/1", "run")));
    for gone in [&badge, &report, &format!("{report}x")] {
        let (status, said) = look(&quay, gone);
        assert_eq!(status, 404, "{said}");
        assert_says(&said, &["nothing is shared at this address"]);
    }
    // An address opens nothing else.
    let bearer = format!("Bearer {}", key(&of_brief).trim_end_matches(".svg"));
    assert_eq!(call(&quay, "GET", "/api/runs", &[("Authorization", &bearer)], b"").0, 401);
    for (words, why) in [
        (&["gate/9"][..], "there is no run gate/9"),
        (&["--badge"], "a badge or feed is of a suite"),
        (&["--badge", "gote"], "did you mean \"gate\""),
        (&["--feed", "--brief", "smok"], "there is no brief named"),
        (
            &["--badge", "gate", "--branch", "tide"],
            "nothing of it ran on the branch \"tide\" yet; did you mean \"tides\"?",
        ),
        (&["--badge", "gate", "--branch", &"x".repeat(100_000)], "is not usable: write it as git does"),
        (&["--feed", "--branch", "main"], "a badge or feed is of a suite"),
        (&["--branch", "main"], "what is to be shared?"),
        (&["gate/1", "--until", "2020-01-01"], "has passed"),
        (&["gate/1", "--until", "soon"], "is not a valid day"),
        (&["--until", "7d"], "what is to be shared?"),
        (&["--end", "77"], "there is no address 77"),
    ] {
        let refused = quay.kesmo(&[&["share"], words].concat());
        assert!(!refused.status.success());
        assert_says(&all_said(&refused), &[why]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn requirements_have_their_page_and_a_report_is_shared_from_its_run() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let page = crate::console::browser(1280, 900).await;
    let url = &quay.url;
    page.client.goto(&format!("{url}/#token={}", quay.token())).await.expect("the page opens");
    page.shows(&["Nothing has run yet"]).await;
    let open = async |path: &str| page.client.goto(&format!("{url}{path}")).await.expect("the page opens");
    open("/covers").await;
    page.shows(&["No test covers a requirement", "[covers]"]).await;
    let folder = gate(&quay, "\"gate/late/**\" = [\"REQ-118\"]");
    fs::write(folder.join("broken"), "gate/late/pays\n").expect("what is broken");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    open("/covers").await;
    page.shows(&["4 requirements", "1 failed · 3 passed"]).await;
    page.click("//a[text()='REQ-118']").await;
    page.shows(&["REQ-118", "◆ failed", "pays", "refused", "gate/1", "the suite"]).await;
    open("/runs/gate/1").await;
    page.click("//button[text()='Share the report']").await;
    page.shows(&["Whoever has this address sees the report until"]).await;
    let text = page.text().await;
    let address = text.split("/shared/").nth(1).expect("an address").split_whitespace().next().expect("its key");
    open(&format!("/shared/{address}")).await;
    page.shows(&["gate/1", "gate/late/pays"]).await;
    page.client.clone().close().await.expect("the browser ends");
}
