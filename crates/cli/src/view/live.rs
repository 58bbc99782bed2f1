//! Live progress: kept up to date from a run's stream; drawn in place on a terminal, or told in a line now and then.

use std::io::Write;

use chrono::{DateTime, Utc};
use kesmo_core::{
    name::shorten,
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_wire::{
    api::{RunSummary, part_name},
    live::{MOST_SLOTS, RunChange, RunSlot, RunSnapshot, letter, thin},
};

use super::{Paint, columns, cut, measures, paint, paint_of, run_state, safe::plain, tally, wrap};

/// What failed last, as it is shown, at the most.
const MOST_TROUBLE: usize = 6;
/// Lines of failures that are told as they come; a broken build need not fill the log.
const MOST_LINES: usize = 200;

struct Trouble {
    outcome: Option<Outcome>,
    name: String,
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
    /// Lines for a log that were not told yet, and how many were.
    lines: Vec<String>,
    told: usize,
    cut: bool,
}

impl LiveView {
    pub fn new(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            summary: None,
            slots: Vec::new(),
            trouble: Vec::new(),
            strip: String::new(),
            notes: Vec::new(),
            lines: Vec::new(),
            told: 0,
            cut: false,
        }
    }

    /// Whether anything has come yet.
    pub fn seen(&self) -> bool {
        self.summary.is_some()
    }

    pub fn name(&self) -> &str {
        &self.name
    }

    pub fn verdict(&self) -> Option<Verdict> {
        self.summary.as_ref()?.verdict
    }

    /// The stream was cut, or goes on.
    pub fn cut(&mut self, cut: bool) {
        self.cut = cut;
    }

    pub fn snapshot(&mut self, snapshot: RunSnapshot) {
        if self.summary.is_none() {
            self.note_all(&snapshot.run.notes);
        }
        self.note_waiting(&snapshot.run.summary);
        self.summary = Some(snapshot.run.summary);
        self.slots = snapshot.slots;
        self.strip = snapshot.strip;
        self.cut = false;
        self.trouble = snapshot
            .trouble
            .into_iter()
            .map(|e| Trouble { outcome: e.outcome, name: e.name(), message: plain(first_line(&e.message)) })
            .collect();
    }

    pub fn change(&mut self, change: RunChange) {
        self.cut = false;
        self.strip += &change.strip;
        for attempt in change.attempts {
            if !attempt.ended.failing() && attempt.outcome != Some(Outcome::Flaky) {
                continue;
            }
            let name = part_name(&attempt.test, &attempt.variant, attempt.repeat, attempt.parts);
            let known = self.trouble.iter().position(|t| t.name == name).map(|i| self.trouble.remove(i));
            let mut message = plain(first_line(&attempt.message));
            if message.is_empty() {
                // That it passed in the end says nothing of why it did not at first.
                message = known.map(|t| t.message).unwrap_or_default();
            }
            if let Some(outcome @ (Outcome::Failed | Outcome::Flaky)) = attempt.outcome {
                let what = match outcome {
                    Outcome::Flaky => format!("flaky, passed at attempt {}", attempt.number),
                    _ if attempt.number > 1 => format!("failed {} times", attempt.number),
                    _ => "failed".to_owned(),
                };
                let said = if message.is_empty() { String::new() } else { format!(": {}", shorten(&message, 300)) };
                self.line(paint(
                    paint_of(outcome),
                    &format!("{} {name}  {what} on {}{said}", outcome.glyph(), attempt.worker),
                ));
            }
            self.trouble.push(Trouble { outcome: attempt.outcome, name, message });
        }
        // What is shown is bounded; the service has it all.
        let more = self.trouble.len().saturating_sub(200);
        self.trouble.drain(..more);
        self.note_all(&change.notes);
        self.note_waiting(&change.summary);
        self.slots = change.slots;
        self.summary = Some(change.summary);
    }

    fn line(&mut self, text: String) {
        self.told += 1;
        if self.told <= MOST_LINES {
            self.lines.push(text);
        } else if self.told == MOST_LINES + 1 {
            self.lines.push(format!("… more fail; what else does is told at the end and by: kesmo show {}", self.name));
        }
    }

    fn note_all(&mut self, notes: &[String]) {
        let said: Vec<String> = notes.iter().map(|n| format!("! {}", plain(n))).collect();
        self.lines.extend(said.iter().cloned());
        self.notes.extend(said);
        let more = self.notes.len().saturating_sub(10);
        self.notes.drain(..more);
    }

    fn note_waiting(&mut self, now: &RunSummary) {
        let before = self.summary.as_ref().and_then(|s| s.waiting_for.as_ref());
        if now.waiting_for.as_ref() != before
            && let Some(waiting) = &now.waiting_for
        {
            self.lines.push(plain(waiting));
        }
    }

    /// Lines for a log that came since the last call: failures, remarks, what it waits for.
    pub fn take_lines(&mut self) -> Vec<String> {
        std::mem::take(&mut self.lines)
    }

    /// One line: counts, rate, times, failing share, time left.
    pub fn summary_line(&self, now: DateTime<Utc>) -> String {
        let Some(s) = &self.summary else { return format!("{} not seen yet", self.name) };
        let elapsed = elapsed(s, now);
        let clock = format!("{:02}:{:02}", elapsed.0 / 60_000_000, elapsed.0 / 1_000_000 % 60);
        let mut line = format!("{clock}  {}  {}  {}", self.name, run_state(s), tally(&s.tally));
        if s.tally.total() > 0 && s.verdict.is_none() {
            line += &format!("  {} of {} done", s.tally.done(), s.tally.total());
        }
        if s.stats.ended > 0 {
            line += &format!("  {}", figures(s, elapsed).join("  "));
        }
        match (s.left, &s.waiting_for) {
            (Some(left), _) if s.verdict.is_none() => line += &format!("  {} left", left.said()),
            (_, Some(waiting)) => line += &format!("  {}", plain(waiting)),
            _ => {}
        }
        line
    }

    /// Lines that tell what is measured.
    pub fn measure_lines(&self) -> Vec<String> {
        self.summary.as_ref().map(|s| measures::lines(&s.measures)).unwrap_or_default()
    }

    /// The whole picture, for a terminal of that size. It never has more lines than `height`.
    pub fn picture(&self, width: usize, height: usize, now: DateTime<Utc>) -> Vec<String> {
        let Some(s) = &self.summary else { return vec![format!("{}: waiting for the service", self.name)] };
        let mut lines = self.head(s, width, now);
        let elapsed = elapsed(s, now);
        let mut texts = vec![tally(&s.tally)];
        if s.tally.total() > 0 {
            texts.push(format!("{} of {} done", s.tally.done(), s.tally.total()));
        }
        lines.extend(wrap(&texts, width));
        if s.stats.ended > 0 {
            lines.extend(wrap(&figures(s, elapsed), width).iter().map(|line| paint(Paint::Dim, line)));
        }
        if let Some(machines) = &s.machines {
            lines
                .push(paint(Paint::Dim, &cut(&format!("machines of the pool {}: {}", s.pool, plain(machines)), width)));
        }
        if let Some(waiting) = &s.waiting_for {
            lines.push(paint(Paint::Void, &cut(&plain(waiting), width)));
        }
        let room = height.saturating_sub(lines.len()) / 3;
        lines.extend(self.measure_lines().iter().take(room).map(|line| cut(line, width)));
        let room = height.saturating_sub(lines.len());
        let notes: Vec<&String> = self.notes.iter().rev().take(2.min(room / 6)).collect();
        lines.extend(notes.iter().map(|note| cut(note, width)));
        let room = height.saturating_sub(lines.len());
        // Failures may have two lines each; the slots have at least a third of the room.
        let for_slots = (self.slots.len() + 1).min((room / 3).max(room.saturating_sub(self.trouble.len() * 2 + 1)));
        let for_trouble = room - for_slots;
        lines.extend(self.trouble_lines(width, for_trouble));
        let room = height.saturating_sub(lines.len());
        lines.extend(self.slot_lines(width, room, now));
        lines.truncate(height);
        lines
    }

    /// Head and water line, for one run of several.
    pub fn short_picture(&self, width: usize, now: DateTime<Utc>) -> Vec<String> {
        let Some(s) = &self.summary else { return vec![format!("{}: waiting for the service", self.name)] };
        let mut lines = self.head(s, width, now);
        let mut texts = vec![tally(&s.tally)];
        if s.stats.ended > 0 && s.verdict.is_none() {
            texts.extend(figures(s, elapsed(s, now)).into_iter().take(1));
        }
        lines.extend(wrap(&texts, width));
        if let Some(waiting) = &s.waiting_for {
            lines.push(paint(Paint::Void, &cut(&plain(waiting), width)));
        }
        lines.extend(self.trouble_lines(width, 2));
        lines
    }

    fn head(&self, s: &RunSummary, width: usize, now: DateTime<Utc>) -> Vec<String> {
        let took = elapsed(s, now);
        let left = if self.cut {
            paint(Paint::Flaky, "connection lost; reconnecting")
        } else {
            match s.left {
                Some(left) if s.verdict.is_none() && s.tally.total() > 0 => {
                    super::bold(&format!("{} left", left.said()))
                }
                _ => String::new(),
            }
        };
        let state = run_state(s);
        let both = format!("{left}   {took}");
        // On a narrow terminal what matters stays: the state, and how long it still takes.
        let right = match (left.is_empty(), columns(&state) + columns(&both) + 8 <= width) {
            (true, _) => took.to_string(),
            (false, true) => both,
            (false, false) => cut(&left, width.saturating_sub(columns(&state) + 3)),
        };
        let room = width.saturating_sub(columns(&state) + columns(&right) + 4);
        let head = format!("{state}  {}", super::bold(&cut(&self.name, room)));
        let gap = width.saturating_sub(columns(&head) + columns(&right));
        vec![format!("{head}{}{right}", " ".repeat(gap)), bar(&self.strip, s, width)]
    }

    /// The newest first: a line for each, or with room two, the second for what it said.
    fn trouble_lines(&self, width: usize, room: usize) -> Vec<String> {
        let mut lines = Vec::new();
        for (n, trouble) in self.trouble.iter().rev().enumerate() {
            let more = self.trouble.len() - n;
            if n == MOST_TROUBLE || (lines.len() + 1 >= room && more > 1) || lines.len() >= room {
                if lines.len() < room {
                    lines.push(paint(Paint::Dim, &format!("  … {more} more that failed at least once")));
                }
                break;
            }
            let (mark, colour) = match trouble.outcome {
                Some(outcome) => (outcome.glyph(), paint_of(outcome)),
                // It failed, and will be tried again.
                None => ("↻", Paint::Flaky),
            };
            let spare = width.saturating_sub(columns(&trouble.name) + 6);
            if spare >= columns(&trouble.message).min(24) || room - lines.len() < 3 {
                let message = cut(&trouble.message, spare);
                let name = cut_head(&trouble.name, width.saturating_sub(4));
                let line = format!("  {} {name}  {}", paint(colour, mark), paint(Paint::Dim, &message));
                lines.push(line.trim_end().to_owned());
            } else {
                lines.push(format!("  {} {}", paint(colour, mark), cut_head(&trouble.name, width.saturating_sub(4))));
                lines.push(format!("      {}", paint(Paint::Dim, &cut(&trouble.message, width.saturating_sub(6)))));
            }
        }
        lines
    }

    /// What each slot runs now: those that take unusually long first.
    fn slot_lines(&self, width: usize, room: usize, now: DateTime<Utc>) -> Vec<String> {
        let mut slots: Vec<(bool, String)> = self.slots.iter().map(|slot| slot_line(slot, width, now)).collect();
        slots.sort_by_key(|(late, _)| !late);
        let mut lines: Vec<String> = slots.into_iter().map(|(_, line)| line).collect();
        // Of many slots not all are told.
        let all = self.summary.as_ref().map_or(0, |summary| summary.slots) as usize;
        let untold = if lines.len() < MOST_SLOTS { 0 } else { all.saturating_sub(lines.len()) };
        if lines.len() > room || untold > 0 {
            let more = untold + lines.len().saturating_sub(room.saturating_sub(1));
            lines.truncate(room.saturating_sub(1));
            if room > 0 {
                lines.push(paint(Paint::Dim, &format!("  … and {more} more slots")));
            }
        }
        lines
    }
}

