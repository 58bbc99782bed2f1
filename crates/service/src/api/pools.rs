//! Pools: described, seen with their machines, and removed; and the machines of a run.

use std::collections::{BTreeMap, HashMap};

use kesmo_core::{
    fleet::{How, Pool},
    name::{Slug, did_you_mean, for_shell},
};
use kesmo_store::pools::{MachineRow, NewPool as NewRow, PoolRow};
use kesmo_wire::api::{MachineOf, MachineState, NewPool, PoolOf, Worker};
use rocket::{
    Route, State, delete, get,
    http::{ContentType, Status},
    put, routes,
    serde::json::Json,
};

use super::{
    body::{Answer, Sent, body},
    found::find,
};
use crate::{
    access::{MayKeep, MaySee},
    app::App,
    lookup::DEFAULT_POOL,
    refused::Refused,
};

/// Machines that are shown of a pool.
const MOST_SHOWN: i64 = 100;
/// The longest secret, in bytes.
const LONGEST_SECRET: usize = 10_000;

pub(super) fn routes() -> Vec<Route> {
    routes![list, show, put, remove, machines, machine_log]
}

/// What several views are made from.
struct Seen {
    workers: Vec<Worker>,
    runs: HashMap<i64, String>,
}

impl Seen {
    async fn of(app: &App, machines: &[MachineRow]) -> Result<Self, Refused> {
        let ids: Vec<i64> = machines.iter().filter_map(|m| m.run_id).collect();
        let name = |(run, suite): (kesmo_store::runs::RunRow, String)| (run.id, format!("{suite}/{}", run.number));
        let runs = app.store.runs_of(&ids).await?.into_iter().map(name).collect();
        Ok(Self { workers: app.workers().await, runs })
    }

    fn machine(&self, row: MachineRow, number: i64, what: &str) -> MachineOf {
        MachineOf {
            number,
            run: row.run_id.and_then(|id| self.runs.get(&id).cloned()),
            name: row.name,
            pool: row.pool,
            what: what.to_owned(),
            handle: row.handle,
            state: MachineState::of(&row.state).unwrap_or(MachineState::Coming),
            said: row.said,
            link: row.link,
            asked_at: row.asked_at,
            up_at: row.up_at,
            ended_at: row.ended_at,
        }
    }

    fn here(&self, pool: &str) -> (u32, u32) {
        let here = self.workers.iter().filter(|w| w.pool == pool && w.connected && w.only_run.is_none());
        here.fold((0, 0), |(workers, slots), w| (workers + 1, slots + w.slots.len() as u32))
    }
}

async fn view(app: &App, row: PoolRow, machines: Vec<MachineRow>, seen: &Seen) -> Result<PoolOf, Refused> {
    let pool = row.pool()?;
    let status = app.fleet.status(&row.name);
    let elsewhere = if status.is_none() && pool.starts() { app.floor.elsewhere(&row.name).await } else { None };
    let why = match (&status, elsewhere) {
        (Some(status), _) => status.why.clone(),
        (None, Some(at)) => format!("the service at {at} keeps it"),
        (None, None) if pool.starts() => "nothing is known of it yet".to_owned(),
        (None, None) => "its workers are started by hand".to_owned(),
    };
    let (workers, slots) = seen.here(&row.name);
    let what = pool.how.machine();
    let command = || pool.command(&row.name).iter().map(|word| for_shell(word)).collect::<Vec<_>>().join(" ");
    Ok(PoolOf {
        job: matches!(pool.how, How::Ci(_)).then(|| format!("kesmo {}", command())),
        has_secret: row.secret.is_some(),
        implied: false,
        leaving: row.leaving,
        made_by: Some(row.made_by),
        made_at: Some(row.made_at),
        why,
        trouble: status.as_ref().and_then(|s| s.trouble.clone()),
        start_us: status.and_then(|s| s.start).map(|start| start.0),
        workers,
        slots,
        machines: machines
            .into_iter()
            .map(|row| {
                let number = row.id;
                seen.machine(row, number, what)
            })
            .collect(),
        name: row.name,
        pool,
    })
}

/// A pool that nobody described.
fn implied(name: &str, seen: &Seen) -> PoolOf {
    let (workers, slots) = seen.here(name);
    PoolOf {
        name: name.to_owned(),
        pool: Pool::fixed(),
        has_secret: false,
        implied: true,
        leaving: false,
        made_by: None,
        made_at: None,
        why: "its workers are started by hand".into(),
        trouble: None,
        start_us: None,
        workers,
        slots,
        machines: Vec::new(),
        job: None,
    }
}

