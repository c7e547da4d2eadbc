//! What happens in a namespace, told to one observer.
//!
//! The engine does not count: it tells what happened, and an [`Observer`] makes of that what it
//! likes. Every event of a namespace goes to the observer that the namespace was opened with.

use std::fmt;
use std::time::Duration;

use verax_core::guard::lock::{FencingToken, LeaseEnd};
use verax_core::{Key, NamespaceId, Timestamp};

/// Is told what happens in one namespace. It is called on the serving path, partly under locks, so
/// it must neither wait nor call back into the engine.
pub trait Observer: fmt::Debug + Send + Sync {
    /// Something happened.
    fn observe(&self, event: &Event<'_>);
}

/// Something that happened in a namespace.
#[derive(Debug, Clone, Copy)]
pub enum Event<'a> {
    /// Look-ups were answered from the cache, each after about the same time.
    Hits {
        /// With a fresh copy.
        fresh: u64,
        /// With a stale copy, while a refresh is under way.
        stale: u64,
        /// How long each took inside the service.
        each: Duration,
    },
    /// A look-up ended otherwise.
    LookUp(LookUp),
    /// A caller got a permit to refill by itself.
    PermitGranted,
    /// The origin was asked, or could not be.
    OriginRead(OriginRead),
    /// A caller that refilled by itself stored a value, which took so long to produce.
    CallerRead(Duration),
    /// A caller that refilled by itself had no value.
    CallerFailed,
    /// A value or a deletion is sent to the origin.
    OriginWrite,
    /// The origin did not take it.
    OriginWriteFailed,
    /// What is stored changed.
    Changed(Change<'a>),
    /// What a refill brought was refused: its permit was void, or over.
    RefillRefused,
    /// A refill has ended.
    RefillEnded(&'a RefillRecord),
    /// Something happened to a lock.
    Lock(&'a LockEvent),
}

/// How a look-up ended that is no plain hit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LookUp {
    /// With a stale copy, because the origin failed.
    StaleOnError,
    /// With what a refill of its own brought.
    Refilled,
    /// With what another caller's refill brought.
    Joined,
    /// With the knowledge that the origin has no value.
    Negative,
    /// Without a value.
    Missed,
}

/// How a read of the origin went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OriginRead {
    /// It answered, with a value or without one, after this time.
    Answered(Duration),
    /// It failed after this time.
    Failed(Duration),
    /// It was not asked: its circuit is open, or too many reads wait for it.
    Refused,
}

/// A change of what is stored.
#[derive(Debug, Clone, Copy)]
pub struct Change<'a> {
    /// What it is about.
    pub scope: ChangeScope<'a>,
    /// What was done.
    pub kind: ChangeKind,
    /// Its number: changes of a namespace are numbered from 1 since it was opened, and those of one
    /// key are told in their order.
    pub revision: u64,
}

/// What a change is about.
#[derive(Debug, Clone, Copy)]
pub enum ChangeScope<'a> {
    /// The entry of one key.
    Key(&'a Key),
    /// Every entry with a tag.
    Tag(&'a str),
    /// Every entry.
    All,
}

/// What was done to what is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeKind {
    /// A caller stored a value, or changed a number.
    Put,
    /// A refill brought a value, or the knowledge that there is none.
    Refill,
    /// An entry got another lifetime.
    Lifetime,
    /// A caller deleted an entry, present or not.
    Delete,
    /// Entries were invalidated or cleared.
    Invalidate,
}

/// What became of a refill.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RefillOutcome {
    /// The value was stored.
    Stored = 0,
    /// There was a value, which was not to be stored or did not fit.
    NotStored,
    /// There was no value, since something failed.
    Failed,
    /// The key was invalidated or written meanwhile: the value was refused.
    Voided,
    /// The permit's time was over.
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
    /// How many callers waited for it.
    pub waiters: usize,
    /// The longest wait.
    pub max_wait: Duration,
}

/// What happened to a lock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LockEventKind {
    /// Somebody got the lock.
    Granted,
    /// Its holder released it.
    Released,
    /// The lease's time was over.
    Expired,
    /// An administrator ended the lease.
    Forced,
    /// The lease ended with its holder's connection.
    Disconnected,
    /// The lease ended with its holder's access.
    Withdrawn,
    /// Somebody waited in vain.
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
    /// Whose lease or wait it was.
    pub owner: String,
    /// The lease's token; `None` for a wait in vain.
    pub token: Option<FencingToken>,
    /// How long the caller waited for it, or held it.
    pub lasted: Duration,
}
