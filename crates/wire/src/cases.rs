//! The cases of files, as the API tells of them.

use kesmo_core::words::{Ended, Outcome};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A case of a file in a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Case {
    /// The index of its file among the run's entries.
    pub entry: u32,
    pub file: String,
    pub variant: String,
    /// Which repetition of the file it is of, from 1; 0 where nothing is repeated.
    pub repeat: u32,
    /// Its name is `FILE/TITLE`.
    pub title: String,
    pub outcome: Outcome,
    /// The attempt of its file that decided it, and how many attempts told of it.
    pub attempt: u32,
    pub attempts: u32,
    pub spent_us: u64,
    pub message: String,
}

/// A page of cases.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Cases {
    pub total: u32,
    pub cases: Vec<Case>,
}

/// A case with all that the attempts of its file told of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaseDetail {
    #[serde(flatten)]
    pub case: Case,
    pub history: Vec<CaseAttempt>,
}

/// One time that a case ran.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaseAttempt {
    /// The number of the file's attempt.
    pub number: u32,
    pub ended: Ended,
    pub spent_us: u64,
    pub message: String,
    pub detail: String,
}
