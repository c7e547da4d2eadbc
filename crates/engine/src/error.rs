//! The data plane's errors.

use std::fmt;
use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

use verax_core::content::{ContentRule, Damage};
use verax_core::guard::RefusedReason;
use verax_core::guard::lock::NotHeld;
use verax_core::pattern::KeyPattern;
use verax_core::store::PutError;
use verax_origin::OriginError;

use crate::traffic::Limit;

/// Why the engine refused or failed an operation.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EngineError {
    /// An input is out of range or malformed.
    #[error(transparent)]
    Invalid(#[from] InvalidInput),
    /// The access of the call has ended.
    #[error("this token or session has ended: check VERAX_TOKEN, or get a new token")]
    AccessEnded,
    /// The namespace was deleted in the meantime.
    #[error("the namespace was deleted meanwhile")]
    NamespaceGone,
    /// Another node is active; this one is a standby.
    #[error(
        "this node is a standby and does not serve: use the active node, or configure clients with the addresses of both"
    )]
    Standby,
    /// Locks cannot be granted until the records provide an epoch.
    #[error(
        "{0}; entries are still served, but nothing can be created or changed until MariaDB is back"
    )]
    Unconfirmed(String),
    /// The value is larger than the namespace allows.
    #[error(
        "the value has {size} bytes, more than the {limit} bytes that namespace {namespace} allows"
    )]
    ValueTooLarge {
        /// Its size; at least one more than the limit.
        size: u64,
        /// The limit.
        limit: u64,
        /// The namespace.
        namespace: String,
    },
    /// The value breaks the namespace's content rule; nothing was stored.
    #[error("the value must {}: {damage}", words_of(*rule, *by_schema))]
    BrokenContent {
        /// The rule.
        rule: ContentRule,
        /// Whether there is a schema, too.
        by_schema: bool,
        /// Where and why.
        damage: Damage,
    },
    /// The entry does not fit into the memory limit at all.
    #[error("{0}")]
    DoesNotFit(PutError),
    /// The condition of the request does not hold.
    #[error("the condition does not hold: the entry is not the expected one")]
    ConditionFailed,
    /// The origin gave no value.
    #[error("{0}")]
    Origin(Arc<OriginError>),
    /// The key has a negative entry: the origin has no value.
    #[error("the origin has no value for this key, as of the last read; the next read is in {} ms", left.as_millis())]
    NegativeResult {
        /// How much longer the negative entry is valid.
        left: Duration,
    },
    /// A write-through failed at the origin.
    #[error("{}; {}", error.plain(), if error.is_certain() { "nothing was changed" } else { "the origin may have changed, so the entry was removed" })]
    NotWritten {
        /// Why.
        error: Arc<OriginError>,
    },
    /// The namespace's origin refills it; callers do not.
    #[error(
        "namespace {namespace} has an origin, which refills it: read its keys with get, or refill by permit in a namespace without an origin"
    )]
    HasOrigin {
        /// The namespace.
        namespace: String,
    },
    /// The refill permit has ended.
    #[error("{0}; nothing was stored")]
    Permit(RefusedReason),
    /// The permit holder abandoned the refill for every waiting caller.
    #[error("the permit holder abandoned the refill; repeat the request, or read the origin")]
    RefillAbandoned,
    /// No service waits to refill keys of a namespace without an origin.
    #[error(
        "no service waits to refill keys of {namespace}: start one that does, or bind an origin"
    )]
    NoRefiller {
        /// The namespace.
        namespace: String,
    },
    /// The lease of the lock has ended.
    #[error("{0}")]
    NotHeld(NotHeld),
    /// A quota of the tenant or namespace does not allow it now; nothing was changed.
    #[error("{of} has passed its limit of {limit}{}", RetryAfter(*retry_after))]
    QuotaExceeded {
        /// Whose quota.
        of: String,
        /// The limit.
        limit: Limit,
        /// After how long it may be tried again; `None` if that is not known.
        retry_after: Option<Duration>,
    },
    /// Overloaded; retry later.
    #[error(transparent)]
    Overloaded(#[from] Overload),
}

