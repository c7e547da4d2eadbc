//! What the service can refuse or fail to do.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use verax_core::guard::RefusedReason;
use verax_core::guard::lock::NotHeld;
use verax_core::store::PutError;
use verax_origin::OriginError;
use verax_records::RecordsError;

use crate::access::Scope;

/// What a call was about, for messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// A tenant, by name.
    Tenant(String),
    /// A namespace, as tenant/namespace.
    Namespace(String),
    /// An origin, as tenant/origin.
    Origin(String),
    /// A token, by identity.
    Token(u64),
    /// A load profile, by name.
    Profile(String),
    /// A run, by identity.
    Run(u64),
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tenant(name) => write!(f, "tenant {name}"),
            Self::Namespace(name) => write!(f, "namespace {name}"),
            Self::Origin(name) => write!(f, "origin {name}"),
            Self::Token(id) => write!(f, "token {id}"),
            Self::Profile(name) => write!(f, "load profile {name}"),
            Self::Run(id) => write!(f, "run {id}"),
        }
    }
}

/// Why the service did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ServiceError {
    /// No token, or one that opens nothing.
    #[error("{0}")]
    NotSignedIn(&'static str),
    /// The token lacks a scope. Says nothing about whether the thing exists.
    #[error(
        "this token does not hold the scope {0}: use a token that does, or have one created with it"
    )]
    MissingScope(Scope),
    /// The thing does not exist.
    #[error("there is no {0}")]
    Unknown(Subject),
    /// A name, number or other input is wrong.
    #[error("{0}")]
    Invalid(String),
    /// What is to be created exists already, or what is to be removed is still used.
    #[error("{0}")]
    Conflict(String),
    /// The records cannot be read or written at the moment.
    #[error(
        "{0}; entries are still served, but nothing can be created or changed until MariaDB is back"
    )]
    RecordsUnavailable(String),
    /// Another Verax is active; this one stands by.
    #[error(
        "this Verax stands by, and serves only when the active one has ended: ask that one, or give clients the addresses of both"
    )]
    Standby,
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
    #[error("the condition does not hold: the entry there is not the expected one")]
    ConditionFailed,
    /// The origin gave no value.
    #[error("{0}")]
    Origin(Arc<OriginError>),
    /// It is known that the origin has no value for the key.
    #[error("the origin had no such value when it was last asked; it is asked again in {} ms", left.as_millis())]
    NegativeResult {
        /// How long that is taken for true yet.
        left: Duration,
    },
    /// The origin did not take a value that was to be written through.
    #[error("{}; {}", error.plain(), if error.is_certain() { "nothing was changed" } else { "whether it was changed is not known, so the entry was removed" })]
    NotWritten {
        /// Why.
        error: Arc<OriginError>,
    },
    /// A refill permit is over.
    #[error("{0}; nothing was stored")]
    Permit(RefusedReason),
    /// The caller that was refilling gave up, for all who waited.
    #[error("the caller that was refilling this key gave up; ask again, or read the origin")]
    RefillGivenUp,
    /// A hold of a lock is over.
    #[error("{0}")]
    NotHeld(NotHeld),
    /// Too much is going on; come back later.
    #[error("{0}")]
    Busy(&'static str),
}

impl From<RecordsError> for ServiceError {
    fn from(error: RecordsError) -> Self {
        match error {
            RecordsError::Exists(_) | RecordsError::InUse { .. } => {
                Self::Conflict(error.to_string())
            }
            RecordsError::NotOwner => Self::Standby,
            RecordsError::Missing(what) => Self::Invalid(format!("there is no {what}")),
            other => Self::RecordsUnavailable(other.to_string()),
        }
    }
}

impl ServiceError {
    /// Takes an error about input.
    pub(crate) fn invalid(error: impl fmt::Display) -> Self {
        Self::Invalid(error.to_string())
    }
}
