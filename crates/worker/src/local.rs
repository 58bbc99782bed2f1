//! A worker without a link: the same slots, processes and readers, told what to do by the program that holds it.

use std::collections::HashMap;

use kesmo_wire::link::{BatchKey, ToWorker, WorkerEvent};
use tokio::sync::watch;

use crate::{
    Config, Error,
    batch::Order,
    link::{Job, Shop, open_shop},
    process,
};

/// A worker in this process. Ending it ends everything that it started.
pub struct Local {
    shop: Shop,
    orders: HashMap<BatchKey, watch::Sender<Order>>,
}

impl Local {
    /// Opens the worker's home and its slots. `config.local` says where bundles are and files go.
    ///
    /// # Errors
    /// If the home folder cannot be used.
    pub fn open(config: Config) -> Result<Self, Error> {
        Ok(Self { shop: open_shop(config)?, orders: HashMap::new() })
    }

    /// What happened since the last time; waits until something does.
    pub async fn next(&mut self) -> Vec<WorkerEvent> {
        let mut events = self.shop.coming.recv().await.unwrap_or_default();
        while let Ok(more) = self.shop.coming.try_recv() {
            events.extend(more);
        }
        for event in &events {
            if let WorkerEvent::BatchEnded { key, .. } = event {
                self.orders.remove(key);
            }
        }
        events
    }

    /// Does what a service would ask for over the link.
    pub fn tell(&mut self, message: ToWorker) {
        let (slot, job) = match message {
            ToWorker::Grant(grant) => {
                let (switch, order) = watch::channel(Order::GoOn);
                self.orders.insert(grant.key, switch);
                (grant.slot, Job::Batch(grant, order))
            }
            ToWorker::List(job) => (job.slot, Job::List(job)),
            ToWorker::Revoke { key } => return self.order(key, Order::Revoke),
            ToWorker::GiveBack { key } => return self.order(key, Order::GiveBack),
            ToWorker::Welcome { .. } | ToWorker::Refused { .. } | ToWorker::Stored { .. } => return,
        };
        match self.shop.slots.get(usize::from(slot)) {
            Some(sender) if sender.send(job).is_ok() => {}
            _ => tracing::error!(slot, "work was given to a slot that is not here"),
        }
    }

    fn order(&self, key: BatchKey, new: Order) {
        if let Some(switch) = self.orders.get(&key) {
            switch.send_if_modified(|order| {
                let more = *order < new;
                *order = new.max(*order);
                more
            });
        }
    }
}

impl Drop for Local {
    fn drop(&mut self) {
        process::kill_marked_of(&self.shop.mark);
    }
}
