//! Whose word is taken for a service's certificate.

use std::sync::{Arc, OnceLock};

use rustls::{
    CertificateError, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    client::{
        WebPkiServerVerifier,
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
        verify_server_name,
    },
    crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature},
    server::ParsedCertificate,
};
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};

/// The machine's own authorities and those that were given, by rustls' own check of certificates. The machine has a hundred and more:
/// they are read when the first certificate is to be checked, which never comes where a service is called by plain http.
#[derive(Debug)]
pub(crate) struct Authorities {
    given: RootCertStore,
    /// The machine's own are trusted as well.
    pub(crate) machine: bool,
    /// Whoever answers is taken.
    pub(crate) anybody: bool,
    /// A certificate is to be one for the host that is called.
    pub(crate) host: bool,
    /// Certificates that are taken themselves: whoever makes one by oneself has no authority to name.
    pub(crate) named: Vec<CertificateDer<'static>>,
    provider: Arc<CryptoProvider>,
    /// None if there is not a single authority.
    check: OnceLock<Option<Arc<WebPkiServerVerifier>>>,
}

impl Authorities {
    /// The machine's own and these, for the host that is called.
    pub(crate) fn new(given: RootCertStore, provider: Arc<CryptoProvider>) -> Self {
        Self { given, machine: true, anybody: false, host: true, named: Vec::new(), provider, check: OnceLock::new() }
    }

    fn check(&self) -> Result<&WebPkiServerVerifier, Error> {
        let check = self.check.get_or_init(|| {
            let mut roots = self.given.clone();
            if self.machine {
                // What cannot be read is no authority; a certificate that needs it is refused with a reason.
                roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
            }
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&self.provider)).build().ok()
        });
        check.as_deref().ok_or(Error::InvalidCertificate(CertificateError::UnknownIssuer))
    }
}

impl ServerCertVerifier for Authorities {
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
        match self.check()?.verify_server_cert(end_entity, intermediates, name, ocsp, now) {
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
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
