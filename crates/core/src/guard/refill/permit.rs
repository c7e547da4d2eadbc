//! Refill permits: who holds one, who waits for one, and what becomes of them.

use std::fmt;
use std::sync::Arc;

use crate::guard::lock::AccessId;
use crate::guard::share::ShareLimits;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

/// The number of a permit; it only grows within one table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PermitNumber(pub u64);

/// Who holds a permit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PermitHolder {
    /// The service, on behalf of everybody who waits.
    Service,
    /// One caller, which refills by itself.
    Caller(Refiller),
}

/// A caller that refills by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refiller {
    /// Who it is, in words for people.
    pub owner: Arc<str>,
    /// The access that it asks with, and with which its permits end; `None` when that cannot be
    /// withdrawn.
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

/// One wait for a permit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct WaitTicket(pub(super) u64);

/// A permit that is live already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LivePermit {
    /// Its number.
    pub number: PermitNumber,
    /// When it began.
    pub since: Timestamp,
    /// When it expires.
    pub ends_at: Timestamp,
}

/// A live permit as it is shown.
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
    /// How many callers wait for it.
    pub waiting: usize,
}

/// What becomes of a permit that was given back without a value.
#[derive(Debug, PartialEq, Eq)]
pub enum ReleaseOutcome<W> {
    /// The first in the queue holds the next permit; the others wait on.
    Turn(Permit, W),
    /// Nobody refills: these callers waited, and are to be told that it failed.
    Failed(Vec<W>),
}

/// What expired.
#[derive(Debug, PartialEq, Eq)]
pub struct Expired<W> {
    /// New permits of the service, for keys that callers still wait for.
    pub refills: Vec<Permit>,
    /// Callers that hold the next permit now.
    pub turns: Vec<(Permit, W)>,
    /// Callers that waited for a voided permit of the service whose time is over.
    pub dropped: Vec<W>,
}

/// What an invalidation voided.
#[derive(Debug, PartialEq, Eq)]
pub struct Voided<W> {
    /// How many live permits there were.
    pub permits: usize,
    /// Callers that waited for another caller's value, which would be old: they are to ask again,
    /// or to be given the value that was written.
    pub waiters: Vec<W>,
}

/// The right to refill one key until a moment.
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

/// How much a [`RefillTable`] takes in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RefillLimits {
    /// The most callers that wait for one key.
    pub waiters: usize,
    /// The most permits that callers hold.
    pub permits: ShareLimits,
    /// The most voided permits of callers that are remembered, to tell their holders so.
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
    /// Callers hold as many permits in the namespace as they may.
    Full,
}

/// What became of a caller that asked for a missing key.
#[derive(Debug, PartialEq, Eq)]
pub enum JoinOutcome<W> {
    /// The caller waits, and the permit is now live: somebody must refill with it.
    Holder(Permit),
    /// The caller waits for the permit that is live already.
    Waiting(PermitNumber),
    /// Too many callers wait for this key already; the waiter is handed back.
    Full(W),
}

/// Why a refill may not be stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RefusedReason {
    /// The key was invalidated or written after the permit was given.
    #[error("the key was invalidated or written while it was being refilled")]
    Voided,
    /// The permit's time ended before the refill was finished.
    #[error("the refill permit had ended before the refill was finished")]
    Expired,
}

/// A refused finish: the value must not be stored, but those who wait for it may have it, since
/// they asked before the invalidation.
#[derive(Debug, PartialEq, Eq)]
pub struct Refused<W> {
    /// Why the value must not be stored.
    pub reason: RefusedReason,
    /// Who waited for this permit and has not been handed back yet.
    pub waiters: Vec<W>,
}
