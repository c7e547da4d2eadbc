//! Named locks: the state machine of `verax_core` with the service's clock, callers that wait, and a
//! memory of the recent past.

mod epoch;
mod recent;
mod waiting;

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::sync::{Notify, oneshot};
use verax_core::guard::lock::{
    AccessId, Claim, ClaimError, Claimed, EndedBy, FencingToken, Grant, Holder, LONGEST_HOLD,
    LONGEST_OWNER, LONGEST_WAIT, LockName, LockTable, LockView, NotHeld, SessionId, Told,
};
use verax_core::{Key, Name, NamespaceId, Timestamp};
use verax_records::Change;

use crate::access::{Caller, ENDED, LeasedBy, Right};
use crate::error::ServiceError;
use crate::namespace::Namespace;
use crate::service::Service;

pub(crate) use epoch::keep_epoch;
use recent::Recent;
pub use recent::{LockEvent, LockEventKind};
use waiting::InLine;

/// The most holds and waits in one namespace.
const MOST: usize = 20_000;

/// The shortest hold: below it a holder cannot renew in time.
const SHORTEST_HOLD: Duration = Duration::from_millis(100);

/// What a caller in line hears.
type Answer = Result<Grant, Holder>;

type Waiter = oneshot::Sender<Answer>;

/// All locks of the service.
#[derive(Debug)]
pub(crate) struct Locks {
    table: Mutex<LockTable<Waiter>>,
    recent: Recent,
    /// Told when a lock must be looked at sooner than before.
    changed: Notify,
    last_session: AtomicU64,
}

impl Default for Locks {
    fn default() -> Self {
        Self {
            table: Mutex::new(LockTable::new(MOST)),
            recent: Recent::default(),
            changed: Notify::new(),
            last_session: AtomicU64::new(0),
        }
    }
}

/// What a caller wants of a lock.
#[derive(Debug, Clone)]
pub struct LockRequest {
    /// Who it is, in words for people.
    pub owner: String,
    /// How long the hold lasts unless it is renewed.
    pub hold: Duration,
    /// How long to wait for it; zero to be told at once.
    pub wait: Duration,
    /// The connection that the hold ends with; `None` for a hold that outlives it.
    pub session: Option<SessionId>,
    /// The access that it is asked for with: the hold ends with it.
    pub access: Option<LeasedBy>,
}

/// A connection whose end ends the holds that were asked for with it.
#[derive(Debug)]
pub struct LockSession {
    service: Arc<Service>,
    id: SessionId,
}

impl LockSession {
    /// Its identity.
    pub fn id(&self) -> SessionId {
        self.id
    }
}

impl Drop for LockSession {
    fn drop(&mut self) {
        let locks = &self.service.locks;
        let now = self.service.now();
        let mut told = Vec::new();
        locks.table().disconnect(self.id, now, &mut told);
        locks.deliver(told, now);
    }
}

impl Locks {
    fn table(&self) -> MutexGuard<'_, LockTable<Waiter>> {
        self.table.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Tells callers what became of them. One that has gone gives back at once what it was granted, so
    /// that nobody waits for a holder that does not exist.
    fn deliver(&self, mut told: Vec<Told<Waiter>>, now: Timestamp) {
        while !told.is_empty() {
            let mut more = Vec::new();
            for told in told {
                match told {
                    Told::Granted(waiter, grant) => {
                        let (name, token) = (grant.name.clone(), grant.token);
                        if waiter.send(Ok(grant)).is_err() {
                            // It cannot be over already: it was granted now.
                            let _ = self.table().release(&name, token, now, &mut more);
                        }
                    }
                    Told::GaveUp(waiter, holder) => drop(waiter.send(Err(holder))),
                    Told::Ended(name, holder, by) => self.recent.ended(&name, &holder, by, now),
                }
            }
            told = more;
        }
        self.changed.notify_one();
    }
}

impl Service {
    /// A connection, for holds that end with it.
    pub fn lock_session(self: &Arc<Self>) -> LockSession {
        let id = SessionId(self.locks.last_session.fetch_add(1, Ordering::Relaxed) + 1);
        self.locks.table().connect(id);
        LockSession { service: Arc::clone(self), id }
    }

