//! People who sign in at a provider (OpenID Connect): the stand-in plays it, and what it says wrong is not believed.

use std::{
    io::{Read, Write},
    net::TcpStream,
    time::Duration,
};

use fantoccini::Locator;
use serde_json::{Value, json};

use crate::{
    console::browser,
    holes::{call, raw},
    quay::{Process, Quay, all_said, assert_says, stand_in, text, until},
};

const ROLES: [&str; 6] =
    ["--oidc-role", "wardens=admin", "--oidc-role", "pilots=operator", "--oidc-role", "crew=reader"];

/// A quay with a provider: the stand-in's process, and where it is.
fn with_provider(more: &[&str]) -> (Quay, Process, String) {
    let (register, at) = stand_in("harbour-register", &[]);
    let mut options = vec!["--oidc-issuer", &at, "--oidc-client", "kesmo", "--oidc-name", "the harbour register"];
    options.extend(ROLES);
    options.extend(more);
    let quay = Quay::with_options(&options);
    (quay, register, at)
}

/// A call of the stand-in: the head and the body of its answer.
fn at_register(at: &str, method: &str, path: &str, body: &Value) -> (String, String) {
    let address = at.strip_prefix("http://").expect("an address");
    let mut stream = TcpStream::connect(address).expect("it answers");
    let body = body.to_string();
    let head = format!("{method} {path} HTTP/1.0\r\nHost: {address}\r\nContent-Length: {}\r\n\r\n{body}", body.len());
    stream.write_all(head.as_bytes()).expect("it is sent");
    let mut answer = String::new();
    stream.read_to_string(&mut answer).expect("it answers");
    let (head, body) = answer.split_once("\r\n\r\n").expect("a head");
    (head.to_owned(), body.to_owned())
}

fn trouble(at: &str, kind: &str) {
    at_register(at, "PUT", "/trouble", &json!({ "kind": kind }));
}

const JSON: (&str, &str) = ("Content-Type", "application/json");

/// Begins a sign-in: where to go, and the cookie that keeps it.
fn begin(quay: &Quay) -> (String, String) {
    let (status, said, cookies) = call(quay, "POST", "/api/provider/begin", &[JSON], b"{}");
    assert_eq!(status, 200, "{said}");
    let said: Value = serde_json::from_str(&said).expect("an answer");
    assert!(cookies[0].contains("HttpOnly") && cookies[0].contains("SameSite=Strict"), "{cookies:?}");
    let cookie = cookies[0].split(';').next().expect("a cookie").to_owned();
    (said["address"].as_str().expect("an address").to_owned(), cookie)
}

/// What the provider sends back of whoever is called so.
fn go(at: &str, address: &str, who: &str) -> Value {
    let path = address.strip_prefix(at).expect("an address of the provider");
    let (head, _) = at_register(at, "GET", &format!("{path}&as={who}"), &Value::Null);
    let back = head.lines().find_map(|line| line.strip_prefix("Location: ")).expect("it leads back");
    let (page, query) = back.split_once('?').expect("it brings something");
    assert!(page.ends_with("/signed-in"), "{page}");
    query.split('&').filter_map(|pair| pair.split_once('=')).map(|(k, v)| (k.to_owned(), json!(v))).collect()
}

/// Ends a sign-in: the status, the answer, and the session's cookie if there is one.
fn end(quay: &Quay, brought: &Value, cookie: &str) -> (u16, Value, Option<String>) {
    let headers = [JSON, ("Cookie", cookie)];
    let (status, said, cookies) = call(quay, "POST", "/api/provider/end", &headers, brought.to_string().as_bytes());
    let session = cookies.iter().find(|cookie| cookie.starts_with("kesmo-session="));
    let session = session.and_then(|cookie| cookie.split(';').next()).map(str::to_owned);
    (status, serde_json::from_str(&said).expect("an answer"), session)
}

fn sign_in(quay: &Quay, at: &str, who: &str) -> (u16, Value, Option<String>) {
    let (address, cookie) = begin(quay);
    end(quay, &go(at, &address, who), &cookie)
}

/// What a browser with a session is told.
fn as_session(quay: &Quay, session: &str, method: &str, path: &str, body: &Value) -> (u16, Value) {
    let headers = [JSON, ("Cookie", session), ("Origin", &quay.url)];
    let (status, said, _) = call(quay, method, path, &headers, body.to_string().as_bytes());
    (status, serde_json::from_str(&said).unwrap_or_default())
}

