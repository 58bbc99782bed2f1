//! Schedules and what became of their planned starts.
//!
//! A planned start is done in one transaction: its row, its run, and the schedule's next one. The transaction begins by
//! locking the schedule and looking whether its next start is still the one that was decided about, so that of two services
//! one does it, and a service that is killed has either done it or not begun.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, PgExpressionMethods, QueryDsl, Queryable, QueryableByName, Selectable,
    SelectableHelper,
    sql_types::{Array, BigInt, Text, Timestamptz},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use kesmo_core::{
    calendar::schedule::{Schedule, Times},
    plan::brief::Changes,
};

use crate::{
    Error, Store, content, ensure_month, json, month_of,
    query::RunQueryDsl,
    runs::{NewRun, RunRow, insert_all},
    schema::{planned_starts, runs, schedules},
};

/// A schedule as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = schedules, check_for_backend(diesel::pg::Pg))]
pub struct ScheduleRow {
    pub id: i64,
    pub name: String,
    pub brief: Option<String>,
    pub suite: Option<String>,
    pub changes: serde_json::Value,
    pub times: serde_json::Value,
    pub paused: bool,
    pub next_at: Option<DateTime<Utc>>,
    pub run_id: Option<i64>,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
}

impl ScheduleRow {
    /// When it starts something, as it was written.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn times(&self) -> Result<Times, Error> {
        content(self.times.clone())
    }

    /// What it changes in its brief.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn changes(&self) -> Result<Changes, Error> {
        content(self.changes.clone())
    }

    /// When it starts something.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn schedule(&self) -> Result<Schedule, Error> {
        Schedule::parse(&self.name, &self.times()?).map_err(|e| Error::Content(e.to_string()))
    }
}

/// A planned start as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = planned_starts, check_for_backend(diesel::pg::Pg))]
pub struct PlannedRow {
    pub id: i64,
    pub schedule_id: i64,
    pub planned_at: DateTime<Utc>,
    pub to_at: DateTime<Utc>,
    pub count: i32,
    pub what: String,
    pub why: String,
    pub run_id: Option<i64>,
    pub at: DateTime<Utc>,
}

/// What a schedule is made from.
#[derive(Debug, Clone)]
pub struct NewSchedule<'a> {
    pub name: &'a str,
    pub brief: Option<&'a str>,
    pub suite: Option<&'a str>,
    pub changes: &'a Changes,
    pub times: &'a Times,
    pub next_at: Option<DateTime<Utc>>,
    pub made_by: &'a str,
}

/// A row of a planned start, as decided.
#[derive(Debug, Clone)]
pub struct NewPlanned {
    pub planned_at: DateTime<Utc>,
    pub to_at: DateTime<Utc>,
    pub count: i32,
    pub what: &'static str,
    pub why: String,
}

/// What was decided about the starts of a schedule that are due.
#[derive(Debug, Clone)]
pub struct Firing {
    pub schedule_id: i64,
    /// What its next start was when it was decided; another value means that somebody else did it.
    pub expected: DateTime<Utc>,
    pub rows: Vec<NewPlanned>,
    /// The run of the row that starts, if one does.
    pub run: Option<NewRun>,
    pub next_at: Option<DateTime<Utc>>,
    /// A run that is to be stopped for it.
    pub stop: Option<(i64, String)>,
}

/// A start that waits for a run to be over.
#[derive(Debug, Clone, QueryableByName)]
pub struct Waiting {
    #[diesel(sql_type = BigInt)]
    pub planned_id: i64,
    #[diesel(sql_type = BigInt)]
    pub schedule_id: i64,
    #[diesel(sql_type = Timestamptz)]
    pub planned_at: DateTime<Utc>,
}

/// A schedule whose last run is over, and that starts again some time after that.
#[derive(Debug, Clone, QueryableByName)]
pub struct Ended {
    #[diesel(sql_type = BigInt)]
    pub schedule_id: i64,
    #[diesel(sql_type = Timestamptz)]
    pub finished_at: DateTime<Utc>,
}

