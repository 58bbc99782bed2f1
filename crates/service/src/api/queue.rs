//! The queue: runs of each pool that nothing was begun of, in their order, and putting one elsewhere in it.

use kesmo_core::name::RunName;
use kesmo_wire::api::{MoveRun, RunSummary};
use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    found::find,
};
use crate::{
    access::{MayOperate, MaySee, suites::runs_seen},
    app::App,
    refused::Refused,
};

pub(super) fn routes() -> Vec<Route> {
    routes![list, order]
}

async fn waiting(app: &App) -> Vec<(i64, RunSummary)> {
    let all = app.summaries().await;
    let mut waiting: Vec<(i64, RunSummary)> = all.into_iter().filter(|(_, s)| s.place.is_some()).collect();
    waiting.sort_by(|a, b| a.1.pool.cmp(&b.1.pool).then(a.1.place.cmp(&b.1.place)));
    waiting
}

/// Runs that nothing was begun of, by pool and place, with what each waits for.
#[utoipa::path(get, path = "/api/queue", operation_id = "queue", tag = "runs", responses((status = 200, body = [RunSummary])))]
#[get("/api/queue")]
async fn list(app: &State<App>, caller: MaySee) -> Answer<Vec<RunSummary>> {
    let mut runs = waiting(app).await.into_iter().map(|(_, s)| s).collect();
    runs_seen(&caller.0, &mut runs);
    Ok(Json(runs))
}

/// Puts a run elsewhere in the queue of its pool. Priority goes before: among runs that wait in the queue, one comes before those
/// of a lower priority wherever it is put.
#[utoipa::path(post, path = "/api/queue/order", operation_id = "move_run", request_body = MoveRun, tag = "runs",
    responses((status = 200, body = [RunSummary]), (status = 404), (status = 409)))]
#[post("/api/queue/order", data = "<to>")]
async fn order(app: &State<App>, _caller: MayOperate, to: Sent<MoveRun>) -> Answer<Vec<RunSummary>> {
    let to = body(to)?;
    let row = async |name: &str| {
        let name = RunName::parse(name).map_err(|e| Refused::invalid(e.to_string()))?;
        find(app, name.suite.as_str(), name.number as i32).await
    };
    let run = row(&to.run).await?;
    let all = waiting(app).await;
    let waits = |id: i64| all.iter().any(|(other, _)| *other == id);
    if !waits(run.id) {
        return Err(Refused::conflict(format!("{} does not wait: it has begun, or is over", to.run)));
    }
    let others: Vec<i64> =
        all.iter().filter(|(id, s)| *id != run.id && s.pool == run.pool).map(|(id, _)| *id).collect();
    let places = app.store.runs_of(&others).await?;
    let place = |id: i64| places.iter().find(|(r, _)| r.id == id).map_or(id as f64, |(r, _)| r.place());
    let rank = match (&to.before, to.last) {
        (Some(before), _) => {
            let before_name = before;
            let before = row(before).await?;
            let Some(at) = others.iter().position(|id| *id == before.id) else {
                return Err(Refused::conflict(format!("{before_name} does not wait in the pool {}", run.pool)));
            };
            let upper = place(before.id);
            let lower = if at == 0 { upper - 2.0 } else { place(others[at - 1]) };
            (lower + upper) / 2.0
        }
        (None, true) => others.last().map_or(run.place(), |id| place(*id) + 1.0),
        (None, false) => others.first().map_or(run.place(), |id| place(*id) - 1.0),
    };
    app.store.put_rank(run.id, rank).await?;
    app.floor.look().await;
    Ok(Json(waiting(app).await.into_iter().map(|(_, s)| s).collect()))
}
