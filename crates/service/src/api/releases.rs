//! All runs with a label as one: what passed, what still fails, what never ran.

use std::collections::{BTreeMap, BTreeSet};

use kesmo_core::words::{Outcome, Verdict};
use kesmo_floor::summary::summary_of_row;
use kesmo_store::{
    month_of,
    releases::LabelledTest,
    results::Among,
    runs::{Filter, RunRow},
};
use kesmo_wire::api::{Release, ReleaseSuite, ReleaseTest, ReleaseVariant, RunSummary};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{body::Answer, failing::have_results};
use crate::{access::MaySee, app::App, refused::Refused};

/// Runs of a release, and tests of each kind that are named.
const MOST_RUNS: i64 = 2000;
const MOST_NAMED: usize = 200;

pub(super) fn routes() -> Vec<Route> {
    routes![release]
}

/// All runs with a label as one, by suite: of each test the latest outcome that counts in any of them. `label` is `key=value`, and
/// may be several joined by commas.
#[utoipa::path(get, path = "/api/release", operation_id = "release", tag = "runs", params(("label" = String, Query)),
    responses((status = 200, body = Release), (status = 404, description = "there is no such run")))]
#[get("/api/release?<label>")]
async fn release(app: &State<App>, _caller: MaySee, label: &str) -> Answer<Release> {
    let labels = super::runs::labels_of(Some(label))?;
    let filter = Filter { labels: labels.clone(), limit: MOST_RUNS, ..Filter::default() };
    let rows: Vec<(RunRow, String)> =
        app.store.runs(&filter).await?.into_iter().filter(|(row, _)| row.labels.get("hunt").is_none()).collect();
    if rows.is_empty() {
        return Err(Refused::not_found(format!("there is no run with the label {label}")));
    }
    app.floor.recorded().await;
    for (row, suite) in &rows {
        if row.phase == "finished" {
            have_results(app, row, suite).await?;
        }
    }
    let tests = app.store.labelled_tests(&labels).await?;
    let active = app.summaries().await;
    let mut by_suite: BTreeMap<String, Vec<RunRow>> = BTreeMap::new();
    for (row, suite) in rows {
        by_suite.entry(suite).or_default().push(row);
    }
    let mut suites = Vec::new();
    for (suite, rows) in &by_suite {
        let own: Vec<&LabelledTest> = tests.iter().filter(|t| t.suite_id == rows[0].suite_id).collect();
        let missing = missing(app, rows, &own).await?;
        let summary = |row: &RunRow| active.get(&row.id).cloned().unwrap_or_else(|| summary_of_row(row, suite));
        let mut beside = BTreeSet::new();
        for row in rows.iter().filter(|row| row.verdict.as_deref().and_then(Verdict::of) == Some(Verdict::Failed)) {
            let told = summary(row);
            let by_flaky = row.run_options()?.flaky_fails && told.tally.flaky > 0;
            if told.tally.failed == 0 || by_flaky || !app.store.wrongs(row.id).await?.is_empty() {
                beside.insert(told.name);
            }
        }
        suites.push(of_suite(suite, rows.iter().map(summary).collect(), &own, missing, &beside));
    }
    let all = app.store.suites().await?;
    let without = all.into_iter().map(|s| s.slug).filter(|slug| !by_suite.contains_key(slug)).collect();
    let open = suites.iter().any(|s| s.verdict.is_none());
    let verdict = suites.iter().filter_map(|s| s.verdict).max_by_key(|v| v.severity()).filter(|_| !open);
    Ok(Json(Release { label: label.to_owned(), verdict, suites, without }))
}