    /// Asks for a lock, and waits for it as long as the request says. Dropping the call leaves the
    /// line. `Err` inside is a lock that somebody else still holds.
    ///
    /// # Errors
    /// [`ServiceError`]: a request out of range, too many locks, or no epoch yet.
    pub async fn acquire_lock(
        self: &Arc<Self>,
        namespace: &Namespace,
        name: &Key,
        request: LockRequest,
    ) -> Result<Result<Grant, Holder>, ServiceError> {
        check(&request)?;
        self.needs_active()?;
        let name: LockName = (namespace.id(), name.clone());
        let began = self.now();
        let LockRequest { owner, hold, wait, session, access } = request;
        let leased_by = access.as_ref().map(|access| access.id);
        let claim = Claim { owner: owner.clone(), hold, wait, session, access: leased_by };
        let (waiter, answer) = oneshot::channel();
        let mut told = Vec::new();
        let claimed = self.locks.table().claim(&name, claim, waiter, began, &mut told);
        self.locks.deliver(told, began);
        // Withdrawing access raises its signal first and then ends what it holds: a claim that came in
        // between is found there, and a later one here.
        if let Some(access) = access.filter(|access| access.signal.has_ended()) {
            self.withdraw_locks(access.id);
            return Err(ServiceError::NotSignedIn(ENDED));
        }
        let granted = match claimed.map_err(refused)? {
            Claimed::Granted(grant, _) => Ok(grant),
            Claimed::Held(holder, _) => Err(holder),
            Claimed::Waiting(ticket) => InLine::new(self, name.clone(), ticket, answer)
                .wait()
                .await
                .ok_or(ServiceError::Busy(
                    "the wait was given up: the service stops, or the namespace is gone; ask again",
                ))?,
        };
        let waited = self.now().since(began);
        match &granted {
            Ok(grant) => self.locks.recent.granted(grant, &owner, waited, self.now()),
            Err(_) if wait.is_zero() => {}
            Err(_) => self.locks.recent.gave_up(&name, &owner, waited, self.now()),
        }
        Ok(granted)
    }

    /// Makes a hold last for `hold` from now on; returns when it ends then.
    ///
    /// # Errors
    /// [`ServiceError::NotHeld`] when it is over, [`ServiceError::Invalid`] for a hold out of range.
    pub fn renew_lock(
        &self,
        namespace: &Namespace,
        name: &Key,
        token: FencingToken,
        hold: Duration,
    ) -> Result<Grant, ServiceError> {
        check_hold(hold)?;
        self.needs_active()?;
        let (name, now, mut told) = ((namespace.id(), name.clone()), self.now(), Vec::new());
        let renewed = self.locks.table().renew(&name, token, hold, now, &mut told);
        self.locks.deliver(told, now);
        Ok(Grant { name, token, ends_at: renewed.map_err(not_held)? })
    }

    /// Ends a hold.
    ///
    /// # Errors
    /// [`ServiceError::NotHeld`] when it is over already.
    pub fn release_lock(
        &self,
        namespace: &Namespace,
        name: &Key,
        token: FencingToken,
    ) -> Result<(), ServiceError> {
        let (name, now, mut told) = ((namespace.id(), name.clone()), self.now(), Vec::new());
        let released = self.locks.table().release(&name, token, now, &mut told);
        self.locks.deliver(told, now);
        released.map_err(not_held)
    }

    /// Ends whatever hold there is, for administrators of the namespace; returns who had it.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope, or the namespace.
    pub async fn force_release_lock(
        &self,
        caller: &Caller,
        (tenant, namespace): (&Name, &Name),
        name: &Key,
    ) -> Result<Option<Holder>, ServiceError> {
        let namespace = self.open(caller, Right::Manage, tenant, namespace)?;
        let (lock, now, mut told) = ((namespace.id(), name.clone()), self.now(), Vec::new());
        let ended = self.locks.table().force_release(&lock, now, &mut told);
        self.locks.deliver(told, now);
        if let Some(holder) = &ended {
            let change = Change {
                tenant: Some(namespace.tenant().clone()),
                action: "lock.force-release",
                subject: format!("{} {name}", namespace.path()),
                detail: serde_json::json!({
                    "owner": holder.owner, "fencing_token": holder.token.number()
                }),
            };
            // It has happened whether or not it can be written down.
            if let Err(error) = self.records.note(&caller.actor(), now, change).await {
                tracing::warn!(%error, "a forced release is missing in the activity");
            }
        }
        Ok(ended)
    }

    /// A lock as it stands, without touching it; `None` when nobody holds it.
    pub fn look_at_lock(&self, namespace: &Namespace, name: &Key) -> Option<LockView> {
        self.locks.table().look(&(namespace.id(), name.clone()), self.now())
    }

    /// All locks that are held, by name.
    pub(crate) fn all_locks(&self) -> Vec<LockView> {
        self.locks.table().views(self.now())
    }

    /// What happened lately to the locks of the namespaces that `which` knows, newest first.
    pub(crate) fn latest_lock_events<N>(
        &self,
        which: impl Fn(NamespaceId) -> Option<N>,
        most: usize,
    ) -> Vec<(N, LockEvent)> {
        self.locks.recent.latest(which, most)
    }

