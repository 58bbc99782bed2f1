//! Who may do what: tokens, rights, and the guards that every call but health passes.

mod caller;
pub mod passwords;
pub mod provider;
mod record;
pub mod signing;
pub mod suites;

use std::sync::Mutex;

pub use caller::Caller;
pub use record::Record;

pub use kesmo_files::secret::{hash, new_token};
use kesmo_store::{Store, access::Speaker};
use kesmo_wire::api::{Me, Refusal, Role};
use rocket::{
    Request,
    http::{Method, Status},
    request::{FromRequest, Outcome},
};

use crate::{app::App, called, error::Error, known::REMEMBERED, peers::Spoken};

/// The console's cookie. It holds a session and not the token: cookies go to every port of a host, and so to whatever else
/// listens there.
pub const COOKIE: &str = "kesmo-session";

/// A session lasts so long.
pub const SESSION_DAYS: i64 = 14;

/// What a call needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Right {
    See,
    Operate,
    Keep,
    Work,
    /// To work for one run that one started oneself or was told of.
    Lend,
}

impl Right {
    fn held_by(self, role: Role) -> bool {
        match role {
            Role::Reader => self == Self::See,
            Role::Operator => matches!(self, Self::See | Self::Operate | Self::Lend),
            Role::Admin => true,
            Role::Worker => matches!(self, Self::Work | Self::Lend),
        }
    }

    fn said(self) -> &'static str {
        match self {
            Self::See => "the right to see runs (a reader, operator or admin token)",
            Self::Operate => "the right to start and stop runs (an operator or admin token)",
            Self::Keep => "the right to keep the service (an admin token)",
            Self::Work => "the right to work (a worker token)",
            Self::Lend => "the right to lend a machine (a worker, operator or admin token)",
        }
    }
}

/// The name of the token that is made where there is no admin's.
const FIRST: &str = "first-admin";

/// Makes the first token where there is no admin (where people sign in at a provider, one of there does), and keeps its text in the data folder.
///
/// # Errors
/// If PostgreSQL or the folder cannot be written.
pub async fn first_token(store: &Store, data: &std::path::Path, provided: bool) -> Result<Option<String>, Error> {
    let now = chrono::Utc::now();
    let good = |t: &kesmo_store::access::TokenRow| {
        t.role == Role::Admin.word() && t.account.is_none() && t.until.is_none_or(|until| until > now)
    };
    let admin = |a: &kesmo_store::accounts::AccountRow| {
        a.role == Role::Admin.word() && (a.chosen || provided && a.confirmed_at.is_some())
    };
    if store.tokens().await?.iter().any(good) || store.accounts().await?.iter().any(admin) {
        return Ok(None);
    }
    let token = new_token();
    let path = data.join("admin-token");
    kesmo_files::secret::write_secret(&path, &token).map_err(|e| Error::file(&path, &e))?;
    // One of that name that has ended makes room for it.
    store.remove_token(FIRST).await?;
    store.add_token(FIRST, &hash(&token), Role::Admin.word()).await?;
    Ok(Some(token))
}

/// What a caller shows: a token, or a session that was made with one.
#[derive(Debug, Clone)]
pub enum Shown {
    Token(Vec<u8>),
    Session(Vec<u8>),
    /// Another service, for somebody.
    Service(Box<Spoken>),
}

impl Shown {
    /// What a request shows.
    pub fn of(request: &Request<'_>) -> Option<Self> {
        let bearer = request.headers().get_one("Authorization").and_then(|h| h.strip_prefix("Bearer "));
        let app = request.rocket().state::<App>();
        let (method, path) = (request.method().as_str(), request.uri().path().as_str());
        if let Some(spoken) = bearer.zip(app).and_then(|(token, app)| app.peers.read(token.trim(), method, path)) {
            return Some(Self::Service(Box::new(spoken)));
        }
        let session = || request.cookies().get(COOKIE).map(|c| Self::Session(hash(c.value().trim())));
        bearer.map(|token| Self::Token(hash(token.trim()))).or_else(session)
    }

    /// What is kept of it.
    pub fn hash(&self) -> &[u8] {
        match self {
            Self::Token(hash) | Self::Session(hash) => hash,
            Self::Service(_) => &[],
        }
    }

