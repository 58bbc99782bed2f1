//! Seals what nobody is to read in the database: AES-256-GCM with keys that are kept elsewhere, in a file or told by a command.
//!
//! The first key seals, and all open, so that a key is changed without a pause: the new one is put before the old one, what is kept
//! is sealed again, and then the old one is taken away.

use std::{
    path::PathBuf,
    process::Command,
    sync::{Arc, PoisonError, RwLock},
    time::Duration,
};

use ring::{
    aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey},
    digest::{SHA256, digest},
    rand::{SecureRandom, SystemRandom},
};

use crate::Error;

/// Begins what is sealed; nothing that was kept before begins so.
const MAGIC: &[u8] = b"kesmo-sealed-1:";
/// Bytes that tell keys apart.
const MARK: usize = 8;
/// A file or command may tell so many keys.
const MOST_KEYS: usize = 20;

/// Where the keys come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeySource {
    /// A file, a key of 64 hexadecimal digits a line.
    File(PathBuf),
    /// What a command prints, in the same form; by `sh -c`.
    Command(String),
}

struct Key {
    mark: [u8; MARK],
    key: LessSafeKey,
}

/// Seals and opens.
#[derive(Clone)]
pub struct Vault {
    from: KeySource,
    keys: Arc<RwLock<Vec<Key>>>,
}

impl Vault {
    /// Reads the keys.
    ///
    /// # Errors
    /// In words, if there are none, or one cannot be read.
    pub fn open(from: KeySource) -> Result<Self, String> {
        let keys = Arc::new(RwLock::new(read(&from)?));
        Ok(Self { from, keys })
    }

    /// How often it is worth reading the keys again: a file costs nothing to read, and a command may ask another service.
    #[must_use]
    pub fn read_every(&self) -> Duration {
        match self.from {
            KeySource::File(_) => Duration::from_secs(15),
            KeySource::Command(_) => Duration::from_secs(600),
        }
    }

    /// Reads the keys again; tells whether another one seals from now on.
    ///
    /// # Errors
    /// In words, if they cannot be read: those before stay.
    pub fn read_again(&self) -> Result<bool, String> {
        let now = read(&self.from)?;
        let mut keys = self.keys.write().unwrap_or_else(PoisonError::into_inner);
        let changed = keys.first().map(|key| key.mark) != now.first().map(|key| key.mark);
        *keys = now;
        Ok(changed)
    }

    /// Seals a value. What is sealed opens only under the same name.
    ///
    /// # Errors
    /// If the system gives no random numbers.
    pub fn seal(&self, name: &str, value: &[u8]) -> Result<Vec<u8>, Error> {
        let failed = |_| Error::Content(format!("{name} cannot be sealed"));
        let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let key = keys.first().ok_or_else(|| Error::Content("there is no key to seal with".into()))?;
        let mut nonce = [0; NONCE_LEN];
        SystemRandom::new().fill(&mut nonce).map_err(failed)?;
        let mut sealed = value.to_vec();
        let aad = Aad::from(name.as_bytes());
        key.key.seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), aad, &mut sealed).map_err(failed)?;
        Ok([MAGIC, &key.mark, &nonce, &sealed].concat())
    }

    /// Opens what was sealed under that name.
    ///
    /// # Errors
    /// If it was sealed with a key that is not here, under another name, or was changed.
    pub fn unseal(&self, name: &str, sealed: &[u8]) -> Result<Vec<u8>, Error> {
        let rest = sealed.strip_prefix(MAGIC).filter(|rest| rest.len() > MARK + NONCE_LEN);
        let rest = rest.ok_or_else(|| Error::Content(format!("{name} is not sealed as it should be")))?;
        let (mark, rest) = rest.split_at(MARK);
        let (nonce, rest) = rest.split_at(NONCE_LEN);
        let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let key = keys.iter().find(|key| key.mark == mark).ok_or_else(|| {
            Error::Content(format!(
                "{name} was sealed with a key that this service does not have: give all services the same --secret-key-file"
            ))
        })?;
        let nonce =
            Nonce::try_assume_unique_for_key(nonce).map_err(|_| Error::Content(format!("{name} is cut off")))?;
        let mut opened = rest.to_vec();
        let opened = key.key.open_in_place(nonce, Aad::from(name.as_bytes()), &mut opened);
        Ok(opened.map_err(|_| Error::Content(format!("{name} was changed since it was sealed")))?.to_vec())
    }

    /// Whether something is sealed with the key that seals now.
    #[must_use]
    pub fn is_current(&self, sealed: &[u8]) -> bool {
        let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let mark = sealed.strip_prefix(MAGIC).and_then(|rest| rest.get(..MARK));
        keys.first().is_some_and(|key| mark == Some(&key.mark))
    }
}

