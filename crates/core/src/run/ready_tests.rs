//! What waits: its order, what is taken of it, and that nothing is lost or counted twice.

use proptest::prelude::*;

use super::*;

fn class(variant: u16, claims: u32) -> Class {
    Class { variant, repeat: 1, claims }
}

fn unit(rank: u64, entries: &[u32], seconds: u64) -> Unit {
    Unit { entries: entries.to_vec(), work: Span::seconds(seconds), rank, group: None }
}

/// A unit whose rank is its length: the longest first.
fn by_length(entry: u32, seconds: u64) -> Unit {
    let work = Span::seconds(seconds);
    unit(u64::MAX - work.0, &[entry], seconds)
}

fn retry(entry: u32, at: Timestamp) -> Retry {
    Retry { entry, class: class(0, 0), group: None, not_before: at, failed_on: Some(WorkerId(1)) }
}

fn no_urgency(_: &Class, _: &Unit) -> u64 {
    0
}

#[test]
fn the_smallest_rank_is_next_and_of_those_that_are_alike_the_first_entry() {
    let mut ready = Ready::default();
    for (rank, entry) in [(5, 1), (3, 9), (3, 2), (8, 0)] {
        ready.add(class(0, 0), unit(rank, &[entry], 1));
    }
    let order: Vec<u32> = std::iter::from_fn(|| ready.take_next(class(0, 0))).map(|unit| unit.entries[0]).collect();
    assert_eq!(order, [2, 9, 1, 0]);
    assert!(ready.is_empty() && ready.units() == 0 && ready.longest().is_none());
    assert!(ready.take_next(class(0, 0)).is_none() && ready.next(class(0, 0)).is_none());
}

#[test]
fn a_class_comes_by_its_rank_unless_more_is_behind_it_or_it_may_not_run() {
    let mut ready = Ready::default();
    let (plain, claimed, other) = (class(0, 0), class(0, 1), class(1, 0));
    ready.add(plain, unit(1, &[0], 2));
    ready.add(claimed, unit(2, &[1], 1));
    ready.add(claimed, unit(3, &[2], 1));
    ready.add(other, unit(4, &[3], 9));
    assert_eq!(ready.next_class(|_| true, no_urgency), Some((plain, 0)));
    assert_eq!(ready.next_class(|class| class.variant == 1, no_urgency), Some((other, 0)));
    assert_eq!(ready.next_class(|_| false, no_urgency), None);
    let behind = |class: &Class, _: &Unit| if class.claims == 1 { 7 } else { 0 };
    assert_eq!(ready.next_class(|_| true, behind), Some((claimed, 7)));
    assert_eq!(ready.next_class(|class| class.claims == 0, behind), Some((plain, 0)));
    assert_eq!(ready.longest(), Some(&[3][..]), "of those that are next in their class");
    assert_eq!(ready.waiting_classes(), BTreeSet::from([plain, claimed, other]));
}

#[test]
fn the_longest_that_still_fits_is_found_and_taken_by_its_key() {
    let mut ready = Ready::default();
    let of = class(0, 0);
    for (entry, seconds) in [(0, 1), (1, 4), (2, 7), (3, 4)] {
        ready.add(of, by_length(entry, seconds));
    }
    let fits = |ready: &Ready, most: u64| ready.longest_within(of, Span::seconds(most)).map(|unit| unit.entries[0]);
    assert_eq!(fits(&ready, 9), Some(2));
    assert_eq!(fits(&ready, 7), Some(2), "just as long is no longer");
    assert_eq!(fits(&ready, 6), Some(1), "of two that are alike the first");
    assert_eq!(fits(&ready, 1), Some(0));
    assert_eq!(fits(&ready, 0), None);
    let key = ready.longest_within(of, Span::seconds(6)).unwrap().key();
    assert_eq!(ready.take(of, key).unwrap().entries, [1]);
    assert!(ready.take(of, key).is_none(), "it is taken");
    assert!(ready.take(class(9, 9), key).is_none());
    assert_eq!((fits(&ready, 6), ready.units()), (Some(3), 3));
}

#[test]
fn work_that_waits_is_counted_by_what_it_claims() {
    let mut ready = Ready::default();
    ready.add(class(0, 0), unit(1, &[0], 5));
    ready.add(class(0, 2), unit(1, &[1, 2], 3));
    ready.add_first(class(1, 2), unit(0, &[3], 4));
    assert_eq!((ready.claimed(0), ready.claimed(2), ready.claimed(7)), (0, 7_000_000, 0));
    assert_eq!(ready.claim_sets().collect::<Vec<_>>(), [2]);
    assert_eq!(ready.units(), 3, "a group is one");
    assert!(ready.take_first(|class| class.variant == 0).is_none());
    assert_eq!(ready.take_first(|_| true).unwrap().1.entries, [3]);
    assert_eq!(ready.claimed(2), 3_000_000);
    ready.take_next(class(0, 2)).unwrap();
    assert_eq!((ready.claimed(2), ready.claim_sets().count(), ready.units()), (0, 0, 1));
}

