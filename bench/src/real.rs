//! Real suites: programs that take long to start, processes that stay, files with very many cases.

use std::{process::Command, time::Instant};

use kesmo_sim::{Outcomes, Random, Scenario, simulate};
use kesmo_wire::cases::Cases;
use tokio::runtime::Runtime;

use crate::{Line, floor::median, quay::Quay};

/// A test program that works 60 ms for the processor before its first test. Its tests sleep 100 ms. With `--fed` it reads their
/// names from its standard input.
const SLOW_TO_START: &str = r#"import sys, time
if "--names" in sys.argv:
    print("\n".join(f"bench/group-{i // 100}/test-{i}" for i in range(1000)))
    sys.exit()
until = time.process_time() + 0.060
while time.process_time() < until:
    pass
for line in sys.stdin if "--fed" in sys.argv else open(sys.argv[1]):
    time.sleep(0.1)
    print("ok - " + line.strip(), flush=True)
"#;

/// 1,000 tests of 100 ms on 40 slots, by a program that costs 60 ms of the processor to start, against a shell that deals them
/// out to 40 processes.
pub fn starting(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(4, 10).await;
        let list = "[\"/usr/bin/python3\", \"tests.py\", \"--names\"]";
        let files = [("tests.py", SLOW_TO_START)];
        let run = "[\"/usr/bin/python3\", \"tests.py\", \"{names-file}\"]";
        let fed = "[\"/usr/bin/python3\", \"tests.py\", \"--fed\"]\nfeed = \"lines\"";
        let script = quay.dir.path().join("suite-dealt-0/tests.py").display().to_string();
        let parts = quay.dir.path().join("parts").display().to_string();
        let (mut shell, mut unknown, mut known, mut fed_first, mut fed_known) = (vec![], vec![], vec![], vec![], vec![]);
        for round in 0..3 {
            // A suite of its own each time, so that its first run knows nothing.
            let dealt = quay.suite_of(&format!("dealt-{round}"), list, run, &files).await;
            let stays = quay.suite_of(&format!("stays-{round}"), list, fed, &files).await;
            unknown.push(quay.wait(&dealt, |_, _| ()).await);
            known.push(quay.wait(&dealt, |_, _| ()).await);
            fed_first.push(quay.wait(&stays, |_, _| ()).await);
            fed_known.push(quay.wait(&stays, |_, _| ()).await);
            let deal = format!(
                "rm -rf {parts}; mkdir -p {parts}; /usr/bin/python3 {script} --names | split -n r/40 - {parts}/p; \
                 for p in {parts}/p*; do /usr/bin/python3 {script} $p > $p.out & done; wait"
            );
            let began = Instant::now();
            assert!(Command::new("sh").args(["-c", &deal]).status().is_ok_and(|s| s.success()), "the shell runs it");
            shell.push(began.elapsed().as_secs_f64());
        }
        let shell = median(shell);
        let line = |what, took: Vec<f64>, bound| {
            let took = median(took);
            Line {
                what,
                measured: format!("{took:.2} s from start to verdict (median of 3)"),
                compared_with: format!("{shell:.2} s: a shell that deals the names out to 40 processes"),
                figure: took / shell,
                bound,
                unit: "",
            }
        };
        vec![
            line("1,000 tests of 100 ms, 40 slots, a program that costs 60 ms of the processor to start, durations known", known, 1.1),
            line("the same, nothing known", unknown, 1.5),
            line("the same, fed, nothing known", fed_first, 1.05),
            line("the same, fed, durations known", fed_known, 1.05),
        ]
    })
}

/// A test program that works as long before its first test, and whose tests sleep as `times` says, by the number in their name.
const SLOW_AND_UNEVEN: &str = r#"import os, sys, time
times = [float(line) for line in open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "times"))]
if "--names" in sys.argv:
    print("\n".join(f"bench/{i}" for i in range(len(times))))
    sys.exit()
until = time.process_time() + 0.060
while time.process_time() < until:
    pass
for line in sys.stdin if "--fed" in sys.argv else open(sys.argv[1]):
    time.sleep(times[int(line.strip().rsplit("/", 1)[1])])
    print("ok - " + line.strip(), flush=True)
"#;

