//! A report as one HTML file: nothing is fetched and no script runs, so that it can be mailed, kept and opened from a disk. Light and
//! dark as the reader's system has it; on paper everything is unfolded.

use std::fmt::Write;

use super::{
    Step,
    whole::{ReportCase, Whole},
};
use crate::{
    name::shorten,
    record::causes,
    run::timeline::Block,
    time::{Bytes, Span},
    words::{Ended, Outcome, Verdict},
};

/// Causes, slowest tests and names within a cause that are told.
const MOST_CAUSES: usize = 12;
const MOST_SLOW: usize = 10;
const MOST_NAMED: usize = 6;
/// Details that are unfolded at first.
const UNFOLDED: usize = 10;
/// What is told of a text.
const LONGEST: usize = 20_000;

/// What an HTML report tells besides the cases, as far as whoever writes it knows.
#[derive(Debug, Clone, Default)]
pub struct More {
    /// Facts of the run, by their heads.
    pub facts: Vec<(String, String)>,
    /// What is new, and against what.
    pub new: Option<NewIn>,
    /// What failed or was flaky, in listed order.
    pub details: Vec<Detail>,
    pub timeline: Option<Lanes>,
    /// What the report leaves out, in words.
    pub left_out: Vec<String>,
}

/// What is new in a run.
#[derive(Debug, Clone, Default)]
pub struct NewIn {
    /// `boarding-gate/41, the last run of all tests`
    pub against: String,
    /// Heads with tests, those that one looks at first in front.
    pub lists: Vec<(String, Vec<String>)>,
}

/// One that failed or was flaky.
#[derive(Debug, Clone)]
pub struct Detail {
    pub name: String,
    pub variant: String,
    pub outcome: Outcome,
    pub attempts: Vec<DetailAttempt>,
}

/// One of its attempts.
#[derive(Debug, Clone)]
pub struct DetailAttempt {
    pub number: u32,
    pub ended: Ended,
    pub worker: String,
    pub spent: Span,
    pub message: String,
    pub detail: String,
    pub steps: Vec<Step>,
    pub output: String,
    pub files: Vec<File>,
}

/// A file that an attempt left behind.
#[derive(Debug, Clone)]
pub struct File {
    pub path: String,
    pub about: String,
    pub bytes: u64,
    pub media_type: String,
    /// Its content in Base64, where it stands in the report.
    pub content: Option<String>,
}

/// What each slot did when.
#[derive(Debug, Clone)]
pub struct Lanes {
    pub names: Vec<String>,
    pub blocks: Vec<Block>,
    pub to: Span,
}

/// A text as HTML shows it; control characters, and marks that turn the direction of text, are shown as a dot.
fn text(said: &str) -> String {
    let mut out = String::with_capacity(said.len());
    for letter in said.chars() {
        match letter {
            '&' => out += "&amp;",
            '<' => out += "&lt;",
            '>' => out += "&gt;",
            '"' => out += "&quot;",
            '\'' => out += "&#39;",
            '\n' | '\t' => out.push(letter),
            '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{61c}' => {
                out.push('·')
            }
            control if control.is_control() => out.push('·'),
            other => out.push(other),
        }
    }
    out
}

fn tone(outcome: Outcome) -> &'static str {
    outcome.word()
}

fn name_of(name: &str, variant: &str) -> String {
    let variant = if variant.is_empty() { String::new() } else { format!(" <i>{}</i>", text(variant)) };
    format!("<code>{}{variant}</code>", text(name))
}

