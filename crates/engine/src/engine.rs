//! An engine that answers: where it is, what it can, and whose its containers are.

use std::{collections::HashMap, path::Path, sync::Arc, time::Duration};

use bollard::{Docker, models::SystemInfoCgroupVersionEnum, query_parameters::ListContainersOptionsBuilder};

/// The address of no engine: none is looked for.
pub const NONE: &str = "none";

/// The version of the API that is spoken, which engines have had for long.
const VERSION: &bollard::ClientVersion = &bollard::ClientVersion { major_version: 1, minor_version: 41 };
/// A call that should answer soon is given up after this, in seconds.
const SOON: u64 = 60;
/// A call that lasts as long as what it waits for.
const LONG: u64 = 366 * 24 * 3600;

/// Why an engine did not do something.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// It does not answer: it is not there, may not be talked to, or went away.
    #[error("the container engine at {at} does not answer: {why}")]
    Away { at: String, why: String },
    /// It answered that it cannot, in its own words.
    #[error("{what}: {said}")]
    Refused { what: String, said: String },
}

/// Whose a container is: by which the worker finds it again.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Marks {
    /// Of the worker's home folder, the same for every process that uses it.
    pub home: String,
    /// Of the worker's process and what it does: `MARK-RUN-BATCH-x`.
    pub work: String,
}

pub(crate) const HOME: &str = "kesmo.home";
const WORK: &str = "kesmo.work";

impl Marks {
    pub(crate) fn labels(&self) -> HashMap<String, String> {
        HashMap::from([(HOME.to_owned(), self.home.clone()), (WORK.to_owned(), self.work.clone())])
    }
}

/// An engine that answers.
#[derive(Clone)]
pub struct Engine {
    pub(crate) at: Arc<str>,
    pub(crate) docker: Docker,
    /// For calls that last as long as a container.
    pub(crate) patient: Docker,
    pub(crate) about: Arc<About>,
}

/// What an engine says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct About {
    /// Of the machine, as images name it: `amd64`, `arm64`.
    pub architecture: String,
    pub limits_memory: bool,
    pub limits_cpus: bool,
}

impl std::fmt::Debug for Engine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Engine({})", self.at)
    }
}

/// The sockets at which engines usually listen, those of the user first.
#[must_use]
pub fn usual() -> Vec<String> {
    let own = std::env::var("XDG_RUNTIME_DIR").ok().map(|folder| format!("{folder}/podman/podman.sock"));
    let all = own.into_iter().chain(["/run/podman/podman.sock".to_owned(), "/var/run/docker.sock".to_owned()]);
    all.filter(|path| Path::new(path).exists()).map(|path| format!("unix://{path}")).collect()
}

impl Engine {
    /// Talks to the engine at an address, `unix:///run/podman/podman.sock`.
    ///
    /// # Errors
    /// If the address is of another kind, or nothing answers there.
    pub async fn at(address: &str) -> Result<Self, Error> {
        let away = |why: String| Error::Away { at: address.to_owned(), why };
        let Some(path) = address.strip_prefix("unix://").or_else(|| address.starts_with('/').then_some(address)) else {
            return Err(away("give a socket of this machine, like unix:///run/podman/podman.sock".into()));
        };
        // A socket without rights is refused by the system in its own words, which the client hides.
        let socket = tokio::net::UnixStream::connect(path).await.map_err(|e| away(socket_said(path, &e)))?;
        let without_root = socket.peer_cred().is_ok_and(|engine| engine.uid() != 0);
        let connect = |seconds| Docker::connect_with_unix(path, seconds, VERSION).map_err(|e| away(e.to_string()));
        Self::that_answers(address, connect(SOON)?, connect(LONG)?, without_root).await
    }

    /// Talks to the engine at `tcp://HOST:PORT` by TLS, with `ca.pem`, `cert.pem` and `key.pem` of a folder.
    ///
    /// # Errors
    /// If the folder lacks one of them, or nothing answers there.
    pub async fn with_certificates(address: &str, folder: &Path) -> Result<Self, Error> {
        let away = |why: String| Error::Away { at: address.to_owned(), why };
        let [ca, certificate, key] = ["ca.pem", "cert.pem", "key.pem"].map(|name| folder.join(name));
        for file in [&ca, &certificate, &key] {
            std::fs::File::open(file).map_err(|e| away(format!("{}: {e}", file.display())))?;
        }
        let connect = |seconds| {
            Docker::connect_with_ssl(address, &key, &certificate, &ca, seconds, VERSION).map_err(|e| away(said(&e)))
        };
        Self::that_answers(address, connect(SOON)?, connect(LONG)?, false).await
    }

