//! From lists of tests to the entries of a run: choosing, rules, parks, expected durations; the sizes of batches; and
//! fixed shares, portions.

pub mod batch;
pub mod brief;
mod covering;
pub mod cutting;
mod only;
pub mod portion;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use serde::{Deserialize, Serialize};

pub use covering::CoverSets;
pub use only::{At, Only};

use crate::{
    error::Error,
    name::{Slug, TestName, nearest},
    record::{Record, median},
    suite::{
        Choice, ListedTest, Pattern, SuiteFile, Variant,
        container::{Image, check_option},
        file::{GroupBy, MOST_RETRIES, Rule},
    },
    time::Span,
};

/// Retries where neither the suite file nor the start says how many.
pub const DEFAULT_RETRIES: u32 = 0;

/// The most times that `--repeat` may ask for, and the most entries of a run.
pub const MOST_REPEATS: u32 = 10_000;
pub const MOST_ENTRIES: usize = 1_000_000;

/// The most slots that `--shards` may ask for.
pub const MOST_SHARDS: u32 = 100_000;

/// What failed recently may go first as long as it is at most this share of the work, in percent: so much later, at the
/// most, does everything else end.
pub const FIRST_FAILED_SHARE: u64 = 5;

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

/// Who decided how often an entry is retried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum RetriesFrom {
    /// The service's default.
    Default,
    /// `[retry]` of the suite file.
    SuiteFile,
    /// The start's `--retries`.
    Start,
    /// The `[[rule]]` on that line of the suite file.
    Rule(u32),
}

impl RetriesFrom {
    /// Who decided, in words that follow "2 retries, from".
    #[must_use]
    pub fn said(self) -> String {
        match self {
            Self::Default => "the service's default".into(),
            Self::SuiteFile => "[retry] in kesmo.toml".into(),
            Self::Start => "--retries of the start".into(),
            Self::Rule(line) => format!("kesmo.toml line {line}"),
        }
    }
}

/// What history says of a test in a variant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Known {
    /// What it usually takes, and by how much that varies; none of a test that never passed: what it took says nothing of that.
    pub takes: Option<(Span, Span)>,
    /// How many runs ago it failed or was flaky, if that was recently.
    pub trouble: Option<u32>,
}

impl Known {
    /// What a record says; none if that is nothing.
    #[must_use]
    pub fn of(record: &Record) -> Option<Self> {
        let estimate = &record.estimate;
        let takes = (estimate.samples > 0).then(|| (estimate.expected(), estimate.spread()));
        let trouble = record.recent_trouble();
        (takes.is_some() || trouble.is_some()).then_some(Self { takes, trouble })
    }
}

/// Tests that are set aside: those that the pattern matches are not run, or run without counting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Park {
    /// As `--pick` takes it.
    pub pattern: String,
    pub why: String,
    /// The last day on which it holds, `2026-12-31`.
    pub until: String,
    /// Its last day has passed: the tests count again, and the run says so.
    pub over: bool,
    /// Where it holds.
    #[serde(default, skip_serializing_if = "Only::is_everywhere")]
    pub only: Only,
}

/// Which part of its file an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PartOf {
    /// How many parts there are; the entry's number among them is its [`PlannedEntry::repeat`].
    pub of: u16,
    /// Index into [`Plan::case_sets`]: the cases that other parts run.
    pub aside: u32,
    /// It runs all but those, whatever they are.
    pub rest: bool,
    /// Nothing counts in it but its own cases: what is new runs in another part.
    pub only: bool,
}

/// One entry as planned.
#[derive(Debug, Clone)]
pub struct PlannedEntry {
    pub name: TestName,
    /// Index into [`Plan::variants`].
    pub variant: u16,
    /// Which repetition it is, or which part of its file, from 1; 0 where nothing is repeated or cut.
    pub repeat: u16,
    /// It is a part of a file that is cut.
    pub part: Option<PartOf>,
    /// It failed recently and goes first.
    pub first: bool,
    /// Index of the park that sets it aside.
    pub parked: Option<u16>,
    /// Index of the group it stays with.
    pub group: Option<u32>,
    /// From the record or the list, or what its like take; `None` where nothing is known of any test.
    pub expected: Option<Span>,
    /// How far its duration usually is from the expected one.
    pub spread: Span,
    pub retries: u8,
    pub retries_from: RetriesFrom,
    pub limit: Span,
    /// Index into [`Plan::claim_sets`]; 0 is the empty set.
    pub claims: u32,
    /// Index into [`Plan::case_sets`]: only these cases of the file; 0 is all of it.
    pub cases: u32,
    /// Place in [`Plan::covers`]; 0: nothing.
    pub covers: u32,
}

/// The entries of a run, in listed order.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    pub variants: Vec<Variant>,
    pub entries: Vec<PlannedEntry>,
    /// Sets of claims, each sorted; the first is empty.
    pub claim_sets: Vec<Vec<String>>,
    /// Sets of cases of which some entries run no others; the first is empty and means all.
    pub case_sets: Vec<Vec<String>>,
    /// What tests are said to cover.
    pub covers: CoverSets,
    /// The parks that set entries aside.
    pub parks: Vec<Park>,
    /// What sets cases of files aside, with the index of its park.
    pub case_parks: Vec<(Pattern, u16)>,
    /// Exactly these batches, in this order.
    pub order: Option<Vec<Vec<u32>>>,
    /// The entries are files, which tell of cases.
    pub of_files: bool,
    /// How many entries there were before choosing.
    pub listed: usize,
    /// What the run should say about its plan.
    pub notes: Vec<String>,
    /// Why the tests of some variants are not among the entries, though they were wanted: the run cannot pass by it.
    pub unlisted: Vec<String>,
}

