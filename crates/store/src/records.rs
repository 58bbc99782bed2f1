//! What history says of tests.

use std::{
    collections::{BTreeMap, HashMap},
    marker::PhantomData,
};

use diesel::{
    ExpressionMethods, OptionalExtension, PgExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Integer, Nullable, Text},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use futures::TryStreamExt;
use kesmo_core::{
    record::{Estimate, Record},
    time::Span,
    words::Outcome,
};

use crate::{
    Error, Store, content,
    covers::{self, CoversChange},
    ensure_month,
    failing::{FailingChange, take_unrecorded, write},
    json,
    pace::{Beside, PORTION},
    query::RunQueryDsl,
    results::{self, NewResults},
    schema::{older_runs, records, stamp_keys, stamps, suites},
    statement::statement,
};

statement! {
    /// What history says of tests by now.
    InsertRecords = "insert into records (suite_id, pool, test, variant, samples, recent, passed, flaky, failed, skipped, last, \
        since_trouble) \
        select suite, pool, test, variant, samples, recent::bigint[], passed, flaky, failed, skipped, last, since from unnest(",
        ") as r (suite, pool, test, variant, samples, recent, passed, flaky, failed, skipped, last, since) \
        on conflict (suite_id, test, variant, pool) do update set \
        samples = excluded.samples, recent = excluded.recent, \
        passed = excluded.passed, flaky = excluded.flaky, failed = excluded.failed, skipped = excluded.skipped, \
        last = excluded.last, since_trouble = excluded.since_trouble";
    suite: Array<BigInt> = Vec<i64>, pool: Array<Text> = Vec<&'a str>, test: Array<Text> = Vec<&'a str>,
    variant: Array<Text> = Vec<&'a str>, samples: Array<Integer> = Vec<i32>, recent: Array<Text> = Vec<String>,
    passed: Array<Integer> = Vec<i32>, flaky: Array<Integer> = Vec<i32>, failed: Array<Integer> = Vec<i32>,
    skipped: Array<Integer> = Vec<i32>, last: Array<Nullable<Text>> = Vec<Option<&'a str>>,
    since: Array<Nullable<Integer>> = Vec<Option<i32>>
}

#[derive(Debug, Queryable, Selectable)]
#[diesel(table_name = records, check_for_backend(diesel::pg::Pg))]
struct RecordRow {
    test: String,
    variant: String,
    samples: i32,
    passed: i32,
    flaky: i32,
    failed: i32,
    skipped: i32,
    last: Option<String>,
    pool: String,
    recent: Vec<i64>,
    since_trouble: Option<i32>,
}

/// Records by test and variant.
pub type Records = HashMap<(String, String), Record>;

/// What was expected of tests at some time, in microseconds, by test and variant; `a test\tscreen=phone` names both.
pub type Expected = BTreeMap<String, u64>;

fn count(n: i32) -> u32 {
    u32::try_from(n).unwrap_or(0)
}

impl RecordRow {
    fn record(&self) -> Record {
        let recent = self.recent.iter().map(|us| u64::try_from(*us).unwrap_or(0)).collect();
        Record {
            estimate: Estimate { samples: count(self.samples), recent },
            passed: count(self.passed),
            flaky: count(self.flaky),
            failed: count(self.failed),
            skipped: count(self.skipped),
            last: self.last.as_deref().and_then(Outcome::of),
            since_trouble: self.since_trouble.map(count),
        }
    }
}

/// What runs of one suite in one pool told of its tests.
#[derive(Debug, Clone, Copy)]
pub struct RecordChange<'a> {
    pub runs: &'a [i64],
    /// What each says of its entries.
    pub results: &'a [NewResults],
    /// The records that come of it: test, variant, record.
    pub records: &'a [(String, String, Record)],
    /// What starting a process cost, where that was measured.
    pub start_cost: Option<Span>,
    /// What fails now.
    pub failing: &'a FailingChange,
    /// What the suite's tests cover from now on.
    pub covers: &'a CoversChange,
    /// All its variants, if one of the runs was of all.
    pub variants: Option<&'a [String]>,
}

