//! One run on the floor: its engine, and what views of it need.

use std::{
    collections::{BTreeMap, BTreeSet, VecDeque},
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use chrono::NaiveDate;
use kesmo_core::{
    plan::{Alike, Park, RunOptions},
    run::{BatchId, Engine, TimeLeft, WorkerId, share::Share},
    suite::{ListedTest, SuiteFile, Variant, container::Image},
    time::{Span, Timestamp},
    words::{Outcome, Phase, Verdict},
};
use kesmo_store::{commit::RunChange as StoredRun, runs::RunRow};
use kesmo_wire::{
    api::{Entries, Entry, MeasureNow, Run, RunSummary, Slot},
    link::Setup,
    live::{Gathered, RunSlot, thin},
};
use tokio::time::Instant;

use crate::{
    asking::{EntryOrder, EntryQuestion},
    chain::Chain,
    clock,
    hub::Hub,
    workers::Workers,
};

/// A run's changes are published at most this often.
pub(crate) const PUBLISH_EVERY: Duration = Duration::from_millis(100);
/// How long a run of very many slots still takes is reckoned at most this often, and what its slots do is gathered.
const LEFT_EVERY: Span = Span(1_000_000);
const SLOTS_EVERY: Duration = Duration::from_millis(400);
const MANY_SLOTS: u32 = 500;
/// Entries in trouble that a snapshot holds.
const MOST_TROUBLE: usize = 200;
/// Letters of a summary's strip and of a snapshot's.
pub(crate) const SHORT_STRIP: usize = 200;
pub const LONG_STRIP: usize = 2000;

/// A list that a run needs.
pub(super) struct NeededList {
    pub variant: Variant,
    pub key: String,
    pub tests: Listed,
}

/// Where the tests of a list are.
#[derive(Clone)]
pub(super) enum Listed {
    /// A worker is to make it.
    Awaited,
    Stored,
    Here(Arc<Vec<ListedTest>>),
    /// No worker that may make it came in time: the run goes on without these tests, and says why.
    Missing(String),
}

/// The key of a list that a run goes on without.
pub const NO_LIST: &str = "";

/// What a run is made of, read from its row and its suite file.
pub(crate) struct Opened {
    pub file: SuiteFile,
    pub options: RunOptions,
    pub parks: Vec<Park>,
    pub variants: Vec<Variant>,
    pub engine: Engine,
    pub setup: Setup,
}

pub(crate) struct ActiveRun {
    pub row: RunRow,
    pub suite: String,
    pub file: SuiteFile,
    pub month: NaiveDate,
    pub engine: Engine,
    pub setup: Setup,
    pub options: RunOptions,
    pub parks: Vec<Park>,
    /// What each variant needs of a worker.
    pub needs: Vec<BTreeMap<String, String>>,
    pub capable: BTreeSet<WorkerId>,
    /// Where it stands among the runs that share its pool's slots.
    pub share: Share,
    /// That it has fewer slots than its due.
    pub lacks: Option<Lack>,
    pub(super) lists: Vec<NeededList>,
    /// Its plan is being made, or is made.
    pub(super) planning: bool,
    pub hub: Arc<Hub>,
    pub notes: Vec<String>,
    /// The images that it has run in.
    pub images: Vec<Image>,
    pub strip: String,
    pub finished_at: Option<Timestamp>,
    /// What each entry's last attempt took, in microseconds, and what those before it took together.
    pub last: Vec<u64>,
    pub retried: Vec<u64>,
    /// Entries whose last attempt ran on an overloaded worker: what they took says nothing of what they usually take.
    pub overloaded: BTreeSet<u32>,
    pub trouble: VecDeque<Entry>,
    /// Something changed since it was published.
    pub dirty: bool,
    pub floor_dirty: bool,
    pub published: Instant,
    /// How long it still took when that was reckoned last.
    left: Mutex<Option<(Timestamp, Option<TimeLeft>)>>,
    /// What its slots did when that was gathered last.
    slots: Option<(Instant, Vec<RunSlot>)>,
    /// Its place among the runs of its pool that nothing was begun of, and how many those are.
    pub place: Option<(u32, u32)>,
    /// In a pool that starts machines: the most that were wanted while it ran, and why not more.
    pub machines: Option<(u32, String)>,
    /// What makes it comparable with other runs.
    pub alike: Alike,
    /// Changes since then.
    pub new: Gathered,
}

/// That a run has fewer slots than its due beside others.
#[derive(Debug, Clone, Copy)]
pub struct Lack {
    /// Since when, or when others were last asked for some.
    pub since: Instant,
    /// When that was last looked at.
    pub looked: Instant,
    /// How many slots are its due.
    pub due: u32,
}

impl ActiveRun {
    pub fn new(row: RunRow, suite: String, opened: Opened) -> Self {
        let Opened { file, options, parks, variants, engine, setup } = opened;
        let share = Share::new(options.priority.unwrap_or_default().weight());
        let needs = variants.iter().map(|v| file.needs_of(v)).collect();
        let month = kesmo_store::month_of(row.created_at);
        let mut images = row.images().unwrap_or_default();
        // What is settled beforehand need not be found out.
        for variant in &variants {
            let settled = Setup { variant: variant.pairs().to_vec(), ..setup.clone() }.settled_image().cloned();
            images.extend(settled.filter(|settled| !images.iter().any(|image| image.name == settled.name)));
        }
        let alike = options.alike();
        let fresh = Instant::now().checked_sub(PUBLISH_EVERY).unwrap_or_else(Instant::now);
        Self {
            month,
            row,
            suite,
            file,
            engine,
            setup,
            options,
            parks,
            needs,
            capable: BTreeSet::new(),
            share,
            lacks: None,
            lists: Vec::new(),
            planning: false,
            hub: Arc::new(Hub::default()),
            notes: Vec::new(),
            images,
            strip: String::new(),
            finished_at: None,
            last: Vec::new(),
            retried: Vec::new(),
            overloaded: BTreeSet::new(),
            trouble: VecDeque::new(),
            dirty: true,
            floor_dirty: true,
            published: fresh,
            place: None,
            machines: None,
            alike,
            left: Mutex::default(),
            slots: None,
            new: Gathered::default(),
        }
    }

    /// Makes room for what attempts take, once its entries are known.
    pub fn expect(&mut self, entries: usize) {
        (self.last, self.retried) = (vec![0; entries], vec![0; entries]);
    }

    /// Notes what an attempt took; what was the last until now was retried, unless its worker went away.
    pub fn took(&mut self, entry: u32, spent: Span, number: u16) {
        let place = entry as usize;
        if let (Some(last), Some(retried)) = (self.last.get_mut(place), self.retried.get_mut(place)) {
            let before = std::mem::replace(last, spent.0);
            if number > 1 {
                *retried = retried.saturating_add(before);
            }
        }
    }

    pub fn name(&self) -> String {
        format!("{}/{}", self.suite, self.row.number)
    }

    pub fn finished(&self) -> bool {
        self.finished_at.is_some()
    }

    pub fn touch(&mut self) {
        self.dirty = true;
        self.floor_dirty = true;
    }

    pub fn verdict(&self) -> Option<(Verdict, String)> {
        self.engine.verdict().map(|(v, r)| (v, r.to_owned()))
    }

    /// How the run stands, for its row.
    pub fn stored(&self) -> StoredRun {
        let verdict = self.verdict();
        let finished = verdict.is_some();
        StoredRun {
            run_id: self.row.id,
            phase: self.engine.phase(),
            reason: verdict.as_ref().map(|v| v.1.clone()).unwrap_or_default(),
            verdict: verdict.map(|v| v.0),
            listings: self.lists.iter().map(|l| l.key.clone()).collect(),
            listed: self.engine.plan().listed as u32,
            tally: self.engine.tally(),
            stats: self.engine.stats(),
            strip: if finished { thin(&self.strip, LONG_STRIP) } else { String::new() },
            began_at: self.engine.began_at().map(clock::told),
            finished_at: self.finished_at.map(clock::told),
            images: Some(self.images.clone()),
        }
    }

    /// Notes that processes run in an image: the first under its name is kept to. Of one that is built, each engine makes its own.
    pub fn settle(&mut self, image: &Image) {
        if !self.images.iter().any(|known| known.name == image.name) {
            self.images.push(image.clone());
            self.touch();
        }
        if self.setup.settled(&image.name).is_none() {
            self.setup.images.push(image.clone());
        }
    }

    pub fn summary(&self, now: Timestamp) -> RunSummary {
        let verdict = self.verdict();
        RunSummary {
            name: self.name(),
            suite: self.suite.clone(),
            number: self.row.number as u32,
            phase: self.engine.phase(),
            reason: verdict.as_ref().map(|v| v.1.clone()).unwrap_or_default(),
            verdict: verdict.map(|v| v.0),
            waiting_for: self.engine.waiting_for().map(str::to_owned).or_else(|| self.waits_for_slots()),
            no_worker: self.engine.waiting_for().is_some() && self.engine.slots_in_use() == 0,
            tally: self.engine.tally(),
            stats: self.engine.stats(),
            labels: serde_json::from_value(self.row.labels.clone()).unwrap_or_default(),
            pool: self.row.pool.clone(),
            started_by: self.row.started_by.clone(),
            created_at: self.row.created_at,
            began_at: self.engine.began_at().map(clock::told),
            finished_at: self.finished_at.map(clock::told),
            left: self.left(now),
            rate: self.engine.rate(now),
            strip: thin(&self.strip, SHORT_STRIP),
            slots: self.engine.slots_in_use(),
            branch: self.row.branch.clone(),
            commit: self.row.commit.clone(),
            origin: self.row.origin().unwrap_or_default(),
            place: self.place.filter(|_| self.nothing_begun()),
            machines: self.machines.as_ref().map(|(_, why)| why.clone()),
            alike: self.alike.clone(),
            measures: match self.engine.verdict() {
                None => MeasureNow::all(self.engine.measured(), now.0.div_euclid(1_000_000)),
                Some(_) => MeasureNow::in_all(self.engine.measured()),
            },
        }
    }

    /// How long it still takes. Of very many slots each is looked at for that: then what was told is told for a while.
    fn left(&self, now: Timestamp) -> Option<TimeLeft> {
        let mut told = self.left.lock().unwrap_or_else(PoisonError::into_inner);
        let fresh = told.filter(|(at, _)| *at <= now && now.since(*at) < LEFT_EVERY);
        if let Some((_, left)) = fresh.filter(|_| self.engine.slots_in_use() >= MANY_SLOTS) {
            return left;
        }
        let left = self.engine.time_left(now);
        *told = Some((now, left));
        left
    }

    /// What its slots do. Of very many each is looked at for that: then what was told is told for a while.
    pub fn slots(&mut self, workers: &Workers) -> Vec<RunSlot> {
        let many = self.engine.slots_in_use() >= MANY_SLOTS;
        if let Some((_, slots)) = self.slots.as_ref().filter(|(at, _)| many && at.elapsed() < SLOTS_EVERY) {
            return slots.clone();
        }
        let slots = workers.slots_of(self);
        self.slots = many.then(|| (Instant::now(), slots.clone()));
        slots
    }

    /// Whether no slot has worked for it yet.
    pub fn nothing_begun(&self) -> bool {
        self.engine.slots_in_use() == 0 && self.strip.is_empty() && !self.finished() && self.engine.stats().ended == 0
    }

    /// What it waits for whose tests are known and which no slot works for.
    fn waits_for_slots(&self) -> Option<String> {
        let (place, _) = self.place.filter(|_| self.nothing_begun())?;
        let before = match place {
            1 => "it is the next".to_owned(),
            2 => "one run is before it".to_owned(),
            n => format!("{} runs are before it", n - 1),
        };
        match self.engine.phase() {
            Phase::Running => Some(format!("all slots of the pool {} are busy; {before}", self.row.pool)),
            Phase::Listing => Some(format!("its tests are to be listed; {before}")),
            _ => None,
        }
    }

    /// Whether it has had fewer slots than its due for a while, and still has.
    pub fn lacks_slots(&self) -> bool {
        self.lacks.is_some_and(|lack| self.engine.slots_in_use() < lack.due)
    }

    /// Takes away from idle slots those for which it is asked to give something back, but for some of them.
    pub fn take_asked_for(&self, idle: &mut Vec<WorkerId>, but_for: u32) {
        let mut taken = self.engine.still_asked().saturating_sub(but_for);
        idle.retain(|worker| {
            let takes = taken > 0 && self.capable.contains(worker);
            taken -= u32::from(takes);
            !takes
        });
    }

    pub fn detail(&self, now: Timestamp, chain: Chain) -> Run {
        let summary = self.summary(now);
        let (chain, then) = chain.told_with(&summary);
        Run {
            summary,
            bundle: self.row.source.clone().unwrap_or_default(),
            git: self.row.git_source().ok().flatten().map(|g| g.shown()),
            chain,
            then,
            options: self.options.clone(),
            listed: self.engine.plan().listed as u32,
            choice: self.choice_said(),
            seed: self.row.seed as u64,
            variants: self.engine.plan().variants.iter().map(ToString::to_string).collect(),
            notes: self.notes.clone(),
            images: self.images.clone(),
            reach: self.setup.reach.clone(),
        }
    }

    /// What was chosen, in words; empty before the tests are known.
    fn choice_said(&self) -> String {
        let plan = self.engine.plan();
        let options = RunOptions { seed: Some(self.row.seed as u64), ..self.options.clone() };
        if plan.entries.is_empty() { String::new() } else { plan.choice_said(&options) }
    }

    /// Says what a slot does that has this batch.
    pub fn fill_slot(&self, slot: &mut Slot, batch: BatchId) {
        slot.run = Some(self.name());
        slot.fill(&self.engine, batch);
    }

    /// Notes an outcome for the views.
    pub fn note_outcome(&mut self, index: u32, outcome: Outcome, message: &str, worker: Option<&str>) {
        self.strip.push(kesmo_wire::live::letter(outcome));
        if matches!(outcome, Outcome::Failed | Outcome::Flaky) {
            if self.trouble.len() == MOST_TROUBLE {
                self.trouble.pop_front();
            }
            let entry = Entry { message: message.to_owned(), worker: worker.map(str::to_owned), ..self.entry(index) };
            self.trouble.push_back(entry);
        }
    }

    pub fn entry(&self, index: u32) -> Entry {
        let planned = &self.engine.plan().entries[index as usize];
        let (outcome, running, attempts) = self.engine.entry(index);
        let spent = self.last.get(index as usize).copied().filter(|_| attempts > 0);
        Entry {
            index,
            test: planned.name.to_string(),
            variant: self.engine.plan().variant_of(index).to_string(),
            repeat: u32::from(planned.repeat),
            parts: planned.parts(),
            outcome,
            running,
            attempts: u32::from(attempts),
            spent_us: spent,
            message: String::new(),
            worker: None,
            cases: self.engine.cases_of(index),
        }
    }

    /// A page of entries; their messages are added by who asks.
    pub fn entries(&self, question: &EntryQuestion) -> Entries {
        if self.engine.phase() == Phase::Listing {
            return Entries { total: 0, entries: Vec::new() };
        }
        let plan = self.engine.plan();
        let variants: Vec<String> = plan.variants.iter().map(ToString::to_string).collect();
        page(
            plan.entries.len() as u32,
            question,
            |i| {
                let (outcome, running, _) = self.engine.entry(i);
                let planned = &plan.entries[i as usize];
                let state = state_word(outcome, running);
                (state, planned.name.as_str(), variants[usize::from(planned.variant)].as_str())
            },
            |i| (self.last.get(i as usize).copied().unwrap_or(0), self.engine.entry(i).2),
            |i| self.entry(i),
        )
    }
}

/// The word of an entry's state.
pub fn state_word(outcome: Option<Outcome>, running: bool) -> &'static str {
    match outcome {
        Some(outcome) => outcome.word(),
        None if running => "running",
        None => "waiting",
    }
}

