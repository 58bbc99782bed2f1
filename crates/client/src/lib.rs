//! A typed client of Kesmo's API: the command line and the tests use it.

mod events;
pub mod pack;

use std::time::Duration;

use kesmo_tls::Trust;
use kesmo_wire::api::Refusal;
use reqwest::{Method, RequestBuilder, Response};
use serde::{Serialize, de::DeserializeOwned};

pub use events::{Events, LiveEvent};

/// Why a call brought nothing.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error(
        "the service at {url} could not be reached: {why}. Is it running (`kesmo serve`), and is the address right (--url, KESMO_URL)?"
    )]
    Unreachable { url: String, why: String },
    #[error("{message}")]
    Refused { status: u16, kind: String, message: String },
    #[error("the service at {url} answered something that is not understood: {why}")]
    Strange { url: String, why: String },
    #[error("{0}")]
    Pack(String),
}

impl Error {
    /// Whether the call itself was wrong, so that another service or another time would not help.
    #[must_use]
    pub fn is_callers(&self) -> bool {
        matches!(self, Self::Refused { status: 400 | 404 | 409 | 413 | 422, .. } | Self::Pack(_))
    }
}

/// A client of one service with one token.
#[derive(Debug, Clone)]
pub struct Client {
    url: String,
    token: String,
    http: reqwest::Client,
}

impl Client {
    /// A client of the service at `url`, such as `http://127.0.0.1:7215`.
    ///
    /// # Errors
    /// If no connections can be made at all.
    pub fn new(url: &str, token: &str, trust: &Trust) -> Result<Self, Error> {
        let http = trust.http().connect_timeout(Duration::from_secs(5)).build();
        let http = http.map_err(|e| Error::Unreachable { url: url.to_owned(), why: e.to_string() })?;
        Ok(Self { url: url.trim_end_matches('/').to_owned(), token: token.trim().to_owned(), http })
    }

    /// The service's address.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.url));
        if self.token.is_empty() { request } else { request.bearer_auth(&self.token) }
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Error> {
        let answer = request.send().await.map_err(|e| self.unreachable(&e))?;
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let text = answer.text().await.unwrap_or_default();
        let refusal = serde_json::from_str(&text).unwrap_or_else(|_| Refusal {
            kind: "failed".into(),
            message: format!("the service answered {status}: {}", kesmo_core::name::shorten(&text, 200)),
        });
        Err(Error::Refused { status: status.as_u16(), kind: refusal.kind, message: refusal.message })
    }

    fn unreachable(&self, error: &reqwest::Error) -> Error {
        let mut why = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(cause) = source {
            why = cause.to_string();
            source = cause.source();
        }
        Error::Unreachable { url: self.url.clone(), why }
    }

    async fn read<T: DeserializeOwned>(&self, answer: Response) -> Result<T, Error> {
        answer.json().await.map_err(|e| Error::Strange { url: self.url.clone(), why: e.to_string() })
    }

    /// Gets something.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, Error> {
        let answer = self.send(self.request(Method::GET, path).query(query)).await?;
        self.read(answer).await
    }

    /// Gets a text.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn get_text(&self, path: &str, query: &[(&str, String)]) -> Result<String, Error> {
        let answer = self.send(self.request(Method::GET, path).query(query)).await?;
        answer.text().await.map_err(|e| self.unreachable(&e))
    }

    /// Gets the content of an artifact.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn blob(&self, digest: &str) -> Result<Vec<u8>, Error> {
        let answer = self.send(self.request(Method::GET, &format!("/api/blobs/{digest}"))).await?;
        answer.bytes().await.map(|b| b.to_vec()).map_err(|e| self.unreachable(&e))
    }

    /// Posts something and reads the answer.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Error> {
        let answer = self.send(self.request(Method::POST, path).json(body)).await?;
        self.read(answer).await
    }

    /// Puts something in its place and reads the answer.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Error> {
        let answer = self.send(self.request(Method::PUT, path).json(body)).await?;
        self.read(answer).await
    }

    /// Puts something, where nothing is said of it but that it is done.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn put_done(&self, path: &str, body: &impl Serialize) -> Result<(), Error> {
        self.send(self.request(Method::PUT, path).json(body)).await.map(drop)
    }

    /// Posts bytes that are signed by headers, without the token, and reads the answer.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn post_signed<T: DeserializeOwned>(
        &self,
        path: &str,
        headers: &[(&str, String)],
        content: Vec<u8>,
    ) -> Result<T, Error> {
        let mut request = self.http.post(format!("{}{path}", self.url)).body(content);
        for (name, value) in headers {
            request = request.header(*name, value);
        }
        let answer = self.send(request).await?;
        self.read(answer).await
    }

    /// Removes something.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn delete(&self, path: &str) -> Result<(), Error> {
        self.delete_with(path, &[]).await
    }

    /// Removes what a question names.
    ///
    /// # Errors
    /// If the service cannot be reached, or refuses.
    pub async fn delete_with(&self, path: &str, query: &[(&str, String)]) -> Result<(), Error> {
        self.send(self.request(Method::DELETE, path).query(query)).await.map(drop)
    }

    /// Removes what a question names, and reads what is said of it.
    ///
    /// # Errors
    /// If the service cannot be reached, or refuses.
    pub async fn delete_told<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, Error> {
        let answer = self.send(self.request(Method::DELETE, path).query(query)).await?;
        self.read(answer).await
    }

    /// The token that calls are made with.
    #[must_use]
    pub fn token(&self) -> &str {
        &self.token
    }

    /// Makes sure that the service has a bundle; tells whether it had to be uploaded.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn upload(&self, bundle: &pack::Bundle) -> Result<bool, Error> {
        let path = format!("/api/bundles/{}", bundle.digest);
        match self.send(self.request(Method::HEAD, &path)).await {
            Ok(_) => return Ok(false),
            Err(Error::Refused { status: 404, .. }) => {}
            // A HEAD has no body to say why: the next call says it.
            Err(Error::Refused { status: 401 | 403, .. }) => {}
            Err(e) => return Err(e),
        }
        self.send(self.request(Method::PUT, &path).body(bundle.content.clone())).await?;
        Ok(true)
    }

    /// Watches a live stream from the event after `last`.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn watch(&self, path: &str, last: Option<&str>) -> Result<Events, Error> {
        let mut request = self.request(Method::GET, path).header("Accept", "text/event-stream");
        if let Some(last) = last {
            request = request.header("Last-Event-ID", last);
        }
        Ok(Events::new(self.send(request).await?))
    }
}
