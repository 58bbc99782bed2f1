//! Schedules: saved, looked at before that, paused, started by hand; and the calendar of their starts.

use std::collections::HashMap;

use chrono::{DateTime, TimeDelta, Utc};
use kesmo_core::{
    calendar::schedule::{Schedule, Timing, What},
    name::Slug,
    plan::brief::Brief,
    time::Timestamp,
    words::Verdict,
};
use kesmo_store::{
    runs::RunRow,
    schedules::{NewSchedule as NewRow, PlannedRow, ScheduleRow},
};
use kesmo_wire::api::{
    Calendar, CalendarStart, Me, NewSchedule, Pause, PlannedStart, Run, RunSummary, ScheduleOf, SchedulePreview,
};
use rocket::{Route, State, delete, get, http::Status, post, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    runs::hand_over,
};
use crate::{
    access::{MayOperate, MaySee, suites},
    app::App,
    refused::Refused,
    starting::{self, Looked},
};
use kesmo_floor::summary::summary_of_row;

/// Starts that are told before a schedule is saved.
const TOLD_AHEAD: usize = 5;
/// Planned starts that are shown of a schedule.
const MOST_SHOWN: i64 = 200;
/// Starts in a calendar, and starts of one schedule in it.
const MOST_IN_CALENDAR: usize = 2000;
const MOST_OF_ONE: usize = 12_000;
/// The longest stretch of a calendar.
const LONGEST: TimeDelta = TimeDelta::days(31);

pub(super) fn routes() -> Vec<Route> {
    routes![put, preview, list, show, remove, pause, now, calendar]
}

fn invalid(error: kesmo_core::Error) -> Refused {
    Refused::invalid(error.to_string())
}

/// The time of the clock that schedules go by.
fn clock_now(app: &App) -> Result<Timestamp, Refused> {
    app.clock.now().ok_or_else(|| Refused::unavailable("the clock of the schedules cannot be read"))
}

async fn row_named(app: &App, name: &str) -> Result<ScheduleRow, Refused> {
    if let Some(row) = app.store.schedule(name).await? {
        return Ok(row);
    }
    let all = app.store.schedules().await?;
    let mut of = suites_of(app, &all.iter().collect::<Vec<_>>()).await?;
    let known = all.into_iter().map(|row| (row.name, of.remove(&row.id).unwrap_or_default()));
    Err(Refused::none_named("schedule", name, known, "make one with `kesmo schedule add`"))
}

/// A schedule that somebody may see.
async fn seen(app: &App, me: &Me, name: &str) -> Result<ScheduleRow, Refused> {
    let row = row_named(app, name).await?;
    if !me.suites.is_empty() {
        let suite = suites_of(app, &[&row]).await?.remove(&row.id).unwrap_or_default();
        suites::must_be_for(me, &suite)?;
    }
    Ok(row)
}

/// The suites that schedules start runs of, by the schedules' ids.
async fn suites_of(app: &App, rows: &[&ScheduleRow]) -> Result<HashMap<i64, String>, Refused> {
    let briefs = app.store.briefs().await?;
    let of_brief = |name: &str| briefs.iter().find(|brief| brief.name == name)?.brief().ok()?.suite;
    let of = |row: &&ScheduleRow| {
        let suite = row.suite.clone().or_else(|| row.brief.as_deref().and_then(of_brief));
        Some((row.id, suite?))
    };
    Ok(rows.iter().filter_map(of).collect())
}

/// The schedules that somebody may see, of all.
async fn all_seen(app: &App, me: &Me) -> Result<Vec<ScheduleRow>, Refused> {
    let mut rows = app.store.schedules().await?;
    if !me.suites.is_empty() {
        let suites = suites_of(app, &rows.iter().collect::<Vec<_>>()).await?;
        rows.retain(|row| suites.get(&row.id).is_some_and(|suite| me.is_for(suite)));
    }
    Ok(rows)
}

