//! The arguments of `commands/people.rs`.

use super::choosing::Named;
use clap::{Args, Subcommand};

#[derive(Debug, Args)]
pub struct Login {
    /// The service's address
    #[arg(value_name = "URL")]
    pub service: Option<String>,
    /// Sign in as an account: its password is asked for (or read from standard input), and a token of its own is made and saved
    #[arg(long, value_name = "ACCOUNT")]
    pub name: Option<String>,
    /// The token ends after this day (UTC): a date, 90d or 4w [else: in 90 days]
    #[arg(long, value_name = "DAY", requires = "name")]
    pub until: Option<String>,
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
    /// It ends after this day (UTC): a date, 90d or 4w [else: when it is removed]
    #[arg(long, value_name = "DAY")]
    pub until: Option<String>,
    /// Only for these suites; a glob (repeatable). What is about others, or about all, is refused
    #[arg(long, value_name = "SUITE")]
    pub suite: Vec<String>,
    /// Of a worker: only for these pools; a glob (repeatable)
    #[arg(long, value_name = "POOL")]
    pub pool: Vec<String>,
}

#[derive(Debug, Args)]
pub struct Audit {
    /// Only what the token of this name did
    #[arg(long, value_name = "TOKEN")]
    pub who: Option<String>,
    /// Only this: start, stop, park, "token add", "secret add", "sign in" …
    #[arg(long, value_name = "WORDS")]
    pub what: Option<String>,
    /// Only what has this in its call or note
    #[arg(long, value_name = "TEXT")]
    pub about: Option<String>,
    /// From this day on (UTC)
    #[arg(long, value_name = "DATE")]
    pub from: Option<String>,
    /// Before this day (UTC)
    #[arg(long, value_name = "DATE")]
    pub until: Option<String>,
    /// Only what was refused
    #[arg(long)]
    pub refused: bool,
    /// How many at most
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// A JSON object a line, the oldest first
    #[arg(long, conflicts_with = "json")]
    pub json_lines: bool,
}
