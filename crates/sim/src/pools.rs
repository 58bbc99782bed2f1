//! Pools that start their own machines, simulated: what [`kesmo_core::fleet`] decides, second by second, against the best fixed number
//! of machines that is known only afterwards.

use kesmo_core::{
    fleet::{Demand, Limits, Machine, State, decide},
    time::{Span, Timestamp},
};

use crate::Random;

/// Decisions are made so often, in seconds.
const EVERY: f64 = 1.0;
/// A machine that vanished is missed after this, in seconds.
const MISSED_AFTER: f64 = 10.0;
/// A burst is over by then, or the story has no end, in seconds.
const NEVER: f64 = 200_000.0;

/// What happens to a pool.
#[derive(Debug, Clone)]
pub struct Story {
    pub seed: u64,
    /// Runs that come one after the other: when, and what each of their tests takes, in seconds.
    pub bursts: Vec<(f64, Vec<f64>)>,
    /// How well durations are known: the sigma of the error's logarithm.
    pub known: f64,
    /// What a start takes, in seconds, and how it varies.
    pub start: f64,
    pub start_varies: f64,
    /// How likely a start fails, and a machine that is up vanishes within a minute.
    pub fails: f64,
    pub vanishes: f64,
    pub slots: u32,
    pub most: u32,
    pub idle: f64,
}

/// What came of it.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Told {
    /// From each run's coming to its last test's end, in all, in seconds.
    pub makespan: f64,
    /// What was paid: from the asking for each machine to its end, times its slots, in seconds.
    pub paid: f64,
    /// Machines that were asked for.
    pub asked: u32,
    /// Tests that were carried out.
    pub done: usize,
}

struct Up {
    id: u64,
    asked: f64,
    /// When it is up; one that fails never is.
    up: f64,
    fails: bool,
    /// When it vanishes.
    gone: f64,
    slots: Vec<Option<(f64, usize)>>,
    idle_since: f64,
    ended: Option<f64>,
    /// The pool knows of its failing or vanishing.
    known: bool,
}

impl Up {
    fn is_up(&self, now: f64) -> bool {
        self.ended.is_none() && !self.fails && self.up <= now && now < self.gone
    }
}

struct Test {
    takes: f64,
    expected: f64,
    done: bool,
    waiting: bool,
}

/// Plays a story with the decisions of the core.
///
/// # Panics
/// If a run never ends.
#[must_use]
pub fn play(story: &Story) -> Told {
    let mut random = Random::new(story.seed);
    let mut tests: Vec<Test> = Vec::new();
    let mut coming = story.bursts.clone();
    coming.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut open: Vec<(f64, Vec<usize>)> = Vec::new();
    let mut machines: Vec<Up> = Vec::new();
    let (mut failures, mut failed_at) = (0, None);
    let mut starts: Vec<f64> = Vec::new();
    let mut told = Told::default();
    let mut now = 0.0;
    loop {
        while coming.last().is_some_and(|(at, _)| *at <= now) {
            let (at, durations) = coming.pop().unwrap_or_default();
            let from = tests.len();
            tests.extend(durations.iter().map(|takes| Test {
                takes: *takes,
                expected: takes * (story.known * random.normal()).exp(),
                done: false,
                waiting: true,
            }));
            open.push((at, (from..tests.len()).collect()));
        }
        // What ended until now.
        for machine in machines.iter_mut().filter(|m| m.ended.is_none()) {
            let gone = machine.gone;
            for slot in &mut machine.slots {
                if let Some((end, test)) = *slot {
                    if end <= now && end <= gone {
                        (tests[test].done, *slot) = (true, None);
                        told.done += 1;
                        machine.idle_since = end;
                    } else if gone <= now && machine.known {
                        (tests[test].waiting, *slot) = (true, None);
                    }
                }
            }
            if machine.fails && machine.up <= now && !machine.known {
                machine.known = true;
                machine.ended = Some(machine.up);
                failures += 1;
                failed_at = Some(stamp(now));
            } else if gone + MISSED_AFTER <= now && !machine.known {
                machine.known = true;
                for slot in &mut machine.slots {
                    if let Some((_, test)) = slot.take() {
                        tests[test].waiting = true;
                    }
                }
                machine.ended = Some(gone);
            } else if !machine.fails && machine.up <= now && !machine.known && machine.idle_since < machine.up {
                machine.idle_since = machine.up;
                starts.push(machine.up - machine.asked);
                failures = 0;
            }
        }
        open.retain(|(at, of)| {
            let over = of.iter().all(|test| tests[*test].done);
            if over {
                told.makespan += now - at;
            }
            !over
        });
        // Slots draw, the longest first.
        let mut waiting: Vec<usize> =
            open.iter().flat_map(|(_, of)| of).copied().filter(|t| tests[*t].waiting).collect();
        waiting.sort_by(|a, b| tests[*a].expected.total_cmp(&tests[*b].expected));
        for machine in machines.iter_mut().filter(|m| m.is_up(now)) {
            for slot in machine.slots.iter_mut().filter(|s| s.is_none()) {
                let Some(test) = waiting.pop() else { break };
                tests[test].waiting = false;
                *slot = Some((now + tests[test].takes, test));
            }
        }
        let all: Vec<Machine> = machines
            .iter()
            .filter(|m| m.ended.is_none())
            .map(|m| {
                let state = if m.up > now || m.fails {
                    State::Coming(stamp(m.asked))
                } else if m.slots.iter().any(Option::is_some) {
                    State::Busy
                } else {
                    State::Idle(stamp(m.idle_since))
                };
                Machine { id: m.id, state }
            })
            .collect();
        let usual = median(&starts).map(span);
        let pool = Limits {
            least: 0,
            most: story.most,
            slots: story.slots,
            idle: span(story.idle),
            start: usual,
            failures,
            failed_at,
        };
        let demands: Vec<Demand> = open.iter().map(|(_, of)| demand(&tests, &machines, of, now)).collect();
        let decision = decide(&pool, &demands, &all, stamp(now));
        for id in decision.end {
            if let Some(machine) = machines.iter_mut().find(|m| m.id == id) {
                machine.ended = Some(now);
                machine.known = true;
            }
        }
        for _ in 0..decision.start {
            let takes = (story.start * (1.0 + story.start_varies * random.normal())).max(story.start * 0.3);
            let gone =
                if story.vanishes > 0.0 { -(1.0 - random.unit()).ln() * 60.0 / story.vanishes } else { f64::INFINITY };
            machines.push(Up {
                id: machines.len() as u64,
                asked: now,
                up: now + takes,
                fails: random.chance(story.fails),
                gone: now + takes + gone,
                slots: vec![None; story.slots as usize],
                idle_since: 0.0,
                ended: None,
                known: false,
            });
            told.asked += 1;
        }
        if coming.is_empty() && open.is_empty() && machines.iter().all(|m| m.ended.is_some()) {
            break;
        }
        let ends =
            machines.iter().filter(|m| m.ended.is_none()).flat_map(|m| m.slots.iter().flatten().map(|(end, _)| *end));
        let next = ends.filter(|end| *end > now).fold(now + EVERY, f64::min);
        now = if open.is_empty() && machines.iter().all(|m| m.ended.is_some()) {
            coming.last().map_or(next, |(at, _)| at.max(next))
        } else {
            next
        };
        assert!(now < NEVER, "a run never ends: {story:?}");
    }
    let paid = |m: &Up| (m.ended.unwrap_or(now) - m.asked) * f64::from(story.slots);
    told.paid = machines.iter().map(paid).sum();
    told
}

