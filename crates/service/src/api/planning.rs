//! Before a run: the tests that it would run, portions of them, how long it would take, and the place where
//! CI jobs meet.

use std::collections::BTreeMap;

use chrono::Utc;
use kesmo_core::{
    name::shorten,
    plan::{
        At, Known, Plan, RunOptions,
        brief::Brief,
        portion::{Portion, portions},
    },
    run::Policy,
    suite::{ListedTest, SuiteFile, Variant},
    time::Span,
};
use kesmo_store::{
    records::{Expected, Records},
    suites::SuiteRow,
};
use kesmo_wire::{
    api::{Forecast, ForecastPoint, ForecastQuery, Meet, Met, PortionOf, PortionQuery, TestLine, Tests, TestsQuery},
    link::Setup,
};
use rocket::{Route, State, post, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    runs::{check_new, detail_of_row, hand_over},
};
use crate::{
    access::{MayOperate, MaySee},
    app::App,
    lookup::{DEFAULT_POOL, named, suite_file},
    refused::Refused,
};
use kesmo_floor::{ListAsk, history};

pub(super) fn routes() -> Vec<Route> {
    routes![chosen, portion, forecast, meet]
}

/// A forecast waits at most so long for those before it.
const FORECAST_WAITS: std::time::Duration = std::time::Duration::from_secs(20);
/// The key of a run that was over for longer is refused: whoever comes with it so late means another run.
const KEY_LASTS: chrono::TimeDelta = chrono::TimeDelta::hours(6);
/// The longest key.
const LONGEST_KEY: usize = 200;
/// Numbers of shards that one forecast may ask for.
const MOST_POINTS: usize = 64;

/// What a run of these options would be made from.
struct Planned {
    row: SuiteRow,
    file: SuiteFile,
    lists: Vec<(Variant, Vec<ListedTest>)>,
    records: Records,
    plan: Plan,
}

pub(super) fn invalid(error: kesmo_core::Error) -> Refused {
    Refused::invalid(error.to_string())
}

/// Why a brief would run nothing, as far as that is known without asking a worker: nothing matches its pick, or all that
/// does is parked.
pub(crate) async fn nothing_to_run(app: &App, row: &SuiteRow, brief: &Brief) -> Option<String> {
    let (_, file) = suite_file(app, &row.source).await.ok()?;
    let options = &brief.options;
    let file = file.in_image(options.image.as_deref());
    let setup = setup(&file, &row.source, options).ok()?;
    let mut lists = Vec::new();
    for variant in file.facets.chosen(&options.variants).ok()? {
        let ask = ListAsk::new(&file, &row.source, DEFAULT_POOL, &variant, &setup);
        lists.push((variant, app.store.listing(&ask.key).await.ok()??));
    }
    let today = Utc::now().date_naive();
    let pool = brief.pool.as_deref().unwrap_or(DEFAULT_POOL);
    let at = At { env: options.env.as_deref(), pool, branch: brief.branch.as_deref() };
    let parks = app.store.parks_at(row.id, today, at).await.ok()?;
    match Plan::make(&file, options, &lists, &parks, |_, _| None) {
        Err(e) => Some(e.to_string()),
        Ok(plan) if plan.parked() == plan.entries.len() => {
            let park = plan.parks.first();
            let until = park.map_or_else(String::new, |p| format!(" (until {}: {})", p.until, p.why));
            let count = plan.entries.len();
            let all = if count == 1 {
                "the only test that it picks".into()
            } else {
                format!("all {count} tests that it picks")
            };
            Some(format!("{all} {} parked{until}: its runs would be void", if count == 1 { "is" } else { "are" }))
        }
        Ok(_) => None,
    }
}

/// The setup of listing.
fn setup(file: &SuiteFile, bundle: &str, options: &RunOptions) -> Result<Setup, Refused> {
    Ok(Setup {
        run: String::new(),
        bundle: bundle.to_owned(),
        variant: Vec::new(),
        settings: file.settings_with(&options.set).map_err(invalid)?,
        env: file.environment(options.env.as_deref()).map_err(invalid)?,
        seed: 0,
        branch: None,
        commit: None,
        image: file.container.as_ref().map(|container| container.from.clone()),
        images: options.images.clone(),
        reach: Vec::new(),
        secrets: Vec::new(),
    })
}

