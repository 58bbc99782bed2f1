//! What is simulated, and how it went.

use std::collections::BTreeMap;

use kesmo_core::{
    time::Span,
    words::{Outcome, Verdict},
};

use crate::random::Random;

/// How likely things go wrong. Likelihoods are for each message, commit or batch.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Faults {
    /// A worker is killed while it reports (and another comes under its name).
    pub kill_worker: f64,
    /// A link is cut for a while; the worker goes on.
    pub cut_link: f64,
    /// The service is killed before a commit and started again.
    pub kill_service: f64,
    /// An attempt's process dies under it.
    pub crash: f64,
    /// A process ends badly after its last test.
    pub bad_end: f64,
    /// Somebody lies: about batches that others hold, or that nobody does, and about entries that are not there.
    pub lie: f64,
}

/// How attempts end.
#[derive(Debug, Clone, Copy)]
pub struct Outcomes {
    /// An attempt of a flaky test fails.
    pub flaky: f64,
    /// The share of tests that are flaky, and of those that always fail.
    pub flaky_tests: f64,
    pub broken_tests: f64,
}

/// Simulated runs of one shape, at once on one fleet.
#[derive(Debug, Clone)]
pub struct Scenario {
    pub seed: u64,
    /// How many runs share the fleet; they differ in their outcomes and priorities.
    pub runs: u32,
    /// How many variants the entries are dealt out to; every third worker offers only what the first needs.
    pub variants: u16,
    /// Every so many entries are parked; 0 for none.
    pub park_every: usize,
    pub run_parked: bool,
    pub shuffle: bool,
    /// What each entry really takes.
    pub durations: Vec<Span>,
    /// What is expected of each, if anything.
    pub expected: Vec<Option<Span>>,
    pub workers: u32,
    pub slots_each: u16,
    /// What starting a process costs.
    pub start_cost: Span,
    /// What earlier runs found starting to cost; none: just that.
    pub start_known: Option<Span>,
    /// So many processes can start at once without hindering each other; 0: any number.
    pub cores: u32,
    /// The first test of a process is told with the start in its time, as where tests are told of as they end.
    pub hidden_starts: bool,
    /// What a message takes each way.
    pub latency: Span,
    pub retries: u8,
    pub other_worker: bool,
    pub give_up_after: Option<u32>,
    pub shards: Option<u32>,
    /// Every so many entries form a group of that size; 0 for none.
    pub group_size: usize,
    /// Every so many entries hold one of two claims; 0 for none.
    pub claim_every: usize,
    pub outcomes: Outcomes,
    pub faults: Faults,
    /// The entries are files, which tell of cases.
    pub files: bool,
    /// Some cases of a file can be run alone.
    pub rerun: bool,
    /// Every file is cut into so many parts, each of which is an entry; 0: none is. What is known of its cases is not all true.
    pub parts: u32,
    /// The last part of a file runs all that no other does.
    pub rest: bool,
    /// Processes stay, and are fed tests one by one.
    pub fed: bool,
    /// Entries run so many at once, as the senders of one load; 0: each by itself.
    pub senders: u32,
}

impl Scenario {
    /// Whether a worker offers what a variant needs.
    pub(crate) fn takes(&self, worker: u32, variant: u16) -> bool {
        variant == 0 || worker % 3 != 2
    }
}

impl Default for Scenario {
    fn default() -> Self {
        Self {
            seed: 0,
            runs: 1,
            variants: 1,
            park_every: 0,
            run_parked: false,
            shuffle: false,
            durations: Vec::new(),
            expected: Vec::new(),
            workers: 1,
            slots_each: 1,
            start_cost: Span::ZERO,
            start_known: None,
            cores: 0,
            hidden_starts: false,
            latency: Span::millis(1),
            retries: 0,
            other_worker: false,
            give_up_after: None,
            shards: None,
            group_size: 0,
            claim_every: 0,
            outcomes: Outcomes { flaky: 0.0, flaky_tests: 0.0, broken_tests: 0.0 },
            faults: Faults::default(),
            files: false,
            rerun: false,
            parts: 0,
            rest: false,
            fed: false,
            senders: 0,
        }
    }
}

/// How simulated runs went.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// The verdict of the first run.
    pub verdict: Verdict,
    /// From the first grant to the last verdict.
    pub makespan: Span,
    /// Batches that were asked to give back what they had not begun.
    pub asked_back: usize,
    pub attempts: usize,
    pub lost: usize,
    pub batches: usize,
    pub restarts: usize,
    pub inputs: usize,
    pub outcomes: BTreeMap<Outcome, usize>,
}

/// A scenario of everything that runs may ask for, drawn from a seed, without faults.
#[must_use]
pub fn scenario(seed: u64, entries: usize) -> Scenario {
    let mut random = Random::new(seed);
    let durations: Vec<Span> = (0..entries).map(|_| Span::millis(5 + random.below(800))).collect();
    let known = random.chance(0.5);
    Scenario {
        seed,
        expected: durations.iter().map(|d| known.then_some(*d)).collect(),
        durations,
        workers: 1 + random.below(4) as u32,
        slots_each: 1 + random.below(4) as u16,
        start_cost: Span::millis(20),
        start_known: None,
        cores: if random.chance(0.3) { 2 } else { 0 },
        hidden_starts: random.chance(0.3),
        latency: Span::millis(1),
        retries: random.below(4) as u8,
        other_worker: random.chance(0.5),
        give_up_after: random.chance(0.3).then_some(20),
        shards: random.chance(0.3).then_some(2),
        group_size: if random.chance(0.5) { 4 } else { 0 },
        claim_every: if random.chance(0.5) { 5 } else { 0 },
        outcomes: Outcomes { flaky: 0.5, flaky_tests: 0.2, broken_tests: 0.05 },
        runs: 1 + random.below(3) as u32,
        variants: 1 + random.below(2) as u16,
        park_every: if random.chance(0.3) { 7 } else { 0 },
        run_parked: random.chance(0.5),
        shuffle: random.chance(0.3),
        faults: Faults::default(),
        files: random.chance(0.4),
        rerun: random.chance(0.6),
        parts: 0,
        rest: false,
        fed: random.chance(0.3),
        senders: 0,
    }
}

/// Files that are cut, all else as in a scenario of that seed.
#[must_use]
pub fn parts(seed: u64) -> Scenario {
    let mut random = Random::new(seed ^ 0x0ca5_e0f9);
    let parts = 2 + random.below(3) as u32;
    let of = anything(seed);
    let whole = of.durations.len() / parts as usize * parts as usize;
    let (durations, expected) = (of.durations[..whole].to_vec(), of.expected[..whole].to_vec());
    let alone =
        Scenario { durations, expected, files: true, rerun: true, fed: false, group_size: 0, claim_every: 0, ..of };
    Scenario { parts, rest: random.chance(0.7), park_every: 0, ..alone }
}

/// The same with faults of all kinds.
#[must_use]
pub fn anything(seed: u64) -> Scenario {
    let faults = Faults { kill_worker: 0.01, cut_link: 0.03, crash: 0.02, kill_service: 0.02, bad_end: 0.02, lie: 0.3 };
    Scenario { faults, ..scenario(seed, 30) }
}
