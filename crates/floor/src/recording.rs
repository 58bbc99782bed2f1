//! Brings the records of tests up to date when runs are over, beside the floor's work: a verdict need not wait for it.
//!
//! Runs of a suite are taken in the order of their verdicts, and all that have ended meanwhile are written together (as commits are), so
//! that many short runs of one suite do not queue for its row. Suites do not wait for each other: what one with very many tests told is
//! written for seconds. Of such a run the records come first, from which the suite's next run is planned, and what it said of its
//! entries afterwards.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    ops::Range,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use chrono::{DateTime, Utc};
use futures::future::BoxFuture;
use kesmo_core::{
    plan::{Plan, RunOptions},
    record::Record,
    run::Engine,
    suite::covers::{MOST_OF_A_SUITE, Requirement},
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_store::{
    Error, Store,
    covers::{CoverRow, CoversChange},
    failing::{FailingChange, FailingRow},
    month_of,
    records::{RecordChange, Records},
    results::{NewResult, NewResults},
};
use tokio::{
    runtime::Handle,
    sync::{Semaphore, mpsc, watch},
    task::JoinHandle,
};

/// Runs that are written together at most.
const MOST_TOGETHER: usize = 1000;
/// Suites of which records are written at the same time.
const MOST_SUITES: usize = 2;
/// How often a suite's runs may have come to an end whose results are not kept yet: they are held in memory. After that the records of
/// the next wait for them.
const MOST_TO_COME: usize = 2;
/// Suites that are remembered to have nothing to be written.
const MOST_IDLE: usize = 1000;

/// What a run that is over tells of its tests.
pub struct ToRecord {
    pub suite: i64,
    pub pool: String,
    /// The run's id and name.
    pub id: i64,
    pub run: String,
    /// When it was made.
    pub made: DateTime<Utc>,
    /// The branch that it ran; empty where none is known.
    pub branch: String,
    pub counts: Counts,
    pub outcomes: Vec<Told>,
    /// What tests of it were said to cover before they ran.
    pub covers: Vec<(String, Vec<Requirement>)>,
    pub start_cost: Option<Span>,
}

/// How a run counts for what fails now.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Counts {
    /// It looked for the reason of a failure by repeating it, and says nothing of what is true otherwise.
    pub hunt: bool,
    /// Its tests ran elsewhere, and maybe before others that are known.
    pub imported: bool,
    /// It had all tests of these variants: what it did not have is not there any more.
    pub whole: Vec<String>,
    /// All variants that there are, if it was of all: others are not there any more.
    pub variants: Vec<String>,
    /// What it had and did not run: variants and tests.
    pub there: BTreeSet<(String, String)>,
}

/// What a run tells of one of its entries.
pub struct Told {
    pub test: String,
    pub variant: String,
    /// Its place in the run: of a file that was cut, that of the part that decided its outcome.
    pub entry: u32,
    /// Its first place, and how many follow each other: the parts of a file that was cut. No parts: only some of its cases ran.
    pub first: u32,
    pub parts: u16,
    pub outcome: Outcome,
    pub attempts: u32,
    /// What its last attempt took, and what those before it took together.
    pub last: Span,
    pub retried: Span,
    /// What it took, where that says something of what it usually takes.
    pub spent: Option<Span>,
}

impl Told {
    /// Another part of its file.
    fn take_part(&mut self, part: Self) {
        let outcome = Outcome::of_parts(Some(self.outcome), Some(part.outcome)).unwrap_or(part.outcome);
        if outcome != self.outcome {
            (self.entry, self.outcome) = (part.entry, outcome);
        }
        self.attempts = self.attempts.max(part.attempts);
        self.last = Span(self.last.0 + part.last.0);
        self.retried = Span(self.retried.0 + part.retried.0);
        self.spent = self.spent.zip(part.spent).map(|(one, other)| Span(one.0 + other.0));
    }

    /// Whether it says something of its test: it came to run, and was not set aside.
    fn counts(&self) -> bool {
        !matches!(self.outcome, Outcome::NotRun | Outcome::Parked)
    }
}

/// What an entry's attempts took.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Took {
    /// Its last attempt.
    pub last: Span,
    /// Those before it, together.
    pub retried: Span,
    /// What the last says of what it usually takes; none where it says nothing of that.
    pub usual: Option<Span>,
}

impl Counts {
    /// How a run with these options and labels counts that came to a verdict.
    #[must_use]
    pub fn of(
        options: &RunOptions,
        imported: bool,
        verdict: Verdict,
        plan: &Plan,
        outcome: impl Fn(u32) -> Option<Outcome>,
    ) -> Self {
        let o = options;
        let told = o.has_all_tests() && !imported && matches!(verdict, Verdict::Passed | Verdict::Failed);
        // A variant without a test may be one whose list could not be made.
        let mut whole: Vec<String> = if told {
            plan.entries.iter().map(|e| plan.variants[usize::from(e.variant)].to_string()).collect()
        } else {
            Vec::new()
        };
        whole.sort();
        whole.dedup();
        let not_run = (0..plan.entries.len() as u32)
            .filter(|index| told && matches!(outcome(*index), None | Some(Outcome::Parked | Outcome::NotRun)));
        let there =
            not_run.map(|i| (plan.variant_of(i).to_string(), plan.entries[i as usize].name.to_string())).collect();
        // A variant whose list could not be made is there all the same.
        let every = plan.variants.iter().filter(|_| told && o.variants.is_empty());
        let variants = every.map(ToString::to_string).collect();
        Self { hunt: o.labels.contains_key("hunt"), imported, whole, variants, there }
    }
}

