//! The arguments of `commands/share.rs`.

use clap::Args;

#[derive(Debug, Args)]
pub struct Share {
    /// The run whose report is to be shown [else, without --badge or --feed: the addresses there are]
    #[arg(conflicts_with_all = ["badge", "feed", "brief", "branch"])]
    pub run: Option<String>,
    /// The address ends after this day (UTC): a date, 10d or 2w [a run's: 7d; else: none]
    #[arg(long, value_name = "DAY")]
    pub until: Option<String>,
    /// Share a badge (SVG) that says how this suite stands
    #[arg(long, value_name = "SUITE", conflicts_with = "feed", num_args = 0..=1)]
    pub badge: Option<Option<String>>,
    /// Share a feed (Atom) of this suite's runs that are over
    #[arg(long, value_name = "SUITE", num_args = 0..=1)]
    pub feed: Option<Option<String>>,
    /// The badge or feed is of this brief's runs
    #[arg(long, value_name = "BRIEF")]
    pub brief: Option<String>,
    /// The badge or feed is of what ran on this branch [all branches]
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// End the address of this number
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["run", "until", "badge", "feed", "brief", "branch"])]
    pub end: Option<i64>,
}
