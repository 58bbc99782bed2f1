//! What all runs with a label say together.

use std::collections::BTreeMap;

use diesel::{
    QueryableByName,
    sql_types::{BigInt, Integer, Jsonb, Text},
};
use kesmo_core::words::Outcome;

use crate::{Error, Store, json, query::RunQueryDsl};

/// A test in the runs with a label.
#[derive(Debug, Clone, QueryableByName)]
pub struct LabelledTest {
    #[diesel(sql_type = BigInt)]
    pub test_id: i64,
    #[diesel(sql_type = BigInt)]
    pub suite_id: i64,
    #[diesel(sql_type = Text)]
    pub test: String,
    #[diesel(sql_type = Text)]
    pub variant: String,
    /// Its latest outcome that counts; of one that never ran, the latest of all.
    #[diesel(sql_type = Text)]
    pub outcome: String,
    #[diesel(sql_type = BigInt)]
    pub run_id: i64,
    #[diesel(sql_type = Integer)]
    pub number: i32,
    #[diesel(sql_type = Integer)]
    pub entry: i32,
    #[diesel(sql_type = Text)]
    pub message: String,
}

impl LabelledTest {
    /// Its outcome, if it ran.
    #[must_use]
    pub fn outcome(&self) -> Option<Outcome> {
        Outcome::of(&self.outcome).filter(|o| !matches!(o, Outcome::NotRun | Outcome::Parked))
    }
}

impl Store {
    /// The tests of all runs with some labels, each with its latest outcome, in the order of their names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn labelled_tests(&self, labels: &BTreeMap<String, String>) -> Result<Vec<LabelledTest>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select l.*, case when l.outcome = 'failed' then coalesce((select left(a.message, 500) from attempts a where a.run_id = l.run_id \
             and a.entry = l.entry and a.month = l.month order by a.number desc limit 1), '') else '' end as message from \
             (select distinct on (r.test_id) r.test_id, t.suite_id, t.test, t.variant, r.outcome, r.run_id, runs.number, r.entry, r.month \
             from results r join runs on runs.id = r.run_id join tests t on t.id = r.test_id \
             where runs.labels @> $1 and r.run_id = any(array(select id from runs where labels @> $1)) \
             order by r.test_id, r.outcome in ('not-run', 'parked'), r.run_id desc, r.outcome = 'failed' desc) l \
             order by l.suite_id, l.test, l.variant",
        )
        .bind::<Jsonb, _>(json(labels)?)
        .load(&mut c)
        .await?)
    }
}
