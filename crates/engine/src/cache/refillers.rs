//! Services that refill the keys of a namespace without an origin when a warm run asks them to.
//!
//! A service waits with [`Refiller::await_refill`] and receives a key with its permit. A run asks
//! whoever has waited longest with [`Warmer::ask`], and waits for the value like any other caller.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::guard::{self, AcquireRefused, RefillerTicket, WaitTicket};
use verax_core::{Key, Permit};

use super::permits::{LEASES, MAX_WAIT, PermitRequest, QueuedWait, check};
use super::waiter::{Refilled, WaitOutcome, Waiter};
use super::waiting_refillers::WaitingRefiller;
use crate::access::LeasedBy;
use crate::engine::Namespace;
use crate::error::{EngineError, Overload};
use crate::events::Event;
use crate::handle::{Refiller, Warmer};

/// How often a run looks whether services are still expected.
const LOOK_EVERY: Duration = Duration::from_millis(500);

/// How often a key is asked for again because it was invalidated meanwhile.
const MAX_ASKED_AGAIN: usize = 3;

/// The name of a warm run among the callers that wait.
const RUN: &str = "a warm run";

/// How a service waits for keys to refill.
#[derive(Debug, Clone)]
pub struct AwaitRefill {
    /// The service's display name.
    pub owner: Arc<str>,
    /// How long to wait for a key.
    pub wait: Duration,
    /// The lease of the permit.
    pub lease: Duration,
    /// The access of the request: the permit ends with it.
    pub access: Option<LeasedBy>,
}

/// A place in the queue. Dropping it leaves the queue, and a key that was handed over meanwhile
/// goes to the next one.
struct Place<'n> {
    namespace: &'n Arc<Namespace>,
    ticket: RefillerTicket,
    handed: oneshot::Receiver<Permit>,
    done: bool,
}

impl Drop for Place<'_> {
    fn drop(&mut self) {
        let now = self.namespace.engine().now();
        if self.done || self.namespace.refillers().queue().leave(self.ticket, now) {
            return;
        }
        // A permit may be in transit: closing the channel makes sure that it has either arrived or
        // is refused.
        self.handed.close();
        if let Ok(permit) = self.handed.try_recv() {
            self.namespace.engine().pass_on(&permit);
        }
    }
}

/// A service that is refilling; it counts as present until this is dropped.
struct Refilling<'n>(&'n Namespace);

impl Drop for Refilling<'_> {
    fn drop(&mut self) {
        let now = self.0.engine().now();
        self.0.refillers().queue().ended(now);
    }
}

impl Refiller {
    /// Waits for a key that a warm run wants to be refilled. Returns the permit for it, which the
    /// caller stores the value with or releases; `None` if none was wanted in time. Dropping the
    /// call passes a key on that was handed over.
    ///
    /// # Errors
    /// [`EngineError`]: a namespace with an origin, a request out of range, or too many services
    /// that wait.
    pub async fn await_refill(&self, request: AwaitRefill) -> Result<Option<Permit>, EngineError> {
        let namespace = self.shared();
        if namespace.has_origin() {
            return Err(EngineError::HasOrigin { namespace: namespace.path() });
        }
        let AwaitRefill { owner, wait, lease, access } = request;
        let (stale, refresh) = (false, true);
        let owned = PermitRequest { owner, wait, lease, stale, refresh, access: access.clone() };
        check(&owned)?;
        self.engine().needs_serving()?;
        let (sender, handed) = oneshot::channel();
        let waiting =
            WaitingRefiller { caller: owned.refiller(), lease, access: access.clone(), sender };
        let joined = namespace.refillers().queue().join(waiting, self.engine().now());
        let ticket = joined.map_err(|_| Overload::Refillers)?;
        namespace.refillers().came.notify_one();
        let mut place = Place { namespace, ticket, handed, done: false };
        // After joining: one that joins later is not told that the namespace is gone.
        namespace.needs_open()?;
        let mut stopping = self.engine().stopping();
        let ended = async {
            match &access {
                Some(access) => access.signal.ended().await,
                None => std::future::pending().await,
            }
        };
        let handed = tokio::select! {
            handed = &mut place.handed => handed,
            () = tokio::time::sleep(wait) => return Ok(place.last_look()),
            () = ended => return Err(EngineError::AccessEnded),
            _ = stopping.wait_for(|stopping| *stopping) => return Err(Overload::Stopping.into()),
        };
        place.done = true;
        let Ok(permit) = handed else {
            namespace.needs_open()?;
            return Ok(None);
        };
        // Revoking access raises its signal first and then ends its permits: a permit granted in
        // between is ended there, a later one here.
        if access.is_some_and(|access| access.signal.has_ended()) {
            self.engine().pass_on(&permit);
            return Err(EngineError::AccessEnded);
        }
        self.notify(&Event::PermitGranted);
        Ok(Some(permit))
    }
}

impl Place<'_> {
    /// The wait is over: a key that was handed over at that very moment is taken.
    fn last_look(&mut self) -> Option<Permit> {
        let now = self.namespace.engine().now();
        if self.namespace.refillers().queue().leave(self.ticket, now) {
            self.done = true;
            return None;
        }
        self.handed.close();
        self.done = true;
        let permit = self.handed.try_recv().ok()?;
        self.namespace.notify(&Event::PermitGranted);
        Some(permit)
    }
}

