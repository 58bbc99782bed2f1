//! The floor: one task that owns every run engine and every worker link.
//!
//! It handles everything that has arrived, gathers what the engines want kept, writes it in one transaction, and only then
//! acknowledges, grants, publishes and answers (group commit: what is told during a commit is heard, and goes into the next one). When
//! PostgreSQL goes away the same commit is tried until it is back; workers keep what is not acknowledged meanwhile.
//!
//! [`asking`] is how others speak to it; `floor` is what it holds and its loop. What it does is told by subject: `queue` (which
//! runs are opened), `leases` (of pools and claims, beside other services), `listing` (lists of tests), `taking_up` (runs: opened, listed, planned), `keeping` (runs: fed, and what that does), `slots` (which run is given what is idle, and who gives back for it), `writing` (what was gathered is stored, a `portion` at a time, and let out), `threads` (which it has of its own), `recording` (what tests usually take), `following` (what tests print),
//! `importing` (runs that ran elsewhere), `pools` (what starts machines is told, and says), `workers` (links and slots), `figures` (what is counted for whoever watches from outside), `active` (one open run), `chain` (what stands before and after it) and `shown` (what is seen of them). [`hub`] streams changes.

pub mod active;
pub mod asking;
mod chain;
mod claims;
mod clock;
mod error;
pub mod fetching;
mod figures;
mod floor;
mod following;
pub mod hub;
pub mod importing;
mod keeping;
mod leases;
mod listing;
mod lists;
mod output;
mod pools;
mod portion;
mod queue;
mod recording;
mod says;
mod shown;
mod slots;
pub mod summary;
mod taking_up;
mod threads;
mod unopened;
mod workers;
mod writing;

pub use asking::{Ask, EntryOrder, EntryQuestion, FloorHandle};
pub use chain::Chain;
pub use clock::now;
pub use error::Error;
pub use figures::Figures;
pub use floor::{Ground, start};
pub use lists::ListAsk;
pub use output::Output;
pub use recording::{Counts, ToRecord, Told, results_of, said_to_cover, together};
pub use says::{Says, WaitingRun, Waits, Working};
pub use taking_up::{history, secrets_of};
pub use workers::NotLinked;
