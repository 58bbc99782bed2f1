//! How long a run would take, by number of slots: the real engine on a plan from the record, with a simulated fleet that
//! has no faults.
//!
//! What each test takes is drawn around its expected duration with its spread; starting a process costs what it was
//! measured to; the answer is the median over several draws.

use std::{cmp::Reverse, collections::BinaryHeap};

use kesmo_core::{
    plan::Plan,
    run::{BatchEnd, Effect, Engine, Fit, Grant, Input, Policy, WorkerId},
    time::{Span, Timestamp},
    words::Ended,
};

use crate::random::Random;

/// Draws for each number of slots, at the most.
const MOST_DRAWS: usize = 7;
/// Entries simulated for each number of slots, over all draws, at the most: so a forecast for a large suite stays quick.
const MOST_ENTRIES: usize = 20_000;
/// More slots stop helping when doubling the effort still saves less than this share.
const WORTH: f64 = 0.05;

/// One number of slots.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    pub shards: u32,
    /// The median, and what four of five draws lie between.
    pub time: Span,
    pub low: Span,
    pub high: Span,
    /// Slots times time.
    pub cost: Span,
}

/// What no number of slots can go below: the longest entry, group or claim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Floor {
    /// `the test gate/slow`, `the group tides (12 tests)`, `the claim berth-db (40 tests)`.
    pub what: String,
    pub time: Span,
}

/// A whole forecast.
#[derive(Debug, Clone, PartialEq)]
pub struct Forecast {
    pub points: Vec<Point>,
    /// From this number on more shards stop helping, if that is within what was asked for.
    pub enough: Option<u32>,
    pub floor: Floor,
    /// All expected work, one test after the other.
    pub work: Span,
}

/// Forecasts a run of `plan` for each number of slots.
#[must_use]
pub fn forecast(plan: &Plan, policy: &Policy, shards: impl IntoIterator<Item = u32>, seed: u64) -> Forecast {
    let draws = (MOST_ENTRIES / plan.entries.len().max(1)).clamp(1, MOST_DRAWS);
    let mut points: Vec<Point> = Vec::new();
    for shards in shards {
        let mut times: Vec<Span> =
            (0..draws as u64).map(|draw| makespan(plan, policy, shards, seed ^ (draw << 32) ^ draw)).collect();
        times.sort_unstable();
        let at = |share: f64| times[((times.len() - 1) as f64 * share).round() as usize];
        let time = at(0.5);
        points.push(Point { shards, time, low: at(0.1), high: at(0.9), cost: Span(time.0 * u64::from(shards)) });
    }
    let work = Span(plan.entries.iter().filter(|e| e.parked.is_none()).filter_map(|e| e.expected).map(|s| s.0).sum());
    Forecast { enough: enough(&points), floor: floor(plan), points, work }
}

/// The first number of slots after which no larger one that was asked for saves a worthwhile share of the time.
fn enough(points: &[Point]) -> Option<u32> {
    let saves = |from: &Point, to: &Point| (from.time.0 as f64 - to.time.0 as f64) / from.time.0.max(1) as f64;
    let last = points.last()?;
    points.iter().find(|point| saves(point, last) < WORTH).filter(|point| point.shards < last.shards).map(|p| p.shards)
}

fn floor(plan: &Plan) -> Floor {
    use std::collections::BTreeMap;
    let mut longest = Floor { what: "nothing".into(), time: Span::ZERO };
    let mut offer = |what: &dyn Fn() -> String, time: Span| {
        if time > longest.time {
            longest = Floor { what: what(), time };
        }
    };
    let mut groups: BTreeMap<u32, (u64, usize, &str)> = BTreeMap::new();
    let mut claims: BTreeMap<&str, (u64, usize)> = BTreeMap::new();
    for entry in plan.entries.iter().filter(|e| e.parked.is_none()) {
        let work = entry.expected.unwrap_or_default();
        offer(&|| format!("the test {}", entry.name), work);
        if let Some(group) = entry.group {
            let sum = groups.entry(group).or_insert((0, 0, entry.name.as_str()));
            (sum.0, sum.1) = (sum.0 + work.0, sum.1 + 1);
        }
        for claim in &plan.claim_sets[entry.claims as usize] {
            let sum = claims.entry(claim).or_default();
            (sum.0, sum.1) = (sum.0 + work.0, sum.1 + 1);
        }
    }
    for (work, count, name) in groups.into_values().filter(|g| g.1 > 1) {
        offer(&|| format!("the group of {name} ({count} tests)"), Span(work));
    }
    for (claim, (work, count)) in claims.into_iter().filter(|(_, c)| c.1 > 1) {
        offer(&|| format!("the claim {claim} ({count} tests)"), Span(work));
    }
    longest
}

