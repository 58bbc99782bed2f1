//! What a worker leaves with the service: files by their digest.

use std::{path::PathBuf, sync::Arc, time::Duration};

use kesmo_wire::Digest;

use crate::{address::Address, config::Config};

/// Uploads blobs, and goes on trying while the service is away; without a service it writes them to a folder.
#[derive(Clone)]
pub struct Uploads {
    client: reqwest::Client,
    address: Arc<Address>,
    token: String,
    folder: Option<PathBuf>,
}

impl Uploads {
    pub fn new(client: reqwest::Client, config: &Config, address: Arc<Address>) -> Self {
        let folder = config.local.as_ref().map(|folder| folder.join("blobs"));
        Self { client, address, token: config.token.clone(), folder }
    }

    /// Uploads, and tells the digest.
    ///
    /// # Errors
    /// In words, if the service does not take it.
    pub async fn send(&self, content: Vec<u8>) -> Result<Digest, String> {
        let name = Digest::of(&content);
        if let Some(folder) = &self.folder {
            let path = folder.join(name.as_str());
            let written = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(&path, &content));
            return written.map(|()| name).map_err(|e| format!("{}: {e}", path.display()));
        }
        let mut pause = Duration::from_millis(100);
        loop {
            let url = format!("{}/api/work/blobs/{name}", self.address.now());
            let put = self.client.put(&url).bearer_auth(&self.token).body(content.clone()).send().await;
            match put {
                Ok(answer) if answer.status().is_success() => return Ok(name),
                Ok(answer) if refused(answer.status()) => {
                    let (bytes, status) = (content.len(), answer.status());
                    return Err(format!("the service does not take {bytes} bytes: {status}"));
                }
                Ok(answer) => tracing::warn!("a file could not be uploaded and is sent again: {}", answer.status()),
                Err(e) => tracing::warn!("a file could not be uploaded and is sent again: {e}"),
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(Duration::from_secs(3));
        }
    }
}

/// Whether a file is refused for good. A token that is not known any more ends the link, and with it the batch.
fn refused(status: reqwest::StatusCode) -> bool {
    status.is_client_error() && !matches!(status.as_u16(), 401 | 403 | 408 | 425 | 429)
}
