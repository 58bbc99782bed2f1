//! Call-ins: made and read by people, called by other systems.
//!
//! A delivery is taken in this order: how fast they come, how large it is, whether it is genuine and new, how fast genuine ones
//! come, what it says. It is answered once it is stored, with the run that it started.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{Mutex, PoisonError},
};

use kesmo_core::{
    call_in::{
        self, Decision, Did, Headers, LARGEST_BODY, Rate, SECRET_BYTES, Signed, Take, Taken, When, decide, read_body,
        verify,
    },
    name::{Slug, did_you_mean, shorten},
    plan::{
        RunOptions,
        brief::{Changes, Origin, OriginKind},
    },
    time::{Bytes, Span, Timestamp},
};
use kesmo_store::call_ins::{CallInRow, DeliveryRow, Kept, NewCallIn as NewRow, NewDelivery};
use kesmo_wire::api::{CallInOf, Delivery, NewCallIn, Pause, Tried, TryCallIn};
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

use super::{Answer, Refused, Sent, body};
use crate::{
    App,
    access::{MayOperate, MaySee, random_bytes},
    floor,
    starting::{self, Looked, Wanted},
};

/// Deliveries a minute unless told otherwise, and the most.
const PER_MINUTE: u32 = 120;
const MOST_PER_MINUTE: u32 = 60_000;
/// The longest source and id of an event together, by which one that comes twice is found.
const LONGEST_EVENT: usize = 1000;
/// Deliveries that are shown of a call-in.
const MOST_SHOWN: i64 = 100;
/// Every so many deliveries the oldest are cleared away.
const TRIM_EVERY: i64 = 50;

/// How fast deliveries come, by call-in: all of them, and those that are genuine, so that whoever does not know the secret
/// does not use up what belongs to those who do. Each service counts for itself.
#[derive(Default)]
pub struct Rates(Mutex<HashMap<(i64, bool), Rate>>);

/// So many times what a call-in takes may come to it, genuine or not.
const ANY_TIMES: u32 = 10;

impl Rates {
    fn take(&self, row: &CallInRow, genuine: bool) -> Result<(), Refused> {
        let now = floor::now();
        let per_minute =
            if genuine { row.per_minute as u32 } else { (row.per_minute as u32).max(PER_MINUTE) * ANY_TIMES };
        let mut rates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let rate = rates.entry((row.id, genuine)).or_insert_with(|| Rate::new(per_minute, now));
        rate.take(per_minute, now).map_err(|wait: Span| {
            Refused::too_fast(format!("more than {per_minute} deliveries a minute are not taken: try again in {wait}"))
        })
    }
}

pub(super) fn routes() -> Vec<Route> {
    routes![add, list, show, remove, pause, new_secret, try_body, delivery, again, take]
}

fn invalid(error: kesmo_core::Error) -> Refused {
    Refused::invalid(error.to_string())
}

async fn row_named(app: &App, name: &str) -> Result<CallInRow, Refused> {
    if let Some(row) = app.store.call_in(name).await? {
        return Ok(row);
    }
    let all = app.store.call_ins().await?;
    let hint = did_you_mean(name, all.iter().map(|s| s.name.as_str()));
    Err(Refused::not_found(format!("there is no call-in named {name:?}{hint} (make one with `kesmo call-in add`)")))
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
        webhook_id: row.webhook_id,
        at: row.at,
        genuine: row.genuine,
        why: row.why,
        again_of: row.again_of,
        content_type: row.content_type,
    };
    Ok(rows.into_iter().map(view).collect())
}

async fn view(app: &App, row: CallInRow, deliveries: i64, secret: Option<String>) -> Result<CallInOf, Refused> {
    let deliveries = delivery_view(app, app.store.deliveries(row.id, deliveries).await?, false).await?;
    Ok(view_with(row, deliveries, secret))
}

fn view_with(row: CallInRow, deliveries: Vec<Delivery>, secret: Option<String>) -> CallInOf {
    CallInOf {
        path: format!("/call-in/{}", row.name),
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

/// Makes a call-in. Its secret is told in this answer and never again.
#[utoipa::path(post, path = "/api/call-ins", operation_id = "add_call_in", request_body = NewCallIn, tag = "call-ins",
    responses((status = 200, body = CallInOf), (status = 409), (status = 422)))]
