//! Briefs: saved, read, checked, removed.

use std::collections::HashMap;

use kesmo_core::{
    name::Slug,
    plan::brief::{Brief, chain},
};
use kesmo_store::briefs::{BriefRow, NotSaved};
use kesmo_wire::api::{BriefOf, Me, NewBrief};
use rocket::{Route, State, delete, get, http::Status, post, routes, serde::json::Json};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayOperate, MaySee, suites},
    app::App,
    refused::Refused,
    starting::{self, Looked, Wanted},
};
use kesmo_floor::summary::summary_of_row;

pub(super) fn routes() -> Vec<Route> {
    routes![put, list, show, remove, check]
}

/// Some of all briefs with what uses them and how their last runs went: asked for together, however many they are.
async fn views(app: &App, rows: Vec<BriefRow>, all: &[BriefRow], whole: bool) -> Result<Vec<BriefOf>, Refused> {
    let then = |of: &str| all.iter().find(|b| b.name == of).and_then(|b| b.brief().ok()?.then);
    let mut users = app.store.users_of_briefs(all).await?;
    let names: Vec<&str> = rows.iter().map(|r| r.name.as_str()).collect();
    let mut last: HashMap<String, _> = HashMap::new();
    for (run, suite) in app.store.last_runs_of_briefs(&names).await? {
        if let Some(brief) = run.brief.clone() {
            last.insert(brief, (run, suite));
        }
    }
    let active = app.summaries().await;
    let mut found = Vec::new();
    for row in rows {
        // One that cannot be read is shown as one that will not run, and hides no other.
        let (brief, unreadable) = match row.brief() {
            Ok(brief) => (brief, None),
            Err(e) => (Brief::default(), Some(e.to_string())),
        };
        let chain = chain(&row.name, then).unwrap_or_else(|_| vec![row.name.clone()]);
        let last_run = last.remove(&row.name);
        let last_run =
            last_run.map(|(run, suite)| active.get(&run.id).cloned().unwrap_or_else(|| summary_of_row(&run, &suite)));
        let mut warnings: Vec<String> = unreadable.into_iter().collect();
        if whole && warnings.is_empty() {
            warnings = starting::warnings(app, Some(&row.name), &brief).await?;
        }
        found.push(BriefOf {
            toml: brief.to_toml(),
            brief,
            chain: if chain.len() > 1 { chain } else { Vec::new() },
            used_by: users.remove(&row.name).unwrap_or_default(),
            last_run,
            warnings,
            name: row.name,
            made_by: row.made_by,
            made_at: row.made_at,
            changed_at: row.changed_at,
        });
    }
    Ok(found)
}

async fn view(app: &App, row: BriefRow, all: &[BriefRow]) -> Result<BriefOf, Refused> {
    let gone = || Refused::not_found("the brief is gone");
    views(app, vec![row], all, true).await?.pop().ok_or_else(gone)
}

/// A brief that somebody may see.
async fn seen(app: &App, me: &Me, name: &str) -> Result<BriefRow, Refused> {
    let row = starting::brief_row(app, name).await?;
    // One that cannot be read is of no suite that is known.
    suites::must_be_for(me, row.brief().ok().and_then(|brief| brief.suite).as_deref().unwrap_or_default())?;
    Ok(row)
}

/// Checks a brief as a start of it would, and that the one is there which is to follow it.
async fn checked(app: &App, brief: &Brief) -> Result<(), Refused> {
    if brief.suite.is_none() {
        return Err(Refused::invalid("the brief names no suite: give it one with --suite NAME"));
    }
    let wanted = Wanted { brief: brief.clone(), ..Wanted::default() };
    starting::prepare(app, wanted, &mut Looked::default()).await?;
    if let Some(then) = &brief.then {
        starting::brief_row(app, then).await.map_err(|e| e.about("--then: ").of_what_was_sent())?;
    }
    Ok(())
}

/// Saves a brief, or changes one.
#[utoipa::path(post, path = "/api/briefs", operation_id = "put_brief", request_body = NewBrief, tag = "briefs",
    responses((status = 200, body = BriefOf), (status = 409), (status = 422)))]
