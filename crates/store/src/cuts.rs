//! Files that are cut: what is known of their cases, and how they were cut in a run.

use std::collections::HashMap;

use chrono::NaiveDate;
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, QueryableByName,
    sql_types::{Array, BigInt, Bool, Date, Integer, SmallInt, Text},
};
use kesmo_core::{
    plan::cutting::{Cut, KnownCase, MOST_CASES, WHOLE_EVERY},
    time::Span,
};

use crate::{Error, Store, content, query::RunQueryDsl, schema::run_cuts};

/// Runs of a file that are looked at for its cases, the latest first.
const MOST_RUNS: i64 = 10;

/// What is known of a file's cases.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KnownFile {
    /// Its cases in the latest run that told of all, in the order in which they were told. None if one of them has no name of its
    /// own, or there are more than may be dealt out.
    pub cases: Vec<KnownCase>,
    /// In each of its last runs it was cut: [`WHOLE_EVERY`] less one of them.
    pub long_cut: bool,
}

#[derive(QueryableByName)]
struct Latest {
    #[diesel(sql_type = Text)]
    test: String,
    #[diesel(sql_type = Text)]
    variant: String,
    #[diesel(sql_type = BigInt)]
    run_id: i64,
    #[diesel(sql_type = Date)]
    month: NaiveDate,
    #[diesel(sql_type = Integer)]
    first: i32,
    #[diesel(sql_type = Integer)]
    last: i32,
    #[diesel(sql_type = SmallInt)]
    parts: i16,
    #[diesel(sql_type = Bool)]
    all_told: bool,
}

#[derive(QueryableByName)]
struct CaseOfFile {
    #[diesel(sql_type = Text)]
    title: String,
    #[diesel(sql_type = Bool)]
    copy: bool,
    #[diesel(sql_type = BigInt)]
    spent_us: i64,
}

impl Store {
    /// What is known of the cases of some files, by their names and variants.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn known_cases(
        &self,
        suite_id: i64,
        files: &[(String, String)],
    ) -> Result<HashMap<(String, String), KnownFile>, Error> {
        let (tests, variants): (Vec<&str>, Vec<&str>) = files.iter().map(|f| (f.0.as_str(), f.1.as_str())).unzip();
        let mut c = self.connection().await?;
        // Of a file that failed itself not all cases need have been told; of one that only its cases failed all were.
        let latest: Vec<Latest> = diesel::sql_query(
            "select t.test, t.variant, r.run_id, r.month, r.first, r.last, r.parts, (select count(*) from attempts a \
             where a.run_id = r.run_id and a.month = r.month and a.entry between r.first and r.last and a.decided is not null \
             and a.decided <> 'not-run' and not (a.decided = 'failed' and a.itself)) = r.last - r.first + 1 as all_told \
             from unnest($2, $3) as f (test, variant) \
             join tests t on md5(t.suite_id::text || E'\\n' || t.test || E'\\n' || t.variant) = md5($1::text || E'\\n' || f.test || E'\\n' || f.variant) \
             cross join lateral (select o.run_id, o.month, o.parts, o.outcome, coalesce(o.first, o.entry) as first, \
             coalesce(o.first, o.entry) + greatest(o.parts, 1) - 1 as last from results o join runs on runs.id = o.run_id \
             where o.test_id = t.id and o.parts > 0 and o.outcome in ('passed', 'flaky', 'failed') \
             and runs.origin ->> 'kind' is distinct from 'imported' order by o.run_id desc limit $4) r order by 1, 2, 3 desc",
        )
        .bind::<BigInt, _>(suite_id)
        .bind::<Array<Text>, _>(&tests)
        .bind::<Array<Text>, _>(&variants)
        .bind::<BigInt, _>(MOST_RUNS)
        .load(&mut c)
        .await?;
        let mut known: HashMap<(String, String), KnownFile> = HashMap::new();
        for of in latest.chunk_by(|a, b| (&a.test, &a.variant) == (&b.test, &b.variant)) {
            let Some(run) = of.iter().find(|run| run.all_told) else { continue };
            let cases: Vec<CaseOfFile> = diesel::sql_query(
                "select title, copy, spent_us from cases where run_id = $1 and month = $2 and entry between $3 and $4 \
                 and outcome is not null order by entry, number, place limit $5",
            )
            .bind::<BigInt, _>(run.run_id)
            .bind::<Date, _>(run.month)
            .bind::<Integer, _>(run.first)
            .bind::<Integer, _>(run.last)
            .bind::<BigInt, _>(MOST_CASES as i64 + 1)
            .load(&mut c)
            .await?;
            let nameable = cases.len() <= MOST_CASES && !cases.iter().any(|case| case.copy);
            let case = |of: CaseOfFile| KnownCase { title: of.title, spent: Span(of.spent_us.max(0) as u64) };
            let cut_in_a_row = of.iter().take_while(|run| run.parts > 1).count();
            let file = KnownFile {
                cases: if nameable { cases.into_iter().map(case).collect() } else { Vec::new() },
                long_cut: cut_in_a_row >= WHOLE_EVERY - 1,
            };
            known.insert((run.test.clone(), run.variant.clone()), file);
        }
        Ok(known)
    }

    /// Keeps how files are cut in a run, also that none is, and tells how they are: as it was kept before, if somebody came first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn keep_cuts(&self, run_id: i64, cuts: &[Cut]) -> Result<Vec<Cut>, Error> {
        let mut c = self.connection().await?;
        let kept = serde_json::to_value(cuts).unwrap_or_default();
        diesel::insert_into(run_cuts::table)
            .values((run_cuts::run_id.eq(run_id), run_cuts::cuts.eq(kept)))
            .on_conflict_do_nothing()
            .execute(&mut c)
            .await?;
        drop(c);
        self.cuts(run_id).await
    }

    /// How files are cut in a run.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or what is kept cannot be read.
    pub async fn cuts(&self, run_id: i64) -> Result<Vec<Cut>, Error> {
        let mut c = self.connection().await?;
        let kept: Option<serde_json::Value> =
            run_cuts::table.find(run_id).select(run_cuts::cuts).first(&mut c).await.optional()?;
        kept.map_or_else(|| Ok(Vec::new()), content)
    }
}
