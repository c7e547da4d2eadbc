//! Connects to the wire listener, with or without TLS.

use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use crate::error::ClientError;

/// A byte stream.
pub(super) trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}

impl<S: AsyncRead + AsyncWrite + Send + Unpin> Stream for S {}

/// The address of the wire listener, and its TLS configuration.
#[derive(Clone)]
pub(super) struct Target {
    address: String,
    tls: Option<(TlsConnector, ServerName<'static>)>,
}

impl std::fmt::Debug for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Target").field("address", &self.address).finish_non_exhaustive()
    }
}

impl PartialEq for Target {
    fn eq(&self, other: &Self) -> bool {
        (&self.address, self.tls.is_some()) == (&other.address, other.tls.is_some())
    }
}

fn roots(ca: Option<&Path>) -> Result<RootCertStore, ClientError> {
    let path = ca.ok_or_else(|| {
        ClientError::Invalid(
            "a tls:// address needs the certificates to trust: set VERAX_CA".into(),
        )
    })?;
    let wrong = |reason: String| {
        ClientError::Invalid(format!("the certificates in {}: {reason}", path.display()))
    };
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_file_iter(path).map_err(|e| wrong(e.to_string()))? {
        let certificate = certificate.map_err(|e| wrong(e.to_string()))?;
        roots.add(certificate).map_err(|e| wrong(e.to_string()))?;
    }
    Ok(roots)
}

impl Target {
    /// Parses an address.
    pub(super) fn new(text: &str, ca: Option<&Path>) -> Result<Self, ClientError> {
        let (secure, address) = match text.strip_prefix("tls://") {
            Some(address) => (true, address),
            None => (false, text),
        };
        let wrong = || {
            ClientError::Invalid(format!(
                "{text:?} is not an address of the wire: use HOST:PORT or tls://HOST:PORT"
            ))
        };
        let (host, port) = address.rsplit_once(':').ok_or_else(wrong)?;
        if host.is_empty() || port.parse::<u16>().is_err() {
            return Err(wrong());
        }
        let address = address.to_owned();
        if !secure {
            return Ok(Self { address, tls: None });
        }
        let name = ServerName::try_from(host.trim_matches(['[', ']']).to_owned());
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| ClientError::Invalid(e.to_string()))?
            .with_root_certificates(roots(ca)?)
            .with_no_client_auth();
        let connector = TlsConnector::from(Arc::new(config));
        Ok(Self { address, tls: Some((connector, name.map_err(|_| wrong())?)) })
    }

    /// Parses an address that a peer announced. The token must not be sent without TLS if the
    /// configured address has it.
    pub(super) fn announced(&self, text: &str, ca: Option<&Path>) -> Option<Self> {
        Self::new(text, ca).ok().filter(|announced| announced.tls.is_some() || self.tls.is_none())
    }

    pub(super) fn address(&self) -> &str {
        &self.address
    }

    /// Connects.
    pub(super) async fn connect(&self) -> std::io::Result<Box<dyn Stream>> {
        let stream = TcpStream::connect(&self.address).await?;
        stream.set_nodelay(true)?;
        Ok(match &self.tls {
            None => Box::new(stream),
            Some((connector, name)) => Box::new(connector.connect(name.clone(), stream).await?),
        })
    }
}
