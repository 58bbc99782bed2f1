//! Private addresses for a batch: a port of this machine for each name, whose connections go through the service to the machine
//! that offers it.

use std::sync::Arc;

use kesmo_tls::Error;
use kesmo_wire::{
    link::{BatchKey, WorkerEvent},
    reach::UPGRADE,
};
use tokio::{
    net::{TcpListener, TcpStream},
    sync::mpsc,
    task::{JoinHandle, JoinSet},
};

use crate::{address::Address, config::Config};

/// Troubles that are told of one batch and name.
const MOST_TOLD: usize = 3;
/// Connections of one batch and name at the same time; more wait.
const MOST_OPEN: usize = 500;

/// Makes connections for batches.
#[derive(Clone)]
pub struct Reaching {
    config: Config,
    address: Arc<Address>,
    events: mpsc::Sender<Vec<WorkerEvent>>,
}

/// A port that leads to what is reached, for as long as this is kept. Then its connections are cut.
pub struct Way {
    pub port: u16,
    task: JoinHandle<()>,
}

impl Drop for Way {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Reaching {
    pub fn new(config: Config, address: Arc<Address>, events: mpsc::Sender<Vec<WorkerEvent>>) -> Self {
        Self { config, address, events }
    }

    /// Opens a way to what a run calls by that name.
    ///
    /// # Errors
    /// If no port is free.
    pub async fn open(&self, key: BatchKey, run: &str, name: &str) -> std::io::Result<Way> {
        let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
        let port = listener.local_addr()?.port();
        let carrying = Carrying { of: self.clone(), key, run: run.to_owned(), name: name.to_owned(), told: Vec::new() };
        Ok(Way { port, task: tokio::spawn(carrying.accept(listener)) })
    }
}

struct Carrying {
    of: Reaching,
    key: BatchKey,
    run: String,
    name: String,
    told: Vec<String>,
}

impl Carrying {
    async fn accept(mut self, listener: TcpListener) {
        let mut open: JoinSet<Option<String>> = JoinSet::new();
        loop {
            tokio::select! {
                accepted = listener.accept(), if open.len() < MOST_OPEN => match accepted {
                    Ok((stream, _)) => drop(open.spawn(self.carried(stream))),
                    Err(e) => {
                        self.tell(format!("a connection could not be taken: {e}")).await;
                        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
                    }
                },
                Some(ended) = open.join_next() => {
                    if let Ok(Some(why)) = ended {
                        self.tell(why).await;
                    }
                }
            }
        }
    }

    /// Carries a connection to its end; tells why it could not.
    fn carried(&self, mut stream: TcpStream) -> impl Future<Output = Option<String>> + Send + use<> {
        let (of, path) = (self.of.clone(), format!("/api/work/reach/{}/{}", self.run, self.name));
        async move {
            if let Err(e) = stream.set_nodelay(true) {
                tracing::debug!("a connection may be slow: {e}");
            }
            let service = of.config.trust.upgraded(&of.address.now(), &path, &of.config.token, UPGRADE).await;
            match service {
                Ok(mut service) => {
                    if let Err(e) = kesmo_tls::carry(&mut stream, &mut service).await {
                        tracing::debug!("a connection broke: {e}");
                    }
                    None
                }
                Err(Error::Refused { said, .. }) => {
                    let refusal: Option<kesmo_wire::api::Refusal> = serde_json::from_str(&said).ok();
                    Some(refusal.map_or(said, |refusal| refusal.message))
                }
                Err(e) => Some(e.to_string()),
            }
        }
    }

    /// Says on the run why something could not be reached, once for each reason.
    async fn tell(&mut self, why: String) {
        if self.told.len() < MOST_TOLD && !self.told.contains(&why) {
            let text = format!("{} could not be reached: {why}", self.name);
            self.told.push(why);
            if self.of.events.send(vec![WorkerEvent::Note { key: self.key, text }]).await.is_err() {
                tracing::debug!("the worker is ending");
            }
        }
    }
}
