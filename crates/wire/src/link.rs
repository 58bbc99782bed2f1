//! The messages of the worker link: one WebSocket for each worker process, dialled by the worker, JSON text frames.
//!
//! What a worker reports comes in numbered [`FromWorker::Report`]s. The service acknowledges up to a number once it is
//! stored; the worker keeps what is not acknowledged and sends it again after a reconnect. A run's batch is named by the
//! run's id and the batch's number within the run.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use kesmo_core::{
    format::Step,
    plan::Plan,
    run::{self, BatchEnd, BatchId, Input},
    time::Span,
    words::Ended,
};

/// A batch of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct BatchKey {
    pub run: i64,
    pub batch: u32,
}

impl BatchKey {
    fn id(self) -> BatchId {
        BatchId(self.batch)
    }
}

/// What a worker says.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum FromWorker {
    /// First on every link.
    Hello(Hello),
    /// Things that happened, in order; `number` counts reports of this process from 1.
    Report { number: u64, events: Vec<WorkerEvent> },
    /// What a running attempt printed, from that byte of it on; only while somebody follows it. It is neither kept nor
    /// acknowledged: what is kept comes with the attempt's end.
    Output { key: BatchKey, entry: u32, from: u64, text: String },
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
    /// It may be given fewer batches than it has slots, when more slow its tests down.
    #[serde(default)]
    pub ease: bool,
    /// It was told to take nothing new.
    #[serde(default)]
    pub draining: bool,
    /// It works for this run only, `boarding-gate/42`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_run: Option<String>,
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
    /// The batch has not begun these entries and will not.
    GaveBack { key: BatchKey, entries: Vec<u32> },
    /// The batch ended.
    BatchEnded { key: BatchKey, end: BatchEnd },
    /// A listing job ended: the tests as the list command printed them, uploaded under this digest, or why not.
    Listed { job: String, result: Result<String, String> },
}

