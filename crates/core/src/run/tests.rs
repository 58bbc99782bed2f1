//! The engine, case by case. That its promises hold under random faults is tested in `kesmo-sim`.

use std::collections::{BTreeMap, BTreeSet};

use super::*;
use crate::{
    name::TestName,
    plan::{Plan, PlannedEntry},
    suite::Variant,
    time::{Span, Timestamp},
    words::{Ended, Outcome, Phase, Verdict},
};

pub(super) const W1: WorkerId = WorkerId(1);
pub(super) const W2: WorkerId = WorkerId(2);

/// An engine with what it did, fed step by step on a clock of its own.
pub(super) struct Bench {
    pub engine: Engine,
    pub now: Timestamp,
    pub effects: Vec<Effect>,
}

pub(super) fn policy() -> Policy {
    Policy { run_limit: Span::seconds(3600), patience: Span::seconds(10), ..Policy::default() }
}

pub(super) fn entry(name: &str, ms: u64) -> PlannedEntry {
    let expected = (ms > 0).then_some(Span::millis(ms));
    PlannedEntry { expected, ..PlannedEntry::plain(TestName::parse(name).unwrap()) }
}

pub(super) fn plan(entries: Vec<PlannedEntry>) -> Plan {
    Plan {
        variants: vec![Variant::default()],
        listed: entries.len(),
        entries,
        claim_sets: vec![vec![], vec!["berth".into()], vec!["berth".into(), "crane".into()]],
        ..Plan::default()
    }
}

impl Bench {
    pub fn new(policy: Policy, entries: Vec<PlannedEntry>) -> Self {
        let mut bench = Self { engine: Engine::new(policy), now: Timestamp(0), effects: Vec::new() };
        bench.fleet(&[(W1, 2), (W2, 2)]);
        bench.feed(Input::Planned(plan(entries)));
        bench
    }

    pub fn feed(&mut self, input: Input) -> Vec<Effect> {
        let effects = self.engine.handle(input, self.now);
        self.effects.extend(effects.clone());
        effects
    }

    pub fn fleet(&mut self, workers: &[(WorkerId, u32)]) {
        let workers = workers.iter().map(|(worker, slots)| (*worker, Fit::all(*slots))).collect();
        self.feed(Input::Fleet { workers, none_because: "waiting for a worker".into(), none_for: BTreeMap::new() });
    }

    pub fn pass_time(&mut self, span: Span) -> Vec<Effect> {
        self.now = self.now + span;
        self.feed(Input::Tick)
    }

    pub fn free(&mut self, worker: WorkerId, slot: u16) -> Option<Grant> {
        self.free_with(worker, slot, &[])
    }

    pub fn free_with(&mut self, worker: WorkerId, slot: u16, taken: &[&str]) -> Option<Grant> {
        self.engine.others_hold(taken.iter().map(|t| ((*t).to_owned(), "fares/12".to_owned())).collect());
        self.feed(Input::Free { worker, slot }).into_iter().find_map(|effect| match effect {
            Effect::Grant(grant) => Some(grant),
            _ => None,
        })
    }

    pub fn end(&mut self, batch: BatchId, entry: u32, ended: Ended) -> Option<AttemptKept> {
        let input = Input::Ended { batch, entry, ended, spent: Span::millis(10), cases: 0, with_start: None };
        self.feed(input).into_iter().find_map(|effect| match effect {
            Effect::Attempt(kept) => Some(kept),
            _ => None,
        })
    }

    pub fn over(&mut self, batch: BatchId) {
        self.feed(Input::BatchEnded { batch, end: BatchEnd::Done });
    }

    /// Runs a grant whole: every entry ends as `how` says.
    pub fn run(&mut self, grant: &Grant, how: impl Fn(u32) -> Ended) {
        for index in &grant.entries {
            self.feed(Input::Began { batch: grant.batch, entry: *index });
            self.end(grant.batch, *index, how(*index));
        }
        self.over(grant.batch);
    }

    /// The attempts that were to be kept, as they are read back.
    pub fn past_attempts(&self) -> Vec<PastAttempt> {
        let past = |effect: &Effect| match effect {
            Effect::Attempt(k) => Some(PastAttempt {
                entry: k.entry,
                number: k.number,
                batch: k.batch,
                worker: k.worker,
                ended: k.ended,
                spent: k.spent,
                decided: k.decided,
            }),
            _ => None,
        };
        self.effects.iter().filter_map(past).collect()
    }

    pub fn notes(&self) -> Vec<String> {
        let note = |e: &Effect| if let Effect::Note(text) = e { Some(text.clone()) } else { None };
        self.effects.iter().filter_map(note).collect()
    }

    pub fn verdict(&self) -> Option<(Verdict, &str)> {
        self.engine.verdict()
    }
}

pub(super) fn names(count: u32) -> Vec<PlannedEntry> {
    (0..count).map(|i| entry(&format!("t/{i}"), 1000)).collect()
}

#[test]
fn the_longest_runs_first() {
    let mut bench = Bench::new(policy(), vec![entry("a", 10), entry("b", 9000), entry("c", 500), entry("d", 8000)]);
    assert_eq!(bench.free(W1, 0).unwrap().entries, [1]);
    assert_eq!(bench.free(W1, 1).unwrap().entries, [3]);
    assert_eq!(bench.free(W2, 0).unwrap().entries, [2], "a batch ends before it is worth more than its share");
    assert_eq!(bench.free(W2, 1).unwrap().entries, [0]);
    assert!(bench.free(W1, 0).is_none());
}

