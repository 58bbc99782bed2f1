//! Group commit: everything that the floor decided since the last time, in one transaction.
//!
//! Every statement may be repeated without harm, so that a commit whose answer was lost can be sent again.

use std::{borrow::Cow, collections::BTreeSet, marker::PhantomData};

use chrono::{DateTime, NaiveDate, Utc};
use diesel::sql_types::{Array, BigInt, Bool, Date, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use kesmo_core::{
    measure::Part,
    run::{AttemptStats, Tally},
    suite::{ListedTest, container::Image, covers::Requirement},
    words::{Ended, Outcome, Phase, Verdict},
};

use crate::{
    Error, Store,
    covers::write_told,
    json,
    measures::{NewMeasures, write_measures, write_parts},
    query::RunQueryDsl,
    statement::statement,
};

statement! {
    /// Batches that were granted.
    InsertBatches = "insert into batches (run_id, number, worker, slot, entries, granted_at) select * from unnest(",
        ") on conflict do nothing";
    run_id: Array<BigInt> = Vec<i64>, number: Array<Integer> = Vec<i32>, worker: Array<Text> = Vec<&'a str>,
    slot: Array<Integer> = Vec<i32>, entries: Array<Jsonb> = Vec<serde_json::Value>,
    granted_at: Array<Timestamptz> = Vec<DateTime<Utc>>
}
statement! {
    /// Batches that are over.
    CloseBatches = "update batches set open = false from unnest(",
        ") as o (run_id, number) where batches.run_id = o.run_id and batches.number = o.number";
    run_id: Array<BigInt> = Vec<i64>, number: Array<Integer> = Vec<i32>
}
statement! {
    /// Attempts that ended.
    InsertAttempts = "insert into attempts (month, run_id, entry, number, batch, worker, slot, began_at, spent_us, ended, \
        decided, message, detail, steps, log, log_blob, log_bytes, busy, of_slots, expected_us, itself) select * from unnest(",
        ") on conflict do nothing";
    month: Array<Date> = Vec<NaiveDate>, run_id: Array<BigInt> = Vec<i64>, entry: Array<Integer> = Vec<i32>,
    number: Array<Integer> = Vec<i32>, batch: Array<Integer> = Vec<i32>, worker: Array<Text> = Vec<&'a str>,
    slot: Array<Integer> = Vec<i32>, began_at: Array<Timestamptz> = Vec<DateTime<Utc>>, spent_us: Array<BigInt> = Vec<i64>,
    ended: Array<Text> = Vec<&'a str>, decided: Array<Nullable<Text>> = Vec<Option<&'a str>>,
    message: Array<Text> = Vec<Cow<'a, str>>, detail: Array<Text> = Vec<Cow<'a, str>>,
    steps: Array<Jsonb> = Vec<serde_json::Value>, log: Array<Text> = Vec<Cow<'a, str>>,
    log_blob: Array<Nullable<Text>> = Vec<Option<&'a str>>, log_bytes: Array<BigInt> = Vec<i64>,
    busy: Array<Integer> = Vec<i32>, of_slots: Array<Integer> = Vec<i32>,
    expected_us: Array<Nullable<BigInt>> = Vec<Option<i64>>, itself: Array<Bool> = Vec<bool>
}
statement! {
    /// Cases that files told of.
    InsertCases = "insert into cases (month, run_id, entry, number, place, title, ended, outcome, parked, copy, spent_us, \
        message, detail) select * from unnest(",
        ") on conflict do nothing";
    month: Array<Date> = Vec<NaiveDate>, run_id: Array<BigInt> = Vec<i64>, entry: Array<Integer> = Vec<i32>,
    number: Array<Integer> = Vec<i32>, place: Array<Integer> = Vec<i32>, title: Array<Text> = Vec<Cow<'a, str>>,
    ended: Array<Text> = Vec<&'a str>, outcome: Array<Nullable<Text>> = Vec<Option<&'a str>>,
    parked: Array<Bool> = Vec<bool>, copy: Array<Bool> = Vec<bool>, spent_us: Array<BigInt> = Vec<i64>,
    message: Array<Text> = Vec<Cow<'a, str>>, detail: Array<Text> = Vec<Cow<'a, str>>
}
statement! {
    /// Batches whose processes were fed more entries.
    FeedBatches = "update batches set entries = case when batches.entries @> f.entries then batches.entries else \
        batches.entries || f.entries end from unnest(",
        ") as f (run_id, number, entries) where batches.run_id = f.run_id and batches.number = f.number";
    run_id: Array<BigInt> = Vec<i64>, number: Array<Integer> = Vec<i32>, entries: Array<Jsonb> = Vec<serde_json::Value>
}
statement! {
    /// Batches that gave entries back.
    ShrinkBatches = "update batches set entries = s.entries from unnest(",
        ") as s (run_id, number, entries) where batches.run_id = s.run_id and batches.number = s.number";
    run_id: Array<BigInt> = Vec<i64>, number: Array<Integer> = Vec<i32>, entries: Array<Jsonb> = Vec<serde_json::Value>
}

/// Rows to write together.
#[derive(Debug, Default)]
pub struct Commit {
    pub batches: Vec<NewBatch>,
    /// Run and number of batches that are over.
    pub over: Vec<(i64, u32)>,
    /// Run and number of batches that gave entries back, with those that they have left.
    pub shrunk: Vec<(i64, u32, Vec<u32>)>,
    /// Run and number of batches whose processes were fed more entries, with those.
    pub fed: Vec<(i64, u32, Vec<u32>)>,
    pub attempts: Vec<NewAttempt>,
    pub cases: Vec<NewCase>,
    /// Files' attempts that were lost: what they told of cases does not count.
    pub lost_cases: Vec<CasesOf>,
    /// Files whose cases have the outcomes that all attempts together give.
    pub settled_cases: Vec<CasesOf>,
    /// Outcomes that came without a new attempt, on the last attempt of their entry.
    pub decided: Vec<Decided>,
    pub notes: Vec<(i64, String)>,
    /// What went wrong beside the tests and fails a run.
    pub wrongs: Vec<(i64, String)>,
    /// Lists of tests that became known, by their keys.
    pub listings: Vec<(String, std::sync::Arc<Vec<ListedTest>>)>,
    pub artifacts: Vec<NewArtifact>,
    /// What batches measured: run, batch and part.
    pub measured: Vec<(i64, u32, Part)>,
    /// What tests told that they cover: run, test and requirements.
    pub covers: Vec<(i64, String, Vec<Requirement>)>,
    /// What runs that are over measured.
    pub measures: Vec<NewMeasures>,
    pub runs: Vec<RunChange>,
    /// The service that writes this, and the pools that it must still hold.
    pub by: Option<(String, Vec<String>)>,
}

/// A batch that was granted.
#[derive(Debug)]
pub struct NewBatch {
    pub run_id: i64,
    pub number: u32,
    pub worker: String,
    pub slot: u16,
    pub entries: Vec<u32>,
    pub granted_at: DateTime<Utc>,
}

/// An attempt that ended.
#[derive(Debug)]
pub struct NewAttempt {
    pub month: NaiveDate,
    pub run_id: i64,
    pub entry: u32,
    pub number: u16,
    pub batch: u32,
    pub worker: String,
    pub slot: u16,
    pub began_at: DateTime<Utc>,
    pub spent_us: u64,
    pub ended: Ended,
    pub decided: Option<Outcome>,
    pub message: String,
    pub detail: String,
    pub steps: serde_json::Value,
    pub log: String,
    pub log_blob: Option<String>,
    pub log_bytes: u64,
    /// Busy slots of its worker when it ended, and all of them.
    pub busy: u32,
    pub of_slots: u32,
    pub expected_us: Option<u64>,
    /// It ended so by itself, and not by its cases alone.
    pub itself: bool,
}

/// A case that a file told of.
#[derive(Debug)]
pub struct NewCase {
    pub month: NaiveDate,
    pub run_id: i64,
    pub entry: u32,
    pub number: u16,
    pub place: u32,
    pub title: String,
    pub ended: Ended,
    pub outcome: Option<Outcome>,
    pub parked: bool,
    pub copy: bool,
    pub spent_us: u64,
    pub message: String,
    pub detail: String,
}

/// The cases of a file, or of one of its attempts.
#[derive(Debug, Clone, Copy)]
pub struct CasesOf {
    pub month: NaiveDate,
    pub run_id: i64,
    pub entry: u32,
    /// The attempt's number; 0 for all.
    pub number: u16,
}

/// An outcome for an entry's last attempt.
#[derive(Debug)]
pub struct Decided {
    pub month: NaiveDate,
    pub run_id: i64,
    pub entry: u32,
    pub number: u16,
    pub outcome: Outcome,
}

/// A file that was kept.
#[derive(Debug)]
pub struct NewArtifact {
    pub run_id: i64,
    pub entry: Option<u32>,
    pub batch: u32,
    pub path: String,
    pub about: String,
    pub digest: String,
    pub bytes: u64,
}

/// Begins the keys of lists that say what is known by now, and to which no run refers.
pub const OPEN_LIST: &str = "open:";

/// How a run stands now.
#[derive(Debug, Clone)]
pub struct RunChange {
    pub run_id: i64,
    pub phase: Phase,
    pub verdict: Option<Verdict>,
    pub reason: String,
    /// Keys of its lists, once all are known.
    pub listings: Vec<String>,
    pub listed: u32,
    pub tally: Tally,
    pub stats: AttemptStats,
    pub strip: String,
    pub began_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    /// The images that it has settled on; none: as before.
    pub images: Option<Vec<Image>>,
}

impl RunChange {
    /// The end of a run of which nothing was carried out.
    #[must_use]
    pub fn over(run_id: i64, verdict: Verdict, reason: &str, at: DateTime<Utc>) -> Self {
        Self {
            run_id,
            phase: Phase::Finished,
            verdict: Some(verdict),
            reason: reason.to_owned(),
            listings: Vec::new(),
            listed: 0,
            tally: Tally::default(),
            stats: AttemptStats::default(),
            strip: String::new(),
            began_at: None,
            finished_at: Some(at),
            images: None,
        }
    }
}

impl Commit {
    /// Leaves out what belongs to other runs than those.
    pub fn keep_runs(&mut self, keep: impl Fn(i64) -> bool) {
        self.batches.retain(|b| keep(b.run_id));
        self.over.retain(|o| keep(o.0));
        self.shrunk.retain(|s| keep(s.0));
        self.fed.retain(|s| keep(s.0));
        self.attempts.retain(|a| keep(a.run_id));
        self.cases.retain(|a| keep(a.run_id));
        self.lost_cases.retain(|a| keep(a.run_id));
        self.settled_cases.retain(|a| keep(a.run_id));
        self.decided.retain(|d| keep(d.run_id));
        self.notes.retain(|n| keep(n.0));
        self.wrongs.retain(|n| keep(n.0));
        self.artifacts.retain(|a| keep(a.run_id));
        self.measured.retain(|m| keep(m.0));
        self.covers.retain(|m| keep(m.0));
        self.measures.retain(|m| keep(m.run_id));
        self.runs.retain(|r| keep(r.run_id));
    }

    /// The runs that rows are of.
    #[must_use]
    pub fn run_ids(&self) -> BTreeSet<i64> {
        let mut all: BTreeSet<i64> = self.batches.iter().map(|b| b.run_id).collect();
        all.extend(self.over.iter().map(|o| o.0));
        all.extend(self.shrunk.iter().chain(&self.fed).map(|s| s.0));
        all.extend(self.attempts.iter().map(|a| a.run_id));
        all.extend(self.cases.iter().map(|c| c.run_id));
        all.extend(self.lost_cases.iter().chain(&self.settled_cases).map(|c| c.run_id));
        all.extend(self.decided.iter().map(|d| d.run_id));
        all.extend(self.notes.iter().chain(&self.wrongs).map(|n| n.0));
        all.extend(self.artifacts.iter().map(|a| a.run_id));
        all.extend(self.measured.iter().map(|m| m.0));
        all.extend(self.covers.iter().map(|m| m.0));
        all.extend(self.measures.iter().map(|m| m.run_id));
        all.extend(self.runs.iter().map(|r| r.run_id));
        all
    }

    /// Takes the rows of one run out.
    #[must_use]
    pub fn take_run(&mut self, run: i64) -> Self {
        Self {
            batches: self.batches.extract_if(.., |b| b.run_id == run).collect(),
            over: self.over.extract_if(.., |o| o.0 == run).collect(),
            shrunk: self.shrunk.extract_if(.., |s| s.0 == run).collect(),
            fed: self.fed.extract_if(.., |s| s.0 == run).collect(),
            attempts: self.attempts.extract_if(.., |a| a.run_id == run).collect(),
            cases: self.cases.extract_if(.., |c| c.run_id == run).collect(),
            lost_cases: self.lost_cases.extract_if(.., |c| c.run_id == run).collect(),
            settled_cases: self.settled_cases.extract_if(.., |c| c.run_id == run).collect(),
            decided: self.decided.extract_if(.., |d| d.run_id == run).collect(),
            notes: self.notes.extract_if(.., |n| n.0 == run).collect(),
            wrongs: self.wrongs.extract_if(.., |n| n.0 == run).collect(),
            artifacts: self.artifacts.extract_if(.., |a| a.run_id == run).collect(),
            measured: self.measured.extract_if(.., |m| m.0 == run).collect(),
            covers: self.covers.extract_if(.., |m| m.0 == run).collect(),
            measures: self.measures.extract_if(.., |m| m.run_id == run).collect(),
            runs: self.runs.extract_if(.., |r| r.run_id == run).collect(),
            listings: Vec::new(),
            by: self.by.clone(),
        }
    }

    /// Says of rows that were made before their run which run that is.
    pub(crate) fn name_run(&mut self, run: i64) {
        self.batches.iter_mut().for_each(|b| b.run_id = run);
        self.over.iter_mut().for_each(|o| o.0 = run);
        self.attempts.iter_mut().for_each(|a| a.run_id = run);
        self.cases.iter_mut().for_each(|c| c.run_id = run);
        self.settled_cases.iter_mut().for_each(|c| c.run_id = run);
        self.notes.iter_mut().chain(&mut self.wrongs).for_each(|n| n.0 = run);
        self.runs.iter_mut().for_each(|r| r.run_id = run);
    }

    /// How many rows there are, for a log that must not hold their content.
    #[must_use]
    pub fn rows(&self) -> usize {
        self.batches.len()
            + self.over.len()
            + self.shrunk.len()
            + self.fed.len()
            + self.attempts.len()
            + self.cases.len()
            + self.lost_cases.len()
            + self.settled_cases.len()
            + self.decided.len()
            + self.notes.len()
            + self.wrongs.len()
            + self.listings.len()
            + self.artifacts.len()
            + self.measured.len()
            + self.covers.len()
            + self.measures.len()
            + self.runs.len()
    }

    /// Whether there is nothing to write.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.batches.is_empty()
            && self.over.is_empty()
            && self.shrunk.is_empty()
            && self.fed.is_empty()
            && self.attempts.is_empty()
            && self.cases.is_empty()
            && self.lost_cases.is_empty()
            && self.settled_cases.is_empty()
            && self.decided.is_empty()
            && self.notes.is_empty()
            && self.wrongs.is_empty()
            && self.listings.is_empty()
            && self.artifacts.is_empty()
            && self.measured.is_empty()
            && self.covers.is_empty()
            && self.measures.is_empty()
            && self.runs.is_empty()
    }
}

