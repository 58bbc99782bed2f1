//! When a call that is refused for now may be made again.

use std::sync::{Mutex, PoisonError};

use rocket::Request;

#[derive(Default)]
struct Later(Mutex<Option<u64>>);

/// Notes that a call may be made again in so many seconds.
pub fn say(request: &Request<'_>, seconds: u64) {
    *request.local_cache(Later::default).0.lock().unwrap_or_else(PoisonError::into_inner) = Some(seconds);
}

/// What was noted.
pub fn said(request: &Request<'_>) -> Option<u64> {
    *request.local_cache(Later::default).0.lock().unwrap_or_else(PoisonError::into_inner)
}
