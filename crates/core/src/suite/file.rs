//! The suite file, `kesmo.toml`: what it says, as values that can be trusted. It is read by `reading.rs`. The format is described in
//! `docs/suite-file.md`.

use std::collections::BTreeMap;

use super::{
    container::{self, Container},
    covers::Covers,
    pick::Pattern,
    secrets::SecretUse,
    variant::{Facets, Variant},
};
use crate::{
    error::Error,
    measure::Limit,
    name::{Slug, did_you_mean},
    time::{Bytes, Span},
};

/// The file's name, at the root of a suite's files.
pub const FILE_NAME: &str = "kesmo.toml";

/// How a suite's processes report results.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Results {
    /// TAP 12 to 14 on standard output.
    Tap,
    /// JUnit XML files, read when the process ends.
    Junit,
    /// Event lines written to `$KESMO_EVENTS`.
    Events,
    /// A process per test; status 0 is a pass.
    Exit,
}

impl Results {
    const WORDS: [(Self, &'static str); 4] =
        [(Self::Tap, "tap"), (Self::Junit, "junit"), (Self::Events, "events"), (Self::Exit, "exit")];

    /// Its word in a suite file.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::WORDS.iter().find(|known| known.0 == self).map_or("", |known| known.1)
    }

    /// The kind of a word.
    ///
    /// # Errors
    /// In words, if there is none; they name the nearest and those there are.
    pub fn parse(word: &str) -> Result<Self, String> {
        Self::WORDS.iter().find(|known| known.1 == word).map(|known| known.0).ok_or_else(|| {
            let hint = did_you_mean(word, Self::WORDS.iter().map(|known| known.1));
            format!("{word:?} is not a valid way to report results{hint}; use tap, junit, events or exit")
        })
    }
}

/// What the list names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Each {
    /// Tests.
    #[default]
    Test,
    /// Files, whose tests are known as they run: their cases.
    File,
}

impl Each {
    /// The one of a word.
    ///
    /// # Errors
    /// In words, if there is none; they name the nearest.
    pub fn parse(word: &str) -> Result<Self, String> {
        match word {
            "test" => Ok(Self::Test),
            "file" => Ok(Self::File),
            other => {
                let hint = did_you_mean(other, ["test", "file"]);
                Err(format!("{other:?} is not a valid \"each\"{hint}: what \"list\" names is a \"test\" or a \"file\""))
            }
        }
    }
}

/// How the names of a batch reach the process.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NamesAs {
    /// `{names}`: as arguments.
    Arguments,
    /// `{names-file}`: a file, one name a line.
    File,
    /// `{name}`: a process for each test.
    OneEach,
    /// `feed = "lines"`: on standard input, one a line, as the slot draws them.
    Fed,
}

/// `[prepare]`: run once for each worker and source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prepare {
    pub run: Vec<String>,
    pub limit: Span,
}

/// `[tests]`: how tests are listed, run and read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tests {
    pub list: Vec<String>,
    pub run: Vec<String>,
    pub names_as: NamesAs,
    pub each: Each,
    /// How to run some cases of a file: with `{name}` and `{cases-file}`.
    pub rerun: Option<Vec<String>>,
    /// How to run a file without some of its cases: with `{name}` and `{cases-file}`.
    pub rest: Option<Vec<String>>,
    /// Whether a file that would be the last to end is cut by its known cases over several slots.
    pub split: bool,
    pub results: Results,
    pub junit: Vec<String>,
    pub keep: Vec<String>,
    /// Whether a batch that turns out slow may be cut short after a test, so that idle slots run the rest.
    pub give_back: bool,
    /// Whether a process that ends badly fails the run though all results of its tests were good.
    pub end_counts: bool,
}

/// `[limits]`: how long and how much.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    pub test: Span,
    pub batch: Span,
    pub run: Span,
    /// Output kept of one attempt; past it the middle is cut.
    pub output: Bytes,
    /// How long a run waits for a worker that offers what it needs.
    pub patience: Span,
}

/// `[retry]`: what happens after a failing attempt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Retry {
    /// `None` where the file does not say, so that the service's default stands.
    pub times: Option<u32>,
    pub other_worker: bool,
    pub pause: Span,
    /// Retries stop when more than this share of the entries (in percent) has failed.
    pub give_up_after: Option<u32>,
}

