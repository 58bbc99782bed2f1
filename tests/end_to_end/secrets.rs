//! Secrets: given to processes, read back by nobody, told nowhere.

use std::{fs, io::Write, process::Stdio};

use crate::quay::{Quay, all_said, assert_says, text, until};

const VALUE: &str = "sesame-of-the-gate/4&7";

fn add(quay: &Quay, words: &[&str], value: &str) -> std::process::Output {
    let mut add = quay.command(&[&["secret", "add"], words].concat());
    let mut add = add.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it runs");
    add.stdin.take().expect("its input").write_all(value.as_bytes()).expect("it reads");
    add.wait_with_output().expect("it ends")
}

/// Everything that the service has written anywhere, apart from its key.
fn kept(quay: &Quay) -> String {
    let mut all = quay.sql("select string_agg(t::text, ' ') from (select attempts::text as t from attempts union all select artifacts::text from artifacts union all select run_notes::text from run_notes union all select runs::text from runs union all select cases::text from cases union all select secrets::text from secrets union all select webhooks::text from webhooks) a");
    let mut folders = vec![quay.path("service/blobs")];
    while let Some(folder) = folders.pop() {
        for file in fs::read_dir(folder).into_iter().flatten().flatten() {
            if file.path().is_dir() {
                folders.push(file.path());
            } else {
                all += &String::from_utf8_lossy(&fs::read(file.path()).unwrap_or_default());
            }
        }
    }
    all + &fs::read_to_string(quay.path("service.log")).expect("the log")
        + &fs::read_to_string(quay.path("workers.log")).expect("the log")
}

#[test]
fn a_run_is_given_its_secrets_and_nothing_tells_them() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let script = format!(
        "if [ \"$1\" = --names ]; then test \"$GATE_PASSWORD\" = '{half}'\"$(printf %s '{rest}')\" || exit 3; echo says $GATE_PASSWORD >&2; echo a; echo b; exit; fi\n\
         exec 3>\"$KESMO_EVENTS\"; base=$(printf %s \"user:$GATE_PASSWORD\" | base64)\n\
         for t in \"$@\"; do printf '{{\"test\":\"%s\",\"event\":\"start\"}}\\n' $t >&3; echo \"signs in with $GATE_PASSWORD, or $base\"\n\
         printf %s \"in pieces: sesame-of-\"; sleep 0.4; echo 'the-gate/4&7 http://x/?p=sesame-of-the-gate''%2F4%267'; test \"$(cat \"$GATE_KEY\")\" = \"key of the gate\" && echo the key fits; cat \"$GATE_KEY\"\n\
         echo \"$GATE_PASSWORD\" > \"$KESMO_ARTIFACTS/of-$(printf %s key-of-the-gate-name)-$t.txt\"\n\
         printf '{{\"test\":\"%s\",\"event\":\"step\",\"name\":\"types %s\"}}\\n' $t \"$GATE_PASSWORD\" >&3\n\
         printf '{{\"test\":\"%s\",\"event\":\"end\",\"outcome\":\"failed\",\"message\":\"%s was refused\"}}\\n' $t \"$GATE_PASSWORD\" >&3; done",
        half = &VALUE[..9],
        rest = &VALUE[9..],
    );
    // The script does not hold the value in one piece: it is kept as it was packed.
    let more = "[retry]\ntimes = 0\n[secrets]\nGATE_PASSWORD = \"gate-password\"\nGATE_KEY = { secret = \"gate-key\", as = \"file\" }";
    let folder = quay.suite("gate", "events", &script, more);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(
        &said,
        &["the suite needs the secret gate-password, and there is none", "kesmo secret add gate-password"],
    );
    for (words, value) in [(&["gate-password", "--suite", "gate"][..], VALUE), (&["gate-key"], "key of the gate\n")] {
        let added = add(&quay, words, value);
        assert!(added.status.success(), "{}", all_said(&added));
        assert!(!all_said(&added).contains(VALUE));
    }
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 1, "{said}");
    let log = all_said(&quay.kesmo(&["log", "gate/2", "a"]));
    assert_says(
        &log,
        &[
            "signs in with ***, or dXNlcj",
            "***",
            "in pieces: *** http://x/?p=***",
            "the key fits",
            "types ***",
            "*** was refused",
        ],
    );
    let junit = all_said(&quay.kesmo(&["report", "gate/2", "--as", "junit"]));
    let html = all_said(&quay.kesmo(&["report", "gate/2", "--as", "html"]));
    let everything = [said, log, junit, html, kept(&quay), all_said(&quay.kesmo(&["artifacts", "gate/2"]))].concat();
    let form = "sesame-of-the-gate%2F4%267";
    let base = "c2VzYW1lLW9mLXRoZS1nYXRlLzQm";
    for untold in [VALUE, form, base, "key of the gate"] {
        let at = everything.find(untold);
        assert!(at.is_none(), "{untold} is told: {:?}", at.map(|at| &everything[at.saturating_sub(200)..at + 30]));
    }
    // It is told by name, with when it was used, and never again by value.
    let list = all_said(&quay.kesmo(&["secret", "list"]));
    assert_says(&list, &["gate-password", "runs of gate", "gate-key", "all runs"]);
    assert!(!list.contains("never"), "{list}");
    let files: Vec<_> = walk(&quay.path("worker-heron")).into_iter().filter(|p| p.contains("secret-")).collect();
    assert!(files.is_empty(), "nothing is left on the worker: {files:?}");
    // Another suite is not given what is not for it, and nobody who may not change secrets does.
    let other = quay.tap("desk", "a", "echo ok - $t", "[secrets]\nP = \"gate-password\"");
    let (status, said) = quay.wait(&other, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["the secret gate-password is not for runs of desk"]);
    let operator = text(&quay.kesmo(&["token", "add", "op", "--role", "operator"]).stdout).trim().to_owned();
    let refused = quay.kesmo_as(&operator, &["secret", "remove", "gate-key"]);
    assert_says(&all_said(&refused), &["lacks the right to keep the service"]);
    assert_says(&all_said(&add(&quay, &["gate-key"], "another value")), &["change it with --replace"]);
    assert_says(&all_said(&add(&quay, &["short"], "abc")), &["3 bytes"]);
    assert_says(
        &all_said(&add(&quay, &["gate-key", "--replace", "--suite", "nowhere"], "another value")),
        &["there is no suite named"],
    );
    assert!(quay.kesmo(&["secret", "remove", "gate-key"]).status.success());
    assert_says(&quay.wait(&folder, &[]).1, &["the suite needs the secret gate-key"]);
    // Without a service the machine's environment has them.
    let missing = quay.command(&["here", &folder.to_string_lossy()]).output().expect("it runs");
    assert_eq!(missing.status.code(), Some(2));
    assert_says(&all_said(&missing), &["the suite needs the secret gate-password: set GATE_PASSWORD to its value"]);
    fs::write(quay.path("key"), "key of the gate").expect("the key");
    let mut here = quay.command(&["here", &folder.to_string_lossy()]);
    let here = here.env("GATE_PASSWORD", VALUE).env("GATE_KEY", quay.path("key")).output().expect("it runs");
    assert_eq!(here.status.code(), Some(1), "{}", all_said(&here));
    assert_says(&all_said(&here), &["*** was refused"]);
    assert!(!all_said(&here).contains(VALUE));
}

