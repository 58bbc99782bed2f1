//! A real container engine for the tests, with a store of its own, and an image made from a static busybox. Where it cannot be
//! had the tests fail and say so.

use std::{
    fs,
    io::{Read, Write},
    net::Shutdown,
    os::unix::net::{UnixListener, UnixStream},
    path::{Path, PathBuf},
    process::{Command, Output, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
};

use tempfile::TempDir;

use crate::quay::{Process, all_said, spawn, text, until};

/// The image that tests run in, with a shell and its programs.
pub const IMAGE: &str = "localhost/quay-gate:12";

/// An engine that serves its API at a socket, until it goes away with this.
pub struct Engine {
    dir: TempDir,
    service: Option<Process>,
}

/// Stands between an engine and who calls it: goes away once something is asked for, which the engine does nonetheless.
pub struct Between {
    address: String,
    away: Arc<AtomicBool>,
}

impl Between {
    /// Its address, for whoever is to call the engine through it.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Whether it has gone away.
    pub fn is_away(&self) -> bool {
        self.away.load(Ordering::SeqCst)
    }

    /// It is there again, and stays.
    pub fn come_back(&self) {
        self.away.store(false, Ordering::SeqCst);
    }
}

/// Passes on what both say, until what is asked for is `until`: then the engine's answer comes nowhere.
fn pass_on(
    mut caller: UnixStream,
    mut engine: UnixStream,
    until: Option<&'static str>,
    away: &Arc<AtomicBool>,
) -> Option<()> {
    let (mut from, mut to) = (caller.try_clone().ok()?, engine.try_clone().ok()?);
    let asked = Arc::new(AtomicBool::new(false));
    let asks = Arc::clone(&asked);
    thread::spawn(move || {
        let mut some = vec![0; 1 << 16];
        while let Ok(count @ 1..) = from.read(&mut some) {
            let said = String::from_utf8_lossy(&some[..count]);
            if until.is_some_and(|until| said.starts_with("POST") && said.contains(until)) {
                asks.store(true, Ordering::SeqCst);
            }
            if to.write_all(&some[..count]).is_err() {
                break;
            }
        }
        drop(to.shutdown(Shutdown::Write));
    });
    let mut some = vec![0; 1 << 16];
    while let Ok(count @ 1..) = engine.read(&mut some) {
        if asked.load(Ordering::SeqCst) {
            away.store(true, Ordering::SeqCst);
            break;
        }
        caller.write_all(&some[..count]).ok()?;
    }
    drop(caller.shutdown(Shutdown::Both));
    drop(engine.shutdown(Shutdown::Both));
    Some(())
}

fn root() -> bool {
    // SAFETY: geteuid only reads.
    unsafe { libc::geteuid() == 0 }
}

/// A command that is run as root, as the engine is.
fn as_root(program: &str) -> Command {
    if root() {
        return Command::new(program);
    }
    let mut command = Command::new("sudo");
    command.args(["-n", program]);
    command
}

impl Engine {
    /// Starts an engine that has [`IMAGE`].
    pub fn start() -> Self {
        let mut engine =
            Self { dir: tempfile::Builder::new().prefix("kesmo-engine").tempdir().expect("a folder"), service: None };
        let conf = "[engine]\nruntime = \"runc\"\ncgroup_manager = \"cgroupfs\"\nevents_logger = \"file\"\n\
                    [containers]\ndefault_ulimits = [\"nofile=1024:1024\", \"nproc=1000:1000\"]\n";
        fs::write(engine.path("containers.conf"), conf).expect("the configuration");
        engine.serve();
        engine.import(IMAGE, "quay", &[]);
        engine
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// Its address.
    pub fn address(&self) -> String {
        format!("unix://{}", self.path("socket").display())
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = as_root("env");
        command.arg(format!("CONTAINERS_CONF={}", self.path("containers.conf").display()));
        command
            .current_dir(self.dir.path())
            .args(["podman", "--storage-driver", "vfs", "--root"])
            .arg(self.path("store"));
        command.arg("--runroot").arg(self.path("run")).args(words);
        command
    }

    /// Calls the engine's own program.
    pub fn call(&self, words: &[&str]) -> String {
        let output: Output = self.command(words).output().expect("podman runs: it comes with Debian's package podman");
        assert!(output.status.success(), "podman {words:?}: {}", all_said(&output));
        text(&output.stdout).trim().to_owned()
    }

    /// Serves its API.
    pub fn serve(&mut self) {
        let socket = self.path("socket");
        drop(fs::remove_file(&socket));
        let mut command = self.command(&["system", "service", "--time=0", &self.address()]);
        let log = fs::OpenOptions::new().create(true).append(true).open(self.path("log")).expect("a log");
        command.stdout(Stdio::null()).stderr(log);
        self.service = Some(Process(spawn(command)));
        until("the container engine answers (Debian's packages podman and runc)", || socket.exists().then_some(()));
        if !root() {
            assert!(as_root("chmod").arg("666").arg(&socket).status().expect("chmod").success());
        }
    }

    /// Has something stand between it and who calls it, which goes away once `until` is asked for the first time.
    pub fn between(&self, until: &'static str) -> Between {
        let (place, socket) = (self.path("between"), self.path("socket"));
        let listener = UnixListener::bind(&place).expect("a socket");
        let away = Arc::new(AtomicBool::new(false));
        let gone = Arc::clone(&away);
        thread::spawn(move || {
            let mut went = false;
            for caller in listener.incoming().flatten() {
                went |= gone.load(Ordering::SeqCst);
                if gone.load(Ordering::SeqCst) {
                    continue;
                }
                let Ok(engine) = UnixStream::connect(&socket) else { continue };
                let until = (!went).then_some(until);
                let gone = Arc::clone(&gone);
                thread::spawn(move || pass_on(caller, engine, until, &gone));
            }
        });
        Between { address: format!("unix://{}", place.display()), away }
    }

    /// Ends the service of its API; containers run on.
    pub fn away(&mut self) {
        self.service = None;
    }

    /// Makes an image of a folder with a shell; `mark` makes it another than others. `changes` are lines of a build file.
    pub fn import(&self, name: &str, mark: &str, changes: &[&str]) {
        let folder = self.path(&format!("root-{mark}"));
        fs::create_dir_all(folder.join("bin")).expect("a folder");
        fs::create_dir_all(folder.join("tmp")).expect("a folder");
        fs::create_dir_all(folder.join("etc")).expect("a folder");
        fs::copy("/bin/busybox", folder.join("bin/busybox")).expect("Debian's package busybox-static");
        fs::write(folder.join("etc/mark"), format!("{mark}\n")).expect("a mark");
        for tool in [
            "sh", "cat", "echo", "sleep", "id", "tail", "touch", "seq", "grep", "mkdir", "env", "kill", "ls", "rm",
            "head", "sed", "chmod", "nc", "wget", "seq", "printf", "wc", "test",
        ] {
            drop(std::os::unix::fs::symlink("busybox", folder.join("bin").join(tool)));
        }
        let archive = self.path(&format!("{mark}.tar"));
        let tar = Command::new("tar").arg("-C").arg(&folder).arg("-cf").arg(&archive).arg(".").status();
        assert!(tar.expect("tar").success());
        let archive = archive.to_string_lossy().into_owned();
        let mut words = vec!["import", "--quiet"];
        words.extend(changes);
        words.extend([archive.as_str(), name]);
        self.call(&words);
    }

    /// How many containers there are, whatever they do.
    pub fn containers(&self) -> usize {
        self.call(&["ps", "--all", "--quiet"]).lines().count()
    }

    /// Waits until no container is left.
    pub fn none_left(&self) {
        until("no container is left", || (self.containers() == 0).then_some(()));
    }

    /// The digest of an image.
    pub fn digest(&self, name: &str) -> String {
        format!("sha256:{}", self.call(&["image", "inspect", "--format", "{{.Id}}", name]))
    }
}

impl Drop for Engine {
    fn drop(&mut self) {
        drop(self.command(&["rm", "--force", "--all", "--time", "0"]).output());
        self.service = None;
        if !root() {
            drop(as_root("rm").arg("-rf").arg(self.dir.path()).status());
        }
    }
}

/// A suite that runs in an image: what stands in the suite file besides, and the script of its tests.
pub fn suite(folder: &Path, name: &str, container: &str, tests: &str, script: &str) {
    fs::create_dir_all(folder).expect("a folder");
    let file = format!("suite = \"{name}\"\n[container]\n{container}\n[tests]\n{tests}\n");
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    fs::write(folder.join("tests.sh"), script).expect("the script");
}
