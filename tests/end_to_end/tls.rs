//! The service speaks TLS itself.

use std::{
    fs, io,
    net::{TcpListener, TcpStream},
    os::unix::fs::{MetadataExt, PermissionsExt, chown},
    path::Path,
    process::{Command, Output, Stdio},
};

use kesmo_database::Postgres;

use crate::quay::{KESMO, Process, Quay, all_said, assert_says, psql, spawn, text, until};

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

/// A PostgreSQL that speaks TLS by the certificate `own.pem` of its folder.
fn postgres_with_tls(folder: &Path) -> Postgres {
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).expect("its rights");
    let postgres = Postgres::start(folder).expect("PostgreSQL runs");
    certify(folder, "own");
    let owner = fs::metadata(folder.join("postgres")).expect("a cluster");
    let path = |ending: &str| folder.join(format!("own.{ending}"));
    fs::set_permissions(path("key"), fs::Permissions::from_mode(0o600)).expect("its rights");
    chown(path("key"), Some(owner.uid()), Some(owner.gid())).expect("it is PostgreSQL's");
    for (name, value) in [
        ("ssl_cert_file", path("pem").display().to_string()),
        ("ssl_key_file", path("key").display().to_string()),
        ("ssl", "on".to_owned()),
    ] {
        psql(&postgres.url(), &format!("alter system set {name} = '{value}'")).expect("it is set");
    }
    psql(&postgres.url(), "select pg_reload_conf()").expect("it is read");
    until("it speaks TLS", || psql(&postgres.url(), "show ssl").is_ok_and(|said| said.trim() == "on").then_some(()));
    postgres
}

/// Carries every connection on to a port.
fn carry_on(listener: &TcpListener, port: u16) {
    for caller in listener.incoming() {
        let (Ok(caller), Ok(called)) = (caller, TcpStream::connect(("127.0.0.1", port))) else { return };
        for (mut from, mut to) in [
            (caller.try_clone().expect("another handle"), called.try_clone().expect("another handle")),
            (called, caller),
        ] {
            std::thread::spawn(move || {
                drop(io::copy(&mut from, &mut to));
                drop(to.shutdown(std::net::Shutdown::Write));
            });
        }
    }
}

#[test]
fn a_service_waits_for_a_postgresql_that_comes_later_and_speaks_tls_with_it() {
    let dir = tempfile::tempdir().expect("a folder");
    let postgres = postgres_with_tls(dir.path());
    let plain = postgres.url();
    let port = plain.rsplit(':').next().and_then(|rest| rest.split('/').next()).expect("a port").to_owned();
    let reserved = TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr()).expect("a port");
    let address = plain.split_once('?').map_or(plain.as_str(), |(address, _)| address);
    let address = address.replace(&format!(":{port}/"), &format!(":{}/", reserved.port()));
    let checked = format!("{address}?sslmode=verify-full&sslrootcert={}", dir.path().join("own.pem").display());

    // Asked to end while nobody is there, it ends.
    let mut alone = Command::new(KESMO);
    alone.args(["serve", "--listen", "127.0.0.1:0", "--database", &checked, "--data"]).arg(dir.path().join("alone"));
    let said = fs::File::create(dir.path().join("alone.log")).expect("a log");
    alone.stdout(Stdio::null()).stderr(said);
    let mut alone = Process(spawn(alone));
    let waits = |log: &Path| fs::read_to_string(log).is_ok_and(|said| said.contains("PostgreSQL does not answer"));
    until("it waits", || waits(&dir.path().join("alone.log")).then_some(()));
    alone.signal(libc::SIGTERM);
    assert_eq!(alone.wait(), 0);

    let quay = Quay::with_options_in(|own| {
        let (log, port) = (own.join("service.log"), port.parse().expect("a port"));
        std::thread::spawn(move || {
            until("it waits", || waits(&log).then_some(()));
            carry_on(&TcpListener::bind(reserved).expect("the port is still free"), port);
        });
        ["--database", &checked].map(str::to_owned).to_vec()
    });
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap("gate", "a b c", "echo ok - $t", "");
    assert_eq!(quay.wait(&folder, &[]).0, 0);
    let encrypted = "select bool_and(ssl)::text from pg_stat_ssl join pg_stat_activity using (pid) where backend_type = 'client backend' and pid <> pg_backend_pid()";
    assert_eq!(psql(&plain, encrypted).expect("it answers").trim(), "true");

    // Copies are taken by PostgreSQL's own tools from the same address.
    let (to, data) = (quay.path("copy").display().to_string(), quay.path("service").display().to_string());
    let copied = quay.kesmo(&["backup", &to, "--data", &data, "--database", &checked]);
    assert!(copied.status.success(), "{}", all_said(&copied));

    // Whoever else is there is not taken for it.
    certify(dir.path(), "another");
    let wrong = format!("{address}?sslmode=verify-full&sslrootcert={}", dir.path().join("another.pem").display());
    let mut other = Command::new(KESMO);
    other.args(["serve", "--listen", "127.0.0.1:0", "--database", &wrong, "--data"]).arg(dir.path().join("other"));
    let refused = other.output().expect("it runs");
    assert!(!refused.status.success());
    assert_says(
        &all_said(&refused),
        &["PostgreSQL cannot be used by the address that was given", "invalid peer certificate"],
    );
    drop(quay);
    postgres.stop().expect("it stops");
}
