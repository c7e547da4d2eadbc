//! The transport of an HTTP connection. After a response that left some of its request's body
//! unread, the connection lingers: closed immediately, it would be reset, and the client could lose
//! the response (RFC 9112, section 9.6).

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use axum::body::Body;
use hyper::body::{Body as HttpBody, Bytes, Frame, Incoming, SizeHint};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::time::Sleep;
use tokio_rustls::server::TlsStream;

/// How long the rest of a body is read and discarded.
const LINGER: Duration = Duration::from_secs(2);

/// Whether the last request of a connection has a body that was not read to its end.
#[derive(Debug, Clone, Default)]
pub(crate) struct UnreadBody(Arc<AtomicBool>);

impl UnreadBody {
    /// The body of a new request, which tells when it was read to its end.
    pub(crate) fn track(&self, body: Incoming) -> Body {
        let is_unread = !body.is_end_stream();
        self.0.store(is_unread, Ordering::Relaxed);
        if is_unread {
            Body::new(TrackedBody { body, unread: self.clone() })
        } else {
            Body::empty()
        }
    }
}

struct TrackedBody {
    body: Incoming,
    unread: UnreadBody,
}

impl HttpBody for TrackedBody {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        let frame = ready!(Pin::new(&mut self.body).poll_frame(cx));
        if frame.is_none() || self.body.is_end_stream() {
            self.unread.0.store(false, Ordering::Relaxed);
        }
        Poll::Ready(frame)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// The transport of an HTTP connection.
#[derive(Debug)]
pub(crate) struct Stream {
    over: Over,
    unread: UnreadBody,
    /// Runs from the end of the last response, if the connection lingers.
    lingering: Option<Pin<Box<Sleep>>>,
}

#[derive(Debug)]
enum Over {
    Plain(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
}

macro_rules! delegate {
    ($self:ident, $stream:ident => $call:expr) => {
        match &mut $self.over {
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

impl Stream {
    pub(crate) fn plain(stream: TcpStream, unread: UnreadBody) -> Self {
        Self { over: Over::Plain(stream), unread, lingering: None }
    }

    pub(crate) fn tls(stream: TlsStream<TcpStream>, unread: UnreadBody) -> Self {
        Self { over: Over::Tls(Box::new(stream)), unread, lingering: None }
    }

    /// Discards what arrives, until the client closes the connection or the time is over.
    fn poll_linger(&mut self, cx: &mut Context<'_>) -> Poll<()> {
        let Some(lingering) = &mut self.lingering else { return Poll::Ready(()) };
        if lingering.as_mut().poll(cx).is_ready() {
            return Poll::Ready(());
        }
        let stream = match &mut self.over {
            Over::Plain(stream) => stream,
            Over::Tls(stream) => stream.get_mut().0,
        };
        let mut discarded = [0; 16 << 10];
        loop {
            let mut buffer = ReadBuf::new(&mut discarded);
            match ready!(Pin::new(&mut *stream).poll_read(cx, &mut buffer)) {
                Ok(()) if !buffer.filled().is_empty() => {}
                Ok(()) | Err(_) => return Poll::Ready(()),
            }
        }
    }
}

impl AsyncRead for Stream {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        delegate!(self, stream => stream.poll_read(cx, buf))
    }
}

impl AsyncWrite for Stream {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        delegate!(self, stream => stream.poll_write(cx, buf))
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        delegate!(self, stream => stream.poll_flush(cx))
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        if self.lingering.is_none() {
            ready!(delegate!(self, stream => stream.poll_shutdown(cx)))?;
            if !self.unread.0.load(Ordering::Relaxed) {
                return Poll::Ready(Ok(()));
            }
            self.lingering = Some(Box::pin(tokio::time::sleep(LINGER)));
        }
        self.poll_linger(cx).map(Ok)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
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
