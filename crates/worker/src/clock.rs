//! The worker's clock, and marks that tell one process from another.

/// 16 random hexadecimal digits.
pub(crate) fn random_mark() -> String {
    let mut bytes = [0u8; 8];
    // Marks tell processes apart; without random numbers from the system that cannot be done safely.
    getrandom::fill(&mut bytes).expect("the operating system gives random numbers");
    hex::encode(bytes)
}

/// Microseconds since 1970, by a clock that is not set while the worker runs: times between two of these are true.
#[must_use]
pub fn now_us() -> i64 {
    use std::{sync::LazyLock, time::Instant};
    static BEGAN: LazyLock<(Instant, i64)> = LazyLock::new(|| (Instant::now(), wall_us()));
    BEGAN.1.saturating_add(i64::try_from(BEGAN.0.elapsed().as_micros()).unwrap_or(i64::MAX))
}

/// How far the machine's clock is before [`now_us`], in microseconds: it may have been set since.
pub(crate) fn skew_us() -> i64 {
    wall_us() - now_us()
}

/// Microseconds since 1970 by the machine's clock, which dates files.
pub(crate) fn wall_us() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}
