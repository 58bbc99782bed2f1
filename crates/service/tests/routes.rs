//! What holds for every call that the service answers.
//!
//! From outside of the crate: a trial within it that looks at all routes has all of them built once more.

use kesmo_service::{WORDS, api};
use rocket::http::Method;

#[test]
fn every_call_that_changes_something_has_a_word_and_those_that_look_have_none() {
    const LOOKING: [&str; 8] = [
        "POST /api/provider/begin",
        "POST /api/briefs/check",
        "POST /api/drafts",
        "POST /api/schedules/preview",
        "POST /api/suites/<suite>/tests",
        "POST /api/suites/<suite>/forecast",
        "POST /api/webhooks/<name>/try",
        "PUT /api/work/blobs/<digest>",
    ];
    let routes = api::mount(rocket::build());
    let mut missing = Vec::new();
    let mut known = 0;
    for route in routes.routes() {
        let call = format!("{} {}", route.method, route.uri.origin.path());
        let looks = matches!(route.method, Method::Get | Method::Head | Method::Options);
        let has_word = WORDS.iter().any(|word| word.0 == call);
        known += usize::from(has_word);
        if !looks && !LOOKING.contains(&call.as_str()) && !has_word {
            missing.push(call);
        }
    }
    assert!(missing.is_empty(), "no word for {missing:?}");
    assert_eq!(known, WORDS.len(), "a word is of a call that is not there");
}
