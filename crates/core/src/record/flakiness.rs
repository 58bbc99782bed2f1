//! How often a test is flaky, how well that is known, whether it grows or fades, and what it goes with.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// The normal distribution's 0.975 quantile: intervals hold the truth in 95 of 100 cases.
const NINETY_FIVE: f64 = 1.96;
/// What goes with failing is told if it would come about by chance in fewer than 1 of 20 tests, all that was looked at together.
const BY_CHANCE: f64 = 0.05;
/// Failures that must be there to say that they go with something.
const LEAST_FAILURES: u32 = 3;

/// A share of something, with the interval in which it lies with 95 %.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Share {
    pub hits: u32,
    pub of: u32,
    /// Both from 0 to 1.
    pub low: f64,
    pub high: f64,
}

impl Share {
    /// `hits` of `of`, with Wilson's score interval (E. B. Wilson, "Probable inference, the law of succession, and statistical
    /// inference", Journal of the American Statistical Association 22, 1927), which holds for few and for extreme shares too.
    #[must_use]
    pub fn of(hits: u32, of: u32) -> Self {
        if of == 0 {
            return Self { hits: 0, of: 0, low: 0.0, high: 1.0 };
        }
        let (n, z2) = (f64::from(of), NINETY_FIVE * NINETY_FIVE);
        let p = f64::from(hits.min(of)) / n;
        let middle = (p + z2 / (2.0 * n)) / (1.0 + z2 / n);
        let half = NINETY_FIVE / (1.0 + z2 / n) * (p * (1.0 - p) / n + z2 / (4.0 * n * n)).sqrt();
        let low = if hits == 0 { 0.0 } else { (middle - half).max(0.0) };
        let high = if hits >= of { 1.0 } else { (middle + half).min(1.0) };
        Self { hits, of, low, high }
    }

    /// The share itself, from 0 to 1.
    #[must_use]
    pub fn share(&self) -> f64 {
        if self.of == 0 { 0.0 } else { f64::from(self.hits) / f64::from(self.of) }
    }
}

/// Whether something happens more often than before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Trend {
    Grows,
    Fades,
    /// No change that could not be chance.
    Steady,
}

impl Trend {
    /// The newer half of a series against the older one, by Fisher's exact test on both sides. `series` is oldest first.
    #[must_use]
    pub fn of(series: &[bool]) -> Self {
        let half = series.len() / 2;
        let count = |of: &[bool]| of.iter().filter(|hit| **hit).count() as u32;
        let (older, newer) = (count(&series[..half]), count(&series[half..]));
        let (n_older, n_newer) = (half as u32, (series.len() - half) as u32);
        // On one side each: the half of the usual bound.
        if at_least(newer, n_newer, older, n_older) < BY_CHANCE / 2.0 {
            Self::Grows
        } else if at_least(older, n_older, newer, n_newer) < BY_CHANCE / 2.0 {
            Self::Fades
        } else {
            Self::Steady
        }
    }
}

/// One attempt, with what was around it: `("worker", "heron")`, `("load", "all slots busy")`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Observed {
    pub failed: bool,
    pub facts: Vec<(&'static str, String)>,
}

/// Something that failing goes with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GoesWith {
    /// `worker`, `load`, `order`, `time of day`, `variant`, `after`.
    pub what: String,
    pub value: String,
    /// Failing attempts with it, and without.
    pub with: Share,
    pub without: Share,
    /// How often chance would look like this, all that was looked at taken into account.
    pub chance: f64,
}

/// What failing goes with, the surest first: each value of each fact by Fisher's exact test (R. A. Fisher, "On the
/// interpretation of χ² from contingency tables", Journal of the Royal Statistical Society 85, 1922), with Bonferroni's correction for how many were looked
/// at.
#[must_use]
pub fn goes_with(observed: &[Observed]) -> Vec<GoesWith> {
    let all = (observed.iter().filter(|o| o.failed).count() as u32, observed.len() as u32);
    let mut counts: BTreeMap<(&str, &str), (u32, u32)> = BTreeMap::new();
    for one in observed {
        for (what, value) in &one.facts {
            let count = counts.entry((what, value)).or_default();
            count.0 += u32::from(one.failed);
            count.1 += 1;
        }
    }
    // What is true of all, or of hardly any, could not be told apart.
    counts.retain(|_, count| count.1 >= LEAST_FAILURES && count.1 < all.1);
    let looked_at = counts.len() as f64;
    let mut found: Vec<GoesWith> = counts
        .into_iter()
        .filter(|(_, count)| count.0 >= LEAST_FAILURES)
        .filter_map(|((what, value), (failed, of))| {
            let without = (all.0 - failed, all.1 - of);
            let chance = (at_least(failed, of, without.0, without.1) * looked_at).min(1.0);
            (chance < BY_CHANCE).then(|| GoesWith {
                what: what.to_owned(),
                value: value.to_owned(),
                with: Share::of(failed, of),
                without: Share::of(without.0, without.1),
                chance,
            })
        })
        .collect();
    found.sort_by(|a, b| a.chance.total_cmp(&b.chance));
    found
}

