//! The arguments of `commands/drafting.rs`.

use std::path::PathBuf;

use super::{
    choosing::{Choosing, EngineAt},
    values::integer,
};
use clap::Args;

#[derive(Debug, Clone, Args)]
pub struct DraftSuite {
    #[arg(default_value = ".")]
    pub folder: PathBuf,
    /// The suite's name [else: the folder's]
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// What it tests, in a line
    #[arg(long, value_name = "TEXT")]
    pub about: Option<String>,
    /// The files that are its tests, or hold them: a glob like tests/*.sh [else: those that look like it]
    #[arg(long, value_name = "GLOB")]
    pub files: Option<String>,
    /// The command that prints the names, one a line
    #[arg(long, value_name = "COMMAND")]
    pub list: Option<String>,
    /// The command that runs them, with {name}, {names} or {names-file}: 'sh {name}'
    #[arg(long, value_name = "COMMAND")]
    pub run: Option<String>,
    /// The command that runs some cases of a file, with {name} and {cases-file}
    #[arg(long, value_name = "COMMAND")]
    pub rerun: Option<String>,
    /// How results come: tap, junit, events or exit (the status of a process)
    #[arg(long, value_name = "KIND")]
    pub results: Option<String>,
    /// What the list names: a test, or a file whose cases are found as it runs
    #[arg(long, value_name = "test|file")]
    pub each: Option<String>,
    /// Where JUnit XML files are found, a glob like out/*.xml
    #[arg(long, value_name = "GLOB")]
    pub junit: Option<String>,
    /// A process stays, and reads names from its standard input
    #[arg(long)]
    pub feed: bool,
    /// After how long a test is ended [default: 60s]
    #[arg(long, value_name = "TIME")]
    pub limit: Option<String>,
    /// How often what fails is run again [default: 1]
    #[arg(long, value_name = "N", value_parser = integer::<u32>)]
    pub retries: Option<u32>,
    /// Print the file, and write nothing
    #[arg(long)]
    pub print: bool,
    /// Replace a suite file that is there
    #[arg(long)]
    pub overwrite: bool,
    /// Ask nothing, also on a terminal
    #[arg(long)]
    pub yes: bool,
}

#[derive(Debug, Args)]
pub struct TrySuite {
    /// A folder with a kesmo.toml
    #[arg(default_value = ".")]
    pub folder: PathBuf,
    #[command(flatten)]
    pub choosing: Choosing,
    /// How many to run, spread over those that are picked
    #[arg(long, value_name = "N", default_value = "3", value_parser = clap::value_parser!(u16).range(1..=20))]
    pub count: u16,
    #[command(flatten)]
    pub engine: EngineAt,
}
