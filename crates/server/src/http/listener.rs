//! HTTP connections: accepted within their limits, with TLS if configured, and closed when idle too
//! long.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::Request;
use axum::response::Response;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio_io_timeout::TimeoutWriter;

use crate::accept::accept;
use crate::connections::{ConnectionLimits, ConnectionSlot};
use crate::http::host::HostNames;
use crate::http::stream::{Stream, UnreadBody};
use crate::tls::Tls;

/// A response is abandoned if the client reads nothing for this long.
const SILENCE_TIMEOUT: Duration = Duration::from_secs(120);

/// The maximum size of a request's header, in bytes.
const MAX_HEADER_BYTES: usize = 64 << 10;

/// Options of the HTTP listener.
#[derive(Debug, Clone)]
pub struct HttpOptions {
    /// The connection limits.
    pub limits: ConnectionLimits,
    /// The timeout for a request's header, and for idle connections.
    pub header_timeout: Duration,
    /// The accepted host names.
    pub host_names: HostNames,
}

impl Default for HttpOptions {
    fn default() -> Self {
        Self {
            limits: ConnectionLimits::default(),
            header_timeout: Duration::from_secs(30),
            host_names: HostNames::default(),
        }
    }
}

/// Accepts connections and serves their requests with `answer`, until the service stops; then lets
/// active requests finish.
pub(crate) async fn serve_connections<A, F>(
    listener: TcpListener,
    tls: Option<Arc<Tls>>,
    options: &HttpOptions,
    stopping: watch::Receiver<bool>,
    answer: A,
) where
    A: Fn(Request, Arc<ConnectionSlot>) -> F + Clone + Send + Sync + 'static,
    F: Future<Output = Response> + Send + 'static,
{
    let header_timeout = options.header_timeout;
    let stop = stopping.clone();
    accept(listener, options.limits, stopping, move |stream, slot| {
        let (tls, answer, stop) = (tls.clone(), answer.clone(), stop.clone());
        async move {
            // No request was read yet, so there is nothing to respond to.
            let Ok(slot) = slot else { return };
            let unread = UnreadBody::default();
            let stream = match tls {
                None => Some(Stream::plain(stream, unread.clone())),
                Some(tls) => tls.accept(stream).await.map(|s| Stream::tls(s, unread.clone())),
            };
            if let Some(stream) = stream {
                serve_connection(stream, unread, header_timeout, slot, stop, answer).await;
            }
        }
    })
    .await;
}

async fn serve_connection<A, F>(
    stream: Stream,
    unread: UnreadBody,
    header_timeout: Duration,
    place: Arc<ConnectionSlot>,
    mut stopping: watch::Receiver<bool>,
    answer: A,
) where
    A: Fn(Request, Arc<ConnectionSlot>) -> F + Send + Sync + 'static,
    F: Future<Output = Response> + Send + 'static,
{
    // A client that reads nothing for too long is disconnected.
    let mut stream = TimeoutWriter::new(stream);
    stream.set_timeout(Some(SILENCE_TIMEOUT));
    let of = Arc::clone(&place);
    let service = service_fn(move |request: hyper::Request<hyper::body::Incoming>| {
        let answering = answer(request.map(|body| unread.track(body)), Arc::clone(&of));
        async move { Ok::<_, Infallible>(answering.await) }
    });
    let mut builder = http1::Builder::new();
    builder
        .timer(TokioTimer::new())
        .header_read_timeout(header_timeout)
        .max_buf_size(MAX_HEADER_BYTES);
    let connection = builder.serve_connection(TokioIo::new(Box::pin(stream)), service);
    // That of a load worker changes to another protocol.
    let connection = connection.with_upgrades();
    tokio::pin!(connection);
    let mut shutting_down = false;
    loop {
        tokio::select! {
            ended = connection.as_mut() => {
                if let Err(error) = ended {
                    tracing::debug!(%error, "an HTTP connection ended");
                }
                return;
            }
            () = place.closed() => return,
            _ = stopping.wait_for(|stopping| *stopping), if !shutting_down => {
                shutting_down = true;
                connection.as_mut().graceful_shutdown();
            }
        }
    }
}
