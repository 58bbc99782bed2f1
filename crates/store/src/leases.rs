//! Which service carries out the runs of which pool, and which gives out a claim.
//!
//! Times are those of PostgreSQL's clock, which is the same for all services.

use std::{
    collections::{BTreeMap, BTreeSet},
    marker::PhantomData,
    time::Duration,
};

use diesel::{
    ExpressionMethods, QueryDsl, QueryableByName,
    sql_types::{Array, Bool, Double, Nullable, Text},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};

use crate::{Error, Store, query::RunQueryDsl, schema::leases, statement::statement};

statement! {
    /// Leases of pools that are a service's, held until the transaction ends: another can take them only after.
    HoldLeases = "select 1 from leases as l, unnest(",
        ") as own (service, pool) where l.service = own.service and l.pool = own.pool for share of l";
    service: Array<Text> = Vec<&'a str>, pool: Array<Text> = Vec<&'a str>
}

/// Who a service is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The same after a restart with the same data folder.
    pub service: String,
    /// Where workers reach it.
    pub address: String,
}

/// How the leases of pools stand that a service wants.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Leased {
    /// Those that it has now.
    pub held: BTreeSet<String>,
    /// Those that another service has.
    pub others: BTreeMap<String, OthersLease>,
}

/// The lease of another service.
#[derive(Debug, Clone, PartialEq)]
pub struct OthersLease {
    /// Where workers reach it; empty if that is not known yet.
    pub address: String,
    /// How long it lasts unless it is renewed.
    pub lasts: Duration,
}

#[derive(QueryableByName)]
struct Pool {
    #[diesel(sql_type = Text)]
    pool: String,
    #[diesel(sql_type = Nullable<Text>)]
    address: Option<String>,
    /// In seconds.
    #[diesel(sql_type = Double)]
    lasts: f64,
}

/// A claim that a service needs, with a run that needs it and the run's pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Needed {
    pub claim: String,
    pub run: String,
    pub pool: String,
}

/// How the claims stand that a service needs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Claims {
    /// Those that it may give out now, and of those the ones that another service waits for.
    pub held: BTreeSet<String>,
    pub asked: BTreeSet<String>,
    /// Those that another service gives out, each with a run of it.
    pub elsewhere: BTreeMap<String, String>,
}

#[derive(QueryableByName)]
struct HeldClaim {
    #[diesel(sql_type = Text)]
    claim: String,
    #[diesel(sql_type = Bool)]
    asked: bool,
}

#[derive(QueryableByName)]
struct OthersClaim {
    #[diesel(sql_type = Text)]
    claim: String,
    #[diesel(sql_type = Text)]
    run: String,
}

