//! The scheduler: starts what nobody asked for by hand. Planned starts that are due, starts that waited for a run to be over,
//! briefs that follow a run, and runs of new heads of polled branches.
//!
//! It decides by the core's rules and does each thing in one transaction of the store, so that of several services exactly
//! one does it, and one that is killed has either done it or left it to the next. What it has started is handed to the
//! floor; should it die before that, the floor that has the pool finds the run by itself.

pub mod clock;

use std::{collections::HashMap, sync::Arc, time::Duration};

use chrono::{DateTime, TimeDelta, Utc};
use kesmo_core::{
    calendar::schedule::{Standing, Timing, What},
    plan::brief::{Brief, Changes, Origin, OriginKind},
    source::{Branches, Head, new_heads, pause_after},
    time::{Span, Timestamp},
    words::Verdict,
};
use kesmo_store::{
    polls::PollRow,
    runs::NewRun,
    schedules::{Firing, NewPlanned, ScheduleRow},
};
use rocket::http::Status;
use tokio::{
    sync::{Notify, watch},
    task::JoinHandle,
    time::Instant,
};

use crate::{
    app::App,
    refused::Refused,
    starting::{self, Looked, Wanted},
};
use clock::Clock;

/// Schedules that are done in one transaction.
const AT_ONCE: i64 = 100;
/// Looks at branches that are taken upon a service at a time.
const LOOKS_AT_ONCE: i64 = 8;
/// A clock that goes back by more than this was put back.
const PUT_BACK: Span = Span::seconds(2);
/// What became of planned starts is kept so long.
const KEEP_DAYS: i64 = 90;
/// How often old rows are cleared away.
const CLEAR_EVERY: Duration = Duration::from_secs(3600);

/// Starts the scheduler; it ends when `ending` turns true.
pub fn start(app: App, clock: Clock, over: Arc<Notify>, ending: watch::Receiver<bool>) -> JoinHandle<()> {
    let work = Scheduler { app, clock, last: None, slow_at: None, cleared: None, soonest: None, soonest_read: None };
    tokio::spawn(work.go(over, ending))
}

struct Scheduler {
    app: App,
    clock: Clock,
    /// What the clock said last.
    last: Option<Timestamp>,
    /// When everything but due starts was looked at last.
    slow_at: Option<Instant>,
    cleared: Option<Instant>,
    /// The soonest planned start, and when that was read.
    soonest: Option<DateTime<Utc>>,
    soonest_read: Option<Instant>,
}

/// Logs a failure: what was to be done is done at the next look.
fn later(what: &str, result: Result<(), kesmo_store::Error>) {
    if let Err(e) = result {
        tracing::warn!("{what} could not be done, and will be soon: {e}");
    }
}

impl Scheduler {
    async fn go(mut self, over: Arc<Notify>, mut ending: watch::Receiver<bool>) {
        let mut run_over = true;
        loop {
            if let Some(now) = self.clock.now() {
                self.tick(now, run_over).await;
            }
            let wait = self.wait();
            tokio::select! {
                () = tokio::time::sleep(wait) => run_over = false,
                () = over.notified() => run_over = true,
                _ = ending.wait_for(|ending| *ending) => return,
            }
        }
    }

    /// How long nothing is to do, as far as that is known.
    fn wait(&self) -> Duration {
        let pace = self.clock.pace();
        let (Some(soonest), Clock::System) = (self.soonest, &self.clock) else { return pace };
        (soonest - Utc::now()).to_std().unwrap_or_default().clamp(Duration::from_millis(1), pace)
    }

