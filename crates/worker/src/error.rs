//! What ends a worker.

/// What ends a worker.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("{path}: {why}")]
    File { path: String, why: String },
    #[error("the service refused this worker: {0}")]
    Refused(String),
    #[error(transparent)]
    Address(#[from] kesmo_tls::Error),
    #[error("--run-as {0}")]
    User(String),
    #[error("another worker uses the folder {0}: stop it, or give another with --home")]
    FolderTaken(String),
}

impl Error {
    pub(crate) fn file(path: &std::path::Path, why: &std::io::Error) -> Self {
        Self::File { path: path.display().to_string(), why: why.to_string() }
    }
}
