//! A feed of runs that are over, in Atom (RFC 4287), for feed readers and chats.

use chrono::{DateTime, SecondsFormat, Utc};

use super::plain_xml;
use crate::words::Verdict;

/// A run that is over.
#[derive(Debug, Clone)]
pub struct FeedRun {
    /// `boarding-gate/42`
    pub name: String,
    pub verdict: Verdict,
    pub reason: String,
    pub at: DateTime<Utc>,
    pub by: String,
}

/// Writes it, with the newest run first. `id` names the feed for ever; `base` is the console's address, without a slash at its end.
#[must_use]
pub fn write(title: &str, id: &str, base: &str, runs: &[FeedRun], made: DateTime<Utc>) -> String {
    let moment = |at: DateTime<Utc>| at.to_rfc3339_opts(SecondsFormat::Secs, true);
    let updated = runs.iter().map(|run| run.at).max().unwrap_or(made);
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<feed xmlns=\"http://www.w3.org/2005/Atom\">\n  <title>{}</title>\n  <id>{}</id>\n  \
         <updated>{}</updated>\n  <author><name>Kesmo</name></author>\n",
        plain_xml(title),
        plain_xml(id),
        moment(updated)
    );
    for run in runs {
        let name = plain_xml(&run.name);
        text += &format!(
            "  <entry>\n    <title>{} {name} {}</title>\n    <id>{}:{name}</id>\n    <updated>{}</updated>\n    \
             <link href=\"{}/runs/{name}\"/>\n    <category term=\"{}\"/>\n    <author><name>{}</name></author>\n    <summary>{}</summary>\n  </entry>\n",
            run.verdict.glyph(),
            run.verdict,
            plain_xml(id),
            moment(run.at),
            plain_xml(base),
            run.verdict,
            plain_xml(&run.by),
            plain_xml(&run.reason),
        );
    }
    text + "</feed>\n"
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeZone;

    #[test]
    fn runs_are_told_the_newest_first_whatever_they_are_called() {
        let at = |day| Utc.with_ymd_and_hms(2026, 11, day, 3, 0, 0).single().expect("a moment");
        let run = |number: u32, verdict, reason: &str| FeedRun {
            name: format!("gate/{number}"),
            verdict,
            reason: reason.into(),
            at: at(number),
            by: "schedule nightly".into(),
        };
        let runs = [run(3, Verdict::Failed, "2 of 29 <b>tests</b> & more\u{0}"), run(2, Verdict::Passed, "all 29")];
        let text = write("gate", "urn:kesmo:1", "https://kesmo.quay.example", &runs, at(1));
        insta::assert_snapshot!(text);
        // As a feed reader reads it.
        let mut reader = quick_xml::Reader::from_str(&text);
        let mut entries = 0;
        loop {
            match reader.read_event().expect("well-formed XML") {
                quick_xml::events::Event::Start(tag) if tag.name().as_ref() == "entry" => entries += 1,
                quick_xml::events::Event::Eof => break,
                _ => {}
            }
        }
        assert_eq!(entries, 2);
        assert!(write("gate", "urn:kesmo:1", "", &[], at(1)).contains("<updated>2026-11-01T03:00:00Z"));
    }
}
