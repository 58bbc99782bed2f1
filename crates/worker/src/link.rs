//! The link to the service: made, kept up, and made again; what is not acknowledged is sent again.

use std::{
    collections::{BTreeMap, BTreeSet, VecDeque},
    iter::Peekable,
    time::Duration,
    vec::IntoIter,
};

use futures::{SinkExt, StreamExt};
use kesmo_wire::link::{BatchKey, FromWorker, Hello, ToWorker, VERSION, WorkerEvent};
use tokio::time::Instant;
use tokio_tungstenite::{WebSocketStream, tungstenite::Message};

use crate::{config::Config, error::Error, process, slots::Slots};

type Socket = WebSocketStream<kesmo_tls::Stream>;

/// Events of one report, at the most.
const MOST_EVENTS: usize = 512;
/// What the events of one report weigh together, at the most, but for one that weighs more alone: a service takes no message
/// beyond 16 MiB, and JSON may make six bytes of one.
const MOST_BYTES: usize = 2 << 20;
/// Results that come one by one are gathered so long, so that fast tests do not cost a message each. What frees a slot is
/// never kept waiting.
const GATHER: Duration = Duration::from_millis(12);
/// A service that takes a connection answers within this, or another is asked.
const ANSWERS_WITHIN: Duration = Duration::from_secs(3);
/// Events that are not acknowledged; past that nothing more is read from tests until some are.
const MOST_UNSTORED: usize = 20_000;
/// And what they may weigh.
const MOST_UNSTORED_BYTES: usize = 64 << 20;

/// What of this worker's doing is not acknowledged yet.
#[derive(Default)]
struct Unstored {
    reports: VecDeque<(u64, Vec<WorkerEvent>)>,
    events: usize,
    bytes: usize,
    next: u64,
}

impl Unstored {
    fn push(&mut self, events: Vec<WorkerEvent>) -> FromWorker {
        self.next += 1;
        self.events += events.len();
        self.bytes += weight(&events);
        self.reports.push_back((self.next, events.clone()));
        FromWorker::Report { number: self.next, events }
    }

    /// Whether more may be read from tests before some of it is acknowledged, with these events that wait.
    fn has_room(&self, gathered: &[WorkerEvent]) -> bool {
        self.events + gathered.len() < MOST_UNSTORED && self.bytes < MOST_UNSTORED_BYTES
    }

    /// The oldest report, if its number is at most that: it is acknowledged.
    fn pop(&mut self, number: u64) -> Option<Vec<WorkerEvent>> {
        let (_, events) = self.reports.pop_front_if(|(n, _)| *n <= number)?;
        self.events -= events.len();
        self.bytes -= weight(&events);
        Some(events)
    }
}

fn weight(events: &[WorkerEvent]) -> usize {
    events.iter().map(WorkerEvent::weight).sum()
}

/// Takes as many events as one report may have.
fn next_part(events: &mut Peekable<IntoIter<WorkerEvent>>) -> Vec<WorkerEvent> {
    let (mut part, mut bytes) = (Vec::new(), 0);
    while let Some(event) = events.peek() {
        let more = event.weight();
        if part.len() == MOST_EVENTS || (!part.is_empty() && bytes + more > MOST_BYTES) {
            break;
        }
        bytes += more;
        part.extend(events.next());
    }
    part
}

struct Worker {
    /// Its slots; it holds the switches of batches that are granted and whose end is not acknowledged.
    slots: Slots,
    /// What runs in them, to say again after a reconnect.
    running: BTreeMap<BatchKey, BTreeSet<u32>>,
    listing: BTreeSet<String>,
    unstored: Unstored,
    /// Events that wait for more of them.
    gathered: Vec<WorkerEvent>,
    /// It was told to take nothing new.
    draining: bool,
    /// It was told to end once it has nothing left to do.
    retiring: bool,
    /// A service has welcomed it under its name.
    welcomed: bool,
}

