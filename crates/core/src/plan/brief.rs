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
//! The keys are those of the options of a start: `suite`, `pool`, `pick`, `drop`, `variants`, `retries`, `shards`, `repeat`, `each-slot`,
//! `shuffle`, `recent-failures-first`, `run-parked`, `flaky-fails`, `seed`, `priority`, `env`, `image`, `reach`, `within`, `budget`, `branch`, `commit`, and the tables `set`
//! and `labels`; and what only a saved brief has: `then`, `then-if` and `replace-older`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Priority, RunOptions};
use crate::{
    error::Error,
    name::{Slug, nearest},
    source::{check_branch, check_commit},
    time::Span,
    words::Verdict,
};

const KEYS: [&str; 27] = [
    "suite",
    "pool",
    "pick",
    "drop",
    "variants",
    "retries",
    "shards",
    "repeat",
    "each-slot",
    "shuffle",
    "recent-failures-first",
    "run-parked",
    "flaky-fails",
    "seed",
    "priority",
    "env",
    "image",
    "reach",
    "within",
    "budget",
    "branch",
    "commit",
    "then",
    "then-if",
    "replace-older",
    "set",
    "labels",
];

/// The most briefs that follow each other.
pub const LONGEST_CHAIN: usize = 20;

/// After which verdicts the next brief of a chain is started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum ThenIf {
    #[default]
    Passed,
    Failed,
    /// After every verdict but `stopped`: what a person or a rule has ended goes no further.
    Any,
}

impl ThenIf {
    /// Every word.
    pub const WORDS: &'static [&'static str] = &["passed", "failed", "any"];

    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Passed => "passed",
            Self::Failed => "failed",
            Self::Any => "any",
        }
    }

    /// The one of that word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        [Self::Passed, Self::Failed, Self::Any].into_iter().find(|t| t.word() == word)
    }

    /// Whether the next brief is started after that verdict.
    #[must_use]
    pub const fn follows(self, verdict: Verdict) -> bool {
        match self {
            Self::Passed => matches!(verdict, Verdict::Passed),
            Self::Failed => matches!(verdict, Verdict::Failed),
            Self::Any => !matches!(verdict, Verdict::Stopped),
        }
    }
}

/// The settings of a run.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Brief {
    pub suite: Option<String>,
    pub pool: Option<String>,
    /// The branch or commit to run, of a suite from version control.
    pub branch: Option<String>,
    pub commit: Option<String>,
    /// The brief that is started after a run of this one.
    pub then: Option<String>,
    pub then_if: ThenIf,
    /// A run of a newer commit stops one of the same branch that is not over.
    pub replace_older: bool,
    pub options: RunOptions,
}

/// What a start gives besides the brief that it names.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Changes {
    pub pool: Option<String>,
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub options: RunOptions,
}

