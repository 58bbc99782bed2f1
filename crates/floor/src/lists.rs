//! Which lists of tests are wanted, and by whom.

use std::{collections::BTreeMap, sync::Arc};

use kesmo_core::{
    run::WorkerId,
    suite::{
        ListedTest, SuiteFile, Variant,
        container::{From, Image},
    },
};
use kesmo_store::commit::OPEN_LIST;
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
        let key = key_of(suite, bundle, &setup);
        Self { key, pool: pool.to_owned(), needs: suite.needs_of(variant), setup }
    }

    /// Whether what its image is is not settled: it is made for each run anew.
    pub(crate) fn is_open(&self) -> bool {
        self.key.starts_with(OPEN_LIST)
    }

    /// Whether what a worker says of the image in which it made the list settles what is open.
    pub(crate) fn is_settled_by(&self, image: Option<&Image>) -> bool {
        let named = |image: &Image| self.setup.image_of_variant() == Some(From::Image(image.name.clone()));
        !self.is_open() || image.is_some_and(named)
    }

    pub(crate) fn asking<'a>(&'a self, run: Option<&'a str>) -> Asking<'a> {
        Asking { pool: &self.pool, run, needs: std::slice::from_ref(&self.needs) }
    }
}

/// The key of a list: made of everything that it may depend on. What an engine has under an image's name may be another
/// tomorrow: until the run has settled on one, the key is that of what is known by now.
fn key_of(suite: &SuiteFile, bundle: &str, setup: &Setup) -> String {
    let depends = (bundle, &suite.tests.list, &setup.variant, &setup.env, &setup.settings);
    let depends = match setup.image_of_variant() {
        None => serde_json::to_string(&depends),
        Some(From::Image(name)) => {
            let digest = setup.settled(&name).map(|image| image.digest.as_str());
            serde_json::to_string(&(depends, name, digest))
        }
        Some(From::Build(file)) => serde_json::to_string(&(depends, file)),
    };
    let key = Digest::of(depends.unwrap_or_default().as_bytes()).to_string();
    if setup.image_is_open() { format!("{OPEN_LIST}{key}") } else { key }
}

/// A list that was made.
pub(crate) struct Made {
    pub tests: Arc<Vec<ListedTest>>,
    /// The image in which it was made.
    pub image: Option<Image>,
    /// It is stored under the key that it was asked for by.
    pub stored: bool,
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
