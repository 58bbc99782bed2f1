//! The arguments of `commands/history.rs`.

use super::values::integer;
use clap::Args;

#[derive(Debug, Args)]
pub struct Compare {
    /// SUITE/NUMBER, the run to look at
    pub run: String,
    /// SUITE/NUMBER, or a number: the run that it is compared with
    #[arg(conflicts_with = "with", value_name = "OTHER")]
    pub other: Option<String>,
    /// What to compare with: a run, last (of the same choice and branch), last-passed, yesterday, branch:NAME
    #[arg(long, value_name = "WHAT", default_value = "last")]
    pub with: String,
}

#[derive(Debug, Args)]
pub struct History {
    /// The suite's name
    pub suite: String,
    /// The test's name, or a case's: FILE/TITLE
    pub test: String,
    /// This variant, of a test that stands in several
    #[arg(long, value_name = "FACET=VALUE")]
    pub variant: Vec<String>,
    /// Only runs of this branch
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// How many runs at the most
    #[arg(long, value_name = "N", default_value_t = 20, value_parser = integer::<u32>)]
    pub limit: u32,
}

#[derive(Debug, Args)]
pub struct Flaky {
    /// A suite's name [else: all suites]
    pub suite: Option<String>,
    /// A test's name: what its failing goes with
    pub test: Option<String>,
    /// Only this variant of it
    #[arg(long, value_name = "FACET=VALUE", requires = "test")]
    pub variant: Vec<String>,
}

#[derive(Debug, Args)]
pub struct Prove {
    /// The suite's name
    pub suite: String,
    /// The test's name
    pub test: String,
    /// This variant, of a test that stands in several
    #[arg(long, value_name = "FACET=VALUE")]
    pub variant: Vec<String>,
    /// How sure to be
    #[arg(long, value_name = "SHARE", default_value = "99%", value_parser = share)]
    pub sure: f64,
    /// How often it failed [else: as often as its last attempts did]
    #[arg(long, value_name = "SHARE", value_parser = share)]
    pub rate: Option<f64>,
    /// The most repetitions
    #[arg(long, value_name = "N", default_value_t = 1000, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub at_most: u32,
    /// The pool to repeat it in
    #[arg(long, value_name = "POOL", default_value = "main")]
    pub pool: String,
    /// The branch to try, of a suite from version control
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// The commit to try
    #[arg(long, value_name = "COMMIT")]
    pub commit: Option<String>,
}

#[derive(Debug, Args)]
pub struct Since {
    /// The name of a suite from version control
    pub suite: String,
    /// The test's name
    pub test: String,
    /// This variant, of a test that stands in several
    #[arg(long, value_name = "FACET=VALUE")]
    pub variant: Vec<String>,
    /// A commit or branch with which it did not fail [else: of the last run before it began to fail]
    #[arg(long, value_name = "REV")]
    pub good: Option<String>,
    /// A commit or branch with which it fails [else: of the run in which it began to fail]
    #[arg(long, value_name = "REV")]
    pub bad: Option<String>,
    /// The branch whose runs say where it began to fail
    #[arg(long, value_name = "BRANCH")]
    pub branch: Option<String>,
    /// How often it fails where it is broken [else: always]
    #[arg(long, value_name = "SHARE", value_parser = share)]
    pub fails: Option<f64>,
    /// How often it fails where it is not [else: as often as its runs before that say]
    #[arg(long, value_name = "SHARE", value_parser = share)]
    pub flaky: Option<f64>,
    /// How sure to be
    #[arg(long, value_name = "SHARE", default_value = "99%", value_parser = share)]
    pub sure: f64,
    /// The most times that it is run
    #[arg(long, value_name = "N", default_value_t = 100, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub at_most: u32,
    /// The pool to run it in
    #[arg(long, value_name = "POOL", default_value = "main")]
    pub pool: String,
}

/// Reads a share: `99%`, `99.5%`, `0.99`.
fn share(text: &str) -> Result<f64, String> {
    let wrong = || format!("{text:?} is not a share: write it like 99% or 0.99, above 0 and below 100%");
    let value = match text.strip_suffix('%') {
        Some(percent) => percent.trim().parse::<f64>().map_err(|_| wrong())? / 100.0,
        None => text.parse::<f64>().map_err(|_| wrong())?,
    };
    if value > 0.0 && value < 1.0 { Ok(value) } else { Err(wrong()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_are_read_with_and_without_percent() {
        assert_eq!(share("99%"), Ok(0.99));
        assert_eq!(share("0.995"), Ok(0.995));
        for wrong in ["99", "0", "100%", "-5%", "NaN", "many", "1e400", ""] {
            assert!(share(wrong).is_err_and(|e| e.contains("99%")), "{wrong}");
        }
    }
}
