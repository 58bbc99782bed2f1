//! The store against a real PostgreSQL.

#[path = "../../../database/tests/shared/cluster.rs"]
mod cluster;
mod looking;
mod machines;
mod people;
mod planned;
mod reaching;
mod secrets;
mod sweeping;

use std::{collections::BTreeMap, sync::Arc};

use chrono::{NaiveDate, TimeDelta, TimeZone, Utc};
use cluster::{CLUSTER, sql, url_of};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use kesmo_core::{
    calendar::schedule::Times,
    measure::{Gathering, Part, Sample},
    notice::{Cause, Event, Happened, Notice, RunFacts, When},
    plan::{
        At, Only, RunOptions,
        brief::{Changes, Follow, Origin, ThenIf},
    },
    record::Record,
    run::{AttemptStats, Tally, cases::Shown},
    suite::{ListedTest, listing},
    time::Span,
    words::{Ended, Outcome, Phase, Verdict},
};
use kesmo_database::Postgres;
use kesmo_store::{
    Error, Store,
    access::NewToken,
    accounts::{NewSession, Rights, Slowing},
    cases::{CaseOrder, CaseQuestion},
    commit::{CasesOf, Commit, Decided, NewArtifact, NewAttempt, NewBatch, NewCase, RunChange},
    failing::FailingChange,
    leases::{Claims, Holder, Needed},
    measures::NewMeasures,
    month_of,
    notices::{NewEvent, NewNotice, Tried},
    polls::NewPoll,
    records::RecordChange,
    results::{Among, NewResult, NewResults},
    runs::{Filter, NewRun, RunRow},
    schedules::{Firing, NewPlanned, NewSchedule},
    usage::By,
    webhooks::{Kept, NewDelivery, NewWebhook},
};

async fn store() -> Store {
    Store::open(&CLUSTER.postgres.url()).await.expect("the store opens")
}

/// A database of a trial's own, for what concerns all of one.
struct Apart {
    store: Store,
    url: String,
}

static MODEL: tokio::sync::OnceCell<()> = tokio::sync::OnceCell::const_new();

impl Apart {
    async fn new(name: &str) -> Self {
        let admin = CLUSTER.postgres.url();
        // One is migrated, and the others are copies of it: nobody may be at it by then.
        let model = async {
            sql(&admin, "create database model").await;
            drop(Store::open(&url_of("model")).await.unwrap());
            let shut = "alter database model allow_connections false; \
                select pg_terminate_backend(pid) from pg_stat_activity where datname = 'model'";
            sql(&admin, shut).await;
        };
        MODEL.get_or_init(|| model).await;
        sql(&admin, &format!("create database {name} template model")).await;
        let url = url_of(name);
        Self { store: Store::open(&url).await.unwrap(), url }
    }

    /// Carries statements out.
    async fn sql(&self, statements: &str) {
        sql(&self.url, statements).await;
    }

    /// What a query tells in its one column, which is text, a line each.
    async fn told(&self, query: &str) -> Vec<String> {
        cluster::told(&self.url, query).await
    }
}

/// A suite of that name with a run.
async fn run(store: &Store, name: &str, labels: &[(&str, &str)]) -> RunRow {
    let digest = format!("{name}-digest");
    store.add_source(&digest, "suite = …").await.unwrap();
    let suite = store.put_suite(name, "about it", &digest, true).await.unwrap();
    let labels: BTreeMap<String, String> = labels.iter().map(|(k, v)| ((*k).into(), (*v).into())).collect();
    let options = RunOptions { labels, retries: Some(2), ..RunOptions::default() };
    let new = NewRun {
        suite_id: suite.id,
        source: Some(digest),
        pool: "main".into(),
        options,
        seed: 7,
        started_by: "asta".into(),
        ..NewRun::default()
    };
    store.add_run(&new).await.unwrap()
}

fn attempt(run: &RunRow, entry: u32, number: u16, ended: Ended, decided: Option<Outcome>) -> NewAttempt {
    NewAttempt {
        month: month_of(run.created_at),
        run_id: run.id,
        entry,
        number,
        batch: 1,
        worker: "heron".into(),
        slot: 0,
        began_at: Utc::now(),
        spent_us: 1500,
        busy: 2,
        of_slots: 4,
        expected_us: Some(1400),
        itself: ended.failing(),
        ended,
        decided,
        message: "a NUL \0 in it".into(),
        detail: String::new(),
        steps: serde_json::json!([{ "name": "scan\0", "ok": true }]),
        log: "printed".into(),
        log_blob: None,
        log_bytes: 7,
    }
}

fn change(run: &RunRow, phase: Phase, verdict: Option<Verdict>) -> RunChange {
    RunChange {
        run_id: run.id,
        phase,
        verdict,
        reason: String::new(),
        listings: vec!["a-key".into()],
        listed: 3,
        tally: Tally { passed: 2, failed: 1, ..Tally::default() },
        stats: AttemptStats { ended: 3, ..AttemptStats::default() },
        strip: "ppf".into(),
        began_at: Some(Utc::now()),
        finished_at: verdict.map(|_| Utc::now()),
        images: None,
    }
}

