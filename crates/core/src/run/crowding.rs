//! Crowding: too many slots on one machine slow each other down, and make tests fail.
//!
//! For each worker the last attempts that ended while nearly all its slots were busy are set against their records. When
//! their median has clearly grown, the worker is crowded. A worker that eases fills fewer slots then, and tries one more
//! each time its tests are back to their usual time: slowly up and quickly down, as flows share a network (D.-M. Chiu and
//! R. Jain, "Analysis of the increase and decrease algorithms for congestion avoidance in computer networks", Computer
//! Networks and ISDN Systems 17, 1989).

use std::collections::VecDeque;

use crate::time::Span;

/// Attempts that are looked at together.
const WINDOW: usize = 24;
/// Fewer say nothing.
const LEAST: usize = 10;
/// Crowded from this many times the usual time on, until below the other.
const CROWDED: f64 = 1.5;
const RELIEVED: f64 = 1.2;
/// Tests shorter than this, in microseconds, are ruled by other things than the work they do.
const SHORTEST: u64 = 5_000;
/// What takes more times its usual time than this has waited for something that did not come.
const MOST: u64 = 10;

/// What is known of the crowding on one worker.
#[derive(Debug, Clone)]
pub struct Crowding {
    slots: u32,
    /// Slots to fill, while it eases.
    fill: u32,
    ease: bool,
    ratios: VecDeque<f64>,
    crowded: Option<Crowd>,
}

/// A worker's tests take clearly longer than usual while its slots are full.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Crowd {
    /// How many times their usual time tests take.
    pub times: f64,
    /// How many slots were filled.
    pub slots: u32,
    /// How many to try.
    pub fewer: u32,
}

impl Crowd {
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
    /// It is crowded now.
    Crowded(Crowd),
    /// It no longer is.
    Relieved,
    /// It eases: so many slots are filled from now on.
    Fills(u32),
}

impl Crowding {
    /// A worker with so many slots; `ease`: it may fill fewer by itself.
    #[must_use]
    pub fn new(slots: u32, ease: bool) -> Self {
        Self { slots, fill: slots, ease, ratios: VecDeque::new(), crowded: None }
    }

    /// How many slots to fill.
    #[must_use]
    pub fn fill(&self) -> u32 {
        self.fill
    }

    /// Whether and how it is crowded.
    #[must_use]
    pub fn crowded(&self) -> Option<Crowd> {
        self.crowded
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
        if times >= CROWDED && self.fill > 1 {
            let fewer = ((f64::from(self.fill) / times).floor() as u32).clamp(1, self.fill - 1);
            let crowd = Crowd { times, slots: self.fill, fewer };
            let news = self.crowded.is_none();
            self.crowded = Some(crowd);
            if self.ease {
                self.fill = fewer;
                self.ratios.clear();
                return Some(Turn::Crowded(crowd));
            }
            return news.then_some(Turn::Crowded(crowd));
        }
        if times < RELIEVED {
            if self.ease && self.fill < self.slots && self.ratios.len() == WINDOW {
                self.fill += 1;
                self.ratios.clear();
                return Some(Turn::Fills(self.fill));
            }
            // A worker that eases is relieved only by having its slots back.
            if self.crowded.is_some() && self.fill == self.slots {
                self.crowded = None;
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
    fn work(crowding: &mut Crowding, cores: f64, attempts: usize) -> Vec<Turn> {
        let mut turns = Vec::new();
        for _ in 0..attempts {
            let busy = crowding.fill();
            let spent = Span((100_000.0 * (f64::from(busy) / cores).max(1.0)) as u64);
            turns.extend(crowding.ended(spent, Span::millis(100), busy));
        }
        turns
    }

    #[test]
    fn a_crowded_worker_is_told_once_with_what_to_try() {
        let mut crowding = Crowding::new(8, false);
        let turns = work(&mut crowding, 3.5, 50);
        assert_eq!(turns.len(), 1);
        let Turn::Crowded(crowd) = turns[0] else { panic!("{turns:?}") };
        assert_eq!(crowd.said("w2"), "w2: tests take 2.3 times their usual time with 8 slots; try 3");
        assert_eq!(crowding.fill(), 8, "it was not asked to ease");
    }

    #[test]
    fn an_easing_worker_settles_at_what_the_machine_bears() {
        let mut crowding = Crowding::new(8, true);
        work(&mut crowding, 3.5, 2000);
        assert!((3..=5).contains(&crowding.fill()), "{}", crowding.fill());
        assert!(crowding.crowded().is_some(), "it still has more slots than it bears");
    }

    #[test]
    fn it_fills_its_slots_again_when_the_machine_is_freed() {
        let mut crowding = Crowding::new(8, true);
        work(&mut crowding, 2.0, 400);
        assert!(crowding.fill() < 8);
        let turns = work(&mut crowding, 16.0, 400);
        assert_eq!(crowding.fill(), 8);
        assert_eq!(turns.last(), Some(&Turn::Relieved));
    }

    #[test]
    fn a_worker_that_is_not_full_says_nothing() {
        let mut crowding = Crowding::new(8, true);
        for _ in 0..100 {
            assert_eq!(crowding.ended(Span::seconds(9), Span::seconds(1), 3), None);
            assert_eq!(crowding.ended(Span::millis(9), Span::millis(1), 8), None, "too short to tell");
            assert_eq!(crowding.ended(Span::seconds(30), Span::millis(100), 8), None, "it waited in vain");
        }
    }
}
