//! Suites, their sources, and the lists of their tests.

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, PgExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper,
};
use kesmo_core::{source::GitSource, suite::ListedTest};

use crate::{
    Error, Store, content, json,
    query::RunQueryDsl,
    schema::{listings, sources, suites},
};

/// A suite as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = suites, check_for_backend(diesel::pg::Pg))]
pub struct SuiteRow {
    pub id: i64,
    pub slug: String,
    pub about: String,
    pub source: String,
    pub added_at: DateTime<Utc>,
    pub last_run: i32,
    pub removed: bool,
    /// What starting a process cost in its latest runs, in microseconds.
    pub start_cost_us: Option<i64>,
    /// How often its records changed.
    pub stamp: i64,
    /// Where its files come from in version control.
    pub git: Option<serde_json::Value>,
    /// What is wrong with that, if something is.
    pub trouble: Option<String>,
}

impl SuiteRow {
    /// Where its files come from in version control.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn git_source(&self) -> Result<Option<GitSource>, Error> {
        self.git.clone().map(content).transpose()
    }
}

impl Store {
    /// Keeps what a bundle's `kesmo.toml` says.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_source(&self, digest: &str, suite_file: &str) -> Result<(), Error> {
        let row = (sources::digest.eq(digest), sources::suite_file.eq(suite_file));
        let mut c = self.connection().await?;
        diesel::insert_into(sources::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        Ok(())
    }

    /// The text of the `kesmo.toml` of a bundle.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn suite_file(&self, digest: &str) -> Result<Option<String>, Error> {
        let mut c = self.connection().await?;
        let found = sources::table.find(digest).select(sources::suite_file);
        Ok(found.first(&mut c).await.optional()?)
    }

    /// Adds a suite, or gives the one of that name new files. With `keep` a suite that is there stays as it is.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_suite(&self, slug: &str, about: &str, source: &str, keep: bool) -> Result<SuiteRow, Error> {
        if keep && let Some(row) = self.suite(slug).await? {
            return Ok(row);
        }
        let mut c = self.connection().await?;
        let row = (suites::slug.eq(slug), suites::about.eq(about), suites::source.eq(source));
        let again = (
            suites::about.eq(about),
            suites::source.eq(source),
            suites::added_at.eq(Utc::now()),
            suites::removed.eq(false),
        );
        let put = diesel::insert_into(suites::table).values(row).on_conflict(suites::slug).do_update().set(again);
        Ok(put.returning(SuiteRow::as_returning()).get_result(&mut c).await?)
    }

    /// Says where a suite's files come from in version control; with `None`, that they do not.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_git(&self, suite_id: i64, git: Option<&GitSource>) -> Result<(), Error> {
        let git = git.map(json).transpose()?;
        let mut c = self.connection().await?;
        let none: Option<String> = None;
        let set = (suites::git.eq(git), suites::trouble.eq(none));
        diesel::update(suites::table.find(suite_id)).set(set).execute(&mut c).await?;
        Ok(())
    }

    /// Gives a suite new files.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_source(&self, suite_id: i64, about: &str, source: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let other = suites::table.find(suite_id).filter(suites::source.ne(source));
        diesel::update(other).set((suites::source.eq(source), suites::about.eq(about))).execute(&mut c).await?;
        Ok(())
    }

    /// Says what is wrong with a suite's source, or that nothing is.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_trouble(&self, suite_id: i64, trouble: Option<&str>) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let other = suites::table.find(suite_id).filter(suites::trouble.is_distinct_from(trouble));
        diesel::update(other).set(suites::trouble.eq(trouble)).execute(&mut c).await?;
        Ok(())
    }

    /// The suite of that id, also one that was removed.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn suite_of(&self, id: i64) -> Result<Option<SuiteRow>, Error> {
        let mut c = self.connection().await?;
        Ok(suites::table.find(id).select(SuiteRow::as_select()).first(&mut c).await.optional()?)
    }

    /// What starting a process cost in a suite's latest runs, in microseconds.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn start_cost(&self, suite_id: i64) -> Result<Option<i64>, Error> {
        let mut c = self.connection().await?;
        Ok(suites::table.find(suite_id).select(suites::start_cost_us).first(&mut c).await.optional()?.flatten())
    }

    /// The suite of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn suite(&self, slug: &str) -> Result<Option<SuiteRow>, Error> {
        let mut c = self.connection().await?;
        let found = suites::table.filter(suites::slug.eq(slug)).filter(suites::removed.eq(false));
        Ok(found.select(SuiteRow::as_select()).first(&mut c).await.optional()?)
    }

    /// All suites, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn suites(&self) -> Result<Vec<SuiteRow>, Error> {
        let mut c = self.connection().await?;
        let all = suites::table.filter(suites::removed.eq(false)).order(suites::slug);
        Ok(all.select(SuiteRow::as_select()).load(&mut c).await?)
    }

    /// Takes a suite out of the list; its runs can still be read. False if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_suite(&self, slug: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let found = suites::table.filter(suites::slug.eq(slug)).filter(suites::removed.eq(false));
        Ok(diesel::update(found).set(suites::removed.eq(true)).execute(&mut c).await? == 1)
    }

    /// The tests of a list, if it is known.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or what is kept cannot be read.
    pub async fn listing(&self, key: &str) -> Result<Option<Vec<ListedTest>>, Error> {
        let mut c = self.connection().await?;
        let found: Option<serde_json::Value> =
            listings::table.find(key).select(listings::tests).first(&mut c).await.optional()?;
        found.map(content).transpose()
    }

    /// Whether a list is known.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn has_listing(&self, key: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        // One that is asked for stays for as long as a new one does.
        let touch = diesel::update(listings::table.find(key)).set(listings::listed_at.eq(chrono::Utc::now()));
        Ok(touch.execute(&mut c).await? == 1)
    }
}
