//! Tests that are set aside.

use chrono::{DateTime, NaiveDate, Utc};
use diesel::{ExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper};
use kesmo_core::plan::{At, Only, Park};

use crate::{
    Error, Store, json,
    query::RunQueryDsl,
    schema::{parks, suites},
};

/// A park as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = parks, check_for_backend(diesel::pg::Pg))]
pub struct ParkRow {
    pub id: i64,
    pub suite_id: i64,
    pub pattern: String,
    pub why: String,
    pub until: NaiveDate,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub only_in: serde_json::Value,
}

impl ParkRow {
    /// The park as a plan takes it, on that day.
    #[must_use]
    pub fn on(&self, today: NaiveDate) -> Park {
        let (pattern, why) = (self.pattern.clone(), self.why.clone());
        // It was read before it was kept.
        let only = serde_json::from_value(self.only_in.clone()).unwrap_or_default();
        Park { pattern, why, until: self.until.to_string(), over: self.until < today, only }
    }
}

impl Store {
    /// Sets tests aside; a park of that pattern is replaced.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_park(
        &self,
        suite_id: i64,
        pattern: &str,
        (why, only): (&str, &Only),
        until: NaiveDate,
        made_by: &str,
    ) -> Result<ParkRow, Error> {
        let mut c = self.connection().await?;
        let key = (parks::suite_id.eq(suite_id), parks::pattern.eq(pattern));
        let rest = (
            parks::why.eq(why),
            parks::until.eq(until),
            parks::made_by.eq(made_by),
            parks::made_at.eq(Utc::now()),
            parks::only_in.eq(json(only)?),
        );
        let put = diesel::insert_into(parks::table)
            .values((key, rest.clone()))
            .on_conflict((parks::suite_id, parks::pattern))
            .do_update()
            .set(rest);
        Ok(put.returning(ParkRow::as_returning()).get_result(&mut c).await?)
    }

    /// Takes tests back. False if there is no park of that pattern.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_park(&self, suite_id: i64, pattern: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let of = parks::table.filter(parks::suite_id.eq(suite_id)).filter(parks::pattern.eq(pattern));
        Ok(diesel::delete(of).execute(&mut c).await? == 1)
    }

    /// The parks of a suite that hold in a run like that on a day, and those that are over.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn parks_at(&self, suite_id: i64, today: NaiveDate, at: At<'_>) -> Result<Vec<Park>, Error> {
        let all = self.parks(Some(suite_id)).await?.into_iter().map(|(park, _)| park.on(today));
        Ok(all.filter(|park| park.only.holds(at)).collect())
    }

    /// The parks of a suite, or of all, with the suites' names, by suite and pattern.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn parks(&self, suite_id: Option<i64>) -> Result<Vec<(ParkRow, String)>, Error> {
        let mut c = self.connection().await?;
        let mut all = parks::table.inner_join(suites::table).into_boxed();
        if let Some(id) = suite_id {
            all = all.filter(parks::suite_id.eq(id));
        }
        let all = all.order((suites::slug, parks::pattern));
        Ok(all.select((ParkRow::as_select(), suites::slug)).load(&mut c).await?)
    }
}
