//! Whose certificate is taken where a program is told how far to check one, as PostgreSQL's own programs are by `sslmode`
//! (PostgreSQL's manual, "SSL Support" of libpq).

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    client::{
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
        verify_server_name,
    },
    crypto::ring,
    server::ParsedCertificate,
};
use rustls_pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime, pem::PemObject};

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
    let (named, authorities) = match issuers {
        None | Some(Issuers::Machine) => (Vec::new(), Authorities::new(RootCertStore::empty(), Arc::clone(&provider))),
        Some(Issuers::File(file)) => {
            let named = chain(file)?;
            let mut roots = RootCertStore::empty();
            for certificate in &named {
                roots.add(certificate.clone()).map_err(|e| format!("{}: {e}", file.display()))?;
            }
            (named, Authorities::only(roots, Arc::clone(&provider)))
        }
    };
    let verifier = Verifier { anybody: issuers.is_none(), host, named, authorities };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| e.to_string())?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier));
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

#[derive(Debug)]
struct Verifier {
    /// Whoever answers is taken.
    anybody: bool,
    /// The certificate is to be one for the host.
    host: bool,
    /// Those that the file of authorities holds: whoever makes a certificate by oneself has no other to name.
    named: Vec<CertificateDer<'static>>,
    authorities: Authorities,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        if self.anybody {
            return Ok(ServerCertVerified::assertion());
        }
        if self.named.contains(end_entity) {
            if self.host {
                verify_server_name(&ParsedCertificate::try_from(end_entity)?, name)?;
            }
            return Ok(ServerCertVerified::assertion());
        }
        // The name is looked at last: whoever is refused for it has been found to be issued by who may.
        match self.authorities.verify_server_cert(end_entity, intermediates, name, ocsp, now) {
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) if !self.host => Ok(ServerCertVerified::assertion()),
            checked => checked,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.authorities.verify_tls12_signature(message, certificate, signed)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.authorities.verify_tls13_signature(message, certificate, signed)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.authorities.supported_verify_schemes()
    }
}
