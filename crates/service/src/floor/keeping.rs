//! From what happens to what is kept: feeding engines, carrying out their effects, and committing.

use std::time::Duration;

use kesmo_core::{
    name::TestName,
    plan::{Known, Plan, RunOptions},
    run::{AttemptKept, BatchId, Effect, Engine, Input, PastAttempt, PastBatch, Policy, WorkerId, crowding::Turn},
    suite::{ListedTest, SuiteFile, Variant},
    time::{Span, Timestamp},
    words::{Ended, Outcome, Verdict},
};
use kesmo_store::{
    commit::{Commit, Decided, NewArtifact, NewAttempt, NewBatch, RunChange},
    records::Records,
    runs::RunRow,
};
use kesmo_wire::{
    link::{AttemptReport, BatchKey, Errand, FromWorker, Grant, Log, ToWorker, WorkerEvent},
    live::{AttemptChange, DecidedChange},
};

use super::{
    After, Floor,
    active::{ActiveRun, NeededList, Opened},
    listing::ListAsk,
    now, tell,
    workers::Use,
};
use crate::Error;

/// What became of a commit.
enum Stored {
    Yes,
    GivenUp,
    /// Another service holds one of the pools.
    Elsewhere,
}

/// The errand of a run's batches.
fn errand(row: &RunRow, options: &RunOptions, suite: &str, file: &SuiteFile) -> Result<Errand, String> {
    Ok(Errand {
        run: format!("{suite}/{}", row.number),
        bundle: row.source.clone().unwrap_or_default(),
        branch: row.branch.clone(),
        commit: row.commit.clone(),
        variant: Vec::new(),
        settings: file.settings_with(&options.set).map_err(|e| e.to_string())?,
        env: file.environment(options.env.as_deref()).map_err(|e| e.to_string())?,
        seed: row.seed as u64,
    })
}

impl Floor {
    /// Takes up a run that was begun, as it was kept.
    pub(super) async fn take_up_run(&mut self, row: RunRow, suite: String) -> Result<(), Error> {
        tracing::info!(run = format!("{suite}/{}", row.number), "taking up a run");
        let Some((mut active, variants)) = self.open_run(&row, &suite).await else { return Ok(()) };
        let mut lists = Vec::new();
        for (variant, key) in variants.into_iter().zip(&row.listings) {
            lists.push((variant, self.store.listing(key).await?.unwrap_or_default()));
        }
        let records = self.store.records(row.suite_id, &row.pool).await?;
        let plan = match Plan::make(&active.file, &active.options, &lists, &active.parks, history(&records)) {
            Ok(plan) => plan,
            Err(e) => {
                self.runs.insert(row.id, active);
                self.feed(row.id, Input::Void(e.to_string()));
                return Ok(());
            }
        };
        let mut attempts = Vec::new();
        let bones = self.store.attempt_bones(row.id, active.month).await?;
        active.last = vec![0; plan.entries.len()];
        for bone in &bones {
            let worker = self.workers.number(&bone.worker);
            let past = PastAttempt {
                entry: bone.entry as u32,
                number: bone.number as u16,
                batch: BatchId(bone.batch as u32),
                worker,
                ended: Ended::of(&bone.ended).unwrap_or(Ended::Lost),
                spent: Span(bone.spent_us as u64),
                decided: bone.decided.as_deref().and_then(Outcome::of),
            };
            if let Some(last) = active.last.get_mut(past.entry as usize) {
                *last = past.spent.0;
            }
            attempts.push(past);
        }
        let mut batches = Vec::new();
        for batch in self.store.batches(row.id).await? {
            let worker = if batch.open {
                self.workers.expect(&batch.worker, &row.pool, self.patience)
            } else {
                self.workers.number(&batch.worker)
            };
            batches.push(PastBatch {
                batch: BatchId(batch.number as u32),
                worker,
                slot: batch.slot as u16,
                entries: batch.entry_numbers()?,
                granted_at: Timestamp(batch.granted_at.timestamp_micros()),
                open: batch.open,
            });
        }
        let began = Timestamp(row.began_at.unwrap_or(row.created_at).timestamp_micros());
        active.engine = Engine::restore(active.engine.policy().clone(), plan, began, &attempts, &batches);
        active.lists = lists
            .into_iter()
            .zip(&row.listings)
            .map(|((variant, _), key)| NeededList { variant, key: key.clone(), tests: None })
            .collect();
        active.notes = self.store.notes(row.id).await?;
        for past in &attempts {
            if let Some(outcome) = past.decided {
                // What it said is read from the store when someone asks.
                active.note_outcome(past.entry, outcome, "", Some(self.workers.name(past.worker)));
            }
        }
        self.runs.insert(row.id, active);
        Ok(())
    }

