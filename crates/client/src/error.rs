//! The client's errors.

use std::time::Duration;

use verax_api::{FailureKind, Problem};

/// Why a call failed.
#[derive(Debug, Clone, thiserror::Error)]
pub enum ClientError {
    /// Verax cannot be reached, or the connection broke.
    #[error("Verax at {url} cannot be reached: {reason}")]
    Unreachable {
        /// Its address.
        url: String,
        /// The system's error.
        reason: String,
    },
    /// Verax did not respond in time.
    #[error("Verax at {url} did not answer within {milliseconds} ms")]
    TimedOut {
        /// The address of the request.
        url: String,
        /// The timeout.
        milliseconds: u128,
    },
    /// Verax refused or failed, and reports why.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// The response is not one of Verax.
    #[error("what answers at {url} does not seem to be Verax: {reason}")]
    NotVerax {
        /// The address of the request.
        url: String,
        /// What was unexpected.
        reason: String,
    },
    /// A value exists, but is not of the expected form.
    #[error("the value of {key:?} cannot be read: {reason}")]
    Unreadable {
        /// Its key.
        key: String,
        /// What is wrong with it.
        reason: String,
    },
    /// A refilled value was returned without being stored, although nothing failed.
    #[error("the value was not stored: {0}")]
    NotStored(String),
    /// A given address, token or key is malformed.
    #[error("{0}")]
    Invalid(String),
}

impl ClientError {
    /// The HTTP status of a refusal.
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

    /// Whether the same call may succeed later: Verax did not respond, or cannot serve now.
    pub fn is_temporary(&self) -> bool {
        let kinds = [
            FailureKind::Overloaded,
            FailureKind::Standby,
            FailureKind::RecordsUnavailable,
            FailureKind::QuotaExceeded,
        ];
        match self {
            Self::Unreachable { .. } | Self::TimedOut { .. } => true,
            _ => self.failure().is_some_and(|kind| kinds.contains(&kind)),
        }
    }

    /// After how long a refused call may be repeated, where Verax says so.
    pub fn retry_after(&self) -> Option<Duration> {
        match self {
            Self::Refused(problem) => {
                Duration::try_from_secs_f64(problem.retry_after_seconds()?).ok()
            }
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