#[post("/api/call-ins", data = "<new>")]
async fn add(app: &State<App>, caller: MayOperate, new: Sent<NewCallIn>) -> Answer<CallInOf> {
    let new = body(new)?;
    Slug::parse("the call-in's name", &new.name).map_err(invalid)?;
    let brief = starting::brief_named(app, &new.brief).await.map_err(|e| Refused(Status::UnprocessableEntity, e.1))?;
    let (_, takes) = rules(&new.takes, &new.whens)?;
    // A setting that the suite does not have is told now, and not by the first push.
    let set = takes.iter().filter_map(|t| match &t.target {
        call_in::Target::Setting(key) => Some(key.clone()),
        _ => None,
    });
    if let Some(suite) = &brief.suite
        && let Some(row) = app.store.suite(suite).await?.filter(|r| r.git.is_none())
    {
        let (_, file) = super::suites::suite_file(app, &row.source).await?;
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
    let row = app.store.add_call_in(row).await?;
    let row = row.ok_or_else(|| {
        Refused::conflict(format!(
            "there is a call-in named {} already: give this one another name, or remove that one",
            new.name
        ))
    })?;
    Ok(Json(view(app, row, 0, Some(call_in::write_secret(&secret))).await?))
}

/// Conditions and takes as they are written, read.
fn rules(takes: &[String], whens: &[String]) -> Result<(Vec<When>, Vec<Take>), Refused> {
    let whens = whens.iter().map(|w| When::parse(w)).collect::<Result<_, _>>().map_err(invalid)?;
    let takes = takes.iter().map(|t| Take::parse(t)).collect::<Result<_, _>>().map_err(invalid)?;
    Ok((whens, takes))
}

/// All call-ins, by name, each with its latest delivery.
#[utoipa::path(get, path = "/api/call-ins", operation_id = "list_call_ins", tag = "call-ins", responses((status = 200, body = [CallInOf])))]
#[get("/api/call-ins")]
async fn list(app: &State<App>, _caller: MaySee) -> Answer<Vec<CallInOf>> {
    let rows = app.store.call_ins().await?;
    let last = app.store.last_deliveries().await?;
    let of_row: HashMap<i64, i64> = last.iter().map(|d| (d.id, d.call_in_id)).collect();
    let mut latest: HashMap<i64, Delivery> = HashMap::new();
    for delivery in delivery_view(app, last, false).await? {
        if let Some(row) = of_row.get(&delivery.id) {
            latest.insert(*row, delivery);
        }
    }
    let one = |row: CallInRow| {
        let deliveries = latest.remove(&row.id).into_iter().collect();
        view_with(row, deliveries, None)
    };
    Ok(Json(rows.into_iter().map(one).collect()))
}

/// One call-in with its deliveries.
#[utoipa::path(get, path = "/api/call-ins/{name}", operation_id = "show_call_in", params(("name" = String, Path)), tag = "call-ins",
    responses((status = 200, body = CallInOf), (status = 404)))]
#[get("/api/call-ins/<name>")]
async fn show(app: &State<App>, _caller: MaySee, name: &str) -> Answer<CallInOf> {
    let row = row_named(app, name).await?;
    Ok(Json(view(app, row, MOST_SHOWN, None).await?))
}

/// Removes a call-in with its deliveries; its runs stay.
#[utoipa::path(delete, path = "/api/call-ins/{name}", operation_id = "remove_call_in", params(("name" = String, Path)), tag = "call-ins",
    responses((status = 204), (status = 404)))]
#[delete("/api/call-ins/<name>")]
async fn remove(app: &State<App>, _caller: MayOperate, name: &str) -> Result<Status, Refused> {
    row_named(app, name).await?;
    app.store.remove_call_in(name).await?;
    Ok(Status::NoContent)
}

/// Pauses a call-in, or goes on with it. What comes meanwhile is refused.
#[utoipa::path(post, path = "/api/call-ins/{name}/pause", operation_id = "pause_call_in", params(("name" = String, Path)), tag = "call-ins",
    request_body = Pause, responses((status = 200, body = CallInOf), (status = 404)))]
#[post("/api/call-ins/<name>/pause", data = "<pause>")]
async fn pause(app: &State<App>, _caller: MayOperate, name: &str, pause: Sent<Pause>) -> Answer<CallInOf> {
    let Pause { paused } = body(pause)?;
    row_named(app, name).await?;
    app.store.change_call_in(name, None, Some(paused)).await?;
    let row = row_named(app, name).await?;
    Ok(Json(view(app, row, MOST_SHOWN, None).await?))
}

/// Makes a new secret; the old one is no longer good.
#[utoipa::path(post, path = "/api/call-ins/{name}/secret", operation_id = "new_call_in_secret", params(("name" = String, Path)), tag = "call-ins",
    responses((status = 200, body = CallInOf), (status = 404)))]
