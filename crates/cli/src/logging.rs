//! What goes to a log: of a service, a worker, a machine that is lent.

use tracing::Level;
use tracing_subscriber::{
    EnvFilter, Layer,
    filter::{FilterExt, filter_fn},
    layer::SubscriberExt,
    util::SubscriberInitExt,
};

/// Structured logs to standard error; `KESMO_LOG` sets what is logged, as in `kesmo_service=debug`.
pub fn log_to_stderr(as_json: bool) {
    let filter = EnvFilter::try_from_env("KESMO_LOG")
        .unwrap_or_else(|_| EnvFilter::new("warn,rocket=error,kesmo=info,kesmo_service=info,kesmo_worker=info"));
    // What libraries say in more detail holds what was sent: tokens, and the parameters of statements.
    let quiet = filter_fn(|meta| meta.target().starts_with("kesmo") || *meta.level() <= Level::INFO);
    // Told beforehand what is never asked for, libraries do not even put it together: they would for every message of a link.
    let quiet = match filter.max_level_hint() {
        Some(most) => quiet.with_max_level_hint(most),
        None => quiet,
    };
    let filter = filter.and(quiet);
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_target(false);
    let result = if as_json {
        tracing_subscriber::registry().with(lines.json().with_filter(filter)).try_init()
    } else {
        tracing_subscriber::registry().with(lines.with_ansi(false).with_filter(filter)).try_init()
    };
    if let Err(e) = result {
        eprintln!("kesmo: logs cannot be written: {e}");
    }
}
