//! The arguments of `commands/worker.rs`.

use std::path::PathBuf;

use super::{
    choosing::EngineAt,
    values::{pair, size},
};
use clap::{Args, Subcommand};
use kesmo_core::time::Bytes;

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Worker {
    /// The pool to work for
    #[arg(long, value_name = "POOL", default_value = "main")]
    pub pool: String,
    /// How many batches to run at once
    #[arg(long, value_name = "N", default_value_t = 2, value_parser = clap::value_parser!(u16).range(1..=1000))]
    pub slots: u16,
    /// A fact about this worker that suites may need (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair)]
    pub offer: Vec<(String, String)>,
    /// This worker's name [else: made from the machine's name]
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Where to keep bundles and files of running batches
    #[arg(long, value_name = "DIR")]
    pub home: Option<PathBuf>,
    /// How much to keep of suites' files that were fetched; the longest unused go first [default: 10 GiB]
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub keep_sources: Option<Bytes>,
    /// Fill fewer slots by itself while more of them slow the tests down
    #[arg(long)]
    pub ease: bool,
    /// Run tests as this user of the machine, who cannot read what is this worker's (needs root)
    #[arg(long, value_name = "USER")]
    pub run_as: Option<String>,
    #[command(flatten)]
    pub engine: EngineAt,
    #[command(subcommand)]
    pub command: Option<WorkerCommand>,
}

#[derive(Debug, Subcommand)]
pub enum WorkerCommand {
    /// Have a worker finish what it has and take nothing new
    Drain(DrainOf),
}

#[derive(Debug, Args)]
pub struct DrainOf {
    /// The worker's name, as `kesmo workers` tells it
    pub name: String,
    /// Have it take work again
    #[arg(long)]
    pub undo: bool,
    /// Wait until it has nothing left to do
    #[arg(long, conflicts_with = "undo")]
    pub wait: bool,
}