async fn all(app: &App) -> Result<Vec<PoolOf>, Refused> {
    let rows = app.store.pools().await?;
    let mut machines: BTreeMap<String, Vec<MachineRow>> = BTreeMap::new();
    for row in &rows {
        machines.insert(row.name.clone(), app.store.machines(&row.name, MOST_SHOWN).await?);
    }
    let flat: Vec<MachineRow> = machines.values().flatten().cloned().collect();
    let seen = Seen::of(app, &flat).await?;
    let mut found = Vec::new();
    for row in rows {
        let of_pool = machines.remove(&row.name).unwrap_or_default();
        found.push(view(app, row, of_pool, &seen).await?);
    }
    let mut others: Vec<String> =
        seen.workers.iter().filter(|w| w.only_run.is_none()).map(|w| w.pool.clone()).collect();
    others.push(DEFAULT_POOL.to_owned());
    others.sort();
    others.dedup();
    for name in others {
        if !found.iter().any(|pool| pool.name == name) {
            found.push(implied(&name, &seen));
        }
    }
    found.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(found)
}

async fn row_named(app: &App, name: &str) -> Result<PoolRow, Refused> {
    if let Some(row) = app.store.pool(name).await? {
        return Ok(row);
    }
    let rows = app.store.pools().await?;
    let hint = did_you_mean(name, rows.iter().map(|row| row.name.as_str()));
    Err(no_such(name, &hint))
}

fn no_such(name: &str, hint: &str) -> Refused {
    Refused::not_found(format!("there is no pool named {name:?}{hint} (make one with `kesmo pool add`)"))
}

/// All pools, by name: those that were described, and those that workers are in.
#[utoipa::path(get, path = "/api/pools", operation_id = "list_pools", tag = "pools", responses((status = 200, body = [PoolOf])))]
#[get("/api/pools")]
async fn list(app: &State<App>, _caller: MaySee) -> Answer<Vec<PoolOf>> {
    Ok(Json(all(app).await?))
}

/// One pool with its latest machines.
#[utoipa::path(get, path = "/api/pools/{name}", operation_id = "show_pool", params(("name" = String, Path)), tag = "pools",
    responses((status = 200, body = PoolOf), (status = 404)))]
#[get("/api/pools/<name>")]
async fn show(app: &State<App>, _caller: MaySee, name: &str) -> Answer<PoolOf> {
    if let Some(row) = app.store.pool(name).await? {
        let machines = app.store.machines(name, MOST_SHOWN).await?;
        let seen = Seen::of(app, &machines).await?;
        return Ok(Json(view(app, row, machines, &seen).await?));
    }
    let every = all(app).await?;
    let hint = did_you_mean(name, every.iter().map(|pool| pool.name.as_str()));
    let refused = no_such(name, &hint);
    every.into_iter().find(|pool| pool.name == name).map(Json).ok_or(refused)
}

/// Whether the machines of one are found where those of the other are.
fn same_place(before: &How, after: &How) -> bool {
    match (before, after) {
        (How::Engine(a), How::Engine(b)) => a.address == b.address,
        (How::Cluster(a), How::Cluster(b)) => (&a.address, &a.namespace) == (&b.address, &b.namespace),
        (How::Ci(_), How::Ci(_)) | (How::Fixed, How::Fixed) => true,
        _ => false,
    }
}

/// Makes a pool, or changes it.
#[utoipa::path(put, path = "/api/pools/{name}", operation_id = "put_pool", params(("name" = String, Path)), request_body = NewPool, tag = "pools",
    responses((status = 200, body = PoolOf), (status = 409), (status = 422)))]
#[put("/api/pools/<name>", data = "<new>")]
async fn put(app: &State<App>, caller: MayKeep, name: &str, new: Sent<NewPool>) -> Answer<PoolOf> {
    let NewPool { pool, secret, replace } = body(new)?;
    let name = Slug::parse("the pool's name", name).map_err(|e| Refused::invalid(e.to_string()))?.to_string();
    pool.check().map_err(|e| Refused::invalid(e.to_string()))?;
    let before = app.store.pool(&name).await?;
    if let How::Cluster(cluster) = &pool.how {
        kesmo_fleet::cluster::template_of(cluster).map_err(|e| Refused::invalid(e.to_string()))?;
    }
    let has_secret = secret.is_some() || before.as_ref().is_some_and(|row| replace && row.secret.is_some());
    if let How::Ci(ci) = &pool.how
        && ci.needs_secret()
        && !has_secret
    {
        return Err(Refused::invalid(
            "its requests hold {secret}: give it with --secret-file FILE, or - for standard input",
        ));
    }
    if let Some(secret) = &secret {
        if !matches!(pool.how, How::Ci(_) | How::Cluster(_)) {
            return Err(Refused::invalid(format!("a pool of the kind {} needs no secret", pool.how.word())));
        }
        if secret.is_empty() || secret.len() > LONGEST_SECRET || secret.chars().any(char::is_control) {
            return Err(Refused::invalid(format!("the secret is one line of 1 to {LONGEST_SECRET} letters")));
        }
    }
    if let Some(row) = before.as_ref().filter(|_| replace) {
        let open = app.store.open_machines(&name).await?;
        if !open.is_empty() && !same_place(&row.pool()?.how, &pool.how) {
            return Err(Refused::conflict(format!(
                "{} of its machines are still where they were started, and would not be found again: remove the pool first, and make it \
                 anew once they have ended (`kesmo pool remove {name} --forget` where nobody answers any more)",
                open.len()
            )));
        }
    }
    let mark = kesmo_files::secret::random_text()[..16].to_owned();
    let new = NewRow { name: &name, pool: &pool, secret: secret.as_deref(), mark: &mark, by: &caller.0.name, replace };
    let row = app.store.put_pool(new).await?.ok_or_else(|| {
        Refused::conflict(format!(
            "there is a pool named {name} already: give this one another name, or change that one with --replace"
        ))
    })?;
    tracing::info!(pool = name, kind = pool.how.word(), by = caller.0.name, "a pool was described");
    app.fleet.changed();
    let machines = app.store.machines(&name, MOST_SHOWN).await?;
    let seen = Seen::of(app, &machines).await?;
    Ok(Json(view(app, row, machines, &seen).await?))
}

