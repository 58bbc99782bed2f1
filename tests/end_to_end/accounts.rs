//! People with a name and a password: accounts, links, sessions, and what guessing meets.

use std::{
    io::Write,
    process::{Output, Stdio},
    time::{Duration, Instant},
};

use fantoccini::Locator;
use serde_json::{Value, json};

use crate::{
    console::browser,
    holes::call,
    quay::{Quay, all_said, assert_says, text, until},
};

const GOOD: &str = "lamp otter seventeen";

/// Calls the program with lines that are typed.
fn typed(quay: &Quay, words: &[&str], lines: &str) -> Output {
    let mut command = quay.command(words);
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it runs");
    child.stdin.take().expect("its input").write_all(lines.as_bytes()).expect("it reads");
    child.wait_with_output().expect("it ends")
}

/// Makes an account with a password.
fn account(quay: &Quay, name: &str, role: &str) -> String {
    let made = quay.kesmo(&["account", "add", name, "--role", role]);
    assert!(made.status.success(), "{}", all_said(&made));
    let link = text(&made.stdout).trim().to_owned();
    assert!(link.starts_with(&format!("{}/password#key=", quay.url)), "{link}");
    let chosen = typed(quay, &["account", "password", &link], &format!("{GOOD}\n"));
    assert_says(&all_said(&chosen), &[&format!("The password of {name} is chosen")]);
    link
}

/// A token of an account's own.
fn log_in(quay: &Quay, name: &str, password: &str) -> (u16, Value) {
    let asked = json!({ "name": name, "password": password, "place": "laptop" }).to_string();
    let (status, said, _) = call(quay, "POST", "/api/login", &[("Content-Type", "application/json")], asked.as_bytes());
    (status, serde_json::from_str(&said).unwrap_or_default())
}

