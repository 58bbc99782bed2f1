//! `kesmo failing`: what is true of suites now.

use kesmo_core::{
    name::{for_shell, shorten},
    source::short_commit,
};
use kesmo_wire::api::{FailingTest, FailingTests, ForgottenBranch, entry_name};

use super::print_json;
use crate::{
    arguments::Failing,
    context::Context,
    failure::Failure,
    view::{self, Paint, paint, safe::plain},
};

pub async fn run(options: &Failing, context: &Context) -> Result<(), Failure> {
    let path = match &options.suite {
        Some(suite) => format!("/api/suites/{suite}/failing"),
        None => "/api/failing".to_owned(),
    };
    if options.gone {
        let branch = options.branch.clone().unwrap_or_default();
        let forgotten: ForgottenBranch = context.client.delete_told(&path, &[("branch", branch.clone())]).await?;
        if context.json {
            return print_json(&forgotten);
        }
        let tests = if forgotten.tests == 1 { "1 test".to_owned() } else { format!("{} tests", forgotten.tests) };
        println!("{tests} failed on {branch}, which is gone, and count as failing no more.");
        return Ok(());
    }
    let mut found: FailingTests = context.client.get(&path, &[]).await?;
    let all = found.tests.len();
    found.tests.retain(|test| {
        options.branch.as_ref().is_none_or(|branch| test.branch.as_ref() == Some(branch))
            && options.pool.as_ref().is_none_or(|pool| test.pool == *pool)
    });
    if context.json {
        return print_json(&found);
    }
    if found.tests.is_empty() {
        let of = options.suite.as_ref().map_or_else(|| "any suite".to_owned(), Clone::clone);
        let place = if all > 0 { " there" } else { "" };
        println!("{} No test of {of} fails now{place}.", paint(Paint::Passed, "●"));
        return Ok(());
    }
    print!("{}", table(&found.tests, options.suite.is_none()));
    let more = found.total as usize - all.min(found.total as usize);
    if more > 0 {
        println!("… and {more} more");
    }
    let first = &found.tests[0];
    println!("\nRead why: kesmo log {} {}", first.last, for_shell(&first.test));
    Ok(())
}

/// Tests that fail, a line each; with their suites where those may differ.
fn table(tests: &[FailingTest], with_suite: bool) -> String {
    let rows = tests.iter().map(|test| {
        let commit =
            test.since_commit.as_ref().map(|commit| format!(" at {}", short_commit(commit))).unwrap_or_default();
        let place = match (&test.branch, test.pool.as_str()) {
            (None, "main") => String::new(),
            (None, pool) => format!("pool {pool}"),
            (Some(branch), "main") => branch.clone(),
            (Some(branch), pool) => format!("{branch}, pool {pool}"),
        };
        let runs = if test.runs == 1 { "1 run".to_owned() } else { format!("{} runs", test.runs) };
        let before = match test.passes_before {
            // It was in trouble before, or never ran.
            0 => String::new(),
            1 => "after 1 pass".to_owned(),
            n => format!("after {n} passes"),
        };
        vec![
            if with_suite { test.suite.clone() } else { String::new() },
            format!("{} {}", paint(Paint::Failed, "◆"), plain(&entry_name(&test.test, &test.variant, 0))),
            format!("{}{commit}", test.since),
            runs,
            before,
            plain(&place),
            shorten(&plain(test.message.lines().next().unwrap_or_default()), 100),
        ]
    });
    view::table(&["suite", "fails now", "since", "for", "", "where", "says"], rows.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_fails_is_told_with_since_when_and_after_what() {
        let test = FailingTest {
            suite: "boarding-gate".into(),
            test: "gate/late".into(),
            variant: "screen=phone".into(),
            branch: Some("main".into()),
            pool: "night".into(),
            since: "boarding-gate/41".into(),
            since_at: None,
            since_commit: Some("16de59121b7a".into()),
            passes_before: 12,
            last: "boarding-gate/42".into(),
            last_at: None,
            entry: 3,
            runs: 2,
            message: "expected Closed\x1b[31m\nand more".into(),
        };
        let said = table(&[test.clone(), FailingTest { runs: 1, passes_before: 0, ..test }], true);
        for wanted in ["boarding-gate/41 at 16de59121b", "2 runs", "after 12 passes", "main, pool night", "1 run"] {
            assert!(said.contains(wanted), "{wanted} in {said}");
        }
        assert!(!said.contains("and more") && !said.contains('\x1b'), "{said}");
    }
}
