//! A suite's files: fetched once by digest, prepared once, and copied for each slot where slots would get into each
//! other's way.

use std::{
    collections::HashMap,
    io::Write,
    path::{Path, PathBuf},
    process::Stdio,
    sync::Arc,
    time::Duration,
};

use kesmo_core::{
    suite::{SuiteFile, file::FILE_NAME},
    time::Bytes,
};
use kesmo_wire::link::Setup;
use sha2::{Digest, Sha256};
use tokio::{
    io::AsyncReadExt,
    process::Command,
    sync::{Mutex, OnceCell},
};

use crate::{address::Address, capture::CappedLog, config::Config, process, user::RunAs};

/// A source that is ready to run.
#[derive(Debug)]
pub struct Ready {
    pub suite: SuiteFile,
    folder: PathBuf,
}

/// Sources are kept up to this size, in bytes, unless told otherwise.
const KEEP_SOURCES: u64 = 10 << 30;
/// The name of a source's folder: the beginning of its bundle's digest, 80 bits of it. The folder is where tests run, and test
/// programs exist that fail in one whose path is long.
fn folder_of(bundle: &str) -> &str {
    bundle.get(..20).unwrap_or(bundle)
}

/// Written whenever a source is used.
const USED: &str = "used";

/// A source on the disk.
struct Place {
    name: String,
    path: PathBuf,
    bytes: u64,
    used: std::time::SystemTime,
}

/// The sources in a folder, the longest unused first.
fn places(folder: &Path) -> Vec<Place> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let place = |entry: std::fs::DirEntry| {
        let path = entry.path();
        let used = std::fs::metadata(path.join(USED)).and_then(|m| m.modified()).unwrap_or(std::time::UNIX_EPOCH);
        Place { name: entry.file_name().to_string_lossy().into_owned(), bytes: size_of(&path), path, used }
    };
    let mut all: Vec<Place> = entries.flatten().map(place).collect();
    all.sort_by_key(|p| p.used);
    all
}

/// The size of everything below a folder; links are not followed.
fn size_of(path: &Path) -> u64 {
    let Ok(meta) = std::fs::symlink_metadata(path) else { return 0 };
    if !meta.is_dir() {
        return meta.len();
    }
    std::fs::read_dir(path).map_or(0, |entries| entries.flatten().map(|e| size_of(&e.path())).sum())
}

/// All sources of this worker.
pub struct Sources {
    config: Config,
    client: reqwest::Client,
    address: Arc<Address>,
    mark: String,
    run_as: Option<RunAs>,
    ready: Mutex<HashMap<String, Arc<OnceCell<Arc<Ready>>>>>,
}

impl Sources {
    pub fn new(
        config: Config,
        client: reqwest::Client,
        address: Arc<Address>,
        mark: String,
        run_as: Option<RunAs>,
    ) -> Self {
        Self { config, client, address, mark, run_as, ready: Mutex::default() }
    }

    /// Gives files to the user that tests run as, where that is another.
    ///
    /// # Errors
    /// In words for the run.
    pub fn hand_to_tests(&self, path: &Path) -> Result<(), String> {
        self.run_as.as_ref().map_or(Ok(()), |user| user.own(path))
    }

    /// A command of a suite, in a folder, with the environment that all its processes have.
    pub fn command(&self, words: &[String], folder: &Path, setup: &Setup) -> Command {
        command(words, folder, setup, &self.config.name, self.run_as.as_ref())
    }

    /// The source of an setup: fetched and prepared, by the first who asks.
    ///
    /// # Errors
    /// In words for the run: this worker can do nothing for it.
    pub async fn ready(&self, setup: &Setup) -> Result<Arc<Ready>, String> {
        let cell = {
            let mut all = self.ready.lock().await;
            Arc::clone(all.entry(setup.bundle.clone()).or_default())
        };
        let place = self.config.home.join("sources").join(folder_of(&setup.bundle));
        let fresh = !cell.initialized();
        let ready = cell.get_or_try_init(|| self.make_ready(setup)).await.cloned()?;
        // What is used last is kept longest.
        if let Err(e) = std::fs::write(place.join(USED), "") {
            tracing::debug!("{}: {e}", place.display());
        }
        if fresh {
            self.trim(folder_of(&setup.bundle)).await;
        }
        Ok(ready)
    }

