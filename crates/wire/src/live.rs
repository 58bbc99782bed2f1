//! What live views send: a snapshot, then changes, as server-sent events with ids.
//!
//! A run's stream has the events `snapshot` ([`RunSnapshot`]), `change` ([`RunChange`]) and, last, `end` ([`RunChange`]). The
//! floor's stream has `snapshot` and `change`, both a [`Floor`]; a change holds only the runs and workers that changed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use kesmo_core::words::{Ended, Outcome};

use crate::api::{Entry, Run, RunSummary, Slot, Worker};

/// Attempts that failed or were flaky, and entries decided without one, that a change tells one by one.
pub const MOST_TOLD: usize = 200;
/// Other attempts that a change tells one by one, spread evenly over all: views count them, and the strip tells of all.
pub const MOST_OTHERS: usize = 25;

/// Slots that are told of a run; how many it has stands in its summary.
pub const MOST_SLOTS: usize = 200;

/// Where a run stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSnapshot {
    pub run: Run,
    /// What its slots do now, at most [`MOST_SLOTS`]: those whose tests began first.
    pub slots: Vec<RunSlot>,
    /// The latest entries that failed or were flaky, newest last; at most 200.
    pub trouble: Vec<Entry>,
    /// Outcomes in the order in which they came, a letter each (see [`letter`]); thinned to at most 2,000.
    pub strip: String,
}

/// A slot that works for a run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSlot {
    pub worker: String,
    #[serde(flatten)]
    pub slot: Slot,
}

/// What changed in a run with one commit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunChange {
    pub summary: RunSummary,
    /// The letters of all outcomes that came: see [`letter`].
    pub strip: String,
    /// Attempts that ended, at most 200 that failed or were flaky, and 25 others: of more some, spread evenly over all of them.
    pub attempts: Vec<AttemptChange>,
    /// Entries that got their outcome without a new attempt, at most 200.
    pub decided: Vec<DecidedChange>,
    /// So many attempts and entries are not told one by one.
    pub left_out: u32,
    pub slots: Vec<RunSlot>,
    /// Remarks that came.
    pub notes: Vec<String>,
}

/// An attempt that ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AttemptChange {
    pub index: u32,
    pub test: String,
    pub variant: String,
    /// Which repetition it is, or which part of its file, from 1; 0 where nothing is repeated or cut.
    #[serde(default)]
    pub repeat: u32,
    /// Into how many parts its file is cut, of which it is one; 0 where it is not.
    #[serde(default, skip_serializing_if = "crate::api::is_none")]
    pub parts: u32,
    pub number: u32,
    pub ended: Ended,
    /// The entry's outcome, where this attempt decided it.
    pub outcome: Option<Outcome>,
    pub spent_us: u64,
    pub message: String,
    pub worker: String,
    pub slot: u32,
    /// When it ended on the worker, in microseconds since 1970.
    pub ended_at_us: i64,
}

/// An entry that got its outcome without a new attempt.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DecidedChange {
    pub index: u32,
    pub test: String,
    pub variant: String,
    pub outcome: Outcome,
}

/// A piece of what an attempt prints. The stream of an entry's output has the events `output` ([`OutputPiece`]), `attempt`
/// ([`OutputEnd`]) with the end of each attempt, and, last, `end` ([`OutputOver`]).
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OutputPiece {
    /// The attempt's number, from 1.
    pub attempt: u32,
    pub text: String,
    /// Something between this and what came before was lost; it is in the log when the attempt has ended.
    pub gap: bool,
}

/// An attempt whose output is followed has ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OutputEnd {
    pub attempt: u32,
    pub ended: Ended,
    pub spent_us: u64,
    pub message: String,
}

/// The entry whose output is followed has its outcome, or its run is over.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OutputOver {
    pub outcome: Option<Outcome>,
}

/// Runs and workers as they are, or those of them that changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Floor {
    pub runs: Vec<RunSummary>,
    /// In a change: all workers whose slots changed.
    pub workers: Vec<Worker>,
    /// Names of workers that went away.
    pub gone: Vec<String>,
}

