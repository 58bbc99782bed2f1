//! Notices, what happened that concerns them, and the messages that go out.
//!
//! What happens leaves a row of `unnoticed` (by triggers); looking at it takes that row and writes the events in one transaction, so that each is told
//! once. Events that are due become deliveries, and a delivery is sent by whoever holds it: of several services one, and after one that was killed
//! another.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    ExpressionMethods, OptionalExtension, QueryDsl, Queryable, QueryableByName, Selectable, SelectableHelper,
    sql_types::{Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use kesmo_core::notice::{Event, Notice};

use crate::{
    Error, Store, content, json,
    query::RunQueryDsl,
    schema::{notice_deliveries, notice_events, notices},
    secrets::sealed_as,
};

/// Events that become deliveries at a time.
const MOST_GATHERED: i64 = 500;

/// A notice as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = notices, check_for_backend(diesel::pg::Pg))]
pub struct NoticeRow {
    pub id: i64,
    pub name: String,
    pub rule: serde_json::Value,
    pub secret: Option<Vec<u8>>,
    pub paused: bool,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
}

impl NoticeRow {
    /// What it asks to be told.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn notice(&self) -> Result<Notice, Error> {
        content(self.rule.clone())
    }
}

/// A notice to keep.
#[derive(Debug, Clone)]
pub struct NewNotice<'a> {
    pub name: &'a str,
    pub notice: &'a Notice,
    /// None: what is kept stays, where the notice is replaced.
    pub secret: Option<&'a [u8]>,
    pub by: &'a str,
    pub replace: bool,
}

/// What happened and was not looked at.
#[derive(Debug, Clone, QueryableByName)]
pub struct Unnoticed {
    #[diesel(sql_type = BigInt)]
    pub id: i64,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub run_id: Option<i64>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub planned_id: Option<i64>,
}

/// A planned start that did not take place.
#[derive(Debug, Clone, QueryableByName)]
pub struct MissedStart {
    #[diesel(sql_type = Text)]
    pub schedule: String,
    #[diesel(sql_type = Nullable<Text>)]
    pub brief: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    pub suite: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    pub planned_at: DateTime<Utc>,
    #[diesel(sql_type = Integer)]
    pub count: i32,
    #[diesel(sql_type = Text)]
    pub what: String,
    #[diesel(sql_type = Text)]
    pub why: String,
}

/// What happened, as it concerns a notice.
#[derive(Debug, Clone)]
pub struct NewEvent {
    pub notice_id: i64,
    /// What it is, so that it is told once.
    pub key: String,
    pub event: Event,
    pub due_at: DateTime<Utc>,
    /// Why it is not told.
    pub held: Option<String>,
    /// Causes that count as told from now on.
    pub causes: BTreeSet<i64>,
}

/// An event as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = notice_events, check_for_backend(diesel::pg::Pg))]
pub struct EventRow {
    pub id: i64,
    pub notice_id: i64,
    pub key: String,
    pub event: serde_json::Value,
    pub at: DateTime<Utc>,
    pub due_at: DateTime<Utc>,
    pub held: Option<String>,
    pub delivery_id: Option<i64>,
}

impl EventRow {
    /// What happened.
    ///
    /// # Errors
    /// If what is kept cannot be read.
    pub fn event(&self) -> Result<Event, Error> {
        content(self.event.clone())
    }
}

/// A message that goes out, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, QueryableByName)]
#[diesel(table_name = notice_deliveries, check_for_backend(diesel::pg::Pg))]
pub struct DeliveryRow {
    pub id: i64,
    pub notice_id: i64,
    pub message_id: String,
    pub made_at: DateTime<Utc>,
    /// `trying`, `sent` or `given-up`
    pub state: String,
    pub sample: bool,
    pub tries: i32,
    pub next_at: DateTime<Utc>,
    pub held_until: Option<DateTime<Utc>>,
    pub ended_at: Option<DateTime<Utc>>,
    pub said: String,
    /// Of mail, whom it has reached.
    pub reached: Vec<String>,
}

