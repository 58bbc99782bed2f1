//! Runs that are not open, and the leases of a service.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use kesmo_store::{leases::Holder, runs::RunRow};
use kesmo_wire::api::RunSummary;
use tokio::time::Instant;

/// Unfinished runs are looked at so often.
pub(crate) const LOOK_EVERY: Duration = Duration::from_secs(1);

/// Leases of claims are relied on so long without being renewed: a little shorter than they last.
const RELIED_ON: Duration = Duration::from_secs(7);

/// A run that is not open.
pub(crate) struct Unopened {
    pub row: RunRow,
    pub suite: String,
    /// How much it counts, by its priority.
    pub weight: u32,
    /// What does not change while it waits.
    pub summary: RunSummary,
    pub state: State,
}

pub(crate) enum State {
    /// Its files are being fetched.
    Fetching(u32),
    /// They could not be fetched: when that is tried again, how often it was, and why it failed.
    Later(Instant, u32, String),
    /// It has its files and waits for a place.
    Ready,
}

/// Where a service stands with its leases.
pub(crate) struct Leases {
    pub service: String,
    pub address: std::sync::Arc<std::sync::OnceLock<String>>,
    pub held: BTreeSet<String>,
    pub renewed: Option<Instant>,
    /// They were renewed since the service has an address: others know where to ask.
    pub addressed: bool,
    pub looked: Option<Instant>,
    /// Runs that were told to stop because somebody asked for it.
    pub stopped: BTreeSet<i64>,
}

impl Leases {
    pub fn new(service: String, address: std::sync::Arc<std::sync::OnceLock<String>>) -> Self {
        let (held, stopped) = (BTreeSet::new(), BTreeSet::new());
        Self { service, address, held, renewed: None, addressed: false, looked: None, stopped }
    }

    pub fn holder(&self) -> Holder {
        let address = self.address.get().cloned().unwrap_or_default();
        Holder { service: self.service.clone(), address }
    }
}

/// Where a service stands with the claims that its runs need.
#[derive(Default)]
pub(crate) struct ClaimLeases {
    /// Those that it gives out, and those of them that it is about to hand over.
    pub held: BTreeSet<String>,
    pub leaving: BTreeSet<String>,
    /// Those that others give out, with a run of them.
    pub elsewhere: BTreeMap<String, String>,
    /// Those that were handed over, and when.
    pub handed: BTreeMap<String, Instant>,
    pub renewed: Option<Instant>,
    /// Whether a run may need some that were not asked for yet.
    pub due: bool,
}

impl ClaimLeases {
    /// The claims that no test may begin to hold, among those that are needed, each with who has it.
    pub fn not_to_give(&self) -> BTreeMap<String, String> {
        let mut taken = self.elsewhere.clone();
        let waits = |claim: &String| (claim.clone(), "a run of another service".to_owned());
        taken.extend(self.leaving.iter().map(waits));
        if self.renewed.is_none_or(|at| at.elapsed() >= RELIED_ON) {
            // Records cannot be reached: another service may have taken it for gone.
            taken.extend(
                self.held
                    .iter()
                    .map(|claim| (claim.clone(), "nobody knows whom, as the records do not answer".to_owned())),
            );
        }
        taken
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_claim_is_not_given_out_that_another_service_has_or_waits_for_or_may_have_taken() {
        let set = |claims: &[&str]| claims.iter().map(|c| (*c).to_owned()).collect::<BTreeSet<String>>();
        let mut leases = ClaimLeases {
            held: set(&["berth", "crane"]),
            leaving: set(&["crane"]),
            elsewhere: BTreeMap::from([("buoy".to_owned(), "gate/3".to_owned())]),
            renewed: Some(Instant::now()),
            ..ClaimLeases::default()
        };
        let taken = leases.not_to_give();
        assert_eq!(taken.keys().collect::<Vec<_>>(), ["buoy", "crane"]);
        assert_eq!(taken["buoy"], "gate/3");
        leases.renewed = Instant::now().checked_sub(RELIED_ON);
        assert_eq!(leases.not_to_give().len(), 3, "nobody says that it still has the others");
    }
}
