//! Who may come in: accounts, those of a provider, sessions and tokens.

use chrono::{TimeDelta, Utc};
use kesmo_store::{
    Store,
    access::{MACHINE, NewToken},
    accounts::{NewSession, Rights},
    usage::By,
};

use crate::{Apart, run};

const READER: Rights<'static> = Rights { role: "reader", suites: &[] };
const ADMIN: Rights<'static> = Rights { role: "admin", suites: &[] };
const ISSUER: &str = "https://id.quay.example";

async fn account(store: &Store, name: &str, link: &[u8]) -> bool {
    store.add_account(name, READER, "asta", link, Utc::now() + TimeDelta::hours(1)).await.unwrap()
}

async fn session(store: &Store, hash: &[u8], token: Option<&str>, account: Option<&str>) {
    let new = NewSession {
        hash,
        token,
        account,
        until: Utc::now() + TimeDelta::hours(1),
        about: "a browser",
        address: "::1",
    };
    store.add_session(&new).await.unwrap();
}

async fn speaks(store: &Store, hash: &[u8]) -> Option<(String, String)> {
    store.speaker_of_session(hash).await.unwrap().map(|speaker| (speaker.name, speaker.role))
}

fn who(name: &str, role: &str) -> Option<(String, String)> {
    Some((name.to_owned(), role.to_owned()))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_is_good_once_until_it_ends_and_the_next_one_ends_it() {
    let apart = Apart::new("people_links").await;
    let store = &apart.store;
    assert!(account(store, "joan", b"first").await);
    assert!(!account(store, "joan", b"other").await, "the name is taken");
    assert_eq!(store.account_of_link(b"other").await.unwrap(), None, "and its link leads nowhere");
    assert_eq!(store.account_of_link(b"first").await.unwrap().as_deref(), Some("joan"));
    assert!(store.password_of("joan").await.unwrap().is_none(), "none is chosen");
    // A new link takes the place of the old one.
    assert!(store.add_password_link("joan", b"second", Utc::now() + TimeDelta::hours(1)).await.unwrap());
    assert!(!store.add_password_link("never", b"third", Utc::now() + TimeDelta::hours(1)).await.unwrap());
    assert_eq!(store.choose_password(b"first", "hash-1").await.unwrap(), None);
    assert_eq!(store.choose_password(b"second", "hash-1").await.unwrap().as_deref(), Some("joan"));
    assert_eq!(store.choose_password(b"second", "hash-2").await.unwrap(), None, "it is used");
    assert_eq!(store.password_of("joan").await.unwrap().unwrap().2, "hash-1");
    // One that has ended is none.
    store.add_password_link("joan", b"late", Utc::now() - TimeDelta::seconds(1)).await.unwrap();
    assert_eq!(store.account_of_link(b"late").await.unwrap(), None);
    assert_eq!(store.choose_password(b"late", "hash-3").await.unwrap(), None);
    // Of two who use one at once one chooses.
    store.add_password_link("joan", b"both", Utc::now() + TimeDelta::hours(1)).await.unwrap();
    let (one, two) = tokio::join!(store.choose_password(b"both", "hash-4"), store.choose_password(b"both", "hash-5"));
    assert!(one.unwrap().is_some() != two.unwrap().is_some());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_that_is_changed_ends_all_other_ways_in() {
    let apart = Apart::new("people_changed").await;
    let store = &apart.store;
    account(store, "joan", b"link").await;
    account(store, "else", b"link-2").await;
    store.choose_password(b"link", "hash").await.unwrap();
    let token = async |name: &str, hash: &[u8], account| {
        let new = NewToken { name, hash, role: "reader", account: Some(account), ..NewToken::default() };
        assert!(store.add_token_with(&new).await.unwrap());
    };
    token("of-joan", b"t-1", "joan").await;
    token("of-joan-2", b"t-2", "joan").await;
    token("of-else", b"t-3", "else").await;
    session(store, b"s-1", None, Some("joan")).await;
    session(store, b"s-2", None, Some("joan")).await;
    session(store, b"s-3", Some("of-joan"), None).await;
    session(store, b"s-4", None, Some("else")).await;
    assert_eq!(store.sessions(Some("joan")).await.unwrap().len(), 3, "one of them by a token of hers");
    assert!(store.sessions(None).await.unwrap().iter().any(|session| session.by_token));
    // What was shown when it was changed stays; a session that came by a token goes with it.
    store.change_password("joan", "hash-2", b"s-2").await.unwrap();
    assert_eq!(speaks(store, b"s-1").await, None);
    assert_eq!(speaks(store, b"s-2").await, who("joan", "reader"));
    assert_eq!(speaks(store, b"s-3").await, None);
    assert_eq!(speaks(store, b"s-4").await, who("else", "reader"));
    assert!(store.speaker_of_token(b"t-1").await.unwrap().is_none());
    assert!(store.speaker_of_token(b"t-3").await.unwrap().is_some());
    // A change of role holds at once, wherever one is signed in.
    assert!(store.set_rights("joan", ADMIN).await.unwrap() && !store.set_rights("never", ADMIN).await.unwrap());
    assert_eq!(speaks(store, b"s-2").await, who("joan", "admin"));
    // Somebody else's session is not ended by another.
    let of_else = store.sessions(Some("else")).await.unwrap().remove(0).id;
    assert!(!store.end_session(of_else, Some("joan")).await.unwrap());
    assert!(store.end_session(of_else, Some("else")).await.unwrap());
    assert_eq!(speaks(store, b"s-4").await, None);
    // With the account everything of it goes.
    assert!(store.remove_account("joan").await.unwrap() && !store.remove_account("joan").await.unwrap());
    assert_eq!(speaks(store, b"s-2").await, None);
    assert!(store.sessions(Some("joan")).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn who_comes_from_a_provider_has_one_account_and_takes_nobodys() {
    let apart = Apart::new("people_provided").await;
    let store = &apart.store;
    account(store, "joan", b"link").await;
    store.add_token("mara", b"t", "reader").await.unwrap();
    let come = async |subject: &str, name: &str, rights| store.come_in(ISSUER, subject, name, rights).await.unwrap();
    // The name of somebody who has a password here, and that of a token, are not given away.
    assert_eq!(come("s-1", "joan", READER).await.as_deref(), Some("joan-2"));
    assert_eq!(come("s-2", "mara", READER).await.as_deref(), Some("mara-2"));
    assert_eq!(come("s-1", "renamed", ADMIN).await.as_deref(), Some("joan-2"), "by the subject, and not by the name");
    assert_eq!(store.issuer_of("joan-2").await.unwrap().as_deref(), Some(ISSUER));
    assert_eq!(store.issuer_of("joan").await.unwrap(), None);
    let role = async |name: &str| {
        let all = store.accounts().await.unwrap();
        all.into_iter().find(|account| account.name == name).map(|account| account.role)
    };
    assert_eq!((role("joan").await.as_deref(), role("joan-2").await.as_deref()), (Some("reader"), Some("admin")));
    // The same subject of another issuer is somebody else; many browsers at once make one account.
    let other = store.come_in("https://other.example", "s-1", "joan", READER).await.unwrap();
    assert_eq!(other.as_deref(), Some("joan-3"));
    let all = futures::future::join_all((0..8).map(|_| store.come_in(ISSUER, "s-9", "petra", READER))).await;
    assert!(all.into_iter().all(|name| name.unwrap().as_deref() == Some("petra")));
    // Who may not come in any more is out at once; who was not there for long comes in anew by the provider alone.
    session(store, b"s", None, Some("joan-2")).await;
    assert_eq!(speaks(store, b"s").await, who("joan-2", "admin"));
    assert_eq!(store.stay_out(ISSUER, "s-1").await.unwrap().as_deref(), Some("joan-2"));
    assert_eq!(store.stay_out(ISSUER, "s-77").await.unwrap(), None);
    assert_eq!(speaks(store, b"s").await, None);
    session(store, b"s", None, Some("joan-2")).await;
    assert_eq!(speaks(store, b"s").await, None, "it has not been confirmed");
    come("s-1", "joan", READER).await;
    assert_eq!(speaks(store, b"s").await, who("joan-2", "reader"));
    apart.sql("update accounts set confirmed_at = now() - interval '31 days'").await;
    assert_eq!(speaks(store, b"s").await, None);
    session(store, b"s-2", None, Some("joan")).await;
    assert_eq!(speaks(store, b"s-2").await, who("joan", "reader"), "whoever has a password here needs no provider");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_is_good_until_its_day_and_a_machines_until_its_end() {
    let apart = Apart::new("people_tokens").await;
    let store = &apart.store;
    let until = |seconds| Some(Utc::now() + TimeDelta::seconds(seconds));
    let limited = NewToken {
        name: "limited",
        hash: b"limited",
        role: "operator",
        until: until(3600),
        prefix: "kesmo-1",
        suites: vec!["fare-*".into()],
        pools: vec!["main".into()],
        ..NewToken::default()
    };
    assert!(store.add_token_with(&limited).await.unwrap());
    assert!(!store.add_token("limited", b"another", "admin").await.unwrap(), "the name is taken");
    assert!(!store.add_token("another", b"limited", "admin").await.unwrap(), "and nobody makes the same twice");
    let over = NewToken { name: "over", hash: b"over", role: "admin", until: until(-1), ..NewToken::default() };
    assert!(store.add_token_with(&over).await.unwrap());
    let speaker = store.speaker_of_token(b"limited").await.unwrap().unwrap();
    assert_eq!(
        (speaker.suites.as_slice(), speaker.pools.as_slice()),
        (&["fare-*".to_owned()][..], &["main".to_owned()][..])
    );
    assert!(!speaker.provided && speaker.account.is_none());
    for hash in [&b"over"[..], b"", b"limited ", b"Limited"] {
        assert!(store.speaker_of_token(hash).await.unwrap().is_none(), "{hash:?}");
    }
    session(store, b"s", Some("over"), None).await;
    assert_eq!(speaks(store, b"s").await, None, "a session is not good for longer than its token");
    session(store, b"s-2", Some("limited"), None).await;
    assert_eq!(speaks(store, b"s-2").await, who("limited", "operator"));
    store.seen(&speaker, Some(b"s-2")).await.unwrap();
    let used = store.tokens().await.unwrap().into_iter().find(|token| token.name == "limited").unwrap();
    assert!(used.last_used_at.is_some() && used.prefix == "kesmo-1");
    assert!(store.remove_token("limited").await.unwrap() && !store.remove_token("limited").await.unwrap());
    assert_eq!(speaks(store, b"s-2").await, None, "with the token its sessions are over");
    // What a machine shows speaks for a worker, and no longer than the machine is there.
    apart
        .sql(
            "insert into machines (pool, name, state, token) values ('main', 'main-1', 'up', 'm-1'); \
             insert into machines (pool, name, state, token, ended_at) values ('main', 'main-2', 'ended', 'm-2', now())",
        )
        .await;
    let machine = store.speaker_of_token(b"m-1").await.unwrap().unwrap();
    assert_eq!((machine.name, machine.role.as_str()), (format!("{MACHINE}main-1"), "worker"));
    assert!(store.speaker_of_token(b"m-2").await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_runs_took_is_summed_by_whatever_is_asked_for() {
    let apart = Apart::new("people_usage").await;
    let store = &apart.store;
    let (one, two) = (run(store, "fare", &[("release", "1.4")]).await, run(store, "fare", &[]).await);
    let (three, going) = (run(store, "berth", &[("release", "1.4")]).await, run(store, "berth", &[]).await);
    for (run, minutes, tests_us) in [(&one, 10, 60_000_000), (&two, 20, 30_000_000), (&three, 5, 1_000_000)] {
        apart
            .sql(&format!(
                "update runs set phase = 'finished', verdict = 'passed', created_at = '2026-11-23 10:00Z', began_at = '2026-11-23 10:01Z', \
                 finished_at = '2026-11-23 10:01Z'::timestamptz + interval '{minutes} minutes', \
                 stats = jsonb_build_object('total_us', {tests_us}) where id = {}; \
                 insert into batches (run_id, number, worker, slot, entries, granted_at) values ({0}, 1, 'heron', 0, '[]', now()), \
                 ({0}, 2, 'heron', 0, '[]', now())",
                run.id
            ))
            .await;
    }
    let from = "2026-11-23T00:00:00Z".parse().unwrap();
    let until = "2026-11-24T00:00:00Z".parse().unwrap();
    let sums = async |by: By, suite| {
        let all = store.usage(&by, suite, from, until, 10).await.unwrap();
        all.into_iter().map(|sum| (sum.key, sum.runs, sum.tests_us / 1_000_000)).collect::<Vec<_>>()
    };
    let sum = |key: &str, runs, tests| (key.to_owned(), runs, tests);
    assert_eq!(sums(By::Suite, None).await, [sum("fare", 2, 90), sum("berth", 1, 1)], "what goes on is not counted");
    assert_eq!(sums(By::Suite, Some(three.suite_id)).await, [sum("berth", 1, 1)]);
    assert_eq!(sums(By::Label("release".into()), None).await, [sum("1.4", 2, 61), sum("", 1, 30)]);
    assert_eq!(sums(By::Month, None).await, [sum("2026-11", 3, 91)]);
    assert_eq!(sums(By::Account, None).await, [sum("asta", 3, 91)]);
    assert_eq!(sums(By::Pool, None).await, [sum("main", 3, 91)]);
    assert_eq!(sums(By::Brief, None).await, [sum("", 3, 91)]);
    assert_eq!(sums(By::Run, None).await.len(), 3);
    let of_fare = store.usage(&By::Suite, Some(one.suite_id), from, until, 10).await.unwrap().remove(0);
    // One slot for 30 minutes, of which tests ran for 90 s; and each of the two waited for a minute.
    assert_eq!((of_fare.idle_us, of_fare.waited_us), ((1800 - 90) * 1_000_000, 120_000_000));
    assert!(store.usage(&By::Suite, None, until, until + TimeDelta::days(1), 10).await.unwrap().is_empty());
    assert_eq!(store.usage(&By::Run, None, from, until, 2).await.unwrap().len(), 2);
    assert!(going.finished_at.is_none());
}