fn first_line(text: &str) -> &str {
    text.lines().map(str::trim).find(|l| !l.is_empty()).unwrap_or_default()
}

/// A name whose end says more than its beginning, cut to its room.
fn cut_head(name: &str, room: usize) -> String {
    let count = name.chars().count();
    if columns(name) <= room || count <= room {
        return cut(name, room);
    }
    let tail: String = name.chars().skip(count - room.saturating_sub(1)).collect();
    cut(&format!("…{tail}"), room)
}

fn elapsed(s: &RunSummary, now: DateTime<Utc>) -> Span {
    let end = s.finished_at.unwrap_or(now);
    Span((end - s.began_at.unwrap_or(s.created_at)).num_microseconds().unwrap_or(0).max(0) as u64)
}

fn figures(s: &RunSummary, elapsed: Span) -> Vec<String> {
    let rate = |rate: f64| if rate < 10.0 { format!("{rate:.1}") } else { format!("{rate:.0}") };
    let mean = f64::from(s.tally.done()) / elapsed.as_seconds().max(0.001);
    let failing = f64::from(s.stats.failing) * 100.0 / f64::from(s.stats.ended.max(1));
    let now = if s.verdict.is_none() { format!(" ({} now)", rate(s.rate)) } else { String::new() };
    let stats = &s.stats;
    vec![
        format!("{} tests/s{now}", rate(mean)),
        format!("failed attempts {failing:.1}%"),
        format!("mean {}, median {}, 95% under {}", stats.mean(), Span(stats.median_us), Span(stats.p95_us)),
        format!("{} to {}", Span(stats.shortest_us), Span(stats.longest_us)),
    ]
}