impl PlannedEntry {
    /// An entry of which nothing is known and for which nothing is ruled.
    #[must_use]
    pub fn plain(name: TestName) -> Self {
        Self {
            name,
            variant: 0,
            repeat: 0,
            part: None,
            first: false,
            parked: None,
            group: None,
            expected: None,
            spread: Span::ZERO,
            retries: 0,
            retries_from: RetriesFrom::Default,
            limit: Span::seconds(60),
            claims: 0,
            cases: 0,
            covers: 0,
        }
    }
}

/// Notes of one kind that a plan says singly; more are counted.
const MOST_NOTES: usize = 5;

impl Plan {
    /// Makes the plan of a run from the lists of its variants. The same arguments give the same entries in the same order.
    ///
    /// `history` tells what is known of a test in a variant. The entries themselves do not depend on it, so that the plan
    /// of an old run can be made again.
    ///
    /// # Errors
    /// [`Error::Options`] if nothing is chosen; the message names the nearest names.
    pub fn make(
        suite: &SuiteFile,
        options: &RunOptions,
        lists: &[(Variant, Vec<ListedTest>)],
        parks: &[Park],
        history: impl Fn(&TestName, &Variant) -> Option<Known>,
    ) -> Result<Self, Error> {
        let mut maker = Maker::new(suite, options, parks)?;
        if suite.tests.of_files() {
            maker.look_for_cases(lists)?;
        }
        for (number, (variant, tests)) in lists.iter().enumerate() {
            let number =
                u16::try_from(number).map_err(|_| Error::Options("a run has at most 65535 variants".into()))?;
            maker.plan.variants.push(variant.clone());
            maker.plan.listed += tests.len();
            if options.order.is_none() {
                maker.choose(number, variant, tests, &history)?;
            }
        }
        for pattern in maker.choice.pick.iter().chain(&maker.choice.drop) {
            let Some(why) = pattern.only_a_name() else { continue };
            let of_case = maker
                .case_picks
                .iter()
                .any(|(file, titles)| titles.iter().any(|title| pattern.as_str() == format!("{file}/{title}")));
            if !of_case && !lists.iter().flat_map(|l| &l.1).any(|t| t.name.as_str() == pattern.as_str()) {
                let name = pattern.as_str();
                return Err(Error::Options(format!(
                    "the pattern {name:?} cannot be read ({why}), and no test has that name"
                )));
            }
        }
        if let Some(order) = &options.order {
            maker.follow(order, lists, &history)?;
        }
        if maker.plan.entries.is_empty() {
            return Err(Error::Options(nothing_chosen(options, lists)));
        }
        maker.say_remarks();
        let mut plan = maker.plan;
        plan.guess_unknown();
        if options.recent_failures_first {
            plan.put_failed_first(&maker.trouble);
        }
        Ok(plan)
    }

    /// What an entry usually takes, and from when on it takes clearly longer than that: three times its spread more, twice
    /// the time, and a second more.
    #[must_use]
    pub fn usual_of(&self, index: u32) -> (Option<u64>, Option<u64>) {
        let Some(entry) = self.entries.get(index as usize) else { return (None, None) };
        let late =
            |expected: Span| (expected.0 + 3 * entry.spread.0).max(2 * expected.0).max(expected.0 + Span::seconds(1).0);
        (entry.expected.map(|e| e.0), entry.expected.map(late))
    }

    /// The index of a set of claims, sorted; a new set is added.
    pub(crate) fn claim_set(&mut self, claims: Vec<String>) -> u32 {
        let found = self.claim_sets.iter().position(|set| *set == claims).unwrap_or_else(|| {
            self.claim_sets.push(claims);
            self.claim_sets.len() - 1
        });
        found as u32
    }

    /// The park that sets a case of a file aside.
    #[must_use]
    pub fn park_of_case(&self, entry: u32, title: &str) -> Option<u16> {
        if self.case_parks.is_empty() {
            return None;
        }
        let name = format!("{}/{title}", self.entries[entry as usize].name);
        let of = self.variant_of(entry);
        let here = |park: u16| self.parks.get(usize::from(park)).is_none_or(|park| park.only.has(of));
        self.case_parks.iter().find(|(pattern, park)| here(*park) && pattern.matches_text(&name)).map(|(_, park)| *park)
    }

    /// The only cases that an entry runs; none means all of its file.
    #[must_use]
    pub fn cases_of(&self, entry: u32) -> &[String] {
        let set = self.entries[entry as usize].cases as usize;
        self.case_sets.get(set).map_or(&[], Vec::as_slice)
    }

    fn case_set(&mut self, titles: Vec<String>) -> u32 {
        self.case_sets.push(titles);
        (self.case_sets.len() - 1) as u32
    }

    /// The variant of an entry.
    #[must_use]
    pub fn variant_of(&self, entry: u32) -> &Variant {
        &self.variants[usize::from(self.entries[entry as usize].variant)]
    }

    /// The park that sets an entry aside.
    #[must_use]
    pub fn park_of(&self, entry: u32) -> Option<&Park> {
        self.entries[entry as usize].parked.map(|p| &self.parks[usize::from(p)])
    }

    /// How many entries are set aside.
    #[must_use]
    pub fn parked(&self) -> usize {
        self.entries.iter().filter(|e| e.parked.is_some()).count()
    }

    /// What was chosen, in words: `412 of 655 tests: pick gate/**, drop tag:slow; 3 parked`.
    #[must_use]
    pub fn choice_said(&self, options: &RunOptions) -> String {
        choice_said(options, self.whole_entries(), self.listed, self.parked(), self.of_files)
    }

