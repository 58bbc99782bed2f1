//! The engine with files that are cut. That no case is lost or counted twice under faults is tested in `kesmo-sim`.

use super::{tests::*, *};
use crate::{
    plan::{
        Plan, PlannedEntry,
        cutting::{Cut, CutPart},
    },
    time::Timestamp,
    words::{Ended, Outcome, Verdict},
};
use Ended::{Crashed, Failed, Passed};

/// One file of the cases a to d, cut in two: a and b, and the rest.
fn cut(retries: u8, rest: bool) -> Bench {
    let policy = Policy { files: true, rerun: true, ..policy() };
    let mut bench = Bench::new(policy.clone(), names(1));
    bench.engine = Engine::new(policy);
    bench.fleet(&[(W1, 2)]);
    let part = |titles: &[&str]| CutPart { titles: titles.iter().map(|t| (*t).to_owned()).collect(), us: 1000 };
    let whole = plan(names(1).into_iter().map(|e| PlannedEntry { retries, ..e }).collect());
    let file = whole.entries[0].name.to_string();
    let cut = Cut { file, variant: String::new(), parts: vec![part(&["a", "b"]), part(&["c", "d"])], rest };
    let whole = Plan { case_sets: vec![vec![]], ..whole };
    bench.feed(Input::Planned(whole.with_cuts(&[cut])));
    bench
}

/// Both parts, in the order of the plan.
fn both(bench: &mut Bench) -> [Grant; 2] {
    let mut grants = [bench.free(W1, 0).unwrap(), bench.free(W1, 1).unwrap()];
    grants.sort_by_key(|grant| grant.entries[0]);
    grants
}

fn strings(titles: &[&str]) -> Vec<String> {
    titles.iter().map(|title| (*title).to_owned()).collect()
}

#[test]
fn two_slots_run_the_parts_of_a_file_and_the_last_runs_what_is_new() {
    let mut bench = cut(0, true);
    let [first, last] = both(&mut bench);
    let (cases, only) = (strings(&["a", "b"]), strings(&["a", "b"]));
    let own = ToRun { cases, rest: false, aside: strings(&["c", "d"]), only };
    assert_eq!(first.to_run, own);
    let rest = ToRun { cases: strings(&["c", "d"]), rest: true, aside: strings(&["a", "b"]), only: Vec::new() };
    assert_eq!(last.to_run, rest);
    bench.tell(&first, 0, &[("a", Passed), ("b", Passed)]);
    bench.tell(&last, 0, &[("c", Passed), ("new", Failed), ("d", Passed)]);
    assert_eq!(bench.end_file(&first, Passed, 2).unwrap().decided, Some(Outcome::Passed));
    assert_eq!(bench.end_file(&last, Passed, 3).unwrap().decided, Some(Outcome::Failed));
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 files failed; 1 of 5 cases")), "a cut file is one");
    assert_eq!((bench.engine.tally().failed, bench.engine.tally().total()), (1, 1));
}

#[test]
fn a_cut_file_is_counted_once_whatever_its_parts_do() {
    let mut bench = cut(0, true);
    let counted = |bench: &Bench| {
        let tally = bench.engine.tally();
        (tally.waiting, tally.running, tally.passed, tally.total())
    };
    assert_eq!(counted(&bench), (1, 0, 0, 1));
    let [first, last] = both(&mut bench);
    assert_eq!(counted(&bench), (1, 0, 0, 1), "they are held, and nothing runs");
    bench.feed(Input::Began { batch: first.batch, entry: first.entries[0] });
    assert_eq!(counted(&bench), (0, 1, 0, 1));
    bench.tell(&first, 0, &[("a", Passed), ("b", Passed)]);
    bench.end_file(&first, Passed, 2);
    assert_eq!(counted(&bench), (0, 1, 0, 1), "a part of it has its outcome, and it has none");
    bench.tell(&last, 0, &[("c", Passed), ("d", Passed)]);
    bench.end_file(&last, Passed, 2);
    assert_eq!(counted(&bench), (0, 0, 1, 1));
}

#[test]
fn where_the_rest_cannot_run_each_part_runs_its_own() {
    let mut bench = cut(0, false);
    let [first, last] = both(&mut bench);
    assert_eq!((first.to_run.aside, first.to_run.only), (strings(&["c", "d"]), vec![]));
    assert_eq!((last.to_run.cases, last.to_run.rest), (strings(&["c", "d"]), false));
}

#[test]
fn a_part_is_retried_by_its_failed_cases() {
    let mut bench = cut(1, true);
    let [first, last] = both(&mut bench);
    bench.tell(&last, 0, &[("c", Failed), ("d", Passed)]);
    assert_eq!(bench.end_file(&last, Passed, 2).unwrap().decided, None);
    let again = bench.free(W1, 1).unwrap();
    assert_eq!(
        (again.entries.clone(), again.to_run.cases.clone(), again.to_run.rest),
        (last.entries, strings(&["c"]), false)
    );
    bench.tell(&again, 0, &[("c", Passed)]);
    assert_eq!(bench.end_file(&again, Passed, 1).unwrap().decided, Some(Outcome::Flaky));
    bench.tell(&first, 0, &[("a", Passed), ("b", Passed)]);
    bench.end_file(&first, Passed, 2);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
}

