//! What the protocol fixes: its mark, its version, and its limits.

/// What a hello begins with, so that other protocols are recognised at once.
pub const MAGIC: [u8; 4] = *b"VRXW";

/// The version of the protocol that this crate speaks.
pub const VERSION: u16 = 1;

/// The largest body that a server takes before it has said its own limit: that of a hello.
pub const MAX_HELLO_BYTES: u32 = 4 << 10;

/// The longest key, in bytes.
pub const MAX_KEY_BYTES: usize = 1_024;

/// The longest media type, in bytes.
pub const MAX_MEDIA_TYPE_BYTES: usize = 255;

/// The most tags of one entry, and the longest tag in bytes.
pub const MAX_TAGS: usize = 32;

/// The longest tag, in bytes.
pub const MAX_TAG_BYTES: usize = 128;

/// The most operations in a batch.
pub const MAX_BATCH_OPERATIONS: usize = 1_000;
