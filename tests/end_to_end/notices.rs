//! Notices: by mail over TLS, to addresses, chats and git hosts; once for each event, whoever dies.

use std::{collections::BTreeMap, fs, path::Path, process::Command, time::Duration};

use kesmo_core::{
    time::Timestamp,
    webhook::{Signed, read_secret, verify},
};
use serde_json::Value;

use crate::quay::{Clock, Process, Quay, all_said, assert_says, stand_in_saying, text, until};

/// The post room, which takes mail and what is posted.
struct Room {
    _process: Process,
    web: String,
    mail: String,
}

impl Room {
    fn open(words: &[&str]) -> Self {
        let (process, said) = stand_in_saying("post-room", words);
        let (web, mail) = said.split_once(' ').expect("two addresses");
        Self { _process: process, web: web.to_owned(), mail: mail.to_owned() }
    }

    fn trouble(&self, kind: &str, times: u32, about: &str) {
        let body = serde_json::json!({ "kind": kind, "times": times, "about": about }).to_string();
        let url = format!("{}/trouble", self.web);
        let put = Command::new("curl").args(["-sf", "-X", "PUT", "-d", &body, &url]).output();
        assert!(put.expect("curl runs").status.success(), "{kind}");
    }

    fn arrived(&self) -> Vec<Value> {
        let got = Command::new("curl").args(["-sf", &format!("{}/arrived", self.web)]).output().expect("curl runs");
        serde_json::from_slice(&got.stdout).expect("JSON")
    }

    /// Waits until so many have arrived, and some time for one more that should not.
    fn arrive(&self, many: usize) -> Vec<Value> {
        until(&format!("{many} arrive"), || Some(self.arrived()).filter(|a| a.len() >= many));
        std::thread::sleep(Duration::from_millis(1200));
        let all = self.arrived();
        assert_eq!(
            all.len(),
            many,
            "{:#?}",
            all.iter().map(|a| (&a["subject"], &a["to"], &a["body"])).collect::<Vec<_>>()
        );
        all
    }
}

/// A suite of the tests a and b, of which those fail that the file `broken` names, and say what it says: in one piece, as a result does not wait
/// long for its message on a busy machine.
fn gate(quay: &Quay) -> std::path::PathBuf {
    let script = "if [ \"$1\" = --names ]; then printf 'a\\nb\\n'; exit; fi
for t in \"$@\"; do m=$(grep \"^$t \" broken | cut -d' ' -f2-); if [ -n \"$m\" ]; then printf 'not ok - %s\\n  ---\\n  message: %s\\n  ...\\n' \"$t\" \"$m\"; else echo \"ok - $t\"; fi; done";
    let folder = quay.suite("gate", "tap", script, "[retry]\ntimes = 0");
    fs::write(folder.join("broken"), "").expect("a file");
    folder
}

fn break_with(folder: &Path, text: &str) {
    fs::write(folder.join("broken"), text).expect("a file");
}

fn add(quay: &Quay, words: &[&str]) -> String {
    let mut all = vec!["notice", "add"];
    all.extend(words);
    let made = quay.kesmo(&all);
    assert!(made.status.success(), "{}", all_said(&made));
    text(&made.stdout).trim().to_owned()
}

fn refused(quay: &Quay, words: &[&str]) -> String {
    let mut all = vec!["notice", "add"];
    all.extend(words);
    let made = quay.kesmo(&all);
    assert!(!made.status.success(), "{}", all_said(&made));
    all_said(&made)
}

/// The states of a notice's messages, newest first.
fn states(quay: &Quay, name: &str) -> Vec<String> {
    let found = quay.json(&["notice", "show", name]);
    found["messages"]
        .as_array()
        .expect("messages")
        .iter()
        .map(|m| m["state"].as_str().expect("a state").to_owned())
        .collect()
}

