//! How good the engine's ranges for the time left are: runs whose durations the record knows more or less, looked at all
//! the way, each range held against what the run then still took.

use std::cell::RefCell;

use kesmo_core::{
    name::TestName,
    plan::{Plan, PlannedEntry},
    run::{Engine, Policy, TimeLeft},
    suite::Variant,
    time::{Span, Timestamp},
    words::Ended,
};

use crate::{
    forecast::{At, carry},
    random::Random,
};

/// What a run is like.
#[derive(Debug, Clone, Copy)]
pub struct Kind {
    pub name: &'static str,
    pub tests: usize,
    pub slots: u32,
    /// How uneven durations are: the sigma of their logarithms, around a median of 300 ms.
    pub uneven: f64,
    /// How far one attempt is from another of the same test, as a sigma of the logarithm; the record has its spread.
    pub noise: f64,
    /// All tests take so many times what the record says.
    pub pace: f64,
    /// The share of tests that the record knows.
    pub known: f64,
    pub start_cost: Span,
    /// The share of attempts that fail, each with up to two retries.
    pub failing: f64,
}

impl Default for Kind {
    fn default() -> Self {
        Self {
            name: "even",
            tests: 300,
            slots: 8,
            uneven: 0.5,
            noise: 0.15,
            pace: 1.0,
            known: 1.0,
            start_cost: Span::millis(100),
            failing: 0.0,
        }
    }
}

/// Runs of all kinds that the ranges are held against. The first five are of suites that the record knows.
#[must_use]
pub fn kinds() -> Vec<Kind> {
    let like = Kind::default();
    vec![
        like,
        Kind { name: "heavy tail", uneven: 1.5, ..like },
        Kind { name: "noisy", noise: 0.5, ..like },
        Kind { name: "many", tests: 2000, slots: 32, uneven: 1.0, ..like },
        Kind { name: "few", tests: 20, slots: 4, uneven: 1.0, ..like },
        Kind { name: "slower machine", pace: 1.5, ..like },
        Kind { name: "slow starts", start_cost: Span::seconds(1), ..like },
        Kind { name: "failing", failing: 0.1, ..like },
        Kind { name: "half unknown", known: 0.5, uneven: 1.0, ..like },
        Kind { name: "unknown", known: 0.0, uneven: 1.0, ..like },
    ]
}

/// How often ranges of a kind held the truth, and how wide they were.
#[derive(Debug, Clone, Copy)]
pub struct Coverage {
    /// The share of moments, evenly spread over the run, in which the truth lay in the range.
    pub held: f64,
    /// The mean of the range's width against the true time left, while at least a tenth of the run is left.
    pub width: f64,
    /// The share of moments with a range at all.
    pub shown: f64,
    /// The share of moments in which it took longer than the range said.
    pub late: f64,
    /// The mean of what it took beyond the likely time, against the whole run.
    pub bias: f64,
}

/// Looks at that many runs of a kind, at 50 moments each.
#[must_use]
pub fn coverage(kind: &Kind, runs: u64) -> Coverage {
    const MOMENTS: u64 = 50;
    let (mut held, mut shown, mut all, mut width, mut wide_ones) = (0u32, 0u32, 0u32, 0.0, 0u32);
    let (mut late, mut bias) = (0u32, 0.0);
    for seed in 0..runs {
        let seen = watched(kind, seed);
        let end = seen.last().map_or(0, |(at, _)| at.0);
        for moment in 0..MOMENTS {
            let at = end * moment as i64 / MOMENTS as i64;
            all += 1;
            // What was last said before that moment, counted down as a view does.
            let Some((said_at, Some(left))) = seen.iter().rev().find(|(t, _)| t.0 <= at) else { continue };
            let passed = (at - said_at.0) as u64;
            let (low, high) = (left.low_us.saturating_sub(passed), left.high_us.saturating_sub(passed));
            let truth = (end - at) as u64;
            shown += 1;
            held += u32::from((low..=high).contains(&truth));
            late += u32::from(truth > high);
            bias += (truth as f64 + passed as f64 - left.likely_us as f64) / end as f64;
            if truth * 10 > end as u64 {
                width += (high - low) as f64 / truth as f64;
                wide_ones += 1;
            }
        }
    }
    Coverage {
        held: f64::from(held) / f64::from(shown.max(1)),
        width: width / f64::from(wide_ones.max(1)),
        late: f64::from(late) / f64::from(shown.max(1)),
        bias: bias / f64::from(shown.max(1)),
        shown: f64::from(shown) / f64::from(all.max(1)),
    }
}

/// One run: what was said of the time left, and when.
fn watched(kind: &Kind, seed: u64) -> Vec<(Timestamp, Option<TimeLeft>)> {
    let mut random = Random::new(seed.wrapping_mul(7919) + 1);
    let usual: Vec<f64> = (0..kind.tests).map(|_| 0.3 * (kind.uneven * random.normal()).exp()).collect();
    let entry = |(n, usual): (usize, &f64)| PlannedEntry {
        expected: random.chance(kind.known).then(|| Span((usual * 1e6) as u64)),
        spread: Span((usual * kind.noise * 1e6) as u64),
        retries: if kind.failing > 0.0 { 2 } else { 0 },
        ..PlannedEntry::plain(TestName::parse(&format!("t/{n}")).expect("a name"))
    };
    let entries: Vec<PlannedEntry> = usual.iter().enumerate().map(entry).collect();
    let listed = entries.len();
    let plan =
        Plan { variants: vec![Variant::default()], entries, claim_sets: vec![Vec::new()], listed, ..Plan::default() };
    let policy = Policy {
        start_cost: Some(kind.start_cost),
        run_limit: Span::seconds(1_000_000),
        patience: Span::seconds(1_000_000),
        ..Policy::default()
    };
    let random = RefCell::new(random);
    let mut attempt = |at: At| {
        let mut random = random.borrow_mut();
        let takes = usual[at.entry as usize] * kind.pace * (kind.noise * random.normal()).exp();
        let ended = if random.chance(kind.failing) { Ended::Failed } else { Ended::Passed };
        (ended, Span((takes * 1e6) as u64))
    };
    let mut seen = Vec::new();
    let watch = |engine: &Engine, now| seen.push((now, engine.time_left(now)));
    carry(&plan, policy, kind.slots, kind.start_cost, &mut attempt, watch, |_, _| {});
    seen
}
