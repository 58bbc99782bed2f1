//! What every kind of pool does: start machines, tell what became of them, and end them.

use async_trait::async_trait;

/// Why something was not done, in words.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// It does not answer, or says that it cannot now: another time may do.
    #[error("{0}")]
    Away(String),
    /// It was asked, and did not answer: whether it was done is not known.
    #[error("{0}")]
    Unanswered(String),
    /// It was refused, or cannot be: it will be the same until somebody mends it.
    #[error("{0}")]
    Refused(String),
}

/// A machine to start.
#[derive(Debug, Clone)]
pub struct Start {
    /// Its worker's name, by which it is found again.
    pub name: String,
    /// The words after `kesmo` that make it a worker of the pool.
    pub words: Vec<String>,
    /// Where it reaches the service, and what it shows there.
    pub url: String,
    pub token: String,
    /// The run that it is asked for, `boarding-gate/42`.
    pub run: Option<String>,
}

/// A machine that was asked for.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Started {
    /// What it is called where it runs.
    pub handle: String,
    /// Where a person looks at it.
    pub link: Option<String>,
    pub said: String,
}

/// A machine that was asked for before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    pub id: i64,
    pub name: String,
    /// None: whoever asked for it was ended before it heard.
    pub handle: Option<String>,
}

/// How a machine stands where it runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// It is coming.
    Coming(String),
    Running(String),
    /// It has ended.
    Ended(String),
    /// It is not there: it ended, or never was.
    Gone(String),
    /// This could not be told.
    Unknown(String),
}

/// What a kind of pool does. Every call may be made again.
#[async_trait]
pub trait Provider: Send + Sync {
    /// Starts a machine.
    async fn start(&self, start: &Start) -> Result<Started, Error>;

    /// How machines stand, each by its id. Those that it says nothing of stand as before.
    async fn look(&self, machines: &[Known]) -> Result<Vec<(i64, Standing)>, Error>;

    /// Ends a machine, whatever it does; one that is gone is ended.
    async fn end(&self, machine: &Known) -> Result<(), Error>;

    /// What a machine printed, its end where that is much; none where nobody can tell.
    async fn log(&self, machine: &Known) -> Result<Option<String>, Error>;

    /// Ends what was started for the pool and is none of these; tells how many those were.
    async fn clear(&self, keep: &[Known]) -> Result<usize, Error>;
}

/// The most that is kept of what a machine printed, in bytes: its end.
pub const LONGEST_LOG: usize = 1 << 20;
