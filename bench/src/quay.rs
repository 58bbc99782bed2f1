//! A service with workers to measure: the release program, in a folder that goes away.

use std::{
    io::{BufRead, BufReader},
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::Instant,
};

use kesmo_client::{Client, pack};
use kesmo_core::{plan::RunOptions, time::Span};
use kesmo_wire::{
    api::{NewRun, NewToken, Role, Run, Token, Worker},
    live::RunChange,
};
use tempfile::TempDir;

pub struct Quay {
    children: Vec<Child>,
    pub client: Client,
    pub dir: TempDir,
    worker_token: String,
}

fn program() -> PathBuf {
    let own = std::env::current_exe().unwrap_or_default();
    own.with_file_name("kesmo")
}

/// Starts the service of a folder; tells its address.
fn serve(dir: &Path, listen: &str) -> (Child, String) {
    serve_with(&dir.join("service"), listen, &[])
}

fn serve_with(data: &Path, listen: &str, more: &[String]) -> (Child, String) {
    let mut service = Command::new(program())
        .args(["serve", "--listen", listen, "--data"])
        .arg(data)
        .args(more)
        .env("KESMO_LOG", "error")
        .stdout(Stdio::piped())
        .spawn()
        .expect("the service starts");
    let mut line = String::new();
    let mut out = BufReader::new(service.stdout.take().expect("its output"));
    out.read_line(&mut line).expect("it says where it listens");
    let url = line.trim().strip_prefix("Kesmo is listening on ").expect("it listens").to_owned();
    (service, url)
}

impl Quay {
    pub async fn open(workers: u16, slots: u16) -> Self {
        let dir = tempfile::tempdir().expect("a folder");
        std::fs::set_permissions(dir.path(), std::fs::Permissions::from_mode(0o755)).expect("its rights");
        let kesmo = program();
        assert!(kesmo.exists(), "{} is missing: call ./demo.sh --build first", kesmo.display());
        let (service, url) = serve(dir.path(), "127.0.0.1:0");
        let token = std::fs::read_to_string(dir.path().join("service/admin-token")).expect("its token");
        let client = Client::new(&url, &token, &kesmo_tls::Trust::default()).expect("a client");
        let new =
            NewToken { name: "bench".into(), role: Role::Worker, until: None, suites: Vec::new(), pools: Vec::new() };
        let made: Token = client.post("/api/tokens", &new).await.expect("a token");
        let mut quay = Self { children: vec![service], client, dir, worker_token: made.token.unwrap_or_default() };
        for i in 0..workers {
            quay.start_worker(i, slots);
        }
        let since = Instant::now();
        loop {
            let here: Vec<Worker> = quay.client.get("/api/workers", &[]).await.expect("workers");
            if here.len() == usize::from(workers) {
                return quay;
            }
            assert!(since.elapsed().as_secs() < 30, "the workers do not come");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    }

    fn start_worker(&mut self, number: u16, slots: u16) {
        let mut command = Command::new(program());
        command.args(["worker", "--name", &format!("w{number}"), "--slots", &slots.to_string(), "--home"]);
        command.arg(self.dir.path().join(format!("w{number}"))).stdout(Stdio::null());
        command.env("KESMO_URL", self.client.url()).env("KESMO_TOKEN", &self.worker_token).env("KESMO_LOG", "error");
        self.children.push(command.spawn().expect("a worker starts"));
    }

    /// Starts another service on the same records and files; tells its address.
    pub fn second(&mut self) -> String {
        let more =
            ["--database", &self.database(), "--blobs", &self.dir.path().join("service/blobs").display().to_string()];
        let (service, url) = serve_with(&self.dir.path().join("second"), "127.0.0.1:0", &more.map(str::to_owned));
        self.children.push(service);
        url
    }

    /// Kills the service that was started last.
    pub fn kill_second(&mut self) {
        if let Some(mut service) = self.children.pop() {
            service.kill().expect("it is killed");
            service.wait().expect("it ends");
        }
    }

    /// Sends the service a signal.
    pub fn signal_service(&self, signal: i32) {
        // SAFETY: plain numbers; the child has not been waited for.
        unsafe { libc::kill(self.children[0].id() as i32, signal) };
    }

    /// Waits for the end of the service and starts it again where it was.
    pub async fn start_again(&mut self) {
        self.children[0].wait().expect("the service ends");
        let listen = self.client.url().trim_start_matches("http://").to_owned();
        (self.children[0], _) = serve(self.dir.path(), &listen);
    }

    /// The processor time that the service and its PostgreSQL have taken so far, in seconds.
    pub fn processor_seconds(&self) -> f64 {
        let service = self.children[0].id();
        let postmaster =
            std::fs::read_to_string(self.dir.path().join("service/postgres/postmaster.pid")).unwrap_or_default();
        let postmaster: u32 = postmaster.lines().next().and_then(|l| l.trim().parse().ok()).unwrap_or(0);
        let mut ticks = 0;
        for entry in std::fs::read_dir("/proc").expect("processes").flatten() {
            let Ok(stat) = std::fs::read_to_string(entry.path().join("stat")) else { continue };
            // The second field may hold blanks; it ends with the last parenthesis.
            let Some((pid, rest)) =
                stat.split_once(' ').zip(stat.rsplit_once(')')).map(|((pid, _), (_, rest))| (pid, rest))
            else {
                continue;
            };
            let fields: Vec<&str> = rest.split_whitespace().collect();
            let number = |i: usize| fields.get(i).and_then(|f| f.parse::<u64>().ok()).unwrap_or(0);
            let (pid, parent) = (pid.parse::<u32>().unwrap_or(0), number(1) as u32);
            if pid == service || pid == postmaster || (parent == postmaster && postmaster != 0) {
                ticks += number(11) + number(12);
            }
        }
        // SAFETY: a plain call without arguments that could be wrong.
        let a_second = unsafe { libc::sysconf(libc::_SC_CLK_TCK) };
        ticks as f64 / a_second as f64
    }

    /// The most memory that the service has had, in MiB.
    pub fn most_memory(&self) -> f64 {
        self.memory_of(0)
    }

    /// The most memory that a process has had, in MiB: of those that were started the one with that number.
    pub fn memory_of(&self, child: usize) -> f64 {
        let status =
            std::fs::read_to_string(format!("/proc/{}/status", self.children[child].id())).expect("its status");
        let most = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).expect("its memory");
        most.trim().trim_end_matches(" kB").parse::<f64>().expect("a number") / 1024.0
    }

