//! Two runs side by side: what is new in one of them against the other.
//!
//! Whether a test became slower is judged twice: against how all tests of the two runs differ ([`compare`]), as a busier
//! machine makes all of them slower, and against how its own durations differed before ([`beyond_noise`]).

use std::collections::BTreeMap;

use super::middle::median;
use crate::words::Outcome;

/// A modified z-score beyond which a value is an outlier (B. Iglewicz and D. C. Hoaglin, "How to Detect and Handle Outliers",
/// ASQC Basic References in Quality Control 16, 1993, recommend 3.5).
const OUTLIER: f64 = 3.5;
/// The normal distribution's 0.75 quantile: the median absolute deviation in units of the standard deviation.
const MAD_OF_NORMAL: f64 = 0.6745;
/// Differences that nobody would care about: less than a fifth, or than 20 ms.
const LEAST_SHARE: f64 = 1.2;
const LEAST_US: f64 = 20_000.0;
/// Runs with fewer tests in both say nothing of how tests differ from run to run: a test must differ by this factor then.
const LEAST_TESTS: usize = 8;
const FACTOR_OF_FEW: f64 = 2.0;

/// What a run says of a test. One that was repeated has its worst outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// Its place in the run's list, from 0.
    pub entry: u32,
    pub outcome: Outcome,
    pub attempts: u32,
    /// What its last attempt took, in microseconds; 0 if it had none.
    pub spent_us: u64,
}

/// A test in both runs, or in one of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Change<K> {
    pub test: K,
    pub before: Option<Seen>,
    pub after: Option<Seen>,
}

/// What differs. A test may stand in several lists: a new one that fails is new, and newly failing.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison<K> {
    /// Failed, and did not fail before, or was not there.
    pub newly_failing: Vec<Change<K>>,
    pub still_failing: Vec<Change<K>>,
    /// Failed before, and passed or was flaky.
    pub mended: Vec<Change<K>>,
    /// Ran before, and did not come to run; or failed before, and was skipped or parked. Nobody knows how it is now.
    pub untested: Vec<Change<K>>,
    /// Flaky, and neither flaky nor failed before.
    pub newly_flaky: Vec<Change<K>>,
    pub new: Vec<Change<K>>,
    pub gone: Vec<Change<K>>,
    /// Slower or faster than the tests of the two runs differ otherwise, those that differ most first.
    pub slower: Vec<Change<K>>,
    pub faster: Vec<Change<K>>,
    /// How many are in both.
    pub both: usize,
    /// How much longer a test took in the middle: 1.1 is a tenth longer; none where nothing can be said.
    pub pace: Option<f64>,
}

impl<K> Comparison<K> {
    /// Whether nothing differs that anybody would look at.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        let all = [&self.newly_failing, &self.still_failing, &self.mended, &self.untested, &self.newly_flaky];
        all.iter().all(|l| l.is_empty())
            && [&self.new, &self.gone, &self.slower, &self.faster].iter().all(|l| l.is_empty())
    }
}

fn worse(outcome: Outcome) -> u8 {
    match outcome {
        Outcome::Failed => 5,
        Outcome::Flaky => 4,
        Outcome::Passed => 3,
        Outcome::Skipped => 2,
        Outcome::Parked => 1,
        Outcome::NotRun => 0,
    }
}

fn by_test<K: Ord + Copy>(seen: impl IntoIterator<Item = (K, Seen)>) -> BTreeMap<K, Seen> {
    let mut found: BTreeMap<K, Seen> = BTreeMap::new();
    for (test, one) in seen {
        let place = found.entry(test).or_insert(one);
        if worse(one.outcome) > worse(place.outcome) {
            *place = one;
        }
    }
    found
}

