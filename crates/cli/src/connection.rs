//! Where the service is, whom its certificate is trusted from, and the token to call it with: what was given, else what the
//! environment says, else what `kesmo login` saved. And how the token is kept from the tests of a worker.

use std::{
    ffi::{OsStr, OsString},
    io::{Seek, Write},
    os::{fd::AsRawFd, unix::process::CommandExt},
    path::{Path, PathBuf},
};

use clap::Args;
use kesmo_tls::Trust;
use nix::sys::memfd::{MFdFlags, memfd_create};

use crate::{failure::Failure, saved::Saved, service::Service};

/// The number of an open file with the token, for a worker that started itself anew.
const TOKEN_FD: &str = "KESMO_TOKEN_FD";

/// Options of every command that calls a service.
#[derive(Debug, Args, Clone, Default)]
pub struct Connection {
    /// The service's address [env: KESMO_URL] [else: what `kesmo login` saved, else http://127.0.0.1:7215]
    #[arg(long, global = true, value_name = "URL", help_heading = "Connection")]
    pub url: Option<String>,
    /// The token to call with [env: KESMO_TOKEN] [else: what `kesmo login` saved]
    #[arg(long, global = true, value_name = "TOKEN", help_heading = "Connection")]
    pub token: Option<String>,
    /// A file with the token [env: KESMO_TOKEN_FILE]
    #[arg(long, global = true, value_name = "FILE", conflicts_with = "token", help_heading = "Connection")]
    pub token_file: Option<PathBuf>,
    /// A file with certificates of authorities that are trusted besides the machine's own (PEM), for https [env: KESMO_CA]
    #[arg(long, global = true, value_name = "FILE", help_heading = "Connection")]
    pub ca: Option<PathBuf>,
}

fn env(name: &str) -> Option<OsString> {
    std::env::var_os(name).filter(|value| !value.is_empty())
}

fn env_text(name: &'static str) -> Result<Option<String>, Failure> {
    let text = |value: OsString| value.into_string().map_err(|_| Failure::call(format!("{name} is not UTF-8")));
    env(name).map(text).transpose()
}

/// The token in a file.
fn from_file(what: &str, path: &Path) -> Result<String, Failure> {
    let text = std::fs::read_to_string(path).map_err(|e| Failure::call(format!("{what} {}: {e}", path.display())))?;
    let token = text.trim();
    if token.is_empty() {
        return Err(Failure::call(format!("{what} {}: it holds no token", path.display())));
    }
    Ok(token.to_owned())
}

impl Connection {
    /// The service to call.
    pub fn service(&self) -> Result<Service, Failure> {
        let saved = Saved::read()?;
        let given =
            self.url.clone().filter(|u| !u.is_empty()).map_or_else(|| env_text("KESMO_URL"), |u| Ok(Some(u)))?;
        // A saved token belongs to the saved service; it is not shown to another.
        let same = given.as_deref().is_none_or(|u| u.trim_end_matches('/') == saved.url);
        let default = || format!("http://127.0.0.1:{}", kesmo_wire::DEFAULT_PORT);
        let url = given.unwrap_or_else(|| if saved.url.is_empty() { default() } else { saved.url.clone() });
        for address in url.split(',') {
            kesmo_tls::Address::parse(address.trim()).map_err(|e| Failure::call(e.to_string()))?;
        }
        let ca = self.ca.clone().or_else(|| env("KESMO_CA").map(PathBuf::from)).or(saved.ca.filter(|_| same));
        let trust = Trust::load(ca.as_deref()).map_err(|e| Failure::call(e.to_string()))?;
        let token = match self.own_token()? {
            Some(token) => token,
            None if same => saved.token,
            None => String::new(),
        };
        Ok(Service { url, token, ca, trust })
    }

