//! When a test's durations changed for good: change points that a person would see in a plot.

use super::middle::median;

/// How sure a change must be to be told.
const SURE: f64 = 0.98;
/// Durations on each side that it takes.
const LEAST_SIDE: usize = 5;
/// The medians of both sides must differ by so much of the smaller.
const LEAST_SHARE: f64 = 0.2;
/// Durations that are looked at, the latest.
const MOST: usize = 2000;

/// A change of what a test takes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shift {
    /// The place of the first duration after it.
    pub at: usize,
    /// Medians of the durations from the change before to this one, and from this one to the next, in the durations' unit.
    pub before: u64,
    pub after: u64,
    /// How sure it is that it was not by chance, from 0 to 1.
    pub sure: f64,
}

/// The change points of durations in the order in which they were measured, oldest first.
///
/// Each is where a rank test (H. B. Mann and D. R. Whitney, "On a test of whether one of two random variables is stochastically larger
/// than the other", Annals of Mathematical Statistics 18, 1947) tells both sides apart best, so that outliers do not matter; that
/// the best of many places was chosen is taken into account (by Bonferroni's bound; of such statistics: B. Lausen and M. Schumacher,
/// "Maximally selected rank statistics", Biometrics 48, 1992). Then both sides are searched in the same way; where all of
/// it shows none, its parts are looked at, as one change may hide another (S. Kovács et al., "Seeded binary segmentation",
/// Biometrika 110, 2023). A change is left out where the medians differ by less than a fifth, or by less than twice the larger
/// spread of the two sides (their median absolute deviation).
#[must_use]
pub fn shifts(durations: &[u64]) -> Vec<Shift> {
    let skip = durations.len().saturating_sub(MOST);
    let seen = &durations[skip..];
    let mut places = Vec::new();
    search(seen, 0, &mut places);
    places.sort_by_key(|p| p.0);
    let mut found: Vec<Shift> = Vec::new();
    for (n, (at, sure)) in places.iter().enumerate() {
        let from = found.last().map_or(0, |before| before.at - skip);
        let to = places.get(n + 1).map_or(seen.len(), |p| p.0);
        let at = &(from + place_exactly(&seen[from..to], at - from));
        let (before, after) = (median(&mut seen[from..*at].to_vec()), median(&mut seen[*at..to].to_vec()));
        if differ(&seen[from..*at], &seen[*at..to]) {
            found.push(Shift { at: skip + at, before, after, sure: *sure });
        }
    }
    found
}

/// Where exactly a change about that place is: where what both sides differ from their medians is least, what differs more than the
/// medians do counting only as much as that, so that an outlier beside it does not draw it.
fn place_exactly(values: &[u64], about: usize) -> usize {
    let (one, other) = (median(&mut values[..about].to_vec()), median(&mut values[about..].to_vec()));
    let most = one.abs_diff(other);
    let cost = |value: u64, middle: u64| value.abs_diff(middle).min(most);
    let mut now: u64 = values.iter().map(|v| cost(*v, other)).sum();
    let (mut least, mut at) = (u64::MAX, about);
    for (i, value) in values.iter().enumerate().take(values.len().saturating_sub(1)) {
        now = now - cost(*value, other) + cost(*value, one);
        let nearer = (i + 1).abs_diff(about) < at.abs_diff(about);
        if now < least || (now == least && nearer) {
            (least, at) = (now, i + 1);
        }
    }
    at
}

fn search(values: &[u64], offset: usize, found: &mut Vec<(usize, f64)>) {
    let Some((at, sure)) = change_of(values) else { return };
    found.push((offset + at, sure));
    search(&values[..at], offset, found);
    search(&values[at..], offset + at, found);
}

/// The change of all of it, or else the surest of its parts.
fn change_of(values: &[u64]) -> Option<(usize, f64)> {
    let sure_of = |chance: f64| (1.0 - chance).max(0.0);
    let told = |part: &[u64], at: usize| differ(&part[..at], &part[at..]);
    if let Some((at, chance)) = best_place(values)
        && sure_of(chance) >= SURE
        && told(values, at)
    {
        return Some((at, sure_of(chance)));
    }
    let mut parts: Vec<(usize, usize)> = Vec::new();
    let mut length = values.len() as f64 / std::f64::consts::SQRT_2;
    while length >= (2 * LEAST_SIDE) as f64 {
        let (whole, step) = (length as usize, (length / 2.0) as usize);
        parts.extend((0..=values.len() - whole).step_by(step.max(1)).map(|from| (from, from + whole)));
        parts.push((values.len() - whole, values.len()));
        length /= std::f64::consts::SQRT_2;
    }
    // As if each part had been looked at for itself.
    let many = parts.len() as f64;
    let of_part = |(from, to): (usize, usize)| {
        let part = &values[from..to];
        best_place(part).filter(|(at, _)| told(part, *at)).map(|(at, chance)| (from + at, chance * many))
    };
    let best = parts.into_iter().filter_map(of_part).min_by(|a, b| a.1.total_cmp(&b.1))?;
    (sure_of(best.1) >= SURE).then(|| (best.0, sure_of(best.1)))
}

