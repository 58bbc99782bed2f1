//! Runs: made, found, listed.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, PgJsonbExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Double, Integer, Nullable, Text},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use kesmo_core::{
    plan::{
        At, Park, RunOptions,
        brief::{Follow, Origin},
    },
    source::GitSource,
    suite::container::Image,
};

use crate::{
    Error, Store, content, ensure_month, json, month_of,
    query::RunQueryDsl,
    schema::{run_notes, runs, suites},
};

/// A run as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = runs, check_for_backend(diesel::pg::Pg))]
pub struct RunRow {
    pub id: i64,
    pub suite_id: i64,
    pub number: i32,
    /// The bundle of its files; none before they are fetched from version control.
    pub source: Option<String>,
    pub pool: String,
    pub options: serde_json::Value,
    pub labels: serde_json::Value,
    pub seed: i64,
    pub started_by: String,
    pub phase: String,
    pub verdict: Option<String>,
    pub reason: String,
    pub listings: Vec<String>,
    pub listed: i32,
    pub tally: serde_json::Value,
    pub stats: serde_json::Value,
    pub strip: String,
    pub created_at: DateTime<Utc>,
    pub began_at: Option<DateTime<Utc>>,
    pub finished_at: Option<DateTime<Utc>>,
    /// The parks that held when it was made.
    pub parks: serde_json::Value,
    /// Where its files come from in version control.
    pub git: Option<serde_json::Value>,
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub origin: serde_json::Value,
    pub brief: Option<String>,
    pub schedule_id: Option<i64>,
    /// What is to follow it; none once that is done.
    pub follow: Option<serde_json::Value>,
    /// The first run of its chain.
    pub chain: Option<i64>,
    pub stop_asked: Option<String>,
    pub rank: Option<f64>,
    /// The images that it has settled on.
    pub images: serde_json::Value,
}

impl RunRow {
    /// What started it.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn origin(&self) -> Result<Origin, Error> {
        content(self.origin.clone())
    }

    /// Where its files come from in version control.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn git_source(&self) -> Result<Option<GitSource>, Error> {
        self.git.clone().map(content).transpose()
    }

    /// What is to follow it.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn to_follow(&self) -> Result<Option<Follow>, Error> {
        self.follow.clone().map(content).transpose()
    }

    /// Its place in the queue: smaller ones come first.
    #[must_use]
    pub fn place(&self) -> f64 {
        self.rank.unwrap_or(self.id as f64)
    }

    /// What the start asked for.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn run_options(&self) -> Result<RunOptions, Error> {
        content(self.options.clone())
    }

    /// The images that it has settled on.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn images(&self) -> Result<Vec<Image>, Error> {
        content(self.images.clone())
    }

    /// The parks of its suite that held in it when it was made, and those that were over.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn parks_then(&self) -> Result<Vec<Park>, Error> {
        let parks: Vec<Park> = content(self.parks.clone())?;
        let options = self.run_options()?;
        let at = At { env: options.env.as_deref(), pool: &self.pool, branch: self.branch.as_deref() };
        Ok(parks.into_iter().filter(|park| park.only.holds(at)).collect())
    }
}

/// A run with the name of its suite.
pub type NamedRun = (RunRow, String);

/// What a new run is made from.
#[derive(Debug, Clone, Default)]
pub struct NewRun {
    pub suite_id: i64,
    /// None: its files are fetched from `git` first.
    pub source: Option<String>,
    pub git: Option<GitSource>,
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub pool: String,
    pub options: RunOptions,
    pub seed: i64,
    pub started_by: String,
    pub parks: Vec<Park>,
    pub origin: Origin,
    pub schedule_id: Option<i64>,
    pub follow: Option<Follow>,
    pub chain: Option<i64>,
    /// When it was made, if not now.
    pub at: Option<DateTime<Utc>>,
}

/// Which runs to list, newest first.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// The names of suites; none: all.
    pub suites: Option<Vec<String>>,
    pub verdict: Option<String>,
    /// Labels that a run must have.
    pub labels: std::collections::BTreeMap<String, String>,
    pub limit: i64,
    pub skip: i64,
}

