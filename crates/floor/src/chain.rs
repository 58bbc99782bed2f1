//! What stands before and after a run in its chain. The floor knows one run at a time: whoever asks it for one brings this.

use kesmo_wire::api::{ChainLink, RunSummary};

/// The runs of a chain, in order, and the brief that is still to follow the last of them.
#[derive(Debug, Clone, Default)]
pub struct Chain {
    links: Vec<ChainLink>,
    then: Option<String>,
}

impl Chain {
    #[must_use]
    pub fn new(links: Vec<ChainLink>, then: Option<String>) -> Self {
        Self { links, then }
    }

    /// As it is told with one of its runs, which stands in it as it does now: the links, and what follows (a run's `chain` and `then`).
    #[must_use]
    pub fn told_with(self, run: &RunSummary) -> (Vec<ChainLink>, Option<String>) {
        let as_told = |link: ChainLink| match link.run == run.name {
            true => ChainLink { phase: run.phase, verdict: run.verdict, ..link },
            false => link,
        };
        (self.links.into_iter().map(as_told).collect(), self.then)
    }
}
