//! What Kesmo keeps, in PostgreSQL through Diesel.
//!
//! One module for each aggregate, its functions named for what the caller wants. SQL stands nowhere else. The migrations
//! are in the program and run when a [`Store`] is opened.

pub mod access;
pub mod accounts;
pub mod audit;
pub mod briefs;
pub mod cases;
pub mod commit;
pub mod connecting;
pub mod covers;
pub mod cuts;
pub mod failing;
mod known;
pub mod leases;
pub mod measures;
pub mod meetings;
pub mod notices;
mod pace;
pub mod parks;
pub mod past;
pub mod polls;
pub mod pools;
mod query;
pub mod records;
pub mod releases;
pub mod results;
pub mod runs;
pub mod schedules;
pub mod schema;
pub mod secrets;
pub mod shares;
mod statement;
pub mod suites;
pub mod sweep;
pub mod usage;
pub mod vault;
pub mod webhooks;

use std::{sync::Arc, time::Duration};

use diesel::sql_types::Text;
use diesel_async::{
    AsyncConnection, AsyncMigrationHarness, AsyncPgConnection,
    pooled_connection::{AsyncDieselConnectionManager, ManagerConfig, RecyclingMethod, deadpool::Pool},
};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use futures::future::BoxFuture;

use crate::{
    connecting::{Connection, NotConnected},
    known::Known,
    query::RunQueryDsl,
};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// Connections of a store, and of what holds up everything else while it waits for one ([`Store::apart`]).
const CONNECTIONS: usize = 12;
/// A connection is waited for so long.
const WAIT: Duration = Duration::from_secs(10);

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// PostgreSQL does not answer: worth trying again.
    #[error("PostgreSQL does not answer: {0}")]
    Away(String),
    /// PostgreSQL answers, and refuses: trying again will not help.
    #[error("PostgreSQL refuses: {0}")]
    Refused(String),
    /// Another service carries out these runs now: nothing was written.
    #[error("another service carries out these runs now")]
    Elsewhere,
    /// PostgreSQL cannot be reached as its address says, or whoever is there is not trusted.
    #[error("PostgreSQL cannot be used by the address that was given: {0}")]
    Address(String),
    /// The tables could not be brought up to date.
    #[error("the tables could not be brought up to date: {0}")]
    Migration(String),
    /// What is stored cannot be read.
    #[error("what is stored cannot be read: {0}")]
    Content(String),
}

impl From<diesel::result::Error> for Error {
    fn from(error: diesel::result::Error) -> Self {
        use diesel::result::{DatabaseErrorKind as Kind, Error as Diesel};
        match &error {
            Diesel::DatabaseError(
                Kind::ClosedConnection
                | Kind::UnableToSendCommand
                | Kind::SerializationFailure
                | Kind::ReadOnlyTransaction,
                _,
            )
            | Diesel::BrokenTransactionManager => Self::Away(error.to_string()),
            // An unclassified error is what a server answers that shuts down or starts up, or has no room.
            Diesel::DatabaseError(Kind::Unknown, info) if is_its_own(info.message()) => Self::Away(error.to_string()),
            _ => Self::Refused(error.to_string()),
        }
    }
}

/// What PostgreSQL says of a statement that comes after one that failed in the same transaction.
pub(crate) const ABORTED: &str = "current transaction is aborted";

/// Whether a message of PostgreSQL tells of its own state, and not of what it was asked: it goes, comes, or has no room.
fn is_its_own(message: &str) -> bool {
    let message = message.to_lowercase();
    [
        "terminating connection",
        "shutting down",
        "starting up",
        "recovery mode",
        "connection closed",
        "communicating with",
        "crash of another server process",
        "no space left",
        "disk full",
        "could not extend",
        "could not write",
        "could not open file",
        "could not read",
        "could not fsync",
        "could not access",
        "out of memory",
        "out of shared memory",
        "too many clients",
        "too many connections",
        "connection slots",
        "deadlock detected",
        "canceling statement",
        ABORTED,
        "read-only transaction",
    ]
    .iter()
    .any(|sign| message.contains(sign))
}

/// A pool of connections to one database.
#[derive(Clone)]
pub struct Store {
    url: String,
    pool: Pool<AsyncPgConnection>,
    /// Keys that seal secrets; without them nothing is sealed.
    vault: Option<vault::Vault>,
    /// What those share who write beside the work of runs.
    paces: Arc<pace::Paces>,
    /// What tests are kept as.
    known: Arc<Known>,
}

