//! Events of a handle, for an application's own metrics and logs.

use std::sync::Arc;
use std::time::Duration;

use crate::error::ClientError;

/// What an event is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum CacheEventKind {
    /// A read was served from a near copy.
    NearHit,
    /// A read was served by Verax, fresh.
    Hit,
    /// A read was served by Verax with a stale copy that is being refreshed.
    Stale,
    /// A read was served with a stale copy, since the refill failed.
    StaleOnError,
    /// A read was served with a negative entry.
    Negative,
    /// A read was a miss.
    Miss,
    /// A read timed out or failed.
    Failure,
    /// A call was not tried, since Verax failed to respond several times in a row.
    Skipped,
    /// The application refilled a key.
    Refill,
    /// The application's refill failed.
    RefillFailed,
    /// A refilled value was returned but not stored.
    NotStored,
    /// A cached value could not be decoded as what the application expects.
    Unreadable,
    /// A value was put, or not, with a reason.
    Put,
    /// An entry was deleted, or not, with a reason.
    Delete,
    /// A tag was invalidated, or not, with a reason.
    Invalidate,
    /// A rate limit was acquired or exhausted, or failed, with a reason.
    RateLimit,
    /// A lock was acquired or held by another caller, or failed, with a reason.
    Lock,
    /// An invalidation was not delivered and is kept, to be sent when Verax is back.
    InvalidationDelayed,
    /// Delayed invalidations were delivered.
    InvalidationDelivered,
    /// An invalidation was refused, or there are too many to keep it: outdated values may be served
    /// until their lifetimes end.
    InvalidationLost,
}

impl CacheEventKind {
    /// Its name, as a label of a metric.
    pub const fn name(self) -> &'static str {
        match self {
            Self::NearHit => "near-hit",
            Self::Hit => "hit",
            Self::Stale => "stale",
            Self::StaleOnError => "stale-on-error",
            Self::Negative => "negative",
            Self::Miss => "miss",
            Self::Failure => "failure",
            Self::Skipped => "skipped",
            Self::Refill => "refill",
            Self::RefillFailed => "refill-failed",
            Self::NotStored => "not-stored",
            Self::Unreadable => "unreadable",
            Self::Put => "put",
            Self::Delete => "delete",
            Self::Invalidate => "invalidate",
            Self::RateLimit => "rate-limit",
            Self::Lock => "lock",
            Self::InvalidationDelayed => "invalidation-delayed",
            Self::InvalidationDelivered => "invalidation-delivered",
            Self::InvalidationLost => "invalidation-lost",
        }
    }
}

/// Something that happened in a [`Cache`](super::Cache).
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct CacheEvent<'e> {
    /// What it is about.
    pub kind: CacheEventKind,
    /// The tenant of the handle.
    pub tenant: &'e str,
    /// The namespace of the handle.
    pub namespace: &'e str,
    /// How long it took.
    pub took: Duration,
    /// The size of the value that was read or refilled, in bytes.
    pub bytes: usize,
    /// Why something failed or was not done.
    pub reason: Option<&'e ClientError>,
}

/// Receives events. It runs in the call that causes the event, so it should be quick.
pub type EventHook = Arc<dyn Fn(&CacheEvent<'_>) + Send + Sync>;
