//! `kesmo hunt`: looks for the reason of a failure by repeating it.

use kesmo_core::{
    plan::{CasesOf, RunOptions},
    run::hunt::{Hunt as Search, Reason, Step, Trial},
    words::Outcome,
};
use kesmo_wire::{
    api::{Entries, Entry, EntryDetail, NewRun, Run, Shard},
    cases::{Case, CaseDetail, Cases},
};

use super::{
    cases, print_json, run_path as path,
    runs::{carry_out, entries, find_entries},
};
use crate::{arguments::Hunt, context::Context, failure::Failure, view};

/// Cases of a file that a hunt may take away from.
const MOST_CASES: usize = 1000;

/// What is hunted.
enum Hunted {
    /// A test, after those that ran before it in its process.
    Test(Box<Entry>),
    /// A case of a file, after those that the file told of before it.
    Case(Box<Case>),
}

impl Hunted {
    /// What it is called beside what ran before it.
    fn name(&self) -> &str {
        match self {
            Self::Test(entry) => &entry.test,
            Self::Case(case) => &case.title,
        }
    }

    /// What it is called.
    fn whole_name(&self) -> String {
        match self {
            Self::Test(entry) => entry.test.clone(),
            Self::Case(case) => format!("{}/{}", case.file, case.title),
        }
    }
}

pub async fn run(options: &Hunt, context: &Context) -> Result<(), Failure> {
    let base = path(&options.run)?;
    let run: Run = context.client.get(&base, &[]).await?;
    let hunted = find(options, context).await?;
    let (before, place) = match &hunted {
        Hunted::Test(entry) => (what_ran_before(options, entry, &base, context).await?, "in its process"),
        Hunted::Case(case) => (what_was_told_before(options, case, &base, context).await?, "in its file"),
    };
    if !context.json {
        println!(
            "Hunting {} of {}: {} ran before it {place}; at most {} repetitions.",
            hunted.whole_name(),
            options.run,
            match (before.len(), &hunted) {
                (0, _) => "nothing".to_owned(),
                (1, Hunted::Test(_)) => "1 test".to_owned(),
                (n, Hunted::Test(_)) => format!("{n} tests"),
                (1, Hunted::Case(_)) => "1 case".to_owned(),
                (n, Hunted::Case(_)) => format!("{n} cases"),
            },
            options.at_most
        );
    }
    let mut search = Search::new(hunted.name(), before, options.at_most);
    let reason = loop {
        match search.next() {
            Step::Done(reason) => break reason,
            Step::Try(names) => {
                let (failed, trial) = repeat(&run, &hunted, &names, &options.run, context).await?;
                search.report(failed);
                if !context.json {
                    println!("{}", trial_line(search.trials(), &trial));
                }
            }
        }
    };
    if context.json {
        let trials: Vec<_> =
            search.trials().iter().map(|t| serde_json::json!({ "before": t.before, "failed": t.failed })).collect();
        let (kind, after) = match &reason {
            Reason::Alone => ("alone", Vec::new()),
            Reason::After { tests, .. } => ("after", tests.clone()),
            Reason::ByChance { .. } => ("by-chance", Vec::new()),
        };
        return print_json(&serde_json::json!({
            "test": hunted.whole_name(), "reason": kind, "after": after, "said": reason.to_string(), "trials": trials,
        }));
    }
    println!("\n{} {reason}", view::bold(&hunted.whole_name()));
    println!("  {}", evidence(search.trials(), &reason));
    println!("  the repetitions: kesmo runs --label hunt={}", options.run.replace('/', "-"));
    Ok(())
}

