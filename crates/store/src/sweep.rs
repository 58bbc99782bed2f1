//! What is kept for how long, and the removal of what is not.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDate, Utc};
use diesel::{
    QueryableByName,
    sql_types::{Array, BigInt, Bool, Date, Jsonb, Nullable, Text, Timestamptz},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use kesmo_core::keep::{Freed, Rule};

use crate::{Error, Store, content, json, query::RunQueryDsl};

/// Runs that are removed in one transaction.
const TOGETHER: usize = 50;
/// What stands where a log was.
pub const GONE: &str = "[kesmo: what it printed is not kept any more]\n";
/// Endings of pictures and videos.
const PICTURES: &str = r"\.(png|jpe?g|gif|webp|svg|mp4|webm|mov)$";

/// A run that is over, with what it takes.
#[derive(Debug, Clone, QueryableByName)]
pub struct OverRun {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Text)]
    pub suite: String,
    #[diesel(sql_type = Text)]
    pub branch: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub verdict: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    pub finished_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: DateTime<Utc>,
    /// A test fails now by what it showed.
    #[diesel(sql_type = Bool)]
    pub needed: bool,
    /// Bytes of its files, and of what it printed.
    #[diesel(sql_type = BigInt)]
    pub files: i64,
    #[diesel(sql_type = BigInt)]
    pub logs: i64,
    /// What was removed of it before.
    #[diesel(sql_type = Array<Text>)]
    pub swept: Vec<String>,
}

/// A rule with who made it.
#[derive(Debug, Clone, QueryableByName)]
pub struct KeepRow {
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Jsonb)]
    rule: serde_json::Value,
    #[diesel(sql_type = Text)]
    pub made_by: String,
    #[diesel(sql_type = Timestamptz)]
    pub made_at: DateTime<Utc>,
}

impl KeepRow {
    /// The rule.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn rule(&self) -> Result<Rule, Error> {
        content(self.rule.clone())
    }
}

/// What a sweep freed.
#[derive(Debug, Clone, QueryableByName)]
pub struct SweepRow {
    #[diesel(sql_type = Timestamptz)]
    pub at: DateTime<Utc>,
    #[diesel(sql_type = Jsonb)]
    freed: serde_json::Value,
}

impl SweepRow {
    /// What it was.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn freed(&self) -> Result<Freed, Error> {
        content(self.freed.clone())
    }
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Digest {
    #[diesel(sql_type = Text)]
    digest: String,
}

#[derive(QueryableByName)]
struct Taken {
    #[diesel(sql_type = Bool)]
    taken: bool,
}

/// A sweep that goes on: while it is held, no other service sweeps.
pub struct Sweeping(AsyncPgConnection);