    /// Reads a run's suite file; a run of which it cannot be read is void at once.
    async fn open_run(&mut self, row: &RunRow, suite: &str) -> Option<(ActiveRun, Vec<Variant>)> {
        let read = async {
            let text =
                self.store.suite_file(row.source.as_deref().unwrap_or_default()).await.map_err(|e| e.to_string())?;
            let text = text.ok_or("its files are gone")?;
            let file = SuiteFile::parse("kesmo.toml", &text).map_err(|e| e.to_string())?;
            let options = row.run_options().map_err(|e| e.to_string())?;
            options.check(&file).map_err(|e| e.to_string())?;
            let variants = file.facets.chosen(&options.variants).map_err(|e| e.to_string())?;
            let errand = errand(row, &options, suite, &file)?;
            let parks = row.parks_then().map_err(|e| e.to_string())?;
            let start_cost = self.store.start_cost(row.suite_id).await.map_err(|e| e.to_string())?;
            let start_cost = start_cost.map(|us| Span(us as u64));
            let engine = Engine::new(Policy::of(&file, &options, row.seed as u64, start_cost));
            Ok::<_, String>(Opened { file, options, parks, variants, engine, errand })
        };
        match read.await {
            Ok(opened) => {
                let variants = opened.variants.clone();
                Some((ActiveRun::new(row.clone(), suite.to_owned(), opened), variants))
            }
            Err(why) => {
                tracing::error!(run = format!("{suite}/{}", row.number), why, "a run cannot be taken up");
                let over = RunChange::over(row.id, Verdict::Void, &why, now().utc());
                let (listings, began_at) = (row.listings.clone(), row.began_at);
                self.commit.runs.push(RunChange { listings, began_at, ..over });
                None
            }
        }
    }

    /// Begins a run: asks for its lists, or goes on at once where they are known.
    pub(super) async fn begin_run(&mut self, row: RunRow, suite: String) {
        let Some((mut active, variants)) = self.open_run(&row, &suite).await else { return };
        tracing::info!(run = active.name(), by = row.started_by, "a run begins");
        let id = row.id;
        let mut asks = Vec::new();
        for variant in variants {
            let ask = ListAsk::new(&active.file, &active.errand.bundle, &row.pool, &variant, &active.errand);
            let tests = match self.store.listing(&ask.key).await {
                Ok(tests) => tests,
                Err(e) => {
                    tracing::warn!("a list could not be read and is made again: {e}");
                    None
                }
            };
            let key = ask.key.clone();
            if tests.is_none() {
                asks.push(ask);
            }
            active.lists.push(NeededList { variant, key, tests });
        }
        self.commit.runs.push(active.stored());
        self.runs.insert(id, active);
        self.fleet_changed = true;
        for ask in asks {
            self.want_for_run(ask, id);
        }
        self.plan_if_listed(id).await;
    }

    /// A list that a run waited for is known.
    pub(super) fn list_known(&mut self, run: i64, key: &str, tests: Vec<ListedTest>) {
        if let Some(active) = self.runs.get_mut(&run) {
            active.lists.iter_mut().filter(|l| l.key == key).for_each(|l| l.tests = Some(tests.clone()));
            self.to_plan.push(run);
        }
    }

