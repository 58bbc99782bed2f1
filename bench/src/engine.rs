//! The run engine alone, on the simulated fleet.

use std::{
    alloc::{GlobalAlloc, Layout, System},
    collections::BTreeMap,
    sync::atomic::{AtomicUsize, Ordering},
    time::Instant,
};

use kesmo_core::{
    name::TestName,
    plan::{Plan, PlannedEntry, portion},
    run::{BatchEnd, Effect, Engine, Fit, Input, Policy, WorkerId},
    suite::Variant,
    time::{Span, Timestamp},
    words::Ended,
};
use kesmo_sim::{Random, Scenario, simulate};
use tokio::runtime::Runtime;

use crate::Line;

/// Counts what is allocated, for the engine's memory.
struct Counting;

static ALLOCATED: AtomicUsize = AtomicUsize::new(0);

// SAFETY: hands everything on to the system's allocator, unchanged.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        ALLOCATED.fetch_add(layout.size(), Ordering::Relaxed);
        // SAFETY: the caller keeps the contract of `alloc`.
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        ALLOCATED.fetch_sub(layout.size(), Ordering::Relaxed);
        // SAFETY: the caller keeps the contract of `dealloc`.
        unsafe { System.dealloc(at, layout) }
    }
}

#[global_allocator]
static COUNTING: Counting = Counting;

/// Durations with a heavy tail: lognormal, sigma 1.5, a median of 100 ms.
pub fn heavy_tailed(random: &mut Random, count: usize) -> Vec<Span> {
    (0..count).map(|_| Span((100_000.0 * (1.5 * random.normal()).exp()) as u64)).collect()
}

/// The larger of the work by slots and the longest test.
pub fn bound(durations: &[Span], slots: u64) -> f64 {
    let work: u64 = durations.iter().map(|d| d.0).sum();
    let longest = durations.iter().map(|d| d.0).max().unwrap_or(0);
    (work / slots).max(longest) as f64
}

/// The makespans of 100 runs against their bounds: mean and worst.
fn ratios(known: bool, start_cost: Span) -> (f64, f64) {
    let ratio = |seed: u64| {
        let mut random = Random::new(seed);
        let durations = heavy_tailed(&mut random, 2000);
        let mut about = |d: &Span| known.then(|| Span((d.0 as f64 * (0.8 + 0.4 * random.unit())) as u64));
        let expected = durations.iter().map(&mut about).collect();
        let bound = bound(&durations, 32);
        let made = Scenario { seed, durations, expected, workers: 8, slots_each: 4, start_cost, ..Scenario::default() };
        simulate(&made).expect("the promises hold").makespan.0 as f64 / bound
    };
    let all: Vec<f64> = (0..100).map(ratio).collect();
    (all.iter().sum::<f64>() / 100.0, all.iter().copied().fold(0.0, f64::max))
}

/// The mean makespan, against its bound, of handing out the tests singly in an order that knows nothing: what no one can
/// do better who knows nothing of durations and cannot interrupt a test.
fn blind() -> f64 {
    let ratio = |seed: u64| {
        let durations = heavy_tailed(&mut Random::new(seed), 2000);
        let mut ends = vec![0u64; 32];
        for duration in &durations {
            if let Some(first) = ends.iter_mut().min() {
                *first += duration.0;
            }
        }
        ends.iter().max().copied().unwrap_or(0) as f64 / bound(&durations, 32)
    };
    (0..100).map(ratio).sum::<f64>() / 100.0
}

/// The makespan with batches of a fixed number of tests, longest expected first, each batch costing a start.
fn fixed(durations: &[(Span, Span)], size: usize, slots: usize, start_cost: Span) -> u64 {
    let mut ends = vec![0u64; slots];
    for batch in durations.chunks(size) {
        if let Some(first) = ends.iter_mut().min() {
            *first += start_cost.0 + batch.iter().map(|d| d.1.0).sum::<u64>();
        }
    }
    ends.iter().max().copied().unwrap_or(0)
}

/// With starts of a second: the total against the best fixed batch size that a search finds for each suite.
fn against_fixed() -> f64 {
    let start_cost = Span::seconds(1);
    let ratio = |seed: u64| {
        let mut random = Random::new(seed);
        let durations = heavy_tailed(&mut random, 2000);
        let expected: Vec<Span> =
            durations.iter().map(|d| Span((d.0 as f64 * (0.8 + 0.4 * random.unit())) as u64)).collect();
        let mut ordered: Vec<(Span, Span)> = expected.iter().copied().zip(durations.iter().copied()).collect();
        ordered.sort_unstable_by(|a, b| b.cmp(a));
        let best = (1..=200).map(|size| fixed(&ordered, size, 32, start_cost)).min().unwrap_or(1);
        let expected = expected.into_iter().map(Some).collect();
        let made = Scenario { seed, durations, expected, workers: 8, slots_each: 4, start_cost, ..Scenario::default() };
        simulate(&made).expect("the promises hold").makespan.0 as f64 / best as f64
    };
    (0..100).map(ratio).sum::<f64>() / 100.0
}

