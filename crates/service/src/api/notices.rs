//! Notices: made, seen with what they sent, tried and removed.

use chrono::Utc;
use kesmo_core::{
    name::{Slug, did_you_mean},
    notice::{Event, Notice, Sample, To, telling},
    webhook::{SECRET_BYTES, write_secret},
};
use kesmo_files::secret::random_bytes;
use kesmo_store::notices::{DeliveryRow, EventRow, NewNotice as NewRow, NoticeRow, Standing};
use kesmo_wire::api::{Me, NewNotice, NoticeEvent, NoticeMessage, NoticeOf, Pause, Role};
use rocket::{Route, State, delete, get, http::Status, post, put, routes, serde::json::Json};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayKeep, MaySee},
    app::App,
    notices::{HOLD, message_id, send_one},
    refused::Refused,
};

/// Messages and events that are shown.
const MOST_SHOWN: i64 = 100;
/// The longest secret, in bytes.
const LONGEST_SECRET: usize = 10_000;

pub(super) fn routes() -> Vec<Route> {
    routes![list, show, put, remove, pause, try_it, message, again, new_secret]
}

fn invalid(e: kesmo_core::Error) -> Refused {
    Refused::invalid(e.to_string())
}

/// Of which runs a notice tells, in words.
fn of(notice: &Notice) -> String {
    let mut said = Vec::new();
    for (word, list) in [("suite", &notice.suites), ("brief", &notice.briefs), ("branch", &notice.branches)] {
        if !list.is_empty() {
            said.push(format!("{word} {}", list.join(" or ")));
        }
    }
    said.extend(notice.labels.iter().map(|(key, value)| format!("label {key}={value}")));
    if said.is_empty() { "all runs".into() } else { said.join(", ") }
}

/// When it is sent, where that is not at once.
fn sent(notice: &Notice) -> Option<String> {
    let mut said = Vec::new();
    said.extend(notice.digest.as_ref().map(|digest| format!("as a digest ({digest})")));
    if !notice.quiet.is_empty() {
        said.push(format!("not at {}", notice.quiet.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")));
    }
    if said.is_empty() {
        return None;
    }
    said.push(notice.zone.clone().unwrap_or_else(|| "UTC".into()));
    Some(said.join(", "))
}

fn view(row: NoticeRow, stand: Standing, caller: &Me, mail: bool) -> Result<NoticeOf, Refused> {
    let notice = row.notice()?;
    let trouble = match &notice.to {
        To::Mail(_) if !mail => {
            Some("this service has no mail server: start it with --mail-server and --mail-from".to_owned())
        }
        _ if stand.silent => Some("its last message was given up".to_owned()),
        _ => None,
    };
    Ok(NoticeOf {
        name: row.name,
        when: notice.when.iter().map(ToString::to_string).collect(),
        of: of(&notice),
        to: notice.to.word().to_owned(),
        address: notice.to.said(),
        sent: sent(&notice),
        paused: row.paused,
        made_by: row.made_by,
        made_at: row.made_at,
        sent_count: stand.sent,
        trying: stand.trying,
        given_up: stand.given_up,
        gathering: stand.gathering,
        told_before: stand.held,
        trouble,
        secret: None,
        notice: (caller.role == Role::Admin).then_some(notice),
        messages: Vec::new(),
        kept: Vec::new(),
    })
}

async fn row_named(app: &App, name: &str) -> Result<NoticeRow, Refused> {
    if let Some(row) = app.store.notice(name).await? {
        return Ok(row);
    }
    let rows = app.store.notices().await?;
    let hint = did_you_mean(name, rows.iter().map(|row| row.name.as_str()));
    Err(Refused::not_found(format!("there is no notice named {name:?}{hint} (make one with `kesmo notice add`)")))
}

fn events_of(rows: &[EventRow], delivery: i64) -> Vec<Event> {
    rows.iter().filter(|row| row.delivery_id == Some(delivery)).filter_map(|row| row.event().ok()).collect()
}

fn message_view(name: &str, row: DeliveryRow, events: &[Event], whole: bool) -> NoticeMessage {
    let words = telling::message(name, events);
    NoticeMessage {
        number: row.id,
        id: row.message_id,
        subject: words.subject,
        next_at: (row.state == "trying").then_some(row.next_at),
        state: row.state,
        sample: row.sample,
        tries: row.tries.unsigned_abs(),
        said: row.said,
        made_at: row.made_at,
        ended_at: row.ended_at,
        text: whole.then_some(words.text),
    }
}

async fn whole(app: &App, row: NoticeRow, caller: &Me) -> Result<NoticeOf, Refused> {
    let store = &app.store;
    let stand = store.notices_stand().await?.get(&row.id).copied().unwrap_or_default();
    let deliveries = store.notice_deliveries(row.id, MOST_SHOWN).await?;
    let ids: Vec<i64> = deliveries.iter().map(|d| d.id).collect();
    let events = store.events_of(&ids).await?;
    let kept = store.events_kept(row.id, MOST_SHOWN).await?;
    let name = row.name.clone();
    let mut found = view(row, stand, caller, app.sender.has_mail())?;
    found.messages = deliveries
        .into_iter()
        .map(|d| {
            let events = events_of(&events, d.id);
            message_view(&name, d, &events, false)
        })
        .collect();
    found.kept = kept
        .into_iter()
        .filter_map(|row| {
            let event = row.event().ok()?;
            let due_at = row.held.is_none().then_some(row.due_at);
            Some(NoticeEvent { title: event.title(), at: event.at, due_at, why: row.held })
        })
        .collect();
    Ok(found)
}

/// All notices, by name.
#[utoipa::path(get, path = "/api/notices", operation_id = "list_notices", tag = "notices", responses((status = 200, body = [NoticeOf])))]
#[get("/api/notices")]
async fn list(app: &State<App>, caller: MaySee) -> Answer<Vec<NoticeOf>> {
    let stand = app.store.notices_stand().await?;
    let mut all = Vec::new();
    for row in app.store.notices().await? {
        let of_row = stand.get(&row.id).copied().unwrap_or_default();
        all.push(view(row, of_row, &caller.0, app.sender.has_mail())?);
    }
    Ok(Json(all))
}

/// One notice with its latest messages, and with what happened that is in none.
#[utoipa::path(get, path = "/api/notices/{name}", operation_id = "show_notice", params(("name" = String, Path)), tag = "notices",
    responses((status = 200, body = NoticeOf), (status = 404)))]
