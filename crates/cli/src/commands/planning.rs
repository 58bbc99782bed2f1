//! `kesmo forecast`, `portion`, `park`, `unpark` and `parked`.

use kesmo_core::{plan::portion::Portion, time::Span};
use kesmo_wire::api::{
    Forecast as ForecastView, ForecastQuery, NewPark, Park as ParkView, Parked as ParkedView, PortionOf as PortionView,
    PortionQuery,
};

use super::{
    folders::{not_known, suite_and_bundle},
    print_json,
};
use crate::{
    arguments::{Forecast, Park, Parked, PortionOf, Unpark},
    context::Context,
    failure::Failure,
    view::{self, Paint, bold, paint},
};

/// Reads `8`, `1..32` or `1,2,4,8`.
fn numbers(text: &str) -> Result<Vec<u32>, Failure> {
    let wrong = || Failure::call(format!("--shards {text:?} cannot be read: write 8, 1..32 or 1,2,4,8"));
    let number = |text: &str| text.trim().parse::<u32>().ok().filter(|n| *n > 0).ok_or_else(wrong);
    match text.split_once("..") {
        Some((from, to)) => {
            let (from, to) = (number(from)?, number(to)?);
            if from > to || to - from >= 64 {
                return Err(Failure::call(format!("--shards {text}: give at most 64 numbers, the smaller first")));
            }
            Ok((from..=to).collect())
        }
        None => text.split(',').map(number).collect(),
    }
}

pub async fn forecast(options: &Forecast, context: &Context) -> Result<(), Failure> {
    let shards = numbers(&options.shards)?;
    let (suite, bundle) = suite_and_bundle(&options.suite, context).await?;
    let query = ForecastQuery { bundle, pool: options.pool.clone(), options: options.choosing.options()?, shards };
    let made: ForecastView = context
        .client
        .post(&format!("/api/suites/{suite}/forecast"), &query)
        .await
        .map_err(|e| not_known(e, &options.suite))?;
    if context.json {
        return print_json(&made);
    }
    print!("{}", forecast_text(&made, view::width().min(110)));
    Ok(())
}

fn forecast_text(made: &ForecastView, width: usize) -> String {
    let mut out = format!(
        "{}  {}: {} of work, starting a process costs {}\n\n",
        bold(&made.suite),
        made.choice,
        Span(made.work_us),
        Span(made.start_cost_us)
    );
    let longest = made.points.iter().map(|p| p.time_us).max().unwrap_or(1).max(1);
    let room = width.saturating_sub(54).clamp(8, 48);
    let rows = made.points.iter().map(|p| {
        let cells = (p.time_us as f64 / longest as f64 * room as f64).round().max(1.0) as usize;
        let enough = made.enough.is_some_and(|n| p.shards >= n);
        let bar = paint(if enough { Paint::Dim } else { Paint::Running }, &"█".repeat(cells));
        let mark = if made.enough == Some(p.shards) { " ◂ enough" } else { "" };
        vec![
            p.shards.to_string(),
            Span(p.time_us).to_string(),
            format!("{} to {}", Span(p.low_us), Span(p.high_us)),
            format!("{:.2}", p.slot_minutes),
            format!("{bar}{mark}"),
        ]
    });
    out += &view::table(&[">shards", ">time", "range", ">slot-minutes", "  "], rows.collect());
    out.push('\n');
    match made.enough {
        Some(n) => out += &format!("From {n} on more shards stop helping.\n"),
        None if made.points.len() > 1 => out += "More shards would still help.\n",
        None => {}
    }
    out += &format!("No number of shards goes below {}: {}.\n", Span(made.floor_us), made.floor);
    if made.guessed > 0 {
        out += &format!("{} of {} tests were never measured; what they take is a guess.\n", made.guessed, made.tests);
    }
    let word = if made.slots == 1 { "slot" } else { "slots" };
    out + &format!("The pool has {} {word} now.\n", made.slots)
}

pub async fn portion(options: &PortionOf, context: &Context) -> Result<(), Failure> {
    let Portion { number, of } = Portion::parse(&options.portion)?;
    let (suite, bundle) = suite_and_bundle(&options.suite, context).await?;
    let query = PortionQuery {
        bundle,
        pool: options.pool.clone(),
        options: options.choosing.options()?,
        of,
        number,
        stamp: options.stamp,
        key: options.key.clone(),
    };
    let found: PortionView = context
        .client
        .post(&format!("/api/suites/{suite}/portion"), &query)
        .await
        .map_err(|e| not_known(e, &options.suite))?;
    if context.json {
        return print_json(&found);
    }
    for name in &found.tests {
        println!("{name}");
    }
    let own = Span(found.expected_us.get(number as usize - 1).copied().unwrap_or(0));
    let longest = Span(found.expected_us.iter().max().copied().unwrap_or(0));
    let (tests, stamp) = (found.tests.len(), found.stamp);
    // Standard output holds names only, so that a job can read them.
    eprintln!("portion {number}/{of}: {tests} tests, about {own} (the longest {longest}), stamp {stamp}");
    if options.key.is_none() && options.stamp.is_none() {
        eprintln!("Other jobs agree with this one by --stamp {stamp}, or all by the same --key.");
    }
    Ok(())
}

