//! Acquiring, renewing and releasing locks.

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::guard::lock::{
    AccessId, AcquireError, AcquireRequest, FencingToken, Grant, Holder, LeaseEnd, LockName,
    LockNotice, LockOutcome, LockTable, LockView, MAX_LEASE, MAX_OWNER_BYTES, MAX_WAIT, NotHeld,
    SessionId,
};
use verax_core::{Key, NamespaceId, Timestamp};

use super::state::{Acquired, Waiter};
use super::waiting::QueuedWait;
use crate::access::LeasedBy;
use crate::engine::Engine;
use crate::error::{EngineError, InvalidInput, Overload};
use crate::events::{Event, LockEvent, LockEventKind};
use crate::handle::{Locker, Manager, Reader};
use verax_core::guard::lock::LockCounts;

/// How many locks are listed in one step, with the queue of each.
const VIEW_STEP: usize = 64;

/// The range of a lease; a shorter one could not be renewed in time.
pub const LEASES: RangeInclusive<Duration> = Duration::from_millis(100)..=MAX_LEASE;

/// A request to acquire a lock.
#[derive(Debug, Clone)]
pub struct LockRequest {
    /// The caller's display name.
    pub owner: String,
    /// The lease, unless it is renewed.
    pub lease: Duration,
    /// How long to wait for it; zero for no wait.
    pub wait: Duration,
    /// The connection the lease ends with; `None` if the lease outlives it.
    pub session: Option<SessionId>,
    /// The access of the request: the lease ends with it.
    pub access: Option<LeasedBy>,
}

/// A connection whose end also ends the leases acquired with it.
#[derive(Debug)]
pub struct LockSession {
    engine: Arc<Engine>,
    id: SessionId,
}

impl LockSession {
    /// Its identifier.
    pub fn id(&self) -> SessionId {
        self.id
    }
}

impl Drop for LockSession {
    fn drop(&mut self) {
        self.engine.end_locks(|table, now, notices| table.disconnect(self.id, now, notices));
    }
}

impl Engine {
    /// Notifies callers of their outcome. A caller that has gone returns its grant immediately, so
    /// that no caller waits for a missing holder.
    pub(super) fn deliver_locks(&self, mut notices: Vec<LockNotice<Waiter>>, now: Timestamp) {
        while !notices.is_empty() {
            let mut more = Vec::new();
            for notice in notices {
                match notice {
                    LockNotice::Granted(waiter, grant) => {
                        let (name, token) = (grant.name.clone(), grant.token);
                        if waiter.send(Acquired::Granted(grant)).is_err() {
                            // It cannot have ended: it was granted just now.
                            let _ = self.locks.table().release(&name, token, now, &mut more);
                        }
                    }
                    LockNotice::TimedOut(waiter, holder) => {
                        drop(waiter.send(Acquired::HeldByOther(holder)))
                    }
                    LockNotice::Ended(name, holder, by) => self.lock_ended(name, holder, by, now),
                }
            }
            notices = more;
        }
        self.locks.changed.notify_one();
    }

    /// Ends leases and waits in steps, and releases the table between them.
    fn end_locks(
        &self,
        step: impl Fn(&mut LockTable<Waiter>, Timestamp, &mut Vec<LockNotice<Waiter>>) -> bool,
    ) {
        let now = self.now();
        loop {
            let mut notices = Vec::new();
            let more = step(&mut self.locks.table(), now, &mut notices);
            self.deliver_locks(notices, now);
            if !more {
                return;
            }
        }
    }

    fn lock_ended(&self, name: LockName, holder: Holder, by: LeaseEnd, now: Timestamp) {
        // An expiry is noticed slightly late.
        let at = if by == LeaseEnd::Time { holder.ends_at.min(now) } else { now };
        self.notify_lock(LockEvent {
            at,
            namespace: name.0,
            name: name.1,
            kind: by.into(),
            owner: holder.owner,
            token: Some(holder.token),
            lasted: at.since(holder.since),
        });
    }

    fn notify_lock(&self, event: LockEvent) {
        if let Some(namespace) = self.namespace(event.namespace) {
            namespace.notify(&Event::Lock(&event));
        }
    }

    /// A connection, for leases that end with it.
    pub fn lock_session(self: &Arc<Self>) -> LockSession {
        let id = SessionId(self.locks.last_session.fetch_add(1, Ordering::Relaxed) + 1);
        self.locks.table().connect(id);
        LockSession { engine: Arc::clone(self), id }
    }