/// Finds the entries that answer a question, in its order. `took` tells what an entry's last attempt took, in microseconds,
/// and how many it has had.
pub fn page<'a>(
    count: u32,
    question: &EntryQuestion,
    about: impl Fn(u32) -> (&'static str, &'a str, &'a str),
    took: impl Fn(u32) -> (u64, u16),
    make: impl Fn(u32) -> Entry,
) -> Entries {
    let wanted = question.name.to_lowercase();
    let mut found: Vec<(u64, u32)> = Vec::new();
    for index in 0..count {
        let (state, name, variant) = about(index);
        let in_state = match question.state.as_str() {
            "" => true,
            "trouble" => matches!(state, "failed" | "flaky"),
            other => other == state,
        };
        let named =
            wanted.is_empty() || name.to_lowercase().contains(&wanted) || variant.to_lowercase().contains(&wanted);
        if in_state && named {
            let rank = match (question.order, state) {
                (EntryOrder::Slowest, _) => u64::MAX - took(index).0,
                (EntryOrder::Fastest, _) => took(index).0.wrapping_sub(1),
                (EntryOrder::Attempts, _) => u64::MAX - u64::from(took(index).1),
                (EntryOrder::Listed, _) | (EntryOrder::Trouble, "failed") => 0,
                (EntryOrder::Trouble, "running") => 1,
                (EntryOrder::Trouble, "flaky") => 2,
                (EntryOrder::Trouble, _) => 3,
            };
            found.push((rank, index));
        }
    }
    found.sort_unstable();
    let entries = found.iter().skip(question.skip).take(question.limit).map(|(_, i)| make(*i)).collect();
    Entries { total: found.len() as u32, entries }
}
