//! Files that options name.

use std::{io::Read, path::Path};

use crate::failure::Failure;

/// The text of a file that an option names; of standard input where it is `-`.
pub fn read(option: &str, file: &Path) -> Result<String, Failure> {
    let failed = |e: std::io::Error| Failure::call(format!("{option} {}: {e}", file.display()));
    if file == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().lock().read_to_string(&mut text).map_err(failed)?;
        return Ok(text);
    }
    std::fs::read_to_string(file).map_err(failed)
}
