//! Tests that run on several slots at once.

use super::{
    BatchEnd, BatchId, Effect, Engine, Grant, Input, PastBatch, Policy, WorkerId,
    tests::{Bench, W1, W2, entry, plan, policy},
};
use crate::{
    plan::PlannedEntry,
    time::{Span, Timestamp},
    words::{Ended, Verdict},
};

/// A run of some tests, each on `senders` slots at once; the workers have two slots each.
fn load(tests: &[&str], senders: u32) -> Bench {
    let policy = Policy { senders: Some(senders), shards: Some(senders), ..policy() };
    Bench::new(policy, entries(tests, senders))
}

fn entries(tests: &[&str], senders: u32) -> Vec<PlannedEntry> {
    let of = |test: &&str| {
        let test = (*test).to_owned();
        (1..=senders as u16).map(move |repeat| PlannedEntry { repeat, ..entry(&test, 1000) })
    };
    tests.iter().flat_map(of).collect()
}

/// Gives every slot that is asked for to the run.
fn gather(bench: &mut Bench, slots: &[(WorkerId, u16)]) -> Vec<Grant> {
    slots.iter().filter_map(|(worker, slot)| bench.free(*worker, *slot)).collect()
}

const SLOTS: [(WorkerId, u16); 4] = [(W1, 0), (W1, 1), (W2, 0), (W2, 1)];

fn at_gate(bench: &mut Bench, grant: &Grant) -> Vec<BatchId> {
    let said = bench.feed(Input::AtGate { batch: grant.batch });
    said.iter().filter_map(|e| if let Effect::Begin { batch, .. } = e { Some(*batch) } else { None }).collect()
}

#[test]
fn all_senders_begin_when_the_last_is_there_and_the_next_test_when_all_have_ended() {
    let mut bench = load(&["scan", "sell"], 3);
    let grants = gather(&mut bench, &SLOTS);
    assert_eq!(grants.iter().map(|g| g.entries.clone()).collect::<Vec<_>>(), [[0], [1], [2]]);
    assert!(grants.iter().all(|g| g.senders == Some(3)));
    assert!(at_gate(&mut bench, &grants[2]).is_empty());
    assert!(at_gate(&mut bench, &grants[2]).is_empty(), "it says so again");
    assert!(at_gate(&mut bench, &grants[0]).is_empty());
    let all: Vec<BatchId> = grants.iter().map(|g| g.batch).collect();
    assert_eq!(at_gate(&mut bench, &grants[1]), all);
    assert_eq!(at_gate(&mut bench, &grants[1]), [grants[1].batch], "one that was not told is told again, and alone");
    bench.run(&grants[0], |_| Ended::Passed);
    bench.run(&grants[1], |_| Ended::Failed);
    assert!(gather(&mut bench, &SLOTS[..1]).is_empty(), "the third still sends");
    bench.run(&grants[2], |_| Ended::Passed);
    let next = gather(&mut bench, &SLOTS);
    assert_eq!(next.iter().map(|g| g.entries[0]).collect::<Vec<_>>(), [3, 4, 5]);
    for grant in &next {
        at_gate(&mut bench, grant);
    }
    next.iter().for_each(|grant| bench.run(grant, |_| Ended::Passed));
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 6 failed")), "and none was tried again");
}

#[test]
fn a_sender_that_goes_away_before_all_began_is_gathered_again() {
    let mut bench = load(&["scan"], 3);
    let grants = gather(&mut bench, &SLOTS[..3]);
    at_gate(&mut bench, &grants[0]);
    at_gate(&mut bench, &grants[1]);
    bench.feed(Input::WorkerLost { worker: W2 });
    assert!(bench.notes().is_empty(), "{:?}", bench.notes());
    let again = bench.free(W2, 1).expect("the third is gathered again");
    assert_eq!((again.entries.clone(), again.attempt), (vec![2], Some(2)), "it may have begun: that attempt is lost");
    assert_eq!(at_gate(&mut bench, &again).len(), 3);
}