/// How likely it is by chance that of all hits so many or more are in the first group: Fisher's exact test, one side.
fn at_least(hits: u32, of: u32, other_hits: u32, other_of: u32) -> f64 {
    let (total, total_hits) = (of + other_of, hits + other_hits);
    let most = of.min(total_hits);
    let logs = LogFactorials::upto(total);
    let all = logs.choose(total, of);
    (hits..=most)
        .filter(|k| total_hits - k <= other_of)
        .map(|k| (logs.choose(total_hits, k) + logs.choose(total - total_hits, of - k) - all).exp())
        .sum::<f64>()
        .min(1.0)
}

struct LogFactorials(Vec<f64>);

impl LogFactorials {
    fn upto(n: u32) -> Self {
        let mut logs = vec![0.0];
        for k in 1..=n {
            logs.push(logs[k as usize - 1] + f64::from(k).ln());
        }
        Self(logs)
    }

    fn choose(&self, n: u32, k: u32) -> f64 {
        if k > n { f64::NEG_INFINITY } else { self.0[n as usize] - self.0[k as usize] - self.0[(n - k) as usize] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_interval_is_wilsons() {
        // Reference values of the formula, worked out by hand: 3 of 40, 0 of 20, 5 of 5.
        let close = |share: Share, low: f64, high: f64| {
            assert!((share.low - low).abs() < 0.001 && (share.high - high).abs() < 0.001, "{share:?}");
        };
        close(Share::of(3, 40), 0.0258, 0.1986);
        close(Share::of(0, 20), 0.0, 0.1611);
        close(Share::of(5, 5), 0.5655, 1.0);
        close(Share::of(0, 0), 0.0, 1.0);
        assert!((Share::of(1, 4).share() - 0.25).abs() < 1e-9);
    }

    #[test]
    fn fishers_test_gives_what_the_lady_tasting_tea_gives() {
        // 3 of 4 right: 17 of 70; 4 of 4: 1 of 70.
        assert!((at_least(3, 4, 1, 4) - 17.0 / 70.0).abs() < 1e-9);
        assert!((at_least(4, 4, 0, 4) - 1.0 / 70.0).abs() < 1e-9);
        assert!((at_least(0, 4, 4, 4) - 1.0).abs() < 1e-9);
        assert!((at_least(0, 0, 0, 0) - 1.0).abs() < 1e-9);
    }

    #[test]
    fn what_happens_more_often_grows() {
        let series = |older: usize, newer: usize| {
            let half = |hits: usize| (0..30).map(move |n| n < hits);
            half(older).chain(half(newer)).collect::<Vec<bool>>()
        };
        assert_eq!(Trend::of(&series(1, 12)), Trend::Grows);
        assert_eq!(Trend::of(&series(12, 1)), Trend::Fades);
        assert_eq!(Trend::of(&series(4, 7)), Trend::Steady);
        assert_eq!(Trend::of(&[]), Trend::Steady);
        assert_eq!(Trend::of(&[true]), Trend::Steady);
    }

    fn attempt(failed: bool, worker: &str, n: u32) -> Observed {
        let hour = format!("{:02}", n % 4);
        Observed {
            failed,
            facts: vec![("worker", worker.to_owned()), ("time of day", hour), ("variant", "one".into())],
        }
    }

    #[test]
    fn a_worker_on_which_it_fails_is_found_with_its_evidence() {
        let mut seen: Vec<Observed> = (0..12).map(|n| attempt(n % 4 != 3, "heron", n)).collect();
        seen.extend((0..60).map(|n| attempt(n == 5, "tern", n)));
        let found = goes_with(&seen);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].what.as_str(), found[0].value.as_str()), ("worker", "heron"));
        assert_eq!((found[0].with.hits, found[0].with.of), (9, 12));
        assert_eq!((found[0].without.hits, found[0].without.of), (1, 60));
        assert!(found[0].chance < 0.001);
    }

    #[test]
    fn chance_goes_with_nothing() {
        let mut state = 7u64;
        let mut next = |below: u64| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) % below
        };
        let mut told = 0;
        for _ in 0..200 {
            let seen: Vec<Observed> =
                (0..80).map(|n| attempt(next(8) == 0, ["heron", "tern", "gull"][next(3) as usize], n)).collect();
            told += usize::from(!goes_with(&seen).is_empty());
        }
        assert!(told <= 20, "{told} of 200 found something in nothing");
        assert!(goes_with(&[]).is_empty());
        assert!(goes_with(&[attempt(true, "heron", 1), attempt(true, "heron", 2)]).is_empty(), "two are too few");
    }
}
