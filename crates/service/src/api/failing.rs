//! Tests that fail now; and runs that are over and were not told to the records, because the service ended before.

use std::time::Duration;

use kesmo_core::{name::did_you_mean, time::Span, words::Verdict};
use kesmo_floor::{Ask, Counts, ToRecord, Told, results_of, said_to_cover, together};
use kesmo_store::{failing::FailingTest as Row, runs::RunRow};
use kesmo_wire::api::{FailingTest, FailingTests, ForgottenBranch};
use rocket::{Route, State, delete, get, routes, serde::json::Json};
use tokio::sync::watch;

use super::{body::Answer, found::past};
use crate::{
    access::{MayOperate, MaySee},
    app::App,
    lookup::{named, suites_of},
    refused::Refused,
};

/// Tests that are listed.
const MOST: i64 = 1000;
/// Runs that are over for so long are told to the records here, if nobody else did.
const FORGOTTEN_AFTER: chrono::TimeDelta = chrono::TimeDelta::seconds(15);
/// They are looked for so often, and so many are told at a time.
const EVERY: Duration = Duration::from_secs(5);
const TOGETHER: i64 = 20;

pub(super) fn routes() -> Vec<Route> {
    routes![all, of_suite, forget]
}

fn told(row: Row) -> FailingTest {
    FailingTest {
        since: format!("{}/{}", row.suite, row.since_number),
        last: format!("{}/{}", row.suite, row.last_number),
        suite: row.suite,
        test: row.test,
        variant: row.variant,
        branch: (!row.branch.is_empty()).then_some(row.branch),
        pool: row.pool,
        since_at: row.since_at,
        since_commit: row.since_commit,
        passes_before: u32::try_from(row.passes_before).unwrap_or(0),
        last_at: row.last_at,
        entry: u32::try_from(row.entry).unwrap_or(0),
        runs: u32::try_from(row.runs).unwrap_or(0),
        message: row.message,
    }
}

/// The tests of all suites that fail now: whose latest outcome that counts is failed.
#[utoipa::path(get, path = "/api/failing", operation_id = "failing", tag = "suites", responses((status = 200, body = FailingTests)))]
#[get("/api/failing")]
async fn all(app: &State<App>, caller: MaySee) -> Answer<FailingTests> {
    app.floor.recorded().await;
    let seen = suites_of(app, &caller.0).await?;
    let seen: Option<Vec<i64>> = seen.map(|suites| suites.into_iter().map(|suite| suite.id).collect());
    let is_seen = |suite: &i64| seen.as_ref().is_none_or(|seen| seen.contains(suite));
    let tests: Vec<FailingTest> = app.store.failing(seen.as_deref(), MOST).await?.into_iter().map(told).collect();
    let counts = app.store.failing_counts().await?;
    let seen = counts.iter().filter(|(suite, _)| is_seen(suite));
    let total = seen.fold(0u32, |sum, (_, count)| sum.saturating_add(*count));
    Ok(Json(FailingTests { total: total.max(tests.len() as u32), tests }))
}

/// The tests of a suite that fail now: whose latest outcome that counts is failed.
#[utoipa::path(get, path = "/api/suites/{suite}/failing", operation_id = "failing_of_suite", params(("suite" = String, Path)),
    tag = "suites", responses((status = 200, body = FailingTests), (status = 404)))]
#[get("/api/suites/<suite>/failing")]
async fn of_suite(app: &State<App>, _caller: MaySee, suite: &str) -> Answer<FailingTests> {
    let row = named(app, suite).await?;
    app.floor.recorded_of(Some(row.id)).await;
    let tests: Vec<FailingTest> = app.store.failing(Some(&[row.id]), MOST).await?.into_iter().map(told).collect();
    let total = app.store.failing_counts().await?.get(&row.id).copied().unwrap_or(0);
    Ok(Json(FailingTests { total: total.max(tests.len() as u32), tests }))
}

/// A branch is gone: what failed on it fails no more. Of a suite from version control it must be gone there.
#[utoipa::path(delete, path = "/api/suites/{suite}/failing", operation_id = "forget_failing", tag = "suites",
    params(("suite" = String, Path), ("branch" = String, Query)), responses((status = 200, body = ForgottenBranch), (status = 404), (status = 409)))]
#[delete("/api/suites/<suite>/failing?<branch>")]
async fn forget(app: &State<App>, _caller: MayOperate, suite: &str, branch: &str) -> Answer<ForgottenBranch> {
    let row = named(app, suite).await?;
    app.floor.recorded_of(Some(row.id)).await;
    if let Some(source) = row.git_source()? {
        let heads = app.git.heads(&source.url).await.map_err(|e| Refused::unavailable(e.to_string()))?;
        if heads.iter().any(|(name, _)| name == branch) {
            return Err(Refused::conflict(format!(
                "the branch {branch} of {suite} is still there: what fails on it is cleared by a run that passes"
            )));
        }
    }
    if branch.is_empty() {
        return Err(Refused::invalid("name the branch that is gone: --branch BRANCH --gone"));
    }
    let tests = app.store.forget_failing(row.id, branch).await?;
    if tests == 0 {
        let fails: Vec<Row> = app.store.failing(Some(&[row.id]), MOST).await?;
        let mut branches: Vec<&str> = fails.iter().map(|f| f.branch.as_str()).filter(|b| !b.is_empty()).collect();
        branches.sort_unstable();
        branches.dedup();
        let hint = did_you_mean(branch, branches);
        return Err(Refused::not_found(format!("no test of {suite} fails on the branch {branch:?} now{hint}")));
    }
    Ok(Json(ForgottenBranch { tests: tests as u32 }))
}