/// The place that tells both sides apart best and leaves enough on each, and how often chance would.
fn best_place(values: &[u64]) -> Option<(usize, f64)> {
    let n = values.len();
    let mut order: Vec<usize> = (0..n).collect();
    order.sort_by_key(|i| values[*i]);
    // Values that are alike share the mean of their ranks.
    let (mut ranks, mut ties) = (vec![0.0; n], 0.0);
    let mut from = 0;
    while from < n {
        let mut to = from;
        while to + 1 < n && values[order[to + 1]] == values[order[from]] {
            to += 1;
        }
        let alike = (to - from + 1) as f64;
        ties += alike * alike * alike - alike;
        for place in &order[from..=to] {
            ranks[*place] = (from + to) as f64 / 2.0 + 1.0;
        }
        from = to + 1;
    }
    let all = n as f64;
    let (mut sum, mut best) = (0.0, None::<(usize, f64)>);
    for (i, rank) in ranks.iter().enumerate().take(n.saturating_sub(LEAST_SIDE)) {
        sum += rank;
        let at = i + 1;
        if at < LEAST_SIDE {
            continue;
        }
        let (one, other) = (at as f64, (n - at) as f64);
        let variance = one * other / 12.0 * ((all + 1.0) - ties / (all * (all - 1.0)));
        let z = (sum - one * (all + 1.0) / 2.0).abs() / variance.sqrt();
        if variance > 0.0 && best.is_none_or(|b| z > b.1) {
            best = Some((at, z));
        }
    }
    let (at, z) = best?;
    let places = (n + 1 - 2 * LEAST_SIDE) as f64;
    Some((at, (places * two_tails(z)).min(1.0)))
}

/// How often a normally distributed value is so far from its mean, in standard deviations, on either side: the
/// complementary error function by W. J. Cody's way as given in "Numerical Recipes" (W. H. Press et al., 2nd edition, section 6.2),
/// wrong by at most a part of 8 million.
fn two_tails(z: f64) -> f64 {
    let x = z / std::f64::consts::SQRT_2;
    let t = 1.0 / (1.0 + 0.5 * x);
    let factors = [
        -1.265_512_23,
        1.000_023_68,
        0.374_091_96,
        0.096_784_18,
        -0.186_288_06,
        0.278_868_07,
        -1.135_203_98,
        1.488_515_87,
        -0.822_152_23,
        0.170_872_77,
    ];
    let polynomial = factors.iter().rev().fold(0.0, |sum, factor| sum * t + factor);
    t * (-x * x + polynomial).exp()
}

fn differ(one: &[u64], other: &[u64]) -> bool {
    let spread =
        |values: &[u64], middle: u64| median(&mut values.iter().map(|v| v.abs_diff(middle)).collect::<Vec<_>>());
    let (a, b) = (median(&mut one.to_vec()), median(&mut other.to_vec()));
    let apart = a.abs_diff(b);
    apart as f64 >= LEAST_SHARE * a.min(b).max(1) as f64 && apart >= 2 * spread(one, a).max(spread(other, b))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Durations about a middle, with a wobble of a twentieth and an outlier now and then.
    fn about(middle: u64, count: usize) -> Vec<u64> {
        (0..count)
            .map(|n| match n % 11 {
                5 => middle * 4,
                k => middle + middle * (k as u64 * 7 % 10) / 200,
            })
            .collect()
    }

    #[test]
    fn a_lasting_change_is_found_where_it_was() {
        let durations = [about(100_000, 30), about(160_000, 25)].concat();
        let found = shifts(&durations);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!(found[0].at, 30);
        assert!(found[0].sure > 0.999);
        let recent = [about(100_000, 30), about(160_000, 9)].concat();
        assert_eq!(shifts(&recent).iter().map(|s| s.at).collect::<Vec<_>>(), [30], "nine are enough");
        assert!((100_000..106_000).contains(&found[0].before) && (160_000..168_000).contains(&found[0].after));
    }

    #[test]
    fn there_and_back_again_are_two_changes() {
        let durations = [about(100_000, 20), about(250_000, 20), about(100_000, 20)].concat();
        assert_eq!(shifts(&durations).iter().map(|s| s.at).collect::<Vec<_>>(), [20, 40]);
    }

    #[test]
    fn noise_outliers_slow_drift_of_little_and_few_values_are_no_change() {
        assert_eq!(shifts(&about(100_000, 60)), []);
        assert_eq!(shifts(&[]), []);
        assert_eq!(shifts(&[1, 1, 1, 1, 9, 9, 9, 9]), [], "nine values are too few");
        let little: Vec<u64> = [about(100_000, 30), about(110_000, 30)].concat();
        assert_eq!(shifts(&little), [], "a tenth is not what a person would see");
        let wild: Vec<u64> = (0..60u64).map(|n| 50_000 + n * 7919 % 100_000).collect();
        assert_eq!(shifts(&wild), []);
    }

    #[test]
    fn the_tails_of_the_normal_distribution_are_as_in_its_tables() {
        for (z, tails) in [(0.0, 1.0), (1.0, 0.317_31), (1.96, 0.05), (2.575_83, 0.01), (3.290_53, 0.001)] {
            assert!((two_tails(z) - tails).abs() < 2e-5, "{z}: {}", two_tails(z));
        }
    }

    #[test]
    fn chance_rarely_makes_one() {
        // Pseudo-random durations that differ by half: of 400 series few may show a change.
        let mut state = 1u64;
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            100_000 + (state >> 33) % 50_000
        };
        let with_change = (0..400).filter(|_| !shifts(&(0..50).map(|_| next()).collect::<Vec<_>>()).is_empty()).count();
        assert!(with_change <= 4, "{with_change} of 400");
    }
}
