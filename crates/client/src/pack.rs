//! Packs a folder into a bundle: a gzipped tar archive that is the same for the same files, whenever and wherever it is
//! made. Ignore files (`.gitignore`, `.ignore`, `.kesmoignore`) are respected, and `.git` is left away.

use std::{
    fs,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
};

use flate2::{Compression, GzBuilder, write::GzEncoder};
use kesmo_core::{
    suite::{SuiteFile, file::FILE_NAME},
    time::Bytes,
};

use crate::Error;

/// The most that a folder may hold.
const LARGEST: u64 = 1 << 30;

/// A packed folder.
#[derive(Debug, Clone)]
pub struct Bundle {
    /// SHA-256, in hexadecimal digits.
    pub digest: String,
    pub content: Vec<u8>,
    pub suite: String,
    pub files: usize,
}

/// Reads the suite file of a folder.
///
/// # Errors
/// If there is none, or it has problems; all of them are named.
pub fn suite_file(folder: &Path) -> Result<SuiteFile, Error> {
    let path = folder.join(FILE_NAME);
    let shown = path.strip_prefix("./").unwrap_or(&path).display().to_string();
    let text = fs::read_to_string(&path).map_err(|e| {
        let hint = if e.kind() == std::io::ErrorKind::NotFound { ": a suite's folder has one at its root" } else { "" };
        Error::Pack(format!("{shown} cannot be read ({e}){hint}"))
    })?;
    SuiteFile::parse(&shown, &text).map_err(|e| Error::Pack(e.to_string()))
}

/// The files of a folder that belong to its bundle, in the order of their bytes, so that an archive of them does not depend on
/// the file system.
///
/// # Errors
/// If a folder cannot be read.
pub fn files(folder: &Path) -> Result<Vec<PathBuf>, Error> {
    let mut paths: Vec<PathBuf> = Vec::new();
    let walk = ignore::WalkBuilder::new(folder)
        .hidden(false)
        .require_git(false)
        .git_global(false)
        .git_exclude(false)
        .parents(false)
        .add_custom_ignore_filename(".kesmoignore")
        .filter_entry(|entry| entry.file_name() != ".git")
        .build();
    for entry in walk {
        let entry = entry.map_err(|e| Error::Pack(e.to_string()))?;
        if entry.file_type().is_some_and(|kind| kind.is_file() || kind.is_symlink()) {
            paths.push(entry.into_path());
        }
    }
    paths.sort();
    Ok(paths)
}

/// Packs a folder.
///
/// # Errors
/// If its suite file has problems, a file cannot be read, or it is too large.
pub fn pack(folder: &Path) -> Result<Bundle, Error> {
    let suite = suite_file(folder)?;
    let paths = files(folder)?;
    let failed = |path: &Path, e: &dyn std::fmt::Display| Error::Pack(format!("{}: {e}", path.display()));
    let mut total = 0;
    let mut tar = archive();
    for path in &paths {
        let name = path.strip_prefix(folder).unwrap_or(path);
        let meta = fs::symlink_metadata(path).map_err(|e| failed(path, &e))?;
        if meta.file_type().is_symlink() {
            let target = fs::read_link(path).map_err(|e| failed(path, &e))?;
            let mut header = tar::Header::new_gnu();
            header.set_mtime(0);
            header.set_entry_type(tar::EntryType::Symlink);
            header.set_size(0);
            header.set_mode(0o777);
            tar.append_link(&mut header, name, target).map_err(|e| failed(path, &e))?;
            continue;
        }
        let content = fs::read(path).map_err(|e| failed(path, &e))?;
        total += content.len() as u64;
        if total > LARGEST {
            let say =
                format!("{} holds more than {}: leave files away with .kesmoignore", folder.display(), Bytes(LARGEST));
            return Err(Error::Pack(say));
        }
        // Whether a file may be run counts; other rights depend on who packs.
        let mode = if meta.permissions().mode() & 0o100 != 0 { 0o755 } else { 0o644 };
        append(&mut tar, name, &content, mode).map_err(|e| failed(path, &e))?;
    }
    finish(tar, &suite, paths.len())
}

