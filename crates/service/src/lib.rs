//! The service: takes calls and worker links, and carries what they bring to the floor.
//!
//! [`api`] answers calls and streams changes, [`scheduler`] starts runs by itself, [`starting`] says what a run is made from, and
//! [`access`] guards. `app` is what every call can reach, `lookup` finds what calls name, and `refused` is how they are refused.
//! `config` is how a service is to be run, and `folder` what lies in its folders.

pub mod access;
pub mod api;
mod app;
mod auditing;
pub mod backup;
mod called;
mod config;
mod console;
mod credentials;
mod deliveries;
mod door;
mod error;
mod folder;
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
    net::{Ipv4Addr, SocketAddr},
    path::{Path, PathBuf},
    sync::{Arc, OnceLock},
    time::Duration,
};

use kesmo_database::Postgres;
use kesmo_files::git::Git;
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
pub use auditing::WORDS;
use config::blobs_of;
pub use config::{Config, check};
use deliveries::Deliveries;
pub use error::Error;
pub use folder::drain;
use folder::{own_key, service_id};
pub use kesmo_files::objects::ObjectsAt;
pub use kesmo_store::vault::KeySource;
pub use notices::MailConfig;

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
    let lock = folder::take(&data)?;
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

/// A PostgreSQL that does not answer when the service starts is waited for so long: it may be starting as well.
const COMES_UP: Duration = Duration::from_secs(60);
const TRY_AGAIN: Duration = Duration::from_millis(500);

/// Opens the store once PostgreSQL answers; none if the service is asked to end before.
async fn opened(url: &str, asked: &mut watch::Receiver<bool>) -> Result<Option<Store>, Error> {
    if let Ok(address) = kesmo_store::connecting::Address::parse(url)
        && let Some(host) = address.unchecked()
    {
        tracing::warn!(
            "nobody checks that {host} is the PostgreSQL that is meant, and what goes there may be read on the way: add sslmode=verify-full and sslrootcert=FILE to the address of --database"
        );
    }
    let (began, mut told) = (std::time::Instant::now(), String::new());
    loop {
        match Store::open(url).await {
            Err(kesmo_store::Error::Away(why)) if began.elapsed() < COMES_UP => {
                if told != why {
                    tracing::warn!("PostgreSQL does not answer, and is asked for {} s: {why}", COMES_UP.as_secs());
                    told = why;
                }
            }
            opened => return Ok(Some(opened?)),
        }
        if tokio::time::timeout(TRY_AGAIN, asked.wait_for(|asked| *asked)).await.is_ok() {
            return Ok(None);
        }
    }
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
    let Some(store) = opened(&url, &mut asked).await? else { return Ok(()) };
    let store = store.with_vault(vault);
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
    let app = App::new(app::Parts {
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
    });
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