    /// A test of which nothing is known counts as those it resembles: the median of its group's tests, else of those whose names
    /// begin with the same part, else of all. That is a guess, so its spread is as large as itself.
    fn guess_unknown(&mut self) {
        if self.entries.iter().all(|e| e.expected.is_some()) {
            return;
        }
        let mut of_group: HashMap<u32, Vec<u64>> = HashMap::new();
        let mut of_part: HashMap<String, Vec<u64>> = HashMap::new();
        let mut of_all: Vec<u64> = Vec::new();
        for entry in &self.entries {
            if let Some(expected) = entry.expected {
                if let Some(group) = entry.group {
                    of_group.entry(group).or_default().push(expected.0);
                }
                of_part.entry(entry.name.first_parts(1)).or_default().push(expected.0);
                of_all.push(expected.0);
            }
        }
        if of_all.is_empty() {
            return;
        }
        let middle = median(&mut of_all);
        let groups: HashMap<u32, u64> = of_group.into_iter().map(|(k, mut v)| (k, median(&mut v))).collect();
        let parts: HashMap<String, u64> = of_part.into_iter().map(|(k, mut v)| (k, median(&mut v))).collect();
        for entry in self.entries.iter_mut().filter(|e| e.expected.is_none()) {
            let by_group = entry.group.and_then(|g| groups.get(&g));
            let guess = *by_group.or_else(|| parts.get(&entry.name.first_parts(1))).unwrap_or(&middle);
            entry.expected = Some(Span(guess));
            entry.spread = Span(guess);
        }
    }

    /// Marks what failed recently to go first, the latest first, as far as [`FIRST_FAILED_SHARE`] allows.
    fn put_failed_first(&mut self, trouble: &HashMap<u32, u32>) {
        let total: u64 = self.entries.iter().filter_map(|e| e.expected).map(|s| s.0).sum();
        let mut candidates: Vec<(u32, Span, u32)> =
            trouble.iter().map(|(i, ago)| (*ago, self.entries[*i as usize].expected.unwrap_or_default(), *i)).collect();
        candidates.sort_unstable();
        let mut left = total * FIRST_FAILED_SHARE / 100;
        for (_, expected, index) in candidates {
            let entry = &mut self.entries[index as usize];
            if expected.0 <= left && entry.group.is_none() {
                left -= expected.0;
                entry.first = true;
            }
        }
    }
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

/// Makes a plan, list by list.
struct Maker<'m> {
    suite: &'m SuiteFile,
    options: &'m RunOptions,
    choice: Choice,
    only: Option<HashSet<(&'m str, &'m str)>>,
    parks: Vec<(Pattern, &'m Park)>,
    /// Picks of single cases, by the name of their file.
    case_picks: HashMap<String, Vec<String>>,
    groups: HashMap<(u16, u16, String), u32>,
    plan: Plan,
    /// How many runs ago entries were in trouble.
    trouble: HashMap<u32, u32>,
    /// Tests whose list and rule name different groups, and tests that count again.
    regrouped: Vec<String>,
    again: BTreeMap<usize, Vec<String>>,
}

impl<'m> Maker<'m> {
    fn new(suite: &'m SuiteFile, options: &'m RunOptions, parks: &'m [Park]) -> Result<Self, Error> {
        let only = options.only.as_ref().map(|only| only.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect());
        // A park that cannot be read was refused when it was made.
        let read = |park: &'m Park| Pattern::parse_or_name(&park.pattern).ok().map(|pattern| (pattern, park));
        let parks: Vec<_> = parks.iter().filter_map(read).collect();
        let plan = Plan {
            claim_sets: vec![Vec::new()],
            case_sets: vec![Vec::new()],
            parks: parks.iter().map(|p| p.1.clone()).collect(),
            case_parks: case_parks(suite, &parks),
            of_files: suite.tests.of_files(),
            ..Plan::default()
        };
        Ok(Self {
            suite,
            options,
            choice: Choice::parse(&options.pick, &options.drop)?,
            only,
            parks,
            case_picks: HashMap::new(),
            groups: HashMap::new(),
            plan,
            trouble: HashMap::new(),
            regrouped: Vec::new(),
            again: BTreeMap::new(),
        })
    }

    /// Picks that match no file, and name a case of one: `FILE/TITLE`.
    fn look_for_cases(&mut self, lists: &[(Variant, Vec<ListedTest>)]) -> Result<(), Error> {
        let files: HashSet<&str> = lists.iter().flat_map(|l| &l.1).map(|t| t.name.as_str()).collect();
        let file_of = |text: &str| {
            let mut ends: Vec<usize> = text.match_indices('/').map(|(at, _)| at).collect();
            ends.reverse();
            ends.into_iter().find(|at| files.contains(&text[..*at]) && at + 1 < text.len())
        };
        let matches = |pattern: &Pattern| lists.iter().flat_map(|l| &l.1).any(|t| pattern.matches(&t.name, &t.tags));
        for pattern in &self.choice.pick {
            let text = pattern.as_str();
            let Some(at) = file_of(text).filter(|_| !matches(pattern)) else { continue };
            let (file, title) = (&text[..at], &text[at + 1..]);
            if self.suite.tests.rerun.is_none() {
                return Err(Error::Options(format!(
                    "{text:?} is a case of the file {file}, and the suite cannot run cases alone: pick the file, or give \"rerun\" in [tests]"
                )));
            }
            if title.contains(['*', '?']) {
                return Err(Error::Options(format!(
                    "{text:?} picks cases of the file {file} by a pattern, and cases are known only as the file runs: pick the file, or a case by its whole title"
                )));
            }
            self.case_picks.entry(file.to_owned()).or_default().push(title.to_owned());
        }
        for pattern in &self.choice.drop {
            let text = pattern.as_str();
            if let Some(at) = file_of(text).filter(|_| !matches(pattern)) {
                let (file, suite) = (&text[..at], &self.suite.suite);
                return Err(Error::Options(format!(
                    "--drop {text:?} names a case of the file {file}, and a file runs with all its cases: drop the file, or set the case aside (kesmo park {suite} {text:?})"
                )));
            }
        }
        Ok(())
    }