/// The test of that name, or the case.
async fn find(options: &Hunt, context: &Context) -> Result<Hunted, Failure> {
    let (run, name) = (&options.run, &options.test);
    let several = |all: Vec<&str>| {
        let all: Vec<String> = all.into_iter().map(|variant| format!("--variant {variant}")).collect();
        Failure::call(format!("{name} stands {} times in {run}: choose with {}", all.len(), all.join(", or ")))
    };
    match find_entries(context, run, name, &options.variant).await {
        Ok(chosen) => match chosen.as_slice() {
            [entry] => Ok(Hunted::Test(Box::new(entry.clone()))),
            all => match failing(all) {
                Some(entry) => Ok(Hunted::Test(Box::new(entry.clone()))),
                None => Err(several(all.iter().map(|e| e.variant.as_str()).collect())),
            },
        },
        Err(none) => {
            let mut found = cases::find(context, run, name, &options.variant).await?;
            match found.len() {
                0 => Err(none),
                1 => Ok(Hunted::Case(Box::new(found.remove(0)))),
                _ => Err(several(found.iter().map(|c| c.variant.as_str()).collect())),
            }
        }
    }
}

/// What a file told of before a failing case of it; all else that it told of, where the case failed as it was tried again.
async fn what_was_told_before(
    options: &Hunt,
    case: &Case,
    base: &str,
    context: &Context,
) -> Result<Vec<String>, Failure> {
    let at = format!("{base}/entries/{}/case", case.entry);
    let detail: CaseDetail = context.client.get(&at, &[("title", case.title.clone())]).await?;
    let wanted = |number: u32| options.attempt.is_none_or(|n| n == number);
    if !detail.history.iter().any(|a| a.ended.failing() && wanted(a.number)) {
        return Err(nothing_failed(&format!("{}/{}", case.file, case.title), options));
    }
    let query = [("entry", case.entry.to_string()), ("order", "told".to_owned()), ("limit", MOST_CASES.to_string())];
    let told: Cases = context.client.get(&format!("{base}/cases"), &query).await?;
    if told.total as usize > MOST_CASES {
        let (file, total) = (&case.file, told.total);
        return Err(Failure::call(format!(
            "{file} told of {total} cases: a hunt takes away from {MOST_CASES} at the most"
        )));
    }
    let titles: Vec<String> = told.cases.into_iter().map(|c| c.title).collect();
    let first = case.attempts == 1;
    Ok(titles.into_iter().take_while(|title| !first || *title != case.title).filter(|t| *t != case.title).collect())
}

fn nothing_failed(name: &str, options: &Hunt) -> Failure {
    let which = options.attempt.map_or_else(|| "no attempt".to_owned(), |n| format!("no attempt {n}"));
    Failure::call(format!("{name} of {} has {which} that failed: there is nothing to hunt", options.run))
}

/// Of several entries of that name, the one that failed, if it is one; of the parts of a file, the first that did.
fn failing(entries: &[Entry]) -> Option<&Entry> {
    let mut bad = entries.iter().filter(|e| matches!(e.outcome, Some(Outcome::Failed | Outcome::Flaky)));
    let of_one_file = entries.iter().all(|e| e.parts > 0 && e.variant == entries[0].variant);
    bad.next().filter(|_| of_one_file || bad.next().is_none())
}

/// What ran before the failing attempt in its process.
async fn what_ran_before(options: &Hunt, entry: &Entry, base: &str, context: &Context) -> Result<Vec<String>, Failure> {
    let detail: EntryDetail = context.client.get(&format!("{base}/entries/{}", entry.index), &[]).await?;
    let wanted = |number: u32| options.attempt.is_none_or(|n| n == number);
    let failed = detail.history.iter().find(|a| a.ended.failing() && wanted(a.number));
    let attempt = failed.ok_or_else(|| nothing_failed(&entry.test, options))?;
    let shards: Vec<Shard> = context.client.get(&format!("{base}/shards"), &[]).await?;
    let batch = shards.iter().flat_map(|s| &s.batches).find(|b| b.number == attempt.batch);
    let names = batch.map(|b| b.entries.as_slice()).unwrap_or_default();
    Ok(names.iter().take_while(|n| n.0 != entry.test || n.1 != entry.variant).map(|n| n.0.clone()).collect())
}

