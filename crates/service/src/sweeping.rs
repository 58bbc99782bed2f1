//! Removes what is not kept any longer: what rules let go, and what nothing needs.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::{Duration, SystemTime},
};

use chrono::{DateTime, NaiveDate, Utc};
use kesmo_core::{
    keep::{Freed, Kept, Rule, RunSeen, kept_since, let_go},
    time::Timestamp,
    words::Verdict,
};
use kesmo_store::{month_of, sweep::OverRun};
use kesmo_wire::Digest;
use tokio::sync::watch;

use crate::{app::App, refused::Refused};

/// It is swept so often.
const EVERY: Duration = Duration::from_secs(3600);
/// What nothing refers to stays for so long: it may have come for something that is yet to be kept.
const GRACE: Duration = Duration::from_secs(24 * 3600);
/// The same of lists, stamps, meetings and suites' files.
const OTHERS_LAST: chrono::TimeDelta = chrono::TimeDelta::days(30);
/// Files that are looked for at once.
const TOGETHER: usize = 500;

/// Sweeps again and again, until `ending` turns true.
pub async fn keep_swept(app: App, mut ending: watch::Receiver<bool>) {
    loop {
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            _ = ending.wait_for(|ending| *ending) => return,
        }
        match sweep(&app, false).await {
            Ok(Some(freed)) if freed != Freed::default() => tracing::info!("swept: {}", freed.said()),
            Ok(_) => {}
            Err(e) => tracing::warn!("what is old is swept later: {}", e.1.message),
        }
    }
}

/// Sweeps once, or tells what would go; none if another service is at it.
///
/// # Errors
/// If PostgreSQL does not answer, or a rule cannot be read: then nothing was removed by rules.
pub async fn sweep(app: &App, only_tell: bool) -> Result<Option<Freed>, Refused> {
    let Some(sweeping) = app.store.begin_sweep().await? else { return Ok(None) };
    let swept = match only_tell {
        true => would_go(app).await,
        false => carry_out(app).await,
    };
    sweeping.end().await;
    let freed = swept?;
    if !only_tell && freed != Freed::default() {
        app.store.add_sweep(&freed).await?;
    }
    Ok(Some(freed))
}

fn now() -> Timestamp {
    Timestamp(Utc::now().timestamp_micros())
}

fn seen(run: &OverRun, bytes: i64) -> RunSeen {
    RunSeen {
        id: run.id,
        suite: run.suite.clone(),
        branch: run.branch.clone(),
        verdict: run.verdict.as_deref().and_then(Verdict::of),
        over_at: Timestamp(run.finished_at.timestamp_micros()),
        needed: run.needed,
        bytes: bytes.unsigned_abs(),
    }
}

/// What goes of runs.
struct Going {
    /// Each thing, with the runs of which it goes and the months in which those were made.
    of: BTreeMap<Kept, Vec<(i64, NaiveDate)>>,
    /// What all of it takes.
    bytes: u64,
}

async fn going(app: &App, rules: &BTreeMap<String, Rule>) -> Result<Going, Refused> {
    let by_size = rules.values().any(|rule| rule.what == Kept::Logs && rule.bytes.is_some());
    let mut going = Going { of: BTreeMap::new(), bytes: 0 };
    if !rules.values().any(|rule| rule.what.is_of_runs()) {
        return Ok(going);
    }
    app.floor.recorded().await;
    let runs = app.store.over_runs(by_size).await?;
    let mut gone: BTreeSet<i64> = BTreeSet::new();
    for what in [Kept::Runs, Kept::Artifacts, Kept::Logs, Kept::Pictures] {
        // What was removed before need not be again; and with a run goes all of it.
        let left = runs.iter().filter(|run| !gone.contains(&run.id));
        let all: Vec<RunSeen> =
            left.map(|run| seen(run, if what == Kept::Logs { run.logs } else { run.files })).collect();
        let go: BTreeSet<i64> = let_go(rules, what, &all, now()).into_iter().collect();
        let fresh = |run: &&OverRun| {
            let before = |word: &str| run.swept.iter().any(|swept| swept == word);
            go.contains(&run.id) && !before(what.word()) && !(what == Kept::Pictures && before("artifacts"))
        };
        let of: Vec<&OverRun> = runs.iter().filter(fresh).collect();
        let bytes = |run: &&OverRun| match what {
            Kept::Logs => run.logs.unsigned_abs(),
            Kept::Pictures => 0,
            _ => run.files.unsigned_abs(),
        };
        going.bytes += of.iter().map(bytes).sum::<u64>();
        going.of.insert(what, of.iter().map(|run| (run.id, month_of(run.created_at))).collect());
        if what == Kept::Runs {
            gone.extend(go);
        }
    }
    Ok(going)
}

