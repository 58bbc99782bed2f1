//! `kesmo show --label`: all runs with a label as one.

use kesmo_core::{
    name::shorten,
    words::{Outcome, Verdict},
};
use kesmo_wire::api::{Release, ReleaseSuite, ReleaseTest, entry_name};

use super::print_json;
use crate::{
    arguments::pairs,
    context::Context,
    failure::{Failure, VOID},
    view::{self, Paint, bold, outcome, paint, safe::plain, verdict_word},
};

/// Tests of each kind that are told.
const MOST_TOLD: usize = 20;

pub async fn show(labels: &[(String, String)], context: &Context) -> Result<u8, Failure> {
    let label: Vec<String> = pairs("--label", labels)?.iter().map(|(k, v)| format!("{k}={v}")).collect();
    let found: Release = context.client.get("/api/release", &[("label", label.join(","))]).await?;
    if context.json {
        print_json(&found)?;
    } else {
        print!("{}", text(&found));
    }
    // While a run of it goes on, nothing is true of the whole.
    Ok(found.verdict.map_or(VOID, |v| u8::try_from(v.exit_status()).unwrap_or(1)))
}

fn state(verdict: Option<Verdict>) -> String {
    verdict.map_or_else(|| paint(Paint::Running, "≈ not over"), verdict_word)
}

fn text(found: &Release) -> String {
    let mut out = format!("{}  {}\n\n", bold(&plain(&found.label)), state(found.verdict));
    let rows = found.suites.iter().flat_map(|suite| {
        let several = suite.variants.len() > 1;
        let mut rows = vec![row(suite)];
        if several {
            rows.extend(suite.variants.iter().map(|v| {
                let counts = [v.passed, v.flaky, v.failed, v.skipped, v.never_run];
                let mut cells = vec![format!("  {}", plain(&v.variant)), String::new()];
                cells.extend(counts.map(number));
                cells.extend([String::new(), String::new()]);
                cells
            }));
        }
        rows
    });
    let heads = ["suite", "", ">passed", ">flaky", ">failed", ">skipped", ">never run", "runs", "why"];
    out += &view::table(&heads, rows.collect());
    for suite in &found.suites {
        out += &list(&format!("Still failing in {}", suite.suite), &suite.failing, suite.failing_total);
    }
    for suite in &found.suites {
        out += &list(&format!("Never run of {}", suite.suite), &suite.never_run, suite.never_run_total);
    }
    if !found.without.is_empty() {
        out += &format!("\nNo run of it: {}\n", found.without.join(", "));
    }
    out
}

fn number(count: u32) -> String {
    if count == 0 { "–".to_owned() } else { count.to_string() }
}

fn row(suite: &ReleaseSuite) -> Vec<String> {
    let sum = |of: fn(&kesmo_wire::api::ReleaseVariant) -> u32| suite.variants.iter().map(of).sum::<u32>();
    let mut cells = vec![suite.suite.clone(), state(suite.verdict)];
    let never_run = suite.never_run_total;
    let counts = [sum(|v| v.passed), sum(|v| v.flaky), sum(|v| v.failed), sum(|v| v.skipped), never_run];
    cells.extend(counts.map(number));
    let numbers: Vec<String> = suite.runs.iter().take(6).map(|r| r.number.to_string()).collect();
    let more = if suite.runs.len() > 6 { " …" } else { "" };
    cells.extend([format!("{}{more}", numbers.join(" ")), shorten(&plain(&suite.reason), 80)]);
    cells
}

fn list(head: &str, tests: &[ReleaseTest], total: u32) -> String {
    if tests.is_empty() {
        return String::new();
    }
    let mut out = format!("\n{}\n", bold(&format!("{head} ({total})")));
    let row = |test: &ReleaseTest| {
        let glyph = outcome(test.outcome.unwrap_or(Outcome::NotRun));
        let message = shorten(&plain(test.message.lines().next().unwrap_or_default()), 100);
        vec![format!("  {glyph} {}", plain(&entry_name(&test.test, &test.variant, 0))), test.run.clone(), message]
    };
    out += &view::table(&["", "", ""], tests.iter().take(MOST_TOLD).map(row).collect());
    match total as usize - tests.len().min(MOST_TOLD) {
        0 => out,
        more => out + &format!("… and {more} more\n"),
    }
}
