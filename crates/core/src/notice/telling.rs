//! The words and bodies of notices.

use std::{collections::BTreeMap, fmt::Write as _};

use chrono::{DateTime, Utc};
use serde_json::{Value, json};

use crate::{
    error::Error,
    name::shorten,
    request::{Asked, Filled, Values},
    source::short_commit,
    words::Verdict,
};

use super::{
    event::{Cause, Event, Happened, MOST_TESTS, Missed, RunFacts, TestFact, Tests},
    known::SECRET,
    rule::{Notice, When},
};

/// The longest subject, and what is said of one failure, in letters.
const LONGEST_SUBJECT: usize = 150;
const LONGEST_MESSAGE: usize = 300;
/// Events that one message names.
const MOST_EVENTS: usize = 100;

/// A message for people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// One line.
    pub subject: String,
    pub text: String,
    pub html: String,
}

/// Made-up events, for a trial of a notice.
pub struct Sample;

impl Sample {
    /// An event that the notice would tell of, said to be a sample; `link` is the console's address.
    #[must_use]
    pub fn of(notice: &Notice, at: DateTime<Utc>, link: &str) -> Event {
        let fail =
            |test: &str, message: &str| TestFact { test: test.into(), variant: String::new(), message: message.into() };
        let late = "no answer from the berth within 3 s";
        let run = RunFacts {
            suite: "sample".into(),
            run: "sample/2".into(),
            verdict: Some(Verdict::Failed),
            branch: Some("main".into()),
            commit: Some("0123456789abcdef0123456789abcdef01234567".into()),
            brief: Some("nightly".into()),
            pool: "main".into(),
            started_by: "a sample".into(),
            choice: "this is a sample, and no run was carried out: all tests".into(),
            took: crate::time::Span::seconds(83),
            passed: 80,
            failed: 2,
            causes: vec![Cause {
                message: late.into(),
                tests: 2,
                first: vec!["gate/late/by_a_minute".into(), "gate/late/by_an_hour".into()],
            }],
            newly_failing: Tests { total: 1, first: vec![fail("gate/late/by_an_hour", late)] },
            against: Some("sample/1".into()),
            still_failing: 1,
            link: link.to_owned(),
            ..RunFacts::default()
        };
        let happened = match notice.when.first() {
            Some(When::ScheduleMissed) => Happened::ScheduleMissed(Missed {
                schedule: "nightly".into(),
                brief: Some("nightly".into()),
                suite: Some("sample".into()),
                planned: at,
                count: 1,
                what: "missed".into(),
                why: "this is a sample: nothing was missed".into(),
                link: link.to_owned(),
            }),
            Some(When::NoWorker(span)) => {
                Happened::NoWorker(Box::new(RunFacts { verdict: None, ..run }), *span, "a sample".into())
            }
            Some(When::ForecastOver(span)) => {
                Happened::ForecastOver(Box::new(RunFacts { verdict: None, ..run }), *span + *span)
            }
            _ => Happened::Ended(Box::new(run)),
        };
        Event { because: notice.when.iter().take(1).copied().collect(), at, happened }
    }
}

fn tests(n: u32) -> String {
    if n == 1 { "1 test".into() } else { format!("{n} tests") }
}

fn verdict_word(verdict: Option<Verdict>) -> &'static str {
    verdict.map_or("running", Verdict::word)
}

/// A text on one line without what would end a header or move a terminal's cursor.
fn one_line(text: &str) -> String {
    text.split(|c: char| c.is_whitespace() || c.is_control()).filter(|w| !w.is_empty()).collect::<Vec<_>>().join(" ")
}

impl Event {
    /// What happened, on one line.
    #[must_use]
    pub fn title(&self) -> String {
        let line = match &self.happened {
            Happened::Ended(run) => {
                let slower = self.because.iter().any(|when| matches!(when, When::SlowerThan(_)));
                let usual = run.usual.filter(|_| slower);
                let took = usual.map(|usual| format!(", in {} instead of {usual}", run.took)).unwrap_or_default();
                ended(run) + &took
            }
            Happened::ScheduleMissed(missed) => {
                let (name, why) = (&missed.schedule, &missed.why);
                match missed.count {
                    0 | 1 => format!("schedule {name} did not start anything ({}): {why}", missed.what),
                    n => format!("schedule {name} did not start anything {n} times ({}): {why}", missed.what),
                }
            }
            Happened::NoWorker(run, waited, what) => {
                format!("{} has had no worker for {waited}: it waits for {what}", run.run)
            }
            Happened::ForecastOver(run, expected) => format!("{} is expected to take {expected}", run.run),
        };
        one_line(&line)
    }

