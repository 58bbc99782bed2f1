//! A PostgreSQL of the service's own, from Debian's package, in the data folder and on loopback.
//!
//! PostgreSQL refuses to run as root: then its commands run as the user `postgres` that the package makes. If that user
//! cannot reach the data folder, the cluster stands under `/var/lib/kesmo` instead. The cluster wants a password, which
//! stands in the data folder where only the owner reads it. A server that goes away is started again.

mod dump;
mod programs;

use std::{
    fs,
    os::unix::fs::{OpenOptionsExt, PermissionsExt, chown},
    path::{Path, PathBuf},
    process::{Command, Output},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
        mpsc,
    },
    time::{Duration, Instant},
};

use kesmo_files::secret::{random_text, write_secret};

pub use dump::{dump, load};
pub use programs::Error;
use programs::find_programs;

/// For rows that are written all the time: after each checkpoint PostgreSQL writes every page that changes once more as a whole, so
/// that they are to be rare. Up to 4 GiB of its log may be kept for it, by whoever writes so much in a quarter of an hour.
const AS_IT_IS_USED: &str = "-c shared_buffers=128MB -c max_wal_size=4GB -c checkpoint_timeout=15min";

/// How long a server is waited for that starts or stops: after a crash it first does again what was written since its last checkpoint.
const IN_TIME: Duration = Duration::from_secs(600);
/// After how long it is told that this takes long, and how often then.
const TELL: (Duration, Duration) = (Duration::from_secs(10), Duration::from_secs(30));

/// A running cluster.
#[derive(Debug, Clone)]
pub struct Postgres {
    bin: PathBuf,
    cluster: PathBuf,
    port: u16,
    password: String,
    as_root: bool,
    stopping: Arc<AtomicBool>,
}

impl Postgres {
    /// Starts the cluster of a data folder, making it first where there is none. A server that still runs is taken over.
    ///
    /// # Errors
    /// If PostgreSQL is not installed, or its commands fail; with what they said.
    pub fn start(data: &Path) -> Result<Self, Error> {
        Self::join(data).map(|joined| joined.0)
    }

    /// The same; tells whether a server ran already, which is another's then.
    ///
    /// # Errors
    /// If PostgreSQL is not installed, or its commands fail; with what they said.
    pub fn join(data: &Path) -> Result<(Self, bool), Error> {
        let bin = find_programs()?;
        let as_root = nix::unistd::geteuid().is_root();
        let place = if as_root { place_for_root(data)? } else { data.to_owned() };
        let cluster = place.join("postgres");
        let password = password(data)?;
        let mut postgres =
            Self { bin, cluster, port: 0, password, as_root, stopping: Arc::new(AtomicBool::new(false)) };
        if !postgres.cluster.join("PG_VERSION").exists() {
            postgres.make(&place)?;
        }
        match postgres.settled() {
            Some(port) => {
                postgres.port = port;
                return Ok((postgres, true));
            }
            None => {
                postgres.port = free_port()?;
                postgres.clear_after_the_dead()?;
                postgres.run_server()?;
            }
        }
        Ok((postgres, false))
    }

    /// The address to connect to.
    #[must_use]
    pub fn url(&self) -> String {
        format!("postgres://kesmo:{}@127.0.0.1:{}/postgres?sslmode=disable", self.password, self.port)
    }

    /// Starts the server again whenever it is gone, until [`Postgres::stop`].
    pub async fn keep_up(self) {
        loop {
            tokio::time::sleep(Duration::from_millis(500)).await;
            let this = self.clone();
            let looked = tokio::task::spawn_blocking(move || {
                if this.settled().is_some() || this.stopping.load(Ordering::SeqCst) {
                    return Ok(());
                }
                tracing::warn!("PostgreSQL is gone; starting it again");
                this.clear_after_the_dead()?;
                this.run_server()
            });
            match looked.await {
                Ok(Ok(())) => {}
                Ok(Err(e)) => tracing::error!("PostgreSQL could not be started again: {e}"),
                Err(e) => tracing::error!("looking after PostgreSQL failed: {e}"),
            }
            if self.stopping.load(Ordering::SeqCst) {
                return;
            }
        }
    }

