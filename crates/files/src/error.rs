//! What can be wrong with a file of the service's own.

use std::path::Path;

/// A file that cannot be used, and what the system says of it.
#[derive(Debug, thiserror::Error)]
#[error("{path}: {why}")]
pub struct Error {
    pub path: String,
    pub why: String,
}

impl Error {
    /// A file, and what the system said.
    #[must_use]
    pub fn file(path: &Path, why: &std::io::Error) -> Self {
        Self { path: path.display().to_string(), why: why.to_string() }
    }
}
