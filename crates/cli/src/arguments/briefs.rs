//! The arguments of `commands/briefs.rs`.

use std::path::PathBuf;

use super::{
    choosing::{Choosing, Named, Place, Running},
    values::then_if,
};
use clap::{Args, Subcommand};
use kesmo_core::plan::brief::ThenIf;

#[derive(Debug, Subcommand)]
pub enum Brief {
    /// Save settings of a run
    Add(Box<AddBrief>),
    /// All briefs
    List,
    /// One brief
    Show(ShowBrief),
    /// Remove a brief that nothing starts
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct AddBrief {
    /// Its name: a-z, 0-9 and '-'
    pub name: String,
    /// The suite to run
    #[arg(long, value_name = "SUITE")]
    pub suite: Option<String>,
    /// Take the settings from a file (TOML); command-line options override it
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    #[command(flatten)]
    pub choosing: Choosing,
    #[command(flatten)]
    pub running: Running,
    #[command(flatten)]
    pub place: Place,
    /// The brief to start after a run of this one
    #[arg(long, value_name = "BRIEF", help_heading = "What follows")]
    pub then: Option<String>,
    /// After which verdicts: passed, failed or any
    #[arg(long, value_name = "WHEN", value_parser = then_if, requires = "then", help_heading = "What follows")]
    pub then_if: Option<ThenIf>,
    /// A run of a newer commit stops one of the same branch that is not over
    #[arg(long, help_heading = "What follows")]
    pub replace_older: bool,
    /// Replace the brief of that name
    #[arg(long)]
    pub replace: bool,
}

#[derive(Debug, Args)]
pub struct ShowBrief {
    pub name: String,
    /// As a file, for --from
    #[arg(long)]
    pub toml: bool,
}
