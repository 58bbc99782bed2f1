//! The clock that schedules go by: the system's, or one that a test sets.

use std::{path::PathBuf, time::Duration};

use kesmo_core::time::Timestamp;

/// Where the scheduler gets the time from.
#[derive(Debug, Clone)]
pub enum Clock {
    System,
    /// A file that says it in microseconds since 1970, read again each time: tests put the clock on, and back.
    File(PathBuf),
}

impl Clock {
    /// The time now. A file that cannot be read says nothing, so that nothing is due.
    #[must_use]
    pub fn now(&self) -> Option<Timestamp> {
        match self {
            Self::System => Some(kesmo_floor::now()),
            Self::File(path) => std::fs::read_to_string(path).ok()?.trim().parse().ok().map(Timestamp),
        }
    }

    /// How often it is looked at, at the least often.
    #[must_use]
    pub fn pace(&self) -> Duration {
        match self {
            Self::System => Duration::from_secs(1),
            Self::File(_) => Duration::from_millis(20),
        }
    }
}
