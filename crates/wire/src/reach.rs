//! How private addresses are reached: what is said between the service and a machine that offers some, on a WebSocket of JSON text
//! frames. The bytes of each connection go on one of their own, an HTTP/1.1 connection that is upgraded to [`UPGRADE`] (RFC 9110,
//! section 7.8).

use chrono::{DateTime, Utc};
use kesmo_core::name::Slug;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The protocol that a connection's bytes go by: they are passed on as they are.
pub const UPGRADE: &str = "kesmo-reach";
/// The version of these messages.
pub const VERSION: u32 = 1;
/// The most that one machine offers.
pub const MOST_OFFERS: usize = 100;
/// The longest text of an address or a reason, in bytes.
const LONGEST: usize = 500;

/// What a machine says that offers addresses.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum FromOfferer {
    /// First.
    Offer { version: u32, pool: String, host: String, addresses: Vec<Address> },
    /// A connection that was asked for cannot be made.
    Failed { id: String, why: String },
}

/// An address, by the name that it is offered under.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Address {
    pub name: String,
    /// `127.0.0.1:8080`, as the machine that offers it knows it.
    pub to: String,
}

/// What the service says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "kebab-case")]
pub enum ToOfferer {
    /// The addresses are offered now.
    Offered,
    /// They are not, and will not be.
    Refused { message: String },
    /// Another service carries out the runs of that pool.
    Elsewhere { url: String },
    /// Make a connection to the address of that name, and bring it under that number.
    Open { id: String, name: String },
}

impl FromOfferer {
    /// Reads a message.
    ///
    /// # Errors
    /// In words, if it is none, or holds something that nobody says who offers.
    pub fn read(text: &str) -> Result<Self, String> {
        let message: Self = serde_json::from_str(text).map_err(|e| format!("a message cannot be read: {e}"))?;
        let short = |text: &str| text.len() <= LONGEST && !text.chars().any(char::is_control);
        match &message {
            Self::Offer { version, .. } if *version != VERSION => {
                return Err(format!(
                    "this program speaks version {version} of reaching, and the service version {VERSION}: use one of the service's own version"
                ));
            }
            Self::Offer { pool, host, addresses, .. } => {
                Slug::parse("the pool", pool).map_err(|e| e.to_string())?;
                if addresses.is_empty() || addresses.len() > MOST_OFFERS {
                    return Err(format!("a machine offers 1 to {MOST_OFFERS} addresses"));
                }
                if !short(host) || !addresses.iter().all(|a| short(&a.to)) {
                    return Err(format!("an address is at most {LONGEST} letters"));
                }
                for (i, address) in addresses.iter().enumerate() {
                    Slug::parse("what is reached", &address.name).map_err(|e| e.to_string())?;
                    if addresses[..i].iter().any(|before| before.name == address.name) {
                        return Err(format!("{} is offered twice", address.name));
                    }
                }
            }
            Self::Failed { id, why } if !short(id) || why.len() > 10 * LONGEST => {
                return Err("a reason is too long".to_owned());
            }
            Self::Failed { .. } => {}
        }
        Ok(message)
    }
}

/// The variable in which a process finds where to reach something: `KESMO_REACH_GATE`.
#[must_use]
pub fn variable(name: &str) -> String {
    format!("KESMO_REACH_{}", name.to_uppercase().replace('-', "_"))
}

/// An address that is offered now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reachable {
    pub name: String,
    pub pool: String,
    /// As the machine that offers it knows it.
    pub to: String,
    /// The machine's name.
    pub host: String,
    /// Whose token it was.
    pub by: String,
    pub since: DateTime<Utc>,
    /// Connections that are open.
    pub open: u32,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_nobody_says_who_offers_is_refused() {
        let offer = |change: &dyn Fn(&mut serde_json::Value)| {
            let mut value = serde_json::json!({ "say": "offer", "version": VERSION, "pool": "main", "host": "heron",
                "addresses": [{ "name": "gate", "to": "127.0.0.1:8080" }] });
            change(&mut value);
            FromOfferer::read(&value.to_string()).map(drop)
        };
        assert_eq!(offer(&|_| ()), Ok(()));
        assert!(offer(&|v| v["version"] = 9.into()).unwrap_err().contains("version 9"));
        assert!(offer(&|v| v["pool"] = "No Pool".into()).is_err());
        assert!(offer(&|v| v["addresses"] = serde_json::json!([])).unwrap_err().contains("1 to 100"));
        assert!(offer(&|v| v["addresses"][0]["name"] = "Gate!".into()).is_err());
        assert!(offer(&|v| v["addresses"][0]["to"] = "x\u{1b}[2J".into()).is_err());
        let twice = serde_json::json!([{ "name": "a", "to": "b" }, { "name": "a", "to": "c" }]);
        assert!(offer(&|v| v["addresses"] = twice.clone()).unwrap_err().contains("a is offered twice"));
        assert!(FromOfferer::read("{}").is_err());
        assert_eq!(variable("gate-two"), "KESMO_REACH_GATE_TWO");
    }
}
