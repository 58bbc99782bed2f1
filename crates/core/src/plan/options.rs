//! What a start asks for, and whether that can be.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::{
    error::Error,
    name::Slug,
    suite::{
        Choice, SuiteFile,
        container::{Image, check_option},
        file::MOST_RETRIES,
    },
    time::Span,
};

/// Retries where neither the suite file nor the start says how many.
pub const DEFAULT_RETRIES: u32 = 0;

/// The most times that `--repeat` may ask for.
pub const MOST_REPEATS: u32 = 10_000;

/// The most slots that `--shards` may ask for.
pub const MOST_SHARDS: u32 = 100_000;

/// How much a run counts where several share a pool's slots.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Priority {
    Low,
    #[default]
    Normal,
    High,
}

impl Priority {
    pub const ALL: [Self; 3] = [Self::Low, Self::Normal, Self::High];

    /// The priority's word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Normal => "normal",
            Self::High => "high",
        }
    }

    /// The priority of a word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|p| p.word() == word)
    }

    /// Its share of the slots beside those of others: each step counts four times the one below.
    #[must_use]
    pub const fn weight(self) -> u32 {
        match self {
            Self::Low => 1,
            Self::Normal => 4,
            Self::High => 16,
        }
    }
}

/// What a start may ask for. Kept with the run, so that it can be built again and repeated.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct RunOptions {
    /// Patterns of tests to run; none means all.
    pub pick: Vec<String>,
    /// Patterns of tests to leave away; a drop wins over a pick.
    pub drop: Vec<String>,
    /// `FACET=VALUE`, any of the values of a facet.
    pub variants: Vec<String>,
    /// Retries of an entry after its first attempt.
    pub retries: Option<u32>,
    /// The most slots the run may use at once.
    pub shards: Option<u32>,
    /// Changes of the suite's settings.
    pub set: BTreeMap<String, String>,
    /// Which `[env-for.NAME]` of the suite file to use.
    pub env: Option<String>,
    /// The image that processes run in, instead of the suite's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// Images that are settled beforehand: those of a run that this one is to be like.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub images: Vec<Image>,
    /// Addresses in private networks that its processes talk to, besides those that the suite file names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub reach: Vec<String>,
    /// Labels of the run.
    pub labels: BTreeMap<String, String>,
    /// The seed handed to the suite's processes.
    pub seed: Option<u64>,
    /// Only these entries: names and variants (as written, empty for a suite without facets).
    pub only: Option<Vec<(String, String)>>,
    /// Only these cases of some files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cases: Vec<CasesOf>,
    /// Where `only` comes from, in words: `not passed in fares/7`.
    pub only_because: Option<String>,
    /// Every test so many times.
    pub repeat: Option<u32>,
    /// Every test on each of `shards` slots at once, as one load: all begin together. Without `shards`, on as many as are linked.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub each_slot: bool,
    /// In an order drawn from the seed, instead of the longest first.
    pub shuffle: bool,
    /// What failed recently goes first, as far as that costs little time.
    pub recent_failures_first: bool,
    /// Parked tests run too, without counting.
    pub run_parked: bool,
    /// A flaky entry makes the run fail.
    pub flaky_fails: bool,
    /// How much the run counts where several share the slots; none means normal.
    pub priority: Option<Priority>,
    /// In a pool that starts machines: it is to be over within this, so as many are started as that takes; in microseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<u64>))]
    pub within: Option<Span>,
    /// In a pool that starts machines: slot-time that it may cost, in microseconds; so many fewer are started.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<u64>))]
    pub budget: Option<Span>,
    /// Exactly these batches, one after the other, without retries: lists of names and variants.
    pub order: Option<Vec<Vec<(String, String)>>>,
}

/// Some cases of a file in a variant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CasesOf {
    pub file: String,
    /// As written; empty for a suite without facets.
    pub variant: String,
    /// Their titles, without the file's name.
    pub titles: Vec<String>,
}

/// Which runs of a suite are alike: those that chose the same tests in the same environment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Alike {
    /// The same for runs that are alike, and only for those; 16 hexadecimal digits.
    pub key: String,
    /// What was chosen, in words: `all tests`, `pick smoke/**`.
    pub said: String,
}

