//! Why the floor cannot begin.

/// What can hinder the floor.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(transparent)]
    Store(#[from] kesmo_store::Error),
    #[error("the system gives no threads for carrying out runs: {0}")]
    Threads(#[from] std::io::Error),
    #[error("what carries out runs ended before it had begun")]
    Ended,
}