#[test]
fn an_account_is_made_signed_in_given_another_role_and_removed() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("gate", "a", "echo ok - $t", "");
    let place = folder.display().to_string();
    let refused = |words: &[&str], why: &str| {
        let said = quay.kesmo(words);
        assert!(!said.status.success(), "{words:?}");
        assert_says(&all_said(&said), &[why]);
    };
    refused(&["account", "add", "ada", "--role", "worker"], "use reader, operator or admin");
    refused(&["account", "add", "ada", "--role", "oparator"], "did you mean \"operator\"?");
    refused(&["account", "add", "first-admin", "--role", "reader"], "there is an account or a token named first-admin");
    assert_says(&all_said(&quay.kesmo(&["account", "list"])), &["There is no account yet"]);
    // A link is good until a password is chosen by it that may be, and then no more.
    let link = text(&quay.kesmo(&["account", "add", "ada", "--role", "operator"]).stdout).trim().to_owned();
    assert_says(
        &all_said(&quay.kesmo(&["account", "list"])),
        &["ada", "operator", "a password that is to be chosen until", "never"],
    );
    assert_eq!(log_in(&quay, "ada", GOOD).0, 401, "no password is chosen");
    for (password, why) in
        [("short", "at least 10 letters"), ("password1234", "tried first"), ("adaadaadaada", "tried first")]
    {
        let said = typed(&quay, &["account", "password", &link], &format!("{password}\n"));
        assert_says(&all_said(&said), &[why]);
    }
    let chosen = typed(&quay, &["account", "password", &link], &format!("{GOOD}\n"));
    assert_says(&all_said(&chosen), &["The password of ada is chosen", "--name ada"]);
    let again = typed(&quay, &["account", "password", &link], "another one that is good\n");
    assert_says(&all_said(&again), &["this link is no longer good"]);
    refused(&["token", "add", "ada", "--role", "reader"], "a token or an account named ada already");
    // The command line signs in by the password, and what is started is told to be the person's.
    let mut login = quay.command(&["login", &quay.url, "--name", "ada", "--until", "30d"]);
    login.env_remove("KESMO_TOKEN").stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut login = login.spawn().expect("it runs");
    login.stdin.take().expect("its input").write_all(format!("{GOOD}\n").as_bytes()).expect("it reads");
    let said = all_said(&login.wait_with_output().expect("it ends"));
    assert_says(&said, &["as ada (operator)", "is saved in", "good until"]);
    let (status, made) = log_in(&quay, "ada", GOOD);
    assert_eq!((status, &made["name"], &made["account"]), (200, &"ada-laptop".into(), &"ada".into()));
    let token = made["token"].as_str().expect("its text").to_owned();
    let run = quay.kesmo_as(&token, &["start", &place, "--wait"]);
    assert_eq!(run.status.code(), Some(0), "{}", all_said(&run));
    assert_eq!(quay.run("gate/1")["started_by"], "ada");
    assert_says(&all_said(&quay.kesmo(&["token", "list"])), &["ada-laptop", "operator (of ada)"]);
    // Another role holds at once, for what was made before, too.
    assert!(quay.kesmo(&["account", "role", "ada", "reader"]).status.success());
    let start = quay.kesmo_as(&token, &["start", &place]);
    assert_says(&all_said(&start), &["the account ada (reader) lacks the right to start"]);
    assert!(quay.kesmo_as(&token, &["runs"]).status.success());
    // Another password ends other tokens; the wrong one changes nothing.
    let (_, other) = log_in(&quay, "ada", GOOD);
    let change = |lines: &str| {
        let mut command = quay.command_as(&token, &["account", "password"]);
        let mut child =
            command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it runs");
        child.stdin.take().expect("its input").write_all(lines.as_bytes()).expect("it reads");
        all_said(&child.wait_with_output().expect("it ends"))
    };
    assert_says(&change("not it at all\na pair of grey boats\n"), &["the old password is wrong"]);
    assert_says(&change(&format!("{GOOD}\nshort\n")), &["at least 10 letters"]);
    assert_says(&change(&format!("{GOOD}\na pair of grey boats\n")), &["Your password is changed"]);
    assert!(quay.kesmo_as(&token, &["runs"]).status.success(), "the one that changed it stays");
    assert_eq!(quay.kesmo_as(other["token"].as_str().expect("text"), &["runs"]).status.code(), Some(12));
    assert_eq!((log_in(&quay, "ada", GOOD).0, log_in(&quay, "ada", "a pair of grey boats").0), (401, 200));
    // A new link: until it is used the password stays; then everything before has ended.
    let link = text(&quay.kesmo(&["account", "reset", "ada"]).stdout).trim().to_owned();
    assert_eq!(log_in(&quay, "ada", "a pair of grey boats").0, 200);
    typed(&quay, &["account", "password", link.rsplit('=').next().expect("a key")], &format!("{GOOD}\n"));
    assert_eq!(quay.kesmo_as(&token, &["runs"]).status.code(), Some(12));
    let (_, last) = log_in(&quay, "ada", GOOD);
    refused(&["account", "remove", "adda"], "did you mean \"ada\"?");
    assert!(quay.kesmo(&["account", "remove", "ada"]).status.success());
    assert_eq!(quay.kesmo_as(last["token"].as_str().expect("text"), &["runs"]).status.code(), Some(12));
    assert_eq!(log_in(&quay, "ada", GOOD).0, 401);
    assert_eq!(quay.run("gate/1")["started_by"], "ada", "what it did stays");
    // On record is who did it, and nothing that is secret.
    let record = until("it is on record", || {
        let said = text(&quay.kesmo(&["audit", "--json-lines", "--limit", "1000"]).stdout);
        said.contains("account remove").then_some(said)
    });
    assert_says(
        &record,
        &[
            "account add",
            "ada, operator",
            "password chosen",
            "\"login\"",
            "account role",
            "account reset",
            "password changed",
        ],
    );
    let dump = std::process::Command::new("pg_dump").arg(quay.database()).output().expect("pg_dump runs");
    let dump = text(&dump.stdout) + &std::fs::read_to_string(quay.path("service.log")).expect("the log");
    for secret in [GOOD, "a pair of grey boats", token.as_str(), link.rsplit('=').next().expect("a key")] {
        assert!(!record.contains(secret) && !dump.contains(secret), "{secret}");
    }
}

