//! The service: takes calls and worker links, and carries what they bring to the floor.
//!
//! [`api`] answers calls and streams changes, [`scheduler`] starts runs by itself, [`starting`] says what a run is made from, and
//! [`access`] guards. `app` is what every call can reach, `lookup` finds what calls name, and `refused` is how they are refused.

pub mod access;
pub mod api;
mod app;
mod auditing;
pub mod backup;
mod called;
mod console;
mod credentials;
mod deliveries;
mod door;
mod error;
mod known;
mod later;
mod lookup;
mod notices;
mod past;
pub mod peers;
mod rates;
mod reaching;
mod refused;
pub mod scheduler;
pub mod starting;
mod sweeping;
mod traces;
mod watched;

use std::{
    io::{Read, Write},
    net::{IpAddr, Ipv4Addr, SocketAddr},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::{Arc, OnceLock},
    time::Duration,
};

use kesmo_database::Postgres;
use kesmo_files::{blobs::Blobs, git::Git, objects::Objects};
use kesmo_store::{Store, vault::Vault};
use kesmo_tls::answering::{self, Certificate};
use rocket::fairing::AdHoc;
use tokio::{
    signal::unix::{SignalKind, signal},
    sync::{Notify, Semaphore, watch},
    task::JoinHandle,
};

pub use access::provider::{Given, ProviderConfig};
pub use app::App;
use deliveries::Deliveries;
pub use error::Error;
pub use kesmo_files::objects::ObjectsAt;
pub use kesmo_store::vault::KeySource;
pub use notices::MailConfig;
use scheduler::clock::Clock;

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

/// Bundles that are read through, and forecasts that are made, at the same time.
const UNPACKING: usize = 2;
const THINKING: usize = 2;
/// Passwords that are held against what is kept at once: each takes 19 MiB, and a core for a moment.
const HASHING: usize = 2;

/// What is told once the service listens.
#[derive(Debug, Clone)]
pub struct Started {
    pub address: SocketAddr,
    /// The address with its scheme, `https://127.0.0.1:7215`.
    pub url: String,
    /// The first admin's token, if this start made it.
    pub admin_token: Option<String>,
    pub admin_token_file: PathBuf,
}

/// Runs the service until SIGTERM or Ctrl-C. `started` is called once it listens.
///
/// # Errors
/// If the data folder, the database or the address cannot be used.
pub async fn serve(config: Config, started: impl FnOnce(Started) + Send + Sync + 'static) -> Result<(), Error> {
    std::fs::create_dir_all(&config.data).map_err(|e| Error::file(&config.data, &e))?;
    let data = config.data.canonicalize().map_err(|e| Error::file(&config.data, &e))?;
    let lock_path = data.join("lock");
    let mut lock = open_lock(&lock_path)?;
    if lock.try_lock().is_err() {
        return Err(Error::FolderTaken(data.display().to_string()));
    }
    // Whoever has it drained finds it by this.
    let told = lock.set_len(0).and_then(|()| write!(lock, "{}", std::process::id()));
    told.map_err(|e| Error::file(&lock_path, &e))?;
    let room = door::widen();
    let certificate = match &config.tls {
        Some((chain, key)) => {
            let read = Certificate::read(chain, key);
            Some(read.map_err(|why| Error::Option(format!("--tls-cert, --tls-key: {why}")))?)
        }
        None => None,
    };
    if certificate.is_none() && !config.listen.ip().is_loopback() {
        tracing::warn!(
            "tokens and results go over plain http to whoever listens on {}: give --tls-cert and --tls-key, or listen on 127.0.0.1 behind a proxy that speaks https",
            config.listen.ip()
        );
    }
    // Listened for before anything is started: a service that is ended while it starts clears away what it began.
    let asked = asked_to_end()?;
    // A taken port is told before anything is started.
    let taken = |e: std::io::Error| Error::Address(config.listen, e.to_string());
    let outer = match certificate {
        // Whoever speaks TLS is taken here, and carried on to the web server.
        Some(certificate) => Some((tokio::net::TcpListener::bind(config.listen).await.map_err(taken)?, certificate)),
        None => {
            if config.listen.port() != 0 {
                std::net::TcpListener::bind(config.listen).map_err(taken)?;
            }
            None
        }
    };
    let postgres = match &config.database {
        Some(_) => None,
        None => {
            let data = data.clone();
            let start = tokio::task::spawn_blocking(move || Postgres::start(&data));
            Some(start.await.map_err(|e| Error::Web(e.to_string()))??)
        }
    };
    let result = serve_with(&config, &data, postgres.as_ref(), room, outer, asked, started).await;
    if let Some(postgres) = postgres {
        tokio::task::spawn_blocking(move || postgres.stop()).await.map_err(|e| Error::Web(e.to_string()))??;
    }
    drop(lock);
    result
}

