//! Runs before they are opened: those whose files are being fetched from version control, those that stand in the queue for a
//! place on the floor, and those that another service has begun or asks to stop. And which pools this service carries out.
//!
//! Every pool belongs to one service at a time, by a lease in PostgreSQL. Each service looks at the unfinished runs of all
//! again and again, takes up those of its pools, and lets go of those whose lease it lost: their rows are written only by a
//! service that holds the lease until the transaction ends.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};

use kesmo_core::{
    run::Input,
    source::pause_after,
    time::Span,
    words::{Phase, Verdict},
};
use kesmo_files::git;
use kesmo_store::{
    commit::{Commit, RunChange},
    runs::RunRow,
};
use kesmo_wire::api::RunSummary;
use tokio::time::Instant;

use crate::{
    asking::Message,
    fetching::fetch,
    floor::Floor,
    leases::LEASE_LASTS,
    portion::After,
    summary::summary_of_row,
    unopened::{State, Unopened},
};

/// Runs of a pool that are open at the same time. A run with a high priority may come beyond that, up to the double.
const MOST_OPEN: usize = 100;
/// The first pause before a server of version control is asked again, and how long that goes on.
const FIRST_PAUSE: Span = Span::seconds(2);
const GIT_PATIENCE: Duration = Duration::from_secs(30 * 60);

/// Where a run stands among those that wait: whether it is in the queue, its weight, its place, and its id.
type Waits = (bool, std::cmp::Reverse<u32>, f64, i64);

impl Floor {
    /// Looks at all unfinished runs: takes up new ones of its pools, stops those that are to be stopped, and renews leases.
    pub(super) async fn look(&mut self) -> Result<(), kesmo_store::Error> {
        self.leases.looked = Some(Instant::now());
        let open = self.store.open_runs().await?;
        let mut pools: BTreeSet<String> = open.iter().map(|r| r.pool.clone()).collect();
        pools.extend(self.workers.pools());
        self.hold(&pools).await?;
        let held = &self.leases.held;
        let new = |r: &&kesmo_store::runs::OpenRun| {
            held.contains(&r.pool) && !self.runs.contains_key(&r.id) && !self.queue.contains_key(&r.id)
        };
        let new: Vec<i64> = open.iter().filter(new).map(|r| r.id).collect();
        if !new.is_empty() {
            for (row, suite) in self.store.runs_of(&new).await? {
                self.take(row, suite).await;
            }
        }
        for run in open {
            let ranked =
                self.runs.get_mut(&run.id).map(|r| &mut r.row).or(self.queue.get_mut(&run.id).map(|u| &mut u.row));
            if let Some(row) = ranked
                && row.rank != run.rank
            {
                row.rank = run.rank;
                self.queue_changed = true;
            }
            if let Some(why) = run.stop_asked
                && self.leases.stopped.insert(run.id)
            {
                self.stop_run(run.id, why);
            }
        }
        let (runs, queue) = (&self.runs, &self.queue);
        self.leases.stopped.retain(|id| runs.contains_key(id) || queue.contains_key(id));
        self.hold_claims().await
    }

    /// Takes the leases of pools, and lets go of what another service has taken.
    pub(super) async fn hold(&mut self, pools: &BTreeSet<String>) -> Result<(), kesmo_store::Error> {
        let wanted: Vec<String> = pools.union(&self.leases.held).cloned().collect();
        if wanted.is_empty() {
            return Ok(());
        }
        let holder = self.leases.holder();
        let leased = self.store.hold_pools(&holder, &wanted, LEASE_LASTS).await?;
        let lost = self.leases.take(&wanted, leased);
        // Whoever works for a pool belongs where its runs are.
        for pool in wanted.iter().filter(|pool| !self.leases.held.contains(*pool)) {
            self.fleet_changed |= self.workers.cut_off(pool);
        }
        for pool in lost {
            tracing::warn!(pool, "another service carries out the runs of this pool now");
            self.runs.retain(|_, r| r.row.pool != pool);
            self.queue.retain(|_, u| u.row.pool != pool);
            // Their last rows may be of that pool: the service that has it gives those runs their verdict again.
            self.closing.clear();
            // What was gathered for those runs is not this service's to write any more.
            let mut commit = std::mem::take(&mut self.commit);
            self.keep_own(&mut commit);
            self.commit = commit;
        }
        Ok(())
    }

    /// Whether this service carries out the runs of a pool; takes the lease if nobody has it.
    pub(super) async fn holds(&mut self, pool: &str) -> bool {
        if self.leases.held.contains(pool) {
            return true;
        }
        if let Err(e) = self.hold(&BTreeSet::from([pool.to_owned()])).await {
            tracing::warn!("a lease could not be taken: {e}");
        }
        self.leases.held.contains(pool)
    }

