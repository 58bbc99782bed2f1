//! TAP of a file whose cases are found as it runs: points at every level of subtests, each with the titles of those it stands
//! in. Source: the TAP 14 specification, "Subtests".
//!
//! A point that closes a subtest tells of what is in it and is no case itself, unless it fails though nothing in it did. A
//! subtest has its name from the comment that opens it, else from the point that closes it: until then what is in it is kept.

use super::{
    Reported,
    tap::{
        Block, DEEPEST, LONGEST_DETAIL, LONGEST_LINE, Plan, Point, Tap, bail_out, cut, explain, is_near_failing, plain,
        plan_of,
    },
};
use crate::{name::shorten, words::Ended};

/// Points kept of a subtest that has no name yet, and the bytes of what they say; with more it goes by its number.
const MOST_KEPT: usize = 10_000;
const MOST_KEPT_BYTES: usize = 8 << 20;

/// A reader for the output of a process that runs one file.
#[derive(Debug)]
pub struct SubtestReader {
    levels: Vec<Level>,
    /// The name that a comment gave to the subtest which comes next.
    announced: Option<String>,
    pending: Option<Pending>,
    yaml: Block,
    bailed: bool,
    /// The first line that is no point, and was probably meant as one that is not ok.
    near: Option<String>,
}

/// The points of one subtest, or of the whole output.
#[derive(Debug, Default)]
struct Level {
    name: Option<String>,
    plan: Plan,
    failed: u32,
    kept: Vec<(String, Reported)>,
    kept_bytes: usize,
}

impl Level {
    fn has_room(&self) -> bool {
        self.kept.len() < MOST_KEPT && self.kept_bytes < MOST_KEPT_BYTES
    }

    fn keep(&mut self, path: String, reported: Reported) {
        self.kept_bytes += path.len() + reported.message.len() + reported.detail.len();
        self.kept.push((path, reported));
    }
}

#[derive(Debug)]
struct Pending {
    /// The number of its level.
    level: usize,
    path: String,
    reported: Reported,
    comments: String,
    yaml: String,
}

impl Default for SubtestReader {
    fn default() -> Self {
        Self {
            levels: vec![Level::default()],
            announced: None,
            pending: None,
            yaml: Block::default(),
            bailed: false,
            near: None,
        }
    }
}

impl SubtestReader {
    /// Reads one line, without its end. Every point has the number 0 and its whole title.
    pub fn line(&mut self, line: &str) -> Vec<Tap> {
        let line = &*plain(cut(line, LONGEST_LINE));
        let indent = line.len() - line.trim_start_matches(' ').len();
        let body = line.trim();
        if self.yaml.takes(line, self.pending.as_mut().map(|pending| &mut pending.yaml)) {
            return Vec::new();
        }
        let level = (indent / 4).min(DEEPEST);
        let mut found = Vec::new();
        if let Some(comment) = body.strip_prefix('#') {
            let comment = comment.strip_prefix(' ').unwrap_or(comment);
            if let Some(name) = comment.strip_prefix("Subtest:") {
                self.release_to(&mut found);
                self.opens(level, name.trim(), &mut found);
            } else if let Some(pending) = self.pending.as_mut().filter(|p| p.comments.len() < LONGEST_DETAIL) {
                pending.comments += comment;
                pending.comments.push('\n');
            }
        } else if let Some(point) = Point::read(body) {
            self.release_to(&mut found);
            self.point(level, point, &mut found);
        } else if let Some(why) = bail_out(body) {
            self.release_to(&mut found);
            self.bailed = true;
            found.push(Tap::BailOut(why.to_owned()));
        } else if body.starts_with("1..") {
            self.release_to(&mut found);
            match plan_of(body) {
                Some(planned) => {
                    if planned == 0 && level == 0 {
                        found.push(Tap::Nothing(skipped_for(body)));
                    }
                    self.reach(level, &mut found);
                    self.levels[level].plan.promise(planned);
                }
                // Further in, a line like this is as likely something that was printed.
                None if level == 0 => self.levels[0].plan.cannot_read(body),
                None => {}
            }
        } else if !body.is_empty() {
            if self.near.is_none() && is_near_failing(body) {
                self.near = Some(shorten(body, 120));
            }
            if level == 0 {
                self.release_to(&mut found);
            }
        }
        found
    }