#[test]
fn an_order_is_kept_to_and_what_goes_in_front_comes_first() {
    let mut ready = Ready::default();
    ready.add_ordered(class(0, 0), unit(0, &[0], 1), false);
    ready.add_ordered(class(0, 1), unit(0, &[1], 1), false);
    assert!(!ready.is_empty() && ready.units() == 0);
    assert_eq!(ready.take_ordered(|_| true).unwrap().entries, [0]);
    assert!(ready.take_ordered(|class| class.claims == 0).is_none(), "nothing overtakes what may not run");
    ready.add_ordered(class(0, 0), unit(0, &[2], 1), true);
    assert_eq!(ready.take_ordered(|class| class.claims == 0).unwrap().entries, [2]);
    assert_eq!(ready.take_ordered(|_| true).unwrap().entries, [1]);
    assert!(ready.take_ordered(|_| true).is_none() && ready.is_empty());
}

#[test]
fn retries_come_as_they_were_added_and_not_before_their_pause_is_over() {
    let mut ready = Ready::default();
    let at = |seconds: i64| Timestamp(seconds * 1_000_000);
    for (entry, seconds) in [(0, 9), (1, 3), (2, 3)] {
        ready.add_retry(retry(entry, at(seconds)));
    }
    assert_eq!(ready.waiting_retries().collect::<Vec<_>>(), [0, 1, 2]);
    assert_eq!(ready.next_pause_end(at(0)), Some(at(3)));
    assert_eq!(ready.next_pause_end(at(3)), Some(at(9)), "one that has ended is no wake");
    assert_eq!(ready.next_pause_end(at(9)), None);
    let due = |now: Timestamp| move |retry: &Retry| retry.not_before <= now;
    assert!(ready.take_retry(due(at(2))).is_none());
    assert_eq!(ready.take_retry(due(at(4))).unwrap().entry, 1);
    assert_eq!(ready.retries(), 2);
    let left: Vec<u32> = ready.drain_retries().iter().map(|retry| retry.entry).collect();
    assert_eq!(left, [0, 2]);
    assert!(ready.is_empty());
}

/// Where an entry is put.
#[derive(Debug, Clone, Copy)]
enum Place {
    Class,
    First,
    Ordered(bool),
    Retry,
}

fn places() -> impl Strategy<Value = Vec<(Place, u16, u32, u64)>> {
    let place = prop_oneof![
        4 => Just(Place::Class),
        1 => Just(Place::First),
        1 => any::<bool>().prop_map(Place::Ordered),
        1 => Just(Place::Retry),
    ];
    prop::collection::vec((place, 0..3u16, 0..3u32, 0..50u64), 0..60)
}

fn filled(places: &[(Place, u16, u32, u64)]) -> Ready {
    let mut ready = Ready::default();
    for (entry, (place, variant, claims, seconds)) in places.iter().enumerate() {
        let (of, unit) = (class(*variant, *claims), by_length(entry as u32, *seconds));
        match place {
            Place::Class => ready.add(of, unit),
            Place::First => ready.add_first(of, unit),
            Place::Ordered(in_front) => ready.add_ordered(of, unit, *in_front),
            Place::Retry => ready.add_retry(Retry { class: of, ..retry(entry as u32, Timestamp(0)) }),
        }
    }
    ready
}

proptest! {
    #[test]
    fn whatever_is_put_in_comes_out_once(places in places(), gone in 0..3u16) {
        let mut ready = filled(&places);
        let mut taken = ready.take_variant(gone);
        prop_assert!(taken.iter().all(|entry| places[*entry as usize].1 == gone));
        prop_assert!(ready.waiting_classes().iter().all(|class| class.variant != gone));
        while let Some((_, unit)) = ready.take_first(|_| true) {
            taken.extend(unit.entries);
        }
        while let Some(unit) = ready.take_ordered(|_| true) {
            taken.extend(unit.entries);
        }
        while let Some((class, _)) = ready.next_class(|_| true, no_urgency) {
            taken.extend(ready.take_next(class).expect("it is next").entries);
        }
        taken.extend(ready.drain_retries().iter().map(|retry| retry.entry));
        taken.sort_unstable();
        prop_assert_eq!(taken, (0..places.len() as u32).collect::<Vec<_>>());
        prop_assert!(ready.is_empty() && ready.claim_sets().count() == 0);
    }

    #[test]
    fn what_is_counted_is_what_waits(places in places(), takes in prop::collection::vec(0..4u8, 0..40)) {
        let mut ready = filled(&places);
        for take in takes {
            match take {
                0 => drop(ready.take_first(|_| true)),
                1 => drop(ready.take_variant(2)),
                _ => {
                    if let Some((class, _)) = ready.next_class(|_| true, no_urgency) {
                        // The longest of a class that takes no more than its longest is its next.
                        let next = ready.next(class).expect("it is next").key();
                        let most = ready.next(class).expect("it is next").work;
                        prop_assert_eq!(ready.longest_within(class, most).map(Unit::key), Some(next));
                        ready.take(class, next).expect("it is there");
                    }
                }
            }
            let (mut units, mut claimed) = (0, [0u64; 3]);
            let waiting = ready.classes.iter().flat_map(|(class, units)| units.values().map(move |unit| (class, unit)));
            for (class, unit) in waiting.chain(ready.first.values().map(|(class, unit)| (class, unit))) {
                units += 1;
                claimed[class.claims as usize] += if class.claims == 0 { 0 } else { unit.work.0 };
            }
            prop_assert_eq!(ready.units(), units);
            for set in 0..3 {
                prop_assert_eq!(ready.claimed(set), claimed[set as usize]);
            }
        }
    }
}