fn words_of(rule: ContentRule, by_schema: bool) -> &'static str {
    match rule {
        ContentRule::Any => "have any bytes",
        ContentRule::Text => "be UTF-8 text, but is not",
        ContentRule::Json if by_schema => "match the namespace's schema, but does not",
        ContentRule::Json => "be valid JSON, but is not",
    }
}

/// When to try again, for people.
struct RetryAfter(Option<Duration>);

impl fmt::Display for RetryAfter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            Some(wait) => write!(f, "; retry in {} ms", wait.as_millis().max(1)),
            None => f.write_str("; close unused ones, or retry later"),
        }
    }
}

/// An input that the engine refuses.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidInput {
    /// A lease is out of range.
    #[error("a lease of {} s is out of range: use {} s to {} s", lease.as_secs_f64(), range.start().as_secs_f64(), range.end().as_secs())]
    Lease {
        /// The requested lease.
        lease: Duration,
        /// The allowed leases.
        range: RangeInclusive<Duration>,
    },
    /// A wait is too long.
    #[error("a wait of {} s is out of range: use at most {} s, and repeat the request", wait.as_secs_f64(), max.as_secs())]
    Wait {
        /// The requested wait.
        wait: Duration,
        /// The maximum.
        max: Duration,
    },
    /// The display name of an owner is too long.
    #[error("the owner's name has {bytes} bytes: use at most {max}")]
    Owner {
        /// Its length, in bytes.
        bytes: usize,
        /// The maximum, in bytes.
        max: usize,
    },
    /// The size of a page is out of range.
    #[error("a page of {entries} entries is out of range: use 1 to {max}")]
    Page {
        /// The requested size.
        entries: usize,
        /// The maximum.
        max: usize,
    },
    /// The values of a batch are too large together.
    #[error("the values of one batch exceed {max} bytes: read fewer at a time")]
    BatchValues {
        /// The maximum, in bytes.
        max: usize,
    },
    /// A negative entry has a value.
    #[error("a value of the type {media_type} must be empty: it is a negative entry")]
    NegativeValue {
        /// The media type of negative entries.
        media_type: &'static str,
    },
    /// A write-through in a namespace that is no longer bound to an origin.
    #[error("the namespace no longer has an origin")]
    NoOrigin,
    /// The key cannot be written through.
    #[error("the key does not match the pattern {pattern} of this namespace")]
    KeyMismatch {
        /// The namespace's key pattern.
        pattern: KeyPattern,
    },
}

/// Why the engine is overloaded, or cannot finish a request now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Overload {
    /// The queue of a key is full.
    #[error("too many callers wait for this key; retry in a second")]
    WaitingCallers,
    /// The namespace is at its limit of permits.
    #[error("this namespace has as many refill permits as it may; retry in a second")]
    Permits,
    /// As many services wait for keys to refill as may.
    #[error("as many services wait for keys of this namespace as may; retry later")]
    Refillers,
    /// The namespace is at its limit of leases and queued callers.
    #[error("the namespace has as many leases and queued callers as it may; retry later")]
    Locks,
    /// Other searches are under way.
    #[error("other searches are under way; retry in a second")]
    Searches,
    /// The in-flight budget is spent.
    #[error("too many values are in flight; retry in a second")]
    InFlight,
    /// A refill ended without an outcome.
    #[error("the refill was abandoned; repeat the request")]
    RefillAbandoned,
    /// A write ended without an outcome.
    #[error("the write was abandoned; read the entry before you repeat it")]
    WriteAbandoned,
    /// The service is stopping.
    #[error("the wait ended: the service is stopping")]
    Stopping,
    /// The caller's connection has ended.
    #[error("the connection has ended")]
    Disconnected,
}
