//! Suite files, whole and with mistakes.

use std::collections::BTreeMap;

use super::{
    Variant,
    file::{FILE_NAME, NamesAs, Retry, SuiteFile},
};
use crate::time::Span;

const WHOLE: &str = r#"
suite = "boarding-gate"
about = "Who may pass the gate, and when"

[prepare]
run   = ["sh", "prepare.sh"]
limit = "5m"

[tests]
list    = ["./gate-tests", "--names"]
run     = ["./gate-tests", "{names}"]
results = "tap"
keep    = ["shots/**/*.png"]

[limits]
test   = "30s"
output = "10 MiB"

[retry]
times         = 2
other-worker  = true
pause         = "500ms"
give-up-after = "20%"

[[rule]]
tests = ["gate/slow/**", "tag:ledger"]
limit = "2m"
retry = 0
group = "slow-gates"
claims = ["berth-db"]

[facets]
screen = ["phone", "desk"]
tongue = ["en", "nn"]
leave-out = [{ screen = "phone", tongue = "nn" }]

[needs]
os = "linux"

[env]
TZ = "UTC"
[env-for.staging]
GATE_URL = "http://staging.quay.example:8080"

[settings]
passengers = 200
"#;

fn problems(text: &str) -> String {
    SuiteFile::parse("kesmo.toml", text).expect_err("the file is wrong").to_string()
}

fn with(change: &str) -> String {
    format!("suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{{names}}\"]\nresults = \"tap\"\n{change}")
}

#[test]
fn a_claim_is_something_that_a_service_can_keep() {
    let of = |claims: &str| {
        let text = format!(
            "suite = \"s\"\n[tests]\nrun = [\"./t\", \"{{names}}\"]\nlist = [\"./l\"]\nresults = \"tap\"\n[[rule]]\ntests = [\"a\"]\nclaims = [{claims}]\n"
        );
        SuiteFile::parse(FILE_NAME, &text).map(|_| ()).map_err(|e| e.to_string())
    };
    assert_eq!(of("\"berth-db\", \"the crane of pier 2\", \"Kran Süd\""), Ok(()));
    assert_eq!(of(&format!("{:?}", "c".repeat(100))), Ok(()));
    for odd in
        ["\"\"", "\"a\\u0000b\"", "\"a\\nb\"", &format!("{:?}", "c".repeat(101)), &format!("{:?}", "c".repeat(1 << 20))]
    {
        let said = of(odd).unwrap_err();
        assert!(said.contains("is not a valid claim: use 1 to 100 bytes") && said.len() < 500, "{said}");
    }
    let many = |count: usize| (0..count).map(|n| format!("\"c{n}\"")).collect::<Vec<_>>().join(",");
    assert_eq!(of(&many(1000)), Ok(()));
    assert!(of(&many(1001)).unwrap_err().contains("more than 1000 different claims"));
    assert_eq!(of(&vec!["\"same\""; 5000].join(",")), Ok(()), "the same one is one");
}

#[test]
fn secrets_are_named_by_the_variable_or_file_that_they_are_given_as() {
    let with = |lines: &str| {
        let text = format!(
            "suite = \"gate\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{{names}}\"]\nresults = \"tap\"\n[env]\nMODE = \"x\"\n[secrets]\n{lines}\n"
        );
        SuiteFile::parse("kesmo.toml", &text)
    };
    let file = with("GATE_PASSWORD = \"gate-password\"\nKEY = { secret = \"gate-key\", as = \"file\" }").unwrap();
    let told: Vec<_> = file.secrets.iter().map(|s| (s.variable.as_str(), s.name.as_str(), s.as_file)).collect();
    assert_eq!(told, [("GATE_PASSWORD", "gate-password", false), ("KEY", "gate-key", true)]);
    for (line, why) in [
        ("MODE = \"a\"", "in [secrets] and in [env]"),
        ("KESMO_X = \"a\"", "do not begin with KESMO_"),
        ("A = 7", "must be a secret's name"),
        ("A = { as = \"file\" }", "must name its secret"),
        ("A = { secret = \"a\", as = \"fifo\" }", "use \"variable\" or \"file\""),
        ("A = { secret = \"a\", at = 1 }", "has no key \"at\""),
        ("A = \"Not A Name\"", "names no secret"),
    ] {
        let said = with(line).expect_err(line).to_string();
        assert!(said.contains(why) && said.contains("line 9"), "{said}");
    }
}

#[test]
fn the_whole_format_is_read() {
    let suite = SuiteFile::parse("kesmo.toml", WHOLE).unwrap();
    assert_eq!(suite.suite.as_str(), "boarding-gate");
    assert_eq!(suite.tests.names_as, NamesAs::Arguments);
    assert_eq!(suite.limits.test, Span::seconds(30));
    assert_eq!(
        suite.retry,
        Retry { times: Some(2), other_worker: true, pause: Span::millis(500), give_up_after: Some(20) }
    );
    assert_eq!(suite.rules.len(), 1);
    assert_eq!(suite.rules[0].line, 25);
    assert_eq!(suite.rules[0].claims.as_deref(), Some(&["berth-db".to_owned()][..]));
    assert_eq!(suite.facets.variants().len(), 3);
    assert_eq!(suite.environment(Some("staging")).unwrap().len(), 2);
    assert_eq!(suite.settings["passengers"], "200");
}

