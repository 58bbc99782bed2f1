//! TAP, the Test Anything Protocol, versions 12 to 14: read line by line as it appears, and written as a report.
//!
//! Source: the TAP 14 specification. Subtests (indented by four spaces) become steps of the test point that closes them. A point that
//! is ok though its subtest is not says what cannot be true, and fails.
//! A test point that fails is held back until the lines that explain it (a YAML block, comments) have been seen.

use std::{borrow::Cow, sync::LazyLock};

use regex::Regex;

use super::{Reported, Step};
use crate::{
    name::{CONTROL_SEQUENCE, shorten},
    time::Span,
    words::Ended,
};

/// What a line of TAP gave.
#[derive(Debug, Clone, PartialEq)]
pub enum Tap {
    /// A test point at the top level. The description may be empty; the number counts from 1.
    Point { number: u32, description: String, reported: Reported },
    /// The suite gave up.
    BailOut(String),
    /// Something that is not right, in words for people.
    Broken(String),
    /// The plan promised other test points than came, in words for people.
    Unkept(String),
    /// The plan is of no points at all: everything is skipped, for this reason. Told of files only.
    Nothing(String),
}

/// Lines longer than this are read to here only.
pub(super) const LONGEST_LINE: usize = 64 << 10;
/// What is kept of an explanation.
pub(super) const LONGEST_DETAIL: usize = 64 << 10;
/// Subtests within subtests that are told apart; deeper ones count as this deep.
pub(super) const DEEPEST: usize = 40;

/// A reader for one process's output.
#[derive(Debug, Default)]
pub struct TapReader {
    plan: Plan,
    steps: Vec<Step>,
    /// The subtests that are open, the outermost first.
    inside: Vec<Inside>,
    pending: Option<Pending>,
    yaml: Block,
    bailed: bool,
}

/// What is known of a subtest, and of those within it.
#[derive(Debug, Clone, Default)]
struct Inside {
    plan: Plan,
    /// What did not pass, if anything, in words.
    wrong: Option<String>,
}

impl Inside {
    fn wrong(self) -> Option<String> {
        self.wrong.or(self.plan.unkept("the plan of its subtest"))
    }
}

/// How many points an output or a subtest promised, and how many came.
#[derive(Debug, Clone, Default)]
pub(super) struct Plan {
    promised: Option<u32>,
    /// A second plan. The specification allows one; with two, what the first promised may be lost.
    second: Option<u32>,
    /// A line that was probably meant as the plan, in words.
    broken: Option<String>,
    pub seen: u32,
}

impl Plan {
    pub fn promise(&mut self, points: u32) {
        match self.promised {
            None => self.promised = Some(points),
            Some(_) => self.second = Some(points),
        }
    }

    /// A line that begins as a plan does and is none. Three points, as in `1... 2...`, are no plan's.
    pub fn cannot_read(&mut self, body: &str) {
        if !body.starts_with("1...") && self.broken.is_none() {
            self.broken = Some(format!("broken TAP: {:?} is not a valid plan", shorten(body, 80)));
        }
    }

    /// Whether nothing tells how many points there should be.
    pub fn is_missing(&self) -> bool {
        self.promised.is_none() && self.broken.is_none()
    }

    /// Why it is not kept, if so, in words for people; `of` names it.
    pub fn unkept(&self, of: &str) -> Option<String> {
        let seen = self.seen;
        match (self.promised, self.second) {
            (Some(first), Some(second)) => Some(format!(
                "{of} promised {first} tests, and another one {second}; {seen} were reported, and nobody can tell of which"
            )),
            (Some(promised), None) if promised != seen => {
                Some(format!("{of} promised {promised} tests, and {seen} were reported"))
            }
            (Some(_), None) => None,
            // Nothing else tells whether a point is missing.
            (None, _) => self.broken.clone(),
        }
    }

    /// What is to be remarked of it though it is kept: a second line that is no plan.
    pub fn remark(&self) -> Option<String> {
        self.broken.clone().filter(|_| self.promised.is_some())
    }
}

#[derive(Debug)]
struct Pending {
    number: u32,
    description: String,
    reported: Reported,
    comments: String,
    yaml: String,
}

