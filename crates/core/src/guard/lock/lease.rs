//! Leases of locks: what a caller asks for, what it gets, and how a lease ends.

use std::fmt;
use std::time::Duration;

use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

/// The longest lease.
pub const MAX_LEASE: Duration = Duration::from_secs(24 * 3_600);

/// The longest wait for a lock.
pub const MAX_WAIT: Duration = Duration::from_secs(3_600);

/// The longest note of an owner, in bytes.
pub const MAX_OWNER_BYTES: usize = 200;

/// A number that grows with every lease of any lock, across restarts too.
///
/// Its upper part is an epoch that the records gave at the start of the service, each time a larger
/// one; its lower 32 bits count holds since. It stays below 2^53, which every JSON reader keeps
/// whole, for the first two million starts.
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

/// The access that a lease was asked for with, by which it can be withdrawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AccessId(pub u64);

/// One wait in a queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ticket(pub(super) u64);

/// What a caller asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AcquireRequest {
    /// Who it is, in words for people.
    pub owner: String,
    /// How long the lease lasts unless it is renewed.
    pub lease: Duration,
    /// How long to wait for it; zero to be told at once.
    pub wait: Duration,
    /// The connection that the lease ends with; `None` for a lease that outlives it.
    pub session: Option<SessionId>,
    /// The access that it is asked for with; `None` when that cannot be withdrawn.
    pub access: Option<AccessId>,
}

/// A lease that was given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// Which lock.
    pub name: LockName,
    /// The lease's token.
    pub token: FencingToken,
    /// When it ends unless it is renewed.
    pub ends_at: Timestamp,
}

/// A lease that somebody else has, as far as others may know.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// Who it is.
    pub owner: String,
    /// The lease's token.
    pub token: FencingToken,
    /// When it began.
    pub since: Timestamp,
    /// When it ends unless it is renewed.
    pub ends_at: Timestamp,
}

/// A queued caller, as it is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QueuedCaller {
    /// Who it is.
    pub owner: String,
    /// Since when it waits.
    pub since: Timestamp,
    /// When its wait is over.
    pub waits_until: Timestamp,
}

/// A lock as it is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockView {
    /// Which lock.
    pub name: LockName,
    /// Who holds it.
    pub holder: Holder,
    /// Who waits for it, in order; the first hundred.
    pub queue: Vec<QueuedCaller>,
    /// How many wait for it.
    pub queued: usize,
}

/// How many locks are held, and how many callers are in the queue for one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct LockCounts {
    /// Locks that are held.
    pub held: usize,
    /// Callers in the queue.
    pub queued: usize,
}

/// What became of a claim.
#[derive(Debug, PartialEq, Eq)]
pub enum LockOutcome<W> {
    /// The lock is held by the caller; the waiter was not needed.
    Granted(Grant, W),
    /// The caller is in the queue.
    Queued(Ticket),
    /// Somebody else holds it and the caller does not wait.
    HeldByOther(Holder, W),
}

/// Why a claim was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AcquireError {
    /// No epoch was given yet, so that a token could be smaller than one before the restart.
    #[error(
        "locks are not given at the moment: MariaDB did not answer at the start, so nobody can tell which fencing tokens were given before; they are given as soon as it does"
    )]
    NoEpoch,
    /// Somebody else may give locks now.
    #[error(
        "locks are not given at the moment: another Verax stands by, and MariaDB does not confirm that this one is still active"
    )]
    Unconfirmed,
    /// So many leases were given since the start that the epoch is used up.
    #[error("the fencing tokens of this epoch are used up; a new one is being asked for")]
    EpochUsedUp,
    /// The connection that the lease is to end with has ended.
    #[error("the connection that the lease was to end with has ended")]
    Disconnected,
    /// Too many locks are held or waited for in the namespace.
    #[error(
        "the namespace has {0} leases and waits already, and there may be no more at the moment"
    )]
    Full(usize),
}

/// Why a lease cannot be renewed or released: it is over.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotHeld {
    /// Nobody holds the lock now.
    #[error("the lease with fencing token {token} is over; nobody holds the lock now")]
    Free {
        /// The token that was given.
        token: FencingToken,
    },
    /// Whether it is over cannot be told: somebody else may give locks now.
    #[error(
        "the lease with fencing token {token} is not renewed: another Verax stands by, and MariaDB does not confirm that this one is still active"
    )]
    Unconfirmed {
        /// The token that was given.
        token: FencingToken,
    },
    /// Somebody else holds it now.
    #[error(
        "the lease with fencing token {token} is over; {owner} holds the lock now, with fencing token {now}"
    )]
    Other {
        /// The token that was given.
        token: FencingToken,
        /// Who holds it.
        owner: String,
        /// The token of the hold there is.
        now: FencingToken,
    },
}

/// What ended a lease.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LeaseEnd {
    /// Its holder released it.
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

/// What happened, and whom it concerns.
#[derive(Debug, PartialEq, Eq)]
pub enum LockNotice<W> {
    /// A lease ended; its holder is not told.
    Ended(LockName, Holder, LeaseEnd),
    /// The lock is theirs.
    Granted(W, Grant),
    /// Their wait is over, and somebody else still holds it.
    TimedOut(W, Holder),
}
