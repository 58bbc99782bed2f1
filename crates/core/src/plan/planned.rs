//! What is planned: the entries of a run, and what goes for them.

use serde::{Deserialize, Serialize};

use super::{
    covering::CoverSets,
    only::Only,
    options::{RunOptions, choice_said},
};
use crate::{
    name::TestName,
    record::Record,
    suite::{Pattern, Variant},
    time::Span,
};

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

impl Plan {
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

    pub(super) fn case_set(&mut self, titles: Vec<String>) -> u32 {
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
}
