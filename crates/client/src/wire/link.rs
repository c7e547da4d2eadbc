//! One connection, shared by many calls.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use bytes::{Buf, Bytes, BytesMut};
use tokio::io::{AsyncReadExt, AsyncWriteExt, ReadHalf, WriteHalf};
use tokio::sync::{Notify, Semaphore, SemaphorePermit, TryAcquireError, oneshot};
use verax_api::{FailureKind, Problem, RETRY_AFTER_SECONDS};
use verax_wire::{
    Frame, Head, Hello, Invalidated, Reply, Request, VERSION, WireError, frame::HEAD, next_frame,
};

use super::connect::{ByteStream, Target};
use crate::error::ClientError;
use crate::trace::TraceContext;

/// How often a heartbeat is requested; a connection without one for twice as long is broken.
pub(crate) const PING_EVERY: Duration = Duration::from_secs(1);

/// The maximum body size accepted from a server, in bytes.
const MAX_BODY_BYTES: u32 = 128 << 20;

/// The maximum number of requests in flight on one connection.
const MAX_IN_FLIGHT: usize = 65_536;

const READ: usize = 16 << 10;

/// The place of the flags in a header.
const FLAGS_AT: usize = 5;

/// A reply that is not yet decoded.
#[derive(Debug)]
pub(crate) struct RawReply {
    head: Head,
    body: Bytes,
}

impl RawReply {
    /// Decodes the reply; refusals are errors.
    pub(crate) fn reply(&self) -> Result<Reply<'_>, ClientError> {
        match Reply::decode(self.head, &self.body) {
            Ok(reply @ Reply::Failed { .. }) => Err(refused(&reply)),
            Ok(reply) => Ok(reply),
            Err(error) => Err(unreadable(&error)),
        }
    }

    /// Decodes the reply, of whatever kind.
    pub(crate) fn decoded(&self) -> Result<Reply<'_>, ClientError> {
        Reply::decode(self.head, &self.body).map_err(|error| unreadable(&error))
    }

    /// A reply that did not come over a connection.
    pub(crate) fn of(reply: &Reply<'_>) -> Self {
        let mut bytes = Vec::new();
        reply.encode(Frame::default(), &mut bytes);
        let head = Head { kind: reply.kind(), flags: bytes[FLAGS_AT], namespace: 0, id: 0 };
        Self { head, body: Bytes::from(bytes).slice(HEAD..) }
    }

    /// The reply of a refusal.
    pub(crate) fn refused(problem: &Problem) -> Self {
        let kind = problem.failure().unwrap_or(FailureKind::Internal);
        let id = problem.request_id.as_deref().and_then(|id| u64::from_str_radix(id, 16).ok());
        Self::of(&Reply::Failed {
            code: kind.code(),
            unchanged: problem.more.get("unchanged").is_some_and(|unchanged| unchanged == true),
            request_id: id.unwrap_or_default(),
            retry_after: problem.retry_after_seconds().map(|s| (s * 1_000.0).ceil() as u64),
            detail: &problem.detail,
        })
    }

    /// The part of the body that is `slice`, without copying.
    pub(crate) fn share(&self, part: &[u8]) -> Bytes {
        if part.is_empty() { Bytes::new() } else { self.body.slice_ref(part) }
    }
}

/// The error of a reply that is a refusal, as a problem document.
pub(crate) fn refused(reply: &Reply<'_>) -> ClientError {
    let Reply::Failed { code, unchanged, request_id, retry_after, detail } = *reply else {
        return unreadable(&WireError::Kind(reply.kind()));
    };
    // Unknown codes of later versions count as internal errors.
    let kind = FailureKind::of_code(code).unwrap_or(FailureKind::Internal);
    let mut problem = Problem::of(kind, detail);
    problem.request_id = Some(request_id).filter(|id| *id != 0).map(|id| format!("{id:016x}"));
    if unchanged {
        problem = problem.with("unchanged", true);
    }
    if let Some(millis) = retry_after {
        problem = problem.with(RETRY_AFTER_SECONDS, millis as f64 / 1_000.0);
    }
    ClientError::Refused(Box::new(problem))
}

fn unreadable(error: &WireError) -> ClientError {
    ClientError::NotVerax { url: "the wire".into(), reason: error.to_string() }
}

