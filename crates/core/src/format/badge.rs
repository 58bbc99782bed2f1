//! A badge: a small picture (SVG) that says how a suite or brief stands, for pages elsewhere.

use chrono::{DateTime, Utc};

use super::plain_xml;
use crate::words::Verdict;

/// How something stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// So many of its tests fail now, whatever was picked since.
    Failing(u32),
    /// Its latest run that was not stopped ended so.
    Ended(Verdict, DateTime<Utc>),
    /// No run of it has come to a verdict.
    NoRun,
}

/// How something stands of which `failing` tests fail now, and whose runs ended so, the latest first. A run that a person or a rule
/// stopped says nothing.
#[must_use]
pub fn standing(failing: u32, ended: impl IntoIterator<Item = (Verdict, DateTime<Utc>)>) -> Standing {
    if failing > 0 {
        return Standing::Failing(failing);
    }
    let told = ended.into_iter().find(|(verdict, _)| *verdict != Verdict::Stopped);
    told.map_or(Standing::NoRun, |(verdict, at)| Standing::Ended(verdict, at))
}

impl Standing {
    /// In words, with its glyph.
    #[must_use]
    pub fn said(self) -> String {
        match self {
            Self::Failing(1) => format!("{} 1 test fails", Verdict::Failed.glyph()),
            Self::Failing(count) => format!("{} {count} tests fail", Verdict::Failed.glyph()),
            Self::Ended(verdict, at) => format!("{} {verdict} {}", verdict.glyph(), at.format("%Y-%m-%d")),
            Self::NoRun => "◌ no run yet".to_owned(),
        }
    }

    /// Its ground, dark enough for white letters.
    fn colour(self) -> &'static str {
        match self {
            Self::Failing(_) | Self::Ended(Verdict::Failed, _) => "#a3312a",
            Self::Ended(Verdict::Passed, _) => "#1f6f54",
            Self::Ended(..) | Self::NoRun => "#5a6170",
        }
    }
}

/// Width of a letter, in pixels, as drawn below; wide scripts take twice as much.
const LETTER: usize = 7;
const ROOM: usize = 10;
/// Letters of a name that are drawn.
const LONGEST: usize = 60;

fn width(text: &str) -> usize {
    text.chars().map(|c| if c as u32 >= 0x1100 { 2 * LETTER } else { LETTER }).sum::<usize>() + 2 * ROOM
}

/// Draws it: the name, and how it stands.
#[must_use]
pub fn draw(name: &str, standing: Standing) -> String {
    let name = crate::name::shorten(name, LONGEST);
    let said = standing.said();
    let (left, right) = (width(&name), width(&said));
    let all = left + right;
    let (name, said) = (plain_xml(&name), plain_xml(&said));
    let (inner_left, inner_right) = (left - 2 * ROOM, right - 2 * ROOM);
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{all}\" height=\"22\" role=\"img\" aria-label=\"{name}: {said}\">\
         <title>{name}: {said}</title>\
         <rect width=\"{left}\" height=\"22\" fill=\"#e9e6df\"/><rect x=\"{left}\" width=\"{right}\" height=\"22\" fill=\"{}\"/>\
         <g font-family=\"DejaVu Sans Mono, Menlo, Consolas, monospace\" font-size=\"11\">\
         <text x=\"{ROOM}\" y=\"15\" fill=\"#23262d\" textLength=\"{inner_left}\" lengthAdjust=\"spacingAndGlyphs\">{name}</text>\
         <text x=\"{}\" y=\"15\" fill=\"#ffffff\" textLength=\"{inner_right}\" lengthAdjust=\"spacingAndGlyphs\">{said}</text></g></svg>\n",
        standing.colour(),
        left + ROOM,
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(day: u32) -> DateTime<Utc> {
        use chrono::TimeZone;
        Utc.with_ymd_and_hms(2026, 11, day, 12, 0, 0).single().expect("a moment")
    }

    #[test]
    fn what_fails_counts_before_what_ended_and_what_was_stopped_says_nothing() {
        let ended = [(Verdict::Stopped, day(3)), (Verdict::Passed, day(2)), (Verdict::Failed, day(1))];
        assert_eq!(standing(0, ended), Standing::Ended(Verdict::Passed, day(2)));
        assert_eq!(standing(2, ended), Standing::Failing(2), "a run of some tests that passed clears nothing");
        assert_eq!(
            standing(0, [(Verdict::Void, day(3)), (Verdict::Passed, day(2))]),
            Standing::Ended(Verdict::Void, day(3))
        );
        assert_eq!(standing(0, [(Verdict::Stopped, day(3))]), Standing::NoRun);
        assert_eq!(Standing::Failing(1).said(), "◆ 1 test fails");
        assert_eq!(Standing::Ended(Verdict::Passed, day(2)).said(), "● passed 2026-11-02");
    }

    #[test]
    fn it_is_drawn_with_any_name() {
        let svg = draw("<script>&\"\u{1b}", Standing::NoRun);
        assert!(svg.contains("&lt;script&gt;&amp;&quot;"), "{svg}");
        assert!(!svg.contains("<script") && !svg.contains('\u{1b}'), "{svg}");
        insta::assert_snapshot!(draw("boarding-gate", Standing::Failing(3)));
    }
}
