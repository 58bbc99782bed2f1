//! Plans of made suites: what is chosen, ruled and set aside.

use super::*;
use crate::{
    error::Error,
    name::TestName,
    record::Record,
    suite::{ListedTest, SuiteFile, Variant, listing},
    time::Span,
};

const FILE: &str = r#"
suite = "fares"
[tests]
list = ["./t"]
run = ["./t", "{names}"]
results = "tap"
[retry]
times = 1
[[rule]]
tests = ["slow/**"]
limit = "2m"
claims = ["berth", "air"]
[[rule]]
tests = ["slow/b"]
retry = 5
group-by = 1
"#;

fn plan(options: &RunOptions) -> Result<Plan, Error> {
    let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
    let list = listing::read(b"slow/a\nslow/b\n{\"name\":\"quick/c\",\"tags\":[\"smoke\"],\"seconds\":2}\n").unwrap();
    plan_of(&suite, options, list, &[])
}

#[test]
fn a_test_that_only_ever_failed_is_in_trouble_though_nobody_knows_what_it_takes() {
    let file = "suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{names}\"]\nresults = \"tap\"\n";
    let suite = SuiteFile::parse("kesmo.toml", file).unwrap();
    let failed = Record::default().with(crate::words::Outcome::Failed, None);
    let known = |name: &TestName, _: &Variant| (name.as_str() == "slow/b").then(|| Known::of(&failed)).flatten();
    let options = RunOptions { recent_failures_first: true, ..RunOptions::default() };
    let list = listing::read(b"slow/a\nslow/b\nslow/c\n").unwrap();
    let plan = Plan::make(&suite, &options, &[(Variant::default(), list)], &[], known).unwrap();
    let first: Vec<&str> = plan.entries.iter().filter(|e| e.first).map(|e| e.name.as_str()).collect();
    assert_eq!((first.as_slice(), plan.entries[1].expected), (["slow/b"].as_slice(), None));
    assert_eq!(Known::of(&Record::default()), None);
}

fn plan_of(suite: &SuiteFile, options: &RunOptions, list: Vec<ListedTest>, parks: &[Park]) -> Result<Plan, Error> {
    let known = |name: &TestName, _: &Variant| {
        let known = Known { takes: Some((Span::seconds(7), Span::seconds(1))), trouble: Some(2) };
        (name.as_str() == "slow/a").then_some(known)
    };
    Plan::make(suite, options, &[(Variant::default(), list)], parks, known)
}

fn listed(text: &str) -> Vec<ListedTest> {
    listing::read(text.as_bytes()).unwrap()
}

#[test]
fn runs_are_alike_that_chose_the_same_tests_in_the_same_environment() {
    let pick = |patterns: &[&str]| RunOptions {
        pick: patterns.iter().map(|p| (*p).to_owned()).collect(),
        ..RunOptions::default()
    };
    let whole = RunOptions::default();
    assert_eq!(whole.alike().said, "all tests");
    // How it ran does not matter.
    let other = RunOptions {
        retries: Some(3),
        shards: Some(2),
        shuffle: true,
        set: [("passengers".to_owned(), "9".to_owned())].into(),
        labels: [("release".to_owned(), "1187".to_owned())].into(),
        ..RunOptions::default()
    };
    assert_eq!(other.alike(), whole.alike());
    assert_eq!(pick(&["a", "b"]).alike(), pick(&["b", "a", "b"]).alike(), "in whatever order");
    let env = RunOptions { env: Some("ci".into()), ..RunOptions::default() };
    let only = |test: &str| RunOptions {
        only: Some(vec![(test.to_owned(), String::new())]),
        only_because: Some("not passed in fares/7".into()),
        ..RunOptions::default()
    };
    let all = [whole, pick(&["a"]), pick(&["a", "b"]), env, only("x"), only("y")];
    let keys: std::collections::BTreeSet<String> = all.iter().map(|o| o.alike().key).collect();
    assert_eq!(keys.len(), all.len(), "each of them is another choice");
    assert_eq!(only("x").alike().said, only("y").alike().said);
}

