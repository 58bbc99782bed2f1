//! Containers: started with their outputs attached, waited for, ended and removed.

use std::{path::Path, pin::Pin, time::Duration};

use bollard::{
    container::LogOutput,
    models::{ContainerCreateBody, ContainerStateStatusEnum, HostConfig},
    query_parameters::{
        AttachContainerOptionsBuilder, CreateContainerOptionsBuilder, RemoveContainerOptionsBuilder,
        WaitContainerOptions,
    },
};
use futures::StreamExt;
use tokio::{
    io::{AsyncRead, AsyncWrite, AsyncWriteExt},
    task::JoinHandle,
};

use crate::{
    engine::{Engine, Error, Marks, unlike},
    memory::{Watched, counted_after},
};

/// What a container's process reads.
pub type Input = Pin<Box<dyn AsyncWrite + Send>>;
/// What it prints.
pub type Output = Pin<Box<dyn AsyncRead + Send>>;

/// Bytes of an output that are held until they are read.
const HELD: usize = 64 << 10;
/// After a container ended, the rest of its outputs is waited for so long.
const REST: Duration = Duration::from_secs(5);
/// A container whose outputs are closed ends within this.
const OUTPUTS_FIRST: Duration = Duration::from_secs(1);
/// Memory that a container's processes may share (`/dev/shm`), in bytes: browsers fail with what engines give by themselves. Only
/// what is used is taken.
const SHARED: i64 = 1 << 30;

/// A folder of this machine that a container sees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mount {
    pub from: String,
    pub to: String,
}

/// What a container is made of.
#[derive(Debug, Clone, Default)]
pub struct Spec {
    /// The image, by its identity.
    pub image: String,
    pub words: Vec<String>,
    pub env: Vec<(String, String)>,
    pub folder: String,
    pub mounts: Vec<Mount>,
    /// A network of the engine, or `host` or `none`.
    pub network: String,
    /// Bytes.
    pub memory: Option<u64>,
    /// Thousandths of a processor.
    pub cpus: Option<u32>,
    /// The engine's small first process passes signals on and takes orphans.
    pub init: bool,
    /// It reads its standard input.
    pub fed: bool,
    pub marks: Marks,
}

/// How a container ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exit {
    /// The status of its process; above 128 the number of the signal that ended it and 128.
    pub code: i64,
    /// So many of its processes were ended because the memory it may have was used up; 1 also where only that is known.
    pub for_memory: u64,
}

/// A container that runs, with its outputs. Dropping it removes it.
pub struct Boxed {
    pub input: Option<Input>,
    pub out: Option<Output>,
    pub err: Option<Output>,
    engine: Engine,
    id: String,
    /// Its first process on this machine; 0 where that is not known.
    pid: i32,
    waiting: Option<JoinHandle<Result<Exit, Error>>>,
    removed: bool,
}

impl std::fmt::Debug for Boxed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Boxed({})", self.id)
    }
}

impl Spec {
    fn body(&self) -> ContainerCreateBody {
        let binds = self.mounts.iter().map(|mount| format!("{}:{}", mount.from, mount.to)).collect();
        let memory = self.memory.and_then(|bytes| i64::try_from(bytes).ok());
        ContainerCreateBody {
            image: Some(self.image.clone()),
            entrypoint: Some(self.words[..1].to_vec()),
            cmd: Some(self.words[1..].to_vec()),
            env: Some(self.env.iter().map(|(name, value)| format!("{name}={value}")).collect()),
            working_dir: Some(self.folder.clone()),
            labels: Some(self.marks.labels()),
            open_stdin: Some(self.fed),
            stdin_once: Some(self.fed),
            attach_stdin: Some(self.fed),
            attach_stdout: Some(true),
            attach_stderr: Some(true),
            host_config: Some(HostConfig {
                binds: Some(binds),
                network_mode: Some(self.network.clone()),
                memory,
                // What memory is used up is not to go to the disk instead.
                memory_swap: memory,
                nano_cpus: self.cpus.map(|thousandths| i64::from(thousandths) * 1_000_000),
                shm_size: Some(SHARED),
                init: Some(self.init),
                ..HostConfig::default()
            }),
            ..ContainerCreateBody::default()
        }
    }
}

