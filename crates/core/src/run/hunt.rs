//! The hunt for the reason of a failure: by repeating it alone, in the order in which it failed, and by taking away from
//! what ran before it.
//!
//! What ran before is narrowed down by delta debugging (A. Zeller and R. Hildebrandt, "Simplifying and Isolating
//! Failure-Inducing Input", IEEE Transactions on Software Engineering 28, 2002): halves first, then finer parts, until
//! nothing can be taken away any more. The number of repetitions is bounded.

use std::fmt;

/// How often a test is repeated before the next question is asked.
const ALONE: u32 = 3;
const IN_ORDER: u32 = 2;
/// How often at the most to see by how much chance it fails.
const BY_CHANCE: u32 = 10;

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// It needs nothing else to fail.
    Alone,
    /// It fails after these, in this order. `whole`: nothing of them could be taken away.
    After { tests: Vec<String>, whole: bool },
    /// It fails now and then.
    ByChance { failed: u32, of: u32 },
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Alone => f.write_str("fails alone"),
            Self::After { tests, whole } => {
                write!(f, "fails after {}", tests.join(", "))?;
                if *whole { Ok(()) } else { f.write_str(" (not narrowed further: --at-most was reached)") }
            }
            Self::ByChance { failed: 0, of } => write!(f, "did not fail again in {of} repetitions"),
            Self::ByChance { failed, of } => write!(f, "fails {failed} of {of} times, whatever ran before it"),
        }
    }
}

/// What to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Run these in one process, in this order; the last is the test that is hunted.
    Try(Vec<String>),
    Done(Reason),
}

/// One repetition and how it went.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trial {
    /// What ran before the test.
    pub before: Vec<String>,
    pub failed: bool,
}

#[derive(Debug)]
enum State {
    Alone,
    InOrder,
    /// Fails now and then; repeated with all that ran before it, or without.
    Chance {
        in_order: bool,
    },
    Narrow(Narrow),
    Done(Reason),
}

/// Where delta debugging stands: the list that still makes it fail, cut into `parts`; next is the part, or what is left
/// without it, at `at`.
#[derive(Debug)]
struct Narrow {
    list: Vec<String>,
    parts: usize,
    at: usize,
    without: bool,
}

impl Narrow {
    fn part(&self, number: usize) -> std::ops::Range<usize> {
        let each = self.list.len().div_ceil(self.parts);
        (number * each).min(self.list.len())..((number + 1) * each).min(self.list.len())
    }

    fn candidate(&self) -> Vec<String> {
        let part = self.part(self.at);
        if self.without {
            self.list.iter().enumerate().filter(|(i, _)| !part.contains(i)).map(|(_, t)| t.clone()).collect()
        } else {
            self.list[part].to_vec()
        }
    }

    /// Goes on after a trial; false when nothing can be taken away any more.
    fn report(&mut self, failed: bool) -> bool {
        if failed {
            self.list = self.candidate();
            self.parts = if self.without { (self.parts - 1).max(2) } else { 2 };
            (self.at, self.without) = (0, false);
            return self.settle();
        }
        self.at += 1;
        self.settle()
    }

    /// Passes over candidates that say nothing; false when there are none left.
    fn settle(&mut self) -> bool {
        if self.list.len() <= 1 {
            return false;
        }
        loop {
            if self.at >= self.parts {
                self.at = 0;
                // With two parts, what is left without one is the other.
                if !self.without && self.parts > 2 {
                    self.without = true;
                } else if self.parts < self.list.len() {
                    self.parts = (self.parts * 2).min(self.list.len());
                    self.without = false;
                } else {
                    return false;
                }
            }
            if self.part(self.at).is_empty() {
                self.at += 1;
                continue;
            }
            return true;
        }
    }
}

/// One hunt.
#[derive(Debug)]
pub struct Hunt {
    test: String,
    before: Vec<String>,
    at_most: u32,
    state: State,
    trials: Vec<Trial>,
}

impl Hunt {
    /// A hunt for why `test` failed after `before`, with at most so many repetitions.
    #[must_use]
    pub fn new(test: &str, before: Vec<String>, at_most: u32) -> Self {
        Self { test: test.to_owned(), before, at_most: at_most.max(1), state: State::Alone, trials: Vec::new() }
    }

    /// What was tried so far.
    #[must_use]
    pub fn trials(&self) -> &[Trial] {
        &self.trials
    }

    /// What to do next.
    #[must_use]
    pub fn next(&self) -> Step {
        let mut names = match &self.state {
            State::Done(reason) => return Step::Done(reason.clone()),
            State::Alone | State::Chance { in_order: false } => Vec::new(),
            State::InOrder | State::Chance { in_order: true } => self.before.clone(),
            State::Narrow(narrow) => narrow.candidate(),
        };
        names.push(self.test.clone());
        Step::Try(names)
    }

    /// How many trials had exactly this before the test, and how many of them failed.
    fn counts(&self, before: &[String]) -> (u32, u32) {
        let of: Vec<&Trial> = self.trials.iter().filter(|t| t.before == before).collect();
        (of.iter().filter(|t| t.failed).count() as u32, of.len() as u32)
    }

