//! The messages of the worker link: one WebSocket for each worker process, dialled by the worker, JSON text frames.
//!
//! What a worker reports comes in numbered [`FromWorker::Report`]s. The service acknowledges up to a number once it is
//! stored; the worker keeps what is not acknowledged and sends it again after a reconnect. A run's batch is named by the
//! run's id and the batch's number within the run.
//!
//! What arrives is an enemy's until it is checked: [`FromWorker::read`] gives a message of which every field is within its
//! bounds, or says why it cannot be used. Texts and numbers that stray are cut to their bounds, as a test may have made them;
//! names and digests that stray are refused, as only a worker makes those.

use std::{borrow::Cow, collections::BTreeMap};

use serde::{Deserialize, Serialize};

use kesmo_core::{
    format::Step,
    measure::Part,
    name::{RunName, Slug, case_title},
    plan::Plan,
    run::{self, BatchEnd, BatchId, Cores, Input, ToRun, cases::CaseTold},
    suite::{
        container::{From, Image},
        covers::{MOST_OF_A_TEST, Requirement},
    },
    time::Span,
    words::Ended,
};

use crate::Digest;

/// The version of these messages. Both sides say it, and do not talk if they differ.
pub const VERSION: u32 = 10;

/// The most slots of a worker.
pub const MOST_SLOTS: u16 = 1000;

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
    /// [`VERSION`] of the worker; 0 of one from before versions.
    #[serde(default)]
    pub version: u32,
    pub name: String,
    pub pool: String,
    pub slots: u16,
    pub offers: BTreeMap<String, String>,
    /// Made anew by every worker process, so that another process under the same name is told apart.
    pub process: String,
    /// Made once for a home folder, which one process uses at a time: another process with the same home is the same worker,
    /// started anew.
    #[serde(default)]
    pub home: String,
    /// It was welcomed before: it comes back to its name, and does not choose it.
    #[serde(default)]
    pub back: bool,
    /// Batches that run, or of which reports are not acknowledged.
    pub holds: Vec<BatchKey>,
    /// Those of them that wait to be let through ([`ToWorker::Begin`]), or prepare for it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub held_back: Vec<BatchKey>,
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
    /// A file told of cases as it runs; `first` is the place of the first of them among all that its attempt told.
    Cases { key: BatchKey, entry: u32, first: u32, cases: Vec<CaseReport> },
    /// A batch measured something in some second.
    Measured { key: BatchKey, part: Part },
    /// A test told which requirements it covers.
    Covers { key: BatchKey, entry: u32, of: Vec<Requirement> },
    /// A batch has what it needs, and waits to be let through; it is said again until that is so.
    AtGate { key: BatchKey },
    /// An attempt ended.
    Ended(Box<AttemptReport>),
    /// Files that an attempt (or, without an entry, the batch) left behind; their content is uploaded already.
    Kept { key: BatchKey, entry: Option<u32>, files: Vec<KeptFile> },
    /// A remark for the run.
    Note { key: BatchKey, text: String },
    /// Something beside the tests' own results went wrong; the run fails by it.
    Wrong { key: BatchKey, text: String },
    /// The batch has not begun these entries and will not.
    GaveBack { key: BatchKey, entries: Vec<u32> },
    /// The batch ended.
    BatchEnded { key: BatchKey, end: BatchEnd },
    /// A listing job ended: the tests as the list command printed them, uploaded under this digest, or why not; with the image
    /// in which it was made, and what its build printed.
    Listed {
        job: String,
        result: Result<Digest, String>,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        image: Option<Image>,
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        files: Vec<KeptFile>,
    },
}

