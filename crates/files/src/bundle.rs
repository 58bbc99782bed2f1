//! Bundles: gzipped tar archives with `kesmo.toml` at their root.
//!
//! A small archive can claim any size. [`check`] reads one through without keeping more than a suite file of it, and refuses
//! what would not fit: too much content, too many entries, headers that are too long, entries that are no files, folders or
//! links, and a suite file that is not one regular file. [`unpack`] checks first.

use std::{
    fs::File,
    io::{self, Read},
    path::{Component, Path, PathBuf},
};

use flate2::read::GzDecoder;
use tar::{Archive, EntryType};

/// The suite file's name.
const SUITE_FILE: &str = "kesmo.toml";

/// What a bundle may hold.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// All content, unpacked, in bytes.
    pub unpacked: u64,
    pub entries: u64,
    /// A long name or another extension of an entry's header, in bytes.
    pub header: u64,
    /// The suite file, in bytes.
    pub suite_file: u64,
}

/// What every bundle may hold.
pub const LIMITS: Limits = Limits { unpacked: 4 << 30, entries: 500_000, header: 64 << 10, suite_file: 1 << 20 };

/// Why a bundle cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("the bundle is not a gzipped tar archive: {0}")]
    Unreadable(String),
    #[error("the bundle {0}")]
    Refused(String),
    #[error("the bundle holds no kesmo.toml at its root")]
    NoSuiteFile,
    #[error("{path}: {why}")]
    File { path: String, why: String },
}

/// Checks a bundle and gives the text of its suite file.
///
/// # Errors
/// If it is not a gzipped tar archive, holds what it may not, or has no suite file.
pub fn check(bundle: &Path, limits: Limits) -> Result<String, Error> {
    check_entries(bundle, limits)?;
    let mut found: Option<String> = None;
    let mut archive = open(bundle, limits)?;
    for entry in archive.entries().map_err(unreadable)? {
        let mut entry = entry.map_err(unreadable)?;
        let path = entry.path().map_err(unreadable)?.into_owned();
        if !is_suite_file(&path) {
            continue;
        }
        if entry.header().entry_type() != EntryType::Regular {
            return Err(Error::Refused("holds a kesmo.toml that is not a regular file".into()));
        }
        if found.is_some() {
            return Err(Error::Refused("holds two files kesmo.toml at its root".into()));
        }
        if entry.size() > limits.suite_file {
            return Err(Error::Refused(format!("holds a kesmo.toml of more than {} bytes", limits.suite_file)));
        }
        let mut text = String::new();
        entry
            .read_to_string(&mut text)
            .map_err(|e| Error::Refused(format!("holds a kesmo.toml that cannot be read: {e}")))?;
        found = Some(text);
    }
    found.ok_or(Error::NoSuiteFile)
}

/// Unpacks a bundle into a folder, after it was checked.
///
/// # Errors
/// As [`check`], or if the folder cannot be written.
pub fn unpack(bundle: &Path, to: &Path, limits: Limits) -> Result<(), Error> {
    check(bundle, limits)?;
    let mut archive = open(bundle, limits)?;
    archive.set_preserve_permissions(true);
    // `unpack` keeps every file below the folder, whatever its name says.
    archive.unpack(to).map_err(|e| Error::Refused(format!("cannot be unpacked: {e}")))
}

