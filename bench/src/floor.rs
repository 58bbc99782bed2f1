//! Measurements of the whole house: service, PostgreSQL, workers, processes, streams.

use std::{process::Command, time::Instant};

use kesmo_core::{plan::RunOptions, time::Span};
use kesmo_sim::Random;
use kesmo_wire::api::{Entries, EntryDetail, Forecast, ForecastQuery};
use tokio::runtime::Runtime;

use crate::{
    Line,
    engine::{bound, heavy_tailed},
    quay::{Quay, now_us},
};

pub fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// 1,000 tests of 100 ms on 40 slots of 4 workers, once their durations are known.
pub fn makespan(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(4, 10).await;
        let bundle = quay.suite("makespan", 1000, 100_000).await;
        quay.wait(&bundle, |_, _| ()).await;
        let mut took = Vec::new();
        for _ in 0..5 {
            took.push(quay.wait(&bundle, |_, _| ()).await);
        }
        let took = median(took);
        vec![Line {
            what: "1,000 tests of 100 ms, 40 slots, 4 workers, durations known",
            measured: format!("{took:.2} s from start to verdict (median of 5)"),
            compared_with: "2.5 s, the ideal".into(),
            figure: took / 2.5,
            bound: 1.06,
            unit: "",
        }]
    })
}

/// 2,000 tests with a heavy tail, 20 s of work for each of 40 slots, once their durations are known.
pub fn uneven(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(4, 10).await;
        let drawn = heavy_tailed(&mut Random::new(11), 2000);
        let total: u64 = drawn.iter().map(|d| d.0).sum();
        let scale = 40.0 * 20e6 / total as f64;
        let durations: Vec<Span> = drawn.iter().map(|d| Span((d.0 as f64 * scale) as u64)).collect();
        let bound = bound(&durations, 40) / 1e6;
        let bundle = quay.uneven("uneven", &durations).await;
        let mut first = 0.0;
        for _ in 0..3 {
            let took = quay.wait(&bundle, |_, _| ()).await;
            first = if first == 0.0 { took } else { first };
        }
        let mut took = Vec::new();
        for _ in 0..3 {
            took.push(quay.wait(&bundle, |_, _| ()).await);
        }
        let took = median(took);
        vec![Line {
            what: "2,000 uneven tests (lognormal, sigma 1.5), 20 s of work a slot, 40 slots, durations known",
            measured: format!("{took:.2} s (median of 3); {first:.2} s when nothing was known"),
            compared_with: format!("{bound:.2} s, the larger of work by slots and the longest test"),
            figure: took / bound,
            bound: 1.05,
            unit: "",
        }]
    })
}

/// Forecasts of 20 suites, each for another number of shards, against what the runs then took.
pub fn forecasts(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(4, 4).await;
        let mut off = Vec::new();
        for n in 0..20u64 {
            let mut random = Random::new(100 + n);
            let count = 40 + random.below(200) as usize;
            let sigma = 0.3 + 1.0 * random.unit();
            let drawn: Vec<f64> = (0..count).map(|_| (sigma * random.normal()).exp()).collect();
            let work = 4e6 + 20e6 * random.unit();
            let scale = work / drawn.iter().sum::<f64>();
            let durations: Vec<Span> = drawn.iter().map(|d| Span((d * scale) as u64)).collect();
            let name = format!("weather-{n}");
            let bundle = quay.uneven(&name, &durations).await;
            let shards = 1 + random.below(16) as u32;
            for _ in 0..2 {
                quay.wait(&bundle, |_, _| ()).await;
            }
            let query =
                ForecastQuery { bundle: Some(bundle.clone()), shards: vec![shards], ..ForecastQuery::default() };
            let path = format!("/api/suites/{name}/forecast");
            let made: Forecast = quay.client.post(&path, &query).await.expect("a forecast");
            let options = RunOptions { shards: Some(shards), ..RunOptions::default() };
            let took = quay.stay_with(&bundle, options, |_, _| ()).await;
            off.push((made.points[0].time_us as f64 / 1e6 - took).abs() / took);
        }
        off.sort_by(f64::total_cmp);
        let (worst, most) = (off[19], off[17]);
        vec![Line {
            what: "forecasts of 20 suites, each for another number of shards (1 to 16): how far off, median",
            measured: format!("18 of 20 within {:.0} %, the worst {:.0} %", most * 100.0, worst * 100.0),
            compared_with: "what the run then took".into(),
            figure: median(off) * 100.0,
            bound: 10.0,
            unit: " %",
        }]
    })
}

/// A test program in the shell that runs each test in a subshell of its own.
const SHELL_PROGRAM: &str = r#"
if [ "$1" = names ]; then i=0; while [ $i -lt "$2" ]; do echo "bench/test-$i"; i=$((i + 1)); done; exit; fi
nothing() { :; }
while read -r name; do
  if (nothing); then echo "ok - $name"; else echo "not ok - $name"; fi
done < "$1"
"#;

