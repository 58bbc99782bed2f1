//! Random text that nobody guesses, and files that only their owner reads.

use std::{
    fs,
    io::{self, Write},
    os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt},
    path::Path,
};

use sha2::{Digest, Sha256};

/// 32 random bytes.
#[must_use]
pub fn random_bytes() -> [u8; 32] {
    let mut bytes = [0u8; 32];
    // Without random numbers from the system no secret can be made, and going on would be worse than ending.
    getrandom::fill(&mut bytes).expect("the operating system gives random numbers");
    bytes
}

/// 64 random hexadecimal digits.
#[must_use]
pub fn random_text() -> String {
    hex::encode(random_bytes())
}

/// A new token's text.
#[must_use]
pub fn new_token() -> String {
    format!("kesmo-{}", random_text())
}

/// What is kept of a token. A token is 256 random bits, so that a plain hash cannot be turned back.
#[must_use]
pub fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

/// Writes a line into a file that only its owner reads.
///
/// # Errors
/// If it cannot be written.
pub fn write_secret(path: &Path, secret: &str) -> io::Result<()> {
    write_exactly(path, format!("{secret}\n").as_bytes())
}

/// Writes these bytes, and no others, into a file that only its owner reads.
///
/// # Errors
/// If it cannot be written.
pub fn write_exactly(path: &Path, content: &[u8]) -> io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    if file.metadata()?.mode() & 0o077 != 0 {
        fs::set_permissions(path, fs::Permissions::from_mode(0o600))?;
    }
    file.write_all(content)
}
