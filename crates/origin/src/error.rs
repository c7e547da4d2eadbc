//! Errors of origins.

use std::time::Duration;

use crate::credentials::CredentialError;

/// Why an origin returned no value. The messages are for operators; the transports decide what a
/// tenant's application sees.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum OriginError {
    /// No connection could be made.
    #[error("could not connect to the origin at {url}: {reason}")]
    Connect {
        /// The URL.
        url: String,
        /// The system's error.
        reason: String,
    },
    /// It took too long.
    #[error("the origin at {url} did not answer within {} ms", limit.as_millis())]
    Timeout {
        /// The URL.
        url: String,
        /// The timeout.
        limit: Duration,
    },
    /// It has no such value: status 404 or 410, or no row.
    #[error("the origin at {url} has no such value{}", status.map(|s| format!(": it answered {s}")).unwrap_or_default())]
    NoValue {
        /// The URL.
        url: String,
        /// Its status, if it is an HTTP service.
        status: Option<u16>,
    },
    /// It responded with an error status.
    #[error("the origin at {url} answered {status}")]
    Status {
        /// The URL.
        url: String,
        /// Its status.
        status: u16,
    },
    /// Its response is too large and was not read to the end.
    #[error("the origin at {url} answered more than {limit} bytes")]
    TooLarge {
        /// The URL.
        url: String,
        /// The maximum size of a response.
        limit: u64,
    },
    /// Its value is not what the namespace may store.
    #[error("the origin's value cannot be used: {0}")]
    Damaged(String),
    /// The response is not HTTP, or was cut off.
    #[error("the origin at {url} did not answer with a complete HTTP response: {reason}")]
    Garbled {
        /// The URL.
        url: String,
        /// What was wrong with it.
        reason: String,
    },
    /// The circuit is open after several failures in a row.
    #[error("the origin's circuit is open after several consecutive failures; the next attempt is in {} ms", retry_after.as_millis())]
    CircuitOpen {
        /// When it is tried again.
        retry_after: Duration,
    },
    /// The queue is full, or a call waited too long.
    #[error("the queue of the origin is full")]
    Busy,
    /// The values of the key make no URL.
    #[error("the key does not match the origin's URL template: {0}")]
    KeyMismatch(String),
    /// The database refused the query, or returned no usable value.
    #[error("the origin at {url} did not answer the query: {reason}")]
    Query {
        /// The URL of the database.
        url: String,
        /// Its error.
        reason: String,
    },
    /// The result has more rows than allowed.
    #[error("the origin at {url} answered more than {limit} rows")]
    TooManyRows {
        /// The URL of the database.
        url: String,
        /// The maximum number of rows.
        limit: u32,
    },
    /// Its secret cannot be read.
    #[error(transparent)]
    Credential(#[from] CredentialError),
    /// It is a query and cannot be written to.
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
            Self::Damaged(_) => "damaged",
            Self::CircuitOpen { .. } => "circuit-open",
            Self::Busy => "busy",
            Self::KeyMismatch(_) => "key-mismatch",
            Self::Query { .. } => "query",
            Self::Credential(_) => "credential",
            Self::ReadOnly => "read-only",
        }
    }

    /// The error without addresses, for callers who must not learn them.
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
            Self::CircuitOpen { .. } | Self::Busy | Self::ReadOnly | Self::Damaged(_) => {
                self.to_string()
            }
            Self::KeyMismatch(reason) => {
                format!("the key does not match the origin's URL template: {reason}")
            }
        }
    }

    /// The origin's status, if there was a response.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::NoValue { status, .. } => *status,
            Self::Status { status, .. } => Some(*status),
            _ => None,
        }
    }

    /// Whether the failure counts against the server: no response, or an error. A missing or
    /// forbidden value does not.
    pub(crate) fn speaks_against_the_server(&self) -> bool {
        match self {
            Self::Connect { .. } | Self::Timeout { .. } | Self::Garbled { .. } => true,
            Self::Status { status, .. } => *status >= 500 || *status == 429,
            _ => false,
        }
    }

    /// Whether the key may be at fault: another key may work.
    pub(crate) fn may_be_the_values(&self) -> bool {
        match self {
            Self::Timeout { .. } | Self::Garbled { .. } => true,
            // 502 and 503 concern only the server (RFC 9110, section 15.6).
            Self::Status { status, .. } => *status >= 500 && !matches!(status, 502 | 503),
            _ => false,
        }
    }

    /// Whether a write that failed this way certainly changed nothing. A gateway without a response
    /// from its server (408, 502, 504) does not know.
    pub fn is_certain(&self) -> bool {
        let unknown = matches!(self, Self::Status { status: 408 | 502 | 504, .. });
        !unknown && !matches!(self, Self::Timeout { .. } | Self::Garbled { .. })
    }
}
