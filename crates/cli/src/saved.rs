//! What `kesmo login` saved: a service's address and a token, in a file that only its owner reads.

use std::{
    io::Write,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

use kesmo_wire::DEFAULT_PORT;
use serde::{Deserialize, Serialize};

use crate::Failure;

#[derive(Debug, Default, Serialize, Deserialize)]
struct Saved {
    url: String,
    token: String,
}

fn path() -> Option<PathBuf> {
    let base = std::env::var_os("XDG_CONFIG_HOME").filter(|d| !d.is_empty()).map(PathBuf::from);
    let base = base.or_else(|| std::env::var_os("HOME").map(|home| Path::new(&home).join(".config")))?;
    Some(base.join("kesmo").join("login.json"))
}

/// The address and token to call with: what was given, else what was saved.
pub fn service(url: Option<&str>, token: Option<&str>) -> Result<(String, String), Failure> {
    let saved = match path().map(std::fs::read_to_string) {
        Some(Ok(text)) => serde_json::from_str(&text).map_err(|e| {
            Failure::call(format!("what `kesmo login` saved cannot be read ({e}); run `kesmo login` again"))
        })?,
        _ => Saved::default(),
    };
    let default = || format!("http://127.0.0.1:{DEFAULT_PORT}");
    let given = url.map(str::to_owned).filter(|u| !u.is_empty());
    // A saved token belongs to the saved service; it is not shown to another.
    let same = given.as_deref().is_none_or(|u| u.trim_end_matches('/') == saved.url);
    let url = given.unwrap_or_else(|| if saved.url.is_empty() { default() } else { saved.url.clone() });
    if !url.starts_with("http://") {
        return Err(Failure::call(format!(
            "the address {url:?} must begin with http:// (put a proxy before it for TLS)"
        )));
    }
    let token = token.map(str::to_owned).filter(|t| !t.is_empty());
    Ok((url, token.unwrap_or_else(|| if same { saved.token } else { String::new() })))
}

/// Saves an address and a token.
pub fn save(url: &str, token: &str) -> Result<PathBuf, Failure> {
    let path =
        path().ok_or_else(|| Failure::call("there is no home folder to save to: set HOME, or use KESMO_TOKEN"))?;
    let failed = |e: std::io::Error| Failure::trouble(format!("{}: {e}", path.display()));
    std::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).map_err(failed)?;
    let saved = Saved { url: url.trim_end_matches('/').to_owned(), token: token.to_owned() };
    let text = serde_json::to_string_pretty(&saved).map_err(|e| Failure::trouble(e.to_string()))?;
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    Ok(path)
}