    async fn tick(&mut self, now: Timestamp, run_over: bool) {
        // At the start, and after the clock was put back, planned starts may lie too far ahead.
        if self.last.is_none_or(|last| last.since(now) > PUT_BACK) {
            if self.last.is_some() {
                tracing::warn!("the clock was put back; the next starts are reckoned anew");
            }
            match self.reckon_anew(now).await {
                Ok(()) => self.last = Some(now),
                Err(e) => tracing::warn!("the next starts could not be reckoned, and will be soon: {e}"),
            }
        } else {
            self.last = Some(now);
        }
        let stale = self.soonest_read.is_none_or(|at| at.elapsed() >= self.clock.pace());
        if stale || self.soonest.is_some_and(|at| at <= now.utc()) {
            let due = self.due(now).await;
            if due.is_err() {
                // What is due stays so: it is tried again at the usual pace, and not at once and at once.
                self.soonest = None;
            }
            later("due starts", due);
        }
        let slow = self.slow_at.is_none_or(|at| at.elapsed() >= self.clock.pace());
        if run_over || slow {
            self.slow_at = Some(Instant::now());
            later("what follows runs", self.chains().await);
            later("starts that waited", self.waiting().await);
            later("the next start after a run", self.ended().await);
            later("looks at branches", self.looks(now).await);
        }
        if self.cleared.is_none_or(|at| at.elapsed() >= CLEAR_EVERY) {
            self.cleared = Some(Instant::now());
            let cleared = self.app.store.forget_planned(Utc::now() - TimeDelta::days(KEEP_DAYS)).await;
            later("clearing old rows", cleared.map(drop));
        }
    }

    /// Brings planned starts that lie too far ahead back, as they are after a clock was wrong.
    async fn reckon_anew(&self, now: Timestamp) -> Result<(), kesmo_store::Error> {
        for row in self.app.store.schedules().await? {
            let (Some(next), Ok(schedule)) = (row.next_at, row.schedule()) else { continue };
            let next = Timestamp::from(next);
            let anew = schedule.reckoned_anew(next, now);
            if anew != next {
                self.app.store.set_next(row.id, row.next_at, Some(anew.utc())).await?;
            }
        }
        Ok(())
    }

    /// Does all planned starts that are due.
    async fn due(&mut self, now: Timestamp) -> Result<(), kesmo_store::Error> {
        let mut looked = Looked::default();
        loop {
            let rows = self.app.store.due_schedules(now.utc(), AT_ONCE).await?;
            if rows.is_empty() {
                break;
            }
            let count = rows.len();
            let firings = self.decide(&rows, now, &mut looked).await?;
            let made = self.app.store.fire(&firings).await?;
            tracing::debug!(due = count, started = made.len(), "planned starts");
            let none = made.is_empty();
            starting::hand_over(&self.app, &made).await?;
            // What another service has locked is seen again at the next look.
            if none || count < AT_ONCE as usize {
                break;
            }
        }
        self.soonest = self.app.store.soonest_start().await?;
        self.soonest_read = Some(Instant::now());
        Ok(())
    }

    async fn decide(
        &self,
        rows: &[ScheduleRow],
        now: Timestamp,
        looked: &mut Looked,
    ) -> Result<Vec<Firing>, kesmo_store::Error> {
        let store = &self.app.store;
        let last: Vec<i64> = rows.iter().filter_map(|r| r.run_id).collect();
        let runs = store.runs_of(&last).await?;
        let busy: HashMap<i64, String> = runs
            .into_iter()
            .filter(|(run, _)| run.phase != "finished" && run.stop_asked.is_none())
            .map(|(run, suite)| (run.id, format!("{suite}/{}", run.number)))
            .collect();
        let ids: Vec<i64> = rows.iter().map(|r| r.id).collect();
        let waiting = store.with_waiting(&ids).await?;
        let mut firings = Vec::new();
        for row in rows {
            let Some(expected) = row.next_at else { continue };
            let planned = Timestamp::from(expected);
            let schedule = match row.schedule() {
                Ok(schedule) => schedule,
                Err(e) => {
                    // What was good when it was saved: a time zone that is gone, say. It is told, and not tried for ever.
                    let why = e.to_string();
                    firings.push(Firing { rows: vec![refused(expected, why)], ..firing(row, expected, None) });
                    continue;
                }
            };
            let old = row.run_id.and_then(|id| busy.get(&id).map(|name| (id, name)));
            let standing = Standing { busy: old.map(|(_, n)| n.as_str()), waiting: waiting.contains(&row.id) };
            let due = schedule.due(planned, now, standing);
            let mut firing = firing(row, expected, due.next.map(Timestamp::utc));
            for decided in due.rows {
                let mut new = NewPlanned {
                    planned_at: decided.planned.utc(),
                    to_at: decided.to.utc(),
                    count: decided.count as i32,
                    what: decided.what.word(),
                    why: decided.why,
                };
                if decided.what == What::Start {
                    let by = format!("schedule {}", row.name);
                    match starting::of_schedule(&self.app, row, &by, Some(decided.planned.0), looked).await {
                        Ok(run) => firing.run = Some(run),
                        // PostgreSQL is away: nothing is decided, and all are due again at the next look.
                        Err(e) if e.0 == Status::ServiceUnavailable => {
                            return Err(kesmo_store::Error::Away(e.1.message));
                        }
                        Err(e) => {
                            (new.what, new.why) = (What::Refused.word(), e.1.message);
                            // After a run that there was none of, the next start is counted from here.
                            if let Timing::AfterEvery(_) = schedule.timing {
                                firing.next_at = schedule.next(now).map(Timestamp::utc);
                            }
                        }
                    }
                } else if let (What::Skip, Timing::AfterEvery(_)) = (decided.what, &schedule.timing) {
                    firing.next_at = schedule.next(now).map(Timestamp::utc);
                }
                firing.rows.push(new);
            }
            if due.stop_old
                && firing.run.is_some()
                && let Some((id, _)) = old
            {
                firing.stop = Some((id, format!("the next start of schedule {} was due", row.name)));
            }
            firings.push(firing);
        }
        Ok(firings)
    }

