//! What runs measured: of one run over time, and of a suite over its runs.

use std::collections::BTreeMap;

use chrono::DateTime;
use kesmo_core::{measure::Stat, words::Verdict};
use kesmo_floor::Ask;
use kesmo_wire::api::{MeasureOf, MeasureOfSuite, MeasuredRun, MeasuresOf};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{body::Answer, found::find};
use crate::{access::MaySee, app::App, lookup::named, refused::Refused};

/// Runs of a suite that are looked at.
const MOST_RUNS: i64 = 100;

pub(super) fn routes() -> Vec<Route> {
    routes![of_run, of_suite]
}

/// What a run measured, or has measured so far, in all and over time.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/measures", operation_id = "measures", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = MeasuresOf)))]
#[get("/api/runs/<suite>/<number>/measures")]
async fn of_run(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<MeasuresOf> {
    let row = find(app, suite, number).await?;
    if let Some(measured) = app.floor.ask(|reply| Ask::Measures(row.id, reply)).await.flatten() {
        return Ok(Json(measured));
    }
    Ok(Json(kept(app, row.id).await?))
}

/// What a run that is over measured.
pub(super) async fn kept(app: &App, run: i64) -> Result<MeasuresOf, Refused> {
    let mut found = MeasuresOf::default();
    for row in app.store.measures_of(run).await? {
        found.begins_at = DateTime::from_timestamp(row.first, 0);
        found.measures.push(MeasureOf::from(&row.measure()?));
    }
    Ok(found)
}

/// The measures of a suite over its last runs, those of the same choice and environment as the latest that measured something.
#[utoipa::path(get, path = "/api/suites/{suite}/measures", operation_id = "measures_of_suite", params(("suite" = String, Path)),
    tag = "suites", responses((status = 200, body = [MeasureOfSuite]), (status = 404)))]
#[get("/api/suites/<suite>/measures")]
async fn of_suite(app: &State<App>, _caller: MaySee, suite: &str) -> Answer<Vec<MeasureOfSuite>> {
    let row = named(app, suite).await?;
    let ids = app.store.measuring_runs(row.id, MOST_RUNS).await?;
    let mut runs = app.store.runs_of(&ids).await?;
    runs.sort_by_key(|(run, _)| run.id);
    let Some((latest, _)) = runs.last() else { return Ok(Json(Vec::new())) };
    let alike = latest.run_options()?.alike();
    runs.retain(|(run, _)| run.run_options().is_ok_and(|options| options.alike().key == alike.key));
    let ids: Vec<i64> = runs.iter().map(|(run, _)| run.id).collect();
    let by_id: BTreeMap<i64, _> = runs.iter().map(|(run, _)| (run.id, run)).collect();
    let mut all: BTreeMap<String, MeasureOfSuite> = BTreeMap::new();
    for row in app.store.measures_of_all(&ids).await? {
        let Some(run) = by_id.get(&row.run_id) else { continue };
        let measure = row.measure()?;
        let counts = measure.spread.counts;
        let fresh = || MeasureOfSuite {
            name: measure.name.clone(),
            unit: measure.unit.clone(),
            choice: alike.said.clone(),
            runs: Vec::new(),
        };
        all.entry(measure.name.clone()).or_insert_with(fresh).runs.push(MeasuredRun {
            run: format!("{suite}/{}", run.number),
            verdict: run.verdict.as_deref().and_then(Verdict::of),
            at: run.finished_at.unwrap_or(run.created_at),
            count: counts.count,
            errors: counts.errors,
            rate: measure.stat(Stat::Rate),
            mean: counts.mean(),
            p50: measure.stat(Stat::P50),
            p95: measure.stat(Stat::P95),
            max: counts.max,
        });
    }
    Ok(Json(all.into_values().collect()))
}
