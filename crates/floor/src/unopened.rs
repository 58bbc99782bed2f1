//! Runs that are not open.

use kesmo_store::runs::RunRow;
use kesmo_wire::api::RunSummary;
use tokio::time::Instant;

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
