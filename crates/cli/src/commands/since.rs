//! `kesmo since`: finds the commit that broke a test, looking at several commits at once.

use std::collections::BTreeMap;

use futures::future::join_all;
use kesmo_core::{
    run::since::{Found, Since as Search},
    source::short_commit,
    words::Outcome,
};
use kesmo_wire::api::{CommitOf, PastEntry, TestHistory};

use super::{
    history::variant_of,
    print_json,
    proving::{Repeated, one_variant, percent, repeat, slots_of},
};
use crate::{
    arguments::Since,
    context::Context,
    failure::Failure,
    view::{Paint, bold, paint, safe::plain},
};

/// Commits that are looked at at once at the most: each needs its files brought and listed.
const MOST_AT_ONCE: u32 = 16;
const NOTHING_FOUND: u8 = 10;

/// How often a test failed and passed at a commit, and the runs that say so.
#[derive(Debug, Default, Clone)]
struct Looked {
    failed: u32,
    passed: u32,
    runs: Vec<String>,
    /// Why it could not be told there.
    not: Option<String>,
}

/// What is looked for: in which variant, between which commits, and how often the test fails where it is not broken.
struct Question {
    variant: String,
    good: String,
    bad: String,
    flaky: f64,
}

pub async fn run(options: &Since, context: &Context) -> Result<u8, Failure> {
    let question = question(options, context).await?;
    let query = [("good", question.good.clone()), ("bad", question.bad.clone())];
    let commits: Vec<CommitOf> = context.client.get(&format!("/api/suites/{}/commits", options.suite), &query).await?;
    let after = commits.len().saturating_sub(1);
    if after == 0 {
        return Err(Failure::call(format!("there is no commit after {} up to {}", question.good, question.bad)));
    }
    let slots = slots_of(&options.pool, context).await?.min(MOST_AT_ONCE);
    let mut search = Search::new(commits.len(), question.flaky, options.fails.unwrap_or(1.0), options.sure);
    if !context.json {
        println!(
            "Looking for what broke {} of {}: {} after {}; at most {} times, {slots} at once.",
            plain(&options.test),
            options.suite,
            if after == 1 { "1 commit".to_owned() } else { format!("{after} commits") },
            short(&question.good),
            options.at_most
        );
    }
    let mut looked: BTreeMap<usize, Looked> = BTreeMap::new();
    let mut times = 0;
    loop {
        let left = options.at_most.saturating_sub(times);
        let places = search.next(slots.min(left.max(1)) as usize);
        if places.is_empty() || left == 0 {
            break;
        }
        // A commit that is to be looked at twice is, in one run.
        let mut counts: BTreeMap<usize, u32> = BTreeMap::new();
        places.iter().for_each(|place| *counts.entry(*place).or_default() += 1);
        times += places.len() as u32;
        let runs = counts.iter().map(|(place, count)| look(options, &question, &commits, *place, *count, context));
        for (place, (run, results, why)) in
            counts.keys().zip(join_all(runs).await.into_iter().collect::<Result<Vec<_>, _>>()?)
        {
            let entry = looked.entry(*place).or_default();
            if !run.is_empty() {
                entry.runs.push(run.clone());
            }
            if results.is_empty() {
                search.bar(*place);
                entry.not = Some(why);
            }
            for failed in results {
                search.tell(*place, failed);
                entry.failed += u32::from(failed);
                entry.passed += u32::from(!failed);
            }
            if !context.json {
                println!("{}", look_line(*place, entry, &commits, &run));
            }
        }
    }
    tell(options, &question, &search, &commits, &looked, times, context)
}

fn short(rev: &str) -> &str {
    if rev.len() >= 40 { short_commit(rev) } else { rev }
}

