//! Webhooks: made and read by people, called by other systems.
//!
//! A delivery is taken in this order: how fast they come, how large it is, whether it is genuine and new, how fast genuine ones
//! come, what it says. It is answered once it is stored, with the run that it started.

use std::collections::{BTreeMap, HashMap};

use kesmo_core::{
    name::{Slug, did_you_mean, shorten},
    plan::{
        RunOptions,
        brief::{Changes, Origin, OriginKind},
    },
    time::{Bytes, Timestamp},
    webhook::{
        self, Decision, Did, Headers, LARGEST_BODY, SECRET_BYTES, Signed, Take, Taken, When, decide, read_body, verify,
    },
};
use kesmo_store::webhooks::{DeliveryRow, Kept, NewDelivery, NewWebhook as NewRow, WebhookRow};
use kesmo_wire::api::{Delivery, NewWebhook, Pause, Tried, TryWebhook, WebhookOf};
use rocket::{
    Data, Request, Route, State,
    data::ToByteUnit,
    delete, get,
    http::Status,
    post,
    request::{FromRequest, Outcome},
    routes,
    serde::json::Json,
};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayOperate, MaySee, Record},
    app::App,
    rates::PER_MINUTE,
    refused::Refused,
    starting::{self, Looked, Wanted},
};
use kesmo_files::secret::random_bytes;

const MOST_PER_MINUTE: u32 = 60_000;
/// The longest source and id of an event together, by which one that comes twice is found.
const LONGEST_EVENT: usize = 1000;
/// Deliveries that are shown of a webhook.
const MOST_SHOWN: i64 = 100;
/// Every so many deliveries the oldest are cleared away.
const TRIM_EVERY: i64 = 50;

pub(super) fn routes() -> Vec<Route> {
    routes![add, list, show, remove, pause, new_secret, try_body, delivery, redeliver, take]
}

fn invalid(error: kesmo_core::Error) -> Refused {
    Refused::invalid(error.to_string())
}

async fn row_named(app: &App, name: &str) -> Result<WebhookRow, Refused> {
    if let Some(row) = app.store.webhook(name).await? {
        return Ok(row);
    }
    let all = app.store.webhooks().await?;
    let hint = did_you_mean(name, all.iter().map(|s| s.name.as_str()));
    Err(Refused::not_found(format!("there is no webhook named {name:?}{hint} (make one with `kesmo webhook add`)")))
}

async fn delivery_view(app: &App, rows: Vec<DeliveryRow>, with_body: bool) -> Result<Vec<Delivery>, Refused> {
    let ids: Vec<i64> = rows.iter().filter_map(|d| d.run_id).collect();
    let names: HashMap<i64, String> = app
        .store
        .runs_of(&ids)
        .await?
        .into_iter()
        .map(|(run, suite)| (run.id, format!("{suite}/{}", run.number)))
        .collect();
    let view = |row: DeliveryRow| Delivery {
        run: row.run_id.and_then(|id| names.get(&id).cloned()),
        did: Did::of(&row.did).unwrap_or(Did::Refused),
        bytes: row.body.len() as u32,
        body: with_body.then(|| String::from_utf8_lossy(&row.body).into_owned()),
        id: row.id,
        message_id: row.message_id,
        at: row.at,
        genuine: row.genuine,
        why: row.why,
        redelivery_of: row.redelivery_of,
        content_type: row.content_type,
    };
    Ok(rows.into_iter().map(view).collect())
}

async fn view(app: &App, row: WebhookRow, deliveries: i64, secret: Option<String>) -> Result<WebhookOf, Refused> {
    let deliveries = delivery_view(app, app.store.deliveries(row.id, deliveries).await?, false).await?;
    Ok(view_with(row, deliveries, secret))
}

fn view_with(row: WebhookRow, deliveries: Vec<Delivery>, secret: Option<String>) -> WebhookOf {
    WebhookOf {
        path: format!("/webhook/{}", row.name),
        per_minute: row.per_minute as u32,
        name: row.name,
        brief: row.brief,
        takes: row.takes,
        whens: row.whens,
        paused: row.paused,
        made_by: row.made_by,
        made_at: row.made_at,
        secret,
        deliveries,
    }
}

/// Makes a webhook. Its secret is told in this answer and never again.
#[utoipa::path(post, path = "/api/webhooks", operation_id = "add_webhook", request_body = NewWebhook, tag = "webhooks",
    responses((status = 200, body = WebhookOf), (status = 409), (status = 422)))]
