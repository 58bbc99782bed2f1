//! The arguments of `commands/start.rs`.

use std::path::PathBuf;

use super::{
    choosing::{Choosing, Place, Running, Staying},
    values::integer,
};
use clap::Args;

#[derive(Debug, Args)]
pub struct Start {
    /// A suite's name, or a folder (`.`) to pack and run as it is
    #[arg(required_unless_present_any = ["from", "brief"])]
    pub suite: Option<String>,
    /// A saved brief; command-line options override it
    #[arg(long, value_name = "NAME", conflicts_with = "from")]
    pub brief: Option<String>,
    /// A file with the settings of the run (TOML); command-line options override it
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    #[command(flatten)]
    pub choosing: Choosing,
    #[command(flatten)]
    pub running: Running,
    #[command(flatten)]
    pub place: Place,
    #[command(flatten)]
    pub staying: Staying,
}

#[derive(Debug, Args)]
pub struct Again {
    /// SUITE/NUMBER
    pub run: String,
    /// Only what neither passed nor was flaky nor skipped
    #[arg(long)]
    pub not_passed: bool,
    /// Exactly the batches of one shard (see `kesmo show RUN --shards`), in their order and with the run's seed
    #[arg(long, value_name = "SHARD", conflicts_with = "not_passed", value_parser = integer::<u32>)]
    pub shard: Option<u32>,
    #[command(flatten)]
    pub staying: Staying,
}