#[test]
fn what_breaks_is_mailed_over_tls_once_for_its_cause_and_what_is_mended_too() {
    let dir = tempfile::tempdir().expect("a folder");
    let file = |name: &str, content: &str| {
        let path = dir.path().join(name);
        fs::write(&path, content).expect("a file");
        path.display().to_string()
    };
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
    let (ca, key) = (file("ca.pem", &made.cert.pem()), file("key.pem", &made.signing_key.serialize_pem()));
    let password = file("password", "s3cret\n");
    let room = Room::open(&["--tls", &ca, &key, "--user", "crew", "--password-file", &password]);
    let port = room.mail.rsplit(':').next().expect("a port");
    let server = format!("smtp://crew@localhost:{port}");
    let options = [
        "--mail-server",
        &server,
        "--mail-from",
        "Kesmo <kesmo@quay.example>",
        "--mail-password-file",
        &password,
        "--notice-ca",
        &ca,
    ];
    let quay = Quay::with_options(&options);
    let _worker = quay.worker("heron", 2);
    let folder = gate(&quay);
    let both = ["--mail", "ada@quay.example", "--mail", "bo@quay.example"];
    add(&quay, &[&["red", "--when", "failed", "--when", "mended", "--suite", "ga*"], &both[..]].concat());
    let tried = quay.kesmo(&["notice", "try", "red"]);
    assert_says(&all_said(&tried), &["The sample is sent: the mail server took it for 2 addresses"]);
    let samples = room.arrive(2);
    assert_eq!((&samples[0]["tls"], &samples[0]["user"]), (&true.into(), &"crew".into()));
    assert_says(samples[0]["text"].as_str().expect("a text"), &["this is a sample"]);
    assert_eq!(samples[0]["id"], samples[1]["id"], "the same message");

    assert_eq!(quay.wait(&folder, &[]).0, 0);
    // One of the two is refused for good, and keeps the other from nothing.
    room.trouble("mail-refused", 1, "ada@quay.example");
    break_with(&folder, "a no answer after 3 s\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let first = room.arrive(3).pop().expect("a mail");
    assert_eq!(
        (&first["to"][0], &first["subject"]),
        (&"bo@quay.example".into(), &"◆ gate/2 failed: 1 of 2 tests, 1 newly".into())
    );
    assert_says(
        first["text"].as_str().expect("a text"),
        &["Newly failing against gate/1", "1 test: no answer after 3 s", &format!("{}/runs/gate/2", quay.url)],
    );
    assert_eq!(first["headers"]["auto-submitted"], "auto-generated");
    let shown = all_said(&quay.kesmo(&["notice", "show", "red"]));
    assert_says(&shown, &["took it for 1, and refused ada@quay.example", "nobody here is called ada@quay.example"]);

    // The same cause with other numbers, and in a run of one test: told already.
    break_with(&folder, "a no answer after 31 s\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    assert_eq!(quay.wait(&folder, &["--pick", "a"]).0, 1);
    let shown = until("both are held", || {
        let shown = all_said(&quay.kesmo(&["notice", "show", "red"]));
        (shown.matches("told before, and not passed since").count() == 2).then_some(shown)
    });
    assert_says(&shown, &["gate/3 failed", "gate/4 failed", "no answer after 31 s"]);
    // Another cause is news. One address takes it later, and the other not twice.
    room.trouble("mail-later", 1, "bo@quay.example");
    break_with(&folder, "a no answer after 3 s\nb the wrong fare\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let told: Vec<String> = room.arrive(5)[3..].iter().map(|m| m["to"][0].as_str().expect("one").to_owned()).collect();
    assert_eq!(told, ["ada@quay.example", "bo@quay.example"]);
    assert_eq!(quay.json(&["notice", "show", "red"])["messages"][0]["tries"], 2);
    // What passes is mended, and what fails then is news again, also for the same cause.
    break_with(&folder, "");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let mended = room.arrive(7).pop().expect("a mail");
    assert_eq!(mended["subject"], "● gate/6 passed: 2 tests, 2 mended");
    break_with(&folder, "a no answer after 3 s\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    room.arrive(9);
    // A server that takes the mail and does not say so may be sent it twice: under the same id.
    break_with(&folder, "b a gull sits on the line\n");
    room.trouble("mail-drop", 1, "");
    assert_eq!(quay.wait(&folder, &["--pick", "b"]).0, 1);
    let all = room.arrive(12);
    let ids: Vec<&Value> = all[9..].iter().map(|m| &m["id"]).collect();
    assert!(ids.iter().all(|id| *id == ids[0]), "{ids:?}");
    // Without STARTTLS nothing is said: it is tried again.
    room.trouble("mail-bare", 2, "");
    let tried = quay.kesmo(&["notice", "try", "red"]);
    assert!(!tried.status.success());
    assert_says(&all_said(&tried), &["the sample did not get through", "ada@quay.example"]);
    assert_eq!(room.arrived().len(), 12, "nothing went out in clear");
    let states = states(&quay, "red");
    assert_eq!(states.iter().filter(|s| *s == "given-up").count(), 1, "{states:?}");
}

/// Checks that what arrived is signed with that secret, and is a CloudEvent; its id and the event.
fn genuine(arrived: &Value, secret: &str) -> (String, Value) {
    let header = |name: &str| arrived["headers"][name].as_str();
    let signed = Signed {
        id: header("webhook-id"),
        timestamp: header("webhook-timestamp"),
        signature: header("webhook-signature"),
    };
    let body = arrived["body"].as_str().expect("a body");
    let id =
        verify(&read_secret(secret).expect("a secret"), signed, body.as_bytes(), Timestamp::from(chrono::Utc::now()));
    let event: Value = serde_json::from_str(body).expect("JSON");
    assert_eq!((&event["specversion"], header("content-type")), (&"1.0".into(), Some("application/cloudevents+json")));
    let id = id.expect("it is signed").to_owned();
    assert_eq!(event["id"], id);
    (id, event)
}

#[test]
fn each_event_is_posted_once_signed_whatever_its_receiver_or_the_service_does() {
    let room = Room::open(&[]);
    let mut quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = gate(&quay);
    let to = format!("{}/told", room.web);
    let secret = add(&quay, &["all", "--when", "passed", "--when", "failed", "--every-time", "--http", &to]);
    assert!(secret.starts_with("whsec_"), "{secret}");
    assert_eq!(quay.wait(&folder, &["--label", "release=1187"]).0, 0);
    let (_, event) = genuine(&room.arrive(1)[0], &secret);
    assert_eq!(
        (&event["type"], &event["subject"], &event["data"]["labels"]["release"]),
        (&"kesmo.run.ended".into(), &"gate/1".into(), &"1187".into())
    );
    // It is busy twice, and is sent it again until it takes it.
    room.trouble("busy", 2, "");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    room.arrive(2);
    let found = quay.json(&["notice", "show", "all"]);
    assert_eq!(
        (&found["messages"][0]["tries"], &found["messages"][0]["said"]),
        (&3.into(), &"answered 200 OK: {\"taken\": true}".into())
    );
    // Where it leads elsewhere nothing is sent: that could be an address of the service's own network.
    room.trouble("elsewhere", 1, &format!("{}/inner", room.web));
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    assert!(room.arrive(3).iter().all(|a| a["path"] == "/told"));
    // It takes it, and the service is killed before it hears of that: it comes again, under the same id.
    room.trouble("slow", 1, "");
    break_with(&folder, "a late\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    until("it is being sent", || (states(&quay, "all")[0] == "trying").then_some(()));
    quay.kill_service();
    quay.start();
    // Whoever held it is waited for; here nobody is left to wait for.
    until("a try is known", || {
        quay.sql("select count(*) from notice_deliveries where held_until is not null")
            .trim()
            .parse::<u32>()
            .ok()
            .filter(|n| *n == 1)
    });
    quay.sql("update notice_deliveries set held_until = now() where held_until is not null");
    let ids: Vec<String> = until("it comes", || Some(room.arrived()).filter(|a| a.len() >= 4))[3..]
        .iter()
        .map(|a| genuine(a, &secret).0)
        .collect();
    assert!(ids.iter().all(|id| *id == ids[0]), "{ids:?}");
    // Whoever wants no more says so, and it is told that it was given up; by hand it goes out again.
    room.trouble("gone", 1, "");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    until("it is given up", || (states(&quay, "all")[0] == "given-up").then_some(()));
    let said = all_said(&quay.kesmo(&["notice", "list"]));
    assert_says(&said, &["1 given up", "all: its last message was given up"]);
    let number = quay.json(&["notice", "show", "all"])["messages"][0]["number"].to_string();
    assert!(quay.kesmo(&["notice", "again", "all", &number]).status.success());
    until("it arrived", || (states(&quay, "all")[0] == "sent").then_some(()));
    // Each run was told of once.
    let mut runs: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for arrived in room.arrived() {
        let (id, event) = genuine(&arrived, &secret);
        runs.entry(event["subject"].as_str().expect("a run").to_owned()).or_default().push(id);
    }
    runs.values_mut().for_each(Vec::dedup);
    assert_eq!(runs.len(), 5);
    assert!(runs.values().all(|ids| ids.len() == 1), "{runs:?}");
    // A new secret signs from then on; while it pauses nothing is told, also not later.
    let output = quay.kesmo(&["notice", "new-secret", "all"]);
    let new = text(&output.stdout).trim().to_owned();
    assert_ne!(new, secret);
    assert!(quay.kesmo(&["notice", "pause", "all"]).status.success());
    let before = room.arrived().len();
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    until("it was passed over", || (quay.sql("select count(*) from unnoticed") == "0").then_some(()));
    assert!(quay.kesmo(&["notice", "resume", "all"]).status.success());
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let last = room.arrive(before + 1).pop().expect("one");
    assert_eq!(genuine(&last, &new).1["subject"], "gate/7");
}

#[test]
fn chats_and_git_hosts_are_told_as_their_descriptions_say_and_secrets_are_not_shown() {
    let room = Room::open(&[]);
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = gate(&quay);
    let describe = |name: &str, content: &str| {
        let path = quay.path(name);
        fs::write(&path, content).expect("a file");
        path.display().to_string()
    };
    let secret = describe("secret", "t0ken\n");
    let chat = describe(
        "chat.toml",
        &format!(
            "method = \"POST\"\naddress = \"{}/rooms/{{secret}}\"\nheaders = {{ x-title = \"{{title}}\" }}\nbody = {{ says = \"{{glyph}} {{title}}\", more = \"{{text}}\", link = \"{{link}}\" }}\n",
            room.web
        ),
    );
    let status = describe(
        "status.toml",
        &format!(
            "method = \"POST\"\naddress = \"{}/statuses/{{commit}}\"\nheaders = {{ authorization = \"Bearer {{secret}}\" }}\nbody = {{ state = \"{{verdict}}\", says = \"{{title}}\", link = \"{{link}}\", of = \"{{suite}}\" }}\n",
            room.web
        ),
    );
    // What cannot be is refused before anything is kept.
    let wrong = describe(
        "wrong.toml",
        "method = \"POST\"\naddress = \"http://chat.quay.example\"\nbody = { says = \"{titel}\" }\n",
    );
    assert_says(
        &refused(&quay, &["talk", "--when", "failed", "--chat", &wrong]),
        &["chat.body: {titel} stands for nothing here: did you mean {title}?"],
    );
    let wrong = describe("wrong.toml", "methd = \"POST\"\naddress = \"http://chat.quay.example\"\n");
    assert_says(
        &refused(&quay, &["talk", "--when", "failed", "--chat", &wrong]),
        &["wrong.toml", "unknown field `methd`"],
    );
    assert_says(
        &refused(&quay, &["talk", "--when", "failed", "--chat", &chat]),
        &["{secret} stands in the request", "--secret-file"],
    );
    assert_says(&refused(&quay, &["talk", "--when", "faild", "--chat", &chat]), &["did you mean \"failed\"?"]);
    assert_says(
        &refused(&quay, &["talk", "--when", "failed", "--mail", "a@quay.example"]),
        &["sends no mail", "--mail-server"],
    );
    assert_says(&refused(&quay, &["talk", "--when", "failed"]), &["--mail", "--chat"]);
    add(&quay, &["talk", "--when", "failed", "--chat", &chat, "--secret-file", &secret]);
    add(
        &quay,
        &[
            "commits",
            "--when",
            "failed",
            "--when",
            "passed",
            "--every-time",
            "--commit-status",
            &status,
            "--secret-file",
            &secret,
        ],
    );
    let again = refused(&quay, &["talk", "--when", "failed", "--chat", &chat, "--secret-file", &secret]);
    assert_says(&again, &["there is a notice named talk already", "--replace"]);
    break_with(&folder, "a said: \"<b>\" {run} and\\nmore\n");
    let commit = "c0ffee".repeat(6) + "c0ff";
    assert_eq!(quay.wait(&folder, &["--commit", &commit, "--branch", "main"]).0, 1);
    let all = room.arrive(2);
    let of = |path: &str| all.iter().find(|a| a["path"] == path).unwrap_or_else(|| panic!("{path}: {all:#?}"));
    let chat_body: Value = serde_json::from_str(of("/rooms/t0ken")["body"].as_str().expect("a body")).expect("JSON");
    assert_eq!(chat_body["says"], "◆ gate/1 failed: 1 of 2 tests, 1 newly");
    assert_says(chat_body["more"].as_str().expect("a text"), &["\"<b>\" {run}"]);
    let of_commit = of(&format!("/statuses/{commit}"));
    assert_eq!(of_commit["headers"]["authorization"], "Bearer t0ken");
    let body: Value = serde_json::from_str(of_commit["body"].as_str().expect("a body")).expect("JSON");
    assert_eq!((&body["state"], &body["of"]), (&"failed".into(), &"gate".into()));
    // A run without a commit has no status that could be set, and the same cause on no branch is news to the chat.
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    assert_eq!(room.arrive(3)[2]["path"], "/rooms/t0ken");
    // An answer that repeats the secret is not shown with it.
    quay.sql("update notices set secret = 'taken' where name = 'talk'");
    assert_eq!(quay.kesmo(&["notice", "try", "talk"]).status.code(), Some(0));
    let newest = quay.json(&["notice", "show", "talk"])["messages"][0].clone();
    assert_eq!((&newest["sample"], &newest["said"]), (&true.into(), &"answered 200 OK: {\"…\": true}".into()));
    // Readers see that there is one and where it leads, and neither its path nor its secret; they change nothing.
    let reader = quay.kesmo(&["token", "add", "looker", "--role", "reader"]);
    let reader = text(&reader.stdout).trim().to_owned();
    let seen = all_said(&quay.kesmo_as(&reader, &["notice", "show", "talk", "--json"]));
    assert!(seen.contains("/…") && !seen.contains("rooms") && !seen.contains("\"notice\""), "{seen}");
    for words in [["notice", "try", "talk"], ["notice", "remove", "talk"], ["notice", "pause", "talk"]] {
        assert_says(&all_said(&quay.kesmo_as(&reader, &words)), &["lacks the right to keep the service"]);
    }
    // A secret goes nowhere else than where it was given for.
    let moved = describe("moved.toml", "method = \"POST\"\naddress = \"http://127.0.0.1:9/{secret}\"\n");
    let words = ["talk", "--when", "failed", "--chat", &moved, "--replace"];
    assert_says(&refused(&quay, &words), &["{secret} stands in the request"]);
    assert_says(
        &all_said(&quay.kesmo(&["notice", "show", "tlak"])),
        &["there is no notice named \"tlak\"", "did you mean \"talk\"?"],
    );
    assert!(quay.kesmo(&["notice", "remove", "talk"]).status.success());
}

#[test]
fn what_does_not_start_waits_or_wobbles_is_told_and_digests_gather() {
    let room = Room::open(&[]);
    let mut clock = None;
    let quay = Quay::with_options_in(|dir| {
        let made = clock.insert(Clock::new(dir.join("clock"), "2026-11-27T08:00:00Z"));
        vec!["--clock".into(), made.path.display().to_string()]
    });
    let clock = clock.expect("it was made");
    let to = format!("{}/told", room.web);
    add(&quay, &["waits", "--when", "no-worker 1s", "--http", &to]);
    let folder = gate(&quay);
    let run = quay.start_run(&folder, &[]);
    let told =
        |arrived: &Value| -> Value { serde_json::from_str(arrived["body"].as_str().expect("a body")).expect("JSON") };
    let first = told(&room.arrive(1)[0]);
    assert_eq!((&first["type"], &first["subject"]), (&"kesmo.run.no-worker".into(), &run.into()));
    let worker = quay.worker("heron", 2);
    assert_eq!(quay.kesmo(&["watch", "gate/1"]).status.code(), Some(0));
    assert!(quay.kesmo(&["notice", "remove", "waits"]).status.success());
    // Flaky tests, over a share; what takes longer than it should.
    let flaky = quay.tap("wobbly", "a b c d", "n=$(cat seen-$t 2>/dev/null || echo 0); echo $((n+1)) > seen-$t; if [ $t = a ] && [ $n = 0 ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi", "[retry]\ntimes = 1");
    add(&quay, &["wobbles", "--when", "flaky-over 20%", "--http", &to]);
    let slow = quay.tap("slow", "a b c d e f", "sleep $(cat pace); echo \"ok - $t\"", "");
    fs::write(slow.join("pace"), "0.05").expect("a file");
    assert_eq!(quay.wait(&flaky, &["--shards", "1"]).0, 0);
    let second = told(&room.arrive(2)[1]);
    assert_eq!((&second["data"]["because"][0], &second["data"]["flaky"]), (&"flaky-over 20%".into(), &1.into()));
    add(&quay, &["slows", "--when", "slower-than 2x", "--when", "forecast-over 3s", "--suite", "slow", "--http", &to]);
    assert_eq!(quay.wait(&slow, &["--shards", "1"]).0, 0);
    fs::write(slow.join("pace"), "1.2").expect("a file");
    assert_eq!(quay.wait(&slow, &["--shards", "1"]).0, 0);
    let all = room.arrive(4);
    let mut kinds: Vec<String> =
        all[2..].iter().map(|a| told(a)["type"].as_str().expect("a type").to_owned()).collect();
    kinds.sort();
    assert_eq!(kinds, ["kesmo.run.ended", "kesmo.run.forecast-over"]);
    // A planned start that cannot be, gathered with another into one message.
    add(&quay, &["missed", "--when", "schedule-missed", "--when", "passed", "--digest", "4s", "--http", &to]);
    let brief = quay.kesmo(&["brief", "add", "nightly", "--suite", "gate", "--pick", "a"]);
    assert!(brief.status.success(), "{}", all_said(&brief));
    let made = quay.kesmo(&["schedule", "add", "nightly", "--cron", "0 9 * * *", "--brief", "nightly"]);
    assert!(made.status.success(), "{}", all_said(&made));
    quay.sql("update briefs set brief = jsonb_set(brief, '{suite}', '\"nowhere\"')");
    clock.set("2026-11-27T09:00:01Z");
    until("it did not start", || (quay.sql("select what from planned_starts") == "refused").then_some(()));
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let digest = told(&room.arrive(5)[4]);
    assert_eq!(digest["type"], "kesmo.digest");
    let each: Vec<&Value> = digest["data"]["events"].as_array().expect("events").iter().map(|e| &e["type"]).collect();
    assert_eq!(each, ["kesmo.schedule.missed", "kesmo.run.ended"]);
    drop(worker);
}

#[test]
fn of_two_services_one_tells_of_each_event() {
    let room = Room::open(&[]);
    let one = Quay::open();
    let clock = Clock::new(one.path("clock"), "2026-11-27T08:00:00Z");
    let other = Quay::sharing("2s", &one.database(), &one.path("service/blobs"), &clock);
    let _worker = one.worker("heron", 4);
    let folder = gate(&one);
    let secret = add(&one, &["all", "--when", "passed", "--http", &format!("{}/told", room.web)]);
    assert_eq!(one.wait(&folder, &[]).0, 0);
    let runs: Vec<String> = (0..20).map(|_| one.start_run(&folder, &[])).collect();
    for run in &runs {
        assert_eq!(one.kesmo(&["watch", run]).status.code(), Some(0));
    }
    let mut subjects: Vec<String> =
        room.arrive(21).iter().map(|a| genuine(a, &secret).1["subject"].to_string()).collect();
    subjects.sort();
    subjects.dedup();
    assert_eq!(subjects.len(), 21, "each once");
    assert!(other.is_up());
}

#[tokio::test(flavor = "multi_thread")]
async fn notices_have_their_pages_and_what_does_not_get_through_needs_attention() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let room = Room::open(&[]);
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = gate(&quay);
    let page = crate::console::browser(1280, 900).await;
    let url = &quay.url;
    page.client.goto(&format!("{url}/#token={}", quay.token())).await.expect("the page opens");
    page.shows(&["Nothing has run yet"]).await;
    let open = async |path: &str| page.client.goto(&format!("{url}{path}")).await.expect("the page opens");
    open("/notices").await;
    page.shows(&["Nobody is told anything yet", "kesmo notice add"]).await;
    add(
        &quay,
        &[
            "told",
            "--when",
            "failed",
            "--when",
            "flaky-over 5%",
            "--suite",
            "gate",
            "--http",
            &format!("{}/told", room.web),
        ],
    );
    page.shows(&["1 notice", "failed, flaky-over 5%", "suite gate", "0 sent"]).await;
    page.click("//a[text()='told']").await;
    page.shows(&["Nothing was sent yet", "at once"]).await;
    page.click("//button[text()='Send a sample']").await;
    page.shows(&["● The sample is sent: answered 200 OK", "sent (sample)"]).await;
    break_with(&folder, "a no answer\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    page.shows(&["◆ gate/1 failed: 1 of 2 tests", "Not sent", "told before, and not passed since: no answer"]).await;
    page.click("//button[contains(text(), 'gate/1 failed')]").await;
    page.shows(&["Newly failing", "1 test: no answer", "You are told by the notice told (failed)"]).await;
    page.click("//button[text()='Pause']").await;
    page.shows(&["It is paused"]).await;
    page.click("//button[text()='Go on']").await;
    until("it goes on", || (quay.json(&["notice", "show", "told"])["paused"] == false).then_some(()));
    room.trouble("gone", 1, "");
    break_with(&folder, "a another cause\n");
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    page.shows(&["given up", "answered 410 Gone"]).await;
    open("/").await;
    page.shows(&["Needs attention", "notice told", "does not get through: its last message was given up"]).await;
    open("/notices/told").await;
    page.click("//button[starts-with(@aria-label, 'Send ') and text()='Send again']").await;
    until("it was sent again", || (!states(&quay, "told").contains(&"given-up".to_owned())).then_some(()));
    // Changed, removed and made anew in a form.
    page.click("//button[text()='Change']").await;
    page.click("//label[text()='mended']").await;
    page.types("notice-branches", "main").await;
    page.click("//button[text()='Change it']").await;
    page.shows(&["of suite gate, branch main when failed, mended, flaky-over 5%"]).await;
    page.click("//button[text()='Remove']").await;
    page.shows(&["Nobody is told anything yet"]).await;
    page.click("//button[text()='Make a notice']").await;
    page.types("notice-name", "crew").await;
    page.types("notice-mail", "no address").await;
    page.click("//button[text()='Make it']").await;
    page.shows(&["no address"]).await;
    let kind = "//select[@id='notice-kind']/option[@value='http']";
    page.click(kind).await;
    page.types("notice-http", &format!("{}/crew", room.web)).await;
    page.click("//button[text()='Make it']").await;
    page.shows(&["It is shown this once"]).await;
    let made = quay.json(&["notice", "show", "crew"]);
    assert_eq!(made["when"], serde_json::json!(["newly-failing", "mended"]));
    page.client.clone().close().await.expect("the browser ends");
}