impl Store {
    /// The records of a suite's tests in a pool; of a test that never ran there, the record of another pool.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn records(&self, suite_id: i64, pool: &str) -> Result<Records, Error> {
        self.told_by_records(suite_id, pool, |record| record).await
    }

    /// What the same records tell; of what is read no more is held at once than that.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn told_by_records<T>(
        &self,
        suite_id: i64,
        pool: &str,
        tell: impl Fn(Record) -> T,
    ) -> Result<HashMap<(String, String), T>, Error> {
        let mut c = self.connection().await?;
        let of = records::table.filter(records::suite_id.eq(suite_id)).select(RecordRow::as_select());
        let mut rows = of.load_stream::<RecordRow>(&mut c).await?;
        let mut found = HashMap::new();
        while let Some(row) = rows.try_next().await? {
            let (there, record) = (row.pool == pool, row.record());
            let key = (row.test, row.variant);
            if there {
                found.insert(key, tell(record));
            } else {
                found.entry(key).or_insert_with(|| tell(record));
            }
        }
        Ok(found)
    }

    /// The records of a suite's tests in exactly this pool.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn records_in(&self, suite_id: i64, pool: &str) -> Result<Records, Error> {
        let mut c = self.connection().await?;
        let of = records::table.filter(records::suite_id.eq(suite_id)).filter(records::pool.eq(pool));
        let mut rows = of.select(RecordRow::as_select()).load_stream::<RecordRow>(&mut c).await?;
        let mut found = Records::new();
        while let Some(row) = rows.try_next().await? {
            let record = row.record();
            found.insert((row.test, row.variant), record);
        }
        Ok(found)
    }

    /// Writes what runs of a suite in a pool told, and moves the suite's stamp on. If some of the runs were recorded before, nothing is
    /// written, and this is false. Of a run that says much of its entries ([`NewResults::is_much`]) that is to be kept after this, by
    /// [`Store::put_older`], so that the suite's next run need not wait for it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_records(&self, suite_id: i64, pool: &str, told: &RecordChange<'_>) -> Result<bool, Error> {
        let RecordChange { runs, results, records, start_cost, failing, covers, variants } = *told;
        let _first = self.writes_first();
        let mut c = self.connection().await?;
        for run in results {
            ensure_month(&mut c, run.month).await?;
        }
        let mut found = Vec::new();
        let put = c.transaction(async |c| {
            if take_unrecorded(c, runs).await?.len() < runs.len() {
                return Err(Error::Elsewhere);
            }
            write(c, suite_id, pool, failing).await?;
            covers::write(c, suite_id, runs, covers).await?;
            if let Some(variants) = variants {
                // Written only where it changes: other runs of the suite write to the same row.
                let of = suites::table.find(suite_id).filter(suites::variants.is_distinct_from(variants));
                diesel::update(of).set(suites::variants.eq(variants)).execute(c).await?;
            }
            for run in results {
                if run.is_much() {
                    let later = diesel::insert_into(older_runs::table).values(older_runs::run_id.eq(run.run_id));
                    later.execute(c).await?;
                } else {
                    found.push(results::write(c, (self, Beside::First), suite_id, run).await?);
                }
            }
            if records.is_empty() {
                return Ok(true);
            }
            for some in records.chunks(PORTION) {
                let _turn = self.turn(Beside::First).await;
                write_records(c, suite_id, pool, some).await?;
            }
            diesel::update(suites::table.find(suite_id)).set(suites::stamp.eq(suites::stamp + 1)).execute(c).await?;
            if let Some(cost) = start_cost {
                let cost = i64::try_from(cost.0).unwrap_or(i64::MAX);
                diesel::update(suites::table.find(suite_id)).set(suites::start_cost_us.eq(cost)).execute(c).await?;
            }
            Ok(true)
        });
        let put = put.await.or_else(|e| if matches!(e, Error::Elsewhere) { Ok(false) } else { Err(e) })?;
        if put {
            found.into_iter().for_each(|found| self.known.keep(suite_id, found));
        }
        Ok(put)
    }

    /// What was expected at a stamp, if it is kept.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn stamp(&self, suite_id: i64, stamp: i64, pool: &str) -> Result<Option<Expected>, Error> {
        let mut c = self.connection().await?;
        let found: Option<serde_json::Value> =
            stamps::table.find((suite_id, stamp, pool)).select(stamps::expected).first(&mut c).await.optional()?;
        found.map(content).transpose()
    }

    /// Keeps what is expected at a stamp; what was kept before stands. Returns what stands.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn keep_stamp(
        &self,
        suite_id: i64,
        stamp: i64,
        pool: &str,
        expected: Expected,
    ) -> Result<Expected, Error> {
        let mut c = self.connection().await?;
        let row = (
            stamps::suite_id.eq(suite_id),
            stamps::stamp.eq(stamp),
            stamps::pool.eq(pool),
            stamps::expected.eq(json(&expected)?),
        );
        diesel::insert_into(stamps::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        drop(c);
        Ok(self.stamp(suite_id, stamp, pool).await?.unwrap_or(expected))
    }

    /// The stamp of a key; the first who asks with a key gives it `stamp`.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn stamp_of_key(&self, suite_id: i64, key: &str, stamp: i64) -> Result<i64, Error> {
        let mut c = self.connection().await?;
        let row = (stamp_keys::suite_id.eq(suite_id), stamp_keys::key.eq(key), stamp_keys::stamp.eq(stamp));
        diesel::insert_into(stamp_keys::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        Ok(stamp_keys::table.find((suite_id, key)).select(stamp_keys::stamp).first(&mut c).await?)
    }
}

/// Writes records of a suite's tests in a pool by one statement: test, variant, record.
async fn write_records(
    c: &mut AsyncPgConnection,
    suite_id: i64,
    pool: &str,
    records: &[(String, String, Record)],
) -> Result<(), Error> {
    let count = |n: u32| i32::try_from(n).unwrap_or(i32::MAX);
    // As PostgreSQL writes an array: of arrays of several lengths it takes no array.
    let recent = |r: &(String, String, Record)| {
        let all: Vec<String> =
            r.2.estimate.recent.iter().map(|us| i64::try_from(*us).unwrap_or(i64::MAX).to_string()).collect();
        format!("{{{}}}", all.join(","))
    };
    let ints = |of: fn(&Record) -> u32| records.iter().map(|r| count(of(&r.2))).collect::<Vec<_>>();
    let insert = InsertRecords {
        suite: vec![suite_id; records.len()],
        pool: vec![pool; records.len()],
        test: records.iter().map(|r| r.0.as_str()).collect(),
        variant: records.iter().map(|r| r.1.as_str()).collect(),
        samples: ints(|r| r.estimate.samples),
        recent: records.iter().map(recent).collect(),
        passed: ints(|r| r.passed),
        flaky: ints(|r| r.flaky),
        failed: ints(|r| r.failed),
        skipped: ints(|r| r.skipped),
        last: records.iter().map(|r| r.2.last.map(Outcome::word)).collect(),
        since: records.iter().map(|r| r.2.since_trouble.map(count)).collect(),
        lifetime: PhantomData,
    };
    insert.execute(c).await?;
    Ok(())
}
