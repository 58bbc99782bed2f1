//! A suite's processes, wherever they run: as they are, or in a container of an image.

use std::path::{Path, PathBuf};

use kesmo_core::{
    run::Cores,
    suite::container::{BATCH, Container, FILES, Image},
};
use kesmo_engine::{Boxed, Engine, Marks, Mount, Output, Spec};
use kesmo_wire::link::SecretGiven;
use tokio::process::Command;

use crate::{
    exit::Exit,
    feeding::Feeder,
    mask::{Mask, masked},
    process::{self, Process},
    user::RunAs,
};

/// A command of a suite with all that its process finds in its environment.
#[derive(Debug, Clone)]
pub struct Call {
    pub words: Vec<String>,
    pub env: Vec<(String, String)>,
    /// The suite's files.
    pub folder: PathBuf,
    /// The batch's own files.
    pub batch: Option<PathBuf>,
    /// What is not to be told of what it prints.
    pub mask: Option<Mask>,
}

impl Call {
    /// Gives its process secrets in its environment, and keeps them out of what it prints. Those that are given as files are only kept out:
    /// `file` says where each is.
    pub fn give(&mut self, secrets: &[SecretGiven], file: impl Fn(&SecretGiven) -> Option<String>) {
        for secret in secrets {
            let value = if secret.as_file { file(secret) } else { Some(secret.value.clone()) };
            if let Some(value) = value {
                self.env(&secret.variable, value);
            }
        }
        self.mask = Mask::of(secrets);
    }

    pub fn env(&mut self, name: &str, value: impl Into<String>) -> &mut Self {
        self.env.push((name.to_owned(), value.into()));
        self
    }
}

/// What surrounds a suite's processes.
#[derive(Debug, Clone)]
pub enum Around {
    /// The worker's machine.
    Machine { run_as: Option<RunAs> },
    /// An image.
    Image(Box<InImage>),
}

/// An image that is there, to run in.
#[derive(Debug, Clone)]
pub struct InImage {
    pub engine: Engine,
    pub container: Container,
    /// As it was asked for.
    pub image: Image,
    /// What containers are made of: the image, or what was prepared in it.
    pub identity: String,
    /// The mark of the worker's home.
    pub home: String,
}

/// Why a process was not started, or is not known any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trouble {
    /// It cannot be started on this worker.
    Cannot(String),
    /// The container engine went away: what it had is not known.
    Lost(String),
}

impl Trouble {
    /// Why, in words.
    pub fn said(self) -> String {
        match self {
            Self::Cannot(why) | Self::Lost(why) => why,
        }
    }

    /// With what was tried.
    pub fn before(self, what: &str) -> Self {
        match self {
            Self::Cannot(why) => Self::Cannot(format!("{what}: {why}")),
            Self::Lost(why) => Self::Lost(format!("{what}: {why}")),
        }
    }
}

impl From<kesmo_engine::Error> for Trouble {
    fn from(error: kesmo_engine::Error) -> Self {
        match error {
            kesmo_engine::Error::Away { .. } => Self::Lost(error.to_string()),
            kesmo_engine::Error::Refused { .. } => Self::Cannot(error.to_string()),
        }
    }
}

/// A process that runs, with its input and outputs.
pub struct Running {
    pub input: Option<Feeder>,
    pub out: Option<Output>,
    pub err: Option<Output>,
    kind: Kind,
}

enum Kind {
    Bare(Process),
    Boxed(Box<Boxed>, Option<kesmo_core::time::Bytes>),
}

impl From<Process> for Running {
    fn from(mut process: Process) -> Self {
        let child = &mut process.child;
        let input = child.stdin.take().map(Feeder::Pipe);
        let out = child.stdout.take().map(|out| Box::pin(out) as Output);
        let err = child.stderr.take().map(|err| Box::pin(err) as Output);
        Self { input, out, err, kind: Kind::Bare(process) }
    }
}

/// Starts a command that is none of a suite's.
///
/// # Errors
/// If it cannot be started.
pub fn started(command: Command, mark: &str) -> std::io::Result<Running> {
    process::start(command, mark, false).map(Running::from)
}