    /// The token that was given, or that the environment says.
    pub fn own_token(&self) -> Result<Option<String>, Failure> {
        if let Some(token) = self.token.as_ref().map(|t| t.trim()).filter(|t| !t.is_empty()) {
            return Ok(Some(token.to_owned()));
        }
        if let Some(path) = &self.token_file {
            return from_file("--token-file", path).map(Some);
        }
        if let Some(number) = env_text(TOKEN_FD)? {
            return handed_over(&number).map(Some);
        }
        if let Some(token) = env_text("KESMO_TOKEN")? {
            return Ok(Some(token.trim().to_owned()));
        }
        env("KESMO_TOKEN_FILE").map(|path| from_file("KESMO_TOKEN_FILE", Path::new(&path))).transpose()
    }
}

/// Reads the token that this program handed to itself. The file stays open no longer than that, so that no test inherits it.
fn handed_over(number: &str) -> Result<String, Failure> {
    let failed = |why: String| Failure::trouble(format!("the token could not be handed over: {why}"));
    let fd: i32 = number.parse().map_err(|_| failed(format!("{TOKEN_FD}={number:?} is not a number")))?;
    let token = std::fs::read_to_string(format!("/proc/self/fd/{fd}")).map_err(|e| failed(e.to_string()))?;
    Ok(token.trim().to_owned())
}

/// Closes the file with the token, once it was read.
pub fn close_handed_over() {
    if let Some(fd) = env(TOKEN_FD).and_then(|n| n.to_str()?.parse::<i32>().ok())
        && let Err(e) = nix::unistd::close(fd)
    {
        eprintln!("kesmo: a file with the token was not closed: {e}");
    }
}

/// Starts this program anew with its token in a file that has no name, if the token stands where others can read it: its
/// tests can read the command line and the environment that a process was started with, whatever the process does about it.
///
/// # Errors
/// If the token cannot be read, or the program not be started anew.
pub fn hide_token(connection: &Connection) -> Result<(), Failure> {
    if env(TOKEN_FD).is_some() || (connection.token.is_none() && env("KESMO_TOKEN").is_none()) {
        return Ok(());
    }
    let Some(token) = connection.own_token()? else { return Ok(()) };
    let failed = |why: String| Failure::trouble(format!("the token could not be hidden: {why}"));
    // It is inherited by the program that takes this one's place.
    let fd = memfd_create("kesmo", MFdFlags::empty()).map_err(|e| failed(e.to_string()))?;
    let mut file = std::fs::File::from(fd);
    file.write_all(token.as_bytes()).and_then(|()| file.rewind()).map_err(|e| failed(e.to_string()))?;
    let program = std::env::current_exe().map_err(|e| failed(e.to_string()))?;
    let mut command = std::process::Command::new(program);
    command.args(without_token(std::env::args_os().skip(1)));
    command.env_remove("KESMO_TOKEN").env(TOKEN_FD, file.as_raw_fd().to_string());
    if let Some(name) = std::env::args_os().next() {
        command.arg0(name);
    }
    // It only comes back if that failed.
    Err(failed(command.exec().to_string()))
}

/// The arguments without `--token` and what it gives.
fn without_token(words: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut kept = Vec::new();
    let mut words = words;
    while let Some(word) = words.next() {
        if word == OsStr::new("--token") {
            words.next();
        } else if !word.to_string_lossy().starts_with("--token=") {
            kept.push(word);
        }
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_is_taken_out_of_the_arguments() {
        let words = ["worker", "--token", "kesmo-1", "--slots", "2", "--token=kesmo-2", "--token-file", "t"];
        let kept = without_token(words.into_iter().map(OsString::from));
        assert_eq!(kept, ["worker", "--slots", "2", "--token-file", "t"]);
    }

    #[test]
    fn an_empty_token_file_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("token");
        std::fs::write(&path, " \n").unwrap();
        assert!(from_file("--token-file", &path).unwrap_err().message.contains("holds no token"));
        std::fs::write(&path, "kesmo-1\n").unwrap();
        assert_eq!(from_file("--token-file", &path).unwrap(), "kesmo-1");
    }
}