/// `[[rule]]`: other settings for some tests. Of two rules that match, the later wins, setting by setting.
#[derive(Debug, Clone)]
pub struct Rule {
    /// The line on which the rule begins, to name it by.
    pub line: usize,
    pub tests: Vec<Pattern>,
    pub limit: Option<Span>,
    pub retry: Option<u32>,
    pub group: Option<GroupBy>,
    pub claims: Option<Vec<String>>,
}

/// How a rule gathers its tests into groups.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GroupBy {
    /// All into one, with this name.
    Name(String),
    /// By the first parts of their names.
    Parts(u32),
}

impl Tests {
    /// Whether the list names files.
    #[must_use]
    pub fn of_files(&self) -> bool {
        self.each == Each::File
    }
}

/// A whole suite file.
#[derive(Debug, Clone)]
pub struct SuiteFile {
    pub suite: Slug,
    pub about: String,
    pub prepare: Option<Prepare>,
    pub tests: Tests,
    pub limits: Limits,
    pub retry: Retry,
    pub rules: Vec<Rule>,
    pub facets: Facets,
    /// The image that its processes run in; none: they run as they are.
    pub container: Option<Container>,
    /// Addresses in private networks that its processes talk to, by the names that they are offered under.
    pub reach: Vec<Slug>,
    pub needs: BTreeMap<String, String>,
    /// What a worker must offer besides, for variants with that value of a facet: `[needs-for.FACET.VALUE]`.
    pub needs_for: Vec<((String, String), BTreeMap<String, String>)>,
    pub env: BTreeMap<String, String>,
    pub env_for: BTreeMap<String, BTreeMap<String, String>>,
    pub settings: BTreeMap<String, String>,
    /// Limits of what its tests measure: `[[limit]]`.
    pub measured: Vec<Limit>,
    /// Requirements that its tests cover: `[covers]`.
    pub covers: Vec<Covers>,
    /// Secrets that its processes are given: `[secrets]`.
    pub secrets: Vec<SecretUse>,
}

/// The most retries that a file or an option may ask for.
pub const MOST_RETRIES: u32 = 100;

impl SuiteFile {
    /// The suite in the image that a start names, where it names one.
    #[must_use]
    pub fn in_image(mut self, image: Option<&str>) -> Self {
        if let Some(image) = image {
            let from = container::From::Image(image.to_owned());
            self.container = Some(match self.container {
                Some(container) => Container { from, ..container },
                None => Container::of(from),
            });
        }
        self
    }

    /// The environment of this suite's processes: `env`, then the chosen `env-for`.
    ///
    /// # Errors
    /// If there is no `env-for` of that name; the message names the nearest.
    pub fn environment(&self, chosen: Option<&str>) -> Result<BTreeMap<String, String>, Error> {
        let mut env = self.env.clone();
        if let Some(name) = chosen {
            let more = self.env_for.get(name).ok_or_else(|| {
                let hint = did_you_mean(name, self.env_for.keys().map(String::as_str));
                Error::Options(format!("the suite {} has no [env-for.{name}]{hint}", self.suite))
            })?;
            env.extend(more.clone());
        }
        Ok(env)
    }

    /// What a worker must offer to run a variant: `[needs]`, a container engine where it runs in an image, and `[needs-for]` of its facets' values.
    #[must_use]
    pub fn needs_of(&self, variant: &Variant) -> BTreeMap<String, String> {
        let mut needs = self.needs.clone();
        if self.container.is_some() {
            needs.insert(container::OFFER.0.to_owned(), container::OFFER.1.to_owned());
        }
        for (pair, more) in &self.needs_for {
            if variant.pairs().contains(pair) {
                needs.extend(more.clone());
            }
        }
        needs
    }

    /// The values of all settings, with the changes of `--set`.
    ///
    /// # Errors
    /// If a change names no setting of this suite.
    pub fn settings_with(&self, changes: &BTreeMap<String, String>) -> Result<BTreeMap<String, String>, Error> {
        let mut settings = self.settings.clone();
        for (name, value) in changes {
            if settings.insert(name.clone(), value.clone()).is_none() {
                let hint = did_you_mean(name, self.settings.keys().map(String::as_str));
                return Err(Error::Options(format!("the suite {} has no setting {name:?}{hint}", self.suite)));
            }
        }
        Ok(settings)
    }
}
