//! Requirements, and which tests cover them.

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, QueryDsl, Queryable, QueryableByName, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Bool, Integer, Nullable, Text, Timestamptz},
};
use diesel_async::AsyncPgConnection;
use kesmo_core::suite::covers::Requirement;

use crate::{Error, Store, query::RunQueryDsl, schema::covers, statement::statement};

statement! {
    /// What tests told as they ran.
    InsertTold = "insert into run_covers (run_id, test, requirement) select * from unnest(", ") on conflict do nothing";
    run_id: Array<BigInt> = Vec<i64>, test: Array<Text> = Vec<&'a str>, requirement: Array<Text> = Vec<&'a str>
}

/// A requirement that a test covers.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = covers, check_for_backend(diesel::pg::Pg))]
pub struct CoverRow {
    pub id: i64,
    pub test: String,
    pub requirement: String,
    /// It told so itself when it ran.
    pub told: bool,
}

/// What changes of what the tests of a suite cover.
#[derive(Debug, Clone, Default)]
pub struct CoversChange {
    /// Test, requirement, and whether the test told so itself.
    pub added: Vec<(String, String, bool)>,
    /// By their ids.
    pub removed: Vec<i64>,
}

/// A test in a variant, a requirement that it covers, and its latest outcome.
#[derive(Debug, Clone, QueryableByName)]
pub struct CoveringTest {
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = Text)]
    pub suite: String,
    #[diesel(sql_type = Text)]
    pub test: String,
    /// Empty also where it never ran.
    #[diesel(sql_type = Text)]
    pub variant: String,
    #[diesel(sql_type = Bool)]
    pub told: bool,
    /// Of the latest run in which it came to one; none: it never ran.
    #[diesel(sql_type = Nullable<Text>)]
    pub outcome: Option<String>,
    #[diesel(sql_type = Nullable<Integer>)]
    pub number: Option<i32>,
    #[diesel(sql_type = Nullable<Integer>)]
    pub entry: Option<i32>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub at: Option<DateTime<Utc>>,
}

/// A requirement with how its tests, in their variants, stand.
#[derive(Debug, Clone, QueryableByName)]
pub struct RequirementSum {
    #[diesel(sql_type = Text)]
    pub requirement: String,
    #[diesel(sql_type = BigInt)]
    pub tests: i64,
    #[diesel(sql_type = BigInt)]
    pub passed: i64,
    #[diesel(sql_type = BigInt)]
    pub flaky: i64,
    #[diesel(sql_type = BigInt)]
    pub failed: i64,
    #[diesel(sql_type = BigInt)]
    pub skipped: i64,
    #[diesel(sql_type = BigInt)]
    pub parked: i64,
    #[diesel(sql_type = BigInt)]
    pub never: i64,
}

/// Tests of a suite or of all, their requirements, and their latest outcomes, optionally of a branch.
///
/// A test that is parked now is told as such, as what it did before says nothing of what is tested now; of runs that ended before
/// a test had an outcome, the one before counts; of repetitions within one run a failure counts. Of variants that the suite
/// has no more nothing counts. `$1` is the suite's id, `$2` the branch, `$3` the requirement.
const LATEST: &str = "select c.requirement, s.slug as suite, c.test, coalesce(t.variant, '') as variant, c.told, \
    l.outcome, l.number, l.entry, l.at from \
    (select suite_id, test, requirement, bool_and(told) as told from covers \
     where ($1 is null or suite_id = $1) and ($3 is null or requirement = $3) group by suite_id, test, requirement) c \
    join suites s on s.id = c.suite_id and not s.removed \
    left join tests t on t.suite_id = c.suite_id and md5(t.test) = md5(c.test) and t.test = c.test \
     and (s.variants is null or t.variant = any(s.variants)) \
    left join lateral (select r.outcome, runs.number, r.entry, runs.finished_at as at from results r join runs on runs.id = r.run_id \
     where r.test_id = t.id and r.outcome <> 'not-run' and ($2 is null or coalesce(runs.branch, '') = $2) \
     order by r.run_id desc, r.outcome = 'failed' desc limit 1) l on true";

