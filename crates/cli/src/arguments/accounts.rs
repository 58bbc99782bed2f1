//! The arguments of `commands/accounts.rs`.

use super::choosing::Named;
use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum Account {
    /// Make an account for a person; a link is printed once, by which the password is chosen
    Add {
        /// a-z, 0-9 and '-'
        name: String,
        /// reader, operator or admin
        #[arg(long, value_name = "ROLE")]
        role: String,
        /// A reader or operator of these suites only (a glob; repeatable)
        #[arg(long, value_name = "GLOB")]
        suite: Vec<String>,
    },
    /// All accounts
    List,
    /// Give an account another role, or other suites; it holds at once
    Role {
        name: String,
        /// reader, operator or admin
        role: String,
        /// Of these suites only from now on (a glob; repeatable) [else: as before]
        #[arg(long, value_name = "GLOB", conflicts_with = "all_suites")]
        suite: Vec<String>,
        /// Of all suites from now on
        #[arg(long)]
        all_suites: bool,
    },
    /// Print a link by which the password is chosen anew
    Reset(Named),
    /// Choose a password by a link, or another one for your own account; it is asked for, or read from standard input
    Password {
        /// The link, or what stands behind key= in it [else: your own account, with the old password first]
        #[arg(value_name = "LINK")]
        key: Option<String>,
    },
    /// Remove an account: it is signed out everywhere, and its tokens end
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct Sessions {
    /// Those of everybody (for admins)
    #[arg(long)]
    pub all: bool,
    /// End this one
    #[arg(long, value_name = "SESSION", conflicts_with = "all")]
    pub end: Option<i64>,
}