/// The file that tells that a data folder is in use, and by which process.
fn open_lock(path: &Path) -> Result<std::fs::File, Error> {
    let opened = std::fs::File::options().read(true).write(true).create(true).truncate(false).open(path);
    opened.map_err(|e| Error::file(path, &e))
}

/// Has the service of a data folder end in peace: it says that it is not ready for so long, so that balancers send nothing more, and
/// hands its pools to another service as it ends. Waits until it has; false if none runs there.
///
/// # Errors
/// If the folder cannot be read, or its service cannot be told.
pub fn drain(data: &Path, first: Duration) -> Result<bool, Error> {
    let path = data.join("lock");
    if !path.exists() {
        return Ok(false);
    }
    let mut lock = open_lock(&path)?;
    if lock.try_lock().is_ok() {
        return Ok(false);
    }
    let mut text = String::new();
    lock.read_to_string(&mut text).map_err(|e| Error::file(&path, &e))?;
    let id: i32 = text.trim().parse().map_err(|_| {
        Error::Option(format!("{} does not say which process uses the folder: end it by SIGTERM", path.display()))
    })?;
    let tell = |signal| {
        let told = if has_open(id, &lock) {
            nix::sys::signal::kill(nix::unistd::Pid::from_raw(id), signal).map_err(|e| e.to_string())
        } else {
            Err("it does not use that file: if the service runs in a container, drain it in there".to_owned())
        };
        told.map_err(|why| {
            Error::Option(format!("process {id}, which {} names, cannot be told: {why}", path.display()))
        })
    };
    tell(nix::sys::signal::Signal::SIGUSR1)?;
    std::thread::sleep(first);
    // It may have ended by itself meanwhile, and its number be another's.
    if lock.try_lock().is_ok() {
        return Ok(true);
    }
    tell(nix::sys::signal::Signal::SIGTERM)?;
    lock.lock().map_err(|e| Error::file(&path, &e))?;
    Ok(true)
}

