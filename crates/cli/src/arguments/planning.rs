//! The arguments of `commands/planning.rs`.

use super::{choosing::Choosing, values::integer};
use clap::Args;

#[derive(Debug, Args)]
pub struct Forecast {
    /// A suite's name, or a folder
    pub suite: String,
    /// Numbers of shards: 8, 1..32 or 1,2,4,8
    #[arg(long, value_name = "SHARDS", default_value = "1..32")]
    pub shards: String,
    /// The pool whose records and slots count
    #[arg(long, value_name = "POOL")]
    pub pool: Option<String>,
    #[command(flatten)]
    pub choosing: Choosing,
}

#[derive(Debug, Args)]
pub struct PortionOf {
    /// A suite's name, or a folder
    pub suite: String,
    /// Which of how many, like 2/5
    #[arg(value_name = "N/M")]
    pub portion: String,
    /// Jobs that name the same key cut by the same records
    #[arg(long, value_name = "KEY", conflicts_with = "stamp")]
    pub key: Option<String>,
    /// Cut by the records as they were at this stamp
    #[arg(long, value_name = "STAMP", value_parser = integer::<i64>)]
    pub stamp: Option<i64>,
    /// The pool whose records count
    #[arg(long, value_name = "POOL")]
    pub pool: Option<String>,
    #[command(flatten)]
    pub choosing: Choosing,
}

#[derive(Debug, Args)]
pub struct Park {
    /// The suite's name
    pub suite: String,
    /// A test's name, or a pattern as --pick takes it
    #[arg(value_name = "TEST|PATTERN")]
    pub pattern: String,
    /// The last day: 2026-12-31, or 10d, or 2w from today (by UTC)
    #[arg(long, value_name = "DATE")]
    pub until: String,
    /// Why, for those who wonder later
    #[arg(long, value_name = "TEXT")]
    pub why: String,
    /// Where it holds [else: everywhere]: env=NAME, pool=NAME, branch=GLOB or variant=FACET=VALUE (repeatable; all must be so)
    #[arg(long, value_name = "PLACE")]
    pub only: Vec<String>,
}

#[derive(Debug, Args)]
pub struct Unpark {
    /// The suite's name
    pub suite: String,
    /// As it was parked
    #[arg(value_name = "TEST|PATTERN")]
    pub pattern: String,
}

#[derive(Debug, Args)]
pub struct Parked {
    /// Only of this suite
    pub suite: Option<String>,
}
