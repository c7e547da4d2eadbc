//! The data plane's errors.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use verax_core::guard::RefusedReason;
use verax_core::guard::lock::NotHeld;
use verax_core::store::PutError;
use verax_origin::OriginError;

/// Why the engine refused or failed an operation.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EngineError {
    /// An input is out of range or malformed.
    #[error("{0}")]
    Invalid(String),
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
    /// The refill permit has ended.
    #[error("{0}; nothing was stored")]
    Permit(RefusedReason),
    /// The permit holder abandoned the refill for every waiting caller.
    #[error("the permit holder abandoned the refill; repeat the request, or read the origin")]
    RefillAbandoned,
    /// The lease of the lock has ended.
    #[error("{0}")]
    NotHeld(NotHeld),
    /// Overloaded; retry later.
    #[error("{0}")]
    Busy(&'static str),
}

impl EngineError {
    /// An error about input.
    pub fn invalid(error: impl fmt::Display) -> Self {
        Self::Invalid(error.to_string())
    }
}
