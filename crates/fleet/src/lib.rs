//! Pools that start their own machines. [`provider`] is what every kind does; [`engine`], [`cluster`] and [`ci`] do it; [`manager`] keeps
//! one pool, and [`Fleet`] all of them.

pub mod ci;
pub mod cluster;
pub mod engine;
mod ground;
mod machine;
mod manager;
pub mod provider;

use std::{collections::HashMap, sync::Arc, time::Duration};

use kesmo_store::pools::{MachineRow, PoolRow};
use tokio::{
    sync::{Notify, watch},
    task::JoinHandle,
};

pub use ground::{Ground, Status};
use manager::Manager;
use provider::{Error, Known};

/// What is kept of pools is read so often; at once where this service changed it.
const EVERY: Duration = Duration::from_secs(1);

/// All pools that start machines.
#[derive(Clone)]
pub struct Fleet {
    ground: Ground,
    changed: Arc<Notify>,
}

impl Fleet {
    /// Keeps all pools until `ending` turns true. Their machines go on: whoever comes after finds them.
    #[must_use]
    pub fn start(ground: Ground, ending: watch::Receiver<bool>) -> (Self, JoinHandle<()>) {
        let fleet = Self { ground, changed: Arc::default() };
        let task = tokio::spawn(fleet.clone().keep(ending));
        (fleet, task)
    }

    async fn keep(self, mut ending: watch::Receiver<bool>) {
        let mut kept: HashMap<String, (watch::Sender<PoolRow>, JoinHandle<()>)> = HashMap::new();
        loop {
            match self.ground.store.pools().await {
                Ok(rows) => self.keep_those(&mut kept, rows),
                Err(e) => tracing::warn!("pools cannot be read, and are again soon: {e}"),
            }
            tokio::select! {
                () = self.changed.notified() => {}
                () = tokio::time::sleep(EVERY) => {}
                // A closed channel is a service that is ending too.
                _ = ending.wait_for(|ending| *ending) => break,
            }
        }
        for (_, (_, task)) in kept {
            task.abort();
        }
    }

    fn keep_those(&self, kept: &mut HashMap<String, (watch::Sender<PoolRow>, JoinHandle<()>)>, rows: Vec<PoolRow>) {
        // A pool may have come to be one whose workers are started by hand.
        let starts = |row: &PoolRow| row.pool().is_ok_and(|pool| pool.starts());
        kept.retain(|name, (_, task)| {
            if task.is_finished() {
                // It would leave runs waiting for nothing: it is begun anew from what is kept.
                tracing::error!(pool = name, "the manager of a pool has ended");
            }
            !task.is_finished() && rows.iter().any(|row| row.name == *name && starts(row))
        });
        for row in rows {
            let name = row.name.clone();
            if let Some((rows, _)) = kept.get(&name) {
                rows.send_if_modified(|known| {
                    let changed = *known != row;
                    *known = row;
                    changed
                });
                continue;
            }
            if !starts(&row) {
                continue;
            }
            match Manager::new(self.ground.clone(), row.clone()) {
                Ok(manager) => {
                    let (sender, rows) = watch::channel(row);
                    kept.insert(name, (sender, tokio::spawn(manager.keep(rows))));
                }
                Err(e) => tracing::warn!(pool = name, "the pool cannot be kept: {e}"),
            }
        }
    }

    /// Has pools read anew: one was changed.
    pub fn changed(&self) {
        self.changed.notify_one();
    }

    /// How a pool stands; none if this service does not keep it.
    #[must_use]
    pub fn status(&self, pool: &str) -> Option<Status> {
        self.ground.status(pool)
    }

    /// What a machine that has not ended printed so far; none where nobody can tell.
    ///
    /// # Errors
    /// If whoever runs it does not answer.
    pub async fn log(&self, row: &PoolRow, machine: &MachineRow) -> Result<Option<String>, Error> {
        let pool = row.pool().map_err(|e| Error::Refused(e.to_string()))?;
        let known = Known { id: machine.id, name: machine.name.clone(), handle: machine.handle.clone() };
        self.ground.provider(row, &pool)?.log(&known).await
    }
}
