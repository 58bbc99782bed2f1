//! A run against another one of its suite.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, NaiveTime, Utc};
use kesmo_core::{
    plan::RunOptions,
    record::{Change, Comparison, Seen, beyond_noise, compare},
    source::{check_branch, short_commit},
    words::{Ended, Verdict},
};
use kesmo_store::{
    month_of,
    results::{Among, Comparable},
    runs::RunRow,
};
use kesmo_wire::api::{Compared, ComparedTest, ComparedTests, SeenTest, SetupDifference};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{body::Answer, failing::have_results, found::find};
use crate::{access::MaySee, app::App, refused::Refused};

/// Tests that a list names.
const MOST_NAMED: usize = 200;
/// Durations before a run that say how much a test's wobble, and tests of which they are looked at.
const EARLIER: i64 = 9;
const MOST_PACED: usize = 500;
/// A test that was flaky in so many runs before is not newly so.
const FLAKY_OF_LATE: i64 = 50;
/// Runs that are looked through for one of the same choice.
const LOOKED_AT: i64 = 1000;

pub(super) fn routes() -> Vec<Route> {
    routes![compared]
}

/// What is compared with.
enum With {
    Last,
    LastPassed,
    Yesterday,
    Branch(String),
    Run(String, i32),
}

fn with_of(text: Option<&str>, suite: &str) -> Result<With, Refused> {
    let wrong = |text: &str| {
        Refused::invalid(format!(
            "with={text:?}: give a run (boarding-gate/41, or 41), last, last-passed, yesterday or branch:NAME"
        ))
    };
    let text = text.unwrap_or("last");
    match text {
        "last" => return Ok(With::Last),
        "last-passed" => return Ok(With::LastPassed),
        "yesterday" => return Ok(With::Yesterday),
        _ => {}
    }
    if let Some(branch) = text.strip_prefix("branch:") {
        check_branch(branch).map_err(|e| Refused::invalid(e.to_string()))?;
        return Ok(With::Branch(branch.to_owned()));
    }
    let (of, number) = text.rsplit_once('/').unwrap_or((suite, text));
    let number: i32 = number.parse().map_err(|_| wrong(text))?;
    if of != suite {
        return Err(Refused::invalid(format!(
            "{of}/{number} is of another suite than {suite}: their tests are not the same"
        )));
    }
    Ok(With::Run(of.to_owned(), number))
}

/// A run against another one of its suite: `with` is a run, `last` (of the same choice and branch; also if it is left out),
/// `last-passed`, `yesterday` (the last of an earlier day, by UTC) or `branch:NAME`. Both must be over.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/compared", operation_id = "compared", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("with" = Option<String>, Query)), responses((status = 200, body = Compared)))]
#[get("/api/runs/<suite>/<number>/compared?<with>")]
async fn compared(app: &State<App>, _caller: MaySee, suite: &str, number: i32, with: Option<&str>) -> Answer<Compared> {
    let with = with_of(with, suite)?;
    let row = find(app, suite, number).await?;
    check(&row, &format!("{suite}/{number}"))?;
    app.floor.recorded().await;
    Ok(Json(of_run(app, &row, suite, &with).await?))
}

/// A run that is over against the last of its choice and branch; nothing where it is not compared.
pub(crate) async fn with_last(app: &App, row: &RunRow, suite: &str) -> Result<Option<Compared>, Refused> {
    if check(row, suite).is_err() {
        return Ok(None);
    }
    let found = of_run(app, row, suite, &With::Last).await?;
    Ok(found.with.is_some().then_some(found))
}

async fn of_run(app: &App, row: &RunRow, suite: &str, with: &With) -> Result<Compared, Refused> {
    let name = format!("{suite}/{}", row.number);
    let (base, because) = base_of(app, row, suite, with).await?;
    let Some(base) = base else {
        return Ok(Compared { run: name, because, ..Compared::default() });
    };
    let base_name = format!("{suite}/{}", base.number);
    check(&base, &base_name)?;
    let before = results_of(app, &base, suite).await?;
    let after = results_of(app, row, suite).await?;
    let mut found = compare(before, after);
    hold_against_earlier(app, row, &mut found).await?;
    let (then, now) = (base.run_options()?, row.run_options()?);
    let told = Told::of(app, row, &found).await?;
    Ok(Compared {
        run: name,
        with: Some(base_name),
        with_verdict: base.verdict.as_deref().and_then(Verdict::of),
        because,
        same_choice: then.alike().key == now.alike().key,
        setup: setup(app, (&base, &then), (row, &now)).await?,
        newly_failing: told.list(&found.newly_failing),
        still_failing: told.list(&found.still_failing),
        mended: told.list(&found.mended),
        untested: told.list(&found.untested),
        newly_flaky: told.list(&found.newly_flaky),
        new: told.list(&found.new),
        gone: told.list(&found.gone),
        slower: told.list(&found.slower),
        faster: told.list(&found.faster),
        both: u32::try_from(found.both).unwrap_or(u32::MAX),
        pace: found.pace,
    })
}

