//! Addresses that show one thing without a sign-in: a run's report, a badge, a feed. Whoever knows one sees that and nothing else.

use chrono::Utc;
use kesmo_core::{
    format::{
        badge::{draw, standing},
        feed::{self, FeedRun},
        report::Format,
    },
    name::{RunName, did_you_mean},
    source::check_branch,
    words::Verdict,
};
use kesmo_store::shares::{NewShare as NewRow, OfRuns, ShareRow};
use kesmo_wire::api::{NewShare, ShareKind, SharedAddress};
use rocket::{
    Responder, Route, State, delete, get,
    http::{ContentType, Header, Status},
    post, routes,
    serde::json::Json,
};

use super::{
    body::{Answer, Sent, body},
    days::end_of,
    found::find,
    report_pages::Pictures,
    reports::text_of,
};
use crate::{
    access::{self, MayOperate, MaySee, Record},
    app::App,
    lookup::id_of,
    refused::Refused,
};

/// A run's address ends after so many days if nothing else is said.
const USUAL_DAYS: u64 = 7;
/// Runs of a feed, and runs of which one was not stopped, for a badge.
const FEED_RUNS: i64 = 50;
const BADGE_RUNS: i64 = 20;
/// Branches among which one that is named is looked for.
const BRANCHES: i64 = 10_000;

pub(super) fn routes() -> Vec<Route> {
    routes![shares, add_share, end_share, shared]
}

fn kind_of(row: &ShareRow) -> ShareKind {
    match row.kind.as_str() {
        "badge" => ShareKind::Badge,
        "feed" => ShareKind::Feed,
        _ => ShareKind::Run,
    }
}

fn told(row: ShareRow, suite: Option<String>, number: Option<i32>) -> SharedAddress {
    let of = match (suite, number, &row.brief) {
        (Some(suite), Some(number), _) => format!("{suite}/{number}"),
        (Some(suite), None, Some(brief)) => format!("{suite}, brief {brief}"),
        (Some(suite), None, None) => suite,
        (None, _, brief) => format!("brief {}", brief.as_deref().unwrap_or_default()),
    };
    let of = match &row.branch {
        Some(branch) => format!("{of}, branch {branch}"),
        None => of,
    };
    let kind = kind_of(&row);
    SharedAddress {
        id: row.id,
        kind,
        of,
        until: row.until,
        by: row.made_by,
        made_at: row.made_at,
        used_at: row.used_at,
        address: None,
    }
}

/// The addresses that are good now, without their keys.
#[utoipa::path(get, path = "/api/shares", operation_id = "shares", tag = "runs", responses((status = 200, body = [SharedAddress])))]
#[get("/api/shares")]
async fn shares(app: &State<App>, _caller: MaySee) -> Answer<Vec<SharedAddress>> {
    Ok(Json(app.store.shares().await?.into_iter().map(|(row, suite, number)| told(row, suite, number)).collect()))
}

/// Makes an address. It is in this answer only.
#[utoipa::path(post, path = "/api/shares", operation_id = "add_share", request_body = NewShare, tag = "runs",
    responses((status = 200, body = SharedAddress), (status = 404), (status = 422)))]
