//! Pools that start machines, and the machines that they start.

use std::collections::BTreeSet;

use chrono::{TimeDelta, Utc};
use kesmo_core::{
    fleet::Pool,
    plan::RunOptions,
    run::AttemptStats,
    time::Span,
    words::{Phase, Verdict},
};
use kesmo_store::{
    Store,
    commit::{Commit, RunChange},
    pools::{MachineChange, NewPool, PoolRow},
    runs::NewRun,
};

use crate::{Apart, change, run, store, wanted};

fn fixed(most: u32) -> Pool {
    serde_json::from_value(serde_json::json!({ "how": { "kind": "fixed" }, "most": most })).unwrap()
}

async fn put(store: &Store, name: &str, most: u32, secret: Option<&str>, replace: bool) -> Option<PoolRow> {
    let pool = fixed(most);
    store.put_pool(NewPool { name, pool: &pool, secret, mark: "a-mark", by: "asta", replace }).await.unwrap()
}

/// How a machine stands, as little as there is to say.
fn stands(id: i64, state: &'static str) -> MachineChange<'static> {
    MachineChange { id, state, said: "", handle: None, link: None, log: None, up_at: None, ended_at: None }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pool_keeps_its_secret_and_mark_until_it_gets_others() {
    let store = store().await;
    let first = put(&store, "keeps", 3, Some("crane"), false).await.unwrap();
    assert_eq!((first.secret.as_deref(), first.pool().unwrap().most), (Some("crane"), 3));
    assert_eq!(put(&store, "keeps", 5, None, false).await, None, "there is one of that name");
    let second = put(&store, "keeps", 5, None, true).await.unwrap();
    assert_eq!((second.secret.as_deref(), second.pool().unwrap().most), (Some("crane"), 5));
    assert_eq!(put(&store, "keeps", 5, Some("winch"), true).await.unwrap().secret.as_deref(), Some("winch"));
    // One that was to go is wanted again.
    assert!(store.leave_pool("keeps").await.unwrap());
    assert!(store.pool("keeps").await.unwrap().unwrap().leaving);
    assert!(!put(&store, "keeps", 5, None, true).await.unwrap().leaving);
    assert!(!store.leave_pool("never").await.unwrap());
    assert_eq!(store.pool("never").await.unwrap(), None);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_has_a_row_and_a_name_before_it_is_asked_for() {
    let store = store().await;
    put(&store, "named", 3, None, false).await.unwrap();
    let ask = async |token: u8| store.ask_machine("named", None, &[token; 32], "coming").await.unwrap();
    let one = ask(1).await.unwrap();
    assert_eq!((one.name.clone(), one.state.as_str()), (format!("named-{}", one.id), "coming"));
    assert!(one.up_at.is_none() && one.ended_at.is_none());
    // A worker's name has at most 60 letters, whatever the pool is called.
    let long = "p".repeat(60);
    put(&store, &long, 1, None, false).await.unwrap();
    let of_long = store.ask_machine(&long, None, &[7; 32], "coming").await.unwrap().unwrap();
    assert!(of_long.name.len() <= 60 && of_long.name.starts_with("pppp"), "{}", of_long.name);
    // Nothing is asked for in a pool that is to go, or is not there.
    store.leave_pool("named").await.unwrap();
    assert_eq!(ask(2).await, None);
    assert_eq!(store.ask_machine("never", None, &[3; 32], "coming").await.unwrap(), None);
    // It goes with its last machine, and not before.
    assert!(!store.remove_pool("named").await.unwrap(), "a machine is left");
    store.change_machines(&[MachineChange { ended_at: Some(Utc::now()), ..stands(one.id, "ended") }]).await.unwrap();
    assert!(store.remove_pool("named").await.unwrap());
    assert!(store.machines("named", 10).await.unwrap().is_empty(), "what was kept of its machines goes, too");
    assert!(!store.remove_pool(&long).await.unwrap(), "nobody wants that one to go");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_that_has_ended_stays_so_whatever_comes_late() {
    let store = store().await;
    put(&store, "ends", 3, None, false).await.unwrap();
    let ask = async |token: u8| store.ask_machine("ends", None, &[token; 32], "coming").await.unwrap().unwrap();
    let (one, two) = (ask(11).await, ask(12).await);
    let up = |id| MachineChange { up_at: Some(Utc::now()), handle: Some("c-1"), ..stands(id, "up") };
    store.change_machines(&[up(one.id), up(two.id)]).await.unwrap();
    let over = MachineChange { said: "it was retired", ended_at: Some(Utc::now()), ..up(one.id) };
    store.change_machines(&[MachineChange { state: "ended", ..over }]).await.unwrap();
    store.change_machines(&[MachineChange { said: "what somebody saw before", ..up(one.id) }]).await.unwrap();
    let all = store.machines("ends", 10).await.unwrap();
    assert_eq!(all.iter().map(|m| m.id).collect::<Vec<_>>(), [two.id, one.id], "newest first");
    assert_eq!((all[1].state.as_str(), all[1].said.as_str()), ("ended", "it was retired"));
    let open = store.open_machines("ends").await.unwrap();
    assert_eq!(open.iter().map(|m| (m.id, m.handle.as_deref())).collect::<Vec<_>>(), [(two.id, Some("c-1"))]);
    // Where they run nobody answers any more.
    assert_eq!(store.forget_machines("ends", "lost", "nobody answers").await.unwrap(), 1);
    assert_eq!(store.forget_machines("ends", "lost", "nobody answers").await.unwrap(), 0);
    assert!(store.open_machines("ends").await.unwrap().is_empty());
    assert_eq!(store.machines("ends", 1).await.unwrap()[0].said, "nobody answers");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_starting_took_is_told_of_those_that_came_up() {
    let store = store().await;
    put(&store, "starts", 9, None, false).await.unwrap();
    for (token, seconds) in [(21, Some(3)), (22, None), (23, Some(8)), (24, Some(-5))] {
        let made = store.ask_machine("starts", None, &[token; 32], "coming").await.unwrap().unwrap();
        let up_at = seconds.map(|s| made.asked_at + TimeDelta::seconds(s));
        store.change_machines(&[MachineChange { up_at, ..stands(made.id, "up") }]).await.unwrap();
    }
    // A clock that was put back makes no start shorter than nothing.
    assert_eq!(store.starts_of_pool("starts", 10).await.unwrap(), [0.0, 8.0, 3.0]);
    assert_eq!(store.starts_of_pool("starts", 2).await.unwrap(), [0.0, 8.0]);
    assert!(store.starts_of_pool("never", 10).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn of_machines_that_have_ended_the_latest_thousand_are_kept() {
    let apart = Apart::new("machines_trimmed").await;
    let store = &apart.store;
    put(store, "many", 3, None, false).await.unwrap();
    put(store, "few", 3, None, false).await.unwrap();
    let open = store.ask_machine("many", None, &[1; 32], "coming").await.unwrap().unwrap();
    apart
        .sql(
            "insert into machines (pool, name, state, said, token, ended_at) select 'many', 'm' || n, 'ended', '', decode(md5(n::text), 'hex'), now() \
             from generate_series(1, 1007) n; insert into machines (pool, name, state, said, token, ended_at) values ('few', 'f', 'ended', '', 'f', now())",
        )
        .await;
    store.trim_machines("many").await.unwrap();
    store.trim_machines("few").await.unwrap();
    store.trim_machines("never").await.unwrap();
    let of = async |pool: &str| store.machines(pool, 5000).await.unwrap();
    let many = of("many").await;
    assert_eq!((many.len(), of("few").await.len()), (1001, 1));
    assert_eq!(many.last().unwrap().id, open.id, "what has not ended is kept, however old");
    assert_eq!(many[0].name, "m1007");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_last_like_it_took_is_of_the_same_choice_that_came_to_a_verdict() {
    let store = store().await;
    let first = run(&store, "likened", &[]).await;
    let source = first.source.clone().unwrap();
    let made = async |options: RunOptions| {
        store.add_run(&NewRun { options, ..wanted(first.suite_id, &source) }).await.unwrap()
    };
    let over = async |id: &kesmo_store::runs::RunRow, verdict, total_us| {
        let stats = AttemptStats { total_us, longest_us: total_us / 2, ..AttemptStats::default() };
        let change = RunChange { stats, ..change(id, Phase::Finished, Some(verdict)) };
        store.commit(&Commit { runs: vec![change], ..Commit::default() }).await.unwrap();
    };
    let picks = |pick: &str| RunOptions { pick: vec![pick.to_owned()], ..RunOptions::default() };
    let (whole, part) = (made(RunOptions::default()).await, made(picks("gate/*")).await);
    let next = made(RunOptions { retries: Some(3), ..RunOptions::default() }).await;
    assert_eq!(store.last_like(next.id).await.unwrap(), None, "none of them is over");
    over(&whole, Verdict::Passed, 9_000_000).await;
    over(&part, Verdict::Failed, 2_000_000).await;
    let like = store.last_like(next.id).await.unwrap().unwrap();
    assert_eq!((like.total, like.longest, like.entries), (Span::seconds(9), Span(4_500_000), 3));
    // How often it retries is no other choice of tests; what it picks is.
    let other = made(picks("gate/*")).await;
    assert_eq!(store.last_like(other.id).await.unwrap().unwrap().total, Span::seconds(2));
    assert_eq!(store.last_like(made(picks("berth/*")).await.id).await.unwrap(), None);
    // One that was stopped, or is void, says nothing of what it takes.
    for verdict in [Verdict::Stopped, Verdict::Void] {
        over(&made(RunOptions::default()).await, verdict, 1).await;
    }
    assert_eq!(store.last_like(next.id).await.unwrap().unwrap().total, Span::seconds(9));
    // Those that a run asked for are its own.
    put(&store, "likened", 3, None, false).await.unwrap();
    let ask =
        async |token: u8, run| store.ask_machine("likened", run, &[token; 32], "coming").await.unwrap().unwrap().id;
    let mine = BTreeSet::from([ask(41, Some(next.id)).await, ask(42, Some(next.id)).await]);
    ask(43, Some(other.id)).await;
    ask(44, None).await;
    let of_run: BTreeSet<i64> = store.machines_of_run(next.id).await.unwrap().iter().map(|m| m.id).collect();
    assert_eq!(of_run, mine);
}
