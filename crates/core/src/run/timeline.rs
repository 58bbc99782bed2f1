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
                if rank(&block) > rank(last) {
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

fn rank(block: &Block) -> u8 {
    match (block.ended, block.outcome) {
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