/// Tells the records of runs whose service ended before it did, until `ending` turns true.
pub async fn keep_up(app: App, mut ending: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = ending.wait_for(|ending| *ending) => return,
        }
        if let Err(e) = catch_up(&app).await {
            tracing::warn!("runs that are over are recorded later: {}", e.1.message);
        }
    }
}

async fn catch_up(app: &App) -> Result<(), Refused> {
    loop {
        let ids = forgotten(app).await?;
        for (row, suite) in app.store.runs_of(&ids).await? {
            let name = format!("{suite}/{}", row.number);
            tracing::info!(run = name, "a run that was over is recorded now");
            let record = read(app, &row, name.clone()).await?;
            app.floor.ask(|reply| Ask::Imported(Box::new(record), reply)).await;
        }
        app.floor.recorded().await;
        // Where PostgreSQL refuses what is written, the same would come again and again.
        let left = forgotten(app).await?;
        if left.is_empty() || left == ids {
            break;
        }
    }
    older(app).await
}

/// Runs that nobody records who began to: what this service does it may do for long.
async fn forgotten(app: &App) -> Result<Vec<i64>, Refused> {
    let mut ids = app.store.unrecorded(chrono::Utc::now() - FORGOTTEN_AFTER, TOGETHER).await?;
    ids.retain(|run| !app.floor.is_being_recorded(*run));
    Ok(ids)
}

/// Makes results of runs of which they are still to be kept, some at a time.
async fn older(app: &App) -> Result<(), Refused> {
    let mut ids = app.store.older_runs(chrono::Utc::now() - FORGOTTEN_AFTER, TOGETHER).await?;
    ids.retain(|run| !app.floor.is_being_recorded(*run));
    for (row, suite) in app.store.runs_of(&ids).await? {
        keep_older(app, &row, &suite).await?;
    }
    Ok(())
}

/// Sees to it that what a run that is over says of its tests is there: also if it was over before that was kept, or if the service
/// that carried it out ended before it recorded it.
pub(super) async fn have_results(app: &App, row: &RunRow, suite: &str) -> Result<(), Refused> {
    // Whoever asks waits for it.
    let _hurry = app.store.hurry();
    if app.floor.is_being_recorded(row.id) {
        app.floor.recorded_of(Some(row.suite_id)).await;
    }
    if app.store.is_older(row.id).await? {
        return keep_older(app, row, suite).await;
    }
    if app.store.is_unrecorded(row.id).await? {
        let record = read(app, row, format!("{suite}/{}", row.number)).await?;
        app.floor.ask(|reply| Ask::Imported(Box::new(record), reply)).await;
        app.floor.recorded_of(Some(row.suite_id)).await;
    }
    Ok(())
}

/// Makes the results of a run of which they are still to be kept.
async fn keep_older(app: &App, row: &RunRow, suite: &str) -> Result<(), Refused> {
    let record = read(app, row, format!("{suite}/{}", row.number)).await?;
    Ok(app.store.put_older(row.suite_id, &results_of(&record)).await?)
}

/// What a run that is over tells, or nothing, if what is kept of it cannot be read: it could not be the next time either, and
/// the others are not to wait for it.
async fn read(app: &App, row: &RunRow, name: String) -> Result<ToRecord, Refused> {
    match to_record(app, row, name.clone()).await {
        Err(e) if !e.is_ours() => {
            tracing::error!(run = name, "what its tests did is not recorded: {}", e.1.message);
            Ok(nothing(row, name))
        }
        told => told,
    }
}

fn nothing(row: &RunRow, run: String) -> ToRecord {
    ToRecord {
        suite: row.suite_id,
        pool: row.pool.clone(),
        id: row.id,
        run,
        made: row.created_at,
        branch: row.branch.clone().unwrap_or_default(),
        counts: Counts::default(),
        outcomes: Vec::new(),
        covers: Vec::new(),
        start_cost: None,
    }
}

/// What a run that is over tells of its tests, from what is kept.
async fn to_record(app: &App, row: &RunRow, run: String) -> Result<ToRecord, Refused> {
    let past = past(app, row).await?;
    let verdict = row.verdict.as_deref().and_then(Verdict::of).unwrap_or(Verdict::Void);
    let imported = row.origin()?.kind == kesmo_core::plan::brief::OriginKind::Imported;
    let outcome = |index: u32| past.states.get(index as usize).map(|state| state.0);
    let counts = Counts::of(&row.run_options()?, imported, verdict, &past.plan, outcome);
    let told = |(index, state): (usize, &(kesmo_core::words::Outcome, u16, u64))| Told {
        test: past.plan.entries[index].name.to_string(),
        variant: past.plan.variant_of(index as u32).to_string(),
        entry: index as u32,
        first: index as u32,
        parts: 1,
        outcome: state.0,
        attempts: u32::from(state.1),
        last: Span(state.2),
        retried: Span(past.retried[index]),
        // Whether it was by itself on its machine is not known any more.
        spent: None,
    };
    let covers = said_to_cover(&past.plan);
    let outcomes = together(&past.plan, past.states.iter().enumerate().map(told).collect());
    Ok(ToRecord { counts, covers, outcomes, ..nothing(row, run) })
}
