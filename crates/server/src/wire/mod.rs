//! The wire listener: docs/wire-protocol.md over TCP, with or without TLS.
//!
//! One task serves one connection. It answers everything that one read brought with one write; what
//! has to wait (a refill, a batch) is a task of its own whose reply comes when it is ready, so that
//! nothing holds up what came after it.

mod arrival;
mod batches;
mod connection;
mod counters;
mod dispatch;
mod entries;
mod failure;
mod hits;
mod lifetimes;
mod locks;
mod nodes;
mod outbox;
mod permits;
mod rate_limits;
mod session;
mod tags;
mod values;

use std::sync::Arc;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio_io_timeout::TimeoutWriter;
use verax_service::Service;

use crate::connections::{AcceptFailures, ConnectionLimits, ConnectionPlace, Connections, NoPlace};
use crate::tls::Tls;
use connection::Connection;
use session::Ended;

/// The bounds on what clients of the wire may take.
#[derive(Debug, Clone, Copy)]
pub struct WireLimits {
    /// Connections at a time; further ones are told to come back later.
    pub connections: ConnectionLimits,
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
            connections: ConnectionLimits::default(),
            in_flight: 1_024,
            idle: Duration::from_secs(120),
            hello: Duration::from_secs(10),
        }
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
    let connections = Connections::new(limits.connections);
    let mut failures = AcceptFailures::default();
    // Each connection holds a sender: the channel ends with the last of them.
    let (serving, mut served) = mpsc::channel::<()>(1);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stopping.wait_for(|stopping| *stopping) => break,
        };
        match accepted {
            Ok((stream, from)) => {
                let (service, place) = (Arc::clone(&service), connections.admit(from.ip()));
                let (tls, serving) = (tls.clone(), serving.clone());
                tokio::spawn(async move {
                    serve(stream, service, tls, limits, place).await;
                    drop(serving);
                });
            }
            Err(error) => failures.pause(&error).await,
        }
    }
    drop(listener);
    drop(serving);
    let _ = tokio::time::timeout(crate::STOP_TIMEOUT, served.recv()).await;
}

async fn serve(
    stream: TcpStream,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    limits: WireLimits,
    place: Result<Arc<ConnectionPlace>, NoPlace>,
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
    place: Result<Arc<ConnectionPlace>, NoPlace>,
) -> Result<(), Ended> {
    // A client that takes nothing for too long is given up; one that takes little by little is not.
    let mut stream = TimeoutWriter::new(stream);
    stream.set_timeout(Some(limits.idle));
    match place {
        Ok(place) => Connection::new(Box::pin(stream), service, limits, place).serve().await,
        Err(why) => {
            let why = match why {
                NoPlace::Full => "there are too many connections; come back later",
                NoPlace::Address => "there are too many connections from this address",
            };
            connection::refuse(Box::pin(stream), why).await
        }
    }
}
