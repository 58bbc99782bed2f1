//! Files in an object store that speaks S3: `tests/objects` brings a server of that kind.

use std::{
    fs,
    io::{BufRead, BufReader},
    net::TcpListener,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use crate::{
    holes::call,
    quay::{Process, Quay, all_said, assert_says, repository, spawn, text, until},
};

/// A server of objects that keeps them in a folder.
struct ObjectServer {
    process: Option<Process>,
    folder: PathBuf,
    port: u16,
}

impl ObjectServer {
    fn open(folder: PathBuf) -> Self {
        let free = TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr()).expect("a port");
        let mut server = Self { process: None, folder, port: free.port() };
        server.start();
        server
    }

    fn start(&mut self) {
        let program = repository("tests/objects/node_modules/.bin/s3rver");
        assert!(program.exists(), "the server of objects is not installed: cd tests/objects && npm ci");
        fs::create_dir_all(&self.folder).expect("a folder");
        let mut command = Command::new(program);
        // Its continuation tokens are made by an old cipher.
        command.env("NODE_OPTIONS", "--openssl-legacy-provider");
        command.args(["-a", "127.0.0.1", "-p", &self.port.to_string(), "-s", "-d"]).arg(&self.folder);
        command.args(["--configure-bucket", "quay", "--configure-bucket", "other"]).stdout(Stdio::piped());
        let mut process = Process(spawn(command));
        let mut lines = BufReader::new(process.0.stdout.take().expect("its output")).lines().map_while(Result::ok);
        assert!(lines.any(|line| line.contains("listening")), "the server of objects listens");
        std::thread::spawn(move || lines.for_each(drop));
        self.process = Some(process);
    }

    fn stop(&mut self) {
        self.process = None;
    }

    fn url(&self, bucket: &str) -> String {
        format!("s3://{bucket}/kesmo?endpoint=http://127.0.0.1:{}", self.port)
    }

    /// What is kept below the service's prefix, by name: each with the files of the server that hold it.
    fn names(&self, bucket: &str, below: &str) -> Vec<String> {
        let folder = self.folder.join(bucket).join("kesmo").join(below);
        let all = fs::read_dir(folder).into_iter().flatten().flatten();
        let mut names: Vec<String> = all
            .filter_map(|file| Some(file.file_name().to_string_lossy().strip_suffix("._S3rver_object")?.to_owned()))
            .collect();
        names.sort();
        names
    }

    /// Lets all objects be there for so long.
    fn age(&self, bucket: &str, ago: &str) {
        let aged = Command::new("find")
            .arg(self.folder.join(bucket))
            .args(["-type", "f", "-exec", "touch", "-d", ago, "{}", "+"])
            .status();
        assert!(aged.is_ok_and(|status| status.success()));
    }
}

fn options(server: &ObjectServer, dir: &Path, key: &str) -> Vec<String> {
    let write = |name: &str, text: &str| {
        fs::write(dir.join(name), text).expect("it is written");
        dir.join(name).display().to_string()
    };
    let secrets = "ab".repeat(32);
    let (key, secrets) = (write("objects-key", key), write("secret-keys", &secrets));
    ["--objects", &server.url("quay"), "--objects-key-file", &key, "--secret-key-file", &secrets]
        .map(str::to_owned)
        .into()
}

const KEY: &str = "S3RVER:S3RVER\n";

