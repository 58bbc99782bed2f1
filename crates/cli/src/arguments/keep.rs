//! The arguments of `commands/keep.rs`.

use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum Keep {
    /// Say how long something is kept: runs, logs, artifacts, pictures (of passed tests), deliveries or audit
    Add(AddKeep),
    /// What is kept for how long, and what was removed of late
    List,
    /// Remove a rule: what it let go is kept from then on
    Remove {
        /// Its name
        name: String,
    },
    /// Remove now what the rules let go and what nothing needs (else that is done every hour)
    Sweep {
        /// Only tell what would go
        #[arg(long)]
        r#try: bool,
    },
}

#[derive(Debug, Args)]
pub struct AddKeep {
    /// What: runs, logs, artifacts, pictures, deliveries or audit
    pub what: String,
    /// A name to know the rule by [else: that of what it is for, and of the suite]
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// For so long after the run was over: 12h, 90d, 26w, 2y
    #[arg(long, value_name = "TIME")]
    pub r#for: Option<String>,
    /// Of the latest so many runs of each suite and branch
    #[arg(long, value_name = "N")]
    pub most: Option<u32>,
    /// Of each suite and branch as much as takes that much: 20GiB
    #[arg(long, value_name = "SIZE")]
    pub size: Option<String>,
    /// Only of suites whose names match this glob
    #[arg(long, value_name = "GLOB")]
    pub suite: Option<String>,
    /// Only of branches whose names match this glob
    #[arg(long, value_name = "GLOB")]
    pub branch: Option<String>,
    /// Change the one of that name
    #[arg(long)]
    pub replace: bool,
}
