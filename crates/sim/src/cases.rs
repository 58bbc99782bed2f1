//! The cases of simulated files: what a file tells of, and how a store keeps it.

use std::collections::{BTreeMap, BTreeSet};

use kesmo_core::{
    run::{
        ToRun,
        cases::{CaseTally, CaseTold, PastCase},
    },
    time::Span,
    words::{Ended, Outcome},
};

use crate::{random::Random, scenario::Scenario};

/// The first entry of the file that an entry is a part of.
fn file_of(scenario: &Scenario, entry: u32) -> u32 {
    entry - entry.checked_rem(scenario.parts).unwrap_or(0)
}

/// What is known of the cases of a file that is cut, dealt out to its parts: some are gone, and others are not known.
pub(crate) fn known(scenario: &Scenario, entry: u32) -> Vec<Vec<String>> {
    let file = file_of(scenario, entry);
    let mut random = Random::new(scenario.seed ^ (u64::from(file) << 20) ^ 0x5ca1e);
    let mut dealt: Vec<Vec<String>> = vec![Vec::new(); scenario.parts as usize];
    // Of every run alike, and runs have cases of their own: what one knows another need not have.
    for case in told(scenario, 0, file, 0, &ToRun::default()) {
        if !random.chance(0.15) {
            dealt[random.below(u64::from(scenario.parts)) as usize].push(case.title);
        }
    }
    for (part, of) in dealt.iter_mut().enumerate() {
        if of.is_empty() || random.chance(0.1) {
            of.push(format!("gone {part}"));
        }
    }
    dealt
}

/// Whether a file tells of all cases that it is asked for.
pub(crate) fn tells_of_all(scenario: &Scenario, run: usize, entry: u32, to_run: &ToRun) -> bool {
    let told = told(scenario, run, entry, 0, to_run);
    let told: BTreeSet<&str> = told.iter().map(|case| case.title.as_str()).collect();
    to_run.cases.iter().all(|title| told.contains(title.as_str()))
}

/// What a file tells of in an attempt that counts there: a function of the seed, the file and the number of attempts before it.
pub(crate) fn told(scenario: &Scenario, run: usize, entry: u32, before: u16, to_run: &ToRun) -> Vec<CaseTold> {
    let entry = file_of(scenario, entry);
    let mut of_file = Random::new(scenario.seed ^ (u64::from(entry) << 24) ^ ((run as u64) << 52) ^ 0xca5e);
    let count = 1 + of_file.below(8);
    let case = |number: u64| {
        let mut of_case = Random::new(scenario.seed ^ (u64::from(entry) << 24) ^ (number << 12) ^ ((run as u64) << 52));
        let kind = of_case.unit();
        let mut of_attempt = Random::new(of_case.bits() ^ u64::from(before));
        let ended = match kind {
            k if k < 0.02 => Ended::Failed,
            k if k < 0.12 && of_attempt.chance(0.5) => Ended::Failed,
            k if k < 0.16 => Ended::Skipped,
            _ => Ended::Passed,
        };
        CaseTold { title: format!("case {number}"), ended, spent: Span::millis(1), copy: false }
    };
    let runs = |title: &String| to_run.rest || to_run.cases.is_empty() || to_run.cases.contains(title);
    let counts =
        |title: &String| !to_run.aside.contains(title) && (to_run.only.is_empty() || to_run.only.contains(title));
    (0..count).map(case).filter(|case| runs(&case.title) && counts(&case.title)).collect()
}

/// The rows of cases of one run.
#[derive(Default)]
pub(crate) struct Rows(Vec<Row>);

struct Row {
    entry: u32,
    number: u16,
    title: String,
    ended: Ended,
    parked: bool,
    outcome: Option<Outcome>,
}