/// The makespans of simulated runs.
pub fn simulated(_: &Runtime) -> Vec<Line> {
    let (mean, worst) = ratios(true, Span::ZERO);
    let (unknown, _) = ratios(false, Span::ZERO);
    let compared_with = || "the larger of work by slots and the longest test".to_owned();
    let line = |what, figure, bound| Line {
        what,
        measured: "makespan, 2,000 tests, lognormal with sigma 1.5, 32 slots, 100 seeds".into(),
        compared_with: compared_with(),
        figure,
        bound,
        unit: "",
    };
    vec![
        line("simulated, durations known within 20%: mean", mean, 1.03),
        line("simulated, durations known within 20%: worst", worst, 1.08),
        line("simulated, nothing known: mean", unknown, 1.20),
        Line {
            compared_with: "handing tests out singly, knowing nothing".into(),
            figure: unknown / blind(),
            bound: 1.05,
            ..line("simulated, nothing known: mean, against what can be done", 0.0, 0.0)
        },
        Line {
            compared_with: "the best fixed batch size found by search, for each suite".into(),
            ..line("simulated, starting a process costs 1 s: mean", against_fixed(), 1.10)
        },
    ]
}

/// Five portions of uneven suites.
pub fn portions(_: &Runtime) -> Vec<Line> {
    let worst = (0..100)
        .map(|seed| {
            let mut random = Random::new(seed);
            let durations = heavy_tailed(&mut random, 2000);
            let plan = plan(&durations);
            let loads: Vec<u64> =
                portion::portions(&plan, 5).iter().map(|p| p.iter().map(|i| durations[*i as usize].0).sum()).collect();
            let mean = loads.iter().sum::<u64>() as f64 / 5.0;
            *loads.iter().max().unwrap_or(&0) as f64 / mean
        })
        .fold(0.0, f64::max);
    vec![Line {
        what: "five portions of 2,000 tests, lognormal with sigma 1.5: the worst of 100 suites",
        measured: "the longest portion".into(),
        compared_with: "the mean portion".into(),
        figure: worst,
        bound: 1.02,
        unit: "",
    }]
}

fn plan(durations: &[Span]) -> Plan {
    let entry = |(n, span): (usize, &Span)| PlannedEntry {
        expected: Some(*span),
        spread: Span(span.0 / 10),
        ..PlannedEntry::plain(TestName::parse(&format!("gate/group-{}/test-{n}", n % 40)).expect("it is a name"))
    };
    Plan {
        variants: vec![Variant::default()],
        entries: durations.iter().enumerate().map(entry).collect(),
        claim_sets: vec![vec![]],
        listed: durations.len(),
        ..Plan::default()
    }
}

/// Inputs a second, and memory an entry, with 100,000 entries.
pub fn inputs(_: &Runtime) -> Vec<Line> {
    const ENTRIES: usize = 100_000;
    let durations = heavy_tailed(&mut Random::new(7), ENTRIES);
    let before = ALLOCATED.load(Ordering::Relaxed);
    let made = plan(&durations);
    let mut engine = Engine::new(Policy::default());
    let now = Timestamp(0);
    let workers: BTreeMap<WorkerId, Fit> = (0..10).map(|n| (WorkerId(n), Fit::all(4))).collect();
    engine.handle(Input::Fleet { workers, none_because: String::new(), none_for: BTreeMap::new() }, now);
    engine.handle(Input::Planned(made), now);
    let memory = (ALLOCATED.load(Ordering::Relaxed) - before) as f64 / ENTRIES as f64;
    let began = Instant::now();
    let mut inputs = 0u64;
    let mut slot = 0;
    while engine.verdict().is_none() {
        let (worker, of) = (WorkerId(slot / 4), (slot % 4) as u16);
        slot = (slot + 1) % 40;
        inputs += 1;
        let granted = engine.handle(Input::Free { worker, slot: of }, now);
        for effect in granted {
            let Effect::Grant(grant) = effect else { continue };
            for entry in grant.entries {
                engine.handle(Input::Began { batch: grant.batch, entry }, now);
                let spent = durations[entry as usize];
                engine.handle(
                    Input::Ended { batch: grant.batch, entry, ended: Ended::Passed, spent, cases: 0, with_start: None },
                    now,
                );
                inputs += 2;
            }
            engine.handle(Input::BatchEnded { batch: grant.batch, end: BatchEnd::Done }, now);
            inputs += 1;
        }
    }
    let rate = inputs as f64 / began.elapsed().as_secs_f64();
    vec![
        Line {
            what: "the engine with 100,000 entries",
            measured: format!("{rate:.0} inputs a second on one core"),
            compared_with: "500,000 a second, divided by it".into(),
            figure: 500_000.0 / rate,
            bound: 1.0,
            unit: "",
        },
        Line {
            what: "the engine with 100,000 entries",
            measured: "memory an entry, with its plan".into(),
            compared_with: "1 KB".into(),
            figure: memory,
            bound: 1024.0,
            unit: " B",
        },
    ]
}

/// The promises of the engine, over 10,000 seeds with faults and everything that runs may ask for.
pub fn promises(_: &Runtime) -> Vec<Line> {
    let broken = (0..10_000).filter(|seed| simulate(&kesmo_sim::anything(*seed)).is_err()).count();
    vec![Line {
        what: "the engine's promises: faults, groups, claims, retries, parks, variants, several runs at once",
        measured: "seeds of 10,000 in which one is broken".into(),
        compared_with: "none".into(),
        figure: broken as f64,
        bound: 0.0,
        unit: "",
    }]
}