/// Writes a report.
pub(super) fn write(whole: &Whole<'_>, cases: &[ReportCase<'_>], more: &More) -> String {
    let mut out = String::new();
    let verdict = whole.verdict.map_or("not over", Verdict::word);
    // What is written to a string never fails.
    let _ = write!(
        out,
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; img-src data:; media-src data:\">\
         <title>{verdict}: {name}</title><style>{STYLE}</style></head><body>\n<header><h1 class=\"{verdict}\">{glyph} {verdict} <small>{name}</small></h1>\n",
        name = text(whole.name),
        glyph = whole.verdict.map_or("≈", Verdict::glyph),
    );
    let count = |outcome: Outcome| cases.iter().filter(|c| c.outcome == outcome).count();
    let counted: Vec<String> = Outcome::ALL
        .iter()
        .filter(|o| count(**o) > 0)
        .map(|o| format!("<b class=\"{}\">{} {} {o}</b>", tone(*o), o.glyph(), count(*o)))
        .collect();
    let _ = writeln!(out, "<p>{} of {} in {}</p>", counted.join(" "), cases.len(), whole.took);
    for trouble in whole.troubles(cases) {
        let _ = writeln!(
            out,
            "<p class=\"{}\">{}: {}</p>",
            if trouble.error { "void" } else { "failed" },
            text(&trouble.what),
            text(&trouble.why)
        );
    }
    if whole.flaky_fails {
        out += "<p>A flaky test fails this run.</p>\n";
    }
    facts(&mut out, whole, more);
    out += "</header>\n<main>\n";
    if let Some(new) = &more.new {
        new_in(&mut out, new);
    }
    told_causes(&mut out, cases);
    details(&mut out, cases, more);
    slowest(&mut out, cases);
    if let Some(lanes) = &more.timeline {
        timeline(&mut out, lanes);
    }
    all(&mut out, whole, cases);
    if !more.left_out.is_empty() {
        out += "<h2>Left out</h2><ul>";
        more.left_out.iter().for_each(|left| {
            let _ = write!(out, "<li>{}</li>", text(left));
        });
        out += "</ul>\n";
    }
    out += "</main></body></html>\n";
    out
}

fn facts(out: &mut String, whole: &Whole<'_>, more: &More) {
    out.push_str("<dl>");
    let images = whole.images.iter().map(|image| ("Image".to_owned(), format!("{} {}", image.name, image.digest)));
    for (head, said) in more.facts.iter().cloned().chain(images).filter(|(_, said)| !said.is_empty()) {
        let _ = write!(out, "<div><dt>{}</dt><dd>{}</dd></div>", text(&head), text(&said));
    }
    out.push_str("</dl>\n");
}

fn new_in(out: &mut String, new: &NewIn) {
    let _ = write!(out, "<h2>New <small>against {}</small></h2>", text(&new.against));
    if new.lists.is_empty() {
        out.push_str("<p>No test ended otherwise.</p>\n");
    }
    for (head, tests) in &new.lists {
        let _ = write!(out, "<h3>{} <small>{}</small></h3><ul>", text(head), tests.len());
        for test in tests.iter().take(50) {
            let _ = write!(out, "<li><code>{}</code></li>", text(test));
        }
        if tests.len() > 50 {
            let _ = write!(out, "<li>and {} more</li>", tests.len() - 50);
        }
        out.push_str("</ul>\n");
    }
}

