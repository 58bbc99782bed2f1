//! Event lines: one JSON object a line, for suites that can say more than TAP.

use serde::Deserialize;

use super::{Reported, Step};
use crate::{measure::Sample, name::shorten, suite::covers::Requirement, time::Span, words::Ended};

/// One event of a test.
#[derive(Debug, Clone, PartialEq)]
pub struct EventLine {
    /// The test; or a file, a `/` and a case of it, or the file alone.
    pub test: String,
    pub event: Event,
}

/// What happened.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Start,
    Step(Step),
    /// A file to keep as an artifact of this attempt; the path is relative to the suite's folder or absolute.
    File {
        path: String,
        about: String,
    },
    End(Reported),
    /// A number with a name.
    Measure(Sample),
    /// Requirements that the test covers.
    Covers(Vec<Requirement>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    #[serde(default)]
    test: Option<String>,
    #[serde(default)]
    file: Option<String>,
    #[serde(default)]
    case: Option<String>,
    event: String,
    #[serde(default)]
    name: Option<String>,
    #[serde(default)]
    ms: Option<f64>,
    #[serde(default)]
    ok: Option<bool>,
    #[serde(default)]
    path: Option<String>,
    #[serde(default)]
    about: Option<String>,
    #[serde(default)]
    outcome: Option<String>,
    #[serde(default)]
    message: Option<String>,
    #[serde(default)]
    detail: Option<String>,
    #[serde(default)]
    value: Option<f64>,
    #[serde(default)]
    histogram: Option<Vec<(f64, u64)>>,
    #[serde(default)]
    unit: Option<String>,
    #[serde(default)]
    errors: Option<u64>,
    #[serde(default)]
    of: Option<Vec<String>>,
}

/// A line that is no event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Broken {
    /// What is wrong with it, in words for people.
    pub why: String,
    pub meant: Meant,
}

/// What a line that cannot be read was meant as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Meant {
    /// An end, or nobody can say what.
    Result,
    /// An event of a kind that is not known.
    Unknown,
    /// What says nothing of how a test ended.
    NoResult,
}

impl Meant {
    fn of(line: &str) -> Self {
        fn word(after: &str) -> Option<&str> {
            let word = after.trim_start().strip_prefix(':')?.trim_start().strip_prefix('"')?;
            Some(word.split_once('"')?.0)
        }
        let mut words = line.split("\"event\"").skip(1).map(word);
        // Two that share a line, the second of them cut off, are no one event.
        match (words.next().flatten(), words.next(), line.matches('{').count()) {
            (Some(word), None, 1) => match word {
                "start" | "step" | "file" | "measure" | "covers" => Self::NoResult,
                word if says_an_end(word) => Self::Result,
                _ => Self::Unknown,
            },
            _ => Self::Result,
        }
    }
}

/// Whether a kind of event, valid or not, speaks of how a test ended: `end`, and what others call it.
fn says_an_end(kind: &str) -> bool {
    let kind = kind.to_ascii_lowercase();
    ["end", "fail", "error", "crash", "abort", "timeout", "timed", "finish", "result"]
        .iter()
        .any(|w| kind.starts_with(w))
}

/// Reads one line.
///
/// # Errors
/// If the line is not a valid event.
pub fn read_line(line: &str) -> Result<EventLine, Broken> {
    parse(line).map_err(|why| Broken { why, meant: Meant::of(line) })
}

