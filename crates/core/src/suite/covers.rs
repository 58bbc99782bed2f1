//! Requirements, and which tests cover them: as the suite file's `[covers]` and the list say, and as tests tell as they run.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::pick::Pattern;

/// The name of a requirement, as whoever keeps requirements calls it: `REQ-118`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Requirement(String);

/// The most requirements that a test may cover.
pub const MOST_OF_A_TEST: usize = 100;

/// The most patterns that `[covers]` may have; suites of more say it in their lists.
pub const MOST_PATTERNS: usize = 1_000;

/// The most pairs of a test and a requirement that are kept of a suite, and that the tests of one run may tell as they run.
pub const MOST_OF_A_SUITE: usize = 200_000;

impl Requirement {
    /// The longest name, in bytes.
    pub const LONGEST: usize = 200;

    /// Reads a name.
    ///
    /// # Errors
    /// In words, if it is empty or too long, or holds a control character, or a space at an end.
    pub fn parse(text: &str) -> Result<Self, String> {
        let fits = (1..=Self::LONGEST).contains(&text.len()) && text.trim() == text;
        if !fits || text.chars().any(char::is_control) {
            return Err(format!(
                "the requirement {:?} must have 1 to {} bytes, without control characters or a space at an end",
                crate::name::shorten(text, 60),
                Self::LONGEST
            ));
        }
        Ok(Self(text.to_owned()))
    }

    /// Reads the requirements that a test names; each counts once.
    ///
    /// # Errors
    /// In words, if one cannot be read, or there are more than [`MOST_OF_A_TEST`].
    pub fn parse_all(texts: &[String]) -> Result<Vec<Self>, String> {
        let mut all = texts.iter().map(|text| Self::parse(text)).collect::<Result<Vec<_>, _>>()?;
        all.sort();
        all.dedup();
        if all.len() > MOST_OF_A_TEST {
            return Err(format!("a test covers at most {MOST_OF_A_TEST} requirements, and names {}", all.len()));
        }
        Ok(all)
    }

    /// The name as written.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Requirement {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        Self::parse(&text)
    }
}

impl From<Requirement> for String {
    fn from(requirement: Requirement) -> Self {
        requirement.0
    }
}

impl fmt::Display for Requirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A line of `[covers]`: tests, and the requirements that each of them covers.
#[derive(Debug, Clone)]
pub struct Covers {
    pub tests: Pattern,
    pub of: Vec<Requirement>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_requirements_are_bounded() {
        assert_eq!(Requirement::parse("REQ-118 (late)").map(String::from), Ok("REQ-118 (late)".to_owned()));
        for wrong in ["", " REQ", "a\nb", &"x".repeat(201)] {
            assert!(Requirement::parse(wrong).is_err(), "{wrong:?}");
        }
        let many: Vec<String> = (0..=MOST_OF_A_TEST).map(|n| format!("R{n}")).collect();
        assert!(Requirement::parse_all(&many).expect_err("too many").contains("at most 100"));
        assert_eq!(Requirement::parse_all(&["b".into(), "a".into(), "b".into()]).expect("two").len(), 2);
    }
}
