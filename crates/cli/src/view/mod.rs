//! How things look in the terminal: words, glyphs and colours of states, tables, times.

pub mod closing;
pub mod live;
pub mod measures;
pub mod safe;

use std::{io::IsTerminal, sync::LazyLock};

use chrono::{DateTime, Local, Utc};
use kesmo_core::{
    plan::brief::OriginKind,
    run::{Tally, cases::CaseTally},
    source::short_commit,
    time::Span,
    words::{Ended, Outcome, Phase, Verdict},
};
use kesmo_wire::api::{ChainLink, Run, RunSummary};
use unicode_width::UnicodeWidthChar;

/// What is painted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Paint {
    Passed,
    Flaky,
    Failed,
    Running,
    Skipped,
    Parked,
    Void,
    Stopped,
    NotRun,
    Dim,
    Bold,
}

impl Paint {
    /// The house's colours for dark grounds; terminals mostly are.
    fn colour(self) -> Option<(u8, u8, u8)> {
        match self {
            Self::Passed => Some((0x4f, 0xc2, 0xb1)),
            Self::Flaky => Some((0xe3, 0xad, 0x4b)),
            Self::Failed => Some((0xff, 0x8a, 0x7a)),
            Self::Running => Some((0x7f, 0xb6, 0xf2)),
            Self::Skipped => Some((0x9f, 0xb0, 0xc2)),
            Self::Parked => Some((0xb7, 0xa6, 0xe8)),
            Self::Void => Some((0xe2, 0x9b, 0xc6)),
            Self::Stopped => Some((0xc2, 0xc2, 0xc2)),
            Self::NotRun => Some((0xa3, 0xa9, 0xb2)),
            Self::Dim | Self::Bold => None,
        }
    }
}

static COLOURED: LazyLock<bool> = LazyLock::new(|| on_terminal() && std::env::var_os("NO_COLOR").is_none());

/// Whether standard output is a terminal that can be drawn on.
pub fn on_terminal() -> bool {
    std::io::stdout().is_terminal() && std::env::var_os("TERM").is_none_or(|t| t != "dumb")
}

/// The terminal's width in columns.
pub fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(w, _)| usize::from(w.0))
}

/// The terminal's height in lines.
pub fn height() -> usize {
    terminal_size::terminal_size().map_or(24, |(_, h)| usize::from(h.0))
}

/// What a test printed, as it may be shown: a terminal gets its text and its colours and nothing that moves the cursor; a file
/// or a program gets it as it is.
pub fn output(text: &str) -> String {
    if on_terminal() { safe::output(text, *COLOURED) } else { text.to_owned() }
}

/// Paints a text, where colours are shown.
pub fn paint(paint: Paint, text: &str) -> String {
    if !*COLOURED {
        return text.to_owned();
    }
    let truecolor = std::env::var("COLORTERM").is_ok_and(|c| c == "truecolor" || c == "24bit");
    match (paint, paint.colour()) {
        (Paint::Bold, _) => format!("\x1b[1m{text}\x1b[0m"),
        (_, None) => format!("\x1b[2m{text}\x1b[0m"),
        (_, Some((r, g, b))) if truecolor => format!("\x1b[38;2;{r};{g};{b}m{text}\x1b[0m"),
        // The nearest of the 6×6×6 cube that terminals with 256 colours have.
        (_, Some((r, g, b))) => {
            let step = |c: u8| u16::from(c) * 5 / 255;
            format!("\x1b[38;5;{}m{text}\x1b[0m", 16 + 36 * step(r) + 6 * step(g) + step(b))
        }
    }
}

pub fn bold(text: &str) -> String {
    paint(Paint::Bold, text)
}

pub fn paint_of(outcome: Outcome) -> Paint {
    match outcome {
        Outcome::Passed => Paint::Passed,
        Outcome::Flaky => Paint::Flaky,
        Outcome::Failed => Paint::Failed,
        Outcome::Skipped => Paint::Skipped,
        Outcome::Parked => Paint::Parked,
        Outcome::NotRun => Paint::NotRun,
    }
}

/// An outcome's glyph.
pub fn outcome(outcome: Outcome) -> String {
    paint(paint_of(outcome), outcome.glyph())
}

/// An outcome's glyph and word.
pub fn outcome_word(outcome: Outcome) -> String {
    paint(paint_of(outcome), &format!("{} {outcome}", outcome.glyph()))
}

