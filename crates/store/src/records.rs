//! What history says of tests.

use std::collections::HashMap;

use diesel::{
    ExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Double, Integer, Nullable, Text},
};
use diesel_async::RunQueryDsl;
use kesmo_core::{
    record::{Estimate, Record},
    words::Outcome,
};

use crate::{Error, Store, schema::records};

#[derive(Debug, Queryable, Selectable)]
#[diesel(table_name = records, check_for_backend(diesel::pg::Pg))]
struct RecordRow {
    test: String,
    variant: String,
    samples: i32,
    mean_us: f64,
    deviation_us: f64,
    passed: i32,
    flaky: i32,
    failed: i32,
    skipped: i32,
    last: Option<String>,
}

/// Records by test and variant.
pub type Records = HashMap<(String, String), Record>;

impl Store {
    /// The records of a suite's tests.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn records(&self, suite_id: i64) -> Result<Records, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<RecordRow> =
            records::table.filter(records::suite_id.eq(suite_id)).select(RecordRow::as_select()).load(&mut c).await?;
        let count = |n: i32| u32::try_from(n).unwrap_or(0);
        let read = |row: RecordRow| {
            let estimate = Estimate { samples: count(row.samples), mean: row.mean_us, deviation: row.deviation_us };
            let record = Record {
                estimate,
                passed: count(row.passed),
                flaky: count(row.flaky),
                failed: count(row.failed),
                skipped: count(row.skipped),
                last: row.last.as_deref().and_then(Outcome::of),
            };
            ((row.test, row.variant), record)
        };
        Ok(rows.into_iter().map(read).collect())
    }

    /// Replaces records of a suite.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_records(&self, suite_id: i64, records: &[(String, String, Record)]) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let count = |n: u32| i32::try_from(n).unwrap_or(i32::MAX);
        let ints = |of: fn(&Record) -> u32| records.iter().map(|r| count(of(&r.2))).collect::<Vec<_>>();
        diesel::sql_query(
        "insert into records (suite_id, test, variant, samples, mean_us, deviation_us, passed, flaky, failed, skipped, last) \
         select $1, * from unnest($2, $3, $4, $5, $6, $7, $8, $9, $10, $11) \
         on conflict (suite_id, test, variant) do update set \
         samples = excluded.samples, mean_us = excluded.mean_us, deviation_us = excluded.deviation_us, \
         passed = excluded.passed, flaky = excluded.flaky, failed = excluded.failed, skipped = excluded.skipped, \
         last = excluded.last",
    )
    .bind::<BigInt, _>(suite_id)
    .bind::<Array<Text>, _>(records.iter().map(|r| r.0.as_str()).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(records.iter().map(|r| r.1.as_str()).collect::<Vec<_>>())
    .bind::<Array<Integer>, _>(ints(|r| r.estimate.samples))
    .bind::<Array<Double>, _>(records.iter().map(|r| r.2.estimate.mean).collect::<Vec<_>>())
    .bind::<Array<Double>, _>(records.iter().map(|r| r.2.estimate.deviation).collect::<Vec<_>>())
    .bind::<Array<Integer>, _>(ints(|r| r.passed))
    .bind::<Array<Integer>, _>(ints(|r| r.flaky))
    .bind::<Array<Integer>, _>(ints(|r| r.failed))
    .bind::<Array<Integer>, _>(ints(|r| r.skipped))
    .bind::<Array<Nullable<Text>>, _>(records.iter().map(|r| r.2.last.map(Outcome::word)).collect::<Vec<_>>())
    .execute(&mut c)
    .await?;
        Ok(())
    }
}
