//! The arguments of `commands/schedules.rs`.

use super::{
    choosing::{Choosing, Named, Place, Running, Staying},
    values::{if_busy, if_missed},
};
use clap::{Args, Subcommand};
use kesmo_core::calendar::schedule::{IfBusy, IfMissed};

#[derive(Debug, Subcommand)]
pub enum Schedule {
    /// Make a schedule: shows its words and next five starts, and saves it
    Add(Box<AddSchedule>),
    /// Only show a schedule's words and next five starts; nothing is saved
    Look(Box<AddSchedule>),
    /// All schedules
    List,
    /// One schedule, with what became of its planned starts
    Show(Named),
    /// Leave planned starts out until it goes on
    Pause(Named),
    /// Go on with the next planned start
    Resume(Named),
    /// Start a run at once, beside its times
    Now(StartNow),
    /// Remove a schedule; its runs stay
    Remove(Named),
}

#[derive(Debug, Args)]
pub struct StartNow {
    pub name: String,
    #[command(flatten)]
    pub staying: Staying,
}

#[derive(Debug, Args)]
pub struct AddSchedule {
    /// Its name: a-z, 0-9 and '-'
    pub name: String,
    /// The brief to start
    #[arg(long, value_name = "NAME", conflicts_with = "suite", required_unless_present = "suite")]
    pub brief: Option<String>,
    /// The suite to start
    #[arg(long, value_name = "SUITE")]
    pub suite: Option<String>,
    /// Minute, hour, day of the month, month, day of the week: "15 2 * * 1-5"
    #[arg(long, value_name = "EXPRESSION", help_heading = "When")]
    pub cron: Option<String>,
    /// The time zone, like Europe/Oslo [else: UTC]
    #[arg(long, value_name = "ZONE", help_heading = "When")]
    pub zone: Option<String>,
    /// Once: "2026-12-24 18:00" of the zone's clock, or 2026-12-24T18:00:00+01:00
    #[arg(long, value_name = "TIME", help_heading = "When")]
    pub at: Option<String>,
    /// So long after the last run of it has ended: 5m
    #[arg(long, value_name = "TIME", help_heading = "When")]
    pub after_every: Option<String>,
    /// The last day with starts: 2026-12-31
    #[arg(long, value_name = "DATE", help_heading = "When")]
    pub until: Option<String>,
    /// Each start comes later by a part of this that the schedule's name fixes, so that many do not start at once: 10m
    #[arg(long, value_name = "TIME", help_heading = "When")]
    pub spread: Option<String>,
    /// If its last run still goes: skip, wait or stop-old
    #[arg(long, value_name = "RULE", value_parser = if_busy, default_value = "skip", help_heading = "When")]
    pub if_busy: IfBusy,
    /// For starts that were due while no service was there: run-once or forget
    #[arg(long, value_name = "RULE", value_parser = if_missed, default_value = "run-once", help_heading = "When")]
    pub if_missed: IfMissed,
    #[command(flatten)]
    pub choosing: Choosing,
    #[command(flatten)]
    pub running: Running,
    #[command(flatten)]
    pub place: Place,
    /// Replace the schedule of that name
    #[arg(long)]
    pub replace: bool,
    /// Save it without asking
    #[arg(long)]
    pub yes: bool,
}
