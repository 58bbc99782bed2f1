//! Attempts, batches and artifacts of runs, read back.

use chrono::{DateTime, NaiveDate, Utc};
use diesel::{ExpressionMethods, OptionalExtension, QueryDsl, Queryable, Selectable, SelectableHelper};

use crate::{
    Error, Store,
    query::RunQueryDsl,
    schema::{artifacts, attempts, batches},
};

/// An attempt as it is kept, without what it printed.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = attempts, check_for_backend(diesel::pg::Pg))]
pub struct AttemptRow {
    pub entry: i32,
    pub number: i32,
    pub batch: i32,
    pub worker: String,
    pub slot: i32,
    pub began_at: DateTime<Utc>,
    pub spent_us: i64,
    pub ended: String,
    pub decided: Option<String>,
    pub message: String,
    pub detail: String,
    pub steps: serde_json::Value,
    pub log_bytes: i64,
    /// Busy slots of its worker when it ended, and all of them; 0 where that was not kept.
    pub busy: i32,
    pub of_slots: i32,
    pub expected_us: Option<i64>,
}

/// What an attempt said that failed.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = attempts, check_for_backend(diesel::pg::Pg))]
pub struct FailingRow {
    pub entry: i32,
    pub number: i32,
    pub message: String,
}

/// When and where an attempt ran.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = attempts, check_for_backend(diesel::pg::Pg))]
pub struct PlaceRow {
    pub entry: i32,
    pub number: i32,
    pub batch: i32,
    pub slot: i32,
    pub began_at: DateTime<Utc>,
    pub spent_us: i64,
}

/// Where and when an attempt ran, and how it ended.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = attempts, check_for_backend(diesel::pg::Pg))]
pub struct LaneRow {
    pub entry: i32,
    pub number: i32,
    pub worker: String,
    pub slot: i32,
    pub began_at: DateTime<Utc>,
    pub spent_us: i64,
    pub ended: String,
    pub decided: Option<String>,
}

/// The bones of an attempt, for building a run again.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = attempts, check_for_backend(diesel::pg::Pg))]
pub struct AttemptBones {
    pub entry: i32,
    pub number: i32,
    pub batch: i32,
    pub worker: String,
    pub spent_us: i64,
    pub ended: String,
    pub decided: Option<String>,
}

/// A batch as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = batches, check_for_backend(diesel::pg::Pg))]
pub struct BatchRow {
    pub number: i32,
    pub worker: String,
    pub slot: i32,
    /// A list of numbers.
    pub entries: serde_json::Value,
    pub granted_at: DateTime<Utc>,
    pub open: bool,
}

/// An artifact as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = artifacts, check_for_backend(diesel::pg::Pg))]
pub struct ArtifactRow {
    pub entry: Option<i32>,
    pub batch: i32,
    pub path: String,
    pub about: String,
    pub digest: String,
    pub bytes: i64,
}

impl BatchRow {
    /// The numbers of its entries.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn entry_numbers(&self) -> Result<Vec<u32>, Error> {
        crate::content(self.entries.clone())
    }
}

impl Store {
    /// The bones of all attempts of a run, in the order in which they began.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn attempt_bones(&self, run_id: i64, month: NaiveDate) -> Result<Vec<AttemptBones>, Error> {
        let mut c = self.connection().await?;
        let all = attempts::table.filter(attempts::run_id.eq(run_id)).filter(attempts::month.eq(month));
        Ok(all.order((attempts::began_at, attempts::entry)).select(AttemptBones::as_select()).load(&mut c).await?)
    }

    /// Where and when all attempts of a run ran.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn lanes(&self, run_id: i64, month: NaiveDate) -> Result<Vec<LaneRow>, Error> {
        let mut c = self.connection().await?;
        let all = attempts::table.filter(attempts::run_id.eq(run_id)).filter(attempts::month.eq(month));
        Ok(all.select(LaneRow::as_select()).load(&mut c).await?)
    }

    /// The attempts of some entries of a run, in order.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn attempts_of(&self, run_id: i64, month: NaiveDate, entries: &[i32]) -> Result<Vec<AttemptRow>, Error> {
        let mut c = self.connection().await?;
        let all = attempts::table
            .filter(attempts::run_id.eq(run_id))
            .filter(attempts::month.eq(month))
            .filter(attempts::entry.eq_any(entries));
        Ok(all.order((attempts::entry, attempts::number)).select(AttemptRow::as_select()).load(&mut c).await?)
    }

    /// The failing attempts of a run, in listed order.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn failing_attempts(&self, run_id: i64, month: NaiveDate) -> Result<Vec<FailingRow>, Error> {
        let mut c = self.connection().await?;
        let all = attempts::table
            .filter(attempts::run_id.eq(run_id))
            .filter(attempts::month.eq(month))
            .filter(attempts::ended.eq_any(["failed", "timed-out", "crashed"]));
        Ok(all.order((attempts::entry, attempts::number)).select(FailingRow::as_select()).load(&mut c).await?)
    }

    /// The attempts of a run on one worker, in the order in which they began.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn attempts_on(&self, run_id: i64, month: NaiveDate, worker: &str) -> Result<Vec<PlaceRow>, Error> {
        let mut c = self.connection().await?;
        let all = attempts::table
            .filter(attempts::run_id.eq(run_id))
            .filter(attempts::month.eq(month))
            .filter(attempts::worker.eq(worker));
        Ok(all.order((attempts::began_at, attempts::entry)).select(PlaceRow::as_select()).load(&mut c).await?)
    }

    /// What an attempt printed: the text, or the blob that holds it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn attempt_log(
        &self,
        run_id: i64,
        month: NaiveDate,
        entry: i32,
        number: i32,
    ) -> Result<Option<(String, Option<String>)>, Error> {
        let mut c = self.connection().await?;
        let found = attempts::table.find((run_id, entry, number, month)).select((attempts::log, attempts::log_blob));
        Ok(found.first(&mut c).await.optional()?)
    }

    /// All batches of a run.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn batches(&self, run_id: i64) -> Result<Vec<BatchRow>, Error> {
        let mut c = self.connection().await?;
        let all = batches::table.filter(batches::run_id.eq(run_id)).order(batches::number);
        Ok(all.select(BatchRow::as_select()).load(&mut c).await?)
    }

    /// The artifacts of a run, or of one of its entries.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn artifacts(&self, run_id: i64, entry: Option<i32>) -> Result<Vec<ArtifactRow>, Error> {
        let mut c = self.connection().await?;
        let mut all = artifacts::table.filter(artifacts::run_id.eq(run_id)).into_boxed();
        if let Some(entry) = entry {
            all = all.filter(artifacts::entry.eq(entry));
        }
        Ok(all.order(artifacts::id).select(ArtifactRow::as_select()).load(&mut c).await?)
    }

    /// The path and the bytes of some run's artifact of that digest.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn kept_file(&self, digest: &str) -> Result<Option<(String, i64)>, Error> {
        let mut c = self.connection().await?;
        let found = artifacts::table.filter(artifacts::digest.eq(digest)).select((artifacts::path, artifacts::bytes));
        Ok(found.first(&mut c).await.optional()?)
    }
}
