//! `kesmo join`: lends this machine to one run until its verdict.

use kesmo_core::{name::Slug, plan::brief::Changes, words::Outcome};
use kesmo_wire::api::{Meet, Met, Run, Shard};
use tokio::sync::oneshot;

use super::{
    runs::{entries, path},
    serve::log_to_stderr,
    start::new_run,
    watch::stay,
    worker::{home, own_name},
};
use crate::{
    Context, Failure,
    arguments::{Join, pairs},
};

/// How many batches this machine runs at once unless told otherwise.
pub fn usual_slots() -> u16 {
    std::thread::available_parallelism().map_or(2, |n| u16::try_from(n.get()).unwrap_or(1000))
}

pub async fn run(options: &Join, context: &Context) -> Result<u8, Failure> {
    let name = options.name.clone().unwrap_or_else(own_name);
    let name = Slug::parse("the name", &name)?.to_string();
    let run = come_to(options, context).await?;
    if std::env::var_os("KESMO_LOG").is_some() {
        log_to_stderr(false);
    }
    let config = kesmo_worker::Config {
        url: context.client.url().to_owned(),
        token: context.client.token().to_owned(),
        pool: "standing".into(),
        slots: options.slots.unwrap_or_else(usual_slots),
        offers: pairs("--offer", &options.offer)?,
        home: home(&name),
        name: name.clone(),
        only_run: Some(run.clone()),
        ..kesmo_worker::Config::default()
    };
    let (leave, left) = oneshot::channel::<()>();
    let lending = kesmo_worker::run(config, Box::pin(async move { drop(left.await) }));
    let staying = stay(&run, options.refresh.refresh, context);
    tokio::pin!(lending);
    tokio::pin!(staying);
    let status = tokio::select! {
        status = &mut staying => status,
        ended = &mut lending => {
            return Err(match ended {
                Err(e) => Failure::trouble(format!("this machine could not be lent to {run}: {e}")),
                Ok(()) => Failure::trouble("this machine left the run before its verdict"),
            });
        }
    };
    drop(leave);
    if let Err(e) = lending.await {
        eprintln!("kesmo: this machine did not leave the run in good order: {e}");
    }
    let status = status?;
    if options.own_status && status <= 1 { own_status(&run, &name, context).await } else { Ok(status) }
}

/// The run to join; with a key it is started by the first who comes.
async fn come_to(options: &Join, context: &Context) -> Result<String, Failure> {
    let (Some(key), Some(suite)) = (&options.key, &options.suite) else {
        let run = options.run.as_deref().unwrap_or_default();
        let found: Run = context.client.get(&path(run)?, &[]).await?;
        return Ok(found.summary.name);
    };
    let run_options = options.running.options(&options.choosing)?;
    let changes = Changes { pool: options.pool.clone(), options: run_options, ..Changes::default() };
    let start = new_run(suite, changes, &options.running, context).await?;
    let met: Met = context.client.post("/api/meet", &Meet { key: key.clone(), start }).await?;
    let name = met.run.summary.name;
    if !context.json {
        let how = if met.started { "started" } else { "joins" };
        eprintln!("The key {key} {how} {name}: {}/runs/{name}", context.client.url());
        if !met.same_files {
            eprintln!(
                "Its files are those of the job that started it; the files here are other ones and are not used."
            );
        }
    }
    Ok(name)
}

/// 1 if something failed that ran here, else 0.
async fn own_status(run: &str, worker: &str, context: &Context) -> Result<u8, Failure> {
    let shards: Vec<Shard> = context.client.get(&format!("{}/shards", path(run)?), &[]).await?;
    let own: Vec<&(String, String)> =
        shards.iter().filter(|s| s.worker == worker).flat_map(|s| &s.batches).flat_map(|b| &b.entries).collect();
    let failed =
        entries(context, run, &[("state", Outcome::Failed.word().to_owned()), ("limit", "1000".to_owned())]).await?;
    let here = failed.entries.iter().filter(|e| own.iter().any(|o| o.0 == e.test && o.1 == e.variant)).count();
    if !context.json {
        eprintln!("{here} of the tests that ran here failed; {} ran here.", own.len());
    }
    Ok(u8::from(here > 0))
}