/// What the entries of a run tell of tests and files: the parts of a file that was cut tell of it together.
#[must_use]
pub fn together(plan: &Plan, all: Vec<Told>) -> Vec<Told> {
    let mut files: Vec<Told> = Vec::with_capacity(all.len());
    for told in all {
        let Some(planned) = plan.entries.get(told.entry as usize) else { continue };
        let parts = match planned.part {
            None if planned.cases > 0 => 0,
            None => 1,
            Some(part) => part.of,
        };
        // What some of its cases took says nothing of the file.
        let spent = told.spent.filter(|_| parts > 0);
        let told = Told { first: told.entry, parts, spent, ..told };
        // They follow each other, and the first is number 1.
        match files.last_mut().filter(|_| planned.part.is_some() && planned.repeat > 1) {
            Some(file) => file.take_part(told),
            None => files.push(told),
        }
    }
    files
}

/// What the entries of a run tell of their tests. `took` says what an entry's attempts took.
pub(crate) fn outcomes_of(engine: &Engine, took: impl Fn(u32) -> Took) -> Vec<Told> {
    let plan = engine.plan();
    let told = |index: u32| {
        let (outcome, _, attempts) = engine.entry(index);
        let outcome = outcome?;
        let took = took(index);
        // What a test took that failed says nothing of what it usually takes.
        let telling = matches!(outcome, Outcome::Passed | Outcome::Flaky);
        Some(Told {
            test: plan.entries[index as usize].name.to_string(),
            variant: plan.variant_of(index).to_string(),
            entry: index,
            first: index,
            parts: 1,
            outcome,
            attempts: u32::from(attempts),
            last: took.last,
            retried: took.retried,
            spent: took.usual.filter(|usual| telling && *usual > Span::ZERO),
        })
    };
    together(plan, (0..plan.entries.len() as u32).filter_map(told).collect())
}

/// What the tests of a plan are said to cover.
#[must_use]
pub fn said_to_cover(plan: &Plan) -> Vec<(String, Vec<Requirement>)> {
    if plan.covers.is_empty() {
        return Vec::new();
    }
    let by_test: BTreeMap<&str, u32> =
        plan.entries.iter().filter(|e| e.covers > 0).map(|e| (e.name.as_str(), e.covers)).collect();
    by_test.into_iter().map(|(test, place)| (test.to_owned(), plan.covers.at(place).to_vec())).collect()
}

/// Hands runs to the tasks that record them, one for each suite.
pub(crate) struct Recorder {
    store: Store,
    /// Where it is written.
    on: Handle,
    room: Arc<Room>,
    under_way: UnderWay,
    suites: HashMap<i64, OfSuite>,
}

/// The runs whose records are being written, or are about to be.
#[derive(Debug, Clone, Default)]
pub(crate) struct UnderWay(Arc<Mutex<HashSet<i64>>>);

impl UnderWay {
    fn all(&self) -> MutexGuard<'_, HashSet<i64>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn has(&self, run: i64) -> bool {
        self.all().contains(&run)
    }

    fn mark(&self, run: i64) -> Mark {
        self.all().insert(run);
        Mark { of: self.clone(), run }
    }
}

/// As long as it lives, a run is being recorded, or is about to be; it goes, too, where that dies.
struct Mark {
    of: UnderWay,
    run: i64,
}

impl Drop for Mark {
    fn drop(&mut self) {
        self.of.all().remove(&self.run);
    }
}

/// Room for those who write at the same time: PostgreSQL has other work.
struct Room {
    records: Semaphore,
    results: Semaphore,
}

impl Room {
    fn new() -> Self {
        Self { records: Semaphore::new(MOST_SUITES), results: Semaphore::new(1) }
    }
}

/// What a run tells once that is put together; none if it never is.
pub(crate) type Telling = BoxFuture<'static, Option<ToRecord>>;

/// The runs of a suite that are to be recorded.
struct OfSuite {
    sender: mpsc::UnboundedSender<(Telling, Mark)>,
    seen: Seen,
    handed: u64,
    task: JoinHandle<()>,
}

/// What was handed over until some moment.
#[derive(Clone)]
pub(crate) struct Recorded(Vec<(Seen, u64)>);

/// What can be seen of a suite's tasks; where one of them is gone, that is seen, too.
#[derive(Clone)]
struct Seen {
    done: watch::Receiver<Done>,
    /// Of how many runs what they say of their entries is kept, besides the records.
    kept: watch::Receiver<u64>,
}

/// Of how many runs something is done.
#[derive(Clone, Default)]
struct Done {
    /// What they change is known.
    learnt: u64,
    /// The records are written, and what fails.
    records: u64,
    /// What changes by those of which it is known and not written yet.
    fresh: Option<Arc<Fresh>>,
}

/// What runs of a suite in a pool change of its records, as long as that is being written: who plans the suite's next run need not wait.
pub(crate) struct Fresh {
    pool: String,
    records: Arc<Changed>,
    start_cost: Option<Span>,
}

/// Records that changed: test, variant, record.
type Changed = Vec<(String, String, Record)>;