    /// A suite of so many tests that each sleep so long; uploaded, its bundle's digest is given back.
    pub async fn suite(&self, name: &str, count: u32, micros: u64) -> String {
        let own = std::env::current_exe().expect("a path").display().to_string();
        let run = format!("[\"{own}\", \"program\", \"run\", \"{micros}\", \"{{names-file}}\"]");
        let list = format!("[\"{own}\", \"program\", \"names\", \"{count}\"]");
        let settings = format!("[settings]\ntests = {count}\n");
        self.put(name, &format!("{}{settings}", text_of(name, &list, &run, "tap")), &[]).await
    }

    /// A suite of tests that sleep as long as they are told, each its own time.
    pub async fn uneven(&self, name: &str, durations: &[Span]) -> String {
        let own = std::env::current_exe().expect("a path").display().to_string();
        let list = format!("[\"{own}\", \"program\", \"uneven-names\", \"durations\"]");
        let run = format!("[\"{own}\", \"program\", \"uneven\", \"durations\", \"{{names-file}}\"]");
        let lines: String =
            durations.iter().enumerate().map(|(i, span)| format!("bench/test-{i} {}\n", span.0)).collect();
        self.suite_of(name, &list, &run, &[("durations", &lines)]).await
    }

    pub async fn suite_of(&self, name: &str, list: &str, run: &str, files: &[(&str, &str)]) -> String {
        self.suite_with(name, list, run, "tap", files).await
    }

    /// A suite whose processes report results so.
    pub async fn suite_with(&self, name: &str, list: &str, run: &str, results: &str, files: &[(&str, &str)]) -> String {
        self.put(name, &text_of(name, list, run, results), files).await
    }

    async fn put(&self, name: &str, text: &str, files: &[(&str, &str)]) -> String {
        let folder = self.dir.path().join(format!("suite-{name}"));
        std::fs::create_dir_all(&folder).expect("a folder");
        std::fs::write(folder.join("kesmo.toml"), text).expect("the suite file");
        for (file, content) in files {
            std::fs::write(folder.join(file), content).expect("a file");
        }
        let bundle = pack::pack(Path::new(&folder)).expect("a bundle");
        self.client.upload(&bundle).await.expect("it is uploaded");
        bundle.digest
    }

