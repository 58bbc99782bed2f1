//! What runs that are over say of their tests: kept for each run and test, so that histories and comparisons are read by one
//! index each.

use std::{
    collections::{HashMap, HashSet},
    marker::PhantomData,
};

use chrono::{DateTime, NaiveDate, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, QueryableByName,
    sql_types::{Array, BigInt, Date, Integer, Jsonb, Nullable, SmallInt, Text, Timestamptz},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use kesmo_core::{plan::RunOptions, record::Seen, words::Outcome};

use crate::{
    Error, Store, content, ensure_month,
    known::Found,
    pace::{Beside, PORTION},
    query::RunQueryDsl,
    schema::{older_runs, runs, tests},
    statement::statement,
};

statement! {
    /// What each of some tests of a suite is kept as, in their order; none where it is not kept.
    TestsOf = "select id from tests_of(", ")";
    suite: BigInt = i64, tests: Array<Text> = Vec<&'a str>, variants: Array<Text> = Vec<&'a str>
}
statement! {
    /// How many of some tests there are. Each by its own key: of all that a suite has PostgreSQL might look at every one for that, where
    /// it has not counted them yet.
    ThereAre = "select count(*) from unnest(", ") as i (id) where (select t.id from tests t where t.id = i.id) is not null";
    ids: Array<BigInt> = Vec<i64>
}
statement! {
    /// What a run says of its entries.
    InsertResults = "insert into results (month, run_id, entry, test_id, outcome, attempts, spent_us, retried_us, first, parts) \
        select * from unnest(",
        ") on conflict do nothing";
    month: Array<Date> = Vec<NaiveDate>, run: Array<BigInt> = Vec<i64>, entry: Array<Integer> = Vec<i32>,
    test: Array<BigInt> = Vec<i64>, outcome: Array<Text> = Vec<&'a str>, attempts: Array<Integer> = Vec<i32>,
    spent: Array<BigInt> = Vec<i64>, retried: Array<BigInt> = Vec<i64>, first: Array<Nullable<Integer>> = Vec<Option<i32>>,
    parts: Array<SmallInt> = Vec<i16>
}

impl diesel::query_builder::Query for TestsOf<'_> {
    type SqlType = Nullable<BigInt>;
}

impl diesel::query_builder::Query for ThereAre<'_> {
    type SqlType = BigInt;
}

/// What a run says of all its entries.
#[derive(Debug, Clone, Default)]
pub struct NewResults {
    pub run_id: i64,
    pub month: NaiveDate,
    pub rows: Vec<NewResult>,
}

impl NewResults {
    /// Whether it is written in more than one portion.
    #[must_use]
    pub fn is_much(&self) -> bool {
        self.rows.len() > PORTION
    }
}

/// What a run says of one of its entries.
#[derive(Debug, Clone)]
pub struct NewResult {
    pub test: String,
    pub variant: String,
    /// The entry that decided its outcome.
    pub entry: u32,
    /// Its first entry, and how many there are: the parts of a file that was cut. No parts: only some cases of the file ran.
    pub first: u32,
    pub parts: u16,
    pub outcome: Outcome,
    pub attempts: u32,
    /// What its last attempt took, and what those before it took together, in microseconds.
    pub spent_us: u64,
    pub retried_us: u64,
}

/// A test of a suite in a variant.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct TestRow {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Text)]
    pub test: String,
    #[diesel(sql_type = Text)]
    pub variant: String,
}

/// A test in a run.
#[derive(Debug, Clone, QueryableByName)]
pub struct PastResult {
    #[diesel(sql_type = BigInt)]
    pub test_id: i64,
    #[diesel(sql_type = BigInt)]
    pub run_id: i64,
    #[diesel(sql_type = Integer)]
    pub number: i32,
    #[diesel(sql_type = Date)]
    pub month: NaiveDate,
    #[diesel(sql_type = Integer)]
    pub entry: i32,
    #[diesel(sql_type = Text)]
    pub outcome: String,
    #[diesel(sql_type = Integer)]
    pub attempts: i32,
    #[diesel(sql_type = BigInt)]
    pub spent_us: i64,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Text>)]
    pub branch: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub commit: Option<String>,
    #[diesel(sql_type = Text)]
    pub pool: String,
    /// What its last failing attempt said; empty if none failed.
    #[diesel(sql_type = Text)]
    pub message: String,
}