#[post("/api/call-ins/<name>/secret")]
async fn new_secret(app: &State<App>, _caller: MayOperate, name: &str) -> Answer<CallInOf> {
    row_named(app, name).await?;
    let secret: [u8; SECRET_BYTES] = random_bytes();
    app.store.change_call_in(name, Some(&secret), None).await?;
    let row = row_named(app, name).await?;
    Ok(Json(view(app, row, 0, Some(call_in::write_secret(&secret))).await?))
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
async fn decided(app: &App, row: &CallInRow, headers: &Headers, content: &[u8]) -> Result<Decided, Refused> {
    let refused = |why: String, event| Decided { did: Did::Refused, why, run: None, toml: None, event };
    let told = match read_body(headers, content) {
        Ok(told) => told,
        Err(e) => return Ok(refused(e.to_string(), None)),
    };
    // What is taken out of it is kept.
    if let Err(why) = super::check_texts(&told.body, &mut String::new()) {
        return Ok(refused(why, None));
    }
    if told.event.as_ref().is_some_and(|event| event.len() > LONGEST_EVENT || event.contains('\0')) {
        return Ok(refused(format!("source and id of the event are not usable: at most {LONGEST_EVENT} bytes"), None));
    }
    let (whens, takes) = rules(&row.takes, &row.whens)?;
    let taken = match decide(&whens, &takes, &told.body) {
        Decision::Start(taken) => taken,
        Decision::Pass(why) => return Ok(Decided { did: Did::Passed, ..refused(why, told.event) }),
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
    let origin = Origin { kind: OriginKind::CallIn, name: Some(row.name.clone()), ..Origin::default() };
    let (brief, mut origin) = starting::changed(&row.brief, &brief, changes, origin);
    // Branch and commit are told of every run by themselves.
    origin.changed.retain(|c| !c.starts_with("branch = ") && !c.starts_with("commit = "));
    let toml = brief.to_toml();
    let wanted = Wanted { brief, origin, by: format!("call-in {}", row.name), told: true, ..Wanted::default() };
    match starting::prepare(app, wanted, &mut Looked::default()).await {
        Ok(run) => {
            Ok(Decided { did: Did::Started, why: String::new(), run: Some(run), toml: Some(toml), event: told.event })
        }
        Err(e) if e.is_ours() => Err(e),
        Err(e) => Ok(refused(e.1.message, told.event)),
    }
}

/// Tries a body: says what it would do. Nothing is started or kept, and no signature is asked for.
#[utoipa::path(post, path = "/api/call-ins/{name}/try", operation_id = "try_call_in", params(("name" = String, Path)), tag = "call-ins",
    request_body = TryCallIn, responses((status = 200, body = Tried), (status = 404)))]
#[post("/api/call-ins/<name>/try", data = "<try_it>")]
async fn try_body(app: &State<App>, _caller: MaySee, name: &str, try_it: Sent<TryCallIn>) -> Answer<Tried> {
    let TryCallIn { body: content, content_type } = body(try_it)?;
    let row = row_named(app, name).await?;
    let headers = Headers { content_type, event: BTreeMap::new() };
    let decided = decided(app, &row, &headers, content.as_bytes()).await?;
    Ok(Json(Tried { did: decided.did, why: decided.why, toml: decided.toml }))
}

/// One delivery, with its body.
#[utoipa::path(get, path = "/api/call-ins/{name}/deliveries/{id}", operation_id = "show_delivery", tag = "call-ins",
    params(("name" = String, Path), ("id" = i64, Path)), responses((status = 200, body = Delivery), (status = 404)))]
#[get("/api/call-ins/<name>/deliveries/<id>")]
async fn delivery(app: &State<App>, _caller: MaySee, name: &str, id: i64) -> Answer<Delivery> {
    let row = row_named(app, name).await?;
    Ok(Json(one_delivery(app, &row, id).await?))
}

async fn stored(app: &App, row: &CallInRow, id: i64) -> Result<DeliveryRow, Refused> {
    let found = app.store.delivery(row.id, id).await?;
    found.ok_or_else(|| {
        Refused::not_found(format!(
            "the call-in {} has no delivery {id}: see `kesmo call-in show {}`",
            row.name, row.name
        ))
    })
}

