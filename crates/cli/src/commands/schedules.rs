//! `kesmo schedule`.

use std::io::{BufRead, IsTerminal, Write};

use kesmo_core::{
    calendar::schedule::{Times, What},
    name::shorten,
};
use kesmo_wire::api::{NewSchedule, Pause, PlannedStart, Run, ScheduleOf, SchedulePreview};

use super::{
    briefs::warn,
    print_json,
    start::{changes, started},
};
use crate::{
    arguments::{AddSchedule, Schedule},
    context::Context,
    failure::Failure,
    view::{self, Paint, paint},
};

pub async fn run(command: &Schedule, context: &Context) -> Result<u8, Failure> {
    match command {
        Schedule::Add(options) => add(options, context).await?,
        Schedule::Look(options) => {
            let preview = preview(&new_schedule(options)?, context).await?;
            if context.json {
                print_json(&preview)?;
            } else {
                print_preview(&preview);
            }
        }
        Schedule::List => list(context).await?,
        Schedule::Show(named) => {
            let schedule: ScheduleOf = context.client.get(&format!("/api/schedules/{}", named.name), &[]).await?;
            if context.json {
                print_json(&schedule)?;
            } else {
                show(&schedule);
            }
        }
        Schedule::Pause(named) => pause(&named.name, true, context).await?,
        Schedule::Resume(named) => pause(&named.name, false, context).await?,
        Schedule::Now(options) => {
            let path = format!("/api/schedules/{}/now", options.name);
            let reports = options.staying.reports()?;
            let run: Run = context.client.post(&path, &serde_json::json!({})).await?;
            return started(&run, &options.staying, &reports, context).await;
        }
        Schedule::Remove(named) => {
            context.client.delete(&format!("/api/schedules/{}", named.name)).await?;
            println!("Schedule {} is removed; its runs can still be read.", named.name);
        }
    }
    Ok(0)
}

fn new_schedule(options: &AddSchedule) -> Result<NewSchedule, Failure> {
    if options.running.not_passed_in.is_some() {
        return Err(Failure::call("--not-passed-in names one run, and a schedule starts many"));
    }
    let times = Times {
        cron: options.cron.clone(),
        zone: options.zone.clone(),
        at: options.at.clone(),
        after_every: options.after_every.clone(),
        if_busy: options.if_busy,
        if_missed: options.if_missed,
        spread: options.spread.clone(),
        until: options.until.clone(),
    };
    Ok(NewSchedule {
        name: options.name.clone(),
        brief: options.brief.clone(),
        suite: options.suite.clone(),
        times,
        changes: changes(&options.choosing, &options.running, &options.place)?,
        replace: options.replace,
    })
}

async fn preview(new: &NewSchedule, context: &Context) -> Result<SchedulePreview, Failure> {
    Ok(context.client.post("/api/schedules/preview", new).await?)
}

fn print_preview(preview: &SchedulePreview) {
    println!("{}", view::bold(&view::capital(&preview.said)));
    let head = if preview.next.len() == 1 { "The next start:" } else { "The next starts:" };
    println!("{head}");
    for said in &preview.next_said {
        println!("  {said}");
    }
    warn(&preview.warnings);
}

async fn add(options: &AddSchedule, context: &Context) -> Result<(), Failure> {
    let new = new_schedule(options)?;
    if !context.json {
        print_preview(&preview(&new, context).await?);
        let asks = std::io::stdin().is_terminal() && std::io::stdout().is_terminal() && !options.yes;
        if asks && !agreed()? {
            println!("Nothing was saved.");
            return Ok(());
        }
    }
    let saved: ScheduleOf = context.client.post("/api/schedules", &new).await?;
    if context.json {
        return print_json(&saved);
    }
    println!("Schedule {} is saved. See what becomes of it: kesmo schedule show {}", saved.name, saved.name);
    Ok(())
}

