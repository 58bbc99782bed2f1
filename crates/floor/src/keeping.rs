//! From what happens to what is kept: feeding engines, carrying out their effects, and letting runs go.

use chrono::Utc;
use futures::FutureExt;
use kesmo_core::{
    run::{AttemptKept, BatchId, Effect, Input, WorkerId, load::Turn},
    time::{Span, Timestamp},
    words::{Ended, Verdict},
};
use kesmo_store::{
    commit::{CasesOf, Decided, NewArtifact, NewAttempt, NewBatch, NewCase},
    measures::NewMeasures,
};
use kesmo_wire::{
    link::{AttemptReport, BatchKey, FromWorker, Grant, GrantedEntry, KeptFile, Log, Said, ToWorker, WorkerEvent},
    live::{AttemptChange, DecidedChange},
};
use tokio::sync::oneshot;

use crate::{
    active::ActiveRun,
    asking::tell,
    clock::now,
    floor::Floor,
    portion::After,
    recording::{Counts, ToRecord, Took, outcomes_of, said_to_cover},
    workers::Use,
};

impl Floor {
    /// Feeds an input to a run's engine and gathers its effects.
    pub(super) fn feed(&mut self, run: i64, input: Input) {
        self.tell_what_others_hold(run, &input);
        let Some(active) = self.runs.get_mut(&run) else { return };
        let effects = active.engine.handle(input, now());
        self.carry_all_out(run, effects, Said::Nothing);
    }

    pub(super) fn carry_all_out(&mut self, run: i64, effects: Vec<Effect>, mut said: Said) {
        for effect in effects {
            self.carry_out(run, effect, &mut said);
        }
    }

    fn carry_out(&mut self, run: i64, effect: Effect, said: &mut Said) {
        let Some(active) = self.runs.get_mut(&run) else { return };
        active.touch();
        match effect {
            Effect::Grant(grant) => {
                let message = Grant::new(run, &grant, active.engine.plan(), &active.setup);
                let key = message.key;
                let work = active.engine.worth(&grant.entries);
                self.commit.batches.push(NewBatch {
                    run_id: run,
                    number: grant.batch.0,
                    worker: self.workers.name(grant.worker).to_owned(),
                    slot: grant.slot,
                    entries: grant.entries,
                    granted_at: Utc::now(),
                });
                self.workers.take(grant.worker, grant.slot, Use::Batch(key));
                self.sharing.entry(active.row.pool.clone()).or_default().served(&mut active.share, work);
                self.figures.grant();
                self.after.push(After::Send(grant.worker, ToWorker::Grant(Box::new(message))));
            }
            Effect::Begin { worker, batch } => {
                let key = BatchKey { run, batch: batch.0 };
                self.after.push(After::Send(worker, ToWorker::Begin { key }));
            }
            Effect::Revoke { worker, batch } => {
                let key = BatchKey { run, batch: batch.0 };
                self.after.push(After::Send(worker, ToWorker::Revoke { key }));
            }
            Effect::Began { batch, .. } => {
                if let Some((worker, slot)) = active.engine.slot_of(batch) {
                    self.workers.touched(worker, slot, None);
                }
            }
            Effect::Attempt(kept) => {
                let report = said.take_attempt();
                self.figures.result(kept.ended.word());
                self.keep_attempt(run, kept, report);
            }
            Effect::Cases { entry, number, first, skip, outcomes } => {
                let month = active.month;
                let told = said.take_cases().into_iter().skip(skip as usize).zip(outcomes).zip(first..);
                self.commit.cases.extend(told.map(|((case, (parked, outcome)), place)| NewCase {
                    month,
                    run_id: run,
                    entry,
                    number,
                    place,
                    title: case.title,
                    ended: case.ended,
                    outcome,
                    parked,
                    copy: case.copy,
                    spent_us: case.spent_us,
                    message: case.message,
                    detail: case.detail,
                }));
            }
            Effect::Measured { batch, part } => {
                active.touch();
                self.figures.measured();
                self.commit.measured.push((run, batch.0, part));
            }
            Effect::Covers { entry, of } => {
                let test = active.engine.plan().entries[entry as usize].name.to_string();
                self.commit.covers.push((run, test, of));
            }
            Effect::CasesSettled { entry } => {
                self.commit.settled_cases.push(CasesOf { month: active.month, run_id: run, entry, number: 0 });
            }
            Effect::CasesLost { entry, number } => {
                self.commit.lost_cases.push(CasesOf { month: active.month, run_id: run, entry, number });
            }
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
            Effect::GiveBack { worker, batch, from } => {
                let key = BatchKey { run, batch: batch.0 };
                self.after.push(After::Send(worker, ToWorker::GiveBack { key, from }));
            }
            Effect::Feed { worker, batch, entries, last } => {
                let key = BatchKey { run, batch: batch.0 };
                let plan = active.engine.plan();
                let fed = entries.iter().map(|index| GrantedEntry::new(*index, plan)).collect();
                if !entries.is_empty() {
                    let work = active.engine.worth(&entries);
                    self.sharing.entry(active.row.pool.clone()).or_default().served(&mut active.share, work);
                    self.commit.fed.push((run, batch.0, entries));
                }
                self.after.push(After::Send(worker, ToWorker::Feed { key, entries: fed, last }));
            }
            Effect::GaveBack { batch, left } => self.commit.shrunk.push((run, batch.0, left)),
            Effect::BatchOver { batch } => {
                self.commit.over.push((run, batch.0));
                self.workers.free_batch(BatchKey { run, batch: batch.0 });
            }
            Effect::Note(text) => self.note(run, text),
            Effect::Wrong(text) => {
                active.notes.push(text.clone());
                active.new.note(text.clone());
                self.commit.wrongs.push((run, text));
            }
            Effect::Unlisted(of) => self.unlisted(run, of),
            Effect::Waiting(_) => {}
            Effect::Verdict { verdict, reason } => {
                active.finished_at = Some(now());
                let machines =
                    active.machines.as_ref().map(|(_, why)| format!("machines of the pool {}: {why}", active.row.pool));
                let took = (chrono::Utc::now() - active.row.created_at).to_std().unwrap_or_default();
                self.figures.run(verdict.word(), took);
                tracing::info!(run = active.name(), verdict = verdict.word(), reason, "a run is over");
                let stored = active.stored();
                self.commit.runs.push(stored);
                let measured = active.engine.measured();
                if !measured.is_empty() {
                    self.commit.measures.push(NewMeasures { run_id: run, measured: measured.clone() });
                }
                self.to_record.push(run);
                self.after.push(After::Over);
                if let Some(machines) = machines {
                    self.note(run, machines);
                }
            }
        }
    }

