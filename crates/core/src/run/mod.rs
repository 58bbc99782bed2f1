//! The run engine: one deterministic state machine for each run.
//!
//! It takes [`Input`]s with the time at which they are handled and returns [`Effect`]s: rows to write, batches to grant,
//! stops to send, changes to publish. The same inputs give the same effects. What it promises:
//!
//! - every entry ends with exactly one outcome;
//! - no attempt is counted twice, and none that was reported is lost;
//! - an entry never has more attempts that count than its retries allow, but for a part of a file of which cases were known that
//!   are not told of: all of the file runs once more then; a lost attempt does not count;
//! - members of a group run in listed order in one batch; entries that share a claim never overlap;
//! - a retry goes to another worker where the suite asks for it and one is there;
//! - senders of a load begin together, and none of them alone after another went away;
//! - no case that a file told of is lost or counted twice, whichever attempt, worker or service dies, and whatever was known of a file
//!   that is cut: each case that there is runs in one of its parts, and what is new in the last, where the suite can run it so;
//! - the run ends: no state waits for something that cannot happen.
//!
//! Beside it: [`imported`] carries runs whose tests ran elsewhere, [`share`] deals a pool's slots out to several runs, [`load`] tells when a machine has too many slots,
//! [`hunt`] looks for the reason of a failure, [`proving`] repeats a test until it is sure
//! that it is mended, or not, and [`since`] looks for the commit that broke it.

pub mod cases;
mod engine;
#[cfg(test)]
mod feeding_tests;
pub mod figures;
#[cfg(test)]
mod files_tests;
mod fleet;
pub mod hunt;
pub mod imported;
mod left;
pub mod load;
#[cfg(test)]
mod parts_tests;
pub mod proving;
mod ready;
#[cfg(test)]
mod senders_tests;
pub mod share;
pub mod since;
mod terms;
#[cfg(test)]
mod tests;
pub mod timeline;
mod together;

pub use engine::{Engine, preparing::Prepared};
pub use left::TimeLeft;
pub use terms::{
    AttemptKept, AttemptStats, BatchEnd, BatchId, Cores, Effect, Fit, Grant, Input, MOST_BARREN_BATCHES,
    MOST_LOST_IN_A_ROW, PastAttempt, PastBatch, Policy, Tally, ToRun, WorkerId,
};
