//! Connects to the wire listener, with or without TLS.

use std::path::Path;
use std::sync::Arc;

use futures_util::future::BoxFuture;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use crate::error::ClientError;
use crate::http::pinned;

/// A byte stream in both directions.
pub trait ByteStream: AsyncRead + AsyncWrite + Send + Unpin {}

impl<S: AsyncRead + AsyncWrite + Send + Unpin> ByteStream for S {}

/// Opens the byte streams of the wire protocol in place of TCP: through a tunnel, or in tests to a
/// service in the same process.
pub trait Connector: std::fmt::Debug + Send + Sync {
    /// Opens a byte stream to the service.
    ///
    /// # Errors
    /// Why there is none.
    fn connect(&self) -> BoxFuture<'_, std::io::Result<Box<dyn ByteStream>>>;
}

/// What a TLS connection trusts.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Trust<'a> {
    /// The certificates to trust.
    pub(crate) ca: Option<&'a Path>,
    /// The one certificate that the server must present, in place of those.
    pub(crate) pinned: Option<&'a Path>,
}

/// How a target is reached.
#[derive(Clone)]
enum Way {
    Tcp,
    Tls(TlsConnector, ServerName<'static>),
    Custom(Arc<dyn Connector>),
}

/// The address of the wire listener, and the way to it.
#[derive(Clone)]
pub(crate) struct Target {
    address: String,
    way: Way,
}

impl std::fmt::Debug for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Target").field("address", &self.address).finish_non_exhaustive()
    }
}

impl PartialEq for Target {
    fn eq(&self, other: &Self) -> bool {
        (&self.address, self.is_secure()) == (&other.address, other.is_secure())
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

fn trusting(roots: RootCertStore) -> Result<ClientConfig, ClientError> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| ClientError::Invalid(e.to_string()))?;
    Ok(builder.with_root_certificates(roots).with_no_client_auth())
}

impl Target {
    /// Parses an address.
    pub(crate) fn new(text: &str, trust: Trust<'_>) -> Result<Self, ClientError> {
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
            return Ok(Self { address, way: Way::Tcp });
        }
        let name = ServerName::try_from(host.trim_matches(['[', ']']).to_owned());
        let config = match trust.pinned {
            Some(path) => pinned::config(path)?,
            None => trusting(roots(trust.ca)?)?,
        };
        let connector = TlsConnector::from(Arc::new(config));
        Ok(Self { address, way: Way::Tls(connector, name.map_err(|_| wrong())?) })
    }

    /// A target that a connector reaches.
    pub(crate) fn custom(connector: Arc<dyn Connector>) -> Self {
        Self { address: format!("{connector:?}"), way: Way::Custom(connector) }
    }

    fn is_secure(&self) -> bool {
        matches!(self.way, Way::Tls(..))
    }

    /// Parses an address that a peer announced. The token must not be sent without TLS if the
    /// configured address has it.
    pub(crate) fn announced(&self, text: &str, trust: Trust<'_>) -> Option<Self> {
        // What a tunnel leads to has its addresses at the other end.
        if matches!(self.way, Way::Custom(_)) {
            return None;
        }
        Self::new(text, trust).ok().filter(|announced| announced.is_secure() || !self.is_secure())
    }

    pub(crate) fn address(&self) -> &str {
        &self.address
    }

    /// Connects.
    pub(crate) async fn connect(&self) -> std::io::Result<Box<dyn ByteStream>> {
        if let Way::Custom(connector) = &self.way {
            return connector.connect().await;
        }
        let stream = TcpStream::connect(&self.address).await?;
        stream.set_nodelay(true)?;
        Ok(match &self.way {
            Way::Tls(connector, name) => Box::new(connector.connect(name.clone(), stream).await?),
            Way::Tcp | Way::Custom(_) => Box::new(stream),
        })
    }
}