    /// Where a person reads more.
    #[must_use]
    pub fn link(&self) -> &str {
        match &self.happened {
            Happened::ScheduleMissed(missed) => &missed.link,
            other => other.run().map_or("", |run| &run.link),
        }
    }

    fn glyph(&self) -> &'static str {
        match &self.happened {
            Happened::Ended(run) => run.verdict.map_or("≈", Verdict::glyph),
            Happened::ScheduleMissed(_) => "⊘",
            Happened::NoWorker(..) | Happened::ForecastOver(..) => "≈",
        }
    }

    fn because(&self) -> String {
        self.because.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
    }
}

fn ended(run: &RunFacts) -> String {
    let (name, new, mended) = (&run.run, run.newly_failing.total, run.mended.total);
    let reason =
        if run.reason.is_empty() { String::new() } else { format!(": {}", shorten(&run.reason, LONGEST_MESSAGE)) };
    let mended = if mended > 0 { format!(", {mended} mended") } else { String::new() };
    let flaky = if run.flaky > 0 { format!(", {} flaky", run.flaky) } else { String::new() };
    match run.verdict {
        Some(Verdict::Failed) if run.failed == 0 => format!("{name} failed{reason}"),
        Some(Verdict::Failed) => {
            let new = if new > 0 { format!(", {new} newly") } else { String::new() };
            format!("{name} failed: {} of {}{new}{flaky}{mended}", run.failed, tests(run.tested()))
        }
        Some(Verdict::Passed) => {
            format!("{name} passed: {}{flaky}{mended}", tests(run.tested()))
        }
        Some(Verdict::Void) => format!("{name} is void{reason}"),
        Some(Verdict::Stopped) => format!("{name} was stopped{reason}"),
        None => format!("{name} is running"),
    }
}

/// The lines that follow a title: texts, each with how far it is indented.
fn lines(event: &Event) -> Vec<(usize, String)> {
    let mut out = Vec::new();
    let Some(run) = event.happened.run() else { return out };
    let mut about = vec![run.choice.clone()];
    about.extend(run.branch.as_ref().map(|branch| format!("branch {branch}")));
    about.extend(run.commit.as_ref().map(|commit| format!("commit {}", short_commit(commit))));
    about.extend(run.brief.as_ref().map(|brief| format!("brief {brief}")));
    about.push(format!("pool {}", run.pool));
    about.push(format!("started by {}", run.started_by));
    out.push((0, one_line(&about.into_iter().filter(|a| !a.is_empty()).collect::<Vec<_>>().join(", "))));
    if run.verdict.is_some() {
        let counted = [
            (run.passed, "passed"),
            (run.flaky, "flaky"),
            (run.failed, "failed"),
            (run.skipped, "skipped"),
            (run.parked, "parked"),
            (run.not_run, "not run"),
        ];
        let counted =
            counted.into_iter().filter(|c| c.0 > 0).map(|(n, word)| format!("{n} {word}")).collect::<Vec<_>>();
        let usual = run.usual.map(|usual| format!(" (usually {usual})")).unwrap_or_default();
        out.push((
            0,
            format!(
                "{} in {}{usual}",
                if counted.is_empty() { "nothing was tested".into() } else { counted.join(", ") },
                run.took
            ),
        ));
    }
    let list = |out: &mut Vec<(usize, String)>, head: String, tests: &Tests| {
        if tests.total == 0 {
            return;
        }
        out.push((0, String::new()));
        out.push((0, head));
        for fact in tests.first.iter().take(MOST_TESTS) {
            let variant = if fact.variant.is_empty() { String::new() } else { format!(" ({})", fact.variant) };
            out.push((1, one_line(&format!("{}{variant}", fact.test))));
            // Where causes are told they hold it once for all.
            let said = one_line(&shorten(&fact.message, LONGEST_MESSAGE));
            if !said.is_empty() && run.causes.is_empty() {
                out.push((2, said));
            }
        }
        let more = tests.total.saturating_sub(tests.first.len().min(MOST_TESTS) as u32);
        if more > 0 {
            out.push((1, format!("and {more} more")));
        }
    };
    let against = run.against.as_ref().map(|against| format!(" against {against}")).unwrap_or_default();
    list(&mut out, format!("Newly failing{against}"), &run.newly_failing);
    if !run.causes.is_empty() {
        out.push((0, String::new()));
        out.push((0, if run.causes.len() == 1 { "Why".into() } else { format!("Why: {} causes", run.causes.len()) }));
        for cause in &run.causes {
            out.push((1, format!("{}: {}", tests(cause.tests), one_line(&shorten(&cause.message, LONGEST_MESSAGE)))));
            let more = cause.tests.saturating_sub(cause.first.len() as u32);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            out.push((2, one_line(&format!("{}{more}", cause.first.join(", ")))));
        }
    }
    list(&mut out, format!("Mended{against}"), &run.mended);
    out
}

