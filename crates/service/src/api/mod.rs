//! The REST API under `/api`. A module for each subject; here is what they share: refusals and the OpenAPI document.

mod accounts;
pub mod body;
pub mod breakdown;
pub mod briefs;
pub mod cases;
pub(crate) mod comparing;
pub mod covers;
mod days;
mod entries;
pub mod failing;
mod found;
mod history;
pub mod imports;
pub mod keep;
mod live;
mod measures;
mod metrics;
mod notices;
mod parks;
pub mod people;
pub mod planning;
pub mod polls;
pub mod pools;
mod providers;
pub mod queue;
pub mod reach;
mod relay;
mod releases;
mod report_pages;
pub mod reports;
pub mod runs;
pub mod schedules;
mod schema;
mod secrets;
mod shares;
mod sockets;
pub mod suites;
mod usage;
pub mod webhooks;
pub mod work;
pub mod workers;

use kesmo_wire::api::{Health, Refusal};
use rocket::{Build, Request, Rocket, State, catch, catchers, get, http::Status, routes, serde::json::Json};
use utoipa::{
    Modify, OpenApi,
    openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme},
};

use crate::{
    access::{Left, MaySee},
    app::App,
    console,
};

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

/// Whether calls and workers may be sent here: PostgreSQL answers and takes what it is given, and everything works. Needs no token.
#[utoipa::path(get, path = "/api/ready", responses((status = 200, body = Health),
    (status = 503, body = Health, description = "not now: `trouble` says why")), security(()), tag = "service")]
#[get("/api/ready")]
async fn ready(app: &State<App>) -> (Status, Json<Health>) {
    let (status, Json(mut health)) = health(app).await;
    if !health.database && health.trouble.is_none() {
        health.trouble = Some("PostgreSQL does not answer".into());
    }
    if app.draining.load(std::sync::atomic::Ordering::Relaxed) {
        health.trouble = Some("it is drained, and about to end".into());
    }
    (if health.trouble.is_some() { Status::ServiceUnavailable } else { status }, Json(health))
}

#[get("/api/openapi.json")]
fn openapi(_caller: MaySee) -> Json<utoipa::openapi::OpenApi> {
    Json(document())
}

/// The JSON Schema (2020-12) that every JSON report keeps to.
#[utoipa::path(get, path = "/api/report-schema", tag = "runs", responses((status = 200, body = Object)))]
#[get("/api/report-schema")]
fn report_schema(_caller: MaySee) -> Json<serde_json::Value> {
    Json(schema_of_report())
}

fn schema_of_report() -> serde_json::Value {
    schema::of_report(&serde_json::to_value(document()).unwrap_or_default())
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

/// All calls that the service answers.
#[must_use]
pub fn mount(rocket: Rocket<Build>) -> Rocket<Build> {
    rocket
        .mount("/", routes![health, ready, openapi, report_schema])
        .mount("/", people::routes())
        .mount("/", accounts::routes())
        .mount("/", providers::routes())
        .mount("/", suites::routes())
        .mount("/", planning::routes())
        .mount("/", parks::routes())
        .mount("/", briefs::routes())
        .mount("/", schedules::routes())
        .mount("/", webhooks::routes())
        .mount("/", polls::routes())
        .mount("/", pools::routes())
        .mount("/", notices::routes())
        .mount("/", measures::routes())
        .mount("/", metrics::routes())
        .mount("/", queue::routes())
        .mount("/", runs::routes())
        .mount("/", cases::routes())
        .mount("/", imports::routes())
        .mount("/", entries::routes())
        .mount("/", failing::routes())
        .mount("/", comparing::routes())
        .mount("/", history::routes())
        .mount("/", releases::routes())
        .mount("/", usage::routes())
        .mount("/", covers::routes())
        .mount("/", shares::routes())
        .mount("/", secrets::routes())
        .mount("/", keep::routes())
        .mount("/", reports::routes())
        .mount("/", workers::routes())
        .mount("/", breakdown::routes())
        .mount("/", live::routes())
        .mount("/", relay::routes())
        .mount("/", work::routes())
        .mount("/", reach::routes())
        .mount("/", console::routes())
        .register("/", catchers![refused])
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
        people::sign_in, people::sign_out, people::me, people::tokens, people::add_token, people::remove_token, people::audit, accounts::add, accounts::list, accounts::change, accounts::remove, accounts::link, accounts::choose, accounts::change_own, accounts::log_in, accounts::sessions, accounts::end_session, providers::at, providers::begin, providers::end, providers::add_own,
        suites::bundle_known, suites::put_bundle, suites::add, suites::list, suites::show, suites::remove, suites::draft,
        planning::chosen, planning::portion, planning::forecast, parks::all_parks, parks::suite_parks,
        parks::park, parks::unpark, planning::meet,
        runs::start, runs::list, runs::show, runs::stop, runs::again, imports::import, entries::entries, entries::entry, entries::log, entries::artifacts,
        runs::what_did_not_pass, reports::report_of, report_schema, workers::workers, workers::drain, entries::blob, cases::list, cases::show, breakdown::causes_of, breakdown::shards, breakdown::variants, breakdown::parts,
        breakdown::timeline, comparing::compared, history::history, history::flaky, history::flaky_of_suite, history::evidence, history::commits, releases::release, usage::usage, usage::usage_csv, covers::covers, covers::covers_of, covers::covers_csv, shares::shares, shares::add_share, shares::end_share, shares::shared, secrets::secrets, secrets::put_secret, secrets::remove_secret, keep::keeping, keep::put_keep, keep::remove_keep, keep::sweep, keep::remove_run,
        briefs::put, briefs::list, briefs::show, briefs::remove, briefs::check, queue::list, queue::order,
        schedules::put, schedules::preview, schedules::list, schedules::show, schedules::remove, schedules::pause,
        schedules::now, schedules::calendar,
        webhooks::add, webhooks::list, webhooks::show, webhooks::remove, webhooks::pause, webhooks::new_secret,
        webhooks::try_body, webhooks::delivery, webhooks::redeliver, webhooks::take,
        reach::list, failing::all, failing::of_suite, failing::forget,
        metrics::metrics,
        measures::of_run, measures::of_suite,
        notices::put, notices::list, notices::show, notices::remove, notices::pause, notices::new_secret, notices::try_it,
        notices::message, notices::again,
        pools::put, pools::list, pools::show, pools::remove, pools::machines, pools::machine_log,
        polls::put, polls::list, polls::all, polls::remove,
        live::run, live::floor, live::output,
    ),
    components(schemas(kesmo_wire::api::Refusal, kesmo_wire::live::RunSnapshot, kesmo_wire::live::RunChange, kesmo_wire::live::Floor,
        kesmo_wire::live::OutputEnd, kesmo_wire::live::OutputOver, kesmo_wire::api::JsonReport))
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

    /// The schema of reports stands in the docs, too, and is written anew in the same way.
    #[test]
    fn the_schema_of_reports_in_the_docs_is_up_to_date() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/report.schema.json");
        let now = serde_json::to_string_pretty(&schema_of_report()).expect("it can be written") + "\n";
        if std::env::var_os("KESMO_UPDATE").is_some() {
            std::fs::write(path, &now).expect("the file can be written");
        }
        let kept = std::fs::read_to_string(path).unwrap_or_default();
        assert!(kept == now, "docs/report.schema.json is out of date: run KESMO_UPDATE=1 cargo test -p kesmo-service");
        assert!(!now.contains("components/schemas"), "every reference leads to a definition");
    }
}
