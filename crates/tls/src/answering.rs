//! TLS for whoever is called: connections are taken, decrypted, and carried on to a web server that listens on this machine alone.
//!
//! The certificate is read again when its files change, so that one that is renewed needs no restart; one that cannot be used is
//! told of, and the one before stays.

use std::{
    collections::HashMap,
    fs, io,
    net::{Ipv4Addr, SocketAddr},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError, RwLock},
    time::{Duration, SystemTime},
};

use rustls::{
    ServerConfig,
    crypto::ring,
    server::{ClientHello, ResolvesServerCert},
    sign::CertifiedKey,
};
use rustls_pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject};
use tokio::{
    io::copy_bidirectional,
    net::{TcpListener, TcpSocket, TcpStream},
};
use tokio_rustls::TlsAcceptor;

/// The files are looked at so often.
const LOOK_EVERY: Duration = Duration::from_secs(5);
/// Whoever has not agreed on TLS by then is let go.
const AGREE: Duration = Duration::from_secs(10);
/// After an accept that failed, as of too many open files.
const PAUSE: Duration = Duration::from_millis(100);

/// Who is at the other end of the connections that are carried on, by the port from which they reach the web server.
#[derive(Debug, Clone, Default)]
pub struct Callers(Arc<Mutex<HashMap<u16, SocketAddr>>>);

impl Callers {
    /// Who called, if the web server was reached from that port of this machine through here.
    #[must_use]
    pub fn of(&self, port: u16) -> Option<SocketAddr> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&port).copied()
    }

    fn put(&self, port: u16, caller: Option<SocketAddr>) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match caller {
            Some(caller) => all.insert(port, caller),
            None => all.remove(&port),
        };
    }
}

/// A certificate with its key, from two files in PEM form.
#[derive(Debug)]
pub struct Certificate {
    files: [PathBuf; 2],
    now: RwLock<Arc<CertifiedKey>>,
}

impl Certificate {
    /// Reads it: the chain, the server's own certificate first, and its key.
    ///
    /// # Errors
    /// In words that name the file and what is wrong with it.
    pub fn read(chain: &Path, key: &Path) -> Result<Arc<Self>, String> {
        let now = RwLock::new(Arc::new(read(chain, key)?));
        Ok(Arc::new(Self { files: [chain.to_owned(), key.to_owned()], now }))
    }

    /// Reads it again; what cannot be used changes nothing.
    ///
    /// # Errors
    /// In words that name the file and what is wrong with it.
    fn read_again(&self) -> Result<(), String> {
        let read = read(&self.files[0], &self.files[1])?;
        *self.now.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(read);
        Ok(())
    }

    /// What changes when one of the files does: links are followed, as renewals often change where one points.
    fn marks(&self) -> [Option<(SystemTime, u64)>; 2] {
        let mark = |path: &PathBuf| fs::metadata(path).ok().and_then(|m| Some((m.modified().ok()?, m.len())));
        [mark(&self.files[0]), mark(&self.files[1])]
    }
}

impl ResolvesServerCert for Certificate {
    fn resolve(&self, _hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.now.read().unwrap_or_else(PoisonError::into_inner)))
    }
}

fn read(chain: &Path, key: &Path) -> Result<CertifiedKey, String> {
    let at = |path: &Path, why: String| format!("{}: {why}", path.display());
    let pem = fs::read(chain).map_err(|e| at(chain, e.to_string()))?;
    let certificates: Vec<CertificateDer<'static>> =
        super::certificates(&pem).map_err(|why| at(chain, why))?.into_iter().map(CertificateDer::from).collect();
    let pem = fs::read(key).map_err(|e| at(key, e.to_string()))?;
    let private =
        PrivateKeyDer::from_pem_slice(&pem).map_err(|_| at(key, "it holds no private key in PEM form".into()))?;
    let usable = CertifiedKey::from_der(certificates, private, &ring::default_provider());
    usable.map_err(|e| match e {
        rustls::Error::InconsistentKeys(_) => {
            format!("the key in {} is not that of the certificate in {}", key.display(), chain.display())
        }
        other => at(chain, format!("it cannot be used with the key in {}: {other}", key.display())),
    })
}

/// Takes connections for as long as it is not dropped, and carries them on to the web server at `inner`.
///
/// # Errors
/// If TLS cannot be spoken at all.
pub async fn answer(
    listener: TcpListener,
    certificate: Arc<Certificate>,
    inner: SocketAddr,
    callers: Callers,
) -> Result<(), String> {
    let config = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(|e| e.to_string())?;
    let mut config =
        config.with_no_client_auth().with_cert_resolver(Arc::clone(&certificate) as Arc<dyn ResolvesServerCert>);
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    let acceptor = TlsAcceptor::from(Arc::new(config));
    let watching = watch(certificate);
    let taking = async {
        loop {
            match listener.accept().await {
                Ok((stream, caller)) => {
                    let (acceptor, callers) = (acceptor.clone(), callers.clone());
                    tokio::spawn(async move {
                        if let Err(e) = carry_on(stream, caller, &acceptor, inner, &callers).await {
                            tracing::debug!(%caller, "a connection ended: {e}");
                        }
                    });
                }
                Err(e) => {
                    tracing::warn!("a connection could not be taken: {e}");
                    tokio::time::sleep(PAUSE).await;
                }
            }
        }
    };
    tokio::select! {
        () = watching => {}
        () = taking => {}
    }
    Ok(())
}