    /// Removes the sources that were not used for longest while all together are larger than what is kept. Those in use
    /// stay.
    async fn trim(&self, current: &str) {
        let folder = self.config.home.join("sources");
        let measured = tokio::task::spawn_blocking(move || places(&folder)).await.unwrap_or_default();
        let mut total: u64 = measured.iter().map(|p| p.bytes).sum();
        for place in measured {
            if total <= self.config.keep_sources.map_or(KEEP_SOURCES, |k| k.0) {
                return;
            }
            let mut all = self.ready.lock().await;
            let in_use = |cell: &Arc<OnceCell<Arc<Ready>>>| {
                // A batch holds what it runs; a cell without content is being made ready.
                Arc::strong_count(cell) > 1 || cell.get().is_none_or(|ready| Arc::strong_count(ready) > 1)
            };
            if place.name == current || all.get(&place.name).is_some_and(in_use) {
                continue;
            }
            all.remove(&place.name);
            // Moved away under the lock, so that whoever needs it meanwhile makes it anew.
            let gone = place.path.with_extension("gone");
            match std::fs::rename(&place.path, &gone).and_then(|()| std::fs::remove_dir_all(&gone)) {
                Ok(()) => {
                    total -= place.bytes;
                    tracing::info!(source = place.name, "a source that was not used for long is removed");
                }
                Err(e) => tracing::warn!("{} could not be removed: {e}", place.path.display()),
            }
        }
    }

    async fn make_ready(&self, setup: &Setup) -> Result<Arc<Ready>, String> {
        let place = self.config.home.join("sources").join(folder_of(&setup.bundle));
        let folder = place.join("files");
        let done = place.join("prepared");
        let file_error = |path: &Path, e: std::io::Error| format!("{}: {e}", path.display());
        if !folder.exists() {
            let coming = place.join("coming");
            if coming.exists() {
                std::fs::remove_dir_all(&coming).map_err(|e| file_error(&coming, e))?;
            }
            std::fs::create_dir_all(&coming).map_err(|e| file_error(&coming, e))?;
            let archive = place.join("bundle.tar.gz");
            self.fetch(&setup.bundle, &archive).await?;
            unpack(&archive, &coming).await?;
            self.hand_to_tests(&coming)?;
            std::fs::rename(&coming, &folder).map_err(|e| file_error(&folder, e))?;
            std::fs::remove_file(&archive).map_err(|e| file_error(&archive, e))?;
        }
        let path = folder.join(FILE_NAME);
        let text = kesmo_files::read_regular(&path, kesmo_files::bundle::LIMITS.suite_file);
        let text = text.map_err(|e| file_error(&path, e))?;
        let text = String::from_utf8(text).map_err(|_| format!("{} is not UTF-8", path.display()))?;
        let suite = SuiteFile::parse(FILE_NAME, &text).map_err(|e| e.to_string())?;
        if !done.exists() {
            let said = self.prepare(&suite, &folder, setup).await?;
            std::fs::write(&done, said).map_err(|e| file_error(&done, e))?;
        }
        Ok(Arc::new(Ready { suite, folder }))
    }

