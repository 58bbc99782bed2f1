//! The arguments of `commands/webhooks.rs`.

use std::path::PathBuf;

use super::{choosing::Named, values::integer};
use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum Webhook {
    /// Make a webhook; prints its secret
    Add(AddWebhook),
    /// All webhooks
    List,
    /// One webhook with its deliveries
    Show(Named),
    /// Say what a body would do; nothing is started
    Try(TryWebhook),
    /// Take a delivery once more
    Redeliver(OneDelivery),
    /// What a delivery brought
    Body(OneDelivery),
    /// Sign a body with the secret in KESMO_WEBHOOK_SECRET and post it: for systems that cannot sign by themselves
    Send(SendWebhook),
    /// Refuse what comes until it goes on
    Pause(Named),
    /// Take deliveries again
    Resume(Named),
    /// Make a new secret; the old one is no longer good
    NewSecret(Named),
    /// Remove a webhook with its deliveries; its runs stay
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct AddWebhook {
    /// Its name: a-z, 0-9 and '-'
    pub name: String,
    /// The brief to start
    #[arg(long, value_name = "NAME")]
    pub brief: String,
    /// What of the body becomes what of the run: branch=/branch, commit=/commit, env=/…, label.KEY=/…, set.KEY=/…; with ?= it
    /// may be missing (repeatable)
    #[arg(long, value_name = "TARGET=POINTER")]
    pub take: Vec<String>,
    /// Start only if what the pointer finds matches: /branch=main; != if it does not (repeatable)
    #[arg(long, value_name = "POINTER=GLOB")]
    pub when: Vec<String>,
    /// Deliveries a minute, at most
    #[arg(long, value_name = "N", default_value_t = 120, value_parser = integer::<u32>)]
    pub per_minute: u32,
}

#[derive(Debug, Args)]
pub struct TryWebhook {
    pub name: String,
    /// A file with a body, or - for standard input
    #[arg(long, value_name = "FILE")]
    pub body: PathBuf,
    /// Its content type
    #[arg(long, value_name = "TYPE", default_value = "application/json")]
    pub content_type: String,
}

#[derive(Debug, Args)]
pub struct OneDelivery {
    pub name: String,
    /// The delivery's number, as `kesmo webhook show` tells it
    #[arg(value_parser = integer::<i64>)]
    pub delivery: i64,
}

#[derive(Debug, Args)]
pub struct SendWebhook {
    pub name: String,
    /// A file with a body, or - for standard input
    #[arg(long, value_name = "FILE")]
    pub body: PathBuf,
    /// Its content type
    #[arg(long, value_name = "TYPE", default_value = "application/json")]
    pub content_type: String,
    /// The delivery's id; the same id is taken once [else: a new one]
    #[arg(long, value_name = "ID")]
    pub id: Option<String>,
    /// The secret
    #[arg(long, env = "KESMO_WEBHOOK_SECRET", value_name = "SECRET", hide_env_values = true)]
    pub secret: String,
}