impl Engine {
    /// Starts a container. `shown` names its image in errors.
    ///
    /// # Errors
    /// In the engine's own words if it cannot; if it cannot keep a limit that is asked for.
    pub async fn start(&self, spec: &Spec, shown: &str) -> Result<Boxed, Error> {
        self.keeps("[container]", spec.memory.is_some(), spec.cpus.is_some())?;
        let program = &spec.words[0];
        let cannot = format!("the command {program:?} could not be started in {shown}");
        let allowed = |c: char| if c.is_ascii_alphanumeric() || "_.-".contains(c) { c } else { '-' };
        let work: String = spec.marks.work.chars().map(allowed).collect();
        let name = format!("kesmo-{work}-{}", unlike());
        let options = CreateContainerOptionsBuilder::default().name(&name).build();
        let made = self.docker.create_container(Some(options), spec.body()).await.map_err(self.failed(&cannot))?;
        let mut boxed = Boxed {
            input: None,
            out: None,
            err: None,
            engine: self.clone(),
            id: made.id,
            pid: 0,
            waiting: None,
            removed: false,
        };
        match boxed.begin(spec.fed, &cannot).await {
            Ok(()) => Ok(boxed),
            Err(e) => {
                boxed.end().await;
                Err(e)
            }
        }
    }

    pub(crate) async fn remove(&self, id: &str) -> Result<(), Error> {
        let options = RemoveContainerOptionsBuilder::default().force(true).v(true).build();
        match self.docker.remove_container(id, Some(options)).await {
            // It is gone, or somebody is removing it.
            Ok(()) | Err(bollard::errors::Error::DockerResponseServerError { status_code: 404 | 409, .. }) => Ok(()),
            Err(e) => Err(self.failed("a container cannot be removed")(e)),
        }
    }
}

impl Boxed {
    async fn begin(&mut self, fed: bool, cannot: &str) -> Result<(), Error> {
        let (engine, id) = (self.engine.clone(), self.id.clone());
        let options =
            AttachContainerOptionsBuilder::default().stream(true).stdin(fed).stdout(true).stderr(true).build();
        let attached = engine.patient.attach_container(&id, Some(options)).await.map_err(self.engine.failed(cannot))?;
        engine.docker.start_container(&id, None).await.map_err(self.engine.failed(cannot))?;
        let (out, out_to) = tokio::io::duplex(HELD);
        let (err, err_to) = tokio::io::duplex(HELD);
        let carried = tokio::spawn(carry(attached.output, out_to, err_to));
        if fed {
            let (input, from) = tokio::io::duplex(HELD);
            tokio::spawn(hand_on(from, attached.input));
            self.input = Some(Box::pin(input));
        }
        self.out = Some(Box::pin(out));
        self.err = Some(Box::pin(err));
        // One that has ended already has no process.
        let about = engine.docker.inspect_container(&id, None).await.ok().and_then(|about| about.state);
        let watched = about.and_then(|state| Watched::of(state.pid?, &id));
        let early = if watched.is_none() { counted_after(&id, Path::new("/sys/fs/cgroup")) } else { 0 };
        self.pid = watched.as_ref().map_or(0, |w| w.pid);
        self.waiting = Some(tokio::spawn(async move { engine.end_of(&id, watched, early, carried).await }));
        Ok(())
    }

    /// Its first process on this machine, where it is known.
    #[must_use]
    pub fn pid(&self) -> Option<i32> {
        (self.pid > 0).then_some(self.pid)
    }

    /// Its name for the engine.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Waits until it has ended and its outputs are read to their end. It may be given up and called again, but not after it
    /// answered.
    ///
    /// # Errors
    /// If the engine goes away, or the container was removed by somebody else.
    pub async fn wait(&mut self) -> Result<Exit, Error> {
        let Some(waiting) = &mut self.waiting else {
            return Err(Error::Away { at: self.engine.at.to_string(), why: "its end was told before".into() });
        };
        let ended = waiting.await;
        self.waiting = None;
        ended.unwrap_or_else(|e| Err(Error::Away { at: self.engine.at.to_string(), why: e.to_string() }))
    }

    /// Ends and removes it, with all its processes.
    pub async fn end(&mut self) {
        self.removed = true;
        if let Err(e) = self.engine.remove(&self.id).await {
            tracing::warn!("a container is removed later: {e}");
            self.engine.remove_later(self.id.clone());
        }
    }
}

impl Boxed {
    /// Has it ended and removed while its worker goes on.
    pub fn end_beside(&mut self) {
        if self.removed || tokio::runtime::Handle::try_current().is_err() {
            return;
        }
        self.removed = true;
        self.engine.remove_later(self.id.clone());
    }
}