    /// Makes the plan of a run once all its lists are known.
    pub(super) async fn plan_if_listed(&mut self, run: i64) {
        let Some(active) = self.runs.get_mut(&run) else { return };
        if active.lists.iter().any(|l| l.tests.is_none()) {
            return;
        }
        self.settle_records().await;
        let Some(active) = self.runs.get_mut(&run) else { return };
        let lists: Vec<(Variant, Vec<ListedTest>)> =
            active.lists.iter_mut().map(|l| (l.variant.clone(), l.tests.take().unwrap_or_default())).collect();
        let records = match self.store.records(active.row.suite_id, &active.row.pool).await {
            Ok(records) => records,
            Err(e) => {
                tracing::warn!("records could not be read; the run is planned without them: {e}");
                Records::new()
            }
        };
        let made = Plan::make(&active.file, &active.options, &lists, &active.parks, history(&records));
        let input = match made {
            Ok(plan) => {
                active.last = vec![0; plan.entries.len()];
                Input::Planned(plan)
            }
            Err(e) => Input::Void(e.to_string()),
        };
        let (shards, pool) = (active.options.shards, active.row.pool.clone());
        self.feed(run, input);
        let slots = self.workers.slots_in(&pool);
        if let Some(most) = shards.filter(|most| slots > 0 && *most > slots) {
            self.note(run, format!("--shards {most} is more than the pool {pool} has now: {slots} slots"));
        }
        if let Some(active) = self.runs.get_mut(&run) {
            active.touch();
            if !active.finished() {
                let stored = active.stored();
                self.commit.runs.push(stored);
            }
        }
    }

    /// Feeds an input to a run's engine and gathers its effects.
    pub(super) fn feed(&mut self, run: i64, input: Input) {
        self.feed_with(run, input, None);
    }

    fn feed_with(&mut self, run: i64, input: Input, report: Option<AttemptReport>) {
        let Some(active) = self.runs.get_mut(&run) else { return };
        let effects = active.engine.handle(input, now());
        let mut report = report;
        for effect in effects {
            self.carry_out(run, effect, &mut report);
        }
    }

    fn carry_out(&mut self, run: i64, effect: Effect, report: &mut Option<AttemptReport>) {
        let Some(active) = self.runs.get_mut(&run) else { return };
        active.touch();
        match effect {
            Effect::Grant(grant) => {
                let message = Grant::new(run, &grant, active.engine.plan(), &active.errand);
                let key = message.key;
                let work = active.engine.worth(&grant.entries);
                self.commit.batches.push(NewBatch {
                    run_id: run,
                    number: grant.batch.0,
                    worker: self.workers.name(grant.worker).to_owned(),
                    slot: grant.slot,
                    entries: grant.entries,
                    granted_at: now().utc(),
                });
                self.workers.take(grant.worker, grant.slot, Use::Batch(key));
                active.served_at = tokio::time::Instant::now();
                self.sharing.entry(active.row.pool.clone()).or_default().served(&mut active.share, work);
                self.after.push(After::Send(grant.worker, ToWorker::Grant(Box::new(message))));
            }
            Effect::Revoke { worker, batch } => {
                let key = BatchKey { run, batch: batch.0 };
                self.after.push(After::Send(worker, ToWorker::Revoke { key }));
            }
            Effect::Began { batch, .. } => {
                let place = active.engine.open_batches().find(|(id, _, _)| *id == batch);
                if let Some((_, worker, slot)) = place {
                    self.workers.touched(worker, slot, None);
                }
            }
            Effect::Attempt(kept) => self.keep_attempt(run, kept, report.take()),
            Effect::Decided { entry, number, outcome } => {
                let month = active.month;
                if number > 0 {
                    self.commit.decided.push(Decided { month, run_id: run, entry, number, outcome });
                }
                let plan = active.engine.plan();
                active.new.decided(outcome, || DecidedChange {
                    index: entry,
                    test: plan.entries[entry as usize].name.to_string(),
                    variant: plan.variant_of(entry).to_string(),
                    outcome,
                });
                active.note_outcome(entry, outcome, "", None);
            }
            Effect::WentBack { .. } => {}
            Effect::GiveBack { worker, batch } => {
                let key = BatchKey { run, batch: batch.0 };
                self.after.push(After::Send(worker, ToWorker::GiveBack { key }));
            }
            Effect::GaveBack { batch, left } => self.commit.shrunk.push((run, batch.0, left)),
            Effect::BatchOver { batch } => {
                self.commit.over.push((run, batch.0));
                self.workers.free_batch(BatchKey { run, batch: batch.0 });
            }
            Effect::Note(text) => self.note(run, text),
            Effect::Waiting(_) => {}
            Effect::Verdict { verdict, reason } => {
                active.finished_at = Some(now());
                tracing::info!(run = active.name(), verdict = verdict.word(), reason, "a run is over");
                let stored = active.stored();
                self.commit.runs.push(stored);
                self.to_record.push(run);
                self.after.push(After::Over);
            }
        }
    }

