//! From what happens to what is kept: feeding engines, carrying out their effects, and committing.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};

use chrono::Utc;
use futures::FutureExt;
use kesmo_core::{
    name::TestName,
    plan::{
        Known, Plan, RunOptions,
        cutting::{Cut, Long, deal, may_cut, too_long},
    },
    run::{
        AttemptKept, BatchId, Effect, Engine, Input, PastAttempt, PastBatch, Policy, Prepared, WorkerId, load::Turn,
    },
    suite::{ListedTest, SuiteFile, Variant, container::Image},
    time::{Span, Timestamp},
    words::{Ended, Outcome, Verdict},
};
use kesmo_store::{
    Store,
    commit::{CasesOf, Decided, NewArtifact, NewAttempt, NewBatch, NewCase, RunChange},
    measures::NewMeasures,
    runs::RunRow,
};
use kesmo_wire::{
    link::{
        AttemptReport, BatchKey, FromWorker, Grant, GrantedEntry, KeptFile, Log, Said, SecretGiven, Setup, ToWorker,
        WorkerEvent,
    },
    live::{AttemptChange, DecidedChange},
};
use tokio::sync::oneshot;

use crate::{
    active::{ActiveRun, Listed, NO_LIST, NeededList, Opened},
    asking::{Message, tell},
    clock::{self, now},
    error::Error,
    floor::Floor,
    lists::{ListAsk, Made},
    portion::After,
    recording::{Counts, ToRecord, Took, outcomes_of, said_to_cover},
    workers::Use,
};

/// The setup of a run's batches.
fn setup(row: &RunRow, options: &RunOptions, suite: &str, file: &SuiteFile) -> Result<Setup, String> {
    Ok(Setup {
        run: format!("{suite}/{}", row.number),
        bundle: row.source.clone().unwrap_or_default(),
        branch: row.branch.clone(),
        commit: row.commit.clone(),
        variant: Vec::new(),
        settings: file.settings_with(&options.set).map_err(|e| e.to_string())?,
        env: file.environment(options.env.as_deref()).map_err(|e| e.to_string())?,
        seed: row.seed as u64,
        image: file.container.as_ref().map(|container| container.from.clone()),
        images: settled(row, options)?,
        reach: options.reached(file).map_err(|e| e.to_string())?.into_iter().collect(),
        secrets: Vec::new(),
    })
}

