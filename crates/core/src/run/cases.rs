//! The cases of files, as they are told: counted at once, merged over the attempts of their file, and forgotten when that has
//! its outcome. What a case has shown counts over all attempts that count: one that failed and passed, in whatever order, is
//! flaky; one that failed and then skipped itself has failed.

use std::{
    collections::{HashMap, HashSet},
    hash::{DefaultHasher, Hash, Hasher},
};

use serde::{Deserialize, Serialize};

use crate::{
    time::Span,
    words::{Ended, Outcome},
};

/// Failing cases that are remembered by their titles, to run them again; with more the whole file runs again.
pub const MOST_RERUN: usize = 1000;

/// Cases of one file that are taken; a file that tells of more has failed.
pub const MOST_CASES: u32 = 1_000_000;

/// How many cases have which outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CaseTally {
    pub passed: u32,
    pub flaky: u32,
    pub failed: u32,
    pub skipped: u32,
    pub parked: u32,
}

impl CaseTally {
    /// All cases.
    #[must_use]
    pub fn total(&self) -> u32 {
        Outcome::ALL.iter().map(|outcome| self.of(*outcome)).sum()
    }

    /// Cases with that outcome.
    #[must_use]
    pub fn of(&self, outcome: Outcome) -> u32 {
        match outcome {
            Outcome::Passed => self.passed,
            Outcome::Flaky => self.flaky,
            Outcome::Failed => self.failed,
            Outcome::Skipped => self.skipped,
            Outcome::Parked => self.parked,
            Outcome::NotRun => 0,
        }
    }

    /// Whether there are no cases.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.total() == 0
    }

    /// Counts some more with that outcome. A case that did not run is none.
    pub fn count(&mut self, outcome: Outcome, times: u32) {
        if let Some(field) = self.field(outcome) {
            *field = field.saturating_add(times);
        }
    }

    fn field(&mut self, outcome: Outcome) -> Option<&mut u32> {
        Some(match outcome {
            Outcome::Passed => &mut self.passed,
            Outcome::Flaky => &mut self.flaky,
            Outcome::Failed => &mut self.failed,
            Outcome::Skipped => &mut self.skipped,
            Outcome::Parked => &mut self.parked,
            Outcome::NotRun => return None,
        })
    }

    /// Puts one count in the place of another.
    pub fn replace(&mut self, old: &Self, new: &Self) {
        for outcome in Outcome::ALL {
            if let Some(at) = self.field(*outcome) {
                *at = at.saturating_sub(old.of(*outcome)).saturating_add(new.of(*outcome));
            }
        }
    }
}

/// A case that a file told of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CaseTold {
    /// Unlike all others of its file and attempt.
    pub title: String,
    pub ended: Ended,
    pub spent: Span,
    /// Its file told of this title before, and it is called after that: it cannot be run again by this name.
    pub copy: bool,
}

/// A case of a file that has no outcome yet, read back from its row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastCase {
    pub entry: u32,
    /// The number of the file's attempt.
    pub number: u16,
    pub title: String,
    pub ended: Ended,
    pub parked: bool,
    pub copy: bool,
}

/// What a case has shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Shown(u8);

impl Shown {
    const PASSED: u8 = 1;
    const FAILED: u8 = 2;
    const SKIPPED: u8 = 4;
    const PARKED: u8 = 8;

    /// What one attempt shows.
    #[must_use]
    pub fn of(ended: Ended, parked: bool) -> Self {
        let shown = match ended {
            Ended::Passed => Self::PASSED,
            Ended::Skipped => Self::SKIPPED,
            Ended::Failed | Ended::TimedOut | Ended::Crashed => Self::FAILED,
            Ended::Lost => 0,
        };
        Self(shown | if parked { Self::PARKED } else { 0 })
    }

    /// What several attempts show together.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    fn has(self, what: u8) -> bool {
        self.0 & what != 0
    }

    /// The outcome that stands on it.
    #[must_use]
    pub fn outcome(self) -> Outcome {
        match (self.has(Self::PARKED), self.has(Self::FAILED), self.has(Self::PASSED)) {
            (true, ..) => Outcome::Parked,
            (_, true, true) => Outcome::Flaky,
            (_, true, false) => Outcome::Failed,
            (_, false, true) => Outcome::Passed,
            (_, false, false) if self.has(Self::SKIPPED) => Outcome::Skipped,
            _ => Outcome::NotRun,
        }
    }
}

/// What the cases of a file say of it after an attempt that counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Standing {
    /// A case failed in this attempt that counts.
    pub failed_now: bool,
    /// How they stand over all attempts that count.
    pub cases: CaseTally,
}

/// The cases of one file that has no outcome yet.
#[derive(Debug, Default)]
pub(super) struct FileCases {
    /// What the attempt that runs has told, and how much of it.
    now: HashMap<u64, Shown>,
    told: u32,
    failing: Vec<(u64, String, bool)>,
    /// What attempts that count have told.
    before: HashMap<u64, Shown>,
    failed_before: Vec<(u64, String, bool)>,
    /// The last attempt that counts ended badly itself: its cases are not known to be all.
    file_failed: bool,
}

