//! What a run is made of: causes, shards, variants, the timeline, the record of a test.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use kesmo_core::{
    name::shorten,
    record::Cause,
    run::Tally,
    run::timeline::{Block, CaseMark, Tail},
    words::Outcome,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Failures that look as if they had one cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CauseOf {
    /// The message without what differs from one failure to the next.
    pub likeness: String,
    pub example: String,
    /// How many tests or cases failed so, and how many of those were flaky in the end.
    pub count: u32,
    pub flaky: u32,
    /// The first of them: the entry's index, and the name of it or of its case.
    pub tests: Vec<(u32, String)>,
}

impl CauseOf {
    /// Tests that a cause names.
    const MOST_NAMED: usize = 20;

    /// A cause of a run, with what is known of its entries.
    pub fn new(cause: Cause<Failing>, name: impl Fn(u32) -> String, is_flaky: impl Fn(u32) -> bool) -> Self {
        let whole = |of: &Failing| match &of.case {
            Some(title) => format!("{}/{title}", name(of.entry)),
            None => name(of.entry),
        };
        Self {
            count: cause.members.len() as u32,
            flaky: cause.members.iter().filter(|of| of.case.is_none() && is_flaky(of.entry)).count() as u32,
            tests: cause.members.iter().take(Self::MOST_NAMED).map(|of| (of.entry, whole(of))).collect(),
            likeness: cause.likeness,
            example: shorten(&cause.example, 500),
        }
    }
}

/// What failed: an entry, or a case of one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failing {
    pub entry: u32,
    pub case: Option<String>,
}

/// What one slot carried out of a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Shard {
    /// From 1, in the order in which slots got their first batch.
    pub number: u32,
    pub worker: String,
    pub slot: u32,
    pub batches: Vec<ShardBatch>,
}

/// A batch of a shard.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShardBatch {
    pub number: u32,
    /// Names and variants, in the order in which they ran.
    pub entries: Vec<(String, String)>,
}

/// Results side by side, by variant.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Variants {
    pub variants: Vec<VariantOf>,
    /// Tests whose outcomes are not the same in all variants, with an outcome for each variant that has the test.
    pub differing: Vec<Differing>,
    /// How many differ; `differing` holds at most 200.
    pub total: u32,
}

/// The outcomes of one variant.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VariantOf {
    pub variant: String,
    pub tally: Tally,
    pub spent_us: u64,
}

/// A test whose outcomes differ.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Differing {
    pub test: String,
    /// Index of the entry and its outcome, by variant.
    pub entries: Vec<Option<(u32, Option<Outcome>)>>,
}

/// What each slot of a run did when, in blocks of bounded number. Times are microseconds from the beginning of the run.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Timeline {
    pub began_at: Option<DateTime<Utc>>,
    /// The slots, in order: worker and number; a block's `lane` counts in this list from 0.
    pub lanes: Vec<(String, u32)>,
    pub blocks: Vec<Block>,
    /// The cases of files, of those attempts that are long enough for them to be told apart; at most 20,000 cases of 200
    /// attempts, the longest.
    #[serde(default)]
    #[schema(required)]
    pub cases: Vec<CaseMark>,
    /// The names of the entries that blocks and the tail name, by index.
    #[schema(value_type = BTreeMap<String, String>)]
    pub names: BTreeMap<u32, String>,
    pub from_us: u64,
    /// The end of the run, or now.
    pub to_us: u64,
    /// The share of the slots' time that tests ran in.
    pub busy: f64,
    /// What held up the end, if something did; only of a run that is over.
    pub tail: Option<Tail>,
}