impl Store {
    /// Writes everything in one transaction.
    ///
    /// # Errors
    /// [`Error::Away`] if PostgreSQL does not answer: the same commit may be tried again.
    pub async fn commit(&self, commit: &Commit) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let began = std::time::Instant::now();
        c.transaction(async |c| {
            let by = commit.by.as_ref();
            let held = async {
                match by {
                    Some((service, pools)) => crate::leases::still_held(c, service, pools).await,
                    None => Ok(true),
                }
            };
            let (held, written) = futures::join!(held, write_most(c, commit));
            // Whatever became of the rows: they are the other's.
            if let Ok(false) = held {
                return Err(Error::Elsewhere);
            }
            what_went_wrong([held.map(drop), written])?;
            write_rest(c, commit).await
        })
        .await?;
        self.paces.kept(began.elapsed());
        Ok(())
    }
}

/// What went wrong with statements that were sent together, if anything did: of one that came after it is only said that it was not
/// carried out.
fn what_went_wrong<const N: usize>(became: [Result<(), Error>; N]) -> Result<(), Error> {
    let failed = became.into_iter().filter_map(Result::err);
    let after_it = |e: &Error| matches!(e, Error::Away(said) if said.contains(crate::ABORTED));
    match failed.min_by_key(after_it) {
        Some(e) => Err(e),
        None => Ok(()),
    }
}

