//! Files: what their cases say of them.

use std::collections::{BTreeMap, BTreeSet};

use super::{Engine, State};
use crate::{
    run::{
        cases::{CaseTally, CaseTold, FileCases, MOST_CASES, PastCase, Standing},
        terms::{BatchId, Effect, Tally, ToRun},
    },
    words::{Ended, Outcome},
};

impl Engine {
    /// Takes up what files told of cases before the engine was built again: how the cases of each file stand, and the rows of
    /// files that have no outcome yet, in the order in which they came.
    #[must_use]
    pub fn with_cases(mut self, tallies: &BTreeMap<u32, CaseTally>, rows: &[PastCase]) -> Self {
        for (entry, tally) in tallies {
            self.any_result |= tally.total() > 0;
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

    /// What an attempt of one entry is to run of its file.
    pub(super) fn to_run(&self, index: u32) -> ToRun {
        let own = self.plan.cases_of(index).to_vec();
        let retry = self.entries[index as usize].failing > 0;
        let file = self.cases.get(&index).filter(|file| retry && self.policy.rerun && !file.file_failed());
        let failed = file.map(FileCases::to_rerun).unwrap_or_default();
        let part = self.plan.entries[index as usize].part;
        let (aside, only) = match part {
            // What nobody knows of, the part counts that runs all the rest.
            Some(part) => (self.plan.aside_of(index).to_vec(), if part.only { own.clone() } else { Vec::new() }),
            None => (Vec::new(), Vec::new()),
        };
        let rest = part.is_some_and(|part| part.rest);
        match part {
            _ if !failed.is_empty() => ToRun { cases: failed, rest: false, aside, only },
            // Its cases are others than were known: which, only all of the file shows.
            Some(_) if retry && self.misses(index) => ToRun { cases: Vec::new(), rest: false, aside, only },
            _ => ToRun { cases: own, rest, aside, only },
        }
    }

    /// Whether a part of a file was to run cases that no attempt of it has told of. One failing attempt is not held against it as
    /// long as that is so: the cases may be gone, or have other titles now, and then it failed by what was known of it.
    pub(super) fn misses(&self, index: u32) -> bool {
        let file = self.cases.get(&index);
        let told = |title: &String| file.is_some_and(|file| file.has_told(title));
        self.plan.entries[index as usize].part.is_some() && !self.plan.cases_of(index).iter().all(told)
    }

    /// How often an entry has failed that counts.
    pub(super) fn failing(&self, index: u32) -> u32 {
        let failing = u32::from(self.entries[index as usize].failing);
        failing.saturating_sub(u32::from(self.misses(index)))
    }

    /// Of how many of its files there is at least one entry of which that is so, and how many there are.
    pub(super) fn files_where(&self, is: impl Fn(State) -> bool) -> (u32, u32) {
        let mut of_parts = BTreeSet::new();
        let (mut found, mut all) = (0, 0);
        for (planned, entry) in self.plan.entries.iter().zip(&self.entries) {
            all += u32::from(planned.part.is_none() || planned.repeat == 1);
            if is(entry.state) {
                let first = planned.part.is_none() || of_parts.insert((planned.name.as_str(), planned.variant));
                found += u32::from(first);
            }
        }
        (found, all)
    }

    /// A count of entries, with each file that is cut counted once.
    pub(super) fn with_whole_files(&self, mut tally: Tally) -> Tally {
        for (first, parts) in &self.cut {
            let of_file = &self.entries[*first as usize..(*first + *parts) as usize];
            let (mut waiting, mut running) = (0, 0);
            let mut outcome = None;
            for (at, entry) in of_file.iter().enumerate() {
                match entry.state {
                    State::Done(of) => {
                        tally.uncount(of);
                        outcome = if at == 0 { Some(of) } else { Outcome::of_parts(outcome, Some(of)) };
                    }
                    State::Held { began: Some(_), .. } => running += 1,
                    State::Held { .. } | State::Waiting => waiting += 1,
                }
            }
            tally.waiting -= waiting;
            tally.running -= running;
            match outcome.filter(|_| waiting + running == 0) {
                Some(outcome) => tally.count(outcome),
                None if waiting == *parts => tally.waiting += 1,
                None => tally.running += 1,
            }
        }
        tally
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
        // Its process told something, however it ends. A case of whose end nothing was told is no result.
        if cases.iter().any(|case| case.ended != Ended::Crashed) {
            self.any_result = true;
            self.batches.get_mut(&batch).into_iter().for_each(|batch| batch.fruitful = true);
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
