//! The control plane's errors.

use std::fmt;

use verax_core::access::Scope;
use verax_engine::EngineError;
use verax_records::RecordsError;

/// The subject of a call, for messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// A tenant, by name.
    Tenant(String),
    /// A namespace, as tenant/namespace.
    Namespace(String),
    /// An origin, as tenant/origin.
    Origin(String),
    /// A token, by identifier.
    Token(u64),
    /// A load profile, by name.
    Profile(String),
    /// A run, by identifier.
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

/// Why the control plane refused or failed an operation.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ControlError {
    /// No token, or one that is not valid.
    #[error("{0}")]
    NotSignedIn(&'static str),
    /// The token lacks a scope. Reveals nothing about whether the subject exists.
    #[error("this token lacks the scope {0}: use a token that has it")]
    MissingScope(Scope),
    /// The subject does not exist.
    #[error("there is no {0}")]
    Unknown(Subject),
    /// An input is out of range or malformed.
    #[error("{0}")]
    Invalid(String),
    /// The subject to create already exists, or the one to delete is still in use.
    #[error("{0}")]
    Conflict(String),
    /// The subject is no longer the version the caller read.
    #[error("the {0} has changed since it was read: read it again, then change it")]
    NotExpected(&'static str),
    /// The records cannot be read or written now.
    #[error(
        "{0}; entries are still served, but nothing can be created or changed until MariaDB is back"
    )]
    RecordsUnavailable(String),
    /// Overloaded; retry later.
    #[error("{0}")]
    Busy(&'static str),
    /// The engine refused or failed.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl From<RecordsError> for ControlError {
    fn from(error: RecordsError) -> Self {
        match error {
            RecordsError::Exists(_) | RecordsError::InUse { .. } => {
                Self::Conflict(error.to_string())
            }
            RecordsError::NotOwner => Self::Engine(EngineError::Standby),
            RecordsError::Missing(what) => Self::Invalid(format!("there is no {what}")),
            other => Self::RecordsUnavailable(other.to_string()),
        }
    }
}

impl ControlError {
    /// Converts an input error.
    pub(crate) fn invalid(error: impl fmt::Display) -> Self {
        Self::Invalid(error.to_string())
    }
}
