//! How the suite file is read, once, at the edge. Nothing misspelt is passed over: an unknown key, a value of the wrong kind or one that
//! cannot work is a [`Problem`] with its line.

use std::collections::{BTreeMap, BTreeSet};

use toml::de::{DeTable, DeValue};

use super::{
    container::{self, Container},
    covers::{Covers, MOST_PATTERNS, Requirement},
    file::{Each, GroupBy, Limits, MOST_RETRIES, NamesAs, Prepare, Results, Retry, Rule, SuiteFile, Tests},
    pick::Pattern,
    reader::{Reader, Table, kind_of, plain_values},
    secrets,
    variant::{Facets, Variant},
};
use crate::{
    error::{Error, Problem},
    measure::{Limit, Stat},
    name::{Slug, did_you_mean, shorten},
    time::{Bytes, Span},
};

/// The longest claim, in bytes, and how many different ones a suite may name: services keep each as a row.
const LONGEST_CLAIM: usize = 100;
const MOST_CLAIMS: usize = 1000;

impl SuiteFile {
    /// Reads a suite file; `file` is the name used in complaints.
    ///
    /// # Errors
    /// [`Error::SuiteFile`] with every problem found, in the order of their lines.
    ///
    /// ```
    /// let text = r#"
    /// suite = "fares"
    /// [tests]
    /// list = ["./fares", "--names"]
    /// run = ["./fares", "{names}"]
    /// results = "tap"
    /// [retry]
    /// time = 3
    /// "#;
    /// let error = kesmo_core::suite::SuiteFile::parse("kesmo.toml", text).unwrap_err();
    /// assert_eq!(error.to_string(), "kesmo.toml line 8: [retry] has no key \"time\"; did you mean \"times\"?");
    /// ```
    pub fn parse(file: &str, text: &str) -> Result<Self, Error> {
        let mut reader = Reader::new(file, text);
        let parsed = DeTable::parse(text).map_err(|e| {
            let line = reader.line_at(e.span().map_or(0, |s| s.start));
            let message = format!("this is not TOML: {}", e.message().lines().collect::<Vec<_>>().join(", "));
            Error::SuiteFile(vec![Problem { file: file.to_owned(), line, message }])
        })?;
        let suite = read_file(&mut reader, parsed.get_ref());
        match suite {
            Some(suite) if reader.problems.is_empty() => Ok(suite),
            _ => {
                reader.problems.sort_by_key(|p| p.line);
                Err(Error::SuiteFile(reader.problems))
            }
        }
    }
}

fn read_file<'t>(reader: &mut Reader<'t>, table: &DeTable<'t>) -> Option<SuiteFile> {
    let mut top = reader.table("", table);
    let suite = top.read(reader, "suite", "a string", |v| {
        v.as_str().map(|s| Slug::parse("the suite's name", s).map_err(|e| e.to_string()))
    });
    if suite.is_none() && !reader.problems.iter().any(|p| p.message.starts_with("\"suite\"")) {
        reader.complain(1, "the key \"suite\" is missing: name the suite, like suite = \"boarding-gate\"");
    }
    let about = top.text(reader, "about").unwrap_or_default();
    let prepare = top.inner(reader, "prepare").and_then(|(line, table)| read_prepare(reader, line, table));
    let tests = match top.inner(reader, "tests") {
        Some((line, table)) => read_tests(reader, line, table),
        None => {
            reader.complain(1, "the table [tests] is missing: say how to list and run the tests");
            None
        }
    };
    let limits = read_limits(reader, &mut top);
    let retry = read_retry(reader, &mut top);
    let rules = read_rules(reader, &mut top);
    let facets = top.inner(reader, "facets").map(|(_, table)| read_facets(reader, table)).unwrap_or_default();
    let container = container::read(reader, &mut top, &facets);
    let reach = read_reach(reader, &mut top, container.as_ref());
    let needs = plain_table(reader, &mut top, "needs", true);
    let needs_for = read_needs_for(reader, &mut top, &facets);
    let env = plain_table(reader, &mut top, "env", true);
    let env_for = read_env_for(reader, &mut top);
    let settings = plain_table(reader, &mut top, "settings", false);
    for name in settings.keys().filter(|name| !is_variable(&name.replace('-', "_"))) {
        reader.complain(1, format!("the setting {name:?} cannot reach a process: use letters, digits, '_' and '-'"));
    }
    let measured = read_measured(reader, &mut top);
    let covers = read_covers(reader, &mut top);
    let set = |name: &str| env.contains_key(name) || env_for.values().any(|more| more.contains_key(name));
    let secrets = secrets::read(reader, &mut top, set, is_variable);
    top.finish(reader);
    Some(SuiteFile {
        suite: suite?,
        about,
        prepare,
        tests: tests?,
        limits,
        retry,
        rules,
        facets,
        container,
        reach,
        needs,
        needs_for,
        env,
        env_for,
        settings,
        measured,
        covers,
        secrets,
    })
}

