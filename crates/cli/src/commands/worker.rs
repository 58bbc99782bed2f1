//! `kesmo worker`.

use std::path::{Path, PathBuf};

use kesmo_core::name::Slug;

use super::{asked_to_end, serve::log_to_stderr};
use crate::{
    Failure,
    arguments::{Worker, pairs},
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
        ..kesmo_worker::Config::default()
    };
    kesmo_worker::run(config, Box::pin(asked_to_end())).await.map_err(|e| Failure::trouble(e.to_string()))
}