/// What a schedule would do, checked against what is there.
async fn looked_at(app: &App, me: &Me, new: &NewSchedule) -> Result<(Schedule, SchedulePreview, Timestamp), Refused> {
    Slug::parse("the schedule's name", &new.name).map_err(invalid)?;
    let schedule = Schedule::parse(&new.name, &new.times).map_err(invalid)?;
    let now = clock_now(app)?;
    let brief = match (&new.brief, &new.suite) {
        (Some(brief), None) => starting::brief_named(app, brief).await.map_err(Refused::of_what_was_sent)?,
        (None, Some(suite)) => {
            crate::lookup::named(app, suite).await.map_err(Refused::of_what_was_sent)?;
            Brief { suite: Some(suite.clone()), ..Brief::default() }
        }
        _ => return Err(Refused::invalid("say what to start: exactly one of --brief NAME and --suite NAME")),
    };
    let brief = brief.with(new.changes.clone());
    starting::must_be_for(app, me, &brief).await?;
    brief.check().map_err(invalid)?;
    let wanted = starting::Wanted { brief: brief.clone(), ..starting::Wanted::default() };
    starting::prepare(app, wanted, &mut Looked::default()).await?;
    let next = schedule.upcoming(now, TOLD_AHEAD);
    if next.is_empty() {
        let why = match &schedule.timing {
            Timing::At(at) => format!("--at: {} has passed", schedule.zone.said(*at)),
            _ => "nothing would ever start: the last day (--until) has passed, or comes before the first start"
                .to_owned(),
        };
        return Err(Refused::invalid(why));
    }
    let mut warnings = schedule.clock_changes(now);
    warnings.extend(starting::warnings(app, None, &brief).await?);
    let preview = SchedulePreview {
        said: schedule.said(),
        next_said: next.iter().map(|at| schedule.zone.said(*at)).collect(),
        next: next.into_iter().map(Timestamp::utc).collect(),
        warnings,
    };
    Ok((schedule, preview, now))
}

/// Says when a schedule would start something, and what should be known before it is saved. Nothing is saved.
#[utoipa::path(post, path = "/api/schedules/preview", operation_id = "preview_schedule", request_body = NewSchedule, tag = "schedules",
    responses((status = 200, body = SchedulePreview), (status = 422)))]
#[post("/api/schedules/preview", data = "<new>")]
async fn preview(app: &State<App>, caller: MaySee, new: Sent<NewSchedule>) -> Answer<SchedulePreview> {
    let new = body(new)?;
    Ok(Json(looked_at(app, &caller.0, &new).await?.1))
}

/// Saves a schedule, or changes one.
#[utoipa::path(post, path = "/api/schedules", operation_id = "put_schedule", request_body = NewSchedule, tag = "schedules",
    responses((status = 200, body = ScheduleOf), (status = 409), (status = 422)))]
#[post("/api/schedules", data = "<new>")]
async fn put(app: &State<App>, caller: MayOperate, new: Sent<NewSchedule>) -> Answer<ScheduleOf> {
    let new = body(new)?;
    let (schedule, _, now) = looked_at(app, &caller.0, &new).await?;
    if new.replace && app.store.schedule(&new.name).await?.is_some() {
        seen(app, &caller.0, &new.name).await?;
    }
    let row = NewRow {
        name: &new.name,
        brief: new.brief.as_deref(),
        suite: new.suite.as_deref(),
        changes: &new.changes,
        times: &new.times,
        next_at: schedule.next(now).map(Timestamp::utc),
        made_by: &caller.0.name,
    };
    let row = app.store.put_schedule(row, new.replace).await?.ok_or_else(|| {
        Refused::conflict(format!(
            "there is a schedule named {} already: give this one another name, or change that one with --replace",
            new.name
        ))
    })?;
    Ok(Json(view(app, row, MOST_SHOWN).await?))
}

/// Summaries of runs, by id.
async fn summaries(app: &App, ids: &[i64]) -> Result<HashMap<i64, RunSummary>, Refused> {
    let open = app.summaries().await;
    let rows = app.store.runs_of(ids).await?;
    let summary = |(row, suite): (RunRow, String)| {
        let id = row.id;
        (id, open.get(&id).cloned().unwrap_or_else(|| summary_of_row(&row, &suite)))
    };
    Ok(rows.into_iter().map(summary).collect())
}

async fn view(app: &App, row: ScheduleRow, planned: i64) -> Result<ScheduleOf, Refused> {
    let mut all = views(app, vec![row], planned).await?;
    all.pop().ok_or_else(|| Refused::not_found("the schedule is gone"))
}

