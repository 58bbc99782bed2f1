//! Briefs: saved settings of runs.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::{ExpressionMethods, OptionalExtension, QueryDsl, Queryable, Selectable, SelectableHelper};
use diesel_async::AsyncConnection;
use kesmo_core::plan::brief::{Brief, chain};

use crate::{
    Error, Store, content, json,
    query::RunQueryDsl,
    schema::{briefs, polls, schedules, webhooks},
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
    /// If PostgreSQL does not answer, the briefs would follow each other for ever, or the name is taken and `replace` is
    /// false.
    pub async fn put_brief(&self, name: &str, brief: &Brief, by: &str, replace: bool) -> Result<BriefRow, NotSaved> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            diesel::sql_query("select pg_advisory_xact_lock(7216)").execute(c).await?;
            let all: Vec<BriefRow> = briefs::table.select(BriefRow::as_select()).load(c).await?;
            if !replace && all.iter().any(|b| b.name == name) {
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

    /// What uses each of all briefs, in words: `schedule nightly`.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn users_of_briefs(&self, all: &[BriefRow]) -> Result<HashMap<String, Vec<String>>, Error> {
        let mut c = self.connection().await?;
        let scheduled: Vec<(Option<String>, String)> = schedules::table
            .filter(schedules::brief.is_not_null())
            .order(schedules::name)
            .select((schedules::brief, schedules::name))
            .load(&mut c)
            .await?;
        let called: Vec<(String, String)> =
            webhooks::table.order(webhooks::name).select((webhooks::brief, webhooks::name)).load(&mut c).await?;
        let polled: Vec<(Option<String>, String)> =
            polls::table.order(polls::id).select((polls::brief, polls::branches)).load(&mut c).await?;
        let mut users: HashMap<String, Vec<String>> = HashMap::new();
        let mut add = |brief: Option<String>, said: String| {
            if let Some(brief) = brief {
                users.entry(brief).or_default().push(said);
            }
        };
        scheduled.into_iter().for_each(|(brief, name)| add(brief, format!("schedule {name}")));
        called.into_iter().for_each(|(brief, name)| add(Some(brief), format!("webhook {name}")));
        polled.into_iter().for_each(|(brief, branches)| add(brief, format!("polled branches {branches}")));
        for row in all {
            add(row.brief().ok().and_then(|b| b.then), format!("brief {} (--then)", row.name));
        }
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