/// 10,000 tests that do nothing, 2 slots, against the same program run by a shell, half and half.
pub fn tests_that_do_nothing(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(1, 2).await;
        let own = std::env::current_exe().expect("a path").display().to_string();
        let mut lines = Vec::new();
        let shell = quay
            .suite_of(
                "nothing-shell",
                "[\"sh\", \"tests.sh\", \"names\", \"10000\"]",
                "[\"sh\", \"tests.sh\", \"{names-file}\"]",
                &[("tests.sh", SHELL_PROGRAM)],
            )
            .await;
        let bare = quay.suite("nothing-bare", 10_000, 0).await;
        let script = quay.dir.path().join("suite-nothing-shell/tests.sh").display().to_string();
        let cases = [
            (
                "10,000 tests that do nothing, TAP, 2 slots; a shell program, a subshell for each test",
                shell,
                format!("sh {script} names 10000"),
                format!("sh {script}"),
                2.0,
            ),
            (
                "the same with a compiled program that only prints: what Kesmo itself costs",
                bare,
                format!("{own} program names 10000"),
                format!("{own} program run 0"),
                f64::INFINITY,
            ),
        ];
        for (what, bundle, names, program, bound) in cases {
            quay.wait(&bundle, |_, _| ()).await;
            let halves = quay.dir.path().join("halves");
            let both = format!(
                "{names} > {0}.all; head -n 5000 {0}.all > {0}.a; tail -n 5000 {0}.all > {0}.b",
                halves.display()
            );
            assert!(Command::new("sh").args(["-c", &both]).status().is_ok_and(|s| s.success()), "the halves are made");
            let side_by_side = format!("{program} {0}.a >{0}.1 & {program} {0}.b >{0}.2 & wait", halves.display());
            let (mut by_kesmo, mut by_shell) = (Vec::new(), Vec::new());
            for _ in 0..5 {
                by_kesmo.push(quay.wait(&bundle, |_, _| ()).await);
                let began = Instant::now();
                assert!(Command::new("sh").args(["-c", &side_by_side]).status().is_ok_and(|s| s.success()), "it runs");
                by_shell.push(began.elapsed().as_secs_f64());
            }
            let (kesmo, shell) = (median(by_kesmo), median(by_shell));
            lines.push(Line {
                what,
                measured: format!("{kesmo:.2} s, {:.0} µs more for each test (median of 5)", (kesmo - shell) * 100.0),
                compared_with: format!("{shell:.3} s in a shell, two halves side by side"),
                figure: kesmo / shell,
                bound,
                unit: "",
            });
        }
        lines
    })
}

/// From start to the first test's begin, and from a test's end to the watcher.
pub fn latency(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(2, 10).await;
        let small = quay.suite("begin", 20, 1000).await;
        quay.wait(&small, |_, _| ()).await;
        let mut begins = Vec::new();
        for _ in 0..40 {
            let called = now_us();
            let run = quay.start(&small).await;
            let name = &run.summary.name;
            let mut events = quay.client.watch(&format!("/api/runs/{name}/live"), None).await.expect("a stream");
            while let Some(event) = events.next().await.expect("no cut") {
                if event.kind == "end" {
                    break;
                }
            }
            let path = format!("/api/runs/{name}/entries");
            let all: Entries = quay.client.get(&path, &[("limit", "1000".into())]).await.expect("entries");
            let mut first = i64::MAX;
            for entry in &all.entries {
                let detail: EntryDetail =
                    quay.client.get(&format!("{path}/{}", entry.index), &[]).await.expect("an entry");
                first = first.min(detail.history[0].began_at.timestamp_micros());
            }
            begins.push((first - called) as f64 / 1000.0);
        }
        let begin = median(begins);
        // 10 slots with tests of 20 ms: 500 results a second.
        let many = quay.suite("stream", 5000, 40_000).await;
        quay.wait(&many, |_, _| ()).await;
        let mut late = Vec::new();
        let took = quay
            .wait(&many, |change, at| late.extend(change.attempts.iter().map(|a| (at - a.ended_at_us) as f64 / 1000.0)))
            .await;
        late.sort_by(f64::total_cmp);
        let p99 = late[late.len() * 99 / 100];
        vec![
            Line {
                what: "idle workers, known list: from start to the first test's begin",
                measured: "median of 40".into(),
                compared_with: "a clock".into(),
                figure: begin,
                bound: 150.0,
                unit: " ms",
            },
            Line {
                what: "from a test's end in the worker to the watcher, 99th percentile",
                measured: format!("{} results at {:.0} a second", late.len(), late.len() as f64 / took),
                compared_with: "a clock".into(),
                figure: p99,
                bound: 200.0,
                unit: " ms",
            },
        ]
    })
}

/// The service's memory with a run of 50,000 entries and 50 watchers.
pub fn memory(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(2, 5).await;
        let bundle = quay.suite("memory", 50_000, 200).await;
        let run = quay.start(&bundle).await;
        let path = format!("/api/runs/{}/live", run.summary.name);
        let mut watchers = Vec::new();
        for _ in 0..50 {
            let (client, path) = (quay.client.clone(), path.clone());
            watchers.push(tokio::spawn(async move {
                let mut events = client.watch(&path, None).await.expect("a stream");
                let mut ends = 0;
                while let Some(event) = events.next().await.expect("no cut") {
                    ends += usize::from(event.kind == "end");
                }
                ends
            }));
        }
        let mut ends = 0;
        for watcher in watchers {
            ends += watcher.await.expect("a watcher");
        }
        assert_eq!(ends, 50, "every watcher saw the end");
        vec![Line {
            what: "the service's memory, a run of 50,000 entries and 50 watchers",
            measured: "the most it had (VmHWM)".into(),
            compared_with: "nothing".into(),
            figure: quay.most_memory(),
            bound: 150.0,
            unit: " MiB",
        }]
    })
}
