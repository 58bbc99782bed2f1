//! Values that runs need and nobody may read back; and the secrets of webhooks, notices and pools. All are sealed.

use base64::{Engine, engine::general_purpose::STANDARD};
use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, Queryable, Selectable, SelectableHelper, upsert::excluded,
};

use crate::{
    Error, Store,
    query::RunQueryDsl,
    schema::{notices, pools, secrets, webhooks},
    vault::is_sealed,
};

/// A secret, without its value.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = secrets, check_for_backend(diesel::pg::Pg))]
pub struct SecretRow {
    pub name: String,
    /// Only runs of these suites or briefs are given it; with neither, any.
    pub suites: Vec<String>,
    pub briefs: Vec<String>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub changed_at: DateTime<Utc>,
    pub used_at: Option<DateTime<Utc>>,
    /// Where git uses it: addresses that begin so. It is given to no run then.
    pub git: Option<String>,
}

impl SecretRow {
    /// Whether runs of a suite, started by a brief, are given it.
    #[must_use]
    pub fn is_for(&self, suite: &str, brief: Option<&str>) -> bool {
        let any = self.suites.is_empty() && self.briefs.is_empty();
        any || self.suites.iter().any(|s| s == suite) || brief.is_some_and(|b| self.briefs.iter().any(|one| one == b))
    }
}

/// What pools keep as text begins so where it is sealed.
const TEXT: &str = "sealed:";

impl Store {
    /// Seals a value under a name, where this store has keys; else it stays as it is.
    pub(crate) fn sealed(&self, name: &str, value: &[u8]) -> Result<Vec<u8>, Error> {
        self.vault.as_ref().map_or_else(|| Ok(value.to_vec()), |vault| vault.seal(name, value))
    }

    /// Opens a value; one that was kept before values were sealed is as it is.
    pub(crate) fn unsealed(&self, name: &str, kept: Vec<u8>) -> Result<Vec<u8>, Error> {
        if !is_sealed(&kept) {
            return Ok(kept);
        }
        let vault = self.vault.as_ref();
        vault.ok_or_else(|| Error::Content(format!("{name} is sealed, and there is no key here")))?.unseal(name, &kept)
    }

    /// The same for text.
    pub(crate) fn sealed_text(&self, name: &str, value: &str) -> Result<String, Error> {
        let sealed = self.sealed(name, value.as_bytes())?;
        Ok(if is_sealed(&sealed) { format!("{TEXT}{}", STANDARD.encode(sealed)) } else { value.to_owned() })
    }

    /// The same for text.
    pub(crate) fn unsealed_text(&self, name: &str, kept: String) -> Result<String, Error> {
        let Some(sealed) = kept.strip_prefix(TEXT).and_then(|text| STANDARD.decode(text).ok()) else { return Ok(kept) };
        String::from_utf8(self.unsealed(name, sealed)?).map_err(|_| Error::Content(format!("{name} is no text")))
    }

    /// Keeps a secret, or changes the one of that name if that is wanted; false if there is one and it is not.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or there is no key.
    pub async fn put_secret(
        &self,
        name: &str,
        value: &str,
        places: (&[String], &[String]),
        git: Option<&str>,
        by: &str,
        replace: bool,
    ) -> Result<bool, Error> {
        let sealed = self.sealed(&sealed_as("secret", name), value.as_bytes())?;
        if !is_sealed(&sealed) {
            return Err(Error::Content("there is no key to seal with".into()));
        }
        let row = (
            secrets::name.eq(name),
            secrets::sealed.eq(sealed),
            secrets::suites.eq(places.0),
            secrets::briefs.eq(places.1),
            secrets::git.eq(git),
            secrets::made_by.eq(by),
        );
        let mut c = self.connection().await?;
        let new = diesel::insert_into(secrets::table).values(row);
        let written = if replace {
            let changed = (
                secrets::sealed.eq(excluded(secrets::sealed)),
                secrets::suites.eq(excluded(secrets::suites)),
                secrets::briefs.eq(excluded(secrets::briefs)),
                secrets::git.eq(excluded(secrets::git)),
                secrets::changed_at.eq(Utc::now()),
            );
            new.on_conflict(secrets::name).do_update().set(changed).execute(&mut c).await?
        } else {
            new.on_conflict(secrets::name).do_nothing().execute(&mut c).await?
        };
        Ok(written == 1)
    }