impl Store {
    /// Takes or keeps the leases of those pools for so many seconds, as far as no other service has them. A pool that another takes
    /// in the same moment is told of neither.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn hold_pools(&self, who: &Holder, pools: &[String], seconds: f64) -> Result<Leased, Error> {
        let mut c = self.connection().await?;
        let found: Vec<Pool> = diesel::sql_query(
            "with held as (insert into leases (pool, service, address, until) \
             select pool, $2, $3, now() + make_interval(secs => $4) from unnest($1) as pool order by pool \
             on conflict (pool) do update set service = excluded.service, address = excluded.address, until = excluded.until \
             where leases.service = excluded.service or leases.until < now() returning pool) \
             select pool, null as address, $4 as lasts from held \
             union all select pool, address, extract(epoch from until - now())::float8 from leases \
             where pool = any($1) and service <> $2 and until >= now()",
        )
        .bind::<Array<Text>, _>(pools)
        .bind::<Text, _>(&who.service)
        .bind::<Text, _>(&who.address)
        .bind::<Double, _>(seconds)
        .load(&mut c)
        .await?;
        let mut leased = Leased::default();
        for Pool { pool, address, lasts } in found {
            if let Some(address) = address {
                let lasts = Duration::try_from_secs_f64(lasts).unwrap_or_default();
                leased.others.insert(pool, OthersLease { address, lasts });
            } else {
                leased.held.insert(pool);
            }
        }
        Ok(leased)
    }

    /// Gives all leases of a service up.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn give_pools_up(&self, who: &Holder) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::delete(leases::table.filter(leases::service.eq(&who.service))).execute(&mut c).await?;
        diesel::sql_query("delete from claim_leases where service = $1")
            .bind::<Text, _>(&who.service)
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Takes or keeps the claims that a service needs for so many seconds, as far as no other has them, and gives up all others that
    /// it had. What another has is asked of it. A claim of a service that is no more goes to the one that carries on the pool whose
    /// run had it, as its tests may still run.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn hold_claims(&self, service: &str, needed: &[Needed], seconds: f64) -> Result<Claims, Error> {
        let mut c = self.connection().await?;
        let column = |of: fn(&Needed) -> &String| needed.iter().map(|n| of(n).clone()).collect::<Vec<String>>();
        let claims = column(|n| &n.claim);
        c.transaction(async |c| {
            diesel::sql_query(
                "delete from claim_leases where claim <> all($2) and (service = $1 or until < now() and pool in \
                 (select pool from leases where service = $1 and leases.until > now()))",
            )
            .bind::<Text, _>(service)
            .bind::<Array<Text>, _>(&claims)
            .execute(c)
            .await?;
            let held: Vec<HeldClaim> = diesel::sql_query(
                "insert into claim_leases (claim, service, run, pool, until) \
                 select claim, $1, run, pool, now() + make_interval(secs => $5) from unnest($2, $3, $4) as n (claim, run, pool) \
                 order by claim on conflict (claim) do update set service = excluded.service, run = excluded.run, \
                 pool = excluded.pool, until = excluded.until, \
                 asked = case when claim_leases.service = excluded.service then claim_leases.asked end \
                 where claim_leases.service = excluded.service or claim_leases.until < now() and not exists \
                 (select 1 from leases l where l.pool = claim_leases.pool and l.service <> excluded.service and l.until > now()) \
                 returning claim, coalesce(asked > now(), false) as asked",
            )
            .bind::<Text, _>(service)
            .bind::<Array<Text>, _>(&claims)
            .bind::<Array<Text>, _>(column(|n| &n.run))
            .bind::<Array<Text>, _>(column(|n| &n.pool))
            .bind::<Double, _>(seconds)
            .load(c)
            .await?;
            let others: Vec<OthersClaim> = diesel::sql_query(
                "update claim_leases set asked = now() + make_interval(secs => $3) where claim = any($2) and service <> $1 \
                 returning claim, run",
            )
            .bind::<Text, _>(service)
            .bind::<Array<Text>, _>(&claims)
            .bind::<Double, _>(seconds)
            .load(c)
            .await?;
            Ok(Claims {
                asked: held.iter().filter(|h| h.asked).map(|h| h.claim.clone()).collect(),
                held: held.into_iter().map(|h| h.claim).collect(),
                elsewhere: others.into_iter().map(|o| (o.claim, o.run)).collect(),
            })
        })
        .await
    }

    /// Who holds which pool.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn holders(&self) -> Result<Vec<(String, Holder)>, Error> {
        let mut c = self.connection().await?;
        let live = leases::table.filter(leases::until.gt(diesel::dsl::now)).order(leases::pool);
        let found: Vec<(String, String, String)> =
            live.select((leases::pool, leases::service, leases::address)).load(&mut c).await?;
        Ok(found.into_iter().map(|(pool, service, address)| (pool, Holder { service, address })).collect())
    }
}

/// Makes sure, within a transaction, that a service holds those pools until it ends: another can take them only after.
pub(crate) async fn still_held(c: &AsyncPgConnection, service: &str, pools: &[String]) -> Result<bool, Error> {
    let pool: Vec<&str> = pools.iter().map(String::as_str).collect();
    let held = HoldLeases { service: vec![service; pool.len()], pool, lifetime: PhantomData };
    // It changes no row: what is counted are those that it finds.
    Ok(held.pipe(c).await? == pools.len())
}
