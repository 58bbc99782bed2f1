//! What is kept for how long.

use kesmo_core::name::Slug;
use kesmo_store::{month_of, sweep::KeepRow};
use kesmo_wire::api::{KeepRule, Keeping, NewKeep, Swept};
use rocket::{Route, State, delete, get, http::Status, post, put, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    found::find,
};
use crate::{
    access::{MayKeep, MaySee, Record},
    app::App,
    refused::Refused,
    sweeping,
};

/// Rules, and sweeps that are told.
const MOST_RULES: usize = 100;
const SWEEPS: i64 = 20;

pub(super) fn routes() -> Vec<Route> {
    routes![keeping, put_keep, remove_keep, sweep, remove_run]
}

fn told(row: &KeepRow) -> Result<KeepRule, Refused> {
    let rule = row.rule()?;
    let said = format!("{} {}", rule.what, rule.said());
    Ok(KeepRule { name: row.name.clone(), rule, said, by: row.made_by.clone(), made_at: row.made_at })
}

/// What is kept for how long, and what was removed of late.
#[utoipa::path(get, path = "/api/keep", operation_id = "keeping", tag = "keep", responses((status = 200, body = Keeping)))]
#[get("/api/keep")]
async fn keeping(app: &State<App>, _caller: MaySee) -> Answer<Keeping> {
    let rules = app.store.keep_rules().await?.iter().map(told).collect::<Result<Vec<_>, _>>()?;
    let swept = |row: kesmo_store::sweep::SweepRow| {
        let freed = row.freed()?;
        Ok::<_, Refused>(Swept { at: row.at, said: freed.said(), freed })
    };
    let sweeps = app.store.sweeps(SWEEPS).await?.into_iter().map(swept).collect::<Result<Vec<_>, _>>()?;
    Ok(Json(Keeping { rules, sweeps }))
}

/// Keeps a rule. It is carried out by the next sweep: within the hour, or when it is asked for.
#[utoipa::path(put, path = "/api/keep/{name}", operation_id = "put_keep", params(("name" = String, Path)), request_body = NewKeep, tag = "keep",
    responses((status = 200, body = KeepRule), (status = 409, description = "there is one of that name"), (status = 422)))]
#[put("/api/keep/<name>", data = "<new>")]
async fn put_keep(
    app: &State<App>,
    caller: MayKeep,
    record: Record<'_>,
    name: &str,
    new: Sent<NewKeep>,
) -> Answer<KeepRule> {
    let new = body(new)?;
    let name = Slug::parse("the rule's name", name).map_err(|e| Refused::invalid(e.to_string()))?;
    new.rule.check().map_err(|e| Refused::invalid(e.to_string()))?;
    record.note(format!("{} {}", new.rule.what, new.rule.said()));
    let there = app.store.keep_rules().await?;
    if there.len() >= MOST_RULES && !there.iter().any(|row| row.name == name.as_str()) {
        return Err(Refused::invalid(format!("there are {MOST_RULES} rules already: remove one first")));
    }
    if !app.store.put_keep(name.as_str(), &new.rule, &caller.0.name, new.replace).await? {
        return Err(Refused::conflict(format!("there is a rule named {name} already: change it with --replace")));
    }
    let all = app.store.keep_rules().await?;
    let row = all.iter().find(|row| row.name == name.as_str());
    row.map_or_else(
        || Err(Refused::not_found(format!("the rule {name} was removed meanwhile"))),
        |row| Ok(Json(told(row)?)),
    )
}

/// Removes a rule: what it let go is kept from now on.
#[utoipa::path(delete, path = "/api/keep/{name}", operation_id = "remove_keep", params(("name" = String, Path)), tag = "keep",
    responses((status = 204), (status = 404)))]
#[delete("/api/keep/<name>")]
async fn remove_keep(app: &State<App>, _caller: MayKeep, name: &str) -> Result<Status, Refused> {
    if !app.store.remove_keep(name).await? {
        return Err(Refused::not_found(format!("there is no rule named {name:?}")));
    }
    Ok(Status::NoContent)
}

/// Sweeps now: removes what the rules let go and what nothing needs; with `try` it only tells what would go by the rules, and the bytes of
/// files that would be needed no more.
#[utoipa::path(post, path = "/api/sweep", operation_id = "sweep", params(("try" = Option<bool>, Query)), tag = "keep",
    responses((status = 200, body = Swept), (status = 409, description = "a sweep goes on")))]
#[post("/api/sweep?<try>")]
async fn sweep(app: &State<App>, _caller: MayKeep, record: Record<'_>, r#try: Option<bool>) -> Answer<Swept> {
    let only_tell = r#try.unwrap_or(false);
    let freed = sweeping::sweep(app, only_tell).await?;
    let freed = freed.ok_or_else(|| Refused::conflict("a sweep goes on: wait until it is over"))?;
    record.note(format!("{}{}", if only_tell { "only tried: " } else { "" }, freed.said()));
    Ok(Json(Swept { at: chrono::Utc::now(), said: freed.said(), freed }))
}

/// Removes a run that is over, with all that belongs to it. One by which a test still fails stays.
#[utoipa::path(delete, path = "/api/runs/{suite}/{number}", operation_id = "remove_run", params(("suite" = String, Path), ("number" = i32, Path)),
    tag = "keep", responses((status = 204), (status = 404), (status = 409, description = "it goes on, or a test fails by it")))]
#[delete("/api/runs/<suite>/<number>")]
async fn remove_run(app: &State<App>, _caller: MayKeep, suite: &str, number: i32) -> Result<Status, Refused> {
    let row = find(app, suite, number).await?;
    let name = format!("{suite}/{number}");
    if row.phase != "finished" {
        return Err(Refused::conflict(format!("{name} goes on: stop it first (kesmo stop {name})")));
    }
    app.floor.recorded().await;
    if sweeping::remove_runs(app, &[(row.id, month_of(row.created_at))]).await?.0 == 0 {
        return Err(Refused::conflict(format!(
            "by {name} it is known that a test fails now, or since when: it stays until that passes (kesmo failing {suite})"
        )));
    }
    Ok(Status::NoContent)
}
