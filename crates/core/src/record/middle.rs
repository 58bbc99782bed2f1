//! The middle of some values.

/// The median; the mean of the two middle ones of an even number, zero of none.
#[must_use]
pub fn median(values: &mut [u64]) -> u64 {
    values.sort_unstable();
    match values.len() {
        0 => 0,
        n if n % 2 == 1 => values[n / 2],
        n => u64::midpoint(values[n / 2 - 1], values[n / 2]),
    }
}
