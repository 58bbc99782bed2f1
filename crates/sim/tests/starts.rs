//! Processes that are dear to start: how many are started follows from what starting costs here and now.

use kesmo_core::time::Span;
use kesmo_sim::{Report, Scenario, simulate};

/// 1,000 tests of 100 ms on 40 slots of two cores, by a program that costs 60 ms of a core to start.
fn run(expected: Option<Span>, hidden_starts: bool) -> Report {
    let durations = vec![Span::millis(100); 1000];
    let expected = vec![expected; 1000];
    let (workers, slots_each, start_cost) = (4, 10, Span::millis(60));
    // An earlier run had them start together.
    let start_known = expected[0].map(|_| Span::millis(600));
    let made = Scenario {
        start_known,
        durations,
        expected,
        workers,
        slots_each,
        start_cost,
        cores: 2,
        hidden_starts,
        ..Scenario::default()
    };
    simulate(&made).expect("the promises hold")
}

/// The same dealt out to 40 processes that are all started at once: 20 starts one after the other on each core, then the tests.
const DEALT: f64 = 1.2 + 2.5;

#[test]
fn starts_that_are_dear_under_load_are_few() {
    for hidden in [false, true] {
        let known = run(Some(Span::millis(100)), hidden);
        assert!(known.makespan.as_seconds() < DEALT * 1.2, "hidden {hidden}, known: {known:?}");
        let unknown = run(None, hidden);
        assert!(unknown.makespan.as_seconds() < DEALT * 1.55, "hidden {hidden}, unknown: {unknown:?}");
        assert!(unknown.batches < 200, "hidden {hidden}: {unknown:?}");
    }
}
