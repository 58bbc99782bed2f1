//! The arguments of `commands/usage.rs`.

use clap::Args;

#[derive(Debug, Args)]
pub struct Usage {
    /// What to sum up by: suite, brief, account, pool, month, run or label:KEY
    #[arg(long, value_name = "WHAT", default_value = "suite")]
    pub by: String,
    /// Only runs of this suite
    #[arg(long, value_name = "SUITE")]
    pub suite: Option<String>,
    /// Runs made from this day on (UTC) [else: 30 days before]
    #[arg(long, value_name = "DATE")]
    pub from: Option<String>,
    /// Runs made before this day (UTC) [else: tomorrow]
    #[arg(long, value_name = "DATE")]
    pub until: Option<String>,
    /// Print comma-separated values, in seconds
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
}
