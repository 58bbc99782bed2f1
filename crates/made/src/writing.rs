//! Writes made runs, each in one transaction and under a key of its own: written twice they are there once.

use std::{collections::BTreeMap, sync::Arc};

use chrono::{DateTime, Datelike, TimeDelta, Timelike, Utc, Weekday};
use kesmo_core::{
    plan::{Plan, RunOptions, brief::Origin},
    run::Policy,
    suite::Variant,
    time::Span,
    words::{Ended, Phase},
};
use kesmo_sim::past::{Character, Fleet, Moment, PastRun, past_run};
use kesmo_store::{
    Store,
    commit::{Commit, NewAttempt, NewBatch, RunChange},
    month_of,
    runs::NewRun,
};
use kesmo_wire::live::{letter, thin};

use crate::{
    quay::{self, Habit, WORKERS},
    suites::Suite,
};

const FLEET: Fleet = Fleet { slots: 6, of_worker: 2, start: Span(60_000) };
/// What marks made runs.
const LABEL: (&str, &str) = ("made", "history");
const BY: &str = "made history";
/// Letters of a run's strip that are kept.
const STRIP: usize = 2000;

/// A commit of the past, oldest first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastCommit {
    pub hash: String,
    pub at: DateTime<Utc>,
}

/// A run that is to be made.
struct Wanted {
    at: DateTime<Utc>,
    options: RunOptions,
    branch: Option<String>,
    commit: Option<String>,
    brief: Option<String>,
    broken: bool,
}

/// Makes the past of a suite; tells how many runs are there that were not before.
///
/// # Errors
/// If the suite was not added, or PostgreSQL does not answer.
pub async fn make(store: &Store, suite: &Suite, habit: &Habit, until: DateTime<Utc>, days: u32) -> Result<u32, String> {
    let mut wanted = Vec::new();
    let first = (until - TimeDelta::days(i64::from(days))).date_naive();
    for n in 0..days {
        let day = first + chrono::Days::new(u64::from(n));
        if !habit.at_weekends && matches!(day.weekday(), Weekday::Sat | Weekday::Sun) {
            continue;
        }
        let mut hours: Vec<(u32, bool)> = habit.hours.iter().map(|h| (*h, false)).collect();
        hours.extend(habit.smoke_at.iter().map(|h| (*h, true)));
        hours.sort_unstable();
        for (hour, smoke) in hours {
            let Some(at) = day.and_hms_opt(hour, 15, 0).map(|t| t.and_utc()).filter(|at| *at < until) else { continue };
            let pick = if smoke { vec!["tag:smoke".to_owned()] } else { Vec::new() };
            wanted.push(Wanted {
                at,
                options: RunOptions { pick, ..RunOptions::default() },
                branch: None,
                commit: None,
                brief: smoke.then(|| "smoke".to_owned()),
                broken: false,
            });
        }
    }
    write(store, suite, &wanted, until, days).await
}

/// Makes a run for each commit of a suite from version control; from `broke_at` on its tests of that name fail.
///
/// # Errors
/// If the suite was not added, or PostgreSQL does not answer.
pub async fn make_of_commits(
    store: &Store,
    suite: &Suite,
    commits: &[PastCommit],
    broke_at: Option<usize>,
    until: DateTime<Utc>,
    days: u32,
) -> Result<u32, String> {
    let each = |(n, commit): (usize, &PastCommit)| Wanted {
        at: commit.at + TimeDelta::minutes(2),
        options: RunOptions { retries: Some(1), ..RunOptions::default() },
        branch: Some("main".to_owned()),
        commit: Some(commit.hash.clone()),
        brief: Some("push".to_owned()),
        broken: broke_at.is_some_and(|broke| n >= broke),
    };
    let wanted: Vec<Wanted> = commits.iter().enumerate().map(each).filter(|w| w.at < until).collect();
    write(store, suite, &wanted, until, days).await
}

