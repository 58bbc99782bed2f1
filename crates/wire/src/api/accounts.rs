//! People with a name and a password.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::people::Role;

/// Asks for an account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccount {
    /// a-z, 0-9 and '-'; no token's name.
    pub name: String,
    /// reader, operator or admin
    pub role: Role,
    /// A reader's or operator's: only for these suites, as globs. None: for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
}

/// Changes an account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeAccount {
    pub role: Role,
    /// The suites that it is for, as globs; an empty list: all. Left out: as before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suites: Option<Vec<String>>,
}

/// A link by which somebody chooses a password: `/password#key=KEY` at the service's address. It is shown this once, and good once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PasswordLink {
    /// The account's name.
    pub name: String,
    pub role: Role,
    pub key: String,
    pub until: DateTime<Utc>,
}

/// An account as it is listed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Account {
    pub name: String,
    pub role: Role,
    /// Globs of the suites that it is for; none: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
    /// The provider at which its people sign in (OpenID Connect), by its issuer; none: with a password, here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issuer: Option<String>,
    /// When the provider last said that they may come in; none: it says so no more, and what is signed in is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confirmed_at: Option<DateTime<Utc>>,
    /// A password was chosen; without one nobody signs in with it.
    pub chosen: bool,
    pub made_by: String,
    pub made_at: DateTime<Utc>,
    pub seen_at: Option<DateTime<Utc>>,
    /// How long the link that was given out last is good; none: it was used, or has ended.
    pub link_until: Option<DateTime<Utc>>,
    /// Browsers in which it is signed in.
    pub sessions: u32,
    /// Tokens of its own (`kesmo login --name`).
    pub tokens: u32,
}

/// Where people sign in besides here.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInAt {
    /// The name of the provider (OpenID Connect); none: there is none.
    pub provider: Option<String>,
}

/// Where to go to sign in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct GoTo {
    pub address: String,
}

/// What a browser brings back from the provider (RFC 6749, 4.1.2): a code, or an error.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct CameBack {
    pub state: String,
    pub code: String,
    pub error: String,
    pub error_description: String,
}

/// Asks for a token of one's own.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct OwnToken {
    /// Where it is used: `laptop`. It is named by the account and this.
    pub place: String,
    /// The last day (UTC) or in how many days or weeks that is; none: in 90 days.
    pub until: Option<String>,
}

/// Chooses a password by a link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChoosePassword {
    pub key: String,
    pub password: String,
}

/// Whose password was chosen.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Chosen {
    pub name: String,
}

/// Changes one's own password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangePassword {
    pub old: String,
    pub new: String,
}

/// Asks for a token of one's own account, with its password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LogIn {
    pub name: String,
    pub password: String,
    /// What the token is for, to know it by: the machine's name; a-z, 0-9 and '-'.
    #[serde(default)]
    pub place: String,
    /// The last day (UTC), or in how many days or weeks that is; none: 90 days.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// A browser that is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Session {
    pub id: i64,
    /// The account, or the token that it was signed in with.
    pub who: String,
    pub by_token: bool,
    /// It is the one that asks.
    pub own: bool,
    /// What the browser says of itself, and the address that it came from.
    pub about: String,
    pub address: String,
    pub made_at: DateTime<Utc>,
    pub seen_at: DateTime<Utc>,
    pub until: DateTime<Utc>,
}