#[post("/api/shares", data = "<new>")]
async fn add_share(
    app: &State<App>,
    caller: MayOperate,
    record: Record<'_>,
    new: Sent<NewShare>,
) -> Answer<SharedAddress> {
    let new = body(new)?;
    let mut run = None;
    let mut suite = None;
    let what = match (new.kind, &new.run) {
        (ShareKind::Run, None) => {
            return Err(Refused::invalid("which run is to be shared? Name it like boarding-gate/42"));
        }
        (ShareKind::Run, Some(_)) if new.suite.is_some() || new.brief.is_some() || new.branch.is_some() => {
            return Err(Refused::invalid("a run is shared by its name alone, without a suite, brief or branch"));
        }
        (ShareKind::Run, Some(name)) => {
            let name = RunName::parse(name).map_err(|e| Refused::invalid(e.to_string()))?;
            let number = i32::try_from(name.number).unwrap_or(i32::MAX);
            run = Some((find(app, name.suite.as_str(), number).await?.id, name.suite.to_string(), number));
            "run"
        }
        (_, Some(_)) => return Err(Refused::invalid("a badge or feed is of a suite or brief, and not of a run")),
        (kind, None) => {
            if new.suite.is_none() && new.brief.is_none() {
                return Err(Refused::invalid("a badge or feed is of a suite, a brief, or a suite's runs of a brief"));
            }
            suite = id_of(app, new.suite.as_deref()).await?;
            if let Some(brief) = &new.brief
                && app.store.brief(brief).await?.is_none()
            {
                return Err(Refused::not_found(format!("there is no brief named {brief:?}")));
            }
            let of = OfRuns { suite_id: suite, brief: new.brief.as_deref(), branch: None };
            if let Some(branch) = &new.branch {
                check_branch(branch).map_err(|e| Refused::invalid(e.to_string()))?;
                let known = app.store.branches_of(of, BRANCHES).await?;
                if !known.contains(branch) {
                    let hint = did_you_mean(branch, known.iter().map(String::as_str));
                    return Err(Refused::not_found(format!("nothing of it ran on the branch {branch:?} yet{hint}")));
                }
            }
            if kind == ShareKind::Badge { "badge" } else { "feed" }
        }
    };
    let today = Utc::now().date_naive();
    let usual = || (new.kind == ShareKind::Run).then(|| format!("{USUAL_DAYS}d"));
    let until = new.until.clone().or_else(usual).map(|text| end_of(text.trim(), today)).transpose()?;
    let key = kesmo_files::secret::random_text();
    let hash = access::hash(&key);
    let row = NewRow {
        hash: &hash,
        kind: what,
        run_id: run.as_ref().map(|run| run.0),
        suite_id: suite,
        brief: new.brief.as_deref(),
        branch: new.branch.as_deref(),
        until,
        made_by: &caller.0.name,
    };
    record.note(
        [Some(what), new.run.as_deref(), new.suite.as_deref(), new.brief.as_deref(), new.branch.as_deref()]
            .into_iter()
            .flatten()
            .collect::<Vec<_>>()
            .join(" "),
    );
    let row = app.store.add_share(&row).await?;
    let ending = match new.kind {
        ShareKind::Run => "",
        ShareKind::Badge => ".svg",
        ShareKind::Feed => ".atom",
    };
    let address = format!("{}/shared/{key}{ending}", app.base());
    let (suite, number) = match run {
        Some((_, suite, number)) => (Some(suite), Some(number)),
        None => (new.suite, None),
    };
    Ok(Json(SharedAddress { address: Some(address), ..told(row, suite, number) }))
}

/// Ends an address: what it showed is not shown any more.
#[utoipa::path(delete, path = "/api/shares/{id}", operation_id = "end_share", params(("id" = i64, Path)), tag = "runs",
    responses((status = 204), (status = 404)))]
#[delete("/api/shares/<id>")]
async fn end_share(app: &State<App>, _caller: MayOperate, id: i64) -> Result<Status, Refused> {
    if !app.store.end_share(id).await? {
        return Err(Refused::not_found(format!(
            "there is no address {id} that is shared (`kesmo share` tells those there are)"
        )));
    }
    Ok(Status::NoContent)
}

/// What an address shows. Nothing of it runs as a script, is kept by others or tells other sites where it is.
#[derive(Responder)]
struct Page {
    text: String,
    kind: ContentType,
    policy: Header<'static>,
    cache: Header<'static>,
    referrer: Header<'static>,
    robots: Header<'static>,
    sniff: Header<'static>,
}

