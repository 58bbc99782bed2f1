//! Signing in at a provider (OpenID Connect), and tokens of one's own for who does.

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use kesmo_core::name::shorten;
use kesmo_store::accounts::{Rights, Slowing};
use kesmo_wire::api::{CameBack, GoTo, Me, OwnToken, SignInAt, Token};
use rocket::{
    Route, State, get,
    http::{Cookie, CookieJar, SameSite, Status},
    post, routes,
    serde::json::Json,
};

use super::{
    accounts::{own_token, said},
    body::{Answer, Sent, body},
    people::{Origin, open},
};
use crate::{
    access::{
        COOKIE, MaySee, Record,
        provider::{BACK, Begun, NOT_BEGUN, NotIn, Provider},
        signing,
    },
    app::App,
    refused::Refused,
};

/// What keeps a sign-in that was begun in the browser that began it.
const BEGUN: &str = "kesmo-sign-in";
/// Who signed in at a provider does so again after this: its groups may be others by then.
const HOURS: i64 = 12;
/// So often somebody at one address may begin or end a sign-in before each further one has to wait, in seconds at most.
const OFTEN: Slowing = Slowing { free: 60, longest: 60.0 };

pub(super) fn routes() -> Vec<Route> {
    routes![at, begin, end, add_own]
}

impl From<NotIn> for Refused {
    fn from(not: NotIn) -> Self {
        let says = not.to_string();
        match not {
            NotIn::Refused(_) => Self::new(Status::Unauthorized, "unauthorized", says),
            NotIn::NoRole { .. } => Self::new(Status::Forbidden, "forbidden", says),
            NotIn::Away(_) => Self::new(Status::BadGateway, "unavailable", says),
        }
    }
}

fn provider(app: &App) -> Result<&Provider, Refused> {
    let none = "people sign in here with a name and a password: this service was given no provider (--oidc-issuer)";
    app.provider.as_deref().ok_or_else(|| Refused::not_found(none))
}

fn of_address(record: &Record<'_>) -> String {
    format!("provider {}", record.address())
}

/// Counts what is tried from an address.
async fn count(app: &App, record: &Record<'_>) -> Result<(), Refused> {
    signing::count(app, record, &of_address(record), OFTEN, "from this address").await
}

/// Where people sign in besides here.
#[utoipa::path(get, path = "/api/provider", operation_id = "provider", security(()), tag = "people", responses((status = 200, body = SignInAt)))]
#[get("/api/provider")]
fn at(app: &State<App>) -> Json<SignInAt> {
    Json(SignInAt { provider: app.provider.as_deref().map(|provider| provider.name().to_owned()) })
}

/// Begins to sign in at the provider: the browser is to go to the address, and comes back to the console's page `/signed-in`.
#[utoipa::path(post, path = "/api/provider/begin", operation_id = "begin_sign_in", security(()), tag = "people",
    responses((status = 200, body = GoTo), (status = 403), (status = 404), (status = 429), (status = 502, description = "the provider does not answer as it should")))]
#[post("/api/provider/begin")]
async fn begin(app: &State<App>, cookies: &CookieJar<'_>, origin: Origin, record: Record<'_>) -> Answer<GoTo> {
    origin.check()?;
    let provider = provider(app)?;
    count(app, &record).await?;
    let (address, begun) = provider.begin(&back(app)).await?;
    let begun = serde_json::to_vec(&begun).map_err(|e| Refused::unavailable(e.to_string()))?;
    let kept = app.store.vault().ok_or_else(|| Refused::unavailable("there is no key to seal with"))?;
    let cookie = Cookie::build((BEGUN, URL_SAFE_NO_PAD.encode(kept.seal(BEGUN, &begun)?))).http_only(true);
    let cookie = cookie.same_site(SameSite::Strict).path("/api/provider").max_age(rocket::time::Duration::minutes(10));
    cookies.add(cookie.secure(origin.1));
    Ok(Json(GoTo { address }))
}

/// Ends to sign in at the provider, with what the browser brought back: it is signed in as its account, which is made the first time and has
/// the highest role that its groups there give.
#[utoipa::path(post, path = "/api/provider/end", operation_id = "end_sign_in", request_body = CameBack, security(()), tag = "people",
    responses((status = 200, body = Me), (status = 401, description = "it is none that was begun here, or the provider lets nobody in"),
    (status = 403, description = "no group of theirs may come in"), (status = 404), (status = 409), (status = 429), (status = 502)))]
