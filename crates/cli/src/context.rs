//! What commands share.

use kesmo_client::Client;

use crate::service::Service;

/// What commands share.
pub struct Context {
    pub client: Client,
    pub service: Service,
    pub json: bool,
}