impl PastResult {
    /// How it ended.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        Outcome::of(&self.outcome).unwrap_or(Outcome::NotRun)
    }
}

/// A test that was flaky of late.
#[derive(Debug, Clone, QueryableByName)]
pub struct FlakyRow {
    #[diesel(sql_type = BigInt)]
    pub test_id: i64,
    #[diesel(sql_type = Text)]
    pub suite: String,
    #[diesel(sql_type = Text)]
    pub test: String,
    #[diesel(sql_type = Text)]
    pub variant: String,
    /// How its last runs ended, newest first, a letter each as in strips: `p`assed, `k` for flaky, `f`ailed.
    #[diesel(sql_type = Text)]
    pub series: String,
    /// What the attempts before the last took in those that were flaky, in microseconds.
    #[diesel(sql_type = BigInt)]
    pub retried_us: i64,
    #[diesel(sql_type = BigInt)]
    pub last_run: i64,
    #[diesel(sql_type = Integer)]
    pub last_number: i32,
    #[diesel(sql_type = Integer)]
    pub last_entry: i32,
    #[diesel(sql_type = Timestamptz)]
    pub last_at: DateTime<Utc>,
    #[diesel(sql_type = Text)]
    pub message: String,
}

/// An attempt with what was around it.
#[derive(Debug, Clone, QueryableByName)]
pub struct AroundRow {
    #[diesel(sql_type = Text)]
    pub ended: String,
    #[diesel(sql_type = Text)]
    pub worker: String,
    #[diesel(sql_type = Text)]
    pub variant: String,
    #[diesel(sql_type = Timestamptz)]
    pub began_at: DateTime<Utc>,
    #[diesel(sql_type = Integer)]
    pub busy: i32,
    #[diesel(sql_type = Integer)]
    pub of_slots: i32,
    #[diesel(sql_type = Integer)]
    pub number: i32,
    /// Its place in its batch, from 0, and the test before it there; none where that is not known, or the batch is very long.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub place: Option<i64>,
    #[diesel(sql_type = Nullable<Text>)]
    pub after: Option<String>,
}

/// A run that another may be compared with.
#[derive(Debug, Clone, QueryableByName)]
pub struct Comparable {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Text)]
    pub verdict: String,
    #[diesel(sql_type = Jsonb)]
    pub options: serde_json::Value,
}

impl Comparable {
    /// What its start asked for.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn run_options(&self) -> Result<RunOptions, Error> {
        content(self.options.clone())
    }
}

/// Which runs to look for one to compare with among.
#[derive(Debug, Clone, Copy)]
pub struct Among<'a> {
    pub suite_id: i64,
    /// Only those made before this one.
    pub before: i64,
    /// Only those of this branch; `Some(None)` is of none.
    pub branch: Option<Option<&'a str>>,
    /// Only those that ended before that moment.
    pub until: Option<DateTime<Utc>>,
    pub most: i64,
}

#[derive(QueryableByName)]
struct TestId {
    #[diesel(sql_type = BigInt)]
    id: i64,
}

#[derive(QueryableByName)]
struct SlotsRow {
    #[diesel(sql_type = Text)]
    worker: String,
    #[diesel(sql_type = BigInt)]
    slots: i64,
}

#[derive(QueryableByName)]
struct SeenRow {
    #[diesel(sql_type = BigInt)]
    test_id: i64,
    #[diesel(sql_type = Integer)]
    entry: i32,
    #[diesel(sql_type = Text)]
    outcome: String,
    #[diesel(sql_type = Integer)]
    attempts: i32,
    #[diesel(sql_type = BigInt)]
    spent_us: i64,
}

#[derive(QueryableByName)]
struct Durations {
    #[diesel(sql_type = BigInt)]
    test_id: i64,
    #[diesel(sql_type = Array<BigInt>)]
    durations: Vec<i64>,
}