impl TapReader {
    /// Reads one line, without its end.
    pub fn line(&mut self, line: &str) -> Vec<Tap> {
        let line = &*plain(cut(line, LONGEST_LINE));
        let indent = line.len() - line.trim_start_matches(' ').len();
        let body = line.trim();
        if self.yaml.takes(line, self.pending.as_mut().map(|pending| &mut pending.yaml)) {
            return Vec::new();
        }
        if indent >= 4 && bail_out(body).is_none() {
            self.inside_line((indent / 4).min(DEEPEST), body);
            return Vec::new();
        }
        if let Some(comment) = body.strip_prefix('#') {
            if let Some(pending) = &mut self.pending
                && pending.comments.len() < LONGEST_DETAIL
                && !comment.trim_start().starts_with("Subtest")
            {
                pending.comments += comment.strip_prefix(' ').unwrap_or(comment);
                pending.comments.push('\n');
            }
            return Vec::new();
        }
        let mut found = Vec::new();
        if let Some(point) = Point::read(body) {
            found.extend(self.release());
            self.plan.seen += 1;
            let number = point.number.unwrap_or(self.plan.seen);
            let wrong = self.close(0, &point);
            let mut reported = point.reported;
            reported.steps = std::mem::take(&mut self.steps);
            if let Some(wrong) = wrong.filter(|_| reported.ended == Ended::Passed) {
                reported.ended = Ended::Failed;
                reported.message = format!("it says ok, but {wrong}");
                found.push(Tap::Point { number, description: point.description, reported });
                return found;
            }
            if reported.ended == Ended::Failed {
                let description = point.description;
                self.pending =
                    Some(Pending { number, description, reported, comments: String::new(), yaml: String::new() });
            } else {
                found.push(Tap::Point { number, description: point.description, reported });
            }
        } else if let Some(reason) = bail_out(body) {
            found.extend(self.release());
            self.bailed = true;
            found.push(Tap::BailOut(reason.to_owned()));
        } else if body.starts_with("1..") {
            found.extend(self.release());
            match plan_of(body) {
                Some(planned) => self.plan.promise(planned),
                None => self.plan.cannot_read(body),
            }
        } else if !body.is_empty() {
            found.extend(self.release());
        }
        found
    }

    /// A line of a subtest that is so deep.
    fn inside_line(&mut self, depth: usize, body: &str) {
        let point = Point::read(body);
        let planned = plan_of(body);
        if point.is_none() && planned.is_none() {
            return;
        }
        if self.inside.len() < depth {
            self.inside.resize(depth, Inside::default());
        }
        let Some(point) = point else {
            if let Some(planned) = planned {
                self.inside[depth - 1].plan.promise(planned);
            }
            return;
        };
        let wrong = self.close(depth, &point);
        let ok = point.reported.ended != Ended::Failed;
        let name = if point.description.is_empty() { format!("{}", self.steps.len() + 1) } else { point.description };
        let name = shorten(&name, 200);
        let level = &mut self.inside[depth - 1];
        level.plan.seen += 1;
        if level.wrong.is_none() {
            level.wrong = if ok { wrong } else { Some(format!("{name:?} in its subtest did not pass")) };
        }
        self.steps.push(Step { name, ok, ms: None });
    }

    /// A point closes the subtests that are deeper than it: what did not pass in them, if that counts.
    fn close(&mut self, depth: usize, point: &Point) -> Option<String> {
        let closed = self.inside.split_off(depth.min(self.inside.len()));
        let wrong = closed.into_iter().find_map(Inside::wrong);
        wrong.filter(|_| !point.todo && point.reported.ended != Ended::Skipped)
    }

    /// Gives out the failing point that was held back, if there is one: call it when no line has come for a while.
    pub fn release(&mut self) -> Option<Tap> {
        let mut pending = self.pending.take()?;
        explain(&mut pending.reported, std::mem::take(&mut pending.yaml), &pending.comments);
        Some(Tap::Point { number: pending.number, description: pending.description, reported: pending.reported })
    }

    /// Whether a failing point is held back.
    #[must_use]
    pub fn holds_back(&self) -> bool {
        self.pending.is_some()
    }

