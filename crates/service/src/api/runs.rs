//! Runs: started, found, read, stopped, repeated, reported.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{Arc, PoisonError},
};

use kesmo_core::{
    format::{
        junit::{ReportAttempt, ReportCase},
        report::{self, Format, Whole},
    },
    name::RunName,
    plan::{
        Plan, PlannedEntry, RunOptions,
        brief::{Brief, Changes, Origin},
        choice_said,
    },
    suite::Variant,
    time::Span,
    words::{Ended, Outcome, Phase, Verdict},
};
use kesmo_store::{
    past::AttemptRow,
    runs::{Filter, NewRun as NewRow, RunRow},
};
use kesmo_wire::api::{
    Again, Artifact, Attempt, ChainLink, Drain, Entries, Entry, EntryDetail, NewRun, Run, RunSummary, StopRun, Worker,
    entry_name,
};
use rocket::{
    Route, State, get,
    http::{ContentType, Header, Status},
    post, routes,
    serde::json::Json,
};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayOperate, MaySee},
    app::App,
    lookup::{named, suite_file},
    past::Past,
    refused::Refused,
    starting::{self, Looked, Wanted},
};
use kesmo_floor::{Ask, EntryOrder, EntryQuestion, active, summary::summary_of_row};

pub(super) fn routes() -> Vec<Route> {
    routes![start, list, show, stop, again, entries, entry, log, artifacts, report_of, workers, drain, blob]
}

pub(super) async fn detail_of_row(app: &App, row: &RunRow, suite: &str) -> Result<Run, Refused> {
    // What the floor knows of it is of one piece; its row may be of a moment before.
    if row.phase != "finished"
        && let Some(run) = app.floor.ask(|reply| Ask::Run(row.id, reply)).await.flatten()
    {
        return Ok(*run);
    }
    let options = row.run_options()?;
    let variants = match &row.source {
        Some(source) => suite_file(app, source).await?.1.facets.chosen(&options.variants).unwrap_or_default(),
        None => Vec::new(),
    };
    let waits = if row.phase == "queued" || row.phase == "listing" {
        app.floor.ask(|reply| Ask::Summary(row.id, reply)).await.flatten()
    } else {
        None
    };
    let summary = waits.map_or_else(|| summary_of_row(row, suite), |summary| *summary);
    let chosen = summary.tally.total() as usize;
    let seeded = RunOptions { seed: Some(row.seed as u64), ..options.clone() };
    let parked = summary.tally.parked as usize;
    let choice = if chosen > 0 { choice_said(&seeded, chosen, row.listed as usize, parked) } else { String::new() };
    Ok(Run {
        summary,
        bundle: row.source.clone().unwrap_or_default(),
        git: row.git_source()?.map(|g| g.shown()),
        chain: chain_of(app, row).await?,
        then: row.to_follow()?.map(|f| f.then),
        options,
        choice,
        seed: row.seed as u64,
        listed: row.listed as u32,
        variants: variants.iter().map(ToString::to_string).collect(),
        notes: app.store.notes(row.id).await?,
    })
}

/// The run of that name.
pub(super) async fn find(app: &App, suite: &str, number: i32) -> Result<RunRow, Refused> {
    match app.store.run(suite, number).await? {
        Some((row, _)) => Ok(row),
        None => {
            named(app, suite).await?;
            Err(Refused::not_found(format!("there is no run {suite}/{number}: see `kesmo runs --suite {suite}`")))
        }
    }
}

/// The runs of a run's chain, in order; none if it is alone.
pub(super) async fn chain_of(app: &App, row: &RunRow) -> Result<Vec<ChainLink>, Refused> {
    let Some(first) = row.chain else { return Ok(Vec::new()) };
    let link = |(row, suite): (RunRow, String)| ChainLink {
        run: format!("{suite}/{}", row.number),
        brief: row.brief.clone(),
        phase: Phase::of(&row.phase).unwrap_or(Phase::Queued),
        verdict: row.verdict.as_deref().and_then(Verdict::of),
    };
    Ok(app.store.chain(first).await?.into_iter().map(link).collect())
}

/// Hands a run that was made to the floor.
pub(super) async fn hand_over(app: &App, row: &RunRow, slug: &str) -> Result<Run, Refused> {
    app.floor.new_run((row.clone(), slug.to_owned())).await;
    detail_of_row(app, row, slug).await
}

