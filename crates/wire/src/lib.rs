//! What crosses the network: [`api`] types, the messages of the worker [`link`], and the changes of [`live`] views.

pub mod api;
pub mod link;
pub mod live;

use sha2::{Digest, Sha256};

/// The port on which the service listens unless told otherwise.
pub const DEFAULT_PORT: u16 = 7215;

/// The SHA-256 of some bytes, as 64 hexadecimal digits: how blobs and bundles are named.
#[must_use]
pub fn digest(bytes: &[u8]) -> String {
    hex::encode(Sha256::digest(bytes))
}

/// Whether a text is a digest as [`digest`] writes it.
#[must_use]
pub fn is_digest(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_names_its_bytes() {
        // The test vector "abc" of FIPS 180-4.
        assert_eq!(digest(b"abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert!(is_digest(&digest(b"")));
        assert!(!is_digest("../../etc/passwd") && !is_digest(&"g".repeat(64)));
    }
}
