//! The entries of a run: page by page, one with its attempts, what attempts printed and left behind.

use std::collections::{BTreeMap, HashMap};

use kesmo_core::{
    plan::Plan,
    run::cases::CaseTally,
    suite::{Variant, container::Image},
    words::{Ended, Outcome},
};
use kesmo_floor::{Ask, EntryOrder, EntryQuestion, active};
use kesmo_store::{past::AttemptRow, runs::RunRow};
use kesmo_wire::api::{Artifact, Attempt, Entries, Entry, EntryDetail};
use rocket::{
    Route, State, get,
    http::{ContentType, Header, Status},
    routes,
    serde::json::Json,
};

use super::{
    body::Answer,
    found::{find, past},
};
use crate::{access::MaySee, app::App, lookup::suite_file, past::Past, refused::Refused};

pub(super) fn routes() -> Vec<Route> {
    routes![entries, entry, log, artifacts, blob]
}

fn past_entry(past: &Past, index: u32) -> Entry {
    let state = past.states.get(index as usize).copied();
    Entry {
        index,
        test: past.plan.entries[index as usize].name.to_string(),
        variant: past.plan.variant_of(index).to_string(),
        repeat: u32::from(past.plan.entries[index as usize].repeat),
        parts: past.plan.entries[index as usize].parts(),
        outcome: state.map(|s| s.0),
        running: false,
        attempts: state.map_or(0, |s| u32::from(s.1)),
        spent_us: state.filter(|s| s.1 > 0).map(|s| s.2),
        message: String::new(),
        worker: None,
        cases: CaseTally::default(),
    }
}

/// Adds to entries what their attempts said last.
async fn fill(app: &App, row: &RunRow, entries: &mut [Entry]) -> Result<(), Refused> {
    let indexes: Vec<i32> = entries.iter().filter(|e| e.attempts > 0).map(|e| e.index as i32).collect();
    if indexes.is_empty() {
        return Ok(());
    }
    let rows = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &indexes).await?;
    let mut by_entry: HashMap<i32, Vec<AttemptRow>> = HashMap::new();
    for attempt in rows {
        by_entry.entry(attempt.entry).or_default().push(attempt);
    }
    // Of an open run the engine knows how cases stand, and no plan need be made for it.
    let of_files = row.phase == "finished" && past(app, row).await?.of_files;
    let tallies = match of_files {
        true => app.store.case_tallies(row.id, kesmo_store::month_of(row.created_at), Some(&indexes)).await?,
        false => BTreeMap::new(),
    };
    for entry in entries {
        if let Some(cases) = tallies.get(&entry.index) {
            entry.cases = *cases;
        }
        let Some(attempts) = by_entry.get(&(entry.index as i32)) else { continue };
        let told = attempts.iter().rev().find(|a| !a.message.is_empty());
        entry.message = told.map(|a| kesmo_core::name::shorten(&a.message, 500)).unwrap_or_default();
        entry.worker = attempts.last().map(|a| a.worker.clone());
    }
    Ok(())
}

/// Entries of a run: those in trouble first; `order` is `trouble`, `slowest`, `fastest`, `listed` or `attempts` (most first). `state` is an outcome, `waiting`, `running` or `trouble`; `name` a part of the name.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries", tag = "runs", params(("suite" = String, Path), ("number" = i32, Path),
    ("state" = Option<String>, Query), ("name" = Option<String>, Query), ("order" = Option<String>, Query), ("skip" = Option<usize>, Query), ("limit" = Option<usize>, Query)),
    responses((status = 200, body = Entries)))]
