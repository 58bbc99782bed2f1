//! Claims of runs, so that no two running tests hold one: of the runs that this service carries out, and of those of others. Each
//! claim is given out by one service at a time, by a lease in PostgreSQL that it keeps as long as it needs it. What another service
//! waits for is given to nobody any more, and handed over as soon as no test holds it; it is asked back a little later.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use kesmo_core::run::Input;
use kesmo_store::leases::Needed;
use tokio::time::Instant;

use crate::{floor::Floor, leases::LEASE_LASTS};

/// What was handed over to another service is not asked back before that.
const NOT_BACK_FOR: Duration = Duration::from_secs(2);

impl Floor {
    /// Tells a run what other runs hold, where that matters to what an input brings about.
    pub(super) fn tell_what_others_hold(&mut self, run: i64, before: &Input) {
        if !self.runs.get(&run).is_some_and(|r| r.engine.minds_others(before)) {
            return;
        }
        let mut taken = self.claims.not_to_give();
        let others = self.runs.iter().filter(|(id, _)| **id != run);
        taken.extend(others.flat_map(|(_, r)| r.engine.held_claims().map(|c| (c.to_owned(), r.name()))));
        if let Some(active) = self.runs.get_mut(&run) {
            active.engine.others_hold(taken);
        }
    }

    /// Renews the leases of the claims that runs need, asks for others, and hands over what others wait for.
    pub(super) async fn hold_claims(&mut self) -> Result<(), kesmo_store::Error> {
        self.claims.due = false;
        let mut needed: BTreeMap<String, Needed> = BTreeMap::new();
        let mut in_use: BTreeSet<String> = BTreeSet::new();
        for active in self.runs.values() {
            let need =
                |claim: &str| Needed { claim: claim.to_owned(), run: active.name(), pool: active.row.pool.clone() };
            for claim in active.engine.waited_for_claims() {
                needed.entry(claim.to_owned()).or_insert_with(|| need(claim));
            }
            for claim in active.engine.held_claims() {
                in_use.insert(claim.to_owned());
                // Its pool has it, whoever else needs it.
                needed.insert(claim.to_owned(), need(claim));
            }
        }
        let claims = &mut self.claims;
        claims.handed.retain(|_, at| at.elapsed() < NOT_BACK_FOR);
        if needed.is_empty() && claims.held.is_empty() && claims.elsewhere.is_empty() {
            claims.renewed = Some(Instant::now());
            return Ok(());
        }
        let free: Vec<String> = claims.leaving.iter().filter(|claim| !in_use.contains(*claim)).cloned().collect();
        for claim in free {
            claims.leaving.remove(&claim);
            claims.handed.insert(claim, Instant::now());
        }
        let wanted: Vec<Needed> = needed.values().filter(|n| !claims.handed.contains_key(&n.claim)).cloned().collect();
        let asked_at = Instant::now();
        let stands = self.store.hold_claims(&self.leases.service, &wanted, LEASE_LASTS).await?;
        let claims = &mut self.claims;
        claims.renewed = Some(asked_at);
        claims.held = stands.held;
        claims.leaving = stands.asked;
        claims.elsewhere = stands.elsewhere;
        let handed = claims.handed.keys().filter(|claim| needed.contains_key(*claim));
        let handed: Vec<(String, String)> =
            handed.map(|c| (c.clone(), "a run of another service".to_owned())).collect();
        claims.elsewhere.extend(handed);
        Ok(())
    }
}
