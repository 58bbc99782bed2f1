//! Names that cross floors: test names, slugs, and the nearest known name to a misspelt one.

use std::{
    collections::{HashMap, hash_map::Entry},
    fmt,
    hash::{DefaultHasher, Hash, Hasher},
    sync::Arc,
};

use serde::{Deserialize, Serialize};

use crate::error::Error;

/// The longest test name, in bytes.
pub const LONGEST_TEST_NAME: usize = 1000;

/// The name of a test: a path of parts split by `/`, at most [`LONGEST_TEST_NAME`] bytes, on one line.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct TestName(Arc<str>);

impl TestName {
    /// Reads a name.
    ///
    /// # Errors
    /// If it is empty, longer than [`LONGEST_TEST_NAME`], begins or ends in white space, or holds a control character.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let rule = if text.is_empty() {
            "a test's name has at least one character"
        } else if text.len() > LONGEST_TEST_NAME {
            "a test's name has at most 1000 bytes"
        } else if text.trim() != text {
            "a test's name does not begin or end in white space"
        } else if text.chars().any(char::is_control) {
            "a test's name holds no control characters"
        } else {
            return Ok(Self(Arc::from(text)));
        };
        Err(Error::Name { what: "the test name", value: shorten(text, 80), rule })
    }

    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The first `parts` parts of the path, for `group-by`.
    #[must_use]
    pub fn first_parts(&self, parts: usize) -> String {
        self.0.split('/').take(parts).collect::<Vec<_>>().join("/")
    }
}

impl fmt::Display for TestName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for TestName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", &self.0)
    }
}

impl TryFrom<String> for TestName {
    type Error = Error;
    fn try_from(text: String) -> Result<Self, Error> {
        Self::parse(&text)
    }
}

impl From<TestName> for String {
    fn from(name: TestName) -> Self {
        name.0.to_string()
    }
}

/// The longest title of a case, in bytes.
pub const LONGEST_CASE_TITLE: usize = 500;

/// The title of a case that has none.
pub const NO_TITLE: &str = "(no title)";

/// The title of a case as it is kept: on one line, without control characters, never empty, and at most
/// [`LONGEST_CASE_TITLE`] bytes. One that is longer is cut and marked by its digest, so that two that begin alike stay two.
/// A title that was made so stays as it is.
#[must_use]
pub fn case_title(text: &str) -> String {
    let clean: String = text.trim().chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
    if clean.is_empty() {
        return NO_TITLE.to_owned();
    }
    if clean.len() <= LONGEST_CASE_TITLE {
        return clean;
    }
    let digest = <sha2::Sha256 as sha2::Digest>::digest(text.as_bytes());
    let digest: String = digest.iter().take(6).map(|byte| format!("{byte:02x}")).collect();
    let most = LONGEST_CASE_TITLE - 24;
    let end = (0..=most).rev().find(|at| clean.is_char_boundary(*at)).unwrap_or(0);
    format!("{}… ({digest})", &clean[..end])
}

/// Names that are to be unlike each other: how often each came, by its hash, as they are many and long.
#[derive(Debug, Clone, Default)]
pub struct Titles(HashMap<u64, u32>);

impl Titles {
    /// A title unlike all that came before: one that comes again is numbered, and brought to the shape of a title.
    pub fn unlike(&mut self, title: &str, shape: impl Fn(String) -> String) -> String {
        let times = self.0.entry(hash(title)).or_insert(0);
        *times += 1;
        if *times == 1 {
            return title.to_owned();
        }
        let mut number = *times;
        loop {
            let numbered = shape(format!("{title} ({number})"));
            if let Entry::Vacant(fresh) = self.0.entry(hash(&numbered)) {
                fresh.insert(1);
                self.0.insert(hash(title), number);
                return numbered;
            }
            number += 1;
        }
    }
}

fn hash(title: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    title.hash(&mut hasher);
    hasher.finish()
}

