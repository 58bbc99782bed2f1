//! Lists of tests: known ones are read from the store, others are asked of a worker, once for all who wait.

use std::sync::Arc;

use kesmo_core::{
    run::{Input, WorkerId},
    suite::{ListedTest, listing},
};
use kesmo_store::commit::Commit;
use kesmo_wire::link::{BatchKey, KeptFile, ListJob, ToWorker, WorkerEvent};
use tokio::sync::oneshot;

use crate::{
    asking::{Message, tell},
    floor::Floor,
    lists::{ListAsk, Listing, Made},
    portion::After,
    workers::Use,
};

/// The largest output of a list command, in bytes: what a worker reads of it.
const LARGEST_LIST: u64 = 256 << 20;

impl Floor {
    /// Answers with a list: at once where it is known, which is looked up beside the floor's work.
    pub(super) fn list(&self, ask: ListAsk, reply: oneshot::Sender<Result<Vec<ListedTest>, String>>) {
        let (store, own, recorded) = (self.beside.clone(), self.own.clone(), self.recorder.until_now());
        self.others.spawn(async move {
            // Who asks for tests is told their records too.
            let hurry = store.hurry();
            recorded.known().await;
            drop(hurry);
            match store.listing(&ask.key).await {
                Ok(Some(tests)) => tell(reply, Ok(tests)),
                Ok(None) => drop(own.send(Message::Want(Box::new(ask), reply)).await),
                Err(e) => tell(reply, Err(e.to_string())),
            }
        });
    }

    /// A list that is not known is made by a worker, if there is one that may.
    pub(super) fn want_for_ask(&mut self, ask: ListAsk, reply: oneshot::Sender<Result<Vec<ListedTest>, String>>) {
        if self.workers.capable(ask.asking(None)).is_empty() {
            let because = self.none_because(&ask.pool, &ask.needs);
            return tell(reply, Err(format!("its tests are not listed yet; {because}")));
        }
        self.want(ask).replies.push(reply);
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
                let job = ListJob { job: key.clone(), slot, setup: listing.ask.setup.clone() };
                self.workers.take(worker, slot, Use::Listing(key));
                self.after.push(After::Send(worker, ToWorker::List(Box::new(job))));
            }
        }
    }

    /// The worker that was asked for a list has made it, or could not. It is read beside the floor's work.
    pub(super) fn listed(&mut self, worker: WorkerId, event: WorkerEvent) {
        let WorkerEvent::Listed { job, result, image, files } = event else { return };
        // What another says of it is not believed.
        if self.listings.get(&job).and_then(|l| l.on).map(|(on, _)| on) != Some(worker) {
            return;
        }
        self.workers.free(worker, &Use::Listing(job.clone()));
        self.keep_build_logs(&job, &files);
        let digest = match result {
            Ok(digest) => digest,
            Err(why) => return self.list_read(&job, Err(why)),
        };
        // Without it nobody could say that all of the run had the same surroundings.
        if self.listings.get(&job).is_some_and(|l| !l.ask.is_settled_by(image.as_ref())) {
            let name = self.workers.name(worker);
            let why = format!("{name} listed the tests, and did not say in which image");
            return self.list_read(&job, Err(why));
        }
        let (blobs, store, own) = (self.blobs.clone(), self.beside.clone(), self.own.clone());
        self.others.spawn(async move {
            let path = blobs.local(&digest).await;
            let read = tokio::task::spawn_blocking(move || {
                let path = path.map_err(|e| format!("the list cannot be read: {e}"))?;
                let output = kesmo_files::read_regular(&path, LARGEST_LIST);
                let output = output.map_err(|e| format!("the list cannot be read: {e}"))?;
                listing::read(&output).map(Arc::new).map_err(|e| e.to_string())
            });
            let read = read.await.unwrap_or_else(|e| Err(format!("the list cannot be read: {e}")));
            let read = match read {
                Ok(tests) => {
                    // Of very many tests that takes longer than what waits for the floor's own commits may.
                    let commit = Commit { listings: vec![(job.clone(), Arc::clone(&tests))], ..Commit::default() };
                    let stored = store.commit(&commit).await;
                    if let Err(e) = &stored {
                        tracing::warn!(
                            list = job,
                            "a list could not be stored by itself and is with what else is: {e}"
                        );
                    }
                    Ok(Made { tests, image, stored: stored.is_ok() })
                }
                Err(why) => Err(why),
            };
            drop(own.send(Message::ListRead(job, read)).await);
        });
    }

    /// Keeps what the building of an image printed with the runs that wait for it.
    fn keep_build_logs(&mut self, job: &str, files: &[KeptFile]) {
        let runs = self.listings.get(job).map(|listing| listing.runs.clone()).unwrap_or_default();
        for run in runs {
            self.keep_files(BatchKey { run, batch: 0 }, None, files.to_vec());
        }
    }

    /// A list was read: whoever waits for it goes on.
    pub(super) fn list_read(&mut self, job: &str, read: Result<Made, String>) {
        let Some(listing) = self.listings.remove(job) else { return };
        if let Some(made) = read.as_ref().ok().filter(|made| !made.stored) {
            self.commit.listings.push((job.to_owned(), Arc::clone(&made.tests)));
        }
        for reply in listing.replies {
            tell(reply, read.as_ref().map(|made| made.tests.to_vec()).map_err(Clone::clone));
        }
        for run in listing.runs {
            match &read {
                Ok(made) => self.list_known(run, &listing.ask, made),
                Err(why) => self.feed(run, Input::Void(why.clone())),
            }
        }
    }

    /// Whether a worker makes a list now.
    pub(super) fn is_being_made(&self, key: &str) -> bool {
        self.listings.get(key).is_some_and(|l| l.on.is_some())
    }

    /// A run no longer waits for a list.
    pub(super) fn do_without(&mut self, key: &str, run: i64) {
        if let Some(listing) = self.listings.get_mut(key) {
            listing.runs.retain(|waiting| *waiting != run);
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
