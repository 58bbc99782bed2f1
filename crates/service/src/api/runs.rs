//! Runs: started, found, read, stopped, repeated.

use std::collections::BTreeMap;

use kesmo_core::{
    name::RunName,
    plan::{
        CasesOf, RunOptions,
        brief::{Brief, Changes, Origin},
        choice_said,
    },
    run::cases::MOST_RERUN,
    words::{Outcome, Phase, Verdict},
};
use kesmo_floor::{Ask, Chain, summary::summary_of_row};
use kesmo_store::runs::{Filter, NewRun as NewRow, RunRow};
use kesmo_wire::api::{Again, ChainLink, Me, NewRun, NotPassed, Run, RunSummary, StopRun};
use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    found::{find, past},
};
use crate::{
    access::{MayOperate, MaySee, Record, suites},
    app::App,
    lookup::{named, suite_file, suites_of},
    past::Past,
    refused::Refused,
    starting::{self, Looked, Wanted},
};

pub(super) fn routes() -> Vec<Route> {
    routes![start, list, show, stop, again, what_did_not_pass]
}

/// A run as it stands, as somebody may see it. Its row may be of a moment before.
pub(super) async fn detail_of_row(app: &App, me: &Me, row: RunRow, suite: &str) -> Result<Run, Refused> {
    let chain = chain_of(app, me, &row).await?;
    let row = if row.phase == "finished" {
        row
    } else {
        // What the floor knows of it is of one piece. What it has let go of is stored.
        let at_work = app.floor.ask(|reply| Ask::Run(row.id, chain.clone(), reply)).await.flatten();
        if let Some(run) = at_work {
            return Ok(*run);
        }
        let gone = || Refused::not_found(format!("the run {suite}/{} was removed", row.number));
        app.store.run_of(row.id).await?.ok_or_else(gone)?
    };
    let options = row.run_options()?;
    let (variants, reach) = match &row.source {
        Some(source) => {
            let file = suite_file(app, source).await?.1;
            let reach = options.reached(&file).unwrap_or_default().into_iter().collect();
            (file.facets.chosen(&options.variants).unwrap_or_default(), reach)
        }
        None => (Vec::new(), options.reach.clone()),
    };
    let waits = if row.phase == "queued" || row.phase == "listing" {
        app.floor.ask(|reply| Ask::Summary(row.id, reply)).await.flatten()
    } else {
        None
    };
    let summary = waits.map_or_else(|| summary_of_row(&row, suite), |summary| *summary);
    let chosen = summary.tally.total() as usize;
    let seeded = RunOptions { seed: Some(row.seed as u64), ..options.clone() };
    let parked = summary.tally.parked as usize;
    let (listed, files) = (row.listed as usize, !summary.tally.cases.is_empty());
    let choice = if chosen > 0 { choice_said(&seeded, chosen, listed, parked, files) } else { String::new() };
    let (chain, then) = chain.told_with(&summary);
    Ok(Run {
        summary,
        bundle: row.source.clone().unwrap_or_default(),
        git: row.git_source()?.map(|g| g.shown()),
        chain,
        then,
        options,
        choice,
        seed: row.seed as u64,
        listed: row.listed as u32,
        variants: variants.iter().map(ToString::to_string).collect(),
        notes: app.store.notes(row.id).await?,
        images: row.images()?,
        reach,
    })
}

/// The chain of a run, as far as somebody may see it; without runs if it is alone.
pub(super) async fn chain_of(app: &App, me: &Me, row: &RunRow) -> Result<Chain, Refused> {
    // What cannot be read is told by a remark of the run that it was to follow.
    let follows = |row: &RunRow| row.to_follow().ok().flatten().map(|f| f.then);
    let Some(first) = row.chain else { return Ok(Chain::new(Vec::new(), follows(row))) };
    let all = app.store.chain(first).await?;
    let then = all.last().and_then(|(last, _)| follows(last));
    let link = |(row, suite): (RunRow, String)| ChainLink {
        run: format!("{suite}/{}", row.number),
        brief: row.brief.clone(),
        phase: Phase::of(&row.phase).unwrap_or(Phase::Queued),
        verdict: row.verdict.as_deref().and_then(Verdict::of),
    };
    let seen = all.into_iter().filter(|(_, suite)| me.is_for(suite));
    Ok(Chain::new(seen.map(link).collect(), then))
}

