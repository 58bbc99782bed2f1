//! When a test failed, and when it was mended.

use crate::words::Outcome;

/// A time in which a test failed whenever it ran.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spell<K> {
    /// Where it failed first, and where it did so last.
    pub from: K,
    pub last: K,
    /// In so many runs.
    pub runs: u32,
    /// Where it did not fail any more; none while it still does.
    pub mended: Option<K>,
}

/// The times in which a test failed, oldest first; `series` is what its runs say of it, oldest first, one branch after the other or only one.
pub fn spells<K: Clone>(series: impl IntoIterator<Item = (K, Outcome)>) -> Vec<Spell<K>> {
    let mut found: Vec<Spell<K>> = Vec::new();
    for (run, outcome) in series {
        let open = found.last_mut().filter(|spell| spell.mended.is_none());
        match (outcome, open) {
            (Outcome::Failed, Some(spell)) => {
                spell.runs += 1;
                spell.last = run;
            }
            (Outcome::Failed, None) => found.push(Spell { from: run.clone(), last: run, runs: 1, mended: None }),
            (Outcome::Passed | Outcome::Flaky | Outcome::Skipped, Some(spell)) => spell.mended = Some(run),
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_did_not_run_neither_mends_nor_breaks() {
        use Outcome::{Failed, Flaky, NotRun, Parked, Passed};
        let series = [Passed, Failed, NotRun, Parked, Failed, Flaky, Passed, Failed, NotRun];
        let found = spells(series.into_iter().enumerate());
        assert_eq!(
            found,
            [Spell { from: 1, last: 4, runs: 2, mended: Some(5) }, Spell { from: 7, last: 7, runs: 1, mended: None }]
        );
        assert!(spells([(0, Passed)]).is_empty());
    }
}