/// One draw: the time from the first grant to the verdict.
#[must_use]
pub fn makespan(plan: &Plan, policy: &Policy, slots: u32, seed: u64) -> Span {
    let mut random = Random::new(seed);
    let usual = 1_000_000.0;
    let takes: Vec<Span> = plan
        .entries
        .iter()
        .map(|e| {
            let expected = e.expected.map_or(usual, |s| s.0 as f64);
            let spread = (e.spread.0 as f64).min(expected);
            // Never far below: a test does its work, and what disturbs it makes it longer.
            Span((expected + spread * random.normal()).max(expected * 0.3) as u64)
        })
        .collect();
    let policy = Policy {
        shards: None,
        give_up_after: None,
        run_limit: Span::seconds(1_000_000_000),
        patience: Span::seconds(1_000_000_000),
        ..policy.clone()
    };
    let start_cost = policy.start_cost.unwrap_or(Span::millis(50));
    let mut end = Timestamp(0);
    let mut attempt = |at: At| (Ended::Passed, takes[at.entry as usize]);
    carry(plan, policy, slots, start_cost, &mut attempt, |_, now| end = now, |_, _| {});
    end.since(Timestamp(0))
}

/// A batch on its slot: how far it is, and what comes of the attempt that runs.
type AtWork = (Grant, usize, (Ended, Span));

/// An attempt that is about to run.
#[derive(Debug, Clone, Copy)]
pub(crate) struct At {
    pub entry: u32,
    pub slot: u32,
}

