//! Who did what when: every call that changes something, and every one that was refused for who made it, goes on record.

use std::{
    sync::{
        Arc,
        atomic::{AtomicU32, AtomicU64, Ordering},
    },
    time::Duration,
};

use chrono::Utc;
use kesmo_core::name::shorten;
use kesmo_store::{Store, audit::NewAudit};
use rocket::{
    Request, Response,
    fairing::{Fairing, Info as About, Kind},
    http::{Method, Status},
};
use tokio::sync::mpsc;

use crate::{access::Caller, called};

/// What waits to be written at most; PostgreSQL may be away.
const MOST_WAITING: usize = 20_000;
/// Rows that are written at once.
const TOGETHER: usize = 500;
/// Refusals that go on record in a minute; of more, how many they were.
const REFUSALS: u32 = 120;
const A_MINUTE: Duration = Duration::from_secs(60);
/// The longest note and path, in bytes.
const LONGEST: usize = 500;

/// What a call that changes something (as `POST /api/runs`) does, in words. Those that only look have none, though they are sent
/// as if they did.
pub const WORDS: &[(&str, &str)] = &[
    ("POST /api/session", "sign in"),
    ("DELETE /api/session", "sign out"),
    ("POST /api/accounts", "account add"),
    ("PUT /api/accounts/<name>", "account role"),
    ("DELETE /api/accounts/<name>", "account remove"),
    ("POST /api/accounts/<name>/link", "account reset"),
    ("POST /api/password", "password chosen"),
    ("PUT /api/me/password", "password changed"),
    ("POST /api/login", "login"),
    ("POST /api/provider/end", "sign in"),
    ("POST /api/me/tokens", "login"),
    ("DELETE /api/sessions/<id>", "session end"),
    ("POST /api/tokens", "token add"),
    ("DELETE /api/tokens/<name>", "token remove"),
    ("PUT /api/secrets/<name>", "secret add"),
    ("DELETE /api/secrets/<name>", "secret remove"),
    ("POST /api/shares", "share"),
    ("DELETE /api/shares/<id>", "share end"),
    ("PUT /api/keep/<name>", "keep add"),
    ("DELETE /api/keep/<name>", "keep remove"),
    ("POST /api/sweep", "keep sweep"),
    ("DELETE /api/runs/<suite>/<number>", "runs remove"),
    ("POST /api/suites", "suite add"),
    ("DELETE /api/suites/<suite>", "suite remove"),
    ("PUT /api/bundles/<bundle>", "files"),
    ("POST /api/suites/<suite>/imports", "import"),
    ("POST /api/suites/<suite>/parks", "park"),
    ("DELETE /api/suites/<suite>/parks", "unpark"),
    ("POST /api/suites/<suite>/polls", "suite poll"),
    ("DELETE /api/suites/<suite>/polls", "suite unpoll"),
    ("DELETE /api/suites/<suite>/failing", "failing forget"),
    ("POST /api/suites/<suite>/portion", "portion"),
    ("POST /api/runs", "start"),
    ("POST /api/meet", "join"),
    ("POST /api/runs/<suite>/<number>/stop", "stop"),
    ("POST /api/runs/<suite>/<number>/again", "again"),
    ("POST /api/queue/order", "queue move"),
    ("POST /api/briefs", "brief add"),
    ("DELETE /api/briefs/<name>", "brief remove"),
    ("POST /api/schedules", "schedule add"),
    ("DELETE /api/schedules/<name>", "schedule remove"),
    ("POST /api/schedules/<name>/now", "schedule now"),
    ("POST /api/schedules/<name>/pause", "schedule pause"),
    ("POST /api/webhooks", "webhook add"),
    ("DELETE /api/webhooks/<name>", "webhook remove"),
    ("POST /api/webhooks/<name>/secret", "webhook new-secret"),
    ("POST /api/webhooks/<name>/pause", "webhook pause"),
    ("POST /api/webhooks/<name>/deliveries/<id>/redeliver", "webhook redeliver"),
    ("POST /webhook/<name>", "webhook"),
    ("PUT /api/notices/<name>", "notice add"),
    ("DELETE /api/notices/<name>", "notice remove"),
    ("POST /api/notices/<name>/secret", "notice new-secret"),
    ("POST /api/notices/<name>/pause", "notice pause"),
    ("POST /api/notices/<name>/try", "notice try"),
    ("POST /api/notices/<name>/messages/<number>/again", "notice again"),
    ("PUT /api/pools/<name>", "pool add"),
    ("DELETE /api/pools/<name>", "pool remove"),
    ("POST /api/workers/<name>/drain", "worker drain"),
];

