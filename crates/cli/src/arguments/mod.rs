//! The command line as clap reads it. Words and options are those of the house: see `docs/command-line.md`.
//! The arguments of each command stand in a file of its name.

mod accounts;
mod backup;
mod briefs;
mod choosing;
mod covers;
mod drafting;
mod failing;
mod here;
mod history;
mod hunt;
mod import;
mod join;
mod keep;
mod measures;
mod notices;
mod people;
mod planning;
mod pools;
mod queue;
mod reach;
mod runs;
mod schedules;
mod secrets;
mod serve;
mod share;
mod start;
mod suites;
mod usage;
mod values;
mod watch;
mod webhooks;
mod worker;

use clap::{Parser, Subcommand};

use crate::connection::Connection;

pub use accounts::{Account, Sessions};
pub use backup::{Backup, Kept, Restore};
pub use briefs::{AddBrief, Brief};
pub use choosing::{Choosing, Place, Running, Staying};
pub use covers::Covers;
pub use drafting::{DraftSuite, TrySuite};
pub use failing::Failing;
pub use here::Here;
pub use history::{Compare, Flaky, History, Prove, Since};
pub use hunt::Hunt;
pub use import::Import;
pub use join::Join;
pub use keep::{AddKeep, Keep};
pub use measures::Measures;
pub use notices::{AddNotice, NoticeCommand, OneMessage};
pub use people::{Audit, Login, Token};
pub use planning::{Forecast, Park, Parked, PortionOf, Unpark};
pub use pools::{AddPool, Kind, Pool, RemovePool, ShowPool};
pub use queue::{Queue, QueueCommand};
pub use reach::Reach;
pub use runs::{Artifacts, Log, Report, Runs, RunsCommand, Show, Stop};
pub use schedules::{AddSchedule, Schedule};
pub use secrets::{AddSecret, Secret};
pub use serve::Serve;
pub use share::Share;
pub use start::{Again, Start};
pub use suites::{AddSuite, PollBranches, Suite, Tests};
pub use usage::Usage;
pub use values::{GroupRole, pairs};
pub use watch::Watch;
pub use webhooks::{AddWebhook, SendWebhook, TryWebhook, Webhook};
pub use worker::{DrainOf, Worker, WorkerCommand};

/// Runs test suites: sharded over workers, flaky tests retried, progress live.
#[derive(Debug, Parser)]
#[command(name = "kesmo", version, propagate_version = true, disable_help_subcommand = true, max_term_width = 110)]
pub struct Kesmo {
    #[command(flatten)]
    pub connection: Connection,
    /// Print for programs: JSON, or JSON lines where something goes on
    #[arg(long, global = true, help_heading = "Output")]
    pub json: bool,
    #[command(subcommand)]
    pub command: Command,
}

/// What needs the service itself, and not only its address.
#[derive(Debug, Subcommand)]
pub enum Hosting {
    /// Run the service; with no database address it keeps a PostgreSQL of its own
    Serve(Box<Serve>),
    /// Copy all that a service keeps into a folder; it may go on meanwhile
    Backup(Backup),
    /// Fill a new service's place from such a copy
    Restore(Restore),
}

