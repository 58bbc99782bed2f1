//! Which failures are alike: messages without what differs from one occurrence to the next.
//!
//! Two hundred failures with one cause should read as one. A message is brought into a common form by replacing what
//! usually differs (numbers, hexadecimal ids, times, quoted values, paths) with a mark for its kind; failures of one form
//! have, as far as one can tell from outside, one cause.

use std::{collections::BTreeMap, sync::LazyLock};

use regex::Regex;

use crate::name::{CONTROL_SEQUENCE, shorten};

/// The longest form, in letters; what comes after rarely says more of the cause.
const LONGEST: usize = 300;

static MARKS: LazyLock<[(Regex, &str); 8]> = LazyLock::new(|| {
    // The patterns are constants, and the tests read all of them.
    let regex = |pattern: &str| Regex::new(pattern).unwrap_or_else(|_| unreachable!("the pattern is a constant"));
    [
        (regex(CONTROL_SEQUENCE), ""),
        (regex(r"(?i)\b[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\b"), "<id>"),
        (regex(r"\b\d{4}-\d{2}-\d{2}(?:[T ]\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?:Z|[+-]\d{2}:?\d{2})?)?\b"), "<time>"),
        (regex(r"\b\d{1,2}:\d{2}(?::\d{2}(?:\.\d+)?)?\b"), "<time>"),
        (regex(r"(?i)\b0x[0-9a-f]+\b|\b[0-9a-f]*\d[0-9a-f]*[a-f][0-9a-f]{4,}\b"), "<id>"),
        (regex(r"(?:/[\w.@+-]+){2,}/?"), "<path>"),
        (regex(r"\d+(?:[.,]\d+)*"), "<n>"),
        (regex(r"\s+"), " "),
    ]
});

/// The common form of a message: its first lines, with marks in place of what differs between occurrences.
///
/// ```
/// use kesmo_core::record::likeness;
/// assert_eq!(likeness("no answer from 10.0.3.7:5432 after 31 s"), likeness("no answer from 10.0.3.9:5433 after 30 s"));
/// assert_ne!(likeness("no answer after 31 s"), likeness("wrong answer after 31 s"));
/// ```
#[must_use]
pub fn likeness(message: &str) -> String {
    let mut form: String = message.chars().take(LONGEST * 4).collect();
    for (regex, mark) in MARKS.iter() {
        form = regex.replace_all(&form, *mark).into_owned();
    }
    let form = shorten(form.trim(), LONGEST);
    if form.is_empty() { "no message".to_owned() } else { form }
}

/// Failures that look as if they had one cause.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cause<K> {
    pub likeness: String,
    /// One of the messages, as it was.
    pub example: String,
    /// What failed so, in the order given.
    pub members: Vec<K>,
}

/// Gathers failures by likeness: those with the most members first, of two the one that came first.
pub fn causes<K>(failures: impl IntoIterator<Item = (K, String)>) -> Vec<Cause<K>> {
    let mut places: BTreeMap<String, usize> = BTreeMap::new();
    let mut found: Vec<Cause<K>> = Vec::new();
    for (member, message) in failures {
        let likeness = likeness(&message);
        match places.get(&likeness) {
            Some(place) => found[*place].members.push(member),
            None => {
                places.insert(likeness.clone(), found.len());
                found.push(Cause { likeness, example: message, members: vec![member] });
            }
        }
    }
    found.sort_by_key(|cause| std::cmp::Reverse(cause.members.len()));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_differs_between_occurrences_is_marked() {
        let cases = [
            ("expected 42, got 17.5", "expected <n>, got <n>"),
            ("berth 9f86d081884c7d65 is taken", "berth <id> is taken"),
            ("at 2026-11-23T09:28:36Z the gate was Closed", "at <time> the gate was Closed"),
            ("cannot open /tmp/kesmo/batch-7/out.txt", "cannot open <path>"),
            ("ticket 6ba7b810-9dad-11d1-80b4-00c04fd430c8\n  refused", "ticket <id> refused"),
            ("\x1b[31mfailed\x1b[0m at 09:15", "failed at <time>"),
            ("  ", "no message"),
        ];
        for (message, form) in cases {
            assert_eq!(likeness(message), form);
        }
    }

    #[test]
    fn words_that_only_look_like_ids_are_kept() {
        assert_eq!(likeness("decade of added facade"), "decade of added facade");
        assert_eq!(likeness("expected Closed, got Boarding"), "expected Closed, got Boarding");
    }

    #[test]
    fn two_hundred_failures_of_one_cause_read_as_one() {
        let mut failures: Vec<(u32, String)> = vec![(900, "gate stuck".into())];
        failures.extend((0..200).map(|n| (n, format!("no answer from berth {n} after {} ms", 3000 + n))));
        let causes = causes(failures);
        assert_eq!(causes.len(), 2);
        assert_eq!(causes[0].likeness, "no answer from berth <n> after <n> ms");
        assert_eq!(causes[0].members.len(), 200);
        assert_eq!((causes[1].example.as_str(), causes[1].members.as_slice()), ("gate stuck", [900].as_slice()));
    }
}