#[test]
fn people_come_in_by_their_groups_and_stay_out_without_them() {
    let (quay, _register, at) = with_provider(&[]);
    // A name that is taken is nobody else's: not a token's, and not that of an account with a password.
    assert!(quay.kesmo(&["token", "add", "bo", "--role", "reader"]).status.success());
    assert!(quay.kesmo(&["account", "add", "una", "--role", "admin"]).status.success());
    let came = |who: &str| {
        let (status, me, session) = sign_in(&quay, &at, who);
        assert_eq!(status, 200, "{me}");
        (me["name"].as_str().expect("a name").to_owned(), me["role"].clone(), session.expect("a session"))
    };
    let (ida, role, session) = came("ida");
    assert_eq!((ida.as_str(), &role), ("ida", &json!("admin")), "the highest role of two groups");
    let (bo, role, of_bo) = came("bo");
    assert_eq!((bo.as_str(), &role), ("bo-2", &json!("operator")));
    let (una, role, _) = came("una");
    assert_eq!((una.as_str(), &role), ("una-2", &json!("reader")));
    assert_eq!(came("bo").0, "bo-2", "found again by what the provider knows them by");
    let (status, said, none) = sign_in(&quay, &at, "guest");
    assert_eq!((status, none), (403, None));
    assert_says(said["message"].as_str().expect("why"), &["guest is known at the harbour register", "in no group"]);
    // The session is the account's, and its role cannot be changed by hand.
    let (_, me) = as_session(&quay, &session, "GET", "/api/me", &Value::Null);
    assert_eq!((&me["name"], &me["account"], &me["provided"]), (&json!("ida"), &json!(true), &json!(true)));
    let said = quay.kesmo(&["account", "role", "bo-2", "admin"]);
    assert_says(&all_said(&said), &["its role comes from its groups there"]);
    assert_says(&all_said(&quay.kesmo(&["account", "reset", "bo-2"])), &["it has no password here"]);
    assert_says(&all_said(&quay.kesmo(&["account", "list"])), &["bo-2", &format!("signs in at {at}, last")]);
    let (status, said) =
        as_session(&quay, &session, "PUT", "/api/me/password", &json!({ "old": "", "new": "long enough to be" }));
    assert_eq!((status, said["kind"].as_str()), (409, Some("conflict")), "{said}");
    // A token of one's own: made in the browser, with the account's role. A token makes none.
    let (status, made) = as_session(&quay, &of_bo, "POST", "/api/me/tokens", &json!({ "place": "laptop" }));
    assert_eq!((status, &made["name"], &made["role"]), (200, &json!("bo-2-laptop"), &json!("operator")), "{made}");
    let token = made["token"].as_str().expect("its text").to_owned();
    let folder = quay.tap("gate", "a", "echo ok - $t", "");
    let _worker = quay.worker("heron", 1);
    assert_eq!(quay.kesmo_as(&token, &["start", &folder.display().to_string(), "--wait"]).status.code(), Some(0));
    assert_eq!(quay.run("gate/1")["started_by"], "bo-2");
    let bearer = format!("Bearer {token}");
    let (status, said, _) = call(&quay, "POST", "/api/me/tokens", &[JSON, ("Authorization", &bearer)], b"{}");
    assert_eq!(status, 409, "{said}");
    // Other groups at the next sign-in are another role, wherever the account is signed in, and other names no other account.
    let people = |groups: &Value| {
        let known = json!({ "bo": { "name": "Bo Fender", "groups": groups }, "ida": { "groups": ["wardens"] } });
        at_register(&at, "PUT", "/people", &known);
    };
    people(&json!("crew"));
    assert_eq!(came("bo").1, "reader");
    let said = quay.kesmo_as(&token, &["start", &folder.display().to_string()]);
    assert_says(&all_said(&said), &["the account bo-2 (reader) lacks the right to start"]);
    // Without a group that may, everything of theirs is refused at once, and good again when they may again.
    people(&json!([]));
    assert_eq!(sign_in(&quay, &at, "bo").0, 403);
    assert_eq!(quay.kesmo_as(&token, &["runs"]).status.code(), Some(12));
    assert_eq!(as_session(&quay, &of_bo, "GET", "/api/me", &Value::Null).0, 401);
    assert_says(&all_said(&quay.kesmo(&["account", "list"])), &["and may come in no more"]);
    people(&json!(["pilots"]));
    assert_eq!(came("bo").1, "operator");
    assert!(quay.kesmo_as(&token, &["runs"]).status.success());
    // Who has not signed in there for long is not vouched for.
    quay.sql("update accounts set confirmed_at = now() - interval '31 days' where name = 'bo-2'");
    until("the token is refused", || (quay.kesmo_as(&token, &["runs"]).status.code() == Some(12)).then_some(()));
    let record = until("it is on record", || {
        let said = text(&quay.kesmo(&["audit", "--json-lines", "--limit", "1000"]).stdout);
        said.contains("bo-2 may come in no more").then_some(said)
    });
    assert_says(&record, &["\"sign in\"", "ida, admin", "bo-2, operator"]);
}

