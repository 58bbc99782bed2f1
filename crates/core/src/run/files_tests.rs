//! The engine with files that tell of their cases. That no case is lost or counted twice under faults is tested in `kesmo-sim`.

use super::{
    cases::{CaseTally, CaseTold, PastCase},
    tests::*,
    *,
};
use crate::{
    plan::{Plan, PlannedEntry},
    suite::Pattern,
    time::Span,
    words::{Ended, Outcome, Verdict},
};
use Ended::{Crashed, Failed, Passed, Skipped};

fn files(retries: u8, count: u32) -> Bench {
    let policy = Policy { files: true, rerun: true, ..policy() };
    Bench::new(policy, names(count).into_iter().map(|e| PlannedEntry { retries, ..e }).collect())
}

impl Bench {
    pub(super) fn tell(&mut self, grant: &Grant, first: u32, cases: &[(&str, Ended)]) -> Vec<Effect> {
        let told = |(title, ended): &(&str, Ended)| CaseTold {
            title: (*title).to_owned(),
            ended: *ended,
            spent: Span::millis(1),
            copy: false,
        };
        let cases = cases.iter().map(told).collect();
        self.feed(Input::Cases { batch: grant.batch, entry: grant.entries[0], first, cases })
    }

    pub(super) fn end_file(&mut self, grant: &Grant, own: Ended, cases: u32) -> Option<AttemptKept> {
        let input = Input::Ended {
            batch: grant.batch,
            entry: grant.entries[0],
            ended: own,
            spent: Span::millis(9),
            cases,
            with_start: None,
        };
        let kept =
            self.feed(input).into_iter().find_map(|e| if let Effect::Attempt(kept) = e { Some(kept) } else { None });
        self.over(grant.batch);
        kept
    }

    /// A whole attempt of a file that ends well itself.
    fn file(&mut self, cases: &[(&str, Ended)]) -> (Grant, AttemptKept) {
        let grant = self.free(W1, 0).unwrap();
        self.tell(&grant, 0, cases);
        let kept = self.end_file(&grant, Passed, cases.len() as u32).unwrap();
        (grant, kept)
    }
}

fn tally(passed: u32, flaky: u32, failed: u32, skipped: u32) -> CaseTally {
    CaseTally { passed, flaky, failed, skipped, parked: 0 }
}

#[test]
fn a_file_is_as_good_as_the_worst_of_its_cases() {
    let mut bench = files(0, 3);
    let (_, well) = bench.file(&[("a", Passed), ("b", Skipped)]);
    assert_eq!((well.ended, well.decided), (Passed, Some(Outcome::Passed)));
    let (_, failed) = bench.file(&[("a", Passed), ("b", Failed)]);
    assert_eq!((failed.ended, failed.decided), (Failed, Some(Outcome::Failed)));
    let (_, skipped) = bench.file(&[("a", Skipped)]);
    assert_eq!((skipped.ended, skipped.decided), (Skipped, Some(Outcome::Skipped)));
    assert_eq!(bench.engine.case_tally(), tally(2, 0, 1, 2));
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 3 files failed; 1 of 5 cases")));
}