impl Store {
    /// The tests of that name, in the order of their variants.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn tests_named(&self, suite_id: i64, test: &str) -> Result<Vec<TestRow>, Error> {
        let mut c = self.connection().await?;
        let query = "select id, test, variant from tests where suite_id = $1 and md5(test) = md5($2) and test = $2 order by variant";
        Ok(diesel::sql_query(query).bind::<BigInt, _>(suite_id).bind::<Text, _>(test).load(&mut c).await?)
    }

    /// The names of tests.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn tests_of(&self, ids: &[i64]) -> Result<HashMap<i64, (String, String)>, Error> {
        let mut c = self.connection().await?;
        let of = tests::table.filter(tests::id.eq_any(ids));
        let rows: Vec<(i64, String, String)> = of.select((tests::id, tests::test, tests::variant)).load(&mut c).await?;
        Ok(rows.into_iter().map(|(id, test, variant)| (id, (test, variant))).collect())
    }

    /// What a run says of its tests, by their ids.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn results_of(&self, run_id: i64, month: NaiveDate) -> Result<Vec<(i64, Seen)>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<SeenRow> = diesel::sql_query(
            "select test_id, entry, outcome, attempts, spent_us from results where run_id = $1 and month = $2",
        )
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .load(&mut c)
        .await?;
        let seen = |row: SeenRow| {
            let outcome = Outcome::of(&row.outcome).unwrap_or(Outcome::NotRun);
            let (entry, attempts) = (row.entry.max(0) as u32, row.attempts.max(0) as u32);
            (row.test_id, Seen { entry, outcome, attempts, spent_us: row.spent_us.max(0) as u64 })
        };
        Ok(rows.into_iter().map(seen).collect())
    }

    /// What tests took in the runs before one in which they passed or were flaky, in microseconds, newest first; at most so many of
    /// each.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn durations_before(&self, tests: &[i64], run: i64, most: i64) -> Result<HashMap<i64, Vec<u64>>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Durations> = diesel::sql_query(
            "select t.id as test_id, array(select spent_us from results r where r.test_id = t.id and r.run_id < $2 \
             and r.outcome in ('passed', 'flaky') order by r.run_id desc limit $3) as durations from unnest($1) as t (id)",
        )
        .bind::<Array<BigInt>, _>(tests)
        .bind::<BigInt, _>(run)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?;
        let each = |row: Durations| (row.test_id, row.durations.into_iter().map(|us| us.max(0) as u64).collect());
        Ok(rows.into_iter().map(each).collect())
    }

    /// Which of some tests were flaky in the last so many runs of theirs before one.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn flaky_before(&self, tests: &[i64], run: i64, runs: i64) -> Result<HashSet<i64>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<TestId> = diesel::sql_query(
            "select t.id from unnest($1) as t (id) where exists (select 1 from (select outcome from results r \
             where r.test_id = t.id and r.run_id < $2 order by r.run_id desc limit $3) last where last.outcome = 'flaky')",
        )
        .bind::<Array<BigInt>, _>(tests)
        .bind::<BigInt, _>(run)
        .bind::<BigInt, _>(runs)
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|row| row.id).collect())
    }

    /// A test in its runs, newest first, at most so many: those made before `before`, on a branch, if one is given.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn history(
        &self,
        test: i64,
        branch: Option<&str>,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<PastResult>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select h.*, case when h.outcome in ('failed', 'flaky') or h.attempts > 1 then coalesce((select left(a.message, 500) \
             from attempts a where a.run_id = h.run_id and a.entry = h.entry and a.month = h.month \
             and a.ended in ('failed', 'timed-out', 'crashed') order by a.number desc limit 1), '') else '' end as message \
             from (select r.test_id, r.run_id, runs.number, r.month, r.entry, r.outcome, r.attempts, r.spent_us, \
             runs.created_at, runs.branch, runs.commit, runs.pool from results r join runs on runs.id = r.run_id \
             where r.test_id = $1 and ($2 is null or runs.branch = $2) and ($3 is null or r.run_id < $3) \
             order by r.run_id desc, r.entry limit $4) h",
        )
        .bind::<BigInt, _>(test)
        .bind::<Nullable<Text>, _>(branch)
        .bind::<Nullable<BigInt>, _>(before)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?)
    }

    /// A case of a file in its runs that told of it, as [`Store::history`] tells of a test.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn case_history(
        &self,
        file: i64,
        title: &str,
        branch: Option<&str>,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<PastResult>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select r.test_id, r.run_id, runs.number, r.month, r.entry, c.outcome, c.attempts, c.spent_us, runs.created_at, \
             runs.branch, runs.commit, runs.pool, c.message from results r join runs on runs.id = r.run_id \
             join lateral (select (array_agg(told.outcome order by told.number desc) filter (where told.outcome is not null))[1] as outcome, \
             count(distinct told.number)::int as attempts, \
             (array_agg(told.spent_us order by told.number desc) filter (where told.outcome is not null))[1] as spent_us, \
             left(coalesce((array_agg(told.message order by told.number desc) filter (where told.ended in ('failed', 'timed-out', 'crashed')))[1], ''), 500) as message \
             from cases told where told.run_id = r.run_id and told.entry between coalesce(r.first, r.entry) and coalesce(r.first, r.entry) + greatest(r.parts, 1) - 1 \
             and told.month = r.month and told.title = $5) c \
             on c.outcome is not null \
             where r.test_id = $1 and ($2 is null or runs.branch = $2) and ($3 is null or r.run_id < $3) \
             order by r.run_id desc, r.entry limit $4",
        )
        .bind::<BigInt, _>(file)
        .bind::<Nullable<Text>, _>(branch)
        .bind::<Nullable<BigInt>, _>(before)
        .bind::<BigInt, _>(most)
        .bind::<Text, _>(title)
        .load(&mut c)
        .await?)
    }

    /// Tests that were flaky since some month, of a suite or of all, those most often first, at most so many; each with its last
    /// runs that counted, at most `window`.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn flaky(
        &self,
        suite_id: Option<i64>,
        since: NaiveDate,
        window: i64,
        most: i64,
    ) -> Result<Vec<FlakyRow>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "with often as (select r.test_id, count(*) as times, max(r.run_id) as last_run from results r \
             where r.outcome = 'flaky' and r.month >= $2 group by r.test_id), \
             most as (select o.* from often o join tests t on t.id = o.test_id join suites s on s.id = t.suite_id and not s.removed \
             where $1 is null or t.suite_id = $1 order by o.times desc, o.test_id limit $4), \
             last as (select m.test_id, m.last_run, l.series, l.retried_us from most m cross join lateral \
             (select string_agg(case w.outcome when 'passed' then 'p' when 'flaky' then 'k' else 'f' end, '' order by w.run_id desc) as series, \
             coalesce(sum(w.retried_us) filter (where w.outcome = 'flaky'), 0)::bigint as retried_us \
             from (select outcome, run_id, retried_us from results w where w.test_id = m.test_id and w.month >= $2 \
             and w.outcome in ('passed', 'flaky', 'failed') order by w.run_id desc limit $3) w) l) \
             select l.test_id, s.slug as suite, t.test, t.variant, l.series, l.retried_us, l.last_run, runs.number as last_number, \
             e.entry as last_entry, runs.created_at as last_at, coalesce((select left(a.message, 500) from attempts a where a.run_id = l.last_run \
             and a.entry = e.entry and a.month = e.month and a.ended in ('failed', 'timed-out', 'crashed') order by a.number desc limit 1), '') as message \
             from last l join tests t on t.id = l.test_id join suites s on s.id = t.suite_id join runs on runs.id = l.last_run \
             join lateral (select entry, month from results e where e.test_id = l.test_id and e.run_id = l.last_run and e.outcome = 'flaky' \
             order by entry limit 1) e on true where position('k' in l.series) > 0",
        )
        .bind::<Nullable<BigInt>, _>(suite_id)
        .bind::<Date, _>(since)
        .bind::<BigInt, _>(window)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?)
    }

    /// The attempts of a test in its last runs, at most so many runs, with what was around them. Lost ones are left out.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn around(&self, tests: &[i64], runs: i64) -> Result<Vec<AroundRow>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select a.ended, a.worker, t.variant, a.began_at, a.busy, a.of_slots, a.number, p.place, bt.test as after \
             from tests t cross join lateral (select run_id, entry, first, parts, month from results r where r.test_id = t.id \
             and r.outcome in ('passed', 'flaky', 'failed') order by r.run_id desc limit $2) r \
             join attempts a on a.run_id = r.run_id and a.entry between coalesce(r.first, r.entry) and coalesce(r.first, r.entry) + greatest(r.parts, 1) - 1 \
             and a.month = r.month and a.ended <> 'lost' \
             left join batches b on b.run_id = a.run_id and b.number = a.batch and jsonb_array_length(b.entries) <= 2000 \
             left join lateral (select x.place - 1 as place, (b.entries ->> (x.place - 2)::int)::int as before \
             from jsonb_array_elements_text(b.entries) with ordinality as x (entry, place) where x.entry = a.entry::text limit 1) p on true \
             left join results br on br.run_id = a.run_id and br.entry = p.before and br.month = a.month and p.place > 0 \
             left join tests bt on bt.id = br.test_id where t.id = any($1)",
        )
        .bind::<Array<BigInt>, _>(tests)
        .bind::<BigInt, _>(runs)
        .load(&mut c)
        .await?)
    }

    /// Runs that came to a verdict about their tests, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn comparable(&self, among: Among<'_>) -> Result<Vec<Comparable>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select id, pool, verdict, options from runs where suite_id = $1 and id < $2 and verdict in ('passed', 'failed') \
             and not jsonb_exists(labels, 'hunt') and ($3 or branch is not distinct from $4) \
             and ($5 is null or finished_at < $5) order by id desc limit $6",
        )
        .bind::<BigInt, _>(among.suite_id)
        .bind::<BigInt, _>(among.before)
        .bind::<diesel::sql_types::Bool, _>(among.branch.is_none())
        .bind::<Nullable<Text>, _>(among.branch.flatten())
        .bind::<Nullable<Timestamptz>, _>(among.until)
        .bind::<BigInt, _>(among.most)
        .load(&mut c)
        .await?)
    }

    /// The workers that carried a run out, by name, and how many of their slots did.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn slots_of(&self, run_id: i64) -> Result<Vec<(String, i64)>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<SlotsRow> = diesel::sql_query(
            "select worker, count(distinct slot) as slots from batches where run_id = $1 group by worker order by worker",
        )
        .bind::<BigInt, _>(run_id)
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|row| (row.worker, row.slots)).collect())
    }

    /// Whether what a run says of its entries is still to be kept: it was over before results were, or there is much of it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn is_older(&self, run_id: i64) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let found: Option<i64> =
            older_runs::table.find(run_id).select(older_runs::run_id).first(&mut c).await.optional()?;
        Ok(found.is_some())
    }

    /// Runs of which what they say of their entries is still to be kept, of those that were over before then, the latest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn older_runs(&self, before: DateTime<Utc>, most: i64) -> Result<Vec<i64>, Error> {
        let mut c = self.connection().await?;
        // What was over a moment ago is being kept.
        let of = older_runs::table.inner_join(runs::table).filter(runs::finished_at.lt(before));
        let of = of.order(older_runs::run_id.desc()).limit(most);
        Ok(of.select(older_runs::run_id).load(&mut c).await?)
    }

    /// Keeps what a run says of its entries where that is still to be kept; nothing if another did.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_older(&self, suite_id: i64, results: &NewResults) -> Result<(), Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, results.month).await?;
        let found = c
            .transaction(async |c| {
                if diesel::delete(older_runs::table.find(results.run_id)).execute(c).await? == 1 {
                    write(c, (self, Beside::Then), suite_id, results).await
                } else {
                    Ok::<_, Error>(Found::default())
                }
            })
            .await?;
        self.known.keep(suite_id, found);
        Ok(())
    }
}