    /// Keeps files that a batch, or an attempt in it, left behind.
    pub(super) fn keep_files(&mut self, key: BatchKey, entry: Option<u32>, files: Vec<KeptFile>) {
        let row = |file: KeptFile| NewArtifact {
            run_id: key.run,
            entry,
            batch: key.batch,
            path: file.path,
            about: file.about,
            digest: file.digest.into(),
            bytes: file.bytes,
        };
        self.commit.artifacts.extend(files.into_iter().map(row));
    }

    pub(super) fn note(&mut self, run: i64, text: String) {
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
        let overloaded = self.workers.is_overloaded(kept.worker);
        let (busy, of_slots) = self.workers.busy(kept.worker);
        let Some(active) = self.runs.get_mut(&run) else { return };
        let lost = || AttemptReport {
            key: BatchKey { run, batch: kept.batch.0 },
            entry: kept.entry,
            ended: kept.ended,
            began_us: Utc::now().timestamp_micros(),
            ended_us: Utc::now().timestamp_micros(),
            spent_us: 0,
            message: format!("the worker {worker} went away while this ran"),
            detail: String::new(),
            steps: Vec::new(),
            log: Log::None,
            cases: 0,
            with_start: None,
        };
        let report = report.unwrap_or_else(lost);
        let planned = &active.engine.plan().entries[kept.entry as usize];
        let plan = active.engine.plan();
        active.new.attempt(kept.ended, kept.decided, || AttemptChange {
            index: kept.entry,
            test: planned.name.to_string(),
            variant: plan.variant_of(kept.entry).to_string(),
            repeat: u32::from(planned.repeat),
            parts: planned.parts(),
            number: u32::from(kept.number),
            ended: kept.ended,
            outcome: kept.decided,
            spent_us: kept.spent.0,
            message: kesmo_core::name::shorten(&report.message, 500),
            worker: worker.clone(),
            slot: u32::from(kept.slot),
            ended_at_us: report.ended_us,
        });
        active.took(kept.entry, kept.spent, kept.number);
        if let Some(outcome) = kept.decided {
            active.note_outcome(kept.entry, outcome, &kesmo_core::name::shorten(&report.message, 500), Some(&worker));
        }
        if overloaded {
            active.overloaded.insert(kept.entry);
        } else {
            active.overloaded.remove(&kept.entry);
        }
        let planned = &active.engine.plan().entries[kept.entry as usize];
        let (expected, month) = (planned.expected, active.month);
        // What was measured at least three times, and not guessed, has a spread well below itself. With other settings
        // than usual a test may take another time for its own reasons.
        let as_usual = active.options.set.is_empty() && active.options.env.is_none();
        let usual = expected.filter(|e| as_usual && planned.spread.0 * 3 < e.0);
        self.workers.touched(kept.worker, kept.slot, Some(kept.ended.failing()));
        if let (Ended::Passed | Ended::Failed, Some(usual)) = (kept.ended, usual)
            && let Some(turn) = self.workers.attempt_ended(kept.worker, kept.own, usual)
        {
            self.load_turned(run, kept.worker, turn);
        }
        let (log, log_blob, log_bytes) = match report.log {
            Log::None => (String::new(), None, 0),
            Log::Text(text) => {
                let bytes = text.len() as u64;
                (text, None, bytes)
            }
            Log::Blob { digest, bytes } => (String::new(), Some(digest.into()), bytes),
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
            itself: kept.itself,
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
        let of_worker = |(id, run): (&i64, &ActiveRun)| {
            let open: Vec<BatchId> =
                run.engine.open_batches().filter(|(_, w, _)| *w == worker).map(|(batch, ..)| batch).collect();
            open.into_iter().map(|batch| (*id, batch)).collect::<Vec<_>>()
        };
        let open: Vec<(i64, BatchId)> = self.runs.iter().flat_map(of_worker).collect();
        for (run, batch) in open.into_iter().skip(fills as usize) {
            self.feed(run, Input::Overloaded { batch });
        }
    }

    /// A worker became overloaded, or is no longer: the run during which it shows says so.
    fn load_turned(&mut self, run: i64, worker: WorkerId, turn: Turn) {
        let name = self.workers.name(worker).to_owned();
        self.fleet_changed = true;
        match turn {
            Turn::Overloaded(overload) => {
                let fills = self.workers.fills(worker);
                self.empty_slots(worker, fills);
                let eased = if fills < overload.slots { format!("; it fills {fills} now") } else { String::new() };
                self.note(run, format!("{}{eased}", overload.said(&name)));
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
            FromWorker::Output { key, entry, from, text } => {
                if self.holds_batch(worker, key) {
                    self.following.take(key, entry, from, &text);
                }
            }
            FromWorker::Report { number, events } => {
                for event in events {
                    self.worker_event(worker, event);
                }
                self.after.push(After::Send(worker, ToWorker::Stored { number }));
            }
        }
    }

    /// Whether a worker holds a batch: only then it may speak of it.
    fn holds_batch(&self, worker: WorkerId, key: BatchKey) -> bool {
        self.runs.get(&key.run).is_some_and(|r| r.engine.holder(BatchId(key.batch)) == Some(worker))
    }

    fn worker_event(&mut self, worker: WorkerId, event: WorkerEvent) {
        if let Some((run, input)) = event.input() {
            let said = Said::from(event);
            self.tell_what_others_hold(run, &input);
            let Some(active) = self.runs.get_mut(&run) else { return };
            let effects = active.engine.hear(worker, input, now());
            return self.carry_all_out(run, effects, said);
        }
        match event {
            WorkerEvent::Kept { key, entry, files } if self.holds_batch(worker, key) => {
                let engine = self.runs.get(&key.run).map(|r| &r.engine);
                if entry.is_some_and(|entry| !engine.is_some_and(|e| e.is_in(BatchId(key.batch), entry))) {
                    return;
                }
                self.keep_files(key, entry, files);
            }
            WorkerEvent::Note { key, text } if self.holds_batch(worker, key) => self.note(key.run, text),
            event @ WorkerEvent::Listed { .. } => self.listed(worker, event),
            // What is an engine's input, and what is said of batches that another holds.
            _ => {}
        }
    }

    /// Has a run that is over recorded once [`let_go`](Self::let_go) lets go of it; none where nothing of it is to be.
    pub(super) fn begin_recording(&mut self, run: i64) -> Option<oneshot::Sender<ToRecord>> {
        let active = self.runs.get(&run).filter(|r| !r.last.is_empty())?;
        let (told, record) = oneshot::channel();
        self.recorder.record(active.row.suite_id, run, async { record.await.ok() }.boxed());
        Some(told)
    }

    /// Lets go of a run that is over. What it tells of very many tests takes a while to be put together, and so does giving up what it
    /// held: neither is done here.
    pub(super) fn let_go(&mut self, run: i64, records: Option<oneshot::Sender<ToRecord>>) {
        let Some(over) = self.runs.remove(&run) else { return };
        self.closed.push(over.summary(now()));
        self.queue_changed = true;
        self.others.spawn_blocking(move || {
            if let Some(records) = records {
                tell(records, record_of(&over));
            }
        });
    }
}

/// What a run that is over tells.
fn record_of(active: &ActiveRun) -> ToRecord {
    // What it took on an overloaded machine says nothing of what is usual.
    let took = |index: u32| {
        let last = Span(active.last[index as usize]);
        let usual = active.engine.own_of(index, last);
        let retried = Span(active.retried[index as usize]);
        // A retry of a file may be of some of its cases.
        let some = active.engine.policy().rerun && active.engine.entry(index).2 > 1;
        let told = !active.overloaded.contains(&index) && !some;
        Took { last, retried, usual: told.then_some(usual) }
    };
    let outcome = |index: u32| active.engine.entry(index).0;
    let (plan, verdict) = (active.engine.plan(), active.verdict().map_or(Verdict::Void, |(verdict, _)| verdict));
    ToRecord {
        suite: active.row.suite_id,
        pool: active.row.pool.clone(),
        id: active.row.id,
        run: active.name(),
        made: active.row.created_at,
        branch: active.row.branch.clone().unwrap_or_default(),
        counts: Counts::of(&active.options, false, verdict, plan, outcome),
        outcomes: outcomes_of(&active.engine, took),
        covers: said_to_cover(plan),
        start_cost: active.engine.measured_start_cost(),
    }
}