impl Fresh {
    /// What there is to be told of tests, over what was stored of them.
    pub fn tell<T>(&self, stored: &mut HashMap<(String, String), T>, tell: impl Fn(&Record) -> T) {
        stored
            .extend(self.records.iter().map(|(test, variant, record)| ((test.clone(), variant.clone()), tell(record))));
    }

    /// What starting a process of the suite takes, if they tell it.
    pub fn start_cost(&self) -> Option<Span> {
        self.start_cost
    }
}

impl OfSuite {
    fn start(store: &Store, room: &Arc<Room>, on: &Handle) -> Self {
        let (sender, receiver) = mpsc::unbounded_channel();
        let (told, done) = watch::channel(Done::default());
        let (keeps, kept) = watch::channel(0);
        let (later, to_come) = mpsc::channel(MOST_TO_COME);
        let rest = on.spawn(keep_results(store.clone(), Arc::clone(room), to_come, keeps));
        let records = work(store.clone(), Arc::clone(room), receiver, later, told);
        let task = on.spawn(async move {
            records.await;
            if let Err(e) = rest.await {
                tracing::error!("what runs said of their tests was not kept: {e}");
            }
        });
        Self { sender, seen: Seen { done, kept }, handed: 0, task }
    }

    fn idle(&self) -> bool {
        let Seen { done, kept } = &self.seen;
        // What a task that is gone had to keep, it keeps no more.
        done.borrow().records >= self.handed && (*kept.borrow() >= self.handed || kept.has_changed().is_err())
    }
}

impl Recorder {
    /// Records through this store, there.
    pub fn start(store: Store, on: Handle) -> Self {
        Self { store, on, room: Arc::new(Room::new()), under_way: UnderWay::default(), suites: HashMap::new() }
    }

    /// The runs that are being recorded.
    pub fn under_way(&self) -> UnderWay {
        self.under_way.clone()
    }

    /// Hands a run of a suite over.
    pub fn record(&mut self, suite: i64, run: i64, telling: Telling) {
        let mark = self.under_way.mark(run);
        if self.suites.len() >= MOST_IDLE {
            self.suites.retain(|_, suite| !suite.idle());
        }
        let of = self.suites.entry(suite).or_insert_with(|| OfSuite::start(&self.store, &self.room, &self.on));
        of.handed += 1;
        if let Err(unsent) = of.sender.send((telling, mark)) {
            // What it had is told to the records when the service starts again: their rows in `unrecorded` stay.
            tracing::error!(suite, "what brings a suite's records up to date has died; it is started anew");
            *of = OfSuite::start(&self.store, &self.room, &self.on);
            of.handed = 1;
            drop(of.sender.send(unsent.0));
        }
    }

    /// What was handed over until now, of all suites.
    pub fn until_now(&self) -> Recorded {
        Recorded(self.suites.values().map(|suite| (suite.seen.clone(), suite.handed)).collect())
    }

    /// What was handed over until now of a suite.
    pub fn until_now_of(&self, suite: i64) -> Recorded {
        Recorded(self.suites.get(&suite).map(|suite| (suite.seen.clone(), suite.handed)).into_iter().collect())
    }

    /// Waits until all that was handed over is written.
    pub async fn finish(self) {
        for suite in self.suites.into_values() {
            drop(suite.sender);
            if let Err(e) = suite.task.await {
                tracing::error!("records were not brought up to date: {e}");
            }
        }
    }
}

impl Recorded {
    /// Waits until it is written.
    pub async fn written(self) {
        for (Seen { mut done, mut kept }, upto) in self.0 {
            // A task that is gone writes nothing more.
            drop(done.wait_for(|done| done.records >= upto).await);
            drop(kept.wait_for(|kept| *kept >= upto).await);
        }
    }

    /// Waits until the records have it, from which runs are planned.
    pub async fn known(self) {
        for (Seen { mut done, .. }, upto) in self.0 {
            drop(done.wait_for(|done| done.records >= upto).await);
        }
    }

    /// Waits until the records of a pool have it, or are about to: then what they do not have yet.
    pub async fn learnt(self, pool: &str) -> Option<Arc<Fresh>> {
        let mut fresh = None;
        for (Seen { mut done, .. }, upto) in self.0 {
            let of_pool =
                |done: &Done| done.fresh.as_ref().filter(|fresh| fresh.pool == pool && done.learnt >= upto).cloned();
            // A task that is gone writes nothing more.
            let Ok(done) = done.wait_for(|done| done.records >= upto || of_pool(done).is_some()).await else {
                continue;
            };
            fresh = of_pool(&done).filter(|_| done.records < upto).or(fresh);
        }
        fresh
    }
}

