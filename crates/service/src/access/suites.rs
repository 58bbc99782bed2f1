//! Tokens for some suites only: what is about others, or about all, is refused, and so is whatever is not known to be about one.

use kesmo_core::suite::Pattern;
use kesmo_wire::api::{Me, Role};
use rocket::Request;

/// The most globs of a token, and the longest, in bytes.
const MOST: usize = 100;
const LONGEST: usize = 200;

/// Calls that are about no suite, or that look themselves which one they are about ([`check_one`]). `<>` is a part that varies.
const OPEN: &[&str] = &[
    "GET /api/me",
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
    format!("the token {} is for the suites {} only, and this is about more than one", me.name, me.suites.join(", "))
}

/// Whether a token is for a suite.
///
/// # Errors
/// Why not, in words.
pub fn check_one(me: &Me, suite: &str) -> Result<(), String> {
    if me.is_for(suite) {
        return Ok(());
    }
    let suite = kesmo_core::name::shorten(suite, 100);
    Err(format!("the token {} is for the suites {} only: {suite} is none of them", me.name, me.suites.join(", ")))
}