    /// The output is over.
    pub fn finish(&mut self) -> Vec<Tap> {
        self.yaml = Block::default();
        let mut found: Vec<Tap> = self.release().into_iter().collect();
        found.extend(self.plan.remark().map(Tap::Broken));
        found.extend(self.plan.unkept("the TAP plan").filter(|_| !self.bailed).map(Tap::Unkept));
        let left = std::mem::take(&mut self.inside).into_iter().find_map(|level| level.wrong);
        if let Some(wrong) = left.filter(|_| !self.bailed) {
            found.push(Tap::Unkept(format!("{wrong}, and that is of no test that was told of")));
        }
        found
    }
}

/// The title of a test point, at whatever depth; empty where it has none. `None` if the line is no test point.
#[must_use]
pub fn title_of(line: &str) -> Option<String> {
    Point::read(line.trim()).map(|point| point.description)
}

/// Whether a line is the plan of a whole output.
#[must_use]
pub fn is_plan(line: &str) -> bool {
    plan_of(line.trim_end()).is_some()
}

pub(super) struct Point {
    number: Option<u32>,
    pub description: String,
    pub reported: Reported,
    /// It is still to be made to work, whether or not it does.
    todo: bool,
}

impl Point {
    pub fn read(body: &str) -> Option<Self> {
        let (ok, rest) = match body.strip_prefix("not ok") {
            Some(rest) => (false, rest),
            None => (true, body.strip_prefix("ok")?),
        };
        if !rest.is_empty() && !rest.starts_with([' ', '\t']) {
            return None;
        }
        let rest = rest.trim_start();
        let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
        let number = rest[..digits].parse().ok();
        let rest = if number.is_some() && (digits == rest.len() || rest[digits..].starts_with([' ', '\t'])) {
            rest[digits..].trim_start()
        } else {
            rest
        };
        let rest = rest.strip_prefix("- ").unwrap_or(if rest == "-" { "" } else { rest });
        let (description, directive) = split_directive(rest);
        let word = directive.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
        let reason = directive.get(word.len()..).unwrap_or_default().trim_start_matches(':').trim().to_owned();
        let mut reported = Reported::plain(if ok { Ended::Passed } else { Ended::Failed });
        // "SKIPPED" and the like are in use, so the first letters decide.
        if word.starts_with("skip") {
            reported.ended = Ended::Skipped;
            reported.message = reason;
        } else if word == "todo" && !ok {
            // The specification: a todo point that is not ok is no failure.
            reported.ended = Ended::Skipped;
            reported.message = if reason.is_empty() { "todo".into() } else { format!("todo: {reason}") };
        }
        Some(Self { number, description, reported, todo: word == "todo" })
    }
}

/// Whether a line, without what it is indented by, is one that TAP has a meaning for. Comments and blocks are left out.
fn is_tap(body: &str) -> bool {
    Point::read(body).is_some() || plan_of(body).is_some() || bail_out(body).is_some()
}

/// A line without what says nothing: a byte order mark, colours.
pub(super) fn plain(line: &str) -> Cow<'_, str> {
    // The pattern is a constant, and the tests read it.
    static CONTROL: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(CONTROL_SEQUENCE).unwrap_or_else(|_| unreachable!("the pattern is a constant")));
    if !line.contains(['\u{1b}', '\u{feff}']) {
        return Cow::Borrowed(line);
    }
    Cow::Owned(CONTROL.replace_all(line, "").replace('\u{feff}', ""))
}

/// Whether a line that is no point was probably meant as one that is not ok: it stands behind other text, or is written in another way.
#[must_use]
pub fn is_near_failing(body: &str) -> bool {
    static NEAR: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"(?i)^not ok\b|not ok[ \t:#]*(?:\d|- )")
            .unwrap_or_else(|_| unreachable!("the pattern is a constant"))
    });
    NEAR.is_match(body)
}

/// The YAML block that explains a point, while it is read: how far it is indented.
#[derive(Debug, Default)]
pub(super) struct Block(Option<usize>);