impl Store {
    /// Makes a run, queued, with its suite's next number.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_run(&self, new: &NewRun) -> Result<RunRow, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| insert(c, new).await).await
    }

    /// The run of that suite and number.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn run(&self, suite: &str, number: i32) -> Result<Option<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let found =
            runs::table.inner_join(suites::table).filter(suites::slug.eq(suite)).filter(runs::number.eq(number));
        Ok(found.select((RunRow::as_select(), suites::slug)).first(&mut c).await.optional()?)
    }

    /// The run of that id.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn run_of(&self, id: i64) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        Ok(runs::table.find(id).select(RunRow::as_select()).first(&mut c).await.optional()?)
    }

    /// Runs, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn runs(&self, filter: &Filter) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let mut query = runs::table.inner_join(suites::table).into_boxed();
        if let Some(suites) = &filter.suites {
            query = query.filter(suites::slug.eq_any(suites));
        }
        if let Some(verdict) = &filter.verdict {
            query = query.filter(runs::verdict.eq(verdict));
        }
        if !filter.labels.is_empty() {
            query = query.filter(runs::labels.contains(json(&filter.labels)?));
        }
        let page = query.order(runs::id.desc()).limit(filter.limit).offset(filter.skip);
        Ok(page.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// The latest runs of each suite, newest first, at most `most` of each. Those of hunts are left out: they repeat a failure
    /// on purpose, and say nothing of how the suite does.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn last_runs(&self, suite_ids: &[i64], most: i64) -> Result<Vec<RunRow>, Error> {
        let mut c = self.connection().await?;
        let latest: Vec<Id> = diesel::sql_query(
            "select r.id from unnest($1) as s (id) cross join lateral (select id from runs where suite_id = s.id \
             and not jsonb_exists(labels, 'hunt') order by id desc limit $2) as r",
        )
        .bind::<Array<BigInt>, _>(suite_ids)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?;
        let of = runs::table.filter(runs::id.eq_any(latest.into_iter().map(|r| r.id).collect::<Vec<_>>()));
        Ok(of.order(runs::id.desc()).select(RunRow::as_select()).load(&mut c).await?)
    }

    /// The latest run of each brief that has one, with their suites' names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn last_runs_of_briefs(&self, briefs: &[&str]) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let latest: Vec<Id> = diesel::sql_query(
            "select r.id from unnest($1) as b (name) cross join lateral \
             (select id from runs where brief = b.name order by id desc limit 1) as r",
        )
        .bind::<Array<Text>, _>(briefs)
        .load(&mut c)
        .await?;
        let ids: Vec<i64> = latest.into_iter().map(|r| r.id).collect();
        let found = runs::table.inner_join(suites::table).filter(runs::id.eq_any(ids));
        Ok(found.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// What went wrong beside the tests and fails a run, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn wrongs(&self, run_id: i64) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let of = run_notes::table.filter(run_notes::run_id.eq(run_id)).filter(run_notes::fails.eq(true));
        Ok(of.order(run_notes::id).select(run_notes::text).limit(1000).load(&mut c).await?)
    }

    /// The remarks of a run, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notes(&self, run_id: i64) -> Result<Vec<String>, Error> {
        let mut c = self.connection().await?;
        let found = run_notes::table.filter(run_notes::run_id.eq(run_id)).order(run_notes::id).select(run_notes::text);
        Ok(found.limit(1000).load(&mut c).await?)
    }
}

#[derive(diesel::QueryableByName)]
struct Id {
    #[diesel(sql_type = BigInt)]
    id: i64,
}

/// Makes a row, within a transaction.
pub(crate) async fn insert(c: &mut AsyncPgConnection, new: &NewRun) -> Result<RunRow, Error> {
    let mut rows = insert_all(c, std::slice::from_ref(new)).await?;
    rows.pop().ok_or_else(|| Error::Content("a run was made and is not there".into()))
}

/// Makes rows in their order, within a transaction: each suite's numbers are drawn at once.
pub(crate) async fn insert_all(c: &mut AsyncPgConnection, new: &[NewRun]) -> Result<Vec<RunRow>, Error> {
    // In the order of their ids, so that two who draw at once do not wait for each other in a circle.
    let mut wanted: BTreeMap<i64, i32> = BTreeMap::new();
    for run in new {
        *wanted.entry(run.suite_id).or_default() += 1;
    }
    let mut next: BTreeMap<i64, i32> = BTreeMap::new();
    for (suite, count) in wanted {
        let last: i32 = diesel::update(suites::table.find(suite))
            .set(suites::last_run.eq(suites::last_run + count))
            .returning(suites::last_run)
            .get_result(c)
            .await?;
        next.insert(suite, last - count + 1);
    }
    let now = Utc::now();
    let mut rows = Vec::new();
    for run in new {
        let number = next.get_mut(&run.suite_id).map_or(1, |n| std::mem::replace(n, *n + 1));
        rows.push((
            (
                runs::suite_id.eq(run.suite_id),
                runs::number.eq(number),
                runs::source.eq(&run.source),
                runs::pool.eq(&run.pool),
                runs::options.eq(json(&run.options)?),
                runs::labels.eq(json(&run.options.labels)?),
                runs::seed.eq(run.seed),
                runs::started_by.eq(&run.started_by),
                runs::created_at.eq(run.at.unwrap_or(now)),
                runs::parks.eq(json(&run.parks)?),
            ),
            (
                runs::git.eq(run.git.as_ref().map(json).transpose()?),
                runs::branch.eq(&run.branch),
                runs::commit.eq(&run.commit),
                runs::origin.eq(json(&run.origin)?),
                runs::brief.eq(&run.origin.brief),
                runs::schedule_id.eq(run.schedule_id),
                runs::follow.eq(run.follow.as_ref().map(json).transpose()?),
                runs::chain.eq(run.chain),
            ),
        ));
    }
    let made: Vec<RunRow> =
        diesel::insert_into(runs::table).values(rows).returning(RunRow::as_returning()).get_results(c).await?;
    for (row, run) in made.iter().zip(new) {
        if run.origin.replace_older && (row.source.is_some() || row.commit.is_some()) {
            stop_older(c, row).await?;
        }
    }
    Ok(made)
}

