//! `kesmo`: the one program for everyone who runs tests. What it is told is the command line's (`crates/cli`); what needs the service
//! itself is done here.

mod backup;
mod serve;

use std::process::ExitCode;

use kesmo_cli::Hosting;
use mimalloc::MiMalloc;

/// What a service holds comes and goes in small pieces, on a dozen threads: it takes a fifth less memory so than with the C library's
/// (docs/benchmarks.md).
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

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