    async fn that_answers(
        address: &str,
        mut docker: Docker,
        mut patient: Docker,
        without_root: bool,
    ) -> Result<Self, Error> {
        let away = |why: String| Error::Away { at: address.to_owned(), why };
        let info = match docker.info().await {
            Ok(info) => info,
            // One that is newer may not speak that version any more; to ask for the one to speak takes a while.
            Err(bollard::errors::Error::DockerResponseServerError { .. }) => {
                docker = docker.negotiate_version().await.map_err(|e| away(said(&e)))?;
                patient = patient.negotiate_version().await.map_err(|e| away(said(&e)))?;
                docker.info().await.map_err(|e| away(said(&e)))?
            }
            Err(e) => return Err(away(said(&e))),
        };
        // One without root keeps no limits there, though it says that it does.
        let limits = !(without_root && info.cgroup_version == Some(SystemInfoCgroupVersionEnum::_1));
        let about = About {
            architecture: as_images_say(&info.architecture.unwrap_or_default()),
            limits_memory: limits && info.memory_limit.unwrap_or(false),
            limits_cpus: limits && info.cpu_cfs_quota.unwrap_or(false),
        };
        Ok(Self { at: address.into(), docker, patient, about: Arc::new(about) })
    }

    /// The engine to use: the one that is named, none where that is [`NONE`], or the first that answers at the usual sockets.
    ///
    /// # Errors
    /// If one is named and does not answer.
    pub async fn find(named: Option<&str>) -> Result<Option<Self>, Error> {
        match named {
            Some(NONE) => Ok(None),
            Some(address) => Self::at(address).await.map(Some),
            None => {
                for address in usual() {
                    match Self::at(&address).await {
                        Ok(engine) => return Ok(Some(engine)),
                        Err(e) => tracing::debug!("not used: {e}"),
                    }
                }
                Ok(None)
            }
        }
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> &str {
        &self.at
    }

    pub(crate) fn failed(&self, what: &str) -> impl Fn(bollard::errors::Error) -> Error {
        let (what, at) = (what.to_owned(), self.at.to_string());
        move |e| match e {
            bollard::errors::Error::DockerResponseServerError { message, .. } => {
                Error::Refused { what: what.clone(), said: without_ids(message.trim()) }
            }
            bollard::errors::Error::DockerStreamError { error } => {
                Error::Refused { what: what.clone(), said: without_ids(error.trim()) }
            }
            other => Error::Away { at: at.clone(), why: said(&other) },
        }
    }

    /// Refuses limits that it cannot keep; `whose` they are.
    pub(crate) fn keeps(&self, whose: &str, memory: bool, cpus: bool) -> Result<(), Error> {
        let asked = [("memory", memory, self.about.limits_memory), ("cpus", cpus, self.about.limits_cpus)];
        let Some((limit, ..)) = asked.iter().find(|(_, asked, kept)| *asked && !*kept) else { return Ok(()) };
        let said = format!("the container engine at {} cannot keep to it", self.at);
        Err(Error::Refused { what: format!("{whose} {limit} is asked for"), said })
    }

    /// Removes the containers of a worker's home whose work is wanted, and tells how many that were. What an engine is about to
    /// remove itself is passed over.
    ///
    /// # Errors
    /// If the engine does not answer.
    pub async fn clear(&self, home: &str, work: &Work) -> Result<usize, Error> {
        let filters = HashMap::from([("label".to_owned(), vec![format!("{HOME}={home}")])]);
        let options = ListContainersOptionsBuilder::default().all(true).filters(&filters).build();
        let found = self.docker.list_containers(Some(options)).await;
        let mut cleared = 0;
        for container in found.map_err(self.failed("the containers cannot be listed"))? {
            let of = container.labels.as_ref().and_then(|labels| labels.get(WORK)).map_or("", String::as_str);
            if let Some(id) = container.id.filter(|_| work.wants(of)) {
                self.remove(&id).await?;
                cleared += 1;
            }
        }
        Ok(cleared)
    }

    /// As [`Engine::clear`], until the engine answers; for whoever cannot wait for it.
    pub fn clear_later(&self, home: String, work: Work) {
        let engine = self.clone();
        tokio::spawn(async move { again_and_again(|| engine.clear(&home, &work)).await });
    }

    /// Removes one container, until the engine answers. Others of the same work may run by then.
    pub(crate) fn remove_later(&self, id: String) {
        let engine = self.clone();
        tokio::spawn(async move { again_and_again(|| engine.remove(&id)).await });
    }
}

/// Which work of a home, by the beginning of its mark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Work {
    /// That begins so.
    Of(String),
    /// All that begins otherwise: what a worker must clear away that begins so itself.
    NotOf(String),
}

