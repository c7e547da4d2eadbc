//! The constants of the protocol: magic bytes, version, and limits.

/// The magic bytes of a hello, so that other protocols are recognized immediately.
pub const MAGIC: [u8; 4] = *b"VRXW";

/// The version of the protocol in this crate.
pub const VERSION: u16 = 1;

/// The maximum size of a hello's body, before the server has announced its own limit.
pub const MAX_HELLO_BYTES: u32 = 4 << 10;

/// The maximum length of a key, in bytes.
pub const MAX_KEY_BYTES: usize = 1_024;

/// The maximum length of a media type, in bytes.
pub const MAX_MEDIA_TYPE_BYTES: usize = 255;

/// The maximum number of tags of an entry.
pub const MAX_TAGS: usize = 32;

/// The maximum length of a tag, in bytes.
pub const MAX_TAG_BYTES: usize = 128;

/// The maximum number of operations in a batch.
pub const MAX_BATCH_OPERATIONS: usize = 1_000;
