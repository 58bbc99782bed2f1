//! What workers call: their link, the bundles that they fetch, and the files that they leave.

use std::{
    pin::pin,
    sync::atomic::{AtomicU64, Ordering},
    time::Duration,
};

use futures::{SinkExt, StreamExt};
use kesmo_core::name::RunName;
use kesmo_store::access::MACHINE;
use kesmo_wire::{
    Digest,
    api::{Me, Role, Stored, WorkingMachine},
    link::{FromWorker, Hello, ToWorker, VERSION},
};
use rocket::{Data, Route, Shutdown, State, fs::NamedFile, get, put, routes, serde::json::Json};
use rocket_ws::{Channel, Message, WebSocket, stream::DuplexStream};
use tokio::{sync::mpsc, time::Instant};

use super::{
    body::Answer,
    sockets::{Silence, put, say, within},
};
use crate::{
    access::{MayLend, Standing},
    app::App,
    refused::Refused,
};
use kesmo_files::blobs::LARGEST;
use kesmo_floor::{FloorHandle, NotLinked};
use rocket::data::ToByteUnit;

/// Messages to a worker that may wait to be read; past that the worker is too slow.
const WAITING: usize = 1024;
/// The largest message of a worker, in bytes.
const LARGEST_MESSAGE: usize = 16 << 20;
/// An acknowledgement waits so long after the last for another message that it can go with, or for a later one that says as much:
/// of a thousand workers that each tell of a test now and then, acknowledgements would be most of what is sent.
const TOLD_EVERY: Duration = Duration::from_millis(500);
/// So many reports are acknowledged at once: a worker keeps each until then, and may have to wait with what comes after them.
const MOST_UNTOLD: u64 = 8;

static LINKS: AtomicU64 = AtomicU64::new(1);

pub(super) fn routes() -> Vec<Route> {
    routes![link, bundle, put_blob, machine]
}

/// The machine of a pool that a token is for.
#[get("/api/work/machine")]
fn machine(caller: MayLend) -> Answer<WorkingMachine> {
    match caller.0.name.strip_prefix(MACHINE) {
        Some(name) => Ok(Json(WorkingMachine { name: name.to_owned() })),
        None => Err(Refused::not_found(format!("the token {} is not of a machine that a pool started", caller.0.name))),
    }
}

/// A bundle, for a worker that does not have it yet.
#[get("/api/bundles/<digest>")]
async fn bundle(app: &State<App>, _caller: MayLend, digest: &str) -> Result<NamedFile, Refused> {
    let none = || Refused::not_found(format!("there is no bundle {digest:?}"));
    let digest = Digest::parse(digest).map_err(|_| none())?;
    let path = app.blobs.local(&digest).await.map_err(|e| crate::lookup::unread(&e, none))?;
    NamedFile::open(path).await.map_err(|_| none())
}

/// A file that an attempt left behind, or a long log.
#[put("/api/work/blobs/<digest>", data = "<content>")]
async fn put_blob(app: &State<App>, _caller: MayLend, digest: &str, content: Data<'_>) -> Answer<Stored> {
    let digest = crate::lookup::digest(digest)?;
    let bytes = app.blobs.take(&digest, content.open((LARGEST + 1).bytes())).await?;
    Ok(Json(Stored { digest: digest.into(), bytes }))
}

/// The link of a worker.
#[get("/api/work/link")]
fn link(
    socket: WebSocket,
    app: &State<App>,
    caller: MayLend,
    standing: Standing,
    shutdown: Shutdown,
) -> Channel<'static> {
    let app = app.inner().clone();
    let for_any_run = matches!(caller.0.role, Role::Worker | Role::Admin);
    let me = caller.0;
    socket.config(within(LARGEST_MESSAGE)).channel(move |mut stream| {
        Box::pin(async move {
            let number = LINKS.fetch_add(1, Ordering::Relaxed);
            let ended = tokio::select! {
                ended = carry(&mut stream, number, &app, (&me, for_any_run), shutdown) => ended,
                () = standing.ends() => Err("its token was removed".into()),
            };
            if let Err(e) = ended {
                tracing::info!(link = number, "a worker link ended: {e}");
            }
            app.floor.link_down(number).await;
            Ok(())
        })
    })
}

fn read(message: &Message) -> Result<Option<FromWorker>, String> {
    match message {
        Message::Text(text) => FromWorker::read(text).map(Some),
        Message::Close(_) => Ok(None),
        _ => Ok(None),
    }
}

