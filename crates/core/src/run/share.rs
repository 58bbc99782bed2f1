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

/// The slots that are a run's due beside others: in proportion to its weight, and at least one.
#[must_use]
pub fn due(slots: u32, weight: u32, all_weights: u32) -> u32 {
    (u64::from(slots) * u64::from(weight) / u64::from(all_weights.max(1))).max(1) as u32
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
    fn what_is_due_follows_the_weights() {
        assert_eq!([due(8, 4, 8), due(8, 16, 20), due(8, 1, 17), due(0, 1, 0)], [4, 6, 1, 1]);
    }
}
