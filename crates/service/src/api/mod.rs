//! The REST API under `/api`. A module for each subject; here is what they share: refusals and the OpenAPI document.

pub mod breakdown;
pub mod briefs;
pub mod live;
pub mod people;
pub mod planning;
pub mod polls;
pub mod queue;
pub mod runs;
pub mod schedules;
pub mod suites;
pub mod webhooks;
pub mod work;

use kesmo_wire::api::{Health, Refusal};
use rocket::{
    Build, Data, Request, Rocket, State, catch, catchers,
    data::{FromData, ToByteUnit},
    get,
    http::{ContentType, Status},
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

/// Tells whether the service and its database answer, and whether everything in it works. Needs no token.
#[utoipa::path(get, path = "/api/health", responses((status = 200, body = Health),
    (status = 503, body = Health, description = "a part of it has ended, and it is about to end, to be started again; or PostgreSQL takes nothing")), security(()), tag = "service")]
#[get("/api/health")]
async fn health(app: &State<App>) -> (Status, Json<Health>) {
    let database = app.store.answers().await;
    let trouble = app.dead.get().map(|part| format!("{part} has ended")).or_else(|| app.floor.stalled());
    let status = if trouble.is_some() { Status::ServiceUnavailable } else { Status::Ok };
    (status, Json(Health { service: "kesmo".into(), version: env!("CARGO_PKG_VERSION").into(), database, trouble }))
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
        .mount("/", webhooks::routes())
        .mount("/", polls::routes())
        .mount("/", queue::routes())
        .mount("/", runs::routes())
        .mount("/", breakdown::routes())
        .mount("/", live::routes())
        .mount("/", work::routes())
        .mount("/", console::routes())
        .register("/", catchers![refused])
}

/// The largest JSON that is read, in bytes, and the longest text in it.
const LARGEST_JSON: usize = 32 << 20;
const LONGEST_TEXT: usize = 1 << 20;

/// What was sent as JSON, read and checked: it is said to be JSON, is UTF-8, and holds no text that cannot be kept.
pub struct Sent<T>(Result<T, Refused>);

/// What was sent; a refusal says what is wrong with it.
pub(crate) fn body<T>(sent: Sent<T>) -> Result<T, Refused> {
    sent.0
}

impl<T: serde::de::DeserializeOwned> Sent<T> {
    fn read(kind: Option<&ContentType>, content: &[u8]) -> Result<T, Refused> {
        // A page of another site can send other kinds without being asked whether it may.
        if kind.is_none_or(|kind| !kind.is_json()) {
            return Err(Refused::new(
                Status::UnsupportedMediaType,
                "invalid",
                "what was sent is not said to be JSON: send it with Content-Type: application/json",
            ));
        }
        let cannot = |why: String| Refused::invalid(format!("what was sent cannot be read: {why}"));
        let text = std::str::from_utf8(content).map_err(|e| cannot(format!("it is not UTF-8 ({e})")))?;
        let value: serde_json::Value = serde_json::from_str(text).map_err(|e| cannot(e.to_string()))?;
        check_texts(&value, &mut String::new()).map_err(cannot)?;
        serde_json::from_str(text).map_err(|e| cannot(e.to_string()))
    }
}

/// Makes sure that every text can be kept; the complaint says where one stands that cannot.
pub(crate) fn check_texts(value: &serde_json::Value, at: &mut String) -> Result<(), String> {
    let check = |text: &str, at: &str| {
        if text.contains('\0') {
            Err(format!("the text at {at:?} holds a NUL"))
        } else if text.len() > LONGEST_TEXT {
            Err(format!("the text at {at:?} is longer than {LONGEST_TEXT} bytes"))
        } else {
            Ok(())
        }
    };
    let whole = at.len();
    match value {
        serde_json::Value::String(text) => check(text, at)?,
        serde_json::Value::Array(items) => {
            for (number, item) in items.iter().enumerate() {
                at.push_str(&format!("/{number}"));
                check_texts(item, at)?;
                at.truncate(whole);
            }
        }
        serde_json::Value::Object(map) => {
            for (key, item) in map {
                check(key, at)?;
                at.push('/');
                at.push_str(&kesmo_core::name::shorten(key, 60));
                check_texts(item, at)?;
                at.truncate(whole);
            }
        }
        _ => {}
    }
    Ok(())
}

#[rocket::async_trait]
impl<'r, T: serde::de::DeserializeOwned> FromData<'r> for Sent<T> {
    type Error = std::convert::Infallible;
    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> rocket::data::Outcome<'r, Self> {
        let read = data.open(LARGEST_JSON.bytes()).into_bytes().await;
        rocket::outcome::Outcome::Success(Self(match read {
            Err(e) => Err(Refused::invalid(format!("what was sent did not arrive: {e}"))),
            Ok(content) if !content.is_complete() => {
                Err(Refused::too_large(format!("what was sent is larger than {} MiB", LARGEST_JSON >> 20)))
            }
            Ok(content) => Self::read(request.content_type(), &content),
        }))
    }
}

struct Bearer;