fn check(row: &RunRow, name: &str) -> Result<(), Refused> {
    if row.phase != "finished" {
        return Err(Refused::conflict(format!("{name} is not over yet: compare it when it has a verdict")));
    }
    if row.verdict.as_deref().and_then(Verdict::of) == Some(Verdict::Void) {
        return Err(Refused::invalid(format!("{name} is void: it says nothing of its tests that could be compared")));
    }
    if row.labels.get("hunt").is_some() {
        return Err(Refused::invalid(format!("{name} repeats tests on purpose: it is not compared with other runs")));
    }
    Ok(())
}

async fn results_of(app: &App, row: &RunRow, suite: &str) -> Result<Vec<(i64, Seen)>, Refused> {
    have_results(app, row, suite).await?;
    Ok(app.store.results_of(row.id, month_of(row.created_at)).await?)
}

/// The run to compare with, and why that one, or why none.
async fn base_of(app: &App, row: &RunRow, suite: &str, with: &With) -> Result<(Option<RunRow>, String), Refused> {
    let alike = row.run_options()?.alike();
    let own = row.branch.as_deref();
    let of = |branch: Option<&str>| branch.map_or_else(String::new, |branch| format!(" on {branch}"));
    let among = |branch| Among { suite_id: row.suite_id, before: row.id, branch, until: None, most: LOOKED_AT };
    match with {
        With::Run(suite, number) => Ok((Some(find(app, suite, *number).await?), "asked for".to_owned())),
        With::Branch(branch) => {
            let before = i64::MAX;
            let found = pick(app, row, &alike.key, Among { before, ..among(Some(Some(branch))) }, |_| true).await?;
            Ok(match found {
                Some(found) => (Some(found), format!("the last run of {} on {branch}", alike.said)),
                None => (None, format!("no run of {} on {branch} came to a verdict", alike.said)),
            })
        }
        With::LastPassed => {
            let found = pick(app, row, &alike.key, among(Some(own)), |c| c.verdict == "passed").await?;
            Ok(match found {
                Some(found) => (Some(found), format!("the last run of {}{} that passed", alike.said, of(own))),
                None => (None, format!("no earlier run of {}{} passed", alike.said, of(own))),
            })
        }
        With::Yesterday => {
            let day =
                DateTime::<Utc>::from_naive_utc_and_offset(row.created_at.date_naive().and_time(NaiveTime::MIN), Utc);
            let found = pick(app, row, &alike.key, Among { until: Some(day), ..among(Some(own)) }, |_| true).await?;
            Ok(match found {
                Some(found) => (Some(found), format!("the last run of {}{} of an earlier day", alike.said, of(own))),
                None => (None, format!("there is no run of {}{} of an earlier day", alike.said, of(own))),
            })
        }
        With::Last => {
            if let Some(found) = pick(app, row, &alike.key, among(Some(own)), |_| true).await? {
                return Ok((Some(found), format!("the last run of {}{}", alike.said, of(own))));
            }
            // The first of its branch: what the suite's usual branch had, or else any.
            let usual = app
                .store
                .suite(suite)
                .await?
                .and_then(|s| s.git)
                .and_then(|g| g.get("branch")?.as_str().map(str::to_owned));
            for branch in [usual.as_deref().map(Some), None] {
                if let Some(found) = pick(app, row, &alike.key, among(branch), |_| true).await? {
                    let on = of(found.branch.as_deref());
                    return Ok((
                        Some(found),
                        format!("the last run of {}{on}, as it is the first{}", alike.said, of(own)),
                    ));
                }
            }
            Ok((None, format!("there is no earlier run of {}", alike.said)))
        }
    }
}

/// The latest of the same choice, one in the same pool first.
async fn pick(
    app: &App,
    row: &RunRow,
    key: &str,
    among: Among<'_>,
    fits: impl Fn(&Comparable) -> bool,
) -> Result<Option<RunRow>, Refused> {
    let found = app.store.comparable(among).await?;
    let is_alike = |c: &&Comparable| {
        let options: Option<RunOptions> = c.run_options().ok();
        c.id != row.id && fits(c) && options.is_some_and(|o| o.alike().key == key)
    };
    let alike: Vec<&Comparable> = found.iter().filter(is_alike).collect();
    let best = alike.iter().find(|c| c.pool == row.pool).or(alike.first());
    Ok(match best {
        Some(best) => app.store.run_of(best.id).await?,
        None => None,
    })
}

/// Leaves out what is slower or faster only as the test always was, and what was flaky of late already.
async fn hold_against_earlier(app: &App, row: &RunRow, found: &mut Comparison<i64>) -> Result<(), Refused> {
    let wobbly: Vec<i64> = found.newly_flaky.iter().map(|c| c.test).collect();
    let known = app.store.flaky_before(&wobbly, row.id, FLAKY_OF_LATE).await?;
    found.newly_flaky.retain(|change| !known.contains(&change.test));
    for list in [&mut found.slower, &mut found.faster] {
        list.truncate(MOST_PACED);
        let ids: Vec<i64> = list.iter().map(|c| c.test).collect();
        let earlier = app.store.durations_before(&ids, row.id, EARLIER).await?;
        let pace = found.pace.unwrap_or(1.0);
        list.retain(|change| {
            let now = change.after.map_or(0, |s| s.spent_us) as f64 / pace;
            earlier.get(&change.test).is_none_or(|earlier| beyond_noise(now as u64, earlier))
        });
    }
    Ok(())
}