impl RunOptions {
    /// On how many slots at once each test runs, where it is to run on several.
    #[must_use]
    pub fn senders(&self) -> Option<u32> {
        self.each_slot.then(|| self.shards.unwrap_or(1))
    }

    /// How often a test is an entry, where that is asked for.
    #[must_use]
    pub fn times(&self) -> Option<u32> {
        self.senders().or(self.repeat)
    }

    /// Whether all tests were chosen, of the variants that were.
    #[must_use]
    pub fn has_all_tests(&self) -> bool {
        let some = !(self.pick.is_empty() && self.drop.is_empty() && self.cases.is_empty());
        !some && self.only.is_none() && self.order.is_none()
    }

    /// Whether all tests were chosen, of all variants.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.has_all_tests() && self.variants.is_empty()
    }

    /// What makes a run comparable with others of its suite: how many times, how much at once and with which settings it ran
    /// does not matter, but which tests.
    #[must_use]
    pub fn alike(&self) -> Alike {
        let list = |word: &str, patterns: &[String]| {
            let mut all = patterns.to_vec();
            all.sort();
            all.dedup();
            (!all.is_empty()).then(|| format!("{word} {}", all.join(" ")))
        };
        let mut said: Vec<String> = Vec::new();
        said.extend(list("pick", &self.pick));
        said.extend(list("drop", &self.drop));
        said.extend(list("variant", &self.variants));
        let by_name = self.only.is_some() || self.order.is_some() || !self.cases.is_empty();
        if by_name {
            said.push(self.only_because.clone().unwrap_or_else(|| "chosen by name".to_owned()));
        }
        if said.is_empty() {
            said.push("all tests".to_owned());
        }
        said.extend(self.env.as_ref().map(|env| format!("in {env}")));
        let said = said.join(", ");
        let mut hashed = said.clone();
        if by_name {
            let mut only: Vec<&(String, String)> =
                self.only.iter().flatten().chain(self.order.iter().flatten().flatten()).collect();
            only.sort();
            let cases: Vec<_> = self.cases.iter().map(|c| (&c.file, &c.variant, &c.titles)).collect();
            hashed += &format!("{only:?}{cases:?}");
        }
        Alike { key: format!("{:016x}", crate::name::lasting_hash(&hashed)), said }
    }

    /// The names of everything that a run's processes talk to in private networks.
    ///
    /// # Errors
    /// If a name is none, or the image's network is not the machine's.
    pub fn reached(&self, suite: &SuiteFile) -> Result<BTreeSet<String>, Error> {
        let mut names: BTreeSet<String> = suite.reach.iter().map(ToString::to_string).collect();
        for name in &self.reach {
            names.insert(Slug::parse("what is reached", name)?.to_string());
        }
        let apart = suite.container.as_ref().filter(|container| container.network != "host");
        if let (Some(container), Some(name)) = (apart, names.first()) {
            return Err(Error::Options(format!(
                "--reach {name} needs [container] network = \"host\", and it is {:?}",
                container.network
            )));
        }
        Ok(names)
    }

    /// Checks what can be checked without a list of tests.
    ///
    /// # Errors
    /// On a pattern that cannot be read, an unknown variant, environment or setting, or a number out of bounds.
    pub fn check(&self, suite: &SuiteFile) -> Result<(), Error> {
        Choice::parse(&self.pick, &self.drop)?;
        suite.facets.chosen(&self.variants)?;
        suite.environment(self.env.as_deref())?;
        suite.settings_with(&self.set)?;
        self.image.as_deref().map_or(Ok(()), check_option)?;
        self.reached(suite)?;
        self.images.iter().try_for_each(|image| image.check().map_err(Error::Options))?;
        if let Some(n) = self.retries.filter(|n| *n > MOST_RETRIES) {
            return Err(Error::Options(format!("--retries {n} is too many; the most is {MOST_RETRIES}")));
        }
        if !self.cases.is_empty() && suite.tests.rerun.is_none() {
            return Err(Error::Options(
                "some cases of a file were asked for, and the suite cannot run cases alone: give \"rerun\" in [tests]"
                    .into(),
            ));
        }
        if self.shards == Some(0) {
            return Err(Error::Options("--shards 0 would run nothing; give 1 or more, or leave it out".into()));
        }
        if let Some(n) = self.shards.filter(|n| *n > MOST_SHARDS) {
            return Err(Error::Options(format!("--shards {n} is more than anybody has; the most is {MOST_SHARDS}")));
        }
        match self.repeat {
            Some(0) => {
                return Err(Error::Options("--repeat 0 would run nothing; give 1 or more, or leave it out".into()));
            }
            Some(n) if n > MOST_REPEATS => {
                return Err(Error::Options(format!("--repeat {n} is too often; the most is {MOST_REPEATS}")));
            }
            _ => {}
        }
        if self.each_slot {
            self.check_senders()?;
        }
        if self.shuffle && self.recent_failures_first {
            return Err(Error::Options(
                "--shuffle and --recent-failures-first both say in which order tests run; keep one".into(),
            ));
        }
        if self.order.as_ref().is_some_and(|order| order.iter().all(Vec::is_empty)) {
            return Err(Error::Options("the order of batches to repeat is empty".into()));
        }
        self.labels.iter().try_for_each(|(key, value)| check_label(key, value))
    }
}

