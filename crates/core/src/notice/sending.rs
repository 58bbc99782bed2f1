//! When something is sent again that did not get through.

use crate::time::Span;

/// What is not taken for so long, counted from when it was made, is given up.
pub const GIVEN_UP_AFTER: Span = Span::seconds(24 * 3600);
/// The first pause, what each is longer than the one before, and the longest, in seconds.
const FIRST: u64 = 2;
const LONGER: u64 = 4;
const LONGEST: u64 = 6 * 3600;

/// How long to wait after so many tries, from 1; none once it is given up: `age` is the time since it was made.
///
/// 2 s, 8 s, 32 s, 2 m 08 s, 8 m 32 s, 34 m 08 s, 2 h 16 m 32 s, then 6 h: eleven tries within a day.
#[must_use]
pub fn pause_after(tries: u32, age: Span) -> Option<Span> {
    let pause = FIRST.saturating_mul(LONGER.saturating_pow(tries.saturating_sub(1))).min(LONGEST);
    let pause = Span::seconds(pause);
    (age + pause <= GIVEN_UP_AFTER).then_some(pause)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_and_end_within_a_day() {
        let (mut age, mut tries, mut pauses) = (Span::ZERO, 1, Vec::new());
        while let Some(pause) = pause_after(tries, age) {
            (age, tries) = (age + pause, tries + 1);
            pauses.push(pause.0 / 1_000_000);
        }
        assert_eq!(pauses, [2, 8, 32, 128, 512, 2048, 8192, 21_600, 21_600, 21_600]);
        assert!(age <= GIVEN_UP_AFTER && tries == 11);
        assert_eq!(pause_after(u32::MAX, Span::ZERO), Some(Span::seconds(LONGEST)));
        assert_eq!(pause_after(1, GIVEN_UP_AFTER), None);
    }
}
