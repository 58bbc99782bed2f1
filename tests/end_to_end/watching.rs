//! Watching: several runs at once, output followed as it is printed, workers drained, and the console through a live run.

use std::{
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    path::Path,
    process::{Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use fantoccini::Locator;
use serde_json::{Value, json};

use crate::{
    console::browser,
    quay::{KESMO, Process, Quay, all_said, assert_says, shared, text, until},
};

fn folder(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

#[test]
fn several_runs_are_watched_together_and_the_worst_gives_the_status() {
    let quay = shared();
    // They go on once both are seen to be watched.
    let mark = quay.path("watched-mark");
    let body = |result: &str| format!("while [ ! -e {} ]; do sleep 0.05; done; echo \"{result} - $t\"", mark.display());
    let good = quay.start_run(&quay.tap("fair", "gate/a gate/b", &body("ok"), ""), &[]);
    let bad = quay.start_run(&quay.tap("foul", "gate/a gate/b", &body("not ok"), ""), &[]);
    let told = quay.path("watched-told");
    let mut watching = quay.command(&["watch", &good, &bad, "--refresh", "100ms"]);
    let file = std::fs::File::create(&told).expect("a file");
    let watching = watching.stdout(file).stderr(std::process::Stdio::piped()).spawn().expect("the program");
    until("both are watched", || {
        let said = std::fs::read_to_string(&told).unwrap_or_default();
        (said.contains(&good) && said.contains(&bad)).then_some(())
    });
    std::fs::write(&mark, "").expect("the mark");
    let mut watched = watching.wait_with_output().expect("it ends");
    watched.stdout = std::fs::read(&told).expect("what it told");
    let said = all_said(&watched);
    assert_eq!(watched.status.code(), Some(1), "{said}");
    assert_says(
        &said,
        &["● passed  fair/1", "◆ failed  foul/1", "foul/1: ◆ gate/a  failed", "kesmo again foul/1 --not-passed"],
    );
    let both = quay.kesmo(&["watch", &good, &bad, "--json"]);
    assert_eq!(both.status.code(), Some(1));
    for line in text(&both.stdout).lines() {
        let event: Value = serde_json::from_str(line).expect("a line is an event");
        assert!([json!(good), json!(bad)].contains(&event["run"]), "{line}");
    }
    let missing = quay.kesmo(&["watch", &good, "fair/99"]);
    assert_eq!(missing.status.code(), Some(2));
    assert_says(&all_said(&missing), &["there is no run fair/99"]);
    let none = quay.kesmo(&["watch"]);
    assert_eq!(none.status.code(), Some(2), "nothing to watch is a wrong call");
}

#[test]
fn what_a_running_test_prints_is_followed_from_its_beginning_over_its_retries() {
    let quay = shared();
    let marks = quay.path("followed-marks");
    std::fs::create_dir_all(&marks).expect("a folder");
    let body = format!(
        r#"
if [ $t = gate/slow ]; then
    if [ -e {0}/once ]; then echo 'second try'; echo "ok - $t"; else
        touch {0}/once; echo 'the first line'; sleep 1.5; echo 'the last line'; printf 'not ok - %s\n# fog\n' $t
    fi
else echo "ok - $t"; fi"#,
        marks.display()
    );
    let suite = quay.tap("followed", "gate/quick gate/slow", &body, "[retry]\ntimes = 1");
    let run = quay.start_run(&suite, &[]);
    until("it has printed", || marks.join("once").exists().then_some(()));
    let since = Instant::now();
    let mut follow = Command::new(KESMO);
    follow.args(["log", &run, "gate/slow", "--follow"]).env("KESMO_URL", &quay.url).env("KESMO_TOKEN", quay.token());
    let mut follow = Process(follow.stdout(Stdio::piped()).stdin(Stdio::null()).spawn().expect("the program starts"));
    let mut out = follow.0.stdout.take().expect("its output");
    let mut heard = String::new();
    let mut first_heard = None;
    let mut buffer = [0; 4096];
    while let Ok(read) = out.read(&mut buffer) {
        if read == 0 {
            break;
        }
        heard += &text(&buffer[..read]);
        if heard.contains("the first line") {
            first_heard.get_or_insert_with(|| since.elapsed());
        }
    }
    assert_eq!(follow.wait(), 0, "{heard}");
    let ended = since.elapsed();
    let first = first_heard.expect("the first line came");
    assert!(first + Duration::from_millis(300) < ended, "it came while the test ran: {first:?} of {ended:?}");
    let place = |part: &str| heard.find(part).unwrap_or_else(|| panic!("no {part:?} in:\n{heard}"));
    let order =
        ["the first line", "the last line", "attempt 1: ◆ failed", "second try", "attempt 2: ● passed", "◐ flaky"];
    assert!(order.windows(2).all(|w| place(w[0]) < place(w[1])), "{heard}");
    assert_eq!(
        heard.matches("the first line").count(),
        1,
        "nothing comes twice, from memory and from the log:\n{heard}"
    );
    // Afterwards the same comes from what is kept.
    let again = quay.kesmo(&["log", &run, "gate/slow", "--follow"]);
    assert_eq!(text(&again.stdout), heard);
    let two = quay.tap("twice-seen", "gate/a", "echo \"ok - $t\"", "[facets]\nscreen = [\"phone\", \"desk\"]");
    assert_eq!(quay.wait(&two, &[]).0, 0);
    let which = quay.kesmo(&["log", "twice-seen/1", "gate/a", "--follow"]);
    assert_eq!(which.status.code(), Some(2));
    assert_says(&all_said(&which), &["--follow is for one entry", "--variant", "screen=desk"]);
}

#[test]
fn a_drained_worker_finishes_what_it_has_and_takes_nothing_new() {
    let mut quay = Quay::open();
    let _gull = quay.worker("gull", 1);
    let slow = quay.tap("steady", "gate/a", "sleep 1; echo \"ok - $t\"", "");
    let run = quay.start_run(&slow, &[]);
    until("it runs", || (quay.run(&run)["tally"]["running"] == 1).then_some(()));
    let drained = quay.kesmo(&["worker", "drain", "gull", "--wait"]);
    assert!(drained.status.success(), "{}", all_said(&drained));
    assert_says(&all_said(&drained), &["gull is drained", "kesmo worker drain gull --undo"]);
    assert_eq!(quay.run(&run)["verdict"], "passed", "what it had went on");
    let next = quay.start_run(&slow, &[]);
    let why = until("it waits and says why", || quay.run(&next)["waiting_for"].as_str().map(str::to_owned));
    assert_says(&why, &["gull takes nothing new", "kesmo worker drain gull --undo"]);
    assert_says(&all_said(&quay.kesmo(&["workers"])), &["gull", "drained"]);
    // A service that starts again is told by the worker itself.
    quay.kill_service();
    quay.start();
    until("the worker is back", || (quay.json(&["workers"])[0]["connected"] == true).then_some(()));
    assert_eq!(quay.json(&["workers"])[0]["draining"], true);
    assert_eq!(quay.run(&next)["tally"]["passed"], 0);
    assert!(quay.kesmo(&["worker", "drain", "gull", "--undo"]).status.success());
    assert_eq!(quay.kesmo(&["watch", &next]).status.code(), Some(0));
    let unknown = quay.kesmo(&["worker", "drain", "gul"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert_says(&all_said(&unknown), &["there is no worker \"gul\": here are gull"]);
}

#[test]
fn groups_slots_and_records_of_a_run_are_told() {
    let quay = shared();
    let body = "sleep 0.05; case $t in */bad) echo \"not ok - $t\";; *) echo \"ok - $t\";; esac";
    let suite = quay.tap("told", "gate/a gate/bad fares/a fares/b", body, "");
    assert_eq!(quay.wait(&suite, &[]).0, 1);
    assert_eq!(quay.wait(&suite, &["--pick", "gate/**"]).0, 1);
    let get = |path: &str| -> Value {
        let answer = Command::new("curl")
            .args(["-s", "-H", &format!("Authorization: Bearer {}", quay.token()), &format!("{}{path}", quay.url)])
            .output()
            .expect("curl runs");
        serde_json::from_slice(&answer.stdout).unwrap_or_else(|e| panic!("{path}: {e}: {}", all_said(&answer)))
    };
    let parts = get("/api/runs/told/1/parts");
    let told: Vec<(&str, u64, u64)> = parts
        .as_array()
        .expect("a list")
        .iter()
        .map(|p| {
            (
                p["name"].as_str().expect("a name"),
                p["tally"]["passed"].as_u64().expect("a number"),
                p["stats"]["failing"].as_u64().expect("a number"),
            )
        })
        .collect();
    assert_eq!(told, [("gate", 1, 1), ("fares", 2, 0)]);
    let groups = all_said(&quay.kesmo(&["show", "told/1", "--groups"]));
    assert_says(&groups, &["gate", "● 1  ◆ 1", "2 of 2", "50.0%", "95% under"]);
    let timeline = get("/api/runs/told/1/timeline");
    let blocks = timeline["blocks"].as_array().expect("blocks");
    assert_eq!(blocks.iter().map(|b| b["count"].as_u64().expect("a number")).sum::<u64>(), 4);
    assert!(timeline["busy"].as_f64().expect("a share") > 0.0);
    let lanes = timeline["lanes"].as_array().expect("lanes").len() as u64;
    assert!(
        blocks
            .iter()
            .all(|b| b["lane"].as_u64().expect("a lane") < lanes && b["to_us"].as_u64() > b["from_us"].as_u64())
    );
    assert_says(&get("/api/runs/told/1/timeline?from=9&to=3")["message"].to_string(), &["from=9 lies after to=3"]);
    let history = get("/api/suites/told/history?test=gate/bad");
    let record = &history["runs"];
    let runs: Vec<&str> = record.as_array().expect("a list").iter().filter_map(|r| r["run"].as_str()).collect();
    assert_eq!(runs, ["told/2", "told/1"], "the latest first, also where it has another place in the list");
    assert_eq!(record[0]["outcome"], "failed");
    assert_eq!(
        get("/api/suites/told/history?test=fares/a")["runs"].as_array().map(Vec::len),
        Some(1),
        "a run without it is left out"
    );
    assert_says(
        &get("/api/runs/told/1/entries?order=tallest")["message"].to_string(),
        &["not a valid order", "slowest"],
    );
    let listed = get("/api/runs/told/1/entries?order=listed");
    assert_eq!(listed["entries"][0]["test"], "gate/a");
}

/// Carries connections to a service, until they are cut; while it is down it takes none.
struct Between {
    url: String,
    up: Arc<AtomicBool>,
}

impl Between {
    fn open(to: &str) -> Self {
        let to = to.strip_prefix("http://").expect("an address").to_owned();
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let up = Arc::new(AtomicBool::new(true));
        let own = Arc::clone(&up);
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                if !own.load(Ordering::SeqCst) {
                    continue;
                }
                let Ok(far) = TcpStream::connect(&to) else { continue };
                for (mut from, mut into) in [(near.try_clone(), far.try_clone()), (Ok(far), Ok(near))]
                    .map(|(a, b)| (a.expect("a socket"), b.expect("a socket")))
                {
                    let up = Arc::clone(&own);
                    from.set_read_timeout(Some(Duration::from_millis(50))).expect("a timeout");
                    std::thread::spawn(move || {
                        let mut buffer = [0; 16 << 10];
                        while up.load(Ordering::SeqCst) {
                            match from.read(&mut buffer) {
                                Ok(0) => break,
                                Ok(read) if into.write_all(&buffer[..read]).is_err() => break,
                                Ok(_) => {}
                                Err(e)
                                    if matches!(
                                        e.kind(),
                                        std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut
                                    ) => {}
                                Err(_) => break,
                            }
                        }
                        for end in [from, into] {
                            if let Err(e) = end.shutdown(std::net::Shutdown::Both) {
                                // It was closed from the other side.
                                assert_eq!(e.kind(), std::io::ErrorKind::NotConnected);
                            }
                        }
                    });
                }
            }
        });
        Self { url, up }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_goes_through_a_live_run_with_failures_a_cut_and_a_stop() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = Quay::open();
    let _worker = quay.worker("gull", 6);
    let marks = quay.path("live-marks");
    std::fs::create_dir_all(&marks).expect("a folder");
    let body = format!(
        r#"
case $t in
    gate/bad) printf 'not ok - %s\n# expected Closed, got Boarding\n' $t ;;
    gate/shaky) if [ -e {0}/shaky ]; then echo "ok - $t"; else touch {0}/shaky; printf 'not ok - %s\n# no answer\n' $t; fi ;;
    gate/wait*) echo "waiting in $t"; while [ ! -e {0}/go ]; do sleep 0.1; done; echo "ok - $t" ;;
    gate/last*) sleep 600; echo "ok - $t" ;;
esac"#,
        marks.display()
    );
    let suite = quay.tap(
        "alive",
        "gate/bad gate/shaky gate/wait1 gate/wait2 gate/last1 gate/last2",
        &body,
        "[retry]\ntimes = 1\n[limits]\ntest = \"5m\"",
    );
    let between = Between::open(&quay.url);
    let page = browser(1280, 900).await;
    page.client.goto(&format!("{}/#token={}", between.url, quay.token())).await.expect("the link");
    page.shows(&["Nothing has run yet", "kesmo suite add FOLDER"]).await;
    assert!(quay.kesmo(&["suite", "add", &folder(&suite)]).status.success());
    let run = quay.start_run(&suite, &[]);
    assert_eq!(run, "alive/1");
    page.shows(&["1 run in progress", "alive/1", "of 6 slots busy"]).await;
    page.click("//a[text()='alive/1']").await;
    page.shows(&["gate/wait1", "1 failed", "1 flaky", "expected Closed, got Boarding", "failed so far"]).await;

    // What a running test prints is seen as it comes.
    page.click("//div[@role='row']//a[contains(.,'wait1')]").await;
    page.shows(&["Attempt 1 prints", "waiting in gate/wait1"]).await;
    page.click("//a[contains(.,'← alive/1')]").await;
    page.shows(&["gate/wait1", "1 failed"]).await;

    // The connection is cut: the page says so, keeps what it has, and goes on by itself.
    between.up.store(false, Ordering::SeqCst);
    page.shows(&["Connection lost; reconnecting. What is shown may be old.", "1 failed"]).await;
    std::fs::write(marks.join("go"), "").expect("a mark");
    until("the service goes on", || (quay.run(&run)["tally"]["passed"] == 2).then_some(()));
    between.up.store(true, Ordering::SeqCst);
    let since = Instant::now();
    while page.text().await.contains("Connection lost") {
        assert!(since.elapsed() < Duration::from_secs(60), "it goes on:\n{}", page.text().await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    page.shows(&["2 passed", "gate/last1", "2 running"]).await;

    // Stopped from the page.
    page.click("//button[contains(.,'Stop')]").await;
    page.shows(&["■ stopped", "stopped by first-admin", "2 not-run", "Slots over time", "Only what did not pass"])
        .await;

    // A run that does not exist, and a page that does not.
    page.client.goto(&format!("{}/runs/alive/99", quay.url)).await.expect("the page");
    page.client.goto(&format!("{}/runs/alive/99#token={}", quay.url, quay.token())).await.expect("the page");
    page.client.refresh().await.expect("the page");
    page.shows(&["here is no run alive/99", "runs of alive"]).await;
    page.client.goto(&format!("{}/nowhere", quay.url)).await.expect("the page");
    page.shows(&["There is no such page"]).await;

    // The session ends while the page is open: it says so, and lets in again.
    page.client.goto(&format!("{}/suites", quay.url)).await.expect("the page");
    page.shows(&["alive"]).await;
    page.client.delete_all_cookies().await.expect("no session");
    page.click("//a[text()='alive']").await;
    page.shows(&["Your session has ended", "Sign in"]).await;
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_a_test_says_acts_in_the_console() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let evil = "<img src=x onerror=window.caught=1><script>window.caught=1</script>";
    let script = format!(
        r#"
if [ "$1" = --names ]; then printf '%s\n' 'gate/{evil}' gate/turned; exit; fi
for t in "$@"; do
    printf '{evil}\033[31mred\033[0m\033]0;title\007 \342\200\256turned\n'
    head -c 10000 /dev/zero | tr '\0' 'x'; echo
    printf '{evil}' > "$KESMO_ARTIFACTS/{evil_file}.html"
    printf '<svg xmlns="http://www.w3.org/2000/svg" onload="window.caught=1"><script>window.caught=1</script></svg>' > "$KESMO_ARTIFACTS/shot.svg"
    printf 'not ok - %s\n# {evil} \342\200\256turned\n' "$t"
done
"#,
        evil_file = "<b onmouseover=window.caught=1>"
    );
    let suite = quay.suite("evil", "tap", &script, "");
    let (status, said) = quay.wait(&suite, &[]);
    assert_eq!(status, 1, "{said}");
    assert!(!said.contains('\x1b') && !said.contains('\u{202e}'), "{said:?}");
    let page = browser(1280, 900).await;
    page.client.goto(&format!("{}/runs/evil/1#token={}", quay.url, quay.token())).await.expect("the link");
    page.shows(&["◆ failed", "<img src=x onerror"]).await;
    let index = quay.entries("evil/1").iter().find(|e| e["test"] == "gate/turned").expect("the entry")["index"].clone();
    page.client.goto(&format!("{}/runs/evil/1/tests/{index}", quay.url)).await.expect("the entry");
    page.shows(&["<script>window.caught=1</script>", "xxxxxxxx", "red", "·turned"]).await;
    page.settled().await;
    let caught = page.client.execute("return window.caught ?? null", vec![]).await.expect("the page answers");
    assert_eq!(caught, Value::Null);
    let wide = "return document.documentElement.scrollWidth <= window.innerWidth";
    assert_eq!(page.client.execute(wide, vec![]).await.expect("the page answers"), json!(true), "it stays in its box");
    assert!(!page.text().await.contains('\u{202e}'));
    // An artifact that is opened is a page of its own, in which nothing runs.
    let file = page.client.find(Locator::Css(".files a[href^='/api/blobs/']")).await.expect("the file");
    let address = file.attr("href").await.expect("an address").expect("an address");
    page.client.goto(&format!("{}{address}", quay.url)).await.expect("the artifact");
    let origin =
        page.client.execute("return [window.caught ?? null, self.origin]", vec![]).await.expect("the page answers");
    assert_eq!(origin, json!([null, "null"]), "it has no part in the console's origin");
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_can_be_used_by_everyone() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let body = r#"
printf 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==' | base64 -d > "$KESMO_ARTIFACTS/shot.png"
printf '\033[31mred\033[32m green\033[33m yellow\033[34m blue\033[35m magenta\033[0m %s\n1\n2\n3\n4\n5\n6\n' $t
case $t in *late*) printf 'not ok - %s\n# expected Closed\n' $t ;; *) echo "ok - $t" ;; esac"#;
    let more = "[retry]\ntimes = 1\n[facets]\nscreen = [\"phone\", \"desk\"]\n[settings]\npassengers = 200";
    let suite = quay.tap("usable", "gate/a gate/late1 fares/late2 fares/b", body, more);
    assert!(quay.kesmo(&["suite", "add", &folder(&suite)]).status.success());
    for _ in 0..2 {
        assert_eq!(quay.kesmo(&["start", "usable", "--wait"]).status.code(), Some(1));
    }
    for words in [
        &["park", "usable", "gate/a", "--until", "2w", "--why", "fog"][..],
        &["brief", "add", "usable-brief", "--suite", "usable"],
        &["schedule", "add", "usable-nights", "--cron", "15 2 * * *", "--brief", "usable-brief"],
        &["webhook", "add", "usable-push", "--brief", "usable-brief", "--take", "commit=/commit"],
    ] {
        assert!(quay.kesmo(words).status.success(), "{words:?}");
    }
    let page = browser(1280, 900).await;
    page.client.goto(&quay.url).await.expect("the console");
    page.shows(&["Sign in"]).await;
    let check = include_str!("accessible.js");
    let mut wrong: Vec<String> = Vec::new();
    let late = quay.entries("usable/1").iter().find(|e| e["test"] == "gate/late1").expect("it")["index"].clone();
    for theme in ["light", "dark"] {
        page.client.goto(&format!("{}/#token={}", quay.url, quay.token())).await.expect("the link");
        page.shows(&["Just ended"]).await;
        let set = format!("localStorage.setItem('kesmo-theme', '{theme}')");
        page.client.execute(&set, vec![]).await.expect("the page answers");
        let pages = [
            ("/".to_owned(), vec!["Just ended", "usable/2"]),
            ("/runs".to_owned(), vec!["usable/2"]),
            ("/runs/usable/2".to_owned(), vec!["Slots over time", "Causes", "By group of names", "gate/late1"]),
            (format!("/runs/usable/1/tests/{late}"), vec!["Attempt 2:", "Pictures compared", "Of its last runs"]),
            ("/suites".to_owned(), vec!["usable"]),
            ("/suites/draft".to_owned(), vec!["A first suite file", "kesmo.toml", "ls tests/*.sh"]),
            ("/suites/usable".to_owned(), vec!["Over time", "Slowest", "fog", "slot-minutes"]),
            ("/workers".to_owned(), vec!["heron", "os=linux"]),
            ("/start?suite=usable".to_owned(), vec!["The same choice, to copy", "slot-minutes"]),
            ("/wall".to_owned(), vec!["usable"]),
            ("/briefs".to_owned(), vec!["usable-brief", "never run"]),
            ("/briefs/usable-brief".to_owned(), vec!["What it would run", "gate/late1", "Start as saved"]),
            ("/schedules".to_owned(), vec!["usable-nights", "This week", "at 02:15"]),
            ("/schedules/usable-nights".to_owned(), vec!["None was due yet", "Start now"]),
            ("/webhooks".to_owned(), vec!["usable-push", "nothing came yet"]),
            ("/webhooks/usable-push".to_owned(), vec!["Try a body", "commit=/commit"]),
            ("/queue".to_owned(), vec!["wait"]),
            ("/nowhere".to_owned(), vec!["There is no such page"]),
        ];
        for (at, shows) in pages {
            page.client.goto(&format!("{}{at}", quay.url)).await.expect("the page");
            page.shows(&shows).await;
            page.settled().await;
            let found = page.client.execute(check, vec![]).await.expect("the check runs");
            wrong.extend(
                found
                    .as_array()
                    .expect("a list")
                    .iter()
                    .map(|w| format!("{theme} {at}: {}", w.as_str().unwrap_or_default())),
            );
        }
    }
    assert!(wrong.is_empty(), "{} things are wrong:\n{}", wrong.len(), wrong.join("\n"));

    // By keyboard alone: `/` leads to the box, which finds a suite.
    page.client.goto(&format!("{}/runs", quay.url)).await.expect("the page");
    page.shows(&["usable/2"]).await;
    let body = page.client.find(Locator::Css("body")).await.expect("the page");
    body.send_keys("/").await.expect("typing");
    let active = page.client.active_element().await.expect("what has the keyboard");
    active.send_keys("usabl").await.expect("typing");
    active.send_keys("\u{e007}").await.expect("enter");
    page.shows(&["/ suites / usable"]).await;

    // The start form's brief starts the same run.
    page.client.goto(&format!("{}/start?suite=usable", quay.url)).await.expect("the form");
    page.shows(&["The same choice, to copy", "kesmo start usable --wait"]).await;
    for (field, typed) in
        [("pick", "fares/**"), ("labels", "release=1187"), ("retries", "0"), ("settings", "passengers=3")]
    {
        page.client.find(Locator::Id(field)).await.expect(field).send_keys(typed).await.expect("typing");
    }
    let line = "kesmo start usable --pick 'fares/**' --retries 0 --set passengers=3 --label release=1187 --wait";
    page.shows(&[line]).await;
    page.click("//button[text()='As a brief']").await;
    page.shows(&["pick = [\"fares/**\"]", "kesmo start --from FILE"]).await;
    let shown = page.client.find(Locator::Css("pre.command")).await.expect("the brief").text().await.expect("its text");
    let file = quay.path("brief.toml");
    std::fs::write(&file, shown).expect("the brief is kept");
    let started = quay.kesmo(&["start", "--from", &file.to_string_lossy(), "--wait"]);
    assert_eq!(started.status.code(), Some(1), "{}", all_said(&started));
    assert_says(&all_said(&started), &["4 of 8 tests: pick fares/**", "release=1187"]);
    page.client.clone().close().await.expect("the browser ends");
}