/// Carries a run through the engine on slots without faults. `attempt` says how an attempt ends and what it takes; `watch` sees the
/// engine after each of them; `effects` is told of everything that the engine wants done.
pub(crate) fn carry(
    plan: &Plan,
    policy: Policy,
    slots: u32,
    start_cost: Span,
    attempt: &mut dyn FnMut(At) -> (Ended, Span),
    mut watch: impl FnMut(&Engine, Timestamp),
    mut effects: impl FnMut(&Effect, Timestamp),
) {
    let mut begin = |entry: u32, slot: u32| attempt(At { entry, slot });
    let mut engine = Engine::new(policy);
    let mut handle = |engine: &mut Engine, input: Input, now: Timestamp| {
        let all = engine.handle(input, now);
        all.iter().for_each(|effect| effects(effect, now));
        all
    };
    let now = Timestamp(0);
    let workers = (0..slots).map(|n| (WorkerId(n), Fit::all(1))).collect();
    let none_for = std::collections::BTreeMap::new();
    handle(&mut engine, Input::Fleet { workers, none_because: String::new(), none_for }, now);
    handle(&mut engine, Input::Planned(plan.clone()), now);
    let mut free: Vec<u32> = (0..slots).rev().collect();
    // When a batch's next attempt ends, and how far it is.
    let mut heap: BinaryHeap<Reverse<(Timestamp, u32, u64)>> = BinaryHeap::new();
    let mut at_work: Vec<Option<AtWork>> = vec![None; slots as usize];
    let mut now = now;
    let mut steps = 0u64;
    loop {
        // A slot may be of no use for what waits (a retry that is to go elsewhere): then the others are asked.
        let mut refused = Vec::new();
        while engine.wants_slots()
            && let Some(slot) = free.pop()
        {
            let input = Input::Free { worker: WorkerId(slot), slot: 0 };
            let granted = handle(&mut engine, input, now).into_iter().find_map(|effect| match effect {
                Effect::Grant(grant) => Some(grant),
                _ => None,
            });
            let Some(grant) = granted else {
                refused.push(slot);
                continue;
            };
            let comes = begin(grant.entries[0], slot);
            let ends = now + start_cost + comes.1;
            handle(&mut engine, Input::Began { batch: grant.batch, entry: grant.entries[0] }, now + start_cost);
            at_work[slot as usize] = Some((grant, 0, comes));
            steps += 1;
            heap.push(Reverse((ends, slot, steps)));
        }
        free.extend(refused.into_iter().rev());
        if !free.is_empty() {
            let asked = handle(&mut engine, Input::Idle { slots: free.len() as u32 }, now);
            for effect in asked {
                let Effect::GiveBack { worker, batch, from } = effect else { continue };
                if let Some((grant, position, _)) = &mut at_work[worker.0 as usize] {
                    let kept = from.and_then(|from| grant.entries.iter().position(|entry| *entry == from)).unwrap_or(0);
                    let entries = grant.entries.split_off(kept.max(*position + 1).min(grant.entries.len()));
                    handle(&mut engine, Input::GaveBack { batch, entries }, now);
                }
            }
            if engine.wants_slots() && heap.is_empty() {
                // Only a pause can hold all slots up.
                now = engine.wake_at(now).unwrap_or(now + Span::millis(1));
                handle(&mut engine, Input::Tick, now);
                continue;
            }
        }
        watch(&engine, now);
        let Some(Reverse((time, slot, _))) = heap.pop() else { return };
        now = time;
        let Some((grant, position, comes)) = &mut at_work[slot as usize] else { continue };
        let (batch, entry) = (grant.batch, grant.entries[*position]);
        let (ended, spent) = *comes;
        *position += 1;
        let next = grant.entries.get(*position).copied();
        handle(&mut engine, Input::Ended { batch, entry, ended, spent, cases: 0, with_start: None }, now);
        if let Some(next) = next {
            handle(&mut engine, Input::Began { batch, entry: next }, now);
            steps += 1;
            *comes = begin(next, slot);
            heap.push(Reverse((now + comes.1, slot, steps)));
        } else {
            at_work[slot as usize] = None;
            handle(&mut engine, Input::BatchEnded { batch, end: BatchEnd::Done }, now);
            free.push(slot);
        }
        if engine.verdict().is_some() {
            watch(&engine, now);
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use kesmo_core::{name::TestName, plan::PlannedEntry, suite::Variant};

    use super::*;

    fn plan(durations: &[u64]) -> Plan {
        let entry = |(n, ms): (usize, &u64)| PlannedEntry {
            expected: Some(Span::millis(*ms)),
            ..PlannedEntry::plain(TestName::parse(&format!("t/{n}")).unwrap())
        };
        Plan {
            variants: vec![Variant::default()],
            entries: durations.iter().enumerate().map(entry).collect(),
            claim_sets: vec![vec![], vec!["berth".into()]],
            listed: durations.len(),
            ..Plan::default()
        }
    }

    fn policy() -> Policy {
        Policy { start_cost: Some(Span::ZERO), ..Policy::default() }
    }

    #[test]
    fn even_work_takes_its_share_and_costs_the_same() {
        let forecast = forecast(&plan(&[100; 120]), &policy(), 1..=12, 1);
        assert_eq!(forecast.work, Span::seconds(12));
        for point in &forecast.points {
            let ideal = 12_000_000 / u64::from(point.shards);
            assert!(point.time.0 >= ideal && point.time.0 <= ideal + 210_000, "{point:?}");
        }
    }

    #[test]
    fn a_long_test_is_the_floor_from_where_more_shards_stop_helping() {
        let mut durations = vec![100; 100];
        durations.push(2000);
        let forecast = forecast(&plan(&durations), &policy(), 1..=20, 1);
        assert_eq!(forecast.floor, Floor { what: "the test t/100".into(), time: Span::seconds(2) });
        let enough = forecast.enough.expect("more stop helping");
        assert!((5..=8).contains(&enough), "12 s of work against a test of 2 s: {enough}");
    }

    #[test]
    fn a_claim_is_a_floor_too() {
        let mut plan = plan(&[100; 40]);
        for entry in &mut plan.entries[..30] {
            entry.claims = 1;
        }
        let forecast = forecast(&plan, &policy(), [1, 4, 16], 1);
        assert_eq!(forecast.floor, Floor { what: "the claim berth (30 tests)".into(), time: Span::seconds(3) });
        assert!(forecast.points[2].time >= Span::seconds(3));
    }

    #[test]
    fn the_same_question_has_the_same_answer() {
        let plan = plan(&(1..200).map(|n| n * 7 % 900 + 1).collect::<Vec<_>>());
        assert_eq!(forecast(&plan, &policy(), 1..5, 3), forecast(&plan, &policy(), 1..5, 3));
    }
}