async fn work(
    store: Store,
    room: Arc<Room>,
    mut receiver: mpsc::UnboundedReceiver<(Telling, Mark)>,
    later: mpsc::Sender<ToCome>,
    told_of: watch::Sender<Done>,
) {
    let mut together = Vec::new();
    while receiver.recv_many(&mut together, MOST_TOGETHER).await > 0 {
        let count = together.len() as u64;
        let (by_pool, marks) = by_pool(std::mem::take(&mut together)).await;
        // Neither is ever shut.
        let some = room.records.acquire().await;
        let mut results = Vec::new();
        let whole = by_pool.len() == 1;
        for ((suite, pool), runs) in by_pool {
            // Only what changes by all of them is told before it is written.
            let learnt = |told: &Learnt| {
                if whole {
                    let fresh =
                        Fresh { pool: pool.clone(), records: Arc::clone(&told.records), start_cost: told.start_cost };
                    told_of.send_modify(|done| {
                        (done.learnt, done.fresh) = (done.records + count, Some(Arc::new(fresh)));
                    });
                }
            };
            let last = runs.last().map(|r| r.run.clone()).unwrap_or_default();
            let (of, more) = (runs.len(), runs.len().saturating_sub(1));
            match write(&store, suite, &pool, runs, &learnt).await {
                Ok(some) => results.extend(some.into_iter().map(|results| (suite, results))),
                Err(e) => tracing::warn!(
                    runs = of,
                    "the records of {last} and {more} more runs could not be brought up to date: {e}"
                ),
            }
        }
        told_of.send_modify(|done| {
            done.records += count;
            done.fresh = None;
        });
        drop(some);
        if later.send(ToCome { results, count, marks }).await.is_err() {
            tracing::error!("what keeps what runs say of their tests has died: it is kept once somebody asks for it");
        }
    }
}

/// What runs tell, by suite and pool, once it is put together; and that they are being recorded.
async fn by_pool(runs: Vec<(Telling, Mark)>) -> (BTreeMap<(i64, String), Vec<ToRecord>>, Vec<Mark>) {
    let mut by_pool: BTreeMap<(i64, String), Vec<ToRecord>> = BTreeMap::new();
    let mut marks = Vec::with_capacity(runs.len());
    for (telling, mark) in runs {
        match telling.await {
            Some(run) => by_pool.entry((run.suite, run.pool.clone())).or_default().push(run),
            // Its row in `unrecorded` stays: it is made again from what is stored, as that of a service that died.
            None => tracing::error!(run = mark.run, "what a run tells was not put together, and is made again soon"),
        }
        marks.push(mark);
    }
    (by_pool, marks)
}

/// What some runs said of their entries, which is kept after the records.
struct ToCome {
    /// Suite, and what a run of it said.
    results: Vec<(i64, NewResults)>,
    /// How many runs they are.
    count: u64,
    marks: Vec<Mark>,
}

/// Keeps what runs said of their entries, while the records of those after them are brought up to date.
async fn keep_results(store: Store, room: Arc<Room>, mut to_come: mpsc::Receiver<ToCome>, kept: watch::Sender<u64>) {
    while let Some(ToCome { results, count, marks }) = to_come.recv().await {
        for (suite, results) in results {
            let _alone = room.results.acquire().await;
            if let Err(e) = store.put_older(suite, &results).await {
                let (run, rows) = (results.run_id, results.rows.len());
                tracing::warn!(run, rows, "what a run said of its tests is kept once somebody asks for it: {e}");
            }
        }
        drop(marks);
        kept.send_modify(|kept| *kept += count);
    }
}

/// Writes what runs told; what they say of their entries is given back if it is still to be kept. What changes by all of them is told
/// before that.
async fn write(
    store: &Store,
    suite: i64,
    pool: &str,
    runs: Vec<ToRecord>,
    learnt: &(dyn Fn(&Learnt) + Sync),
) -> Result<Vec<NewResults>, Error> {
    let runs = Arc::new(runs);
    if let Some(to_come) = put_some(store, suite, pool, &runs, 0..runs.len(), learnt).await? {
        return Ok(to_come);
    }
    if runs.len() == 1 {
        return Ok(Vec::new());
    }
    // Another took one of them: each for itself.
    let mut to_come = Vec::new();
    for place in 0..runs.len() {
        to_come.extend(put_some(store, suite, pool, &runs, place..place + 1, &|_| ()).await?.unwrap_or_default());
    }
    Ok(to_come)
}

/// Writes what some of the runs told; what is still to be kept of them, or none if another recorded one of them before.
async fn put_some(
    store: &Store,
    suite: i64,
    pool: &str,
    all: &Arc<Vec<ToRecord>>,
    places: Range<usize>,
    learnt: &(dyn Fn(&Learnt) + Sync),
) -> Result<Option<Vec<NewResults>>, Error> {
    let runs = &all[places.clone()];
    let records = store.records_in(suite, pool).await?;
    let failing = Failing::of(store.failing_in(suite, pool).await?);
    let mut latest = Vec::with_capacity(runs.len());
    for run in runs {
        latest.push(!run.counts.imported || store.is_latest(run.id).await?);
    }
    // Of very many tests it takes a while: whatever else the service does goes on meanwhile.
    let taken = Arc::clone(all);
    let told = tokio::task::spawn_blocking(move || Learnt::of(records, failing, &taken[places], &latest));
    let told = told.await.map_err(|e| Error::Content(format!("what runs told could not be put together: {e}")))?;
    learnt(&told);
    let covers = covering(store, suite, runs).await?;
    let variants = runs.iter().rev().map(|run| &run.counts.variants).find(|variants| !variants.is_empty());
    let change = RecordChange {
        runs: &runs.iter().map(|run| run.id).collect::<Vec<_>>(),
        results: &told.results,
        records: &told.records,
        start_cost: told.start_cost,
        failing: &told.failing,
        covers: &covers,
        variants: variants.map(Vec::as_slice),
    };
    let put = store.put_records(suite, pool, &change).await?;
    Ok(put.then(|| told.results.into_iter().filter(NewResults::is_much).collect()))
}

