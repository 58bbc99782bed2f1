//! How a worker is to work.

use std::{collections::BTreeMap, path::PathBuf};

use crate::{hearing::Hearing, home::Home};

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
    /// The container engine, for suites that run in images.
    pub engine: Option<kesmo_engine::Engine>,
    /// Keeps what processes print, word for word.
    pub hearing: Option<Hearing>,
}