/// Checks what a call wants to start. A suite from version control is asked for its files, so that the caller is told what
/// is wrong with them.
pub(super) async fn check_new(app: &App, new: NewRun, by: &str) -> Result<(NewRow, String), Refused> {
    let NewRun { mut suite, bundle, pool, brief, branch, commit, mut options, not_passed_in } = new;
    if let Some(bundle) = &bundle {
        let (_, file) = suite_file(app, bundle).await?;
        if let Some(suite) = suite.as_ref().filter(|s| s.as_str() != file.suite.as_str()) {
            return Err(Refused::invalid(format!("the bundle is of the suite {}, not {suite}", file.suite)));
        }
        app.store.put_suite(file.suite.as_str(), &file.about, bundle, true).await?;
        suite = Some(file.suite.to_string());
    }
    let saved = match &brief {
        Some(name) => Some((name, starting::brief_named(app, name).await?)),
        None => None,
    };
    if let (Some((name, saved)), Some(suite)) = (&saved, &suite)
        && saved.suite.as_ref() != Some(suite)
    {
        let its = saved.suite.as_deref().unwrap_or("no suite");
        return Err(Refused::invalid(format!("the brief {name} is of {its}, not of {suite}")));
    }
    let suite = suite.or_else(|| saved.as_ref().and_then(|(_, b)| b.suite.clone()));
    let suite = suite.ok_or_else(|| Refused::invalid("name a suite, a brief, or a bundle that was uploaded"))?;
    if let Some(run) = &not_passed_in {
        let name = RunName::parse(run).map_err(|e| Refused::invalid(e.to_string()))?;
        if name.suite.as_str() != suite {
            return Err(Refused::invalid(format!(
                "--not-passed-in {run}: that is a run of another suite than {suite}"
            )));
        }
        let earlier = find(app, name.suite.as_str(), name.number as i32).await?;
        options.only = Some(not_passed(app, &earlier, run).await?);
        options.only_because = Some(format!("not passed in {run}"));
    }
    let changes = Changes { pool, branch, commit, options };
    let (brief, origin) = match saved {
        Some((name, saved)) => starting::changed(name, &saved, changes, Origin::default()),
        None => (Brief { suite: Some(suite.clone()), ..Brief::default() }.with(changes), Origin::default()),
    };
    let wanted = Wanted { brief, origin, by: by.to_owned(), bundle, ..Wanted::default() };
    let mut made = starting::prepare(app, wanted, &mut Looked::default()).await?;
    starting::pin(app, &mut made).await?;
    Ok((made, suite))
}

/// The entries of a finished run that neither passed nor were flaky nor skipped.
async fn not_passed(app: &App, row: &RunRow, run: &str) -> Result<Vec<(String, String)>, Refused> {
    if row.phase != "finished" {
        return Err(Refused::conflict(format!("{run} is not over yet: wait for its verdict, or stop it")));
    }
    let past = past(app, row).await?;
    let bad =
        |i: &usize| !matches!(past.states[*i].0, Outcome::Passed | Outcome::Flaky | Outcome::Skipped | Outcome::Parked);
    let mut only: Vec<(String, String)> = (0..past.states.len())
        .filter(bad)
        .map(|i| (past.plan.entries[i].name.to_string(), past.plan.variant_of(i as u32).to_string()))
        .collect();
    only.dedup();
    if only.is_empty() && !past.states.is_empty() {
        return Err(Refused::invalid(format!("there is nothing to repeat: every test of {run} passed")));
    }
    Ok(only)
}

/// Starts a run. It is answered at once, with the run's name.
#[utoipa::path(post, path = "/api/runs", operation_id = "start_run", request_body = NewRun, tag = "runs",
    responses((status = 200, body = Run), (status = 404), (status = 422)))]
#[post("/api/runs", data = "<new>")]
async fn start(app: &State<App>, caller: MayOperate, new: Sent<NewRun>) -> Answer<Run> {
    let (made, suite) = check_new(app, body(new)?, &caller.0.name).await?;
    let row = app.store.add_run(&made).await?;
    if made.origin.replace_older {
        app.floor.look().await;
    }
    Ok(Json(hand_over(app, &row, &suite).await?))
}