/// Plans a run without starting it. Waits for a worker to list tests that are not known.
async fn plan(
    app: &App,
    suite: &str,
    bundle: Option<&str>,
    pool: &str,
    options: &RunOptions,
) -> Result<Planned, Refused> {
    let row = named(app, suite).await?;
    let bundle = bundle.unwrap_or(&row.source).to_owned();
    let (_, file) = suite_file(app, &bundle).await?;
    let file = file.in_image(options.image.as_deref());
    options.check(&file).map_err(invalid)?;
    let lists = listed(app, &file, &bundle, pool, options).await?;
    let records = app.store.records(row.id, pool).await?;
    let today = Utc::now().date_naive();
    let at = At { env: options.env.as_deref(), pool, branch: None };
    let parks = app.store.parks_at(row.id, today, at).await?;
    let of_records = records.iter().map(|(key, record)| (key.clone(), Known::of(record))).collect();
    let plan = Plan::make(&file, options, &lists, &parks, history(of_records)).map_err(invalid)?;
    Ok(Planned { row, file, lists, records, plan })
}

/// The tests of the chosen variants.
pub(super) async fn listed(
    app: &App,
    file: &SuiteFile,
    bundle: &str,
    pool: &str,
    options: &RunOptions,
) -> Result<Vec<(Variant, Vec<ListedTest>)>, Refused> {
    let secrets =
        kesmo_floor::secrets_of(&app.store, file, file.suite.as_str(), None).await.map_err(Refused::invalid)?;
    let setup = Setup { secrets, ..setup(file, bundle, options)? };
    let mut lists = Vec::new();
    for variant in file.facets.chosen(&options.variants).map_err(invalid)? {
        let ask = ListAsk::new(file, bundle, pool, &variant, &setup);
        lists.push((variant, app.floor.list(ask).await.map_err(Refused::invalid)?));
    }
    Ok(lists)
}

/// The tests that a pick would run, with expected time and record. Waits for a worker to list them where they are not known.
#[utoipa::path(post, path = "/api/suites/{suite}/tests", operation_id = "tests", params(("suite" = String, Path)), request_body = TestsQuery, tag = "suites",
    responses((status = 200, body = Tests), (status = 422)))]
#[post("/api/suites/<suite>/tests", data = "<query>")]
async fn chosen(app: &State<App>, _caller: MaySee, suite: &str, query: Sent<TestsQuery>) -> Answer<Tests> {
    let query = body(query)?;
    let Planned { row, lists, records, plan, .. } =
        plan(app, suite, query.bundle.as_deref(), DEFAULT_POOL, &query.options).await?;
    let tags: BTreeMap<&str, &[String]> =
        lists.iter().flat_map(|l| &l.1).map(|t| (t.name.as_str(), t.tags.as_slice())).collect();
    let line = |index: u32| {
        let entry = &plan.entries[index as usize];
        let variant = plan.variant_of(index).to_string();
        let record = records.get(&(entry.name.to_string(), variant.clone())).cloned().unwrap_or_default();
        TestLine {
            name: entry.name.to_string(),
            variant,
            tags: tags.get(entry.name.as_str()).map(|t| t.to_vec()).unwrap_or_default(),
            expected_us: entry.expected.map(|s| s.0),
            retries: u32::from(entry.retries),
            retries_from: entry.retries_from,
            passed: record.passed,
            flaky: record.flaky,
            failed: record.failed,
            skipped: record.skipped,
            last: record.last,
            parked: plan.park_of(index).map(|p| format!("until {}: {}", p.until, p.why)),
        }
    };
    let tests = (0..plan.entries.len() as u32).map(line).collect();
    let choice = plan.choice_said(&query.options);
    Ok(Json(Tests { suite: row.slug, listed: plan.listed as u32, choice, tests }))
}

/// A fixed share of a suite's tests: the same for everyone who names the same stamp or key.
#[utoipa::path(post, path = "/api/suites/{suite}/portion", params(("suite" = String, Path)), request_body = PortionQuery, tag = "suites",
    responses((status = 200, body = PortionOf), (status = 422)))]
