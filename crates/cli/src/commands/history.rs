//! `kesmo history` and `kesmo flaky`: tests over their runs.

use kesmo_core::{
    name::{for_shell, shorten},
    record::flakiness::{Share, Trend},
    source::short_commit,
    time::Span,
};
use kesmo_wire::api::{FlakyEvidence, FlakyTest, FlakyTests, HistoryRun, PastEntry, TestHistory, entry_name};

use super::print_json;
use crate::{
    arguments::{Flaky, History},
    context::Context,
    failure::Failure,
    view::{self, Paint, bold, outcome_word, paint, safe::plain},
};

/// Runs that say how often it failed and when its time changed, whatever is listed of them.
const LOOKED_AT: u32 = 200;

/// The variant that is asked for, as written.
pub(super) fn variant_of(pairs: &[String]) -> Option<String> {
    (!pairs.is_empty()).then(|| pairs.iter().flat_map(|p| p.split(',')).map(str::trim).collect::<Vec<_>>().join(", "))
}

pub async fn history(options: &History, context: &Context) -> Result<(), Failure> {
    let mut query = vec![("test", options.test.clone()), ("limit", options.limit.max(LOOKED_AT).to_string())];
    query.extend(variant_of(&options.variant).map(|v| ("variant", v)));
    query.extend(options.branch.clone().map(|b| ("branch", b)));
    let mut found: TestHistory = context.client.get(&format!("/api/suites/{}/history", options.suite), &query).await?;
    let listed = options.limit as usize;
    if let Some(last) = found.runs.get(listed.saturating_sub(1)).filter(|_| found.runs.len() > listed) {
        found.before = last.run.rsplit_once('/').and_then(|(_, number)| number.parse().ok());
        found.runs.truncate(listed);
    }
    check(&found.suite, &found.test, &found.variants)?;
    if context.json {
        return print_json(&found);
    }
    print!("{}", history_text(&found));
    Ok(())
}

/// A test that no run had is likely misspelt.
fn check(suite: &str, test: &str, variants: &[String]) -> Result<(), Failure> {
    if variants.is_empty() {
        let text =
            format!("no run of {suite} that is over had a test {test:?}: names are listed by `kesmo tests {suite}`");
        return Err(Failure::call(text));
    }
    Ok(())
}

fn percent(share: &Share) -> String {
    format!(
        "{} of {} ({:.1}%, surely between {:.1}% and {:.1}%)",
        share.hits,
        share.of,
        100.0 * share.share(),
        100.0 * share.low,
        100.0 * share.high
    )
}

fn place(run: &HistoryRun) -> String {
    let commit = run.commit.as_ref().map(|c| format!(" at {}", short_commit(c))).unwrap_or_default();
    let author = run.author.as_ref().map(|a| format!(" by {}", plain(a))).unwrap_or_default();
    format!("{}{commit}{author}", run.run)
}

fn history_text(found: &TestHistory) -> String {
    let mut out = format!("{} of {}\n", bold(&plain(&entry_name(&found.test, &found.variant, 0))), found.suite);
    if found.runs.is_empty() {
        return out + "No run of it is over there.\n";
    }
    out += &format!("  failed {}\n  flaky  {}\n", percent(&found.failed), percent(&found.flaky));
    for park in &found.parks {
        out += &format!("  parked until {} by {}: {}\n", park.until, plain(&park.by), plain(&park.why));
    }
    if !found.spells.is_empty() {
        out += &format!("\n{}\n", bold("When it failed"));
        for spell in &found.spells {
            let runs = if spell.runs == 1 { "1 run".to_owned() } else { format!("{} runs", spell.runs) };
            let on = spell.branch.as_ref().map(|b| format!(" on {}", plain(b))).unwrap_or_default();
            let until = match &spell.mended {
                Some(mended) => format!("mended in {}", place(mended)),
                None => paint(Paint::Failed, "◆ not mended yet"),
            };
            out += &format!("  since {}, for {runs}{on}; {until}\n", place(&spell.from));
        }
    }
    if !found.shifts.is_empty() {
        out += &format!("\n{}\n", bold("When its time changed"));
        for shift in &found.shifts {
            let times = shift.after_us.max(1) as f64 / shift.before_us.max(1) as f64;
            let pool = if shift.pool == "main" { String::new() } else { format!(", pool {}", plain(&shift.pool)) };
            out += &format!(
                "  since {}: {} → {}, {times:.1} times ({} sure{pool})\n",
                place(&shift.at),
                Span(shift.before_us),
                Span(shift.after_us),
                sure(shift.sure)
            );
        }
    }
    out += &format!("\n{}\n", bold("Runs"));
    out += &view::table(
        &["run", "", "attempts", "took", "when", "where", "says"],
        found.runs.iter().map(past_row).collect(),
    );
    if let Some(before) = found.before {
        out += &paint(Paint::Dim, &format!("… older ones than {}/{before}: --limit\n", found.suite));
    }
    out
}

