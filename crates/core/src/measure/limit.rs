//! Limits of measures: passed, they fail a run.

use std::{fmt, str::FromStr};

use super::{gathered::Measure, stat::Stat};
use crate::name::shorten;

/// A bound as it is written: `800ms`, `800`, `1%`, `100/s`.
#[derive(Debug, Clone, PartialEq)]
pub struct Bound {
    text: String,
    number: f64,
    unit: String,
}

impl FromStr for Bound {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let number: f64 = text[..digits].parse().map_err(|_| {
            format!("{:?} is not a bound: write it like \"800ms\", \"1%\" or \"100/s\"", shorten(text, 40))
        })?;
        Ok(Self { text: text.to_owned(), number, unit: text[digits..].trim().to_owned() })
    }
}

impl fmt::Display for Bound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// A limit: a run that passes it fails.
#[derive(Debug, Clone, PartialEq)]
pub struct Limit {
    pub measure: String,
    pub stat: Stat,
    /// What it is to stay below, and above.
    pub below: Option<Bound>,
    pub above: Option<Bound>,
}

/// Units of time, in seconds.
const TIMES: [(&str, f64); 6] = [("us", 1e-6), ("µs", 1e-6), ("ms", 1e-3), ("s", 1.0), ("m", 60.0), ("h", 3600.0)];

impl Limit {
    /// Checks what a suite file says.
    ///
    /// # Errors
    /// In words.
    pub fn check(&self) -> Result<(), String> {
        if self.below.is_none() && self.above.is_none() {
            return Err(
                "a limit says what is to be stayed below or above: give below = \"800ms\" or above = \"100/s\"".into(),
            );
        }
        for bound in [&self.below, &self.above].into_iter().flatten() {
            let fits = match self.stat {
                Stat::Count => bound.unit.is_empty(),
                Stat::Rate => ["", "/s"].contains(&bound.unit.as_str()),
                Stat::Errors => ["", "%"].contains(&bound.unit.as_str()),
                _ => bound.unit != "%" && bound.unit != "/s",
            };
            if !fits {
                return Err(format!("{:?} is not a bound of {}", bound.text, self.stat.word()));
            }
        }
        Ok(())
    }

    /// Why a run that has this measure passes the limit; nothing if it does not. `None` for the measure: nothing reported it.
    #[must_use]
    pub fn passed(&self, measure: Option<&Measure>) -> Option<String> {
        let (name, stat) = (&self.measure, self.stat.word());
        let Some(measure) = measure else {
            return Some(format!("nothing measured {name}, so that its limit ({self}) cannot be held"));
        };
        // Of what could never be measured no value is small.
        let counts = measure.spread.counts;
        if counts.count == 0 && self.stat.in_unit() {
            let errors = said(counts.errors as f64);
            return Some(format!("{name} had no value and {errors} errors, so that its limit ({self}) cannot be held"));
        }
        for (bound, is_below) in [(&self.below, true), (&self.above, false)] {
            let Some(bound) = bound else { continue };
            let as_share = self.stat == Stat::Errors && bound.unit == "%";
            let value = measure.stat(self.stat) * if as_share { share_of(measure) } else { 1.0 };
            let limit = match in_unit_of(bound, measure, self.stat) {
                Ok(limit) => limit,
                Err(why) => return Some(why),
            };
            let holds = if is_below { value < limit } else { value > limit };
            if !holds {
                let unit = match self.stat {
                    Stat::Rate => "/s",
                    _ if as_share => "%",
                    stat if stat.in_unit() => measure.unit.as_str(),
                    _ => "",
                };
                let word = if is_below { "below" } else { "above" };
                return Some(format!("{name} {stat} was {}, and is to stay {word} {bound}", with_unit(value, unit)));
            }
        }
        None
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.measure, self.stat.word())?;
        if let Some(below) = &self.below {
            write!(f, " below {below}")?;
        }
        if let Some(above) = &self.above {
            write!(f, " above {above}")?;
        }
        Ok(())
    }
}

/// What turns a number of errors into percent of all that was tried.
fn share_of(measure: &Measure) -> f64 {
    let c = measure.spread.counts;
    100.0 / (c.count.saturating_add(c.errors)).max(1) as f64
}

/// A bound in the unit in which the measure is reported.
fn in_unit_of(bound: &Bound, measure: &Measure, stat: Stat) -> Result<f64, String> {
    if !stat.in_unit() || bound.unit.is_empty() || bound.unit == measure.unit {
        return Ok(bound.number);
    }
    let seconds = |unit: &str| TIMES.iter().find(|(word, _)| *word == unit).map(|(_, seconds)| *seconds);
    match (seconds(&bound.unit), seconds(&measure.unit)) {
        (Some(of_bound), Some(of_measure)) => Ok(bound.number * of_bound / of_measure),
        _ => {
            let unit =
                if measure.unit.is_empty() { "without a unit".to_owned() } else { format!("in {}", measure.unit) };
            Err(format!("{} is reported {unit}, so that its limit of {bound} cannot be held", measure.name))
        }
    }
}

/// A value as a person reads it: `12 ms`, `812/s`, `0.4%`.
#[must_use]
pub fn with_unit(value: f64, unit: &str) -> String {
    let number = said(value);
    match unit {
        "" => number,
        "/s" | "%" => format!("{number}{unit}"),
        unit => format!("{number} {unit}"),
    }
}