/// What becomes of what is known of a suite's tests by some runs.
struct Learnt {
    records: Arc<Changed>,
    failing: FailingChange,
    results: Vec<NewResults>,
    start_cost: Option<Span>,
}

impl Learnt {
    /// Of what is known, and some runs; `latest` says of each whether none that is known ran later.
    fn of(mut records: Records, mut failing: Failing, runs: &[ToRecord], latest: &[bool]) -> Self {
        let (mut changed, mut start_cost) = (BTreeSet::new(), None);
        for (run, latest) in runs.iter().zip(latest) {
            start_cost = run.start_cost.or(start_cost);
            if *latest && !run.counts.hunt {
                let passes_before = |test: &str, variant: &str| {
                    let record = records.get(&(test.to_owned(), variant.to_owned()));
                    record.map_or(0, |record| record.since_trouble.unwrap_or(record.passed))
                };
                failing.take(run, passes_before);
            }
            // A test that was repeated has several outcomes.
            for told in run.outcomes.iter().filter(|told| told.counts()) {
                let key = (told.test.clone(), told.variant.clone());
                let record = records.remove(&key).unwrap_or_default().with(told.outcome, told.spent);
                records.insert(key.clone(), record);
                changed.insert(key);
            }
        }
        let records = changed.into_iter().filter_map(|key| records.remove(&key).map(|r| (key.0, key.1, r))).collect();
        // A hunt repeats a failure on purpose: that is no history.
        let results = runs.iter().filter(|run| !run.counts.hunt).map(results_of).collect();
        Self { records: Arc::new(records), failing: failing.change(), results, start_cost }
    }
}

/// What some runs change of what the suite's tests cover.
async fn covering(store: &Store, suite: i64, runs: &[ToRecord]) -> Result<CoversChange, Error> {
    let told = store.told_covers(&runs.iter().map(|run| run.id).collect::<Vec<_>>()).await?;
    let kept = store.covers_of(suite).await?;
    if kept.is_empty() && told.is_empty() && runs.iter().all(|run| run.covers.is_empty()) {
        return Ok(CoversChange::default());
    }
    let mut covered = Covered::of(kept);
    for run in runs.iter().filter(|run| !run.counts.imported && !run.counts.hunt) {
        let said = run.covers.iter().map(|(test, of)| (test.as_str(), of.as_slice())).collect();
        let told = told.iter().filter(|told| told.0 == run.id).map(|told| (told.1.as_str(), told.2.as_str()));
        let tests = run.outcomes.iter().map(|told| told.test.as_str()).collect();
        let whole = !run.counts.variants.is_empty();
        covered.take(&said, told, &tests, whole.then_some(&run.counts.there));
    }
    let (change, more) = covered.change();
    if more > 0 {
        tracing::warn!(
            suite,
            "{more} pairs of a test and a requirement are not kept: a suite may have {MOST_OF_A_SUITE}"
        );
    }
    Ok(change)
}

/// What a run says of its entries, as it is kept.
#[must_use]
pub fn results_of(run: &ToRecord) -> NewResults {
    let row = |told: &Told| NewResult {
        test: told.test.clone(),
        variant: told.variant.clone(),
        entry: told.entry,
        first: told.first,
        parts: told.parts,
        outcome: told.outcome,
        attempts: told.attempts,
        spent_us: told.last.0,
        retried_us: told.retried.0,
    };
    NewResults { run_id: run.id, month: month_of(run.made), rows: run.outcomes.iter().map(row).collect() }
}

/// What fails now in a pool of a suite, by branch, variant and test.
struct Failing {
    now: BTreeMap<(String, String, String), FailingRow>,
    changed: BTreeSet<(String, String, String)>,
    cleared: Vec<i64>,
}

impl Failing {
    fn of(rows: Vec<FailingRow>) -> Self {
        let key = |row: &FailingRow| (row.branch.clone(), row.variant.clone(), row.test.clone());
        let now = rows.into_iter().map(|row| (key(&row), row)).collect();
        Self { now, changed: BTreeSet::new(), cleared: Vec::new() }
    }

    /// Takes a run in. What it did not run stands as before; what is not there any more fails no more.
    fn take(&mut self, run: &ToRecord, passes_before: impl Fn(&str, &str) -> u32) {
        let mut worst: BTreeMap<(&str, &str), (Outcome, u32)> = BTreeMap::new();
        for told in run.outcomes.iter().filter(|told| told.counts()) {
            let place = worst.entry((told.variant.as_str(), told.test.as_str())).or_insert((told.outcome, told.entry));
            // Of one that was repeated a failure counts.
            if told.outcome == Outcome::Failed && place.0 != Outcome::Failed {
                *place = (told.outcome, told.entry);
            }
        }
        for ((variant, test), (outcome, entry)) in &worst {
            let key = (run.branch.clone(), (*variant).to_owned(), (*test).to_owned());
            if *outcome != Outcome::Failed {
                self.clear(&key);
                continue;
            }
            let (last_run, entry) = (run.id, i32::try_from(*entry).unwrap_or(i32::MAX));
            let fresh = || FailingRow {
                id: 0,
                branch: run.branch.clone(),
                variant: (*variant).to_owned(),
                test: (*test).to_owned(),
                since_run: run.id,
                last_run,
                entry,
                runs: 0,
                passes_before: i32::try_from(passes_before(test, variant)).unwrap_or(i32::MAX),
            };
            let row = self.now.entry(key.clone()).or_insert_with(fresh);
            (row.last_run, row.entry, row.runs) = (last_run, entry, row.runs.saturating_add(1));
            self.changed.insert(key);
        }
        let gone = |(branch, variant, test): &&(String, String, String)| {
            let (whole, variants) = (&run.counts.whole, &run.counts.variants);
            let test_gone = whole.contains(variant) && !worst.contains_key(&(variant.as_str(), test.as_str()));
            *branch == run.branch && (test_gone || (!variants.is_empty() && !variants.contains(variant)))
        };
        // One that is parked, or did not come to run, is still there.
        let there = |key: &&(String, String, String)| !run.counts.there.contains(&(key.1.clone(), key.2.clone()));
        for key in self.now.keys().filter(gone).filter(there).cloned().collect::<Vec<_>>() {
            self.clear(&key);
        }
    }

