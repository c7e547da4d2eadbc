//! Events of a namespace, and the observer that receives them.
//!
//! The engine does not count: it publishes events, and an [`Observer`] counts, shows or logs them.
//! Every event of a namespace goes to the observer the namespace was opened with.

use std::fmt;
use std::time::Duration;

use verax_core::guard::lock::{FencingToken, LeaseEnd};
use verax_core::{EntityTag, Key, NamespaceId, Timestamp};

/// Receives the events of one namespace. It is called on the serving path, partly under locks, so
/// it must neither block nor call back into the engine.
pub trait Observer: fmt::Debug + Send + Sync {
    /// Receives one event.
    fn observe(&self, event: &Event<'_>);
}

/// An event of a namespace.
#[derive(Debug, Clone, Copy)]
pub enum Event<'a> {
    /// Hits, each with about the same latency.
    Hits {
        /// Fresh hits.
        fresh: u64,
        /// Stale hits, while the entry is refreshed.
        stale: u64,
        /// The latency of each inside the service.
        each: Duration,
    },
    /// Values of so many bytes were sent to callers.
    Sent(u64),
    /// Values of so many bytes came from callers.
    Received(u64),
    /// A read that was not a plain hit.
    LookUp(LookUp),
    /// A request was refused, because a rate was passed.
    QuotaExceeded,
    /// A refill permit was granted to a caller.
    PermitGranted,
    /// The origin was read, or could not be.
    OriginRead(OriginRead),
    /// A caller refilled a value, which took this long to produce.
    CallerRead(Duration),
    /// A caller released its permit without a value.
    CallerFailed,
    /// A put or delete is written through to the origin.
    OriginWrite,
    /// A write-through failed.
    OriginWriteFailed,
    /// Entries changed.
    Changed(Change<'a>),
    /// A refilled value was refused, because its permit was void or had ended.
    RefillRefused,
    /// A refill has ended.
    RefillEnded(&'a RefillRecord),
    /// A lock changed hands or a wait for it timed out.
    Lock(&'a LockEvent),
    /// A client reported a value that it cannot decode.
    Damage(&'a DamageRecord),
}

/// The outcome of a read that was not a plain hit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LookUp {
    /// A stale copy, because the origin failed.
    StaleOnError,
    /// A value from its own refill.
    Refilled,
    /// A value from another caller's refill.
    Joined,
    /// A negative entry: the origin has no value.
    Negative,
    /// Without a value.
    Missed,
}

/// The outcome of an origin read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OriginRead {
    /// It responded, with or without a value, after this time.
    Answered(Duration),
    /// It failed after this time.
    Failed(Duration),
    /// It was not read: its circuit is open, or its queue is full.
    Refused,
}

/// A change of one or more entries.
#[derive(Debug, Clone, Copy)]
pub struct Change<'a> {
    /// What changed.
    pub scope: ChangeScope<'a>,
    /// How it changed.
    pub kind: ChangeKind,
    /// Its number: changes of a namespace are numbered from 1 since it was opened, and changes of
    /// one key are published in order.
    pub revision: u64,
}

/// The scope of a change.
#[derive(Debug, Clone, Copy)]
pub enum ChangeScope<'a> {
    /// The entry of one key.
    Key(&'a Key),
    /// Every entry with a tag.
    Tag(&'a str),
    /// Every entry.
    All,
}

/// The kind of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeKind {
    /// A caller stored a value, or changed a counter or rate limit.
    Put,
    /// A refill stored a value or a negative entry.
    Refill,
    /// An entry's lifetime was set.
    Lifetime,
    /// A caller deleted a key, present or not.
    Delete,
    /// Entries were invalidated or cleared.
    Invalidate,
}

/// The outcome of a refill.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RefillOutcome {
    /// The value was stored.
    Stored = 0,
    /// There was a value, but it must not be stored or did not fit.
    NotStored,
    /// There was no value, because the refill failed.
    Failed,
    /// The key was invalidated or written in the meantime, so the value was refused.
    Voided,
    /// The permit had expired.
    Expired,
    /// The origin has no such value.
    NoValue,
}

impl RefillOutcome {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Stored, Self::NotStored, Self::Failed, Self::Voided, Self::Expired, Self::NoValue];

    /// A stable short name, for programs.
    pub fn name(self) -> &'static str {
        match self {
            Self::Stored => "stored",
            Self::NotStored => "not-stored",
            Self::Failed => "failed",
            Self::Voided => "voided",
            Self::Expired => "expired",
            Self::NoValue => "no-value",
        }
    }
}

/// A refill that has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefillRecord {
    /// When it ended.
    pub at: Timestamp,
    /// The namespace.
    pub namespace: NamespaceId,
    /// The key.
    pub key: Key,
    /// Who held the permit.
    pub holder: String,
    /// How long.
    pub took: Duration,
    /// What became of it.
    pub outcome: RefillOutcome,
    /// The entity tag of the value that was stored.
    pub entity_tag: Option<EntityTag>,
    /// How many callers waited for it.
    pub waiters: usize,
    /// The longest wait.
    pub max_wait: Duration,
}

/// A report of a value that a client cannot decode.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DamageRecord {
    /// When it came.
    pub at: Timestamp,
    /// The namespace.
    pub namespace: NamespaceId,
    /// The key.
    pub key: Key,
    /// Why, as the client says.
    pub reason: String,
    /// Who reported it.
    pub reporter: String,
    /// Whether the entry was removed.
    pub removed: bool,
}

/// The kind of a lock event.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LockEventKind {
    /// The lock was acquired.
    Granted,
    /// Its holder released the lock.
    Released,
    /// The lease expired.
    Expired,
    /// An administrator forced the lock open.
    Forced,
    /// The lease ended with its holder's connection.
    Disconnected,
    /// The lease ended with its holder's access.
    Withdrawn,
    /// A wait timed out.
    TimedOut,
}

impl From<LeaseEnd> for LockEventKind {
    fn from(by: LeaseEnd) -> Self {
        match by {
            LeaseEnd::Release => Self::Released,
            LeaseEnd::Time => Self::Expired,
            LeaseEnd::Force => Self::Forced,
            LeaseEnd::Disconnection => Self::Disconnected,
            LeaseEnd::Withdrawal => Self::Withdrawn,
        }
    }
}

/// A lock event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockEvent {
    /// When.
    pub at: Timestamp,
    /// The namespace.
    pub namespace: NamespaceId,
    /// The lock.
    pub name: Key,
    /// What.
    pub kind: LockEventKind,
    /// The owner of the lease or wait.
    pub owner: String,
    /// The lease's fencing token; `None` for a wait that timed out.
    pub token: Option<FencingToken>,
    /// How long the caller waited for or held the lock.
    pub lasted: Duration,
}