    /// A comment names a subtest: the one at its own level if that is not open and has no name yet, else the one beneath.
    fn opens(&mut self, level: usize, name: &str, found: &mut Vec<Tap>) {
        let own = level > 0 && self.levels.len() <= level && self.announced.is_none();
        if own {
            self.reach(level - 1, found);
        } else {
            self.reach(level, found);
        }
        self.announced = Some(name.to_owned());
        if own {
            self.reach(level, found);
        }
    }

    /// Opens levels up to that one; subtests that are deeper and were never closed are told as far as they came.
    fn reach(&mut self, level: usize, found: &mut Vec<Tap>) {
        self.close_beyond(level, found);
        while self.levels.len() <= level {
            self.levels.push(Level { name: self.announced.take().filter(|n| !n.is_empty()), ..Level::default() });
        }
    }

    fn close_beyond(&mut self, level: usize, found: &mut Vec<Tap>) {
        while self.levels.len() > level + 1 {
            let number = self.levels[self.levels.len() - 2].plan.seen + 1;
            self.close_last(&format!("#{number}"), found);
        }
    }

    /// Closes the deepest level; `name` is its name if it has none yet. Tells how many points it had, and how many failed.
    fn close_last(&mut self, name: &str, found: &mut Vec<Tap>) -> (u32, u32) {
        let mut last = self.levels.pop().unwrap_or_default();
        let of = last.name.take().unwrap_or_else(|| name.to_owned());
        let plan = || format!("the TAP plan of {:?}", shorten(&of, 120));
        found.extend(last.plan.unkept(&plan()).filter(|_| !self.bailed).map(Tap::Unkept));
        for (path, reported) in std::mem::take(&mut last.kept) {
            self.tell(join(&of, &path), reported, found);
        }
        (last.plan.seen, last.failed)
    }

    fn point(&mut self, level: usize, point: Point, found: &mut Vec<Tap>) {
        let subtest = self.levels.len() > level + 1;
        let number = self.levels.get(level).map_or(0, |l| l.plan.seen) + 1;
        let title = if point.description.is_empty() { format!("#{number}") } else { point.description };
        let mut inside = (0, 0);
        if subtest {
            self.close_beyond(level + 1, found);
            inside = self.close_last(&title, found);
        }
        self.reach(level, found);
        let failed = point.reported.ended == Ended::Failed;
        let at = &mut self.levels[level];
        at.plan.seen += 1;
        at.failed += u32::from(failed);
        if inside.0 > 0 && (!failed || inside.1 > 0) {
            return;
        }
        if failed {
            let mut reported = point.reported;
            if inside.0 > 0 {
                reported.message = "the subtest failed, and nothing in it did".into();
            }
            let (comments, yaml) = (String::new(), String::new());
            self.pending = Some(Pending { level, path: title, reported, comments, yaml });
        } else {
            self.tell_at(level, title, point.reported, found);
        }
    }

    fn release_to(&mut self, found: &mut Vec<Tap>) {
        if let Some(Pending { level, path, mut reported, comments, yaml }) = self.pending.take() {
            explain(&mut reported, yaml, &comments);
            self.tell_at(level, path, reported, found);
        }
    }

    /// Tells a point of a level, if that and those around it have names.
    fn tell_at(&mut self, level: usize, path: String, reported: Reported, found: &mut Vec<Tap>) {
        let level = level.min(self.levels.len() - 1);
        let mut path = path;
        for at in (1..=level).rev() {
            match &self.levels[at].name {
                Some(name) => path = join(name, &path),
                None if self.levels[at].has_room() => {
                    self.levels[at].keep(path, reported);
                    return;
                }
                None => {
                    let name = format!("#{}", self.levels[at - 1].plan.seen + 1);
                    let kept = std::mem::take(&mut self.levels[at].kept);
                    self.levels[at].name = Some(name.clone());
                    for (path, reported) in kept {
                        self.tell_at(at, path, reported, found);
                    }
                    path = join(&name, &path);
                }
            }
        }
        self.tell(path, reported, found);
    }

    /// Tells a point that stands in the deepest level that is open.
    fn tell(&mut self, path: String, reported: Reported, found: &mut Vec<Tap>) {
        let unnamed = (1..self.levels.len()).rev().find(|at| self.levels[*at].name.is_none());
        match unnamed {
            None => found.push(Tap::Point { number: 0, description: path, reported }),
            Some(at) => {
                let prefix: Vec<&str> = self.levels[at + 1..].iter().filter_map(|l| l.name.as_deref()).collect();
                let path = prefix.into_iter().rev().fold(path, |path, name| join(name, &path));
                self.levels[at].keep(path, reported);
            }
        }
    }