impl Drop for Boxed {
    fn drop(&mut self) {
        self.end_beside();
    }
}

impl Engine {
    /// Waits for the end of a container and of its outputs.
    async fn end_of(
        &self,
        id: &str,
        watched: Option<Watched>,
        early: u64,
        mut carried: JoinHandle<()>,
    ) -> Result<Exit, Error> {
        let mut read = false;
        let mut for_memory = early;
        if let Some(watched) = watched {
            let ended = watched.ended_for_memory();
            tokio::pin!(ended);
            for_memory = tokio::select! {
                count = &mut ended => count,
                _ = &mut carried => {
                    read = true;
                    // Outputs are open as long as the container runs, whatever its processes close: the engine went away.
                    let why = "it closed the outputs of a container that still runs";
                    let gone = |_| Error::Away { at: self.at.to_string(), why: why.to_owned() };
                    tokio::time::timeout(OUTPUTS_FIRST, &mut ended).await.map_err(gone)?
                }
            };
        }
        let (code, said) = self.status(id).await?;
        if !read && tokio::time::timeout(REST, carried).await.is_err() {
            tracing::debug!("a container's outputs were not closed");
        }
        Ok(Exit { code, for_memory: for_memory.max(said) })
    }

    /// The status of a container that has ended or will, and what the engine says of its memory. Some engines look for its end
    /// only now and then where they are asked to wait for it.
    async fn status(&self, id: &str) -> Result<(i64, u64), Error> {
        let looked = || async {
            let about = match self.docker.inspect_container(id, None).await {
                Ok(about) => about,
                // Some engines have a word of their own for one that has ended and is not cleared up yet.
                Err(bollard::errors::Error::JsonDataError { .. }) => return Ok(None),
                Err(e) => return Err(self.failed("a container cannot be looked at")(e)),
            };
            let state = about.state.unwrap_or_default();
            let over = matches!(state.status, Some(ContainerStateStatusEnum::EXITED | ContainerStateStatusEnum::DEAD));
            let memory = u64::from(state.oom_killed.unwrap_or(false));
            Ok::<_, Error>(over.then(|| (state.exit_code.unwrap_or(-1), memory)))
        };
        for pause in [0, 10, 20, 40, 80, 80, 80, 80] {
            tokio::time::sleep(Duration::from_millis(pause)).await;
            if let Some(status) = looked().await? {
                return Ok(status);
            }
        }
        let code = self.wait(id).await?;
        Ok((code, looked().await?.map_or(0, |(_, memory)| memory)))
    }

    async fn wait(&self, id: &str) -> Result<i64, Error> {
        let mut told = Box::pin(self.patient.wait_container(id, None::<WaitContainerOptions>));
        match told.next().await {
            Some(Ok(ended)) => Ok(ended.status_code),
            Some(Err(bollard::errors::Error::DockerContainerWaitError { code, error })) if error.is_empty() => Ok(code),
            Some(Err(e)) => Err(self.failed("the container's end is not known")(e)),
            None => Err(Error::Away { at: self.at.to_string(), why: "it closed the connection".into() }),
        }
    }
}

/// Hands on what a container is to read, and then that there is no more.
async fn hand_on(mut from: impl AsyncRead + Unpin, mut to: Input) {
    if let Err(e) = tokio::io::copy(&mut from, &mut to).await {
        // Whoever writes sees that it is read no more, as its end is gone then.
        tracing::debug!("a container's input was closed: {e}");
    }
    if let Err(e) = to.shutdown().await {
        tracing::debug!("a container's input was closed: {e}");
    }
}

/// Carries what a container prints to where it is read. What nobody reads any more is passed over.
async fn carry(
    mut from: Pin<Box<dyn futures::Stream<Item = Result<LogOutput, bollard::errors::Error>> + Send>>,
    mut out: impl AsyncWrite + Unpin,
    mut err: impl AsyncWrite + Unpin,
) {
    while let Some(piece) = from.next().await {
        let written = match piece {
            Ok(LogOutput::StdErr { message }) => err.write_all(&message).await,
            Ok(LogOutput::StdOut { message } | LogOutput::Console { message }) => out.write_all(&message).await,
            Ok(LogOutput::StdIn { .. }) => Ok(()),
            Err(e) => return tracing::debug!("a container's outputs ended: {e}"),
        };
        if written.is_err() {
            tracing::trace!("nobody reads an output");
        }
    }
}
