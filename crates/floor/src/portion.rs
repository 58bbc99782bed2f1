//! What is written together, who writes it, and what waits for that.

use std::{
    collections::BTreeSet,
    sync::{
        Arc, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use kesmo_core::run::WorkerId;
use kesmo_store::{Store, commit::Commit};
use kesmo_wire::link::ToWorker;
use tokio::{sync::oneshot, task::JoinHandle, time::Instant};

use crate::{
    asking::{Ask, Stalled},
    shown::Shown,
};

/// What to do once everything is stored.
pub(crate) enum After {
    Send(WorkerId, ToWorker),
    Stopped(oneshot::Sender<bool>),
    Ask(Ask),
    /// A run is over: what follows it may begin.
    Over,
}

/// So often rows are tried that PostgreSQL refuses.
const MOST_REFUSALS: u32 = 3;

/// What became of a commit.
pub(crate) enum Stored {
    Yes,
    /// The service is to stop, and PostgreSQL is away.
    GivenUp,
    /// Another service holds one of the pools.
    Elsewhere,
    /// PostgreSQL takes other rows, but not these: why.
    Refused(String),
}

/// Writes commits.
#[derive(Clone)]
pub(crate) struct Writer {
    pub store: Store,
    /// The service is asked to stop: a commit that PostgreSQL does not take is given up, unacknowledged.
    pub stopping: Arc<AtomicBool>,
    pub stalled: Stalled,
}

/// A commit, what became of it, and how long that took.
pub(crate) type Written = (Commit, Stored, Duration);

/// What is being written, and what waits for that.
pub(crate) struct Portion {
    /// None: there was nothing to write.
    pub written: Option<JoinHandle<Written>>,
    pub after: Vec<After>,
    /// Runs that are over with it.
    pub over: Vec<i64>,
    /// Runs that ended in it without having been opened.
    pub closing: BTreeSet<i64>,
    /// What is shown of it: of a run, or of the floor.
    pub shown: Vec<(Option<i64>, Shown)>,
}

impl Writer {
    /// Stored, or refused for good; given up only if the service is to stop and PostgreSQL is away. Whether rows are refused,
    /// or PostgreSQL takes nothing at all now, is told by whether it takes another row.
    pub async fn store(&self, commit: &Commit) -> Stored {
        let stored = self.try_commit(commit).await;
        *self.stalled.lock().unwrap_or_else(PoisonError::into_inner) = None;
        stored
    }

    async fn try_commit(&self, commit: &Commit) -> Stored {
        let mut pause = Duration::from_millis(50);
        let (mut tries, mut refusals) = (0, 0);
        loop {
            let error = match self.store.commit(commit).await {
                Ok(()) => return Stored::Yes,
                Err(kesmo_store::Error::Elsewhere) => return Stored::Elsewhere,
                Err(e) => e,
            };
            tries += 1;
            if tries > 5 && self.stopping.load(Ordering::SeqCst) {
                tracing::error!("the service stops without its last commit: {error}");
                return Stored::GivenUp;
            }
            if matches!(error, kesmo_store::Error::Refused(_) | kesmo_store::Error::Content(_)) {
                match self.store.probe().await {
                    Ok(()) => refusals += 1,
                    Err(e) => tracing::warn!("PostgreSQL takes nothing now: {e}"),
                }
                if refusals >= MOST_REFUSALS {
                    return Stored::Refused(error.to_string());
                }
            }
            tracing::warn!("a commit failed and is tried again: {error}");
            {
                let mut stalled = self.stalled.lock().unwrap_or_else(PoisonError::into_inner);
                let since = stalled.as_ref().map_or_else(Instant::now, |s| s.0);
                *stalled = Some((since, error.to_string()));
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(Duration::from_secs(1));
        }
    }
}
