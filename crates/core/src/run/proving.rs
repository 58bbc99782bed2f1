//! Proving by repetition that a flaky test is mended, or that it is not, with as few repetitions as that takes.
//!
//! Wald's sequential test (A. Wald, "Sequential Tests of Statistical Hypotheses", Annals of Mathematical Statistics 16, 1945): after
//! each repetition the likelihoods of two claims are weighed, *it fails as often as before* and *it fails at most a
//! twentieth as often*, until one is so much likelier than the other that being wrong is rarer than asked. No other test of the
//! same sureness needs fewer repetitions on average (A. Wald and J. Wolfowitz, same journal 19, 1948).

/// A mended test fails at most so much of what it did.
const MENDED_SHARE: f64 = 0.05;
/// A test that failed more often than that is held against this: else a few passes would prove much.
const MOST_OFTEN: f64 = 0.5;
/// One that hardly ever failed is held against this.
const LEAST_OFTEN: f64 = 0.001;

/// What the repetitions say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Proved {
    Mended,
    StillFlaky,
    /// Nothing yet.
    Open,
}

/// A proof that is under way.
#[derive(Debug, Clone, PartialEq)]
pub struct Proof {
    /// How often it failed, from 0 to 1.
    rate: f64,
    /// The sum of the logarithms of the likelihoods' ratios; above 0 speaks for mended.
    weight: f64,
    /// Where it is decided.
    bound: f64,
    at_most: u32,
    passed: u32,
    failed: u32,
    decided: Proved,
    /// How many are asked for at once next.
    together: u32,
}

impl Proof {
    /// A proof for a test that failed in a share `rate` of its attempts; wrong in at most `1 - sure` of the cases, after at most so
    /// many repetitions.
    #[must_use]
    pub fn new(rate: f64, sure: f64, at_most: u32) -> Self {
        let wrong = (1.0 - sure).clamp(1e-9, 0.49);
        Self {
            rate: rate.clamp(LEAST_OFTEN, MOST_OFTEN),
            weight: 0.0,
            bound: ((1.0 - wrong) / wrong).ln(),
            at_most,
            passed: 0,
            failed: 0,
            decided: Proved::Open,
            together: 1,
        }
    }

    /// How often it is taken to have failed, from 0 to 1.
    #[must_use]
    pub fn rate(&self) -> f64 {
        self.rate
    }

    /// How many passes in a row would prove it mended from here.
    #[must_use]
    pub fn passes_needed(&self) -> u32 {
        ((self.bound - self.weight) / self.of_pass()).ceil().max(0.0) as u32
    }

    fn of_pass(&self) -> f64 {
        ((1.0 - self.rate * MENDED_SHARE) / (1.0 - self.rate)).ln()
    }

    /// How many repetitions to make next on so many slots: few first, since one that is still flaky may show it soon, then
    /// twice as many each time; never more than it takes. None if it is decided, or no more are allowed.
    pub fn next(&mut self, slots: u32) -> Option<u32> {
        let left = self.at_most - (self.passed + self.failed).min(self.at_most);
        if self.decided != Proved::Open || left == 0 {
            return None;
        }
        self.together = self.together.max(slots.max(1)).min(10_000);
        let asked = self.together.min(self.passes_needed().max(1)).min(left);
        self.together = self.together.saturating_mul(2);
        Some(asked)
    }

    /// Tells how repetitions went, in their order. What comes after the decision counts, but decides nothing.
    pub fn tell(&mut self, failed: impl IntoIterator<Item = bool>) {
        for one in failed {
            if one {
                self.failed += 1;
                self.weight += MENDED_SHARE.ln();
            } else {
                self.passed += 1;
                self.weight += self.of_pass();
            }
            if self.decided == Proved::Open {
                self.decided = match self.weight {
                    w if w >= self.bound => Proved::Mended,
                    w if w <= -self.bound => Proved::StillFlaky,
                    _ => Proved::Open,
                };
            }
        }
    }

    /// What is proved so far.
    #[must_use]
    pub fn proved(&self) -> Proved {
        self.decided
    }

    /// Repetitions that passed, and that failed.
    #[must_use]
    pub fn counts(&self) -> (u32, u32) {
        (self.passed, self.failed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn random(state: &mut u64) -> f64 {
        *state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (*state >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Carries a proof out on a test that fails so often.
    fn carry(truth: f64, then: f64, sure: f64, state: &mut u64) -> (Proved, u32) {
        let mut proof = Proof::new(then, sure, 100_000);
        while let Some(count) = proof.next(4) {
            let results: Vec<bool> = (0..count).map(|_| random(state) < truth).collect();
            proof.tell(results);
        }
        (proof.proved(), proof.passed + proof.failed)
    }

    #[test]
    fn it_is_wrong_no_more_often_than_asked() {
        let mut state = 3;
        let wrong = |truth: f64, claim: Proved, state: &mut u64| {
            (0..2000).filter(|_| carry(truth, 0.2, 0.95, state).0 == claim).count()
        };
        // Bounds of the test itself: at most 5 of 100, with room for the luck of 2,000 trials.
        assert!(wrong(0.2, Proved::Mended, &mut state) <= 125);
        assert!(wrong(0.01, Proved::StillFlaky, &mut state) <= 125);
        assert_eq!(wrong(0.0, Proved::StillFlaky, &mut state), 0, "what never fails is never called flaky");
    }

    #[test]
    fn it_takes_fewer_repetitions_than_a_test_of_fixed_length() {
        // That it passes n times in a row by luck must be rarer than 1 of 100: 0.8^n < 0.01, n = 21.
        let mut state = 5;
        let (said, took) = carry(0.0, 0.2, 0.99, &mut state);
        assert_eq!(said, Proved::Mended);
        assert!(took <= 23, "{took}");
        let of_flaky: u32 = (0..500).map(|_| carry(0.2, 0.2, 0.99, &mut state).1).sum();
        assert!(of_flaky / 500 < 21, "{}", of_flaky / 500);
    }

    #[test]
    fn it_asks_for_few_first_and_never_for_more_than_it_takes() {
        let mut proof = Proof::new(0.05, 0.99, 500);
        let needed = proof.passes_needed();
        let mut asked = Vec::new();
        while let Some(count) = proof.next(4) {
            asked.push(count);
            proof.tell(vec![false; count as usize]);
        }
        assert_eq!(proof.proved(), Proved::Mended);
        assert_eq!(&asked[..3], [4, 8, 16]);
        assert_eq!(asked.iter().sum::<u32>(), needed);
        let mut bounded = Proof::new(0.05, 0.99, 10);
        while let Some(count) = bounded.next(4) {
            bounded.tell(vec![false; count as usize]);
        }
        assert_eq!((bounded.proved(), bounded.counts()), (Proved::Open, (10, 0)));
    }

    #[test]
    fn rates_out_of_bounds_are_brought_within() {
        assert!((Proof::new(1.0, 0.99, 10).rate() - MOST_OFTEN).abs() < 1e-9);
        assert!((Proof::new(0.0, 0.99, 10).rate() - LEAST_OFTEN).abs() < 1e-9);
        assert!(Proof::new(0.5, 1.0, 10).passes_needed() < 100);
    }
}