fn told_causes(out: &mut String, cases: &[ReportCase<'_>]) {
    let failed = cases.iter().filter(|c| matches!(c.outcome, Outcome::Failed | Outcome::Flaky));
    let last =
        |c: &ReportCase<'_>| c.attempts.iter().rev().find(|a| a.ended.failing()).map_or("", |a| a.message).to_owned();
    let found = causes(failed.map(|c| (name_of(c.name, c.variant), last(c))));
    if found.len() < 2 && found.first().is_none_or(|cause| cause.members.len() < 2) {
        return;
    }
    out.push_str("<h2>Causes</h2><table><tr><th class=\"n\">Tests<th>Says<th>Which</tr>\n");
    for cause in found.iter().take(MOST_CAUSES) {
        let names = cause.members.iter().take(MOST_NAMED).cloned().collect::<Vec<_>>().join(", ");
        let more = cause.members.len().saturating_sub(MOST_NAMED);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let _ = writeln!(
            out,
            "<tr><td class=\"n\">{}<td>{}<td>{names}{more}</tr>",
            cause.members.len(),
            text(&shorten(&cause.likeness, 300))
        );
    }
    out.push_str("</table>\n");
    if found.len() > MOST_CAUSES {
        let _ = writeln!(out, "<p>and {} more causes</p>", found.len() - MOST_CAUSES);
    }
}

fn details(out: &mut String, cases: &[ReportCase<'_>], more: &More) {
    // Where nothing more is known, what the attempts said is.
    let own: Vec<Detail>;
    let all = if more.details.is_empty() {
        let of = |c: &ReportCase<'_>| Detail {
            name: c.name.to_owned(),
            variant: c.variant.to_owned(),
            outcome: c.outcome,
            attempts: c
                .attempts
                .iter()
                .zip(1..)
                .map(|(a, number)| DetailAttempt {
                    number,
                    ended: a.ended,
                    worker: String::new(),
                    spent: Span::ZERO,
                    message: a.message.to_owned(),
                    detail: a.detail.to_owned(),
                    steps: Vec::new(),
                    output: String::new(),
                    files: Vec::new(),
                })
                .collect(),
        };
        own =
            cases.iter().filter(|c| matches!(c.outcome, Outcome::Failed | Outcome::Flaky)).take(1000).map(of).collect();
        &own
    } else {
        &more.details
    };
    for (outcome, head) in [(Outcome::Failed, "Failed"), (Outcome::Flaky, "Flaky")] {
        let of: Vec<&Detail> = all.iter().filter(|d| d.outcome == outcome).collect();
        if of.is_empty() {
            continue;
        }
        let _ = writeln!(
            out,
            "<h2 class=\"{}\">{} {head} <small>{}</small></h2>",
            tone(outcome),
            outcome.glyph(),
            of.len()
        );
        for (n, detail) in of.iter().enumerate() {
            let open = if n < UNFOLDED && outcome == Outcome::Failed { " open" } else { "" };
            let _ = write!(out, "<details{open}><summary>{}</summary>", name_of(&detail.name, &detail.variant));
            detail.attempts.iter().for_each(|attempt| one_attempt(out, attempt));
            out.push_str("</details>\n");
        }
    }
}

fn one_attempt(out: &mut String, attempt: &DetailAttempt) {
    let took = if attempt.spent > Span::ZERO { format!("{} ", attempt.spent) } else { String::new() };
    let on = if attempt.worker.is_empty() { String::new() } else { format!("on {}", text(&attempt.worker)) };
    let tone = if attempt.ended.failing() { "failed" } else { attempt.ended.word() };
    let _ = write!(
        out,
        "<section><h4>Attempt {}: <b class=\"{tone}\">{} {}</b><small>{took}{on}</small></h4>",
        attempt.number,
        attempt.ended.glyph(),
        attempt.ended
    );
    if !attempt.message.is_empty() {
        let _ = write!(out, "<p class=\"says\">{}</p>", text(&shorten(&attempt.message, LONGEST)));
    }
    if !attempt.detail.is_empty() && attempt.detail != attempt.message {
        let _ = write!(out, "<pre>{}</pre>", text(&shorten(&attempt.detail, LONGEST)));
    }
    if !attempt.steps.is_empty() {
        out.push_str("<ol>");
        for step in attempt.steps.iter().take(200) {
            let (tone, glyph) = if step.ok { ("passed", '●') } else { ("failed", '◆') };
            let ms = step.ms.map_or_else(String::new, |ms| format!(" <small>{ms:.0} ms</small>"));
            let _ =
                write!(out, "<li><span class=\"{tone}\">{glyph}</span> {}{ms}</li>", text(&shorten(&step.name, 300)));
        }
        out.push_str("</ol>");
    }
    for file in &attempt.files {
        let about = if file.about.is_empty() { file.path.clone() } else { format!("{}: {}", file.path, file.about) };
        let kind = file.media_type.split('/').next().unwrap_or_default();
        match (&file.content, kind) {
            (Some(content), "image") => {
                let _ = write!(
                    out,
                    "<figure><img src=\"data:{};base64,{content}\" alt=\"{about}\"><figcaption>{about}</figcaption></figure>",
                    text(&file.media_type),
                    about = text(&about)
                );
            }
            (Some(content), "video") => {
                let _ = write!(
                    out,
                    "<figure><video controls preload=\"metadata\" src=\"data:{};base64,{content}\"></video><figcaption>{}</figcaption></figure>",
                    text(&file.media_type),
                    text(&about)
                );
            }
            _ => {
                let _ = write!(out, "<p><small>{} ({})</small></p>", text(&about), Bytes(file.bytes));
            }
        }
    }
    if !attempt.output.is_empty() {
        let _ = write!(
            out,
            "<details><summary>What it printed</summary><pre>{}</pre></details>",
            text(&shorten(&attempt.output, LONGEST))
        );
    }
    out.push_str("</section>");
}

fn slowest(out: &mut String, cases: &[ReportCase<'_>]) {
    let mut slow: Vec<&ReportCase<'_>> = cases.iter().filter(|c| c.spent > Span::ZERO).collect();
    if slow.len() < 2 {
        return;
    }
    slow.sort_by_key(|c| std::cmp::Reverse(c.spent));
    out.push_str("<h2>Slowest</h2><table>");
    for case in slow.iter().take(MOST_SLOW) {
        let _ = write!(out, "<tr><td class=\"n\">{}<td>{}</tr>", case.spent, name_of(case.name, case.variant));
    }
    out.push_str("</table>\n");
}

/// What each slot did when, as a picture.
fn timeline(out: &mut String, lanes: &Lanes) {
    const LEFT: f64 = 130.0;
    const WIDTH: f64 = 1000.0;
    const LANE: f64 = 16.0;
    let height = lanes.names.len() as f64 * LANE + 22.0;
    let at = |us: u64| LEFT + us as f64 * (WIDTH - LEFT) / lanes.to.0.max(1) as f64;
    let _ = write!(
        out,
        "<h2>Slots over time</h2><svg viewBox=\"0 0 {WIDTH} {height}\" role=\"img\" aria-label=\"What each of {} slots did over {}\">",
        lanes.names.len(),
        lanes.to
    );
    for (n, name) in lanes.names.iter().enumerate() {
        let y = n as f64 * LANE;
        let _ = write!(
            out,
            "<rect class=\"lane\" x=\"{LEFT}\" y=\"{y}\" width=\"{}\" height=\"{}\"/><text x=\"0\" y=\"{}\">{}</text>",
            WIDTH - LEFT,
            LANE - 3.0,
            y + LANE - 5.0,
            text(&shorten(name, 18))
        );
    }
    for block in &lanes.blocks {
        let (x, to) = (at(block.from_us), at(block.to_us));
        let tone = match (block.outcome, block.ended) {
            (Some(Outcome::Flaky), _) => "flaky",
            (_, ended) if ended.failing() => "failed",
            (_, ended) => ended.word(),
        };
        let _ = write!(
            out,
            "<rect class=\"{tone}\" x=\"{x:.1}\" y=\"{}\" width=\"{:.1}\" height=\"{}\"/>",
            f64::from(block.lane) * LANE,
            (to - x).max(0.8),
            LANE - 3.0
        );
    }
    for part in 0..=4_u32 {
        let time = Span(lanes.to.0 * u64::from(part) / 4);
        let anchor = match part {
            0 => "start",
            4 => "end",
            _ => "middle",
        };
        let _ =
            write!(out, "<text x=\"{:.1}\" y=\"{}\" text-anchor=\"{anchor}\">{time}</text>", at(time.0), height - 6.0);
    }
    out.push_str("</svg>\n");
}

/// Every test, in a table that is folded at first.
fn all(out: &mut String, whole: &Whole<'_>, cases: &[ReportCase<'_>]) {
    let _ = writeln!(
        out,
        "<h2>All</h2><details class=\"fold\"><summary>{} of {}</summary><table>",
        cases.len(),
        text(whole.name)
    );
    out.push_str("<tr><th>State<th>Test<th class=\"n\">Attempts<th class=\"n\">Took</tr>\n");
    for case in cases {
        let why =
            case.why_parked.map_or_else(String::new, |why| format!(" <small>{}</small>", text(&shorten(why, 200))));
        let _ = writeln!(
            out,
            "<tr><td class=\"{}\">{} {}<td>{}{why}<td class=\"n\">{}<td class=\"n\">{}</tr>",
            tone(case.outcome),
            case.outcome.glyph(),
            case.outcome,
            name_of(case.name, case.variant),
            case.attempts.len(),
            if case.attempts.is_empty() { "–".to_owned() } else { case.spent.to_string() }
        );
    }
    out.push_str("</table></details>\n");
}

const STYLE: &str = "\
:root{--ground:#faf8f4;--ink:#16263a;--dim:#56677a;--line:#ddd8cd;--water:#e4e9ec;--passed:#0f6b62;--flaky:#8a5a00;--failed:#b3261e;--skipped:#56677a;--parked:#5b4b8a;--void:#7a2e5d;--stopped:#4a4a4a;--not-run:#6b6f76}\
@media(prefers-color-scheme:dark){:root{--ground:#0f1b2a;--ink:#e8edf2;--dim:#9fb0c2;--line:#2a3c52;--water:#1d2e44;--passed:#4fc2b1;--flaky:#e3ad4b;--failed:#ff8a7a;--skipped:#9fb0c2;--parked:#b7a6e8;--void:#e29bc6;--stopped:#c2c2c2;--not-run:#a3a9b2}}\
@media print{:root{--ground:#fff;--ink:#000;--dim:#444;--line:#bbb;--water:#eee;--passed:#0f6b62;--flaky:#8a5a00;--failed:#b3261e;--skipped:#56677a;--parked:#5b4b8a;--void:#7a2e5d;--stopped:#4a4a4a;--not-run:#6b6f76}section,figure,tr{break-inside:avoid}details:not(.fold)::details-content{content-visibility:visible;display:block}summary{list-style:none}}\
body{margin:0 auto;max-width:68rem;padding:1rem 1.5rem 3rem;background:var(--ground);color:var(--ink);font:15px/1.5 \"Atkinson Hyperlegible Next\",system-ui,sans-serif}\
h1{font-size:1.9rem;margin:.5rem 0 0}h2{font-size:1.1rem;margin:1.5rem 0 .4rem}h3,h4{font-size:.95rem;margin:.6rem 0 .2rem}small{color:var(--dim);font-weight:400;font-size:.85em}\
code,pre,svg text{font-family:\"Atkinson Hyperlegible Mono\",ui-monospace,monospace;font-size:.85rem;overflow-wrap:anywhere}i{font-style:normal;color:var(--dim)}\
pre{background:var(--water);padding:.5rem .75rem;overflow-x:auto;white-space:pre-wrap;margin:.3rem 0}\
dl{display:grid;grid-template-columns:repeat(auto-fill,minmax(15rem,1fr));gap:.1rem 1.5rem;margin:.5rem 0}dl div{border-bottom:1px solid var(--line);display:flex;gap:.75rem}dt{color:var(--dim);min-width:5rem}dd{margin:0;overflow-wrap:anywhere}\
ul,ol{margin:.2rem 0;padding-left:1.2rem}ul{list-style:none;padding-left:0}table{border-collapse:collapse;width:100%}th{text-align:left;color:var(--dim);font-weight:400;font-size:.85rem}td,th{padding:.15rem .6rem .15rem 0;border-bottom:1px solid var(--line);vertical-align:top}.n{text-align:right;white-space:nowrap}\
summary{cursor:pointer;padding:.15rem 0}details{border-bottom:1px solid var(--line)}section{margin:.2rem 0 .6rem 1.2rem}section details{border:0}.says{margin:.2rem 0;white-space:pre-wrap;overflow-wrap:anywhere}\
figure{margin:.4rem 0;display:inline-block;max-width:100%}img,video{max-width:100%;border:1px solid var(--line)}figcaption{color:var(--dim);font-size:.85rem}\
svg{width:100%;height:auto}svg text{font-size:10px;fill:var(--dim)}svg .lane{fill:var(--water)}\
.passed{color:var(--passed);fill:var(--passed)}.flaky{color:var(--flaky);fill:var(--flaky)}.failed,.timed-out,.crashed{color:var(--failed);fill:var(--failed)}.skipped{color:var(--skipped);fill:var(--skipped)}.parked{color:var(--parked);fill:var(--parked)}.void{color:var(--void)}.stopped{color:var(--stopped)}.not-run,.lost{color:var(--not-run);fill:var(--not-run)}\
b{font-weight:600;margin-right:.4rem}";

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::whole::ReportAttempt;

    fn case<'a>(name: &'a str, outcome: Outcome, message: &'a str) -> ReportCase<'a> {
        let ended = if outcome == Outcome::Passed { Ended::Passed } else { Ended::Failed };
        let attempts = vec![ReportAttempt { ended, message, detail: "", output: String::new() }];
        ReportCase {
            name,
            file: "",
            variant: "screen=phone",
            outcome,
            spent: Span::millis(5),
            attempts,
            why_parked: None,
        }
    }

    #[test]
    fn nothing_of_what_tests_say_becomes_markup() {
        let evil = "</style><script>alert(1)</script><img src=x onerror=\"alert(2)\">\u{202e}\u{1b}[31m'";
        let file = File {
            path: evil.into(),
            about: evil.into(),
            bytes: 5,
            media_type: "image/png\" onload=\"x".into(),
            content: Some("AAAA".into()),
        };
        let attempt = DetailAttempt {
            number: 1,
            ended: Ended::Failed,
            worker: evil.into(),
            spent: Span::millis(7),
            message: evil.into(),
            detail: format!("{evil} in detail"),
            steps: vec![Step { name: evil.into(), ok: false, ms: Some(3.0) }],
            output: evil.into(),
            files: vec![file],
        };
        let more = More {
            facts: vec![("Label".into(), evil.into())],
            new: Some(NewIn { against: evil.into(), lists: vec![("newly failing".into(), vec![evil.into()])] }),
            details: vec![Detail {
                name: evil.into(),
                variant: evil.into(),
                outcome: Outcome::Failed,
                attempts: vec![attempt],
            }],
            timeline: Some(Lanes { names: vec![evil.into()], blocks: Vec::new(), to: Span::seconds(1) }),
            left_out: vec![evil.into()],
        };
        let wrongs = [evil.to_owned()];
        let whole = Whole { name: evil, verdict: Some(Verdict::Failed), wrongs: &wrongs, ..Whole::default() };
        let html = write(&whole, &[case(evil, Outcome::Failed, evil), case(evil, Outcome::Failed, "other")], &more);
        assert!(!html.contains("<script") && !html.contains("<img src=x"), "{html}");
        assert!(!html.contains("onload=\"x") && !html.contains('\u{202e}') && !html.contains('\u{1b}'), "{html}");
        assert!(html.contains("default-src 'none'"), "it fetches nothing");
        assert!(!html.contains("http://") && !html.contains("https://"), "{html}");
    }

    #[test]
    fn the_report_leads_with_verdict_and_what_is_new_and_groups_by_cause() {
        let cases = [
            case("gate/a", Outcome::Failed, "no answer after 30 ms"),
            case("gate/b", Outcome::Failed, "no answer after 31 ms"),
            case("gate/c", Outcome::Flaky, "the ticket is wet"),
            case("gate/d", Outcome::Passed, ""),
        ];
        let new = NewIn { against: "gate/1".into(), lists: vec![("newly failing".into(), vec!["gate/a".into()])] };
        let more = More { new: Some(new), ..More::default() };
        let whole =
            Whole { name: "gate/2", took: Span::seconds(3), verdict: Some(Verdict::Failed), ..Whole::default() };
        let html = write(&whole, &cases, &more);
        let place = |what: &str| html.find(what).unwrap_or_else(|| panic!("{what} in {html}"));
        assert!(place("◆ failed") < place("newly failing") && place("newly failing") < place("Causes"));
        assert!(html.contains("<td class=\"n\">2<td>no answer after &lt;n&gt; ms"), "{html}");
        assert!(place("◆ Failed") < place("◐ Flaky") && place("◐ Flaky") < place("Slowest"));
        let void = Whole { name: "gate/3", verdict: Some(Verdict::Void), reason: "no worker came", ..Whole::default() };
        let html = write(&void, &[], &More::default());
        assert!(html.contains("⊘ void") && html.contains("no worker came"), "{html}");
    }
}