    /// At most `most` held locks of the namespaces that `which` accepts, longest-held first.
    pub fn locks_where(&self, which: impl Fn(NamespaceId) -> bool, most: usize) -> Vec<LockView> {
        let mut longest = Vec::new();
        let namespaces = self.locks.table().namespaces();
        for namespace in namespaces.into_iter().filter(|namespace| which(*namespace)) {
            longest.append(&mut self.locks.table().longest_held(namespace, most));
            longest.sort_unstable_by_key(|(token, _)| *token);
            longest.truncate(most);
        }
        let (now, mut views) = (self.now(), Vec::with_capacity(longest.len()));
        for names in longest.chunks(VIEW_STEP) {
            let table = self.locks.table();
            views.extend(names.iter().filter_map(|(_, name)| table.peek(name, now)));
        }
        views
    }

    /// The number of held locks and of queued callers.
    pub fn lock_counts(&self) -> LockCounts {
        self.locks.table().counts()
    }

    /// Ends the leases and waits of a revoked access; the next queued callers get the locks.
    pub(crate) fn withdraw_locks(&self, access: AccessId) {
        self.end_locks(|table, now, notices| table.withdraw(access, now, notices));
    }

    /// Ends all leases and waits and grants none, because another node is active. A later epoch
    /// starts afresh.
    pub fn end_all_locks(&self) {
        let gone = {
            let mut table = self.locks.table();
            table.end_epoch();
            table.end_all()
        };
        // Off the lock on the table.
        drop(gone);
    }

    /// Sets until when locks are granted; `None` for as long as there is an epoch.
    pub fn give_locks_until(&self, moment: Option<Timestamp>) {
        self.locks.table().give_until(moment);
    }

    /// The current epoch of fencing tokens, if there is one.
    pub fn lock_epoch(&self) -> Option<u32> {
        self.locks.table().epoch()
    }

    /// Whether a new epoch is needed, because there is none or it is nearly exhausted.
    pub fn needs_lock_epoch(&self) -> bool {
        self.locks.table().needs_epoch()
    }

    /// Begins a new epoch of fencing tokens.
    pub fn begin_lock_epoch(&self, epoch: u32) {
        self.locks.table().begin_epoch(epoch);
    }
}

impl Locker {
    /// Acquires a lock, waiting as long as the request says. Dropping the call leaves the queue.
    ///
    /// # Errors
    /// [`EngineError`]: a request out of range, too many locks, or no epoch yet.
    pub async fn acquire_lock(
        &self,
        name: &Key,
        request: LockRequest,
    ) -> Result<Acquired, EngineError> {
        let engine = self.engine();
        self.needs_open()?;
        check(&request)?;
        engine.needs_serving()?;
        let name: LockName = (self.id(), name.clone());
        let began = engine.now();
        let LockRequest { owner, lease, wait, session, access } = request;
        let leased_by = access.as_ref().map(|access| access.id);
        let queued =
            AcquireRequest { owner: owner.clone(), lease, wait, session, access: leased_by };
        let (waiter, answer) = oneshot::channel();
        let mut notices = Vec::new();
        let outcome = engine.locks.table().acquire(&name, queued, waiter, began, &mut notices);
        engine.deliver_locks(notices, began);
        // Revoking access raises its signal first and then ends its leases: a lease granted in
        // between is ended there, a later one here.
        if let Some(access) = access.filter(|access| access.signal.has_ended()) {
            engine.withdraw_locks(access.id);
            return Err(EngineError::AccessEnded);
        }
        let acquired = match outcome.map_err(refused)? {
            LockOutcome::Granted(grant, _) => Acquired::Granted(grant),
            LockOutcome::HeldByOther(holder, _) => Acquired::HeldByOther(holder),
            LockOutcome::Queued(ticket) => QueuedWait::new(engine, name.clone(), ticket, answer)
                .wait()
                .await
                .ok_or_else(|| match self.needs_open() {
                    Err(gone) => gone,
                    Ok(()) => Overload::Stopping.into(),
                })?,
        };
        let (now, lasted) = (engine.now(), engine.now().since(began));
        let event = |kind, token| LockEvent {
            at: now,
            namespace: name.0,
            name: name.1.clone(),
            kind,
            owner: owner.clone(),
            token,
            lasted,
        };
        match &acquired {
            Acquired::Granted(grant) => {
                self.notify(&Event::Lock(&event(LockEventKind::Granted, Some(grant.token))));
            }
            Acquired::HeldByOther(_) if wait.is_zero() => {}
            Acquired::HeldByOther(_) => {
                self.notify(&Event::Lock(&event(LockEventKind::TimedOut, None)));
            }
        }
        Ok(acquired)
    }

