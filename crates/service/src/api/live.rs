//! Live streams as server-sent events: a snapshot, then changes; a watcher that comes back goes on from its last id.

use std::{
    hash::{DefaultHasher, Hasher},
    sync::Arc,
};

use futures::future::{BoxFuture, FutureExt, Shared};
use kesmo_core::words::Ended;
use kesmo_store::runs::RunRow;
use kesmo_wire::live::{Floor, Gathered, OutputEnd, OutputOver, OutputPiece, RunSnapshot};
use rocket::{
    Request, Route, State, get,
    request::{FromRequest, Outcome},
    response::stream::{Event, EventStream},
    routes,
};
use tokio::sync::broadcast::error::RecvError;

use super::{
    entries::{log_text, outcome_of},
    found::{find, past},
    runs::detail_of_row,
};
use crate::{
    access::{MaySee, Standing},
    app::App,
    refused::Refused,
};
use kesmo_floor::hub::{Hub, LiveEvent};
use kesmo_floor::{Ask, FloorHandle, active::LONG_STRIP};

/// A run that is not open here is looked at so often.
const UNOPENED_EVERY: std::time::Duration = std::time::Duration::from_millis(500);

pub(super) fn routes() -> Vec<Route> {
    routes![run, floor, output]
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

/// Resolves when a stream is to end: the service stops, or its watcher may not see any longer.
type Over = Shared<BoxFuture<'static, ()>>;

/// The end of the stream that is asked for.
pub struct Until(Over);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Until {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let shutdown = request.rocket().shutdown();
        Standing::from_request(request).await.map(|standing| {
            let either = async move {
                tokio::select! {
                    () = standing.ends() => {}
                    () = shutdown => {}
                }
            };
            Self(either.boxed().shared())
        })
    }
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
    until: Until,
) -> Result<EventStream![Event], Refused> {
    let row = find(app, suite, number).await?;
    let (app, suite) = (app.inner().clone(), suite.to_owned());
    Ok(EventStream! {
        let mut over = until.0;
        let mut told = None;
        loop {
            let floor = app.floor.clone();
            if let Some((_, hub, _)) = floor.ask(|reply| Ask::Snapshot(row.id, reply)).await.flatten() {
                let mut ended_unseen = false;
                for await told in watch(hub, floor, Source::Run(row.id), last.0.clone(), over.clone()) {
                    match told {
                        Told::Event(event) => yield event,
                        Told::Gone => ended_unseen = true,
                    }
                }
                if !ended_unseen {
                    return;
                }
            }
            // It is over, or stands in line, or another service carries it out: what is stored is told, and again when it
            // has changed.
            let Ok(now) = find(&app, &suite, number).await else { return };
            let Ok(run) = detail_of_row(&app, &now, &suite).await else { return };
            let summary = run.summary.clone();
            let finished = now.phase == "finished";
            let is = serde_json::to_string(&summary).unwrap_or_default();
            if told.as_ref() != Some(&is) {
                if told.is_none() {
                    let strip = kesmo_wire::live::thin(&now.strip, LONG_STRIP);
                    let snapshot = RunSnapshot { run, slots: Vec::new(), trouble: Vec::new(), strip };
                    yield Event::data(serde_json::to_string(&snapshot).unwrap_or_default()).event("snapshot");
                }
                let change = Gathered::default().take(summary, Vec::new());
                let kind = if finished { "end" } else { "change" };
                yield Event::data(serde_json::to_string(&change).unwrap_or_default()).event(kind);
                told = Some(is);
            }
            if finished {
                return;
            }
            tokio::select! {
                () = tokio::time::sleep(UNOPENED_EVERY) => {}
                () = &mut over => return,
            }
        }
    })
}

/// Watches all runs and workers: the events `snapshot` and `change`.
#[utoipa::path(get, path = "/api/live", operation_id = "watch_floor", tag = "live",
    responses((status = 200, description = "server-sent events: Floor", body = Floor, content_type = "text/event-stream")))]
#[get("/api/live")]
async fn floor(app: &State<App>, _caller: MaySee, last: LastEventId, until: Until) -> EventStream![Event] {
    let floor = app.floor.clone();
    let inner = watch(Arc::clone(&floor.hub), floor, Source::Floor, last.0, until.0);
    EventStream! {
        for await told in inner {
            if let Told::Event(event) = told {
                yield event;
            }
        }
    }
}

