//! What can be wrong with what a person or a program hands to the core.
//!
//! Every message says what was wrong, where, and what to do about it.

use std::fmt;

/// Refusals of the core, each written for the person who has to mend it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Error {
    /// A suite file with one or more problems; each names its line and key.
    #[error("{}", list_problems(.0))]
    SuiteFile(Vec<Problem>),
    /// A name (test, suite, label, token …) that breaks its rules.
    #[error("{what} {value:?} is not usable: {rule}")]
    Name { what: &'static str, value: String, rule: &'static str },
    /// A pick or drop pattern that cannot be read.
    #[error("the pattern {pattern:?} cannot be read: {why}")]
    Pattern { pattern: String, why: String },
    /// A duration or size that cannot be read.
    #[error("{value:?} is not a {what}: write it like {example}")]
    Quantity { what: &'static str, value: String, example: &'static str },
    /// The list command's output cannot be used.
    #[error("the list of tests cannot be used: {0}")]
    Listing(String),
    /// Options of a start that do not fit the suite.
    #[error("{0}")]
    Options(String),
    /// A cron expression, time zone or schedule that cannot be used.
    #[error("{0}")]
    Calendar(String),
    /// An address, branch or commit of version control that cannot be used.
    #[error("{0}")]
    Source(String),
    /// A webhook, or a delivery to one, that cannot be used.
    #[error("{0}")]
    Webhook(String),
    /// A pool that cannot be made like that.
    #[error("{0}")]
    Pool(String),
    /// A request that cannot be made like that.
    #[error("{0}")]
    Request(String),
    /// A notice that cannot be sent like that.
    #[error("{0}")]
    Notice(String),
    /// A JSON Pointer that cannot be read, or finds nothing.
    #[error("{0}")]
    Pointer(String),
    /// Results that cannot be read.
    #[error("{0}")]
    Format(String),
}

fn list_problems(problems: &[Problem]) -> String {
    problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

/// One thing wrong with a suite file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    pub file: String,
    /// From 1.
    pub line: usize,
    pub message: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} line {}: {}", self.file, self.line, self.message)
    }
}