/// Works until `leave` resolves: then running batches are ended and go back.
///
/// # Errors
/// If the home folder cannot be used, or the service refuses this worker.
pub async fn run(config: Config, leave: impl Future<Output = ()>) -> Result<(), Error> {
    for address in config.url.split(',') {
        kesmo_tls::Address::parse(address.trim())?;
    }
    process::keep_memory_to_itself();
    let mut worker = Worker {
        slots: Slots::open(config).await?,
        running: BTreeMap::new(),
        listing: BTreeSet::new(),
        unstored: Unstored::default(),
        gathered: Vec::new(),
        draining: false,
        retiring: false,
        welcomed: false,
    };
    tokio::pin!(leave);
    let closing = worker.slots.closing();
    let stayed = worker.stay_linked(leave).await;
    drop(worker);
    closing.close().await;
    stayed
}

/// Why a link ended.
enum Ended {
    /// Worth trying again.
    Cut(String),
    /// The service stands still, or its machine is gone; since when. The same, and sooner with another.
    Silent(Instant),
    /// Its name is not free yet.
    Later(String),
    /// The service names another address.
    Elsewhere(String),
    Refused(String),
    Left,
}

/// A pause of half to all of this: workers that have lost their service at once do not all come back at once.
fn drawn(pause: Duration, random: u32) -> Duration {
    pause / 2 + (pause / 2).mul_f64(f64::from(random) / f64::from(u32::MAX))
}

impl Worker {
    async fn stay_linked(&mut self, leave: impl Future<Output = ()> + Unpin) -> Result<(), Error> {
        let mut leave = leave;
        let mut pause = Duration::from_millis(100);
        let mut said = false;
        loop {
            let dialled = tokio::select! {
                dialled = self.dial() => dialled,
                () = &mut leave => return Ok(()),
            };
            let ended = match dialled {
                Ok(mut socket) => {
                    let ended = self.carry(&mut socket, &mut leave).await;
                    if !matches!(ended, Ended::Elsewhere(_) | Ended::Later(_)) {
                        pause = Duration::from_millis(100);
                        said = false;
                    }
                    ended
                }
                Err(Ended::Silent(since)) => Ended::Silent(since),
                Err(ended) => {
                    self.slots.address.next();
                    ended
                }
            };
            match ended {
                Ended::Left => return Ok(()),
                Ended::Refused(message) => return Err(Error::Refused(message)),
                Ended::Elsewhere(url) => {
                    tracing::debug!(service = url, "another service carries out this pool's runs");
                    self.slots.address.go_to(&url);
                }
                Ended::Silent(since) => {
                    if !said {
                        tracing::warn!(service = self.slots.address.now(), "the service is silent, trying again");
                        said = true;
                    }
                    self.slots.address.leave_silent(since);
                }
                Ended::Cut(why) | Ended::Later(why) => {
                    if !said {
                        tracing::warn!(service = self.slots.config.url, "not linked, trying again: {why}");
                        said = true;
                    }
                }
            }
            tokio::select! {
                () = tokio::time::sleep(drawn(pause, getrandom::u32().unwrap_or_default())) => {}
                () = &mut leave => return Ok(()),
            }
            pause = (pause * 2).min(Duration::from_secs(1));
        }
    }

    async fn dial(&self) -> Result<Socket, Ended> {
        let config = &self.slots.config;
        let (address, since) = (self.slots.address.now(), Instant::now());
        let linking = config.trust.web_socket(&address, "/api/work/link", &config.token);
        // Where there is another to turn to, one that takes connections and says nothing is not waited for long.
        let patience = if self.slots.address.has_others() { ANSWERS_WITHIN } else { Duration::MAX };
        let dialled = match tokio::time::timeout(patience, linking).await {
            Ok(dialled) => dialled,
            Err(_) => return Err(Ended::Silent(since)),
        };
        dialled.map_err(|e| match e {
            kesmo_tls::Error::Refused { status: 401, .. } => {
                Ended::Refused("its token is not known: make one with `kesmo token add NAME --role worker`".into())
            }
            kesmo_tls::Error::Refused { status: 403, .. } => Ended::Refused(
                "its token lacks the right to work: make one with `kesmo token add NAME --role worker`".into(),
            ),
            kesmo_tls::Error::Token => Ended::Refused(e.to_string()),
            e => Ended::Cut(e.to_string()),
        })
    }

