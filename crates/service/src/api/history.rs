//! Tests over their runs: histories, and those that were flaky of late.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{Months, Timelike, Utc};
use kesmo_core::{
    name::TestName,
    record::{
        flakiness::{Observed, Share, Trend, goes_with},
        shifts, spells,
    },
    suite::Choice,
    words::{Ended, Outcome},
};
use kesmo_store::{
    month_of,
    results::{AroundRow, FlakyRow, PastResult, TestRow},
    suites::SuiteRow,
};
use kesmo_wire::api::{
    CommitOf, DurationShift, FailedSpell, FlakyEvidence, FlakyTest, FlakyTests, HistoryRun, Me, Park, PastEntry,
    TestHistory,
};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{body::Answer, parks::parks};
use crate::{
    access::{MayOperate, MaySee},
    app::App,
    lookup::named,
    refused::Refused,
};
use kesmo_files::git;

/// Runs of a history that are told at once, and at most.
const USUAL: i64 = 200;
const MOST: i64 = 1000;
/// Runs of a test that say how flaky it is, and how far back they may lie.
const WINDOW: i64 = 100;
const MONTHS_BACK: u32 = 2;
/// Tests that are looked at for being flaky, and that are told.
const MOST_FLAKY: i64 = 1000;
const MOST_TOLD: usize = 500;
/// Runs of a test whose attempts are looked at for what failing goes with.
const RUNS_OF_EVIDENCE: i64 = 200;
/// Hours of a band of the day.
const BAND: u32 = 3;

pub(super) fn routes() -> Vec<Route> {
    routes![history, flaky, flaky_of_suite, evidence, commits]
}

/// All variants of a test in which it ran; none where no run that is over had it.
async fn all_of(app: &App, suite: &SuiteRow, test: &str) -> Result<Vec<TestRow>, Refused> {
    if test.contains('\0') {
        return Err(Refused::invalid("a test's name holds no NUL"));
    }
    Ok(app.store.tests_named(suite.id, test).await?)
}

/// A file's name may hold so many slashes that parts of a case's name are taken for one.
const MOST_PARTS: usize = 20;

/// The variants of a test; or of the file that a case is of, `FILE/TITLE`, with the case's title.
async fn test_or_case<'t>(
    app: &App,
    suite: &SuiteRow,
    name: &'t str,
) -> Result<Option<(Vec<TestRow>, Option<&'t str>)>, Refused> {
    let all = all_of(app, suite, name).await?;
    if !all.is_empty() {
        return Ok(Some((all, None)));
    }
    for (at, _) in name.match_indices('/').take(MOST_PARTS) {
        let all = all_of(app, suite, &name[..at]).await?;
        if !all.is_empty() {
            return Ok(Some((all, Some(&name[at + 1..]))));
        }
    }
    Ok(None)
}

fn pairs(variant: &str) -> BTreeSet<&str> {
    variant.split(',').map(str::trim).filter(|pair| !pair.is_empty()).collect()
}

/// The one that is asked for; where there are several, the variant must be given.
fn one_of(all: &[TestRow], test: &str, variant: Option<&str>) -> Result<TestRow, Refused> {
    let variants = || all.iter().map(|t| format!("{:?}", t.variant)).collect::<Vec<_>>().join(", ");
    let found = match variant {
        None if all.len() > 1 => {
            return Err(Refused::invalid(format!("{test} stands in several variants: choose one of {}", variants())));
        }
        None => all.first(),
        // Its facets may be given in any order.
        Some(variant) => all.iter().find(|t| pairs(&t.variant) == pairs(variant)),
    };
    let never = || Refused::not_found(format!("{test} never ran in that variant: there are {}", variants()));
    found.cloned().ok_or_else(never)
}

/// A test, or a case of a file (`FILE/TITLE`), over its runs that are over, newest first, at most `limit` (200, at most 1,000), on `branch` or all, before the run of
/// number `before`; without variants where no run that is over had it. `variant` is as written (`screen=phone`), and needed where there are several.
#[utoipa::path(get, path = "/api/suites/{suite}/history", operation_id = "history", tag = "suites",
    params(("suite" = String, Path), ("test" = String, Query), ("variant" = Option<String>, Query), ("branch" = Option<String>, Query),
        ("before" = Option<i32>, Query), ("limit" = Option<i64>, Query)),
    responses((status = 200, body = TestHistory)))]
