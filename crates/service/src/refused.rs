//! Calls that are refused, and how that is told.

use kesmo_core::name::did_you_mean;
use kesmo_wire::api::{Me, Refusal};
use rocket::{
    Request,
    http::Status,
    response::{self, Responder},
    serde::json::Json,
};

use crate::{called, later};

/// A call that is refused.
#[derive(Debug)]
pub struct Refused(pub Status, pub Refusal, Option<Near>);

/// What there is beside what was named: whoever named it is told what is near of that, as far as it may be seen.
#[derive(Debug)]
struct Near {
    word: String,
    /// Names, each with the suite that it is of.
    known: Vec<(String, String)>,
    /// Where in the message it is said, in bytes.
    place: usize,
}

impl Refused {
    pub(crate) fn new(status: Status, kind: &str, message: impl Into<String>) -> Self {
        Self(status, Refusal { kind: kind.into(), message: message.into() }, None)
    }

    /// There is nothing of a kind by a name, and how such a thing is made. Names that there are come with the suites that they are of.
    pub(crate) fn none_named(
        kind: &str,
        word: &str,
        known: impl IntoIterator<Item = (String, String)>,
        make: &str,
    ) -> Self {
        let said = format!("there is no {kind} named {word:?}");
        let near = Near { word: word.into(), known: known.into_iter().collect(), place: said.len() };
        Self(Status::NotFound, Refusal { kind: "not-found".into(), message: format!("{said} ({make})") }, Some(near))
    }

    /// What somebody is told of it.
    #[must_use]
    pub fn told_to(&self, me: &Me) -> String {
        let mut message = self.1.message.clone();
        if let Some(Near { word, known, place }) = &self.2 {
            let seen = known.iter().filter(|(_, suite)| me.is_for(suite)).map(|(name, _)| name.as_str());
            message.insert_str(*place, &did_you_mean(word, seen));
        }
        message
    }

    /// The same of what was sent, and not of the address that it was sent to.
    #[must_use]
    pub(crate) fn of_what_was_sent(self) -> Self {
        Self(Status::UnprocessableEntity, self.1, self.2)
    }

    /// The same, with what it is about before it.
    #[must_use]
    pub(crate) fn about(mut self, what: &str) -> Self {
        self.1.message.insert_str(0, what);
        if let Some(near) = &mut self.2 {
            near.place += what.len();
        }
        self
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
        let message = called::who(request).map_or_else(|| self.1.message.clone(), |me| self.told_to(&me));
        let mut answer = (self.0, Json(Refusal { message, ..self.1 })).respond_to(request)?;
        if let Some(seconds) = after {
            answer.set_raw_header("Retry-After", seconds.to_string());
        }
        Ok(answer)
    }
}

#[cfg(test)]
mod tests {
    use kesmo_wire::api::Role;

    use super::*;

    #[test]
    fn what_is_near_is_told_to_whoever_may_see_it() {
        let me = |suites: &[&str]| Me {
            name: "joan".into(),
            role: Role::Operator,
            account: true,
            suites: suites.iter().map(|glob| (*glob).to_owned()).collect(),
            pools: Vec::new(),
            provided: false,
        };
        let known = || [("nightly", "gate"), ("nightlx", "fares")].map(|(name, suite)| (name.into(), suite.into()));
        let refused = || Refused::none_named("brief", "nightli", known(), "save one");
        let told = |suites: &[&str]| refused().told_to(&me(suites));
        let both = told(&[]);
        assert!(both.contains("\"nightly\"") && both.contains("\"nightlx\"") && both.ends_with("(save one)"), "{both}");
        assert_eq!(told(&["gate"]), "there is no brief named \"nightli\"; did you mean \"nightly\"? (save one)");
        assert_eq!(told(&["berths"]), "there is no brief named \"nightli\" (save one)");
        assert_eq!(refused().1.message, told(&["berths"]), "nobody is told of others' where it is not known who asks");
        let about = refused().about("--then: ").of_what_was_sent();
        assert_eq!(about.0, Status::UnprocessableEntity);
        let said = about.told_to(&me(&["fares"]));
        assert_eq!(said, "--then: there is no brief named \"nightli\"; did you mean \"nightlx\"? (save one)");
    }
}
