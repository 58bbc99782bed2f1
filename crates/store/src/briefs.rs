//! Briefs: saved settings of runs.

use chrono::{DateTime, Utc};
use diesel::{ExpressionMethods, OptionalExtension, QueryDsl, Queryable, Selectable, SelectableHelper};
use diesel_async::{AsyncConnection, RunQueryDsl};
use kesmo_core::plan::brief::{Brief, chain};

use crate::{
    Error, Store, content, json,
    schema::{briefs, call_ins, schedules, watches},
};

/// A brief as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = briefs, check_for_backend(diesel::pg::Pg))]
pub struct BriefRow {
    pub name: String,
    pub brief: serde_json::Value,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub changed_at: DateTime<Utc>,
}

impl BriefRow {
    /// Its settings.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn brief(&self) -> Result<Brief, Error> {
        content(self.brief.clone())
    }
}

/// Why a brief was not saved.
#[derive(Debug, thiserror::Error)]
pub enum NotSaved {
    #[error(transparent)]
    Store(#[from] Error),
    /// The briefs would follow each other for ever.
    #[error("{0}")]
    Loop(String),
    /// There is one of that name.
    #[error("there is a brief of that name")]
    Taken,
}

impl From<diesel::result::Error> for NotSaved {
    fn from(error: diesel::result::Error) -> Self {
        Self::Store(error.into())
    }
}

impl Store {
    /// Saves a brief. Briefs are saved one after the other, so that no two make a loop together.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, the briefs would follow each other for ever, or the name is taken and `again` is
    /// false.
    pub async fn put_brief(&self, name: &str, brief: &Brief, by: &str, again: bool) -> Result<BriefRow, NotSaved> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            diesel::sql_query("select pg_advisory_xact_lock(7216)").execute(c).await?;
            let all: Vec<BriefRow> = briefs::table.select(BriefRow::as_select()).load(c).await?;
            if !again && all.iter().any(|b| b.name == name) {
                return Err(NotSaved::Taken);
            }
            let then_of = |of: &str| {
                if of == name {
                    return brief.then.clone();
                }
                all.iter().find(|b| b.name == of).and_then(|b| b.brief().ok()?.then)
            };
            chain(name, then_of).map_err(|e| NotSaved::Loop(e.to_string()))?;
            let row = (briefs::name.eq(name), briefs::brief.eq(json(brief)?), briefs::made_by.eq(by));
            let change = (briefs::brief.eq(json(brief)?), briefs::changed_at.eq(Utc::now()));
            let put = diesel::insert_into(briefs::table).values(row).on_conflict(briefs::name).do_update().set(change);
            Ok(put.returning(BriefRow::as_returning()).get_result(c).await?)
        })
        .await
    }

    /// The brief of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn brief(&self, name: &str) -> Result<Option<BriefRow>, Error> {
        let mut c = self.connection().await?;
        Ok(briefs::table.find(name).select(BriefRow::as_select()).first(&mut c).await.optional()?)
    }

    /// All briefs, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn briefs(&self) -> Result<Vec<BriefRow>, Error> {
        let mut c = self.connection().await?;
        Ok(briefs::table.order(briefs::name).select(BriefRow::as_select()).load(&mut c).await?)
    }

    /// What uses a brief, of `all` that there are, in words: `schedule nightly`.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn users_of_brief(&self, name: &str, all: &[BriefRow]) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let scheduled: Vec<String> =
            schedules::table.filter(schedules::brief.eq(name)).select(schedules::name).load(&mut c).await?;
        let called: Vec<String> =
            call_ins::table.filter(call_ins::brief.eq(name)).select(call_ins::name).load(&mut c).await?;
        let watched: Vec<String> =
            watches::table.filter(watches::brief.eq(name)).select(watches::branches).load(&mut c).await?;
        let before = all.iter().filter(|b| b.brief().is_ok_and(|b| b.then.as_deref() == Some(name)));
        let said = |kind: &'static str| move |n: String| format!("{kind} {n}");
        let mut users: Vec<String> = scheduled.into_iter().map(said("schedule")).collect();
        users.extend(called.into_iter().map(said("call-in")));
        users.extend(watched.into_iter().map(said("watched branches")));
        users.extend(before.map(|b| format!("brief {} (--then)", b.name)));
        Ok(users)
    }

    /// Removes a brief; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_brief(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(briefs::table.find(name)).execute(&mut c).await? == 1)
    }
}
