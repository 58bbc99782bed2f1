//! What each slot of a run did when: blocks for a picture of bounded size, what stayed idle, and what held up the end.

use serde::{Deserialize, Serialize};

use crate::words::{Ended, Outcome};

/// An attempt on its slot. Times are microseconds from the beginning of the run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    pub lane: u32,
    pub entry: u32,
    /// The attempt's number, from 1.
    pub number: u32,
    pub from_us: u64,
    pub to_us: u64,
    pub ended: Ended,
    /// The entry's outcome, where this attempt decided it.
    pub decided: Option<Outcome>,
}

/// A block of the picture: an attempt, or several neighbours too short to be told apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Block {
    pub lane: u32,
    /// The entry, or the worst of the entries that it stands for.
    pub entry: u32,
    pub number: u32,
    pub from_us: u64,
    pub to_us: u64,
    pub ended: Ended,
    pub outcome: Option<Outcome>,
    /// How many attempts it stands for.
    pub count: u32,
}

/// A case that a file told of in one attempt, in the order in which it told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToldAt {
    pub title: String,
    pub ended: Ended,
    /// The case's outcome, where this attempt decided it.
    pub decided: Option<Outcome>,
    /// What it took, in microseconds.
    pub spent_us: u64,
}

/// A part of a file's attempt in the picture: a case, or several neighbours too short to be told apart.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CaseMark {
    pub lane: u32,
    pub entry: u32,
    /// The attempt's number, from 1.
    pub number: u32,
    pub from_us: u64,
    pub to_us: u64,
    /// The case, or the worst of those that it stands for.
    pub title: String,
    pub ended: Ended,
    pub outcome: Option<Outcome>,
    /// How many cases it stands for.
    pub count: u32,
}

/// What held up the end: the time in which fewer than half of the slots had work.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tail {
    pub from_us: u64,
    pub to_us: u64,
    /// The attempts that ran then, the one that ended last first: entry and number; at most 10.
    pub attempts: Vec<(u32, u32)>,
}

/// Gathers neighbours on a lane that are shorter than `grain_us`, or closer together than it, into one block, as long as that
/// is. What failed is never hidden by what passed: a block takes the worst of what it stands for.
#[must_use]
pub fn blocks(mut places: Vec<Place>, grain_us: u64) -> Vec<Block> {
    places.sort_by_key(|p| (p.lane, p.from_us, p.to_us));
    let mut out: Vec<Block> = Vec::new();
    for place in places {
        let block = Block {
            lane: place.lane,
            entry: place.entry,
            number: place.number,
            from_us: place.from_us,
            to_us: place.to_us,
            ended: place.ended,
            outcome: place.decided,
            count: 1,
        };
        match out.last_mut() {
            Some(last)
                if last.lane == block.lane && block.to_us.saturating_sub(last.from_us) <= grain_us && grain_us > 0 =>
            {
                if rank(block.ended, block.outcome) > rank(last.ended, last.outcome) {
                    (last.entry, last.number, last.ended, last.outcome) =
                        (block.entry, block.number, block.ended, block.outcome);
                }
                last.to_us = last.to_us.max(block.to_us);
                last.count += 1;
            }
            _ => out.push(block),
        }
    }
    out
}

/// The cases of an attempt, end to end in the order told, so that the last ends with the attempt: what is before the first is
/// what the file's program took to start. Cases that together took longer than the attempt ran beside each other: they are drawn
/// shorter, each by the same factor. Neighbours shorter than `grain_us` become one mark, which takes the worst of them.
#[must_use]
pub fn marks(of: &Place, told: &[ToldAt], grain_us: u64) -> Vec<CaseMark> {
    let whole = of.to_us.saturating_sub(of.from_us);
    let sum: u128 = told.iter().map(|case| u128::from(case.spent_us)).sum();
    let laid = |us: u128| if sum > u128::from(whole) { (us * u128::from(whole) / sum) as u64 } else { us as u64 };
    let begin = of.to_us - laid(sum).min(of.to_us);
    let mut out: Vec<CaseMark> = Vec::new();
    let mut before = 0;
    for case in told {
        let from_us = begin + laid(before);
        before += u128::from(case.spent_us);
        let to_us = begin + laid(before);
        match out.last_mut() {
            Some(last) if to_us.saturating_sub(last.from_us) <= grain_us => {
                if rank(case.ended, case.decided) > rank(last.ended, last.outcome) {
                    (last.title, last.ended, last.outcome) = (case.title.clone(), case.ended, case.decided);
                }
                last.to_us = to_us;
                last.count += 1;
            }
            _ => out.push(CaseMark {
                lane: of.lane,
                entry: of.entry,
                number: of.number,
                from_us,
                to_us,
                title: case.title.clone(),
                ended: case.ended,
                outcome: case.decided,
                count: 1,
            }),
        }
    }
    out
}