fn paint_of_ended(ended: Ended) -> Paint {
    match ended {
        Ended::Passed => Paint::Passed,
        Ended::Skipped => Paint::Skipped,
        Ended::Lost => Paint::NotRun,
        Ended::Failed | Ended::TimedOut | Ended::Crashed => Paint::Failed,
    }
}

/// An attempt's glyph.
pub fn ended(ended: Ended) -> String {
    paint(paint_of_ended(ended), ended.glyph())
}

/// An attempt's glyph and word.
pub fn ended_word(ended: Ended) -> String {
    paint(paint_of_ended(ended), &format!("{} {ended}", ended.glyph()))
}

fn paint_of_verdict(verdict: Verdict) -> Paint {
    match verdict {
        Verdict::Passed => Paint::Passed,
        Verdict::Failed => Paint::Failed,
        Verdict::Void => Paint::Void,
        Verdict::Stopped => Paint::Stopped,
    }
}

pub fn verdict_word(verdict: Verdict) -> String {
    paint(paint_of_verdict(verdict), &format!("{} {verdict}", verdict.glyph()))
}

/// A verdict's glyph.
fn verdict_glyph(verdict: Verdict) -> String {
    paint(paint_of_verdict(verdict), verdict.glyph())
}

/// A run's verdict, or where it stands.
pub fn run_state(run: &RunSummary) -> String {
    match run.verdict {
        Some(verdict) => verdict_word(verdict),
        None if run.phase == Phase::Queued => format!("{} queued", Phase::Queued.glyph()),
        None => paint(Paint::Running, &format!("{} {}", run.phase.glyph(), run.phase)),
    }
}

/// How something's last run went, with its name.
pub fn last_run(run: Option<&RunSummary>) -> String {
    run.map_or_else(|| "never run".into(), |r| format!("{} {}", run_state(r), r.name))
}

/// Counts by outcome, with glyphs; zeros are left away.
pub fn tally(tally: &Tally) -> String {
    let mut parts: Vec<String> = Outcome::ALL
        .iter()
        .filter(|o| tally.of(**o) > 0)
        .map(|o| paint(paint_of(*o), &format!("{} {}", o.glyph(), tally.of(*o))))
        .collect();
    if tally.running > 0 {
        parts.push(paint(Paint::Running, &format!("≈ {}", tally.running)));
    }
    if tally.waiting > 0 {
        parts.push(format!("– {}", tally.waiting));
    }
    if !tally.cases.is_empty() {
        parts.push(format!("({})", cases(&tally.cases)));
    }
    parts.join("  ")
}

/// How many cases there are, and those that are not as they should be: `3112 cases: ◆ 5  ◐ 2`.
pub fn cases(tally: &CaseTally) -> String {
    let told: Vec<String> = [Outcome::Failed, Outcome::Flaky, Outcome::Skipped, Outcome::Parked]
        .iter()
        .filter(|outcome| tally.of(**outcome) > 0)
        .map(|outcome| paint(paint_of(*outcome), &format!("{} {}", outcome.glyph(), tally.of(*outcome))))
        .collect();
    let all = match tally.total() {
        1 => "1 case".to_owned(),
        n => format!("{n} cases"),
    };
    if told.is_empty() { all } else { format!("{all}: {}", told.join("  ")) }
}

/// What the glyphs of lines mean, for whoever reads them in a log.
pub fn legend() -> String {
    let outcomes = Outcome::ALL.iter().map(|o| format!("{} {o}", o.glyph()));
    let words: Vec<String> = outcomes.chain(["≈ running".to_owned(), "– waiting".to_owned()]).collect();
    words.join("  ")
}

/// `12 passed, 1 flaky`; zeros are left away.
pub fn counts(counts: &[(u32, &str)]) -> String {
    let parts: Vec<String> = counts.iter().filter(|c| c.0 > 0).map(|(n, word)| format!("{n} {word}")).collect();
    parts.join(", ")
}

/// A text as a sentence begins.
pub fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |c| c.to_uppercase().chain(letters).collect())
}

/// A moment in local time.
pub fn moment(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%Y-%m-%d %H:%M:%S").to_string()
}

