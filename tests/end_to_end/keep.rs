//! What is kept for how long.

use std::{fs, path::PathBuf, process::Command};

use serde_json::Value;

use crate::quay::{Quay, all_said, assert_says, text, until};

/// Lets runs of a suite be over for so many days.
fn age(quay: &Quay, numbers: &str, days: u32) {
    let at = format!("interval '{days} days'");
    quay.sql(&format!("update runs set finished_at = finished_at - {at} where number in ({numbers})"));
}

/// The files that the service keeps.
fn blobs(quay: &Quay) -> Vec<PathBuf> {
    blobs_in(&quay.path("service/blobs"))
}

fn blobs_in(folder: &std::path::Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for start in fs::read_dir(folder).expect("the files").flatten() {
        if start.file_name().len() == 2 {
            all.extend(fs::read_dir(start.path()).expect("a folder").flatten().map(|file| file.path()));
        }
    }
    all
}

/// Lets all files be there for two days.
fn age_blobs(quay: &Quay) {
    for path in blobs(quay) {
        assert!(Command::new("touch").args(["-d", "2 days ago"]).arg(&path).status().expect("touch").success());
    }
}

fn numbers(quay: &Quay) -> Vec<u64> {
    let all = quay.json(&["runs", "--limit", "100"]);
    all.as_array().expect("runs").iter().map(|run| run["number"].as_u64().expect("a number")).collect()
}

#[test]
fn rules_let_go_what_is_old_and_nothing_that_is_needed() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let body = "head -c 70000 /dev/zero | tr '\\0' x; echo; echo $t $KESMO_RUN > \"$KESMO_ARTIFACTS/$t.png\"; grep -qx $t broken && echo \"not ok - $t\" || echo \"ok - $t\"";
    let folder = quay.tap("gate", "a b", body, "[retry]\ntimes = 0");
    let run = |broken: &str| {
        fs::write(folder.join("broken"), broken).expect("what is broken");
        quay.wait(&folder, &[]).0
    };
    // 1 and 2 pass, 3 and 4 fail by a, 5 by b as well, 6 by b alone.
    let ended: Vec<i32> = ["", "", "a\n", "a\n", "a\nb\n", "b\n"].map(run).to_vec();
    assert_eq!(ended, [0, 0, 1, 1, 1, 1]);
    assert_says(&all_said(&quay.kesmo(&["keep", "list"])), &["Everything is kept", "kesmo keep add runs --for 90d"]);
    for (words, why) in [
        (&["runs"][..], "--for 90d, --most 200 or --size 20GiB"),
        (&["runs", "--for", "soon"], "write it like 12h, 90d, 26w or 2y"),
        (&["run", "--for", "9d"], "did you mean \"runs\""),
        (&["runs", "--size", "1 GiB"], "is for logs and artifacts"),
        (&["audit", "--for", "9d", "--suite", "gate"], "are of no suite"),
    ] {
        let refused = quay.kesmo(&[&["keep", "add"], words].concat());
        assert_eq!(refused.status.code(), Some(2), "{words:?}");
        assert_says(&all_said(&refused), &[why]);
    }
    age(&quay, "1,2,3,4,5", 100);
    age_blobs(&quay);
    let before = blobs(&quay).len();
    // Without a rule nothing goes but what nothing needs.
    let freed = quay.json(&["keep", "sweep"]);
    assert_eq!((&freed["runs"], numbers(&quay).len()), (&0.into(), 6));
    assert_eq!(blobs(&quay).len(), before - 1, "all is needed but the list as its worker sent it");
    let added = all_said(&quay.kesmo(&["keep", "add", "runs", "--for", "90d"]));
    assert_says(&added, &["runs: kept are runs for 90 d", "kesmo keep sweep --try"]);
    assert_says(&all_said(&quay.kesmo(&["keep", "add", "runs", "--for", "9d"])), &["--replace"]);
    // 2 is the last that passed, by 5 and 6 it is known that b fails, and since when.
    let tried = all_said(&quay.kesmo(&["keep", "sweep", "--try"]));
    assert_says(&tried, &["A sweep would remove 3 runs"]);
    assert_eq!(numbers(&quay).len(), 6, "it was only tried");
    let swept = all_said(&quay.kesmo(&["keep", "sweep"]));
    assert_says(&swept, &["Removed: 3 runs", "files"]);
    assert_eq!(numbers(&quay), [6, 5, 2]);
    for table in ["attempts", "cases", "results", "artifacts", "batches"] {
        let left = quay.sql(&format!("select count(*) from {table} where run_id not in (select id from runs)"));
        assert_eq!(left, "0", "{table}");
    }
    assert_says(&all_said(&quay.kesmo(&["show", "gate/1"])), &["there is no run gate/1"]);
    assert_says(&all_said(&quay.kesmo(&["failing", "gate"])), &["b"]);
    assert_says(&all_said(&quay.kesmo(&["log", "gate/2", "a"])), &["xxxx"]);
    assert_says(&all_said(&quay.kesmo(&["keep", "list"])), &["runs for 90 d", "removed: 3 runs"]);
    // What was printed goes before the runs do, and pictures of what passed; what is young stays.
    for words in [&["logs", "--for", "30d"][..], &["pictures", "--for", "30d"], &["audit", "--for", "1h"]] {
        assert!(quay.kesmo(&[&["keep", "add"], words].concat()).status.success());
    }
    let audit = quay.json(&["keep", "sweep", "--try"])["audit"].clone();
    assert_eq!(audit, 0, "an hour is not over");
    // 2 and 5 are the last that passed and a run by which a test fails: they stay with all that is theirs.
    let freed = quay.json(&["keep", "sweep"]);
    assert_eq!((&freed["logs"], &freed["pictures"]), (&0.into(), &0.into()), "{freed}");
    assert_eq!(run(""), 0);
    let freed = quay.json(&["keep", "sweep"]);
    assert_eq!(freed["runs"], 2, "2 is not the last that passed any more, and no test fails by 5: {freed}");
    assert_eq!(numbers(&quay), [7, 6]);
    // A run can be removed by name, but for one by which a test fails.
    assert!(quay.kesmo(&["runs", "remove", "gate/7"]).status.success());
    assert_eq!(numbers(&quay), [6]);
    assert_eq!(run("b\n"), 1);
    let refused = quay.kesmo(&["runs", "remove", "gate/8"]);
    assert_says(&all_said(&refused), &["it is known that a test fails now", "kesmo failing gate"]);
    assert!(quay.kesmo(&["keep", "remove", "runs"]).status.success());
    assert_says(&all_said(&quay.kesmo(&["keep", "remove", "runs"])), &["there is no rule named"]);
}

