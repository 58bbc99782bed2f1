//! The states of runs, entries and attempts: one word and one glyph for each, the same on every floor.

use std::fmt;

use serde::{Deserialize, Serialize};

macro_rules! words {
    ($(#[$meta:meta])* $name:ident { $($(#[$vmeta:meta])* $variant:ident = $word:literal, $glyph:literal;)* }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case")]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        pub enum $name { $($(#[$vmeta])* $variant),* }

        impl $name {
            /// Every state, in the order of the list above.
            pub const ALL: &'static [Self] = &[$(Self::$variant),*];

            /// The state's word.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }

            /// The state's glyph.
            #[must_use]
            pub const fn glyph(self) -> &'static str {
                match self { $(Self::$variant => $glyph),* }
            }

            /// The state of that word.
            #[must_use]
            pub fn of(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)* _ => None }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.word())
            }
        }
    };
}

words! {
    /// Where a run stands before its verdict.
    Phase {
        Queued = "queued", "–";
        Listing = "listing", "≈";
        Running = "running", "≈";
        Finished = "finished", "●";
    }
}

words! {
    /// How a run ended. Of two that fit, the earlier stands.
    Verdict {
        /// A person or a rule ended it early.
        Stopped = "stopped", "■";
        /// It could not be carried out, or nothing was tested.
        Void = "void", "⊘";
        /// At least one entry failed.
        Failed = "failed", "◆";
        /// None failed, and at least one passed or was flaky.
        Passed = "passed", "●";
    }
}

words! {
    /// How an entry ended.
    Outcome {
        /// Its first attempt that counts passed.
        Passed = "passed", "●";
        /// An attempt failed, and a later one passed.
        Flaky = "flaky", "◐";
        /// Every attempt it was allowed failed.
        Failed = "failed", "◆";
        /// The test itself said so.
        Skipped = "skipped", "▽";
        /// It is parked: not run, or run without counting.
        Parked = "parked", "▭";
        /// The run ended before it had an outcome.
        NotRun = "not-run", "◌";
    }
}

words! {
    /// How an attempt ended.
    Ended {
        Passed = "passed", "●";
        Skipped = "skipped", "▽";
        Failed = "failed", "◆";
        /// Past its time limit, and killed.
        TimedOut = "timed-out", "◔";
        /// Its process ended under it.
        Crashed = "crashed", "‼";
        /// Its worker went away. Does not count.
        Lost = "lost", "↯";
    }
}

impl Outcome {
    /// The outcome of a file of which two parts have these; none as long as one has none. The worst stands; what was skipped or
    /// set aside says nothing where something ran.
    #[must_use]
    pub fn of_parts(one: Option<Self>, other: Option<Self>) -> Option<Self> {
        const WORST_FIRST: [Outcome; 6] =
            [Outcome::Failed, Outcome::NotRun, Outcome::Flaky, Outcome::Passed, Outcome::Skipped, Outcome::Parked];
        let (one, other) = (one?, other?);
        WORST_FIRST.into_iter().find(|worst| [one, other].contains(worst))
    }
}

/// The glyph of an entry that waits.
pub const WAITING_GLYPH: &str = "–";
/// The glyph of an entry that runs.
pub const RUNNING_GLYPH: &str = "≈";

impl Ended {
    /// Whether the attempt counts against its entry.
    #[must_use]
    pub const fn failing(self) -> bool {
        matches!(self, Self::Failed | Self::TimedOut | Self::Crashed)
    }
}

impl Verdict {
    /// How bad it is, of several runs: a failure is worse than what tested nothing, and that than what was stopped.
    #[must_use]
    pub const fn severity(self) -> u8 {
        match self {
            Self::Passed => 0,
            Self::Stopped => 1,
            Self::Void => 2,
            Self::Failed => 3,
        }
    }

    /// The exit status of whatever waited for the run.
    #[must_use]
    pub const fn exit_status(self) -> i32 {
        match self {
            Self::Passed => 0,
            Self::Failed => 1,
            Self::Void => 10,
            Self::Stopped => 11,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_read_back_as_they_are_written() {
        for outcome in Outcome::ALL {
            assert_eq!(Outcome::of_parts(Some(*outcome), Some(*outcome)), Some(*outcome));
            assert_eq!(Outcome::of_parts(Some(*outcome), Some(Outcome::Failed)), Some(Outcome::Failed));
            assert_eq!(Outcome::of_parts(Some(*outcome), None), None, "it is not known yet");
            assert_eq!(Outcome::of(outcome.word()), Some(*outcome));
            assert_eq!(serde_json::to_string(outcome).unwrap(), format!("{:?}", outcome.word()));
        }
        assert_eq!(Verdict::of("green"), None);
    }

    #[test]
    fn of_two_verdicts_the_higher_row_stands() {
        assert!(
            Verdict::Stopped < Verdict::Void && Verdict::Void < Verdict::Failed && Verdict::Failed < Verdict::Passed
        );
    }
}