#[post("/api/webhooks", data = "<new>")]
async fn add(app: &State<App>, caller: MayOperate, record: Record<'_>, new: Sent<NewWebhook>) -> Answer<WebhookOf> {
    let new = body(new)?;
    record.note(format!("{} for the brief {}", new.name, new.brief));
    Slug::parse("the webhook's name", &new.name).map_err(invalid)?;
    let brief = starting::brief_named(app, &new.brief).await.map_err(Refused::of_what_was_sent)?;
    let (_, takes) = rules(&new.takes, &new.whens)?;
    // A setting that the suite does not have is told now, and not by the first push.
    let set = takes.iter().filter_map(|t| match &t.target {
        webhook::Target::Setting(key) => Some(key.clone()),
        _ => None,
    });
    if let Some(suite) = &brief.suite
        && let Some(row) = app.store.suite(suite).await?.filter(|r| r.git.is_none())
    {
        let (_, file) = crate::lookup::suite_file(app, &row.source).await?;
        for key in set {
            if !file.settings.contains_key(&key) {
                let hint = did_you_mean(&key, file.settings.keys().map(String::as_str));
                return Err(Refused::invalid(format!("--take set.{key}: the suite {suite} has no such setting{hint}")));
            }
        }
    }
    let per_minute = new.per_minute.unwrap_or(PER_MINUTE);
    if !(1..=MOST_PER_MINUTE).contains(&per_minute) {
        return Err(Refused::invalid(format!("--per-minute {per_minute} is out of bounds: 1 to {MOST_PER_MINUTE}")));
    }
    let secret: [u8; SECRET_BYTES] = random_bytes();
    let row = NewRow {
        name: &new.name,
        brief: &new.brief,
        secret: &secret,
        takes: &new.takes,
        whens: &new.whens,
        per_minute: per_minute as i32,
        made_by: &caller.0.name,
    };
    let row = app.store.add_webhook(row).await?;
    let row = row.ok_or_else(|| {
        Refused::conflict(format!(
            "there is a webhook named {} already: give this one another name, or remove that one",
            new.name
        ))
    })?;
    Ok(Json(view(app, row, 0, Some(webhook::write_secret(&secret))).await?))
}

/// Conditions and takes as they are written, read.
fn rules(takes: &[String], whens: &[String]) -> Result<(Vec<When>, Vec<Take>), Refused> {
    let whens = whens.iter().map(|w| When::parse(w)).collect::<Result<_, _>>().map_err(invalid)?;
    let takes = takes.iter().map(|t| Take::parse(t)).collect::<Result<_, _>>().map_err(invalid)?;
    Ok((whens, takes))
}

/// All webhooks, by name, each with its latest delivery.
#[utoipa::path(get, path = "/api/webhooks", operation_id = "list_webhooks", tag = "webhooks", responses((status = 200, body = [WebhookOf])))]
#[get("/api/webhooks")]
async fn list(app: &State<App>, _caller: MaySee) -> Answer<Vec<WebhookOf>> {
    let rows = app.store.webhooks().await?;
    let last = app.store.last_deliveries().await?;
    let of_row: HashMap<i64, i64> = last.iter().map(|d| (d.id, d.webhook_id)).collect();
    let mut latest: HashMap<i64, Delivery> = HashMap::new();
    for delivery in delivery_view(app, last, false).await? {
        if let Some(row) = of_row.get(&delivery.id) {
            latest.insert(*row, delivery);
        }
    }
    let one = |row: WebhookRow| {
        let deliveries = latest.remove(&row.id).into_iter().collect();
        view_with(row, deliveries, None)
    };
    Ok(Json(rows.into_iter().map(one).collect()))
}

/// One webhook with its deliveries.
#[utoipa::path(get, path = "/api/webhooks/{name}", operation_id = "show_webhook", params(("name" = String, Path)), tag = "webhooks",
    responses((status = 200, body = WebhookOf), (status = 404)))]
#[get("/api/webhooks/<name>")]
async fn show(app: &State<App>, _caller: MaySee, name: &str) -> Answer<WebhookOf> {
    let row = row_named(app, name).await?;
    Ok(Json(view(app, row, MOST_SHOWN, None).await?))
}

/// Removes a webhook with its deliveries; its runs stay.
#[utoipa::path(delete, path = "/api/webhooks/{name}", operation_id = "remove_webhook", params(("name" = String, Path)), tag = "webhooks",
    responses((status = 204), (status = 404)))]
#[delete("/api/webhooks/<name>")]
async fn remove(app: &State<App>, _caller: MayOperate, name: &str) -> Result<Status, Refused> {
    row_named(app, name).await?;
    app.store.remove_webhook(name).await?;
    Ok(Status::NoContent)
}