/// What several events say, or one, for people; `notice` is the name of the notice.
#[must_use]
pub fn message(notice: &str, events: &[Event]) -> Message {
    let subject = match events {
        [one] => format!("{} {}", one.glyph(), one.title()),
        several => {
            let mut words: BTreeMap<&str, u32> = BTreeMap::new();
            for event in several {
                let word = match &event.happened {
                    Happened::Ended(run) => verdict_word(run.verdict),
                    Happened::ScheduleMissed(_) => "not started",
                    Happened::NoWorker(..) => "without a worker",
                    Happened::ForecastOver(..) => "longer than planned",
                };
                *words.entry(word).or_default() += 1;
            }
            format!("{notice}: {}", words.iter().map(|(word, n)| format!("{n} {word}")).collect::<Vec<_>>().join(", "))
        }
    };
    let mut text = String::new();
    let mut html = String::from(
        "<!doctype html><html><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\"></head>\
         <body style=\"margin:0;padding:24px;background:#f4f2ec;color:#22303a;font:15px/1.5 sans-serif\">\
         <div style=\"max-width:640px;margin:auto;background:#fff;border:1px solid #d9d5c8;border-radius:6px;padding:20px 24px\">",
    );
    for (number, event) in events.iter().take(MOST_EVENTS).enumerate() {
        if number > 0 {
            text.push('\n');
            html.push_str("<hr style=\"border:0;border-top:1px solid #d9d5c8;margin:20px 0\">");
        }
        one(event, &mut text, &mut html);
    }
    if events.len() > MOST_EVENTS {
        let more = format!("and {} more", events.len() - MOST_EVENTS);
        let _ = write!(text, "\n{more}\n");
        let _ = write!(html, "<p>{more}</p>");
    }
    let mut because: Vec<String> = events.iter().map(Event::because).collect();
    because.sort();
    because.dedup();
    let foot = format!("You are told by the notice {notice} ({}).", because.join("; "));
    let _ = write!(text, "\n-- \n{foot}\n");
    let _ = write!(
        html,
        "<p style=\"margin:20px 0 0;color:#6b7780;font-size:13px\">{}</p></div></body></html>",
        escape(&foot)
    );
    Message { subject: shorten(&one_line(&subject), LONGEST_SUBJECT), text, html }
}