#[get("/api/runs/<suite>/<number>/entries?<state>&<name>&<order>&<skip>&<limit>")]
#[allow(clippy::too_many_arguments)] // one for each part of the address
async fn entries(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    state: Option<String>,
    name: Option<String>,
    order: Option<String>,
    skip: Option<usize>,
    limit: Option<usize>,
) -> Answer<Entries> {
    let row = find(app, suite, number).await?;
    let state = state.unwrap_or_default();
    let known = ["", "trouble", "waiting", "running"];
    if !known.contains(&state.as_str()) && Outcome::of(&state).is_none() {
        let all = "passed, flaky, failed, skipped, parked, not-run, waiting, running or trouble";
        return Err(Refused::invalid(format!("{state:?} is not a valid state of an entry: use {all}")));
    }
    let order = match order.as_deref() {
        None | Some("trouble") => EntryOrder::Trouble,
        Some("slowest") => EntryOrder::Slowest,
        Some("fastest") => EntryOrder::Fastest,
        Some("listed") => EntryOrder::Listed,
        Some("attempts") => EntryOrder::Attempts,
        Some(other) => {
            let all = "trouble, slowest, fastest, listed or attempts";
            return Err(Refused::invalid(format!("{other:?} is not a valid order: use {all}")));
        }
    };
    let limit = limit.unwrap_or(100).clamp(1, 1000);
    let question = EntryQuestion { state, name: name.unwrap_or_default(), order, skip: skip.unwrap_or(0), limit };
    let asked = question.clone();
    let mut answer = match app.floor.ask(|reply| Ask::Entries(row.id, asked, reply)).await.flatten() {
        Some(answer) => answer,
        None => {
            let row = find(app, suite, number).await?;
            let past = past(app, &row).await?;
            let variants: Vec<String> = past.plan.variants.iter().map(ToString::to_string).collect();
            let about = |i: u32| {
                let planned = &past.plan.entries[i as usize];
                let state = active::state_word(past.states.get(i as usize).map(|s| s.0), false);
                (state, planned.name.as_str(), variants[usize::from(planned.variant)].as_str())
            };
            active::page(
                past.plan.entries.len() as u32,
                &question,
                about,
                |i| past.states.get(i as usize).map_or((0, 0), |s| (s.2, s.1)),
                |i| past_entry(&past, i),
            )
        }
    };
    fill(app, &row, &mut answer.entries).await?;
    Ok(Json(answer))
}

fn artifact(row: kesmo_store::past::ArtifactRow, plan: &Plan, attempt: u32) -> Artifact {
    let entry = row.entry.map(|e| e as u32).filter(|e| (*e as usize) < plan.entries.len());
    Artifact {
        test: entry.map(|e| plan.entries[e as usize].name.to_string()).unwrap_or_default(),
        variant: entry.map(|e| plan.variant_of(e).to_string()).unwrap_or_default(),
        attempt,
        media_type: media_type(&row.path).to_string(),
        path: row.path,
        about: row.about,
        bytes: row.bytes as u64,
        digest: row.digest,
    }
}

pub(super) fn media_type(path: &str) -> ContentType {
    let ending = path.rsplit_once('.').map(|(_, e)| e.to_lowercase()).unwrap_or_default();
    match ending.as_str() {
        "log" | "txt" | "tap" => ContentType::Plain,
        other => ContentType::from_extension(other).unwrap_or(ContentType::Binary),
    }
}

