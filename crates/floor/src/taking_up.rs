//! How a run comes to this floor: taken up where another left it, or begun; its lists, and its plan, which is made beside the floor's work.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};

use chrono::Utc;
use kesmo_core::{
    name::TestName,
    plan::{
        Known, Plan, RunOptions,
        cutting::{Cut, Long, deal, may_cut, too_long},
    },
    run::{BatchId, Engine, Input, PastAttempt, PastBatch, Policy, Prepared},
    suite::{ListedTest, SuiteFile, Variant, container::Image},
    time::Span,
    words::{Ended, Outcome, Verdict},
};
use kesmo_store::{Store, commit::RunChange, runs::RunRow};
use kesmo_wire::link::{Said, SecretGiven, Setup};

use crate::{
    active::{ActiveRun, Listed, NO_LIST, NeededList, Opened},
    asking::Message,
    clock::{self, now},
    error::Error,
    floor::Floor,
    lists::{ListAsk, Made},
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
    pub(super) fn unlisted(&mut self, run: i64, of: BTreeMap<u16, String>) {
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
