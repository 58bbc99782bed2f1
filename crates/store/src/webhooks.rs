//! Webhooks and their deliveries.

use chrono::{DateTime, Utc};
use diesel::{
    BoolExpressionMethods, ExpressionMethods, NullableExpressionMethods, OptionalExtension, QueryDsl, Queryable,
    Selectable, SelectableHelper,
    sql_types::{Array, BigInt},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};

use crate::{
    Error, Store, ensure_month, month_of,
    query::RunQueryDsl,
    runs::{NewRun, RunRow, insert_all},
    schema::{deliveries, webhooks},
    secrets::sealed_as,
};

/// A webhook as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = webhooks, check_for_backend(diesel::pg::Pg))]
pub struct WebhookRow {
    pub id: i64,
    pub name: String,
    pub brief: String,
    pub secret: Vec<u8>,
    pub takes: Vec<String>,
    pub whens: Vec<String>,
    pub per_minute: i32,
    pub paused: bool,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
}

/// What a webhook is made from.
#[derive(Debug, Clone)]
pub struct NewWebhook<'a> {
    pub name: &'a str,
    pub brief: &'a str,
    pub secret: &'a [u8],
    pub takes: &'a [String],
    pub whens: &'a [String],
    pub per_minute: i32,
    pub made_by: &'a str,
}

/// A delivery as it is kept.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = deliveries, check_for_backend(diesel::pg::Pg))]
pub struct DeliveryRow {
    pub id: i64,
    pub webhook_id: i64,
    pub message_id: String,
    pub event: Option<String>,
    pub redelivery_of: Option<i64>,
    pub genuine: bool,
    pub at: DateTime<Utc>,
    pub content_type: String,
    pub event_headers: serde_json::Value,
    pub body: Vec<u8>,
    pub did: String,
    pub why: String,
    pub run_id: Option<i64>,
}

/// A delivery that came, and what it does.
#[derive(Debug, Clone)]
pub struct NewDelivery {
    pub webhook_id: i64,
    pub message_id: String,
    pub event: Option<String>,
    pub redelivery_of: Option<i64>,
    pub genuine: bool,
    pub content_type: String,
    pub event_headers: serde_json::Value,
    pub body: Vec<u8>,
    pub did: &'static str,
    pub why: String,
}

/// What became of a delivery.
#[derive(Debug)]
pub enum Kept {
    /// It is kept, with the run that it started.
    New(DeliveryRow, Option<Box<RunRow>>),
    /// It had come before.
    Before(DeliveryRow),
}

/// Deliveries that were not genuine, and all deliveries, that are kept of a webhook.
const MOST_FALSE: i64 = 50;
const MOST_KEPT: i64 = 10_000;

impl Store {
    fn opened_webhook(&self, row: WebhookRow) -> Result<WebhookRow, Error> {
        let secret = self.unsealed(&sealed_as("webhook", &row.name), row.secret)?;
        Ok(WebhookRow { secret, ..row })
    }