/// An entry with its attempts and their artifacts.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries/{index}", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("index" = u32, Path)), responses((status = 200, body = EntryDetail)))]
#[get("/api/runs/<suite>/<number>/entries/<index>")]
async fn entry(app: &State<App>, _caller: MaySee, suite: &str, number: i32, index: u32) -> Answer<EntryDetail> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let Some(planned) = past.plan.entries.get(index as usize) else {
        let count = past.plan.entries.len();
        return Err(Refused::not_found(format!(
            "{suite}/{number} has no entry {index}: it has {count}, counted from 0"
        )));
    };
    let mut entry = past_entry(&past, index);
    if let Some(state) = app.floor.ask(|reply| Ask::EntryState(row.id, index, reply)).await.flatten() {
        (entry.outcome, entry.running, entry.attempts) = (state.0, state.1, u32::from(state.2));
    }
    let attempts = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &[index as i32]).await?;
    let files = app.store.artifacts(row.id, Some(index as i32)).await?;
    let mut around = super::breakdown::around(app, &row, &past.plan, &attempts).await?;
    let read = |a: AttemptRow| Attempt {
        busy: a.busy as u32,
        of_slots: a.of_slots as u32,
        expected_us: a.expected_us.map(|us| us as u64),
        around: around.remove(&a.number),
        number: a.number as u32,
        ended: Ended::of(&a.ended).unwrap_or(Ended::Lost),
        slot: a.slot as u32,
        batch: a.batch as u32,
        began_at: a.began_at,
        spent_us: a.spent_us as u64,
        artifacts: files
            .iter()
            .filter(|f| f.batch == a.batch)
            .map(|f| artifact(f.clone(), &past.plan, a.number as u32))
            .collect(),
        worker: a.worker,
        message: a.message,
        detail: a.detail,
        steps: serde_json::from_value(a.steps).unwrap_or_default(),
        log_bytes: a.log_bytes as u64,
    };
    let history: Vec<Attempt> = attempts.into_iter().map(read).collect();
    if past.of_files {
        let month = kesmo_store::month_of(row.created_at);
        let tallies = app.store.case_tallies(row.id, month, Some(&[index as i32])).await?;
        entry.cases = tallies.get(&index).copied().unwrap_or_default();
    }
    if let Some(last) = history.last() {
        entry.worker = Some(last.worker.clone());
        entry.spent_us = Some(last.spent_us);
        entry.message =
            history.iter().rev().find(|a| !a.message.is_empty()).map(|a| a.message.clone()).unwrap_or_default();
    }
    let retries = u32::from(planned.retries);
    let word = if retries == 1 { "retry" } else { "retries" };
    Ok(Json(EntryDetail {
        entry,
        retries,
        retries_said: format!("{retries} {word}, from {}", planned.retries_from.said()),
        expected_us: history.iter().find_map(|a| a.expected_us),
        parked: past.plan.park_of(index).map(|p| format!("parked until {}: {}", p.until, p.why)),
        group: planned.group.is_some(),
        image: image_of(app, &row, past.plan.variant_of(index)).await?,
        claims: past.plan.claim_sets[planned.claims as usize].clone(),
        history,
    }))
}

/// The image that a run's processes of a variant ran in.
async fn image_of(app: &App, row: &RunRow, variant: &Variant) -> Result<Option<Image>, Refused> {
    let images = row.images()?;
    let Some(source) = row.source.as_deref().filter(|_| !images.is_empty()) else { return Ok(None) };
    let options = row.run_options()?;
    let file = suite_file(app, source).await?.1.in_image(options.image.as_deref());
    let from = file.container.map(|container| container.from.of_variant(variant.pairs()));
    Ok(images.into_iter().find(|image| from.as_ref().is_some_and(|from| from.name() == image.name)))
}

/// What an attempt printed, as text.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/entries/{index}/attempts/{attempt}/log", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("index" = i32, Path), ("attempt" = i32, Path)),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404)))]
#[get("/api/runs/<suite>/<number>/entries/<index>/attempts/<attempt>/log")]
async fn log(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    index: i32,
    attempt: i32,
) -> Result<(ContentType, String), Refused> {
    let row = find(app, suite, number).await?;
    let none = || Refused::not_found(format!("entry {index} of {suite}/{number} has no attempt {attempt}"));
    Ok((ContentType::Plain, log_text(app, &row, index, attempt).await?.ok_or_else(none)?))
}

/// What an attempt printed; none if there is no such attempt.
pub(super) async fn log_text(app: &App, row: &RunRow, index: i32, attempt: i32) -> Result<Option<String>, Refused> {
    let found = app.store.attempt_log(row.id, kesmo_store::month_of(row.created_at), index, attempt).await?;
    let Some((text, blob)) = found else { return Ok(None) };
    let Some(blob) = blob else { return Ok(Some(text)) };
    let blob = crate::lookup::digest(&blob)?;
    let bytes = match app.blobs.read(&blob).await {
        // A sweep removed it since the row was read.
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Some(kesmo_store::sweep::GONE.to_owned())),
        bytes => bytes,
    };
    let bytes = bytes.map_err(|e| Refused::unavailable(format!("the log cannot be read: {e}")))?;
    Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
}

