//! Files: what their cases say of them.

use std::collections::BTreeMap;

use super::{Engine, State};
use crate::{
    run::{
        cases::{CaseTally, CaseTold, FileCases, MOST_CASES, PastCase, Standing},
        terms::{BatchId, Effect},
    },
    words::Ended,
};

impl Engine {
    /// Takes up what files told of cases before the engine was built again: how the cases of each file stand, and the rows of
    /// files that have no outcome yet, in the order in which they came.
    #[must_use]
    pub fn with_cases(mut self, tallies: &BTreeMap<u32, CaseTally>, rows: &[PastCase]) -> Self {
        for (entry, tally) in tallies {
            self.stand_cases(*entry, *tally);
        }
        let open = |row: &&PastCase| {
            self.entries.get(row.entry as usize).is_some_and(|entry| !matches!(entry.state, State::Done(_)))
        };
        let rows: Vec<&PastCase> = rows.iter().filter(open).collect();
        let counted = |row: &PastCase| row.number <= self.entries[row.entry as usize].attempts;
        for row in rows.iter().filter(|row| counted(row)) {
            self.cases.entry(row.entry).or_default().take_up(row, true);
        }
        self.cases.values_mut().for_each(FileCases::taken_up);
        for row in rows.iter().filter(|row| !counted(row)) {
            self.cases.entry(row.entry).or_default().take_up(row, false);
        }
        self
    }

    /// How the cases of all files stand; those of an attempt that runs count as they come, if it is a file's first.
    #[must_use]
    pub fn case_tally(&self) -> CaseTally {
        self.case_tally
    }

    /// How the cases of a file stand.
    #[must_use]
    pub fn cases_of(&self, index: u32) -> CaseTally {
        self.cases_of.get(index as usize).copied().unwrap_or_default()
    }

    /// The cases of a file stand like this now.
    pub(super) fn stand_cases(&mut self, index: u32, tally: CaseTally) {
        if let Some(old) = self.cases_of.get_mut(index as usize) {
            self.case_tally.replace(old, &tally);
            *old = tally;
        }
    }

    /// How many cases an entry has told of in the attempt that a batch makes, if it is that batch's.
    pub(super) fn told(&self, batch: BatchId, index: u32) -> Option<u32> {
        let held = (index as usize) < self.entries.len() && self.held_by(index, batch);
        held.then(|| self.cases.get(&index).map_or(0, FileCases::told))
    }

    /// A file told of cases. What came before is passed over, so that a message may come twice.
    pub(super) fn take_cases(
        &mut self,
        batch: BatchId,
        index: u32,
        first: u32,
        cases: &[CaseTold],
        effects: &mut Vec<Effect>,
    ) {
        let Some(told) = self.told(batch, index).filter(|_| self.policy.files) else { return };
        if first > told || told.saturating_add(cases.len() as u32) > MOST_CASES {
            // The attempt's end says how many there were, and shows that some are missing.
            return;
        }
        let skip = (told - first).min(cases.len() as u32);
        if skip as usize == cases.len() {
            return;
        }
        let file_parked = self.plan.entries[index as usize].parked.is_some();
        let file = self.cases.entry(index).or_default();
        let at_once = file.is_first();
        let mut tally = self.cases_of[index as usize];
        let mut outcomes = Vec::with_capacity(cases.len() - skip as usize);
        for case in &cases[skip as usize..] {
            let parked = file_parked || self.plan.park_of_case(index, &case.title).is_some();
            let outcome = file.take(case, parked);
            if at_once {
                tally.count(outcome, 1);
            }
            outcomes.push((parked, at_once.then_some(outcome)));
        }
        let number = self.entries[index as usize].attempts + 1;
        self.stand_cases(index, tally);
        effects.push(Effect::Cases { entry: index, number, first: told, skip, outcomes });
    }

    /// A file goes back without an attempt: what it told of cases does not count.
    pub(super) fn forget_told(&mut self, index: u32, effects: &mut Vec<Effect>) {
        let Some(file) = self.cases.get_mut(&index).filter(|file| file.told() > 0) else { return };
        file.forget();
        let (tally, several) = (file.tally(), !file.is_first());
        let number = self.entries[index as usize].attempts + 1;
        self.stand_cases(index, tally);
        effects.push(Effect::CasesLost { entry: index, number });
        if several {
            effects.push(Effect::CasesSettled { entry: index });
        }
    }

    /// An attempt of a file ends: tells how it ended, its cases considered, and how they stand over all attempts.
    pub(super) fn end_file(&mut self, index: u32, own: Ended, effects: &mut Vec<Effect>) -> (Ended, Option<Standing>) {
        if own == Ended::Lost {
            self.forget_told(index, effects);
            return (own, None);
        }
        let Some(file) = self.cases.get_mut(&index) else { return (own, None) };
        let several = !file.is_first();
        let standing = file.settle(own.failing());
        let cases = standing.cases;
        self.stand_cases(index, cases);
        if several {
            effects.push(Effect::CasesSettled { entry: index });
        }
        let ended = if own.failing() {
            own
        } else if standing.failed_now {
            Ended::Failed
        } else if cases.skipped > 0 && cases.skipped == cases.total() {
            Ended::Skipped
        } else {
            own
        };
        (ended, Some(standing))
    }
}