/// What a call does, in words; none of one that changes nothing.
fn word_of(call: &str) -> Option<&'static str> {
    WORDS.iter().find(|known| known.0 == call).map(|known| known.1)
}

/// Puts calls on record.
#[derive(Clone)]
pub struct Auditing {
    sender: mpsc::Sender<NewAudit>,
    lost: Arc<AtomicU64>,
    refused: Arc<AtomicU32>,
}

impl Auditing {
    /// Starts writing.
    #[must_use]
    pub fn start(store: Store) -> Self {
        let (sender, receiver) = mpsc::channel(MOST_WAITING);
        let (lost, refused) = (Arc::<AtomicU64>::default(), Arc::<AtomicU32>::default());
        tokio::spawn(write(store, receiver, Arc::clone(&lost)));
        let (count, told) = (Arc::clone(&refused), sender.clone());
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(A_MINUTE).await;
                let more = count.swap(0, Ordering::Relaxed).saturating_sub(REFUSALS);
                if more > 0 {
                    let note = format!("{more} more calls were refused within a minute");
                    let row = NewAudit { note, status: 429, ..row("", "refused") };
                    if told.send(row).await.is_err() {
                        return;
                    }
                }
            }
        });
        Self { sender, lost, refused }
    }
}

fn row(path: &str, what: &str) -> NewAudit {
    NewAudit {
        at: Utc::now(),
        who: String::new(),
        role: String::new(),
        address: String::new(),
        what: what.to_owned(),
        path: path.to_owned(),
        status: 0,
        note: String::new(),
    }
}

/// PostgreSQL keeps no NUL, and nobody needs a whole address that holds a book.
fn bounded(text: &str) -> String {
    shorten(&text.replace('\0', "·"), LONGEST)
}

#[rocket::async_trait]
impl Fairing for Auditing {
    fn info(&self) -> About {
        About { name: "puts calls on record", kind: Kind::Response }
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        let status = response.status();
        let refused = matches!(status, Status::Unauthorized | Status::Forbidden);
        let route = request.route().map(|route| format!("{} {}", route.method, route.uri.origin.path()));
        let word = route.as_deref().and_then(word_of);
        let changes = !matches!(request.method(), Method::Get | Method::Head | Method::Options) && word.is_some();
        if !changes && !refused {
            return;
        }
        let me = called::who(request);
        // Nobody who is not known fills the record, whatever it is that they try.
        let by_nobody = me.is_none() && status.code >= 400;
        if (refused || by_nobody) && self.refused.fetch_add(1, Ordering::Relaxed) >= REFUSALS {
            return;
        }
        let note = called::noted(request);
        let address = Caller::of(request).address.map(|address| address.to_string()).unwrap_or_default();
        let path = format!("{} {}", request.method(), request.uri().path());
        let row = NewAudit {
            who: me.as_ref().map(|me| me.name.clone()).unwrap_or_default(),
            role: me.map(|me| me.role.word().to_owned()).unwrap_or_default(),
            address,
            status: i32::from(status.code),
            note: bounded(&note),
            ..row(&bounded(&path), word.unwrap_or("look"))
        };
        if self.sender.try_send(row).is_err() {
            self.lost.fetch_add(1, Ordering::Relaxed);
        }
    }
}

async fn write(store: Store, mut receiver: mpsc::Receiver<NewAudit>, lost: Arc<AtomicU64>) {
    let mut rows = Vec::new();
    while receiver.recv_many(&mut rows, TOGETHER).await > 0 {
        let missing = lost.swap(0, Ordering::Relaxed);
        if missing > 0 {
            let note = format!("{missing} calls are not on record: PostgreSQL was away for too long");
            rows.push(NewAudit { note, status: 503, ..row("", "record") });
        }
        while let Err(e) = store.add_audit(&rows).await {
            tracing::warn!("what was done is put on record later: {e}");
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        rows.clear();
    }
}
