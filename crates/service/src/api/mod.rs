//! The REST API under `/api`. A module for each subject; here is what they share: refusals and the OpenAPI document.

pub mod briefs;
pub mod call_ins;
pub mod closer;
pub mod live;
pub mod people;
pub mod planning;
pub mod queue;
pub mod runs;
pub mod schedules;
pub mod suites;
pub mod watches;
pub mod work;

use kesmo_wire::api::{Health, Refusal};
use rocket::{
    Build, Request, Rocket, State, catch, catchers, get,
    http::Status,
    response::{self, Responder},
    routes,
    serde::json::Json,
};
use utoipa::{
    Modify, OpenApi,
    openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme},
};

use crate::{
    App,
    access::{Left, MaySee},
    console,
};

/// A call that is refused.
#[derive(Debug)]
pub struct Refused(pub Status, pub Refusal);

impl Refused {
    fn new(status: Status, kind: &str, message: impl Into<String>) -> Self {
        Self(status, Refusal { kind: kind.into(), message: message.into() })
    }

    /// What was sent cannot be used.
    pub fn invalid(message: impl Into<String>) -> Self {
        Self::new(Status::UnprocessableEntity, "invalid", message)
    }

    /// There is no such thing.
    pub fn not_found(message: impl Into<String>) -> Self {
        Self::new(Status::NotFound, "not-found", message)
    }

    /// It does not fit how things stand.
    pub fn conflict(message: impl Into<String>) -> Self {
        Self::new(Status::Conflict, "conflict", message)
    }

    /// Whether the service failed, and not what was asked of it: another time may do.
    #[must_use]
    pub fn is_ours(&self) -> bool {
        self.0.code >= 500
    }

    /// It comes too fast.
    pub fn too_fast(message: impl Into<String>) -> Self {
        Self::new(Status::TooManyRequests, "too-fast", message)
    }

    /// What was sent is too large.
    pub fn too_large(message: impl Into<String>) -> Self {
        Self::new(Status::PayloadTooLarge, "too-large", message)
    }

    /// The service cannot do it now.
    pub fn unavailable(message: impl Into<String>) -> Self {
        Self::new(Status::ServiceUnavailable, "unavailable", message)
    }
}

impl From<kesmo_store::Error> for Refused {
    fn from(error: kesmo_store::Error) -> Self {
        match error {
            kesmo_store::Error::Away(why) => {
                Self::unavailable(format!("PostgreSQL does not answer; try again soon ({why})"))
            }
            other => {
                tracing::error!("a call failed: {other}");
                Self::new(Status::InternalServerError, "failed", other.to_string())
            }
        }
    }
}

impl<'r> Responder<'r, 'static> for Refused {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        (self.0, Json(self.1)).respond_to(request)
    }
}

/// The answer of a call.
pub type Answer<T> = Result<Json<T>, Refused>;

/// Tells whether the service and its database answer. Needs no token.
#[utoipa::path(get, path = "/api/health", responses((status = 200, body = Health)), security(()), tag = "service")]
#[get("/api/health")]
async fn health(app: &State<App>) -> Json<Health> {
    let database = app.store.answers().await;
    Json(Health { service: "kesmo".into(), version: env!("CARGO_PKG_VERSION").into(), database })
}

#[get("/api/openapi.json")]
fn openapi(_caller: MaySee) -> Json<utoipa::openapi::OpenApi> {
    Json(document())
}

#[catch(default)]
fn refused(status: Status, request: &Request<'_>) -> Json<Refusal> {
    let left = request.local_cache(Left::default);
    let left = left.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take();
    Json(left.unwrap_or_else(|| {
        let (kind, message) = match status.code {
            404 => ("not-found", format!("there is nothing at {}; see /api/openapi.json", request.uri().path())),
            413 => ("too-large", "what was sent is too large".to_owned()),
            400 | 422 => {
                ("invalid", "what was sent cannot be read: see /api/openapi.json for what is expected".to_owned())
            }
            _ => ("failed", status.reason().unwrap_or("the call failed").to_owned()),
        };
        Refusal { kind: kind.into(), message }
    }))
}