fn whole_commit(run: &RunRow) -> Commit {
    Commit {
        shrunk: Vec::new(),
        batches: vec![NewBatch {
            run_id: run.id,
            number: 1,
            worker: "heron".into(),
            slot: 0,
            entries: vec![0, 2, 1],
            granted_at: Utc::now(),
        }],
        over: vec![(run.id, 1)],
        attempts: vec![
            attempt(run, 0, 1, Ended::Passed, Some(Outcome::Passed)),
            attempt(run, 1, 1, Ended::Failed, None),
            attempt(run, 1, 2, Ended::Passed, Some(Outcome::Flaky)),
            attempt(run, 2, 1, Ended::Failed, None),
        ],
        decided: vec![Decided {
            month: month_of(run.created_at),
            run_id: run.id,
            entry: 2,
            number: 1,
            outcome: Outcome::Failed,
        }],
        notes: vec![(run.id, "a remark".into())],
        artifacts: vec![NewArtifact {
            run_id: run.id,
            entry: Some(1),
            batch: 1,
            path: "shot.png".into(),
            about: "the gate".into(),
            digest: "d".repeat(64),
            bytes: 12,
        }],
        runs: vec![change(run, Phase::Finished, Some(Verdict::Failed))],
        by: None,
        ..Commit::default()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_sent_twice_changes_nothing_the_second_time() {
    let store = store().await;
    let run = run(&store, "twice", &[]).await;
    let mut commit = whole_commit(&run);
    store.commit(&commit).await.unwrap();
    // A remark may stand twice after a commit whose answer was lost; nothing else may.
    commit.notes.clear();
    store.commit(&commit).await.unwrap();
    let bones = store.attempt_bones(run.id, month_of(run.created_at)).await.unwrap();
    assert_eq!(bones.len(), 4);
    let decided: Vec<(i32, &str)> = bones.iter().filter_map(|b| Some((b.entry, b.decided.as_deref()?))).collect();
    let decided: BTreeMap<i32, &str> = decided.into_iter().collect();
    assert_eq!(decided, BTreeMap::from([(0, "passed"), (1, "flaky"), (2, "failed")]));
    let batches = store.batches(run.id).await.unwrap();
    assert_eq!((batches.len(), batches[0].open), (1, false));
    assert_eq!(batches[0].entry_numbers().unwrap(), [0, 2, 1], "their order is kept");
    assert_eq!(store.artifacts(run.id, None).await.unwrap().len(), 1);
    assert_eq!(store.notes(run.id).await.unwrap(), ["a remark"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_postgresql_cannot_hold_is_replaced_and_not_refused() {
    let store = store().await;
    let run = run(&store, "nul", &[]).await;
    store.commit(&whole_commit(&run)).await.unwrap();
    let attempts = store.attempts_of(run.id, month_of(run.created_at), &[1]).await.unwrap();
    assert_eq!(attempts.iter().map(|a| a.number).collect::<Vec<_>>(), [1, 2]);
    assert_eq!(attempts[0].message, "a NUL \u{fffd} in it");
    assert_eq!(attempts[0].steps[0]["name"], "scan\u{fffd}");
    let log = store.attempt_log(run.id, month_of(run.created_at), 1, 2).await.unwrap();
    assert_eq!(log, Some(("printed".into(), None)));
    assert_eq!(store.attempt_log(run.id, month_of(run.created_at), 1, 9).await.unwrap(), None);
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_are_numbered_by_suite_and_found_again() {
    let store = store().await;
    let first = run(&store, "numbers", &[("release", "31")]).await;
    let second = run(&store, "numbers", &[("release", "32"), ("quay", "north")]).await;
    assert_eq!((first.number, second.number), (1, 2));
    assert_eq!(run(&store, "others", &[]).await.number, 1);
    let (found, suite) = store.run("numbers", 2).await.unwrap().unwrap();
    assert_eq!((found.id, suite.as_str()), (second.id, "numbers"));
    assert_eq!(found.run_options().unwrap().retries, Some(2));
    assert!(store.run("numbers", 3).await.unwrap().is_none());
    let with = |label: &[(&str, &str)]| Filter {
        suites: Some(vec!["numbers".into()]),
        labels: label.iter().map(|(k, v)| ((*k).into(), (*v).into())).collect(),
        limit: 10,
        ..Filter::default()
    };
    let numbers = async |filter: Filter| -> Vec<i32> {
        store.runs(&filter).await.unwrap().into_iter().map(|(r, _)| r.number).collect()
    };
    assert_eq!(numbers(with(&[])).await, [2, 1], "newest first");
    assert_eq!(numbers(with(&[("release", "32")])).await, [2]);
    assert_eq!(numbers(with(&[("release", "31"), ("quay", "north")])).await, Vec::<i32>::new());
    let unfinished = async || store.open_runs().await.unwrap().iter().any(|r| r.id == first.id);
    assert!(unfinished().await);
    let over = Commit { runs: vec![change(&first, Phase::Finished, Some(Verdict::Stopped))], ..Commit::default() };
    store.commit(&over).await.unwrap();
    assert!(!unfinished().await);
    let failed = Filter { verdict: Some("stopped".into()), ..with(&[]) };
    assert_eq!(numbers(failed).await, [1]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_verdict_without_an_end_is_refused_whole() {
    let store = store().await;
    let run = run(&store, "half", &[]).await;
    let mut commit = whole_commit(&run);
    commit.runs = vec![change(&run, Phase::Running, Some(Verdict::Passed))];
    assert!(matches!(store.commit(&commit).await, Err(kesmo_store::Error::Refused(_))));
    assert!(store.batches(run.id).await.unwrap().is_empty(), "nothing of it was kept");
}

#[tokio::test(flavor = "multi_thread")]
async fn attempts_are_kept_by_the_month_of_their_run() {
    let day = Utc.with_ymd_and_hms(2026, 12, 31, 23, 59, 59).unwrap();
    assert_eq!(month_of(day), NaiveDate::from_ymd_opt(2026, 12, 1).unwrap());
    let store = store().await;
    let run = run(&store, "month", &[]).await;
    store.commit(&whole_commit(&run)).await.unwrap();
    let other = month_of(run.created_at).checked_sub_months(chrono::Months::new(1)).unwrap();
    assert!(store.attempt_bones(run.id, other).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn suites_keep_their_files_until_they_get_new_ones() {
    let store = store().await;
    for digest in ["suite-a", "suite-b"] {
        store.add_source(digest, "text").await.unwrap();
        store.add_source(digest, "text").await.unwrap();
    }
    let first = store.put_suite("files", "one", "suite-a", false).await.unwrap();
    let kept = store.put_suite("files", "two", "suite-b", true).await.unwrap();
    assert_eq!((kept.id, kept.source.as_str(), kept.about.as_str()), (first.id, "suite-a", "one"));
    let renewed = store.put_suite("files", "two", "suite-b", false).await.unwrap();
    assert_eq!((renewed.id, renewed.source.as_str()), (first.id, "suite-b"));
    assert_eq!(store.suite_file("suite-b").await.unwrap().as_deref(), Some("text"));
    assert!(store.remove_suite("files").await.unwrap());
    assert!(!store.remove_suite("files").await.unwrap());
    assert!(store.suite("files").await.unwrap().is_none());
    assert!(!store.suites().await.unwrap().iter().any(|s| s.slug == "files"));
    let back = store.put_suite("files", "three", "suite-a", true).await.unwrap();
    assert_eq!((back.id, back.removed), (first.id, false));
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_and_records_are_read_back_as_they_were() {
    let store = store().await;
    let tests = listing::read(b"gate/open\n{\"name\":\"gate/late\",\"tags\":[\"smoke\"],\"seconds\":1.5}\n").unwrap();
    assert!(store.listing("a-list").await.unwrap().is_none());
    let list = |tests: &[ListedTest]| Commit {
        listings: vec![("a-list".into(), Arc::new(tests.to_vec()))],
        ..Commit::default()
    };
    assert!(!store.has_listing("a-list").await.unwrap());
    store.commit(&list(&tests)).await.unwrap();
    store.commit(&list(&tests[..1])).await.unwrap();
    assert!(store.has_listing("a-list").await.unwrap());
    assert_eq!(store.listing("a-list").await.unwrap(), Some(tests), "the first stays");
    let run = run(&store, "records", &[]).await;
    let record =
        Record::default().with(Outcome::Flaky, Some(Span::millis(5))).with(Outcome::Passed, Some(Span::millis(6)));
    let put = |record| vec![("gate/open".to_owned(), "screen=phone".to_owned(), record)];
    let none = FailingChange::default();
    let (suite, cost) = (run.suite_id, Some(Span::millis(40)));
    let told = async |runs: &[i64], record: Record, start_cost: Option<Span>| {
        let records = put(record);
        let told = RecordChange {
            runs,
            results: &[],
            records: &records,
            start_cost,
            failing: &none,
            covers: &no_covers(),
            variants: None,
        };
        store.put_records(suite, "main", &told).await.unwrap()
    };
    assert!(told(&[], Record::default(), None).await);
    assert!(told(&[], record.clone(), cost).await);
    assert!(!told(&[run.id], Record::default(), None).await, "what is not waiting to be recorded was recorded before");
    let read = store.records(run.suite_id, "main").await.unwrap();
    assert_eq!(read.len(), 1);
    let key = ("gate/open".to_owned(), "screen=phone".to_owned());
    assert_eq!(read[&key], record);
    assert_eq!(store.records(run.suite_id, "night").await.unwrap()[&key], record, "better than knowing nothing");
    assert!(store.records_in(run.suite_id, "night").await.unwrap().is_empty());
    assert_eq!(store.start_cost(run.suite_id).await.unwrap(), Some(40_000));
    assert_eq!(store.suite("records").await.unwrap().unwrap().stamp, 2, "it moves with each change");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_batch_gave_back_is_no_longer_its() {
    let store = store().await;
    let run = run(&store, "giving-back", &[]).await;
    store.commit(&whole_commit(&run)).await.unwrap();
    let commit = Commit { shrunk: vec![(run.id, 1, vec![0, 2])], ..Commit::default() };
    store.commit(&commit).await.unwrap();
    store.commit(&commit).await.unwrap();
    assert_eq!(store.batches(run.id).await.unwrap()[0].entry_numbers().unwrap(), [0, 2]);
}

#[tokio::test(flavor = "multi_thread")]
async fn parks_are_kept_by_suite_and_pattern() {
    let store = store().await;
    let run = run(&store, "parks", &[]).await;
    let day = |d| NaiveDate::from_ymd_opt(2026, 12, d).expect("a day");
    store.put_park(run.suite_id, "gate/late", ("the crane is away", &Only::default()), day(1), "asta").await.unwrap();
    let only = Only::parse(&["env=ci".to_owned()]).unwrap();
    store.put_park(run.suite_id, "gate/late", ("still away", &only), day(9), "brage").await.unwrap();
    let all = store.parks(Some(run.suite_id)).await.unwrap();
    assert_eq!(all.len(), 1, "the second replaces the first");
    let (park, slug) = &all[0];
    assert_eq!((park.why.as_str(), park.made_by.as_str(), slug.as_str()), ("still away", "brage", "parks"));
    assert!(!park.on(day(9)).over && park.on(day(10)).over);
    assert_eq!(park.on(day(9)).only, only);
    for (env, held) in [(Some("ci"), 1), (None, 0)] {
        let at = At { env, pool: "main", branch: None };
        assert_eq!(store.parks_at(run.suite_id, day(9), at).await.unwrap().len(), held, "{env:?}");
    }
    assert!(store.remove_park(run.suite_id, "gate/late").await.unwrap());
    assert!(!store.remove_park(run.suite_id, "gate/late").await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn of_many_who_come_with_a_key_exactly_one_starts_the_run() {
    let store = store().await;
    let first = run(&store, "meeting", &[]).await;
    let options = RunOptions::default();
    let come = |n: u32| {
        let (store, options, source) = (store.clone(), options.clone(), first.source.clone());
        async move {
            let new = NewRun {
                suite_id: first.suite_id,
                source,
                pool: "main".into(),
                options,
                seed: 1,
                started_by: format!("job-{n}"),
                ..NewRun::default()
            };
            store.meet("build-1187", &new).await.unwrap()
        }
    };
    let met = futures::future::join_all((0..8).map(come)).await;
    assert_eq!(met.iter().filter(|m| m.1).count(), 1);
    assert!(met.iter().all(|m| m.0.id == met[0].0.id));
    let (row, slug) = store.meeting("build-1187").await.unwrap().unwrap();
    assert_eq!((row.id, slug.as_str()), (met[0].0.id, "meeting"));
    assert!(store.meeting("build-1188").await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_runs_of_a_month_may_come_at_once() {
    // A database of its own, in which no run was made yet.
    let url = CLUSTER.postgres.url();
    let (server, _) = url.rsplit_once('/').expect("an address with a database");
    let mut admin = AsyncPgConnection::establish(&url).await.unwrap();
    diesel::sql_query("create database first_runs").execute(&mut admin).await.unwrap();
    let store = Store::open(&format!("{server}/first_runs")).await.unwrap();
    let runs = (0..8).map(|n| {
        let store = store.clone();
        async move { run(&store, &format!("month-{n}"), &[]).await }
    });
    assert_eq!(futures::future::join_all(runs).await.len(), 8);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stamp_keeps_what_was_expected() {
    let store = store().await;
    let id = run(&store, "stamps", &[]).await.suite_id;
    let expected = |us| BTreeMap::from([("gate/open\t".to_owned(), us)]);
    assert_eq!(store.stamp(id, 3, "main").await.unwrap(), None);
    assert_eq!(store.keep_stamp(id, 3, "main", expected(5)).await.unwrap(), expected(5));
    assert_eq!(store.keep_stamp(id, 3, "main", expected(9)).await.unwrap(), expected(5), "the first stays");
    assert_eq!(store.stamp_of_key(id, "build-7", 3).await.unwrap(), 3);
    assert_eq!(store.stamp_of_key(id, "build-7", 4).await.unwrap(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn tokens_are_found_by_their_hash_only() {
    let store = store().await;
    assert!(store.add_token("a-token", b"hash", "reader").await.unwrap());
    assert!(!store.add_token("a-token", b"other", "reader").await.unwrap(), "the name is taken");
    assert!(store.add_token("bad-role", b"third", "captain").await.is_err());
    let row = store.speaker_of_token(b"hash").await.unwrap().unwrap();
    assert_eq!((row.name.as_str(), row.role.as_str(), &row.account), ("a-token", "reader", &None));
    assert_eq!(store.tokens().await.unwrap()[0].last_used_at, None);
    store.seen(&row, None).await.unwrap();
    assert!(store.tokens().await.unwrap()[0].last_used_at.is_some());
    assert!(store.speaker_of_token(b"hahs").await.unwrap().is_none());
    assert!(store.remove_token("a-token").await.unwrap());
    assert!(store.speaker_of_token(b"hash").await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_start_takes_the_running_server_over_and_migrates_nothing() {
    let first = store().await;
    let again = Postgres::start(CLUSTER.folder.path()).expect("it is taken over");
    assert_eq!(again.url(), CLUSTER.postgres.url());
    assert!(Store::open(&again.url()).await.expect("the store opens").answers().await);
    assert!(first.answers().await);
    let wrong = again.url().replace("kesmo:", "kesmo:x");
    assert!(matches!(Store::open(&wrong).await, Err(Error::Refused(_))), "the cluster wants its password");
}

/// A run of a suite, not made yet.
fn no_covers() -> kesmo_store::covers::CoversChange {
    kesmo_store::covers::CoversChange::default()
}

fn wanted(suite_id: i64, source: &str) -> NewRun {
    NewRun {
        suite_id,
        source: Some(source.into()),
        pool: "main".into(),
        started_by: "asta".into(),
        ..NewRun::default()
    }
}

fn holder(service: &str) -> Holder {
    Holder { service: service.into(), address: format!("http://{service}") }
}

/// Takes pools for a minute, and tells which a service has then.
async fn held_pools(store: &Store, who: &Holder, pools: &[String]) -> Vec<String> {
    store.hold_pools(who, pools, 60.0).await.unwrap().held.into_iter().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pool_belongs_to_one_service_and_only_that_one_writes() {
    let store = store().await;
    let run = run(&store, "leased", &[]).await;
    let pools = vec!["leased-a".to_owned(), "leased-b".to_owned()];
    let (one, two) = (holder("one"), holder("two"));
    assert_eq!(held_pools(&store, &one, &pools).await, pools);
    let refused = store.hold_pools(&two, &pools, 60.0).await.unwrap();
    assert!(refused.held.is_empty());
    let other = &refused.others["leased-a"];
    assert_eq!((other.address.as_str(), refused.others.len()), ("http://one", 2));
    assert!(other.lasts.as_secs_f64() > 30.0 && other.lasts.as_secs_f64() <= 60.0, "{other:?}");
    let of_a = async || store.holders().await.unwrap().into_iter().find(|(pool, _)| pool == "leased-a").map(|of| of.1);
    assert_eq!(of_a().await, Some(one.clone()));
    let commit = |service: &str| Commit {
        notes: vec![(run.id, format!("by {service}"))],
        by: Some((service.into(), pools.clone())),
        ..Commit::default()
    };
    store.commit(&commit("one")).await.unwrap();
    assert!(matches!(store.commit(&commit("two")).await, Err(Error::Elsewhere)));
    assert_eq!(store.notes(run.id).await.unwrap(), ["by one"]);
    // A lease that has run out is another's; the first finds that with its next commit.
    store.hold_pools(&one, &pools, -1.0).await.unwrap();
    assert_eq!(of_a().await, None);
    assert_eq!(held_pools(&store, &two, &pools).await, pools);
    assert!(matches!(store.commit(&commit("one")).await, Err(Error::Elsewhere)));
    store.give_pools_up(&two).await.unwrap();
    assert_eq!(held_pools(&store, &one, &pools).await, pools);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_claim_is_given_out_by_one_service_until_it_hands_it_over() {
    let store = store().await;
    let needs = |run: &str, pool: &str, claims: &[&str]| -> Vec<Needed> {
        let need = |claim: &&str| Needed { claim: (*claim).into(), run: run.into(), pool: pool.into() };
        claims.iter().map(need).collect()
    };
    let held = |claims: &Claims| claims.held.iter().cloned().collect::<Vec<_>>();
    let both = needs("gate/1", "claims-a", &["c-air", "c-berth"]);
    let one = store.hold_claims("one", &both, 60.0).await.unwrap();
    assert_eq!((held(&one), one.asked.len(), one.elsewhere.len()), (vec!["c-air".into(), "c-berth".into()], 0, 0));
    // Another that needs one of them is told whose it is, and that it waits is told to who has it.
    let other = needs("fares/2", "claims-b", &["c-berth", "c-crane"]);
    let two = store.hold_claims("two", &other, 60.0).await.unwrap();
    assert_eq!((held(&two), &two.elsewhere["c-berth"]), (vec!["c-crane".to_owned()], &"gate/1".to_owned()));
    let one = store.hold_claims("one", &both, 60.0).await.unwrap();
    assert_eq!(one.asked.into_iter().collect::<Vec<_>>(), ["c-berth"]);
    // What is needed no more is the other's, and nobody waits for it then.
    store.hold_claims("one", &both[..1], 60.0).await.unwrap();
    let two = store.hold_claims("two", &other, 60.0).await.unwrap();
    assert_eq!((held(&two).len(), two.asked.len()), (2, 0));
    // A service that is gone: its claims go to who carries on the pool whose run had them, and to nobody before.
    let (first, second) = (holder("one"), holder("two"));
    let pool = vec!["claims-b".to_owned()];
    store.hold_claims("two", &other, -1.0).await.unwrap();
    assert_eq!(held_pools(&store, &first, &pool).await, pool);
    let third = needs("late/9", "claims-c", &["c-crane"]);
    assert_eq!(store.hold_claims("three", &third, 60.0).await.unwrap().elsewhere["c-crane"], "fares/2");
    assert_eq!(held(&store.hold_claims("one", &other, 60.0).await.unwrap()).len(), 2);
    store.give_pools_up(&first).await.unwrap();
    assert_eq!(held(&store.hold_claims("three", &third, 60.0).await.unwrap()), ["c-crane"]);
    // Where nobody carries the pool on, who comes first has it.
    store.hold_claims("three", &third, -1.0).await.unwrap();
    assert_eq!(held(&store.hold_claims("two", &third, 60.0).await.unwrap()), ["c-crane"]);
    store.give_pools_up(&second).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn of_many_who_fire_a_planned_start_exactly_one_does() {
    let store = store().await;
    let first = run(&store, "fired", &[]).await;
    let source = first.source.clone().unwrap();
    let at = "2026-11-23T02:15:00Z".parse::<chrono::DateTime<Utc>>().unwrap();
    let next = at + chrono::TimeDelta::days(1);
    let new = NewSchedule {
        name: "fired",
        brief: None,
        suite: Some("fired"),
        changes: &Changes::default(),
        times: &Times { cron: Some("15 2 * * *".into()), ..Times::default() },
        next_at: Some(at),
        made_by: "asta",
    };
    let schedule = store.put_schedule(new, false).await.unwrap().unwrap();
    let row = |what, planned_at| NewPlanned { planned_at, to_at: planned_at, count: 1, what, why: String::new() };
    let firing = |expected, rows| Firing {
        schedule_id: schedule.id,
        expected,
        rows,
        run: Some(wanted(first.suite_id, &source)),
        next_at: Some(next),
        stop: None,
    };
    let fire = |_| {
        let (store, firing) = (store.clone(), firing(at, vec![row("started", at)]));
        async move { store.fire(&[firing]).await.unwrap().len() }
    };
    let made: usize = futures::future::join_all((0..8).map(fire)).await.into_iter().sum();
    assert_eq!(made, 1);
    let planned = store.planned(schedule.id, 10).await.unwrap();
    assert_eq!(planned.len(), 1);
    let kept = store.schedule("fired").await.unwrap().unwrap();
    assert_eq!((kept.next_at, kept.run_id), (Some(next), planned[0].run_id));
    // A clock that was put back: the planned moment has a row, so nothing is made, and the schedule goes on.
    assert!(store.set_next(schedule.id, Some(next), Some(at)).await.unwrap());
    assert!(store.fire(&[firing(at, vec![row("started", at)])]).await.unwrap().is_empty());
    assert_eq!(store.schedule("fired").await.unwrap().unwrap().next_at, Some(next));
    // Paused, nothing is done.
    store.pause_schedule(schedule.id, true, Some(next)).await.unwrap();
    assert!(store.fire(&[firing(next, vec![row("started", next)])]).await.unwrap().is_empty());
    assert!(store.due_schedules(next, 10).await.unwrap().iter().all(|s| s.id != schedule.id));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_that_waits_is_done_once_its_run_is_over() {
    let store = store().await;
    let first = run(&store, "waited", &[]).await;
    let source = first.source.clone().unwrap();
    let at = "2026-11-23T02:15:00Z".parse::<chrono::DateTime<Utc>>().unwrap();
    let times = Times { after_every: Some("5m".into()), ..Times::default() };
    let new = NewSchedule {
        name: "waited",
        brief: None,
        suite: Some("waited"),
        changes: &Changes::default(),
        times: &times,
        next_at: Some(at),
        made_by: "asta",
    };
    let schedule = store.put_schedule(new, false).await.unwrap().unwrap();
    let going = store.start_schedule_now(schedule.id, at, "by hand", &wanted(first.suite_id, &source)).await.unwrap();
    let later = at + chrono::TimeDelta::minutes(1);
    let row = NewPlanned { planned_at: later, to_at: later, count: 1, what: "waiting", why: "it goes".into() };
    let firing =
        Firing { schedule_id: schedule.id, expected: at, rows: vec![row], run: None, next_at: None, stop: None };
    store.fire(&[firing]).await.unwrap();
    assert_eq!(store.with_waiting(&[schedule.id]).await.unwrap(), [schedule.id]);
    let mine = |all: Vec<kesmo_store::schedules::Waiting>| all.into_iter().find(|w| w.schedule_id == schedule.id);
    assert!(mine(store.waiting_starts().await.unwrap()).is_none(), "its run still goes");
    let over = Commit { runs: vec![change(&going, Phase::Finished, Some(Verdict::Passed))], ..Commit::default() };
    store.commit(&over).await.unwrap();
    assert!(store.ended_schedules().await.unwrap().iter().any(|e| e.schedule_id == schedule.id));
    let waiting = mine(store.waiting_starts().await.unwrap()).unwrap();
    let run = wanted(first.suite_id, &source);
    assert!(store.end_waiting(&waiting, Ok(&run)).await.unwrap().is_some());
    assert!(store.end_waiting(&waiting, Ok(&run)).await.unwrap().is_none(), "it is done once");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_delivery_sent_many_times_exactly_one_starts_a_run() {
    let store = store().await;
    let first = run(&store, "delivered", &[]).await;
    let source = first.source.clone().unwrap();
    let new = new_webhook("delivered");
    let webhook = store.add_webhook(new.clone()).await.unwrap().unwrap();
    assert!(store.add_webhook(new).await.unwrap().is_none(), "the name is taken");
    let deliver = |id: &'static str, event: Option<&'static str>, genuine: bool, redelivery_of: Option<i64>| {
        let (store, source) = (store.clone(), source.clone());
        async move {
            let new = NewDelivery {
                webhook_id: webhook.id,
                message_id: id.into(),
                event: event.map(str::to_owned),
                redelivery_of,
                genuine,
                content_type: "application/json".into(),
                event_headers: serde_json::json!({}),
                body: b"{}".into(),
                did: "started",
                why: String::new(),
            };
            store.take_delivery(new, genuine.then(|| wanted(first.suite_id, &source))).await.unwrap()
        }
    };
    let all = futures::future::join_all((0..8).map(|_| deliver("m1", None, true, None))).await;
    assert_eq!(all.iter().filter(|k| matches!(k, Kept::New(_, Some(_)))).count(), 1);
    // One that is not genuine does not use the id up, and one that is repeated by hand is taken.
    assert!(matches!(deliver("m2", None, false, None).await, Kept::New(_, None)));
    let Kept::New(second, Some(_)) = deliver("m2", Some("/quay e1"), true, None).await else { panic!("it is new") };
    assert!(matches!(deliver("m2", None, true, Some(second.id)).await, Kept::New(_, Some(_))));
    // An event is one whatever its delivery is called.
    assert!(matches!(deliver("m3", Some("/quay e1"), true, None).await, Kept::Before(b) if b.id == second.id));
    assert_eq!(store.deliveries(webhook.id, 10).await.unwrap().len(), 4);
    store.trim_deliveries(webhook.id).await.unwrap();
    assert_eq!(store.deliveries(webhook.id, 10).await.unwrap().len(), 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn heads_chains_and_replacements_are_done_once() {
    let store = store().await;
    let first = run(&store, "headed", &[]).await;
    let source = first.source.clone().unwrap();
    let there = [("main".to_owned(), "a".to_owned())];
    let new =
        NewPoll { suite_id: first.suite_id, branches: "*", every_us: 1, brief: None, made_by: "asta", heads: &there };
    let watch = store.put_poll(new, Utc::now()).await.unwrap();
    assert!(store.seen_heads(watch.id, &there).await.unwrap().contains(&there[0]));
    let head = ("main".to_owned(), "b".to_owned());
    let run_head = |_| {
        let (store, head, run) = (store.clone(), head.clone(), wanted(first.suite_id, &source));
        async move { store.run_head(watch.id, &head, &run).await.unwrap().is_some() }
    };
    let made = futures::future::join_all((0..6).map(run_head)).await;
    assert_eq!(made.iter().filter(|m| **m).count(), 1);
    assert!(store.run_head(watch.id, &there[0], &wanted(first.suite_id, &source)).await.unwrap().is_none());
    // A newer commit of a brief and branch asks for the end of an older one, and not of the same.
    let of = |commit: &str| NewRun {
        branch: Some("main".into()),
        commit: Some(commit.into()),
        origin: Origin { brief: Some("push".into()), replace_older: true, ..Origin::default() },
        follow: Some(Follow { then: "next".into(), then_if: ThenIf::Any }),
        ..wanted(first.suite_id, &source)
    };
    let old = store.add_run(&of("a")).await.unwrap();
    store.add_run(&of("a")).await.unwrap();
    assert_eq!(store.run_of(old.id).await.unwrap().unwrap().stop_asked, None);
    let newer = store.add_run(&of("b")).await.unwrap();
    let asked = store.run_of(old.id).await.unwrap().unwrap().stop_asked;
    assert_eq!(asked, Some(format!("replaced by headed/{}", newer.number)));
    // What follows is done once, and only after the verdict.
    let to_follow =
        || async { store.runs_to_follow(100).await.unwrap().iter().filter(|(r, _)| r.id == newer.id).count() };
    assert_eq!(to_follow().await, 0);
    let over = Commit { runs: vec![change(&newer, Phase::Finished, Some(Verdict::Passed))], ..Commit::default() };
    store.commit(&over).await.unwrap();
    assert_eq!(to_follow().await, 1);
    let next = NewRun { chain: Some(newer.id), ..wanted(first.suite_id, &source) };
    assert!(store.follow(newer.id, Some(&next), "").await.unwrap().is_some());
    assert!(store.follow(newer.id, Some(&next), "").await.unwrap().is_none());
    assert_eq!(store.chain(newer.id).await.unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_of_one_run_that_are_refused_can_be_told_from_the_others() {
    let store = store().await;
    let (good, bad) = (run(&store, "refused-good", &[]).await, run(&store, "refused-bad", &[]).await);
    let mut both =
        Commit { attempts: vec![attempt(&good, 0, 1, Ended::Passed, Some(Outcome::Passed))], ..Commit::default() };
    // A month that no partition is for: a row that is refused for good.
    let month = NaiveDate::from_ymd_opt(1999, 1, 1).unwrap();
    both.attempts.push(NewAttempt { month, ..attempt(&bad, 0, 1, Ended::Passed, None) });
    both.runs.push(change(&good, Phase::Running, None));
    assert!(matches!(store.commit(&both).await, Err(Error::Refused(_))));
    store.probe().await.unwrap();
    assert_eq!(both.run_ids().into_iter().collect::<Vec<_>>(), [good.id, bad.id]);
    let part = both.take_run(bad.id);
    assert_eq!((part.rows(), both.rows()), (1, 2));
    assert!(matches!(store.commit(&part).await, Err(Error::Refused(_))));
    store.commit(&both).await.unwrap();
    assert_eq!(store.attempt_bones(good.id, month_of(good.created_at)).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_sent_together_is_refused_for_what_is_wrong_with_it() {
    let apart = Apart::new("sent_together").await;
    let store = &apart.store;
    let run = run(store, "sent-together", &[]).await;
    let pools = vec!["sent-together".to_owned()];
    assert_eq!(held_pools(store, &holder("one"), &pools).await, pools);
    let by = |service: &str| Some((service.to_owned(), pools.clone()));
    let of_no_month = Commit {
        by: by("one"),
        attempts: vec![NewAttempt {
            month: NaiveDate::from_ymd_opt(1999, 1, 1).unwrap(),
            ..attempt(&run, 0, 1, Ended::Passed, None)
        }],
        runs: Vec::new(),
        ..whole_commit(&run)
    };
    let mut of_no_worker = Commit { by: by("one"), ..whole_commit(&run) };
    of_no_worker.batches[0].worker = "her\0on".into();
    // Again, by when PostgreSQL has each statement prepared.
    for _ in 0..3 {
        for (commit, why) in [(&of_no_month, "no partition"), (&of_no_worker, "invalid byte sequence")] {
            match store.commit(commit).await {
                Err(Error::Refused(said)) => assert!(said.contains(why), "{said}"),
                other => panic!("{other:?} of a commit with {why}"),
            }
        }
    }
    // What PostgreSQL has no room for is worth trying again, also where more was sent after it.
    apart
        .sql(
            "create function full_disk() returns trigger language plpgsql as $$ begin \
                 raise exception 'could not extend file: No space left on device' using errcode = '53100'; end $$; \
             create trigger full_disk before insert on attempts for each row execute function full_disk()",
        )
        .await;
    match store.commit(&Commit { by: by("one"), ..whole_commit(&run) }).await {
        Err(Error::Away(said)) => assert!(said.contains("No space left on device"), "{said}"),
        other => panic!("{other:?} of a commit that finds no room"),
    }
    apart.sql("drop trigger full_disk on attempts").await;
    // Rows that would be refused, of a run that is another's.
    let others = Commit { by: by("two"), ..of_no_month };
    assert!(matches!(store.commit(&others).await, Err(Error::Elsewhere)));
    assert!(store.batches(run.id).await.unwrap().is_empty(), "nothing of them was kept");
    store.commit(&Commit { by: by("one"), ..whole_commit(&run) }).await.unwrap();
    assert_eq!(store.batches(run.id).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_month_begins_while_others_read_and_write() {
    let store = store().await;
    let first = run(&store, "new-month", &[]).await;
    // Somebody is in the middle of both tables, in the other order.
    let mut other = AsyncPgConnection::establish(&CLUSTER.postgres.url()).await.unwrap();
    other.batch_execute("begin; select count(*) from cases; select count(*) from attempts").await.unwrap();
    let at = "2026-02-05T03:00:00Z".parse().expect("a time");
    let new = NewRun {
        suite_id: first.suite_id,
        pool: "main".into(),
        started_by: "asta".into(),
        at: Some(at),
        ..NewRun::default()
    };
    let rows = Commit {
        attempts: vec![NewAttempt {
            run_id: 0,
            month: month_of(at),
            ..attempt(&first, 0, 1, Ended::Passed, Some(Outcome::Passed))
        }],
        ..Commit::default()
    };
    let soon = std::time::Duration::from_secs(20);
    let made = tokio::time::timeout(soon, store.import("import\u{1}month", &new, rows)).await;
    let (row, _) = made.expect("it does not wait for them").unwrap();
    other.batch_execute("select count(*) from cases; commit").await.unwrap();
    assert_eq!(store.attempt_bones(row.id, month_of(at)).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_is_kept_whole_or_not_at_all_and_once() {
    let store = store().await;
    let first = run(&store, "imported", &[]).await;
    let at = "2026-01-05T03:00:00Z".parse().expect("a time");
    let new = NewRun {
        suite_id: first.suite_id,
        pool: "main".into(),
        started_by: "asta".into(),
        at: Some(at),
        ..NewRun::default()
    };
    let month = month_of(at);
    let rows = |second: Ended| Commit {
        attempts: vec![
            NewAttempt { run_id: 0, month, ..attempt(&first, 0, 1, Ended::Passed, Some(Outcome::Passed)) },
            NewAttempt { run_id: 0, month, ..attempt(&first, 1, 1, second, Some(Outcome::Failed)) },
        ],
        notes: vec![(0, "a remark".into())],
        runs: vec![RunChange { run_id: 0, ..change(&first, Phase::Finished, Some(Verdict::Failed)) }],
        ..Commit::default()
    };
    // A row that PostgreSQL does not take leaves nothing behind, the number included.
    let mut bad = rows(Ended::Failed);
    bad.attempts[1].month = month_of("2019-05-01T00:00:00Z".parse().expect("a time"));
    assert!(store.import("import\u{1}one", &new, bad).await.is_err());
    assert_eq!(store.meeting("import\u{1}one").await.unwrap().map(|(row, _)| row.number), None);
    let (row, made) = store.import("import\u{1}one", &new, rows(Ended::Failed)).await.unwrap();
    assert!(made && row.phase == "finished" && row.verdict.as_deref() == Some("failed"));
    assert_eq!((row.number, row.created_at), (first.number + 1, at));
    assert_eq!(store.attempt_bones(row.id, month).await.unwrap().len(), 2);
    assert_eq!(store.notes(row.id).await.unwrap(), ["a remark"]);
    let (again, made) = store.import("import\u{1}one", &new, rows(Ended::Failed)).await.unwrap();
    assert_eq!((again.id, made), (row.id, false));
    assert_eq!(store.attempt_bones(row.id, month).await.unwrap().len(), 2, "nothing is counted twice");
    let (other, made) = store.import("import\u{1}two", &new, rows(Ended::Crashed)).await.unwrap();
    assert!(made && other.number == row.number + 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_failed_cases_of_files_that_failed_by_them_alone_are_told() {
    let store = store().await;
    let run = run(&store, "alone", &[]).await;
    let month = month_of(run.created_at);
    let case = |entry: u32, place: u32, title: &str, outcome: Outcome, copy: bool| NewCase {
        month,
        run_id: run.id,
        entry,
        number: 1,
        place,
        title: title.into(),
        ended: if outcome == Outcome::Failed { Ended::Failed } else { Ended::Passed },
        outcome: Some(outcome),
        parked: false,
        copy,
        spent_us: 5,
        message: String::new(),
        detail: String::new(),
    };
    let by = |entry: u32, itself: bool| NewAttempt {
        itself,
        ..attempt(&run, entry, 1, Ended::Failed, Some(Outcome::Failed))
    };
    let commit = Commit {
        attempts: vec![by(0, false), by(1, true), by(2, false), by(3, false)],
        cases: vec![
            case(0, 0, "opens", Outcome::Passed, false),
            case(0, 1, "shuts", Outcome::Failed, false),
            case(0, 2, "locks", Outcome::Failed, false),
            case(1, 0, "tears", Outcome::Failed, false),
            case(2, 0, "pays", Outcome::Failed, false),
            case(2, 1, "pays (2)", Outcome::Failed, true),
            case(3, 0, "a", Outcome::Failed, false),
            case(3, 1, "b", Outcome::Failed, false),
            case(3, 2, "c", Outcome::Failed, false),
        ],
        ..Commit::default()
    };
    store.commit(&commit).await.unwrap();
    let alone = store.failed_alone(run.id, month, 2).await.unwrap();
    // The second failed by itself, the third has a title that came twice, the fourth has more than are wanted.
    assert_eq!(alone.into_iter().collect::<Vec<_>>(), [(0, vec!["shuts".to_owned(), "locks".to_owned()])]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_path_as_long_as_any_is_kept_once() {
    let store = store().await;
    let run = run(&store, "long-paths", &[]).await;
    // Random, as an index would take what can be packed.
    let mut seed = 7u64;
    let mut letter = || {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        char::from(b'a' + (seed >> 33) as u8 % 26)
    };
    let path: String = (0..4000).map(|_| letter()).collect();
    let file = || NewArtifact {
        run_id: run.id,
        entry: None,
        batch: 1,
        path: path.clone(),
        about: String::new(),
        digest: "d".repeat(64),
        bytes: 1,
    };
    for _ in 0..2 {
        store.commit(&Commit { artifacts: vec![file()], ..Commit::default() }).await.unwrap();
    }
    assert_eq!(store.artifacts(run.id, None).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_fails_a_run_beside_its_tests_is_kept_apart_from_remarks() {
    let store = store().await;
    let run = run(&store, "wrongs", &[]).await;
    let commit = Commit {
        notes: vec![(run.id, "a remark".into())],
        wrongs: vec![(run.id, "status 5 \0".into())],
        ..Commit::default()
    };
    store.commit(&commit).await.unwrap();
    assert_eq!(store.wrongs(run.id).await.unwrap(), ["status 5 \u{fffd}"]);
    assert_eq!(store.notes(run.id).await.unwrap().len(), 2, "both are told");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_ends_with_its_day_its_sign_out_and_its_token() {
    let store = store().await;
    store.add_token("browsing", b"hash-of-token", "reader").await.unwrap();
    let later = Utc::now() + chrono::TimeDelta::hours(1);
    let session = |hash: &'static [u8], until| NewSession {
        hash,
        token: Some("browsing"),
        account: None,
        until,
        about: "a browser",
        address: "192.0.2.7",
    };
    store.add_session(&session(b"one", later)).await.unwrap();
    store.add_session(&session(b"old", Utc::now() - chrono::TimeDelta::seconds(1))).await.unwrap();
    let of = async |hash: &'static [u8]| store.speaker_of_session(hash).await.unwrap().map(|t| t.name);
    assert_eq!(of(b"one").await.as_deref(), Some("browsing"));
    assert_eq!(of(b"old").await, None);
    assert_eq!(of(b"hash-of-token").await, None, "a token is no session");
    store.remove_session(b"one").await.unwrap();
    assert_eq!(of(b"one").await, None);
    store.add_session(&session(b"two", later)).await.unwrap();
    store.remove_token("browsing").await.unwrap();
    assert_eq!(of(b"two").await, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_has_its_password_sessions_and_tokens() {
    let store = store().await;
    let later = Utc::now() + chrono::TimeDelta::hours(1);
    store.add_token("crew", b"crew", "reader").await.unwrap();
    let gates = ["gate-*".to_owned()];
    let limited = Rights { role: "operator", suites: &gates };
    const READER: Rights<'static> = Rights { role: "reader", suites: &[] };
    assert!(!store.add_account("crew", READER, "first", b"link-0", later).await.unwrap(), "a token is called so");
    assert!(store.add_account("ada", limited, "first", b"link-1", later).await.unwrap());
    assert!(!store.add_account("ada", READER, "first", b"link-2", later).await.unwrap());
    assert_eq!(store.password_of("ada").await.unwrap(), None, "none was chosen");
    assert_eq!(store.account_of_link(b"link-1").await.unwrap().as_deref(), Some("ada"));
    // A newer link takes the place of the one before, and each is good once.
    assert!(store.add_password_link("ada", b"link-3", later).await.unwrap());
    assert_eq!(store.choose_password(b"link-1", "secret").await.unwrap(), None);
    assert_eq!(store.choose_password(b"link-3", "secret").await.unwrap().as_deref(), Some("ada"));
    assert_eq!(store.choose_password(b"link-3", "another").await.unwrap(), None);
    assert_eq!(
        store.password_of("ada").await.unwrap(),
        Some(("operator".into(), vec!["gate-*".into()], "secret".into()))
    );
    let session = |hash: &'static [u8]| NewSession {
        hash,
        token: None,
        account: Some("ada"),
        until: later,
        about: "a browser",
        address: "192.0.2.7",
    };
    store.add_session(&session(b"one")).await.unwrap();
    store.add_session(&session(b"two")).await.unwrap();
    let own =
        NewToken { name: "ada-laptop", hash: b"laptop", role: "operator", account: Some("ada"), ..NewToken::default() };
    assert!(store.add_token_with(&own).await.unwrap());
    let role = async |hash: &'static [u8], token: bool| {
        let found = if token { store.speaker_of_token(hash).await } else { store.speaker_of_session(hash).await };
        found.unwrap().map(|s| format!("{} {} {}", s.name, s.role, s.suites.join(",")))
    };
    assert_eq!(role(b"one", false).await.as_deref(), Some("ada operator gate-*"));
    assert_eq!(role(b"laptop", true).await.as_deref(), Some("ada operator gate-*"), "the token speaks for the account");
    // Another role holds at once, also for what was made before.
    assert!(store.set_rights("ada", READER).await.unwrap());
    assert_eq!(role(b"one", false).await.as_deref(), Some("ada reader "));
    assert_eq!(role(b"laptop", true).await.as_deref(), Some("ada reader "));
    let all = store.accounts().await.unwrap();
    assert_eq!((all[0].chosen, all[0].sessions, all[0].tokens, all[0].link_until), (true, 2, 1, None));
    // Another password ends what others may have opened.
    store.change_password("ada", "better", b"two").await.unwrap();
    assert_eq!(role(b"one", false).await, None);
    assert_eq!(role(b"laptop", true).await, None);
    let left = store.sessions(Some("ada")).await.unwrap();
    assert_eq!((left.len(), left[0].address.as_str(), left[0].by_token), (1, "192.0.2.7", false));
    assert!(!store.end_session(left[0].id, Some("crew")).await.unwrap(), "another's");
    assert!(store.end_session(left[0].id, Some("ada")).await.unwrap());
    assert!(store.remove_account("ada").await.unwrap());
    assert!(store.accounts().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_tried_too_often_has_to_wait_also_when_many_try_at_once() {
    let store = store().await;
    let slowing = Slowing { free: 5, longest: 900.0 };
    let tried = futures::future::join_all((0..30).map(|_| store.try_once("account ada", slowing))).await;
    let went = tried.into_iter().filter(|t| t.as_ref().unwrap().is_ok()).count();
    assert_eq!(went, 5, "as many as are free");
    let wait = store.try_once("account ada", slowing).await.unwrap().unwrap_err();
    assert!((0.9..=1.0).contains(&wait), "{wait}");
    assert!(store.try_once("account bo", slowing).await.unwrap().is_ok(), "another's are its own");
    store.tried_well("account ada").await.unwrap();
    assert!(store.try_once("account ada", slowing).await.unwrap().is_ok());
    // However often it was tried, the wait has its bound, and is no error.
    let mut psql = AsyncPgConnection::establish(&CLUSTER.postgres.url()).await.unwrap();
    psql.batch_execute("update tries set count = 5000, last = now() where what = 'account ada'").await.unwrap();
    let wait = store.try_once("account ada", slowing).await.unwrap().unwrap_err();
    assert!((890.0..=900.0).contains(&wait), "{wait}");
}

#[tokio::test(flavor = "multi_thread")]
async fn many_callers_at_once_do_not_wait_for_each_other_in_a_circle() {
    let store = store().await;
    let first = run(&store, "crowd", &[]).await;
    let call = |n: usize| {
        let store = store.clone();
        async move {
            store.put_suite("crowd", "about", "crowd-digest", true).await?;
            let expected = [("gate/open\t".to_owned(), 7)].into();
            store.keep_stamp(first.suite_id, n as i64 % 3, "night", expected).await.map(drop)
        }
    };
    let all = futures::future::join_all((0..100).map(call));
    let ended = tokio::time::timeout(std::time::Duration::from_secs(30), all).await.expect("none waits for ever");
    assert!(ended.iter().all(Result::is_ok), "{ended:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_asked_for_often_is_found_without_reading_all() {
    let store = store().await;
    let plan = |statement: &str| {
        let (url, statement) = (CLUSTER.postgres.url(), statement.to_owned());
        // Of few rows PostgreSQL would read all, index or not.
        let script = format!("set enable_seqscan = off; explain {statement}");
        let told = std::process::Command::new("psql").args(["-X", "-A", "-t", "-c", &script]).arg(url).output();
        String::from_utf8_lossy(&told.expect("psql comes with PostgreSQL").stdout).into_owned()
    };
    for (statement, index) in [
        ("select 1 from artifacts where digest = 'x'", "artifacts_digest"),
        ("select id from runs where suite_id = 1 order by id desc limit 5", "runs_suite"),
        ("select 1 from planned_starts where run_id = 1", "planned_starts_run"),
        ("select 1 from deliveries where run_id = 1", "deliveries_run"),
        ("select 1 from poll_heads where run_id = 1", "poll_heads_run"),
        ("select 1 from schedules where run_id = 1", "schedules_run"),
        ("select 1 from meetings where run_id = 1", "meetings_run"),
    ] {
        let plan = plan(statement);
        assert!(plan.contains(index), "{statement}: {plan}");
    }
    drop(store);
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_are_asked_for_together() {
    let store = store().await;
    let (a, b) = (run(&store, "many-a", &[]).await, run(&store, "many-b", &[]).await);
    run(&store, "many-a", &[]).await;
    run(&store, "many-a", &[("hunt", "x")]).await;
    let last = store.last_runs(&[a.suite_id, b.suite_id], 1).await.unwrap();
    let mut told: Vec<(i64, i32)> = last.iter().map(|r| (r.suite_id, r.number)).collect();
    told.sort_unstable();
    assert_eq!(told, [(a.suite_id, 2), (b.suite_id, 1)], "the latest of each, and none of a hunt");
    assert!(store.last_runs(&[], 5).await.unwrap().is_empty());
    let of_brief = |brief: &str| NewRun {
        origin: Origin { brief: Some(brief.into()), ..Origin::default() },
        ..wanted(a.suite_id, a.source.as_ref().unwrap())
    };
    store.add_run(&of_brief("many-nightly")).await.unwrap();
    let latest = store.add_run(&of_brief("many-nightly")).await.unwrap();
    let of_briefs = store.last_runs_of_briefs(&["many-nightly", "many-none"]).await.unwrap();
    assert_eq!(of_briefs.iter().map(|(r, _)| r.id).collect::<Vec<_>>(), [latest.id]);
}

/// What the tables held before their words became plain.
const BEFORE_PLAIN_WORDS: &str = include_str!("../migrations/before_plain_words.sql");

#[tokio::test(flavor = "multi_thread")]
async fn what_was_stored_before_the_words_became_plain_is_read_with_them() {
    let url = CLUSTER.postgres.url();
    let mut admin = AsyncPgConnection::establish(&url).await.unwrap();
    diesel::sql_query("create database older").execute(&mut admin).await.unwrap();
    let url = format!("{}/older", url.rsplit_once('/').expect("an address with a database").0);
    let mut old = AsyncPgConnection::establish(&url).await.unwrap();
    let migrations = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("migrations");
    let mut all: Vec<_> = std::fs::read_dir(migrations).unwrap().map(|e| e.unwrap().path()).collect();
    all.sort();
    old.batch_execute("create table __diesel_schema_migrations (version varchar(50) primary key, run_on timestamp not null default now())")
        .await
        .unwrap();
    for before in &all[..4] {
        old.batch_execute(&std::fs::read_to_string(before.join("up.sql")).unwrap()).await.unwrap();
        let version = before.file_name().unwrap().to_str().unwrap().split('_').next().unwrap();
        old.batch_execute(&format!("insert into __diesel_schema_migrations (version) values ('{version}')"))
            .await
            .unwrap();
    }
    old.batch_execute(BEFORE_PLAIN_WORDS).await.unwrap();

    let store = Store::open(&url).await.unwrap();
    assert_eq!(store.speaker_of_token(&[1]).await.unwrap().unwrap().role, "admin");
    let (run, _) = store.run("fares", 1).await.unwrap().unwrap();
    assert_eq!((run.pool.as_str(), run.strip.as_str()), ("main", "pnn"));
    let options: RunOptions = serde_json::from_value(run.options).unwrap();
    assert_eq!(options.pick, ["regex:^fare", "gate/*"]);
    assert!(options.recent_failures_first);
    let only = options.only.expect("entries by their names");
    assert!(only.len() == 1 && only[0].0.ends_with("_failed"), "names of tests are left as they are: {only:?}");
    assert_eq!(
        serde_json::from_value::<Tally>(run.tally).unwrap(),
        Tally { passed: 1, not_run: 2, ..Tally::default() }
    );
    let origin: Origin = serde_json::from_value(run.origin).unwrap();
    assert_eq!(origin.said(), "webhook push");
    let follow: Follow = serde_json::from_value(run.follow.unwrap()).unwrap();
    assert_eq!(follow.then_if, ThenIf::Any);
    assert_eq!(run.parks[0]["pattern"], "regex:late$");
    assert_eq!(run.parks[0]["why"], "fog");
    let (second, _) = store.run("fares", 2).await.unwrap().unwrap();
    assert_eq!(second.pool, "north", "a pool of another name keeps it");
    assert_eq!(serde_json::from_value::<Origin>(second.origin).unwrap().said(), "polled branch main");
    let attempts = store.attempts_of(1, NaiveDate::from_ymd_opt(2026, 11, 1).unwrap(), &[0]).await.unwrap();
    assert_eq!(attempts[0].ended, "timed-out");
    let records = store.records(1, "main").await.unwrap();
    let samples = |test: &str| records[&(test.to_owned(), String::new())].estimate.samples;
    assert_eq!((samples("gate/a"), samples("gate/b")), (3, 2), "what the pool of that name knew stands");
    let brief = store.brief("nightly").await.unwrap().unwrap().brief;
    assert_eq!((&brief["pool"], &brief["then_if"]), (&serde_json::json!("main"), &serde_json::json!("any")));
    let brief: kesmo_core::plan::brief::Brief = serde_json::from_value(brief).unwrap();
    assert_eq!(brief.options.pick, ["regex:a"]);
    let schedule = store.schedule("nightly").await.unwrap().unwrap();
    let changes: Changes = serde_json::from_value(schedule.changes).unwrap();
    assert_eq!((changes.pool, changes.options.drop), (None, vec!["regex:b".to_owned()]));
    assert_eq!(store.parks(Some(1)).await.unwrap()[0].0.pattern, "regex:late$");
    let webhook = store.webhook("push").await.unwrap().unwrap();
    let deliveries = store.deliveries(webhook.id, 9).await.unwrap();
    assert_eq!((deliveries[0].did.as_str(), deliveries[0].message_id.as_str()), ("ignored", "push-1"));
    let polls = store.polls(Some(1)).await.unwrap();
    assert_eq!((polls[0].0.branches.as_str(), polls[0].0.every_us), ("release/*", 60_000_000));
    let head = ("release/7".to_owned(), "abc".to_owned());
    assert!(store.seen_heads(polls[0].0.id, std::slice::from_ref(&head)).await.unwrap().contains(&head));
}

fn new_webhook(name: &str) -> NewWebhook<'_> {
    NewWebhook {
        name,
        brief: "any",
        secret: b"0123456789abcdef01234567",
        takes: &[],
        whens: &[],
        per_minute: 60,
        made_by: "asta",
    }
}

fn case(run: &RunRow, entry: u32, number: u16, place: u32, title: &str, ended: Ended) -> NewCase {
    let outcome = match ended {
        _ if number > 1 => None,
        Ended::Passed => Some(Outcome::Passed),
        Ended::Skipped => Some(Outcome::Skipped),
        _ => Some(Outcome::Failed),
    };
    NewCase {
        month: month_of(run.created_at),
        run_id: run.id,
        entry,
        number,
        place,
        title: title.into(),
        ended,
        outcome,
        parked: false,
        copy: false,
        spent_us: u64::from(place) * 10,
        message: "a NUL \0 in it".into(),
        detail: String::new(),
    }
}

fn cases_of(run: &RunRow, entry: u32, number: u16) -> CasesOf {
    CasesOf { month: month_of(run.created_at), run_id: run.id, entry, number }
}

/// Title, outcome and attempt of a run's cases, as the store finds them.
async fn found(store: &Store, run: &RunRow, asked: CaseQuestion) -> Vec<(String, String, i32, i64)> {
    let asked = CaseQuestion { limit: if asked.limit == 0 { 100 } else { asked.limit }, ..asked };
    let rows = store.cases(run.id, month_of(run.created_at), &asked).await.unwrap();
    rows.into_iter().map(|r| (r.title, r.outcome.unwrap_or_default(), r.number, r.times)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn cases_are_kept_once_merged_over_attempts_and_forgotten_with_a_lost_one() {
    use Ended::{Failed, Passed, Skipped};
    let store = store().await;
    let run = run(&store, "of-cases", &[]).await;
    let first = |titles: &[(&str, Ended)], number| {
        let all = titles.iter().enumerate();
        all.map(|(place, (title, ended))| case(&run, 0, number, place as u32, title, *ended)).collect::<Vec<_>>()
    };
    let titles = [("opens", Passed), ("late", Failed), ("torn", Failed), ("wet", Failed), ("dry", Skipped)];
    // A commit whose answer was lost is sent again.
    for _ in 0..2 {
        store.commit(&Commit { cases: first(&titles, 1), ..Commit::default() }).await.unwrap();
    }
    let month = month_of(run.created_at);
    let tallies = store.case_tallies(run.id, month, None).await.unwrap();
    assert_eq!((tallies[&0].total(), tallies[&0].failed), (5, 3));
    // The second attempt is lost after it told of something; the third counts.
    let commit = Commit {
        cases: first(&[("late", Passed)], 2),
        lost_cases: vec![cases_of(&run, 0, 2)],
        settled_cases: vec![cases_of(&run, 0, 0)],
        ..Commit::default()
    };
    store.commit(&commit).await.unwrap();
    assert_eq!(store.case_tallies(run.id, month, Some(&[0])).await.unwrap()[&0].failed, 3);
    let commit = Commit {
        cases: first(&[("late", Passed), ("torn", Failed), ("wet", Skipped)], 3),
        settled_cases: vec![cases_of(&run, 0, 0)],
        ..Commit::default()
    };
    for _ in 0..2 {
        store.commit(&commit).await.unwrap();
    }
    let trouble = found(&store, &run, CaseQuestion { order: CaseOrder::Trouble, ..CaseQuestion::default() }).await;
    let said = |title: &str, outcome: &str, number, times| (title.to_owned(), outcome.to_owned(), number, times);
    let wanted = [
        said("torn", "failed", 3, 2),
        said("wet", "failed", 3, 2),
        said("late", "flaky", 3, 2),
        said("opens", "passed", 1, 1),
        said("dry", "skipped", 1, 1),
    ];
    assert_eq!(trouble, wanted);
    // What the store says of each is what the engine says.
    for (title, attempts) in [("late", [Failed, Passed]), ("torn", [Failed, Failed]), ("wet", [Failed, Skipped])] {
        let shown = attempts.iter().fold(Shown::default(), |shown, ended| shown.and(Shown::of(*ended, false)));
        assert_eq!(trouble.iter().find(|c| c.0 == title).map(|c| c.1.as_str()), Some(shown.outcome().word()));
    }
    let times = store.attempts_of_case(run.id, month, 0, "late").await.unwrap();
    assert_eq!(times.iter().map(|t| (t.number, t.ended.as_str())).collect::<Vec<_>>(), [(1, "failed"), (3, "passed")]);
    assert!(times[0].message.contains('\u{fffd}'), "PostgreSQL keeps no NUL");
    // As they were told, attempt by attempt: of one all, or none where not all may be read.
    let placed = |of: Vec<(i32, i32)>, most| {
        let store = &store;
        async move {
            let rows = store.cases_of_attempts(run.id, month, &of, most).await.unwrap();
            rows.into_iter().map(|r| (r.number, r.place, r.title)).collect::<Vec<_>>()
        }
    };
    let third = |place, title: &str| (3, place, title.to_owned());
    assert_eq!(placed(vec![(0, 3)], 100).await, [third(0, "late"), third(1, "torn"), third(2, "wet")]);
    assert_eq!(placed(vec![(0, 3), (0, 1)], 7).await.len(), 3, "of the first attempt five would not all be read");
    assert_eq!(placed(vec![(0, 3), (0, 1)], 8).await.len(), 8);
    assert!(placed(vec![(0, 2), (5, 1)], 100).await.is_empty(), "of a lost attempt nothing is left");
    assert!(placed(Vec::new(), 100).await.is_empty());
    let open = store.open_cases(run.id, month, &[0, 7]).await.unwrap();
    assert_eq!((open.len(), open[5].number, open[5].title.as_str()), (8, 3, "late"));
}

#[tokio::test(flavor = "multi_thread")]
async fn cases_are_asked_for_by_file_outcome_title_and_page() {
    let store = store().await;
    let run = run(&store, "asked-cases", &[]).await;
    let ended = |n: u32| if n.is_multiple_of(50) { Ended::Failed } else { Ended::Passed };
    let cases = (0..300).map(|n| case(&run, n / 100, 1, n % 100, &format!("Case {n} at 100%"), ended(n))).collect();
    store.commit(&Commit { cases, ..Commit::default() }).await.unwrap();
    let month = month_of(run.created_at);
    let count = async |asked: &CaseQuestion| store.count_cases(run.id, month, asked).await.unwrap();
    assert_eq!(count(&CaseQuestion::default()).await, 300);
    assert_eq!(count(&CaseQuestion { entries: Some(vec![1]), ..CaseQuestion::default() }).await, 100);
    assert_eq!(count(&CaseQuestion { entries: Some(vec![]), ..CaseQuestion::default() }).await, 0);
    let failed = CaseQuestion { outcomes: vec![Outcome::Failed, Outcome::Flaky], ..CaseQuestion::default() };
    assert_eq!(count(&failed).await, 6);
    // A part of a title is no pattern, and its case does not matter.
    assert_eq!(count(&CaseQuestion { title: "case 29".into(), ..CaseQuestion::default() }).await, 11);
    assert_eq!(count(&CaseQuestion { title: "100%".into(), ..CaseQuestion::default() }).await, 300);
    assert_eq!(count(&CaseQuestion { title: "_".into(), ..CaseQuestion::default() }).await, 0);
    assert_eq!(count(&CaseQuestion { exactly: Some("Case 29 at 100%".into()), ..CaseQuestion::default() }).await, 1);
    let page = CaseQuestion { skip: 2, limit: 3, entries: Some(vec![2]), ..CaseQuestion::default() };
    let titles: Vec<String> = found(&store, &run, page).await.into_iter().map(|c| c.0).collect();
    assert_eq!(titles, ["Case 202 at 100%", "Case 203 at 100%", "Case 204 at 100%"]);
    // Those in trouble first, whatever page is asked for.
    let trouble = |skip, limit| CaseQuestion { skip, limit, order: CaseOrder::Trouble, ..CaseQuestion::default() };
    let whole: Vec<String> = found(&store, &run, trouble(0, 300)).await.into_iter().map(|c| c.0).collect();
    assert_eq!((whole.len(), whole[0].as_str(), whole[5].as_str()), (300, "Case 0 at 100%", "Case 250 at 100%"));
    for skip in [0, 3, 5, 6, 7, 40, 299, 300, 400] {
        let page: Vec<String> = found(&store, &run, trouble(skip, 4)).await.into_iter().map(|c| c.0).collect();
        let end = (skip as usize + 4).min(300);
        assert_eq!(page, whole[(skip as usize).min(300)..end.max((skip as usize).min(300))], "from {skip}");
    }
    let slowest = CaseQuestion { limit: 2, order: CaseOrder::Slowest, ..CaseQuestion::default() };
    let titles: Vec<String> = found(&store, &run, slowest).await.into_iter().map(|c| c.0).collect();
    assert_eq!(titles, ["Case 99 at 100%", "Case 199 at 100%"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_process_is_fed_is_kept_once_however_often_it_is_said() {
    let store = store().await;
    let run = run(&store, "fed-batches", &[]).await;
    let batch = NewBatch {
        run_id: run.id,
        number: 1,
        worker: "heron".into(),
        slot: 0,
        entries: vec![3],
        granted_at: Utc::now(),
    };
    store.commit(&Commit { batches: vec![batch], ..Commit::default() }).await.unwrap();
    let feed = |fed: Vec<Vec<u32>>| Commit {
        fed: fed.into_iter().map(|entries| (run.id, 1, entries)).collect(),
        ..Commit::default()
    };
    for _ in 0..2 {
        store.commit(&feed(vec![vec![5], vec![4, 9]])).await.unwrap();
    }
    store.commit(&feed(vec![vec![7]])).await.unwrap();
    assert_eq!(store.batches(run.id).await.unwrap()[0].entry_numbers().unwrap(), [3, 5, 4, 9, 7]);
    let mut both = feed(vec![vec![8]]);
    assert!(both.run_ids().contains(&run.id) && !both.is_empty() && both.rows() == 1);
    let part = both.take_run(run.id);
    assert!(both.is_empty() && part.fed.len() == 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn deliveries_are_kept_together_with_a_number_for_each_run() {
    let store = store().await;
    let first = run(&store, "together", &[]).await;
    let new = new_webhook("together");
    let webhook = store.add_webhook(new).await.unwrap().unwrap();
    let delivery = |id: &str, genuine| NewDelivery {
        webhook_id: webhook.id,
        message_id: id.into(),
        event: None,
        redelivery_of: None,
        genuine,
        content_type: "application/json".into(),
        event_headers: serde_json::json!({}),
        body: b"{}".into(),
        did: "started",
        why: String::new(),
    };
    let source = "together-digest".to_owned();
    let wanted = NewRun {
        suite_id: first.suite_id,
        source: Some(source),
        pool: "main".into(),
        started_by: "webhook together".into(),
        ..NewRun::default()
    };
    let all = [
        (delivery("m1", true), Some(wanted.clone())),
        (delivery("m2", false), None),
        (delivery("m1", true), Some(wanted.clone())),
        (delivery("m3", true), Some(wanted.clone())),
    ];
    let kept = store.take_deliveries(&all).await.unwrap();
    let numbers: Vec<Option<i32>> = kept
        .iter()
        .map(|k| match k {
            Kept::New(_, Some(run)) => Some(run.number),
            Kept::New(_, None) | Kept::Before(_) => None,
        })
        .collect();
    assert_eq!(numbers, [Some(2), None, None, Some(3)]);
    let (Kept::New(one, _), Kept::Before(again)) = (&kept[0], &kept[2]) else { panic!("m1 comes twice") };
    assert_eq!(again.id, one.id);
    let Kept::New(last, Some(run)) = &kept[3] else { panic!("m3 is new") };
    assert_eq!((last.run_id, store.deliveries(webhook.id, 10).await.unwrap()[0].run_id), (Some(run.id), Some(run.id)));
    assert!(store.take_deliveries(&[]).await.unwrap().is_empty());
}

/// What a run says of tests, in their order: name, outcome, attempts, milliseconds.
fn results(run: &RunRow, told: &[(&str, Outcome, u32, u64)]) -> NewResults {
    let row = |(entry, (test, outcome, attempts, ms)): (usize, &(&str, Outcome, u32, u64))| NewResult {
        first: entry as u32,
        parts: 1,
        test: (*test).to_owned(),
        variant: String::new(),
        entry: entry as u32,
        outcome: *outcome,
        attempts: *attempts,
        spent_us: ms * 1000,
        retried_us: u64::from(attempts - 1) * 700,
    };
    NewResults { run_id: run.id, month: month_of(run.created_at), rows: told.iter().enumerate().map(row).collect() }
}

#[tokio::test(flavor = "multi_thread")]
async fn tests_of_a_suite_that_postgresql_has_not_counted_yet_are_found_by_their_key() {
    let apart = Apart::new("uncounted").await;
    let store = &apart.store;
    let names: Vec<String> = (0..2000).map(|n| format!("gate/{n}")).collect();
    let told: Vec<_> = names.iter().map(|name| (name.as_str(), Outcome::Passed, 1, 5)).collect();
    for suite in ["fare", "berth"] {
        let run = run(store, suite, &[]).await;
        assert!(over(store, &run, Verdict::Passed, &told).await);
    }
    apart.sql("analyze tests").await;
    // Of a third one it expects a single test, and would compare each that is asked for with all that there are.
    let third = run(store, "ramp", &[]).await;
    assert!(over(store, &third, Verdict::Passed, &told).await);
    assert_eq!(apart.told("select count(*)::text from results where test_id is not null").await, ["6000"]);
    let settings = apart.told("select unnest(proconfig) from pg_proc where proname = 'tests_of'").await;
    for setting in settings {
        apart.sql(&format!("alter database uncounted set {setting}")).await;
    }
    let array = |all: &mut dyn Iterator<Item = String>| format!("array[{}]", all.collect::<Vec<_>>().join(","));
    let body =
        apart.told("select replace(prosrc, E'\\n', ' ') from pg_proc where proname = 'tests_of'").await.remove(0);
    let body = body
        .replace("names,", &format!("{},", array(&mut names.iter().map(|name| format!("'{name}'")))))
        .replace("variants)", &format!("{})", array(&mut names.iter().map(|_| "''".to_owned()))))
        .replace("md5(suite::text", &format!("md5('{}'", third.suite_id));
    apart
        .sql("create function plan_of(q text) returns setof text language plpgsql as $$ begin return query execute 'explain ' || q; end $$")
        .await;
    let plan = apart.told(&format!("select plan_of($q${body}$q$)")).await.join(" ");
    assert!(plan.contains("Index Scan using tests_by_key"), "{plan}");
    assert!(!plan.contains("Materialize") && !plan.contains("Seq Scan"), "{plan}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_tests_are_kept_as_is_remembered_and_made_sure_of() {
    let apart = Apart::new("remembered").await;
    let store = &apart.store;
    let told = [("boards", Outcome::Passed, 1, 5), ("leaves", Outcome::Failed, 1, 7)];
    let told_by_name = || {
        apart.told(
        "select t.test || ' ' || count(*) || ' ' || (max(t.id) = min(r.test_id)) from results r join tests t on t.id = r.test_id \
         group by t.test order by 1",
    )
    };
    for _ in 0..3 {
        let run = run(store, "tides", &[]).await;
        assert!(over(store, &run, Verdict::Failed, &told).await);
    }
    assert_eq!(told_by_name().await, ["boards 3 true", "leaves 3 true"]);
    // It is found by what is remembered: by its name it would not be.
    apart.sql("update tests set test = 'leaves on time' where test = 'leaves'").await;
    let fourth = run(store, "tides", &[]).await;
    assert!(over(store, &fourth, Verdict::Failed, &told).await);
    assert_eq!(told_by_name().await, ["boards 4 true", "leaves on time 4 true"]);
    // Another suite has tests of its own.
    let other = run(store, "ebbs", &[]).await;
    assert!(over(store, &other, Verdict::Failed, &told[..1]).await);
    assert_eq!(apart.told("select count(*)::text from tests").await, ["3"]);
    // What is not there any more is not written to: it is looked for by its name again, and made.
    apart.sql("delete from tests where test = 'leaves on time'").await;
    let fifth = run(store, "tides", &[]).await;
    assert!(over(store, &fifth, Verdict::Failed, &told).await);
    assert_eq!(told_by_name().await, ["boards 6 false", "leaves 1 true"]);
    // A transaction that is given up leaves nothing to remember.
    let refused = run(store, "tides", &[]).await;
    let of_month = NewResults {
        month: NaiveDate::from_ymd_opt(2001, 1, 1).unwrap(),
        ..results(&refused, &[("quay", Outcome::Passed, 1, 5)])
    };
    apart.sql("alter table results add constraint no_quay check (spent_us <> 5000 or month > '2002-01-01')").await;
    let change = Commit { runs: vec![change(&refused, Phase::Finished, Some(Verdict::Passed))], ..Commit::default() };
    store.commit(&change).await.unwrap();
    try_put(store, &refused, of_month).await.expect_err("it is refused");
    assert!(put(store, &refused, results(&refused, &[("quay", Outcome::Passed, 1, 5)])).await);
    assert_eq!(
        apart.told("select count(*)::text from results r join tests t on t.id = r.test_id where t.test = 'quay'").await,
        ["1"]
    );
}

/// Ends a run and has its results recorded, as a service does.
async fn over(store: &Store, run: &RunRow, verdict: Verdict, told: &[(&str, Outcome, u32, u64)]) -> bool {
    let commit = Commit { runs: vec![change(run, Phase::Finished, Some(verdict))], ..Commit::default() };
    store.commit(&commit).await.expect("the verdict is kept");
    recorded(store, run, told).await
}

/// Has what a run says recorded; false if it was before.
async fn recorded(store: &Store, run: &RunRow, told: &[(&str, Outcome, u32, u64)]) -> bool {
    let told = results(run, told);
    let first = put(store, run, told.clone()).await;
    if told.is_much() {
        store.put_older(run.suite_id, &told).await.expect("what it says is kept");
    }
    first
}

async fn put(store: &Store, run: &RunRow, results: NewResults) -> bool {
    try_put(store, run, results).await.expect("the records are kept")
}

async fn try_put(store: &Store, run: &RunRow, results: NewResults) -> Result<bool, Error> {
    let (results, failing) = ([results], FailingChange::default());
    let told = RecordChange {
        runs: &[run.id],
        results: &results,
        records: &[],
        start_cost: None,
        failing: &failing,
        covers: &no_covers(),
        variants: None,
    };
    store.put_records(run.suite_id, "main", &told).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_runs_say_of_their_tests_is_kept_once_and_found_by_test_and_by_run() {
    use Outcome::{Failed, Flaky, Passed};
    let store = store().await;
    let mut runs = Vec::new();
    for n in 0..4 {
        runs.push(run(&store, "resulting", if n < 2 { &[("release", "resulting-1")] } else { &[] }).await);
    }
    assert!(over(&store, &runs[0], Verdict::Failed, &[("a", Passed, 1, 10), ("b", Failed, 3, 20)]).await);
    assert!(over(&store, &runs[1], Verdict::Passed, &[("b", Passed, 1, 21), ("c", Flaky, 2, 5)]).await);
    assert!(over(&store, &runs[2], Verdict::Passed, &[("b", Passed, 1, 22)]).await);
    assert!(!recorded(&store, &runs[2], &[("b", Failed, 1, 99)]).await, "it was recorded before");
    let suite = runs[0].suite_id;
    let test = async |name: &str| store.tests_named(suite, name).await.unwrap()[0].id;
    let (a, b, c) = (test("a").await, test("b").await, test("c").await);
    assert!(store.tests_named(suite, "d").await.unwrap().is_empty());
    let history = store.history(b, None, None, 10).await.unwrap();
    assert_eq!(
        history.iter().map(|h| (h.number, h.outcome(), h.attempts, h.spent_us)).collect::<Vec<_>>(),
        [(3, Passed, 1, 22_000), (2, Passed, 1, 21_000), (1, Failed, 3, 20_000)],
        "the latest first, and nothing of what was told twice"
    );
    assert_eq!(store.history(b, None, Some(runs[1].id), 10).await.unwrap().len(), 1);
    assert_eq!(store.history(b, None, None, 2).await.unwrap().len(), 2);
    assert_eq!(store.history(b, Some("main"), None, 10).await.unwrap().len(), 0, "none of them is of that branch");
    let seen = store.results_of(runs[0].id, month_of(runs[0].created_at)).await.unwrap();
    assert_eq!(
        seen.iter().map(|(id, s)| (*id, s.entry, s.outcome)).collect::<Vec<_>>(),
        [(a, 0, Passed), (b, 1, Failed)]
    );
    // A failing run's time says nothing of what a test usually takes.
    let before = store.durations_before(&[a, b], runs[3].id, 9).await.unwrap();
    assert_eq!((before[&a].clone(), before[&b].clone()), (vec![10_000], vec![22_000, 21_000]));
    assert_eq!(store.flaky_before(&[a, b, c], runs[3].id, 50).await.unwrap().into_iter().collect::<Vec<_>>(), [c]);
    assert!(store.flaky_before(&[c], runs[1].id, 50).await.unwrap().is_empty(), "not before it was");
    let flaky = store.flaky(Some(suite), month_of(runs[0].created_at), 100, 10).await.unwrap();
    assert_eq!(
        flaky.iter().map(|f| (f.test.as_str(), f.series.as_str(), f.retried_us)).collect::<Vec<_>>(),
        [("c", "k", 700)]
    );
    let label: BTreeMap<String, String> = [("release".to_owned(), "resulting-1".to_owned())].into();
    let of_label = store.labelled_tests(&label).await.unwrap();
    assert_eq!(
        of_label.iter().map(|t| (t.test.as_str(), t.outcome(), t.number)).collect::<Vec<_>>(),
        [("a", Some(Passed), 1), ("b", Some(Passed), 2), ("c", Some(Flaky), 2)],
        "the latest that counts of the runs with the label"
    );
    let among = Among { suite_id: suite, before: runs[2].id, branch: Some(None), until: None, most: 10 };
    let found: Vec<i64> = store.comparable(among).await.unwrap().iter().map(|c| c.id).collect();
    assert_eq!(found, [runs[1].id, runs[0].id]);
    assert!(store.comparable(Among { branch: Some(Some("main")), ..among }).await.unwrap().is_empty());
    let used =
        store.usage(&By::Label("release".into()), Some(suite), runs[0].created_at, Utc::now(), 10).await.unwrap();
    let sums: Vec<(&str, i64, i64)> = used.iter().map(|u| (u.key.as_str(), u.runs, u.retried_us)).collect();
    assert!(sums.contains(&("resulting-1", 2, 2100)) && sums.contains(&("", 1, 0)), "{sums:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_run_with_much_to_say_the_records_come_first_and_its_results_once_after_them() {
    let store = store().await;
    let run = run(&store, "talkative", &[]).await;
    let over = vec![change(&run, Phase::Finished, Some(Verdict::Passed))];
    store.commit(&Commit { runs: over, ..Commit::default() }).await.unwrap();
    let names: Vec<String> = (0..1200).map(|n| format!("gate/{n}")).collect();
    let all: Vec<_> = names.iter().map(|name| (name.as_str(), Outcome::Passed, 1, 5)).collect();
    let told = results(&run, &all);
    assert!(put(&store, &run, told.clone()).await);
    let kept = async || store.results_of(run.id, month_of(run.created_at)).await.unwrap().len();
    assert!(store.is_older(run.id).await.unwrap() && kept().await == 0, "whoever wants them has them made");
    assert!(!put(&store, &run, told.clone()).await, "its records are there");
    // It was over a moment ago: who looks for what was left behind does not come between.
    let hour = chrono::TimeDelta::hours(1);
    let older = async |before| store.older_runs(before, 1000).await.unwrap().contains(&run.id);
    assert!(!older(Utc::now() - hour).await && older(Utc::now() + hour).await);
    store.put_older(run.suite_id, &told).await.unwrap();
    store.put_older(run.suite_id, &told).await.unwrap();
    assert!(!store.is_older(run.id).await.unwrap() && kept().await == 1200);
}

#[tokio::test(flavor = "multi_thread")]
async fn results_of_runs_that_were_over_before_are_made_once_by_whoever_comes_first() {
    let store = Arc::new(store().await);
    let run = run(&store, "older", &[]).await;
    let commit = Commit { runs: vec![change(&run, Phase::Finished, Some(Verdict::Passed))], ..Commit::default() };
    store.commit(&commit).await.unwrap();
    let mut c = AsyncPgConnection::establish(&CLUSTER.postgres.url()).await.unwrap();
    c.batch_execute(&format!("insert into older_runs values ({})", run.id)).await.unwrap();
    assert!(store.is_older(run.id).await.unwrap());
    let told = results(&run, &[("gate", Outcome::Passed, 1, 5), (&"long/".repeat(900), Outcome::Skipped, 1, 5)]);
    let all = (0..6).map(|_| {
        let (store, told) = (Arc::clone(&store), told.clone());
        tokio::spawn(async move { store.put_older(run.suite_id, &told).await })
    });
    for one in all.collect::<Vec<_>>() {
        one.await.unwrap().unwrap();
    }
    assert!(!store.is_older(run.id).await.unwrap());
    assert_eq!(store.results_of(run.id, month_of(run.created_at)).await.unwrap().len(), 2);
    let long = store.tests_named(run.suite_id, &"long/".repeat(900)).await.unwrap();
    assert_eq!(long.len(), 1, "a name that is longer than what an index takes is found by its hash");
}

fn part(number: u32, values: &[f64]) -> Part {
    let mut gathering = Gathering::default();
    for value in values {
        let sample = Sample::new("scan", "ms", vec![(*value, 1)], 1).unwrap();
        gathering.take(&sample, 1_800_000_000 + i64::from(number));
    }
    Part { number, ..gathering.finish().unwrap() }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_measured_is_kept_once_and_becomes_the_runs_with_its_verdict() {
    let store = store().await;
    let run = run(&store, "measured", &[]).await;
    let parts = vec![(run.id, 1, part(1, &[1.0, 5.0])), (run.id, 1, part(2, &[9.0])), (run.id, 2, part(1, &[3.0]))];
    let commit = Commit { measured: parts, ..Commit::default() };
    store.commit(&commit).await.unwrap();
    // A commit whose answer was lost is sent again.
    store.commit(&commit).await.unwrap();
    let measured = store.measured(run.id).await.unwrap();
    let counts = measured.named("scan").unwrap().spread.counts;
    assert_eq!((counts.count, counts.errors, counts.sum, counts.min, counts.max), (4, 4, 18.0, 1.0, 9.0));
    let over = Commit {
        measures: vec![NewMeasures { run_id: run.id, measured: measured.clone() }],
        runs: vec![change(&run, Phase::Finished, Some(Verdict::Passed))],
        ..Commit::default()
    };
    store.commit(&over).await.unwrap();
    assert!(store.measured(run.id).await.unwrap().is_empty(), "its parts are gone");
    let kept = store.measures_of(run.id).await.unwrap().pop().unwrap();
    assert_eq!(kept.first, 1_800_000_001);
    assert_eq!(&kept.measure().unwrap(), measured.named("scan").unwrap());
    let totals = store.measures_of_all(&[run.id]).await.unwrap().pop().unwrap().measure().unwrap();
    assert_eq!((totals.points.len(), totals.spread.counts), (0, counts));
    assert_eq!(store.measuring_runs(run.suite_id, 5).await.unwrap(), [run.id]);
}

fn told(run: &RunRow, message: &str) -> Event {
    let cause = Cause { message: message.into(), tests: 1, first: vec!["a".into()] };
    let facts = RunFacts {
        run: format!("noticed/{}", run.number),
        verdict: Some(Verdict::Failed),
        causes: vec![cause],
        ..RunFacts::default()
    };
    Event { because: vec![When::Failed], at: Utc::now(), happened: Happened::Ended(Box::new(facts)) }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_happens_is_noticed_told_and_sent_once() {
    let store = store().await;
    let rule: Notice = serde_json::from_str(r#"{"when":["failed"],"to":{"mail":["crew@quay.example"]}}"#).unwrap();
    let new = |secret, replace| NewNotice { name: "noticed", notice: &rule, secret, by: "asta", replace };
    let notice = store.put_notice(new(Some(&b"one"[..]), false)).await.unwrap().unwrap();
    assert!(store.put_notice(new(None, false)).await.unwrap().is_none(), "there is one already");
    let same = store.put_notice(new(None, true)).await.unwrap().unwrap();
    assert_eq!((same.id, same.secret.as_deref()), (notice.id, Some(&b"one"[..])), "its secret stays");
    // Every way to a verdict leaves a row, also that of a run without a test.
    let (failed, void) = (run(&store, "noticed", &[]).await, run(&store, "noticed", &[]).await);
    let runs = vec![
        change(&failed, Phase::Finished, Some(Verdict::Failed)),
        RunChange { tally: Tally::default(), ..change(&void, Phase::Finished, Some(Verdict::Void)) },
    ];
    store.commit(&Commit { runs, ..Commit::default() }).await.unwrap();
    let rows = || async {
        let all = store.unnoticed(1000).await.unwrap();
        let of = |run: i64| all.iter().find(|row| row.run_id == Some(run)).map(|row| row.id);
        (of(failed.id), of(void.id))
    };
    let (unrecorded, of_void) = rows().await;
    assert_eq!(unrecorded, None, "it comes once its records are there");
    assert!(of_void.is_some());
    let written = RecordChange {
        runs: &[failed.id],
        results: &[],
        records: &[],
        start_cost: None,
        failing: &FailingChange::default(),
        covers: &no_covers(),
        variants: None,
    };
    assert!(store.put_records(failed.suite_id, "main", &written).await.unwrap());
    let taken = rows().await.0.unwrap();
    let event = |key: &str, message: &str, due| NewEvent {
        notice_id: notice.id,
        key: key.into(),
        event: told(&failed, message),
        due_at: due,
        held: None,
        causes: [7].into(),
    };
    let of = Some((failed.suite_id, "main", false));
    let now = || Utc::now() - TimeDelta::seconds(1);
    store.note(Some(taken), &[event("run:1", "late", now())], of).await.unwrap();
    // Another service that had it in hand comes too late; and one event has one key.
    store.note(Some(taken), &[event("run:2", "late", now())], of).await.unwrap();
    store.note(None, &[event("run:1", "late", now())], of).await.unwrap();
    assert_eq!(store.told_causes(failed.suite_id, "main").await.unwrap()[&notice.id], [7].into());
    assert_eq!(store.gather(|| "m-1".into()).await.unwrap(), 1);
    let held = TimeDelta::seconds(60);
    let first = store.take_due(10, held).await.unwrap().pop().unwrap();
    assert_eq!((first.message_id.as_str(), first.tries), ("m-1", 1));
    assert!(store.take_due(10, held).await.unwrap().is_empty(), "whoever has it has it alone");
    let later = Tried::Later(Utc::now() - TimeDelta::seconds(1), "busy".into());
    store.tried(&first, &later).await.unwrap();
    let second = store.take_due(10, held).await.unwrap().pop().unwrap();
    assert_eq!((second.message_id.as_str(), second.tries), ("m-1", 2), "the same message again");
    // What the first holder says when it comes back changes nothing.
    store.tried(&first, &Tried::GivenUp("too late".into())).await.unwrap();
    store.reached(&first, "crew@quay.example").await.unwrap();
    let standing = store.notices_stand().await.unwrap()[&notice.id];
    assert_eq!((standing.trying, standing.given_up), (1, 0));
    store.tried(&second, &Tried::GivenUp("nobody is there".into())).await.unwrap();
    assert!(!store.told_causes(failed.suite_id, "main").await.unwrap().contains_key(&notice.id), "nobody was told");
    assert!(store.send_again(notice.id, second.id).await.unwrap());
    assert!(!store.send_again(notice.id, second.id).await.unwrap(), "it is being tried");
    let third = store.take_due(10, held).await.unwrap().pop().unwrap();
    assert_eq!((third.message_id.as_str(), third.tries, third.reached.len()), ("m-1", 1, 0));
    store.tried(&third, &Tried::Sent("taken".into())).await.unwrap();
    // What gathers goes out with the first of it, as one; what was told before does not go out; a run that passed makes it news again.
    let soon = |ms| Utc::now() + TimeDelta::milliseconds(ms);
    store.note(None, &[event("run:3", "late", soon(300))], of).await.unwrap();
    store.note(None, &[event("run:4", "later", soon(60_000))], of).await.unwrap();
    store.note(None, &[NewEvent { held: Some("told".into()), ..event("run:5", "late", now()) }], of).await.unwrap();
    assert_eq!(store.gather(|| "m-2".into()).await.unwrap(), 0);
    let standing = store.notices_stand().await.unwrap()[&notice.id];
    assert_eq!((standing.gathering, standing.held, standing.sent), (2, 1, 1));
    tokio::time::sleep(std::time::Duration::from_millis(400)).await;
    assert_eq!(store.gather(|| "m-2".into()).await.unwrap(), 1);
    let digest = store.take_due(10, held).await.unwrap().pop().unwrap();
    assert_eq!(store.events_of(&[digest.id]).await.unwrap().len(), 2);
    store.note(None, &[], Some((failed.suite_id, "main", true))).await.unwrap();
    assert!(!store.told_causes(failed.suite_id, "main").await.unwrap().contains_key(&notice.id));
    // Paused, nothing goes out; removed, nothing is left.
    store.change_notice(notice.id, Some(true), None).await.unwrap();
    store.note(None, &[event("run:6", "late", now())], of).await.unwrap();
    assert_eq!(store.gather(|| "m-3".into()).await.unwrap(), 0);
    store.remove_notice(notice.id).await.unwrap();
    assert!(
        store.notice("noticed").await.unwrap().is_none() && store.events_of(&[digest.id]).await.unwrap().is_empty()
    );
    store.note(None, &[event("run:7", "late", now())], of).await.unwrap();
    assert_eq!(store.gather(|| "m-4".into()).await.unwrap(), 0, "a notice that is gone is told nothing");
}

/// A run of one file in so many parts, which told of these cases: the part, the title and how it ended. Tells whether it failed itself.
async fn told_of(store: &Store, name: &str, parts: u16, cases: &[(u32, &str, Ended)], itself: bool) -> RunRow {
    let run = run(store, name, &[]).await;
    let failed = cases.iter().any(|(_, _, ended)| ended.failing());
    let (ended, outcome) = if failed { (Ended::Failed, Outcome::Failed) } else { (Ended::Passed, Outcome::Passed) };
    let row = |(place, (entry, title, ended)): (usize, &(u32, &str, Ended))| {
        case(&run, *entry, 1, place as u32, title, *ended)
    };
    let commit = Commit {
        attempts: (0..u32::from(parts.max(1)))
            .map(|entry| NewAttempt { itself, ..attempt(&run, entry, 1, ended, Some(outcome)) })
            .collect(),
        cases: cases.iter().enumerate().map(row).collect(),
        runs: vec![change(&run, Phase::Finished, Some(Verdict::Passed))],
        ..Commit::default()
    };
    store.commit(&commit).await.unwrap();
    let of = NewResult {
        test: "specs/gate.sh".into(),
        variant: String::new(),
        entry: u32::from(parts.max(1)) - 1,
        first: 0,
        parts,
        outcome,
        attempts: 1,
        spent_us: 9,
        retried_us: 0,
    };
    let told = NewResults { run_id: run.id, month: month_of(run.created_at), rows: vec![of] };
    assert!(put(store, &run, told).await);
    run
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_known_of_a_files_cases_is_of_the_last_run_that_told_of_all() {
    use Ended::{Failed, Passed};
    let store = store().await;
    let file = || vec![("specs/gate.sh".to_owned(), String::new()), ("specs/none.sh".to_owned(), String::new())];
    let first = told_of(&store, "known", 1, &[(0, "opens", Passed), (0, "shuts", Passed)], false).await;
    let suite = first.suite_id;
    let known = async || {
        let mut known = store.known_cases(suite, &file()).await.unwrap();
        assert!(known.len() <= 1, "{known:?}");
        known.remove(&file()[0]).unwrap_or_default()
    };
    let titles = |known: &kesmo_store::cuts::KnownFile| {
        known.cases.iter().map(|case| case.title.clone()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(titles(&known().await), "opens shuts");
    // One that failed by its cases told of all; one that failed itself, or of which some cases were chosen, may not have.
    told_of(&store, "known", 1, &[(0, "opens", Passed), (0, "locks", Failed)], false).await;
    assert_eq!(titles(&known().await), "opens locks");
    told_of(&store, "known", 1, &[(0, "opens", Failed)], true).await;
    told_of(&store, "known", 0, &[(0, "shuts", Passed)], false).await;
    assert_eq!(titles(&known().await), "opens locks");
    // A file that was cut told of its cases in several parts.
    let parts = [(0, "locks", Passed), (2, "opens", Passed), (1, "pays", Passed), (1, "rests", Passed)];
    for times in 1..=4 {
        told_of(&store, "known", 3, &parts, false).await;
        let now = known().await;
        assert_eq!((titles(&now).as_str(), now.long_cut), ("locks pays rests opens", times == 4));
    }
    // The history of a case finds it in whichever part it ran.
    let test = store.tests_named(suite, "specs/gate.sh").await.unwrap()[0].id;
    assert_eq!(store.case_history(test, "opens", None, None, 9).await.unwrap().len(), 6 + 1);
    assert_eq!(store.case_history(test, "pays", None, None, 9).await.unwrap().len(), 4);
    // A title that came twice names no case.
    let twice = told_of(&store, "known", 1, &[(0, "opens", Passed)], false).await;
    let copy = NewCase { copy: true, ..case(&twice, 0, 1, 7, "opens (2)", Passed) };
    store.commit(&Commit { cases: vec![copy], ..Commit::default() }).await.unwrap();
    assert_eq!(known().await, kesmo_store::cuts::KnownFile::default());
}

#[tokio::test(flavor = "multi_thread")]
async fn how_files_are_cut_is_kept_by_whoever_comes_first() {
    use kesmo_core::plan::cutting::{Cut, CutPart};
    let store = store().await;
    let run = run(&store, "cut", &[]).await;
    let cut = |title: &str| {
        let part = |title: &str| CutPart { titles: vec![title.to_owned()], us: 7 };
        let parts = vec![part(title), part("shuts")];
        vec![Cut { file: "specs/gate.sh".into(), variant: String::new(), parts, rest: true }]
    };
    assert_eq!(store.cuts(run.id).await.unwrap(), []);
    assert_eq!(store.keep_cuts(run.id, &cut("opens")).await.unwrap(), cut("opens"));
    assert_eq!(store.keep_cuts(run.id, &cut("another")).await.unwrap(), cut("opens"), "what was granted stands on it");
    assert_eq!(store.cuts(run.id).await.unwrap(), cut("opens"));
    // Nor is a run cut afterwards that somebody planned whole.
    let whole = self::run(&store, "uncut", &[]).await;
    assert_eq!(store.keep_cuts(whole.id, &[]).await.unwrap(), []);
    assert_eq!(store.keep_cuts(whole.id, &cut("opens")).await.unwrap(), []);
    assert_eq!(store.cuts(whole.id).await.unwrap(), []);
}
