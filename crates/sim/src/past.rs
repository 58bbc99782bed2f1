//! Believable runs of the past, carried out by the real engine on a simulated fleet: tests that break and are mended, that wobble for
//! a reason or for none, that become slower for good. For demonstrations and measurements, and marked as made wherever they go.

use kesmo_core::{
    plan::Plan,
    run::{AttemptKept, AttemptStats, Effect, Engine, Grant, Policy, Tally, WorkerId},
    time::{Span, Timestamp},
    words::{Ended, Verdict},
};

use crate::{
    forecast::{At, carry},
    random::Random,
};

/// Why a test fails now and then.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Wobble {
    /// In a share of its attempts, whatever is around it.
    Always(f64),
    /// Only on the slots of one worker.
    OnWorker(u32, f64),
    /// Only at some hours of the day, from and to.
    AtHours(u32, u32, f64),
    /// From one share at the first day to another at the last.
    Changing(f64, f64),
}

/// How a test behaves over the days of a past, which are counted from 0.
#[derive(Debug, Clone, PartialEq)]
pub struct Character {
    /// What it takes, and how far that differs from run to run, as the deviation of its logarithm.
    pub usual: Span,
    pub spread: f64,
    pub wobble: Option<Wobble>,
    /// It fails from the one day to the other.
    pub broken: Vec<(f64, f64)>,
    /// From that day on it takes so many times as long.
    pub slower: Option<(f64, f64)>,
    /// What it says when it fails.
    pub says: String,
}

/// The moment of a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment {
    /// Days since the past begins.
    pub day: f64,
    /// The hour of the day, and the length of the past in days.
    pub hour: u32,
    pub days: f64,
}

/// The fleet that carries runs out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fleet {
    pub slots: u32,
    /// Slots of each worker.
    pub of_worker: u32,
    /// What starting a process costs.
    pub start: Span,
}

/// An attempt, as it is kept, and when it began, in microseconds since its run began.
#[derive(Debug, Clone, Copy)]
pub struct PastAttempt {
    pub kept: AttemptKept,
    pub began: Span,
}

/// A run of the past.
#[derive(Debug, Clone)]
pub struct PastRun {
    /// With when each was granted, since the run began.
    pub batches: Vec<(Grant, Span)>,
    pub attempts: Vec<PastAttempt>,
    pub tally: Tally,
    pub stats: AttemptStats,
    pub verdict: Verdict,
    pub reason: String,
    pub took: Span,
}

/// Carries a run of a plan out, at a moment of the past; the same seed gives the same run.
///
/// # Panics
/// If there is not a character for each entry.
#[must_use]
pub fn past_run(
    plan: &Plan,
    policy: Policy,
    characters: &[&Character],
    at: Moment,
    fleet: Fleet,
    seed: u64,
) -> PastRun {
    assert_eq!(characters.len(), plan.entries.len(), "a character for each entry");
    let mut random = Random::new(seed);
    // Machines are busier on some days than on others.
    let pace = (0.05 * random.normal()).exp();
    // Nor do the same slots come first every time.
    let turn = random.below(u64::from(fleet.slots)) as u32 / fleet.of_worker * fleet.of_worker;
    let turned = move |slot: u32| (slot + turn) % fleet.slots;
    let mut attempt = |one: At| {
        let c = characters[one.entry as usize];
        let slower = c.slower.filter(|(day, _)| at.day >= *day).map_or(1.0, |(_, times)| times);
        let takes = c.usual.0 as f64 * slower * pace * (c.spread * random.normal()).exp();
        let broken = c.broken.iter().any(|(from, to)| (*from..*to).contains(&at.day));
        let share = match c.wobble {
            None => 0.0,
            Some(Wobble::Always(share)) => share,
            Some(Wobble::OnWorker(worker, share)) if turned(one.slot) / fleet.of_worker == worker => share,
            Some(Wobble::AtHours(from, to, share)) if (from..to).contains(&at.hour) => share,
            Some(Wobble::OnWorker(..) | Wobble::AtHours(..)) => 0.0,
            Some(Wobble::Changing(first, last)) => first + (last - first) * at.day / at.days.max(1.0),
        };
        let failed = broken || random.chance(share);
        (if failed { Ended::Failed } else { Ended::Passed }, Span(takes.max(50.0) as u64))
    };
    let (mut batches, mut attempts): (Vec<(Grant, Span)>, Vec<PastAttempt>) = (Vec::new(), Vec::new());
    let since = |now: Timestamp| now.since(Timestamp(0));
    let effects = |effect: &Effect, now: Timestamp| match effect {
        Effect::Grant(grant) => {
            let worker = WorkerId(turned(grant.worker.0));
            batches.push((Grant { worker, ..grant.clone() }, since(now)));
        }
        Effect::GaveBack { batch, left } => {
            if let Some((grant, _)) = batches.iter_mut().find(|(grant, _)| grant.batch == *batch) {
                grant.entries.clone_from(left);
            }
        }
        Effect::Attempt(kept) => {
            let began = Span(since(now).0.saturating_sub(kept.spent.0));
            let worker = WorkerId(turned(kept.worker.0));
            attempts.push(PastAttempt { kept: AttemptKept { worker, ..*kept }, began });
        }
        _ => {}
    };
    let mut last = (Tally::default(), AttemptStats::default(), Verdict::Void, String::new(), Span::ZERO);
    let watch = |engine: &Engine, now: Timestamp| {
        if let Some((verdict, reason)) = engine.verdict() {
            last = (engine.tally(), engine.stats(), verdict, reason.to_owned(), since(now));
        }
    };
    carry(plan, policy, fleet.slots, fleet.start, &mut attempt, watch, effects);
    let (tally, stats, verdict, reason, took) = last;
    PastRun { batches, attempts, tally, stats, verdict, reason, took }
}

