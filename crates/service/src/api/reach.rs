//! Private addresses: what machines offer, and the connections of runs to them, which go through the service.

use std::{io, net::SocketAddr, pin::Pin, time::Duration};

use futures::StreamExt;
use kesmo_wire::reach::{FromOfferer, Reachable, ToOfferer, UPGRADE};
use rocket::{
    Response, Route, Shutdown, State,
    data::{IoHandler, IoStream},
    get,
    http::Status,
    request::Request,
    response::{self, Responder},
    routes,
    serde::json::Json,
};
use rocket_ws::{Channel, Message, WebSocket, stream::DuplexStream};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    sync::{mpsc, watch},
};

use super::{
    body::Answer,
    sockets::{Silence, say, within},
};
use crate::{
    access::{MayLend, MayOperate, MaySee, Standing},
    app::App,
    door,
    reaching::{Counted, End, Offerer, Offering, Opening},
    refused::Refused,
};

/// A machine has so long to make a connection that it is asked for.
const MAKING: Duration = Duration::from_secs(15);
/// Connections that a machine may be asked for before it has heard of the first.
const WAITING: usize = 256;
/// The largest message of a machine that offers addresses, in bytes.
const LARGEST_MESSAGE: usize = 1 << 20;
/// Bytes that are held of each direction of a connection.
const HELD: usize = 256 << 10;

pub(super) fn routes() -> Vec<Route> {
    routes![list, offer, bring, reach]
}

/// Everything that is offered now.
#[utoipa::path(get, path = "/api/reach", operation_id = "reachable", tag = "reach", responses((status = 200, body = [Reachable])))]
#[get("/api/reach")]
async fn list(app: &State<App>, _caller: MaySee) -> Answer<Vec<Reachable>> {
    Ok(Json(app.reaches.all()))
}

/// A machine offers addresses, for as long as its connection lasts.
#[get("/api/reach/link")]
fn offer(
    socket: WebSocket,
    app: &State<App>,
    caller: MayOperate,
    standing: Standing,
    shutdown: Shutdown,
) -> Channel<'static> {
    let app = app.inner().clone();
    let by = caller.0.name.clone();
    socket.config(within(LARGEST_MESSAGE)).channel(move |mut stream| {
        Box::pin(async move {
            let ended = tokio::select! {
                ended = carry(&mut stream, &app, by, shutdown) => ended,
                () = standing.ends() => Err("its token was removed".into()),
            };
            if let Err(e) = ended {
                tracing::info!("an offer of addresses ended: {e}");
            }
            Ok(())
        })
    })
}

async fn carry(stream: &mut DuplexStream, app: &App, by: String, mut shutdown: Shutdown) -> Result<(), String> {
    let patience = app.floor.patience;
    let first = tokio::time::timeout(patience, stream.next()).await.map_err(|_| "nothing was offered in time")?;
    let text = match first.ok_or("closed before an offer")?.map_err(|e| e.to_string())? {
        Message::Text(text) => text,
        _ => return Err("the first message was no offer".into()),
    };
    let (pool, host, addresses) = match FromOfferer::read(&text) {
        Ok(FromOfferer::Offer { pool, host, addresses, .. }) => (pool, host, addresses),
        Ok(FromOfferer::Failed { .. }) => return Err("the first message was no offer".into()),
        Err(message) => return say(stream, &ToOfferer::Refused { message }).await,
    };
    if let Some(url) = app.floor.elsewhere(&pool).await {
        return say(stream, &ToOfferer::Elsewhere { url }).await;
    }
    let (sender, mut asked) = mpsc::channel(WAITING);
    let offering = match app.reaches.offer(Offerer { pool: pool.clone(), host, by }, addresses, &sender) {
        Ok(offering) => offering,
        Err(message) => return say(stream, &ToOfferer::Refused { message }).await,
    };
    app.floor.reachable(&pool, app.reaches.of_pool(&pool)).await;
    let ended = talk(stream, &offering, &mut asked, patience, &mut shutdown).await;
    drop(offering);
    app.floor.reachable(&pool, app.reaches.of_pool(&pool)).await;
    ended
}

async fn talk(
    stream: &mut DuplexStream,
    offering: &Offering,
    asked: &mut mpsc::Receiver<ToOfferer>,
    patience: Duration,
    shutdown: &mut Shutdown,
) -> Result<(), String> {
    say(stream, &ToOfferer::Offered).await?;
    let mut silence = Silence::new(patience);
    loop {
        tokio::select! {
            message = stream.next() => {
                let message = message.ok_or("closed")?.map_err(|e| e.to_string())?;
                silence.ends();
                match message {
                    Message::Close(_) => return Err("closed by the machine that offered".into()),
                    Message::Text(text) => match FromOfferer::read(&text) {
                        Ok(FromOfferer::Failed { id, why }) => offering.failed(&id, why),
                        Ok(FromOfferer::Offer { .. }) => return Err("it offered a second time".into()),
                        Err(message) => {
                            say(stream, &ToOfferer::Refused { message: message.clone() }).await?;
                            return Err(message);
                        }
                    },
                    _ => {}
                }
            }
            message = asked.recv() => match message {
                Some(message) => say(stream, &message).await?,
                None => return Err("nobody asks any more".into()),
            },
            () = silence.is_too_long() => return Err("silent for too long".into()),
            () = &mut *shutdown => {
                stream.close(None).await.map_err(|e| e.to_string())?;
                return Err("the service is stopping".into());
            }
        }
    }
}