    /// Brings a bundle. A service that is away is waited for, however long that takes: what asks for the bundle is ended when
    /// its batch is revoked.
    async fn fetch(&self, digest: &str, to: &Path) -> Result<(), String> {
        if let Some(local) = &self.config.local {
            let from = local.join("bundles").join(digest);
            return std::fs::copy(&from, to).map(drop).map_err(|e| format!("{}: {e}", from.display()));
        }
        let failed = |why: &dyn std::fmt::Display| format!("the bundle {digest} could not be fetched: {why}");
        let mut pause = Duration::from_millis(100);
        loop {
            match self.fetch_once(digest, to).await {
                Ok(()) => return Ok(()),
                Err(Fetch::Final(why)) => return Err(failed(&why)),
                Err(Fetch::Again(why)) => tracing::warn!("{}; it is tried again", failed(&why)),
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(Duration::from_secs(3));
        }
    }

    async fn fetch_once(&self, digest: &str, to: &Path) -> Result<(), Fetch> {
        let again = |e: &dyn std::fmt::Display| Fetch::Again(e.to_string());
        let url = format!("{}/api/bundles/{digest}", self.address.now());
        let mut answer =
            self.client.get(&url).bearer_auth(&self.config.token).send().await.map_err(|e| again(&said(&e)))?;
        if answer.status() == reqwest::StatusCode::NOT_FOUND {
            return Err(Fetch::Final("the service does not have it".into()));
        }
        if !answer.status().is_success() {
            return Err(again(&format!("the service answered {}", answer.status())));
        }
        let whole = answer.content_length();
        let mut file = std::fs::File::create(to).map_err(|e| Fetch::Final(format!("{}: {e}", to.display())))?;
        let (mut hash, mut bytes) = (Sha256::new(), 0u64);
        while let Some(chunk) = answer.chunk().await.map_err(|e| again(&said(&e)))? {
            bytes += chunk.len() as u64;
            hash.update(&chunk);
            file.write_all(&chunk).map_err(|e| Fetch::Final(format!("{}: {e}", to.display())))?;
        }
        if hex::encode(hash.finalize()) == digest {
            return Ok(());
        }
        if whole.is_some_and(|whole| bytes < whole) {
            return Err(again(&format!("only {bytes} bytes of it arrived")));
        }
        Err(Fetch::Final("what the service sent has another SHA-256".into()))
    }

    async fn prepare(&self, suite: &SuiteFile, folder: &Path, setup: &Setup) -> Result<String, String> {
        let Some(prepare) = &suite.prepare else { return Ok(String::new()) };
        let command = self.command(&prepare.run, folder, setup);
        let mark = format!("{}-prepare", self.mark);
        let (said, ended) = capture(command, &mark, Duration::from_micros(prepare.limit.0)).await?;
        match ended {
            Some(status) if status.success() => Ok(said),
            Some(status) => {
                let tail = tail_of(&said);
                Err(format!("preparing failed on {} with {}: {tail}", self.config.name, process::said(status)))
            }
            None => {
                Err(format!("preparing took longer than {} ([prepare] limit) on {}", prepare.limit, self.config.name))
            }
        }
    }

    /// What the list command prints.
    ///
    /// # Errors
    /// In words for the run, if it fails.
    pub async fn list(&self, ready: &Ready, setup: &Setup, mark: &str) -> Result<Vec<u8>, String> {
        let mut command = self.command(&ready.suite.tests.list, &ready.folder, setup);
        command.stdin(Stdio::null());
        let limit = Duration::from_micros(ready.suite.limits.batch.0.min(300_000_000));
        let mut process =
            process::start(command, mark, false).map_err(|e| cannot_start(&ready.suite.tests.list, &e))?;
        let (mut out, mut err) = (process.child.stdout.take(), process.child.stderr.take());
        let mut listed = Vec::new();
        let mut log = CappedLog::new(Bytes(64 << 10));
        let reading = async {
            let read_out = async {
                if let Some(out) = &mut out {
                    out.take(256 << 20).read_to_end(&mut listed).await?;
                }
                Ok::<_, std::io::Error>(())
            };
            let read_err = read_into(&mut err, &mut log);
            let (a, b) = tokio::join!(read_out, read_err);
            a.and(b)
        };
        let Some(status) = run_out(&mut process, reading, limit).await? else {
            return Err(format!("the list command took longer than {} s", limit.as_secs()));
        };
        if status.success() {
            return Ok(listed);
        }
        let said = log.last_lines(3);
        let said = if said.is_empty() { tail_of(&String::from_utf8_lossy(&listed)) } else { said };
        Err(format!("the list command failed with {}: {said}", process::said(status)))
    }
}

/// A slot's copy of a source's files takes at most so long.
const COPYING: Duration = Duration::from_secs(600);

impl Ready {
    /// Where a slot works: in the source's folder, or in a copy of its own where results or kept files are found by path.
    ///
    /// # Errors
    /// In words, if the copy cannot be made.
    pub async fn folder_for(&self, slot: u16) -> Result<PathBuf, String> {
        if self.suite.tests.junit.is_empty() && self.suite.tests.keep.is_empty() {
            return Ok(self.folder.clone());
        }
        let copy = self.folder.with_file_name(format!("slot-{slot}"));
        if !copy.exists() {
            let coming = self.folder.with_file_name(format!("slot-{slot}-coming"));
            let mut cp = Command::new("cp");
            cp.args(["-a", "--reflink=auto", "--"]).arg(&self.folder).arg(&coming);
            // Of a copy that was broken off, what is there would be copied into.
            if coming.exists() {
                std::fs::remove_dir_all(&coming).map_err(|e| format!("{}: {e}", coming.display()))?;
            }
            // Started as all processes are: another slot would take it for an orphan, and its status with it.
            let (said, status) = capture(cp, "copy", COPYING).await?;
            if !status.is_some_and(|s| s.success()) {
                return Err(format!("the files could not be copied to {}: {}", coming.display(), tail_of(&said)));
            }
            std::fs::rename(&coming, &copy).map_err(|e| format!("{}: {e}", copy.display()))?;
        }
        Ok(copy)
    }
}

/// Why a bundle did not come.
enum Fetch {
    Again(String),
    Final(String),
}

/// What is at the bottom of an error of a call.
fn said(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    cause.to_string()
}

/// A command of a suite, in a folder, with the environment that all its processes have. The worker's own token and address
/// are kept from it.
fn command(words: &[String], folder: &Path, setup: &Setup, worker: &str, run_as: Option<&RunAs>) -> Command {
    let program = &words[0];
    // A relative program is one of the suite's own, wherever the process starts.
    let program =
        if program.contains('/') && !program.starts_with('/') { folder.join(program) } else { program.into() };
    let mut command = Command::new(program);
    command.args(&words[1..]).current_dir(folder);
    for secret in ["KESMO_TOKEN", "KESMO_URL", "KESMO_TOKEN_FILE", "KESMO_TOKEN_FD"] {
        command.env_remove(secret);
    }
    if let Some(user) = run_as {
        // Without the worker's other groups, as the standard library sees to where a user is set.
        command.uid(user.uid).gid(user.gid);
        command.env("HOME", &user.home).env("USER", &user.name).env("LOGNAME", &user.name);
    }
    command.env("KESMO_RUN", &setup.run).env("KESMO_WORKER", worker).env("KESMO_SEED", setup.seed.to_string());
    for (name, value) in [("KESMO_BRANCH", &setup.branch), ("KESMO_COMMIT", &setup.commit)] {
        if let Some(value) = value {
            command.env(name, value);
        }
    }
    let variable = |name: &str| name.to_uppercase().replace('-', "_");
    for (facet, value) in &setup.variant {
        command.env(format!("KESMO_FACET_{}", variable(facet)), value);
    }
    for (setting, value) in &setup.settings {
        command.env(format!("KESMO_SET_{}", variable(setting)), value);
    }
    command.envs(&setup.env);
    command
}

/// Why a command could not be started.
pub fn cannot_start(words: &[String], why: &std::io::Error) -> String {
    format!("the command {:?} could not be started: {why}", words[0])
}

async fn read_into(stream: &mut Option<impl tokio::io::AsyncRead + Unpin>, log: &mut CappedLog) -> std::io::Result<()> {
    let Some(stream) = stream else { return Ok(()) };
    let mut buffer = vec![0; 16 << 10];
    loop {
        match stream.read(&mut buffer).await? {
            0 => return Ok(()),
            read => log.add(&buffer[..read]),
        }
    }
}

/// Waits for a process and for what it prints; `None` if it took too long and was ended.
async fn run_out(
    process: &mut process::Process,
    reading: impl Future<Output = std::io::Result<()>>,
    limit: Duration,
) -> Result<Option<std::process::ExitStatus>, String> {
    tokio::pin!(reading);
    let mut read = false;
    let waiting = async {
        loop {
            tokio::select! {
                result = &mut reading, if !read => {
                    result.map_err(|e| format!("the output could not be read: {e}"))?;
                    read = true;
                }
                status = process.child.wait() => return status.map_err(|e| e.to_string()),
            }
        }
    };
    let Ok(status) = tokio::time::timeout(limit, waiting).await else {
        process.end().await;
        return Ok(None);
    };
    process.end_leftovers();
    if !read {
        // What it left behind may have held the pipes open; what was printed is there by now.
        if tokio::time::timeout(Duration::from_millis(500), reading).await.is_err() {
            tracing::debug!("an output was not closed");
        }
    }
    status.map(Some)
}

async fn capture(
    command: Command,
    mark: &str,
    limit: Duration,
) -> Result<(String, Option<std::process::ExitStatus>), String> {
    let mut process =
        process::start(command, mark, false).map_err(|e| format!("the prepare command could not be started: {e}"))?;
    let (mut out, mut err) = (process.child.stdout.take(), process.child.stderr.take());
    let (mut out_log, mut err_log) = (CappedLog::new(Bytes(1 << 20)), CappedLog::new(Bytes(1 << 20)));
    let reading = async {
        let (a, b) = tokio::join!(read_into(&mut out, &mut out_log), read_into(&mut err, &mut err_log));
        a.and(b)
    };
    let status = run_out(&mut process, reading, limit).await?;
    Ok((out_log.take() + &err_log.take(), status))
}

fn tail_of(said: &str) -> String {
    let lines: Vec<&str> = said.lines().filter(|l| !l.trim().is_empty()).collect();
    let tail = lines[lines.len().saturating_sub(3)..].join(" | ");
    if tail.is_empty() { "it printed nothing".into() } else { kesmo_core::name::shorten(&tail, 500) }
}

async fn unpack(archive: &Path, to: &Path) -> Result<(), String> {
    let (archive, to) = (archive.to_owned(), to.to_owned());
    let unpack = move || kesmo_files::bundle::unpack(&archive, &to, kesmo_files::bundle::LIMITS);
    tokio::task::spawn_blocking(unpack).await.map_err(|e| e.to_string())?.map_err(|e| e.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sources_are_measured_and_ordered_by_their_last_use() {
        let dir = tempfile::tempdir().expect("a folder");
        for (name, size) in [("a", 10), ("b", 2000)] {
            std::fs::create_dir_all(dir.path().join(name).join("files")).expect("a folder");
            std::fs::write(dir.path().join(name).join("files/x"), vec![0; size]).expect("a file");
        }
        std::fs::write(dir.path().join("a").join(USED), "").expect("a file");
        let found: Vec<(String, u64)> = places(dir.path()).into_iter().map(|p| (p.name, p.bytes)).collect();
        assert_eq!(found, [("b".to_owned(), 2000), ("a".to_owned(), 10)]);
        assert!(places(Path::new("/nowhere")).is_empty());
    }

    #[tokio::test]
    async fn only_what_nobody_uses_is_removed() {
        let home = tempfile::tempdir().expect("a folder");
        let config = Config { home: home.path().to_owned(), keep_sources: Some(Bytes(100)), ..Config::default() };
        let sources = Sources::new(
            config,
            kesmo_tls::Trust::default().http().build().expect("a client"),
            Arc::new(Address::new("")),
            "mark".into(),
            None,
        );
        let text = "suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{names}\"]\nresults = \"tap\"\n";
        let suite = SuiteFile::parse(FILE_NAME, text).expect("a suite file");
        let mut held = Vec::new();
        for name in ["idle", "busy", "current"] {
            let folder = home.path().join("sources").join(name).join("files");
            std::fs::create_dir_all(&folder).expect("a folder");
            std::fs::write(folder.join("x"), vec![0; 80]).expect("a file");
            let ready = Arc::new(Ready { suite: suite.clone(), folder });
            let cell = Arc::new(OnceCell::new_with(Some(Arc::clone(&ready))));
            if name == "busy" {
                held.push(ready);
            }
            sources.ready.lock().await.insert(name.into(), cell);
        }
        sources.trim("current").await;
        let left = |name: &str| home.path().join("sources").join(name).exists();
        assert_eq!([left("idle"), left("busy"), left("current")], [false, true, true]);
        drop(held);
        sources.trim("current").await;
        assert_eq!([left("busy"), left("current")], [false, true]);
    }
}
