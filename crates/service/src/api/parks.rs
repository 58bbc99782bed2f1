//! Tests that are set aside.

use std::collections::BTreeSet;

use chrono::{Days, NaiveDate, Utc};
use kesmo_core::{
    name::{nearest, shorten},
    plan::{Only, RunOptions},
    suite::Pattern,
};
use kesmo_store::parks::ParkRow;
use kesmo_wire::api::{NewPark, Park, Parked};
use rocket::{Route, State, delete, get, http::Status, post, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    days::day_of,
    planning::{invalid, listed},
};
use crate::{
    access::{MayOperate, MaySee, Record},
    app::App,
    lookup::{DEFAULT_POOL, named, suite_file},
    refused::Refused,
};

pub(super) fn routes() -> Vec<Route> {
    routes![all_parks, suite_parks, park, unpark]
}

/// The furthest end of a park, in days.
const LONGEST_PARK: u64 = 366;

fn view((row, suite): (ParkRow, String)) -> Park {
    let park = row.on(Utc::now().date_naive());
    Park {
        suite,
        pattern: park.pattern,
        why: park.why,
        until: park.until,
        over: park.over,
        only: park.only.to_string(),
        by: row.made_by,
        at: row.made_at,
    }
}

/// The parks of a suite, or of all.
pub(super) async fn parks(app: &App, suite_id: Option<i64>) -> Result<Vec<Park>, Refused> {
    Ok(app.store.parks(suite_id).await?.into_iter().map(view).collect())
}

/// All tests that are set aside.
#[utoipa::path(get, path = "/api/parks", tag = "suites", responses((status = 200, body = [Park])))]
#[get("/api/parks")]
async fn all_parks(app: &State<App>, caller: MaySee) -> Answer<Vec<Park>> {
    let mut parks = parks(app, None).await?;
    parks.retain(|park| caller.0.is_for(&park.suite));
    Ok(Json(parks))
}

/// The tests of a suite that are set aside.
#[utoipa::path(get, path = "/api/suites/{suite}/parks", params(("suite" = String, Path)), tag = "suites",
    responses((status = 200, body = [Park])))]
#[get("/api/suites/<suite>/parks")]
async fn suite_parks(app: &State<App>, _caller: MaySee, suite: &str) -> Answer<Vec<Park>> {
    let row = named(app, suite).await?;
    Ok(Json(parks(app, Some(row.id)).await?))
}

/// The last day of a park.
fn last_day(text: &str, today: NaiveDate) -> Result<NaiveDate, Refused> {
    let day = day_of(text, today)?;
    if day > today.checked_add_days(Days::new(LONGEST_PARK)).unwrap_or(day) {
        return Err(Refused::invalid(format!(
            "--until {day} is more than a year away: a park is for a while; drop the test from the suite instead"
        )));
    }
    Ok(day)
}

/// Sets tests aside for a while.
#[utoipa::path(post, path = "/api/suites/{suite}/parks", params(("suite" = String, Path)), request_body = NewPark, tag = "suites",
    responses((status = 200, body = Parked), (status = 422)))]
#[post("/api/suites/<suite>/parks", data = "<new>")]
async fn park(
    app: &State<App>,
    caller: MayOperate,
    record: Record<'_>,
    suite: &str,
    new: Sent<NewPark>,
) -> Answer<Parked> {
    let new = body(new)?;
    record.note(format!("{} until {}: {}", new.pattern, new.until, new.why));
    let row = named(app, suite).await?;
    let pattern = Pattern::parse_or_name(&new.pattern).map_err(invalid)?;
    let until = last_day(new.until.trim(), Utc::now().date_naive())?;
    let why = shorten(new.why.trim(), 300);
    if why.is_empty() {
        return Err(Refused::invalid("--why is missing: say why the test is set aside, for who finds it so"));
    }
    let (_, file) = suite_file(app, &row.source).await?;
    let only = Only::parse(&new.only).map_err(invalid)?;
    only.check(&file).map_err(invalid)?;
    let lists = listed(app, &file, &row.source, DEFAULT_POOL, &RunOptions::default()).await?;
    let all = || lists.iter().flat_map(|l| &l.1);
    let mut tests: BTreeSet<&str> =
        all().filter(|t| pattern.matches(&t.name, &t.tags)).map(|t| t.name.as_str()).collect();
    // Cases are known only as their files run: a file's name, a `/` and more is taken as it is.
    let of_file =
        |name: &str| new.pattern.strip_prefix(name).is_some_and(|rest| rest.len() > 1 && rest.starts_with('/'));
    if tests.is_empty() && file.tests.of_files() && all().any(|t| of_file(t.name.as_str())) {
        tests.insert(&new.pattern);
    }
    if tests.is_empty() {
        let near = nearest(&new.pattern, all().map(|t| t.name.as_str()), 3);
        let near = if near.is_empty() { String::new() } else { format!("; nearest: {}", near.join(", ")) };
        return Err(Refused::invalid(format!("no test of {suite} matches {}{near}", new.pattern)));
    }
    let tests = tests.into_iter().map(str::to_owned).collect();
    let kept = app.store.put_park(row.id, pattern.as_str(), (&why, &only), until, &caller.0.name).await?;
    Ok(Json(Parked { park: view((kept, row.slug)), tests }))
}

/// Takes tests back: they count again from the next run on.
#[utoipa::path(delete, path = "/api/suites/{suite}/parks", params(("suite" = String, Path), ("pattern" = String, Query)), tag = "suites",
    responses((status = 204), (status = 404)))]
#[delete("/api/suites/<suite>/parks?<pattern>")]
async fn unpark(
    app: &State<App>,
    _caller: MayOperate,
    record: Record<'_>,
    suite: &str,
    pattern: &str,
) -> Result<Status, Refused> {
    let row = named(app, suite).await?;
    record.note(pattern);
    if app.store.remove_park(row.id, pattern).await? {
        return Ok(Status::NoContent);
    }
    let there = parks(app, Some(row.id)).await?;
    let all: Vec<&str> = there.iter().map(|p| p.pattern.as_str()).collect();
    let all = if all.is_empty() { "nothing is".to_owned() } else { format!("parked are: {}", all.join(", ")) };
    Err(Refused::not_found(format!("{pattern} is not parked in {suite}; {all}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_day_of_a_park_is_a_date_or_counted_from_today() {
        let today = NaiveDate::from_ymd_opt(2026, 11, 23).expect("a day");
        let day = |text: &str| last_day(text, today).map(|d| d.to_string()).map_err(|e| e.1.message);
        assert_eq!(day("2026-12-31"), Ok("2026-12-31".into()));
        assert_eq!(day("2w"), Ok("2026-12-07".into()));
        assert_eq!(day("10d"), Ok("2026-12-03".into()));
        assert_eq!(day("2026-11-23"), Ok("2026-11-23".into()), "today is its last day");
        for (text, why) in [("2026-11-22", "has passed"), ("soon", "write it like 2026-12-07"), ("400d", "a year away")]
        {
            assert!(day(text).expect_err("it is refused").contains(why), "{text}");
        }
    }
}
