//! The service speaks TLS itself.

use std::{
    fs,
    path::Path,
    process::{Command, Output, Stdio},
};

use crate::quay::{KESMO, Process, Quay, all_said, assert_says, spawn, text, until};

/// Makes a certificate for this machine, signed by itself, as `NAME.pem` and `NAME.key`.
fn certify(folder: &Path, name: &str) {
    let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned(), "localhost".to_owned()]);
    let made = made.expect("a certificate");
    // The file that changes last completes the pair, and each is there whole.
    for (ending, content) in [("pem", made.cert.pem()), ("key", made.signing_key.serialize_pem())] {
        let part = folder.join(format!("{name}.{ending}.part"));
        fs::write(&part, content).expect("it is written");
        fs::rename(&part, folder.join(format!("{name}.{ending}"))).expect("it is there");
    }
}

fn options(dir: &Path, name: &str) -> Vec<String> {
    let path = |ending: &str| dir.join(format!("{name}.{ending}")).display().to_string();
    ["--tls-cert".to_owned(), path("pem"), "--tls-key".to_owned(), path("key")].to_vec()
}

fn call(quay: &Quay, ca: &Path, words: &[&str]) -> Output {
    quay.command(words).env("KESMO_CA", ca).output().expect("it runs")
}

#[test]
fn a_service_speaks_tls_itself_and_takes_a_renewed_certificate_while_a_run_goes_on() {
    let quay = Quay::with_options_in(|dir| {
        certify(dir, "own");
        fs::copy(dir.join("own.pem"), dir.join("first.pem")).expect("the authority");
        options(dir, "own")
    });
    assert!(quay.url.starts_with("https://127.0.0.1:"), "{}", quay.url);
    let first = quay.path("first.pem");
    assert_eq!(call(&quay, &first, &["runs"]).status.code(), Some(0));
    let untrusted = quay.kesmo(&["runs"]);
    assert_eq!(untrusted.status.code(), Some(12));
    assert_says(&all_said(&untrusted).to_lowercase(), &["certificate"]);
    let plain = quay.kesmo(&["--url", &quay.url.replace("https", "http"), "runs"]);
    assert_eq!(plain.status.code(), Some(12), "{}", all_said(&plain));
    // Both authorities are trusted, as while a certificate is being renewed.
    certify(quay.path("").as_path(), "next");
    let both = quay.path("both.pem");
    let pem = |name: &str| fs::read_to_string(quay.path(name)).expect("a certificate");
    fs::write(&both, pem("first.pem") + &pem("next.pem")).expect("the authorities");
    let token = text(&call(&quay, &first, &["token", "add", "worker-tls", "--role", "worker"]).stdout);
    let mut worker = Command::new(KESMO);
    worker.args(["worker", "--name", "heron", "--slots", "2", "--url", &quay.url, "--ca"]).arg(&both);
    worker.arg("--home").arg(quay.path("worker-tls")).env("KESMO_TOKEN", token.trim()).env("KESMO_ENGINE", "none");
    let _worker = Process(spawn({
        worker.stdout(Stdio::null()).stderr(Stdio::null());
        worker
    }));
    let folder = quay.tap("gate", "a b c d e f", "sleep 2; echo ok - $t", "");
    let started = call(&quay, &first, &["start", &folder.to_string_lossy()]);
    assert_eq!(started.status.code(), Some(0), "{}", all_said(&started));
    for ending in ["pem", "key"] {
        fs::rename(quay.path(&format!("next.{ending}")), quay.path(&format!("own.{ending}"))).expect("it is renewed");
    }
    until("the renewed one is used", || (call(&quay, &first, &["runs"]).status.code() == Some(12)).then_some(()));
    let watched = call(&quay, &both, &["watch", "gate/1"]);
    assert_eq!(watched.status.code(), Some(0), "{}", all_said(&watched));
    assert_says(
        &fs::read_to_string(quay.path("service.log")).expect("the log"),
        &["the certificate has changed and is used"],
    );
    // One that cannot be used changes nothing, and is told.
    fs::write(quay.path("own.pem"), "nothing").expect("it is written");
    until("it is told", || {
        let log = fs::read_to_string(quay.path("service.log")).expect("the log");
        log.contains("the one before stays").then_some(())
    });
    assert_eq!(call(&quay, &both, &["runs"]).status.code(), Some(0));
}

