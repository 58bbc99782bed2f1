//! What Kesmo decides, and nothing else.
//!
//! Values go in, values come out: no input or output, no clock, no threads. The service, the worker, the command line
//! and the simulator all carry things to this crate and away from it. A folder is a subject: [`suite`] reads what a
//! suite says of itself, [`plan`] orders and sizes the work, [`run`] is the state machine of one run, [`record`] keeps
//! what history says of a test, [`measure`] gathers the numbers that tests report, [`notice`] says who is told what, [`calendar`], [`webhook`] and
//! [`source`] say when and from what something starts by itself, and [`format`] reads and writes the open formats.

pub mod calendar;
pub mod error;
pub mod fleet;
pub mod format;
pub mod keep;
pub mod measure;
pub mod name;
pub mod notice;
pub mod plan;
pub mod pointer;
pub mod record;
pub mod request;
pub mod run;
pub mod source;
pub mod suite;
pub mod time;
pub mod webhook;
pub mod words;

pub use error::Error;
