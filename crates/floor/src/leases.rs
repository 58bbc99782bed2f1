//! The leases of a service: of the pools whose runs it carries out, and of the claims that those need.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use kesmo_store::leases::{Holder, Leased, OthersLease};
use tokio::time::Instant;

/// Unfinished runs are looked at so often.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// Leases last so long unless they are renewed, in seconds, which is tried at each look. A service that is gone is noticed by that, one
/// that stood still for less goes on.
pub(crate) const LEASE_LASTS: f64 = 7.0;
/// Leases of claims are relied on so long without being renewed: a little shorter than they last.
const RELIED_ON: Duration = Duration::from_secs(6);

/// Whose a pool is that another service has is asked again after so long at the earliest: a thousand workers may ask at once.
const ANEW_AFTER: Duration = Duration::from_millis(250);

/// Where a service stands with its leases.
pub(crate) struct Leases {
    pub service: String,
    pub address: std::sync::Arc<std::sync::OnceLock<String>>,
    pub held: BTreeSet<String>,
    /// The pools that other services have.
    pub others: BTreeMap<String, Others>,
    pub looked: Option<Instant>,
    /// Runs that were told to stop because somebody asked for it.
    pub stopped: BTreeSet<i64>,
}

/// The lease of a pool that another service has.
#[derive(Debug)]
pub(crate) struct Others {
    /// Where that is, if it is known.
    pub address: Option<String>,
    asked: Instant,
    /// When it runs out unless it is renewed.
    until: Instant,
}

impl Leases {
    pub fn new(service: String, address: std::sync::Arc<std::sync::OnceLock<String>>) -> Self {
        let (held, others, stopped) = (BTreeSet::new(), BTreeMap::new(), BTreeSet::new());
        Self { service, address, held, others, looked: None, stopped }
    }

    /// Takes what PostgreSQL told of those pools, and gives those that were lost.
    pub fn take(&mut self, wanted: &[String], leased: Leased) -> Vec<String> {
        let now = Instant::now();
        self.others.retain(|pool, others| others.until > now && !wanted.contains(pool));
        for (pool, OthersLease { address, lasts }) in leased.others {
            let address = (!address.is_empty()).then_some(address);
            self.others.insert(pool, Others { address, asked: now, until: now + lasts });
        }
        let lost = self.held.difference(&leased.held).cloned().collect();
        self.held = leased.held;
        lost
    }

    /// Who has a pool that is not this service's, if that was asked just now.
    pub fn known_of(&self, pool: &str) -> Option<&Others> {
        self.others.get(pool).filter(|o| o.asked.elapsed() < ANEW_AFTER && o.until > Instant::now())
    }

    /// When unfinished runs and leases are looked at next: regularly, and as soon as another's lease runs out.
    pub fn look_at(&self) -> Instant {
        let Some(looked) = self.looked else { return Instant::now() };
        let run_out = self.others.values().map(|others| others.until).filter(|until| *until > looked);
        run_out.chain([looked + LOOK_EVERY]).min().unwrap_or(looked)
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
    fn leases_are_looked_at_each_second_and_when_one_of_another_service_runs_out() {
        let mut leases = Leases::new("one".into(), std::sync::Arc::default());
        assert!(leases.look_at() <= Instant::now(), "nothing was looked at yet");
        let looked = Instant::now();
        leases.looked = Some(looked);
        assert_eq!(leases.look_at(), looked + LOOK_EVERY);
        let pools = ["quay", "pier", "buoy"].map(str::to_owned);
        let lasts = |ms| OthersLease { address: String::new(), lasts: Duration::from_millis(ms) };
        let of_others = BTreeMap::from([("quay".to_owned(), lasts(5000)), ("pier".to_owned(), lasts(300))]);
        let leased = Leased { held: BTreeSet::from(["buoy".to_owned()]), others: of_others };
        assert!(leases.take(&pools, leased).is_empty());
        assert!(leases.look_at() < looked + LOOK_EVERY, "the pier's is free before");
        // That it has run out was looked at: it is not looked at again and again.
        leases.looked = Some(looked + Duration::from_millis(500));
        assert_eq!(leases.look_at(), looked + Duration::from_millis(500) + LOOK_EVERY);
        // What another took meanwhile is lost; what nobody says anything of is nobody's.
        let leased = Leased { others: BTreeMap::from([("buoy".to_owned(), lasts(7000))]), ..Leased::default() };
        assert_eq!(leases.take(&pools, leased), ["buoy"]);
        assert_eq!(leases.others.keys().collect::<Vec<_>>(), ["buoy"]);
        assert!(leases.known_of("buoy").is_some_and(|others| others.address.is_none()));
        assert!(leases.known_of("quay").is_none());
        leases.others.get_mut("buoy").unwrap().asked = Instant::now().checked_sub(ANEW_AFTER).unwrap();
        assert!(leases.known_of("buoy").is_none(), "it is asked anew");
    }

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