/// The water line: a cell for each stretch of outcomes in the order in which they came, then what runs, then open water.
fn bar(strip: &str, s: &RunSummary, width: usize) -> String {
    let (total, running) = (s.tally.total() as usize, s.tally.running as usize);
    let cells = width.min(240);
    if total == 0 {
        return paint(Paint::Dim, &"·".repeat(cells));
    }
    let part = |n: usize| n * cells / total;
    let done = part((s.tally.done() as usize).min(total));
    let under_way = (part(running).max(usize::from(running > 0))).min(cells - done);
    let mut out = String::new();
    let letters = thin(strip, done.max(1));
    for i in 0..done {
        // A strip with fewer letters than cells is stretched.
        let c = letters.as_bytes().get(i * letters.len() / done).map_or('u', |b| char::from(*b));
        let outcome = Outcome::ALL.iter().find(|o| letter(**o) == c).copied().unwrap_or(Outcome::NotRun);
        // Beside the colour, what is not simply well has its glyph.
        let cell = if outcome == Outcome::Passed { "█" } else { outcome.glyph() };
        out += &paint(paint_of(outcome), cell);
    }
    out += &paint(Paint::Running, &"▒".repeat(under_way));
    out + &paint(Paint::Dim, &"·".repeat(cells - done - under_way))
}