#[test]
fn batches_are_large_first_and_small_last() {
    let mut bench = Bench::new(policy(), names(100));
    let mut sizes = Vec::new();
    for slot in (0..2).cycle() {
        let Some(grant) = bench.free(W1, slot) else { break };
        sizes.push(grant.entries.len());
        bench.run(&grant, |_| Ended::Passed);
    }
    assert_eq!(sizes.iter().sum::<usize>(), 100);
    // A first round for the four slots that is nearly everything, as the durations are known, and then single ones.
    assert!(sizes[..4].iter().all(|n| *n >= 23) && sizes[4..].iter().all(|n| *n == 1), "{sizes:?}");
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn batches_are_made_for_the_slots_that_are_its_due_beside_other_runs() {
    let first = |due: Option<u32>| {
        let mut bench = Bench::new(policy(), names(100));
        bench.engine.share(due);
        bench.free(W1, 0).unwrap().entries.len()
    };
    let (alone, beside) = (first(None), first(Some(2)));
    assert!(alone >= 23 && beside >= 46, "of four slots: {alone}, of two: {beside}");
    assert_eq!(first(Some(40)), alone, "it has no more slots than there are");
}

#[test]
fn a_batch_holds_no_more_names_than_a_command_line_takes() {
    let mut bench = Bench::new(Policy { most_name_bytes: 20, ..policy() }, names(100));
    assert_eq!(bench.free(W1, 0).unwrap().entries.len(), 5, "each name takes 4 bytes with its end");
}

#[test]
fn verdicts_follow_the_outcomes() {
    use Ended::{Failed, Passed, Skipped};
    let cases: [(&[Ended], Verdict, &str); 5] = [
        (&[Passed, Passed], Verdict::Passed, ""),
        (&[Passed, Failed], Verdict::Failed, "1 of 2 failed"),
        (&[Passed, Skipped], Verdict::Passed, ""),
        (&[Skipped, Skipped], Verdict::Void, "nothing was tested: 2 skipped, 0 parked, none run"),
        (&[Failed, Skipped], Verdict::Failed, "1 of 2 failed"),
    ];
    for (ended, verdict, reason) in cases {
        let mut bench = Bench::new(policy(), names(ended.len() as u32));
        while let Some(grant) = bench.free(W1, 0) {
            bench.run(&grant, |i| ended[i as usize]);
        }
        assert_eq!(bench.verdict(), Some((verdict, reason)), "{ended:?}");
        assert_eq!(bench.engine.phase(), Phase::Finished);
    }
}

#[test]
fn a_run_waits_for_the_end_of_its_batches() {
    let mut bench = Bench::new(policy(), names(1));
    let grant = bench.free(W1, 0).unwrap();
    bench.end(grant.batch, 0, Ended::Passed);
    assert_eq!(bench.verdict(), None, "what the batch leaves behind is still to come");
    bench.over(grant.batch);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

fn with_retries(retries: u8, count: u32) -> Vec<PlannedEntry> {
    names(count).into_iter().map(|e| PlannedEntry { retries, ..e }).collect()
}

#[test]
fn a_retry_has_a_process_of_its_own_and_makes_the_entry_flaky() {
    let mut bench = Bench::new(policy(), with_retries(2, 3));
    let mut retried = 0;
    for _ in 0..20 {
        let Some(grant) = bench.free(W1, 0) else { break };
        if grant.attempt.is_some_and(|n| n > 1) {
            retried += 1;
            assert_eq!(grant.entries.len(), 1);
            bench.run(&grant, |_| if grant.attempt == Some(3) { Ended::Passed } else { Ended::Failed });
        } else {
            bench.run(&grant, |i| if i == 1 { Ended::Failed } else { Ended::Passed });
        }
    }
    assert_eq!(retried, 2);
    let tally = bench.engine.tally();
    assert_eq!((tally.passed, tally.flaky, tally.failed), (2, 1, 0));
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn every_way_of_failing_uses_a_retry_up() {
    let mut bench = Bench::new(policy(), with_retries(2, 1));
    for (number, ended) in [(1, Ended::Failed), (2, Ended::TimedOut), (3, Ended::Crashed)] {
        let grant = bench.free(W1, 0).unwrap();
        assert_eq!(grant.attempt, Some(number));
        let kept = bench.end(grant.batch, 0, ended).unwrap();
        assert_eq!((kept.number, kept.decided), (number, (number == 3).then_some(Outcome::Failed)));
        bench.over(grant.batch);
    }
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 failed")));
}

#[test]
fn a_test_that_failed_and_then_skips_itself_has_failed() {
    let mut bench = Bench::new(policy(), with_retries(1, 1));
    let first = bench.free(W1, 0).unwrap();
    bench.run(&first, |_| Ended::Failed);
    let second = bench.free(W1, 0).unwrap();
    bench.run(&second, |_| Ended::Skipped);
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 failed")));
}

#[test]
fn a_retry_waits_for_its_pause() {
    let mut bench = Bench::new(Policy { pause: Span::millis(500), ..policy() }, with_retries(1, 1));
    let grant = bench.free(W1, 0).unwrap();
    bench.run(&grant, |_| Ended::Failed);
    assert!(bench.free(W1, 0).is_none());
    assert_eq!(bench.engine.wake_at(bench.now), Some(Timestamp(500_000)));
    bench.pass_time(Span::millis(500));
    assert!(bench.free(W1, 0).is_some());
}

#[test]
fn a_retry_goes_to_another_worker_while_one_is_there() {
    let asked = Policy { other_worker: true, ..policy() };
    let mut bench = Bench::new(asked.clone(), with_retries(1, 1));
    let grant = bench.free(W1, 0).unwrap();
    bench.run(&grant, |_| Ended::Failed);
    assert!(bench.free(W1, 0).is_none());
    assert!(bench.free(W2, 0).is_some());

    let mut alone = Bench::new(asked, with_retries(1, 1));
    let grant = alone.free(W1, 0).unwrap();
    alone.run(&grant, |_| Ended::Failed);
    alone.fleet(&[(W1, 2)]);
    assert!(alone.free(W1, 0).is_some(), "no other worker is there");
}

#[test]
fn retries_stop_when_too_much_has_failed() {
    let mut bench = Bench::new(Policy { give_up_after: Some(20), ..policy() }, with_retries(3, 10));
    let mut attempts = 0;
    while let Some(grant) = bench.free(W1, 0) {
        attempts += grant.entries.len();
        bench.run(&grant, |_| Ended::Failed);
    }
    assert!(attempts < 20, "{attempts} attempts of 10 entries");
    assert_eq!(bench.engine.tally().failed, 10);
    assert_eq!(bench.notes(), ["no more retries: 3 of 10 tests failed, more than 20% (give-up-after in [retry])"]);
}

#[test]
fn a_repeated_message_changes_nothing() {
    let mut bench = Bench::new(policy(), names(2));
    let grant = bench.free(W1, 0).unwrap();
    assert!(bench.end(grant.batch, grant.entries[0], Ended::Passed).is_some());
    assert!(bench.end(grant.batch, grant.entries[0], Ended::Failed).is_none());
    bench.over(grant.batch);
    assert!(bench.feed(Input::BatchEnded { batch: grant.batch, end: BatchEnd::Done }).is_empty());
    assert!(bench.end(grant.batch, grant.entries[0], Ended::Failed).is_none());
    assert_eq!(bench.engine.stats().ended, 1);
}

#[test]
fn messages_about_nothing_known_are_left_aside() {
    let mut bench = Bench::new(policy(), names(1));
    let grant = bench.free(W1, 0).unwrap();
    assert!(bench.end(BatchId(99), 0, Ended::Passed).is_none());
    assert!(bench.end(grant.batch, 7, Ended::Passed).is_none());
    assert!(bench.feed(Input::Began { batch: grant.batch, entry: 7 }).is_empty());
    assert!(bench.end(grant.batch, 0, Ended::Lost).is_none(), "a worker cannot say of itself that it is lost");
    assert_eq!(bench.verdict(), None);
}

#[test]
fn what_a_batch_did_not_run_goes_back_uncharged() {
    let mut bench = Bench::new(policy(), names(40));
    let grant = bench.free(W1, 0).unwrap();
    assert!(grant.entries.len() > 2);
    bench.end(grant.batch, grant.entries[0], Ended::Crashed);
    let effects = bench.feed(Input::BatchEnded { batch: grant.batch, end: BatchEnd::Done });
    let back = effects.iter().filter(|e| matches!(e, Effect::WentBack { .. })).count();
    assert_eq!(back, grant.entries.len() - 1);
    assert_eq!(bench.engine.entry(grant.entries[1]), (None, false, 0));
}

#[test]
fn a_lost_attempt_does_not_count_but_five_in_a_row_do() {
    let mut bench = Bench::new(policy(), names(1));
    for round in 1..=MOST_LOST_IN_A_ROW {
        let grant = bench.free(W1, 0).unwrap_or_else(|| panic!("round {round}"));
        bench.feed(Input::Began { batch: grant.batch, entry: 0 });
        bench.feed(Input::WorkerLost { worker: W1 });
        assert_eq!(bench.engine.tally().failed, u32::from(round == MOST_LOST_IN_A_ROW));
    }
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 failed")));
    assert_eq!(bench.notes(), ["t/0 failed: its worker was lost 5 times in a row while it ran"]);
    assert_eq!(bench.engine.stats().ended, 0);
}

#[test]
fn that_nobody_saw_how_a_process_ended_is_said() {
    let mut bench = Bench::new(policy(), names(1));
    let grant = bench.free(W1, 0).unwrap();
    bench.end(grant.batch, 0, Ended::Passed);
    bench.feed(Input::WorkerLost { worker: W1 });
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
    let said = "a process was lost with its worker when its tests had their results: how it ended is not known";
    assert_eq!(bench.notes(), [said]);
}

#[test]
fn a_worker_that_comes_back_keeps_what_it_holds_and_ends_what_is_not_its() {
    let mut bench = Bench::new(policy(), names(40));
    let kept = bench.free(W1, 0).unwrap();
    let gone = bench.free(W1, 1).unwrap();
    let holds = BTreeSet::from([kept.batch, BatchId(77)]);
    let effects = bench.feed(Input::WorkerBack { worker: W1, holds });
    assert!(effects.contains(&Effect::Revoke { worker: W1, batch: BatchId(77) }));
    assert!(effects.contains(&Effect::BatchOver { batch: gone.batch }));
    assert!(bench.end(kept.batch, kept.entries[0], Ended::Passed).is_some());
    assert!(bench.end(gone.batch, gone.entries[1], Ended::Passed).is_none());
}

fn grouped() -> Vec<PlannedEntry> {
    let group = |name: &str, group| PlannedEntry { group: Some(group), retries: 1, ..entry(name, 1000) };
    vec![group("g/a", 0), entry("x", 10), group("g/b", 0), group("h/a", 1), group("g/c", 0)]
}

#[test]
fn a_group_stays_together_in_listed_order() {
    let mut bench = Bench::new(policy(), grouped());
    assert_eq!(bench.free(W1, 0).unwrap().entries, [0, 2, 4]);
    assert_eq!(bench.free(W1, 1).unwrap().entries, [3]);
    assert_eq!(bench.free(W2, 0).unwrap().entries, [1]);
}

#[test]
fn a_retry_does_not_run_beside_its_group() {
    let mut bench = Bench::new(policy(), grouped());
    let group = bench.free(W1, 0).unwrap();
    bench.free(W1, 1).unwrap();
    bench.free(W2, 0).unwrap();
    bench.end(group.batch, 0, Ended::Failed);
    assert!(bench.free(W2, 1).is_none(), "its group still runs");
    bench.end(group.batch, 2, Ended::Passed);
    bench.end(group.batch, 4, Ended::Passed);
    bench.over(group.batch);
    assert_eq!(bench.free(W2, 1).unwrap().entries, [0]);
}

#[test]
fn claims_do_not_overlap_within_a_run_nor_with_others() {
    let claim = |name: &str, claims| PlannedEntry { claims, ..entry(name, 1000) };
    let mut bench = Bench::new(policy(), vec![claim("a", 1), claim("b", 2), entry("c", 10)]);
    let first = bench.free(W1, 0).unwrap();
    assert_eq!(bench.engine.held_claims().collect::<Vec<_>>(), ["berth"]);
    assert_eq!(bench.free(W1, 1).unwrap().entries, [2], "only what claims nothing may run beside it");
    assert!(bench.free(W2, 0).is_none());
    bench.run(&first, |_| Ended::Passed);
    assert!(bench.free_with(W2, 0, &["crane"]).is_none(), "another run has the crane");
    assert_eq!(bench.free(W2, 0).unwrap().entries, [1]);
}

#[test]
fn shards_bound_the_slots_in_use() {
    let mut bench = Bench::new(Policy { shards: Some(2), ..policy() }, names(40));
    let grant = bench.free(W1, 0).unwrap();
    assert!(bench.free(W1, 1).is_some() && !bench.engine.wants_slots());
    assert!(bench.free(W2, 0).is_none());
    bench.run(&grant, |_| Ended::Passed);
    assert!(bench.free(W2, 0).is_some());
}

#[test]
fn a_run_without_a_worker_says_so_and_turns_void() {
    let mut bench = Bench::new(policy(), names(2));
    bench.fleet(&[]);
    assert_eq!(bench.engine.waiting_for(), Some("waiting for a worker"));
    bench.pass_time(Span::seconds(9));
    assert_eq!(bench.verdict(), None);
    bench.fleet(&[(W1, 1)]);
    assert_eq!(bench.engine.waiting_for(), None);
    bench.fleet(&[]);
    bench.pass_time(Span::seconds(9));
    assert_eq!(bench.verdict(), None, "the wait begins anew");
    bench.pass_time(Span::seconds(1));
    let (verdict, reason) = bench.verdict().unwrap();
    assert_eq!(verdict, Verdict::Void);
    assert_eq!(reason, "waiting for a worker; none came within 10 s (patience in [limits])");
    assert_eq!(bench.engine.tally().not_run, 2);
}

#[test]
fn workers_that_can_do_nothing_for_a_run_are_left_and_when_none_is_left_it_is_void() {
    let mut bench = Bench::new(policy(), names(1));
    for (worker, last) in [(W1, false), (W2, true)] {
        let grant = bench.free(worker, 0).unwrap();
        let end = BatchEnd::Unfit("no such program".into());
        bench.feed(Input::BatchEnded { batch: grant.batch, end });
        assert!(bench.free(worker, 0).is_none());
        assert_eq!(bench.verdict().is_some(), last);
    }
    assert_eq!(bench.verdict(), Some((Verdict::Void, "no worker can carry it out: no such program")));
}

#[test]
fn processes_that_never_report_anything_make_the_run_void() {
    let mut bench = Bench::new(policy(), with_retries(5, 50));
    for _ in 0..MOST_BARREN_BATCHES {
        assert_eq!(bench.verdict(), None);
        let grant = bench.free(W1, 0).unwrap();
        bench.end(grant.batch, grant.entries[0], Ended::Crashed);
        bench.over(grant.batch);
    }
    let (verdict, reason) = bench.verdict().unwrap();
    assert_eq!((verdict, reason), (Verdict::Void, "nothing was tested: 10 processes ended without a single result"));
}

#[test]
fn a_stop_ends_everything_at_once() {
    let mut bench = Bench::new(policy(), names(40));
    let grant = bench.free(W1, 0).unwrap();
    bench.end(grant.batch, grant.entries[0], Ended::Passed);
    let effects = bench.feed(Input::Stop { reason: "stopped by asta".into() });
    assert!(effects.contains(&Effect::Revoke { worker: W1, batch: grant.batch }));
    assert_eq!(bench.verdict(), Some((Verdict::Stopped, "stopped by asta")));
    let tally = bench.engine.tally();
    assert_eq!((tally.passed, tally.not_run, tally.total()), (1, 39, 40));
    assert!(bench.end(grant.batch, grant.entries[1], Ended::Failed).is_none(), "late results change nothing");
    assert_eq!(bench.engine.wake_at(bench.now), None);
    let back = bench.feed(Input::WorkerBack { worker: W1, holds: BTreeSet::from([grant.batch]) });
    assert_eq!(back, [Effect::Revoke { worker: W1, batch: grant.batch }]);
}

#[test]
fn a_run_past_its_limit_is_stopped() {
    let mut bench = Bench::new(Policy { run_limit: Span::seconds(60), ..policy() }, names(2));
    bench.free(W1, 0).unwrap();
    assert_eq!(bench.engine.wake_at(bench.now), Some(Timestamp(60_000_000)));
    bench.pass_time(Span::seconds(60));
    let (verdict, reason) = bench.verdict().unwrap();
    assert_eq!(verdict, Verdict::Stopped);
    assert_eq!(reason, "it ran longer than the suite's limit of 1 m 00 s (run in [limits])");
}

/// Whether the run is said to take that long, in seconds.
fn says(bench: &Bench, seconds: f64) -> bool {
    let left = bench.engine.time_left(bench.now).expect("it is known");
    (left.low_us as f64 / 1e6..=left.high_us as f64 / 1e6).contains(&seconds) && left.low_us <= left.likely_us
}

#[test]
fn time_left_follows_what_is_left() {
    let mut bench = Bench::new(policy(), names(80));
    bench.fleet(&[(W1, 2)]);
    assert!(says(&bench, 40.0) && !says(&bench, 30.0) && !says(&bench, 50.0));
    let grant = bench.free(W1, 0).unwrap();
    for index in &grant.entries {
        bench.feed(Input::Began { batch: grant.batch, entry: *index });
        bench.now = bench.now + Span::seconds(1);
        bench.feed(Input::Ended {
            batch: grant.batch,
            entry: *index,
            ended: Ended::Passed,
            spent: Span::seconds(1),
            cases: 0,
            with_start: None,
        });
    }
    let left = f64::from(bench.engine.tally().waiting) / 2.0;
    assert!(says(&bench, left) && !says(&bench, left * 1.3), "{left}");
}

#[test]
fn time_left_is_not_said_while_nobody_can_work() {
    let mut bench = Bench::new(policy(), names(8));
    bench.fleet(&[]);
    assert!(bench.engine.time_left(bench.now).is_none(), "no worker is there");
    bench.fleet(&[(W1, 2)]);
    assert!(bench.engine.time_left(bench.now).is_some());
    bench.fleet(&[]);
    assert!(bench.engine.time_left(bench.now).is_none(), "none is there any more");
}

#[test]
fn time_left_is_not_guessed_from_one_or_two_tests_of_unknown_length() {
    let strangers = names(9).into_iter().map(|e| PlannedEntry { expected: None, ..e }).collect();
    let mut bench = Bench::new(policy(), strangers);
    bench.fleet(&[(W1, 1)]);
    let grant = bench.free(W1, 0).unwrap();
    let mut shown = vec![bench.engine.time_left(bench.now).is_some()];
    for index in grant.entries.iter().take(4) {
        bench.feed(Input::Began { batch: grant.batch, entry: *index });
        bench.end(grant.batch, *index, Ended::Passed);
        shown.push(bench.engine.time_left(bench.now).is_some());
    }
    assert_eq!(shown, [false, false, false, true, true], "of nine");
}

#[test]
fn time_left_follows_the_pace_of_this_run() {
    let mut bench = Bench::new(policy(), names(60));
    bench.fleet(&[(W1, 1)]);
    let grant = bench.free(W1, 0).unwrap();
    for index in grant.entries.iter().take(30) {
        let input = Input::Ended {
            batch: grant.batch,
            entry: *index,
            ended: Ended::Passed,
            spent: Span::seconds(3),
            cases: 0,
            with_start: None,
        };
        bench.feed(input);
    }
    assert!(says(&bench, 90.0) && !says(&bench, 60.0), "three times what the record says");
}

#[test]
fn what_failed_is_taken_to_fail_as_slowly_again() {
    let mut bench = Bench::new(policy(), with_retries(20, 2));
    bench.fleet(&[(W1, 1)]);
    let grant = bench.free(W1, 0).unwrap();
    for index in &grant.entries {
        // Each ran into its limit, far beyond what it takes when it passes.
        let timed_out = Input::Ended {
            batch: grant.batch,
            entry: *index,
            ended: Ended::TimedOut,
            spent: Span::seconds(30),
            cases: 0,
            with_start: None,
        };
        bench.feed(timed_out);
    }
    bench.over(grant.batch);
    let left = bench.engine.time_left(bench.now).expect("it is known");
    let retries = grant.entries.len() as u64;
    assert!(left.likely_us >= retries * 30_000_000, "{retries} retries of half a minute: {left:?}");
}

#[test]
fn an_engine_built_again_goes_on_where_it_was() {
    let mut bench = Bench::new(policy(), with_retries(1, 4));
    let first = bench.free(W1, 0).unwrap();
    let kept = bench.end(first.batch, first.entries[0], Ended::Failed).unwrap();
    let past_attempt = PastAttempt {
        entry: kept.entry,
        number: kept.number,
        batch: kept.batch,
        worker: W1,
        ended: kept.ended,
        spent: kept.spent,
        decided: None,
    };
    let past_batch = PastBatch {
        batch: first.batch,
        worker: W1,
        slot: 0,
        entries: first.entries.clone(),
        granted_at: Timestamp(0),
        open: true,
    };
    let engine =
        Engine::restore(policy(), plan(with_retries(1, 4)), Timestamp(0), &[past_attempt], &[past_batch]).unwrap();
    let mut again = Bench { engine, now: Timestamp(0), effects: Vec::new() };
    again.fleet(&[(W1, 2), (W2, 2)]);
    assert_eq!(again.engine.slots_in_use(), 1);
    assert_eq!(again.engine.stats().ended, 1);
    assert!(again.end(first.batch, first.entries[0], Ended::Failed).is_none(), "it was counted before");
    let mut granted = Vec::new();
    while let Some(grant) = again.free(W2, 0) {
        assert!(grant.batch > first.batch, "numbers go on");
        granted.extend(grant.entries.clone());
        again.run(&grant, |_| Ended::Passed);
    }
    assert!(granted.contains(&first.entries[0]), "its retry is due");
    for index in &first.entries[1..] {
        again.end(first.batch, *index, Ended::Passed);
    }
    again.over(first.batch);
    let tally = again.engine.tally();
    assert_eq!((tally.flaky, tally.passed), (1, 3));
    assert_eq!(again.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn a_void_before_the_plan_needs_no_entries() {
    let mut engine = Engine::new(policy());
    let effects = engine.handle(Input::Void("listing failed".into()), Timestamp(0));
    assert!(effects.contains(&Effect::Verdict { verdict: Verdict::Void, reason: "listing failed".into() }));
    assert!(engine.handle(Input::Planned(plan(names(1))), Timestamp(1)).is_empty(), "it is over");
}

#[test]
fn what_was_made_of_a_plan_beforehand_is_gone_by_as_if_it_came_just_now() {
    let parked = |(i, e): (usize, PlannedEntry)| PlannedEntry { parked: (i == 1).then_some(0), ..e };
    let planned = || {
        let entries = grouped().into_iter().chain(with_retries(2, 3)).enumerate().map(parked).collect();
        Plan { notes: vec!["one is parked".into()], unlisted: vec!["phone".into()], ..plan(entries) }
    };
    let told = |prepared: bool, policy: Policy| {
        let mut bench = Bench { engine: Engine::new(policy.clone()), now: Timestamp(0), effects: Vec::new() };
        // What it is told while others make that of its plan stays.
        let before = Prepared::of(&policy, planned());
        assert_eq!(before.entries(), planned().entries.len());
        bench.fleet(&[(W1, 1), (W2, 3)]);
        bench.engine.know_start_cost(Some(Span::millis(700)));
        bench.now = Timestamp(5_000_000);
        if prepared {
            let effects = bench.engine.go_by(before, bench.now);
            bench.effects.extend(effects);
            let nothing = bench.engine.go_by(Prepared::of(&policy, plan(names(1))), bench.now);
            assert!(nothing.is_empty(), "it has its plan");
        } else {
            bench.feed(Input::Planned(planned()));
        }
        let told = format!("{:?}", bench.engine);
        let drawn = drawn(&mut bench);
        (told, drawn, bench.effects)
    };
    for policy in
        [policy(), Policy { shuffle: Some(7), ..policy() }, Policy { run_parked: true, fed: true, ..policy() }]
    {
        assert_eq!(told(true, policy.clone()), told(false, policy));
    }
    let mut over = Engine::new(policy());
    over.handle(Input::Stop { reason: "enough".into() }, Timestamp(0));
    assert!(over.go_by(Prepared::of(&policy(), planned()), Timestamp(1)).is_empty());
    assert_eq!((over.verdict().map(|v| v.0), over.plan().entries.len()), (Some(Verdict::Stopped), 0));
}

#[test]
fn slots_offered_while_listing_are_not_taken() {
    let mut bench = Bench { engine: Engine::new(policy()), now: Timestamp(0), effects: Vec::new() };
    bench.fleet(&[(W1, 1)]);
    assert!(bench.free(W1, 0).is_none());
    assert!(!bench.engine.wants_slots());
    bench.feed(Input::Planned(plan(names(1))));
    assert!(bench.engine.wants_slots());
}

proptest::proptest! {
    /// Whatever order results and ends come in, every entry ends with one outcome and the tally agrees.
    #[test]
    fn every_order_of_results_ends_well(
        ended in proptest::collection::vec(0u8..4, 1..40),
        retries in 0u8..3,
        slots in 1u16..4,
    ) {
        let count = ended.len() as u32;
        let mut bench = Bench::new(policy(), with_retries(retries, count));
        let how = |i: u32| [Ended::Passed, Ended::Failed, Ended::Skipped, Ended::TimedOut][usize::from(ended[i as usize])];
        for round in 0..10_000 {
            if bench.verdict().is_some() {
                break;
            }
            proptest::prop_assert!(round < 9_999, "it does not end");
            for slot in 0..slots {
                if let Some(grant) = bench.free(W1, slot) {
                    bench.run(&grant, how);
                }
            }
        }
        let tally = bench.engine.tally();
        proptest::prop_assert_eq!(tally.done(), count);
        let failing = ended.iter().filter(|e| matches!(e, 1 | 3)).count() as u32;
        proptest::prop_assert_eq!(tally.failed, failing);
        let attempts = bench.engine.stats().ended;
        proptest::prop_assert_eq!(attempts, count + failing * u32::from(retries));
    }
}

/// Runs everything on one slot; tells the batches in the order in which they were granted.
fn drawn(bench: &mut Bench) -> Vec<Vec<u32>> {
    let mut batches = Vec::new();
    while let Some(grant) = bench.free(W1, 0) {
        bench.run(&grant, |_| Ended::Passed);
        batches.push(grant.entries);
    }
    batches
}

#[test]
fn parked_entries_do_not_run_and_do_not_count() {
    let park = |e: PlannedEntry| PlannedEntry { parked: Some(0), ..e };
    let entries: Vec<_> = names(3).into_iter().enumerate().map(|(i, e)| if i == 1 { park(e) } else { e }).collect();
    let mut bench = Bench::new(policy(), entries.clone());
    assert!(bench.effects.contains(&Effect::Decided { entry: 1, number: 0, outcome: Outcome::Parked }));
    assert!(drawn(&mut bench).iter().flatten().all(|i| *i != 1));
    assert_eq!((bench.engine.tally().parked, bench.verdict()), (1, Some((Verdict::Passed, ""))));

    let mut bench = Bench::new(Policy { run_parked: true, ..policy() }, entries);
    while let Some(grant) = bench.free(W1, 0) {
        bench.run(&grant, |i| if i == 1 { Ended::Failed } else { Ended::Passed });
    }
    assert_eq!((bench.engine.tally().parked, bench.engine.stats().ended), (1, 2));
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")), "its failure does not count");
    let only = Bench::new(policy(), names(2).into_iter().map(park).collect());
    assert_eq!(only.verdict().map(|v| v.0), Some(Verdict::Void), "a run that tested nothing never passes");
}

#[test]
fn flaky_fails_where_that_is_asked_for() {
    let mut bench = Bench::new(Policy { flaky_fails: true, ..policy() }, with_retries(1, 1));
    let first = bench.free(W1, 0).unwrap();
    bench.run(&first, |_| Ended::Failed);
    let again = bench.free(W1, 0).unwrap();
    bench.run(&again, |_| Ended::Passed);
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 flaky, which fails this run (--flaky-fails)")));
}

#[test]
fn a_shuffled_order_follows_from_the_seed() {
    let order = |seed: u64| -> Vec<u32> {
        let mut bench = Bench::new(Policy { shuffle: Some(seed), ..policy() }, names(50));
        drawn(&mut bench).concat()
    };
    assert_eq!(order(7), order(7));
    assert_ne!(order(7), order(8));
    let mut all = order(7);
    assert!(!all.is_sorted());
    all.sort_unstable();
    assert_eq!(all, (0..50).collect::<Vec<_>>());
}

#[test]
fn an_order_is_repeated_batch_by_batch() {
    let mut bench = Bench { engine: Engine::new(policy()), now: Timestamp(0), effects: Vec::new() };
    bench.fleet(&[(W1, 2)]);
    let order = Some(vec![vec![2, 0], vec![1], vec![3]]);
    bench.feed(Input::Planned(Plan { order, ..plan(names(4)) }));
    assert_eq!(drawn(&mut bench), [vec![2, 0], vec![1], vec![3]]);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn repetitions_of_a_test_do_not_share_a_process() {
    let repeated = (0..6).map(|i| PlannedEntry { repeat: 1 + i % 3, ..entry(&format!("t/{}", i / 3), 1) }).collect();
    let mut bench = Bench::new(policy(), repeated);
    for batch in drawn(&mut bench) {
        let of: BTreeSet<u32> = batch.iter().map(|i| i % 3).collect();
        assert_eq!(of.len(), 1, "{batch:?}");
    }
}

#[test]
fn a_chain_of_claims_is_begun_before_longer_single_tests() {
    let chain = (0..20).map(|i| PlannedEntry { claims: 1, ..entry(&format!("db/{i}"), 1000) });
    let mut bench = Bench::new(policy(), chain.chain([entry("long", 5000)]).collect());
    let chain = bench.free(W1, 0).unwrap();
    assert!(chain.entries[0] < 20, "20 s one after the other outlast 5 s");
    assert_eq!(chain.entries.len(), 20, "they cannot run side by side, so that one process is enough");
    assert_eq!(bench.free(W1, 1).unwrap().entries, [20]);
}

#[test]
fn a_batch_that_the_next_test_is_too_long_for_is_filled_with_the_longest_that_are_not() {
    let of =
        || [500, 500, 200, 200, 100, 100].iter().enumerate().map(|(i, ms)| entry(&format!("t/{i}"), *ms)).collect();
    let known = Policy { start_cost: Some(Span::millis(50)), ..policy() };
    let both = |policy: Policy, entries: Vec<PlannedEntry>| {
        let mut bench = Bench::new(policy, entries);
        bench.fleet(&[(W1, 2)]);
        [bench.free(W1, 0).unwrap().entries, bench.free(W1, 1).unwrap().entries]
    };
    assert_eq!(both(known.clone(), of()), [[0, 2, 4], [1, 3, 5]], "each slot has its share in one process");
    // What is short is kept where it is not known how long the others take.
    let unsure = |e: PlannedEntry| PlannedEntry { spread: Span(e.expected.unwrap().0 / 2), ..e };
    let short = (0..10).map(|i| entry(&format!("s/{i}"), 60));
    let entries: Vec<PlannedEntry> = [entry("a", 500), entry("b", 500)].into_iter().chain(short).collect();
    assert_eq!(both(known.clone(), entries.clone())[0].len(), 6);
    assert_eq!(both(known.clone(), entries.into_iter().map(unsure).collect())[0], [0]);
    // A group is not parted for that, and keeps its batch to itself.
    let grouped = |i: usize| move |(at, e): (usize, PlannedEntry)| PlannedEntry { group: (at >= i).then_some(0), ..e };
    let entries: Vec<PlannedEntry> = of();
    let [first, second] = both(known.clone(), entries.into_iter().enumerate().map(grouped(4)).collect());
    assert_eq!((first, second), (vec![0, 2], vec![1, 3]));
    // A drawn order is kept.
    let shuffled = both(Policy { shuffle: Some(3), ..known }, of());
    let drawn: Vec<u32> = shuffled.concat();
    let mut alone = Bench::new(Policy { shuffle: Some(3), ..policy() }, of());
    alone.fleet(&[(W1, 1)]);
    assert!(alone.free(W1, 0).unwrap().entries.starts_with(&drawn[..drawn.len().min(3)]), "{shuffled:?}");
}

#[test]
fn what_failed_recently_goes_first_but_not_before_what_would_end_last() {
    let mut entries = names(40);
    entries[7].first = true;
    let mut bench = Bench::new(policy(), entries.clone());
    assert_eq!(bench.free(W1, 0).unwrap().entries, [7]);
    entries.push(entry("very-long", 60_000));
    let mut bench = Bench::new(policy(), entries);
    assert_eq!(bench.free(W1, 0).unwrap().entries, [40]);
    assert_eq!(bench.free(W1, 1).unwrap().entries, [7]);
}

#[test]
fn a_slow_batch_gives_back_what_it_has_not_begun() {
    let mut bench = Bench::new(policy(), names(8));
    bench.fleet(&[(W1, 1)]);
    let slow = bench.free(W1, 0).unwrap();
    assert_eq!(slow.entries, (0..8).collect::<Vec<_>>());
    bench.feed(Input::Began { batch: slow.batch, entry: 0 });
    bench.fleet(&[(W1, 1), (W2, 1)]);
    bench.pass_time(Span::seconds(1));
    let asked = bench.feed(Input::Idle { slots: 1 });
    let [Effect::GiveBack { worker: W1, batch, from: Some(from) }] = asked[..] else { panic!("{asked:?}") };
    assert_eq!((batch, bench.engine.slots_given_up(), bench.engine.still_asked()), (slow.batch, 0, 1));
    assert!((3..=5).contains(&from), "about half: from {from} of 8");
    assert!(bench.feed(Input::Idle { slots: 1 }).is_empty(), "it is asked once");
    bench.pass_time(Span::seconds(5));
    assert_eq!(bench.feed(Input::Idle { slots: 1 }).len(), 1, "once more, as its worker may not have heard it");
    // Its worker does not know in which order its tests run, and gives all.
    bench.feed(Input::GaveBack { batch: slow.batch, entries: (2..8).collect() });
    assert_eq!(bench.engine.still_asked(), 0);
    let other = bench.free(W2, 0).unwrap();
    assert!(other.entries.iter().all(|i| *i >= 2) && other.entries.len() < 6, "{:?}", other.entries);
    assert!(bench.end(slow.batch, 2, Ended::Passed).is_none(), "what was given back is no longer its");
    assert!(bench.end(slow.batch, 1, Ended::Passed).is_some());
    bench.run(&other, |_| Ended::Passed);
    bench.end(slow.batch, 0, Ended::Passed);
    bench.over(slow.batch);
    drawn(&mut bench);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn groups_claims_and_small_rests_are_not_asked_back() {
    let cases: [Vec<PlannedEntry>; 3] = [
        names(8).into_iter().map(|e| PlannedEntry { group: Some(0), ..e }).collect(),
        names(8).into_iter().map(|e| PlannedEntry { claims: 1, ..e }).collect(),
        (0..8).map(|i| entry(&format!("t/{i}"), 20)).collect(),
    ];
    for entries in cases {
        let mut bench = Bench::new(policy(), entries);
        bench.fleet(&[(W1, 1)]);
        let grant = bench.free(W1, 0).unwrap();
        bench.feed(Input::Began { batch: grant.batch, entry: grant.entries[0] });
        bench.pass_time(Span::seconds(1));
        assert!(bench.feed(Input::Idle { slots: 3 }).is_empty());
    }
}

#[test]
fn a_variant_runs_only_where_it_may_and_is_left_unrun_after_a_while() {
    let mut bench = Bench { engine: Engine::new(policy()), now: Timestamp(0), effects: Vec::new() };
    let variant = |value: &str| Variant::of(vec![("screen".into(), value.into())]);
    let workers = BTreeMap::from([(W1, Fit { slots: 1, variants: Some(BTreeSet::from([0])) })]);
    let none_for = BTreeMap::from([(1, "waiting for a worker that offers device=handset".to_owned())]);
    bench.feed(Input::Fleet { workers, none_because: String::new(), none_for });
    let entries = (0..4).map(|i| PlannedEntry { variant: i / 2, ..entry(&format!("t/{i}"), 1000) }).collect();
    bench.feed(Input::Planned(Plan { variants: vec![variant("desk"), variant("phone")], ..plan(entries) }));
    assert_eq!(bench.engine.waiting_for(), Some("waiting for a worker that offers device=handset"));
    assert!(drawn(&mut bench).iter().flatten().all(|i| *i < 2));
    assert_eq!(bench.verdict(), None);
    bench.pass_time(Span::seconds(11));
    let (verdict, reason) = bench.verdict().unwrap();
    assert_eq!(verdict, Verdict::Void);
    assert!(reason.starts_with("2 entries of screen=phone were not run: waiting for a worker"), "{reason}");
    assert_eq!((bench.engine.tally().passed, bench.engine.tally().not_run), (2, 2));
}

#[test]
fn a_claim_that_another_run_holds_is_named() {
    let mut bench = Bench::new(policy(), vec![PlannedEntry { claims: 1, ..entry("db/a", 1000) }]);
    assert!(bench.free_with(W1, 0, &["berth"]).is_none());
    bench.feed(Input::Tick);
    assert_eq!(bench.engine.waiting_for(), Some("waiting for the claim berth, held by fares/12"));
    assert!(bench.free(W1, 0).is_some());
    assert_eq!(bench.engine.waiting_for(), None);
}

#[test]
fn what_starting_a_process_costs_is_learnt_but_not_from_the_first_batch_on_a_worker() {
    let mut bench = Bench::new(policy(), (0..400).map(|i| entry(&format!("t/{i}"), 10)).collect());
    assert_eq!(bench.engine.measured_start_cost(), None);
    let mut wait = Span::seconds(9);
    while let Some(grant) = bench.free(W1, 0) {
        bench.now = bench.now + wait;
        wait = Span::millis(300);
        for index in &grant.entries {
            bench.now = bench.now + Span::millis(10);
            bench.end(grant.batch, *index, Ended::Passed);
        }
        bench.over(grant.batch);
    }
    assert_eq!(bench.engine.measured_start_cost(), Some(Span::millis(300)));
}

/// What the processes made of the machine's cores until their first results.
const WAITED: Cores = Cores { ran: Span::millis(500), waited: Span::millis(700) };

/// Runs all of a run's tests on one slot, each of which takes 100 ms; the first of a process is told with its start.
fn run_with_starts(bench: &mut Bench, start: Span) -> Vec<AttemptKept> {
    let mut kept = Vec::new();
    while let Some(grant) = bench.free(W1, 0) {
        for (at, index) in grant.entries.iter().enumerate() {
            let spent = Span::millis(100) + if at == 0 { start } else { Span::ZERO };
            bench.now = bench.now + spent;
            let (batch, entry) = (grant.batch, *index);
            let input = Input::Ended {
                batch,
                entry,
                ended: Ended::Passed,
                spent,
                cases: 0,
                with_start: (at == 0).then_some(WAITED),
            };
            let attempt = bench.feed(input).into_iter().find_map(|effect| match effect {
                Effect::Attempt(kept) => Some(kept),
                _ => None,
            });
            kept.extend(attempt);
        }
        bench.over(grant.batch);
    }
    kept
}

#[test]
fn a_start_that_is_part_of_a_first_tests_time_is_learnt_and_taken_off_it() {
    for known in [0, 100] {
        let entries: Vec<PlannedEntry> = (0..60).map(|i| entry(&format!("t/{i}"), known)).collect();
        let mut bench = Bench::new(policy(), entries);
        let kept = run_with_starts(&mut bench, Span::millis(1200));
        let cost = bench.engine.start_cost();
        assert!(cost > Span::millis(1100) && cost < Span::millis(1300), "{known}: {cost}");
        // Of the very first process nothing is known before it has ended.
        let own = kept.iter().skip(kept.len() / 2).map(|k| k.own).max();
        assert!(own.is_some_and(|own| own < Span::millis(250)), "{known}: {own:?}");
        assert!(kept.iter().any(|k| k.spent == Span::millis(1300)), "what was measured stays as it is");
        assert!(bench.engine.pace() < 1.5, "it is not taken for a slow machine: {}", bench.engine.pace());
    }
}

#[test]
fn a_long_test_that_comes_first_is_not_taken_for_a_dear_start() {
    let mut bench = Bench::new(policy(), (0..40).map(|i| entry(&format!("t/{i}"), 0)).collect());
    let grant = bench.free(W1, 0).expect("a batch");
    let idle = Cores { ran: Span::millis(5), waited: Span::millis(1) };
    for (at, index) in grant.entries.iter().enumerate() {
        let spent = Span::millis(if at == 0 { 2000 } else { 100 });
        let (batch, entry) = (grant.batch, *index);
        let with_start = (at == 0).then_some(idle);
        bench.feed(Input::Ended { batch, entry, ended: Ended::Passed, spent, cases: 0, with_start });
    }
    bench.over(grant.batch);
    let own = bench.engine.own_of(grant.entries[0], Span::millis(2000));
    assert!(own > Span::millis(1900), "its process slept: {own}");
    assert!(bench.engine.start_cost() < Span::millis(60), "{}", bench.engine.start_cost());
}

#[test]
fn processes_that_are_dear_to_start_here_and_now_are_started_once() {
    let policy = Policy { start_cost: Some(Span::millis(60)), ..policy() };
    let mut bench = Bench::new(policy, (0..100).map(|i| entry(&format!("t/{i}"), 100)).collect());
    bench.fleet(&[(W1, 10), (W2, 10)]);
    // Twenty at once make each of them wait for the others.
    let mut grants = Vec::new();
    for slot in 0..10 {
        grants.extend([bench.free(W1, slot), bench.free(W2, slot)].into_iter().flatten());
    }
    let dealt: usize = grants.iter().map(|g| g.entries.len()).sum();
    for grant in &grants {
        for (at, index) in grant.entries.iter().enumerate() {
            let spent = if at == 0 { Span::millis(900) } else { Span::millis(100) };
            let (batch, entry) = (grant.batch, *index);
            bench.feed(Input::Ended {
                batch,
                entry,
                ended: Ended::Passed,
                spent,
                cases: 0,
                with_start: (at == 0).then_some(WAITED),
            });
        }
        bench.over(grant.batch);
    }
    assert_eq!(bench.engine.start_cost(), Span::millis(800));
    let left = 100 - dealt;
    let next = bench.free(W1, 0).map_or(0, |grant| grant.entries.len());
    assert!(
        next >= left.div_ceil(20),
        "{left} are left, and {next} go to one process: its start costs more than they take"
    );
}

#[test]
fn a_batch_keeps_the_part_that_its_own_slot_is_due() {
    // Of one batch of 12 tests the first of which has just begun, beside so many idle slots.
    for (idle, parts) in [(1, 2), (2, 3), (5, 6)] {
        let mut bench = Bench::new(policy(), names(12));
        bench.fleet(&[(W1, 1)]);
        let grant = bench.free(W1, 0).unwrap();
        assert_eq!(grant.entries.len(), 12);
        bench.fleet(&[(W1, 1), (W2, idle)]);
        bench.feed(Input::Began { batch: grant.batch, entry: 0 });
        bench.pass_time(Span::millis(100));
        let asked = bench.feed(Input::Idle { slots: idle });
        let [Effect::GiveBack { from: Some(from), .. }] = asked[..] else { panic!("{asked:?}") };
        assert!((12 / parts..=12 / parts + 1).contains(&from), "{idle} idle: from {from}");
        bench.feed(Input::GaveBack { batch: grant.batch, entries: (from..12).collect() });
        assert_eq!(bench.engine.slots_given_up(), 0, "its process goes on");
    }
    // What it kept may be asked for too; where all has begun by then, it answers with nothing.
    let mut bench = Bench::new(policy(), names(12));
    bench.fleet(&[(W1, 1)]);
    let grant = bench.free(W1, 0).unwrap();
    bench.fleet(&[(W1, 1), (W2, 1)]);
    bench.feed(Input::Began { batch: grant.batch, entry: 0 });
    bench.pass_time(Span::seconds(1));
    let mut all = 12;
    while all > 2 {
        let asked = bench.feed(Input::Idle { slots: 1 });
        let [Effect::GiveBack { from, .. }] = asked[..] else { panic!("{asked:?}, {all} left") };
        let kept = from.unwrap_or(1);
        assert!(kept < all, "less is left each time: {kept} of {all}");
        bench.feed(Input::GaveBack { batch: grant.batch, entries: (kept..all).collect() });
        all = kept;
        if from.is_none() {
            break;
        }
    }
    assert!(all <= 2, "{all}");
    assert!(bench.feed(Input::GaveBack { batch: grant.batch, entries: Vec::new() }).is_empty());
}

#[test]
fn a_worker_that_comes_back_is_asked_again_for_what_it_has_not_answered() {
    let mut bench = Bench::new(policy(), names(12));
    bench.fleet(&[(W1, 1)]);
    let grant = bench.free(W1, 0).unwrap();
    bench.feed(Input::Began { batch: grant.batch, entry: 0 });
    let back = || Input::WorkerBack { worker: W1, holds: BTreeSet::from([grant.batch]) };
    assert!(bench.feed(back()).is_empty(), "it was asked for nothing");
    bench.fleet(&[(W1, 1), (W2, 1)]);
    bench.pass_time(Span::seconds(1));
    for (wanted, answer) in [(Input::Idle { slots: 1 }, 9..12), (Input::Wanted { slots: 1 }, 1..9)] {
        let asked = bench.feed(wanted);
        assert!(matches!(asked[..], [Effect::GiveBack { .. }]), "{asked:?}");
        assert_eq!(bench.feed(back()), asked);
        assert_eq!(bench.engine.still_asked(), 1);
        bench.feed(Input::GaveBack { batch: grant.batch, entries: answer.collect() });
        assert!(bench.feed(back()).is_empty(), "it has answered");
        assert_eq!(bench.engine.still_asked(), 0);
    }
}

#[test]
fn idle_slots_that_a_run_may_not_use_do_not_cut_its_batches() {
    let mut bench = Bench::new(Policy { shards: Some(1), ..policy() }, names(8));
    let grant = bench.free(W1, 0).unwrap();
    bench.feed(Input::Began { batch: grant.batch, entry: grant.entries[0] });
    bench.pass_time(Span::seconds(1));
    assert!(bench.feed(Input::Idle { slots: 3 }).is_empty());
    let wanted = bench.feed(Input::Wanted { slots: 1 });
    assert_eq!(
        wanted,
        [Effect::GiveBack { worker: W1, batch: grant.batch, from: None }],
        "another run has a right to its slot"
    );
}

#[test]
fn a_run_says_how_many_slots_it_could_put_to_use() {
    let could = |bench: &Bench| bench.engine.could_use(bench.now);
    let bench = Bench::new(policy(), names(8));
    assert_eq!(could(&bench), 8);
    let mut bench = Bench::new(Policy { shards: Some(2), ..policy() }, names(8));
    assert_eq!(could(&bench), 2);
    bench.free(W1, 0).unwrap();
    assert_eq!(could(&bench), 1);
    // What shares a claim runs one after the other.
    let claimed = |e| PlannedEntry { claims: 1, ..e };
    let mut bench = Bench::new(policy(), names(8).into_iter().map(claimed).collect());
    assert_eq!(could(&bench), 1);
    let grant = bench.free(W1, 0).unwrap();
    assert_eq!(could(&bench), 0);
    bench.run(&grant, |_| Ended::Passed);
    assert_eq!(could(&bench), u32::from(grant.entries.len() < 8));
}

#[test]
fn only_the_holder_of_a_batch_may_speak_of_it() {
    let mut bench = Bench::new(policy(), names(3));
    let grant = bench.free(W1, 0).unwrap();
    let (batch, entry) = (grant.batch, grant.entries[0]);
    let spent = Span::millis(1);
    let lies = |batch: BatchId| {
        vec![
            Input::Began { batch, entry },
            Input::Ended { batch, entry, ended: Ended::Passed, spent, cases: 0, with_start: None },
            Input::GaveBack { batch, entries: grant.entries.clone() },
            Input::Wrong { batch, why: "a lie".into() },
            Input::BatchEnded { batch, end: BatchEnd::Unfit("a lie".into()) },
        ]
    };
    for input in lies(batch) {
        assert!(bench.engine.hear(W2, input, bench.now).is_empty());
    }
    for input in lies(BatchId(99)) {
        assert!(bench.engine.hear(W1, input, bench.now).is_empty());
    }
    for input in [Input::Stop { reason: "a lie".into() }, Input::WorkerLost { worker: W1 }, Input::Void("a lie".into())]
    {
        assert!(bench.engine.hear(W1, input, bench.now).is_empty(), "a worker says nothing of the whole");
    }
    let far = Input::Ended { batch, entry: u32::MAX, ended: Ended::Passed, spent, cases: 0, with_start: None };
    assert!(bench.engine.hear(W1, far, bench.now).is_empty());
    let long = Input::Ended { batch, entry, ended: Ended::Passed, spent: Span(u64::MAX), cases: 0, with_start: None };
    assert!(!bench.engine.hear(W1, long, bench.now).is_empty(), "its holder may");
    assert!(bench.engine.stats().total_us <= 366 * 86_400_000_000);
}

#[test]
fn what_goes_wrong_beside_good_results_fails_the_run_also_after_a_restart() {
    let mut bench = Bench::new(policy(), names(1));
    let grant = bench.free(W1, 0).unwrap();
    bench.end(grant.batch, 0, Ended::Passed);
    let wrong = bench.feed(Input::Wrong { batch: grant.batch, why: "a process ended with status 5".into() });
    assert_eq!(wrong, [Effect::Wrong("a process ended with status 5".into())]);
    bench.over(grant.batch);
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "no test failed, but a process ended with status 5")));
    let past = PastAttempt {
        entry: 0,
        number: 1,
        batch: BatchId(1),
        worker: W1,
        ended: Ended::Passed,
        spent: Span::millis(1),
        decided: Some(Outcome::Passed),
    };
    let mut again = Engine::restore(policy(), plan(names(1)), Timestamp(0), &[past], &[])
        .unwrap()
        .with_wrongs(vec!["a process ended with status 5".into()]);
    again.handle(Input::Tick, Timestamp(1));
    assert_eq!(again.verdict().unwrap().0, Verdict::Failed);
}

#[test]
fn what_goes_wrong_in_a_batch_of_parked_tests_is_only_said() {
    let parked = PlannedEntry { parked: Some(0), ..entry("t/parked", 10) };
    let mut bench = Bench::new(Policy { run_parked: true, ..policy() }, vec![parked, entry("t/other", 5)]);
    let (first, second) = (bench.free(W1, 0).unwrap(), bench.free(W1, 1));
    let parked = [Some(first), second].into_iter().flatten().find(|g| g.entries == [0]).expect("a batch of its own");
    let said = bench.feed(Input::Wrong { batch: parked.batch, why: "status 5".into() });
    assert_eq!(said, [Effect::Note("status 5".into())]);
}

#[test]
fn tests_that_nobody_can_list_do_not_keep_the_others_from_running() {
    let mut engine = Engine::new(policy());
    let workers = BTreeMap::from([(W1, Fit { slots: 1, variants: Some(BTreeSet::from([0])) })]);
    let none_for = BTreeMap::from([(1, "waiting for a worker that offers screen=desk".to_owned())]);
    engine.handle(Input::Fleet { workers, none_because: String::new(), none_for }, Timestamp(0));
    let late = Timestamp(0) + Span::seconds(10);
    assert_eq!(engine.wake_at(Timestamp(1)), Some(late));
    let effects = engine.handle(Input::Tick, late);
    let of = effects.iter().find_map(|e| if let Effect::Unlisted(of) = e { Some(of.clone()) } else { None }).unwrap();
    assert!(of[&1].contains("screen=desk; none came within 10 s"), "{of:?}");
    assert!(engine.verdict().is_none());
    let unlisted = of.into_values().collect();
    engine.handle(Input::Planned(Plan { unlisted, ..plan(names(1)) }), late);
    let effects = engine.handle(Input::Free { worker: W1, slot: 0 }, late);
    let Some(Effect::Grant(grant)) = effects.into_iter().find(|e| matches!(e, Effect::Grant(_))) else { panic!() };
    let ended = Input::Ended {
        batch: grant.batch,
        entry: 0,
        ended: Ended::Passed,
        spent: Span::millis(1),
        cases: 0,
        with_start: None,
    };
    engine.handle(ended, late);
    engine.handle(Input::BatchEnded { batch: grant.batch, end: BatchEnd::Done }, late);
    let (verdict, reason) = engine.verdict().unwrap();
    assert!(verdict == Verdict::Void && reason.contains("screen=desk"), "{reason}");
    assert_eq!(engine.tally().passed, 1, "what could run ran");
}

#[test]
fn what_is_left_is_told_to_whoever_starts_machines() {
    let mut bench = Bench::new(policy(), vec![entry("a", 4000), entry("b", 2000), entry("c", 1000), entry("d", 1000)]);
    let at = |bench: &Bench| bench.engine.demand(bench.now);
    let before = at(&bench);
    assert_eq!((before.slots, before.longest), (4, Span::millis(4000)));
    assert!((8.0..9.5).contains(&before.work.as_seconds()), "the tests, and the starts of their processes: {before:?}");
    let grant = bench.free(W1, 0).expect("a batch");
    bench.feed(Input::Began { batch: grant.batch, entry: grant.entries[0] });
    bench.now = bench.now + Span::seconds(3);
    let during = at(&bench);
    assert!(during.work < before.work && during.longest <= Span::millis(2000), "{during:?}");
    let mut unlisted = Engine::new(policy());
    unlisted.handle(Input::Tick, Timestamp(0));
    assert_eq!(unlisted.demand(Timestamp(0)).slots, 1, "one slot lists its tests");
    let few = Bench::new(Policy { shards: Some(2), ..policy() }, vec![entry("a", 1), entry("b", 1), entry("c", 1)]);
    assert_eq!(at(&few).slots, 2);
    let mut claiming = vec![entry("a", 5000), entry("b", 5000), entry("c", 10)];
    claiming.iter_mut().take(2).for_each(|e| e.claims = 1);
    assert_eq!(
        at(&Bench::new(policy(), claiming)).longest,
        Span::seconds(10),
        "what claims the same goes one after the other"
    );
    bench.feed(Input::Stop { reason: "enough".into() });
    for batch in bench.engine.open_batches().map(|(batch, ..)| batch).collect::<Vec<_>>() {
        bench.feed(Input::BatchEnded { batch, end: BatchEnd::Done });
    }
    assert_eq!(at(&bench), crate::fleet::Demand::default(), "nothing is left of what is over");
}

#[test]
fn what_tests_say_that_they_cover_is_kept_within_bounds_and_only_of_what_runs() {
    use crate::suite::covers::{MOST_OF_A_SUITE, MOST_OF_A_TEST, Requirement};
    let mut bench = Bench::new(policy(), names(2));
    let grant = bench.free(W1, 0).expect("work");
    let of = |first: usize, count: usize| {
        (first..first + count).map(|n| Requirement::parse(&format!("REQ-{n}")).expect("a name")).collect::<Vec<_>>()
    };
    let (batch, entry) = (grant.batch, grant.entries[0]);
    let say = |bench: &mut Bench, batch, entry, of| bench.feed(Input::Covers { batch, entry, of });
    assert_eq!(say(&mut bench, batch, entry, of(0, 2)), [Effect::Covers { entry, of: of(0, 2) }]);
    assert!(say(&mut bench, batch, 7_000, of(0, 1)).is_empty(), "another's entry");
    assert!(say(&mut bench, BatchId(7_000), entry, of(0, 1)).is_empty(), "nobody's batch");
    assert!(say(&mut bench, batch, entry, Vec::new()).is_empty());
    assert!(
        bench.engine.hear(W2, Input::Covers { batch, entry, of: of(0, 1) }, bench.now).is_empty(),
        "another worker's"
    );
    let (mut kept, mut notes) = (2, 0);
    for first in (0..=MOST_OF_A_SUITE + 5 * MOST_OF_A_TEST).step_by(MOST_OF_A_TEST) {
        for effect in say(&mut bench, batch, entry, of(first, MOST_OF_A_TEST)) {
            match effect {
                Effect::Covers { of, .. } => kept += of.len(),
                Effect::Note(text) => {
                    assert!(text.contains("what came after that is not kept"), "{text}");
                    notes += 1;
                }
                other => panic!("{other:?}"),
            }
        }
    }
    assert_eq!((kept, notes), (MOST_OF_A_SUITE, 1), "the rest is told of once");
}