    fn choose(
        &mut self,
        number: u16,
        variant: &Variant,
        tests: &[ListedTest],
        history: &impl Fn(&TestName, &Variant) -> Option<Known>,
    ) -> Result<(), Error> {
        let variant_text = variant.to_string();
        let times = self.options.times().unwrap_or(1).max(1);
        for test in tests {
            let wanted =
                self.only.as_ref().is_none_or(|only| only.contains(&(test.name.as_str(), variant_text.as_str())));
            let whole = self.choice.takes(&test.name, &test.tags);
            let picked = self
                .case_picks
                .get(test.name.as_str())
                .filter(|_| !whole && !self.choice.drops(&test.name, &test.tags));
            if !wanted || !(whole || picked.is_some()) {
                continue;
            }
            let named = |of: &&CasesOf| of.file == test.name.as_str() && of.variant == variant_text;
            let asked = || self.options.cases.iter().filter(|_| self.suite.tests.rerun.is_some()).find(named);
            let cases = picked.or_else(|| asked().map(|of| &of.titles)).cloned();
            let cases = cases.map_or(0, |cases| self.plan.case_set(cases));
            let mut ruled =
                Ruled { covers: self.plan.covers.place(self.suite, test), ..Ruled::of(self.suite, self.options, test) };
            if self.options.each_slot {
                ruled.of_a_load(test)?;
            }
            let known = history(&test.name, variant);
            for time in 1..=times {
                let repeat = if times > 1 { time as u16 } else { 0 };
                self.add(number, repeat, test, &ruled, known)?;
                if let Some(entry) = self.plan.entries.last_mut() {
                    entry.cases = cases;
                }
            }
            if let Some((listed, line)) = ruled.regrouped {
                let name = &test.name;
                self.regrouped.push(format!(
                    "{name} is in the group {listed:?} by the list and in another by kesmo.toml line {line}; the rule stands"
                ));
            }
        }
        Ok(())
    }

    /// Takes over the batches of an order, in which a test may stand several times.
    fn follow(
        &mut self,
        order: &[Vec<(String, String)>],
        lists: &[(Variant, Vec<ListedTest>)],
        history: &impl Fn(&TestName, &Variant) -> Option<Known>,
    ) -> Result<(), Error> {
        let listed: HashMap<(String, &str), (u16, &Variant, &ListedTest)> = lists
            .iter()
            .enumerate()
            .flat_map(|(number, (variant, tests))| {
                let text = variant.to_string();
                tests.iter().map(move |t| ((text.clone(), t.name.as_str()), (number as u16, variant, t)))
            })
            .collect();
        let mut times: HashMap<(&str, &str), u16> = HashMap::new();
        let (mut batches, mut missing, mut all) = (Vec::new(), Vec::new(), 0);
        for batch in order {
            let mut entries = Vec::new();
            for (name, variant) in batch {
                all += 1;
                let Some((number, of, test)) = listed.get(&(variant.clone(), name.as_str())).copied() else {
                    missing.push(name.as_str());
                    continue;
                };
                let time = times.entry((name, variant)).or_insert(0);
                *time += 1;
                let ruled = Ruled {
                    retries: 0,
                    retries_from: RetriesFrom::Start,
                    group: None,
                    covers: self.plan.covers.place(self.suite, test),
                    ..Ruled::of(self.suite, self.options, test)
                };
                entries.push(self.plan.entries.len() as u32);
                self.add(number, *time, test, &ruled, history(&test.name, of))?;
            }
            if !entries.is_empty() {
                batches.push(entries);
            }
        }
        if !missing.is_empty() {
            let some = missing.iter().take(3).copied().collect::<Vec<_>>().join(", ");
            self.plan.notes.push(format!(
                "{} of the {all} tests of the order to repeat are no longer listed and are left out: {some}{}",
                missing.len(),
                if missing.len() > 3 { ", …" } else { "" }
            ));
        }
        // Only what stands several times is counted.
        for index in 0..self.plan.entries.len() {
            let variant = self.plan.variant_of(index as u32).to_string();
            let entry = &mut self.plan.entries[index];
            if times.get(&(entry.name.as_str(), variant.as_str())) == Some(&1) {
                entry.repeat = 0;
            }
        }
        self.plan.order = Some(batches);
        Ok(())
    }

