//! `kesmo join`: lends this machine to one run until its verdict.

use std::{collections::HashSet, io::Write};

use kesmo_core::{name::Slug, plan::brief::Changes, time::Span, words::Outcome};
use kesmo_wire::api::{Meet, Met, Run, Shard, WorkingMachine};
use tokio::sync::oneshot;

use super::{
    asked_to_end, reports, run_path as path,
    runs::entries,
    start::new_run,
    watch::until_verdict,
    worker::{Place, offers, place},
};
use crate::{arguments::Join, context::Context, failure::Failure, logging::log_to_stderr};

/// How many batches this machine runs at once unless told otherwise.
pub fn usual_slots() -> u16 {
    std::thread::available_parallelism().map_or(2, |n| u16::try_from(n.get()).unwrap_or(1000))
}

pub async fn run(options: &Join, context: &Context) -> Result<u8, Failure> {
    if let (None, None, Some(pool)) = (&options.run, &options.key, &options.pool) {
        return lend_to_pool(pool, options, context).await.map(|()| 0);
    }
    let wanted = reports::prepare(&options.report)?;
    let Place { name, home, taken } = place("join", options.name.as_deref(), None)?;
    let run = come_to(options, context).await?;
    if std::env::var_os("KESMO_LOG").is_some() {
        log_to_stderr(false);
    }
    let engine = options.engine.find().await?;
    let config = kesmo_worker::Config {
        url: context.client.url().to_owned(),
        token: context.client.token().to_owned(),
        trust: context.service.trust.clone(),
        pool: "main".into(),
        slots: options.slots.unwrap_or_else(usual_slots),
        offers: offers(&options.offer, engine.as_ref())?,
        engine,
        home,
        taken,
        name: name.clone(),
        only_run: Some(run.clone()),
        ..kesmo_worker::Config::default()
    };
    let (leave, left) = oneshot::channel::<()>();
    let lending = kesmo_worker::run(config, Box::pin(async move { drop(left.await) }));
    let staying = until_verdict(&run, options.refresh.refresh, context);
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
    let status =
        if options.own_status && status <= 1 { own_status(&run, &name, status, context).await? } else { status };
    Ok(reports::of_run(&run, &wanted, status, context).await)
}

/// Lends this machine to a pool until it is needed no more. What a pool started shows by its token which machine it is.
async fn lend_to_pool(pool: &str, options: &Join, context: &Context) -> Result<(), Failure> {
    if options.own_status || !options.report.is_empty() {
        return Err(Failure::call(
            "--report and --own-status are of a run: a machine that is lent to a pool works for any",
        ));
    }
    log_to_stderr(false);
    let pool = Slug::parse("the pool", pool)?.to_string();
    let machine: Option<WorkingMachine> = match context.client.get("/api/work/machine", &[]).await {
        Ok(machine) => Some(machine),
        // A worker's own token.
        Err(kesmo_client::Error::Refused { status: 404, .. }) => None,
        Err(kesmo_client::Error::Refused { status: 401, .. }) => {
            return Err(Failure::trouble(format!(
                "the pool {pool} does not wait for this machine, or no more: its token is not known at {} (a job that comes late, or a \
                 second time, is turned away so)",
                context.client.url()
            )));
        }
        Err(e) => return Err(e.into()),
    };
    let given = machine.as_ref().map(|machine| machine.name.as_str()).or(options.name.as_deref());
    let Place { home, taken, .. } = place("join", None, None)?;
    let name = match given {
        Some(name) => name.to_owned(),
        None => place("join", None, Some(&home))?.name,
    };
    let engine = options.engine.find().await?;
    say(&format!(
        "This machine is {name} of the pool {pool}, at {}, until it is needed no more.",
        context.client.url()
    ));
    let config = kesmo_worker::Config {
        url: context.client.url().to_owned(),
        token: context.client.token().to_owned(),
        trust: context.service.trust.clone(),
        pool: pool.clone(),
        slots: options.slots.unwrap_or_else(usual_slots),
        offers: offers(&options.offer, engine.as_ref())?,
        engine,
        home,
        taken,
        name,
        ..kesmo_worker::Config::default()
    };
    let ended = kesmo_worker::run(config, Box::pin(asked_to_end())).await;
    ended.map_err(|e| Failure::trouble(format!("this machine could not be lent to the pool {pool}: {e}")))?;
    say(&format!("The pool {pool} needs this machine no more."));
    Ok(())
}

/// Says a line in one piece: whoever keeps what a container prints may tear others apart.
fn say(line: &str) {
    if let Err(e) = std::io::stderr().write_all(format!("{line}\n").as_bytes()) {
        tracing::debug!("nobody reads what is said: {e}");
    }
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
    let met: Met =
        context.client.post("/api/meet", &Meet { key: key.clone(), start, running: options.only_running }).await?;
    let name = met.run.summary.name;
    if !context.json {
        let url = format!("{}/runs/{name}", context.client.url());
        match (met.started, met.run.summary.verdict, met.run.summary.finished_at) {
            (true, ..) => eprintln!("The key {key} started {name}: {url}"),
            (false, Some(verdict), Some(at)) => {
                let ago = Span((chrono::Utc::now() - at).num_microseconds().unwrap_or(0).max(0) as u64);
                eprintln!(
                    "The key {key} is that of {name}, which was over {ago} ago: {verdict}. Nothing is run here: {url}"
                );
                eprintln!("A key is for the jobs of one build; --running takes only a run that is not over.");
            }
            (false, ..) => eprintln!("The key {key} joins {name}: {url}"),
        }
        if !met.same_files {
            eprintln!(
                "Its files are those of the job that started it; the files here are other ones and are not used."
            );
        }
    }
    Ok(name)
}

/// 1 if something failed that ran here, else 0; `status` is that of the whole run.
async fn own_status(run: &str, worker: &str, status: u8, context: &Context) -> Result<u8, Failure> {
    let shards: Vec<Shard> = context.client.get(&format!("{}/shards", path(run)?), &[]).await?;
    let own: Vec<&(String, String)> =
        shards.iter().filter(|s| s.worker == worker).flat_map(|s| &s.batches).flat_map(|b| &b.entries).collect();
    let own: HashSet<(&str, &str)> = own.iter().map(|o| (o.0.as_str(), o.1.as_str())).collect();
    let (mut here, mut seen) = (0, 0);
    // However many failed: a page after the other.
    loop {
        let query = [
            ("state", Outcome::Failed.word().to_owned()),
            ("order", "listed".to_owned()),
            ("limit", "1000".to_owned()),
            ("skip", seen.to_string()),
        ];
        let page = entries(context, run, &query).await?;
        here += page.entries.iter().filter(|e| own.contains(&(e.test.as_str(), e.variant.as_str()))).count();
        seen += page.entries.len();
        if page.entries.is_empty() || seen >= page.total as usize {
            break;
        }
    }
    // What failed a run without a failing test failed it for everyone.
    if seen == 0 && status == 1 {
        if !context.json {
            eprintln!("No test failed, but the run did, for another reason.");
        }
        return Ok(1);
    }
    if !context.json {
        eprintln!("{here} of the tests that ran here failed; {} ran here.", own.len());
    }
    Ok(u8::from(here > 0))
}
