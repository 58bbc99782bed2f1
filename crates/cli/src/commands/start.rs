//! `kesmo start` and `again`: starting runs.

use std::{collections::BTreeSet, path::Path};

use kesmo_client::pack;
use kesmo_core::{
    name::did_you_mean,
    plan::{
        RunOptions,
        brief::{Brief, Changes},
    },
    time::Span,
};
use kesmo_wire::api::{Again as AgainBody, NewRun, PoolOf, Run, Worker};

use super::{
    folders::{is_folder, not_known},
    print_json,
    reports::{self, Wanted},
    run_path as path,
    watch::until_verdict,
};
use crate::{
    arguments::{Again, Choosing, Place, Running, Start, Staying},
    context::Context,
    failure::Failure,
};

pub async fn run(options: &Start, context: &Context) -> Result<u8, Failure> {
    let reports = options.staying.reports()?;
    let mut changes = changes(&options.choosing, &options.running, &options.place)?;
    if let Some(name) = &options.brief {
        if options.suite.as_deref().is_some_and(is_folder) {
            return Err(Failure::call(
                "--brief starts its suite's own files; leave the folder out, or use --from FILE",
            ));
        }
        let new = NewRun {
            brief: Some(name.clone()),
            suite: options.suite.clone(),
            not_passed_in: options.running.not_passed_in.clone(),
            ..of_changes(changes)
        };
        let run: Run = context.client.post("/api/runs", &new).await?;
        return started(&run, &options.staying, &reports, context).await;
    }
    let mut brief = Brief::default();
    if let Some(file) = &options.from {
        brief = read_brief(file)?;
        if brief.then.is_some() || brief.replace_older {
            return Err(Failure::call(format!(
                "{}: then and replace-older are for saved briefs: save it with `kesmo brief add NAME --from {}`",
                file.display(),
                file.display()
            )));
        }
        let with = brief.with(changes);
        changes = Changes { pool: with.pool, branch: with.branch, commit: with.commit, options: with.options };
    }
    let no_suite = || Failure::call("the brief names no suite: write suite = \"NAME\" in it, or name one in the call");
    let suite = options.suite.clone().or(brief.suite).ok_or_else(no_suite)?;
    let new = new_run(&suite, changes, &options.running, context).await?;
    let run: Run = context.client.post("/api/runs", &new).await.map_err(|e| not_known(e, &suite))?;
    started(&run, &options.staying, &reports, context).await
}

/// Reads a brief from a file.
pub fn read_brief(file: &Path) -> Result<Brief, Failure> {
    let name = file.display().to_string();
    let text = std::fs::read_to_string(file).map_err(|e| Failure::call(format!("--from {name}: {e}")))?;
    Ok(Brief::parse(&name, &text)?)
}

/// What the options of a call say.
pub fn changes(choosing: &Choosing, running: &Running, place: &Place) -> Result<Changes, Failure> {
    let Place { pool, branch, commit, within, budget } = place;
    let span = |time: &std::time::Duration| Span(u64::try_from(time.as_micros()).unwrap_or(u64::MAX));
    let (within, budget) = (within.as_ref().map(span), budget.as_ref().map(span));
    let options = RunOptions { within, budget, ..running.options(choosing)? };
    Ok(Changes { pool: pool.clone(), branch: branch.clone(), commit: commit.clone(), options })
}

fn of_changes(changes: Changes) -> NewRun {
    let Changes { pool, branch, commit, options } = changes;
    NewRun { pool, branch, commit, options, ..NewRun::default() }
}

/// What a start asks for; a folder is packed and uploaded.
pub async fn new_run(suite: &str, changes: Changes, running: &Running, context: &Context) -> Result<NewRun, Failure> {
    let mut new = NewRun { not_passed_in: running.not_passed_in.clone(), ..of_changes(changes) };
    if is_folder(suite) {
        let folder = Path::new(suite);
        // What is wrong with the call is told before anything is sent.
        new.options.check(&pack::suite_file(folder)?)?;
        let bundle = pack::pack(folder)?;
        context.client.upload(&bundle).await?;
        new.bundle = Some(bundle.digest);
    } else {
        new.suite = Some(suite.to_owned());
    }
    Ok(new)
}

pub async fn again(options: &Again, context: &Context) -> Result<u8, Failure> {
    let reports = options.staying.reports()?;
    let body = AgainBody { not_passed: options.not_passed, shard: options.shard };
    let run: Run = context.client.post(&format!("{}/again", path(&options.run)?), &body).await?;
    started(&run, &options.staying, &reports, context).await
}

pub async fn started(run: &Run, staying: &Staying, reports: &[Wanted], context: &Context) -> Result<u8, Failure> {
    let name = &run.summary.name;
    if !context.json {
        for changed in &run.summary.origin.changed {
            eprintln!("Changed: {changed}");
        }
    }
    if staying.wait {
        if !context.json {
            eprintln!("Started {name}: {}/runs/{name}", context.client.url());
            say_if_nobody_is_there(&run.summary.pool, context).await;
        }
        let status = until_verdict(name, staying.refresh.refresh, context).await?;
        return Ok(reports::of_run(name, reports, status, context).await);
    }
    if context.json {
        print_json(run)?;
    } else {
        println!("{name}");
        eprintln!("Watch it: kesmo watch {name}");
        say_if_nobody_is_there(&run.summary.pool, context).await;
    }
    Ok(0)
}

/// A pool without a worker may be a misspelt one: then the run would wait in silence.
async fn say_if_nobody_is_there(pool: &str, context: &Context) {
    // A pool that starts machines says by itself what is coming.
    let described = context.client.get::<PoolOf>(&format!("/api/pools/{pool}"), &[]).await;
    if described.is_ok_and(|pool| pool.pool.starts()) {
        return;
    }
    // Only a hint: the run is started, whatever becomes of it.
    let Ok(workers) = context.client.get::<Vec<Worker>>("/api/workers", &[]).await else { return };
    if workers.iter().any(|w| w.pool == pool && w.only_run.is_none()) {
        return;
    }
    let pools: BTreeSet<&str> = workers.iter().map(|w| w.pool.as_str()).collect();
    let hint = did_you_mean(pool, pools);
    let stop = if hint.is_empty() { "." } else { "" };
    eprintln!("No worker is in the pool {pool} now{hint}{stop} The run waits for one: `kesmo worker --pool {pool}`.");
}
