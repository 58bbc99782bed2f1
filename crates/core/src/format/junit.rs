//! JUnit XML: read from what suites leave behind, and written as a report.
//!
//! There is no formal standard; this follows the common core that all readers share: `testsuites`, `testsuite`,
//! `testcase` with `name`, `classname` and `time` (seconds), and `failure`, `error`, `skipped`, `system-out`, `system-err`.

use quick_xml::{
    Reader, XmlVersion,
    escape::escape,
    events::{BytesStart, Event},
};

use super::{
    Reported,
    whole::{THE_RUN, Whole},
};
use crate::{
    name::shorten,
    time::Span,
    words::{Ended, Outcome},
};

pub use super::whole::{ReportAttempt, ReportCase, says_of_file};

/// One test case of a file.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    pub name: String,
    pub class: String,
    pub reported: Reported,
    /// What it printed, if the file says.
    pub output: String,
}

impl Case {
    /// The test names that this case may stand for, likeliest first.
    #[must_use]
    pub fn candidates(&self) -> Vec<String> {
        if self.class.is_empty() {
            return vec![self.name.clone()];
        }
        let (name, class) = (&self.name, &self.class);
        vec![
            format!("{class}/{name}"),
            name.clone(),
            format!("{class}.{name}"),
            format!("{class}::{name}"),
            format!("{}/{name}", class.replace('.', "/")),
        ]
    }
}

/// What is kept of each text.
const LONGEST_TEXT: usize = 256 << 10;
/// Elements within each other, at most.
const DEEPEST: usize = 1000;
/// Suites that have more than they tell of are told up to so many.
const MOST_SUITES: usize = 100;

/// Reads one file.
///
/// # Errors
/// In words for people, if it is not XML or not JUnit XML.
pub fn read(content: &[u8]) -> Result<File, String> {
    let text = String::from_utf8_lossy(content);
    let mut reader = Reader::from_str(&text);
    reader.config_mut().expand_empty_elements = true;
    let mut file = File::default();
    let mut case: Option<Case> = None;
    let mut inside: Vec<String> = Vec::new();
    let mut suites: Vec<Suite> = Vec::new();
    let mut root = None;
    loop {
        let at = reader.buffer_position();
        let broken = |why: &str| {
            let line = text[..(at as usize).min(text.len())].matches('\n').count() + 1;
            format!("broken JUnit XML at line {line}: {why}")
        };
        match reader.read_event().map_err(|e| broken(&e.to_string()))? {
            Event::Start(tag) => {
                let name = tag.local_name().as_ref().to_owned();
                if root.is_none() && name != "testsuites" && name != "testsuite" {
                    return Err(broken(&format!("the root is <{name}>, not <testsuites>")));
                }
                root = Some(());
                if inside.len() == DEEPEST {
                    return Err(broken(&format!("more than {DEEPEST} elements stand within each other")));
                }
                start(&tag, &name, &mut case, &mut file.loose).map_err(|e| broken(&e))?;
                if is_suite(&name) {
                    suites.push(Suite::read(&tag, &name).map_err(|e| broken(&e))?);
                } else if let Some(suite) = suites.last_mut() {
                    suite.told.take(&name, case.as_ref());
                }
                inside.push(name);
            }
            Event::Text(text) => {
                if let Some(case) = &mut case {
                    add_text(case, inside.last(), &text.xml10_content());
                }
            }
            Event::GeneralRef(entity) => {
                if let Some(case) = &mut case {
                    let known = entity
                        .resolve_char_ref()
                        .ok()
                        .flatten()
                        .map(String::from)
                        .or_else(|| quick_xml::escape::resolve_predefined_entity(&entity).map(str::to_owned));
                    add_text(case, inside.last(), &known.unwrap_or_default());
                }
            }
            Event::CData(text) => {
                if let Some(case) = &mut case {
                    add_text(case, inside.last(), &text);
                }
            }
            Event::End(_) => {
                let ends = inside.pop().unwrap_or_default();
                if is_suite(&ends)
                    && let Some(suite) = suites.pop()
                {
                    let all = suite.end(&mut file);
                    if let Some(parent) = suites.last_mut() {
                        parent.told.add(&all);
                    }
                }
                if ends == "testcase"
                    && let Some(mut done) = case.take()
                {
                    if done.reported.message.is_empty() && done.reported.ended == Ended::Failed {
                        done.reported.message = first_line(&done.reported.detail);
                    }
                    file.cases.push(done);
                }
            }
            Event::Eof if inside.is_empty() && root.is_some() => return Ok(file),
            Event::Eof if root.is_none() => return Err(broken("it is empty")),
            Event::Eof => return Err(broken("it ends within an element")),
            _ => {}
        }
    }
}

