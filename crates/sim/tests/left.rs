//! The ranges for the time left hold the truth.

use kesmo_sim::left::{coverage, kinds};

#[test]
fn the_time_left_lies_in_its_range_four_times_of_five() {
    let mut all = Vec::new();
    for kind in kinds() {
        let seen = coverage(&kind, 40);
        println!("{:16} {seen:.2?}", kind.name);
        assert!(seen.held > 0.72, "{}: {seen:?}", kind.name);
        assert!(seen.shown > 0.9, "{}: a range nearly always: {seen:?}", kind.name);
        // A range that holds everything says nothing.
        assert!(seen.width < 1.0, "{}: {seen:?}", kind.name);
        all.push(seen);
    }
    let mean = |of: &[kesmo_sim::left::Coverage]| of.iter().map(|c| c.held).sum::<f64>() / of.len() as f64;
    assert!(mean(&all) > 0.8);
    let first: Vec<f64> = all[..5].iter().map(|c| c.held).collect();
    assert!(first.iter().all(|held| *held > 0.78), "suites that the record knows: {first:?}");
}
