//! TLS for whoever calls a service: which certificate authorities are trusted, and connections for HTTP and for WebSockets.
//!
//! The machine's own authorities are trusted, and those of a file that is given (`--ca FILE`), so that a service behind a
//! company's own authority can be called. Nothing turns the check of certificates off. How far PostgreSQL's is checked says its address
//! ([`checked`]).

pub mod answering;
mod authorities;
mod carry;
pub mod checked;
pub mod request;
mod stream;

use std::{
    io,
    path::Path,
    sync::{Arc, OnceLock},
    time::Duration,
};

use rustls::{ClientConfig, RootCertStore, crypto::ring};
use rustls_pki_types::{CertificateDer, ServerName, pem::PemObject};

use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};
use tokio_rustls::TlsConnector;
use tokio_tungstenite::{
    WebSocketStream,
    tungstenite::{self, client::IntoClientRequest, http::HeaderValue},
};

use authorities::Authorities;

pub use carry::{carry, carry_between};
pub use stream::Stream;

/// Why nothing can be trusted or reached.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("--ca {path}: {why}")]
    Authorities { path: String, why: String },
    #[error("the address {0:?} is not one of a service: use http://HOST:PORT or https://HOST:PORT")]
    Address(String),
    #[error("{0}")]
    Connect(String),
    #[error("the token holds characters that no token has")]
    Token,
    #[error("the service answered with {status}: {said}")]
    Refused { status: u16, said: String },
}

/// Whose certificates are trusted.
#[derive(Debug, Clone)]
pub struct Trust {
    config: Arc<ClientConfig>,
}

impl Default for Trust {
    /// The machine's own authorities.
    fn default() -> Self {
        static USUAL: OnceLock<Trust> = OnceLock::new();
        USUAL.get_or_init(|| Self::with(RootCertStore::empty())).clone()
    }
}

/// The certificates of a text in PEM form, each as DER.
///
/// # Errors
/// In words, if it holds none, or one that cannot be read.
pub fn certificates(pem: &[u8]) -> Result<Vec<Vec<u8>>, String> {
    let read: Result<Vec<CertificateDer<'_>>, _> = CertificateDer::pem_slice_iter(pem).collect();
    let read = read.map_err(|e| e.to_string())?;
    if read.is_empty() {
        Err("it holds no certificate in PEM form".into())
    } else {
        Ok(read.iter().map(|c| c.to_vec()).collect())
    }
}

impl Trust {
    /// Trusts these, beside the machine's own.
    fn with(given: RootCertStore) -> Self {
        // The HTTP client asks for one of the whole process. That there is one already is as good.
        drop(ring::default_provider().install_default());
        let provider = Arc::new(ring::default_provider());
        let config = ClientConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            // The provider and the versions are fixed, and fit each other.
            .expect("ring speaks the usual versions of TLS")
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(Authorities::new(given, provider)))
            .with_no_client_auth();
        Self { config: Arc::new(config) }
    }

    /// Trusts the machine's authorities, and those in a file (PEM).
    ///
    /// # Errors
    /// If the file cannot be read, or holds no certificate.
    pub fn load(ca: Option<&Path>) -> Result<Self, Error> {
        let Some(path) = ca else { return Ok(Self::default()) };
        let failed = |why: String| Error::Authorities { path: path.display().to_string(), why };
        let mut roots = RootCertStore::empty();
        let certificates = CertificateDer::pem_file_iter(path).map_err(|e| failed(e.to_string()))?;
        let mut found = 0;
        for certificate in certificates {
            let certificate = certificate.map_err(|e| failed(e.to_string()))?;
            roots.add(certificate).map_err(|e| failed(e.to_string()))?;
            found += 1;
        }
        if found == 0 {
            return Err(failed("it holds no certificate in PEM form".into()));
        }
        Ok(Self::with(roots))
    }

    /// An HTTP client that trusts so.
    pub fn http(&self) -> reqwest::ClientBuilder {
        reqwest::Client::builder().tls_backend_preconfigured((*self.config).clone())
    }

    /// A connection to the service at an address, for a WebSocket.
    ///
    /// # Errors
    /// If the address is none, nobody answers, or the certificate is not trusted.
    pub async fn connect(&self, address: &str) -> Result<Stream, Error> {
        let at = Address::parse(address)?;
        let failed = |e: io::Error| Error::Connect(format!("{address}: {}", innermost(&e)));
        let tcp = TcpStream::connect((at.host.as_str(), at.port)).await.map_err(failed)?;
        tcp.set_nodelay(true).map_err(failed)?;
        if !at.tls {
            return Ok(Stream::Plain(tcp));
        }
        let name = ServerName::try_from(at.host.clone()).map_err(|_| Error::Address(address.to_owned()))?;
        let stream = TlsConnector::from(Arc::clone(&self.config)).connect(name, tcp).await.map_err(failed)?;
        Ok(Stream::Tls(Box::new(stream)))
    }
}

