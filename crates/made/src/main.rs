//! `kesmo-made`: writes six weeks of made runs of Lantern Quay's suites into the database of a service that is running.

use std::{path::PathBuf, process::ExitCode, time::Duration};

use chrono::{DateTime, TimeDelta, Utc};
use clap::Parser;
use kesmo_database::Postgres;
use kesmo_made::{
    quay::HABITS,
    suites::Suite,
    writing::{PastCommit, make, make_of_commits},
};
use kesmo_store::Store;

/// Writes made runs of the past into a service's database, each marked with the label made=history.
#[derive(Debug, Parser)]
struct Options {
    /// The data folder of the service, which runs
    #[arg(long, value_name = "DIR")]
    data: PathBuf,
    /// The folder with the suites
    #[arg(long, value_name = "DIR")]
    suites: PathBuf,
    /// A file with the commits of the suite notices, oldest first: HASH and time (RFC 3339), with a tab between them
    #[arg(long, value_name = "FILE")]
    commits: Option<PathBuf>,
    /// The commit from which on the suite notices fails
    #[arg(long, value_name = "HASH", requires = "commits")]
    broke_at: Option<String>,
    /// How many days
    #[arg(long, value_name = "N", default_value_t = 42, value_parser = clap::value_parser!(u32).range(1..=366))]
    days: u32,
}

#[tokio::main]
async fn main() -> ExitCode {
    match run(&Options::parse()).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("kesmo-made: {e}");
            ExitCode::FAILURE
        }
    }
}

async fn run(options: &Options) -> Result<(), String> {
    let data = options.data.clone();
    // It runs already, and is only asked where.
    let postgres = tokio::task::spawn_blocking(move || Postgres::start(&data)).await;
    let postgres = postgres.map_err(|e| e.to_string())?.map_err(|e| e.to_string())?;
    let store = Store::open(&postgres.url()).await.map_err(|e| e.to_string())?;
    let until = Utc::now() - TimeDelta::hours(1);
    let mut made = 0;
    for habit in &HABITS {
        let suite = Suite::read(&options.suites.join(habit.suite))?;
        made += make(&store, &suite, habit, until, options.days).await?;
    }
    if let Some(file) = &options.commits {
        let text = std::fs::read_to_string(file).map_err(|e| format!("{}: {e}", file.display()))?;
        let commits = text.lines().map(commit_of).collect::<Result<Vec<_>, _>>()?;
        let broke_at = options.broke_at.as_ref().and_then(|hash| commits.iter().position(|c| c.hash == *hash));
        let suite = Suite::read(&options.suites.join("notices"))?;
        made += make_of_commits(&store, &suite, &commits, broke_at, until, options.days).await?;
    }
    // The service tells the records of them, as of runs that it did not get to.
    while !store.unrecorded(until, 1).await.map_err(|e| e.to_string())?.is_empty() {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    println!("● {made} runs of the last {} days were made", options.days);
    Ok(())
}

fn commit_of(line: &str) -> Result<PastCommit, String> {
    let parted = line.split_once('\t');
    let (hash, at) =
        parted.ok_or_else(|| format!("{line:?}: wanted are a hash and a time, with a tab between them"))?;
    let at: DateTime<Utc> = at.parse().map_err(|e| format!("{at:?}: {e}"))?;
    Ok(PastCommit { hash: hash.to_owned(), at })
}