#[test]
fn files_that_nothing_needs_go_and_what_comes_meanwhile_stays() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let body = "head -c 70000 /dev/zero | tr '\\0' y; echo; cp big \"$KESMO_ARTIFACTS/$t.bin\"; echo ok - $t";
    let folder = quay.tap("bulky", "a b c d", body, "");
    fs::write(folder.join("big"), "z".repeat(5000)).expect("a file");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    // A file that nothing needs, and one that is young.
    let lone = |name: &str, days: &str| {
        let path = quay.path(&format!("service/blobs/{}/{}", &name[..2], &name[2..]));
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(&path, "nobody's").expect("a file");
        assert!(Command::new("touch").args(["-d", days]).arg(&path).status().expect("touch").success());
        path
    };
    let (old, young) = (lone(&"ab".repeat(32), "2 days ago"), lone(&"cd".repeat(32), "1 hour ago"));
    age_blobs(&quay);
    assert!(Command::new("touch").arg(&young).status().expect("touch").success());
    // A client that asks whether its files are here is told so, and they stay though no run has them: the run comes after.
    let first = text(&quay.kesmo(&["keep", "sweep", "--json"]).stdout);
    let first: Value = serde_json::from_str(&first).expect("JSON");
    assert!(!old.exists() && young.exists(), "{first}");
    // With it goes the list as its worker sent it: it was read long since.
    assert_eq!((&first["files"], &first["bytes"]), (&2.into(), &16.into()));
    quay.sql("update runs set finished_at = finished_at - interval '100 days'; insert into runs (suite_id, number, source, pool, options, labels, seed, started_by, phase, verdict, reason, listings, listed, tally, stats, strip, created_at, began_at, finished_at, parks, origin, images) select suite_id, 99, source, pool, options, labels, seed, started_by, phase, verdict, reason, listings, listed, tally, stats, strip, created_at, began_at, finished_at + interval '100 days', parks, origin, images from runs");
    assert!(quay.kesmo(&["keep", "add", "artifacts", "--for", "30d", "--suite", "bul*"]).status.success());
    assert!(quay.kesmo(&["keep", "add", "logs", "--for", "30d"]).status.success());
    age_blobs(&quay);
    let swept = until("nobody else sweeps", || {
        let freed = quay.kesmo(&["keep", "sweep", "--json"]);
        freed.status.success().then(|| serde_json::from_slice::<Value>(&freed.stdout).expect("JSON"))
    });
    assert_eq!((&swept["artifacts"], &swept["logs"]), (&1.into(), &1.into()), "{swept}");
    assert!(swept["files"].as_u64().expect("a number") >= 2, "{swept}");
    assert_says(&all_said(&quay.kesmo(&["log", "bulky/1", "a"])), &["what it printed is not kept any more"]);
    assert_says(&all_said(&quay.kesmo(&["artifacts", "bulky/1"])), &[""]);
    // The suite's own files are needed still.
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let again = quay.json(&["keep", "sweep"]);
    assert_eq!((&again["artifacts"], &again["logs"]), (&0.into(), &0.into()), "what went need not go again: {again}");
}

