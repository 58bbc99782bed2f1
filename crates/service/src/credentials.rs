//! What git shows servers: secrets that are kept for them.

use kesmo_files::git::Credentials;
use kesmo_store::Store;
use rocket::async_trait;

/// The secrets of a store.
pub(crate) struct Kept(pub Store);

#[async_trait]
impl Credentials for Kept {
    async fn of(&self, address: &str) -> Result<Option<String>, String> {
        self.0.secret_for_git(address).await.map_err(|e| e.to_string())
    }
}