fn read_reach<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>, container: Option<&Container>) -> Vec<Slug> {
    let Some((line, mut table)) = top.inner(reader, "reach") else { return Vec::new() };
    let needs = table.texts(reader, "needs", 1).unwrap_or_default();
    table.finish(reader);
    let mut names = Vec::new();
    for need in needs {
        match Slug::parse("what is reached", &need) {
            Ok(name) => names.push(name),
            Err(why) => reader.complain(line, format!("[reach]: {why}")),
        }
    }
    if let Some(container) = container.filter(|c| !names.is_empty() && c.network != "host") {
        let network = &container.network;
        reader.complain(
            line,
            format!(
                "[reach] needs [container] network = \"host\", and it is {network:?}: what is reached is at 127.0.0.1"
            ),
        );
    }
    names
}

fn plain_table<'t>(
    reader: &mut Reader<'t>,
    top: &mut Table<'_, 't>,
    key: &'static str,
    texts: bool,
) -> BTreeMap<String, String> {
    match top.inner(reader, key) {
        None => BTreeMap::new(),
        Some((line, table)) => {
            let values = plain_values(reader, table, texts);
            if key == "env" {
                check_variables(reader, line, &values);
            }
            values
        }
    }
}

fn is_variable(name: &str) -> bool {
    !name.is_empty()
        && !name.starts_with(|c: char| c.is_ascii_digit())
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

fn check_variables(reader: &mut Reader<'_>, line: usize, values: &BTreeMap<String, String>) {
    for name in values.keys() {
        if !is_variable(name) {
            reader.complain(line, format!("{name:?} is not a valid name for a variable: use letters, digits and '_'"));
        } else if name.starts_with("KESMO_") {
            reader.complain(
                line,
                format!("{name:?} is set by Kesmo itself: choose a name that does not begin with KESMO_"),
            );
        }
    }
}

fn read_env_for<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>) -> BTreeMap<String, BTreeMap<String, String>> {
    let mut all = BTreeMap::new();
    let Some((_, mut table)) = top.inner(reader, "env-for") else {
        return all;
    };
    for (name, line, value) in table.rest() {
        match value {
            DeValue::Table(inner) => {
                let table = reader.table(&format!("env-for.{name}"), inner);
                let values = plain_values(reader, table, true);
                check_variables(reader, line, &values);
                all.insert(name.to_owned(), values);
            }
            other => {
                let kind = kind_of(other);
                reader
                    .complain(line, format!("{name:?} in [env-for] must be a table, [env-for.{name}], and is {kind}"));
            }
        }
    }
    all
}

