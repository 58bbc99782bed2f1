//! The arguments of `commands/queue.rs`.

use clap::{Args, Subcommand};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Queue {
    #[command(subcommand)]
    pub command: Option<QueueCommand>,
}

#[derive(Debug, Subcommand)]
pub enum QueueCommand {
    /// Put a run elsewhere in the queue of its pool
    Move(MoveRun),
    /// Take a run out: it is stopped
    Remove(RemoveRun),
}

#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("where").required(true))]
pub struct MoveRun {
    /// SUITE/NUMBER
    pub run: String,
    /// Before all others
    #[arg(long, group = "where")]
    pub first: bool,
    /// Before this run
    #[arg(long, value_name = "RUN", group = "where")]
    pub before: Option<String>,
    /// After all others
    #[arg(long, group = "where")]
    pub last: bool,
}

#[derive(Debug, Args)]
pub struct RemoveRun {
    /// SUITE/NUMBER
    pub run: String,
    /// Why
    #[arg(long, value_name = "TEXT")]
    pub why: Option<String>,
}
