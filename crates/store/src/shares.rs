//! Addresses that show one thing without a sign-in. Their keys are kept as hashes, never as text.

use chrono::{DateTime, Utc};
use diesel::{
    BoolExpressionMethods, ExpressionMethods, Insertable, OptionalExtension, QueryDsl, Queryable, Selectable,
    SelectableHelper,
    sql_types::{BigInt, Nullable, Text},
};

use crate::{
    Error, Store,
    query::RunQueryDsl,
    runs::{NamedRun, RunRow},
    schema::{runs, shares, suites},
};

/// An address, with what it shows.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = shares, check_for_backend(diesel::pg::Pg))]
pub struct ShareRow {
    pub id: i64,
    /// `run`, `badge` or `feed`.
    pub kind: String,
    pub run_id: Option<i64>,
    pub suite_id: Option<i64>,
    pub brief: Option<String>,
    pub until: Option<DateTime<Utc>>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub used_at: Option<DateTime<Utc>>,
    /// Of a badge or feed: only what ran on this branch.
    pub branch: Option<String>,
}

impl ShareRow {
    /// The runs that a badge or feed is of.
    #[must_use]
    pub fn of(&self) -> OfRuns<'_> {
        OfRuns { suite_id: self.suite_id, brief: self.brief.as_deref(), branch: self.branch.as_deref() }
    }
}

/// The runs of a suite, a brief, a branch, or of what of these is named.
#[derive(Debug, Clone, Copy, Default)]
pub struct OfRuns<'a> {
    pub suite_id: Option<i64>,
    pub brief: Option<&'a str>,
    pub branch: Option<&'a str>,
}

/// A new address.
#[derive(Debug, Insertable)]
#[diesel(table_name = shares)]
pub struct NewShare<'a> {
    pub hash: &'a [u8],
    pub kind: &'a str,
    pub run_id: Option<i64>,
    pub suite_id: Option<i64>,
    pub brief: Option<&'a str>,
    pub branch: Option<&'a str>,
    pub until: Option<DateTime<Utc>>,
    pub made_by: &'a str,
}

impl Store {
    /// Keeps a new address.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_share(&self, new: &NewShare<'_>) -> Result<ShareRow, Error> {
        let mut c = self.connection().await?;
        let row = diesel::insert_into(shares::table).values(new).returning(ShareRow::as_returning());
        Ok(row.get_result(&mut c).await?)
    }

    /// Those that have not ended, the newest first, with the suites and runs that they are of.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn shares(&self) -> Result<Vec<(ShareRow, Option<String>, Option<i32>)>, Error> {
        let mut c = self.connection().await?;
        let good = shares::until.is_null().or(shares::until.gt(Utc::now()));
        let rows: Vec<ShareRow> =
            shares::table.filter(good).order(shares::id.desc()).select(ShareRow::as_select()).load(&mut c).await?;
        let of_runs: Vec<i64> = rows.iter().filter_map(|row| row.run_id).collect();
        let named: Vec<(i64, String, i32)> = runs::table
            .inner_join(suites::table)
            .filter(runs::id.eq_any(of_runs))
            .select((runs::id, suites::slug, runs::number))
            .load(&mut c)
            .await?;
        let of_suites: Vec<i64> = rows.iter().filter_map(|row| row.suite_id).collect();
        let slugs: Vec<(i64, String)> =
            suites::table.filter(suites::id.eq_any(of_suites)).select((suites::id, suites::slug)).load(&mut c).await?;
        let of = |row: ShareRow| {
            let run = named.iter().find(|run| Some(run.0) == row.run_id);
            let suite = slugs.iter().find(|suite| Some(suite.0) == row.suite_id).map(|suite| suite.1.clone());
            let number = run.map(|run| run.2);
            let suite = run.map(|run| run.1.clone()).or(suite);
            (row, suite, number)
        };
        Ok(rows.into_iter().map(of).collect())
    }

    /// The address of a key's hash, if it has not ended; that it was used is noted, about once a minute.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn share_of_hash(&self, hash: &[u8]) -> Result<Option<ShareRow>, Error> {
        let mut c = self.connection().await?;
        let good = shares::until.is_null().or(shares::until.gt(Utc::now()));
        let of = shares::table.filter(shares::hash.eq(hash)).filter(good);
        let Some(row) = of.select(ShareRow::as_select()).first(&mut c).await.optional()? else { return Ok(None) };
        if row.used_at.is_none_or(|at| at < Utc::now() - chrono::TimeDelta::minutes(1)) {
            diesel::update(shares::table.find(row.id)).set(shares::used_at.eq(Utc::now())).execute(&mut c).await?;
        }
        Ok(Some(row))
    }

    /// Ends an address; false if there is none.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn end_share(&self, id: i64) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(shares::table.find(id)).execute(&mut c).await? == 1)
    }

    /// The branches that runs were on, over or not; at most so many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn branches_of(&self, of: OfRuns<'_>, most: i64) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let mut found = runs::table.filter(runs::branch.is_not_null()).into_boxed();
        if let Some(suite) = of.suite_id {
            found = found.filter(runs::suite_id.eq(suite));
        }
        if let Some(brief) = of.brief {
            found = found.filter(runs::brief.eq(brief));
        }
        let branches = found.select(runs::branch).distinct().limit(most);
        Ok(branches.load::<Option<String>>(&mut c).await?.into_iter().flatten().collect())
    }

    /// The latest runs of a suite, a brief, a branch that are over, the last to end first. Those of hunts are left out.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn ended_runs(&self, of: OfRuns<'_>, most: i64) -> Result<Vec<NamedRun>, Error> {
        #[derive(diesel::QueryableByName)]
        struct Id {
            #[diesel(sql_type = BigInt)]
            id: i64,
        }
        let mut c = self.connection().await?;
        let latest: Vec<Id> = diesel::sql_query(
            "select id from runs where ($1 is null or suite_id = $1) and ($2 is null or brief = $2) and ($4 is null or branch = $4) \
             and phase = 'finished' and not jsonb_exists(labels, 'hunt') order by finished_at desc limit $3",
        )
        .bind::<Nullable<BigInt>, _>(of.suite_id)
        .bind::<Nullable<Text>, _>(of.brief)
        .bind::<BigInt, _>(most)
        .bind::<Nullable<Text>, _>(of.branch)
        .load(&mut c)
        .await?;
        let of = runs::table.inner_join(suites::table);
        let of = of.filter(runs::id.eq_any(latest.into_iter().map(|r| r.id).collect::<Vec<_>>()));
        Ok(of.order(runs::finished_at.desc()).select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }
}