    /// Starts what follows runs that are over.
    async fn chains(&self) -> Result<(), kesmo_store::Error> {
        for (row, suite) in self.app.store.runs_to_follow(50).await? {
            let follow = match row.to_follow() {
                Ok(Some(follow)) => follow,
                Ok(None) => continue,
                Err(e) => {
                    // It is told where it is looked for, and holds up no other.
                    let note = format!("what was to follow it cannot be read: {e}");
                    tracing::error!(run = format!("{suite}/{}", row.number), "{note}");
                    self.app.store.follow(row.id, None, &note).await?;
                    continue;
                }
            };
            let verdict = row.verdict.as_deref().and_then(Verdict::of).unwrap_or(Verdict::Void);
            let made = if follow.then_if.follows(verdict) {
                match starting::after(&self.app, &row, &suite, &follow.then).await {
                    Ok(next) => self.app.store.follow(row.id, Some(&next), "").await?,
                    Err(e) if e.0 == Status::ServiceUnavailable => continue,
                    Err(e) => {
                        let note = format!("the brief {} did not follow: {}", follow.then, e.1.message);
                        self.app.store.follow(row.id, None, &note).await?
                    }
                }
            } else {
                let (then, when) = (&follow.then, follow.then_if.word());
                let note =
                    format!("the brief {then} did not follow: it comes after {when} runs, and this is {verdict}");
                let note = note.replace("after always runs", "after every run that is not stopped");
                self.app.store.follow(row.id, None, &note).await?
            };
            starting::hand_over(&self.app, made.as_slice()).await?;
        }
        Ok(())
    }

    /// Does starts that waited for a run which is over now.
    async fn waiting(&self) -> Result<(), kesmo_store::Error> {
        for waiting in self.app.store.waiting_starts().await? {
            let Some(row) = self.app.store.schedules_of(&[waiting.schedule_id]).await?.pop() else { continue };
            let by = format!("schedule {}", row.name);
            let planned = waiting.planned_at.timestamp_micros();
            let run = starting::of_schedule(&self.app, &row, &by, Some(planned), &mut Looked::default()).await;
            if run.as_ref().is_err_and(|e| e.0 == Status::ServiceUnavailable) {
                continue;
            }
            let run = run.as_ref().map_err(|e| e.1.message.as_str());
            let made = self.app.store.end_waiting(&waiting, run).await?;
            starting::hand_over(&self.app, made.as_slice()).await?;
        }
        Ok(())
    }

    /// Reckons the next start of schedules that begin again some time after a run is over.
    async fn ended(&mut self) -> Result<(), kesmo_store::Error> {
        for ended in self.app.store.ended_schedules().await? {
            let Some(row) = self.app.store.schedules_of(&[ended.schedule_id]).await?.pop() else { continue };
            let schedule = match row.schedule() {
                Ok(schedule) => schedule,
                Err(e) => {
                    // Due at once, so that what is due says what is wrong with it, on its page.
                    tracing::error!(schedule = row.name, "it cannot be read: {e}");
                    self.app.store.set_next(row.id, None, Some(Utc::now())).await?;
                    continue;
                }
            };
            let next = schedule.next(Timestamp::from(ended.finished_at)).map(Timestamp::utc);
            if next.is_some() && self.app.store.set_next(row.id, None, next).await? {
                self.soonest_read = None;
            }
        }
        Ok(())
    }