#[post("/api/suites/<suite>/portion", data = "<query>")]
async fn portion(app: &State<App>, _caller: MayOperate, suite: &str, query: Sent<PortionQuery>) -> Answer<PortionOf> {
    let query = body(query)?;
    let Portion { number, of } = Portion::new(query.number, query.of).map_err(invalid)?;
    if query.stamp.is_some() && query.key.is_some() {
        return Err(Refused::invalid("--stamp and --key both say by which records to cut; keep one"));
    }
    if let Some(key) = &query.key {
        check_key(key)?;
    }
    let pool = query.pool.as_deref().unwrap_or(DEFAULT_POOL);
    let Planned { row, records, mut plan, .. } =
        plan(app, suite, query.bundle.as_deref(), pool, &query.options).await?;
    if plan.variants.len() > 1 {
        let all: Vec<String> = plan.variants.iter().map(ToString::to_string).collect();
        return Err(Refused::invalid(format!(
            "the suite {suite} has {} variants: choose one with --variant ({})",
            all.len(),
            all.join("; ")
        )));
    }
    let stamp = match (&query.key, query.stamp) {
        (Some(key), _) => app.store.stamp_of_key(row.id, key, row.stamp).await?,
        (None, Some(stamp)) => stamp,
        (None, None) => row.stamp,
    };
    let expected = at_stamp(app, &row, stamp, pool, &records).await?;
    for index in 0..plan.entries.len() {
        let key = format!("{}\t{}", plan.entries[index].name, plan.variant_of(index as u32));
        plan.entries[index].expected = expected.get(&key).map(|us| Span(*us));
    }
    let portions = portions(&plan, of);
    let usual = plan.entries.iter().filter_map(|e| e.expected).map(|s| s.0).sum::<u64>()
        / plan.entries.iter().filter(|e| e.expected.is_some()).count().max(1) as u64;
    let work = |p: &Vec<u32>| p.iter().map(|i| plan.entries[*i as usize].expected.map_or(usual, |s| s.0)).sum();
    let tests = portions[number as usize - 1].iter().map(|i| plan.entries[*i as usize].name.to_string()).collect();
    Ok(Json(PortionOf { number, of, stamp, tests, expected_us: portions.iter().map(work).collect() }))
}

/// What was expected at a stamp; the current one is kept when it is asked for first.
async fn at_stamp(app: &App, row: &SuiteRow, stamp: i64, pool: &str, records: &Records) -> Result<Expected, Refused> {
    if let Some(kept) = app.store.stamp(row.id, stamp, pool).await? {
        return Ok(kept);
    }
    if stamp != row.stamp {
        return Err(Refused::not_found(format!(
            "the stamp {stamp} is not kept for {} in the pool {pool}: the records are at {} now; jobs that must agree \
             name the same --key, or the --stamp that the first of them was told",
            row.slug, row.stamp
        )));
    }
    let known = records.iter().filter(|(_, r)| r.estimate.samples > 0);
    let expected = known.map(|((test, variant), r)| (format!("{test}\t{variant}"), r.estimate.expected().0)).collect();
    Ok(app.store.keep_stamp(row.id, stamp, pool, expected).await?)
}

/// How long a run would take, by number of shards.
#[utoipa::path(post, path = "/api/suites/{suite}/forecast", params(("suite" = String, Path)), request_body = ForecastQuery, tag = "suites",
    responses((status = 200, body = Forecast), (status = 422)))]
