//! The state of one connection and what its frames do to it, without any input or output: bytes
//! come in through [`Session::received`], and replies wait in [`Session::outbox`].

use std::io;
use std::sync::Arc;

use bytes::BytesMut;
use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use futures_util::stream::FuturesUnordered;
use tokio::task::JoinSet;
use verax_api::FailureKind;
use verax_control::access::Caller;
use verax_control::{Control, ControlError};
use verax_core::Name;
use verax_core::guard::lock::SessionId;
use verax_engine::cache::{BatchAccess, Invalidated, InvalidationWatch, Written};
use verax_engine::in_flight::InFlightBudget;
use verax_engine::locks::LockSession;
use verax_engine::turns::TenantTurns;
use verax_engine::{Deleter, LeasedBy, Locker, Namespace, Reader, Refiller, TraceContext, Writer};
use verax_service::Service;
use verax_wire::{Frame, MAX_HELLO_BYTES, Reply, WireError, frame};

use super::arrival::{Arrival, MAX_AHEAD, NoRoom};
use super::limits::WireLimits;
use super::outbox::{Encoded, Outbox};
use crate::connections::ConnectionSlot;
use crate::failure::Failure;

#[cfg(test)]
mod tests;

/// The minimum size of a socket read, in bytes.
const READ: usize = 16 << 10;

/// The share of the in-flight budget that the unread replies of one connection may take.
const REPLIES_PART: u64 = 4;

/// A write begins before this many bytes are queued.
pub(super) const WRITE_AT: usize = 256 << 10;

/// A namespace that the connection opened.
#[derive(Debug)]
pub(super) struct Opened {
    pub(super) tenant: Name,
    pub(super) name: Name,
    pub(super) reads: Result<Reader, ControlError>,
    pub(super) writes: Result<Writer, ControlError>,
    pub(super) deletes: Result<Deleter, ControlError>,
    pub(super) locks: Result<Locker, ControlError>,
    /// Whether the client watches invalidations.
    pub(super) watched: bool,
}

/// The authenticated peer.
#[derive(Debug)]
pub(super) struct Peer {
    pub(super) caller: Arc<Caller>,
    pub(super) token: String,
    /// The generation of tokens and namespaces that `caller` and the opened namespaces were checked
    /// against.
    pub(super) revision: u64,
}

pub(super) type InvalidationNotice = (u16, InvalidationWatch, Option<Invalidated>);

/// The state of a connection.
pub(super) struct Session {
    pub(super) service: Arc<Service>,
    pub(super) limits: WireLimits,
    pub(super) received: BytesMut,
    /// Whether the buffer is larger than requests usually need.
    buffer_grew: bool,
    pub(super) outbox: Outbox,
    /// Waiting requests; each ends with its encoded reply.
    pub(super) waiting: JoinSet<Encoded>,
    pub(super) watches: FuturesUnordered<BoxFuture<'static, InvalidationNotice>>,
    pub(super) peer: Option<Peer>,
    /// The trace context of the next request.
    pub(super) trace: Option<TraceContext>,
    pub(super) opened: Vec<Opened>,
    pub(super) max_body_bytes: u32,
    pub(super) arrival: Arrival,
    /// The budget of queued replies, however small each is.
    pub(super) replies: InFlightBudget,
    pub(super) ending: bool,
    /// Whether a request was refused over a quota, so that reading pauses.
    pub(super) pauses: bool,
    /// For leases that end with the connection.
    session: Option<LockSession>,
    pub(super) place: Arc<ConnectionSlot>,
    /// The turns of the tenant whose namespace was opened first.
    pub(super) turns: Option<Arc<TenantTurns>>,
}

