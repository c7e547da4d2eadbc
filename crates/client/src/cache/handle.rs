//! A handle for service instances: fast reads that never make a service less available.

use std::fmt;
use std::pin::{Pin, pin};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tokio::time::Instant;
use verax_wire::Request;

use super::active_refills::ActiveRefills;
use super::breaker::Breaker;
use super::events::{CacheEvent, CacheEventKind};
use super::lost::LostInvalidations;
use super::near::Near;
use super::options::CacheOptions;
use super::transport::{Call, Connection, Transport, may_reach_origin};
use crate::addresses::Addresses;
use crate::error::ClientError;
use crate::http::connection::Client;
use crate::wire::connect::Target;
use crate::wire::link::{RawReply, Undo};
use crate::wire::pool::Pool;

/// The bound of a call whose own is beyond the clock's range.
const FAR_AWAY: Duration = Duration::from_secs(365 * 24 * 3_600);

pub(super) struct Inner {
    pub(super) tenant: String,
    pub(super) namespace: String,
    pub(super) transport: Transport,
    pub(super) breaker: Breaker,
    /// The last failure that counted for the breaker.
    pub(super) last_failure: Mutex<Option<ClientError>>,
    pub(super) lost: LostInvalidations,
    pub(super) near: Option<Arc<Near>>,
    pub(super) options: CacheOptions,
    /// The active refills of this process.
    pub(super) active_refills: ActiveRefills,
}

/// A handle on one namespace of one tenant, over the wire protocol. Cloning it shares its
/// connections and near copies.
///
/// ```no_run
/// use std::time::Duration;
/// use verax_client::{CacheOptions, Client};
///
/// # #[derive(serde::Serialize, serde::Deserialize)] struct Board { sailings: Vec<String> }
/// # async fn read_database() -> Result<Board, std::io::Error> { Ok(Board { sailings: vec![] }) }
/// # async fn example() -> Result<(), Box<dyn std::error::Error>> {
/// // Reads VERAX_WIRE_URL, and VERAX_TOKEN or VERAX_TOKEN_FILE.
/// let boards = Client::from_environment()?.cache("ferrydesk", "boards", CacheOptions::default())?;
/// let lifetime = Duration::from_secs(30);
/// let board: Board =
///     boards.get_or_refill("board/aldermouth", lifetime, async || read_database().await).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Cache(pub(super) Arc<Inner>);

impl fmt::Debug for Cache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Cache({}/{} at {})", self.0.tenant, self.0.namespace, self.0.transport.address())
    }
}

impl Client {
    /// Returns a handle on a namespace over the wire protocol. It connects on first use.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] if a name, the address or the certificates are malformed.
    pub fn cache(
        &self,
        tenant: &str,
        namespace: &str,
        options: CacheOptions,
    ) -> Result<Cache, ClientError> {
        // Checks the names.
        self.namespace(tenant, namespace)?;
        let own = self.options();
        if let Some(connector) = &own.connector {
            let targets = Addresses::new(Target::custom(Arc::clone(connector)), Vec::new());
            let pool = Pool::new(targets, own, options.connections);
            return Ok(Cache::new(tenant, namespace, Transport::Wire(pool), options));
        }
        let mut named = own.wire.split(',').map(|a| Target::new(a.trim(), own.trust()));
        let first = named.next().unwrap_or_else(|| Target::new("", own.trust()))?;
        let targets = Addresses::new(first, named.collect::<Result<_, _>>()?);
        let pool = Pool::new(targets, own, options.connections);
        Ok(Cache::new(tenant, namespace, Transport::Wire(pool), options))
    }

    /// Returns a handle on a namespace over HTTP, where only HTTP reaches the service: the same
    /// calls with the same results, each an HTTP request of its own. Waits and lifetimes are in
    /// whole seconds, rounded up.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] if a name is malformed, and for near copies, whose invalidations
    /// only the wire protocol pushes.
    pub fn cache_over_http(
        &self,
        tenant: &str,
        namespace: &str,
        options: CacheOptions,
    ) -> Result<Cache, ClientError> {
        if options.near_copies.is_some() {
            let why = "near copies need the wire protocol, which pushes their invalidations";
            return Err(ClientError::Invalid(why.into()));
        }
        let transport = Transport::Http(Arc::new(self.namespace(tenant, namespace)?));
        Ok(Cache::new(tenant, namespace, transport, options))
    }
}

impl Cache {
    fn new(tenant: &str, namespace: &str, transport: Transport, options: CacheOptions) -> Self {
        Self(Arc::new(Inner {
            tenant: tenant.to_owned(),
            namespace: namespace.to_owned(),
            transport,
            breaker: Breaker::default(),
            last_failure: Mutex::default(),
            lost: LostInvalidations::default(),
            near: options.near_copies.map(|near| Arc::new(Near::new(near))),
            options,
            active_refills: ActiveRefills::default(),
        }))
    }

    pub(super) fn note(&self, kind: CacheEventKind, started: Instant) {
        self.note_with(kind, started, 0, None);
    }