impl WorkerEvent {
    /// About how many bytes it takes in a message, before what JSON adds to odd characters.
    #[must_use]
    pub fn weight(&self) -> usize {
        const EACH: usize = 200;
        let inside = match self {
            Self::Ended(report) => {
                let log = if let Log::Text(text) = &report.log { text.len() } else { 0 };
                let steps: usize = report.steps.iter().map(|step| step.name.len() + EACH).sum();
                report.message.len() + report.detail.len() + log + steps
            }
            Self::Cases { cases, .. } => {
                cases.iter().map(|c| c.title.len() + c.message.len() + c.detail.len() + EACH).sum()
            }
            Self::Measured { part, .. } => part.measures.iter().map(|m| m.name.len() + EACH + m.pairs.len() * 24).sum(),
            Self::Covers { of, .. } => of.iter().map(|r| r.as_str().len() + 4).sum(),
            Self::Kept { files, .. } => files.iter().map(|f| f.path.len() + f.about.len() + EACH).sum(),
            Self::Note { text, .. } | Self::Wrong { text, .. } => text.len(),
            Self::GaveBack { entries, .. } => entries.len() * 8,
            Self::Began { .. } | Self::AtGate { .. } | Self::BatchEnded { .. } | Self::Listed { .. } => 0,
        };
        EACH + inside
    }

    /// What a run's engine is told of it, with the run; `None` where it is none of an engine's business.
    #[must_use]
    pub fn input(&self) -> Option<(i64, Input)> {
        let (key, input) = match self {
            Self::Began { key, entry, .. } => (key, Input::Began { batch: key.id(), entry: *entry }),
            Self::Ended(report) => {
                let AttemptReport { key, entry, ended, spent_us, cases, with_start, .. } = report.as_ref();
                let (ended, spent, cases, with_start) = (*ended, Span(*spent_us), *cases, *with_start);
                (key, Input::Ended { batch: key.id(), entry: *entry, ended, spent, cases, with_start })
            }
            Self::Cases { key, entry, first, cases } => {
                let cases = cases.iter().map(CaseReport::told).collect();
                (key, Input::Cases { batch: key.id(), entry: *entry, first: *first, cases })
            }
            Self::Measured { key, part } => (key, Input::Measured { batch: key.id(), part: part.clone() }),
            Self::Covers { key, entry, of } => (key, Input::Covers { batch: key.id(), entry: *entry, of: of.clone() }),
            Self::AtGate { key } => (key, Input::AtGate { batch: key.id() }),
            Self::GaveBack { key, entries } => (key, Input::GaveBack { batch: key.id(), entries: entries.clone() }),
            Self::Wrong { key, text } => (key, Input::Wrong { batch: key.id(), why: text.clone() }),
            Self::BatchEnded { key, end } => (key, Input::BatchEnded { batch: key.id(), end: end.clone() }),
            Self::Kept { .. } | Self::Note { .. } | Self::Listed { .. } => return None,
        };
        Some((key.run, input))
    }
}

/// What a worker said that an engine's effects are carried out with, beyond what the engine needs to know of it.
#[derive(Debug, Default)]
pub enum Said {
    Attempt(Box<AttemptReport>),
    Cases(Vec<CaseReport>),
    #[default]
    Nothing,
}

impl std::convert::From<WorkerEvent> for Said {
    fn from(event: WorkerEvent) -> Self {
        match event {
            WorkerEvent::Ended(report) => Self::Attempt(report),
            WorkerEvent::Cases { cases, .. } => Self::Cases(cases),
            _ => Self::Nothing,
        }
    }
}

impl Said {
    /// The report of an attempt, if that is what was said; it is taken away.
    pub fn take_attempt(&mut self) -> Option<AttemptReport> {
        match std::mem::take(self) {
            Self::Attempt(report) => Some(*report),
            Self::Cases(_) | Self::Nothing => None,
        }
    }

    /// The cases, if that is what was said; they are taken away.
    pub fn take_cases(&mut self) -> Vec<CaseReport> {
        match std::mem::take(self) {
            Self::Cases(cases) => cases,
            Self::Attempt(_) | Self::Nothing => Vec::new(),
        }
    }
}

/// A case that a file told of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CaseReport {
    /// Unlike all others of its file and attempt.
    pub title: String,
    pub ended: Ended,
    pub spent_us: u64,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub message: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// Its file told of this title before, and it is called after that.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub copy: bool,
}

impl CaseReport {
    /// The longest detail of a case, in bytes.
    pub const LONGEST_DETAIL: usize = 16 << 10;

    fn told(&self) -> CaseTold {
        CaseTold { title: self.title.clone(), ended: self.ended, spent: Span(self.spent_us), copy: self.copy }
    }

