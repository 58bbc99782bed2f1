//! From lists of tests to the entries of a run: choosing, rules, parks, expected durations; the sizes of batches; and
//! fixed shares, portions.

pub mod batch;
pub mod brief;
mod covering;
pub mod cutting;
mod making;
mod only;
mod options;
mod planned;
pub mod portion;
#[cfg(test)]
mod tests;

pub use covering::CoverSets;
pub use making::{FIRST_FAILED_SHARE, MOST_ENTRIES};
pub use only::{At, Only};
pub use options::{
    Alike, CasesOf, DEFAULT_RETRIES, MOST_REPEATS, MOST_SHARDS, Priority, RunOptions, check_label, choice_said,
};
pub use planned::{Known, Park, PartOf, Plan, PlannedEntry, RetriesFrom};
