//! What every call can reach.

use std::{
    ops::Deref,
    sync::{Arc, OnceLock},
};

use kesmo_files::{blobs::Blobs, git::Git};
use kesmo_fleet::Fleet;
use kesmo_floor::FloorHandle;
use kesmo_store::Store;
use tokio::sync::Semaphore;

use crate::{
    access::provider::Provider, deliveries::Deliveries, known::Known, notices::sending::Sender, past::PastCache,
    peers::Peers, rates::Rates, reaching::Reaches, scheduler::clock::Clock, watched::Watched,
};

/// What every call can reach.
///
/// Each call's future holds it, and is asked each time whether it may go to another thread. It says so by itself, and not by all that it
/// is made of: the compiler went through more than a thousand types for each call.
#[derive(Clone)]
pub struct App(Arc<dyn Deref<Target = Parts> + Send + Sync>);

impl Deref for App {
    type Target = Parts;

    fn deref(&self) -> &Parts {
        &self.0
    }
}

/// What [`App`] is made of.
pub struct Parts {
    pub store: Store,
    pub floor: FloorHandle,
    pub blobs: Blobs,
    pub known: Arc<Known>,
    pub past: Arc<PastCache>,
    pub git: Git,
    pub rates: Arc<Rates>,
    pub deliveries: Deliveries,
    /// Private addresses that are offered.
    pub reaches: Reaches,
    /// Pools that start machines.
    pub fleet: Fleet,
    /// Other services on the same database.
    pub peers: Arc<Peers>,
    pub clock: Clock,
    /// Where callers reach this service, where that is another address than it listens at.
    pub reached_at: Option<String>,
    /// Who is at the other end of connections that came over TLS.
    pub callers: kesmo_tls::answering::Callers,
    /// Proxies whose word is taken for who calls and by which scheme.
    pub behind: Vec<std::net::IpAddr>,
    /// Where it listens, once it does, or is reached.
    pub address: Arc<OnceLock<String>>,
    /// What is counted for whoever watches from outside.
    pub watched: Watched,
    /// Where people sign in besides here.
    pub provider: Option<Arc<Provider>>,
    /// Sends notices.
    pub sender: Arc<Sender>,
    /// Turns for what takes a thread and memory: reading bundles through, and forecasts.
    pub unpacking: Arc<Semaphore>,
    pub thinking: Arc<Semaphore>,
    /// And holding passwords against what is kept.
    pub hashing: Arc<Semaphore>,
    /// It is about to end, and takes no more from whoever asks whether it is ready.
    pub draining: Arc<std::sync::atomic::AtomicBool>,
    /// The part of the service that has ended though it should not.
    pub dead: Arc<OnceLock<&'static str>>,
}

impl App {
    /// One that is made of these.
    #[must_use]
    pub fn new(parts: Parts) -> Self {
        Self(Arc::new(Box::new(parts)))
    }

    /// The address under which people reach this service's console, without a slash at its end.
    #[must_use]
    pub fn base(&self) -> String {
        let known = self.reached_at.as_deref().or_else(|| self.address.get().map(String::as_str));
        known.unwrap_or_default().trim_end_matches('/').to_owned()
    }
}
