//! The arguments of `commands/runs.rs`.

use std::path::PathBuf;

use super::values::{integer, pair};
use clap::{Args, Subcommand};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Runs {
    #[command(subcommand)]
    pub command: Option<RunsCommand>,
    /// Only runs of this suite
    #[arg(long, value_name = "SUITE")]
    pub suite: Option<String>,
    /// Only runs with this label (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair)]
    pub label: Vec<(String, String)>,
    /// Only runs with this verdict
    #[arg(long, value_name = "VERDICT")]
    pub verdict: Option<String>,
    /// How many at the most
    #[arg(long, value_name = "N", default_value_t = 20, value_parser = integer::<u32>)]
    pub limit: u32,
}

#[derive(Debug, Subcommand)]
pub enum RunsCommand {
    /// Remove a run that is over, with all that belongs to it
    Remove {
        /// SUITE/NUMBER
        run: String,
    },
}

#[derive(Debug, Args)]
pub struct Show {
    /// SUITE/NUMBER
    #[arg(required_unless_present = "label")]
    pub run: Option<String>,
    /// All runs with this label as one (repeatable); the status is that of the whole
    #[arg(long, value_name = "K=V", value_parser = pair, conflicts_with_all = ["run", "state", "variants", "shards", "groups", "cases"])]
    pub label: Vec<(String, String)>,
    /// Show all tests in this state: an outcome, waiting, running, or all
    #[arg(long, value_name = "STATE")]
    pub state: Option<String>,
    /// Show the variants side by side
    #[arg(long, conflicts_with = "state")]
    pub variants: bool,
    /// Show what each slot carried out
    #[arg(long, conflicts_with_all = ["state", "variants"])]
    pub shards: bool,
    /// The numbers by groups of names: the first parts of names
    #[arg(long, conflicts_with_all = ["variants", "shards"])]
    pub groups: bool,
    /// Show the cases that files told of, with --state only those in that state
    #[arg(long, conflicts_with_all = ["variants", "shards", "groups"])]
    pub cases: bool,
    /// With --cases: only those whose title holds this, or FILE/ and this
    #[arg(long, value_name = "TEXT", requires = "cases")]
    pub name: Option<String>,
}

#[derive(Debug, Args)]
pub struct Log {
    /// SUITE/NUMBER
    pub run: String,
    /// The test's name; of a case, FILE/TITLE
    #[arg(required_unless_present = "job")]
    pub test: Option<String>,
    /// What this machine of its pool printed, a CI server's log of a job among them; its number, as `kesmo show` tells it
    #[arg(long, value_name = "N", conflicts_with_all = ["test", "variant", "attempt"], value_parser = integer::<u32>)]
    pub job: Option<u32>,
    /// Only this variant
    #[arg(long, value_name = "FACET=VALUE")]
    pub variant: Vec<String>,
    /// Only this attempt
    #[arg(long, value_name = "N", value_parser = integer::<u32>)]
    pub attempt: Option<u32>,
    /// Print what it prints as it runs, until it has its outcome
    #[arg(long, conflicts_with = "attempt")]
    pub follow: bool,
}

#[derive(Debug, Args)]
pub struct Stop {
    /// SUITE/NUMBER
    pub run: String,
    /// Why, for those who wonder later
    #[arg(long, value_name = "TEXT")]
    pub why: Option<String>,
}

#[derive(Debug, Args)]
pub struct Report {
    /// SUITE/NUMBER
    pub run: String,
    /// junit, tap, json, csv or html
    #[arg(long = "as", value_name = "FORMAT")]
    pub format: String,
    /// Pictures and videos in an html report: small (pictures made smaller, no videos), all or none
    #[arg(long, value_name = "WHICH", default_value = "small", value_parser = ["small", "all", "none"])]
    pub pictures: String,
    /// Where to write it [else: standard output]
    #[arg(long, short, value_name = "FILE")]
    pub output: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub struct Artifacts {
    /// SUITE/NUMBER
    pub run: String,
    /// Download them into this folder
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
}
