//! Machines that are containers, through a container engine's API.

use std::path::Path;

use async_trait::async_trait;
use kesmo_core::fleet::EnginePool;
use kesmo_engine::{Engine, Error as EngineError, MachineSpec};
use tokio::sync::Mutex;

use crate::provider::{Error, Known, LONGEST_LOG, Provider, Standing, Start, Started};

/// Containers of a worker image.
pub struct Containers {
    pool: EnginePool,
    mark: String,
    /// The engine, once it answered.
    engine: Mutex<Option<Engine>>,
}

impl From<EngineError> for Error {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Away { .. } => Self::Away(error.to_string()),
            EngineError::Refused { .. } => Self::Refused(error.to_string()),
        }
    }
}

impl Containers {
    /// Containers of a pool's image, with the pool's mark.
    #[must_use]
    pub fn new(pool: EnginePool, mark: String) -> Self {
        Self { pool, mark, engine: Mutex::default() }
    }

    async fn engine(&self) -> Result<Engine, Error> {
        let mut known = self.engine.lock().await;
        if let Some(engine) = known.as_ref() {
            return Ok(engine.clone());
        }
        let engine = match (&self.pool.address, &self.pool.certificates) {
            (Some(address), Some(folder)) if address.starts_with("tcp://") => {
                Engine::with_certificates(address, Path::new(folder)).await?
            }
            (address, _) => Engine::find(address.as_deref()).await?.ok_or_else(|| {
                Error::Away(
                    "no container engine answers at the usual sockets of this machine: name one with --engine".into(),
                )
            })?,
        };
        *known = Some(engine.clone());
        Ok(engine)
    }

    /// What came of a call; an engine that went away is looked for anew the next time.
    async fn told<T>(&self, result: Result<T, EngineError>) -> Result<T, Error> {
        if matches!(result, Err(EngineError::Away { .. })) {
            *self.engine.lock().await = None;
        }
        Ok(result?)
    }
}

#[async_trait]
impl Provider for Containers {
    async fn start(&self, start: &Start) -> Result<Started, Error> {
        let spec = MachineSpec {
            name: start.name.clone(),
            mark: self.mark.clone(),
            image: self.pool.image.clone(),
            words: start.words.clone(),
            env: vec![("KESMO_URL".to_owned(), start.url.clone()), ("KESMO_TOKEN".to_owned(), start.token.clone())],
            network: self.pool.network.clone(),
            memory: self.pool.memory.map(|bytes| bytes.0),
            cpus: self.pool.cpus,
        };
        let engine = self.engine().await?;
        let handle = self.told(engine.start_machine(&spec).await).await.map_err(|e| match e {
            Error::Away(why) => Error::Unanswered(why),
            other => other,
        })?;
        Ok(Started { handle, link: None, said: "its container is starting".into() })
    }

    async fn look(&self, machines: &[Known]) -> Result<Vec<(i64, Standing)>, Error> {
        let seen = self.told(self.engine().await?.machines(&self.mark).await).await?;
        let standing = |machine: &Known| match seen.iter().find(|s| s.name == machine.name) {
            Some(seen) => match &seen.ended {
                Some(why) => Standing::Ended(why.clone()),
                None => Standing::Running("its container runs".into()),
            },
            None => Standing::Gone("its container is not there: somebody removed it, or it was never started".into()),
        };
        Ok(machines.iter().map(|machine| (machine.id, standing(machine))).collect())
    }

    async fn end(&self, machine: &Known) -> Result<(), Error> {
        let engine = self.engine().await?;
        // Engines know a container by its name as well.
        let id = machine.handle.as_deref().unwrap_or(&machine.name);
        self.told(engine.end_machine(id).await).await
    }

    async fn log(&self, machine: &Known) -> Result<Option<String>, Error> {
        let engine = self.engine().await?;
        let id = machine.handle.as_deref().unwrap_or(&machine.name);
        self.told(engine.printed(id, LONGEST_LOG).await).await.map(Some)
    }

    async fn clear(&self, keep: &[Known]) -> Result<usize, Error> {
        let engine = self.engine().await?;
        let mut cleared = 0;
        for seen in self.told(engine.machines(&self.mark).await).await? {
            if !keep.iter().any(|machine| machine.name == seen.name) {
                self.told(engine.end_machine(&seen.id).await).await?;
                cleared += 1;
            }
        }
        Ok(cleared)
    }
}
