//! Trusts one server certificate and no certificate authority.

use std::path::Path;
use std::sync::Arc;

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, SignatureScheme};

use crate::error::ClientError;

/// Accepts a server that has exactly this certificate and its key, regardless of names and dates.
#[derive(Debug)]
struct Pinned {
    certificate: CertificateDer<'static>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        match *end_entity == self.certificate {
            true => Ok(ServerCertVerified::assertion()),
            false => Err(CertificateError::ApplicationVerificationFailure.into()),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signature, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signature, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// The TLS configuration for a server with the first certificate of a file.
///
/// # Errors
/// [`ClientError::Invalid`]: the file.
pub(crate) fn config(path: &Path) -> Result<ClientConfig, ClientError> {
    let wrong = |reason: String| {
        ClientError::Invalid(format!("the certificate in {}: {reason}", path.display()))
    };
    let certificate = CertificateDer::from_pem_file(path).map_err(|e| wrong(e.to_string()))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = Arc::new(Pinned { certificate, provider: Arc::clone(&provider) });
    let versions = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| ClientError::Invalid(e.to_string()))?;
    Ok(versions.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
}