impl Block {
    /// Whether a line belongs to a block; what it says is added to `kept`. The block of a passed point was not waited for: it
    /// is passed over.
    pub fn takes(&mut self, line: &str, kept: Option<&mut String>) -> bool {
        let indent = line.len() - line.trim_start_matches(' ').len();
        match (self.0, line.trim()) {
            (Some(at), "...") if indent <= at => self.0 = None,
            // It was never ended: what stands further out than it began is not its own.
            (Some(at), body) if indent < at && is_tap(body) => {
                self.0 = None;
                return false;
            }
            (Some(at), _) => {
                if let Some(kept) = kept.filter(|kept| kept.len() < LONGEST_DETAIL) {
                    *kept += line.get(at.min(indent)..).unwrap_or_default();
                    kept.push('\n');
                }
            }
            (None, "---") if indent > 0 => self.0 = Some(indent),
            (None, _) => return false,
        }
        true
    }
}

/// Why the suite gives up, if the line says that it does.
pub(super) fn bail_out(body: &str) -> Option<&str> {
    const WORDS: &str = "Bail out!";
    let said = body.get(..WORDS.len())?;
    said.eq_ignore_ascii_case(WORDS).then(|| body[WORDS.len()..].trim())
}

/// How many points a plan promises: `1..12`.
pub(super) fn plan_of(body: &str) -> Option<u32> {
    let plan = body.strip_prefix("1..")?;
    let (number, rest) = plan.split_at(plan.find(|c: char| !c.is_ascii_digit()).unwrap_or(plan.len()));
    let rest = rest.trim_start();
    number.parse().ok().filter(|_| rest.is_empty() || rest.starts_with('#'))
}

/// Adds to a failing point what its block and the comments after it say.
pub(super) fn explain(reported: &mut Reported, yaml: String, comments: &str) {
    let comments = comments.trim();
    if let Some(message) = yaml_value(&yaml, "message").or_else(|| (!comments.is_empty()).then(|| comments.to_owned()))
    {
        reported.message = message;
    }
    let spent = yaml_value(&yaml, "duration_ms").and_then(|ms| ms.parse::<f64>().ok()).filter(|ms| *ms >= 0.0);
    reported.spent = spent.map(|ms| Span((ms * 1000.0) as u64));
    reported.detail = yaml;
}

/// Splits at the first `#` that is not escaped and undoes the escapes.
fn split_directive(text: &str) -> (String, &str) {
    let mut description = String::new();
    let mut chars = text.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '\\' => match chars.next() {
                Some((_, next @ ('#' | '\\'))) => description.push(next),
                Some((_, next)) => description.extend(['\\', next]),
                None => description.push('\\'),
            },
            '#' => return (description.trim().to_owned(), text[at + 1..].trim()),
            c => description.push(c),
        }
    }
    (description.trim().to_owned(), "")
}

/// A plain value at the top of a YAML block: a scalar, a quoted text, or a block of lines after `|` or `>`.
fn yaml_value(block: &str, key: &str) -> Option<String> {
    let mut lines = block.lines();
    let value = lines.by_ref().find_map(|line| line.strip_prefix(key)?.strip_prefix(':').map(str::trim))?;
    if value.starts_with(['|', '>']) {
        let inner: Vec<&str> = lines.take_while(|l| l.starts_with(' ') || l.is_empty()).map(str::trim).collect();
        return Some(inner.join("\n").trim().to_owned());
    }
    let quoted = |q: char| value.len() > 1 && value.starts_with(q) && value.ends_with(q);
    let bare = if quoted('"') {
        serde_json::from_str(value).unwrap_or_else(|_| value[1..value.len() - 1].to_owned())
    } else if quoted('\'') {
        value[1..value.len() - 1].replace("''", "'")
    } else {
        value.to_owned()
    };
    (!bare.is_empty()).then_some(bare)
}

/// The first `most` bytes of a text, at a character's border.
pub(super) fn cut(text: &str, most: usize) -> &str {
    let mut end = text.len().min(most);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    &text[..end]
}

