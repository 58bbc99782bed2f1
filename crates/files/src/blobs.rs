//! Blobs under their SHA-256: bundles, artifacts and long logs, in a folder.

use std::{
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use kesmo_wire::Digest;
use sha2::{Digest as _, Sha256};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWriteExt};

use crate::{bundle, error::Error, secret::random_text};

/// The largest blob that is taken, in bytes.
pub const LARGEST: u64 = 1 << 30;

/// A folder of blobs.
#[derive(Debug, Clone)]
pub struct Blobs {
    folder: PathBuf,
}

/// Why a blob was not taken.
#[derive(Debug)]
pub enum NotTaken {
    /// The content does not have the digest under which it was sent.
    OtherDigest(String),
    TooLarge,
    Failed(Error),
}

impl Blobs {
    /// Opens a folder, making it where there is none.
    ///
    /// # Errors
    /// If it cannot be made.
    pub fn open(folder: PathBuf) -> Result<Self, Error> {
        let coming = folder.join("coming");
        std::fs::create_dir_all(&coming).map_err(|e| Error::file(&folder, &e))?;
        // What tests printed is for who may see runs, and not for every user of the machine.
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o700))
            .map_err(|e| Error::file(&folder, &e))?;
        // Another service may share the folder and be taking something now.
        for upload in std::fs::read_dir(&coming).map_err(|e| Error::file(&coming, &e))?.flatten() {
            let modified = upload.metadata().and_then(|m| m.modified());
            let old = |at: SystemTime| at.elapsed().is_ok_and(|age| age >= UPLOAD_LASTS);
            if modified.is_ok_and(old)
                && let Err(e) = std::fs::remove_file(upload.path())
            {
                tracing::warn!("an upload that was broken off could not be cleared away: {e}");
            }
        }
        Ok(Self { folder })
    }

    /// Where the blob of a digest is.
    #[must_use]
    pub fn path(&self, digest: &Digest) -> PathBuf {
        let (start, rest) = digest.as_str().split_at(2);
        self.folder.join(start).join(rest)
    }

    /// Whether a blob is there.
    #[must_use]
    pub fn has(&self, digest: &Digest) -> bool {
        self.path(digest).exists()
    }

    /// A path of its own for a blob that is being made here.
    #[must_use]
    pub fn coming(&self) -> PathBuf {
        self.folder.join("coming").join(random_text())
    }

    /// Takes a file that was made at [`Blobs::coming`] as the blob of its digest.
    ///
    /// # Errors
    /// If it cannot be moved.
    pub fn adopt(&self, coming: &Path, digest: &Digest) -> Result<(), Error> {
        let path = self.path(digest);
        let moved = std::fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))
            .and_then(|()| std::fs::rename(coming, &path));
        moved.map_err(|e| Error::file(&path, &e))
    }

    /// Takes what is sent as the blob of that digest, without holding it in memory.
    ///
    /// # Errors
    /// If the content is another, is too large, or cannot be written.
    pub async fn take(&self, digest: &Digest, mut body: impl AsyncRead + Unpin) -> Result<u64, NotTaken> {
        let path = self.path(digest);
        // Removed when the call is broken off, wherever that is.
        let coming = Coming(self.coming());
        let coming = &coming.0;
        let failed = |e: &std::io::Error| NotTaken::Failed(Error::file(coming, e));
        let mut file = tokio::fs::File::create(coming).await.map_err(|e| failed(&e))?;
        let mut hash = Sha256::new();
        let mut bytes = 0u64;
        let mut buffer = vec![0u8; 64 << 10];
        let taken = loop {
            let read = match body.read(&mut buffer).await {
                Ok(0) => break Ok(()),
                Ok(read) => read,
                Err(e) => break Err(failed(&e)),
            };
            bytes += read as u64;
            if bytes > LARGEST {
                break Err(NotTaken::TooLarge);
            }
            hash.update(&buffer[..read]);
            if let Err(e) = file.write_all(&buffer[..read]).await {
                break Err(failed(&e));
            }
        };
        let found = hex::encode(hash.finalize());
        let taken =
            taken.and_then(|()| if found == digest.as_str() { Ok(()) } else { Err(NotTaken::OtherDigest(found)) });
        let kept = match taken {
            Ok(()) => async {
                file.flush().await?;
                file.sync_all().await?;
                tokio::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).await?;
                tokio::fs::rename(coming, &path).await
            }
            .await
            .map_err(|e| failed(&e)),
            Err(e) => Err(e),
        };
        kept.map(|()| bytes)
    }

    /// Whether a blob is there; if it is, it stays for as long as a new one does.
    #[must_use]
    pub fn touch(&self, digest: &Digest) -> bool {
        let file = std::fs::OpenOptions::new().append(true).open(self.path(digest));
        file.is_ok_and(|file| file.set_modified(SystemTime::now()).is_ok())
    }

    /// The blobs that were there and not asked for since a moment.
    #[must_use]
    pub fn older_than(&self, moment: SystemTime) -> Vec<Digest> {
        let mut old = Vec::new();
        for start in std::fs::read_dir(&self.folder).into_iter().flatten().flatten() {
            let name = start.file_name().to_string_lossy().into_owned();
            if name.len() != 2 {
                continue;
            }
            for rest in std::fs::read_dir(start.path()).into_iter().flatten().flatten() {
                let modified = rest.metadata().and_then(|m| m.modified());
                let digest = Digest::parse(&format!("{name}{}", rest.file_name().to_string_lossy()));
                if let (true, Ok(digest)) = (modified.is_ok_and(|at| at < moment), digest) {
                    old.push(digest);
                }
            }
        }
        old
    }

    /// Removes a blob that nothing needs; tells the bytes that it took, or none where one was taken anew under its digest meanwhile.
    ///
    /// # Errors
    /// If it cannot be removed.
    pub fn remove_older(&self, digest: &Digest, moment: SystemTime) -> Result<Option<u64>, Error> {
        let (path, aside) = (self.path(digest), self.coming());
        let failed = |e: &std::io::Error| Error::file(&path, e);
        // Whatever is there by now is moved at once, and then looked at: an upload that comes between is put back.
        match std::fs::rename(&path, &aside) {
            Ok(()) => {}
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(failed(&e)),
        }
        let about = std::fs::metadata(&aside).map_err(|e| failed(&e))?;
        if about.modified().is_ok_and(|at| at >= moment) {
            std::fs::rename(&aside, &path).map_err(|e| failed(&e))?;
            return Ok(None);
        }
        std::fs::remove_file(&aside).map_err(|e| failed(&e))?;
        Ok(Some(about.len()))
    }

    /// The text of the suite file of a bundle, which is checked through.
    ///
    /// # Errors
    /// In words, if it is no bundle that can be used.
    pub fn suite_file(&self, bundle: &Digest) -> Result<String, String> {
        bundle::check(&self.path(bundle), bundle::LIMITS).map_err(|e| e.to_string())
    }
}

