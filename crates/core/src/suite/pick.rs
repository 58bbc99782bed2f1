//! Patterns that pick tests: a glob on the name, `tag:WORD`, or `regex:REGEX`.
//!
//! A test is chosen when any pick matches it (or there is no pick at all) and no drop does. Picks are read before
//! drops, so a drop always wins; the order in which several are given does not matter.

use globset::{GlobBuilder, GlobMatcher};
use regex::Regex;

use crate::{error::Error, name::TestName};

/// One pattern, as written and ready to match.
#[derive(Debug, Clone)]
pub struct Pattern {
    text: String,
    kind: Kind,
}

#[derive(Debug, Clone)]
enum Kind {
    Glob(GlobMatcher),
    /// It cannot be read as a glob, which is why; a test may still be called so.
    Name(String),
    Tag(String),
    Like(Regex),
}

impl Pattern {
    /// Reads a pattern. In a glob `*` stays within a part of the name, `**` crosses parts.
    ///
    /// # Errors
    /// If the glob or the regular expression cannot be read, or a tag is empty.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong = |why: String| Error::Pattern { pattern: text.to_owned(), why };
        let kind = if let Some(tag) = text.strip_prefix("tag:") {
            if tag.is_empty() {
                return Err(wrong("give the tag's word, like tag:smoke".into()));
            }
            Kind::Tag(tag.to_owned())
        } else if let Some(regex) = text.strip_prefix("regex:") {
            let why = |e: regex::Error| wrong(e.to_string().lines().last().unwrap_or_default().trim().to_owned());
            Kind::Like(Regex::new(regex).map_err(why)?)
        } else {
            return Self::glob(text);
        };
        Ok(Self { text: text.to_owned(), kind })
    }

    /// Reads a pattern that may be the exact name of a test, whatever that holds: an exact name always matches itself.
    /// Whether there is such a test is for who knows the tests to say ([`Pattern::only_a_name`]).
    ///
    /// # Errors
    /// If a regular expression cannot be read, or a tag or the pattern is empty.
    pub fn parse_or_name(text: &str) -> Result<Self, Error> {
        match Self::parse(text) {
            Err(Error::Pattern { why, .. })
                if TestName::parse(text).is_ok() && !text.starts_with("tag:") && !text.starts_with("regex:") =>
            {
                Ok(Self { text: text.to_owned(), kind: Kind::Name(why) })
            }
            read => read,
        }
    }

    /// Why the pattern is no more than a name: it cannot be read as a glob.
    #[must_use]
    pub fn only_a_name(&self) -> Option<&str> {
        if let Kind::Name(why) = &self.kind { Some(why) } else { None }
    }

    /// Reads a plain glob, without `tag:` and `regex:`; for files.
    ///
    /// # Errors
    /// If the glob cannot be read or is empty.
    pub fn glob(text: &str) -> Result<Self, Error> {
        let wrong = |why: String| Error::Pattern { pattern: text.to_owned(), why };
        if text.is_empty() {
            return Err(wrong("it is empty".into()));
        }
        let glob = GlobBuilder::new(text).literal_separator(true).backslash_escape(true).build();
        let glob = glob.map_err(|e| wrong(e.kind().to_string()))?;
        Ok(Self { text: text.to_owned(), kind: Kind::Glob(glob.compile_matcher()) })
    }

    /// Whether the pattern matches a test.
    #[must_use]
    pub fn matches(&self, name: &TestName, tags: &[String]) -> bool {
        match &self.kind {
            Kind::Tag(tag) => tags.contains(tag),
            _ => self.matches_text(name.as_str()),
        }
    }

    /// Whether a glob or regular expression matches a text; a tag never does.
    #[must_use]
    pub fn matches_text(&self, text: &str) -> bool {
        match &self.kind {
            Kind::Glob(glob) => text == self.text || glob.is_match(text),
            Kind::Like(regex) => regex.is_match(text),
            Kind::Name(_) => text == self.text,
            Kind::Tag(_) => false,
        }
    }

    /// The pattern as written.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

/// Picks and drops together.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    pub pick: Vec<Pattern>,
    pub drop: Vec<Pattern>,
}

impl Choice {
    /// Reads the texts of `--pick` and `--drop`.
    ///
    /// # Errors
    /// At the first pattern that cannot be read.
    pub fn parse(pick: &[String], drop: &[String]) -> Result<Self, Error> {
        let read = |texts: &[String]| texts.iter().map(|t| Pattern::parse_or_name(t)).collect::<Result<Vec<_>, _>>();
        Ok(Self { pick: read(pick)?, drop: read(drop)? })
    }

    /// Whether a drop matches a test.
    #[must_use]
    pub fn drops(&self, name: &TestName, tags: &[String]) -> bool {
        self.drop.iter().any(|p| p.matches(name, tags))
    }

    /// Whether a test is chosen.
    #[must_use]
    pub fn takes(&self, name: &TestName, tags: &[String]) -> bool {
        (self.pick.is_empty() || self.pick.iter().any(|p| p.matches(name, tags))) && !self.drops(name, tags)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn takes(pick: &[&str], drop: &[&str], name: &str, tags: &[&str]) -> bool {
        let own = |texts: &[&str]| texts.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
        Choice::parse(&own(pick), &own(drop)).unwrap().takes(&TestName::parse(name).unwrap(), &own(tags))
    }

    #[test]
    fn an_exact_name_always_matches_itself() {
        for name in ["fares/test[chrome-1]", "fares/[a", "fares/{x", "fares/a\\b*", "fares/[!]"] {
            assert!(takes(&[name], &[], name, &[]), "{name}");
        }
        assert!(!takes(&["fares/test[chrome-1]"], &[], "fares/test", &[]));
        let name = Pattern::parse_or_name("fares/test[chrome-1]").unwrap();
        assert!(name.only_a_name().is_some_and(|why| why.contains("range")), "{name:?}");
        assert!(Pattern::parse_or_name("fares/*").unwrap().only_a_name().is_none());
        assert!(Pattern::parse_or_name("regex:(").is_err() && Pattern::parse_or_name("").is_err());
    }

    #[test]
    fn picks_and_drops_combine() {
        type Case = (&'static [&'static str], &'static [&'static str], &'static str, &'static [&'static str], bool);
        let cases: &[Case] = &[
            (&[], &[], "gate/late/refused", &[], true),
            (&["gate/**"], &[], "gate/late/refused", &[], true),
            (&["gate/*"], &[], "gate/late/refused", &[], false),
            (&["gate/**"], &["tag:slow"], "gate/late/refused", &["slow"], false),
            (&["tag:smoke", "fares/**"], &[], "gate/open", &["smoke"], true),
            (&["regex:ref.sed$"], &[], "gate/late/refused", &[], true),
            (&["regex:^late"], &[], "gate/late/refused", &[], false),
            (&["gate/[a]"], &[], "gate/[a]", &[], true),
        ];
        for (pick, drop, name, tags, wanted) in cases {
            assert_eq!(takes(pick, drop, name, tags), *wanted, "{pick:?} {drop:?} {name}");
        }
    }

    #[test]
    fn a_pattern_that_cannot_be_read_says_why() {
        for (bad, why) in [("regex:(", "unclosed group"), ("tag:", "tag:smoke"), ("gate/{a", "unclosed"), ("", "empty")]
        {
            let error = Pattern::parse(bad).unwrap_err().to_string();
            assert!(error.contains(why), "{error}");
        }
    }
}
