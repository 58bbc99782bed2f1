//! A worker's home and its slots, told what to do: over a link, or by the program that holds it.

use std::{collections::HashMap, sync::Arc};

use kesmo_engine::Marks;
use kesmo_wire::link::{BatchKey, FromWorker, Grant, ListJob, ToWorker, WorkerEvent};
use tokio::sync::mpsc;

use crate::{
    address::Address,
    batch::{self, Fed, Order, Switches, Told, Tools},
    clock::random_mark,
    config::Config,
    error::Error,
    home::{Home, home_mark, take_home},
    process,
    reaching::Reaching,
    running::Trouble,
    source::Sources,
    uploads::Uploads,
    user::{RunAs, let_through},
};

enum Job {
    Batch(Box<Grant>, Told),
    List(Box<ListJob>),
}

/// Clears away what slots left that are not used any more.
pub struct Closing(Arc<Sources>);

impl Closing {
    /// Removes the containers that are left.
    pub async fn close(self) {
        self.0.images().close().await;
    }
}

/// A worker's slots. Dropping it ends everything that they started.
pub struct Slots {
    pub(crate) config: Config,
    pub(crate) address: Arc<Address>,
    /// Marks every process that is started here, and tells this worker from others of its name.
    pub(crate) mark: String,
    /// Tells this home from others, whichever process uses it.
    pub(crate) home_mark: String,
    /// What happens in the slots.
    pub(crate) coming: mpsc::Receiver<Vec<WorkerEvent>>,
    slots: Vec<mpsc::UnboundedSender<Job>>,
    sources: Arc<Sources>,
    /// Batches that were granted and are not forgotten, with what they are to do.
    switches: HashMap<BatchKey, Switches>,
    /// What attempts print that are followed; it may be lost.
    pub(crate) outputs: mpsc::Receiver<FromWorker>,
    /// Held as long as the slots are.
    _lock: Home,
}

impl Slots {
    /// Takes the home folder, clears away what a worker left there that was killed, and starts the slots.
    ///
    /// # Errors
    /// If the home folder cannot be used, or another worker uses it.
    pub async fn open(config: Config) -> Result<Self, Error> {
        let home = config.home.clone();
        std::fs::create_dir_all(home.join("batches")).map_err(|e| Error::file(&home, &e))?;
        let home = home.canonicalize().map_err(|e| Error::file(&home, &e))?;
        let lock = match &config.taken {
            Some(taken) => taken.clone(),
            None => take_home(&home)?.ok_or_else(|| Error::FolderTaken(home.display().to_string()))?,
        };
        let run_as = config.run_as.as_deref().map(RunAs::named).transpose()?;
        if let Some(user) = &run_as {
            std::fs::create_dir_all(home.join("sources")).map_err(|e| Error::file(&home, &e))?;
            for folder in [home.clone(), home.join("batches"), home.join("sources")] {
                let_through(&folder)?;
            }
            check_way(user, &home)?;
        }
        let address = Arc::new(Address::new(&config.url));
        let config = Config { home: home.clone(), ..config };
        process::become_subreaper();
        // A worker that was killed here may have left processes and files.
        let mark_path = home.join("mark");
        if let Ok(before) = std::fs::read_to_string(&mark_path) {
            let left = process::end_marked_of(before.trim()).await;
            if left > 0 {
                tracing::warn!("{left} processes of a worker that was killed were ended");
            }
        }
        let mark = random_mark();
        std::fs::write(&mark_path, &mark).map_err(|e| Error::file(&mark_path, &e))?;
        for old in std::fs::read_dir(home.join("batches")).map_err(|e| Error::file(&home, &e))?.flatten() {
            std::fs::remove_dir_all(old.path()).map_err(|e| Error::file(&old.path(), &e))?;
        }

        let home_mark = home_mark(&home)?;
        let client = config.trust.http().connect_timeout(std::time::Duration::from_secs(10)).build();
        let client = client.map_err(|e| Error::file(&home, &std::io::Error::other(e)))?;
        let marks = Marks { home: home_mark.clone(), work: mark.clone() };
        let sources = Sources::new(config.clone(), client.clone(), Arc::clone(&address), marks, run_as);
        let left = sources.images().clear_before().await;
        if left > 0 {
            tracing::warn!("{left} containers of a worker that was killed were removed");
        }
        let (sender, coming) = mpsc::channel(1024);
        let (output_sender, outputs) = mpsc::channel(64);
        let sources = Arc::new(sources);
        let reaching = Reaching::new(config.clone(), Arc::clone(&address), sender.clone());
        let tools = Tools {
            sources: Arc::clone(&sources),
            uploads: Uploads::new(client, &config, Arc::clone(&address)),
            events: sender,
            outputs: output_sender,
            home,
            worker: config.name.clone(),
            mark: mark.clone(),
            hearing: config.hearing.clone(),
            losses: Arc::default(),
            reaching,
        };
        let slots = (0..config.slots).map(|_| start_slot(tools.clone())).collect();
        Ok(Self {
            config,
            address,
            mark,
            home_mark,
            coming,
            slots,
            sources,
            switches: HashMap::new(),
            outputs,
            _lock: lock,
        })
    }

