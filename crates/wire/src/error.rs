//! What can be wrong with a frame, and what a server can refuse.

/// Bytes that are no frame of this protocol. After one, a connection cannot be used any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WireError {
    /// A body ends before the field does.
    #[error("the frame ends within its {0}")]
    Short(&'static str),
    /// A body goes on after the last field.
    #[error("the frame has {0} bytes too many")]
    Long(usize),
    /// A body is announced that is larger than the limit.
    #[error("a frame of {length} bytes is announced, more than the limit of {limit}")]
    TooLarge {
        /// What was announced.
        length: u32,
        /// The limit.
        limit: u32,
    },
    /// The kind is none of this protocol, or cannot come from this side.
    #[error("there is no such kind of frame here: {0:#04x}")]
    Kind(u8),
    /// A flag that has no meaning for this kind.
    #[error("the flags {flags:#04x} have no meaning for a frame of kind {kind:#04x}")]
    Flags {
        /// The kind.
        kind: u8,
        /// The flags.
        flags: u8,
    },
    /// A text is not UTF-8.
    #[error("the {0} is not UTF-8")]
    Text(&'static str),
    /// A field has a value that it cannot have.
    #[error("the {0} is out of range")]
    Range(&'static str),
    /// The hello does not begin with the protocol's mark.
    #[error("this is not the Verax wire protocol")]
    Magic,
}

/// Why a server did not do what a request asked for. The numbers are part of the protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u16)]
pub enum FailureCode {
    /// The request cannot be understood or breaks a limit.
    Invalid = 1,
    /// The token is missing, wrong or revoked.
    NotSignedIn = 2,
    /// The token lacks a right.
    MissingScope = 3,
    /// There is no such tenant or namespace, or the number was not opened.
    NotFound = 4,
    /// A condition of the request does not hold.
    ConditionFailed = 5,
    /// The value is too large.
    TooLarge = 6,
    /// The origin failed.
    OriginFailed = 7,
    /// The origin did not answer in time.
    OriginTimeout = 8,
    /// The origin has no such value.
    NoValue = 9,
    /// What is there is not of the kind that the request needs.
    WrongKind = 10,
    /// Too much is going on: come back later.
    Busy = 11,
    /// The server speaks no version that the client speaks.
    Version = 12,
    /// Something that the records are needed for, which are away.
    RecordsUnavailable = 13,
    /// A mistake within the server.
    Internal = 14,
    /// A lease of a lock is over.
    NotHeld = 15,
    /// A refill permit was voided, because its key was invalidated or written.
    PermitVoided = 16,
    /// A refill permit's time is over, or it was used.
    PermitExpired = 17,
    /// The server stands by: another one serves. Nothing was done.
    Standby = 18,
}

impl FailureCode {
    /// The code of a number; `None` for numbers of later versions.
    pub fn of(number: u16) -> Option<Self> {
        use FailureCode::{
            Busy, ConditionFailed, Internal, Invalid, MissingScope, NoValue, NotFound, NotHeld,
            NotSignedIn, OriginFailed, OriginTimeout, PermitExpired, PermitVoided,
            RecordsUnavailable, Standby, TooLarge, Version, WrongKind,
        };
        let all = [
            Invalid,
            NotSignedIn,
            MissingScope,
            NotFound,
            ConditionFailed,
            TooLarge,
            OriginFailed,
            OriginTimeout,
            NoValue,
            WrongKind,
            Busy,
            Version,
            RecordsUnavailable,
            Internal,
            NotHeld,
            PermitVoided,
            PermitExpired,
            Standby,
        ];
        all.into_iter().find(|code| *code as u16 == number)
    }
}
