//! Calls that are refused, and how that is told.

use kesmo_wire::api::Refusal;
use rocket::{
    Request,
    http::Status,
    response::{self, Responder},
    serde::json::Json,
};

use crate::later;

/// A call that is refused.
#[derive(Debug)]
pub struct Refused(pub Status, pub Refusal);

impl Refused {
    pub(crate) fn new(status: Status, kind: &str, message: impl Into<String>) -> Self {
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
        // RFC 9110: when it may be tried again, in seconds.
        let after = match self.0.code {
            429 => Some(later::said(request).unwrap_or(1)),
            503 => Some(later::said(request).unwrap_or(2)),
            _ => None,
        };
        let mut answer = (self.0, Json(self.1)).respond_to(request)?;
        if let Some(seconds) = after {
            answer.set_raw_header("Retry-After", seconds.to_string());
        }
        Ok(answer)
    }
}
