//! Briefs: the settings of a run in a file, to start it by.
//!
//! ```toml
//! suite    = "boarding-gate"
//! pick     = ["gate/**"]
//! variants = ["screen=phone"]
//! retries  = 2
//!
//! [labels]
//! release = "1187"
//! ```
//!
//! The keys are those of the options of a start: `suite`, `pool`, `pick`, `drop`, `variants`, `retries`, `shards`, `repeat`,
//! `shuffle`, `first-failed`, `run-parked`, `flaky-fails`, `seed`, `priority`, `env`, and the tables `set` and `labels`.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{Priority, RunOptions};
use crate::{Error, name::nearest};

const KEYS: [&str; 17] = [
    "suite",
    "pool",
    "pick",
    "drop",
    "variants",
    "retries",
    "shards",
    "repeat",
    "shuffle",
    "first-failed",
    "run-parked",
    "flaky-fails",
    "seed",
    "priority",
    "env",
    "set",
    "labels",
];

/// The settings of a run.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Brief {
    pub suite: Option<String>,
    pub pool: Option<String>,
    pub options: RunOptions,
}

#[derive(Deserialize, Default)]
#[serde(default, rename_all = "kebab-case")]
struct Read {
    suite: Option<String>,
    pool: Option<String>,
    pick: Vec<String>,
    drop: Vec<String>,
    variants: Vec<String>,
    retries: Option<u32>,
    shards: Option<u32>,
    repeat: Option<u32>,
    shuffle: bool,
    first_failed: bool,
    run_parked: bool,
    flaky_fails: bool,
    seed: Option<u64>,
    priority: Option<Priority>,
    env: Option<String>,
    set: BTreeMap<String, toml::Value>,
    labels: BTreeMap<String, toml::Value>,
}

impl Brief {
    /// Reads a brief; `file` is its name, for messages.
    ///
    /// # Errors
    /// If it is no TOML, has a key that is not known (the nearest is named), or a value of the wrong kind.
    pub fn parse(file: &str, text: &str) -> Result<Self, Error> {
        let wrong = |why: &dyn std::fmt::Display| Error::Options(format!("{file}: {why}"));
        let table: toml::Table = text.parse().map_err(|e: toml::de::Error| wrong(&e.to_string().trim_end()))?;
        if let Some(key) = table.keys().find(|k| !KEYS.contains(&k.as_str())) {
            let near = nearest(key, KEYS, 1);
            let hint =
                near.first().map_or_else(|| format!("known are {}", KEYS.join(", ")), |n| format!("nearest: {n}"));
            return Err(wrong(&format!("unknown key {key:?}; {hint}")));
        }
        let read: Read = table.try_into().map_err(|e: toml::de::Error| wrong(&e.to_string().trim_end()))?;
        let texts = |what: &str, pairs: BTreeMap<String, toml::Value>| {
            let text = |(key, value): (String, toml::Value)| match value {
                toml::Value::String(text) => Ok((key, text)),
                toml::Value::Integer(_) | toml::Value::Float(_) | toml::Value::Boolean(_) => {
                    Ok((key, value.to_string()))
                }
                _ => Err(wrong(&format!("{key} in [{what}] must be a text or a number"))),
            };
            pairs.into_iter().map(text).collect::<Result<BTreeMap<_, _>, _>>()
        };
        let (set, labels) = (texts("set", read.set)?, texts("labels", read.labels)?);
        Ok(Self {
            suite: read.suite,
            pool: read.pool,
            options: RunOptions {
                pick: read.pick,
                drop: read.drop,
                variants: read.variants,
                retries: read.retries,
                shards: read.shards,
                set,
                env: read.env,
                labels,
                seed: read.seed,
                repeat: read.repeat,
                shuffle: read.shuffle,
                first_failed: read.first_failed,
                run_parked: read.run_parked,
                flaky_fails: read.flaky_fails,
                priority: read.priority,
                ..RunOptions::default()
            },
        })
    }

