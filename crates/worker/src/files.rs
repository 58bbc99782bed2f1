//! What attempts leave behind: files in `$KESMO_ARTIFACTS`, files that match `keep`, and files that event lines name.

use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
    time::SystemTime,
};

use kesmo_core::suite::Pattern;

/// A batch keeps at most this many files.
const MOST_FILES: usize = 1000;

/// A file to keep.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    pub path: PathBuf,
    /// As it is shown: relative to where it was found.
    pub shown: String,
    pub about: String,
    /// When it was written last, in microseconds since 1970.
    pub written_us: i64,
}

/// All files under `folder`, with paths relative to it. Links are not followed.
fn walk(folder: &Path, each: &mut impl FnMut(PathBuf, &Path)) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let Ok(kind) = entry.file_type() else { continue };
        let path = entry.path();
        if kind.is_dir() {
            walk(&path, each);
        } else if kind.is_file() {
            each(path.clone(), &path);
        }
    }
}

fn written(path: &Path) -> i64 {
    let modified = std::fs::metadata(path).and_then(|m| m.modified()).unwrap_or(SystemTime::UNIX_EPOCH);
    let since = modified.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(0)
}

/// The files of a batch to keep: all in `artifacts`, and those in `folder` that match a `keep` pattern and were written since
/// `since`; and how many more there were than a batch may keep.
pub fn find(artifacts: &Path, folder: &Path, keep: &[String], since: i64) -> (Vec<Found>, usize) {
    let mut found = find_all(artifacts, folder, keep, since);
    let more = found.len().saturating_sub(MOST_FILES);
    found.truncate(MOST_FILES);
    (found, more)
}

fn find_all(artifacts: &Path, folder: &Path, keep: &[String], since: i64) -> Vec<Found> {
    let mut found: BTreeMap<PathBuf, Found> = BTreeMap::new();
    let shown = |path: &Path, base: &Path| path.strip_prefix(base).unwrap_or(path).to_string_lossy().into_owned();
    walk(artifacts, &mut |path, _| {
        let file = Found {
            shown: shown(&path, artifacts),
            about: String::new(),
            written_us: written(&path),
            path: path.clone(),
        };
        found.insert(path, file);
    });
    let patterns: Vec<Pattern> = keep.iter().filter_map(|k| Pattern::glob(k).ok()).collect();
    if !patterns.is_empty() {
        walk(folder, &mut |path, _| {
            let name = shown(&path, folder);
            let written_us = written(&path);
            if written_us >= since && patterns.iter().any(|p| p.matches_text(&name)) {
                found.insert(path.clone(), Found { shown: name, about: String::new(), written_us, path });
            }
        });
    }
    found.into_values().collect()
}

/// The JUnit files of a batch, however many: those that match and were written since `since`.
pub fn junit(folder: &Path, patterns: &[String], since: i64) -> Vec<Found> {
    find_all(&folder.join(".kesmo-none"), folder, patterns, since)
}

/// Whether a file of that name is to be kept.
pub fn is_kept(keep: &[String], shown: &str) -> bool {
    keep.iter().filter_map(|k| Pattern::glob(k).ok()).any(|p| p.matches_text(shown))
}

/// A file that an event line names, if it is there and lies below the folder or the artifacts.
pub fn named(path: &str, folder: &Path, artifacts: &Path) -> Option<PathBuf> {
    let roots: BTreeSet<PathBuf> = [folder, artifacts].iter().filter_map(|p| p.canonicalize().ok()).collect();
    let given = [folder.join(path), artifacts.join(path)].into_iter().find_map(|p| p.canonicalize().ok())?;
    (given.is_file() && roots.iter().any(|root| given.starts_with(root))).then_some(given)
}

/// Which of some attempts (position, began, ended) a file belongs to, by when it was written: the one that ran then, else
/// the last that began before.
pub fn owner(written_us: i64, attempts: &[(usize, i64, i64)]) -> Option<usize> {
    let within = attempts.iter().find(|(_, began, ended)| (*began..=*ended).contains(&written_us));
    let before = attempts.iter().filter(|(_, began, _)| *began <= written_us).max_by_key(|(_, began, _)| *began);
    within.or(before).or(attempts.first()).map(|a| a.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_found_where_they_are_left() {
        let dir = tempfile::tempdir().unwrap();
        let (artifacts, folder) = (dir.path().join("artifacts"), dir.path().join("files"));
        std::fs::create_dir_all(artifacts.join("deep")).unwrap();
        std::fs::create_dir_all(folder.join("shots/a")).unwrap();
        std::fs::write(artifacts.join("deep/note.txt"), "x").unwrap();
        std::fs::write(folder.join("shots/a/b.png"), "x").unwrap();
        std::fs::write(folder.join("other.png"), "x").unwrap();
        let keep = vec!["shots/**/*.png".to_owned()];
        let names = |since| find(&artifacts, &folder, &keep, since).0.into_iter().map(|f| f.shown).collect::<Vec<_>>();
        assert_eq!(names(0), ["deep/note.txt", "shots/a/b.png"]);
        assert_eq!(names(i64::MAX), ["deep/note.txt"], "files from before the batch are not its own");
    }

    #[test]
    fn results_are_never_too_many_and_kept_files_are_counted() {
        let dir = tempfile::tempdir().unwrap();
        for n in 0..1100 {
            std::fs::write(dir.path().join(format!("{n}.xml")), "x").unwrap();
        }
        assert_eq!(junit(dir.path(), &["*.xml".into()], 0).len(), 1100);
        let (kept, more) = find(dir.path(), Path::new("/nowhere"), &[], 0);
        assert_eq!((kept.len(), more), (MOST_FILES, 100));
        assert!(is_kept(&["out/*.xml".into()], "out/a.xml") && !is_kept(&["out/*.xml".into()], "a.xml"));
    }

    #[test]
    fn a_named_file_must_lie_within_the_suite() {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("files");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("shot.png"), "x").unwrap();
        std::fs::write(dir.path().join("secret"), "x").unwrap();
        assert!(named("shot.png", &folder, &folder).is_some());
        assert!(named("../secret", &folder, &folder).is_none());
        assert!(named("/etc/passwd", &folder, &folder).is_none());
        assert!(named("missing", &folder, &folder).is_none());
    }

    #[test]
    fn a_file_belongs_to_the_test_that_ran_when_it_was_written() {
        let attempts = [(0, 0, 10), (1, 10, 20), (2, 30, 40)];
        assert_eq!(owner(15, &attempts), Some(1));
        assert_eq!(owner(25, &attempts), Some(1));
        assert_eq!(owner(99, &attempts), Some(2));
        assert_eq!(owner(5, &[]), None);
    }
}