/// A pool that gives connections without asking PostgreSQL first: one that was closed is known to be, and one whose server
/// is gone says so when it is used.
fn pool(url: &str, size: usize, known: &Arc<Known>) -> Result<Pool<AsyncPgConnection>, Error> {
    let mut config = ManagerConfig::<AsyncPgConnection>::default();
    config.recycling_method = RecyclingMethod::Fast;
    let known = Arc::clone(known);
    config.custom_setup = Box::new(move |url| {
        known.forget_all();
        Box::pin(connect(url))
    });
    let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new_with_config(url, config);
    Pool::builder(manager).max_size(size).build().map_err(|e| Error::Away(e.to_string()))
}

/// A connection before there is a pool: what keeps it away is told apart.
async fn first_connection(url: &str) -> Result<AsyncPgConnection, Error> {
    let connected = tokio::time::timeout(WAIT, connecting::connect(url)).await;
    let connected = connected.map_err(|_| Error::Away(format!("nothing came within {} s", WAIT.as_secs())))?;
    connected.map_err(|why| match why {
        NotConnected::Away(why) => Error::Away(why),
        NotConnected::Refused(why) => Error::Refused(why),
        NotConnected::Address(why) => Error::Address(why),
    })
}

/// A connection whose statements are carried out as they are: compiling one beforehand takes PostgreSQL longer than any of them.
async fn connect(url: &str) -> diesel::ConnectionResult<AsyncPgConnection> {
    let connection = connecting::connect(url).await;
    let mut connection = connection.map_err(|e| diesel::ConnectionError::BadConnection(e.why()))?;
    let set = diesel::sql_query("set jit = off").execute(&mut connection).await;
    set.map_err(diesel::ConnectionError::CouldntSetupConfiguration)?;
    Ok(connection)
}

impl Store {
    /// Connects and brings the tables up to date.
    ///
    /// # Errors
    /// If PostgreSQL does not answer at `url` ([`Error::Away`] only if it may later), or a migration fails.
    pub async fn open(url: &str) -> Result<Self, Error> {
        let known = Arc::default();
        let pool = pool(url, CONNECTIONS, &known)?;
        let mut first = first_connection(url).await?;
        // Of two services that start at once, one migrates and the other waits.
        diesel::sql_query("select pg_advisory_lock(7215)").execute(&mut first).await?;
        let mut harness = AsyncMigrationHarness::new(first);
        harness.run_pending_migrations(MIGRATIONS).map_err(|e| Error::Migration(e.to_string()))?;
        Ok(Self { url: url.to_owned(), pool, vault: None, paces: Arc::default(), known })
    }

    /// Whether PostgreSQL answers at an address; nothing is changed there.
    ///
    /// # Errors
    /// If it does not.
    pub async fn answers_at(url: &str) -> Result<(), Error> {
        first_connection(url).await.map(drop)
    }

    /// What seals and opens values, where this store was given keys.
    #[must_use]
    pub fn vault(&self) -> Option<&vault::Vault> {
        self.vault.as_ref()
    }

    /// The same store, which seals secrets with these keys.
    #[must_use]
    pub fn with_vault(self, vault: vault::Vault) -> Self {
        Self { vault: Some(vault), ..self }
    }

    /// The same store through so many connections of its own, for what must not wait for others.
    ///
    /// # Errors
    /// If the pool cannot be made.
    pub fn apart(&self, connections: usize) -> Result<Self, Error> {
        Ok(Self { pool: pool(&self.url, connections, &self.known)?, ..self.clone() })
    }

    /// Writes a row that nobody reads, to see whether PostgreSQL takes anything at all.
    ///
    /// # Errors
    /// If it does not.
    pub async fn probe(&self) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::sql_query(
            "insert into probes values (1, repeat('quay ', 400), now()) \
             on conflict (id) do update set text = excluded.text || ' ', at = now()",
        )
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Whether PostgreSQL answers.
    pub async fn answers(&self) -> bool {
        match self.connection().await {
            Ok(mut c) => diesel::sql_query("select 1").execute(&mut c).await.is_ok(),
            Err(_) => false,
        }
    }

    /// Connections that are open, and how many of those nobody uses.
    #[must_use]
    pub fn connections(&self) -> (u32, u32) {
        let status = self.pool.status();
        let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        (count(status.size), count(status.available))
    }

    pub(crate) fn connection(&self) -> BoxFuture<'_, Result<Connection, Error>> {
        Box::pin(async {
            match tokio::time::timeout(WAIT, self.pool.get()).await {
                Ok(Ok(connection)) => Ok(Connection::of_pool(connection)),
                Ok(Err(e)) => Err(Error::Away(e.to_string())),
                Err(_) => Err(Error::Away(format!("no connection was free within {} s", WAIT.as_secs()))),
            }
        })
    }
}