    async fn speaker(&self, store: &Store) -> Result<Option<Speaker>, kesmo_store::Error> {
        match self {
            Self::Token(hash) => store.speaker_of_token(hash).await,
            Self::Session(hash) => store.speaker_of_session(hash).await,
            Self::Service(_) => Ok(None),
        }
    }
}

/// What somebody goes on with for long: a stream, or a worker's link.
pub struct Standing {
    shown: Option<Shown>,
    /// Who it was that began it.
    me: Option<Me>,
    app: App,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Standing {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match request.rocket().state::<App>() {
            Some(app) => {
                let me = called::who(request);
                Outcome::Success(Self { shown: Shown::of(request), me, app: app.clone() })
            }
            None => Outcome::Error((Status::ServiceUnavailable, ())),
        }
    }
}

impl Standing {
    /// Resolves when what was shown is no longer good: the token was removed, or the session ended; or when it may do something else by
    /// now, so that whoever goes on begins anew with that.
    pub async fn ends(self) {
        let Some(shown) = &self.shown else { return };
        loop {
            let told = self.app.known.changed();
            tokio::select! {
                () = told => {}
                // Another service may have been told.
                () = tokio::time::sleep(REMEMBERED) => {}
            }
            // While PostgreSQL is away nobody can tell. All that go on with one token share an answer.
            match who(&self.app, shown).await {
                Err((Status::Unauthorized, _)) => return,
                Ok(me) if self.me.as_ref().is_some_and(|began| *began != me) => return,
                Ok(_) | Err(_) => {}
            }
        }
    }
}

/// Who a token or a session speaks for.
///
/// # Errors
/// A refusal, if it is not known or PostgreSQL does not answer.
pub async fn who(app: &App, shown: &Shown) -> Result<Me, (Status, Refusal)> {
    if let Shown::Service(spoken) = shown
        && spoken.until > chrono::Utc::now()
    {
        return Ok(spoken.me.clone());
    }
    if let Some(me) = app.known.get(shown.hash()) {
        return Ok(me);
    }
    let refusal = |status, kind: &str, message: String| (status, Refusal { kind: kind.into(), message });
    let found = shown.speaker(&app.store).await;
    let found = found.map_err(|e| refusal(Status::ServiceUnavailable, "unavailable", e.to_string()))?;
    let Some((speaker, role)) = found.and_then(|s| Role::of(&s.role).map(|role| (s, role))) else {
        let say = if matches!(shown, Shown::Session(_)) {
            "you are not signed in any more: sign in again"
        } else {
            "this token is not known here: it may have been removed, have ended, or belong to another service. Ask an admin for one \
                   (`kesmo token add NAME --role ROLE`)"
        };
        return Err(refusal(Status::Unauthorized, "unauthorized", say.into()));
    };
    let session = if let Shown::Session(hash) = shown { Some(hash.as_slice()) } else { None };
    if let Err(e) = app.store.seen(&speaker, session).await {
        tracing::warn!("that somebody was here could not be noted: {e}");
    }
    let me = Me {
        name: speaker.name,
        role,
        account: speaker.account.is_some(),
        suites: speaker.suites,
        pools: speaker.pools,
        provided: speaker.provided,
    };
    app.known.put(shown.hash().to_vec(), me.clone());
    Ok(me)
}

/// The refusal that a guard leaves for the catcher, which writes the answer.
#[derive(Default)]
pub struct Left(pub Mutex<Option<Refusal>>);

