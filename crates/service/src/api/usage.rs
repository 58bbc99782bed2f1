//! What runs took of slots.

use chrono::{DateTime, Days, NaiveDate, NaiveTime, Utc};
use kesmo_core::format::csv;
use kesmo_store::usage::{By, UsageSum};
use kesmo_wire::api::{Usage, UsageRow};
use rocket::{Route, State, get, http::ContentType, routes, serde::json::Json};

use super::{body::Answer, days::day};
use crate::{access::MaySee, app::App, lookup::id_of, refused::Refused};

/// Days that are summed up if nothing is said, and sums that are told.
const USUAL_DAYS: u64 = 30;
const MOST: i64 = 1000;

pub(super) fn routes() -> Vec<Route> {
    routes![usage, usage_csv]
}

fn by_of(word: Option<&str>) -> Result<(By, String), Refused> {
    let word = word.unwrap_or("suite");
    let by = match word {
        "suite" => By::Suite,
        "brief" => By::Brief,
        "account" => By::Account,
        "pool" => By::Pool,
        "month" => By::Month,
        "run" => By::Run,
        other => match other.strip_prefix("label:").filter(|key| !key.is_empty() && !key.contains('\0')) {
            Some(key) => By::Label(key.to_owned()),
            None => {
                return Err(Refused::invalid(format!(
                    "by={other:?}: use suite, brief, account, pool, month, run or label:KEY"
                )));
            }
        },
    };
    Ok((by, word.to_owned()))
}

fn row(sum: UsageSum) -> UsageRow {
    let us = |n: i64| n.max(0) as u64;
    UsageRow {
        key: sum.key,
        runs: u32::try_from(sum.runs).unwrap_or(u32::MAX),
        tests_us: us(sum.tests_us),
        retried_us: us(sum.retried_us),
        idle_us: us(sum.idle_us),
        waited_us: us(sum.waited_us),
    }
}

async fn summed(
    app: &App,
    by: Option<&str>,
    suite: Option<&str>,
    from: Option<&str>,
    until: Option<&str>,
) -> Result<Usage, Refused> {
    let (by, word) = by_of(by)?;
    let today = Utc::now().date_naive();
    let ahead = |day: NaiveDate, days: u64| day.checked_add_days(Days::new(days)).unwrap_or(day);
    let until = until.map_or(Ok(ahead(today, 1)), |text| day("until", text))?;
    let before = until.checked_sub_days(Days::new(USUAL_DAYS)).unwrap_or(until);
    let from = from.map_or(Ok(before), |text| day("from", text))?;
    if from >= until {
        return Err(Refused::invalid(format!("from={from} is not before until={until}: no run was made in between")));
    }
    let suite = id_of(app, suite).await?;
    app.floor.recorded().await;
    let moment = |day: NaiveDate| DateTime::<Utc>::from_naive_utc_and_offset(day.and_time(NaiveTime::MIN), Utc);
    let rows = app.store.usage(&by, suite, moment(from), moment(until), MOST).await?;
    let rows: Vec<UsageRow> = rows.into_iter().map(row).collect();
    let mut total = UsageRow::default();
    for row in &rows {
        total.runs = total.runs.saturating_add(row.runs);
        total.tests_us += row.tests_us;
        total.retried_us += row.retried_us;
        total.idle_us += row.idle_us;
        total.waited_us += row.waited_us;
    }
    Ok(Usage { by: word, from, until, rows, total })
}

/// What the runs that are over took of slots, summed up `by` suite (also if it is left out), `brief`, `account`, `pool`, `month`, `run`
/// or `label:KEY`; of those that were made from the day `from` (30 days before) on and before `until` (tomorrow), by UTC.
#[utoipa::path(get, path = "/api/usage", operation_id = "usage", tag = "runs", params(("by" = Option<String>, Query),
    ("suite" = Option<String>, Query), ("from" = Option<String>, Query), ("until" = Option<String>, Query)), responses((status = 200, body = Usage), (status = 404)))]
#[get("/api/usage?<by>&<suite>&<from>&<until>")]
async fn usage(
    app: &State<App>,
    _caller: MaySee,
    by: Option<&str>,
    suite: Option<&str>,
    from: Option<&str>,
    until: Option<&str>,
) -> Answer<Usage> {
    Ok(Json(summed(app, by, suite, from, until).await?))
}

/// The same as comma-separated values (RFC 4180), in seconds.
#[utoipa::path(get, path = "/api/usage.csv", operation_id = "usage_csv", tag = "runs", params(("by" = Option<String>, Query),
    ("suite" = Option<String>, Query), ("from" = Option<String>, Query), ("until" = Option<String>, Query)),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 404)))]
#[get("/api/usage.csv?<by>&<suite>&<from>&<until>")]
async fn usage_csv(
    app: &State<App>,
    _caller: MaySee,
    by: Option<&str>,
    suite: Option<&str>,
    from: Option<&str>,
    until: Option<&str>,
) -> Result<(ContentType, String), Refused> {
    let found = summed(app, by, suite, from, until).await?;
    let mut text = csv::row([&found.by, "runs", "tests_s", "retries_s", "idle_s", "waited_s"]);
    let seconds = |us: u64| format!("{:.3}", us as f64 / 1e6);
    for row in &found.rows {
        let times = [row.tests_us, row.retried_us, row.idle_us, row.waited_us].map(seconds);
        let runs = row.runs.to_string();
        text += &csv::row([row.key.as_str(), &runs].into_iter().chain(times.iter().map(String::as_str)));
    }
    Ok((ContentType::CSV, text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_runs_are_summed_up_by_is_read_and_wrong_words_are_told() {
        assert_eq!(by_of(None).expect("suites"), (By::Suite, "suite".to_owned()));
        assert_eq!(by_of(Some("label:release")).expect("a label").0, By::Label("release".into()));
        for wrong in ["label:", "suites", "", "label:\0"] {
            assert!(by_of(Some(wrong)).is_err_and(|e| e.1.message.contains("label:KEY")), "{wrong}");
        }
    }
}
