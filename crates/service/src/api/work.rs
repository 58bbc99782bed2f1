//! What workers call: their link, the bundles that they fetch, and the files that they leave.

use std::sync::atomic::{AtomicU64, Ordering};

use futures::{SinkExt, StreamExt};
use kesmo_wire::{
    api::{Role, Stored},
    is_digest,
    link::{FromWorker, ToWorker},
};
use rocket::{Data, Route, Shutdown, State, fs::NamedFile, get, put, routes, serde::json::Json};
use rocket_ws::{Channel, Message, WebSocket, stream::DuplexStream};
use tokio::{sync::mpsc, time::Instant};

use super::{Answer, Refused};
use crate::{
    App,
    access::MayLend,
    floor::{FloorHandle, NotLinked},
};

/// Messages to a worker that may wait to be read; past that the worker is too slow.
const WAITING: usize = 1024;
/// The largest message of a worker, in bytes.
const LARGEST_MESSAGE: usize = 16 << 20;

static LINKS: AtomicU64 = AtomicU64::new(1);

pub(super) fn routes() -> Vec<Route> {
    routes![link, bundle, put_blob]
}

/// A bundle, for a worker that does not have it yet.
#[get("/api/bundles/<digest>")]
async fn bundle(app: &State<App>, _caller: MayLend, digest: &str) -> Result<NamedFile, Refused> {
    let none = || Refused::not_found(format!("there is no bundle {digest:?}"));
    if !is_digest(digest) {
        return Err(none());
    }
    NamedFile::open(app.blobs.path(digest)).await.map_err(|_| none())
}

/// A file that an attempt left behind, or a long log.
#[put("/api/work/blobs/<digest>", data = "<content>")]
async fn put_blob(app: &State<App>, _caller: MayLend, digest: &str, content: Data<'_>) -> Answer<Stored> {
    if !is_digest(digest) {
        return Err(Refused::invalid(format!("{digest:?} is no SHA-256 in hexadecimal digits")));
    }
    let bytes = app.blobs.take(digest, content).await?;
    Ok(Json(Stored { digest: digest.to_owned(), bytes }))
}

/// The link of a worker.
#[get("/api/work/link")]
fn link(socket: WebSocket, app: &State<App>, caller: MayLend, shutdown: Shutdown) -> Channel<'static> {
    let floor = app.floor.clone();
    let for_any_run = matches!(caller.0.role, Role::Worker | Role::Keeper);
    let config = rocket_ws::Config {
        max_message_size: Some(LARGEST_MESSAGE),
        max_frame_size: Some(LARGEST_MESSAGE),
        ..rocket_ws::Config::default()
    };
    socket.config(config).channel(move |mut stream| {
        Box::pin(async move {
            let number = LINKS.fetch_add(1, Ordering::Relaxed);
            if let Err(e) = carry(&mut stream, number, &floor, for_any_run, shutdown).await {
                tracing::info!(link = number, "a worker link ended: {e}");
            }
            floor.link_down(number).await;
            Ok(())
        })
    })
}

async fn say(stream: &mut DuplexStream, message: &ToWorker) -> Result<(), String> {
    let text = serde_json::to_string(message).map_err(|e| e.to_string())?;
    stream.send(Message::Text(text)).await.map_err(|e| e.to_string())
}

fn read(message: &Message) -> Result<Option<FromWorker>, String> {
    match message {
        Message::Text(text) => {
            serde_json::from_str(text).map(Some).map_err(|e| format!("a message cannot be read: {e}"))
        }
        Message::Close(_) => Err("closed by the worker".into()),
        _ => Ok(None),
    }
}

async fn carry(
    stream: &mut DuplexStream,
    number: u64,
    floor: &FloorHandle,
    for_any_run: bool,
    mut shutdown: Shutdown,
) -> Result<(), String> {
    let patience = floor.patience;
    let (sender, mut receiver) = mpsc::channel(WAITING);
    let first = tokio::time::timeout(patience, stream.next()).await.map_err(|_| "no hello came")?;
    let first = first.ok_or("closed before a hello")?.map_err(|e| e.to_string())?;
    let Some(FromWorker::Hello(hello)) = read(&first)? else { return Err("the first message was no hello".into()) };
    if hello.slots == 0 || kesmo_core::name::Slug::parse("the worker's name", &hello.name).is_err() {
        let message = "a worker needs at least one slot, and a name of a-z, 0-9 and '-'".to_owned();
        return say(stream, &ToWorker::Refused { message }).await;
    }
    if hello.only_run.is_none() && !for_any_run {
        let message =
            "an operator's token lends a machine to one run: use `kesmo join RUN`; a worker needs a token of \
                       the role worker"
                .to_owned();
        return say(stream, &ToWorker::Refused { message }).await;
    }
    // The welcome goes out before anything that the floor sends.
    say(stream, &ToWorker::Welcome { patience_ms: patience.as_millis() as u64 }).await?;
    match floor.link_up(hello, number, sender).await {
        Ok(()) => {}
        Err(NotLinked::Refused(message)) => return say(stream, &ToWorker::Refused { message }).await,
        Err(NotLinked::Elsewhere(url)) => return say(stream, &ToWorker::Elsewhere { url }).await,
    }
    let mut heard = Instant::now();
    loop {
        tokio::select! {
            message = stream.next() => {
                let message = message.ok_or("closed")?.map_err(|e| e.to_string())?;
                heard = Instant::now();
                if let Some(message) = read(&message)? {
                    floor.link_message(number, message).await;
                }
            }
            message = receiver.recv() => match message {
                Some(message) => say(stream, &message).await?,
                None => return Err("cut off by the floor".into()),
            },
            () = tokio::time::sleep_until(heard + patience) => return Err("silent for too long".into()),
            () = &mut shutdown => {
                stream.close(None).await.map_err(|e| e.to_string())?;
                return Err("the service is stopping".into());
            }
        }
    }
}
