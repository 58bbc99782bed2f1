//! Pools that were described, and the machines that were started for them.

use chrono::{DateTime, Utc};
use diesel::{
    BoolExpressionMethods, ExpressionMethods, OptionalExtension, QueryDsl, Queryable, QueryableByName, Selectable,
    SelectableHelper,
    sql_types::{BigInt, Jsonb},
};
use diesel_async::AsyncConnection;
use kesmo_core::{
    fleet::Pool,
    run::{AttemptStats, Tally},
    time::Span,
};

use crate::{
    Error, Store, content, json,
    query::RunQueryDsl,
    schema::{machines, pools},
    secrets::sealed_as,
};

/// Machines that have ended and are kept of each pool.
const MOST_KEPT: i64 = 1000;

/// A pool as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = pools, check_for_backend(diesel::pg::Pg))]
pub struct PoolRow {
    pub name: String,
    pub pool: serde_json::Value,
    pub secret: Option<String>,
    pub mark: String,
    pub leaving: bool,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub changed_at: DateTime<Utc>,
}

impl PoolRow {
    /// What it is.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn pool(&self) -> Result<Pool, Error> {
        content(self.pool.clone())
    }
}

/// A pool to keep.
#[derive(Debug, Clone)]
pub struct NewPool<'a> {
    pub name: &'a str,
    pub pool: &'a Pool,
    /// None: what is kept stays, where the pool is replaced.
    pub secret: Option<&'a str>,
    pub mark: &'a str,
    pub by: &'a str,
    pub replace: bool,
}

/// A machine as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = machines, check_for_backend(diesel::pg::Pg))]
pub struct MachineRow {
    pub id: i64,
    pub pool: String,
    pub name: String,
    pub run_id: Option<i64>,
    pub state: String,
    pub said: String,
    pub handle: Option<String>,
    pub link: Option<String>,
    pub log: Option<String>,
    pub asked_at: DateTime<Utc>,
    pub up_at: Option<DateTime<Utc>>,
    pub ended_at: Option<DateTime<Utc>>,
}

/// How a machine stands now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MachineChange<'a> {
    pub id: i64,
    pub state: &'a str,
    pub said: &'a str,
    pub handle: Option<&'a str>,
    pub link: Option<&'a str>,
    pub log: Option<&'a str>,
    pub up_at: Option<DateTime<Utc>>,
    pub ended_at: Option<DateTime<Utc>>,
}

/// What a run took.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LastLike {
    /// All attempts together, and the longest.
    pub total: Span,
    pub longest: Span,
    pub entries: u32,
}

#[derive(QueryableByName)]
struct Like {
    #[diesel(sql_type = Jsonb)]
    stats: serde_json::Value,
    #[diesel(sql_type = Jsonb)]
    tally: serde_json::Value,
}

impl Store {
    fn opened_pool(&self, row: PoolRow) -> Result<PoolRow, Error> {
        let name = sealed_as("pool", &row.name);
        let secret = row.secret.map(|secret| self.unsealed_text(&name, secret)).transpose()?;
        Ok(PoolRow { secret, ..row })
    }