/// Repeats tests in one process, in their order, or cases in one of their file; tells whether the last failed, and the run that did it.
async fn repeat(
    run: &Run,
    hunted: &Hunted,
    names: &[String],
    of: &str,
    context: &Context,
) -> Result<(bool, String), Failure> {
    let which = match hunted {
        Hunted::Test(entry) => {
            let order = vec![names.iter().map(|n| (n.clone(), entry.variant.clone())).collect()];
            RunOptions { order: Some(order), ..RunOptions::default() }
        }
        Hunted::Case(case) => {
            let (file, variant) = (case.file.clone(), case.variant.clone());
            RunOptions {
                only: Some(vec![(file.clone(), variant.clone())]),
                only_because: Some(format!("hunting {}/{}", case.file, case.title)),
                cases: vec![CasesOf { file, variant, titles: names.to_vec() }],
                retries: Some(0),
                ..RunOptions::default()
            }
        }
    };
    let options = RunOptions {
        variants: run.options.variants.clone(),
        set: run.options.set.clone(),
        env: run.options.env.clone(),
        image: run.options.image.clone(),
        reach: run.options.reach.clone(),
        images: run.images.clone(),
        seed: Some(run.seed),
        run_parked: true,
        labels: [("hunt".to_owned(), of.replace('/', "-"))].into(),
        ..which
    };
    let new = NewRun {
        suite: Some(run.summary.suite.clone()),
        bundle: Some(run.bundle.clone()),
        pool: Some(run.summary.pool.clone()),
        options,
        ..NewRun::default()
    };
    let made = carry_out(context, &new).await?;
    let name = made.summary.name.clone();
    let (outcome, message) = match hunted {
        Hunted::Test(entry) => {
            let query = [("name", entry.test.clone()), ("limit", "1000".to_owned())];
            let found: Entries = entries(context, &name, &query).await?;
            let last = found.entries.into_iter().filter(|e| e.test == entry.test).max_by_key(|e| e.index);
            last.map_or((None, String::new()), |e| (e.outcome, e.message))
        }
        Hunted::Case(case) => {
            let of_case = cases::find(context, &name, &hunted.whole_name(), &[]).await?;
            let found = of_case.into_iter().find(|c| c.variant == case.variant);
            found.map_or((None, String::new()), |c| (Some(c.outcome), c.message))
        }
    };
    match outcome {
        Some(Outcome::Failed) => Ok((true, name)),
        Some(Outcome::Passed | Outcome::Flaky) => Ok((false, name)),
        // A parked test ran without counting: its attempt says how it ended.
        Some(Outcome::Parked) => Ok((!message.is_empty(), name)),
        _ => Err(Failure::trouble(format!("the repetition {name} told nothing: {}", made.summary.reason))),
    }
}

fn trial_line(trials: &[Trial], run: &str) -> String {
    let Some(trial) = trials.last() else { return String::new() };
    let number = trials.len();
    let what = match trial.before.len() {
        0 => "alone".to_owned(),
        1 => format!("after {}", trial.before[0]),
        n => format!("after {n} tests"),
    };
    let how = if trial.failed { Outcome::Failed } else { Outcome::Passed };
    format!("  {number:>3}  {}  {what}  ({run})", view::outcome_word(how))
}

fn evidence(trials: &[Trial], reason: &Reason) -> String {
    let count = |before: &dyn Fn(&Trial) -> bool| {
        let of: Vec<&Trial> = trials.iter().filter(|t| before(t)).collect();
        (of.iter().filter(|t| t.failed).count(), of.len())
    };
    let alone = count(&|t| t.before.is_empty());
    let alone_said = format!("alone it failed {} of {} times", alone.0, alone.1);
    match reason {
        Reason::Alone => alone_said,
        Reason::After { tests, .. } => {
            let after = count(&|t| t.before == *tests);
            let said = if after.1 > 0 {
                format!("after {} it failed {} of {} times", tests.join(", "), after.0, after.1)
            } else {
                format!("it failed whenever these {} ran before it", tests.len())
            };
            format!("{alone_said}; {said}")
        }
        Reason::ByChance { .. } => {
            let ordered = count(&|t| !t.before.is_empty());
            format!("{alone_said}; in its order {} of {}", ordered.0, ordered.1)
        }
    }
}