fn slot_line(slot: &RunSlot, width: usize, now: DateTime<Utc>) -> (bool, String) {
    let since = slot.slot.since.map(|t| (now - t).num_microseconds().unwrap_or(0).max(0) as u64);
    let late = since.zip(slot.slot.late_after_us).is_some_and(|(since, late)| since > late);
    let place = format!("{}.{}", slot.worker, slot.slot.number);
    let doing = slot.slot.doing.as_deref().unwrap_or("starting");
    let variant = slot.slot.variant.as_ref().map(|v| format!(" ({v})")).unwrap_or_default();
    let usual = slot.slot.expected_us.filter(|_| late).map(|us| format!(", usually {}", Span(us))).unwrap_or_default();
    let spent = since.map(|s| format!("  {}", Span(s))).unwrap_or_default();
    // Where there is little room, the mark says that it takes long.
    let usual = if columns(&place) + columns(&spent) + columns(&usual) + 17 <= width { usual } else { String::new() };
    let time = spent + &usual;
    let room = width.saturating_sub(columns(&place) + columns(&time) + 5);
    let name = cut_head(&format!("{}{variant}", plain(doing)), room);
    let (mark, time) = if late {
        (paint(Paint::Flaky, "◔"), paint(Paint::Flaky, &time))
    } else {
        (paint(Paint::Running, "≈"), paint(Paint::Dim, &time))
    };
    (late, format!("  {mark} {} {name}{time}", paint(Paint::Dim, &place)))
}