    fn note(&mut self, run: i64, text: String) {
        if let Some(active) = self.runs.get_mut(&run)
            && active.notes.len() < 1000
        {
            active.notes.push(text.clone());
            active.new.note(text.clone());
            active.touch();
            self.commit.notes.push((run, text));
        }
    }

    fn keep_attempt(&mut self, run: i64, kept: AttemptKept, report: Option<AttemptReport>) {
        let worker = self.workers.name(kept.worker).to_owned();
        let crowded = self.workers.is_crowded(kept.worker);
        let (busy, of_slots) = self.workers.busy(kept.worker);
        let Some(active) = self.runs.get_mut(&run) else { return };
        let lost = || AttemptReport {
            key: BatchKey { run, batch: kept.batch.0 },
            entry: kept.entry,
            ended: kept.ended,
            began_us: now().0,
            ended_us: now().0,
            spent_us: 0,
            message: format!("the worker {worker} went away while this ran"),
            detail: String::new(),
            steps: Vec::new(),
            log: Log::None,
        };
        let report = report.unwrap_or_else(lost);
        let planned = &active.engine.plan().entries[kept.entry as usize];
        let plan = active.engine.plan();
        active.new.attempt(kept.ended, kept.decided, || AttemptChange {
            index: kept.entry,
            test: planned.name.to_string(),
            variant: plan.variant_of(kept.entry).to_string(),
            repeat: u32::from(planned.repeat),
            number: u32::from(kept.number),
            ended: kept.ended,
            outcome: kept.decided,
            spent_us: kept.spent.0,
            message: kesmo_core::name::shorten(&report.message, 500),
            worker: worker.clone(),
            slot: u32::from(kept.slot),
            ended_at_us: report.ended_us,
        });
        if let Some(last) = active.last.get_mut(kept.entry as usize) {
            *last = kept.spent.0;
        }
        if let Some(outcome) = kept.decided {
            active.note_outcome(kept.entry, outcome, &kesmo_core::name::shorten(&report.message, 500), Some(&worker));
        }
        if crowded {
            active.crowded.insert(kept.entry);
        } else {
            active.crowded.remove(&kept.entry);
        }
        let planned = &active.engine.plan().entries[kept.entry as usize];
        let (expected, month) = (planned.expected, active.month);
        // What was measured at least three times, and not guessed, has a spread well below itself. With other settings
        // than usual a test may take another time for its own reasons.
        let as_usual = active.options.set.is_empty() && active.options.env.is_none();
        let usual = expected.filter(|e| as_usual && planned.spread.0 * 3 < e.0);
        self.workers.touched(kept.worker, kept.slot, Some(kept.ended.failing()));
        if let (Ended::Passed | Ended::Failed, Some(usual)) = (kept.ended, usual)
            && let Some(turn) = self.workers.attempt_ended(kept.worker, kept.spent, usual)
        {
            self.crowding_turned(run, kept.worker, turn);
        }
        let (log, log_blob, log_bytes) = match report.log {
            Log::None => (String::new(), None, 0),
            Log::Text(text) => {
                let bytes = text.len() as u64;
                (text, None, bytes)
            }
            Log::Blob { digest, bytes } => (String::new(), Some(digest), bytes),
        };
        self.commit.attempts.push(NewAttempt {
            month,
            run_id: run,
            entry: kept.entry,
            number: kept.number,
            batch: kept.batch.0,
            worker,
            slot: kept.slot,
            began_at: Timestamp(report.began_us).utc(),
            spent_us: kept.spent.0,
            ended: kept.ended,
            decided: kept.decided,
            message: report.message,
            detail: report.detail,
            steps: serde_json::to_value(&report.steps).unwrap_or_default(),
            log,
            log_blob,
            log_bytes,
            busy,
            of_slots,
            expected_us: expected.map(|s| s.0),
        });
    }

