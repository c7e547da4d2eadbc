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
mod limits;
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
pub use limits::{
    MAGIC, MAX_BATCH_OPERATIONS, MAX_HELLO_BYTES, MAX_KEY_BYTES, MAX_MEDIA_TYPE_BYTES,
    MAX_TAG_BYTES, MAX_TAGS, VERSION,
};
pub use put::EntryTag;
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
