//! How much is written at once of what is written beside the work of runs.

use std::{
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

use crate::Store;

/// Rows that are written by one statement at most.
pub(crate) const PORTION: usize = 2000;

/// A rest is no longer than this.
const LONGEST: Duration = Duration::from_millis(250);

/// What runs tell is being kept, if something was within so long.
const GOES_ON: Duration = Duration::from_millis(300);

/// When something of runs was kept last.
#[derive(Debug, Default)]
pub(crate) struct LastKept(Mutex<Option<Instant>>);

impl LastKept {
    pub(crate) fn now(&self) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now());
    }

    fn goes_on(&self) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).is_some_and(|at| at.elapsed() < GOES_ON)
    }
}

/// Lets runs at PostgreSQL between one portion and the next, while there are some that tell something: for as long as the portion took.
/// What 50,000 tests told is written in about a second, in which nothing else would be kept in time where there are few cores.
pub(crate) struct Pace<'a> {
    store: &'a Store,
    since: Option<Instant>,
}

impl<'a> Pace<'a> {
    pub(crate) fn of(store: &'a Store) -> Self {
        Self { store, since: None }
    }

    /// Waits before a portion; not before the first.
    pub(crate) async fn rest(&mut self) {
        if let Some(since) = self.since.filter(|_| self.store.last_kept.goes_on()) {
            tokio::time::sleep(since.elapsed().min(LONGEST)).await;
        }
        self.since = Some(Instant::now());
    }
}