impl Store {
    /// What tests told in runs that are not recorded yet: run, test and requirement.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn told_covers(&self, runs: &[i64]) -> Result<Vec<(i64, String, String)>, Error> {
        #[derive(QueryableByName)]
        struct Told {
            #[diesel(sql_type = BigInt)]
            run_id: i64,
            #[diesel(sql_type = Text)]
            test: String,
            #[diesel(sql_type = Text)]
            requirement: String,
        }
        let mut c = self.connection().await?;
        let told: Vec<Told> =
            diesel::sql_query("select run_id, test, requirement from run_covers where run_id = any($1)")
                .bind::<Array<BigInt>, _>(runs)
                .load(&mut c)
                .await?;
        Ok(told.into_iter().map(|told| (told.run_id, told.test, told.requirement)).collect())
    }

    /// What the tests of a suite cover.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn covers_of(&self, suite_id: i64) -> Result<Vec<CoverRow>, Error> {
        let mut c = self.connection().await?;
        Ok(covers::table.filter(covers::suite_id.eq(suite_id)).select(CoverRow::as_select()).load(&mut c).await?)
    }

    /// The requirements that tests of a suite, or of all, cover, by their names, with how those stand, on a branch or on any; at most so
    /// many, from one on.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn requirements(
        &self,
        suite_id: Option<i64>,
        branch: Option<&str>,
        from: i64,
        most: i64,
    ) -> Result<Vec<RequirementSum>, Error> {
        let mut c = self.connection().await?;
        let count = |outcome: &str| format!("count(*) filter (where outcome = '{outcome}') as {outcome}");
        let counts = ["passed", "flaky", "failed", "skipped", "parked"].map(count).join(", ");
        let query = format!(
            "select requirement, count(*) as tests, {counts}, count(*) filter (where outcome is null) as never from \
             ({LATEST}) l group by requirement order by requirement offset $4 limit $5"
        );
        Ok(diesel::sql_query(query)
            .bind::<Nullable<BigInt>, _>(suite_id)
            .bind::<Nullable<Text>, _>(branch)
            .bind::<Nullable<Text>, _>(None::<&str>)
            .bind::<BigInt, _>(from)
            .bind::<BigInt, _>(most)
            .load(&mut c)
            .await?)
    }

    /// How many requirements the tests of a suite, or of all, cover.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn requirement_count(&self, suite_id: Option<i64>) -> Result<u64, Error> {
        #[derive(QueryableByName)]
        struct Found {
            #[diesel(sql_type = BigInt)]
            count: i64,
        }
        let mut c = self.connection().await?;
        let found: Found = diesel::sql_query(
            "select count(distinct requirement) from covers c join suites s on s.id = c.suite_id and not s.removed \
             where $1 is null or suite_id = $1",
        )
        .bind::<Nullable<BigInt>, _>(suite_id)
        .get_result(&mut c)
        .await?;
        Ok(found.count.unsigned_abs())
    }

    /// The tests that cover a requirement, or any, each in its variants with its latest outcome; at most so many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn covering(
        &self,
        suite_id: Option<i64>,
        branch: Option<&str>,
        requirement: Option<&str>,
        most: i64,
    ) -> Result<Vec<CoveringTest>, Error> {
        let mut c = self.connection().await?;
        let query = format!("{LATEST} order by c.requirement, s.slug, c.test, t.variant limit $4");
        Ok(diesel::sql_query(query)
            .bind::<Nullable<BigInt>, _>(suite_id)
            .bind::<Nullable<Text>, _>(branch)
            .bind::<Nullable<Text>, _>(requirement)
            .bind::<BigInt, _>(most)
            .load(&mut c)
            .await?)
    }
}

/// Keeps what tests told, until their runs are recorded.
pub(crate) async fn write_told(
    c: &mut AsyncPgConnection,
    told: &[(i64, String, Vec<Requirement>)],
) -> Result<(), Error> {
    if told.is_empty() {
        return Ok(());
    }
    let each = || told.iter().flat_map(|(run, test, of)| of.iter().map(move |r| (*run, test.as_str(), r.as_str())));
    let rows = InsertTold {
        run_id: each().map(|e| e.0).collect(),
        test: each().map(|e| e.1).collect(),
        requirement: each().map(|e| e.2).collect(),
        lifetime: std::marker::PhantomData,
    };
    rows.execute(c).await?;
    Ok(())
}

/// Writes what the tests of a suite cover now that some runs are recorded.
pub(crate) async fn write(
    c: &mut AsyncPgConnection,
    suite_id: i64,
    runs: &[i64],
    change: &CoversChange,
) -> Result<(), Error> {
    if !change.removed.is_empty() {
        diesel::delete(covers::table.filter(covers::id.eq_any(&change.removed))).execute(c).await?;
    }
    if !change.added.is_empty() {
        diesel::sql_query(
            "insert into covers (suite_id, test, requirement, told) select $1, * from unnest($2, $3, $4) on conflict do nothing",
        )
        .bind::<BigInt, _>(suite_id)
        .bind::<Array<Text>, _>(change.added.iter().map(|a| a.0.as_str()).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(change.added.iter().map(|a| a.1.as_str()).collect::<Vec<_>>())
        .bind::<Array<Bool>, _>(change.added.iter().map(|a| a.2).collect::<Vec<_>>())
        .execute(c)
        .await?;
    }
    diesel::sql_query("delete from run_covers where run_id = any($1)")
        .bind::<Array<BigInt>, _>(runs)
        .execute(c)
        .await?;
    Ok(())
}
