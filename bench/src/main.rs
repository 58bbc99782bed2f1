//! Measures Kesmo, each figure beside what it is compared with, all taken in one run on one machine.
//!
//! `cargo run --release -p kesmo-bench` prints the table; `… -p kesmo-bench -- NAME` only one measurement. It needs
//! `target/release/kesmo` (`./demo.sh --build`). Called as `kesmo-bench program …` it is the test program that the
//! measured suites run.

mod engine;
mod fleet;
mod floor;
mod history;
mod images;
mod measures;
mod pools;
mod program;
mod quay;
mod reach;
mod real;
mod reports;
mod starting;
mod watching;

use std::process::ExitCode;

/// One line of the table.
pub struct Line {
    pub what: &'static str,
    pub measured: String,
    pub compared_with: String,
    /// The figure that is bounded.
    pub figure: f64,
    pub bound: f64,
    pub unit: &'static str,
}

impl Line {
    fn print(&self) {
        let met = if self.figure <= self.bound { "●" } else { "◆" };
        println!(
            "| {met} | {} | {} | {} | {:.2}{} | {}{} |",
            self.what, self.measured, self.compared_with, self.figure, self.unit, self.bound, self.unit
        );
    }
}

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    if words.first().is_some_and(|w| w == "program") {
        program::run(&words[1..]);
        return ExitCode::SUCCESS;
    }
    let only = words.first().map(String::as_str);
    let wanted = |name: &str| only.is_none_or(|o| o == name);
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("kesmo-bench: {e}");
            return ExitCode::FAILURE;
        }
    };
    println!("| | what | measured | compared with | figure | bound |");
    println!("|---|---|---|---|---|---|");
    type Measure = fn(&tokio::runtime::Runtime) -> Vec<Line>;
    let all: [(&str, Measure); 30] = [
        ("makespan", floor::makespan),
        ("uneven", floor::uneven),
        ("forecasts", floor::forecasts),
        ("nothing", floor::tests_that_do_nothing),
        ("latency", floor::latency),
        ("memory", floor::memory),
        ("watchers", watching::watchers),
        ("left", watching::time_left),
        ("page", watching::page),
        ("schedules", starting::schedules),
        ("calls", starting::calls),
        ("simulated", engine::simulated),
        ("portions", engine::portions),
        ("starts", real::starting),
        ("longest-first", real::longest_first),
        ("cases", real::cases),
        ("cut", real::cut),
        ("fed", real::fed),
        ("images", images::images),
        ("pools", pools::pools),
        ("reports", reports::reports),
        ("history", history::history),
        ("measures", measures::measures),
        ("reach", reach::reach),
        ("fleet", fleet::fleet),
        ("fleets", fleet::fleets),
        ("rows", fleet::rows),
        ("sweeping", fleet::sweeping),
        ("engine", engine::inputs),
        ("promises", engine::promises),
    ];
    if let Some(name) = only.filter(|o| all.iter().all(|(name, _)| name != o)) {
        let names: Vec<&str> = all.iter().map(|a| a.0).collect();
        eprintln!("kesmo-bench: there is no measurement {name:?}; there are {}", names.join(", "));
        return ExitCode::from(2);
    }
    for (name, measure) in all {
        if wanted(name) {
            measure(&runtime).iter().for_each(Line::print);
        }
    }
    ExitCode::SUCCESS
}
