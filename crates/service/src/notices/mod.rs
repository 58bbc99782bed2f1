//! Notices: sees what happened, decides by the core's rules whom it concerns, and sends what is due.
//!
//! What happens leaves rows (`store/notices.rs`), which any service may take: of several, one tells of each event, and what a killed one held another sends,
//! under the same message id. [`facts`] gathers what is said of a run, [`sending`] hands messages over.

mod facts;
pub mod sending;

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
    time::Duration,
};

use chrono::{DateTime, TimeDelta, Utc};
use kesmo_core::{
    notice::{Event, Happened, Notice, When, sending::pause_after},
    time::{Span, Timestamp},
};
use kesmo_floor::Ask;
use kesmo_store::notices::{DeliveryRow, NewEvent, NoticeRow, Tried, Unnoticed};
use kesmo_wire::api::RunSummary;
use tokio::{sync::Semaphore, sync::watch, task::JoinHandle, time::Instant};

use crate::{app::App, refused::Refused};
pub use sending::{HOLD, MailConfig, Outcome, Sender, ToSend};

/// How often it is looked whether something is to be told or sent.
const EVERY: Duration = Duration::from_millis(500);
/// How often runs that are not over are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(2);
/// What happened that is looked at together, and messages that are sent at the same time.
const TOGETHER: i64 = 20;
const AT_ONCE: usize = 8;
/// While PostgreSQL does not answer it is asked no more often than this.
const AWAY: Duration = Duration::from_secs(5);
/// What was over for so long when it was looked at is no news: an import of old results, or a service that was away.
const NO_NEWS: TimeDelta = TimeDelta::days(2);
/// What was told is kept so long.
const KEEP_DAYS: i64 = 90;
const CLEAR_EVERY: Duration = Duration::from_secs(3600);

/// Starts the task; it ends when `ending` turns true.
pub fn start(app: App, sender: Arc<Sender>, ending: watch::Receiver<bool>) -> JoinHandle<()> {
    let turns = Arc::new(Semaphore::new(AT_ONCE));
    let work = Work { app, sender, turns, without: HashMap::new(), told: HashSet::new(), looked: None, cleared: None };
    tokio::spawn(work.go(ending))
}

struct Work {
    app: App,
    sender: Arc<Sender>,
    turns: Arc<Semaphore>,
    /// Since when runs have no worker.
    without: HashMap<i64, Instant>,
    /// What was told of runs that are not over: they need not be looked at again.
    told: HashSet<String>,
    looked: Option<Instant>,
    cleared: Option<Instant>,
}

/// A notice that is not paused, read.
pub(crate) struct Read {
    pub row: NoticeRow,
    pub notice: Notice,
}

fn later(what: &str, result: Result<(), Refused>) {
    if let Err(e) = result {
        tracing::warn!("{what} could not be done, and will be soon: {}", e.1.message);
    }
}

impl Work {
    async fn go(mut self, mut ending: watch::Receiver<bool>) {
        loop {
            tokio::select! {
                () = tokio::time::sleep(EVERY) => {}
                _ = ending.wait_for(|ending| *ending) => return,
            }
            let notices = match self.notices().await {
                Ok(notices) => notices,
                Err(e) => {
                    tracing::warn!("notices could not be read, and will be soon: {}", e.1.message);
                    tokio::time::sleep(AWAY).await;
                    continue;
                }
            };
            later("what happened", self.happened(&notices).await);
            if self.looked.is_none_or(|at| at.elapsed() >= LOOK_EVERY) {
                self.looked = Some(Instant::now());
                later("the look at runs for notices", self.look(&notices).await);
            }
            later("notices", self.send().await);
            if self.cleared.is_none_or(|at| at.elapsed() >= CLEAR_EVERY) {
                self.cleared = Some(Instant::now());
                let cleared = self.app.store.forget_notices(Utc::now() - TimeDelta::days(KEEP_DAYS)).await;
                later("clearing old notices", cleared.map(drop).map_err(Refused::from));
            }
        }
    }

    async fn notices(&self) -> Result<Vec<Read>, Refused> {
        let mut all = Vec::new();
        for row in self.app.store.notices().await? {
            match row.notice() {
                Ok(notice) if !row.paused => all.push(Read { row, notice }),
                Ok(_) => {}
                // It keeps no other from being told.
                Err(e) => tracing::error!(notice = row.name, "the notice cannot be read: {e}"),
            }
        }
        Ok(all)
    }