/// Removes a pool: its machines take nothing new, and it goes with the last of them; with `forget` at once, where nobody answers any
/// more who could end them.
#[utoipa::path(delete, path = "/api/pools/{name}", operation_id = "remove_pool", tag = "pools",
    params(("name" = String, Path), ("forget" = Option<bool>, Query, description = "do not wait for its machines to end")),
    responses((status = 204), (status = 404)))]
#[delete("/api/pools/<name>?<forget>")]
async fn remove(app: &State<App>, caller: MayKeep, name: &str, forget: Option<bool>) -> Result<Status, Refused> {
    row_named(app, name).await?;
    app.store.leave_pool(name).await?;
    if forget == Some(true) {
        let said = format!("{} forgot it: what runs there has no token any more", caller.0.name);
        app.store.forget_machines(name, MachineState::Failed.word(), &said).await?;
        app.known.forget();
    }
    app.store.remove_pool(name).await?;
    tracing::info!(pool = name, by = caller.0.name, "a pool is removed");
    app.fleet.changed();
    Ok(Status::NoContent)
}

async fn machines_of(app: &App, suite: &str, number: i32) -> Result<(Vec<MachineRow>, String), Refused> {
    let run = find(app, suite, number).await?;
    Ok((app.store.machines_of_run(run.id).await?, run.pool))
}

/// The machines that a pool started for a run, oldest first.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/machines", operation_id = "machines_of_run", tag = "pools",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = [MachineOf]), (status = 404)))]
#[get("/api/runs/<suite>/<number>/machines")]
async fn machines(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Vec<MachineOf>> {
    let (machines, pool) = machines_of(app, suite, number).await?;
    let what = match app.store.pool(&pool).await? {
        Some(row) => row.pool()?.how.machine(),
        None => Pool::fixed().how.machine(),
    };
    let seen = Seen::of(app, &machines).await?;
    let numbered = machines.into_iter().zip(1..);
    Ok(Json(numbered.map(|(row, number)| seen.machine(row, number, what)).collect()))
}

/// What a machine of a run printed, the CI server's log of a job among them: so far, or at its end.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/machines/{machine}/log", operation_id = "machine_log", tag = "pools",
    params(("suite" = String, Path), ("number" = i32, Path), ("machine" = i64, Path, description = "its number in the run, from 1")),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404)))]
#[get("/api/runs/<suite>/<number>/machines/<machine>/log")]
async fn machine_log(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    machine: i64,
) -> Result<(ContentType, String), Refused> {
    let (machines, pool) = machines_of(app, suite, number).await?;
    let count = machines.len();
    let index = usize::try_from(machine).ok().and_then(|n| n.checked_sub(1));
    let row = index.and_then(|index| machines.into_iter().nth(index)).ok_or_else(|| {
        let has = match count {
            0 => "no pool started a machine for it".to_owned(),
            1 => "it has one".to_owned(),
            n => format!("it has {n}"),
        };
        Refused::not_found(format!("{suite}/{number} has no machine {machine}: {has}"))
    })?;
    if let Some(log) = &row.log {
        let digest = crate::lookup::digest(log)?;
        let bytes = app.blobs.read(&digest).await;
        let bytes = bytes.map_err(|e| Refused::unavailable(format!("its log cannot be read: {e}")))?;
        return Ok((ContentType::Plain, String::from_utf8_lossy(&bytes).into_owned()));
    }
    let none = || Refused::not_found(format!("nothing that {} printed is kept: {}", row.name, row.said));
    if row.ended_at.is_some() {
        return Err(none());
    }
    let pool = app.store.pool(&pool).await?.ok_or_else(none)?;
    match app.fleet.log(&pool, &row).await {
        Ok(Some(log)) => Ok((ContentType::Plain, log)),
        Ok(None) => Err(Refused::not_found(format!("nobody tells what {} prints: {}", row.name, row.said))),
        Err(e) => Err(Refused::unavailable(e.to_string())),
    }
}