fn one(event: &Event, text: &mut String, html: &mut String) {
    let _ = writeln!(text, "{} {}", event.glyph(), event.title());
    let colour = match event.happened.run().and_then(|run| run.verdict) {
        Some(Verdict::Failed) => "#a3271f",
        Some(Verdict::Passed) => "#1f6b45",
        _ => "#22303a",
    };
    let _ = write!(
        html,
        "<p style=\"margin:0 0 8px;font-size:18px;font-weight:600;color:{colour}\">{} {}</p>",
        event.glyph(),
        escape(&event.title())
    );
    for (indent, line) in lines(event) {
        let _ = writeln!(text, "{}{line}", "    ".repeat(indent));
        let style = match indent {
            0 if line.is_empty() => continue,
            0 => "margin:10px 0 0",
            1 => "margin:6px 0 0;padding-left:16px;font-family:monospace;font-size:14px;overflow-wrap:anywhere",
            _ => "margin:0;padding-left:32px;color:#55626b;font-size:14px;overflow-wrap:anywhere",
        };
        let _ = write!(html, "<p style=\"{style}\">{}</p>", escape(&line));
    }
    if !event.link().is_empty() {
        let _ = writeln!(text, "\n{}", event.link());
        let link = escape(event.link());
        let _ = write!(html, "<p style=\"margin:14px 0 0\"><a href=\"{link}\" style=\"color:#155a8a\">{link}</a></p>");
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// What `{NAME}` stands for in a described request that tells these events.
fn values(notice: &str, id: &str, events: &[Event], words: &Message) -> BTreeMap<&'static str, String> {
    let single = if let [one] = events { Some(one) } else { None };
    let run = single.and_then(|event| event.happened.run());
    let of = |take: fn(&RunFacts) -> String| run.map(take).unwrap_or_default();
    let optional = |take: fn(&RunFacts) -> &Option<String>| run.and_then(|run| take(run).clone()).unwrap_or_default();
    let missed = single.and_then(|event| match &event.happened {
        Happened::ScheduleMissed(missed) => Some(missed),
        _ => None,
    });
    let mut because: Vec<String> = events.iter().flat_map(|e| e.because.iter().map(ToString::to_string)).collect();
    because.dedup();
    BTreeMap::from([
        ("title", single.map_or_else(|| words.subject.clone(), Event::title)),
        ("text", words.text.clone()),
        ("link", single.map(|event| event.link().to_owned()).unwrap_or_default()),
        ("verdict", of(|run| verdict_word(run.verdict).to_owned())),
        ("glyph", single.map(|event| event.glyph().to_owned()).unwrap_or_default()),
        ("because", because.join(", ")),
        (
            "suite",
            run.map_or_else(|| missed.and_then(|m| m.suite.clone()).unwrap_or_default(), |run| run.suite.clone()),
        ),
        ("run", of(|run| run.run.clone())),
        ("branch", optional(|run| &run.branch)),
        ("commit", optional(|run| &run.commit)),
        (
            "brief",
            run.map_or_else(
                || missed.and_then(|m| m.brief.clone()).unwrap_or_default(),
                |run| run.brief.clone().unwrap_or_default(),
            ),
        ),
        ("pool", of(|run| run.pool.clone())),
        ("passed", of(|run| run.passed.to_string())),
        ("flaky", of(|run| run.flaky.to_string())),
        ("failed", of(|run| run.failed.to_string())),
        ("tests", of(|run| run.tested().to_string())),
        ("took", of(|run| run.took.to_string())),
        ("reason", run.map_or_else(|| missed.map(|m| m.why.clone()).unwrap_or_default(), |run| run.reason.clone())),
        ("notice", notice.to_owned()),
        ("id", id.to_owned()),
    ])
}

/// The described request that tells these events, with what stands in it. `id` is the delivery's, the same at every try.
///
/// # Errors
/// If something would stand where it may not: a line break in a header, say.
pub fn described(asked: &Asked, notice: &str, id: &str, events: &[Event], secret: &str) -> Result<Filled, Error> {
    let words = message(notice, events);
    let owned = values(notice, id, events, &words);
    let mut all: Values<'_> = owned.iter().map(|(name, value)| (*name, value.as_str())).collect();
    all.insert(SECRET, secret);
    let mut asked = asked.clone();
    // What a header cannot hold is written as an address holds it, rather than not being told at all.
    let one_line: BTreeMap<&'static str, String> =
        all.iter().map(|(name, value)| (*name, header_text(value))).collect();
    let in_headers: Values<'_> = one_line.iter().map(|(name, value)| (*name, value.as_str())).collect();
    for value in asked.headers.values_mut() {
        *value = crate::request::in_text(value, &in_headers)?.replace('{', "{{").replace('}', "}}");
    }
    asked.filled(&all).map_err(|e| Error::Notice(e.to_string()))
}

/// A text as a header may hold it: on one line, and in ASCII.
fn header_text(text: &str) -> String {
    let line = shorten(&one_line(text), 500);
    line.chars().map(|c| if c.is_ascii() { c } else { '?' }).collect()
}

/// The CloudEvent that tells these events (CloudEvents 1.0, structured mode). `source` is the service's address.
#[must_use]
pub fn cloud_event(notice: &str, id: &str, source: &str, events: &[Event], at: DateTime<Utc>) -> Value {
    let told = |event: &Event| {
        let mut data = match &event.happened {
            Happened::Ended(run) => json!(run),
            Happened::ScheduleMissed(missed) => json!(missed),
            Happened::NoWorker(run, waited, what) => {
                let mut data = json!(run);
                data["waited_us"] = json!(waited);
                data["waits_for"] = json!(what);
                data
            }
            Happened::ForecastOver(run, expected) => {
                let mut data = json!(run);
                data["expected_us"] = json!(expected);
                data
            }
        };
        data["title"] = json!(event.title());
        data["because"] = json!(event.because);
        data["notice"] = json!(notice);
        data
    };
    let (kind, subject, time, data) = match events {
        [one] => {
            let subject = match &one.happened {
                Happened::ScheduleMissed(missed) => missed.schedule.clone(),
                other => other.run().map(|run| run.run.clone()).unwrap_or_default(),
            };
            (one.happened.kind(), subject, one.at, told(one))
        }
        several => {
            let each = several.iter().map(|event| {
                let mut data = told(event);
                data["type"] = json!(event.happened.kind());
                data["time"] = json!(event.at);
                data
            });
            ("kesmo.digest", notice.to_owned(), at, json!({ "notice": notice, "events": each.collect::<Vec<_>>() }))
        }
    };
    json!({
        "specversion": "1.0",
        "id": id,
        "source": source,
        "type": kind,
        "subject": subject,
        "time": time,
        "datacontenttype": "application/json",
        "data": data,
    })
}

#[cfg(test)]
#[path = "telling_tests.rs"]
mod tests;
