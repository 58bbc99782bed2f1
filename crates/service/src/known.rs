//! Tokens and sessions that were looked up of late.

use std::{
    collections::HashMap,
    sync::Mutex,
    time::{Duration, Instant},
};

use kesmo_wire::api::Me;
use tokio::sync::Notify;

/// How long an answer about a token is remembered, so that not every call asks PostgreSQL.
pub const REMEMBERED: Duration = Duration::from_secs(5);

/// Tokens that were looked up of late.
#[derive(Default)]
pub struct Known(Mutex<HashMap<Vec<u8>, (Me, Instant)>>, Notify);

impl Known {
    pub fn get(&self, hash: &[u8]) -> Option<Me> {
        let known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        known.get(hash).filter(|(_, at)| at.elapsed() < REMEMBERED).map(|(me, _)| me.clone())
    }

    pub fn put(&self, hash: Vec<u8>, me: Me) {
        let mut known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        known.retain(|_, (_, at)| at.elapsed() < REMEMBERED);
        known.insert(hash, (me, Instant::now()));
    }

    /// Forgets all: a token was removed, or a session has ended.
    pub fn forget(&self) {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clear();
        self.1.notify_waiters();
    }

    /// Resolves when a token is removed or a session ends at this service.
    pub async fn changed(&self) {
        self.1.notified().await;
    }
}