/// A commit that is given stands for itself; a branch that is given makes an earlier commit void.
fn ref_with(
    own: (&Option<String>, &Option<String>),
    call: (Option<String>, Option<String>),
) -> (Option<String>, Option<String>) {
    match call {
        (None, None) => (own.0.clone(), own.1.clone()),
        (branch, None) => (branch, None),
        (branch, commit) => (branch.or_else(|| own.0.clone()), commit),
    }
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
    #[serde(default)]
    each_slot: bool,
    shuffle: bool,
    recent_failures_first: bool,
    run_parked: bool,
    flaky_fails: bool,
    seed: Option<u64>,
    priority: Option<Priority>,
    env: Option<String>,
    image: Option<String>,
    reach: Vec<String>,
    within: Option<String>,
    budget: Option<String>,
    branch: Option<String>,
    commit: Option<String>,
    then: Option<String>,
    then_if: ThenIf,
    replace_older: bool,
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
        let span = |key: &str, text: Option<String>| {
            text.map(|text| Span::parse(&text).map_err(|e| wrong(&format!("{key}: {e}")))).transpose()
        };
        let (within, budget) = (span("within", read.within)?, span("budget", read.budget)?);
        Ok(Self {
            suite: read.suite,
            pool: read.pool,
            branch: read.branch,
            commit: read.commit,
            then: read.then,
            then_if: read.then_if,
            replace_older: read.replace_older,
            options: RunOptions {
                pick: read.pick,
                drop: read.drop,
                variants: read.variants,
                retries: read.retries,
                shards: read.shards,
                set,
                env: read.env,
                image: read.image,
                reach: read.reach,
                labels,
                seed: read.seed,
                repeat: read.repeat,
                each_slot: read.each_slot,
                shuffle: read.shuffle,
                recent_failures_first: read.recent_failures_first,
                run_parked: read.run_parked,
                flaky_fails: read.flaky_fails,
                priority: read.priority,
                within,
                budget,
                ..RunOptions::default()
            },
        })
    }

    /// The brief as a file, as [`Brief::parse`] reads it. What it leaves to others is left out.
    #[must_use]
    pub fn to_toml(&self) -> String {
        let o = &self.options;
        let mut lines: Vec<String> = Vec::new();
        let mut put = |key: &str, value: Option<toml::Value>| {
            if let Some(value) = value {
                lines.push(format!("{key} = {value}"));
            }
        };
        let text = |t: &Option<String>| t.clone().map(toml::Value::String);
        let list = |l: &[String]| {
            (!l.is_empty()).then(|| toml::Value::Array(l.iter().cloned().map(toml::Value::String).collect()))
        };
        let number = |n: Option<u32>| n.map(|n| toml::Value::Integer(n.into()));
        let truth = |t: bool| t.then_some(toml::Value::Boolean(true));
        put("suite", text(&self.suite));
        put("branch", text(&self.branch));
        put("commit", text(&self.commit));
        put("pool", text(&self.pool));
        put("pick", list(&o.pick));
        put("drop", list(&o.drop));
        put("variants", list(&o.variants));
        put("retries", number(o.retries));
        put("shards", number(o.shards));
        put("repeat", number(o.repeat));
        put("each-slot", truth(o.each_slot));
        put("shuffle", truth(o.shuffle));
        put("recent-failures-first", truth(o.recent_failures_first));
        put("run-parked", truth(o.run_parked));
        put("flaky-fails", truth(o.flaky_fails));
        put("seed", o.seed.and_then(|s| i64::try_from(s).ok()).map(toml::Value::Integer));
        put("priority", o.priority.map(|p| toml::Value::String(p.word().into())));
        put("env", text(&o.env));
        put("image", text(&o.image));
        put("reach", list(&o.reach));
        put("within", o.within.map(|span| toml::Value::String(span.written())));
        put("budget", o.budget.map(|span| toml::Value::String(span.written())));
        put("replace-older", truth(self.replace_older));
        put("then", text(&self.then));
        let then_if = self.then.is_some() && self.then_if != ThenIf::default();
        put("then-if", then_if.then(|| toml::Value::String(self.then_if.word().into())));
        for (name, pairs) in [("set", &o.set), ("labels", &o.labels)] {
            if !pairs.is_empty() {
                lines.push(format!("\n[{name}]"));
                let pair = |(k, v): (&String, &String)| {
                    let key = toml::Value::String(k.clone());
                    let bare = k.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_');
                    let key = if bare { k.clone() } else { key.to_string() };
                    format!("{key} = {}", toml::Value::String(v.clone()))
                };
                lines.extend(pairs.iter().map(pair));
            }
        }
        lines.join("\n") + "\n"
    }

    /// Checks what can be checked without its suite.
    ///
    /// # Errors
    /// If a name, branch or commit cannot be used.
    pub fn check(&self) -> Result<(), Error> {
        self.suite.as_deref().map_or(Ok(()), |s| Slug::parse("the suite", s).map(drop))?;
        self.pool.as_deref().map_or(Ok(()), |p| Slug::parse("the pool", p).map(drop))?;
        self.then.as_deref().map_or(Ok(()), |t| Slug::parse("the brief after --then", t).map(drop))?;
        self.branch.as_deref().map_or(Ok(()), check_branch)?;
        self.commit.as_deref().map_or(Ok(()), check_commit)
    }

    /// The brief with what a call gives over it.
    #[must_use]
    pub fn with(&self, call: Changes) -> Self {
        let (branch, commit) = ref_with((&self.branch, &self.commit), (call.branch, call.commit));
        let pool = call.pool.or_else(|| self.pool.clone());
        Self { pool, branch, commit, options: self.options_with(call.options), ..self.clone() }
    }

    /// What another brief says otherwise, in words: `retries = 0 (the brief says 2)`.
    #[must_use]
    pub fn changed_in(&self, other: &Self) -> Vec<String> {
        let (was, is) = (self.lines(), other.lines());
        let said = |key: &&String| {
            let none = || "nothing".to_owned();
            let (old, new) = (was.get(*key).cloned(), is.get(*key).cloned());
            format!("{key} = {} (the brief says {})", new.unwrap_or_else(none), old.unwrap_or_else(none))
        };
        let mut keys: Vec<&String> = was.keys().chain(is.keys()).collect();
        keys.sort();
        keys.dedup();
        keys.iter().filter(|k| was.get(**k) != is.get(**k)).map(said).collect()
    }

    /// Every setting that is given, by its key, as text.
    fn lines(&self) -> BTreeMap<String, String> {
        let mut table = "";
        let mut all = BTreeMap::new();
        let text = self.to_toml();
        for line in text.lines() {
            if let Some(name) = line.strip_prefix('[').and_then(|l| l.strip_suffix(']')) {
                table = name;
            } else if let Some((key, value)) = line.split_once(" = ") {
                let key = if table.is_empty() { key.to_owned() } else { format!("{table}.{key}") };
                all.insert(key, value.trim_matches('"').to_owned());
            }
        }
        all
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
            image: call.image.or_else(|| of.image.clone()),
            images: call.images,
            reach: list(call.reach, &of.reach),
            labels: pairs(call.labels, &of.labels),
            seed: call.seed.or(of.seed),
            repeat: call.repeat.or(of.repeat),
            each_slot: call.each_slot || of.each_slot,
            shuffle: call.shuffle || of.shuffle,
            recent_failures_first: call.recent_failures_first || of.recent_failures_first,
            run_parked: call.run_parked || of.run_parked,
            flaky_fails: call.flaky_fails || of.flaky_fails,
            priority: call.priority.or(of.priority),
            within: call.within.or(of.within),
            budget: call.budget.or(of.budget),
            only: call.only,
            cases: call.cases,
            only_because: call.only_because,
            order: call.order,
        }
    }
}