/// What an address shows: a run's report as a page, a badge as a picture, a feed. `key` may end in `.svg`, `.atom` or `.html`.
#[utoipa::path(get, path = "/shared/{key}", operation_id = "shared", params(("key" = String, Path)), tag = "runs", security(()),
    responses((status = 200, body = String), (status = 404, description = "it is not known, or has ended"), (status = 409, description = "the run is not over yet")))]
#[get("/shared/<key>")]
async fn shared(app: &State<App>, key: &str) -> Result<Page, Refused> {
    let bare = [".svg", ".atom", ".html"].iter().find_map(|ending| key.strip_suffix(ending)).unwrap_or(key);
    let row = app.store.share_of_hash(&access::hash(bare)).await?;
    let row =
        row.ok_or_else(|| Refused::not_found("nothing is shared at this address: it is not right, or has ended"))?;
    let (text, kind, cache) = match kind_of(&row) {
        ShareKind::Run => {
            let gone = || Refused::not_found("the run that was shared is not kept any more");
            let id = row.run_id.ok_or_else(gone)?;
            let (run, suite) = app.store.runs_of(&[id]).await?.into_iter().next().ok_or_else(gone)?;
            let (kind, text) = text_of(app, &run, &suite, Format::Html, Pictures::parse(None)?).await?;
            (text, kind, "private, no-store")
        }
        ShareKind::Badge => {
            app.floor.recorded_of(row.suite_id).await;
            let runs = app.store.ended_runs(row.of(), BADGE_RUNS).await?;
            // What fails is known of a suite, and not of those of its runs that have a brief.
            let failing = match (row.suite_id, &row.brief) {
                (Some(suite), None) => app.store.failing_count(suite, row.branch.as_deref()).await?,
                _ => 0,
            };
            let ended =
                runs.iter().filter_map(|(run, _)| Some((Verdict::of(run.verdict.as_deref()?)?, run.finished_at?)));
            let text = draw(&name_of(app, &row).await?, standing(failing, ended));
            (text, ContentType::SVG, "no-cache")
        }
        ShareKind::Feed => {
            let runs = app.store.ended_runs(row.of(), FEED_RUNS).await?;
            let run = |(run, suite): &(kesmo_store::runs::RunRow, String)| {
                Some(FeedRun {
                    name: format!("{suite}/{}", run.number),
                    verdict: Verdict::of(run.verdict.as_deref()?)?,
                    reason: run.reason.clone(),
                    at: run.finished_at?,
                    by: run.started_by.clone(),
                })
            };
            let runs: Vec<FeedRun> = runs.iter().filter_map(run).collect();
            let id = format!("urn:kesmo:feed:{}", row.id);
            let text = feed::write(&name_of(app, &row).await?, &id, &app.base(), &runs, row.made_at);
            (text, ContentType::new("application", "atom+xml"), "no-cache")
        }
    };
    Ok(Page {
        text,
        kind,
        policy: Header::new(
            "Content-Security-Policy",
            "sandbox; default-src 'none'; img-src data:; media-src data:; style-src 'unsafe-inline'",
        ),
        cache: Header::new("Cache-Control", cache),
        referrer: Header::new("Referrer-Policy", "no-referrer"),
        robots: Header::new("X-Robots-Tag", "noindex"),
        sniff: Header::new("X-Content-Type-Options", "nosniff"),
    })
}

async fn name_of(app: &App, row: &ShareRow) -> Result<String, Refused> {
    let suite = match row.suite_id {
        Some(id) => app.store.suites().await?.into_iter().find(|suite| suite.id == id).map(|suite| suite.slug),
        None => None,
    };
    if row.suite_id.is_some() && suite.is_none() {
        return Err(Refused::not_found("the suite that was shared is not there any more"));
    }
    let words = [suite.as_deref(), row.brief.as_deref(), row.branch.as_deref()];
    Ok(words.into_iter().flatten().collect::<Vec<_>>().join(" "))
}
