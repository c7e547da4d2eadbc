//! What the data plane refuses or fails to do.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use verax_core::guard::RefusedReason;
use verax_core::guard::lock::NotHeld;
use verax_core::store::PutError;
use verax_origin::OriginError;

/// Why the engine did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EngineError {
    /// A number or other input is wrong.
    #[error("{0}")]
    Invalid(String),
    /// The access that the call was made with ended meanwhile.
    #[error("this token or session has ended: check VERAX_TOKEN, or get a new token")]
    AccessEnded,
    /// The namespace was deleted meanwhile.
    #[error("the namespace was deleted meanwhile")]
    NamespaceGone,
    /// Another Verax is active; this one stands by.
    #[error(
        "this node is a standby and does not serve: use the active node, or configure clients with the addresses of both"
    )]
    Standby,
    /// Locks cannot be given until the records say so.
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
    /// The entry does not fit into memory at all.
    #[error("{0}")]
    DoesNotFit(PutError),
    /// A condition of the request does not hold.
    #[error("the condition does not hold: the entry is not the expected one")]
    ConditionFailed,
    /// The origin gave no value.
    #[error("{0}")]
    Origin(Arc<OriginError>),
    /// It is known that the origin has no value for the key.
    #[error("the origin has no value for this key, as of the last read; the next read is in {} ms", left.as_millis())]
    NegativeResult {
        /// How long that is taken for true yet.
        left: Duration,
    },
    /// The origin did not take a value that was to be written through.
    #[error("{}; {}", error.plain(), if error.is_certain() { "nothing was changed" } else { "the origin may have changed, so the entry was removed" })]
    NotWritten {
        /// Why.
        error: Arc<OriginError>,
    },
    /// A refill permit is over.
    #[error("{0}; nothing was stored")]
    Permit(RefusedReason),
    /// The caller that was refilling gave up, for all who waited.
    #[error("the permit holder abandoned the refill; repeat the request, or read the origin")]
    RefillAbandoned,
    /// A lease of a lock is over.
    #[error("{0}")]
    NotHeld(NotHeld),
    /// Too much is going on; come back later.
    #[error("{0}")]
    Busy(&'static str),
}

impl EngineError {
    /// An error about input.
    pub fn invalid(error: impl fmt::Display) -> Self {
        Self::Invalid(error.to_string())
    }
}