    /// What clears away after these slots, also when they are gone.
    #[must_use]
    pub fn closing(&self) -> Closing {
        Closing(Arc::clone(&self.sources))
    }

    /// What happened since the last time; waits until something does. Batches that ended are forgotten.
    pub async fn next(&mut self) -> Vec<WorkerEvent> {
        let mut events = self.coming.recv().await.unwrap_or_default();
        while let Ok(more) = self.coming.try_recv() {
            events.extend(more);
        }
        for event in &events {
            if let WorkerEvent::BatchEnded { key, .. } = event {
                self.forget(*key);
            }
        }
        events
    }

    /// Does what a service asks for; what is only about the link is passed over.
    pub fn tell(&mut self, message: ToWorker) {
        match message {
            ToWorker::Grant(grant) => {
                let (switches, told) = batch::switches(grant.sender.is_none());
                self.switches.insert(grant.key, switches);
                self.give(grant.slot, Job::Batch(grant, told));
            }
            ToWorker::List(job) => self.give(job.slot, Job::List(job)),
            ToWorker::Begin { key } => {
                if let Some(switches) = self.switches.get(&key) {
                    switches.begin.send_replace(true);
                }
            }
            ToWorker::Revoke { key } => self.order(key, Order::Revoke),
            ToWorker::GiveBack { key, from } => self.order(key, Order::GiveBack { from }),
            ToWorker::Feed { key, entries, last } => {
                if let Some(switches) = self.switches.get(&key)
                    && switches.feed.send(Fed { entries, last }).is_err()
                {
                    tracing::debug!("a process that has ended was fed");
                }
            }
            ToWorker::Follow { key, on } => {
                if let Some(switches) = self.switches.get(&key) {
                    switches.follow.send_replace(on);
                }
            }
            ToWorker::Welcome { .. }
            | ToWorker::Refused { .. }
            | ToWorker::Elsewhere { .. }
            | ToWorker::Later { .. }
            | ToWorker::Stored { .. }
            | ToWorker::Drain { .. }
            | ToWorker::Retire => {}
        }
    }

    /// The batches that were granted and are not forgotten.
    pub(crate) fn held(&self) -> impl Iterator<Item = BatchKey> {
        self.switches.keys().copied()
    }

    /// Those of them that are not let through yet.
    pub(crate) fn held_back(&self) -> impl Iterator<Item = BatchKey> {
        self.switches.iter().filter(|(_, switches)| !*switches.begin.borrow()).map(|(key, _)| *key)
    }

    pub(crate) fn forget(&mut self, batch: BatchKey) {
        self.switches.remove(&batch);
    }

    fn give(&self, slot: u16, job: Job) {
        match self.slots.get(usize::from(slot)) {
            Some(sender) if sender.send(job).is_ok() => {}
            _ => tracing::error!(slot, "work was given to a slot that is not here"),
        }
    }

    /// Orders only grow: a batch that is revoked stays so.
    fn order(&self, batch: BatchKey, new: Order) {
        if let Some(switches) = self.switches.get(&batch) {
            switches.order.send_if_modified(|order| {
                let more = new.outdoes(*order);
                if more {
                    *order = new;
                }
                more
            });
        }
    }
}

impl Drop for Slots {
    fn drop(&mut self) {
        process::kill_marked_of(&self.mark);
    }
}

fn start_slot(tools: Tools) -> mpsc::UnboundedSender<Job> {
    let (sender, mut jobs) = mpsc::unbounded_channel();
    tokio::spawn(async move {
        while let Some(job) = jobs.recv().await {
            match job {
                Job::Batch(grant, told) => batch::run(&tools, *grant, told).await,
                Job::List(job) => {
                    let event = list(&tools, &job).await;
                    if tools.events.send(vec![event]).await.is_err() {
                        return;
                    }
                }
            }
        }
    });
    sender
}

/// Makes sure that tests can come to where their files are.
fn check_way(user: &RunAs, home: &std::path::Path) -> Result<(), Error> {
    use std::os::unix::process::CommandExt;
    let mut way = std::process::Command::new("true");
    way.current_dir(home.join("sources")).uid(user.uid).gid(user.gid);
    way.status().map(drop).map_err(|e| {
        let (name, home) = (&user.name, home.display());
        Error::User(format!("{name}: this user cannot come to {home} ({e}): give a folder that it can, with --home"))
    })
}

async fn list(tools: &Tools, job: &ListJob) -> WorkerEvent {
    let mut made = tools.sources.ready(&job.setup).await;
    // An engine that went away may come back.
    for pause in [1, 3, 6] {
        if !matches!(made, Err(Trouble::Lost(_))) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_secs(pause)).await;
        made = tools.sources.ready(&job.setup).await;
    }
    let image = made.as_ref().ok().and_then(|ready| ready.around.image().cloned());
    let listed = async {
        let ready = made.map_err(Trouble::said)?;
        let mark = format!("{}-list-{}", tools.mark, &job.job[..8.min(job.job.len())]);
        let output = tools.sources.list(&ready, &job.setup, &mark).await.map_err(Trouble::said)?;
        tools.uploads.send(output).await
    };
    let result = listed.await;
    let (files, _) = tools.build_logs().await;
    WorkerEvent::Listed { job: job.job.clone(), result, image, files }
}
