//! `kesmo hunt`: looks for the reason of a failure by repeating it.

use kesmo_core::{
    plan::RunOptions,
    run::hunt::{Hunt as Search, Reason, Step, Trial},
    words::Outcome,
};
use kesmo_wire::api::{Entries, Entry, EntryDetail, NewRun, Run, Shard};

use super::{
    print_json, run_path as path,
    runs::{carry_out, entries, find_entries},
};
use crate::{arguments::Hunt, context::Context, failure::Failure, view};

pub async fn run(options: &Hunt, context: &Context) -> Result<(), Failure> {
    let base = path(&options.run)?;
    let run: Run = context.client.get(&base, &[]).await?;
    let chosen = find_entries(context, &options.run, &options.test, &options.variant).await?;
    let entry = match chosen.as_slice() {
        [entry] => entry,
        several => failing(several).ok_or_else(|| {
            let all: Vec<String> = several.iter().map(|e| format!("--variant {}", e.variant)).collect();
            Failure::call(format!(
                "{} stands {} times in {}: choose with {}",
                options.test,
                several.len(),
                options.run,
                all.join(", or ")
            ))
        })?,
    };
    let before = what_ran_before(options, entry, &base, context).await?;
    if !context.json {
        println!(
            "Hunting {} of {}: {} ran before it in its process; at most {} repetitions.",
            entry.test,
            options.run,
            match before.len() {
                0 => "nothing".to_owned(),
                1 => "1 test".to_owned(),
                n => format!("{n} tests"),
            },
            options.at_most
        );
    }
    let mut search = Search::new(&entry.test, before, options.at_most);
    let reason = loop {
        match search.next() {
            Step::Done(reason) => break reason,
            Step::Try(names) => {
                let (failed, trial) = repeat(&run, entry, &names, &options.run, context).await?;
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
            "test": entry.test, "reason": kind, "after": after, "said": reason.to_string(), "trials": trials,
        }));
    }
    println!("\n{} {reason}", view::bold(&entry.test));
    println!("  {}", evidence(search.trials(), &reason));
    println!("  the repetitions: kesmo runs --label hunt={}", options.run.replace('/', "-"));
    Ok(())
}

/// Of several entries of that name, the one that failed, if it is one.
fn failing(entries: &[Entry]) -> Option<&Entry> {
    let mut bad = entries.iter().filter(|e| matches!(e.outcome, Some(Outcome::Failed | Outcome::Flaky)));
    bad.next().filter(|_| bad.next().is_none())
}

/// What ran before the failing attempt in its process.
async fn what_ran_before(options: &Hunt, entry: &Entry, base: &str, context: &Context) -> Result<Vec<String>, Failure> {
    let detail: EntryDetail = context.client.get(&format!("{base}/entries/{}", entry.index), &[]).await?;
    let wanted = |number: u32| options.attempt.is_none_or(|n| n == number);
    let attempt = detail.history.iter().find(|a| a.ended.failing() && wanted(a.number)).ok_or_else(|| {
        let which = options.attempt.map_or_else(|| "no attempt".to_owned(), |n| format!("no attempt {n}"));
        Failure::call(format!("{} of {} has {which} that failed: there is nothing to hunt", entry.test, options.run))
    })?;
    let shards: Vec<Shard> = context.client.get(&format!("{base}/shards"), &[]).await?;
    let batch = shards.iter().flat_map(|s| &s.batches).find(|b| b.number == attempt.batch);
    let names = batch.map(|b| b.entries.as_slice()).unwrap_or_default();
    Ok(names.iter().take_while(|n| n.0 != entry.test || n.1 != entry.variant).map(|n| n.0.clone()).collect())
}

/// Repeats tests in one process, in their order; tells whether the last failed, and the run that did it.
async fn repeat(
    run: &Run,
    entry: &Entry,
    names: &[String],
    hunted: &str,
    context: &Context,
) -> Result<(bool, String), Failure> {
    let order = vec![names.iter().map(|n| (n.clone(), entry.variant.clone())).collect()];
    let options = RunOptions {
        order: Some(order),
        variants: run.options.variants.clone(),
        set: run.options.set.clone(),
        env: run.options.env.clone(),
        image: run.options.image.clone(),
        reach: run.options.reach.clone(),
        images: run.images.clone(),
        seed: Some(run.seed),
        run_parked: true,
        labels: [("hunt".to_owned(), hunted.replace('/', "-"))].into(),
        ..RunOptions::default()
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
    let found: Entries = entries(context, &name, &[("name", entry.test.clone()), ("limit", "1000".to_owned())]).await?;
    let last = found.entries.iter().filter(|e| e.test == entry.test).max_by_key(|e| e.index);
    match last.and_then(|e| e.outcome) {
        Some(Outcome::Failed) => Ok((true, name)),
        Some(Outcome::Passed | Outcome::Flaky) => Ok((false, name)),
        // A parked test ran without counting: its attempt says how it ended.
        Some(Outcome::Parked) => Ok((last.is_some_and(|e| !e.message.is_empty()), name)),
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