/// A connection that is upgraded is waited for so long: longer than the service waits for the machine that makes it.
const UPGRADING: Duration = Duration::from_secs(30);
/// A WebSocket is waited for so long.
const ANSWER: Duration = Duration::from_secs(10);

impl Trust {
    /// Opens a WebSocket to a service, as whoever has the token. `path` begins with a slash.
    ///
    /// # Errors
    /// If the address or the token cannot be one; if there is no answer within 10 s; with its status, if the service refuses.
    pub async fn web_socket(&self, address: &str, path: &str, token: &str) -> Result<WebSocketStream<Stream>, Error> {
        // The connection is made here, with TLS or without: to the WebSocket it is a stream.
        let rest = address.split_once("://").map_or("", |(_, rest)| rest);
        let request = format!("ws://{rest}{path}").into_client_request();
        let mut request = request.map_err(|_| Error::Address(address.to_owned()))?;
        let bearer = HeaderValue::from_str(&format!("Bearer {token}")).map_err(|_| Error::Token)?;
        request.headers_mut().insert("Authorization", bearer);
        let linking = async {
            let stream = self.connect(address).await?;
            match tokio_tungstenite::client_async(request, stream).await {
                Ok((socket, _)) => Ok(socket),
                Err(tungstenite::Error::Http(answer)) => {
                    Err(Error::Refused { status: answer.status().as_u16(), said: answer.status().to_string() })
                }
                Err(e) => Err(Error::Connect(e.to_string())),
            }
        };
        let too_long = |_| Error::Connect(format!("no answer within {} s", ANSWER.as_secs()));
        tokio::time::timeout(ANSWER, linking).await.map_err(too_long)?
    }
}

/// The longest head of an answer that is read, in bytes.
const LONGEST_HEAD: usize = 16 << 10;

impl Trust {
    /// Connects to a service and has the connection upgraded to a protocol of its own (RFC 9110, section 7.8), whose bytes are what
    /// is read from then on. `path` begins with a slash.
    ///
    /// # Errors
    /// If it cannot connect; with the answer's own words, if the service refuses.
    pub async fn upgraded(&self, address: &str, path: &str, token: &str, protocol: &str) -> Result<Stream, Error> {
        let at = Address::parse(address)?;
        let failed = |e: io::Error| Error::Connect(format!("{address}: {}", innermost(&e)));
        if [path, token].iter().any(|text| text.contains(['\r', '\n'])) {
            return Err(Error::Address(address.to_owned()));
        }
        let mut stream = self.connect(address).await?;
        let (host, port, base) = (&at.host, at.port, &at.path);
        let request = format!(
            "GET {base}{path} HTTP/1.1\r\nHost: {host}:{port}\r\nAuthorization: Bearer {token}\r\nConnection: Upgrade\r\nUpgrade: {protocol}\r\n\r\n"
        );
        stream.write_all(request.as_bytes()).await.map_err(failed)?;
        let answer = tokio::time::timeout(UPGRADING, Self::answer(address, stream)).await;
        let too_long = |_| Error::Connect(format!("{address}: no answer within {} s", UPGRADING.as_secs()));
        answer.map_err(too_long)?
    }