impl Store {
    /// The rules, by their names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn keep_rules(&self) -> Result<Vec<KeepRow>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query("select name, rule, made_by, made_at from keep_rules order by name").load(&mut c).await?)
    }

    /// The rules that can be read, by their names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or one cannot be read: then nothing is to be removed.
    pub async fn keeping(&self) -> Result<BTreeMap<String, Rule>, Error> {
        self.keep_rules().await?.into_iter().map(|row| Ok((row.name.clone(), row.rule()?))).collect()
    }

    /// Keeps a rule; false if there is one of that name and it is not to be replaced.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_keep(&self, name: &str, rule: &Rule, by: &str, replace: bool) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let conflict =
            if replace { "do update set rule = excluded.rule, made_by = excluded.made_by" } else { "do nothing" };
        let query =
            format!("insert into keep_rules (name, rule, made_by) values ($1, $2, $3) on conflict (name) {conflict}");
        let put = diesel::sql_query(query).bind::<Text, _>(name).bind::<Jsonb, _>(json(rule)?).bind::<Text, _>(by);
        Ok(put.execute(&mut c).await? == 1)
    }

    /// Removes a rule; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_keep(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let removed = diesel::sql_query("delete from keep_rules where name = $1").bind::<Text, _>(name);
        Ok(removed.execute(&mut c).await? == 1)
    }

    /// The latest sweeps that freed something.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn sweeps(&self, most: i64) -> Result<Vec<SweepRow>, Error> {
        let mut c = self.connection().await?;
        let of = diesel::sql_query("select at, freed from sweeps order by id desc limit $1");
        Ok(of.bind::<BigInt, _>(most).load(&mut c).await?)
    }

    /// Keeps what a sweep freed, and of a thousand sweeps the latest.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_sweep(&self, freed: &Freed) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::sql_query("insert into sweeps (freed) values ($1)")
            .bind::<Jsonb, _>(json(freed)?)
            .execute(&mut c)
            .await?;
        diesel::sql_query("delete from sweeps where id <= (select max(id) from sweeps) - 1000").execute(&mut c).await?;
        Ok(())
    }

    /// Begins a sweep; none if another service is at it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn begin_sweep(&self) -> Result<Option<Sweeping>, Error> {
        // The lock is of the connection, and goes with it.
        let mut c = crate::connect(&self.url).await.map_err(|e| Error::Away(e.to_string()))?;
        let taken: Taken = diesel::sql_query("select pg_try_advisory_lock(7216) as taken").get_result(&mut c).await?;
        Ok(taken.taken.then_some(Sweeping(c)))
    }

    /// All runs that are over, with what they take; those that are not recorded are left out. How much they printed is looked for only if
    /// that is asked for: it takes long.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn over_runs(&self, with_logs: bool) -> Result<Vec<OverRun>, Error> {
        let mut c = self.connection().await?;
        let logs = if with_logs {
            "coalesce((select sum(a.log_bytes) from attempts a where a.run_id = r.id \
             and a.month = date_trunc('month', r.created_at at time zone 'UTC')::date), 0)::bigint"
        } else {
            "0::bigint"
        };
        Ok(diesel::sql_query(format!(
            "select r.id, s.slug as suite, coalesce(r.branch, '') as branch, r.verdict, r.finished_at, r.created_at, r.swept, \
             exists (select from failing f where f.since_run = r.id or f.last_run = r.id) as needed, \
             coalesce((select sum(bytes) from artifacts a where a.run_id = r.id), 0)::bigint as files, {logs} as logs \
             from runs r join suites s on s.id = r.suite_id where r.phase = 'finished' and r.finished_at is not null \
             and not exists (select from unrecorded u where u.run_id = r.id)"
        ))
        .load(&mut c)
        .await?)
    }

    /// Removes runs that are over with all that belongs to them; by whom a test fails now stays. Tells how many went, and how many months
    /// were dropped whole.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_runs(&self, runs: &[(i64, NaiveDate)]) -> Result<(u64, u64), Error> {
        let mut c = self.connection().await?;
        let mut by_month: BTreeMap<NaiveDate, Vec<i64>> = BTreeMap::new();
        for (run, month) in runs {
            by_month.entry(*month).or_default().push(*run);
        }
        let (mut gone, mut months) = (0, 0);
        for (month, runs) in by_month {
            if month_is_over(month) && drop_month(&mut c, month, &runs).await? {
                months += 1;
            }
            for some in runs.chunks(TOGETHER) {
                gone += c
                    .transaction(async |c| {
                        for table in ["attempts", "cases", "results"] {
                            let delete = format!("delete from {table} where month = $1 and run_id = any(array(select id from runs where {REMOVED}))");
                            let delete = diesel::sql_query(delete).bind::<Date, _>(month).bind::<Array<BigInt>, _>(some);
                            delete.execute(c).await?;
                        }
                        let delete = diesel::sql_query(format!("delete from runs where {}", REMOVED.replace("$2", "$1")));
                        Ok::<_, Error>(delete.bind::<Array<BigInt>, _>(some).execute(c).await? as u64)
                    })
                    .await?;
            }
        }
        Ok((gone, months))
    }

    /// Removes what attempts of runs printed.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_logs(&self, runs: &[(i64, NaiveDate)]) -> Result<u64, Error> {
        let mut c = self.connection().await?;
        for (run, month) in runs {
            c.transaction(async |c| {
                diesel::sql_query(
                    "update attempts set log = case when log_bytes > 0 then $3 else '' end, log_blob = null \
                     where month = $1 and run_id = $2 and (log <> '' or log_blob is not null)",
                )
                .bind::<Date, _>(month)
                .bind::<BigInt, _>(run)
                .bind::<Text, _>(GONE)
                .execute(c)
                .await?;
                mark(c, *run, "logs").await
            })
            .await?;
        }
        Ok(runs.len() as u64)
    }

    /// Removes the files that runs left behind; of `pictures` only those of tests that passed. Tells of how many runs some went.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_artifacts(&self, runs: &[(i64, NaiveDate)], pictures: bool) -> Result<u64, Error> {
        let mut c = self.connection().await?;
        let mut some = 0;
        for (run, month) in runs {
            let gone = c
                .transaction(async |c| {
                    let gone = if pictures {
                        diesel::sql_query(
                            "delete from artifacts a using results r where a.run_id = $2 and r.run_id = a.run_id and r.month = $1 \
                             and r.entry = a.entry and r.outcome = 'passed' and a.path ~* $3",
                        )
                        .bind::<Date, _>(month)
                        .bind::<BigInt, _>(run)
                        .bind::<Text, _>(PICTURES)
                        .execute(c)
                        .await?
                    } else {
                        let all = diesel::sql_query("delete from artifacts where run_id = $1");
                        all.bind::<BigInt, _>(run).execute(c).await?
                    };
                    mark(c, *run, if pictures { "pictures" } else { "artifacts" }).await?;
                    Ok::<_, Error>(gone)
                })
                .await?;
            some += u64::from(gone > 0);
        }
        Ok(some)
    }

    /// Removes what came for webhooks, and notices that were sent or given up, before a moment.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_deliveries(&self, before: DateTime<Utc>) -> Result<u64, Error> {
        let mut c = self.connection().await?;
        let mut gone = 0;
        for statement in [
            "delete from deliveries where at < $1",
            "delete from notice_deliveries where ended_at < $1",
            "delete from notice_events where at < $1 and delivery_id is null and held is not null",
        ] {
            gone += diesel::sql_query(statement).bind::<Timestamptz, _>(before).execute(&mut c).await? as u64;
        }
        Ok(gone)
    }

    /// Removes what was done before a moment from the record.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_audit(&self, before: DateTime<Utc>) -> Result<u64, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            diesel::sql_query("set local kesmo.sweeps = 'audit'").execute(c).await?;
            let gone =
                diesel::sql_query("delete from audit where at < $1").bind::<Timestamptz, _>(before).execute(c).await?;
            Ok(gone as u64)
        })
        .await
    }

    /// How much what is of no run and older than a moment would be: deliveries, and lines of the record.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn older_than(
        &self,
        deliveries: Option<DateTime<Utc>>,
        audit: Option<DateTime<Utc>>,
    ) -> Result<(u64, u64), Error> {
        let mut c = self.connection().await?;
        let counts = [
            (
                "select (select count(*) from deliveries where at < $1) + (select count(*) from notice_deliveries where ended_at < $1) as count",
                deliveries,
            ),
            ("select count(*) from audit where at < $1", audit),
        ];
        let mut found = [0, 0];
        for ((query, before), found) in counts.into_iter().zip(&mut found) {
            if let Some(before) = before {
                let count: Count = diesel::sql_query(query).bind::<Timestamptz, _>(before).get_result(&mut c).await?;
                *found = count.count.unsigned_abs();
            }
        }
        Ok((found[0], found[1]))
    }

    /// Removes what nothing needs any more and nobody sees: stamps and their keys, keys by which jobs met, lists and suites' files that
    /// no run and no suite has, commits of branches that were looked at; all from before a moment.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_others(&self, before: DateTime<Utc>) -> Result<u64, Error> {
        let mut c = self.connection().await?;
        let mut gone = 0;
        for statement in [
            "delete from stamp_keys where made_at < $1",
            "delete from stamps where made_at < $1",
            "delete from meetings where made_at < $1",
            "delete from poll_heads h where seen_at < $1 and exists (select from poll_heads o where o.poll_id = h.poll_id \
             and o.branch = h.branch and o.seen_at > h.seen_at)",
            "delete from listings l where listed_at < $1 and not exists \
             (select from (select distinct unnest(listings) as key from runs) k where k.key = l.key)",
            "delete from sources s where added_at < $1 and not exists (select from runs r where r.source = s.digest) \
             and not exists (select from suites u where u.source = s.digest)",
        ] {
            gone += diesel::sql_query(statement).bind::<Timestamptz, _>(before).execute(&mut c).await? as u64;
        }
        Ok(gone)
    }

    /// Says of a suite's files that they were asked for: they stay for as long as new ones do.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn touch_source(&self, digest: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::sql_query("update sources set added_at = now() where digest = $1")
            .bind::<Text, _>(digest)
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Which of some files something needs.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn needed_files(&self, digests: &[String]) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let found: Vec<Digest> = diesel::sql_query(
            "select d.digest from unnest($1) as d (digest) where exists (select from artifacts a where a.digest = d.digest) \
             or exists (select from attempts t where t.log_blob = d.digest) or exists (select from sources s where s.digest = d.digest) \
             or exists (select from machines m where m.log = d.digest)",
        )
        .bind::<Array<Text>, _>(digests)
        .load(&mut c)
        .await?;
        Ok(found.into_iter().map(|row| row.digest).collect())
    }
}