/// Compares what two runs say of their tests. Lists are in the order of the later run's entries; those that are gone in the
/// order of the earlier's.
pub fn compare<K: Ord + Copy>(
    before: impl IntoIterator<Item = (K, Seen)>,
    after: impl IntoIterator<Item = (K, Seen)>,
) -> Comparison<K> {
    use Outcome::{Failed, Flaky, NotRun, Parked, Passed, Skipped};
    let (before, after) = (by_test(before), by_test(after));
    let mut out = Comparison {
        newly_failing: Vec::new(),
        still_failing: Vec::new(),
        mended: Vec::new(),
        untested: Vec::new(),
        newly_flaky: Vec::new(),
        new: Vec::new(),
        gone: Vec::new(),
        slower: Vec::new(),
        faster: Vec::new(),
        both: 0,
        pace: None,
    };
    let mut timed: Vec<(f64, Change<K>)> = Vec::new();
    for (test, now) in &after {
        let then = before.get(test).copied();
        let change = Change { test: *test, before: then, after: Some(*now) };
        out.both += usize::from(then.is_some());
        if then.is_none() {
            out.new.push(change);
        }
        match (then.map(|t| t.outcome), now.outcome) {
            (Some(Failed), Failed) => out.still_failing.push(change),
            (_, Failed) => out.newly_failing.push(change),
            (Some(Failed), Passed | Flaky) => out.mended.push(change),
            (Some(Failed), Skipped | Parked) | (Some(Failed | Passed | Flaky), NotRun) => out.untested.push(change),
            (None | Some(Passed | Skipped | Parked | NotRun), Flaky) => out.newly_flaky.push(change),
            _ => {}
        }
        let well = |s: &Seen| matches!(s.outcome, Passed | Flaky) && s.spent_us > 0;
        if let Some(then) = then.filter(|then| well(then) && well(now)) {
            timed.push(((now.spent_us as f64 / then.spent_us as f64).ln(), change));
        }
    }
    for (test, then) in &before {
        if !after.contains_key(test) {
            let change = Change { test: *test, before: Some(*then), after: None };
            out.gone.push(change);
        }
    }
    paces(timed, &mut out);
    let place = |c: &Change<K>| (c.after.map_or(u32::MAX, |s| s.entry), c.before.map_or(u32::MAX, |s| s.entry));
    for list in [
        &mut out.newly_failing,
        &mut out.still_failing,
        &mut out.mended,
        &mut out.untested,
        &mut out.newly_flaky,
        &mut out.new,
        &mut out.gone,
    ] {
        list.sort_by_key(place);
    }
    out
}

/// Finds what became slower or faster beyond how all differ.
fn paces<K: Copy>(mut timed: Vec<(f64, Change<K>)>, out: &mut Comparison<K>) {
    let few = timed.len() < LEAST_TESTS;
    let (middle, deviation) = if few {
        (0.0, FACTOR_OF_FEW.ln() / OUTLIER)
    } else {
        let middle = middle_of(timed.iter().map(|t| t.0));
        let mad = middle_of(timed.iter().map(|t| (t.0 - middle).abs()));
        out.pace = Some(middle.exp());
        (middle, (mad / MAD_OF_NORMAL).max(LEAST_SHARE.ln() / OUTLIER))
    };
    let expected = |then: u64| then as f64 * middle.exp();
    timed.retain(|(ratio, change)| {
        let (Some(then), Some(now)) = (change.before, change.after) else { return false };
        let away = (now.spent_us as f64 - expected(then.spent_us)).abs();
        (ratio - middle).abs() > OUTLIER * deviation && away >= LEAST_US
    });
    timed.sort_by(|a, b| (b.0 - middle).abs().total_cmp(&(a.0 - middle).abs()));
    for (ratio, change) in timed {
        if ratio > middle { out.slower.push(change) } else { out.faster.push(change) }
    }
}

fn middle_of(values: impl Iterator<Item = f64>) -> f64 {
    let mut all: Vec<f64> = values.collect();
    all.sort_by(f64::total_cmp);
    match all.len() {
        0 => 0.0,
        n if n % 2 == 1 => all[n / 2],
        n => f64::midpoint(all[n / 2 - 1], all[n / 2]),
    }
}