    /// The token by which workers link.
    pub fn worker_token(&self) -> &str {
        &self.worker_token
    }

    /// How many workers are linked.
    pub async fn workers(&self) -> usize {
        let here: Vec<Worker> = self.client.get("/api/workers", &[]).await.expect("workers");
        here.iter().filter(|worker| worker.connected).count()
    }

    /// The address of the service's own database.
    fn database(&self) -> String {
        let data = self.dir.path().join("service");
        let password = std::fs::read_to_string(data.join("postgres-password")).expect("its password");
        let postmaster = std::fs::read_to_string(data.join("postgres/postmaster.pid")).expect("its server");
        let port = postmaster.lines().nth(3).expect("its port");
        format!("postgres://kesmo:{}@127.0.0.1:{port}/postgres", password.trim())
    }

    /// Carries statements out in the service's own database; tells what they say.
    pub fn sql(&self, statements: &str) -> String {
        let url = self.database();
        let file = self.dir.path().join("statements.sql");
        std::fs::write(&file, statements).expect("a file");
        let psql =
            Command::new("psql").args(["-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", &url, "-f"]).arg(&file).output();
        let psql = psql.expect("psql, of Debian's package");
        assert!(psql.status.success(), "{}", String::from_utf8_lossy(&psql.stderr));
        String::from_utf8_lossy(&psql.stdout).into_owned()
    }

    pub async fn start(&self, bundle: &str) -> Run {
        self.begin(&run_of(bundle)).await
    }

    /// Starts a run of a pool.
    pub async fn start_in(&self, pool: &str, bundle: &str) -> Run {
        self.begin(&NewRun { pool: Some(pool.to_owned()), ..run_of(bundle) }).await
    }

    async fn begin(&self, new: &NewRun) -> Run {
        self.client.post("/api/runs", new).await.expect("a run")
    }

    /// Starts a run and stays; hands each change with the time at which it came to `each`. Tells the seconds from the
    /// call to the verdict.
    pub async fn wait(&self, bundle: &str, each: impl FnMut(&RunChange, i64)) -> f64 {
        self.stay_with(bundle, RunOptions::default(), each).await
    }

    pub async fn stay_with(&self, bundle: &str, options: RunOptions, each: impl FnMut(&RunChange, i64)) -> f64 {
        self.stay(&NewRun { options, ..run_of(bundle) }, each).await
    }

    pub async fn stay_in(&self, pool: &str, bundle: &str, each: impl FnMut(&RunChange, i64)) -> f64 {
        self.stay(&NewRun { pool: Some(pool.to_owned()), ..run_of(bundle) }, each).await
    }

    async fn stay(&self, new: &NewRun, mut each: impl FnMut(&RunChange, i64)) -> f64 {
        let began = Instant::now();
        let run = self.begin(new).await;
        let path = format!("/api/runs/{}/live", run.summary.name);
        let mut events = self.client.watch(&path, None).await.expect("a stream");
        while let Some(event) = events.next().await.expect("no cut") {
            let at = now_us();
            if event.kind != "snapshot" {
                let change: RunChange = serde_json::from_str(&event.data).expect("a change");
                if event.kind == "end" {
                    let took = began.elapsed().as_secs_f64();
                    each(&change, at);
                    assert_eq!(change.summary.verdict.map(|v| v.word()), Some("passed"), "{:?}", change.summary);
                    return took;
                }
                each(&change, at);
            }
        }
        panic!("the stream ended without a verdict")
    }
}

fn text_of(name: &str, list: &str, run: &str, results: &str) -> String {
    format!("suite = \"{name}\"\n[tests]\nlist = {list}\nrun = {run}\nresults = \"{results}\"\n")
}

fn run_of(bundle: &str) -> NewRun {
    NewRun { bundle: Some(bundle.to_owned()), ..NewRun::default() }
}

pub fn now_us() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    since.as_micros() as i64
}

impl Drop for Quay {
    fn drop(&mut self) {
        for child in self.children.iter_mut().rev() {
            // SAFETY: plain numbers; the child has not been waited for.
            unsafe { libc::kill(child.id() as i32, libc::SIGTERM) };
            if let Err(e) = child.wait() {
                eprintln!("kesmo-bench: {e}");
            }
        }
    }
}
