//! The promises of the run engine, over thousands of seeds with random faults.

use kesmo_core::{
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_sim::{Faults, Outcomes, Random, Scenario, simulate};

/// How many seeds to try; `KESMO_SEEDS` asks for more.
fn seeds(usual: u64) -> u64 {
    std::env::var("KESMO_SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

fn scenario(seed: u64, entries: usize) -> Scenario {
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
        faults: Faults::default(),
    }
}

fn all_hold(count: u64, make: impl Fn(u64) -> Scenario) -> (usize, usize, usize) {
    let (mut lost, mut restarts, mut flaky) = (0, 0, 0);
    for seed in 0..count {
        let report = simulate(&make(seed)).unwrap_or_else(|broken| panic!("seed {seed}: {broken}"));
        lost += report.lost;
        restarts += report.restarts;
        flaky += report.outcomes.get(&Outcome::Flaky).copied().unwrap_or(0);
    }
    (lost, restarts, flaky)
}

#[test]
fn the_promises_hold_without_faults() {
    let (lost, restarts, flaky) = all_hold(seeds(1000), |seed| scenario(seed, 40));
    assert_eq!((lost, restarts), (0, 0));
    assert!(flaky > 100, "the scenarios make flaky tests: {flaky}");
}

#[test]
fn the_promises_hold_when_workers_die_links_are_cut_and_processes_crash() {
    let faults = Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.0 };
    let (lost, ..) = all_hold(seeds(1500), |seed| Scenario { faults, ..scenario(seed, 40) });
    assert!(lost > 100, "the faults lose attempts: {lost}");
}

#[test]
fn the_promises_hold_when_the_service_is_killed_at_any_point() {
    let faults = Faults { kill_worker: 0.01, cut_link: 0.03, crash: 0.02, kill_service: 0.03 };
    let (_, restarts, _) = all_hold(seeds(1500), |seed| Scenario { faults, ..scenario(seed, 30) });
    assert!(restarts > 1000, "the faults restart the service: {restarts}");
}

#[test]
fn the_same_scenario_runs_the_same_way_twice() {
    let faults = Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.02 };
    for seed in 0..20 {
        let made = Scenario { faults, ..scenario(seed, 40) };
        assert_eq!(simulate(&made), simulate(&made));
    }
}

#[test]
fn a_test_that_always_fails_fails_the_run_and_a_flaky_one_does_not() {
    let clean = Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 };
    let passed = simulate(&Scenario { outcomes: clean, ..scenario(7, 30) }).unwrap();
    assert_eq!(passed.verdict, Verdict::Passed);
    let broken = Outcomes { broken_tests: 1.0, ..clean };
    let failed = simulate(&Scenario { outcomes: broken, ..scenario(7, 30) }).unwrap();
    assert_eq!(failed.verdict, Verdict::Failed);
    let flaky = Outcomes { flaky: 0.3, flaky_tests: 1.0, broken_tests: 0.0 };
    let report = simulate(&Scenario { outcomes: flaky, retries: 30, give_up_after: None, ..scenario(7, 30) }).unwrap();
    assert_eq!(report.verdict, Verdict::Passed);
    assert!(report.outcomes[&Outcome::Flaky] > 0);
}

#[test]
fn known_durations_end_close_to_the_bound() {
    let mut random = Random::new(1);
    let durations: Vec<Span> = (0..2000).map(|_| Span((100_000.0 * (0.8 * random.normal()).exp()) as u64)).collect();
    let work: u64 = durations.iter().map(|d| d.0).sum();
    let longest = durations.iter().map(|d| d.0).max().unwrap_or(0);
    let clean = Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 };
    let made = Scenario {
        expected: durations.iter().map(|d| Some(*d)).collect(),
        durations,
        workers: 4,
        slots_each: 4,
        start_cost: Span::millis(5),
        group_size: 0,
        claim_every: 0,
        shards: None,
        outcomes: clean,
        ..scenario(3, 0)
    };
    let report = simulate(&made).unwrap();
    let bound = (work / 16).max(longest);
    let ratio = report.makespan.0 as f64 / bound as f64;
    assert!(ratio < 1.1, "makespan {} of a bound of {}", report.makespan, Span(bound));
}