#[test]
fn every_mistake_is_named_with_its_line_and_the_nearest_key() {
    let wrong = WHOLE
        .replace("times         = 2", "time = 2")
        .replace("limit = \"2m\"", "limit = 2")
        .replace("[needs]", "[need]")
        .replace("results = \"tap\"", "results = \"taps\"")
        .replace("screen = \"phone\", tongue", "screen = \"fone\", tongue");
    insta::assert_snapshot!(problems(&wrong));
}

#[test]
fn values_that_cannot_work_are_refused() {
    let cases = [
        "[limits]\ntest = \"0s\"",
        "[limits]\ntest = \"soon\"",
        "[retry]\ntimes = -1",
        "[retry]\ntimes = 1000",
        "[retry]\ngive-up-after = \"120%\"",
        "[[rule]]\ntests = [\"a\"]",
        "[[rule]]\nretry = 1",
        "[[rule]]\ntests = [\"regex:(\"]\nretry = 1",
        "[[rule]]\ntests = [\"a\"]\ngroup = \"g\"\ngroup-by = 2",
        "[facets]\nscreen = []",
        "[env]\nKESMO_RUN = \"1\"",
        "[env]\nPORT = 80",
        "[prepare]\nlimit = \"1m\"",
        "[[limit]]\nmeasure = \"scan\"",
        "[[limit]]\nmeasure = \"scan\"\nstat = \"p96\"\nbelow = \"1s\"",
        "[[limit]]\nmeasure = \"scan\"\nstat = \"p95\"",
        "[[limit]]\nmeasure = \"scan\"\nstat = \"errors\"\nbelow = \"1s\"",
        "[[limit]]\nmeasure = \"scan\"\nstat = \"mean\"\nbelow = \"soon\"",
    ];
    let all: Vec<String> = cases.iter().map(|case| format!("{case}\n  -> {}", problems(&with(case)))).collect();
    insta::assert_snapshot!(all.join("\n"));
}

#[test]
fn the_run_command_says_how_names_are_handed_over() {
    let run = |words: &str| problems(&with("").replace("\"./t\", \"{names}\"", words));
    assert!(run("\"./t\"").contains("says nowhere which tests to run"));
    assert!(run("\"./t\", \"{names}\", \"{name}\"").contains("only one of"));
    assert!(run("\"./t\", \"--tests={names}\"").contains("must stand alone"));
    let exit = with("").replace("\"tap\"", "\"exit\"");
    assert!(problems(&exit).contains("must hold {name}"));
    let junit = with("").replace("\"tap\"", "\"junit\"");
    assert!(problems(&junit).contains("where the files are found"));
}

/// A suite file with these lines in `[tests]`.
fn of_tests(lines: &str) -> Result<SuiteFile, String> {
    let text = format!("suite = \"fares\"\n[tests]\nlist = [\"ls\"]\n{lines}\n");
    SuiteFile::parse("kesmo.toml", &text).map_err(|e| e.to_string())
}

