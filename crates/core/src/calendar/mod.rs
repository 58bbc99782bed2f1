//! When runs start by themselves: times, zones, and the rules for what is busy or was missed.
//!
//! Nothing here asks a clock: the moment is handed in. [`cron`] reads expressions, [`zone`] knows how clocks are moved,
//! and [`schedule`] decides what is due, what becomes of it, and when the next start is.

pub mod cron;
pub mod schedule;
pub mod zone;
