//! Branches that are looked at for new commits, and the heads that were seen.

use std::collections::BTreeSet;

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, Queryable, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Text},
};
use diesel_async::{AsyncConnection, RunQueryDsl};
use kesmo_core::source::Head;

use crate::{
    Error, Store, ensure_month, month_of,
    runs::{NewRun, RunRow, insert},
    schema::{suites, watch_heads, watches},
};

/// A watch as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = watches, check_for_backend(diesel::pg::Pg))]
pub struct WatchRow {
    pub id: i64,
    pub suite_id: i64,
    /// A branch, or a glob.
    pub branches: String,
    pub look_us: i64,
    pub brief: Option<String>,
    pub looked_at: Option<DateTime<Utc>>,
    pub next_look: DateTime<Utc>,
    pub failures: i32,
    pub trouble: Option<String>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
}

/// What a watch is made from.
#[derive(Debug, Clone)]
pub struct NewWatch<'a> {
    pub suite_id: i64,
    pub branches: &'a str,
    pub look_us: i64,
    pub brief: Option<&'a str>,
    pub made_by: &'a str,
    /// Heads that are there already, for which nothing is started.
    pub heads: &'a [Head],
}

/// A look that has begun is another service's again after so long, in seconds, if nothing is heard of it.
const LOOK_LASTS: i64 = 120;

/// A head that a run was started for.
#[derive(Debug, Clone, diesel::QueryableByName)]
pub struct HeadRun {
    #[diesel(sql_type = BigInt)]
    pub watch_id: i64,
    #[diesel(sql_type = Text)]
    pub branch: String,
    #[diesel(sql_type = Text)]
    pub commit: String,
    #[diesel(sql_type = BigInt)]
    pub run_id: i64,
}

impl Store {
    /// Watches branches; those of that glob which were watched before are watched anew.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_watch(&self, new: NewWatch<'_>, now: DateTime<Utc>) -> Result<WatchRow, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let next = now + TimeDelta::microseconds(new.look_us);
            let none: Option<String> = None;
            let set = (
                watches::look_us.eq(new.look_us),
                watches::brief.eq(new.brief),
                watches::next_look.eq(next),
                watches::failures.eq(0),
                watches::trouble.eq(none),
            );
            let row = (
                watches::suite_id.eq(new.suite_id),
                watches::branches.eq(new.branches),
                watches::made_by.eq(new.made_by),
                set.clone(),
            );
            let put = diesel::insert_into(watches::table)
                .values(row)
                .on_conflict((watches::suite_id, watches::branches))
                .do_update()
                .set(set);
            let row: WatchRow = put.returning(WatchRow::as_returning()).get_result(c).await?;
            let heads: Vec<_> = new
                .heads
                .iter()
                .map(|(branch, commit)| {
                    (watch_heads::watch_id.eq(row.id), watch_heads::branch.eq(branch), watch_heads::commit.eq(commit))
                })
                .collect();
            diesel::insert_into(watch_heads::table).values(heads).on_conflict_do_nothing().execute(c).await?;
            Ok(row)
        })
        .await
    }

    /// What is watched of a suite, or of all suites that are there, with the suites' names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn watches(&self, suite_id: Option<i64>) -> Result<Vec<(WatchRow, String)>, Error> {
        let mut c = self.connection().await?;
        let mut all = watches::table.inner_join(suites::table).filter(suites::removed.eq(false)).into_boxed();
        if let Some(id) = suite_id {
            all = all.filter(watches::suite_id.eq(id));
        }
        let all = all.order((suites::slug, watches::branches));
        Ok(all.select((WatchRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// No longer watches branches; false if they were not.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_watch(&self, suite_id: i64, branches: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let of = watches::table.filter(watches::suite_id.eq(suite_id)).filter(watches::branches.eq(branches));
        Ok(diesel::delete(of).execute(&mut c).await? == 1)
    }

    /// Takes the looks that are due upon this service; another does not take them for a while.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn take_looks(&self, now: DateTime<Utc>, most: i64) -> Result<Vec<(WatchRow, String)>, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let due: Vec<i64> = watches::table
                .filter(watches::next_look.le(now))
                .order(watches::next_look)
                .limit(most)
                .select(watches::id)
                .for_update()
                .skip_locked()
                .load(c)
                .await?;
            let until = now + TimeDelta::seconds(LOOK_LASTS);
            diesel::update(watches::table.filter(watches::id.eq_any(&due)))
                .set(watches::next_look.eq(until))
                .execute(c)
                .await?;
            let taken = watches::table.inner_join(suites::table).filter(watches::id.eq_any(&due));
            let there = taken.filter(suites::removed.eq(false));
            Ok(there.select((WatchRow::as_select(), suites::slug)).load(c).await?)
        })
        .await
    }

    /// The heads that a watch has seen, of the commits that are heads now.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn seen_heads(&self, watch_id: i64, now: &[Head]) -> Result<BTreeSet<Head>, Error> {
        let mut c = self.connection().await?;
        let branches: Vec<&str> = now.iter().map(|h| h.0.as_str()).collect();
        let commits: Vec<&str> = now.iter().map(|h| h.1.as_str()).collect();
        let of = watch_heads::table.filter(watch_heads::watch_id.eq(watch_id));
        // A commit that ran on one branch is no news on that branch; which pairs of them there are is told by the rows.
        let of = of.filter(watch_heads::branch.eq_any(branches)).filter(watch_heads::commit.eq_any(commits));
        let all: Vec<Head> = of.select((watch_heads::branch, watch_heads::commit)).load(&mut c).await?;
        Ok(all.into_iter().collect())
    }

    /// Starts a run for a new head; nothing if one was started for it before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer: nothing was done then.
    pub async fn run_head(&self, watch_id: i64, head: &Head, run: &NewRun) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let key =
                (watch_heads::watch_id.eq(watch_id), watch_heads::branch.eq(&head.0), watch_heads::commit.eq(&head.1));
            let add = diesel::insert_into(watch_heads::table).values(key).on_conflict_do_nothing();
            if add.execute(c).await? == 0 {
                return Ok(None);
            }
            let made = insert(c, run).await?;
            let of = watch_heads::table.find((watch_id, &head.0, &head.1));
            diesel::update(of).set(watch_heads::run_id.eq(made.id)).execute(c).await?;
            Ok(Some(made))
        })
        .await
    }

    /// Notes how a look went and when the next one is.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn looked(
        &self,
        watch_id: i64,
        now: DateTime<Utc>,
        next: DateTime<Utc>,
        failures: i32,
        trouble: Option<&str>,
    ) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let set = (
            watches::looked_at.eq(now),
            watches::next_look.eq(next),
            watches::failures.eq(failures),
            watches::trouble.eq(trouble),
        );
        diesel::update(watches::table.find(watch_id)).set(set).execute(&mut c).await?;
        Ok(())
    }

    /// The latest heads of each watch that runs were started for, newest first, with the runs' ids.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn heads_run(&self, watch_ids: &[i64], most: i64) -> Result<Vec<HeadRun>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select w.id as watch_id, h.branch, h.commit, h.run_id from unnest($1) as w (id) cross join lateral \
             (select branch, commit, run_id from watch_heads where watch_id = w.id and run_id is not null \
             order by seen_at desc limit $2) as h",
        )
        .bind::<Array<BigInt>, _>(watch_ids)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?)
    }

    /// When the next look is.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn next_look(&self) -> Result<Option<DateTime<Utc>>, Error> {
        let mut c = self.connection().await?;
        let soonest = watches::table.order(watches::next_look).select(watches::next_look);
        Ok(soonest.first(&mut c).await.optional()?)
    }
}
