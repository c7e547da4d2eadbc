//! Errors of frames.

/// Bytes that are not a frame of this protocol. After one, a connection is unusable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WireError {
    /// A body ends before the field does.
    #[error("the frame ends within its {0}")]
    Short(&'static str),
    /// A body continues after the last field.
    #[error("the frame has {0} bytes too many")]
    Long(usize),
    /// An announced body is larger than the limit.
    #[error("a frame of {length} bytes is announced, more than the limit of {limit}")]
    TooLarge {
        /// The announced size.
        length: u32,
        /// The limit.
        limit: u32,
    },
    /// The kind is unknown, or not valid from this side.
    #[error("unknown kind of frame: {0:#04x}")]
    Kind(u8),
    /// A flag that this kind does not have.
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
    /// A field has an invalid value.
    #[error("the {0} is out of range")]
    Range(&'static str),
    /// The hello does not begin with the protocol's magic bytes.
    #[error("this is not the Verax wire protocol")]
    Magic,
}