fn moment(at: Option<Timestamp>) -> Option<DateTime<Utc>> {
    DateTime::from_timestamp_micros(at?.0)
}

async fn would_go(app: &App) -> Result<Freed, Refused> {
    let rules = app.store.keeping().await?;
    let going = going(app, &rules).await?;
    let count = |what: Kept| going.of.get(&what).map_or(0, |runs| runs.len() as u64);
    let since = |what| moment(kept_since(&rules, what, now()));
    let (deliveries, audit) = app.store.older_than(since(Kept::Deliveries), since(Kept::Audit)).await?;
    Ok(Freed {
        runs: count(Kept::Runs),
        logs: count(Kept::Logs),
        artifacts: count(Kept::Artifacts),
        pictures: count(Kept::Pictures),
        deliveries,
        audit,
        bytes: going.bytes,
        ..Freed::default()
    })
}

async fn carry_out(app: &App) -> Result<Freed, Refused> {
    let rules = app.store.keeping().await?;
    let mut freed = Freed::default();
    let going = going(app, &rules).await?;
    let of = |what: Kept| going.of.get(&what).map_or(&[][..], Vec::as_slice);
    if !of(Kept::Runs).is_empty() {
        (freed.runs, freed.months) = remove_runs(app, of(Kept::Runs)).await?;
    }
    freed.artifacts = app.store.remove_artifacts(of(Kept::Artifacts), false).await?;
    freed.pictures = app.store.remove_artifacts(of(Kept::Pictures), true).await?;
    freed.logs = app.store.remove_logs(of(Kept::Logs)).await?;
    if let Some(before) = moment(kept_since(&rules, Kept::Deliveries, now())) {
        freed.deliveries = app.store.remove_deliveries(before).await?;
    }
    if let Some(before) = moment(kept_since(&rules, Kept::Audit, now())) {
        freed.audit = app.store.remove_audit(before).await?;
    }
    freed.others = app.store.remove_others(Utc::now() - OTHERS_LAST).await?;
    (freed.files, freed.bytes) = files(app).await?;
    Ok(freed)
}

/// Removes runs, and what is remembered of them.
///
/// # Errors
/// If PostgreSQL does not answer.
pub async fn remove_runs(app: &App, runs: &[(i64, NaiveDate)]) -> Result<(u64, u64), Refused> {
    let removed = app.store.remove_runs(runs).await?;
    let gone: BTreeSet<i64> = runs.iter().map(|run| run.0).collect();
    app.past.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).retain(|past| !gone.contains(&past.0));
    Ok(removed)
}

/// Removes files that nothing needs; tells how many, and the bytes that they took.
async fn files(app: &App) -> Result<(u64, u64), Refused> {
    let before = SystemTime::now() - GRACE;
    let away = |e: kesmo_files::Error| Refused::unavailable(e.to_string());
    // What was set aside by the sweep before, and came or was needed after all, is there again before anything else goes.
    for some in app.blobs.long_aside().await.map_err(away)?.chunks(TOGETHER) {
        let needed = needed(app, some).await?;
        for digest in some {
            if let Err(e) = app.blobs.settle(digest, needed.contains(digest.as_str())).await {
                tracing::warn!("a file that was set aside stays there: {e}");
            }
        }
    }
    let (mut count, mut bytes) = (0, 0);
    for some in app.blobs.older_than(before).await.map_err(away)?.chunks(TOGETHER) {
        let needed = needed(app, some).await?;
        for digest in some.iter().filter(|digest| !needed.contains(digest.as_str())) {
            match app.blobs.remove_older(digest, before).await {
                Ok(Some(freed)) => (count, bytes) = (count + 1, bytes + freed),
                Ok(None) => {}
                Err(e) => tracing::warn!("a file that nothing needs stays: {e}"),
            }
        }
    }
    app.blobs.forget_local(before).await;
    Ok((count, bytes))
}

/// Those of some files that something needs.
async fn needed(app: &App, some: &[Digest]) -> Result<BTreeSet<String>, Refused> {
    let names: Vec<String> = some.iter().map(ToString::to_string).collect();
    Ok(app.store.needed_files(&names).await?.into_iter().collect())
}
