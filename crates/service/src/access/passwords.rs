//! Passwords: which may be chosen, and how they are kept.
//!
//! Kept is an Argon2id hash (RFC 9106) with the parameters of the crate: 19 MiB, two passes. What may be chosen is long enough and none
//! of those that are tried first, whatever it is composed of (NIST SP 800-63B).

use std::sync::LazyLock;

use argon2::{Argon2, PasswordHasher, PasswordVerifier, password_hash::phc::PasswordHash};
use zxcvbn::zxcvbn;

/// Letters of a password at least and at most.
pub const SHORTEST: usize = 10;
pub const LONGEST: usize = 200;
/// What is guessed within so many tries, as powers of ten, is tried first.
const GUESSED: f64 = 6.0;

/// What the password of nobody is held against, so that it takes as long.
static NOBODY: LazyLock<String> = LazyLock::new(|| hashed("nobody has this password").unwrap_or_default());

/// Whether a password may be chosen for an account.
///
/// # Errors
/// Why not, in words, without the password.
pub fn check(password: &str, name: &str) -> Result<(), String> {
    let letters = password.chars().count();
    if letters < SHORTEST {
        return Err(format!("a password has at least {SHORTEST} letters, and this has {letters}"));
    }
    if letters > LONGEST {
        return Err(format!("a password has at most {LONGEST} letters"));
    }
    if zxcvbn(password, &[name, "kesmo"]).guesses_log10() < GUESSED {
        return Err(
            "this password is one of those that are tried first: a few words that do not belong together are better"
                .into(),
        );
    }
    Ok(())
}

/// What is kept of a password.
///
/// # Errors
/// If the machine gives no random bytes.
pub fn hashed(password: &str) -> Result<String, String> {
    Argon2::default().hash_password(password.as_bytes()).map(|hash| hash.to_string()).map_err(|e| e.to_string())
}

/// Whether a password is the one that this was kept of; with none it takes as long and is not.
#[must_use]
pub fn fits(password: &str, kept: Option<&str>) -> bool {
    let of_nobody = kept.is_none();
    let kept = kept.unwrap_or(&NOBODY);
    let fits =
        PasswordHash::new(kept).is_ok_and(|kept| Argon2::default().verify_password(password.as_bytes(), &kept).is_ok());
    fits && !of_nobody
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_short_or_tried_first_may_not_be_chosen() {
        let refused = |password: &str| check(password, "ada").expect_err("it is refused");
        assert!(refused("short-one").contains("at least 10 letters, and this has 9"));
        assert!(refused(&"x".repeat(201)).contains("at most 200"));
        for tried in
            ["1234567890", "password123", "qwertyuiop", "iloveyou12", "aaaaaaaaaaaaaa", "adaadaadaada", "kesmokesmo"]
        {
            assert!(refused(tried).contains("tried first"), "{tried}");
        }
        assert_eq!(check("lamp otter seventeen", "ada"), Ok(()));
        assert_eq!(check("grün-weiß auf Öl", "ada"), Ok(()), "letters of any kind");
    }

    #[test]
    fn a_password_is_kept_as_a_hash_of_its_own() {
        let (one, other) =
            (hashed("lamp otter seventeen").expect("a hash"), hashed("lamp otter seventeen").expect("a hash"));
        assert!(one.starts_with("$argon2id$") && one != other, "{one}");
        assert!(fits("lamp otter seventeen", Some(&one)) && fits("lamp otter seventeen", Some(&other)));
        assert!(!fits("lamp otter seventeem", Some(&one)));
        assert!(!fits("nobody has this password", None), "nobody signs in as nobody");
        assert!(!fits("lamp", Some("no hash at all")));
    }
}
