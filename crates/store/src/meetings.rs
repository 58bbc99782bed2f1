//! Keys on which CI jobs meet: the first who comes starts the run.

use chrono::Utc;
use diesel::{ExpressionMethods, OptionalExtension, QueryDsl, SelectableHelper, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection};

use crate::{
    Error, Store,
    commit::{Commit, write},
    ensure_month, month_of,
    query::RunQueryDsl,
    runs::{NamedRun, NewRun, RunRow, insert},
    schema::{meetings, runs, suites},
};

impl Store {
    /// The run of a key.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn meeting(&self, key: &str) -> Result<Option<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let found = meetings::table.inner_join(runs::table.inner_join(suites::table)).filter(meetings::key.eq(key));
        Ok(found.select((RunRow::as_select(), suites::slug)).first(&mut c).await.optional()?)
    }

    /// The run of a key, made if nobody has come with it yet; tells whether it was made now. Of several who come at once
    /// exactly one makes it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn meet(&self, key: &str, new: &NewRun) -> Result<(RunRow, bool), Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| come(c, key, new).await).await
    }

    /// The run of an import, made with all its rows if the same was not imported before; tells whether it was made now. The
    /// rows are of a run with the id 0.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn import(&self, key: &str, new: &NewRun, mut rows: Commit) -> Result<(RunRow, bool), Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(new.at.unwrap_or_else(Utc::now))).await?;
        c.transaction(async |c| {
            let (row, made) = come(c, key, new).await?;
            if !made {
                return Ok((row, false));
            }
            rows.name_run(row.id);
            write(c, &rows).await?;
            Ok((runs::table.find(row.id).select(RunRow::as_select()).first(c).await?, true))
        })
        .await
    }
}

/// The run of a key, made if there is none, within a transaction.
async fn come(c: &mut AsyncPgConnection, key: &str, new: &NewRun) -> Result<(RunRow, bool), Error> {
    diesel::sql_query("select pg_advisory_xact_lock(hashtextextended($1, 7215))")
        .bind::<Text, _>(key)
        .execute(c)
        .await?;
    let there: Option<i64> = meetings::table.find(key).select(meetings::run_id).first(c).await.optional()?;
    if let Some(id) = there {
        let row = runs::table.find(id).select(RunRow::as_select()).first(c).await?;
        return Ok((row, false));
    }
    let row = insert(c, new).await?;
    diesel::insert_into(meetings::table)
        .values((meetings::key.eq(key), meetings::run_id.eq(row.id)))
        .execute(c)
        .await?;
    Ok((row, true))
}
