//! The floor's clock: durations are true whatever the machine's clock is set to, and moments are told by the machine's clock.

use std::{
    sync::{
        LazyLock,
        atomic::{AtomicI64, Ordering},
    },
    time::Instant,
};

use chrono::{DateTime, Utc};
use kesmo_core::time::Timestamp;

/// When this process began, by both clocks.
static BEGAN: LazyLock<(Instant, i64)> = LazyLock::new(|| (Instant::now(), Utc::now().timestamp_micros()));

/// How far the machine's clock is before the floor's, in microseconds. Taken anew only when it was set, so that a moment that
/// is told twice is told the same.
static SKEW: AtomicI64 = AtomicI64::new(0);
const SET_US: i64 = 500_000;

/// The current time as the core counts it. It never jumps: it goes on from when the process began.
#[must_use]
pub fn now() -> Timestamp {
    Timestamp(BEGAN.1.saturating_add(i64::try_from(BEGAN.0.elapsed().as_micros()).unwrap_or(i64::MAX)))
}

fn skew() -> i64 {
    skew_at(Utc::now().timestamp_micros(), now().0, &SKEW)
}

fn skew_at(wall: i64, floor: i64, kept: &AtomicI64) -> i64 {
    let (is, was) = (wall.saturating_sub(floor), kept.load(Ordering::Relaxed));
    if is.abs_diff(was) > SET_US as u64 {
        kept.store(is, Ordering::Relaxed);
        is
    } else {
        was
    }
}

/// A moment of the floor's clock as the machine's clock says it now.
#[must_use]
pub fn told(moment: Timestamp) -> DateTime<Utc> {
    Timestamp(moment.0.saturating_add(skew())).utc()
}

/// A moment of the machine's clock, as rows have it, by the floor's.
#[must_use]
pub fn from_row(moment: DateTime<Utc>) -> Timestamp {
    Timestamp(moment.timestamp_micros().saturating_sub(skew()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_that_is_set_moves_what_is_told_and_no_duration() {
        let kept = AtomicI64::new(0);
        assert_eq!(skew_at(1_000_300, 1_000_000, &kept), 0, "what drifts is not followed");
        assert_eq!(skew_at(18_001_000_000, 1_000_000, &kept), 18_000_000_000, "five hours forward");
        assert_eq!(skew_at(18_002_000_000, 2_000_100, &kept), 18_000_000_000);
        let before = now();
        assert!(now().since(before).0 < 60_000_000 && from_row(told(before)).0.abs_diff(before.0) < 2_000_000);
    }
}
