//! The arguments of `commands/secrets.rs`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum Secret {
    /// Keep a secret: its value is asked for, or comes from a file or standard input
    Add(AddSecret),
    /// All secrets, without their values
    List,
    /// Remove a secret
    Remove {
        /// Its name
        name: String,
    },
}

#[derive(Debug, Args)]
pub struct AddSecret {
    /// Its name, by which suite files ask for it
    pub name: String,
    /// Only runs of this suite are given it (repeatable) [else: all]
    #[arg(long, value_name = "SUITE")]
    pub suite: Vec<String>,
    /// Only runs that this brief started are given it (repeatable)
    #[arg(long, value_name = "BRIEF")]
    pub brief: Vec<String>,
    /// Git uses it where it calls addresses that begin so, and no run is given it: USER:PASSWORD, a token, or a private key of ssh
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["suite", "brief"])]
    pub for_git: Option<String>,
    /// A file that holds the value; - reads standard input
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    /// Change the one of that name
    #[arg(long)]
    pub replace: bool,
}