/// What is asked, from the options and from the test's history.
async fn question(options: &Since, context: &Context) -> Result<Question, Failure> {
    let mut query = vec![("test", options.test.clone()), ("limit", "1000".to_owned())];
    query.extend(variant_of(&options.variant).map(|v| ("variant", v)));
    query.extend(options.branch.clone().map(|b| ("branch", b)));
    let path = format!("/api/suites/{}/history", options.suite);
    let history: TestHistory = context.client.get(&path, &query).await?;
    let known = !history.variants.is_empty();
    let variant = if known {
        history.variant.clone()
    } else {
        one_variant(&options.test, &[variant_of(&options.variant).unwrap_or_default()])?
    };
    let (before, first) = began(&history.runs);
    let needed = |what: &str, why: &str| Failure::call(format!("{why}: say so with --{what} REV"));
    let commit = |past: Option<&PastEntry>| past.and_then(|past| past.commit.clone());
    let bad = match &options.bad {
        Some(bad) => bad.clone(),
        None => commit(first).ok_or_else(|| needed("bad", "no run of a known commit says where it began to fail"))?,
    };
    let good = match &options.good {
        Some(good) => good.clone(),
        None => commit(before).ok_or_else(|| needed("good", "no run of a known commit says where it did not fail"))?,
    };
    let flaky = options.flaky.unwrap_or_else(|| {
        let told = history.runs.iter().filter(|r| matches!(r.outcome, Outcome::Passed | Outcome::Flaky));
        let (mut failed, mut all) = (0, 0);
        for past in told {
            failed += past.attempts.saturating_sub(1);
            all += past.attempts;
        }
        f64::from(failed) / f64::from(all.max(1))
    });
    Ok(Question { variant, good, bad, flaky })
}

/// The last run before a test began to fail, and the first in which it did: those of its latest failing, newest first given.
fn began(runs: &[PastEntry]) -> (Option<&PastEntry>, Option<&PastEntry>) {
    let told = |past: &&PastEntry| {
        past.commit.is_some() && !matches!(past.outcome, Outcome::NotRun | Outcome::Parked | Outcome::Skipped)
    };
    let mut latest = runs.iter().filter(told).skip_while(|past| past.outcome != Outcome::Failed);
    let mut first = None;
    for past in latest.by_ref() {
        if past.outcome != Outcome::Failed {
            return (Some(past), first);
        }
        first = Some(past);
    }
    (None, first)
}

/// Runs the test at a place: the run, whether it failed each time, and why nothing was told where nothing was.
async fn look(
    options: &Since,
    question: &Question,
    commits: &[CommitOf],
    place: usize,
    count: u32,
    context: &Context,
) -> Result<(String, Vec<bool>, String), Failure> {
    let of = Repeated {
        suite: &options.suite,
        test: &options.test,
        variant: &question.variant,
        pool: &options.pool,
        branch: None,
        commit: Some(commits[place].commit.clone()),
        because: format!("to find what broke {}", options.test),
        label: format!("since-{}", options.suite),
    };
    match repeat(&of, count, context).await {
        Ok(told) => Ok(told),
        // Its suite file may be wrong at that commit: that is no answer, but not the end either.
        Err(e) if e.status == crate::failure::WRONG_CALL => Ok((String::new(), Vec::new(), e.message)),
        Err(e) => Err(e),
    }
}

fn look_line(place: usize, looked: &Looked, commits: &[CommitOf], run: &str) -> String {
    let name = short_commit(&commits[place].commit);
    let said = match &looked.not {
        Some(why) => paint(Paint::Dim, &format!("nothing can be told there: {}", plain(why))),
        None if looked.failed == 0 => paint(Paint::Passed, &format!("● passed {} of {}", looked.passed, looked.passed)),
        None => paint(Paint::Failed, &format!("◆ failed {} of {}", looked.failed, looked.failed + looked.passed)),
    };
    let run = if run.is_empty() { String::new() } else { format!("  ({run})") };
    format!("  {place:>4}  {name}  {said}{run}")
}