/// Gathers what happens in a run between two changes, in bounded memory: whoever watches slowly, or not at all, costs
/// nothing more.
#[derive(Debug, Default)]
pub struct Gathered {
    strip: String,
    trouble: Vec<AttemptChange>,
    others: Spread,
    decided: Vec<DecidedChange>,
    notes: Vec<String>,
    left_out: u32,
}

impl Gathered {
    /// Takes an attempt that ended. `make` is called only if it is told one by one.
    pub fn attempt(&mut self, ended: Ended, outcome: Option<Outcome>, make: impl FnOnce() -> AttemptChange) {
        self.strip.extend(outcome.map(letter));
        let bad = ended.failing() || matches!(outcome, Some(Outcome::Flaky | Outcome::Failed));
        match bad {
            true if self.trouble.len() < MOST_TOLD => self.trouble.push(make()),
            true => self.left_out += 1,
            false => self.others.offer(make),
        }
    }

    /// Takes an entry that got its outcome without an attempt.
    pub fn decided(&mut self, outcome: Outcome, make: impl FnOnce() -> DecidedChange) {
        self.strip.push(letter(outcome));
        if self.decided.len() < MOST_TOLD { self.decided.push(make()) } else { self.left_out += 1 }
    }

    /// Takes a remark.
    pub fn note(&mut self, text: String) {
        self.notes.push(text);
    }

    /// The change, and nothing is gathered any more.
    pub fn take(&mut self, summary: RunSummary, slots: Vec<RunSlot>) -> RunChange {
        let Self { strip, trouble, others, decided, notes, left_out } = std::mem::take(self);
        let left_out = left_out + others.offered - others.kept.len() as u32;
        let mut attempts = trouble;
        attempts.extend(others.kept);
        attempts.sort_by_key(|a| a.ended_at_us);
        RunChange { summary, strip, attempts, decided, left_out, slots, notes }
    }
}

/// Some of many attempts, at most [`MOST_OTHERS`], spread evenly over all in the order in which they came: each of them, and once there
/// is no room for more each second, each fourth, and so on.
#[derive(Debug, Default)]
struct Spread {
    kept: Vec<AttemptChange>,
    offered: u32,
    /// One of 2 to the power of this is kept.
    halved: u32,
}

impl Spread {
    fn offer(&mut self, make: impl FnOnce() -> AttemptChange) {
        let is_due = |halved: u32, place: u32| place.is_multiple_of(1 << halved);
        let place = self.offered;
        self.offered += 1;
        if is_due(self.halved, place) && self.kept.len() == MOST_OTHERS {
            self.halved += 1;
            let mut odd = true;
            self.kept.retain(|_| {
                odd = !odd;
                !odd
            });
        }
        if is_due(self.halved, place) {
            self.kept.push(make());
        }
    }
}

/// The letter of an outcome in a strip.
#[must_use]
pub fn letter(outcome: Outcome) -> char {
    match outcome {
        Outcome::Passed => 'p',
        Outcome::Flaky => 'k',
        Outcome::Failed => 'f',
        Outcome::Skipped => 's',
        Outcome::Parked => 'r',
        Outcome::NotRun => 'n',
    }
}

