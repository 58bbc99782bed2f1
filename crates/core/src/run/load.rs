//! Load: too many slots on one machine slow each other down, and make tests fail.
//!
//! For each worker the last attempts that ended while nearly all its slots were busy are set against their records. When
//! their median has clearly grown, the worker is overloaded. A worker that eases fills fewer slots then, and tries one more
//! each time its tests are back to their usual time: slowly up and quickly down, as flows share a network (D.-M. Chiu and
//! R. Jain, "Analysis of the increase and decrease algorithms for congestion avoidance in computer networks", Computer
//! Networks and ISDN Systems 17, 1989).

use std::collections::VecDeque;

use crate::time::Span;

/// Attempts that are looked at together.
const WINDOW: usize = 24;
/// Fewer say nothing.
const LEAST: usize = 10;
/// Overloaded from this many times the usual time on, until below the other.
const OVERLOADED: f64 = 1.5;
const RELIEVED: f64 = 1.2;
/// Tests shorter than this, in microseconds, are ruled by other things than the work they do.
const SHORTEST: u64 = 5_000;
/// What takes more times its usual time than this has waited for something that did not come.
const MOST: u64 = 10;

/// What is known of the load on one worker.
#[derive(Debug, Clone)]
pub struct Load {
    slots: u32,
    /// Slots to fill, while it eases.
    fill: u32,
    ease: bool,
    ratios: VecDeque<f64>,
    overloaded: Option<Overload>,
}

/// A worker's tests take clearly longer than usual while its slots are full.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Overload {
    /// How many times their usual time tests take.
    pub times: f64,
    /// How many slots were filled.
    pub slots: u32,
    /// How many to try.
    pub fewer: u32,
}

impl Overload {
    /// In words: `w2: tests take 2.3 times their usual time with 8 slots; try 4`.
    #[must_use]
    pub fn said(&self, worker: &str) -> String {
        let Self { times, slots, fewer } = self;
        format!("{worker}: tests take {times:.1} times their usual time with {slots} slots; try {fewer}")
    }
}

/// What changed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Turn {
    /// It is overloaded now.
    Overloaded(Overload),
    /// It no longer is.
    Relieved,
    /// It eases: so many slots are filled from now on.
    Fills(u32),
}

impl Load {
    /// A worker with so many slots; `ease`: it may fill fewer by itself.
    #[must_use]
    pub fn new(slots: u32, ease: bool) -> Self {
        Self { slots, fill: slots, ease, ratios: VecDeque::new(), overloaded: None }
    }

    /// How many slots to fill.
    #[must_use]
    pub fn fill(&self) -> u32 {
        self.fill
    }

    /// Whether and how it is overloaded.
    #[must_use]
    pub fn overloaded(&self) -> Option<Overload> {
        self.overloaded
    }

    /// An attempt passed or failed that took `spent` instead of `expected` while `busy` slots were busy.
    pub fn ended(&mut self, spent: Span, expected: Span, busy: u32) -> Option<Turn> {
        let full = busy >= 2 && busy + 1 >= self.fill || self.fill == 1 && self.slots > 1;
        // After it was told to ease, what still runs in the other slots says nothing of the fewer.
        let settled = busy <= self.fill;
        if !full || !settled || expected.0 < SHORTEST || spent.0 / MOST > expected.0 {
            return None;
        }
        if self.ratios.len() == WINDOW {
            self.ratios.pop_front();
        }
        self.ratios.push_back(spent.0 as f64 / expected.0 as f64);
        if self.ratios.len() < LEAST {
            return None;
        }
        let mut sorted: Vec<f64> = self.ratios.iter().copied().collect();
        sorted.sort_by(f64::total_cmp);
        let times = sorted[sorted.len() / 2];
        if times >= OVERLOADED && self.fill > 1 {
            let fewer = ((f64::from(self.fill) / times).floor() as u32).clamp(1, self.fill - 1);
            let overload = Overload { times, slots: self.fill, fewer };
            let news = self.overloaded.is_none();
            self.overloaded = Some(overload);
            if self.ease {
                self.fill = fewer;
                self.ratios.clear();
                return Some(Turn::Overloaded(overload));
            }
            return news.then_some(Turn::Overloaded(overload));
        }
        if times < RELIEVED {
            if self.ease && self.fill < self.slots && self.ratios.len() == WINDOW {
                self.fill += 1;
                self.ratios.clear();
                return Some(Turn::Fills(self.fill));
            }
            // A worker that eases is relieved only by having its slots back.
            if self.overloaded.is_some() && self.fill == self.slots {
                self.overloaded = None;
                return Some(Turn::Relieved);
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A machine on which tests take `busy / cores` times their usual time, once there are more slots than cores.
    fn work(load: &mut Load, cores: f64, attempts: usize) -> Vec<Turn> {
        let mut turns = Vec::new();
        for _ in 0..attempts {
            let busy = load.fill();
            let spent = Span((100_000.0 * (f64::from(busy) / cores).max(1.0)) as u64);
            turns.extend(load.ended(spent, Span::millis(100), busy));
        }
        turns
    }

    #[test]
    fn a_overloaded_worker_is_told_once_with_what_to_try() {
        let mut load = Load::new(8, false);
        let turns = work(&mut load, 3.5, 50);
        assert_eq!(turns.len(), 1);
        let Turn::Overloaded(overload) = turns[0] else { panic!("{turns:?}") };
        assert_eq!(overload.said("w2"), "w2: tests take 2.3 times their usual time with 8 slots; try 3");
        assert_eq!(load.fill(), 8, "it was not asked to ease");
    }

    #[test]
    fn an_easing_worker_settles_at_what_the_machine_bears() {
        let mut load = Load::new(8, true);
        work(&mut load, 3.5, 2000);
        assert!((3..=5).contains(&load.fill()), "{}", load.fill());
        assert!(load.overloaded().is_some(), "it still has more slots than it bears");
    }

    #[test]
    fn it_fills_its_slots_again_when_the_machine_is_freed() {
        let mut load = Load::new(8, true);
        work(&mut load, 2.0, 400);
        assert!(load.fill() < 8);
        let turns = work(&mut load, 16.0, 400);
        assert_eq!(load.fill(), 8);
        assert_eq!(turns.last(), Some(&Turn::Relieved));
    }

    #[test]
    fn a_worker_that_is_not_full_says_nothing() {
        let mut load = Load::new(8, true);
        for _ in 0..100 {
            assert_eq!(load.ended(Span::seconds(9), Span::seconds(1), 3), None);
            assert_eq!(load.ended(Span::millis(9), Span::millis(1), 8), None, "too short to tell");
            assert_eq!(load.ended(Span::seconds(30), Span::millis(100), 8), None, "it waited in vain");
        }
    }
}