fn rank(ended: Ended, outcome: Option<Outcome>) -> u8 {
    match (ended, outcome) {
        (_, Some(Outcome::Failed)) => 5,
        (ended, _) if ended.failing() => 4,
        (_, Some(Outcome::Flaky)) => 3,
        (Ended::Lost, _) => 2,
        (Ended::Passed, _) => 0,
        _ => 1,
    }
}

/// The share of the slots' time that was spent on attempts, of all the time from the first beginning to the last end.
#[must_use]
pub fn busy_share(places: &[Place], lanes: u32) -> f64 {
    let begin = places.iter().map(|p| p.from_us).min().unwrap_or(0);
    let end = places.iter().map(|p| p.to_us).max().unwrap_or(0);
    let spent: u64 = places.iter().map(|p| p.to_us - p.from_us.min(p.to_us)).sum();
    let all = (end - begin) as f64 * f64::from(lanes);
    if all > 0.0 { (spent as f64 / all).min(1.0) } else { 0.0 }
}

/// What held up the end, if for at least a twentieth of the run fewer than half of the slots had work at its end.
#[must_use]
pub fn tail(places: &[Place], lanes: u32) -> Option<Tail> {
    let begin = places.iter().map(|p| p.from_us).min()?;
    let mut last_on = std::collections::BTreeMap::new();
    for place in places {
        let last = last_on.entry(place.lane).or_insert(0);
        *last = place.to_us.max(*last);
    }
    let mut ends: Vec<u64> = last_on.into_values().collect();
    ends.sort_unstable();
    let end = *ends.last()?;
    // Lanes that never had work count as idle from the beginning.
    let idle_at_first = (lanes as usize).saturating_sub(ends.len());
    let needed = lanes as usize / 2 + 1;
    let from = if idle_at_first >= needed { begin } else { *ends.get(needed - idle_at_first - 1)? };
    if lanes < 2 || (end - from) * 20 < end - begin || from >= end {
        return None;
    }
    let mut during: Vec<&Place> = places.iter().filter(|p| p.to_us > from).collect();
    during.sort_by_key(|p| std::cmp::Reverse((p.to_us, p.entry)));
    let attempts = during.iter().take(10).map(|p| (p.entry, p.number)).collect();
    Some(Tail { from_us: from, to_us: end, attempts })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(lane: u32, entry: u32, from_us: u64, to_us: u64, ended: Ended) -> Place {
        Place { lane, entry, number: 1, from_us, to_us, ended, decided: None }
    }

    #[test]
    fn short_neighbours_become_one_block_that_shows_the_worst() {
        let mut places: Vec<Place> =
            (0..1000).map(|n| place(0, n as u32, n * 10, n * 10 + 10, Ended::Passed)).collect();
        places[503].ended = Ended::Failed;
        places.push(place(1, 2000, 0, 10_000, Ended::Passed));
        let blocks = blocks(places.clone(), 100);
        assert!(blocks.len() <= 102, "{}", blocks.len());
        assert_eq!(blocks.iter().map(|b| b.count).sum::<u32>(), 1001, "none is lost");
        let bad: Vec<&Block> = blocks.iter().filter(|b| b.ended.failing()).collect();
        assert_eq!(bad.iter().map(|b| b.entry).collect::<Vec<_>>(), [503]);
        assert_eq!(super::blocks(places, 0).len(), 1001, "without a grain each is its own");
    }

    fn told(title: &str, spent_us: u64, ended: Ended) -> ToldAt {
        ToldAt { title: title.into(), ended, decided: None, spent_us }
    }

    #[test]
    fn cases_end_with_their_file_and_what_is_before_them_is_its_start() {
        let of = place(2, 7, 1_000, 2_000, Ended::Failed);
        let cases = [told("a", 300, Ended::Passed), told("b", 0, Ended::Failed), told("c", 500, Ended::Passed)];
        let at: Vec<(u64, u64, String)> =
            marks(&of, &cases, 0).into_iter().map(|m| (m.from_us, m.to_us, m.title)).collect();
        let wanted = [(1_200, 1_500, "a"), (1_500, 1_500, "b"), (1_500, 2_000, "c")];
        assert_eq!(at, wanted.map(|(from, to, title)| (from, to, title.to_owned())));
        assert!(marks(&of, &[], 0).is_empty());
        assert!(marks(&of, &cases, 0).iter().all(|m| (m.lane, m.entry, m.number, m.count) == (2, 7, 1, 1)));
    }

    #[test]
    fn cases_that_ran_beside_each_other_stay_within_their_file() {
        let of = place(0, 0, 100, 200, Ended::Passed);
        let cases: Vec<ToldAt> = (0..4).map(|n| told(&n.to_string(), 100, Ended::Passed)).collect();
        let at: Vec<(u64, u64)> = marks(&of, &cases, 0).iter().map(|m| (m.from_us, m.to_us)).collect();
        assert_eq!(at, [(100, 125), (125, 150), (150, 175), (175, 200)]);
        // Times come out of a test's process: they may be anything.
        let huge = [told("a", u64::MAX, Ended::Passed), told("b", u64::MAX, Ended::Passed)];
        assert!(marks(&of, &huge, 0).iter().all(|m| m.from_us >= 100 && m.to_us <= 200));
        let over = place(0, 0, 10, 5, Ended::Lost);
        let count: u32 = marks(&over, &cases, 0).iter().map(|m| m.count).sum();
        assert_eq!(count, 4, "nor need the attempt's own be in order");
    }

    #[test]
    fn short_cases_become_one_mark_that_shows_the_worst_of_them() {
        let of = place(0, 0, 0, 10_000, Ended::Failed);
        let mut cases: Vec<ToldAt> = (0..1000).map(|n| told(&n.to_string(), 10, Ended::Passed)).collect();
        cases[503].ended = Ended::Failed;
        cases[504].decided = Some(Outcome::Flaky);
        let marks = marks(&of, &cases, 100);
        assert!(marks.len() <= 101, "{}", marks.len());
        assert_eq!(marks.iter().map(|m| m.count).sum::<u32>(), 1000, "none is lost");
        let bad: Vec<&str> = marks.iter().filter(|m| m.ended.failing()).map(|m| m.title.as_str()).collect();
        assert_eq!(bad, ["503"]);
    }

    #[test]
    fn the_tail_names_what_ended_last() {
        let places = [
            place(0, 1, 0, 100, Ended::Passed),
            place(1, 2, 0, 110, Ended::Passed),
            place(2, 3, 0, 90, Ended::Passed),
            place(3, 4, 50, 300, Ended::Passed),
        ];
        let tail = tail(&places, 4).expect("one test ran alone for long");
        assert_eq!((tail.from_us, tail.to_us), (110, 300));
        assert_eq!(tail.attempts, [(4, 1)]);
        assert!((busy_share(&places, 4) - 550.0 / 1200.0).abs() < 1e-9);
    }

    #[test]
    fn slots_that_end_together_have_no_tail() {
        let places: Vec<Place> = (0..4).map(|n| place(n, n, 0, 1000 + u64::from(n), Ended::Passed)).collect();
        assert_eq!(tail(&places, 4), None);
        assert_eq!(tail(&places[..1], 1), None, "one slot has no others to wait for");
        assert_eq!(tail(&[], 4), None);
    }

    #[test]
    fn slots_that_had_no_work_at_all_make_all_of_it_a_tail() {
        let places = [place(0, 1, 0, 100, Ended::Passed)];
        assert_eq!(tail(&places, 4).map(|t| (t.from_us, t.to_us)), Some((0, 100)));
    }
}