    /// Reads the answer to a connection that is to be upgraded.
    async fn answer(address: &str, mut stream: Stream) -> Result<Stream, Error> {
        let failed = |e: io::Error| Error::Connect(format!("{address}: {}", innermost(&e)));
        // A byte at a time, as what comes after the head is the other side's.
        let mut head = Vec::new();
        while !head.ends_with(b"\r\n\r\n") {
            if head.len() >= LONGEST_HEAD {
                return Err(Error::Connect(format!("{address}: its answer has no end")));
            }
            head.push(stream.read_u8().await.map_err(failed)?);
        }
        let head = String::from_utf8_lossy(&head).into_owned();
        let status = head.split_whitespace().nth(1).unwrap_or_default();
        if status == "101" {
            return Ok(stream);
        }
        let length = head.lines().find_map(|line| {
            let (name, value) = line.split_once(':')?;
            name.eq_ignore_ascii_case("content-length").then(|| value.trim().parse::<usize>().ok())?
        });
        let mut body = vec![0; length.unwrap_or(0).min(LONGEST_HEAD)];
        stream.read_exact(&mut body).await.map_err(failed)?;
        Err(Error::Refused { status: status.parse().unwrap_or(0), said: String::from_utf8_lossy(&body).into_owned() })
    }
}

/// What is at the bottom of an error.
fn innermost(error: &io::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.get_ref().map(|e| e as &dyn std::error::Error).and_then(std::error::Error::source);
    while let Some(cause) = source {
        text = cause.to_string();
        source = cause.source();
    }
    text
}

/// The address of a service, taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    pub tls: bool,
    pub host: String,
    pub port: u16,
    /// What stands after host and port, without a slash at its end.
    pub path: String,
}

impl Address {
    /// Reads `http://HOST:PORT` or `https://HOST:PORT`, with or without port and path.
    ///
    /// # Errors
    /// If it is anything else.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong = || Error::Address(text.to_owned());
        let (tls, rest) = match (text.strip_prefix("http://"), text.strip_prefix("https://")) {
            (Some(rest), _) => (false, rest),
            (None, Some(rest)) => (true, rest),
            (None, None) => return Err(wrong()),
        };
        let (authority, path) = rest.find('/').map_or((rest, ""), |at| rest.split_at(at));
        let usual = if tls { 443 } else { 80 };
        let (host, port) = match authority.strip_prefix('[').and_then(|v6| v6.split_once(']')) {
            Some((host, "")) => (host, usual),
            Some((host, port)) => (host, port.strip_prefix(':').and_then(|p| p.parse().ok()).ok_or_else(wrong)?),
            None => match authority.rsplit_once(':') {
                Some((host, port)) => (host, port.parse().map_err(|_| wrong())?),
                None => (authority, usual),
            },
        };
        if host.is_empty() || host.contains(['@', '?', '#', ' ']) {
            return Err(wrong());
        }
        Ok(Self { tls, host: host.to_owned(), port, path: path.trim_end_matches('/').to_owned() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_taken_apart() {
        let at = |text: &str| Address::parse(text).map(|a| (a.tls, a.host, a.port, a.path)).ok();
        assert_eq!(at("http://127.0.0.1:7215"), Some((false, "127.0.0.1".into(), 7215, String::new())));
        assert_eq!(at("https://kesmo.quay.example/"), Some((true, "kesmo.quay.example".into(), 443, String::new())));
        assert_eq!(at("https://[::1]:8/ci/"), Some((true, "::1".into(), 8, "/ci".into())));
        for bad in ["", "kesmo", "ftp://a", "http://", "http://:80", "http://a:port", "https://u:p@a", "http://[::1]x"]
        {
            assert!(at(bad).is_none(), "{bad}");
        }
    }

    #[test]
    fn a_file_without_certificates_is_told() {
        let why = |path: &str| Trust::load(Some(Path::new(path))).unwrap_err().to_string();
        assert!(why("/nowhere/ca.pem").starts_with("--ca /nowhere/ca.pem: "));
        assert!(why(concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml")).contains("no certificate in PEM form"));
    }
}
