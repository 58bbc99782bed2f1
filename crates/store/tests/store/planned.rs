//! What starts by itself: schedules, polled branches and what they start from.

use chrono::{DateTime, TimeDelta, Utc};
use kesmo_core::{
    calendar::schedule::Times,
    plan::brief::{Brief, Changes},
};
use kesmo_store::{
    Store,
    briefs::NotSaved,
    polls::NewPoll,
    schedules::{Firing, NewPlanned, NewSchedule, ScheduleRow},
};

use crate::{Apart, run, wanted};

fn at(text: &str) -> DateTime<Utc> {
    text.parse().unwrap()
}

fn brief(suite: &str, then: Option<&str>) -> Brief {
    serde_json::from_value(serde_json::json!({ "suite": suite, "then": then })).unwrap()
}

async fn schedule(
    store: &Store,
    name: &str,
    of: (Option<&str>, Option<&str>),
    next_at: Option<DateTime<Utc>>,
) -> ScheduleRow {
    let times = Times { cron: Some("15 2 * * *".into()), ..Times::default() };
    let changes = Changes::default();
    let new =
        NewSchedule { name, brief: of.0, suite: of.1, changes: &changes, times: &times, next_at, made_by: "asta" };
    store.put_schedule(new, false).await.unwrap().unwrap()
}

fn row(what: &'static str, planned_at: DateTime<Utc>) -> NewPlanned {
    NewPlanned { planned_at, to_at: planned_at, count: 1, what, why: "as planned".into() }
}

