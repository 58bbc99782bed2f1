//! Branches that are looked at for new commits, and the heads that were seen.

use std::collections::BTreeSet;

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, Queryable, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Text},
};
use diesel_async::AsyncConnection;
use kesmo_core::source::Head;

use crate::{
    Error, Store, ensure_month, month_of,
    query::RunQueryDsl,
    runs::{NewRun, RunRow, insert},
    schema::{poll_heads, polls, suites},
};

/// A poll as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = polls, check_for_backend(diesel::pg::Pg))]
pub struct PollRow {
    pub id: i64,
    pub suite_id: i64,
    /// A branch, or a glob.
    pub branches: String,
    pub every_us: i64,
    pub brief: Option<String>,
    pub looked_at: Option<DateTime<Utc>>,
    pub next_look: DateTime<Utc>,
    pub failures: i32,
    pub trouble: Option<String>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
}

/// What a poll is made from.
#[derive(Debug, Clone)]
pub struct NewPoll<'a> {
    pub suite_id: i64,
    pub branches: &'a str,
    pub every_us: i64,
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
    pub poll_id: i64,
    #[diesel(sql_type = Text)]
    pub branch: String,
    #[diesel(sql_type = Text)]
    pub commit: String,
    #[diesel(sql_type = BigInt)]
    pub run_id: i64,
}

impl Store {
    /// Polls branches; those of that glob which were polled before are polled anew.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_poll(&self, new: NewPoll<'_>, now: DateTime<Utc>) -> Result<PollRow, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let next = now + TimeDelta::microseconds(new.every_us);
            let none: Option<String> = None;
            let set = (
                polls::every_us.eq(new.every_us),
                polls::brief.eq(new.brief),
                polls::next_look.eq(next),
                polls::failures.eq(0),
                polls::trouble.eq(none),
            );
            let row = (
                polls::suite_id.eq(new.suite_id),
                polls::branches.eq(new.branches),
                polls::made_by.eq(new.made_by),
                set.clone(),
            );
            let put = diesel::insert_into(polls::table)
                .values(row)
                .on_conflict((polls::suite_id, polls::branches))
                .do_update()
                .set(set);
            let row: PollRow = put.returning(PollRow::as_returning()).get_result(c).await?;
            let heads: Vec<_> = new
                .heads
                .iter()
                .map(|(branch, commit)| {
                    (poll_heads::poll_id.eq(row.id), poll_heads::branch.eq(branch), poll_heads::commit.eq(commit))
                })
                .collect();
            diesel::insert_into(poll_heads::table).values(heads).on_conflict_do_nothing().execute(c).await?;
            Ok(row)
        })
        .await
    }

    /// What is polled of a suite, or of all suites that are there, with the suites' names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn polls(&self, suite_id: Option<i64>) -> Result<Vec<(PollRow, String)>, Error> {
        let mut c = self.connection().await?;
        let mut all = polls::table.inner_join(suites::table).filter(suites::removed.eq(false)).into_boxed();
        if let Some(id) = suite_id {
            all = all.filter(polls::suite_id.eq(id));
        }
        let all = all.order((suites::slug, polls::branches));
        Ok(all.select((PollRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// No longer polls branches; false if they were not.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_poll(&self, suite_id: i64, branches: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let of = polls::table.filter(polls::suite_id.eq(suite_id)).filter(polls::branches.eq(branches));
        Ok(diesel::delete(of).execute(&mut c).await? == 1)
    }

    /// Takes the looks that are due upon this service; another does not take them for a while.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn take_looks(&self, now: DateTime<Utc>, most: i64) -> Result<Vec<(PollRow, String)>, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let due: Vec<i64> = polls::table
                .filter(polls::next_look.le(now))
                .order(polls::next_look)
                .limit(most)
                .select(polls::id)
                .for_update()
                .skip_locked()
                .load(c)
                .await?;
            let until = now + TimeDelta::seconds(LOOK_LASTS);
            diesel::update(polls::table.filter(polls::id.eq_any(&due)))
                .set(polls::next_look.eq(until))
                .execute(c)
                .await?;
            let taken = polls::table.inner_join(suites::table).filter(polls::id.eq_any(&due));
            let there = taken.filter(suites::removed.eq(false));
            Ok(there.select((PollRow::as_select(), suites::slug)).load(c).await?)
        })
        .await
    }

    /// The heads that a poll has seen, of the commits that are heads now.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn seen_heads(&self, poll_id: i64, now: &[Head]) -> Result<BTreeSet<Head>, Error> {
        let mut c = self.connection().await?;
        let branches: Vec<&str> = now.iter().map(|h| h.0.as_str()).collect();
        let commits: Vec<&str> = now.iter().map(|h| h.1.as_str()).collect();
        let of = poll_heads::table.filter(poll_heads::poll_id.eq(poll_id));
        // A commit that ran on one branch is no news on that branch; which pairs of them there are is told by the rows.
        let of = of.filter(poll_heads::branch.eq_any(branches)).filter(poll_heads::commit.eq_any(commits));
        let all: Vec<Head> = of.select((poll_heads::branch, poll_heads::commit)).load(&mut c).await?;
        Ok(all.into_iter().collect())
    }

    /// Starts a run for a new head; nothing if one was started for it before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer: nothing was done then.
    pub async fn run_head(&self, poll_id: i64, head: &Head, run: &NewRun) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let key = (poll_heads::poll_id.eq(poll_id), poll_heads::branch.eq(&head.0), poll_heads::commit.eq(&head.1));
            let add = diesel::insert_into(poll_heads::table).values(key).on_conflict_do_nothing();
            if add.execute(c).await? == 0 {
                return Ok(None);
            }
            let made = insert(c, run).await?;
            let of = poll_heads::table.find((poll_id, &head.0, &head.1));
            diesel::update(of).set(poll_heads::run_id.eq(made.id)).execute(c).await?;
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
        poll_id: i64,
        now: DateTime<Utc>,
        next: DateTime<Utc>,
        failures: i32,
        trouble: Option<&str>,
    ) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let set = (
            polls::looked_at.eq(now),
            polls::next_look.eq(next),
            polls::failures.eq(failures),
            polls::trouble.eq(trouble),
        );
        diesel::update(polls::table.find(poll_id)).set(set).execute(&mut c).await?;
        Ok(())
    }

    /// The latest heads of each poll that runs were started for, newest first, with the runs' ids.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn heads_run(&self, poll_ids: &[i64], most: i64) -> Result<Vec<HeadRun>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select w.id as poll_id, h.branch, h.commit, h.run_id from unnest($1) as w (id) cross join lateral \
             (select branch, commit, run_id from poll_heads where poll_id = w.id and run_id is not null \
             order by seen_at desc limit $2) as h",
        )
        .bind::<Array<BigInt>, _>(poll_ids)
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
        let soonest = polls::table.order(polls::next_look).select(polls::next_look);
        Ok(soonest.first(&mut c).await.optional()?)
    }
}
