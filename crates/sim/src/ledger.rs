//! The store of one simulated run, which checks what the engine promises with every row.

use std::collections::{BTreeMap, BTreeSet};

use kesmo_core::{
    measure::{Gathered, Part},
    plan::Plan,
    run::{AttemptKept, BatchId, Grant, MOST_LOST_IN_A_ROW, PastAttempt, PastBatch},
    time::Timestamp,
    words::{Ended, Outcome},
};

use crate::{cases::Rows, scenario::Scenario};

/// What a service would have in PostgreSQL of a run.
pub(crate) struct Ledger {
    pub attempts: Vec<AttemptKept>,
    pub decided: BTreeMap<u32, Outcome>,
    pub batches: BTreeMap<BatchId, PastBatch>,
    /// Batches whose processes stay and are fed.
    streams: BTreeSet<BatchId>,
    /// What went wrong beside the entries.
    pub wrongs: Vec<String>,
    pub cases: Rows,
    /// What batches measured, by batch and the part's number.
    measured: BTreeMap<(BatchId, u32), Part>,
}

impl Ledger {
    pub fn new() -> Self {
        Self {
            attempts: Vec::new(),
            decided: BTreeMap::new(),
            batches: BTreeMap::new(),
            streams: BTreeSet::new(),
            wrongs: Vec::new(),
            cases: Rows::default(),
            measured: BTreeMap::new(),
        }
    }

    /// The attempts as a service reads them back.
    pub fn past(&self) -> Vec<PastAttempt> {
        let past = |kept: &AttemptKept| PastAttempt {
            entry: kept.entry,
            number: kept.number,
            batch: kept.batch,
            worker: kept.worker,
            ended: kept.ended,
            spent: kept.spent,
            decided: kept.decided.or_else(|| self.decided.get(&kept.entry).copied()),
        };
        self.attempts.iter().map(past).collect()
    }

    /// Keeps what a batch measured.
    ///
    /// # Errors
    /// If it is kept already: it would count twice.
    pub fn measured(&mut self, batch: BatchId, part: Part) -> Result<(), String> {
        let number = part.number;
        match self.measured.insert((batch, number), part) {
            None => Ok(()),
            Some(_) => Err(format!("part {number} of what batch {batch} measured is kept twice")),
        }
    }

    /// How many parts of what a batch measured are kept, and how many of all.
    pub fn parts_of(&self, batch: BatchId) -> u32 {
        self.measured.keys().filter(|(of, _)| *of == batch).count() as u32
    }

    pub fn parts(&self) -> u64 {
        self.measured.len() as u64
    }

    /// What was measured, as a service reads it back.
    pub fn gathered(&self) -> Gathered {
        Gathered::of(self.measured.iter().map(|((batch, _), part)| (batch.0, part.clone())))
    }

    /// Keeps a batch.
    ///
    /// # Errors
    /// The promise that it breaks.
    pub fn grant(&mut self, plan: &Plan, scenario: &Scenario, grant: &Grant, now: Timestamp) -> Result<(), String> {
        self.check_overlaps(plan, grant)?;
        let open = self.batches.values().filter(|b| b.open).count() as u32;
        if scenario.shards.is_some_and(|most| open >= most) {
            return Err(format!("{} slots are in use, more than --shards", open + 1));
        }
        let planned = |e: &u32| &plan.entries[*e as usize];
        let first = planned(&grant.entries[0]);
        if !scenario.takes(grant.worker.0, first.variant) {
            return Err(format!(
                "worker {} was given the variant {}, which it does not offer",
                grant.worker.0, first.variant
            ));
        }
        for entry in &grant.entries {
            if self.decided.contains_key(entry) {
                return Err(format!("entry {entry} was granted after its outcome"));
            }
            if planned(entry).parked.is_some() && !scenario.run_parked {
                return Err(format!("entry {entry} is parked and was granted"));
            }
            if planned(entry).variant != first.variant {
                return Err(format!("batch {} has two variants", grant.batch));
            }
            let again = scenario.rerun && self.failed_before(*entry) || planned(entry).part.is_some();
            if !(grant.to_run.cases.is_empty() || again) {
                return Err(format!("entry {entry} is to run some of its cases for the first time"));
            }
            if self.failed_before(*entry) && grant.entries.len() > 1 {
                return Err(format!("the retry of entry {entry} shares its process"));
            }
        }
        self.check_group(plan, grant)?;
        if grant.more {
            self.streams.insert(grant.batch);
        }
        let row = PastBatch {
            batch: grant.batch,
            worker: grant.worker,
            slot: grant.slot,
            entries: grant.entries.clone(),
            granted_at: now,
            open: true,
        };
        match self.batches.insert(grant.batch, row) {
            Some(_) => Err(format!("batch {} was granted twice", grant.batch)),
            None => Ok(()),
        }
    }