/// The tests that the suite's latest whole run had, and no run of the release.
async fn missing(app: &App, rows: &[RunRow], own: &[&LabelledTest]) -> Result<Vec<(String, String)>, Refused> {
    let whole = kesmo_core::plan::RunOptions::default().alike().key;
    let among = Among { suite_id: rows[0].suite_id, before: i64::MAX, branch: None, until: None, most: 1000 };
    let found = app.store.comparable(among).await?;
    let Some(latest) = found.iter().find(|c| c.run_options().is_ok_and(|o| o.alike().key == whole)) else {
        return Ok(Vec::new());
    };
    let Some(row) = app.store.run_of(latest.id).await? else { return Ok(Vec::new()) };
    let had: BTreeSet<i64> = own.iter().map(|t| t.test_id).collect();
    let all = app.store.results_of(row.id, month_of(row.created_at)).await?;
    let ids: Vec<i64> = all.into_iter().map(|(test, _)| test).filter(|test| !had.contains(test)).collect();
    let mut names: Vec<(String, String)> = app.store.tests_of(&ids).await?.into_values().collect();
    names.sort();
    Ok(names)
}

fn of_suite(
    suite: &str,
    runs: Vec<RunSummary>,
    own: &[&LabelledTest],
    missing: Vec<(String, String)>,
    beside: &BTreeSet<String>,
) -> ReleaseSuite {
    let mut variants: BTreeMap<&str, ReleaseVariant> = BTreeMap::new();
    let (mut failing, mut never_run) = (Vec::new(), Vec::new());
    for test in own {
        let count = variants.entry(&test.variant).or_default();
        let told = || ReleaseTest {
            test: test.test.clone(),
            variant: test.variant.clone(),
            outcome: test.outcome(),
            run: format!("{suite}/{}", test.number),
            entry: test.entry.max(0) as u32,
            message: test.message.clone(),
        };
        match test.outcome() {
            Some(Outcome::Passed) => count.passed += 1,
            Some(Outcome::Flaky) => count.flaky += 1,
            Some(Outcome::Skipped) => count.skipped += 1,
            Some(_) => {
                count.failed += 1;
                failing.push(told());
            }
            None => {
                count.never_run += 1;
                never_run.push(told());
            }
        }
    }
    let nowhere = |(test, variant): (String, String)| ReleaseTest {
        test,
        variant,
        outcome: None,
        run: String::new(),
        entry: 0,
        message: String::new(),
    };
    never_run.extend(missing.into_iter().map(nowhere));
    let (verdict, reason) = verdict_of(&runs, &variants.values().cloned().collect::<Vec<_>>(), beside);
    let (failing_total, never_run_total) = (failing.len() as u32, never_run.len() as u32);
    failing.truncate(MOST_NAMED);
    never_run.truncate(MOST_NAMED);
    let named = |(variant, count): (&str, ReleaseVariant)| ReleaseVariant { variant: variant.to_owned(), ..count };
    ReleaseSuite {
        suite: suite.to_owned(),
        verdict,
        reason,
        variants: variants.into_iter().map(named).collect(),
        failing,
        failing_total,
        never_run,
        never_run_total,
        runs,
    }
}