    fn bound(&mut self) {
        self.title = case_title(&self.title);
        self.spent_us = self.spent_us.min(Span::LONGEST.0);
        bound(&mut self.message, LONGEST_PATH);
        bound(&mut self.detail, Self::LONGEST_DETAIL);
        // A worker that goes away cannot say so of a case.
        if self.ended == Ended::Lost {
            self.ended = Ended::Crashed;
        }
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
    /// How many cases a file told of in this attempt.
    #[serde(default)]
    pub cases: u32,
    /// What it took holds the start of its process, too, as nothing tells the two apart; with what that process made of
    /// the machine's cores until then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with_start: Option<Cores>,
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
    Blob { digest: Digest, bytes: u64 },
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
    pub digest: Digest,
    pub bytes: u64,
}

/// The longest texts that are taken, in bytes: of a message or remark, of its detail, of a name or path, and of a log that
/// travels with its report. A worker sends none that is longer.
const LONGEST_MESSAGE: usize = 16 << 10;
const LONGEST_DETAIL: usize = 256 << 10;
const LONGEST_PATH: usize = 4096;
const LONGEST_LOG: usize = 64 << 10;
/// The most logs that come with a list.
const MOST_LOGS: usize = 10;
/// The most steps of an attempt.
const MOST_STEPS: usize = 1000;
/// The latest moment that is taken, the year 2200, in microseconds since 1970.
const LATEST_US: i64 = 7_258_118_400_000_000;
/// The most offers of a worker, and the longest of their names and values.
const MOST_OFFERS: usize = 100;
const LONGEST_OFFER: usize = 200;

/// Cuts a text to its bound, and takes NUL out, which PostgreSQL keeps nowhere.
fn bound(text: &mut String, most: usize) {
    if text.contains('\0') {
        *text = text.replace('\0', "\u{fffd}");
    }
    if text.len() > most {
        let end = (0..=most).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
        text.truncate(end);
    }
}

impl FromWorker {
    /// Reads a message and brings it within its bounds.
    ///
    /// # Errors
    /// In words, if it is no message, or holds something that no worker says.
    pub fn read(text: &str) -> Result<Self, String> {
        let mut message = Self::parse(text).map_err(|e| format!("a message cannot be read: {e}"))?;
        match &mut message {
            Self::Hello(hello) if hello.version == VERSION => hello.check()?,
            Self::Hello(_) | Self::Leaving => {}
            Self::Report { events, .. } => events.iter_mut().for_each(WorkerEvent::bound),
            Self::Output { text, .. } => bound(text, LONGEST_LOG),
        }
        Ok(message)
    }

    /// Reports are nearly all that comes, and are read as what they are: serde's way with a tag among the fields first keeps all of a
    /// message as a tree of values, and then makes it of that.
    fn parse(text: &str) -> Result<Self, serde_json::Error> {
        #[derive(Deserialize)]
        struct Which<'a> {
            #[serde(borrow)]
            say: Cow<'a, str>,
        }
        #[derive(Deserialize)]
        struct Report {
            number: u64,
            events: Vec<WorkerEvent>,
        }
        if serde_json::from_str::<Which>(text)?.say == "report" {
            let Report { number, events } = serde_json::from_str(text)?;
            return Ok(Self::Report { number, events });
        }
        serde_json::from_str(text)
    }
}

impl Hello {
    fn check(&self) -> Result<(), String> {
        let said = |e: kesmo_core::Error| e.to_string();
        Slug::parse("the worker's name", &self.name).map_err(said)?;
        Slug::parse("the pool", &self.pool).map_err(said)?;
        if !(1..=MOST_SLOTS).contains(&self.slots) {
            return Err(format!("a worker has 1 to {MOST_SLOTS} slots, not {}", self.slots));
        }
        if let Some(run) = &self.only_run {
            RunName::parse(run).map_err(said)?;
        }
        let marks = [("process", &self.process), ("home", &self.home)];
        if let Some((what, mark)) =
            marks.iter().find(|(_, m)| m.len() > 64 || !m.bytes().all(|b| b.is_ascii_hexdigit()))
        {
            return Err(format!("the worker's {what} {:?} is not a mark", kesmo_core::name::shorten(mark, 80)));
        }
        let fits = |text: &str| (1..=LONGEST_OFFER).contains(&text.len()) && !text.chars().any(char::is_control);
        if self.offers.len() > MOST_OFFERS || !self.offers.iter().all(|(n, v)| fits(n) && fits(v)) {
            return Err(format!(
                "a worker has at most {MOST_OFFERS} offers, name=value of 1 to {LONGEST_OFFER} letters"
            ));
        }
        Ok(())
    }
}