/// Whether there is a table of that name.
async fn is_there(c: &mut AsyncPgConnection, table: &str) -> diesel::QueryResult<bool> {
    #[derive(diesel::QueryableByName)]
    struct Found {
        #[diesel(sql_type = diesel::sql_types::Bool)]
        found: bool,
    }
    let found = diesel::sql_query("select to_regclass($1) is not null as found").bind::<Text, _>(table);
    Ok(found.get_result::<Found>(c).await?.found)
}

/// Makes sure that attempts and cases of runs made in `month` (its first day) have partitions.
///
/// A part is made by itself and then attached, which hinders neither those who read the whole nor those who write it
/// (PostgreSQL, ALTER TABLE, "ATTACH PARTITION"); made as a part from the beginning it would lock everyone out, and two who
/// wait for each other.
pub(crate) async fn ensure_month(c: &mut AsyncPgConnection, month: chrono::NaiveDate) -> Result<(), Error> {
    let next = month.checked_add_months(chrono::Months::new(1)).unwrap_or(month);
    let part = |table: &str| format!("{table}_{}", month.format("%Y_%m"));
    if is_there(c, &part("results")).await? {
        return Ok(());
    }
    c.transaction(async |c| {
        diesel::sql_query("select pg_advisory_xact_lock(7215)").execute(c).await?;
        for table in ["attempts", "cases", "results"] {
            let part = part(table);
            if is_there(c, &part).await? {
                continue;
            }
            // The name and the dates come from a date, so that nothing needs quoting.
            for sql in [
                format!("create table {part} (like {table} including defaults including constraints)"),
                format!("alter table {table} attach partition {part} for values from ('{month}') to ('{next}')"),
            ] {
                diesel::sql_query(sql).execute(c).await?;
            }
        }
        diesel::QueryResult::Ok(())
    })
    .await?;
    Ok(())
}

/// The first day of the month of a moment, in UTC.
#[must_use]
pub fn month_of(moment: chrono::DateTime<chrono::Utc>) -> chrono::NaiveDate {
    use chrono::Datelike;
    let day = moment.date_naive();
    day.with_day(1).unwrap_or(day)
}

/// Reads what is stored. What a newer version wrote beside it is passed over: the types refuse unknown fields, as callers
/// are to be told of misspelt ones, but a row that was written once must be read by the version before, too.
pub(crate) fn content<T: serde::de::DeserializeOwned>(mut value: serde_json::Value) -> Result<T, Error> {
    for _ in 0..MOST_UNKNOWN {
        let error = match serde_json::from_value(value.clone()) {
            Ok(read) => return Ok(read),
            Err(e) => e.to_string(),
        };
        let unknown = error.strip_prefix("unknown field `").and_then(|rest| rest.split('`').next());
        if !unknown.is_some_and(|field| without(&mut value, field)) {
            return Err(Error::Content(error));
        }
    }
    Err(Error::Content("it has too many unknown fields".into()))
}

/// Unknown fields of one value that are passed over.
const MOST_UNKNOWN: usize = 50;

/// Takes a field out wherever it stands; false if it stands nowhere.
fn without(value: &mut serde_json::Value, field: &str) -> bool {
    match value {
        serde_json::Value::Object(map) => {
            let found = map.remove(field).is_some();
            map.values_mut().filter_map(|inner| without(inner, field).then_some(())).count() > 0 || found
        }
        serde_json::Value::Array(items) => {
            items.iter_mut().filter_map(|inner| without(inner, field).then_some(())).count() > 0
        }
        _ => false,
    }
}

pub(crate) fn json<T: serde::Serialize>(value: &T) -> Result<serde_json::Value, Error> {
    serde_json::to_value(value).map_err(|e| Error::Content(e.to_string()))
}

#[cfg(test)]
mod tests {
    use kesmo_core::plan::RunOptions;

    use super::*;

    #[test]
    fn what_postgresql_says_of_itself_is_no_refusal() {
        for own in [
            "could not extend file \"base/5/16384\": No space left on device",
            "terminating connection because of crash of another server process",
            "the database system is shutting down",
            "deadlock detected",
            "current transaction is aborted, commands ignored until end of transaction block",
        ] {
            assert!(is_its_own(own), "{own}");
        }
        for row in ["index row size 3312 exceeds btree version 4 maximum 2704", "invalid byte sequence for encoding"] {
            assert!(!is_its_own(row), "{row}");
        }
    }

    #[test]
    fn what_a_newer_version_wrote_is_read_without_it() {
        let newer = serde_json::json!({ "pick": ["gate/**"], "tide": 3, "labels": {}, "moon": { "tide": 1 } });
        let read: RunOptions = content(newer).expect("it is read");
        assert_eq!(read.pick, ["gate/**"]);
        assert!(content::<RunOptions>(serde_json::json!({ "pick": 3 })).is_err());
    }
}