/// Runs, newest first. `label` is `key=value`, and may be given several times joined by commas.
#[utoipa::path(get, path = "/api/runs", operation_id = "list_runs", tag = "runs", params(("suite" = Option<String>, Query), ("verdict" = Option<String>, Query),
    ("label" = Option<String>, Query), ("limit" = Option<i64>, Query), ("skip" = Option<i64>, Query)),
    responses((status = 200, body = [RunSummary])))]
#[get("/api/runs?<suite>&<verdict>&<label>&<limit>&<skip>")]
async fn list(
    app: &State<App>,
    _caller: MaySee,
    suite: Option<String>,
    verdict: Option<String>,
    label: Option<String>,
    limit: Option<i64>,
    skip: Option<i64>,
) -> Answer<Vec<RunSummary>> {
    if let Some(word) = verdict.as_ref().filter(|v| Verdict::of(v).is_none()) {
        return Err(Refused::invalid(format!("{word:?} is not a valid verdict: use passed, failed, void or stopped")));
    }
    let mut labels = BTreeMap::new();
    for pair in label.iter().flat_map(|l| l.split(',')) {
        let (key, value) = pair
            .split_once('=')
            .ok_or_else(|| Refused::invalid(format!("the label {pair:?} must be key=value, like release=1187")))?;
        labels.insert(key.to_owned(), value.to_owned());
    }
    if let Some(suite) = &suite {
        named(app, suite).await?;
    }
    let filter =
        Filter { suite, verdict, labels, limit: limit.unwrap_or(50).clamp(1, 500), skip: skip.unwrap_or(0).max(0) };
    let rows = app.store.runs(&filter).await?;
    let active = app.floor.ask(Ask::Summaries).await.unwrap_or_default();
    let read =
        |(row, suite): (RunRow, String)| active.get(&row.id).cloned().unwrap_or_else(|| summary_of_row(&row, &suite));
    Ok(Json(rows.into_iter().map(read).collect()))
}

/// One run.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}", operation_id = "show_run", params(("suite" = String, Path), ("number" = i32, Path)), tag = "runs",
    responses((status = 200, body = Run), (status = 404)))]
#[get("/api/runs/<suite>/<number>")]
async fn show(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Run> {
    let row = find(app, suite, number).await?;
    if let Some(run) = app.floor.ask(|reply| Ask::Run(row.id, reply)).await.flatten() {
        return Ok(Json(*run));
    }
    let row = find(app, suite, number).await?;
    Ok(Json(detail_of_row(app, &row, suite).await?))
}

/// Ends a run.
#[utoipa::path(post, path = "/api/runs/{suite}/{number}/stop", params(("suite" = String, Path), ("number" = i32, Path)), tag = "runs",
    request_body = StopRun, responses((status = 200, body = Run), (status = 409, description = "it is over already")))]
#[post("/api/runs/<suite>/<number>/stop", data = "<stop>")]
async fn stop(app: &State<App>, caller: MayOperate, suite: &str, number: i32, stop: Sent<StopRun>) -> Answer<Run> {
    let stop = body(stop)?;
    let row = find(app, suite, number).await?;
    let why =
        stop.why.filter(|w| !w.trim().is_empty()).map(|w| format!(": {}", kesmo_core::name::shorten(w.trim(), 200)));
    let reason = format!("stopped by {}{}", caller.0.name, why.unwrap_or_default());
    // Another service may carry it out, and finds what it is asked.
    if !app.floor.stop(row.id, reason.clone()).await && !app.store.ask_to_stop(row.id, &reason).await? {
        let row = find(app, suite, number).await?;
        let verdict = row.verdict.unwrap_or_default();
        return Err(Refused::conflict(format!("{suite}/{number} is over already: {verdict}")));
    }
    let row = find(app, suite, number).await?;
    Ok(Json(detail_of_row(app, &row, suite).await?))
}

/// Repeats a run with the same files and options; with `not_passed` only the entries that neither passed nor were flaky.
#[utoipa::path(post, path = "/api/runs/{suite}/{number}/again", params(("suite" = String, Path), ("number" = i32, Path)), tag = "runs",
    request_body = Again, responses((status = 200, body = Run), (status = 409), (status = 422)))]