async fn write(
    store: &Store,
    suite: &Suite,
    wanted: &[Wanted],
    until: DateTime<Utc>,
    days: u32,
) -> Result<u32, String> {
    let slug = suite.file.suite.as_str();
    let row = store.suite(slug).await.map_err(|e| e.to_string())?;
    let row = row.ok_or_else(|| format!("{slug} is not there: add it with `kesmo suite add`"))?;
    let begins = until - TimeDelta::days(i64::from(days));
    let told = quay::characters(slug, f64::from(days));
    let mut made = 0;
    for one in wanted {
        let lists = vec![(Variant::default(), suite.tests.clone())];
        let plan = Plan::make(&suite.file, &one.options, &lists, &[], |_, _| None).map_err(|e| e.to_string())?;
        let of_entries: Vec<Character> = plan
            .entries
            .iter()
            .map(|entry| {
                let listed = suite.tests.iter().find(|t| t.name == entry.name).and_then(|t| t.seconds);
                let listed = listed.map(|seconds| Span((seconds * 1e6) as u64));
                let name = entry.name.as_str();
                let mut character = told.get(name).cloned().unwrap_or_else(|| quay::usual(slug, name, listed));
                if one.broken && name.ends_with("/late") {
                    character.broken = vec![(f64::NEG_INFINITY, f64::INFINITY)];
                    let harbour = name.split('/').nth(1).unwrap_or_default();
                    character.says = format!("said '{harbour}: on time'");
                }
                character
            })
            .collect();
        let at =
            Moment { day: (one.at - begins).num_minutes() as f64 / 1440.0, hour: one.at.hour(), days: f64::from(days) };
        let seed = one.at.timestamp().unsigned_abs() ^ (slug.len() as u64) << 40;
        let policy = Policy::of(&suite.file, &one.options, seed, Some(FLEET.start));
        let characters: Vec<&Character> = of_entries.iter().collect();
        let run = past_run(&plan, policy, &characters, at, FLEET, seed);
        let new = new_run(row.id, &row.source, one, seed);
        let key = format!("made\u{1}{slug}\u{1}{}", one.at.timestamp());
        let rows = rows(&run, one.at, &of_entries, suite, plan.listed);
        let (_, fresh) = store.import(&key, &new, rows).await.map_err(|e| e.to_string())?;
        made += u32::from(fresh);
    }
    Ok(made)
}

fn new_run(suite_id: i64, source: &str, one: &Wanted, seed: u64) -> NewRun {
    let labels: BTreeMap<String, String> = [(LABEL.0.to_owned(), LABEL.1.to_owned())].into();
    NewRun {
        suite_id,
        source: Some(source.to_owned()),
        branch: one.branch.clone(),
        commit: one.commit.clone(),
        pool: "main".to_owned(),
        options: RunOptions { labels, ..one.options.clone() },
        seed: (seed >> 1) as i64,
        started_by: BY.to_owned(),
        origin: Origin { brief: one.brief.clone(), ..Origin::default() },
        at: Some(one.at),
        ..NewRun::default()
    }
}

/// The rows of a made run, as a service would have written them.
fn rows(run: &PastRun, made_at: DateTime<Utc>, characters: &[Character], suite: &Suite, listed: usize) -> Commit {
    let month = month_of(made_at);
    let began = made_at + TimeDelta::milliseconds(400);
    let at = |since: Span| began + TimeDelta::microseconds(i64::try_from(since.0).unwrap_or(0));
    let place = |slot: u32| {
        let worker = WORKERS[(slot / FLEET.of_worker) as usize % WORKERS.len()];
        (worker.to_owned(), (slot % FLEET.of_worker) as u16)
    };
    let busy = FLEET.of_worker;
    let mut strip = String::new();
    let mut commit = Commit::default();
    for (grant, since) in &run.batches {
        let (worker, slot) = place(grant.worker.0);
        let entries = grant.entries.clone();
        commit.batches.push(NewBatch {
            run_id: 0,
            number: grant.batch.0,
            worker,
            slot,
            entries,
            granted_at: at(*since),
        });
        commit.over.push((0, grant.batch.0));
    }
    for attempt in &run.attempts {
        let kept = attempt.kept;
        if let Some(outcome) = kept.decided {
            strip.push(letter(outcome));
        }
        let (worker, slot) = place(kept.worker.0);
        let failed = kept.ended == Ended::Failed;
        let message = if failed { characters[kept.entry as usize].says.clone() } else { String::new() };
        commit.attempts.push(NewAttempt {
            month,
            run_id: 0,
            entry: kept.entry,
            number: kept.number,
            batch: kept.batch.0,
            worker,
            slot,
            began_at: at(attempt.began),
            spent_us: kept.spent.0,
            ended: kept.ended,
            decided: kept.decided,
            message,
            detail: String::new(),
            steps: Vec::<u8>::new().into(),
            log: String::new(),
            log_blob: None,
            log_bytes: 0,
            busy,
            of_slots: FLEET.of_worker,
            expected_us: None,
            itself: kept.itself,
        });
    }
    let key = format!("made-{}-{}", suite.file.suite.as_str(), suite.tests.len());
    commit.notes.push((0, "This run was made by the simulation: nothing was carried out.".to_owned()));
    commit.listings.push((key.clone(), Arc::new(suite.tests.clone())));
    commit.runs.push(RunChange {
        run_id: 0,
        phase: Phase::Finished,
        verdict: Some(run.verdict),
        reason: run.reason.clone(),
        listings: vec![key],
        listed: u32::try_from(listed).unwrap_or(u32::MAX),
        tally: run.tally,
        stats: run.stats,
        strip: thin(&strip, STRIP),
        began_at: Some(began),
        finished_at: Some(at(run.took)),
        images: None,
    });
    commit
}