/// FNV-1a, 64 bits (G. Fowler, L. C. Noll, K.-P. Vo): the same on every machine and in every version.
pub(crate) fn lasting_hash(text: &str) -> u64 {
    text.bytes().fold(0xcbf2_9ce4_8422_2325, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3))
}

/// Parts a name into a file and what stands behind it, where a beginning of it is one: the longest that is.
pub fn part_by_file(name: &str, is_file: impl Fn(&str) -> bool) -> Option<(&str, &str)> {
    let ends = name.rmatch_indices('/').map(|(at, _)| (&name[..at], &name[at + 1..]));
    ends.into_iter().find(|(file, _)| is_file(file))
}

/// A short name of a suite, pool or token: `a-z`, `0-9` and `-`, 1 to 60 characters, beginning with a letter or digit.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Slug(String);

impl Slug {
    /// Reads a slug; `what` names the thing in the error.
    ///
    /// # Errors
    /// If the text breaks the rule above.
    pub fn parse(what: &'static str, text: &str) -> Result<Self, Error> {
        let fits = (1..=60).contains(&text.len())
            && !text.starts_with('-')
            && text.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
        if fits {
            Ok(Self(text.to_owned()))
        } else {
            let rule = "use 1 to 60 of a-z, 0-9 and '-', beginning with a letter or digit";
            Err(Error::Name { what, value: shorten(text, 80), rule })
        }
    }

    /// The slug as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Slug {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for Slug {
    type Error = Error;
    fn try_from(text: String) -> Result<Self, Error> {
        Self::parse("the name", &text)
    }
}

impl From<Slug> for String {
    fn from(slug: Slug) -> Self {
        slug.0
    }
}

/// A run's name: its suite and its number, `boarding-gate/42`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RunName {
    pub suite: Slug,
    pub number: u32,
}

impl RunName {
    /// Reads `SUITE/NUMBER`.
    ///
    /// # Errors
    /// If there is no `/`, the suite is not a valid slug, or the number is no whole number from 1.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let rule = "a run is named by suite and number, like boarding-gate/42";
        let wrong = || Error::Name { what: "the run", value: shorten(text, 80), rule };
        let (suite, number) = text.split_once('/').ok_or_else(wrong)?;
        let number = number.parse().ok().filter(|n| *n > 0).ok_or_else(wrong)?;
        Ok(Self { suite: Slug::parse("the suite", suite)?, number })
    }
}

impl fmt::Display for RunName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.suite, self.number)
    }
}

/// Breaks a text between words into lines of at most `width` characters; a word that is longer stands alone.
#[must_use]
pub fn fold(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(last) if last.chars().count() + 1 + word.chars().count() <= width => {
                last.push(' ');
                last.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// Colours and other control sequences of terminals (ECMA-48), as a regular expression.
pub(crate) const CONTROL_SEQUENCE: &str = r"\x1b\[[0-9;?]*[ -/]*[@-~]";

/// Cuts `text` to at most `most` characters, saying so with `…`.
#[must_use]
pub fn shorten(text: &str, most: usize) -> String {
    match text.char_indices().nth(most) {
        None => text.to_owned(),
        Some((cut, _)) => format!("{}…", &text[..cut]),
    }
}

/// A longer word, in bytes, is no misspelt one: comparing it with many would take seconds.
const LONGEST_MISSPELT: usize = 300;

/// The known words nearest to `word`, best first, at most `most`; only those near enough to be meant.
///
/// Nearness is the edit distance of Damerau and Levenshtein (swaps of neighbours count one). A word that holds the
/// other as a part counts as near too, so that `refused` finds `gate/late/refused`. Nothing is near to more than 300 bytes.
#[must_use]
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>, most: usize) -> Vec<&'a str> {
    if word.len() > LONGEST_MISSPELT {
        return Vec::new();
    }
    let lower = word.to_lowercase();
    let reach = (word.chars().count() / 3).max(2);
    let mut found: Vec<(usize, &str)> = known
        .into_iter()
        .filter_map(|k| {
            let other = k.to_lowercase();
            let part = lower.len() >= 3 && (other.contains(&lower) || (other.len() >= 3 && lower.contains(&other)));
            // The distance is at least the difference in length, so most words are dismissed without computing it.
            if !part && k.len().abs_diff(word.len()) > reach * 2 {
                return None;
            }
            // A part is no farther than the reach, however much there is around it.
            let far = if part && other.len() > LONGEST_MISSPELT { reach } else { strsim::osa_distance(&lower, &other) };
            (far <= reach || part).then_some((if part { far.min(reach) } else { far }, k))
        })
        .collect();
    found.sort();
    found.truncate(most);
    found.into_iter().map(|(_, k)| k).collect()
}