/// Why a connection must end.
#[derive(Debug, thiserror::Error)]
pub(super) enum Ended {
    #[error("{0}")]
    Io(#[from] io::Error),
    #[error("the client broke the protocol: {0}")]
    Protocol(#[from] WireError),
    #[error("the client was silent for too long")]
    Idle,
    #[error("the client was refused: {0}")]
    Refused(String),
}

impl Opened {
    /// Opens a namespace with what the caller may do in it.
    pub(super) fn open(control: &Control, caller: &Caller, tenant: Name, name: Name) -> Self {
        Self {
            reads: control.open_reader(caller, &tenant, &name),
            writes: control.open_writer(caller, &tenant, &name),
            deletes: control.open_deleter(caller, &tenant, &name),
            locks: control.open_locker(caller, &tenant, &name),
            tenant,
            name,
            watched: false,
        }
    }

    /// Opens it again with what the caller may do in it now.
    fn reopen(&mut self, control: &Control, caller: &Caller) {
        let now = Self::open(control, caller, self.tenant.clone(), self.name.clone());
        *self = Self { watched: self.watched, ..now };
    }

    /// The namespace, if any of the handles is open.
    pub(super) fn namespace(&self) -> Option<&Namespace> {
        let (reads, writes) = (self.reads.as_deref().ok(), self.writes.as_deref().ok());
        let others = || self.deletes.as_deref().ok().or(self.locks.as_deref().ok());
        reads.or(writes).or_else(others)
    }

    pub(super) fn reads(&self) -> Result<&Reader, Failure> {
        self.reads.as_ref().map_err(|error| error.clone().into())
    }

    pub(super) fn refills(&self) -> Result<Refiller, Failure> {
        let refiller = Refiller::of(self.reads()?, self.writes()?);
        refiller.ok_or_else(|| Failure::new(FailureKind::NotFound, "the namespace is gone"))
    }

    /// The in-flight budget of the namespace's tenant.
    pub(super) fn in_flight(&self) -> Option<&InFlightBudget> {
        self.namespace().map(Namespace::in_flight)
    }

    /// Its tenant's turns at the processors.
    pub(super) fn turns(&self) -> Option<&Arc<TenantTurns>> {
        self.namespace().map(Namespace::turns)
    }

    pub(super) fn batch_access(&self) -> BatchAccess<ControlError> {
        let (reads, writes) = (self.reads.clone(), self.writes.clone());
        BatchAccess { reads, writes, deletes: self.deletes.clone() }
    }

    pub(super) fn writes(&self) -> Result<&Writer, Failure> {
        self.writes.as_ref().map_err(|error| error.clone().into())
    }

    pub(super) fn deletes(&self) -> Result<&Deleter, Failure> {
        self.deletes.as_ref().map_err(|error| error.clone().into())
    }

    pub(super) fn locks(&self) -> Result<&Locker, Failure> {
        self.locks.as_ref().map_err(|error| error.clone().into())
    }
}

impl Session {
    pub(super) fn new(
        service: Arc<Service>,
        limits: WireLimits,
        place: Arc<ConnectionSlot>,
    ) -> Self {
        let budget = service.engine().in_flight();
        let replies = InFlightBudget::new(budget.limit() / REPLIES_PART);
        Self {
            service,
            limits,
            received: BytesMut::with_capacity(READ),
            buffer_grew: false,
            outbox: Outbox::default(),
            waiting: JoinSet::new(),
            watches: FuturesUnordered::new(),
            peer: None,
            trace: None,
            opened: Vec::new(),
            max_body_bytes: MAX_HELLO_BYTES,
            arrival: Arrival::default(),
            replies,
            ending: false,
            pauses: false,
            session: None,
            place,
            turns: None,
        }
    }

    /// Prepares the buffer for the next read. A frame for which there is no memory is refused, and
    /// the connection continues with the next frame.
    pub(super) fn expect_more(&mut self) {
        let (opened, engine) = (&self.opened, self.service.engine());
        let budget = |number: u16| {
            let opened = usize::from(number).checked_sub(1).and_then(|at| opened.get(at));
            opened.and_then(Opened::in_flight).unwrap_or_else(|| engine.in_flight()).clone()
        };
        if let Err(NoRoom { frame, error }) = self.arrival.expect(&mut self.received, budget) {
            self.fail(frame, &error.into());
        }
        let missing = frame::missing(&self.received).min(MAX_AHEAD);
        if missing == 0 && self.received.len() < READ && self.buffer_grew {
            // A large frame has been handled: its buffer is released.
            let rest = std::mem::take(&mut self.received);
            self.received = BytesMut::with_capacity(READ);
            self.received.extend_from_slice(&rest);
            self.buffer_grew = false;
        }
        self.received.reserve(missing.max(READ / 4));
        self.buffer_grew |= self.received.capacity() > MAX_AHEAD;
    }

    /// The lock session, whose leases end with this connection.
    pub(super) fn session(&mut self) -> SessionId {
        self.session.get_or_insert_with(|| self.service.engine().lock_session()).id()
    }

    /// The access under which the peer holds leases.
    pub(super) fn access(&self) -> Option<LeasedBy> {
        self.peer.as_ref().and_then(|peer| peer.caller.access())
    }

    /// The peer's display name.
    pub(super) fn display_name(&self) -> String {
        self.peer.as_ref().map_or_else(String::new, |peer| peer.caller.display_name().to_owned())
    }

    /// The owner's name of a request, by default the peer's display name.
    pub(super) fn owner(&self, given: &str) -> String {
        match given {
            "" => self.display_name(),
            given => given.to_owned(),
        }
    }

    pub(super) fn fail(&mut self, frame: Frame, failure: &Failure) {
        self.outbox.add(frame, &failure.reply());
    }

    /// Checks the token again if anything has changed.
    pub(super) fn check_peer(&mut self) -> Result<(), Ended> {
        let Some(peer) = &mut self.peer else { return Ok(()) };
        let revision = self.service.control().access_revision();
        if peer.revision == revision && !peer.caller.signal().has_ended() {
            return Ok(());
        }
        match self.service.control().token_caller(&peer.token) {
            Ok(caller) => {
                peer.revision = revision;
                for (number, opened) in (1..).zip(&mut self.opened) {
                    let before = opened.reads.clone();
                    opened.reopen(self.service.control(), &caller);
                    // A namespace created again under the same name is watched from now on; near
                    // copies of the earlier one are invalid.
                    if let Ok(reader) = &opened.reads
                        && opened.watched
                        && !before.is_ok_and(|before| before.same(reader))
                    {
                        let push = Frame { namespace: number, id: 0 };
                        self.outbox.add(push, &Reply::Invalidated(verax_wire::Invalidated::All));
                        self.watches.push(next_invalidation(number, reader.watch_invalidations()));
                    }
                }
                peer.caller = caller;
                Ok(())
            }
            Err(error) => {
                let text = error.to_string();
                self.fail(Frame::default(), &error.into());
                self.ending = true;
                self.waiting.abort_all();
                Err(Ended::Refused(text))
            }
        }
    }

    /// Watches the invalidations of an opened namespace for the client.
    pub(super) fn watch(&mut self, number: u16, reader: &Reader) {
        let opened = usize::from(number).checked_sub(1).and_then(|at| self.opened.get_mut(at));
        // Watched once, however often it is requested.
        if opened.is_some_and(|opened| !std::mem::replace(&mut opened.watched, true)) {
            self.watches.push(next_invalidation(number, reader.watch_invalidations()));
        }
    }

    pub(super) fn push(
        &mut self,
        (number, watch, invalidated): InvalidationNotice,
    ) -> Result<(), Ended> {
        // A revoked token must not even learn the names of keys.
        self.check_peer()?;
        let frame = Frame { namespace: number, id: 0 };
        let reply = match &invalidated {
            Some(Invalidated::Key(key)) => Reply::Invalidated(verax_wire::Invalidated::Key(key)),
            Some(Invalidated::Tag(tag)) => Reply::Invalidated(verax_wire::Invalidated::Tag(tag)),
            Some(Invalidated::All) => Reply::Invalidated(verax_wire::Invalidated::All),
            // The watch of a deleted namespace ends after an invalidation of everything. One
            // created again is watched as soon as it is opened again.
            None => return Ok(()),
        };
        self.outbox.add(frame, &reply);
        self.watches.push(next_invalidation(number, watch));
        Ok(())
    }

    pub(super) fn opened(&self, number: u16) -> Result<&Opened, Failure> {
        let opened = usize::from(number).checked_sub(1).and_then(|at| self.opened.get(at));
        opened.ok_or_else(|| {
            let detail = format!("no namespace was opened under the number {number}");
            Failure::new(FailureKind::NotFound, detail)
        })
    }

    /// Begins a request that may wait, if there is memory for another waiter. It is queued now, in
    /// the order of the requests; the rest runs in a task of its own.
    pub(super) fn carry_out(
        &mut self,
        frame: Frame,
        work: impl Future<Output = Encoded> + Send + 'static,
    ) -> Result<(), Failure> {
        let budget = self.opened(frame.namespace)?.in_flight();
        let waits = budget.unwrap_or_else(|| self.service.engine().in_flight()).reserve_wait()?;
        self.begin(async move {
            let _waits = waits;
            work.await
        });
        Ok(())
    }

    /// Begins a request whose memory is already reserved.
    fn begin(&mut self, work: impl Future<Output = Encoded> + Send + 'static) {
        // One type for all requests, so that a task is compiled once.
        let mut work: BoxFuture<'static, Encoded> = Box::pin(work);
        match (&mut work).now_or_never() {
            Some(encoded) => self.outbox.add_encoded(encoded),
            None => drop(self.waiting.spawn(work)),
        }
    }

    /// Replies to a write once it is done, in a task of its own if it writes through.
    pub(super) fn written<T: Send + 'static>(
        &mut self,
        frame: Frame,
        written: Written<T>,
        reply: fn(T) -> Reply<'static>,
    ) -> Result<(), Failure> {
        match written {
            Written::Now(done) => {
                self.outbox.add(frame, &reply(done?));
            }
            Written::Later(writing) => self.begin(async move {
                let mut encoded = Encoded::default();
                match writing.await.map(reply) {
                    Ok(reply) => reply.encode(frame, &mut encoded.frames),
                    Err(error) => fail(frame, &error.into(), &mut encoded.frames),
                }
                encoded
            }),
        }
        Ok(())
    }
}

pub(super) fn fail(frame: Frame, failure: &Failure, out: &mut Vec<u8>) {
    failure.reply().encode(frame, out);
}

fn next_invalidation(
    number: u16,
    mut watch: InvalidationWatch,
) -> BoxFuture<'static, InvalidationNotice> {
    Box::pin(async move {
        let invalidated = watch.next().await;
        (number, watch, invalidated)
    })
}
