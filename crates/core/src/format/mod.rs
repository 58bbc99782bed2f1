//! The open formats that results come and go in.

pub mod badge;
pub mod csv;
pub mod events;
pub mod feed;
pub mod html;
pub mod imported;
pub mod junit;
pub mod points;
pub mod report;
pub mod subtests;
pub mod tap;
mod whole;

use serde::{Deserialize, Serialize};

use crate::{time::Span, words::Ended};

/// A step within an attempt: a TAP subtest, or a `step` event line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Step {
    pub name: String,
    #[serde(default = "yes")]
    pub ok: bool,
    /// Milliseconds, where the suite says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms: Option<f64>,
}

/// Text as XML takes it: markup written out, and without the control characters that XML 1.0 does not have.
fn plain_xml(text: &str) -> String {
    let kept: String = text.chars().filter(|c| !c.is_control() || matches!(c, '\n' | '\t')).collect();
    quick_xml::escape::escape(kept.as_str()).into_owned()
}

fn yes() -> bool {
    true
}

/// What a suite reported of one test.
#[derive(Debug, Clone, PartialEq)]
pub struct Reported {
    pub ended: Ended,
    /// What the suite measured itself.
    pub spent: Option<Span>,
    /// The first lines of why it failed or was skipped; empty if there is nothing to say.
    pub message: String,
    /// More of it, such as a stack trace.
    pub detail: String,
    pub steps: Vec<Step>,
}

impl Reported {
    /// A result with nothing more to say.
    #[must_use]
    pub fn plain(ended: Ended) -> Self {
        Self { ended, spent: None, message: String::new(), detail: String::new(), steps: Vec::new() }
    }
}