/// Writes what a run says of its entries, within a transaction; its month's tables are there. What was found out of its tests is to be
/// remembered once that is kept.
pub(crate) async fn write(
    c: &mut AsyncPgConnection,
    (store, beside): (&Store, Beside),
    suite_id: i64,
    results: &NewResults,
) -> Result<Found, Error> {
    // In one order, so that two who add tests of one suite at once do not wait for each other in a circle.
    let mut rows: Vec<&NewResult> = results.rows.iter().collect();
    rows.sort_by(|a, b| (&a.test, &a.variant).cmp(&(&b.test, &b.variant)));
    let mut found = Found::default();
    for rows in rows.chunks(PORTION) {
        let _turn = store.turn(beside).await;
        write_some(c, (store, suite_id), results, rows, &mut found).await?;
    }
    Ok(found)
}

/// What each of some tests is kept as, as far as that is remembered and so.
async fn remembered(
    c: &mut AsyncPgConnection,
    store: &Store,
    suite_id: i64,
    rows: &[&NewResult],
) -> Result<Vec<Option<i64>>, Error> {
    let ids = store.known.of(suite_id, rows.iter().map(|r| (r.test.as_str(), r.variant.as_str())));
    let all: HashSet<i64> = ids.iter().flatten().copied().collect();
    if all.is_empty() {
        return Ok(ids);
    }
    let count = all.len();
    let there: i64 = ThereAre { ids: all.into_iter().collect(), lifetime: PhantomData }.get_result(c).await?;
    if usize::try_from(there) == Ok(count) {
        return Ok(ids);
    }
    store.known.forget(suite_id);
    Ok(vec![None; rows.len()])
}