    /// Takes a run of one of its pools.
    pub(super) async fn take(&mut self, row: RunRow, suite: String) {
        let id = row.id;
        let known = self.runs.contains_key(&id) || self.queue.contains_key(&id) || self.unstorable.contains(&id);
        if known || !self.holds(&row.pool).await {
            return;
        }
        // What was begun goes on at once, with whatever its workers hold.
        if row.phase == "running" {
            if let Err(e) = self.take_up_run(row, suite).await {
                tracing::error!("a run could not be taken up: {e}");
            }
            return;
        }
        let state = if row.source.is_some() { State::Ready } else { State::Later(Instant::now(), 0, String::new()) };
        let weight = row.run_options().unwrap_or_default().priority.unwrap_or_default().weight();
        let summary = summary_of_row(&row, &suite);
        self.queue.insert(id, Unopened { row, suite, weight, summary, state });
        self.queue_changed = true;
    }

    /// Ends a run that is open or in the queue; false if it is neither.
    pub(super) fn stop_run(&mut self, run: i64, reason: String) -> bool {
        if self.runs.contains_key(&run) {
            self.feed(run, Input::Stop { reason });
            return true;
        }
        if self.queue.contains_key(&run) {
            self.close(run, Verdict::Stopped, reason);
            return true;
        }
        false
    }

    /// Gives a run its verdict that was never opened.
    pub(super) fn close(&mut self, run: i64, verdict: Verdict, reason: String) {
        let Some(Unopened { row, suite, summary, .. }) = self.queue.remove(&run) else { return };
        tracing::info!(run = format!("{suite}/{}", row.number), verdict = verdict.word(), reason, "a run is over");
        let at = chrono::Utc::now();
        self.commit.runs.push(RunChange::over(run, verdict, &reason, at));
        let summary =
            RunSummary { phase: Phase::Finished, verdict: Some(verdict), reason, finished_at: Some(at), ..summary };
        self.closed.push(summary);
        self.closing.insert(run);
        self.after.push(After::Over);
        self.queue_changed = true;
    }