    fn add(
        &mut self,
        variant: u16,
        repeat: u16,
        test: &ListedTest,
        ruled: &Ruled,
        known: Option<Known>,
    ) -> Result<(), Error> {
        if self.plan.entries.len() == MOST_ENTRIES {
            return Err(Error::Options(format!(
                "a run has at most {MOST_ENTRIES} entries: pick fewer tests, or repeat them less often"
            )));
        }
        let next = self.groups.len() as u32;
        let group = ruled.group.as_ref().map(|g| *self.groups.entry((variant, repeat, g.clone())).or_insert(next));
        let claims = self.plan.claim_set(ruled.claims.clone());
        let listed = test.seconds.map(|s| Span((s * 1e6) as u64));
        let index = self.plan.entries.len() as u32;
        if let Some(ago) = known.and_then(|k| k.trouble) {
            self.trouble.insert(index, ago);
        }
        let of = &self.plan.variants[usize::from(variant)];
        let matches = |(pattern, park): &(Pattern, &Park)| park.only.has(of) && pattern.matches(&test.name, &test.tags);
        let park = self.parks.iter().position(|found| !found.1.over && matches(found));
        if park.is_none()
            && repeat <= 1
            && let Some(over) = self.parks.iter().position(matches)
        {
            self.again.entry(over).or_default().push(test.name.to_string());
        }
        let takes = known.and_then(|k| k.takes);
        let expected = takes.map(|(expected, _)| expected).or(listed);
        self.plan.entries.push(PlannedEntry {
            name: test.name.clone(),
            variant,
            repeat,
            part: None,
            first: false,
            parked: park.and_then(|p| u16::try_from(p).ok()),
            group,
            expected,
            // What the list says is a word, not a measurement.
            spread: takes.map_or_else(|| Span(expected.unwrap_or_default().0 / 2), |(_, spread)| spread),
            retries: ruled.retries as u8,
            retries_from: ruled.retries_from,
            limit: ruled.limit,
            claims,
            cases: 0,
            covers: ruled.covers,
        });
        Ok(())
    }

    fn say_remarks(&mut self) {
        let more = self.regrouped.len().saturating_sub(MOST_NOTES);
        self.plan.notes.extend(self.regrouped.drain(..).take(MOST_NOTES));
        if more > 0 {
            self.plan.notes.push(format!("{more} more tests are in one group by the list and in another by a rule"));
        }
        for (park, names) in &self.again {
            let park = &self.plan.parks[*park];
            let more = names.len().saturating_sub(3);
            let some = names.iter().take(3).map(String::as_str).collect::<BTreeSet<_>>();
            let some = some.into_iter().collect::<Vec<_>>().join(", ");
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let verb = if names.len() == 1 { "counts" } else { "count" };
            self.plan.notes.push(format!("{some}{more} {verb} again: parked until {} ({})", park.until, park.why));
        }
    }
}

/// The parks that may set cases of files aside.
fn case_parks(suite: &SuiteFile, parks: &[(Pattern, &Park)]) -> Vec<(Pattern, u16)> {
    let all = parks.iter().enumerate().filter(|(_, (_, park))| suite.tests.of_files() && !park.over);
    all.filter_map(|(index, (pattern, _))| Some((pattern.clone(), u16::try_from(index).ok()?))).collect()
}

struct Ruled {
    limit: Span,
    retries: u32,
    retries_from: RetriesFrom,
    group: Option<String>,
    claims: Vec<String>,
    /// The place of what it covers.
    covers: u32,
    /// The group that the list names and the line of the rule that names another.
    regrouped: Option<(String, usize)>,
}

impl Ruled {
    /// Weakest first: the service's default, the suite file, the start, the rules in their order.
    fn of(suite: &SuiteFile, options: &RunOptions, test: &ListedTest) -> Self {
        let (retries, retries_from) = match (options.retries, suite.retry.times) {
            (Some(n), _) => (n, RetriesFrom::Start),
            (None, Some(n)) => (n, RetriesFrom::SuiteFile),
            (None, None) => (DEFAULT_RETRIES, RetriesFrom::Default),
        };
        let mut ruled = Self {
            limit: suite.limits.test,
            retries,
            retries_from,
            group: test.group.clone(),
            claims: Vec::new(),
            covers: 0,
            regrouped: None,
        };
        let applies = |rule: &&Rule| rule.tests.iter().any(|p| p.matches(&test.name, &test.tags));
        for rule in suite.rules.iter().filter(applies) {
            ruled.limit = rule.limit.unwrap_or(ruled.limit);
            if let Some(n) = rule.retry {
                (ruled.retries, ruled.retries_from) = (n, RetriesFrom::Rule(rule.line as u32));
            }
            let group = match &rule.group {
                Some(GroupBy::Name(name)) => Some(name.clone()),
                Some(GroupBy::Parts(parts)) => Some(test.name.first_parts(*parts as usize)),
                None => None,
            };
            if let Some(group) = group {
                ruled.regrouped =
                    test.group.clone().filter(|listed| *listed != group).map(|listed| (listed, rule.line));
                ruled.group = Some(group);
            }
            if let Some(claims) = &rule.claims {
                ruled.claims.clone_from(claims);
            }
        }
        ruled.claims.sort();
        ruled.claims.dedup();
        ruled
    }