/// How many columns a text takes, colours left away; letters of some scripts take two.
pub fn columns(text: &str) -> usize {
    let mut count = 0;
    let mut escape = false;
    for c in text.chars() {
        match c {
            '\x1b' => escape = true,
            'm' if escape => escape = false,
            _ if escape => {}
            _ => count += c.width().unwrap_or(0),
        }
    }
    count
}

/// Cuts a text without colours to so many columns, saying so with `…`.
pub fn cut(text: &str, room: usize) -> String {
    if columns(text) <= room {
        return text.to_owned();
    }
    let mut out = String::new();
    let mut used = 0;
    for c in text.chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide + 1 > room {
            break;
        }
        out.push(c);
        used += wide;
    }
    if room > 0 { out + "…" } else { out }
}

/// Lays texts side by side, three columns apart, on as many lines as that takes.
pub fn wrap(texts: &[String], width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for text in texts.iter().filter(|t| !t.is_empty()) {
        match lines.last_mut() {
            Some(line) if columns(line) + 3 + columns(text) <= width => *line += &format!("   {text}"),
            _ if columns(text) <= width => lines.push(text.clone()),
            // What is too long for a line goes on the next, word by word.
            _ => {
                let mut line = String::new();
                for word in text.split("  ").flat_map(|part| part.split(", ")) {
                    if !line.is_empty() && columns(&line) + 2 + columns(word) > width {
                        lines.push(std::mem::take(&mut line));
                    }
                    line += if line.is_empty() { "" } else { "  " };
                    line += word;
                }
                lines.push(if columns(&line) <= width || line.contains('\x1b') { line } else { cut(&line, width) });
            }
        }
    }
    lines
}

/// Cuts a text to the room that is left on a terminal's line; elsewhere it stays whole.
pub fn fit(text: &str, used: usize) -> String {
    if on_terminal() {
        kesmo_core::name::shorten(text, width().saturating_sub(used + 1).max(12))
    } else {
        text.to_owned()
    }
}

/// A table with aligned columns. On a terminal a last column of words is cut to the line. A head that begins with `>` is of a column aligned to the right.
pub fn table(heads: &[&str], mut rows: Vec<Vec<String>>) -> String {
    let plain: Vec<&str> = heads.iter().map(|h| h.trim_start_matches('>')).collect();
    let used = |rows: &[Vec<String>], i: usize| rows.iter().any(|r| r.get(i).is_some_and(|c| !c.is_empty()));
    let shown: Vec<usize> = (0..heads.len()).filter(|i| used(&rows, *i)).collect();
    if let Some((last, before)) = shown.split_last() {
        let wide = |i: &usize| rows.iter().map(|r| columns(&r[*i])).max().unwrap_or(0).max(columns(plain[*i])) + 2;
        let taken: usize = before.iter().map(wide).sum();
        // A painted text must not be cut within its colour.
        rows.iter_mut().filter(|r| !r[*last].contains('\x1b')).for_each(|r| r[*last] = fit(&r[*last], taken));
    }
    let wide = |i: usize| rows.iter().map(|r| columns(&r[i])).max().unwrap_or(0).max(columns(plain[i]));
    let line = |cell: &dyn Fn(usize) -> String| {
        let mut out = String::new();
        for (n, i) in shown.iter().enumerate() {
            let text = cell(*i);
            let pad = " ".repeat(wide(*i).saturating_sub(columns(&text)));
            if heads[*i].starts_with('>') {
                out += &(pad + &text)
            } else {
                out += &(text + &pad)
            }
            if n + 1 < shown.len() {
                out += "  ";
            }
        }
        out.trim_end().to_owned() + "\n"
    };
    let headless = plain.iter().all(|head| head.is_empty());
    let mut out = if headless { String::new() } else { line(&|i| paint(Paint::Dim, plain[i])) };
    for row in &rows {
        out += &line(&|i| row[i].clone());
    }
    out
}

