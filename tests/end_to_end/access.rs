//! Who may do what, and what a wrong call says.

use std::os::unix::fs::PermissionsExt;

use crate::{
    holes::call,
    quay::{Quay, all_said, assert_says, shared, text},
};

/// Calls that need no token.
const OPEN: &str = "GET /api/health, GET /api/ready, POST /api/session, DELETE /api/session, POST /webhook/{name}, GET /shared/{key}, \
     POST /api/login, POST /api/password, GET /api/provider, POST /api/provider/begin, POST /api/provider/end";

/// Calls that only look, though they are sent as something else.
const LOOKING: &str = "POST /api/briefs/check, POST /api/drafts, POST /api/schedules/preview, POST /api/suites/{suite}/tests, \
    POST /api/suites/{suite}/forecast, POST /api/webhooks/{name}/try, PUT /api/me/password, DELETE /api/sessions/{id}, POST /api/me/tokens";

/// Calls of those who start, stop and change what starts runs.
const OPERATING: &str = "POST /api/briefs, DELETE /api/briefs/{name}, HEAD /api/bundles/{digest}, PUT /api/bundles/{digest}, \
    POST /api/meet, POST /api/queue/order, POST /api/runs, POST /api/runs/{suite}/{number}/again, \
    POST /api/runs/{suite}/{number}/stop, POST /api/schedules, DELETE /api/schedules/{name}, POST /api/schedules/{name}/now, \
    POST /api/schedules/{name}/pause, POST /api/suites, POST /api/suites/{suite}/imports, POST /api/suites/{suite}/parks, DELETE /api/suites/{suite}/parks, \
    POST /api/suites/{suite}/polls, DELETE /api/suites/{suite}/polls, DELETE /api/suites/{suite}/failing, POST /api/suites/{suite}/portion, POST /api/webhooks, \
    GET /api/suites/{suite}/commits, DELETE /api/webhooks/{name}, POST /api/webhooks/{name}/deliveries/{id}/redeliver, POST /api/webhooks/{name}/pause, \
    POST /api/webhooks/{name}/secret, POST /api/workers/{name}/drain, POST /api/shares, DELETE /api/shares/{id}";

/// Calls of those who may do everything.
const KEEPING: &str = "PUT /api/notices/{name}, DELETE /api/notices/{name}, POST /api/notices/{name}/pause, \
    POST /api/notices/{name}/secret, POST /api/notices/{name}/try, POST /api/notices/{name}/messages/{number}/again, PUT /api/pools/{name}, DELETE /api/pools/{name}, GET /api/tokens, POST /api/tokens, DELETE /api/tokens/{name}, DELETE /api/suites/{suite}, GET /api/audit, PUT /api/keep/{name}, DELETE /api/keep/{name}, POST /api/sweep, DELETE /api/runs/{suite}/{number}, PUT /api/secrets/{name}, DELETE /api/secrets/{name}, GET /api/accounts, POST /api/accounts, \
    PUT /api/accounts/{name}, DELETE /api/accounts/{name}, POST /api/accounts/{name}/link";

/// Calls of machines that work, which the document does not have.
const WORKING: &str = "GET /api/bundles/{digest}, GET /api/work/machine, PUT /api/work/blobs/{digest}";

