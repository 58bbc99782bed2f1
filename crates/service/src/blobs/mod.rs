//! Blobs under their SHA-256: bundles, artifacts and long logs, in a folder.

use std::{
    io::Read,
    path::{Path, PathBuf},
};

use rocket::data::{Data, ToByteUnit};
use sha2::{Digest, Sha256};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::Error;

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
        std::fs::create_dir_all(folder.join("coming")).map_err(|e| Error::file(&folder, &e))?;
        Ok(Self { folder })
    }

    /// Where the blob of a digest is. The digest must have been checked.
    #[must_use]
    pub fn path(&self, digest: &str) -> PathBuf {
        self.folder.join(&digest[..2]).join(&digest[2..])
    }

    /// Whether a blob is there.
    #[must_use]
    pub fn has(&self, digest: &str) -> bool {
        self.path(digest).exists()
    }

    /// A path of its own for a blob that is being made here.
    #[must_use]
    pub fn coming(&self) -> PathBuf {
        self.folder.join("coming").join(crate::access::random_text())
    }

    /// Takes a file that was made at [`Blobs::coming`] as the blob of its digest.
    ///
    /// # Errors
    /// If it cannot be moved.
    pub fn adopt(&self, coming: &Path, digest: &str) -> Result<(), Error> {
        let path = self.path(digest);
        let moved = std::fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))
            .and_then(|()| std::fs::rename(coming, &path));
        moved.map_err(|e| Error::file(&path, &e))
    }

    /// Takes the body of a call as the blob of that digest, without holding it in memory.
    ///
    /// # Errors
    /// If the content is another, is too large, or cannot be written.
    pub async fn take(&self, digest: &str, body: Data<'_>) -> Result<u64, NotTaken> {
        let path = self.path(digest);
        let coming = self.coming();
        let failed = |e: &std::io::Error| NotTaken::Failed(Error::file(&coming, e));
        let mut file = tokio::fs::File::create(&coming).await.map_err(|e| failed(&e))?;
        let mut stream = body.open((LARGEST + 1).bytes());
        let mut hash = Sha256::new();
        let mut bytes = 0u64;
        let mut buffer = vec![0u8; 64 << 10];
        let taken = loop {
            let read = match stream.read(&mut buffer).await {
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
        let taken = taken.and_then(|()| if found == digest { Ok(()) } else { Err(NotTaken::OtherDigest(found)) });
        let kept = match taken {
            Ok(()) => async {
                file.flush().await?;
                file.sync_all().await?;
                tokio::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).await?;
                tokio::fs::rename(&coming, &path).await
            }
            .await
            .map_err(|e| failed(&e)),
            Err(e) => Err(e),
        };
        if kept.is_err()
            && let Err(e) = tokio::fs::remove_file(&coming).await
        {
            tracing::warn!("an upload that failed could not be cleared away: {e}");
        }
        kept.map(|()| bytes)
    }

    /// The text of a file within a bundle, at most 1 MiB.
    ///
    /// # Errors
    /// In words, if the bundle is no gzipped tar, or holds no such file.
    pub fn file_in_bundle(&self, digest: &str, name: &str) -> Result<String, String> {
        let file = std::fs::File::open(self.path(digest)).map_err(|e| e.to_string())?;
        let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(file));
        let unreadable = |e: std::io::Error| format!("the bundle is no gzipped tar archive: {e}");
        for entry in archive.entries().map_err(unreadable)? {
            let entry = entry.map_err(unreadable)?;
            if entry.path().is_ok_and(|path| path == Path::new(name)) {
                let mut text = String::new();
                entry.take(1 << 20).read_to_string(&mut text).map_err(|e| format!("{name} cannot be read: {e}"))?;
                return Ok(text);
            }
        }
        Err(format!("the bundle holds no {name} at its root"))
    }
}
