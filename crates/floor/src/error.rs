//! Why the floor cannot begin.

/// What can hinder the floor.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(transparent)]
    Store(#[from] kesmo_store::Error),
}
