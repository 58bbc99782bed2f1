//! Traces (OpenTelemetry): a span for each call of the API, which goes on a trace that its caller tells of (W3C Trace Context), and a trace
//! of each run that this service carried out, sent to where an address is given (OTLP over HTTP, as protobuf).
//!
//! They are sent beside everything else: where nobody takes them, they are lost, and nothing waits for that.

use std::{
    collections::VecDeque,
    time::{Duration, SystemTime},
};

use kesmo_core::{name::shorten, words::Verdict};
use kesmo_floor::FloorHandle;
use kesmo_wire::{api::RunSummary, live::Floor};
use opentelemetry::{
    Context, KeyValue,
    propagation::{Extractor, TextMapPropagator},
    trace::{Span, SpanKind, Status, TraceContextExt, Tracer, TracerProvider},
};
use opentelemetry_otlp::{Protocol, SpanExporter, WithExportConfig};
use opentelemetry_sdk::{
    Resource,
    propagation::TraceContextPropagator,
    trace::{SdkTracer, SdkTracerProvider},
};
use rocket::{
    Data, Request, Response,
    fairing::{Fairing, Info, Kind},
};
use tokio::sync::{broadcast::error::RecvError, watch};

use crate::error::Error;

/// Whoever takes spans is waited for so long.
const PATIENCE: Duration = Duration::from_secs(10);
/// ... and no longer at the service's end.
const AT_END: Duration = Duration::from_secs(2);
/// The longest path that is told of a call, in letters.
const LONGEST_PATH: usize = 300;
/// Runs whose end was told, so that none is told twice.
const REMEMBERED: usize = 1000;

/// Where traces go.
#[derive(Debug, Clone)]
pub struct Traces {
    provider: SdkTracerProvider,
    tracer: SdkTracer,
}

impl Traces {
    /// Sends them to an address, to which `/v1/traces` is added: `http://127.0.0.1:4318`.
    ///
    /// # Errors
    /// If the address cannot be used.
    pub fn to(address: &str) -> Result<Self, Error> {
        let wrong = |why: &dyn std::fmt::Display| Error::Option(format!("--traces {address}: {why}"));
        if !kesmo_core::request::is_web(address) {
            return Err(wrong(&"write it like http://127.0.0.1:4318"));
        }
        // Whoever loads trust says by whose cryptography TLS is spoken.
        kesmo_tls::Trust::load(None).map_err(|e| wrong(&e))?;
        let exporter = SpanExporter::builder()
            .with_http()
            .with_protocol(Protocol::HttpBinary)
            .with_endpoint(format!("{}/v1/traces", address.trim_end_matches('/')))
            .with_timeout(PATIENCE)
            .build()
            .map_err(|e| wrong(&e))?;
        let about = [KeyValue::new("service.version", env!("CARGO_PKG_VERSION"))];
        let resource = Resource::builder().with_service_name("kesmo").with_attributes(about).build();
        let provider = SdkTracerProvider::builder().with_batch_exporter(exporter).with_resource(resource).build();
        let tracer = provider.tracer("kesmo");
        Ok(Self { provider, tracer })
    }

    /// Sends what was not sent yet, and ends.
    pub async fn end(self) {
        let ended = tokio::task::spawn_blocking(move || self.provider.shutdown_with_timeout(AT_END)).await;
        if let Ok(Err(e)) = ended {
            tracing::warn!("the last traces could not be sent: {e}");
        }
    }