#[get("/api/notices/<name>")]
async fn show(app: &State<App>, caller: MaySee, name: &str) -> Answer<NoticeOf> {
    let row = row_named(app, name).await?;
    Ok(Json(whole(app, row, &caller.0).await?))
}

/// Makes a notice, or makes it anew. What signs messages to an HTTP address is told in the answer that makes it, and never again.
#[utoipa::path(put, path = "/api/notices/{name}", operation_id = "put_notice", params(("name" = String, Path)), tag = "notices",
    request_body = NewNotice, responses((status = 200, body = NoticeOf), (status = 409), (status = 422)))]
#[put("/api/notices/<name>", data = "<new>")]
async fn put(app: &State<App>, caller: MayKeep, name: &str, new: Sent<NewNotice>) -> Answer<NoticeOf> {
    let NewNotice { notice, secret, replace } = body(new)?;
    Slug::parse("the notice's name", name).map_err(invalid)?;
    notice.check().map_err(invalid)?;
    if matches!(notice.to, To::Mail(_)) && !app.sender.has_mail() {
        return Err(Refused::invalid("this service sends no mail: start it with --mail-server and --mail-from"));
    }
    let before = app.store.notice(name).await?;
    let given = secret.map(|s| s.trim().to_owned()).filter(|s| !s.is_empty());
    if given.as_ref().is_some_and(|s| s.len() > LONGEST_SECRET || s.chars().any(char::is_control)) {
        return Err(Refused::invalid(format!("the secret is not usable: one line of at most {LONGEST_SECRET} bytes")));
    }
    let same_place = |before: &NoticeRow| {
        before.notice().is_ok_and(|old| old.to.word() == notice.to.word() && old.to.said() == notice.to.said())
    };
    // A secret goes to the place for which it was given, and to no other.
    let kept = before.as_ref().filter(|row| replace && row.secret.is_some() && same_place(row)).is_some();
    let mut made = None;
    let secret: Option<Vec<u8>> = match &notice.to {
        To::Http(_) if given.is_some() => {
            return Err(Refused::invalid(
                "messages to an HTTP address are signed with a secret that is made here: give none",
            ));
        }
        To::Http(_) if !kept => {
            let bytes: [u8; SECRET_BYTES] = random_bytes();
            made = Some(write_secret(&bytes));
            Some(bytes.to_vec())
        }
        To::Mail(_) if given.is_some() => {
            return Err(Refused::invalid(
                "mail needs no secret here: the mail server's password is the service's (--mail-password-file)",
            ));
        }
        to if to.needs_secret() && given.is_none() && !kept => {
            return Err(Refused::invalid("{secret} stands in the request: give it with --secret-file"));
        }
        to if !to.needs_secret() && given.is_some() => {
            return Err(Refused::invalid("a secret was given, and {secret} stands nowhere in the request"));
        }
        _ => given.map(String::into_bytes),
    };
    let new = NewRow { name, notice: &notice, secret: secret.as_deref(), by: &caller.0.name, replace };
    let row = app.store.put_notice(new).await?;
    let row = row.ok_or_else(|| {
        Refused::conflict(format!(
            "there is a notice named {name} already: give this one another name, or replace it with --replace"
        ))
    })?;
    let mut found = whole(app, row, &caller.0).await?;
    found.secret = made;
    Ok(Json(found))
}

/// Removes a notice with its messages.
#[utoipa::path(delete, path = "/api/notices/{name}", operation_id = "remove_notice", params(("name" = String, Path)), tag = "notices",
    responses((status = 204), (status = 404)))]