    /// Renews a lease to last `lease` from now; returns when it ends.
    ///
    /// # Errors
    /// [`EngineError::NotHeld`] when it has ended, [`EngineError::Invalid`] for a lease out of
    /// range.
    pub fn renew_lock(
        &self,
        name: &Key,
        token: FencingToken,
        lease: Duration,
    ) -> Result<Grant, EngineError> {
        check_lease(lease)?;
        let engine = self.engine();
        engine.needs_serving()?;
        let (name, now, mut notices) = ((self.id(), name.clone()), engine.now(), Vec::new());
        let renewed = engine.locks.table().renew(&name, token, lease, now, &mut notices);
        engine.deliver_locks(notices, now);
        Ok(Grant { name, token, ends_at: renewed.map_err(not_held)? })
    }

    /// Ends a lease.
    ///
    /// # Errors
    /// [`EngineError::NotHeld`] when it is over already.
    pub fn release_lock(&self, name: &Key, token: FencingToken) -> Result<(), EngineError> {
        let engine = self.engine();
        let (name, now, mut notices) = ((self.id(), name.clone()), engine.now(), Vec::new());
        let released = engine.locks.table().release(&name, token, now, &mut notices);
        engine.deliver_locks(notices, now);
        released.map_err(not_held)
    }

    /// How many callers are queued for a lock.
    pub fn queued_for_lock(&self, name: &Key) -> usize {
        let engine = self.engine();
        let view = engine.locks.table().peek(&(self.id(), name.clone()), engine.now());
        view.map_or(0, |view| view.queued)
    }
}

impl Manager {
    /// Ends any lease of the lock; returns its owner.
    pub fn force_release_lock(&self, name: &Key) -> Option<Holder> {
        let engine = self.engine();
        let (lock, now, mut notices) = ((self.id(), name.clone()), engine.now(), Vec::new());
        let ended = engine.locks.table().force_release(&lock, now, &mut notices);
        engine.deliver_locks(notices, now);
        ended
    }
}

impl Reader {
    /// The state of a lock; `None` when it is free.
    pub fn peek_lock(&self, name: &Key) -> Option<LockView> {
        let engine = self.engine();
        engine.locks.table().peek(&(self.id(), name.clone()), engine.now())
    }

    /// At most `most` held locks, longest-held first.
    pub fn locks(&self, most: usize) -> Vec<LockView> {
        self.engine().locks_where(|of| of == self.id(), most)
    }
}

fn check_lease(lease: Duration) -> Result<(), EngineError> {
    match LEASES.contains(&lease) {
        true => Ok(()),
        false => Err(InvalidInput::Lease { lease, range: LEASES }.into()),
    }
}

fn check(request: &LockRequest) -> Result<(), EngineError> {
    check_lease(request.lease)?;
    if request.wait > MAX_WAIT {
        return Err(InvalidInput::Wait { wait: request.wait, max: MAX_WAIT }.into());
    }
    let bytes = request.owner.len();
    if bytes > MAX_OWNER_BYTES {
        return Err(InvalidInput::Owner { bytes, max: MAX_OWNER_BYTES }.into());
    }
    Ok(())
}

fn refused(error: AcquireError) -> EngineError {
    match error {
        AcquireError::NoEpoch | AcquireError::EpochUsedUp | AcquireError::Unconfirmed => {
            EngineError::Unconfirmed(error.to_string())
        }
        // The caller is gone.
        AcquireError::Disconnected => Overload::Disconnected.into(),
        AcquireError::Full(_) => Overload::Locks.into(),
    }
}

fn not_held(error: NotHeld) -> EngineError {
    match error {
        NotHeld::Unconfirmed { .. } => EngineError::Unconfirmed(error.to_string()),
        error => EngineError::NotHeld(error),
    }
}

/// Ends expired leases, and waits that have timed out.
pub(crate) async fn end_locks_in_time(engine: Arc<Engine>) {
    loop {
        let next = engine.locks.table().next_moment();
        let now = engine.now();
        let changed = engine.locks.changed.notified();
        match next {
            Some(at) if at <= now => {
                let mut notices = Vec::new();
                engine.locks.table().advance(now, &mut notices);
                engine.deliver_locks(notices, now);
                tokio::task::yield_now().await;
            }
            Some(at) => {
                let _ = tokio::time::timeout(at.since(now), changed).await;
            }
            None => changed.await,
        }
    }
}
