//! A finished run as a report, in the formats that other programs read.

use std::fmt;

use super::{
    junit::{self, ReportCase},
    tap,
};
use crate::{Error, name::did_you_mean, time::Span, words::Outcome};

/// A report's format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// JUnit XML.
    Junit,
    /// TAP 14.
    Tap,
    Json,
}

impl Format {
    const ALL: [(Self, &'static str); 3] = [(Self::Junit, "junit"), (Self::Tap, "tap"), (Self::Json, "json")];

    /// The format of a word.
    ///
    /// # Errors
    /// If there is none; the message names those there are.
    pub fn parse(word: &str) -> Result<Self, Error> {
        Self::ALL.iter().find(|f| f.1 == word).map(|f| f.0).ok_or_else(|| {
            let hint = did_you_mean(word, Self::ALL.iter().map(|f| f.1));
            Error::Options(format!("there is no report {word:?}{hint}: use junit, tap or json"))
        })
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(Self::ALL.iter().find(|known| known.0 == *self).map_or("", |known| known.1))
    }
}

/// Writes a report. `took` is the run's wall time; `run` stands in a JSON report as it is.
#[must_use]
pub fn write(format: Format, name: &str, took: Span, run: serde_json::Value, cases: &[ReportCase<'_>]) -> String {
    match format {
        Format::Junit => junit::write(name, took, cases),
        Format::Tap => write_tap(cases),
        Format::Json => {
            let attempt = |a: &junit::ReportAttempt<'_>| serde_json::json!({ "ended": a.ended, "message": a.message, "detail": a.detail });
            let value = |c: &ReportCase<'_>| {
                serde_json::json!({
                    "test": c.name, "variant": c.variant, "outcome": c.outcome, "spent_us": c.spent.0,
                    "attempts": c.attempts.iter().map(attempt).collect::<Vec<_>>(),
                })
            };
            let whole = serde_json::json!({ "run": run, "entries": cases.iter().map(value).collect::<Vec<_>>() });
            serde_json::to_string_pretty(&whole).unwrap_or_default()
        }
    }
}

fn write_tap(cases: &[ReportCase<'_>]) -> String {
    let mut out = format!("TAP version 14\n1..{}\n", cases.len());
    for (i, case) in cases.iter().enumerate() {
        let name =
            if case.variant.is_empty() { case.name.to_owned() } else { format!("{} ({})", case.name, case.variant) };
        let directive = match case.outcome {
            Outcome::Skipped | Outcome::Parked | Outcome::Unrun => Some(format!("SKIP {}", case.outcome)),
            _ => None,
        };
        out += &tap::write_point(i + 1, case.outcome != Outcome::Failed, &name, directive.as_deref());
        out.push('\n');
        if matches!(case.outcome, Outcome::Failed | Outcome::Flaky) {
            let last = case.attempts.iter().rev().find(|a| a.ended.failing());
            let message = serde_json::to_string(last.map_or("", |a| a.message)).unwrap_or_default();
            out += &format!(
                "  ---\n  outcome: {}\n  attempts: {}\n  message: {message}\n  ...\n",
                case.outcome,
                case.attempts.len()
            );
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{format::junit::ReportAttempt, words::Ended};

    fn cases() -> Vec<ReportCase<'static>> {
        let attempt = |ended, message| ReportAttempt { ended, message, detail: "" };
        let case =
            |name, outcome, attempts| ReportCase { name, variant: "", outcome, spent: Span::millis(5), attempts };
        vec![
            case("gate/open", Outcome::Passed, vec![attempt(Ended::Passed, "")]),
            case("gate/late", Outcome::Failed, vec![attempt(Ended::Failed, "expected \"Closed\"")]),
            case("gate/torn", Outcome::Parked, vec![]),
        ]
    }

    #[test]
    fn a_report_in_tap_can_be_read_again() {
        let text = write(Format::Tap, "gate/1", Span::ZERO, serde_json::Value::Null, &cases());
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[2], "ok 1 - gate/open");
        assert_eq!(lines[3], "not ok 2 - gate/late");
        assert!(lines.contains(&r#"  message: "expected \"Closed\"""#), "{text}");
        assert_eq!(lines.last(), Some(&"ok 3 - gate/torn # SKIP parked"));
    }

    #[test]
    fn a_report_in_json_holds_run_and_entries() {
        let run = serde_json::json!({ "name": "gate/1" });
        let text = write(Format::Json, "gate/1", Span::ZERO, run, &cases());
        let value: serde_json::Value = serde_json::from_str(&text).unwrap();
        assert_eq!(value["run"]["name"], "gate/1");
        assert_eq!(value["entries"][1]["attempts"][0]["ended"], "failed");
    }

    #[test]
    fn a_format_that_is_not_there_names_those_that_are() {
        assert_eq!(Format::parse("tap"), Ok(Format::Tap));
        let error = Format::parse("junut").unwrap_err().to_string();
        assert!(error.contains("did you mean \"junit\"") && error.contains("junit, tap or json"), "{error}");
    }
}