    /// A worker is to fill only so many slots: the batches in the others give back what they have not begun.
    fn empty_slots(&mut self, worker: WorkerId, fills: u32) {
        let of_worker = |(id, run): (&i64, &super::active::ActiveRun)| {
            let open: Vec<BatchId> =
                run.engine.open_batches().filter(|(_, w, _)| *w == worker).map(|(batch, ..)| batch).collect();
            open.into_iter().map(|batch| (*id, batch)).collect::<Vec<_>>()
        };
        let open: Vec<(i64, BatchId)> = self.runs.iter().flat_map(of_worker).collect();
        for (run, batch) in open.into_iter().skip(fills as usize) {
            self.feed(run, Input::Crowded { batch });
        }
    }

    /// A worker became crowded, or is no longer: the run during which it shows says so.
    fn crowding_turned(&mut self, run: i64, worker: WorkerId, turn: Turn) {
        let name = self.workers.name(worker).to_owned();
        self.fleet_changed = true;
        match turn {
            Turn::Crowded(crowd) => {
                let fills = self.workers.fills(worker);
                self.empty_slots(worker, fills);
                let eased = if fills < crowd.slots { format!("; it fills {fills} now") } else { String::new() };
                self.note(run, format!("{}{eased}", crowd.said(&name)));
            }
            Turn::Relieved => self.note(run, format!("{name}: tests take their usual time again")),
            Turn::Fills(fills) => tracing::info!(worker = name, fills, "a worker that eases fills a slot more"),
        }
    }

    pub(super) fn take_message(&mut self, link: u64, message: FromWorker) {
        let Some(worker) = self.workers.of_link(link) else { return };
        match message {
            FromWorker::Hello(_) => {}
            FromWorker::Leaving => self.worker_lost(worker),
            FromWorker::Output { key, entry, from, text } => self.following.take(key, entry, from, &text),
            FromWorker::Report { number, events } => {
                for event in events {
                    self.worker_event(worker, event);
                }
                self.after.push(After::Send(worker, ToWorker::Stored { number }));
            }
        }
    }

    fn worker_event(&mut self, worker: WorkerId, event: WorkerEvent) {
        if let Some((run, input)) = event.input() {
            let report = if let WorkerEvent::Ended(report) = event { Some(*report) } else { None };
            return self.feed_with(run, input, report);
        }
        match event {
            WorkerEvent::Kept { key, entry, files } if self.runs.contains_key(&key.run) => {
                let row = |f: kesmo_wire::link::KeptFile| NewArtifact {
                    run_id: key.run,
                    entry,
                    batch: key.batch,
                    path: f.path,
                    about: f.about,
                    digest: f.digest,
                    bytes: f.bytes,
                };
                self.commit.artifacts.extend(files.into_iter().map(row));
            }
            WorkerEvent::Note { key, text } => self.note(key.run, text),
            WorkerEvent::Listed { job, result } => self.listed(worker, &job, result),
            // Files of a run that is over, and what is an engine's input.
            _ => {}
        }
    }

    /// Writes everything that was gathered, however long PostgreSQL is away, and then does what had to wait for it.
    pub(super) async fn keep(&mut self) {
        for (key, tests) in std::mem::take(&mut self.new_lists) {
            if let Err(e) = self.store.add_listing(&key, &tests).await {
                tracing::warn!("a list could not be kept and will be made again: {e}");
            }
        }
        for run in std::mem::take(&mut self.to_record) {
            self.record(run);
        }
        if !self.commit.is_empty() {
            let mut commit = std::mem::take(&mut self.commit);
            loop {
                commit.by = Some((self.leases.service.clone(), self.leases.held.iter().cloned().collect()));
                match self.store_commit(&commit).await {
                    Stored::Yes => break,
                    Stored::GivenUp => {
                        // Nothing of it is acknowledged, so that the workers bring it again to the next service.
                        self.after.clear();
                        break;
                    }
                    Stored::Elsewhere => {
                        if let Err(e) = self.hold(&std::collections::BTreeSet::new()).await {
                            tracing::warn!("leases could not be renewed: {e}");
                            tokio::time::sleep(Duration::from_millis(200)).await;
                        }
                        self.keep_own(&mut commit);
                    }
                }
            }
        }
        self.closing.clear();
        for after in std::mem::take(&mut self.after) {
            match after {
                After::Send(worker, message) => self.workers.send(worker, message),
                After::Stopped(reply) => tell(reply, true),
                After::Ask(ask) => self.answer(ask),
                After::Over => self.over.notify_one(),
            }
        }
    }

