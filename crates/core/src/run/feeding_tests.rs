//! The engine with processes that stay and are fed. That its promises hold under faults is tested in `kesmo-sim`.

use std::collections::BTreeSet;

use super::{tests::*, *};
use crate::{
    plan::{Plan, PlannedEntry},
    time::Span,
    words::{Ended, Outcome, Verdict},
};
use Ended::{Crashed, Failed, Passed};

fn fed(entries: Vec<PlannedEntry>) -> Bench {
    Bench::new(Policy { fed: true, give_back: false, ..policy() }, entries)
}

/// What a process was fed by some effects, and whether it was told that nothing more comes.
fn feeds(effects: &[Effect]) -> Vec<(BatchId, Vec<u32>, bool)> {
    let feed = |e: &Effect| match e {
        Effect::Feed { batch, entries, last, .. } => Some((*batch, entries.clone(), *last)),
        _ => None,
    };
    effects.iter().filter_map(feed).collect()
}

impl Bench {
    /// A test of a fed process begins and ends; tells what the process was fed then.
    fn digest(&mut self, batch: BatchId, entry: u32, ended: Ended) -> Vec<(BatchId, Vec<u32>, bool)> {
        self.feed(Input::Began { batch, entry });
        self.now = self.now + Span::millis(10);
        feeds(&self.feed(Input::Ended { batch, entry, ended, spent: Span::millis(10), cases: 0, with_start: None }))
    }

    /// Feeds a process until it is told that nothing more comes; tells what it ran.
    fn run_stream(&mut self, grant: &Grant) -> Vec<u32> {
        let (mut open, mut ran) = (grant.entries.clone(), Vec::new());
        loop {
            let entry = open.remove(0);
            ran.push(entry);
            for (_, entries, last) in self.digest(grant.batch, entry, Passed) {
                open.extend(entries);
                if last {
                    assert!(open.is_empty(), "nothing is fed after the last");
                    self.over(grant.batch);
                    return ran;
                }
            }
        }
    }
}

