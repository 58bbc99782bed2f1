//! Measures: numbers that tests report as they run, gathered over all slots of a run.
//!
//! Count, errors, sum, smallest and largest are exact. How values are spread is kept in histograms whose buckets are at most 1 % wide (High Dynamic Range
//! histograms, G. Tene, with two significant digits), so that those of many slots and seconds can be put together without loss.

pub mod gathered;
pub mod limit;
pub mod spread;
pub mod stat;

pub use gathered::{Gathered, Gathering, Measure, Measured, Part, Point, Taken, left_out_said};
pub use limit::Limit;
pub use spread::{Counts, Sample, Spread};
pub use stat::Stat;
