//! Plans and outcomes of runs that were read of late.

use std::{
    collections::VecDeque,
    sync::{Arc, Mutex},
};

use kesmo_core::{plan::Plan, words::Outcome};

/// Plans of runs that were asked for of late, and the states of finished ones.
#[derive(Default)]
pub struct PastCache(pub(crate) Mutex<VecDeque<(i64, Arc<Past>)>>);

/// A run's plan and, if it is finished, how its entries ended.
#[derive(Default)]
pub struct Past {
    pub(crate) plan: Plan,
    /// Outcome, attempts, what the last took; empty while the run is active.
    pub(crate) states: Vec<(Outcome, u16, u64)>,
    /// What the attempts before the last took together, in microseconds.
    pub(crate) retried: Vec<u64>,
    /// Its entries are files, which told of cases.
    pub(crate) of_files: bool,
}