impl WorkerEvent {
    /// Brings its texts and numbers within their bounds.
    fn bound(&mut self) {
        match self {
            Self::Began { at_us, .. } => *at_us = (*at_us).clamp(0, LATEST_US),
            Self::Ended(report) => report.bound(),
            Self::Cases { cases, .. } => cases.iter_mut().for_each(CaseReport::bound),
            Self::Measured { part, .. } => {
                part.second = part.second.clamp(0, LATEST_US / 1_000_000);
                part.measures.retain(|measured| measured.check().is_ok());
            }
            Self::Covers { of, .. } => of.truncate(MOST_OF_A_TEST),
            Self::Kept { files, .. } => files.iter_mut().for_each(KeptFile::bound),
            Self::Note { text, .. } | Self::Wrong { text, .. } => bound(text, LONGEST_MESSAGE),
            Self::Listed { result, image, files, .. } => {
                if let Err(why) = result {
                    bound(why, LONGEST_MESSAGE);
                }
                // What is none is not settled on.
                if image.as_ref().is_some_and(|image| image.check().is_err()) {
                    *image = None;
                }
                files.truncate(MOST_LOGS);
                files.iter_mut().for_each(KeptFile::bound);
            }
            Self::BatchEnded { end: BatchEnd::Unfit(why), .. } => bound(why, LONGEST_MESSAGE),
            Self::GaveBack { .. } | Self::AtGate { .. } | Self::BatchEnded { .. } => {}
        }
    }
}

impl KeptFile {
    fn bound(&mut self) {
        bound(&mut self.path, LONGEST_PATH);
        bound(&mut self.about, LONGEST_PATH);
        self.bytes = self.bytes.min(i64::MAX as u64);
    }
}

impl AttemptReport {
    fn bound(&mut self) {
        self.began_us = self.began_us.clamp(0, LATEST_US);
        self.ended_us = self.ended_us.clamp(0, LATEST_US);
        self.spent_us = self.spent_us.min(Span::LONGEST.0);
        bound(&mut self.message, LONGEST_MESSAGE);
        bound(&mut self.detail, LONGEST_DETAIL);
        self.steps.truncate(MOST_STEPS);
        for step in &mut self.steps {
            bound(&mut step.name, LONGEST_PATH);
        }
        match &mut self.log {
            Log::None => {}
            Log::Text(text) => bound(text, LONGEST_LOG),
            Log::Blob { bytes, .. } => *bytes = (*bytes).min(i64::MAX as u64),
        }
    }
}

/// What the service says.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum ToWorker {
    /// The answer to a hello. A link silent for `patience_ms` is given up by either side. `version` is the service's
    /// [`VERSION`].
    Welcome {
        patience_ms: u64,
        #[serde(default)]
        version: u32,
    },
    /// Not now: the worker is to say hello again in a while.
    Later { message: String },
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
    /// Feed these to the process of this batch, but for those that it was given before; with `last` nothing more will come.
    Feed {
        key: BatchKey,
        entries: Vec<GrantedEntry>,
        #[serde(default)]
        last: bool,
    },
    /// This batch may begin: all that are to begin with it are there.
    Begin { key: BatchKey },
    /// Give back what this batch has not begun: from this entry on, in its order, or all, and end it after what runs. It is answered
    /// with [`WorkerEvent::GaveBack`], for a part also where nothing is left to give; a worker that does not know in which order its
    /// tests run gives all.
    GiveBack {
        key: BatchKey,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        from: Option<u32>,
    },
    /// Send what the attempts of this batch print as they run, from the beginning; or no longer.
    Follow { key: BatchKey, on: bool },
    /// Nothing new will come until this is taken back; to be said again in a later hello.
    Drain { drain: bool },
    /// Nothing new will come: the worker is to end once it has nothing left to do and everything is stored.
    Retire,
}