#[test]
fn every_role_may_do_on_every_route_what_it_should_and_nothing_else() {
    let quay = shared();
    let roles = ["nobody", "reader", "operator", "admin", "worker"];
    let tokens = roles.map(|role| match role {
        "nobody" => String::new(),
        role => text(&quay.kesmo(&["token", "add", &format!("each-{role}"), "--role", role]).stdout).trim().to_owned(),
    });
    let bearer = format!("Bearer {}", quay.token());
    let (_, document, _) = call(quay, "GET", "/api/openapi.json", &[("Authorization", &bearer)], b"");
    let document: serde_json::Value = serde_json::from_str(&document).expect("the document");
    let mut routes: Vec<String> = WORKING.split(", ").map(|r| r.trim().to_owned()).collect();
    for (path, item) in document["paths"].as_object().expect("paths") {
        routes
            .extend(item.as_object().expect("calls").keys().map(|method| format!("{} {path}", method.to_uppercase())));
    }
    let of = |list: &str, route: &str| list.split(", ").any(|one| one.trim() == route);
    let mut wrong = Vec::new();
    let mut table = Vec::new();
    for route in &routes {
        // Who may, in the order of the roles above.
        let may = match route.as_str() {
            r if of(OPEN, r) => continue,
            r if of(WORKING, r) => [false, false, true, true, true],
            r if of(KEEPING, r) => [false, false, false, true, false],
            r if of(OPERATING, r) => [false, false, true, true, false],
            r if of(LOOKING, r) || r.starts_with("GET ") => [false, true, true, true, false],
            r => panic!("who may call {r}?"),
        };
        table.push((route.clone(), may));
        let (method, path) = route.split_once(' ').expect("a method and a path");
        // What is named is not there, so that nothing is done.
        let path = path
            .replace("{number}", "7")
            .replace("{machine}", "7")
            .replace("{index}", "7")
            .replace("{attempt}", "7")
            .replace("{id}", "7");
        let path = path.replace("{digest}", &"0".repeat(64)).replace("{suite}", "nowhere").replace("{name}", "nobody");
        for ((role, token), may) in roles.iter().zip(&tokens).zip(may) {
            // This one has no end.
            if may && path == "/api/live" {
                continue;
            }
            let bearer = format!("Bearer {token}");
            let mut headers = vec![("Content-Type", "application/json")];
            if !token.is_empty() {
                headers.push(("Authorization", bearer.as_str()));
            }
            let body: &[u8] = if method == "GET" || method == "HEAD" { b"" } else { b"{}" };
            let (status, said, _) = call(quay, method, &path, &headers, body);
            let refused = if token.is_empty() { status == 401 } else { status == 403 };
            if refused == may {
                wrong.push(format!("{role}: {route}: {status} {said:.120}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    rights_are_told(&table);
    assert!(routes.len() > 70, "{}", routes.len());
    for role in &roles[1..] {
        assert!(quay.kesmo(&["token", "remove", &format!("each-{role}")]).status.success());
    }
}

/// The docs say who may call what. `KESMO_UPDATE=1` writes it anew.
fn rights_are_told(table: &[(String, [bool; 5])]) {
    let mut rows: Vec<String> =
        OPEN.split(", ").map(|route| format!("| `{}` | ● | ● | ● | ● | ● |", route.trim())).collect();
    for (route, may) in table {
        let marks: Vec<&str> = may.iter().map(|may| if *may { "●" } else { "" }).collect();
        rows.push(format!("| `{route}` | {} |", marks.join(" | ")));
    }
    rows.sort_by_key(|row| row.split_whitespace().nth(2).map(str::to_owned));
    let told = format!(
        "# Who may call what\n\nMade from the calls that the end-to-end trials hold each role against. What a call does: `/api/openapi.json`.\n\n\
         | call | nobody known | reader | operator | admin | worker |\n|---|---|---|---|---|---|\n{}\n",
        rows.join("\n")
    );
    let path = crate::quay::repository("docs/rights.md");
    if std::env::var_os("KESMO_UPDATE").is_some() {
        std::fs::write(&path, &told).expect("the file can be written");
    }
    assert!(
        std::fs::read_to_string(&path).unwrap_or_default() == told,
        "docs/rights.md is out of date: KESMO_UPDATE=1 writes it"
    );
}

#[test]
fn every_call_but_health_needs_a_token() {
    let quay = shared();
    let none = quay.kesmo_as("", &["runs"]);
    assert_eq!(none.status.code(), Some(12));
    assert_says(&all_said(&none), &["this call needs a token", "KESMO_TOKEN"]);
    let wrong = quay.kesmo_as("kesmo-nonsense", &["runs"]);
    assert_eq!(wrong.status.code(), Some(12));
    assert_says(&all_said(&wrong), &["this token is not known here"]);
    let client = quay.client("");
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let health: serde_json::Value = runtime.block_on(client.get("/api/health", &[])).expect("health needs none");
    assert_eq!(health["database"], true);
    for path in ["/api/openapi.json", "/api/runs", "/api/live", "/api/workers", "/api/suites", "/api/tokens", "/api/me"]
    {
        let refused = runtime.block_on(client.get::<serde_json::Value>(path, &[])).expect_err(path);
        assert!(matches!(refused, kesmo_client::Error::Refused { status: 401, .. }), "{path}: {refused}");
    }
}

#[test]
fn a_token_without_the_right_is_told_which_right_is_missing() {
    let quay = shared();
    let make =
        |name: &str, role: &str| text(&quay.kesmo(&["token", "add", name, "--role", role]).stdout).trim().to_owned();
    let (reader, worker, operator) =
        (make("a-reader", "reader"), make("a-worker", "worker"), make("an-operator", "operator"));
    assert_eq!(quay.kesmo_as(&reader, &["runs"]).status.code(), Some(0));
    let start = quay.kesmo_as(&reader, &["stop", "ferry/1"]);
    assert_eq!(start.status.code(), Some(12));
    assert_says(&all_said(&start), &["the token a-reader (reader) lacks the right to start and stop runs"]);
    assert_says(&all_said(&quay.kesmo_as(&worker, &["runs"])), &["lacks the right to see runs"]);
    assert_says(&all_said(&quay.kesmo_as(&operator, &["token", "list"])), &["lacks the right to keep the service"]);
    let refused = quay.kesmo_as(&reader, &["worker", "--name", "no-right"]);
    assert_eq!(refused.status.code(), Some(12));
    assert_says(&all_said(&refused), &["lacks the right to work"]);
    assert_eq!(quay.kesmo(&["token", "remove", "a-reader"]).status.code(), Some(0));
    assert_eq!(quay.kesmo_as(&reader, &["runs"]).status.code(), Some(12), "a removed token is refused at once");
    let list = quay.kesmo(&["token", "list"]);
    assert_says(&all_said(&list), &["first-admin", "an-operator"]);
    assert!(!all_said(&list).contains(&operator), "a token's text is never shown again");
}

#[test]
fn the_admins_token_is_kept_for_its_owner_only() {
    let quay = shared();
    let rights = std::fs::metadata(quay.path("service/admin-token")).expect("the file").permissions().mode();
    assert_eq!(rights & 0o777, 0o600);
    let log = std::fs::read_to_string(quay.path("service.log")).expect("the log");
    assert!(!log.contains(&quay.token()), "no log holds a token");
}

#[test]
fn a_login_is_saved_and_used() {
    let quay = shared();
    // A home of its own: others here say that they have no token.
    let home = tempfile::tempdir().expect("a folder");
    let login = quay.command(&["login", &quay.url]).env("HOME", home.path()).output().expect("it runs");
    assert_says(&all_said(&login), &["as first-admin (admin)"]);
    let file = home.path().join(".config/kesmo/login.json");
    assert_eq!(std::fs::metadata(&file).expect("it is saved").permissions().mode() & 0o777, 0o600);
    let mut command = std::process::Command::new(crate::quay::KESMO);
    let output = command.args(["workers"]).env("HOME", home.path()).env_remove("KESMO_URL").env_remove("KESMO_TOKEN");
    let output = output.output().expect("it runs");
    assert_says(&all_said(&output), &["heron"]);
}

#[test]
fn a_service_that_is_not_there_is_told_at_once() {
    let quay = shared();
    for words in [&["runs"][..], &["watch", "ferry/1"], &["start", "ferry", "--wait"]] {
        let mut all = vec!["--url", "http://127.0.0.1:9"];
        all.extend(words);
        let output = quay.kesmo(&all);
        assert_eq!(output.status.code(), Some(12), "{words:?}");
        assert_says(&all_said(&output), &["could not be reached", "kesmo serve"]);
    }
}

#[test]
fn a_taken_port_and_a_taken_folder_are_clear_errors() {
    let quay = shared();
    let address = quay.url.strip_prefix("http://").expect("http").to_owned();
    let port = quay.kesmo(&["serve", "--listen", &address, "--data", &quay.path("other").to_string_lossy()]);
    assert_eq!(port.status.code(), Some(2));
    assert_says(&all_said(&port), &["cannot be listened on", "--listen"]);
    let folder = quay.kesmo(&["serve", "--listen", "127.0.0.1:0", "--data", &quay.path("service").to_string_lossy()]);
    assert_eq!(folder.status.code(), Some(2));
    assert_says(&all_said(&folder), &["another `kesmo serve` uses the data folder"]);
}

#[test]
fn two_workers_of_one_name_are_not_taken_for_one() {
    let quay = shared();
    let token = text(&quay.kesmo(&["token", "add", "twin", "--role", "worker"]).stdout).trim().to_owned();
    let home = quay.path("twin").to_string_lossy().into_owned();
    let twin = quay.kesmo_as(&token, &["worker", "--name", "heron", "--home", &home]);
    assert_eq!(twin.status.code(), Some(12));
    assert_says(&all_said(&twin), &["a worker named heron is here already"]);
}

#[test]
fn the_service_ends_well_and_leaves_nothing_running() {
    let mut quay = Quay::open();
    let data = quay.path("service").to_string_lossy().into_owned();
    // At once: the service listens for signals before it says that it is there.
    quay.service().signal(libc::SIGTERM);
    assert_eq!(quay.service().wait(), 0);
    crate::quay::until("PostgreSQL is gone", || (crate::quay::processes_with(&data) == 0).then_some(()));
}

#[test]
fn what_is_done_and_what_is_refused_is_on_record_and_stays_there() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("gate", "a", "echo ok - $t", "");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let make = |words: &[&str]| text(&quay.kesmo(&[&["token", "add"], words].concat()).stdout).trim().to_owned();
    let reader = make(&["looks", "--role", "reader", "--until", "30d"]);
    assert_eq!(quay.kesmo_as(&reader, &["stop", "gate/1"]).status.code(), Some(12));
    assert!(quay.kesmo(&["park", "gate", "a", "--until", "2w", "--why", "it is late"]).status.success());
    let (status, _, _) = call(&quay, "POST", "/api/runs", &[("Content-Type", "application/json")], b"{}");
    assert_eq!(status, 401);
    let told = crate::quay::until("it is on record", || {
        let told = quay.json(&["audit", "--limit", "1000"]);
        let all = told.as_array().expect("a list").clone();
        all.iter().any(|one| one["status"] == 401).then_some(all)
    });
    let find = |what: &str, status: u64| {
        let found = told.iter().find(|one| one["what"] == what && one["status"] == status);
        found.unwrap_or_else(|| panic!("{what} {status} in {told:?}")).clone()
    };
    let start = find("start", 200);
    assert_eq!((&start["who"], &start["note"]), (&"first-admin".into(), &"gate/1".into()));
    assert_eq!(start["address"], "127.0.0.1");
    assert_eq!(find("token add", 200)["note"], "looks, reader");
    assert_eq!(find("park", 200)["note"], "a until 2w: it is late");
    assert_eq!(find("stop", 403)["who"], "looks");
    assert_eq!((&find("start", 401)["who"], &find("start", 401)["role"]), (&"".into(), &"".into()));
    assert!(!told.iter().any(|one| one["path"].as_str().is_some_and(|path| path.contains("/work/"))), "work is none");
    assert!(!serde_json::to_string(&told).expect("JSON").contains(&reader), "no token is told");
    let refused = all_said(&quay.kesmo(&["audit", "--refused", "--who", "looks"]));
    assert_says(&refused, &["looks (reader)", "stop", "refused (403)", "POST /api/runs/gate/1/stop"]);
    let lines = text(&quay.kesmo(&["audit", "--json-lines", "--what", "park"]).stdout);
    assert_eq!(lines.lines().count(), 1, "{lines}");
    assert_says(&all_said(&quay.kesmo(&["audit", "--about", "no such thing"])), &["Nothing of that kind"]);
    assert_says(&all_said(&quay.kesmo_as(&reader, &["audit"])), &["lacks the right to keep the service"]);
    // It can be neither changed nor removed.
    for statement in ["update audit set who = 'nobody'", "delete from audit"] {
        let refused = crate::quay::psql(&quay.database(), statement).expect_err("PostgreSQL refuses");
        assert_says(&refused, &["what was done stays on record"]);
    }
    // A token ends on its day, also for those who are signed in with it.
    assert_says(&all_said(&quay.kesmo(&["token", "list"])), &["looks", "kesmo-", "until"]);
    assert_eq!(quay.kesmo_as(&reader, &["runs"]).status.code(), Some(0));
    quay.sql("update tokens set until = now() where name = 'looks'");
    crate::quay::until("it has ended", || (quay.kesmo_as(&reader, &["runs"]).status.code() == Some(12)).then_some(()));
    assert_says(&all_said(&quay.kesmo_as(&reader, &["runs"])), &["this token is not known here"]);
    for (until, why) in [("yesterday", "is not a valid day"), ("2020-01-01", "has passed"), ("9999w", "ten years")] {
        let refused = quay.kesmo(&["token", "add", "odd", "--role", "reader", "--until", until]);
        assert_says(&all_said(&refused), &[why]);
    }
}

#[test]
fn a_login_can_be_forgotten() {
    let quay = shared();
    let home = tempfile::tempdir().expect("a folder");
    let run = |words: &[&str]| {
        let mut command = quay.command(words);
        command.env("HOME", home.path());
        command.output().expect("it runs")
    };
    assert_says(&all_said(&run(&["logout"])), &["Nothing was saved"]);
    assert!(run(&["login", &quay.url]).status.success());
    let file = home.path().join(".config/kesmo/login.json");
    assert!(file.exists());
    assert_says(&all_said(&run(&["logout"])), &["Forgotten", "login.json"]);
    assert!(!file.exists());
}

#[test]
fn a_token_for_some_suites_does_nothing_that_is_about_others() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 1);
    let [gate, fares] = ["gate-north", "fares"].map(|name| quay.tap(name, "a", "echo ok - $t", ""));
    assert_eq!((quay.wait(&gate, &[]).0, quay.wait(&fares, &[]).0), (0, 0));
    let refused = quay.kesmo(&["token", "add", "chief", "--role", "admin", "--suite", "gate-*"]);
    assert_says(&all_said(&refused), &["admin is about the service as a whole"]);
    let refused = quay.kesmo(&["token", "add", "odd", "--role", "reader", "--suite", "gate-[*"]);
    assert_says(&all_said(&refused), &["--suite \"gate-[*\""]);
    let token = quay.kesmo(&["token", "add", "ci", "--role", "operator", "--suite", "gate-*", "--suite", "berths"]);
    let token = text(&token.stdout).trim().to_owned();
    assert_says(&all_said(&quay.kesmo(&["token", "list"])), &["ci", "operator", "gate-*, berths"]);
    let says = |words: &[&str], status: i32, said: &str| {
        let output = quay.kesmo_as(&token, words);
        assert_eq!(output.status.code(), Some(status), "{words:?}: {}", all_said(&output));
        assert_says(&all_said(&output), &[said]);
    };
    let [gate, fares] = [gate, fares].map(|folder| folder.display().to_string());
    says(&["start", &gate, "--wait", "--report", "junit=gate.xml"], 0, "passed");
    says(&["runs", "--suite", "gate-north"], 0, "gate-north/2");
    says(&["show", "gate-north/1"], 0, "passed");
    let none = "the token ci is for the suites gate-*, berths only: fares is none of them";
    says(&["start", &fares], 12, none);
    says(&["show", "fares/1"], 12, none);
    says(&["runs", "--suite", "fares"], 12, none);
    says(&["stop", "fares/1"], 12, none);
    says(&["pool", "list"], 12, "this is about more than one");
    // Of what is near a name that there is none of, others' is not told.
    let misspelt = ["start", "--brief", "fares-of-the-morninx"];
    let made = quay.kesmo(&["brief", "add", "fares-of-the-morning", "--suite", "fares"]);
    assert!(made.status.success(), "{}", all_said(&made));
    assert_says(&all_said(&quay.kesmo(&misspelt)), &["did you mean \"fares-of-the-morning\"?"]);
    let output = quay.kesmo_as(&token, &misspelt);
    assert_says(&all_said(&output), &["there is no brief named \"fares-of-the-morninx\""]);
    assert!(!all_said(&output).contains("did you mean"), "{}", all_said(&output));
    let runs = quay.kesmo_as(&token, &["runs", "--json"]);
    let runs: serde_json::Value = serde_json::from_slice(&runs.stdout).expect("runs");
    assert_eq!(runs.as_array().map(Vec::len), Some(2), "{runs}");
    let suites = quay.kesmo_as(&token, &["suite", "list"]);
    assert!(!all_said(&suites).contains("fares"), "{}", all_said(&suites));
    assert_eq!(quay.json(&["runs", "--suite", "fares"]).as_array().map(Vec::len), Some(1), "nothing was started");
    // Whatever is not known to be about one suite is refused: also what comes later.
    let bearer = format!("Bearer {}", quay.token());
    let (_, document, _) = call(&quay, "GET", "/api/openapi.json", &[("Authorization", &bearer)], b"");
    let document: serde_json::Value = serde_json::from_str(&document).expect("the document");
    let open = [
        "/api/me",
        "/api/provider",
        "/api/report-schema",
        "/api/suites",
        "/api/health",
        "/api/ready",
        "/api/blobs/{digest}",
        // These tell of the token's suites alone, and of no one by itself that is not of them.
        "/api/briefs",
        "/api/briefs/{name}",
        "/api/calendar",
        "/api/failing",
        "/api/flaky",
        "/api/live",
        "/api/parks",
        "/api/polls",
        "/api/queue",
        "/api/runs",
        "/api/schedules",
        "/api/schedules/{name}",
        "/api/sessions",
        "/api/workers",
    ];
    let limited = format!("Bearer {token}");
    let mut tried = 0;
    for (path, item) in document["paths"].as_object().expect("paths") {
        let about_all = item.get("get").is_some() && path.starts_with("/api/") && !path.contains("{suite}");
        if about_all && !open.contains(&path.as_str()) {
            let path = path.replace("{name}", "x").replace("{id}", "1").replace("{number}", "1");
            let (status, said, _) = call(&quay, "GET", &path, &[("Authorization", &limited)], b"");
            assert_eq!(status, 403, "{path}: {said}");
            tried += 1;
        }
    }
    assert!(tried > 15, "{tried}");
}

#[test]
fn a_workers_token_may_be_for_some_pools_only() {
    let quay = shared();
    let add = |words: &[&str]| quay.kesmo(&[&["token", "add"], words].concat());
    assert_says(&all_said(&add(&["deck", "--role", "reader", "--pool", "deck-*"])), &["--pool limits workers"]);
    assert_says(&all_said(&add(&["deck", "--role", "worker", "--pool", "deck-["])), &["--pool \"deck-[\""]);
    let made = add(&["deck", "--role", "worker", "--pool", "deck-*", "--pool", "mast"]);
    let file = quay.path("deck-token");
    std::fs::write(&file, text(&made.stdout).trim()).expect("it is kept");
    assert_says(&all_said(&quay.kesmo(&["token", "list"])), &["deck", "pools deck-*, mast"]);
    let worker = |pool: &str| {
        let home = quay.path("deck-home");
        let mut command = quay.command(&["worker", "--name", "deck-hand", "--pool", pool, "--slots", "1"]);
        command.arg("--home").arg(home).arg("--token-file").arg(&file).env_remove("KESMO_TOKEN");
        command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
        command
    };
    for pool in ["default", "deck", "mast-2"] {
        let said = all_said(&worker(pool).output().expect("it runs"));
        let why =
            format!("the token deck is for workers of deck-*, mast alone, and this worker comes to the pool {pool}");
        assert_says(&said, &[&why]);
    }
    let taken = crate::quay::Process(crate::quay::spawn(worker("deck-2")));
    crate::quay::until("it is taken", || text(&quay.kesmo(&["workers"]).stdout).contains("deck-hand").then_some(()));
    drop(taken);
    assert!(quay.kesmo(&["token", "remove", "deck"]).status.success());
}