fn walk(folder: &std::path::Path) -> Vec<String> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            all.extend(walk(&path));
        } else {
            all.push(path.display().to_string());
        }
    }
    all
}

#[test]
fn secrets_are_sealed_with_a_key_that_is_changed_while_runs_go_on() {
    let (one, two) = ("1a".repeat(32), "2b".repeat(32));
    let mut quay = Quay::with_options_in(|dir| {
        fs::write(dir.join("keys"), &one).expect("the key");
        ["--secret-key-file".to_owned(), dir.join("keys").display().to_string()].to_vec()
    });
    let _worker = quay.worker("heron", 1);
    assert!(add(&quay, &["gate-password"], VALUE).status.success());
    let folder = quay.tap("gate", "a", "test \"$P\" && echo ok - $t", "[secrets]\nP = \"gate-password\"");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    assert!(quay.kesmo(&["brief", "add", "quick", "--suite", "gate"]).status.success());
    assert!(quay.kesmo(&["webhook", "add", "pushed", "--brief", "quick"]).status.success());
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let sealed = "select encode(sealed, 'hex') from secrets union all select encode(secret, 'hex') from webhooks";
    let before = quay.sql(sealed);
    assert_eq!(before.matches(&hex("kesmo-sealed-1:")).count(), 2, "{before}");
    // The new key comes first, and what is kept is sealed with it; then the old one goes.
    fs::write(quay.path("keys"), format!("{two}\n{one}\n")).expect("the keys");
    until("they are sealed anew", || {
        let now = quay.sql(sealed);
        now.lines().zip(before.lines()).all(|(now, before)| now != before).then_some(())
    });
    fs::write(quay.path("keys"), &two).expect("the key");
    quay.kill_service();
    quay.start();
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    // Without its key a secret is not opened, the run says so, and nothing is lost.
    fs::write(quay.path("keys"), &one).expect("the key");
    quay.kill_service();
    quay.start();
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["was sealed with a key that this service does not have", "--secret-key-file"]);
    fs::write(quay.path("keys"), &two).expect("the key");
    quay.kill_service();
    quay.start();
    assert_eq!(quay.wait(&folder, &[]).0, 0);
}

