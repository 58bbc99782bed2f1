//! Pools that start their own machines: what one is ([`pool`]), what is asked of a CI server and read of its answers ([`ci`]), and
//! how many machines are wanted now ([`deciding`]).

pub mod ci;
pub mod deciding;
pub mod pool;

pub use deciding::{Decision, Demand, Limits, Machine, State, decide, pause_after};
pub use pool::{CiPool, ClusterPool, EnginePool, How, Pool};