fn key(title: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    title.hash(&mut hasher);
    hasher.finish()
}

impl FileCases {
    /// How many cases the attempt that runs has told.
    pub fn told(&self) -> u32 {
        self.told
    }

    /// Whether what is told now is all there is: it counts as it comes, and attempts after the first when they end.
    pub fn is_first(&self) -> bool {
        self.before.is_empty()
    }

    /// Whether an attempt that counts told of a case.
    pub fn has_told(&self, title: &str) -> bool {
        self.before.contains_key(&key(title))
    }

    /// Takes a case of the attempt that runs; tells the outcome that it has so far.
    pub fn take(&mut self, case: &CaseTold, parked: bool) -> Outcome {
        self.told += 1;
        let shown = Shown::of(case.ended, parked);
        let key = key(&case.title);
        let now = self.now.entry(key).or_default();
        *now = now.and(shown);
        if shown.outcome() == Outcome::Failed {
            // Of more than that no titles are needed: the whole file runs again.
            if self.failing.len() <= MOST_RERUN {
                self.failing.push((key, case.title.clone(), case.copy));
            }
        }
        shown.outcome()
    }

    /// The attempt was lost: what it told does not count.
    pub fn forget(&mut self) {
        self.now.clear();
        self.failing.clear();
        self.told = 0;
    }

    /// Whether the file itself ended badly, so that some of its cases may never have run.
    pub fn file_failed(&self) -> bool {
        self.file_failed
    }

    /// The attempt ended, and counts; `failed` says whether the file itself ended badly.
    pub fn settle(&mut self, failed: bool) -> Standing {
        self.file_failed = failed;
        let failed_now = self.now.values().any(|shown| shown.outcome() == Outcome::Failed);
        self.merge();
        self.keep_unresolved();
        Standing { failed_now, cases: self.tally() }
    }

    /// What the attempt that runs has told counts.
    fn merge(&mut self) {
        for (key, shown) in self.now.drain() {
            let before = self.before.entry(key).or_default();
            *before = before.and(shown);
        }
        self.failed_before.append(&mut self.failing);
        self.told = 0;
    }

    /// Of the cases that failed those stay, once each, that have not passed.
    fn keep_unresolved(&mut self) {
        let (before, mut seen) = (&self.before, HashSet::new());
        self.failed_before.retain(|(key, ..)| {
            seen.insert(*key) && before.get(key).is_some_and(|shown| shown.outcome() == Outcome::Failed)
        });
    }

    /// How the cases stand that attempts which count have told.
    pub fn tally(&self) -> CaseTally {
        let mut tally = CaseTally::default();
        self.before.values().for_each(|shown| tally.count(shown.outcome(), 1));
        tally
    }

    /// The titles of the cases that a retry is to run; none where the whole file is to run.
    pub fn to_rerun(&self) -> Vec<String> {
        let failed = self.tally().failed as usize;
        let unnamed = failed != self.failed_before.len() || self.failed_before.iter().any(|f| f.2);
        if unnamed || failed > MOST_RERUN {
            Vec::new()
        } else {
            self.failed_before.iter().map(|f| f.1.clone()).collect()
        }
    }

    /// Takes up a row of an attempt that counted, or of the one that runs.
    pub fn take_up(&mut self, row: &PastCase, counted: bool) {
        let told = CaseTold { title: row.title.clone(), ended: row.ended, spent: Span::ZERO, copy: row.copy };
        self.take(&told, row.parked);
        if counted {
            self.merge();
        }
    }