#[test]
fn where_one_goes_away_in_the_middle_the_others_are_ended_and_all_begin_again() {
    let mut bench = load(&["scan"], 3);
    let grants = gather(&mut bench, &SLOTS[..3]);
    for grant in &grants {
        at_gate(&mut bench, grant);
    }
    for grant in &grants {
        bench.feed(Input::Began { batch: grant.batch, entry: grant.entries[0] });
    }
    // The first has done its part already.
    bench.run(&grants[0], |_| Ended::Passed);
    let lost = bench.feed(Input::WorkerLost { worker: W2 });
    assert!(lost.contains(&Effect::Revoke { worker: W1, batch: grants[1].batch }), "{lost:?}");
    assert!(!lost.contains(&Effect::Revoke { worker: W1, batch: grants[0].batch }));
    assert_eq!(
        bench.notes(),
        ["a sender of scan went away as it ran: the other was ended, and both begin again together"]
    );
    let third = bench.free(W2, 0).expect("its part is sent again");
    assert!(at_gate(&mut bench, &third).is_empty(), "not beside one that is still to end");
    bench.feed(Input::BatchEnded { batch: grants[1].batch, end: BatchEnd::Revoked });
    let second = bench.free(W1, 1).expect("so is the other's");
    assert_eq!((second.entries.clone(), second.attempt), (vec![1], Some(1)), "what was ended is not held against it");
    assert_eq!(at_gate(&mut bench, &second), [second.batch, third.batch]);
    bench.run(&second, |_| Ended::Passed);
    bench.run(&third, |_| Ended::Passed);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn fewer_slots_than_senders_are_waited_for_and_not_held() {
    let mut bench = load(&["scan", "sell"], 4);
    let grants = gather(&mut bench, &SLOTS[..2]);
    assert_eq!(bench.engine.waiting_for(), Some("waiting for 4 slots at once: 2 are free so far"));
    assert!(bench.engine.gathers());
    bench.effects.clear();
    bench.fleet(&[(W1, 2)]);
    for grant in &grants {
        let gone = Effect::Revoke { worker: W1, batch: grant.batch };
        assert!(bench.effects.contains(&gone), "its slots serve others: {:?}", bench.effects);
        bench.feed(Input::BatchEnded { batch: grant.batch, end: BatchEnd::Revoked });
    }
    assert_eq!(bench.engine.waiting_for(), Some("scan needs 4 slots at once, and there are 2"));
    assert!(!bench.engine.wants_slots() && bench.free(W1, 0).is_none());
    bench.fleet(&[(W1, 2), (W2, 2)]);
    assert!(bench.engine.wants_slots() && bench.engine.waiting_for().is_some_and(|said| said.contains("0 are free")));
    // They do not come: nothing of it was run, and that is no success.
    bench.fleet(&[(W1, 2)]);
    bench.pass_time(Span::seconds(11));
    let (verdict, reason) = bench.verdict().expect("it is over");
    assert_eq!(verdict, Verdict::Void);
    assert_eq!(reason, "scan needs 4 slots at once, and there are 2; no more came within 10 s (patience in [limits])");
    assert_eq!(bench.engine.tally().not_run, 8);
}

#[test]
fn an_engine_that_is_built_again_hears_who_had_begun() {
    let mut bench = load(&["scan"], 2);
    let grants = gather(&mut bench, &[(W1, 0), (W2, 0)]);
    let open = |grant: &Grant| PastBatch {
        batch: grant.batch,
        worker: grant.worker,
        slot: grant.slot,
        entries: grant.entries.clone(),
        granted_at: Timestamp(0),
        open: true,
    };
    let past: Vec<PastBatch> = grants.iter().map(open).collect();
    let senders = Policy { senders: Some(2), shards: Some(2), ..policy() };
    // They come back one by one: the first has not too few beside it before the others had time to come.
    bench.engine =
        Engine::restore(senders.clone(), plan(entries(&["scan"], 2)), Timestamp(0), &[], &past).expect("it fits");
    bench.effects.clear();
    assert!(bench.engine.gathers(), "as long as that is not known, no other load is to gather beside it");
    for (grant, fleet) in grants.iter().zip([&[(W1, 1)][..], &[(W1, 1), (W2, 1)]]) {
        bench.fleet(fleet);
        bench.feed(Input::WorkerBack { worker: grant.worker, holds: [grant.batch].into() });
        bench.feed(Input::WasThrough { batch: grant.batch });
        assert!(!bench.effects.iter().any(|e| matches!(e, Effect::Revoke { .. })), "{:?}", bench.effects);
    }
    assert!(!bench.engine.gathers());
    grants.iter().for_each(|grant| bench.run(grant, |_| Ended::Passed));
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
    assert!(bench.notes().is_empty(), "{:?}", bench.notes());
    for (through, said) in [(false, 0), (true, 1)] {
        bench.engine =
            Engine::restore(senders.clone(), plan(entries(&["scan"], 2)), Timestamp(0), &[], &past).expect("it fits");
        bench.effects.clear();
        bench.fleet(&[(W1, 2), (W2, 2)]);
        for (grant, began) in grants.iter().zip([through, false]) {
            bench.feed(Input::WorkerBack { worker: grant.worker, holds: [grant.batch].into() });
            if began {
                bench.feed(Input::WasThrough { batch: grant.batch });
            }
        }
        let began = at_gate(&mut bench, &grants[1]);
        assert_eq!(began.len(), said, "with the first begun: {through}");
        assert_eq!(bench.notes().len(), said, "{:?}", bench.notes());
        if !through {
            assert_eq!(at_gate(&mut bench, &grants[0]).len(), 2);
        }
    }
}
