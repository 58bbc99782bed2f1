//! Briefs: saved, read, checked, removed.

use kesmo_core::{
    name::Slug,
    plan::brief::{Brief, chain},
};
use kesmo_store::briefs::{BriefRow, NotSaved};
use kesmo_wire::api::{BriefOf, NewBrief};
use rocket::{
    Route, State, delete, get,
    http::Status,
    post, routes,
    serde::json::{Error as JsonError, Json},
};

use super::{Answer, Refused, body, runs::summary_of_row};
use crate::{
    App,
    access::{MayOperate, MaySee},
    floor::Ask,
    starting::{self, Looked, Wanted},
};

pub(super) fn routes() -> Vec<Route> {
    routes![put, list, show, remove, check]
}

/// A brief with what uses it and how its last run went.
async fn view(app: &App, row: BriefRow, all: &[BriefRow], whole: bool) -> Result<BriefOf, Refused> {
    let brief = row.brief()?;
    let then = |of: &str| all.iter().find(|b| b.name == of).and_then(|b| b.brief().ok()?.then);
    let chain = chain(&row.name, then).unwrap_or_else(|_| vec![row.name.clone()]);
    let last = app.store.last_run_of_brief(&row.name).await?;
    let last_run = match last {
        Some((run, suite)) => {
            let open = app.floor.ask(|reply| Ask::Summary(run.id, reply)).await.flatten();
            Some(open.map_or_else(|| summary_of_row(&run, &suite), |s| *s))
        }
        None => None,
    };
    let warnings = if whole { starting::warnings(app, Some(&row.name), &brief).await? } else { Vec::new() };
    Ok(BriefOf {
        toml: brief.to_toml(),
        brief,
        chain: if chain.len() > 1 { chain } else { Vec::new() },
        used_by: app.store.users_of_brief(&row.name, all).await?,
        last_run,
        warnings,
        name: row.name,
        made_by: row.made_by,
        made_at: row.made_at,
        changed_at: row.changed_at,
    })
}

/// Checks a brief as a start of it would, and that the one is there which is to follow it.
async fn checked(app: &App, brief: &Brief) -> Result<(), Refused> {
    if brief.suite.is_none() {
        return Err(Refused::invalid("the brief names no suite: give it one with --suite NAME"));
    }
    let wanted = Wanted { brief: brief.clone(), ..Wanted::default() };
    starting::prepare(app, wanted, &mut Looked::default()).await?;
    if let Some(then) = &brief.then {
        starting::brief_row(app, then).await.map_err(|e| Refused::invalid(format!("--then: {}", e.1.message)))?;
    }
    Ok(())
}

/// Saves a brief, or changes one.
#[utoipa::path(post, path = "/api/briefs", operation_id = "put_brief", request_body = NewBrief, tag = "briefs",
    responses((status = 200, body = BriefOf), (status = 409), (status = 422)))]
#[post("/api/briefs", data = "<new>")]
async fn put(app: &State<App>, caller: MayOperate, new: Result<Json<NewBrief>, JsonError<'_>>) -> Answer<BriefOf> {
    let NewBrief { name, brief, again } = body(new)?;
    let name = Slug::parse("the brief's name", &name).map_err(|e| Refused::invalid(e.to_string()))?.to_string();
    if brief.then.as_deref() != Some(name.as_str()) {
        checked(app, &brief).await?;
    }
    let row = app.store.put_brief(&name, &brief, &caller.0.name, again).await.map_err(|e| match e {
        NotSaved::Store(e) => e.into(),
        NotSaved::Loop(why) => Refused::invalid(why),
        NotSaved::Taken => Refused::conflict(format!(
            "there is a brief named {name} already: give it another name, or change that one with --again"
        )),
    })?;
    let all = app.store.briefs().await?;
    Ok(Json(view(app, row, &all, true).await?))
}

/// Says what would keep a brief from running; nothing is saved.
#[utoipa::path(post, path = "/api/briefs/check", operation_id = "check_brief", request_body = NewBrief, tag = "briefs",
    responses((status = 200, body = [String]), (status = 422)))]
#[post("/api/briefs/check", data = "<new>")]
async fn check(app: &State<App>, _caller: MaySee, new: Result<Json<NewBrief>, JsonError<'_>>) -> Answer<Vec<String>> {
    let NewBrief { name, brief, .. } = body(new)?;
    if let Err(e) = checked(app, &brief).await {
        return Ok(Json(vec![e.1.message]));
    }
    Ok(Json(starting::warnings(app, Some(&name), &brief).await?))
}

/// All briefs, by name.
#[utoipa::path(get, path = "/api/briefs", operation_id = "list_briefs", tag = "briefs", responses((status = 200, body = [BriefOf])))]
#[get("/api/briefs")]
async fn list(app: &State<App>, _caller: MaySee) -> Answer<Vec<BriefOf>> {
    let rows = app.store.briefs().await?;
    let mut all = Vec::new();
    for row in rows.clone() {
        all.push(view(app, row, &rows, false).await?);
    }
    Ok(Json(all))
}

/// One brief, with what would keep it from running.
#[utoipa::path(get, path = "/api/briefs/{name}", operation_id = "show_brief", params(("name" = String, Path)), tag = "briefs",
    responses((status = 200, body = BriefOf), (status = 404)))]
#[get("/api/briefs/<name>")]
async fn show(app: &State<App>, _caller: MaySee, name: &str) -> Answer<BriefOf> {
    let row = starting::brief_row(app, name).await?;
    let all = app.store.briefs().await?;
    Ok(Json(view(app, row, &all, true).await?))
}

/// Removes a brief that nothing starts.
#[utoipa::path(delete, path = "/api/briefs/{name}", operation_id = "remove_brief", params(("name" = String, Path)), tag = "briefs",
    responses((status = 204), (status = 404), (status = 409, description = "something starts it")))]
#[delete("/api/briefs/<name>")]
async fn remove(app: &State<App>, _caller: MayOperate, name: &str) -> Result<Status, Refused> {
    starting::brief_row(app, name).await?;
    let users = app.store.users_of_brief(name, &app.store.briefs().await?).await?;
    if !users.is_empty() {
        let users = users.join(", ");
        return Err(Refused::conflict(format!("the brief {name} is started by {users}: remove or change that first")));
    }
    app.store.remove_brief(name).await?;
    Ok(Status::NoContent)
}