/// The secrets that a suite's processes are given.
///
/// # Errors
/// In words for people, if one of them is not to be had.
pub async fn secrets_of(
    store: &Store,
    file: &SuiteFile,
    suite: &str,
    brief: Option<&str>,
) -> Result<Vec<SecretGiven>, String> {
    let mut given = Vec::new();
    for wanted in &file.secrets {
        let name = wanted.name.as_str();
        let value = loop {
            match store.secret_for(name, suite, brief).await {
                Ok(Some(value)) => break value,
                Ok(None) => {
                    return Err(format!(
                        "the suite needs the secret {name}, and there is none: an admin adds it with kesmo secret add {name}"
                    ));
                }
                Err(kesmo_store::Error::Away(why)) => {
                    tracing::warn!("a secret could not be read, and will be soon: {why}");
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
                Err(kesmo_store::Error::Content(why)) => return Err(why),
                Err(e) => return Err(format!("the secret {name} cannot be read: {e}")),
            }
        };
        given.push(SecretGiven { variable: wanted.variable.clone(), as_file: wanted.as_file, value });
    }
    Ok(given)
}

/// The images that a run has settled on, and those that it was asked to.
fn settled(row: &RunRow, options: &RunOptions) -> Result<Vec<Image>, String> {
    let mut images = row.images().map_err(|e| e.to_string())?;
    let asked = options.images.iter().filter(|asked| !images.iter().any(|image| image.name == asked.name)).cloned();
    let asked: Vec<Image> = asked.collect();
    images.extend(asked);
    Ok(images)
}

impl Floor {
    /// Takes up a run that was begun, as it was kept.
    pub(super) async fn take_up_run(&mut self, row: RunRow, suite: String) -> Result<(), Error> {
        tracing::info!(run = format!("{suite}/{}", row.number), "taking up a run");
        let Some((mut active, variants)) = self.open_run(&row, &suite).await else { return Ok(()) };
        let mut lists = Vec::new();
        let mut unlisted = Vec::new();
        let mut gone = variants.len() != row.listings.len();
        for (variant, key) in variants.into_iter().zip(&row.listings) {
            let tests = if key == NO_LIST {
                unlisted.push(format!("the tests of {variant} were not listed: no worker that may came in time"));
                Vec::new()
            } else {
                let kept = self.store.listing(key).await?;
                gone |= kept.is_none();
                kept.unwrap_or_default()
            };
            lists.push((variant, tests));
        }
        // Its workers wait: all is read at the same time.
        let (store, month) = (&self.store, active.month);
        let (records, cuts, bones, past_batches) = futures::try_join!(
            store.told_by_records(row.suite_id, &row.pool, |record| Known::of(&record)),
            store.cuts(row.id),
            store.attempt_bones(row.id, month),
            store.batches(row.id),
        )?;
        let made = Plan::make(&active.file, &active.options, &lists, &active.parks, history(records));
        let made = made.map_err(|e| e.to_string()).and_then(|plan| {
            if gone { Err("the list of its tests is not kept any more".to_owned()) } else { Ok(plan) }
        });
        let plan = match made {
            Ok(plan) => Plan { unlisted, ..plan }.with_cuts(&cuts),
            Err(why) => {
                self.runs.insert(row.id, active);
                self.feed(row.id, Input::Void(why));
                return Ok(());
            }
        };
        let mut attempts = Vec::new();
        active.expect(plan.entries.len());
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
            active.took(past.entry, past.spent, past.number);
            attempts.push(past);
        }
        let mut batches = Vec::new();
        let mut unreadable = None;
        for batch in past_batches {
            let worker = if batch.open {
                self.workers.expect(&batch.worker, &row.pool, self.patience)
            } else {
                self.workers.number(&batch.worker)
            };
            batches.push(PastBatch {
                batch: BatchId(batch.number as u32),
                worker,
                slot: batch.slot as u16,
                entries: batch.entry_numbers().unwrap_or_else(|e| {
                    unreadable = Some(e.to_string());
                    Vec::new()
                }),
                granted_at: clock::from_row(batch.granted_at),
                open: batch.open,
            });
        }
        let began = clock::from_row(row.began_at.unwrap_or(row.created_at));
        let restored = match unreadable {
            Some(why) => Err(why),
            None => Engine::restore(active.engine.policy().clone(), plan, began, &attempts, &batches),
        };
        let wrongs = self.store.wrongs(row.id).await?;
        let measured = self.store.measured(row.id).await?;
        active.planning = true;
        active.lists = lists
            .into_iter()
            .zip(&row.listings)
            .map(|((variant, _), key)| NeededList { variant, key: key.clone(), tests: Listed::Stored })
            .collect();
        let of_cases = match &restored {
            Ok(engine) if engine.policy().files => {
                let all = 0..engine.plan().entries.len() as u32;
                let open: Vec<i32> = all.filter(|i| engine.entry(*i).0.is_none()).map(|i| i as i32).collect();
                let tallies = self.store.case_tallies(row.id, active.month, None).await?;
                (tallies, self.store.open_cases(row.id, active.month, &open).await?)
            }
            _ => (BTreeMap::new(), Vec::new()),
        };
        match restored {
            Ok(engine) => {
                active.engine = engine.with_wrongs(wrongs).with_measured(measured).with_cases(&of_cases.0, &of_cases.1)
            }
            Err(why) => {
                tracing::error!(run = active.name(), why, "a run cannot be built again");
                self.runs.insert(row.id, active);
                self.feed(row.id, Input::Void(format!("it cannot go on after a restart of the service: {why}")));
                return Ok(());
            }
        }
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
            let file = file.in_image(options.image.as_deref());
            options.check(&file).map_err(|e| e.to_string())?;
            let variants = file.facets.chosen(&options.variants).map_err(|e| e.to_string())?;
            let secrets = secrets_of(&self.store, &file, suite, row.brief.as_deref()).await?;
            let setup = Setup { secrets, ..setup(row, &options, suite, &file)? };
            let parks = row.parks_then().map_err(|e| e.to_string())?;
            let start_cost = self.store.start_cost(row.suite_id).await.map_err(|e| e.to_string())?;
            let start_cost = start_cost.map(|us| Span(us as u64));
            let engine = Engine::new(Policy::of(&file, &options, row.seed as u64, start_cost));
            Ok::<_, String>(Opened { file, options, parks, variants, engine, setup })
        };
        match read.await {
            Ok(opened) => {
                let variants = opened.variants.clone();
                Some((ActiveRun::new(row.clone(), suite.to_owned(), opened), variants))
            }
            Err(why) => {
                tracing::error!(run = format!("{suite}/{}", row.number), why, "a run cannot be taken up");
                let over = RunChange::over(row.id, Verdict::Void, &why, Utc::now());
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
            let ask = ListAsk::new(&active.file, &active.setup.bundle, &row.pool, &variant, &active.setup);
            let known = !ask.is_open()
                && self.store.has_listing(&ask.key).await.unwrap_or_else(|e| {
                    tracing::warn!("a list could not be looked for and is made again: {e}");
                    false
                });
            let tests = if known { Listed::Stored } else { Listed::Awaited };
            let key = ask.key.clone();
            if !known {
                asks.push(ask);
            }
            active.lists.push(NeededList { variant, key, tests });
        }
        self.commit.runs.push(active.stored());
        let offered = self.reachable.get(&active.row.pool).cloned().unwrap_or_default();
        let reached = active.setup.reach.clone();
        self.runs.insert(id, active);
        for (name, to) in reached.iter().filter_map(|name| Some((name, offered.get(name)?))) {
            self.note(id, format!("{name} is {to}"));
        }
        self.fleet_changed = true;
        for ask in asks {
            self.want_for_run(ask, id);
        }
        self.plan_if_listed(id);
    }

    /// A list that a run waited for is known.
    pub(super) fn list_known(&mut self, run: i64, asked: &ListAsk, made: &Made) {
        let Some(active) = self.runs.get_mut(&run) else { return };
        if let Some(image) = &made.image {
            active.settle(image);
        }
        let mut again = Vec::new();
        for list in active.lists.iter_mut().filter(|l| l.key == asked.key) {
            let now = ListAsk::new(&active.file, &active.setup.bundle, &active.row.pool, &list.variant, &active.setup);
            list.key.clone_from(&now.key);
            let name = made.image.as_ref().map(|image| image.name.as_str()).unwrap_or_default();
            // Another worker was faster with another image of that name: the run keeps to one.
            if asked.is_open() && active.setup.settled(name) != made.image.as_ref() {
                again.push(now);
                continue;
            }
            if list.key != asked.key {
                self.commit.listings.push((list.key.clone(), Arc::clone(&made.tests)));
            }
            list.tests = Listed::Here(Arc::clone(&made.tests));
        }
        if made.image.is_some() {
            let stored = active.stored();
            self.commit.runs.push(stored);
        }
        self.to_plan.push(run);
        for ask in again {
            self.want_for_run(ask, run);
        }
    }

    /// The tests of some variants of a run could not be listed in time: it goes on with the others.
    fn unlisted(&mut self, run: i64, of: BTreeMap<u16, String>) {
        for (variant, why) in of {
            let Some(active) = self.runs.get(&run) else { return };
            let Some(list) = active.lists.get(usize::from(variant)) else { continue };
            let key = list.key.clone();
            if !matches!(list.tests, Listed::Awaited) || self.is_being_made(&key) {
                continue;
            }
            let said = format!("the tests of {} could not be listed: {why}", list.variant);
            self.do_without(&key, run);
            if let Some(list) = self.runs.get_mut(&run).and_then(|r| r.lists.get_mut(usize::from(variant))) {
                list.key = NO_LIST.to_owned();
                list.tests = Listed::Missing(said.clone());
            }
            self.note(run, said);
        }
        self.to_plan.push(run);
    }

    /// Has the plan of a run made once all its lists are known, beside the floor's work: it may be large.
    pub(super) fn plan_if_listed(&mut self, run: i64) {
        let slots = self.runs.get(&run).map_or(0, |active| self.may_have(&active.row.pool, active.options.shards));
        let Some(active) = self.runs.get_mut(&run) else { return };
        if active.planning || active.lists.iter().any(|l| matches!(l.tests, Listed::Awaited)) {
            return;
        }
        let missing = |l: &NeededList| if let Listed::Missing(why) = &l.tests { Some(why.clone()) } else { None };
        let unlisted: Vec<String> = active.lists.iter().filter_map(missing).collect();
        if unlisted.len() == active.lists.len() {
            let why = unlisted.into_iter().next().unwrap_or_default();
            return self.feed(run, Input::Void(why));
        }
        active.planning = true;
        let lists: Vec<(Variant, String, Listed)> =
            active.lists.iter().map(|l| (l.variant.clone(), l.key.clone(), l.tests.clone())).collect();
        active.lists.iter_mut().filter(|l| matches!(l.tests, Listed::Here(_))).for_each(|l| l.tests = Listed::Stored);
        let (file, options, parks) = (active.file.clone(), active.options.clone(), active.parks.clone());
        let (suite, pool, policy) = (active.row.suite_id, active.row.pool.clone(), active.engine.policy().clone());
        let (store, own, recorded) = (self.beside.clone(), self.own.clone(), self.recorder.until_now_of(suite));
        self.others.spawn(async move {
            // What runs before it told counts; where files may be cut, also what their cases took, which comes after the records.
            let cut = may_cut(&file, &options).then(|| file.tests.rest.is_some());
            let fresh = if cut.is_some() {
                let hurry = store.hurry();
                recorded.written().await;
                drop(hurry);
                None
            } else {
                recorded.learnt(&pool).await
            };
            let made = async {
                let lists = read_lists(&store, lists).await?;
                let records = store.told_by_records(suite, &pool, |record| Known::of(&record)).await;
                let mut records = records.unwrap_or_else(|e| {
                    tracing::warn!("records could not be read; the run is planned without them: {e}");
                    HashMap::new()
                });
                let fresh_start_cost = fresh.and_then(|fresh| {
                    fresh.tell(&mut records, Known::of);
                    fresh.start_cost()
                });
                let make = move || Plan::make(&file, &options, &lists, &parks, history(records));
                let plan = tokio::task::spawn_blocking(make).await.map_err(|e| e.to_string())?;
                let plan = plan.map_err(|e| e.to_string())?;
                // The run before it may have been over when this one was begun, and not written down.
                let stored = store.start_cost(suite).await.unwrap_or_default().map(|us| Span(us as u64));
                let start_cost = fresh_start_cost.or(stored);
                let cuts = match cut {
                    Some(rest) => {
                        let long = too_long(&plan, slots, start_cost.unwrap_or_default());
                        cuts_of(&store, (run, suite), &plan, &long, rest).await?
                    }
                    None => Vec::new(),
                };
                let prepare = move || Prepared::of(&policy, Plan { unlisted, ..plan.with_cuts(&cuts) });
                let prepared = tokio::task::spawn_blocking(prepare).await.map_err(|e| e.to_string())?;
                Ok((prepared, start_cost))
            };
            let made = made.await;
            drop(own.send(Message::Planned(run, made)).await);
        });
    }

    /// How many slots a run may have at once: those that are here, or that the pool may start.
    fn may_have(&self, pool: &str, shards: Option<u32>) -> u32 {
        let started = self.pools.get(pool).map_or(0, |says| says.most_slots);
        let slots = self.workers.slots_in(pool).max(started);
        shards.map_or(slots, |most| slots.min(most))
    }

    /// The plan of a run was made, or cannot be.
    pub(super) fn planned(&mut self, run: i64, made: Result<(Prepared, Option<Span>), String>) {
        let Some(active) = self.runs.get_mut(&run) else { return };
        let (shards, pool) = (active.options.shards, active.row.pool.clone());
        match made {
            Ok((prepared, start_cost)) => {
                active.expect(prepared.entries());
                active.engine.know_start_cost(start_cost);
                let effects = active.engine.go_by(prepared, now());
                self.carry_all_out(run, effects, Said::Nothing);
            }
            Err(why) => self.feed(run, Input::Void(why)),
        }
        self.claims.due = true;
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
        self.tell_what_others_hold(run, &input);
        let Some(active) = self.runs.get_mut(&run) else { return };
        let effects = active.engine.handle(input, now());
        self.carry_all_out(run, effects, Said::Nothing);
    }

    fn carry_all_out(&mut self, run: i64, effects: Vec<Effect>, mut said: Said) {
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

/// How long files of a run are cut, as it is kept with the run.
async fn cuts_of(
    store: &Store,
    (run, suite): (i64, i64),
    plan: &Plan,
    long: &[Long],
    rest: bool,
) -> Result<Vec<Cut>, String> {
    let name =
        |long: &Long| (plan.entries[long.entry as usize].name.to_string(), plan.variant_of(long.entry).to_string());
    let files: Vec<(String, String)> = long.iter().map(name).collect();
    let known = if files.is_empty() { Ok(HashMap::new()) } else { store.known_cases(suite, &files).await };
    let known = known.unwrap_or_else(|e| {
        tracing::warn!("what is known of long files could not be read; none is cut: {e}");
        HashMap::new()
    });
    let cut = |(long, (file, variant)): (&Long, (String, String))| {
        let of = known.get(&(file.clone(), variant.clone())).filter(|of| rest || !of.long_cut)?;
        Some(Cut { parts: deal(&of.cases, long.parts)?, file, variant, rest })
    };
    let cuts: Vec<Cut> = long.iter().zip(files).filter_map(cut).collect();
    // What is granted is found again only by this: also that nothing is cut is kept, as a service that planned the run before, or
    // plans it still, may have come to something else. Whoever comes first decides.
    loop {
        match store.keep_cuts(run, &cuts).await {
            Ok(kept) => return Ok(kept),
            Err(kesmo_store::Error::Away(why)) => {
                tracing::warn!("how files are cut could not be kept, and will be soon: {why}");
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
            Err(e) => return Err(format!("how its files are cut cannot be kept: {e}")),
        }
    }
}

/// Reads lists that are stored. PostgreSQL may be away for a while.
async fn read_lists(
    store: &Store,
    lists: Vec<(Variant, String, Listed)>,
) -> Result<Vec<(Variant, Vec<ListedTest>)>, String> {
    let mut read = Vec::new();
    for (variant, key, tests) in lists {
        let tests = match tests {
            Listed::Here(tests) => tests.to_vec(),
            Listed::Missing(_) | Listed::Awaited => Vec::new(),
            Listed::Stored => loop {
                match store.listing(&key).await {
                    Ok(Some(tests)) => break tests,
                    Ok(None) => return Err("the list of its tests is not kept any more".into()),
                    Err(kesmo_store::Error::Away(why)) => {
                        tracing::warn!("a list could not be read, and will be soon: {why}");
                        tokio::time::sleep(Duration::from_millis(200)).await;
                    }
                    Err(e) => return Err(format!("the list of its tests cannot be read: {e}")),
                }
            },
        };
        read.push((variant, tests));
    }
    Ok(read)
}

/// What records say of a test.
pub fn history(known: HashMap<(String, String), Option<Known>>) -> impl Fn(&TestName, &Variant) -> Option<Known> {
    move |name, variant| known.get(&(name.to_string(), variant.to_string())).copied().flatten()
}