#[test]
fn large_files_are_downloaded_from_where_they_are_by_an_address_that_is_signed() {
    let dir = tempfile::tempdir().expect("a folder");
    let server = ObjectServer::open(dir.path().join("objects"));
    let at = format!("http://127.0.0.1:{}", server.port);
    let quay = Quay::with_options_in(|own| {
        let mut options = options(&server, own, KEY);
        options[1] += &format!("&signed={at}");
        options
    });
    let _worker = quay.worker("heron", 1);
    let body = "head -c 3000000 /dev/zero | tr '\\0' w > \"$KESMO_ARTIFACTS/large.png\"; head -c 2000000 /dev/zero | tr '\\0' h > \"$KESMO_ARTIFACTS/large.html\"; \
        echo small > \"$KESMO_ARTIFACTS/small.txt\"; echo \"ok - $t\"";
    let folder = quay.tap("gate", "a", body, "");
    let run = quay.wait(&folder, &[]);
    assert_eq!(run.0, 0, "{}", run.1);
    let files = quay.json(&["artifacts", "gate/1"]);
    let digest = |name: &str| {
        let file = files
            .as_array()
            .expect("files")
            .iter()
            .find(|file| file["path"].as_str().unwrap_or_default().ends_with(name));
        file.unwrap_or_else(|| panic!("{name} in {files}"))["digest"].as_str().expect("a digest").to_owned()
    };
    let bearer = format!("Bearer {}", quay.token());
    let there = |name: &str| {
        let path = format!("/api/blobs/{}", digest(name));
        assert_eq!(call(&quay, "GET", &path, &[], b"").0, 401, "who may not see it is told nothing");
        let answer = crate::holes::raw(&quay, "GET", &path, &[("Authorization", &bearer)], b"");
        let location = answer
            .lines()
            .find_map(|line| line.to_lowercase().starts_with("location: ").then(|| line[10..].trim().to_owned()));
        (answer, location)
    };
    let (small, location) = there("small.txt");
    assert!(location.is_none() && small.contains("200 OK"), "{small:.300}");
    for (name, shown) in [("large.png", "inline"), ("large.html", "attachment")] {
        let (answer, location) = there(name);
        let location = location.unwrap_or_else(|| panic!("{answer:.400}"));
        assert!(answer.contains("307") && answer.contains("no-store") && location.starts_with(&at), "{answer:.400}");
        assert!(location.contains(&format!("response-content-disposition={shown}")), "{location}");
        assert!(location.contains("X-Amz-Expires=300") && location.contains("X-Amz-Signature="), "{location}");
        let got = Command::new("curl").args(["-fsS", &location]).output().expect("curl runs");
        assert!(got.status.success() && got.stdout.len() >= 2_000_000, "{}", all_said(&got));
    }
    // The command line follows, without its token, and pages may show pictures from there.
    let to = dir.path().join("saved");
    let saved = quay.kesmo(&["artifacts", "gate/1", "--to", &to.display().to_string()]);
    assert!(saved.status.success(), "{}", all_said(&saved));
    let found = Command::new("find").arg(&to).args(["-size", "+1M"]).output().expect("find runs");
    assert_eq!(text(&found.stdout).lines().count(), 2, "{}", text(&found.stdout));
    let page = crate::holes::raw(&quay, "GET", "/", &[], b"");
    assert_says(&page, &[&format!("img-src 'self' data: {at}; media-src 'self' {at};")]);
}

