//! A simulated fleet on a simulated clock.
//!
//! [`simulate`] carries runs through the real engine: workers with slots run batches, messages take time, are repeated
//! after cuts, workers die, and the service is killed between commits and built again from what was kept. While it does so
//! it checks what the engine promises (see `kesmo_core::run`) and answers with the first promise that was broken.
//!
//! [`left`] holds the engine's ranges for the time left against the truth.
//!
//! [`pools`] holds how many machines a pool starts against the best that is known afterwards.
//!
//! [`past`] makes believable runs of the past, for demonstrations and measurements.
//!
//! [`forecast`] answers how long a run would take by number of slots, with the same engine and no faults.

mod cases;
pub mod forecast;
mod ledger;
pub mod left;
pub mod past;
pub mod pools;
mod random;
mod scenario;
mod world;

pub use random::Random;
pub use scenario::{Faults, Outcomes, Report, Scenario, anything, parts, scenario};
pub use world::simulate;