/// The program on a terminal of 80 by 24: what it draws is read, and keys are pressed.
struct Terminal {
    child: Process,
    screen: std::fs::File,
    seen: String,
}

impl Terminal {
    fn open(quay: &Quay, words: &[&str], more: &[(&str, &str)]) -> Self {
        use std::os::{
            fd::{AsRawFd, FromRawFd},
            unix::process::CommandExt,
        };
        let (mut near, mut far) = (0, 0);
        let size = libc::winsize { ws_row: 24, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 };
        // SAFETY: the places are local, and what is opened is owned by the files that are made of it.
        let (screen, end) = unsafe {
            let opened =
                libc::openpty(&raw mut near, &raw mut far, std::ptr::null_mut(), std::ptr::null(), &raw const size);
            assert_eq!(opened, 0, "a terminal");
            (std::fs::File::from_raw_fd(near), std::fs::File::from_raw_fd(far))
        };
        let mut command = Command::new(KESMO);
        command.args(words).env("KESMO_URL", &quay.url).env("KESMO_TOKEN", quay.token()).env("TERM", "xterm-256color");
        command.envs(more.iter().copied()).env_remove("COLORTERM");
        for stream in [Command::stdin, Command::stdout, Command::stderr] {
            stream(&mut command, Stdio::from(end.try_clone().expect("a copy")));
        }
        // SAFETY: only calls that are safe after fork are made: a session of its own, with this terminal.
        unsafe {
            command.pre_exec(|| {
                libc::setsid();
                libc::ioctl(0, libc::TIOCSCTTY, 0);
                Ok(())
            });
            libc::fcntl(screen.as_raw_fd(), libc::F_SETFL, libc::O_NONBLOCK);
        }
        let child = Process(command.spawn().expect("the program starts"));
        Self { child, screen, seen: String::new() }
    }