#[test]
fn passwords_cannot_be_guessed_and_nobody_learns_who_there_is() {
    let quay = Quay::open();
    account(&quay, "ada", "reader");
    account(&quay, "bo", "reader");
    // Told the same, and after about the same time.
    let time = |name: &str| {
        let began = Instant::now();
        let (status, said) = log_in(&quay, name, "a password that is not it");
        assert_eq!((status, &said["message"]), (401, &"the name or the password is wrong".into()), "{name}");
        began.elapsed()
    };
    // Others of this machine hold up some: the shortest of two, and the longest.
    let (known, unknown) = (time("ada").min(time("bo")), time("nobody-here").max(time("nobody-there")));
    assert!(unknown * 4 > known, "one of nobody takes as long: {known:?}, {unknown:?}");
    // Many at once are no way around the waiting.
    let began = Instant::now();
    let tries: Vec<u16> = std::thread::scope(|scope| {
        let all: Vec<_> =
            (0..12).map(|_| scope.spawn(|| log_in(&quay, "ada", "a password that is not it").0)).collect();
        all.into_iter().map(|one| one.join().expect("it ends")).collect()
    });
    let held = tries.iter().filter(|status| **status == 401).count();
    // With the one before that is five; on a machine that is slow, one more after one second, two, four …
    let more = (began.elapsed().as_secs() + 1).ilog2() as usize + 1;
    assert!((4..=4 + more).contains(&held) && tries.iter().all(|s| [401, 429].contains(s)), "{tries:?}");
    // However slow this machine is.
    quay.sql("update tries set count = 8, last = now() where what = 'account ada'");
    let (status, said) = log_in(&quay, "ada", GOOD);
    assert_eq!(status, 429, "not even the right one is let in");
    assert_says(said["message"].as_str().expect("why"), &["tried too often", "try again in"]);
    let body = json!({ "name": "ada", "password": GOOD }).to_string();
    let raw =
        crate::holes::raw(&quay, "POST", "/api/session", &[("Content-Type", "application/json")], body.as_bytes());
    let after = raw.lines().find_map(|line| line.to_lowercase().strip_prefix("retry-after: ").map(str::to_owned));
    assert!(after.is_some_and(|seconds| seconds.trim().parse::<u32>().is_ok_and(|s| s >= 1)), "{raw}");
    assert_eq!(log_in(&quay, "bo", GOOD).0, 200, "another's account is not held up");
    // It is over after a while.
    let since = Instant::now();
    while log_in(&quay, "ada", GOOD).0 != 200 {
        assert!(since.elapsed() < Duration::from_secs(30), "it never is");
        std::thread::sleep(Duration::from_millis(300));
    }
    assert!(since.elapsed() > Duration::from_millis(500), "it waited");
    // From one address many names cannot be tried either.
    let spread =
        (0..40).map(|n| log_in(&quay, &format!("name-{n}"), "a password that is not it").0).collect::<Vec<_>>();
    assert!(spread.contains(&429), "{spread:?}");
    // A page of another site signs nobody in, and chooses no password.
    for path in ["/api/login", "/api/session", "/api/password"] {
        let (status, ..) = call(
            &quay,
            "POST",
            path,
            &[("Content-Type", "application/json"), ("Origin", "http://elsewhere.example")],
            json!({ "name": "bo", "password": GOOD, "key": "k" }).to_string().as_bytes(),
        );
        assert!(matches!(status, 403 | 422), "{path}: {status}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_signs_people_in_and_admins_keep_their_accounts() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = Quay::open();
    let url = quay.url.clone();
    // An admin makes an account in the console; the person opens the link, chooses a password and signs in.
    let admin = browser(1280, 900).await;
    admin.client.goto(&format!("{url}/#token={}", quay.token())).await.expect("the console");
    admin.shows(&["Nothing has run yet"]).await;
    admin.client.goto(&format!("{url}/service")).await.expect("the page");
    admin
        .shows(&["Signed in with the token first-admin, admin", "There is none: everybody signs in with a token"])
        .await;
    admin.types("account-name", "ada").await;
    admin.click("//button[text()='Make an account']").await;
    admin.shows(&["chooses the password of ada", "that is to be chosen until"]).await;
    let shown = admin.client.find(Locator::Css("pre[aria-label='Link']")).await.expect("the link");
    let link = shown.text().await.expect("its text");
    let page = browser(1280, 900).await;
    page.client.goto(&link).await.expect("the link opens");
    page.shows(&["Choose a password"]).await;
    assert!(
        !page.client.current_url().await.expect("an address").as_str().contains("key="),
        "it is out of the address"
    );
    page.types("chosen", "password1234").await;
    page.click("//button[text()='Choose it']").await;
    page.shows(&["one of those that are tried first"]).await;
    page.types("chosen", &format!("{}{GOOD}", "\u{e003}".repeat(12))).await;
    page.click("//button[text()='Choose it']").await;
    page.shows(&["The password of ada is chosen"]).await;
    page.click("//a[text()='Sign in with it']").await;
    page.types("name", "ada").await;
    page.types("password", "not it at all").await;
    page.click("//button[text()='Sign in']").await;
    page.shows(&["the name or the password is wrong"]).await;
    page.types("password", &format!("{}{GOOD}", "\u{e003}".repeat(13))).await;
    page.click("//button[text()='Sign in']").await;
    page.shows(&["Nothing has run yet"]).await;
    page.client.goto(&format!("{url}/service")).await.expect("the page");
    page.shows(&["Signed in as ada, operator", "this one", "127.0.0.1"]).await;
    // The admin sees the browser, gives another role, and ends the session.
    admin.client.refresh().await.expect("it is loaded again");
    admin.shows(&["by a password"]).await;
    admin.click("//label[text()='those of everybody']").await;
    admin.shows(&["first-admin (token)", "ada"]).await;
    admin.click("//select[@aria-label='Role of ada']/option[text()='reader']").await;
    until("it is a reader", || (quay.json(&["account", "list"])[0]["role"] == "reader").then_some(()));
    page.client.refresh().await.expect("it is loaded again");
    page.shows(&["Signed in as ada, reader"]).await;
    let id = quay
        .json(&["sessions", "--all"])
        .as_array()
        .expect("sessions")
        .iter()
        .find(|s| s["who"] == "ada")
        .expect("it is there")["id"]
        .clone();
    admin.click(&format!("//button[@aria-label='End session {id}']")).await;
    page.shows(&["Your session has ended. Sign in again"]).await;
    page.types("name", "ada").await;
    page.types("password", GOOD).await;
    page.click("//button[text()='Sign in']").await;
    page.shows(&["Signed in as ada, reader"]).await;
    page.click("//button[text()='Sign out']").await;
    page.shows(&["Name", "Password", "With a token"]).await;
    let none = quay.json(&["sessions", "--all"]);
    assert!(none.as_array().expect("sessions").iter().all(|s| s["who"] != "ada"), "{none}");
    for browser in [admin, page] {
        browser.client.clone().close().await.expect("the browser ends");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_for_some_suites_sees_and_does_only_what_is_of_them() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let refused = |words: &[&str], why: &str| {
        let said = quay.kesmo(words);
        assert!(!said.status.success(), "{words:?}");
        assert_says(&all_said(&said), &[why]);
    };
    refused(&["account", "add", "dora", "--role", "admin", "--suite", "gate-*"], "is about the service as a whole");
    refused(&["account", "add", "dora", "--role", "reader", "--suite", "gate-["], "--suite \"gate-[\"");
    let made = quay.kesmo(&["account", "add", "dora", "--role", "operator", "--suite", "gate-*"]);
    let link = text(&made.stdout).trim().to_owned();
    assert!(typed(&quay, &["account", "password", &link], &format!("{GOOD}\n")).status.success());
    assert_says(&all_said(&quay.kesmo(&["account", "list"])), &["dora", "operator", "gate-*"]);
    let (_, token) = log_in(&quay, "dora", GOOD);
    let token = token["token"].as_str().expect("a token").to_owned();
    // Of each kind there is one of hers and one of others.
    let gate = quay.tap("gate-north", "a b", "[ $t = a ] && echo \"ok - $t\" || echo \"not ok - $t\"", "");
    let held = format!("until [ -e {} ]; do sleep 0.1; done; echo \"not ok - $t\"", quay.path("go").display());
    let fares = quay.tap("fares", "c", &held, "[limits]\ntest = \"120s\"");
    assert_eq!(quay.wait(&gate, &[]).0, 1);
    let other = quay.start_run(&fares, &[]);
    for (brief, suite) in [("gates", "gate-north"), ("fares-night", "fares")] {
        assert!(quay.kesmo(&["brief", "add", brief, "--suite", suite]).status.success());
        let schedule = format!("{brief}-daily");
        let add = ["schedule", "add", &schedule, "--brief", brief, "--cron", "0 3 * * *"];
        assert!(quay.kesmo(&add).status.success());
    }
    until("the other runs", || (quay.run(&other)["phase"] == "running").then_some(()));
    let hers = |words: &[&str], status: i32, says: &str| {
        let said = quay.kesmo_as(&token, words);
        assert_eq!(said.status.code(), Some(status), "{words:?}: {}", all_said(&said));
        assert_says(&all_said(&said), &[says]);
        all_said(&said)
    };
    let only = |words: &[&str], says: &str| {
        let said = hers(words, 0, says);
        assert!(!said.contains("fares"), "{words:?}: {said}");
    };
    only(&["runs"], "gate-north/1");
    only(&["suite", "list"], "gate-north");
    only(&["failing"], "b");
    only(&["workers", "--json"], "a run of another suite");
    only(&["queue"], "");
    only(&["brief", "list"], "gates");
    only(&["brief", "show", "gates"], "gate-north");
    only(&["schedule", "list"], "gates-daily");
    only(&["flaky"], "");
    only(&["parked"], "");
    let none = "the account dora is for the suites gate-* only: fares is none of them";
    for words in [
        &["show", "fares/1"][..],
        &["watch", "fares/1"],
        &["stop", "fares/1"],
        &["brief", "show", "fares-night"],
        &["brief", "remove", "fares-night"],
        &["brief", "add", "sly", "--suite", "fares"],
        // What follows one of hers would be another's.
        &["brief", "add", "sly", "--suite", "gate-north", "--then", "fares-night"],
        &["brief", "add", "fares-night", "--suite", "gate-north", "--replace"],
        &["start", "--brief", "fares-night"],
        &["schedule", "show", "fares-night-daily"],
        &["schedule", "pause", "fares-night-daily"],
        &["schedule", "now", "fares-night-daily"],
        &["schedule", "remove", "fares-night-daily"],
        &["schedule", "add", "sly", "--brief", "fares-night", "--cron", "0 3 * * *"],
        &["schedule", "add", "fares-night-daily", "--brief", "gates", "--cron", "0 3 * * *", "--replace"],
    ] {
        hers(words, 12, none);
    }
    hers(&["pool", "list"], 12, "and this is about more than one");
    hers(&["audit"], 12, "lacks");
    hers(&["start", "--brief", "gates", "--wait"], 1, "gate-north/2");
    hers(&["schedule", "pause", "gates-daily"], 0, "");
    // What is streamed to her is of hers, as it changes too.
    let mut stream = quay.client(&token).watch("/api/live", None).await.expect("a stream");
    let snapshot = stream.next().await.expect("a stream").expect("it goes on");
    assert!(!snapshot.data.contains("fares") && snapshot.data.contains("a run of another suite"), "{}", snapshot.data);
    std::fs::write(quay.path("go"), "").expect("a file");
    until("the other is over", || (quay.run(&other)["verdict"] == "failed").then_some(()));
    let again = quay.start_run(&gate, &[]);
    let mut told = String::new();
    while !(told.contains(&again) && told.contains("\"verdict\":\"failed\"")) {
        let event = tokio::time::timeout(Duration::from_secs(60), stream.next()).await.expect("in time");
        told += &event.expect("a stream").expect("it goes on").data;
    }
    assert!(!told.contains("fares"), "{told}");
    // The console shows her the same, and no place that is about all suites.
    if std::env::var_os("KESMO_NO_BROWSER").is_none() {
        let page = browser(1280, 900).await;
        page.client.goto(&quay.url).await.expect("the page");
        page.types("name", "dora").await;
        page.types("password", GOOD).await;
        page.click("//button[text()='Sign in']").await;
        page.shows(&["gate-north"]).await;
        let seen = page.client.source().await.expect("the page");
        assert!(!seen.contains("fares") && !seen.contains(">Pools<") && !seen.contains(">Notices<"), "{seen}");
        for place in ["runs", "suites", "briefs", "schedules", "workers", "flaky", "queue"] {
            page.client.goto(&format!("{}/{place}", quay.url)).await.expect("the page");
            page.shows(&[&format!("/ {place}")]).await;
            let seen = page.client.find(Locator::Css("main")).await.expect("a page").text().await.expect("text");
            assert!(!seen.contains("fares") && !seen.contains("◆ the account"), "{place}: {seen}");
        }
        page.client.goto(&format!("{}/service", quay.url)).await.expect("the page");
        page.shows(&["operator of the suites gate-* only"]).await;
    }
    // Other suites hold at once, also for what she watches, and an admin is of all.
    assert!(quay.kesmo(&["account", "role", "dora", "operator", "--suite", "fares"]).status.success());
    let ends = async { while let Ok(Some(_)) = stream.next().await {} };
    tokio::time::timeout(Duration::from_secs(30), ends).await.expect("the stream of before ends");
    hers(&["show", "fares/1"], 0, "failed");
    hers(&["show", "gate-north/1"], 12, "is for the suites fares only: gate-north is none of them");
    refused(&["account", "role", "dora", "admin"], "--all-suites");
    assert!(quay.kesmo(&["account", "role", "dora", "admin", "--all-suites"]).status.success());
    hers(&["pool", "list"], 0, "");
}
