//! Finding the commit that broke a test: a search over commits in their order, of which several are looked at at once, and whose answers
//! may be wrong, since a test that is not broken may fail and a broken one pass.
//!
//! How likely each commit is to be the one is kept and weighed anew with each answer by Bayes' rule (M. Horstein, "Sequential
//! transmission using noiseless feedback", IEEE Transactions on Information Theory 9, 1963; of its speed: M. V. Burnashev and
//! K. Sh. Zigangirov, "An interval estimation problem for controlled observations", Problems of Information Transmission 10, 1974).
//! What is looked at next are the commits that part what is likely into equal shares, one for each slot. It ends when one commit is
//! as sure as asked.

/// The ends of the range are not taken on trust: how likely it is beforehand that each is not what it is said to be.
const WRONG_END: f64 = 0.02;

/// What was found.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Found {
    /// The place of the first commit with which the test fails lies from the first to the last of these: the same, unless nothing can
    /// be told at those between them. And how sure that is.
    Commit { first: usize, last: usize, sure: f64 },
    /// It fails before the first commit already.
    FailsBefore(f64),
    /// It does not fail at the last commit.
    DoesNotFail(f64),
}

/// A search over commits, which are counted from 0, oldest first; place 0 is the one before the range, which is held to be good.
#[derive(Debug, Clone)]
pub struct Since {
    /// How likely it is that the test fails from that place on; one more than there are places, for "nowhere".
    likely: Vec<f64>,
    /// How often it fails where it is not broken, and where it is.
    good_fails: f64,
    bad_fails: f64,
    sure: f64,
    /// Places at which it cannot be told.
    barred: Vec<bool>,
    began: bool,
}

impl Since {
    /// A search over so many places, the first held to be good and the last to be bad; `good_fails` and `bad_fails` are how often the
    /// test fails where it is not broken and where it is, from 0 to 1; it ends when one place is `sure`.
    #[must_use]
    pub fn new(places: usize, good_fails: f64, bad_fails: f64, sure: f64) -> Self {
        let places = places.max(2);
        let each = (1.0 - 2.0 * WRONG_END) / (places - 1) as f64;
        let mut likely = vec![each; places + 1];
        likely[0] = WRONG_END;
        likely[places] = WRONG_END;
        Self {
            likely,
            good_fails: good_fails.clamp(0.001, 0.9),
            bad_fails: bad_fails.clamp(0.1, 0.999),
            sure: sure.clamp(0.5, 0.999_999),
            barred: vec![false; places],
            began: false,
        }
    }

    fn places(&self) -> usize {
        self.barred.len()
    }

    /// The places to look at next, on so many slots; some may stand twice. First both ends; empty when something is found, or
    /// nothing can be looked at any more.
    pub fn next(&mut self, slots: usize) -> Vec<usize> {
        if self.found().is_some() || self.barred.iter().all(|barred| *barred) {
            return Vec::new();
        }
        let slots = slots.max(1);
        let mut chosen: Vec<usize> = Vec::new();
        if !self.began {
            self.began = true;
            let ends = [self.places() - 1, 0];
            chosen.extend(ends.into_iter().filter(|place| !self.barred[*place]).take(slots));
        }
        let wanted = slots - chosen.len().min(slots);
        let (mut sum, mut at) = (0.0, 0);
        for part in 1..=wanted {
            let share = part as f64 / (wanted + 1) as f64;
            while at < self.places() && sum + self.likely[at] < share {
                sum += self.likely[at];
                at += 1;
            }
            // It fails from `at` on or before: what parts that from the rest is the place before it, or itself.
            let place = at.min(self.places() - 1);
            let other = place.saturating_sub(1);
            // Of two the one that parts what is likely more evenly.
            let upto: f64 = self.likely[..=place].iter().sum();
            let (first, second) = if (upto - share).abs() > (upto - self.likely[place] - share).abs() {
                (other, place)
            } else {
                (place, other)
            };
            let fresh = [first, second].into_iter().find(|p| !chosen.contains(p));
            chosen.extend(self.near(fresh.unwrap_or(first)));
        }
        chosen
    }

    /// The nearest place at which it can be told.
    fn near(&self, place: usize) -> Option<usize> {
        let open = (0..self.places()).filter(|p| !self.barred[*p]);
        open.min_by_key(|p| p.abs_diff(place))
    }

    /// Tells that the test failed there, or passed.
    pub fn tell(&mut self, place: usize, failed: bool) {
        let of = |fails: f64| if failed { fails } else { 1.0 - fails };
        for (from, likely) in self.likely.iter_mut().enumerate() {
            *likely *= of(if place >= from { self.bad_fails } else { self.good_fails });
        }
        let all: f64 = self.likely.iter().sum();
        self.likely.iter_mut().for_each(|likely| *likely /= all);
    }

