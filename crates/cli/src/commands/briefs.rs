//! `kesmo brief`.

use kesmo_core::plan::brief::{Brief as Settings, ThenIf};
use kesmo_wire::api::{BriefOf, NewBrief};

use super::{
    print_json,
    start::{changes, read_brief},
};
use crate::{
    arguments::{AddBrief, Brief},
    context::Context,
    failure::Failure,
    view::{self, Paint, paint},
};

pub async fn run(command: &Brief, context: &Context) -> Result<(), Failure> {
    match command {
        Brief::Add(options) => add(options, context).await,
        Brief::List => list(context).await,
        Brief::Show(options) => {
            let brief: BriefOf = context.client.get(&format!("/api/briefs/{}", options.name), &[]).await?;
            if options.toml {
                print!("{}", brief.toml);
                return Ok(());
            }
            if context.json {
                return print_json(&brief);
            }
            show(&brief);
            Ok(())
        }
        Brief::Remove(named) => {
            context.client.delete(&format!("/api/briefs/{}", named.name)).await?;
            println!("Brief {} is removed; its runs can still be read.", named.name);
            Ok(())
        }
    }
}

async fn add(options: &AddBrief, context: &Context) -> Result<(), Failure> {
    if options.running.not_passed_in.is_some() {
        return Err(Failure::call("--not-passed-in names one run: give it to `kesmo start --brief`"));
    }
    let base = options.from.as_deref().map_or_else(|| Ok(Settings::default()), read_brief)?;
    let mut brief = base.with(changes(&options.choosing, &options.running, &options.place)?);
    brief.suite = options.suite.clone().or(brief.suite);
    brief.then = options.then.clone().or(brief.then);
    brief.then_if = options.then_if.unwrap_or(brief.then_if);
    brief.replace_older |= options.replace_older;
    let new = NewBrief { name: options.name.clone(), brief, replace: options.replace };
    let saved: BriefOf = context.client.post("/api/briefs", &new).await?;
    if context.json {
        return print_json(&saved);
    }
    println!("Brief {} is saved.", saved.name);
    warn(&saved.warnings);
    println!("Start it: kesmo start --brief {} --wait", saved.name);
    Ok(())
}

/// Prints warnings to standard error.
pub fn warn(warnings: &[String]) {
    for warning in warnings {
        eprintln!("{} {warning}", paint(Paint::Flaky, "Note:"));
    }
}

async fn list(context: &Context) -> Result<(), Failure> {
    let briefs: Vec<BriefOf> = context.client.get("/api/briefs", &[]).await?;
    if context.json {
        return print_json(&briefs);
    }
    if briefs.is_empty() {
        println!("There is no brief yet. Save one: kesmo brief add NAME --suite SUITE");
        return Ok(());
    }
    let rows = briefs.iter().map(|b| {
        let suite = b.brief.suite.clone().unwrap_or_default();
        vec![b.name.clone(), suite, view::last_run(b.last_run.as_ref()), b.used_by.join(", ")]
    });
    print!("{}", view::table(&["brief", "suite", "last run", "started by"], rows.collect()));
    Ok(())
}

fn show(brief: &BriefOf) {
    println!("{}", view::bold(&brief.name));
    for line in brief.toml.trim_end().lines() {
        println!("  {line}");
    }
    println!();
    println!("saved    {} by {}", view::moment(brief.changed_at), brief.made_by);
    if !brief.used_by.is_empty() {
        println!("used by  {}", brief.used_by.join(", "));
    }
    if !brief.chain.is_empty() {
        let when = match brief.brief.then_if {
            ThenIf::Passed => "if it passed",
            ThenIf::Failed => "if it failed",
            ThenIf::Any => "whether it passed or not",
        };
        println!("chain    {} ({when})", brief.chain.join(" → "));
    }
    if let Some(run) = &brief.last_run {
        println!("last     {} {}", view::run_state(run), run.name);
    }
    warn(&brief.warnings);
}
