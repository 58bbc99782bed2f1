//! People with a password: their accounts, the links by which they choose it, their sessions, and how often sign-ins were tried.

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, QueryableByName,
    sql_types::{Array, BigInt, Binary, Bool, Double, Integer, Nullable, Text, Timestamptz},
};
use diesel_async::AsyncConnection;

use crate::{
    Error, Store,
    query::RunQueryDsl,
    schema::{accounts, password_links, sessions},
};

/// An account as it is listed.
#[derive(Debug, Clone, QueryableByName)]
pub struct AccountRow {
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub role: String,
    /// Globs of the suites that it is for; none: all.
    #[diesel(sql_type = Array<Text>)]
    pub suites: Vec<String>,
    /// Where its people sign in, if that is elsewhere (OpenID Connect).
    #[diesel(sql_type = Nullable<Text>)]
    pub issuer: Option<String>,
    /// When it was last said there that they may come in.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub confirmed_at: Option<DateTime<Utc>>,
    /// A password was chosen.
    #[diesel(sql_type = Bool)]
    pub chosen: bool,
    #[diesel(sql_type = Text)]
    pub made_by: String,
    #[diesel(sql_type = Timestamptz)]
    pub made_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub seen_at: Option<DateTime<Utc>>,
    /// How long the link that was given out last is good, if it is.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub link_until: Option<DateTime<Utc>>,
    /// Browsers in which it is signed in, and tokens of its own.
    #[diesel(sql_type = BigInt)]
    pub sessions: i64,
    #[diesel(sql_type = BigInt)]
    pub tokens: i64,
}

/// What somebody may do: a role, for the suites of some globs; none: for all.
#[derive(Debug, Clone, Copy)]
pub struct Rights<'a> {
    pub role: &'a str,
    pub suites: &'a [String],
}

/// A browser that is signed in.
#[derive(Debug, Clone, QueryableByName)]
pub struct SessionRow {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Binary)]
    pub hash: Vec<u8>,
    /// The account, or the token that it was signed in with.
    #[diesel(sql_type = Text)]
    pub who: String,
    #[diesel(sql_type = Bool)]
    pub by_token: bool,
    #[diesel(sql_type = Text)]
    pub about: String,
    #[diesel(sql_type = Text)]
    pub address: String,
    #[diesel(sql_type = Timestamptz)]
    pub made_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamptz)]
    pub seen_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamptz)]
    pub until: DateTime<Utc>,
}

/// A session to keep.
#[derive(Debug)]
pub struct NewSession<'a> {
    pub hash: &'a [u8],
    /// The token that it was signed in with, or the account.
    pub token: Option<&'a str>,
    pub account: Option<&'a str>,
    pub until: DateTime<Utc>,
    /// What the browser says of itself, and where it is.
    pub about: &'a str,
    pub address: &'a str,
}

/// How often something may be tried, one time after the other, before it has to wait: twice as long after each further one.
#[derive(Debug, Clone, Copy)]
pub struct Slowing {
    pub free: i32,
    /// The longest wait, in seconds.
    pub longest: f64,
}

#[derive(QueryableByName)]
struct Wait {
    #[diesel(sql_type = Double)]
    seconds: f64,
}

#[derive(QueryableByName)]
struct Name {
    #[diesel(sql_type = Text)]
    name: String,
}

