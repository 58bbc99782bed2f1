//! A worker's home folder: used by one worker at a time, and known by a mark.

use std::sync::Arc;

use crate::{clock::random_mark, error::Error};

/// A home folder that is taken, for as long as this is kept.
#[derive(Debug, Clone)]
pub struct Home(#[allow(dead_code, reason = "held, not read")] Arc<std::fs::File>);

/// Takes a home folder, making it where there is none; none if another worker uses it.
///
/// # Errors
/// If it cannot be made.
pub fn take_home(home: &std::path::Path) -> Result<Option<Home>, Error> {
    std::fs::create_dir_all(home).map_err(|e| Error::file(home, &e))?;
    let path = home.join("lock");
    let lock = std::fs::File::create(&path).map_err(|e| Error::file(&path, &e))?;
    Ok(lock.try_lock().is_ok().then(|| Home(Arc::new(lock))))
}

/// The mark of a home folder, made when it is used for the first time: it tells this home from others, whichever process
/// uses it.
///
/// # Errors
/// If the folder cannot be written.
pub fn home_mark(home: &std::path::Path) -> Result<String, Error> {
    std::fs::create_dir_all(home).map_err(|e| Error::file(home, &e))?;
    let path = home.join("home");
    match std::fs::read_to_string(&path) {
        Ok(mark) if mark.trim().len() == 16 && mark.trim().bytes().all(|b| b.is_ascii_hexdigit()) => {
            Ok(mark.trim().to_owned())
        }
        _ => {
            let mark = random_mark();
            std::fs::write(&path, &mark).map_err(|e| Error::file(&path, &e))?;
            Ok(mark)
        }
    }
}