    fn read(&mut self) {
        let mut buffer = [0; 16 << 10];
        while let Ok(read @ 1..) = self.screen.read(&mut buffer) {
            self.seen += &text(&buffer[..read]);
        }
    }

    fn shows(&mut self, wanted: &str) {
        until(&format!("the terminal shows {wanted:?}"), || {
            self.read();
            self.seen.contains(wanted).then_some(())
        });
    }

    fn press(&mut self, key: &str) {
        self.seen.clear();
        self.screen.write_all(key.as_bytes()).expect("a key");
    }

    /// Whether the terminal shows what is typed, line by line, as a shell needs it.
    fn is_as_before(&self) -> bool {
        // SAFETY: the place is local, and the file is open.
        unsafe {
            let mut settings = std::mem::zeroed::<libc::termios>();
            libc::tcgetattr(std::os::fd::AsRawFd::as_raw_fd(&self.screen), &raw mut settings);
            settings.c_lflag & (libc::ICANON | libc::ECHO) == libc::ICANON | libc::ECHO
        }
    }

    fn ends(&mut self) -> i32 {
        let status = until("the program ends", || {
            self.read();
            self.child.0.try_wait().expect("it can be waited for")
        });
        self.read();
        status.code().unwrap_or(-1)
    }
}

#[test]
fn keys_leave_a_run_or_stop_it_and_the_terminal_is_as_it_was() {
    let quay = shared();
    let suite = quay.tap("keyed", "gate/a gate/b", "sleep 30; echo \"ok - $t\"", "");
    let run = quay.start_run(&suite, &[]);
    let mut left = Terminal::open(quay, &["watch", &run], &[("NO_COLOR", "1")]);
    left.shows("q leave it running   s stop it");
    left.shows("gate/a");
    assert!(!left.is_as_before(), "single keys are read");
    assert!(!left.seen.contains("\u{1b}[38"), "NO_COLOR is heeded");
    for line in left.seen.split(['\n', '\r']) {
        let plain: String = line.replace("\u{1b}[2K", "").replace("\u{1b}[J", "");
        assert!(plain.chars().filter(|c| !c.is_control()).count() <= 84, "a line fits: {plain:?}");
    }
    left.press("q");
    assert_eq!(left.ends(), 130, "{}", left.seen);
    assert_says(&left.seen, &["You left; keyed/1 goes on", "kesmo stop keyed/1"]);
    assert!(left.is_as_before());
    assert_eq!(quay.run(&run)["phase"], "running");

    let mut stopped = Terminal::open(quay, &["watch", &run], &[]);
    stopped.shows("s stop it");
    stopped.press("s");
    stopped.shows("Stop keyed/1 for everyone?");
    stopped.press("n");
    stopped.shows("q leave it running");
    assert_eq!(quay.run(&run)["phase"], "running", "no is no");
    stopped.press("s");
    stopped.shows("y: yes");
    stopped.press("y");
    assert_eq!(stopped.ends(), 11, "{}", stopped.seen);
    assert_says(&stopped.seen, &["stopped by first-admin"]);
    assert!(stopped.is_as_before());
}

#[test]
fn all_runs_are_watched_those_that_start_later_too() {
    let quay = Quay::open();
    let _worker = quay.worker("gull", 2);
    let mut all = Terminal::open(&quay, &["watch", "--all"], &[]);
    all.shows("Nothing runs. What starts is shown here.");
    let run = quay.start_run(&quay.tap("later", "gate/a", "sleep 1; echo \"ok - $t\"", ""), &[]);
    all.shows(&run);
    all.shows("● passed");
    all.press("q");
    assert_eq!(all.ends(), 130);
    assert_says(&all.seen, &["You left; nothing runs."]);
}
