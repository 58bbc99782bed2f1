//! Requirements, and which tests cover them.

use kesmo_core::format::csv;
use kesmo_store::covers::{self as stored, RequirementSum};
use kesmo_wire::api::{CoveringTest, RequirementShown, RequirementTests, RequirementsShown, Shown};
use rocket::{Route, State, get, http::ContentType, routes, serde::json::Json};

use super::body::Answer;
use crate::{access::MaySee, app::App, lookup::id_of, refused::Refused};

/// Requirements that are told at once, tests of one, and lines of a table.
const MOST: i64 = 1000;
const MOST_TESTS: i64 = 10_000;
const MOST_LINES: i64 = 1_000_000;

pub(super) fn routes() -> Vec<Route> {
    routes![covers, covers_of, covers_csv]
}

fn counted(n: i64) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

fn shown(sum: RequirementSum) -> RequirementShown {
    let shown = if sum.failed > 0 {
        Shown::Failed
    } else if sum.never == sum.tests {
        Shown::NotRun
    } else if sum.passed + sum.flaky == sum.tests {
        Shown::Passed
    } else {
        Shown::InPart
    };
    RequirementShown {
        requirement: sum.requirement,
        shown,
        tests: counted(sum.tests),
        passed: counted(sum.passed),
        flaky: counted(sum.flaky),
        failed: counted(sum.failed),
        skipped: counted(sum.skipped),
        parked: counted(sum.parked),
        never: counted(sum.never),
    }
}

fn sum_of(requirement: &str, tests: &[stored::CoveringTest]) -> RequirementSum {
    let count = |outcome: Option<&str>| tests.iter().filter(|t| t.outcome.as_deref() == outcome).count() as i64;
    RequirementSum {
        requirement: requirement.to_owned(),
        tests: tests.len() as i64,
        passed: count(Some("passed")),
        flaky: count(Some("flaky")),
        failed: count(Some("failed")),
        skipped: count(Some("skipped")),
        parked: count(Some("parked")),
        never: count(None),
    }
}

fn test(row: stored::CoveringTest) -> CoveringTest {
    let number = |n: Option<i32>| n.and_then(|n| u32::try_from(n).ok());
    CoveringTest {
        suite: row.suite,
        test: row.test,
        variant: row.variant,
        told: row.told,
        outcome: row.outcome,
        run: number(row.number),
        entry: number(row.entry),
        at: row.at,
    }
}

/// The requirements that tests cover, of a `suite` or of all, with how they stand by the tests' latest outcomes: on a `branch` (empty:
/// where none is known), or on any; 1,000 at once, `from` one on.
#[utoipa::path(get, path = "/api/covers", operation_id = "covers", tag = "suites", params(("suite" = Option<String>, Query),
    ("branch" = Option<String>, Query), ("from" = Option<u32>, Query)), responses((status = 200, body = RequirementsShown), (status = 404)))]
#[get("/api/covers?<suite>&<branch>&<from>")]
async fn covers(
    app: &State<App>,
    _caller: MaySee,
    suite: Option<&str>,
    branch: Option<&str>,
    from: Option<u32>,
) -> Answer<RequirementsShown> {
    let suite = id_of(app, suite).await?;
    app.floor.recorded_of(suite).await;
    let rows = app.store.requirements(suite, branch, i64::from(from.unwrap_or(0)), MOST).await?;
    let total = app.store.requirement_count(suite).await?;
    Ok(Json(RequirementsShown { total, requirements: rows.into_iter().map(shown).collect() }))
}

/// A requirement with its tests, each in its variants with its latest outcome.
#[utoipa::path(get, path = "/api/covers/of", operation_id = "covers_of", tag = "suites", params(("requirement" = String, Query),
    ("suite" = Option<String>, Query), ("branch" = Option<String>, Query)),
    responses((status = 200, body = RequirementTests), (status = 404, description = "no test covers it")))]
#[get("/api/covers/of?<requirement>&<suite>&<branch>")]
async fn covers_of(
    app: &State<App>,
    _caller: MaySee,
    requirement: &str,
    suite: Option<&str>,
    branch: Option<&str>,
) -> Answer<RequirementTests> {
    let suite = id_of(app, suite).await?;
    app.floor.recorded_of(suite).await;
    let tests = app.store.covering(suite, branch, Some(requirement), MOST_TESTS).await?;
    if tests.is_empty() {
        return Err(Refused::not_found(format!(
            "no test covers the requirement {requirement:?}: tests are said to cover requirements by [covers] in the suite file, by their list, or as they run"
        )));
    }
    let requirement = shown(sum_of(requirement, &tests));
    Ok(Json(RequirementTests { requirement, tests: tests.into_iter().map(test).collect() }))
}

/// Each test of each requirement as comma-separated values (RFC 4180).
#[utoipa::path(get, path = "/api/covers.csv", operation_id = "covers_csv", tag = "suites", params(("suite" = Option<String>, Query),
    ("branch" = Option<String>, Query)), responses((status = 200, body = String, content_type = "text/csv"), (status = 404)))]
#[get("/api/covers.csv?<suite>&<branch>")]
async fn covers_csv(
    app: &State<App>,
    _caller: MaySee,
    suite: Option<&str>,
    branch: Option<&str>,
) -> Result<(ContentType, String), Refused> {
    let suite = id_of(app, suite).await?;
    app.floor.recorded_of(suite).await;
    let mut lines = csv::row(["requirement", "suite", "test", "variant", "outcome", "run", "at", "told"]);
    for row in app.store.covering(suite, branch, None, MOST_LINES).await? {
        let requirement = row.requirement.clone();
        let test = test(row);
        let run = test.run.map(|run| format!("{}/{run}", test.suite)).unwrap_or_default();
        let at = test.at.map(|at| at.to_rfc3339()).unwrap_or_default();
        let told = if test.told { "by the test" } else { "by the suite" };
        let outcome = test.outcome.as_deref().unwrap_or("not-run");
        lines += &csv::row([&requirement, &test.suite, &test.test, &test.variant, outcome, &run, &at, told]);
    }
    Ok((ContentType::CSV, lines))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_requirement_is_passed_only_if_all_its_tests_are() {
        let of = |outcomes: &[Option<&str>]| {
            let test = |outcome: &Option<&str>| stored::CoveringTest {
                requirement: "R".into(),
                suite: "gate".into(),
                test: "a".into(),
                variant: String::new(),
                told: false,
                outcome: outcome.map(str::to_owned),
                number: None,
                entry: None,
                at: None,
            };
            shown(sum_of("R", &outcomes.iter().map(test).collect::<Vec<_>>())).shown
        };
        assert_eq!(of(&[Some("passed"), Some("flaky")]), Shown::Passed);
        assert_eq!(of(&[Some("passed"), Some("failed"), None]), Shown::Failed);
        assert_eq!(of(&[Some("passed"), None]), Shown::InPart);
        assert_eq!(of(&[Some("passed"), Some("parked")]), Shown::InPart);
        assert_eq!(of(&[Some("skipped")]), Shown::InPart);
        assert_eq!(of(&[None, None]), Shown::NotRun);
    }
}
