//! `kesmo usage`: what runs took of slots.

use kesmo_core::time::Span;
use kesmo_wire::api::{Usage as Found, UsageRow};

use super::print_json;
use crate::{
    arguments::Usage,
    context::Context,
    failure::Failure,
    view::{self, bold, safe::plain},
};

pub async fn run(options: &Usage, context: &Context) -> Result<(), Failure> {
    let mut query = vec![("by", options.by.clone())];
    query.extend(options.suite.clone().map(|suite| ("suite", suite)));
    query.extend(options.from.clone().map(|day| ("from", day)));
    query.extend(options.until.clone().map(|day| ("until", day)));
    if options.csv {
        print!("{}", context.client.get_text("/api/usage.csv", &query).await?);
        return Ok(());
    }
    let found: Found = context.client.get("/api/usage", &query).await?;
    if context.json {
        return print_json(&found);
    }
    print!("{}", text(&found));
    Ok(())
}

fn text(found: &Found) -> String {
    if found.rows.is_empty() {
        return format!("No run that is over was made from {} until {}.\n", found.from, found.until);
    }
    let mut rows: Vec<Vec<String>> = found.rows.iter().map(|row| cells(&plain(&row.key), row)).collect();
    rows.push(cells("all", &found.total));
    let heads = [found.by.as_str(), ">runs", ">in tests", ">of it retries", ">idle", ">waited"];
    let days = format!("{} until {}", found.from, found.until);
    format!("{}\n{}", bold(&format!("What runs took of slots, {days}")), view::table(&heads, rows))
}

fn cells(key: &str, row: &UsageRow) -> Vec<String> {
    let key = if key.is_empty() { "none" } else { key };
    let times = [row.tests_us, row.retried_us, row.idle_us, row.waited_us].map(|us| Span(us).to_string());
    [key.to_owned(), row.runs.to_string()].into_iter().chain(times).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::NaiveDate;

    #[test]
    fn sums_are_told_with_all_of_them_at_the_end() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).expect("a day");
        let row = |key: &str, tests_us| UsageRow {
            key: key.into(),
            runs: 2,
            tests_us,
            retried_us: 1,
            idle_us: 2,
            waited_us: 3,
        };
        let mut found = Found {
            by: "brief".into(),
            from: day(1),
            until: day(30),
            rows: vec![row("nightly", 90_000_000), row("", 5_000_000)],
            total: row("", 95_000_000),
        };
        let said = text(&found);
        for wanted in ["brief", "nightly", "1 m 30 s", "none", "all", "1 m 35 s", "2026-11-01 until 2026-11-30"] {
            assert!(said.contains(wanted), "{wanted} in {said}");
        }
        found.rows.clear();
        assert!(text(&found).contains("No run"));
    }
}
