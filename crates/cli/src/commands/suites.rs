//! `kesmo suite` and `kesmo tests`.

use std::path::Path;

use kesmo_client::pack;
use kesmo_core::{
    name::shorten,
    plan::DEFAULT_RETRIES,
    source::{GitSource, short_commit},
    suite::file::NamesAs,
    time::{Bytes, Span},
};
use kesmo_wire::api::{NewPoll, NewSuite, PollOf, Suite as SuiteView, SuiteDetail, Tests as TestsView, TestsQuery};

use super::{
    folders::{not_known, suite_and_bundle},
    print_json,
};
use crate::{
    arguments::{AddSuite, PollBranches, Suite, Tests},
    context::Context,
    failure::Failure,
    view,
};

pub async fn run(
    command: &Suite,
    json: bool,
    context: impl FnOnce() -> Result<Context, Failure>,
) -> Result<(), Failure> {
    match command {
        // These need no service, and `main` calls them.
        Suite::Draft(_) | Suite::Try(_) => Ok(()),
        Suite::Check(folder) => check(&folder.folder, json),
        Suite::Poll(options) => poll(options, &context()?).await,
        Suite::Unpoll(options) => {
            let query = [("branches", options.branch.clone())];
            context()?.client.delete_with(&format!("/api/suites/{}/polls", options.suite), &query).await?;
            println!("{} of {} is no longer polled; its runs stay.", options.branch, options.suite);
            Ok(())
        }
        Suite::Add(AddSuite { git: Some(url), branch, within, .. }) => {
            let context = context()?;
            let folder = within.as_deref().unwrap_or_default().trim_matches('/').to_owned();
            let git = GitSource { url: url.clone(), branch: branch.clone(), commit: None, folder };
            git.check()?;
            let new = NewSuite { git: Some(git), bundle: None };
            let suite: SuiteDetail = context.client.post("/api/suites", &new).await?;
            if context.json {
                return print_json(&suite);
            }
            let from = suite.suite.git.as_ref().map(GitSource::said).unwrap_or_default();
            println!("Suite {} is added (from {from}).", suite.suite.name);
            println!("Start it: kesmo start {} --wait", suite.suite.name);
            println!("Start it on every push: kesmo suite poll {} --branch '*'", suite.suite.name);
            Ok(())
        }
        Suite::Add(folder) => {
            let context = context()?;
            let bundle = pack::pack(folder.folder.as_deref().unwrap_or(Path::new(".")))?;
            let uploaded = context.client.upload(&bundle).await?;
            let suite: SuiteDetail = context
                .client
                .post("/api/suites", &NewSuite { bundle: Some(bundle.digest.clone()), git: None })
                .await?;
            if context.json {
                return print_json(&suite);
            }
            let size = Bytes(bundle.content.len() as u64);
            let how = if uploaded {
                format!("{} files, {size} packed", bundle.files)
            } else {
                "its files were here already".into()
            };
            println!("Suite {} is added ({how}).", suite.suite.name);
            println!("Start it: kesmo start {} --wait", suite.suite.name);
            Ok(())
        }
        Suite::List => {
            let context = context()?;
            let suites: Vec<SuiteView> = context.client.get("/api/suites", &[]).await?;
            if context.json {
                return print_json(&suites);
            }
            if suites.is_empty() {
                println!("There is no suite yet. Add one: kesmo suite add FOLDER");
                return Ok(());
            }
            let rows = suites.iter().map(|s| {
                let entries = s.entries.map_or_else(|| "–".into(), |n| n.to_string());
                let state = view::last_run(s.last_runs.first());
                let now = match s.failing {
                    0 => String::new(),
                    n => view::paint(view::Paint::Failed, &format!("◆ {n} failing")),
                };
                vec![s.name.clone(), entries, state, now, shorten(&s.about, 60)]
            });
            print!("{}", view::table(&["suite", ">tests", "last run", "now", "about"], rows.collect()));
            Ok(())
        }
        Suite::Show(named) => {
            let context = context()?;
            let suite: SuiteDetail = context.client.get(&format!("/api/suites/{}", named.name), &[]).await?;
            if context.json {
                return print_json(&suite);
            }
            println!("{}  {}", view::bold(&suite.suite.name), suite.suite.about);
            match &suite.suite.git {
                Some(git) => println!("git      {}", git.said()),
                None => println!("bundle   {}", &suite.suite.bundle[..12]),
            }
            if let Some(trouble) = &suite.suite.trouble {
                println!("trouble  {}", view::paint(view::Paint::Failed, trouble));
            }
            if let Some((at, schedule)) = &suite.suite.next_start {
                println!("next     {} by schedule {schedule}", view::moment(*at));
            }
            let polls: Vec<PollOf> = context.client.get(&format!("/api/suites/{}/polls", named.name), &[]).await?;
            for poll in &polls {
                println!("polled  {}", poll_line(poll));
            }
            println!("retries  {}", suite.retries);
            for facet in &suite.facets {
                println!("facet    {} = {}", facet.name, facet.values.join(", "));
            }
            for (need, value) in &suite.needs {
                println!("needs    {need}={value}");
            }
            for (setting, value) in &suite.settings {
                println!("setting  {setting} = {value}");
            }
            for park in &suite.parks {
                println!("parked   {}", super::planning::park_line(park));
            }
            if !suite.suite.last_runs.is_empty() {
                println!();
                print!("{}", super::runs::runs_table(&suite.suite.last_runs));
            }
            Ok(())
        }
        Suite::Remove(named) => {
            context()?.client.delete(&format!("/api/suites/{}", named.name)).await?;
            println!("Suite {} is removed; its runs can still be read.", named.name);
            Ok(())
        }
    }
}