/// A bundle that holds a suite file alone.
///
/// # Errors
/// If the suite file has problems.
pub fn of_suite_file(text: &str) -> Result<Bundle, Error> {
    let suite = SuiteFile::parse(FILE_NAME, text).map_err(|e| Error::Pack(e.to_string()))?;
    let mut tar = archive();
    append(&mut tar, Path::new(FILE_NAME), text.as_bytes(), 0o644).map_err(|e| Error::Pack(e.to_string()))?;
    finish(tar, &suite, 1)
}

type Archive = tar::Builder<GzEncoder<Vec<u8>>>;

fn archive() -> Archive {
    tar::Builder::new(GzBuilder::new().mtime(0).write(Vec::new(), Compression::new(6)))
}

fn append(tar: &mut Archive, name: &Path, content: &[u8], mode: u32) -> std::io::Result<()> {
    let mut header = tar::Header::new_gnu();
    header.set_mtime(0);
    header.set_entry_type(tar::EntryType::Regular);
    header.set_mode(mode);
    header.set_size(content.len() as u64);
    tar.append_data(&mut header, name, content)
}

fn finish(tar: Archive, suite: &SuiteFile, files: usize) -> Result<Bundle, Error> {
    let content = tar.into_inner().and_then(GzEncoder::finish).map_err(|e| Error::Pack(e.to_string()))?;
    Ok(Bundle { digest: kesmo_wire::Digest::of(&content).into(), content, suite: suite.suite.to_string(), files })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> tempfile::TempDir {
        let dir = tempfile::tempdir().unwrap();
        let file = "suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{names}\"]\nresults = \"tap\"\n";
        fs::write(dir.path().join("kesmo.toml"), file).unwrap();
        fs::write(dir.path().join("t"), "#!/bin/sh\n").unwrap();
        fs::write(dir.path().join("left.log"), "x").unwrap();
        fs::write(dir.path().join("gone.txt"), "x").unwrap();
        fs::write(dir.path().join(".gitignore"), "*.log\n").unwrap();
        fs::write(dir.path().join(".kesmoignore"), "gone.txt\n").unwrap();
        dir
    }

    fn names(bundle: &Bundle) -> Vec<String> {
        let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(bundle.content.as_slice()));
        archive.entries().unwrap().map(|e| e.unwrap().path().unwrap().display().to_string()).collect()
    }

    #[test]
    fn ignore_files_are_respected() {
        let dir = folder();
        assert_eq!(names(&pack(dir.path()).unwrap()), [".gitignore", ".kesmoignore", "kesmo.toml", "t"]);
    }

    #[test]
    fn the_same_files_give_the_same_bundle() {
        let (a, b) = (folder(), folder());
        let before = pack(a.path()).unwrap().digest;
        assert_eq!(before, pack(b.path()).unwrap().digest);
        fs::set_permissions(b.path().join("t"), fs::Permissions::from_mode(0o755)).unwrap();
        assert_ne!(before, pack(b.path()).unwrap().digest, "whether a file may be run counts");
    }

    #[test]
    fn a_suite_file_alone_is_the_bundle_of_a_folder_with_nothing_else() {
        let dir = folder();
        for other in ["t", "left.log", "gone.txt", ".gitignore", ".kesmoignore"] {
            fs::remove_file(dir.path().join(other)).unwrap();
        }
        let text = fs::read_to_string(dir.path().join("kesmo.toml")).unwrap();
        let (alone, packed) = (of_suite_file(&text).unwrap(), pack(dir.path()).unwrap());
        assert_eq!((names(&alone), alone.files), (vec!["kesmo.toml".to_owned()], 1));
        assert_eq!(alone.digest, packed.digest);
        assert!(of_suite_file("suite = 3").is_err());
    }

    #[test]
    fn a_folder_without_a_suite_file_says_so() {
        let dir = tempfile::tempdir().unwrap();
        assert!(pack(dir.path()).unwrap_err().to_string().contains("kesmo.toml cannot be read"));
    }
}