/// What is expected of a run now.
fn demand(tests: &[Test], machines: &[Up], of: &[usize], now: f64) -> Demand {
    let mut left: Vec<f64> = of.iter().filter(|t| tests[**t].waiting).map(|t| tests[*t].expected).collect();
    let running = machines.iter().flat_map(|m| m.slots.iter().flatten()).filter(|(_, test)| of.contains(test));
    left.extend(running.map(|(end, test)| {
        let gone = tests[*test].takes - (end - now);
        // One that is over its time goes on for a part of it.
        (tests[*test].expected - gone).max(gone * 0.4).max(0.0)
    }));
    Demand {
        work: span(left.iter().sum()),
        longest: span(left.iter().copied().fold(0.0, f64::max)),
        slots: left.len() as u32,
        within: None,
        budget: None,
    }
}

/// The best fixed number of machines for each run, known afterwards: as many as each saved what one is worth, with the true durations
/// and no faults. The runs must not overlap.
#[must_use]
pub fn best(story: &Story) -> Told {
    let worth = (story.start * 0.2).max(3.0);
    let mut told = Told::default();
    for (_, durations) in &story.bursts {
        let takes = |machines: u32| story.start + dealt(durations, (machines * story.slots) as usize);
        let useful = (durations.len() as u32).div_ceil(story.slots).max(1).min(story.most);
        let mut count = 1;
        while let Some(more) = (1..=3)
            .find(|more| count + more <= useful && takes(count) - takes(count + more) >= worth * f64::from(*more))
        {
            count += more;
        }
        told.makespan += takes(count);
        told.paid += f64::from(count * story.slots) * (takes(count) + story.idle);
        told.asked += count;
        told.done += durations.len();
    }
    told
}

/// How long tests take on slots that draw, the longest first.
fn dealt(durations: &[f64], slots: usize) -> f64 {
    let mut sorted = durations.to_vec();
    sorted.sort_by(|a, b| b.total_cmp(a));
    let mut free = vec![0.0f64; slots.max(1)];
    for takes in sorted {
        let soonest = free.iter_mut().min_by(|a, b| a.total_cmp(b));
        if let Some(slot) = soonest {
            *slot += takes;
        }
    }
    free.into_iter().fold(0.0, f64::max)
}

fn stamp(seconds: f64) -> Timestamp {
    Timestamp((seconds * 1e6) as i64)
}

fn span(seconds: f64) -> Span {
    Span((seconds * 1e6) as u64)
}

fn median(of: &[f64]) -> Option<f64> {
    let mut sorted = of.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted.get(sorted.len() / 2).copied()
}