/// Thins a strip to at most `most` letters. A stretch in which something failed, or else was flaky, stays so, so that no
/// failure disappears; any other has the letter that is most frequent in it.
#[must_use]
pub fn thin(strip: &str, most: usize) -> String {
    let letters = strip.as_bytes();
    if letters.len() <= most || most == 0 {
        return strip.to_owned();
    }
    let stretch = |i: usize| &letters[i * letters.len() / most..(i + 1) * letters.len() / most];
    let telling = |stretch: &[u8]| {
        let count = |letter: u8| stretch.iter().filter(|b| **b == letter).count();
        let bad = *b"fk";
        let worst = bad.into_iter().find(|b| stretch.contains(b));
        worst.or_else(|| b"psru".iter().copied().max_by_key(|b| count(*b))).map(char::from)
    };
    (0..most).filter_map(|i| telling(stretch(i))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const SUMMARY: &str = r#"{"name":"gate/1","suite":"gate","number":1,"phase":"running","verdict":null,"reason":"",
        "waiting_for":null,"tally":{"waiting":0,"running":0,"passed":0,"flaky":0,"failed":0,"skipped":0,"parked":0,"not-run":0},
        "stats":{"ended":0,"failing":0,"total_us":0,"shortest_us":0,"longest_us":0},"labels":{},"pool":"main",
        "started_by":"asta","created_at":"2026-11-23T00:00:00Z","began_at":null,"finished_at":null,"left":null,
        "strip":"","slots":0}"#;

    fn attempt(ended: Ended, at: i64) -> AttemptChange {
        AttemptChange {
            index: 0,
            test: "gate/a".into(),
            variant: String::new(),
            repeat: 0,
            parts: 0,
            number: 1,
            ended,
            outcome: None,
            spent_us: 1,
            message: String::new(),
            worker: "heron".into(),
            slot: 0,
            ended_at_us: at,
        }
    }

    #[test]
    fn thinning_keeps_the_worst_of_each_stretch() {
        assert_eq!(thin("ppp", 10), "ppp");
        assert_eq!(thin("ppppfpppkp", 2), "fk");
        assert_eq!(thin("ppspssspss", 2), "ps", "a few skipped ones do not colour all");
        assert_eq!(thin(&"p".repeat(5000), 2000).len(), 2000);
    }

    #[test]
    fn a_change_is_bounded_and_tells_of_every_failure_first() {
        let mut gathered = Gathered::default();
        let thinned = 5000_usize.div_ceil(256);
        for n in 0..5000 {
            gathered.attempt(Ended::Passed, Some(Outcome::Passed), || attempt(Ended::Passed, n));
        }
        for n in 0..30 {
            gathered.attempt(Ended::Failed, Some(Outcome::Failed), || attempt(Ended::Failed, 5000 + n));
        }
        let decided =
            || DecidedChange { index: 0, test: "gate/b".into(), variant: String::new(), outcome: Outcome::NotRun };
        (0..300).for_each(|_| gathered.decided(Outcome::NotRun, decided));
        let change = gathered.take(serde_json::from_str(SUMMARY).unwrap(), Vec::new());
        assert_eq!(change.strip.len(), 5330, "the strip tells of all");
        assert_eq!(change.attempts.iter().filter(|a| a.ended == Ended::Failed).count(), 30, "no failure is left out");
        assert_eq!((change.attempts.len(), change.decided.len()), (30 + thinned, MOST_TOLD));
        assert_eq!(change.left_out as usize, 5000 - thinned + 100);
        let others: Vec<i64> = change.attempts.iter().map(|a| a.ended_at_us).filter(|at| *at < 5000).collect();
        assert!(others.windows(2).all(|two| two[1] - two[0] == 256), "evenly over all that came: {others:?}");
        assert!(gathered.take(serde_json::from_str(SUMMARY).unwrap(), Vec::new()).attempts.is_empty());
    }

    #[test]
    fn as_many_as_may_be_are_told_one_by_one() {
        let told = |count: u32| {
            let mut gathered = Gathered::default();
            (0..count).for_each(|n| gathered.attempt(Ended::Passed, None, || attempt(Ended::Passed, i64::from(n))));
            let change = gathered.take(serde_json::from_str(SUMMARY).unwrap(), Vec::new());
            let told: Vec<i64> = change.attempts.iter().map(|a| a.ended_at_us).collect();
            assert_eq!(told.len() + change.left_out as usize, count as usize);
            told
        };
        for (count, every) in [(0, 1), (25, 1), (26, 2), (50, 2), (51, 4)] {
            assert_eq!(told(count), (0..i64::from(count)).step_by(every).collect::<Vec<_>>());
        }
    }

    #[test]
    fn every_outcome_has_its_letter() {
        let letters: std::collections::BTreeSet<char> = Outcome::ALL.iter().map(|o| letter(*o)).collect();
        assert_eq!(letters.len(), Outcome::ALL.len());
    }
}
