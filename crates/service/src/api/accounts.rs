//! Accounts: people with a name and a password, and the browsers in which they are signed in.

use chrono::{TimeDelta, Utc};
use kesmo_core::name::{Slug, did_you_mean, shorten};
use kesmo_store::{
    access::NewToken,
    accounts::{AccountRow, Rights, SessionRow},
};
use kesmo_wire::api::{
    Account, ChangeAccount, ChangePassword, ChoosePassword, Chosen, LogIn, Me, NewAccount, PasswordLink, Role, Session,
    Token,
};
use rocket::{
    Route, State, delete, get,
    http::Status,
    post, put,
    request::{FromRequest, Outcome, Request},
    routes,
    serde::json::Json,
};

use super::{
    body::{Answer, Sent, body},
    days::end_of,
    people::{Origin, PREFIX},
};
use crate::{
    access::{self, MayKeep, MaySee, Record, Shown, signing, suites},
    app::App,
    refused::Refused,
};

/// A link to choose a password by is good for so many days.
const LINK_DAYS: i64 = 7;
/// A token of one's own is good for so many days, unless it is said otherwise.
const TOKEN_DAYS: i64 = 90;

pub(super) fn routes() -> Vec<Route> {
    routes![add, list, change, remove, link, choose, change_own, log_in, sessions, end_session]
}

fn role_of(role: Role) -> Result<Role, Refused> {
    match role {
        Role::Worker => Err(Refused::invalid(
            "an account is a person's, with the role reader, operator or admin; workers have tokens (kesmo token add)",
        )),
        role => Ok(role),
    }
}

/// What somebody may do, for the record.
pub(super) fn said(role: Role, suites: &[String]) -> String {
    if suites.is_empty() { role.word().to_owned() } else { format!("{} of {}", role.word(), suites.join(", ")) }
}

async fn none_named(app: &App, name: &str) -> Result<Refused, Refused> {
    let all = app.store.accounts().await?;
    let hint = did_you_mean(name, all.iter().map(|a| a.name.as_str()));
    Ok(Refused::not_found(format!("there is no account named {name:?}{hint}")))
}

/// Makes an account. The link by which its password is chosen is in this answer only; it is good for seven days.
#[utoipa::path(post, path = "/api/accounts", operation_id = "add_account", request_body = NewAccount, tag = "people",
    responses((status = 200, body = PasswordLink), (status = 409)))]
#[post("/api/accounts", data = "<new>")]
async fn add(app: &State<App>, caller: MayKeep, record: Record<'_>, new: Sent<NewAccount>) -> Answer<PasswordLink> {
    let new = body(new)?;
    let name = Slug::parse("the account's name", &new.name).map_err(|e| Refused::invalid(e.to_string()))?;
    let role = role_of(new.role)?;
    suites::check_globs(&new.suites, role).map_err(Refused::invalid)?;
    record.note(format!("{name}, {}", said(role, &new.suites)));
    let (key, until) = (kesmo_files::secret::random_text(), Utc::now() + TimeDelta::days(LINK_DAYS));
    let rights = Rights { role: role.word(), suites: &new.suites };
    let made = app.store.add_account(name.as_str(), rights, &caller.0.name, &access::hash(&key), until).await?;
    if !made {
        return Err(Refused::conflict(format!(
            "there is an account or a token named {name} already: choose another name"
        )));
    }
    Ok(Json(PasswordLink { name: name.to_string(), role, key, until }))
}

/// All accounts.
#[utoipa::path(get, path = "/api/accounts", operation_id = "accounts", tag = "people", responses((status = 200, body = [Account])))]
#[get("/api/accounts")]
async fn list(app: &State<App>, _caller: MayKeep) -> Answer<Vec<Account>> {
    let told = |row: AccountRow| {
        Some(Account {
            role: Role::of(&row.role)?,
            suites: row.suites,
            name: row.name,
            issuer: row.issuer,
            confirmed_at: row.confirmed_at,
            chosen: row.chosen,
            made_by: row.made_by,
            made_at: row.made_at,
            seen_at: row.seen_at,
            link_until: row.link_until,
            sessions: row.sessions.max(0) as u32,
            tokens: row.tokens.max(0) as u32,
        })
    };
    Ok(Json(app.store.accounts().await?.into_iter().filter_map(told).collect()))
}

/// Gives an account another role, or other suites: it holds at once, where it is signed in and for its tokens.
#[utoipa::path(put, path = "/api/accounts/{name}", operation_id = "change_account", params(("name" = String, Path)), request_body = ChangeAccount,
    tag = "people", responses((status = 204), (status = 404), (status = 409)))]