/// Tells what was found, with its evidence.
fn tell(
    options: &Since,
    question: &Question,
    search: &Search,
    commits: &[CommitOf],
    looked: &BTreeMap<usize, Looked>,
    times: u32,
    context: &Context,
) -> Result<u8, Failure> {
    let found = search.found();
    let status = if matches!(found, Some(Found::Commit { .. })) { 0 } else { NOTHING_FOUND };
    if context.json {
        let places: Vec<_> = looked
            .iter()
            .map(|(place, l)| {
                let commit = &commits[*place].commit;
                serde_json::json!({ "commit": commit, "failed": l.failed, "passed": l.passed, "runs": l.runs, "not": l.not })
            })
            .collect();
        let (kind, between, sure) = match found {
            Some(Found::Commit { first, last, sure }) => ("commit", &commits[first..=last], Some(sure)),
            Some(Found::FailsBefore(sure)) => ("fails-before", &commits[..0], Some(sure)),
            Some(Found::DoesNotFail(sure)) => ("does-not-fail", &commits[..0], Some(sure)),
            None => ("nothing", &commits[..0], None),
        };
        print_json(&serde_json::json!({
            "suite": options.suite, "test": options.test, "found": kind, "commits": between, "sure": sure, "times": times, "looked": places,
        }))?;
        return Ok(status);
    }
    println!();
    let surely = |sure: f64| percent((sure * 1000.0).floor() / 1000.0);
    match found {
        Some(Found::Commit { first, last, sure }) if first == last => {
            let commit = &commits[first];
            println!("{} broke {} ({} sure)", bold(&commit.commit), plain(&options.test), surely(sure));
            println!("  {} by {}, {}", plain(&commit.subject), plain(&commit.author), commit.at);
        }
        Some(Found::Commit { first, last, sure }) => {
            println!(
                "One of {} commits broke {} ({} sure), at which nothing can be told:",
                last + 1 - first,
                plain(&options.test),
                surely(sure)
            );
            for commit in &commits[first..=last] {
                println!("  {}  {} by {}", short_commit(&commit.commit), plain(&commit.subject), plain(&commit.author));
            }
        }
        Some(Found::FailsBefore(sure)) => println!(
            "{} fails at {} already ({} sure): give an older commit with --good",
            bold(&plain(&options.test)),
            short(&question.good),
            surely(sure)
        ),
        Some(Found::DoesNotFail(sure)) => println!(
            "{} does not fail at {} ({} sure): if it fails only now and then, say how often with --fails 30%",
            bold(&plain(&options.test)),
            short(&question.bad),
            surely(sure)
        ),
        None => {
            println!("Nothing is sure after {times} times: --at-most {}", u64::from(options.at_most) * 2);
            if let Found::Commit { first, last, sure } = search.likeliest() {
                let said = if first == last {
                    short_commit(&commits[first].commit).to_owned()
                } else {
                    format!("one of {} commits", last + 1 - first)
                };
                println!("  likeliest is {said} ({})", surely(sure));
            }
        }
    }
    if let Some(Found::Commit { first, last, .. }) = found {
        for (place, one) in looked.range(first.saturating_sub(1)..=last) {
            println!("{}", look_line(*place, one, commits, &one.runs.join(", ")));
        }
    }
    println!("  it was run {times} times: kesmo runs --label hunt=since-{}", options.suite);
    Ok(status)
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::DateTime;

    fn past(number: u32, outcome: Outcome, commit: Option<&str>) -> PastEntry {
        PastEntry {
            run: format!("notices/{number}"),
            index: 0,
            created_at: DateTime::UNIX_EPOCH,
            branch: None,
            commit: commit.map(str::to_owned),
            pool: "main".into(),
            outcome,
            attempts: 1,
            spent_us: None,
            message: String::new(),
        }
    }

    #[test]
    fn where_it_began_to_fail_is_read_from_its_history() {
        use Outcome::{Failed, NotRun, Passed};
        let runs = [
            past(9, Passed, None),
            past(8, NotRun, Some("h")),
            past(7, Failed, Some("g")),
            past(6, Failed, Some("f")),
            past(5, Failed, None),
            past(4, Passed, Some("d")),
            past(3, Failed, Some("c")),
        ];
        let (before, first) = began(&runs);
        assert_eq!(before.and_then(|p| p.commit.as_deref()), Some("d"));
        assert_eq!(first.and_then(|p| p.commit.as_deref()), Some("f"));
        let (before, first) = began(&runs[6..]);
        assert!(before.is_none() && first.is_some());
        assert_eq!(began(&runs[..1]).1.map(|p| p.run.as_str()), None);
    }
}
