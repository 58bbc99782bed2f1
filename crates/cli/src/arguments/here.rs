//! The arguments of `commands/here.rs`.

use std::path::PathBuf;

use super::{
    choosing::{Choosing, EngineAt, Refresh, Running},
    values::pair,
};
use clap::Args;

#[derive(Debug, Args)]
pub struct Here {
    /// The suite's folder
    #[arg(default_value = ".")]
    pub folder: PathBuf,
    #[command(flatten)]
    pub choosing: Choosing,
    #[command(flatten)]
    pub running: Running,
    /// How many batches to run at once [else: as many as this machine has processors]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1000), help_heading = "How they run")]
    pub slots: Option<u16>,
    /// Only a fixed share, like 2/5; the same on every machine
    #[arg(long, value_name = "N/M", help_heading = "Which tests", conflicts_with = "each_slot")]
    pub portion: Option<String>,
    /// The file with what is known of the tests, read and brought up to date; portions are cut by it [else: one of this
    /// machine's own, and portions by what the list says]
    #[arg(long, value_name = "FILE", help_heading = "Which tests")]
    pub record: Option<PathBuf>,
    /// Exactly the batches of a shard of an earlier run, SUITE/NUMBER/SHARD, in their order and with its seed (asks the
    /// service for them)
    #[arg(long = "as", value_name = "RUN/SHARD", conflicts_with_all = ["portion", "not_passed_in", "repeat", "each_slot", "shuffle", "recent_failures_first", "seed"], help_heading = "Which tests")]
    pub as_shard: Option<String>,
    /// Write a report when it is over: junit, tap, json, csv or html (repeatable)
    #[arg(long, value_name = "FORMAT=FILE", value_parser = pair)]
    pub report: Vec<(String, String)>,
    /// Where files of running batches go; no other run may use it [else: a folder of this machine's own, for each run that
    /// goes on at once another]
    #[arg(long, value_name = "DIR")]
    pub home: Option<PathBuf>,
    /// Keep what tests printed and left behind in this folder [else: a folder of this machine's own]
    #[arg(long, value_name = "DIR")]
    pub keep: Option<PathBuf>,
    #[command(flatten)]
    pub engine: EngineAt,
    #[command(flatten)]
    pub refresh: Refresh,
}
