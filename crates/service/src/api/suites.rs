//! Suites, their bundles and their tests.

use std::collections::{BTreeMap, HashMap};

use kesmo_core::{
    plan::DEFAULT_RETRIES,
    source::GitSource,
    suite::{
        SuiteFile,
        draft::{Draft, Said},
        file::FILE_NAME,
    },
};
use kesmo_store::{runs::RunRow, suites::SuiteRow};
use kesmo_wire::api::{FacetDetail, NewSuite, RunSummary, Stored, Suite, SuiteDetail, SuiteDraft};
use rocket::{
    Data, Route, State, data::ToByteUnit, delete, get, head, http::Status, post, put, routes, serde::json::Json,
};

use super::{
    body::{Answer, Sent, body},
    parks::parks,
};
use crate::{
    access::{MayKeep, MayOperate, MaySee, Record},
    app::App,
    lookup::{digest, named, suite_file},
    refused::Refused,
};
use kesmo_files::blobs::{LARGEST, NotTaken};
use kesmo_floor::summary::summary_of_row;

pub(super) fn routes() -> Vec<Route> {
    routes![bundle_known, put_bundle, add, list, show, remove, draft]
}

impl From<NotTaken> for Refused {
    fn from(not_taken: NotTaken) -> Self {
        match not_taken {
            NotTaken::OtherDigest(found) => {
                Self::invalid(format!("what arrived has the SHA-256 {found}: send it again"))
            }
            NotTaken::TooLarge => Self::new(
                Status::PayloadTooLarge,
                "too-large",
                format!("it is larger than {} MiB: leave files away with .kesmoignore", LARGEST >> 20),
            ),
            NotTaken::Failed(e) => Self::unavailable(e.to_string()),
        }
    }
}

/// Whether a bundle is here already, so that it need not be uploaded.
#[utoipa::path(head, path = "/api/bundles/{digest}", params(("digest" = String, Path)), tag = "suites",
    responses((status = 200), (status = 404)))]
#[head("/api/bundles/<bundle>")]
async fn bundle_known(app: &State<App>, _caller: MayOperate, bundle: &str) -> Result<Status, Refused> {
    let known = app.blobs.touch(&digest(bundle)?).await && app.store.suite_file(bundle).await?.is_some();
    if known {
        app.store.touch_source(bundle).await?;
    }
    Ok(if known { Status::Ok } else { Status::NotFound })
}

/// Uploads a bundle, a gzipped tar archive with `kesmo.toml` at its root, under its SHA-256.
#[utoipa::path(put, path = "/api/bundles/{digest}", params(("digest" = String, Path)), tag = "suites",
    request_body(content = Vec<u8>, content_type = "application/gzip"), responses((status = 200, body = Stored), (status = 422)))]
#[put("/api/bundles/<bundle>", data = "<content>")]
async fn put_bundle(app: &State<App>, _caller: MayOperate, bundle: &str, content: Data<'_>) -> Answer<Stored> {
    let name = digest(bundle)?;
    let bytes = app.blobs.take(&name, content.open((LARGEST + 1).bytes())).await?;
    // A bundle may be large once it is unpacked: few are read through at a time.
    let _turn = app.unpacking.acquire().await.map_err(|e| Refused::unavailable(e.to_string()))?;
    let text = app.blobs.suite_file(&name).await.map_err(Refused::invalid)?;
    SuiteFile::parse(FILE_NAME, &text).map_err(|e| Refused::invalid(e.to_string()))?;
    app.store.add_source(bundle, &text).await?;
    Ok(Json(Stored { digest: bundle.to_owned(), bytes }))
}

/// Adds a suite from an uploaded bundle, or gives the suite of that name new files.
#[utoipa::path(post, path = "/api/suites", request_body = NewSuite, tag = "suites", responses((status = 200, body = SuiteDetail)))]
#[post("/api/suites", data = "<new>")]
async fn add(app: &State<App>, _caller: MayOperate, record: Record<'_>, new: Sent<NewSuite>) -> Answer<SuiteDetail> {
    let NewSuite { bundle, git } = body(new)?;
    let (bundle, git) = match (bundle, git) {
        (Some(bundle), None) => (bundle, None),
        (None, Some(git)) => (add_from_git(app, &git).await?, Some(git)),
        _ => return Err(Refused::invalid("say where its files come from: exactly one of `bundle` and `git`")),
    };
    let (_, file) = suite_file(app, &bundle).await?;
    record.note(file.suite.as_str());
    let row = app.store.put_suite(file.suite.as_str(), &file.about, &bundle, false).await?;
    app.store.put_git(row.id, git.as_ref()).await?;
    let row = named(app, &row.slug).await?;
    Ok(Json(detail(app, row).await?))
}

/// Fetches what version control has now, so that what is wrong with it is told at once.
async fn add_from_git(app: &App, git: &GitSource) -> Result<String, Refused> {
    git.check().map_err(|e| Refused::invalid(e.to_string()))?;
    let fetched = app.git.fetch(git).await.map_err(|e| match e {
        kesmo_files::git::Error::Away(why) => Refused::unavailable(format!("{why}: the suite was not added")),
        kesmo_files::git::Error::Wrong(why) => Refused::invalid(why),
    })?;
    app.store.add_source(&fetched.digest, &fetched.text).await?;
    Ok(fetched.digest)
}

