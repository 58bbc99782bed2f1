//! `kesmo`: the one program for everyone who runs tests. What it is told is the command line's (`crates/cli`); what needs the service
//! itself is done here.

mod backup;
mod serve;

use std::process::ExitCode;

use kesmo_cli::Hosting;

fn main() -> ExitCode {
    kesmo_cli::main(|hosting, json| {
        Box::pin(async move {
            match hosting {
                Hosting::Serve(options) => serve::run(options).await,
                Hosting::Backup(options) => backup::backup(options, json).await,
                Hosting::Restore(options) => backup::restore(options, json).await,
            }
        })
    })
}