    pub(super) fn note_with(
        &self,
        kind: CacheEventKind,
        started: Instant,
        bytes: usize,
        reason: Option<&ClientError>,
    ) {
        if let Some(hook) = &self.0.options.hook {
            let (tenant, namespace) = (&*self.0.tenant, &*self.0.namespace);
            hook(&CacheEvent { kind, tenant, namespace, took: started.elapsed(), bytes, reason });
        }
    }

    /// Refuses a call while the circuit is open.
    ///
    /// # Errors
    /// [`ClientError::Unreachable`] with the last failure.
    pub(super) fn admitted(&self, now: Instant) -> Result<(), ClientError> {
        if self.0.breaker.admits(now) {
            return Ok(());
        }
        let last = self.0.last_failure.lock().unwrap_or_else(PoisonError::into_inner);
        Err(ClientError::Unreachable {
            url: self.0.transport.address(),
            reason: format!(
                "the client's circuit is open for a while after several failures, the last: {}",
                last.as_ref().map_or_else(String::new, ToString::to_string)
            ),
        })
    }

    pub(super) fn timed_out(&self, bound: Duration) -> ClientError {
        let url = self.0.transport.address();
        ClientError::TimedOut { url, milliseconds: bound.as_millis() }
    }

    /// Awaits a call until `bound` after `started`, and tells the breaker the outcome. The call is
    /// pinned, because moving its future would cost more than most of its steps.
    pub(super) async fn within<T>(
        &self,
        started: Instant,
        bound: Duration,
        may_wait: bool,
        call: Pin<&mut impl Future<Output = Result<T, ClientError>>>,
    ) -> Result<T, ClientError> {
        let deadline = started.checked_add(bound).unwrap_or(started + FAR_AWAY);
        let outcome = tokio::time::timeout_at(deadline, call);
        let outcome = outcome.await.unwrap_or_else(|_| Err(self.timed_out(bound)));
        match &outcome {
            // A slow origin does not mean a slow Verax, which still sends heartbeats.
            Err(ClientError::TimedOut { .. }) if may_wait => {}
            Err(ClientError::Unreachable { .. } | ClientError::TimedOut { .. }) => {
                let mut last = self.0.last_failure.lock().unwrap_or_else(PoisonError::into_inner);
                *last = outcome.as_ref().err().cloned();
                self.0.breaker.failed(Instant::now(), rand::random());
            }
            _ => self.0.breaker.succeeded(),
        }
        outcome
    }

    /// Sends a request over a connection; `undo` returns what it was granted if the call is
    /// dropped.
    pub(super) async fn call_on(
        &self,
        connection: &Connection,
        request: &Request<'_>,
        undo: Option<Undo>,
    ) -> Result<RawReply, ClientError> {
        let trace = match &self.0.options.trace {
            Some(trace) if may_reach_origin(request) => trace(),
            _ => None,
        };
        let call = Call { request, undo, trace };
        connection.call(&self.0.tenant, &self.0.namespace, call).await
    }

    pub(super) async fn request(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        self.request_within(self.0.options.timeout, request).await
    }

    pub(super) async fn request_within(
        &self,
        bound: Duration,
        request: Request<'_>,
    ) -> Result<RawReply, ClientError> {
        // A slow read must not cost a lease, nor keep what others wait for.
        let always = matches!(
            request,
            Request::RenewLock { .. } | Request::ReleaseLock { .. } | Request::ReleasePermit { .. }
        );
        let started = Instant::now();
        if !always {
            self.admitted(started)?;
        }
        let call = pin!(async {
            let connection = self.0.transport.connection().await?;
            self.call_on(&connection, &request, None).await
        });
        self.within(started, bound, false, call).await
    }

    /// Makes sure that Verax pushes invalidations, if near copies are enabled.
    pub(super) async fn watch(&self) -> Result<(), ClientError> {
        let Some(near) = &self.0.near else { return Ok(()) };
        match near.watched.load(Ordering::Acquire) {
            true => Ok(()),
            // Boxed, since it is rare and would make every read larger.
            false => Box::pin(self.begin_to_watch(near)).await,
        }
    }

    async fn begin_to_watch(&self, near: &Arc<Near>) -> Result<(), ClientError> {
        let _asking = near.asking.lock().await;
        if near.watched.load(Ordering::Acquire) {
            return Ok(());
        }
        let Transport::Wire(pool) = &self.0.transport else { return Ok(()) };
        let link = pool.first().await?;
        let number = link.open(&self.0.tenant, &self.0.namespace).await?;
        let weak = Arc::downgrade(near);
        let watching = Arc::downgrade(&link);
        let sink = move |pushed: crate::wire::link::Invalidation| {
            let Some(near) = weak.upgrade() else { return };
            near.pushed(&pushed);
            if watching.upgrade().is_none_or(|link| link.is_broken()) {
                near.lost();
            }
        };
        link.watch(number, Box::new(sink)).await?;
        near.watched.store(true, Ordering::Release);
        // The connection may have broken before the mark was taken.
        if link.is_broken() {
            near.lost();
        }
        Ok(())
    }
}
