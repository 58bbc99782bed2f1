//! Reports that are written where something waits for a run: checked before anything starts, and told apart from the
//! verdict when they cannot be written.

use std::path::{Path, PathBuf};

use kesmo_core::format::report::Format;

use super::run_path as path;
use crate::{
    arguments::Staying,
    context::Context,
    failure::{Failure, NOT_WRITTEN},
};

/// One report that was asked for.
#[derive(Debug, Clone)]
pub struct Wanted {
    pub format: Format,
    pub file: PathBuf,
}

/// Reads what `--report FORMAT=FILE` says, makes the folders, and sees whether the files can be written.
///
/// # Errors
/// If a format is none, a file is named twice, or a file cannot be written: nothing was started then.
pub fn prepare(given: &[(String, String)]) -> Result<Vec<Wanted>, Failure> {
    let mut all: Vec<Wanted> = Vec::new();
    for (format, file) in given {
        let wanted = Wanted { format: Format::parse(format)?, file: PathBuf::from(file) };
        if all.iter().any(|other| other.file == wanted.file) {
            return Err(Failure::call(format!("--report names {file} twice; give each report a file of its own")));
        }
        can_be_written(&wanted.file).map_err(|e| Failure::call(format!("--report {format}={file}: {e}")))?;
        all.push(wanted);
    }
    Ok(all)
}

/// Whether a file can be written, without changing what is in it.
fn can_be_written(file: &Path) -> std::io::Result<()> {
    if let Some(folder) = file.parent().filter(|f| !f.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder)?;
    }
    let there = file.exists();
    std::fs::OpenOptions::new().append(true).create(true).open(file)?;
    if there { Ok(()) } else { std::fs::remove_file(file) }
}

/// The status to end with: the verdict's, and where that is good one of its own if a report is missing.
pub fn status(verdict: u8, written: Result<(), Failure>) -> u8 {
    match written {
        Ok(()) => verdict,
        Err(failure) => {
            eprintln!("kesmo: {}", failure.message);
            if verdict == 0 { NOT_WRITTEN } else { verdict }
        }
    }
}

/// Writes a report.
pub fn write(report: &Wanted, text: &str) -> Result<(), Failure> {
    std::fs::write(&report.file, text).map_err(|e| {
        Failure::trouble(format!("the report {}={} was not written: {e}", report.format, report.file.display()))
    })
}

/// Has the service write the reports of a run that is over, each by itself; tells the status to end with.
pub async fn of_run(run: &str, wanted: &[Wanted], verdict: u8, context: &Context) -> u8 {
    let mut ended = verdict;
    for report in wanted {
        ended = status(ended, one_of_run(run, report, context).await);
    }
    ended
}

async fn one_of_run(run: &str, report: &Wanted, context: &Context) -> Result<(), Failure> {
    let query = [("as", report.format.to_string())];
    let text = context.client.get_text(&format!("{}/report", path(run)?), &query).await?;
    write(report, &text)
}

impl Staying {
    /// The reports that were asked for, checked.
    pub fn reports(&self) -> Result<Vec<Wanted>, Failure> {
        prepare(&self.report)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn given(format: &str, file: &Path) -> Vec<(String, String)> {
        vec![(format.to_owned(), file.display().to_string())]
    }

    #[test]
    fn what_cannot_be_written_is_told_before_anything_starts() {
        let dir = tempfile::tempdir().unwrap();
        let deep = dir.path().join("out/of/a/run.xml");
        assert_eq!(prepare(&given("junit", &deep)).unwrap()[0].file, deep);
        assert!(deep.parent().unwrap().is_dir() && !deep.exists(), "the folders are made, and no file yet");
        std::fs::write(&deep, "yesterday's").unwrap();
        prepare(&given("junit", &deep)).unwrap();
        assert_eq!(std::fs::read_to_string(&deep).unwrap(), "yesterday's");
        let why = |given: &[(String, String)]| prepare(given).unwrap_err().message;
        assert!(why(&given("junut", &deep)).contains("did you mean \"junit\""));
        assert!(why(&given("tap", &deep.join("below/a/file"))).contains("--report tap="));
        assert!(why(&given("tap", dir.path())).contains("--report tap="), "a folder is no file");
        let twice = [given("tap", &deep), given("junit", &deep)].concat();
        assert!(why(&twice).contains("twice"));
    }

    #[test]
    fn a_report_that_is_missing_never_hides_a_verdict() {
        let missing = || Err(Failure::trouble("the disk is full"));
        assert_eq!([status(0, Ok(())), status(1, Ok(())), status(0, missing()), status(1, missing())], [0, 1, 13, 1]);
    }
}
