//! The arguments of `commands/measures.rs`.

use clap::Args;

#[derive(Debug, Args)]
pub struct Measures {
    /// A run, as in boarding-gate/42; or a suite, for its last runs of the same choice
    pub of: String,
    /// One measure only
    #[arg(long, value_name = "NAME")]
    pub measure: Option<String>,
}
