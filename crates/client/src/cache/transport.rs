//! How a handle's requests travel: over the wire protocol, or each as an HTTP request.

use std::sync::Arc;

use verax_wire::Request;

use crate::error::ClientError;
use crate::http::entries::Namespace;
use crate::trace::TraceContext;
use crate::wire::link::{Link, RawReply, Undo};
use crate::wire::pool::Pool;

/// Where connections come from.
pub(super) enum Transport {
    /// The wire protocol.
    Wire(Pool),
    /// HTTP.
    Http(Arc<Namespace>),
}

/// What one request goes over.
#[derive(Debug, Clone)]
pub(super) enum Connection {
    /// A connection of the wire protocol, shared by many calls.
    Wire(Arc<Link>),
    /// An HTTP request of its own.
    Http(Arc<Namespace>),
}

/// One request, with what belongs to it.
pub(super) struct Call<'r> {
    /// The request.
    pub(super) request: &'r Request<'r>,
    /// How to return what it was granted if its caller is gone.
    pub(super) undo: Option<Undo>,
    /// The trace context that it belongs to.
    pub(super) trace: Option<TraceContext>,
}

/// Whether a request may reach an origin, which is what passes a trace context on.
pub(super) fn may_reach_origin(request: &Request<'_>) -> bool {
    match request {
        Request::Get { flags, .. } => !flags.only_if_cached,
        Request::Put(_) | Request::Delete { .. } | Request::Batch(_) => true,
        _ => false,
    }
}

impl Transport {
    /// The next working connection.
    pub(super) async fn connection(&self) -> Result<Connection, ClientError> {
        match self {
            Self::Wire(pool) => pool.link().await.map(Connection::Wire),
            Self::Http(namespace) => Ok(Connection::Http(Arc::clone(namespace))),
        }
    }

    /// The address that last responded.
    pub(super) fn address(&self) -> String {
        match self {
            Self::Wire(pool) => pool.address(),
            Self::Http(namespace) => namespace.client().url().to_string(),
        }
    }
}

impl Connection {
    /// Whether the limit of waiting calls is reached.
    pub(super) fn is_crowded(&self) -> bool {
        match self {
            Self::Wire(link) => link.is_crowded(),
            Self::Http(_) => false,
        }
    }

    /// Sends a request about a namespace and waits for its reply.
    pub(super) async fn call(
        &self,
        tenant: &str,
        namespace: &str,
        call: Call<'_>,
    ) -> Result<RawReply, ClientError> {
        let Call { request, undo, trace } = call;
        match self {
            Self::Wire(link) => {
                let number = link.open(tenant, namespace).await?;
                link.call_or_undo(number, request, undo, trace.as_ref()).await
            }
            // A caller that is gone ends its HTTP request, and with it its place in a queue. What
            // is granted in that very moment ends with its lease.
            // Boxed, so that a call over the wire does not have the size of an HTTP request.
            Self::Http(namespace) => Box::pin(namespace.traced(trace).carry_out(*request)).await,
        }
    }
}