/// What came of a try to send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tried {
    Sent(String),
    /// It did not get through, and is sent again then.
    Later(DateTime<Utc>, String),
    GivenUp(String),
}

/// How many messages of a notice stand how.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Standing {
    pub trying: u32,
    pub sent: u32,
    pub given_up: u32,
    /// Events that wait for their digest, or for the end of quiet hours.
    pub gathering: u32,
    /// Events that were told before, and so are not.
    pub held: u32,
    /// The last message that is not tried any more was given up.
    pub silent: bool,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    notice_id: i64,
    #[diesel(sql_type = Text)]
    state: String,
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Told {
    #[diesel(sql_type = BigInt)]
    notice_id: i64,
    #[diesel(sql_type = BigInt)]
    cause: i64,
}

#[derive(QueryableByName)]
struct Gathered {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = BigInt)]
    notice_id: i64,
    #[diesel(sql_type = Bool)]
    together: bool,
}

impl Store {
    fn opened_notice(&self, row: NoticeRow) -> Result<NoticeRow, Error> {
        let name = sealed_as("notice", &row.name);
        let secret = row.secret.map(|secret| self.unsealed(&name, secret)).transpose()?;
        Ok(NoticeRow { secret, ..row })
    }

    /// Keeps a notice; none if there is one of that name and it is not to be replaced.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn put_notice(&self, new: NewNotice<'_>) -> Result<Option<NoticeRow>, Error> {
        let mut c = self.connection().await?;
        let rule = json(new.notice)?;
        let secret = new.secret.map(|secret| self.sealed(&sealed_as("notice", new.name), secret)).transpose()?;
        let row = (
            notices::name.eq(new.name),
            notices::rule.eq(&rule),
            notices::secret.eq(&secret),
            notices::made_by.eq(new.by),
        );
        let add = diesel::insert_into(notices::table).values(row);
        if !new.replace {
            let added = add.on_conflict_do_nothing().returning(NoticeRow::as_returning());
            let added: Option<NoticeRow> = added.get_result(&mut c).await.optional()?;
            return added.map(|row| self.opened_notice(row)).transpose();
        }
        let row = add.on_conflict(notices::name).do_update().set(notices::rule.eq(&rule));
        let row: NoticeRow = row.returning(NoticeRow::as_returning()).get_result(&mut c).await?;
        if secret.is_none() || row.secret == secret {
            return self.opened_notice(row).map(Some);
        }
        let set = diesel::update(notices::table.find(row.id)).set(notices::secret.eq(secret));
        let row = set.returning(NoticeRow::as_returning()).get_result(&mut c).await?;
        self.opened_notice(row).map(Some)
    }

    /// The notice of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notice(&self, name: &str) -> Result<Option<NoticeRow>, Error> {
        let mut c = self.connection().await?;
        let found = notices::table.filter(notices::name.eq(name)).select(NoticeRow::as_select());
        let found: Option<NoticeRow> = found.first(&mut c).await.optional()?;
        found.map(|row| self.opened_notice(row)).transpose()
    }

    /// All notices, by name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notices(&self) -> Result<Vec<NoticeRow>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<NoticeRow> =
            notices::table.order(notices::name).select(NoticeRow::as_select()).load(&mut c).await?;
        // One that cannot be opened stops no other: it is told when it is used.
        Ok(rows.into_iter().map(|row| self.opened_notice(row.clone()).unwrap_or(row)).collect())
    }

    /// Pauses a notice or goes on with it, or gives it another secret.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn change_notice(&self, id: i64, paused: Option<bool>, secret: Option<&[u8]>) -> Result<(), Error> {
        let mut c = self.connection().await?;
        if let Some(paused) = paused {
            diesel::update(notices::table.find(id)).set(notices::paused.eq(paused)).execute(&mut c).await?;
        }
        if let Some(secret) = secret {
            let name: String = notices::table.find(id).select(notices::name).first(&mut c).await?;
            let secret = self.sealed(&sealed_as("notice", &name), secret)?;
            diesel::update(notices::table.find(id)).set(notices::secret.eq(secret)).execute(&mut c).await?;
        }
        Ok(())
    }

    /// Removes a notice with what it told and what it was to tell.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_notice(&self, id: i64) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::delete(notices::table.find(id)).execute(&mut c).await?;
        Ok(())
    }

    /// What happened and was not looked at, oldest first; at most so many. Runs come once their records are written, or when they were over a minute ago.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn unnoticed(&self, most: i64) -> Result<Vec<Unnoticed>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select n.id, n.run_id, n.planned_id from unnoticed n left join runs r on r.id = n.run_id \
             where n.run_id is null or r.finished_at < now() - interval '1 minute' \
             or not exists (select 1 from unrecorded u where u.run_id = n.run_id) order by n.id limit $1",
        )
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?)
    }

    /// Passes over what happened where no notice is: gives how many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn pass_over(&self) -> Result<usize, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query("delete from unnoticed where not exists (select 1 from notices)").execute(&mut c).await?)
    }

    /// A planned start that did not take place.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn missed_start(&self, planned: i64) -> Result<Option<MissedStart>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "select s.name as schedule, s.brief, coalesce(s.suite, b.brief->>'suite') as suite, p.planned_at, p.count, p.what, p.why \
             from planned_starts p join schedules s on s.id = p.schedule_id left join briefs b on b.name = s.brief where p.id = $1",
        )
        .bind::<BigInt, _>(planned)
        .get_result(&mut c)
        .await
        .optional()?)
    }

    /// What runs of the same suite took that have finished before this one, newest first, in microseconds, with their options.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn took_before(&self, run: i64, most: i64) -> Result<Vec<(serde_json::Value, i64)>, Error> {
        #[derive(QueryableByName)]
        struct Took {
            #[diesel(sql_type = Jsonb)]
            options: serde_json::Value,
            #[diesel(sql_type = BigInt)]
            took: i64,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Took> = diesel::sql_query(
            "select r.options, (extract(epoch from r.finished_at - coalesce(r.began_at, r.created_at)) * 1000000)::bigint as took \
             from runs own join runs r on r.suite_id = own.suite_id and r.id < own.id and r.pool = own.pool \
             where own.id = $1 and r.verdict in ('passed', 'failed') and not jsonb_exists(r.labels, 'hunt') \
             order by r.id desc limit $2",
        )
        .bind::<BigInt, _>(run)
        .bind::<BigInt, _>(most)
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|row| (row.options, row.took)).collect())
    }

    /// The causes of failures of a suite's branch that notices told of, by notice.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn told_causes(&self, suite_id: i64, branch: &str) -> Result<HashMap<i64, BTreeSet<i64>>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Told> =
            diesel::sql_query("select notice_id, cause from notice_told where suite_id = $1 and branch = $2")
                .bind::<BigInt, _>(suite_id)
                .bind::<Text, _>(branch)
                .load(&mut c)
                .await?;
        let mut told: HashMap<i64, BTreeSet<i64>> = HashMap::new();
        for row in rows {
            told.entry(row.notice_id).or_default().insert(row.cause);
        }
        Ok(told)
    }

    /// Writes what happened for the notices that it concerns, unless somebody else did. `of` is the run's suite and branch, and whether it passed: what was told of it
    /// then is forgotten.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn note(
        &self,
        taken: Option<i64>,
        events: &[NewEvent],
        of: Option<(i64, &str, bool)>,
    ) -> Result<(), Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            if let Some(id) = taken {
                let deleted = diesel::sql_query("delete from unnoticed where id = $1").bind::<BigInt, _>(id).execute(c).await?;
                if deleted == 0 {
                    return Ok(());
                }
            }
            if let Some((suite, branch, true)) = of {
                diesel::sql_query("delete from notice_told where suite_id = $1 and branch = $2")
                    .bind::<BigInt, _>(suite)
                    .bind::<Text, _>(branch)
                    .execute(c)
                    .await?;
            }
            for event in events {
                insert_event(c, event).await?;
                let Some((suite, branch, _)) = of.filter(|_| event.held.is_none() && !event.causes.is_empty()) else { continue };
                diesel::sql_query(
                    "insert into notice_told select id, $2, $3, cause from notices, unnest($4) as c (cause) where id = $1 on conflict do nothing",
                )
                .bind::<BigInt, _>(event.notice_id)
                .bind::<BigInt, _>(suite)
                .bind::<Text, _>(branch)
                .bind::<Array<BigInt>, _>(event.causes.iter().copied().collect::<Vec<_>>())
                .execute(c)
                .await?;
            }
            Ok(())
        })
        .await
    }

    /// Makes deliveries of events that are due: one of each, or one of all of a notice where they were gathered. Gives how many.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn gather(&self, id: fn() -> String) -> Result<usize, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let due: Vec<Gathered> = diesel::sql_query(
                "select e.id, e.notice_id, e.due_at > e.at as together from notice_events e join notices n on n.id = e.notice_id and not n.paused \
                 where e.delivery_id is null and e.held is null and e.due_at <= now() order by e.id limit $1 for update of e skip locked",
            )
            .bind::<BigInt, _>(MOST_GATHERED)
            .load(c)
            .await?;
            let mut messages: BTreeMap<(i64, i64), Vec<i64>> = BTreeMap::new();
            for event in due {
                // What is sent by itself has a place of its own.
                let place = if event.together { 0 } else { event.id };
                messages.entry((event.notice_id, place)).or_default().push(event.id);
            }
            for ((notice, _), events) in &messages {
                let row = (notice_deliveries::notice_id.eq(notice), notice_deliveries::message_id.eq(id()));
                let made: i64 =
                    diesel::insert_into(notice_deliveries::table).values(row).returning(notice_deliveries::id).get_result(c).await?;
                let of = notice_events::table.filter(notice_events::id.eq_any(events));
                diesel::update(of).set(notice_events::delivery_id.eq(made)).execute(c).await?;
            }
            Ok(messages.len())
        })
        .await
    }

    /// Makes a delivery of an event that did not happen, for a trial, which its maker sends: nobody else takes it.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn sample(
        &self,
        notice: i64,
        message_id: &str,
        event: &Event,
        hold: TimeDelta,
    ) -> Result<DeliveryRow, Error> {
        let mut c = self.connection().await?;
        c.transaction(async |c| {
            let row = (
                notice_deliveries::notice_id.eq(notice),
                notice_deliveries::message_id.eq(message_id),
                notice_deliveries::sample.eq(true),
                notice_deliveries::tries.eq(1),
                notice_deliveries::held_until.eq(Utc::now() + hold),
            );
            let made: DeliveryRow = diesel::insert_into(notice_deliveries::table)
                .values(row)
                .returning(DeliveryRow::as_returning())
                .get_result(c)
                .await?;
            let event = NewEvent {
                notice_id: notice,
                key: format!("sample:{message_id}"),
                event: event.clone(),
                due_at: Utc::now(),
                held: None,
                causes: BTreeSet::new(),
            };
            insert_event(c, &event).await?;
            let of = notice_events::table
                .filter(notice_events::notice_id.eq(notice))
                .filter(notice_events::key.eq(&event.key));
            diesel::update(of).set(notice_events::delivery_id.eq(made.id)).execute(c).await?;
            Ok(made)
        })
        .await
    }

    /// Takes deliveries that are due, for so long, and counts a try; at most so many. Those of paused notices wait.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn take_due(&self, most: i64, hold: TimeDelta) -> Result<Vec<DeliveryRow>, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query(
            "update notice_deliveries set tries = tries + 1, held_until = now() + make_interval(secs => $2) where id in ( \
             select d.id from notice_deliveries d join notices n on n.id = d.notice_id and not n.paused \
             where d.state = 'trying' and d.next_at <= now() and (d.held_until is null or d.held_until < now()) \
             order by d.next_at limit $1 for update of d skip locked) returning *",
        )
        .bind::<BigInt, _>(most)
        .bind::<diesel::sql_types::Double, _>(hold.num_milliseconds() as f64 / 1000.0)
        .load(&mut c)
        .await?)
    }

    /// Writes what came of a try, unless another took the delivery meanwhile. What was given up was told to nobody: its causes are news again.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn tried(&self, delivery: &DeliveryRow, tried: &Tried) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let (state, next, said) = match tried {
            Tried::Sent(said) => ("sent", delivery.next_at, said),
            Tried::Later(next, said) => ("trying", *next, said),
            Tried::GivenUp(said) => ("given-up", delivery.next_at, said),
        };
        let ended = (!matches!(tried, Tried::Later(..))).then(Utc::now);
        c.transaction(async |c| {
            let of = notice_deliveries::table.find(delivery.id).filter(notice_deliveries::tries.eq(delivery.tries));
            let set = (
                notice_deliveries::state.eq(state),
                notice_deliveries::next_at.eq(next),
                notice_deliveries::held_until.eq(None::<DateTime<Utc>>),
                notice_deliveries::ended_at.eq(ended),
                notice_deliveries::said.eq(said.replace('\0', "\u{fffd}")),
            );
            let changed = diesel::update(of).set(set).execute(c).await?;
            if changed == 1 && matches!(tried, Tried::GivenUp(_)) && !delivery.sample {
                diesel::sql_query("delete from notice_told where notice_id = $1")
                    .bind::<BigInt, _>(delivery.notice_id)
                    .execute(c)
                    .await?;
            }
            Ok(())
        })
        .await
    }

    /// Goes on holding a delivery for so long.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn hold_on(&self, delivery: &DeliveryRow, hold: TimeDelta) -> Result<(), Error> {
        let mut c = self.connection().await?;
        let of = notice_deliveries::table.find(delivery.id).filter(notice_deliveries::tries.eq(delivery.tries));
        diesel::update(of).set(notice_deliveries::held_until.eq(Utc::now() + hold)).execute(&mut c).await?;
        Ok(())
    }

    /// Notes that a mail has reached somebody, unless another took the delivery meanwhile.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn reached(&self, delivery: &DeliveryRow, address: &str) -> Result<(), Error> {
        let mut c = self.connection().await?;
        diesel::sql_query(
            "update notice_deliveries set reached = array_append(reached, $3) where id = $1 and tries = $2",
        )
        .bind::<BigInt, _>(delivery.id)
        .bind::<Integer, _>(delivery.tries)
        .bind::<Text, _>(address)
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Sends a delivery once more, which was sent or given up; false if it is still tried, or there is none.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn send_again(&self, notice: i64, delivery: i64) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let of = notice_deliveries::table.find(delivery).filter(notice_deliveries::notice_id.eq(notice));
        let over = of.filter(notice_deliveries::state.ne("trying"));
        let now = Utc::now();
        let set = (
            notice_deliveries::state.eq("trying"),
            notice_deliveries::made_at.eq(now),
            notice_deliveries::next_at.eq(now),
            notice_deliveries::tries.eq(0),
            notice_deliveries::reached.eq(Vec::<String>::new()),
            notice_deliveries::ended_at.eq(None::<DateTime<Utc>>),
        );
        Ok(diesel::update(over).set(set).execute(&mut c).await? == 1)
    }

    /// The notice of that id.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notice_of(&self, id: i64) -> Result<Option<NoticeRow>, Error> {
        let mut c = self.connection().await?;
        let found: Option<NoticeRow> =
            notices::table.find(id).select(NoticeRow::as_select()).first(&mut c).await.optional()?;
        found.map(|row| self.opened_notice(row)).transpose()
    }

    /// The events of some deliveries, in the order in which they happened.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn events_of(&self, deliveries: &[i64]) -> Result<Vec<EventRow>, Error> {
        let mut c = self.connection().await?;
        let of = notice_events::table.filter(notice_events::delivery_id.eq_any(deliveries));
        Ok(of.order(notice_events::id).select(EventRow::as_select()).load(&mut c).await?)
    }

    /// Events of a notice that no delivery holds, newest first: those that are gathered, and those that were told before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn events_kept(&self, notice: i64, most: i64) -> Result<Vec<EventRow>, Error> {
        let mut c = self.connection().await?;
        let of = notice_events::table
            .filter(notice_events::notice_id.eq(notice))
            .filter(notice_events::delivery_id.is_null());
        Ok(of.order(notice_events::id.desc()).limit(most).select(EventRow::as_select()).load(&mut c).await?)
    }

    /// The latest deliveries of a notice, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notice_deliveries(&self, notice: i64, most: i64) -> Result<Vec<DeliveryRow>, Error> {
        let mut c = self.connection().await?;
        let of = notice_deliveries::table.filter(notice_deliveries::notice_id.eq(notice));
        Ok(of.order(notice_deliveries::id.desc()).limit(most).select(DeliveryRow::as_select()).load(&mut c).await?)
    }

    /// One delivery of a notice.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notice_delivery(&self, notice: i64, delivery: i64) -> Result<Option<DeliveryRow>, Error> {
        let mut c = self.connection().await?;
        let of = notice_deliveries::table.find(delivery).filter(notice_deliveries::notice_id.eq(notice));
        Ok(of.select(DeliveryRow::as_select()).first(&mut c).await.optional()?)
    }

    /// How the messages of all notices stand.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn notices_stand(&self) -> Result<HashMap<i64, Standing>, Error> {
        let mut c = self.connection().await?;
        let rows: Vec<Count> = diesel::sql_query(
            "select notice_id, state, count(*) from notice_deliveries where not sample group by 1, 2 \
             union all select notice_id, case when held is null then 'gathering' else 'held' end, count(*) from notice_events \
             where delivery_id is null group by 1, 2",
        )
        .load(&mut c)
        .await?;
        let mut all: HashMap<i64, Standing> = HashMap::new();
        for row in rows {
            let standing = all.entry(row.notice_id).or_default();
            let place = match row.state.as_str() {
                "trying" => &mut standing.trying,
                "sent" => &mut standing.sent,
                "given-up" => &mut standing.given_up,
                "held" => &mut standing.held,
                _ => &mut standing.gathering,
            };
            *place = u32::try_from(row.count).unwrap_or(u32::MAX);
        }
        let last: Vec<Count> = diesel::sql_query(
            "select distinct on (notice_id) notice_id, state, id as count from notice_deliveries \
             where state <> 'trying' and not sample order by notice_id, id desc",
        )
        .load(&mut c)
        .await?;
        for row in last.into_iter().filter(|row| row.state == "given-up") {
            all.entry(row.notice_id).or_default().silent = true;
        }
        Ok(all)
    }

    /// Forgets what was told, or given up, before that moment.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn forget_notices(&self, before: DateTime<Utc>) -> Result<usize, Error> {
        let mut c = self.connection().await?;
        let old = notice_deliveries::table.filter(notice_deliveries::ended_at.lt(before));
        let sent = diesel::delete(old).execute(&mut c).await?;
        let held = notice_events::table.filter(notice_events::held.is_not_null()).filter(notice_events::at.lt(before));
        Ok(sent + diesel::delete(held).execute(&mut c).await?)
    }
}

async fn insert_event(c: &mut AsyncPgConnection, new: &NewEvent) -> Result<(), Error> {
    // A notice that was removed meanwhile is told nothing. What is due at once is so by this clock; what gathers goes out with the first of it.
    diesel::sql_query(
        "insert into notice_events (notice_id, key, event, due_at, held, at) \
         select id, $2, $3, case when $4 <= now() then $4 else least($4, (select min(due_at) from notice_events e \
         where e.notice_id = $1 and e.delivery_id is null and e.held is null and e.due_at > now())) end, $5, least(now(), $4) \
         from notices where id = $1 on conflict do nothing",
    )
    .bind::<BigInt, _>(new.notice_id)
    .bind::<Text, _>(&new.key)
    .bind::<Jsonb, _>(json(&new.event)?)
    .bind::<Timestamptz, _>(new.due_at)
    .bind::<Nullable<Text>, _>(new.held.as_deref())
    .execute(c)
    .await?;
    Ok(())
}