fn read_needs_for<'t>(
    reader: &mut Reader<'t>,
    top: &mut Table<'_, 't>,
    facets: &Facets,
) -> Vec<((String, String), BTreeMap<String, String>)> {
    let mut all = Vec::new();
    let Some((_, mut table)) = top.inner(reader, "needs-for") else {
        return all;
    };
    for (facet, line, value) in table.rest() {
        let Some((_, values)) = facets.facets.iter().find(|f| f.0 == facet) else {
            let hint = did_you_mean(facet, facets.facets.iter().map(|f| f.0.as_str()));
            reader.complain(line, format!("[needs-for] names the facet {facet:?}, which is not there{hint}"));
            continue;
        };
        let Some(inner) = value.as_table() else {
            let kind = kind_of(value);
            reader.complain(
                line,
                format!("{facet:?} in [needs-for] must be tables, [needs-for.{facet}.VALUE], and is {kind}"),
            );
            continue;
        };
        let mut by_value = reader.table(&format!("needs-for.{facet}"), inner);
        for (word, line, value) in by_value.rest() {
            if !values.iter().any(|v| v == word) {
                let hint = did_you_mean(word, values.iter().map(String::as_str));
                reader.complain(line, format!("[needs-for.{facet}]: the facet has no value {word:?}{hint}"));
            } else if let Some(inner) = value.as_table() {
                let table = reader.table(&format!("needs-for.{facet}.{word}"), inner);
                all.push(((facet.to_owned(), word.to_owned()), plain_values(reader, table, true)));
            } else {
                let kind = kind_of(value);
                reader.complain(
                    line,
                    format!(
                        "{word:?} in [needs-for.{facet}] must be a table, [needs-for.{facet}.{word}], and is {kind}"
                    ),
                );
            }
        }
    }
    all
}

fn read_prepare<'t>(reader: &mut Reader<'t>, line: usize, mut table: Table<'_, 't>) -> Option<Prepare> {
    let run = table.texts(reader, "run", 1);
    let limit = table.limit(reader, "limit").unwrap_or(Span::seconds(300));
    if run.is_none() && reader.problems.iter().all(|p| p.line < line) {
        reader.complain(line, "[prepare] has no \"run\": give the command, or remove the table");
    }
    table.finish(reader);
    Some(Prepare { run: run?, limit })
}

fn read_tests<'t>(reader: &mut Reader<'t>, line: usize, mut table: Table<'_, 't>) -> Option<Tests> {
    let before = reader.problems.len();
    let list = table.texts(reader, "list", 1);
    let run = table.texts(reader, "run", 1);
    let results = table.read(reader, "results", "a string", |v| v.as_str().map(Results::parse));
    let junit = table.texts(reader, "junit", 1);
    let keep = table.texts(reader, "keep", 0).unwrap_or_default();
    let give_back = table.flag(reader, "give-back").unwrap_or(true);
    let end_counts = table
        .read(reader, "end", "a string", |v| {
            v.as_str().map(|s| match s {
                "counts" => Ok(true),
                "ignored" => Ok(false),
                other => {
                    let hint = did_you_mean(other, ["counts", "ignored"]);
                    Err(format!("{other:?} is not a valid \"end\"{hint}: \"counts\" (a process that ends badly fails the run) or \"ignored\""))
                }
            })
        })
        .unwrap_or(true);
    if reader.problems.len() == before {
        for (key, missing) in [("list", list.is_none()), ("run", run.is_none()), ("results", results.is_none())] {
            if missing {
                reader.complain(line, format!("[tests] has no {key:?}, which it needs"));
            }
        }
    }
    for glob in junit.iter().flatten().chain(&keep) {
        if let Err(e) = Pattern::glob(glob) {
            reader.complain(line, e.to_string());
        }
    }
    let each = table.read(reader, "each", "a string", |v| v.as_str().map(Each::parse)).unwrap_or_default();
    let rerun = table.texts(reader, "rerun", 1);
    let rest = table.texts(reader, "rest", 1);
    let split = table.flag(reader, "split");
    let fed = table.read(reader, "feed", "a string", |v| {
        v.as_str().map(|s| match s {
            "lines" => Ok(()),
            other => Err(format!("{other:?} is not a valid \"feed\": use \"lines\", or leave it out")),
        })
    });
    check_files(reader, line, each, rerun.as_deref(), split, results);
    check_rest(reader, line, rest.as_deref(), rerun.is_some());
    if fed.is_some() {
        check_fed(reader, line, each, results);
    }
    let names_as = run.as_deref().and_then(|run| match names_as(run, fed.is_some()) {
        Ok(names_as) => Some(names_as),
        Err(why) => {
            reader.complain(line, format!("\"run\" in [tests] {why}"));
            None
        }
    });
    match (results, &junit, names_as) {
        (Some(Results::Junit), None, _) => {
            reader.complain(line, "results = \"junit\" needs \"junit\": where the files are found")
        }
        (Some(Results::Tap | Results::Events | Results::Exit), Some(_), _) => {
            reader.complain(line, "\"junit\" in [tests] is used only with results = \"junit\"");
        }
        (Some(Results::Exit), _, Some(as_)) if as_ != NamesAs::OneEach => {
            reader.complain(line, "results = \"exit\" runs a process for each test: \"run\" must hold {name}");
        }
        _ => {}
    }
    table.finish(reader);
    Some(Tests {
        each,
        // Without "rest" what is new in a file that is cut would not run, and nothing would fail by it.
        split: split.unwrap_or(rest.is_some()),
        rerun,
        rest,
        list: list?,
        run: run?,
        names_as: names_as?,
        results: results?,
        junit: junit.unwrap_or_default(),
        keep,
        give_back,
        end_counts,
    })
}