/// Pauses a webhook, or goes on with it. What comes meanwhile is refused.
#[utoipa::path(post, path = "/api/webhooks/{name}/pause", operation_id = "pause_webhook", params(("name" = String, Path)), tag = "webhooks",
    request_body = Pause, responses((status = 200, body = WebhookOf), (status = 404)))]
#[post("/api/webhooks/<name>/pause", data = "<pause>")]
async fn pause(app: &State<App>, _caller: MayOperate, name: &str, pause: Sent<Pause>) -> Answer<WebhookOf> {
    let Pause { paused } = body(pause)?;
    row_named(app, name).await?;
    app.store.change_webhook(name, None, Some(paused)).await?;
    let row = row_named(app, name).await?;
    Ok(Json(view(app, row, MOST_SHOWN, None).await?))
}

/// Makes a new secret; the old one is no longer good.
#[utoipa::path(post, path = "/api/webhooks/{name}/secret", operation_id = "new_webhook_secret", params(("name" = String, Path)), tag = "webhooks",
    responses((status = 200, body = WebhookOf), (status = 404)))]
#[post("/api/webhooks/<name>/secret")]
async fn new_secret(app: &State<App>, _caller: MayOperate, name: &str) -> Answer<WebhookOf> {
    row_named(app, name).await?;
    let secret: [u8; SECRET_BYTES] = random_bytes();
    app.store.change_webhook(name, Some(&secret), None).await?;
    let row = row_named(app, name).await?;
    Ok(Json(view(app, row, 0, Some(webhook::write_secret(&secret))).await?))
}

/// What a body that was read would do: the run, if it starts one.
struct Decided {
    did: Did,
    why: String,
    run: Option<kesmo_store::runs::NewRun>,
    toml: Option<String>,
    event: Option<String>,
}

/// Decides what a genuine body does.
async fn decided(app: &App, row: &WebhookRow, headers: &Headers, content: &[u8]) -> Result<Decided, Refused> {
    let refused = |why: String, event| Decided { did: Did::Refused, why, run: None, toml: None, event };
    let told = match read_body(headers, content) {
        Ok(told) => told,
        Err(e) => return Ok(refused(e.to_string(), None)),
    };
    // What is taken out of it is kept.
    if let Err(why) = super::body::check_texts(&told.body, super::body::LONGEST_TEXT, &mut String::new()) {
        return Ok(refused(why, None));
    }
    if told.event.as_ref().is_some_and(|event| event.len() > LONGEST_EVENT || event.contains('\0')) {
        return Ok(refused(format!("source and id of the event are not usable: at most {LONGEST_EVENT} bytes"), None));
    }
    let (whens, takes) = rules(&row.takes, &row.whens)?;
    let taken = match decide(&whens, &takes, &told.body) {
        Decision::Start(taken) => taken,
        Decision::Pass(why) => return Ok(Decided { did: Did::Ignored, ..refused(why, told.event) }),
        Decision::Refuse(why) => return Ok(refused(why, told.event)),
    };
    let Taken { branch, commit, env, labels, set } = taken;
    let changes = Changes {
        branch,
        commit,
        options: RunOptions { env, labels, set, ..RunOptions::default() },
        ..Changes::default()
    };
    let brief = match starting::brief_named(app, &row.brief).await {
        Ok(brief) => brief,
        Err(e) if e.0 == Status::NotFound => return Ok(refused(e.1.message, told.event)),
        Err(e) => return Err(e),
    };
    let origin = Origin { kind: OriginKind::Webhook, name: Some(row.name.clone()), ..Origin::default() };
    let (brief, mut origin) = starting::changed(&row.brief, &brief, changes, origin);
    // Branch and commit are told of every run by themselves.
    origin.changed.retain(|c| !c.starts_with("branch = ") && !c.starts_with("commit = "));
    let toml = brief.to_toml();
    let wanted = Wanted { brief, origin, by: format!("webhook {}", row.name), told: true, ..Wanted::default() };
    match starting::prepare(app, wanted, &mut Looked::default()).await {
        Ok(run) => {
            Ok(Decided { did: Did::Started, why: String::new(), run: Some(run), toml: Some(toml), event: told.event })
        }
        Err(e) if e.is_ours() => Err(e),
        Err(e) => Ok(refused(e.1.message, told.event)),
    }
}

/// Tries a body: says what it would do. Nothing is started or kept, and no signature is asked for.
#[utoipa::path(post, path = "/api/webhooks/{name}/try", operation_id = "try_webhook", params(("name" = String, Path)), tag = "webhooks",
    request_body = TryWebhook, responses((status = 200, body = Tried), (status = 404)))]
