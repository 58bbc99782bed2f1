//! Containers that are machines: started for a pool, looked at, and ended. They go on when whoever started them is gone, and are
//! found again by their pool's mark.

use std::collections::HashMap;

use bollard::{
    container::LogOutput,
    models::{ContainerCreateBody, ContainerSummaryStateEnum, HostConfig},
    query_parameters::{CreateContainerOptionsBuilder, ListContainersOptionsBuilder, LogsOptionsBuilder},
};
use futures::StreamExt;

use crate::engine::{Engine, Error};

const POOL: &str = "kesmo.pool";
const MACHINE: &str = "kesmo.machine";
/// Lines of what a container printed that are asked for.
const LINES: &str = "2000";

/// What a machine is made of.
#[derive(Debug, Clone, Default)]
pub struct MachineSpec {
    /// Its name, which is its container's too.
    pub name: String,
    /// Its pool's mark.
    pub mark: String,
    pub image: String,
    /// The words after the image's entry point.
    pub words: Vec<String>,
    pub env: Vec<(String, String)>,
    pub network: String,
    /// Bytes.
    pub memory: Option<u64>,
    /// Thousandths of a processor.
    pub cpus: Option<u32>,
}

/// A machine as an engine has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeenMachine {
    pub id: String,
    pub name: String,
    /// How it ended, in words, if it has.
    pub ended: Option<String>,
}

impl MachineSpec {
    fn body(&self, image: String) -> ContainerCreateBody {
        let labels = HashMap::from([(POOL.to_owned(), self.mark.clone()), (MACHINE.to_owned(), self.name.clone())]);
        let memory = self.memory.and_then(|bytes| i64::try_from(bytes).ok());
        ContainerCreateBody {
            image: Some(image),
            cmd: Some(self.words.clone()),
            env: Some(self.env.iter().map(|(name, value)| format!("{name}={value}")).collect()),
            labels: Some(labels),
            host_config: Some(HostConfig {
                network_mode: Some(self.network.clone()),
                memory,
                memory_swap: memory,
                nano_cpus: self.cpus.map(|thousandths| i64::from(thousandths) * 1_000_000),
                ..HostConfig::default()
            }),
            ..ContainerCreateBody::default()
        }
    }
}

impl Engine {
    /// Starts a machine; gives its container's name for the engine. One of its name that is there already is it: it was started
    /// before, and nobody heard.
    ///
    /// # Errors
    /// In the engine's own words if it cannot; if it cannot keep a limit that is asked for.
    pub async fn start_machine(&self, spec: &MachineSpec) -> Result<String, Error> {
        self.keeps("the pool's", spec.memory.is_some(), spec.cpus.is_some())?;
        let image = self.image(&spec.image, None).await?.digest;
        let cannot = format!("a container of {} could not be started", spec.image);
        let options = CreateContainerOptionsBuilder::default().name(&spec.name).build();
        let made = match self.docker.create_container(Some(options), spec.body(image)).await {
            Ok(made) => made.id,
            Err(bollard::errors::Error::DockerResponseServerError { status_code: 409, message }) => {
                let before = self.machines(&spec.mark).await?.into_iter().find(|m| m.name == spec.name);
                before.map(|m| m.id).ok_or(Error::Refused { what: cannot.clone(), said: message })?
            }
            Err(e) => return Err(self.failed(&cannot)(e)),
        };
        if let Err(e) = self.docker.start_container(&made, None).await {
            let error = self.failed(&cannot)(e);
            self.end_machine(&made).await?;
            return Err(error);
        }
        Ok(made)
    }

    /// The machines of a pool.
    ///
    /// # Errors
    /// If the engine does not answer.
    pub async fn machines(&self, mark: &str) -> Result<Vec<SeenMachine>, Error> {
        let filters = HashMap::from([("label".to_owned(), vec![format!("{POOL}={mark}")])]);
        let options = ListContainersOptionsBuilder::default().all(true).filters(&filters).build();
        let found = self.docker.list_containers(Some(options)).await;
        let mut seen = Vec::new();
        for container in found.map_err(self.failed("the pool's containers cannot be listed"))? {
            let name = container.labels.as_ref().and_then(|labels| labels.get(MACHINE)).cloned();
            let (Some(id), Some(name)) = (container.id, name) else { continue };
            let over =
                matches!(container.state, Some(ContainerSummaryStateEnum::EXITED | ContainerSummaryStateEnum::DEAD));
            let ended = if over { Some(self.how_it_ended(&id).await) } else { None };
            seen.push(SeenMachine { id, name, ended });
        }
        Ok(seen)
    }

    async fn how_it_ended(&self, id: &str) -> String {
        let state =
            self.docker.inspect_container(id, None).await.ok().and_then(|about| about.state).unwrap_or_default();
        match (state.oom_killed, state.exit_code, state.error.filter(|e| !e.is_empty())) {
            (Some(true), ..) => "its container was ended because the memory it may have was used up".to_owned(),
            (_, _, Some(error)) => format!("its container ended: {error}"),
            (_, Some(code), None) if code > 128 => format!("its container was ended by signal {}", code - 128),
            (_, Some(code), None) => format!("its container ended with status {code}"),
            (_, None, None) => "its container ended".to_owned(),
        }
    }

    /// Ends and removes a machine, whatever it does.
    ///
    /// # Errors
    /// If the engine does not answer.
    pub async fn end_machine(&self, id: &str) -> Result<(), Error> {
        self.remove(id).await
    }

    /// What a machine printed last.
    ///
    /// # Errors
    /// If the engine does not answer, or has no such container.
    pub async fn printed(&self, id: &str, most: usize) -> Result<String, Error> {
        let options = LogsOptionsBuilder::default().stdout(true).stderr(true).tail(LINES).build();
        let mut pieces = Box::pin(self.docker.logs(id, Some(options)));
        let mut text = Vec::new();
        while let Some(piece) = pieces.next().await {
            let (LogOutput::StdOut { message } | LogOutput::StdErr { message } | LogOutput::Console { message }) =
                piece.map_err(self.failed("what the container printed cannot be had"))?
            else {
                continue;
            };
            text.extend_from_slice(&message);
            if text.len() > 2 * most {
                text.drain(..text.len() - most);
            }
        }
        let from = text.len().saturating_sub(most);
        Ok(String::from_utf8_lossy(&text[from..]).into_owned())
    }
}
