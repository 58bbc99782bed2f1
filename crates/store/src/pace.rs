//! How much is written at once of what is written beside the work of runs, and when.

use std::{
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicU32, Ordering},
    },
    time::{Duration, Instant},
};

use tokio::sync::Notify;

use crate::Store;

/// Rows that are written by one statement at most: what waits for it is told so much later.
pub(crate) const PORTION: usize = 500;

/// A rest is no longer than this.
const LONGEST: Duration = Duration::from_millis(250);
/// What runs tell is being kept, if something was within so long.
const GOES_ON: Duration = Duration::from_millis(300);
/// What keeping takes that nothing holds up; as long as it takes that long a rest is as long as the portion before it.
const UNHINDERED: Duration = Duration::from_millis(6);
/// How many times as long as the portion before it a rest is.
const LEAST: f64 = 0.25;
const MOST: f64 = 4.0;
/// Nobody waits longer for others' portions: who writes one may wait in PostgreSQL for what the waiting one holds there.
const PATIENCE: Duration = Duration::from_secs(1);

/// What those share who write beside the work of runs.
#[derive(Debug, Default)]
pub(crate) struct Paces {
    kept: Mutex<Kept>,
    /// One portion at a time, and none before this moment.
    turn: tokio::sync::Mutex<Option<Instant>>,
    /// Those who wait for all to be written.
    waiting: AtomicU32,
    /// How many write what others wait for.
    first: AtomicU32,
    /// One of the two numbers changed.
    changed: Notify,
}

/// What is written beside the work of runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Beside {
    /// What the suite's next run waits for.
    First,
    /// What comes once nobody has anything of that kind to write.
    Then,
}

/// As long as it lives, something is being written that others wait for.
pub(crate) struct First<'a>(&'a Paces);

impl Drop for First<'_> {
    fn drop(&mut self) {
        self.0.first.fetch_sub(1, Ordering::SeqCst);
        self.0.changed.notify_waiters();
    }
}

/// How the keeping of what runs tell goes.
#[derive(Debug, Clone, Copy, Default)]
struct Kept {
    last: Option<Instant>,
    /// How long it takes, in seconds: the mean of the last few times.
    takes: f64,
}

impl Kept {
    fn take(&mut self, took: Duration, now: Instant) {
        self.last = Some(now);
        self.takes += (took.as_secs_f64() - self.takes) / 4.0;
    }

    fn goes_on(&self, now: Instant) -> bool {
        self.last.is_some_and(|last| now.duration_since(last) < GOES_ON)
    }

    /// The rest after a portion that took so long.
    fn rest(&self, portion: Duration, now: Instant) -> Duration {
        if !self.goes_on(now) {
            return Duration::ZERO;
        }
        portion.mul_f64((self.takes / UNHINDERED.as_secs_f64()).clamp(LEAST, MOST)).min(LONGEST)
    }
}

impl Paces {
    /// Something that runs told was kept, which took so long.
    pub(crate) fn kept(&self, took: Duration) {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).take(took, Instant::now());
    }

    fn hurry(of: &std::sync::Arc<Self>) -> Hurry {
        of.waiting.fetch_add(1, Ordering::SeqCst);
        of.changed.notify_waiters();
        Hurry(std::sync::Arc::clone(of))
    }

    fn writes_first(&self) -> First<'_> {
        self.first.fetch_add(1, Ordering::SeqCst);
        First(self)
    }

    fn goes_on(&self) -> bool {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).goes_on(Instant::now())
    }

    /// Waits until nobody writes anything that others wait for, or somebody waits for all.
    async fn comes_then(&self) {
        loop {
            let changed = self.changed.notified();
            if self.first.load(Ordering::SeqCst) == 0 || self.waiting.load(Ordering::SeqCst) > 0 {
                return;
            }
            changed.await;
        }
    }

    fn rest(&self, portion: Duration) -> Duration {
        if self.waiting.load(Ordering::SeqCst) > 0 {
            return Duration::ZERO;
        }
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).rest(portion, Instant::now())
    }
}

/// As long as it lives, whatever is written beside the work of runs is written without rests: somebody waits for it.
#[derive(Debug)]
pub struct Hurry(std::sync::Arc<Paces>);