#[delete("/api/notices/<name>")]
async fn remove(app: &State<App>, _caller: MayKeep, name: &str) -> Result<Status, Refused> {
    let row = row_named(app, name).await?;
    app.store.remove_notice(row.id).await?;
    Ok(Status::NoContent)
}

/// Pauses a notice, or goes on with it. What happens meanwhile is not told.
#[utoipa::path(post, path = "/api/notices/{name}/pause", operation_id = "pause_notice", params(("name" = String, Path)), tag = "notices",
    request_body = Pause, responses((status = 200, body = NoticeOf), (status = 404)))]
#[post("/api/notices/<name>/pause", data = "<pause>")]
async fn pause(app: &State<App>, caller: MayKeep, name: &str, pause: Sent<Pause>) -> Answer<NoticeOf> {
    let Pause { paused } = body(pause)?;
    let row = row_named(app, name).await?;
    app.store.change_notice(row.id, Some(paused), None).await?;
    let row = row_named(app, name).await?;
    Ok(Json(whole(app, row, &caller.0).await?))
}

/// Makes a new secret that signs; the old one is no longer used.
#[utoipa::path(post, path = "/api/notices/{name}/secret", operation_id = "new_notice_secret", params(("name" = String, Path)), tag = "notices",
    responses((status = 200, body = NoticeOf), (status = 404), (status = 422)))]
#[post("/api/notices/<name>/secret")]
async fn new_secret(app: &State<App>, caller: MayKeep, name: &str) -> Answer<NoticeOf> {
    let row = row_named(app, name).await?;
    if !matches!(row.notice()?.to, To::Http(_)) {
        return Err(Refused::invalid(format!("{name} signs nothing: only messages to an HTTP address are signed")));
    }
    let bytes: [u8; SECRET_BYTES] = random_bytes();
    app.store.change_notice(row.id, None, Some(&bytes)).await?;
    let mut found = whole(app, row, &caller.0).await?;
    found.secret = Some(write_secret(&bytes));
    Ok(Json(found))
}

/// Sends a sample at once, quiet hours or not, and answers with how it went.
#[utoipa::path(post, path = "/api/notices/{name}/try", operation_id = "try_notice", params(("name" = String, Path)), tag = "notices",
    responses((status = 200, body = NoticeMessage), (status = 404)))]
#[post("/api/notices/<name>/try")]
async fn try_it(app: &State<App>, _caller: MayKeep, name: &str) -> Answer<NoticeMessage> {
    let row = row_named(app, name).await?;
    let event = Sample::of(&row.notice()?, Utc::now(), &format!("{}/notices/{name}", app.base()));
    let delivery = app.store.sample(row.id, &message_id(), &event, HOLD).await?;
    // Whoever asked may go away; what came of it is noted all the same.
    let (ours, id) = (app.inner().clone(), delivery.id);
    let sending = tokio::spawn(async move { send_one(&ours, &ours.sender, &delivery).await.map(drop) });
    sending.await.map_err(|e| Refused::unavailable(e.to_string()))??;
    Ok(Json(found(app, &row, id).await?))
}

async fn found(app: &App, row: &NoticeRow, number: i64) -> Result<NoticeMessage, Refused> {
    let delivery = app.store.notice_delivery(row.id, number).await?;
    let delivery = delivery.ok_or_else(|| Refused::not_found(format!("{} has no message {number}", row.name)))?;
    let events = events_of(&app.store.events_of(&[number]).await?, number);
    Ok(message_view(&row.name, delivery, &events, true))
}

/// One message of a notice, with what it says.
#[utoipa::path(get, path = "/api/notices/{name}/messages/{number}", operation_id = "show_notice_message", tag = "notices",
    params(("name" = String, Path), ("number" = i64, Path)), responses((status = 200, body = NoticeMessage), (status = 404)))]
#[get("/api/notices/<name>/messages/<number>")]
async fn message(app: &State<App>, _caller: MaySee, name: &str, number: i64) -> Answer<NoticeMessage> {
    let row = row_named(app, name).await?;
    Ok(Json(found(app, &row, number).await?))
}

/// Sends a message once more that was sent or given up; it keeps its id.
#[utoipa::path(post, path = "/api/notices/{name}/messages/{number}/again", operation_id = "send_notice_again", tag = "notices",
    params(("name" = String, Path), ("number" = i64, Path)), responses((status = 200, body = NoticeMessage), (status = 404), (status = 409)))]
#[post("/api/notices/<name>/messages/<number>/again")]
async fn again(app: &State<App>, _caller: MayKeep, name: &str, number: i64) -> Answer<NoticeMessage> {
    let row = row_named(app, name).await?;
    found(app, &row, number).await?;
    if !app.store.send_again(row.id, number).await? {
        return Err(Refused::conflict(format!("message {number} is still being tried")));
    }
    Ok(Json(found(app, &row, number).await?))
}
