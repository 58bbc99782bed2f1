//! Pools, and the machines that are started for them.

use chrono::{DateTime, Utc};
use kesmo_core::fleet::Pool;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Makes a pool, or changes it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPool {
    pub pool: Pool,
    /// What `{secret}` stands for in requests to a CI server, or the token of a cluster's API. It is never told again; none leaves
    /// the one that is kept.
    #[serde(default)]
    pub secret: Option<String>,
    /// Change the pool of that name, if there is one.
    #[serde(default)]
    pub replace: bool,
}

/// How a machine stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MachineState {
    /// It is asked for.
    Asked,
    /// It is coming: its worker is not here yet.
    Coming,
    /// Its worker is here.
    Up,
    /// It takes nothing new, and goes when it has nothing left to do.
    Leaving,
    /// It has gone, as it was to.
    Ended,
    /// It did not come, or went away by itself.
    Failed,
}

impl MachineState {
    /// Every state.
    pub const ALL: [Self; 6] = [Self::Asked, Self::Coming, Self::Up, Self::Leaving, Self::Ended, Self::Failed];

    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Asked => "asked",
            Self::Coming => "coming",
            Self::Up => "up",
            Self::Leaving => "leaving",
            Self::Ended => "ended",
            Self::Failed => "failed",
        }
    }

    /// The state of that word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.word() == word)
    }

    /// Whether it has ended, well or not.
    #[must_use]
    pub const fn is_over(self) -> bool {
        matches!(self, Self::Ended | Self::Failed)
    }
}

/// A machine that a pool started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MachineOf {
    /// Its number among those of the run, or of all of its pool.
    pub number: i64,
    /// The name of its worker.
    pub name: String,
    pub pool: String,
    /// `container`, `pod` or `job`.
    pub what: String,
    /// What it is called where it runs.
    pub handle: Option<String>,
    pub state: MachineState,
    /// What is known of it, in words.
    pub said: String,
    /// Where a person looks at it.
    pub link: Option<String>,
    /// The run that it was asked for.
    pub run: Option<String>,
    pub asked_at: DateTime<Utc>,
    pub up_at: Option<DateTime<Utc>>,
    pub ended_at: Option<DateTime<Utc>>,
}

/// A pool and how it stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PoolOf {
    pub name: String,
    pub pool: Pool,
    /// It has a secret.
    pub has_secret: bool,
    /// Nobody described it: it is there because workers, or runs, are in it.
    #[serde(default)]
    pub implied: bool,
    /// It is being removed: its machines take nothing new, and it goes with the last of them.
    #[serde(default)]
    pub leaving: bool,
    pub made_by: Option<String>,
    pub made_at: Option<DateTime<Utc>>,
    /// How many machines are wanted, and why not more.
    pub why: String,
    /// What went wrong last, and is not over.
    pub trouble: Option<String>,
    /// What starting a machine usually takes.
    pub start_us: Option<u64>,
    /// Workers that are here, and their slots.
    pub workers: u32,
    pub slots: u32,
    /// The latest machines, newest first; those that have not ended are all among them.
    pub machines: Vec<MachineOf>,
    /// The command that a job of a CI server carries out to become a worker of the pool.
    pub job: Option<String>,
}