    /// Keeps a pool; none if there is one of that name and it is not to be replaced.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_pool(&self, new: NewPool<'_>) -> Result<Option<PoolRow>, Error> {
        let mut c = self.connection().await?;
        let pool = json(new.pool)?;
        let secret = new.secret.map(|secret| self.sealed_text(&sealed_as("pool", new.name), secret)).transpose()?;
        let row = (
            pools::name.eq(new.name),
            pools::pool.eq(&pool),
            pools::secret.eq(&secret),
            pools::mark.eq(new.mark),
            pools::made_by.eq(new.by),
        );
        let insert = diesel::insert_into(pools::table).values(row).on_conflict(pools::name);
        if !new.replace {
            let made = insert.do_nothing().returning(PoolRow::as_returning()).get_result(&mut c).await;
            return made.optional()?.map(|row| self.opened_pool(row)).transpose();
        }
        let change = (pools::pool.eq(&pool), pools::leaving.eq(false), pools::changed_at.eq(Utc::now()));
        c.transaction(async |c| {
            let row =
                (pools::name.eq(new.name), pools::pool.eq(&pool), pools::mark.eq(new.mark), pools::made_by.eq(new.by));
            let put = diesel::insert_into(pools::table).values(row).on_conflict(pools::name).do_update().set(change);
            put.execute(c).await?;
            if let Some(secret) = &secret {
                diesel::update(pools::table.find(new.name)).set(pools::secret.eq(secret)).execute(c).await?;
            }
            let row = pools::table.find(new.name).select(PoolRow::as_select()).first(c).await?;
            self.opened_pool(row).map(Some)
        })
        .await
    }

    /// All pools that were described, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn pools(&self) -> Result<Vec<PoolRow>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<PoolRow> = pools::table.order(pools::name).select(PoolRow::as_select()).load(&mut c).await?;
        // One that cannot be opened stops no other: whoever it is shown to refuses it.
        Ok(rows.into_iter().map(|row| self.opened_pool(row.clone()).unwrap_or(row)).collect())
    }

    /// A pool that was described.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn pool(&self, name: &str) -> Result<Option<PoolRow>, Error> {
        let mut c = self.connection().await?;
        let found: Option<PoolRow> =
            pools::table.find(name).select(PoolRow::as_select()).first(&mut c).await.optional()?;
        found.map(|row| self.opened_pool(row)).transpose()
    }

    /// Has a pool go once none of its machines is left; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn leave_pool(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::update(pools::table.find(name)).set(pools::leaving.eq(true)).execute(&mut c).await? == 1)
    }

    /// Takes the machines of a pool that have not ended for ended: where they run nobody answers any more. Their tokens are good no
    /// more, so that what runs there ends by itself.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn forget_machines(&self, pool: &str, state: &str, said: &str) -> Result<usize, Error> {
        let mut c = self.connection().await?;
        let open = machines::table.filter(machines::pool.eq(pool)).filter(machines::ended_at.is_null());
        let set = (machines::state.eq(state), machines::said.eq(said), machines::ended_at.eq(Utc::now()));
        Ok(diesel::update(open).set(set).execute(&mut c).await?)
    }

    /// Removes a pool that is to go and has no machine left, with what is kept of its machines; false otherwise.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_pool(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let of = pools::table.find(name).filter(pools::leaving);
            let leaving: Option<String> = of.select(pools::name).for_update().first(c).await.optional()?;
            let open = machines::table.filter(machines::pool.eq(name)).filter(machines::ended_at.is_null());
            let open: i64 = open.count().get_result(c).await?;
            if leaving.is_none() || open > 0 {
                return Ok(false);
            }
            diesel::delete(machines::table.filter(machines::pool.eq(name))).execute(c).await?;
            Ok(diesel::delete(pools::table.find(name)).execute(c).await? == 1)
        })
        .await
    }

    /// Notes that a machine is asked for, before it is: none if the pool is there no more.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn ask_machine(
        &self,
        pool: &str,
        run: Option<i64>,
        token: &[u8],
        state: &str,
    ) -> Result<Option<MachineRow>, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let of = pools::table.find(pool).filter(pools::leaving.eq(false));
            let there: Option<String> = of.select(pools::name).for_share().first(c).await.optional()?;
            if there.is_none() {
                return Ok(None);
            }
            let row = (
                machines::pool.eq(pool),
                // The number follows once it is known.
                machines::name.eq(hex(token)),
                machines::run_id.eq(run),
                machines::state.eq(state),
                machines::token.eq(token),
            );
            let add = diesel::insert_into(machines::table).values(row);
            let id: i64 = add.returning(machines::id).get_result(c).await?;
            // A worker's name has at most 60 letters.
            let name = format!("{}-{id}", &pool[..pool.len().min(40)]);
            let named = diesel::update(machines::table.find(id)).set(machines::name.eq(name));
            Ok(Some(named.returning(MachineRow::as_returning()).get_result(c).await?))
        })
        .await
    }

    /// Notes how machines stand. One that has ended stays so.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn change_machines(&self, changes: &[MachineChange<'_>]) -> Result<(), Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            for change in changes {
                let of = machines::table.filter(machines::id.eq(change.id)).filter(machines::ended_at.is_null());
                let set = (
                    machines::state.eq(change.state),
                    machines::said.eq(change.said),
                    machines::handle.eq(change.handle),
                    machines::link.eq(change.link),
                    machines::log.eq(change.log),
                    machines::up_at.eq(change.up_at),
                    machines::ended_at.eq(change.ended_at),
                );
                diesel::update(of).set(set).execute(c).await?;
            }
            Ok(())
        })
        .await
    }

    /// The machines of a pool that have not ended, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn open_machines(&self, pool: &str) -> Result<Vec<MachineRow>, Error> {
        let mut c = self.connection().await?;
        let of = machines::table.filter(machines::pool.eq(pool)).filter(machines::ended_at.is_null());
        Ok(of.order(machines::id).select(MachineRow::as_select()).load(&mut c).await?)
    }

    /// The latest machines of a pool, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn machines(&self, pool: &str, most: i64) -> Result<Vec<MachineRow>, Error> {
        let mut c = self.connection().await?;
        let of = machines::table.filter(machines::pool.eq(pool)).order(machines::id.desc()).limit(most);
        Ok(of.select(MachineRow::as_select()).load(&mut c).await?)
    }

    /// The machines that were asked for by a run, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn machines_of_run(&self, run: i64) -> Result<Vec<MachineRow>, Error> {
        let mut c = self.connection().await?;
        let of = machines::table.filter(machines::run_id.eq(run)).order(machines::id).limit(MOST_KEPT);
        Ok(of.select(MachineRow::as_select()).load(&mut c).await?)
    }

    /// What starting took of the latest machines of a pool that came up, in seconds, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn starts_of_pool(&self, pool: &str, most: i64) -> Result<Vec<f64>, Error> {
        let mut c = self.connection().await?;
        let of = machines::table.filter(machines::pool.eq(pool)).filter(machines::up_at.is_not_null());
        let rows: Vec<(DateTime<Utc>, Option<DateTime<Utc>>)> = of
            .order(machines::id.desc())
            .limit(most)
            .select((machines::asked_at, machines::up_at))
            .load(&mut c)
            .await?;
        let took = |(asked, up): (DateTime<Utc>, Option<DateTime<Utc>>)| {
            Some((up? - asked).num_microseconds()?.max(0) as f64 / 1e6)
        };
        Ok(rows.into_iter().filter_map(took).collect())
    }

    /// What the last run like this one took: of its suite, with the same tests chosen in the same way, that came to a verdict about them.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn last_like(&self, run: i64) -> Result<Option<LastLike>, Error> {
        let mut c = self.connection().await?;
        let found: Option<Like> = diesel::sql_query(
            "select other.stats, other.tally from runs as other join runs as own on own.id = $1 \
             where other.suite_id = own.suite_id and other.id <> own.id and other.verdict in ('passed', 'failed') \
             and (other.options -> 'pick', other.options -> 'drop', other.options -> 'variants', other.options -> 'only', other.options -> 'repeat') \
             is not distinct from (own.options -> 'pick', own.options -> 'drop', own.options -> 'variants', own.options -> 'only', own.options -> 'repeat') \
             order by other.id desc limit 1",
        )
        .bind::<BigInt, _>(run)
        .get_result(&mut c)
        .await
        .optional()?;
        let Some(Like { stats, tally }) = found else { return Ok(None) };
        let (stats, tally): (AttemptStats, Tally) = (content(stats)?, content(tally)?);
        let (total, longest) = (Span(stats.total_us), Span(stats.longest_us));
        Ok(Some(LastLike { total, longest, entries: tally.total() }))
    }

    /// Forgets the oldest machines of a pool that have ended, beyond those that are kept.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn trim_machines(&self, pool: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let of = machines::table.filter(machines::pool.eq(pool)).filter(machines::ended_at.is_not_null());
        let newest = of.order(machines::id.desc()).offset(MOST_KEPT).select(machines::id);
        let from: Option<i64> = newest.first(&mut c).await.optional()?;
        if let Some(from) = from {
            let old = machines::pool.eq(pool).and(machines::ended_at.is_not_null()).and(machines::id.le(from));
            diesel::delete(machines::table.filter(old)).execute(&mut c).await?;
        }
        Ok(())
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