impl Sweeping {
    /// Keeps every service at a database from sweeping for as long as this is held; waits until a sweep that goes on is over.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn hold(url: &str) -> Result<Self, Error> {
        let mut c = crate::connect(url).await.map_err(|e| Error::Away(e.to_string()))?;
        diesel::sql_query("select pg_advisory_lock(7216)").execute(&mut c).await?;
        Ok(Self(c))
    }

    /// Forgets which services held pools: in a database that was copied they are others'.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn forget_services(&mut self) -> Result<(), Error> {
        diesel::sql_query("delete from leases").execute(&mut self.0).await?;
        diesel::sql_query("delete from claim_leases").execute(&mut self.0).await?;
        Ok(())
    }

    /// Whether the database holds anything of Kesmo.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn is_in_use(&mut self) -> Result<bool, Error> {
        Ok(crate::is_there(&mut self.0, "suites").await?)
    }

    /// Ends the sweep.
    pub async fn end(mut self) {
        // With the connection the lock is gone in any case.
        drop(diesel::sql_query("select pg_advisory_unlock(7216)").execute(&mut self.0).await);
    }
}

/// Runs that may be removed of those in `$2`: they are over, recorded, and no test fails by them.
const REMOVED: &str = "runs.id = any($2) and phase = 'finished' and not exists (select from unrecorded u where u.run_id = runs.id) \
    and not exists (select from failing f where f.since_run = runs.id or f.last_run = runs.id)";

