//! The user that a suite's processes run as, where that is not the worker's own: so that they can read neither the worker's
//! files nor its memory, also where the worker is root.

use std::path::Path;

use nix::unistd::{Gid, Uid, User};

use crate::error::Error;

/// A user of the machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RunAs {
    pub name: String,
    pub uid: u32,
    pub gid: u32,
    pub home: std::path::PathBuf,
}

impl RunAs {
    /// The user of that name.
    ///
    /// # Errors
    /// If there is none, or this process may not start others as that user.
    pub fn named(name: &str) -> Result<Self, Error> {
        let failed = |why: String| Error::User(format!("{name}: {why}"));
        let user = User::from_name(name).map_err(|e| failed(e.to_string()))?;
        let user = user.ok_or_else(|| failed("there is no such user on this machine".into()))?;
        if user.uid.is_root() {
            return Err(failed("tests are not run as root for their safety: name another user".into()));
        }
        if !Uid::effective().is_root() {
            return Err(failed("only a worker that runs as root can run tests as another user".into()));
        }
        Ok(Self { name: user.name, uid: user.uid.as_raw(), gid: user.gid.as_raw(), home: user.dir })
    }

    /// Gives a file, or a folder with all in it, to the user. Links are not followed.
    ///
    /// # Errors
    /// In words, with the path.
    pub fn own(&self, path: &Path) -> Result<(), String> {
        let failed = |e: &dyn std::fmt::Display| format!("{}: {e}", path.display());
        let (uid, gid) = (Uid::from_raw(self.uid), Gid::from_raw(self.gid));
        nix::unistd::fchownat(
            nix::fcntl::AT_FDCWD,
            path,
            Some(uid),
            Some(gid),
            nix::fcntl::AtFlags::AT_SYMLINK_NOFOLLOW,
        )
        .map_err(|e| failed(&e))?;
        if !std::fs::symlink_metadata(path).map_err(|e| failed(&e))?.is_dir() {
            return Ok(());
        }
        for entry in std::fs::read_dir(path).map_err(|e| failed(&e))? {
            self.own(&entry.map_err(|e| failed(&e))?.path())?;
        }
        Ok(())
    }
}

/// Lets every user of the machine pass through a folder, without listing it.
pub(crate) fn let_through(folder: &Path) -> Result<(), Error> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o711)).map_err(|e| Error::file(folder, &e))
}