    /// The locks of a namespace that are held, by name.
    pub fn locks(&self, namespace: &Namespace) -> Vec<LockView> {
        let mut views = self.locks.table().views(self.now());
        views.retain(|view| view.name.0 == namespace.id());
        views
    }

    /// What happened to the locks of a namespace lately, newest first.
    pub fn recent_locks(&self, namespace: &Namespace) -> Vec<LockEvent> {
        self.locks.recent.of(namespace.id())
    }

    /// How many locks are held, and how many callers are in line for one.
    pub fn lock_counts(&self) -> (usize, usize) {
        self.locks.table().count()
    }

    /// Ends what an access that was withdrawn has leased, and what it waits for.
    pub(crate) fn withdraw(&self, access: AccessId) {
        self.withdraw_locks(access);
        self.withdraw_permits(access);
    }

    /// Ends the holds and waits of an access that was withdrawn; those next in line get the locks.
    pub(crate) fn withdraw_locks(&self, access: AccessId) {
        let (now, mut told) = (self.now(), Vec::new());
        self.locks.table().withdraw(access, now, &mut told);
        self.locks.deliver(told, now);
    }

    /// Ends all holds and waits, and gives none: another Verax does. A later epoch begins anew.
    pub(crate) fn end_all_locks(&self) {
        let mut table = self.locks.table();
        table.end_epoch();
        table.end_all();
    }

    /// Sets until when locks are given; `None` for as long as there is an epoch.
    pub(crate) fn give_locks_until(&self, moment: Option<Timestamp>) {
        self.locks.table().give_until(moment);
    }

    /// Ends what a namespace that is deleted has of locks.
    pub(crate) fn end_locks(&self, namespace: NamespaceId) {
        self.locks.table().end_namespace(namespace);
    }
}

fn check_hold(hold: Duration) -> Result<(), ServiceError> {
    if hold < SHORTEST_HOLD || hold > LONGEST_HOLD {
        return Err(ServiceError::Invalid(format!(
            "a hold of {} s is out of range: use {} s to {} s, and renew a longer one",
            hold.as_secs_f64(),
            SHORTEST_HOLD.as_secs_f64(),
            LONGEST_HOLD.as_secs()
        )));
    }
    Ok(())
}

fn check(request: &LockRequest) -> Result<(), ServiceError> {
    check_hold(request.hold)?;
    if request.wait > LONGEST_WAIT {
        return Err(ServiceError::Invalid(format!(
            "a wait of {} s is out of range: use at most {} s, and ask again",
            request.wait.as_secs_f64(),
            LONGEST_WAIT.as_secs()
        )));
    }
    if request.owner.len() > LONGEST_OWNER {
        return Err(ServiceError::Invalid(format!(
            "the owner's note has {} bytes: use at most {LONGEST_OWNER}",
            request.owner.len()
        )));
    }
    Ok(())
}

fn refused(error: ClaimError) -> ServiceError {
    match error {
        ClaimError::NoEpoch | ClaimError::EpochUsedUp | ClaimError::Unconfirmed => {
            ServiceError::RecordsUnavailable(error.to_string())
        }
        // Nobody is there any more to hear it.
        ClaimError::Disconnected => ServiceError::Busy("the connection has ended"),
        ClaimError::Full(_) => ServiceError::Busy(
            "the namespace has as many holds and waits as there may be; come back later",
        ),
    }
}

fn not_held(error: NotHeld) -> ServiceError {
    match error {
        NotHeld::Unconfirmed { .. } => ServiceError::RecordsUnavailable(error.to_string()),
        error => ServiceError::NotHeld(error),
    }
}

/// Ends holds and waits when their time is over.
pub(crate) async fn end_in_time(service: Arc<Service>) {
    loop {
        let next = service.locks.table().next_moment();
        let now = service.now();
        let changed = service.locks.changed.notified();
        match next {
            Some(at) if at <= now => {
                let mut told = Vec::new();
                service.locks.table().advance(now, &mut told);
                service.locks.deliver(told, now);
                tokio::task::yield_now().await;
            }
            Some(at) => {
                let _ = tokio::time::timeout(at.since(now), changed).await;
            }
            None => changed.await,
        }
    }
}

/// How an ended hold is called.
fn kind_of(by: EndedBy) -> LockEventKind {
    match by {
        EndedBy::Release => LockEventKind::Released,
        EndedBy::Time => LockEventKind::Lapsed,
        EndedBy::Force => LockEventKind::Forced,
        EndedBy::Disconnection => LockEventKind::Disconnected,
        EndedBy::Withdrawal => LockEventKind::Withdrawn,
    }
}
