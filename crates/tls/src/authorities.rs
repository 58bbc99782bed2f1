//! Whose word is taken for a service's certificate.

use std::sync::{Arc, OnceLock};

use rustls::{
    CertificateError, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    client::{
        WebPkiServerVerifier,
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    },
    crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature},
};
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};

/// The machine's own authorities and those that were given, by rustls' own check of certificates. The machine has a hundred and more:
/// they are read when the first certificate is to be checked, which never comes where a service is called by plain http.
#[derive(Debug)]
pub(crate) struct Authorities {
    given: RootCertStore,
    /// The machine's own are trusted as well.
    machine: bool,
    provider: Arc<CryptoProvider>,
    /// None if there is not a single authority.
    check: OnceLock<Option<Arc<WebPkiServerVerifier>>>,
}

impl Authorities {
    pub(crate) fn new(given: RootCertStore, provider: Arc<CryptoProvider>) -> Self {
        Self { given, machine: true, provider, check: OnceLock::new() }
    }

    /// Those that were given, and not the machine's.
    pub(crate) fn only(given: RootCertStore, provider: Arc<CryptoProvider>) -> Self {
        Self { machine: false, ..Self::new(given, provider) }
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
        self.check()?.verify_server_cert(end_entity, intermediates, name, ocsp, now)
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