#[put("/api/accounts/<name>", data = "<changed>")]
async fn change(
    app: &State<App>,
    caller: MayKeep,
    record: Record<'_>,
    name: &str,
    changed: Sent<ChangeAccount>,
) -> Result<Status, Refused> {
    let changed = body(changed)?;
    let role = role_of(changed.role)?;
    if caller.0.account && caller.0.name == name {
        return Err(Refused::conflict("this is your own account: another admin gives it another role"));
    }
    if let Some(issuer) = app.store.issuer_of(name).await? {
        return Err(Refused::conflict(format!(
            "{name} signs in at {issuer}: its role comes from its groups there (--oidc-role)"
        )));
    }
    let suites = match changed.suites {
        Some(suites) => {
            suites::check_globs(&suites, role).map_err(Refused::invalid)?;
            suites
        }
        None => {
            let before = app.store.accounts().await?.into_iter().find(|account| account.name == name);
            let suites = before.map(|account| account.suites).unwrap_or_default();
            let say = |why| format!("{why}. {name} is for {} only so far: --all-suites ends that", suites.join(", "));
            suites::check_globs(&suites, role).map_err(|why| Refused::invalid(say(why)))?;
            suites
        }
    };
    record.note(said(role, &suites));
    if !app.store.set_rights(name, Rights { role: role.word(), suites: &suites }).await? {
        return Err(none_named(app, name).await?);
    }
    app.known.forget();
    Ok(Status::NoContent)
}

/// Removes an account: it is signed out everywhere, and its tokens are refused. What it did stays on record.
#[utoipa::path(delete, path = "/api/accounts/{name}", operation_id = "remove_account", params(("name" = String, Path)), tag = "people",
    responses((status = 204), (status = 404), (status = 409)))]
#[delete("/api/accounts/<name>")]
async fn remove(app: &State<App>, caller: MayKeep, name: &str) -> Result<Status, Refused> {
    if caller.0.account && caller.0.name == name {
        return Err(Refused::conflict("this is your own account: another admin removes it"));
    }
    if !app.store.remove_account(name).await? {
        return Err(none_named(app, name).await?);
    }
    app.known.forget();
    Ok(Status::NoContent)
}

/// Makes a link by which the account's password is chosen anew; until it is used the old one is good. It is in this answer only.
#[utoipa::path(post, path = "/api/accounts/{name}/link", operation_id = "link_account", params(("name" = String, Path)), tag = "people",
    responses((status = 200, body = PasswordLink), (status = 404), (status = 409)))]
#[post("/api/accounts/<name>/link")]
async fn link(app: &State<App>, _caller: MayKeep, name: &str) -> Answer<PasswordLink> {
    if let Some(issuer) = app.store.issuer_of(name).await? {
        return Err(Refused::conflict(format!("{name} signs in at {issuer}: it has no password here")));
    }
    let (key, until) = (kesmo_files::secret::random_text(), Utc::now() + TimeDelta::days(LINK_DAYS));
    if !app.store.add_password_link(name, &access::hash(&key), until).await? {
        return Err(none_named(app, name).await?);
    }
    let all = app.store.accounts().await?;
    let role = all.iter().find(|a| a.name == name).and_then(|a| Role::of(&a.role)).unwrap_or(Role::Reader);
    Ok(Json(PasswordLink { name: name.to_owned(), role, key, until }))
}

/// Chooses a password by a link, which is good once. The account is signed out everywhere, and its tokens end.
#[utoipa::path(post, path = "/api/password", operation_id = "choose_password", request_body = ChoosePassword, security(()), tag = "people",
    responses((status = 200, body = Chosen), (status = 403), (status = 404), (status = 422)))]
#[post("/api/password", data = "<chosen>")]
async fn choose(app: &State<App>, origin: Origin, record: Record<'_>, chosen: Sent<ChoosePassword>) -> Answer<Chosen> {
    let chosen = body(chosen)?;
    origin.check()?;
    let over =
        || Refused::not_found("this link is no longer good: it was used, or has ended. Ask an admin for another");
    let hash = access::hash(chosen.key.trim());
    let name = app.store.account_of_link(&hash).await?.ok_or_else(over)?;
    record.note(name.clone());
    let kept = signing::choose(app, chosen.password, &name).await?;
    let name = app.store.choose_password(&hash, &kept).await?.ok_or_else(over)?;
    app.store.tried_well(&format!("account {name}")).await?;
    app.known.forget();
    Ok(Json(Chosen { name }))
}

/// Who calls, with what was shown.
struct Here(Option<Shown>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Here {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        Outcome::Success(Self(Shown::of(request)))
    }
}

impl Here {
    fn hash(&self) -> &[u8] {
        self.0.as_ref().map_or(&[], Shown::hash)
    }
}

/// Changes one's own password. Other browsers are signed out, and tokens of one's own end.
#[utoipa::path(put, path = "/api/me/password", operation_id = "change_password", request_body = ChangePassword, tag = "people",
    responses((status = 204), (status = 409), (status = 429)))]
#[put("/api/me/password", data = "<changed>")]
async fn change_own(
    app: &State<App>,
    caller: MaySee,
    here: Here,
    record: Record<'_>,
    changed: Sent<ChangePassword>,
) -> Result<Status, Refused> {
    let changed = body(changed)?;
    let me = caller.0;
    if !me.account {
        return Err(Refused::conflict(format!("{} is a token: it has no password", me.name)));
    }
    if me.provided {
        return Err(Refused::conflict(format!("{} signs in at a provider: it has no password here", me.name)));
    }
    signing::by_password(app, &record, &me.name, &changed.old).await.map_err(|refused| match refused.0 {
        Status::Unauthorized => Refused::invalid("the old password is wrong"),
        _ => refused,
    })?;
    let kept = signing::choose(app, changed.new, &me.name).await?;
    app.store.change_password(&me.name, &kept, here.hash()).await?;
    app.known.forget();
    Ok(Status::NoContent)
}

