//! The run engine alone, on the simulated fleet.

use std::time::Instant;

use kesmo_core::time::Span;
use kesmo_sim::{Faults, Outcomes, Random, Scenario, simulate};
use tokio::runtime::Runtime;

use crate::Line;

/// The makespan of a simulated run against its bound, the larger of work by slots and the longest test.
pub fn inputs(_: &Runtime) -> Vec<Line> {
    let mut ratios = Vec::new();
    let began = Instant::now();
    let mut inputs = 0;
    for seed in 0..30 {
        let mut random = Random::new(seed);
        let durations: Vec<Span> = (0..2000).map(|_| Span((100_000.0 * random.normal().exp()) as u64)).collect();
        let work: u64 = durations.iter().map(|d| d.0).sum();
        let longest = durations.iter().map(|d| d.0).max().unwrap_or(0);
        let about = |d: &Span| Some(Span((d.0 as f64 * (0.8 + 0.4 * random.unit())) as u64));
        let scenario = Scenario {
            seed,
            expected: durations.iter().map(about).collect(),
            durations,
            workers: 8,
            slots_each: 4,
            start_cost: Span::millis(5),
            latency: Span::millis(1),
            retries: 0,
            other_worker: false,
            give_up_after: None,
            shards: None,
            group_size: 0,
            claim_every: 0,
            outcomes: Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 },
            faults: Faults::default(),
        };
        let report = simulate(&scenario).expect("the promises hold");
        inputs += report.inputs;
        ratios.push(report.makespan.0 as f64 / (work / 32).max(longest) as f64);
    }
    let mean = ratios.iter().sum::<f64>() / ratios.len() as f64;
    vec![Line {
        what: "simulated: 2,000 tests, lognormal durations known within 20%, 32 slots, 30 seeds",
        measured: format!(
            "mean makespan; {:.0} inputs a second with the simulation",
            inputs as f64 / began.elapsed().as_secs_f64()
        ),
        compared_with: "the larger of work by slots and the longest test".into(),
        figure: mean,
        bound: 1.1,
        unit: "",
    }]
}