#[post("/api/provider/end", data = "<came>")]
async fn end(
    app: &State<App>,
    cookies: &CookieJar<'_>,
    origin: Origin,
    record: Record<'_>,
    came: Sent<CameBack>,
) -> Answer<Me> {
    let came = body(came)?;
    origin.check()?;
    let provider = provider(app)?;
    count(app, &record).await?;
    let refuse = |why: String| Refused::new(Status::Unauthorized, "unauthorized", why);
    let begun = begun(app, cookies).ok_or_else(|| refuse(NOT_BEGUN.into()))?;
    // It is good once, whatever comes of it.
    cookies.remove(Cookie::build(BEGUN).path("/api/provider"));
    if !came.error.is_empty() {
        let said = [&came.error, &came.error_description].map(|part| shorten(part, 200));
        let said: Vec<String> = said.into_iter().filter(|part| !part.is_empty()).collect();
        return Err(refuse(format!("{} let nobody in: {}", provider.name(), said.join(": "))));
    }
    let person = match provider.end(&begun, &came.state, &came.code, &back(app)).await {
        Ok(person) => person,
        Err(NotIn::NoRole { says, subject }) => {
            if let Some(name) = app.store.stay_out(provider.issuer(), &subject).await? {
                record.note(format!("{name} may come in no more"));
                app.known.forget();
            }
            return Err(NotIn::NoRole { says, subject }.into());
        }
        Err(other) => return Err(other.into()),
    };
    let rights = Rights { role: person.role.word(), suites: &person.suites };
    let name = app.store.come_in(provider.issuer(), &person.subject, &person.name, rights).await?;
    let name = name.ok_or_else(|| Refused::conflict("there are too many of that name here: ask an admin"))?;
    let me = Me { name, role: person.role, account: true, suites: person.suites, pools: Vec::new(), provided: true };
    record.note(format!("{}, {}", me.name, said(me.role, &me.suites)));
    open(app, cookies, &origin, &record, &me, None, HOURS).await?;
    // Many people may come from one address: what went well, begun and ended, counts no more.
    for _ in 0..2 {
        app.store.tried_less(&of_address(&record)).await?;
    }
    app.known.forget();
    Ok(Json(me))
}

/// Where browsers come back to.
fn back(app: &App) -> String {
    format!("{}{BACK}", app.base())
}

/// The sign-in that was begun in the browser that calls.
fn begun(app: &App, cookies: &CookieJar<'_>) -> Option<Begun> {
    let sealed = URL_SAFE_NO_PAD.decode(cookies.get(BEGUN)?.value()).ok()?;
    serde_json::from_slice(&app.store.vault()?.unseal(BEGUN, &sealed).ok()?).ok()
}

/// Makes a token of one's own account, for programs on a person's machine, from a browser in which one is signed in. It has the account's
/// role, whatever that is then, and ends after 90 days unless another day is given.
#[utoipa::path(post, path = "/api/me/tokens", operation_id = "add_own_token", request_body = OwnToken, tag = "people",
    responses((status = 200, body = Token), (status = 409)))]
#[post("/api/me/tokens", data = "<asked>")]
async fn add_own(
    app: &State<App>,
    caller: MaySee,
    cookies: &CookieJar<'_>,
    record: Record<'_>,
    asked: Sent<OwnToken>,
) -> Answer<Token> {
    let asked = body(asked)?;
    let session = cookies.get(COOKIE).map(|cookie| crate::access::hash(cookie.value().trim()));
    let signed_in = match &session {
        Some(session) => app.store.speaker_of_session(session).await?,
        None => None,
    };
    // A token that made others would outlive itself.
    if !signed_in.is_some_and(|who| who.token.is_none() && who.account.as_deref() == Some(caller.0.name.as_str())) {
        let say = "a token of one's own is made in a browser in which one is signed in with an account, or by kesmo login --name";
        return Err(Refused::conflict(say));
    }
    own_token(app, &record, &caller.0, &asked.place, asked.until.as_deref()).await
}