#[post("/api/suites/<suite>/forecast", data = "<query>")]
async fn forecast(app: &State<App>, _caller: MaySee, suite: &str, query: Sent<ForecastQuery>) -> Answer<Forecast> {
    let query = body(query)?;
    let mut shards: Vec<u32> = if query.shards.is_empty() { (1..=32).collect() } else { query.shards };
    shards.sort_unstable();
    shards.dedup();
    if shards.len() > MOST_POINTS || shards[0] == 0 || shards.last().is_some_and(|n| *n > 10_000) {
        return Err(Refused::invalid(format!(
            "a forecast is made for at most {MOST_POINTS} numbers of shards, each from 1 to 10000"
        )));
    }
    let pool = query.pool.as_deref().unwrap_or(DEFAULT_POOL);
    let Planned { row, file, records, plan, .. } =
        plan(app, suite, query.bundle.as_deref(), pool, &query.options).await?;
    if records.is_empty() && plan.entries.iter().all(|e| e.expected.is_none()) {
        return Err(Refused::conflict(format!(
            "nothing is known yet of how long the tests of {suite} take: run it once, `kesmo start {suite} --wait`"
        )));
    }
    let start_cost = row.start_cost_us.map(|us| Span(us as u64));
    let policy = Policy::of(&file, &query.options, 1, start_cost);
    let choice = plan.choice_said(&query.options);
    let measured = |i: &u32| {
        let key = (plan.entries[*i as usize].name.to_string(), plan.variant_of(*i).to_string());
        records.get(&key).is_some_and(|r| r.estimate.samples > 0)
    };
    let tests = plan.entries.len() as u32;
    let guessed = tests - (0..tests).filter(measured).count() as u32;
    // A forecast takes a thread for itself; who asks for one waits for those before, and not for ever.
    let turn = tokio::time::timeout(FORECAST_WAITS, app.thinking.acquire()).await;
    let _turn = turn.map_err(|_| Refused::unavailable("others have forecasts made now: try again soon"))?;
    let made = tokio::task::spawn_blocking(move || kesmo_sim::forecast::forecast(&plan, &policy, shards, 1)).await;
    let made = made.map_err(|e| Refused::unavailable(e.to_string()))?;
    let point = |p: &kesmo_sim::forecast::Point| ForecastPoint {
        shards: p.shards,
        time_us: p.time.0,
        low_us: p.low.0,
        high_us: p.high.0,
        slot_minutes: p.cost.as_seconds() / 60.0,
    };
    Ok(Json(Forecast {
        suite: row.slug,
        choice,
        points: made.points.iter().map(point).collect(),
        enough: made.enough,
        floor: made.floor.what,
        floor_us: made.floor.time.0,
        work_us: made.work.0,
        start_cost_us: start_cost.unwrap_or(Span::millis(50)).0,
        guessed,
        tests,
        slots: app.slots(pool, BTreeMap::new()).await,
    }))
}

fn check_key(key: &str) -> Result<(), Refused> {
    if key.is_empty() || key.len() > LONGEST_KEY || key.chars().any(char::is_control) {
        let shown = shorten(key, 80);
        return Err(Refused::invalid(format!(
            "the key {shown:?} is not usable: 1 to {LONGEST_KEY} letters, like build-1187"
        )));
    }
    Ok(())
}

/// Comes to the run of a key, and starts it if nobody has come with that key yet.
#[utoipa::path(post, path = "/api/meet", request_body = Meet, tag = "runs",
    responses((status = 200, body = Met), (status = 409), (status = 422)))]
#[post("/api/meet", data = "<meet>")]
async fn meet(app: &State<App>, caller: MayOperate, meet: Sent<Meet>) -> Answer<Met> {
    let Meet { key, start, running } = body(meet)?;
    check_key(&key)?;
    let (made, suite) = check_new(app, start, &caller.0.name).await?;
    let (row, started) = app.store.meet(&key, &made).await?;
    if row.suite_id != made.suite_id {
        let (slug, number) = match app.store.meeting(&key).await? {
            Some((row, slug)) => (slug, row.number),
            None => (String::new(), 0),
        };
        return Err(Refused::conflict(format!(
            "the key {key} belongs to {slug}/{number}, a run of another suite than {suite}: give each suite a key of its own"
        )));
    }
    if let Some(at) = row.finished_at {
        let ago = Utc::now() - at;
        let (slug, number) = (&suite, row.number);
        let since = Span(ago.num_microseconds().unwrap_or(0).max(0) as u64);
        if running {
            return Err(Refused::conflict(format!(
                "the key {key} is that of {slug}/{number}, which was over {since} ago: --running takes only a run that is not over"
            )));
        }
        if ago > KEY_LASTS {
            return Err(Refused::conflict(format!(
                "the key {key} is that of {slug}/{number}, which was over {since} ago: its verdict would say nothing of this \
                 job; give the jobs of each build a key of their own"
            )));
        }
    }
    let same_files = row.source == made.source;
    let run = if started {
        hand_over(app, &caller.0, &row, &suite).await?
    } else {
        detail_of_row(app, &caller.0, row, &suite).await?
    };
    Ok(Json(Met { run, started, same_files }))
}
