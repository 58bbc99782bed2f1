//! Blobs under their SHA-256: bundles, artifacts and long logs, in a folder, or in an object store before which the folder stands.

use std::{
    io,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, SystemTime},
};

use kesmo_wire::Digest;
use sha2::{Digest as _, Sha256};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWriteExt};

use crate::{bundle, error::Error, objects::Objects, secret::random_text};

/// The largest blob that is taken, in bytes.
pub const LARGEST: u64 = 1 << 30;

/// Blobs.
#[derive(Debug, Clone)]
pub struct Blobs {
    folder: PathBuf,
    /// Where they are kept; the folder holds what was used of late.
    objects: Option<Arc<Objects>>,
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
        Ok(Self { folder, objects: None })
    }

    /// The same, which are kept in an object store.
    #[must_use]
    pub fn kept_in(self, objects: Objects) -> Self {
        Self { objects: Some(Arc::new(objects)), ..self }
    }

    /// Where the blob of a digest stands in the folder.
    pub(crate) fn path(&self, digest: &Digest) -> PathBuf {
        let (start, rest) = digest.as_str().split_at(2);
        self.folder.join(start).join(rest)
    }

    /// Where the blob of a digest is on this machine: brought from the object store if it is not here.
    ///
    /// # Errors
    /// If there is none (`NotFound`), or it cannot be brought.
    pub async fn local(&self, digest: &Digest) -> io::Result<PathBuf> {
        let path = self.path(digest);
        if tokio::fs::try_exists(&path).await? {
            return Ok(path);
        }
        let none = || io::Error::new(io::ErrorKind::NotFound, format!("there is no file {digest}"));
        let objects = self.objects.as_ref().ok_or_else(none)?;
        let coming = Coming(self.coming());
        if !objects.get(digest, &coming.0, LARGEST).await.map_err(io::Error::other)? {
            return Err(none());
        }
        let (brought, wanted) = (coming.0.clone(), digest.to_string());
        let found = tokio::task::spawn_blocking(move || {
            let mut hash = Sha256::new();
            io::copy(&mut std::fs::File::open(brought)?, &mut hash)?;
            Ok::<_, io::Error>(hex::encode(hash.finalize()))
        });
        if found.await.map_err(io::Error::other)?? != wanted {
            return Err(io::Error::other(format!("the object store has another file under {digest}")));
        }
        tokio::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).await?;
        tokio::fs::rename(&coming.0, &path).await?;
        Ok(path)
    }

    /// What a blob holds.
    ///
    /// # Errors
    /// As [`Blobs::local`].
    pub async fn read(&self, digest: &Digest) -> io::Result<Vec<u8>> {
        tokio::fs::read(self.local(digest).await?).await
    }

    /// Where whoever downloads reaches the object store, where they do.
    #[must_use]
    pub fn outside(&self) -> Option<String> {
        self.objects.as_ref()?.outside()
    }

    /// An address at which whoever has it gets a blob from the object store for a few minutes; none where nobody reaches that.
    pub async fn signed(&self, digest: &Digest, kind: &str, keep: bool) -> Option<String> {
        match self.objects.as_ref()?.signed(digest, kind, keep).await {
            Ok(url) => url.map(String::from),
            Err(e) => {
                // It is brought here then, which tells why it fails, if it does.
                tracing::warn!("{e}");
                None
            }
        }
    }

    /// Whether a blob is there.
    pub async fn has(&self, digest: &Digest) -> bool {
        self.local(digest).await.is_ok()
    }

    /// Hands a blob of the folder to the object store, where there is one.
    async fn hand_on(&self, digest: &Digest) -> Result<(), Error> {
        let Some(objects) = &self.objects else { return Ok(()) };
        let path = self.path(digest);
        let put = objects.put(&path, digest).await;
        if put.is_err() {
            // What is not kept there is not kept: it comes again.
            drop(Coming(path.clone()));
        }
        put.map_err(|e| Error::file(&path, &io::Error::other(e)))
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
    pub async fn adopt(&self, coming: &Path, digest: &Digest) -> Result<(), Error> {
        let path = self.path(digest);
        let moved = std::fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))
            .and_then(|()| std::fs::rename(coming, &path));
        moved.map_err(|e| Error::file(&path, &e))?;
        self.hand_on(digest).await
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
        kept?;
        self.hand_on(digest).await.map_err(NotTaken::Failed)?;
        Ok(bytes)
    }

    /// Whether a blob is there; if it is, it stays for as long as a new one does.
    pub async fn touch(&self, digest: &Digest) -> bool {
        if let Some(objects) = &self.objects {
            return objects.touch(digest).await.unwrap_or_else(|e| {
                tracing::warn!("{e}");
                false
            });
        }
        let file = std::fs::OpenOptions::new().append(true).open(self.path(digest));
        file.is_ok_and(|file| file.set_modified(SystemTime::now()).is_ok())
    }

    /// The blobs that were there and not asked for since a moment.
    ///
    /// # Errors
    /// If the object store does not tell.
    pub async fn older_than(&self, moment: SystemTime) -> Result<Vec<Digest>, Error> {
        if let Some(objects) = &self.objects {
            let all = objects.all().await.map_err(|e| Error::file(&self.folder, &io::Error::other(e)))?;
            return Ok(all.into_iter().filter(|one| one.modified < moment).map(|one| one.digest).collect());
        }
        let own = self.clone();
        let found = tokio::task::spawn_blocking(move || own.here_before(moment)).await;
        found.map_err(|e| Error::file(&self.folder, &io::Error::other(e)))
    }

    /// All that is kept.
    ///
    /// # Errors
    /// If the object store does not tell.
    pub async fn all(&self) -> Result<Vec<Digest>, Error> {
        self.older_than(SystemTime::now() + UPLOAD_LASTS).await
    }

    /// Blobs that were set aside long enough ago: each is to be ended by [`Blobs::settle`].
    ///
    /// # Errors
    /// If the object store does not tell.
    pub async fn long_aside(&self) -> Result<Vec<Digest>, Error> {
        let Some(objects) = &self.objects else { return Ok(Vec::new()) };
        objects.long_aside().await.map_err(|e| Error::file(&self.folder, &io::Error::other(e)))
    }

    /// Ends what was set aside: it is needed after all, or goes.
    ///
    /// # Errors
    /// If the object store does not do it.
    pub async fn settle(&self, digest: &Digest, needed: bool) -> Result<(), Error> {
        let Some(objects) = &self.objects else { return Ok(()) };
        objects.settle(digest, needed).await.map_err(|e| Error::file(&self.path(digest), &io::Error::other(e)))
    }

    /// Lets go of what the folder holds of blobs that are kept in the object store, unless it came since a moment.
    pub async fn forget_local(&self, moment: SystemTime) {
        if self.objects.is_none() {
            return;
        }
        let own = self.clone();
        let forgotten = tokio::task::spawn_blocking(move || {
            for digest in own.here_before(moment) {
                if let Err(e) = std::fs::remove_file(own.path(&digest)) {
                    tracing::debug!("a file that is kept elsewhere stays here: {e}");
                }
            }
        });
        if let Err(e) = forgotten.await {
            tracing::warn!("what is kept elsewhere stays here: {e}");
        }
    }

    /// The blobs of the folder that came, or were asked for, before a moment.
    fn here_before(&self, moment: SystemTime) -> Vec<Digest> {
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
    pub async fn remove_older(&self, digest: &Digest, moment: SystemTime) -> Result<Option<u64>, Error> {
        if let Some(objects) = &self.objects {
            let gone = objects.set_aside(digest, moment).await;
            return gone.map_err(|e| Error::file(&self.path(digest), &io::Error::other(e)));
        }
        let (own, digest) = (self.clone(), digest.clone());
        let removed = tokio::task::spawn_blocking(move || own.remove_here(&digest, moment)).await;
        removed.unwrap_or_else(|e| Err(Error::file(&self.folder, &io::Error::other(e))))
    }

    fn remove_here(&self, digest: &Digest, moment: SystemTime) -> Result<Option<u64>, Error> {
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
    pub async fn suite_file(&self, bundle: &Digest) -> Result<String, String> {
        let path = self.local(bundle).await.map_err(|e| e.to_string())?;
        let read = tokio::task::spawn_blocking(move || bundle::check(&path, bundle::LIMITS).map_err(|e| e.to_string()));
        read.await.map_err(|e| e.to_string())?
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