    /// Tells that nothing can be told there: the test is not there, or does not build.
    pub fn bar(&mut self, place: usize) {
        self.barred[place] = true;
    }

    /// The likeliest, and how likely it is.
    #[must_use]
    pub fn likeliest(&self) -> Found {
        let mut best = Found::DoesNotFail(self.likely[self.places()]);
        let mut most = self.likely[self.places()];
        // What lies between two places that can be looked at cannot be told apart.
        let (mut first, mut sum) = (0, 0.0);
        for place in 0..self.places() {
            sum += self.likely[place];
            if self.barred[place] && place + 1 < self.places() {
                continue;
            }
            if sum > most {
                most = sum;
                best = if place == 0 {
                    Found::FailsBefore(sum)
                } else {
                    Found::Commit { first: first.max(1), last: place, sure: sum }
                };
            }
            (first, sum) = (place + 1, 0.0);
        }
        best
    }

    /// What is found, when it is as sure as asked.
    #[must_use]
    pub fn found(&self) -> Option<Found> {
        let best = self.likeliest();
        let (Found::Commit { sure, .. } | Found::FailsBefore(sure) | Found::DoesNotFail(sure)) = best;
        (sure >= self.sure).then_some(best)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn random(state: &mut u64) -> f64 {
        *state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (*state >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Searches among so many places for `truth`; what is found, rounds and looks.
    fn search(
        places: usize,
        truth: usize,
        noise: (f64, f64),
        slots: usize,
        state: &mut u64,
    ) -> (Option<Found>, u32, u32) {
        let mut since = Since::new(places, noise.0, noise.1, 0.99);
        let (mut rounds, mut looks) = (0, 0);
        loop {
            let next = since.next(slots);
            if next.is_empty() || rounds > 500 {
                return (since.found(), rounds, looks);
            }
            rounds += 1;
            for place in next {
                looks += 1;
                let fails = if place >= truth { noise.1 } else { noise.0 };
                since.tell(place, random(state) < fails);
            }
        }
    }

    fn is_at(found: Option<Found>, place: usize) -> bool {
        matches!(found, Some(Found::Commit { first, last, .. }) if first == place && last == place)
    }

    #[test]
    fn with_true_answers_it_halves_and_with_more_slots_it_parts_more() {
        let mut state = 1;
        for truth in [1, 2, 500, 998, 999] {
            let (found, rounds, _) = search(1000, truth, (0.001, 0.999), 1, &mut state);
            assert!(is_at(found, truth), "{found:?}");
            // Ten halvings of 1,000, both ends, and the two neighbours once more.
            assert!(rounds <= 15, "{truth}: {rounds}");
            let (found, rounds, _) = search(1000, truth, (0.001, 0.999), 9, &mut state);
            assert!(is_at(found, truth) && rounds <= 6, "{truth}: {rounds} rounds on nine slots, {found:?}");
        }
        let (found, ..) = search(2, 1, (0.001, 0.999), 4, &mut state);
        assert!(is_at(found, 1), "one commit between them: {found:?}");
    }

    #[test]
    fn flaky_answers_are_asked_for_again_until_it_is_sure() {
        let mut state = 7;
        let (mut right, mut looks) = (0, 0);
        for n in 0..300 {
            let truth = 1 + n * 53 % 199;
            let (found, _, took) = search(200, truth, (0.1, 0.7), 4, &mut state);
            right += u32::from(is_at(found, truth));
            looks += took;
        }
        assert!(right >= 291, "{right} of 300, and 99 of 100 were asked for");
        assert!(looks / 300 < 60, "{}", looks / 300);
    }

    #[test]
    fn ends_that_are_not_what_they_are_said_to_be_are_told() {
        let mut state = 3;
        assert!(matches!(search(100, 0, (0.001, 0.999), 4, &mut state).0, Some(Found::FailsBefore(_))));
        assert!(matches!(search(100, 100, (0.001, 0.999), 4, &mut state).0, Some(Found::DoesNotFail(_))));
    }

    #[test]
    fn places_at_which_nothing_can_be_told_are_gone_round() {
        let mut since = Since::new(10, 0.001, 0.999, 0.99);
        for barred in [4, 5, 6] {
            since.bar(barred);
        }
        let mut rounds = 0;
        loop {
            let next = since.next(2);
            rounds += 1;
            if next.is_empty() || rounds > 50 {
                break;
            }
            for place in next {
                assert!(![4, 5, 6].contains(&place));
                since.tell(place, place >= 6);
            }
        }
        assert!(rounds < 12, "{rounds}");
        assert!(matches!(since.found(), Some(Found::Commit { first: 4, last: 7, .. })), "{:?}", since.likeliest());
        let mut all = Since::new(2, 0.001, 0.999, 0.99);
        all.bar(0);
        all.bar(1);
        assert!(all.next(4).is_empty());
    }
}
