//! What whoever watches the service from outside is told: how many calls came and how long they took, beside what the floor counts.

use std::time::Instant;

use kesmo_floor::Figures;
use prometheus_client::{
    metrics::{counter::Counter, family::Family, histogram::Histogram, info::Info},
    registry::{Registry, Unit},
};
use rocket::{
    Data, Request, Response,
    fairing::{Fairing, Info as About, Kind},
};

/// Labels of a call: method, route, status.
type Labels = Vec<(&'static str, String)>;

/// Bounds of how long a call takes, in seconds.
const CALLS: [f64; 11] = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 5.0];
/// Calls to what is not there, and the console's files, are counted as one each: their addresses are anybody's.
const ELSEWHERE: &str = "elsewhere";

/// Counts calls, and holds all that is counted.
#[derive(Clone)]
pub struct Watched {
    calls: Family<Labels, Counter>,
    seconds: Family<Labels, Histogram>,
    floor: Figures,
}

impl Watched {
    /// Nothing was counted yet.
    #[must_use]
    pub fn new(floor: Figures) -> Self {
        Self { calls: Family::default(), seconds: Family::new_with_constructor(|| Histogram::new(CALLS)), floor }
    }

    /// All that is counted, to be shown; what is true now is added by whoever asks.
    #[must_use]
    pub fn registry(&self) -> Registry {
        let mut registry = Registry::default();
        let build = Info::new(vec![("version", env!("CARGO_PKG_VERSION"))]);
        registry.register("kesmo_build", "What runs here", build);
        registry.register("kesmo_http_requests", "Calls that were answered", self.calls.clone());
        let about = "From a call's arrival to the beginning of its answer";
        registry.register_with_unit("kesmo_http_request_duration", about, Unit::Seconds, self.seconds.clone());
        self.floor.register(&mut registry);
        registry
    }
}

/// When a call came.
struct Came(Instant);

#[rocket::async_trait]
impl Fairing for Watched {
    fn info(&self) -> About {
        About { name: "counts calls", kind: Kind::Request | Kind::Response }
    }

    async fn on_request(&self, request: &mut Request<'_>, _data: &mut Data<'_>) {
        request.local_cache(|| Came(Instant::now()));
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        let route = request.route().map(|route| route.uri.origin.path().to_string());
        let route =
            route.filter(|path| path.starts_with("/api/") || path.starts_with("/webhook/") || path == "/metrics");
        let route = route.unwrap_or_else(|| ELSEWHERE.to_owned());
        let took = request.local_cache(|| Came(Instant::now())).0.elapsed();
        self.seconds.get_or_create(&vec![("route", route.clone())]).observe(took.as_secs_f64());
        let labels = vec![
            ("method", request.method().to_string()),
            ("route", route),
            ("status", response.status().code.to_string()),
        ];
        self.calls.get_or_create(&labels).inc();
    }
}