fn attribute(tag: &BytesStart<'_>, key: &str) -> Result<Option<String>, String> {
    let found = tag.try_get_attribute(key).map_err(|e| e.to_string())?;
    found
        .map(|a| a.normalized_value(XmlVersion::Implicit1_0).map(|v| v.into_owned()).map_err(|e| e.to_string()))
        .transpose()
}

fn is_suite(name: &str) -> bool {
    matches!(name, "testsuite" | "testsuites")
}

/// How much of something there is in a suite, those within it included.
#[derive(Debug, Clone, Copy, Default)]
struct Told {
    cases: u64,
    /// Failures and errors.
    failing: u64,
    skipped: u64,
}

impl Told {
    /// An element begins that is no suite, in a case if there is one. What tells of a failing attempt of a case in a way of its own is
    /// told, too.
    fn take(&mut self, name: &str, case: Option<&Case>) {
        let name = name.to_ascii_lowercase();
        let name = usual(&name);
        if let Some(case) = case.filter(|_| name == "testcase") {
            self.cases += 1;
            self.failing += u64::from(case.reported.ended == Ended::Failed);
            self.skipped += u64::from(case.reported.ended == Ended::Skipped);
        }
        self.failing += u64::from(name.ends_with("failure") || name.ends_with("error"));
        self.skipped += u64::from(name == "skipped");
    }

    fn add(&mut self, other: &Self) {
        self.cases = self.cases.saturating_add(other.cases);
        self.failing = self.failing.saturating_add(other.failing);
        self.skipped = self.skipped.saturating_add(other.skipped);
    }
}

/// A suite that is being read: what it says it has, if anything, and what it told of so far.
struct Suite {
    shown: String,
    cases: Option<u64>,
    failing: Option<u64>,
    skipped: u64,
    told: Told,
}

impl Suite {
    fn read(tag: &BytesStart<'_>, name: &str) -> Result<Self, String> {
        // There is no standard for what stands there: what is no number says nothing.
        let number = |key: &str| Ok::<_, String>(attribute(tag, key)?.and_then(|n| n.trim().parse::<u64>().ok()));
        // None where none is told.
        let sum = |keys: &[&str]| -> Result<Option<u64>, String> {
            let told = keys.iter().map(|key| number(key)).collect::<Result<Vec<_>, _>>()?;
            Ok(told.into_iter().flatten().reduce(u64::saturating_add))
        };
        let shown = match attribute(tag, "name")? {
            Some(own) if !own.is_empty() => format!("the <{name}> {:?}", shorten(&own, 120)),
            _ => format!("a <{name}>"),
        };
        Ok(Self {
            shown,
            cases: number("tests")?,
            failing: sum(&["failures", "errors"])?,
            // Some count what they leave out, and do not list it.
            skipped: sum(&["skipped", "disabled", "ignored", "notrun"])?.unwrap_or(0),
            told: Told::default(),
        })
    }

    /// Says of what it has more than it told of; returns what it told of and what is missing together, so that the suite around it does
    /// not miss the same again.
    fn end(self, file: &mut File) -> Told {
        let Self { shown, told, .. } = self;
        let failing = self.failing.unwrap_or(0).saturating_sub(told.failing);
        if failing > 0 && file.unshown.len() < MOST_SUITES {
            let (said, told) = (failing.saturating_add(told.failing), told.failing);
            let what = if said == 1 { "failure or error" } else { "failures and errors" };
            file.unshown.push(format!("{shown} says that it has {said} {what}, and tells of {told}"));
        }
        let unlisted = self.skipped.saturating_sub(told.skipped);
        let cases = self.cases.unwrap_or(0).saturating_sub(told.cases).saturating_sub(unlisted);
        if cases > 0 && file.missing.len() < MOST_SUITES {
            let said = self.cases.unwrap_or(0);
            let what = if said == 1 { "test case" } else { "test cases" };
            file.missing.push(format!("{shown} says that it has {said} {what}, and tells of {}", told.cases));
        }
        let mut all = Told { cases: cases.saturating_add(unlisted), failing, skipped: unlisted };
        all.add(&told);
        all
    }
}

