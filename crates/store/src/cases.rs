//! The cases that files told of, read back: page by page and counted, as there may be a million in a run.

use std::collections::{BTreeMap, BTreeSet};

use chrono::NaiveDate;
use diesel::{
    QueryableByName,
    pg::Pg,
    query_builder::{BoxedSqlQuery, SqlQuery},
    sql_types::{Array, BigInt, Bool, Date, Integer, Nullable, Text},
};
use kesmo_core::{
    run::cases::{CaseTally, PastCase},
    words::{Ended, Outcome},
};

use crate::{Error, Store, query::RunQueryDsl};

/// A case as it is kept, on the row that decided it so far.
#[derive(Debug, Clone, QueryableByName)]
pub struct CaseRow {
    #[diesel(sql_type = Integer)]
    pub entry: i32,
    /// The number of the file's attempt.
    #[diesel(sql_type = Integer)]
    pub number: i32,
    #[diesel(sql_type = Integer)]
    pub place: i32,
    #[diesel(sql_type = Text)]
    pub title: String,
    #[diesel(sql_type = Text)]
    pub ended: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub outcome: Option<String>,
    #[diesel(sql_type = BigInt)]
    pub spent_us: i64,
    #[diesel(sql_type = Text)]
    pub message: String,
    #[diesel(sql_type = Text)]
    pub detail: String,
    /// How often it ran, lost attempts left out.
    #[diesel(sql_type = BigInt)]
    pub times: i64,
}

/// Which cases of a run are wanted.
#[derive(Debug, Clone, Default)]
pub struct CaseQuestion {
    /// Of these files only.
    pub entries: Option<Vec<i32>>,
    /// With one of these outcomes only; none: any.
    pub outcomes: Vec<Outcome>,
    /// Part of the title, whatever its case; empty: any.
    pub title: String,
    /// That title alone.
    pub exactly: Option<String>,
    /// Failed ones first, then flaky ones, or the longest first, instead of as they were told.
    pub order: CaseOrder,
    pub skip: i64,
    pub limit: i64,
}

/// The order of cases.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CaseOrder {
    #[default]
    Told,
    Trouble,
    Slowest,
}

#[derive(QueryableByName)]
struct Counted {
    #[diesel(sql_type = Integer)]
    entry: i32,
    #[diesel(sql_type = Text)]
    outcome: String,
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Open {
    #[diesel(sql_type = Integer)]
    entry: i32,
    #[diesel(sql_type = Integer)]
    number: i32,
    #[diesel(sql_type = Text)]
    title: String,
    #[diesel(sql_type = Text)]
    ended: String,
    #[diesel(sql_type = Bool)]
    parked: bool,
    #[diesel(sql_type = Bool)]
    copy: bool,
}

#[derive(QueryableByName)]
struct Alone {
    #[diesel(sql_type = Integer)]
    entry: i32,
    #[diesel(sql_type = Text)]
    title: String,
    #[diesel(sql_type = Bool)]
    copy: bool,
}

/// Failed cases that are looked at for running them again.
const MOST_ALONE: i64 = 20_000;

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

/// What a question asks of a row, with its outcome; the numbers are those of the parameters.
const ASKED: &str = "run_id = $1 and month = $2 and outcome is not null and ($3::int[] is null or entry = any($3)) \
    and ($4::text[] is null or outcome = any($4)) and ($5 = '' or strpos(lower(title), lower($5)) > 0) \
    and ($6::text is null or title = $6)";

/// A statement with what a question asks, as the first parameters.
fn asking(sql: String, run_id: i64, month: NaiveDate, asked: &CaseQuestion) -> BoxedSqlQuery<'_, Pg, SqlQuery> {
    let outcomes: Vec<&str> = asked.outcomes.iter().map(|o| o.word()).collect();
    diesel::sql_query(sql)
        .into_boxed::<Pg>()
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .bind::<Nullable<Array<Integer>>, _>(&asked.entries)
        .bind::<Nullable<Array<Text>>, _>((!outcomes.is_empty()).then_some(outcomes))
        .bind::<Text, _>(&asked.title)
        .bind::<Nullable<Text>, _>(&asked.exactly)
}

