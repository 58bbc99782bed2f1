//! What can end or hinder the service.

use std::{net::SocketAddr, path::Path};

/// What can end or hinder the service.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(transparent)]
    File(#[from] kesmo_files::Error),
    #[error(transparent)]
    Postgres(#[from] kesmo_database::Error),
    #[error(transparent)]
    Floor(#[from] kesmo_floor::Error),
    #[error(transparent)]
    Store(#[from] kesmo_store::Error),
    #[error("another `kesmo serve` uses the data folder {0}: stop it, or give another with --data")]
    FolderTaken(String),
    #[error("the address {0} cannot be listened on: {1}. Stop what uses it, or give another with --listen")]
    Address(SocketAddr, String),
    /// An option of the service that cannot be used.
    #[error("{0}")]
    Option(String),
    #[error("the web server failed: {0}")]
    Web(String),
    #[error("{0} has ended ({1}): the service ends, to be started again")]
    Died(&'static str, String),
}

impl Error {
    pub(crate) fn file(path: &Path, why: &std::io::Error) -> Self {
        kesmo_files::Error::file(path, why).into()
    }
}