/// How sure something is, never rounded up to 100%.
fn sure(share: f64) -> String {
    format!("{}%", ((share * 1000.0).floor() / 10.0).min(99.9))
}

fn past_row(past: &PastEntry) -> Vec<String> {
    let at = past.commit.as_ref().map(|c| short_commit(c).to_owned());
    let pool = (past.pool != "main").then(|| format!("pool {}", past.pool));
    let places: Vec<String> = past.branch.iter().map(|b| plain(b)).chain(at).chain(pool).collect();
    vec![
        past.run.clone(),
        outcome_word(past.outcome),
        past.attempts.to_string(),
        past.spent_us.map_or_else(|| "–".to_owned(), |us| Span(us).to_string()),
        view::moment(past.created_at),
        places.join(" "),
        shorten(&plain(past.message.lines().next().unwrap_or_default()), 100),
    ]
}

pub async fn flaky(options: &Flaky, context: &Context) -> Result<(), Failure> {
    if let (Some(suite), Some(test)) = (&options.suite, &options.test) {
        let found = evidence(suite, test, variant_of(&options.variant), context).await?;
        if context.json {
            return print_json(&found);
        }
        print!("{}", evidence_text(&found));
        return Ok(());
    }
    let path = match &options.suite {
        Some(suite) => format!("/api/suites/{suite}/flaky"),
        None => "/api/flaky".to_owned(),
    };
    let found: FlakyTests = context.client.get(&path, &[]).await?;
    if context.json {
        return print_json(&found);
    }
    let Some(first) = found.tests.first() else {
        let of = options.suite.as_ref().map_or_else(|| "any suite".to_owned(), Clone::clone);
        println!("{} No test of {of} was flaky since {}.", paint(Paint::Passed, "●"), found.since);
        return Ok(());
    };
    print!("{}", flaky_table(&found.tests, options.suite.is_none()));
    println!("\nTheir retries took {} of slots' time. Surely flaky most often comes first.", Span(found.retried_us));
    println!("What it goes with: kesmo flaky {} {}", first.suite, for_shell(&first.test));
    Ok(())
}

/// What a test's failing goes with.
pub(super) async fn evidence(
    suite: &str,
    test: &str,
    variant: Option<String>,
    context: &Context,
) -> Result<FlakyEvidence, Failure> {
    let mut query = vec![("test", test.to_owned())];
    query.extend(variant.map(|v| ("variant", v)));
    let found: FlakyEvidence = context.client.get(&format!("/api/suites/{suite}/flaky/evidence"), &query).await?;
    check(suite, test, &found.variants)?;
    Ok(found)
}

fn flaky_table(tests: &[FlakyTest], with_suite: bool) -> String {
    let row = |test: &FlakyTest| {
        let trend = match test.trend {
            Trend::Grows => "grows",
            Trend::Fades => "fades",
            Trend::Steady => "",
        };
        vec![
            if with_suite { test.suite.clone() } else { String::new() },
            format!("{} {}", paint(Paint::Flaky, "◐"), plain(&entry_name(&test.test, &test.variant, 0))),
            format!("{} of {}", test.flaky.hits, test.flaky.of),
            format!("{:.0}–{:.0}%", 100.0 * test.flaky.low, 100.0 * test.flaky.high),
            trend.to_owned(),
            Span(test.retried_us).to_string(),
            test.last.clone(),
            shorten(&plain(test.message.lines().next().unwrap_or_default()), 100),
        ]
    };
    view::table(
        &["suite", "flaky", "runs", "surely", "", "retries took", "last in", "says"],
        tests.iter().map(row).collect(),
    )
}

