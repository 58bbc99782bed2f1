//! The arguments of `commands/notices.rs`.

use std::path::PathBuf;

use super::{
    choosing::Named,
    values::{integer, pair},
};
use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum NoticeCommand {
    /// Make a notice: when something is told, of which runs, and where to
    Add(Box<AddNotice>),
    /// All notices
    List,
    /// One notice with what it sent
    Show(Named),
    /// Send a sample at once, and say how it went
    Try(Named),
    /// What a message says
    Message(OneMessage),
    /// Send a message once more
    Again(OneMessage),
    /// Send nothing until it goes on; what happens meanwhile is not told
    Pause(Named),
    /// Go on
    Resume(Named),
    /// Make a new secret for an HTTP address; the old one is no longer used
    NewSecret(Named),
    /// Remove a notice with its messages
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct AddNotice {
    /// Its name: a-z, 0-9 and '-'
    pub name: String,
    /// What is told: failed, newly-failing, mended, passed, void, stopped, "flaky-over 5%", "slower-than 2x", schedule-missed,
    /// "no-worker 5m", "forecast-over 30m" (repeatable)
    #[arg(long, value_name = "WHAT", required = true)]
    pub when: Vec<String>,
    /// Of these suites only; a glob (repeatable)
    #[arg(long, value_name = "SUITE")]
    pub suite: Vec<String>,
    /// Of runs of these briefs only; a glob (repeatable)
    #[arg(long, value_name = "BRIEF")]
    pub brief: Vec<String>,
    /// Of these branches only; a glob (repeatable)
    #[arg(long, value_name = "BRANCH")]
    pub branch: Vec<String>,
    /// Of runs with this label only; the value is a glob (repeatable)
    #[arg(long, value_name = "KEY=VALUE", value_parser = pair)]
    pub label: Vec<(String, String)>,
    #[command(flatten)]
    pub to: NoticeTo,
    /// Nothing is sent at these hours, but kept until they are over: "22:00-07:00", "sat,sun", "mon-fri 18:00-08:00" (repeatable)
    #[arg(long, value_name = "HOURS")]
    pub quiet: Vec<String>,
    /// Gather what happens and send it as one: 1h after the first, or every day at 08:00
    #[arg(long, value_name = "WHEN")]
    pub digest: Option<String>,
    /// The time zone of quiet hours and digests [else: UTC]
    #[arg(long, value_name = "ZONE")]
    pub zone: Option<String>,
    /// Tell of every run that fails, also of one that fails for a reason that was told of
    #[arg(long)]
    pub every_time: bool,
    /// A file that holds what {secret} stands for in the request, or - for standard input
    #[arg(long, value_name = "FILE")]
    pub secret_file: Option<PathBuf>,
    /// Change the notice of that name, if there is one
    #[arg(long)]
    pub replace: bool,
}

/// Where a notice goes: one of them.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct NoticeTo {
    /// To an address of e-mail (repeatable)
    #[arg(long, value_name = "ADDRESS")]
    pub mail: Vec<String>,
    /// To an HTTP address: a CloudEvent, signed as Standard Webhooks says; prints the secret
    #[arg(long, value_name = "URL")]
    pub http: Option<String>,
    /// To a chat: a file that describes the request (method, address, headers, body), in which {title}, {text}, {link} … stand for what is told
    #[arg(long, value_name = "FILE")]
    pub chat: Option<PathBuf>,
    /// To a git host, as a commit's status: a file that describes the request, in which {commit}, {verdict}, {link} … stand for what is told
    #[arg(long, value_name = "FILE")]
    pub commit_status: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub struct OneMessage {
    pub name: String,
    /// The message's number, as `kesmo notice show` tells it
    #[arg(value_parser = integer::<i64>)]
    pub number: i64,
}
