//! How several runs share the slots of a pool.
//!
//! Start-time fair queueing (P. Goyal, H. M. Vin and H. Cheng, "Start-time Fair Queuing: A Scheduling Algorithm for
//! Integrated Services Packet Switching Networks", IEEE/ACM Transactions on Networking 5, 1997): a free slot goes to the
//! run whose next batch has the smallest start tag; a batch moves its run's tag on by its work divided by the run's weight.
//! So each run gets slots in proportion to its weight, none is starved, and a run that starts late, or is short, is served
//! at once instead of after those that were there before.

use crate::time::Span;

/// Where the pool's sharing stands.
#[derive(Debug, Clone, Copy, Default)]
pub struct Sharing {
    now: f64,
}

/// Where one run stands in it.
#[derive(Debug, Clone, Copy)]
pub struct Share {
    weight: u32,
    finish: f64,
}

impl Share {
    /// The share of a run that has had nothing yet.
    #[must_use]
    pub fn new(weight: u32) -> Self {
        Self { weight: weight.max(1), finish: 0.0 }
    }

    /// What this run counts.
    #[must_use]
    pub fn weight(&self) -> u32 {
        self.weight
    }
}

impl Sharing {
    /// The tag of a run's next batch: of several runs, the one with the smallest is served first.
    #[must_use]
    pub fn tag(&self, share: &Share) -> f64 {
        self.now.max(share.finish)
    }

    /// A run was given a batch that is worth so much work.
    pub fn served(&mut self, share: &mut Share, work: Span) {
        let start = self.tag(share);
        self.now = start;
        share.finish = start + work.as_seconds().max(1e-3) / f64::from(share.weight);
    }
}

/// Runs of a pool that lack slots are given those of others by and by, each time one of so many parts of what is lacking: what others
/// give back they have to start other processes for.
const PARTS_OF_LACK: u32 = 4;

/// What a run holds of its pool's slots, and what it could use.
#[derive(Debug, Clone, Copy, Default)]
pub struct Holding {
    /// What it counts beside others.
    pub weight: u32,
    /// Slots that it holds and was not asked to give up.
    pub keeps: u32,
    /// Slots that it was asked to give up, and that are not free yet.
    pub gives: u32,
    /// How many more it could put to use now.
    pub needs: u32,
}

impl Holding {
    /// Slots that it holds or could use.
    fn demand(&self) -> u32 {
        self.keeps.saturating_add(self.gives).saturating_add(self.needs)
    }
}

/// Runs of a pool beside each other, and what each lacks of its due.
#[derive(Debug, Clone)]
pub struct Beside {
    /// Each with its due, and what it lacks of it and could use.
    runs: Vec<(Holding, u32, u32)>,
}

impl Beside {
    /// Of the runs of a pool with so many slots. Each is due as many as its weight says, and no more than it holds and could use; what
    /// one does not need is the others' (weighted max-min fairness: D. Bertsekas and R. Gallager, "Data Networks", 1992, section
    /// 6.5.2), and who needs any is due one at least.
    #[must_use]
    pub fn of(slots: u32, runs: Vec<Holding>) -> Self {
        let mut order: Vec<usize> = (0..runs.len()).collect();
        let of_its_weight = |run: &Holding| f64::from(run.demand()) / f64::from(run.weight.max(1));
        order.sort_by(|a, b| of_its_weight(&runs[*a]).total_cmp(&of_its_weight(&runs[*b])));
        let mut dues = vec![0; runs.len()];
        let (mut left, mut weights) = (slots, runs.iter().map(|run| run.weight.max(1)).sum::<u32>());
        for place in order {
            let (demand, weight) = (runs[place].demand(), runs[place].weight.max(1));
            let share = (u64::from(left) * u64::from(weight) / u64::from(weights)) as u32;
            dues[place] = demand.min(share.max(1));
            (left, weights) = (left.saturating_sub(dues[place]), weights - weight);
        }
        let beside = |(run, due): (Holding, u32)| (run, due, due.saturating_sub(run.keeps).min(run.needs));
        Self { runs: runs.into_iter().zip(dues).map(beside).collect() }
    }