    /// Looks at what happened.
    async fn happened(&self, notices: &[Read]) -> Result<(), Refused> {
        if notices.is_empty() {
            self.app.store.pass_over().await?;
        }
        loop {
            let rows = self.app.store.unnoticed(TOGETHER).await?;
            for row in &rows {
                if let Err(e) = self.one(row, notices).await {
                    if !e.is_ours() {
                        // What cannot be read now cannot be the next time: it is passed over, and said.
                        tracing::error!("something that happened is told to nobody: {}", e.1.message);
                        self.app.store.note(Some(row.id), &[], None).await?;
                        continue;
                    }
                    return Err(e);
                }
            }
            if rows.len() < TOGETHER as usize {
                return Ok(());
            }
        }
    }

    async fn one(&self, row: &Unnoticed, notices: &[Read]) -> Result<(), Refused> {
        let store = &self.app.store;
        if let Some(planned) = row.planned_id {
            let mut events = Vec::new();
            if let Some(missed) = facts::of_start(&self.app, planned).await? {
                // Schedules may go by another clock.
                let at = Utc::now();
                let happened = Happened::ScheduleMissed(missed);
                for (read, because) in concerned(notices, at, &happened) {
                    let told = Event { because, at, happened: happened.clone() };
                    events.push(event(read, format!("planned:{planned}"), told));
                }
            }
            return Ok(store.note(Some(row.id), &events, None).await?);
        }
        let found = match row.run_id {
            Some(id) => store.runs_of(&[id]).await?.pop(),
            None => None,
        };
        let Some((run, suite)) = found else { return Ok(store.note(Some(row.id), &[], None).await?) };
        let at = run.finished_at.unwrap_or_else(Utc::now);
        let news = run.labels.get("hunt").is_none() && Utc::now() - at < NO_NEWS;
        // Nothing is gathered for nobody.
        let asked =
            notices.iter().any(|read| read.row.made_at <= at && read.notice.when.iter().any(|when| when.at_end()));
        if !news || !asked {
            return Ok(store.note(Some(row.id), &[], None).await?);
        }
        let facts = facts::of_run(&self.app, &run, &suite).await?;
        let (branch, passed) =
            (run.branch.clone().unwrap_or_default(), facts.verdict == Some(kesmo_core::words::Verdict::Passed));
        let causes = facts.cause_keys();
        let happened = Happened::Ended(Box::new(facts));
        let told = store.told_causes(run.suite_id, &branch).await?;
        let none = std::collections::BTreeSet::new();
        let mut events = Vec::new();
        for (read, because) in concerned(notices, at, &happened) {
            let mut new = event(read, format!("run:{}", run.id), Event { because, at, happened: happened.clone() });
            new.held = new.event.told_before(&read.notice, told.get(&read.row.id).unwrap_or(&none));
            new.causes.clone_from(&causes);
            events.push(new);
        }
        Ok(store.note(Some(row.id), &events, Some((run.suite_id, &branch, passed))).await?)
    }

    /// Looks at runs that are not over, where somebody asked for what is told of those.
    async fn look(&mut self, notices: &[Read]) -> Result<(), Refused> {
        let asked =
            |read: &Read| read.notice.when.iter().any(|when| matches!(when, When::NoWorker(_) | When::ForecastOver(_)));
        if !notices.iter().any(asked) {
            self.without.clear();
            return Ok(());
        }
        let Some(runs) = self.app.floor.ask(Ask::Summaries).await else { return Ok(()) };
        self.without.retain(|id, _| runs.get(id).is_some_and(|run| run.no_worker));
        self.told.retain(|key| {
            key.split(':').nth(1).and_then(|id| id.parse().ok()).is_some_and(|id: i64| runs.contains_key(&id))
        });
        for (id, run) in runs.iter().filter(|(_, run)| run.verdict.is_none() && !run.labels.contains_key("hunt")) {
            let now = Utc::now();
            let mut found = Vec::new();
            if run.no_worker {
                let waited = self.without.entry(*id).or_insert_with(Instant::now).elapsed();
                found.push(("no-worker", Span::from(waited)));
            }
            if let Some(left) = run.left {
                let so_far = (now - run.created_at).to_std().unwrap_or_default();
                found.push(("forecast", Span::from(so_far) + Span(left.likely_us)));
            }
            for (what, span) in found {
                self.told_while(*id, run, (what, span), notices, now).await?;
            }
        }
        Ok(())
    }

