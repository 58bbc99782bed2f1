//! Signing in, and tokens.

use kesmo_core::name::{Slug, shorten};
use kesmo_store::{
    accounts::NewSession,
    audit::{AuditFilter, AuditRow},
};
use kesmo_wire::api::{Audited, Me, NewToken, Role, SignIn, Token};
use rocket::{
    Route, State, delete, get,
    http::{Cookie, CookieJar, SameSite, Status},
    post,
    request::{FromRequest, Outcome, Request},
    routes,
    serde::json::Json,
};

use super::{
    body::{Answer, Sent, body},
    days::{day, end_of},
};
use crate::{
    access::{self, COOKIE, MayKeep, MaySee, Record, SESSION_DAYS, Shown, signing},
    app::App,
    refused::Refused,
};

/// Letters of a token's text that are kept to tell it by.
pub(super) const PREFIX: usize = 12;

pub(super) fn routes() -> Vec<Route> {
    routes![sign_in, sign_out, me, tokens, add_token, remove_token, audit]
}

/// Signs the console in, with a token, or with a name and its password: a session goes into a cookie that scripts and other sites cannot reach.
#[utoipa::path(post, path = "/api/session", request_body = SignIn, security(()), tag = "people",
    responses((status = 200, body = Me), (status = 401, description = "the token is not known, or the name or the password is wrong"), (status = 403), (status = 429)))]
#[post("/api/session", data = "<sign_in>")]
async fn sign_in(
    app: &State<App>,
    cookies: &CookieJar<'_>,
    origin: Origin,
    record: Record<'_>,
    sign_in: Sent<SignIn>,
) -> Answer<Me> {
    let sign_in = body(sign_in)?;
    origin.check()?;
    let (me, token) = if sign_in.token.is_empty() {
        (signing::by_password(app, &record, sign_in.name.trim(), &sign_in.password).await?, None)
    } else {
        let hash = access::hash(sign_in.token.trim());
        let me = access::who(app, &Shown::Token(hash.clone())).await;
        let me = me.map_err(|(status, said)| Refused::new(status, &said.kind, said.message))?;
        (me, app.store.speaker_of_token(&hash).await?.and_then(|speaker| speaker.token))
    };
    open(app, cookies, &origin, &record, &me, token.as_deref(), SESSION_DAYS * 24).await?;
    Ok(Json(me))
}

/// Opens a session in the caller's browser: of an account, or of a token that was shown.
///
/// # Errors
/// If whoever it is has nothing to do in the console, or PostgreSQL does not answer.
pub(super) async fn open(
    app: &App,
    cookies: &CookieJar<'_>,
    origin: &Origin,
    record: &Record<'_>,
    me: &Me,
    token: Option<&str>,
    hours: i64,
) -> Result<(), Refused> {
    record.who(me);
    if me.role == Role::Worker {
        let say = "a worker token can only work: sign in with a reader, operator or admin token";
        return Err(Refused::new(Status::Forbidden, "forbidden", say));
    }
    let session = kesmo_files::secret::random_text();
    let until = chrono::Utc::now() + chrono::TimeDelta::hours(hours);
    let account = token.is_none().then_some(me.name.as_str());
    let (about, address) = (shorten(record.agent(), 300), record.address());
    let new = NewSession { hash: &access::hash(&session), token, account, until, about: &about, address: &address };
    app.store.add_session(&new).await?;
    let lasts = rocket::time::Duration::hours(hours);
    let cookie = Cookie::build((COOKIE, session)).http_only(true).same_site(SameSite::Strict).path("/");
    cookies.add(cookie.max_age(lasts).secure(origin.1));
    Ok(())
}

/// Where a call comes from: whether it may change something, and whether it came over https.
pub(super) struct Origin(Result<(), String>, pub bool);