/// What must fit where the list names files.
fn check_files(
    reader: &mut Reader<'_>,
    line: usize,
    each: Each,
    rerun: Option<&[String]>,
    split: Option<bool>,
    results: Option<Results>,
) {
    match (rerun, each) {
        (Some(_), Each::Test) => {
            reader.complain(line, "\"rerun\" in [tests] runs cases of a file: it needs each = \"file\"");
        }
        (Some(_), Each::File) if results == Some(Results::Exit) => {
            reader.complain(line, "results = \"exit\" tells of no cases: \"rerun\" in [tests] would have none to run");
        }
        (Some(rerun), Each::File) => {
            check_marks(reader, line, "rerun", rerun);
        }
        (None, _) if split == Some(true) => {
            reader.complain(
                line,
                "split = true cuts a file by its cases: it needs \"rerun\", which says how to run some of them",
            );
        }
        (None, _) => {}
    }
}

/// What must fit where a file can be run without some of its cases.
fn check_rest(reader: &mut Reader<'_>, line: usize, rest: Option<&[String]>, rerun: bool) {
    let Some(rest) = rest else { return };
    if !rerun {
        reader
            .complain(line, "\"rest\" in [tests] runs what \"rerun\" leaves of a file that is cut: it needs \"rerun\"");
    }
    check_marks(reader, line, "rest", rest);
}

/// What runs some cases of a file is told of which file, and of which cases.
fn check_marks(reader: &mut Reader<'_>, line: usize, key: &str, words: &[String]) {
    for mark in ["{name}", "{cases-file}"] {
        if words.iter().filter(|word| word.contains(mark)).count() != 1 {
            reader.complain(line, format!("{key:?} in [tests] must hold {mark} once"));
        }
    }
}

/// What must fit where tests are fed to processes that stay.
fn check_fed(reader: &mut Reader<'_>, line: usize, each: Each, results: Option<Results>) {
    if each == Each::File {
        reader.complain(line, "feed = \"lines\" feeds tests: it does not go with each = \"file\"");
    }
    if matches!(results, Some(Results::Junit | Results::Exit)) {
        let why = "feed = \"lines\" needs each result as it is known: use results = \"tap\" or \"events\"";
        reader.complain(line, why);
    }
}

