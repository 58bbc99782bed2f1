//! Measurements of watching: many watchers of one run, how good the time left is, and the run page in a browser.

use std::{
    io::Write,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use fantoccini::{Client, ClientBuilder};
use hyper_util::client::legacy::connect::HttpConnector;
use kesmo_sim::left::{coverage, kinds};
use kesmo_wire::live::RunChange;
use serde_json::json;
use tokio::runtime::Runtime;

use crate::{
    Line,
    floor::median,
    quay::{Quay, now_us},
};

/// 200 watchers of a run at about 1,000 results a second: how late results come, the service's memory, and what it costs
/// the run.
pub fn watchers(runtime: &Runtime) -> Vec<Line> {
    const WATCHERS: usize = 200;
    runtime.block_on(async {
        let quay = Quay::open(2, 20).await;
        let bundle = quay.suite("watched", 8000, 39_000).await;
        quay.wait(&bundle, |_, _| ()).await;
        let (mut alone, mut watched, mut late) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..3 {
            alone.push(quay.wait(&bundle, |_, _| ()).await);
            let run = quay.start(&bundle).await;
            let began = Instant::now();
            let path = format!("/api/runs/{}/live", run.summary.name);
            let mut watchers = Vec::new();
            for number in 0..WATCHERS {
                let (client, path) = (quay.client.clone(), path.clone());
                watchers.push(tokio::spawn(async move {
                    let mut events = client.watch(&path, None).await.expect("a stream");
                    let mut late = Vec::new();
                    while let Some(event) = events.next().await.expect("no cut") {
                        let at = now_us();
                        // Reading what all of them get would measure the reader: these share the machine.
                        if number % 20 == 0 && event.kind != "snapshot" {
                            let change: RunChange = serde_json::from_str(&event.data).expect("a change");
                            late.extend(change.attempts.iter().map(|a| (at - a.ended_at_us) as f64 / 1000.0));
                        }
                        if event.kind == "end" {
                            return late;
                        }
                    }
                    panic!("a watcher did not see the end")
                }));
            }
            for watcher in watchers {
                late.extend(watcher.await.expect("a watcher"));
            }
            watched.push(began.elapsed().as_secs_f64());
        }
        late.sort_by(f64::total_cmp);
        let p99 = late[late.len() * 99 / 100];
        let (alone, watched) = (median(alone), median(watched));
        let rate = 8000.0 / watched;
        vec![
            Line {
                what: "200 watchers: from a test's end in the worker to the watcher, 99th percentile",
                measured: format!("{} results seen, at {rate:.0} a second", late.len()),
                compared_with: "a clock".into(),
                figure: p99,
                bound: 250.0,
                unit: " ms",
            },
            Line {
                what: "200 watchers: the service's memory",
                measured: "the most it had (VmHWM)".into(),
                compared_with: "nothing".into(),
                figure: quay.most_memory(),
                bound: 250.0,
                unit: " MiB",
            },
            Line {
                what: "200 watchers: the run against one with a single watcher, watchers on the same machine",
                measured: format!("{watched:.2} s (median of 3)"),
                compared_with: format!("{alone:.2} s"),
                figure: watched / alone,
                bound: 1.03,
                unit: "",
            },
        ]
    })
}

/// How often the range of the time left holds the truth, in simulated runs of all kinds.
pub fn time_left(_: &Runtime) -> Vec<Line> {
    let all: Vec<_> = kinds().iter().map(|kind| (kind.name, coverage(kind, 200))).collect();
    let line = |what, of: &[(&str, kesmo_sim::left::Coverage)]| {
        let mean = |take: fn(&kesmo_sim::left::Coverage) -> f64| {
            of.iter().map(|(_, c)| take(c)).sum::<f64>() / of.len() as f64
        };
        let each: Vec<String> = of.iter().map(|(name, c)| format!("{name} {:.0} %", c.held * 100.0)).collect();
        Line {
            what,
            measured: format!("{}; its width is {:.2} of the time left", each.join(", "), mean(|c| c.width)),
            compared_with: "what the run then took, 50 moments of each of 200 runs".into(),
            // How often it does not hold, so that less is better, as in every line.
            figure: (1.0 - mean(|c| c.held)) * 100.0,
            bound: 20.0,
            unit: " %",
        }
    };
    vec![
        line("time left, suites that the record knows: how often the range does not hold the truth", &all[..8]),
        line("time left, suites that it knows half or not at all", &all[8..]),
    ]
}

struct Browser {
    client: Client,
    driver: std::process::Child,
    _profile: tempfile::TempDir,
}

async fn browser() -> Browser {
    let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port").port();
    let mut driver = Command::new("chromedriver");
    driver.arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null());
    let driver = driver.spawn().expect("chromedriver is installed");
    let profile = tempfile::tempdir().expect("a profile");
    let arguments = [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-dev-shm-usage",
        "--no-first-run",
        "--disable-background-networking",
        "--window-size=1280,800",
        &format!("--user-data-dir={}", profile.path().display()),
    ]
    .map(str::to_owned);
    let mut capabilities = serde_json::map::Map::new();
    capabilities.insert("goog:chromeOptions".into(), json!({ "args": arguments }));
    let url = format!("http://127.0.0.1:{port}");
    let since = Instant::now();
    loop {
        match ClientBuilder::new(HttpConnector::new()).capabilities(capabilities.clone()).connect(&url).await {
            Ok(client) => return Browser { client, driver, _profile: profile },
            Err(e) => assert!(since.elapsed() < Duration::from_secs(60), "no browser: {e}"),
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        if let Err(e) = self.driver.kill().and_then(|()| self.driver.wait()) {
            eprintln!("kesmo-bench: {e}");
        }
    }
}

/// The page of a run of 100,000 entries: first content, the longest task of its main thread while results arrive, and what
/// the console weighs.
pub fn page(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(2, 20).await;
        let bundle = quay.suite("large", 100_000, 19_000).await;
        let run = quay.start(&bundle).await;
        let name = &run.summary.name;
        let page = browser().await;
        let token = quay.client.token();
        let at = |path: &str| format!("{}{path}", quay.client.url());
        page.client.goto(&at(&format!("/workers#token={token}"))).await.expect("the console");
        tokio::time::sleep(Duration::from_secs(2)).await;
        let mut firsts = Vec::new();
        let mut longest = 0.0f64;
        let mut seen = 0.0;
        for _ in 0..5 {
            page.client.goto("about:blank").await.expect("nothing");
            let began = Instant::now();
            page.client.goto(&at(&format!("/runs/{name}"))).await.expect("the page");
            let content = "return document.querySelectorAll('.entry-row').length > 10 && /of 100000 done/.test(document.body.innerText)";
            while page.client.execute(content, vec![]).await.expect("the page answers") != json!(true) {
                assert!(began.elapsed() < Duration::from_secs(30), "the page has no content");
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
            firsts.push(began.elapsed().as_secs_f64());
            let watch = "window.tasks = []; new PerformanceObserver((l) => window.tasks.push(...l.getEntries().map((e) => e.duration))).observe({ type: 'longtask' }); return Number(document.body.innerText.match(/(\\d+) of 100000 done/)[1])";
            let before = page.client.execute(watch, vec![]).await.expect("the page answers").as_f64().unwrap_or(0.0);
            let since = Instant::now();
            tokio::time::sleep(Duration::from_secs(4)).await;
            let after = "return [Math.max(0, ...window.tasks), Number((document.body.innerText.match(/(\\d+) of 100000 done/) ?? [0, 0])[1])]";
            let after = page.client.execute(after, vec![]).await.expect("the page answers");
            longest = longest.max(after[0].as_f64().unwrap_or(0.0));
            seen = (after[1].as_f64().unwrap_or(0.0) - before) / since.elapsed().as_secs_f64();
        }
        let first = median(firsts);
        page.client.clone().close().await.expect("the browser ends");
        vec![
            Line {
                what: "the page of a run of 100,000 entries: from the call to numbers and tests on it",
                measured: "median of 5, while the run goes on".into(),
                compared_with: "a clock".into(),
                figure: first,
                bound: 1.0,
                unit: " s",
            },
            Line {
                what: "that page: the longest task of its main thread",
                measured: format!("while {seen:.0} results a second arrive, five times 4 s"),
                compared_with: "a clock".into(),
                figure: longest,
                bound: 200.0,
                unit: " ms",
            },
            Line {
                what: "the console's first page, compressed",
                measured: "scripts and styles, without fonts".into(),
                compared_with: "nothing".into(),
                figure: weight(quay.client.url()).await / 1024.0,
                bound: 300.0,
                unit: " KiB",
            },
        ]
    })
}

/// What the first page loads of scripts and styles, as gzip makes it, in bytes.
async fn weight(url: &str) -> f64 {
    let text = async |path: &str| {
        kesmo_tls::Trust::default()
            .http()
            .build()
            .expect("a client")
            .get(format!("{url}{path}"))
            .send()
            .await
            .expect("the console")
            .text()
            .await
            .expect("its text")
    };
    let index = text("/").await;
    let mut bytes = 0;
    for part in index.split('"').filter(|p| p.starts_with("/assets/")) {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
        encoder.write_all(text(part).await.as_bytes()).expect("memory");
        bytes += encoder.finish().expect("memory").len();
    }
    assert!(bytes > 0, "the first page loads scripts");
    bytes as f64
}