/// A connection whose bytes go by as they are.
pub struct Raw<H>(H);

impl<'r, H: IoHandler + 'r> Responder<'r, 'r> for Raw<H> {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'r> {
        if !request.headers().get("Upgrade").any(|protocol| protocol.eq_ignore_ascii_case(UPGRADE)) {
            return Refused::invalid(format!("this is for connections that are upgraded to {UPGRADE}"))
                .respond_to(request);
        }
        Response::build().status(Status::SwitchingProtocols).upgrade(UPGRADE, self.0).ok()
    }
}

/// Hands a connection to whoever waits for it.
pub struct Bringing {
    app: App,
    id: String,
    socket: Option<TcpStream>,
}

#[rocket::async_trait]
impl IoHandler for Bringing {
    async fn io(self: Pin<Box<Self>>, stream: IoStream) -> io::Result<()> {
        let Self { app, id, socket } = *Pin::into_inner(self);
        app.reaches.bring(&id, End { stream, socket });
        Ok(())
    }
}

/// A machine brings a connection that it was asked for.
#[get("/api/reach/connections/<id>")]
async fn bring(
    app: &State<App>,
    _caller: MayOperate,
    from: SocketAddr,
    rocket: &rocket::Config,
    id: &str,
) -> Result<Raw<Bringing>, Refused> {
    if !app.reaches.is_waited_for(id) {
        return Err(Refused::not_found("nobody waits for this connection any more"));
    }
    let socket = door::socket_of(rocket.port, from);
    Ok(Raw(Bringing { app: app.inner().clone(), id: id.to_owned(), socket }))
}

/// Carries bytes between a run's process and what it reaches, until both have no more, or the offer goes.
pub struct Carrying {
    other: End,
    socket: Option<TcpStream>,
    stays: watch::Receiver<()>,
    _counted: Counted,
}

#[rocket::async_trait]
impl IoHandler for Carrying {
    async fn io(mut self: Pin<Box<Self>>, stream: IoStream) -> io::Result<()> {
        let Self { other, socket, stays, .. } = &mut *self;
        let mut near = End { stream, socket: socket.take() };
        tokio::select! {
            carried = pass_on(&mut near, other) => carried,
            _ = stays.changed() => Ok(()),
        }
    }
}

/// Passes on what has come already.
async fn read_ahead(from: &mut IoStream, to: &mut IoStream) -> io::Result<()> {
    let mut first = vec![0; HELD];
    // It is asked once, and not waited for.
    if let Ok(count) = tokio::time::timeout(Duration::ZERO, from.read(&mut first)).await {
        to.write_all(&first[..count?]).await?;
        to.flush().await?;
    }
    Ok(())
}

/// Carries bytes between two connections: the kernel moves them, where both sockets could be had.
async fn pass_on(one: &mut End, other: &mut End) -> io::Result<()> {
    if let (Some(near), Some(far)) = (&one.socket, &other.socket) {
        // What the web server read beyond the call comes first. From then on only the sockets are read.
        read_ahead(&mut one.stream, &mut other.stream).await?;
        read_ahead(&mut other.stream, &mut one.stream).await?;
        if let Some(carried) = kesmo_tls::carry_between(near, far).await {
            return carried;
        }
    }
    tokio::io::copy_bidirectional_with_sizes(&mut one.stream, &mut other.stream, HELD, HELD).await.map(drop)
}

/// A run's process connects to what is offered under a name. It is answered once the connection is made.
#[get("/api/work/reach/<suite>/<number>/<name>")]
async fn reach(
    app: &State<App>,
    _caller: MayLend,
    from: SocketAddr,
    rocket: &rocket::Config,
    suite: &str,
    number: i32,
    name: &str,
) -> Result<Raw<Carrying>, Refused> {
    let run = format!("{suite}/{number}");
    let reached = app.floor.reached_by(&run).await;
    let (pool, names) = reached.ok_or_else(|| Refused::not_found(format!("{run} does not run here")))?;
    if !names.iter().any(|known| known == name) {
        return Err(Refused::not_found(format!("{run} does not say that it reaches {name:?}")));
    }
    let Opening { brought, stays, counted, waits } = app.reaches.open(&pool, name).map_err(Refused::unavailable)?;
    let made = tokio::time::timeout(MAKING, brought).await;
    drop(waits);
    let why = match made {
        Ok(Ok(Ok(other))) => {
            let socket = door::socket_of(rocket.port, from);
            return Ok(Raw(Carrying { other, socket, stays, _counted: counted }));
        }
        Ok(Ok(Err(why))) => why,
        Ok(Err(_)) => format!("{name} is not offered any more"),
        Err(_) => format!("the machine that offers {name} made no connection within {} s", MAKING.as_secs()),
    };
    Err(Refused::unavailable(why))
}
