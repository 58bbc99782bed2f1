//! Which service carries out the runs of which pool.
//!
//! Times are those of PostgreSQL's clock, which is the same for all services.

use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, QueryableByName,
    sql_types::{Array, BigInt, Double, Text},
};
use diesel_async::{AsyncPgConnection, RunQueryDsl};

use crate::{Error, Store, schema::leases};

/// Who a service is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The same after a restart with the same data folder.
    pub service: String,
    /// Where workers reach it.
    pub address: String,
}

#[derive(QueryableByName)]
struct Pool {
    #[diesel(sql_type = Text)]
    pool: String,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

impl Store {
    /// Takes or keeps the leases of those pools for so many seconds, as far as no other service has them; gives the pools
    /// that are held now, of those.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn hold_pools(&self, who: &Holder, pools: &[String], seconds: f64) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let held: Vec<Pool> = diesel::sql_query(
            "insert into leases (pool, service, address, until) select pool, $2, $3, now() + make_interval(secs => $4) \
             from unnest($1) as pool order by pool on conflict (pool) do update \
             set service = excluded.service, address = excluded.address, until = excluded.until \
             where leases.service = excluded.service or leases.until < now() returning pool",
        )
        .bind::<Array<Text>, _>(pools)
        .bind::<Text, _>(&who.service)
        .bind::<Text, _>(&who.address)
        .bind::<Double, _>(seconds)
        .load(&mut c)
        .await?;
        Ok(held.into_iter().map(|p| p.pool).collect())
    }

    /// Gives all leases of a service up.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn give_pools_up(&self, who: &Holder) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::delete(leases::table.filter(leases::service.eq(&who.service))).execute(&mut c).await?;
        Ok(())
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

    /// The address of the service that holds a pool, if one does.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn holder_of(&self, pool: &str) -> Result<Option<Holder>, Error> {
        let mut c = self.connection().await?;
        let live = leases::table.find(pool).filter(leases::until.gt(diesel::dsl::now));
        let found: Option<(String, String)> =
            live.select((leases::service, leases::address)).first(&mut c).await.optional()?;
        Ok(found.map(|(service, address)| Holder { service, address }))
    }
}

/// Makes sure, within a transaction, that a service holds those pools until it ends: another can take them only after.
pub(crate) async fn still_held(c: &mut AsyncPgConnection, service: &str, pools: &[String]) -> Result<bool, Error> {
    let held: Count = diesel::sql_query(
        "select count(*) from (select 1 from leases where service = $1 and pool = any($2) for share) as held",
    )
    .bind::<Text, _>(service)
    .bind::<Array<Text>, _>(pools)
    .get_result(c)
    .await?;
    Ok(held.count == pools.len() as i64)
}