/// One line of a TAP report.
#[must_use]
pub fn write_point(number: usize, ok: bool, description: &str, directive: Option<&str>) -> String {
    let escaped = description.replace('\\', "\\\\").replace('#', "\\#");
    let word = if ok { "ok" } else { "not ok" };
    match directive {
        Some(directive) => format!("{word} {number} - {escaped} # {directive}"),
        None => format!("{word} {number} - {escaped}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Vec<Tap> {
        let mut reader = TapReader::default();
        let mut found: Vec<Tap> = text.lines().flat_map(|line| reader.line(line)).collect();
        found.extend(reader.finish());
        found
    }

    fn said(text: &str) -> Vec<String> {
        let tell = |tap: &Tap| match tap {
            Tap::Point { number, description, reported: r } => {
                let steps: Vec<&str> = r.steps.iter().map(|s| s.name.as_str()).collect();
                let ms = r.spent.map(|s| s.to_string()).unwrap_or_default();
                format!("{number} {description} {} {:?} {ms} {}", r.ended, r.message, steps.join("+")).trim().to_owned()
            }
            Tap::BailOut(why) => format!("bail out {why}"),
            Tap::Broken(why) | Tap::Unkept(why) | Tap::Nothing(why) => why.clone(),
        };
        read(text).iter().map(tell).collect()
    }

    #[test]
    fn points_directives_and_explanations_are_read() {
        let text = "TAP version 14\n1..6\nok 1 - fares/adult\nnot ok 2 - fares/child\n  ---\n  message: \"expected 4, got 5\"\n  duration_ms: 12.5\n  ...\n\
                    ok 3 - fares/dog # SKIP no dogs\nnot ok 4 - fares/night # TODO later\nnot ok 5 - fares/bike\n# got 7\n# wanted 8\nok 6 - a\\#b\n";
        assert_eq!(
            said(text),
            [
                "1 fares/adult passed \"\"",
                "2 fares/child failed \"expected 4, got 5\" 12 ms",
                "3 fares/dog skipped \"no dogs\"",
                "4 fares/night skipped \"todo: later\"",
                "5 fares/bike failed \"got 7\\nwanted 8\"",
                "6 a#b passed \"\"",
            ]
        );
    }

    #[test]
    fn subtests_become_steps() {
        let text = "# Subtest: gate\n    ok 1 - scan\n    not ok 2 - open\n      ---\n      message: no\n      ...\n    1..2\nnot ok 1 - gate\n1..1\n";
        assert_eq!(said(text), ["1 gate failed \"\"  scan+open"]);
        let Tap::Point { reported, .. } = &read(text)[0] else { panic!("a point") };
        assert!(reported.steps[0].ok && !reported.steps[1].ok);
    }

    #[test]
    fn what_fails_within_a_test_that_says_ok_fails_it() {
        let test = |inside: &str, end: &str| said(&format!("{inside}{end}\n")).join("; ");
        let failing = "    ok 1 - a\n    not ok 2 - b\n    1..2\n";
        assert_eq!(
            test(failing, "ok 1 - gate"),
            "1 gate failed \"it says ok, but \\\"b\\\" in its subtest did not pass\"  a+b"
        );
        let deeper = "        not ok 1 - c\n    ok 1 - b\n";
        assert!(
            test(deeper, "ok 1 - gate").contains("\\\"c\\\" in its subtest did not pass"),
            "{}",
            test(deeper, "ok 1 - gate")
        );
        let short = "    ok 1 - a\n    1..3\n";
        assert!(
            test(short, "ok 1 - gate").contains("promised 3 tests, and 1 were reported"),
            "{}",
            test(short, "ok 1 - gate")
        );
        // What says itself why it does not count, and what is well.
        for (inside, end) in [
            (failing, "ok 1 - gate # TODO later"),
            (failing, "ok 1 - gate # SKIP no boat"),
            ("        not ok 1 - c\n    ok 1 - b # TODO\n", "ok 1 - gate"),
            ("    not ok 1 - a # TODO\n    ok 2 - b # SKIP\n    1..2\n", "ok 1 - gate"),
            ("    1..0 # SKIP no boat\n", "ok 1 - gate"),
            ("    1..1\n        ok 1 - c\n        1..1\n    ok 1 - b\n", "ok 1 - gate"),
        ] {
            assert!(!test(inside, end).contains("failed"), "{}", test(inside, end));
        }
        // The next test has nothing to do with it.
        assert_eq!(said(&format!("{failing}not ok 1 - gate\nok 2 - late\n")).len(), 2);
        assert_eq!(said(&format!("{failing}not ok 1 - gate\nok 2 - late\n"))[1], "2 late passed \"\"");
        let left = said("ok 1 - gate\n    not ok 1 - b\n");
        assert_eq!(left[1], "\"b\" in its subtest did not pass, and that is of no test that was told of");
    }

    #[test]
    fn colours_a_mark_of_byte_order_and_tabs_hide_no_point() {
        let text = "\u{feff}1..3\n\u{1b}[31mnot ok 1 - a\u{1b}[0m\n\u{1b}[1;32mok\u{1b}[0m 2 - b\n\u{feff}ok\t3\t- c\n";
        assert_eq!(said(text), ["1 a failed \"\"", "2 b passed \"\"", "3 c passed \"\""]);
    }

    #[test]
    fn older_tap_without_numbers_or_names_is_read() {
        assert_eq!(said("ok\nnot ok\nok - named\n1..3\n"), ["1  passed \"\"", "2  failed \"\"", "3 named passed \"\""]);
        assert!(said("okay then\nnotok 1\n").is_empty());
    }

    #[test]
    fn a_plan_that_does_not_fit_and_a_bail_out_are_told() {
        assert_eq!(said("1..3\nok 1 - a\n")[1], "the TAP plan promised 3 tests, and 1 were reported");
        assert_eq!(said("1..3\nok 1 - a\nBail out! no quay\n"), ["1 a passed \"\"", "bail out no quay"]);
        assert!(said("1..x\n")[0].contains("is not a valid plan"));
        // What stands in a subtest gives up as well, however it is written.
        assert_eq!(said("1..3\nok 1 - a\n    bail out! no quay\n"), ["1 a passed \"\"", "bail out no quay"]);
    }

    #[test]
    fn two_plans_and_one_that_is_broken_promise_nothing_that_can_be_kept() {
        let two = "the TAP plan promised 5 tests, and another one 2; 2 were reported, and nobody can tell of which";
        assert_eq!(said("1..5\n1..2\nok 1 - a\nok 2 - b\n")[2], two);
        let unkept = |text: &str| read(text).into_iter().filter(|tap| matches!(tap, Tap::Unkept(_))).count();
        for broken in ["1..", "1..x", "1..2 boats"] {
            assert_eq!(unkept(&format!("ok 1 - a\n{broken}\n")), 1, "{broken}");
            assert_eq!(unkept(&format!("1..1\nok 1 - a\n{broken}\n")), 0, "{broken}");
            assert!(said(&format!("1..1\nok 1 - a\n{broken}\n"))[1].contains("is not a valid plan"));
        }
        assert_eq!(said("1... 2... 3...\nok 1 - a\n"), ["1 a passed \"\""], "that is counting");
        let inside = "    1..2\n    1..1\n    ok 1 - a\nok 1 - gate\n";
        assert!(said(inside)[0].contains("the plan of its subtest promised 2 tests, and another one 1"));
    }

    #[test]
    fn a_block_that_never_ends_takes_no_points_with_it() {
        let text = "ok 1 - a\n  ---\n  message: no\nok 2 - b\n  ---\nnot ok 3 - c\n";
        assert_eq!(said(text), ["1 a passed \"\"", "2 b passed \"\"", "3 c failed \"\""]);
        // What has no meaning of its own is the block's, wherever it stands.
        let Tap::Point { reported, .. } = &read("not ok 1 - a\n  ---\n  trace:\nat line 3\n  ...\n")[0] else {
            panic!()
        };
        assert_eq!(reported.detail, "trace:\nat line 3\n");
    }

    #[test]
    fn a_failing_point_is_held_back_until_released() {
        let mut reader = TapReader::default();
        assert!(reader.line("not ok 1 - a").is_empty());
        assert!(reader.holds_back());
        assert!(matches!(reader.release(), Some(Tap::Point { .. })));
        assert!(reader.finish().is_empty());
    }

    proptest::proptest! {
        #[test]
        fn no_input_breaks_the_reader(text in "(\\PC|\n| {4}|ok |not ok |---|#){0,80}") {
            read(&text);
        }

        #[test]
        fn what_is_written_is_read_back(name in "[a-z#\\\\/ ]{1,20}") {
            let name = name.trim().to_owned();
            proptest::prop_assume!(!name.is_empty() && !name.starts_with('-'));
            let found = read(&write_point(1, true, &name, None));
            let Tap::Point { description, .. } = &found[0] else { panic!("a point") };
            proptest::prop_assert_eq!(description, &name);
        }
    }
}