impl Store {
    /// Keeps a new account with the link by which its password is chosen; false if there is a token or account of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_account(
        &self,
        name: &str,
        rights: Rights<'_>,
        made_by: &str,
        link: &[u8],
        until: DateTime<Utc>,
    ) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let added = diesel::sql_query(
            "with added as (insert into accounts (name, role, made_by, suites) select $1, $2, $3, $6 \
             where not exists (select from tokens where name = $1) on conflict do nothing returning name) \
             insert into password_links (hash, account, until) select $4, name, $5 from added",
        )
        .bind::<Text, _>(name)
        .bind::<Text, _>(rights.role)
        .bind::<Text, _>(made_by)
        .bind::<Binary, _>(link)
        .bind::<Timestamptz, _>(until)
        .bind::<Array<Text>, _>(rights.suites);
        // The link refers to a row of the same statement: PostgreSQL checks that at its end.
        Ok(added.execute(&mut c).await? == 1)
    }

    /// All accounts, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn accounts(&self) -> Result<Vec<AccountRow>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select a.name, a.role, a.suites, a.issuer, a.confirmed_at, a.password is not null as chosen, a.made_by, a.made_at, a.seen_at, \
             (select max(l.until) from password_links l where l.account = a.name and l.until > now()) as link_until, \
             (select count(*) from sessions s where s.account = a.name and s.until > now()) as sessions, \
             (select count(*) from tokens t where t.account = a.name) as tokens from accounts a order by a.name",
        )
        .load(&mut c)
        .await?)
    }

    /// Whether there is an account of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn has_account(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let found: Option<String> = accounts::table.find(name).select(accounts::name).first(&mut c).await.optional()?;
        Ok(found.is_some())
    }

    /// The role, the suites and the password's hash of an account; none where there is none, or no password was chosen.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn password_of(&self, name: &str) -> Result<Option<(String, Vec<String>, String)>, Error> {
        let mut c = self.connection().await?;
        let columns = (accounts::role, accounts::suites, accounts::password);
        let found: Option<(String, Vec<String>, Option<String>)> =
            accounts::table.find(name).select(columns).first(&mut c).await.optional()?;
        Ok(found.and_then(|(role, suites, password)| Some((role, suites, password?))))
    }

    /// The account of somebody who signed in at a provider, with the rights that its groups give there: found by `subject`, whatever it is called
    /// there by now, or made. A new one is called `name`, or `name-2` where that is taken; none if many of those are.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn come_in(
        &self,
        issuer: &str,
        subject: &str,
        name: &str,
        rights: Rights<'_>,
    ) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        for number in 1..1000 {
            let found: Option<Name> = diesel::sql_query(
                "update accounts set role = $3, suites = $4, confirmed_at = now() where issuer = $1 and subject = $2 returning name",
            )
            .bind::<Text, _>(issuer)
            .bind::<Text, _>(subject)
            .bind::<Text, _>(rights.role)
            .bind::<Array<Text>, _>(rights.suites)
            .get_result(&mut c)
            .await
            .optional()?;
            if let Some(Name { name }) = found {
                return Ok(Some(name));
            }
            let name = if number == 1 { name.to_owned() } else { format!("{name}-{number}") };
            // Of two browsers at once one makes it, and the other finds it the next time around.
            let added = diesel::sql_query(
                "insert into accounts (name, role, made_by, issuer, subject, suites, confirmed_at) select $4, $3, $1, $1, $2, $5, now() \
                 where not exists (select from tokens where name = $4) on conflict do nothing",
            )
            .bind::<Text, _>(issuer)
            .bind::<Text, _>(subject)
            .bind::<Text, _>(rights.role)
            .bind::<Text, _>(&name)
            .bind::<Array<Text>, _>(rights.suites);
            if added.execute(&mut c).await? == 1 {
                return Ok(Some(name));
            }
        }
        Ok(None)
    }

    /// Somebody who signed in at a provider may come in no more: tells whose account it was, which is signed out, and whose tokens are refused
    /// until they may again.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn stay_out(&self, issuer: &str, subject: &str) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        let found: Option<Name> = diesel::sql_query(
            "with out as (update accounts set confirmed_at = null where issuer = $1 and subject = $2 returning name), \
             over as (delete from sessions s using out where s.account = out.name) select name from out",
        )
        .bind::<Text, _>(issuer)
        .bind::<Text, _>(subject)
        .get_result(&mut c)
        .await
        .optional()?;
        Ok(found.map(|found| found.name))
    }

    /// Where the people of an account sign in, if that is elsewhere; none too if there is no such account.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn issuer_of(&self, name: &str) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        let found: Option<Option<String>> =
            accounts::table.find(name).select(accounts::issuer).first(&mut c).await.optional()?;
        Ok(found.flatten())
    }

    /// Gives an account other rights; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn set_rights(&self, name: &str, rights: Rights<'_>) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let to = (accounts::role.eq(rights.role), accounts::suites.eq(rights.suites));
        let set = diesel::update(accounts::table.find(name)).set(to);
        Ok(set.execute(&mut c).await? == 1)
    }

    /// Removes an account with its sessions and tokens; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_account(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(accounts::table.find(name)).execute(&mut c).await? == 1)
    }

    /// Gives an account a link by which its password is chosen anew; those before it are no longer good. False if there is no such account.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_password_link(&self, name: &str, hash: &[u8], until: DateTime<Utc>) -> Result<bool, Error> {
        if !self.has_account(name).await? {
            return Ok(false);
        }
        let mut c = self.connection().await?;
        diesel::delete(password_links::table.filter(password_links::account.eq(name))).execute(&mut c).await?;
        let row = (password_links::hash.eq(hash), password_links::account.eq(name), password_links::until.eq(until));
        Ok(diesel::insert_into(password_links::table).values(row).execute(&mut c).await? == 1)
    }

    /// The account of a link that is good.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn account_of_link(&self, hash: &[u8]) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        let good = password_links::table.find(hash).filter(password_links::until.gt(Utc::now()));
        Ok(good.select(password_links::account).first(&mut c).await.optional()?)
    }

    /// Sets the password by a link, which is good no more; tells whose it was. All sessions of the account end, and its tokens.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn choose_password(&self, link: &[u8], password: &str) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let found: Option<Name> = diesel::sql_query(
                "delete from password_links where hash = $1 and until > now() returning account as name",
            )
            .bind::<Binary, _>(link)
            .get_result(c)
            .await
            .optional()?;
            let Some(Name { name }) = found else { return Ok(None) };
            diesel::delete(password_links::table.filter(password_links::account.eq(&name))).execute(c).await?;
            diesel::update(accounts::table.find(&name)).set(accounts::password.eq(password)).execute(c).await?;
            diesel::delete(sessions::table.filter(sessions::account.eq(&name))).execute(c).await?;
            diesel::sql_query("delete from tokens where account = $1").bind::<Text, _>(&name).execute(c).await?;
            Ok(Some(name))
        })
        .await
    }

    /// Sets another password of an account. Its sessions end but for one, and its tokens.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn change_password(&self, name: &str, password: &str, but: &[u8]) -> Result<(), Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            diesel::update(accounts::table.find(name)).set(accounts::password.eq(password)).execute(c).await?;
            let others = sessions::table.filter(sessions::account.eq(name)).filter(sessions::hash.ne(but));
            diesel::delete(others).execute(c).await?;
            let others = "delete from tokens where account = $1 and hash <> $2";
            diesel::sql_query(others).bind::<Text, _>(name).bind::<Binary, _>(but).execute(c).await?;
            Ok(())
        })
        .await
    }

    /// Counts that something is tried, unless it has to wait: then it is not to be tried, for so many seconds. Counted before it is
    /// done, so that many at once are no way around it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn try_once(&self, what: &str, slowing: Slowing) -> Result<Result<(), f64>, Error> {
        let mut c = self.connection().await?;
        diesel::sql_query("delete from tries where last < now() - interval '1 day'").execute(&mut c).await?;
        let counted = diesel::sql_query(
            "insert into tries as t (what, count, last) values ($1, 1, now()) on conflict (what) do update \
             set count = case when t.last < now() - interval '1 hour' then 1 else t.count + 1 end, last = now() \
             where t.count < $2 or t.last + make_interval(secs => least(power(2.0::float8, least(t.count - $2, 60)), $3)) <= now()",
        )
        .bind::<Text, _>(what)
        .bind::<Integer, _>(slowing.free)
        .bind::<Double, _>(slowing.longest)
        .execute(&mut c)
        .await?;
        if counted == 1 {
            return Ok(Ok(()));
        }
        let wait: Option<Wait> = diesel::sql_query(
            "select greatest(extract(epoch from last - now())::float8 \
             + least(power(2.0::float8, least(count - $2, 60)), $3), 1)::float8 as seconds from tries where what = $1",
        )
        .bind::<Text, _>(what)
        .bind::<Integer, _>(slowing.free)
        .bind::<Double, _>(slowing.longest)
        .get_result(&mut c)
        .await
        .optional()?;
        Ok(wait.map_or(Ok(()), |wait| Err(wait.seconds)))
    }

    /// Something that was tried went well: it is not counted any more.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn tried_well(&self, what: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::sql_query("delete from tries where what = $1").bind::<Text, _>(what).execute(&mut c).await?;
        Ok(())
    }

    /// Something that was tried went well, and others of the same may not have: it counts once less.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn tried_less(&self, what: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let less = "update tries set count = greatest(count - 1, 0) where what = $1";
        diesel::sql_query(less).bind::<Text, _>(what).execute(&mut c).await?;
        Ok(())
    }

    /// Keeps a session of a browser, and forgets those that are over.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_session(&self, new: &NewSession<'_>) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::delete(sessions::table.filter(sessions::until.lt(Utc::now()))).execute(&mut c).await?;
        let row = (
            sessions::hash.eq(new.hash),
            sessions::token.eq(new.token),
            sessions::account.eq(new.account),
            sessions::until.eq(new.until),
            sessions::about.eq(new.about),
            sessions::address.eq(new.address),
        );
        diesel::insert_into(sessions::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// Browsers that are signed in, of one account or token or of all, those that were seen last first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn sessions(&self, who: Option<&str>) -> Result<Vec<SessionRow>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select s.id, s.hash, coalesce(s.account, t.account, s.token) as who, s.account is null as by_token, s.about, s.address, s.made_at, \
             s.seen_at, s.until from sessions s left join tokens t on t.name = s.token \
             where s.until > now() and ($1 is null or coalesce(s.account, t.account, s.token) = $1) order by s.seen_at desc, s.id limit 1000",
        )
        .bind::<Nullable<Text>, _>(who)
        .load(&mut c)
        .await?)
    }

    /// Ends a session by its number: of one account or token, or of anybody. False if there is none.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn end_session(&self, id: i64, who: Option<&str>) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let ended = diesel::sql_query(
            "delete from sessions s where s.id = $1 and ($2 is null or coalesce(s.account, (select t.account from tokens t where t.name = s.token), s.token) = $2)",
        )
        .bind::<BigInt, _>(id)
        .bind::<Nullable<Text>, _>(who);
        Ok(ended.execute(&mut c).await? == 1)
    }
}
