//! A run as a report that other programs read.

use std::collections::HashMap;

use kesmo_core::{
    format::{
        junit::{ReportAttempt, ReportCase, says_of_file},
        report::{self, Format, MOST_OUTPUTS, More, Whole, end_of},
    },
    time::Span,
    words::{Ended, Verdict},
};
use kesmo_floor::summary::summary_of_row;
use kesmo_store::runs::RunRow;
use kesmo_wire::api::{MeasureNow, entry_name, report_properties};
use rocket::{Route, State, get, http::ContentType, routes};

use super::{
    cases::{Told, told},
    entries::log_text,
    found::{find, past},
    report_pages::{Pictures, more_of},
};
use crate::{access::MaySee, app::App, refused::Refused};

pub(super) fn routes() -> Vec<Route> {
    routes![report_of]
}

/// A finished run as a report: `as=junit` (JUnit XML), `tap` (TAP 14), `json`, `csv` (RFC 4180) or `html` (one file that needs nothing
/// else). Of an HTML report `pictures` says whether those that failed attempts left stand in it: `small` (made smaller; also if it is
/// left out), `all` (videos too) or `none`.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/report", operation_id = "report", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("as" = String, Query), ("pictures" = Option<String>, Query)), responses((status = 200, body = String), (status = 409)))]
#[get("/api/runs/<suite>/<number>/report?<as>&<pictures>")]
async fn report_of(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    r#as: &str,
    pictures: Option<&str>,
) -> Result<(ContentType, String), Refused> {
    let format = Format::parse(r#as).map_err(|e| Refused::invalid(e.to_string()))?;
    let pictures = Pictures::parse(pictures)?;
    let row = find(app, suite, number).await?;
    text_of(app, &row, suite, format, pictures).await
}

/// A run as a report, with its media type.
pub(super) async fn text_of(
    app: &App,
    row: &RunRow,
    suite: &str,
    format: Format,
    pictures: Pictures,
) -> Result<(ContentType, String), Refused> {
    let number = row.number;
    if row.phase != "finished" {
        return Err(Refused::conflict(format!(
            "{suite}/{number} is not over yet: wait with `kesmo watch {suite}/{number}`"
        )));
    }
    let past = past(app, row).await?;
    let all: Vec<i32> = (0..past.plan.entries.len() as i32).collect();
    let attempts = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &all).await?;
    let mut by_entry: HashMap<i32, Vec<ReportAttempt<'_>>> = HashMap::new();
    let (with_outputs, mut outputs) = (matches!(format, Format::Junit | Format::Json), 0);
    for a in &attempts {
        let ended = Ended::of(&a.ended).unwrap_or(Ended::Lost);
        let told = with_outputs && a.log_bytes > 0 && ended.failing() && outputs < MOST_OUTPUTS;
        outputs += usize::from(told);
        let output = match told {
            true => end_of(log_text(app, row, a.entry, a.number).await?.unwrap_or_default()),
            false => String::new(),
        };
        let attempt = ReportAttempt { ended, message: &a.message, detail: &a.detail, output };
        by_entry.entry(a.entry).or_default().push(attempt);
    }
    let variants: Vec<String> = past.plan.variants.iter().map(ToString::to_string).collect();
    let case = |(i, planned): (usize, &'_ kesmo_core::plan::PlannedEntry)| {
        let (outcome, _, spent) = past.states[i];
        let name = entry_name(planned.name.as_str(), "", planned.repetition());
        (i as i32, name, usize::from(planned.variant), outcome, Span(spent))
    };
    let rows: Vec<_> = past.plan.entries.iter().enumerate().map(case).collect();
    let of_cases = if past.of_files { told(app, row, &past).await? } else { Told::default() };
    let mut cases: Vec<ReportCase<'_>> = Vec::with_capacity(rows.len());
    for (i, name, variant, outcome, spent) in &rows {
        let attempts = by_entry.remove(i).unwrap_or_default();
        let variant = variants[*variant].as_str();
        let file = if past.of_files { name.as_str() } else { "" };
        let of_file = of_cases.of(*i);
        cases.extend(of_file.iter().map(|case| case.reported(file, variant, &past.plan)));
        let tally = of_cases.tally(*i);
        if !past.of_files || of_file.is_empty() || says_of_file(*outcome, &tally, attempts.last().map(|a| a.ended)) {
            let why_parked = past.plan.park_of(*i as u32).map(|park| park.why.as_str());
            cases.push(ReportCase { name, file, variant, outcome: *outcome, spent: *spent, attempts, why_parked });
        }
    }
    let took = row.finished_at.zip(row.began_at).map_or(0, |(f, b)| (f - b).num_microseconds().unwrap_or(0));
    let mut summary = summary_of_row(row, suite);
    let measured = super::measures::kept(app, row.id).await?;
    summary.measures = measured.measures.iter().map(MeasureNow::from).collect();
    let properties = report_properties(&summary, &summary.measures);
    let measures: Vec<(String, String)> =
        summary.measures.iter().map(|m| (format!("Measured: {}", m.name), m.said())).collect();
    let run = serde_json::to_value(summary).unwrap_or_default();
    let wrongs = app.store.wrongs(row.id).await?;
    let name = format!("{suite}/{number}");
    let images = row.images()?;
    let began = row.began_at.map(|at| at.format("%Y-%m-%dT%H:%M:%S").to_string()).unwrap_or_default();
    let whole = Whole {
        began: &began,
        name: &name,
        took: Span(took.max(0) as u64),
        verdict: row.verdict.as_deref().and_then(Verdict::of),
        reason: &row.reason,
        wrongs: &wrongs,
        flaky_fails: row.run_options()?.flaky_fails,
        images: &images,
        properties: &properties,
    };
    let more = match format {
        Format::Html => {
            let mut more = more_of(app, row, suite, &past, &attempts, pictures).await?;
            more.facts.extend(measures);
            more
        }
        _ => More::default(),
    };
    let text = report::write(format, &whole, run, &cases, &more);
    let kind = match format {
        Format::Junit => ContentType::XML,
        Format::Tap => ContentType::Plain,
        Format::Json => ContentType::JSON,
        Format::Csv => ContentType::CSV,
        Format::Html => ContentType::HTML,
    };
    Ok((kind, text))
}
