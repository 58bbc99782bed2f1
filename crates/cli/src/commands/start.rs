//! `kesmo start` and `again`: starting runs.

use std::path::Path;

use kesmo_client::pack;
use kesmo_core::plan::{RunOptions, brief::Brief};
use kesmo_wire::api::{Again as AgainBody, NewRun, Run};

use super::{print_json, runs::path, suites::is_folder, watch::stay};
use crate::{
    Context, Failure,
    arguments::{Again, Running, Start, Staying},
};

pub async fn run(options: &Start, context: &Context) -> Result<u8, Failure> {
    let mut run_options = options.running.options(&options.choosing)?;
    let mut brief = Brief::default();
    if let Some(file) = &options.from {
        let name = file.display().to_string();
        let text = std::fs::read_to_string(file).map_err(|e| Failure::call(format!("--from {name}: {e}")))?;
        brief = Brief::parse(&name, &text)?;
        run_options = brief.options_with(run_options);
    }
    let no_suite = || Failure::call("the brief names no suite: write suite = \"NAME\" in it, or name one in the call");
    let suite = options.suite.clone().or(brief.suite).ok_or_else(no_suite)?;
    let pool = options.pool.clone().or(brief.pool);
    let new = new_run(&suite, pool, run_options, &options.running, context).await?;
    let run: Run = context.client.post("/api/runs", &new).await?;
    started(&run, &options.staying, context).await
}

/// What a start asks for; a folder is packed and uploaded.
pub async fn new_run(
    suite: &str,
    pool: Option<String>,
    options: RunOptions,
    running: &Running,
    context: &Context,
) -> Result<NewRun, Failure> {
    let mut new = NewRun { pool, options, unpassed_in: running.unpassed_in.clone(), ..NewRun::default() };
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
    let body = AgainBody { unpassed: options.unpassed, shard: options.shard };
    let run: Run = context.client.post(&format!("{}/again", path(&options.run)?), &body).await?;
    started(&run, &options.staying, context).await
}

async fn started(run: &Run, staying: &Staying, context: &Context) -> Result<u8, Failure> {
    let name = &run.summary.name;
    if staying.stay {
        if !context.json {
            eprintln!("Started {name}: {}/runs/{name}", context.client.url());
        }
        return stay(name, staying.refresh.refresh, context).await;
    }
    if context.json {
        print_json(run)?;
    } else {
        println!("{name}");
        eprintln!("Watch it: kesmo watch {name}");
    }
    Ok(0)
}
