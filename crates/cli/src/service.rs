//! The service that a command speaks to.

use std::path::PathBuf;

use kesmo_client::Client;
use kesmo_tls::Trust;

use crate::failure::Failure;

/// A service to call.
#[derive(Debug, Clone)]
pub struct Service {
    pub url: String,
    pub token: String,
    pub ca: Option<PathBuf>,
    pub trust: Trust,
}

impl Service {
    /// A client of it.
    pub fn client(&self) -> Result<Client, Failure> {
        Ok(Client::new(&self.url, &self.token, &self.trust)?)
    }
}