/// Draws lines in place.
#[derive(Default)]
pub struct Screen {
    drawn: usize,
    width: usize,
}

impl Screen {
    /// Draws lines over those that were drawn before, without a flicker. After a resize the terminal may have broken the old
    /// lines anew: then it is cleared first.
    pub fn draw(&mut self, lines: &[String], width: usize) {
        let mut out = String::new();
        if self.drawn > 0 {
            if self.width == width {
                out += &format!("\x1b[{}A", self.drawn);
            } else {
                out += "\x1b[2J\x1b[H";
            }
        }
        for line in lines {
            out += &format!("\r\x1b[2K{line}\n");
        }
        out += "\x1b[J";
        (self.drawn, self.width) = (lines.len(), width);
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
    use kesmo_core::run::{AttemptStats, Tally, TimeLeft};
    use kesmo_core::words::{Ended, Phase};
    use kesmo_wire::{api::Slot, live::AttemptChange};

    fn at(s: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_800_000_000 + s, 0).unwrap()
    }

    fn summary() -> RunSummary {
        RunSummary {
            name: "boarding-gate/3".into(),
            suite: "boarding-gate".into(),
            number: 3,
            phase: Phase::Running,
            verdict: None,
            reason: String::new(),
            waiting_for: None,
            no_worker: false,
            machines: None,
            alike: kesmo_core::plan::Alike::default(),
            measures: Vec::new(),
            tally: Tally { waiting: 20, running: 4, passed: 12, flaky: 1, failed: 2, skipped: 1, ..Tally::default() },
            stats: AttemptStats {
                ended: 18,
                failing: 4,
                total_us: 1_800_000,
                shortest_us: 2_000,
                longest_us: 900_000,
                median_us: 60_000,
                p95_us: 700_000,
            },
            labels: Default::default(),
            pool: "main".into(),
            started_by: "asta".into(),
            created_at: at(0),
            began_at: Some(at(1)),
            finished_at: None,
            left: Some(TimeLeft { low_us: 6_000_000, likely_us: 8_000_000, high_us: 11_000_000 }),
            rate: 2.84,
            strip: String::new(),
            slots: 4,
            branch: None,
            commit: None,
            origin: Default::default(),
            place: None,
        }
    }

    fn attempt(test: &str, outcome: Option<Outcome>, message: &str) -> AttemptChange {
        AttemptChange {
            index: 0,
            test: test.into(),
            variant: String::new(),
            repeat: 0,
            parts: 0,
            number: if outcome == Some(Outcome::Flaky) { 2 } else { 1 },
            ended: if outcome == Some(Outcome::Flaky) { Ended::Passed } else { Ended::Failed },
            outcome,
            spent_us: 1,
            message: message.into(),
            worker: "heron".into(),
            slot: 0,
            ended_at_us: 0,
        }
    }

    fn slot(number: u32, doing: &str, since: i64, expected_ms: u64) -> RunSlot {
        let slot = Slot {
            number,
            doing: Some(doing.into()),
            since: Some(at(since)),
            expected_us: Some(expected_ms * 1000),
            late_after_us: Some(expected_ms * 2000 + 1_000_000),
            ..Slot::default()
        };
        RunSlot { worker: "heron".into(), slot }
    }