    /// All rows of attempts that counted were taken up. Whether the file itself ended badly stands in none of them: it is
    /// taken to have, so that its retry runs all of it and no case is left out that never ran.
    pub fn taken_up(&mut self) {
        self.file_failed = true;
        self.keep_unresolved();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(title: &str, ended: Ended) -> CaseTold {
        CaseTold { title: title.into(), ended, spent: Span::ZERO, copy: false }
    }

    #[test]
    fn what_attempts_show_is_merged_in_whatever_order() {
        use Ended::{Crashed, Failed, Lost, Passed, Skipped, TimedOut};
        let of = |all: &[Ended]| {
            all.iter().fold(Shown::default(), |shown, ended| shown.and(Shown::of(*ended, false))).outcome()
        };
        assert_eq!(of(&[Passed]), Outcome::Passed);
        assert_eq!(of(&[Failed, Passed]), Outcome::Flaky);
        assert_eq!(of(&[Passed, TimedOut]), Outcome::Flaky);
        assert_eq!(of(&[Crashed, Failed]), Outcome::Failed);
        assert_eq!(of(&[Failed, Skipped]), Outcome::Failed, "it has not shown that it passes");
        assert_eq!(of(&[Skipped, Passed]), Outcome::Passed);
        assert_eq!(of(&[Skipped]), Outcome::Skipped);
        assert_eq!(of(&[Lost]), Outcome::NotRun);
        assert_eq!(Shown::of(Failed, true).and(Shown::of(Passed, true)).outcome(), Outcome::Parked);
    }

    #[test]
    fn a_retry_runs_what_failed_and_has_not_passed_since() {
        let mut file = FileCases::default();
        for (title, ended) in [("a", Ended::Failed), ("b", Ended::Passed), ("c", Ended::Failed)] {
            file.take(&told(title, ended), false);
        }
        assert_eq!((file.told(), file.is_first()), (3, true));
        let first = file.settle(false);
        assert_eq!((first.failed_now, first.cases.failed, first.cases.passed, first.cases.total()), (true, 2, 1, 3));
        assert_eq!(file.to_rerun(), ["a", "c"]);
        assert_eq!(file.told(), 0);
        file.take(&told("a", Ended::Passed), false);
        file.take(&told("c", Ended::Failed), false);
        let second = file.settle(false);
        assert_eq!((second.cases.failed, second.cases.flaky, second.cases.passed), (1, 1, 1));
        assert_eq!(file.to_rerun(), ["c"]);
        assert_eq!(file.tally(), CaseTally { passed: 1, flaky: 1, failed: 1, ..CaseTally::default() });
    }

    #[test]
    fn a_lost_attempt_shows_nothing() {
        let mut file = FileCases::default();
        file.take(&told("a", Ended::Failed), false);
        file.forget();
        assert_eq!((file.told(), file.tally().total(), file.is_first()), (0, 0, true));
        file.take(&told("a", Ended::Passed), false);
        assert_eq!(file.settle(false).cases.flaky, 0);
    }

    #[test]
    fn parked_cases_fail_nothing_and_are_not_run_again() {
        let mut file = FileCases::default();
        assert_eq!(file.take(&told("a", Ended::Failed), true), Outcome::Parked);
        file.take(&told("b", Ended::Passed), false);
        let standing = file.settle(false);
        assert_eq!((standing.failed_now, standing.cases.failed, standing.cases.parked), (false, 0, 1));
        assert!(file.to_rerun().is_empty());
    }

    #[test]
    fn what_cannot_be_named_has_its_whole_file_run_again() {
        let mut file = FileCases::default();
        file.take(&CaseTold { copy: true, ..told("a (2)", Ended::Failed) }, false);
        file.take(&told("b", Ended::Failed), false);
        file.settle(false);
        assert!(file.to_rerun().is_empty(), "a copy has no name of its own");
        let mut many = FileCases::default();
        for number in 0..=MOST_RERUN {
            many.take(&told(&number.to_string(), Ended::Failed), false);
        }
        assert_eq!(many.settle(false).cases.failed as usize, MOST_RERUN + 1);
        assert!(many.to_rerun().is_empty(), "they are too many to be remembered");
    }

    #[test]
    fn what_failed_without_a_title_is_not_forgotten_with_a_lost_attempt() {
        let mut many = FileCases::default();
        for number in 0..MOST_RERUN + 50 {
            many.take(&told(&number.to_string(), Ended::Failed), false);
        }
        many.settle(false);
        many.take(&told("1", Ended::Passed), false);
        many.forget();
        assert!(many.to_rerun().is_empty(), "the whole file still runs again");
    }

    #[test]
    fn rows_bring_a_file_back_to_where_it_stood() {
        let mut before = FileCases::default();
        let rows: Vec<PastCase> =
            [(1, "a", Ended::Failed), (1, "b", Ended::Failed), (1, "c", Ended::Passed), (2, "a", Ended::Passed)]
                .into_iter()
                .map(|(number, title, ended)| PastCase {
                    entry: 0,
                    number,
                    title: title.into(),
                    ended,
                    parked: false,
                    copy: false,
                })
                .collect();
        for number in 1..=2 {
            rows.iter().filter(|r| r.number == number).for_each(|r| {
                before.take(&told(&r.title, r.ended), false);
            });
            before.settle(false);
        }
        before.take(&told("b", Ended::Passed), false);
        let mut back = FileCases::default();
        rows.iter().for_each(|r| back.take_up(r, true));
        back.taken_up();
        back.take_up(&PastCase { number: 3, ..rows[1].clone() }, false);
        assert_eq!((back.told(), back.tally(), back.to_rerun()), (1, before.tally(), before.to_rerun()));
        assert_eq!(back.to_rerun(), ["b"]);
        assert!(back.file_failed(), "nobody knows: its retry runs all of it");
    }

    #[test]
    fn counts_are_replaced_and_never_go_below_nothing() {
        let mut all = CaseTally { passed: 5, failed: 1, ..CaseTally::default() };
        all.replace(
            &CaseTally { passed: 2, failed: 1, ..CaseTally::default() },
            &CaseTally { flaky: 3, ..CaseTally::default() },
        );
        assert_eq!(all, CaseTally { passed: 3, flaky: 3, ..CaseTally::default() });
        all.replace(&CaseTally { passed: 9, ..CaseTally::default() }, &CaseTally::default());
        assert_eq!((all.passed, all.total()), (0, 3));
    }
}
