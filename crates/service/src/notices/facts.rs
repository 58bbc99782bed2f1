//! What is said of a run, or of a start that did not take place.

use kesmo_core::{
    notice::{
        Cause, RunFacts, TestFact,
        event::{MOST_CAUSES, MOST_TESTS, Missed, Tests},
    },
    plan::RunOptions,
    record::median,
    run::Tally,
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_store::runs::RunRow;
use kesmo_wire::api::{ComparedTest, ComparedTests, RunSummary};

use crate::{
    api::{breakdown::causes_in, comparing::with_last},
    app::App,
    refused::Refused,
};

/// Earlier runs that are looked through for those of the same choice, and how many of those say what one usually takes.
const LOOKED_AT: i64 = 100;
const USUAL_OF: usize = 9;
/// Tests of a cause that are named.
const MOST_OF_CAUSE: usize = 3;

fn fact(test: &ComparedTest) -> TestFact {
    TestFact { test: test.test.clone(), variant: test.variant.clone(), message: test.message.clone() }
}

fn tests(compared: &ComparedTests) -> Tests {
    Tests { total: compared.total, first: compared.tests.iter().take(MOST_TESTS).map(fact).collect() }
}

/// What is said of a run that is over.
pub(super) async fn of_run(app: &App, row: &RunRow, suite: &str) -> Result<RunFacts, Refused> {
    let verdict = row.verdict.as_deref().and_then(Verdict::of);
    let tally: Tally = serde_json::from_value(row.tally.clone()).unwrap_or_default();
    let compared = if tally.total() > 0 { with_last(app, row, suite).await? } else { None };
    let causes = match verdict {
        Some(Verdict::Failed | Verdict::Stopped) if tally.failed > 0 => causes_in(app, row).await?,
        _ => Vec::new(),
    };
    let mut all: Vec<Cause> = Vec::new();
    for cause in causes.into_iter().filter(|cause| cause.count > cause.flaky).take(MOST_CAUSES) {
        let first = cause.tests.into_iter().map(|(_, name)| name).take(MOST_OF_CAUSE).collect();
        all.push(Cause { message: cause.example, tests: cause.count - cause.flaky, first });
    }
    let began = row.began_at.unwrap_or(row.created_at);
    let took = row.finished_at.map_or(Span::ZERO, |end| Span::from((end - began).to_std().unwrap_or_default()));
    // Where nothing failed before there is nothing to compare with: then all that fails does so newly.
    let newly = compared.as_ref().map(|c| {
        let mut newly = tests(&c.newly_failing);
        // A test that was not there before did not fail before either.
        for test in c.new.tests.iter().filter(|t| t.after.as_ref().is_some_and(|s| s.outcome == Outcome::Failed)) {
            newly.total += 1;
            if newly.first.len() < MOST_TESTS {
                newly.first.push(fact(test));
            }
        }
        newly
    });
    Ok(RunFacts {
        suite: suite.to_owned(),
        run: format!("{suite}/{}", row.number),
        verdict,
        reason: row.reason.clone(),
        branch: row.branch.clone(),
        commit: row.commit.clone(),
        brief: row.brief.clone(),
        labels: serde_json::from_value(row.labels.clone()).unwrap_or_default(),
        pool: row.pool.clone(),
        started_by: row.started_by.clone(),
        choice: row.run_options()?.alike().said,
        took,
        usual: usual(app, row).await?,
        passed: tally.passed,
        flaky: tally.flaky,
        failed: tally.failed,
        skipped: tally.skipped,
        parked: tally.parked,
        not_run: tally.not_run,
        newly_failing: newly.unwrap_or_else(|| Tests {
            total: tally.failed,
            first: all
                .iter()
                .flat_map(|cause| {
                    cause.first.iter().map(|test| TestFact {
                        test: test.clone(),
                        variant: String::new(),
                        message: cause.message.clone(),
                    })
                })
                .take(MOST_TESTS)
                .collect(),
        }),
        mended: compared.as_ref().map(|c| tests(&c.mended)).unwrap_or_default(),
        still_failing: compared.as_ref().map_or(0, |c| c.still_failing.total),
        against: compared.and_then(|c| c.with),
        causes: all,
        link: format!("{}/runs/{suite}/{}", app.base(), row.number),
    })
}

/// What runs of the same choice took before.
async fn usual(app: &App, row: &RunRow) -> Result<Option<Span>, Refused> {
    let key = row.run_options()?.alike().key;
    let mut took = Vec::new();
    for (options, span) in app.store.took_before(row.id, LOOKED_AT).await? {
        let alike = serde_json::from_value::<RunOptions>(options).is_ok_and(|o| o.alike().key == key);
        if alike && took.len() < USUAL_OF {
            took.push(span.unsigned_abs());
        }
    }
    Ok((!took.is_empty()).then(|| Span(median(&mut took))))
}

/// What is said of a run that is not over.
pub(super) fn of_summary(app: &App, run: &RunSummary) -> RunFacts {
    RunFacts {
        suite: run.suite.clone(),
        run: run.name.clone(),
        branch: run.branch.clone(),
        commit: run.commit.clone(),
        brief: run.origin.brief.clone(),
        labels: run.labels.clone(),
        pool: run.pool.clone(),
        started_by: run.started_by.clone(),
        choice: run.alike.said.clone(),
        link: format!("{}/runs/{}", app.base(), run.name),
        ..RunFacts::default()
    }
}

/// What is said of a planned start that did not take place.
pub(super) async fn of_start(app: &App, planned: i64) -> Result<Option<Missed>, Refused> {
    let found = app.store.missed_start(planned).await?;
    Ok(found.map(|row| {
        let link = format!("{}/schedules/{}", app.base(), row.schedule);
        Missed {
            schedule: row.schedule,
            brief: row.brief,
            suite: row.suite,
            planned: row.planned_at,
            count: row.count.unsigned_abs(),
            what: row.what,
            why: row.why,
            link,
        }
    }))
}