/// A park in a line: pattern, last day, why, by whom.
pub fn park_line(park: &ParkView) -> String {
    let day = if park.over { format!("over since {}", park.until) } else { format!("until {}", park.until) };
    let only = if park.only.is_empty() { String::new() } else { format!("  only {}", park.only) };
    format!("{}  {day}{only}  {} ({})", park.pattern, park.why, park.by)
}

pub async fn park(options: &Park, context: &Context) -> Result<(), Failure> {
    let (pattern, until, why) = (options.pattern.clone(), options.until.clone(), options.why.clone());
    let new = NewPark { pattern, until, why, only: options.only.clone() };
    let parked: ParkedView = context.client.post(&format!("/api/suites/{}/parks", options.suite), &new).await?;
    if context.json {
        return print_json(&parked);
    }
    let some: Vec<&str> = parked.tests.iter().take(5).map(String::as_str).collect();
    let more = parked.tests.len() - some.len();
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let word = if parked.tests.len() == 1 { "test is" } else { "tests are" };
    println!(
        "{} {word} parked in {} until {}{}: {}{more}",
        parked.tests.len(),
        parked.park.suite,
        parked.park.until,
        if parked.park.only.is_empty() { String::new() } else { format!(", only where {}", parked.park.only) },
        some.join(", ")
    );
    println!("Take back: kesmo unpark {} {:?}", options.suite, options.pattern);
    Ok(())
}

pub async fn unpark(options: &Unpark, context: &Context) -> Result<(), Failure> {
    let path = format!("/api/suites/{}/parks", options.suite);
    context.client.delete_with(&path, &[("pattern", options.pattern.clone())]).await?;
    println!("{} counts again in {}, from the next run on.", options.pattern, options.suite);
    Ok(())
}

pub async fn parked(options: &Parked, context: &Context) -> Result<(), Failure> {
    let path = options.suite.as_ref().map_or("/api/parks".to_owned(), |suite| format!("/api/suites/{suite}/parks"));
    let parks: Vec<ParkView> = context.client.get(&path, &[]).await?;
    if context.json {
        return print_json(&parks);
    }
    if parks.is_empty() {
        println!("No test is parked. Park one: kesmo park SUITE TEST --until 2w --why TEXT");
        return Ok(());
    }
    let rows = parks.iter().map(|p| {
        let until = if p.over { format!("{} (over: it counts again)", p.until) } else { p.until.clone() };
        let only = if p.only.is_empty() { "everywhere".to_owned() } else { p.only.clone() };
        vec![p.suite.clone(), p.pattern.clone(), until, only, p.by.clone(), p.why.clone()]
    });
    print!("{}", view::table(&["suite", "parked", "until", "where", "by", "why"], rows.collect()));
    Ok(())
}

#[cfg(test)]
mod tests {
    use kesmo_wire::api::ForecastPoint;

    use super::*;

    #[test]
    fn numbers_of_shards_are_read_as_people_write_them() {
        assert_eq!(numbers("8").unwrap(), [8]);
        assert_eq!(numbers("1..4").unwrap(), [1, 2, 3, 4]);
        assert_eq!(numbers("1, 2,8").unwrap(), [1, 2, 8]);
        for wrong in ["", "0", "4..1", "1..100", "a", "1..b"] {
            assert!(numbers(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_forecast_says_how_many_are_enough_and_what_the_floor_is() {
        let point = |shards: u32, ms: u64| ForecastPoint {
            shards,
            time_us: ms * 1000,
            low_us: ms * 950,
            high_us: ms * 1100,
            slot_minutes: f64::from(shards) * ms as f64 / 60_000.0,
        };
        let made = ForecastView {
            suite: "boarding-gate".into(),
            choice: "all 120 tests".into(),
            points: vec![point(1, 12_000), point(2, 6100), point(4, 3200), point(8, 3100)],
            enough: Some(4),
            floor: "the test gate/slow/tide".into(),
            floor_us: 3_000_000,
            work_us: 12_000_000,
            start_cost_us: 40_000,
            guessed: 3,
            tests: 120,
            slots: 6,
        };
        insta::assert_snapshot!(forecast_text(&made, 100));
    }
}