#[test]
fn rules_apply_in_their_order() {
    let plan = plan(&RunOptions::default()).unwrap();
    let [a, b, c] = plan.entries.as_slice() else { panic!("three entries") };
    assert_eq!((a.limit, a.retries, a.retries_from), (Span::seconds(120), 1, RetriesFrom::SuiteFile));
    assert_eq!((b.retries, b.retries_from, b.group), (5, RetriesFrom::Rule(13), Some(0)));
    assert_eq!(plan.claim_sets[a.claims as usize], ["air", "berth"]);
    assert_eq!((c.claims, c.limit), (0, Span::seconds(60)));
    // Nothing is known of b: it counts as its like, those whose names begin alike.
    assert_eq!([a.expected, b.expected, c.expected], [7, 7, 2].map(|s| Some(Span::seconds(s))));
    assert_eq!([a.spread, b.spread, c.spread], [1, 7, 1].map(Span::seconds));
}

#[test]
fn repeated_tests_are_entries_of_their_own() {
    let options = RunOptions { repeat: Some(3), pick: vec!["slow/*".into()], ..RunOptions::default() };
    let plan = plan(&options).unwrap();
    let said: Vec<(&str, u16)> = plan.entries.iter().map(|e| (e.name.as_str(), e.repeat)).collect();
    assert_eq!(said, [("slow/a", 1), ("slow/a", 2), ("slow/a", 3), ("slow/b", 1), ("slow/b", 2), ("slow/b", 3)]);
    let groups: Vec<Option<u32>> = plan.entries[3..].iter().map(|e| e.group).collect();
    assert_eq!(groups, [Some(0), Some(1), Some(2)], "a group for each repetition");
    assert_eq!(plan.choice_said(&options), "2 of 3 tests: pick slow/*, 3 times each");
}

#[test]
fn parked_tests_are_marked_and_those_whose_time_is_over_are_told() {
    let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
    let park = |pattern: &str, over: bool| Park {
        pattern: pattern.into(),
        why: "the crane is away".into(),
        until: "2026-11-20".into(),
        over,
        only: Only::default(),
    };
    let parks = [park("slow/b", true), park("slow/a", false)];
    let options = RunOptions { drop: vec!["quick/**".into()], ..RunOptions::default() };
    let plan = plan_of(&suite, &options, listed("slow/a\nslow/b\nquick/c\n"), &parks).unwrap();
    assert_eq!(plan.park_of(0), Some(&parks[1]));
    assert_eq!(plan.park_of(1), None);
    assert_eq!(plan.choice_said(&options), "2 of 3 tests: drop quick/**; 1 parked");
    assert_eq!(plan.notes, ["slow/b counts again: parked until 2026-11-20 (the crane is away)"]);
}

#[test]
fn what_failed_recently_goes_first_as_far_as_it_is_cheap() {
    let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
    let options = RunOptions { recent_failures_first: true, ..RunOptions::default() };
    let many: String = (0..200).map(|n| format!("{{\"name\":\"t/{n}\",\"seconds\":1}}\n")).collect();
    let plan = plan_of(&suite, &options, listed(&format!("slow/a\n{many}")), &[]).unwrap();
    assert!(plan.entries[0].first, "7 s of 207 s are less than a twentieth");
    let few = plan_of(&suite, &options, listed("slow/a\n{\"name\":\"t\",\"seconds\":1}\n"), &[]).unwrap();
    assert!(!few.entries[0].first, "7 s of 8 s are not");
}

