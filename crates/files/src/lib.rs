//! Files that came from others: [`bundle`]s are checked before anything of them is used, and a file is only read if it is a
//! regular one of a bounded size ([`read_regular`]). [`blobs`] keeps them by their digest, [`git`] brings them from version
//! control.

pub mod blobs;
pub mod bundle;
pub mod error;
pub mod git;
pub mod objects;
pub mod secret;

use std::{
    fs::OpenOptions,
    io::{self, Read},
    os::unix::fs::OpenOptionsExt,
    path::Path,
};

pub use error::Error;

/// Reads a regular file of at most `most` bytes. Links are not followed, and nothing is waited for that is no file: a FIFO
/// or a device that a test put in a file's place gives an error.
///
/// # Errors
/// If it cannot be opened, is not a regular file, or is larger.
pub fn read_regular(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let file =
        OpenOptions::new().read(true).custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK).open(path).map_err(|e| {
            if e.raw_os_error() == Some(libc::ELOOP) { other("it is a link, and not a regular file") } else { e }
        })?;
    let meta = file.metadata()?;
    if !meta.is_file() {
        return Err(other("it is not a regular file"));
    }
    let too_large = |bytes: u64| other(&format!("it has {bytes} bytes, more than {most}"));
    if meta.len() > most {
        return Err(too_large(meta.len()));
    }
    let mut content = Vec::with_capacity(usize::try_from(meta.len()).unwrap_or(0));
    file.take(most + 1).read_to_end(&mut content)?;
    // It may have grown meanwhile.
    if content.len() as u64 > most { Err(too_large(content.len() as u64)) } else { Ok(content) }
}

fn other(why: &str) -> io::Error {
    io::Error::other(why.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_regular_files_within_their_bound_are_read() {
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| dir.path().join(name);
        std::fs::write(at("file"), "boarding").unwrap();
        assert_eq!(read_regular(&at("file"), 8).unwrap(), b"boarding");
        let why = |name: &str, most| read_regular(&at(name), most).unwrap_err().to_string();
        assert!(why("file", 7).contains("8 bytes, more than 7"));
        std::os::unix::fs::symlink("/dev/zero", at("endless")).unwrap();
        assert!(why("endless", 8).contains("a link"));
        let fifo = std::process::Command::new("mkfifo").arg(at("fifo")).status().unwrap();
        assert!(fifo.success());
        assert!(why("fifo", 8).contains("not a regular file"), "and it is not waited for");
        assert!(why(".", 8).contains("not a regular file"));
        assert!(read_regular(Path::new("/dev/zero"), 8).is_err());
    }
}