impl Work {
    fn wants(&self, mark: &str) -> bool {
        match self {
            Self::Of(beginning) => mark.starts_with(beginning.as_str()),
            Self::NotOf(beginning) => !mark.starts_with(beginning.as_str()),
        }
    }
}

/// Tries something with growing pauses until the engine answers. It gives up after a day.
async fn again_and_again<T, F: Future<Output = Result<T, Error>>>(what: impl Fn() -> F) {
    let mut pause = Duration::from_secs(1);
    for _ in 0..1500 {
        match what().await {
            Ok(_) => return,
            Err(e) => tracing::warn!("containers are not removed yet: {e}"),
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(60));
    }
}

/// Tells names apart that are made in one process.
pub(crate) fn unlike() -> u64 {
    static LAST: std::sync::atomic::AtomicU64 = std::sync::atomic::AtomicU64::new(0);
    LAST.fetch_add(1, std::sync::atomic::Ordering::Relaxed)
}

/// What is at the bottom of an error.
fn said(error: &bollard::errors::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    match error {
        bollard::errors::Error::RequestTimeoutError => format!("it said nothing for {SOON} s"),
        _ => cause.to_string(),
    }
}

/// What an engine says, without the long numbers of its containers, which tell nobody anything and differ each time.
fn without_ids(said: &str) -> String {
    let is_id = |word: &str| word.len() == 64 && word.bytes().all(|b| b.is_ascii_hexdigit());
    let word = |word: &str| if is_id(word.trim_matches([':', '"', ','])) { "…".to_owned() } else { word.to_owned() };
    said.split(' ').map(word).collect::<Vec<_>>().join(" ")
}

/// Why a socket cannot be talked to, with what to do.
fn socket_said(path: &str, error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::NotFound => format!("there is no socket {path}; is the engine's service started?"),
        std::io::ErrorKind::PermissionDenied => {
            format!(
                "{path} may not be used by this user ({error}); an engine without root listens at a socket of the user's own"
            )
        }
        std::io::ErrorKind::ConnectionRefused => format!("nobody listens at {path}; is the engine's service started?"),
        _ => format!("{path}: {error}"),
    }
}

/// An architecture as images name it: engines give the kernel's name or Go's.
fn as_images_say(name: &str) -> String {
    match name {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    }
    .to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn an_address_that_nobody_answers_at_says_what_to_do() {
        let why = |address: &'static str| async move { Engine::at(address).await.unwrap_err().to_string() };
        assert!(why("tcp://10.0.0.1:2375").await.contains("give a socket of this machine"));
        assert!(why("unix:///nowhere/engine.sock").await.contains("is the engine's service started?"));
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("s");
        drop(std::os::unix::net::UnixListener::bind(&path).unwrap());
        let said = Engine::at(&format!("unix://{}", path.display())).await.unwrap_err().to_string();
        assert!(said.contains("nobody listens"), "{said}");
        assert_eq!(Engine::find(Some(NONE)).await.map(|e| e.is_some()), Ok(false));
    }

    #[test]
    fn the_numbers_of_containers_are_left_away() {
        let said = format!("preparing container {} for attach: sha256:12 is \"{}\":", "a1".repeat(32), "0".repeat(64));
        assert_eq!(without_ids(&said), "preparing container … for attach: sha256:12 is …");
    }

    #[test]
    fn what_a_worker_clears_away_late_is_not_what_it_began_meanwhile() {
        let before = Work::NotOf("aa".into());
        assert!(before.wants("bb-1-2-x") && before.wants("") && !before.wants("aa-1-2-x"));
        let batch = Work::Of("aa-1-2-".into());
        assert!(batch.wants("aa-1-2-x") && !batch.wants("aa-1-20-x") && !batch.wants("bb-1-2-x"));
    }

    #[test]
    fn architectures_are_named_as_images_name_them() {
        assert_eq!(["x86_64", "aarch64", "riscv64"].map(as_images_say), ["amd64", "arm64", "riscv64"]);
    }
}