/// What a worker needs to know to run a suite's commands.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Setup {
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
    /// The image that its processes run in; none: they run as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<From>,
    /// Images that the run has settled on: no other is to be used under their names.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub images: Vec<Image>,
    /// What its processes are to reach in private networks, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reach: Vec<String>,
    /// Secrets that its tests' and its list's processes are given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub secrets: Vec<SecretGiven>,
}

/// A secret that processes are given. Whatever prints one shows no value.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SecretGiven {
    pub variable: String,
    /// The variable holds the path of a file with the value.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub as_file: bool,
    pub value: String,
}

impl std::fmt::Debug for SecretGiven {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} (a secret)", self.variable)
    }
}

impl Setup {
    /// The image of the variant.
    #[must_use]
    pub fn image_of_variant(&self) -> Option<From> {
        self.image.as_ref().map(|from| from.of_variant(&self.variant))
    }

    /// The image that the run has settled on for a name.
    #[must_use]
    pub fn settled(&self, name: &str) -> Option<&Image> {
        self.images.iter().find(|image| image.name == name)
    }

    /// The image that the run has settled on for the variant.
    #[must_use]
    pub fn settled_image(&self) -> Option<&Image> {
        match self.image_of_variant() {
            Some(From::Image(name)) => self.settled(&name),
            Some(From::Build(_)) | None => None,
        }
    }

    /// Whether what a name stands for is not settled yet: what an engine has under it may be another tomorrow.
    #[must_use]
    pub fn image_is_open(&self) -> bool {
        matches!(self.image_of_variant(), Some(From::Image(_))) && self.settled_image().is_none()
    }
}

/// A batch for a slot.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Grant {
    pub key: BatchKey,
    pub slot: u16,
    pub setup: Setup,
    pub entries: Vec<GrantedEntry>,
    /// The number of the attempt, when the batch is one entry.
    pub attempt: Option<u16>,
    /// What is to run of the one file of the batch.
    #[serde(flatten)]
    pub to_run: ToRun,
    /// More entries may be fed to its process while it runs.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub more: bool,
    /// It sends one of several parts of a load, and does not begin before it is let through ([`ToWorker::Begin`]).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sender: Option<Sender>,
}

/// Which part of a load a batch sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sender {
    /// From 1.
    pub number: u32,
    pub of: u32,
}

