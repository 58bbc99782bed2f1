//! The arguments of `commands/failing.rs`.

use clap::Args;

#[derive(Debug, Args)]
pub struct Failing {
    /// A suite's name [else: all suites]
    pub suite: Option<String>,
    /// Only on this branch
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// Only in this pool
    #[arg(long, value_name = "POOL")]
    pub pool: Option<String>,
    /// The branch is gone: what failed on it fails no more (the runs stay)
    #[arg(long, requires_all = ["suite", "branch"], conflicts_with = "pool")]
    pub gone: bool,
}
