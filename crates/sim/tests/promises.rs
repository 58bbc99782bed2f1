//! The promises of the run engine, over thousands of seeds with random faults.

use kesmo_core::{
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_sim::{Faults, Outcomes, Random, Scenario, parts, scenario, simulate};

/// How many seeds to try; `KESMO_SEEDS` asks for more.
fn seeds(usual: u64) -> u64 {
    std::env::var("KESMO_SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

/// A scenario with one run and nothing parked.
fn one(seed: u64, entries: usize) -> Scenario {
    Scenario { runs: 1, park_every: 0, files: false, fed: false, ..scenario(seed, entries) }
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
    let faults = Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.0, ..Faults::default() };
    let (lost, ..) = all_hold(seeds(1500), |seed| Scenario { faults, ..scenario(seed, 40) });
    assert!(lost > 100, "the faults lose attempts: {lost}");
}

#[test]
fn the_promises_hold_when_the_service_is_killed_at_any_point() {
    let faults = Faults { kill_worker: 0.01, cut_link: 0.03, crash: 0.02, kill_service: 0.03, ..Faults::default() };
    let (_, restarts, _) = all_hold(seeds(1500), |seed| Scenario { faults, ..scenario(seed, 30) });
    assert!(restarts > 1000, "the faults restart the service: {restarts}");
}

#[test]
fn the_promises_hold_whatever_workers_say_of_what_is_not_theirs() {
    let faults = Faults { cut_link: 0.03, bad_end: 0.01, lie: 0.5, ..Faults::default() };
    all_hold(seeds(1500), |seed| Scenario { faults, ..scenario(seed, 40) });
    let all = Faults { kill_worker: 0.01, crash: 0.02, kill_service: 0.02, ..faults };
    let (lost, restarts, _) = all_hold(seeds(1000), |seed| Scenario { faults: all, ..scenario(seed, 30) });
    assert!(lost > 50 && restarts > 300, "the faults come: {lost}, {restarts}");
}

#[test]
fn no_case_that_a_file_told_of_is_lost_or_counted_twice() {
    let faults =
        Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.02, lie: 0.2, ..Faults::default() };
    let files = |seed| Scenario { faults, files: true, rerun: seed % 3 > 0, ..scenario(seed, 30) };
    let (lost, restarts, flaky) = all_hold(seeds(2000), files);
    assert!(lost > 100 && restarts > 500 && flaky > 500, "the faults come: {lost}, {restarts}, {flaky}");
}

#[test]
fn no_case_of_a_file_that_is_cut_is_lost_or_counted_twice_whatever_was_known_of_it() {
    let (lost, restarts, flaky) = all_hold(seeds(2000), parts);
    assert!(lost > 100 && restarts > 300 && flaky > 300, "the faults come: {lost}, {restarts}, {flaky}");
}

#[test]
fn the_promises_hold_for_processes_that_stay() {
    let faults =
        Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.02, lie: 0.2, ..Faults::default() };
    let fed = |seed| Scenario { faults, fed: true, files: false, ..scenario(seed, 40) };
    let (lost, restarts, flaky) = all_hold(seeds(2000), fed);
    assert!(lost > 100 && restarts > 500 && flaky > 200, "the faults come: {lost}, {restarts}, {flaky}");
}

#[test]
fn a_process_that_ends_badly_after_good_results_fails_its_run() {
    let clean = Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 };
    let faults = Faults { bad_end: 1.0, ..Faults::default() };
    let report = simulate(&Scenario { outcomes: clean, faults, ..one(7, 30) }).unwrap();
    assert_eq!(report.verdict, Verdict::Failed);
    assert_eq!(report.outcomes[&Outcome::Passed], 30);
}

#[test]
fn the_same_scenario_runs_the_same_way_twice() {
    let faults = Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.02, ..Faults::default() };
    for seed in 0..20 {
        let made = Scenario { faults, ..scenario(seed, 40) };
        assert_eq!(simulate(&made), simulate(&made));
    }
}

#[test]
fn a_test_that_always_fails_fails_the_run_and_a_flaky_one_does_not() {
    let clean = Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 };
    let passed = simulate(&Scenario { outcomes: clean, ..one(7, 30) }).unwrap();
    assert_eq!(passed.verdict, Verdict::Passed);
    let broken = Outcomes { broken_tests: 1.0, ..clean };
    let failed = simulate(&Scenario { outcomes: broken, ..one(7, 30) }).unwrap();
    assert_eq!(failed.verdict, Verdict::Failed);
    let flaky = Outcomes { flaky: 0.3, flaky_tests: 1.0, broken_tests: 0.0 };
    let report = simulate(&Scenario { outcomes: flaky, retries: 30, give_up_after: None, ..one(7, 30) }).unwrap();
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
        outcomes: clean,
        ..Scenario::default()
    };
    let report = simulate(&made).unwrap();
    let bound = (work / 16).max(longest);
    let ratio = report.makespan.0 as f64 / bound as f64;
    assert!(ratio < 1.03, "makespan {} of a bound of {}", report.makespan, Span(bound));
}

#[test]
fn slow_batches_give_back_what_idle_slots_can_run() {
    // Half of the tests take ten times what is expected, so that some batches turn out slow.
    let asked: usize = (0..50)
        .map(|seed| {
            let mut random = Random::new(seed);
            let durations: Vec<Span> =
                (0..200).map(|_| Span::millis(if random.chance(0.1) { 5000 } else { 100 })).collect();
            let expected = durations.iter().map(|_| Some(Span::millis(100))).collect();
            let made = Scenario { seed, durations, expected, workers: 4, slots_each: 2, ..Scenario::default() };
            simulate(&made).unwrap_or_else(|broken| panic!("seed {seed}: {broken}")).asked_back
        })
        .sum();
    assert!(asked > 50, "{asked}");
}

#[test]
fn senders_begin_together_whatever_dies() {
    let load = |seed: u64| {
        let made = scenario(seed, 24);
        let senders = [2, 3, 4, 6][seed as usize % 4];
        Scenario { senders, shards: Some(senders), files: false, workers: 4, slots_each: 3, ..made }
    };
    all_hold(seeds(500), load);
    let faults = Faults { kill_worker: 0.02, cut_link: 0.05, crash: 0.03, kill_service: 0.03, lie: 0.2, bad_end: 0.0 };
    let (lost, restarts, _) = all_hold(seeds(1500), |seed| Scenario { faults, ..load(seed) });
    assert!(lost > 100 && restarts > 500, "the faults come: {lost}, {restarts}");
}