/// What kind of thing started a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum OriginKind {
    /// A person or a program asked for it.
    #[default]
    Call,
    Schedule,
    Webhook,
    /// A branch had a new commit.
    Poll,
    /// The run before it in a chain.
    Chain,
    /// Its tests ran elsewhere, and their results were brought.
    Imported,
}

/// What started a run, and from what. Kept with the run.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Origin {
    pub kind: OriginKind,
    /// The schedule, webhook or polled branches, or the run before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub brief: Option<String>,
    /// What is otherwise than the brief says, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub changed: Vec<String>,
    /// The planned moment, in microseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub planned_us: Option<i64>,
    /// The delivery that started it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delivery: Option<i64>,
    /// It stops older runs of its brief and branch.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub replace_older: bool,
}

impl Origin {
    /// What started it, in a few words: `schedule nightly`, `webhook push`.
    #[must_use]
    pub fn said(&self) -> String {
        let name = self.name.as_deref().unwrap_or("");
        match self.kind {
            OriginKind::Call => "a call".into(),
            OriginKind::Schedule => format!("schedule {name}"),
            OriginKind::Webhook => format!("webhook {name}"),
            OriginKind::Poll => format!("polled branch {name}"),
            OriginKind::Chain => format!("after {name}"),
            OriginKind::Imported => "results that ran elsewhere".into(),
        }
    }
}

/// What is to follow a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Follow {
    pub then: String,
    pub then_if: ThenIf,
}

