//! What runs measure.

use chrono::{DateTime, Utc};
use kesmo_core::{
    measure::{
        Gathered, Measure, Point, Spread, Stat,
        limit::{said, with_unit},
    },
    words::Verdict,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Measures that a summary tells.
const MOST_TOLD: usize = 20;
/// The rate of a run that goes on is that of so many seconds.
const LATELY: u64 = 10;

/// A measure of a run, as it is now. Values are in its unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MeasureNow {
    pub name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub unit: String,
    pub count: u64,
    pub errors: u64,
    /// A second, over the last ten.
    pub rate: f64,
    pub mean: f64,
    pub min: f64,
    pub max: f64,
    /// To 1 %.
    pub p95: f64,
}

impl MeasureNow {
    /// The measures of a run that goes on, by name, at most 20; `now` is in seconds since 1970.
    pub fn all(gathered: &Gathered, now: i64) -> Vec<Self> {
        let at = gathered.begins().map_or(0, |begins| u64::try_from(now - begins + 1).unwrap_or(0));
        gathered.all().take(MOST_TOLD).map(|measure| Self::of(measure, measure.rate_before(at, LATELY))).collect()
    }

    /// The measures of a run that is over, by name, at most 20: the rate is that of the whole time.
    pub fn in_all(gathered: &Gathered) -> Vec<Self> {
        gathered.all().take(MOST_TOLD).map(|measure| Self::of(measure, measure.stat(Stat::Rate))).collect()
    }

    /// A measure with a rate.
    pub fn of(measure: &Measure, rate: f64) -> Self {
        let counts = measure.spread.counts;
        Self {
            name: measure.name.clone(),
            unit: measure.unit.clone(),
            count: counts.count,
            errors: counts.errors,
            rate,
            mean: counts.mean(),
            min: counts.min,
            max: counts.max,
            p95: measure.stat(Stat::P95),
        }
    }
}

/// What a run measured.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct MeasuresOf {
    /// The second of the first value; points count from it.
    pub begins_at: Option<DateTime<Utc>>,
    /// By name.
    pub measures: Vec<MeasureOf>,
}

impl MeasuresOf {
    /// What a run that goes on has measured.
    pub fn of(gathered: &Gathered) -> Self {
        let begins_at = gathered.begins().and_then(|second| DateTime::from_timestamp(second, 0));
        Self { begins_at, measures: gathered.all().map(MeasureOf::from).collect() }
    }
}

/// A measure of a run, in all and over time. Values are in its unit; count, errors, mean, min and max are exact, the others to 1 %.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MeasureOf {
    pub name: String,
    pub unit: String,
    pub count: u64,
    pub errors: u64,
    /// A second, over the time in which there was something.
    pub rate: f64,
    pub mean: f64,
    pub min: f64,
    pub max: f64,
    pub p50: f64,
    pub p90: f64,
    pub p95: f64,
    pub p99: f64,
    /// Seconds that a point holds.
    pub step: u64,
    pub points: Vec<MeasurePoint>,
}

/// Some seconds of a measure; seconds without anything have no point.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MeasurePoint {
    /// Seconds from the run's first value.
    pub at: u64,
    pub count: u64,
    pub errors: u64,
    pub mean: f64,
    pub min: f64,
    pub max: f64,
    pub p50: f64,
    pub p95: f64,
}

impl MeasureNow {
    /// As a report says it: `953, 136/s, mean 93 ms, min 19.2, max 412, 95% below 201, errors 7`.
    #[must_use]
    pub fn said(&self) -> String {
        let mut parts = vec![said(self.count as f64), with_unit(self.rate, "/s")];
        if self.count > 0 {
            parts.push(format!("mean {}", with_unit(self.mean, &self.unit)));
            let more = [("min", self.min), ("max", self.max), ("95% below", self.p95)];
            parts.extend(more.map(|(word, value)| format!("{word} {}", said(value))));
        }
        parts.push(format!("errors {}", said(self.errors as f64)));
        parts.join(", ")
    }
}

impl From<&MeasureOf> for MeasureNow {
    fn from(measure: &MeasureOf) -> Self {
        Self {
            name: measure.name.clone(),
            unit: measure.unit.clone(),
            count: measure.count,
            errors: measure.errors,
            rate: measure.rate,
            mean: measure.mean,
            min: measure.min,
            max: measure.max,
            p95: measure.p95,
        }
    }
}

impl From<&Point> for MeasurePoint {
    fn from(point: &Point) -> Self {
        let (spread, counts) = (Spread::of(point.counts, &point.pairs), point.counts);
        Self {
            at: point.at,
            count: counts.count,
            errors: counts.errors,
            mean: counts.mean(),
            min: counts.min,
            max: counts.max,
            p50: spread.below(0.5),
            p95: spread.below(0.95),
        }
    }
}

impl From<&Measure> for MeasureOf {
    fn from(measure: &Measure) -> Self {
        let counts = measure.spread.counts;
        Self {
            name: measure.name.clone(),
            unit: measure.unit.clone(),
            count: counts.count,
            errors: counts.errors,
            rate: measure.stat(Stat::Rate),
            mean: counts.mean(),
            min: counts.min,
            max: counts.max,
            p50: measure.stat(Stat::P50),
            p90: measure.stat(Stat::P90),
            p95: measure.stat(Stat::P95),
            p99: measure.stat(Stat::P99),
            step: measure.step,
            points: measure.points.iter().map(MeasurePoint::from).collect(),
        }
    }
}

/// A measure over the runs of a suite.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MeasureOfSuite {
    pub name: String,
    pub unit: String,
    /// Which tests the runs chose, in words: those of the latest one that measured something.
    pub choice: String,
    /// Oldest first.
    pub runs: Vec<MeasuredRun>,
}

/// A measure in one run, in its unit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MeasuredRun {
    pub run: String,
    pub verdict: Option<Verdict>,
    pub at: DateTime<Utc>,
    pub count: u64,
    pub errors: u64,
    pub rate: f64,
    pub mean: f64,
    pub p50: f64,
    pub p95: f64,
    pub max: f64,
}