async fn views(app: &App, rows: Vec<ScheduleRow>, planned: i64) -> Result<Vec<ScheduleOf>, Refused> {
    let runs = summaries(app, &rows.iter().filter_map(|r| r.run_id).collect::<Vec<_>>()).await?;
    let mut all = Vec::new();
    for row in rows {
        let schedule = row.schedule();
        let said = |at: DateTime<Utc>| match &schedule {
            Ok(schedule) => schedule.zone.said(Timestamp::from(at)),
            Err(_) => at.to_rfc3339(),
        };
        let planned = if planned > 0 {
            let starts = app.store.planned(row.id, planned).await?;
            let runs = summaries(app, &starts.iter().filter_map(|p| p.run_id).collect::<Vec<_>>()).await?;
            starts.into_iter().map(|p| planned_start(p, &said, &runs)).collect()
        } else {
            Vec::new()
        };
        all.push(ScheduleOf {
            said: schedule.as_ref().map_or_else(ToString::to_string, Schedule::said),
            next: row.next_at.filter(|_| !row.paused),
            next_said: row.next_at.filter(|_| !row.paused).map(said),
            last_run: row.run_id.and_then(|id| runs.get(&id).cloned()),
            times: row.times()?,
            changes: row.changes()?,
            name: row.name,
            brief: row.brief,
            suite: row.suite,
            paused: row.paused,
            made_by: row.made_by,
            made_at: row.made_at,
            planned,
        });
    }
    Ok(all)
}

fn planned_start(
    row: PlannedRow,
    said: &impl Fn(DateTime<Utc>) -> String,
    runs: &HashMap<i64, RunSummary>,
) -> PlannedStart {
    let run = row.run_id.and_then(|id| runs.get(&id));
    PlannedStart {
        planned_said: said(row.planned_at),
        planned_at: row.planned_at,
        to_at: row.to_at,
        count: row.count as u32,
        what: What::of(&row.what).unwrap_or(What::Refused),
        why: row.why,
        run: run.map(|r| r.name.clone()),
        verdict: run.and_then(|r| r.verdict),
    }
}

/// All schedules, by name.
#[utoipa::path(get, path = "/api/schedules", operation_id = "list_schedules", tag = "schedules",
    responses((status = 200, body = [ScheduleOf])))]
#[get("/api/schedules")]
async fn list(app: &State<App>, caller: MaySee) -> Answer<Vec<ScheduleOf>> {
    let rows = all_seen(app, &caller.0).await?;
    Ok(Json(views(app, rows, 0).await?))
}

/// One schedule, with what became of its planned starts.
#[utoipa::path(get, path = "/api/schedules/{name}", operation_id = "show_schedule", params(("name" = String, Path)), tag = "schedules",
    responses((status = 200, body = ScheduleOf), (status = 404)))]
#[get("/api/schedules/<name>")]
async fn show(app: &State<App>, caller: MaySee, name: &str) -> Answer<ScheduleOf> {
    let row = seen(app, &caller.0, name).await?;
    Ok(Json(view(app, row, MOST_SHOWN).await?))
}

/// Removes a schedule with its history; its runs stay.
#[utoipa::path(delete, path = "/api/schedules/{name}", operation_id = "remove_schedule", params(("name" = String, Path)), tag = "schedules",
    responses((status = 204), (status = 404)))]
#[delete("/api/schedules/<name>")]
async fn remove(app: &State<App>, caller: MayOperate, name: &str) -> Result<Status, Refused> {
    seen(app, &caller.0, name).await?;
    app.store.remove_schedule(name).await?;
    Ok(Status::NoContent)
}

/// Pauses a schedule, or goes on with it: from its next start after now, what was due meanwhile is left out.
#[utoipa::path(post, path = "/api/schedules/{name}/pause", operation_id = "pause_schedule", params(("name" = String, Path)), tag = "schedules",
    request_body = Pause, responses((status = 200, body = ScheduleOf), (status = 404), (status = 409)))]
#[post("/api/schedules/<name>/pause", data = "<pause>")]
async fn pause(app: &State<App>, caller: MayOperate, name: &str, pause: Sent<Pause>) -> Answer<ScheduleOf> {
    let Pause { paused } = body(pause)?;
    let row = seen(app, &caller.0, name).await?;
    let next = if paused { row.next_at } else { row.schedule()?.next(clock_now(app)?).map(Timestamp::utc) };
    if !paused && next.is_none() {
        return Err(Refused::conflict(format!(
            "{name} has no start to come: change it with `kesmo schedule add --replace`"
        )));
    }
    let row = app.store.pause_schedule(row.id, paused, next).await?;
    Ok(Json(view(app, row, MOST_SHOWN).await?))
}

/// Starts a schedule's run at once, beside its times.
#[utoipa::path(post, path = "/api/schedules/{name}/now", operation_id = "start_schedule", params(("name" = String, Path)), tag = "schedules",
    responses((status = 200, body = Run), (status = 404), (status = 422)))]