/// An upload that was not taken whole, and of which nothing was heard for so long, was broken off.
const UPLOAD_LASTS: Duration = Duration::from_secs(24 * 3600);

/// A file that is being taken.
struct Coming(PathBuf);

impl Drop for Coming {
    fn drop(&mut self) {
        match std::fs::remove_file(&self.0) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                tracing::warn!("an upload that failed could not be cleared away: {e}");
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_folder_is_its_owners_and_uploads_that_were_broken_off_are_cleared_away() {
        let dir = tempfile::tempdir().unwrap();
        let coming = dir.path().join("blobs/coming");
        std::fs::create_dir_all(&coming).unwrap();
        std::fs::write(coming.join("old"), "x").unwrap();
        std::fs::write(coming.join("new"), "x").unwrap();
        let old = std::fs::File::open(coming.join("old")).unwrap();
        old.set_modified(SystemTime::now() - 2 * UPLOAD_LASTS).unwrap();
        let blobs = Blobs::open(dir.path().join("blobs")).unwrap();
        assert!(!coming.join("old").exists() && coming.join("new").exists());
        let mode = std::fs::metadata(dir.path().join("blobs")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o700);
        drop(Coming(coming.join("new")));
        assert!(!coming.join("new").exists());
        assert!(blobs.path(&Digest::of(b"")).starts_with(dir.path().join("blobs/e3")));
    }
}