    /// What runs on several slots at once is not retried by part, and cannot hold what only one may.
    fn of_a_load(&mut self, test: &ListedTest) -> Result<(), Error> {
        (self.retries, self.group) = (0, None);
        match self.claims.first() {
            None => Ok(()),
            Some(claim) => Err(Error::Options(format!(
                "{} holds the claim {claim:?}, which only one process has at a time, so it cannot run on several slots at once: \
                 leave --each-slot out, or the test (--drop {:?})",
                test.name,
                test.name.as_str()
            ))),
        }
    }
}

fn nothing_chosen(options: &RunOptions, lists: &[(Variant, Vec<ListedTest>)]) -> String {
    let total: usize = lists.iter().map(|l| l.1.len()).sum();
    let mut said = format!("nothing to run: of {total} tests none is chosen");
    if !options.pick.is_empty() {
        said += &format!(" by --pick {}", options.pick.join(", "));
    }
    if !options.drop.is_empty() {
        said += &format!(" after --drop {}", options.drop.join(", "));
    }
    if options.only.is_some() || options.order.is_some() {
        said += " (the entries to repeat are no longer listed)";
    }
    let names = || lists.iter().flat_map(|l| &l.1).map(|t| t.name.as_str());
    let tags: std::collections::BTreeSet<&str> =
        lists.iter().flat_map(|l| &l.1).flat_map(|t| &t.tags).map(String::as_str).collect();
    for pick in &options.pick {
        let near: Vec<String> = match pick.strip_prefix("tag:") {
            Some(tag) => {
                let near = nearest(tag, tags.iter().copied(), 3);
                let near = if near.is_empty() { tags.iter().copied().take(8).collect() } else { near };
                near.into_iter().map(|t| format!("tag:{t}")).collect()
            }
            None if pick.starts_with("regex:") => Vec::new(),
            None => {
                let bare = pick.trim_matches(['*', '/']);
                let mut near = nearest(bare, names(), 3);
                if near.is_empty() {
                    near = nearest_by_parts(bare, names());
                }
                near.into_iter().map(str::to_owned).collect()
            }
        };
        if !near.is_empty() {
            said += &format!("; nearest to {pick}: {}", near.join(", "));
        }
    }
    said
}

/// Names in which some part is near to some part of `word`, so that `gaet/**` still finds `gate/open`.
fn nearest_by_parts<'a>(word: &str, names: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let parts: Vec<&str> = word.split(['/', '*']).filter(|p| p.len() > 1).collect();
    let near = |name: &str| name.split('/').any(|part| parts.iter().any(|p| !nearest(p, [part], 1).is_empty()));
    names.filter(|name| near(name)).take(3).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::suite::listing;

    const FILE: &str = r#"
suite = "fares"
[tests]
list = ["./t"]
run = ["./t", "{names}"]
results = "tap"
[retry]
times = 1
[[rule]]
tests = ["slow/**"]
limit = "2m"
claims = ["berth", "air"]
[[rule]]
tests = ["slow/b"]
retry = 5
group-by = 1
"#;

    fn plan(options: &RunOptions) -> Result<Plan, Error> {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let list =
            listing::read(b"slow/a\nslow/b\n{\"name\":\"quick/c\",\"tags\":[\"smoke\"],\"seconds\":2}\n").unwrap();
        plan_of(&suite, options, list, &[])
    }

    #[test]
    fn a_test_that_only_ever_failed_is_in_trouble_though_nobody_knows_what_it_takes() {
        let file = "suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{names}\"]\nresults = \"tap\"\n";
        let suite = SuiteFile::parse("kesmo.toml", file).unwrap();
        let failed = Record::default().with(crate::words::Outcome::Failed, None);
        let known = |name: &TestName, _: &Variant| (name.as_str() == "slow/b").then(|| Known::of(&failed)).flatten();
        let options = RunOptions { recent_failures_first: true, ..RunOptions::default() };
        let list = listing::read(b"slow/a\nslow/b\nslow/c\n").unwrap();
        let plan = Plan::make(&suite, &options, &[(Variant::default(), list)], &[], known).unwrap();
        let first: Vec<&str> = plan.entries.iter().filter(|e| e.first).map(|e| e.name.as_str()).collect();
        assert_eq!((first.as_slice(), plan.entries[1].expected), (["slow/b"].as_slice(), None));
        assert_eq!(Known::of(&Record::default()), None);
    }

    fn plan_of(suite: &SuiteFile, options: &RunOptions, list: Vec<ListedTest>, parks: &[Park]) -> Result<Plan, Error> {
        let known = |name: &TestName, _: &Variant| {
            let known = Known { takes: Some((Span::seconds(7), Span::seconds(1))), trouble: Some(2) };
            (name.as_str() == "slow/a").then_some(known)
        };
        Plan::make(suite, options, &[(Variant::default(), list)], parks, known)
    }

    fn listed(text: &str) -> Vec<ListedTest> {
        listing::read(text.as_bytes()).unwrap()
    }

    #[test]
    fn runs_are_alike_that_chose_the_same_tests_in_the_same_environment() {
        let pick = |patterns: &[&str]| RunOptions {
            pick: patterns.iter().map(|p| (*p).to_owned()).collect(),
            ..RunOptions::default()
        };
        let whole = RunOptions::default();
        assert_eq!(whole.alike().said, "all tests");
        // How it ran does not matter.
        let other = RunOptions {
            retries: Some(3),
            shards: Some(2),
            shuffle: true,
            set: [("passengers".to_owned(), "9".to_owned())].into(),
            labels: [("release".to_owned(), "1187".to_owned())].into(),
            ..RunOptions::default()
        };
        assert_eq!(other.alike(), whole.alike());
        assert_eq!(pick(&["a", "b"]).alike(), pick(&["b", "a", "b"]).alike(), "in whatever order");
        let env = RunOptions { env: Some("ci".into()), ..RunOptions::default() };
        let only = |test: &str| RunOptions {
            only: Some(vec![(test.to_owned(), String::new())]),
            only_because: Some("not passed in fares/7".into()),
            ..RunOptions::default()
        };
        let all = [whole, pick(&["a"]), pick(&["a", "b"]), env, only("x"), only("y")];
        let keys: std::collections::BTreeSet<String> = all.iter().map(|o| o.alike().key).collect();
        assert_eq!(keys.len(), all.len(), "each of them is another choice");
        assert_eq!(only("x").alike().said, only("y").alike().said);
    }