#[post("/api/schedules/<name>/now")]
async fn now(app: &State<App>, caller: MayOperate, name: &str) -> Answer<Run> {
    let row = seen(app, &caller.0, name).await?;
    let by = &caller.0.name;
    let mut run = starting::of_schedule(app, &row, by, None, &mut Looked::default()).await?;
    starting::pin(app, &mut run).await?;
    let why = format!("started by {by}, beside its times");
    let made = app.store.start_schedule_now(row.id, clock_now(app)?.utc(), &why, &run).await?;
    let suite = app.store.runs_of(&[made.id]).await?.pop().map(|(_, suite)| suite).unwrap_or_default();
    Ok(Json(hand_over(app, &caller.0, &made, &suite).await?))
}

/// The starts of all schedules within a stretch of time: those that were planned and those to come.
#[utoipa::path(get, path = "/api/calendar", operation_id = "calendar", tag = "schedules",
    params(("from" = String, Query, description = "RFC 3339"), ("to" = String, Query)), responses((status = 200, body = Calendar), (status = 422, description = "a time is missing or is none")))]
#[get("/api/calendar?<from>&<to>")]
async fn calendar(app: &State<App>, caller: MaySee, from: Option<&str>, to: Option<&str>) -> Answer<Calendar> {
    let read = |name: &str, text: Option<&str>| {
        let text =
            text.ok_or_else(|| Refused::invalid(format!("{name} is missing: a time like 2026-11-23T00:00:00Z")))?;
        text.parse::<DateTime<Utc>>().map_err(|_| {
            Refused::invalid(format!("{name}={text:?} is not a valid time: write it like 2026-11-23T00:00:00Z"))
        })
    };
    let (from, to) = (read("from", from)?, read("to", to)?);
    if to <= from || to - from > LONGEST {
        return Err(Refused::invalid("a calendar shows at least an hour and at most 31 days: `to` comes after `from`"));
    }
    let now = clock_now(app)?;
    let rows = all_seen(app, &caller.0).await?;
    let hours = ((to - from).num_minutes() as usize).div_ceil(60);
    let mut calendar = Calendar { from, to, starts: Vec::new(), hours: vec![(0, 0); hours], total: 0 };
    let names: HashMap<i64, String> = rows.iter().map(|r| (r.id, r.name.clone())).collect();
    let planned = app.store.planned_between(from, to, MOST_IN_CALENDAR as i64).await?;
    let runs = summaries(app, &planned.iter().filter_map(|p| p.run_id).collect::<Vec<_>>()).await?;
    for row in planned.into_iter().filter(|row| caller.0.suites.is_empty() || names.contains_key(&row.schedule_id)) {
        let run = row.run_id.and_then(|id| runs.get(&id));
        calendar.total += 1;
        calendar.starts.push(CalendarStart {
            at: row.planned_at,
            schedule: names.get(&row.schedule_id).cloned().unwrap_or_default(),
            what: What::of(&row.what),
            run: run.map(|r| r.name.clone()),
            verdict: run.and_then(|r| r.verdict),
        });
    }
    let takes = app.store.usual_of_schedules().await?;
    for row in rows.iter().filter(|r| !r.paused) {
        let (Some(next), Ok(schedule)) = (row.next_at, row.schedule()) else { continue };
        let first = Timestamp::from(next).max(Timestamp::from(from)).max(now);
        let first = if first == Timestamp::from(next) { Some(first) } else { schedule.next(Timestamp(first.0 - 1)) };
        let one_only = matches!(schedule.timing, Timing::AfterEvery(_));
        let all = std::iter::successors(first, |at| if one_only { None } else { schedule.next(*at) });
        for at in all.take_while(|at| *at < Timestamp::from(to)).take(MOST_OF_ONE) {
            let at = at.utc();
            let hour = (at - from).num_hours().max(0) as usize;
            if let Some(hour) = calendar.hours.get_mut(hour) {
                hour.0 += 1;
                hour.1 += takes.get(&row.id).copied().unwrap_or(0).max(0) as u64;
            }
            calendar.total += 1;
            if calendar.starts.len() < MOST_IN_CALENDAR {
                let start =
                    CalendarStart { at, schedule: row.name.clone(), what: None, run: None, verdict: None::<Verdict> };
                calendar.starts.push(start);
            }
        }
    }
    calendar.starts.sort_by(|a, b| a.at.cmp(&b.at).then(a.schedule.cmp(&b.schedule)));
    Ok(Json(calendar))
}
