//! How many machines a pool wants now, and which may go: from what waits, what is expected of it, what starting a machine costs, and
//! the pool's limits. Values in, values out; what starts machines asks again whenever something changed, and at [`Decision::wake`].
//!
//! A further machine is wanted while it still shortens what is left by more than it costs. How long `n` machines take follows from
//! the work as a fluid: slots draw, so that all of them end at about the same time (see docs/sharding.md), each machine gives its
//! slots from the moment it is up, no run uses more slots than it can, and nothing ends before the longest test that is left.

use crate::time::{Span, Timestamp};

/// A further machine saves at least this, or it is not worth starting.
const LEAST_SAVING: Span = Span::seconds(3);
/// And at least this part of what a start takes: that is paid for, and nothing runs meanwhile.
const SAVING_OF_START: f64 = 0.2;
/// What a start takes before one was seen.
const UNKNOWN_START: Span = Span::seconds(20);
/// A machine that is not up after so many times what starts usually take, and a while beside, is given up.
const GIVEN_UP: u64 = 3;
const GIVEN_UP_BESIDE: Span = Span::seconds(60);
/// After starts that failed, the next is waited for: this, doubled each time, and at most so long.
const FIRST_PAUSE: Span = Span::seconds(2);
const LONGEST_PAUSE: Span = Span::seconds(300);

/// What a pool may have, and what is known of its machines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Limits {
    pub least: u32,
    pub most: u32,
    /// Slots of each machine; at least 1.
    pub slots: u32,
    /// A machine that had nothing to do for so long may go.
    pub idle: Span,
    /// What starting one usually takes.
    pub start: Option<Span>,
    /// Starts that failed one after the other, and the last of them.
    pub failures: u32,
    pub failed_at: Option<Timestamp>,
}

/// A run that wants slots.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Demand {
    /// What is left of it, in slot-time.
    pub work: Span,
    /// The longest of what is left that one slot must do in one piece.
    pub longest: Span,
    /// The most slots that it can use at once.
    pub slots: u32,
    /// It is to be over within this.
    pub within: Option<Span>,
    /// Slot-time that it may still cost.
    pub budget: Option<Span>,
}

/// A machine that was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Machine {
    pub id: u64,
    pub state: State,
}

/// How a machine stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// It is being started since then.
    Coming(Timestamp),
    Busy,
    /// Nothing runs on it since then.
    Idle(Timestamp),
}

/// What a pool is to do.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Decision {
    /// How many more machines to start.
    pub start: u32,
    /// Machines to end: those that may go, and those whose start is given up.
    pub end: Vec<u64>,
    /// Those among them whose start is given up.
    pub given_up: Vec<u64>,
    /// How many are wanted in all, and why not more: `12 of 20: more would save under 3 s`.
    pub why: String,
    /// When to look again, though nothing else happened.
    pub wake: Option<Timestamp>,
}

/// Why it is so many and not more.
enum Bound {
    Nothing,
    Most,
    Saving(Span),
    Slots(u32),
    /// For a run that is to be over within a time; whether it will be.
    Within(bool),
    Budget,
    Least,
}

/// How many machines a pool is to start and end.
#[must_use]
pub fn decide(pool: &Limits, demands: &[Demand], machines: &[Machine], now: Timestamp) -> Decision {
    let start = pool.start.unwrap_or(UNKNOWN_START);
    let patience = Span(start.0.saturating_mul(GIVEN_UP)) + GIVEN_UP_BESIDE;
    let late = |m: &&Machine| matches!(m.state, State::Coming(since) if now.since(since) >= patience);
    let given_up: Vec<u64> = machines.iter().filter(late).map(|m| m.id).collect();
    let mut here: Vec<Machine> = machines.iter().filter(|m| !given_up.contains(&m.id)).copied().collect();
    // The surest first: those that work, those that are up, and those that are up soonest.
    here.sort_by_key(|m| match m.state {
        State::Busy => (0, 0),
        State::Idle(since) => (1, u64::MAX - now.since(since).0),
        State::Coming(since) => (2, u64::MAX - now.since(since).0),
    });
    let arrivals: Vec<f64> = here
        .iter()
        .map(|m| match m.state {
            State::Coming(since) => start.as_seconds() - now.since(since).as_seconds(),
            State::Busy | State::Idle(_) => 0.0,
        })
        .map(|at| at.max(0.0))
        .collect();
    let left = Left::of(demands, pool.slots.max(1), &arrivals, start.as_seconds());
    let (wanted, bound) = wanted(pool, demands, &left, start);
    let mut decision =
        Decision { end: given_up.clone(), given_up, why: bound.said(wanted, pool.most), ..Decision::default() };
    let count = here.len() as u32;
    if wanted > count {
        let pause = pause_after(pool.failures);
        match pool.failed_at.map(|at| now.since(at)).filter(|ago| pool.failures > 0 && *ago < pause) {
            Some(ago) => {
                let rest = Span(pause.0 - ago.0);
                // In whole seconds: whoever is told is not to be told anew all the time.
                let whole = Span::seconds(rest.0.div_ceil(1_000_000));
                decision.why +=
                    &format!("; the last {} failed, and the next is tried in {whole}", starts(pool.failures));
                decision.wake = Some(now + rest);
            }
            // One that failed shows whether the next goes well, before all others are asked for.
            None => decision.start = if pool.failures > 0 { 1 } else { wanted - count },
        }
    }
    let mut spare = count.saturating_sub(wanted);
    let mut soonest: Option<Timestamp> = decision.wake;
    for machine in here.iter().rev() {
        let (due, counts) = match machine.state {
            State::Busy => continue,
            // What is not up yet has cost little.
            State::Coming(_) => (now, spare > 0),
            State::Idle(since) => (since + pool.idle, spare > 0),
        };
        if !counts {
            continue;
        }
        if due <= now {
            decision.end.push(machine.id);
            spare -= 1;
        } else {
            soonest = Some(soonest.map_or(due, |s| s.min(due)));
        }
    }
    let waits = here.iter().filter_map(|m| match m.state {
        State::Coming(since) if !decision.end.contains(&m.id) => Some(since + patience),
        _ => None,
    });
    decision.wake = waits.chain(soonest).min();
    decision
}