#[test]
fn suites_of_files_say_how_cases_are_run_again() {
    let rerun = "rerun = [\"sh\", \"{name}\", \"--only\", \"{cases-file}\"]";
    let file = of_tests(&format!("each = \"file\"\nrun = [\"sh\", \"{{name}}\"]\nresults = \"tap\"\n{rerun}")).unwrap();
    assert!(file.tests.of_files() && !file.tests.split && file.tests.rerun.is_some());
    let rest = "rest = [\"sh\", \"{name}\", \"--not\", \"{cases-file}\"]";
    let of =
        |more: &str| of_tests(&format!("each = \"file\"\nrun = [\"sh\", \"{{name}}\"]\nresults = \"tap\"\n{more}"));
    assert!(of(&format!("{rerun}\n{rest}")).unwrap().tests.split, "what is new runs with the rest");
    assert!(!of(&format!("{rerun}\n{rest}\nsplit = false")).unwrap().tests.split);
    assert!(of(&format!("{rerun}\nsplit = true")).unwrap().tests.split);
    assert!(of(rest).unwrap_err().contains("it needs \"rerun\""));
    let unnamed = of(&format!("{rerun}\nrest = [\"sh\", \"{{cases-file}}\"]")).unwrap_err();
    assert!(unnamed.contains("\"rest\" in [tests] must hold {name} once"), "{unnamed}");
    let plain =
        of_tests("each = \"file\"\nrun = [\"sh\", \"{name}\"]\nresults = \"junit\"\njunit = [\"*.xml\"]").unwrap();
    assert!(plain.tests.of_files() && !plain.tests.split);
    assert!(!of_tests("run = [\"t\", \"{names}\"]\nresults = \"tap\"").unwrap().tests.of_files());
    for (lines, wanted) in [
        (format!("run = [\"sh\", \"{{name}}\"]\nresults = \"tap\"\n{rerun}"), "it needs each = \"file\""),
        (format!("each = \"file\"\nrun = [\"sh\", \"{{name}}\"]\nresults = \"exit\"\n{rerun}"), "tells of no cases"),
        (
            "each = \"file\"\nrun = [\"sh\", \"{name}\"]\nresults = \"tap\"\nrerun = [\"sh\", \"{name}\"]".into(),
            "must hold {cases-file} once",
        ),
        (
            "each = \"file\"\nrun = [\"sh\", \"{name}\"]\nresults = \"tap\"\nrerun = [\"sh\", \"{cases-file}\"]".into(),
            "must hold {name} once",
        ),
        ("each = \"file\"\nrun = [\"sh\", \"{name}\"]\nresults = \"tap\"\nsplit = true".into(), "it needs \"rerun\""),
        (
            "each = \"fiel\"\nrun = [\"sh\", \"{name}\"]\nresults = \"tap\"".into(),
            "\"fiel\" is not a valid \"each\"; did you mean \"file\"?",
        ),
    ] {
        let said = of_tests(&lines).unwrap_err();
        assert!(said.contains(wanted), "{lines}: {said}");
    }
}

#[test]
fn what_is_fed_takes_its_names_from_its_input_alone() {
    let fed = of_tests("feed = \"lines\"\nrun = [\"./t\"]\nresults = \"tap\"").unwrap();
    assert_eq!(fed.tests.names_as, NamesAs::Fed);
    for (lines, wanted) in [
        (
            "feed = \"lines\"\nrun = [\"./t\", \"{names}\"]\nresults = \"tap\"",
            "holds {names}, and feed = \"lines\" writes names to standard input",
        ),
        ("feed = \"lines\"\nrun = [\"./t\"]\nresults = \"junit\"\njunit = [\"a\"]", "needs each result as it is known"),
        ("feed = \"lines\"\nrun = [\"./t\"]\nresults = \"exit\"", "needs each result as it is known"),
        ("feed = \"lines\"\neach = \"file\"\nrun = [\"./t\"]\nresults = \"tap\"", "does not go with each = \"file\""),
        ("feed = \"line\"\nrun = [\"./t\"]\nresults = \"tap\"", "\"line\" is not a valid \"feed\""),
    ] {
        let said = of_tests(lines).unwrap_err();
        assert!(said.contains(wanted), "{lines}: {said}");
    }
}

#[test]
fn a_file_that_is_no_toml_says_where() {
    assert!(problems("suite = \"fares\"\n[tests\n").starts_with("kesmo.toml line 2: this is not TOML"));
    assert!(problems("").contains("the key \"suite\" is missing"));
}

#[test]
fn an_unknown_setting_or_environment_names_the_nearest() {
    let suite = SuiteFile::parse("kesmo.toml", WHOLE).unwrap();
    let changes = BTreeMap::from([("pasengers".to_owned(), "3".to_owned())]);
    assert!(suite.settings_with(&changes).unwrap_err().to_string().contains("did you mean \"passengers\""));
    assert!(suite.environment(Some("stagin")).unwrap_err().to_string().contains("did you mean \"staging\""));
}

#[test]
fn a_variant_needs_what_its_values_need() {
    let text = r#"
suite = "departure-board"
[tests]
list = ["./t"]
run = ["./t", "{names}"]
results = "tap"
give-back = false
[facets]
screen = ["phone", "desk"]
[needs]
os = "linux"
[needs-for.screen.phone]
device = "handset"
"#;
    let file = SuiteFile::parse("kesmo.toml", text).unwrap();
    let of = |value: &str| file.needs_of(&Variant::of(vec![("screen".into(), value.into())]));
    assert_eq!(of("phone").into_iter().collect::<Vec<_>>().len(), 2);
    assert_eq!(of("phone")["device"], "handset");
    assert_eq!(of("desk").keys().collect::<Vec<_>>(), ["os"]);
    assert!(!file.tests.give_back);
    let wrong = text.replace("needs-for.screen.phone", "needs-for.screen.fone");
    let error = SuiteFile::parse("kesmo.toml", &wrong).unwrap_err().to_string();
    assert!(error.contains("[needs-for.screen]: the facet has no value \"fone\""), "{error}");
    let wrong = text.replace("needs-for.screen.phone", "needs-for.scren.phone");
    let error = SuiteFile::parse("kesmo.toml", &wrong).unwrap_err().to_string();
    assert!(error.contains("did you mean \"screen\""), "{error}");
}
