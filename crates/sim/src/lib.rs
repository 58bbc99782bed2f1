//! A simulated fleet on a simulated clock.
//!
//! [`simulate`] carries runs through the real engine: workers with slots run batches, messages take time, are repeated
//! after cuts, workers die, and the service is killed between commits and built again from what was kept. While it does so
//! it checks what the engine promises (see `kesmo_core::run`) and answers with the first promise that was broken.
//!
//! [`left`] holds the engine's ranges for the time left against the truth.
//!
//! [`forecast`] answers how long a run would take by number of slots, with the same engine and no faults.

pub mod forecast;
mod ledger;
pub mod left;
mod random;
mod world;

pub use random::Random;
pub use world::{Faults, Outcomes, Report, Scenario, simulate};

use kesmo_core::time::Span;

/// A scenario of everything that runs may ask for, drawn from a seed, without faults.
#[must_use]
pub fn scenario(seed: u64, entries: usize) -> Scenario {
    let mut random = Random::new(seed);
    let durations: Vec<Span> = (0..entries).map(|_| Span::millis(5 + random.below(800))).collect();
    let known = random.chance(0.5);
    Scenario {
        seed,
        expected: durations.iter().map(|d| known.then_some(*d)).collect(),
        durations,
        workers: 1 + random.below(4) as u32,
        slots_each: 1 + random.below(4) as u16,
        start_cost: Span::millis(20),
        latency: Span::millis(1),
        retries: random.below(4) as u8,
        other_worker: random.chance(0.5),
        give_up_after: random.chance(0.3).then_some(20),
        shards: random.chance(0.3).then_some(2),
        group_size: if random.chance(0.5) { 4 } else { 0 },
        claim_every: if random.chance(0.5) { 5 } else { 0 },
        outcomes: Outcomes { flaky: 0.5, flaky_tests: 0.2, broken_tests: 0.05 },
        runs: 1 + random.below(3) as u32,
        variants: 1 + random.below(2) as u16,
        park_every: if random.chance(0.3) { 7 } else { 0 },
        run_parked: random.chance(0.5),
        shuffle: random.chance(0.3),
        faults: Faults::default(),
    }
}

/// The same with faults of all kinds.
#[must_use]
pub fn anything(seed: u64) -> Scenario {
    let faults = Faults { kill_worker: 0.01, cut_link: 0.03, crash: 0.02, kill_service: 0.02, bad_end: 0.02, lie: 0.3 };
    Scenario { faults, ..scenario(seed, 30) }
}