#[tokio::test(flavor = "multi_thread")]
async fn schedules_are_due_by_their_next_start_the_longest_due_first() {
    let apart = Apart::new("schedules_due").await;
    let store = &apart.store;
    run(store, "fare", &[]).await;
    let fare = (None, Some("fare"));
    let first = schedule(store, "late", fare, Some(at("2026-11-23T02:15:00Z"))).await;
    let second = schedule(store, "later", fare, Some(at("2026-11-23T02:15:01Z"))).await;
    let third = schedule(store, "to-come", fare, Some(at("2026-11-24T00:00:00Z"))).await;
    schedule(store, "without", fare, None).await;
    let due = async |now: &str, most| {
        store.due_schedules(at(now), most).await.unwrap().into_iter().map(|row| row.name).collect::<Vec<_>>()
    };
    assert_eq!(due("2026-11-23T02:14:59Z", 10).await, Vec::<String>::new());
    assert_eq!(due("2026-11-23T02:15:00Z", 10).await, ["late"]);
    assert_eq!(due("2026-11-23T12:00:00Z", 10).await, ["late", "later"]);
    assert_eq!(due("2026-11-23T12:00:00Z", 1).await, ["late"]);
    assert_eq!(store.soonest_start().await.unwrap(), first.next_at);
    // Paused it is not due, and its time is nobody's next.
    let paused = store.pause_schedule(first.id, true, first.next_at).await.unwrap();
    assert!(paused.paused);
    assert_eq!(due("2026-11-23T12:00:00Z", 10).await, ["later"]);
    assert_eq!(store.soonest_start().await.unwrap(), second.next_at);
    // Whoever comes too late changes nothing.
    assert!(!store.set_next(third.id, None, None).await.unwrap());
    assert!(store.set_next(third.id, third.next_at, None).await.unwrap());
    assert!(store.set_next(third.id, None, Some(at("2026-11-20T00:00:00Z"))).await.unwrap());
    assert_eq!(due("2026-11-23T12:00:00Z", 10).await, ["to-come", "later"]);
    let names = async || store.schedules().await.unwrap().into_iter().map(|row| row.name).collect::<Vec<_>>();
    assert_eq!(names().await, ["late", "later", "to-come", "without"]);
    let of: Vec<i64> = store.schedules_of(&[third.id, first.id, 0]).await.unwrap().iter().map(|s| s.id).collect();
    assert_eq!(of, [first.id, third.id]);
    assert!(store.remove_schedule("late").await.unwrap());
    assert!(!store.remove_schedule("late").await.unwrap());
    assert_eq!(names().await.len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_that_is_replaced_keeps_its_history_and_its_maker() {
    let apart = Apart::new("schedules_replaced").await;
    let store = &apart.store;
    let first = run(store, "fare", &[]).await;
    let source = first.source.clone().unwrap();
    let night = at("2026-11-23T02:15:00Z");
    let made = schedule(store, "nightly", (None, Some("fare")), Some(night)).await;
    let firing = Firing {
        schedule_id: made.id,
        expected: night,
        rows: vec![row("started", night)],
        run: Some(wanted(first.suite_id, &source)),
        next_at: Some(night + TimeDelta::days(1)),
        stop: None,
    };
    let started = store.fire(&[firing]).await.unwrap().remove(0);
    let times = Times { cron: Some("0 6 * * 1".into()), zone: Some("Europe/Berlin".into()), ..Times::default() };
    let changes: Changes = serde_json::from_str(r#"{"options":{"retries":3}}"#).unwrap();
    let new = || NewSchedule {
        name: "nightly",
        brief: None,
        suite: Some("berth"),
        changes: &changes,
        times: &times,
        next_at: None,
        made_by: "else",
    };
    assert!(store.put_schedule(new(), false).await.unwrap().is_none(), "the name is taken");
    let now = store.put_schedule(new(), true).await.unwrap().unwrap();
    assert_eq!((now.id, now.made_by.as_str(), now.run_id), (made.id, "asta", Some(started.id)));
    assert_eq!((now.times().unwrap(), now.suite.as_deref()), (times.clone(), Some("berth")));
    assert_eq!(serde_json::to_value(now.changes().unwrap()).unwrap()["options"]["retries"], 3);
    now.schedule().unwrap();
    let planned = store.planned(made.id, 10).await.unwrap();
    assert_eq!(
        planned.iter().map(|p| (p.what.as_str(), p.run_id)).collect::<Vec<_>>(),
        [("started", Some(started.id))]
    );
    assert_eq!(store.usual_of_schedules().await.unwrap().keys().copied().collect::<Vec<_>>(), [made.id]);
}

#[tokio::test(flavor = "multi_thread")]
async fn planned_starts_are_told_by_time_and_forgotten_when_they_are_old() {
    let apart = Apart::new("schedules_told").await;
    let store = &apart.store;
    run(store, "fare", &[]).await;
    let from = at("2026-11-23T00:00:00Z");
    let hour = |n: i64| from + TimeDelta::hours(n);
    let made = schedule(store, "hourly", (None, Some("fare")), Some(hour(0))).await;
    for n in 0..5 {
        let what = if n == 3 { "waiting" } else { "missed" };
        let firing = Firing {
            schedule_id: made.id,
            expected: hour(n),
            rows: vec![row(what, hour(n))],
            run: None,
            next_at: Some(hour(n + 1)),
            stop: None,
        };
        assert!(store.fire(&[firing]).await.unwrap().is_empty(), "nothing was to start");
    }
    let hours = |rows: Vec<kesmo_store::schedules::PlannedRow>| {
        rows.into_iter().map(|row| (row.planned_at - from).num_hours()).collect::<Vec<_>>()
    };
    assert_eq!(hours(store.planned(made.id, 3).await.unwrap()), [4, 3, 2], "newest first");
    assert_eq!(hours(store.planned_between(hour(1), hour(3), 10).await.unwrap()), [1, 2, 3]);
    assert_eq!(hours(store.planned_between(hour(0), hour(9), 2).await.unwrap()), [3, 4], "of many the latest");
    assert!(store.planned_between(hour(6), hour(9), 10).await.unwrap().is_empty());
    assert_eq!(store.with_waiting(&[made.id, 0]).await.unwrap(), [made.id]);
    assert_eq!(store.forget_planned(Utc::now() - TimeDelta::days(1)).await.unwrap(), 0, "none is so old");
    assert_eq!(store.forget_planned(Utc::now() + TimeDelta::days(1)).await.unwrap(), 4);
    assert_eq!(hours(store.planned(made.id, 10).await.unwrap()), [3], "one that waits stays");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_batch_of_due_starts_each_is_done_or_not_for_itself() {
    let apart = Apart::new("schedules_batch").await;
    let store = &apart.store;
    let first = run(store, "fare", &[]).await;
    let source = first.source.clone().unwrap();
    let night = at("2026-11-23T02:15:00Z");
    let next = Some(night + TimeDelta::days(1));
    let mut firings = Vec::new();
    for n in 0..6 {
        let made = schedule(store, &format!("batch-{n}"), (None, Some("fare")), Some(night)).await;
        firings.push(Firing {
            schedule_id: made.id,
            expected: night,
            rows: vec![row(if n == 4 { "skipped" } else { "started" }, night)],
            run: (n != 4).then(|| wanted(first.suite_id, &source)),
            next_at: next,
            stop: (n == 5).then(|| (first.id, "replaced by batch-5".to_owned())),
        });
    }
    // One was paused meanwhile, of one the next start was moved, and one is gone.
    store.pause_schedule(firings[0].schedule_id, true, Some(night)).await.unwrap();
    store.set_next(firings[1].schedule_id, Some(night), next).await.unwrap();
    store.remove_schedule("batch-2").await.unwrap();
    let made = store.fire(&firings).await.unwrap();
    assert_eq!(made.len(), 2, "batch-3 and batch-5");
    assert!(store.fire(&firings).await.unwrap().is_empty(), "and a second time nothing");
    let kept = |n: usize| {
        let name = format!("batch-{n}");
        async move { store.schedule(&name).await.unwrap() }
    };
    assert_eq!(kept(0).await.unwrap().next_at, Some(night), "what is paused stays where it was");
    assert!(kept(2).await.is_none());
    for (n, run) in [(3, made[0].id), (5, made[1].id)] {
        let row = kept(n).await.unwrap();
        assert_eq!((row.next_at, row.run_id), (next, Some(run)));
        assert_eq!(store.planned(row.id, 10).await.unwrap()[0].run_id, Some(run));
    }
    let skipped = kept(4).await.unwrap();
    assert_eq!((skipped.next_at, skipped.run_id), (next, None));
    assert_eq!(store.planned(skipped.id, 10).await.unwrap()[0].what, "skipped");
    let stopped = store.run_of(first.id).await.unwrap().unwrap();
    assert_eq!(stopped.stop_asked.as_deref(), Some("replaced by batch-5"));
    assert!(made[0].number != made[1].number && made[0].number > first.number, "each has a number of its own");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_starts_next_is_told_by_suite_also_through_a_brief() {
    let apart = Apart::new("schedules_next").await;
    let store = &apart.store;
    for suite in ["fare", "berth", "crew"] {
        run(store, suite, &[]).await;
    }
    store.put_brief("push", &brief("berth", None), "asta", false).await.unwrap();
    let (soon, later) = (at("2026-11-23T02:15:00Z"), at("2026-11-23T09:00:00Z"));
    schedule(store, "b-fare", (None, Some("fare")), Some(later)).await;
    schedule(store, "a-fare", (None, Some("fare")), Some(soon)).await;
    let of_brief = schedule(store, "by-brief", (Some("push"), None), Some(later)).await;
    schedule(store, "never", (None, Some("crew")), None).await;
    let next = store.next_starts().await.unwrap();
    assert_eq!(next.len(), 2, "{next:?}");
    assert_eq!(next["fare"], (soon, "a-fare".to_owned()));
    assert_eq!(next["berth"], (later, "by-brief".to_owned()));
    store.pause_schedule(of_brief.id, true, Some(later)).await.unwrap();
    assert!(!store.next_starts().await.unwrap().contains_key("berth"));
}

#[tokio::test(flavor = "multi_thread")]
async fn briefs_that_would_follow_each_other_for_ever_are_refused_also_when_two_come_at_once() {
    let apart = Apart::new("briefs_follow").await;
    let store = &apart.store;
    run(store, "fare", &[]).await;
    let put = async |name: &str, then: Option<&str>, replace| {
        store.put_brief(name, &brief("fare", then), "asta", replace).await
    };
    put("one", Some("two"), false).await.unwrap();
    put("two", Some("three"), false).await.unwrap();
    assert!(matches!(put("three", Some("one"), false).await, Err(NotSaved::Loop(_))));
    assert!(matches!(put("itself", Some("itself"), false).await, Err(NotSaved::Loop(_))));
    assert!(matches!(put("one", None, false).await, Err(NotSaved::Taken)));
    // Two that make a loop together: one of them is saved.
    let both = tokio::join!(put("east", Some("west"), false), put("west", Some("east"), false));
    assert_eq!([both.0.is_ok(), both.1.is_ok()].iter().filter(|saved| **saved).count(), 1, "{both:?}");
    let users = store.users_of_briefs(&store.briefs().await.unwrap()).await.unwrap();
    assert_eq!(users["two"], ["brief one (--then)"]);
    schedule(store, "nightly", (Some("two"), None), None).await;
    let users = store.users_of_briefs(&store.briefs().await.unwrap()).await.unwrap();
    assert_eq!(users["two"], ["schedule nightly", "brief one (--then)"]);
    let before = store.brief("one").await.unwrap().unwrap();
    let after = put("one", None, true).await.unwrap();
    assert!(after.made_at == before.made_at && after.changed_at > before.changed_at);
    assert_eq!(after.brief().unwrap().then, None);
    assert!(store.remove_brief("one").await.unwrap() && !store.remove_brief("one").await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_look_at_branches_is_one_services_until_it_is_over_or_that_service_is_gone() {
    let apart = Apart::new("polls_looked").await;
    let store = &apart.store;
    let (fare, berth) = (run(store, "fare", &[]).await, run(store, "berth", &[]).await);
    let now = at("2026-11-23T12:00:00Z");
    let after = |seconds: i64| now + TimeDelta::seconds(seconds);
    let new = |suite_id, branches, every: i64| NewPoll {
        suite_id,
        branches,
        every_us: every * 1_000_000,
        brief: None,
        made_by: "asta",
        heads: &[],
    };
    let one = store.put_poll(new(fare.suite_id, "main", 60), now).await.unwrap();
    let two = store.put_poll(new(berth.suite_id, "release/*", 90), now).await.unwrap();
    assert_eq!(store.next_look().await.unwrap(), Some(after(60)));
    let take = async |seconds| {
        let taken = store.take_looks(after(seconds), 10).await.unwrap();
        taken.into_iter().map(|(row, suite)| (row.id, suite)).collect::<Vec<_>>()
    };
    assert!(take(59).await.is_empty());
    assert_eq!(take(60).await, [(one.id, "fare".to_owned())]);
    assert!(take(61).await.is_empty(), "somebody looks");
    assert_eq!(take(95).await, [(two.id, "berth".to_owned())]);
    // The one that was never heard of again is taken up by another.
    assert_eq!(take(181).await, [(one.id, "fare".to_owned())]);
    store.looked(one.id, after(182), after(242), 2, Some("the server is away")).await.unwrap();
    let kept = store.polls(Some(fare.suite_id)).await.unwrap().remove(0).0;
    assert_eq!((kept.failures, kept.trouble.as_deref()), (2, Some("the server is away")));
    assert_eq!((kept.looked_at, kept.next_look), (Some(after(182)), after(242)));
    // Polled anew it begins anew; it is still the same.
    let anew = store.put_poll(new(fare.suite_id, "main", 30), after(200)).await.unwrap();
    assert_eq!((anew.id, anew.failures, anew.trouble), (one.id, 0, None));
    assert_eq!(anew.next_look, after(230));
    let all: Vec<String> = store.polls(None).await.unwrap().into_iter().map(|(_, suite)| suite).collect();
    assert_eq!(all, ["berth", "fare"]);
    // Of a suite that is gone nothing is looked at.
    store.remove_suite("berth").await.unwrap();
    assert!(take(5000).await.iter().all(|(id, _)| *id == one.id));
    assert_eq!(store.polls(None).await.unwrap().len(), 1);
    assert!(store.remove_poll(fare.suite_id, "main").await.unwrap());
    assert!(!store.remove_poll(fare.suite_id, "main").await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_head_is_known_by_its_branch_and_commit_together() {
    let apart = Apart::new("polls_heads").await;
    let store = &apart.store;
    let first = run(store, "fare", &[]).await;
    let source = first.source.clone().unwrap();
    let head = |branch: &str, commit: &str| (branch.to_owned(), commit.to_owned());
    let there = [head("main", "a")];
    let new =
        NewPoll { suite_id: first.suite_id, branches: "*", every_us: 1, brief: None, made_by: "asta", heads: &there };
    let poll = store.put_poll(new, Utc::now()).await.unwrap();
    let all = [head("main", "a"), head("main", "b"), head("side", "a"), head("side", "b")];
    let seen = async || store.seen_heads(poll.id, &all).await.unwrap().into_iter().collect::<Vec<_>>();
    assert_eq!(seen().await, [head("main", "a")]);
    let mut made = Vec::new();
    for one in [&all[1], &all[2]] {
        made.push(store.run_head(poll.id, one, &wanted(first.suite_id, &source)).await.unwrap().unwrap().id);
    }
    assert_eq!(seen().await, [head("main", "a"), head("main", "b"), head("side", "a")]);
    let told = store.heads_run(&[poll.id], 10).await.unwrap();
    let told: Vec<_> = told.into_iter().map(|h| (h.branch, h.commit, h.run_id)).collect();
    assert_eq!(told, [("side".into(), "a".into(), made[1]), ("main".into(), "b".into(), made[0])], "newest first");
    assert_eq!(store.heads_run(&[poll.id], 1).await.unwrap().len(), 1);
    assert!(store.heads_run(&[], 10).await.unwrap().is_empty());
}
