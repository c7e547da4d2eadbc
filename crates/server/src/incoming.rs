//! HTTP connections on their way in: counted, and with TLS where it is configured.

use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};
use tokio_rustls::server::TlsStream;

use crate::tls::Tls;

/// The most HTTP connections at a time; further ones wait to be taken.
const MOST_CONNECTIONS: usize = 10_000;

/// An HTTP connection, which holds its place among the counted ones until it is dropped.
#[derive(Debug)]
pub(crate) struct Connection {
    stream: Stream,
    _place: OwnedSemaphorePermit,
}

#[derive(Debug)]
enum Stream {
    Plain(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
}

macro_rules! delegate {
    ($self:ident, $stream:ident => $call:expr) => {
        match &mut $self.get_mut().stream {
            Stream::Plain(stream) => {
                let $stream = Pin::new(stream);
                $call
            }
            Stream::Tls(stream) => {
                let $stream = Pin::new(stream.as_mut());
                $call
            }
        }
    };
}

impl AsyncRead for Connection {
    fn poll_read(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        delegate!(self, stream => stream.poll_read(cx, buf))
    }
}

impl AsyncWrite for Connection {
    fn poll_write(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        delegate!(self, stream => stream.poll_write(cx, buf))
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        delegate!(self, stream => stream.poll_flush(cx))
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        delegate!(self, stream => stream.poll_shutdown(cx))
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        delegate!(self, stream => stream.poll_write_vectored(cx, bufs))
    }

    fn is_write_vectored(&self) -> bool {
        match &self.stream {
            Stream::Plain(stream) => stream.is_write_vectored(),
            Stream::Tls(stream) => stream.is_write_vectored(),
        }
    }
}

/// Takes HTTP connections in, for `axum::serve`.
pub(crate) struct Incoming {
    address: SocketAddr,
    ready: mpsc::Receiver<(Connection, SocketAddr)>,
}

impl Incoming {
    /// Begins to take connections in. Handshakes run beside each other, so that a slow one holds up
    /// no other.
    pub(crate) fn new(listener: TcpListener, tls: Option<Arc<Tls>>) -> io::Result<Self> {
        let address = listener.local_addr()?;
        let (sender, ready) = mpsc::channel(64);
        let places = Arc::new(Semaphore::new(MOST_CONNECTIONS));
        tokio::spawn(async move {
            loop {
                let Ok(place) = Arc::clone(&places).acquire_owned().await else { return };
                let accepted = tokio::select! {
                    accepted = listener.accept() => accepted,
                    () = sender.closed() => return,
                };
                let (stream, from) = match accepted {
                    Ok(accepted) => accepted,
                    Err(error) => {
                        tracing::warn!(%error, "a connection could not be taken");
                        tokio::time::sleep(Duration::from_millis(50)).await;
                        continue;
                    }
                };
                let _ = stream.set_nodelay(true);
                let (tls, sender) = (tls.clone(), sender.clone());
                let connect = async move {
                    let stream = match tls {
                        None => Some(Stream::Plain(stream)),
                        Some(tls) => tls.accept(stream).await.map(|s| Stream::Tls(Box::new(s))),
                    };
                    if let Some(stream) = stream {
                        let _ = sender.send((Connection { stream, _place: place }, from)).await;
                    }
                };
                tokio::spawn(connect);
            }
        });
        Ok(Self { address, ready })
    }
}

impl axum::serve::Listener for Incoming {
    type Io = Connection;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Connection, SocketAddr) {
        match self.ready.recv().await {
            Some(accepted) => accepted,
            // The task that takes them in lives as long as this does.
            None => std::future::pending().await,
        }
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        Ok(self.address)
    }
}
