use super::*;

pub fn run(verdict: Verdict) -> RunFacts {
    RunFacts {
        suite: "boarding-gate".into(),
        run: "boarding-gate/42".into(),
        verdict: Some(verdict),
        branch: Some("release/1187".into()),
        commit: Some("ab".repeat(20)),
        labels: BTreeMap::from([("release".into(), "1187".into())]),
        took: Span::seconds(30),
        usual: Some(Span::seconds(14)),
        passed: 18,
        flaky: 1,
        failed: u32::from(verdict == Verdict::Failed),
        ..RunFacts::default()
    }
}

fn notice(text: &str) -> Notice {
    let read: Notice = serde_json::from_str(text).expect("it can be read");
    read.check().expect("it can be");
    read
}

fn met(happened: &Happened, when: &str, more: &str) -> Vec<String> {
    let notice = notice(&format!(r#"{{"when":[{when}],"to":{{"mail":["crew@quay.example"]}}{more}}}"#));
    happened.meets(&notice).iter().map(ToString::to_string).collect()
}

const ALL: &str = r#""failed","newly-failing","mended","passed","void","stopped","flaky-over 5%","slower-than 2x","schedule-missed","no-worker 1m","forecast-over 1m""#;

#[test]
fn a_run_that_is_over_meets_what_is_true_of_it() {
    let ended = |run: RunFacts| met(&Happened::Ended(Box::new(run)), ALL, "");
    assert_eq!(ended(run(Verdict::Passed)), ["passed", "flaky-over 5%", "slower-than 2x"]);
    assert_eq!(ended(run(Verdict::Failed)), ["failed", "slower-than 2x"], "one of twenty is not over 5 %");
    assert_eq!(ended(run(Verdict::Void)), ["void", "flaky-over 5%"]);
    assert_eq!(ended(RunFacts { flaky: 0, ..run(Verdict::Stopped) }), ["stopped"]);
    let changed = Tests { total: 1, first: Vec::new() };
    let both =
        RunFacts { newly_failing: changed.clone(), mended: changed, usual: None, flaky: 0, ..run(Verdict::Failed) };
    assert_eq!(ended(both), ["failed", "newly-failing", "mended"]);
    let usual = RunFacts { took: Span::seconds(28), flaky: 0, ..run(Verdict::Passed) };
    assert_eq!(ended(usual), ["passed"], "twice as long is not longer than twice");
    let nothing = RunFacts { passed: 0, flaky: 0, failed: 0, usual: Some(Span::ZERO), ..run(Verdict::Void) };
    assert_eq!(ended(nothing), ["void"]);
}

#[test]
fn only_what_was_asked_for_is_told() {
    let of = |more: &str| !met(&Happened::Ended(Box::new(run(Verdict::Failed))), r#""failed""#, more).is_empty();
    assert!(of(""));
    assert!(of(r#","suites":["boarding-*"],"branches":["main","release/*"],"labels":{"release":"11*"}"#));
    assert!(!of(r#","suites":["fares"]"#));
    assert!(!of(r#","branches":["main"]"#));
    assert!(!of(r#","labels":{"release":"1188"}"#));
    assert!(!of(r#","labels":{"crew":"*"}"#));
    assert!(!of(r#","briefs":["*"]"#), "no brief started it");
}

#[test]
fn a_commit_status_is_told_of_runs_with_a_commit_alone() {
    let status = notice(
        r#"{"when":["failed"],"to":{"commit-status":{"method":"POST","address":"https://git.quay.example/{commit}"}}}"#,
    );
    let of = |run: RunFacts| Happened::Ended(Box::new(run)).meets(&status).len();
    assert_eq!(of(run(Verdict::Failed)), 1);
    assert_eq!(of(RunFacts { commit: None, ..run(Verdict::Failed) }), 0);
}

#[test]
fn what_runs_wait_for_and_what_was_missed_meets_its_bound() {
    let waits = |seconds| {
        let run = RunFacts { verdict: None, ..run(Verdict::Failed) };
        met(&Happened::NoWorker(Box::new(run), Span::seconds(seconds), "a worker".into()), ALL, "")
    };
    assert!(waits(59).is_empty());
    assert_eq!(waits(60), ["no-worker 1m"]);
    let longer = Happened::ForecastOver(Box::new(run(Verdict::Failed)), Span::seconds(61));
    assert_eq!(met(&longer, ALL, ""), ["forecast-over 1m"]);
    let missed = Happened::ScheduleMissed(Missed {
        schedule: "nightly".into(),
        brief: Some("nightly".into()),
        suite: None,
        planned: DateTime::UNIX_EPOCH,
        count: 1,
        what: "missed".into(),
        why: "no service was there".into(),
        link: String::new(),
    });
    assert_eq!(met(&missed, ALL, ""), ["schedule-missed"]);
    assert_eq!(met(&missed, ALL, r#","briefs":["night*"]"#).len(), 1);
    assert!(met(&missed, ALL, r#","suites":["fares"]"#).is_empty());
}

#[test]
fn one_cause_is_told_once() {
    let cause = |message: &str| Cause { message: message.into(), tests: 1, first: Vec::new() };
    let event = |causes: &[&str], because: &[When]| Event {
        because: because.to_vec(),
        at: DateTime::UNIX_EPOCH,
        happened: Happened::Ended(Box::new(RunFacts {
            causes: causes.iter().map(|c| cause(c)).collect(),
            ..run(Verdict::Failed)
        })),
    };
    let rule = notice(r#"{"when":["failed","newly-failing"],"to":{"mail":["crew@quay.example"]}}"#);
    let first = event(&["no answer after 3 s"], &[When::Failed]);
    let told = first.happened.run().expect("it is of a run").cause_keys();
    assert_eq!(first.told_before(&rule, &BTreeSet::new()), None);
    // Another number is the same cause.
    let again = event(&["no answer after 31 s"], &[When::Failed]);
    assert!(again.told_before(&rule, &told).is_some_and(|why| why.contains("no answer after 31 s")));
    assert_eq!(event(&["no answer after 3 s", "wrong fare"], &[When::Failed]).told_before(&rule, &told), None);
    assert_eq!(event(&["no answer after 3 s"], &[When::Failed, When::NewlyFailing]).told_before(&rule, &told), None);
    let every = Notice { every_time: true, ..rule.clone() };
    assert_eq!(again.told_before(&every, &told), None);
    // A void run and a failed one are not the same, and one that passed has no cause.
    let void = RunFacts { reason: "no answer after 3 s".into(), ..run(Verdict::Void) };
    assert!(void.cause_keys().is_disjoint(&told) && !void.cause_keys().is_empty());
    assert!(run(Verdict::Passed).cause_keys().is_empty());
    assert_eq!(RunFacts { reason: "a process ended badly".into(), ..run(Verdict::Failed) }.cause_keys().len(), 1);
}