/// Looks at the bare entries, before anything puts their long names together in memory.
fn check_entries(bundle: &Path, limits: Limits) -> Result<(), Error> {
    let mut archive = open(bundle, limits)?;
    let (mut entries, mut bytes) = (0u64, 0u64);
    for entry in archive.entries().map_err(unreadable)?.raw(true) {
        let entry = entry.map_err(unreadable)?;
        let size = entry.header().entry_size().map_err(unreadable)?;
        match entry.header().entry_type() {
            EntryType::Regular | EntryType::Continuous => bytes = bytes.saturating_add(size),
            EntryType::Directory | EntryType::Symlink | EntryType::Link => {}
            EntryType::GNULongName | EntryType::GNULongLink | EntryType::XHeader | EntryType::XGlobalHeader => {
                if size > limits.header {
                    return Err(Error::Refused(format!(
                        "has a header of {size} bytes; names and attributes may have {}",
                        limits.header
                    )));
                }
            }
            other => {
                let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
                return Err(Error::Refused(format!(
                    "holds {name:?}, which is no file, folder or link (type {:?})",
                    char::from(other.as_byte())
                )));
            }
        }
        entries += 1;
        if entries > limits.entries {
            return Err(Error::Refused(format!("has more than {} entries", limits.entries)));
        }
        if bytes > limits.unpacked {
            return Err(too_much(limits));
        }
    }
    Ok(())
}

fn too_much(limits: Limits) -> Error {
    Error::Refused(format!("would be larger than {} MiB unpacked", limits.unpacked >> 20))
}

fn unreadable(error: io::Error) -> Error {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<TooMuch>()) {
        Some(TooMuch(limits)) => too_much(*limits),
        None => Error::Unreadable(error.to_string()),
    }
}

fn is_suite_file(path: &Path) -> bool {
    let plain: PathBuf = path.components().filter(|c| !matches!(c, Component::CurDir | Component::RootDir)).collect();
    plain == Path::new(SUITE_FILE)
}

fn open(bundle: &Path, limits: Limits) -> Result<Archive<Bounded<GzDecoder<File>>>, Error> {
    let file =
        File::open(bundle).map_err(|e| Error::File { path: bundle.display().to_string(), why: e.to_string() })?;
    // Headers and padding come to the content: a block for each, and for each extension of one.
    let most = limits.unpacked.saturating_add(limits.entries.saturating_mul(2048));
    Ok(Archive::new(Bounded { inner: GzDecoder::new(file), left: most, limits }))
}

/// Gives an error instead of more than its bound.
struct Bounded<R> {
    inner: R,
    left: u64,
    limits: Limits,
}