    async fn told_while(
        &mut self,
        id: i64,
        run: &RunSummary,
        (what, span): (&str, Span),
        notices: &[Read],
        now: DateTime<Utc>,
    ) -> Result<(), Refused> {
        let facts = Box::new(facts::of_summary(&self.app, run));
        let happened = match what {
            "no-worker" => {
                Happened::NoWorker(facts, span, run.waiting_for.clone().unwrap_or_else(|| "a worker".into()))
            }
            _ => Happened::ForecastOver(facts, span),
        };
        let mut events = Vec::new();
        for (read, because) in concerned(notices, now, &happened) {
            let key = format!("{what}:{id}");
            if self.told.insert(format!("{key}:{}", read.row.id)) {
                events.push(event(read, key, Event { because, at: now, happened: happened.clone() }));
            }
        }
        if events.is_empty() { Ok(()) } else { Ok(self.app.store.note(None, &events, None).await?) }
    }

    /// Makes deliveries of what is due, and sends what is due of those.
    async fn send(&self) -> Result<(), Refused> {
        let store = &self.app.store;
        store.gather(message_id).await?;
        let free = self.turns.available_permits();
        if free == 0 {
            return Ok(());
        }
        for delivery in store.take_due(free as i64, HOLD).await? {
            let Ok(turn) = Arc::clone(&self.turns).try_acquire_owned() else { break };
            let (app, sender) = (self.app.clone(), Arc::clone(&self.sender));
            tokio::spawn(async move {
                if let Err(e) = send_one(&app, &sender, &delivery).await {
                    tracing::warn!("what came of a notice could not be noted: {}", e.1.message);
                }
                drop(turn);
            });
        }
        Ok(())
    }
}

/// The notices that something concerns, with the conditions that it meets. What happened before a notice was made is no news to it.
fn concerned<'a>(
    notices: &'a [Read],
    at: DateTime<Utc>,
    happened: &'a Happened,
) -> impl Iterator<Item = (&'a Read, Vec<When>)> {
    let meets = move |read: &'a Read| {
        let because = if read.row.made_at <= at { happened.meets(&read.notice) } else { Vec::new() };
        (!because.is_empty()).then_some((read, because))
    };
    notices.iter().filter_map(meets)
}

fn event(read: &Read, key: String, event: Event) -> NewEvent {
    let now = Timestamp::from(Utc::now());
    let due = read.notice.due(now);
    NewEvent {
        notice_id: read.row.id,
        key,
        event,
        due_at: due.utc(),
        held: None,
        causes: std::collections::BTreeSet::new(),
    }
}

/// A new message's id.
pub(crate) fn message_id() -> String {
    format!("notice-{}", &kesmo_files::secret::random_text()[..24])
}

/// Sends a delivery that was taken, and writes what came of it.
pub(crate) async fn send_one(app: &App, sender: &Sender, delivery: &DeliveryRow) -> Result<Outcome, Refused> {
    let store = &app.store;
    let Some(row) = store.notice_of(delivery.notice_id).await? else {
        return Ok(Outcome::Refused("the notice was removed".into()));
    };
    let rows = store.events_of(&[delivery.id]).await?;
    let read = row
        .notice()
        .and_then(|notice| Ok((notice, rows.iter().map(|row| row.event()).collect::<Result<Vec<_>, _>>()?)));
    let outcome = match &read {
        Ok((notice, events)) => {
            let secret = row.secret.as_deref().unwrap_or_default();
            let source = app.base();
            let told = ToSend { name: &row.name, notice, secret, events, source: &source };
            sender.send(store, delivery, &told).await
        }
        Err(e) => Outcome::Refused(format!("what is kept cannot be read: {e}")),
    };
    let tried = match outcome.clone() {
        Outcome::Sent(said) => Tried::Sent(said),
        Outcome::Refused(said) => Tried::GivenUp(said),
        // Whoever makes a trial is told at once how it went.
        Outcome::Later(said) if delivery.sample => Tried::GivenUp(said),
        Outcome::Later(said) => {
            let age = Span::from((Utc::now() - delivery.made_at).to_std().unwrap_or_default());
            match pause_after(delivery.tries.unsigned_abs(), age) {
                Some(pause) => Tried::Later((Timestamp::from(Utc::now()) + pause).utc(), said),
                None => Tried::GivenUp(format!("given up after {} tries: {said}", delivery.tries)),
            }
        }
    };
    if !matches!(tried, Tried::Sent(_)) {
        let (Outcome::Later(said) | Outcome::Refused(said) | Outcome::Sent(said)) = &outcome;
        tracing::warn!(notice = row.name, tries = delivery.tries, "a notice did not get through: {said}");
    }
    store.tried(delivery, &tried).await?;
    Ok(outcome)
}
