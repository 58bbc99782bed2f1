//! Requests that somebody described ([`kesmo_core::request`]), sent.

use kesmo_core::request::{Filled, Method};

/// What was answered.
#[derive(Debug)]
pub struct Answer {
    pub status: reqwest::StatusCode,
    pub headers: reqwest::header::HeaderMap,
    pub text: String,
}

/// Sends a request and reads the answer: of one that is longer than `largest` bytes, its end. The client decides on time limits and redirects.
///
/// # Errors
/// If it cannot be sent, or the answer ends before it is whole.
pub async fn send(client: &reqwest::Client, request: Filled, largest: usize) -> Result<Answer, reqwest::Error> {
    let method = match request.method {
        Method::Get => reqwest::Method::GET,
        Method::Post => reqwest::Method::POST,
        Method::Put => reqwest::Method::PUT,
        Method::Patch => reqwest::Method::PATCH,
        Method::Delete => reqwest::Method::DELETE,
    };
    let mut sent = client.request(method, &request.address);
    for (name, value) in request.headers {
        sent = sent.header(name, value);
    }
    if let Some(body) = request.body {
        sent = sent.body(body);
    }
    let mut answer = sent.send().await?;
    let (status, headers) = (answer.status(), answer.headers().clone());
    let mut bytes = Vec::new();
    while let Some(chunk) = answer.chunk().await? {
        bytes.extend_from_slice(&chunk);
        if bytes.len() > largest {
            bytes.drain(..bytes.len() - largest / 2);
        }
    }
    Ok(Answer { status, headers, text: String::from_utf8_lossy(&bytes).into_owned() })
}

/// Why a request failed, without its address: what is asked may hold a secret.
#[must_use]
pub fn why(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    // What has no cause says its address.
    if std::ptr::eq(cause, error) { "it was cut off".to_owned() } else { cause.to_string() }
}
