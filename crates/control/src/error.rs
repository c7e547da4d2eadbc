//! What the control plane refuses or fails to do.

use std::fmt;

use verax_core::access::Scope;
use verax_engine::EngineError;
use verax_records::RecordsError;

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

/// Why a caller was not let in, or nothing was changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ControlError {
    /// No token, or one that opens nothing.
    #[error("{0}")]
    NotSignedIn(&'static str),
    /// The token lacks a scope. Says nothing about whether the thing exists.
    #[error("this token lacks the scope {0}: use a token that has it")]
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
    /// What is to be changed is not, or no longer, what the caller had read.
    #[error("the {0} has changed since it was read: read it again, then change it")]
    NotExpected(&'static str),
    /// The records cannot be read or written at the moment.
    #[error(
        "{0}; entries are still served, but nothing can be created or changed until MariaDB is back"
    )]
    RecordsUnavailable(String),
    /// Too much is going on; come back later.
    #[error("{0}")]
    Busy(&'static str),
    /// The engine did not do it.
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
    /// Takes an error about input.
    pub(crate) fn invalid(error: impl fmt::Display) -> Self {
        Self::Invalid(error.to_string())
    }
}
