//! The arguments of `commands/suites.rs`.

use std::path::PathBuf;

use super::{
    choosing::{Choosing, Folder, Named},
    drafting::{DraftSuite, TrySuite},
};
use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum Suite {
    /// Add the suite in a folder or a git repository, or give it new files
    Add(AddSuite),
    /// Check the suite file in a folder; needs no service
    Check(Folder),
    /// Look at a folder, and write a first suite file for it; nothing in it is run
    Draft(DraftSuite),
    /// List a suite, run three of its tests, and say what was understood; needs no service
    Try(TrySuite),
    /// All suites
    List,
    /// One suite
    Show(Named),
    /// Start a run for every new commit on branches of a suite from version control
    Poll(PollBranches),
    /// No longer poll branches
    Unpoll(UnpollBranches),
    /// Take a suite out of the list; its runs stay
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct AddSuite {
    /// A folder with a kesmo.toml [default: .]
    #[arg(conflicts_with = "git")]
    pub folder: Option<PathBuf>,
    /// A git repository: https://HOST/PATH, ssh://USER@HOST/PATH, USER@HOST:PATH or file:///PATH
    #[arg(long, value_name = "URL")]
    pub git: Option<String>,
    /// The branch to run [else: the repository's own main branch]
    #[arg(long, value_name = "BRANCH", requires = "git")]
    pub branch: Option<String>,
    /// The folder of the repository with the kesmo.toml [else: its root]
    #[arg(long = "folder", value_name = "PATH", requires = "git")]
    pub within: Option<String>,
}

#[derive(Debug, Args)]
pub struct PollBranches {
    /// A suite from version control
    pub suite: String,
    /// A branch, or a glob: * stays within a part, ** does not
    #[arg(long, value_name = "GLOB")]
    pub branch: String,
    /// How often to look
    #[arg(long, value_name = "TIME", default_value = "1m")]
    pub every: String,
    /// The brief to start [else: the suite as it is]
    #[arg(long, value_name = "NAME")]
    pub brief: Option<String>,
    /// Start runs for the commits that are at the heads now, too
    #[arg(long)]
    pub now: bool,
}

#[derive(Debug, Args)]
pub struct UnpollBranches {
    pub suite: String,
    /// As it is polled
    #[arg(long, value_name = "GLOB")]
    pub branch: String,
}

#[derive(Debug, Args)]
pub struct Tests {
    /// A suite's name, or a folder
    pub suite: String,
    #[command(flatten)]
    pub choosing: Choosing,
}