#[test]
fn files_are_kept_in_an_object_store_and_brought_where_they_are_needed() {
    let dir = tempfile::tempdir().expect("a folder");
    let mut server = ObjectServer::open(dir.path().join("objects"));
    let quay = Quay::with_options_in(|own| options(&server, own, KEY));
    let worker = quay.worker("heron", 1);
    let body = "head -c 70000 /dev/zero | tr '\\0' x; echo; echo \"the boat of $t\" > \"$KESMO_ARTIFACTS/$t.txt\"; echo \"ok - $t\"";
    let folder = quay.tap("gate", "a b", body, "");
    let run = quay.wait(&folder, &[]);
    assert_eq!(run.0, 0, "{}", run.1);
    // A bundle, two logs and two artifacts, and the list.
    let kept = server.names("quay", "");
    assert!(kept.len() >= 5 && kept.iter().all(|name| name.len() == 64), "{kept:?}");
    // The folder may go: whatever is asked for is brought from the store.
    let forget = || {
        let blobs = quay.path("service/blobs");
        for start in fs::read_dir(&blobs).expect("the folder").flatten() {
            if start.file_name().len() == 2 {
                fs::remove_dir_all(start.path()).expect("it is removed");
            }
        }
    };
    forget();
    let log = text(&quay.kesmo(&["log", "gate/1", "a"]).stdout);
    assert!(log.contains(&"x".repeat(1000)), "{log:.300}");
    let files = quay.json(&["artifacts", "gate/1"]);
    let digest = files[0]["digest"].as_str().expect("a digest").to_owned();
    let bearer = format!("Bearer {}", quay.token());
    let (status, content, _) = call(&quay, "GET", &format!("/api/blobs/{digest}"), &[("Authorization", &bearer)], b"");
    assert_eq!(status, 200);
    assert_says(&content, &["the boat of"]);
    // A worker that knows nothing is brought the bundle.
    drop(worker);
    forget();
    let _worker = quay.worker("tern", 1);
    assert_eq!(quay.kesmo(&["start", "gate", "--wait"]).status.code(), Some(0));
    // What nothing needs is set aside by a sweep, and goes with one an hour later; what is needed stays.
    quay.sql("update runs set finished_at = finished_at - interval '40 days' where number = 1");
    assert!(quay.kesmo(&["keep", "add", "artifacts", "--for", "30d"]).status.success());
    server.age("quay", "2 days ago");
    let before = server.names("quay", "").len();
    let swept = quay.kesmo(&["keep", "sweep"]);
    assert!(swept.status.success(), "{}", all_said(&swept));
    let aside = server.names("quay", "aside");
    assert!(!aside.is_empty() && server.names("quay", "").len() + aside.len() == before, "{aside:?}");
    assert!(aside.iter().all(|name| !server.names("quay", "").contains(name)));
    // One that is asked for meanwhile comes back.
    let wanted = &aside[0];
    quay.sql(&format!(
        "update artifacts set digest = '{wanted}' where run_id = (select id from runs where number = 2)"
    ));
    forget();
    let (status, ..) = call(&quay, "GET", &format!("/api/blobs/{wanted}"), &[("Authorization", &bearer)], b"");
    assert_eq!(status, 200);
    assert!(server.names("quay", "").contains(wanted));
    server.age("quay", "3 hours ago");
    assert!(quay.kesmo(&["keep", "sweep"]).status.success());
    assert!(server.names("quay", "aside").is_empty());
    assert!(server.names("quay", "").contains(wanted), "what is needed stays");
    // While the store is away nothing is taken that could be lost, and nothing is told to be gone.
    server.stop();
    forget();
    let (status, said, _) = call(&quay, "GET", &format!("/api/blobs/{wanted}"), &[("Authorization", &bearer)], b"");
    assert_eq!(status, 503, "{said}");
    assert_says(&said, &["the object store: quay at"]);
    fs::write(folder.join("more"), "another bundle").expect("it is written");
    let refused = quay.kesmo(&["start", &folder.display().to_string()]);
    assert!(!refused.status.success());
    assert_says(&all_said(&refused), &["the object store: quay at"]);
    server.start();
    // A run that leaves files while the store is away waits for it with them.
    let slow = quay.tap(
        "slow",
        "a",
        "while [ ! -e \"$GO\" ]; do sleep 0.05; done; echo late > \"$KESMO_ARTIFACTS/late.txt\"; echo \"ok - $t\"",
        "[env]\nGO = \"/nowhere\"",
    );
    let go = dir.path().join("go");
    let file = fs::read_to_string(slow.join("kesmo.toml")).expect("the suite file");
    fs::write(slow.join("kesmo.toml"), file.replace("/nowhere", &go.display().to_string())).expect("it is written");
    let run = quay.start_run(&slow, &[]);
    until("it runs", || (quay.run(&run)["phase"] == "running").then_some(()));
    server.stop();
    fs::write(&go, "").expect("it goes on");
    std::thread::sleep(std::time::Duration::from_secs(2));
    server.start();
    until("the verdict", || {
        let shown = quay.run(&run);
        (shown["phase"] == "finished").then(|| assert_eq!(shown["verdict"], "passed", "{shown}"))
    });
    let late = quay.json(&["artifacts", &run]);
    assert_eq!(late[0]["path"], "late.txt", "{late}");
    // A copy of all, into another store.
    let database = quay.database();
    let to = quay.path("copy").display().to_string();
    let data = quay.path("service").display().to_string();
    let key = quay.path("objects-key").display().to_string();
    let words =
        |bucket: &str| ["--objects".to_owned(), server.url(bucket), "--objects-key-file".to_owned(), key.clone()];
    let of = words("quay");
    let of: Vec<&str> = of.iter().map(String::as_str).collect();
    let copied = quay.kesmo(&[&["backup", &to, "--data", &data, "--database", &database][..], &of[..]].concat());
    assert!(copied.status.success(), "{}", all_said(&copied));
    let into = words("other");
    let into: Vec<&str> = into.iter().map(String::as_str).collect();
    let place = quay.path("restored").display().to_string();
    let restored = quay.kesmo(&[&["restore", &to, "--data", &place][..], &into[..]].concat());
    assert!(restored.status.success(), "{}", all_said(&restored));
    assert_eq!(server.names("other", ""), server.names("quay", ""));
}

#[test]
fn a_store_that_cannot_be_used_is_told_before_the_service_starts() {
    let dir = tempfile::tempdir().expect("a folder");
    let server = ObjectServer::open(dir.path().join("objects"));
    let quay = crate::quay::shared();
    let says = |options: &[String], why: &str| {
        let data = dir.path().join("checked").display().to_string();
        let mut words = vec!["serve", "--check", "--listen", "127.0.0.1:0", "--data", &data];
        words.extend(options.iter().map(String::as_str));
        let said = quay.kesmo(&words);
        assert_says(&all_said(&said), &[why]);
        said.status.success()
    };
    let good = options(&server, dir.path(), KEY);
    assert!(says(&good, "Its files are kept in quay at http://127.0.0.1:"));
    let with = |at: usize, text: &str| {
        let mut changed = good.clone();
        changed[at] = text.to_owned();
        changed
    };
    assert!(!says(&with(1, &server.url("nowhere")), "NoSuchBucket"));
    assert!(!says(&with(1, "s3://quay?endpoint=http://127.0.0.1:9"), "the object store: quay at"));
    assert!(!says(&with(1, "s3://quay"), "endpoint= is missing"));
    assert!(!says(&good[..4], "--objects needs --secret-key-file"));
    assert!(!says(&good[..2], "--objects-key-file"));
    let wrong = options(&server, dir.path(), "SOMEBODY:S3RVER");
    assert!(!says(&wrong, "InvalidAccessKeyId"));
    let odd = options(&server, dir.path(), "only-an-id");
    assert!(!says(&odd, "ID:SECRET"));
}