#[derive(Debug, thiserror::Error)]
#[error("it holds too much")]
struct TooMuch(Limits);

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.left = self.left.checked_sub(read as u64).ok_or_else(|| io::Error::other(TooMuch(self.limits)))?;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use flate2::{Compression, write::GzEncoder};
    use tar::{Builder, Header};

    use super::*;

    const SMALL: Limits = Limits { unpacked: 1 << 20, entries: 10, header: 1000, suite_file: 1000 };

    fn header(name: &str, kind: EntryType, size: u64) -> Header {
        let mut header = Header::new_gnu();
        header.set_entry_type(kind);
        header.set_path(name).unwrap();
        header.set_size(size);
        header.set_mode(0o644);
        header.set_cksum();
        header
    }

    /// Makes a bundle and tells why it is refused; none if it is not.
    fn refused(fill: impl FnOnce(&mut Builder<GzEncoder<File>>)) -> Option<String> {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("bundle");
        let mut builder = Builder::new(GzEncoder::new(File::create(&path).unwrap(), Compression::fast()));
        fill(&mut builder);
        builder.into_inner().unwrap().finish().unwrap();
        let checked = check(&path, SMALL).err().map(|e| e.to_string());
        let unpacked = unpack(&path, &dir.path().join("out"), SMALL).err().map(|e| e.to_string());
        assert_eq!(checked.is_some(), unpacked.is_some(), "{checked:?} {unpacked:?}");
        checked
    }

    fn add(builder: &mut Builder<GzEncoder<File>>, name: &str, content: &[u8]) {
        builder.append(&header(name, EntryType::Regular, content.len() as u64), content).unwrap();
    }

    #[test]
    fn a_bundle_is_read_whichever_way_its_root_is_written() {
        for name in ["kesmo.toml", "./kesmo.toml"] {
            assert_eq!(refused(|b| add(b, name, b"suite")), None);
        }
        let long = format!("{}/fares.txt", "deep/".repeat(40));
        let with_long_name = refused(|b| {
            add(b, "kesmo.toml", b"suite");
            b.append_data(&mut header("x", EntryType::Regular, 1), &long, &b"1"[..]).unwrap();
        });
        assert_eq!(with_long_name, None, "long names are common");
    }

    #[test]
    fn a_name_or_content_that_claims_too_much_is_refused_before_it_is_read() {
        let zeros = vec![0u8; 1 << 20];
        let name = refused(|b| {
            add(b, "kesmo.toml", b"suite");
            let mut long = header("././@LongLink", EntryType::GNULongName, 5 << 30);
            long.set_cksum();
            let out = b.get_mut();
            out.write_all(long.as_bytes()).unwrap();
            (0..20).for_each(|_| out.write_all(&zeros).unwrap());
        });
        assert!(name.unwrap().contains("a header of 5368709120 bytes"));
        let content = refused(|b| {
            add(b, "a", &zeros);
            add(b, "b", b"1");
            add(b, "kesmo.toml", b"suite");
        });
        assert!(content.unwrap().contains("larger than 1 MiB unpacked"));
        let many = refused(|b| (0..11).for_each(|n| add(b, &format!("f{n}"), b"")));
        assert!(many.unwrap().contains("more than 10 entries"));
    }

    #[test]
    fn content_that_never_ends_is_not_read_to_its_end() {
        let endless = refused(|b| {
            let out = b.get_mut();
            out.write_all(header("kesmo.toml", EntryType::Regular, 3).as_bytes()).unwrap();
            out.write_all(&[b'x'; 512]).unwrap();
            out.write_all(header("big", EntryType::Symlink, 1 << 40).as_bytes()).unwrap();
            let zeros = vec![0u8; 1 << 20];
            (0..8).for_each(|_| out.write_all(&zeros).unwrap());
        });
        assert!(endless.is_some());
    }

    #[test]
    fn only_files_folders_and_links_are_unpacked() {
        for kind in [EntryType::Fifo, EntryType::Char, EntryType::Block, EntryType::GNUSparse] {
            let why = refused(|b| {
                add(b, "kesmo.toml", b"suite");
                b.append(&header("odd", kind, 0), io::empty()).unwrap();
            });
            assert!(why.unwrap().contains("\"odd\", which is no file, folder or link"), "{kind:?}");
        }
    }

    #[test]
    fn the_suite_file_is_one_regular_file() {
        let link = |b: &mut Builder<GzEncoder<File>>, name: &str| {
            let mut link = header(name, EntryType::Symlink, 0);
            link.set_link_name("/dev/zero").unwrap();
            link.set_cksum();
            b.append(&link, io::empty()).unwrap();
        };
        assert!(refused(|b| link(b, "kesmo.toml")).unwrap().contains("not a regular file"));
        let second = refused(|b| {
            add(b, "kesmo.toml", b"suite");
            link(b, "./kesmo.toml");
        });
        assert!(second.unwrap().contains("not a regular file"));
        let twice = refused(|b| {
            add(b, "kesmo.toml", b"suite");
            add(b, "./kesmo.toml", b"other");
        });
        assert!(twice.unwrap().contains("two files kesmo.toml"));
        assert!(refused(|b| add(b, "kesmo.toml", &[b'#'; 1001])).unwrap().contains("more than 1000 bytes"));
        assert!(refused(|b| add(b, "kesmo.toml", &[0xff])).unwrap().contains("cannot be read"));
        assert!(refused(|b| add(b, "deep/kesmo.toml", b"suite")).unwrap().contains("no kesmo.toml at its root"));
    }

    #[test]
    fn what_is_no_archive_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("bundle");
        std::fs::write(&path, "no archive").unwrap();
        assert!(check(&path, LIMITS).unwrap_err().to_string().contains("not a gzipped tar archive"));
    }
}