#[test]
fn a_retry_runs_the_cases_that_failed_and_each_shows_what_decided_it() {
    let mut bench = files(2, 1);
    let (grant, first) = bench.file(&[("a", Passed), ("b", Failed), ("c", Failed)]);
    assert_eq!((grant.to_run.cases.len(), first.decided), (0, None));
    let grant = bench.free(W1, 0).unwrap();
    assert_eq!((grant.to_run.cases.as_slice(), grant.attempt), (["b".to_owned(), "c".to_owned()].as_slice(), Some(2)));
    let told = bench.tell(&grant, 0, &[("b", Passed), ("c", Failed)]);
    assert!(matches!(&told[0], Effect::Cases { number: 2, outcomes, .. } if outcomes.iter().all(|o| o.1.is_none())));
    bench.end_file(&grant, Passed, 2);
    assert!(bench.effects.contains(&Effect::CasesSettled { entry: 0 }));
    assert_eq!(bench.engine.case_tally(), tally(1, 1, 1, 0));
    let (grant, last) = bench.file(&[("c", Passed)]);
    assert_eq!((grant.to_run.cases, last.decided), (vec!["c".to_owned()], Some(Outcome::Flaky)));
    assert_eq!(bench.engine.case_tally(), tally(1, 2, 0, 0));
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn a_file_run_whole_again_merges_what_its_cases_show() {
    let mut bench = files(2, 1);
    bench.engine = Engine::new(Policy { files: true, ..policy() });
    bench.fleet(&[(W1, 2)]);
    bench.feed(Input::Planned(plan(names(1).into_iter().map(|e| PlannedEntry { retries: 2, ..e }).collect())));
    bench.file(&[("a", Failed), ("b", Passed)]);
    let (grant, second) = bench.file(&[("a", Passed), ("b", Failed)]);
    assert!(grant.to_run.cases.is_empty(), "the suite cannot run cases alone");
    assert_eq!((second.ended, second.decided), (Failed, Some(Outcome::Flaky)), "each failed once and passed once");
    assert_eq!(bench.engine.case_tally(), tally(0, 2, 0, 0));
}

#[test]
fn a_file_that_ends_badly_failed_itself_and_runs_whole_again() {
    let mut bench = files(1, 1);
    let grant = bench.free(W1, 0).unwrap();
    bench.tell(&grant, 0, &[("a", Passed), ("b", Failed)]);
    let kept = bench.end_file(&grant, Crashed, 2).unwrap();
    assert_eq!((kept.ended, kept.decided), (Crashed, None));
    let (grant, again) = bench.file(&[("a", Passed), ("b", Passed), ("c", Passed)]);
    assert!(grant.to_run.cases.is_empty(), "what it had not come to would never run");
    assert_eq!(again.decided, Some(Outcome::Flaky));
    assert_eq!(bench.engine.case_tally(), tally(2, 1, 0, 0));
}

#[test]
fn a_file_that_ends_badly_fails_though_all_its_cases_passed() {
    let mut bench = files(0, 1);
    let grant = bench.free(W1, 0).unwrap();
    bench.tell(&grant, 0, &[("a", Passed)]);
    bench.end_file(&grant, Failed, 1);
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 files failed; 0 of 1 cases")));
}

#[test]
fn files_that_all_die_after_they_told_of_cases_are_a_failed_run_and_no_void_one() {
    for (told, verdict) in [(Passed, Verdict::Failed), (Failed, Verdict::Failed), (Crashed, Verdict::Void)] {
        let mut bench = files(0, MOST_BARREN_BATCHES + 2);
        while let Some(grant) = bench.free(W1, 0).filter(|_| bench.verdict().is_none()) {
            bench.tell(&grant, 0, &[("a", told)]);
            bench.end_file(&grant, Crashed, 1);
        }
        assert_eq!(bench.verdict().map(|(verdict, _)| verdict), Some(verdict), "{told:?}");
    }
}

#[test]
fn what_is_told_twice_counts_once_and_what_is_missing_is_seen() {
    let mut bench = files(0, 2);
    let grant = bench.free(W1, 0).unwrap();
    bench.tell(&grant, 0, &[("a", Passed), ("b", Passed)]);
    assert!(bench.tell(&grant, 0, &[("a", Passed), ("b", Passed)]).is_empty());
    let more = bench.tell(&grant, 1, &[("b", Passed), ("c", Failed)]);
    assert!(matches!(&more[0], Effect::Cases { first: 2, skip: 1, outcomes, .. } if outcomes.len() == 1), "{more:?}");
    assert_eq!(bench.engine.case_tally(), tally(2, 0, 1, 0));
    bench.end_file(&grant, Passed, 3);
    let grant = bench.free(W1, 0).unwrap();
    assert!(bench.tell(&grant, 5, &[("z", Passed)]).is_empty(), "five are missing before it");
    bench.end_file(&grant, Passed, 6);
    assert!(bench.engine.wrongs()[0].contains("some of the cases that t/1 told of did not arrive"));
}

#[test]
fn no_file_fills_the_service_with_cases() {
    let mut bench = files(0, 1);
    let grant = bench.free(W1, 0).unwrap();
    let (mut first, piece) = (0, 250_000);
    let told = |from: u32| {
        (from..from + piece)
            .map(|n| CaseTold { title: n.to_string(), ended: Passed, spent: Span::ZERO, copy: false })
            .collect()
    };
    for _ in 0..5 {
        bench.engine.handle(Input::Cases { batch: grant.batch, entry: 0, first, cases: told(first) }, bench.now);
        first += piece;
    }
    assert_eq!(bench.engine.case_tally().passed, cases::MOST_CASES);
    bench.end_file(&grant, Passed, first);
    assert!(bench.engine.wrongs()[0].contains("did not arrive"), "it is no pass: {:?}", bench.engine.wrongs());
}

#[test]
fn nobody_but_the_holder_of_a_file_tells_of_its_cases() {
    let mut bench = files(0, 2);
    let grant = bench.free(W1, 0).unwrap();
    let case = CaseTold { title: "a".into(), ended: Failed, spent: Span::ZERO, copy: false };
    let forged = |entry| Input::Cases { batch: grant.batch, entry, first: 0, cases: vec![case.clone()] };
    assert!(bench.engine.hear(W2, forged(grant.entries[0]), bench.now).is_empty());
    for entry in [1 - grant.entries[0], 7, u32::MAX] {
        assert!(bench.engine.hear(W1, forged(entry), bench.now).is_empty(), "entry {entry}");
    }
    assert_eq!(bench.engine.case_tally().total(), 0);
}

#[test]
fn what_a_lost_worker_told_does_not_count() {
    let mut bench = files(0, 1);
    let grant = bench.free(W1, 0).unwrap();
    bench.feed(Input::Began { batch: grant.batch, entry: 0 });
    bench.tell(&grant, 0, &[("a", Failed), ("b", Passed)]);
    assert_eq!(bench.engine.case_tally(), tally(1, 0, 1, 0), "it counts as it comes");
    let effects = bench.feed(Input::WorkerLost { worker: W1 });
    assert!(effects.contains(&Effect::CasesLost { entry: 0, number: 1 }));
    assert_eq!(bench.engine.case_tally(), CaseTally::default());
    let grant = bench.free(W2, 0).unwrap();
    bench.tell(&grant, 0, &[("a", Passed), ("b", Passed)]);
    bench.end_file(&grant, Passed, 2);
    assert_eq!(bench.engine.case_tally(), tally(2, 0, 0, 0));
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn a_parked_case_fails_nothing_and_is_not_run_again() {
    let mut bench = files(3, 1);
    bench.engine = Engine::new(Policy { files: true, rerun: true, ..policy() });
    bench.fleet(&[(W1, 2)]);
    let parked = Pattern::parse("t/0/pays by *").unwrap();
    bench.feed(Input::Planned(Plan { case_parks: vec![(parked, 0)], ..plan(names(1)) }));
    let (_, kept) = bench.file(&[("pays by card", Failed), ("opens", Passed)]);
    assert_eq!((kept.ended, kept.decided), (Passed, Some(Outcome::Passed)));
    assert_eq!(bench.engine.case_tally(), CaseTally { passed: 1, parked: 1, ..CaseTally::default() });
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn a_case_that_failed_and_skips_itself_or_is_not_told_again_has_failed() {
    for second in [[("a", Skipped), ("b", Passed)].as_slice(), &[("b", Passed)]] {
        let mut bench = files(5, 1);
        bench.engine = Engine::new(Policy { files: true, ..policy() });
        bench.fleet(&[(W1, 2)]);
        bench.feed(Input::Planned(plan(names(1).into_iter().map(|e| PlannedEntry { retries: 5, ..e }).collect())));
        bench.file(&[("a", Failed), ("b", Passed)]);
        let (_, kept) = bench.file(second);
        assert_eq!(kept.decided, Some(Outcome::Failed), "{second:?}");
        assert_eq!(bench.engine.case_tally(), tally(1, 0, 1, 0));
    }
}

#[test]
fn picked_cases_have_a_batch_of_their_own() {
    let mut bench = files(0, 1);
    bench.engine = Engine::new(Policy { files: true, rerun: true, ..policy() });
    bench.fleet(&[(W1, 2)]);
    let mut entries = names(20);
    entries[3].cases = 1;
    bench.feed(Input::Planned(Plan { case_sets: vec![vec![], vec!["a".into()]], ..plan(entries) }));
    let mut seen = 0;
    while let Some(grant) = bench.free(W1, 0) {
        let alone = grant.entries.contains(&3);
        assert_eq!(alone, !grant.to_run.cases.is_empty());
        assert!(!alone || grant.entries.len() == 1, "{grant:?}");
        seen += grant.entries.len();
        bench.run(&grant, |_| Passed);
    }
    assert_eq!(seen, 20);
}

#[test]
fn an_engine_that_is_built_again_knows_the_cases() {
    let mut bench = files(2, 2);
    let (grant, _) = bench.file(&[("a", Passed), ("b", Failed)]);
    let open = grant.entries[0];
    let (other, _) = bench.file(&[("x", Passed)]);
    assert_ne!(other.entries[0], open);
    let row = |number, title: &str, ended| PastCase {
        entry: open,
        number,
        title: title.into(),
        ended,
        parked: false,
        copy: false,
    };
    let retry = bench.free(W1, 0).unwrap();
    bench.tell(&retry, 0, &[("b", Passed)]);
    let attempts = bench.past_attempts();
    let held =
        PastBatch { batch: retry.batch, worker: W1, slot: 0, entries: vec![open], granted_at: bench.now, open: true };
    let policy = Policy { files: true, rerun: true, ..policy() };
    let plan = plan(names(2).into_iter().map(|e| PlannedEntry { retries: 2, ..e }).collect());
    let tallies = [(open, tally(1, 0, 1, 0)), (other.entries[0], tally(1, 0, 0, 0))].into();
    let rows = [row(1, "a", Passed), row(1, "b", Failed), row(2, "b", Passed)];
    let engine = Engine::restore(policy, plan, bench.now, &attempts, &[held]).unwrap().with_cases(&tallies, &rows);
    assert_eq!(engine.case_tally(), bench.engine.case_tally());
    bench.engine = engine;
    assert!(bench.tell(&retry, 0, &[("b", Passed)]).is_empty(), "it was kept before");
    bench.end_file(&retry, Passed, 1);
    assert_eq!(bench.engine.case_tally(), tally(2, 1, 0, 0));
    assert_eq!(bench.engine.entry(open).0, Some(Outcome::Flaky));
}

#[test]
fn what_was_told_of_a_file_that_goes_back_is_not_mixed_with_what_it_tells_then() {
    let mut bench = files(0, 1);
    let grant = bench.free(W1, 0).unwrap();
    bench.tell(&grant, 0, &[("a", Passed), ("b", Passed)]);
    bench.over(grant.batch);
    assert!(bench.effects.contains(&Effect::CasesLost { entry: 0, number: 1 }));
    assert_eq!(bench.engine.case_tally(), CaseTally::default());
    let (_, kept) = bench.file(&[("a", Failed), ("b", Passed)]);
    assert_eq!((kept.ended, kept.decided), (Failed, Some(Outcome::Failed)));
    assert_eq!(bench.engine.case_tally(), tally(1, 0, 1, 0));
}

#[test]
fn a_retry_after_a_restart_runs_the_whole_file_as_it_may_have_ended_badly() {
    let mut bench = files(2, 1);
    let grant = bench.free(W1, 0).unwrap();
    bench.tell(&grant, 0, &[("a", Failed)]);
    bench.end_file(&grant, Crashed, 1);
    let attempts = bench.past_attempts();
    let row = PastCase { entry: 0, number: 1, title: "a".into(), ended: Failed, parked: false, copy: false };
    let policy = Policy { files: true, rerun: true, ..policy() };
    let plan = plan(names(1).into_iter().map(|e| PlannedEntry { retries: 2, ..e }).collect());
    let tallies = [(0, tally(0, 0, 1, 0))].into();
    bench.engine = Engine::restore(policy, plan, bench.now, &attempts, &[]).unwrap().with_cases(&tallies, &[row]);
    bench.fleet(&[(W1, 2)]);
    assert!(bench.free(W1, 0).unwrap().to_run.cases.is_empty(), "cases after the crash never ran");
}

#[test]
fn tests_that_are_no_files_have_no_cases() {
    let mut bench = Bench::new(policy(), names(1));
    let grant = bench.free(W1, 0).unwrap();
    assert!(bench.tell(&grant, 0, &[("a", Failed)]).is_empty());
    bench.end_file(&grant, Passed, 0);
    assert_eq!((bench.engine.case_tally().total(), bench.verdict()), (0, Some((Verdict::Passed, ""))));
}