fn start(tag: &BytesStart<'_>, name: &str, case: &mut Option<Case>, loose: &mut Vec<String>) -> Result<(), String> {
    let attribute = |key: &str| attribute(tag, key);
    let own = name;
    let name = usual(own);
    match name {
        "testcase" => {
            let mut reported = Reported::plain(Ended::Passed);
            let seconds = attribute("time")?.and_then(|t| t.replace(',', "").parse::<f64>().ok()).filter(|t| *t >= 0.0);
            reported.spent = seconds.map(|s| Span((s * 1e6) as u64));
            let name = attribute("name")?.ok_or("a <testcase> has no name")?;
            // Some say it there, and in no element of its own.
            for key in ["status", "result"] {
                let Some(said) = attribute(key)?.filter(|said| !said.is_empty()) else { continue };
                let ended = match said.to_ascii_lowercase().as_str() {
                    "fail" | "failed" | "failure" | "error" | "errored" | "crashed" | "timeout" => Ended::Failed,
                    "notrun" | "not-run" | "not run" | "skipped" | "disabled" | "ignored" | "pending" => Ended::Skipped,
                    _ => continue,
                };
                if reported.ended != Ended::Failed {
                    reported.ended = ended;
                    reported.message = format!("its {key} is {:?}", shorten(&said, 60));
                }
            }
            *case = Some(Case {
                name,
                class: attribute("classname")?.unwrap_or_default(),
                reported,
                output: String::new(),
            });
        }
        "failure" | "error" | "skipped" => {
            let message = attribute("message")?.unwrap_or_default();
            match case {
                // What failed and says besides that it was skipped has failed.
                Some(case) if name == "skipped" && case.reported.ended == Ended::Failed => {}
                Some(case) => {
                    case.reported.ended = if name == "skipped" { Ended::Skipped } else { Ended::Failed };
                    // What follows says more than an attribute of the case did.
                    case.reported.message = message;
                }
                // Outside of a case another name may stand for a number of them.
                None if name == "skipped" || name != own => {}
                None => loose.push(shorten(&format!("a <{name}> outside of any test case: {message}"), 500)),
            }
        }
        _ => {}
    }
    Ok(())
}

/// What an element is usually called, where it is told otherwise.
fn usual(name: &str) -> &str {
    let is = |words: &[&str]| words.iter().any(|word| word.eq_ignore_ascii_case(name));
    match name {
        _ if is(&["failure", "failed", "fail"]) => "failure",
        _ if is(&["error", "errored"]) => "error",
        _ if is(&["skipped", "skip"]) => "skipped",
        _ => name,
    }
}

fn add_text(case: &mut Case, inside: Option<&String>, text: &str) {
    let place = match inside.map(|name| usual(name.as_str())) {
        Some("failure" | "error") => &mut case.reported.detail,
        Some("skipped") if case.reported.message.is_empty() => &mut case.reported.message,
        Some("system-out" | "system-err") => &mut case.output,
        _ => return,
    };
    if place.len() + text.len() <= LONGEST_TEXT {
        place.push_str(text);
    }
}

fn first_line(text: &str) -> String {
    shorten(text.lines().map(str::trim).find(|l| !l.is_empty()).unwrap_or_default(), 300)
}

/// What a file holds.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct File {
    pub cases: Vec<Case>,
    /// Failures and errors that belong to no test case, in words.
    pub loose: Vec<String>,
    /// Suites that say how many failures and errors they have, and tell of fewer, in words.
    pub unshown: Vec<String>,
    /// Suites that say how many test cases they have, and tell of fewer, in words.
    pub missing: Vec<String>,
}

/// How many there are of each in some part of a report.
#[derive(Default)]
struct Counts {
    tests: usize,
    failures: usize,
    errors: usize,
    skipped: usize,
}

impl Counts {
    fn of(whole: &Whole<'_>, cases: &[&ReportCase<'_>]) -> Self {
        let count = |is: &dyn Fn(Outcome) -> bool| cases.iter().filter(|c| is(c.outcome)).count();
        Self {
            tests: cases.len(),
            failures: count(&|o| whole.fails(o)),
            errors: 0,
            skipped: count(&|o| matches!(o, Outcome::Skipped | Outcome::Parked | Outcome::NotRun)),
        }
    }

    fn attributes(&self) -> String {
        let Self { tests, failures, errors, skipped } = self;
        format!("tests=\"{tests}\" failures=\"{failures}\" errors=\"{errors}\" skipped=\"{skipped}\"")
    }
}

