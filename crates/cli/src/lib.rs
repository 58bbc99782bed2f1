//! The command line: parses the call, does it, and ends with the status that `docs/command-line.md` promises. What needs the
//! service itself, to run it or to copy what it keeps, is done by the program around this (`crates/kesmo`), so that neither waits
//! for the other to be built.

mod arguments;
mod asking;
mod commands;
mod connection;
mod context;
mod failure;
mod logging;
mod saved;
mod service;
mod settled;
mod view;

use std::{pin::Pin, process::ExitCode};

use arguments::{Command, Kesmo};
use context::Context;
use failure::NO_SERVICE;

pub use arguments::{Backup, GroupRole, Hosting, Kept, Restore, Serve};
pub use commands::print_json;
pub use failure::Failure;
pub use logging::log_to_stderr;
pub use view::moment;

/// Does what needs the service itself; with `json` what it prints is for programs.
pub type Host = for<'a> fn(&'a Hosting, json: bool) -> Pin<Box<dyn Future<Output = Result<(), Failure>> + 'a>>;

/// The whole of a call, from this process's arguments to its exit status.
pub fn main(host: Host) -> ExitCode {
    let kesmo = match settled::parse(std::env::args_os().collect()) {
        Ok(kesmo) => kesmo,
        Err(failure) => {
            eprintln!("kesmo: {}", failure.message);
            return ExitCode::from(failure.status);
        }
    };
    if !matches!(
        kesmo.command,
        Command::Hosting(Hosting::Serve(_))
            | Command::Worker(_)
            | Command::Here(_)
            | Command::Join(_)
            | Command::Reach(_)
    ) {
        // A reader that closes the pipe early (`kesmo runs | head`) ends the program quietly, as other programs do.
        // SAFETY: sets the default disposition before any thread is started.
        unsafe {
            libc::signal(libc::SIGPIPE, libc::SIG_DFL);
        }
    }
    // A worker's tests must not find its token; what lends this machine has tests too.
    let works = matches!(&kesmo.command, Command::Worker(worker) if worker.command.is_none());
    if (works || matches!(kesmo.command, Command::Join(_)))
        && let Err(failure) = connection::hide_token(&kesmo.connection)
    {
        eprintln!("kesmo: {}", failure.message);
        return ExitCode::from(failure.status);
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("kesmo: the program could not start: {e}");
            return ExitCode::from(NO_SERVICE);
        }
    };
    let ended = runtime.block_on(run(kesmo, host));
    // A read of standard input that still waits must not hold the program.
    runtime.shutdown_timeout(std::time::Duration::from_millis(200));
    match ended {
        Ok(status) => ExitCode::from(status),
        Err(failure) => {
            eprintln!("kesmo: {}", failure.message);
            ExitCode::from(failure.status)
        }
    }
}

async fn run(kesmo: Kesmo, host: Host) -> Result<u8, Failure> {
    let done = |result: Result<(), Failure>| result.map(|()| 0);
    let context = || -> Result<Context, Failure> {
        let service = kesmo.connection.service()?;
        Ok(Context { client: service.client()?, service, json: kesmo.json })
    };
    match &kesmo.command {
        Command::Hosting(hosting) => done(host(hosting, kesmo.json).await),
        Command::Worker(arguments::Worker { command: Some(arguments::WorkerCommand::Drain(options)), .. }) => {
            done(commands::worker::drain(options, &context()?).await)
        }
        Command::Worker(options) => {
            let service = kesmo.connection.service()?;
            connection::close_handed_over();
            done(commands::worker::run(options, service).await)
        }
        Command::Completions { shell } => done(commands::manual::completions(*shell)),
        Command::Man { folder } => done(commands::manual::man(folder.as_deref())),
        Command::Logout => done(commands::people::logout()),
        Command::Login(options) => done(commands::people::login(options, &kesmo.connection).await),
        Command::Suite(arguments::Suite::Draft(options)) => done(commands::drafting::draft(options, kesmo.json)),
        Command::Suite(arguments::Suite::Try(options)) => commands::drafting::try_suite(options, kesmo.json).await,
        Command::Suite(command) => done(commands::suites::run(command, kesmo.json, context).await),
        Command::Brief(command) => done(commands::briefs::run(command, &context()?).await),
        Command::Schedule(command) => commands::schedules::run(command, &context()?).await,
        Command::Measures(options) => done(commands::measures::run(options, &context()?).await),
        Command::Notice(command) => done(commands::notices::run(command, &context()?).await),
        Command::Webhook(command) => done(commands::webhooks::run(command, &context()?).await),
        Command::Pool(command) => done(commands::pools::run(command, &context()?).await),
        Command::Queue(options) => done(commands::queue::run(options, &context()?).await),
        Command::Tests(options) => done(commands::suites::tests(options, &context()?).await),
        Command::Start(options) => commands::start::run(options, &context()?).await,
        Command::Here(options) => commands::here::run(options, kesmo.json, context).await,
        Command::Join(options) => {
            let context = context()?;
            connection::close_handed_over();
            commands::join::run(options, &context).await
        }
        Command::Reach(options) => done(commands::reach::run(options, &context()?).await),
        Command::Forecast(options) => done(commands::planning::forecast(options, &context()?).await),
        Command::Portion(options) => done(commands::planning::portion(options, &context()?).await),
        Command::Failing(options) => done(commands::failing::run(options, &context()?).await),
        Command::Flaky(options) => done(commands::history::flaky(options, &context()?).await),
        Command::History(options) => done(commands::history::history(options, &context()?).await),
        Command::Compare(options) => done(commands::comparing::run(options, &context()?).await),
        Command::Prove(options) => commands::proving::run(options, &context()?).await,
        Command::Since(options) => commands::since::run(options, &context()?).await,
        Command::Hunt(options) => done(commands::hunt::run(options, &context()?).await),
        Command::Park(options) => done(commands::planning::park(options, &context()?).await),
        Command::Unpark(options) => done(commands::planning::unpark(options, &context()?).await),
        Command::Parked(options) => done(commands::planning::parked(options, &context()?).await),
        Command::Watch(options) => commands::watch::watch(options, &context()?).await,
        Command::Runs(options) => done(commands::runs::list(options, &context()?).await),
        Command::Show(options) => commands::runs::show(options, &context()?).await,
        Command::Log(options) => done(commands::runs::log(options, &context()?).await),
        Command::Stop(options) => done(commands::runs::stop(options, &context()?).await),
        Command::Again(options) => commands::start::again(options, &context()?).await,
        Command::Import(options) => commands::import::run(options, &context()?).await,
        Command::Report(options) => done(commands::runs::report(options, &context()?).await),
        Command::Artifacts(options) => done(commands::runs::artifacts(options, &context()?).await),
        Command::Covers(options) => done(commands::covers::run(options, &context()?).await),
        Command::Share(options) => done(commands::share::run(options, &context()?).await),
        Command::Usage(options) => done(commands::usage::run(options, &context()?).await),
        Command::Workers => done(commands::runs::workers(&context()?).await),
        Command::Secret(command) => done(commands::secrets::run(command, &context()?).await),
        Command::Keep(command) => done(commands::keep::run(command, &context()?).await),
        Command::Audit(options) => done(commands::people::audit(options, &context()?).await),
        Command::Account(command) => done(commands::accounts::run(command, &context()?).await),
        Command::Sessions(options) => done(commands::accounts::sessions(options, &context()?).await),
        Command::Token(command) => done(commands::people::token(command, &context()?).await),
    }
}
