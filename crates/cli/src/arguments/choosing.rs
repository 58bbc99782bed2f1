//! Options that several commands share: which tests, how they run, where, and what is shown meanwhile.

use std::{path::PathBuf, time::Duration};

use super::values::{duration, integer, pair, pairs, priority};
use clap::Args;
use kesmo_core::plan::{Priority, RunOptions};
use kesmo_worker::ContainerEngine;

/// Where a run takes place and of what.
#[derive(Debug, Args, Default)]
pub struct Place {
    /// The pool to run in
    #[arg(long, value_name = "POOL", help_heading = "How they run")]
    pub pool: Option<String>,
    /// In a pool that starts machines: as many as it takes to be over within this time
    #[arg(long, value_name = "TIME", value_parser = duration, help_heading = "How they run")]
    pub within: Option<Duration>,
    /// In a pool that starts machines: slot-time that it may cost, like 30m; fewer are started so that it does
    #[arg(long, value_name = "TIME", value_parser = duration, help_heading = "How they run")]
    pub budget: Option<Duration>,
    /// The branch to run, of a suite from version control
    #[arg(long, value_name = "BRANCH", help_heading = "Which tests")]
    pub branch: Option<String>,
    /// Exactly this commit, all its digits
    #[arg(long, value_name = "COMMIT", help_heading = "Which tests")]
    pub commit: Option<String>,
}

#[derive(Debug, Args)]
pub struct Folder {
    /// A folder with a kesmo.toml
    #[arg(default_value = ".")]
    pub folder: PathBuf,
}

#[derive(Debug, Args)]
pub struct Named {
    pub name: String,
}

/// Options that mean the same wherever tests are chosen.
#[derive(Debug, Args, Default)]
pub struct Choosing {
    /// Only tests that match: a glob on the name, tag:WORD or regex:REGEX (repeatable)
    #[arg(long, value_name = "PATTERN", help_heading = "Which tests")]
    pub pick: Vec<String>,
    /// Not the tests that match; a drop wins over a pick (repeatable)
    #[arg(long, value_name = "PATTERN", help_heading = "Which tests")]
    pub drop: Vec<String>,
    /// Only this value of a facet (repeatable)
    #[arg(long, value_name = "FACET=VALUE", help_heading = "Which tests")]
    pub variant: Vec<String>,
    /// Change a setting of the suite (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair, help_heading = "How they run")]
    pub set: Vec<(String, String)>,
    /// Use [env-for.NAME] of the suite file
    #[arg(long, value_name = "NAME", help_heading = "How they run")]
    pub env: Option<String>,
    /// Run in this image, instead of the suite's or of none
    #[arg(long, value_name = "IMAGE", help_heading = "How they run")]
    pub image: Option<String>,
    /// Let it reach the private address of that name, which `kesmo reach` offers (repeatable)
    #[arg(long, value_name = "NAME", help_heading = "How they run")]
    pub reach: Vec<String>,
}

/// Where suites that run in images do.
#[derive(Debug, Args, Default)]
pub struct EngineAt {
    /// The socket of the container engine, unix:///PATH, or none [else: the first that answers where engines usually listen]
    #[arg(long, value_name = "ADDRESS", env = "KESMO_ENGINE")]
    pub engine: Option<String>,
}

impl EngineAt {
    /// The engine, if there is one.
    ///
    /// # Errors
    /// If one is named and does not answer.
    pub async fn find(&self) -> Result<Option<ContainerEngine>, crate::failure::Failure> {
        ContainerEngine::find(self.engine.as_deref()).await.map_err(|e| crate::failure::Failure::call(e.to_string()))
    }
}

#[derive(Debug, Args)]
pub struct Staying {
    /// Stay until the verdict, and end with its status
    #[arg(long)]
    pub wait: bool,
    /// Write a report when it is over: junit, tap, json, csv or html (repeatable)
    #[arg(long, value_name = "FORMAT=FILE", value_parser = pair, requires = "wait")]
    pub report: Vec<(String, String)>,
    #[command(flatten)]
    pub refresh: Refresh,
}

#[derive(Debug, Args)]
pub struct Refresh {
    /// How often a summary line appears where there is no terminal
    #[arg(long, value_name = "TIME", default_value = "5s", value_parser = duration)]
    pub refresh: Duration,
}

/// Options of a run, besides which tests: the same for every command that starts one.
#[derive(Debug, Args, Default)]
pub struct Running {
    /// Only what neither passed nor was flaky nor skipped in that run
    #[arg(long, value_name = "RUN", help_heading = "Which tests")]
    pub not_passed_in: Option<String>,
    /// Every test so many times
    #[arg(long, value_name = "N", help_heading = "Which tests", value_parser = integer::<u32>)]
    pub repeat: Option<u32>,
    /// Every test on each of --shards slots at once, as one load: all begin together [on as many as are linked, without --shards]
    #[arg(long, help_heading = "Which tests", conflicts_with_all = ["repeat", "shuffle", "recent_failures_first"])]
    pub each_slot: bool,
    /// Run parked tests too, without counting them
    #[arg(long, help_heading = "Which tests")]
    pub run_parked: bool,
    /// Retries of a test that fails
    #[arg(long, value_name = "N", help_heading = "How they run", value_parser = integer::<u32>)]
    pub retries: Option<u32>,
    /// A flaky test makes the run fail
    #[arg(long, help_heading = "How they run")]
    pub flaky_fails: bool,
    /// The most slots to use at once
    #[arg(long, value_name = "N", help_heading = "How they run", value_parser = integer::<u32>)]
    pub shards: Option<u32>,
    /// In an order drawn from the seed, instead of the longest first
    #[arg(long, help_heading = "How they run")]
    pub shuffle: bool,
    /// What failed recently goes first, as far as that costs little time
    #[arg(long, help_heading = "How they run")]
    pub recent_failures_first: bool,
    /// The seed: for --shuffle, and for the suite's processes
    #[arg(long, value_name = "N", help_heading = "How they run", value_parser = integer::<u64>)]
    pub seed: Option<u64>,
    /// How much the run counts where several share the slots: low, normal or high
    #[arg(long, value_name = "PRIORITY", value_parser = priority, help_heading = "How they run")]
    pub priority: Option<Priority>,
    /// A label to find the run by later (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair)]
    pub label: Vec<(String, String)>,
}

impl Choosing {
    /// The options as a run keeps them.
    pub fn options(&self) -> Result<RunOptions, crate::failure::Failure> {
        Ok(RunOptions {
            pick: self.pick.clone(),
            drop: self.drop.clone(),
            variants: self.variant.clone(),
            set: pairs("--set", &self.set)?,
            env: self.env.clone(),
            image: self.image.clone(),
            reach: self.reach.clone(),
            ..RunOptions::default()
        })
    }
}

impl Running {
    /// The options as a run keeps them, together with which tests.
    pub fn options(&self, choosing: &Choosing) -> Result<RunOptions, crate::failure::Failure> {
        Ok(RunOptions {
            retries: self.retries,
            shards: self.shards,
            seed: self.seed,
            labels: pairs("--label", &self.label)?,
            repeat: self.repeat,
            each_slot: self.each_slot,
            shuffle: self.shuffle,
            recent_failures_first: self.recent_failures_first,
            run_parked: self.run_parked,
            flaky_fails: self.flaky_fails,
            priority: self.priority,
            ..choosing.options()?
        })
    }
}
