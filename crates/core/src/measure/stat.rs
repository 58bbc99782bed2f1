//! Figures of a measure.

use serde::{Deserialize, Serialize};

/// A figure of a measure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Stat {
    Count,
    /// Values a second, over the time in which there were any.
    Rate,
    Mean,
    Min,
    Max,
    P50,
    P90,
    P95,
    P99,
    /// Their number, or their share of all that was tried.
    Errors,
}

impl Stat {
    const ALL: [(Self, &'static str); 10] = [
        (Self::Count, "count"),
        (Self::Rate, "rate"),
        (Self::Mean, "mean"),
        (Self::Min, "min"),
        (Self::Max, "max"),
        (Self::P50, "p50"),
        (Self::P90, "p90"),
        (Self::P95, "p95"),
        (Self::P99, "p99"),
        (Self::Errors, "errors"),
    ];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(stat, _)| *stat == self).map_or("", |(_, word)| word)
    }

    /// All words, for messages.
    #[must_use]
    pub fn words() -> String {
        Self::ALL.map(|(_, word)| word).join(", ")
    }

    /// The one of that word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, w)| *w == word).map(|(stat, _)| *stat)
    }

    /// Whether it is in the measure's own unit.
    pub(super) fn in_unit(self) -> bool {
        !matches!(self, Self::Count | Self::Rate | Self::Errors)
    }
}
