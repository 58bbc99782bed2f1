//! The arguments of `commands/watch.rs`.

use super::choosing::Refresh;
use clap::Args;

#[derive(Debug, Args)]
pub struct Watch {
    /// SUITE/NUMBER (several are shown together)
    #[arg(value_name = "RUN", required_unless_present = "all")]
    pub runs: Vec<String>,
    /// All runs, those that start later too, until you leave
    #[arg(long, conflicts_with = "runs")]
    pub all: bool,
    #[command(flatten)]
    pub refresh: Refresh,
}
