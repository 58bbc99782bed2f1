//! `kesmo reach`: lets runs reach addresses that this machine can.

use std::time::Duration;

use futures::{SinkExt, StreamExt};
use kesmo_core::name::Slug;
use kesmo_wire::reach::{Address, FromOfferer, Reachable, ToOfferer, UPGRADE, VERSION};
use tokio::{net::TcpStream, sync::mpsc, task::JoinSet, time::Instant};
use tokio_tungstenite::{WebSocketStream, tungstenite::Message};

use super::{asked_to_end, print_json, worker::host};
use crate::{
    arguments::Reach,
    context::Context,
    failure::Failure,
    view::{moment, safe},
};

/// An address has so long to take a connection.
const CONNECTING: Duration = Duration::from_secs(10);
/// The service is told so often that this machine is there.
const BEAT: Duration = Duration::from_secs(1);
/// A service that says nothing for so long is dialled again.
const PATIENCE: Duration = Duration::from_secs(10);

type Socket = WebSocketStream<kesmo_tls::Stream>;

pub async fn run(options: &Reach, context: &Context) -> Result<(), Failure> {
    if options.addresses.is_empty() {
        return show(context).await;
    }
    let pool = Slug::parse("the pool", &options.pool)?.to_string();
    let addresses: Vec<Address> =
        options.addresses.iter().map(|(name, to)| Address { name: name.clone(), to: to.clone() }).collect();
    let mut offering = Offering { context, pool, addresses, url: context.client.url().to_owned(), linked: false };
    let mut leave = Box::pin(asked_to_end());
    let mut pause = Duration::from_millis(200);
    loop {
        let ended = tokio::select! {
            ended = offering.offer() => ended,
            () = &mut leave => return Ok(()),
        };
        match ended {
            Ended::Refused(why) => return Err(Failure::call(why)),
            Ended::Elsewhere(url) => offering.url = url,
            Ended::Cut(why) => {
                eprintln!("kesmo: not linked, trying again: {}", safe::plain(&why));
                tokio::select! {
                    () = tokio::time::sleep(pause) => {}
                    () = &mut leave => return Ok(()),
                }
                pause = (pause * 2).min(Duration::from_secs(3));
            }
        }
        if std::mem::take(&mut offering.linked) {
            pause = Duration::from_millis(200);
        }
    }
}

async fn show(context: &Context) -> Result<(), Failure> {
    let all: Vec<Reachable> = context.client.get("/api/reach", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("Nothing is offered. On a machine that can reach an address: kesmo reach NAME=HOST:PORT");
    }
    for one in all {
        let open = match one.open {
            1 => "1 connection".to_owned(),
            n => format!("{n} connections"),
        };
        let to = safe::plain(&one.to);
        println!(
            "⇄ {}  {to} on {}, to the pool {}, by {} since {}, {open}",
            one.name,
            safe::plain(&one.host),
            one.pool,
            one.by,
            moment(one.since)
        );
    }
    Ok(())
}

/// Why an offer ended.
enum Ended {
    /// Worth trying again.
    Cut(String),
    Elsewhere(String),
    Refused(String),
}

struct Offering<'c> {
    context: &'c Context,
    pool: String,
    addresses: Vec<Address>,
    url: String,
    linked: bool,
}

