//! Tokens and accounts for some suites only: what is about others, or about all, is refused, and so is whatever is not known to be about one.

use kesmo_core::{name::RunName, suite::Pattern};
use kesmo_wire::api::{Me, Role, RunSummary, Slot, Worker};
use rocket::{Request, http::Status};

use crate::refused::Refused;

/// What a slot does, for those who may not know more of it.
const OF_ANOTHER: &str = "a run of another suite";
/// The most globs of a token, and the longest, in bytes.
const MOST: usize = 100;
const LONGEST: usize = 200;

/// Calls that are about no suite, or that look themselves which they are about: by [`check_one`], or by telling of those alone.
/// `<>` is a part that varies.
const OPEN: &[&str] = &[
    "GET /api/me",
    "PUT /api/me/password",
    "POST /api/me/tokens",
    "GET /api/sessions",
    "DELETE /api/sessions/<>",
    "GET /api/live",
    "GET /api/queue",
    "GET /api/workers",
    "GET /api/failing",
    "GET /api/flaky",
    "GET /api/parks",
    "GET /api/polls",
    "GET /api/calendar",
    "GET /api/briefs",
    "POST /api/briefs",
    "POST /api/briefs/check",
    "GET /api/briefs/<>",
    "DELETE /api/briefs/<>",
    "GET /api/schedules",
    "POST /api/schedules",
    "POST /api/schedules/preview",
    "GET /api/schedules/<>",
    "DELETE /api/schedules/<>",
    "POST /api/schedules/<>/pause",
    "POST /api/schedules/<>/now",
    "POST /api/drafts",
    "GET /api/openapi.json",
    "GET /api/report-schema",
    "GET /api/blobs/<>",
    "HEAD /api/bundles/<>",
    "PUT /api/bundles/<>",
    "POST /api/runs",
    "GET /api/runs",
    "GET /api/suites",
];

/// Whether globs may limit a token of that role.
///
/// # Errors
/// Why not, in words.
pub fn check_globs(globs: &[String], role: Role) -> Result<(), String> {
    if globs.is_empty() {
        return Ok(());
    }
    if !matches!(role, Role::Reader | Role::Operator) {
        return Err(format!("--suite limits readers and operators: {} is about the service as a whole", role.word()));
    }
    read("--suite", globs)
}

/// Whether globs of pools may limit a token of that role.
///
/// # Errors
/// Why not, in words.
pub fn check_pools(globs: &[String], role: Role) -> Result<(), String> {
    if globs.is_empty() {
        return Ok(());
    }
    if role != Role::Worker {
        return Err(format!("--pool limits workers: {} comes to no pool", role.word()));
    }
    read("--pool", globs)
}

/// That globs can be read, and are not too many.
fn read(option: &str, globs: &[String]) -> Result<(), String> {
    if globs.len() > MOST || globs.iter().any(|glob| glob.len() > LONGEST || glob.contains('\0')) {
        return Err(format!("{option} is given at most {MOST} times, with at most {LONGEST} letters"));
    }
    globs.iter().try_for_each(|glob| Pattern::glob(glob).map(drop).map_err(|e| format!("{option} {glob:?}: {e}")))
}

/// Whether a call is about a suite that a token is for.
///
/// # Errors
/// Why not, in words.
pub fn check(request: &Request<'_>, me: &Me) -> Result<(), String> {
    if me.suites.is_empty() {
        return Ok(());
    }
    let Some(route) = request.route() else { return Err(about_all(me)) };
    let template = route.uri.origin.path().to_string();
    let parts = template.split('/').map(|part| if part.starts_with('<') { "<>" } else { part });
    let plain = parts.collect::<Vec<_>>().join("/");
    if OPEN.contains(&format!("{} {plain}", request.method()).as_str()) {
        return Ok(());
    }
    let place = template.split('/').position(|part| part == "<suite>");
    let suite = place.and_then(|place| request.uri().path().as_str().split('/').nth(place));
    match suite {
        // A suite's name holds nothing that is written otherwise in an address.
        Some(suite) => check_one(me, suite),
        None => Err(about_all(me)),
    }
}

fn about_all(me: &Me) -> String {
    format!("{}, and this is about more than one", only(me))
}

/// Who it is, and for what.
fn only(me: &Me) -> String {
    let what = if me.account { "account" } else { "token" };
    format!("the {what} {} is for the suites {} only", me.name, me.suites.join(", "))
}

/// Whether somebody's token or account is for a suite.
///
/// # Errors
/// Why not, in words.
pub fn check_one(me: &Me, suite: &str) -> Result<(), String> {
    if me.is_for(suite) {
        return Ok(());
    }
    Err(format!("{}: {} is none of them", only(me), kesmo_core::name::shorten(suite, 100)))
}

/// The same, as the refusal of a call.
///
/// # Errors
/// If it is not.
pub fn must_be_for(me: &Me, suite: &str) -> Result<(), Refused> {
    check_one(me, suite).map_err(|why| Refused::new(Status::Forbidden, "forbidden", why))
}

/// What somebody sees of workers: all of them, and of what they do only what is of their suites.
pub fn workers_seen(me: &Me, workers: &mut [Worker]) {
    if me.suites.is_empty() {
        return;
    }
    let seen = |run: &str| RunName::parse(run).is_ok_and(|name| me.is_for(name.suite.as_str()));
    for worker in workers {
        let of_other = worker.only_run.as_deref().is_some_and(|run| !seen(run));
        if of_other {
            worker.only_run = None;
        }
        for slot in &mut worker.slots {
            if slot.run.as_deref().is_some_and(|run| !seen(run)) || (slot.run.is_none() && slot.doing.is_some()) {
                let Slot { number, since, .. } = *slot;
                *slot = Slot { number, since, doing: Some(OF_ANOTHER.into()), ..Slot::default() };
            }
        }
    }
}

/// What somebody sees of runs.
pub fn runs_seen(me: &Me, runs: &mut Vec<RunSummary>) {
    runs.retain(|run| me.is_for(&run.suite));
}