/// `; did you mean "times"?`, or nothing where no known word is near.
#[must_use]
pub fn did_you_mean<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    let near = nearest(word, known, 3);
    match near.as_slice() {
        [] => String::new(),
        near => format!("; did you mean {}?", near.iter().map(|n| format!("{n:?}")).collect::<Vec<_>>().join(" or ")),
    }
}

/// A word as a shell reads it.
///
/// ```
/// use kesmo_core::name::for_shell;
/// assert_eq!(["os=linux", "a b", "it's", ""].map(for_shell), ["os=linux", "'a b'", r"'it'\''s'", "''"]);
/// ```
#[must_use]
pub fn for_shell(word: &str) -> String {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_=./:,@%+".contains(&b);
    if !word.is_empty() && word.bytes().all(plain) {
        word.to_owned()
    } else {
        format!("'{}'", word.replace('\'', r"'\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn titles_of_cases_are_brought_within_bounds_and_stay_apart() {
        assert_eq!(case_title(" pays by card\t"), "pays by card");
        assert_eq!(case_title("a\0b\nc"), "a\u{fffd}b\u{fffd}c");
        assert_eq!(case_title(" \n"), "(no title)");
        let long = "é".repeat(50_000);
        let (one, two) = (case_title(&long), case_title(&format!("{long}!")));
        assert!(one.len() <= LONGEST_CASE_TITLE && one != two, "{one}");
        assert_eq!(case_title(&one), one);
    }

    #[test]
    fn a_test_name_is_one_trimmed_line() {
        assert!(TestName::parse("gate/late/passenger_without_ticket").is_ok());
        for bad in ["", " gate", "gate\nlate", "gate\u{1b}[31m", &"x".repeat(1001)] {
            let error = TestName::parse(bad).unwrap_err().to_string();
            assert!(error.contains("a test's name"), "{error}");
        }
    }

    #[test]
    fn a_run_is_named_by_suite_and_number() {
        assert_eq!(RunName::parse("boarding-gate/42").unwrap().to_string(), "boarding-gate/42");
        for bad in ["boarding-gate", "boarding-gate/0", "boarding-gate/x", "Gate/1"] {
            assert!(RunName::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn the_nearest_name_forgives_typing() {
        assert_eq!(nearest("time", ["times", "pause", "other-worker"], 3), ["times"]);
        assert_eq!(nearest("tset", ["test", "batch"], 3), ["test"]);
        assert_eq!(nearest("refused", ["gate/late/refused", "fares/child"], 3), ["gate/late/refused"]);
        assert!(nearest("zebra", ["times", "pause"], 3).is_empty());
        assert_eq!(did_you_mean("time", ["times"]), "; did you mean \"times\"?");
        // A long name is found by its part; who sends a long word has not mistyped it.
        let long = format!("gate/{}/refused", "late".repeat(200));
        assert_eq!(nearest("refused", [long.as_str(), "fares/child"], 3), [long.as_str()]);
        assert!(nearest(&long, [long.as_str()], 3).is_empty());
    }

    #[test]
    fn group_by_takes_the_first_parts() {
        let name = TestName::parse("a/b/c").unwrap();
        assert_eq!(name.first_parts(2), "a/b");
        assert_eq!(name.first_parts(9), "a/b/c");
    }
}
