//! What others say to the floor and ask of it, and the handle with which they do.

use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use kesmo_core::{
    run::{Prepared, figures::Part},
    suite::ListedTest,
    time::Span,
    words::Outcome,
};
use kesmo_files::git;
use kesmo_store::runs::{NamedRun, RunRow};
use kesmo_wire::{
    api::{Entries, MeasuresOf, Run, RunSummary, Worker},
    link::{FromWorker, ToWorker},
    live::{Floor as FloorView, RunSnapshot},
};
use tokio::{
    sync::{mpsc, oneshot, watch},
    time::Instant,
};

use crate::{
    chain::Chain,
    figures::Figures,
    hub::Hub,
    lists::{ListAsk, Made},
    output::Output,
    recording::{ToRecord, UnderWay},
    says::{Says, Waits},
    workers::NotLinked,
};

/// The order in which entries are shown; those that are alike in it stand in listed order.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum EntryOrder {
    /// Failed, running, flaky, then the rest.
    #[default]
    Trouble,
    Slowest,
    /// Those that took nothing yet come last.
    Fastest,
    Listed,
    /// Most attempts first.
    Attempts,
}

/// Which entries of a run to show.
#[derive(Debug, Clone, Default)]
pub struct EntryQuestion {
    /// An outcome, or `waiting`, `running`, `trouble` (failed or flaky); empty for all.
    pub state: String,
    /// A part of the test's name or variant.
    pub name: String,
    pub order: EntryOrder,
    pub skip: usize,
    pub limit: usize,
}

/// A run as it stands, the hub that streams its changes, and the number of the last change that the snapshot holds.
pub type Seen = (Box<RunSnapshot>, Arc<Hub>, u64);

/// The outcome of every entry, where it has one, and what its last attempt took, in microseconds.
pub type States = Vec<(Option<Outcome>, u64)>;

/// What is asked of the floor.
pub enum Ask {
    /// An open run and what is seen of it, with the chain that it is told in.
    Snapshot(i64, Chain, oneshot::Sender<Option<Seen>>),
    /// An open run, with the chain that it is told in.
    Run(i64, Chain, oneshot::Sender<Option<Box<Run>>>),
    /// One run, also one that is not open yet.
    Summary(i64, oneshot::Sender<Option<Box<RunSummary>>>),
    Summaries(oneshot::Sender<BTreeMap<i64, RunSummary>>),
    Workers(oneshot::Sender<Vec<Worker>>),
    Floor(oneshot::Sender<(Box<FloorView>, u64)>),
    Entries(i64, EntryQuestion, oneshot::Sender<Option<Entries>>),
    /// The plan of an active run, for an entry's detail: name, variant, retries, who decided, expected, group, claims.
    EntryState(i64, u32, oneshot::Sender<Option<(Option<Outcome>, bool, u16)>>),
    /// The states of all entries of an active run, with what their last attempts took.
    States(i64, oneshot::Sender<Option<States>>),
    /// What an active run has measured so far.
    Measures(i64, oneshot::Sender<Option<MeasuresOf>>),
    /// The groups of names of an active run.
    Parts(i64, oneshot::Sender<Option<Vec<Part>>>),
    /// Has a worker take nothing new, or take work again; false if there is no such worker.
    Drain(String, bool, oneshot::Sender<bool>),
    /// Follows what an entry of an active run prints.
    Follow(i64, u32, oneshot::Sender<Option<watch::Receiver<Output>>>),
    /// The slots of a pool.
    Slots(String, oneshot::Sender<u32>),
    /// Those of them that take something new and offer this.
    SlotsOffering(String, BTreeMap<String, String>, oneshot::Sender<u32>),
    /// A run was imported: its tests' records are to be brought up to date.
    Imported(Box<ToRecord>, oneshot::Sender<()>),
}