fn agreed() -> Result<bool, Failure> {
    print!("Save it? [Y/n] ");
    std::io::stdout().flush().map_err(|e| Failure::trouble(e.to_string()))?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).map_err(|e| Failure::trouble(e.to_string()))?;
    Ok(matches!(line.trim().to_lowercase().as_str(), "" | "y" | "yes"))
}

async fn list(context: &Context) -> Result<(), Failure> {
    let schedules: Vec<ScheduleOf> = context.client.get("/api/schedules", &[]).await?;
    if context.json {
        return print_json(&schedules);
    }
    if schedules.is_empty() {
        println!("There is no schedule yet. Make one: kesmo schedule add NAME --cron \"15 2 * * 1-5\" --brief BRIEF");
        return Ok(());
    }
    let rows = schedules.iter().map(|s| {
        let last = view::last_run(s.last_run.as_ref());
        let next = match (&s.next_said, s.paused) {
            (_, true) => paint(Paint::Parked, "paused"),
            (Some(next), false) => next.clone(),
            (None, false) => "–".into(),
        };
        let starts = s.brief.clone().or_else(|| s.suite.clone()).unwrap_or_default();
        // What does not fit beside the rest is told by `show`.
        let room = view::width().saturating_sub(92).max(24);
        vec![s.name.clone(), starts, shorten(&s.said, room), next, last]
    });
    print!("{}", view::table(&["schedule", "starts", "when", "next", "last run"], rows.collect()));
    Ok(())
}

fn show(schedule: &ScheduleOf) {
    println!("{}  {}", view::bold(&schedule.name), schedule.said);
    match (&schedule.brief, &schedule.suite) {
        (Some(brief), _) => println!("starts   the brief {brief}"),
        (None, Some(suite)) => println!("starts   the suite {suite}"),
        (None, None) => {}
    }
    let next = match (&schedule.next_said, schedule.paused) {
        (_, true) => format!("paused; go on with: kesmo schedule resume {}", schedule.name),
        (Some(next), false) => next.clone(),
        (None, false) if schedule.times.after_every.is_some() => "after the run that goes now".into(),
        (None, false) => "nothing more".into(),
    };
    println!("next     {next}");
    println!("rules    if busy: {}; if missed: {}", schedule.times.if_busy.word(), schedule.times.if_missed.word());
    println!("made     {} by {}", view::moment(schedule.made_at), schedule.made_by);
    if schedule.planned.is_empty() {
        println!("\nNo start was due yet.");
        return;
    }
    println!();
    let rows = schedule.planned.iter().map(planned_row);
    print!("{}", view::table(&["planned", "what", "run", "why"], rows.collect()));
}

fn planned_row(start: &PlannedStart) -> Vec<String> {
    let (glyph, colour) = match start.what {
        What::Start => ("≈", Paint::Running),
        What::Wait => ("–", Paint::Dim),
        What::Skip => ("▽", Paint::Skipped),
        What::Missed => ("◌", Paint::NotRun),
        What::Refused => ("⊘", Paint::Void),
    };
    let what = format!("{glyph} {}", start.what.word());
    let what = if start.count > 1 { format!("{what} ({} starts)", start.count) } else { what };
    let run = match (&start.run, start.verdict) {
        (Some(run), Some(verdict)) => format!("{} {run}", view::verdict_word(verdict)),
        (Some(run), None) => run.clone(),
        (None, _) => String::new(),
    };
    vec![start.planned_said.clone(), paint(colour, &what), run, start.why.clone()]
}

async fn pause(name: &str, paused: bool, context: &Context) -> Result<(), Failure> {
    let schedule: ScheduleOf = context.client.post(&format!("/api/schedules/{name}/pause"), &Pause { paused }).await?;
    if context.json {
        return print_json(&schedule);
    }
    match (paused, schedule.next_said) {
        (true, _) => println!("Schedule {name} is paused: nothing starts until `kesmo schedule resume {name}`."),
        (false, next) => println!("Schedule {name} goes on; next: {}", next.unwrap_or_else(|| "nothing".into())),
    }
    Ok(())
}
