//! A finished run as a report, in the formats that other programs read.

use std::fmt;

use super::{
    csv, html, junit, tap,
    whole::{ReportCase, THE_RUN, Trouble},
};
pub use super::{
    html::More,
    whole::{MOST_OUTPUTS, Whole, end_of},
};
use crate::{error::Error, name::did_you_mean, words::Outcome};

/// A report's format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// JUnit XML.
    Junit,
    /// TAP 14.
    Tap,
    Json,
    /// Comma-separated values, RFC 4180.
    Csv,
    /// One file to look at.
    Html,
}

impl Format {
    const ALL: [(Self, &'static str); 5] =
        [(Self::Junit, "junit"), (Self::Tap, "tap"), (Self::Json, "json"), (Self::Csv, "csv"), (Self::Html, "html")];

    /// The format of a word.
    ///
    /// # Errors
    /// If there is none; the message names those there are.
    pub fn parse(word: &str) -> Result<Self, Error> {
        Self::ALL.iter().find(|f| f.1 == word).map(|f| f.0).ok_or_else(|| {
            let hint = did_you_mean(word, Self::ALL.iter().map(|f| f.1));
            Error::Options(format!("there is no report {word:?}{hint}: use junit, tap, json, csv or html"))
        })
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(Self::ALL.iter().find(|known| known.0 == *self).map_or("", |known| known.1))
    }
}

/// Writes a report; `run` stands in a JSON report as it is, and `more` in an HTML one.
#[must_use]
pub fn write(
    format: Format,
    whole: &Whole<'_>,
    run: serde_json::Value,
    cases: &[ReportCase<'_>],
    more: &More,
) -> String {
    match format {
        Format::Csv => csv::write(whole, cases),
        Format::Html => html::write(whole, cases, more),
        Format::Junit => junit::write(whole, cases),
        Format::Tap => write_tap(whole, cases),
        Format::Json => {
            let attempt = |a: &junit::ReportAttempt<'_>| serde_json::json!({ "ended": a.ended, "message": a.message, "detail": a.detail, "output": a.output });
            let value = |c: &ReportCase<'_>| {
                serde_json::json!({
                    "test": c.name, "file": c.file, "variant": c.variant, "outcome": c.outcome, "spent_us": c.spent.0,
                    "why_parked": c.why_parked,
                    "attempts": c.attempts.iter().map(attempt).collect::<Vec<_>>(),
                })
            };
            let all = serde_json::json!({
                "run": run, "wrongs": whole.wrongs, "images": whole.images, "entries": cases.iter().map(value).collect::<Vec<_>>(),
            });
            serde_json::to_string_pretty(&all).unwrap_or_default()
        }
    }
}

fn write_tap(whole: &Whole<'_>, cases: &[ReportCase<'_>]) -> String {
    let line = |text: &str| text.replace(['\n', '\r'], " ");
    let troubles = whole.troubles(cases);
    let failures: Vec<&Trouble> = troubles.iter().filter(|t| !t.error).collect();
    let mut out = format!("TAP version 14\n1..{}\n", cases.len() + failures.len());
    for image in whole.images {
        out += &format!("# image {} {}\n", line(&image.name), line(&image.digest));
    }
    for (i, case) in cases.iter().enumerate() {
        let name =
            if case.variant.is_empty() { case.name.to_owned() } else { format!("{} ({})", case.name, case.variant) };
        let directive = match case.outcome {
            Outcome::Parked => Some(format!("SKIP {}", line(&case.parked_said()))),
            Outcome::Skipped | Outcome::NotRun => Some(format!("SKIP {}", case.outcome)),
            _ => None,
        };
        out += &tap::write_point(i + 1, !whole.fails(case.outcome), &name, directive.as_deref());
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
    for (i, trouble) in failures.iter().enumerate() {
        out += &tap::write_point(cases.len() + i + 1, false, &format!("{THE_RUN}: {}", line(&trouble.why)), None);
        out.push('\n');
    }
    for trouble in troubles.iter().filter(|t| t.error) {
        out += &format!("Bail out! {}: {}\n", trouble.what, line(&trouble.why));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        format::junit::ReportAttempt,
        time::Span,
        words::{Ended, Verdict},
    };

    fn cases() -> Vec<ReportCase<'static>> {
        let attempt = |ended, message| ReportAttempt { ended, message, detail: "", output: String::new() };
        let case = |name, outcome, attempts| ReportCase {
            name,
            file: "",
            variant: "",
            outcome,
            spent: Span::millis(5),
            attempts,
            why_parked: (outcome == Outcome::Parked).then_some("the scanner is being mended"),
        };
        vec![
            case("gate/open", Outcome::Passed, vec![attempt(Ended::Passed, "")]),
            case("gate/late", Outcome::Failed, vec![attempt(Ended::Failed, "expected \"Closed\"")]),
            case("gate/torn", Outcome::Parked, vec![]),
        ]
    }

    fn whole(verdict: Verdict, reason: &'static str) -> Whole<'static> {
        Whole { name: "gate/1", verdict: Some(verdict), reason, ..Whole::default() }
    }

    #[test]
    fn no_report_of_a_run_that_did_not_pass_reads_green() {
        let passed: Vec<ReportCase<'_>> = cases().into_iter().take(1).collect();
        let flaky = vec![ReportCase { outcome: Outcome::Flaky, ..passed[0].clone() }];
        let not_run = vec![ReportCase { outcome: Outcome::NotRun, ..passed[0].clone() }];
        let wrongs = ["a process ended with status 5 after its last test".to_owned()];
        let strict = Whole { flaky_fails: true, ..whole(Verdict::Failed, "1 of 1 flaky") };
        let bad_end = Whole { wrongs: &wrongs, ..whole(Verdict::Failed, "no test failed, but") };
        for (whole, cases) in [
            (whole(Verdict::Void, "no worker came"), Vec::new()),
            (whole(Verdict::Void, "no worker came"), passed.clone()),
            (whole(Verdict::Stopped, "stopped by asta"), not_run),
            (strict, flaky),
            (bad_end, passed.clone()),
            (whole(Verdict::Failed, "for a reason that no case shows"), passed.clone()),
            (Whole { name: "gate/1", ..Whole::default() }, passed.clone()),
        ] {
            let junit = write(Format::Junit, &whole, serde_json::Value::Null, &cases, &More::default());
            let head = junit.lines().nth(1).unwrap_or_default();
            assert!(!(head.contains("failures=\"0\"") && head.contains("errors=\"0\"")), "{junit}");
            assert!(junit.contains("<failure") || junit.contains("<error"), "{junit}");
            let read = junit::read(junit.as_bytes()).unwrap();
            assert!(read.cases.iter().any(|c| c.reported.ended == Ended::Failed), "{junit}");
            let tap = write(Format::Tap, &whole, serde_json::Value::Null, &cases, &More::default());
            assert!(tap.contains("not ok") || tap.contains("Bail out!"), "{tap}");
            let csv = write(Format::Csv, &whole, serde_json::Value::Null, &cases, &More::default());
            assert!(csv.contains(",yes,"), "{csv}");
            let html = write(Format::Html, &whole, serde_json::Value::Null, &cases, &More::default());
            assert!(!html.contains("● passed <small>"), "{html}");
            assert!(
                junit.contains(whole.reason) || whole.wrongs.iter().any(|w| junit.contains(w)) || whole.flaky_fails
            );
        }
        let green =
            write(Format::Junit, &whole(Verdict::Passed, ""), serde_json::Value::Null, &passed, &More::default());
        assert!(green.contains("failures=\"0\" errors=\"0\"") && !green.contains(THE_RUN), "{green}");
    }

    #[test]
    fn a_report_says_why_a_test_is_parked() {
        let parked = cases();
        let whole = whole(Verdict::Failed, "");
        let junit = write(Format::Junit, &whole, serde_json::Value::Null, &parked, &More::default());
        assert!(junit.contains("parked: the scanner is being mended"), "{junit}");
        let tap = write(Format::Tap, &whole, serde_json::Value::Null, &parked, &More::default());
        assert!(tap.contains("# SKIP parked: the scanner is being mended"), "{tap}");
    }

    #[test]
    fn a_report_in_tap_can_be_read_again() {
        let text = write(Format::Tap, &whole(Verdict::Failed, ""), serde_json::Value::Null, &cases(), &More::default());
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[2], "ok 1 - gate/open");
        assert_eq!(lines[3], "not ok 2 - gate/late");
        assert!(lines.contains(&r#"  message: "expected \"Closed\"""#), "{text}");
        assert_eq!(lines.last(), Some(&"ok 3 - gate/torn # SKIP parked: the scanner is being mended"));
    }

    #[test]
    fn a_report_in_json_holds_run_and_entries() {
        let run = serde_json::json!({ "name": "gate/1" });
        let text = write(Format::Json, &whole(Verdict::Failed, ""), run, &cases(), &More::default());
        let value: serde_json::Value = serde_json::from_str(&text).unwrap();
        assert_eq!(value["run"]["name"], "gate/1");
        assert_eq!(value["entries"][1]["attempts"][0]["ended"], "failed");
    }

    #[test]
    fn a_format_that_is_not_there_names_those_that_are() {
        assert_eq!(Format::parse("tap"), Ok(Format::Tap));
        let error = Format::parse("junut").unwrap_err().to_string();
        assert!(error.contains("did you mean \"junit\"") && error.contains("junit, tap, json, csv or html"), "{error}");
    }
}