    fn clear(&mut self, key: &(String, String, String)) {
        if let Some(row) = self.now.remove(key).filter(|row| row.id > 0) {
            self.cleared.push(row.id);
        }
        self.changed.remove(key);
    }

    fn change(self) -> FailingChange {
        let changed = self.changed;
        let failing = self.now.into_iter().filter(|(key, _)| changed.contains(key)).map(|(_, row)| row).collect();
        FailingChange { failing, cleared: self.cleared }
    }
}

/// What tests cover: pairs of a test and a requirement, as they were said to (`false`) or told as they ran (`true`).
struct Covered {
    kept: BTreeMap<(String, String, bool), i64>,
    now: BTreeSet<(String, String, bool)>,
}

impl Covered {
    fn of(rows: Vec<CoverRow>) -> Self {
        let kept: BTreeMap<_, _> =
            rows.into_iter().map(|row| ((row.test, row.requirement, row.told), row.id)).collect();
        let now = kept.keys().cloned().collect();
        Self { kept, now }
    }

    /// Takes a run in: of its tests stands what they are said to cover now, and what they told the last time they told anything. What
    /// a run of all tests did not have (but for tests that are there and did not run) covers nothing any more.
    fn take<'t>(
        &mut self,
        said: &BTreeMap<&str, &[Requirement]>,
        told: impl Iterator<Item = (&'t str, &'t str)>,
        tests: &BTreeSet<&str>,
        there: Option<&BTreeSet<(String, String)>>,
    ) {
        let told: BTreeSet<(&str, &str)> = told.collect();
        let telling: BTreeSet<&str> = told.iter().map(|pair| pair.0).collect();
        let there: Option<BTreeSet<&str>> = there.map(|there| there.iter().map(|key| key.1.as_str()).collect());
        self.now.retain(|(test, _, by_itself)| {
            let test = test.as_str();
            let has = tests.contains(test) || said.contains_key(test);
            let gone = !has && there.as_ref().is_some_and(|there| !there.contains(test));
            let anew = if *by_itself { telling.contains(test) } else { has };
            !gone && !anew
        });
        let said = said.iter().flat_map(|(test, of)| of.iter().map(|r| ((*test).to_owned(), r.to_string(), false)));
        self.now.extend(said);
        self.now.extend(told.into_iter().map(|(test, r)| (test.to_owned(), r.to_owned(), true)));
    }

    /// What is to be written, and how many pairs are too many.
    fn change(mut self) -> (CoversChange, usize) {
        let more = self.now.len().saturating_sub(MOST_OF_A_SUITE);
        while self.now.len() > MOST_OF_A_SUITE {
            self.now.pop_last();
        }
        let removed = self.kept.iter().filter(|(key, _)| !self.now.contains(*key)).map(|(_, id)| *id).collect();
        let added = self.now.into_iter().filter(|key| !self.kept.contains_key(key)).collect();
        (CoversChange { added, removed }, more)
    }
}

#[cfg(test)]
mod tests {
    use futures::FutureExt;

    use super::*;

    #[test]
    fn the_parts_of_a_cut_file_tell_of_it_together() {
        use kesmo_core::{
            name::TestName,
            plan::{
                PlannedEntry,
                cutting::{Cut, CutPart},
            },
            suite::Variant,
        };
        let part = |title: &str| CutPart { titles: vec![title.to_owned()], us: 1 };
        let cut = |file: &str| Cut {
            file: file.into(),
            variant: String::new(),
            parts: vec![part("a"), part("b")],
            rest: true,
        };
        let entry = |name: &str| PlannedEntry::plain(TestName::parse(name).unwrap());
        let plan = Plan {
            variants: vec![Variant::default()],
            entries: vec![entry("x.sh"), entry("y.sh"), entry("z.sh"), PlannedEntry { cases: 1, ..entry("w.sh") }],
            case_sets: vec![vec![], vec!["a".into()]],
            ..Plan::default()
        };
        let plan = plan.with_cuts(&[cut("x.sh"), cut("y.sh")]);
        let all = run(
            1,
            "",
            &[
                ("x.sh", Outcome::Passed),
                ("x.sh", Outcome::Failed),
                ("y.sh", Outcome::Skipped),
                ("y.sh", Outcome::Passed),
                ("z.sh", Outcome::Passed),
                ("w.sh", Outcome::Passed),
            ],
        );
        let spent = |told: Told| Told { spent: Some(Span(5)), last: Span(7), ..told };
        let files = together(&plan, all.outcomes.into_iter().map(spent).collect());
        let said: Vec<_> =
            files.iter().map(|t| (t.test.as_str(), t.outcome, t.entry, t.first, t.parts, t.last.0)).collect();
        let wanted = [
            ("x.sh", Outcome::Failed, 1, 0, 2, 14),
            ("y.sh", Outcome::Passed, 3, 2, 2, 14),
            ("z.sh", Outcome::Passed, 4, 4, 1, 7),
            ("w.sh", Outcome::Passed, 5, 5, 0, 7),
        ];
        assert_eq!(said, wanted, "the entry is the one that decided it");
        let spent: Vec<Option<Span>> = files.iter().map(|t| t.spent).collect();
        assert_eq!(spent, [Some(Span(10)), Some(Span(10)), Some(Span(5)), None], "some cases are not the file");
    }