    fn hello(&self) -> FromWorker {
        FromWorker::Hello(Hello {
            version: VERSION,
            home: self.slots.home_mark.clone(),
            back: self.welcomed,
            name: self.slots.config.name.clone(),
            pool: self.slots.config.pool.clone(),
            slots: self.slots.config.slots,
            offers: self.slots.config.offers.clone(),
            process: self.slots.mark.clone(),
            holds: self.slots.held().collect(),
            held_back: self.slots.held_back().collect(),
            listing: self.listing.iter().cloned().collect(),
            ease: self.slots.config.ease,
            draining: self.draining,
            only_run: self.slots.config.only_run.clone(),
        })
    }

    async fn carry(&mut self, socket: &mut Socket, leave: &mut (impl Future<Output = ()> + Unpin)) -> Ended {
        if let Err(e) = say(socket, &self.hello()).await {
            return Ended::Cut(e);
        }
        let mut patience = Duration::from_secs(10);
        let (mut heard, mut beaten) = (Instant::now(), Instant::now());
        let mut welcomed = false;
        let mut beat = tokio::time::interval(Duration::from_secs(1));
        let mut due: Option<Instant> = None;
        loop {
            let room = welcomed && self.unstored.has_room(&self.gathered);
            if welcomed && due.is_some_and(|t| t <= Instant::now()) {
                due = None;
                if let Err(e) = self.send_gathered(socket).await {
                    return Ended::Cut(e);
                }
            }
            if welcomed && self.retiring && self.has_nothing_left() {
                return leave_link(socket).await;
            }
            tokio::select! {
                message = socket.next() => {
                    let text = match message {
                        Some(Ok(Message::Text(text))) => Some(text),
                        Some(Ok(Message::Close(_))) | None => return Ended::Cut("closed by the service".into()),
                        Some(Ok(_)) => None,
                        Some(Err(e)) => return Ended::Cut(e.to_string()),
                    };
                    heard = Instant::now();
                    let Some(text) = text else { continue };
                    match serde_json::from_str(&text) {
                        Ok(ToWorker::Welcome { version, .. }) if version != VERSION => {
                            return Ended::Refused(format!(
                                "the service speaks version {version} of the link, and this worker version {VERSION}: \
                                 use a worker of the service's own version"
                            ));
                        }
                        Ok(ToWorker::Later { message }) => return Ended::Later(message),
                        Ok(ToWorker::Welcome { patience_ms, .. }) => {
                            patience = Duration::from_millis(patience_ms);
                            (welcomed, self.welcomed) = (true, true);
                            tracing::info!(service = self.slots.address.now(), slots = self.slots.config.slots, "linked");
                            beat = tokio::time::interval((patience / 4).max(Duration::from_millis(50)));
                            due = (!self.gathered.is_empty()).then(Instant::now);
                            if let Err(e) = self.say_again(socket).await {
                                return Ended::Cut(e);
                            }
                        }
                        Ok(ToWorker::Refused { message }) => return Ended::Refused(message),
                        Ok(ToWorker::Elsewhere { url }) => return Ended::Elsewhere(url),
                        Ok(message) => self.take(message),
                        Err(e) => return Ended::Cut(format!("a message of the service cannot be read: {e}")),
                    }
                }
                events = self.slots.coming.recv(), if room => {
                    let Some(events) = events else { return Ended::Left };
                    self.gathered.extend(events);
                    while self.gathered.len() < MOST_EVENTS && let Ok(more) = self.slots.coming.try_recv() {
                        self.gathered.extend(more);
                    }
                    let frees = |e: &WorkerEvent| {
                        matches!(
                            e,
                            WorkerEvent::BatchEnded { .. }
                                | WorkerEvent::GaveBack { .. }
                                | WorkerEvent::AtGate { .. }
                                | WorkerEvent::Listed { .. }
                        )
                    };
                    let full = self.gathered.len() >= MOST_EVENTS || weight(&self.gathered) >= MOST_BYTES;
                    let at_once = full || self.gathered.iter().any(frees);
                    due = Some(if at_once { Instant::now() } else { due.unwrap_or_else(|| Instant::now() + GATHER) });
                }
                Some(output) = self.slots.outputs.recv(), if welcomed => {
                    if let Err(e) = say(socket, &output).await {
                        return Ended::Cut(e);
                    }
                }
                () = tokio::time::sleep_until(due.unwrap_or(heard)), if due.is_some() => {}
                _ = beat.tick() => {
                    // Who did not beat either stood still itself: what came meanwhile is still to be read.
                    if beaten.elapsed() > patience / 2 {
                        heard = Instant::now();
                    }
                    beaten = Instant::now();
                    if heard.elapsed() > patience {
                        return Ended::Silent(heard);
                    }
                    if let Err(e) = write(socket, Message::Ping(Vec::new())).await {
                        return Ended::Cut(e);
                    }
                }
                () = &mut *leave => return leave_link(socket).await,
            }
        }
    }