pub(crate) fn mount(rocket: Rocket<Build>) -> Rocket<Build> {
    rocket
        .mount("/", routes![health, openapi])
        .mount("/", people::routes())
        .mount("/", suites::routes())
        .mount("/", planning::routes())
        .mount("/", briefs::routes())
        .mount("/", schedules::routes())
        .mount("/", call_ins::routes())
        .mount("/", watches::routes())
        .mount("/", queue::routes())
        .mount("/", runs::routes())
        .mount("/", closer::routes())
        .mount("/", live::routes())
        .mount("/", work::routes())
        .mount("/", console::routes())
        .register("/", catchers![refused])
}

/// Reads a JSON body; a refusal says what is wrong with it.
pub(crate) fn body<'a, T>(read: Result<Json<T>, rocket::serde::json::Error<'a>>) -> Result<T, Refused> {
    use rocket::serde::json::Error;
    match read {
        Ok(Json(value)) => Ok(value),
        Err(Error::Io(e)) => Err(Refused::new(Status::PayloadTooLarge, "too-large", e.to_string())),
        Err(Error::Parse(_, e)) => Err(Refused::invalid(format!("what was sent cannot be read: {e}"))),
    }
}

struct Bearer;

impl Modify for Bearer {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let scheme = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).description(Some("a Kesmo token")).build();
        let components = document.components.get_or_insert_default();
        components.add_security_scheme("token", SecurityScheme::Http(scheme));
    }
}

#[derive(OpenApi)]
#[openapi(
    info(title = "Kesmo", description = "Starts, shards, retries and watches test suites."),
    modifiers(&Bearer),
    security(("token" = [])),
    paths(
        health,
        people::sign_in, people::sign_out, people::me, people::tokens, people::add_token, people::remove_token,
        suites::bundle_known, suites::put_bundle, suites::add, suites::list, suites::show, suites::remove,
        planning::chosen, planning::portion, planning::forecast, planning::all_parks, planning::suite_parks,
        planning::park, planning::unpark, planning::meet,
        runs::start, runs::list, runs::show, runs::stop, runs::again, runs::entries, runs::entry, runs::log, runs::artifacts,
        runs::report_of, runs::workers, runs::drain, runs::blob, closer::causes_of, closer::shards, closer::variants, closer::parts,
        closer::timeline, closer::record,
        briefs::put, briefs::list, briefs::show, briefs::remove, briefs::check, queue::list, queue::order,
        schedules::put, schedules::preview, schedules::list, schedules::show, schedules::remove, schedules::pause,
        schedules::now, schedules::calendar,
        call_ins::add, call_ins::list, call_ins::show, call_ins::remove, call_ins::pause, call_ins::new_secret,
        call_ins::try_body, call_ins::delivery, call_ins::again, call_ins::take,
        watches::put, watches::list, watches::all, watches::remove,
        live::run, live::floor, live::output,
    ),
    components(schemas(kesmo_wire::live::RunSnapshot, kesmo_wire::live::RunChange, kesmo_wire::live::Floor,
        kesmo_wire::live::OutputEnd, kesmo_wire::live::OutputOver))
)]
struct Document;

/// The OpenAPI document, made from the code.
#[must_use]
pub fn document() -> utoipa::openapi::OpenApi {
    Document::openapi()
}

#[cfg(test)]
mod tests {
    /// The console's types are made from this file. `KESMO_UPDATE=1 cargo test -p kesmo-service` writes it anew.
    #[test]
    fn the_document_that_the_console_is_built_from_is_up_to_date() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json");
        let now = super::document().to_pretty_json().expect("the document can be written") + "\n";
        if std::env::var_os("KESMO_UPDATE").is_some() {
            std::fs::write(path, &now).expect("the file can be written");
        }
        let kept = std::fs::read_to_string(path).unwrap_or_default();
        assert!(kept == now, "console/openapi.json is out of date: run KESMO_UPDATE=1 cargo test -p kesmo-service");
    }
}
