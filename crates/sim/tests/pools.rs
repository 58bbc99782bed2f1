//! Pools that start their own machines: what they pay and how long runs take, against the best that is known afterwards.

use kesmo_sim::{
    Random,
    pools::{Story, Told, best, play},
};

/// A run of tests whose durations are lognormal around `middle`.
fn run(random: &mut Random, tests: usize, middle: f64) -> Vec<f64> {
    (0..tests).map(|_| middle * (0.8 * random.normal()).exp()).collect()
}

fn story(seed: u64, start: f64) -> Story {
    let mut random = Random::new(seed);
    let tests = 50 + random.below(400) as usize;
    let middle = 1.0 + 9.0 * random.unit();
    Story {
        seed,
        bursts: vec![(0.0, run(&mut random, tests, middle)), (40_000.0, run(&mut random, tests, middle))],
        known: 0.2,
        start,
        start_varies: 0.15,
        fails: 0.0,
        vanishes: 0.0,
        slots: 2,
        most: 30,
        idle: 10.0,
    }
}

/// The ratios of makespan and of what was paid, over many stories.
fn against_best(stories: &[Story]) -> (f64, f64) {
    let sum =
        |told: Vec<Told>| (told.iter().map(|t| t.makespan).sum::<f64>(), told.iter().map(|t| t.paid).sum::<f64>());
    let (took, paid) = sum(stories.iter().map(play).collect());
    let (least, cheapest) = sum(stories.iter().map(best).collect());
    (took / least, paid / cheapest)
}

#[test]
fn a_pool_pays_little_more_than_the_best_and_is_hardly_slower() {
    for start in [2.0, 10.0, 30.0, 90.0] {
        let stories: Vec<Story> = (0..15).map(|seed| story(seed, start)).collect();
        let (took, paid) = against_best(&stories);
        println!("starts of {start} s: makespan {took:.3}, slot-minutes {paid:.3}");
        assert!(took <= 1.10 && paid <= 1.15, "starts of {start} s: makespan {took:.3}, slot-minutes {paid:.3}");
    }
}

#[test]
fn starts_that_fail_and_machines_that_vanish_cost_and_end_nothing() {
    for seed in 0..12 {
        let faulty = Story { fails: 0.3, vanishes: 0.2, ..story(seed, 10.0) };
        let told = play(&faulty);
        let tests: usize = faulty.bursts.iter().map(|b| b.1.len()).sum();
        assert!(told.done >= tests, "seed {seed}: {} of {tests}", told.done);
        let fine = best(&faulty);
        assert!(told.makespan <= 3.0 * fine.makespan, "seed {seed}: {} against {}", told.makespan, fine.makespan);
        assert!(told.paid <= 2.5 * fine.paid, "seed {seed}: {} against {}", told.paid, fine.paid);
    }
}

#[test]
fn a_pool_without_work_has_no_machine_and_bursts_are_taken_together() {
    let mut random = Random::new(7);
    let bursts: Vec<(f64, Vec<f64>)> = (0..10).map(|i| (f64::from(i) * 5.0, run(&mut random, 60, 4.0))).collect();
    let together = play(&Story { bursts, ..story(1, 10.0) });
    assert!(together.asked <= 60 && together.done == 600, "{together:?}");
    let nothing = play(&Story { bursts: vec![(0.0, vec![0.01])], ..story(1, 2.0) });
    assert_eq!((nothing.asked, nothing.done), (1, 1));
    assert!(nothing.paid < 2.0 * (2.0 * 1.5 + 10.0 + 3.0), "it goes when it idles: {nothing:?}");
}
