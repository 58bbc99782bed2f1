//! The cases of files: page by page, one with its attempts, and all for a report.

use std::collections::{BTreeMap, HashMap};

use kesmo_core::{
    format::junit::{ReportAttempt, ReportCase},
    plan::Plan,
    run::cases::CaseTally,
    time::Span,
    words::{Ended, Outcome},
};
use kesmo_floor::{Ask, summary::summary_of_row};
use kesmo_store::{
    cases::{CaseOrder, CaseQuestion, CaseRow},
    month_of,
    runs::RunRow,
};
use kesmo_wire::cases::{Case, CaseAttempt, CaseDetail, Cases};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{
    body::Answer,
    found::{find, past},
};
use crate::{access::MaySee, app::App, past::Past, refused::Refused};

pub(super) fn routes() -> Vec<Route> {
    routes![list, show]
}

/// Cases that a report names each; of a run with more it names those in trouble, and its files.
const MOST_REPORTED: u32 = 200_000;

fn view(row: CaseRow, plan: &Plan) -> Option<Case> {
    let planned = plan.entries.get(row.entry as usize)?;
    Some(Case {
        entry: row.entry as u32,
        file: planned.name.to_string(),
        variant: plan.variant_of(row.entry as u32).to_string(),
        repeat: planned.repetition(),
        title: row.title,
        outcome: row.outcome.as_deref().and_then(Outcome::of).unwrap_or(Outcome::NotRun),
        attempt: row.number as u32,
        attempts: row.times.max(1) as u32,
        spent_us: row.spent_us as u64,
        message: kesmo_core::name::shorten(&row.message, 500),
    })
}

/// Cases that the files of a run told of. `entry` is the index of one file; `state` an outcome, or `trouble`; `name` a part
/// of a title, or of a file's name and a title joined by `/`; `order` is `trouble`, `told` or `slowest`.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/cases", operation_id = "list_cases", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("entry" = Option<u32>, Query), ("state" = Option<String>, Query),
    ("name" = Option<String>, Query), ("order" = Option<String>, Query), ("skip" = Option<i64>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = Cases)))]
#[get("/api/runs/<suite>/<number>/cases?<entry>&<state>&<name>&<order>&<skip>&<limit>")]
#[allow(clippy::too_many_arguments)] // one for each part of the address
async fn list(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    entry: Option<u32>,
    state: Option<String>,
    name: Option<String>,
    order: Option<String>,
    skip: Option<i64>,
    limit: Option<i64>,
) -> Answer<Cases> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let outcomes = match state.as_deref() {
        None | Some("") => Vec::new(),
        Some("trouble") => vec![Outcome::Failed, Outcome::Flaky],
        Some(word) => vec![Outcome::of(word).ok_or_else(|| {
            let all = "passed, flaky, failed, skipped, parked or trouble";
            Refused::invalid(format!("{word:?} is not a valid state of a case: use {all}"))
        })?],
    };
    let order = match order.as_deref() {
        None | Some("trouble") => CaseOrder::Trouble,
        Some("told") => CaseOrder::Told,
        Some("slowest") => CaseOrder::Slowest,
        Some(other) => {
            return Err(Refused::invalid(format!("{other:?} is not a valid order: use trouble, told or slowest")));
        }
    };
    let name = name.unwrap_or_default();
    let mut asked = CaseQuestion { outcomes, order, title: name.clone(), ..CaseQuestion::default() };
    asked.entries = entry.map(|entry| vec![entry as i32]);
    // A name that begins with a file's means cases of that file.
    let of_name = |i: &usize| {
        let file = past.plan.entries[*i].name.as_str();
        name.strip_prefix(file).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let named: Vec<usize> =
        if name.is_empty() { Vec::new() } else { (0..past.plan.entries.len()).filter(of_name).collect() };
    if let Some(longest) = named.iter().map(|i| past.plan.entries[*i].name.as_str().len()).max() {
        let files = named.iter().filter(|i| past.plan.entries[**i].name.as_str().len() == longest);
        asked.entries = Some(files.map(|i| *i as i32).filter(|i| entry.is_none_or(|only| only as i32 == *i)).collect());
        asked.title = name[longest..].trim_start_matches('/').to_owned();
    }
    asked.skip = skip.unwrap_or(0).max(0);
    asked.limit = limit.unwrap_or(100).clamp(1, 1000);
    let month = month_of(row.created_at);
    let rows = app.store.cases(row.id, month, &asked).await?;
    let total = if asked.skip == 0 && (rows.len() as i64) < asked.limit {
        rows.len() as u32
    } else if asked.title.is_empty() && asked.entries.is_none() {
        // What the run says of itself need not be counted.
        let tally = tally_of(app, &row, suite).await;
        let of: u32 = asked.outcomes.iter().map(|outcome| tally.of(*outcome)).sum();
        if asked.outcomes.is_empty() { tally.total() } else { of }
    } else {
        app.store.count_cases(row.id, month, &asked).await?
    };
    Ok(Json(Cases { total, cases: rows.into_iter().filter_map(|row| view(row, &past.plan)).collect() }))
}

