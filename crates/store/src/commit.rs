//! Group commit: everything that the floor decided since the last time, in one transaction.
//!
//! Every statement may be repeated without harm, so that a commit whose answer was lost can be sent again.

use chrono::{DateTime, NaiveDate, Utc};
use diesel::sql_types::{Array, BigInt, Date, Integer, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use kesmo_core::{
    record::Record,
    run::{AttemptStats, Tally},
    words::{Ended, Outcome, Phase, Verdict},
};

use crate::{Error, Store, json, records};

/// Rows to write together.
#[derive(Debug, Default)]
pub struct Commit {
    pub batches: Vec<NewBatch>,
    /// Run and number of batches that are over.
    pub over: Vec<(i64, u32)>,
    pub attempts: Vec<NewAttempt>,
    /// Outcomes that came without a new attempt, on the last attempt of their entry.
    pub decided: Vec<Decided>,
    pub notes: Vec<(i64, String)>,
    pub artifacts: Vec<NewArtifact>,
    pub runs: Vec<RunChange>,
    /// Suite, and its records that changed.
    pub records: Vec<(i64, Vec<(String, String, Record)>)>,
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
}

impl Commit {
    /// Whether there is nothing to write.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.batches.is_empty()
            && self.over.is_empty()
            && self.attempts.is_empty()
            && self.decided.is_empty()
            && self.notes.is_empty()
            && self.artifacts.is_empty()
            && self.runs.is_empty()
            && self.records.is_empty()
    }
}

impl Store {
    /// Writes everything in one transaction.
    ///
    /// # Errors
    /// [`Error::Away`] if PostgreSQL does not answer: the same commit may be tried again.
    pub async fn commit(&self, commit: &Commit) -> Result<(), Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            write_batches(c, commit).await?;
            write_attempts(c, &commit.attempts).await?;
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
            if !commit.notes.is_empty() {
                diesel::sql_query("insert into run_notes (run_id, text) select * from unnest($1, $2)")
                    .bind::<Array<BigInt>, _>(commit.notes.iter().map(|n| n.0).collect::<Vec<_>>())
                    .bind::<Array<Text>, _>(commit.notes.iter().map(|n| clean(&n.1)).collect::<Vec<_>>())
                    .execute(c)
                    .await?;
            }
            write_artifacts(c, &commit.artifacts).await?;
            for change in &commit.runs {
                write_run(c, change).await?;
            }
            for (suite_id, changed) in &commit.records {
                records::put(c, *suite_id, changed).await?;
            }
            Ok(())
        })
        .await
    }
}

async fn write_batches(c: &mut AsyncPgConnection, commit: &Commit) -> Result<(), Error> {
    for b in &commit.batches {
        diesel::sql_query(
            "insert into batches (run_id, number, worker, slot, entries, granted_at) values ($1, $2, $3, $4, $5, $6) \
             on conflict do nothing",
        )
        .bind::<BigInt, _>(b.run_id)
        .bind::<Integer, _>(int(b.number))
        .bind::<Text, _>(&b.worker)
        .bind::<Integer, _>(i32::from(b.slot))
        .bind::<Array<Integer>, _>(b.entries.iter().map(|e| int(*e)).collect::<Vec<_>>())
        .bind::<Timestamptz, _>(b.granted_at)
        .execute(c)
        .await?;
    }
    if !commit.over.is_empty() {
        diesel::sql_query(
            "update batches set open = false from unnest($1, $2) as o (run_id, number) \
             where batches.run_id = o.run_id and batches.number = o.number",
        )
        .bind::<Array<BigInt>, _>(commit.over.iter().map(|o| o.0).collect::<Vec<_>>())
        .bind::<Array<Integer>, _>(commit.over.iter().map(|o| int(o.1)).collect::<Vec<_>>())
        .execute(c)
        .await?;
    }
    Ok(())
}

async fn write_attempts(c: &mut AsyncPgConnection, attempts: &[NewAttempt]) -> Result<(), Error> {
    if attempts.is_empty() {
        return Ok(());
    }
    macro_rules! column {
        ($of:expr) => {
            attempts.iter().map($of).collect::<Vec<_>>()
        };
    }
    diesel::sql_query(
        "insert into attempts (month, run_id, entry, number, batch, worker, slot, began_at, spent_us, ended, decided, \
         message, detail, steps, log, log_blob, log_bytes) \
         select * from unnest($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17) \
         on conflict do nothing",
    )
    .bind::<Array<Date>, _>(column!(|a| a.month))
    .bind::<Array<BigInt>, _>(column!(|a| a.run_id))
    .bind::<Array<Integer>, _>(column!(|a| int(a.entry)))
    .bind::<Array<Integer>, _>(column!(|a| i32::from(a.number)))
    .bind::<Array<Integer>, _>(column!(|a| int(a.batch)))
    .bind::<Array<Text>, _>(column!(|a| a.worker.as_str()))
    .bind::<Array<Integer>, _>(column!(|a| i32::from(a.slot)))
    .bind::<Array<Timestamptz>, _>(column!(|a| a.began_at))
    .bind::<Array<BigInt>, _>(column!(|a| long(a.spent_us)))
    .bind::<Array<Text>, _>(column!(|a| a.ended.word()))
    .bind::<Array<Nullable<Text>>, _>(column!(|a| a.decided.map(Outcome::word)))
    .bind::<Array<Text>, _>(column!(|a| clean(&a.message)))
    .bind::<Array<Text>, _>(column!(|a| clean(&a.detail)))
    .bind::<Array<Jsonb>, _>(column!(|a| clean_json(&a.steps)))
    .bind::<Array<Text>, _>(column!(|a| clean(&a.log)))
    .bind::<Array<Nullable<Text>>, _>(column!(|a| a.log_blob.as_deref()))
    .bind::<Array<BigInt>, _>(column!(|a| long(a.log_bytes)))
    .execute(c)
    .await?;
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
         began_at = $10, finished_at = $11 where id = $1",
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
    .execute(c)
    .await?;
    Ok(())
}

fn int(n: u32) -> i32 {
    i32::try_from(n).unwrap_or(i32::MAX)
}

fn long(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

/// PostgreSQL's texts hold every character but NUL.
fn clean(text: &str) -> String {
    if text.contains('\0') { text.replace('\0', "\u{fffd}") } else { text.to_owned() }
}

fn clean_json(value: &serde_json::Value) -> serde_json::Value {
    match value {
        serde_json::Value::String(text) => clean(text).into(),
        serde_json::Value::Array(items) => items.iter().map(clean_json).collect(),
        serde_json::Value::Object(map) => map.iter().map(|(k, v)| (clean(k), clean_json(v))).collect(),
        other => other.clone(),
    }
}
