//! `kesmo compare`: a run against another one.

use kesmo_core::{
    name::{for_shell, shorten},
    time::Span,
    words::Outcome,
};
use kesmo_wire::api::{Compared, ComparedTest, entry_name};

use super::{print_json, run_path as path};
use crate::{
    arguments::Compare,
    context::Context,
    failure::Failure,
    view::{self, Paint, bold, capital, outcome_word, paint, safe::plain},
};

/// Tests of a list that are told.
const MOST_TOLD: usize = 30;

pub async fn run(options: &Compare, context: &Context) -> Result<(), Failure> {
    let with = options.other.as_ref().unwrap_or(&options.with);
    let query = [("with", with.clone())];
    let found: Compared = context.client.get(&format!("{}/compared", path(&options.run)?), &query).await?;
    if context.json {
        return print_json(&found);
    }
    print!("{}", text(&found));
    Ok(())
}

fn text(found: &Compared) -> String {
    let Some(with) = &found.with else {
        return format!("{} is compared with nothing: {}.\n", found.run, plain(&found.because));
    };
    let mut out = format!("{} against {}", bold(&found.run), bold(with));
    if found.because != "asked for" {
        out += &format!(", {}", plain(&found.because));
    }
    out.push('\n');
    for setup in &found.setup {
        let or_none = |text: &str| if text.is_empty() { "none".to_owned() } else { plain(text) };
        out += &paint(
            Paint::Dim,
            &format!("  {}: {} → {}\n", plain(&setup.what), or_none(&setup.before), or_none(&setup.after)),
        );
    }
    let mut nothing = true;
    for (what, list) in found.lists() {
        if list.total == 0 {
            continue;
        }
        nothing = false;
        out += &format!("\n{}\n", bold(&format!("{} ({})", capital(what), list.total)));
        let rows = list.tests.iter().take(MOST_TOLD).map(|test| row(what, test)).collect();
        out += &view::table(&["", "", ""], rows);
        match list.total as usize - list.tests.len().min(MOST_TOLD) {
            0 => {}
            more => out += &format!("… and {more} more\n"),
        }
    }
    out.push('\n');
    if nothing {
        out += &format!("{} Every test ended as it did before.\n", paint(Paint::Passed, "●"));
    }
    let pace = found.pace.map(|pace| format!("; at the median a test took {pace:.2} times as long"));
    out += &format!("{} in both{}.\n", tests(found.both), pace.unwrap_or_default());
    if let Some(first) = found.newly_failing.tests.first() {
        out += &format!("Read why: kesmo log {} {}\n", found.run, for_shell(&first.test));
    }
    out
}

fn row(what: &str, test: &ComparedTest) -> Vec<String> {
    let name = plain(&entry_name(&test.test, &test.variant, 0));
    let said = |outcome: Option<Outcome>| outcome.map_or_else(|| "not there".to_owned(), outcome_word);
    let change = match (&test.before, &test.after) {
        (Some(before), Some(after)) if what == "slower" || what == "faster" => {
            let times = after.spent_us.max(1) as f64 / before.spent_us.max(1) as f64;
            let times = if times > 1.0 { format!(", {times:.1} times") } else { String::new() };
            format!("{} → {}{times}", Span(before.spent_us), Span(after.spent_us))
        }
        (before, after) => {
            let outcome = |seen: &Option<kesmo_wire::api::SeenTest>| said(seen.as_ref().map(|s| s.outcome));
            format!("{} → {}", outcome(before), outcome(after))
        }
    };
    vec![format!("  {name}"), change, shorten(&plain(test.message.lines().next().unwrap_or_default()), 100)]
}

fn tests(count: u32) -> String {
    if count == 1 { "1 test is".to_owned() } else { format!("{count} tests are") }
}

/// What is new in a run against the last comparable one, for its closing summary: a line, or nothing where nothing is.
pub fn new_in(found: &Compared) -> Option<String> {
    let with = found.with.as_ref()?;
    let counted = [
        (found.newly_failing.total, "newly failing", Paint::Failed),
        (found.still_failing.total, "still failing", Paint::Failed),
        (found.newly_flaky.total, "newly flaky", Paint::Flaky),
        (found.mended.total, "mended", Paint::Passed),
        (found.slower.total, "slower", Paint::Dim),
    ];
    let said: Vec<String> =
        counted.iter().filter(|c| c.0 > 0).map(|c| paint(c.2, &format!("{} {}", c.0, c.1))).collect();
    let said = if said.is_empty() { "no test ended otherwise".to_owned() } else { said.join(", ") };
    let names: Vec<String> =
        found.newly_failing.tests.iter().take(4).map(|t| plain(&entry_name(&t.test, &t.variant, 0))).collect();
    let more = (found.newly_failing.total as usize).saturating_sub(names.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let names =
        if names.is_empty() { String::new() } else { format!("\n    newly failing: {}{more}", names.join(", ")) };
    Some(format!("  Against {with}: {said}{names}"))
}

#[cfg(test)]
mod tests_of_texts {
    use super::*;
    use kesmo_wire::api::{ComparedTests, SeenTest, SetupDifference};

    fn seen(outcome: Outcome, ms: u64) -> Option<SeenTest> {
        Some(SeenTest { entry: 3, outcome, attempts: 1, spent_us: ms * 1000 })
    }

    fn list(before: Option<SeenTest>, after: Option<SeenTest>, message: &str) -> ComparedTests {
        let test = ComparedTest {
            test: "gate/late".into(),
            variant: "screen=phone".into(),
            before,
            after,
            message: message.into(),
        };
        ComparedTests { total: 1, tests: vec![test] }
    }

    #[test]
    fn a_comparison_is_told_in_the_order_in_which_one_looks_at_it() {
        let found = Compared {
            run: "boarding-gate/42".into(),
            with: Some("boarding-gate/41".into()),
            because: "the last run of all tests on main".into(),
            same_choice: true,
            setup: vec![SetupDifference { what: "commit".into(), before: String::new(), after: "16de59121b".into() }],
            newly_failing: list(
                seen(Outcome::Passed, 5),
                seen(Outcome::Failed, 5),
                "expected Closed\x1b[31m\nand more",
            ),
            slower: list(seen(Outcome::Passed, 100), seen(Outcome::Passed, 250), ""),
            gone: list(seen(Outcome::Passed, 5), None, ""),
            both: 81,
            pace: Some(1.04),
            ..Compared::default()
        };
        insta::assert_snapshot!(text(&found));
        let other = Compared { same_choice: false, ..found.clone() };
        assert!(text(&other).contains("Not in this run (1)"), "what was not chosen is not gone");
        let line = new_in(&found).unwrap();
        assert!(
            line.contains("boarding-gate/41") && line.contains("1 newly failing") && line.contains("1 slower"),
            "{line}"
        );
    }

    #[test]
    fn where_nothing_differs_that_is_said_and_where_nothing_fits_why() {
        let same = Compared { run: "fares/2".into(), with: Some("fares/1".into()), both: 1, ..Compared::default() };
        assert!(text(&same).contains("Every test ended as it did before") && text(&same).contains("1 test is in both"));
        assert!(new_in(&same).is_some_and(|line| line.contains("no test ended otherwise")));
        let none = Compared { run: "fares/1".into(), because: "there is no earlier run of all tests".into(), ..same };
        let none = Compared { with: None, ..none };
        assert_eq!(text(&none), "fares/1 is compared with nothing: there is no earlier run of all tests.\n");
        assert_eq!(new_in(&none), None);
    }
}
