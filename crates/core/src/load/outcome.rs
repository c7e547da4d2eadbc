//! How a request of a load run ends.

use serde::{Deserialize, Serialize};

/// How a request of a lane ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// A read brought a value.
    Read(ReadKind),
    /// A write or an invalidation was done.
    Written,
    /// It failed.
    Failed(ErrorKind),
}

/// Where the value of a read came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadKind {
    /// The cache.
    Hit,
    /// A read of the origin.
    Origin,
    /// A refill that another caller had begun.
    Joined,
}

/// Why a request failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum ErrorKind {
    /// There was no response in time.
    Timeout,
    /// There was no connection, or it broke.
    Connection,
    /// It was refused: a limit, a quota, or overload.
    Refused,
    /// There is no value for the key.
    NoValue,
    /// Anything else.
    Other,
}

impl ErrorKind {
    /// All kinds, in display order.
    pub const ALL: [Self; 5] =
        [Self::Timeout, Self::Connection, Self::Refused, Self::NoValue, Self::Other];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Timeout => "timeout",
            Self::Connection => "connection",
            Self::Refused => "refused",
            Self::NoValue => "no-value",
            Self::Other => "other",
        }
    }
}
