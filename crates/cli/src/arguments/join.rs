//! The arguments of `commands/join.rs`.

use super::{
    choosing::{Choosing, EngineAt, Refresh, Running},
    values::pair,
};
use clap::Args;

#[derive(Debug, Args)]
pub struct Join {
    /// SUITE/NUMBER
    #[arg(required_unless_present_any = ["key", "pool"])]
    pub run: Option<String>,
    /// Meet on this key: the first job that comes starts the run
    #[arg(long, value_name = "KEY", requires = "suite", conflicts_with = "run")]
    pub key: Option<String>,
    /// Only a run that is not over: a key of one that is over is refused
    #[arg(long = "running", requires = "key")]
    pub only_running: bool,
    /// What to start: a suite's name, or a folder to pack
    #[arg(long, value_name = "SUITE", requires = "key")]
    pub suite: Option<String>,
    #[command(flatten)]
    pub choosing: Choosing,
    #[command(flatten)]
    pub running: Running,
    /// With a key: the pool whose workers help, besides those that join. With neither run nor key: the pool to lend this machine
    /// to, until it is needed no more
    #[arg(long, value_name = "POOL", help_heading = "How they run")]
    pub pool: Option<String>,
    /// How many batches to run at once here [else: as many as this machine has processors]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1000))]
    pub slots: Option<u16>,
    /// A fact about this machine that suites may need (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair)]
    pub offer: Vec<(String, String)>,
    /// A name for this machine [else: made from the machine's name]
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// End with the status of what ran here, instead of the run's
    #[arg(long)]
    pub own_status: bool,
    /// Write a report of the whole run when it is over: junit, tap, json, csv or html (repeatable)
    #[arg(long, value_name = "FORMAT=FILE", value_parser = pair)]
    pub report: Vec<(String, String)>,
    #[command(flatten)]
    pub engine: EngineAt,
    #[command(flatten)]
    pub refresh: Refresh,
}
