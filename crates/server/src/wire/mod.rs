//! The wire listener: the protocol of docs/wire-protocol.md over TCP, with or without TLS.
//!
//! One task serves one connection. It replies to all requests of one socket read with one write; a
//! request that must wait (a refill, a batch) runs in a task of its own, and its reply follows when
//! ready, so that it blocks no later request.

mod arrival;
mod batches;
mod connection;
mod counters;
mod damage;
mod dispatch;
mod entries;
mod failure;
mod hits;
mod lifetimes;
mod limits;
mod locks;
mod nodes;
mod outbox;
mod permits;
mod rate_limits;
mod received;
mod session;
mod tags;
mod values;

use std::net::Ipv4Addr;
use std::sync::Arc;

use futures_util::future::BoxFuture;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio_io_timeout::TimeoutWriter;
use verax_service::Service;

use crate::accept::{STOP_TIMEOUT, accept};
use crate::connections::{ConnectionSlot, Connections, NoSlot};
use crate::tls::Tls;
use connection::Connection;
pub use limits::WireLimits;
use session::Ended;

/// Serves the wire protocol until the service stops; then notifies clients, completes active
/// requests and closes.
///
/// Boxed, so that all that serves a connection is compiled in this crate once, and not in every
/// program that calls this.
pub fn serve_wire(
    listener: TcpListener,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    limits: WireLimits,
) -> BoxFuture<'static, ()> {
    Box::pin(serve_all(listener, service, tls, limits))
}

/// Serves the wire protocol on one byte stream, until either side ends it: for tests that have the
/// service in their process.
pub fn serve_wire_stream(
    stream: impl AsyncRead + AsyncWrite + Send + 'static,
    service: Arc<Service>,
    limits: WireLimits,
) -> BoxFuture<'static, ()> {
    let slot = Connections::new(limits.connections).admit(Ipv4Addr::LOCALHOST.into());
    Box::pin(async move {
        if let Err(error) = converse(stream, service, limits, slot).await {
            tracing::debug!(%error, "a wire connection ended");
        }
    })
}

async fn serve_all(
    listener: TcpListener,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    limits: WireLimits,
) {
    let stopping = service.stopping();
    let stopped = service.stopping();
    let serving = accept(listener, limits.connections, stopping, move |stream, slot| {
        serve(stream, Arc::clone(&service), tls.clone(), limits, slot)
    });
    let overdue = async {
        let mut stopped = stopped;
        let _ = stopped.wait_for(|stopping| *stopping).await;
        tokio::time::sleep(STOP_TIMEOUT).await;
    };
    tokio::select! {
        () = serving => {}
        () = overdue => {}
    }
}

async fn serve(
    stream: TcpStream,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    limits: WireLimits,
    slot: Result<Arc<ConnectionSlot>, NoSlot>,
) {
    let ended = match tls {
        None => converse(stream, service, limits, slot).await,
        Some(tls) => match tls.accept(stream).await {
            Some(stream) => converse(stream, service, limits, slot).await,
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
    slot: Result<Arc<ConnectionSlot>, NoSlot>,
) -> Result<(), Ended> {
    // A client that reads nothing for too long is disconnected; one that reads slowly is not.
    let mut stream = TimeoutWriter::new(stream);
    stream.set_timeout(Some(limits.idle));
    match slot {
        Ok(slot) => Connection::new(Box::pin(stream), service, limits, slot).serve().await,
        Err(why) => {
            let why = match why {
                NoSlot::Full => "too many connections; retry later",
                NoSlot::Address => "too many connections from this address",
            };
            connection::refuse(Box::pin(stream), why).await
        }
    }
}