    /// Stops the server.
    ///
    /// # Errors
    /// If it does not stop.
    pub fn stop(&self) -> Result<(), Error> {
        self.stopping.store(true, Ordering::SeqCst);
        self.call("pg_ctl", &["-D", &text(&self.cluster), "-m", "fast", "-w", "stop"]).map(drop)
    }

    fn make(&self, place: &Path) -> Result<(), Error> {
        let secret = place.join("postgres-password-once");
        write_secret(&secret, &self.password).map_err(|e| Error::file(&secret, &e))?;
        if self.as_root {
            let (uid, gid) = postgres_user()?;
            fs::create_dir_all(&self.cluster).map_err(|e| Error::file(&self.cluster, &e))?;
            for path in [&self.cluster, &secret] {
                chown(path, Some(uid), Some(gid)).map_err(|e| Error::file(path, &e))?;
            }
        }
        let pwfile = format!("--pwfile={}", text(&secret));
        let cluster = text(&self.cluster);
        let options = ["-D", &cluster, "-U", "kesmo", "--auth=scram-sha-256", &pwfile, "--encoding=UTF8", "--locale=C"];
        let made = self.call("initdb", &options);
        fs::remove_file(&secret).map_err(|e| Error::file(&secret, &e))?;
        made.map(drop)
    }

    fn run_server(&self) -> Result<(), Error> {
        let log = text(&self.cluster.join("server.log"));
        let options = format!(
            "-p {} -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=120 {AS_IT_IS_USED}",
            self.port
        );
        let seconds = IN_TIME.as_secs().to_string();
        let words = ["-D", &text(&self.cluster), "-l", &log, "-w", "-t", &seconds, "-o", &options, "start"];
        let _waits = self.tell_of_waiting();
        self.call("pg_ctl", &words).map(drop)
    }