impl Rows {
    /// Keeps what a file told of.
    ///
    /// # Errors
    /// If some of it is there already, or something before it is missing.
    pub fn add(
        &mut self,
        entry: u32,
        number: u16,
        first: u32,
        cases: impl Iterator<Item = (CaseTold, (bool, Option<Outcome>))>,
    ) -> Result<(), String> {
        let known = self.count(entry, number);
        if known != first as usize {
            return Err(format!("cases of entry {entry} were kept from {first} on, and {known} were there"));
        }
        for (told, (parked, outcome)) in cases {
            let twin = |r: &Row| r.entry == entry && r.number == number && r.title == told.title;
            if self.0.iter().any(twin) {
                return Err(format!("{:?} of entry {entry} was kept twice for attempt {number}", told.title));
            }
            self.0.push(Row { entry, number, title: told.title, ended: told.ended, parked, outcome });
        }
        Ok(())
    }

    /// The titles of which there are rows of an entry.
    pub fn titles(&self, entry: u32) -> BTreeSet<&str> {
        self.0.iter().filter(|r| r.entry == entry).map(|r| r.title.as_str()).collect()
    }

    /// How many cases an attempt of a file told of.
    pub fn count(&self, entry: u32, number: u16) -> usize {
        self.0.iter().filter(|r| r.entry == entry && r.number == number).count()
    }

    /// An attempt was lost.
    pub fn lost(&mut self, entry: u32, number: u16) {
        self.0.retain(|r| r.entry != entry || r.number != number);
    }

    /// What the attempts of a file together say of each of its cases.
    pub fn merged(&self, entry: u32) -> BTreeMap<&str, Outcome> {
        let mut all: BTreeMap<&str, Vec<&Row>> = BTreeMap::new();
        for row in self.0.iter().filter(|r| r.entry == entry) {
            all.entry(&row.title).or_default().push(row);
        }
        let outcome = |rows: &[&Row]| {
            let any = |is: &dyn Fn(&Row) -> bool| rows.iter().any(|r| is(r));
            match (any(&|r| r.parked), any(&|r| r.ended.failing()), any(&|r| r.ended == Ended::Passed)) {
                (true, ..) => Outcome::Parked,
                (_, true, true) => Outcome::Flaky,
                (_, true, false) => Outcome::Failed,
                (_, false, true) => Outcome::Passed,
                _ => Outcome::Skipped,
            }
        };
        all.into_iter().map(|(title, rows)| (title, outcome(&rows))).collect()
    }

    /// Sets outcomes by all attempts of a file, on the last row of each case.
    pub fn settle(&mut self, entry: u32) {
        let merged: BTreeMap<String, Outcome> =
            self.merged(entry).into_iter().map(|(title, outcome)| (title.to_owned(), outcome)).collect();
        let last: BTreeMap<String, u16> =
            self.0.iter().filter(|r| r.entry == entry).fold(BTreeMap::new(), |mut last: BTreeMap<String, u16>, r| {
                let at = last.entry(r.title.clone()).or_default();
                *at = r.number.max(*at);
                last
            });
        for row in self.0.iter_mut().filter(|r| r.entry == entry) {
            row.outcome =
                (last.get(&row.title) == Some(&row.number)).then(|| merged.get(&row.title).copied()).flatten();
        }
    }

    /// How the cases of each file stand, and all.
    pub fn tallies(&self) -> (BTreeMap<u32, CaseTally>, CaseTally) {
        let (mut each, mut all) = (BTreeMap::<u32, CaseTally>::new(), CaseTally::default());
        for (row, outcome) in self.0.iter().filter_map(|r| Some((r, r.outcome?))) {
            each.entry(row.entry).or_default().count(outcome, 1);
            all.count(outcome, 1);
        }
        (each, all)
    }

    /// All rows, as an engine that is built again reads them.
    pub fn past(&self) -> Vec<PastCase> {
        let past = |r: &Row| PastCase {
            entry: r.entry,
            number: r.number,
            title: r.title.clone(),
            ended: r.ended,
            parked: r.parked,
            copy: false,
        };
        let mut all: Vec<PastCase> = self.0.iter().map(past).collect();
        all.sort_by_key(|r| (r.entry, r.number));
        all
    }
}