#[test]
fn what_does_not_hold_lets_nobody_in() {
    let dir = tempfile::tempdir().expect("a folder");
    let secret = dir.path().join("secret");
    std::fs::write(&secret, "a secret: with=odd letters\n").expect("it is written");
    let secret = secret.display().to_string();
    let (_register, at) = stand_in("harbour-register", &["--secret-file", &secret]);
    let mut options = vec!["--oidc-issuer", &at, "--oidc-client", "kesmo", "--oidc-secret-file", &secret];
    options.extend(ROLES);
    let quay = Quay::with_options(&options);
    let refused = |kind: &str, status: u16, why: &[&str]| {
        trouble(&at, kind);
        let (got, said, session) = sign_in(&quay, &at, "ida");
        assert_eq!((got, session), (status, None), "{kind}: {said}");
        assert_says(said["message"].as_str().expect("why"), why);
    };
    assert_eq!(sign_in(&quay, &at, "ida").0, 200, "as it should be");
    refused("nonce", 502, &["your organisation", "another sign-in (nonce)"]);
    refused("audience", 502, &["does not hold"]);
    refused("issuer", 502, &["does not hold"]);
    refused("expired", 502, &["does not hold"]);
    refused("unsigned", 502, &["does not hold"]);
    refused("foreign-key", 502, &["does not hold"]);
    refused("refuse", 401, &["let nobody in: access_denied"]);
    // Groups may be told to who asks for them only, and then of the same person.
    at_register(&at, "PUT", "/people", &json!({ "ida": { "groups": ["wardens"], "asked": true } }));
    assert_eq!(sign_in(&quay, &at, "ida").0, 200);
    refused("other-subject", 502, &["somebody else"]);
    // Another key is asked for, though not as often as somebody may make one up.
    at_register(&at, "PUT", "/keys", &json!({}));
    until("the other key is known", || {
        std::thread::sleep(Duration::from_secs(1));
        (sign_in(&quay, &at, "ida").0 == 200).then_some(())
    });
    // What was begun in one browser is ended in no other, once, and with what belongs to it.
    let (address, cookie) = begin(&quay);
    let brought = go(&at, &address, "ida");
    let (other, other_cookie) = begin(&quay);
    let is = |brought: &Value, cookie: &str, status: u16| {
        let (got, said, session) = end(&quay, brought, cookie);
        assert_eq!((got, session.is_some()), (status, status == 200), "{said}");
    };
    is(&brought, "x=y", 401);
    is(&brought, &other_cookie, 401);
    // A cookie that was changed, or made up, is none.
    for forged in [format!("{cookie}A"), "kesmo-sign-in=e30".to_owned(), "kesmo-sign-in=%00".to_owned()] {
        is(&brought, &forged, 401);
    }
    let mut stolen = go(&at, &other, "ida");
    stolen["state"] = brought["state"].clone();
    is(&stolen, &cookie, 401);
    is(&brought, &cookie, 200);
    is(&brought, &cookie, 401);
    let headers = [JSON, ("Cookie", cookie.as_str()), ("Origin", "http://elsewhere.example")];
    assert_eq!(call(&quay, "POST", "/api/provider/end", &headers, brought.to_string().as_bytes()).0, 403);
    assert_eq!(call(&quay, "POST", "/api/provider/begin", &headers, b"{}").0, 403);
    // The provider knows this service by its secret.
    std::fs::write(&secret, "another").expect("it is written");
    let mut options = vec!["--oidc-issuer", &at, "--oidc-client", "kesmo", "--oidc-secret-file", &secret];
    options.extend(ROLES);
    let wrong = Quay::with_options(&options);
    let (status, said, _) = sign_in(&wrong, &at, "ida");
    assert_eq!(status, 401);
    assert_says(said["message"].as_str().expect("why"), &["does not take this sign-in: invalid_client"]);
    drop(wrong);
    // It may be away, also when the service starts, and passwords go on.
    let gone =
        Quay::with_options(&[&["--oidc-issuer", "http://127.0.0.1:9", "--oidc-client", "kesmo"], &ROLES[..]].concat());
    let answer = raw(&gone, "POST", "/api/provider/begin", &[JSON], b"{}");
    assert_says(&answer, &["502", "your organisation does not answer"]);
    assert!(gone.kesmo(&["runs"]).status.success());
    // And without one there is none.
    let none = crate::quay::shared();
    assert_eq!(call(none, "POST", "/api/provider/begin", &[JSON], b"{}").0, 404);
    assert_eq!(call(none, "GET", "/api/provider", &[], b"").1, "{\"provider\":null}");
}