async fn pass(request: &Request<'_>, right: Right) -> Outcome<Me, ()> {
    let refuse = |status: Status, refusal: Refusal| {
        let left = request.local_cache(Left::default);
        *left.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(refusal);
        Outcome::Error((status, ()))
    };
    let Some(app) = request.rocket().state::<App>() else {
        let message = "the service is still starting".to_owned();
        return refuse(Status::ServiceUnavailable, Refusal { kind: "unavailable".into(), message });
    };
    if let Err(why) = can_be_kept(request) {
        return refuse(Status::UnprocessableEntity, Refusal { kind: "invalid".into(), message: why });
    }
    let Some(shown) = Shown::of(request) else {
        let message =
            "this call needs a token: set KESMO_TOKEN, give --token, run `kesmo login`, or sign in to the console";
        return refuse(Status::Unauthorized, Refusal { kind: "unauthorized".into(), message: message.into() });
    };
    let by_session = matches!(shown, Shown::Session(_));
    if right == Right::Lend && by_session {
        let message = "work is done with a token, not with a browser's session".to_owned();
        return refuse(Status::Unauthorized, Refusal { kind: "unauthorized".into(), message });
    }
    if let Err(why) = from_here(request, app.reached_at.as_deref(), by_session) {
        return refuse(Status::Forbidden, Refusal { kind: "forbidden".into(), message: why });
    }
    let who = who(app, &shown).await;
    if let Ok(me) = &who {
        called::by(request, me);
    }
    match who {
        Err((status, refusal)) => refuse(status, refusal),
        Ok(me) if right.held_by(me.role) => match (suites::check(request, &me), app.floor.stalled()) {
            (Err(message), _) => refuse(Status::Forbidden, Refusal { kind: "forbidden".into(), message }),
            // Else the call would wait as long. What workers send needs no floor, or waits on their side.
            (Ok(()), Some(message)) if !matches!(right, Right::Work | Right::Lend) => {
                refuse(Status::ServiceUnavailable, Refusal { kind: "unavailable".into(), message })
            }
            (Ok(()), _) => Outcome::Success(me),
        },
        Ok(me) => {
            let (name, role, lacks) = (&me.name, me.role.word(), right.said());
            let what = if me.account { "account" } else { "token" };
            let message = format!("the {what} {name} ({role}) lacks {lacks}");
            refuse(Status::Forbidden, Refusal { kind: "forbidden".into(), message })
        }
    }
}

/// Whether an address holds nothing that PostgreSQL could not keep.
fn can_be_kept(request: &Request<'_>) -> Result<(), String> {
    let uri = request.uri();
    let text = |part: &str| part.contains("%00") || part.contains('\0');
    if text(uri.path().as_str()) || uri.query().is_some_and(|q| text(q.as_str())) {
        return Err("the address holds a NUL, which is in no name here".into());
    }
    Ok(())
}

/// Whether a call that changes something comes from this service's own pages, or from no page at all. Browsers send what a
/// page asks for with the cookie of the host, whichever port the page came from; they say where it came from in `Origin`
/// (RFC 6454).
///
/// # Errors
/// Why not, in words.
pub fn from_here(request: &Request<'_>, reached_at: Option<&str>, by_session: bool) -> Result<(), String> {
    if matches!(request.method(), Method::Get | Method::Head | Method::Options) {
        return Ok(());
    }
    let authority = |url: &str| url.split_once("://").map(|(_, rest)| rest.trim_end_matches('/').to_lowercase());
    match request.headers().get_one("Origin") {
        None if !by_session => Ok(()),
        None => Err("a call with a browser's session says where it comes from (Origin)".into()),
        Some(origin) => {
            let from = authority(origin);
            let host = request.headers().get_one("Host").map(str::to_lowercase);
            let known = from.is_some() && (from == host || from == reached_at.and_then(authority));
            let origin = kesmo_core::name::shorten(origin, 100);
            if known { Ok(()) } else { Err(format!("a page of {origin} may change nothing here")) }
        }
    }
}

macro_rules! guards {
    ($($(#[$doc:meta])* $name:ident = $right:expr;)*) => {$(
        $(#[$doc])*
        pub struct $name(pub Me);

        #[rocket::async_trait]
        impl<'r> FromRequest<'r> for $name {
            type Error = ();
            async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
                pass(request, $right).await.map(Self)
            }
        }
    )*};
}

guards! {
    /// A caller that may see.
    MaySee = Right::See;
    /// A caller that may start and stop runs.
    MayOperate = Right::Operate;
    /// A caller that may do everything.
    MayKeep = Right::Keep;
    /// A caller that may work, or lend its machine to one run.
    MayLend = Right::Lend;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_worker_can_only_work_and_a_reader_only_see() {
        let rights = [Right::See, Right::Operate, Right::Keep, Right::Work, Right::Lend];
        let held = |role: Role| rights.map(|right| right.held_by(role));
        assert_eq!(held(Role::Reader), [true, false, false, false, false]);
        assert_eq!(held(Role::Operator), [true, true, false, false, true]);
        assert_eq!(held(Role::Admin), [true; 5]);
        assert_eq!(held(Role::Worker), [false, false, false, true, true]);
    }

    #[test]
    fn tokens_are_long_and_never_twice_the_same() {
        let (a, b) = (new_token(), new_token());
        assert!(a != b && a.len() == "kesmo-".len() + 64);
        assert_ne!(hash(&a), hash(&b));
    }
}