impl Store {
    /// How the cases of each file of a run stand; of these files only, where they are given.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn case_tallies(
        &self,
        run_id: i64,
        month: NaiveDate,
        entries: Option<&[i32]>,
    ) -> Result<BTreeMap<u32, CaseTally>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Counted> = diesel::sql_query(
            "select entry, outcome, count(*) as count from cases where run_id = $1 and month = $2 and outcome is not null \
             and ($3::int[] is null or entry = any($3)) group by entry, outcome",
        )
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .bind::<Nullable<Array<Integer>>, _>(entries)
        .load(&mut c)
        .await?;
        let mut all: BTreeMap<u32, CaseTally> = BTreeMap::new();
        for row in rows {
            if let Some(outcome) = Outcome::of(&row.outcome) {
                all.entry(row.entry as u32).or_default().count(outcome, row.count as u32);
            }
        }
        Ok(all)
    }

    /// All rows of the cases of some files, in the order in which they were told: for building a run again.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn open_cases(&self, run_id: i64, month: NaiveDate, entries: &[i32]) -> Result<Vec<PastCase>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Open> = diesel::sql_query(
            "select entry, number, title, ended, parked, copy from cases where run_id = $1 and month = $2 \
             and entry = any($3) order by entry, number, place",
        )
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .bind::<Array<Integer>, _>(entries)
        .load(&mut c)
        .await?;
        let past = |row: Open| PastCase {
            entry: row.entry as u32,
            number: row.number as u16,
            title: row.title,
            ended: Ended::of(&row.ended).unwrap_or(Ended::Crashed),
            parked: row.parked,
            copy: row.copy,
        };
        Ok(rows.into_iter().map(past).collect())
    }

    /// The failed cases of each file that failed by them alone, in their order: running those again is enough. A file of which
    /// one has no name of its own, or with more than `most`, is left out.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn failed_alone(
        &self,
        run_id: i64,
        month: NaiveDate,
        most: usize,
    ) -> Result<BTreeMap<u32, Vec<String>>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Alone> = diesel::sql_query(
            "select c.entry, c.title, c.copy from cases c join attempts a on a.run_id = c.run_id and a.month = c.month \
             and a.entry = c.entry and a.decided = 'failed' and not a.itself where c.run_id = $1 and c.month = $2 \
             and c.outcome = 'failed' order by c.entry, c.number, c.place limit $3",
        )
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .bind::<BigInt, _>(MOST_ALONE)
        .load(&mut c)
        .await?;
        let cut = (rows.len() as i64 == MOST_ALONE).then(|| rows[rows.len() - 1].entry as u32);
        let mut all: BTreeMap<u32, Vec<String>> = BTreeMap::new();
        let mut whole: BTreeSet<u32> = cut.into_iter().collect();
        for row in rows {
            if row.copy {
                whole.insert(row.entry as u32);
            }
            all.entry(row.entry as u32).or_default().push(row.title);
        }
        all.retain(|entry, titles| !whole.contains(entry) && titles.len() <= most);
        Ok(all)
    }

    /// A page of a run's cases, each on the row that decided it so far.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn cases(&self, run_id: i64, month: NaiveDate, asked: &CaseQuestion) -> Result<Vec<CaseRow>, Error> {
        if asked.order != CaseOrder::Trouble {
            return self.page_of_cases(run_id, month, asked).await;
        }
        // One kind after the other: so that none of a million has to be put in order.
        let wanted = |of: &Outcome| asked.outcomes.is_empty() || asked.outcomes.contains(of);
        let kinds =
            [vec![Outcome::Failed], vec![Outcome::Flaky], vec![Outcome::Passed, Outcome::Skipped, Outcome::Parked]];
        let mut found = Vec::new();
        let (mut skip, last) = (asked.skip, kinds.len() - 1);
        for (at, kind) in kinds.into_iter().enumerate() {
            let outcomes: Vec<Outcome> = kind.into_iter().filter(wanted).collect();
            if outcomes.is_empty() || found.len() as i64 >= asked.limit {
                continue;
            }
            let limit = asked.limit - found.len() as i64;
            let part = CaseQuestion { outcomes, order: CaseOrder::Told, skip, limit, ..asked.clone() };
            let rows = self.page_of_cases(run_id, month, &part).await?;
            if rows.is_empty() && skip > 0 && at < last {
                skip = (skip - i64::from(self.count_cases(run_id, month, &part).await?)).max(0);
            } else {
                skip = 0;
            }
            found.extend(rows);
        }
        Ok(found)
    }

    async fn page_of_cases(&self, run_id: i64, month: NaiveDate, asked: &CaseQuestion) -> Result<Vec<CaseRow>, Error> {
        let mut c = self.connection().await?;
        let order = match asked.order {
            CaseOrder::Told | CaseOrder::Trouble => "entry, number, place",
            CaseOrder::Slowest => "spent_us desc, entry, number, place",
        };
        let page = format!(
            "select entry, number, place, title, ended, outcome, spent_us, message, detail, case when number = 1 then 1 else \
             (select count(*) from cases t where t.run_id = c.run_id and t.month = c.month and t.entry = c.entry \
             and t.title = c.title) end as times from cases c where {ASKED} order by {order} offset $7 limit $8"
        );
        let rows = asking(page, run_id, month, asked)
            .bind::<BigInt, _>(asked.skip)
            .bind::<BigInt, _>(asked.limit)
            .load(&mut c)
            .await?;
        Ok(rows)
    }

    /// How many cases answer a question, whatever its page.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn count_cases(&self, run_id: i64, month: NaiveDate, asked: &CaseQuestion) -> Result<u32, Error> {
        let mut c = self.connection().await?;
        let count = format!("select count(*) as count from cases where {ASKED}");
        let found: Count = asking(count, run_id, month, asked).get_result(&mut c).await?;
        Ok(found.count as u32)
    }

    /// What some attempts of files told of, each by its entry and number, in the order told; at most `most` cases, of the first
    /// attempts. Of an attempt all or none, as the rest would be missing among them.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn cases_of_attempts(
        &self,
        run_id: i64,
        month: NaiveDate,
        of: &[(i32, i32)],
        most: i64,
    ) -> Result<Vec<CaseRow>, Error> {
        let mut c = self.connection().await?;
        let (entries, numbers): (Vec<i32>, Vec<i32>) = of.iter().copied().unzip();
        let mut rows: Vec<CaseRow> = diesel::sql_query(
            // Without an order of the whole, so that no more is read than is told.
            "select t.* from unnest($3::int[], $4::int[]) as o (entry, number) cross join lateral (\
             select entry, number, place, title, ended, outcome, spent_us, '' as message, '' as detail, 1::bigint as times \
             from cases c where c.run_id = $1 and c.month = $2 and c.entry = o.entry and c.number = o.number \
             order by place) t limit $5 + 1",
        )
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .bind::<Array<Integer>, _>(entries)
        .bind::<Array<Integer>, _>(numbers)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?;
        if rows.len() as i64 > most
            && let Some(cut) = rows.last().map(|row| (row.entry, row.number))
        {
            rows.retain(|row| (row.entry, row.number) != cut);
        }
        rows.sort_by_key(|row| (row.entry, row.number, row.place));
        Ok(rows)
    }

    /// All that the attempts of a file told of one case, in their order.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn attempts_of_case(
        &self,
        run_id: i64,
        month: NaiveDate,
        entry: i32,
        title: &str,
    ) -> Result<Vec<CaseRow>, Error> {
        let mut c = self.connection().await?;
        let rows = diesel::sql_query(
            "select entry, number, place, title, ended, outcome, spent_us, message, detail, 1::bigint as times from cases \
             where run_id = $1 and month = $2 and entry = $3 and title = $4 order by number, place",
        )
        .bind::<BigInt, _>(run_id)
        .bind::<Date, _>(month)
        .bind::<Integer, _>(entry)
        .bind::<Text, _>(title)
        .load(&mut c)
        .await?;
        Ok(rows)
    }
}