/// Why a worker that says this is not taken.
fn refusal(hello: &Hello, caller: &Me, for_any_run: bool) -> Option<String> {
    if hello.version != VERSION {
        let version = hello.version;
        return Some(format!(
            "this worker speaks version {version} of the link, and the service version {VERSION}: use a worker of the \
             service's own version ({})",
            env!("CARGO_PKG_VERSION")
        ));
    }
    // What a pool gave to one machine makes no other.
    if let Some(machine) = caller.name.strip_prefix(MACHINE)
        && machine != hello.name
    {
        return Some(format!("this token is of the machine {machine}, and this worker is named {}", hello.name));
    }
    (hello.only_run.is_none() && !for_any_run).then(|| {
        "an operator's token lends a machine to one run: use `kesmo join RUN`; a worker needs a token of the role worker"
            .to_owned()
    })
}

/// The pool whose runs a worker works for: its own, or that of the run it is lent to.
async fn pool_of(app: &App, hello: &Hello) -> String {
    if let Some(Ok(name)) = hello.only_run.as_deref().map(RunName::parse)
        && let Ok(Some((row, _))) = app.store.run(name.suite.as_str(), name.number as i32).await
    {
        return row.pool;
    }
    hello.pool.clone()
}

/// Up to which report a worker is told that its reports are stored.
#[derive(Default)]
struct Acknowledged {
    stored: u64,
    told: u64,
    at: Option<Instant>,
}

impl Acknowledged {
    /// Reports up to this one are stored.
    fn stored(&mut self, number: u64) {
        self.stored = self.stored.max(number);
    }

    /// When that is to be told, if it was not: at once if nothing was told for a while, or much was not.
    fn due(&self, now: Instant) -> Option<Instant> {
        let untold = self.stored - self.told;
        (untold > 0).then(|| self.at.filter(|_| untold < MOST_UNTOLD).map_or(now, |at| at + TOLD_EVERY))
    }

    /// What is to be told, if anything is; it is told now.
    fn take(&mut self, now: Instant) -> Option<ToWorker> {
        (self.stored > self.told).then(|| {
            (self.told, self.at) = (self.stored, Some(now));
            ToWorker::Stored { number: self.stored }
        })
    }
}

/// Hands a message to the floor. While that takes none, as nothing can be kept, the worker hears that its service is there.
async fn hand_over(
    stream: &mut DuplexStream,
    floor: &FloorHandle,
    link: u64,
    message: FromWorker,
) -> Result<(), String> {
    let mut taken = pin!(floor.link_message(link, message));
    while tokio::time::timeout(floor.patience / 4, &mut taken).await.is_err() {
        stream.send(Message::Ping(Vec::new())).await.map_err(|e| e.to_string())?;
    }
    Ok(())
}

/// Sends a message of the floor and those that wait behind it.
async fn pass_on(
    stream: &mut DuplexStream,
    first: ToWorker,
    receiver: &mut mpsc::Receiver<ToWorker>,
    acknowledged: &mut Acknowledged,
) -> Result<(), String> {
    let mut next = Some(first);
    let mut said = false;
    while let Some(message) = next {
        if let ToWorker::Stored { number } = message {
            acknowledged.stored(number);
        } else {
            // In the order in which the floor said them: what is stored was so before this was given.
            if let Some(stored) = acknowledged.take(Instant::now()) {
                put(stream, &stored).await?;
            }
            put(stream, &message).await?;
            said = true;
        }
        next = receiver.try_recv().ok();
    }
    if said { stream.flush().await.map_err(|e| e.to_string()) } else { Ok(()) }
}