#[post("/api/runs/<suite>/<number>/again", data = "<again>")]
async fn again(app: &State<App>, caller: MayOperate, suite: &str, number: i32, again: Sent<Again>) -> Answer<Run> {
    let again = body(again)?;
    let row = find(app, suite, number).await?;
    let mut options = row.run_options()?;
    if let Some(shard) = again.shard {
        let shards = super::breakdown::shards_of(app, &row).await?;
        let of = shards.len();
        let shard = shards.into_iter().find(|s| s.number == shard).ok_or_else(|| {
            Refused::not_found(format!("{suite}/{number} has no shard {shard}: it has {of}, counted from 1"))
        })?;
        options.order = Some(shard.batches.into_iter().map(|b| b.entries).collect());
        options.seed = Some(row.seed as u64);
        (options.repeat, options.shuffle, options.recent_failures_first) = (None, false, false);
    }
    if options.shuffle {
        // The same order again, which is what a repetition is for.
        options.seed = Some(row.seed as u64);
    }
    if again.not_passed {
        let only = not_passed(app, &row, &format!("{suite}/{number}")).await?;
        // A run that was void before its tests were known is repeated whole.
        if !only.is_empty() {
            options.only = Some(only);
            options.only_because = Some(format!("not passed in {suite}/{number}"));
        }
    }
    let brief = Brief { suite: Some(suite.to_owned()), pool: Some(row.pool.clone()), options, ..Brief::default() };
    let brief = Brief { branch: row.branch.clone(), commit: row.commit.clone(), ..brief };
    let origin = Origin { brief: row.brief.clone(), ..Origin::default() };
    let by = caller.0.name.clone();
    let wanted = Wanted { brief, origin, by, bundle: row.source.clone(), told: true, ..Wanted::default() };
    let mut made = starting::prepare(app, wanted, &mut Looked::default()).await?;
    made.git = row.git_source()?;
    starting::pin(app, &mut made).await?;
    let row = app.store.add_run(&made).await?;
    Ok(Json(hand_over(app, &row, suite).await?))
}

/// The plan of a run and, if it is finished, how its entries ended.
pub(super) async fn past(app: &App, row: &RunRow) -> Result<Arc<Past>, Refused> {
    let finished = row.phase == "finished";
    {
        let cache = app.past.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, past)) = cache.iter().find(|(id, past)| *id == row.id && (!finished || !past.states.is_empty()))
        {
            return Ok(Arc::clone(past));
        }
    }
    let Some(source) = &row.source else {
        return Ok(Arc::new(Past { plan: Plan::default(), states: Vec::new() }));
    };
    let (_, file) = suite_file(app, source).await?;
    let options = row.run_options()?;
    let variants = file.facets.chosen(&options.variants).map_err(|e| Refused::invalid(e.to_string()))?;
    let mut lists: Vec<(Variant, _)> = Vec::new();
    for (variant, key) in variants.into_iter().zip(&row.listings) {
        if key == active::NO_LIST {
            lists.push((variant, Vec::new()));
            continue;
        }
        match app.store.listing(key).await? {
            Some(tests) => lists.push((variant, tests)),
            // Listing failed, or is not done: there are no entries.
            None => return Ok(Arc::new(Past { plan: Plan::default(), states: Vec::new() })),
        }
    }
    // A choice that matched nothing made the run void: there are no entries.
    let plan = Plan::make(&file, &options, &lists, &row.parks_then()?, |_, _| None).unwrap_or_default();
    let mut states = Vec::new();
    if finished {
        let parked = |e: &PlannedEntry| e.parked.is_some() && !options.run_parked;
        let before = |e: &PlannedEntry| if parked(e) { Outcome::Parked } else { Outcome::NotRun };
        states = plan.entries.iter().map(|e| (before(e), 0, 0)).collect();
        for bone in app.store.attempt_bones(row.id, kesmo_store::month_of(row.created_at)).await? {
            let Some(state) = states.get_mut(bone.entry as usize) else { continue };
            if bone.number as u16 >= state.1 {
                (state.1, state.2) = (bone.number as u16, bone.spent_us as u64);
            }
            if let Some(outcome) = bone.decided.as_deref().and_then(Outcome::of) {
                state.0 = outcome;
            }
        }
    }
    let past = Arc::new(Past { plan, states });
    let mut cache = app.past.0.lock().unwrap_or_else(PoisonError::into_inner);
    cache.retain(|(id, _)| *id != row.id);
    cache.push_front((row.id, Arc::clone(&past)));
    cache.truncate(3);
    Ok(past)
}

