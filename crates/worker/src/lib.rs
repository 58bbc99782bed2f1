//! The worker: takes batches over its link, runs them in processes of their own, reads results as they appear, and
//! reports them until the service has stored them. It never sees the store.
//!
//! [`link`](self) talks to the service, [`Slots`] has the slots, with a link or without, `source` fetches and prepares a
//! suite's files once, `batch` runs a batch,
//! `progress` attributes results to tests, `process` starts processes and ends whole trees of them, `capture` keeps what
//! they print within bounds, and `files` finds what they leave behind.

mod address;
mod batch;
mod capture;
mod files;
mod link;
mod process;
mod progress;
mod slots;
mod source;
mod user;

use std::{collections::BTreeMap, path::PathBuf};

pub use link::run;
pub use slots::{Home, Slots, home_mark, take_home};

/// How to work.
#[derive(Debug, Clone, Default)]
pub struct Config {
    /// The service's address, `http://127.0.0.1:7215`; several, split by commas, where several services share a database.
    pub url: String,
    pub token: String,
    /// Unique among the workers of a service.
    pub name: String,
    pub pool: String,
    pub slots: u16,
    pub offers: BTreeMap<String, String>,
    /// Where bundles and files of running batches are kept.
    pub home: PathBuf,
    /// It may be given fewer batches than it has slots, when more slow its tests down.
    pub ease: bool,
    /// The only run to work for, `boarding-gate/42`.
    pub only_run: Option<String>,
    /// How much is kept of sources that were fetched; none means 10 GiB.
    pub keep_sources: Option<kesmo_core::time::Bytes>,
    /// Which authorities certify the service, where its address is one of https.
    pub trust: kesmo_tls::Trust,
    /// The user that a suite's processes run as; none: the worker's own.
    pub run_as: Option<String>,
    /// The home folder, if it was taken before.
    pub taken: Option<Home>,
    /// Without a service: a folder with the bundles (`bundles/SHA`), into which files go (`blobs/SHA`).
    pub local: Option<PathBuf>,
}

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
    fn file(path: &std::path::Path, why: &std::io::Error) -> Self {
        Self::File { path: path.display().to_string(), why: why.to_string() }
    }
}

/// 16 random hexadecimal digits.
fn random_mark() -> String {
    let mut bytes = [0u8; 8];
    // Marks tell processes apart; without random numbers from the system that cannot be done safely.
    getrandom::fill(&mut bytes).expect("the operating system gives random numbers");
    hex::encode(bytes)
}

/// Microseconds since 1970, by a clock that is not set while the worker runs: times between two of these are true.
#[must_use]
pub fn now_us() -> i64 {
    use std::{sync::LazyLock, time::Instant};
    static BEGAN: LazyLock<(Instant, i64)> = LazyLock::new(|| (Instant::now(), wall_us()));
    BEGAN.1.saturating_add(i64::try_from(BEGAN.0.elapsed().as_micros()).unwrap_or(i64::MAX))
}

/// How far the machine's clock is before [`now_us`], in microseconds: it may have been set since.
fn skew_us() -> i64 {
    wall_us() - now_us()
}

/// Microseconds since 1970 by the machine's clock, which dates files.
fn wall_us() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}
