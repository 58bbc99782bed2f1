//! Whose certificate is taken where a program is told how far to check one, as PostgreSQL's own programs are by `sslmode`
//! (PostgreSQL's manual, "SSL Support" of libpq).

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use rustls::{ClientConfig, RootCertStore, crypto::ring};
use rustls_pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject};

use crate::authorities::Authorities;

/// Whose word is taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Issuers {
    /// The machine's own authorities.
    Machine,
    /// Those of a file (PEM), and nobody else. A certificate that stands in it itself is taken as well.
    File(PathBuf),
}

/// How far a certificate is checked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Checked {
    /// Not at all: nobody who only listens reads anything, and whoever stands in between does.
    Nothing,
    /// Who issued it, and not for whom.
    Issuer(Issuers),
    /// Who issued it, and that it is for the host that is called.
    Host(Issuers),
}

/// TLS towards whoever is checked so; with a certificate of one's own and its key (files in PEM form), where one is asked for.
///
/// # Errors
/// In words, with the file, if one cannot be read or holds nothing of its kind.
pub fn client(checked: &Checked, own: Option<(&Path, &Path)>) -> Result<ClientConfig, String> {
    let provider = Arc::new(ring::default_provider());
    let (issuers, host) = match checked {
        Checked::Nothing => (None, false),
        Checked::Issuer(issuers) => (Some(issuers), false),
        Checked::Host(issuers) => (Some(issuers), true),
    };
    let (mut named, mut roots) = (Vec::new(), RootCertStore::empty());
    if let Some(Issuers::File(file)) = issuers {
        named = chain(file)?;
        for certificate in &named {
            roots.add(certificate.clone()).map_err(|e| format!("{}: {e}", file.display()))?;
        }
    }
    let mut authorities = Authorities::new(roots, Arc::clone(&provider));
    authorities.machine = issuers == Some(&Issuers::Machine);
    authorities.anybody = issuers.is_none();
    authorities.host = host;
    authorities.named = named;
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| e.to_string())?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(authorities));
    let Some((certificate, key)) = own else { return Ok(config.with_no_client_auth()) };
    let read = PrivateKeyDer::from_pem_file(key).map_err(|e| format!("{}: {e}", key.display()))?;
    let fits = |e| format!("{} does not fit {}: {e}", key.display(), certificate.display());
    config.with_client_auth_cert(chain(certificate)?, read).map_err(fits)
}

/// The certificates of a file (PEM).
fn chain(file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let of_file = |why: String| format!("{}: {why}", file.display());
    let pem = std::fs::read(file).map_err(|e| of_file(e.to_string()))?;
    let read = crate::certificates(&pem).map_err(of_file)?;
    Ok(read.into_iter().map(CertificateDer::from).collect())
}
