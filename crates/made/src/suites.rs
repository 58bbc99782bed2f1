//! The suites whose past is made: their files and their tests, as their list commands tell them.

use std::{
    path::{Path, PathBuf},
    process::Command,
};

use kesmo_core::suite::{ListedTest, SuiteFile, file::FILE_NAME, listing};

/// A suite in a folder.
#[derive(Debug)]
pub struct Suite {
    pub folder: PathBuf,
    pub file: SuiteFile,
    pub tests: Vec<ListedTest>,
}

impl Suite {
    /// Reads a suite's folder and has it list its tests.
    ///
    /// # Errors
    /// If its file cannot be read, has facets, or its list command fails.
    pub fn read(folder: &Path) -> Result<Self, String> {
        let path = folder.join(FILE_NAME);
        let text = std::fs::read_to_string(&path).map_err(|e| format!("{}: {e}", path.display()))?;
        let file = SuiteFile::parse(FILE_NAME, &text).map_err(|e| format!("{}: {e}", path.display()))?;
        if !file.facets.facets.is_empty() || file.tests.of_files() {
            return Err(format!("{}: the past of suites with facets or files is not made", path.display()));
        }
        let Some((program, words)) = file.tests.list.split_first() else {
            return Err(format!("{}: [tests] list is empty", path.display()));
        };
        let output = Command::new(program).args(words).current_dir(folder).output();
        let output = output.map_err(|e| format!("{program}: {e}"))?;
        if !output.status.success() {
            return Err(format!("{program}: {}", String::from_utf8_lossy(&output.stderr).trim()));
        }
        let tests = listing::read(&output.stdout).map_err(|e| format!("{}: {e}", path.display()))?;
        Ok(Self { folder: folder.to_owned(), file, tests })
    }
}
