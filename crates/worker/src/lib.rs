//! The worker: takes batches over its link, runs them in processes of their own, reads results as they appear, and
//! reports them until the service has stored them. It never sees the store.
//!
//! [`link`](self) talks to the service, [`Slots`] has the slots, with a link or without, `source` fetches and prepares a
//! suite's files once, `batch` runs a batch,
//! `progress` attributes results to tests, `process` starts processes and ends whole trees of them, `capture` keeps what
//! they print within bounds, and `files` finds what they leave behind.

mod address;
mod batch;
mod capture;
mod cases;
mod clock;
mod config;
mod error;
mod exit;
mod feeding;
mod files;
mod hearing;
mod home;
mod images;
mod link;
pub mod mask;
mod process;
mod progress;
mod reaching;
mod reading;
mod running;
mod slots;
mod source;
mod uploads;
mod user;

pub use clock::now_us;
pub use config::Config;
pub use error::Error;
pub use hearing::{Heard, Hearing};
pub use home::{Home, home_mark, take_home};
pub use kesmo_engine::{Engine as ContainerEngine, NONE as NO_ENGINE};
pub use link::run;
pub use slots::{Closing, Slots};
