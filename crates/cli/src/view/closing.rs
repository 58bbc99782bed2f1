//! The closing summary of a run.

use kesmo_core::{
    name::shorten,
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_wire::api::{Entries, Entry, Run};

use super::{Paint, bold, columns, fit, outcome, paint, run_head};

fn name(entry: &Entry) -> String {
    if entry.variant.is_empty() { entry.test.clone() } else { format!("{} ({})", entry.test, entry.variant) }
}

fn attempts(count: u32) -> String {
    if count == 1 { "1 attempt".to_owned() } else { format!("{count} attempts") }
}

/// Verdict, what failed and why, what was flaky, the slowest, and where to read more.
pub fn text(run: &Run, failed: &Entries, flaky: &Entries, slowest: &Entries, url: &str) -> String {
    let mut out = format!("\n{}", run_head(run, url));
    let more = |found: &Entries, state: &str| {
        let more = found.total as usize - found.entries.len();
        if more == 0 {
            String::new()
        } else {
            format!("  … and {more} more: kesmo show {} --state {state}\n", run.summary.name)
        }
    };
    if !failed.entries.is_empty() {
        out += &format!("\n{}\n", bold("Failed"));
        for entry in &failed.entries {
            let on = entry.worker.as_ref().map(|w| format!(", last on {w}")).unwrap_or_default();
            out += &format!("  {} {}  {}{on}\n", outcome(Outcome::Failed), name(entry), attempts(entry.attempts));
            for line in entry.message.lines().take(4) {
                out += &format!("      {}\n", fit(&shorten(line, 160), 6));
            }
        }
        out += &more(failed, "failed");
    }
    if !flaky.entries.is_empty() {
        out += &format!("\n{}\n", bold("Flaky"));
        for entry in &flaky.entries {
            let message = entry.message.lines().next().unwrap_or_default();
            let passed = format!("{}  passed at attempt {}", name(entry), entry.attempts);
            let before = format!("; failed before with: {}", shorten(message, 120));
            let said = if message.is_empty() { String::new() } else { fit(&before, columns(&passed) + 4) };
            out += &format!("  {} {passed}{said}\n", outcome(Outcome::Flaky));
        }
        out += &more(flaky, "flaky");
    }
    let slow: Vec<&Entry> = slowest.entries.iter().filter(|e| e.spent_us.is_some()).collect();
    if slow.len() > 1 {
        out += &format!("\n{}\n", bold("Slowest"));
        for entry in slow {
            let spent = Span(entry.spent_us.unwrap_or(0)).to_string();
            out += &format!("  {spent:>10}  {}\n", name(entry));
        }
    }
    let run_name = &run.summary.name;
    out += &format!("\n{}\n", paint(Paint::Dim, "Read more"));
    if let Some(first) = failed.entries.first().or(flaky.entries.first()) {
        out += &format!("  kesmo log {run_name} {}\n", first.test);
    }
    if run.summary.verdict == Some(Verdict::Failed) {
        out += &format!("  kesmo again {run_name} --unpassed --stay\n");
    }
    out + &format!("  kesmo show {run_name}\n")
}