/// What each of some tests is kept as; none where it is not kept.
async fn ids_of(c: &mut AsyncPgConnection, suite_id: i64, rows: &[&NewResult]) -> Result<Vec<Option<i64>>, Error> {
    let tests_of = TestsOf {
        suite: suite_id,
        tests: rows.iter().map(|r| r.test.as_str()).collect(),
        variants: rows.iter().map(|r| r.variant.as_str()).collect(),
        lifetime: PhantomData,
    };
    Ok(tests_of.load(c).await?)
}

/// Keeps tests that are not kept yet, and tells which those were: what another wrote meanwhile is none of them.
async fn keep_tests(c: &mut AsyncPgConnection, suite_id: i64, rows: &[&NewResult]) -> Result<Vec<TestRow>, Error> {
    let insert = diesel::sql_query(
        "insert into tests (suite_id, test, variant) select distinct $1, n.test collate \"C\", n.variant collate \"C\" \
         from unnest($2, $3) as n (test, variant) order by 2, 3 on conflict do nothing returning id, test, variant",
    );
    let insert = insert
        .bind::<BigInt, _>(suite_id)
        .bind::<Array<Text>, _>(rows.iter().map(|r| r.test.as_str()).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(rows.iter().map(|r| r.variant.as_str()).collect::<Vec<_>>());
    Ok(insert.load(c).await?)
}

/// Those of which no test was found, with their places.
fn not_found<'r>(rows: &[&'r NewResult], ids: &[Option<i64>]) -> (Vec<usize>, Vec<&'r NewResult>) {
    rows.iter().zip(ids).enumerate().filter(|(_, (_, id))| id.is_none()).map(|(place, (row, _))| (place, *row)).unzip()
}