impl Offering<'_> {
    async fn dial(&self) -> Result<Socket, Ended> {
        let (trust, token) = (&self.context.service.trust, self.context.client.token());
        let dialled = trust.web_socket(&self.url, "/api/reach/link", token).await;
        dialled.map_err(|e| match e {
            kesmo_tls::Error::Refused { status: 401, .. } => {
                Ended::Refused("the token is not known (kesmo login)".into())
            }
            kesmo_tls::Error::Refused { status: 403, .. } => {
                Ended::Refused("the token may not offer addresses: that takes one of the role operator or admin".into())
            }
            kesmo_tls::Error::Address(_) | kesmo_tls::Error::Token => Ended::Refused(e.to_string()),
            e => Ended::Cut(e.to_string()),
        })
    }

    /// Offers the addresses until the link ends.
    async fn offer(&mut self) -> Ended {
        let mut socket = match self.dial().await {
            Ok(socket) => socket,
            Err(ended) => return ended,
        };
        let offer = FromOfferer::Offer {
            version: VERSION,
            pool: self.pool.clone(),
            host: host(),
            addresses: self.addresses.clone(),
        };
        if let Err(why) = say(&mut socket, &offer).await {
            return Ended::Cut(why);
        }
        let (failed, mut failures) = mpsc::channel(64);
        // Dropped with the link: the connections end with the offer.
        let mut open: JoinSet<()> = JoinSet::new();
        let mut beat = tokio::time::interval(BEAT);
        let mut heard = Instant::now();
        loop {
            tokio::select! {
                message = socket.next() => {
                    let text = match message {
                        Some(Ok(Message::Text(text))) => Some(text),
                        Some(Ok(Message::Close(_))) | None => return Ended::Cut("closed by the service".into()),
                        Some(Ok(_)) => None,
                        Some(Err(e)) => return Ended::Cut(e.to_string()),
                    };
                    heard = Instant::now();
                    match text.map(|text| serde_json::from_str(&text)) {
                        None => {}
                        Some(Ok(ToOfferer::Offered)) => {
                            self.linked = true;
                            self.greet();
                        }
                        Some(Ok(ToOfferer::Refused { message })) => return Ended::Refused(message),
                        Some(Ok(ToOfferer::Elsewhere { url })) => return Ended::Elsewhere(url),
                        Some(Ok(ToOfferer::Open { id, name })) => {
                            let to = self.addresses.iter().find(|a| a.name == name).map(|a| a.to.clone());
                            let making = self.connection(id, to.unwrap_or_default(), failed.clone());
                            open.spawn(making);
                        }
                        Some(Err(e)) => return Ended::Refused(format!("the service says what this program does not know: {e}")),
                    }
                }
                Some((id, why)) = failures.recv() => {
                    eprintln!("kesmo: {}", safe::plain(&why));
                    if let Err(why) = say(&mut socket, &FromOfferer::Failed { id, why }).await {
                        return Ended::Cut(why);
                    }
                }
                Some(_) = open.join_next() => {}
                _ = beat.tick() => {
                    if let Err(e) = socket.send(Message::Ping(Vec::new())).await {
                        return Ended::Cut(e.to_string());
                    }
                    if heard.elapsed() > PATIENCE {
                        return Ended::Cut("the service says nothing".into());
                    }
                }
            }
        }
    }

    fn greet(&self) {
        if self.context.json {
            return;
        }
        for Address { name, to } in &self.addresses {
            println!(
                "⇄ {name} is {to}, for runs in the pool {} that name it: kesmo start SUITE --reach {name}",
                self.pool
            );
        }
        println!("It lasts until this ends (Ctrl-C).");
    }

    /// Makes a connection to an address, and carries it.
    fn connection(
        &self,
        id: String,
        to: String,
        failed: mpsc::Sender<(String, String)>,
    ) -> impl Future<Output = ()> + Send + 'static {
        let (trust, url, token) =
            (self.context.service.trust.clone(), self.url.clone(), self.context.client.token().to_owned());
        async move {
            let connected = tokio::time::timeout(CONNECTING, TcpStream::connect(&to)).await;
            let mut stream = match connected {
                Ok(Ok(stream)) => stream,
                Ok(Err(e)) => {
                    return drop(failed.send((id, format!("{to} takes no connection on {}: {e}", host()))).await);
                }
                Err(_) => {
                    let why = format!("{to} took no connection on {} within {} s", host(), CONNECTING.as_secs());
                    return drop(failed.send((id, why)).await);
                }
            };
            if let Err(e) = stream.set_nodelay(true) {
                eprintln!("kesmo: a connection may be slow: {e}");
            }
            let path = format!("/api/reach/connections/{id}");
            match trust.upgraded(&url, &path, &token, UPGRADE).await {
                // How it ends is seen by its own two sides.
                Ok(mut service) => drop(kesmo_tls::carry(&mut stream, &mut service).await),
                Err(e) => eprintln!("kesmo: a connection to {to} was not taken: {e}"),
            }
        }
    }
}

async fn say(socket: &mut Socket, message: &FromOfferer) -> Result<(), String> {
    let text = serde_json::to_string(message).map_err(|e| e.to_string())?;
    socket.send(Message::Text(text)).await.map_err(|e| e.to_string())
}