impl Around {
    /// Starts a command. Its standard input is empty, or a pipe where it is fed.
    ///
    /// # Errors
    /// If it cannot be started.
    pub async fn start(&self, call: &Call, mark: &str, fed: bool) -> Result<Running, Trouble> {
        let mut running = self.start_plain(call, mark, fed).await?;
        if let Some(mask) = &call.mask {
            running.out = running.out.take().map(|out| masked(out, mask.clone()));
            running.err = running.err.take().map(|err| masked(err, mask.clone()));
        }
        Ok(running)
    }

    async fn start_plain(&self, call: &Call, mark: &str, fed: bool) -> Result<Running, Trouble> {
        match self {
            Self::Machine { run_as } => {
                let cannot = |e| Trouble::Cannot(format!("the command {:?} could not be started: {e}", call.words[0]));
                process::start(bare(call, run_as.as_ref()), mark, fed).map(Running::from).map_err(cannot)
            }
            Self::Image(inside) => {
                let spec = inside.spec(call, mark, fed);
                let mut boxed = inside.engine.start(&spec, &inside.image.to_string()).await?;
                let (input, out, err) = (boxed.input.take().map(Feeder::Engine), boxed.out.take(), boxed.err.take());
                Ok(Running { input, out, err, kind: Kind::Boxed(Box::new(boxed), inside.container.memory) })
            }
        }
    }

    /// The path by which a process knows a file of its own batch or suite.
    pub fn inside(&self, path: &Path, batch: &Path, folder: &Path) -> PathBuf {
        match self {
            Self::Machine { .. } => path.to_owned(),
            Self::Image(_) => {
                moved(path, batch, BATCH).or_else(|| moved(path, folder, FILES)).unwrap_or(path.to_owned())
            }
        }
    }

    /// The file of this machine that a process means by a path.
    pub fn outside(&self, path: &str, batch: &Path, folder: &Path) -> PathBuf {
        let path = Path::new(path);
        match self {
            Self::Machine { .. } => path.to_owned(),
            Self::Image(_) => {
                let below = |root: &str, to: &Path| path.strip_prefix(root).ok().map(|rest| to.join(rest));
                below(BATCH, batch).or_else(|| below(FILES, folder)).unwrap_or(path.to_owned())
            }
        }
    }

    /// The image, where there is one.
    pub fn image(&self) -> Option<&Image> {
        match self {
            Self::Machine { .. } => None,
            Self::Image(inside) => Some(&inside.image),
        }
    }

    /// Gives files to the user that a process runs as, where that is another than the worker's.
    ///
    /// # Errors
    /// In words for the run.
    pub fn hand_over(&self, path: &Path) -> Result<(), String> {
        match self {
            Self::Machine { run_as: None } => Ok(()),
            Self::Machine { run_as: Some(user) } => user.own(path),
            // The user of an image is known to its engine alone. Others of this machine do not come to the worker's home.
            Self::Image(_) => open_to_all(path).map_err(|e| format!("{}: {e}", path.display())),
        }
    }
}

fn moved(path: &Path, from: &Path, to: &str) -> Option<PathBuf> {
    path.strip_prefix(from).ok().map(|rest| Path::new(to).join(rest))
}

/// Lets every user read and write a file, or all in a folder. Links are not followed.
pub fn open_to_all(path: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let about = std::fs::symlink_metadata(path)?;
    if about.is_symlink() {
        return Ok(());
    }
    let mode = about.permissions().mode();
    let run = if about.is_dir() || mode & 0o100 != 0 { 0o777 } else { 0o666 };
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode | run))?;
    if about.is_dir() {
        for entry in std::fs::read_dir(path)? {
            open_to_all(&entry?.path())?;
        }
    }
    Ok(())
}

