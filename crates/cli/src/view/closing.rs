//! The closing summary of a run.

use std::collections::HashMap;

use kesmo_core::{name::shorten, run::Tally, time::Span, words::Outcome};
use kesmo_wire::api::{CauseOf, Entries, Entry, MeasureNow, Run, entry_name};

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
    /// Of a run that repeats its tests: how often each ended how.
    pub repeated: &'a [(String, Tally)],
    /// What is new against the last comparable run; empty where there is none.
    pub new: &'a str,
    /// What it measured.
    pub measures: &'a [MeasureNow],
}

/// Tests whose repetitions are told.
const MOST_REPEATED: usize = 20;

/// How often each test ended how, those with failures first; entries are added page by page.
#[derive(Debug, Default)]
pub struct Repeated {
    place: HashMap<String, usize>,
    tests: Vec<(String, Tally)>,
}

impl Repeated {
    pub fn add(&mut self, entries: &[Entry]) {
        for entry in entries {
            let name = entry_name(&entry.test, &entry.variant, 0);
            let place = *self.place.entry(name.clone()).or_insert_with(|| {
                self.tests.push((name, Tally::default()));
                self.tests.len() - 1
            });
            match entry.outcome {
                Some(outcome) => self.tests[place].1.count(outcome),
                None => self.tests[place].1.waiting += 1,
            }
        }
    }

    pub fn sorted(mut self) -> Vec<(String, Tally)> {
        self.tests.sort_by_key(|(_, t)| std::cmp::Reverse((t.failed, t.flaky)));
        self.tests
    }
}

/// An entry's name with its variant and repetition.
pub fn name(entry: &Entry) -> String {
    entry.name()
}

fn attempts(count: u32) -> String {
    if count == 1 { "1 attempt".to_owned() } else { format!("{count} attempts") }
}

impl Closing<'_> {
    /// Verdict, what failed and why, what was flaky, the slowest, and where to read more: commands, and a page.
    pub fn text(&self, page: Option<&str>, commands: &[String]) -> String {
        let mut out = format!("\n{}", run_head(self.run, page));
        if !self.new.is_empty() {
            out += &format!("{}\n", self.new);
        }
        out += &self.repeated_text();
        out += &self.causes_text();
        out += &self.failed_text();
        out += &self.flaky_text();
        out += &self.parked_text();
        if !self.measures.is_empty() {
            out += &format!("\n{}\n{}\n", bold("Measured"), super::measures::lines(self.measures).join("\n"));
        }
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

    fn repeated_text(&self) -> String {
        if self.repeated.is_empty() {
            return String::new();
        }
        let mut out = format!("\n{}\n", bold("By test"));
        for (test, count) in self.repeated.iter().take(MOST_REPEATED) {
            let counts: Vec<(u32, &str)> = Outcome::ALL.iter().map(|o| (count.of(*o), o.word())).collect();
            out += &format!("  {test}: {} of {}\n", super::counts(&counts), count.total());
        }
        match self.repeated.len().saturating_sub(MOST_REPEATED) {
            0 => out,
            more => out + &format!("  … and {more} more tests\n"),
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repetitions_of_a_test_are_counted_together_those_that_failed_first() {
        let entry = |test: &str, repeat, outcome| Entry {
            index: 0,
            test: test.into(),
            variant: String::new(),
            repeat,
            parts: 0,
            outcome: Some(outcome),
            running: false,
            attempts: 1,
            spent_us: None,
            message: String::new(),
            worker: None,
            cases: kesmo_core::run::cases::CaseTally::default(),
        };
        let mut repeated = Repeated::default();
        repeated.add(&[entry("gate/open", 1, Outcome::Passed), entry("gate/late", 1, Outcome::Passed)]);
        repeated.add(&[entry("gate/open", 2, Outcome::Passed), entry("gate/late", 2, Outcome::Failed)]);
        let sorted = repeated.sorted();
        let told: Vec<(&str, u32, u32)> = sorted.iter().map(|(n, t)| (n.as_str(), t.passed, t.failed)).collect();
        assert_eq!(told, [("gate/late", 1, 1), ("gate/open", 2, 0)]);
    }
}