    /// The trial that [`Hunt::next`] asked for is done.
    pub fn report(&mut self, failed: bool) {
        let Step::Try(mut before) = self.next() else { return };
        before.pop();
        self.trials.push(Trial { before, failed });
        let spent = self.trials.len() as u32 >= self.at_most;
        let (alone_failed, alone) = self.counts(&[]);
        let in_order = self.counts(&self.before);
        let next = match &mut self.state {
            State::Alone if alone < ALONE && !spent => return,
            State::Alone if alone_failed == alone => State::Done(Reason::Alone),
            State::Alone if alone_failed > 0 || self.before.is_empty() => State::Chance { in_order: false },
            State::Alone => State::InOrder,
            State::InOrder if in_order.1 < IN_ORDER && !spent => return,
            State::InOrder if in_order.0 == in_order.1 => {
                let mut narrow = Narrow { list: self.before.clone(), parts: 2, at: 0, without: false };
                if narrow.settle() {
                    State::Narrow(narrow)
                } else {
                    State::Done(Reason::After { tests: narrow.list, whole: true })
                }
            }
            State::InOrder => State::Chance { in_order: true },
            State::Chance { .. } => {
                let counted = if matches!(self.state, State::Chance { in_order: true }) {
                    in_order
                } else {
                    (alone_failed, alone)
                };
                if counted.1 < BY_CHANCE && !spent {
                    return;
                }
                State::Done(Reason::ByChance { failed: counted.0, of: counted.1 })
            }
            State::Narrow(narrow) => {
                if narrow.report(failed) && !spent {
                    return;
                }
                State::Done(Reason::After { tests: narrow.list.clone(), whole: !spent || narrow.list.len() == 1 })
            }
            State::Done(_) => return,
        };
        self.state = next;
        if spent && !matches!(self.state, State::Done(_)) {
            self.state = State::Done(self.best_guess());
        }
    }

    /// What can be said when no more may be tried.
    fn best_guess(&self) -> Reason {
        let in_order = self.counts(&self.before);
        if let State::Narrow(narrow) = &self.state {
            return Reason::After { tests: narrow.list.clone(), whole: false };
        }
        let (failed, of) = if in_order.1 > 0 { in_order } else { self.counts(&[]) };
        Reason::ByChance { failed, of }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Hunts with a test that fails as `fails` says of what ran before it and of how often it was tried.
    fn hunt(before: u32, at_most: u32, mut fails: impl FnMut(&[String], usize) -> bool) -> (Reason, usize) {
        let mut hunt = Hunt::new("gate/late", (0..before).map(|n| format!("gate/{n}")).collect(), at_most);
        for tried in 0..1000 {
            match hunt.next() {
                Step::Done(reason) => return (reason, tried),
                Step::Try(names) => {
                    assert_eq!(names.last().map(String::as_str), Some("gate/late"));
                    hunt.report(fails(&names[..names.len() - 1], tried));
                }
            }
        }
        panic!("the hunt does not end");
    }

    fn has(before: &[String], name: &str) -> bool {
        before.iter().any(|b| b == name)
    }

    #[test]
    fn what_always_fails_fails_alone() {
        assert_eq!(hunt(20, 30, |_, _| true), (Reason::Alone, 3));
    }

    #[test]
    fn the_one_test_that_spoils_it_is_found_in_few_trials() {
        for culprit in [0, 7, 31, 63] {
            let name = format!("gate/{culprit}");
            let (reason, trials) = hunt(64, 40, |before, _| has(before, &name));
            assert_eq!(reason, Reason::After { tests: vec![name], whole: true });
            assert!(trials <= 5 + 12, "{trials}");
        }
    }

    #[test]
    fn two_that_spoil_it_together_are_both_found() {
        let both = |before: &[String], _| has(before, "gate/3") && has(before, "gate/12");
        let (reason, _) = hunt(16, 100, both);
        assert_eq!(reason.to_string(), "fails after gate/3, gate/12");
    }

    #[test]
    fn chance_is_told_with_how_often() {
        let (reason, _) = hunt(8, 30, |_, tried| tried % 4 == 1);
        assert_eq!(reason, Reason::ByChance { failed: 3, of: 10 });
        let (never, _) = hunt(8, 30, |_, _| false);
        assert_eq!(never, Reason::ByChance { failed: 0, of: 10 });
        assert_eq!(never.to_string(), "did not fail again in 10 repetitions");
        assert_eq!(hunt(0, 30, |_, _| false).0, Reason::ByChance { failed: 0, of: 10 });
    }

    #[test]
    fn the_number_of_trials_is_bounded() {
        for at_most in 1..30 {
            let (reason, trials) = hunt(64, at_most, |before, _| has(before, "gate/40"));
            assert!(trials <= at_most as usize, "{trials} of {at_most}");
            if at_most > 5 && at_most < 10 {
                assert!(matches!(reason, Reason::After { whole: false, .. }), "{reason:?}");
            }
        }
    }
}
