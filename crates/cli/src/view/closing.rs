//! The closing summary of a run.

use kesmo_core::{name::shorten, time::Span, words::Outcome};
use kesmo_wire::api::{CauseOf, Entries, Entry, Run, entry_name};

use super::{Paint, bold, columns, fit, outcome, paint, run_head, safe::plain};

/// Tests that a cause names.
const MOST_NAMED: usize = 4;

/// What a closing summary tells.
pub struct Closing<'a> {
    pub run: &'a Run,
    pub failed: &'a Entries,
    pub flaky: &'a Entries,
    pub parked: &'a Entries,
    pub slowest: &'a Entries,
    /// Failures gathered by cause; told where one has several.
    pub causes: &'a [CauseOf],
}

/// An entry's name with its variant and repetition.
pub fn name(entry: &Entry) -> String {
    entry_name(&entry.test, &entry.variant, entry.repeat)
}

fn attempts(count: u32) -> String {
    if count == 1 { "1 attempt".to_owned() } else { format!("{count} attempts") }
}

impl Closing<'_> {
    /// Verdict, what failed and why, what was flaky, the slowest, and where to read more: commands, and a page.
    pub fn text(&self, page: Option<&str>, commands: &[String]) -> String {
        let mut out = format!("\n{}", run_head(self.run, page));
        out += &self.causes_text();
        out += &self.failed_text();
        out += &self.flaky_text();
        out += &self.parked_text();
        let slow: Vec<&Entry> = self.slowest.entries.iter().filter(|e| e.spent_us.is_some()).collect();
        if slow.len() > 1 {
            out += &format!("\n{}\n", bold("Slowest"));
            for entry in slow {
                let spent = Span(entry.spent_us.unwrap_or(0)).to_string();
                out += &format!("  {spent:>10}  {}\n", name(entry));
            }
        }
        out += &format!("\n{}\n", paint(Paint::Dim, "Read more"));
        for command in commands {
            out += &format!("  {command}\n");
        }
        out
    }

    fn causes_text(&self) -> String {
        let several: Vec<&CauseOf> = self.causes.iter().filter(|c| c.count > 1).take(8).collect();
        if several.is_empty() {
            return String::new();
        }
        let mut out = format!("\n{}\n", bold("Causes"));
        for cause in several {
            let flaky = if cause.flaky > 0 { format!(", {} of them flaky", cause.flaky) } else { String::new() };
            let head = format!("  {} tests{flaky}: ", cause.count);
            out += &format!("{head}{}\n", fit(&shorten(&plain(&cause.likeness), 200), columns(&head)));
            let names: Vec<&str> = cause.tests.iter().take(MOST_NAMED).map(|t| t.1.as_str()).collect();
            let more = cause.count as usize - names.len();
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            out += &paint(Paint::Dim, &format!("      {}\n", fit(&format!("{}{more}", names.join(", ")), 6)));
        }
        out
    }

    fn failed_text(&self) -> String {
        if self.failed.entries.is_empty() {
            return String::new();
        }
        let mut out = format!("\n{}\n", bold("Failed"));
        for entry in &self.failed.entries {
            let on = entry.worker.as_ref().map(|w| format!(", last on {w}")).unwrap_or_default();
            out += &format!("  {} {}  {}{on}\n", outcome(Outcome::Failed), name(entry), attempts(entry.attempts));
            for line in entry.message.lines().take(4) {
                out += &format!("      {}\n", fit(&shorten(&plain(line), 160), 6));
            }
        }
        out + &self.more(self.failed, "failed")
    }

    fn flaky_text(&self) -> String {
        if self.flaky.entries.is_empty() {
            return String::new();
        }
        let mut out = format!("\n{}\n", bold("Flaky"));
        for entry in &self.flaky.entries {
            let message = plain(entry.message.lines().next().unwrap_or_default());
            let passed = format!("{}  passed at attempt {}", name(entry), entry.attempts);
            let before = format!("; failed before with: {}", shorten(&message, 120));
            let said = if message.is_empty() { String::new() } else { fit(&before, columns(&passed) + 4) };
            out += &format!("  {} {passed}{said}\n", outcome(Outcome::Flaky));
        }
        out + &self.more(self.flaky, "flaky")
    }

    fn parked_text(&self) -> String {
        if self.parked.entries.is_empty() {
            return String::new();
        }
        let mut out = format!("\n{}\n", bold("Parked"));
        for entry in &self.parked.entries {
            out += &format!("  {} {}\n", outcome(Outcome::Parked), name(entry));
        }
        out + &self.more(self.parked, "parked")
    }

    fn more(&self, found: &Entries, state: &str) -> String {
        match found.total as usize - found.entries.len() {
            0 => String::new(),
            more => format!("  … and {more} more: kesmo show {} --state {state}\n", self.run.summary.name),
        }
    }
}