    /// Stored, or refused for good; given up only if the service is to stop and PostgreSQL is away.
    async fn store_commit(&self, commit: &Commit) -> Stored {
        let mut pause = Duration::from_millis(50);
        let mut tries = 0;
        loop {
            match self.store.commit(commit).await {
                Ok(()) => return Stored::Yes,
                Err(kesmo_store::Error::Elsewhere) => return Stored::Elsewhere,
                Err(e) => {
                    tries += 1;
                    if tries > 5 && self.stopping.load(std::sync::atomic::Ordering::SeqCst) {
                        tracing::error!("the service stops without its last commit: {e}");
                        return Stored::GivenUp;
                    }
                    // What PostgreSQL refuses for good must not stop all other runs; it is told loudly instead.
                    if tries > 20 && matches!(e, kesmo_store::Error::Refused(_) | kesmo_store::Error::Content(_)) {
                        tracing::error!("a commit is given up, PostgreSQL refuses it: {e}; {commit:?}");
                        return Stored::Yes;
                    }
                    tracing::warn!("a commit failed and is tried again: {e}");
                    tokio::time::sleep(pause).await;
                    pause = (pause * 2).min(Duration::from_secs(1));
                }
            }
        }
    }

    /// Brings the records of a run's tests up to date, beside the floor's work: a verdict need not wait for it.
    fn record(&mut self, run: i64) {
        let Some(active) = self.runs.get(&run).filter(|r| !r.last.is_empty()) else { return };
        let plan = active.engine.plan();
        let start_cost = active.engine.measured_start_cost();
        let mut outcomes = Vec::new();
        for index in 0..plan.entries.len() as u32 {
            let (Some(outcome), _, _) = active.engine.entry(index) else { continue };
            if !matches!(outcome, Outcome::Unrun | Outcome::Parked) {
                let key = (plan.entries[index as usize].name.to_string(), plan.variant_of(index).to_string());
                // What a test took that failed, or on a crowded machine, says nothing of what it usually takes.
                let telling = matches!(outcome, Outcome::Passed | Outcome::Flaky) && !active.crowded.contains(&index);
                let spent = active.last[index as usize];
                outcomes.push((key, outcome, (telling && spent > 0).then_some(Span(spent))));
            }
        }
        let (store, suite_id, name) = (self.store.clone(), active.row.suite_id, active.name());
        let pool = active.row.pool.clone();
        let before = std::mem::take(&mut self.recording);
        self.recording.push(tokio::spawn(async move {
            // In the order of the verdicts, so that no record is read before an earlier one is written.
            futures::future::join_all(before).await;
            let update = async {
                let mut records = store.records_in(suite_id, &pool).await?;
                let mut changed = std::collections::BTreeSet::new();
                // A test that was repeated has several outcomes.
                for (key, outcome, spent) in outcomes {
                    let record = records.remove(&key).unwrap_or_default().with(outcome, spent);
                    records.insert(key.clone(), record);
                    changed.insert(key);
                }
                let changed: Vec<_> =
                    changed.into_iter().filter_map(|key| records.remove(&key).map(|r| (key.0, key.1, r))).collect();
                if changed.is_empty() { Ok(()) } else { store.put_records(suite_id, &pool, &changed, start_cost).await }
            };
            if let Err(e) = update.await {
                tracing::warn!("the records of {name} could not be brought up to date: {e}");
            }
        }));
    }

    /// Waits until all records are up to date.
    pub(super) async fn settle_records(&mut self) {
        futures::future::join_all(std::mem::take(&mut self.recording)).await;
    }
}

/// What records say of a test.
pub(crate) fn history(records: &Records) -> impl Fn(&TestName, &Variant) -> Option<Known> {
    let known: std::collections::HashMap<(String, String), Known> = records
        .iter()
        .filter(|(_, r)| r.estimate.samples > 0)
        .map(|(key, r)| {
            let (expected, spread) = (r.estimate.expected(), r.estimate.spread());
            (key.clone(), Known { expected, spread, trouble: r.recent_trouble() })
        })
        .collect();
    move |name, variant| known.get(&(name.to_string(), variant.to_string())).copied()
}
