//! The arguments of `commands/hunt.rs`.

use super::values::integer;
use clap::Args;

#[derive(Debug, Args)]
pub struct Hunt {
    /// SUITE/NUMBER
    pub run: String,
    /// The test's name, or FILE/TITLE of a case
    pub test: String,
    /// Only this variant
    #[arg(long, value_name = "FACET=VALUE")]
    pub variant: Vec<String>,
    /// The attempt to explain [else: the first that failed]
    #[arg(long, value_name = "N", value_parser = integer::<u32>)]
    pub attempt: Option<u32>,
    /// The most repetitions
    #[arg(long, value_name = "N", default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=500))]
    pub at_most: u32,
}
