//! Runs that another service carries out: whatever is asked of one is carried on to that service, which alone knows how it stands, and
//! its answer, streams among them, is carried back. Where it does not answer, this service tells what is stored.

use futures::{StreamExt, TryStreamExt};
use kesmo_floor::Ask;
use kesmo_wire::api::{Me, RunSummary, Worker};
use rocket::{
    Request, Response, Route, State, get,
    http::{Header, Status},
    request::{FromRequest, Outcome},
    response::{self, Responder},
    routes,
    serde::json::Json,
};
use tokio_util::io::StreamReader;

use super::live::Until;
use crate::{
    access::{self, Shown},
    app::App,
    peers::OwnFloor,
};

pub(super) fn routes() -> Vec<Route> {
    let mut routes = routes![own_floor, carried];
    // Before whatever else answers there; the ranks that routes have by themselves are from -12 on.
    routes[1].rank = -40;
    routes
}

/// What the floor of this service holds, for other services.
#[get("/api/peers/floor")]
async fn own_floor(app: &State<App>, _caller: Service) -> Json<OwnFloor> {
    let runs = app.floor.ask(Ask::Summaries).await.unwrap_or_default();
    Json(OwnFloor { runs, workers: app.floor.ask(Ask::Workers).await.unwrap_or_default() })
}

/// Another service, for itself.
struct Service;

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Service {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match Shown::of(request) {
            Some(Shown::Service(spoken)) if spoken.until > chrono::Utc::now() => Outcome::Success(Self),
            _ => Outcome::Error((Status::Unauthorized, ())),
        }
    }
}

/// Before all others of a run: taken only where another service carries it out and answers.
#[get("/api/runs/<_>/<_>/<_..>")]
fn carried(elsewhere: Elsewhere, until: Until) -> Carried {
    Carried(elsewhere.0, until)
}

/// Headers of a call that are carried on.
const ON: [&str; 4] = ["Accept", "Last-Event-ID", "If-None-Match", "Range"];
/// Headers of an answer that are of its connection, and not carried back.
const OWN: [&str; 6] = ["connection", "transfer-encoding", "content-length", "keep-alive", "date", "server"];

/// The answer of the service that carries out the run that is asked for.
struct Elsewhere(reqwest::Response);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Elsewhere {
    type Error = ();
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match answer(request).await {
            Some(answer) => Outcome::Success(Self(answer)),
            None => Outcome::Forward(Status::NotFound),
        }
    }
}

async fn answer(request: &Request<'_>) -> Option<reqwest::Response> {
    let app = request.rocket().state::<App>()?;
    let others = app.peers.others().await;
    if others.is_empty() {
        return None;
    }
    let shown = Shown::of(request)?;
    // What was carried here is answered here: the run may have come and gone meanwhile.
    if matches!(shown, Shown::Service(_)) {
        return None;
    }
    let mut parts = request.uri().path().as_str().split('/').skip(3);
    let (suite, number) = (parts.next()?, parts.next()?.parse().ok()?);
    let (row, _) = app.store.run(suite, number).await.ok()??;
    let holder = others.get(&row.pool).filter(|_| row.phase != "finished")?;
    // Who may not is told so here.
    let me = access::who(app, &shown).await.ok()?;
    let headers: Vec<(&str, &str)> =
        ON.iter().filter_map(|name| Some((*name, request.headers().get_one(name)?))).collect();
    let path = request.uri().to_string();
    let answer = app.peers.open(holder, &me, reqwest::Method::GET, &path, &headers, None).await?;
    // What it cannot tell now, or does not know of us, is told from what is stored.
    let of_use = !answer.status().is_server_error() && answer.status() != reqwest::StatusCode::UNAUTHORIZED;
    of_use.then_some(answer)
}

struct Carried(reqwest::Response, Until);

impl<'r> Responder<'r, 'static> for Carried {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let Self(answer, until) = self;
        let mut built = Response::build();
        built.status(Status::new(answer.status().as_u16()));
        for (name, value) in answer.headers() {
            if let (false, Ok(value)) = (OWN.contains(&name.as_str()), value.to_str()) {
                built.header_adjoin(Header::new(name.as_str().to_owned(), value.to_owned()));
            }
        }
        // A stream of events ends when it is over. Whatever else is cut off must not read as if it were whole.
        let events =
            answer.headers().get("content-type").is_some_and(|kind| kind.as_bytes().starts_with(b"text/event-stream"));
        let bytes = answer.bytes_stream().map_err(std::io::Error::other);
        let bytes = if events { bytes.take_until(until.over()).boxed() } else { bytes.boxed() };
        built.streamed_body(StreamReader::new(bytes));
        built.ok()
    }
}

impl App {
    /// The runs that are open, at any service, by id.
    pub async fn summaries(&self) -> std::collections::BTreeMap<i64, RunSummary> {
        let mut all = self.floor.ask(Ask::Summaries).await.unwrap_or_default();
        for (_, floor) in self.peers.floors().await {
            for (id, run) in floor.runs {
                all.entry(id).or_insert(run);
            }
        }
        all
    }

    /// The workers, of any service.
    pub async fn workers(&self) -> Vec<Worker> {
        let mut all = self.floor.ask(Ask::Workers).await.unwrap_or_default();
        for (_, floor) in self.peers.floors().await {
            let others = floor.workers.into_iter();
            let new: Vec<Worker> =
                others.filter(|w| !all.iter().any(|o| (&o.name, &o.pool) == (&w.name, &w.pool))).collect();
            all.extend(new);
        }
        all.sort_by(|a, b| (&a.pool, &a.name).cmp(&(&b.pool, &b.name)));
        all
    }

    /// How many slots take something new in a pool, for what needs this.
    pub async fn slots(&self, pool: &str, needs: std::collections::BTreeMap<String, String>) -> u32 {
        let (asked, wanted) = (pool.to_owned(), needs.clone());
        let own = self.floor.ask(|reply| Ask::SlotsOffering(asked, wanted, reply)).await.unwrap_or(0);
        if own > 0 {
            return own;
        }
        let fits = |worker: &&Worker| {
            let free = worker.connected && !worker.draining && worker.only_run.is_none();
            free && worker.pool == pool && needs.iter().all(|(key, value)| worker.offers.get(key) == Some(value))
        };
        let floors = self.peers.floors().await;
        floors.iter().flat_map(|(_, floor)| &floor.workers).filter(fits).map(|worker| worker.slots.len() as u32).sum()
    }

    /// Has a worker of another service take nothing new, or take work again, for somebody; none if there is none of that name.
    pub async fn drain_elsewhere(&self, me: &Me, name: &str, body: String) -> Option<Worker> {
        for (holder, floor) in self.peers.floors().await {
            if floor.workers.iter().any(|worker| worker.name == name) {
                let path = format!("/api/workers/{name}/drain");
                let answer = self.peers.open(&holder, me, reqwest::Method::POST, &path, &[], Some(body)).await?;
                return serde_json::from_slice(&answer.error_for_status().ok()?.bytes().await.ok()?).ok();
            }
        }
        None
    }
}