/// What asking for a key came to.
enum Asked<'n> {
    /// The value is on its way.
    Waits(WaitTicket, oneshot::Receiver<WaitOutcome>, Option<Refilling<'n>>),
    /// The service was gone.
    Gone,
    Full(Overload),
}

impl Warmer {
    /// Asks a service that waits for keys to refill one, and waits for the value. The entry that is
    /// there stays readable until then.
    ///
    /// # Errors
    /// [`EngineError::NoRefiller`] when no service waits and none is expected,
    /// [`EngineError::RefillAbandoned`] when the service gave the key up or its permit expired, and
    /// whatever ends a permit.
    pub async fn ask(&self, key: &Key) -> Result<Refilled, EngineError> {
        let namespace = self.shared();
        let mut asked_again = 0;
        loop {
            self.engine().needs_serving()?;
            namespace.needs_open()?;
            let (ticket, refiller) = namespace.next_refiller().await?;
            let (ticket, outcome, _refilling) = match namespace.hand_over(key, ticket, refiller) {
                Asked::Waits(ticket, outcome, refilling) => (ticket, outcome, refilling),
                Asked::Gone => continue,
                Asked::Full(why) => return Err(why.into()),
            };
            let queued = QueuedWait { namespace, key, ticket, outcome, done: false };
            // Every permit ends within its lease.
            match queued.wait(MAX_WAIT + *LEASES.end()).await {
                Some(WaitOutcome::Refilled(refilled)) => return Ok(refilled),
                Some(WaitOutcome::Turn(permit)) => {
                    self.engine().pass_on(&permit);
                    return Err(EngineError::RefillAbandoned);
                }
                Some(WaitOutcome::AskAgain) if asked_again < MAX_ASKED_AGAIN => asked_again += 1,
                Some(WaitOutcome::OriginFailed(error)) => return Err(EngineError::Origin(error)),
                Some(WaitOutcome::AskAgain | WaitOutcome::Abandoned) | None => {
                    return Err(EngineError::RefillAbandoned);
                }
            }
        }
    }
}

impl Namespace {
    /// How many services wait for keys or refill one.
    pub fn present_refillers(&self) -> usize {
        self.refillers().queue().present()
    }

    /// Whether a service waits to be asked, or did lately; with `or_expected`, also whether those
    /// of before a start may still come back.
    pub fn has_refillers(&self, or_expected: bool) -> bool {
        let (queue, now) = (self.refillers().queue(), self.engine().now());
        queue.is_known(now) || (or_expected && queue.is_expected(now))
    }

    async fn next_refiller(&self) -> Result<(RefillerTicket, WaitingRefiller), EngineError> {
        let refillers = self.refillers();
        loop {
            let came = refillers.came.notified();
            tokio::pin!(came);
            came.as_mut().enable();
            let now = self.engine().now();
            if let Some(next) = refillers.take(now) {
                return Ok(next);
            }
            if !refillers.queue().is_expected(now) {
                return Err(EngineError::NoRefiller { namespace: self.path() });
            }
            self.needs_open()?;
            tokio::select! {
                () = &mut came => {}
                () = tokio::time::sleep(LOOK_EVERY) => {}
            }
        }
    }

    /// Hands a key over to a service, and queues for its value; if another caller refills the key
    /// already, waits for that one's.
    fn hand_over(
        self: &Arc<Self>,
        key: &Key,
        place: RefillerTicket,
        refiller: WaitingRefiller,
    ) -> Asked<'_> {
        let (id, mut turns) = (self.id(), Vec::new());
        let run = guard::Refiller { owner: RUN.into(), access: None };
        let mut guarded = self.guard(key);
        let (now, permits) = (guarded.now, &mut guarded.permits);
        let lease = refiller.lease;
        let acquired = permits.acquire(id, key, &refiller.caller, now, lease, &mut turns);
        let waits = match &acquired {
            Ok(_) | Err(AcquireRefused::Live(_)) => {
                let (waiter, outcome) = Waiter::new(now);
                let queued = permits.wait(id, key, &run, waiter, lease);
                queued.map(|ticket| (ticket, outcome)).map_err(|_| Overload::WaitingCallers)
            }
            Err(AcquireRefused::Full) => Err(Overload::Permits),
        };
        drop(guarded);
        self.engine().give_turns(turns);
        let put_back = |refiller| {
            let mut queue = self.refillers().queue();
            // Under the lock, with which a deleted namespace ends all waits.
            match self.needs_open() {
                Ok(()) => queue.put_back(place, refiller),
                Err(_) => queue.ended(now),
            }
            drop(queue);
            self.refillers().came.notify_one();
        };
        match (acquired, waits) {
            (Ok(permit), Ok((ticket, outcome))) => {
                let refilling = Refilling(self);
                match refiller.sender.send(permit) {
                    Ok(()) => Asked::Waits(ticket, outcome, Some(refilling)),
                    Err(permit) => {
                        drop(QueuedWait { namespace: self, key, ticket, outcome, done: false });
                        self.engine().pass_on(&permit);
                        Asked::Gone
                    }
                }
            }
            (Err(_), Ok((ticket, outcome))) => {
                put_back(refiller);
                Asked::Waits(ticket, outcome, None)
            }
            (acquired, Err(why)) => {
                if let Ok(permit) = acquired {
                    self.engine().pass_on(&permit);
                }
                put_back(refiller);
                Asked::Full(why)
            }
        }
    }
}