/// What an entry's attempts print: those that have ended from the log, the one that runs as it goes, without a gap between.
/// A watcher that comes back goes on from its last id.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries/{index}/output", operation_id = "follow_output", tag = "live",
    params(("suite" = String, Path), ("number" = i32, Path), ("index" = u32, Path)),
    responses((status = 200, description = "server-sent events: OutputPiece, OutputEnd, OutputOver", body = OutputPiece, content_type = "text/event-stream")))]
#[get("/api/runs/<suite>/<number>/entries/<index>/output")]
async fn output(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    index: u32,
    last: LastEventId,
    until: Until,
) -> Result<EventStream![Event], Refused> {
    let row = find(app, suite, number).await?;
    let count = past(app, &row).await?.plan.entries.len();
    if index as usize >= count {
        return Err(Refused::not_found(format!(
            "{suite}/{number} has no entry {index}: it has {count}, counted from 0"
        )));
    }
    let from = last.0.and_then(|id| {
        let (attempt, bytes) = id.split_once(':')?;
        Some((attempt.parse().ok()?, bytes.parse().ok()?))
    });
    let inner = follow(app.inner().clone(), row, index, from, until.0);
    Ok(EventStream! {
        for await event in inner {
            yield event;
        }
    })
}

/// What was sent of an attempt's output: its number, so many bytes, and their hash, to see that the log goes on from there.
struct Sent {
    attempt: u32,
    bytes: u64,
    hash: DefaultHasher,
    /// Nothing was sent before this stream.
    whole: bool,
}

impl Sent {
    fn new(attempt: u32) -> Self {
        Self { attempt, bytes: 0, hash: DefaultHasher::new(), whole: true }
    }

    fn add(&mut self, text: &str) {
        self.hash.write(text.as_bytes());
        self.bytes += text.len() as u64;
    }

    /// What the log of the attempt has beyond what was sent, and whether it is not what was sent before: its middle was cut,
    /// or pieces were lost.
    fn rest<'t>(&self, log: &'t str) -> (&'t str, bool) {
        if self.bytes == 0 {
            return (log, false);
        }
        let Some((before, rest)) = log.split_at_checked(self.bytes as usize) else { return (log, true) };
        let mut hash = DefaultHasher::new();
        hash.write(before.as_bytes());
        if self.whole && hash.finish() != self.hash.finish() { (log, true) } else { (rest, false) }
    }

    fn event<T: serde::Serialize>(&self, kind: &'static str, data: &T) -> Event {
        Event::json(data).event(kind).id(format!("{}:{}", self.attempt, self.bytes))
    }
}

fn follow(
    app: App,
    row: RunRow,
    index: u32,
    from: Option<(u32, u64)>,
    mut over: Over,
) -> impl futures::Stream<Item = Event> {
    rocket::async_stream::stream! {
        // First the running output, then what is kept: what ends between the two is found in both, and told once.
        let mut running = app.floor.ask(|reply| Ask::Follow(row.id, index, reply)).await.flatten();
        let mut sent = Sent::new(1);
        if let Some((attempt, bytes)) = from {
            sent = Sent { bytes, whole: false, ..Sent::new(attempt) };
        }
        let mut turn = None;
        loop {
            let now = running.as_mut().map(|r| r.borrow_and_update().clone());
            // Where it runs has changed: what has ended since is kept by now.
            if now.as_ref().map(|o| o.turn) != turn || now.is_none() {
                turn = now.as_ref().map(|o| o.turn);
                // Before the attempts: of an entry that has its outcome, all of them are kept.
                let outcome = match app.floor.ask(|reply| Ask::EntryState(row.id, index, reply)).await.flatten() {
                    Some((None, ..)) => None,
                    Some((outcome, ..)) => Some(outcome),
                    None => Some(outcome_of(&app, &row, index).await),
                };
                let Ok(ended) = ended_since(&app, &row, index, sent.attempt).await else { return };
                for (attempt, log) in ended {
                    if attempt.number as u32 > sent.attempt {
                        sent = Sent::new(attempt.number as u32);
                    }
                    let (rest, gap) = sent.rest(&log);
                    if !rest.is_empty() {
                        let piece = OutputPiece { attempt: sent.attempt, text: rest.to_owned(), gap };
                        let rest = rest.to_owned();
                        sent.add(&rest);
                        yield sent.event("output", &piece);
                    }
                    let end = OutputEnd {
                        attempt: sent.attempt,
                        ended: Ended::of(&attempt.ended).unwrap_or(Ended::Lost),
                        spent_us: attempt.spent_us as u64,
                        message: kesmo_core::name::shorten(&attempt.message, 2000),
                    };
                    sent = Sent::new(sent.attempt + 1);
                    yield sent.event("attempt", &end);
                }
                if let Some(outcome) = outcome {
                    yield sent.event("end", &OutputOver { outcome });
                    return;
                }
            }
            let Some(now) = now else { return };
            if now.batch.is_some() {
                let (text, gap) = now.after(sent.bytes);
                if !text.is_empty() {
                    let piece = OutputPiece { attempt: sent.attempt, text: text.to_owned(), gap };
                    if gap {
                        sent.bytes = now.end() - text.len() as u64;
                    }
                    sent.add(text);
                    yield sent.event("output", &piece);
                }
            }
            let Some(receiver) = &mut running else { return };
            let changed = tokio::select! {
                changed = receiver.changed() => changed,
                () = &mut over => return,
            };
            if changed.is_err() {
                // The floor has let go of it: the run is over, and everything is kept.
                running = None;
            }
        }
    }
}