    /// How many slots are a run's due.
    #[must_use]
    pub fn due(&self, run: usize) -> u32 {
        self.runs[run].1
    }

    /// How many slots it lacks of its due, of those that it could use.
    #[must_use]
    pub fn lacks(&self, run: usize) -> u32 {
        self.runs[run].2
    }

    /// How many slots each run is to be asked for by those that have lacked some for `long`: those with the most beyond their own due
    /// are asked first, none for what is its due, and nothing is asked for twice.
    #[must_use]
    pub fn asked(&self, long: impl Fn(usize) -> bool) -> Vec<u32> {
        // What was asked for before and did not come yet is for some of them.
        let mut coming: u32 = self.runs.iter().map(|(run, ..)| run.gives).sum();
        let mut wanted = 0;
        for (_, (.., lacks)) in self.runs.iter().enumerate().filter(|(run, (.., lacks))| *lacks > 0 && long(*run)) {
            let come = coming.min(*lacks);
            coming -= come;
            wanted += (lacks - come).div_ceil(PARTS_OF_LACK);
        }
        let mut beyond: Vec<(u32, usize)> = self
            .runs
            .iter()
            .enumerate()
            .map(|(run, (holds, due, _))| (holds.keeps.saturating_sub(*due), run))
            .collect();
        beyond.sort_unstable_by_key(|(beyond, run)| (std::cmp::Reverse(*beyond), *run));
        let mut asked = vec![0; self.runs.len()];
        for (beyond, run) in beyond {
            asked[run] = wanted.min(beyond);
            wanted -= asked[run];
        }
        asked
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Deals single slots out, each batch a second, to runs of these weights; tells how many each got.
    fn dealt(weights: &[u32], rounds: usize) -> Vec<usize> {
        let mut sharing = Sharing::default();
        let mut shares: Vec<Share> = weights.iter().map(|w| Share::new(*w)).collect();
        let mut got = vec![0; weights.len()];
        for _ in 0..rounds {
            let next = (0..shares.len())
                .min_by(|a, b| sharing.tag(&shares[*a]).total_cmp(&sharing.tag(&shares[*b])))
                .expect("there are runs");
            sharing.served(&mut shares[next], Span::seconds(1));
            got[next] += 1;
        }
        got
    }

    #[test]
    fn slots_are_shared_in_proportion_to_weight_and_nobody_starves() {
        assert_eq!(dealt(&[1, 1], 100), [50, 50]);
        let got = dealt(&[1, 4, 16], 210);
        assert!((9..=11).contains(&got[0]) && (38..=42).contains(&got[1]), "{got:?}");
    }

    #[test]
    fn a_run_that_comes_late_is_served_at_once_and_does_not_catch_up_at_others_cost() {
        let mut sharing = Sharing::default();
        let mut nightly = Share::new(4);
        for _ in 0..1000 {
            sharing.served(&mut nightly, Span::seconds(30));
        }
        let mut short = Share::new(4);
        assert!(sharing.tag(&short) < sharing.tag(&nightly));
        sharing.served(&mut short, Span::seconds(30));
        sharing.served(&mut nightly, Span::seconds(30));
        assert!(sharing.tag(&short) <= sharing.tag(&nightly), "they take turns from here");
        sharing.served(&mut short, Span::seconds(30));
        assert!(sharing.tag(&nightly) <= sharing.tag(&short));
    }

    #[test]
    fn what_is_due_follows_the_weights_and_what_each_needs() {
        let dues = |slots: u32, runs: &[(u32, u32, u32)]| {
            let beside =
                Beside::of(slots, runs.iter().map(|(w, keeps, needs)| holding(*w, *keeps, 0, *needs)).collect());
            (0..runs.len()).map(|run| beside.due(run)).collect::<Vec<_>>()
        };
        assert_eq!(dues(8, &[(4, 0, 99), (4, 0, 99)]), [4, 4]);
        assert_eq!(dues(8, &[(16, 0, 99), (4, 8, 0)]), [7, 1]);
        assert_eq!(dues(8, &[(1, 0, 99), (16, 0, 99)]), [1, 7], "each is due one");
        assert_eq!(dues(0, &[(1, 0, 99)]), [1]);
        // Who holds all that it can use, and who is nearly over, leave the rest to the others.
        assert_eq!(dues(100, &[(4, 50, 0), (4, 50, 0), (4, 0, 900)]), [33, 33, 34]);
        assert_eq!(dues(100, &[(4, 3, 0), (4, 90, 0), (4, 0, 900)]), [3, 48, 49]);
        assert_eq!(dues(100, &[(4, 0, 0), (4, 10, 900)]), [0, 100]);
        assert_eq!(dues(u32::MAX, &[(u32::MAX / 2, 1, u32::MAX), (1, 0, u32::MAX)]).len(), 2, "as large as can be");
    }

    fn holding(weight: u32, keeps: u32, gives: u32, needs: u32) -> Holding {
        Holding { weight, keeps, gives, needs }
    }

    #[test]
    fn who_lacks_slots_has_those_beyond_their_due_asked_for_a_part_of_it() {
        let beside = Beside::of(100, vec![holding(4, 100, 0, 0), holding(4, 0, 0, 500)]);
        assert_eq!([beside.due(1), beside.lacks(0), beside.lacks(1)], [50, 0, 50]);
        assert_eq!(beside.asked(|run| run == 1), [13, 0], "a quarter");
        assert_eq!(beside.asked(|_| false), [0, 0], "not at once");
        // Of what was asked for before, nothing is asked for again.
        let beside = Beside::of(100, vec![holding(4, 87, 13, 0), holding(4, 0, 0, 500)]);
        assert_eq!(beside.asked(|_| true), [10, 0]);
        let beside = Beside::of(100, vec![holding(4, 50, 50, 0), holding(4, 0, 0, 500)]);
        assert_eq!(beside.asked(|_| true), [0, 0], "all of it is on its way");
    }

    #[test]
    fn nobody_is_asked_for_more_than_can_be_used_nor_for_what_is_its_due() {
        let beside = Beside::of(100, vec![holding(4, 100, 0, 0), holding(4, 0, 0, 3)]);
        assert_eq!((beside.lacks(1), beside.asked(|_| true)), (3, vec![1, 0]));
        // What waits for a claim could use nothing, and takes nothing of others' due.
        let beside = Beside::of(100, vec![holding(4, 100, 0, 0), holding(4, 0, 0, 0)]);
        assert_eq!([beside.due(0), beside.lacks(1)], [100, 0]);
        // Who has the most beyond its due is asked first, and then who comes next.
        let beside = Beside::of(90, vec![holding(4, 31, 0, 0), holding(4, 59, 0, 0), holding(4, 0, 0, 90)]);
        assert_eq!(beside.asked(|_| true), [0, 8, 0]);
        let beside = Beside::of(12, vec![holding(1, 7, 0, 0), holding(1, 5, 0, 0), holding(10, 0, 0, 12)]);
        assert_eq!((beside.lacks(2), beside.asked(|_| true)), (10, vec![3, 0, 0]));
        let beside = Beside::of(3, vec![holding(1, 2, 0, 0), holding(1, 1, 0, 0), holding(10, 0, 0, 2)]);
        assert_eq!(beside.asked(|_| true), [1, 0, 0], "each keeps one");
        // Several that lack some are served together.
        let beside = Beside::of(40, vec![holding(1, 40, 0, 0), holding(1, 0, 0, 9), holding(1, 0, 0, 9)]);
        assert_eq!(beside.asked(|_| true), [6, 0, 0]);
    }
}