#[test]
fn a_month_of_which_no_run_is_left_is_dropped_whole_and_one_of_which_some_stay_is_not() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap("monthly", "a b", "echo ok - $t", "");
    for _ in 0..4 {
        assert_eq!(quay.wait(&folder, &[]).0, 0);
    }
    // Runs 1 and 2 were made in one month long ago, and 3 in the next; 4 was made today.
    for (month, next, runs) in [("2020-01-01", "2020-02-01", "1,2"), ("2020-02-01", "2020-03-01", "3")] {
        let part = &month[..7].replace('-', "_");
        for table in ["attempts", "cases", "results"] {
            quay.sql(&format!(
                "create table {table}_{part} partition of {table} for values from ('{month}') to ('{next}')"
            ));
            quay.sql(&format!(
                "update {table} set month = '{month}' where run_id in (select id from runs where number in ({runs}))"
            ));
        }
        quay.sql(&format!(
            "update runs set created_at = '{month} 12:00Z', began_at = '{month} 12:00Z', finished_at = '{month} 12:01Z' where number in ({runs})"
        ));
    }
    let there = |part: &str| quay.sql(&format!("select to_regclass('{part}') is not null")) == "t";
    assert!(there("attempts_2020_01") && there("attempts_2020_02"));
    quay.sql("update runs set branch = 'old' where number = 3");
    // One that was made in that month, and was not over until now, needs it though nothing of it is in there: as one that waits does.
    for table in ["attempts", "cases", "results"] {
        quay.sql(&format!("delete from {table} where run_id = (select id from runs where number = 2)"));
    }
    quay.sql("update runs set finished_at = now() where number = 2");
    assert!(quay.kesmo(&["keep", "add", "runs", "--for", "90d"]).status.success());
    assert_eq!(quay.json(&["keep", "sweep"])["months"], 0);
    assert!(there("attempts_2020_01"));
    assert_eq!(numbers(&quay), [4, 3, 2]);
    quay.sql("update runs set finished_at = '2020-01-01 12:01Z' where number = 2");
    // A branch keeps its own last run that passed, and with it its month.
    let freed = quay.json(&["keep", "sweep"]);
    assert_eq!((&freed["runs"], &freed["months"]), (&1.into(), &1.into()), "{freed}");
    assert!(!there("attempts_2020_01") && !there("cases_2020_01") && !there("results_2020_01"));
    assert!(there("attempts_2020_02"));
    assert_eq!(numbers(&quay), [4, 3]);
    assert_says(&all_said(&quay.kesmo(&["log", "monthly/3", "a"])), &["attempt 1", "passed"]);
    assert_eq!(quay.wait(&folder, &[]).0, 0, "runs go on as before");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_has_a_page_of_what_it_keeps_shares_and_was_told() {
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
    open("/service").await;
    page.shows(&[
        "Everything is kept",
        "There is none",
        "Nothing is shown without a sign-in",
        "token add",
        "worker-heron, worker",
    ])
    .await;
    let folder = quay.tap("paged", "a", "echo ok - $t", "");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    fs::write(quay.path("value"), "sesame of the page").expect("the value");
    for words in [
        &["keep", "add", "runs", "--for", "90d"][..],
        &["secret", "add", "page-password", "--suite", "paged", "--from", "value"],
        &["share", "paged/1"],
    ] {
        assert!(quay.kesmo(words).status.success(), "{words:?}");
    }
    open("/service").await;
    page.shows(&[
        "runs for 90 d",
        "page-password",
        "runs of paged",
        "never",
        "report",
        "paged/1",
        "secret add",
        "share",
    ])
    .await;
    page.click("//button[@aria-label='End the report of paged/1']").await;
    page.shows(&["Nothing is shown without a sign-in"]).await;
    open("/service?what=secret%20add").await;
    page.shows(&["PUT /api/secrets/page-password"]).await;
    page.click("//input[@id='refused']").await;
    page.shows(&["Nothing of that kind is on record"]).await;
    // An admin does the same here: what cannot be is said, and a value is shown nowhere again.
    open("/service").await;
    page.types("keep-limit", "30").await;
    page.types("keep-suite", "paged").await;
    page.click("//button[text()='Add the rule']").await;
    page.shows(&["logs-paged", "logs for 30 d, of suites paged"]).await;
    page.types("keep-limit", "7").await;
    page.click("//button[text()='Add the rule']").await;
    page.shows(&["logs for 7 d, of suites paged"]).await;
    page.click("//button[text()='What would go']").await;
    page.shows(&["Would go: nothing."]).await;
    page.click("//button[@aria-label='Remove the rule logs-paged']").await;
    until("it is removed", || {
        (quay.json(&["keep", "list"])["rules"].as_array().map(Vec::len) == Some(1)).then_some(())
    });
    page.types("secret-name", "clicked-password").await;
    page.types("secret-value", "short").await;
    page.click("//select[@aria-label='Given to']/option[text()='runs of suites']").await;
    page.types("secret-of", "paged").await;
    page.click("//button[text()='Keep the secret']").await;
    page.shows(&["must have 6 at least"]).await;
    page.types("secret-value", " sesame of the form").await;
    page.click("//button[text()='Keep the secret']").await;
    page.shows(&["clicked-password", "runs of paged"]).await;
    page.click("//button[@aria-label='Remove the secret page-password']").await;
    until("it is removed", || (quay.json(&["secret", "list"]).as_array().map(Vec::len) == Some(1)).then_some(()));
    assert!(!page.text().await.contains("sesame"));
    page.client.clone().close().await.expect("the browser ends");
}