#[test]
fn an_order_is_followed_and_what_is_gone_is_told() {
    let own = |names: &[&str]| names.iter().map(|n| ((*n).to_owned(), String::new())).collect::<Vec<_>>();
    let order = Some(vec![own(&["quick/c", "slow/a"]), own(&["gone"]), own(&["slow/a"])]);
    let options = RunOptions { order, retries: Some(2), ..RunOptions::default() };
    let plan = plan(&options).unwrap();
    assert_eq!(plan.order, Some(vec![vec![0, 1], vec![2]]));
    assert_eq!(plan.entries[2].repeat, 2, "the second time that slow/a stands in it");
    assert!(plan.entries.iter().all(|e| e.retries == 0));
    assert_eq!(plan.notes, ["1 of the 4 tests of the order to repeat are no longer listed and are left out: gone"]);
}

#[test]
fn a_rule_that_contradicts_the_list_stands_and_says_so() {
    let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
    let list = listed("{\"name\":\"slow/b\",\"group\":\"tide\"}\n");
    let plan = plan_of(&suite, &RunOptions::default(), list, &[]).unwrap();
    let said = "slow/b is in the group \"tide\" by the list and in another by kesmo.toml line 13; the rule stands";
    assert_eq!(plan.notes, [said]);
}

#[test]
fn the_start_outranks_the_file_and_a_rule_outranks_the_start() {
    let plan = plan(&RunOptions { retries: Some(3), ..RunOptions::default() }).unwrap();
    assert_eq!((plan.entries[0].retries, plan.entries[0].retries_from), (3, RetriesFrom::Start));
    assert_eq!(plan.entries[1].retries, 5);
}

#[test]
fn nothing_chosen_names_the_nearest() {
    let say =
        |pick: &str| plan(&RunOptions { pick: vec![pick.into()], ..RunOptions::default() }).unwrap_err().to_string();
    assert!(say("slwo/**").ends_with("nearest to slwo/**: slow/a, slow/b"), "{}", say("slwo/**"));
    assert!(say("tag:smok").ends_with("nearest to tag:smok: tag:smoke"));
    assert!(say("quick/d").contains("quick/c"));
    assert!(say("regex:zzz").contains("of 3 tests none is chosen by --pick regex:zzz"));
}

#[test]
fn a_pattern_that_is_neither_a_glob_nor_a_name_is_refused_and_not_passed_over() {
    for options in [
        RunOptions { pick: vec!["slow/[b-a]".into()], ..RunOptions::default() },
        RunOptions { drop: vec!["slow/[b-a]".into()], ..RunOptions::default() },
    ] {
        let error = plan(&options).unwrap_err().to_string();
        assert!(error.contains("cannot be read") && error.contains("no test has that name"), "{error}");
    }
}

/// A suite of two files, one of which is named as the other begins.
fn of_files(options: &RunOptions, rerun: bool, parks: &[Park]) -> Result<Plan, Error> {
    let rerun = if rerun { "rerun = [\"sh\", \"{name}\", \"{cases-file}\"]" } else { "" };
    let text = format!(
        "suite = \"fares\"\n[tests]\neach = \"file\"\nlist = [\"ls\"]\nrun = [\"sh\", \"{{name}}\"]\nresults = \"tap\"\n{rerun}"
    );
    let suite = SuiteFile::parse("kesmo.toml", &text).unwrap();
    plan_of(&suite, options, listed("specs/gate.sh\nspecs/gate.sh/late\nspecs/quay.sh\n"), parks)
}

#[test]
fn a_pick_of_a_case_runs_that_case_alone() {
    let pick =
        |picks: &[&str]| RunOptions { pick: picks.iter().map(|p| (*p).into()).collect(), ..RunOptions::default() };
    let plan = of_files(&pick(&["specs/gate.sh/pays [by] card", "specs/gate.sh/opens"]), true, &[]).unwrap();
    assert_eq!(plan.entries.len(), 1);
    assert_eq!(plan.choice_said(&RunOptions::default()), "1 of 3 files");
    assert_eq!(plan.cases_of(0), ["pays [by] card", "opens"], "what is in brackets is meant as it stands");
    let nested = of_files(&pick(&["specs/gate.sh/late/refuses"]), true, &[]).unwrap();
    assert_eq!(
        (nested.entries[0].name.as_str(), nested.cases_of(0)),
        ("specs/gate.sh/late", ["refuses".to_owned()].as_slice())
    );
    let both = of_files(&pick(&["specs/gate.sh/opens", "specs/gate.sh"]), true, &[]).unwrap();
    assert!(both.cases_of(0).is_empty(), "the whole file was picked too");
    let others = of_files(&pick(&["specs/gate.sh/opens", "specs/quay.sh"]), true, &[]).unwrap();
    assert_eq!(others.entries.len(), 2);
    assert!(others.cases_of(1).is_empty());
}

