//! Runs: made, found, listed.

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, PgJsonbExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper,
};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use kesmo_core::plan::{Park, RunOptions};

use crate::{
    Error, Store, content, ensure_month, json, month_of,
    schema::{run_notes, runs, suites},
};

/// A run as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = runs, check_for_backend(diesel::pg::Pg))]
pub struct RunRow {
    pub id: i64,
    pub suite_id: i64,
    pub number: i32,
    pub source: String,
    pub pool: String,
    pub options: serde_json::Value,
    pub labels: serde_json::Value,
    pub seed: i64,
    pub started_by: String,
    pub phase: String,
    pub verdict: Option<String>,
    pub reason: String,
    pub listings: Vec<String>,
    pub listed: i32,
    pub tally: serde_json::Value,
    pub stats: serde_json::Value,
    pub strip: String,
    pub created_at: DateTime<Utc>,
    pub began_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    /// The parks that held when it was made.
    pub parks: serde_json::Value,
}

impl RunRow {
    /// What the start asked for.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn run_options(&self) -> Result<RunOptions, Error> {
        content(self.options.clone())
    }

    /// The parks that held when it was made, and those that were over.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn parks_then(&self) -> Result<Vec<Park>, Error> {
        content(self.parks.clone())
    }
}

/// A run with the name of its suite.
pub type NamedRun = (RunRow, String);

/// What a new run is made from.
#[derive(Debug, Clone)]
pub struct NewRun<'a> {
    pub suite_id: i64,
    pub source: &'a str,
    pub pool: &'a str,
    pub options: &'a RunOptions,
    pub seed: i64,
    pub started_by: &'a str,
    pub parks: &'a [Park],
}

/// Which runs to list, newest first.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    pub suite: Option<String>,
    pub verdict: Option<String>,
    /// Labels that a run must have.
    pub labels: std::collections::BTreeMap<String, String>,
    pub limit: i64,
    pub skip: i64,
}

impl Store {
    /// Makes a run, queued, with its suite's next number.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_run(&self, new: NewRun<'_>) -> Result<RunRow, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| insert(c, &new).await).await
    }

    /// The run of that suite and number.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn run(&self, suite: &str, number: i32) -> Result<Option<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let found =
            runs::table.inner_join(suites::table).filter(suites::slug.eq(suite)).filter(runs::number.eq(number));
        Ok(found.select((RunRow::as_select(), suites::slug)).first(&mut c).await.optional()?)
    }

    /// The run of that id.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn run_of(&self, id: i64) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        Ok(runs::table.find(id).select(RunRow::as_select()).first(&mut c).await.optional()?)
    }

    /// Runs, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn runs(&self, filter: &Filter) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let mut query = runs::table.inner_join(suites::table).into_boxed();
        if let Some(suite) = &filter.suite {
            query = query.filter(suites::slug.eq(suite));
        }
        if let Some(verdict) = &filter.verdict {
            query = query.filter(runs::verdict.eq(verdict));
        }
        if !filter.labels.is_empty() {
            query = query.filter(runs::labels.contains(json(&filter.labels)?));
        }
        let page = query.order(runs::id.desc()).limit(filter.limit).offset(filter.skip);
        Ok(page.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// Runs without a verdict, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn unfinished_runs(&self) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let open = runs::table.inner_join(suites::table).filter(runs::phase.ne("finished")).order(runs::id);
        Ok(open.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// The latest runs of each suite, newest first, at most `most` of each. Those of hunts are left out: they repeat a failure
    /// on purpose, and say nothing of how the suite does.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn last_runs(&self, suite_ids: &[i64], most: i64) -> Result<Vec<RunRow>, Error> {
        let mut c = self.connection().await?;
        let mut all = Vec::new();
        for id in suite_ids {
            let of_hunt = diesel::dsl::sql::<diesel::sql_types::Bool>("jsonb_exists(runs.labels, 'hunt')");
            let of_suite = runs::table.filter(runs::suite_id.eq(id)).filter(diesel::dsl::not(of_hunt));
            let latest = of_suite.order(runs::id.desc()).limit(most);
            all.extend(latest.select(RunRow::as_select()).load::<RunRow>(&mut c).await?);
        }
        Ok(all)
    }

    /// The remarks of a run, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notes(&self, run_id: i64) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let found = run_notes::table.filter(run_notes::run_id.eq(run_id)).order(run_notes::id).select(run_notes::text);
        Ok(found.limit(1000).load(&mut c).await?)
    }
}

/// Makes the row, within a transaction.
pub(crate) async fn insert(c: &mut AsyncPgConnection, new: &NewRun<'_>) -> Result<RunRow, Error> {
    let number: i32 = diesel::update(suites::table.find(new.suite_id))
        .set(suites::last_run.eq(suites::last_run + 1))
        .returning(suites::last_run)
        .get_result(c)
        .await?;
    let row = (
        runs::suite_id.eq(new.suite_id),
        runs::number.eq(number),
        runs::source.eq(new.source),
        runs::pool.eq(new.pool),
        runs::options.eq(json(new.options)?),
        runs::labels.eq(json(&new.options.labels)?),
        runs::seed.eq(new.seed),
        runs::started_by.eq(new.started_by),
        runs::created_at.eq(Utc::now()),
        runs::parks.eq(json(&new.parks)?),
    );
    Ok(diesel::insert_into(runs::table).values(row).returning(RunRow::as_returning()).get_result(c).await?)
}