#[test]
fn a_copy_that_was_made_while_the_service_went_on_is_a_service_again() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let body = "head -c 70000 /dev/zero | tr '\\0' x; echo; echo $t > \"$KESMO_ARTIFACTS/$t.txt\"; test \"$P\" && echo ok - $t";
    let folder = quay.tap("copied", "a b", body, "[secrets]\nP = \"copied-password\"");
    fs::write(quay.path("value"), "sesame of the copy").expect("the value");
    assert!(quay.kesmo(&["secret", "add", "copied-password", "--from", "value"]).status.success());
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let log = all_said(&quay.kesmo(&["log", "copied/1", "a"]));
    let data = quay.path("service").display().to_string();
    let to = quay.path("copy").display().to_string();
    let going = quay.start_run(&folder, &[]);
    let copy = quay.kesmo(&["backup", &to, "--data", &data, "--with-key"]);
    assert!(copy.status.success(), "{}", all_said(&copy));
    assert_says(&all_said(&copy), &["the database, and", "files"]);
    until("the run is over", || quay.run(&going)["verdict"].is_string().then_some(()));
    for (words, why) in [
        (&["backup", &to, "--data", &data][..], "holds something"),
        (&["backup", "/tmp/kesmo-nowhere", "--data", "/nowhere"], "is no data folder of a service"),
        (&["restore", &to, "--data", &data], "the database holds something of Kesmo already"),
        (&["restore", "/nowhere", "--data", "other"], "is no copy that is whole"),
    ] {
        let refused = quay.kesmo(words);
        assert_eq!(refused.status.code(), Some(2), "{}", all_said(&refused));
        assert_says(&all_said(&refused), &[why]);
    }
    let token = quay.token();
    let other = Quay::with_options_in(|dir| {
        let service = dir.join("service").display().to_string();
        let restored = quay.kesmo(&["restore", &to, "--data", &service]);
        assert!(restored.status.success(), "{}", all_said(&restored));
        fs::write(dir.join("service/admin-token"), &token).expect("the admin's token is the one that it was");
        Vec::new()
    });
    assert_eq!(all_said(&other.kesmo(&["log", "copied/1", "a"])), log);
    assert_eq!(other.run("copied/1")["verdict"], "passed");
    // What went on goes on there, and its secrets open.
    let _other_worker = other.worker("tern", 2);
    until("the run is over there too", || (other.run(&going)["verdict"] == "passed").then_some(()));
    assert_eq!(other.wait(&folder, &[]).0, 0);
    // A copy of which something is missing is refused before anything is touched.
    let some = blobs_in(&quay.path("copy/files")).pop().expect("a file");
    fs::remove_file(some).expect("it goes");
    let refused = quay.kesmo(&["restore", &to, "--data", &quay.path("third").display().to_string()]);
    assert_says(&all_said(&refused), &["is no copy that is whole: it has"]);
    assert!(!quay.path("third").exists());
}
