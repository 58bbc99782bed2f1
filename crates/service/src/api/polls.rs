//! Polled branches of suites from version control.

use std::collections::HashMap;

use kesmo_core::{
    source::{Branches, LONGEST_PAUSE, SHORTEST_LOOK},
    time::Span,
};
use kesmo_store::polls::{NewPoll as NewRow, PollRow};
use kesmo_wire::api::{NewPoll, PollOf};
use rocket::{Route, State, delete, get, http::Status, post, routes, serde::json::Json};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayOperate, MaySee},
    app::App,
    lookup::named,
    refused::Refused,
    starting,
};

/// How often branches are looked at unless told otherwise.
const LOOK: &str = "1m";
/// The longest name or pattern of branches.
const LONGEST_BRANCHES: usize = 500;
/// Heads that are shown of a poll.
const MOST_HEADS: i64 = 10;

pub(super) fn routes() -> Vec<Route> {
    routes![put, list, all, remove]
}

/// Polls with the latest heads that ran, asked for together.
async fn views(app: &App, rows: Vec<(PollRow, String)>) -> Result<Vec<PollOf>, Refused> {
    let polls: Vec<i64> = rows.iter().map(|(w, _)| w.id).collect();
    let heads = app.store.heads_run(&polls, MOST_HEADS).await?;
    let ids: Vec<i64> = heads.iter().map(|h| h.run_id).collect();
    let names: HashMap<i64, String> =
        app.store.runs_of(&ids).await?.into_iter().map(|(r, s)| (r.id, format!("{s}/{}", r.number))).collect();
    let mut of_poll: HashMap<i64, Vec<(String, String, String)>> = HashMap::new();
    for head in heads {
        let name = names.get(&head.run_id).cloned().unwrap_or_default();
        of_poll.entry(head.poll_id).or_default().push((head.branch, head.commit, name));
    }
    let view = |(row, suite): (PollRow, String)| PollOf {
        suite,
        heads: of_poll.remove(&row.id).unwrap_or_default(),
        branches: row.branches,
        every_us: row.every_us as u64,
        brief: row.brief,
        looked_at: row.looked_at,
        next_look: row.next_look,
        failures: row.failures as u32,
        trouble: row.trouble,
        made_by: row.made_by,
    };
    Ok(rows.into_iter().map(view).collect())
}

/// Polls branches: every new commit at the head of one starts a run.
#[utoipa::path(post, path = "/api/suites/{suite}/polls", operation_id = "put_poll", params(("suite" = String, Path)), tag = "suites",
    request_body = NewPoll, responses((status = 200, body = PollOf), (status = 404), (status = 422), (status = 503)))]
#[post("/api/suites/<suite>/polls", data = "<new>")]
async fn put(app: &State<App>, caller: MayOperate, suite: &str, new: Sent<NewPoll>) -> Answer<PollOf> {
    let new = body(new)?;
    let invalid = |e: kesmo_core::Error| Refused::invalid(e.to_string());
    let row = named(app, suite).await?;
    let source = row.git_source()?.ok_or_else(|| {
        Refused::invalid(format!("{suite} is not from version control: add it with `kesmo suite add --git URL`"))
    })?;
    let branches = Branches::parse(&new.branches).map_err(invalid)?;
    if new.branches.len() > LONGEST_BRANCHES {
        return Err(Refused::invalid(format!("--branch is longer than {LONGEST_BRANCHES} letters")));
    }
    let look = Span::parse(if new.every.is_empty() { LOOK } else { &new.every }).map_err(invalid)?;
    if look < SHORTEST_LOOK || look > Span(LONGEST_PAUSE.0 * 96) {
        return Err(Refused::invalid(format!("--every {look} is out of bounds: {SHORTEST_LOOK} to 24h")));
    }
    if let Some(brief) = &new.brief {
        let found = starting::brief_named(app, brief).await.map_err(Refused::of_what_was_sent)?;
        if found.suite.as_deref() != Some(suite) {
            return Err(Refused::invalid(format!("the brief {brief} is of another suite than {suite}")));
        }
    }
    // What is there already is no news, unless it is asked for; and a server that does not answer is told now.
    let heads = app.git.heads(&source.url).await.map_err(|e| Refused::unavailable(e.to_string()))?;
    let there: Vec<_> = heads.iter().filter(|h| branches.has(&h.0)).cloned().collect();
    if there.is_empty() && !crate::scheduler::is_glob(&new.branches) {
        let hint = kesmo_core::name::did_you_mean(&new.branches, heads.iter().map(|h| h.0.as_str()));
        return Err(Refused::invalid(format!("there is no branch {:?} now{hint}", new.branches)));
    }
    let row = NewRow {
        suite_id: row.id,
        branches: &new.branches,
        every_us: look.0 as i64,
        brief: new.brief.as_deref(),
        made_by: &caller.0.name,
        heads: if new.now { &[] } else { &there },
    };
    let clock = app.clock.now().unwrap_or_else(kesmo_floor::now);
    let first = if new.now { kesmo_core::time::Timestamp(clock.0 - look.0 as i64) } else { clock };
    let row = app.store.put_poll(row, first.utc()).await?;
    let mut made = views(app, vec![(row, suite.to_owned())]).await?;
    Ok(Json(made.pop().ok_or_else(|| Refused::not_found("the poll is gone"))?))
}

/// What is polled of a suite.
#[utoipa::path(get, path = "/api/suites/{suite}/polls", operation_id = "list_polls", params(("suite" = String, Path)), tag = "suites",
    responses((status = 200, body = [PollOf]), (status = 404)))]
#[get("/api/suites/<suite>/polls")]
async fn list(app: &State<App>, _caller: MaySee, suite: &str) -> Answer<Vec<PollOf>> {
    let row = named(app, suite).await?;
    Ok(Json(views(app, app.store.polls(Some(row.id)).await?).await?))
}

/// What is polled of all suites.
#[utoipa::path(get, path = "/api/polls", operation_id = "all_polls", tag = "suites", responses((status = 200, body = [PollOf])))]
#[get("/api/polls")]
async fn all(app: &State<App>, caller: MaySee) -> Answer<Vec<PollOf>> {
    let mut polls = app.store.polls(None).await?;
    polls.retain(|(_, suite)| caller.0.is_for(suite));
    Ok(Json(views(app, polls).await?))
}

/// No longer polls branches.
#[utoipa::path(delete, path = "/api/suites/{suite}/polls", operation_id = "remove_poll", tag = "suites",
    params(("suite" = String, Path), ("branches" = String, Query)), responses((status = 204), (status = 404)))]
#[delete("/api/suites/<suite>/polls?<branches>")]
async fn remove(app: &State<App>, _caller: MayOperate, suite: &str, branches: &str) -> Result<Status, Refused> {
    let row = named(app, suite).await?;
    if app.store.remove_poll(row.id, branches).await? {
        return Ok(Status::NoContent);
    }
    let all: Vec<String> = app.store.polls(Some(row.id)).await?.into_iter().map(|(w, _)| w.branches).collect();
    let said = if all.is_empty() { "nothing of it is".to_owned() } else { format!("polled are: {}", all.join(", ")) };
    Err(Refused::not_found(format!("{branches} is not polled in {suite}; {said}")))
}