/// The receiver of pushes to one opened namespace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Invalidation {
    Key(String),
    Tag(String),
    All,
}

type PushSink = Box<dyn Fn(Invalidation) + Send + Sync>;

/// How to return what a request was granted if its caller is gone.
#[derive(Debug, Clone)]
pub(crate) enum Undo {
    /// Release the lease of this lock.
    Lock(String),
    /// Release the permit of this key.
    Permit(String),
    /// Release the permit of the key that was wanted.
    Wanted,
}

impl Undo {
    /// The request that returns what a reply granted, if anything.
    fn request<'a>(&'a self, reply: Reply<'a>) -> Option<Request<'a>> {
        match (self, reply) {
            (Undo::Lock(name), Reply::Granted { fencing_token, .. }) => {
                Some(Request::ReleaseLock { name, fencing_token })
            }
            (Undo::Permit(key), Reply::Permit { permit, .. }) => {
                Some(Request::ReleasePermit { key, permit, fail_all: false })
            }
            (Undo::Wanted, Reply::Wanted { permit, key, .. }) => {
                Some(Request::ReleasePermit { key, permit, fail_all: false })
            }
            _ => None,
        }
    }
}

/// A namespace that was opened on a connection, and its number there.
struct Opened {
    tenant: String,
    namespace: String,
    number: u16,
}

/// Who a reply is for.
enum Awaited {
    /// A call.
    Call(oneshot::Sender<RawReply>),
    /// A call that is gone, whose grant must be returned.
    Abandoned(Undo),
}

/// Hashes request numbers, which this process chooses, by Fibonacci hashing (Knuth, The Art
/// of Computer Programming, volume 3, section 6.4).
#[derive(Default)]
struct NumberHasher(u64);

impl Hasher for NumberHasher {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|byte| self.write_u32(u32::from(*byte)));
    }

    fn write_u32(&mut self, number: u32) {
        self.0 = (self.0 ^ u64::from(number)).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(32);
    }
}

#[derive(Default)]
struct Shared {
    awaited: HashMap<u32, Awaited, BuildHasherDefault<NumberHasher>>,
    outgoing: Vec<u8>,
    /// Few, since each handle has connections of its own and opens one namespace.
    opened: Vec<Opened>,
    watched: HashMap<u16, Arc<PushSink>>,
}

impl Shared {
    /// The number of a namespace that was opened.
    fn number_of(&self, tenant: &str, namespace: &str) -> Option<u16> {
        let mut opened = self.opened.iter();
        let is_it = |opened: &&Opened| opened.namespace == namespace && opened.tenant == tenant;
        opened.find(is_it).map(|opened| opened.number)
    }
}

/// One connection. After its first failure every call on it fails.
pub(crate) struct Link {
    shared: Mutex<Shared>,
    to_write: Notify,
    last_id: AtomicU32,
    broken: AtomicBool,
    /// Why the peer is not Verax.
    not_verax: OnceLock<String>,
    closed: Notify,
    /// How many requests may be in flight, out of the number the server reads.
    in_flight: Semaphore,
    /// How many of them may wait for something, so that hits can pass.
    may_wait: Semaphore,
    address: String,
}

/// Requests sent regardless of what is in flight: heartbeats, and those that unblock others.
const KEPT_FREE: usize = 16;

/// Whether the reply to a request may take as long as an origin or another caller.
fn may_wait(request: &Request<'_>) -> bool {
    match request {
        Request::Get { flags, .. } => !flags.only_if_cached,
        Request::AcquireLock { .. } | Request::AcquirePermit { .. } | Request::Batch(_) => true,
        Request::AwaitRefill { .. } => true,
        // If the namespace writes through.
        Request::Put(_) | Request::Delete { .. } => true,
        _ => false,
    }
}

/// Whether a request is sent regardless of what is in flight.
fn is_urgent(request: &Request<'_>) -> bool {
    matches!(
        request,
        Request::Hello(_)
            | Request::Ping
            | Request::RenewLock { .. }
            | Request::ReleaseLock { .. }
            | Request::PutWithPermit { .. }
            | Request::ReleasePermit { .. }
    )
}

impl std::fmt::Debug for Link {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Link").field("address", &self.address).finish_non_exhaustive()
    }
}