#[get("/api/suites/<suite>/history?<test>&<variant>&<branch>&<before>&<limit>")]
#[expect(clippy::too_many_arguments, reason = "each is a part of the question, and Rocket names them so")]
async fn history(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    test: &str,
    variant: Option<&str>,
    branch: Option<&str>,
    before: Option<i32>,
    limit: Option<i64>,
) -> Answer<TestHistory> {
    let row = named(app, suite).await?;
    app.floor.recorded_of(Some(row.id)).await;
    let asked = test;
    let Some((all, title)) = test_or_case(app, &row, test).await? else {
        return Ok(Json(TestHistory::none(suite, test, variant.unwrap_or_default())));
    };
    let found = one_of(&all, test, variant)?;
    if branch.is_some_and(|b| b.contains('\0')) {
        return Err(Refused::invalid("a branch's name holds no NUL"));
    }
    let before = match before {
        Some(number) => Some(super::found::find(app, suite, number).await?.id),
        None => None,
    };
    let limit = limit.unwrap_or(USUAL).clamp(1, MOST);
    let mut runs = match title {
        None => app.store.history(found.id, branch, before, limit + 1).await?,
        Some(title) => app.store.case_history(found.id, title, branch, before, limit + 1).await?,
    };
    if title.is_some() && runs.is_empty() && branch.is_none() && before.is_none() {
        return Ok(Json(TestHistory::none(suite, test, variant.unwrap_or_default())));
    }
    let more = runs.len() as i64 > limit;
    runs.truncate(limit as usize);
    let authors = authors(app, &row, &runs).await;
    let place = |past: &PastResult| HistoryRun {
        run: format!("{suite}/{}", past.number),
        created_at: past.created_at,
        commit: past.commit.clone(),
        author: past.commit.as_ref().and_then(|c| authors.get(c)).cloned(),
    };
    let count = |of: &dyn Fn(Outcome) -> bool| runs.iter().filter(|r| of(r.outcome())).count() as u32;
    let ended = count(&|o| matches!(o, Outcome::Passed | Outcome::Flaky | Outcome::Failed));
    let told = |past: &PastResult| PastEntry {
        run: format!("{suite}/{}", past.number),
        index: past.entry.max(0) as u32,
        created_at: past.created_at,
        branch: past.branch.clone(),
        commit: past.commit.clone(),
        pool: past.pool.clone(),
        outcome: past.outcome(),
        attempts: past.attempts.max(0) as u32,
        spent_us: (past.attempts > 0).then_some(past.spent_us.max(0) as u64),
        message: past.message.clone(),
    };
    Ok(Json(TestHistory {
        suite: suite.to_owned(),
        before: runs.last().filter(|_| more).map(|r| r.number.max(0) as u32),
        flaky: Share::of(count(&|o| o == Outcome::Flaky), ended),
        failed: Share::of(count(&|o| o == Outcome::Failed), ended),
        spells: spells_of(&runs, place),
        shifts: shifts_of(&runs, place),
        parks: parks_of(app, &row, asked).await?,
        runs: runs.iter().map(told).collect(),
        variants: all.into_iter().map(|t| t.variant).collect(),
        test: asked.to_owned(),
        variant: found.variant,
    }))
}

/// When it failed, by branch, newest first.
fn spells_of(runs: &[PastResult], place: impl Fn(&PastResult) -> HistoryRun) -> Vec<FailedSpell> {
    let mut by_branch: BTreeMap<Option<&str>, Vec<&PastResult>> = BTreeMap::new();
    for past in runs.iter().rev() {
        by_branch.entry(past.branch.as_deref()).or_default().push(past);
    }
    let mut found: Vec<(i64, FailedSpell)> = Vec::new();
    for (branch, of_branch) in by_branch {
        for spell in spells(of_branch.iter().map(|past| (*past, past.outcome()))) {
            found.push((
                spell.from.run_id,
                FailedSpell {
                    branch: branch.map(str::to_owned),
                    from: place(spell.from),
                    runs: spell.runs,
                    mended: spell.mended.map(&place),
                    message: spell.last.message.clone(),
                },
            ));
        }
    }
    found.sort_by_key(|(id, _)| std::cmp::Reverse(*id));
    found.into_iter().map(|(_, spell)| spell).collect()
}

