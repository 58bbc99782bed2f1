//! What running attempts print, for those who follow it: the last of it in memory, while somebody does. Workers send it only
//! then. A slow reader holds nobody up: it finds what is there when it looks.

use std::collections::BTreeMap;

use kesmo_core::run::{BatchId, WorkerId};
use kesmo_wire::link::{BatchKey, ToWorker};
use tokio::sync::watch;

use crate::{active::ActiveRun, output::Output};

struct Followed {
    output: watch::Sender<Output>,
    told: Option<(WorkerId, BatchId)>,
}

/// The entries that are followed.
#[derive(Default)]
pub(crate) struct Following {
    entries: BTreeMap<(i64, u32), Followed>,
}

impl Following {
    /// Follows an entry.
    pub fn follow(&mut self, run: i64, entry: u32) -> watch::Receiver<Output> {
        let fresh = || Followed { output: watch::Sender::new(Output::default()), told: None };
        self.entries.entry((run, entry)).or_insert_with(fresh).output.subscribe()
    }

    /// Takes in what a worker sent.
    pub fn take(&mut self, key: BatchKey, entry: u32, from: u64, text: &str) {
        if let Some(followed) = self.entries.get(&(key.run, entry)) {
            followed.output.send_if_modified(|output| {
                let of_it = output.batch == Some(key.batch);
                if of_it {
                    output.add(from, text);
                }
                of_it
            });
        }
    }

    /// A worker's link came up anew: it is to be told again.
    pub fn forget_told(&mut self, worker: WorkerId) {
        for followed in self.entries.values_mut() {
            if followed.told.is_some_and(|(w, _)| w == worker) {
                followed.told = None;
            }
        }
    }

    /// Follows the entries to where they run now; what to tell workers.
    pub fn tend(&mut self, runs: &BTreeMap<i64, ActiveRun>) -> Vec<(WorkerId, ToWorker)> {
        let mut messages = Vec::new();
        self.entries.retain(|(run, entry), followed| {
            let mut tell = |(worker, batch): (WorkerId, BatchId), on: bool| {
                let key = BatchKey { run: *run, batch: batch.0 };
                messages.push((worker, ToWorker::Follow { key, on }));
            };
            if followed.output.receiver_count() == 0 {
                followed.told.into_iter().for_each(|told| tell(told, false));
                return false;
            }
            let Some(active) = runs.get(run).filter(|r| !r.finished()) else {
                followed.output.send_modify(|output| {
                    (output.batch, output.over) = (None, true);
                    output.turn += 1;
                });
                return false;
            };
            let now = active.engine.place_of(*entry);
            if now != followed.told {
                if let Some(place) = now {
                    tell(place, true);
                }
                let batch = now.map(|(_, batch)| batch.0);
                followed.told = now;
                followed.output.send_if_modified(|output| {
                    if output.batch == batch {
                        return false;
                    }
                    *output = Output { batch, turn: output.turn + 1, ..Output::default() };
                    true
                });
            }
            true
        });
        messages
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::output::MOST;

    #[test]
    fn pieces_follow_on_each_other_and_a_gap_is_seen() {
        let mut output = Output::default();
        output.add(0, "first ");
        output.add(6, "second");
        assert_eq!(output.after(0), ("first second", false));
        assert_eq!(output.after(6), ("second", false));
        assert_eq!(output.after(12), ("", false));
        output.add(100, "later");
        assert_eq!(output.after(12), ("later", true));
        output.add(0, "all again");
        assert_eq!((output.after(0), output.end()), (("all again", false), 9));
    }

    #[test]
    fn only_the_last_of_it_is_held() {
        let mut output = Output::default();
        for n in 0..100u64 {
            output.add(n * 10_000, &"å".repeat(5000));
        }
        assert!(output.text.len() <= MOST && output.text.len() > MOST - 4, "{}", output.text.len());
        assert_eq!(output.end(), 1_000_000);
    }

    #[test]
    fn output_of_another_batch_is_not_taken() {
        let mut following = Following::default();
        let receiver = following.follow(1, 2);
        following.take(BatchKey { run: 1, batch: 9 }, 2, 0, "stray");
        assert_eq!(*receiver.borrow(), Output::default());
        following.entries[&(1, 2)].output.send_modify(|o| o.batch = Some(9));
        following.take(BatchKey { run: 1, batch: 9 }, 2, 0, "its own");
        assert_eq!(receiver.borrow().text, "its own");
    }

    #[test]
    fn of_a_run_that_is_over_nothing_more_comes() {
        let mut following = Following::default();
        let receiver = following.follow(1, 2);
        assert!(following.tend(&BTreeMap::new()).is_empty());
        assert!(receiver.borrow().over);
        assert!(following.entries.is_empty(), "nothing is kept of it");
        drop(following.follow(3, 4));
        following.tend(&BTreeMap::new());
        assert!(following.entries.is_empty(), "whom nobody follows is forgotten");
    }
}