/// What is told of the tests that differ.
struct Told {
    names: HashMap<i64, (String, String)>,
    messages: HashMap<u32, String>,
}

impl Told {
    async fn of(app: &App, row: &RunRow, found: &Comparison<i64>) -> Result<Self, Refused> {
        let all = [
            &found.newly_failing,
            &found.still_failing,
            &found.mended,
            &found.untested,
            &found.newly_flaky,
            &found.new,
            &found.gone,
            &found.slower,
            &found.faster,
        ];
        let named: BTreeSet<i64> = all.iter().flat_map(|list| list.iter().take(MOST_NAMED)).map(|c| c.test).collect();
        let names = app.store.tests_of(&named.into_iter().collect::<Vec<_>>()).await?;
        let failing = [&found.newly_failing, &found.still_failing, &found.newly_flaky];
        let entries: Vec<i32> = failing
            .iter()
            .flat_map(|list| list.iter().take(MOST_NAMED))
            .filter_map(|c| c.after.and_then(|s| i32::try_from(s.entry).ok()))
            .collect();
        let mut messages = HashMap::new();
        for attempt in app.store.attempts_of(row.id, month_of(row.created_at), &entries).await? {
            if Ended::of(&attempt.ended).is_some_and(Ended::failing) {
                messages.insert(attempt.entry as u32, kesmo_core::name::shorten(&attempt.message, 500));
            }
        }
        Ok(Self { names, messages })
    }

    fn list(&self, changes: &[Change<i64>]) -> ComparedTests {
        let seen =
            |s: Seen| SeenTest { entry: s.entry, outcome: s.outcome, attempts: s.attempts, spent_us: s.spent_us };
        let test = |change: &Change<i64>| {
            let (test, variant) = self.names.get(&change.test).cloned().unwrap_or_default();
            let message = change.after.and_then(|s| self.messages.get(&s.entry)).cloned().unwrap_or_default();
            ComparedTest { test, variant, before: change.before.map(seen), after: change.after.map(seen), message }
        };
        ComparedTests {
            total: u32::try_from(changes.len()).unwrap_or(u32::MAX),
            tests: changes.iter().take(MOST_NAMED).map(test).collect(),
        }
    }
}

/// How the two runs were carried out differently.
async fn setup(
    app: &App,
    (base, then): (&RunRow, &RunOptions),
    (row, now): (&RunRow, &RunOptions),
) -> Result<Vec<SetupDifference>, Refused> {
    let mut found = Vec::new();
    let mut tell = |what: &str, before: String, after: String| {
        if before != after {
            found.push(SetupDifference { what: what.to_owned(), before, after });
        }
    };
    let or_none = |text: &Option<String>| text.clone().unwrap_or_default();
    let commit = |row: &RunRow| row.commit.as_deref().map(|c| short_commit(c).to_owned()).unwrap_or_default();
    tell("choice", then.alike().said, now.alike().said);
    tell("branch", or_none(&base.branch), or_none(&row.branch));
    tell("commit", commit(base), commit(row));
    if base.commit.is_none() || row.commit.is_none() {
        let files = |row: &RunRow| row.source.as_deref().map(|s| s[..s.len().min(12)].to_owned()).unwrap_or_default();
        tell("files", files(base), files(row));
    }
    let images = |row: &RunRow| -> Result<String, Refused> {
        let said = row.images()?.iter().map(|i| format!("{} {}", i.name, i.short())).collect::<Vec<_>>();
        Ok(said.join(", "))
    };
    tell("image", images(base)?, images(row)?);
    let names: BTreeSet<&String> = then.set.keys().chain(now.set.keys()).collect();
    let value = |of: &BTreeMap<String, String>, name: &String| of.get(name).cloned().unwrap_or_default();
    for name in names {
        tell(&format!("setting {name}"), value(&then.set, name), value(&now.set, name));
    }
    tell("pool", base.pool.clone(), row.pool.clone());
    let number = |n: Option<u32>| n.map(|n| n.to_string()).unwrap_or_default();
    tell("retries", number(then.retries), number(now.retries));
    tell("shards", number(then.shards), number(now.shards));
    tell("order", if then.shuffle { "shuffled" } else { "" }.into(), if now.shuffle { "shuffled" } else { "" }.into());
    let (one, other) = (app.store.slots_of(base.id).await?, app.store.slots_of(row.id).await?);
    tell("workers", workers(&one), workers(&other));
    Ok(found)
}

/// Workers and how many of their slots worked for a run, as `heron (4), tern (2)`.
fn workers(slots: &[(String, i64)]) -> String {
    let shown: Vec<String> = slots.iter().take(8).map(|(worker, count)| format!("{worker} ({count})")).collect();
    match slots.len().saturating_sub(8) {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}
