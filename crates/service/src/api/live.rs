//! Live streams as server-sent events: a snapshot, then changes; a watcher that comes back goes on from its last id.

use std::{
    collections::BTreeMap,
    hash::{DefaultHasher, Hasher},
    sync::Arc,
};

use eventsource_stream::Eventsource;
use futures::{
    StreamExt,
    future::{BoxFuture, FutureExt, Shared},
};
use kesmo_core::words::{Ended, Phase};
use kesmo_store::{leases::Holder, runs::RunRow};
use kesmo_wire::{
    api::{Me, RunSummary, Worker},
    live::{Floor, Gathered, OutputEnd, OutputOver, OutputPiece, RunSnapshot},
};
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
    runs::{chain_of, detail_of_row},
};
use crate::{
    access::{
        MaySee, Shown, Standing,
        suites::{runs_seen, workers_seen},
    },
    app::App,
    refused::Refused,
};
use kesmo_floor::hub::{Hub, LiveEvent};
use kesmo_floor::{Ask, Chain, FloorHandle, active::LONG_STRIP};

/// A run that is not open here is looked at so often.
const UNOPENED_EVERY: std::time::Duration = std::time::Duration::from_millis(500);
/// Whether there are other services is looked at so often, and the first snapshot of them waited for so long.
const OTHERS_EVERY: std::time::Duration = std::time::Duration::from_secs(1);
const FIRST: std::time::Duration = std::time::Duration::from_millis(1500);

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

/// An event of a stream.
#[derive(Debug)]
struct Live {
    kind: &'static str,
    data: String,
    id: Option<String>,
}

impl Live {
    fn of(hub: &Hub, event: &LiveEvent) -> Self {
        Self { kind: event.kind, data: event.data.clone(), id: Some(hub.id(event.number)) }
    }

    fn change(floor: &Floor) -> Self {
        Self { kind: "change", data: written(floor), id: None }
    }
}

impl From<Live> for Event {
    fn from(live: Live) -> Self {
        let event = Self::data(live.data).event(live.kind);
        match live.id {
            Some(id) => event.id(id),
            None => event,
        }
    }
}

/// Resolves when a stream is to end: the service stops, or its watcher may not see any longer.
type Over = Shared<BoxFuture<'static, ()>>;

/// The end of the stream that is asked for.
pub struct Until(Over);

impl Until {
    /// Resolves when the stream is to end.
    pub(super) fn over(self) -> impl Future<Output = ()> + Send + 'static {
        self.0
    }
}

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
    /// A run, and the chain that it is one of.
    Run(i64, Chain),
    Floor,
}

