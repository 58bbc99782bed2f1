//! A simulated fleet on a simulated clock.
//!
//! [`simulate`] carries one run through the real engine: workers with slots run batches, messages take time, are repeated
//! after cuts, workers die, and the service is killed between commits and built again from what was kept. While it does so
//! it checks what the engine promises (see `kesmo_core::run`) and answers with the first promise that was broken.

mod random;
mod world;

pub use random::Random;
pub use world::{Faults, Outcomes, Report, Scenario, simulate};
