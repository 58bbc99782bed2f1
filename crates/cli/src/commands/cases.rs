//! The cases of files: listed, and one with all that was told of it.

use kesmo_core::{name::shorten, time::Span};
use kesmo_wire::cases::{Case, CaseDetail, Cases};

use super::{print_json, run_path as path};
use crate::{
    arguments::{Log, Show},
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

/// Cases that are shown unless more are asked for.
const SHOWN: usize = 50;

async fn cases(context: &Context, run: &str, query: &[(&str, String)]) -> Result<Cases, Failure> {
    Ok(context.client.get(&format!("{}/cases", path(run)?), query).await?)
}

fn table(cases: &[Case]) -> String {
    let variants = cases.iter().any(|c| !c.variant.is_empty());
    let rows = cases.iter().map(|c| {
        let name = if c.repeat > 0 { format!("{} #{}", c.file, c.repeat) } else { c.file.clone() };
        let mut row = vec![view::outcome_word(c.outcome), shorten(&plain(&format!("{name}/{}", c.title)), 100)];
        if variants {
            row.push(c.variant.clone());
        }
        let decided = if c.attempts > 1 { format!("{} of {}", c.attempt, c.attempts) } else { "1".into() };
        let said = shorten(&plain(&c.message.replace('\n', " ")), 90);
        row.extend([decided, Span(c.spent_us).to_string(), said]);
        row
    });
    let mut heads = vec!["state", "case", ">attempt", ">took", "said"];
    if variants {
        heads.insert(2, "variant");
    }
    view::table(&heads, rows.collect())
}

/// The cases of a run.
pub async fn show(run: &str, options: &Show, context: &Context) -> Result<(), Failure> {
    let state = options.state.as_deref().filter(|s| *s != "all").unwrap_or_default();
    let name = options.name.clone().unwrap_or_default();
    let query = [("state", state.to_owned()), ("name", name), ("limit", "1000".to_owned())];
    let found = cases(context, run, &query).await?;
    if context.json {
        return print_json(&found);
    }
    if found.cases.is_empty() {
        let any = state.is_empty() && options.name.is_none();
        println!(
            "{}",
            if any { format!("The tests of {run} told of no cases.") } else { format!("No case of {run} is such.") }
        );
        return Ok(());
    }
    print!("{}", table(&found.cases));
    let more = found.total as usize - found.cases.len();
    if more > 0 {
        println!("… and {more} more: narrow them down with --state or --name");
    }
    Ok(())
}

/// The cases of a run that failed or were flaky, if there are any.
pub async fn in_trouble(run: &str, context: &Context) -> Result<(), Failure> {
    let query = [("state", "trouble".to_owned()), ("limit", SHOWN.to_string())];
    let found = cases(context, run, &query).await?;
    if found.cases.is_empty() {
        return Ok(());
    }
    println!();
    print!("{}", table(&found.cases));
    let more = found.total as usize - found.cases.len();
    if more > 0 {
        println!("… and {more} more: kesmo show {run} --cases --state trouble");
    }
    Ok(())
}

/// The cases of that name, `FILE/TITLE`, in these variants.
pub async fn find(context: &Context, run: &str, name: &str, variants: &[String]) -> Result<Vec<Case>, Failure> {
    let query = [("name", name.to_owned()), ("limit", "1000".to_owned())];
    let found = cases(context, run, &query).await?;
    let exact = |c: &Case| name.strip_prefix(c.file.as_str()).and_then(|rest| rest.strip_prefix('/')) == Some(&c.title);
    let in_variant = |c: &Case| variants.iter().all(|v| c.variant.split(", ").any(|pair| pair == v));
    Ok(found.cases.into_iter().filter(|c| exact(c) && in_variant(c)).collect())
}

/// Prints all that was told of some cases.
pub async fn log(found: &[Case], options: &Log, context: &Context) -> Result<(), Failure> {
    if options.follow {
        return Err(Failure::call("--follow shows what a file prints as it runs: give the file's name alone"));
    }
    for case in found {
        let at = format!("{}/entries/{}/case", path(&options.run)?, case.entry);
        let detail: CaseDetail = context.client.get(&at, &[("title", case.title.clone())]).await?;
        if context.json {
            print_json(&detail)?;
            continue;
        }
        let variant = if case.variant.is_empty() { String::new() } else { format!("  ({})", case.variant) };
        let name = view::bold(&plain(&format!("{}/{}", case.file, case.title)));
        println!("{name}{variant}  {}", view::outcome_word(case.outcome));
        for attempt in detail.history.iter().filter(|a| options.attempt.is_none_or(|n| n == a.number)) {
            let (ended, spent) = (view::ended_word(attempt.ended), Span(attempt.spent_us));
            println!("\n── attempt {} of its file: {ended} after {spent}", attempt.number);
            for line in attempt.message.lines().chain(attempt.detail.lines()) {
                println!("   {}", plain(line));
            }
        }
        println!("\nWhat its file printed: kesmo log {} {}\n", options.run, view::safe::word(&case.file));
    }
    Ok(())
}