/// Writes a report: a `testsuite` for each variant, in the order in which the cases come.
///
/// A flaky entry is a passed test case whose attempts stand under `system-out`, and a failure where flaky ones fail the
/// run; a parked test or one that did not run is `skipped` with its reason. A run that is no pass for a reason that no case shows has a case
/// of its own, as error or failure: no reader takes its report for that of a run that passed.
#[must_use]
pub fn write(whole: &Whole<'_>, cases: &[ReportCase<'_>]) -> String {
    let run = whole.name;
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let troubles = whole.troubles(cases);
    let errors = troubles.iter().filter(|t| t.error).count();
    let beside = Counts { tests: troubles.len(), failures: troubles.len() - errors, errors, skipped: 0 };
    let all = Counts::of(whole, &cases.iter().collect::<Vec<_>>());
    let all = Counts {
        tests: all.tests + beside.tests,
        failures: all.failures + beside.failures,
        errors: beside.errors,
        ..all
    };
    let began = if whole.began.is_empty() { String::new() } else { format!(" timestamp=\"{}\"", attr(whole.began)) };
    let Counts { tests, failures, errors, .. } = all;
    let time = whole.took.as_seconds();
    out += &format!(
        "<testsuites name=\"{}\" tests=\"{tests}\" failures=\"{failures}\" errors=\"{errors}\" time=\"{time:.3}\">\n",
        attr(run)
    );
    let mut variants: Vec<&str> = Vec::new();
    for case in cases {
        if !variants.contains(&case.variant) {
            variants.push(case.variant);
        }
    }
    for variant in variants {
        let of: Vec<&ReportCase<'_>> = cases.iter().filter(|c| c.variant == variant).collect();
        let name = if variant.is_empty() { run.to_owned() } else { format!("{run} ({variant})") };
        let time: f64 = of.iter().map(|c| c.spent.as_seconds()).sum();
        let counts = Counts::of(whole, &of).attributes();
        out += &format!("  <testsuite name=\"{}\" {counts} time=\"{time:.3}\"{began}>\n", attr(&name));
        write_properties(&mut out, whole);
        of.iter().for_each(|case| write_case(&mut out, whole, case));
        out += "  </testsuite>\n";
    }
    if !troubles.is_empty() {
        let (name, counts) = (attr(run), beside.attributes());
        out += &format!("  <testsuite name=\"{name}\" {counts} time=\"0.000\"{began}>\n");
        for trouble in &troubles {
            let kind = if trouble.error { "error" } else { "failure" };
            out += &format!("    <testcase name=\"{THE_RUN}\" classname=\"{name}\" time=\"0.000\">\n");
            let (what, why) = (attr(&trouble.what), attr(&trouble.why));
            out += &format!("      <{kind} type=\"{what}\" message=\"{why}\"/>\n    </testcase>\n");
        }
        out += "  </testsuite>\n";
    }
    out + "</testsuites>\n"
}

/// Tells what is known of the run: the images that its processes ran in, with their digests, its labels and so on.
fn write_properties(out: &mut String, whole: &Whole<'_>) {
    if whole.images.is_empty() && whole.properties.is_empty() {
        return;
    }
    out.push_str("    <properties>\n");
    for image in whole.images {
        let (name, digest) = (attr(&image.name), attr(&image.digest));
        *out += &format!("      <property name=\"image {name}\" value=\"{digest}\"/>\n");
    }
    for (name, value) in whole.properties {
        *out += &format!("      <property name=\"{}\" value=\"{}\"/>\n", attr(name), attr(value));
    }
    out.push_str("    </properties>\n");
}