async fn mark(c: &mut AsyncPgConnection, run: i64, what: &str) -> Result<(), Error> {
    let mark =
        diesel::sql_query("update runs set swept = array_append(swept, $2) where id = $1 and not $2 = any(swept)");
    mark.bind::<BigInt, _>(run).bind::<Text, _>(what).execute(c).await?;
    Ok(())
}

/// No run is made in it any more, whatever a clock says.
fn month_is_over(month: NaiveDate) -> bool {
    let next = month.checked_add_months(chrono::Months::new(1)).unwrap_or(month);
    next.checked_add_days(chrono::Days::new(2)).is_some_and(|day| day < Utc::now().date_naive())
}

/// Drops the parts of a month of which these are all runs, and none of which stays; false where that is not so. One that was made in it
/// and waits still will need them.
async fn drop_month(c: &mut AsyncPgConnection, month: NaiveDate, runs: &[i64]) -> Result<bool, Error> {
    let parts = ["attempts", "cases", "results"].map(|table| format!("{table}_{}", month.format("%Y_%m")));
    let dropped: Result<bool, Error> = c
        .transaction(async |c| {
            // What waits for a table to be nobody's holds up whoever comes after: rather not.
            diesel::sql_query("set local lock_timeout = '2s'").execute(c).await?;
            diesel::sql_query("select pg_advisory_xact_lock(7215)").execute(c).await?;
            let stay: Count = diesel::sql_query(format!(
                "select count(*) from runs where date_trunc('month', created_at at time zone 'UTC')::date = $1 and not ({REMOVED})"
            ))
            .bind::<Date, _>(month)
            .bind::<Array<BigInt>, _>(runs)
            .get_result(c)
            .await?;
            if stay.count > 0 {
                return Ok(false);
            }
            for part in &parts {
                if !crate::is_there(c, part).await? {
                    return Ok(false);
                }
            }
            for part in &parts {
                diesel::sql_query(format!("drop table {part}")).execute(c).await?;
            }
            Ok(true)
        })
        .await;
    match dropped {
        // Row by row then.
        Err(Error::Away(why) | Error::Refused(why)) if why.contains("lock timeout") => Ok(false),
        dropped => dropped,
    }
}
