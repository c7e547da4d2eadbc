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
use tokio_io_timeout::TimeoutWriter;
use tokio_rustls::server::TlsStream;

use crate::tls::Tls;

/// The most HTTP connections at a time; further ones wait to be taken.
const MOST_CONNECTIONS: usize = 10_000;

/// An answer of which the client takes nothing for this long is given up.
const LONGEST_SILENCE: Duration = Duration::from_secs(120);

/// An HTTP connection that gives up on a client that takes nothing.
pub(crate) type Connection = Pin<Box<TimeoutWriter<Stream>>>;

/// What an HTTP connection runs over; it holds its place among the counted ones until it is dropped.
#[derive(Debug)]
pub(crate) struct Stream {
    over: Over,
    _place: OwnedSemaphorePermit,
}

#[derive(Debug)]
enum Over {
    Plain(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
}

macro_rules! delegate {
    ($self:ident, $stream:ident => $call:expr) => {
        match &mut $self.get_mut().over {
            Over::Plain(stream) => {
                let $stream = Pin::new(stream);
                $call
            }
            Over::Tls(stream) => {
                let $stream = Pin::new(stream.as_mut());
                $call
            }
        }
    };
}

impl AsyncRead for Stream {
    fn poll_read(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        delegate!(self, stream => stream.poll_read(cx, buf))
    }
}

impl AsyncWrite for Stream {
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
        match &self.over {
            Over::Plain(stream) => stream.is_write_vectored(),
            Over::Tls(stream) => stream.is_write_vectored(),
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
                    let over = match tls {
                        None => Some(Over::Plain(stream)),
                        Some(tls) => tls.accept(stream).await.map(|s| Over::Tls(Box::new(s))),
                    };
                    if let Some(over) = over {
                        let mut writer = TimeoutWriter::new(Stream { over, _place: place });
                        writer.set_timeout(Some(LONGEST_SILENCE));
                        let _ = sender.send((Box::pin(writer), from)).await;
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