impl Store {
    /// Saves a schedule. With `replace` one of that name is changed; its history stays. None if the name is taken.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_schedule(&self, new: NewSchedule<'_>, replace: bool) -> Result<Option<ScheduleRow>, Error> {
        let mut c = self.connection().await?;
        let set = (
            schedules::brief.eq(new.brief),
            schedules::suite.eq(new.suite),
            schedules::changes.eq(json(new.changes)?),
            schedules::times.eq(json(new.times)?),
            schedules::next_at.eq(new.next_at),
        );
        let row = (schedules::name.eq(new.name), schedules::made_by.eq(new.made_by), set.clone());
        let insert = diesel::insert_into(schedules::table).values(row).on_conflict(schedules::name);
        if replace {
            let put = insert.do_update().set(set).returning(ScheduleRow::as_returning());
            return Ok(Some(put.get_result(&mut c).await?));
        }
        Ok(insert.do_nothing().returning(ScheduleRow::as_returning()).get_result(&mut c).await.optional()?)
    }

    /// The schedule of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn schedule(&self, name: &str) -> Result<Option<ScheduleRow>, Error> {
        let mut c = self.connection().await?;
        let found = schedules::table.filter(schedules::name.eq(name)).select(ScheduleRow::as_select());
        Ok(found.first(&mut c).await.optional()?)
    }

    /// The schedules of those ids.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn schedules_of(&self, ids: &[i64]) -> Result<Vec<ScheduleRow>, Error> {
        let mut c = self.connection().await?;
        let found = schedules::table.filter(schedules::id.eq_any(ids)).order(schedules::id);
        Ok(found.select(ScheduleRow::as_select()).load(&mut c).await?)
    }

    /// All schedules, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn schedules(&self) -> Result<Vec<ScheduleRow>, Error> {
        let mut c = self.connection().await?;
        Ok(schedules::table.order(schedules::name).select(ScheduleRow::as_select()).load(&mut c).await?)
    }

    /// Removes a schedule with its history; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_schedule(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(schedules::table.filter(schedules::name.eq(name))).execute(&mut c).await? == 1)
    }

    /// Pauses a schedule, or goes on with it from its next start on.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn pause_schedule(
        &self,
        id: i64,
        paused: bool,
        next_at: Option<DateTime<Utc>>,
    ) -> Result<ScheduleRow, Error> {
        let mut c = self.connection().await?;
        let set = (schedules::paused.eq(paused), schedules::next_at.eq(next_at));
        let row = diesel::update(schedules::table.find(id)).set(set).returning(ScheduleRow::as_returning());
        Ok(row.get_result(&mut c).await?)
    }

    /// Schedules with a start that is due, the longest due first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn due_schedules(&self, now: DateTime<Utc>, most: i64) -> Result<Vec<ScheduleRow>, Error> {
        let mut c = self.connection().await?;
        let due = schedules::table.filter(schedules::next_at.le(now)).filter(schedules::paused.eq(false));
        let due = due.order((schedules::next_at, schedules::id)).limit(most);
        Ok(due.select(ScheduleRow::as_select()).load(&mut c).await?)
    }

    /// The soonest start of all schedules.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn soonest_start(&self) -> Result<Option<DateTime<Utc>>, Error> {
        let mut c = self.connection().await?;
        let planned = schedules::table.filter(schedules::paused.eq(false)).filter(schedules::next_at.is_not_null());
        let soonest: Option<Option<DateTime<Utc>>> =
            planned.order(schedules::next_at).select(schedules::next_at).first(&mut c).await.optional()?;
        Ok(soonest.flatten())
    }

    /// Does what was decided about due starts, each at most once; gives the runs that were made, with the schedules' ids.
    ///
    /// # Errors
    /// If PostgreSQL does not answer: nothing was done then.
    pub async fn fire(&self, firings: &[Firing]) -> Result<Vec<RunRow>, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let ids: Vec<i64> = firings.iter().map(|f| f.schedule_id).collect();
            let locked: Vec<(i64, Option<DateTime<Utc>>)> = schedules::table
                .filter(schedules::id.eq_any(&ids))
                .filter(schedules::paused.eq(false))
                .order(schedules::id)
                .select((schedules::id, schedules::next_at))
                .for_update()
                .skip_locked()
                .load(c)
                .await?;
            let mine = |f: &&Firing| locked.contains(&(f.schedule_id, Some(f.expected)));
            let mine: Vec<&Firing> = firings.iter().filter(mine).collect();
            if mine.is_empty() {
                return Ok(Vec::new());
            }
            // A planned moment that has a row was done before, whatever the clock says now.
            let mut rows = Vec::new();
            for firing in &mine {
                for row in &firing.rows {
                    rows.push((
                        planned_starts::schedule_id.eq(firing.schedule_id),
                        planned_starts::planned_at.eq(row.planned_at),
                        planned_starts::to_at.eq(row.to_at),
                        planned_starts::count.eq(row.count),
                        planned_starts::what.eq(row.what),
                        planned_starts::why.eq(&row.why),
                    ));
                }
            }
            let added: Vec<(i64, i64, String)> = diesel::insert_into(planned_starts::table)
                .values(rows)
                .on_conflict_do_nothing()
                .returning((planned_starts::id, planned_starts::schedule_id, planned_starts::what))
                .get_results(c)
                .await?;
            let starting = |f: &&&Firing| {
                let row = added.iter().find(|(_, schedule, what)| *schedule == f.schedule_id && what == "started");
                row.is_some() && f.run.is_some()
            };
            let starting: Vec<&Firing> = mine.iter().filter(starting).copied().collect();
            let new: Vec<NewRun> = starting.iter().filter_map(|f| f.run.clone()).collect();
            let made = if new.is_empty() { Vec::new() } else { insert_all(c, &new).await? };
            let run_of: Vec<(i64, i64)> = starting.iter().zip(&made).map(|(f, run)| (f.schedule_id, run.id)).collect();
            for (run, why) in mine.iter().filter_map(|f| f.stop.as_ref()) {
                let open = runs::table.find(*run).filter(runs::phase.ne("finished"));
                diesel::update(open).set(runs::stop_asked.eq(why)).execute(c).await?;
            }
            diesel::sql_query(
                "update planned_starts set run_id = r.run from unnest($1, $2) as r (schedule, run) \
                 where planned_starts.id = any($3) and planned_starts.schedule_id = r.schedule and what = 'started'",
            )
            .bind::<Array<BigInt>, _>(run_of.iter().map(|r| r.0).collect::<Vec<_>>())
            .bind::<Array<BigInt>, _>(run_of.iter().map(|r| r.1).collect::<Vec<_>>())
            .bind::<Array<BigInt>, _>(added.iter().map(|a| a.0).collect::<Vec<_>>())
            .execute(c)
            .await?;
            let run = |f: &&Firing| run_of.iter().find(|r| r.0 == f.schedule_id).map(|r| r.1);
            diesel::sql_query(
                "update schedules set next_at = n.next_at, run_id = coalesce(n.run, schedules.run_id) \
                 from unnest($1, $2, $3) as n (id, next_at, run) where schedules.id = n.id",
            )
            .bind::<Array<BigInt>, _>(mine.iter().map(|f| f.schedule_id).collect::<Vec<_>>())
            .bind::<Array<diesel::sql_types::Nullable<Timestamptz>>, _>(
                mine.iter().map(|f| f.next_at).collect::<Vec<_>>(),
            )
            .bind::<Array<diesel::sql_types::Nullable<BigInt>>, _>(mine.iter().map(run).collect::<Vec<_>>())
            .execute(c)
            .await?;
            Ok(made)
        })
        .await
    }

    /// Of those schedules, which have a start that waits.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn with_waiting(&self, ids: &[i64]) -> Result<Vec<i64>, Error> {
        let mut c = self.connection().await?;
        let waiting = planned_starts::table.filter(planned_starts::what.eq("waiting"));
        let of = waiting.filter(planned_starts::schedule_id.eq_any(ids));
        Ok(of.select(planned_starts::schedule_id).load(&mut c).await?)
    }

    /// Starts that wait for a run which is over now.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn waiting_starts(&self) -> Result<Vec<Waiting>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select p.id as planned_id, p.schedule_id, p.planned_at from planned_starts p \
             join schedules s on s.id = p.schedule_id left join runs r on r.id = s.run_id \
             where p.what = 'waiting' and not s.paused and (r.id is null or r.phase = 'finished') order by p.id limit 100",
        )
        .load(&mut c)
        .await?)
    }

    /// Does a start that waited, or says why it cannot be done; nothing if somebody did it before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn end_waiting(&self, waiting: &Waiting, run: Result<&NewRun, &str>) -> Result<Option<RunRow>, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let (what, why) = match run {
                Ok(_) => ("started", "it waited for the run before".to_owned()),
                Err(why) => ("refused", why.to_owned()),
            };
            let open = planned_starts::table.find(waiting.planned_id).filter(planned_starts::what.eq("waiting"));
            let set = (planned_starts::what.eq(what), planned_starts::why.eq(why));
            if diesel::update(open).set(set).execute(c).await? == 0 {
                return Ok(None);
            }
            let Ok(run) = run else { return Ok(None) };
            Ok(Some(link_run(c, waiting.schedule_id, waiting.planned_id, run).await?))
        })
        .await
    }

    /// Starts a run of a schedule at once, beside its times.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn start_schedule_now(
        &self,
        id: i64,
        now: DateTime<Utc>,
        why: &str,
        run: &NewRun,
    ) -> Result<RunRow, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let row = (
                planned_starts::schedule_id.eq(id),
                planned_starts::planned_at.eq(now),
                planned_starts::to_at.eq(now),
                planned_starts::count.eq(1),
                planned_starts::what.eq("started"),
                planned_starts::why.eq(why),
            );
            let planned: i64 = diesel::insert_into(planned_starts::table)
                .values(row)
                .returning(planned_starts::id)
                .get_result(c)
                .await?;
            link_run(c, id, planned, run).await
        })
        .await
    }

    /// Schedules without a next start whose last run is over.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn ended_schedules(&self) -> Result<Vec<Ended>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select s.id as schedule_id, r.finished_at from schedules s join runs r on r.id = s.run_id \
             where s.next_at is null and not s.paused and r.finished_at is not null \
             and s.times ->> 'after_every' is not null limit 500",
        )
        .load(&mut c)
        .await?)
    }

    /// Sets a schedule's next start, if it is still what it was.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn set_next(
        &self,
        id: i64,
        was: Option<DateTime<Utc>>,
        next: Option<DateTime<Utc>>,
    ) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let same = schedules::table.find(id).filter(schedules::next_at.is_not_distinct_from(was));
        Ok(diesel::update(same).set(schedules::next_at.eq(next)).execute(&mut c).await? == 1)
    }

    /// The latest planned starts of a schedule, newest first, with the names of their runs.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn planned(&self, schedule_id: i64, most: i64) -> Result<Vec<PlannedRow>, Error> {
        let mut c = self.connection().await?;
        let of = planned_starts::table.filter(planned_starts::schedule_id.eq(schedule_id));
        let latest = of.order((planned_starts::planned_at.desc(), planned_starts::id.desc())).limit(most);
        Ok(latest.select(PlannedRow::as_select()).load(&mut c).await?)
    }

    /// Planned starts between two moments, in order.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn planned_between(
        &self,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
        most: i64,
    ) -> Result<Vec<PlannedRow>, Error> {
        let mut c = self.connection().await?;
        let within = planned_starts::table.filter(planned_starts::planned_at.between(from, to));
        let latest = within.order(planned_starts::planned_at.desc()).limit(most);
        let mut rows: Vec<PlannedRow> = latest.select(PlannedRow::as_select()).load(&mut c).await?;
        rows.reverse();
        Ok(rows)
    }

    /// What the attempts of each schedule's last run took together, in microseconds, by the schedule's id.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn usual_of_schedules(&self) -> Result<HashMap<i64, i64>, Error> {
        #[derive(QueryableByName)]
        struct Took {
            #[diesel(sql_type = BigInt)]
            id: i64,
            #[diesel(sql_type = BigInt)]
            took: i64,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Took> = diesel::sql_query(
            "select s.id, coalesce((r.stats ->> 'total_us')::bigint, 0) as took from schedules s \
             join runs r on r.id = s.run_id",
        )
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|r| (r.id, r.took)).collect())
    }

    /// When something of each suite is started next by a schedule, and by which; of suites that nothing is planned for there
    /// is none.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn next_starts(&self) -> Result<HashMap<String, (DateTime<Utc>, String)>, Error> {
        #[derive(QueryableByName)]
        struct Next {
            #[diesel(sql_type = diesel::sql_types::Nullable<Text>)]
            suite: Option<String>,
            #[diesel(sql_type = Timestamptz)]
            next_at: DateTime<Utc>,
            #[diesel(sql_type = Text)]
            name: String,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Next> = diesel::sql_query(
            "select distinct on (1) coalesce(s.suite, b.brief ->> 'suite') as suite, s.next_at, s.name from schedules s \
             left join briefs b on b.name = s.brief where not s.paused and s.next_at is not null \
             order by 1, s.next_at, s.name",
        )
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().filter_map(|r| Some((r.suite?, (r.next_at, r.name)))).collect())
    }

    /// Forgets planned starts that were answered for before a moment.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn forget_planned(&self, before: DateTime<Utc>) -> Result<usize, Error> {
        let mut c = self.connection().await?;
        let old =
            planned_starts::table.filter(planned_starts::at.lt(before)).filter(planned_starts::what.ne("waiting"));
        Ok(diesel::delete(old).execute(&mut c).await?)
    }
}

/// Makes the run of a planned start, within a transaction.
async fn link_run(c: &mut AsyncPgConnection, schedule: i64, planned: i64, run: &NewRun) -> Result<RunRow, Error> {
    let made = crate::runs::insert(c, run).await?;
    diesel::update(planned_starts::table.find(planned)).set(planned_starts::run_id.eq(made.id)).execute(c).await?;
    diesel::update(schedules::table.find(schedule)).set(schedules::run_id.eq(made.id)).execute(c).await?;
    Ok(made)
}
