//! The arguments of `commands/covers.rs`.

use clap::Args;

#[derive(Debug, Args)]
pub struct Covers {
    /// Show the tests of this requirement [else: all requirements]
    pub requirement: Option<String>,
    /// Only tests of this suite
    #[arg(long, value_name = "SUITE")]
    pub suite: Option<String>,
    /// Only what runs of this branch showed [else: of any]
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// Print comma-separated values: each test of each requirement
    #[arg(long, conflicts_with_all = ["json", "requirement"])]
    pub csv: bool,
}
