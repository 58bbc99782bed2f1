//! What crosses the network: [`api`] types, the messages of the worker [`link`], and the changes of [`live`] views.

pub mod api;
pub mod cases;
mod digest;
pub mod imports;
pub mod link;
pub mod live;
pub mod reach;

pub use digest::{Digest, NotADigest};

/// The port on which the service listens unless told otherwise.
pub const DEFAULT_PORT: u16 = 7215;