impl Drop for Hurry {
    fn drop(&mut self) {
        self.0.waiting.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Store {
    /// Has what is written beside the work of runs written without rests.
    #[must_use]
    pub fn hurry(&self) -> Hurry {
        Paces::hurry(&self.paces)
    }

    /// Says that something is being written that others wait for.
    pub(crate) fn writes_first(&self) -> First<'_> {
        self.paces.writes_first()
    }

    /// Waits until a portion may be written beside the work of runs, which lets them at PostgreSQL in between: what 50,000 tests told is
    /// written in seconds, in which nothing else would be kept in time where there are few cores. While runs tell something, one portion
    /// is written at a time, and the rest after it is the longer, the longer it takes to keep what they tell.
    pub(crate) async fn turn(&self, beside: Beside) -> Turn<'_> {
        if beside == Beside::Then {
            drop(tokio::time::timeout(PATIENCE, self.paces.comes_then()).await);
        }
        if !self.paces.goes_on() {
            return Turn { paces: &self.paces, turn: None, since: Instant::now() };
        }
        let turn = tokio::time::timeout(PATIENCE, self.paces.turn.lock()).await.ok();
        if let Some(not_before) = turn.as_ref().and_then(|turn| **turn) {
            tokio::time::sleep_until(not_before.into()).await;
        }
        Turn { paces: &self.paces, turn, since: Instant::now() }
    }
}

/// As long as it lives, a portion is being written.
pub(crate) struct Turn<'a> {
    paces: &'a Paces,
    turn: Option<tokio::sync::MutexGuard<'a, Option<Instant>>>,
    since: Instant,
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        if let Some(turn) = &mut self.turn {
            let rest = self.paces.rest(self.since.elapsed());
            **turn = Some(Instant::now() + rest);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PORTION_TOOK: Duration = Duration::from_millis(20);

    #[test]
    fn the_longer_keeping_takes_the_longer_is_the_rest() {
        let now = Instant::now();
        let rest_at = |millis: u64| {
            let mut kept = Kept::default();
            (0..40).for_each(|_| kept.take(Duration::from_millis(millis), now));
            (kept.rest(PORTION_TOOK, now).as_secs_f64() * 1000.0).round()
        };
        assert_eq!((rest_at(0), rest_at(6), rest_at(12), rest_at(500)), (5.0, 20.0, 40.0, 80.0), "in milliseconds");
        let mut slow = Kept::default();
        slow.take(Duration::from_secs(9), now);
        assert_eq!(slow.rest(Duration::from_secs(1), now), LONGEST);
    }

    #[tokio::test]
    async fn what_comes_then_waits_for_what_comes_first_unless_somebody_waits_for_all() {
        let paces = std::sync::Arc::new(Paces::default());
        let soon = async || tokio::time::timeout(Duration::from_millis(20), paces.comes_then()).await.is_ok();
        assert!(soon().await);
        let first = paces.writes_first();
        assert!(!soon().await);
        let hurry = Paces::hurry(&paces);
        assert!(soon().await);
        paces.kept(Duration::from_millis(50));
        assert_eq!(paces.rest(PORTION_TOOK), Duration::ZERO);
        drop(hurry);
        assert!(!soon().await && paces.rest(PORTION_TOOK) > Duration::ZERO);
        let (waited, ()) = tokio::join!(tokio::time::timeout(Duration::from_secs(9), paces.comes_then()), async {
            tokio::task::yield_now().await;
            drop(first);
        });
        waited.expect("it goes on once nothing comes first");
    }

    #[test]
    fn where_nothing_is_kept_there_is_no_rest() {
        let now = Instant::now();
        assert_eq!(Kept::default().rest(PORTION_TOOK, now), Duration::ZERO);
        let mut kept = Kept::default();
        kept.take(Duration::from_millis(50), now);
        assert!(kept.rest(PORTION_TOOK, now + GOES_ON / 2) > Duration::ZERO);
        assert_eq!(kept.rest(PORTION_TOOK, now + GOES_ON), Duration::ZERO);
    }
}