pub(crate) enum Message {
    NewRun(Box<NamedRun>),
    Stop {
        run: i64,
        reason: String,
        reply: oneshot::Sender<bool>,
    },
    LinkUp {
        hello: Box<kesmo_wire::link::Hello>,
        /// The pool of the run that it is lent to, or its own.
        pool: String,
        link: u64,
        sender: mpsc::Sender<ToWorker>,
        reply: oneshot::Sender<Result<(), NotLinked>>,
    },
    Link {
        link: u64,
        message: FromWorker,
    },
    LinkDown {
        link: u64,
    },
    List(Box<ListAsk>, oneshot::Sender<Result<Vec<ListedTest>, String>>),
    Ask(Ask),
    /// The files of a run were fetched and it is pinned to them, or not; none if it was pinned or over before.
    Fetched(i64, Box<Result<Option<RunRow>, git::Error>>),
    /// The plan of a run was made, with what starting a process of its suite cost last; or it cannot be.
    Planned(i64, Result<(Prepared, Option<Span>), String>),
    /// What private addresses are offered to a pool: names, and where each leads.
    Reachable(String, BTreeMap<String, String>),
    /// What a run that is active reaches: its pool, and the names.
    ReachedBy(String, oneshot::Sender<Option<(String, Vec<String>)>>),
    /// What waits in a pool that starts machines.
    Waits(String, bool, oneshot::Sender<Option<Waits>>),
    /// A pool that starts machines says how it stands; or that it starts none any more.
    PoolSays(String, Option<Says>),
    /// Workers are to end once they have nothing left to do.
    Retire(Vec<String>),
    /// Turns a worker away that is not here; tells whether it is not.
    TurnAway(String, oneshot::Sender<bool>),
    /// A remark for some runs.
    Remark(Vec<i64>, String),
    /// The address of the service that carries out a pool's runs, if that is another one.
    Elsewhere(String, oneshot::Sender<Option<String>>),
    /// A list that a worker made was read, or cannot be.
    ListRead(String, Result<Made, String>),
    /// A list that is not known is wanted.
    Want(Box<ListAsk>, oneshot::Sender<Result<Vec<ListedTest>, String>>),
    /// What the runs that are over by now tell of their tests is to be written: those of a suite, or all.
    Recorded(Option<i64>, oneshot::Sender<()>),
    /// Unfinished runs are to be looked at now.
    Look(oneshot::Sender<()>),
    Leave,
}

impl Message {
    /// Whether it neither reads nor writes what is stored, and tells nobody anything before what it brings about is: it is heard
    /// while something is being written.
    pub(crate) fn is_by_itself(&self) -> bool {
        matches!(self, Self::Link { .. } | Self::LinkDown { .. } | Self::Ask(_) | Self::Stop { .. } | Self::Planned(..))
    }
}

/// Talks to the floor.
#[derive(Clone)]
pub struct FloorHandle {
    pub(crate) sender: mpsc::Sender<Message>,
    pub(crate) leaving: Arc<AtomicBool>,
    pub hub: Arc<Hub>,
    pub patience: Duration,
    pub(crate) stalled: Stalled,
    /// What the floor has done since it was started.
    pub figures: Figures,
    pub(crate) recording: UnderWay,
}

/// Since when PostgreSQL does not take a commit, and what it says.
pub(crate) type Stalled = Arc<Mutex<Option<(Instant, String)>>>;

/// Records that are not written within this are not waited for.
const RECORDING: Duration = Duration::from_secs(2);

/// A commit that is not taken for longer holds up what asks the floor.
const STALLED: Duration = Duration::from_secs(2);

impl FloorHandle {
    /// Why nobody is answered for now, if the floor has waited for PostgreSQL for a while.
    #[must_use]
    pub fn stalled(&self) -> Option<String> {
        let stalled = self.stalled.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let (since, why) = stalled.as_ref().filter(|(since, _)| since.elapsed() >= STALLED)?;
        Some(format!(
            "nothing could be stored for {} s, and it is tried until it can; what runs goes on, and is kept by the workers ({why})",
            since.elapsed().as_secs()
        ))
    }

    /// The handle of a floor that has let go of everything, for tests of what speaks to it.
    #[must_use]
    pub fn closed() -> Self {
        let (sender, _) = mpsc::channel(1);
        let (leaving, stalled) = (Arc::new(AtomicBool::new(true)), Stalled::default());
        Self {
            sender,
            leaving,
            hub: Arc::new(Hub::default()),
            patience: Duration::ZERO,
            stalled,
            figures: Figures::default(),
            recording: UnderWay::default(),
        }
    }

    async fn send(&self, message: Message) {
        // The floor ends only when the service does; then nobody waits for an answer any more.
        drop(self.sender.send(message).await);
    }

    /// Takes a new run.
    pub async fn new_run(&self, run: NamedRun) {
        self.send(Message::NewRun(Box::new(run))).await;
    }

    /// Ends a run; false if it is not active.
    pub async fn stop(&self, run: i64, reason: String) -> bool {
        let (reply, answer) = oneshot::channel();
        self.send(Message::Stop { run, reason, reply }).await;
        answer.await.unwrap_or(false)
    }

    /// A worker's link came up.
    ///
    /// # Errors
    /// If it is refused, or another service carries out the runs of its pool.
    pub async fn link_up(
        &self,
        hello: kesmo_wire::link::Hello,
        pool: String,
        link: u64,
        sender: mpsc::Sender<ToWorker>,
    ) -> Result<(), NotLinked> {
        let (reply, answer) = oneshot::channel();
        self.send(Message::LinkUp { hello: Box::new(hello), pool, link, sender, reply }).await;
        answer.await.unwrap_or_else(|_| Err(NotLinked::Refused("the service is stopping".into())))
    }

