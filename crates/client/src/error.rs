//! How calls fail.

use verax_api::{FailureKind, Problem};

/// Why a call did not do what it was asked.
#[derive(Debug, Clone, thiserror::Error)]
pub enum ClientError {
    /// Verax cannot be reached, or the connection broke.
    #[error("Verax at {url} cannot be reached: {reason}")]
    Unreachable {
        /// Where it was looked for.
        url: String,
        /// What the system said.
        reason: String,
    },
    /// Verax did not answer in time.
    #[error("Verax at {url} did not answer within {milliseconds} ms")]
    TimedOut {
        /// Where it was asked.
        url: String,
        /// The longest time allowed.
        milliseconds: u128,
    },
    /// Verax refused or failed, and says why.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// What answered does not speak like Verax.
    #[error("what answers at {url} does not seem to be Verax: {reason}")]
    NotVerax {
        /// Where it was asked.
        url: String,
        /// What was unexpected.
        reason: String,
    },
    /// A value is there, but not what it should be.
    #[error("the value of {key:?} cannot be read: {reason}")]
    Unreadable {
        /// Its key.
        key: String,
        /// What is wrong with it.
        reason: String,
    },
    /// The address, token or key given cannot be used.
    #[error("{0}")]
    Invalid(String),
}

impl ClientError {
    /// The status of a refusal.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::Refused(problem) => Some(problem.status),
            _ => None,
        }
    }

    /// The kind of a refusal; `None` for other errors, and for kinds of later versions.
    pub fn failure(&self) -> Option<FailureKind> {
        match self {
            Self::Refused(problem) => problem.failure(),
            _ => None,
        }
    }

    /// The short name of a refusal's kind, such as `missing-scope`.
    pub fn problem(&self) -> Option<&str> {
        match self {
            Self::Refused(problem) => Some(problem.name()),
            _ => None,
        }
    }
}