fn names_as(run: &[String], fed: bool) -> Result<NamesAs, String> {
    let count = |mark: &str| run.iter().filter(|word| word.contains(mark)).count();
    let found = [("{names}", NamesAs::Arguments), ("{names-file}", NamesAs::File), ("{name}", NamesAs::OneEach)]
        .map(|(mark, names_as)| (count(mark), mark, names_as));
    match found.iter().filter(|f| f.0 > 0).collect::<Vec<_>>().as_slice() {
        [] if fed => Ok(NamesAs::Fed),
        [(_, mark, _), ..] if fed => {
            Err(format!("holds {mark}, and feed = \"lines\" writes names to standard input: keep one"))
        }
        [(1, mark, NamesAs::Arguments)] if !run.iter().any(|word| word == mark) => {
            Err("holds {names} within a word: it must stand alone, as it becomes several words".into())
        }
        [(1, _, names_as)] => Ok(*names_as),
        [] => Err("says nowhere which tests to run: add \"{names}\", \"{names-file}\" or \"{name}\"".into()),
        _ => Err("may hold only one of {names}, {names-file} and {name}, once".into()),
    }
}

fn read_limits<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>) -> Limits {
    let mut limits = Limits {
        test: Span::seconds(60),
        batch: Span::seconds(1800),
        run: Span::seconds(4 * 3600),
        output: Bytes(10 << 20),
        patience: Span::seconds(600),
    };
    if let Some((_, mut table)) = top.inner(reader, "limits") {
        limits.test = table.limit(reader, "test").unwrap_or(limits.test);
        limits.batch = table.limit(reader, "batch").unwrap_or(limits.batch);
        limits.run = table.limit(reader, "run").unwrap_or(limits.run);
        limits.output = table.size(reader, "output").unwrap_or(limits.output);
        limits.patience = table.limit(reader, "patience").unwrap_or(limits.patience);
        table.finish(reader);
    }
    limits
}

fn read_retry<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>) -> Retry {
    let mut retry = Retry::default();
    if let Some((_, mut table)) = top.inner(reader, "retry") {
        retry.times = table.count(reader, "times", 0, MOST_RETRIES);
        retry.other_worker = table.flag(reader, "other-worker").unwrap_or(false);
        retry.pause = table.span(reader, "pause").unwrap_or(Span::ZERO);
        retry.give_up_after = table.read(reader, "give-up-after", "a share, like \"20%\"", |v| {
            v.as_str().map(|s| {
                s.strip_suffix('%')
                    .and_then(|n| n.trim().parse().ok())
                    .filter(|n| (1..=100).contains(n))
                    .ok_or_else(|| format!("{s:?} is not a valid share: write \"1%\" to \"100%\""))
            })
        });
        table.finish(reader);
    }
    retry
}

fn read_measured<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>) -> Vec<Limit> {
    let Some(list) = top.read(reader, "limit", "a list of tables, [[limit]]", |v| v.as_array().map(Ok)) else {
        return Vec::new();
    };
    let mut limits = Vec::new();
    for item in list.iter() {
        let line = reader.line_at(item.span().start);
        let Some(inner) = item.get_ref().as_table() else {
            reader.complain(line, format!("a limit must be a table, [[limit]], and is {}", kind_of(item.get_ref())));
            continue;
        };
        let mut table = reader.table("limit", inner);
        let before = reader.problems.len();
        let measure = table.text(reader, "measure");
        let stat = table.read(reader, "stat", "a string", |v| {
            let of = |word: &str| {
                Stat::of(word)
                    .ok_or_else(|| format!("{word:?} is not a figure of a measure: write one of {}", Stat::words()))
            };
            v.as_str().map(of)
        });
        let mut bound = |reader: &mut Reader<'t>, key| {
            table.read(reader, key, "a string, like \"800ms\"", |v| v.as_str().map(str::parse))
        };
        let (below, above) = (bound(reader, "below"), bound(reader, "above"));
        table.finish(reader);
        match (measure, stat) {
            (Some(measure), Some(stat)) => {
                let limit = Limit { measure, stat, below, above };
                match limit.check() {
                    Ok(()) => limits.push(limit),
                    Err(why) if reader.problems.len() == before => reader.complain(line, why),
                    Err(_) => {}
                }
            }
            _ if reader.problems.len() == before => {
                reader.complain(
                    line,
                    "this [[limit]] names no measure and stat: give measure = \"ticket_scan\" and stat = \"p95\"",
                );
            }
            _ => {}
        }
    }
    limits
}

