//! A hundred thousand samples a second over eight slots: what they cost the results, and the service.

use std::{
    io::{BufWriter, Write},
    time::{Duration, Instant},
};

use kesmo_core::plan::RunOptions;
use tokio::runtime::Runtime;

use crate::{Line, floor::median, quay::Quay};

const SLOTS: u16 = 8;
const SAMPLES: u64 = 100_000;
const TESTS: u32 = 8 * 20;
const EACH: Duration = Duration::from_millis(400);
const ROUNDS: usize = 3;

/// The test program: each test of a file lasts so long, and reports so many samples a second of what it measures: to Kesmo, or nowhere, which is as
/// much work.
pub fn program(rate: u64, told: bool, names: &str) -> std::io::Result<()> {
    let own = std::env::var("KESMO_EVENTS").unwrap_or_default();
    let path = if told { own.as_str() } else { "/dev/null" };
    let mut events = BufWriter::with_capacity(4096, std::fs::OpenOptions::new().write(true).open(path)?);
    let mut results = std::fs::OpenOptions::new().write(true).open(&own)?;
    let text = std::fs::read_to_string(names)?;
    for name in text.lines() {
        writeln!(results, "{{\"test\":\"{name}\",\"event\":\"start\"}}")?;
        let (began, mut sent) = (Instant::now(), 0);
        while began.elapsed() < EACH {
            let due = (began.elapsed().as_secs_f64() * rate as f64) as u64;
            while sent < due {
                let value = 5 + sent * 7919 % 97;
                writeln!(
                    events,
                    "{{\"test\":\"{name}\",\"event\":\"measure\",\"name\":\"scan\",\"value\":{value},\"unit\":\"ms\"}}"
                )?;
                sent += 1;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        events.flush()?;
        writeln!(results, "{{\"test\":\"{name}\",\"event\":\"end\",\"outcome\":\"passed\"}}")?;
    }
    Ok(())
}

/// What 100,000 samples a second cost.
pub fn measures(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(2, SLOTS / 2).await;
        let own = std::env::current_exe().expect("a path").display().to_string();
        let list = format!("[\"{own}\", \"program\", \"names\", \"{TESTS}\"]");
        let rate = SAMPLES / u64::from(SLOTS);
        let mut suites = Vec::new();
        for told in ["nowhere", "told"] {
            let run = format!("[\"{own}\", \"program\", \"measure\", \"{rate}\", \"{told}\", \"{{names-file}}\"]");
            suites.push(quay.suite_with(&format!("measures-{told}"), &list, &run, "events", &[]).await);
        }
        let options = || RunOptions { shards: Some(u32::from(SLOTS)), ..RunOptions::default() };
        let (mut took, mut busy, mut counted) = ([Vec::new(), Vec::new()], Vec::new(), 0);
        for _ in 0..ROUNDS {
            for (which, suite) in suites.iter().enumerate() {
                let (began, cpu) = (Instant::now(), quay.processor_seconds());
                quay.stay_with(suite, options(), |change, _| {
                    counted = counted.max(change.summary.measures.first().map_or(0, |m| m.count));
                })
                .await;
                let seconds = began.elapsed().as_secs_f64();
                took[which].push(seconds);
                if which == 1 {
                    busy.push((quay.processor_seconds() - cpu) / seconds);
                }
            }
        }
        let [nowhere, told] = took.map(median);
        vec![
            Line {
                what: "results with 100,000 samples a second over 8 slots, against the same samples written nowhere",
                measured: format!("{told:.2} s (median of {ROUNDS}; {counted} samples counted in one)"),
                compared_with: format!("{nowhere:.2} s"),
                figure: told / nowhere,
                bound: 1.05,
                unit: "",
            },
            Line {
                what: "cores that the service and its PostgreSQL take meanwhile",
                measured: format!(
                    "of a machine with {} cores",
                    std::thread::available_parallelism().map_or(0, usize::from)
                ),
                compared_with: "a clock".into(),
                figure: median(busy),
                bound: 1.0,
                unit: "",
            },
        ]
    })
}