/// Looks by name for the tests that were not found.
async fn find_others(
    c: &mut AsyncPgConnection,
    suite_id: i64,
    rows: &[&NewResult],
    ids: &mut [Option<i64>],
) -> Result<(), Error> {
    let (places, sought) = not_found(rows, ids);
    if sought.is_empty() {
        return Ok(());
    }
    for (place, id) in places.into_iter().zip(ids_of(c, suite_id, &sought).await?) {
        ids[place] = id;
    }
    Ok(())
}

async fn write_some(
    c: &mut AsyncPgConnection,
    (store, suite_id): (&Store, i64),
    results: &NewResults,
    rows: &[&NewResult],
    found: &mut Found,
) -> Result<(), Error> {
    let remembered = remembered(c, store, suite_id, rows).await?;
    let mut ids = remembered.clone();
    find_others(c, suite_id, rows, &mut ids).await?;
    let (new, of_new) = not_found(rows, &ids);
    if !new.is_empty() {
        let kept = keep_tests(c, suite_id, &of_new).await?;
        let kept: HashMap<(&str, &str), i64> =
            kept.iter().map(|row| ((row.test.as_str(), row.variant.as_str()), row.id)).collect();
        for (place, row) in new.into_iter().zip(of_new) {
            ids[place] = kept.get(&(row.test.as_str(), row.variant.as_str())).copied();
        }
        // Another may have kept some of them meanwhile.
        find_others(c, suite_id, rows, &mut ids).await?;
    }
    let ids: Option<Vec<i64>> = ids.into_iter().collect();
    let ids = ids.ok_or_else(|| Error::Content("a test that was just kept is not there".to_owned()))?;
    for ((row, id), _) in rows.iter().zip(&ids).zip(&remembered).filter(|(_, remembered)| remembered.is_none()) {
        store.known.found(found, (&row.test, &row.variant), *id);
    }
    let int = |n: u32| i32::try_from(n).unwrap_or(i32::MAX);
    let long = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let insert = InsertResults {
        month: vec![results.month; rows.len()],
        run: vec![results.run_id; rows.len()],
        entry: rows.iter().map(|r| int(r.entry)).collect(),
        test: ids,
        outcome: rows.iter().map(|r| r.outcome.word()).collect(),
        attempts: rows.iter().map(|r| int(r.attempts)).collect(),
        spent: rows.iter().map(|r| long(r.spent_us)).collect(),
        retried: rows.iter().map(|r| long(r.retried_us)).collect(),
        first: rows.iter().map(|r| (r.first != r.entry).then(|| int(r.first))).collect(),
        parts: rows.iter().map(|r| i16::try_from(r.parts).unwrap_or(i16::MAX)).collect(),
        lifetime: PhantomData,
    };
    insert.execute(c).await?;
    Ok(())
}