fn read_covers<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>) -> Vec<Covers> {
    let mut all = Vec::new();
    let Some((line, mut table)) = top.inner(reader, "covers") else { return all };
    let lines = table.rest();
    if lines.len() > MOST_PATTERNS {
        let text = format!(
            "[covers] has {} patterns, and may have {MOST_PATTERNS}: name the requirements in the list, {{\"name\":\"…\",\"covers\":[\"REQ-1\"]}}",
            lines.len()
        );
        reader.complain(line, text);
        return all;
    }
    for (pattern, line, value) in lines {
        let texts: Option<Vec<String>> = value
            .as_array()
            .and_then(|list| list.iter().map(|item| item.get_ref().as_str().map(str::to_owned)).collect());
        let tests = Pattern::parse(pattern).map_err(|e| e.to_string());
        let of = match texts {
            None => Err(format!(
                "{pattern:?} in [covers] must be a list of strings, like [\"REQ-118\"], and is {}",
                kind_of(value)
            )),
            Some(texts) if texts.is_empty() => Err(format!("{pattern:?} in [covers] names no requirement")),
            Some(texts) => Requirement::parse_all(&texts).map_err(|why| format!("{pattern:?} in [covers]: {why}")),
        };
        match (tests, of) {
            (Ok(tests), Ok(of)) => all.push(Covers { tests, of }),
            (tests, of) => {
                for why in tests.err().into_iter().chain(of.err()) {
                    reader.complain(line, why);
                }
            }
        }
    }
    all
}

fn read_rules<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>) -> Vec<Rule> {
    let Some(list) = top.read(reader, "rule", "a list of tables, [[rule]]", |v| v.as_array().map(Ok)) else {
        return Vec::new();
    };
    let mut rules = Vec::new();
    let mut named = BTreeSet::new();
    for item in list.iter() {
        let line = reader.line_at(item.span().start);
        let Some(inner) = item.get_ref().as_table() else {
            reader.complain(line, format!("a rule must be a table, [[rule]], and is {}", kind_of(item.get_ref())));
            continue;
        };
        let mut table = reader.table("rule", inner);
        let before = reader.problems.len();
        let patterns = table.texts(reader, "tests", 1);
        let mut tests = Vec::new();
        for text in patterns.iter().flatten() {
            match Pattern::parse(text) {
                Ok(pattern) => tests.push(pattern),
                Err(e) => reader.complain(line, e.to_string()),
            }
        }
        let limit = table.limit(reader, "limit");
        let retry = table.count(reader, "retry", 0, MOST_RETRIES);
        let group = table.text(reader, "group");
        let parts = table.count(reader, "group-by", 1, 20);
        let claims = table.texts(reader, "claims", 0);
        let odd =
            |claim: &&String| claim.is_empty() || claim.len() > LONGEST_CLAIM || claim.chars().any(char::is_control);
        if let Some(claim) = claims.iter().flatten().find(odd) {
            let shown = shorten(claim, 80);
            reader.complain(
                line,
                format!("{shown:?} is not a valid claim: use 1 to {LONGEST_CLAIM} bytes without control characters"),
            );
        }
        named.extend(claims.iter().flatten().cloned());
        if named.len() > MOST_CLAIMS {
            reader.complain(
                line,
                format!("the rules name more than {MOST_CLAIMS} different claims: let tests share them"),
            );
            break;
        }
        if reader.problems.len() == before {
            if patterns.is_none() {
                reader.complain(line, "this [[rule]] has no \"tests\": say for which tests it is");
            } else if limit.is_none() && retry.is_none() && group.is_none() && parts.is_none() && claims.is_none() {
                reader.complain(line, "this [[rule]] changes nothing: give limit, retry, group, group-by or claims");
            }
        }
        if group.is_some() && parts.is_some() {
            reader.complain(line, "this [[rule]] has both \"group\" and \"group-by\": keep one");
        }
        table.finish(reader);
        let group = group.map(GroupBy::Name).or(parts.map(GroupBy::Parts));
        rules.push(Rule { line, tests, limit, retry, group, claims });
    }
    rules
}