/// All suites with their latest runs.
#[utoipa::path(get, path = "/api/suites", operation_id = "list_suites", tag = "suites", responses((status = 200, body = [Suite])))]
#[get("/api/suites")]
async fn list(app: &State<App>, caller: MaySee) -> Answer<Vec<Suite>> {
    let mut rows = app.store.suites().await?;
    rows.retain(|row| caller.0.is_for(&row.slug));
    Ok(Json(views(app, rows, 12).await?))
}

/// Suites with their latest runs: asked for together, however many they are.
async fn views(app: &App, rows: Vec<SuiteRow>, most_runs: i64) -> Result<Vec<Suite>, Refused> {
    let active = app.summaries().await;
    let ids: Vec<i64> = rows.iter().map(|r| r.id).collect();
    let mut runs: HashMap<i64, Vec<RunRow>> = HashMap::new();
    for run in app.store.last_runs(&ids, most_runs).await? {
        runs.entry(run.suite_id).or_default().push(run);
    }
    let mut next = app.store.next_starts().await?;
    app.floor.recorded().await;
    let failing = app.store.failing_counts().await?;
    let one = |row: SuiteRow| {
        let (runs, next) = (runs.remove(&row.id).unwrap_or_default(), next.remove(&row.slug));
        let failing = failing.get(&row.id).copied().unwrap_or(0);
        Suite { failing, ..view(row, runs, next, &active) }
    };
    Ok(rows.into_iter().map(one).collect())
}

fn view(
    row: SuiteRow,
    runs: Vec<RunRow>,
    next_start: Option<(chrono::DateTime<chrono::Utc>, String)>,
    active: &BTreeMap<i64, RunSummary>,
) -> Suite {
    let entries = runs.iter().find(|r| r.listed > 0).map(|r| r.listed as u32);
    let summary = |run: RunRow| match active.get(&run.id) {
        Some(summary) => summary.clone(),
        None => summary_of_row(&run, &row.slug),
    };
    let last_runs: Vec<_> = runs.into_iter().map(summary).collect();
    Suite {
        name: row.slug.clone(),
        about: row.about,
        bundle: row.source,
        added_at: row.added_at,
        entries,
        last_runs,
        failing: 0,
        git: row.git.clone().and_then(|g| serde_json::from_value::<GitSource>(g).ok()).map(|g| g.shown()),
        trouble: row.trouble.clone(),
        next_start,
    }
}

async fn detail(app: &App, row: SuiteRow) -> Result<SuiteDetail, Refused> {
    let (text, file) = suite_file(app, &row.source).await?;
    let facets =
        file.facets.facets.iter().map(|(name, values)| FacetDetail { name: name.clone(), values: values.clone() });
    Ok(SuiteDetail {
        facets: facets.collect(),
        settings: file.settings.clone(),
        environments: file.env_for.keys().cloned().collect(),
        reach: file.reach.iter().map(ToString::to_string).collect(),
        image: file.container.as_ref().map(|container| container.from.to_string()),
        needs: file.needs.clone(),
        retries: file.retry.times.unwrap_or(DEFAULT_RETRIES),
        parks: parks(app, Some(row.id)).await?,
        file: text,
        suite: views(app, vec![row], 30).await?.pop().ok_or_else(|| Refused::not_found("the suite is gone"))?,
    })
}

/// One suite with what its file says.
#[utoipa::path(get, path = "/api/suites/{suite}", operation_id = "show_suite", params(("suite" = String, Path)), tag = "suites",
    responses((status = 200, body = SuiteDetail), (status = 404)))]
#[get("/api/suites/<suite>")]
async fn show(app: &State<App>, _caller: MaySee, suite: &str) -> Answer<SuiteDetail> {
    let row = named(app, suite).await?;
    Ok(Json(detail(app, row).await?))
}

/// A first suite file, from what somebody says of a suite. Nothing is kept.
#[utoipa::path(post, path = "/api/drafts", operation_id = "draft_suite", request_body = Said, tag = "suites",
    responses((status = 200, body = SuiteDraft), (status = 422)))]
#[post("/api/drafts", data = "<said>")]
async fn draft(_caller: MaySee, said: Sent<Said>) -> Answer<SuiteDraft> {
    let invalid = |e: kesmo_core::Error| Refused::invalid(e.to_string());
    let draft = Draft::make("", None, &body(said)?.answers().map_err(invalid)?).map_err(invalid)?;
    Ok(Json(SuiteDraft { file: draft.text(), suite: draft.name }))
}

/// Takes a suite out of the list. Its runs can still be read.
#[utoipa::path(delete, path = "/api/suites/{suite}", params(("suite" = String, Path)), tag = "suites",
    responses((status = 204), (status = 404)))]
#[delete("/api/suites/<suite>")]
async fn remove(app: &State<App>, _caller: MayKeep, suite: &str) -> Result<Status, Refused> {
    named(app, suite).await?;
    app.store.remove_suite(suite).await?;
    Ok(Status::NoContent)
}