/// A command on the worker's machine. The worker's own token and address are kept from it.
fn bare(call: &Call, run_as: Option<&RunAs>) -> Command {
    let program = &call.words[0];
    // A relative program is one of the suite's own, wherever the process starts.
    let own = program.contains('/') && !program.starts_with('/');
    let program = if own { call.folder.join(program) } else { program.into() };
    let mut command = Command::new(program);
    command.args(&call.words[1..]).current_dir(&call.folder);
    for secret in ["KESMO_TOKEN", "KESMO_URL", "KESMO_TOKEN_FILE", "KESMO_TOKEN_FD"] {
        command.env_remove(secret);
    }
    if let Some(user) = run_as {
        // Without the worker's other groups, as the standard library sees to where a user is set.
        command.uid(user.uid).gid(user.gid);
        command.env("HOME", &user.home).env("USER", &user.name).env("LOGNAME", &user.name);
    }
    command.envs(call.env.iter().map(|(name, value)| (name, value)));
    command
}

impl InImage {
    fn spec(&self, call: &Call, mark: &str, fed: bool) -> Spec {
        let mount = |from: &Path, to: &str| Mount { from: from.to_string_lossy().into_owned(), to: to.to_owned() };
        let mut mounts = vec![mount(&call.folder, FILES)];
        mounts.extend(call.batch.as_ref().map(|batch| mount(batch, BATCH)));
        Spec {
            image: self.identity.clone(),
            words: call.words.clone(),
            env: call.env.clone(),
            folder: FILES.to_owned(),
            mounts,
            network: self.container.network.clone(),
            memory: self.container.memory.map(|m| m.0),
            cpus: self.container.cpus,
            init: self.container.init,
            fed,
            marks: Marks { home: self.home.clone(), work: mark.to_owned() },
        }
    }
}

impl Running {
    /// Waits until it has ended. It may be given up and called again, but not after it answered.
    ///
    /// # Errors
    /// If that cannot be known any more.
    pub async fn wait(&mut self) -> Result<Exit, String> {
        match &mut self.kind {
            Kind::Bare(process) => process.child.wait().await.map(Exit::from).map_err(|e| e.to_string()),
            Kind::Boxed(boxed, limit) => {
                boxed.wait().await.map(|exit| Exit::of_container(exit, *limit)).map_err(|e| e.to_string())
            }
        }
    }

    /// Ends it and everything that came from it.
    pub async fn end(&mut self) {
        match &mut self.kind {
            Kind::Bare(process) => process.end().await,
            Kind::Boxed(boxed, _) => boxed.end().await,
        }
    }

    /// After it ended: ends what it left behind, and tells how many processes that were. In a container they end with it.
    pub async fn end_leftovers(&mut self) -> usize {
        match &mut self.kind {
            Kind::Bare(process) => process.end_leftovers().await,
            Kind::Boxed(boxed, _) => {
                boxed.end_beside();
                0
            }
        }
    }

    /// Its container, where it has one.
    pub fn container(&self) -> Option<&str> {
        match &self.kind {
            Kind::Bare(_) => None,
            Kind::Boxed(boxed, _) => Some(boxed.id()),
        }
    }

    /// What it has made of the machine's cores until now; nothing where the system does not say.
    pub fn cores(&self) -> Cores {
        match &self.kind {
            Kind::Bare(process) => process.cores(),
            Kind::Boxed(boxed, _) => boxed.pid().map(process::cores_of).unwrap_or_default(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_stay_as_they_are_on_the_machine() {
        let around = Around::Machine { run_as: None };
        let (batch, folder) = (Path::new("/home/b"), Path::new("/home/f"));
        assert_eq!(around.inside(Path::new("/home/b/x"), batch, folder), Path::new("/home/b/x"));
        assert_eq!(around.outside("/kesmo/batch/x", batch, folder), Path::new("/kesmo/batch/x"));
    }

    #[test]
    fn what_an_image_is_to_use_is_open_to_its_users_and_links_are_left() {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().unwrap();
        let (file, program, link) = (dir.path().join("a"), dir.path().join("b"), dir.path().join("c"));
        std::fs::write(&file, "").unwrap();
        std::fs::write(&program, "").unwrap();
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o700)).unwrap();
        std::os::unix::fs::symlink("/etc/passwd", &link).unwrap();
        let before = std::fs::metadata("/etc/passwd").unwrap().permissions();
        open_to_all(dir.path()).unwrap();
        let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&file) & 0o666, mode(&program)), (0o666, 0o777));
        assert_eq!(std::fs::metadata("/etc/passwd").unwrap().permissions(), before);
    }
}