/// Whether a duration lies beyond what the test took before, in microseconds: by a modified z-score, and by at least a fifth.
/// With fewer than three durations nothing can be said, and it does.
#[must_use]
pub fn beyond_noise(now: u64, earlier: &[u64]) -> bool {
    if earlier.len() < 3 {
        return true;
    }
    let middle = median(&mut earlier.to_vec());
    let mad = median(&mut earlier.iter().map(|e| e.abs_diff(middle)).collect::<Vec<_>>());
    let away = now.abs_diff(middle) as f64;
    let ratio = now.max(middle).max(1) as f64 / now.min(middle).max(1) as f64;
    MAD_OF_NORMAL * away > OUTLIER * mad as f64 && ratio >= LEAST_SHARE
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(entry: u32, outcome: Outcome, ms: u64) -> Seen {
        Seen { entry, outcome, attempts: 1, spent_us: ms * 1000 }
    }

    fn names(list: &[Change<&'static str>]) -> Vec<&'static str> {
        list.iter().map(|c| c.test).collect()
    }

    #[test]
    fn each_pair_of_outcomes_has_its_list() {
        use Outcome::{Failed, Flaky, NotRun, Parked, Passed, Skipped};
        let before = [
            ("breaks", Passed),
            ("stays", Failed),
            ("mended", Failed),
            ("mended but flaky", Failed),
            ("set aside", Failed),
            ("cut off", Failed),
            ("cut off well", Passed),
            ("wobbles", Passed),
            ("wobbled before", Flaky),
            ("was skipped", Skipped),
            ("gone", Passed),
        ];
        let after = [
            ("breaks", Failed),
            ("stays", Failed),
            ("mended", Passed),
            ("mended but flaky", Flaky),
            ("set aside", Parked),
            ("cut off", NotRun),
            ("cut off well", NotRun),
            ("wobbles", Flaky),
            ("wobbled before", Flaky),
            ("was skipped", Failed),
            ("new", Passed),
            ("new and bad", Failed),
        ];
        let of = |list: &[(&'static str, Outcome)]| {
            list.iter().enumerate().map(|(n, (test, outcome))| (*test, seen(n as u32, *outcome, 0))).collect::<Vec<_>>()
        };
        let found = compare(of(&before), of(&after));
        assert_eq!(names(&found.newly_failing), ["breaks", "was skipped", "new and bad"]);
        assert_eq!(names(&found.still_failing), ["stays"]);
        assert_eq!(names(&found.mended), ["mended", "mended but flaky"]);
        assert_eq!(names(&found.untested), ["set aside", "cut off", "cut off well"], "nobody knows how they are");
        assert_eq!(names(&found.newly_flaky), ["wobbles"]);
        assert_eq!(names(&found.new), ["new", "new and bad"]);
        assert_eq!(names(&found.gone), ["gone"]);
        assert_eq!((found.both, found.pace), (10, None));
        let same = compare(of(&before[..1]), of(&before[..1]));
        assert!(same.is_empty() && !found.is_empty());
    }

    #[test]
    fn of_a_repeated_test_the_worst_outcome_counts() {
        let before = [("a", seen(0, Outcome::Passed, 5)), ("a", seen(1, Outcome::Passed, 5))];
        let after =
            [("a", seen(0, Outcome::Passed, 5)), ("a", seen(1, Outcome::Failed, 5)), ("a", seen(2, Outcome::Flaky, 5))];
        let found = compare(before, after);
        assert_eq!(found.newly_failing.len(), 1);
        assert_eq!(found.newly_failing[0].after.map(|s| s.entry), Some(1), "the one that failed is shown");
        assert!(found.new.is_empty());
    }

    #[test]
    fn a_busy_machine_makes_no_test_slower_than_the_others() {
        let before: Vec<_> = (0..40u32).map(|n| (n, seen(n, Outcome::Passed, 100 + u64::from(n)))).collect();
        // Everything takes half as long again, give or take 4 %; one takes three times as long and one half.
        let after: Vec<_> = (0..40u32)
            .map(|n| {
                let wobble = 100 + u64::from(n) % 5;
                let factor = match n {
                    7 => 300,
                    9 => 50,
                    _ => 150,
                };
                (n, seen(n, Outcome::Passed, (100 + u64::from(n)) * factor * wobble / 10_000))
            })
            .collect();
        let found = compare(before.clone(), after);
        assert_eq!(found.slower.iter().map(|c| c.test).collect::<Vec<_>>(), [7]);
        assert_eq!(found.faster.iter().map(|c| c.test).collect::<Vec<_>>(), [9]);
        assert!(found.pace.is_some_and(|p| (1.45..1.6).contains(&p)), "{:?}", found.pace);
        let same = compare(before.clone(), before);
        assert!(same.slower.is_empty() && same.faster.is_empty());
    }

    #[test]
    fn of_few_tests_only_a_doubled_one_is_slower_and_little_ones_never() {
        let run = |a: u64, b: u64| vec![("long", seen(0, Outcome::Passed, a)), ("short", seen(1, Outcome::Passed, b))];
        assert!(compare(run(1000, 2), run(1900, 19)).slower.is_empty());
        assert_eq!(names(&compare(run(1000, 2), run(2100, 2)).slower), ["long"]);
    }

    #[test]
    fn a_test_that_always_wobbled_is_not_slower() {
        let steady: Vec<u64> = vec![100, 102, 99, 101, 100];
        let wild: Vec<u64> = vec![100, 300, 150, 90, 260];
        assert!(beyond_noise(130, &steady));
        assert!(!beyond_noise(103, &steady), "less than a fifth");
        assert!(!beyond_noise(330, &wild));
        assert!(beyond_noise(330, &[100]), "too few to say that it is noise");
    }
}