#[test]
fn a_part_whose_case_is_gone_runs_its_whole_file_and_is_not_blamed() {
    let mut bench = cut(0, true);
    let [first, last] = both(&mut bench);
    bench.tell(&first, 0, &[("a", Passed)]);
    let missed = bench.end_file(&first, Failed, 1).unwrap();
    assert_eq!((missed.ended, missed.decided), (Failed, None), "no retry is allowed, and this is none");
    let whole = bench.free(W1, 0).unwrap();
    let only = strings(&["a", "b"]);
    assert_eq!(whole.to_run, ToRun { only, aside: strings(&["c", "d"]), ..ToRun::default() });
    bench.tell(&whole, 0, &[("a", Passed)]);
    assert_eq!(bench.end_file(&whole, Passed, 1).unwrap().decided, Some(Outcome::Passed));
    let noted =
        |e: &Effect| matches!(e, Effect::Note(said) if said.contains("part 1 of 2") && said.contains("are gone"));
    assert!(bench.effects.iter().any(noted), "{:?}", bench.effects);
    bench.tell(&last, 0, &[("c", Passed), ("d", Passed)]);
    bench.end_file(&last, Passed, 2);
    assert_eq!(bench.verdict(), Some((Verdict::Passed, "")));
    assert_eq!(bench.engine.case_tally().passed, 3);
}

#[test]
fn a_part_that_crashed_before_a_case_was_told_is_flaky_if_that_is_there() {
    let mut bench = cut(0, true);
    let [first, _] = both(&mut bench);
    bench.tell(&first, 0, &[("a", Passed)]);
    assert_eq!(bench.end_file(&first, Crashed, 1).unwrap().decided, None, "whether its case is there is not known");
    let whole = bench.free(W1, 0).unwrap();
    bench.tell(&whole, 0, &[("a", Passed), ("b", Passed)]);
    assert_eq!(bench.end_file(&whole, Passed, 2).unwrap().decided, Some(Outcome::Flaky), "it did crash");
}

#[test]
fn a_part_that_has_told_of_all_and_failed_is_held_to_it() {
    let mut bench = cut(0, true);
    let [first, last] = both(&mut bench);
    bench.tell(&first, 0, &[("a", Passed), ("b", Passed)]);
    assert_eq!(bench.end_file(&first, Failed, 2).unwrap().decided, Some(Outcome::Failed));
    bench.tell(&last, 0, &[("c", Passed)]);
    bench.end_file(&last, Failed, 1);
    let whole = bench.free(W1, 1).unwrap();
    assert_eq!((whole.to_run.rest, whole.to_run.cases.len()), (false, 0));
    bench.tell(&whole, 0, &[("c", Passed), ("d", Failed)]);
    assert_eq!(bench.end_file(&whole, Passed, 2).unwrap().decided, Some(Outcome::Failed));
    assert_eq!(bench.verdict(), Some((Verdict::Failed, "1 of 1 files failed; 1 of 4 cases")));
}

#[test]
fn a_part_of_which_a_case_failed_is_not_excused_by_another_that_is_gone() {
    for (retries, again, outcome) in
        [(0, Passed, Outcome::Failed), (1, Passed, Outcome::Flaky), (0, Failed, Outcome::Failed)]
    {
        for failing in ["a", "a/step"] {
            let mut bench = cut(retries, true);
            let [first, _] = both(&mut bench);
            bench.tell(&first, 0, &[(failing, Failed)]);
            assert_eq!(bench.end_file(&first, Failed, 1).unwrap().decided, None, "what is gone is looked for");
            let whole = bench.free(W1, 0).unwrap();
            bench.tell(&whole, 0, &[(failing, again)]);
            assert_eq!(bench.end_file(&whole, Passed, 1).unwrap().decided, Some(outcome), "{failing}");
        }
    }
}

#[test]
fn giving_up_retries_does_not_blame_a_part_for_what_is_gone() {
    let mut bench = cut(3, true);
    bench.engine = {
        let plan = bench.engine.plan().clone();
        let policy = Policy { give_up_after: Some(40), ..bench.engine.policy().clone() };
        let mut engine = Engine::new(policy);
        engine.handle(Input::Planned(plan), Timestamp(0));
        engine
    };
    bench.fleet(&[(W1, 2)]);
    let [first, last] = both(&mut bench);
    bench.tell(&first, 0, &[("a", Passed)]);
    bench.end_file(&first, Failed, 1);
    bench.tell(&last, 0, &[("c", Failed), ("d", Passed)]);
    assert_eq!(bench.end_file(&last, Passed, 2).unwrap().decided, Some(Outcome::Failed), "no more retries");
    let whole = bench.free(W1, 0).unwrap();
    assert_eq!(whole.entries, first.entries, "this is none");
    bench.tell(&whole, 0, &[("a", Passed)]);
    assert_eq!(bench.end_file(&whole, Passed, 1).unwrap().decided, Some(Outcome::Passed));
}

#[test]
fn a_lost_part_runs_as_it_was_dealt() {
    let mut bench = cut(0, true);
    let [first, last] = both(&mut bench);
    bench.tell(&first, 0, &[("a", Passed)]);
    bench.feed(Input::Began { batch: first.batch, entry: first.entries[0] });
    bench.feed(Input::WorkerLost { worker: W1 });
    bench.fleet(&[(W1, 2)]);
    let [first_again, last_again] = both(&mut bench);
    assert_eq!((first_again.to_run, last_again.to_run), (first.to_run, last.to_run));
}