fn past_entry(past: &Past, index: u32) -> Entry {
    let state = past.states.get(index as usize).copied();
    Entry {
        index,
        test: past.plan.entries[index as usize].name.to_string(),
        variant: past.plan.variant_of(index).to_string(),
        repeat: u32::from(past.plan.entries[index as usize].repeat),
        outcome: state.map(|s| s.0),
        running: false,
        attempts: state.map_or(0, |s| u32::from(s.1)),
        spent_us: state.filter(|s| s.1 > 0).map(|s| s.2),
        message: String::new(),
        worker: None,
    }
}

/// Adds to entries what their attempts said last.
async fn fill(app: &App, row: &RunRow, entries: &mut [Entry]) -> Result<(), Refused> {
    let indexes: Vec<i32> = entries.iter().filter(|e| e.attempts > 0).map(|e| e.index as i32).collect();
    if indexes.is_empty() {
        return Ok(());
    }
    let rows = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &indexes).await?;
    let mut by_entry: HashMap<i32, Vec<AttemptRow>> = HashMap::new();
    for attempt in rows {
        by_entry.entry(attempt.entry).or_default().push(attempt);
    }
    for entry in entries {
        let Some(attempts) = by_entry.get(&(entry.index as i32)) else { continue };
        let told = attempts.iter().rev().find(|a| !a.message.is_empty());
        entry.message = told.map(|a| kesmo_core::name::shorten(&a.message, 500)).unwrap_or_default();
        entry.worker = attempts.last().map(|a| a.worker.clone());
    }
    Ok(())
}

/// Entries of a run: those in trouble first; `order` is `trouble`, `slowest`, `fastest`, `listed` or `attempts` (most first). `state` is an outcome, `waiting`, `running` or `trouble`; `name` a part of the name.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries", tag = "runs", params(("suite" = String, Path), ("number" = i32, Path),
    ("state" = Option<String>, Query), ("name" = Option<String>, Query), ("order" = Option<String>, Query), ("skip" = Option<usize>, Query), ("limit" = Option<usize>, Query)),
    responses((status = 200, body = Entries)))]
#[get("/api/runs/<suite>/<number>/entries?<state>&<name>&<order>&<skip>&<limit>")]
#[allow(clippy::too_many_arguments)] // one for each part of the address
async fn entries(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    state: Option<String>,
    name: Option<String>,
    order: Option<String>,
    skip: Option<usize>,
    limit: Option<usize>,
) -> Answer<Entries> {
    let row = find(app, suite, number).await?;
    let state = state.unwrap_or_default();
    let known = ["", "trouble", "waiting", "running"];
    if !known.contains(&state.as_str()) && Outcome::of(&state).is_none() {
        let all = "passed, flaky, failed, skipped, parked, not-run, waiting, running or trouble";
        return Err(Refused::invalid(format!("{state:?} is not a valid state of an entry: use {all}")));
    }
    let order = match order.as_deref() {
        None | Some("trouble") => EntryOrder::Trouble,
        Some("slowest") => EntryOrder::Slowest,
        Some("fastest") => EntryOrder::Fastest,
        Some("listed") => EntryOrder::Listed,
        Some("attempts") => EntryOrder::Attempts,
        Some(other) => {
            let all = "trouble, slowest, fastest, listed or attempts";
            return Err(Refused::invalid(format!("{other:?} is not a valid order: use {all}")));
        }
    };
    let limit = limit.unwrap_or(100).clamp(1, 1000);
    let question = EntryQuestion { state, name: name.unwrap_or_default(), order, skip: skip.unwrap_or(0), limit };
    let asked = question.clone();
    let mut answer = match app.floor.ask(|reply| Ask::Entries(row.id, asked, reply)).await.flatten() {
        Some(answer) => answer,
        None => {
            let row = find(app, suite, number).await?;
            let past = past(app, &row).await?;
            let variants: Vec<String> = past.plan.variants.iter().map(ToString::to_string).collect();
            let about = |i: u32| {
                let planned = &past.plan.entries[i as usize];
                let state = active::state_word(past.states.get(i as usize).map(|s| s.0), false);
                (state, planned.name.as_str(), variants[usize::from(planned.variant)].as_str())
            };
            active::page(
                past.plan.entries.len() as u32,
                &question,
                about,
                |i| past.states.get(i as usize).map_or((0, 0), |s| (s.2, s.1)),
                |i| past_entry(&past, i),
            )
        }
    };
    fill(app, &row, &mut answer.entries).await?;
    Ok(Json(answer))
}