fn write_case(out: &mut String, whole: &Whole<'_>, case: &ReportCase<'_>) {
    let (class, name) = case.parts();
    let time = case.spent.as_seconds();
    *out += &format!("    <testcase name=\"{}\" classname=\"{}\" time=\"{time:.3}\">\n", attr(name), attr(class));
    let last = case.attempts.last();
    let message = last.map_or("", |a| a.message);
    match case.outcome {
        Outcome::Flaky if whole.flaky_fails => {
            let why = case.attempts.iter().rev().find(|a| a.ended.failing()).map_or("", |a| a.message);
            let why = format!("flaky, which fails this run (--flaky-fails): {why}");
            *out += &format!("      <failure type=\"flaky\" message=\"{}\"/>\n", attr(&why));
        }
        Outcome::Passed | Outcome::Flaky => {}
        Outcome::Failed => {
            let kind = last.map_or("failed", |a| a.ended.word());
            let detail = last.map_or("", |a| a.detail);
            *out +=
                &format!("      <failure type=\"{kind}\" message=\"{}\">{}</failure>\n", attr(message), text(detail));
        }
        Outcome::Skipped => *out += &format!("      <skipped message=\"{}\"/>\n", attr(message)),
        Outcome::Parked => {
            let said = case.parked_said();
            *out += &format!("      <skipped message=\"{}\"/>\n", attr(&said));
        }
        Outcome::NotRun => *out += "      <skipped message=\"not run: the run ended before it had an outcome\"/>\n",
    }
    let mut said = String::new();
    if case.attempts.len() > 1 {
        let told = |(i, a): (usize, &ReportAttempt<'_>)| match a.message {
            "" => format!("attempt {} {}\n", i + 1, a.ended),
            why => format!("attempt {} {}: {why}\n", i + 1, a.ended),
        };
        said = format!("{}: ", case.outcome);
        said.extend(case.attempts.iter().enumerate().map(told));
    }
    for (i, attempt) in case.attempts.iter().enumerate().filter(|(_, a)| !a.output.is_empty()) {
        said += &format!("what attempt {} printed:\n{}\n", i + 1, attempt.output.trim_end());
    }
    if !said.is_empty() {
        *out += &format!("      <system-out>{}</system-out>\n", text(&said));
    }
    *out += "    </testcase>\n";
}

/// XML 1.0 allows no control characters but tab and line ends, escaped or not.
fn clean(value: &str) -> String {
    let allowed = |c: char| matches!(c, '\t' | '\n' | '\r') || (c >= ' ' && !matches!(c, '\u{fffe}' | '\u{ffff}'));
    value.chars().map(|c| if allowed(c) { c } else { '\u{fffd}' }).collect()
}

fn attr(value: &str) -> String {
    escape(clean(value).as_str()).replace('\n', "&#10;").replace('\t', "&#9;").replace('\r', "&#13;")
}