/// A number with three digits that count.
#[must_use]
pub fn said(value: f64) -> String {
    let size = value.abs();
    if size >= 1e9 {
        format!("{value:.3e}")
    } else if size >= 99.95 || size == 0.0 {
        let digits = format!("{value:.0}");
        let mut said = String::new();
        for (at, digit) in digits.char_indices() {
            if at > 0 && (digits.len() - at).is_multiple_of(3) && digit != '-' {
                said.push(',');
            }
            said.push(digit);
        }
        said
    } else if size >= 9.995 {
        trimmed(format!("{value:.1}"))
    } else if size >= 0.0995 {
        trimmed(format!("{value:.2}"))
    } else {
        trimmed(format!("{value:.4}"))
    }
}

fn trimmed(text: String) -> String {
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::measure::spread::{Sample, Spread};

    fn limit(stat: &str, below: Option<&str>, above: Option<&str>) -> Limit {
        let bound = |text: Option<&str>| text.map(|t| t.parse().expect("a bound"));
        Limit {
            measure: "ticket_scan".into(),
            stat: Stat::of(stat).expect("a stat"),
            below: bound(below),
            above: bound(above),
        }
    }

    fn measure(unit: &str) -> Measure {
        let mut spread = Spread::default();
        spread.take(&Sample::new("ticket_scan", unit, vec![(10.0, 95), (900.0, 5)], 2).expect("a sample"));
        Measure { name: "ticket_scan".into(), unit: unit.into(), spread, seconds: 10, points: Vec::new(), step: 1 }
    }

    #[test]
    fn a_limit_holds_or_says_by_what_it_was_passed() {
        let of = |stat, below, above| limit(stat, below, above).passed(Some(&measure("ms")));
        assert_eq!(of("p50", Some("800ms"), None), None);
        assert_eq!(
            of("max", Some("0.9s"), None).as_deref(),
            Some("ticket_scan max was 900 ms, and is to stay below 0.9s"),
            "at it is not below it"
        );
        assert_eq!((of("max", Some("1s"), None), of("p99", Some("0.91s"), None)), (None, None));
        assert!(of("p99", Some("0.89s"), None).is_some());
        assert_eq!(
            of("mean", Some("54"), None).as_deref(),
            Some("ticket_scan mean was 54.5 ms, and is to stay below 54")
        );
        assert_eq!(of("count", None, Some("99")), None);
        assert_eq!(
            of("rate", None, Some("20/s")).as_deref(),
            Some("ticket_scan rate was 10/s, and is to stay above 20/s")
        );
        assert_eq!(
            of("errors", Some("1%"), None).as_deref(),
            Some("ticket_scan errors was 1.96%, and is to stay below 1%")
        );
        assert_eq!(of("errors", Some("2%"), None), None);
        assert_eq!(of("errors", Some("2"), None).as_deref(), Some("ticket_scan errors was 2, and is to stay below 2"));
        let nothing = limit("p95", Some("1s"), None).passed(None);
        assert_eq!(
            nothing.as_deref(),
            Some("nothing measured ticket_scan, so that its limit (ticket_scan p95 below 1s) cannot be held")
        );
        let other = limit("p95", Some("1s"), None).passed(Some(&measure("passengers")));
        assert!(other.is_some_and(|why| why.contains("is reported in passengers")));
    }

    #[test]
    fn what_could_never_be_measured_passes_every_limit_of_its_values() {
        let mut spread = Spread::default();
        spread.take(&Sample::new("ticket_scan", "ms", Vec::new(), 3).expect("a sample"));
        let broken = Measure { spread, ..measure("ms") };
        for stat in ["mean", "min", "max", "p50", "p95"] {
            let why = limit(stat, Some("1s"), None).passed(Some(&broken));
            assert!(why.is_some_and(|why| why.contains("had no value and 3 errors")), "{stat}");
        }
        assert!(limit("errors", Some("50%"), None).passed(Some(&broken)).is_some());
        assert!(limit("count", None, Some("0")).passed(Some(&broken)).is_some());
    }

    #[test]
    fn bounds_that_do_not_fit_are_refused() {
        for (stat, below) in [("count", "1ms"), ("rate", "1ms"), ("errors", "1s"), ("p95", "1%"), ("mean", "3/s")] {
            assert!(
                limit(stat, Some(below), None).check().unwrap_err().contains("is not a bound of"),
                "{stat} {below}"
            );
        }
        assert!(limit("p95", None, None).check().unwrap_err().contains("below or above"));
        assert!("fast".parse::<Bound>().unwrap_err().contains("write it like"));
        assert!(limit("errors", Some("1%"), Some("0")).check().is_ok());
    }

    #[test]
    fn numbers_have_three_digits_that_count() {
        for (value, wanted) in [
            (0.0, "0"),
            (812.4, "812"),
            (12.04, "12"),
            (12.36, "12.4"),
            (3.0, "3"),
            (3.456, "3.46"),
            (0.0123, "0.0123"),
            (1_234_567.0, "1,234,567"),
            (2e12, "2.000e12"),
        ] {
            assert_eq!(said(value), wanted);
        }
        assert_eq!(
            (with_unit(3.0, "ms"), with_unit(81.0, "/s"), with_unit(81.0, "")),
            ("3 ms".into(), "81/s".into(), "81".into())
        );
    }
}