/// What every call may answer besides what it says itself.
struct Refusals;

impl Modify for Refusals {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        for (path, item) in &mut document.paths.paths {
            let has_names = path.contains('{');
            let of_methods = [&mut item.get, &mut item.head, &mut item.post, &mut item.put, &mut item.delete];
            for operation in of_methods.into_iter().flatten() {
                let open = operation.security.as_ref().is_some_and(|all| all.iter().any(|s| *s == Default::default()));
                let sends = operation.request_body.is_some();
                let changes = sends || operation.security.is_none();
                let may = [
                    ("401", !open, "the token is missing, or not known"),
                    ("403", !open, "the token lacks the right, or a page of another site calls"),
                    ("404", has_names, "there is no such thing"),
                    ("413", sends, "what was sent is too large"),
                    ("415", sends, "what was sent is not said to be JSON"),
                    ("422", changes, "what was sent or asked for cannot be used"),
                    ("503", true, "PostgreSQL, or what else is needed, does not answer"),
                ];
                for (status, does, about) in may {
                    if does && !operation.responses.responses.contains_key(status) {
                        let refusal = utoipa::openapi::ResponseBuilder::new()
                            .description(about)
                            .content(
                                "application/json",
                                utoipa::openapi::ContentBuilder::new()
                                    .schema(Some(utoipa::openapi::Ref::from_schema_name("Refusal")))
                                    .build(),
                            )
                            .build();
                        operation.responses.responses.insert(status.to_owned(), refusal.into());
                    }
                }
            }
        }
    }
}

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
    modifiers(&Bearer, &Refusals),
    security(("token" = [])),
    paths(
        health,
        people::sign_in, people::sign_out, people::me, people::tokens, people::add_token, people::remove_token,
        suites::bundle_known, suites::put_bundle, suites::add, suites::list, suites::show, suites::remove,
        planning::chosen, planning::portion, planning::forecast, planning::all_parks, planning::suite_parks,
        planning::park, planning::unpark, planning::meet,
        runs::start, runs::list, runs::show, runs::stop, runs::again, runs::entries, runs::entry, runs::log, runs::artifacts,
        runs::report_of, runs::workers, runs::drain, runs::blob, breakdown::causes_of, breakdown::shards, breakdown::variants, breakdown::parts,
        breakdown::timeline, breakdown::record,
        briefs::put, briefs::list, briefs::show, briefs::remove, briefs::check, queue::list, queue::order,
        schedules::put, schedules::preview, schedules::list, schedules::show, schedules::remove, schedules::pause,
        schedules::now, schedules::calendar,
        webhooks::add, webhooks::list, webhooks::show, webhooks::remove, webhooks::pause, webhooks::new_secret,
        webhooks::try_body, webhooks::delivery, webhooks::redeliver, webhooks::take,
        polls::put, polls::list, polls::all, polls::remove,
        live::run, live::floor, live::output,
    ),
    components(schemas(kesmo_wire::api::Refusal, kesmo_wire::live::RunSnapshot, kesmo_wire::live::RunChange, kesmo_wire::live::Floor,
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
    use super::*;

    #[test]
    fn what_is_sent_is_checked_before_anything_else_sees_it() {
        let read = |kind: Option<ContentType>, content: &[u8]| {
            Sent::<serde_json::Value>::read(kind.as_ref(), content).map_err(|e| (e.0.code, e.1.message))
        };
        let json = Some(ContentType::JSON);
        assert!(read(json.clone(), br#"{"a": ["b"]}"#).is_ok());
        for kind in [None, Some(ContentType::Plain), Some(ContentType::Form)] {
            assert_eq!(read(kind, b"{}").unwrap_err().0, 415);
        }
        let (status, why) = read(json.clone(), br#"{"a": [1, "x\u0000y"]}"#).unwrap_err();
        assert!(status == 422 && why.contains("the text at \"/a/1\" holds a NUL"), "{why}");
        assert!(read(json.clone(), br#"{"\u0000": 1}"#).unwrap_err().1.contains("NUL"));
        assert!(read(json.clone(), b"{\"a\": \"\xff\"}").unwrap_err().1.contains("not UTF-8"));
        let long = serde_json::json!({ "a": "x".repeat(LONGEST_TEXT + 1) }).to_string();
        assert!(read(json.clone(), long.as_bytes()).unwrap_err().1.contains("longer than"));
        assert_eq!(read(json, b"{").unwrap_err().0, 422);
    }

    /// The console's types are made from this file. `KESMO_UPDATE=1 cargo test -p kesmo-service` writes it anew.
    #[test]
    fn the_document_that_the_console_is_built_from_is_up_to_date() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json");
        let now = document().to_pretty_json().expect("the document can be written") + "\n";
        if std::env::var_os("KESMO_UPDATE").is_some() {
            std::fs::write(path, &now).expect("the file can be written");
        }
        let kept = std::fs::read_to_string(path).unwrap_or_default();
        assert!(kept == now, "console/openapi.json is out of date: run KESMO_UPDATE=1 cargo test -p kesmo-service");
    }
}
