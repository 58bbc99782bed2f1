//! People, programs and their tokens.

use chrono::{DateTime, Utc};
use kesmo_core::suite::Pattern;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a token may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Sees.
    Reader,
    /// Also starts and stops runs.
    Operator,
    /// Everything.
    Admin,
    /// Only works: for workers.
    Worker,
}

impl Role {
    pub const ALL: [Self; 4] = [Self::Reader, Self::Operator, Self::Admin, Self::Worker];

    /// The role's word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Reader => "reader",
            Self::Operator => "operator",
            Self::Admin => "admin",
            Self::Worker => "worker",
        }
    }

    /// The role of a word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|role| role.word() == word)
    }
}

/// Signs the console in.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SignIn {
    /// A token; or else a name with its password.
    pub token: String,
    pub name: String,
    pub password: String,
}

/// Who is calling.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The account's name, or the token's.
    pub name: String,
    pub role: Role,
    /// It is an account, and no token of its own.
    #[serde(default)]
    pub account: bool,
    /// Globs of the suites that it is for; none: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
    /// Globs of the pools that a worker may come to with it; none: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<String>,
    /// It is an account whose people sign in at a provider (OpenID Connect).
    #[serde(default)]
    pub provided: bool,
}

impl Me {
    /// Whether it is for a suite.
    #[must_use]
    pub fn is_for(&self, suite: &str) -> bool {
        self.suites.is_empty()
            || self.suites.iter().any(|glob| Pattern::glob(glob).is_ok_and(|glob| glob.matches_text(suite)))
    }

    /// Whether a worker may come to a pool with it.
    #[must_use]
    pub fn may_come_to(&self, pool: &str) -> bool {
        self.pools.is_empty()
            || self.pools.iter().any(|glob| Pattern::glob(glob).is_ok_and(|glob| glob.matches_text(pool)))
    }
}

/// Asks for a new token.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    pub name: String,
    pub role: Role,
    /// The last day (UTC), `2026-12-31`, or in how many days or weeks that is: `90d`, `4w`; none: it ends when it is removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Only for these suites, as globs: it may do nothing that is about others, or about all. None: for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
    /// Of a worker: only for these pools, as globs. None: for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<String>,
}

/// A token as it is listed; its text is shown only once, when it is made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Token {
    pub name: String,
    pub role: Role,
    pub created_at: DateTime<Utc>,
    pub last_used_at: Option<DateTime<Utc>>,
    /// It is good until then; none: until it is removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// The beginning of its text, to tell it from others; empty of one from before these were kept.
    #[serde(default)]
    pub prefix: String,
    /// Globs of the suites that it is for; none: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
    /// Globs of the pools that a worker may come to with it; none: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pools: Vec<String>,
    /// The account that it is of, whose role it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Only in the answer that makes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// Something that was done, or refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Audited {
    pub id: i64,
    pub at: DateTime<Utc>,
    /// The token's name; empty where none was shown that is known.
    pub who: String,
    pub role: String,
    /// The address that it came from.
    pub address: String,
    /// In words: `start`, `token add`; `look` of what was only asked for and refused.
    pub what: String,
    /// The call: `POST /api/runs`.
    pub path: String,
    /// How it was answered (RFC 9110): from 400 on it was refused.
    pub status: i32,
    /// What it was about, beyond what the path says.
    pub note: String,
}
