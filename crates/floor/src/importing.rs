//! The rows of a run whose tests ran elsewhere. It never comes to the floor itself: it is over when it is made.

use chrono::{DateTime, Utc};
use kesmo_core::{
    format::imported::Imported,
    name::shorten,
    plan::{Park, Plan, RunOptions},
    run::{Effect, Engine, Policy, imported},
    suite::{ListedTest, SuiteFile, Variant},
    time::{Span, Timestamp},
    words::{Phase, Verdict},
};
use kesmo_store::{
    commit::{CasesOf, Commit, NewAttempt, NewBatch, NewCase, RunChange},
    month_of,
};
use kesmo_wire::{link::CaseReport, live};

use crate::{
    active::LONG_STRIP,
    clock,
    recording::{Counts, ToRecord, Took, outcomes_of},
};

/// The name that stands for whatever ran the tests.
pub const ELSEWHERE: &str = "elsewhere";
/// What is kept of what a test printed, in bytes.
const LONGEST_LOG: usize = 64 << 10;

/// What is imported.
pub struct Importing<'i> {
    pub file: &'i SuiteFile,
    pub options: &'i RunOptions,
    pub parks: &'i [Park],
    pub variant: Variant,
    /// The key under which its list of tests is kept.
    pub key: &'i str,
    pub results: &'i [Imported],
    pub wrongs: &'i [String],
    pub at: DateTime<Utc>,
    pub seed: u64,
}

/// What is to be kept of an imported run, before it has an id, and what its tests' records are told.
pub struct Rows {
    pub commit: Commit,
    pub record: ToRecord,
}

/// Makes the rows; the run's id in them is 0.
///
/// # Errors
/// In words, if no plan can be made of the results.
pub fn rows(importing: &Importing<'_>, suite: i64, pool: &str) -> Result<Rows, String> {
    let Importing { file, options, parks, variant, key, results, wrongs, at, seed } = importing;
    let listed = |r: &Imported| ListedTest::plain(r.name.clone());
    let listed: Vec<ListedTest> = results.iter().map(listed).collect();
    let lists = [(variant.clone(), listed)];
    let plan = Plan::make(file, options, &lists, parks, |_, _| None).map_err(|e| e.to_string())?;
    let by_name: std::collections::HashMap<&str, &Imported> = results.iter().map(|r| (r.name.as_str(), r)).collect();
    let month = month_of(*at);
    let mut commit = Commit { wrongs: wrongs.iter().map(|why| (0, why.clone())).collect(), ..Commit::default() };
    let mut strip = String::new();
    let (mut last, mut retried) = (vec![0; plan.entries.len()], vec![0_u64; plan.entries.len()]);
    let each = |engine: &Engine, effect: Effect, now: Timestamp| match effect {
        Effect::Grant(grant) => commit.batches.push(NewBatch {
            run_id: 0,
            number: grant.batch.0,
            worker: ELSEWHERE.into(),
            slot: 0,
            entries: grant.entries,
            granted_at: clock::told(now),
        }),
        Effect::BatchOver { batch } => commit.over.push((0, batch.0)),
        Effect::Cases { entry, number, first, skip, outcomes } => {
            let Some(result) = by_name.get(engine.plan().entries[entry as usize].name.as_str()) else { return };
            let told = result.cases.iter().skip((first + skip) as usize);
            commit.cases.extend(told.zip(outcomes).zip(first + skip..).map(|((case, (parked, outcome)), place)| {
                NewCase {
                    month,
                    run_id: 0,
                    entry,
                    number,
                    place,
                    title: case.0.clone(),
                    ended: case.1.ended,
                    outcome,
                    parked,
                    copy: case.2,
                    spent_us: case.1.spent.map_or(0, |s| s.0),
                    message: shorten(&case.1.message, 4000),
                    detail: shorten(&case.1.detail, CaseReport::LONGEST_DETAIL),
                }
            }));
        }
        Effect::Measured { .. } | Effect::Covers { .. } => {}
        Effect::CasesSettled { entry } => {
            commit.settled_cases.push(CasesOf { month, run_id: 0, entry, number: 0 });
        }
        Effect::Attempt(kept) => {
            let Some(result) = by_name.get(engine.plan().entries[kept.entry as usize].name.as_str()) else { return };
            if let Some(outcome) = kept.decided {
                strip.push(live::letter(outcome));
            }
            let place = kept.entry as usize;
            let before = std::mem::replace(&mut last[place], kept.spent.0);
            retried[place] = retried[place].saturating_add(if kept.number > 1 { before } else { 0 });
            let began = Timestamp(now.0.saturating_sub(i64::try_from(kept.spent.0).unwrap_or(0)));
            let of_case = || result.cases.iter().find(|c| c.1.ended.failing()).map(|c| c.0.clone()).unwrap_or_default();
            let own = result.reported.message.clone();
            let message = if own.is_empty() { of_case() } else { own };
            commit.attempts.push(NewAttempt {
                month,
                run_id: 0,
                entry: kept.entry,
                number: kept.number,
                batch: kept.batch.0,
                worker: ELSEWHERE.into(),
                slot: 0,
                began_at: clock::told(began),
                spent_us: kept.spent.0,
                ended: kept.ended,
                decided: kept.decided,
                itself: kept.itself,
                message: shorten(&message, 4000),
                detail: shorten(&result.reported.detail, LONGEST_LOG),
                steps: serde_json::to_value(&result.reported.steps).unwrap_or_default(),
                log: shorten(&result.output, LONGEST_LOG),
                log_blob: None,
                log_bytes: result.output.len() as u64,
                busy: 1,
                of_slots: 1,
                expected_us: None,
            });
        }
        Effect::Note(text) => commit.notes.push((0, text)),
        _ => {}
    };
    let policy = Policy::of(file, options, *seed, None);
    let (_, engine) = imported::carry(plan, policy, results, wrongs, clock::from_row(*at), each)?;
    let (verdict, reason) = engine.verdict().map_or((Verdict::Void, ""), |(verdict, reason)| (verdict, reason));
    let took = last.iter().fold(0_u64, |sum, spent| sum.saturating_add(*spent)).min(Span::LONGEST.0);
    let finished_at = clock::told(clock::from_row(*at) + Span(took));
    commit.listings.push((
        (*key).to_owned(),
        std::sync::Arc::new(lists.into_iter().next().map(|(_, tests)| tests).unwrap_or_default()),
    ));
    commit.runs.push(RunChange {
        run_id: 0,
        phase: Phase::Finished,
        verdict: Some(verdict),
        reason: reason.to_owned(),
        listings: vec![(*key).to_owned()],
        listed: engine.plan().listed as u32,
        tally: engine.tally(),
        stats: engine.stats(),
        strip: live::thin(&strip, LONG_STRIP),
        began_at: Some(*at),
        finished_at: Some(finished_at),
        images: None,
    });
    let record = ToRecord {
        suite,
        pool: pool.to_owned(),
        // Both are known once it is stored.
        id: 0,
        branch: String::new(),
        counts: Counts::of(options, true, verdict, engine.plan(), |index| engine.entry(index).0),
        run: format!("{}, imported", file.suite),
        outcomes: outcomes_of(&engine, |index| {
            let last = Span(last[index as usize]);
            Took { last, retried: Span(retried[index as usize]), usual: Some(last) }
        }),
        covers: Vec::new(),
        made: *at,
        start_cost: None,
    };
    Ok(Rows { commit, record })
}
