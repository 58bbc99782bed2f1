//! Why a run could not be carried out.

use std::path::Path;

/// Why a run could not be carried out at all.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(transparent)]
    Core(#[from] kesmo_core::Error),
    #[error(transparent)]
    Worker(#[from] kesmo_worker::Error),
    #[error("{path}: {why}")]
    File { path: String, why: String },
    /// The tests could not be listed, or nothing is to be run: the run is void.
    #[error("{0}")]
    Void(String),
}

pub(crate) fn file_error(path: &Path, why: &std::io::Error) -> Error {
    Error::File { path: path.display().to_string(), why: why.to_string() }
}
