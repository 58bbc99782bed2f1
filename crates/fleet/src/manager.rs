//! Keeps one pool: asks what waits, has the core decide how many machines there are to be, and brings that about.
//!
//! Nothing here waits for an engine, a cluster or a CI server: each call is a task of its own, whose answer comes back as a [`Done`].
//! A machine has a row before it is asked for, so that a service that was killed finds what it started.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};

use kesmo_core::{
    fleet::{self, Decision, Demand, Limits, Pool},
    time::{Span, Timestamp},
};
use kesmo_files::secret::{hash, new_token};
use kesmo_floor::{Says, WaitingRun, Waits, Working, now};
use kesmo_store::pools::{MachineChange, PoolRow};
use kesmo_wire::{Digest, api::MachineState};
use tokio::{sync::watch, task::JoinSet, time::Instant};

use crate::{
    ground::{Ground, Status},
    machine::{DONE, Machine, NEVER_NEEDED, UNNEEDED},
    provider::{Error, Known, Provider, Standing, Start, Started},
};

/// A pool is looked at so often, and its machines where they run.
const EVERY: Duration = Duration::from_millis(200);
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Whether another service still keeps the pool is asked so often.
const ELSEWHERE_EVERY: Duration = Duration::from_secs(1);
/// What the pool's mark is on and no machine is cleared away so often.
const CLEAR_EVERY: Duration = Duration::from_secs(60);
/// A worker that has nothing to do and was told to end is ended where it runs after this.
const LEAVES_WITHIN: Span = Span::seconds(3);
/// A machine whose worker is not known here has gone by itself after this; after a restart of the service its patience goes on top.
const MISSED_AFTER: Span = Span::seconds(2);
/// A machine that is not there so long after it was asked for is gone.
const SETTLED: Span = Span::seconds(5);
/// A machine whose worker has left is looked at so many times, with a pause after each, until it has ended by itself.
const LAST_WORDS: u32 = 12;
const LAST_WORDS_EVERY: Duration = Duration::from_millis(250);
/// A pause between two tries to end a machine.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
/// The starts that what a start takes is learnt from.
const LEARNT_FROM: i64 = 20;

/// What a task did.
enum Done {
    Asked(i64, Result<Started, Error>),
    Looked(Result<Vec<(i64, Standing)>, Error>),
    /// A machine was ended; what it printed is kept under this digest.
    Ended(i64, Option<String>),
    Cleared(Result<usize, Error>),
}

/// Keeps a pool until its row is gone.
pub struct Manager {
    ground: Ground,
    name: String,
    row: PoolRow,
    pool: Pool,
    provider: Arc<dyn Provider>,
    machines: BTreeMap<i64, Machine>,
    /// The machines that are kept were read.
    loaded: bool,
    loaded_at: Timestamp,
    /// What starts took, in seconds, newest last.
    starts: Vec<f64>,
    failures: u32,
    failed_at: Option<Timestamp>,
    trouble: Option<String>,
    /// Why its machines could not be looked at.
    away: Option<String>,
    /// What is expected of runs whose tests are not known yet.
    guessed: HashMap<i64, Option<Demand>>,
    looked: Option<Instant>,
    looking: bool,
    /// When it was seen last that another service keeps the pool.
    elsewhere: Option<Instant>,
    cleared: Option<Instant>,
    tasks: JoinSet<Done>,
}

impl Manager {
    /// A manager for a pool.
    ///
    /// # Errors
    /// If nothing can be started in it.
    pub fn new(ground: Ground, row: PoolRow) -> Result<Self, Error> {
        let pool = row.pool().map_err(|e| Error::Refused(e.to_string()))?;
        let provider = ground.provider(&row, &pool)?;
        Ok(Self {
            ground,
            name: row.name.clone(),
            row,
            pool,
            provider,
            machines: BTreeMap::new(),
            loaded: false,
            loaded_at: now(),
            starts: Vec::new(),
            failures: 0,
            failed_at: None,
            trouble: None,
            away: None,
            guessed: HashMap::new(),
            looked: None,
            looking: false,
            elsewhere: None,
            cleared: None,
            tasks: JoinSet::new(),
        })
    }