/// How long after failed starts the next is tried.
#[must_use]
pub fn pause_after(failures: u32) -> Span {
    Span(FIRST_PAUSE.0.saturating_mul(1 << failures.saturating_sub(1).min(20))).min(LONGEST_PAUSE)
}

fn starts(count: u32) -> String {
    if count == 1 { "start".to_owned() } else { format!("{count} starts") }
}

/// How many machines are wanted in all, and why not more.
fn wanted(pool: &Limits, demands: &[Demand], left: &Left<'_>, start: Span) -> (u32, Bound) {
    if left.work <= 0.0 {
        return (pool.least.min(pool.most), if pool.least > 0 { Bound::Least } else { Bound::Nothing });
    }
    let least = pool.least.max(1).min(pool.most);
    let saving = LEAST_SAVING.max(Span((start.0 as f64 * SAVING_OF_START) as u64));
    let useful = left.parallel.div_ceil(pool.slots.max(1)).max(1);
    let mut count = least;
    let mut bound = loop {
        if count >= pool.most {
            break Bound::Most;
        }
        if count >= useful {
            break Bound::Slots(left.parallel);
        }
        // One more may save little where two or three save much: a machine that comes late begins when others come, too.
        let here = left.takes(count);
        let step = (1..=3).find(|more| {
            count + more <= pool.most.min(useful)
                && here - left.takes(count + more) >= saving.as_seconds() * f64::from(*more)
        });
        match step {
            Some(more) => count += more,
            None => break Bound::Saving(saving),
        }
    };
    for within in demands.iter().filter_map(|d| d.within) {
        let enough = (count..=pool.most.min(useful.max(count))).find(|n| left.takes(*n) <= within.as_seconds());
        match enough {
            Some(n) if n > count => (count, bound) = (n, Bound::Within(true)),
            Some(_) => {}
            None => (count, bound) = (pool.most.min(useful.max(count)), Bound::Within(false)),
        }
    }
    let budgets: Vec<Span> = demands.iter().filter_map(|d| d.budget).collect();
    if budgets.len() == demands.len() && !budgets.is_empty() {
        let budget: f64 = budgets.iter().map(|b| b.as_seconds()).sum();
        let costs = |n: u32| f64::from(n) * f64::from(pool.slots.max(1)) * left.takes(n);
        if costs(count) > budget {
            let affordable = (least..count).rev().find(|n| costs(*n) <= budget).unwrap_or(least);
            if affordable < count {
                (count, bound) = (affordable, Bound::Budget);
            }
        }
    }
    (count, bound)
}

impl Bound {
    fn said(&self, count: u32, most: u32) -> String {
        let of = format!("{count} of {most}");
        match self {
            Self::Nothing => format!("{of}: nothing waits"),
            Self::Least => format!("{of}: nothing waits, and so many stay"),
            Self::Most => format!("{of}: the pool may have no more"),
            Self::Saving(saving) => format!("{of}: more would save under {saving} each"),
            Self::Slots(1) => format!("{of}: what is left can use 1 slot"),
            Self::Slots(slots) => format!("{of}: what is left can use {slots} slots"),
            Self::Within(true) => format!("{of}: so that it is over in time"),
            Self::Within(false) => format!("{of}: it will not be over in time, and more would not help"),
            Self::Budget => format!("{of}: its budget allows no more"),
        }
    }
}

/// What is left to do, and when slots are there for it. In seconds.
struct Left<'a> {
    work: f64,
    longest: f64,
    parallel: u32,
    slots: u32,
    /// When each machine that was asked for is up.
    arrivals: &'a [f64],
    start: f64,
}

impl<'a> Left<'a> {
    fn of(demands: &[Demand], slots: u32, arrivals: &'a [f64], start: f64) -> Self {
        Self {
            work: demands.iter().map(|d| d.work.as_seconds()).sum(),
            longest: demands.iter().map(|d| d.longest.as_seconds()).fold(0.0, f64::max),
            parallel: demands.iter().map(|d| d.slots).fold(0, u32::saturating_add),
            slots,
            arrivals,
            start,
        }
    }

    /// How long it takes with so many machines.
    fn takes(&self, count: u32) -> f64 {
        let count = count as usize;
        let asked = self.arrivals.iter().copied().take(count);
        let mut at: Vec<f64> =
            asked.chain(std::iter::repeat_n(self.start, count.saturating_sub(self.arrivals.len()))).collect();
        at.sort_by(f64::total_cmp);
        let Some(first) = at.first().copied() else { return f64::INFINITY };
        let useful =
            |machines: usize| f64::from((machines as u32).saturating_mul(self.slots).min(self.parallel.max(1)));
        let mut rest = self.work;
        for (up, arrived) in at.iter().enumerate() {
            let next = at.get(up + 1).copied().unwrap_or(f64::INFINITY);
            let rate = useful(up + 1);
            if rest <= rate * (next - arrived) {
                return (arrived + rest / rate).max(first + self.longest);
            }
            rest -= rate * (next - arrived);
        }
        f64::INFINITY
    }
}

#[cfg(test)]
#[path = "deciding_tests.rs"]
mod tests;