async fn one_delivery(app: &App, row: &CallInRow, id: i64) -> Result<Delivery, Refused> {
    let found = stored(app, row, id).await?;
    delivery_view(app, vec![found], true).await?.pop().ok_or_else(|| Refused::not_found("the delivery is gone"))
}

/// Takes a delivery once more, as if it had come now: after what kept it from starting something was mended.
#[utoipa::path(post, path = "/api/call-ins/{name}/deliveries/{id}/again", operation_id = "repeat_delivery", tag = "call-ins",
    params(("name" = String, Path), ("id" = i64, Path)), responses((status = 200, body = Delivery), (status = 404), (status = 409)))]
#[post("/api/call-ins/<name>/deliveries/<id>/again")]
async fn again(app: &State<App>, caller: MayOperate, name: &str, id: i64) -> Answer<Delivery> {
    let row = row_named(app, name).await?;
    let before = stored(app, &row, id).await?;
    if !before.genuine {
        return Err(Refused::conflict("it was not genuine, and nobody knows who sent it: it cannot be sent again"));
    }
    let event = serde_json::from_value(before.event_headers.clone()).unwrap_or_default();
    let headers = Headers { content_type: before.content_type.clone(), event };
    let decided = decided(app, &row, &headers, &before.body).await?;
    let why =
        format!("sent again by {}{}{}", caller.0.name, if decided.why.is_empty() { "" } else { ": " }, decided.why);
    let new = NewDelivery {
        call_in_id: row.id,
        webhook_id: &before.webhook_id,
        event: before.event.as_deref(),
        again_of: Some(before.again_of.unwrap_or(before.id)),
        genuine: true,
        content_type: &before.content_type,
        event_headers: before.event_headers.clone(),
        body: &before.body,
        did: decided.did.word(),
        why: &why,
    };
    let kept = match app.store.take_delivery(new, decided.run.as_ref()).await? {
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

/// Takes a delivery of another system. It needs no token: the body is signed with the call-in's secret, as Standard Webhooks
/// says. It is answered once it is stored.
#[utoipa::path(post, path = "/call-in/{name}", operation_id = "call_in", tag = "call-ins", security(()),
    params(("name" = String, Path), ("webhook-id" = String, Header), ("webhook-timestamp" = String, Header), ("webhook-signature" = String, Header)),
    request_body(content = String, content_type = "application/json"),
    responses((status = 200, body = Delivery), (status = 401, description = "not genuine, or old"),
        (status = 409, description = "it had come before"), (status = 413), (status = 422, description = "it should start something and cannot"),
        (status = 429, description = "too many in a minute")))]
#[post("/call-in/<name>", data = "<content>")]
async fn take(app: &State<App>, name: &str, sent: Came, content: Data<'_>) -> Answer<Delivery> {
    // Anybody may ask; a NUL is in no name, and PostgreSQL takes none.
    let row = if name.contains('\0') { None } else { app.store.call_in(name).await? };
    let Some(row) = row else {
        return Err(Refused::not_found("there is no such call-in"));
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
        call_in_id: row.id,
        webhook_id: &claimed,
        event: None,
        again_of: None,
        genuine: false,
        content_type: &sent.headers.content_type,
        event_headers: serde_json::to_value(&sent.headers.event).unwrap_or_default(),
        body: &content,
        did: Did::Refused.word(),
        why: "",
    };
    if let Err(e) = verified {
        let why = e.to_string();
        // What anybody may send is kept without its body.
        let kept = app.store.take_delivery(NewDelivery { why: &why, body: &[], ..new }, None).await?;
        trim(app, &row, &kept).await;
        return Err(Refused(
            Status::Unauthorized,
            kesmo_wire::api::Refusal { kind: "unauthorized".into(), message: why },
        ));
    }
    app.rates.take(&row, true)?;
    let decided = if row.paused {
        // Kept, so that it can be taken again by hand.
        let why = format!("the call-in {name} is paused");
        Decided { did: Did::Refused, why, run: None, toml: None, event: None }
    } else {
        decided(app, &row, &sent.headers, &content).await?
    };
    (new.genuine, new.did, new.why) = (true, decided.did.word(), &decided.why);
    new.event = decided.event.as_deref();
    let kept = app.store.take_delivery(new, decided.run.as_ref()).await?;
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
async fn trim(app: &App, row: &CallInRow, kept: &Kept) {
    let Kept::New(kept, _) = kept else { return };
    if kept.id % TRIM_EVERY == 0
        && let Err(e) = app.store.trim_deliveries(row.id).await
    {
        tracing::warn!("old deliveries of {} could not be cleared away: {e}", row.name);
    }
}
