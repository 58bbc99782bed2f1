//! What a suite says of itself: its file, its list of tests, its variants, and the patterns that pick from them; and what
//! trying it shows.

pub mod container;
#[cfg(test)]
mod containers_tests;
pub mod covers;
pub mod draft;
pub mod file;
#[cfg(test)]
mod file_tests;
pub mod listing;
pub mod pick;
mod reader;
mod reading;
pub mod secrets;
pub mod tried;
pub mod variant;

pub use file::SuiteFile;
pub use listing::ListedTest;
pub use pick::{Choice, Pattern};
pub use variant::Variant;