/// Whether a process of this machine has a file open: the number that stands in one may mean another process by now, or be that of
/// another container. One whose files may not be seen here is taken for it: who may not see them may not end it either, mostly.
fn has_open(id: i32, file: &std::fs::File) -> bool {
    let place = |meta: std::fs::Metadata| (meta.dev(), meta.ino());
    let Ok(wanted) = file.metadata().map(place) else { return false };
    match std::fs::read_dir(format!("/proc/{id}/fd")) {
        Ok(open) => open.flatten().any(|one| std::fs::metadata(one.path()).is_ok_and(|meta| place(meta) == wanted)),
        Err(e) => e.kind() == std::io::ErrorKind::PermissionDenied,
    }
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
    problems.extend(
        config.provider.clone().and_then(|one| access::provider::Provider::new(one).err()).map(|e| e.to_string()),
    );
    problems.extend(config.traces.as_deref().and_then(|at| traces::Traces::to(at).err()).map(|e| e.to_string()));
    problems.extend(objects_of(config).await.err().map(|e| e.to_string()));
    problems.extend(notices::Sender::new(config.mail.as_ref(), config.ca.as_deref()).err().map(|e| e.to_string()));
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

/// Whether a file can be made in a folder.
fn tempfile_in(folder: &Path) -> std::io::Result<()> {
    let path = folder.join(format!(".kesmo-check-{}", &kesmo_files::secret::random_text()[..12]));
    std::fs::write(&path, "")?;
    std::fs::remove_file(&path)
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
async fn blobs_of(config: &Config, data: &Path) -> Result<Blobs, Error> {
    let blobs = Blobs::open(config.blobs.clone().unwrap_or_else(|| data.join("blobs")))?;
    Ok(match objects_of(config).await? {
        None => blobs,
        Some(objects) => blobs.kept_in(objects),
    })
}

/// The key that seals secrets where no other was named: made at the first start in the folder of files, which services that share a
/// database share. Of two that start at once, one makes it.
fn own_key(files: &Path) -> Result<PathBuf, Error> {
    let path = files.join("secret-key");
    if path.exists() {
        return Ok(path);
    }
    let failed = |e: std::io::Error| Error::file(&path, &e);
    std::fs::create_dir_all(files).map_err(failed)?;
    let made = path.with_extension(&kesmo_files::secret::random_text()[..12]);
    kesmo_files::secret::write_secret(&made, &kesmo_files::secret::random_text()).map_err(failed)?;
    let linked = std::fs::hard_link(&made, &path);
    std::fs::remove_file(&made).map_err(failed)?;
    match linked {
        Err(e) if e.kind() != std::io::ErrorKind::AlreadyExists => Err(failed(e)),
        _ => Ok(path),
    }
}

/// Seals what is kept with the first key: at the start, and whenever another key becomes the first.
async fn keep_sealed(store: Store) {
    let mut sealed = false;
    loop {
        let reading = store.clone();
        match tokio::task::spawn_blocking(move || reading.read_keys_again()).await {
            Ok(Ok(changed)) => sealed &= !changed,
            Ok(Err(why)) => tracing::warn!("the keys that seal secrets cannot be read; those before stay: {why}"),
            Err(e) => tracing::error!("the keys that seal secrets were not read: {e}"),
        }
        if !sealed {
            match store.seal_again().await {
                Ok(0) => sealed = true,
                Ok(count) => {
                    sealed = true;
                    tracing::info!(count, "secrets were sealed with the key that is the first now");
                }
                Err(e) => tracing::warn!("secrets are sealed with the first key later: {e}"),
            }
        }
        tokio::time::sleep(store.read_keys_every()).await;
    }
}

/// The service's id: made at the first start with a data folder, and the same after.
fn service_id(data: &Path) -> Result<String, Error> {
    let path = data.join("service-id");
    match std::fs::read_to_string(&path) {
        Ok(id) if !id.trim().is_empty() => Ok(id.trim().to_owned()),
        _ => {
            let id = kesmo_files::secret::random_text()[..16].to_owned();
            std::fs::write(&path, &id).map_err(|e| Error::file(&path, &e))?;
            Ok(id)
        }
    }
}

/// Listens for SIGTERM and Ctrl-C from now on; the value turns true when one comes.
fn asked_to_end() -> Result<watch::Receiver<bool>, Error> {
    let listen = |kind| signal(kind).map_err(|e| Error::Web(format!("signals cannot be listened for: {e}")));
    let (mut term, mut interrupt) = (listen(SignalKind::terminate())?, listen(SignalKind::interrupt())?);
    let (tell, asked) = watch::channel(false);
    tokio::spawn(async move {
        tokio::select! {
            _ = term.recv() => {}
            _ = interrupt.recv() => {}
        }
        tell.send_replace(true);
        // Kept open, so that who waits later sees the value and not a closed channel.
        tell.closed().await;
    });
    Ok(asked)
}

/// Listens for SIGUSR1, which says that the service is to be drained.
fn told_to_drain(draining: &Arc<std::sync::atomic::AtomicBool>) -> Result<(), Error> {
    let draining = Arc::clone(draining);
    let mut told =
        signal(SignalKind::user_defined1()).map_err(|e| Error::Web(format!("signals cannot be listened for: {e}")))?;
    tokio::spawn(async move {
        while told.recv().await.is_some() {
            tracing::info!("draining: this service is not ready any more, and is about to end");
            draining.store(true, std::sync::atomic::Ordering::Relaxed);
        }
    });
    Ok(())
}

/// A service that ends by itself says so to whoever asks, for so long.
const SAY_DEAD: Duration = Duration::from_millis(500);

/// Waits until a task ends that should not: which, and why.
async fn first_to_die(
    floor: &mut JoinHandle<()>,
    scheduler: &mut JoinHandle<()>,
    noticing: &mut JoinHandle<()>,
    ending: &watch::Receiver<bool>,
) -> (&'static str, String) {
    let why = |ended: Result<(), tokio::task::JoinError>| match ended {
        Ok(()) => "nobody asked it to".to_owned(),
        Err(e) => e.to_string(),
    };
    let (part, ended) = tokio::select! {
        ended = floor => return ("the floor", why(ended)),
        ended = scheduler => ("the scheduler", ended),
        ended = noticing => ("what sends notices", ended),
    };
    if ended.is_ok() && *ending.borrow() {
        // They end first when the service is asked to; the web server follows.
        std::future::pending::<()>().await;
    }
    (part, why(ended))
}

async fn serve_with(
    config: &Config,
    data: &Path,
    postgres: Option<&Postgres>,
    room: u64,
    outer: Option<(tokio::net::TcpListener, Arc<Certificate>)>,
    mut asked: watch::Receiver<bool>,
    started: impl FnOnce(Started) + Send + Sync + 'static,
) -> Result<(), Error> {
    let sender = Arc::new(notices::Sender::new(config.mail.as_ref(), config.ca.as_deref())?);
    let provider = config.provider.clone().map(access::provider::Provider::new).transpose()?.map(Arc::new);
    let traces = config.traces.as_deref().map(traces::Traces::to).transpose()?;
    let url = config.database.clone().or_else(|| postgres.map(Postgres::url)).unwrap_or_default();
    let keys = match &config.secret_keys {
        Some(keys) => keys.clone(),
        None => KeySource::File(own_key(&config.blobs.clone().unwrap_or_else(|| data.join("blobs")))?),
    };
    let vault = Vault::open(keys).map_err(|why| Error::Option(format!("secrets cannot be sealed: {why}")))?;
    let store = Store::open(&url).await?.with_vault(vault);
    if let Some(postgres) = postgres {
        tokio::spawn(postgres.clone().keep_up());
    }
    let admin_token = access::first_token(&store, data, provider.is_some()).await?;
    let admin_token_file = data.join("admin-token");
    let blobs = blobs_of(config, data).await?;
    let git = Git::new(data.join("git"), blobs.clone(), config.git_folders.clone());
    let git = git.with_credentials(Arc::new(credentials::Kept(store.clone())));
    let (address, over) = (Arc::new(OnceLock::new()), Arc::new(Notify::new()));
    let service = service_id(data)?;
    let peers = Arc::new(peers::Peers::new(service.clone(), store.clone(), config.peer_ca.as_deref())?);
    let ground = kesmo_floor::Ground {
        store: store.clone(),
        blobs: blobs.clone(),
        git: git.clone(),
        patience: config.patience,
        service,
        address: Arc::clone(&address),
        over: Arc::clone(&over),
    };
    let (floor, mut floor_task) = kesmo_floor::start(ground).await?;
    let (known, past, rates, clock) = (Arc::default(), Arc::default(), Arc::default(), config.clock.clone());
    let (unpacking, thinking) = (Arc::new(Semaphore::new(UNPACKING)), Arc::new(Semaphore::new(THINKING)));
    let dead: Arc<OnceLock<&'static str>> = Arc::default();
    let draining = Arc::default();
    told_to_drain(&draining)?;
    let callers = answering::Callers::default();
    let fleet = kesmo_fleet::Ground::new(store.clone(), floor.clone(), blobs.clone(), Arc::clone(&address));
    let (fleet, fleet_task) = kesmo_fleet::Fleet::start(fleet, asked.clone());
    let watched = watched::Watched::new(floor.figures.clone());
    let app = App {
        deliveries: Deliveries::start(store.clone()),
        reaches: reaching::Reaches::default(),
        store,
        floor: floor.clone(),
        blobs,
        known,
        past,
        git,
        fleet,
        rates,
        clock,
        reached_at: config.reached_at.clone(),
        callers: callers.clone(),
        behind: config.behind_proxy.clone(),
        address: Arc::clone(&address),
        watched: watched.clone(),
        sender: Arc::clone(&sender),
        provider,
        peers,
        unpacking,
        thinking,
        hashing: Arc::new(Semaphore::new(HASHING)),
        dead: Arc::clone(&dead),
        draining,
    };
    let audited = app.store.clone();
    let catching_up = tokio::spawn(api::failing::keep_up(app.clone(), asked.clone()));
    let sweeping = tokio::spawn(sweeping::keep_swept(app.clone(), asked.clone()));
    if let Some(traces) = &traces {
        tokio::spawn(traces.clone().follow(app.floor.clone(), asked.clone()));
    }
    let sealing = tokio::spawn(keep_sealed(app.store.clone()));
    let mut noticing = notices::start(app.clone(), sender, asked.clone());
    let mut scheduler = scheduler::start(app.clone(), config.clock.clone(), over, asked.clone());

    // Behind TLS the web server is reached from this machine alone.
    let inside = if outer.is_some() { SocketAddr::from((Ipv4Addr::LOCALHOST, 0)) } else { config.listen };
    let figment = rocket::Config::figment()
        .merge(("address", inside.ip()))
        .merge(("port", inside.port()))
        .merge(("log_level", "off"))
        .merge(("cli_colors", false))
        .merge(("ident", "Kesmo"))
        .merge(("keep_alive", 60))
        .merge(("limits.json", "32MiB"))
        .merge(("shutdown.ctrlc", false))
        .merge(("shutdown.signals", Vec::<String>::new()))
        .merge(("shutdown.grace", 1))
        .merge(("shutdown.mercy", 1));
    let (ip, reached_at, first_address) = (config.listen.ip(), config.reached_at.clone(), address);
    let told = std::sync::Mutex::new(Some((started, admin_token, outer)));
    let liftoff = AdHoc::on_liftoff("started", move |rocket| {
        let (reached_at, first_address) = (reached_at.clone(), Arc::clone(&first_address));
        let port = rocket.config().port;
        let callers = callers.clone();
        let once = told.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take();
        Box::pin(async move {
            if let Some((started, admin_token, outer)) = once {
                let scheme = if outer.is_some() { "https" } else { "http" };
                let address = match outer {
                    Some((listener, certificate)) => {
                        let address = listener.local_addr().unwrap_or(SocketAddr::new(ip, 0));
                        let inner = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
                        tokio::spawn(async move {
                            if let Err(why) = answering::answer(listener, certificate, inner, callers).await {
                                tracing::error!("TLS cannot be spoken: {why}");
                            }
                        });
                        address
                    }
                    None => SocketAddr::new(ip, port),
                };
                let url = format!("{scheme}://{address}");
                tracing::info!(%address, scheme, "listening");
                let reached = reached_at.unwrap_or_else(|| url.clone());
                // Behind TLS each connection takes three of the files that may be open.
                let room = if scheme == "https" { room / 3 } else { room };
                tokio::spawn(door::watch(port, room));
                if first_address.set(reached).is_err() {
                    tracing::error!("the service said twice that it listens");
                }
                started(Started { address, url, admin_token, admin_token_file });
            }
        })
    });
    let made = console::Made::new(app.blobs.outside());
    let traced = traces.clone();
    let rocket = api::mount(rocket::custom(figment).manage(app).manage(made))
        .attach(liftoff)
        .attach(watched)
        .attach(auditing::Auditing::start(audited));
    let rocket = match traced {
        Some(traced) => rocket.attach(traced),
        None => rocket,
    };
    let mut died = None;
    let launched = match rocket.ignite().await {
        Ok(rocket) => {
            let shutdown = rocket.shutdown();
            let (ending, told) = (asked.clone(), shutdown.clone());
            tokio::spawn(async move {
                if asked.wait_for(|asked| *asked).await.is_ok() {
                    told.notify();
                }
            });
            let launching = rocket.launch();
            tokio::pin!(launching);
            // Without one of its parts the service would go on answering, and nothing would be done.
            tokio::select! {
                launched = &mut launching => launched,
                part = first_to_die(&mut floor_task, &mut scheduler, &mut noticing, &ending) => {
                    let (part, why) = part;
                    tracing::error!("{part} has ended, and with it the service: {why}");
                    dead.get_or_init(|| part);
                    died = Some(Error::Died(part, why));
                    // Whoever asks for the service's health is told, for as long as calls are still answered.
                    tokio::time::sleep(SAY_DEAD).await;
                    shutdown.notify();
                    launching.await
                }
            }
        }
        Err(e) => Err(e),
    };
    tracing::info!("stopping");
    if !scheduler.is_finished()
        && let Err(e) = scheduler.await
    {
        tracing::error!("the scheduler ended badly: {e}");
    }
    catching_up.abort();
    sealing.abort();
    sweeping.abort();
    // What it was sending is sent again by whoever is next.
    noticing.abort();
    // Where a part has died nobody asked it to end.
    let fleet_ends = fleet_task.abort_handle();
    if tokio::time::timeout(SAY_DEAD, fleet_task).await.is_err() {
        fleet_ends.abort();
    }
    if !floor_task.is_finished() {
        floor.leave().await;
        if let Err(e) = floor_task.await {
            tracing::error!("the floor ended badly: {e}");
        }
    }
    // Last, so that nobody waits for it who takes over.
    if let Some(traces) = traces {
        traces.end().await;
    }
    if let Some(died) = died {
        return Err(died);
    }
    launched.map(drop).map_err(|e| match e.kind() {
        rocket::error::ErrorKind::Bind(why) => Error::Address(config.listen, why.to_string()),
        other => Error::Web(other.to_string()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn services_that_share_their_files_share_the_key_that_seals() {
        let dir = tempfile::tempdir().expect("a folder");
        let read = |path: PathBuf| std::fs::read_to_string(path).expect("a key");
        let blobs = dir.path().join("blobs");
        let key = read(own_key(&blobs).expect("it is made"));
        assert_eq!(key.trim().len(), 64);
        assert_eq!(key, read(own_key(&blobs).expect("it is there")));
        assert_ne!(key, read(own_key(&dir.path().join("others")).expect("another")));
        assert_eq!(std::fs::read_dir(&blobs).expect("the folder").count(), 1, "nothing else is left");
    }

    #[tokio::test]
    async fn a_part_that_ends_by_itself_is_noticed_and_one_that_was_asked_to_is_not() {
        let forever = || tokio::spawn(std::future::pending::<()>());
        let (ask, ending) = watch::channel(false);
        let mut floor = tokio::spawn(async { panic!("a fault") });
        let (part, why) = first_to_die(&mut floor, &mut forever(), &mut forever(), &ending).await;
        assert!(part == "the floor" && why.contains("panic"), "{part}: {why}");
        let (part, why) = first_to_die(&mut forever(), &mut tokio::spawn(async {}), &mut forever(), &ending).await;
        assert_eq!((part, why.as_str()), ("the scheduler", "nobody asked it to"));
        ask.send_replace(true);
        let (mut floor, mut ended) = (forever(), tokio::spawn(async {}));
        let mut noticing = forever();
        let noticed = first_to_die(&mut floor, &mut ended, &mut noticing, &ending);
        assert!(tokio::time::timeout(Duration::from_millis(100), noticed).await.is_err());
    }
}