#[post("/api/webhooks/<name>/try", data = "<try_it>")]
async fn try_body(app: &State<App>, _caller: MaySee, name: &str, try_it: Sent<TryWebhook>) -> Answer<Tried> {
    let TryWebhook { body: content, content_type } = body(try_it)?;
    let row = row_named(app, name).await?;
    let headers = Headers { content_type, event: BTreeMap::new() };
    let decided = decided(app, &row, &headers, content.as_bytes()).await?;
    Ok(Json(Tried { did: decided.did, why: decided.why, toml: decided.toml }))
}

/// One delivery, with its body.
#[utoipa::path(get, path = "/api/webhooks/{name}/deliveries/{id}", operation_id = "show_delivery", tag = "webhooks",
    params(("name" = String, Path), ("id" = i64, Path)), responses((status = 200, body = Delivery), (status = 404)))]
#[get("/api/webhooks/<name>/deliveries/<id>")]
async fn delivery(app: &State<App>, _caller: MaySee, name: &str, id: i64) -> Answer<Delivery> {
    let row = row_named(app, name).await?;
    Ok(Json(one_delivery(app, &row, id).await?))
}

async fn stored(app: &App, row: &WebhookRow, id: i64) -> Result<DeliveryRow, Refused> {
    let found = app.store.delivery(row.id, id).await?;
    found.ok_or_else(|| {
        Refused::not_found(format!(
            "the webhook {} has no delivery {id}: see `kesmo webhook show {}`",
            row.name, row.name
        ))
    })
}

async fn one_delivery(app: &App, row: &WebhookRow, id: i64) -> Result<Delivery, Refused> {
    let found = stored(app, row, id).await?;
    delivery_view(app, vec![found], true).await?.pop().ok_or_else(|| Refused::not_found("the delivery is gone"))
}

/// Takes a delivery once more, as if it had come now: after what kept it from starting something was mended.
#[utoipa::path(post, path = "/api/webhooks/{name}/deliveries/{id}/redeliver", operation_id = "redeliver", tag = "webhooks",
    params(("name" = String, Path), ("id" = i64, Path)), responses((status = 200, body = Delivery), (status = 404), (status = 409)))]
#[post("/api/webhooks/<name>/deliveries/<id>/redeliver")]
async fn redeliver(app: &State<App>, caller: MayOperate, name: &str, id: i64) -> Answer<Delivery> {
    let row = row_named(app, name).await?;
    let before = stored(app, &row, id).await?;
    if !before.genuine {
        return Err(Refused::conflict("it was not genuine, and nobody knows who sent it: it cannot be redelivered"));
    }
    let event = serde_json::from_value(before.event_headers.clone()).unwrap_or_default();
    let headers = Headers { content_type: before.content_type.clone(), event };
    let decided = decided(app, &row, &headers, &before.body).await?;
    let why =
        format!("redelivered by {}{}{}", caller.0.name, if decided.why.is_empty() { "" } else { ": " }, decided.why);
    let new = NewDelivery {
        webhook_id: row.id,
        message_id: before.message_id.clone(),
        event: before.event.clone(),
        redelivery_of: Some(before.redelivery_of.unwrap_or(before.id)),
        genuine: true,
        content_type: before.content_type.clone(),
        event_headers: before.event_headers.clone(),
        body: before.body.clone(),
        did: decided.did.word(),
        why,
    };
    let kept = match app.deliveries.take(new, decided.run).await? {
        Kept::New(kept, run) => {
            starting::hand_over(app, run.map(|run| *run).as_slice()).await?;
            kept
        }
        Kept::Before(kept) => kept,
    };
    Ok(Json(one_delivery(app, &row, kept.id).await?))
}

/// Headers of a delivery.
pub struct Came {
    id: Option<String>,
    timestamp: Option<String>,
    signature: Option<String>,
    headers: Headers,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Came {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let headers = request.headers();
        let one = |name: &str| headers.get_one(name).map(str::to_owned);
        let event = headers
            .iter()
            .filter_map(|h| {
                let name = h.name().as_str().to_lowercase();
                Some((name.strip_prefix("ce-")?.to_owned(), h.value().to_owned()))
            })
            .take(64)
            .collect();
        let content_type = one("content-type").unwrap_or_default();
        Outcome::Success(Self {
            id: one("webhook-id"),
            timestamp: one("webhook-timestamp"),
            signature: one("webhook-signature"),
            headers: Headers { content_type: shorten(&content_type, 200), event },
        })
    }
}