/// 900 uneven tests on 24 slots by a program that is slow to start, against a shell that knows every duration and deals the longest
/// out first, each to the process with the least so far, and starts each process once.
pub fn longest_first(runtime: &Runtime) -> Vec<Line> {
    const SLOTS: usize = 24;
    runtime.block_on(async {
        let quay = Quay::open(2, SLOTS as u16 / 2).await;
        let mut random = Random::new(14);
        let times: Vec<f64> = (0..900).map(|_| (0.1 * (1.4 * random.normal()).exp()).min(2.5)).collect();
        let lines: String = times.iter().map(|time| format!("{time:.6}\n")).collect();
        let list = "[\"/usr/bin/python3\", \"tests.py\", \"--names\"]";
        let files = [("tests.py", SLOW_AND_UNEVEN), ("times", lines.as_str())];
        let run = "[\"/usr/bin/python3\", \"tests.py\", \"{names-file}\"]";
        let fed = "[\"/usr/bin/python3\", \"tests.py\", \"--fed\"]\nfeed = \"lines\"";
        let dealt = quay.suite_of("longest-dealt", list, run, &files).await;
        let stays = quay.suite_of("longest-fed", list, fed, &files).await;
        let script = quay.dir.path().join("suite-longest-dealt/tests.py").display().to_string();
        let parts = quay.dir.path().join("longest-first");
        std::fs::create_dir(&parts).expect("a folder");
        let mut order: Vec<usize> = (0..times.len()).collect();
        order.sort_by(|a, b| times[*b].total_cmp(&times[*a]));
        let mut dealt_out = vec![(0.0_f64, String::new()); SLOTS];
        for test in order {
            let least = dealt_out.iter_mut().min_by(|a, b| a.0.total_cmp(&b.0)).expect("slots");
            least.0 += times[test];
            least.1 += &format!("bench/{test}\n");
        }
        let longest = dealt_out.iter().map(|(sum, _)| *sum).fold(0.0, f64::max);
        for (number, (_, names)) in dealt_out.iter().enumerate() {
            std::fs::write(parts.join(format!("p{number}")), names).expect("a file");
        }
        let deal =
            format!("for p in {}/p*; do /usr/bin/python3 {script} $p > $p.out & done; wait; rm {0}/*.out", parts.display());
        // Three runs until the record takes a duration for known.
        let unknown = quay.wait(&stays, |_, _| ()).await;
        for _ in 0..2 {
            quay.wait(&stays, |_, _| ()).await;
        }
        for _ in 0..3 {
            quay.wait(&dealt, |_, _| ()).await;
        }
        let (mut shell, mut known, mut fed_known) = (vec![], vec![], vec![]);
        for _ in 0..3 {
            known.push(quay.wait(&dealt, |_, _| ()).await);
            fed_known.push(quay.wait(&stays, |_, _| ()).await);
            let began = Instant::now();
            assert!(Command::new("sh").args(["-c", &deal]).status().is_ok_and(|s| s.success()), "the shell runs it");
            shell.push(began.elapsed().as_secs_f64());
        }
        let (shell, known, fed_known) = (median(shell), median(known), median(fed_known));
        let line = |what, measured: String, took: f64, bound| Line {
            what,
            measured,
            compared_with: format!("{shell:.2} s: a shell that deals the longest out first, knowing each; {longest:.2} s of work in each process"),
            figure: took / shell,
            bound,
            unit: "",
        };
        vec![
            line(
                "900 uneven tests (lognormal, sigma 1.4, at most 2.5 s), 24 slots, the same program, durations known",
                format!("{known:.2} s from start to verdict (median of 3)"),
                known,
                1.05,
            ),
            line("the same, fed, durations known", format!("{fed_known:.2} s (median of 3)"), fed_known, 1.05),
            line("the same, fed, nothing known", format!("{unknown:.2} s (once)"), unknown, f64::INFINITY),
        ]
    })
}