#[test]
fn a_certificate_that_cannot_be_used_is_told_before_anything_is_started() {
    let dir = tempfile::tempdir().expect("a folder");
    certify(dir.path(), "own");
    certify(dir.path(), "other");
    let serve = |cert: &str, key: &str| {
        let mut serve = Command::new(KESMO);
        serve.args(["serve", "--listen", "127.0.0.1:0", "--data"]).arg(dir.path().join("service"));
        serve.arg("--tls-cert").arg(dir.path().join(cert));
        if !key.is_empty() {
            serve.arg("--tls-key").arg(dir.path().join(key));
        }
        serve.output().expect("it runs")
    };
    for (cert, key, why) in [
        ("own.pem", "other.key", "is not that of the certificate"),
        ("own.key", "own.key", "holds no certificate"),
        ("nowhere.pem", "own.key", "nowhere.pem"),
        ("own.pem", "", "--tls-key"),
    ] {
        let refused = serve(cert, key);
        assert_eq!(refused.status.code(), Some(2), "{cert} {key}");
        assert_says(&all_said(&refused), &[why]);
    }
    assert!(!dir.path().join("service/postgres").exists(), "nothing was started");
}

#[test]
fn a_service_is_run_by_a_file_and_the_environment_and_says_when_it_is_ready() {
    let quay = Quay::with_options_in(|dir| {
        certify(dir, "own");
        let path = |name: &str| dir.join(name).display().to_string();
        let file = format!(
            "tls-cert = {:?}\ntls-key = {:?}\nlisten = \"0.0.0.0:1\"\nlog-json = true\n",
            path("own.pem"),
            path("own.key")
        );
        fs::write(dir.join("service.toml"), file).expect("the file");
        ["--config".to_owned(), path("service.toml")].to_vec()
    });
    // What stands on the command line counts before the file: it listens where the test said.
    assert!(quay.url.starts_with("https://127.0.0.1:"), "{}", quay.url);
    assert!(fs::read_to_string(quay.path("service.log")).expect("the log").starts_with('{'), "it logs as JSON");
    let ca = quay.path("own.pem");
    let trust = kesmo_tls::Trust::load(Some(&ca)).expect("the authority");
    let client = kesmo_client::Client::new(&quay.url, "", &trust).expect("a client");
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let ready = || runtime.block_on(client.get::<serde_json::Value>("/api/ready", &[]));
    assert_eq!(ready().expect("it is ready")["database"], true);
    // Without its PostgreSQL it lives, and is not ready.
    let pids = fs::read_to_string(quay.path("service/postgres/postmaster.pid")).expect("its process");
    let pid: i32 = pids.lines().next().expect("a number").parse().expect("a number");
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGSTOP).expect("it stops");
    let gone = Command::new("pkill").args(["-TERM", "-P", &pid.to_string(), "-f", "postgres: kesmo"]).status();
    assert!(gone.expect("pkill runs").success(), "its connections end, and no other begins");
    let refused = until("it is not ready", || ready().err());
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGCONT).expect("it goes on");
    assert!(matches!(refused, kesmo_client::Error::Refused { status: 503, .. }), "{refused}");
    until("it is ready again", || ready().ok());
    for (words, environment, why) in [
        (&["--tls-cert", "x", "--tls-key", "y"][..], "", "x: No such file"),
        (&[], "soon", "is not a duration"),
        (&["--git-folder", "/nowhere/at/all"], "", "there is no such folder"),
        (&["--reached-at", "kesmo.example"], "", "is no address of a service"),
    ] {
        let mut check = Command::new(KESMO);
        check.args(["serve", "--check", "--listen", "127.0.0.1:0", "--data"]).arg(quay.path("other")).args(words);
        check.env("KESMO_PATIENCE", environment);
        let checked = check.output().expect("it runs");
        assert_eq!(checked.status.code(), Some(2), "{}", all_said(&checked));
        assert_says(&all_said(&checked), &[why]);
    }
}
