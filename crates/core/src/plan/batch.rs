//! How much work a slot draws at once.
//!
//! Guided self-scheduling (C. D. Polychronopoulos and D. J. Kuck, "Guided Self-Scheduling: A Practical Scheduling Scheme
//! for Parallel Supercomputers", IEEE Transactions on Computers 36, 1987): a batch is a share of what is left, so that
//! batches are large while there is much to do and small near the end, and no slot ends last by much.

use crate::time::Span;

/// A batch is worth at least this much work, so that starting its process stays a small part.
pub const FLOOR: Span = Span::millis(200);

/// The work a batch aims at: a half of an even share of what is left, or two thirds where all durations are known; at
/// least [`FLOOR`], but never more than an even share.
#[must_use]
pub fn target(left: Span, slots: u32, known: bool) -> Span {
    let slots = u64::from(slots.max(1));
    let share = if known { left.0 * 2 / (3 * slots) } else { left.0 / (2 * slots) };
    let even = left.0.div_ceil(slots);
    Span(share.max(FLOOR.0).min(even))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn batches_shrink_with_what_is_left() {
        assert_eq!(target(Span::seconds(100), 10, false), Span::seconds(5));
        assert_eq!(target(Span::seconds(30), 10, true), Span::seconds(2));
        assert_eq!(target(Span::seconds(3), 10, false), FLOOR);
    }

    #[test]
    fn the_floor_never_takes_more_than_an_even_share() {
        assert_eq!(target(Span::millis(200), 2, true), Span::millis(100));
        assert_eq!(target(Span::ZERO, 0, false), Span::ZERO);
    }
}