    #[test]
    fn rules_apply_in_their_order() {
        let plan = plan(&RunOptions::default()).unwrap();
        let [a, b, c] = plan.entries.as_slice() else { panic!("three entries") };
        assert_eq!((a.limit, a.retries, a.retries_from), (Span::seconds(120), 1, RetriesFrom::SuiteFile));
        assert_eq!((b.retries, b.retries_from, b.group), (5, RetriesFrom::Rule(13), Some(0)));
        assert_eq!(plan.claim_sets[a.claims as usize], ["air", "berth"]);
        assert_eq!((c.claims, c.limit), (0, Span::seconds(60)));
        // Nothing is known of b: it counts as its like, those whose names begin alike.
        assert_eq!([a.expected, b.expected, c.expected], [7, 7, 2].map(|s| Some(Span::seconds(s))));
        assert_eq!([a.spread, b.spread, c.spread], [1, 7, 1].map(Span::seconds));
    }

    #[test]
    fn repeated_tests_are_entries_of_their_own() {
        let options = RunOptions { repeat: Some(3), pick: vec!["slow/*".into()], ..RunOptions::default() };
        let plan = plan(&options).unwrap();
        let said: Vec<(&str, u16)> = plan.entries.iter().map(|e| (e.name.as_str(), e.repeat)).collect();
        assert_eq!(said, [("slow/a", 1), ("slow/a", 2), ("slow/a", 3), ("slow/b", 1), ("slow/b", 2), ("slow/b", 3)]);
        let groups: Vec<Option<u32>> = plan.entries[3..].iter().map(|e| e.group).collect();
        assert_eq!(groups, [Some(0), Some(1), Some(2)], "a group for each repetition");
        assert_eq!(plan.choice_said(&options), "2 of 3 tests: pick slow/*, 3 times each");
    }

    #[test]
    fn parked_tests_are_marked_and_those_whose_time_is_over_are_told() {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let park = |pattern: &str, over: bool| Park {
            pattern: pattern.into(),
            why: "the crane is away".into(),
            until: "2026-11-20".into(),
            over,
            only: Only::default(),
        };
        let parks = [park("slow/b", true), park("slow/a", false)];
        let options = RunOptions { drop: vec!["quick/**".into()], ..RunOptions::default() };
        let plan = plan_of(&suite, &options, listed("slow/a\nslow/b\nquick/c\n"), &parks).unwrap();
        assert_eq!(plan.park_of(0), Some(&parks[1]));
        assert_eq!(plan.park_of(1), None);
        assert_eq!(plan.choice_said(&options), "2 of 3 tests: drop quick/**; 1 parked");
        assert_eq!(plan.notes, ["slow/b counts again: parked until 2026-11-20 (the crane is away)"]);
    }

    #[test]
    fn what_failed_recently_goes_first_as_far_as_it_is_cheap() {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let options = RunOptions { recent_failures_first: true, ..RunOptions::default() };
        let many: String = (0..200).map(|n| format!("{{\"name\":\"t/{n}\",\"seconds\":1}}\n")).collect();
        let plan = plan_of(&suite, &options, listed(&format!("slow/a\n{many}")), &[]).unwrap();
        assert!(plan.entries[0].first, "7 s of 207 s are less than a twentieth");
        let few = plan_of(&suite, &options, listed("slow/a\n{\"name\":\"t\",\"seconds\":1}\n"), &[]).unwrap();
        assert!(!few.entries[0].first, "7 s of 8 s are not");
    }

    #[test]
    fn an_order_is_followed_and_what_is_gone_is_told() {
        let own = |names: &[&str]| names.iter().map(|n| ((*n).to_owned(), String::new())).collect::<Vec<_>>();
        let order = Some(vec![own(&["quick/c", "slow/a"]), own(&["gone"]), own(&["slow/a"])]);
        let options = RunOptions { order, retries: Some(2), ..RunOptions::default() };
        let plan = plan(&options).unwrap();
        assert_eq!(plan.order, Some(vec![vec![0, 1], vec![2]]));
        assert_eq!(plan.entries[2].repeat, 2, "the second time that slow/a stands in it");
        assert!(plan.entries.iter().all(|e| e.retries == 0));
        assert_eq!(plan.notes, ["1 of the 4 tests of the order to repeat are no longer listed and are left out: gone"]);
    }

    #[test]
    fn a_rule_that_contradicts_the_list_stands_and_says_so() {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let list = listed("{\"name\":\"slow/b\",\"group\":\"tide\"}\n");
        let plan = plan_of(&suite, &RunOptions::default(), list, &[]).unwrap();
        let said = "slow/b is in the group \"tide\" by the list and in another by kesmo.toml line 13; the rule stands";
        assert_eq!(plan.notes, [said]);
    }

    #[test]
    fn the_start_outranks_the_file_and_a_rule_outranks_the_start() {
        let plan = plan(&RunOptions { retries: Some(3), ..RunOptions::default() }).unwrap();
        assert_eq!((plan.entries[0].retries, plan.entries[0].retries_from), (3, RetriesFrom::Start));
        assert_eq!(plan.entries[1].retries, 5);
    }

    #[test]
    fn nothing_chosen_names_the_nearest() {
        let say = |pick: &str| {
            plan(&RunOptions { pick: vec![pick.into()], ..RunOptions::default() }).unwrap_err().to_string()
        };
        assert!(say("slwo/**").ends_with("nearest to slwo/**: slow/a, slow/b"), "{}", say("slwo/**"));
        assert!(say("tag:smok").ends_with("nearest to tag:smok: tag:smoke"));
        assert!(say("quick/d").contains("quick/c"));
        assert!(say("regex:zzz").contains("of 3 tests none is chosen by --pick regex:zzz"));
    }

    #[test]
    fn a_pattern_that_is_neither_a_glob_nor_a_name_is_refused_and_not_passed_over() {
        for options in [
            RunOptions { pick: vec!["slow/[b-a]".into()], ..RunOptions::default() },
            RunOptions { drop: vec!["slow/[b-a]".into()], ..RunOptions::default() },
        ] {
            let error = plan(&options).unwrap_err().to_string();
            assert!(error.contains("cannot be read") && error.contains("no test has that name"), "{error}");
        }
    }