/// Makes a token of one's own account, by its password, for programs on a person's machine. It has the account's role, whatever that is
/// then, and ends after 90 days unless another day is given.
#[utoipa::path(post, path = "/api/login", operation_id = "log_in", request_body = LogIn, security(()), tag = "people",
    responses((status = 200, body = Token), (status = 401), (status = 403), (status = 429)))]
#[post("/api/login", data = "<asked>")]
async fn log_in(app: &State<App>, origin: Origin, record: Record<'_>, asked: Sent<LogIn>) -> Answer<Token> {
    let asked = body(asked)?;
    origin.check()?;
    // What cannot be made needs no password.
    ends(asked.until.as_deref())?;
    place_of(&asked.place)?;
    let me = signing::by_password(app, &record, &asked.name, &asked.password).await?;
    own_token(app, &record, &me, &asked.place, asked.until.as_deref()).await
}

/// When a token of one's own ends.
fn ends(until: Option<&str>) -> Result<chrono::DateTime<Utc>, Refused> {
    let now = Utc::now();
    until.map_or(Ok(now + TimeDelta::days(TOKEN_DAYS)), |text| end_of(text.trim(), now.date_naive()))
}

fn place_of(text: &str) -> Result<Slug, Refused> {
    Slug::parse("the place", if text.is_empty() { "here" } else { text }).map_err(|e| Refused::invalid(e.to_string()))
}

/// Makes a token of an account's own.
///
/// # Errors
/// If the place or the day cannot be read, or there are many of that place already.
pub(super) async fn own_token(
    app: &App,
    record: &Record<'_>,
    me: &Me,
    place: &str,
    until: Option<&str>,
) -> Answer<Token> {
    let (place, until) = (place_of(place)?, ends(until)?);
    let role = me.role;
    record.who(me);
    let token = access::new_token();
    let prefix: String = token.chars().take(PREFIX).collect();
    let hash = access::hash(&token);
    // One of the same place before is not in the way of this.
    for number in 1..1000 {
        let name = match number {
            1 => format!("{}-{place}", me.name),
            n => format!("{}-{place}-{n}", me.name),
        };
        let new = NewToken {
            name: &name,
            hash: &hash,
            role: role.word(),
            until: Some(until),
            prefix: &prefix,
            account: Some(&me.name),
            suites: Vec::new(),
            pools: Vec::new(),
        };
        if app.store.add_token_with(&new).await? {
            record.note(name.clone());
            return Ok(Json(Token {
                name,
                role,
                created_at: Utc::now(),
                last_used_at: None,
                until: Some(until),
                prefix,
                account: Some(me.name.clone()),
                suites: me.suites.clone(),
                pools: Vec::new(),
                token: Some(token),
            }));
        }
    }
    Err(Refused::conflict(format!("{} has many tokens of {place} already: remove some (kesmo token remove)", me.name)))
}

/// Browsers that are signed in: one's own, or with `all` those of everybody, for admins.
#[utoipa::path(get, path = "/api/sessions", operation_id = "sessions", params(("all" = Option<bool>, Query)), tag = "people",
    responses((status = 200, body = [Session])))]
#[get("/api/sessions?<all>")]
async fn sessions(app: &State<App>, caller: MaySee, here: Here, all: Option<bool>) -> Answer<Vec<Session>> {
    let me = caller.0;
    let all = all.unwrap_or(false);
    if all && me.role != Role::Admin {
        return Err(Refused::new(Status::Forbidden, "forbidden", "the sessions of others are an admin's to see"));
    }
    let told = |row: SessionRow| Session {
        own: row.hash == here.hash(),
        id: row.id,
        who: row.who,
        by_token: row.by_token,
        about: shorten(&row.about, 200),
        address: row.address,
        made_at: row.made_at,
        seen_at: row.seen_at,
        until: row.until,
    };
    let who = (!all).then_some(me.name.as_str());
    Ok(Json(app.store.sessions(who).await?.into_iter().map(told).collect()))
}

/// Ends a session: one's own, or for admins anybody's.
#[utoipa::path(delete, path = "/api/sessions/{id}", operation_id = "end_session", params(("id" = i64, Path)), tag = "people",
    responses((status = 204), (status = 404)))]
#[delete("/api/sessions/<id>")]
async fn end_session(app: &State<App>, caller: MaySee, id: i64) -> Result<Status, Refused> {
    let me = caller.0;
    let who = (me.role != Role::Admin).then_some(me.name.as_str());
    if !app.store.end_session(id, who).await? {
        return Err(Refused::not_found(format!("there is no session {id} of yours: `kesmo sessions` lists them")));
    }
    app.known.forget();
    Ok(Status::NoContent)
}
