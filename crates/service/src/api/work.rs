//! What workers call: their link, the bundles that they fetch, and the files that they leave.

use std::sync::atomic::{AtomicU64, Ordering};

use futures::StreamExt;
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
    sockets::{say, within},
};
use crate::{
    access::{MayLend, Standing},
    app::App,
    refused::Refused,
};
use kesmo_files::blobs::LARGEST;
use kesmo_floor::NotLinked;
use rocket::data::ToByteUnit;

/// Messages to a worker that may wait to be read; past that the worker is too slow.
const WAITING: usize = 1024;
/// The largest message of a worker, in bytes.
const LARGEST_MESSAGE: usize = 16 << 20;

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
    let mut heard = Instant::now();
    loop {
        tokio::select! {
            message = stream.next() => {
                let message = message.ok_or("closed")?.map_err(|e| e.to_string())?;
                heard = Instant::now();
                if matches!(message, Message::Close(_)) {
                    return Err("closed by the worker".into());
                }
                match read(&message) {
                    Ok(Some(message)) => floor.link_message(number, message).await,
                    Ok(None) => {}
                    // It would send the same again for ever.
                    Err(message) => {
                        say(stream, &ToWorker::Refused { message: message.clone() }).await?;
                        return Err(message);
                    }
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