/// Whether something was sealed, with any key.
#[must_use]
pub fn is_sealed(bytes: &[u8]) -> bool {
    bytes.starts_with(MAGIC)
}

fn read(from: &KeySource) -> Result<Vec<Key>, String> {
    let (what, text) = match from {
        KeySource::File(path) => {
            let what = format!("the key file {}", path.display());
            (what.clone(), std::fs::read_to_string(path).map_err(|e| format!("{what}: {e}"))?)
        }
        KeySource::Command(command) => {
            let what = "the command of --secret-key-command".to_owned();
            let output = Command::new("sh").args(["-c", command]).output().map_err(|e| format!("{what}: {e}"))?;
            if !output.status.success() {
                let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
                return Err(format!("{what} ended with {}: {said}", output.status));
            }
            (what, String::from_utf8_lossy(&output.stdout).into_owned())
        }
    };
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    // What is wrong with a key is told without it.
    let key = |(number, line): (usize, &str)| {
        let bytes = hex::decode(line).ok().filter(|bytes| bytes.len() == 32);
        let bytes = bytes.ok_or_else(|| format!("{what}: key {} is not 64 hexadecimal digits", number + 1))?;
        let key =
            UnboundKey::new(&AES_256_GCM, &bytes).map_err(|_| format!("{what}: key {} cannot be used", number + 1))?;
        let mut mark = [0; MARK];
        mark.copy_from_slice(&digest(&SHA256, &bytes).as_ref()[..MARK]);
        Ok(Key { mark, key: LessSafeKey::new(key) })
    };
    let keys = lines.take(MOST_KEYS).enumerate().map(key).collect::<Result<Vec<_>, String>>()?;
    if keys.is_empty() { Err(format!("{what} tells no key")) } else { Ok(keys) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_opens_with_its_key_under_its_name_alone() {
        let dir = tempfile::tempdir().expect("a folder");
        let file = dir.path().join("keys");
        let (one, two) = ("1".repeat(64), "2".repeat(64));
        let put = |text: &str| std::fs::write(&file, text).expect("it is written");
        put(&format!("# the first\n{one}\n"));
        let vault = Vault::open(KeySource::File(file.clone())).expect("a key");
        let sealed = vault.seal("gate", b"open sesame").expect("it is sealed");
        assert!(is_sealed(&sealed) && !sealed.windows(4).any(|w| w == b"open"));
        assert_ne!(sealed, vault.seal("gate", b"open sesame").expect("again"), "never twice the same");
        assert_eq!(vault.unseal("gate", &sealed).expect("it opens"), b"open sesame");
        assert!(vault.unseal("desk", &sealed).is_err(), "another's value cannot be put in its place");
        let mut changed = sealed.clone();
        *changed.last_mut().expect("a byte") ^= 1;
        assert!(vault.unseal("gate", &changed).is_err());
        assert!(vault.unseal("gate", b"kesmo-sealed-1:").is_err() && vault.unseal("gate", b"plain").is_err());
        // Another key seals, the old one still opens; without it nothing does.
        put(&format!("{two}\n{one}\n"));
        assert_eq!(vault.read_again(), Ok(true));
        assert!(!vault.is_current(&sealed));
        assert_eq!(vault.unseal("gate", &sealed).expect("it opens"), b"open sesame");
        let anew = vault.seal("gate", b"open sesame").expect("it is sealed");
        assert!(vault.is_current(&anew));
        put(&two);
        assert_eq!(vault.read_again(), Ok(false));
        assert!(vault.unseal("gate", &sealed).is_err_and(|e| e.to_string().contains("--secret-key-file")));
        assert!(vault.unseal("gate", &anew).is_ok());
        for (text, why) in [("", "tells no key"), ("xyz", "key 1 is not 64"), (&one[1..], "key 1 is not 64")] {
            put(text);
            assert!(vault.read_again().is_err_and(|e| e.contains(why) && !e.contains("xyz")));
        }
        assert!(vault.unseal("gate", &anew).is_ok(), "those before stay");
        let told = KeySource::Command(format!("echo {one}"));
        assert!(Vault::open(told).expect("a key").unseal("gate", &sealed).is_ok());
        assert!(Vault::open(KeySource::Command("echo no >&2; exit 3".into())).is_err_and(|e| e.contains("no")));
    }
}
