//! Tokens and sessions of browsers: kept as hashes, never as text.

use chrono::{DateTime, Utc};
use diesel::{
    BoolExpressionMethods, ExpressionMethods, Insertable, OptionalExtension, QueryDsl, Queryable, Selectable,
    SelectableHelper,
};
use diesel_async::RunQueryDsl;

use crate::{
    Error, Store,
    schema::{machines, sessions, tokens},
};

/// What the tokens of machines that pools start are called, before the machine's name. No token that is made is called so.
pub const MACHINE: &str = "machine ";
/// The role of those.
const WORKER: &str = "worker";

/// A token as it is kept.
#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = tokens, check_for_backend(diesel::pg::Pg))]
pub struct TokenRow {
    pub name: String,
    pub hash: Vec<u8>,
    pub role: String,
    pub created_at: DateTime<Utc>,
    pub last_used_at: Option<DateTime<Utc>>,
    /// It is good until then; none: until it is removed.
    pub until: Option<DateTime<Utc>>,
    /// The beginning of its text.
    pub prefix: String,
}

impl Store {
    /// Keeps a new token; false if the name is taken.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_token(&self, name: &str, hash: &[u8], role: &str) -> Result<bool, Error> {
        self.add_token_until(name, hash, role, None, "").await
    }

    /// The same of one that ends, with the beginning of its text.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_token_until(
        &self,
        name: &str,
        hash: &[u8],
        role: &str,
        until: Option<DateTime<Utc>>,
        prefix: &str,
    ) -> Result<bool, Error> {
        let row = TokenRow {
            name: name.to_owned(),
            hash: hash.to_vec(),
            role: role.to_owned(),
            created_at: Utc::now(),
            last_used_at: None,
            until,
            prefix: prefix.to_owned(),
        };
        let mut c = self.connection().await?;
        let added = diesel::insert_into(tokens::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        Ok(added == 1)
    }

    /// All tokens, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn tokens(&self) -> Result<Vec<TokenRow>, Error> {
        let mut c = self.connection().await?;
        Ok(tokens::table.order(tokens::name).select(TokenRow::as_select()).load(&mut c).await?)
    }

    /// The token of a hash: one that was made, or that of a machine that a pool started and that has not ended.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn token_of_hash(&self, hash: &[u8]) -> Result<Option<TokenRow>, Error> {
        let mut c = self.connection().await?;
        let good = tokens::until.is_null().or(tokens::until.gt(Utc::now()));
        let found = tokens::table.filter(tokens::hash.eq(hash)).filter(good).select(TokenRow::as_select());
        if let Some(found) = found.first(&mut c).await.optional()? {
            return Ok(Some(found));
        }
        let of = machines::table.filter(machines::token.eq(hash)).filter(machines::ended_at.is_null());
        let machine: Option<(String, DateTime<Utc>)> =
            of.select((machines::name, machines::asked_at)).first(&mut c).await.optional()?;
        Ok(machine.map(|(name, asked_at)| TokenRow {
            name: format!("{MACHINE}{name}"),
            hash: hash.to_vec(),
            role: WORKER.to_owned(),
            created_at: asked_at,
            last_used_at: None,
            until: None,
            prefix: String::new(),
        }))
    }

    /// Notes that a token was used.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn token_used(&self, name: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::update(tokens::table.find(name)).set(tokens::last_used_at.eq(Utc::now())).execute(&mut c).await?;
        Ok(())
    }

    /// Removes a token; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_token(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(tokens::table.find(name)).execute(&mut c).await? == 1)
    }

    /// Keeps a session of a browser that signed in with a token, and forgets those that are over.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_session(&self, hash: &[u8], token: &str, until: DateTime<Utc>) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::delete(sessions::table.filter(sessions::until.lt(Utc::now()))).execute(&mut c).await?;
        let row = (sessions::hash.eq(hash), sessions::token.eq(token), sessions::until.eq(until));
        diesel::insert_into(sessions::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// The token of a session that goes on.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn token_of_session(&self, hash: &[u8]) -> Result<Option<TokenRow>, Error> {
        let mut c = self.connection().await?;
        let found = sessions::table.inner_join(tokens::table).filter(sessions::hash.eq(hash));
        // A session is good no longer than the token that made it.
        let good = tokens::until.is_null().or(tokens::until.gt(Utc::now()));
        let live = found.filter(sessions::until.gt(Utc::now())).filter(good).select(TokenRow::as_select());
        Ok(live.first(&mut c).await.optional()?)
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_session(&self, hash: &[u8]) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::delete(sessions::table.find(hash)).execute(&mut c).await?;
        Ok(())
    }
}
