//! The workers that a run may use.

use std::collections::BTreeMap;

use super::terms::{Fit, WorkerId};

/// The workers that a run may use, and those of them that could do nothing for it.
#[derive(Debug, Clone, Default)]
pub(super) struct Fleet {
    workers: BTreeMap<WorkerId, Fit>,
    /// With the reason.
    unfit: BTreeMap<WorkerId, String>,
    /// Of all that are fit: at each grant it is asked for, of a thousand workers.
    slots: u32,
}

impl Fleet {
    /// Other workers than before may be used. What could do nothing for the run still cannot.
    pub fn change(&mut self, workers: BTreeMap<WorkerId, Fit>) {
        self.workers = workers;
        self.count();
    }

    /// A worker could do nothing for the run.
    pub fn set_aside(&mut self, worker: WorkerId, why: String) {
        self.unfit.insert(worker, why);
        self.count();
    }

    /// What kept a worker from the run may have been mended.
    pub fn take_back(&mut self, worker: WorkerId) {
        if self.unfit.remove(&worker).is_some() {
            self.count();
        }
    }

    fn count(&mut self) {
        self.slots = self.fit().map(|(_, fit)| fit.slots).sum();
    }

    /// The workers that are fit.
    pub fn fit(&self) -> impl Iterator<Item = (WorkerId, &Fit)> {
        self.workers.iter().filter(|(worker, _)| !self.unfit.contains_key(worker)).map(|(worker, fit)| (*worker, fit))
    }

    /// A worker, if it is fit.
    pub fn get(&self, worker: WorkerId) -> Option<&Fit> {
        self.workers.get(&worker).filter(|_| !self.unfit.contains_key(&worker))
    }

    /// Whether a worker is here, fit or not.
    pub fn has(&self, worker: WorkerId) -> bool {
        self.workers.contains_key(&worker)
    }

    /// The slots of the workers that are fit.
    pub fn slots(&self) -> u32 {
        self.slots
    }

    /// Why one of the workers that are here could do nothing.
    pub fn why_unfit(&self) -> Option<&str> {
        self.unfit.iter().find(|(worker, _)| self.workers.contains_key(worker)).map(|(_, why)| why.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(workers: &[(u32, u32)]) -> BTreeMap<WorkerId, Fit> {
        workers.iter().map(|(worker, slots)| (WorkerId(*worker), Fit::all(*slots))).collect()
    }

    #[test]
    fn slots_are_those_of_the_workers_that_are_here_and_fit() {
        let mut fleet = Fleet::default();
        assert_eq!((fleet.slots(), fleet.fit().count()), (0, 0));
        fleet.change(of(&[(1, 4), (2, 8)]));
        assert_eq!(fleet.slots(), 12);
        fleet.set_aside(WorkerId(2), "no key fits the gate".into());
        assert_eq!((fleet.slots(), fleet.fit().count()), (4, 1));
        assert!(fleet.get(WorkerId(2)).is_none() && fleet.get(WorkerId(1)).is_some());
        assert_eq!(fleet.why_unfit(), Some("no key fits the gate"));

        fleet.change(of(&[(1, 4), (2, 9), (3, 1)]));
        assert_eq!(fleet.slots(), 5, "it can still do nothing");
        fleet.change(of(&[(1, 4)]));
        assert_eq!(fleet.why_unfit(), None, "it is not here");
        fleet.take_back(WorkerId(2));
        fleet.change(of(&[(2, 2)]));
        assert_eq!(fleet.slots(), 2);
        fleet.take_back(WorkerId(7));
        assert_eq!(fleet.slots(), 2, "of a worker that nothing kept away");
    }
}
