//! Live progress: kept up to date from a run's stream; drawn in place on a terminal, or told in a line now and then.

use std::io::Write;

use chrono::{DateTime, Utc};
use kesmo_core::{
    name::shorten,
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_wire::{
    api::RunSummary,
    live::{RunChange, RunSlot, RunSnapshot, letter, thin},
};

use super::{Paint, columns, paint, paint_of, run_state, tally};

/// What failed last, as it is shown.
const MOST_TROUBLE: usize = 6;
const MOST_SLOTS: usize = 8;

struct Trouble {
    outcome: Option<Outcome>,
    test: String,
    variant: String,
    message: String,
}

/// A run as its stream tells it.
pub struct LiveView {
    name: String,
    summary: Option<RunSummary>,
    slots: Vec<RunSlot>,
    trouble: Vec<Trouble>,
    strip: String,
    notes: Vec<String>,
}

impl LiveView {
    pub fn new(name: &str) -> Self {
        let name = name.to_owned();
        Self { name, summary: None, slots: Vec::new(), trouble: Vec::new(), strip: String::new(), notes: Vec::new() }
    }

    /// Whether anything has come yet.
    pub fn seen(&self) -> bool {
        self.summary.is_some()
    }

    pub fn verdict(&self) -> Option<Verdict> {
        self.summary.as_ref()?.verdict
    }

    pub fn snapshot(&mut self, snapshot: RunSnapshot) {
        if self.summary.is_none() {
            self.notes.extend(snapshot.run.notes.iter().map(|n| format!("! {n}")));
        }
        self.note_waiting(&snapshot.run.summary);
        self.summary = Some(snapshot.run.summary);
        self.slots = snapshot.slots;
        self.strip = snapshot.strip;
        self.trouble = snapshot
            .trouble
            .into_iter()
            .map(|e| Trouble { outcome: e.outcome, test: e.test, variant: e.variant, message: e.message })
            .collect();
    }

    pub fn change(&mut self, change: RunChange) {
        for attempt in change.attempts {
            if let Some(outcome) = attempt.outcome {
                self.strip.push(letter(outcome));
            }
            if attempt.ended.failing() || attempt.outcome == Some(Outcome::Flaky) {
                self.trouble.retain(|t| t.test != attempt.test || t.variant != attempt.variant);
                self.trouble.push(Trouble {
                    outcome: attempt.outcome,
                    test: attempt.test,
                    variant: attempt.variant,
                    message: attempt.message,
                });
            }
        }
        self.strip.extend(change.decided.iter().map(|d| letter(d.outcome)));
        self.notes.extend(change.notes.iter().map(|n| format!("! {n}")));
        self.note_waiting(&change.summary);
        self.slots = change.slots;
        self.summary = Some(change.summary);
    }

    fn note_waiting(&mut self, now: &RunSummary) {
        let before = self.summary.as_ref().and_then(|s| s.waiting_for.as_ref());
        if now.waiting_for.as_ref() != before
            && let Some(waiting) = &now.waiting_for
        {
            self.notes.push(waiting.clone());
        }
    }

    /// Remarks that came since the last call.
    pub fn take_notes(&mut self) -> Vec<String> {
        std::mem::take(&mut self.notes)
    }

    /// One line: counts, rate, times, failing share, time left.
    pub fn summary_line(&self, now: DateTime<Utc>) -> String {
        let Some(s) = &self.summary else { return format!("{} not seen yet", self.name) };
        let elapsed = elapsed(s, now);
        let clock = format!("{:02}:{:02}", elapsed.0 / 60_000_000, elapsed.0 / 1_000_000 % 60);
        let mut line = format!("{clock}  {}  {}  {}", self.name, run_state(s), tally(&s.tally));
        if s.stats.ended > 0 {
            line += &format!("  {}", figures(s, elapsed));
        }
        match (s.left_us, &s.waiting_for) {
            (Some(left), _) if s.verdict.is_none() => line += &format!("  left {}", Span(left)),
            (_, Some(waiting)) => line += &format!("  {waiting}"),
            _ => {}
        }
        line
    }

    /// The whole picture, for a terminal of that width.
    pub fn lines(&self, width: usize, now: DateTime<Utc>) -> Vec<String> {
        let Some(s) = &self.summary else { return vec![format!("{}: waiting for the service", self.name)] };
        let elapsed = elapsed(s, now);
        let left = match (s.left_us, s.tally.total()) {
            (Some(left), n) if n > 0 => format!("about {} left", Span(left)),
            _ => String::new(),
        };
        let head = format!("{}  {}", run_state(s), super::bold(&self.name));
        let right = if left.is_empty() { elapsed.to_string() } else { format!("{elapsed}, {left}") };
        let gap = width.saturating_sub(columns(&head) + columns(&right));
        let mut lines = vec![format!("{head}{}{right}", " ".repeat(gap.max(2)))];
        lines.push(bar(&self.strip, s.tally.total(), s.tally.running, width));
        let counts = tally(&s.tally);
        let figures = if s.stats.ended > 0 { figures(s, elapsed) } else { String::new() };
        if columns(&counts) + columns(&figures) + 4 <= width {
            lines.push(format!("{counts}    {}", paint(Paint::Dim, &figures)));
        } else {
            lines.push(counts);
            lines.push(paint(Paint::Dim, &figures));
        }
        if let Some(waiting) = &s.waiting_for {
            lines.push(paint(Paint::Void, &shorten(waiting, width.saturating_sub(1))));
        }
        for note in self.notes.iter().rev().take(2).filter(|n| Some(*n) != s.waiting_for.as_ref()) {
            lines.push(shorten(note, width.saturating_sub(1)));
        }
        for trouble in self.trouble.iter().rev().take(MOST_TROUBLE) {
            lines.push(trouble_line(trouble, width));
        }
        let more = self.trouble.len().saturating_sub(MOST_TROUBLE);
        if more > 0 {
            lines.push(paint(Paint::Dim, &format!("  … and {more} more in trouble")));
        }
        for slot in self.slots.iter().take(MOST_SLOTS) {
            lines.push(slot_line(slot, width, now));
        }
        let more = self.slots.len().saturating_sub(MOST_SLOTS);
        if more > 0 {
            lines.push(paint(Paint::Dim, &format!("  … and {more} more slots")));
        }
        lines
    }
}

fn elapsed(s: &RunSummary, now: DateTime<Utc>) -> Span {
    let end = s.finished_at.unwrap_or(now);
    Span((end - s.began_at.unwrap_or(s.created_at)).num_microseconds().unwrap_or(0).max(0) as u64)
}

fn figures(s: &RunSummary, elapsed: Span) -> String {
    let rate = f64::from(s.tally.done()) / elapsed.as_seconds().max(0.001);
    let rate = if rate < 10.0 { format!("{rate:.1}") } else { format!("{rate:.0}") };
    let failing = f64::from(s.stats.failing) * 100.0 / f64::from(s.stats.ended.max(1));
    format!(
        "{rate} tests/s  mean {} ({} to {})  failing {failing:.1}%",
        s.stats.mean(),
        Span(s.stats.shortest_us),
        Span(s.stats.longest_us)
    )
}

/// The water line: a cell for each stretch of outcomes in the order in which they came, then what runs, then open water.
fn bar(strip: &str, total: u32, running: u32, width: usize) -> String {
    let cells = width.min(240);
    if total == 0 {
        return paint(Paint::Dim, &"·".repeat(cells));
    }
    let part = |n: usize| n * cells / total as usize;
    let done = part(strip.len().min(total as usize));
    let under_way = (part(running as usize).max(usize::from(running > 0))).min(cells - done);
    let mut out = String::new();
    let letters = thin(strip, done.max(1));
    for i in 0..done {
        // A strip with fewer letters than cells is stretched.
        let c = letters.as_bytes().get(i * letters.len() / done).map_or('u', |b| char::from(*b));
        let outcome = Outcome::ALL.iter().find(|o| letter(**o) == c).copied().unwrap_or(Outcome::Unrun);
        // Beside the colour, what is not simply well has its glyph.
        let cell = if outcome == Outcome::Passed { "█" } else { outcome.glyph() };
        out += &paint(paint_of(outcome), cell);
    }
    out += &paint(Paint::Running, &"▒".repeat(under_way));
    out + &paint(Paint::Dim, &"·".repeat(cells - done - under_way))
}

fn trouble_line(trouble: &Trouble, width: usize) -> String {
    let (mark, colour) = match trouble.outcome {
        Some(outcome) => (outcome.glyph(), paint_of(outcome)),
        // It failed, and will be tried again.
        None => ("↻", Paint::Flaky),
    };
    let variant = if trouble.variant.is_empty() { String::new() } else { format!(" ({})", trouble.variant) };
    let name = format!("{}{variant}", trouble.test);
    let room = width.saturating_sub(columns(&name) + 6);
    let message = shorten(trouble.message.lines().next().unwrap_or_default(), room.saturating_sub(1));
    format!("  {} {name}  {}", paint(colour, mark), paint(Paint::Dim, &message))
}

fn slot_line(slot: &RunSlot, width: usize, now: DateTime<Utc>) -> String {
    let since = slot.slot.since.map(|t| Span((now - t).num_microseconds().unwrap_or(0).max(0) as u64));
    let doing = slot.slot.doing.as_deref().unwrap_or("starting");
    let variant = slot.slot.variant.as_ref().map(|v| format!(" ({v})")).unwrap_or_default();
    let since = since.map(|s| format!("  {s}")).unwrap_or_default();
    let text =
        shorten(&format!("{}.{} {doing}{variant}{since}", slot.worker, slot.slot.number), width.saturating_sub(5));
    format!("  {} {text}", paint(Paint::Running, "▸"))
}

/// Draws lines in place.
#[derive(Default)]
pub struct Screen {
    drawn: usize,
}

impl Screen {
    /// Draws lines over those that were drawn before, without a flicker.
    pub fn draw(&mut self, lines: &[String]) {
        let mut out = String::new();
        if self.drawn > 0 {
            out += &format!("\x1b[{}A", self.drawn);
        }
        for line in lines {
            out += &format!("\r\x1b[2K{line}\n");
        }
        out += "\x1b[J";
        self.drawn = lines.len();
        self.write(&out);
    }

    /// Takes away what was drawn.
    pub fn clear(&mut self) {
        if self.drawn > 0 {
            let out = format!("\x1b[{}A\r\x1b[J", self.drawn);
            self.drawn = 0;
            self.write(&out);
        }
    }

    fn write(&self, text: &str) {
        let mut out = std::io::stdout().lock();
        if out.write_all(text.as_bytes()).and_then(|()| out.flush()).is_err() {
            // The terminal has gone: there is nobody to tell.
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use kesmo_core::run::{AttemptStats, Tally};
    use kesmo_core::words::{Ended, Phase};
    use kesmo_wire::live::AttemptChange;

    fn summary() -> RunSummary {
        let at = |s: i64| DateTime::from_timestamp(1_800_000_000 + s, 0).unwrap();
        RunSummary {
            name: "boarding-gate/3".into(),
            suite: "boarding-gate".into(),
            number: 3,
            phase: Phase::Running,
            verdict: None,
            reason: String::new(),
            waiting_for: None,
            tally: Tally { waiting: 20, running: 4, passed: 12, flaky: 1, failed: 2, skipped: 1, ..Tally::default() },
            stats: AttemptStats { ended: 18, failing: 4, total_us: 1_800_000, shortest_us: 2_000, longest_us: 900_000 },
            labels: Default::default(),
            pool: "standing".into(),
            started_by: "asta".into(),
            created_at: at(0),
            began_at: Some(at(1)),
            finished_at: None,
            left_us: Some(8_000_000),
            strip: String::new(),
            slots: 4,
        }
    }

    fn view() -> LiveView {
        let mut view = LiveView::new("boarding-gate/3");
        let attempt = |test: &str, outcome| AttemptChange {
            index: 0,
            test: test.into(),
            variant: String::new(),
            number: 1,
            ended: Ended::Failed,
            outcome,
            spent_us: 1,
            message: "expected Closed, got Boarding".into(),
            worker: "w1".into(),
            ended_at_us: 0,
        };
        view.strip = "ppppppkppspppf".into();
        view.change(RunChange {
            summary: summary(),
            attempts: vec![attempt("gate/late/refused", Some(Outcome::Failed)), attempt("gate/scan/torn", None)],
            decided: vec![],
            slots: vec![],
            notes: vec!["a batch left 1 processes running; they were ended".into()],
        });
        view
    }

    #[test]
    fn the_summary_line_holds_all_figures() {
        let now = DateTime::from_timestamp(1_800_000_006, 0).unwrap();
        insta::assert_snapshot!(view().summary_line(now));
    }

    #[test]
    fn the_picture_fits_its_width() {
        let now = DateTime::from_timestamp(1_800_000_006, 0).unwrap();
        for width in [40, 80, 200] {
            let lines = view().lines(width, now);
            if width >= 80 {
                assert!(lines.iter().all(|l| columns(l) <= width), "{lines:?}");
            }
        }
        insta::assert_snapshot!(view().lines(80, now).join("\n"));
    }

    #[test]
    fn a_note_is_told_once() {
        let mut view = view();
        assert_eq!(view.take_notes().len(), 1);
        assert!(view.take_notes().is_empty());
    }
}