    /// The options with what a call gives besides: its lists take the place of the brief's, its pairs are added to them.
    #[must_use]
    pub fn options_with(&self, call: RunOptions) -> RunOptions {
        let of = &self.options;
        let list = |call: Vec<String>, own: &[String]| if call.is_empty() { own.to_vec() } else { call };
        let pairs = |call: BTreeMap<String, String>, own: &BTreeMap<String, String>| {
            own.iter().map(|(k, v)| (k.clone(), v.clone())).chain(call).collect()
        };
        RunOptions {
            pick: list(call.pick, &of.pick),
            drop: list(call.drop, &of.drop),
            variants: list(call.variants, &of.variants),
            retries: call.retries.or(of.retries),
            shards: call.shards.or(of.shards),
            set: pairs(call.set, &of.set),
            env: call.env.or_else(|| of.env.clone()),
            labels: pairs(call.labels, &of.labels),
            seed: call.seed.or(of.seed),
            repeat: call.repeat.or(of.repeat),
            shuffle: call.shuffle || of.shuffle,
            first_failed: call.first_failed || of.first_failed,
            run_parked: call.run_parked || of.run_parked,
            flaky_fails: call.flaky_fails || of.flaky_fails,
            priority: call.priority.or(of.priority),
            only: call.only,
            only_because: call.only_because,
            order: call.order,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHOLE: &str = r#"
suite = "boarding-gate"
pool = "night"
pick = ["gate/**"]
drop = ["tag:slow"]
variants = ["screen=phone"]
retries = 2
shards = 4
repeat = 3
shuffle = true
first-failed = false
run-parked = true
flaky-fails = true
seed = 7
priority = "high"
env = "staging"

[set]
passengers = 200

[labels]
release = "1187"
"#;

    #[test]
    fn a_brief_holds_what_a_start_takes() {
        let brief = Brief::parse("nightly.toml", WHOLE).unwrap();
        assert_eq!((brief.suite.as_deref(), brief.pool.as_deref()), (Some("boarding-gate"), Some("night")));
        let o = &brief.options;
        assert_eq!((o.retries, o.shards, o.repeat, o.seed), (Some(2), Some(4), Some(3), Some(7)));
        assert_eq!((o.set["passengers"].as_str(), o.labels["release"].as_str()), ("200", "1187"));
        assert!(o.shuffle && !o.first_failed && o.run_parked && o.flaky_fails && o.priority == Some(Priority::High));
        assert_eq!(
            (o.pick[0].as_str(), o.drop[0].as_str(), o.variants[0].as_str()),
            ("gate/**", "tag:slow", "screen=phone")
        );
    }

    #[test]
    fn what_a_call_gives_stands_over_the_brief() {
        let brief = Brief::parse("b", WHOLE).unwrap();
        let call = RunOptions {
            pick: vec!["gate/late".into()],
            retries: Some(0),
            labels: BTreeMap::from([("by".into(), "hand".into())]),
            ..RunOptions::default()
        };
        let both = brief.options_with(call);
        assert_eq!((both.pick, both.retries, both.shards), (vec!["gate/late".to_owned()], Some(0), Some(4)));
        assert_eq!(both.labels.len(), 2);
        assert_eq!(both.drop, ["tag:slow"]);
    }

    #[test]
    fn a_misspelt_key_or_value_is_told_with_the_file() {
        let said = |text: &str| Brief::parse("nightly.toml", text).unwrap_err().to_string();
        assert_eq!(said("retires = 2"), "nightly.toml: unknown key \"retires\"; nearest: retries");
        assert!(said("pick = 3").starts_with("nightly.toml: "), "{}", said("pick = 3"));
        assert!(said("retries = -1").starts_with("nightly.toml: "));
        assert!(said("suite = ").contains("nightly.toml"));
        assert!(said("[labels]\na = [1]").contains("a in [labels] must be a text or a number"));
    }
}