async fn watch(certificate: Arc<Certificate>) {
    let mut known = certificate.marks();
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        let now = certificate.marks();
        if now == known {
            continue;
        }
        match certificate.read_again() {
            Ok(()) => tracing::info!("the certificate has changed and is used from now on"),
            // The other file may be written next: it is looked at again.
            Err(why) => tracing::warn!("the certificate has changed and cannot be used; the one before stays: {why}"),
        }
        known = now;
    }
}

async fn carry_on(
    stream: TcpStream,
    caller: SocketAddr,
    acceptor: &TlsAcceptor,
    inner: SocketAddr,
    callers: &Callers,
) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let agreed = tokio::time::timeout(AGREE, acceptor.accept(stream)).await;
    let mut stream = agreed.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
    // Who calls is known before the web server can ask.
    let socket = TcpSocket::new_v4()?;
    socket.bind(SocketAddr::from((Ipv4Addr::LOCALHOST, 0)))?;
    let port = socket.local_addr()?.port();
    callers.put(port, Some(caller));
    let carried = async {
        let mut server = socket.connect(inner).await?;
        server.set_nodelay(true)?;
        copy_bidirectional(&mut stream, &mut server).await
    };
    let carried = carried.await;
    callers.put(port, None);
    carried.map(drop)
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    fn made(folder: &Path, name: &str) -> Vec<u8> {
        let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
        fs::write(folder.join(format!("{name}.pem")), made.cert.pem()).expect("it is written");
        fs::write(folder.join(format!("{name}.key")), made.signing_key.serialize_pem()).expect("it is written");
        made.cert.der().to_vec()
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_comes_over_tls_is_carried_on_and_a_new_certificate_is_used_at_once() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = |name: &str| folder.path().join(name);
        made(folder.path(), "one");
        let certificate = Certificate::read(&path("one.pem"), &path("one.key")).expect("it is read");
        let (listener, web) =
            (TcpListener::bind("127.0.0.1:0").await.unwrap(), TcpListener::bind("127.0.0.1:0").await.unwrap());
        let (address, inner) = (listener.local_addr().unwrap(), web.local_addr().unwrap());
        let callers = Callers::default();
        tokio::spawn(answer(listener, Arc::clone(&certificate), inner, callers.clone()));
        let known = callers.clone();
        tokio::spawn(async move {
            loop {
                let (mut stream, from) = web.accept().await.unwrap();
                let caller = known.of(from.port()).is_some();
                let mut word = [0; 4];
                stream.read_exact(&mut word).await.unwrap();
                stream.write_all(format!("{caller}").as_bytes()).await.unwrap();
            }
        });
        let ask = async |authority: PathBuf| -> Result<String, String> {
            let trust = crate::Trust::load(Some(&authority)).map_err(|e| e.to_string())?;
            let name = rustls_pki_types::ServerName::try_from("localhost").unwrap();
            let stream = TcpStream::connect(address).await.map_err(|e| e.to_string())?;
            let connector = tokio_rustls::TlsConnector::from(Arc::clone(&trust.config));
            let mut stream = connector.connect(name, stream).await.map_err(|e| e.to_string())?;
            stream.write_all(b"ahoy").await.map_err(|e| e.to_string())?;
            let mut said = String::new();
            // The web server hangs up without a word of TLS, which is told as an error after what it said.
            drop(stream.read_to_string(&mut said).await);
            Ok(said)
        };
        assert_eq!(ask(path("one.pem")).await.as_deref(), Ok("true"), "and it is known who called");
        // Renewed: the same files, another certificate.
        made(folder.path(), "two");
        fs::copy(path("two.pem"), path("one.pem")).unwrap();
        assert!(
            certificate.read_again().is_err_and(|why| why.contains("is not that of the certificate")),
            "the key is the old one"
        );
        fs::copy(path("two.key"), path("one.key")).unwrap();
        certificate.read_again().expect("it can be used");
        assert_eq!(ask(path("two.pem")).await.as_deref(), Ok("true"));
        fs::write(path("one.pem"), "no certificate").unwrap();
        assert!(certificate.read_again().is_err_and(|why| why.contains("one.pem")));
        assert_eq!(ask(path("two.pem")).await.as_deref(), Ok("true"), "the one before stays");
        assert!(Certificate::read(&path("nowhere"), &path("two.key")).is_err_and(|why| why.contains("nowhere")));
        assert!(Certificate::read(&path("two.pem"), &path("two.pem")).is_err_and(|why| why.contains("no private key")));
    }
}
