//! What `kesmo login` saves: a service's address, the token to call it with, and whom its certificate is trusted from.

use std::{
    io::Write,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

use serde::{Deserialize, Serialize};

use crate::{failure::Failure, service::Service};

/// What is saved; empty where nothing is.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Saved {
    pub url: String,
    pub token: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<PathBuf>,
}

fn path() -> Option<PathBuf> {
    let base = std::env::var_os("XDG_CONFIG_HOME").filter(|d| !d.is_empty()).map(PathBuf::from);
    let base = base.or_else(|| std::env::var_os("HOME").map(|home| Path::new(&home).join(".config")))?;
    Some(base.join("kesmo").join("login.json"))
}

impl Saved {
    /// Reads what is saved.
    pub fn read() -> Result<Self, Failure> {
        match path().map(std::fs::read_to_string) {
            Some(Ok(text)) => serde_json::from_str(&text).map_err(|e| {
                Failure::call(format!("what `kesmo login` saved cannot be read ({e}); run `kesmo login` again"))
            }),
            _ => Ok(Self::default()),
        }
    }
}

/// Forgets what is saved; tells whether there was anything.
pub fn forget() -> Result<Option<PathBuf>, Failure> {
    let Some(path) = path() else { return Ok(None) };
    match std::fs::remove_file(&path) {
        Ok(()) => Ok(Some(path)),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(Failure::trouble(format!("{}: {e}", path.display()))),
    }
}

/// Saves how a service is called.
pub fn save(service: &Service, token: &str) -> Result<PathBuf, Failure> {
    let path =
        path().ok_or_else(|| Failure::call("there is no home folder to save to: set HOME, or use KESMO_TOKEN"))?;
    let failed = |e: std::io::Error| Failure::trouble(format!("{}: {e}", path.display()));
    std::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).map_err(failed)?;
    let ca = service.ca.as_ref().map(|ca| ca.canonicalize().unwrap_or_else(|_| ca.clone()));
    let saved = Saved { url: service.url.trim_end_matches('/').to_owned(), token: token.to_owned(), ca };
    let text = serde_json::to_string_pretty(&saved).map_err(|e| Failure::trouble(e.to_string()))?;
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    Ok(path)
}
