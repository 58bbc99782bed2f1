//! A run whose tests ran elsewhere: the engine is told of their results as if a worker had brought them, one after the other,
//! so that counts, outcomes and the verdict follow from the same rules.

use std::collections::{BTreeMap, HashMap};

use super::{BatchEnd, Effect, Engine, Fit, Input, Policy, WorkerId, cases::CaseTold};
use crate::{
    format::imported::Imported,
    plan::{Plan, PlannedEntry},
    time::{Span, Timestamp},
    words::Verdict,
};

/// The number of the worker that all results are laid to.
pub const ELSEWHERE: WorkerId = WorkerId(0);

/// Cases that the engine is told of at once.
const MOST_CASES: usize = 500;

/// Carries a run to its verdict. `results` has one for each of the plan's entries, by its name; `wrongs` is what else went
/// wrong. `each` has every effect with the engine as it then stands and the time.
///
/// # Errors
/// In words, if the engine comes to no verdict with what it is told; that is a fault of Kesmo's own.
pub fn carry(
    plan: Plan,
    policy: Policy,
    results: &[Imported],
    wrongs: &[String],
    at: Timestamp,
    mut each: impl FnMut(&Engine, Effect, Timestamp),
) -> Result<(Verdict, Engine), String> {
    // Everything has happened: nothing is fed, given back or retried.
    let longest = Span(u64::MAX / 4);
    let mut engine = Engine::new(Policy {
        fed: false,
        give_back: false,
        rerun: false,
        run_limit: longest,
        batch_limit: longest,
        give_up_after: None,
        ..policy
    });
    let by_name: HashMap<&str, &Imported> = results.iter().map(|r| (r.name.as_str(), r)).collect();
    let plan = Plan { entries: plan.entries.into_iter().map(|e| PlannedEntry { retries: 0, ..e }).collect(), ..plan };
    let mut now = at;
    let mut tell = |engine: &mut Engine, input: Input, now: Timestamp| {
        let mut granted = None;
        for effect in engine.handle(input, now) {
            if let Effect::Grant(grant) = &effect {
                granted = Some((grant.batch, grant.entries.clone()));
            }
            each(engine, effect, now);
        }
        granted
    };
    let workers = BTreeMap::from([(ELSEWHERE, Fit::all(1))]);
    tell(&mut engine, Input::Fleet { workers, none_because: String::new(), none_for: BTreeMap::new() }, now);
    tell(&mut engine, Input::Planned(plan), now);
    let mut wrongs = wrongs.iter();
    while engine.verdict().is_none() {
        let free = Input::Free { worker: ELSEWHERE, slot: 0 };
        let (batch, entries) = tell(&mut engine, free, now).ok_or("a run of results comes to no verdict")?;
        for why in wrongs.by_ref() {
            tell(&mut engine, Input::Wrong { batch, why: why.clone() }, now);
        }
        for entry in entries {
            let name = engine.plan().entries[entry as usize].name.clone();
            let result = by_name.get(name.as_str()).ok_or("a result is missing")?;
            tell(&mut engine, Input::Began { batch, entry }, now);
            let mut first = 0;
            for cases in result.cases.chunks(MOST_CASES) {
                let told = |(title, reported, copy): &(String, crate::format::Reported, bool)| CaseTold {
                    title: title.clone(),
                    ended: reported.ended,
                    spent: reported.spent.unwrap_or_default(),
                    copy: *copy,
                };
                let told: Vec<CaseTold> = cases.iter().map(told).collect();
                let count = told.len() as u32;
                tell(&mut engine, Input::Cases { batch, entry, first, cases: told }, now);
                first += count;
            }
            let (ended, spent) = (result.reported.ended, result.spent());
            // A run is no longer than one test may be, so that every moment of it is one.
            now = (now + spent).min(at + Span::LONGEST);
            tell(&mut engine, Input::Ended { batch, entry, ended, spent, cases: first, with_start: None }, now);
        }
        tell(&mut engine, Input::BatchEnded { batch, end: BatchEnd::Done }, now);
    }
    let verdict = engine.verdict().map(|(verdict, _)| verdict).ok_or("a run of results comes to no verdict")?;
    Ok((verdict, engine))
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;
    use crate::{
        format::imported::Import,
        plan::RunOptions,
        suite::{ListedTest, SuiteFile, Variant},
        words::Outcome,
    };

    fn carried(more: &str, files: &[(&str, &str)]) -> (Verdict, String, Vec<Outcome>) {
        let text =
            format!("suite = \"s\"\n[tests]\nlist = [\"l\"]\nrun = [\"r\", \"{{names}}\"]\nresults = \"tap\"\n{more}");
        let suite = SuiteFile::parse("kesmo.toml", &text).unwrap();
        let mut import = Import::new(suite.tests.of_files(), HashSet::new());
        files.iter().for_each(|(path, content)| import.read(path, content.as_bytes()).unwrap());
        let (results, wrongs) = import.finish().unwrap();
        let listed = |r: &Imported| ListedTest::plain(r.name.clone());
        let lists = [(Variant::default(), results.iter().map(listed).collect())];
        let options = RunOptions { run_parked: true, ..RunOptions::default() };
        let plan = Plan::make(&suite, &options, &lists, &[], |_, _| None).unwrap();
        let policy = Policy::of(&suite, &options, 1, None);
        let mut outcomes = Vec::new();
        let each = |_: &Engine, effect: Effect, _: Timestamp| {
            if let Effect::Attempt(kept) = effect {
                outcomes.extend(kept.decided);
            }
        };
        let (verdict, engine) = carry(plan, policy, &results, &wrongs, Timestamp(1_000_000), each).unwrap();
        (verdict, engine.verdict().map(|(_, why)| why.to_owned()).unwrap_or_default(), outcomes)
    }

    #[test]
    fn outcomes_and_the_verdict_follow_from_the_same_rules() {
        let tap = "ok 1 - a\nnot ok 2 - b\nok 3 - c # SKIP no sea\n1..3\n";
        let (verdict, why, outcomes) = carried("[retry]\ntimes = 3\n", &[("x.tap", tap)]);
        assert_eq!((verdict, outcomes.len()), (Verdict::Failed, 3), "{why}");
        assert!(outcomes.contains(&Outcome::Failed) && !outcomes.contains(&Outcome::Flaky), "nothing is retried");
        assert_eq!(carried("", &[("x.tap", "ok 1 - a\n1..1\n")]).0, Verdict::Passed);
        let (verdict, why, _) = carried("", &[("x.tap", "1..2\nok 1 - a\n")]);
        assert!(verdict == Verdict::Failed && why.contains("promised 2"), "{why}");
    }

    #[test]
    fn a_case_that_failed_fails_its_file() {
        let files = [("gate.tap", "ok 1 - a\nnot ok 2 - b\n"), ("desk.tap", "ok 1 - a\n")];
        let (verdict, why, outcomes) = carried("each = \"file\"\n", &files);
        assert_eq!(verdict, Verdict::Failed);
        assert_eq!(outcomes.iter().filter(|o| **o == Outcome::Failed).count(), 1);
        assert_eq!(why, "1 of 2 files failed; 1 of 3 cases");
        let many: String = (0..1203).map(|n| format!("ok {n} - case {n}\n")).collect();
        assert_eq!(carried("each = \"file\"\n", &[("many.tap", &many)]).0, Verdict::Passed);
    }
}
