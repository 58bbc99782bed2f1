//! Traces (OpenTelemetry), taken by a small receiver of OTLP over HTTP.

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::TcpListener,
    sync::mpsc::{Receiver, channel},
    time::{Duration, Instant},
};

use opentelemetry_proto::tonic::{
    collector::trace::v1::ExportTraceServiceRequest,
    common::v1::any_value::Value,
    trace::v1::{Span, status::StatusCode},
};
use prost::Message;

use crate::{
    holes::call,
    quay::{Quay, all_said, assert_says},
};

/// Takes spans; tells its address and what came.
fn receiver() -> (String, Receiver<Span>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    let (told, spans) = channel();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut reader = BufReader::new(stream.try_clone().expect("the stream"));
            let (mut line, mut length, mut first) = (String::new(), 0, String::new());
            while reader.read_line(&mut line).is_ok_and(|read| read > 2) {
                if first.is_empty() {
                    first.clone_from(&line);
                }
                if let Some(bytes) = line.to_lowercase().strip_prefix("content-length: ") {
                    length = bytes.trim().parse().expect("a number");
                }
                line.clear();
            }
            let mut body = vec![0; length];
            reader.read_exact(&mut body).expect("a body");
            assert!(first.starts_with("POST /v1/traces "), "{first}");
            let request = ExportTraceServiceRequest::decode(body.as_slice()).expect("it is OTLP");
            for resource in request.resource_spans {
                let about = format!("{:?}", resource.resource);
                assert!(about.contains("service.name") && about.contains("kesmo"), "{about}");
                resource.scope_spans.into_iter().flat_map(|scope| scope.spans).for_each(|span| drop(told.send(span)));
            }
            let answer = "HTTP/1.1 200 OK\r\nContent-Type: application/x-protobuf\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
            drop(stream.write_all(answer.as_bytes()));
        }
    });
    (address, spans)
}

fn attribute(span: &Span, name: &str) -> String {
    let found = span.attributes.iter().find(|one| one.key == name).and_then(|one| one.value.clone()?.value);
    match found {
        Some(Value::StringValue(text)) => text,
        Some(Value::IntValue(number)) => number.to_string(),
        other => format!("{other:?}"),
    }
}

#[test]
fn calls_and_runs_are_traced_where_an_address_is_given_and_nothing_waits_for_that() {
    let (address, spans) = receiver();
    let quay = Quay::with_options_in(|_| vec!["--traces".into(), address]);
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("gate", "a b", "[ $t = a ] && echo \"ok - $t\" || echo \"not ok - $t\"", "");
    assert_eq!(quay.wait(&folder, &["--label", "release=1"]).0, 1);
    // A caller's trace is gone on with.
    let bearer = format!("Bearer {}", quay.token());
    let parent = "00-0123456789abcdef0123456789abcdef-fedcba9876543210-01";
    let headers = [("Authorization", bearer.as_str()), ("traceparent", parent)];
    assert_eq!(call(&quay, "GET", "/api/runs/gate/1", &headers, b"").0, 200);
    let mut all: Vec<Span> = Vec::new();
    let since = Instant::now();
    let run = |all: &[Span]| all.iter().find(|span| span.name == "run gate").cloned();
    let called = |all: &[Span]| {
        all.iter().find(|span| !span.parent_span_id.is_empty() && span.name.starts_with("GET ")).cloned()
    };
    while run(&all).is_none() || called(&all).is_none() {
        assert!(since.elapsed() < Duration::from_secs(60), "{:?}", all.iter().map(|s| &s.name).collect::<Vec<_>>());
        all.extend(spans.recv_timeout(Duration::from_secs(60)));
        all.extend(spans.try_iter());
    }
    let run = run(&all).expect("it came");
    assert_eq!(attribute(&run, "cicd.pipeline.run.id"), "gate/1");
    assert_eq!(attribute(&run, "cicd.pipeline.result"), "failure");
    assert_eq!(attribute(&run, "kesmo.tests.failed"), "1");
    assert_eq!(run.status.as_ref().map(|status| status.code), Some(StatusCode::Error as i32));
    let parts: Vec<&Span> = all.iter().filter(|span| span.parent_span_id == run.span_id).collect();
    let names: Vec<&str> = parts.iter().map(|part| part.name.as_str()).collect();
    assert_eq!(names, ["wait and list tests", "run tests"]);
    assert!(
        parts[0].end_time_unix_nano == parts[1].start_time_unix_nano
            && parts[1].end_time_unix_nano == run.end_time_unix_nano
    );
    let called = called(&all).expect("it came");
    assert_eq!(called.name, "GET /api/runs/<suite>/<number>");
    assert_eq!(called.trace_id, hex::decode(&parent[3..35]).expect("an id"));
    assert_eq!(attribute(&called, "http.response.status_code"), "200");
    assert_eq!(attribute(&called, "url.path"), "/api/runs/gate/1");
    // Nobody's token is in any of it.
    assert!(all.iter().all(|span| !format!("{span:?}").contains(&quay.token())));
}

#[test]
fn traces_that_nobody_takes_hold_nothing_up() {
    let quay = Quay::with_options_in(|_| vec!["--traces".into(), "http://127.0.0.1:9".into()]);
    let _worker = quay.worker("heron", 1);
    let folder = quay.tap("gate", "a", "echo \"ok - $t\"", "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    let refused = quay.kesmo(&["serve", "--check", "--data", "elsewhere", "--traces", "quay.example:4318"]);
    assert_says(&all_said(&refused), &["--traces quay.example:4318: write it like http://127.0.0.1:4318"]);
}
