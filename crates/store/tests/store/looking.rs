//! What is looked at from outside: addresses that show something, and deliveries that come in.

use chrono::{TimeDelta, Utc};
use kesmo_core::words::{Phase, Verdict};
use kesmo_store::{
    Store,
    commit::{Commit, RunChange},
    runs::RunRow,
    shares::{NewShare, OfRuns},
    webhooks::{Kept, NewDelivery, NewWebhook},
};

use crate::{Apart, change, run, wanted};

fn share<'a>(hash: &'a [u8], kind: &'a str) -> NewShare<'a> {
    NewShare { hash, kind, run_id: None, suite_id: None, brief: None, branch: None, until: None, made_by: "asta" }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_shows_what_it_is_of_until_it_ends() {
    let apart = Apart::new("shares_end").await;
    let store = &apart.store;
    let run = run(store, "fare", &[]).await;
    let soon = Some(Utc::now() + TimeDelta::hours(1));
    let of_run =
        store.add_share(&NewShare { run_id: Some(run.id), until: soon, ..share(b"run", "run") }).await.unwrap();
    let badge = store.add_share(&NewShare { suite_id: Some(run.suite_id), ..share(b"badge", "badge") }).await.unwrap();
    let feed = store.add_share(&NewShare { brief: Some("nightly"), ..share(b"feed", "feed") }).await.unwrap();
    let past = Some(Utc::now() - TimeDelta::seconds(1));
    store.add_share(&NewShare { until: past, ..share(b"over", "badge") }).await.unwrap();
    let all = store.shares().await.unwrap();
    let named: Vec<_> = all.iter().map(|(row, suite, run)| (row.id, suite.as_deref(), *run)).collect();
    assert_eq!(
        named,
        [(feed.id, None, None), (badge.id, Some("fare"), None), (of_run.id, Some("fare"), Some(run.number))],
        "the newest first, and none that has ended"
    );
    // A key that nobody was given, and one that has ended, show nothing.
    for hash in [&b"never"[..], b"over", b"", b"RUN"] {
        assert!(store.share_of_hash(hash).await.unwrap().is_none(), "{hash:?}");
    }
    let seen = store.share_of_hash(b"run").await.unwrap().unwrap();
    assert_eq!((seen.id, seen.used_at), (of_run.id, None), "as it was before it was used");
    let first = store.share_of_hash(b"run").await.unwrap().unwrap().used_at.expect("that is noted");
    assert_eq!(store.share_of_hash(b"run").await.unwrap().unwrap().used_at, Some(first), "once a minute is enough");
    apart.sql("update shares set used_at = now() - interval '2 minutes'").await;
    store.share_of_hash(b"run").await.unwrap();
    assert!(store.share_of_hash(b"run").await.unwrap().unwrap().used_at >= Some(first));
    assert!(store.end_share(badge.id).await.unwrap() && !store.end_share(badge.id).await.unwrap());
    assert!(store.share_of_hash(b"badge").await.unwrap().is_none());
    // What it was of is gone, and the address with it.
    apart.sql("delete from runs").await;
    assert!(store.share_of_hash(b"run").await.unwrap().is_none());
}

async fn over(store: &Store, run: &RunRow, ago: i64) {
    let finished_at = Some(Utc::now() - TimeDelta::seconds(ago));
    let change = RunChange { finished_at, ..change(run, Phase::Finished, Some(Verdict::Passed)) };
    store.commit(&Commit { runs: vec![change], ..Commit::default() }).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_badge_is_of_the_last_to_end_and_not_of_a_hunt() {
    let apart = Apart::new("shares_ended").await;
    let store = &apart.store;
    let first = run(store, "fare", &[]).await;
    let (second, hunt) = (run(store, "fare", &[]).await, run(store, "fare", &[("hunt", "fare/1")]).await);
    let other = run(store, "berth", &[]).await;
    let going = run(store, "fare", &[]).await;
    over(store, &first, 10).await;
    over(store, &second, 500).await;
    over(store, &hunt, 1).await;
    over(store, &other, 5).await;
    let ended_on = async |suite_id, brief, branch, most| {
        let rows = store.ended_runs(OfRuns { suite_id, brief, branch }, most).await.unwrap();
        rows.into_iter().map(|(row, slug)| (row.id, slug)).collect::<Vec<_>>()
    };
    let ended = async |suite, brief, most| ended_on(suite, brief, None, most).await;
    let of = |run: &RunRow, suite: &str| (run.id, suite.to_owned());
    assert_eq!(ended(Some(first.suite_id), None, 10).await, [of(&first, "fare"), of(&second, "fare")]);
    assert_eq!(ended(Some(first.suite_id), None, 1).await, [of(&first, "fare")]);
    assert_eq!(ended(None, None, 10).await, [of(&other, "berth"), of(&first, "fare"), of(&second, "fare")]);
    assert!(ended(Some(0), None, 10).await.is_empty());
    assert!(ended(None, Some("nightly"), 10).await.is_empty());
    apart.sql(&format!("update runs set brief = 'nightly' where id in ({}, {})", second.id, going.id)).await;
    assert_eq!(ended(None, Some("nightly"), 10).await, [of(&second, "fare")], "the other is not over");
    // One branch's runs alone; which branches there are is told of those that go on, too.
    let fare = OfRuns { suite_id: Some(first.suite_id), ..OfRuns::default() };
    assert!(store.branches_of(fare, 10).await.unwrap().is_empty());
    apart.sql(&format!("update runs set branch = 'main' where id in ({}, {})", second.id, other.id)).await;
    apart.sql(&format!("update runs set branch = 'tides' where id = {}", going.id)).await;
    assert_eq!(ended_on(fare.suite_id, None, Some("main"), 10).await, [of(&second, "fare")]);
    assert_eq!(ended_on(None, None, Some("main"), 10).await, [of(&other, "berth"), of(&second, "fare")]);
    assert!(ended_on(fare.suite_id, None, Some("tides"), 10).await.is_empty());
    let mut branches = store.branches_of(fare, 10).await.unwrap();
    branches.sort();
    assert_eq!(branches, ["main", "tides"]);
    assert_eq!(store.branches_of(fare, 1).await.unwrap().len(), 1);
    let nightly = OfRuns { brief: Some("nightly"), ..fare };
    assert_eq!(store.branches_of(nightly, 10).await.unwrap().len(), 2);
    assert!(store.branches_of(OfRuns { suite_id: Some(0), ..fare }, 10).await.unwrap().is_empty());
}

fn delivery(webhook_id: i64, message: &str, event: Option<&str>) -> NewDelivery {
    NewDelivery {
        webhook_id,
        message_id: message.into(),
        event: event.map(str::to_owned),
        redelivery_of: None,
        genuine: true,
        content_type: "application/json".into(),
        event_headers: serde_json::json!({}),
        body: b"{}".to_vec(),
        did: "started",
        why: String::new(),
    }
}

async fn webhook(store: &Store, name: &str) -> i64 {
    let brief = serde_json::from_str(r#"{"suite":"fare"}"#).unwrap();
    drop(store.put_brief("push", &brief, "asta", false).await);
    let new = NewWebhook { name, brief: "push", secret: b"s", takes: &[], whens: &[], per_minute: 60, made_by: "asta" };
    store.add_webhook(new).await.unwrap().expect("the name is free").id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delivery_is_the_same_by_its_id_or_its_event_and_one_that_is_not_genuine_takes_no_place() {
    let apart = Apart::new("deliveries_same").await;
    let store = &apart.store;
    let first = run(store, "fare", &[]).await;
    let source = first.source.clone().unwrap();
    let (one, two) = (webhook(store, "one").await, webhook(store, "two").await);
    let take = async |new: NewDelivery| {
        let run = (new.did == "started").then(|| wanted(first.suite_id, &source));
        store.take_delivery(new, run).await.unwrap()
    };
    let new = |kept: &Kept| matches!(kept, Kept::New(..));
    // Somebody who does not know the secret comes first, with an id that is yet to come.
    let forged = NewDelivery { genuine: false, did: "refused", ..delivery(one, "m-1", Some("e-1")) };
    assert!(new(&take(forged.clone()).await) && new(&take(forged).await));
    let Kept::New(kept, Some(made)) = take(delivery(one, "m-1", Some("e-1"))).await else { panic!("it is the first") };
    assert_eq!((kept.run_id, made.number), (Some(made.id), first.number + 1));
    for same in [delivery(one, "m-1", None), delivery(one, "m-1", Some("e-2")), delivery(one, "m-2", Some("e-1"))] {
        let Kept::Before(before) = take(same.clone()).await else { panic!("{same:?} came before") };
        assert_eq!(before.id, kept.id);
    }
    // Without an event's name only the id tells; at another webhook all of it is new.
    assert!(new(&take(delivery(one, "m-3", None)).await) && new(&take(delivery(one, "m-4", None)).await));
    assert!(new(&take(delivery(two, "m-1", Some("e-1"))).await));
    // Asked for again by hand it is another, with what it is of.
    let again = NewDelivery { redelivery_of: Some(kept.id), ..delivery(one, "m-1", Some("e-1")) };
    assert!(new(&take(again.clone()).await) && new(&take(again).await));
    assert!(store.delivery(one, kept.id).await.unwrap().is_some());
    assert!(store.delivery(two, kept.id).await.unwrap().is_none(), "of another webhook it is not told");
    let latest: Vec<i64> = store.last_deliveries().await.unwrap().iter().map(|d| d.webhook_id).collect();
    assert_eq!(latest, [one, two]);
    assert_eq!(store.deliveries(one, 2).await.unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn deliveries_that_are_not_genuine_do_not_push_out_those_that_are() {
    let apart = Apart::new("deliveries_trimmed").await;
    let store = &apart.store;
    run(store, "fare", &[]).await;
    let one = webhook(store, "one").await;
    let fill = |genuine: bool, count: u32| {
        format!(
            "insert into deliveries (webhook_id, message_id, genuine, content_type, event_headers, body, did, why) \
             select {one}, 'm-{genuine}-' || n, {genuine}, '', '{{}}', '', 'refused', '' from generate_series(1, {count}) n;"
        )
    };
    apart.sql(&fill(true, 40)).await;
    apart.sql(&fill(false, 300)).await;
    store.trim_deliveries(one).await.unwrap();
    let kept = store.deliveries(one, 1000).await.unwrap();
    let (genuine, others): (Vec<_>, Vec<_>) = kept.iter().partition(|d| d.genuine);
    assert_eq!((genuine.len(), others.len()), (40, 50));
    assert_eq!(others[0].message_id, "m-false-300", "the latest stay");
    apart.sql(&fill(true, 10_030).replace("'m-true-'", "'more-'")).await;
    store.trim_deliveries(one).await.unwrap();
    let kept = store.deliveries(one, 20_000).await.unwrap();
    assert_eq!(kept.iter().filter(|d| d.genuine).count(), 10_000);
    assert!(kept.iter().all(|d| d.message_id != "m-true-40"));
    // Paused, changed and removed.
    assert!(store.change_webhook("one", Some(b"other"), Some(true)).await.unwrap());
    let row = store.webhook("one").await.unwrap().unwrap();
    assert_eq!((row.secret.as_slice(), row.paused), (&b"other"[..], true));
    assert!(!store.change_webhook("never", None, Some(true)).await.unwrap());
    assert!(store.remove_webhook("one").await.unwrap() && !store.remove_webhook("one").await.unwrap());
    assert!(store.deliveries(one, 10).await.unwrap().is_empty());
}