#[test]
fn options_of_a_provider_are_checked() {
    let quay = crate::quay::shared();
    let says = |words: &[&str], why: &str| {
        let data = quay.path("checked").display().to_string();
        let mut all = vec!["serve", "--check", "--listen", "127.0.0.1:0", "--data", &data];
        all.extend(words);
        let said = quay.kesmo(&all);
        assert!(!said.status.success(), "{words:?}");
        assert_says(&all_said(&said), &[why]);
    };
    let full = |issuer: &'static str, more: &'static [&'static str]| {
        [&["--oidc-issuer", issuer, "--oidc-client", "kesmo"], more].concat()
    };
    says(&["--oidc-issuer", "https://in.example"], "--oidc-client <ID>");
    says(&["--oidc-role", "a=reader"], "--oidc-issuer <URL>");
    says(&full("http://in.example", &["--oidc-role", "a=reader"]), "is no https address");
    says(&full("https://in.example", &["--oidc-role", "a=oparator"]), "did you mean \"operator\"?");
    says(&full("https://in.example", &["--oidc-role", "a=worker"]), "is not a valid role of a person");
    says(&full("https://in.example", &["--oidc-role", "reader"]), "write it as GROUP=ROLE");
    let none = ["--oidc-role", "*=reader", "--oidc-secret-file", "/nowhere"];
    says(&[&full("https://in.example", &[])[..], &none[..]].concat(), "/nowhere");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_leads_to_the_provider_and_back_to_where_one_was() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let (quay, _register, at) = with_provider(&[]);
    let page = browser(1280, 900).await;
    page.client.goto(&format!("{}/service?x=1", quay.url)).await.expect("the console");
    page.click("//button[contains(., 'Sign in with the harbour register')]").await;
    page.shows(&["Who are you?", "Bo Fender (pilots, crew)"]).await;
    page.click("//button[@value='guest']").await;
    page.shows(&["guest is known at the harbour register, and in no group"]).await;
    page.click("//button[contains(., 'Sign in with the harbour register')]").await;
    page.click("//button[@value='bo']").await;
    page.shows(&["Signed in as bo, operator"]).await;
    let address = page.client.current_url().await.expect("an address").to_string();
    assert_eq!(address, format!("{}/service?x=1", quay.url), "where one was, without what was brought");
    page.click("//button[text()='Make a token of your own']").await;
    page.shows(&["bo-laptop, shown this once"]).await;
    let shown = page.client.find(Locator::Css("pre[aria-label='Token']")).await.expect("the token");
    let token = shown.text().await.expect("its text");
    assert!(quay.kesmo_as(token.trim(), &["runs"]).status.success());
    page.click("//button[text()='Sign out']").await;
    page.shows(&["Sign in with the harbour register", "With a token"]).await;
    trouble(&at, "refuse");
    page.click("//button[contains(., 'Sign in with the harbour register')]").await;
    page.shows(&["the harbour register let nobody in: access_denied: nobody goes to the quay today"]).await;
    page.client.clone().close().await.expect("the browser ends");
}