    /// A suite of two files, one of which is named as the other begins.
    fn of_files(options: &RunOptions, rerun: bool, parks: &[Park]) -> Result<Plan, Error> {
        let rerun = if rerun { "rerun = [\"sh\", \"{name}\", \"{cases-file}\"]" } else { "" };
        let text = format!(
            "suite = \"fares\"\n[tests]\neach = \"file\"\nlist = [\"ls\"]\nrun = [\"sh\", \"{{name}}\"]\nresults = \"tap\"\n{rerun}"
        );
        let suite = SuiteFile::parse("kesmo.toml", &text).unwrap();
        plan_of(&suite, options, listed("specs/gate.sh\nspecs/gate.sh/late\nspecs/quay.sh\n"), parks)
    }

    #[test]
    fn a_pick_of_a_case_runs_that_case_alone() {
        let pick =
            |picks: &[&str]| RunOptions { pick: picks.iter().map(|p| (*p).into()).collect(), ..RunOptions::default() };
        let plan = of_files(&pick(&["specs/gate.sh/pays [by] card", "specs/gate.sh/opens"]), true, &[]).unwrap();
        assert_eq!(plan.entries.len(), 1);
        assert_eq!(plan.choice_said(&RunOptions::default()), "1 of 3 files");
        assert_eq!(plan.cases_of(0), ["pays [by] card", "opens"], "what is in brackets is meant as it stands");
        let nested = of_files(&pick(&["specs/gate.sh/late/refuses"]), true, &[]).unwrap();
        assert_eq!(
            (nested.entries[0].name.as_str(), nested.cases_of(0)),
            ("specs/gate.sh/late", ["refuses".to_owned()].as_slice())
        );
        let both = of_files(&pick(&["specs/gate.sh/opens", "specs/gate.sh"]), true, &[]).unwrap();
        assert!(both.cases_of(0).is_empty(), "the whole file was picked too");
        let others = of_files(&pick(&["specs/gate.sh/opens", "specs/quay.sh"]), true, &[]).unwrap();
        assert_eq!(others.entries.len(), 2);
        assert!(others.cases_of(1).is_empty());
    }

    #[test]
    fn a_pick_or_drop_of_a_case_that_cannot_hold_says_what_would_work() {
        let pick = RunOptions { pick: vec!["specs/gate.sh/opens".into()], ..RunOptions::default() };
        let said = of_files(&pick, false, &[]).unwrap_err().to_string();
        assert!(said.contains("cannot run cases alone: pick the file"), "{said}");
        let glob = RunOptions { pick: vec!["specs/gate.sh/pays*".into()], ..RunOptions::default() };
        let said = of_files(&glob, true, &[]).unwrap_err().to_string();
        assert!(said.contains("cases are known only as the file runs"), "{said}");
        let drop = RunOptions { drop: vec!["specs/gate.sh/opens".into()], ..RunOptions::default() };
        let said = of_files(&drop, true, &[]).unwrap_err().to_string();
        assert!(said.contains("kesmo park fares \"specs/gate.sh/opens\""), "{said}");
        let gone = RunOptions { pick: vec!["specs/gaet.sh/opens".into()], ..RunOptions::default() };
        assert!(of_files(&gone, true, &[]).unwrap_err().to_string().contains("nothing to run"));
    }

    #[test]
    fn parks_hold_for_cases_until_their_last_day() {
        let park = |pattern: &str, over| Park {
            pattern: pattern.into(),
            why: "away".into(),
            until: "2026-11-20".into(),
            over,
            only: Only::default(),
        };
        let parks = [
            park("specs/gate.sh/pays by card", false),
            park("specs/*/opens", false),
            park("specs/quay.sh/shuts", true),
        ];
        let plan = of_files(&RunOptions::default(), true, &parks).unwrap();
        assert_eq!(plan.park_of_case(0, "pays by card"), Some(0));
        assert_eq!(plan.park_of_case(0, "pays by coin"), None);
        assert_eq!(plan.park_of_case(2, "opens"), Some(1));
        assert_eq!(plan.park_of_case(2, "shuts"), None, "its last day has passed");
        assert_eq!(plan.parked(), 0, "no file is set aside by it");
    }

    #[test]
    fn only_the_named_entries_are_repeated() {
        let only = Some(vec![("slow/b".to_owned(), String::new())]);
        let plan = plan(&RunOptions { only, ..RunOptions::default() }).unwrap();
        assert_eq!(plan.entries.len(), 1);
        assert_eq!(plan.listed, 3);
    }

    #[test]
    fn options_that_cannot_work_are_refused() {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let bad = [
            RunOptions { retries: Some(1000), ..RunOptions::default() },
            RunOptions { shards: Some(0), ..RunOptions::default() },
            RunOptions { shards: Some(1_000_000), ..RunOptions::default() },
            RunOptions { repeat: Some(0), ..RunOptions::default() },
            RunOptions { repeat: Some(100_000), ..RunOptions::default() },
            RunOptions { shuffle: true, recent_failures_first: true, ..RunOptions::default() },
            RunOptions { order: Some(Vec::new()), ..RunOptions::default() },
            RunOptions { pick: vec!["regex:(".into()], ..RunOptions::default() },
            RunOptions { variants: vec!["screen=phone".into()], ..RunOptions::default() },
            RunOptions { env: Some("staging".into()), ..RunOptions::default() },
        ];
        for options in bad {
            assert!(options.check(&suite).is_err(), "{options:?}");
        }
    }
}