impl RunOptions {
    /// What does not go together with senders of one load.
    fn check_senders(&self) -> Result<(), Error> {
        let said = |why: String| Err(Error::Options(why));
        if let Some(n) = self.shards.filter(|n| *n > MOST_REPEATS) {
            return said(format!("--each-slot on {n} slots is too many; the most is {MOST_REPEATS}"));
        }
        if self.retries.is_some_and(|n| n > 0) {
            return said("--each-slot makes one load of a test on several slots, and a part of it is not retried: leave --retries out".into());
        }
        for (on, option, why) in [
            (self.repeat.is_some(), "--repeat", "every test runs once on each slot"),
            (self.shuffle, "--shuffle", "tests run one after the other as they are listed"),
            (self.recent_failures_first, "--recent-failures-first", "tests run one after the other as they are listed"),
            (self.order.is_some(), "an order", "tests run one after the other as they are listed"),
        ] {
            if on {
                return said(format!("--each-slot does not go with {option}: with it, {why}"));
            }
        }
        Ok(())
    }
}

/// Checks a label.
///
/// # Errors
/// If its key or value cannot be used.
pub fn check_label(key: &str, value: &str) -> Result<(), Error> {
    if key.is_empty() || key.len() > 60 || value.len() > 200 || key.contains(['=', ',']) {
        return Err(Error::Options(format!("the label {key:?} is not usable: key=value, no '=' or ',' in the key")));
    }
    Ok(())
}

/// What was chosen, in words.
#[must_use]
pub fn choice_said(options: &RunOptions, chosen: usize, listed: usize, parked: usize, files: bool) -> String {
    let (one, all) = if files { ("file", "files") } else { ("test", "tests") };
    let times = options.times().filter(|n| *n > 1);
    let tests = times.map_or(chosen, |n| chosen / n as usize);
    let mut said = if options.order.is_some() {
        format!("{chosen} {all} in the order of an earlier run")
    } else if tests == listed && listed == 1 {
        format!("its only {one}")
    } else if tests == listed {
        format!("all {listed} {all}")
    } else {
        format!("{tests} of {listed} {all}")
    };
    let mut how: Vec<String> = Vec::new();
    for (word, patterns) in [("pick", &options.pick), ("drop", &options.drop), ("variant", &options.variants)] {
        if !patterns.is_empty() {
            how.push(format!("{word} {}", patterns.join(" ")));
        }
    }
    how.extend(options.only_because.clone());
    how.extend(
        times.map(|n| if options.each_slot { format!("each on {n} slots at once") } else { format!("{n} times each") }),
    );
    if options.shuffle {
        how.push(options.seed.map_or_else(|| "shuffled".into(), |seed| format!("shuffled with seed {seed}")));
    }
    if options.recent_failures_first {
        how.push("recently failed first".into());
    }
    if !how.is_empty() {
        said += &format!(": {}", how.join(", "));
    }
    if parked > 0 {
        said += &format!("; {parked} parked");
        said += if options.run_parked { ", run without counting" } else { "" };
    }
    said
}
