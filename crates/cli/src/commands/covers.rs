//! `kesmo covers`: requirements, and what their tests show.

use kesmo_core::words::Outcome;
use kesmo_wire::api::{RequirementShown, RequirementTests, RequirementsShown, Shown};

use super::print_json;
use crate::{
    arguments::Covers,
    context::Context,
    failure::Failure,
    view::{self, bold, safe::plain},
};

pub async fn run(options: &Covers, context: &Context) -> Result<(), Failure> {
    let mut query: Vec<(&str, String)> = options.suite.clone().map(|suite| ("suite", suite)).into_iter().collect();
    query.extend(options.branch.clone().map(|branch| ("branch", branch)));
    if options.csv {
        print!("{}", context.client.get_text("/api/covers.csv", &query).await?);
        return Ok(());
    }
    if let Some(requirement) = &options.requirement {
        query.push(("requirement", requirement.clone()));
        let found: RequirementTests = context.client.get("/api/covers/of", &query).await?;
        if context.json {
            return print_json(&found);
        }
        print!("{}", text_of(&found));
        return Ok(());
    }
    let mut all: RequirementsShown = context.client.get("/api/covers", &query).await?;
    while (all.requirements.len() as u64) < all.total {
        let from = [("from", all.requirements.len().to_string())];
        let query: Vec<_> = query.iter().cloned().chain(from).collect();
        let more: RequirementsShown = context.client.get("/api/covers", &query).await?;
        if more.requirements.is_empty() {
            break;
        }
        all.requirements.extend(more.requirements);
    }
    if context.json {
        return print_json(&all);
    }
    print!("{}", text(&all));
    Ok(())
}

fn glyph(shown: Shown) -> String {
    let outcome = match shown {
        Shown::Failed => Outcome::Failed,
        Shown::InPart => Outcome::Skipped,
        Shown::NotRun => Outcome::NotRun,
        Shown::Passed => Outcome::Passed,
    };
    format!("{} {}", outcome.glyph(), shown.word())
}

fn text(all: &RequirementsShown) -> String {
    if all.requirements.is_empty() {
        return "No test covers a requirement: name them in [covers] of the suite file, in the list, or with \"covers\" events.\n"
            .to_owned();
    }
    let row = |r: &RequirementShown| {
        vec![
            plain(&r.requirement),
            glyph(r.shown),
            r.tests.to_string(),
            (r.passed + r.flaky).to_string(),
            r.failed.to_string(),
            (r.skipped + r.parked).to_string(),
            r.never.to_string(),
        ]
    };
    let heads = ["requirement", "its tests", ">tests", ">passed", ">failed", ">skipped or parked", ">never run"];
    view::table(&heads, all.requirements.iter().map(row).collect())
}

fn text_of(found: &RequirementTests) -> String {
    let requirement = &found.requirement;
    let rows = found.tests.iter().map(|test| {
        let outcome = test.outcome.as_deref().and_then(Outcome::of).unwrap_or(Outcome::NotRun);
        let run = test.run.map(|run| format!("{}/{run}", test.suite)).unwrap_or_default();
        let name =
            if test.variant.is_empty() { test.test.clone() } else { format!("{} ({})", test.test, test.variant) };
        vec![
            test.suite.clone(),
            plain(&name),
            format!("{} {outcome}", outcome.glyph()),
            run,
            if test.told { "the test itself" } else { "the suite" }.to_owned(),
        ]
    });
    let heads = ["suite", "test", "latest", "run", "said by"];
    let of = plain(&requirement.requirement);
    format!("{}  {}\n{}", bold(&of), glyph(requirement.shown), view::table(&heads, rows.collect()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use kesmo_wire::api::CoveringTest;

    #[test]
    fn a_requirement_is_told_with_its_tests() {
        let requirement = RequirementShown {
            requirement: "REQ-118".into(),
            shown: Shown::Failed,
            tests: 2,
            passed: 0,
            flaky: 1,
            failed: 1,
            skipped: 0,
            parked: 0,
            never: 0,
        };
        let test = |name: &str, outcome: &str| CoveringTest {
            suite: "gate".into(),
            test: name.into(),
            variant: "screen=phone".into(),
            told: false,
            outcome: Some(outcome.into()),
            run: Some(4),
            entry: Some(1),
            at: None,
        };
        let found = RequirementTests {
            requirement: requirement.clone(),
            tests: vec![test("late/refused", "failed"), test("late/pays", "flaky")],
        };
        let said = text_of(&found);
        for wanted in ["REQ-118", "◆ failed", "late/refused (screen=phone)", "gate/4", "the suite"] {
            assert!(said.contains(wanted), "{wanted} in {said}");
        }
        let all = text(&RequirementsShown { total: 1, requirements: vec![requirement] });
        assert!(all.contains("REQ-118") && all.contains("◆ failed"), "{all}");
        assert!(text(&RequirementsShown { total: 0, requirements: vec![] }).contains("[covers]"));
    }
}