/// How the cases of a run stand.
async fn tally_of(app: &App, row: &RunRow, suite: &str) -> CaseTally {
    let open = app.floor.ask(|reply| Ask::Summary(row.id, reply)).await.flatten();
    open.map_or_else(|| summary_of_row(row, suite).tally.cases, |summary| summary.tally.cases)
}

/// A case with all that the attempts of its file told of it. `title` is its whole title.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries/{index}/case", operation_id = "show_case", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("index" = u32, Path), ("title" = String, Query)),
    responses((status = 200, body = CaseDetail), (status = 404)))]
#[get("/api/runs/<suite>/<number>/entries/<index>/case?<title>")]
async fn show(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    index: u32,
    title: &str,
) -> Answer<CaseDetail> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let times = app.store.attempts_of_case(row.id, month_of(row.created_at), index as i32, title).await?;
    let none = || Refused::not_found(format!("entry {index} of {suite}/{number} told of no case {title:?}"));
    let decided = times.iter().rev().find(|t| t.outcome.is_some()).or(times.last()).ok_or_else(none)?;
    let case = view(CaseRow { times: times.len() as i64, ..decided.clone() }, &past.plan).ok_or_else(none)?;
    let attempt = |t: CaseRow| CaseAttempt {
        number: t.number as u32,
        ended: Ended::of(&t.ended).unwrap_or(Ended::Crashed),
        spent_us: t.spent_us as u64,
        message: t.message,
        detail: t.detail,
    };
    Ok(Json(CaseDetail { case, history: times.into_iter().map(attempt).collect() }))
}

/// The cases of a run for its report.
#[derive(Default)]
pub(super) struct Told {
    by_file: HashMap<i32, Vec<ToldCase>>,
    tallies: BTreeMap<u32, CaseTally>,
}

/// A case for a report, with its whole name.
pub(super) struct ToldCase {
    name: String,
    entry: u32,
    row: CaseRow,
}

impl Told {
    /// The cases of a file, in the order in which it told of them.
    pub fn of(&self, entry: i32) -> &[ToldCase] {
        self.by_file.get(&entry).map_or(&[], Vec::as_slice)
    }

    /// How all cases of a file stand.
    pub fn tally(&self, entry: i32) -> CaseTally {
        self.tallies.get(&(entry as u32)).copied().unwrap_or_default()
    }
}

impl ToldCase {
    pub fn reported<'c>(&'c self, file: &'c str, variant: &'c str, plan: &'c Plan) -> ReportCase<'c> {
        let ended = Ended::of(&self.row.ended).unwrap_or(Ended::Crashed);
        let park = plan.park_of(self.entry).or_else(|| {
            plan.park_of_case(self.entry, &self.row.title).and_then(|park| plan.parks.get(usize::from(park)))
        });
        ReportCase {
            name: &self.name,
            file,
            variant,
            outcome: self.row.outcome.as_deref().and_then(Outcome::of).unwrap_or(Outcome::NotRun),
            spent: Span(self.row.spent_us as u64),
            attempts: vec![ReportAttempt {
                ended,
                message: &self.row.message,
                detail: &self.row.detail,
                output: String::new(),
            }],
            why_parked: park.map(|park| park.why.as_str()),
        }
    }
}

/// Reads the cases of a run for its report.
pub(super) async fn told(app: &App, row: &RunRow, past: &Past) -> Result<Told, Refused> {
    let month = month_of(row.created_at);
    let tallies = app.store.case_tallies(row.id, month, None).await?;
    let all: u32 = tallies.values().map(CaseTally::total).sum();
    let mut asked = CaseQuestion { limit: i64::from(MOST_REPORTED), ..CaseQuestion::default() };
    if all > MOST_REPORTED {
        asked.outcomes = vec![Outcome::Failed, Outcome::Flaky];
    }
    let mut by_file: HashMap<i32, Vec<ToldCase>> = HashMap::new();
    for row in app.store.cases(row.id, month, &asked).await? {
        let Some(planned) = past.plan.entries.get(row.entry as usize) else { continue };
        let file = kesmo_wire::api::entry_name(planned.name.as_str(), "", planned.repetition());
        let case = ToldCase { name: format!("{file}/{}", row.title), entry: row.entry as u32, row };
        by_file.entry(case.row.entry).or_default().push(case);
    }
    Ok(Told { by_file, tallies })
}