/// Takes a delivery of another system. It needs no token: the body is signed with the webhook's secret, as Standard Webhooks
/// says. It is answered once it is stored.
#[utoipa::path(post, path = "/webhook/{name}", operation_id = "webhook", tag = "webhooks", security(()),
    params(("name" = String, Path), ("webhook-id" = String, Header), ("webhook-timestamp" = String, Header), ("webhook-signature" = String, Header)),
    request_body(content = String, content_type = "application/json"),
    responses((status = 200, body = Delivery), (status = 401, description = "not genuine, or old"),
        (status = 409, description = "it had come before"), (status = 413), (status = 422, description = "it should start something and cannot"),
        (status = 429, description = "too many in a minute")))]
#[post("/webhook/<name>", data = "<content>")]
async fn take(app: &State<App>, name: &str, sent: Came, content: Data<'_>) -> Answer<Delivery> {
    // Anybody may ask; a NUL is in no name, and PostgreSQL takes none.
    let row = if name.contains('\0') { None } else { app.store.webhook(name).await? };
    let Some(row) = row else {
        return Err(Refused::not_found("there is no such webhook"));
    };
    app.rates.take(&row, false)?;
    let read = content.open(LARGEST_BODY.bytes()).into_bytes().await;
    let read = read.map_err(|e| Refused::invalid(format!("the body could not be read: {e}")))?;
    if !read.is_complete() {
        return Err(Refused::too_large(format!("a delivery has at most {}", Bytes(LARGEST_BODY as u64))));
    }
    let content = read.into_inner();
    let signed =
        Signed { id: sent.id.as_deref(), timestamp: sent.timestamp.as_deref(), signature: sent.signature.as_deref() };
    let verified = verify(&row.secret, signed, &content, Timestamp::from(chrono::Utc::now())).map(str::to_owned);
    let claimed = shorten(sent.id.as_deref().unwrap_or(""), 200);
    let mut new = NewDelivery {
        webhook_id: row.id,
        message_id: claimed,
        event: None,
        redelivery_of: None,
        genuine: false,
        content_type: sent.headers.content_type.clone(),
        event_headers: serde_json::to_value(&sent.headers.event).unwrap_or_default(),
        body: Vec::new(),
        did: Did::Refused.word(),
        why: String::new(),
    };
    if let Err(e) = verified {
        let why = e.to_string();
        // What anybody may send is kept without its body.
        let kept = app.deliveries.take(NewDelivery { why: why.clone(), ..new }, None).await?;
        trim(app, &row, &kept).await;
        return Err(Refused::new(Status::Unauthorized, "unauthorized", why));
    }
    app.rates.take(&row, true)?;
    let decided = if row.paused {
        // Kept, so that it can be taken again by hand.
        let why = format!("the webhook {name} is paused");
        Decided { did: Did::Refused, why, run: None, toml: None, event: None }
    } else {
        decided(app, &row, &sent.headers, &content).await?
    };
    (new.genuine, new.did, new.why) = (true, decided.did.word(), decided.why);
    (new.event, new.body) = (decided.event, content);
    let kept = app.deliveries.take(new, decided.run).await?;
    trim(app, &row, &kept).await;
    match kept {
        Kept::Before(before) => {
            let mut before = delivery_view(app, vec![before], false).await?;
            let did = before.pop().map_or_else(String::new, |b| {
                let run = b.run.map_or_else(String::new, |run| format!(" {run}"));
                format!(" at {}: {}{run}", b.at.format("%Y-%m-%d %H:%M:%S UTC"), b.did.word())
            });
            Err(Refused::conflict(format!("this delivery had come before{did}; it is not taken twice")))
        }
        Kept::New(kept, run) => {
            let refused = decided.did == Did::Refused;
            starting::hand_over(app, run.map(|run| *run).as_slice()).await?;
            let mut told = delivery_view(app, vec![kept], false).await?;
            match told.pop() {
                Some(told) if row.paused => Err(Refused::conflict(told.why)),
                Some(told) if refused => Err(Refused::invalid(told.why)),
                Some(told) => Ok(Json(told)),
                None => Err(Refused::not_found("the delivery is gone")),
            }
        }
    }
}

/// Clears old deliveries away now and then.
async fn trim(app: &App, row: &WebhookRow, kept: &Kept) {
    let Kept::New(kept, _) = kept else { return };
    if kept.id % TRIM_EVERY == 0
        && let Err(e) = app.store.trim_deliveries(row.id).await
    {
        tracing::warn!("old deliveries of {} could not be cleared away: {e}", row.name);
    }
}
