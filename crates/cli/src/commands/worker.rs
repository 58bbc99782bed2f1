//! `kesmo worker`.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

use kesmo_core::{name::Slug, suite::container::OFFER};

use super::asked_to_end;
use kesmo_wire::api::{self, Drain};
use kesmo_worker::{ContainerEngine, Home};

use crate::{
    arguments::{DrainOf, Worker, pairs},
    context::Context,
    failure::Failure,
    logging::log_to_stderr,
    service::Service,
};

/// Where this user's programs keep what can be made again.
pub fn cache() -> PathBuf {
    let base = std::env::var_os("XDG_CACHE_HOME").filter(|d| !d.is_empty()).map(PathBuf::from);
    let base = base.or_else(|| std::env::var_os("HOME").map(|home| Path::new(&home).join(".cache")));
    base.unwrap_or_else(std::env::temp_dir).join("kesmo")
}

/// The name of this machine, as part of a name.
pub fn host() -> String {
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let plain: String =
        host.trim().to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let plain = plain.trim_matches('-');
    if plain.is_empty() { "worker".to_owned() } else { plain[..plain.len().min(40)].to_owned() }
}

/// The most workers on one machine that need neither names nor homes.
const MOST_HOMES: u32 = 1000;

/// Where one works, and under which name.
pub struct Place {
    pub name: String,
    pub home: PathBuf,
    pub taken: Option<Home>,
}

/// The home folder of one that works here, and its name. Without a name or folder it is the first home that nobody uses:
/// the same after a restart, so that what was fetched is found again, and what a worker that was killed left behind is
/// cleared away.
pub fn place(kind: &str, name: Option<&str>, home: Option<&Path>) -> Result<Place, Failure> {
    let trouble = |e: kesmo_worker::Error| Failure::trouble(e.to_string());
    let (home, taken) = match (home, name) {
        (Some(home), _) => (home.to_owned(), None),
        (None, Some(name)) => (cache().join(format!("{kind}-{}", Slug::parse("the name", name)?)), None),
        (None, None) => {
            let mut homes = (1..=MOST_HOMES).map(|n| cache().join(format!("{kind}-{n}")));
            loop {
                let home = homes.next().ok_or_else(|| Failure::call("no home folder is free: give one with --home"))?;
                if let Some(taken) = kesmo_worker::take_home(&home).map_err(trouble)? {
                    break (home, Some(taken));
                }
            }
        }
    };
    let name = match name {
        Some(name) => name.to_owned(),
        None => format!("{}-{}", host(), &kesmo_worker::home_mark(&home).map_err(trouble)?[..6]),
    };
    Ok(Place { name: Slug::parse("the name", &name)?.to_string(), home, taken })
}

/// What a worker offers: what is said, and that it can run suites in images where it has an engine.
pub fn offers(
    given: &[(String, String)],
    engine: Option<&ContainerEngine>,
) -> Result<BTreeMap<String, String>, Failure> {
    let mut offers = pairs("--offer", given)?;
    if let Some(engine) = engine {
        tracing::info!(engine = engine.address(), "suites may run in images here");
        offers.entry(OFFER.0.to_owned()).or_insert_with(|| OFFER.1.to_owned());
    }
    Ok(offers)
}

pub async fn run(options: &Worker, service: Service) -> Result<(), Failure> {
    log_to_stderr(false);
    if service.token.is_empty() {
        let say = "a worker needs a token: make one with `kesmo token add NAME --role worker`, and give it as \
                   KESMO_TOKEN, with --token-file or with --token";
        return Err(Failure::call(say));
    }
    let Place { name, home, taken } = place("worker", options.name.as_deref(), options.home.as_deref())?;
    let pool = Slug::parse("the pool", &options.pool)?.to_string();
    let engine = options.engine.find().await?;
    let config = kesmo_worker::Config {
        url: service.url,
        token: service.token,
        trust: service.trust,
        pool,
        slots: options.slots,
        offers: offers(&options.offer, engine.as_ref())?,
        engine,
        home,
        taken,
        name,
        ease: options.ease,
        keep_sources: options.keep_sources,
        run_as: options.run_as.clone(),
        ..kesmo_worker::Config::default()
    };
    kesmo_worker::run(config, Box::pin(asked_to_end())).await.map_err(|e| match e {
        kesmo_worker::Error::User(_) => Failure::call(e.to_string()),
        e => Failure::trouble(e.to_string()),
    })
}

/// Has a worker finish what it has and take nothing new, or take work again.
pub async fn drain(options: &DrainOf, context: &Context) -> Result<(), Failure> {
    let path = format!("/api/workers/{}/drain", options.name);
    let busy = |w: &api::Worker| w.slots.iter().filter(|s| s.run.is_some() || s.doing.is_some()).count();
    let mut worker: api::Worker = context.client.post(&path, &Drain { drain: !options.undo }).await?;
    while options.wait && busy(&worker) > 0 {
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
