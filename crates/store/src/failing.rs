//! Tests that fail now, and runs that are over and not recorded.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, Queryable, QueryableByName, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Integer, Nullable, Text, Timestamptz},
};
use diesel_async::AsyncPgConnection;

use crate::{
    Error, Store,
    query::RunQueryDsl,
    schema::{failing, unrecorded},
};

/// A test whose latest outcome that counts is failed.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = failing, check_for_backend(diesel::pg::Pg))]
pub struct FailingRow {
    pub id: i64,
    pub branch: String,
    pub variant: String,
    pub test: String,
    pub since_run: i64,
    pub last_run: i64,
    pub entry: i32,
    pub runs: i32,
    pub passes_before: i32,
}

/// What some runs change of what fails in a pool of a suite.
#[derive(Debug, Clone, Default)]
pub struct FailingChange {
    /// Those that fail now; what has an id was there before.
    pub failing: Vec<FailingRow>,
    /// Those that do not any more, by their ids.
    pub cleared: Vec<i64>,
}

/// A test that fails now, with the runs that say so.
#[derive(Debug, Clone, QueryableByName)]
pub struct FailingTest {
    #[diesel(sql_type = Text)]
    pub suite: String,
    #[diesel(sql_type = Text)]
    pub branch: String,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Text)]
    pub variant: String,
    #[diesel(sql_type = Text)]
    pub test: String,
    #[diesel(sql_type = Integer)]
    pub runs: i32,
    #[diesel(sql_type = Integer)]
    pub passes_before: i32,
    #[diesel(sql_type = Integer)]
    pub entry: i32,
    #[diesel(sql_type = Integer)]
    pub since_number: i32,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub since_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub since_commit: Option<String>,
    #[diesel(sql_type = BigInt)]
    pub last_run: i64,
    #[diesel(sql_type = Integer)]
    pub last_number: i32,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub last_at: Option<DateTime<Utc>>,
    /// What its last attempt in the latest run said.
    #[diesel(sql_type = Text)]
    pub message: String,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    suite_id: i64,
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Found {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

impl Store {
    /// What fails in a pool of a suite.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn failing_in(&self, suite_id: i64, pool: &str) -> Result<Vec<FailingRow>, Error> {
        let mut c = self.connection().await?;
        let of = failing::table.filter(failing::suite_id.eq(suite_id)).filter(failing::pool.eq(pool));
        Ok(of.select(FailingRow::as_select()).load(&mut c).await?)
    }

    /// How many tests fail now, by suite.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn failing_counts(&self) -> Result<HashMap<i64, u32>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Count> =
            diesel::sql_query("select suite_id, count(*) from failing group by suite_id").load(&mut c).await?;
        Ok(rows.into_iter().map(|row| (row.suite_id, u32::try_from(row.count).unwrap_or(u32::MAX))).collect())
    }

    /// How many tests of a suite fail now, on all branches or on one.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn failing_count(&self, suite_id: i64, branch: Option<&str>) -> Result<u32, Error> {
        let mut c = self.connection().await?;
        let mut of = failing::table.filter(failing::suite_id.eq(suite_id)).into_boxed();
        if let Some(branch) = branch {
            of = of.filter(failing::branch.eq(branch));
        }
        let count: i64 = of.count().get_result(&mut c).await?;
        Ok(u32::try_from(count).unwrap_or(u32::MAX))
    }

    /// The tests that fail now, of some suites or of all, those that do so longest last; at most so many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn failing(&self, suite_ids: Option<&[i64]>, most: i64) -> Result<Vec<FailingTest>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select s.slug as suite, f.branch, f.pool, f.variant, f.test, f.runs, f.passes_before, f.entry, \
             since.number as since_number, since.finished_at as since_at, since.commit as since_commit, \
             f.last_run, last.number as last_number, last.finished_at as last_at, \
             coalesce((select a.message from attempts a where a.run_id = f.last_run and a.entry = f.entry \
             and a.month = date_trunc('month', last.created_at at time zone 'UTC')::date order by a.number desc limit 1), '') as message \
             from failing f join suites s on s.id = f.suite_id and not s.removed \
             join runs since on since.id = f.since_run join runs last on last.id = f.last_run \
             where $1 is null or f.suite_id = any($1) \
             order by f.since_run desc, s.slug, f.test, f.variant, f.branch, f.pool limit $2",
        )
        .bind::<Nullable<Array<BigInt>>, _>(suite_ids)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?)
    }

    /// Forgets what fails on a branch of a suite; tells how many tests that were.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn forget_failing(&self, suite_id: i64, branch: &str) -> Result<usize, Error> {
        let mut c = self.connection().await?;
        let of = failing::table.filter(failing::suite_id.eq(suite_id)).filter(failing::branch.eq(branch));
        Ok(diesel::delete(of).execute(&mut c).await?)
    }

    /// Whether no run of the same suite, pool and branch that came to a verdict about tests ended later than this one.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn is_latest(&self, run: i64) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let later: Found = diesel::sql_query(
            "select count(*) from (select 1 from runs as other join runs as own on own.id = $1 where other.suite_id = own.suite_id \
             and other.id <> own.id and other.pool = own.pool and other.branch is not distinct from own.branch \
             and other.verdict in ('passed', 'failed') and other.finished_at > own.finished_at limit 1) as later",
        )
        .bind::<BigInt, _>(run)
        .get_result(&mut c)
        .await?;
        Ok(later.count == 0)
    }

    /// Whether a run is over and not recorded yet.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn is_unrecorded(&self, run: i64) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let found: Option<i64> =
            unrecorded::table.find(run).select(unrecorded::run_id).first(&mut c).await.optional()?;
        Ok(found.is_some())
    }

    /// Runs that were over before that moment and are not recorded, oldest first; at most so many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn unrecorded(&self, before: DateTime<Utc>, most: i64) -> Result<Vec<i64>, Error> {
        use crate::schema::runs;
        let mut c = self.connection().await?;
        let over = unrecorded::table.inner_join(runs::table).filter(runs::finished_at.lt(before));
        Ok(over.order(runs::finished_at).limit(most).select(unrecorded::run_id).load(&mut c).await?)
    }
}

