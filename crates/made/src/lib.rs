//! Made runs of the past: what `kesmo_sim::past` carries out, written as the rows that a service would have written. Each has the
//! label `made=history` and is told to the records by the service, as runs are that it did not get to.

pub mod quay;
pub mod suites;
pub mod writing;