fn hex(text: &str) -> String {
    text.bytes().map(|b| format!("{b:02x}")).collect()
}

/// A server of git repositories that lets in who shows `joan:lantern-and-lamp`. Its process, and where it is.
fn git_server(root: &std::path::Path) -> (crate::quay::Process, String) {
    const SERVER: &str = r#"
import base64, functools, http.server, sys
class Server(http.server.SimpleHTTPRequestHandler):
    def do_GET(self):
        if self.headers.get("Authorization") != "Basic " + base64.b64encode(b"joan:lantern-and-lamp").decode():
            self.send_response(401); self.send_header("WWW-Authenticate", "Basic"); self.end_headers(); return
        super().do_GET()
    def log_message(self, *_): pass
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Server, directory=sys.argv[1]))
print(f"http://127.0.0.1:{server.server_address[1]}", flush=True)
server.serve_forever()
"#;
    let mut command = std::process::Command::new("python3");
    command.args(["-c", SERVER]).arg(root).stdout(Stdio::piped());
    let mut process = crate::quay::Process(crate::quay::spawn(command));
    let mut said = String::new();
    let out = process.0.stdout.take().expect("its output");
    std::io::BufRead::read_line(&mut std::io::BufReader::new(out), &mut said).expect("it says where it is");
    (process, said.trim().to_owned())
}

#[test]
fn git_is_given_what_is_kept_for_its_server_and_runs_are_not() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("lamps", "a b", "echo ok - $t", "");
    let work = crate::quay::Repo::of(&folder, quay.path("work"));
    let served = quay.path("served");
    fs::create_dir_all(&served).expect("a folder");
    let bare = served.join("lamps.git").display().to_string();
    work.git(&["clone", "--quiet", "--bare", ".", &bare]);
    work.git(&["--git-dir", &bare, "update-server-info"]);
    let (_server, at) = git_server(&served);
    let address = format!("{at}/lamps.git");
    let refused = quay.kesmo(&["suite", "add", "--git", &address]);
    assert!(!refused.status.success(), "nobody is let in without");
    for (words, value, why) in [
        (&["lamp-git", "--for-git", "quay.example"][..], "joan:lantern-and-lamp", "the address"),
        (&["lamp-git", "--for-git", "file:///srv"], "joan:lantern-and-lamp", "for https or ssh"),
        (&["lamp-git", "--for-git", &at, "--suite", "x"], "joan:lantern-and-lamp", "cannot be used with"),
    ] {
        let said = add(&quay, words, value);
        assert!(!said.status.success(), "{words:?}");
        assert_says(&all_said(&said), &[why]);
    }
    let place = format!("{at}/");
    let kept = add(&quay, &["lamp-git", "--for-git", &place], "joan:lantern-and-lamp");
    assert_says(&all_said(&kept), &["git uses it where it calls addresses that begin with"]);
    let twice = add(&quay, &["other-git", "--for-git", &place], "somebody:else-than-joan");
    assert_says(&all_said(&twice), &["git uses the secret lamp-git there already"]);
    let added = quay.kesmo(&["suite", "add", "--git", &address]);
    assert!(added.status.success(), "{}", all_said(&added));
    let run = quay.kesmo(&["start", "lamps", "--wait"]);
    assert_eq!(run.status.code(), Some(0), "{}", all_said(&run));
    let list = quay.json(&["secret", "list"]);
    assert!(list[0]["used_at"].is_string() && list[0]["git"] == place.as_str(), "{list}");
    // A run that asks for it is void, and nothing tells it.
    let thief = quay.tap("thief", "a", "echo ok - $t", "[secrets]\nLAMP = \"lamp-git\"");
    let (status, said) = quay.wait(&thief, &[]);
    assert_eq!(status, 10, "{said}");
    assert_says(&said, &["the secret lamp-git is for git at", "given to no run"]);
    let told = quay.sql(
        "select coalesce(string_agg(t::text, ' '), '') from (select secrets::text as t from secrets union all \
         select runs::text from runs union all select suites::text from suites union all select audit::text from audit) a",
    ) + &fs::read_to_string(quay.path("service.log")).expect("the log");
    assert!(!told.contains("lantern-and-lamp") && !told.contains("am9hbjpsYW50ZXJu"), "it is told somewhere");
    // Another one is used from then on.
    assert!(add(&quay, &["lamp-git", "--for-git", &place, "--replace"], "joan:another-lamp").status.success());
    let said = quay.kesmo(&["suite", "add", "--git", &address]);
    assert!(!said.status.success() && !all_said(&said).contains("another-lamp"), "{}", all_said(&said));
}
