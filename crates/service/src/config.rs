//! How a service is to be run, whether it can be, and what it opens for that.

use std::{
    net::{IpAddr, SocketAddr},
    path::{Path, PathBuf},
    time::Duration,
};

use kesmo_files::{
    blobs::Blobs,
    objects::{Objects, ObjectsAt},
};
use kesmo_store::{
    Store,
    vault::{KeySource, Vault},
};
use kesmo_tls::answering::Certificate;

use crate::{
    access::provider::{Provider, ProviderConfig},
    error::Error,
    folder::tempfile_in,
    notices::{MailConfig, Sender},
    scheduler::clock::Clock,
    traces::Traces,
};

/// How to run the service.
#[derive(Debug, Clone)]
pub struct Config {
    pub listen: SocketAddr,
    /// The files of its certificate, with the chain, and of the key, if it speaks TLS.
    pub tls: Option<(PathBuf, PathBuf)>,
    pub data: PathBuf,
    /// None: a PostgreSQL of its own in the data folder.
    pub database: Option<String>,
    /// How long a worker's link may be silent before its batches are lost.
    pub patience: Duration,
    /// Where files are kept; none: in the data folder. Services that share a database share it.
    pub blobs: Option<PathBuf>,
    /// An object store in which files are kept, and the file of its key; the folder then holds what was used of late.
    pub objects: Option<(ObjectsAt, PathBuf)>,
    /// Where workers and other services reach this one; none: where it listens.
    pub reached_at: Option<String>,
    /// Proxies whose word is taken for who calls and by which scheme.
    pub behind_proxy: Vec<IpAddr>,
    /// Folders whose repositories may be read as `file://`.
    pub git_folders: Vec<PathBuf>,
    /// The clock that schedules go by.
    pub clock: Clock,
    /// Where the keys come from that seal secrets; none: from a file that is made at the first start, among those that it keeps.
    pub secret_keys: Option<KeySource>,
    /// The mail server that notices are handed to.
    pub mail: Option<MailConfig>,
    /// A file of authorities that are trusted, beside the machine's own, where other services on the same database are asked.
    pub peer_ca: Option<PathBuf>,
    /// Where people sign in besides here.
    pub provider: Option<ProviderConfig>,
    /// Where traces go (OpenTelemetry).
    pub traces: Option<String>,
    /// A file of authorities that are trusted, beside the machine's own, where notices are sent.
    pub ca: Option<PathBuf>,
}

/// What is wrong with how the service is to be run, found without starting it: all of it, in words.
pub async fn check(config: &Config) -> Vec<String> {
    let mut problems = Vec::new();
    if let Some((chain, key)) = &config.tls {
        problems.extend(Certificate::read(chain, key).err().map(|why| format!("--tls-cert, --tls-key: {why}")));
    }
    if let Some(keys) = &config.secret_keys {
        problems.extend(Vault::open(keys.clone()).err().map(|why| format!("secrets cannot be sealed: {why}")));
    }
    problems.extend(config.provider.clone().and_then(|one| Provider::new(one).err()).map(|e| e.to_string()));
    problems.extend(config.traces.as_deref().and_then(|at| Traces::to(at).err()).map(|e| e.to_string()));
    problems.extend(objects_of(config).await.err().map(|e| e.to_string()));
    problems.extend(Sender::new(config.mail.as_ref(), config.ca.as_deref()).err().map(|e| e.to_string()));
    for folder in config.git_folders.iter().filter(|folder| !folder.is_dir()) {
        problems.push(format!("--git-folder {}: there is no such folder", folder.display()));
    }
    for (option, folder) in [("--data", Some(&config.data)), ("--blobs", config.blobs.as_ref())] {
        let Some(folder) = folder else { continue };
        let above = folder.ancestors().find(|folder| folder.exists()).unwrap_or(Path::new("."));
        let above = if above.as_os_str().is_empty() { Path::new(".") } else { above };
        if tempfile_in(above).is_err() {
            problems.push(format!("{option} {}: nothing can be written there", folder.display()));
        }
    }
    if config.listen.port() != 0 {
        let taken = std::net::TcpListener::bind(config.listen).err();
        problems.extend(taken.map(|e| Error::Address(config.listen, e.to_string()).to_string()));
    }
    if let Some(url) = &config.database {
        problems.extend(Store::answers_at(url).await.err().map(|e| format!("--database: {e}")));
    }
    if let Some(url) =
        config.reached_at.as_deref().filter(|url| !url.starts_with("http://") && !url.starts_with("https://"))
    {
        problems
            .push(format!("--reached-at {url:?} is no address of a service: write it like https://kesmo.example:7215"));
    }
    problems
}

/// Where files are kept, if that is an object store.
async fn objects_of(config: &Config) -> Result<Option<Objects>, Error> {
    let Some((at, key)) = &config.objects else { return Ok(None) };
    if config.secret_keys.is_none() {
        let say = "--objects needs --secret-key-file or --secret-key-command: without a folder that they share, services know no key of their own";
        return Err(Error::Option(say.into()));
    }
    open_objects(at, key).await.map(Some)
}

/// Opens an object store with the key in a file, and makes sure that it can be used.
pub(crate) async fn open_objects(at: &ObjectsAt, key: &Path) -> Result<Objects, Error> {
    let text = std::fs::read_to_string(key).map_err(|e| Error::file(key, &e))?;
    let objects = Objects::new(at, &text).map_err(|why| Error::Option(format!("--objects: {why}")))?;
    objects.check().await.map_err(|e| Error::Option(format!("--objects: {e}")))?;
    Ok(objects)
}

/// Opens where files are kept.
pub(crate) async fn blobs_of(config: &Config, data: &Path) -> Result<Blobs, Error> {
    let blobs = Blobs::open(config.blobs.clone().unwrap_or_else(|| data.join("blobs")))?;
    Ok(match objects_of(config).await? {
        None => blobs,
        Some(objects) => blobs.kept_in(objects),
    })
}