    /// A sender is let through: every other of its test has a slot then, or its outcome.
    ///
    /// # Errors
    /// If one has neither.
    pub fn all_begin(&self, plan: &Plan, batch: BatchId) -> Result<(), String> {
        let row = self.batches.get(&batch).filter(|b| b.open).ok_or("a batch that is not open was let through")?;
        let of = &plan.entries[row.entries[0] as usize];
        let held = |entry: u32| {
            self.batches.values().any(|b| b.open && b.entries.contains(&entry) && !self.settled_in(entry, b.batch))
        };
        let alike = (0..plan.entries.len() as u32).filter(|e| {
            let planned = &plan.entries[*e as usize];
            planned.name == of.name && planned.variant == of.variant
        });
        match alike.into_iter().find(|entry| !self.decided.contains_key(entry) && !held(*entry)) {
            Some(entry) => Err(format!("a sender of {} began while entry {entry} had no slot", of.name)),
            None => Ok(()),
        }
    }

    /// Keeps what a batch's process was fed.
    ///
    /// # Errors
    /// The promise that it breaks.
    pub fn fed(&mut self, plan: &Plan, batch: BatchId, entries: &[u32]) -> Result<(), String> {
        let held = |entry: u32, b: &PastBatch| b.open && b.entries.contains(&entry) && !self.settled_in(entry, b.batch);
        let row = self.batches.get(&batch).filter(|b| b.open).ok_or("a batch that is not open was fed")?;
        let first = &plan.entries[row.entries[0] as usize];
        for entry in entries {
            let planned = &plan.entries[*entry as usize];
            if row.entries.contains(entry) {
                continue;
            }
            if self.decided.contains_key(entry) {
                return Err(format!("entry {entry} was fed after its outcome"));
            }
            if planned.variant != first.variant {
                return Err(format!("entry {entry} was fed to a process that is not for it"));
            }
            if self.failed_before(*entry) {
                return Err(format!("the retry of entry {entry} shares its process"));
            }
            if let Some(other) = self.batches.values().find(|b| held(*entry, b)) {
                return Err(format!("entry {entry} was fed while batch {} has it", other.batch));
            }
            let wanted = claims(plan, &[*entry]);
            let others = self.batches.values().filter(|b| b.open && b.batch != batch);
            if let Some((other, claim)) = others
                .filter_map(|b| Some((b.batch, (*self.claims_in(plan, b).intersection(&wanted).next()?).to_owned())))
                .next()
            {
                return Err(format!(
                    "entry {entry} was fed to batch {batch} while batch {other} holds its claim {claim}"
                ));
            }
        }
        if let Some(row) = self.batches.get_mut(&batch) {
            let new: Vec<u32> = entries.iter().copied().filter(|e| !row.entries.contains(e)).collect();
            row.entries.extend(new);
        }
        Ok(())
    }

    fn check_overlaps(&self, plan: &Plan, grant: &Grant) -> Result<(), String> {
        let wanted = claims(plan, &grant.entries);
        for other in self.batches.values().filter(|b| b.open) {
            if let Some(claim) = self.claims_in(plan, other).intersection(&wanted).next() {
                return Err(format!("batches {} and {} overlap in the claim {claim}", other.batch, grant.batch));
            }
            if other.worker == grant.worker && other.slot == grant.slot {
                return Err(format!("slot {} of worker {} has two batches", grant.slot, grant.worker.0));
            }
            let held = |e: &&u32| other.entries.contains(e) && !self.settled_in(**e, other.batch);
            if let Some(entry) = grant.entries.iter().find(held) {
                return Err(format!("entry {entry} is in two batches at once"));
            }
        }
        Ok(())
    }