#[cfg(test)]
mod tests {
    use super::*;
    use kesmo_core::{name::TestName, plan::PlannedEntry, suite::Variant};

    fn character(wobble: Option<Wobble>) -> Character {
        Character {
            usual: Span::millis(100),
            spread: 0.1,
            wobble,
            broken: Vec::new(),
            slower: None,
            says: String::new(),
        }
    }

    fn runs(characters: &[Character], days: u32) -> Vec<PastRun> {
        let names = (0..characters.len()).map(|n| TestName::parse(&format!("t/{n}")).expect("a name"));
        let entries: Vec<PlannedEntry> = names.map(|n| PlannedEntry { retries: 1, ..PlannedEntry::plain(n) }).collect();
        let plan = Plan {
            variants: vec![Variant::default()],
            claim_sets: vec![Vec::new()],
            listed: entries.len(),
            entries,
            ..Plan::default()
        };
        let fleet = Fleet { slots: 4, of_worker: 2, start: Span::millis(20) };
        let policy = Policy {
            other_worker: true,
            pause: Span::millis(100),
            run_limit: Span::seconds(10_000),
            patience: Span::seconds(10_000),
            ..Policy::default()
        };
        let of: Vec<&Character> = characters.iter().collect();
        let day = |n: u32| {
            let at = Moment { day: f64::from(n), hour: 2, days: f64::from(days) };
            past_run(&plan, policy.clone(), &of, at, fleet, u64::from(n) + 1)
        };
        (0..days).map(day).collect()
    }

    #[test]
    fn a_broken_test_fails_from_day_to_day_and_the_run_with_it() {
        let mut broken = character(None);
        broken.broken = vec![(3.0, 5.0)];
        let all = runs(&[broken, character(None), character(None)], 8);
        let verdicts: Vec<bool> = all.iter().map(|r| r.verdict == Verdict::Failed).collect();
        assert_eq!(verdicts, [false, false, false, true, true, false, false, false]);
        assert!(all.iter().all(|r| r.tally.total() == 3 && r.took > Span::millis(100)));
        assert_eq!(all[3].attempts.iter().filter(|a| a.kept.ended == Ended::Failed).count(), 2, "it was retried");
    }

    #[test]
    fn a_test_that_wobbles_on_one_worker_fails_nowhere_else() {
        let all = runs(&[character(Some(Wobble::OnWorker(1, 0.9))), character(None), character(None)], 60);
        let failed: Vec<u32> = all
            .iter()
            .flat_map(|r| &r.attempts)
            .filter(|a| a.kept.ended == Ended::Failed)
            .map(|a| a.kept.worker.0 / 2)
            .collect();
        assert!(failed.len() > 10 && failed.iter().all(|worker| *worker == 1), "{failed:?}");
    }

    #[test]
    fn a_retry_that_is_to_go_elsewhere_finds_a_slot() {
        let characters: Vec<Character> = (0..12).map(|_| character(Some(Wobble::Always(0.3)))).collect();
        for run in runs(&characters, 40) {
            assert!(run.took < Span::seconds(5) && run.tally.not_run == 0, "{:?} {:?}", run.took, run.tally);
        }
    }

    #[test]
    fn what_becomes_slower_stays_so_and_the_same_seed_gives_the_same() {
        let mut slower = character(None);
        slower.slower = Some((10.0, 3.0));
        let all = runs(&[slower.clone()], 20);
        let took: Vec<u64> = all.iter().map(|r| r.attempts[0].kept.spent.0).collect();
        assert!(took[..10].iter().all(|us| *us < 180_000) && took[10..].iter().all(|us| *us > 180_000), "{took:?}");
        let again: Vec<u64> = runs(&[slower], 20).iter().map(|r| r.attempts[0].kept.spent.0).collect();
        assert_eq!(took, again);
    }
}