/// When what it takes changed, newest first; each pool for itself, as their machines differ.
fn shifts_of(runs: &[PastResult], place: impl Fn(&PastResult) -> HistoryRun) -> Vec<DurationShift> {
    let mut by_pool: BTreeMap<&str, Vec<&PastResult>> = BTreeMap::new();
    for past in runs.iter().rev() {
        if matches!(past.outcome(), Outcome::Passed | Outcome::Flaky) && past.spent_us > 0 {
            by_pool.entry(&past.pool).or_default().push(past);
        }
    }
    let mut found: Vec<(i64, DurationShift)> = Vec::new();
    for (pool, of_pool) in by_pool {
        let durations: Vec<u64> = of_pool.iter().map(|past| past.spent_us as u64).collect();
        for shift in shifts(&durations) {
            let at = of_pool[shift.at];
            let (before_us, after_us, sure) = (shift.before, shift.after, shift.sure);
            found.push((at.run_id, DurationShift { at: place(at), pool: pool.to_owned(), before_us, after_us, sure }));
        }
    }
    found.sort_by_key(|(id, _)| std::cmp::Reverse(*id));
    found.into_iter().map(|(_, shift)| shift).collect()
}

/// Who made the commits of some runs, as far as the service knows their repository.
async fn authors(app: &App, suite: &SuiteRow, runs: &[PastResult]) -> HashMap<String, String> {
    let Ok(Some(git)) = suite.git_source() else { return HashMap::new() };
    let commits: BTreeSet<&str> = runs.iter().filter_map(|r| r.commit.as_deref()).collect();
    app.git.authors(&git.url, &commits.into_iter().collect::<Vec<_>>()).await
}

/// The parks that name the test; those by tags are not known here.
async fn parks_of(app: &App, suite: &SuiteRow, test: &str) -> Result<Vec<Park>, Refused> {
    let Ok(name) = TestName::parse(test) else { return Ok(Vec::new()) };
    let takes = |park: &Park| {
        let choice = Choice::parse(std::slice::from_ref(&park.pattern), &[]);
        choice.is_ok_and(|choice| choice.takes(&name, &[]))
    };
    Ok(parks(app, Some(suite.id)).await?.into_iter().filter(|p| !p.over).filter(takes).collect())
}

fn flaky_test(row: FlakyRow) -> FlakyTest {
    let series: String = row.series.chars().rev().collect();
    let hits: Vec<bool> = series.chars().map(|letter| letter == 'k').collect();
    let count = |letter: char| series.chars().filter(|l| *l == letter).count() as u32;
    FlakyTest {
        flaky: Share::of(count('k'), hits.len() as u32),
        failed: count('f'),
        trend: Trend::of(&hits),
        retried_us: row.retried_us.max(0) as u64,
        last: format!("{}/{}", row.suite, row.last_number),
        last_at: row.last_at,
        entry: row.last_entry.max(0) as u32,
        message: row.message,
        suite: row.suite,
        test: row.test,
        variant: row.variant,
        series,
    }
}

async fn flaky_tests(app: &App, me: &Me, suite: Option<i64>) -> Answer<FlakyTests> {
    app.floor.recorded_of(suite).await;
    let now = Utc::now();
    let since = month_of(now.checked_sub_months(Months::new(MONTHS_BACK)).unwrap_or(now));
    let rows = app.store.flaky(suite, since, WINDOW, MOST_FLAKY).await?;
    let mut tests: Vec<FlakyTest> = rows.into_iter().map(flaky_test).filter(|test| me.is_for(&test.suite)).collect();
    tests.sort_by(|a, b| b.flaky.low.total_cmp(&a.flaky.low).then_with(|| a.test.cmp(&b.test)));
    tests.truncate(MOST_TOLD);
    Ok(Json(FlakyTests { since, retried_us: tests.iter().map(|t| t.retried_us).sum(), tests }))
}

/// The tests of all suites that were flaky of late, those that are most surely flaky often first.
#[utoipa::path(get, path = "/api/flaky", operation_id = "flaky", tag = "suites", responses((status = 200, body = FlakyTests)))]
#[get("/api/flaky")]
async fn flaky(app: &State<App>, caller: MaySee) -> Answer<FlakyTests> {
    flaky_tests(app, &caller.0, None).await
}