    /// All secrets by their names, without their values.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn secrets(&self) -> Result<Vec<SecretRow>, Error> {
        let mut c = self.connection().await?;
        Ok(secrets::table.order(secrets::name).select(SecretRow::as_select()).load(&mut c).await?)
    }

    /// Removes a secret; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_secret(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(secrets::table.find(name)).execute(&mut c).await? == 1)
    }

    /// The value of a secret, for a run of that suite that a brief started; none if there is no such secret. That it was used is noted.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, the value cannot be opened, or the secret is for other suites and briefs: then in words for the run.
    pub async fn secret_for(&self, name: &str, suite: &str, brief: Option<&str>) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        let of = secrets::table.find(name).select((SecretRow::as_select(), secrets::sealed));
        let Some((row, sealed)) = of.first::<(SecretRow, Vec<u8>)>(&mut c).await.optional()? else { return Ok(None) };
        if let Some(place) = &row.git {
            return Err(Error::Content(format!("the secret {name} is for git at {place}, and given to no run")));
        }
        if !row.is_for(suite, brief) {
            return Err(Error::Content(format!(
                "the secret {name} is not for runs of {suite} (an admin says for which: kesmo secret add {name} --replace --suite {suite})"
            )));
        }
        let value = self.unsealed(&sealed_as("secret", name), sealed)?;
        diesel::update(secrets::table.find(name)).set(secrets::used_at.eq(Utc::now())).execute(&mut c).await?;
        String::from_utf8(value).map(Some).map_err(|_| Error::Content(format!("the secret {name} is no text")))
    }

    /// The secret with which git calls an address (as [`kesmo_core::source::plain_address`] writes it): the one that is kept for the
    /// longest beginning of it. That it was used is noted.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or the value cannot be opened.
    pub async fn secret_for_git(&self, address: &str) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        let kept: Vec<(String, Option<String>)> = secrets::table
            .filter(secrets::git.is_not_null())
            .select((secrets::name, secrets::git))
            .load(&mut c)
            .await?;
        let begins = |start: &str| {
            address
                .strip_prefix(start)
                .is_some_and(|rest| start.ends_with('/') || rest.is_empty() || rest.starts_with('/'))
        };
        let fitting = kept.into_iter().filter_map(|(name, git)| Some((name, git.filter(|start| begins(start))?)));
        let Some((name, _)) = fitting.max_by_key(|(_, start)| start.len()) else { return Ok(None) };
        let of = secrets::table.find(&name).select(secrets::sealed);
        let Some(sealed) = of.first::<Vec<u8>>(&mut c).await.optional()? else { return Ok(None) };
        let value = self.unsealed(&sealed_as("secret", &name), sealed)?;
        diesel::update(secrets::table.find(&name)).set(secrets::used_at.eq(Utc::now())).execute(&mut c).await?;
        String::from_utf8(value).map(Some).map_err(|_| Error::Content(format!("the secret {name} is no text")))
    }

    /// Seals again what is not sealed, or with another key than the one that seals now; tells how many that were.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or something cannot be opened.
    pub async fn seal_again(&self) -> Result<usize, Error> {
        let Some(vault) = &self.vault else { return Ok(0) };
        let mut c = self.connection().await?;
        let mut count = 0;
        // Each is written only if it is still what was read: somebody may have changed it meanwhile.
        let kept: Vec<(String, Vec<u8>)> = secrets::table.select((secrets::name, secrets::sealed)).load(&mut c).await?;
        for (name, before) in kept.into_iter().filter(|(_, sealed)| !vault.is_current(sealed)) {
            let under = sealed_as("secret", &name);
            let now = self.sealed(&under, &self.unsealed(&under, before.clone())?)?;
            let of = diesel::update(secrets::table.find(&name)).filter(secrets::sealed.eq(before));
            count += of.set(secrets::sealed.eq(now)).execute(&mut c).await?;
        }
        let kept: Vec<(String, Vec<u8>)> =
            webhooks::table.select((webhooks::name, webhooks::secret)).load(&mut c).await?;
        for (name, before) in kept.into_iter().filter(|(_, sealed)| !vault.is_current(sealed)) {
            let under = sealed_as("webhook", &name);
            let now = self.sealed(&under, &self.unsealed(&under, before.clone())?)?;
            let of =
                diesel::update(webhooks::table.filter(webhooks::name.eq(&name)).filter(webhooks::secret.eq(before)));
            count += of.set(webhooks::secret.eq(now)).execute(&mut c).await?;
        }
        let kept: Vec<(String, Option<Vec<u8>>)> =
            notices::table.select((notices::name, notices::secret)).load(&mut c).await?;
        for (name, before) in kept {
            let Some(before) = before.filter(|sealed| !vault.is_current(sealed)) else { continue };
            let under = sealed_as("notice", &name);
            let now = self.sealed(&under, &self.unsealed(&under, before.clone())?)?;
            let of = diesel::update(notices::table.filter(notices::name.eq(&name)).filter(notices::secret.eq(before)));
            count += of.set(notices::secret.eq(now)).execute(&mut c).await?;
        }
        let kept: Vec<(String, Option<String>)> =
            pools::table.select((pools::name, pools::secret)).load(&mut c).await?;
        let current = |text: &str| {
            let sealed = text.strip_prefix(TEXT).and_then(|text| STANDARD.decode(text).ok());
            sealed.is_some_and(|sealed| vault.is_current(&sealed))
        };
        for (name, before) in kept {
            let Some(before) = before.filter(|text| !current(text)) else { continue };
            let under = sealed_as("pool", &name);
            let now = self.sealed_text(&under, &self.unsealed_text(&under, before.clone())?)?;
            let of = diesel::update(pools::table.find(&name)).filter(pools::secret.eq(before));
            count += of.set(pools::secret.eq(now)).execute(&mut c).await?;
        }
        Ok(count)
    }

    /// How often it is worth reading the keys again.
    #[must_use]
    pub fn read_keys_every(&self) -> std::time::Duration {
        self.vault.as_ref().map_or(std::time::Duration::from_secs(3600), crate::vault::Vault::read_every)
    }

    /// Reads the keys again; tells whether another one seals from now on.
    ///
    /// # Errors
    /// In words, if they cannot be read.
    pub fn read_keys_again(&self) -> Result<bool, String> {
        self.vault.as_ref().map_or(Ok(false), crate::vault::Vault::read_again)
    }
}

/// Under what a thing's secret is sealed, so that one cannot be put in another's place.
pub(crate) fn sealed_as(kind: &str, name: &str) -> String {
    format!("{kind} {name}")
}