    /// The claims that open batches hold.
    pub fn held_claims<'p>(&self, plan: &'p Plan) -> BTreeSet<&'p str> {
        self.batches.values().filter(|b| b.open).flat_map(|b| self.claims_in(plan, b)).collect()
    }

    /// The claims that an open batch holds: all of its entries', and of a process that stays those of the tests that it is not
    /// through with, or that it ended with.
    fn claims_in<'p>(&self, plan: &'p Plan, batch: &PastBatch) -> BTreeSet<&'p str> {
        if !self.streams.contains(&batch.batch) {
            return claims(plan, &batch.entries);
        }
        let through = |e: &&u32| {
            let ended_it = |ended: Ended| matches!(ended, Ended::TimedOut | Ended::Crashed);
            self.attempts.iter().any(|a| a.entry == **e && a.batch == batch.batch && !ended_it(a.ended))
        };
        let holding: Vec<u32> = batch.entries.iter().filter(|e| !through(e)).copied().collect();
        claims(plan, &holding)
    }

    fn settled_in(&self, entry: u32, batch: BatchId) -> bool {
        self.attempts.iter().any(|a| a.entry == entry && a.batch == batch)
    }

    fn failed_before(&self, entry: u32) -> bool {
        self.attempts.iter().any(|a| a.entry == entry && a.ended.failing())
    }

    /// Whether it failed before, where that counts: one failing attempt of a part does not, as long as cases that it was to run
    /// were never told of.
    fn has_failed(&self, entry: u32, plan: &Plan) -> bool {
        let titles = self.cases.titles(entry);
        let misses = !plan.cases_of(entry).iter().all(|title| titles.contains(title.as_str()));
        let failing = self.attempts.iter().filter(|a| a.entry == entry && a.ended.failing()).count();
        failing > usize::from(misses)
    }

    fn check_group(&self, plan: &Plan, grant: &Grant) -> Result<(), String> {
        let Some(group) = plan.entries[grant.entries[0] as usize].group else {
            return Ok(());
        };
        // A process that stays may be fed others behind the group.
        let of_group = |e: &&u32| !grant.more || plan.entries[**e as usize].group == Some(group);
        if !grant.entries.iter().filter(of_group).is_sorted() {
            return Err(format!("group {group} runs out of order"));
        }
        if self.failed_before(grant.entries[0]) {
            return Ok(());
        }
        let missing = (0..plan.entries.len() as u32)
            .filter(|e| plan.entries[*e as usize].group == Some(group))
            .find(|e| !self.decided.contains_key(e) && !self.failed_before(*e) && !grant.entries.contains(e));
        match missing {
            Some(entry) => Err(format!("entry {entry} was parted from its group {group}")),
            None => Ok(()),
        }
    }

    /// Keeps that a batch has only these entries left.
    pub fn gave_back(&mut self, batch: BatchId, left: Vec<u32>) {
        if let Some(row) = self.batches.get_mut(&batch) {
            row.entries = left;
        }
    }

    /// Keeps an attempt.
    ///
    /// # Errors
    /// The promise that it breaks.
    pub fn attempt(&mut self, plan: &Plan, scenario: &Scenario, attempt: AttemptKept) -> Result<(), String> {
        let entry = attempt.entry;
        let earlier: Vec<&AttemptKept> = self.attempts.iter().filter(|a| a.entry == entry).collect();
        if usize::from(attempt.number) != earlier.len() + 1 {
            return Err(format!("attempt {} of entry {entry} follows {} others", attempt.number, earlier.len()));
        }
        if earlier.iter().any(|a| a.batch == attempt.batch) {
            return Err(format!("entry {entry} was counted twice in batch {}", attempt.batch));
        }
        let counted = earlier.iter().filter(|a| a.ended != Ended::Lost).count();
        // A part of a file may be run once more if what was known of it was not true.
        let more = usize::from(plan.entries[entry as usize].part.is_some());
        if counted > usize::from(scenario.retries) + more && attempt.ended != Ended::Lost {
            return Err(format!("entry {entry} had more attempts than its retries allow"));
        }
        if let Some(outcome) = attempt.decided {
            let failed = self.has_failed(entry, plan);
            let parked = plan.entries[entry as usize].parked.is_some();
            let right = match attempt.ended {
                _ if scenario.files && !parked => self.file_is_right(&attempt, failed, outcome),
                _ if parked => outcome == Outcome::Parked,
                Ended::Passed => outcome == if failed { Outcome::Flaky } else { Outcome::Passed },
                Ended::Skipped => outcome == if failed { Outcome::Failed } else { Outcome::Skipped },
                Ended::Lost => {
                    let row = self.attempts.iter().rev().filter(|a| a.entry == entry);
                    let in_a_row = row.take_while(|a| a.ended == Ended::Lost).count() + 1;
                    outcome == Outcome::Failed && in_a_row >= usize::from(MOST_LOST_IN_A_ROW)
                }
                _ => outcome == Outcome::Failed,
            };
            if !right {
                return Err(format!("entry {entry} was called {outcome} after an attempt that {}", attempt.ended));
            }
            self.decide(entry, outcome)?;
        }
        self.attempts.push(attempt);
        Ok(())
    }

    /// Whether an outcome is what the cases of a file and its own attempts say.
    fn file_is_right(&self, attempt: &AttemptKept, failed_before: bool, outcome: Outcome) -> bool {
        let merged = self.cases.merged(attempt.entry);
        let any = |of: Outcome| merged.values().any(|o| *o == of);
        match outcome {
            Outcome::Failed => any(Outcome::Failed) || attempt.ended.failing() || attempt.ended == Ended::Lost,
            Outcome::Flaky => !any(Outcome::Failed) && (failed_before || any(Outcome::Flaky)),
            Outcome::Passed => !any(Outcome::Failed) && !any(Outcome::Flaky) && !failed_before,
            Outcome::Skipped => merged.values().all(|o| *o == Outcome::Skipped),
            Outcome::Parked | Outcome::NotRun => false,
        }
    }

    /// The outcomes of all entries; of files that are cut what their parts come to.
    pub fn of_files(&self, scenario: &Scenario) -> Vec<Outcome> {
        let all: Vec<Outcome> = self.decided.values().copied().collect();
        let file = |parts: &[Outcome]| parts.iter().copied().map(Some).reduce(Outcome::of_parts).flatten();
        all.chunks((scenario.parts as usize).max(1)).filter_map(file).collect()
    }

    /// No case is told of by two parts of its file, where the last part runs all that is new.
    ///
    /// # Errors
    /// If one is.
    pub fn cases_are_apart(&self, plan: &Plan, scenario: &Scenario) -> Result<(), String> {
        if scenario.parts == 0 || !scenario.rest {
            return Ok(());
        }
        for first in (0..plan.entries.len() as u32).step_by(scenario.parts as usize) {
            let mut seen = BTreeSet::new();
            for entry in first..first + scenario.parts {
                if let Some(twice) = self.cases.titles(entry).into_iter().find(|title| !seen.insert(*title)) {
                    return Err(format!("{twice:?} counts in entry {entry} and in another part of its file"));
                }
            }
        }
        Ok(())
    }

    /// Keeps an outcome.
    ///
    /// # Errors
    /// If the entry has one already.
    pub fn decide(&mut self, entry: u32, outcome: Outcome) -> Result<(), String> {
        match self.decided.insert(entry, outcome) {
            Some(earlier) => Err(format!("entry {entry} has two outcomes, {earlier} and {outcome}")),
            None => Ok(()),
        }
    }

    /// Keeps the end of a batch.
    ///
    /// # Errors
    /// If it is not there, or ended before.
    pub fn over(&mut self, batch: BatchId) -> Result<(), String> {
        let row = self.batches.get_mut(&batch).ok_or("a batch ended that was never granted")?;
        if std::mem::replace(&mut row.open, false) { Ok(()) } else { Err(format!("batch {batch} ended twice")) }
    }
}

fn claims<'p>(plan: &'p Plan, entries: &[u32]) -> BTreeSet<&'p str> {
    let of = |e: &u32| &plan.claim_sets[plan.entries[*e as usize].claims as usize];
    entries.iter().flat_map(of).map(String::as_str).collect()
}