fn text(value: &str) -> String {
    escape(clean(value).as_str()).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::words::Verdict;

    #[test]
    fn the_common_core_is_read() {
        let xml = br#"<?xml version="1.0"?>
<testsuites><testsuite name="gate">
  <testcase name="open" classname="gate.early" time="0.25"/>
  <testcase name="late" classname="gate"><failure message="expected Closed">at line 3 &lt;gate&gt;</failure><system-out><![CDATA[beep]]></system-out></testcase>
  <testcase name="dog"><skipped>no dogs</skipped></testcase>
  <testcase name="boom"><error>
   it broke
  </error></testcase>
</testsuite></testsuites>"#;
        let cases = read(xml).unwrap().cases;
        assert_eq!(cases[0].reported.spent, Some(Span::millis(250)));
        assert!(cases[0].candidates().contains(&"gate/early/open".to_owned()));
        assert_eq!((cases[1].reported.ended, cases[1].reported.message.as_str()), (Ended::Failed, "expected Closed"));
        assert_eq!((cases[1].reported.detail.as_str(), cases[1].output.as_str()), ("at line 3 <gate>", "beep"));
        assert_eq!((cases[2].reported.ended, cases[2].reported.message.as_str()), (Ended::Skipped, "no dogs"));
        assert_eq!(cases[3].reported.message, "it broke");
    }

    #[test]
    fn a_failure_is_not_lost_wherever_it_stands() {
        let xml = br#"<testsuite><error message="the set-up broke"/>
  <testcase name="a"><failure message="no"/><skipped/></testcase></testsuite>"#;
        let file = read(xml).unwrap();
        assert_eq!(file.cases[0].reported.ended, Ended::Failed);
        assert_eq!(file.loose, ["a <error> outside of any test case: the set-up broke"]);
    }

    #[test]
    fn elements_that_are_called_a_little_otherwise_say_the_same() {
        let xml = br#"<testsuite tests="6" failures="1" errors="1" ignored="1"><testcase name="a"><Failure message="no"/></testcase>
            <testcase name="b"><failed>it was 7</failed></testcase><testcase name="c"><ERROR/></testcase><testcase name="d"><Skipped/></testcase>
            <testcase name="e"><failureless/></testcase></testsuite>"#;
        let file = read(xml).unwrap();
        let said: Vec<_> = file.cases.iter().map(|c| format!("{} {}", c.reported.ended, c.reported.message)).collect();
        assert_eq!(said, ["failed no", "failed it was 7", "failed ", "skipped ", "passed "]);
        assert_eq!((file.unshown.len(), file.missing.len()), (0, 1), "{file:?}");
        let none = read(br#"<testsuite tests="2" ignored="1"><testcase name="a"/></testsuite>"#).unwrap();
        assert!(none.missing.is_empty());
    }

    #[test]
    fn a_case_may_say_in_an_attribute_how_it_ended() {
        let xml = br#"<testsuite failures="3"><testcase name="a" status="Failed"/><testcase name="b" result="notrun"/><testcase name="c" status="run" result="completed"/>
            <testcase name="d" status="failed"><failure message="no"/></testcase><testcase name="e" status="failed"><skipped/></testcase></testsuite>"#;
        let file = read(xml).unwrap();
        assert!(file.unshown.is_empty(), "{:?}", file.unshown);
        let cases = file.cases;
        let said: Vec<_> = cases.iter().map(|c| format!("{} {}", c.reported.ended, c.reported.message)).collect();
        assert_eq!(
            said,
            [
                "failed its status is \"Failed\"",
                "skipped its result is \"notrun\"",
                "passed ",
                "failed no",
                "failed its status is \"failed\""
            ]
        );
    }

    #[test]
    fn a_suite_that_has_more_than_it_tells_of_is_told() {
        let none: [&str; 0] = [];
        let read = |xml: &str| read(xml.as_bytes()).unwrap();
        let lacks = read(
            r#"<testsuites tests="4" failures="1" errors="1"><testsuite name="gate" tests="3" failures="1" errors="1">
            <testcase name="a"/><testcase name="b"><error/></testcase></testsuite><testsuite tests="1"><testcase name="c"/></testsuite></testsuites>"#,
        );
        assert_eq!(lacks.unshown, ["the <testsuite> \"gate\" says that it has 2 failures and errors, and tells of 1"]);
        assert_eq!(lacks.missing, ["the <testsuite> \"gate\" says that it has 3 test cases, and tells of 2"]);
        // The one around them has what none of them has.
        let around = read(
            r#"<testsuites tests="9" failures="2"><testsuite tests="1"><testcase name="a"><failure/></testcase></testsuite></testsuites>"#,
        );
        assert_eq!(around.unshown, ["a <testsuites> says that it has 2 failures and errors, and tells of 1"]);
        assert_eq!(around.missing, ["a <testsuites> says that it has 9 test cases, and tells of 1"]);
        for good in [
            // As many as it says, or more; numbers that are none; what is left out, whether or not it is listed.
            r#"<testsuite tests="1" failures="1"><testcase name="a"><failure/><error/></testcase><testcase name="b"/></testsuite>"#,
            r#"<testsuite tests="" failures="-1" errors="some"/>"#,
            r#"<testsuite tests="5" skipped="2" disabled="1"><testcase name="a"/><testcase name="b"/></testsuite>"#,
            r#"<testsuites tests="3"><testsuite tests="3" skipped="2"><testcase name="a"/><testcase name="b"><skipped/></testcase></testsuite></testsuites>"#,
            // A failing attempt of a test that passed, in a way of its own; and a failure outside of all.
            r#"<testsuite failures="1"><testcase name="a"><earlierFailure/></testcase></testsuite>"#,
            r#"<testsuite errors="1"><error message="the set-up broke"/></testsuite>"#,
        ] {
            let file = read(good);
            assert_eq!((file.unshown, file.missing), (none.map(str::to_owned).to_vec(), Vec::new()), "{good}");
        }
        let huge = read(&format!(
            r#"<testsuites><testsuite tests="{0}" failures="{0}" errors="{0}" skipped="1"/><testsuite failures="{0}"/></testsuites>"#,
            u64::MAX
        ));
        assert_eq!((huge.unshown.len(), huge.missing.len()), (2, 1));
    }

    #[test]
    fn broken_files_say_where() {
        for (bad, why) in [
            ("", "it is empty"),
            ("<html></html>", "the root is <html>"),
            ("<testsuite>\n<testcase name=\"a\">", "it ends within an element"),
            ("<testsuite>\n<testcase></testcase></testsuite>", "line 2: a <testcase> has no name"),
            ("<testsuite></testcase>", "line 1"),
            ("<testsuite>".repeat(1001).as_str(), "more than 1000 elements stand within each other"),
        ] {
            let error = read(bad.as_bytes()).unwrap_err();
            assert!(error.contains(why), "{bad}: {error}");
        }
        let many = format!("<testsuites>{}</testsuites>", "<testsuite tests=\"1\" errors=\"1\"/>".repeat(1000));
        let file = read(many.as_bytes()).unwrap();
        assert_eq!((file.missing.len(), file.unshown.len()), (MOST_SUITES, MOST_SUITES));
    }

    fn report() -> String {
        let attempt = |ended, message| ReportAttempt {
            ended,
            message,
            detail: "trace <1>\u{1b}[31m",
            output: if message == "past 30 s" { "the gate <stays> shut".into() } else { String::new() },
        };
        let case = |name, outcome, attempts| ReportCase {
            name,
            file: "",
            variant: "",
            outcome,
            spent: Span::millis(48),
            attempts,
            why_parked: None,
        };
        let whole = Whole {
            name: "boarding-gate/42",
            took: Span::seconds(3),
            verdict: Some(Verdict::Failed),
            reason: "1 of 5 failed",
            began: "2026-11-27T08:00:00",
            ..Whole::default()
        };
        write(
            &whole,
            &[
                case("gate/open", Outcome::Passed, vec![attempt(Ended::Passed, "")]),
                case(
                    "gate/late",
                    Outcome::Flaky,
                    vec![attempt(Ended::Failed, "no \"quay\""), attempt(Ended::Passed, "")],
                ),
                case("gate/shut", Outcome::Failed, vec![attempt(Ended::TimedOut, "past 30 s")]),
                case("gate/dog", Outcome::Skipped, vec![attempt(Ended::Skipped, "no dogs")]),
                case("gate/night", Outcome::NotRun, vec![]),
            ],
        )
    }

    #[test]
    fn a_report_reads_as_it_should() {
        insta::assert_snapshot!(report());
    }

    #[test]
    fn a_report_can_be_read_back() {
        let cases = read(report().as_bytes()).unwrap().cases;
        let ended: Vec<Ended> = cases.iter().map(|c| c.reported.ended).collect();
        assert_eq!(ended, [Ended::Passed, Ended::Passed, Ended::Failed, Ended::Skipped, Ended::Skipped]);
    }

    #[test]
    fn cases_stand_under_their_file_and_a_file_that_failed_itself_is_one_of_them() {
        let case = |name, outcome| ReportCase {
            name,
            file: "gate/late.sh",
            variant: "",
            outcome,
            spent: Span::millis(5),
            attempts: Vec::new(),
            why_parked: None,
        };
        let cases = [case("gate/late.sh/refuses 1/2 fares", Outcome::Passed), case("gate/late.sh", Outcome::Failed)];
        let whole = Whole { name: "gate/1", verdict: Some(Verdict::Failed), ..Whole::default() };
        let junit = write(&whole, &cases);
        assert!(junit.contains("name=\"refuses 1/2 fares\" classname=\"gate/late.sh\""), "{junit}");
        assert!(junit.contains("name=\"the file itself\" classname=\"gate/late.sh\""), "{junit}");
        assert!(junit.contains("tests=\"2\" failures=\"1\""), "{junit}");
        use crate::run::cases::CaseTally;
        let tally = |failed, flaky| CaseTally { passed: 3, failed, flaky, ..CaseTally::default() };
        assert!(says_of_file(Outcome::Passed, &CaseTally::default(), None), "nothing else speaks of it");
        assert!(!says_of_file(Outcome::Passed, &tally(0, 0), Some(Ended::Passed)));
        assert!(!says_of_file(Outcome::Failed, &tally(1, 0), Some(Ended::Failed)));
        assert!(says_of_file(Outcome::Failed, &tally(0, 0), Some(Ended::Failed)));
        assert!(says_of_file(Outcome::Failed, &tally(1, 0), Some(Ended::Crashed)), "its cases do not show that");
        assert!(says_of_file(Outcome::Flaky, &tally(0, 0), Some(Ended::Passed)));
    }
}
