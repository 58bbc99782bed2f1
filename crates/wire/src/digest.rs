//! Digests: how blobs and bundles are named. Whatever comes as text is read into a [`Digest`] where it arrives, so that none
//! can lead to a path of its own.

use std::fmt;

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

/// The SHA-256 of some bytes, as 64 hexadecimal digits in small letters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest(String);

/// A text that is not a digest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotADigest(String);

impl fmt::Display for NotADigest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?} is not a SHA-256 in 64 hexadecimal digits", self.0)
    }
}

impl std::error::Error for NotADigest {}

impl Digest {
    /// The digest of some bytes.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        Self(hex::encode(Sha256::digest(bytes)))
    }

    /// Reads a digest as [`Digest::as_str`] gives it.
    ///
    /// # Errors
    /// If the text is anything else.
    pub fn parse(text: &str) -> Result<Self, NotADigest> {
        let fits = text.len() == 64 && text.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b));
        if fits { Ok(Self(text.to_owned())) } else { Err(NotADigest(kesmo_core::name::shorten(text, 80))) }
    }

    /// The 64 digits.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for Digest {
    type Error = NotADigest;
    fn try_from(text: String) -> Result<Self, NotADigest> {
        Self::parse(&text)
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> Self {
        digest.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_names_its_bytes() {
        // The test vector "abc" of FIPS 180-4.
        let abc = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(Digest::of(b"abc").as_str(), abc);
        assert_eq!(Digest::parse(abc), Ok(Digest::of(b"abc")));
    }

    #[test]
    fn nothing_else_is_a_digest() {
        let upper = Digest::of(b"").to_string().to_uppercase();
        let long = "0".repeat(65);
        let paths = format!("ab/{}", "../".repeat(20));
        for text in ["", "a", "é", "../../etc/passwd", upper.as_str(), long.as_str(), paths.as_str(), "xx/admin-token"]
        {
            assert!(Digest::parse(text).is_err(), "{text}");
            assert!(serde_json::from_value::<Digest>(text.into()).is_err(), "{text}");
        }
    }
}
