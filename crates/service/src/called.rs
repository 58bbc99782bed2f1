//! What is known of a call while it is answered: who made it, and what it says of itself for the record.

use std::sync::{Mutex, PoisonError};

use kesmo_wire::api::Me;
use rocket::Request;

/// Who made a call, as the guard that let it through, or did not, knows.
#[derive(Default)]
struct Who(Mutex<Option<Me>>);

/// What a call says of itself for the record.
#[derive(Default)]
struct Said(Mutex<String>);

/// Notes who made a call.
pub fn by(request: &Request<'_>, me: &Me) {
    *request.local_cache(Who::default).0.lock().unwrap_or_else(PoisonError::into_inner) = Some(me.clone());
}

/// Who made a call, where that is known.
pub fn who(request: &Request<'_>) -> Option<Me> {
    request.local_cache(Who::default).0.lock().unwrap_or_else(PoisonError::into_inner).clone()
}

/// Notes what a call is about.
pub fn note(request: &Request<'_>, text: String) {
    *request.local_cache(Said::default).0.lock().unwrap_or_else(PoisonError::into_inner) = text;
}

/// What was noted; empty where nothing was.
pub fn noted(request: &Request<'_>) -> String {
    request.local_cache(Said::default).0.lock().unwrap_or_else(PoisonError::into_inner).clone()
}
