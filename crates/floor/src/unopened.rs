//! Runs that are not open, and the leases of a service.

use std::{collections::BTreeSet, time::Duration};

use kesmo_store::{leases::Holder, runs::RunRow};
use kesmo_wire::api::RunSummary;
use tokio::time::Instant;

/// Unfinished runs are looked at so often.
pub(crate) const LOOK_EVERY: Duration = Duration::from_secs(1);

/// A run that is not open.
pub(crate) struct Unopened {
    pub row: RunRow,
    pub suite: String,
    /// How much it counts, by its priority.
    pub weight: u32,
    /// What does not change while it waits.
    pub summary: RunSummary,
    pub state: State,
}

pub(crate) enum State {
    /// Its files are being fetched.
    Fetching(u32),
    /// They could not be fetched: when that is tried again, how often it was, and why it failed.
    Later(Instant, u32, String),
    /// It has its files and waits for a place.
    Ready,
}

/// Where a service stands with its leases.
pub(crate) struct Leases {
    pub service: String,
    pub address: std::sync::Arc<std::sync::OnceLock<String>>,
    pub held: BTreeSet<String>,
    pub renewed: Option<Instant>,
    pub looked: Option<Instant>,
    /// Runs that were told to stop because somebody asked for it.
    pub stopped: BTreeSet<i64>,
}

impl Leases {
    pub fn new(service: String, address: std::sync::Arc<std::sync::OnceLock<String>>) -> Self {
        Self { service, address, held: BTreeSet::new(), renewed: None, looked: None, stopped: BTreeSet::new() }
    }

    pub fn holder(&self) -> Holder {
        let address = self.address.get().cloned().unwrap_or_default();
        Holder { service: self.service.clone(), address }
    }
}
