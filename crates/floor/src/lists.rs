//! Which lists of tests are wanted, and by whom.

use std::collections::BTreeMap;

use kesmo_core::{
    run::WorkerId,
    suite::{ListedTest, SuiteFile, Variant},
};
use kesmo_wire::{Digest, link::Setup};
use tokio::sync::oneshot;

use crate::workers::Asking;

/// Which list is wanted.
#[derive(Debug, Clone)]
pub struct ListAsk {
    pub key: String,
    pub pool: String,
    pub needs: BTreeMap<String, String>,
    pub setup: Setup,
}

impl ListAsk {
    /// The list of a variant. Its key is made of everything that the list may depend on.
    #[must_use]
    pub fn new(suite: &SuiteFile, bundle: &str, pool: &str, variant: &Variant, setup: &Setup) -> Self {
        let setup = Setup {
            variant: variant.pairs().to_vec(),
            run: String::new(),
            seed: 0,
            branch: None,
            commit: None,
            ..setup.clone()
        };
        let depends = (bundle, &suite.tests.list, &setup.variant, &setup.env, &setup.settings);
        let key = Digest::of(serde_json::to_string(&depends).unwrap_or_default().as_bytes()).to_string();
        Self { key, pool: pool.to_owned(), needs: suite.needs_of(variant), setup }
    }

    pub(crate) fn asking<'a>(&'a self, run: Option<&'a str>) -> Asking<'a> {
        Asking { pool: &self.pool, run, needs: std::slice::from_ref(&self.needs) }
    }
}

/// A list that a worker makes, or that waits for one.
pub(crate) struct Listing {
    pub ask: ListAsk,
    /// The worker and slot that make it.
    pub on: Option<(WorkerId, u16)>,
    pub runs: Vec<i64>,
    pub replies: Vec<oneshot::Sender<Result<Vec<ListedTest>, String>>>,
}

impl Listing {
    /// Whether a run waits for a slot to make this list.
    pub fn is_waited_for_by(&self, run: i64) -> bool {
        self.on.is_none() && self.runs.contains(&run)
    }
}