/// Asks for an end of the runs of a run's brief and branch that were made before it, of other commits, and are not over.
async fn stop_older(c: &mut AsyncPgConnection, row: &RunRow) -> Result<(), Error> {
    diesel::sql_query(
        "update runs set stop_asked = 'replaced by ' || suites.slug || '/' || $4 from suites where suites.id = $5 \
         and runs.phase <> 'finished' and runs.brief = $1 and runs.branch is not distinct from $2 and runs.id < $3 \
         and (runs.commit is distinct from $6 or runs.commit is null) and runs.stop_asked is null",
    )
    .bind::<Nullable<Text>, _>(&row.brief)
    .bind::<Nullable<Text>, _>(&row.branch)
    .bind::<BigInt, _>(row.id)
    .bind::<Integer, _>(row.number)
    .bind::<BigInt, _>(row.suite_id)
    .bind::<Nullable<Text>, _>(&row.commit)
    .execute(c)
    .await?;
    Ok(())
}

/// What is new about a run that is not over, for the service that carries it out.
#[derive(Debug, Clone, diesel::QueryableByName)]
pub struct OpenRun {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Text)]
    pub pool: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub stop_asked: Option<String>,
    #[diesel(sql_type = Nullable<Double>)]
    pub rank: Option<f64>,
}

impl Store {
    /// All runs that are not over, as far as a service looks at them again and again.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn open_runs(&self) -> Result<Vec<OpenRun>, Error> {
        let mut c = self.connection().await?;
        let query = "select id, pool, stop_asked, rank from runs where phase <> 'finished' order by id";
        Ok(diesel::sql_query(query).load(&mut c).await?)
    }

    /// Those runs, with their suites' names.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn runs_of(&self, ids: &[i64]) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let found = runs::table.inner_join(suites::table).filter(runs::id.eq_any(ids)).order(runs::id);
        Ok(found.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// Asks whichever service carries a run out to stop it; false if it is over.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn ask_to_stop(&self, run_id: i64, why: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let open = runs::table.find(run_id).filter(runs::phase.ne("finished"));
        Ok(diesel::update(open).set(runs::stop_asked.eq(why)).execute(&mut c).await? == 1)
    }

    /// Pins a run to a commit and its files, and asks for an end of older runs where the run replaces them. False if the run
    /// was pinned before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn pin_run(
        &self,
        run_id: i64,
        source: &str,
        branch: Option<&str>,
        commit: &str,
    ) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let open = runs::table.find(run_id).filter(runs::source.is_null()).filter(runs::phase.ne("finished"));
            let set = (runs::source.eq(source), runs::branch.eq(branch), runs::commit.eq(commit));
            let row: Option<RunRow> =
                diesel::update(open).set(set).returning(RunRow::as_returning()).get_result(c).await.optional()?;
            if let Some(row) = &row
                && row.origin()?.replace_older
            {
                stop_older(c, row).await?;
            }
            Ok(row)
        })
        .await
    }

    /// Runs that are over and that a brief is to follow, oldest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn runs_to_follow(&self, most: i64) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let over = runs::table.inner_join(suites::table).filter(runs::phase.eq("finished"));
        let found = over.filter(runs::follow.is_not_null()).order(runs::id).limit(most);
        Ok(found.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// Starts what follows a run, or notes why nothing does; nothing if that was done before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn follow(&self, run_id: i64, next: Option<&NewRun>, note: &str) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let none: Option<serde_json::Value> = None;
            let open = runs::table.find(run_id).filter(runs::follow.is_not_null());
            if diesel::update(open).set(runs::follow.eq(none)).execute(c).await? == 0 {
                return Ok(None);
            }
            if !note.is_empty() {
                let values = (run_notes::run_id.eq(run_id), run_notes::text.eq(note));
                diesel::insert_into(run_notes::table).values(values).execute(c).await?;
            }
            match next {
                Some(next) => {
                    let first = next.chain.unwrap_or(run_id);
                    diesel::update(runs::table.find(run_id)).set(runs::chain.eq(first)).execute(c).await?;
                    insert(c, next).await.map(Some)
                }
                None => Ok(None),
            }
        })
        .await
    }

    /// The runs of a chain, in order.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn chain(&self, first: i64) -> Result<Vec<NamedRun>, Error> {
        let mut c = self.connection().await?;
        let all = runs::table.inner_join(suites::table).filter(runs::chain.eq(first)).order(runs::id).limit(100);
        Ok(all.select((RunRow::as_select(), suites::slug)).load(&mut c).await?)
    }

    /// Puts a run at a place in the queue.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_rank(&self, run_id: i64, rank: f64) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::update(runs::table.find(run_id)).set(runs::rank.eq(rank)).execute(&mut c).await?;
        Ok(())
    }
}
