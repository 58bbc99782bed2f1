//! How much work a slot draws at once.
//!
//! Factoring (S. F. Hummel, E. Schonberg and L. E. Flynn, "Factoring: A Method for Scheduling Parallel Loops",
//! Communications of the ACM 35, 1992): in each round every slot gets an equal share of a part of what is left. The part
//! follows from the mean and the standard deviation of the durations: with durations that are known well the first round
//! hands out nearly everything, so that processes are started once; with durations that are not, it hands out less, so
//! that later and smaller batches even out what the first ones got wrong.
//!
//! How much later batches have to even out is how far the slot that is furthest behind is behind the mean. Factoring takes what
//! holds for durations of any kind, the root of half as many standard deviations as there are slots (E. J. Gumbel, "The Maxima of
//! the Mean Largest Value and of the Range", Annals of Mathematical Statistics 25, 1954), so that many slots would get a test
//! at a time. A batch is a sum of many tests, and of many such sums the largest is no further away than the root of twice the
//! logarithm of how many there are (S. Boucheron, G. Lugosi and P. Massart, "Concentration Inequalities", 2013, theorem 2.5):
//! the smaller of the two is taken. Of what is wrong with that, idle slots are given back what a slow batch has not begun.

use crate::time::Span;

/// A batch is worth at least this much work, however cheap it is to start a process.
pub const FLOOR: Span = Span::millis(100);

/// A batch is worth at least this much work for each slot: whoever deals out to thousands of them hands out, and hears of, no more than
/// 2,000 batches a second. Among few slots it is nothing.
const FOR_EACH_SLOT: Span = Span(500);

/// A batch is worth at least so many times what starting its process costs.
const STARTS: u64 = 2;

/// Machines differ from what was measured by at least this much, all tests alike.
const LEAST_VARIATION: f64 = 0.03;

/// What the size of a round's batches follows from.
#[derive(Debug, Clone, Copy)]
pub struct Left {
    /// Work that waits.
    pub work: Span,
    /// Units of work that wait.
    pub units: u32,
    /// Standard deviation of a unit's duration from the expected one, as a part of the mean duration.
    pub variation: f64,
    /// Slots that may work.
    pub slots: u32,
    /// What starting a process costs.
    pub start_cost: Span,
    /// By how much each process that is started makes the others that start with it wait.
    pub start_share: Span,
    /// No batch was drawn yet.
    pub first: bool,
}

/// The work that each batch of the coming round aims at: never less than a floor that keeps the start of its process a
/// small part, and never more than an even share.
#[must_use]
pub fn target(left: Left) -> Span {
    if left.slots <= 1 {
        // There is nobody to be even with; what comes to help has something given back.
        return left.work;
    }
    let slots = f64::from(left.slots);
    let furthest = (slots / 2.0).sqrt().min((2.0 * slots.ln()).sqrt());
    let b = (slots / (2.0 * f64::from(left.units.max(1)))).sqrt() * furthest * left.variation.max(LEAST_VARIATION);
    let parts =
        if left.first { 1.0 + b * b + b * (b * b + 2.0).sqrt() } else { 2.0 + b * b + b * (b * b + 4.0).sqrt() };
    let share = left.work.0 as f64 / (parts * slots);
    let even = left.work.0.div_ceil(u64::from(left.slots.max(1)));
    let floor = FLOOR.0.max(left.start_cost.0 * STARTS).max(FOR_EACH_SLOT.0 * u64::from(left.slots));
    // With k processes for what is left the last of them has started after k times the share, and has a k-th of the work: the
    // sum is least where k is the root of the work by the share. More processes than that would end later, and not sooner.
    let worth = (left.work.as_seconds() * left.start_share.as_seconds()).sqrt() * 1e6;
    let each = (share as u64).max(floor).min(even);
    // What would be left for a second process is not worth its start.
    let each = if even - each < left.start_cost.0 { even } else { each };
    Span(each.max(worth as u64).min(left.work.0))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn left(work: u64, variation: f64, first: bool) -> Left {
        Left {
            work: Span::seconds(work),
            units: 400,
            variation,
            slots: 10,
            start_cost: Span::ZERO,
            start_share: Span::ZERO,
            first,
        }
    }

    #[test]
    fn well_known_work_is_handed_out_nearly_whole_and_unknown_work_is_not() {
        let known = target(left(100, 0.0, true));
        let unknown = target(left(100, 2.0, true));
        assert!(known > Span::millis(9700) && known < Span::seconds(10), "{known}");
        assert!(unknown > Span::seconds(4) && unknown < Span::seconds(6), "{unknown}");
    }

    #[test]
    fn later_rounds_hand_out_about_half() {
        let later = target(left(100, 0.0, false));
        assert!(later > Span::millis(4800) && later <= Span::seconds(5), "{later}");
    }

    #[test]
    fn many_slots_do_not_get_a_test_at_a_time() {
        let tests_each = |slots: u32, variation: f64, first: bool| {
            let units = slots * 15;
            let all = Left { units, slots, ..left(u64::from(units), variation, first) };
            target(all).as_seconds()
        };
        // Here the root of half of the slots is the smaller one.
        let few = tests_each(8, 0.5, true);
        assert!((11.0..12.0).contains(&few), "{few}");
        let many = [tests_each(1000, 0.5, true), tests_each(1000, 0.5, false), tests_each(10_000, 1.0, true)];
        assert!((9.0..10.0).contains(&many[0]), "{many:?}");
        assert!(many[1..].iter().all(|each| (5.0..6.0).contains(each)), "{many:?}");
        // Where a few tests are left for each of them, they are not dealt out one by one, nor kept from slots that have none.
        let few_left = |each: u64| {
            let all = Left { units: 10_000 * each as u32, slots: 10_000, ..left(10_000 * each, 0.5, false) };
            target(all)
        };
        assert_eq!([few_left(8), few_left(4)], [Span::seconds(5), Span::seconds(4)]);
    }

    #[test]
    fn the_floor_keeps_starts_a_small_part_and_never_takes_more_than_an_even_share() {
        let costly = Left { start_cost: Span::seconds(1), ..left(30, 1.0, false) };
        assert_eq!(target(costly), Span::seconds(2));
        assert_eq!(target(Left { work: Span::seconds(5), ..costly }), Span::millis(500));
        assert_eq!(target(Left { work: Span::ZERO, slots: 0, ..costly }), Span::ZERO);
        assert_eq!(target(Left { slots: 1, ..costly }), costly.work, "one slot has all of it");
    }

    #[test]
    fn fewer_processes_are_started_where_each_makes_the_others_wait() {
        let left =
            Left { slots: 40, start_cost: Span::millis(60), start_share: Span::millis(30), ..left(8, 0.1, false) };
        let each = target(left);
        // The root of 8 s times 30 ms: 16 processes.
        assert!(each > Span::millis(480) && each < Span::millis(500), "{each}");
        let much = target(Left { work: Span::seconds(400), ..left });
        assert_eq!(
            much,
            target(Left { work: Span::seconds(400), start_share: Span::ZERO, ..left }),
            "much work is worth its starts"
        );
        assert_eq!(target(Left { work: Span::millis(20), ..left }), Span::millis(20));
    }
}
