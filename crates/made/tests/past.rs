//! Made runs of the past, against a real PostgreSQL: as many as were asked for, once, marked, and broken where they are to be.

use std::os::unix::fs::PermissionsExt;

use chrono::{DateTime, TimeDelta, TimeZone, Utc};
use kesmo_core::words::Outcome;
use kesmo_database::Postgres;
use kesmo_made::{
    quay::{Habit, characters, usual},
    suites::Suite,
    writing::{PastCommit, make, make_of_commits},
};
use kesmo_store::{Store, month_of, runs::Filter};

struct Place {
    postgres: Postgres,
    folder: tempfile::TempDir,
}

impl Drop for Place {
    fn drop(&mut self) {
        if let Err(e) = self.postgres.stop() {
            eprintln!("{e}");
        }
    }
}

async fn place() -> (Place, Store) {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("its rights");
    let data = folder.path().join("data");
    std::fs::create_dir_all(&data).expect("a folder");
    let postgres = tokio::task::spawn_blocking(move || Postgres::start(&data)).await.expect("a thread");
    let postgres = postgres.expect("PostgreSQL starts");
    let store = Store::open(&postgres.url()).await.expect("the store opens");
    (Place { postgres, folder }, store)
}

/// A suite of these tests in a folder, added to the service.
async fn suite(place: &Place, store: &Store, name: &str, tests: &str) -> Suite {
    let folder = place.folder.path().join(name);
    std::fs::create_dir_all(&folder).expect("a folder");
    let file = format!(
        "suite = \"{name}\"\n[tests]\nlist = [\"printf\", \"{tests}\"]\nrun = [\"true\", \"{{names}}\"]\nresults = \"tap\"\n"
    );
    std::fs::write(folder.join("kesmo.toml"), file).expect("a suite file");
    store.add_source(&format!("{name}-files"), "suite = …").await.expect("a source");
    store.put_suite(name, "", &format!("{name}-files"), true).await.expect("a suite");
    Suite::read(&folder).expect("it is read")
}

fn monday() -> DateTime<Utc> {
    Utc.with_ymd_and_hms(2026, 11, 23, 1, 0, 0).single().expect("a moment")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_past_is_made_once_on_its_days_and_marked() {
    let (place, store) = place().await;
    let gate = suite(&place, &store, "boarding-gate", "gate/late/closed_five_minutes_before\\ngate/early\\n").await;
    let habit = Habit { suite: "boarding-gate", hours: &[2, 11], at_weekends: false, smoke_at: &[] };
    let made = make(&store, &gate, &habit, monday(), 14).await.expect("it is made");
    assert_eq!(made, 20, "twice on each of ten days of work");
    assert_eq!(make(&store, &gate, &habit, monday(), 14).await.expect("again"), 0, "they are there already");
    let all = store.runs(&Filter { limit: 100, ..Filter::default() }).await.expect("runs");
    assert_eq!(all.len(), 20);
    assert!(all.iter().all(|(run, _)| run.phase == "finished"
        && run.labels["made"] == "history"
        && run.started_by == "made history"));
    // It broke nine days before the end, and did not before.
    let broke = monday() - TimeDelta::days(9);
    for (run, _) in &all {
        let failed = run.verdict.as_deref() == Some("failed");
        assert_eq!(failed, run.created_at > broke, "{} {:?}", run.created_at, run.verdict);
    }
    let (last, _) = &all[0];
    let attempts = store.attempts_of(last.id, month_of(last.created_at), &[0, 1]).await.expect("attempts");
    let failing = attempts.iter().find(|a| a.ended == "failed").expect("it failed");
    assert_eq!(failing.message, "expected Closed, got Boarding");
    assert_eq!(
        attempts.iter().filter_map(|a| a.decided.as_deref()).filter(|o| *o == Outcome::Failed.word()).count(),
        1
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_for_each_commit_breaks_at_the_one_that_is_to() {
    let (place, store) = place().await;
    let notices = suite(&place, &store, "notices", "says/gull-rock/late\\nsays/gull-rock/on_time\\n").await;
    let commit = |n: i64| PastCommit { hash: format!("{n:040x}"), at: monday() - TimeDelta::hours(50 - n * 5) };
    let commits: Vec<PastCommit> = (0..8).map(commit).collect();
    assert_eq!(make_of_commits(&store, &notices, &commits, Some(5), monday(), 14).await.expect("it is made"), 8);
    let mut all = store.runs(&Filter { limit: 100, ..Filter::default() }).await.expect("runs");
    all.sort_by_key(|(run, _)| run.created_at);
    let told: Vec<(Option<&str>, bool)> =
        all.iter().map(|(run, _)| (run.commit.as_deref(), run.verdict.as_deref() == Some("failed"))).collect();
    let wanted: Vec<(Option<&str>, bool)> =
        commits.iter().enumerate().map(|(n, c)| (Some(c.hash.as_str()), n >= 5)).collect();
    assert_eq!(told, wanted);
    let nowhere = Suite { folder: notices.folder.clone(), file: notices.file.clone(), tests: Vec::new() };
    let none = store.put_suite("other", "", "notices-files", true).await;
    assert!(none.is_ok());
    assert!(make_of_commits(&store, &nowhere, &commits, None, monday(), 14).await.is_err(), "it has no tests");
}

#[test]
fn what_cannot_have_a_past_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let write = |more: &str, list: &str| {
        let file = format!(
            "suite = \"odd\"\n[tests]\nlist = [{list}]\nrun = [\"true\", \"{{names}}\"]\nresults = \"tap\"\n{more}"
        );
        std::fs::write(folder.path().join("kesmo.toml"), file).expect("a suite file");
        Suite::read(folder.path()).map(|suite| suite.tests.len())
    };
    assert_eq!(write("", "\"echo\", \"a\""), Ok(1));
    assert!(write("[facets]\nsea = [\"calm\"]\n", "\"echo\", \"a\"").expect_err("facets").contains("facets or files"));
    assert!(write("", "\"sh\", \"-c\", \"echo no tide >&2; exit 3\"").expect_err("it fails").contains("no tide"));
    assert!(write("", "\"no-such-program-here\"").expect_err("none").contains("no-such-program-here"));
    assert!(Suite::read(&folder.path().join("nowhere")).expect_err("no folder").contains("kesmo.toml"));
}

#[test]
fn tests_behave_the_same_whenever_they_are_asked() {
    let (one, again) = (usual("fares", "fares/adult", None), usual("fares", "fares/adult", None));
    assert_eq!((one.usual, one.spread), (again.usual, again.spread));
    assert_ne!(one.usual, usual("fares", "fares/child", None).usual);
    let gate = characters("boarding-gate", 42.0);
    assert_eq!(gate["gate/late/closed_five_minutes_before"].broken[0].0, 33.0, "nine days before the end");
    assert!(characters("nothing-known", 42.0).is_empty());
}
