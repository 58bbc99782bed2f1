//! `kesmo measures`.

use kesmo_core::{
    measure::limit::{said, with_unit},
    name::did_you_mean,
};
use kesmo_wire::api::{MeasureNow, MeasureOf, MeasureOfSuite, MeasuresOf};

use super::{print_json, run_path as path};
use crate::{
    arguments::Measures,
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

/// Points of a measure over time that are told.
const MOST_POINTS: usize = 20;

pub async fn run(options: &Measures, context: &Context) -> Result<(), Failure> {
    match options.of.contains('/') {
        true => one_run(options, context).await,
        false => one_suite(options, context).await,
    }
}

/// What a run measured, as lines tell it.
pub async fn of_run(name: &str, context: &Context) -> Result<Vec<MeasureNow>, Failure> {
    let found: MeasuresOf = context.client.get(&format!("{}/measures", path(name)?), &[]).await?;
    Ok(found.measures.iter().map(MeasureNow::from).collect())
}

/// Those that were asked for.
fn chosen<T>(all: Vec<T>, name: Option<&str>, name_of: impl Fn(&T) -> &str) -> Result<Vec<T>, Failure> {
    let Some(name) = name else { return Ok(all) };
    let hint = did_you_mean(name, all.iter().map(&name_of));
    let found: Vec<T> = all.into_iter().filter(|m| name_of(m) == name).collect();
    if found.is_empty() { Err(Failure::call(format!("there is no measure named {name:?}{hint}"))) } else { Ok(found) }
}

async fn one_run(options: &Measures, context: &Context) -> Result<(), Failure> {
    let mut found: MeasuresOf = context.client.get(&format!("{}/measures", path(&options.of)?), &[]).await?;
    found.measures = chosen(found.measures, options.measure.as_deref(), |m| m.name.as_str())?;
    if context.json {
        return print_json(&found);
    }
    if found.measures.is_empty() {
        println!(
            "{} measured nothing. A test does with event lines: {{\"test\":…,\"event\":\"measure\",\"name\":\"ticket_scan\",\"value\":12.4,\"unit\":\"ms\"}}",
            options.of
        );
        return Ok(());
    }
    let rows = found.measures.iter().map(|m| {
        let value = |value: f64| if m.count == 0 { String::new() } else { said(value) };
        vec![
            plain(&m.name),
            plain(&m.unit),
            said(m.count as f64),
            with_unit(m.rate, "/s"),
            value(m.mean),
            value(m.min),
            value(m.p50),
            value(m.p95),
            value(m.p99),
            value(m.max),
            said(m.errors as f64),
        ]
    });
    let heads = ["measure", "unit", ">count", ">rate", ">mean", ">min", ">p50", ">p95", ">p99", ">max", ">errors"];
    print!("{}", view::table(&heads, rows.collect()));
    if let [one] = found.measures.as_slice() {
        over_time(one);
    }
    Ok(())
}

/// How one measure went over time; several points as one where there are many.
fn over_time(measure: &MeasureOf) {
    let each = measure.points.len().div_ceil(MOST_POINTS).max(1);
    let rows = measure.points.chunks(each).map(|points| {
        let (count, errors): (u64, u64) = points.iter().fold((0, 0), |sum, p| (sum.0 + p.count, sum.1 + p.errors));
        let seconds = points.last().map_or(1, |last| last.at - points[0].at + measure.step);
        let mean = points.iter().map(|p| p.mean * p.count as f64).sum::<f64>() / count.max(1) as f64;
        let highest = |of: fn(&kesmo_wire::api::MeasurePoint) -> f64| points.iter().map(of).fold(0.0, f64::max);
        vec![
            format!("{} s", points[0].at),
            with_unit(count as f64 / seconds as f64, "/s"),
            said(mean),
            said(highest(|p| p.p95)),
            said(highest(|p| p.max)),
            said(errors as f64),
        ]
    });
    println!();
    print!("{}", view::table(&[">from", ">rate", ">mean", ">p95", ">max", ">errors"], rows.collect()));
}

async fn one_suite(options: &Measures, context: &Context) -> Result<(), Failure> {
    let found: Vec<MeasureOfSuite> = context.client.get(&format!("/api/suites/{}/measures", options.of), &[]).await?;
    let found = chosen(found, options.measure.as_deref(), |m| m.name.as_str())?;
    if context.json {
        return print_json(&found);
    }
    if found.is_empty() {
        println!("No run of {} measured anything.", options.of);
        return Ok(());
    }
    for (number, measure) in found.iter().enumerate() {
        if number > 0 {
            println!();
        }
        let unit = if measure.unit.is_empty() { String::new() } else { format!(" in {}", plain(&measure.unit)) };
        println!("{}{unit}, in runs of {}", view::bold(&plain(&measure.name)), measure.choice);
        let rows = measure.runs.iter().map(|run| {
            let verdict = run.verdict.map(view::verdict_word).unwrap_or_default();
            vec![
                run.run.clone(),
                verdict,
                view::moment(run.at),
                said(run.count as f64),
                with_unit(run.rate, "/s"),
                said(run.mean),
                said(run.p50),
                said(run.p95),
                said(run.max),
                said(run.errors as f64),
            ]
        });
        let heads = ["run", "verdict", "ended", ">count", ">rate", ">mean", ">p50", ">p95", ">max", ">errors"];
        print!("{}", view::table(&heads, rows.collect()));
    }
    Ok(())
}