impl Source {
    /// A snapshot and the number of the last event that it holds.
    async fn snapshot(&self, floor: &FloorHandle) -> Option<(String, u64)> {
        match self {
            Self::Run(run, chain) => {
                let (snapshot, _, last) =
                    floor.ask(|reply| Ask::Snapshot(*run, chain.clone(), reply)).await.flatten()?;
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
    caller: MaySee,
    suite: &str,
    number: i32,
    last: LastEventId,
    until: Until,
) -> Result<EventStream![Event], Refused> {
    let row = find(app, suite, number).await?;
    let (app, me, suite) = (app.inner().clone(), caller.0, suite.to_owned());
    Ok(EventStream! {
        let mut over = until.0;
        let mut told = None;
        loop {
            let floor = app.floor.clone();
            if let Some((_, hub, _)) = floor.ask(|reply| Ask::Snapshot(row.id, Chain::default(), reply)).await.flatten() {
                let mut ended_unseen = false;
                let Ok(chain) = chain_of(&app, &me, &row).await else { return };
                let source = Source::Run(row.id, chain);
                for await told in watch(hub, floor, source, last.0.clone(), over.clone()) {
                    match told {
                        Told::Event(event) => yield event.into(),
                        Told::Gone => ended_unseen = true,
                    }
                }
                if !ended_unseen {
                    return;
                }
            }
            // It is over, or stands in line, or another service carries it out: what is stored is told, and again when it
            // has changed.
            let Ok(run) = detail_of_row(&app, &me, row.clone(), &suite).await else { return };
            let summary = run.summary.clone();
            let finished = run.summary.phase == Phase::Finished;
            let is = serde_json::to_string(&summary).unwrap_or_default();
            if told.as_ref() != Some(&is) {
                if told.is_none() {
                    let Ok(now) = find(&app, &suite, number).await else { return };
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
async fn floor(
    app: &State<App>,
    caller: MaySee,
    shown: Carrying,
    last: LastEventId,
    until: Until,
) -> EventStream![Event] {
    let (app, me, mut over) = (app.inner().clone(), caller.0, until.0);
    EventStream! {
        let mut first = true;
        let mut merging = Merging::default();
        // Another service gathers from all itself.
        let mut others = if shown.0 { Vec::new() } else { app.peers.services().await };
        let last = last.0.filter(|_| others.is_empty());
        let own = watch(Arc::clone(&app.floor.hub), app.floor.clone(), Source::Floor, last, over.clone());
        // Listened to throughout, whichever others come and go, so that nothing of it is missed.
        let seer = me.clone();
        let mut own = own.filter_map(move |told| {
            let live = told.event().map(|live| seen(&seer, live));
            async { live }
        }).boxed();
        loop {
            let streams = others.iter().enumerate().map(|(at, holder)| {
                of_other(app.clone(), me.clone(), holder.clone()).map(move |live| (at + 1, live)).boxed()
            });
            let mut theirs = futures::stream::select_all(streams);
            // Its own are told already, but for the first time; who they are is needed once there are others.
            let mut here = if first || others.is_empty() { None } else { app.floor.ask(Ask::Workers).await };
            if let Some(here) = &mut here {
                workers_seen(&me, here);
            }
            if let Some(change) = merging.hear(others.len(), here) {
                yield Live::change(&change).into();
            }
            let mut changed = others_change(app.clone(), others.clone(), shown.0).boxed();
            // A first snapshot of all, as far as they answer.
            let gathered = tokio::time::Instant::now() + FIRST;
            let mut gathering = first && !others.is_empty();
            first = false;
            loop {
                if gathering && (merging.complete() || tokio::time::Instant::now() >= gathered) {
                    gathering = false;
                    yield Live { kind: "snapshot", data: written(&merging.whole()), id: None }.into();
                }
                let (at, live) = tokio::select! {
                    next = own.next() => match next {
                        Some(live) => (0, Some(live)),
                        None => return,
                    },
                    Some(next) = theirs.next(), if !others.is_empty() => next,
                    () = tokio::time::sleep_until(gathered), if gathering => continue,
                    now = &mut changed => {
                        others = now;
                        break;
                    }
                    () = &mut over => return,
                };
                if others.is_empty() {
                    // As it is, with its number: who is cut off goes on from there.
                    if let Some(live) = live {
                        yield live.into();
                    }
                } else if let Some(change) = merging.take(at, live, gathering)
                    && !gathering
                {
                    yield Live::change(&change).into();
                }
            }
        }
    }
}

/// What somebody sees of what a floor tells: others' events are of what they see there already.
fn seen(me: &Me, live: Live) -> Live {
    if me.suites.is_empty() {
        return live;
    }
    let nothing = Floor { runs: Vec::new(), workers: Vec::new(), gone: Vec::new() };
    let mut floor: Floor = serde_json::from_str(&live.data).unwrap_or(nothing);
    runs_seen(me, &mut floor.runs);
    workers_seen(me, &mut floor.workers);
    Live { data: written(&floor), ..live }
}

/// Whether a call is another service's.
struct Carrying(bool);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Carrying {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        Outcome::Success(Self(matches!(Shown::of(request), Some(Shown::Service(_)))))
    }
}

/// Resolves when there are other services than those, with them.
async fn others_change(app: App, others: Vec<Holder>, carrying: bool) -> Vec<Holder> {
    loop {
        tokio::time::sleep(OTHERS_EVERY).await;
        if carrying {
            continue;
        }
        let now = app.peers.services().await;
        if now != others {
            return now;
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
    // What an open run has is known to the floor, also before it is written down.
    let open = app.floor.ask(|reply| Ask::EntryState(row.id, index, reply)).await.flatten().is_some();
    let count = if open { 0 } else { past(app, &row).await?.plan.entries.len() };
    if !open && index as usize >= count {
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
    Event(Live),
    /// What was to be watched ended before a snapshot of it could be taken: only what is stored tells of it now.
    Gone,
}

impl Told {
    fn event(self) -> Option<Live> {
        match self {
            Self::Event(event) => Some(event),
            Self::Gone => None,
        }
    }
}

/// The runs and workers of another service, as they change; none where it is away.
fn of_other(app: App, me: Me, holder: Holder) -> impl futures::Stream<Item = Option<Live>> {
    rocket::async_stream::stream! {
        loop {
            let headers = [("Accept", "text/event-stream")];
            let answer = app.peers.open(&holder, &me, reqwest::Method::GET, "/api/live", &headers, None).await;
            if let Some(answer) = answer.and_then(|answer| answer.error_for_status().ok()) {
                let mut events = answer.bytes_stream().eventsource();
                while let Some(Ok(event)) = events.next().await {
                    let kind = if event.event == "snapshot" { "snapshot" } else { "change" };
                    yield Some(Live { kind, data: event.data, id: None });
                }
            }
            yield None;
            tokio::time::sleep(UNOPENED_EVERY).await;
        }
    }
}

fn written(floor: &Floor) -> String {
    serde_json::to_string(floor).unwrap_or_default()
}

/// What several floors have told: this service's own first.
#[derive(Default)]
struct Merging {
    /// By floor: whether it has told anything, and its workers.
    floors: Vec<(bool, BTreeMap<String, Worker>)>,
    /// Runs that were told while a first snapshot is gathered.
    runs: BTreeMap<String, RunSummary>,
}

impl Merging {
    /// Hears of so many other floors from now on, and of the workers here, where they are not told anew; what has gone with those before.
    fn hear(&mut self, others: usize, here: Option<Vec<Worker>>) -> Option<Floor> {
        let mut before: Vec<String> =
            self.floors.iter().skip(1).flat_map(|(_, workers)| workers.keys().cloned()).collect();
        self.floors.truncate(1);
        self.floors.resize(others + 1, (false, BTreeMap::new()));
        if let Some(here) = here {
            self.floors[0] = (true, here.into_iter().map(|worker| (worker.name.clone(), worker)).collect());
        }
        before.retain(|name| !self.knows(name));
        (!before.is_empty()).then(|| Floor { runs: Vec::new(), workers: Vec::new(), gone: before })
    }

    fn knows(&self, worker: &str) -> bool {
        self.floors.iter().any(|(_, workers)| workers.contains_key(worker))
    }

    fn complete(&self) -> bool {
        self.floors.iter().all(|(told, _)| *told)
    }

    /// All that was told so far.
    fn whole(&mut self) -> Floor {
        let workers = self.floors.iter().flat_map(|(_, workers)| workers.values().cloned()).collect();
        Floor { runs: std::mem::take(&mut self.runs).into_values().collect(), workers, gone: Vec::new() }
    }

    /// Takes what a floor tells, or that it is away; what changes by it.
    fn take(&mut self, at: usize, live: Option<Live>, gathering: bool) -> Option<Floor> {
        let known = self.floors.get_mut(at)?;
        known.0 = true;
        let told = match &live {
            Some(live) => serde_json::from_str(&live.data).ok()?,
            None => Floor { runs: Vec::new(), workers: Vec::new(), gone: Vec::new() },
        };
        let whole = live.is_none_or(|live| live.kind == "snapshot");
        let mut gone: Vec<String> = told.gone;
        if whole {
            gone.extend(known.1.keys().filter(|name| !told.workers.iter().any(|w| &w.name == *name)).cloned());
        }
        gone.iter().for_each(|name| drop(known.1.remove(name)));
        known.1.extend(told.workers.iter().map(|worker| (worker.name.clone(), worker.clone())));
        // A worker that went to another service is there.
        gone.retain(|name| !self.knows(name));
        if gathering {
            self.runs.extend(told.runs.iter().map(|run| (run.name.clone(), run.clone())));
        }
        let change = Floor { runs: told.runs, workers: told.workers, gone };
        (!change.runs.is_empty() || !change.workers.is_empty() || !change.gone.is_empty()).then_some(change)
    }
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
                        yield Told::Event(Live::of(&hub, &live));
                        if live.kind == "end" {
                            return;
                        }
                    }
                }
                None => match source.snapshot(&floor).await {
                    Some((snapshot, number)) => {
                        seen = number;
                        yield Told::Event(Live { kind: "snapshot", data: snapshot, id: Some(hub.id(number)) });
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
                            yield Told::Event(Live::of(&hub, &live));
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
    use super::*;

    fn kinds(told: Vec<Told>) -> Vec<String> {
        let kind = |told: &Told| match told {
            Told::Event(event) => format!("{event:?}"),
            Told::Gone => "gone".to_owned(),
        };
        told.iter().map(kind).collect()
    }

    fn worker(name: &str) -> Worker {
        Worker {
            name: name.into(),
            pool: "main".into(),
            offers: BTreeMap::new(),
            connected: true,
            since: chrono::DateTime::UNIX_EPOCH,
            slots: Vec::new(),
            overloaded: None,
            fills: 0,
            only_run: None,
            draining: false,
        }
    }

    fn told(kind: &'static str, workers: &[&str], gone: &[&str]) -> Option<Live> {
        let workers = workers.iter().map(|name| worker(name)).collect();
        let gone = gone.iter().map(|name| (*name).to_owned()).collect();
        Some(Live { kind, data: written(&Floor { runs: Vec::new(), workers, gone }), id: None })
    }

    #[test]
    fn what_several_floors_tell_becomes_one() {
        let mut merging = Merging::default();
        let names = |floor: &Floor| floor.workers.iter().map(|w| w.name.clone()).collect::<Vec<_>>();
        assert!(merging.hear(1, None).is_none());
        merging.take(0, told("snapshot", &["a"], &[]), true);
        assert!(!merging.complete());
        merging.take(1, told("snapshot", &["b", "c"], &[]), true);
        assert!(merging.complete());
        assert_eq!(names(&merging.whole()), ["a", "b", "c"]);
        // One that comes to another floor before its first one lets it go has not gone.
        assert_eq!(names(&merging.take(0, told("change", &["b"], &[]), false).expect("a change")), ["b"]);
        assert!(merging.take(1, told("change", &[], &["b"]), false).is_none());
        // A floor that tells all anew, or is away, tells what has gone by leaving it out.
        let change = merging.take(1, told("snapshot", &["d"], &[]), false).expect("a change");
        assert_eq!((names(&change), change.gone), (vec!["d".to_owned()], vec!["c".to_owned()]));
        assert_eq!(merging.take(1, None, false).expect("a change").gone, ["d"]);
        assert!(merging.take(1, None, false).is_none());
        // With another service its workers go, but for those that have come here.
        merging.take(1, told("change", &["a", "e"], &[]), false);
        assert_eq!(merging.hear(0, None).expect("a change").gone, ["e"]);
        assert!(merging.knows("a") && merging.hear(2, Some(vec![worker("b")])).is_none());
        assert!(merging.knows("b") && !merging.knows("a"), "what is here now counts");
    }

    #[rocket::async_test]
    async fn who_comes_as_a_run_ends_is_not_told_of_an_end_without_its_beginning() {
        let hub = Arc::new(Hub::default());
        hub.publish("change", "{}".into());
        hub.publish("end", "{}".into());
        let over = std::future::pending().boxed().shared();
        // The floor has let go of the run, so that no snapshot can be had of it.
        let floor = FloorHandle::closed();
        let told = watch(Arc::clone(&hub), floor.clone(), Source::Run(1, Chain::default()), None, over.clone());
        assert_eq!(kinds(told.collect().await), ["gone"]);
        // Who had the snapshot before goes on from there, to the end.
        let told = watch(Arc::clone(&hub), floor, Source::Run(1, Chain::default()), Some(hub.id(1)), over);
        let told = kinds(told.collect().await);
        assert!(told.len() == 1 && told[0].contains("end"), "{told:?}");
    }
}
