//! Refill permits: holders, waiting callers, and outcomes.

use std::fmt;
use std::sync::Arc;

use crate::guard::lock::AccessId;
use crate::guard::share::ShareLimits;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

/// The number of a permit; it grows within one table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PermitNumber(pub u64);

/// Who holds a permit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PermitHolder {
    /// The service, on behalf of all waiting callers.
    Service,
    /// One caller, which refills by itself.
    Caller(Refiller),
}

/// A caller that refills by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refiller {
    /// The caller's display name.
    pub owner: Arc<str>,
    /// The access of the caller, with which its permits end; `None` when it cannot be withdrawn.
    pub access: Option<AccessId>,
}

impl fmt::Display for PermitHolder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Service => "the service",
            Self::Caller(caller) => &caller.owner,
        })
    }
}

/// One place in the queue for a permit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct WaitTicket(pub(super) u64);

/// A live permit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LivePermit {
    /// Its number.
    pub number: PermitNumber,
    /// When it began.
    pub since: Timestamp,
    /// When it expires.
    pub ends_at: Timestamp,
}

/// A live permit, as shown to callers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PermitView {
    /// The namespace of the key.
    pub namespace: NamespaceId,
    /// The key.
    pub key: Key,
    /// The permit.
    pub permit: LivePermit,
    /// Who holds it.
    pub held_by: PermitHolder,
    /// How many callers are waiting.
    pub waiting: usize,
}

/// What follows the release of a permit without a value.
#[derive(Debug, PartialEq, Eq)]
pub enum ReleaseOutcome<W> {
    /// The first in the queue holds the next permit; the others keep waiting.
    Turn(Permit, W),
    /// Nobody refills: these waiting callers must learn that the refill failed.
    Failed(Vec<W>),
}

/// What expired.
#[derive(Debug, PartialEq, Eq)]
pub struct Expired<W> {
    /// New permits of the service, for keys that callers still wait for.
    pub refills: Vec<Permit>,
    /// Callers that hold the next permit now.
    pub turns: Vec<(Permit, W)>,
    /// Callers that waited for a voided permit of the service that has expired.
    pub dropped: Vec<W>,
}

/// What an invalidation voided.
#[derive(Debug, PartialEq, Eq)]
pub struct Voided<W> {
    /// How many live permits there were.
    pub permits: usize,
    /// Callers that waited for another caller's value, which would be stale: they must ask again,
    /// or receive the value that was written.
    pub waiters: Vec<W>,
}

/// The right to refill one key until it expires.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Permit {
    /// The namespace of the key.
    pub namespace: NamespaceId,
    /// The key to refill.
    pub key: Key,
    /// This permit's number.
    pub number: PermitNumber,
    /// When the permit expires.
    pub ends_at: Timestamp,
}

/// The limits of a [`RefillTable`](crate::guard::RefillTable).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RefillLimits {
    /// The most callers that wait for one key.
    pub waiters: usize,
    /// The most permits that callers hold.
    pub permits: ShareLimits,
    /// The most voided permits of callers that are remembered, so that their holders learn of it.
    pub voided: usize,
}

impl Default for RefillLimits {
    fn default() -> Self {
        let permits = ShareLimits { per_namespace: 1_000, guaranteed: 50, in_all: 2_000 };
        Self { waiters: 20_000, permits, voided: 1_000 }
    }
}

/// Why a caller gets no permit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AcquireRefused {
    /// Another permit for the key is live.
    Live(LivePermit),
    /// The namespace has as many permits of callers as it may.
    Full,
}

/// The outcome for a caller that asked for a missing key.
#[derive(Debug, PartialEq, Eq)]
pub enum JoinOutcome<W> {
    /// The caller waits, and a new permit is live, with which the service must refill.
    Holder(Permit),
    /// The caller waits for a permit that was already live.
    Waiting(PermitNumber),
    /// Too many callers are waiting for this key; the waiter is returned.
    Full(W),
}

/// Why a refill may not be stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RefusedReason {
    /// The key was invalidated or written after the permit was granted.
    #[error("the key was invalidated or written while it was being refilled")]
    Voided,
    /// The permit expired before the refill was finished.
    #[error("the refill permit expired before the refill was finished")]
    Expired,
}

/// A refused finish: the value must not be stored, but the waiting callers may have it, since they
/// asked before the invalidation.
#[derive(Debug, PartialEq, Eq)]
pub struct Refused<W> {
    /// Why the value must not be stored.
    pub reason: RefusedReason,
    /// The waiters of this permit that have not been returned yet.
    pub waiters: Vec<W>,
}
