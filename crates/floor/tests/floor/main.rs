//! The floor by itself, on a real PostgreSQL, with workers that are played.

mod bed;
#[path = "../../../database/tests/shared/cluster.rs"]
mod cluster;

use std::time::{Duration, Instant};

use bed::{Bed, Hand, fails, passes, passes_in};
use kesmo_core::{
    plan::{Priority, RunOptions},
    run::BatchEnd,
    words::{Ended, Outcome, Phase, Verdict},
};
use kesmo_floor::{Ask, Chain, NotLinked};
use kesmo_wire::link::{BatchKey, FromWorker, Grant, ToWorker, WorkerEvent};

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_acknowledged_before_it_is_kept() {
    let bed = Bed::new("kept").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 2).await;
    hand.list(&["a", "b", "c", "d"]).await;
    let grants = [hand.granted().await, hand.granted().await];
    let mut told = 0;
    for grant in grants {
        for entry in &grant.entries {
            let number = hand.report(vec![passes(grant.key, entry.index)]).await;
            assert!(bed.attempts(run).await <= told + 1);
            hand.stored(number).await;
            told += 1;
            assert_eq!(bed.attempts(run).await, told, "what is acknowledged is there");
        }
        hand.report(vec![WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]).await;
    }
    hand.work_until(&bed, run, |_| true).await;
    let row = bed.over(run).await;
    assert_eq!((row.verdict.as_deref(), bed.attempts(run).await), (Some("passed"), 4));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_worker_says_of_others_batches_and_of_what_is_not_there_counts_for_nothing() {
    let bed = Bed::new("hostile").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions { shards: Some(1), ..RunOptions::default() }).await;
    let mut hand = bed.hand("heron", 1).await;
    let mut liar = bed.hand("magpie", 1).await;
    hand.list_or(&mut liar, &["a", "b"]).await;
    let (mut honest, mut liar, grant) = Hand::who_is_granted(hand, liar).await;
    let key = grant.key;
    let (first, last) = (grant.entries[0].index, grant.entries.last().unwrap().index);
    // Of a batch that another holds, of one that nobody has, of another run, of entries that there are not.
    let none = BatchKey { run, batch: 999 };
    let elsewhere = BatchKey { run: i64::MAX, batch: key.batch };
    for of in [key, none, elsewhere] {
        for entry in [first, last, 77, u32::MAX] {
            let number = liar
                .report(vec![
                    WorkerEvent::Began { key: of, entry, at_us: i64::MIN },
                    fails(of, entry),
                    WorkerEvent::Note { key: of, text: "a lie".into() },
                    WorkerEvent::Wrong { key: of, text: "a lie".into() },
                    WorkerEvent::GaveBack { key: of, entries: vec![entry, entry] },
                    WorkerEvent::Kept { key: of, entry: Some(entry), files: vec![bed::file("lie.txt")] },
                    WorkerEvent::AtGate { key: of },
                    WorkerEvent::BatchEnded { key: of, end: BatchEnd::Done },
                ])
                .await;
            liar.stored(number).await;
        }
    }
    liar.report(vec![WorkerEvent::Listed {
        job: "no job".into(),
        result: Err("a lie".into()),
        image: None,
        files: vec![bed::file("lie.txt")],
    }])
    .await;
    bed.floor.link_message(9999, FromWorker::Leaving).await;
    bed.floor
        .link_message(liar.link, FromWorker::Output { key, entry: first, from: u64::MAX, text: "a lie".into() })
        .await;
    // Whoever holds it is not believed either where it speaks of what it was not given.
    honest.report(vec![fails(key, 55), passes(key, u32::MAX)]).await;
    for entry in &grant.entries {
        honest.report(vec![passes(key, entry.index), fails(key, entry.index)]).await;
    }
    honest.report(vec![WorkerEvent::BatchEnded { key, end: BatchEnd::Done }]).await;
    honest.report(vec![WorkerEvent::BatchEnded { key, end: BatchEnd::Done }, fails(key, first)]).await;
    Hand::both_until(&mut honest, &mut liar, &bed, run).await;
    let row = bed.over(run).await;
    assert_eq!((row.verdict.as_deref(), row.reason.as_str()), (Some("passed"), ""));
    assert_eq!(bed.attempts(run).await, 2);
    assert_eq!(bed.told("select text from run_notes union all select path from artifacts").await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_that_says_nothing_for_too_long_is_lost_and_its_tests_run_elsewhere() {
    let bed = Bed::new("silent").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut silent = bed.hand("heron", 1).await;
    silent.list(&["a"]).await;
    let grant = silent.granted().await;
    silent.report(vec![WorkerEvent::Began { key: grant.key, entry: 0, at_us: 1 }]).await;
    bed.floor.link_down(silent.link).await;
    let mut other = bed.hand("tern", 1).await;
    other.work_until(&bed, run, |_| true).await;
    let row = bed.over(run).await;
    assert_eq!(row.verdict.as_deref(), Some("passed"), "{}", row.reason);
    let ended = bed.told("select worker || ' ' || ended from attempts order by number").await;
    assert_eq!(ended, ["heron lost", "tern passed"]);
    // When it is back it is told that what it holds is nobody's any more.
    let mut back = bed.hand_holding("heron", 1, vec![grant.key]).await;
    assert!(matches!(back.next().await, ToWorker::Revoke { key } if key == grant.key));
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_pool_a_hundred_runs_are_open_and_what_is_urgent_comes_beyond_that() {
    let bed = Bed::new("crowded").await;
    let suite = bed.suite("fare", "").await;
    let high = || RunOptions { priority: Some(Priority::High), ..RunOptions::default() };
    let mut runs = Vec::new();
    for _ in 0..105 {
        runs.push(bed.start(suite, RunOptions::default()).await);
    }
    let waiting = async || bed.told("select id::text from runs where phase = 'queued' order by id").await.len();
    bed.until("a hundred are open", async || waiting().await == 5).await;
    let urgent = bed.start(suite, high()).await;
    bed.until("the urgent one is open", async || waiting().await == 5).await;
    let of = async |run: i64| bed.floor.ask(|reply| Ask::Summary(run, reply)).await.unwrap().unwrap();
    let last = of(runs[104]).await;
    assert_eq!(last.waiting_for.as_deref(), Some("100 runs of the pool main are open already; it comes after them"));
    let places = bed.floor.ask(Ask::Summaries).await.unwrap();
    assert_eq!(places[&runs[104]].place, Some((106, 106)), "it is the last");
    assert!(places[&urgent].place.unwrap().0 < 102);
    // Stopped in the queue it is over at once; and the next comes in for one that is over.
    assert!(bed.floor.stop(runs[104], "nobody needs it".into()).await);
    let row = bed.over(runs[104]).await;
    assert_eq!((row.verdict.as_deref(), row.reason.as_str()), (Some("stopped"), "nobody needs it"));
    assert!(!bed.floor.stop(runs[104], "once more".into()).await, "it is over");
    assert!(bed.floor.stop(runs[0], "room".into()).await && bed.floor.stop(runs[1], "room".into()).await);
    bed.until("others come in", async || waiting().await == 3).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn more_slots_than_are_given_something_at_once_are_all_given_something() {
    let bed = Bed::new("many_slots").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 2500).await;
    let names: Vec<String> = (0..2600).map(|n| format!("gate/t{n}")).collect();
    hand.list(&names.iter().map(String::as_str).collect::<Vec<_>>()).await;
    let mut slots = std::collections::BTreeSet::new();
    let mut grants = Vec::new();
    while grants.len() < 2500 {
        let grant = hand.granted().await;
        assert!(slots.insert(grant.slot), "each slot once");
        grants.push(grant);
    }
    for grant in grants {
        let mut events: Vec<_> = grant.entries.iter().map(|entry| passes(grant.key, entry.index)).collect();
        events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
        hand.report(events).await;
    }
    hand.work_until(&bed, run, |_| true).await;
    assert_eq!((bed.over(run).await.verdict.as_deref(), bed.attempts(run).await), (Some("passed"), 2600));
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_that_are_refused_make_their_own_run_void_and_no_other() {
    let bed = Bed::new("refused").await;
    let suite = bed.suite("fare", "").await;
    let (good, bad) = (bed.start(suite, RunOptions::default()).await, bed.start(suite, RunOptions::default()).await);
    bed.refuse_attempts_of(bad).await;
    let mut hand = bed.hand("heron", 4).await;
    hand.list(&["a", "b"]).await;
    hand.work_until(&bed, good, |_| true).await;
    hand.work_until(&bed, bad, |_| true).await;
    let (kept, refused) = (bed.over(good).await, bed.over(bad).await);
    assert_eq!((kept.verdict.as_deref(), bed.attempts(good).await), (Some("passed"), 2));
    assert_eq!((refused.verdict.as_deref(), bed.attempts(bad).await), (Some("void"), 0));
    assert!(refused.reason.contains("not this one"), "{}", refused.reason);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_told_while_something_is_written_is_heard_and_nothing_is_seen_before_it_is_kept() {
    let bed = Bed::new("meanwhile").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 2).await;
    hand.list(&["a", "b"]).await;
    let (one, other) = (hand.granted().await, hand.granted().await);
    let (_, hub, _) =
        bed.floor.ask(|reply| Ask::Snapshot(run, Chain::default(), reply)).await.unwrap().expect("it is open");
    let mut watching = hub.subscribe(None).receiver;
    let held = bed.hold("begin; lock table attempts in share mode").await;
    let first = hand.report(vec![passes(one.key, one.entries[0].index)]).await;
    bed.writes().await;
    // All of the rest is told meanwhile, also what ends the run.
    let last = hand
        .report(vec![
            passes(other.key, other.entries[0].index),
            WorkerEvent::BatchEnded { key: one.key, end: BatchEnd::Done },
            WorkerEvent::BatchEnded { key: other.key, end: BatchEnd::Done },
        ])
        .await;
    let floor = bed.floor.clone();
    let mut asked = tokio::spawn(async move { floor.ask(|reply| Ask::Run(run, Chain::default(), reply)).await });
    let soon = Duration::from_millis(300);
    assert!(hand.nothing(soon).await, "nothing is acknowledged");
    assert!(tokio::time::timeout(soon, &mut asked).await.is_err(), "nothing is answered");
    while let Ok(event) = watching.try_recv() {
        assert!(!event.data.contains("\"passed\":1") && event.kind != "end", "nothing is shown: {}", event.data);
    }
    drop(held);
    hand.stored(first).await;
    hand.stored(last).await;
    assert_eq!(bed.attempts(run).await, 2);
    // The answer is how the run stands with all that, or that it is over.
    let told = asked.await.unwrap().expect("it is answered");
    assert!(told.is_none_or(|run| run.summary.verdict == Some(Verdict::Passed)));
    assert_eq!(bed.over(run).await.verdict.as_deref(), Some("passed"));
    let end = async {
        loop {
            let event = watching.recv().await.expect("the stream goes on to its end");
            if event.kind == "end" {
                return event;
            }
        }
    };
    let end = tokio::time::timeout(Duration::from_secs(30), end).await.expect("its end is shown");
    assert!(end.data.contains("\"verdict\":\"passed\""), "{}", end.data);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_told_while_rows_were_refused_counts_for_other_runs_and_not_for_theirs() {
    let bed = Bed::new("refusedlater").await;
    let suite = bed.suite("fare", "").await;
    let one_slot = || RunOptions { shards: Some(1), ..RunOptions::default() };
    let (good, bad) = (bed.start(suite, one_slot()).await, bed.start(suite, one_slot()).await);
    bed.refuse_attempts_of(bad).await;
    let mut hand = bed.hand("heron", 2).await;
    hand.list(&["a"]).await;
    let mut grants = [hand.granted().await, hand.granted().await];
    grants.sort_by_key(|grant| grant.key.run);
    let mut watching = bed.floor.hub.subscribe(None).receiver;
    let held = bed.hold("begin; lock table attempts in share mode").await;
    hand.report(vec![passes(grants[1].key, 0)]).await;
    bed.writes().await;
    // What makes that run passed comes while its result is being written, and so does all of the other.
    let last = hand
        .report(vec![
            WorkerEvent::BatchEnded { key: grants[1].key, end: BatchEnd::Done },
            passes(grants[0].key, 0),
            WorkerEvent::BatchEnded { key: grants[0].key, end: BatchEnd::Done },
        ])
        .await;
    drop(held);
    hand.stored(last).await;
    let (kept, refused) = (bed.over(good).await, bed.over(bad).await);
    assert_eq!((kept.verdict.as_deref(), bed.attempts(good).await), (Some("passed"), 1));
    assert_eq!((refused.verdict.as_deref(), bed.attempts(bad).await), (Some("void"), 0));
    assert!(refused.reason.contains("not this one"), "{}", refused.reason);
    // Nobody was told otherwise in between.
    let mut ends: Vec<(u64, String)> = Vec::new();
    bed.until("both ends are shown", async || {
        while let Ok(event) = watching.try_recv() {
            let view: serde_json::Value = serde_json::from_str(&event.data).unwrap();
            let over = view["runs"].as_array().into_iter().flatten().filter(|run| run["verdict"].is_string());
            ends.extend(over.map(|run| (run["number"].as_u64().unwrap(), run["verdict"].to_string())));
        }
        ends.len() >= 2
    })
    .await;
    ends.sort();
    assert_eq!(ends, [(1, "\"passed\"".to_owned()), (2, "\"void\"".to_owned())]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_floor_that_has_to_stop_while_postgresql_is_away_acknowledges_nothing_of_what_came_then() {
    let mut bed = Bed::new("givenup").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 2).await;
    hand.list(&["a", "b"]).await;
    let grants = [hand.granted().await, hand.granted().await];
    bed.shut().await;
    for grant in &grants {
        hand.report(vec![passes(grant.key, grant.entries[0].index)]).await;
    }
    bed.until("it says that nothing is stored", async || bed.floor.stalled().is_some()).await;
    bed.leave().await;
    assert!(hand.is_told_nothing_more().await, "nothing is acknowledged");
    bed.open_again().await;
    assert_eq!(bed.attempts(run).await, 0);
    // The next one is told again.
    let (floor, task) = bed.another("first").await;
    let keys = grants.iter().map(|grant| grant.key).collect();
    let mut hand = bed.hand_at(&floor, "heron", 2, keys).await;
    let events = |grant: &Grant| {
        [passes(grant.key, grant.entries[0].index), WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]
    };
    let last = hand.report(grants.iter().flat_map(events).collect()).await;
    hand.stored(last).await;
    assert_eq!(bed.over(run).await.verdict.as_deref(), Some("passed"));
    assert_eq!(bed.attempts(run).await, 2);
    floor.leave().await;
    task.await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn while_postgresql_is_away_nothing_is_lost_and_who_asks_is_told() {
    let bed = Bed::new("away").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 1).await;
    hand.list(&["a"]).await;
    let grant = hand.granted().await;
    bed.shut().await;
    let number = hand.report(vec![passes(grant.key, 0)]).await;
    bed.until("it says that nothing is stored", async || bed.floor.stalled().is_some()).await;
    let said = bed.floor.stalled().unwrap();
    assert!(said.contains("nothing could be stored for") && said.contains("is kept by the workers"), "{said}");
    assert!(hand.nothing(Duration::from_millis(200)).await, "nothing is acknowledged");
    bed.open_again().await;
    hand.stored(number).await;
    assert!(bed.floor.stalled().is_none());
    hand.report(vec![WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]).await;
    assert_eq!(bed.over(run).await.verdict.as_deref(), Some("passed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pool_is_one_floors_and_the_next_carries_its_runs_on_with_what_its_workers_hold() {
    let mut bed = Bed::new("two").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 1).await;
    hand.list(&["a", "b"]).await;
    let grant = hand.granted().await;
    let first = grant.entries[0].index;
    let number = hand.report(vec![WorkerEvent::Began { key: grant.key, entry: first, at_us: 1 }]).await;
    hand.stored(number).await;
    let (second, mut task) = bed.another("second").await;
    let elsewhere = bed.link_to(&second, "tern", 1, Vec::new(), 77).await;
    assert!(matches!(elsewhere, Err(NotLinked::Elsewhere(url)) if url == "http://first"));
    assert!(!second.stop(run, "not its".into()).await, "it is another's");
    // The first goes; its leases are given up, and the second takes its runs up with what the worker holds.
    bed.leave().await;
    second.look().await;
    let mut back = bed.hand_at(&second, "heron", 1, vec![grant.key]).await;
    let number = back.report(vec![passes(grant.key, first)]).await;
    back.stored(number).await;
    for entry in &grant.entries[1..] {
        back.report(vec![passes(grant.key, entry.index)]).await;
    }
    back.report(vec![WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]).await;
    back.work_until(&bed, run, |_| true).await;
    let row = bed.over(run).await;
    assert_eq!((row.verdict.as_deref(), bed.attempts(run).await), (Some("passed"), 2), "{}", row.reason);
    second.leave().await;
    (&mut task).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_records_of_one_suite_do_not_wait_for_those_of_another() {
    let bed = Bed::new("records").await;
    let (fare, berth) = (bed.suite("fare", "").await, bed.suite("berth", "").await);
    let mut hand = bed.hand("heron", 2).await;
    let first = bed.start(fare, RunOptions::default()).await;
    let names: Vec<String> = (0..40).map(|n| format!("t/{n}")).collect();
    hand.list(&names.iter().map(String::as_str).collect::<Vec<_>>()).await;
    // Somebody holds the row that the records of the first suite write last.
    let held = bed.hold(&format!("begin; select from suites where id = {fare} for no key update")).await;
    hand.work_until(&bed, first, |entry| entry != 2).await;
    assert_eq!(bed.over(first).await.verdict.as_deref(), Some("failed"));
    let other = bed.start(berth, RunOptions::default()).await;
    hand.list(&["z"]).await;
    hand.work_until(&bed, other, |_| true).await;
    assert_eq!(bed.over(other).await.verdict.as_deref(), Some("passed"));
    // Of that suite itself a next run knows what the one before it told, though it is not written yet.
    let options = RunOptions { recent_failures_first: true, ..RunOptions::default() };
    let next = bed.start_aside(fare, &options).await;
    let grant = hand.granted().await;
    let first = grant.entries.iter().map(|entry| entry.index).collect::<Vec<_>>();
    assert_eq!(first, [2], "what failed of late comes first");
    assert!(bed.told("select test from records where test = 't/2'").await.is_empty(), "it is not written");
    hand.report(vec![passes(grant.key, 2), WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]).await;
    hand.work_until(&bed, next, |_| true).await;
    drop(held);
    bed.floor.recorded().await;
    let records = "select passed || ' ' || failed || ': ' || count(*) from records group by passed, failed order by 1";
    assert_eq!(bed.told(records).await, ["1 0: 1", "1 1: 1", "2 0: 39"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_asks_is_told_what_is_stored_and_the_run_says_what_it_waits_for() {
    let bed = Bed::new("asked").await;
    let suite = bed.suite("fare", "[retry]\ntimes = 1").await;
    let run = bed.start(suite, RunOptions::default()).await;
    let of =
        async || bed.floor.ask(|reply| Ask::Run(run, Chain::default(), reply)).await.unwrap().map(|run| run.summary);
    bed.until("it is open", async || of().await.is_some()).await;
    let waits = of().await.unwrap();
    assert_eq!(waits.phase, Phase::Listing);
    assert!(waits.no_worker && waits.waiting_for.unwrap().contains("kesmo worker"), "it says what to start");
    let mut hand = bed.hand("heron", 1).await;
    hand.list(&["gate/a", "gate/b"]).await;
    let grant = hand.granted().await;
    let entry = grant.entries[0].index;
    let number = hand.report(vec![fails(grant.key, entry)]).await;
    hand.stored(number).await;
    let state = bed.floor.ask(|reply| Ask::EntryState(run, entry, reply)).await.unwrap().unwrap();
    assert_eq!(state.0, None, "it is to be tried again");
    assert_eq!(bed.floor.ask(|reply| Ask::EntryState(run, 99, reply)).await.unwrap(), None);
    assert_eq!(bed.floor.ask(|reply| Ask::States(-1, reply)).await.unwrap(), None);
    hand.report(vec![WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]).await;
    hand.work_until(&bed, run, |_| true).await;
    let row = bed.over(run).await;
    assert_eq!(row.verdict.as_deref(), Some(Verdict::Passed.word()), "{}", row.reason);
    let decided =
        bed.told("select ended || ' ' || coalesce(decided, '-') from attempts where entry = 0 order by number").await;
    assert_eq!(decided, [format!("{} -", Ended::Failed), format!("passed {}", Outcome::Flaky.word())]);
    bed.until("nobody holds it any more", async || of().await.is_none()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_comes_later_is_given_its_due_and_not_more_is_asked_back() {
    let bed = Bed::new("due").await;
    // What is idle elsewhere is no use to it.
    let _idle = bed.link_in("harbour", &bed.floor, "tern", 4, Vec::new(), 9001).await.expect("it may link");
    let suite = bed.suite("fare", "").await;
    bed.start(suite, RunOptions::default()).await;
    let mut hand = bed.hand("heron", 16).await;
    let names: Vec<String> = (0..640).map(|n| format!("t/{n}")).collect();
    hand.list(&names.iter().map(String::as_str).collect::<Vec<_>>()).await;
    let mut held = Vec::new();
    while held.len() < 16 {
        held.push(hand.granted().await);
    }
    let began = |grant: &Grant| WorkerEvent::Began { key: grant.key, entry: grant.entries[0].index, at_us: 0 };
    hand.report(held.iter().map(began).collect()).await;
    // Its list is known: it wants half of the slots at once, and others are long in ending what they have begun.
    let later = bed.start(suite, RunOptions::default()).await;
    let mut asked: Vec<BatchKey> = Vec::new();
    while asked.len() < 8 {
        match hand.next_but_stored().await {
            ToWorker::GiveBack { key, .. } => asked.push(key),
            other => panic!("not asked to give back but told: {other:?}"),
        }
    }
    assert!(hand.nothing(Duration::from_millis(2500)).await, "what it is due is on its way");
    let mut events = Vec::new();
    for grant in held.iter().filter(|grant| asked.contains(&grant.key)) {
        let rest = grant.entries[1..].iter().map(|entry| entry.index).collect();
        events.push(WorkerEvent::GaveBack { key: grant.key, entries: rest });
        events.push(passes(grant.key, grant.entries[0].index));
        events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
    }
    assert_eq!(events.len(), 3 * 8, "eight of them are asked, each once");
    hand.report(events).await;
    let mut given = Vec::new();
    while given.len() < 8 {
        given.push(hand.granted().await.key.run);
    }
    assert_eq!(given, [later; 8], "what was asked back for it is given to it");
}

#[tokio::test(flavor = "multi_thread")]
async fn for_an_idle_slot_one_batch_is_cut_short_whatever_the_number_of_runs() {
    const TESTS: usize = 40;
    let bed = Bed::new("split").await;
    let suite = bed.suite("fare", "").await;
    bed.start(suite, RunOptions::default()).await;
    let mut hands = vec![bed.hand("heron", 1).await];
    let names: Vec<String> = (0..TESTS).map(|n| format!("t/{n}")).collect();
    hands[0].list(&names.iter().map(String::as_str).collect::<Vec<_>>()).await;
    let mut told = 0;
    while told < TESTS {
        let grant = hands[0].granted().await;
        told += grant.entries.len();
        let mut events: Vec<_> = grant.entries.iter().map(|e| passes_in(1_000_000, grant.key, e.index)).collect();
        events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
        hands[0].report(events).await;
    }
    // Two runs, what the tests of which take is known, hold all that they have.
    let mut batches: Vec<Grant> = Vec::new();
    for number in 1..=2 {
        let run = bed.start(suite, RunOptions::default()).await;
        let phase = async || bed.floor.ask(|reply| Ask::Run(run, Chain::default(), reply)).await.unwrap();
        bed.until("it is planned", async || phase().await.is_some_and(|run| run.summary.phase == Phase::Running)).await;
        while batches.iter().map(|grant| grant.entries.len()).sum::<usize>() < number * TESTS {
            if !batches.is_empty() {
                hands.push(bed.hand(&format!("gull-{}", batches.len()), 1).await);
            }
            let place = hands.len() - 1;
            let grant = hands[place].granted().await;
            let began = WorkerEvent::Began { key: grant.key, entry: grant.entries[0].index, at_us: 0 };
            hands[place].report(vec![began]).await;
            batches.push(grant);
        }
    }
    hands.push(bed.hand("tern", 1).await);
    let (mut asked, mut given) = (0, 0);
    let since = Instant::now();
    while given == 0 {
        assert!(since.elapsed() < Duration::from_secs(30), "nothing is given back");
        for hand in &mut hands {
            for told in hand.told_within(Duration::from_millis(1)).await {
                match told {
                    // It is not asked again, nor is another, as long as it has not answered.
                    ToWorker::GiveBack { key, .. } => {
                        asked += 1;
                        tokio::time::sleep(Duration::from_millis(800)).await;
                        let batch = batches.iter().find(|grant| grant.key == key).expect("it was granted");
                        let entries = batch.entries[1..].iter().map(|entry| entry.index).collect();
                        hand.report(vec![WorkerEvent::GaveBack { key, entries }]).await;
                    }
                    ToWorker::Grant(_) => given += 1,
                    _ => {}
                }
            }
        }
    }
    assert_eq!((asked, given), (1, 1), "one for the slot that is idle");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_next_runs_of_a_suite_do_not_wait_for_what_a_run_said_of_its_many_tests() {
    let bed = Bed::new("behind").await;
    let suite = bed.suite("fare", "").await;
    let mut hand = bed.hand("heron", 4).await;
    let names: Vec<String> = (0..600).map(|n| format!("t/{n}")).collect();
    // The names of new tests are kept with that.
    let held = bed.hold("begin; lock table tests in share mode").await;
    for round in 0..3 {
        let run = bed.start(suite, RunOptions::default()).await;
        if round == 0 {
            hand.list(&names.iter().map(String::as_str).collect::<Vec<_>>()).await;
        }
        hand.work_until(&bed, run, |_| true).await;
    }
    let kept = async || bed.told("select distinct run_id::text from results").await.len();
    let to_come = async || bed.told("select run_id::text from older_runs").await.len();
    assert_eq!(kept().await, 0);
    drop(held);
    bed.until("what all three said is kept", async || kept().await == 3 && to_come().await == 0).await;
    let samples = bed.told("select distinct samples::text from records").await;
    assert_eq!(samples, ["3"], "each was planned, and recorded, with what those before it told");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_whose_list_cannot_be_made_is_void_and_says_why() {
    let bed = Bed::new("unlisted").await;
    let suite = bed.suite("fare", "").await;
    let mut hand = bed.hand("heron", 1).await;
    for (said, wanted) in [
        (Err("the list command ended with status 3".to_owned()), "the list command ended with status 3"),
        (Ok(bed.blob("a\na\n").await), "stands twice, on lines 1 and 2"),
        (Ok(bed::nowhere()), "the list cannot be read"),
        (Ok(bed.blob("").await), "printed no test"),
    ] {
        let run = bed.start(suite, RunOptions::default()).await;
        hand.answers_list(said).await;
        let row = bed.over(run).await;
        assert_eq!(row.verdict.as_deref(), Some("void"), "{wanted}");
        assert!(row.reason.contains(wanted), "{wanted}: {}", row.reason);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_that_drains_gets_nothing_new_and_one_that_retires_is_told_when_it_has_nothing_left() {
    let bed = Bed::new("drained").await;
    let suite = bed.suite("fare", "").await;
    let mut hand = bed.hand("heron", 1).await;
    let first = bed.start(suite, RunOptions { shards: Some(1), ..RunOptions::default() }).await;
    hand.list(&["a", "b"]).await;
    let grant = hand.granted().await;
    let drain =
        async |name: &str, drain| bed.floor.ask(|reply| Ask::Drain(name.to_owned(), drain, reply)).await.unwrap();
    assert!(drain("heron", true).await && !drain("gull", true).await);
    assert!(matches!(hand.next_but_stored().await, ToWorker::Drain { drain: true }));
    // What it was given it brings to its end.
    let mut events: Vec<_> = grant.entries.iter().map(|entry| passes(grant.key, entry.index)).collect();
    events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
    let number = hand.report(events).await;
    hand.stored(number).await;
    let second = bed.start(suite, RunOptions::default()).await;
    assert!(hand.nothing(Duration::from_millis(300)).await, "nothing new comes");
    let waits = bed.floor.ask(|reply| Ask::Summary(second, reply)).await.unwrap().unwrap();
    assert!(waits.no_worker, "{:?}", waits.waiting_for);
    assert!(drain("heron", false).await);
    assert!(matches!(hand.next().await, ToWorker::Drain { drain: false }));
    hand.work_until(&bed, second, |_| true).await;
    hand.work_until(&bed, first, |_| true).await;
    assert_eq!(bed.over(second).await.verdict.as_deref(), Some("passed"));
    bed.floor.retire(vec!["heron".into(), "nobody".into()]).await;
    assert!(matches!(hand.next_but_stored().await, ToWorker::Drain { drain: true }));
    let told = hand.next_but_stored().await;
    assert!(matches!(told, ToWorker::Retire), "{told:?}");
    // It leaves by its own word: whoever said so is here no more, and nothing of it is waited for.
    bed.floor.link_message(hand.link, FromWorker::Leaving).await;
    bed.until("it is gone", async || bed.floor.ask(Ask::Workers).await.unwrap().is_empty()).await;
    assert!(bed.floor.turn_away("heron").await);
    let refused = bed.link_to(&bed.floor, "heron", 1, Vec::new(), 4711).await;
    assert!(matches!(refused, Err(NotLinked::Refused(_))), "nobody links under that name any more");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_claim_is_held_by_one_test_at_a_time_over_all_runs() {
    let bed = Bed::new("claimed").await;
    let suite = bed.suite("fare", "[[rule]]\ntests = [\"berth/*\"]\nclaims = [\"berth\"]").await;
    let (one, two) = (bed.start(suite, RunOptions::default()).await, bed.start(suite, RunOptions::default()).await);
    let mut hand = bed.hand("heron", 6).await;
    hand.list(&["berth/a", "berth/b", "berth/c"]).await;
    let mut ran = 0;
    while ran < 6 {
        let grant = hand.granted().await;
        ran += grant.entries.len();
        assert!(hand.no_grant(Duration::from_millis(60)).await, "another that claims it is not given meanwhile");
        let mut events: Vec<_> = grant.entries.iter().map(|entry| passes(grant.key, entry.index)).collect();
        events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
        hand.report(events).await;
    }
    for run in [one, two] {
        assert_eq!(bed.over(run).await.verdict.as_deref(), Some("passed"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_is_stopped_ends_its_batches_and_takes_nothing_more_of_them() {
    let bed = Bed::new("stopped").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions { shards: Some(1), ..RunOptions::default() }).await;
    let mut hand = bed.hand("heron", 1).await;
    hand.list(&["a", "b", "c"]).await;
    let grant = hand.granted().await;
    let number = hand.report(vec![passes(grant.key, grant.entries[0].index)]).await;
    hand.stored(number).await;
    assert!(bed.floor.stop(run, "the tide is out".into()).await);
    assert!(matches!(hand.next_but_stored().await, ToWorker::Revoke { key } if key == grant.key));
    hand.report(vec![fails(grant.key, grant.entries[1].index)]).await;
    hand.report(vec![WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done }]).await;
    let row = bed.over(run).await;
    assert_eq!((row.verdict.as_deref(), row.reason.as_str()), (Some("stopped"), "the tide is out"));
    let ended = bed.told("select ended from attempts where ended not in ('lost', 'stopped') order by entry").await;
    assert_eq!(ended, ["passed"], "what came after that counts for nothing");
    // The slot is free for others.
    let next = bed.start(suite, RunOptions::default()).await;
    hand.work_until(&bed, next, |_| true).await;
    assert_eq!(bed.over(next).await.verdict.as_deref(), Some("passed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_that_comes_again_takes_the_place_of_the_one_before() {
    let bed = Bed::new("relinked").await;
    let suite = bed.suite("fare", "").await;
    let run = bed.start(suite, RunOptions { shards: Some(1), ..RunOptions::default() }).await;
    let mut old = bed.hand("heron", 1).await;
    old.list(&["a", "b"]).await;
    let grant = old.granted().await;
    // The network was cut, and the service has not noticed yet: the same process is here again.
    let mut new = bed.hand_holding("heron", 1, vec![grant.key]).await;
    old.report(vec![fails(grant.key, grant.entries[0].index)]).await;
    let number = new.report(vec![passes(grant.key, grant.entries[0].index)]).await;
    new.stored(number).await;
    bed.floor.link_down(old.link).await;
    let mut events: Vec<_> = grant.entries[1..].iter().map(|entry| passes(grant.key, entry.index)).collect();
    events.push(WorkerEvent::BatchEnded { key: grant.key, end: BatchEnd::Done });
    new.report(events).await;
    new.work_until(&bed, run, |_| true).await;
    assert_eq!(bed.over(run).await.verdict.as_deref(), Some("passed"));
    assert_eq!(bed.told("select ended from attempts order by entry").await, ["passed", "passed"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_is_taken_only_where_the_runs_of_its_pool_are() {
    let bed = Bed::new("whose").await;
    // Another service has just been started: it has the pool, and no address yet.
    let lease = |address: &str, lasts: &str| {
        format!(
            "insert into leases (pool, service, address, until) values ('main', 'ghost', '{address}', now() + interval '{lasts}') \
             on conflict (pool) do update set service = excluded.service, address = excluded.address, until = excluded.until"
        )
    };
    bed.sql(&lease("", "1 hour")).await;
    let later = bed.link_to(&bed.floor, "heron", 1, Vec::new(), 5001).await;
    assert!(matches!(&later, Err(NotLinked::Later(why)) if why.contains("the pool main")), "{later:?}");
    bed.sql(&lease("http://ghost", "1 hour")).await;
    // Whoever comes at once is told what was known a moment ago: a worker comes again.
    let mut number = 5001;
    let mut comes = async |why: &str| {
        for _ in 0..200 {
            number += 1;
            let answer = bed.link_to(&bed.floor, "heron", 1, Vec::new(), number).await;
            let told = match &answer {
                Ok(_) => "taken".to_owned(),
                Err(NotLinked::Later(_)) => "later".to_owned(),
                Err(NotLinked::Elsewhere(url)) => url.clone(),
                Err(other) => panic!("{other:?}"),
            };
            if told == why {
                return answer;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("it is never told {why}");
    };
    comes("http://ghost").await.expect_err("it is another's");
    // It is gone: this service takes the pool.
    bed.sql("update leases set until = now() - interval '1 second'").await;
    let mut link = comes("taken").await.expect("it is taken");
    // And when another has it again, it is noticed, and the worker is let go of.
    bed.sql(&lease("http://ghost", "1 hour")).await;
    let over = async { while link.recv().await.is_some() {} };
    tokio::time::timeout(Duration::from_secs(20), over).await.expect("its link ends");
    assert!(bed.floor.ask(Ask::Workers).await.unwrap().is_empty());
}
