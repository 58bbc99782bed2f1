//! What the commands do, a module for each subject.

pub mod accounts;
pub mod briefs;
mod cases;
pub mod comparing;
pub mod covers;
pub mod drafting;
pub mod failing;
pub mod files;
pub mod folders;
pub mod here;
pub mod history;
pub mod hunt;
pub mod import;
pub mod join;
pub mod keep;
pub mod keys;
pub mod manual;
pub mod measures;
pub mod notices;
pub mod people;
pub mod planning;
pub mod pools;
pub mod proving;
pub mod queue;
pub mod reach;
mod releases;
pub mod reports;
pub mod runs;
pub mod schedules;
pub mod secrets;
pub mod share;
pub mod since;
pub mod start;
pub mod suites;
pub mod usage;
pub mod watch;
pub mod webhooks;
pub mod worker;

use serde::Serialize;

use kesmo_core::name::RunName;

use crate::failure::Failure;

/// Prints a value for programs.
pub fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(|e| Failure::trouble(e.to_string()))?;
    println!("{text}");
    Ok(())
}

/// The API's address of a run.
pub fn run_path(run: &str) -> Result<String, Failure> {
    let name = RunName::parse(run)?;
    Ok(format!("/api/runs/{}/{}", name.suite, name.number))
}

/// Resolves when the program is asked to end: Ctrl-C or SIGTERM.
pub async fn asked_to_end() {
    use tokio::signal::unix::{SignalKind, signal};
    let Ok(mut term) = signal(SignalKind::terminate()) else { return std::future::pending().await };
    tokio::select! {
        _ = term.recv() => {}
        _ = tokio::signal::ctrl_c() => {}
    }
}