impl Origin {
    /// That it may.
    ///
    /// # Errors
    /// That it may not, and why.
    pub fn check(&self) -> Result<(), Refused> {
        self.0.clone().map_err(|why| Refused::new(Status::Forbidden, "forbidden", why))
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Origin {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let reached_at = request.rocket().state::<App>().and_then(|app| app.reached_at.as_deref());
        let origin = request.headers().get_one("Origin");
        let tls = access::Caller::of(request).https
            || origin.is_some_and(|o| o.starts_with("https://"))
            || reached_at.is_some_and(|url| url.starts_with("https://"));
        Outcome::Success(Self(access::from_here(request, reached_at, false), tls))
    }
}

/// Signs the console out: its session ends.
#[utoipa::path(delete, path = "/api/session", security(()), tag = "people", responses((status = 204), (status = 403)))]
#[delete("/api/session")]
async fn sign_out(
    app: &State<App>,
    cookies: &CookieJar<'_>,
    origin: Origin,
    record: Record<'_>,
) -> Result<Status, Refused> {
    origin.check()?;
    if let Some(cookie) = cookies.get(COOKIE) {
        if let Ok(me) = access::who(app, &Shown::Session(access::hash(cookie.value().trim()))).await {
            record.who(&me);
        }
        app.store.remove_session(&access::hash(cookie.value().trim())).await?;
        app.known.forget();
    }
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Ok(Status::NoContent)
}

/// Who is calling.
#[utoipa::path(get, path = "/api/me", tag = "people", responses((status = 200, body = Me)))]
#[get("/api/me")]
fn me(caller: MaySee) -> Json<Me> {
    Json(caller.0)
}

/// All tokens, without their text.
#[utoipa::path(get, path = "/api/tokens", tag = "people", responses((status = 200, body = [Token])))]
#[get("/api/tokens")]
async fn tokens(app: &State<App>, _caller: MayKeep) -> Answer<Vec<Token>> {
    let read = |row: kesmo_store::access::TokenRow| {
        let role = Role::of(&row.role)?;
        Some(Token {
            name: row.name,
            role,
            created_at: row.created_at,
            last_used_at: row.last_used_at,
            until: row.until,
            prefix: row.prefix,
            account: row.account,
            suites: row.suites,
            pools: row.pools,
            token: None,
        })
    };
    Ok(Json(app.store.tokens().await?.into_iter().filter_map(read).collect()))
}

/// Makes a token. Its text is in this answer only.
#[utoipa::path(post, path = "/api/tokens", request_body = NewToken, tag = "people", responses((status = 200, body = Token)))]
#[post("/api/tokens", data = "<new>")]
async fn add_token(app: &State<App>, _caller: MayKeep, record: Record<'_>, new: Sent<NewToken>) -> Answer<Token> {
    let new = body(new)?;
    let name = Slug::parse("the token's name", &new.name).map_err(|e| Refused::invalid(e.to_string()))?;
    record.note(format!("{name}, {}", new.role.word()));
    access::suites::check_globs(&new.suites, new.role).map_err(Refused::invalid)?;
    access::suites::check_pools(&new.pools, new.role).map_err(Refused::invalid)?;
    let until = new.until.as_deref().map(|text| end_of(text.trim(), chrono::Utc::now().date_naive())).transpose()?;
    let token = access::new_token();
    let prefix: String = token.chars().take(PREFIX).collect();
    let row = kesmo_store::access::NewToken {
        name: name.as_str(),
        hash: &access::hash(&token),
        role: new.role.word(),
        until,
        prefix: &prefix,
        account: None,
        suites: new.suites.clone(),
        pools: new.pools.clone(),
    };
    if app.store.has_account(name.as_str()).await? || !app.store.add_token_with(&row).await? {
        return Err(Refused::conflict(format!(
            "there is a token or an account named {name} already: remove it first, or choose another name"
        )));
    }
    let created_at = chrono::Utc::now();
    Ok(Json(Token {
        name: name.to_string(),
        role: new.role,
        created_at,
        last_used_at: None,
        until,
        prefix,
        account: None,
        suites: new.suites,
        pools: new.pools,
        token: Some(token),
    }))
}

/// Removes a token: it is refused from then on.
#[utoipa::path(delete, path = "/api/tokens/{name}", params(("name" = String, Path)), tag = "people",
    responses((status = 204), (status = 404)))]
#[delete("/api/tokens/<name>")]
async fn remove_token(app: &State<App>, caller: MayKeep, name: &str) -> Result<Status, Refused> {
    if caller.0.name == name {
        return Err(Refused::conflict("this is the token that you call with: remove it with another admin's token"));
    }
    if !app.store.remove_token(name).await? {
        return Err(Refused::not_found(format!("there is no token named {name:?}")));
    }
    app.known.forget();
    Ok(Status::NoContent)
}

/// What was done and what was refused, the latest first: by `who`, `what` (`token add`), `about` (what its call or note holds), from the day
/// `from` on and before `until` (UTC), only `refused` calls or only others; those before the id `before`.
#[utoipa::path(get, path = "/api/audit", operation_id = "audit", tag = "people", params(("who" = Option<String>, Query), ("what" = Option<String>, Query),
    ("about" = Option<String>, Query), ("from" = Option<String>, Query), ("until" = Option<String>, Query), ("refused" = Option<bool>, Query),
    ("before" = Option<i64>, Query), ("limit" = Option<u32>, Query)), responses((status = 200, body = [Audited])))]
#[get("/api/audit?<asked..>")]
async fn audit(app: &State<App>, _caller: MayKeep, asked: AuditAsked<'_>) -> Answer<Vec<Audited>> {
    let midnight = |name: &str, text: Option<&str>| {
        text.map(|text| day(name, text).map(|day| day.and_time(chrono::NaiveTime::MIN).and_utc())).transpose()
    };
    let filter = AuditFilter {
        who: asked.who.map(str::to_owned),
        what: asked.what.map(str::to_owned),
        about: asked.about.map(str::to_owned),
        from: midnight("from", asked.from)?,
        until: midnight("until", asked.until)?,
        refused: asked.refused,
        before: asked.before,
        limit: i64::from(asked.limit.unwrap_or(100).clamp(1, 10_000)),
    };
    let told = |row: AuditRow| Audited {
        id: row.id,
        at: row.at,
        who: row.who,
        role: row.role,
        address: row.address,
        what: row.what,
        path: row.path,
        status: row.status,
        note: row.note,
    };
    Ok(Json(app.store.audit(&filter).await?.into_iter().map(told).collect()))
}

/// What of the record is asked for.
#[derive(rocket::FromForm)]
struct AuditAsked<'r> {
    who: Option<&'r str>,
    what: Option<&'r str>,
    about: Option<&'r str>,
    from: Option<&'r str>,
    until: Option<&'r str>,
    refused: Option<bool>,
    before: Option<i64>,
    limit: Option<u32>,
}