/// A call waiting for its reply. Its place is released however it ends; anything granted after it
/// is gone is returned.
struct Waiting<'l> {
    link: &'l Link,
    id: u32,
    undo: Option<Undo>,
    /// Whether the caller has the reply, or knows that there is none.
    is_over: bool,
    receiver: oneshot::Receiver<RawReply>,
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        if self.is_over {
            return;
        }
        let Some(undo) = self.undo.take() else {
            self.link.shared().awaited.remove(&self.id);
            return;
        };
        {
            // Under one lock, so that the reply has either arrived or is still to come.
            let mut shared = self.link.shared();
            if let Some(awaited) = shared.awaited.get_mut(&self.id) {
                *awaited = Awaited::Abandoned(undo);
                return;
            }
        }
        if let Ok(raw) = self.receiver.try_recv() {
            self.link.take_back(&raw, &undo);
        }
    }
}

/// Ends the connection however a task of it ends, also with the runtime that it ran on.
struct FailOnDrop(Arc<Link>);

impl Drop for FailOnDrop {
    fn drop(&mut self) {
        self.0.fail();
    }
}

impl Link {
    /// Connects and sends the hello; also returns the nodes' addresses from the welcome.
    pub(crate) async fn connect(
        target: &Target,
        token: &str,
    ) -> Result<(Arc<Self>, Vec<String>), ClientError> {
        let address = target.address().to_owned();
        let unreachable =
            |reason: String| ClientError::Unreachable { url: address.clone(), reason };
        let stream = target.connect().await.map_err(|e| unreachable(e.to_string()))?;
        let (reader, writer) = tokio::io::split(stream);
        let link = Arc::new(Self {
            shared: Mutex::default(),
            to_write: Notify::new(),
            last_id: AtomicU32::new(0),
            broken: AtomicBool::new(false),
            not_verax: OnceLock::new(),
            closed: Notify::new(),
            in_flight: Semaphore::new(0),
            may_wait: Semaphore::new(0),
            address: address.clone(),
        });
        tokio::spawn(Arc::clone(&link).read(reader));
        tokio::spawn(Arc::clone(&link).write(writer));
        let hello = Hello {
            lowest: VERSION,
            highest: VERSION,
            token,
            client: concat!("verax-client/", env!("CARGO_PKG_VERSION")),
        };
        let answered = link.call(0, &Request::Hello(hello)).await;
        let welcomed = answered.and_then(|raw| match raw.reply()? {
            Reply::Welcome(welcome) => {
                let most = (welcome.max_in_flight as usize).min(MAX_IN_FLIGHT);
                link.in_flight.add_permits(most.saturating_sub(KEPT_FREE).max(1));
                link.may_wait.add_permits((most / 2).max(1));
                Ok(Some(welcome.nodes.iter().map(str::to_owned).collect::<Vec<_>>()))
            }
            _ => Ok(None),
        });
        match welcomed {
            Ok(Some(nodes)) => {
                tokio::spawn(Arc::clone(&link).keep_alive());
                Ok((link, nodes))
            }
            Ok(None) => {
                link.fail();
                Err(unreachable("it did not say welcome".into()))
            }
            Err(error) => {
                link.fail();
                Err(error)
            }
        }
    }

