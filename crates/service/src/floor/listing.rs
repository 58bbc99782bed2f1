//! Lists of tests: known ones are read from the store, others are asked of a worker, once for all who wait.

use std::collections::BTreeMap;

use kesmo_core::{
    run::{Input, WorkerId},
    suite::{ListedTest, SuiteFile, Variant, listing},
};
use kesmo_wire::{
    digest,
    link::{Errand, ListJob, ToWorker},
};
use tokio::sync::oneshot;

use super::{
    After, Floor, tell,
    workers::{Asking, Use},
};

/// Which list is wanted.
#[derive(Debug, Clone)]
pub struct ListAsk {
    pub key: String,
    pub pool: String,
    pub needs: BTreeMap<String, String>,
    pub errand: Errand,
}

impl ListAsk {
    /// The list of a variant. Its key is made of everything that the list may depend on.
    #[must_use]
    pub fn new(suite: &SuiteFile, bundle: &str, pool: &str, variant: &Variant, errand: &Errand) -> Self {
        let errand = Errand {
            variant: variant.pairs().to_vec(),
            run: String::new(),
            seed: 0,
            branch: None,
            commit: None,
            ..errand.clone()
        };
        let depends = (bundle, &suite.tests.list, &errand.variant, &errand.env, &errand.settings);
        let key = digest(serde_json::to_string(&depends).unwrap_or_default().as_bytes());
        Self { key, pool: pool.to_owned(), needs: suite.needs_of(variant), errand }
    }

    fn asking<'a>(&'a self, run: Option<&'a str>) -> Asking<'a> {
        Asking { pool: &self.pool, run, needs: std::slice::from_ref(&self.needs) }
    }
}

/// A list that a worker makes, or that waits for one.
pub(super) struct Listing {
    ask: ListAsk,
    /// The worker and slot that make it.
    on: Option<(WorkerId, u16)>,
    runs: Vec<i64>,
    replies: Vec<oneshot::Sender<Result<Vec<ListedTest>, String>>>,
}

impl Listing {
    /// Whether a run waits for a slot to make this list.
    pub fn is_waited_for_by(&self, run: i64) -> bool {
        self.on.is_none() && self.runs.contains(&run)
    }
}

impl Floor {
    pub(super) async fn list(&mut self, ask: ListAsk, reply: oneshot::Sender<Result<Vec<ListedTest>, String>>) {
        // Who asks for tests is told their records too.
        self.settle_records().await;
        match self.store.listing(&ask.key).await {
            Ok(Some(tests)) => tell(reply, Ok(tests)),
            Ok(None) if self.workers.capable(ask.asking(None)).is_empty() => {
                tell(
                    reply,
                    Err(format!("its tests are not listed yet; {}", self.workers.none_because(&ask.pool, &ask.needs))),
                );
            }
            Ok(None) => self.want(ask).replies.push(reply),
            Err(e) => tell(reply, Err(e.to_string())),
        }
    }

    pub(super) fn want_for_run(&mut self, ask: ListAsk, run: i64) {
        self.want(ask).runs.push(run);
    }

    fn want(&mut self, ask: ListAsk) -> &mut Listing {
        let fresh = |ask| Listing { ask, on: None, runs: Vec::new(), replies: Vec::new() };
        self.listings.entry(ask.key.clone()).or_insert_with(|| fresh(ask))
    }

    /// Gives lists that wait to idle slots.
    pub(super) fn give_lists_out(&mut self) {
        let runs = &self.runs;
        self.listings.retain(|_, l| {
            l.replies.retain(|r| !r.is_closed());
            l.runs.retain(|run| runs.contains_key(run));
            l.on.is_some() || !l.runs.is_empty() || !l.replies.is_empty()
        });
        let waiting: Vec<String> =
            self.listings.values().filter(|l| l.on.is_none()).map(|l| l.ask.key.clone()).collect();
        for key in waiting {
            let Some(listing) = self.listings.get_mut(&key) else { continue };
            let names = listing.runs.iter().filter_map(|run| self.runs.get(run)).map(|run| Some(run.name()));
            let mut names: Vec<Option<String>> = names.collect();
            names.push(None);
            let may = |w: &WorkerId| {
                names.iter().any(|name| self.workers.capable(listing.ask.asking(name.as_deref())).contains_key(w))
            };
            let slot = self.workers.idle_slots().into_iter().find(|(w, _)| may(w));
            if let Some((worker, slot)) = slot {
                listing.on = Some((worker, slot));
                let job = ListJob { job: key.clone(), slot, errand: listing.ask.errand.clone() };
                self.workers.take(worker, slot, Use::Listing(key));
                self.after.push(After::Send(worker, ToWorker::List(Box::new(job))));
            }
        }
    }

    /// A worker has listed, or could not.
    pub(super) fn listed(&mut self, worker: WorkerId, job: &str, result: Result<String, String>) {
        self.workers.free(worker, &Use::Listing(job.to_owned()));
        let Some(listing) = self.listings.remove(job) else { return };
        let tests = result.and_then(|digest| {
            let output =
                std::fs::read(self.blobs.path(&digest)).map_err(|e| format!("the list cannot be read: {e}"))?;
            listing::read(&output).map_err(|e| e.to_string())
        });
        if let Ok(tests) = &tests {
            self.new_lists.push((job.to_owned(), tests.clone()));
        }
        for reply in listing.replies {
            tell(reply, tests.clone());
        }
        for run in listing.runs {
            match &tests {
                Ok(tests) => self.list_known(run, job, tests.clone()),
                Err(why) => self.feed(run, Input::Void(why.clone())),
            }
        }
    }

    /// Lists on a worker that went away are made elsewhere.
    pub(super) fn lists_lost(&mut self, worker: WorkerId) {
        for listing in self.listings.values_mut().filter(|l| l.on.is_some_and(|(w, _)| w == worker)) {
            listing.on = None;
        }
    }

    /// A worker is back: lists that it does not make any more are made elsewhere.
    pub(super) fn lists_back(&mut self, worker: WorkerId, making: &[String]) {
        for listing in self.listings.values_mut() {
            match listing.on {
                Some((w, slot)) if w == worker && making.contains(&listing.ask.key) => {
                    self.workers.take(worker, slot, Use::Listing(listing.ask.key.clone()));
                }
                Some((w, _)) if w == worker => listing.on = None,
                _ => {}
            }
        }
    }
}
