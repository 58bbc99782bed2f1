//! What a call says of itself: for the record of what was done, and for whoever made it.

use kesmo_wire::api::Me;
use rocket::{
    Request,
    request::{FromRequest, Outcome},
};

use crate::called;

/// Lets a call say what it is about, where its path does not.
pub struct Record<'r>(&'r Request<'r>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Record<'r> {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        Outcome::Success(Self(request))
    }
}

impl Record<'_> {
    /// What it is about: a name, and never a value that nobody is to know.
    pub fn note(&self, text: impl Into<String>) {
        called::note(self.0, text.into());
    }

    /// It may be made again in so many seconds.
    pub fn later(&self, seconds: u64) {
        crate::later::say(self.0, seconds);
    }

    /// What the caller says of itself (RFC 9110, `User-Agent`).
    #[must_use]
    pub fn agent(&self) -> &str {
        self.0.headers().get_one("User-Agent").unwrap_or_default()
    }

    /// Where it comes from.
    #[must_use]
    pub fn address(&self) -> String {
        super::Caller::of(self.0).address.map(|address| address.to_string()).unwrap_or_default()
    }

    /// Who it is, where no guard says.
    pub fn who(&self, me: &Me) {
        called::by(self.0, me);
    }
}