fn parse(line: &str) -> Result<EventLine, String> {
    let shown = || shorten(line, 120);
    let raw: Raw = serde_json::from_str(line).map_err(|e| {
        let why = e.to_string();
        format!("a broken event line: {}, in {:?}", why.split(" at line").next().unwrap_or_default(), shown())
    })?;
    let missing = |what: &str| format!("a broken event line: a {:?} event needs {what:?}, in {:?}", raw.event, shown());
    let event = match raw.event.as_str() {
        "start" => Event::Start,
        "step" => {
            let name = raw.name.clone().ok_or_else(|| missing("name"))?;
            Event::Step(Step { name: shorten(&name, 200), ok: raw.ok.unwrap_or(true), ms: raw.ms })
        }
        "file" => {
            let path = raw.path.clone().ok_or_else(|| missing("path"))?;
            Event::File { path, about: raw.about.clone().unwrap_or_default() }
        }
        "end" => {
            let ended = match raw.outcome.as_deref() {
                Some("passed") => Ended::Passed,
                Some("failed") => Ended::Failed,
                Some("skipped") => Ended::Skipped,
                Some(other) => {
                    return Err(format!("a broken event line: the outcome {other:?} is not passed, failed or skipped"));
                }
                None => return Err(missing("outcome")),
            };
            Event::End(Reported {
                ended,
                spent: raw.ms.filter(|ms| *ms >= 0.0).map(|ms| Span((ms * 1000.0) as u64)),
                message: raw.message.unwrap_or_default(),
                detail: raw.detail.unwrap_or_default(),
                steps: Vec::new(),
            })
        }
        "measure" => {
            let name = raw.name.clone().ok_or_else(|| missing("name"))?;
            let mut values = raw.histogram.clone().unwrap_or_default();
            values.extend(raw.value.map(|value| (value, 1)));
            let sample = Sample::new(&name, raw.unit.as_deref().unwrap_or_default(), values, raw.errors.unwrap_or(0));
            Event::Measure(sample.map_err(|why| format!("a broken event line: {why}, in {:?}", shown()))?)
        }
        "covers" => {
            let of = raw.of.as_deref().ok_or_else(|| missing("of"))?;
            let of =
                Requirement::parse_all(of).map_err(|why| format!("a broken event line: {why}, in {:?}", shown()))?;
            Event::Covers(of)
        }
        other => {
            return Err(format!(
                "a broken event line: {other:?} is not a valid event; use start, step, file, measure, covers or end"
            ));
        }
    };
    let test = match (raw.test, raw.file, raw.case) {
        (Some(test), None, None) => test,
        (None, Some(file), Some(case)) => format!("{file}/{case}"),
        (None, Some(file), None) => file,
        _ => return Err(format!("a broken event line: give \"test\", or \"file\" and \"case\", in {:?}", shown())),
    };
    Ok(EventLine { test, event })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_event_is_read() {
        let end =
            r#"{"test":"gate/late","event":"end","outcome":"failed","ms":48,"message":"expected Closed","detail":"…"}"#;
        let Event::End(reported) = read_line(end).unwrap().event else { panic!("an end") };
        assert_eq!((reported.ended, reported.spent), (Ended::Failed, Some(Span::millis(48))));
        assert_eq!(read_line(r#"{"test":"a","event":"start"}"#).unwrap().event, Event::Start);
        let step = read_line(r#"{"test":"a","event":"step","name":"scan","ms":12}"#).unwrap().event;
        assert_eq!(step, Event::Step(Step { name: "scan".into(), ok: true, ms: Some(12.0) }));
        let file = read_line(r#"{"test":"a","event":"file","path":"x.png"}"#).unwrap().event;
        assert_eq!(file, Event::File { path: "x.png".into(), about: String::new() });
        let measure = |text: &str| match read_line(text).unwrap().event {
            Event::Measure(sample) => (sample.unit, sample.values, sample.errors),
            other => panic!("{other:?}"),
        };
        let one = measure(r#"{"test":"a","event":"measure","name":"scan","value":12.4,"unit":"ms"}"#);
        assert_eq!(one, ("ms".into(), vec![(12.4, 1)], 0));
        let many = measure(r#"{"test":"a","event":"measure","name":"scan","histogram":[[10,812],[20,40]],"errors":2}"#);
        assert_eq!(many, (String::new(), vec![(10.0, 812), (20.0, 40)], 2));
    }

    #[test]
    fn a_broken_line_says_what_is_wrong() {
        let cases = [
            ("{", "EOF"),
            (r#"{"test":"a","event":"stop"}"#, "use start, step, file, measure, covers or end"),
            (r#"{"test":"a","event":"covers"}"#, "needs \"of\""),
            (r#"{"test":"a","event":"covers","of":[""]}"#, "must have 1 to 200 bytes"),
            (r#"{"test":"a","event":"end"}"#, "needs \"outcome\""),
            (r#"{"test":"a","event":"measure","value":1}"#, "needs \"name\""),
            (r#"{"test":"a","event":"measure","name":"scan"}"#, "needs \"value\""),
            (r#"{"test":"a","event":"measure","name":"scan","value":-1}"#, "-1 cannot be a measure"),
            (r#"{"test":"a","event":"measure","name":"scan","value":NaN}"#, "expected value"),
            (r#"{"test":"a","event":"measure","name":"scan","value":1e999}"#, "number out of range"),
            (r#"{"test":"a","event":"measure","name":"scan","histogram":[[1,-1]]}"#, "invalid value"),
            (r#"{"test":"a","event":"end","outcome":"green"}"#, "not passed, failed or skipped"),
            (r#"{"test":"a","event":"start","tst":1}"#, "unknown field `tst`"),
        ];
        for (line, why) in cases {
            let error = read_line(line).unwrap_err().why;
            assert!(error.contains(why), "{error}");
        }
    }

    #[test]
    fn a_broken_line_is_told_by_what_it_was_meant_as() {
        let meant = |line: &str| read_line(line).unwrap_err().meant;
        for line in [
            "nonsense",
            "{\"test\":\"a\",\"ev",
            r#"{"test":"a","event":"end","outcome":"faild"}"#,
            r#"{"test":"a","event":"failed"}"#,
            r#"{"test":"a","event":"END","outcome":"failed"}"#,
            r#"{"test":"a","event":"start"}{"test":"a","event":"end","outcome":"failed"}"#,
            r#"{"test":"a","event":"start"}{"test":"a","#,
            r#"{"test":"a","event":"start","event":"end","outcome":"failed"}"#,
        ] {
            assert_eq!(meant(line), Meant::Result, "{line}");
        }
        for line in [r#"{"test":"a","event":"print"}"#, r#"{"test":"a","event":"starts"}"#] {
            assert_eq!(meant(line), Meant::Unknown, "{line}");
        }
        for line in [
            r#"{"test":"a","event":"measure","name":"scan","value":NaN}"#,
            r#"{"test":"a", "event" : "step"}"#,
            r#"{"test":"a","event":"start","tst":1}"#,
            r#"{"event":"file","path":"a"}"#,
        ] {
            assert_eq!(meant(line), Meant::NoResult, "{line}");
        }
    }
}
