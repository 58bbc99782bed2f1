//! Container engines, by the API that the open-source ones share (Docker's, version 1.41, which Podman serves too): images,
//! builds and containers.
//!
//! What an engine makes for a worker carries the worker's [`Marks`], so that nothing stays behind: whoever comes after a worker
//! that was killed finds and removes it.

mod boxed;
mod engine;
mod image;
mod machine;
mod memory;

pub use boxed::{Boxed, Exit, Input, Mount, Output, Spec};
pub use engine::{Engine, Error, Marks, NONE, Work, usual};
pub use image::Build;
pub use machine::{MachineSpec, SeenMachine};
