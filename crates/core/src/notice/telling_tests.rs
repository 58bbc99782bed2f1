use super::*;
use crate::{
    notice::{event::tests::run, known::KNOWN, rule::To},
    request::Method,
    time::Span,
};

fn failed() -> Event {
    let fact = |test: &str, message: &str| TestFact {
        test: test.into(),
        variant: "screen=phone".into(),
        message: message.into(),
    };
    let run = RunFacts {
        choice: "all tests".into(),
        brief: Some("nightly".into()),
        pool: "main".into(),
        started_by: "ada".into(),
        failed: 3,
        against: Some("boarding-gate/41".into()),
        newly_failing: Tests {
            total: 22,
            first: (0..20).map(|n| fact(&format!("gate/late/{n}"), "no answer <b>within</b> 3 s\nand more")).collect(),
        },
        mended: Tests { total: 1, first: vec![fact("gate/early", "")] },
        causes: vec![
            Cause { message: "no answer within 3 s".into(), tests: 2, first: vec!["gate/late/0".into()] },
            Cause { message: "=cmd()".into(), tests: 1, first: vec!["gate/late/9".into()] },
        ],
        link: "https://kesmo.quay.example/runs/boarding-gate/42".into(),
        ..run(Verdict::Failed)
    };
    Event {
        because: vec![When::Failed, When::NewlyFailing],
        at: DateTime::UNIX_EPOCH,
        happened: Happened::Ended(Box::new(run)),
    }
}

#[test]
fn a_message_says_what_is_new_and_why() {
    let one = message("red-nightly", &[failed()]);
    insta::assert_snapshot!("one", format!("{}\n\n{}", one.subject, one.text));
    let mut unexplained = failed();
    if let Happened::Ended(run) = &mut unexplained.happened {
        run.causes.clear();
    }
    let html = message("red-nightly", &[unexplained]).html;
    assert!(html.contains("no answer &lt;b&gt;within&lt;/b&gt; 3 s and more") && !html.contains("<b>"));
    let missed = Event {
        because: vec![When::ScheduleMissed],
        at: DateTime::UNIX_EPOCH,
        happened: Happened::ScheduleMissed(Missed {
            schedule: "nightly".into(),
            brief: None,
            suite: Some("fares".into()),
            planned: DateTime::UNIX_EPOCH,
            count: 3,
            what: "missed".into(),
            why: "no service was there".into(),
            link: String::new(),
        }),
    };
    let waits = RunFacts { verdict: None, ..run(Verdict::Failed) };
    let waits = Event {
        because: vec![When::NoWorker(Span::seconds(60))],
        at: DateTime::UNIX_EPOCH,
        happened: Happened::NoWorker(Box::new(waits), Span::seconds(61), "a worker in the pool main".into()),
    };
    let passed =
        Event { because: vec![When::Passed], happened: Happened::Ended(Box::new(run(Verdict::Passed))), ..failed() };
    let several = message("red-nightly", &[passed, missed, waits]);
    insta::assert_snapshot!("several", format!("{}\n\n{}", several.subject, several.text));
}

#[test]
fn nothing_that_a_test_says_ends_a_line_of_a_header_or_of_a_subject() {
    let mut event = failed();
    if let Happened::Ended(run) = &mut event.happened {
        run.verdict = Some(Verdict::Void);
        run.reason = "gone\r\nBcc: all@quay.example\u{1b}[31m".into();
    }
    let one = message("red-nightly", &[event.clone()]);
    assert_eq!(one.subject, "⊘ boarding-gate/42 is void: gone Bcc: all@quay.example [31m");
    let asked = Asked {
        method: Method::Post,
        address: "https://chat.quay.example/{branch}".into(),
        headers: BTreeMap::from([
            ("x-title".into(), "{title} {{as it is}}".into()),
            ("authorization".into(), "Bearer {secret}".into()),
        ]),
        body: Some(json!({ "says": "{reason}", "keep": 3 })),
    };
    let filled = described(&asked, "red-nightly", "d-1", &[event], "s3cret").expect("it can be said");
    assert_eq!(filled.address, "https://chat.quay.example/release%2F1187");
    let header = |name: &str| filled.headers.iter().find(|h| h.0 == name).map(|h| h.1.as_str());
    assert_eq!(header("x-title"), Some("boarding-gate/42 is void: gone Bcc: all@quay.example [31m {as it is}"));
    assert_eq!(header("authorization"), Some("Bearer s3cret"));
    let body: Value = serde_json::from_slice(&filled.body.unwrap_or_default()).expect("it is JSON");
    assert_eq!(body, json!({ "says": "gone\r\nBcc: all@quay.example\u{1b}[31m", "keep": 3 }));
}

#[test]
fn every_name_that_may_stand_in_a_request_stands_for_something() {
    let words = message("n", &[failed()]);
    let values = values("n", "d-1", &[failed()], &words);
    assert_eq!(values.keys().copied().collect::<std::collections::BTreeSet<_>>(), KNOWN.iter().copied().collect());
    let empty: Vec<_> = values.iter().filter(|(_, value)| value.is_empty()).map(|(name, _)| *name).collect();
    assert_eq!(empty, ["reason"], "a run that failed by its tests says no more");
}

#[test]
fn an_event_is_told_as_cloud_events_says() {
    let one = cloud_event("red-nightly", "d-1", "https://kesmo.quay.example", &[failed()], DateTime::UNIX_EPOCH);
    for (key, value) in
        [("specversion", "1.0"), ("id", "d-1"), ("type", "kesmo.run.ended"), ("subject", "boarding-gate/42")]
    {
        assert_eq!(one[key], value);
    }
    assert_eq!(
        (&one["data"]["verdict"], &one["data"]["failed"], &one["data"]["because"][1]),
        (&json!("failed"), &json!(3), &json!("newly-failing"))
    );
    assert_eq!(one["data"]["took_us"], 30_000_000);
    let headers = crate::webhook::Headers { content_type: "application/cloudevents+json".into(), ..Default::default() };
    assert!(
        crate::webhook::read_body(&headers, one.to_string().as_bytes()).is_ok(),
        "the service's own webhooks take it"
    );
    let two =
        cloud_event("red-nightly", "d-2", "https://kesmo.quay.example", &[failed(), failed()], DateTime::UNIX_EPOCH);
    assert_eq!((&two["type"], two["data"]["events"].as_array().map(Vec::len)), (&json!("kesmo.digest"), Some(2)));
}

#[test]
fn a_sample_is_told_of_every_condition() {
    for when in ["failed", "mended", "schedule-missed", "no-worker 1m", "forecast-over 2m"] {
        let notice = Notice {
            when: vec![when.parse().expect("it is one")],
            suites: Vec::new(),
            briefs: Vec::new(),
            branches: Vec::new(),
            labels: BTreeMap::new(),
            to: To::Mail(vec!["crew@quay.example".into()]),
            quiet: Vec::new(),
            digest: None,
            zone: None,
            every_time: false,
        };
        let said = message("n", &[Sample::of(&notice, DateTime::UNIX_EPOCH, "http://localhost")]);
        assert!(said.text.contains("sample"), "{when}: {}", said.text);
    }
}