    /// Whether nothing runs, and everything that did is stored.
    fn has_nothing_left(&self) -> bool {
        let stored = self.gathered.is_empty() && self.unstored.reports.is_empty();
        stored && self.listing.is_empty() && self.slots.held().next().is_none()
    }

    async fn send_gathered(&mut self, socket: &mut Socket) -> Result<(), String> {
        let mut events = std::mem::take(&mut self.gathered).into_iter().peekable();
        while events.peek().is_some() {
            let part = next_part(&mut events);
            self.note(&part);
            let report = self.unstored.push(part);
            if let Err(e) = say(socket, &report).await {
                // What was not sent is not acknowledged either, and is sent again after the reconnect.
                let rest: Vec<WorkerEvent> = events.collect();
                if !rest.is_empty() {
                    self.gathered = rest;
                }
                return Err(e);
            }
        }
        Ok(())
    }

    /// After a reconnect: what is not acknowledged, and what runs now.
    async fn say_again(&mut self, socket: &mut Socket) -> Result<(), String> {
        for (number, events) in &self.unstored.reports {
            say(socket, &FromWorker::Report { number: *number, events: events.clone() }).await?;
        }
        let running: Vec<WorkerEvent> = self
            .running
            .iter()
            .flat_map(|(key, entries)| entries.iter().map(|entry| (*key, *entry)))
            .map(|(key, entry)| WorkerEvent::Began { key, entry, at_us: crate::now_us() })
            .collect();
        if running.is_empty() {
            return Ok(());
        }
        let report = self.unstored.push(running);
        say(socket, &report).await
    }

    /// Keeps in mind what runs.
    fn note(&mut self, events: &[WorkerEvent]) {
        for event in events {
            match event {
                WorkerEvent::Began { key, entry, .. } => {
                    self.running.entry(*key).or_default().insert(*entry);
                }
                WorkerEvent::Ended(report) => {
                    if let Some(entries) = self.running.get_mut(&report.key) {
                        entries.remove(&report.entry);
                    }
                }
                WorkerEvent::BatchEnded { key, .. } => {
                    self.running.remove(key);
                }
                _ => {}
            }
        }
    }

