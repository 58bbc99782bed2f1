//! Notices: who is told what, when, and in which words.
//!
//! [`rule`] is what somebody asked to be told, [`event`] what happened and whether that concerns a rule, [`telling`] the words and bodies that go out,
//! and [`sending`] when something is sent again that did not get through.

pub mod event;
pub mod known;
pub mod rule;
pub mod sending;
pub mod telling;

pub use event::{Cause, Event, Happened, RunFacts, TestFact};
pub use rule::{Digest, Notice, Quiet, To, When};
pub use telling::{Message, Sample};
