//! Leases of locks: requests, grants, and how leases end.

use std::fmt;
use std::time::Duration;

use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

/// The longest lease.
pub const MAX_LEASE: Duration = Duration::from_secs(24 * 3_600);

/// The longest wait for a lock.
pub const MAX_WAIT: Duration = Duration::from_secs(3_600);

/// The longest display name of an owner, in bytes.
pub const MAX_OWNER_BYTES: usize = 200;

/// A number that grows with every lease of any lock, across restarts too.
///
/// Its upper part is an epoch, which the records increase at every start; its lower 32 bits count
/// the leases of the epoch. It stays below 2^53, and so within the integers of every JSON reader,
/// for the first two million starts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FencingToken(pub(super) u64);

impl FencingToken {
    /// A token from its number.
    pub fn from_number(number: u64) -> Self {
        Self(number)
    }

    /// Its number.
    pub fn number(self) -> u64 {
        self.0
    }
}

impl fmt::Display for FencingToken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Which lock: a name within a namespace.
pub type LockName = (NamespaceId, Key);

/// The connection of a caller, for leases that end with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SessionId(pub u64);

/// The access with which a lease was acquired; withdrawing the access ends the lease.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AccessId(pub u64);

/// One place in a queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ticket(pub(super) u64);

/// What a caller asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AcquireRequest {
    /// The caller's display name.
    pub owner: String,
    /// The lease, unless it is renewed.
    pub lease: Duration,
    /// How long to wait for it; zero not to wait.
    pub wait: Duration,
    /// The connection the lease ends with; `None` if the lease outlives it.
    pub session: Option<SessionId>,
    /// The access of the caller; `None` when it cannot be withdrawn.
    pub access: Option<AccessId>,
}

/// A lease that was granted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// Which lock.
    pub name: LockName,
    /// The lease's token.
    pub token: FencingToken,
    /// When it ends unless it is renewed.
    pub ends_at: Timestamp,
}

/// The holder of a lock, as other callers may see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// Its display name.
    pub owner: String,
    /// The lease's token.
    pub token: FencingToken,
    /// When it began.
    pub since: Timestamp,
    /// When it ends unless it is renewed.
    pub ends_at: Timestamp,
}

/// A queued caller, as shown to others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QueuedCaller {
    /// Its display name.
    pub owner: String,
    /// When it began to wait.
    pub since: Timestamp,
    /// When its wait ends.
    pub waits_until: Timestamp,
}

/// A lock, as shown to callers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockView {
    /// Which lock.
    pub name: LockName,
    /// Who holds it.
    pub holder: Holder,
    /// The queue, in order; the first hundred callers.
    pub queue: Vec<QueuedCaller>,
    /// How many callers are queued.
    pub queued: usize,
}

/// The number of held locks and of queued callers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct LockCounts {
    /// Locks that are held.
    pub held: usize,
    /// Callers in the queue.
    pub queued: usize,
}

/// The outcome of a request.
#[derive(Debug, PartialEq, Eq)]
pub enum LockOutcome<W> {
    /// The lock is the caller's; the waiter was not needed.
    Granted(Grant, W),
    /// The caller is in the queue.
    Queued(Ticket),
    /// Another caller holds it, and this one does not wait.
    HeldByOther(Holder, W),
}

/// Why a request was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AcquireError {
    /// There is no epoch yet, so a token could be smaller than one from before the restart.
    #[error(
        "locks cannot be granted: MariaDB did not answer at the start, so the last fencing token is unknown; they are granted as soon as MariaDB answers"
    )]
    NoEpoch,
    /// Another node may grant locks now.
    #[error(
        "locks cannot be granted: there is a standby node, and MariaDB does not confirm that this node is still active"
    )]
    Unconfirmed,
    /// The epoch has no fencing tokens left.
    #[error("the fencing tokens of this epoch are used up; a new epoch is on its way")]
    EpochUsedUp,
    /// The connection that the lease would end with has ended.
    #[error("the connection that the lease would end with has ended")]
    Disconnected,
    /// Too many locks are held or waited for in the namespace.
    #[error(
        "the namespace has {0} leases and queued callers, the limit at the moment; retry later"
    )]
    Full(usize),
}

/// Why a lease cannot be renewed or released.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotHeld {
    /// Nobody holds the lock now.
    #[error("the lease with fencing token {token} has ended; the lock is free now")]
    Free {
        /// The token in the request.
        token: FencingToken,
    },
    /// Unknown, because another node may grant locks now.
    #[error(
        "the lease with fencing token {token} is not renewed: there is a standby node, and MariaDB does not confirm that this node is still active"
    )]
    Unconfirmed {
        /// The token in the request.
        token: FencingToken,
    },
    /// Another caller holds it now.
    #[error(
        "the lease with fencing token {token} has ended; {owner} holds the lock now, with fencing token {now}"
    )]
    Other {
        /// The token in the request.
        token: FencingToken,
        /// Who holds it.
        owner: String,
        /// The token of the current lease.
        now: FencingToken,
    },
}

/// What ended a lease.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LeaseEnd {
    /// Its holder released the lock.
    Release,
    /// Its time was over.
    Time,
    /// An administrator ended it.
    Force,
    /// Its holder's connection ended.
    Disconnection,
    /// Its holder's access was withdrawn.
    Withdrawal,
}

/// An event that a waiting caller or an observer must learn of.
#[derive(Debug, PartialEq, Eq)]
pub enum LockNotice<W> {
    /// A lease ended; its holder is not notified.
    Ended(LockName, Holder, LeaseEnd),
    /// The waiting caller now holds the lock.
    Granted(W, Grant),
    /// The wait is over, and another caller still holds the lock.
    TimedOut(W, Holder),
}