/// Hands a run that was made to the floor.
pub(super) async fn hand_over(app: &App, me: &Me, row: &RunRow, slug: &str) -> Result<Run, Refused> {
    app.floor.new_run((row.clone(), slug.to_owned())).await;
    detail_of_row(app, me, row.clone(), slug).await
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
        let (only, cases) = not_passed(app, &earlier, run).await?;
        (options.only, options.cases) = (Some(only), cases);
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

/// What of a run that is over neither passed nor was flaky nor skipped: tests or files, with their variants; and of files that failed
/// by their cases alone, where cases can be run again, those cases.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/not-passed", operation_id = "not_passed", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)),
    responses((status = 200, body = NotPassed), (status = 404), (status = 409), (status = 422)))]
#[get("/api/runs/<suite>/<number>/not-passed")]
pub async fn what_did_not_pass(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<NotPassed> {
    let row = find(app, suite, number).await?;
    let (only, cases) = not_passed(app, &row, &format!("{suite}/{number}")).await?;
    Ok(Json(NotPassed { only, cases }))
}

/// Entries by name and variant, and of some files the only cases that are wanted.
type ToRepeat = (Vec<(String, String)>, Vec<CasesOf>);

/// The entries of a finished run that neither passed nor were flaky nor skipped; of files that failed by their cases alone,
/// where cases can be run again, those that failed.
async fn not_passed(app: &App, row: &RunRow, run: &str) -> Result<ToRepeat, Refused> {
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
    let mut cases = Vec::new();
    if past.of_files
        && let Some(source) = &row.source
        && suite_file(app, source).await?.1.tests.rerun.is_some()
    {
        let month = kesmo_store::month_of(row.created_at);
        let alone = app.store.failed_alone(row.id, month, MOST_RERUN).await?;
        cases = failed_alone(&past, alone, bad);
    }
    Ok((only, cases))
}

/// The failed cases of each file of which nothing else is to run again; those of a cut file's parts together.
fn failed_alone(past: &Past, mut alone: BTreeMap<u32, Vec<String>>, bad: impl Fn(&usize) -> bool) -> Vec<CasesOf> {
    let mut of_file: BTreeMap<(String, String), Option<Vec<String>>> = BTreeMap::new();
    for (index, entry) in past.plan.entries.iter().enumerate().filter(|(index, _)| bad(index)) {
        let of = (entry.name.to_string(), past.plan.variant_of(index as u32).to_string());
        // What was repeated failed several times, each time by other cases.
        let titles = alone.remove(&(index as u32)).filter(|_| entry.repetition() == 0);
        let all = of_file.entry(of).or_insert_with(|| Some(Vec::new()));
        *all = all.take().zip(titles).map(|(all, more)| [all, more].concat());
    }
    let cases = |((file, variant), titles): ((String, String), Option<Vec<String>>)| {
        Some(CasesOf { file, variant, titles: titles.filter(|of| of.len() <= MOST_RERUN)? })
    };
    of_file.into_iter().filter_map(cases).collect()
}

/// Starts a run. It is answered at once, with the run's name.
#[utoipa::path(post, path = "/api/runs", operation_id = "start_run", request_body = NewRun, tag = "runs",
    responses((status = 200, body = Run), (status = 404), (status = 422)))]
#[post("/api/runs", data = "<new>")]
async fn start(app: &State<App>, caller: MayOperate, record: Record<'_>, new: Sent<NewRun>) -> Answer<Run> {
    let (made, suite) = check_new(app, body(new)?, &caller.0.name).await?;
    suites::must_be_for(&caller.0, &suite)?;
    let row = app.store.add_run(&made).await?;
    record.note(format!("{suite}/{}", row.number));
    if made.origin.replace_older {
        app.floor.look().await;
    }
    Ok(Json(hand_over(app, &caller.0, &row, &suite).await?))
}

