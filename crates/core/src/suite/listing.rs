//! Reads what a suite's list command prints: one test a line, as a bare name or as one JSON object.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::{
    error::Error,
    name::{TestName, shorten},
};

use super::covers::{MOST_OF_A_TEST, Requirement};

/// Nothing is expected to take longer, in seconds: about 30 years.
const MOST_SECONDS: f64 = 1e9;

/// One test of a list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ListedTest {
    pub name: TestName,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// What the suite itself expects the test to take, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// The requirements that it covers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub covers: Vec<Requirement>,
}

impl ListedTest {
    /// A test of which the list says no more than its name.
    #[must_use]
    pub fn plain(name: TestName) -> Self {
        Self { name, tags: Vec::new(), group: None, seconds: None, covers: Vec::new() }
    }
}

/// The most tests that a list may have.
pub const MOST_TESTS: usize = 500_000;

/// The longest tag or group, in bytes, and the most tags of a test.
const LONGEST_WORD: usize = 200;
const MOST_TAGS: usize = 100;

/// Reads a list. Blank lines are passed over; everything else must be a test.
///
/// # Errors
/// If there is not a valid test at all, a line is not a valid test, or a name stands twice; the message names the line.
pub fn read(output: &[u8]) -> Result<Vec<ListedTest>, Error> {
    let text = std::str::from_utf8(output).map_err(|e| {
        let line = output[..e.valid_up_to()].iter().filter(|b| **b == b'\n').count() + 1;
        Error::Listing(format!("line {line} is not UTF-8; the list command must print UTF-8"))
    })?;
    let mut tests: Vec<ListedTest> = Vec::new();
    let mut seen: HashMap<TestName, usize> = HashMap::new();
    for (number, line) in text.lines().enumerate().map(|(i, line)| (i + 1, line.trim())) {
        if line.is_empty() {
            continue;
        }
        let test = if line.starts_with('{') {
            serde_json::from_str::<ListedTest>(line).map_err(|e| {
                let why = e.to_string();
                let why = why.split(" at line").next().unwrap_or_default();
                Error::Listing(format!("line {number} is not a valid test: {why}, in {:?}", shorten(line, 120)))
            })?
        } else {
            let name = TestName::parse(line).map_err(|e| Error::Listing(format!("line {number}: {e}")))?;
            ListedTest::plain(name)
        };
        if test.seconds.is_some_and(|s| !(0.0..=MOST_SECONDS).contains(&s)) {
            return Err(Error::Listing(format!("line {number}: seconds must be 0 to {MOST_SECONDS}")));
        }
        let words = test.tags.iter().chain(&test.group);
        if let Some(odd) =
            words.clone().find(|w| w.is_empty() || w.len() > LONGEST_WORD || w.chars().any(char::is_control))
        {
            return Err(Error::Listing(format!(
                "line {number}: the tag or group {:?} must be 1 to {LONGEST_WORD} bytes without control characters",
                shorten(odd, 60)
            )));
        }
        if test.tags.len() > MOST_TAGS {
            return Err(Error::Listing(format!("line {number}: it has more than {MOST_TAGS} tags")));
        }
        if test.covers.len() > MOST_OF_A_TEST {
            return Err(Error::Listing(format!("line {number}: it covers more than {MOST_OF_A_TEST} requirements")));
        }
        if let Some(first) = seen.insert(test.name.clone(), number) {
            let name = &test.name;
            return Err(Error::Listing(format!(
                "the name {name:?} stands twice, on lines {first} and {number}; every test needs a name of its own"
            )));
        }
        if tests.len() == MOST_TESTS {
            return Err(Error::Listing(format!("it has more than {MOST_TESTS} tests; split the suite")));
        }
        tests.push(test);
    }
    if tests.is_empty() {
        return Err(Error::Listing("the list command printed no test".into()));
    }
    Ok(tests)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_objects_may_be_mixed() {
        let list =
            read(b"gate/open\n\n{\"name\":\"gate/late\",\"tags\":[\"smoke\"],\"group\":\"g\",\"seconds\":1.5}\r\n")
                .unwrap();
        assert_eq!(list.len(), 2);
        assert_eq!(list[1].tags, ["smoke"]);
        assert_eq!(list[1].seconds, Some(1.5));
    }

    #[test]
    fn what_cannot_be_used_is_refused_with_its_line() {
        let cases: [(&[u8], &str); 7] = [
            (b"", "printed no test"),
            (b"a\nb\na\n", "on lines 1 and 3"),
            (b"a\n{\"nme\":\"b\"}\n", "line 2 is not a valid test: unknown field `nme`"),
            (b"a\n\xff\xfe\n", "line 2 is not UTF-8"),
            (b"{\"name\":\"a\",\"seconds\":-1}", "line 1: seconds"),
            (b"{\"name\":\"a\",\"seconds\":1e300}", "line 1: seconds must be 0 to 1000000000"),
            (b"a\x1b[31m\n", "line 1"),
        ];
        for (output, why) in cases {
            let error = read(output).unwrap_err().to_string();
            assert!(error.contains(why), "{error}");
        }
    }

    #[test]
    fn tags_and_groups_that_cannot_be_kept_are_refused() {
        for bad in [
            r#"{"name":"a","tags":["x\u0000"]}"#.to_owned(),
            r#"{"name":"a","group":"\u0000"}"#.to_owned(),
            r#"{"name":"a","tags":[""]}"#.to_owned(),
            format!(r#"{{"name":"a","tags":["{}"]}}"#, "x".repeat(300)),
        ] {
            let error = read(bad.as_bytes()).unwrap_err().to_string();
            assert!(error.contains("line 1: the tag or group"), "{error}");
        }
    }
}
