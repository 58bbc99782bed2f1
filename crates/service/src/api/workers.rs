//! Workers: seen, and drained.

use kesmo_floor::Ask;
use kesmo_wire::api::{Drain, Worker};
use rocket::{Route, State, get, post, routes, serde::json::Json};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayOperate, MaySee, suites::workers_seen},
    app::App,
    refused::Refused,
};

pub(super) fn routes() -> Vec<Route> {
    routes![workers, drain]
}

/// Has a worker finish what it has and take nothing new, or take work again.
#[utoipa::path(post, path = "/api/workers/{name}/drain", operation_id = "drain_worker", params(("name" = String, Path)), tag = "runs",
    request_body = Drain, responses((status = 200, body = Worker), (status = 404)))]
#[post("/api/workers/<name>/drain", data = "<drain>")]
async fn drain(app: &State<App>, caller: MayOperate, name: &str, drain: Sent<Drain>) -> Answer<Worker> {
    let drain = body(drain)?.drain;
    let asked = name.to_owned();
    if app.floor.ask(|reply| Ask::Drain(asked, drain, reply)).await != Some(true) {
        let said = serde_json::json!({ "drain": drain }).to_string();
        if let Some(worker) = app.drain_elsewhere(&caller.0, name, said).await {
            return Ok(Json(worker));
        }
        let here: Vec<String> = app.workers().await.into_iter().map(|w| w.name).collect();
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
async fn workers(app: &State<App>, caller: MaySee) -> Answer<Vec<Worker>> {
    let mut workers = app.workers().await;
    workers_seen(&caller.0, &mut workers);
    Ok(Json(workers))
}