#[test]
fn a_process_is_fed_one_test_after_the_other_and_told_when_there_is_none() {
    let mut bench = fed(names(3));
    let grant = bench.free(W1, 0).unwrap();
    assert_eq!((grant.entries.len(), grant.more), (1, true));
    let batch = grant.batch;
    let (_, second, last) = bench.digest(batch, grant.entries[0], Passed).remove(0);
    assert_eq!((second.len(), last), (1, false));
    let (_, third, _) = bench.digest(batch, second[0], Passed).remove(0);
    assert_eq!(bench.digest(batch, third[0], Passed), [(batch, Vec::new(), true)]);
    assert_eq!(bench.verdict(), None, "the process may still leave something behind");
    bench.over(batch);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn each_slot_has_one_process_and_all_is_run_once() {
    let mut bench = fed(names(200));
    let grants = [bench.free(W1, 0).unwrap(), bench.free(W1, 1).unwrap(), bench.free(W2, 0).unwrap()];
    let mut all: Vec<u32> = Vec::new();
    for grant in &grants {
        all.extend(bench.run_stream(grant));
    }
    assert!(bench.free(W2, 1).is_none());
    assert_eq!((all.len(), all.iter().collect::<BTreeSet<_>>().len()), (200, 200));
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn the_longest_goes_first_without_anything_being_dealt_out_before() {
    let mut bench = fed(vec![entry("a", 10), entry("b", 9000), entry("c", 500)]);
    let grant = bench.free(W1, 0).unwrap();
    assert_eq!(grant.entries, [1]);
    assert_eq!(bench.free(W1, 1).unwrap().entries, [2], "another slot takes what is longest then");
    assert_eq!(bench.digest(grant.batch, 1, Passed), [(grant.batch, vec![0], false)]);
}

#[test]
fn short_tests_are_fed_ahead_and_long_ones_are_not() {
    let ahead = |ms: u64, count: u32| {
        let mut bench = fed((0..count).map(|i| entry(&format!("t/{i}"), ms)).collect());
        let grant = bench.free(W1, 0).unwrap();
        let (batch, mut open, mut most) = (grant.batch, grant.entries, 0);
        for _ in 0..20 {
            let entry = open.remove(0);
            bench.feed(Input::Began { batch, entry });
            let ended =
                Input::Ended { batch, entry, ended: Passed, spent: Span::millis(ms), cases: 0, with_start: None };
            open.extend(feeds(&bench.feed(ended)).into_iter().flat_map(|f| f.1));
            most = most.max(open.len());
        }
        most
    };
    assert_eq!(ahead(100, 1000), 1, "the way there and back is short beside them");
    assert!(ahead(1, 1000) > 3, "{}", ahead(1, 1000));
    assert_eq!(ahead(1, 24), 2, "little is left: a quarter of a slot's part");
}

#[test]
fn a_retry_has_a_process_of_its_own_and_nothing_more_is_fed_to_it() {
    let mut bench = fed(names(2).into_iter().map(|e| PlannedEntry { retries: 1, ..e }).collect());
    let grant = bench.free(W1, 0).unwrap();
    let first = grant.entries[0];
    let (_, other, _) = bench.digest(grant.batch, first, Failed).remove(0);
    assert_ne!(other, [first], "the retry does not go back to this process");
    assert_eq!(bench.digest(grant.batch, other[0], Passed), [(grant.batch, Vec::new(), true)]);
    bench.over(grant.batch);
    let retry = bench.free(W1, 0).unwrap();
    assert_eq!((retry.entries.as_slice(), retry.more, retry.attempt), ([first].as_slice(), false, Some(2)));
    assert!(bench.digest(retry.batch, first, Passed).is_empty());
    bench.over(retry.batch);
    assert_eq!(bench.engine.entry(first).0, Some(Outcome::Flaky));
}

#[test]
fn what_a_process_had_when_it_died_goes_back_but_for_the_one_it_ran() {
    let mut bench = fed((0..1000).map(|i| entry(&format!("t/{i}"), 1)).collect());
    let grant = bench.free(W1, 0).unwrap();
    let (batch, mut open) = (grant.batch, grant.entries);
    for _ in 0..6 {
        let entry = open.remove(0);
        open.extend(bench.digest(batch, entry, Passed).into_iter().flat_map(|f| f.1));
    }
    let had = open.remove(0);
    bench.digest(batch, had, Crashed);
    let waiting = bench.engine.tally().waiting;
    bench.over(batch);
    assert_eq!(bench.engine.entry(had).0, Some(Outcome::Failed));
    assert!(open.iter().all(|i| bench.engine.entry(*i) == (None, false, 0)), "they are not charged");
    assert_eq!(bench.engine.tally().waiting, waiting);
    assert!(bench.free(W1, 0).unwrap().more, "a new process takes them");
}

#[test]
fn a_group_is_fed_in_order_to_one_process_and_no_other_has_it() {
    let of_group = |name: &str| PlannedEntry { group: Some(0), ..entry(name, 1000) };
    let mut bench = fed(vec![of_group("g/1"), entry("a", 9000), of_group("g/2"), of_group("g/3")]);
    let long = bench.free(W1, 0).unwrap();
    assert_eq!(long.entries, [1]);
    let group = bench.free(W1, 1).unwrap();
    assert_eq!(group.entries, [0, 2, 3]);
    assert!(bench.free(W2, 0).is_none());
}

fn claim(name: &str, claims: u32, ms: u64) -> PlannedEntry {
    PlannedEntry { claims, ..entry(name, ms) }
}

fn held(bench: &Bench) -> Vec<String> {
    bench.engine.held_claims().map(str::to_owned).collect()
}

#[test]
fn a_claim_is_held_by_the_test_that_a_process_was_fed_and_by_nothing_behind_it() {
    // One slot's process has the chain, as it is longer than each of the others.
    let mut bench = fed(vec![claim("a", 1, 1000), claim("b", 1, 1000), entry("c", 1500), entry("d", 100)]);
    let chain = bench.free(W1, 0).unwrap();
    assert_eq!((chain.entries.as_slice(), chain.more), ([0].as_slice(), true));
    assert_eq!(held(&bench), ["berth"]);
    let other = bench.free(W1, 1).unwrap();
    assert_eq!(other.entries, [2], "the claim's next test is not for another process");
    assert_eq!(bench.digest(chain.batch, 0, Passed), [(chain.batch, vec![1], false)]);
    assert_eq!(bench.digest(chain.batch, 1, Passed), [(chain.batch, vec![3], false)]);
    assert!(held(&bench).is_empty(), "nothing that it runs needs it");
}

#[test]
fn what_shares_a_claim_goes_to_whichever_process_is_free_when_it_is() {
    let mut bench = fed(vec![claim("a", 1, 3000), claim("b", 1, 10), entry("c", 2900), entry("d", 2800)]);
    let one = bench.free(W1, 0).unwrap();
    let two = bench.free(W1, 1).unwrap();
    assert_eq!((one.entries[0], two.entries[0]), (0, 2));
    // While it is held nothing that needs it is fed elsewhere, and the process goes on with what does not.
    assert_eq!(bench.digest(two.batch, 2, Passed), [(two.batch, vec![3], false)]);
    assert_eq!(bench.digest(two.batch, 3, Passed), [(two.batch, Vec::new(), true)], "only b is left, and is not free");
    bench.over(two.batch);
    assert!(bench.free(W1, 1).is_none());
    assert_eq!(
        bench.digest(one.batch, 0, Failed),
        [(one.batch, vec![1], false)],
        "told of as failed it is over as well"
    );
}

#[test]
fn what_ended_its_process_holds_its_claim_until_that_is_over() {
    let mut bench = fed(vec![claim("a", 1, 1000), claim("b", 1, 500), entry("c", 10)]);
    let chain = bench.free(W1, 0).unwrap();
    let fed = bench.digest(chain.batch, 0, Ended::TimedOut);
    assert_eq!(held(&bench), ["berth"], "it may still be at work: {fed:?}");
    assert!(bench.free(W1, 1).is_none_or(|grant| grant.entries == [2]));
    bench.over(chain.batch);
    assert!(held(&bench).is_empty());
    assert_eq!(bench.free(W2, 0).unwrap().entries[0], 1);
}

#[test]
fn short_tests_of_one_claim_are_fed_ahead_and_others_are_not_held_behind_them() {
    let chain = (0..400).map(|i| claim(&format!("db/{i}"), 1, 1));
    let mut bench = fed(chain.chain((0..400).map(|i| claim(&format!("crane/{i}"), 2, 1))).collect());
    let grant = bench.free(W1, 0).unwrap();
    let (batch, mut open, mut most) = (grant.batch, grant.entries, 0);
    let sets = |open: &[u32]| open.iter().map(|i| i / 400).collect::<BTreeSet<u32>>();
    while !open.is_empty() {
        let entry = open.remove(0);
        let told = bench.digest(batch, entry, Passed);
        // The second claim set holds the first one's claim, too, and one more: its tests come when nothing waits before them.
        open.extend(told.into_iter().flat_map(|f| f.1));
        most = most.max(open.len());
        let all: Vec<String> = held(&bench);
        match sets(&open).into_iter().collect::<Vec<_>>().as_slice() {
            [] => assert!(all.is_empty()),
            [0] => assert_eq!(all, ["berth"]),
            _ => assert_eq!(all, ["berth", "crane"]),
        }
    }
    assert!(most > 1, "{most}");
    bench.over(batch);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn what_another_run_holds_is_not_fed_until_it_is_free() {
    let mut bench = fed(vec![claim("a", 1, 10), entry("b", 1000), entry("c", 900)]);
    let grant = bench.free_with(W1, 0, &["berth"]).unwrap();
    assert_eq!(grant.entries, [1]);
    assert_eq!(bench.digest(grant.batch, 1, Passed), [(grant.batch, vec![2], false)]);
    bench.engine.others_hold(std::collections::BTreeMap::new());
    assert_eq!(bench.digest(grant.batch, 2, Passed), [(grant.batch, vec![0], false)]);
    assert!(bench.engine.minds_others(&Input::Tick), "it feeds at any time");
}

#[test]
fn an_engine_that_is_built_again_knows_which_claims_are_held() {
    let all = || vec![claim("a", 1, 1000), claim("b", 2, 900), entry("c", 1)];
    let mut bench = fed(all());
    let grant = bench.free(W1, 0).unwrap();
    let first = grant.entries[0];
    let (_, next, _) = bench.digest(grant.batch, first, Passed).remove(0);
    let attempts = bench.past_attempts();
    let entries = vec![first, next[0]];
    let open = PastBatch { batch: grant.batch, worker: W1, slot: 0, entries, granted_at: bench.now, open: true };
    let policy = Policy { fed: true, give_back: false, ..policy() };
    let before = held(&bench);
    bench.engine = Engine::restore(policy, plan(all()), bench.now, &attempts, &[open]).unwrap();
    assert_eq!(held(&bench), before);
    bench.fleet(&[(W1, 1)]);
    bench.digest(grant.batch, next[0], Passed);
    assert!(held(&bench).is_empty() || next[0] == 2, "{:?}", held(&bench));
}

#[test]
fn what_failed_of_late_is_fed_first_and_its_process_stays() {
    let late = PlannedEntry { first: true, ..entry("late", 10) };
    let mut bench = fed(names(20).into_iter().chain([late]).collect());
    let grant = bench.free(W1, 0).unwrap();
    assert_eq!((grant.entries.as_slice(), grant.more), ([20].as_slice(), true));
    assert_eq!(bench.digest(grant.batch, 20, Passed), [(grant.batch, vec![0], false)]);
}

#[test]
fn a_slot_that_is_wanted_elsewhere_is_no_longer_fed() {
    let mut bench = fed(names(50));
    let (one, two) = (bench.free(W1, 0).unwrap(), bench.free(W1, 1).unwrap());
    let closed = feeds(&bench.feed(Input::Wanted { slots: 1 }));
    assert_eq!(closed.len(), 1);
    let (batch, entries, last) = &closed[0];
    assert!(entries.is_empty() && *last);
    let grant = if *batch == one.batch { &one } else { &two };
    assert!(bench.digest(*batch, grant.entries[0], Passed).is_empty(), "it is fed nothing more");
    bench.over(*batch);
    let other = if *batch == one.batch { &two } else { &one };
    let overloaded = feeds(&bench.feed(Input::Overloaded { batch: other.batch }));
    assert_eq!(overloaded, [(other.batch, Vec::new(), true)]);
    assert_eq!(bench.engine.slots_given_up(), 1, "the other has not ended yet");
    assert!(feeds(&bench.feed(Input::Wanted { slots: 2 })).is_empty(), "none is left that is fed");
    bench.digest(other.batch, other.entries[0], Passed);
    bench.over(other.batch);
    assert!(bench.free(W1, 0).unwrap().more, "it goes on when it is its turn again");
}

#[test]
fn what_may_not_have_come_is_fed_again_when_a_worker_comes_back() {
    let mut bench = fed(names(10));
    let grant = bench.free(W1, 0).unwrap();
    let (_, next, _) = bench.digest(grant.batch, grant.entries[0], Passed).remove(0);
    let back = Input::WorkerBack { worker: W1, holds: BTreeSet::from([grant.batch]) };
    assert_eq!(feeds(&bench.feed(back)), [(grant.batch, next, false)]);
}

#[test]
fn an_engine_that_is_built_again_goes_on_feeding() {
    let mut bench = fed(names(5));
    let grant = bench.free(W1, 0).unwrap();
    let (_, next, _) = bench.digest(grant.batch, grant.entries[0], Passed).remove(0);
    let attempts = bench.past_attempts();
    let entries = vec![grant.entries[0], next[0]];
    let open = PastBatch { batch: grant.batch, worker: W1, slot: 0, entries, granted_at: bench.now, open: true };
    let policy = Policy { fed: true, give_back: false, ..policy() };
    let plan = Plan { ..plan(names(5)) };
    bench.engine = Engine::restore(policy, plan, bench.now, &attempts, &[open]).unwrap();
    bench.fleet(&[(W1, 1)]);
    let back = Input::WorkerBack { worker: W1, holds: BTreeSet::from([grant.batch]) };
    assert_eq!(feeds(&bench.feed(back)), [(grant.batch, next.clone(), false)]);
    let (_, third, last) = bench.digest(grant.batch, next[0], Passed).remove(0);
    assert_eq!((third.len(), last), (1, false));
}
