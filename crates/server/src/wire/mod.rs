//! The wire listener: docs/wire-protocol.md over TCP, with or without TLS.
//!
//! One task serves one connection. It answers everything that one read brought with one write; what
//! has to wait (a refill, a batch) is a task of its own whose reply comes when it is ready, so that
//! nothing holds up what came after it.

mod answer;
mod connection;
mod failure;
mod guards;
mod outbox;

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio_io_timeout::TimeoutWriter;
use verax_service::Service;

use crate::tls::Tls;
use connection::{Connection, Ended};

/// The bounds on what clients of the wire may take.
#[derive(Debug, Clone, Copy)]
pub struct WireLimits {
    /// Connections at a time; further ones are told to come back later.
    pub connections: usize,
    /// Requests of one connection that wait for something; while they do, no more are read.
    pub in_flight: usize,
    /// A connection on which nothing is heard for this long is closed.
    pub idle: Duration,
    /// The time in which a connection must have said its hello.
    pub hello: Duration,
}

impl Default for WireLimits {
    fn default() -> Self {
        Self {
            connections: 10_000,
            in_flight: 1_024,
            idle: Duration::from_secs(120),
            hello: Duration::from_secs(10),
        }
    }
}

/// Counts a connection as long as it lives.
struct Place(Arc<AtomicUsize>);

impl Place {
    /// A place, or `None` when all are taken.
    fn take(taken: &Arc<AtomicUsize>, limit: usize) -> Option<Self> {
        if taken.fetch_add(1, Ordering::Relaxed) < limit {
            return Some(Self(Arc::clone(taken)));
        }
        taken.fetch_sub(1, Ordering::Relaxed);
        None
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Serves the wire protocol until the service stops; then tells clients, answers what is in flight
/// and closes.
pub async fn serve_wire(
    listener: TcpListener,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    limits: WireLimits,
) {
    let mut stopping = service.stopping();
    let taken = Arc::new(AtomicUsize::new(0));
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stopping.wait_for(|stopping| *stopping) => break,
        };
        match accepted {
            Ok((stream, _)) => {
                let (service, place) =
                    (Arc::clone(&service), Place::take(&taken, limits.connections));
                let tls = tls.clone();
                tokio::spawn(async move { serve(stream, service, tls, limits, place).await });
            }
            Err(error) => {
                // Usually too many open files: let some close before the next attempt.
                tracing::warn!(%error, "a connection could not be taken");
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        }
    }
    let end = tokio::time::Instant::now() + crate::LONGEST_STOP;
    while taken.load(Ordering::Relaxed) > 0 && tokio::time::Instant::now() < end {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

async fn serve(
    stream: TcpStream,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    limits: WireLimits,
    place: Option<Place>,
) {
    // Replies are written whole, so there is nothing to be gained by holding them back.
    if stream.set_nodelay(true).is_err() {
        return;
    }
    let ended = match tls {
        None => converse(stream, service, limits, place).await,
        Some(tls) => match tls.accept(stream).await {
            Some(stream) => converse(stream, service, limits, place).await,
            None => return,
        },
    };
    if let Err(error) = ended {
        tracing::debug!(%error, "a wire connection ended");
    }
}

async fn converse(
    stream: impl AsyncRead + AsyncWrite,
    service: Arc<Service>,
    limits: WireLimits,
    place: Option<Place>,
) -> Result<(), Ended> {
    // A client that takes nothing for too long is given up; one that takes little by little is not.
    let mut stream = TimeoutWriter::new(stream);
    stream.set_timeout(Some(limits.idle));
    let connection = Connection::new(Box::pin(stream), service, limits);
    match place {
        Some(_place) => connection.serve().await,
        None => connection.refuse("there are too many connections; come back later").await,
    }
}