/// A million cases in 5,000 files, by a program that only prints.
pub fn cases(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(1, 2).await;
        let own = std::env::current_exe().expect("a path").display().to_string();
        let list = format!("[\"{own}\", \"program\", \"names\", \"5000\"]\neach = \"file\"");
        let run = format!("[\"{own}\", \"program\", \"cases\", \"200\", \"{{name}}\"]");
        let bundle = quay.suite_of("cases", &list, &run, &[]).await;
        let took = quay.wait(&bundle, |_, _| ()).await;
        let memory = quay.most_memory();
        let began = Instant::now();
        let page: Cases = quay.client.get("/api/runs/cases/1/cases", &[]).await.expect("cases");
        let answered = began.elapsed().as_secs_f64();
        assert_eq!((page.total, page.cases.len()), (1_000_000, 100));
        let line = |what, measured: &str, figure, bound, unit| Line {
            what,
            measured: measured.to_owned(),
            compared_with: "a clock".into(),
            figure,
            bound,
            unit,
        };
        vec![
            line(
                "1,000,000 cases in 5,000 files, 2 slots, a process a file: microseconds for each case",
                &format!("{took:.1} s, {:.0} cases a second", 1e6 / took),
                took,
                50.0,
                " µs",
            ),
            line("that run: the service's memory", "the most it had (VmHWM)", memory, 250.0, " MiB"),
            line("that run: the first page of its cases", "one call", answered, 1.0, " s"),
        ]
    })
}

/// A file whose cases sleep: `long` has 120 of half a second, each other one of a second.
const SLEEPER: &str = r#"case $1 in long) count=120 each=0.5 ;; *) count=1 each=1 ;; esac
for i in $(seq $count); do
  case $2 in
    --only) grep -qxF "case $i" "$3" || continue ;;
    --not) ! grep -qxF "case $i" "$3" || continue ;;
  esac
  sleep $each
  echo "ok - case $i"
done
"#;

/// A file of 60 s among 100 of a second, on 8 slots, known: against the bound that there is without that file as a floor.
pub fn cut(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(1, 8).await;
        let list = "[\"sh\", \"-c\", \"echo long; seq 1 100\"]\neach = \"file\"\n\
                    rerun = [\"sh\", \"tests.sh\", \"{name}\", \"--only\", \"{cases-file}\"]\n\
                    rest = [\"sh\", \"tests.sh\", \"{name}\", \"--not\", \"{cases-file}\"]";
        let run = "[\"sh\", \"tests.sh\", \"{name}\"]";
        // It runs whole at first, for a minute.
        let results = "tap\"\n[limits]\ntest = \"5m";
        let bundle = quay.suite_with("cut", list, run, results, &[("tests.sh", SLEEPER)]).await;
        let whole = quay.wait(&bundle, |_, _| ()).await;
        let mut took = Vec::new();
        for _ in 0..3 {
            took.push(quay.wait(&bundle, |_, _| ()).await);
        }
        let (bound, took) = (160.0 / 8.0, median(took));
        vec![Line {
            what: "a file of 60 s among 100 s of others, 8 slots, its cases known",
            measured: format!("{took:.1} s from start to verdict (median of 3); {whole:.1} s when nothing was known"),
            compared_with: format!("{bound:.0} s: all the work by the slots"),
            figure: took / bound,
            bound: 1.10,
            unit: "",
        }]
    })
}

/// Processes that stay, nothing known, against handing tests out singly in the order of the list.
pub fn fed(_: &Runtime) -> Vec<Line> {
    let mut ratios = Vec::new();
    for seed in 0..50 {
        let mut random = Random::new(seed);
        let durations: Vec<kesmo_core::time::Span> =
            (0..2000).map(|_| kesmo_core::time::Span((100_000.0 * (1.5 * random.normal()).exp()) as u64)).collect();
        let singly = {
            let mut slots = vec![0u64; 32];
            for duration in &durations {
                let least = slots.iter_mut().min().expect("slots");
                *least += duration.0;
            }
            slots.into_iter().max().unwrap_or(0)
        };
        let scenario = Scenario {
            seed,
            expected: vec![None; durations.len()],
            durations,
            workers: 4,
            slots_each: 8,
            start_cost: kesmo_core::time::Span::millis(20),
            outcomes: Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 },
            fed: true,
            ..Scenario::default()
        };
        let report = simulate(&scenario).expect("the promises hold");
        ratios.push(report.makespan.0 as f64 / singly as f64);
    }
    let mean = ratios.iter().sum::<f64>() / ratios.len() as f64;
    vec![Line {
        what: "simulated, fed, nothing known, heavy tail (sigma 1.5): mean",
        measured: "makespan, 2,000 tests, 32 slots, 50 seeds".into(),
        compared_with: "handing tests out singly, knowing nothing, for no cost".into(),
        figure: mean,
        bound: 1.01,
        unit: "",
    }]
}