/// What a suite's runs of a release come to. Of runs that chose the same tests the latest counts, for what its tests do not say:
/// that it was void, was stopped, or failed by something beside them (`beside`, by name).
fn verdict_of(
    runs: &[RunSummary],
    variants: &[ReleaseVariant],
    beside: &BTreeSet<String>,
) -> (Option<Verdict>, String) {
    if let Some(open) = runs.iter().find(|r| r.verdict.is_none()) {
        return (None, format!("{} is not over yet", open.name));
    }
    if variants.iter().any(|v| v.failed > 0) {
        return (Some(Verdict::Failed), String::new());
    }
    let mut seen: BTreeSet<&str> = BTreeSet::new();
    let latest: Vec<&RunSummary> = runs.iter().filter(|r| seen.insert(&r.alike.key)).collect();
    let of = |verdict: Verdict| latest.iter().find(|r| r.verdict == Some(verdict)).copied();
    let said = |run: &RunSummary| format!("{}: {}", run.name, run.reason);
    // Its tests that failed passed later: only what failed it beside them still counts.
    if let Some(run) = latest.iter().find(|r| beside.contains(&r.name)) {
        return (Some(Verdict::Failed), said(run));
    }
    if let Some(run) = of(Verdict::Void) {
        return (Some(Verdict::Void), said(run));
    }
    if let Some(run) = of(Verdict::Stopped).filter(|_| variants.iter().any(|v| v.never_run > 0)) {
        return (Some(Verdict::Stopped), said(run));
    }
    if variants.iter().any(|v| v.passed + v.flaky > 0) {
        return (Some(Verdict::Passed), String::new());
    }
    (Some(Verdict::Void), "no test of it came to run".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(number: u32, key: &str, verdict: Option<Verdict>, failed: u32) -> RunSummary {
        let row = serde_json::json!({
            "name": format!("gate/{number}"), "suite": "gate", "number": number, "phase": "finished", "verdict": verdict,
            "reason": "why", "waiting_for": null, "tally": {}, "stats": {}, "labels": {}, "pool": "main", "started_by": "asta",
            "created_at": "2026-11-01T00:00:00Z", "began_at": null, "finished_at": null, "left": null, "strip": "", "slots": 0,
        });
        let defaults = serde_json::to_value(kesmo_core::run::Tally { failed, ..Default::default() }).expect("counts");
        let stats = serde_json::to_value(kesmo_core::run::AttemptStats::default()).expect("figures");
        let mut row = row;
        (row["tally"], row["stats"]) = (defaults, stats);
        let mut run: RunSummary = serde_json::from_value(row).expect("a run");
        run.alike.key = key.to_owned();
        run
    }

    fn counts(passed: u32, failed: u32, never_run: u32) -> Vec<ReleaseVariant> {
        vec![ReleaseVariant { passed, failed, never_run, ..ReleaseVariant::default() }]
    }

    #[test]
    fn what_was_mended_by_a_later_run_does_not_fail_the_whole() {
        use Verdict::{Failed, Passed, Stopped, Void};
        let of = |runs: &[RunSummary], counts: &[ReleaseVariant]| {
            let bare = runs.iter().filter(|r| r.verdict == Some(Failed) && r.tally.failed == 0);
            verdict_of(runs, counts, &bare.map(|r| r.name.clone()).collect()).0
        };
        // The second run was of what had failed alone.
        let mended = [run(2, "some", Some(Passed), 0), run(1, "all", Some(Failed), 3)];
        assert_eq!(of(&mended, &counts(9, 0, 0)), Some(Passed));
        assert_eq!(of(&mended, &counts(9, 1, 0)), Some(Failed));
        let beside = [run(2, "some", Some(Passed), 0), run(1, "all", Some(Failed), 0)];
        assert_eq!(of(&beside, &counts(9, 0, 0)), Some(Failed), "a process that ended badly is not mended by a test");
        let again = [run(2, "all", Some(Passed), 0), run(1, "all", Some(Failed), 0)];
        assert_eq!(of(&again, &counts(9, 0, 0)), Some(Passed));
        assert_eq!(of(&[run(1, "all", Some(Void), 0)], &counts(0, 0, 0)), Some(Void));
        let stopped = [run(1, "all", Some(Stopped), 0)];
        assert_eq!(of(&stopped, &counts(4, 0, 5)), Some(Stopped));
        assert_eq!(of(&stopped, &counts(9, 0, 0)), Some(Passed), "what was left came to run elsewhere");
        assert_eq!(of(&[run(1, "all", Some(Passed), 0)], &[]), Some(Void), "nothing came to run");
        let (open, why) =
            verdict_of(&[run(2, "all", None, 0), run(1, "all", Some(Failed), 1)], &counts(0, 1, 0), &BTreeSet::new());
        // One whose process ended badly, besides tests that failed and passed later.
        let both = ["gate/1".to_owned()].into();
        assert_eq!(verdict_of(&mended, &counts(9, 0, 0), &both).0, Some(Failed));
        assert_eq!((open, why.as_str()), (None, "gate/2 is not over yet"));
    }
}
