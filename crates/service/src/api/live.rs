//! Live streams as server-sent events: a snapshot, then changes; a watcher that comes back goes on from its last id.

use std::sync::Arc;

use kesmo_wire::live::{Floor, RunChange, RunSnapshot};
use rocket::{
    Request, Route, Shutdown, State, get,
    request::{FromRequest, Outcome},
    response::stream::{Event, EventStream},
    routes,
};
use tokio::sync::broadcast::error::RecvError;

use super::{
    Refused,
    runs::{detail_of_row, find},
};
use crate::{
    App,
    access::MaySee,
    floor::{Ask, FloorHandle, active::LONG_STRIP},
    live::{Hub, LiveEvent},
};

pub(super) fn routes() -> Vec<Route> {
    routes![run, floor]
}

/// The header by which a watcher says which event it saw last.
pub struct LastEventId(Option<String>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for LastEventId {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        Outcome::Success(Self(request.headers().get_one("Last-Event-ID").map(str::to_owned)))
    }
}

fn event(hub: &Hub, event: &LiveEvent) -> Event {
    Event::data(event.data.clone()).event(event.kind).id(hub.id(event.number))
}

/// Where a watcher stands.
enum Source {
    Run(i64),
    Floor,
}

impl Source {
    /// A snapshot and the number of the last event that it holds.
    async fn snapshot(&self, floor: &FloorHandle) -> Option<(String, u64)> {
        match self {
            Self::Run(run) => {
                let (snapshot, _, last) = floor.ask(|reply| Ask::Snapshot(*run, reply)).await.flatten()?;
                Some((serde_json::to_string(&*snapshot).ok()?, last))
            }
            Self::Floor => {
                let (view, last) = floor.ask(Ask::Floor).await?;
                Some((serde_json::to_string(&*view).ok()?, last))
            }
        }
    }
}

/// Watches a run: the events `snapshot`, `change` and, with the verdict, `end`.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/live", operation_id = "watch_run", params(("suite" = String, Path), ("number" = i32, Path)), tag = "live",
    responses((status = 200, description = "server-sent events: RunSnapshot, then RunChange", body = RunSnapshot, content_type = "text/event-stream")))]
#[get("/api/runs/<suite>/<number>/live")]
async fn run(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    last: LastEventId,
    shutdown: Shutdown,
) -> Result<EventStream![Event], Refused> {
    let row = find(app, suite, number).await?;
    let floor = app.floor.clone();
    let hub = floor.ask(|reply| Ask::Snapshot(row.id, reply)).await.flatten().map(|(_, hub, _)| hub);
    // A run that is over has only its last state to tell.
    let closing = match &hub {
        Some(_) => None,
        None => {
            let row = find(app, suite, number).await?;
            let run = detail_of_row(app, &row, suite).await?;
            let strip = kesmo_wire::live::thin(&row.strip, LONG_STRIP);
            let summary = run.summary.clone();
            let snapshot = RunSnapshot { run, slots: Vec::new(), trouble: Vec::new(), strip };
            let empty = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
            let end = RunChange { summary, attempts: empty.0, decided: empty.1, slots: empty.2, notes: empty.3 };
            Some((
                serde_json::to_string(&snapshot).unwrap_or_default(),
                serde_json::to_string(&end).unwrap_or_default(),
            ))
        }
    };
    let inner = hub.map(|hub| watch(hub, floor, Source::Run(row.id), last.0, shutdown));
    Ok(EventStream! {
        if let Some((snapshot, end)) = closing {
            yield Event::data(snapshot).event("snapshot");
            yield Event::data(end).event("end");
        }
        if let Some(inner) = inner {
            for await event in inner {
                yield event;
            }
        }
    })
}

/// Watches all runs and workers: the events `snapshot` and `change`.
#[utoipa::path(get, path = "/api/live", operation_id = "watch_floor", tag = "live",
    responses((status = 200, description = "server-sent events: Floor", body = Floor, content_type = "text/event-stream")))]
#[get("/api/live")]
async fn floor(app: &State<App>, _caller: MaySee, last: LastEventId, shutdown: Shutdown) -> EventStream![Event] {
    let floor = app.floor.clone();
    let inner = watch(Arc::clone(&floor.hub), floor, Source::Floor, last.0, shutdown);
    EventStream! {
        for await event in inner {
            yield event;
        }
    }
}

fn watch(
    hub: Arc<Hub>,
    floor: FloorHandle,
    source: Source,
    last: Option<String>,
    mut shutdown: Shutdown,
) -> impl futures::Stream<Item = Event> {
    rocket::async_stream::stream! {
        let mut from = last;
        'again: loop {
            let subscription = hub.subscribe(from.as_deref());
            from = None;
            let mut receiver = subscription.receiver;
            let mut seen = subscription.last;
            match subscription.missed {
                Some(missed) => {
                    for live in missed {
                        yield event(&hub, &live);
                        if live.kind == "end" {
                            return;
                        }
                    }
                }
                None => match source.snapshot(&floor).await {
                    Some((snapshot, number)) => {
                        seen = number;
                        yield Event::data(snapshot).event("snapshot").id(hub.id(number));
                    }
                    // The run ended in this moment: what it said last is still there.
                    None => {
                        let kept = hub.subscribe(Some(&hub.id(hub.last().saturating_sub(1)))).missed.unwrap_or_default();
                        for live in kept {
                            yield event(&hub, &live);
                        }
                        return;
                    }
                },
            }
            if subscription.over {
                return;
            }
            loop {
                let received = tokio::select! {
                    received = receiver.recv() => received,
                    () = &mut shutdown => return,
                };
                match received {
                    Ok(live) => {
                        if live.number > seen {
                            yield event(&hub, &live);
                        }
                        if live.kind == "end" {
                            return;
                        }
                    }
                    // Too slow: a new snapshot instead of what was missed.
                    Err(RecvError::Lagged(_)) => continue 'again,
                    Err(RecvError::Closed) => return,
                }
            }
        }
    }
}