    /// Keeps the pool until `rows` closes: its row is gone.
    pub async fn keep(mut self, mut rows: watch::Receiver<PoolRow>) {
        let mut tick = tokio::time::interval(EVERY);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = tick.tick() => {}
                Some(done) = self.tasks.join_next() => match done {
                    Ok(done) => self.done(done).await,
                    Err(e) => tracing::error!(pool = self.name, "a call of a pool ended badly: {e}"),
                },
                changed = rows.changed() => match changed {
                    Ok(()) => {
                        let row = rows.borrow_and_update().clone();
                        self.take_row(row);
                    }
                    Err(_) => break,
                },
            }
            self.step().await;
        }
        self.ground.floor.pool_says(&self.name, None).await;
        self.ground.forget(&self.name);
    }

    /// The pool was described anew. Where its machines run stays the same as long as it has some.
    fn take_row(&mut self, row: PoolRow) {
        let read = row.pool().map_err(|e| Error::Refused(e.to_string()));
        match read.and_then(|pool| Ok((self.ground.provider(&row, &pool)?, pool))) {
            Ok((provider, pool)) => {
                (self.row, self.pool, self.provider) = (row, pool, provider);
                // Somebody mended it: it need not wait any longer.
                (self.failures, self.failed_at, self.trouble) = (0, None, None);
            }
            Err(e) => self.trouble = Some(e.to_string()),
        }
    }

    async fn step(&mut self) {
        if self.elsewhere.is_some_and(|at| at.elapsed() < ELSEWHERE_EVERY) {
            return;
        }
        let claim = self.pool.least > 0 || self.row.leaving || !self.loaded || !self.machines.is_empty();
        let Some(waits) = self.ground.floor.waits(&self.name, claim).await else {
            // Another service keeps it, and this one knows nothing of it.
            if self.loaded {
                (self.loaded, self.machines) = (false, BTreeMap::new());
                self.tasks.abort_all();
                self.looking = false;
            }
            self.ground.floor.pool_says(&self.name, None).await;
            self.ground.forget(&self.name);
            self.elsewhere = Some(Instant::now());
            return;
        };
        self.elsewhere = None;
        if !self.loaded
            && let Err(e) = self.load().await
        {
            self.trouble = Some(format!("what is known of its machines cannot be read: {e}"));
            return;
        }
        let stamp = now();
        self.meet(&waits.workers, stamp);
        self.judge(stamp).await;
        let decision = self.decide(&waits, stamp).await;
        self.carry_out(&decision, &waits, stamp).await;
        self.look();
        self.tell(&decision, &waits).await;
        self.write().await;
    }

    async fn load(&mut self) -> Result<(), kesmo_store::Error> {
        let open = self.ground.store.open_machines(&self.name).await?;
        self.starts = self.ground.store.starts_of_pool(&self.name, LEARNT_FROM).await?;
        self.starts.reverse();
        self.machines = open.into_iter().map(|row| (row.id, Machine::new(row))).collect();
        // What was to be asked for, or to be ended, when a service was killed.
        let mut being_ended = Vec::new();
        for (id, machine) in &mut self.machines {
            match machine.state {
                MachineState::Asked => machine.turn(MachineState::Coming),
                MachineState::Leaving => {
                    machine.ending = machine.ending_of_row();
                    machine.leaving = machine.ending.is_none().then(now);
                    being_ended.extend(machine.ending.is_some().then_some(*id));
                }
                _ => {}
            }
        }
        for id in being_ended {
            self.end_there(id);
        }
        (self.loaded, self.loaded_at) = (true, now());
        Ok(())
    }

    /// Which of its machines' workers are here.
    fn meet(&mut self, workers: &[Working], stamp: Timestamp) {
        let mut came = Vec::new();
        for machine in self.machines.values_mut().filter(|m| m.is_there()) {
            let worker = workers.iter().find(|w| w.name == machine.row.name);
            if worker.is_some_and(|w| w.connected)
                && matches!(machine.state, MachineState::Asked | MachineState::Coming)
            {
                machine.turn(MachineState::Up);
                machine.row.up_at = Some(chrono::Utc::now());
                machine.say("its worker is here");
                came.push(stamp.since(machine.asked_at).as_seconds());
            }
            match (worker, machine.state) {
                (None, MachineState::Up | MachineState::Leaving) => {
                    machine.missing.get_or_insert(stamp);
                }
                _ => machine.missing = None,
            }
        }
        if !came.is_empty() {
            (self.failures, self.failed_at, self.trouble) = (0, None, None);
            self.starts.extend(came);
            let beyond = self.starts.len().saturating_sub(LEARNT_FROM as usize);
            self.starts.drain(..beyond);
        }
    }

    /// Which of its machines have gone, or will not come.
    async fn judge(&mut self, stamp: Timestamp) {
        let grace = if stamp.since(self.loaded_at) < Span::seconds(30) {
            Span(self.ground.floor.patience.as_micros() as u64) + MISSED_AFTER
        } else {
            MISSED_AFTER
        };
        let mut over: Vec<(i64, MachineState, String)> = Vec::new();
        for (id, machine) in self.machines.iter().filter(|(_, m)| m.is_there()) {
            let ended = match &machine.standing {
                Some(Standing::Ended(why)) => Some(why.clone()),
                // Who has just been asked may not know it everywhere yet.
                Some(Standing::Gone(why)) if stamp.since(machine.asked_at) >= SETTLED => Some(why.clone()),
                _ => None,
            };
            let missing = machine.missing.map(|since| stamp.since(since));
            match (machine.state, ended, missing) {
                (MachineState::Coming, Some(why), _) => over.push((*id, MachineState::Failed, why)),
                (MachineState::Up, Some(why), Some(_)) => over.push((*id, MachineState::Failed, why)),
                (MachineState::Up, None, Some(missing)) if missing >= grace => {
                    over.push((*id, MachineState::Failed, "its worker went away".into()));
                }
                // It left as it was told to.
                (MachineState::Leaving, _, Some(_)) => {
                    over.push((*id, MachineState::Ended, DONE.into()));
                }
                _ => {}
            }
        }
        for (id, state, why) in over {
            self.end(id, state, why).await;
        }
    }

    /// How many machines there are to be.
    async fn decide(&mut self, waits: &Waits, stamp: Timestamp) -> Decision {
        let mut demands = Vec::new();
        for run in &waits.runs {
            if !self.fits(run) {
                continue;
            }
            demands.push(self.demand_of(run).await);
        }
        self.guessed.retain(|id, _| waits.runs.iter().any(|run| run.id == *id));
        let working = |name: &str| waits.workers.iter().find(|w| w.name == name);
        let counted = self.machines.values().filter(|m| m.is_there() && m.state != MachineState::Leaving);
        let mut machines: Vec<fleet::Machine> = counted
            .map(|machine| {
                let state = match (machine.state, working(&machine.row.name)) {
                    (MachineState::Asked | MachineState::Coming, _) => fleet::State::Coming(machine.asked_at),
                    (_, Some(worker)) if worker.connected && !worker.busy => fleet::State::Idle(worker.idle_since),
                    // One that is away may come back with what it holds.
                    _ => fleet::State::Busy,
                };
                fleet::Machine { id: machine.row.id as u64, state }
            })
            .collect();
        // Workers that somebody started by hand help, and are not for this to end.
        let others = waits.workers.iter().filter(|w| {
            w.connected && !w.draining && !self.machines.values().any(|machine| machine.row.name == w.name)
        });
        machines
            .extend((0..others.count() as u64).map(|n| fleet::Machine { id: u64::MAX - n, state: fleet::State::Busy }));
        let limits = Limits {
            least: self.pool.least,
            most: self.pool.most,
            slots: self.pool.slots.into(),
            idle: self.pool.idle,
            start: self.usual_start(),
            failures: self.failures,
            failed_at: self.failed_at,
        };
        if self.row.leaving {
            let end = machines.iter().map(|machine| machine.id).collect();
            return Decision { end, why: "it is being removed".into(), ..Decision::default() };
        }
        fleet::decide(&limits, &demands, &machines, stamp)
    }

    /// Whether its machines may carry out some of a run.
    fn fits(&self, run: &WaitingRun) -> bool {
        run.needs.iter().any(|needs| self.pool.offers_all(needs))
    }

    /// What a run wants. Of one whose tests are not listed yet, what the last one like it took.
    async fn demand_of(&mut self, run: &WaitingRun) -> Demand {
        if run.is_listed {
            return run.demand;
        }
        if !self.guessed.contains_key(&run.id) {
            let last = self.ground.store.last_like(run.id).await;
            let last = last.unwrap_or_else(|e| {
                tracing::warn!("what a run like it took cannot be read: {e}");
                None
            });
            let guessed =
                last.map(|last| Demand { work: last.total, longest: last.longest, slots: last.entries, ..run.demand });
            self.guessed.insert(run.id, guessed);
        }
        self.guessed.get(&run.id).copied().flatten().unwrap_or(run.demand)
    }

    fn usual_start(&self) -> Option<Span> {
        let mut sorted = self.starts.clone();
        sorted.sort_by(f64::total_cmp);
        sorted.get(sorted.len() / 2).map(|seconds| Span((seconds * 1e6) as u64))
    }

    async fn carry_out(&mut self, decision: &Decision, waits: &Waits, stamp: Timestamp) {
        let mut retire = Vec::new();
        let ids = decision.end.iter().filter_map(|id| i64::try_from(*id).ok());
        for id in ids.collect::<Vec<_>>() {
            let Some(machine) = self.machines.get_mut(&id) else { continue };
            if machine.ending.is_some() || machine.state == MachineState::Leaving {
                continue;
            }
            match machine.state {
                MachineState::Up => {
                    machine.turn(MachineState::Leaving);
                    machine.say(UNNEEDED);
                    machine.leaving = Some(stamp);
                    retire.push(machine.row.name.clone());
                }
                // Its worker has come since, and may have been given a test: it is up then, and is asked to leave.
                _ if !self.ground.floor.turn_away(&machine.row.name).await => {}
                _ if decision.given_up.contains(&(id as u64)) => {
                    let took = stamp.since(machine.asked_at);
                    let said = machine.row.said.clone();
                    let why = format!("it did not come up within {took}; the last that was said of it: {said}");
                    self.end(id, MachineState::Failed, why).await;
                }
                _ => self.end(id, MachineState::Ended, NEVER_NEEDED.into()).await,
            }
        }
        // One whose link was down when it was told comes back as if it had not been.
        let untold = |machine: &&Machine| {
            let takes = |w: &Working| w.name == machine.row.name && w.connected && !w.draining;
            machine.leaving.is_some_and(|since| since < stamp) && waits.workers.iter().any(takes)
        };
        retire.extend(self.machines.values().filter(untold).map(|machine| machine.row.name.clone()));
        if !retire.is_empty() {
            self.ground.floor.retire(retire).await;
        }
        // Who was told to end and has nothing to do any more, and does not end.
        let stuck = |machine: &Machine| {
            let idle = waits.workers.iter().any(|w| w.name == machine.row.name && !w.busy);
            machine.is_there() && idle && machine.leaving.is_some_and(|since| stamp.since(since) >= LEAVES_WITHIN)
        };
        let stuck: Vec<i64> = self.machines.iter().filter(|(_, m)| stuck(m)).map(|(id, _)| *id).collect();
        for id in stuck {
            self.end(id, MachineState::Ended, DONE.into()).await;
        }
        for _ in 0..decision.start {
            if !self.ask(waits).await {
                break;
            }
        }
    }

    /// Asks for a machine, once it is noted that it is.
    async fn ask(&mut self, waits: &Waits) -> bool {
        // Before the service listens it cannot be reached; a machine that was noted by then would wait for nobody.
        let Some(url) = self.pool.url.clone().or_else(|| self.ground.address()) else { return false };
        let token = new_token();
        let hash = hash(&token);
        let run = waits.runs.iter().find(|run| self.fits(run));
        let asked = self.ground.store.ask_machine(&self.name, run.map(|run| run.id), &hash, MachineState::Asked.word());
        let row = match asked.await {
            Ok(Some(row)) => row,
            // It was removed meanwhile.
            Ok(None) => return false,
            Err(e) => {
                self.trouble = Some(format!("a machine cannot be asked for: {e}"));
                return false;
            }
        };
        let start = Start {
            name: row.name.clone(),
            words: self.pool.command(&self.name),
            url,
            token,
            run: run.map(|run| run.name.clone()),
        };
        tracing::info!(pool = self.name, machine = row.name, run = start.run, "a machine is asked for");
        let (provider, id) = (Arc::clone(&self.provider), row.id);
        self.machines.insert(id, Machine::new(row));
        self.tasks.spawn(async move { Done::Asked(id, provider.start(&start).await) });
        true
    }

    /// Ends a machine where it runs, and keeps what it printed. What came of it is told once that is done.
    async fn end(&mut self, id: i64, state: MachineState, why: String) {
        let Some(machine) = self.machines.get_mut(&id) else { return };
        machine.say(&why);
        let name = machine.row.name.clone();
        let (was_asked, run) = (machine.state == MachineState::Asked, machine.row.run_id);
        machine.turn(MachineState::Leaving);
        machine.ending = Some(state);
        if state == MachineState::Failed {
            let handle = machine.row.handle.clone();
            tracing::warn!(pool = self.name, machine = name, "{why}");
            self.failed(&name, handle.as_deref(), run, &why).await;
        } else {
            tracing::info!(pool = self.name, machine = name, "{why}");
        }
        // What is being asked for is ended once there is an answer.
        if !was_asked {
            self.end_there(id);
        }
    }

    fn end_there(&mut self, id: i64) {
        let Some(machine) = self.machines.get(&id) else { return };
        // One whose worker left as it was told to has some last words, and ends by itself.
        let orderly = machine.missing.is_some() && machine.ending == Some(MachineState::Ended);
        let known = machine.known();
        let (provider, blobs, pool) = (Arc::clone(&self.provider), self.ground.blobs.clone(), self.name.clone());
        self.tasks.spawn(async move {
            let over = async || {
                let seen = provider.look(std::slice::from_ref(&known)).await.unwrap_or_default();
                seen.iter().any(|(_, standing)| matches!(standing, Standing::Ended(_) | Standing::Gone(_)))
            };
            for _ in 0..if orderly { LAST_WORDS } else { 0 } {
                if over().await {
                    break;
                }
                tokio::time::sleep(LAST_WORDS_EVERY).await;
            }
            let log = match provider.log(&known).await {
                Ok(log) => log.filter(|log| !log.is_empty()),
                Err(e) => {
                    tracing::debug!(pool, machine = known.name, "what it printed is not kept: {e}");
                    None
                }
            };
            let mut kept = None;
            if let Some(log) = log {
                let digest = Digest::of(log.as_bytes());
                kept = blobs.take(&digest, log.as_bytes()).await.ok().map(|_| digest.to_string());
            }
            let mut pause = FIRST_PAUSE;
            loop {
                match provider.end(&known).await {
                    Ok(()) => return Done::Ended(known.id, kept),
                    // It will be the same the next time; whatever runs there has no token any more.
                    Err(Error::Refused(why)) => {
                        tracing::warn!(pool, machine = known.name, "it could not be ended: {why}");
                        return Done::Ended(known.id, kept);
                    }
                    Err(Error::Away(why) | Error::Unanswered(why)) => {
                        tracing::warn!(pool, machine = known.name, "it is ended later: {why}");
                    }
                }
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(LONGEST_PAUSE);
            }
        });
    }

    /// A machine did not come, or went away by itself.
    async fn failed(&mut self, name: &str, handle: Option<&str>, run: Option<i64>, why: &str) {
        let what = self.pool.how.machine();
        let called = handle.filter(|h| h.len() <= 40).unwrap_or(name);
        let said = format!("{what} {called} of the pool {}: {why}", self.name);
        self.trouble = Some(format!("{what} {called}: {why}"));
        self.failures += 1;
        self.failed_at = Some(now());
        if let Some(run) = run {
            self.ground.floor.remark(vec![run], said).await;
        }
    }

    async fn done(&mut self, done: Done) {
        match done {
            Done::Asked(id, result) => self.asked(id, result).await,
            Done::Looked(result) => {
                self.looking = false;
                match result {
                    Ok(all) => {
                        self.away = None;
                        self.looked_at(all);
                    }
                    Err(e) => self.away = Some(e.to_string()),
                }
            }
            Done::Ended(id, log) => {
                let Some(machine) = self.machines.get_mut(&id) else { return };
                machine.turn(machine.ending.unwrap_or(MachineState::Ended));
                machine.row.log = log;
                machine.row.ended_at = Some(chrono::Utc::now());
                machine.changed = true;
            }
            Done::Cleared(Ok(0)) => {}
            Done::Cleared(Ok(count)) => {
                tracing::warn!(pool = self.name, "{count} machines that nobody knew were ended");
            }
            Done::Cleared(Err(e)) => tracing::debug!(pool = self.name, "nothing was cleared away: {e}"),
        }
    }

    async fn asked(&mut self, id: i64, result: Result<Started, Error>) {
        let Some(machine) = self.machines.get_mut(&id) else { return };
        match result {
            Ok(started) => {
                machine.row.handle = Some(started.handle);
                machine.row.link = started.link;
                machine.changed = true;
                if machine.ending.is_some() {
                    return self.end_there(id);
                }
                if machine.state == MachineState::Asked {
                    machine.turn(MachineState::Coming);
                    machine.say(&started.said);
                }
                self.looked = None;
            }
            // It may be there: it is over once whoever was asked has answered that it is not.
            Err(Error::Unanswered(why)) => {
                let already = machine.ending.is_some();
                let (name, run) = (machine.row.name.clone(), machine.row.run_id);
                machine.say(&why);
                // Should it come from now on, its worker is given nothing. If it has come, it was started.
                if !already && !self.ground.floor.turn_away(&name).await {
                    if machine.state == MachineState::Asked {
                        machine.turn(MachineState::Coming);
                    }
                    return;
                }
                machine.ending.get_or_insert(MachineState::Failed);
                machine.turn(MachineState::Leaving);
                if !already {
                    tracing::warn!(
                        pool = self.name,
                        machine = name,
                        "whether a machine was started is not known: {why}"
                    );
                    self.failed(&name, None, run, &why).await;
                }
                self.end_there(id);
            }
            Err(e) => {
                let already = machine.ending.take();
                let (name, run) = (machine.row.name.clone(), machine.row.run_id);
                machine.say(&e.to_string());
                machine.turn(already.unwrap_or(MachineState::Failed));
                machine.row.ended_at = Some(chrono::Utc::now());
                machine.changed = true;
                if already.is_none() {
                    tracing::warn!(pool = self.name, machine = name, "a machine could not be started: {e}");
                    self.failed(&name, None, run, &e.to_string()).await;
                }
            }
        }
    }

    fn looked_at(&mut self, all: Vec<(i64, Standing)>) {
        for (id, standing) in all {
            let Some(machine) = self.machines.get_mut(&id).filter(|m| m.ending.is_none()) else { continue };
            if machine.state == MachineState::Coming
                && let Standing::Coming(said) | Standing::Running(said) | Standing::Unknown(said) = &standing
            {
                machine.say(said);
            }
            // What could not be told changes nothing of what was.
            if !matches!(standing, Standing::Unknown(_)) {
                machine.standing = Some(standing);
            }
        }
    }

    /// Has its machines looked at where they run, and what is none of them cleared away, beside.
    fn look(&mut self) {
        let due = |at: Option<Instant>, every: Duration| at.is_none_or(|at| at.elapsed() >= every);
        let kept = self.machines.values().filter(|m| m.row.ended_at.is_none());
        let known: Vec<Known> = kept.map(Machine::known).collect();
        if !self.looking && !known.is_empty() && due(self.looked, LOOK_EVERY) {
            (self.looking, self.looked) = (true, Some(Instant::now()));
            let wanted = self.machines.values().filter(|m| m.is_there() && m.state != MachineState::Asked);
            let wanted: Vec<Known> = wanted.map(Machine::known).collect();
            let provider = Arc::clone(&self.provider);
            self.tasks.spawn(async move { Done::Looked(provider.look(&wanted).await) });
        }
        // Only while nothing is being started, which may be there before it is known.
        let asking = self.machines.values().any(|m| m.state == MachineState::Asked);
        if !asking && due(self.cleared, CLEAR_EVERY) {
            self.cleared = Some(Instant::now());
            let provider = Arc::clone(&self.provider);
            self.tasks.spawn(async move { Done::Cleared(provider.clear(&known).await) });
        }
    }

    /// What the pool says of itself: to runs that wait, and to whoever looks at it.
    async fn tell(&self, decision: &Decision, waits: &Waits) {
        let coming: Vec<&Machine> = self
            .machines
            .values()
            .filter(|m| m.is_there() && matches!(m.state, MachineState::Asked | MachineState::Coming))
            .collect();
        let trouble = self.away.as_ref().or(self.trouble.as_ref());
        let says = match (coming.first(), trouble) {
            (Some(first), _) => {
                let what = self.pool.how.machine();
                let called = first.row.handle.as_deref().filter(|h| h.len() <= 40).unwrap_or(&first.row.name);
                let link = first.row.link.as_ref().map(|link| format!(" ({link})")).unwrap_or_default();
                let said = if first.row.said.is_empty() {
                    "is being asked for".to_owned()
                } else {
                    format!("is coming: {}", first.row.said)
                };
                let more = if coming.len() > 1 { format!("; {} are coming", coming.len()) } else { String::new() };
                format!("{what} {called} {said}{link}{more}")
            }
            // No time that is left: whoever waits is not to be told anew every second.
            (None, Some(trouble)) if self.failures > 0 => {
                let times = if self.failures == 1 { "once".to_owned() } else { format!("{} times", self.failures) };
                format!("{trouble}; tried {times}, and again {} after that", fleet::pause_after(self.failures))
            }
            (None, Some(trouble)) => trouble.clone(),
            (None, None) if self.row.leaving => "the pool is being removed, and starts none any more".to_owned(),
            (None, None) => format!("a {} is about to be asked for", self.pool.how.machine()),
        };
        let wanted = decision.why.split(' ').next().and_then(|n| n.parse().ok()).unwrap_or(0);
        let why = decision.why.split_once("; the last").map_or(decision.why.as_str(), |(why, _)| why);
        let some = waits.runs.iter().any(|run| self.fits(run));
        let said = Says {
            offers: self.pool.offers.clone(),
            waits: says,
            wanted: if some { wanted } else { 0 },
            most_slots: self.pool.most.saturating_mul(u32::from(self.pool.slots)),
            why: why.to_owned(),
        };
        self.ground.floor.pool_says(&self.name, Some(said)).await;
        self.ground.say(
            &self.name,
            Status { why: decision.why.clone(), trouble: trouble.cloned(), start: self.usual_start() },
        );
    }

    /// Writes how its machines stand, where that changed, and forgets those that have ended.
    async fn write(&mut self) {
        let changed: Vec<i64> = self.machines.iter().filter(|(_, m)| m.changed).map(|(id, _)| *id).collect();
        if !changed.is_empty() {
            let rows: Vec<MachineChange<'_>> = changed.iter().map(|id| self.machines[id].change()).collect();
            if let Err(e) = self.ground.store.change_machines(&rows).await {
                tracing::warn!(pool = self.name, "how machines stand is written later: {e}");
                return;
            }
            let ended = self.machines.values().any(|m| m.row.ended_at.is_some());
            for id in changed {
                if let Some(machine) = self.machines.get_mut(&id) {
                    machine.changed = false;
                }
            }
            self.machines.retain(|_, machine| machine.row.ended_at.is_none());
            if ended && let Err(e) = self.ground.store.trim_machines(&self.name).await {
                tracing::warn!(pool = self.name, "old machines are forgotten later: {e}");
            }
        }
        if self.row.leaving
            && self.machines.is_empty()
            && let Err(e) = self.ground.store.remove_pool(&self.name).await
        {
            tracing::warn!(pool = self.name, "the pool is removed later: {e}");
        }
    }
}