    fn shared(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn is_broken(&self) -> bool {
        self.broken.load(Ordering::Acquire)
    }

    /// Whether the limit of waiting calls is reached.
    pub(crate) fn is_crowded(&self) -> bool {
        self.may_wait.available_permits() == 0
    }

    /// Ends the connection and every call on it; watchers drop every near copy.
    pub(crate) fn fail(&self) {
        self.broken.store(true, Ordering::Release);
        let watched = {
            let mut shared = self.shared();
            shared.awaited.clear();
            std::mem::take(&mut shared.watched)
        };
        watched.values().for_each(|sink| sink(Invalidation::All));
        self.in_flight.close();
        self.may_wait.close();
        self.closed.notify_waiters();
        self.to_write.notify_one();
    }

    fn unreachable(&self) -> ClientError {
        let url = self.address.clone();
        match self.not_verax.get() {
            Some(reason) => ClientError::NotVerax { url, reason: reason.clone() },
            None => ClientError::Unreachable { url, reason: "the connection broke".into() },
        }
    }

    /// Sends a request and waits for its reply. Dropping the call forgets the reply.
    pub(crate) async fn call(
        &self,
        namespace: u16,
        request: &Request<'_>,
    ) -> Result<RawReply, ClientError> {
        self.call_or_undo(namespace, request, None, None).await
    }

    /// [`call`](Self::call) for a request that may be granted something: if the call is dropped,
    /// `undo` returns it.
    pub(crate) async fn call_or_undo(
        &self,
        namespace: u16,
        request: &Request<'_>,
        undo: Option<Undo>,
        trace: Option<&TraceContext>,
    ) -> Result<RawReply, ClientError> {
        // In our own order: a request the server does not read yet would block all later ones.
        let waits = match may_wait(request) {
            true => Some(self.place(&self.may_wait).await?),
            false => None,
        };
        let place = match is_urgent(request) {
            true => None,
            false => Some(self.place(&self.in_flight).await?),
        };
        let id = self.last_id.fetch_add(1, Ordering::Relaxed).wrapping_add(1).max(1);
        let (sender, receiver) = oneshot::channel();
        let first = {
            let mut shared = self.shared();
            if self.is_broken() {
                return Err(self.unreachable());
            }
            shared.awaited.insert(id, Awaited::Call(sender));
            let first = shared.outgoing.is_empty();
            if let Some(TraceContext { traceparent, tracestate }) = trace {
                // It belongs to the next request, so nothing may come in between.
                let tracestate = tracestate.as_deref().unwrap_or_default();
                Request::Trace { traceparent, tracestate }
                    .encode(Frame::default(), &mut shared.outgoing);
            }
            request.encode(Frame { namespace, id }, &mut shared.outgoing);
            first
        };
        let mut waiting = Waiting { link: self, id, undo, is_over: false, receiver };
        if first {
            self.to_write.notify_one();
        }
        let reply = (&mut waiting.receiver).await;
        // From now on the caller is responsible for the reply.
        waiting.is_over = true;
        drop((waits, place));
        reply.map_err(|_| self.unreachable())
    }

    /// One of the places for requests in flight, as soon as there is one.
    async fn place<'l>(
        &'l self,
        places: &'l Semaphore,
    ) -> Result<SemaphorePermit<'l>, ClientError> {
        let place = match places.try_acquire() {
            Ok(place) => Ok(place),
            Err(TryAcquireError::NoPermits) => places.acquire().await.map_err(drop),
            Err(TryAcquireError::Closed) => Err(()),
        };
        place.map_err(|()| self.unreachable())
    }

    /// Returns what a reply granted to a call that is gone.
    fn take_back(&self, raw: &RawReply, undo: &Undo) {
        let Ok(reply) = Reply::decode(raw.head, &raw.body) else { return };
        let Some(request) = undo.request(reply) else { return };
        let id = self.last_id.fetch_add(1, Ordering::Relaxed).wrapping_add(1).max(1);
        let frame = Frame { namespace: raw.head.namespace, id };
        // No caller waits for the reply: if it fails, the lease or permit expires.
        request.encode(frame, &mut self.shared().outgoing);
        self.to_write.notify_one();
    }

    /// The number of a namespace on this connection, which is opened on first use.
    pub(crate) async fn open(&self, tenant: &str, namespace: &str) -> Result<u16, ClientError> {
        if let Some(number) = self.shared().number_of(tenant, namespace) {
            return Ok(number);
        }
        // Boxed, since it is rare and would make every call larger.
        Box::pin(async {
            let raw = self.call(0, &Request::Open { tenant, namespace }).await?;
            raw.reply()?;
            let (number, mut shared) = (raw.head.namespace, self.shared());
            if shared.number_of(tenant, namespace).is_none() {
                let (tenant, namespace) = (tenant.to_owned(), namespace.to_owned());
                shared.opened.push(Opened { tenant, namespace, number });
            }
            Ok(number)
        })
        .await
    }

    /// Sends the invalidations of an opened namespace, and the end of this connection, to `sink`.
    pub(crate) async fn watch(&self, namespace: u16, sink: PushSink) -> Result<(), ClientError> {
        self.shared().watched.insert(namespace, Arc::new(sink));
        self.call(namespace, &Request::Watch).await?.reply().map(drop)
    }

    async fn write(self: Arc<Self>, mut writer: WriteHalf<Box<dyn ByteStream>>) {
        let _ended = FailOnDrop(Arc::clone(&self));
        let mut bytes = Vec::new();
        loop {
            self.to_write.notified().await;
            // Calls whose replies have just come are about to send their next requests.
            if self.shared().awaited.len() > 1 {
                tokio::task::yield_now().await;
            }
            // Everything queued in the meantime is sent together.
            std::mem::swap(&mut bytes, &mut self.shared().outgoing);
            if self.is_broken() {
                let _ = writer.shutdown().await;
                return;
            }
            let written = async {
                writer.write_all(&bytes).await?;
                writer.flush().await
            };
            if written.await.is_err() {
                return self.fail();
            }
            bytes.clear();
            bytes.shrink_to(256 << 10);
            if !self.shared().outgoing.is_empty() {
                self.to_write.notify_one();
            }
        }
    }

    async fn read(self: Arc<Self>, mut reader: ReadHalf<Box<dyn ByteStream>>) {
        let _ended = FailOnDrop(Arc::clone(&self));
        let mut received = BytesMut::with_capacity(READ);
        loop {
            received.reserve(READ);
            let read = tokio::select! {
                read = reader.read_buf(&mut received) => read,
                () = self.closed.notified() => return,
            };
            if !matches!(read, Ok(1..)) || !self.take_received(&mut received) {
                return self.fail();
            }
        }
    }

    /// Delivers every complete reply; returns whether the connection can continue.
    fn take_received(&self, received: &mut BytesMut) -> bool {
        loop {
            let (head, taken) = match next_frame(received, MAX_BODY_BYTES) {
                Ok(Some((frame, taken))) => (frame.head, taken),
                Ok(None) => return true,
                Err(error) => {
                    let reason = match received.starts_with(b"HTTP/") {
                        true => "it speaks HTTP: use its address for the wire protocol".into(),
                        false => format!("it does not speak the wire protocol: {error}"),
                    };
                    // Before the welcome only the hello is sent. Later on a connection of Verax has
                    // broken, and the next one may work.
                    if self.last_id.load(Ordering::Relaxed) <= 1 {
                        let _ = self.not_verax.set(reason);
                    }
                    return false;
                }
            };
            received.advance(HEAD);
            let body = received.split_to(taken - HEAD).freeze();
            if head.id != 0 {
                let mut shared = self.shared();
                let raw = RawReply { head, body };
                match shared.awaited.remove(&head.id) {
                    // Under the lock, so that a call dropped now finds its reply. One dropped
                    // earlier does not need it.
                    Some(Awaited::Call(waiting)) => drop(waiting.send(raw)),
                    Some(Awaited::Abandoned(undo)) => {
                        drop(shared);
                        self.take_back(&raw, &undo);
                    }
                    None => {}
                }
                continue;
            }
            match Reply::decode(head, &body) {
                Ok(Reply::Invalidated(Invalidated::Key(key))) => {
                    self.tell(head, Invalidation::Key(key.to_owned()))
                }
                Ok(Reply::Invalidated(Invalidated::Tag(tag))) => {
                    self.tell(head, Invalidation::Tag(tag.to_owned()))
                }
                Ok(Reply::Invalidated(Invalidated::All)) => self.tell(head, Invalidation::All),
                // New calls use another connection; waiting ones still get their replies.
                Ok(Reply::Goodbye) => {
                    self.broken.store(true, Ordering::Release);
                    let watched = std::mem::take(&mut self.shared().watched);
                    watched.values().for_each(|sink| sink(Invalidation::All));
                }
                Ok(_) | Err(_) => return false,
            }
        }
    }

    fn tell(&self, head: Head, pushed: Invalidation) {
        let sink = self.shared().watched.get(&head.namespace).cloned();
        if let Some(sink) = sink {
            sink(pushed);
        }
    }

    async fn keep_alive(self: Arc<Self>) {
        loop {
            tokio::time::sleep(PING_EVERY).await;
            if self.is_broken() {
                return;
            }
            let pong = tokio::time::timeout(PING_EVERY, self.call(0, &Request::Ping)).await;
            if !matches!(pong, Ok(Ok(_))) {
                return self.fail();
            }
        }
    }
}
