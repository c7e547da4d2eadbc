//! How reading an origin fails.

use std::time::Duration;

use crate::credentials::CredentialError;

/// Why an origin gave no value. The messages are for the people who run the service; what a
/// tenant's application is told is decided at the edge.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum OriginError {
    /// No connection could be made.
    #[error("could not connect to the origin at {url}: {reason}")]
    Connect {
        /// The URL that was read.
        url: String,
        /// What the system said.
        reason: String,
    },
    /// It took too long.
    #[error("the origin at {url} did not answer within {} ms", limit.as_millis())]
    Timeout {
        /// The URL that was read.
        url: String,
        /// The longest time allowed.
        limit: Duration,
    },
    /// It says that it has no such value: by 404 or 410, or by no row.
    #[error("the origin at {url} has no such value{}", status.map(|s| format!(": it answered {s}")).unwrap_or_default())]
    NoValue {
        /// The URL that was read.
        url: String,
        /// Its status, if it is an HTTP service.
        status: Option<u16>,
    },
    /// It answered with a status that is not a success.
    #[error("the origin at {url} answered {status}")]
    Status {
        /// The URL that was read.
        url: String,
        /// Its status.
        status: u16,
    },
    /// Its answer is larger than allowed; it was not read to the end.
    #[error("the origin at {url} answered more than {limit} bytes")]
    TooLarge {
        /// The URL that was read.
        url: String,
        /// The largest response allowed.
        limit: u64,
    },
    /// What came back is not an HTTP response, or it broke off.
    #[error("the origin at {url} did not answer with a complete HTTP response: {reason}")]
    Garbled {
        /// The URL that was read.
        url: String,
        /// What was wrong with it.
        reason: String,
    },
    /// It failed several times in a row, so it is left alone for a while.
    #[error("the origin's circuit is open after several consecutive failures; the next attempt is in {} ms", retry_after.as_millis())]
    CircuitOpen {
        /// The time after which it is asked again.
        retry_after: Duration,
    },
    /// Too many calls wait for it already, or a call waited for too long.
    #[error("the queue of the origin is full")]
    Busy,
    /// The values of this key make no URL.
    #[error("the key does not match the origin's URL template: {0}")]
    KeyMismatch(String),
    /// The database refused the query, or gave what is no value.
    #[error("the origin at {url} did not answer the query: {reason}")]
    Query {
        /// The URL of the database.
        url: String,
        /// What it said.
        reason: String,
    },
    /// The result has more rows than allowed.
    #[error("the origin at {url} answered more than {limit} rows")]
    TooManyRows {
        /// The URL of the database.
        url: String,
        /// The most rows allowed.
        limit: u32,
    },
    /// The secret that opens it cannot be read.
    #[error(transparent)]
    Credential(#[from] CredentialError),
    /// It is a query, to which nothing can be written.
    #[error("the origin is a query, which is read-only")]
    ReadOnly,
}

impl OriginError {
    /// A stable one-word name, for metrics and programs.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Connect { .. } => "connect",
            Self::Timeout { .. } => "timeout",
            Self::NoValue { .. } => "no-value",
            Self::Status { .. } => "status",
            Self::TooLarge { .. } | Self::TooManyRows { .. } => "too-large",
            Self::Garbled { .. } => "garbled",
            Self::CircuitOpen { .. } => "circuit-open",
            Self::Busy => "busy",
            Self::KeyMismatch(_) => "key-mismatch",
            Self::Query { .. } => "query",
            Self::Credential(_) => "credential",
            Self::ReadOnly => "read-only",
        }
    }

    /// What went wrong in words that name no address, for callers who need not know one.
    pub fn plain(&self) -> String {
        match self {
            Self::Connect { .. } => "no connection to the origin".into(),
            Self::Timeout { limit, .. } => {
                format!("the origin did not answer within {} ms", limit.as_millis())
            }
            Self::NoValue { status: Some(status), .. } => {
                format!("the origin has no value for this key ({status})")
            }
            Self::NoValue { status: None, .. } => "the origin has no value for this key".into(),
            Self::Query { .. } => "the origin did not answer the query".into(),
            Self::TooManyRows { limit, .. } => {
                format!("the origin answered more than {limit} rows")
            }
            Self::Credential(error) => {
                format!("the credential {} of the origin cannot be read", error.name)
            }
            Self::Status { status, .. } => format!("the origin answered {status}"),
            Self::TooLarge { limit, .. } => format!("the origin answered more than {limit} bytes"),
            Self::Garbled { .. } => {
                "the origin did not answer with a complete HTTP response".into()
            }
            Self::CircuitOpen { .. } | Self::Busy | Self::ReadOnly => self.to_string(),
            Self::KeyMismatch(reason) => {
                format!("the key does not match the origin's URL template: {reason}")
            }
        }
    }

    /// The status that the origin answered with, if it came that far.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::NoValue { status, .. } => *status,
            Self::Status { status, .. } => Some(*status),
            _ => None,
        }
    }

    /// Whether the origin gave no answer, or said that it cannot. One that has no such value, or
    /// that answers with something that is not allowed, is well.
    pub(crate) fn speaks_against_the_server(&self) -> bool {
        match self {
            Self::Connect { .. } | Self::Timeout { .. } | Self::Garbled { .. } => true,
            Self::Status { status, .. } => *status >= 500 || *status == 429,
            _ => false,
        }
    }

    /// Whether it may as well be the fault of what was asked for: another value may be there.
    pub(crate) fn may_be_the_values(&self) -> bool {
        match self {
            Self::Timeout { .. } | Self::Garbled { .. } => true,
            // 502 and 503 are about the server alone (RFC 9110, section 15.6).
            Self::Status { status, .. } => *status >= 500 && !matches!(status, 502 | 503),
            _ => false,
        }
    }

    /// Whether a write that failed so has surely changed nothing. A gateway that had no good answer
    /// from what is behind it (408, 502, 504) does not know.
    pub fn is_certain(&self) -> bool {
        let unknown = matches!(self, Self::Status { status: 408 | 502 | 504, .. });
        !unknown && !matches!(self, Self::Timeout { .. } | Self::Garbled { .. })
    }
}