fn evidence_text(found: &FlakyEvidence) -> String {
    let mut out = format!("{} of {}\n", bold(&plain(&found.test)), found.suite);
    out += &format!("  failed attempts: {}\n", percent(&found.attempts));
    if found.goes_with.is_empty() {
        return out
            + "  Its failing goes with nothing that was looked at: worker, load, order, time of day, variant, the test before it.\n";
    }
    out += &format!("\n{}\n", bold("Goes with"));
    let row = |one: &kesmo_core::record::flakiness::GoesWith| {
        vec![
            format!("  {}", one.what),
            plain(&one.value),
            format!("failed {} of {} times", one.with.hits, one.with.of),
            format!("otherwise {} of {}", one.without.hits, one.without.of),
            format!("{} sure", sure(1.0 - one.chance)),
        ]
    };
    out + &view::table(&["", "", "", "", ""], found.goes_with.iter().map(row).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::DateTime;
    use kesmo_core::{record::flakiness::GoesWith, words::Outcome};
    use kesmo_wire::api::{DurationShift, FailedSpell};

    fn run(number: u32) -> HistoryRun {
        HistoryRun {
            run: format!("boarding-gate/{number}"),
            created_at: DateTime::from_timestamp(1_800_000_000, 0).unwrap(),
            commit: Some("16de59121b7a0000".into()),
            author: Some("Asta\x1b[31m".into()),
        }
    }

    #[test]
    fn a_history_tells_when_it_failed_and_when_its_time_changed() {
        let past = PastEntry {
            run: "boarding-gate/42".into(),
            index: 3,
            created_at: run(42).created_at,
            branch: Some("main".into()),
            commit: run(42).commit,
            pool: "main".into(),
            outcome: Outcome::Failed,
            attempts: 3,
            spent_us: Some(1_200_000),
            message: "expected Closed\nand more".into(),
        };
        let found = TestHistory {
            suite: "boarding-gate".into(),
            test: "gate/late".into(),
            variant: "screen=phone".into(),
            variants: vec!["screen=phone".into()],
            runs: vec![past],
            before: Some(42),
            flaky: Share::of(0, 40),
            failed: Share::of(2, 40),
            spells: vec![FailedSpell {
                branch: Some("main".into()),
                from: run(30),
                runs: 2,
                mended: Some(run(32)),
                message: String::new(),
            }],
            shifts: vec![DurationShift {
                at: run(20),
                pool: "main".into(),
                before_us: 400_000,
                after_us: 1_200_000,
                sure: 0.99996,
            }],
            parks: Vec::new(),
        };
        insta::assert_snapshot!(history_text(&found));
    }

    #[test]
    fn what_failing_goes_with_is_told_with_its_evidence() {
        let mut found = FlakyEvidence {
            suite: "boarding-gate".into(),
            test: "gate/late".into(),
            variants: vec![String::new()],
            attempts: Share::of(10, 72),
            goes_with: vec![GoesWith {
                what: "worker".into(),
                value: "heron".into(),
                with: Share::of(9, 12),
                without: Share::of(1, 60),
                chance: 0.0004,
            }],
        };
        let said = evidence_text(&found);
        for wanted in ["10 of 72", "heron", "failed 9 of 12 times", "otherwise 1 of 60", "99.9% sure"] {
            assert!(said.contains(wanted), "{wanted} in {said}");
        }
        found.goes_with.clear();
        assert!(evidence_text(&found).contains("goes with nothing"));
    }

    #[test]
    fn nothing_is_ever_wholly_sure() {
        assert_eq!((sure(1.0).as_str(), sure(0.99).as_str(), sure(0.9999).as_str()), ("99.9%", "99%", "99.9%"));
        assert_eq!(
            variant_of(&["screen=phone".into(), "tongue=nn".into()]).as_deref(),
            Some("screen=phone, tongue=nn")
        );
        assert_eq!(variant_of(&[]), None);
    }
}
