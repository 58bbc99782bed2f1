//! Figures of the service in the OpenMetrics text format, for whoever gathers them.

use std::collections::BTreeMap;

use kesmo_floor::Ask;
use prometheus_client::{
    encoding::text::encode,
    metrics::{family::Family, gauge::Gauge},
    registry::Registry,
};
use rocket::{Route, State, get, http::ContentType, routes};

use crate::{access::MaySee, app::App, refused::Refused};

pub(super) fn routes() -> Vec<Route> {
    routes![metrics]
}

/// A gauge for each set of labels.
fn gauges(registry: &mut Registry, name: &str, about: &str, values: BTreeMap<Vec<(&'static str, String)>, u32>) {
    let family = Family::<Vec<(&'static str, String)>, Gauge>::default();
    for (labels, value) in values {
        family.get_or_create(&labels).set(value.into());
    }
    registry.register(name, about, family);
}

/// Figures of this service: runs, slots, results, commits, notices, calls and connections (docs/watching.md names them all).
#[utoipa::path(get, path = "/metrics", operation_id = "metrics", tag = "service",
    responses((status = 200, body = String, content_type = "application/openmetrics-text")))]
#[get("/metrics")]
async fn metrics(app: &State<App>, _caller: MaySee) -> Result<(ContentType, String), Refused> {
    let mut registry = app.watched.registry();
    let mut runs: BTreeMap<Vec<(&'static str, String)>, u32> = BTreeMap::new();
    for phase in ["queued", "listing", "running"] {
        runs.insert(vec![("phase", phase.to_owned())], 0);
    }
    let mut waiting = 0;
    for run in app.floor.ask(Ask::Summaries).await.unwrap_or_default().into_values().filter(|r| r.verdict.is_none()) {
        *runs.entry(vec![("phase", run.phase.word().to_owned())]).or_default() += 1;
        waiting += u32::from(run.no_worker);
    }
    gauges(&mut registry, "kesmo_runs", "Runs that are not over, on this service's floor", runs);
    let none = BTreeMap::from([(Vec::new(), waiting)]);
    gauges(&mut registry, "kesmo_runs_without_worker", "Runs that wait because no worker may take them", none);
    let (mut slots, mut workers) = (BTreeMap::new(), BTreeMap::new());
    for worker in app.floor.ask(Ask::Workers).await.unwrap_or_default() {
        let state = if worker.connected { "connected" } else { "away" };
        *workers.entry(vec![("pool", worker.pool.clone()), ("state", state.to_owned())]).or_default() += 1;
        for slot in &worker.slots {
            let state = if slot.run.is_some() || slot.doing.is_some() { "busy" } else { "idle" };
            *slots.entry(vec![("pool", worker.pool.clone()), ("state", state.to_owned())]).or_default() += 1;
        }
    }
    gauges(&mut registry, "kesmo_workers", "Workers by pool", workers);
    gauges(&mut registry, "kesmo_slots", "Slots by pool", slots);
    let mut notices: BTreeMap<Vec<(&'static str, String)>, u32> = BTreeMap::new();
    let stand = app.store.notices_stand().await?;
    let states = [
        ("trying", stand.values().map(|s| s.trying).sum::<u32>()),
        ("sent", stand.values().map(|s| s.sent).sum()),
        ("given-up", stand.values().map(|s| s.given_up).sum()),
        ("gathering", stand.values().map(|s| s.gathering).sum()),
    ];
    for (state, count) in states {
        notices.insert(vec![("state", state.to_owned())], count);
    }
    gauges(&mut registry, "kesmo_notice_messages", "Messages of notices that are kept, of all services", notices);
    let (connections, idle) = app.store.connections();
    let of = |state: &str| vec![("state", state.to_owned())];
    let in_use = connections.saturating_sub(idle);
    gauges(
        &mut registry,
        "kesmo_database_connections",
        "Connections to PostgreSQL for calls",
        BTreeMap::from([(of("idle"), idle), (of("in-use"), in_use)]),
    );
    let mut text = String::new();
    encode(&mut text, &registry).map_err(|e| Refused::unavailable(format!("the figures cannot be written: {e}")))?;
    let kind =
        ContentType::new("application", "openmetrics-text").with_params([("version", "1.0.0"), ("charset", "utf-8")]);
    Ok((kind, text))
}