async fn carry(
    stream: &mut DuplexStream,
    number: u64,
    app: &App,
    (caller, for_any_run): (&Me, bool),
    mut shutdown: Shutdown,
) -> Result<(), String> {
    let floor = &app.floor;
    let patience = floor.patience;
    let (sender, mut receiver) = mpsc::channel(WAITING);
    let first = tokio::time::timeout(patience, stream.next()).await.map_err(|_| "no hello came")?;
    let first = first.ok_or("closed before a hello")?.map_err(|e| e.to_string())?;
    let hello = match read(&first) {
        Ok(Some(FromWorker::Hello(hello))) => hello,
        Ok(_) => return Err("the first message was no hello".into()),
        // Said plainly, so that whoever starts the worker knows.
        Err(message) => return say(stream, &ToWorker::Refused { message }).await,
    };
    if let Some(message) = refusal(&hello, caller, for_any_run) {
        return say(stream, &ToWorker::Refused { message }).await;
    }
    let pool = pool_of(app, &hello).await;
    if !caller.may_come_to(&pool) {
        let message = format!(
            "the token {} is for workers of {} alone, and this worker comes to the pool {pool}",
            caller.name,
            caller.pools.join(", ")
        );
        return say(stream, &ToWorker::Refused { message }).await;
    }
    match floor.link_up(hello, pool, number, sender).await {
        Ok(()) => {}
        Err(NotLinked::Refused(message)) => return say(stream, &ToWorker::Refused { message }).await,
        Err(NotLinked::Later(message)) => return say(stream, &ToWorker::Later { message }).await,
        Err(NotLinked::Elsewhere(url)) => return say(stream, &ToWorker::Elsewhere { url }).await,
    }
    // Only who is taken is welcome, and before anything that the floor sends.
    say(stream, &ToWorker::Welcome { patience_ms: patience.as_millis() as u64, version: VERSION }).await?;
    let mut silence = Silence::new(patience);
    let mut acknowledged = Acknowledged::default();
    loop {
        let now = Instant::now();
        let due = acknowledged.due(now);
        if due.is_some_and(|at| at <= now)
            && let Some(stored) = acknowledged.take(now)
        {
            say(stream, &stored).await?;
            continue;
        }
        tokio::select! {
            message = stream.next() => {
                let message = message.ok_or("closed")?.map_err(|e| e.to_string())?;
                silence.ends();
                if matches!(message, Message::Close(_)) {
                    return Err("closed by the worker".into());
                }
                match read(&message) {
                    Ok(Some(message)) => {
                        hand_over(stream, floor, number, message).await?;
                        // While it waited, nothing else was heard.
                        silence.ends();
                    }
                    Ok(None) => {}
                    // It would send the same again for ever.
                    Err(message) => {
                        say(stream, &ToWorker::Refused { message: message.clone() }).await?;
                        return Err(message);
                    }
                }
            }
            message = receiver.recv() => match message {
                Some(message) => pass_on(stream, message, &mut receiver, &mut acknowledged).await?,
                None => return Err("cut off by the floor".into()),
            },
            () = tokio::time::sleep_until(due.unwrap_or(now)), if due.is_some() => {}
            () = silence.is_too_long() => return Err("silent for too long".into()),
            () = &mut shutdown => {
                if let Some(stored) = acknowledged.take(Instant::now()) {
                    put(stream, &stored).await?;
                }
                stream.close(None).await.map_err(|e| e.to_string())?;
                return Err("the service is stopping".into());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// When it is to be told, in milliseconds from now.
    fn due(acknowledged: &Acknowledged, now: Instant) -> Option<u128> {
        acknowledged.due(now).map(|at| at.saturating_duration_since(now).as_millis())
    }

    fn told(acknowledged: &mut Acknowledged, now: Instant) -> Option<u64> {
        acknowledged.take(now).map(|message| match message {
            ToWorker::Stored { number } => number,
            other => panic!("{other:?} acknowledges nothing"),
        })
    }

    #[test]
    fn what_is_stored_is_told_at_once_and_after_that_now_and_then() {
        let begun = Instant::now();
        let after = |ms| begun + Duration::from_millis(ms);
        let mut acknowledged = Acknowledged::default();
        assert_eq!((due(&acknowledged, begun), told(&mut acknowledged, begun)), (None, None), "nothing is stored");

        acknowledged.stored(1);
        assert_eq!((due(&acknowledged, begun), told(&mut acknowledged, begun)), (Some(0), Some(1)));
        assert_eq!((due(&acknowledged, begun), told(&mut acknowledged, begun)), (None, None), "it is told once");

        // The second may wait for the third, and both for what is sent anyway.
        acknowledged.stored(2);
        acknowledged.stored(3);
        assert_eq!(due(&acknowledged, after(100)), Some(400));
        assert_eq!(due(&acknowledged, after(600)), Some(0), "but no longer than that");
        assert_eq!(told(&mut acknowledged, after(600)), Some(3));

        // After a rest the next is told at once again.
        acknowledged.stored(4);
        assert_eq!(due(&acknowledged, after(5000)), Some(0));
    }

    #[test]
    fn many_reports_are_acknowledged_without_waiting() {
        let now = Instant::now();
        let mut acknowledged = Acknowledged::default();
        acknowledged.stored(100);
        assert_eq!(told(&mut acknowledged, now), Some(100));
        acknowledged.stored(99 + MOST_UNTOLD);
        assert_eq!(due(&acknowledged, now), Some(500));
        acknowledged.stored(100 + MOST_UNTOLD);
        assert_eq!((due(&acknowledged, now), told(&mut acknowledged, now)), (Some(0), Some(100 + MOST_UNTOLD)));
        // What is said out of order takes nothing back.
        acknowledged.stored(7);
        assert_eq!((due(&acknowledged, now), told(&mut acknowledged, now)), (None, None));
    }
}
