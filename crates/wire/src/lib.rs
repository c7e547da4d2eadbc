//! The Verax wire protocol as a codec: bytes in, frames out, and back. No sockets, no clock.
//!
//! docs/wire-protocol.md specifies the protocol; this crate is its reference. A connection carries
//! [frames](frame): a header of twelve bytes and a body. Clients send [`Request`]s and servers
//! answer with [`Reply`]s of the same id, in any order; servers also push. Decoding borrows from
//! the bytes it is given and copies nothing; it refuses every malformed input with a [`WireError`]
//! and allocates nothing by a length that has not been checked.
//!
//! # Example
//!
//! ```
//! use verax_wire::{Frame, GetFlags, Request, next_frame};
//!
//! let mut bytes = Vec::new();
//! let get = Request::Get { key: "board/aldermouth", flags: GetFlags::default() };
//! get.encode(Frame { namespace: 1, id: 7 }, &mut bytes);
//!
//! let (frame, rest) = next_frame(&bytes, 1 << 20)?.expect("the frame is complete");
//! assert_eq!((frame.head.id, rest), (7, bytes.len()));
//! assert_eq!(Request::decode(frame.head, frame.body)?, get);
//! # Ok::<(), verax_wire::WireError>(())
//! ```

mod bytes;
mod error;
mod field;
pub mod frame;
mod lifetime;
mod put;
mod reply;
mod request;
mod sequence;
mod table;
mod tags;
mod value;

pub use error::WireError;
pub use field::FlagName;
pub use frame::{Frame, Head, RawFrame, next_frame};
pub use lifetime::Lifetime;
pub use put::{Put, PutCondition};
pub use reply::{
    BatchReplies, Invalidated, ListedEntries, ListedEntry, Nodes, REPLIES, Reply, Welcome,
};
pub use request::{BatchOperations, GetFlags, Hello, OPERATIONS, PermitFlags, Request};
pub use sequence::Sequence;
pub use table::{FieldShape, Needs, Operation, ReplyShape};
pub use tags::Tags;
pub use value::{Details, Value};
pub use verax_core::source::Source;

/// The validator of media type and value, as a number.
pub type EntryTag = u128;

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