    /// Gives out the failing point that was held back, if there is one: call it when no line has come for a while.
    pub fn release(&mut self) -> Vec<Tap> {
        let mut found = Vec::new();
        self.release_to(&mut found);
        found
    }

    /// Whether a failing point is held back.
    #[must_use]
    pub fn holds_back(&self) -> bool {
        self.pending.is_some()
    }

    /// The output is over.
    pub fn finish(&mut self) -> Vec<Tap> {
        self.yaml = Block::default();
        let mut found = Vec::new();
        self.release_to(&mut found);
        self.close_beyond(0, &mut found);
        let plan = &self.levels[0].plan;
        found.extend(plan.remark().map(Tap::Broken));
        if self.bailed {
            return found;
        }
        let near = self.near.take().filter(|_| plan.is_missing());
        found.extend(near.map(|near| {
            Tap::Unkept(format!("{near:?} reads like a point that is not ok, and no plan tells whether one is missing"))
        }));
        found.extend(plan.unkept("the TAP plan").map(Tap::Unkept));
        found
    }
}

/// Why a plan of no points skips everything: `1..0 # SKIP no boat today`.
fn skipped_for(plan: &str) -> String {
    let directive = plan.split_once('#').map_or("", |(_, said)| said.trim());
    let word = directive.split_whitespace().next().unwrap_or_default();
    let reason = if word.to_ascii_lowercase().starts_with("skip") { &directive[word.len()..] } else { directive };
    reason.trim_start_matches(':').trim().to_owned()
}

