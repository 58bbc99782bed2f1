//! What Kesmo keeps, in PostgreSQL through Diesel.
//!
//! One module for each aggregate, its functions named for what the caller wants. SQL stands nowhere else. The migrations
//! are in the program and run when a [`Store`] is opened.

pub mod access;
pub mod briefs;
pub mod call_ins;
pub mod commit;
pub mod leases;
pub mod meetings;
pub mod parks;
pub mod past;
pub mod records;
pub mod runs;
pub mod schedules;
pub mod schema;
mod statement;
pub mod suites;
pub mod watches;

use diesel::sql_types::Text;
use diesel_async::{
    AsyncConnection, AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl,
    pooled_connection::{
        AsyncDieselConnectionManager,
        deadpool::{Object, Pool},
    },
};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

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
            Diesel::DatabaseError(Kind::ClosedConnection | Kind::UnableToSendCommand, _)
            | Diesel::BrokenTransactionManager => Self::Away(error.to_string()),
            // An unclassified error is what a server that shuts down or starts up answers.
            Diesel::DatabaseError(Kind::Unknown, info) if says_it_goes(info.message()) => Self::Away(error.to_string()),
            _ => Self::Refused(error.to_string()),
        }
    }
}

fn says_it_goes(message: &str) -> bool {
    [
        "terminating connection",
        "shutting down",
        "starting up",
        "recovery mode",
        "connection closed",
        "communicating with",
    ]
    .iter()
    .any(|sign| message.contains(sign))
}

/// A pool of connections to one database.
#[derive(Clone)]
pub struct Store {
    pool: Pool<AsyncPgConnection>,
}

impl Store {
    /// Connects and brings the tables up to date.
    ///
    /// # Errors
    /// If PostgreSQL does not answer at `url`, or a migration fails.
    pub async fn open(url: &str) -> Result<Self, Error> {
        let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new(url);
        let pool = Pool::builder(manager).max_size(8).build().map_err(|e| Error::Away(e.to_string()))?;
        let mut first = AsyncPgConnection::establish(url).await.map_err(|e| Error::Away(e.to_string()))?;
        // Of two services that start at once, one migrates and the other waits.
        diesel::sql_query("select pg_advisory_lock(7215)").execute(&mut first).await?;
        let mut harness = AsyncMigrationHarness::new(first);
        harness.run_pending_migrations(MIGRATIONS).map_err(|e| Error::Migration(e.to_string()))?;
        Ok(Self { pool })
    }

    /// Whether PostgreSQL answers.
    pub async fn answers(&self) -> bool {
        match self.connection().await {
            Ok(mut c) => diesel::sql_query("select 1").execute(&mut c).await.is_ok(),
            Err(_) => false,
        }
    }

    pub(crate) async fn connection(&self) -> Result<Object<AsyncPgConnection>, Error> {
        self.pool.get().await.map_err(|e| Error::Away(e.to_string()))
    }
}

/// Makes sure that attempts of runs made in `month` (its first day) have a partition.
pub(crate) async fn ensure_month(c: &mut AsyncPgConnection, month: chrono::NaiveDate) -> Result<(), Error> {
    let next = month.checked_add_months(chrono::Months::new(1)).unwrap_or(month);
    let name = month.format("attempts_%Y_%m");
    let found: Option<bool> = {
        use diesel::OptionalExtension;
        #[derive(diesel::QueryableByName)]
        struct Found {
            #[diesel(sql_type = diesel::sql_types::Bool)]
            found: bool,
        }
        diesel::sql_query("select to_regclass($1) is not null as found")
            .bind::<Text, _>(name.to_string())
            .get_result::<Found>(c)
            .await
            .optional()?
            .map(|f| f.found)
    };
    if found != Some(true) {
        // The name and the dates come from a date, so that nothing needs quoting.
        let sql = format!(
            "create table if not exists {name} partition of attempts for values from ('{month}') to ('{next}')"
        );
        // `if not exists` does not keep two who come at once from each other; the lock does.
        c.transaction(async |c| {
            diesel::sql_query("select pg_advisory_xact_lock(7215)").execute(c).await?;
            diesel::sql_query(sql).execute(c).await.map(drop)
        })
        .await?;
    }
    Ok(())
}

/// The first day of the month of a moment, in UTC.
#[must_use]
pub fn month_of(moment: chrono::DateTime<chrono::Utc>) -> chrono::NaiveDate {
    use chrono::Datelike;
    let day = moment.date_naive();
    day.with_day(1).unwrap_or(day)
}

pub(crate) fn content<T: serde::de::DeserializeOwned>(value: serde_json::Value) -> Result<T, Error> {
    serde_json::from_value(value).map_err(|e| Error::Content(e.to_string()))
}

pub(crate) fn json<T: serde::Serialize>(value: &T) -> Result<serde_json::Value, Error> {
    serde_json::to_value(value).map_err(|e| Error::Content(e.to_string()))
}
