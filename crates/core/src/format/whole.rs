//! What a report says: of the run as a whole, and of each entry.

use crate::{
    run::cases::CaseTally,
    suite::container::Image,
    time::Span,
    words::{Ended, Outcome, Verdict},
};

/// What a report says of the run as a whole.
#[derive(Debug, Clone, Default)]
pub struct Whole<'a> {
    /// `boarding-gate/42`
    pub name: &'a str,
    /// The run's wall time.
    pub took: Span,
    /// When it began, in UTC: `2026-11-27T08:00:00`; empty where it did not.
    pub began: &'a str,
    /// `None`: it is not over.
    pub verdict: Option<Verdict>,
    pub reason: &'a str,
    /// What went wrong beside the tests and fails the run.
    pub wrongs: &'a [String],
    /// A flaky entry fails the run.
    pub flaky_fails: bool,
    /// The images that its processes ran in.
    pub images: &'a [Image],
    /// What else is told of it, by name: labels, branch, commit, what it measured.
    pub properties: &'a [(String, String)],
}

impl Whole<'_> {
    /// Why the run is no pass, for reasons that no case shows: a case of its own says so, as error (the run was not carried
    /// out whole) or as failure, so that no reader takes the report for that of a run that passed.
    pub(super) fn troubles(&self, cases: &[ReportCase<'_>]) -> Vec<Trouble> {
        let error = |what: &str| Trouble { error: true, what: what.to_owned(), why: self.reason.to_owned() };
        let wrongs = self.wrongs.iter().map(|why| Trouble { error: false, what: "failed".into(), why: why.clone() });
        let mut all: Vec<Trouble> = match self.verdict {
            None => vec![Trouble { error: true, what: "not over".into(), why: "the run is not over yet".into() }],
            Some(verdict @ (Verdict::Void | Verdict::Stopped)) => vec![error(verdict.word())],
            Some(Verdict::Passed | Verdict::Failed) => Vec::new(),
        };
        all.extend(wrongs);
        // Whatever the verdict rests on, a report of a failed run has a failure.
        if all.is_empty() && self.verdict == Some(Verdict::Failed) && !cases.iter().any(|c| self.fails(c.outcome)) {
            all.push(Trouble { error: false, what: "failed".into(), why: self.reason.to_owned() });
        }
        all
    }

    /// Whether an entry with that outcome fails the run.
    pub(super) fn fails(&self, outcome: Outcome) -> bool {
        outcome == Outcome::Failed || (outcome == Outcome::Flaky && self.flaky_fails)
    }
}

/// Something that no case shows.
pub(super) struct Trouble {
    pub error: bool,
    pub what: String,
    pub why: String,
}

/// The name of the case that speaks of the run as a whole.
pub(super) const THE_RUN: &str = "the run as a whole";

/// The name of the case that speaks of a file itself, and not of its cases.
pub(super) const THE_FILE: &str = "the file itself";

/// Whether a report says something of a file itself besides its cases: it has none, or they do not show what became of it.
/// `last` is how its last attempt ended.
#[must_use]
pub fn says_of_file(outcome: Outcome, cases: &CaseTally, last: Option<Ended>) -> bool {
    match outcome {
        _ if cases.is_empty() => true,
        Outcome::Failed => cases.failed == 0 || matches!(last, Some(Ended::TimedOut | Ended::Crashed | Ended::Lost)),
        Outcome::Flaky => cases.flaky == 0,
        Outcome::NotRun => true,
        Outcome::Passed | Outcome::Skipped | Outcome::Parked => false,
    }
}

/// One entry of a report.
#[derive(Debug, Clone)]
pub struct ReportCase<'a> {
    pub name: &'a str,
    /// The file that it is a case of, with which its name begins; empty for a test.
    pub file: &'a str,
    /// As written; empty for a suite without facets.
    pub variant: &'a str,
    pub outcome: Outcome,
    /// What the attempt that decided took.
    pub spent: Span,
    /// How each attempt ended, in order.
    pub attempts: Vec<ReportAttempt<'a>>,
    /// Why it is set aside, of a parked one.
    pub why_parked: Option<&'a str>,
}

impl ReportCase<'_> {
    /// The name in two: of what it belongs to, and its own.
    pub(super) fn parts(&self) -> (&str, &str) {
        match self.name.strip_prefix(self.file).and_then(|rest| rest.strip_prefix('/')) {
            Some(title) if !self.file.is_empty() => (self.file, title),
            _ if !self.file.is_empty() => (self.file, THE_FILE),
            _ => self.name.rsplit_once('/').unwrap_or(("", self.name)),
        }
    }

    /// Of a parked one: why it is, and how it failed if it ran nonetheless.
    pub(super) fn parked_said(&self) -> String {
        let why = self.why_parked.map(|why| format!(": {why}")).unwrap_or_default();
        let failed = self.attempts.iter().rev().find(|a| a.ended.failing());
        let failed = failed.map(|a| format!("; it ran and {}: {}", a.ended, a.message)).unwrap_or_default();
        format!("parked{why}{failed}")
    }
}

/// One attempt of a report.
#[derive(Debug, Clone)]
pub struct ReportAttempt<'a> {
    pub ended: Ended,
    pub message: &'a str,
    pub detail: &'a str,
    /// The end of what it printed, of a failing one.
    pub output: String,
}

/// What an attempt printed stands in a report up to this, in bytes: its end.
pub const LONGEST_OUTPUT: usize = 8 << 10;
/// And that of so many failing attempts.
pub const MOST_OUTPUTS: usize = 200;

/// The end of what an attempt printed, where it says why.
#[must_use]
pub fn end_of(text: String) -> String {
    if text.len() <= LONGEST_OUTPUT {
        return text;
    }
    let from = (text.len() - LONGEST_OUTPUT..text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    format!("… the {from} bytes before are left out\n{}", &text[from..])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_a_long_log_the_end_is_told() {
        let text = "ü".repeat(LONGEST_OUTPUT);
        let end = end_of(text);
        assert!(end.starts_with("… the ") && end.ends_with('ü') && end.len() < LONGEST_OUTPUT + 100);
        assert_eq!(end_of("short".into()), "short");
    }
}