#[test]
fn a_pick_or_drop_of_a_case_that_cannot_hold_says_what_would_work() {
    let pick = RunOptions { pick: vec!["specs/gate.sh/opens".into()], ..RunOptions::default() };
    let said = of_files(&pick, false, &[]).unwrap_err().to_string();
    assert!(said.contains("cannot run cases alone: pick the file"), "{said}");
    let glob = RunOptions { pick: vec!["specs/gate.sh/pays*".into()], ..RunOptions::default() };
    let said = of_files(&glob, true, &[]).unwrap_err().to_string();
    assert!(said.contains("cases are known only as the file runs"), "{said}");
    let drop = RunOptions { drop: vec!["specs/gate.sh/opens".into()], ..RunOptions::default() };
    let said = of_files(&drop, true, &[]).unwrap_err().to_string();
    assert!(said.contains("kesmo park fares \"specs/gate.sh/opens\""), "{said}");
    let gone = RunOptions { pick: vec!["specs/gaet.sh/opens".into()], ..RunOptions::default() };
    assert!(of_files(&gone, true, &[]).unwrap_err().to_string().contains("nothing to run"));
}

#[test]
fn parks_hold_for_cases_until_their_last_day() {
    let park = |pattern: &str, over| Park {
        pattern: pattern.into(),
        why: "away".into(),
        until: "2026-11-20".into(),
        over,
        only: Only::default(),
    };
    let parks =
        [park("specs/gate.sh/pays by card", false), park("specs/*/opens", false), park("specs/quay.sh/shuts", true)];
    let plan = of_files(&RunOptions::default(), true, &parks).unwrap();
    assert_eq!(plan.park_of_case(0, "pays by card"), Some(0));
    assert_eq!(plan.park_of_case(0, "pays by coin"), None);
    assert_eq!(plan.park_of_case(2, "opens"), Some(1));
    assert_eq!(plan.park_of_case(2, "shuts"), None, "its last day has passed");
    assert_eq!(plan.parked(), 0, "no file is set aside by it");
}

#[test]
fn only_the_named_entries_are_repeated() {
    let only = Some(vec![("slow/b".to_owned(), String::new())]);
    let plan = plan(&RunOptions { only, ..RunOptions::default() }).unwrap();
    assert_eq!(plan.entries.len(), 1);
    assert_eq!(plan.listed, 3);
}

#[test]
fn options_that_cannot_work_are_refused() {
    let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
    let bad = [
        RunOptions { retries: Some(1000), ..RunOptions::default() },
        RunOptions { shards: Some(0), ..RunOptions::default() },
        RunOptions { shards: Some(1_000_000), ..RunOptions::default() },
        RunOptions { repeat: Some(0), ..RunOptions::default() },
        RunOptions { repeat: Some(100_000), ..RunOptions::default() },
        RunOptions { shuffle: true, recent_failures_first: true, ..RunOptions::default() },
        RunOptions { order: Some(Vec::new()), ..RunOptions::default() },
        RunOptions { pick: vec!["regex:(".into()], ..RunOptions::default() },
        RunOptions { variants: vec!["screen=phone".into()], ..RunOptions::default() },
        RunOptions { env: Some("staging".into()), ..RunOptions::default() },
    ];
    for options in bad {
        assert!(options.check(&suite).is_err(), "{options:?}");
    }
}