    fn take(&mut self, message: ToWorker) {
        match &message {
            ToWorker::Grant(grant) => {
                let first = grant.entries.first().map_or("", |entry| entry.name.as_str());
                tracing::info!(run = grant.setup.run, slot = grant.slot, tests = grant.entries.len(), first, "begins");
            }
            ToWorker::List(job) => {
                self.listing.insert(job.job.clone());
            }
            ToWorker::Revoke { key } => {
                self.running.remove(key);
            }
            ToWorker::Stored { number } => self.stored(*number),
            ToWorker::Drain { drain } => {
                self.draining = *drain;
                let what = if *drain { "drained: nothing new is taken" } else { "work is taken again" };
                tracing::info!("{what}");
            }
            ToWorker::Retire => {
                (self.draining, self.retiring) = (true, true);
                tracing::info!("no more is to come: this worker ends when it has nothing left to do");
            }
            _ => {}
        }
        self.slots.tell(message);
    }

    /// Reports up to this number are stored.
    fn stored(&mut self, number: u64) {
        while let Some(events) = self.unstored.pop(number) {
            for event in events {
                match event {
                    WorkerEvent::BatchEnded { key, .. } => self.slots.forget(key),
                    WorkerEvent::Listed { job, .. } => {
                        self.listing.remove(&job);
                    }
                    _ => {}
                }
            }
        }
    }
}

/// Tells the service that this worker leaves, and closes the link.
async fn leave_link(socket: &mut Socket) -> Ended {
    if let Err(e) = say(socket, &FromWorker::Leaving).await {
        tracing::warn!("the service could not be told that this worker leaves: {e}");
    }
    if let Err(e) = socket.close(None).await {
        tracing::debug!("the link did not close: {e}");
    }
    Ended::Left
}

async fn say(socket: &mut Socket, message: &FromWorker) -> Result<(), String> {
    write(socket, Message::Text(serde_json::to_string(message).map_err(|e| e.to_string())?)).await
}

/// Writes into a link; one into which nothing can be written for so long is cut.
async fn write(socket: &mut Socket, message: Message) -> Result<(), String> {
    let sent = tokio::time::timeout(Duration::from_secs(30), socket.send(message)).await;
    sent.map_err(|_| "the service does not read".to_owned())?.map_err(|e| e.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn note(bytes: usize) -> WorkerEvent {
        WorkerEvent::Note { key: BatchKey { run: 1, batch: 1 }, text: "n".repeat(bytes) }
    }

    #[test]
    fn reports_are_bounded_by_what_they_hold() {
        let sizes = |events: Vec<WorkerEvent>| {
            let mut events = events.into_iter().peekable();
            let mut sizes = Vec::new();
            while events.peek().is_some() {
                sizes.push(next_part(&mut events).len());
            }
            sizes
        };
        assert_eq!(sizes((0..1100).map(|_| note(1)).collect()), [512, 512, 76]);
        assert_eq!(sizes((0..20).map(|_| note(400_000)).collect()), [5, 5, 5, 5]);
        assert_eq!(sizes(vec![note(1), note(9 << 20), note(1)]), [1, 1, 1], "one that is too large goes alone");
    }

    #[test]
    fn workers_that_were_cut_off_together_come_back_one_by_one() {
        let pause = Duration::from_millis(100);
        let drawn = [0, 1 << 30, 1 << 31, u32::MAX].map(|random| drawn(pause, random).as_millis());
        assert_eq!(drawn, [50, 62, 75, 100]);
    }

    #[test]
    fn what_is_not_acknowledged_is_bounded_and_makes_room_again() {
        let mut unstored = Unstored::default();
        while unstored.has_room(&[]) {
            unstored.push(vec![note(1 << 20)]);
        }
        assert_eq!(unstored.reports.len(), 64);
        assert!(unstored.pop(0).is_none());
        assert_eq!(unstored.pop(1).map(|events| events.len()), Some(1));
        assert!(unstored.has_room(&[]));
        while unstored.pop(u64::MAX).is_some() {}
        assert_eq!((unstored.events, unstored.bytes), (0, 0));
    }
}
