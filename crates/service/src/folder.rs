//! What lies in a service's folders: the file that tells who uses one, the service's id, and the key that seals secrets.

use std::{
    io::{Read, Write},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    time::Duration,
};

use crate::error::Error;

/// Takes a data folder for this process, as long as the file is open; whoever has it drained finds it by what is written there.
pub(crate) fn take(data: &Path) -> Result<std::fs::File, Error> {
    let path = data.join("lock");
    let mut lock = open_lock(&path)?;
    if lock.try_lock().is_err() {
        return Err(Error::FolderTaken(data.display().to_string()));
    }
    let told = lock.set_len(0).and_then(|()| write!(lock, "{}", std::process::id()));
    told.map_err(|e| Error::file(&path, &e))?;
    Ok(lock)
}

/// The file that tells that a data folder is in use, and by which process.
fn open_lock(path: &Path) -> Result<std::fs::File, Error> {
    let opened = std::fs::File::options().read(true).write(true).create(true).truncate(false).open(path);
    opened.map_err(|e| Error::file(path, &e))
}

/// Has the service of a data folder end in peace: it says that it is not ready for so long, so that balancers send nothing more, and
/// hands its pools to another service as it ends. Waits until it has; false if none runs there.
///
/// # Errors
/// If the folder cannot be read, or its service cannot be told.
pub fn drain(data: &Path, first: Duration) -> Result<bool, Error> {
    let path = data.join("lock");
    if !path.exists() {
        return Ok(false);
    }
    let mut lock = open_lock(&path)?;
    if lock.try_lock().is_ok() {
        return Ok(false);
    }
    let mut text = String::new();
    lock.read_to_string(&mut text).map_err(|e| Error::file(&path, &e))?;
    let id: i32 = text.trim().parse().map_err(|_| {
        Error::Option(format!("{} does not say which process uses the folder: end it by SIGTERM", path.display()))
    })?;
    let tell = |signal| {
        let told = if has_open(id, &lock) {
            nix::sys::signal::kill(nix::unistd::Pid::from_raw(id), signal).map_err(|e| e.to_string())
        } else {
            Err("it does not use that file: if the service runs in a container, drain it in there".to_owned())
        };
        told.map_err(|why| {
            Error::Option(format!("process {id}, which {} names, cannot be told: {why}", path.display()))
        })
    };
    tell(nix::sys::signal::Signal::SIGUSR1)?;
    std::thread::sleep(first);
    // It may have ended by itself meanwhile, and its number be another's.
    if lock.try_lock().is_ok() {
        return Ok(true);
    }
    tell(nix::sys::signal::Signal::SIGTERM)?;
    lock.lock().map_err(|e| Error::file(&path, &e))?;
    Ok(true)
}

/// Whether a process of this machine has a file open: the number that stands in one may mean another process by now, or be that of
/// another container. One whose files may not be seen here is taken for it: who may not see them may not end it either, mostly.
fn has_open(id: i32, file: &std::fs::File) -> bool {
    let place = |meta: std::fs::Metadata| (meta.dev(), meta.ino());
    let Ok(wanted) = file.metadata().map(place) else { return false };
    match std::fs::read_dir(format!("/proc/{id}/fd")) {
        Ok(open) => open.flatten().any(|one| std::fs::metadata(one.path()).is_ok_and(|meta| place(meta) == wanted)),
        Err(e) => e.kind() == std::io::ErrorKind::PermissionDenied,
    }
}

/// Whether a file can be made in a folder.
pub(crate) fn tempfile_in(folder: &Path) -> std::io::Result<()> {
    let path = folder.join(format!(".kesmo-check-{}", &kesmo_files::secret::random_text()[..12]));
    std::fs::write(&path, "")?;
    std::fs::remove_file(&path)
}

/// The key that seals secrets where no other was named: made at the first start in the folder of files, which services that share a
/// database share. Of two that start at once, one makes it.
pub(crate) fn own_key(files: &Path) -> Result<PathBuf, Error> {
    let path = files.join("secret-key");
    if path.exists() {
        return Ok(path);
    }
    let failed = |e: std::io::Error| Error::file(&path, &e);
    std::fs::create_dir_all(files).map_err(failed)?;
    let made = path.with_extension(&kesmo_files::secret::random_text()[..12]);
    kesmo_files::secret::write_secret(&made, &kesmo_files::secret::random_text()).map_err(failed)?;
    let linked = std::fs::hard_link(&made, &path);
    std::fs::remove_file(&made).map_err(failed)?;
    match linked {
        Err(e) if e.kind() != std::io::ErrorKind::AlreadyExists => Err(failed(e)),
        _ => Ok(path),
    }
}

/// The service's id: made at the first start with a data folder, and the same after.
pub(crate) fn service_id(data: &Path) -> Result<String, Error> {
    let path = data.join("service-id");
    match std::fs::read_to_string(&path) {
        Ok(id) if !id.trim().is_empty() => Ok(id.trim().to_owned()),
        _ => {
            let id = kesmo_files::secret::random_text()[..16].to_owned();
            std::fs::write(&path, &id).map_err(|e| Error::file(&path, &e))?;
            Ok(id)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn services_that_share_their_files_share_the_key_that_seals() {
        let dir = tempfile::tempdir().expect("a folder");
        let read = |path: PathBuf| std::fs::read_to_string(path).expect("a key");
        let blobs = dir.path().join("blobs");
        let key = read(own_key(&blobs).expect("it is made"));
        assert_eq!(key.trim().len(), 64);
        assert_eq!(key, read(own_key(&blobs).expect("it is there")));
        assert_ne!(key, read(own_key(&dir.path().join("others")).expect("another")));
        assert_eq!(std::fs::read_dir(&blobs).expect("the folder").count(), 1, "nothing else is left");
    }
}