    /// Asks for files that are due, and opens what has its files, as far as there is room.
    pub(super) async fn move_queue(&mut self) {
        let instant = Instant::now();
        for (id, waiting) in &mut self.queue {
            let State::Later(at, failures, _) = &waiting.state else { continue };
            if *at > instant {
                continue;
            }
            let source = match waiting.row.git_source() {
                Ok(Some(source)) => source,
                _ => kesmo_core::source::GitSource::default(),
            };
            let (store, git, own, id, suite) =
                (self.beside.clone(), self.git.clone(), self.own.clone(), *id, waiting.row.suite_id);
            waiting.state = State::Fetching(*failures);
            self.others.spawn(async move {
                let fetched = match fetch(&store, &git, suite, &source).await {
                    Ok(f) => {
                        let branch = source.branch.as_deref().or(f.branch.as_deref());
                        let pinned = store.pin_run(id, &f.digest, branch, &f.commit).await;
                        pinned.map_err(|e| git::Error::Away(e.to_string()))
                    }
                    Err(e) => Err(e),
                };
                drop(own.send(Message::Fetched(id, Box::new(fetched))).await);
            });
        }
        if !std::mem::take(&mut self.queue_changed) {
            return;
        }
        let mut open: BTreeMap<&str, usize> = BTreeMap::new();
        for run in self.runs.values() {
            *open.entry(&run.row.pool).or_default() += 1;
        }
        let mut open: BTreeMap<String, usize> = open.into_iter().map(|(p, n)| (p.to_owned(), n)).collect();
        let mut ready: Vec<(std::cmp::Reverse<u32>, f64, i64)> = Vec::new();
        for (id, waiting) in self.queue.iter().filter(|(_, u)| matches!(u.state, State::Ready)) {
            ready.push((std::cmp::Reverse(waiting.weight), waiting.row.place(), *id));
        }
        ready.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(a.2.cmp(&b.2)));
        for (weight, _, id) in ready {
            let Some(waiting) = self.queue.get(&id) else { continue };
            let room = if weight.0 > kesmo_core::plan::Priority::Normal.weight() { 2 * MOST_OPEN } else { MOST_OPEN };
            let count = open.entry(waiting.row.pool.clone()).or_default();
            if *count >= room {
                continue;
            }
            *count += 1;
            if let Some(Unopened { row, suite, .. }) = self.queue.remove(&id) {
                self.begin_run(row, suite).await;
            }
        }
    }

    /// The files of a run were fetched, or not.
    pub(super) async fn fetched(&mut self, run: i64, result: Result<Option<RunRow>, git::Error>) {
        let Some(waiting) = self.queue.get_mut(&run) else { return };
        let State::Fetching(failures) = waiting.state else { return };
        self.queue_changed = true;
        match result {
            Ok(Some(row)) => {
                let rank = waiting.row.rank;
                waiting.row = RunRow { rank, ..row };
                waiting.summary = summary_of_row(&waiting.row, &waiting.suite);
                waiting.state = State::Ready;
                // It may have replaced others.
                self.leases.looked = None;
            }
            // Somebody else pinned it, or it is over: it is looked at again.
            Ok(None) => {
                self.queue.remove(&run);
                self.leases.looked = None;
            }
            Err(git::Error::Wrong(why)) => self.close(run, Verdict::Void, why),
            Err(git::Error::Away(why)) => {
                let waits = (chrono::Utc::now() - waiting.row.created_at).to_std().unwrap_or_default();
                if waits > GIT_PATIENCE {
                    let why = format!("{why}; tried for {} min", GIT_PATIENCE.as_secs() / 60);
                    return self.close(run, Verdict::Void, why);
                }
                let pause = pause_after(failures + 1, FIRST_PAUSE);
                tracing::warn!(run = format!("{}/{}", waiting.suite, waiting.row.number), %pause, "files could not be fetched: {why}");
                waiting.state = State::Later(Instant::now() + Duration::from_micros(pause.0), failures + 1, why);
            }
        }
    }

    /// When something in the queue is to be tried again.
    pub(super) fn queue_wakes(&self) -> Option<Instant> {
        let later = |u: &Unopened| match &u.state {
            State::Later(at, ..) => Some(*at),
            _ => None,
        };
        self.queue.values().filter_map(later).min()
    }

    /// The places of runs that nothing was begun of: open ones first, then those in the queue, each in their order.
    pub(super) fn number_places(&mut self) {
        let mut pools: BTreeMap<&str, Vec<Waits>> = BTreeMap::new();
        for (id, run) in self.runs.iter().filter(|(_, r)| r.nothing_begun()) {
            let key = (false, std::cmp::Reverse(0), run.row.place(), *id);
            pools.entry(&run.row.pool).or_default().push(key);
        }
        for (id, waiting) in &self.queue {
            let key = (true, std::cmp::Reverse(waiting.weight), waiting.row.place(), *id);
            pools.entry(&waiting.row.pool).or_default().push(key);
        }
        let mut places: BTreeMap<i64, (u32, u32)> = BTreeMap::new();
        for of_pool in pools.values_mut() {
            of_pool.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.cmp(&b.1)).then(a.2.total_cmp(&b.2)).then(a.3.cmp(&b.3)));
            let count = of_pool.len() as u32;
            places.extend(of_pool.iter().enumerate().map(|(i, key)| (key.3, (i as u32 + 1, count))));
        }
        for (id, run) in &mut self.runs {
            let place = places.get(id).copied();
            if run.place != place {
                run.place = place;
                run.touch();
            }
        }
        self.places = places;
    }

    /// The runs that are not open, as far as those are asked for.
    pub(super) fn queue_summaries(&self) -> impl Iterator<Item = (i64, RunSummary)> + '_ {
        self.queue.keys().filter_map(|id| Some((*id, self.queue_summary(*id)?)))
    }

    /// A run that is not open.
    pub(super) fn queue_summary(&self, run: i64) -> Option<RunSummary> {
        let waiting = self.queue.get(&run)?;
        let summary = waiting.summary.clone();
        let place = self.places.get(&run).copied();
        Some(RunSummary { waiting_for: Some(waiting.waits_for()), place, ..summary })
    }

    /// What a lost lease leaves of a commit: only what belongs to runs that are still this service's.
    pub(super) fn keep_own(&self, commit: &mut Commit) {
        let own: BTreeSet<i64> = self.runs.keys().chain(self.queue.keys()).chain(&self.closing).copied().collect();
        commit.keep_runs(|run| own.contains(&run));
    }
}

impl Unopened {
    /// What it waits for.
    fn waits_for(&self) -> String {
        match &self.state {
            State::Fetching(0) => "its files are being fetched".into(),
            State::Fetching(_) => "its files are being fetched again".into(),
            State::Later(_, 0, _) => "its files are to be fetched".into(),
            State::Later(at, failures, why) => {
                let left = Span::seconds(at.saturating_duration_since(Instant::now()).as_secs());
                let times = if *failures == 1 { "once".to_owned() } else { format!("{failures} times") };
                format!("{why}; tried {times}, again in {left}")
            }
            State::Ready => {
                format!("{MOST_OPEN} runs of the pool {} are open already; it comes after them", self.row.pool)
            }
        }
    }
}