    /// The trace of a run that is over: how long it waited, and how long it ran.
    fn run(&self, run: &RunSummary) {
        let Some(finished) = run.finished_at else { return };
        let text = |name: &'static str, value: &str| KeyValue::new(name, value.to_owned());
        let number = |name: &'static str, count: u32| KeyValue::new(name, i64::from(count));
        // The names of what pipelines have in common (OpenTelemetry's conventions for CI and CD), and Kesmo's own.
        let mut all = vec![
            text("cicd.pipeline.name", &run.suite),
            text("cicd.pipeline.run.id", &run.name),
            text("kesmo.pool", &run.pool),
            text("kesmo.started_by", &run.started_by),
            number("kesmo.tests.passed", run.tally.passed),
            number("kesmo.tests.flaky", run.tally.flaky),
            number("kesmo.tests.failed", run.tally.failed),
            number("kesmo.tests.skipped", run.tally.skipped),
            number("kesmo.tests.not_run", run.tally.not_run),
        ];
        if let Some(verdict) = run.verdict {
            let result = match verdict {
                Verdict::Passed => "success",
                Verdict::Failed => "failure",
                Verdict::Void => "error",
                Verdict::Stopped => "cancellation",
            };
            all.extend([text("kesmo.verdict", verdict.word()), text("cicd.pipeline.result", result)]);
        }
        let optional = [("vcs.ref.head.name", &run.branch), ("vcs.ref.head.revision", &run.commit)];
        all.extend(optional.into_iter().filter_map(|(name, value)| Some(text(name, value.as_deref()?))));
        let created = SystemTime::from(run.created_at);
        let began =
            self.tracer.span_builder(format!("run {}", run.suite)).with_start_time(created).with_attributes(all);
        let mut whole = began.start_with_context(&self.tracer, &Context::new());
        if matches!(run.verdict, Some(Verdict::Failed | Verdict::Void)) {
            whole.set_status(Status::error(run.reason.clone()));
        }
        let within = Context::new().with_remote_span_context(whole.span_context().clone());
        let part = |name: &'static str, from: SystemTime, to: SystemTime| {
            let mut span =
                self.tracer.span_builder(name).with_start_time(from).start_with_context(&self.tracer, &within);
            span.end_with_timestamp(to);
        };
        let (tests_known, finished) = (run.began_at.map(SystemTime::from), SystemTime::from(finished));
        part("wait and list tests", created, tests_known.unwrap_or(finished));
        if let Some(known) = tests_known {
            part("run tests", known, finished);
        }
        whole.end_with_timestamp(finished);
    }

    /// Tells of each run that ends on this service's floor, until `ending` turns true.
    pub async fn follow(self, floor: FloorHandle, mut ending: watch::Receiver<bool>) {
        let mut events = floor.hub.subscribe(None).receiver;
        let mut told: VecDeque<String> = VecDeque::new();
        loop {
            let event = tokio::select! {
                event = events.recv() => event,
                _ = ending.wait_for(|ending| *ending) => return,
            };
            let event = match event {
                Ok(event) => event,
                Err(RecvError::Lagged(_)) => continue,
                Err(RecvError::Closed) => return,
            };
            let Ok(change) = serde_json::from_str::<Floor>(&event.data) else { continue };
            for run in change.runs.iter().filter(|run| run.verdict.is_some() && run.finished_at.is_some()) {
                if !told.contains(&run.name) {
                    self.run(run);
                    told.push_back(run.name.clone());
                    if told.len() > REMEMBERED {
                        told.pop_front();
                    }
                }
            }
        }
    }
}

/// The headers of a call, as Trace Context is read from them.
struct Headers<'a>(&'a rocket::http::HeaderMap<'a>);

impl Extractor for Headers<'_> {
    fn get(&self, key: &str) -> Option<&str> {
        self.0.get_one(key)
    }

    fn keys(&self) -> Vec<&str> {
        Vec::new()
    }
}

/// When a call came.
struct Came(SystemTime);

#[rocket::async_trait]
impl Fairing for Traces {
    fn info(&self) -> Info {
        Info { name: "traces calls", kind: Kind::Request | Kind::Response }
    }

    async fn on_request(&self, request: &mut Request<'_>, _data: &mut Data<'_>) {
        request.local_cache(|| Came(SystemTime::now()));
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        let route = request.route().map(|route| route.uri.origin.path().to_string());
        // The console's files, and what is not there, tell nobody anything.
        let Some(route) = route.filter(|path| path.starts_with("/api/") || path.starts_with("/webhook/")) else {
            return;
        };
        let (method, status) = (request.method().to_string(), response.status().code);
        let parent = TraceContextPropagator::new().extract_with_context(&Context::new(), &Headers(request.headers()));
        let attributes = [
            KeyValue::new("http.request.method", method.clone()),
            KeyValue::new("http.response.status_code", i64::from(status)),
            KeyValue::new("url.path", shorten(request.uri().path().as_str(), LONGEST_PATH)),
            KeyValue::new("http.route", route.clone()),
        ];
        let span = self.tracer.span_builder(format!("{method} {route}")).with_kind(SpanKind::Server);
        let span = span.with_start_time(request.local_cache(|| Came(SystemTime::now())).0).with_attributes(attributes);
        let mut span = span.start_with_context(&self.tracer, &parent);
        if status >= 500 {
            span.set_status(Status::error(""));
        }
        span.end();
    }
}