/// What is polled, in a line.
fn poll_line(poll: &PollOf) -> String {
    let brief = poll.brief.as_ref().map_or_else(String::new, |b| format!(", starts {b}"));
    let last = poll.heads.first().map_or_else(
        || ", nothing new so far".to_owned(),
        |(branch, commit, run)| format!(", last {branch} at {} ({run})", short_commit(commit)),
    );
    let trouble = poll
        .trouble
        .as_ref()
        .map_or_else(String::new, |t| format!("; {t}, next look {}", view::moment(poll.next_look)));
    format!("{} every {}{brief}{last}{trouble}", poll.branches, Span(poll.every_us))
}

async fn poll(options: &PollBranches, context: &Context) -> Result<(), Failure> {
    let new = NewPoll {
        branches: options.branch.clone(),
        every: options.every.clone(),
        brief: options.brief.clone(),
        now: options.now,
    };
    let poll: PollOf = context.client.post(&format!("/api/suites/{}/polls", options.suite), &new).await?;
    if context.json {
        return print_json(&poll);
    }
    let there = if options.now { "also those that are there now" } else { "those that are there now are no news" };
    println!("{} of {} is polled: every new commit starts a run ({there}).", poll.branches, poll.suite);
    println!("It is polled every {}.", Span(poll.every_us));
    Ok(())
}

fn check(folder: &Path, json: bool) -> Result<(), Failure> {
    let suite = pack::suite_file(folder)?;
    if json {
        return print_json(&serde_json::json!({ "suite": suite.suite.as_str(), "about": suite.about, "ok": true }));
    }
    println!("{} is good: suite {}", folder.join("kesmo.toml").display(), suite.suite);
    println!("  list     {}", suite.tests.list.join(" "));
    println!("  run      {}", suite.tests.run.join(" "));
    if let Some(rerun) = &suite.tests.rerun {
        println!("  rerun    {}", rerun.join(" "));
    }
    if let Some(rest) = &suite.tests.rest {
        println!("  rest     {}", rest.join(" "));
    }
    if suite.tests.split {
        println!("  split    a file that takes longer than its share is cut over several slots");
    }
    if suite.tests.of_files() {
        println!("  each     file: its cases are found as it runs");
    }
    if suite.tests.names_as == NamesAs::Fed {
        println!("  feed     lines: a process stays, and reads the names from its standard input");
    }
    println!("  results  {}", suite.tests.results.word());
    println!("  retries  {}", suite.retry.times.unwrap_or(DEFAULT_RETRIES));
    println!("  limits   test {}, batch {}, run {}", suite.limits.test, suite.limits.batch, suite.limits.run);
    let variants = suite.facets.variants();
    if variants.len() > 1 {
        let all: Vec<String> = variants.iter().map(ToString::to_string).collect();
        println!("  variants {}", all.join("; "));
    }
    if !suite.rules.is_empty() {
        println!("  rules    {}", suite.rules.len());
    }
    Ok(())
}

pub async fn tests(options: &Tests, context: &Context) -> Result<(), Failure> {
    let (suite, bundle) = suite_and_bundle(&options.suite, context).await?;
    let query = TestsQuery { bundle, options: options.choosing.options()? };
    let found: TestsView = context
        .client
        .post(&format!("/api/suites/{suite}/tests"), &query)
        .await
        .map_err(|e| not_known(e, &options.suite))?;
    if context.json {
        return print_json(&found);
    }
    let variants = found.tests.iter().any(|t| !t.variant.is_empty());
    let rows = found.tests.iter().map(|t| {
        let expected = t.expected_us.map_or_else(|| "–".into(), |us| Span(us).to_string());
        let runs = t.passed + t.flaky + t.failed + t.skipped;
        let record = match (runs, t.last) {
            (0, _) | (_, None) => "new".to_owned(),
            (_, Some(last)) => format!(
                "{} {}",
                view::outcome(last),
                view::counts(&[(t.passed, "passed"), (t.flaky, "flaky"), (t.failed, "failed"), (t.skipped, "skipped")])
            ),
        };
        let record =
            t.parked.as_ref().map_or(record, |parked| view::paint(view::Paint::Parked, &format!("▭ parked {parked}")));
        let mut row = vec![t.name.clone()];
        if variants {
            row.push(t.variant.clone());
        }
        row.extend([expected, t.retries.to_string(), record, t.tags.join(" ")]);
        row
    });
    let mut heads = vec!["test", ">expected", ">retries", "record", "tags"];
    if variants {
        heads.insert(1, "variant");
    }
    print!("{}", view::table(&heads, rows.collect()));
    let total: u64 = found.tests.iter().filter_map(|t| t.expected_us).sum();
    let work = if total > 0 { format!(", about {} of work", Span(total)) } else { String::new() };
    println!("{}{work}", found.choice);
    Ok(())
}
