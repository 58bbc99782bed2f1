//! PostgreSQL's programs, and why there are none.

use std::{
    fs, io,
    path::{Path, PathBuf},
};

/// Why there is no PostgreSQL.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(transparent)]
    File(#[from] kesmo_files::Error),
    #[error("{0}")]
    Postgres(String),
}

impl Error {
    pub(crate) fn file(path: &Path, why: &io::Error) -> Self {
        kesmo_files::Error::file(path, why).into()
    }
}

/// Where PostgreSQL's programs are: of several versions the newest.
///
/// # Errors
/// If there are none.
pub(crate) fn find_programs() -> Result<PathBuf, Error> {
    let version = |dir: &PathBuf| -> u32 {
        let name = dir.parent().and_then(Path::file_name).map(|n| n.to_string_lossy().into_owned());
        name.and_then(|n| n.parse().ok()).unwrap_or(0)
    };
    let debian = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten().map(|e| e.path().join("bin"));
    let newest = debian.filter(|dir| dir.join("initdb").exists()).max_by_key(version);
    let on_path = std::env::var_os("PATH").into_iter().flat_map(|p| std::env::split_paths(&p).collect::<Vec<_>>());
    newest.or_else(|| on_path.into_iter().find(|dir| dir.join("initdb").exists())).ok_or_else(|| {
        let say = "PostgreSQL is not installed here: install Debian's package `postgresql`, or name a database with --database";
        Error::Postgres(say.into())
    })
}
