//! Tokens, and whom they and the sessions of browsers speak for: kept as hashes, never as text.

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, Insertable, OptionalExtension, QueryDsl, Queryable, QueryableByName, Selectable,
    SelectableHelper,
    sql_types::{Array, Binary, Bool, Nullable, Text},
};

use crate::{
    Error, Store,
    query::RunQueryDsl,
    schema::{accounts, machines, sessions, tokens},
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
    /// The account that it is of, whose role it has.
    pub account: Option<String>,
    /// Globs of the suites that it is for; none: all.
    pub suites: Vec<String>,
    /// Globs of the pools that a worker may come to with it; none: all.
    pub pools: Vec<String>,
}

/// A token to keep.
#[derive(Debug, Clone, Default)]
pub struct NewToken<'a> {
    pub name: &'a str,
    pub hash: &'a [u8],
    pub role: &'a str,
    pub until: Option<DateTime<Utc>>,
    /// The beginning of its text.
    pub prefix: &'a str,
    /// The account that it is of.
    pub account: Option<&'a str>,
    pub suites: Vec<String>,
    pub pools: Vec<String>,
}

/// Whom a token or a session speaks for.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct Speaker {
    /// The account, or the token where it is of none.
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub role: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub account: Option<String>,
    /// The token that was shown, or with which the session was signed in.
    #[diesel(sql_type = Nullable<Text>)]
    pub token: Option<String>,
    /// Globs of the suites that it is for; none: all.
    #[diesel(sql_type = Array<Text>)]
    pub suites: Vec<String>,
    /// Globs of the pools that a worker may come to with it; none: all.
    #[diesel(sql_type = Array<Text>)]
    pub pools: Vec<String>,
    /// It is an account whose people sign in at a provider.
    #[diesel(sql_type = Bool)]
    pub provided: bool,
}

/// What holds of an account `a` that is good: one whose people sign in at a provider is good for a while after that.
const GOOD: &str = "(a.name is null or a.issuer is null or a.confirmed_at > now() - interval '30 days')";

impl Store {
    /// Keeps a new token; false if the name is taken.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_token(&self, name: &str, hash: &[u8], role: &str) -> Result<bool, Error> {
        self.add_token_with(&NewToken { name, hash, role, ..NewToken::default() }).await
    }

    /// The same of one with more to it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_token_with(&self, new: &NewToken<'_>) -> Result<bool, Error> {
        let row = TokenRow {
            name: new.name.to_owned(),
            hash: new.hash.to_vec(),
            role: new.role.to_owned(),
            created_at: Utc::now(),
            last_used_at: None,
            until: new.until,
            prefix: new.prefix.to_owned(),
            account: new.account.map(str::to_owned),
            suites: new.suites.clone(),
            pools: new.pools.clone(),
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

    /// Whom the token of a hash speaks for: one that was made, or that of a machine that a pool started and that has not ended.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn speaker_of_token(&self, hash: &[u8]) -> Result<Option<Speaker>, Error> {
        let mut c = self.connection().await?;
        let found: Option<Speaker> = diesel::sql_query(format!(
            "select coalesce(t.account, t.name) as name, coalesce(a.role, t.role) as role, t.account, t.name as token, coalesce(a.suites, t.suites) as suites, t.pools, \
             a.issuer is not null as provided \
             from tokens t left join accounts a on a.name = t.account where t.hash = $1 and (t.until is null or t.until > now()) and {GOOD}"
        ))
        .bind::<Binary, _>(hash)
        .get_result(&mut c)
        .await
        .optional()?;
        if found.is_some() {
            return Ok(found);
        }
        let of = machines::table.filter(machines::token.eq(hash)).filter(machines::ended_at.is_null());
        let machine: Option<String> = of.select(machines::name).first(&mut c).await.optional()?;
        Ok(machine.map(|name| Speaker {
            name: format!("{MACHINE}{name}"),
            role: WORKER.to_owned(),
            account: None,
            token: None,
            suites: Vec::new(),
            pools: Vec::new(),
            provided: false,
        }))
    }

    /// Whom a session speaks for that goes on: it is good no longer than the token that made it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn speaker_of_session(&self, hash: &[u8]) -> Result<Option<Speaker>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(format!(
            "select coalesce(a.name, t.name) as name, coalesce(a.role, t.role) as role, a.name as account, t.name as token, coalesce(a.suites, t.suites, '{{}}') as suites, \
             coalesce(t.pools, '{{}}') as pools, a.issuer is not null as provided from sessions s \
             left join tokens t on t.name = s.token left join accounts a on a.name = coalesce(s.account, t.account) \
             where s.hash = $1 and s.until > now() and (s.token is null or t.until is null or t.until > now()) and {GOOD}"
        ))
        .bind::<Binary, _>(hash)
        .get_result(&mut c)
        .await
        .optional()?)
    }

    /// Notes that an account was there, by a session if that is how.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn seen(&self, speaker: &Speaker, session: Option<&[u8]>) -> Result<(), Error> {
        let mut c = self.connection().await?;
        if let Some(token) = &speaker.token {
            diesel::update(tokens::table.find(token)).set(tokens::last_used_at.eq(Utc::now())).execute(&mut c).await?;
        }
        if let Some(account) = &speaker.account {
            diesel::update(accounts::table.find(account)).set(accounts::seen_at.eq(Utc::now())).execute(&mut c).await?;
        }
        if let Some(hash) = session {
            diesel::update(sessions::table.find(hash)).set(sessions::seen_at.eq(Utc::now())).execute(&mut c).await?;
        }
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