/// The attempts of an entry from that number on which have ended, with what they printed.
async fn ended_since(
    app: &App,
    row: &RunRow,
    index: u32,
    from: u32,
) -> Result<Vec<(kesmo_store::past::AttemptRow, String)>, Refused> {
    let month = kesmo_store::month_of(row.created_at);
    let mut found = Vec::new();
    for attempt in app.store.attempts_of(row.id, month, &[index as i32]).await? {
        if attempt.number as u32 >= from {
            let log = log_text(app, row, index as i32, attempt.number).await?.unwrap_or_default();
            found.push((attempt, log));
        }
    }
    Ok(found)
}

/// What a stream brings.
enum Told {
    Event(Event),
    /// What was to be watched ended before a snapshot of it could be taken: only what is stored tells of it now.
    Gone,
}

fn watch(
    hub: Arc<Hub>,
    floor: FloorHandle,
    source: Source,
    last: Option<String>,
    mut over: Over,
) -> impl futures::Stream<Item = Told> {
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
                        yield Told::Event(event(&hub, &live));
                        if live.kind == "end" {
                            return;
                        }
                    }
                }
                None => match source.snapshot(&floor).await {
                    Some((snapshot, number)) => {
                        seen = number;
                        yield Told::Event(Event::data(snapshot).event("snapshot").id(hub.id(number)));
                    }
                    None => {
                        yield Told::Gone;
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
                    () = &mut over => return,
                };
                match received {
                    Ok(live) => {
                        if live.number > seen {
                            yield Told::Event(event(&hub, &live));
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

#[cfg(test)]
mod tests {
    use futures::StreamExt;

    use super::*;

    fn kinds(told: Vec<Told>) -> Vec<String> {
        let kind = |told: &Told| match told {
            Told::Event(event) => format!("{event:?}"),
            Told::Gone => "gone".to_owned(),
        };
        told.iter().map(kind).collect()
    }

    #[rocket::async_test]
    async fn who_comes_as_a_run_ends_is_not_told_of_an_end_without_its_beginning() {
        let hub = Arc::new(Hub::default());
        hub.publish("change", "{}".into());
        hub.publish("end", "{}".into());
        let over = std::future::pending().boxed().shared();
        // The floor has let go of the run, so that no snapshot can be had of it.
        let floor = FloorHandle::closed();
        let told = watch(Arc::clone(&hub), floor.clone(), Source::Run(1), None, over.clone());
        assert_eq!(kinds(told.collect().await), ["gone"]);
        // Who had the snapshot before goes on from there, to the end.
        let told = watch(Arc::clone(&hub), floor, Source::Run(1), Some(hub.id(1)), over);
        let told = kinds(told.collect().await);
        assert!(told.len() == 1 && told[0].contains("end"), "{told:?}");
    }
}