fn artifact(row: kesmo_store::past::ArtifactRow, plan: &Plan, attempt: u32) -> Artifact {
    let entry = row.entry.map(|e| e as u32).filter(|e| (*e as usize) < plan.entries.len());
    Artifact {
        test: entry.map(|e| plan.entries[e as usize].name.to_string()).unwrap_or_default(),
        variant: entry.map(|e| plan.variant_of(e).to_string()).unwrap_or_default(),
        attempt,
        media_type: media_type(&row.path).to_string(),
        path: row.path,
        about: row.about,
        bytes: row.bytes as u64,
        digest: row.digest,
    }
}

fn media_type(path: &str) -> ContentType {
    let ending = path.rsplit_once('.').map(|(_, e)| e.to_lowercase()).unwrap_or_default();
    match ending.as_str() {
        "log" | "txt" | "tap" => ContentType::Plain,
        other => ContentType::from_extension(other).unwrap_or(ContentType::Binary),
    }
}

/// An entry with its attempts and their artifacts.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries/{index}", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("index" = u32, Path)), responses((status = 200, body = EntryDetail)))]
#[get("/api/runs/<suite>/<number>/entries/<index>")]
async fn entry(app: &State<App>, _caller: MaySee, suite: &str, number: i32, index: u32) -> Answer<EntryDetail> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let Some(planned) = past.plan.entries.get(index as usize) else {
        let count = past.plan.entries.len();
        return Err(Refused::not_found(format!(
            "{suite}/{number} has no entry {index}: it has {count}, counted from 0"
        )));
    };
    let mut entry = past_entry(&past, index);
    if let Some(state) = app.floor.ask(|reply| Ask::EntryState(row.id, index, reply)).await.flatten() {
        (entry.outcome, entry.running, entry.attempts) = (state.0, state.1, u32::from(state.2));
    }
    let attempts = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &[index as i32]).await?;
    let files = app.store.artifacts(row.id, Some(index as i32)).await?;
    let mut around = super::breakdown::around(app, &row, &past.plan, &attempts).await?;
    let read = |a: AttemptRow| Attempt {
        busy: a.busy as u32,
        of_slots: a.of_slots as u32,
        expected_us: a.expected_us.map(|us| us as u64),
        around: around.remove(&a.number),
        number: a.number as u32,
        ended: Ended::of(&a.ended).unwrap_or(Ended::Lost),
        slot: a.slot as u32,
        batch: a.batch as u32,
        began_at: a.began_at,
        spent_us: a.spent_us as u64,
        artifacts: files
            .iter()
            .filter(|f| f.batch == a.batch)
            .map(|f| artifact(f.clone(), &past.plan, a.number as u32))
            .collect(),
        worker: a.worker,
        message: a.message,
        detail: a.detail,
        steps: serde_json::from_value(a.steps).unwrap_or_default(),
        log_bytes: a.log_bytes as u64,
    };
    let history: Vec<Attempt> = attempts.into_iter().map(read).collect();
    if let Some(last) = history.last() {
        entry.worker = Some(last.worker.clone());
        entry.spent_us = Some(last.spent_us);
        entry.message =
            history.iter().rev().find(|a| !a.message.is_empty()).map(|a| a.message.clone()).unwrap_or_default();
    }
    let retries = u32::from(planned.retries);
    let word = if retries == 1 { "retry" } else { "retries" };
    Ok(Json(EntryDetail {
        entry,
        retries,
        retries_said: format!("{retries} {word}, from {}", planned.retries_from.said()),
        expected_us: history.iter().find_map(|a| a.expected_us),
        parked: past.plan.park_of(index).map(|p| format!("parked until {}: {}", p.until, p.why)),
        group: planned.group.is_some(),
        claims: past.plan.claim_sets[planned.claims as usize].clone(),
        history,
    }))
}

