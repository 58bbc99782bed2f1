//! Keeps deliveries of webhooks that come at the same time together, in one transaction: the runs of a suite are numbered one
//! after the other, and each of many transactions would wait for all before it.

use kesmo_store::{
    Error, Store,
    runs::NewRun,
    webhooks::{Kept, NewDelivery},
};
use tokio::sync::{mpsc, oneshot};

/// Deliveries that are kept together at most, and that wait at most.
const MOST_TOGETHER: usize = 64;
const MOST_WAITING: usize = 4096;

struct Coming {
    new: (NewDelivery, Option<NewRun>),
    reply: oneshot::Sender<Result<Kept, Error>>,
}

/// Hands deliveries to the task that keeps them.
#[derive(Clone)]
pub struct Deliveries(mpsc::Sender<Coming>);

impl Deliveries {
    /// Starts the task, which writes through this store; it ends with the last who may hand something over.
    pub fn start(store: Store) -> Self {
        let (sender, receiver) = mpsc::channel(MOST_WAITING);
        tokio::spawn(work(store, receiver));
        Self(sender)
    }

    /// Keeps a delivery with its run; answers once it is kept.
    ///
    /// # Errors
    /// If PostgreSQL does not answer: nothing was kept then.
    pub async fn take(&self, new: NewDelivery, run: Option<NewRun>) -> Result<Kept, Error> {
        let (reply, answer) = oneshot::channel();
        let gone = || Error::Away("the service is ending".into());
        self.0.send(Coming { new: (new, run), reply }).await.map_err(|_| gone())?;
        answer.await.map_err(|_| gone())?
    }
}

async fn work(store: Store, mut receiver: mpsc::Receiver<Coming>) {
    let mut coming = Vec::new();
    while receiver.recv_many(&mut coming, MOST_TOGETHER).await > 0 {
        let (new, replies): (Vec<_>, Vec<_>) = coming.drain(..).map(|c| (c.new, c.reply)).unzip();
        match store.take_deliveries(&new).await {
            Ok(kept) => {
                for (reply, kept) in replies.into_iter().zip(kept) {
                    // Who asked may have gone; it is kept nonetheless.
                    drop(reply.send(Ok(kept)));
                }
            }
            // Each would only wait for it once more.
            Err(Error::Away(why)) => {
                for reply in replies {
                    drop(reply.send(Err(Error::Away(why.clone()))));
                }
            }
            // One that is not taken keeps no other from being kept.
            Err(_) => {
                for ((new, run), reply) in new.into_iter().zip(replies) {
                    drop(reply.send(store.take_delivery(new, run).await));
                }
            }
        }
    }
}