impl WorkerEvent {
    /// What a run's engine is told of it, with the run; `None` where it is none of an engine's business.
    #[must_use]
    pub fn input(&self) -> Option<(i64, Input)> {
        let (key, input) = match self {
            Self::Began { key, entry, .. } => (key, Input::Began { batch: key.id(), entry: *entry }),
            Self::Ended(report) => {
                let AttemptReport { key, entry, ended, spent_us, .. } = report.as_ref();
                (key, Input::Ended { batch: key.id(), entry: *entry, ended: *ended, spent: Span(*spent_us) })
            }
            Self::GaveBack { key, entries } => (key, Input::GaveBack { batch: key.id(), entries: entries.clone() }),
            Self::BatchEnded { key, end } => (key, Input::BatchEnded { batch: key.id(), end: end.clone() }),
            Self::Kept { .. } | Self::Note { .. } | Self::Listed { .. } => return None,
        };
        Some((key.run, input))
    }
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
    /// Another service carries out the runs of this pool: the worker is to link there.
    Elsewhere { url: String },
    /// Reports up to this number are stored.
    Stored { number: u64 },
    /// Run this.
    Grant(Box<Grant>),
    /// Print the list of tests.
    List(Box<ListJob>),
    /// End this batch: nothing more of it counts.
    Revoke { key: BatchKey },
    /// Give back what this batch has not begun, and end it after what runs.
    GiveBack { key: BatchKey },
    /// Send what the attempts of this batch print as they run, from the beginning; or no longer.
    Follow { key: BatchKey, on: bool },
    /// Nothing new will come until this is taken back; to be said again in a later hello.
    Drain { drain: bool },
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
    /// The branch and the commit that the bundle holds, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
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

impl Grant {
    /// The batch that an engine granted, of the run with that id. `errand` is the run's; the batch's variant is put in.
    #[must_use]
    pub fn new(run: i64, granted: &run::Grant, plan: &Plan, errand: &Errand) -> Self {
        let entry = |index: &u32| {
            let planned = &plan.entries[*index as usize];
            GrantedEntry { index: *index, name: planned.name.to_string(), limit_us: planned.limit.0 }
        };
        let variant = plan.variant_of(granted.entries[0]).pairs().to_vec();
        Self {
            key: BatchKey { run, batch: granted.batch.0 },
            slot: granted.slot,
            errand: Errand { variant, ..errand.clone() },
            entries: granted.entries.iter().map(entry).collect(),
            attempt: granted.attempt,
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn again<T: Serialize + serde::de::DeserializeOwned>(message: &T) -> String {
        let text = serde_json::to_string(message).expect("it can be written");
        let read: T = serde_json::from_str(&text).expect("it can be read");
        assert_eq!(serde_json::to_string(&read).expect("it can be written"), text);
        text
    }

    #[test]
    fn messages_of_a_worker_are_read_as_they_are_written() {
        let key = BatchKey { run: 7, batch: 3 };
        let report = AttemptReport {
            key,
            entry: 2,
            ended: Ended::Failed,
            began_us: 1,
            ended_us: 2,
            spent_us: 1,
            message: "expected Closed".into(),
            detail: String::new(),
            steps: vec![Step { name: "scan".into(), ok: false, ms: Some(1.5) }],
            log: Log::Blob { digest: "d".repeat(64), bytes: 9 },
        };
        let file = KeptFile { path: "shot.png".into(), about: String::new(), digest: "d".repeat(64), bytes: 9 };
        let events = vec![
            WorkerEvent::Began { key, entry: 2, at_us: 1 },
            WorkerEvent::Ended(Box::new(report)),
            WorkerEvent::Kept { key, entry: None, files: vec![file] },
            WorkerEvent::Note { key, text: "a remark".into() },
            WorkerEvent::GaveBack { key, entries: vec![3, 4] },
            WorkerEvent::BatchEnded { key, end: BatchEnd::Unfit("no such program".into()) },
            WorkerEvent::Listed { job: "j".into(), result: Err("the list command failed".into()) },
        ];
        let text = again(&FromWorker::Report { number: 9, events });
        assert!(text.starts_with(r#"{"say":"report","number":9,"#), "{text}");
        assert!(!text.contains("detail"), "what is empty is not sent");
        again(&FromWorker::Output { key, entry: 2, from: 7, text: "boarding\n".into() });
        assert_eq!(again(&FromWorker::Leaving), r#"{"say":"leaving"}"#);
    }

    #[test]
    fn an_engine_is_told_what_concerns_it() {
        let key = BatchKey { run: 7, batch: 3 };
        let told = |event: WorkerEvent| event.input().map(|(run, input)| format!("{run} {input:?}"));
        assert_eq!(
            told(WorkerEvent::GaveBack { key, entries: vec![4] }),
            Some("7 GaveBack { batch: BatchId(3), entries: [4] }".into())
        );
        assert_eq!(
            told(WorkerEvent::Began { key, entry: 2, at_us: 1 }),
            Some("7 Began { batch: BatchId(3), entry: 2 }".into())
        );
        assert_eq!(
            told(WorkerEvent::BatchEnded { key, end: BatchEnd::Done }),
            Some("7 BatchEnded { batch: BatchId(3), end: Done }".into())
        );
        assert_eq!(told(WorkerEvent::Note { key, text: "a remark".into() }), None);
    }

    #[test]
    fn messages_of_the_service_are_read_as_they_are_written() {
        let errand = Errand {
            run: "boarding-gate/42".into(),
            bundle: "d".repeat(64),
            variant: vec![("screen".into(), "phone".into())],
            settings: BTreeMap::from([("passengers".into(), "200".into())]),
            env: BTreeMap::new(),
            seed: 7,
            branch: Some("main".into()),
            commit: None,
        };
        let entries = vec![GrantedEntry { index: 0, name: "gate/open".into(), limit_us: 1 }];
        let key = BatchKey { run: 7, batch: 3 };
        again(&ToWorker::Grant(Box::new(Grant { key, slot: 1, errand: errand.clone(), entries, attempt: Some(2) })));
        again(&ToWorker::List(Box::new(ListJob { job: "j".into(), slot: 0, errand })));
        assert_eq!(again(&ToWorker::Stored { number: 4 }), r#"{"say":"stored","number":4}"#);
        assert_eq!(again(&ToWorker::Revoke { key }), r#"{"say":"revoke","key":{"run":7,"batch":3}}"#);
        assert_eq!(again(&ToWorker::GiveBack { key }), r#"{"say":"give-back","key":{"run":7,"batch":3}}"#);
        assert_eq!(again(&ToWorker::Drain { drain: true }), r#"{"say":"drain","drain":true}"#);
        again(&ToWorker::Follow { key, on: true });
        again(&ToWorker::Elsewhere { url: "http://127.0.0.1:7215".into() });
        again(&ToWorker::Welcome { patience_ms: 10_000 });
        again(&ToWorker::Refused { message: "no".into() });
    }
}