/// What an attempt printed, as text.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries/{index}/attempts/{attempt}/log", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("index" = i32, Path), ("attempt" = i32, Path)),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404)))]
#[get("/api/runs/<suite>/<number>/entries/<index>/attempts/<attempt>/log")]
async fn log(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    index: i32,
    attempt: i32,
) -> Result<(ContentType, String), Refused> {
    let row = find(app, suite, number).await?;
    let none = || Refused::not_found(format!("entry {index} of {suite}/{number} has no attempt {attempt}"));
    Ok((ContentType::Plain, log_text(app, &row, index, attempt).await?.ok_or_else(none)?))
}

/// What an attempt printed; none if there is no such attempt.
pub(super) async fn log_text(app: &App, row: &RunRow, index: i32, attempt: i32) -> Result<Option<String>, Refused> {
    let found = app.store.attempt_log(row.id, kesmo_store::month_of(row.created_at), index, attempt).await?;
    let Some((text, blob)) = found else { return Ok(None) };
    let Some(blob) = blob else { return Ok(Some(text)) };
    let blob = crate::lookup::digest(&blob)?;
    let bytes = tokio::fs::read(app.blobs.path(&blob)).await;
    let bytes = bytes.map_err(|e| Refused::unavailable(format!("the log cannot be read: {e}")))?;
    Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
}

/// The outcome of an entry of a run that is not active.
pub(super) async fn outcome_of(app: &App, row: &RunRow, index: u32) -> Option<Outcome> {
    let row = app.store.run_of(row.id).await.ok().flatten()?;
    let past = past(app, &row).await.ok()?;
    past.states.get(index as usize).map(|s| s.0)
}

/// The files that a run left behind.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/artifacts", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = [Artifact])))]
#[get("/api/runs/<suite>/<number>/artifacts")]
async fn artifacts(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Vec<Artifact>> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let files = app.store.artifacts(row.id, None).await?;
    let entries: Vec<i32> = files.iter().filter_map(|f| f.entry).collect();
    let attempts = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &entries).await?;
    let number_of: HashMap<(i32, i32), u32> = attempts.iter().map(|a| ((a.entry, a.batch), a.number as u32)).collect();
    let read = |f: kesmo_store::past::ArtifactRow| {
        let attempt = f.entry.and_then(|e| number_of.get(&(e, f.batch)).copied()).unwrap_or(0);
        artifact(f, &past.plan, attempt)
    };
    Ok(Json(files.into_iter().map(read).collect()))
}

/// A finished run as a report: `as=junit` (JUnit XML), `as=tap` (TAP 14) or `as=json`.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/report", operation_id = "report", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("as" = String, Query)), responses((status = 200, body = String), (status = 409)))]
#[get("/api/runs/<suite>/<number>/report?<as>")]
async fn report_of(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    r#as: &str,
) -> Result<(ContentType, String), Refused> {
    let format = Format::parse(r#as).map_err(|e| Refused::invalid(e.to_string()))?;
    let row = find(app, suite, number).await?;
    if row.phase != "finished" {
        return Err(Refused::conflict(format!(
            "{suite}/{number} is not over yet: wait with `kesmo watch {suite}/{number}`"
        )));
    }
    let past = past(app, &row).await?;
    let all: Vec<i32> = (0..past.plan.entries.len() as i32).collect();
    let attempts = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &all).await?;
    let mut by_entry: HashMap<i32, Vec<ReportAttempt<'_>>> = HashMap::new();
    for a in &attempts {
        let ended = Ended::of(&a.ended).unwrap_or(Ended::Lost);
        by_entry.entry(a.entry).or_default().push(ReportAttempt { ended, message: &a.message, detail: &a.detail });
    }
    let variants: Vec<String> = past.plan.variants.iter().map(ToString::to_string).collect();
    let case = |(i, planned): (usize, &'_ kesmo_core::plan::PlannedEntry)| {
        let (outcome, _, spent) = past.states[i];
        let name = entry_name(planned.name.as_str(), "", u32::from(planned.repeat));
        (i as i32, name, usize::from(planned.variant), outcome, Span(spent))
    };
    let rows: Vec<_> = past.plan.entries.iter().enumerate().map(case).collect();
    let cases: Vec<ReportCase<'_>> = rows
        .iter()
        .map(|(i, name, variant, outcome, spent)| ReportCase {
            name,
            variant: &variants[*variant],
            outcome: *outcome,
            spent: *spent,
            attempts: by_entry.remove(i).unwrap_or_default(),
            why_parked: past.plan.park_of(*i as u32).map(|park| park.why.as_str()),
        })
        .collect();
    let took = row.finished_at.zip(row.began_at).map_or(0, |(f, b)| (f - b).num_microseconds().unwrap_or(0));
    let run = serde_json::to_value(summary_of_row(&row, suite)).unwrap_or_default();
    let wrongs = app.store.wrongs(row.id).await?;
    let name = format!("{suite}/{number}");
    let whole = Whole {
        name: &name,
        took: Span(took.max(0) as u64),
        verdict: row.verdict.as_deref().and_then(Verdict::of),
        reason: &row.reason,
        wrongs: &wrongs,
        flaky_fails: row.run_options()?.flaky_fails,
    };
    let text = report::write(format, &whole, run, &cases);
    let kind = match format {
        Format::Junit => ContentType::XML,
        Format::Tap => ContentType::Plain,
        Format::Json => ContentType::JSON,
    };
    Ok((kind, text))
}

