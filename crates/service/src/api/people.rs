//! Signing in, and tokens.

use kesmo_core::name::Slug;
use kesmo_wire::api::{Me, NewToken, Role, SignIn, Token};
use rocket::{
    Route, State, delete, get,
    http::{Cookie, CookieJar, SameSite, Status},
    post, routes,
    serde::json::{Error as JsonError, Json},
};

use super::{Answer, Refused, body};
use crate::{
    App,
    access::{self, COOKIE, MayKeep, MaySee},
};

pub(super) fn routes() -> Vec<Route> {
    routes![sign_in, sign_out, me, tokens, add_token, remove_token]
}

/// Signs the console in: the token goes into a cookie that scripts and other sites cannot reach.
#[utoipa::path(post, path = "/api/session", request_body = SignIn, security(()), tag = "people",
    responses((status = 200, body = Me), (status = 401, description = "the token is not known")))]
#[post("/api/session", data = "<sign_in>")]
async fn sign_in(
    app: &State<App>,
    cookies: &CookieJar<'_>,
    sign_in: Result<Json<SignIn>, JsonError<'_>>,
) -> Answer<Me> {
    let sign_in = body(sign_in)?;
    let token = sign_in.token.trim().to_owned();
    let me = access::who(app, &token).await.map_err(|(status, refusal)| Refused(status, refusal))?;
    if me.role == Role::Worker {
        let say = "a worker token can only work: sign in with a reader, operator or keeper token";
        return Err(Refused::new(Status::Forbidden, "forbidden", say));
    }
    cookies.add(Cookie::build((COOKIE, token)).http_only(true).same_site(SameSite::Strict).path("/"));
    Ok(Json(me))
}

/// Signs the console out.
#[utoipa::path(delete, path = "/api/session", security(()), tag = "people", responses((status = 204)))]
#[delete("/api/session")]
fn sign_out(cookies: &CookieJar<'_>) -> Status {
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Status::NoContent
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
        Some(Token { name: row.name, role, created_at: row.created_at, last_used_at: row.last_used_at, token: None })
    };
    Ok(Json(app.store.tokens().await?.into_iter().filter_map(read).collect()))
}

/// Makes a token. Its text is in this answer only.
#[utoipa::path(post, path = "/api/tokens", request_body = NewToken, tag = "people", responses((status = 200, body = Token)))]
#[post("/api/tokens", data = "<new>")]
async fn add_token(app: &State<App>, _caller: MayKeep, new: Result<Json<NewToken>, JsonError<'_>>) -> Answer<Token> {
    let new = body(new)?;
    let name = Slug::parse("the token's name", &new.name).map_err(|e| Refused::invalid(e.to_string()))?;
    let token = access::new_token();
    if !app.store.add_token(name.as_str(), &access::hash(&token), new.role.word()).await? {
        return Err(Refused::conflict(format!(
            "there is a token named {name} already: remove it first, or choose another name"
        )));
    }
    let created_at = chrono::Utc::now();
    Ok(Json(Token { name: name.to_string(), role: new.role, created_at, last_used_at: None, token: Some(token) }))
}

/// Removes a token: it is refused from then on.
#[utoipa::path(delete, path = "/api/tokens/{name}", params(("name" = String, Path)), tag = "people",
    responses((status = 204), (status = 404)))]
#[delete("/api/tokens/<name>")]
async fn remove_token(app: &State<App>, caller: MayKeep, name: &str) -> Result<Status, Refused> {
    if caller.0.name == name {
        return Err(Refused::conflict("this is the token that you call with: remove it with another keeper's token"));
    }
    if !app.store.remove_token(name).await? {
        return Err(Refused::not_found(format!("there is no token named {name:?}")));
    }
    app.known.forget();
    Ok(Status::NoContent)
}
