//! A suite's files: fetched once by digest, prepared once, and copied for each slot where slots would get into each
//! other's way.

use std::{
    collections::HashMap,
    io::Write,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use kesmo_core::{
    suite::{
        SuiteFile,
        container::{From, Image},
        file::FILE_NAME,
    },
    time::Bytes,
};
use kesmo_engine::Marks;
use kesmo_wire::link::Setup;
use sha2::{Digest, Sha256};
use tokio::{
    io::AsyncReadExt,
    process::Command,
    sync::{Mutex, OnceCell},
};

use crate::{
    address::Address,
    capture::CappedLog,
    config::Config,
    exit::Exit,
    images::Images,
    running::{Around, Call, Running, Trouble},
    user::RunAs,
};

/// A source that is ready to run.
#[derive(Debug)]
pub struct Ready {
    pub suite: SuiteFile,
    folder: PathBuf,
    /// Where its processes run.
    pub around: Around,
}

/// Sources are kept up to this size, in bytes, unless told otherwise.
const KEEP_SOURCES: u64 = 10 << 30;
/// The name of a source's folder: the beginning of its bundle's digest, 80 bits of it. The folder is where tests run, and test
/// programs exist that fail in one whose path is long. What is prepared in an image has a folder of its own.
fn folder_of(bundle: &str, image: Option<&Image>) -> String {
    let whole = match image {
        Some(image) => hex::encode(Sha256::digest(format!("{bundle} {}", image.digest))),
        None => bundle.to_owned(),
    };
    whole.get(..20).unwrap_or(&whole).to_owned()
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
    /// Begins the mark of every process.
    mark: String,
    run_as: Option<RunAs>,
    images: Images,
    ready: Mutex<HashMap<String, Arc<OnceCell<Arc<Ready>>>>>,
}

impl Sources {
    pub fn new(
        config: Config,
        client: reqwest::Client,
        address: Arc<Address>,
        marks: Marks,
        run_as: Option<RunAs>,
    ) -> Self {
        let images = Images::new(config.engine.clone(), marks.clone());
        Self { config, client, address, mark: marks.work, run_as, images, ready: Mutex::default() }
    }

    /// The images of this worker.
    pub fn images(&self) -> &Images {
        &self.images
    }

    /// A command of a suite with the environment that all its processes have.
    pub fn call(&self, words: &[String], folder: &Path, setup: &Setup) -> Call {
        call(words, folder, setup, &self.config.name)
    }

    /// The source of an setup: fetched and prepared, by the first who asks; in its image, where it has one.
    ///
    /// # Errors
    /// In words for the run: this worker can do nothing for it.
    pub async fn ready(&self, setup: &Setup) -> Result<Arc<Ready>, Trouble> {
        let image = self.image(setup).await?;
        let name = folder_of(&setup.bundle, image.as_ref());
        let cell = {
            let mut all = self.ready.lock().await;
            Arc::clone(all.entry(name.clone()).or_default())
        };
        let place = self.config.home.join("sources").join(&name);
        let fresh = !cell.initialized();
        let ready = cell.get_or_try_init(|| self.make_ready(setup, image, &place)).await.cloned()?;
        // What is used last is kept longest.
        if let Err(e) = std::fs::write(place.join(USED), "") {
            tracing::debug!("{}: {e}", place.display());
        }
        if fresh {
            self.trim(&name).await;
        }
        Ok(ready)
    }

    /// The image that a setup's processes run in: found, brought or built.
    async fn image(&self, setup: &Setup) -> Result<Option<Image>, Trouble> {
        let file = match setup.image_of_variant() {
            None => return Ok(None),
            Some(From::Image(name)) => return self.images.named(&name, setup.settled(&name)).await.map(Some),
            Some(From::Build(file)) => file,
        };
        let name = format!("{} built", setup.bundle);
        let archive = self.config.home.join("sources").join(format!("{}.tar.gz", folder_of(&name, None)));
        let fetch = || async {
            let folder = self.config.home.join("sources");
            std::fs::create_dir_all(&folder).map_err(|e| format!("{}: {e}", folder.display()))?;
            self.fetch(&setup.bundle, &archive).await.map(|()| archive.clone())
        };
        self.images.built(&setup.bundle, &file, fetch).await.map(Some)
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

    async fn make_ready(&self, setup: &Setup, image: Option<Image>, place: &Path) -> Result<Arc<Ready>, Trouble> {
        let folder = place.join("files");
        let done = place.join("prepared");
        let file_error = |path: &Path, e: std::io::Error| Trouble::Cannot(format!("{}: {e}", path.display()));
        if !folder.exists() {
            let coming = place.join("coming");
            if coming.exists() {
                std::fs::remove_dir_all(&coming).map_err(|e| file_error(&coming, e))?;
            }
            std::fs::create_dir_all(&coming).map_err(|e| file_error(&coming, e))?;
            let archive = place.join("bundle.tar.gz");
            self.fetch(&setup.bundle, &archive).await.map_err(Trouble::Cannot)?;
            unpack(&archive, &coming).await.map_err(Trouble::Cannot)?;
            let whose = match &image {
                Some(_) => crate::running::open_to_all(&coming).map_err(|e| file_error(&coming, e)),
                None => self.bare().hand_over(&coming).map_err(Trouble::Cannot),
            };
            whose?;
            std::fs::rename(&coming, &folder).map_err(|e| file_error(&folder, e))?;
            std::fs::remove_file(&archive).map_err(|e| file_error(&archive, e))?;
        }
        let path = folder.join(FILE_NAME);
        let text = kesmo_files::read_regular(&path, kesmo_files::bundle::LIMITS.suite_file);
        let text = text.map_err(|e| file_error(&path, e))?;
        let text = String::from_utf8(text).map_err(|_| Trouble::Cannot(format!("{} is not UTF-8", path.display())))?;
        let suite = SuiteFile::parse(FILE_NAME, &text).map_err(|e| Trouble::Cannot(e.to_string()))?;
        let mut around = match image {
            None => self.bare(),
            Some(image) => Around::Image(Box::new(self.images.around(&suite, image)?)),
        };
        // What was prepared in an image is an image, which the engine may have let go meanwhile.
        let tag = place.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let kept_as_image = suite.prepare.is_some() && around.image().is_some();
        if !done.exists() || (kept_as_image && self.images.prepared(&tag).await?.is_none()) {
            let said = self.prepare(&suite, &folder, setup, &around, &tag).await?;
            std::fs::write(&done, said).map_err(|e| file_error(&done, e))?;
        }
        if let Around::Image(inside) = &mut around
            && kept_as_image
        {
            let gone = || Trouble::Lost("what was prepared in the image is gone already".into());
            inside.identity = self.images.prepared(&tag).await?.ok_or_else(gone)?;
        }
        Ok(Arc::new(Ready { suite, folder, around }))
    }

    fn bare(&self) -> Around {
        Around::Machine { run_as: self.run_as.clone() }
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

    /// Runs the prepare command; what it leaves in a container is kept as an image with that tag.
    async fn prepare(
        &self,
        suite: &SuiteFile,
        folder: &Path,
        setup: &Setup,
        around: &Around,
        tag: &str,
    ) -> Result<String, Trouble> {
        let Some(prepare) = &suite.prepare else { return Ok(String::new()) };
        let call = self.call(&prepare.run, folder, setup);
        let mark = format!("{}-prepare", self.mark);
        let limit = Duration::from_micros(prepare.limit.0);
        let process = around.start(&call, &mark, false).await.map_err(|trouble| trouble.before("preparing failed"))?;
        let (said, ended) = capture(process, limit, |container| self.images.keep(container, tag)).await?;
        match ended {
            Some(exit) if exit.success() => Ok(said),
            Some(exit) => {
                let tail = tail_of(&said);
                Err(Trouble::Cannot(format!("preparing failed on {} with {}: {tail}", self.config.name, exit.said())))
            }
            None => Err(Trouble::Cannot(format!(
                "preparing took longer than {} ([prepare] limit) on {}",
                prepare.limit, self.config.name
            ))),
        }
    }

    /// What the list command prints.
    ///
    /// # Errors
    /// In words for the run, if it fails.
    pub async fn list(&self, ready: &Ready, setup: &Setup, mark: &str) -> Result<Vec<u8>, Trouble> {
        let mut call = self.call(&ready.suite.tests.list, &ready.folder, setup);
        // A list has no files of its own.
        call.give(&setup.secrets, |_| None);
        let limit = Duration::from_micros(ready.suite.limits.batch.0.min(300_000_000));
        let mut process = ready.around.start(&call, mark, false).await?;
        let (mut out, mut err) = (process.out.take(), process.err.take());
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
        let exit = run_out(&mut process, reading, limit, |_| async { Ok(()) }).await?;
        let Some(exit) = exit else {
            return Err(Trouble::Cannot(format!("the list command took longer than {} s", limit.as_secs())));
        };
        if exit.success() {
            return Ok(listed);
        }
        let said = log.last_lines(3);
        let said = if said.is_empty() { tail_of(&String::from_utf8_lossy(&listed)) } else { said };
        Err(Trouble::Cannot(format!("the list command failed with {}: {said}", exit.said())))
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
            let failed =
                |e: &dyn std::fmt::Display| format!("the files could not be copied to {}: {e}", coming.display());
            let process = crate::running::started(cp, "copy").map_err(|e| failed(&e))?;
            let copied = capture(process, COPYING, |_| async { Ok(()) }).await;
            let (said, exit) = copied.map_err(|trouble| failed(&trouble.said()))?;
            if !exit.is_some_and(|exit| exit.success()) {
                return Err(failed(&tail_of(&said)));
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

/// A command of a suite, in a folder, with the environment that all its processes have.
fn call(words: &[String], folder: &Path, setup: &Setup, worker: &str) -> Call {
    let mut call = Call { words: words.to_vec(), env: Vec::new(), folder: folder.to_owned(), batch: None, mask: None };
    call.env("KESMO_RUN", &setup.run).env("KESMO_WORKER", worker).env("KESMO_SEED", setup.seed.to_string());
    for (name, value) in [("KESMO_BRANCH", &setup.branch), ("KESMO_COMMIT", &setup.commit)] {
        if let Some(value) = value {
            call.env(name, value);
        }
    }
    let variable = |name: &str| name.to_uppercase().replace('-', "_");
    for (facet, value) in &setup.variant {
        call.env(&format!("KESMO_FACET_{}", variable(facet)), value);
    }
    for (setting, value) in &setup.settings {
        call.env(&format!("KESMO_SET_{}", variable(setting)), value);
    }
    for (name, value) in &setup.env {
        call.env(name, value);
    }
    call
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

/// Waits for a process and for what it prints; `None` if it took too long and was ended. Of one that ended well in a
/// container, `keep` is told, before that is removed.
async fn run_out<K: Future<Output = Result<(), Trouble>>>(
    process: &mut Running,
    reading: impl Future<Output = std::io::Result<()>>,
    limit: Duration,
    keep: impl FnOnce(String) -> K,
) -> Result<Option<Exit>, Trouble> {
    tokio::pin!(reading);
    let mut read = false;
    let waiting = async {
        loop {
            tokio::select! {
                result = &mut reading, if !read => {
                    result.map_err(|e| Trouble::Lost(format!("the output could not be read: {e}")))?;
                    read = true;
                }
                exit = process.wait() => return exit.map_err(Trouble::Lost),
            }
        }
    };
    let Ok(exit) = tokio::time::timeout(limit, waiting).await else {
        process.end().await;
        return Ok(None);
    };
    let kept = match (&exit, process.container()) {
        (Ok(exit), Some(container)) if exit.success() => keep(container.to_owned()).await,
        _ => Ok(()),
    };
    process.end_leftovers().await;
    kept?;
    if !read {
        // What it left behind may have held the pipes open; what was printed is there by now.
        if tokio::time::timeout(Duration::from_millis(500), reading).await.is_err() {
            tracing::debug!("an output was not closed");
        }
    }
    exit.map(Some)
}

async fn capture<K: Future<Output = Result<(), Trouble>>>(
    mut process: Running,
    limit: Duration,
    keep: impl FnOnce(String) -> K,
) -> Result<(String, Option<Exit>), Trouble> {
    let (mut out, mut err) = (process.out.take(), process.err.take());
    let (mut out_log, mut err_log) = (CappedLog::new(Bytes(1 << 20)), CappedLog::new(Bytes(1 << 20)));
    let reading = async {
        let (a, b) = tokio::join!(read_into(&mut out, &mut out_log), read_into(&mut err, &mut err_log));
        a.and(b)
    };
    let exit = run_out(&mut process, reading, limit, keep).await?;
    Ok((out_log.take() + &err_log.take(), exit))
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
            Marks { home: "home".into(), work: "mark".into() },
            None,
        );
        let text = "suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{names}\"]\nresults = \"tap\"\n";
        let suite = SuiteFile::parse(FILE_NAME, text).expect("a suite file");
        let mut held = Vec::new();
        for name in ["idle", "busy", "current"] {
            let folder = home.path().join("sources").join(name).join("files");
            std::fs::create_dir_all(&folder).expect("a folder");
            std::fs::write(folder.join("x"), vec![0; 80]).expect("a file");
            let ready = Arc::new(Ready { suite: suite.clone(), folder, around: Around::Machine { run_as: None } });
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