    #[tokio::test]
    async fn who_plans_waits_until_all_that_ran_before_is_known_or_written() {
        let (told, done) = watch::channel(Done::default());
        let (keeps, kept) = watch::channel(0);
        let seen = Seen { done, kept };
        let recorded = || Recorded(vec![(seen.clone(), 2)]);
        let knows = |learnt: u64, pool: &str| {
            let records = Arc::new(vec![("a".to_owned(), String::new(), Record::default())]);
            let fresh = Fresh { pool: pool.to_owned(), records, start_cost: Some(Span(7)) };
            told.send_modify(|done| (done.learnt, done.fresh) = (learnt, Some(Arc::new(fresh))));
        };
        assert!(recorded().learnt("main").now_or_never().is_none(), "nothing is known");
        knows(1, "main");
        assert!(recorded().learnt("main").now_or_never().is_none(), "of one of two");
        knows(2, "far");
        assert!(recorded().learnt("main").now_or_never().is_none(), "of another pool: what is stored has it");
        knows(2, "main");
        assert!(recorded().known().now_or_never().is_none(), "it is not written");
        let fresh = recorded().learnt("main").now_or_never().flatten().expect("both");
        let mut stored =
            HashMap::from([(("a".to_owned(), String::new()), false), (("b".to_owned(), String::new()), false)]);
        fresh.tell(&mut stored, |_| true);
        assert!(stored[&("a".to_owned(), String::new())] && !stored[&("b".to_owned(), String::new())]);
        assert_eq!(fresh.start_cost(), Some(Span(7)));
        told.send_modify(|done| (done.records, done.fresh) = (2, None));
        assert!(recorded().learnt("main").now_or_never().expect("it is written").is_none());
        keeps.send_replace(1);
        assert!(recorded().written().now_or_never().is_none(), "what one said of its entries is to come");
        keeps.send_replace(2);
        assert!(recorded().written().now_or_never().is_some());
        keeps.send_replace(1);
        drop(keeps);
        assert!(recorded().written().now_or_never().is_some(), "nobody waits for what has died");
    }

    #[tokio::test]
    async fn a_run_of_which_nothing_is_told_keeps_the_others_from_nothing() {
        let of = UnderWay::default();
        let told = |id, pool: &str| Some(ToRecord { pool: pool.into(), ..run(id, "main", &[]) });
        let telling = |id, told: Option<ToRecord>| (async { told }.boxed(), of.mark(id));
        let all = vec![
            telling(1, told(1, "main")),
            telling(2, None),
            telling(3, told(3, "far")),
            telling(4, told(4, "main")),
        ];
        let (by_pool, marks) = by_pool(all).await;
        let ids: Vec<(&str, Vec<i64>)> =
            by_pool.iter().map(|((_, pool), runs)| (pool.as_str(), runs.iter().map(|run| run.id).collect())).collect();
        assert_eq!(ids, [("far", vec![3]), ("main", vec![1, 4])]);
        assert!(of.has(2), "it is under way as long as the others are");
        drop(marks);
        assert!(!of.has(2) && !of.has(4));
    }

    fn run(id: i64, branch: &str, outcomes: &[(&str, Outcome)]) -> ToRecord {
        let told = |(entry, (test, outcome)): (usize, &(&str, Outcome))| Told {
            test: (*test).to_owned(),
            variant: String::new(),
            entry: entry as u32,
            first: entry as u32,
            parts: 1,
            outcome: *outcome,
            attempts: 1,
            last: Span::ZERO,
            retried: Span::ZERO,
            spent: None,
        };
        ToRecord {
            made: DateTime::UNIX_EPOCH,
            suite: 1,
            pool: "main".into(),
            id,
            run: format!("gate/{id}"),
            branch: branch.into(),
            counts: Counts::default(),
            outcomes: outcomes.iter().enumerate().map(told).collect(),
            covers: Vec::new(),
            start_cost: None,
        }
    }

    fn names(failing: &Failing) -> Vec<String> {
        failing.now.values().map(|f| format!("{}{} since {} for {}", f.branch, f.test, f.since_run, f.runs)).collect()
    }