    fn view() -> LiveView {
        let mut view = LiveView::new("boarding-gate/3");
        view.strip = "ppppppkppsppp".into();
        view.change(RunChange {
            summary: summary(),
            strip: "fpf".into(),
            attempts: vec![
                attempt(
                    "gate/late/passenger_without_ticket_is_refused",
                    Some(Outcome::Failed),
                    "expected Closed, got Boarding\nmore",
                ),
                attempt("gate/scan/torn", None, "the scanner did not answer within 200 ms"),
                attempt("gate/turn/slow", Some(Outcome::Flaky), ""),
            ],
            decided: vec![],
            left_out: 0,
            slots: vec![slot(0, "gate/queue/of_two_hundred", 5, 800), slot(1, "gate/turn/stuck", 1, 400)],
            notes: vec!["a batch left 1 processes running; they were ended".into()],
        });
        view
    }

    #[test]
    fn the_summary_line_holds_all_figures() {
        insta::assert_snapshot!(view().summary_line(at(6)));
    }

    #[test]
    fn the_picture_fits_its_width_and_height() {
        for width in [24, 40, 80, 132, 200] {
            for height in [4, 8, 24] {
                let lines = view().picture(width, height, at(6));
                assert!(lines.len() <= height, "{width}x{height}: {lines:?}");
                assert!(lines.iter().all(|l| columns(l) <= width), "{width}x{height}: {lines:?}");
            }
        }
    }

    #[test]
    fn the_picture_at_40_columns() {
        insta::assert_snapshot!(view().picture(40, 24, at(6)).join("\n"));
    }

    #[test]
    fn the_picture_at_80_columns() {
        insta::assert_snapshot!(view().picture(80, 24, at(6)).join("\n"));
    }

    #[test]
    fn the_picture_at_132_columns() {
        insta::assert_snapshot!(view().picture(132, 24, at(6)).join("\n"));
    }

    #[test]
    fn one_of_several_runs_is_short() {
        insta::assert_snapshot!(view().short_picture(80, at(6)).join("\n"));
    }

    #[test]
    fn a_log_tells_each_failing_and_flaky_entry_once() {
        let mut view = view();
        insta::assert_snapshot!(view.take_lines().join("\n"));
        assert!(view.take_lines().is_empty());
    }

    #[test]
    fn a_broken_build_does_not_fill_the_log() {
        let mut view = LiveView::new("boarding-gate/3");
        let attempts: Vec<AttemptChange> =
            (0..1000).map(|n| attempt(&format!("t/{n}"), Some(Outcome::Failed), "no such berth")).collect();
        let change = RunChange {
            summary: summary(),
            strip: String::new(),
            attempts,
            decided: vec![],
            left_out: 0,
            slots: vec![],
            notes: vec![],
        };
        view.change(change);
        let lines = view.take_lines();
        assert_eq!(lines.len(), MOST_LINES + 1);
        assert!(lines[MOST_LINES].contains("kesmo show boarding-gate/3"));
        assert!(view.trouble.len() <= 200);
    }

    #[test]
    fn what_a_test_says_cannot_move_the_cursor() {
        let mut view = view();
        let mut change = RunChange {
            summary: summary(),
            strip: String::new(),
            attempts: vec![attempt("gate/bad", Some(Outcome::Failed), "\x1b[2J\x1b[Hgone\u{202e}")],
            decided: vec![],
            left_out: 0,
            slots: vec![],
            notes: vec!["\x1b]0;title\x07".into()],
        };
        change.summary.waiting_for = Some("\x1b[31mwaiting".into());
        view.change(change);
        let all = view.picture(80, 24, at(6)).join("\n") + &view.take_lines().join("\n") + &view.summary_line(at(6));
        assert!(all.contains("gone"), "{all}");
        assert!(!all.contains('\x1b') && !all.contains('\u{202e}') && !all.contains('\x07'), "{all:?}");
    }
}