/// Writes the rows, within a transaction.
pub(crate) async fn write(c: &mut AsyncPgConnection, commit: &Commit) -> Result<(), Error> {
    write_most(c, commit).await?;
    write_rest(c, commit).await
}

/// Writes what nearly every commit has. It is sent without waiting for each answer before the next: PostgreSQL carries it out one after
/// the other all the same, and nobody waits for somebody to be woken in between.
async fn write_most(c: &AsyncPgConnection, commit: &Commit) -> Result<(), Error> {
    let (batches, attempts) = futures::join!(write_batches(c, commit), write_attempts(c, &commit.attempts));
    what_went_wrong([batches, attempts])
}

async fn write_rest(c: &mut AsyncPgConnection, commit: &Commit) -> Result<(), Error> {
    for (key, tests) in &commit.listings {
        // What no run refers to is what is known by now.
        let latest = "on conflict (key) do update set tests = excluded.tests, listed_at = now()";
        let kept = "on conflict do nothing";
        let otherwise = if key.starts_with(OPEN_LIST) { latest } else { kept };
        diesel::sql_query(format!("insert into listings (key, tests) values ($1, $2) {otherwise}"))
            .bind::<Text, _>(key)
            .bind::<Jsonb, _>(json(tests)?)
            .execute(c)
            .await?;
    }
    write_cases(c, commit).await?;
    for d in &commit.decided {
        diesel::sql_query(
            "update attempts set decided = $1 where run_id = $2 and entry = $3 and number = $4 and month = $5",
        )
        .bind::<Text, _>(d.outcome.word())
        .bind::<BigInt, _>(d.run_id)
        .bind::<Integer, _>(int(d.entry))
        .bind::<Integer, _>(i32::from(d.number))
        .bind::<Date, _>(d.month)
        .execute(c)
        .await?;
    }
    for (notes, fails) in [(&commit.notes, false), (&commit.wrongs, true)] {
        if notes.is_empty() {
            continue;
        }
        diesel::sql_query("insert into run_notes (run_id, text, fails) select n.*, $3 from unnest($1, $2) as n")
            .bind::<Array<BigInt>, _>(notes.iter().map(|n| n.0).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(notes.iter().map(|n| clean(&n.1)).collect::<Vec<_>>())
            .bind::<Bool, _>(fails)
            .execute(c)
            .await?;
    }
    write_artifacts(c, &commit.artifacts).await?;
    write_parts(c, &commit.measured).await?;
    write_told(c, &commit.covers).await?;
    for of in &commit.measures {
        write_measures(c, of).await?;
    }
    for change in &commit.runs {
        write_run(c, change).await?;
    }
    Ok(())
}

async fn write_batches(c: &AsyncPgConnection, commit: &Commit) -> Result<(), Error> {
    let new = &commit.batches;
    if !new.is_empty() {
        let insert = InsertBatches {
            run_id: new.iter().map(|b| b.run_id).collect(),
            number: new.iter().map(|b| int(b.number)).collect(),
            worker: new.iter().map(|b| b.worker.as_str()).collect(),
            slot: new.iter().map(|b| i32::from(b.slot)).collect(),
            entries: new.iter().map(|b| json(&b.entries)).collect::<Result<_, _>>()?,
            granted_at: new.iter().map(|b| b.granted_at).collect(),
            lifetime: PhantomData,
        };
        insert.pipe(c).await?;
    }
    // One row is changed once by a statement: what is fed to one batch several times is put together.
    let mut fed: std::collections::BTreeMap<(i64, u32), Vec<u32>> = std::collections::BTreeMap::new();
    for (run, batch, entries) in &commit.fed {
        fed.entry((*run, *batch)).or_default().extend(entries);
    }
    if !fed.is_empty() {
        let feed = FeedBatches {
            run_id: fed.keys().map(|k| k.0).collect(),
            number: fed.keys().map(|k| int(k.1)).collect(),
            entries: fed.values().map(json).collect::<Result<_, _>>()?,
            lifetime: PhantomData,
        };
        feed.pipe(c).await?;
    }
    if !commit.shrunk.is_empty() {
        let shrink = ShrinkBatches {
            run_id: commit.shrunk.iter().map(|s| s.0).collect(),
            number: commit.shrunk.iter().map(|s| int(s.1)).collect(),
            entries: commit.shrunk.iter().map(|s| json(&s.2)).collect::<Result<_, _>>()?,
            lifetime: PhantomData,
        };
        shrink.pipe(c).await?;
    }
    if !commit.over.is_empty() {
        let close = CloseBatches {
            run_id: commit.over.iter().map(|o| o.0).collect(),
            number: commit.over.iter().map(|o| int(o.1)).collect(),
            lifetime: PhantomData,
        };
        close.pipe(c).await?;
    }
    Ok(())
}

async fn write_attempts(c: &AsyncPgConnection, attempts: &[NewAttempt]) -> Result<(), Error> {
    if attempts.is_empty() {
        return Ok(());
    }
    let all = || attempts.iter();
    let insert = InsertAttempts {
        month: all().map(|a| a.month).collect(),
        run_id: all().map(|a| a.run_id).collect(),
        entry: all().map(|a| int(a.entry)).collect(),
        number: all().map(|a| i32::from(a.number)).collect(),
        batch: all().map(|a| int(a.batch)).collect(),
        worker: all().map(|a| a.worker.as_str()).collect(),
        slot: all().map(|a| i32::from(a.slot)).collect(),
        began_at: all().map(|a| a.began_at).collect(),
        spent_us: all().map(|a| long(a.spent_us)).collect(),
        ended: all().map(|a| a.ended.word()).collect(),
        decided: all().map(|a| a.decided.map(Outcome::word)).collect(),
        message: all().map(|a| clean(&a.message)).collect(),
        detail: all().map(|a| clean(&a.detail)).collect(),
        steps: all().map(|a| clean_json(&a.steps)).collect(),
        log: all().map(|a| clean(&a.log)).collect(),
        log_blob: all().map(|a| a.log_blob.as_deref()).collect(),
        log_bytes: all().map(|a| long(a.log_bytes)).collect(),
        busy: all().map(|a| int(a.busy)).collect(),
        of_slots: all().map(|a| int(a.of_slots)).collect(),
        expected_us: all().map(|a| a.expected_us.map(long)).collect(),
        itself: all().map(|a| a.itself).collect(),
        lifetime: PhantomData,
    };
    insert.pipe(c).await?;
    Ok(())
}

/// Rows of cases at most in one statement.
const MOST_CASES: usize = 5000;

async fn write_cases(c: &mut AsyncPgConnection, commit: &Commit) -> Result<(), Error> {
    for part in commit.cases.chunks(MOST_CASES) {
        let all = || part.iter();
        let insert = InsertCases {
            month: all().map(|a| a.month).collect(),
            run_id: all().map(|a| a.run_id).collect(),
            entry: all().map(|a| int(a.entry)).collect(),
            number: all().map(|a| i32::from(a.number)).collect(),
            place: all().map(|a| int(a.place)).collect(),
            title: all().map(|a| clean(&a.title)).collect(),
            ended: all().map(|a| a.ended.word()).collect(),
            outcome: all().map(|a| a.outcome.map(Outcome::word)).collect(),
            parked: all().map(|a| a.parked).collect(),
            copy: all().map(|a| a.copy).collect(),
            spent_us: all().map(|a| long(a.spent_us)).collect(),
            message: all().map(|a| clean(&a.message)).collect(),
            detail: all().map(|a| clean(&a.detail)).collect(),
            lifetime: PhantomData,
        };
        insert.execute(c).await?;
    }
    for lost in &commit.lost_cases {
        diesel::sql_query("delete from cases where run_id = $1 and entry = $2 and month = $3 and number = $4")
            .bind::<BigInt, _>(lost.run_id)
            .bind::<Integer, _>(int(lost.entry))
            .bind::<Date, _>(lost.month)
            .bind::<Integer, _>(i32::from(lost.number))
            .execute(c)
            .await?;
    }
    for settled in &commit.settled_cases {
        // As `Shown` in the core says: the outcome of a case stands on all that its attempts have shown.
        diesel::sql_query(
            "with merged as ( \
                 select title, max(number) as last, case \
                     when bool_or(parked) then 'parked' \
                     when bool_or(ended in ('failed', 'timed-out', 'crashed')) then \
                         case when bool_or(ended = 'passed') then 'flaky' else 'failed' end \
                     when bool_or(ended = 'passed') then 'passed' else 'skipped' end as outcome \
                 from cases where run_id = $1 and entry = $2 and month = $3 group by title) \
             update cases set outcome = case when number = merged.last then merged.outcome end from merged \
             where run_id = $1 and entry = $2 and month = $3 and cases.title = merged.title \
             and cases.outcome is distinct from case when number = merged.last then merged.outcome end",
        )
        .bind::<BigInt, _>(settled.run_id)
        .bind::<Integer, _>(int(settled.entry))
        .bind::<Date, _>(settled.month)
        .execute(c)
        .await?;
    }
    Ok(())
}

async fn write_artifacts(c: &mut AsyncPgConnection, artifacts: &[NewArtifact]) -> Result<(), Error> {
    for a in artifacts {
        diesel::sql_query(
            "insert into artifacts (run_id, entry, batch, path, about, digest, bytes) values ($1, $2, $3, $4, $5, $6, $7) \
             on conflict do nothing",
        )
        .bind::<BigInt, _>(a.run_id)
        .bind::<Nullable<Integer>, _>(a.entry.map(int))
        .bind::<Integer, _>(int(a.batch))
        .bind::<Text, _>(clean(&a.path))
        .bind::<Text, _>(clean(&a.about))
        .bind::<Text, _>(&a.digest)
        .bind::<BigInt, _>(long(a.bytes))
        .execute(c)
        .await?;
    }
    Ok(())
}

async fn write_run(c: &mut AsyncPgConnection, change: &RunChange) -> Result<(), Error> {
    diesel::sql_query(
        "update runs set phase = $2, verdict = $3, reason = $4, listings = $5, listed = $6, tally = $7, stats = $8, strip = $9, \
         began_at = $10, finished_at = $11, images = coalesce($12, images) where id = $1",
    )
    .bind::<BigInt, _>(change.run_id)
    .bind::<Text, _>(change.phase.word())
    .bind::<Nullable<Text>, _>(change.verdict.map(Verdict::word))
    .bind::<Text, _>(clean(&change.reason))
    .bind::<Array<Text>, _>(&change.listings)
    .bind::<Integer, _>(int(change.listed))
    .bind::<Jsonb, _>(json(&change.tally)?)
    .bind::<Jsonb, _>(json(&change.stats)?)
    .bind::<Text, _>(&change.strip)
    .bind::<Nullable<Timestamptz>, _>(change.began_at)
    .bind::<Nullable<Timestamptz>, _>(change.finished_at)
    .bind::<Nullable<Jsonb>, _>(change.images.as_ref().map(json).transpose()?)
    .execute(c)
    .await?;
    // Told to the records after this, by whoever gets to it: it must not be forgotten on the way.
    if change.verdict.is_some() && change.tally.total() > 0 {
        diesel::sql_query("insert into unrecorded values ($1) on conflict do nothing")
            .bind::<BigInt, _>(change.run_id)
            .execute(c)
            .await?;
    }
    Ok(())
}

fn int(n: u32) -> i32 {
    i32::try_from(n).unwrap_or(i32::MAX)
}

fn long(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

/// PostgreSQL's texts hold every character but NUL.
fn clean(text: &str) -> Cow<'_, str> {
    if text.contains('\0') { text.replace('\0', "\u{fffd}").into() } else { text.into() }
}

fn clean_json(value: &serde_json::Value) -> serde_json::Value {
    match value {
        serde_json::Value::String(text) => clean(text).into_owned().into(),
        serde_json::Value::Array(items) => items.iter().map(clean_json).collect(),
        serde_json::Value::Object(map) => map.iter().map(|(k, v)| (clean(k).into_owned(), clean_json(v))).collect(),
        other => other.clone(),
    }
}