    #[test]
    fn a_run_of_some_tests_clears_nothing_that_it_did_not_run() {
        let mut failing = Failing::of(Vec::new());
        let after_nine = |_: &str, _: &str| 9;
        failing
            .take(&run(1, "", &[("a", Outcome::Failed), ("b", Outcome::Failed), ("c", Outcome::Passed)]), after_nine);
        failing.take(&run(2, "", &[("a", Outcome::Passed)]), after_nine);
        failing.take(&run(3, "", &[("b", Outcome::Failed), ("c", Outcome::Flaky)]), after_nine);
        assert_eq!(names(&failing), ["b since 1 for 2"]);
        assert_eq!(failing.now.values().next().map(|f| (f.last_run, f.entry, f.passes_before)), Some((3, 0, 9)));
        // What passes on another branch says nothing of this one.
        failing.take(&run(4, "fix", &[("b", Outcome::Passed), ("d", Outcome::Failed)]), after_nine);
        assert_eq!(names(&failing), ["b since 1 for 2", "fixd since 4 for 1"]);
        let change = failing.change();
        assert_eq!(
            (change.failing.len(), change.cleared.len()),
            (2, 0),
            "what is new and is over already is never written"
        );
    }

    #[test]
    fn of_a_repeated_test_a_failure_counts_and_what_was_skipped_does_not_fail() {
        let mut failing = Failing::of(Vec::new());
        failing.take(&run(1, "", &[("a", Outcome::Passed), ("a", Outcome::Failed), ("a", Outcome::Passed)]), |_, _| 0);
        assert_eq!(names(&failing), ["a since 1 for 1"]);
        failing.take(&run(2, "", &[("a", Outcome::Skipped)]), |_, _| 0);
        assert!(names(&failing).is_empty());
    }

    #[test]
    fn a_whole_run_clears_what_is_not_there_any_more_and_not_what_is_parked() {
        let row = |id: i64, test: &str| FailingRow {
            id,
            branch: String::new(),
            variant: String::new(),
            test: test.into(),
            since_run: 1,
            last_run: 1,
            entry: 0,
            runs: 1,
            passes_before: 0,
        };
        let mut failing = Failing::of(vec![row(1, "gone"), row(2, "parked"), row(3, "b")]);
        let mut whole = run(2, "", &[("b", Outcome::Failed), ("c", Outcome::Passed)]);
        failing.take(&whole, |_, _| 0);
        assert_eq!(failing.now.len(), 3, "it may have been a part of them");
        whole.counts.whole = vec![String::new()];
        whole.counts.there = [(String::new(), "parked".to_owned())].into();
        failing.take(&whole, |_, _| 0);
        assert_eq!(names(&failing), ["b since 1 for 3", "parked since 1 for 1"]);
        // One of all variants, of which that one is none any more.
        whole.counts.variants = vec!["screen=phone".to_owned()];
        whole.outcomes.clear();
        failing.take(&whole, |_, _| 0);
        assert_eq!(names(&failing), ["parked since 1 for 1"], "what it had is there");
        assert_eq!(failing.change().cleared, [1, 3]);
    }

    fn pairs(covered: &Covered) -> Vec<String> {
        covered.now.iter().map(|(test, r, told)| format!("{test}>{r}{}", if *told { "!" } else { "" })).collect()
    }

    #[test]
    fn what_tests_cover_is_what_they_were_last_said_to_or_told() {
        let of = |names: &[&str]| names.iter().map(|n| Requirement::parse(n).expect("a name")).collect::<Vec<_>>();
        let row = |id, test: &str, requirement: &str, told| CoverRow {
            id,
            test: test.into(),
            requirement: requirement.into(),
            told,
        };
        let kept = vec![
            row(1, "a", "R1", false),
            row(2, "a", "R2", false),
            row(3, "b", "R3", true),
            row(4, "gone", "R1", false),
        ];
        let mut covered = Covered::of(kept);
        let (a, c) = (of(&["R2", "R4"]), of(&["R5"]));
        let said = BTreeMap::from([("a", a.as_slice()), ("c", c.as_slice())]);
        // Some tests: b ran and told nothing, and what it told before stands.
        covered.take(&said, [("c", "R6")].into_iter(), &["a", "b", "c"].into(), None);
        assert_eq!(pairs(&covered), ["a>R2", "a>R4", "b>R3!", "c>R5", "c>R6!", "gone>R1"]);
        // All tests: one of them is not there any more, and one is parked.
        let there = BTreeSet::from([(String::new(), "c".to_owned())]);
        covered.take(&BTreeMap::new(), [("b", "R7")].into_iter(), &["a", "b"].into(), Some(&there));
        assert_eq!(pairs(&covered), ["b>R7!", "c>R5", "c>R6!"]);
        let (change, more) = covered.change();
        assert_eq!((change.removed, more), (vec![1, 2, 3, 4], 0));
        assert_eq!(change.added.len(), 3);
    }

    #[test]
    fn of_too_many_requirements_as_many_as_may_be_are_kept_and_the_others_counted() {
        let many: Vec<Requirement> =
            (0..=MOST_OF_A_SUITE).map(|n| Requirement::parse(&format!("R{n}")).expect("a name")).collect();
        let mut covered = Covered::of(Vec::new());
        covered.take(&BTreeMap::from([("a", many.as_slice())]), std::iter::empty(), &["a"].into(), None);
        let (change, more) = covered.change();
        assert_eq!((change.added.len(), change.removed.len(), more), (MOST_OF_A_SUITE, 0, 1));
    }
}