    /// Looks at branches whose time has come, each beside the scheduler: a server may take its time.
    async fn looks(&self, now: Timestamp) -> Result<(), kesmo_store::Error> {
        for (poll, suite) in self.app.store.take_looks(now.utc(), LOOKS_AT_ONCE).await? {
            let (app, clock) = (self.app.clone(), self.clock.clone());
            tokio::spawn(async move {
                if let Err(e) = look(&app, &poll, &suite, &clock).await {
                    tracing::warn!("branches of {suite} could not be looked at, and will be soon: {e}");
                }
            });
        }
        Ok(())
    }
}

fn firing(row: &ScheduleRow, expected: DateTime<Utc>, next_at: Option<DateTime<Utc>>) -> Firing {
    Firing { schedule_id: row.id, expected, rows: Vec::new(), run: None, next_at, stop: None }
}

fn refused(at: DateTime<Utc>, why: String) -> NewPlanned {
    NewPlanned { planned_at: at, to_at: at, count: 1, what: What::Refused.word(), why }
}

/// Whether a text names branches by a pattern.
pub(crate) fn is_glob(branches: &str) -> bool {
    branches.contains(['*', '?', '[', '{'])
}

/// What is started for a new head of a polled branch.
///
/// # Errors
/// If the brief or the suite is gone, or the settings do not fit.
async fn run_of_head(app: &App, poll: &PollRow, suite: &str, head: &Head) -> Result<NewRun, Refused> {
    let origin = Origin { kind: OriginKind::Poll, name: Some(head.0.clone()), ..Origin::default() };
    let changes = Changes { branch: Some(head.0.clone()), commit: Some(head.1.clone()), ..Changes::default() };
    let (brief, mut origin) = match &poll.brief {
        Some(name) => starting::changed(name, &starting::brief_named(app, name).await?, changes, origin),
        None => (Brief { suite: Some(suite.to_owned()), ..Brief::default() }.with(changes), origin),
    };
    origin.changed.clear();
    let by = format!("poll {suite} {}", poll.branches);
    starting::prepare(app, Wanted { brief, origin, by, ..Wanted::default() }, &mut Looked::default()).await
}

/// Looks at the branches of a poll, and starts a run for each head that was not seen there before.
async fn look(app: &App, poll: &PollRow, suite: &str, clock: &Clock) -> Result<(), kesmo_store::Error> {
    let store = &app.store;
    let Some(row) = store.suite_of(poll.suite_id).await? else { return Ok(()) };
    let seen = match row.git_source()? {
        Some(source) => app.git.heads(&source.url).await.map_err(|e| e.to_string()),
        None => Err(format!("{suite} is no longer from version control")),
    };
    let mut trouble = None;
    let answered = seen.is_ok();
    match (seen, Branches::parse(&poll.branches)) {
        (Ok(heads), Ok(branches)) => {
            // A glob may well match nothing yet; a branch that is named should be there.
            if !is_glob(&poll.branches) && !heads.iter().any(|h| branches.has(&h.0)) {
                trouble = Some(format!("there is no branch {} now", poll.branches));
            }
            for head in new_heads(&branches, &heads, &store.seen_heads(poll.id, &heads).await?) {
                match run_of_head(app, poll, suite, &head).await {
                    Ok(run) => {
                        if let Some(made) = store.run_head(poll.id, &head, &run).await? {
                            tracing::info!(suite, branch = head.0, commit = head.1, "a new head is run");
                            app.floor.new_run((made, suite.to_owned())).await;
                        }
                    }
                    // The head stays new, so that it is run once that is mended.
                    Err(e) => trouble = Some(format!("{} could not be started: {}", head.0, e.1.message)),
                }
            }
        }
        (Err(why), _) => trouble = Some(why),
        (_, Err(e)) => trouble = Some(e.to_string()),
    }
    let Some(now) = clock.now() else { return Ok(()) };
    let every = Span(poll.every_us as u64);
    // Only a server that does not answer is left in peace for longer and longer.
    let failures = if answered { 0 } else { poll.failures + 1 };
    let pause = if failures > 0 { pause_after(failures as u32, every) } else { every };
    store.looked(poll.id, now.utc(), (now + pause).utc(), failures, trouble.as_deref()).await?;
    store.put_trouble(poll.suite_id, trouble.as_deref()).await
}