impl Grant {
    /// The batch that an engine granted, of the run with that id. `setup` is the run's; the batch's variant is put in.
    #[must_use]
    pub fn new(run: i64, granted: &run::Grant, plan: &Plan, setup: &Setup) -> Self {
        let variant = plan.variant_of(granted.entries[0]).pairs().to_vec();
        Self {
            key: BatchKey { run, batch: granted.batch.0 },
            slot: granted.slot,
            setup: Setup { variant, ..setup.clone() },
            entries: granted.entries.iter().map(|index| GrantedEntry::new(*index, plan)).collect(),
            attempt: granted.attempt,
            to_run: granted.to_run.clone(),
            more: granted.more,
            sender: granted.senders.map(|of| {
                let number = u32::from(plan.entries[granted.entries[0] as usize].repeat).max(1);
                Sender { number, of }
            }),
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

impl GrantedEntry {
    /// The entry of a plan.
    #[must_use]
    pub fn new(index: u32, plan: &Plan) -> Self {
        let planned = &plan.entries[index as usize];
        Self { index, name: planned.name.to_string(), limit_us: planned.limit.0 }
    }
}

/// A listing job.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ListJob {
    pub job: String,
    pub slot: u16,
    pub setup: Setup,
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
            log: Log::Blob { digest: Digest::of(b"log"), bytes: 9 },
            cases: 3,
            with_start: None,
        };
        let case = CaseReport {
            title: "pays by card".into(),
            ended: Ended::Failed,
            spent_us: 5,
            message: "declined".into(),
            detail: String::new(),
            copy: true,
        };
        let file = KeptFile { path: "shot.png".into(), about: String::new(), digest: Digest::of(b"shot"), bytes: 9 };
        let events = vec![
            WorkerEvent::Began { key, entry: 2, at_us: 1 },
            WorkerEvent::Cases { key, entry: 2, first: 4, cases: vec![case] },
            WorkerEvent::Ended(Box::new(report)),
            WorkerEvent::Kept { key, entry: None, files: vec![file] },
            WorkerEvent::Note { key, text: "a remark".into() },
            WorkerEvent::Wrong { key, text: "status 5".into() },
            WorkerEvent::AtGate { key },
            WorkerEvent::GaveBack { key, entries: vec![3, 4] },
            WorkerEvent::BatchEnded { key, end: BatchEnd::Unfit("no such program".into()) },
            WorkerEvent::Listed {
                job: "j".into(),
                result: Err("the list command failed".into()),
                image: Some(Image { name: "a".into(), digest: format!("sha256:{}", "0".repeat(64)), at: None }),
                files: Vec::new(),
            },
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
    fn what_is_told_of_cases_is_brought_within_its_bounds() {
        let key = BatchKey { run: 7, batch: 3 };
        let case = CaseReport {
            title: format!("{}\0\n", "x".repeat(100_000)),
            ended: Ended::Lost,
            spent_us: u64::MAX,
            message: "m\0".repeat(100_000),
            detail: "d".repeat(1 << 20),
            copy: false,
        };
        let blank = CaseReport { title: " \t".into(), ..case.clone() };
        let events = vec![WorkerEvent::Cases { key, entry: u32::MAX, first: u32::MAX, cases: vec![case, blank] }];
        let text = serde_json::to_string(&FromWorker::Report { number: 1, events }).expect("it can be written");
        let FromWorker::Report { events, .. } = FromWorker::read(&text).expect("it is read") else {
            panic!("a report")
        };
        let WorkerEvent::Cases { cases, .. } = &events[0] else { panic!("cases") };
        assert!(cases[0].title.len() <= 500 && !cases[0].title.contains(['\0', '\n']), "{}", cases[0].title);
        assert_eq!((cases[0].ended, cases[1].title.as_str()), (Ended::Crashed, "(no title)"));
        assert!(cases[0].message.len() <= LONGEST_PATH && !cases[0].message.contains('\0'));
        assert_eq!((cases[0].detail.len(), cases[0].spent_us), (CaseReport::LONGEST_DETAIL, Span::LONGEST.0));
        let told = events[0].input().map(|(run, input)| format!("{run} {input:?}")).expect("an engine is told");
        assert!(told.starts_with("7 Cases { batch: BatchId(3), entry: 4294967295, first: 4294967295"), "{told:.120}");
    }

    #[test]
    fn what_is_fed_is_read_as_it_is_written() {
        let key = BatchKey { run: 7, batch: 3 };
        let entries = vec![GrantedEntry { index: 4, name: "gate/open".into(), limit_us: 1 }];
        let text = again(&ToWorker::Feed { key, entries, last: false });
        assert_eq!(
            text,
            r#"{"say":"feed","key":{"run":7,"batch":3},"entries":[{"index":4,"name":"gate/open","limit_us":1}],"last":false}"#
        );
        let short = r#"{"say":"feed","key":{"run":7,"batch":3},"entries":[]}"#;
        let read: ToWorker = serde_json::from_str(short).expect("it is read");
        assert!(matches!(read, ToWorker::Feed { last: false, .. }));
    }

    #[test]
    fn messages_of_the_service_are_read_as_they_are_written() {
        let setup = Setup {
            run: "boarding-gate/42".into(),
            bundle: "d".repeat(64),
            variant: vec![("screen".into(), "phone".into())],
            settings: BTreeMap::from([("passengers".into(), "200".into())]),
            env: BTreeMap::new(),
            seed: 7,
            branch: Some("main".into()),
            commit: None,
            image: Some(From::Image("localhost/gate-{screen}:1".into())),
            images: Vec::new(),
            reach: vec!["gate".into()],
            secrets: Vec::new(),
        };
        assert_eq!(setup.image_of_variant(), Some(From::Image("localhost/gate-phone:1".into())));
        assert!(setup.image_is_open());
        let entries = vec![GrantedEntry { index: 0, name: "gate/open".into(), limit_us: 1 }];
        let key = BatchKey { run: 7, batch: 3 };
        again(&ToWorker::Grant(Box::new(Grant {
            key,
            slot: 1,
            setup: setup.clone(),
            entries,
            attempt: Some(2),
            to_run: ToRun { cases: vec!["pays".into()], rest: true, aside: vec!["opens".into()], only: Vec::new() },
            more: false,
            sender: Some(Sender { number: 2, of: 8 }),
        })));
        again(&ToWorker::List(Box::new(ListJob { job: "j".into(), slot: 0, setup })));
        assert_eq!(again(&ToWorker::Stored { number: 4 }), r#"{"say":"stored","number":4}"#);
        assert_eq!(again(&ToWorker::Revoke { key }), r#"{"say":"revoke","key":{"run":7,"batch":3}}"#);
        assert_eq!(again(&ToWorker::Begin { key }), r#"{"say":"begin","key":{"run":7,"batch":3}}"#);
        let (all, part) = (ToWorker::GiveBack { key, from: None }, ToWorker::GiveBack { key, from: Some(4) });
        assert_eq!(again(&all), r#"{"say":"give-back","key":{"run":7,"batch":3}}"#);
        assert_eq!(again(&part), r#"{"say":"give-back","key":{"run":7,"batch":3},"from":4}"#);
        assert_eq!(again(&ToWorker::Drain { drain: true }), r#"{"say":"drain","drain":true}"#);
        again(&ToWorker::Follow { key, on: true });
        assert_eq!(again(&ToWorker::Retire), r#"{"say":"retire"}"#);
        again(&ToWorker::Elsewhere { url: "http://127.0.0.1:7215".into() });
        again(&ToWorker::Welcome { patience_ms: 10_000, version: VERSION });
        again(&ToWorker::Later { message: "not now".into() });
        again(&ToWorker::Refused { message: "no".into() });
    }

    fn hello() -> Hello {
        Hello {
            version: VERSION,
            name: "heron".into(),
            pool: "night".into(),
            slots: 2,
            offers: BTreeMap::from([("os".into(), "linux".into())]),
            process: "0af3".into(),
            home: "77".into(),
            holds: Vec::new(),
            held_back: Vec::new(),
            listing: Vec::new(),
            ease: false,
            draining: false,
            back: false,
            only_run: Some("boarding-gate/42".into()),
        }
    }

    fn read(message: &FromWorker) -> Result<FromWorker, String> {
        FromWorker::read(&serde_json::to_string(message).expect("it can be written"))
    }

    #[test]
    fn a_hello_that_no_worker_says_is_refused_with_its_reason() {
        assert!(read(&FromWorker::Hello(hello())).is_ok());
        let long = "n".repeat(5000);
        let offers = |name: &str, value: &str| BTreeMap::from([(name.to_owned(), value.to_owned())]);
        for (bad, why) in [
            (Hello { name: "he\0ron".into(), ..hello() }, "the worker's name"),
            (Hello { pool: "night\0".into(), ..hello() }, "the pool"),
            (Hello { pool: long.clone(), ..hello() }, "the pool"),
            (Hello { slots: 0, ..hello() }, "1 to 1000 slots"),
            (Hello { slots: 60_000, ..hello() }, "1 to 1000 slots"),
            (Hello { process: "../..".into(), ..hello() }, "not a mark"),
            (Hello { home: long.clone(), ..hello() }, "not a mark"),
            (Hello { offers: offers("os\0", "x"), ..hello() }, "offers"),
            (Hello { offers: offers("os", &long), ..hello() }, "offers"),
            (Hello { only_run: Some("no run".into()), ..hello() }, "run"),
        ] {
            let error = read(&FromWorker::Hello(bad.clone())).expect_err("it is refused");
            assert!(error.contains(why), "{bad:?}: {error}");
        }
        assert!(
            read(&FromWorker::Hello(Hello { version: 0, ..hello() })).is_ok(),
            "who reads it says what does not fit"
        );
    }

    #[test]
    fn what_a_test_may_have_made_is_brought_within_bounds() {
        let key = BatchKey { run: 7, batch: 3 };
        let report = AttemptReport {
            key,
            entry: 2,
            ended: Ended::Failed,
            began_us: i64::MIN,
            ended_us: i64::MAX,
            spent_us: u64::MAX,
            message: "é\0".repeat(100_000),
            detail: "d".repeat(9 << 20),
            steps: vec![Step { name: "s\0".into(), ok: false, ms: None }; 5000],
            log: Log::Text("l".repeat(1 << 20)),
            cases: u32::MAX,
            with_start: None,
        };
        let file =
            KeptFile { path: "p".repeat(9000), about: "\0".into(), digest: Digest::of(b"shot"), bytes: u64::MAX };
        let events = vec![
            WorkerEvent::Ended(Box::new(report)),
            WorkerEvent::Kept { key, entry: None, files: vec![file] },
            WorkerEvent::Note { key, text: "n\0".repeat(100_000) },
            WorkerEvent::Began { key, entry: 0, at_us: -377_000_000_000_000_000 },
        ];
        let Ok(FromWorker::Report { events, .. }) = read(&FromWorker::Report { number: 1, events }) else { panic!() };
        let text = serde_json::to_string(&events).expect("it can be written");
        assert!(!text.contains("\\u0000"), "PostgreSQL keeps no NUL");
        let [
            WorkerEvent::Ended(report),
            WorkerEvent::Kept { files, .. },
            WorkerEvent::Note { text, .. },
            WorkerEvent::Began { at_us, .. },
        ] = events.as_slice()
        else {
            panic!()
        };
        assert_eq!((report.began_us, report.ended_us, report.spent_us), (0, LATEST_US, Span::LONGEST.0));
        assert!(report.message.len() <= LONGEST_MESSAGE && report.detail.len() == LONGEST_DETAIL);
        assert_eq!(report.steps.len(), MOST_STEPS);
        assert!(matches!(&report.log, Log::Text(log) if log.len() == LONGEST_LOG));
        assert!(files[0].path.len() == LONGEST_PATH && files[0].bytes == i64::MAX as u64);
        assert!(text.len() <= LONGEST_MESSAGE && *at_us == 0);
    }

    #[test]
    fn a_report_is_read_as_any_other_message() {
        let began = WorkerEvent::Began { key: BatchKey { run: 7, batch: 3 }, entry: 4, at_us: 5 };
        let written =
            serde_json::to_string(&FromWorker::Report { number: 9, events: vec![began] }).expect("it is written");
        for text in [
            written.as_str(),
            // In another order, with a tag that is written otherwise, and with what nobody knows.
            r#"{"events": [{"at_us": 5, "key": {"batch": 3, "run": 7}, "entry": 4, "event": "began"}],
                "more": {"say": "hello"}, "number": 9, "say": "rep\u006frt"}"#,
        ] {
            assert_eq!(
                FromWorker::read(text).map(|m| serde_json::to_string(&m).expect("it is written")).as_deref(),
                Ok(&*written)
            );
        }
        for (text, why) in [
            (r#"{"say": "report", "number": 9}"#, "missing field `events`"),
            (r#"{"say": "report", "number": -1, "events": []}"#, "invalid value"),
            (r#"{"say": "report", "say": "leaving", "number": 1, "events": []}"#, "duplicate field `say`"),
            (r#"{"say": "report", "number": 1, "events": [{"event": "won"}]}"#, "unknown variant `won`"),
            (r#"{"say": "report", "number": 1, "events": []"#, "EOF"),
            (r#"{"say": "more"}"#, "unknown variant `more`"),
            (r#"{"say": 1}"#, "invalid type"),
            ("{}", "missing field `say`"),
            ("[]", "cannot be read"),
        ] {
            let error = FromWorker::read(text).expect_err(text);
            assert!(error.contains(why), "{text}: {error}");
        }
    }

    #[test]
    fn a_digest_that_is_none_makes_its_message_unreadable() {
        for digest in ["", "a", "xx/../../admin-token", "/dev/zero"] {
            let listed = format!(
                r#"{{"say":"report","number":1,"events":[{{"event":"listed","job":"j","result":{{"Ok":"{digest}"}}}}]}}"#
            );
            assert!(FromWorker::read(&listed).unwrap_err().contains("SHA-256"), "{digest}");
        }
    }
}