#[derive(Debug, Subcommand)]
pub enum Command {
    #[command(flatten)]
    Hosting(Hosting),
    /// Offer slots to a pool
    Worker(Worker),
    /// Save a service's address and a token for later calls, or sign in as an account
    Login(Login),
    /// Forget the address and the token that were saved
    Logout,
    /// Print what a shell needs to complete commands and options
    Completions {
        /// bash, zsh or fish
        shell: clap_complete::Shell,
    },
    /// Print the manual page, or write one of every command into a folder
    Man {
        /// The folder, as /usr/local/share/man/man1
        folder: Option<std::path::PathBuf>,
    },
    /// Draft, try, add, check, list, show, poll or remove suites
    #[command(subcommand)]
    Suite(Suite),
    /// Save, list, show or remove settings of runs
    #[command(subcommand)]
    Brief(Brief),
    /// Start runs at planned times
    #[command(subcommand)]
    Schedule(Schedule),
    /// What a run measured, or a suite over its last runs
    Measures(Measures),
    /// Be told of what happens: by mail, in a chat, at an address, on a commit
    #[command(subcommand, name = "notice")]
    Notice(NoticeCommand),
    /// Let other systems start runs
    #[command(subcommand, name = "webhook")]
    Webhook(Webhook),
    /// Where runs find workers: started by hand, or started for them
    #[command(subcommand)]
    Pool(Pool),
    /// Runs that wait, and their order
    Queue(Queue),
    /// The tests that a pick would run, with expected time and record
    Tests(Tests),
    /// Start a run
    Start(Box<Start>),
    /// Run the suite in this folder on this machine, with no service
    Here(Box<Here>),
    /// Lend this machine to one run until its verdict, or to a pool (for CI jobs)
    Join(Box<Join>),
    /// Let runs reach addresses that this machine can, for as long as it goes on
    Reach(Reach),
    /// How long a run would take, by number of shards
    Forecast(Forecast),
    /// The names in a fixed share, for CI servers that start their own jobs
    Portion(PortionOf),
    /// The tests that fail now, of a suite or of all, with since when
    Failing(Failing),
    /// The tests that were flaky of late, of a suite or of all; of one test what its failing goes with
    Flaky(Flaky),
    /// A test over its runs: when it failed, when its time changed
    History(History),
    /// What is new in a run against another one
    Compare(Compare),
    /// Look for the reason of a failure by repeating it
    Hunt(Hunt),
    /// Repeat a flaky test until it is sure that it is mended, or that it is not
    Prove(Prove),
    /// Find the commit that broke a test, of a suite from version control
    Since(Since),
    /// Set tests aside for a while
    Park(Park),
    /// Take tests back
    Unpark(Unpark),
    /// All tests that are set aside
    Parked(Parked),
    /// Live progress until the verdict
    Watch(Watch),
    /// Find runs
    Runs(Runs),
    /// Read one run
    Show(Show),
    /// What a test's attempts printed
    Log(Log),
    /// End a run
    Stop(Stop),
    /// Repeat a run
    Again(Again),
    /// Bring results that ran elsewhere: JUnit XML, TAP or event lines, as a run of a suite
    Import(Import),
    /// A finished run as a report
    Report(Report),
    /// List and download what a run left behind
    Artifacts(Artifacts),
    /// Requirements, their tests, and what those showed last
    Covers(Covers),
    /// Show a run's report, a badge or a feed at an address that needs no sign-in
    Share(Share),
    /// What runs took of slots, by suite, brief, label, account, pool or month
    Usage(Usage),
    /// Workers and what their slots do
    Workers,
    /// Keep, list or remove secrets that runs are given
    #[command(subcommand)]
    Secret(Secret),
    /// What is kept for how long, and removing what is not
    #[command(subcommand)]
    Keep(Keep),
    /// Who did what when, and what was refused
    Audit(Audit),
    /// Add, list or remove tokens
    #[command(subcommand)]
    Token(Token),
    /// People's accounts: add, list or remove them, change a role, choose a password
    #[command(subcommand)]
    Account(Account),
    /// Browsers that are signed in, and ending them
    Sessions(Sessions),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_consistent() {
        use clap::CommandFactory;
        Kesmo::command().debug_assert();
    }

    #[test]
    fn a_misspelt_option_is_refused_and_the_nearest_named() {
        let error = Kesmo::try_parse_from(["kesmo", "start", "fares", "--retires", "3"]).unwrap_err();
        assert_eq!(error.exit_code(), 2);
        assert!(error.to_string().contains("--retries"), "{error}");
    }

    #[test]
    fn a_number_that_is_none_is_told_in_words() {
        for (word, why) in [("two", "it is not an integer"), ("-1", "out of bounds"), ("99999999999", "out of bounds")]
        {
            let error = Kesmo::try_parse_from(["kesmo", "start", "fares", &format!("--retries={word}")]).unwrap_err();
            assert!(error.to_string().contains(why) && error.exit_code() == 2, "{error}");
        }
    }

    #[test]
    fn the_usage_does_not_ask_for_what_is_optional() {
        let error = Kesmo::try_parse_from(["kesmo", "start"]).unwrap_err().to_string();
        assert!(!error.contains("--url") && !error.contains("--token"), "{error}");
        let help = Kesmo::try_parse_from(["kesmo", "start", "--help"]).unwrap_err().to_string();
        assert!(help.contains("Connection:"), "{help}");
    }

    #[test]
    fn a_key_given_twice_is_refused() {
        let twice = [("a".to_owned(), "1".to_owned()), ("a".to_owned(), "2".to_owned())];
        assert!(pairs("--set", &twice).is_err());
    }
}