/// Has a worker finish what it has and take nothing new, or take work again.
#[utoipa::path(post, path = "/api/workers/{name}/drain", operation_id = "drain_worker", params(("name" = String, Path)), tag = "runs",
    request_body = Drain, responses((status = 200, body = Worker), (status = 404)))]
#[post("/api/workers/<name>/drain", data = "<drain>")]
async fn drain(app: &State<App>, caller: MayOperate, name: &str, drain: Sent<Drain>) -> Answer<Worker> {
    let drain = body(drain)?.drain;
    let asked = name.to_owned();
    if app.floor.ask(|reply| Ask::Drain(asked, drain, reply)).await != Some(true) {
        let here: Vec<String> =
            app.floor.ask(Ask::Workers).await.unwrap_or_default().into_iter().map(|w| w.name).collect();
        let here =
            if here.is_empty() { "no worker is here".to_owned() } else { format!("here are {}", here.join(", ")) };
        return Err(Refused::not_found(format!("there is no worker {name:?}: {here}")));
    }
    tracing::info!(worker = name, drain, by = caller.0.name, "a worker is drained, or taken back");
    let workers = app.floor.ask(Ask::Workers).await.unwrap_or_default();
    let worker = workers.into_iter().find(|w| w.name == name);
    worker.map(Json).ok_or_else(|| Refused::not_found(format!("the worker {name} has just gone")))
}

/// The workers and what their slots do.
#[utoipa::path(get, path = "/api/workers", tag = "runs", responses((status = 200, body = [Worker])))]
#[get("/api/workers")]
async fn workers(app: &State<App>, _caller: MaySee) -> Answer<Vec<Worker>> {
    Ok(Json(app.floor.ask(Ask::Workers).await.unwrap_or_default()))
}

#[derive(rocket::Responder)]
pub struct BlobFile {
    file: rocket::fs::NamedFile,
    kind: ContentType,
    /// What a test left behind is not ours: no script of it runs as this site.
    policy: Header<'static>,
    sniff: Header<'static>,
    cache: Header<'static>,
}

/// The content of an artifact.
#[utoipa::path(get, path = "/api/blobs/{digest}", params(("digest" = String, Path)), tag = "runs",
    responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream"), (status = 404)))]
#[get("/api/blobs/<digest>")]
async fn blob(app: &State<App>, _caller: MaySee, digest: &str) -> Result<BlobFile, Refused> {
    let none = || Refused::new(Status::NotFound, "not-found", format!("there is no artifact {digest:?}"));
    let name = kesmo_wire::Digest::parse(digest).map_err(|_| none())?;
    let path = app.store.is_kept_file(digest).await?.ok_or_else(none)?;
    let file = rocket::fs::NamedFile::open(app.blobs.path(&name)).await.map_err(|_| none())?;
    Ok(BlobFile {
        file,
        kind: media_type(&path),
        policy: Header::new(
            "Content-Security-Policy",
            "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:",
        ),
        sniff: Header::new("X-Content-Type-Options", "nosniff"),
        cache: Header::new("Cache-Control", "private, max-age=31536000, immutable"),
    })
}