impl Brief {
    /// What is to follow a run of this brief.
    #[must_use]
    pub fn follow(&self) -> Option<Follow> {
        self.then.clone().map(|then| Follow { then, then_if: self.then_if })
    }
}

/// The briefs that follow a brief, in order. `then` tells which brief follows one.
///
/// # Errors
/// If they come back to one that was there already, or are too many.
pub fn chain(first: &str, then: impl Fn(&str) -> Option<String>) -> Result<Vec<String>, Error> {
    let mut all = vec![first.to_owned()];
    while let Some(next) = then(all[all.len() - 1].as_str()) {
        let again = all.contains(&next);
        all.push(next);
        if again {
            return Err(Error::Options(format!("the briefs would follow each other for ever: {}", all.join(" → "))));
        }
        if all.len() > LONGEST_CHAIN {
            return Err(Error::Options(format!("more than {LONGEST_CHAIN} briefs would follow each other")));
        }
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHOLE: &str = r#"
suite = "boarding-gate"
branch = "main"
then = "smoke"
then-if = "any"
replace-older = true
pool = "night"
pick = ["gate/**"]
drop = ["tag:slow"]
variants = ["screen=phone"]
retries = 2
shards = 4
repeat = 3
shuffle = true
recent-failures-first = false
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
        assert!(
            o.shuffle
                && !o.recent_failures_first
                && o.run_parked
                && o.flaky_fails
                && o.priority == Some(Priority::High)
        );
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
    fn a_brief_is_read_as_it_is_written() {
        let brief = Brief::parse("nightly.toml", WHOLE).unwrap();
        assert_eq!(Brief::parse("again", &brief.to_toml()).unwrap(), brief);
        let odd = Brief {
            options: RunOptions {
                labels: BTreeMap::from([("a key \"x\"".into(), "line\nbreak = 'é'".into())]),
                ..RunOptions::default()
            },
            ..Brief::default()
        };
        assert_eq!(Brief::parse("odd", &odd.to_toml()).unwrap(), odd);
        assert_eq!(Brief::default().to_toml(), "\n");
    }

    #[test]
    fn what_a_start_changes_is_said() {
        let brief = Brief::parse("b", WHOLE).unwrap();
        let call = Changes {
            branch: Some("release/1187".into()),
            options: RunOptions {
                retries: Some(0),
                labels: BTreeMap::from([("by".into(), "hand".into())]),
                ..RunOptions::default()
            },
            ..Changes::default()
        };
        let run = brief.with(call.clone());
        assert_eq!(
            brief.changed_in(&run),
            [
                "branch = release/1187 (the brief says main)",
                "labels.by = hand (the brief says nothing)",
                "retries = 0 (the brief says 2)"
            ]
        );
        assert!(brief.changed_in(&brief.with(Changes::default())).is_empty());
        let twice = Brief { commit: Some("c".into()), ..Brief::default() }.with(call);
        assert_eq!((twice.branch.as_deref(), twice.commit), (Some("release/1187"), None));
    }

    #[test]
    fn chains_end_and_loops_are_refused() {
        let next = |name: &str| match name {
            "a" => Some("b".to_owned()),
            "b" => Some("c".to_owned()),
            "x" => Some("y".to_owned()),
            "y" => Some("x".to_owned()),
            "self" => Some("self".to_owned()),
            _ => None,
        };
        assert_eq!(chain("a", next).unwrap(), ["a", "b", "c"]);
        assert!(chain("x", next).unwrap_err().to_string().ends_with("x → y → x"));
        assert!(chain("self", next).unwrap_err().to_string().ends_with("self → self"));
        assert!(chain("0", |n| Some(format!("{n}0"))).unwrap_err().to_string().contains("more than 20"));
        assert!(ThenIf::Passed.follows(Verdict::Passed) && !ThenIf::Passed.follows(Verdict::Void));
        assert!(ThenIf::Any.follows(Verdict::Void) && !ThenIf::Any.follows(Verdict::Stopped));
        assert!(ThenIf::Failed.follows(Verdict::Failed) && !ThenIf::Failed.follows(Verdict::Passed));
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