fn read_facets<'t>(reader: &mut Reader<'t>, mut table: Table<'_, 't>) -> Facets {
    let mut facets = Facets::default();
    let leave_out = table.take("leave-out");
    for (name, line, value) in table.rest() {
        let values: Option<Vec<String>> =
            value.as_array().and_then(|list| list.iter().map(|v| v.get_ref().as_str().map(str::to_owned)).collect());
        match values {
            _ if !is_variable(&name.replace('-', "_")) => {
                reader.complain(
                    line,
                    format!("the facet {name:?} cannot reach a process: use letters, digits, '_' and '-'"),
                );
            }
            Some(values) if values.is_empty() => reader.complain(line, format!("the facet {name:?} has no values")),
            Some(values) if values.iter().any(|v| v.is_empty() || v.contains([',', '=']) || v.trim() != v) => {
                reader.complain(
                    line,
                    format!("a value of the facet {name:?} is empty or holds ',', '=' or outer white space"),
                );
            }
            Some(values) if (1..values.len()).any(|i| values[..i].contains(&values[i])) => {
                reader.complain(line, format!("the facet {name:?} has a value twice"));
            }
            Some(values) => facets.facets.push((name.to_owned(), values)),
            None => {
                reader.complain(line, format!("the facet {name:?} must be a list of texts, and is {}", kind_of(value)))
            }
        }
    }
    if let Some((line, value)) = leave_out {
        let Some(list) = value.as_array() else {
            reader.complain(
                line,
                format!("\"leave-out\" in [facets] must be a list of tables, and is {}", kind_of(value)),
            );
            return facets;
        };
        for item in list.iter() {
            let pairs: Option<Vec<(String, String)>> = item.get_ref().as_table().and_then(|t| {
                t.iter().map(|(k, v)| v.get_ref().as_str().map(|v| (k.get_ref().to_string(), v.to_owned()))).collect()
            });
            let Some(pairs) = pairs else {
                reader.complain(line, "an item of \"leave-out\" must be like { screen = \"phone\", tongue = \"nn\" }");
                continue;
            };
            for (facet, value) in &pairs {
                match facets.facets.iter().find(|f| f.0 == *facet) {
                    None => {
                        let hint = did_you_mean(facet, facets.facets.iter().map(|f| f.0.as_str()));
                        reader.complain(
                            line,
                            format!("\"leave-out\" names the facet {facet:?}, which is not there{hint}"),
                        );
                    }
                    Some((_, values)) if !values.contains(value) => {
                        let hint = did_you_mean(value, values.iter().map(String::as_str));
                        reader
                            .complain(line, format!("\"leave-out\": the facet {facet:?} has no value {value:?}{hint}"));
                    }
                    Some(_) => {}
                }
            }
            facets.leave_out.push(Variant::of(pairs));
        }
    }
    if !facets.facets.is_empty() && facets.variants().is_empty() && reader.problems.is_empty() {
        reader.complain(1, "\"leave-out\" in [facets] leaves no variant at all");
    }
    facets
}