/// The outcome of an entry of a run that is not active.
pub(super) async fn outcome_of(app: &App, row: &RunRow, index: u32) -> Option<Outcome> {
    let row = app.store.run_of(row.id).await.ok().flatten()?;
    let past = past(app, &row).await.ok()?;
    past.states.get(index as usize).map(|s| s.0)
}

/// The files that a run left behind.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/artifacts", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = [Artifact])))]
#[get("/api/runs/<suite>/<number>/artifacts")]
async fn artifacts(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Vec<Artifact>> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let files = app.store.artifacts(row.id, None).await?;
    let entries: Vec<i32> = files.iter().filter_map(|f| f.entry).collect();
    let attempts = app.store.attempts_of(row.id, kesmo_store::month_of(row.created_at), &entries).await?;
    let number_of: HashMap<(i32, i32), u32> = attempts.iter().map(|a| ((a.entry, a.batch), a.number as u32)).collect();
    let read = |f: kesmo_store::past::ArtifactRow| {
        let attempt = f.entry.and_then(|e| number_of.get(&(e, f.batch)).copied()).unwrap_or(0);
        artifact(f, &past.plan, attempt)
    };
    Ok(Json(files.into_iter().map(read).collect()))
}

#[derive(rocket::Responder)]
pub struct BlobFile {
    file: rocket::fs::NamedFile,
    kind: ContentType,
    /// What a test left behind is not ours: no script of it runs as this site.
    policy: Header<'static>,
    sniff: Header<'static>,
    cache: Header<'static>,
}

/// The content of an artifact, or where it is.
#[derive(rocket::Responder)]
enum Blob {
    Here(Box<BlobFile>),
    There(Box<rocket::response::Redirect>, Header<'static>),
}

/// Files from so many bytes on are downloaded from the object store, where whoever asks reaches that.
const LARGE: i64 = 1 << 20;

/// The content of an artifact; of a large one an address in the object store at which it is for a few minutes, where that can be reached.
#[utoipa::path(get, path = "/api/blobs/{digest}", params(("digest" = String, Path)), tag = "runs",
    responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream"), (status = 307, description = "it is there"), (status = 404)))]
#[get("/api/blobs/<digest>")]
async fn blob(app: &State<App>, _caller: MaySee, digest: &str) -> Result<Blob, Refused> {
    let none = || Refused::new(Status::NotFound, "not-found", format!("there is no artifact {digest:?}"));
    let name = kesmo_wire::Digest::parse(digest).map_err(|_| none())?;
    let (path, bytes) = app.store.kept_file(digest).await?.ok_or_else(none)?;
    let kind = media_type(&path);
    if bytes >= LARGE {
        // What could bring scripts is kept and not shown: the policy that forbids them is not sent from there.
        let shown = ["image", "video", "audio"].iter().any(|top| kind.top() == *top) && !kind.is_svg();
        if let Some(url) = app.blobs.signed(&name, &kind.to_string(), !shown && !kind.is_plain()).await {
            let there = rocket::response::Redirect::temporary(url);
            return Ok(Blob::There(Box::new(there), Header::new("Cache-Control", "no-store")));
        }
    }
    let local = app.blobs.local(&name).await.map_err(|e| crate::lookup::unread(&e, none))?;
    let file = rocket::fs::NamedFile::open(local).await.map_err(|_| none())?;
    Ok(Blob::Here(Box::new(BlobFile {
        file,
        kind,
        policy: Header::new(
            "Content-Security-Policy",
            "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:",
        ),
        sniff: Header::new("X-Content-Type-Options", "nosniff"),
        cache: Header::new("Cache-Control", "private, max-age=31536000, immutable"),
    })))
}
