//! Pools that start their own machines: what they are told of what waits and of their workers, and what they say of themselves.

use std::collections::BTreeMap;

use kesmo_core::{
    fleet::Demand,
    time::{Span, Timestamp},
    words::Phase,
};
use kesmo_wire::link::ToWorker;

use crate::{
    active::ActiveRun,
    clock::now,
    floor::Floor,
    says::{Says, WaitingRun, Waits, Working, none_because},
    workers::{Known, Use, Workers},
};

impl Floor {
    /// What waits in a pool; none if another service carries out its runs. `claim` takes the pool if nobody has it.
    pub(super) async fn waits_in(&mut self, pool: &str, claim: bool) -> Option<Waits> {
        let held = self.leases.held.contains(pool) || (claim && self.holds(pool).await);
        if !held {
            return None;
        }
        let stamp = now();
        let of_pool = |(_, run): &(&i64, &ActiveRun)| run.row.pool == pool && !run.finished();
        let mut runs: Vec<(f64, WaitingRun)> = Vec::new();
        for (id, run) in self.runs.iter().filter(of_pool) {
            let offered = self.reachable.get(pool);
            // What it is to reach is not there: machines would wait with it.
            if run.setup.reach.iter().any(|name| !offered.is_some_and(|offered| offered.contains_key(name))) {
                continue;
            }
            runs.push((
                run.row.place(),
                WaitingRun {
                    id: *id,
                    name: run.name(),
                    demand: run.demand(stamp),
                    is_listed: run.engine.phase() == Phase::Running,
                    needs: run.needs.clone(),
                },
            ));
        }
        runs.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.id.cmp(&b.1.id)));
        Some(Waits { runs: runs.into_iter().map(|(_, run)| run).collect(), workers: self.workers.working_in(pool) })
    }

    /// A pool that starts machines says how it stands; nothing if it starts none any more.
    pub(super) fn pool_says(&mut self, pool: String, says: Option<Says>) {
        let Some(says) = says else {
            self.fleet_changed |= self.pools.remove(&pool).is_some();
            return;
        };
        let before = self.pools.get(&pool);
        if before == Some(&says) {
            return;
        }
        self.fleet_changed |= before.is_none_or(|b| (&b.waits, &b.offers) != (&says.waits, &says.offers));
        for run in self.runs.values_mut().filter(|run| run.row.pool == pool && !run.finished()) {
            let most = run.machines.as_ref().map_or(0, |(most, _)| *most);
            // What stays of it is how it was when it had the most.
            if says.wanted > 0 && says.wanted >= most && run.machines.as_ref().is_none_or(|(_, why)| *why != says.why) {
                run.machines = Some((says.wanted, says.why.clone()));
                run.touch();
            }
        }
        self.pools.insert(pool, says);
    }

    /// Has workers end once they have nothing left to do.
    pub(super) fn retire(&mut self, names: &[String]) {
        for name in names {
            if self.workers.drain(name, true) {
                let worker = self.workers.number(name);
                self.workers.send(worker, ToWorker::Retire);
                self.fleet_changed = true;
            }
        }
    }

    /// Why a run of a pool has no worker, and what to do about it.
    pub(super) fn none_because(&self, pool: &str, needs: &BTreeMap<String, String>) -> String {
        none_because(&self.pools, &self.workers, pool, needs)
    }
}

impl ActiveRun {
    /// What it wants of a pool that starts machines.
    fn demand(&self, stamp: Timestamp) -> Demand {
        let demand = self.engine.demand(stamp);
        let gone = stamp.since(self.row.created_at.into());
        let spent = self.engine.stats().total_us;
        let left = |of: Span, used: u64| Span(of.0.saturating_sub(used));
        Demand {
            within: self.options.within.map(|within| left(within, gone.0)),
            budget: self.options.budget.map(|budget| left(budget, spent)),
            ..demand
        }
    }
}

impl Workers {
    /// The workers of a pool, but for those that are lent to one run.
    fn working_in(&self, pool: &str) -> Vec<Working> {
        let of_pool = self.known.values().filter(|k| k.pool == pool && k.only_run.is_none());
        let one = |k: &Known| Working {
            name: k.name.clone(),
            connected: k.link.is_some(),
            busy: k.slots.iter().any(|s| *s != Use::Idle),
            idle_since: k.idle_since,
            draining: k.draining,
        };
        of_pool.map(one).collect()
    }
}
