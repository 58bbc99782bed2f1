//! Two runs side by side.

use kesmo_core::words::{Outcome, Verdict};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a run says of a test.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeenTest {
    /// Its place in that run's list, from 0.
    pub entry: u32,
    pub outcome: Outcome,
    pub attempts: u32,
    /// What its last attempt took, in microseconds; 0 without one.
    pub spent_us: u64,
}

/// A test that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ComparedTest {
    pub test: String,
    pub variant: String,
    /// None where it was not there.
    pub before: Option<SeenTest>,
    pub after: Option<SeenTest>,
    /// What its last failing attempt said in the later run, or, where it failed only before, nothing.
    pub message: String,
}

/// Tests that differ in one way.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ComparedTests {
    pub total: u32,
    /// At most 200.
    pub tests: Vec<ComparedTest>,
}

/// Something about how the runs were carried out that is not the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetupDifference {
    /// `commit`, `image`, `pool`, …
    pub what: String,
    /// Empty where there was none.
    pub before: String,
    pub after: String,
}

/// A run against another one.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Compared {
    /// `boarding-gate/42`
    pub run: String,
    /// What it is compared with; none where nothing fits, and all lists are empty then.
    pub with: Option<String>,
    pub with_verdict: Option<Verdict>,
    /// Why that one, or why none: `the last run of all tests on main`.
    pub because: String,
    /// Both chose the same tests: what is gone is not there any more. Else it may just not have been chosen.
    pub same_choice: bool,
    pub setup: Vec<SetupDifference>,
    /// Failed, and did not fail before, or was not there.
    pub newly_failing: ComparedTests,
    pub still_failing: ComparedTests,
    pub mended: ComparedTests,
    /// Ran before, and did not come to run; or failed before, and was skipped or parked.
    pub untested: ComparedTests,
    /// Flaky, and not so in the 50 runs before either.
    pub newly_flaky: ComparedTests,
    pub new: ComparedTests,
    pub gone: ComparedTests,
    /// Beyond how the tests of the two runs differ, and how each differed before.
    pub slower: ComparedTests,
    pub faster: ComparedTests,
    /// How many tests are in both.
    pub both: u32,
    /// How much longer tests took in the middle: 1.1 is a tenth longer; none where too few are in both.
    pub pace: Option<f64>,
}

impl Compared {
    /// The lists by their words, those that one looks at first in front.
    #[must_use]
    pub fn lists(&self) -> [(&'static str, &ComparedTests); 9] {
        let gone = if self.same_choice { "gone" } else { "not in this run" };
        [
            ("newly failing", &self.newly_failing),
            ("still failing", &self.still_failing),
            ("not tested any more", &self.untested),
            ("newly flaky", &self.newly_flaky),
            ("mended", &self.mended),
            ("slower", &self.slower),
            ("faster", &self.faster),
            ("new", &self.new),
            (gone, &self.gone),
        ]
    }
}
