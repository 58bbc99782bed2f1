//! What is removed, and what stays whatever is asked for.

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use kesmo_core::{
    keep::{Freed, Rule},
    words::{Ended, Outcome, Phase, Verdict},
};
use kesmo_store::{
    audit::{AuditFilter, NewAudit},
    commit::{Commit, NewArtifact, NewAttempt, NewBatch},
    failing::{FailingChange, FailingRow},
    month_of,
    records::RecordChange,
    runs::RunRow,
    sweep::{GONE, Sweeping},
};

use crate::{Apart, attempt, change, no_covers, results, run};

fn rule(text: &str) -> Rule {
    serde_json::from_str(text).unwrap()
}

/// A run that is over, with a batch, an attempt that printed something and a picture of it, recorded.
async fn over(apart: &Apart, suite: &str, outcome: Outcome) -> RunRow {
    let store = &apart.store;
    let run = run(store, suite, &[]).await;
    let ended = if outcome == Outcome::Failed { Ended::Failed } else { Ended::Passed };
    let file = |path: &str, entry| NewArtifact {
        run_id: run.id,
        entry,
        batch: 1,
        path: path.into(),
        about: String::new(),
        digest: format!("{path}-of-{}", run.id),
        bytes: 100,
    };
    let verdict = if outcome == Outcome::Failed { Verdict::Failed } else { Verdict::Passed };
    let commit = Commit {
        batches: vec![NewBatch {
            run_id: run.id,
            number: 1,
            worker: "heron".into(),
            slot: 0,
            entries: vec![0],
            granted_at: Utc::now(),
        }],
        over: vec![(run.id, 1)],
        attempts: vec![NewAttempt {
            log_blob: Some(format!("log-{}", run.id)),
            ..attempt(&run, 0, 1, ended, Some(outcome))
        }],
        artifacts: vec![file("shot.PNG", Some(0)), file("trace.txt", Some(0)), file("whole.png", None)],
        runs: vec![change(&run, Phase::Finished, Some(verdict))],
        ..Commit::default()
    };
    store.commit(&commit).await.unwrap();
    run
}

/// Its records are written; with what fails by it, where something does.
async fn record(apart: &Apart, run: &RunRow, outcome: Outcome) {
    let results = [results(run, &[("gate", outcome, 1, 5)])];
    let row = FailingRow {
        id: 0,
        branch: String::new(),
        variant: String::new(),
        test: "gate".into(),
        since_run: run.id,
        last_run: run.id,
        entry: 0,
        runs: 1,
        passes_before: 0,
    };
    let failing = if outcome == Outcome::Failed { vec![row] } else { Vec::new() };
    let failing = FailingChange { failing, cleared: Vec::new() };
    let told = RecordChange {
        runs: &[run.id],
        results: &results,
        records: &[],
        start_cost: None,
        failing: &failing,
        covers: &no_covers(),
        variants: None,
    };
    assert!(apart.store.put_records(run.suite_id, "main", &told).await.unwrap());
}