#[post("/api/briefs", data = "<new>")]
async fn put(app: &State<App>, caller: MayOperate, new: Sent<NewBrief>) -> Answer<BriefOf> {
    let NewBrief { name, brief, replace } = body(new)?;
    let name = Slug::parse("the brief's name", &name).map_err(|e| Refused::invalid(e.to_string()))?.to_string();
    starting::must_be_for(app, &caller.0, &brief).await?;
    if replace && app.store.brief(&name).await?.is_some() {
        seen(app, &caller.0, &name).await?;
    }
    if brief.then.as_deref() != Some(name.as_str()) {
        checked(app, &brief).await?;
    }
    let row = app.store.put_brief(&name, &brief, &caller.0.name, replace).await.map_err(|e| match e {
        NotSaved::Store(e) => e.into(),
        NotSaved::Loop(why) => Refused::invalid(why),
        NotSaved::Taken => Refused::conflict(format!(
            "there is a brief named {name} already: give it another name, or change that one with --replace"
        )),
    })?;
    let all = app.store.briefs().await?;
    Ok(Json(view(app, row, &all).await?))
}

/// Says what would keep a brief from running; nothing is saved.
#[utoipa::path(post, path = "/api/briefs/check", operation_id = "check_brief", request_body = NewBrief, tag = "briefs",
    responses((status = 200, body = [String]), (status = 422)))]
#[post("/api/briefs/check", data = "<new>")]
async fn check(app: &State<App>, caller: MaySee, new: Sent<NewBrief>) -> Answer<Vec<String>> {
    let NewBrief { name, brief, .. } = body(new)?;
    starting::must_be_for(app, &caller.0, &brief).await?;
    if let Err(e) = checked(app, &brief).await {
        return Ok(Json(vec![e.told_to(&caller.0)]));
    }
    Ok(Json(starting::warnings(app, Some(&name), &brief).await?))
}

/// All briefs, by name.
#[utoipa::path(get, path = "/api/briefs", operation_id = "list_briefs", tag = "briefs", responses((status = 200, body = [BriefOf])))]
#[get("/api/briefs")]
async fn list(app: &State<App>, caller: MaySee) -> Answer<Vec<BriefOf>> {
    let all = app.store.briefs().await?;
    let mut rows = all.clone();
    if !caller.0.suites.is_empty() {
        rows.retain(|row| row.brief().is_ok_and(|brief| brief.suite.is_some_and(|suite| caller.0.is_for(&suite))));
    }
    Ok(Json(views(app, rows, &all, false).await?))
}

/// One brief, with what would keep it from running.
#[utoipa::path(get, path = "/api/briefs/{name}", operation_id = "show_brief", params(("name" = String, Path)), tag = "briefs",
    responses((status = 200, body = BriefOf), (status = 404)))]
#[get("/api/briefs/<name>")]
async fn show(app: &State<App>, caller: MaySee, name: &str) -> Answer<BriefOf> {
    let row = seen(app, &caller.0, name).await?;
    let all = app.store.briefs().await?;
    Ok(Json(view(app, row, &all).await?))
}

/// Removes a brief that nothing starts.
#[utoipa::path(delete, path = "/api/briefs/{name}", operation_id = "remove_brief", params(("name" = String, Path)), tag = "briefs",
    responses((status = 204), (status = 404), (status = 409, description = "something starts it")))]
#[delete("/api/briefs/<name>")]
async fn remove(app: &State<App>, caller: MayOperate, name: &str) -> Result<Status, Refused> {
    seen(app, &caller.0, name).await?;
    let all = app.store.briefs().await?;
    let users = app.store.users_of_briefs(&all).await?.remove(name).unwrap_or_default();
    if !users.is_empty() {
        let users = users.join(", ");
        return Err(Refused::conflict(format!("the brief {name} is started by {users}: remove or change that first")));
    }
    app.store.remove_brief(name).await?;
    Ok(Status::NoContent)
}