    /// Has unfinished runs looked at, and waits for that: somebody asked for an end, or moved one in the queue.
    pub async fn look(&self) {
        let (reply, answer) = oneshot::channel();
        self.send(Message::Look(reply)).await;
        // A service that is stopping looks no more.
        drop(answer.await);
    }

    /// Whether what a run told is being recorded here, or is about to be.
    #[must_use]
    pub fn is_being_recorded(&self, run: i64) -> bool {
        self.recording.has(run)
    }

    /// Waits until the records have what the runs tell that are over by now; not longer than a while, as PostgreSQL may be away.
    pub async fn recorded(&self) {
        self.recorded_of(None).await;
    }

    /// The same of the runs of one suite, if one is named.
    pub async fn recorded_of(&self, suite: Option<i64>) {
        let (reply, answer) = oneshot::channel();
        self.send(Message::Recorded(suite, reply)).await;
        // Who asks is told what is known by then.
        drop(tokio::time::timeout(RECORDING, answer).await);
    }

    /// Tells what private addresses are offered to a pool now.
    pub async fn reachable(&self, pool: &str, offered: BTreeMap<String, String>) {
        self.send(Message::Reachable(pool.to_owned(), offered)).await;
    }

    /// What a run that is active reaches in private networks: its pool, and the names.
    pub async fn reached_by(&self, run: &str) -> Option<(String, Vec<String>)> {
        let (reply, answer) = oneshot::channel();
        self.send(Message::ReachedBy(run.to_owned(), reply)).await;
        answer.await.ok().flatten()
    }

    /// What waits in a pool, and who works in it; none if another service carries out its runs. `claim` takes the pool if nobody
    /// has it.
    pub async fn waits(&self, pool: &str, claim: bool) -> Option<Waits> {
        let (reply, answer) = oneshot::channel();
        self.send(Message::Waits(pool.to_owned(), claim, reply)).await;
        answer.await.ok().flatten()
    }

    /// Tells how a pool stands that starts machines; nothing if it starts none any more.
    pub async fn pool_says(&self, pool: &str, says: Option<Says>) {
        self.send(Message::PoolSays(pool.to_owned(), says)).await;
    }

    /// Has workers end once they have nothing left to do.
    pub async fn retire(&self, names: Vec<String>) {
        self.send(Message::Retire(names)).await;
    }

    /// Turns a worker away that is not here: nobody links under that name any more. False if it is here, or may come back to what it holds.
    pub async fn turn_away(&self, name: &str) -> bool {
        let (reply, answer) = oneshot::channel();
        self.send(Message::TurnAway(name.to_owned(), reply)).await;
        answer.await.unwrap_or(false)
    }

    /// Makes a remark on runs that are active.
    pub async fn remark(&self, runs: Vec<i64>, text: String) {
        self.send(Message::Remark(runs, text)).await;
    }

    /// The address of the service that carries out a pool's runs, if that is another one.
    pub async fn elsewhere(&self, pool: &str) -> Option<String> {
        let (reply, answer) = oneshot::channel();
        self.send(Message::Elsewhere(pool.to_owned(), reply)).await;
        answer.await.ok().flatten()
    }

    /// A message of a link.
    pub async fn link_message(&self, link: u64, message: FromWorker) {
        self.send(Message::Link { link, message }).await;
    }

    /// A link went down.
    pub async fn link_down(&self, link: u64) {
        self.send(Message::LinkDown { link }).await;
    }

    /// The tests of a suite in a variant: known ones at once, else as soon as a worker has listed them.
    ///
    /// # Errors
    /// In words, if listing failed or the service stops.
    pub async fn list(&self, ask: ListAsk) -> Result<Vec<ListedTest>, String> {
        let (reply, answer) = oneshot::channel();
        self.send(Message::List(Box::new(ask), reply)).await;
        answer.await.unwrap_or_else(|_| Err("the service is stopping".into()))
    }

    /// Asks something; `None` if the service is stopping.
    pub async fn ask<T>(&self, make: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Option<T> {
        let (reply, answer) = oneshot::channel();
        self.send(Message::Ask(make(reply))).await;
        answer.await.ok()
    }

    /// Commits what is open and ends.
    pub async fn leave(&self) {
        self.leaving.store(true, Ordering::SeqCst);
        self.send(Message::Leave).await;
    }
}

/// Answers; whoever asked may have gone, which is no error.
pub(crate) fn tell<T>(to: oneshot::Sender<T>, answer: T) {
    if to.send(answer).is_err() {
        tracing::debug!("nobody waits for an answer any more");
    }
}