    /// The port of the running server; one that is only starting, or is stopping, is waited for.
    fn settled(&self) -> Option<u16> {
        let (began, mut waits) = (Instant::now(), None);
        loop {
            let port = self.running_port();
            if port.is_some() || !self.has_server() || self.stopping.load(Ordering::SeqCst) || began.elapsed() > IN_TIME
            {
                return port;
            }
            waits.get_or_insert_with(|| self.tell_of_waiting());
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Says now and then that PostgreSQL is waited for, until what it returns is dropped.
    fn tell_of_waiting(&self) -> mpsc::Sender<()> {
        let (ends, ended) = mpsc::channel();
        let (began, log) = (Instant::now(), self.cluster.join("server.log"));
        std::thread::spawn(move || {
            let mut pause = TELL.0;
            while ended.recv_timeout(pause) == Err(mpsc::RecvTimeoutError::Timeout) {
                tracing::warn!(
                    "PostgreSQL is waited for since {} s: after a crash it first does again what was written since its last checkpoint ({} says how far it is)",
                    began.elapsed().as_secs(),
                    log.display()
                );
                pause = TELL.1;
            }
        });
        ends
    }

    /// The port of the running server, from the fourth line of its `postmaster.pid`, if its process lives.
    fn running_port(&self) -> Option<u16> {
        let file = fs::read_to_string(self.cluster.join("postmaster.pid")).ok()?;
        let mut lines = file.lines();
        let pid = lines.next()?.trim();
        let port = lines.nth(2)?.trim().parse().ok()?;
        (self.lives(pid) && lines.nth(3).is_some_and(|state| state.trim() == "ready")).then_some(port)
    }

    /// Whether a server of this cluster lives, ready or not.
    fn has_server(&self) -> bool {
        let file = fs::read_to_string(self.cluster.join("postmaster.pid")).unwrap_or_default();
        self.lives(file.lines().next().unwrap_or_default().trim())
    }

    /// Whether a process is a server of this cluster that lives.
    fn lives(&self, pid: &str) -> bool {
        // A zombie has no command any more.
        let command = fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        let mut words = command.split(|b| *b == 0);
        let program = words.next().is_some_and(|word| word.ends_with(b"postgres"));
        program && words.any(|word| word == text(&self.cluster).as_bytes())
    }

    /// Removes the lock of a server that was killed, where its number is that of a process that is none of its kind: one
    /// that nobody took the status of, or that came after it. PostgreSQL would take that for the server.
    fn clear_after_the_dead(&self) -> Result<(), Error> {
        let path = self.cluster.join("postmaster.pid");
        let Ok(file) = fs::read_to_string(&path) else { return Ok(()) };
        let pid = file.lines().next().unwrap_or_default().trim();
        if self.lives(pid) || !Path::new("/proc").join(pid).exists() {
            return Ok(());
        }
        tracing::warn!(pid, "the lock of a PostgreSQL that was killed is removed");
        fs::remove_file(&path).map_err(|e| Error::file(&path, &e))
    }

    fn call(&self, program: &str, options: &[&str]) -> Result<Output, Error> {
        let path = text(&self.bin.join(program));
        let mut command = if self.as_root {
            let mut command = Command::new("runuser");
            command.args(["-u", "postgres", "--", &path]);
            command
        } else {
            Command::new(&path)
        };
        // The server must outlive Ctrl-C in the terminal: the service stops it in its own time.
        use std::os::unix::process::CommandExt;
        let failed = |why: String| Error::Postgres(format!("{program} failed: {why}"));
        // `pg_ctl start` leaves the server with its output: a pipe would never end.
        let place =
            if self.as_root { PathBuf::from("/") } else { self.cluster.parent().unwrap_or(Path::new("/")).to_owned() };
        // Of each call its own. Nobody can know its name, and what is there already is not written to.
        let said = std::env::temp_dir().join(format!("kesmo-{}.out", &random_text()[..24]));
        let out = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&said);
        let out = out.map_err(|e| Error::file(&said, &e))?;
        let both = out.try_clone().map_err(|e| Error::file(&said, &e))?;
        let status = command.args(options).current_dir(place).process_group(0).stdin(std::process::Stdio::null());
        let status = status.stdout(out).stderr(both).status().map_err(|e| failed(e.to_string()))?;
        let words = fs::read_to_string(&said).unwrap_or_default();
        fs::remove_file(&said).map_err(|e| Error::file(&said, &e))?;
        if status.success() {
            Ok(Output { status, stdout: words.into_bytes(), stderr: Vec::new() })
        } else {
            let log = fs::read_to_string(self.cluster.join("server.log")).unwrap_or_default();
            let tail: Vec<&str> = log.lines().rev().take(3).collect();
            Err(failed(format!("{} {}", words.trim(), tail.into_iter().rev().collect::<Vec<_>>().join("; "))))
        }
    }
}

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

fn postgres_user() -> Result<(u32, u32), Error> {
    let users = fs::read_to_string("/etc/passwd").map_err(|e| Error::file(Path::new("/etc/passwd"), &e))?;
    let line = users.lines().find(|l| l.starts_with("postgres:"));
    let ids = line.and_then(|l| {
        let fields: Vec<&str> = l.split(':').collect();
        Some((fields.get(2)?.parse().ok()?, fields.get(3)?.parse().ok()?))
    });
    ids.ok_or_else(|| {
        Error::Postgres("there is no user `postgres`, as which PostgreSQL runs when the service is root".into())
    })
}

/// The folder in which the user `postgres` can keep a cluster: the data folder, or one under `/var/lib/kesmo`.
fn place_for_root(data: &Path) -> Result<PathBuf, Error> {
    let reaches = Command::new("runuser").args(["-u", "postgres", "--", "test", "-x"]).arg(data).status();
    if reaches.is_ok_and(|s| s.success()) {
        return Ok(data.to_owned());
    }
    let name = kesmo_wire::Digest::of(text(data).as_bytes());
    let place = Path::new("/var/lib/kesmo").join(&name.as_str()[..16]);
    fs::create_dir_all(&place).map_err(|e| Error::file(&place, &e))?;
    fs::set_permissions(&place, fs::Permissions::from_mode(0o755)).map_err(|e| Error::file(&place, &e))?;
    Ok(place)
}

fn password(data: &Path) -> Result<String, Error> {
    let path = data.join("postgres-password");
    match fs::read_to_string(&path) {
        Ok(password) if !password.trim().is_empty() => Ok(password.trim().to_owned()),
        _ => {
            let password = random_text();
            write_secret(&path, &password).map_err(|e| Error::file(&path, &e))?;
            Ok(password)
        }
    }
}

fn free_port() -> Result<u16, Error> {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr());
    listener.map(|a| a.port()).map_err(|e| Error::Postgres(format!("no free port: {e}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of_cluster(cluster: &Path) -> Postgres {
        Postgres {
            bin: PathBuf::new(),
            cluster: cluster.to_owned(),
            port: 0,
            password: String::new(),
            as_root: false,
            stopping: Arc::default(),
        }
    }

    #[test]
    fn a_server_that_starts_or_stops_is_waited_for() {
        use std::os::unix::process::CommandExt;
        let dir = tempfile::tempdir().unwrap();
        let (postgres, lock) = (of_cluster(dir.path()), dir.path().join("postmaster.pid"));
        assert_eq!(postgres.settled(), None);
        // By its command a server of this cluster, until nobody writes to it any more.
        let mut server = Command::new("sh");
        server.arg0("/bin/postgres").args(["-c", "read -r _", &text(dir.path())]).stdin(std::process::Stdio::piped());
        let mut server = server.spawn().unwrap();
        let id = server.id();
        let state = |state: &str| fs::write(&lock, format!("{id}\n/x\n0\n5432\n\n\n\n{state}\n")).unwrap();
        while !postgres.lives(&id.to_string()) {
            std::thread::yield_now();
        }
        std::thread::scope(|at_once| {
            state("starting");
            let waits = at_once.spawn(|| postgres.settled());
            std::thread::sleep(Duration::from_millis(200));
            assert!(!waits.is_finished(), "it starts");
            state("ready   ");
            assert_eq!(waits.join().unwrap(), Some(5432));
            state("stopping");
            let waits = at_once.spawn(|| postgres.settled());
            std::thread::sleep(Duration::from_millis(200));
            assert!(!waits.is_finished(), "it stops");
            drop(server.stdin.take());
            server.wait().unwrap();
            assert_eq!(waits.join().unwrap(), None);
        });
    }

    #[test]
    fn a_lock_of_a_dead_server_is_removed_and_that_of_no_process_left_to_postgresql() {
        let dir = tempfile::tempdir().unwrap();
        let (postgres, lock) = (of_cluster(dir.path()), dir.path().join("postmaster.pid"));
        postgres.clear_after_the_dead().unwrap();
        // A process that has ended and whose status nobody took.
        let mut zombie = Command::new("true").spawn().unwrap();
        while !fs::read_to_string(format!("/proc/{}/stat", zombie.id())).unwrap().contains(") Z ") {
            std::thread::yield_now();
        }
        fs::write(&lock, format!("{}\n/x\n0\n5432\n\n\n\nready\n", zombie.id())).unwrap();
        assert_eq!(postgres.running_port(), None);
        postgres.clear_after_the_dead().unwrap();
        assert!(!lock.exists());
        zombie.wait().unwrap();
        fs::write(&lock, "4194304999\n").unwrap();
        postgres.clear_after_the_dead().unwrap();
        assert!(lock.exists(), "PostgreSQL removes it itself");
    }
}
