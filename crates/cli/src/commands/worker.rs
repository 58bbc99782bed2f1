//! `kesmo worker`.

use std::path::{Path, PathBuf};

use kesmo_core::name::Slug;

use super::{asked_to_end, serve::log_to_stderr};
use kesmo_wire::api::{self, Drain};

use crate::{
    Context, Failure,
    arguments::{DrainOf, Worker, pairs},
};

/// A name made from the machine's and the process's number.
pub fn own_name() -> String {
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let plain: String =
        host.trim().to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let plain = plain.trim_matches('-');
    let host = if plain.is_empty() { "worker" } else { &plain[..plain.len().min(40)] };
    format!("{host}-{}", std::process::id())
}

/// Where this user's programs keep what can be made again.
pub fn cache() -> PathBuf {
    let base = std::env::var_os("XDG_CACHE_HOME").filter(|d| !d.is_empty()).map(PathBuf::from);
    let base = base.or_else(|| std::env::var_os("HOME").map(|home| Path::new(&home).join(".cache")));
    base.unwrap_or_else(std::env::temp_dir).join("kesmo")
}

/// The home of a worker of that name.
pub fn home(name: &str) -> PathBuf {
    cache().join(format!("worker-{name}"))
}

pub async fn run(options: &Worker, url: String, token: String) -> Result<(), Failure> {
    log_to_stderr(false);
    if token.is_empty() {
        let say = "a worker needs a token: make one with `kesmo token add NAME --role worker`, and give it as KESMO_TOKEN or --token";
        return Err(Failure::call(say));
    }
    let name = options.name.clone().unwrap_or_else(own_name);
    let name = Slug::parse("the worker's name", &name)?.to_string();
    let pool = Slug::parse("the pool", &options.pool)?.to_string();
    let config = kesmo_worker::Config {
        url,
        token,
        pool,
        slots: options.slots,
        offers: pairs("--offer", &options.offer)?,
        home: options.home.clone().unwrap_or_else(|| home(&name)),
        name,
        ease: options.ease,
        keep_sources: options.keep_sources,
        ..kesmo_worker::Config::default()
    };
    kesmo_worker::run(config, Box::pin(asked_to_end())).await.map_err(|e| Failure::trouble(e.to_string()))
}

/// Has a worker finish what it has and take nothing new, or take work again.
pub async fn drain(options: &DrainOf, context: &Context) -> Result<(), Failure> {
    let path = format!("/api/workers/{}/drain", options.name);
    let busy = |w: &api::Worker| w.slots.iter().filter(|s| s.run.is_some() || s.doing.is_some()).count();
    let mut worker: api::Worker = context.client.post(&path, &Drain { drain: !options.undo }).await?;
    while options.stay && busy(&worker) > 0 {
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
        let workers: Vec<api::Worker> = context.client.get("/api/workers", &[]).await?;
        match workers.into_iter().find(|w| w.name == options.name) {
            Some(now) => worker = now,
            // One that has left has nothing left to do.
            None => break,
        }
    }
    if context.json {
        return super::print_json(&worker);
    }
    let name = &options.name;
    match (options.undo, busy(&worker)) {
        (true, _) => println!("{name} takes work again."),
        (false, 0) => println!("{name} is drained: it has nothing to do, and takes nothing new."),
        (false, 1) => println!("{name} takes nothing new; 1 slot is still at work."),
        (false, n) => println!("{name} takes nothing new; {n} slots are still at work."),
    }
    if !options.undo {
        println!("Have it take work again: kesmo worker drain {name} --undo");
    }
    Ok(())
}