    /// Adds a webhook; none if the name is taken.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn add_webhook(&self, new: NewWebhook<'_>) -> Result<Option<WebhookRow>, Error> {
        let mut c = self.connection().await?;
        let row = (
            webhooks::name.eq(new.name),
            webhooks::brief.eq(new.brief),
            webhooks::secret.eq(self.sealed(&sealed_as("webhook", new.name), new.secret)?),
            webhooks::takes.eq(new.takes),
            webhooks::whens.eq(new.whens),
            webhooks::per_minute.eq(new.per_minute),
            webhooks::made_by.eq(new.made_by),
        );
        let add = diesel::insert_into(webhooks::table).values(row).on_conflict_do_nothing();
        let added = add.returning(WebhookRow::as_returning()).get_result(&mut c).await.optional()?;
        added.map(|row| self.opened_webhook(row)).transpose()
    }

    /// The webhook of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn webhook(&self, name: &str) -> Result<Option<WebhookRow>, Error> {
        let mut c = self.connection().await?;
        let found = webhooks::table.filter(webhooks::name.eq(name)).select(WebhookRow::as_select());
        let found: Option<WebhookRow> = found.first(&mut c).await.optional()?;
        found.map(|row| self.opened_webhook(row)).transpose()
    }

    /// All webhooks, by name, with their secrets as they are kept.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn webhooks(&self) -> Result<Vec<WebhookRow>, Error> {
        let mut c = self.connection().await?;
        Ok(webhooks::table.order(webhooks::name).select(WebhookRow::as_select()).load(&mut c).await?)
    }

    /// Changes the secret, or pauses or goes on; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn change_webhook(&self, name: &str, secret: Option<&[u8]>, paused: Option<bool>) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        let of = || webhooks::table.filter(webhooks::name.eq(name));
        let mut found = 0;
        if let Some(secret) = secret {
            let secret = self.sealed(&sealed_as("webhook", name), secret)?;
            found = diesel::update(of()).set(webhooks::secret.eq(secret)).execute(&mut c).await?;
        }
        if let Some(paused) = paused {
            found = diesel::update(of()).set(webhooks::paused.eq(paused)).execute(&mut c).await?;
        }
        Ok(found == 1)
    }

    /// Removes a webhook with its deliveries; false if there is none of that name.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn remove_webhook(&self, name: &str) -> Result<bool, Error> {
        let mut c = self.connection().await?;
        Ok(diesel::delete(webhooks::table.filter(webhooks::name.eq(name))).execute(&mut c).await? == 1)
    }

    /// Keeps a delivery and makes its run, in one transaction; or finds that it had come before.
    ///
    /// # Errors
    /// If PostgreSQL does not answer: nothing was kept then.
    pub async fn take_delivery(&self, new: NewDelivery, run: Option<NewRun>) -> Result<Kept, Error> {
        let mut kept = self.take_deliveries(&[(new, run)]).await?;
        kept.pop().ok_or_else(|| Error::Content("a delivery was kept and is not there".into()))
    }

    /// Keeps deliveries and makes their runs, in one transaction and in their order; tells of each whether it had come before.
    /// Runs of a suite wait for its row, so many that come at once are best kept together.
    ///
    /// # Errors
    /// If PostgreSQL does not answer, or takes one of them not: nothing was kept then.
    pub async fn take_deliveries(&self, new: &[(NewDelivery, Option<NewRun>)]) -> Result<Vec<Kept>, Error> {
        let mut c = self.connection().await?;
        ensure_month(&mut c, month_of(Utc::now())).await?;
        c.transaction(async |c| {
            let (mut all, mut runs, mut of) = (Vec::new(), Vec::new(), Vec::new());
            for (delivery, run) in new {
                let kept = add(c, delivery).await?;
                if let (Kept::New(kept, _), Some(run)) = (&kept, run) {
                    let mut run = run.clone();
                    run.origin.delivery = Some(kept.id);
                    runs.push(run);
                    of.push(all.len());
                }
                all.push(kept);
            }
            if runs.is_empty() {
                return Ok(all);
            }
            // The suites' rows are held from here on.
            let made = insert_all(c, &runs).await?;
            let mut pairs: (Vec<i64>, Vec<i64>) = (Vec::new(), Vec::new());
            for (at, row) in of.into_iter().zip(made) {
                let Kept::New(kept, run) = &mut all[at] else { continue };
                pairs.0.push(kept.id);
                pairs.1.push(row.id);
                kept.run_id = Some(row.id);
                *run = Some(Box::new(row));
            }
            diesel::sql_query(
                "update deliveries set run_id = p.run_id from unnest($1, $2) as p (id, run_id) where deliveries.id = p.id",
            )
            .bind::<Array<BigInt>, _>(pairs.0)
            .bind::<Array<BigInt>, _>(pairs.1)
            .execute(c)
            .await?;
            Ok(all)
        })
        .await
    }

    /// Forgets the oldest deliveries of a webhook beyond those that are kept.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn trim_deliveries(&self, webhook_id: i64) -> Result<(), Error> {
        let mut c = self.connection().await?;
        for (which, most) in [("not genuine", MOST_FALSE), ("genuine", MOST_KEPT)] {
            let sql = format!(
                "delete from deliveries where webhook_id = $1 and {which} and id <= coalesce((select id from deliveries \
                 where webhook_id = $1 and {which} order by id desc offset $2 limit 1), 0)"
            );
            diesel::sql_query(sql).bind::<BigInt, _>(webhook_id).bind::<BigInt, _>(most).execute(&mut c).await?;
        }
        Ok(())
    }

    /// The latest deliveries of a webhook, newest first.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn deliveries(&self, webhook_id: i64, most: i64) -> Result<Vec<DeliveryRow>, Error> {
        let mut c = self.connection().await?;
        let of = deliveries::table.filter(deliveries::webhook_id.eq(webhook_id));
        Ok(of.order(deliveries::id.desc()).limit(most).select(DeliveryRow::as_select()).load(&mut c).await?)
    }

    /// The latest delivery of each webhook that has one.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn last_deliveries(&self) -> Result<Vec<DeliveryRow>, Error> {
        let mut c = self.connection().await?;
        let all = deliveries::table.distinct_on(deliveries::webhook_id);
        let latest = all.order((deliveries::webhook_id, deliveries::id.desc())).select(DeliveryRow::as_select());
        Ok(latest.load(&mut c).await?)
    }

    /// A delivery of a webhook.
    ///
    /// # Errors
    /// If PostgreSQL does not answer.
    pub async fn delivery(&self, webhook_id: i64, id: i64) -> Result<Option<DeliveryRow>, Error> {
        let mut c = self.connection().await?;
        let found = deliveries::table.find(id).filter(deliveries::webhook_id.eq(webhook_id));
        Ok(found.select(DeliveryRow::as_select()).first(&mut c).await.optional()?)
    }
}

/// Adds a delivery, or finds the one that came before it.
async fn add(c: &mut AsyncPgConnection, new: &NewDelivery) -> Result<Kept, Error> {
    let row = (
        deliveries::webhook_id.eq(new.webhook_id),
        deliveries::message_id.eq(&new.message_id),
        deliveries::event.eq(&new.event),
        deliveries::redelivery_of.eq(new.redelivery_of),
        deliveries::genuine.eq(new.genuine),
        deliveries::content_type.eq(&new.content_type),
        deliveries::event_headers.eq(&new.event_headers),
        deliveries::body.eq(&new.body),
        deliveries::did.eq(new.did),
        deliveries::why.eq(&new.why),
    );
    let add = diesel::insert_into(deliveries::table).values(row).on_conflict_do_nothing();
    let kept: Option<DeliveryRow> = add.returning(DeliveryRow::as_returning()).get_result(c).await.optional()?;
    if let Some(kept) = kept {
        return Ok(Kept::New(kept, None));
    }
    let of = deliveries::table.filter(deliveries::webhook_id.eq(new.webhook_id));
    let of = of.filter(deliveries::genuine.eq(true)).filter(deliveries::redelivery_of.is_null());
    // Without an event's name the comparison with it is neither true nor false, and finds nothing.
    let same = deliveries::message_id.eq(&new.message_id).nullable().or(deliveries::event.eq(&new.event));
    Ok(Kept::Before(of.filter(same).select(DeliveryRow::as_select()).first(c).await?))
}
