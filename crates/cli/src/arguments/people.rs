//! The arguments of `commands/people.rs`.

use super::choosing::Named;
use clap::{Args, Subcommand};

#[derive(Debug, Args)]
pub struct Login {
    /// The service's address
    #[arg(value_name = "URL")]
    pub service: Option<String>,
}

#[derive(Debug, Subcommand)]
pub enum Token {
    /// Make a token; it is printed once
    Add(NewToken),
    /// All tokens
    List,
    /// Remove a token
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct NewToken {
    /// A name to know it by
    pub name: String,
    /// reader, operator, admin or worker
    #[arg(long, value_name = "ROLE")]
    pub role: String,
}