/// The tests of a suite that were flaky of late, those that are most surely flaky often first.
#[utoipa::path(get, path = "/api/suites/{suite}/flaky", operation_id = "flaky_of_suite", params(("suite" = String, Path)),
    tag = "suites", responses((status = 200, body = FlakyTests)))]
#[get("/api/suites/<suite>/flaky")]
async fn flaky_of_suite(app: &State<App>, caller: MaySee, suite: &str) -> Answer<FlakyTests> {
    let row = named(app, suite).await?;
    flaky_tests(app, &caller.0, Some(row.id)).await
}

/// What failing goes with of a test's last attempts: a worker, a busy machine, its place in its process, the time of day, a variant,
/// the test before it. Of all its variants, or of one.
#[utoipa::path(get, path = "/api/suites/{suite}/flaky/evidence", operation_id = "flaky_evidence", tag = "suites",
    params(("suite" = String, Path), ("test" = String, Query), ("variant" = Option<String>, Query)),
    responses((status = 200, body = FlakyEvidence)))]
#[get("/api/suites/<suite>/flaky/evidence?<test>&<variant>")]
async fn evidence(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    test: &str,
    variant: Option<&str>,
) -> Answer<FlakyEvidence> {
    let row = named(app, suite).await?;
    app.floor.recorded_of(Some(row.id)).await;
    let all = all_of(app, &row, test).await?;
    let chosen = match variant {
        Some(_) if !all.is_empty() => vec![one_of(&all, test, variant)?],
        _ => all,
    };
    let ids: Vec<i64> = chosen.iter().map(|t| t.id).collect();
    let rows = app.store.around(&ids, RUNS_OF_EVIDENCE).await?;
    let observed: Vec<Observed> = rows.iter().map(|row| observed(row, chosen.len() > 1)).collect();
    let failed = observed.iter().filter(|o| o.failed).count() as u32;
    Ok(Json(FlakyEvidence {
        suite: suite.to_owned(),
        test: test.to_owned(),
        variants: chosen.into_iter().map(|t| t.variant).collect(),
        attempts: Share::of(failed, observed.len() as u32),
        goes_with: goes_with(&observed),
    }))
}

/// `good` and the commits of a suite from version control after it up to `bad`, along the first parents, oldest first; each is a
/// commit (at least its first 7 digits) or a branch.
#[utoipa::path(get, path = "/api/suites/{suite}/commits", operation_id = "commits", tag = "suites",
    params(("suite" = String, Path), ("good" = String, Query), ("bad" = String, Query)), responses((status = 200, body = [CommitOf])))]
#[get("/api/suites/<suite>/commits?<good>&<bad>")]
async fn commits(app: &State<App>, _caller: MayOperate, suite: &str, good: &str, bad: &str) -> Answer<Vec<CommitOf>> {
    let row = named(app, suite).await?;
    let Some(git) = row.git_source()? else {
        return Err(Refused::invalid(format!(
            "{suite} is not from version control: add it with `kesmo suite add --git URL`"
        )));
    };
    let found = app.git.commits(&git.url, good, bad).await.map_err(|e| match e {
        git::Error::Away(why) => Refused::unavailable(why),
        git::Error::Wrong(why) => Refused::invalid(why),
    })?;
    let told = |line: git::CommitLine| CommitOf {
        commit: line.commit,
        author: line.author,
        at: line.at,
        subject: line.subject,
    };
    Ok(Json(found.into_iter().map(told).collect()))
}

fn observed(row: &AroundRow, variants: bool) -> Observed {
    let mut facts = vec![("worker", row.worker.clone())];
    if row.of_slots > 1 {
        let busy = if row.busy >= row.of_slots { "all slots of its machine busy" } else { "slots of its machine free" };
        facts.push(("load", busy.to_owned()));
    }
    if let Some(place) = row.place {
        let first = if place == 0 { "first in its process" } else { "after others in its process" };
        facts.push(("order", first.to_owned()));
    }
    let from = row.began_at.hour() / BAND * BAND;
    facts.push(("time of day", format!("{from:02}:00 to {:02}:00 UTC", from + BAND)));
    if variants {
        facts.push(("variant", row.variant.clone()));
    }
    if let Some(after) = &row.after {
        facts.push(("after", after.clone()));
    }
    Observed { failed: Ended::of(&row.ended).is_some_and(Ended::failing), facts }
}
