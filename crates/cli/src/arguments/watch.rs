//! The arguments of `commands/watch.rs`.

use super::{choosing::Refresh, values::pair};
use clap::Args;

#[derive(Debug, Args)]
pub struct Watch {
    /// SUITE/NUMBER (several are shown together)
    #[arg(value_name = "RUN", required_unless_present = "all")]
    pub runs: Vec<String>,
    /// All runs, those that start later too, until you leave
    #[arg(long, conflicts_with = "runs")]
    pub all: bool,
    /// Write a report when it is over: junit, tap, json, csv or html (repeatable; of one run)
    #[arg(long, value_name = "FORMAT=FILE", value_parser = pair, conflicts_with = "all")]
    pub report: Vec<(String, String)>,
    #[command(flatten)]
    pub refresh: Refresh,
}