/// The head of a run: verdict, counts, times, choice, remarks.
pub fn run_head(run: &Run, page: Option<&str>) -> String {
    let s = &run.summary;
    let mut out = format!("{}  {}", run_state(s), bold(&s.name));
    if !s.reason.is_empty() {
        out += &format!("  {}", s.reason);
    }
    out.push('\n');
    if let Some(waiting) = &s.waiting_for {
        out += &format!("  {waiting}\n");
    }
    let took =
        s.began_at.map(|b| (s.finished_at.unwrap_or_else(Utc::now) - b).num_microseconds().unwrap_or(0).max(0) as u64);
    if s.tally.total() > 0 {
        out += &format!("  {}", tally(&s.tally));
        if let Some(took) = took {
            out += &format!("  in {}", Span(took));
        }
        if let Some(left) = s.left {
            out += &format!(", {} left", left.said());
        }
        out.push('\n');
    }
    if !run.choice.is_empty() {
        out += &format!("  {}\n", run.choice);
    }
    let labels: Vec<String> = s.labels.iter().map(|(k, v)| format!("{k}={v}")).collect();
    if !labels.is_empty() {
        out += &format!("  labels {}\n", labels.join(" "));
    }
    let brief = s.origin.brief.as_ref().map_or_else(String::new, |b| format!(", brief {b}"));
    out += &match s.origin.kind {
        OriginKind::Imported => format!(
            "  {}: brought by {}, ran at {}, pool {}\n",
            s.origin.said(),
            s.started_by,
            moment(s.created_at),
            s.pool
        ),
        _ => format!("  started by {} at {}, pool {}{brief}\n", s.started_by, moment(s.created_at), s.pool),
    };
    if let Some(machines) = &s.machines {
        out += &format!("  machines {machines}\n");
    }
    if !run.reach.is_empty() {
        out += &format!("  ⇄ reaches {}\n", run.reach.join(", "));
    }
    for image in &run.images {
        out += &format!("  in the image {image}\n");
    }
    for changed in &s.origin.changed {
        out += &format!("  changed: {changed}\n");
    }
    if let Some(said) = source_said(run) {
        out += &format!("  {said}\n");
    }
    if !run.chain.is_empty() {
        out += &format!("  chain {}\n", chain_said(run));
    }
    for note in run.notes.iter().take(10) {
        out += &format!("  ! {note}\n");
    }
    out + &page.map(|page| format!("  {page}\n")).unwrap_or_default()
}

/// The branch and commit of a run, and where they come from, as far as they are known.
fn source_said(run: &Run) -> Option<String> {
    let s = &run.summary;
    let branch = s.branch.as_ref().map(|b| format!("branch {b}"));
    let commit = s.commit.as_ref().map(|c| format!("commit {}", short_commit(c)));
    let from = run.git.as_ref().map(|git| {
        let folder = if git.folder.is_empty() { String::new() } else { format!(", folder {}", git.folder) };
        format!("from {}{folder}", git.url)
    });
    let parts: Vec<String> = [branch, commit, from].into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// The runs of a chain, the one that is shown in bold, and the brief that is still to follow.
fn chain_said(run: &Run) -> String {
    let link = |l: &ChainLink| {
        let name = if l.run == run.summary.name { bold(&l.run) } else { l.run.clone() };
        match l.verdict {
            Some(verdict) => format!("{} {name}", verdict_glyph(verdict)),
            None => format!("{} {name}", paint(Paint::Running, l.phase.glyph())),
        }
    };
    let mut links: Vec<String> = run.chain.iter().map(link).collect();
    links.extend(run.then.iter().map(|then| paint(Paint::Dim, &format!("– {then}"))));
    links.join(" → ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_counted_without_colours() {
        assert_eq!(columns("\x1b[38;5;72m● 12\x1b[0m"), 4);
    }

    #[test]
    fn wide_letters_take_two_columns_and_texts_are_cut_by_columns() {
        assert_eq!(columns("灯台"), 4);
        assert_eq!(cut("灯台の船", 5), "灯台…");
        assert_eq!(cut("lantern", 7), "lantern");
        assert_eq!(cut("lantern", 0), "");
    }

    #[test]
    fn texts_are_laid_side_by_side_as_far_as_they_fit() {
        let texts: Vec<String> = ["one", "two", "", "three, and four"].map(str::to_owned).to_vec();
        assert_eq!(wrap(&texts, 30), ["one   two   three, and four"]);
        assert_eq!(wrap(&texts, 16), ["one   two", "three, and four"]);
        assert_eq!(wrap(&texts, 9), ["one   two", "three", "and four"]);
    }

    #[test]
    fn tables_align_and_leave_empty_columns_away() {
        let rows =
            vec![vec!["fares".into(), "400".into(), String::new()], vec!["gate".into(), "7".into(), String::new()]];
        assert_eq!(table(&["suite", ">tests", "labels"], rows), "suite  tests\nfares    400\ngate       7\n");
    }
}