fn named(run: &RunRow) -> (i64, NaiveDate) {
    (run.id, month_of(run.created_at))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_goes_with_all_that_is_its_and_not_before_it_is_recorded_or_while_a_test_fails_by_it() {
    let apart = Apart::new("sweep_runs").await;
    let store = &apart.store;
    let (passed, failed) = (over(&apart, "fare", Outcome::Passed).await, over(&apart, "fare", Outcome::Failed).await);
    let going = run(store, "fare", &[]).await;
    let all = [named(&passed), named(&failed), named(&going)];
    assert_eq!(store.remove_runs(&all).await.unwrap(), (0, 0), "they are not recorded, or not over");
    assert!(store.over_runs(true).await.unwrap().is_empty());
    record(&apart, &passed, Outcome::Passed).await;
    record(&apart, &failed, Outcome::Failed).await;
    let told = store.over_runs(true).await.unwrap();
    let of = |run: &RunRow| told.iter().find(|one| one.id == run.id).unwrap();
    assert!(!of(&passed).needed && of(&failed).needed);
    assert_eq!((of(&passed).files, of(&passed).logs, of(&passed).suite.as_str()), (300, 7, "fare"));
    assert_eq!(store.over_runs(false).await.unwrap()[0].logs, 0, "it takes long, and was not asked for");
    assert_eq!(store.remove_runs(&all).await.unwrap(), (1, 0));
    assert!(store.run_of(passed.id).await.unwrap().is_none());
    assert!(store.run_of(failed.id).await.unwrap().is_some() && store.run_of(going.id).await.unwrap().is_some());
    assert_eq!(apart.told("select count(*)::text from batches").await, ["1"], "the other's stays");
    for table in ["batches", "attempts", "cases", "results", "artifacts", "unrecorded"] {
        let left = apart.told(&format!("select count(*)::text from {table} where run_id = {}", passed.id)).await;
        assert_eq!(left, ["0"], "{table}");
    }
    // What nothing needs any more is told apart from what something does.
    let digests = [format!("log-{}", passed.id), format!("log-{}", failed.id), format!("trace.txt-of-{}", failed.id)];
    let mut needed = store.needed_files(&digests).await.unwrap();
    needed.sort();
    assert_eq!(needed, digests[1..]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_month_of_which_nothing_stays_is_dropped_whole() {
    let apart = Apart::new("sweep_months").await;
    let store = &apart.store;
    let (one, two) = (over(&apart, "fare", Outcome::Passed).await, over(&apart, "fare", Outcome::Passed).await);
    let now = over(&apart, "fare", Outcome::Passed).await;
    for run in [&one, &two, &now] {
        record(&apart, run, Outcome::Passed).await;
    }
    // They are of a month that is long over.
    let (month, next) = (NaiveDate::from_ymd_opt(2026, 3, 1).unwrap(), NaiveDate::from_ymd_opt(2026, 4, 1).unwrap());
    for table in ["attempts", "cases", "results"] {
        apart
            .sql(&format!(
                "create table {table}_2026_03 partition of {table} for values from ('{month}') to ('{next}');\n\
                 update {table} set month = '{month}' where run_id in ({}, {})",
                one.id, two.id
            ))
            .await;
    }
    apart.sql(&format!("update runs set created_at = '2026-03-14' where id in ({}, {})", one.id, two.id)).await;
    let there = async || {
        apart
            .told("select relname::text from pg_class where relname like '%_2026_03' and relkind = 'r' order by 1")
            .await
    };
    assert_eq!(there().await.len(), 3);
    // One of it stays: then it goes row by row.
    assert_eq!(store.remove_runs(&[(one.id, month)]).await.unwrap(), (1, 0));
    assert_eq!(there().await.len(), 3);
    assert_eq!(store.remove_runs(&[(two.id, month), named(&now)]).await.unwrap(), (2, 1));
    assert_eq!(there().await, Vec::<String>::new());
    assert_eq!(apart.told("select count(*)::text from attempts").await, ["0"]);
    assert_eq!(store.remove_runs(&[(two.id, month)]).await.unwrap(), (0, 0), "it is gone");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_printed_and_left_behind_goes_by_itself_and_the_run_says_so() {
    let apart = Apart::new("sweep_parts").await;
    let store = &apart.store;
    let (passed, failed) = (over(&apart, "fare", Outcome::Passed).await, over(&apart, "fare", Outcome::Failed).await);
    for (run, outcome) in [(&passed, Outcome::Passed), (&failed, Outcome::Failed)] {
        record(&apart, run, outcome).await;
    }
    let both = [named(&passed), named(&failed)];
    let paths = async |run: &RunRow| {
        apart.told(&format!("select path from artifacts where run_id = {} order by 1", run.id)).await
    };
    // Of pictures only those of tests that passed go; those of the run as a whole are of no test.
    assert_eq!(store.remove_artifacts(&both, true).await.unwrap(), 1);
    assert_eq!(paths(&passed).await, ["trace.txt", "whole.png"]);
    assert_eq!(paths(&failed).await, ["shot.PNG", "trace.txt", "whole.png"]);
    assert_eq!(store.remove_artifacts(&both, false).await.unwrap(), 2);
    assert_eq!(store.remove_artifacts(&both, false).await.unwrap(), 0);
    assert!(paths(&failed).await.is_empty());
    assert_eq!(store.remove_logs(&both).await.unwrap(), 2);
    let log = async |run: &RunRow| {
        apart.told(&format!("select log || coalesce(log_blob, '') from attempts where run_id = {}", run.id)).await
    };
    assert_eq!(log(&passed).await, [GONE], "what stands there says what became of it");
    let swept = store.over_runs(false).await.unwrap();
    for run in swept {
        assert_eq!(run.swept, ["pictures", "artifacts", "logs"], "each once");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn one_service_sweeps_at_a_time_and_a_backup_keeps_all_from_it() {
    let apart = Apart::new("sweep_alone").await;
    let store = &apart.store;
    let sweep = store.begin_sweep().await.unwrap().expect("nobody sweeps");
    assert!(store.begin_sweep().await.unwrap().is_none());
    sweep.end().await;
    let mut held = Sweeping::hold(&apart.url).await.unwrap();
    assert!(store.begin_sweep().await.unwrap().is_none());
    assert!(held.is_in_use().await.unwrap());
    held.forget_services().await.unwrap();
    // With whoever held it the lock is gone, also when it died.
    drop(held);
    let mut again = None;
    for _ in 0..200 {
        again = store.begin_sweep().await.unwrap();
        if again.is_some() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    assert!(again.is_some());
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_kept_by_name_and_of_sweeps_the_latest_thousand() {
    let apart = Apart::new("sweep_rules").await;
    let store = &apart.store;
    let (weeks, runs) = (rule(r#"{"what":"runs","age_us":1209600000000}"#), rule(r#"{"what":"runs","count":9}"#));
    assert!(store.put_keep("usual", &weeks, "asta", false).await.unwrap());
    assert!(!store.put_keep("usual", &runs, "else", false).await.unwrap());
    assert_eq!(store.keeping().await.unwrap()["usual"], weeks);
    assert!(store.put_keep("usual", &runs, "else", true).await.unwrap());
    let row = store.keep_rules().await.unwrap().remove(0);
    assert_eq!((row.rule().unwrap(), row.made_by.as_str()), (runs, "else"));
    // One that cannot be read is told: nothing is removed by half of the rules.
    apart.sql("insert into keep_rules (name, rule, made_by) values ('later', '{\"what\":\"tides\"}', 'asta')").await;
    store.keeping().await.unwrap_err();
    assert!(store.remove_keep("later").await.unwrap() && !store.remove_keep("later").await.unwrap());
    assert_eq!(store.keeping().await.unwrap().len(), 1);
    apart.sql("insert into sweeps (freed) select jsonb_build_object('runs', n) from generate_series(1, 1004) n").await;
    let last = Freed { runs: 7, bytes: 1 << 40, ..Freed::default() };
    store.add_sweep(&last).await.unwrap();
    let sweeps = store.sweeps(5000).await.unwrap();
    assert_eq!((sweeps.len(), sweeps[0].freed().unwrap()), (1000, last));
    assert_eq!(store.sweeps(1).await.unwrap().len(), 1);
}

fn done(at: DateTime<Utc>, who: &str, what: &str, path: &str, status: i32, note: &str) -> NewAudit {
    NewAudit {
        at,
        who: who.into(),
        role: "admin".into(),
        address: "127.0.0.1".into(),
        what: what.into(),
        path: path.into(),
        status,
        note: note.into(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_record_of_what_was_done_can_be_searched_and_not_changed() {
    let apart = Apart::new("audit_kept").await;
    let store = &apart.store;
    let noon: DateTime<Utc> = "2026-11-23T12:00:00Z".parse().unwrap();
    let hour = |n: i64| noon + TimeDelta::hours(n);
    store
        .add_audit(&[
            done(hour(0), "asta", "start", "POST /api/runs", 201, "fare/1"),
            done(hour(1), "else", "secret add", "POST /api/secrets/gate_100%", 201, ""),
            done(hour(2), "asta", "stop", "POST /api/runs/fare/1/stop", 403, "fare/1"),
            done(hour(3), "", "sign-in", "POST /api/session", 401, "asta"),
        ])
        .await
        .unwrap();
    let found = async |filter: AuditFilter| {
        let rows = store
            .audit(&AuditFilter { limit: if filter.limit == 0 { 10 } else { filter.limit }, ..filter })
            .await
            .unwrap();
        rows.into_iter().map(|row| row.what).collect::<Vec<_>>()
    };
    let none = AuditFilter::default;
    assert_eq!(found(none()).await, ["sign-in", "stop", "secret add", "start"], "the latest first");
    assert_eq!(found(AuditFilter { who: Some("asta".into()), ..none() }).await, ["stop", "start"]);
    assert_eq!(found(AuditFilter { what: Some("stop".into()), ..none() }).await, ["stop"]);
    assert_eq!(found(AuditFilter { refused: Some(true), ..none() }).await, ["sign-in", "stop"]);
    assert_eq!(found(AuditFilter { refused: Some(false), ..none() }).await, ["secret add", "start"]);
    assert_eq!(
        found(AuditFilter { from: Some(hour(1)), until: Some(hour(3)), ..none() }).await,
        ["stop", "secret add"]
    );
    assert_eq!(found(AuditFilter { about: Some("fare/1".into()), ..none() }).await, ["stop", "start"]);
    // What stands for anything elsewhere stands for itself.
    assert_eq!(found(AuditFilter { about: Some("100%".into()), ..none() }).await, ["secret add"]);
    for nothing in ["%", "gate%100", "\\"] {
        let wanted: &[&str] = if nothing == "%" { &["secret add"] } else { &[] };
        assert_eq!(found(AuditFilter { about: Some(nothing.into()), ..none() }).await, wanted, "{nothing}");
    }
    let first = store.audit(&AuditFilter { limit: 2, ..none() }).await.unwrap();
    assert_eq!(found(AuditFilter { before: Some(first[1].id), limit: 1, ..none() }).await, ["secret add"]);
    // Nobody changes it, or takes something out of it, but a sweep.
    for statement in ["update audit set who = 'else'", "delete from audit", "truncate audit"] {
        let mut c = AsyncPgConnection::establish(&apart.url).await.unwrap();
        assert!(c.batch_execute(statement).await.is_err(), "{statement}");
    }
    assert_eq!(store.older_than(None, Some(hour(2))).await.unwrap(), (0, 2));
    assert_eq!(store.remove_audit(hour(2)).await.unwrap(), 2);
    assert_eq!(found(none()).await, ["sign-in", "stop"]);
    assert_eq!(store.older_than(Some(hour(99)), Some(hour(2))).await.unwrap(), (0, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_nobody_sees_goes_once_nothing_needs_it() {
    let apart = Apart::new("sweep_others").await;
    let store = &apart.store;
    let run = run(store, "fare", &[]).await;
    let suite = run.suite_id;
    apart
        .sql(&format!(
            "insert into listings (key, tests) values ('a-key', '[]'), ('unused', '[]');
             update runs set listings = array['a-key'] where id = {0};
             insert into sources (digest, suite_file) values ('unused', ''), ('touched', '');
             insert into stamps (suite_id, stamp, pool, expected) values ({suite}, 1, 'main', '{{}}');
             insert into stamp_keys (suite_id, key, stamp) values ({suite}, 'job-1', 1);
             insert into meetings (key, run_id) values ('job-1', {0});",
            run.id
        ))
        .await;
    assert_eq!(store.remove_others(Utc::now() - TimeDelta::days(1)).await.unwrap(), 0, "all of it is young");
    for (table, column) in [
        ("stamps", "made_at"),
        ("stamp_keys", "made_at"),
        ("meetings", "made_at"),
        ("listings", "listed_at"),
        ("sources", "added_at"),
    ] {
        apart.sql(&format!("update {table} set {column} = now() - interval '30 days'")).await;
    }
    store.touch_source("touched").await.unwrap();
    assert_eq!(store.remove_others(Utc::now() - TimeDelta::days(1)).await.unwrap(), 5);
    assert_eq!(apart.told("select key from listings").await, ["a-key"], "a run has it");
    assert_eq!(apart.told("select digest from sources order by 1").await, ["fare-digest", "touched"]);
    assert_eq!(store.remove_others(Utc::now() - TimeDelta::days(1)).await.unwrap(), 0);
}