/// Labels as a call gives them: `release=1187,kind=smoke`.
pub(super) fn labels_of(text: Option<&str>) -> Result<BTreeMap<String, String>, Refused> {
    let read = |pair: &str| {
        let parted =
            pair.split_once('=').filter(|(key, value)| !key.is_empty() && !format!("{key}{value}").contains('\0'));
        let (key, value) = parted
            .ok_or_else(|| Refused::invalid(format!("the label {pair:?} must be key=value, like release=1187")))?;
        Ok((key.to_owned(), value.to_owned()))
    };
    text.iter().flat_map(|l| l.split(',')).map(read).collect()
}

/// Runs, newest first. `label` is `key=value`, and may be given several times joined by commas.
#[utoipa::path(get, path = "/api/runs", operation_id = "list_runs", tag = "runs", params(("suite" = Option<String>, Query), ("verdict" = Option<String>, Query),
    ("label" = Option<String>, Query), ("limit" = Option<i64>, Query), ("skip" = Option<i64>, Query)),
    responses((status = 200, body = [RunSummary]), (status = 404)))]
#[get("/api/runs?<suite>&<verdict>&<label>&<limit>&<skip>")]
async fn list(
    app: &State<App>,
    caller: MaySee,
    suite: Option<String>,
    verdict: Option<String>,
    label: Option<String>,
    limit: Option<i64>,
    skip: Option<i64>,
) -> Answer<Vec<RunSummary>> {
    if let Some(word) = verdict.as_ref().filter(|v| Verdict::of(v).is_none()) {
        return Err(Refused::invalid(format!("{word:?} is not a valid verdict: use passed, failed, void or stopped")));
    }
    let labels = labels_of(label.as_deref())?;
    let suites = match suite {
        Some(suite) => {
            suites::must_be_for(&caller.0, &suite)?;
            Some(vec![named(app, &suite).await?.slug])
        }
        None => {
            let suites = suites_of(app, &caller.0).await?;
            suites.map(|suites| suites.into_iter().map(|suite| suite.slug).collect())
        }
    };
    let filter =
        Filter { suites, verdict, labels, limit: limit.unwrap_or(50).clamp(1, 500), skip: skip.unwrap_or(0).max(0) };
    let rows = app.store.runs(&filter).await?;
    let active = app.summaries().await;
    let read =
        |(row, suite): (RunRow, String)| active.get(&row.id).cloned().unwrap_or_else(|| summary_of_row(&row, &suite));
    Ok(Json(rows.into_iter().map(read).collect()))
}

/// One run.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}", operation_id = "show_run", params(("suite" = String, Path), ("number" = i32, Path)), tag = "runs",
    responses((status = 200, body = Run), (status = 404)))]
#[get("/api/runs/<suite>/<number>")]
async fn show(app: &State<App>, caller: MaySee, suite: &str, number: i32) -> Answer<Run> {
    let row = find(app, suite, number).await?;
    Ok(Json(detail_of_row(app, &caller.0, row, suite).await?))
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
    Ok(Json(detail_of_row(app, &caller.0, row, suite).await?))
}

/// Repeats a run with the same files and options; with `not_passed` only the entries that neither passed nor were flaky.
#[utoipa::path(post, path = "/api/runs/{suite}/{number}/again", params(("suite" = String, Path), ("number" = i32, Path)), tag = "runs",
    request_body = Again, responses((status = 200, body = Run), (status = 409), (status = 422)))]
#[post("/api/runs/<suite>/<number>/again", data = "<again>")]
async fn again(app: &State<App>, caller: MayOperate, suite: &str, number: i32, again: Sent<Again>) -> Answer<Run> {
    let again = body(again)?;
    let row = find(app, suite, number).await?;
    let mut options = row.run_options()?;
    // In the same surroundings.
    options.images = row.images()?;
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
        let (only, cases) = not_passed(app, &row, &format!("{suite}/{number}")).await?;
        // A run that was void before its tests were known is repeated whole.
        if !only.is_empty() {
            (options.only, options.cases) = (Some(only), cases);
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
    Ok(Json(hand_over(app, &caller.0, &row, suite).await?))
}
