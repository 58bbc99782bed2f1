//! A quay to test at: a service with a PostgreSQL of its own, workers, and suites made for the test.

use std::{
    fs,
    io::{BufRead, BufReader},
    os::unix::{
        fs::{MetadataExt, PermissionsExt},
        process::CommandExt,
    },
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::{Arc, LazyLock, Mutex, mpsc},
    time::{Duration, Instant},
};

use serde_json::Value;
use tempfile::TempDir;

use crate::network::Network;

/// The program under test.
pub const KESMO: &str = env!("CARGO_BIN_EXE_kesmo");

/// A process that is ended, and waited for, with its owner.
pub struct Process(pub Child);

impl Process {
    pub fn signal(&self, signal: i32) {
        // SAFETY: plain numbers; the child has not been waited for.
        unsafe { libc::kill(self.0.id() as i32, signal) };
    }

    /// Waits for the end; panics if it does not come.
    pub fn wait(&mut self) -> i32 {
        let status = until("the process ends", || self.0.try_wait().expect("the process can be waited for"));
        status.code().unwrap_or(-1)
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        self.signal(libc::SIGTERM);
        let since = Instant::now();
        while matches!(self.0.try_wait(), Ok(None)) {
            if since.elapsed() > Duration::from_secs(20) {
                self.signal(libc::SIGKILL);
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

/// Waits for something, with a bound.
pub fn until<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let since = Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(since.elapsed() < Duration::from_secs(60), "waited a minute for: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A service and everything around it, in a folder that goes away with it.
pub struct Quay {
    service: Option<Process>,
    pub url: String,
    pub dir: TempDir,
    patience: &'static str,
    /// Further options of the service.
    options: Vec<String>,
    /// What the service said when it was started first.
    greeting: Arc<Mutex<String>>,
    /// The machine's clock, as the service and its workers see it.
    wall: Option<Wall>,
}

/// The machine's clock, as some processes see it: what a test sets, others do not notice. Their monotonic clock goes on.
#[derive(Clone)]
pub struct Wall(PathBuf);

impl Wall {
    /// Sets it by so much beside the true one: `+5h`, `-20m`.
    pub fn set(&self, by: &str) {
        fs::write(&self.0, by).expect("the clock is set");
    }

    fn of(&self, command: &mut Command) {
        const LIBRARY: &str = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1";
        assert!(Path::new(LIBRARY).exists(), "clocks are set with Debian's package faketime");
        command.env("LD_PRELOAD", LIBRARY).env("FAKETIME_TIMESTAMP_FILE", &self.0);
        command.env("FAKETIME_NO_CACHE", "1").env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
    }
}

/// Ends a child when the thread that starts it ends, so that nothing outlives the tests.
fn ended_with_us(command: &mut Command) -> &mut Command {
    // SAFETY: only a call that is safe after fork is made.
    unsafe {
        command.pre_exec(|| {
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGTERM, 0, 0, 0);
            Ok(())
        })
    }
}

/// Starts a child from a thread that never ends: tests run in threads of their own, which do.
pub fn spawn(mut command: Command) -> Child {
    type Request = (Command, mpsc::Sender<Child>);
    static SPAWNER: LazyLock<mpsc::Sender<Request>> = LazyLock::new(|| {
        let (sender, requests) = mpsc::channel::<Request>();
        std::thread::spawn(move || {
            for (mut command, reply) in requests {
                let child = ended_with_us(&mut command).spawn().expect("the program starts");
                reply.send(child).expect("the test waits for it");
            }
        });
        sender
    });
    let (reply, answer) = mpsc::channel();
    command.stdin(Stdio::null());
    SPAWNER.clone().send((command, reply)).expect("the spawner lives");
    answer.recv().expect("the spawner answers")
}

pub fn repository(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
}

/// A stand-in that was started, and the line that it says first.
pub fn stand_in_saying(name: &str, words: &[&str]) -> (Process, String) {
    let mut command = Command::new(repository("standins").join(name));
    command.args(words).stdout(Stdio::piped());
    let mut process = Process(spawn(command));
    let mut said = String::new();
    BufReader::new(process.0.stdout.take().expect("its output")).read_line(&mut said).expect("it says where it is");
    (process, said.trim().to_owned())
}

/// A stand-in that listens; its address, `127.0.0.1:7401`.
pub fn stand_in(name: &str, words: &[&str]) -> (Process, String) {
    let (process, said) = stand_in_saying(name, words);
    let at = said.rsplit(' ').next().expect("an address").to_owned();
    (process, at)
}

/// The quay that tests share which do it no harm. It has two workers with two slots each, and is cleared away when the
/// tests are done.
pub fn shared() -> &'static Quay {
    &SHARED.0
}

static SHARED: LazyLock<(Quay, [Process; 2])> = LazyLock::new(|| {
    let quay = Quay::open();
    let workers = ["heron", "tern"].map(|name| quay.worker(name, 2));
    // SAFETY: the function does not unwind, and uses nothing that is gone when the process exits.
    unsafe { libc::atexit(clear_away) };
    (quay, workers)
});

extern "C" fn clear_away() {
    let (quay, workers) = &*SHARED;
    for process in workers.iter().chain(&quay.service) {
        process.signal(libc::SIGTERM);
        let mut status = 0;
        // SAFETY: the pointer is to a local number, and the child is ours.
        unsafe { libc::waitpid(process.0.id() as i32, &raw mut status, 0) };
    }
    if let Err(e) = fs::remove_dir_all(quay.dir.path()) {
        eprintln!("{e}");
    }
}

/// What a service has that was started once and ended: making a cluster of PostgreSQL and its tables anew for each quay would be a
/// tenth of what the trials cost.
static MOULD: LazyLock<Quay> = LazyLock::new(|| {
    let mut quay = Quay::fresh();
    // A copy without the templates, and with a log in small parts, is smaller and has fewer files: nobody makes another database there.
    for template in ["template0", "template1"] {
        quay.sql(&format!("ALTER DATABASE {template} IS_TEMPLATE false"));
        quay.sql(&format!("DROP DATABASE {template}"));
    }
    quay.end();
    small_log(&quay.path("service").join("postgres"));
    for own in ["lock", "service-id"] {
        fs::remove_file(quay.path("service").join(own)).expect("what only one service has is taken away");
    }
    // SAFETY: the function does not unwind, and uses nothing that is gone when the process exits.
    unsafe { libc::atexit(break_mould) };
    quay
});

/// A program of a version of PostgreSQL, as Debian's package keeps them.
fn of_postgresql(version: &str, program: &str) -> PathBuf {
    Path::new("/usr/lib/postgresql").join(version).join("bin").join(program)
}

/// Debian's `psql` is a script that looks for clusters and packages: what trials ask goes past it, to the newest one.
static PSQL: LazyLock<PathBuf> = LazyLock::new(|| {
    let versions = fs::read_dir("/usr/lib/postgresql").expect("Debian's package").flatten();
    let named = versions.filter_map(|version| version.file_name().into_string().ok());
    let ours = named.filter(|version| of_postgresql(version, "psql").exists());
    let newest = ours.max_by_key(|version| version.parse::<u32>().unwrap_or_default());
    of_postgresql(&newest.expect("a version"), "psql")
});

/// Has a cluster that is not running keep its log in parts of 1 MB in place of 16.
fn small_log(cluster: &Path) {
    let owner = fs::metadata(cluster).expect("a cluster");
    // The version that made it, whatever others there are.
    let version = fs::read_to_string(cluster.join("PG_VERSION")).expect("its version");
    let mut command = Command::new(of_postgresql(version.trim(), "pg_resetwal"));
    command.arg("--wal-segsize=1").arg("-D").arg(cluster).current_dir("/").uid(owner.uid()).gid(owner.gid());
    let output = command.output().expect("it comes with PostgreSQL");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

extern "C" fn break_mould() {
    if let Err(e) = fs::remove_dir_all(MOULD.dir.path()) {
        eprintln!("{e}");
    }
}

impl Quay {
    /// One whose service starts for the first time.
    pub fn fresh() -> Self {
        let mut quay = Self::apart("2s", |_| Vec::new());
        quay.start();
        quay
    }

    pub fn open() -> Self {
        Self::with_patience("2s")
    }

    pub fn with_patience(patience: &'static str) -> Self {
        Self::in_folder(patience, |_| Vec::new())
    }

    /// A quay whose schedules go by a clock that the test sets.
    pub fn with_clock(start: &str) -> (Self, Clock) {
        let mut clock = None;
        let quay = Self::in_folder("2s", |dir| {
            let made = clock.insert(Clock::new(dir.join("clock"), start));
            vec!["--clock".into(), made.path.display().to_string()]
        });
        (quay, clock.expect("it was made"))
    }

    /// A quay whose service and workers see a clock that the test sets.
    pub fn with_wall() -> (Self, Wall) {
        let mut quay = Self::apart("2s", |_| Vec::new());
        quay.fill();
        let wall = Wall(quay.path("wall"));
        wall.set("+0");
        quay.wall = Some(wall.clone());
        quay.start();
        (quay, wall)
    }

    /// A quay whose service has further options.
    pub fn with_options(options: &[&str]) -> Self {
        let options = options.iter().map(|word| (*word).to_owned()).collect();
        Self::in_folder("2s", |_| options)
    }

    /// The same, where the options name files of its folder.
    pub fn with_options_in(options: impl FnOnce(&Path) -> Vec<String>) -> Self {
        Self::in_folder("2s", options)
    }

    /// One of several services that share a database and their files. The folder is its own.
    pub fn sharing(patience: &'static str, database: &str, blobs: &Path, clock: &Clock) -> Self {
        let (blobs, clock) = (blobs.display().to_string(), clock.path.display().to_string());
        let words = ["--database", database, "--blobs", &blobs, "--clock", &clock];
        Self::in_folder(patience, |_| words.map(str::to_owned).to_vec())
    }

    /// A quay in a folder of its own, whose service has further options.
    fn in_folder(patience: &'static str, options: impl FnOnce(&Path) -> Vec<String>) -> Self {
        let mut quay = Self::apart(patience, options);
        if !quay.options.iter().any(|option| option == "--database") {
            quay.fill();
        }
        quay.start();
        quay
    }

    /// Fills its folder with what the mould has.
    fn fill(&self) {
        let copied = Command::new("cp").arg("-a").arg(MOULD.path("service")).arg(self.path("service")).status();
        assert!(copied.is_ok_and(|status| status.success()), "the mould is copied");
    }

    /// The same, whose service is not started yet.
    fn apart(patience: &'static str, options: impl FnOnce(&Path) -> Vec<String>) -> Self {
        let dir = tempfile::tempdir().expect("a folder");
        // PostgreSQL runs as another user where the tests run as root, and must reach its cluster.
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).expect("its rights");
        let options = options(dir.path());
        Self { service: None, url: String::new(), dir, patience, options, greeting: Arc::default(), wall: None }
    }

    /// Whether its service runs.
    pub fn is_up(&self) -> bool {
        self.service.is_some()
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// Starts the service, on the port that it had before if there was one.
    pub fn start(&mut self) {
        let listen = self.url.strip_prefix("http://").unwrap_or("127.0.0.1:0").to_owned();
        let mut command = Command::new(KESMO);
        command.args(["serve", "--listen", &listen, "--patience", self.patience, "--data"]).arg(self.path("service"));
        // Repositories of tests lie where all their folders do.
        command.arg("--git-folder").arg(std::env::temp_dir()).args(&self.options);
        let log = fs::OpenOptions::new().create(true).append(true).open(self.path("service.log")).expect("a log");
        command.stdout(Stdio::piped()).stderr(log);
        self.wall.iter().for_each(|wall| wall.of(&mut command));
        let mut service = Process(spawn(command));
        let mut lines = BufReader::new(service.0.stdout.take().expect("its output")).lines().map_while(Result::ok);
        let mut said = String::new();
        for line in lines.by_ref() {
            said += &line;
            if let Some(url) = line.strip_prefix("Kesmo is listening on ") {
                self.url = url.to_owned();
                self.service = Some(service);
                let greeting = Arc::clone(&self.greeting);
                std::thread::spawn(move || lines.for_each(|line| *greeting.lock().expect("nobody failed") += &line));
                return;
            }
        }
        panic!("the service did not start: {said}{}", fs::read_to_string(self.path("service.log")).unwrap_or_default());
    }

    /// What the service says after its address, once it has.
    pub fn greeting(&self) -> String {
        until("it greets", || Some(self.greeting.lock().expect("nobody failed").clone()).filter(|g| !g.is_empty()))
    }

    pub fn service_pid(&self) -> u32 {
        self.service.as_ref().expect("the service runs").0.id()
    }

    pub fn service(&mut self) -> &mut Process {
        self.service.as_mut().expect("the service runs")
    }

    /// Kills the service without warning.
    pub fn kill_service(&mut self) {
        self.service().signal(libc::SIGKILL);
        self.service().wait();
        self.service = None;
    }

    /// The service has ended and was waited for.
    pub fn ended(&mut self) {
        self.service = None;
    }

    /// Ends the service.
    pub fn end(&mut self) {
        if let Some(mut service) = self.service.take() {
            service.signal(libc::SIGTERM);
            service.wait();
        }
    }

    pub fn token(&self) -> String {
        fs::read_to_string(self.path("service/admin-token")).expect("the admin's token").trim().to_owned()
    }

    /// A worker; it is ended with what is given back.
    pub fn worker(&self, name: &str, slots: u16) -> Process {
        self.worker_at(name, slots, &self.url, &self.token())
    }

    /// A worker with a container engine.
    pub fn worker_with(&self, name: &str, slots: u16, engine: &str) -> Process {
        self.worker_of(Command::new(KESMO), (name, slots), &self.url, &self.token(), engine, "main")
    }

    /// A worker that knows several addresses, split by commas; its token is made by the admin's.
    pub fn worker_at(&self, name: &str, slots: u16, urls: &str, admin: &str) -> Process {
        self.worker_of(Command::new(KESMO), (name, slots), urls, admin, "none", "main")
    }

    /// The same in a network of its own.
    pub fn worker_within(&self, network: &Network, name: &str, slots: u16, urls: &str, admin: &str) -> Process {
        self.worker_of(network.program(), (name, slots), urls, admin, "none", "main")
    }

    /// A worker of another pool; its token is made by the admin's.
    pub fn worker_in(&self, pool: &str, name: &str, slots: u16, admin: &str) -> Process {
        self.worker_of(Command::new(KESMO), (name, slots), &self.url, admin, "none", pool)
    }

    fn worker_of(
        &self,
        mut command: Command,
        (name, slots): (&str, u16),
        urls: &str,
        admin: &str,
        engine: &str,
        pool: &str,
    ) -> Process {
        let token_file = self.path(&format!("token-{name}"));
        if !token_file.exists() {
            let added = self.kesmo_as(admin, &["token", "add", &format!("worker-{name}"), "--role", "worker"]);
            fs::write(&token_file, text(&added.stdout).trim()).expect("the token is kept");
        }
        command.args([
            "worker",
            "--name",
            name,
            "--slots",
            &slots.to_string(),
            "--offer",
            "os=linux",
            "--pool",
            pool,
            "--home",
        ]);
        command.arg(self.path(&format!("worker-{name}")));
        command
            .env("KESMO_ENGINE", engine)
            .env("KESMO_URL", urls)
            .env("KESMO_TOKEN", fs::read_to_string(&token_file).expect("the token"));
        let log = fs::OpenOptions::new().create(true).append(true).open(self.path("workers.log")).expect("a log");
        command.stdout(Stdio::null()).stderr(log);
        self.wall.iter().for_each(|wall| wall.of(&mut command));
        let mut process = Process(spawn(command));
        let since = Instant::now();
        loop {
            let known = self.kesmo_as(admin, &["workers", "--json"]);
            let here = |w: &Value| w["name"] == name && w["connected"] == true;
            match serde_json::from_slice::<Value>(&known.stdout) {
                Ok(workers) if workers.as_array().expect("a list").iter().any(here) => return process,
                _ => {}
            }
            let ended = process.0.try_wait().expect("the process can be waited for");
            if ended.is_some() || since.elapsed() > Duration::from_secs(60) {
                let log = fs::read_to_string(self.path("workers.log")).unwrap_or_default();
                let last: Vec<&str> = log.lines().rev().take(20).collect();
                panic!("{name} is not linked ({ended:?}): {}\n{}", all_said(&known), last.join("\n"));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The address of the service's own PostgreSQL.
    pub fn database(&self) -> String {
        let password = fs::read_to_string(self.path("service/postgres-password")).expect("its password");
        let pids = fs::read_to_string(self.path("service/postgres/postmaster.pid")).expect("its port");
        let port = pids.lines().nth(3).expect("a port");
        format!("postgres://kesmo:{}@127.0.0.1:{}/postgres", password.trim(), port.trim())
    }

    /// Does something in the service's PostgreSQL.
    pub fn sql(&self, statement: &str) -> String {
        psql(&self.database(), statement).unwrap_or_else(|said| panic!("{statement}: {said}"))
    }

    /// A client of the service, with a token.
    pub fn client(&self, token: &str) -> kesmo_client::Client {
        kesmo_client::Client::new(&self.url, token, &kesmo_tls::Trust::default()).expect("a client")
    }

    /// Calls the program as the admin.
    pub fn kesmo(&self, words: &[&str]) -> Output {
        self.kesmo_as(&self.token(), words)
    }

    /// Calls the program with another token.
    pub fn kesmo_as(&self, token: &str, words: &[&str]) -> Output {
        self.command_as(token, words).output().expect("the program runs")
    }

    /// A call of the program that is yet to be made.
    pub fn command(&self, words: &[&str]) -> Command {
        self.command_as(&self.token(), words)
    }

    pub fn command_as(&self, token: &str, words: &[&str]) -> Command {
        let mut command = Command::new(KESMO);
        command.args(words).current_dir(self.dir.path()).env("KESMO_URL", &self.url).env("KESMO_TOKEN", token);
        // What a person saved on this machine must not matter.
        command.env("HOME", self.dir.path()).env_remove("XDG_CONFIG_HOME").env("KESMO_ENGINE", "none");
        command
    }

    /// Calls the program for JSON.
    pub fn json(&self, words: &[&str]) -> Value {
        let mut all = words.to_vec();
        all.push("--json");
        let output = self.kesmo(&all);
        serde_json::from_slice(&output.stdout).unwrap_or_else(|e| panic!("{words:?}: {e}: {}", all_said(&output)))
    }

    /// Starts a suite's folder and stays; tells the exit status and everything that was said.
    pub fn wait(&self, suite: &Path, more: &[&str]) -> (i32, String) {
        let folder = suite.to_string_lossy().into_owned();
        let mut words = vec!["start", &folder, "--wait", "--refresh", "1s"];
        words.extend(more);
        let output = self.kesmo(&words);
        (output.status.code().unwrap_or(-1), all_said(&output))
    }

    /// Starts a suite's folder; tells the run's name.
    pub fn start_run(&self, suite: &Path, more: &[&str]) -> String {
        let folder = suite.to_string_lossy().into_owned();
        let mut words = vec!["start", &folder];
        words.extend(more);
        let output = self.kesmo(&words);
        assert!(output.status.success(), "{}", all_said(&output));
        text(&output.stdout).trim().to_owned()
    }

    pub fn run(&self, name: &str) -> Value {
        self.json(&["show", name])["run"].clone()
    }

    pub fn entries(&self, name: &str) -> Vec<Value> {
        self.json(&["show", name, "--state", "all"])["entries"]["entries"].as_array().expect("entries").clone()
    }

    /// The attempts of a test: how each ended, and on which worker.
    pub fn history(&self, run: &str, test: &str) -> Vec<Value> {
        self.json(&["log", run, test])["history"].as_array().expect("a history").clone()
    }

    /// A suite whose one script lists with `--names` and runs the names that it is given.
    pub fn suite(&self, name: &str, results: &str, script: &str, more: &str) -> PathBuf {
        let folder = self.path(&format!("suite-{name}"));
        fs::create_dir_all(&folder).expect("a folder");
        let names = if results == "exit" { "{name}" } else { "{names}" };
        let file = format!(
            "suite = \"{name}\"\n[tests]\nlist = [\"sh\", \"tests.sh\", \"--names\"]\nrun = [\"sh\", \"tests.sh\", \"{names}\"]\n\
             results = \"{results}\"\n{more}\n"
        );
        fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
        fs::write(folder.join("tests.sh"), script).expect("the script");
        folder
    }

    /// A suite of TAP tests `NAMES`, each run by `body` with its name in `$t`; `body` prints the result.
    pub fn tap(&self, name: &str, names: &str, body: &str, more: &str) -> PathBuf {
        let script = format!(
            "if [ \"$1\" = --names ]; then printf '%s\\n' {names}; exit; fi\nfor t in \"$@\"; do\n{body}\ndone\n"
        );
        self.suite(name, "tap", &script, more)
    }
}

/// A clock that a test sets, in a file that services read.
#[derive(Clone)]
pub struct Clock {
    pub path: PathBuf,
}

impl Clock {
    pub fn new(path: PathBuf, start: &str) -> Self {
        let clock = Self { path };
        clock.set(start);
        clock
    }

    /// Puts the clock to a moment, RFC 3339.
    pub fn set(&self, moment: &str) {
        let moment: chrono::DateTime<chrono::Utc> = moment.parse().expect("a moment");
        self.put(moment.timestamp_micros());
    }

    pub fn put(&self, micros: i64) {
        // Moved into place whole, so that nobody reads half of it.
        let coming = self.path.with_extension("coming");
        fs::write(&coming, micros.to_string()).expect("the clock is set");
        fs::rename(&coming, &self.path).expect("the clock is set");
    }

    pub fn micros(&self) -> i64 {
        fs::read_to_string(&self.path).expect("the clock").trim().parse().expect("a number")
    }

    pub fn go_on(&self, seconds: i64) {
        self.put(self.micros() + seconds * 1_000_000);
    }
}

/// A git repository with the files of a suite.
pub struct Repo {
    pub path: PathBuf,
}

impl Repo {
    /// Makes one of a folder's files.
    pub fn of(folder: &Path, path: PathBuf) -> Self {
        fs::create_dir_all(&path).expect("a folder");
        let repo = Self { path };
        repo.git(&["init", "--quiet"]);
        for file in fs::read_dir(folder).expect("the files").flatten() {
            fs::copy(file.path(), repo.path.join(file.file_name())).expect("a copy");
        }
        repo.commit("first");
        repo
    }

    pub fn git(&self, words: &[&str]) -> String {
        let who =
            ["-c", "user.name=Lantern Quay", "-c", "user.email=crew@quay.example", "-c", "init.defaultBranch=main"];
        let output = Command::new("git").args(who).args(words).current_dir(&self.path).output().expect("git runs");
        assert!(output.status.success(), "{words:?}: {}", all_said(&output));
        text(&output.stdout).trim().to_owned()
    }

    /// Commits everything; tells the commit.
    pub fn commit(&self, about: &str) -> String {
        self.git(&["add", "-A"]);
        self.git(&["commit", "--quiet", "--allow-empty", "-m", about]);
        self.git(&["rev-parse", "HEAD"])
    }

    pub fn url(&self) -> String {
        format!("file://{}", self.path.display())
    }
}

/// Does something in a PostgreSQL.
pub fn psql(database: &str, statement: &str) -> Result<String, String> {
    let mut psql = Command::new(&*PSQL);
    psql.args(["-X", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-c", statement]).arg(database);
    let output = psql.output().expect("psql comes with PostgreSQL");
    if output.status.success() { Ok(text(&output.stdout).trim().to_owned()) } else { Err(all_said(&output)) }
}

pub fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Everything that a call said.
pub fn all_said(output: &Output) -> String {
    text(&output.stdout) + &text(&output.stderr)
}

/// Asserts that a text holds others, showing it if not.
#[track_caller]
pub fn assert_says(text: &str, wanted: &[&str]) {
    for part in wanted {
        assert!(text.contains(part), "wanted {part:?} in:\n{text}");
    }
}

/// How many processes have this in their command line, in which a NUL stands behind every word. A number alone is too
/// little: some other program has it in its own by chance.
pub fn processes_with(word: &str) -> usize {
    let pids = fs::read_dir("/proc").expect("processes").flatten();
    pids.filter(|p| fs::read(p.path().join("cmdline")).is_ok_and(|c| text(&c).contains(word))).count()
}
