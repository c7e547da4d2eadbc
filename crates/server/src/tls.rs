//! TLS for HTTP and the wire protocol, with certificates that can be replaced while the service
//! runs.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio::net::TcpStream;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// How often the files are checked for changes.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// The timeout of a client's handshake.
const HANDSHAKE_TIMEOUT: Duration = Duration::from_secs(10);

/// A certificate that cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum InvalidCertificate {
    /// A file cannot be read as PEM.
    #[error("{} cannot be read as PEM: {reason}", file.display())]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// Why.
        reason: String,
    },
    /// The parts do not fit together.
    #[error("the certificate in {} and the key in {} do not make a usable pair: {reason}", certificate.display(), key.display())]
    Unusable {
        /// The file with the certificate.
        certificate: PathBuf,
        /// The file with the key.
        key: PathBuf,
        /// Why.
        reason: String,
    },
}

/// The certificate presented to clients, and its files.
#[derive(Debug)]
pub struct Tls {
    certificate: PathBuf,
    key: PathBuf,
    current: Arc<Current>,
    acceptor: TlsAcceptorOf,
}

/// [`TlsAcceptor`] says nothing about itself.
#[derive(Clone)]
struct TlsAcceptorOf(TlsAcceptor);

impl std::fmt::Debug for TlsAcceptorOf {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TlsAcceptor")
    }
}

#[derive(Debug)]
struct Current(RwLock<Arc<CertifiedKey>>);

impl ResolvesServerCert for Current {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.0.read().unwrap_or_else(PoisonError::into_inner)))
    }
}

fn read(certificate: &Path, key: &Path) -> Result<CertifiedKey, InvalidCertificate> {
    let unreadable = |file: &Path, reason: String| InvalidCertificate::Unreadable {
        file: file.to_owned(),
        reason,
    };
    let chain = CertificateDer::pem_file_iter(certificate)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|e| unreadable(certificate, e.to_string()))?;
    if chain.is_empty() {
        return Err(unreadable(certificate, "it has no certificate".into()));
    }
    let private = PrivateKeyDer::from_pem_file(key).map_err(|e| unreadable(key, e.to_string()))?;
    let provider = rustls::crypto::ring::default_provider();
    CertifiedKey::from_der(chain, private, &provider).map_err(|e| InvalidCertificate::Unusable {
        certificate: certificate.to_owned(),
        key: key.to_owned(),
        reason: e.to_string(),
    })
}

impl Tls {
    /// Reads a certificate chain and its key from PEM files.
    ///
    /// # Errors
    /// [`InvalidCertificate`] names the file at fault.
    pub fn read(certificate: &Path, key: &Path) -> Result<Arc<Self>, InvalidCertificate> {
        let current = Arc::new(Current(RwLock::new(Arc::new(read(certificate, key)?))));
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| InvalidCertificate::Unusable {
                certificate: certificate.to_owned(),
                key: key.to_owned(),
                reason: e.to_string(),
            })?
            .with_no_client_auth()
            .with_cert_resolver(Arc::clone(&current) as Arc<dyn ResolvesServerCert>);
        let acceptor = TlsAcceptorOf(TlsAcceptor::from(Arc::new(config)));
        let (certificate, key) = (certificate.to_owned(), key.to_owned());
        Ok(Arc::new(Self { certificate, key, current, acceptor }))
    }

    /// Reads the files again, for new connections.
    ///
    /// # Errors
    /// [`InvalidCertificate`]; the certificate in use stays then.
    pub fn reload(&self) -> Result<(), InvalidCertificate> {
        let new = Arc::new(read(&self.certificate, &self.key)?);
        *self.current.0.write().unwrap_or_else(PoisonError::into_inner) = new;
        Ok(())
    }

    fn changed_at(&self) -> Option<(SystemTime, SystemTime)> {
        let of = |path: &Path| std::fs::metadata(path).and_then(|m| m.modified()).ok();
        Some((of(&self.certificate)?, of(&self.key)?))
    }

    /// Reloads whenever the files change, while it is polled.
    pub async fn follow_changes(&self) {
        let mut known = self.changed_at();
        let mut ticks = tokio::time::interval(LOOK_EVERY);
        loop {
            ticks.tick().await;
            let now = self.changed_at();
            if now.is_none() || now == known {
                continue;
            }
            match self.reload() {
                Ok(()) => tracing::info!("the TLS certificate was read anew"),
                Err(error) => {
                    // Perhaps only one of the two files has been replaced yet.
                    tracing::warn!(%error, "the TLS certificate in use stays");
                }
            }
            known = now;
        }
    }

    /// The handshake of a new connection; `None` when it fails or takes too long.
    pub(crate) async fn accept(&self, stream: TcpStream) -> Option<TlsStream<TcpStream>> {
        let handshake = self.acceptor.0.accept(stream);
        match tokio::time::timeout(HANDSHAKE_TIMEOUT, handshake).await {
            Ok(Ok(stream)) => Some(stream),
            Ok(Err(error)) => {
                tracing::debug!(%error, "a TLS handshake failed");
                None
            }
            Err(_) => None,
        }
    }
}
