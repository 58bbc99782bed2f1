//! What pools that start their own machines are told, and what they say of themselves.

use std::collections::{BTreeMap, HashMap};

use kesmo_core::{fleet::Demand, time::Timestamp};

use crate::workers::Workers;

/// What waits in a pool, and who works in it.
#[derive(Debug, Clone, Default)]
pub struct Waits {
    /// The runs that want slots, in the order of the queue.
    pub runs: Vec<WaitingRun>,
    pub workers: Vec<Working>,
}

/// A run that wants slots of a pool.
#[derive(Debug, Clone)]
pub struct WaitingRun {
    pub id: i64,
    pub name: String,
    pub demand: Demand,
    /// Its tests are known.
    pub is_listed: bool,
    /// What each of its variants needs of a worker.
    pub needs: Vec<BTreeMap<String, String>>,
}

/// A worker of a pool.
#[derive(Debug, Clone)]
pub struct Working {
    pub name: String,
    /// False while its link is down and its patience not over.
    pub connected: bool,
    pub busy: bool,
    /// Since when it has had nothing to do, if it has not.
    pub idle_since: Timestamp,
    /// It takes nothing new.
    pub draining: bool,
}

/// What a pool that starts machines says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Says {
    /// What its machines offer.
    pub offers: BTreeMap<String, String>,
    /// What a run waits for that none of its workers may carry out.
    pub waits: String,
    /// How many machines are wanted for the runs of now, and why not more.
    pub wanted: u32,
    /// The slots of all machines that it may have at once.
    pub most_slots: u32,
    pub why: String,
}

/// Why a run of a pool has no worker, and what to do about it: as the pool says that starts machines, else as its workers are.
pub(crate) fn none_because(
    pools: &HashMap<String, Says>,
    workers: &Workers,
    pool: &str,
    needs: &BTreeMap<String, String>,
) -> String {
    match pools.get(pool) {
        Some(says) => says.none_because(pool, needs),
        None => workers.none_because(pool, needs),
    }
}

impl Says {
    /// Why a run of the pool has no worker, and what to do about it.
    fn none_because(&self, pool: &str, needs: &BTreeMap<String, String>) -> String {
        let lacking = needs.iter().filter(|(n, v)| self.offers.get(*n) != Some(*v));
        let lacking: Vec<String> = lacking.map(|(n, v)| format!("{n}={v}")).collect();
        if lacking.is_empty() {
            return format!("waiting for a machine of the pool {pool}: {}", self.waits);
        }
        let offers: Vec<String> = self.offers.iter().map(|(n, v)| format!("{n}={v}")).collect();
        let offers = if offers.is_empty() { "nothing".to_owned() } else { offers.join(", ") };
        let add: String = lacking.iter().map(|o| format!(" --offer {o}")).collect();
        format!(
            "waiting for a worker that offers {}: the machines of the pool {pool} offer {offers}; if they have it, make the pool \
             anew with{add}, else run in another pool",
            lacking.join(", ")
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_that_no_machine_may_carry_out_is_told_what_is_missing() {
        let offers = |pairs: &[(&str, &str)]| -> BTreeMap<String, String> {
            pairs.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect()
        };
        let says = Says { offers: offers(&[("os", "linux")]), waits: "2 are coming".into(), ..Says::default() };
        assert_eq!(
            says.none_because("boats", &offers(&[("os", "linux")])),
            "waiting for a machine of the pool boats: 2 are coming"
        );
        let said = says.none_because("boats", &offers(&[("os", "linux"), ("gpu", "yes")]));
        assert!(
            said.starts_with(
                "waiting for a worker that offers gpu=yes: the machines of the pool boats offer os=linux;"
            ),
            "{said}"
        );
        assert!(said.contains("with --offer gpu=yes, else run in another pool"), "{said}");
    }
}
