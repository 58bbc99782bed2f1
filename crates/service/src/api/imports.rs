//! Results that ran elsewhere, brought as a run.

use std::collections::HashSet;

use chrono::Utc;
use kesmo_core::{
    format::imported::{Import, stem},
    name::{Slug, shorten},
    plan::{
        At, RunOptions,
        brief::{Origin, OriginKind},
    },
    source::{check_branch, check_commit},
};
use kesmo_floor::{
    Ask, ToRecord,
    importing::{Importing, rows},
};
use kesmo_store::runs::NewRun;
use kesmo_wire::{
    Digest,
    imports::{ImportedRun, MOST_MIB, NewImport, ResultFile},
};
use rocket::{Route, State, post, routes, serde::json::Json};

use super::{
    body::{Answer, Sent, body},
    planning::invalid,
    runs::detail_of_row,
};
use crate::{
    access::MayOperate,
    app::App,
    lookup::{DEFAULT_POOL, named, suite_file},
    refused::Refused,
};

pub(super) fn routes() -> Vec<Route> {
    routes![import]
}

/// The most files of an import, and the longest path of one.
const MOST_FILES: usize = 10_000;
const LONGEST_PATH: usize = 1000;
/// How long ago results may have run.
const OLDEST: chrono::TimeDelta = chrono::TimeDelta::days(3660);

/// Brings results that ran elsewhere: they are a run of the suite, over as soon as it is made. The same files, told to be of
/// the same time, branch, commit, labels and variant, are one run, however often they are brought.
#[utoipa::path(post, path = "/api/suites/{suite}/imports", params(("suite" = String, Path)), request_body = NewImport, tag = "runs",
    responses((status = 200, body = ImportedRun), (status = 422)))]
#[post("/api/suites/<suite>/imports", data = "<new>")]
async fn import(
    app: &State<App>,
    caller: MayOperate,
    suite: &str,
    new: Sent<NewImport, { MOST_MIB }>,
) -> Answer<ImportedRun> {
    let new = body(new)?;
    check(&new)?;
    let row = named(app, suite).await?;
    let (_, file) = suite_file(app, &row.source).await?;
    let pool = new.pool.clone().unwrap_or_else(|| DEFAULT_POOL.to_owned());
    Slug::parse("the pool", &pool).map_err(invalid)?;
    let options = RunOptions {
        labels: new.labels.clone(),
        variants: new.variant.clone(),
        flaky_fails: new.flaky_fails,
        // What is set aside ran all the same; it does not count.
        run_parked: true,
        retries: Some(0),
        ..RunOptions::default()
    };
    options.check(&file).map_err(invalid)?;
    let variants = file.facets.chosen(&options.variants).map_err(invalid)?;
    let [variant] = variants.as_slice() else {
        let all: Vec<String> = variants.iter().map(ToString::to_string).collect();
        let (all, first) = (shorten(&all.join(", "), 300), file.facets.facets.first().map_or("", |f| f.0.as_str()));
        return Err(Refused::invalid(format!(
            "{suite} has variants ({all}): say with --variant {first}=… in which of them these results ran"
        )));
    };
    let key = key_of(&row.slug, &new);
    let at = new.at.unwrap_or_else(Utc::now);
    let today = at.date_naive();
    let parks = app.store.parks_at(row.id, today, At { env: None, pool: &pool, branch: new.branch.as_deref() }).await?;
    let known: HashSet<String> = app.store.records(row.id, &pool).await?.into_keys().map(|(test, _)| test).collect();
    let made = NewRun {
        suite_id: row.id,
        source: Some(row.source.clone()),
        branch: new.branch.clone(),
        commit: new.commit.clone(),
        pool: pool.clone(),
        options: options.clone(),
        started_by: caller.0.name.clone(),
        parks: parks.clone(),
        origin: Origin { kind: OriginKind::Imported, ..Origin::default() },
        at: Some(at),
        ..NewRun::default()
    };
    // Reading and judging many results takes a thread for a while; few do so at a time.
    let _turn = app.unpacking.acquire().await.map_err(|e| Refused::unavailable(e.to_string()))?;
    let (variant, list) = (variant.clone(), format!("{key}-list"));
    let judged = tokio::task::spawn_blocking(move || {
        let mut import = Import::new(file.tests.of_files(), known);
        for file in &new.files {
            import.read(&file.path, file.content.as_bytes())?;
        }
        let (results, wrongs) = import.finish()?;
        let (options, parks, results, wrongs) = (&options, &parks[..], &results[..], &wrongs[..]);
        let importing = Importing { file: &file, options, parks, variant, key: &list, results, wrongs, at, seed: 0 };
        rows(&importing, row.id, &pool)
    });
    let rows = judged.await.map_err(|e| Refused::unavailable(e.to_string()))?.map_err(Refused::invalid)?;
    let (run, fresh) = app.store.import(&key, &made, rows.commit).await?;
    if fresh {
        let branch = run.branch.clone().unwrap_or_default();
        let record = ToRecord { id: run.id, branch, ..rows.record };
        let told = app.floor.ask(|reply| Ask::Imported(Box::new(record), reply)).await;
        if told.is_none() {
            tracing::warn!("the service is stopping: the records do not have what was imported last");
        }
    }
    Ok(Json(ImportedRun { run: detail_of_row(app, &caller.0, run, &row.slug).await?, made: fresh }))
}

fn check(new: &NewImport) -> Result<(), Refused> {
    if new.files.is_empty() {
        return Err(Refused::invalid("there are no files: give those that hold the results"));
    }
    if new.files.len() > MOST_FILES {
        return Err(Refused::invalid(format!("there are more than {MOST_FILES} files: bring them in several calls")));
    }
    if let Some(odd) = new
        .files
        .iter()
        .find(|f| f.path.is_empty() || f.path.len() > LONGEST_PATH || f.path.chars().any(char::is_control))
    {
        let shown = shorten(&odd.path, 80);
        return Err(Refused::invalid(format!(
            "the path {shown:?} is not usable: 1 to {LONGEST_PATH} bytes on one line"
        )));
    }
    if let Some(branch) = &new.branch {
        check_branch(branch).map_err(invalid)?;
    }
    if let Some(commit) = &new.commit {
        check_commit(commit).map_err(invalid)?;
    }
    if let Some(at) = new.at {
        let ago = Utc::now() - at;
        if ago < -chrono::TimeDelta::minutes(5) || ago > OLDEST {
            return Err(Refused::invalid(format!(
                "{at} is in the future, or more than ten years ago: say when they ran"
            )));
        }
    }
    Ok(())
}

/// What makes two imports the same. No caller of a meeting can give a key with a control character in it.
fn key_of(suite: &str, new: &NewImport) -> String {
    // Of a path its end counts, as tests may be named after it; where it lies does not.
    let of_file = |f: &ResultFile| (stem(&f.path), Digest::of(f.content.as_bytes()).to_string());
    let mut files: Vec<(String, String)> = new.files.iter().map(of_file).collect();
    files.sort();
    let of = (suite, files, &new.pool, &new.labels, &new.branch, &new.commit, &new.at, &new.variant, new.flaky_fails);
    format!("import\u{1}{}", Digest::of(serde_json::to_string(&of).unwrap_or_default().as_bytes()))
}