/// Which of some runs are not recorded yet; they are from then on, once the transaction ends.
pub(crate) async fn take_unrecorded(c: &mut AsyncPgConnection, runs: &[i64]) -> Result<Vec<i64>, Error> {
    let taken = diesel::delete(unrecorded::table.filter(unrecorded::run_id.eq_any(runs)));
    Ok(taken.returning(unrecorded::run_id).get_results(c).await?)
}

/// Writes what fails now in a pool of a suite.
pub(crate) async fn write(
    c: &mut AsyncPgConnection,
    suite_id: i64,
    pool: &str,
    change: &FailingChange,
) -> Result<(), Error> {
    if !change.cleared.is_empty() {
        diesel::delete(failing::table.filter(failing::id.eq_any(&change.cleared))).execute(c).await?;
    }
    if change.failing.is_empty() {
        return Ok(());
    }
    let texts = |of: fn(&FailingRow) -> &str| change.failing.iter().map(of).collect::<Vec<_>>();
    let longs = |of: fn(&FailingRow) -> i64| change.failing.iter().map(of).collect::<Vec<_>>();
    let ints = |of: fn(&FailingRow) -> i32| change.failing.iter().map(of).collect::<Vec<_>>();
    diesel::sql_query(
        "insert into failing (suite_id, pool, branch, variant, test, since_run, last_run, entry, runs, passes_before) \
         select $1, $2, * from unnest($3, $4, $5, $6, $7, $8, $9, $10) \
         on conflict (suite_id, md5(branch || E'\\n' || pool || E'\\n' || variant || E'\\n' || test)) do update set \
         last_run = excluded.last_run, entry = excluded.entry, runs = excluded.runs",
    )
    .bind::<BigInt, _>(suite_id)
    .bind::<Text, _>(pool)
    .bind::<Array<Text>, _>(texts(|f| &f.branch))
    .bind::<Array<Text>, _>(texts(|f| &f.variant))
    .bind::<Array<Text>, _>(texts(|f| &f.test))
    .bind::<Array<BigInt>, _>(longs(|f| f.since_run))
    .bind::<Array<BigInt>, _>(longs(|f| f.last_run))
    .bind::<Array<Integer>, _>(ints(|f| f.entry))
    .bind::<Array<Integer>, _>(ints(|f| f.runs))
    .bind::<Array<Integer>, _>(ints(|f| f.passes_before))
    .execute(c)
    .await?;
    Ok(())
}
