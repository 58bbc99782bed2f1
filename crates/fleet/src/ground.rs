//! What managers stand on.

use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError},
};

use kesmo_core::{
    fleet::{How, Pool},
    time::Span,
};
use kesmo_files::blobs::Blobs;
use kesmo_floor::FloorHandle;
use kesmo_store::{Store, pools::PoolRow};

use crate::{
    ci::Jobs,
    cluster::Pods,
    engine::Containers,
    provider::{Error, Provider},
};

/// How a pool stands that this service keeps.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Status {
    /// How many machines are wanted, and why not more.
    pub why: String,
    /// What went wrong last, and is not over.
    pub trouble: Option<String>,
    /// What starting a machine usually takes.
    pub start: Option<Span>,
}

/// What managers stand on.
#[derive(Clone)]
pub struct Ground {
    pub store: Store,
    pub floor: FloorHandle,
    pub blobs: Blobs,
    /// Where machines reach the service, once that is known.
    pub address: Arc<OnceLock<String>>,
    pub trust: kesmo_tls::Trust,
    pub(crate) statuses: Arc<Mutex<BTreeMap<String, Status>>>,
}

impl Ground {
    /// Ground to keep pools on.
    #[must_use]
    pub fn new(store: Store, floor: FloorHandle, blobs: Blobs, address: Arc<OnceLock<String>>) -> Self {
        Self { store, floor, blobs, address, trust: kesmo_tls::Trust::default(), statuses: Arc::default() }
    }

    pub(crate) fn address(&self) -> Option<String> {
        self.address.get().cloned()
    }

    /// What starts the machines of a pool.
    ///
    /// # Errors
    /// If none are started in it.
    pub fn provider(&self, row: &PoolRow, pool: &Pool) -> Result<Arc<dyn Provider>, Error> {
        Ok(match &pool.how {
            How::Fixed => return Err(Error::Refused(format!("the pool {} starts no machines", row.name))),
            How::Engine(engine) => Arc::new(Containers::new(engine.clone(), row.mark.clone())),
            How::Cluster(cluster) => Arc::new(Pods::new(cluster.clone(), row.mark.clone(), row.secret.clone())),
            How::Ci(ci) => Arc::new(Jobs::new(ci.as_ref().clone(), row.name.clone(), row.secret.clone(), &self.trust)?),
        })
    }

    fn statuses(&self) -> MutexGuard<'_, BTreeMap<String, Status>> {
        self.statuses.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn say(&self, pool: &str, status: Status) {
        self.statuses().insert(pool.to_owned(), status);
    }

    pub(crate) fn forget(&self, pool: &str) {
        self.statuses().remove(pool);
    }

    /// How a pool stands; none if this service does not keep it.
    #[must_use]
    pub fn status(&self, pool: &str) -> Option<Status> {
        self.statuses().get(pool).cloned()
    }
}