fn join(name: &str, path: &str) -> String {
    format!("{name}/{path}")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(text: &str) -> Vec<String> {
        let mut reader = SubtestReader::default();
        let mut found: Vec<Tap> = text.lines().flat_map(|line| reader.line(line)).collect();
        found.extend(reader.finish());
        let tell = |tap: Tap| match tap {
            Tap::Point { description, reported: r, .. } => {
                format!("{description} {} {}", r.ended, r.message).trim().to_owned()
            }
            Tap::BailOut(why) => format!("bail out {why}"),
            Tap::Broken(why) | Tap::Unkept(why) => why,
            Tap::Nothing(why) => format!("nothing: {why}"),
        };
        found.into_iter().map(tell).collect()
    }

    #[test]
    fn points_without_subtests_are_cases() {
        let text = "1..4\nok 1 - opens\nnot ok 2 - refuses\n# got 7\n# wanted 8\nok 3\nok 4 - night # SKIP no boat\n";
        assert_eq!(
            said(text),
            ["opens passed", "refuses failed got 7\nwanted 8", "#3 passed", "night skipped no boat"]
        );
    }

    #[test]
    fn subtests_name_what_is_in_them_wherever_the_comment_stands() {
        let inner = "    ok 1 - a\n    not ok 2 - b\n      ---\n      message: \"no quay\"\n      ...\n    1..2\n";
        let wanted = ["late/a passed", "late/b failed no quay", "end passed"];
        assert_eq!(said(&format!("# Subtest: late\n{inner}not ok 1 - late\nok 2 - end\n1..2\n")), wanted);
        assert_eq!(said(&format!("    # Subtest: late\n{inner}not ok 1 - late\nok 2 - end\n1..2\n")), wanted);
        assert_eq!(said(&format!("{inner}not ok 1 - late\nok 2 - end\n1..2\n")), wanted, "the closing point names it");
    }

    #[test]
    fn a_subtest_that_fails_though_nothing_in_it_did_is_a_case() {
        let text = "# Subtest: gate\n    ok 1 - a\n    1..1\nnot ok 1 - gate\n1..1\n";
        assert_eq!(said(text), ["gate/a passed", "gate failed the subtest failed, and nothing in it did"]);
    }

    #[test]
    fn ten_levels_deep_every_level_is_in_the_title() {
        let mut text = String::new();
        for level in 0..10 {
            text += &format!("{}# Subtest: l{level}\n", "    ".repeat(level));
        }
        text += &format!("{}not ok 1 - deep\n", "    ".repeat(10));
        for level in (0..10).rev() {
            text += &format!("{}not ok 1 - l{level}\n", "    ".repeat(level));
        }
        assert_eq!(said(&text), ["l0/l1/l2/l3/l4/l5/l6/l7/l8/l9/deep failed"]);
        let unnamed: String = text.lines().filter(|l| !l.contains("Subtest")).map(|l| format!("{l}\n")).collect();
        assert_eq!(said(&unnamed), ["l0/l1/l2/l3/l4/l5/l6/l7/l8/l9/deep failed"]);
        assert_eq!(said(&format!("{}ok 1 - very deep\n", " ".repeat(4000))).len(), 1);
    }

    #[test]
    fn plans_are_held_against_what_came_at_every_level() {
        let text = "# Subtest: gate\n    ok 1 - a\n    1..2\nok 1 - gate\n1..3\n";
        let wanted = [
            "gate/a passed",
            "the TAP plan of \"gate\" promised 2 tests, and 1 were reported",
            "the TAP plan promised 3 tests, and 1 were reported",
        ];
        assert_eq!(said(text), wanted);
    }

    #[test]
    fn what_is_cut_off_in_a_subtest_is_not_lost() {
        assert_eq!(said("    ok 1 - a\n    not ok 2 - b\n"), ["#1/a passed", "#1/b failed"]);
        assert_eq!(
            said("# Subtest: gate\n    ok 1 - a\n# Subtest: quay\n    ok 1 - b\n"),
            ["gate/a passed", "quay/b passed"]
        );
    }

    #[test]
    fn what_a_subtest_without_a_name_says_is_kept_within_bounds() {
        let mut reader = SubtestReader::default();
        let line = "x".repeat(60_000);
        let mut found = Vec::new();
        for n in 0..400 {
            found.extend(reader.line(&format!("    not ok {n} - a{n}")));
            found.extend(reader.line(&format!("# {line}")));
        }
        assert!(!found.is_empty(), "they are told before the subtest ends");
        let kept: usize = reader.levels.iter().map(|l| l.kept_bytes).sum();
        assert!(kept < MOST_KEPT_BYTES + 100_000, "{kept}");
        found.extend(reader.finish());
        assert_eq!(found.len(), 400, "and none is lost");
        assert!(matches!(&found[0], Tap::Point { description, .. } if description == "#1/a0"));
    }

    #[test]
    fn a_plan_of_nothing_skips_the_file() {
        assert_eq!(said("1..0 # SKIP no boat today\n"), ["nothing: no boat today"]);
        assert_eq!(said("1..0 # skip_all: no radar\n"), ["nothing: no radar"]);
        assert_eq!(said("1..0\n"), ["nothing: "]);
    }

    #[test]
    fn a_bail_out_is_told_and_excuses_the_plan() {
        assert_eq!(said("1..9\nok 1 - a\nBail out! the quay is gone\n"), ["a passed", "bail out the quay is gone"]);
    }

    #[test]
    fn what_reads_like_a_failing_point_counts_where_no_plan_tells_whether_one_is_missing() {
        for near in ["dots...not ok 2 - b", "Not ok 2 - b", "not ok: b", "not ok#2", "    progressnot ok 2"] {
            let all = said(&format!("ok 1 - a\n{near}\n"));
            assert!(all[1].contains("reads like a point that is not ok"), "{near}: {all:?}");
            assert_eq!(said(&format!("1..1\nok 1 - a\n{near}\n")), ["a passed"]);
        }
        for fine in ["the gate is not ok", "# not ok 2", "  ---\n  not ok 2\n  ..."] {
            assert_eq!(said(&format!("ok 1 - a\n{fine}\n")), ["a passed"]);
        }
    }

    #[test]
    fn printed_lines_between_are_no_points() {
        assert_eq!(said("okay then\n    okay\n    1..x\nok - fine\n"), ["fine passed"]);
        assert_eq!(said("1..x\n"), ["broken TAP: \"1..x\" is not a valid plan"]);
        assert_eq!(said("1... 2...\nok - fine\n"), ["fine passed"]);
    }

    #[test]
    fn a_block_that_never_ends_takes_no_points_with_it() {
        let text = "ok 1 - a\n  ---\n  message: no\nnot ok 2 - b\n# Subtest: gate\n    ok 1 - c\n      ---\n    not ok 2 - d\nnot ok 3 - gate\n";
        assert_eq!(said(text), ["a passed", "b failed", "gate/c passed", "gate/d failed"]);
    }

    #[test]
    fn a_second_plan_is_none_that_can_be_kept() {
        let all = said("1..5\n1..2\nok 1 - a\nok 2 - b\n");
        assert!(all[2].starts_with("the TAP plan promised 5 tests, and another one 2"), "{all:?}");
    }
}
