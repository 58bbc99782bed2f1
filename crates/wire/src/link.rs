//! The messages of the worker link: one WebSocket for each worker process, dialled by the worker, JSON text frames.
//!
//! What a worker reports comes in numbered [`FromWorker::Report`]s. The service acknowledges up to a number once it is
//! stored; the worker keeps what is not acknowledged and sends it again after a reconnect. A run's batch is named by the
//! run's id and the batch's number within the run.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use kesmo_core::{format::Step, run::BatchEnd, words::Ended};

/// A batch of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct BatchKey {
    pub run: i64,
    pub batch: u32,
}

/// What a worker says.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum FromWorker {
    /// First on every link.
    Hello(Hello),
    /// Things that happened, in order; `number` counts reports of this process from 1.
    Report { number: u64, events: Vec<WorkerEvent> },
    /// Nothing more will be taken: the worker is leaving.
    Leaving,
}

/// Who a worker is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Hello {
    pub name: String,
    pub pool: String,
    pub slots: u16,
    pub offers: BTreeMap<String, String>,
    /// Made anew by every worker process, so that another process under the same name is told apart.
    pub process: String,
    /// Batches that run, or of which reports are not acknowledged.
    pub holds: Vec<BatchKey>,
    /// Listing jobs that run or whose result is not acknowledged.
    pub listing: Vec<String>,
}

/// Something that happened on a worker. `at_us` are microseconds since 1970 by the worker's clock.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum WorkerEvent {
    /// An attempt began.
    Began { key: BatchKey, entry: u32, at_us: i64 },
    /// An attempt ended.
    Ended(Box<AttemptReport>),
    /// Files that an attempt (or, without an entry, the batch) left behind; their content is uploaded already.
    Kept { key: BatchKey, entry: Option<u32>, files: Vec<KeptFile> },
    /// A remark for the run.
    Note { key: BatchKey, text: String },
    /// The batch ended.
    BatchEnded { key: BatchKey, end: BatchEnd },
    /// A listing job ended: the tests as the list command printed them, uploaded under this digest, or why not.
    Listed { job: String, result: Result<String, String> },
}

/// How an attempt ended.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct AttemptReport {
    pub key: BatchKey,
    pub entry: u32,
    pub ended: Ended,
    pub began_us: i64,
    pub ended_us: i64,
    pub spent_us: u64,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub message: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    #[serde(default)]
    pub log: Log,
}

/// What an attempt printed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Log {
    #[default]
    None,
    /// Short ones travel with the report.
    Text(String),
    /// Longer ones are uploaded before.
    Blob { digest: String, bytes: u64 },
}

impl Log {
    /// Logs longer than this, in bytes, are uploaded apart.
    pub const LONGEST_TEXT: usize = 16 << 10;
}

/// A file that was kept.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct KeptFile {
    pub path: String,
    pub about: String,
    pub digest: String,
    pub bytes: u64,
}

/// What the service says.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum ToWorker {
    /// The answer to a hello. A link silent for `patience_ms` is given up by either side.
    Welcome { patience_ms: u64 },
    /// The link is refused; the worker is to end with this message.
    Refused { message: String },
    /// Reports up to this number are stored.
    Stored { number: u64 },
    /// Run this.
    Grant(Box<Grant>),
    /// Print the list of tests.
    List(Box<ListJob>),
    /// End this batch: nothing more of it counts.
    Revoke { key: BatchKey },
}

/// What a worker needs to know to run a suite's commands.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Errand {
    /// `boarding-gate/42`
    pub run: String,
    /// The bundle; its `kesmo.toml` says how to prepare, list, run and read.
    pub bundle: String,
    pub variant: Vec<(String, String)>,
    pub settings: BTreeMap<String, String>,
    pub env: BTreeMap<String, String>,
    pub seed: u64,
}

/// A batch for a slot.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Grant {
    pub key: BatchKey,
    pub slot: u16,
    pub errand: Errand,
    pub entries: Vec<GrantedEntry>,
    /// The number of the attempt, when the batch is one entry.
    pub attempt: Option<u16>,
}

/// An entry of a batch.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct GrantedEntry {
    pub index: u32,
    pub name: String,
    pub limit_us: u64,
}

/// A listing job.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ListJob {
    pub job: String,
    pub slot: u16,
    pub errand: Errand,
}
