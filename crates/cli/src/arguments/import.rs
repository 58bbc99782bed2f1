//! The arguments of `commands/import.rs`.

use std::path::PathBuf;

use super::values::pair;
use clap::Args;

#[derive(Debug, Args)]
pub struct Import {
    /// Files of results, each JUnit XML, TAP or event lines; `-` is standard input
    #[arg(required = true)]
    pub files: Vec<PathBuf>,
    /// The suite that they are of
    #[arg(long, value_name = "SUITE")]
    pub suite: String,
    /// Add the suite if it is not there; it takes such results only, until its files are added
    #[arg(long)]
    pub new: bool,
    /// When they ran: 2026-11-25T22:00:00Z, or 2026-11-25 22:00 by this machine's clock [else: now]
    #[arg(long, value_name = "TIME")]
    pub at: Option<String>,
    /// A label to find the run by later (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair)]
    pub label: Vec<(String, String)>,
    /// The branch that was tested
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// The commit that was tested
    #[arg(long, value_name = "COMMIT")]
    pub commit: Option<String>,
    /// The variant that ran, by the value of a facet (repeatable)
    #[arg(long, value_name = "FACET=VALUE")]
    pub variant: Vec<String>,
    /// The pool in whose records they are kept [default: main]
    #[arg(long, value_name = "POOL")]
    pub pool: Option<String>,
    /// End with the verdict's status, as `start --wait` does
    #[arg(long)]
    pub with_verdict: bool,
}
