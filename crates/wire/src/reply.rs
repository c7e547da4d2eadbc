//! What servers send: the one table of replies and pushes.

use crate::bytes::{Reader, put_long_text, put_short_text};
use crate::error::WireError;
use crate::field::{Field, Flag, FlagName, Flags, I64, IfFlag, Rest, ShortText, U16, U32, U64};
use crate::frame::{self, Frame, Head};
use crate::sequence::{Element, Sequence};
use crate::table::{FieldShape, ReplyShape, frames};
use crate::value::Value;

frames! {
    /// A reply or push of a server.
    Reply<'a>, REPLIES: ReplyShape;

    /// To a hello.
    Welcome = 0x81, "welcome", { batched: false } (welcome: Welcome<'a>);
    /// To an open: the frame's namespace is its number from now on.
    Opened = 0x82, "opened", { batched: false } {
        /// Whether entries may be read.
        may_read: bool => Flag<1>,
        /// Whether entries may be stored and deleted.
        may_write: bool => Flag<2>,
        /// The largest value, in bytes.
        max_value_bytes: u64 => U64,
    };
    /// To a ping.
    Pong = 0x83, "pong", { batched: false };
    /// Pushed: the server accepts no new requests; it replies to those in flight, then closes.
    Goodbye = 0x84, "goodbye", { batched: false };
    /// Pushed to watchers: near copies of these entries are invalid.
    Invalidated = 0x85, "invalidated", { batched: false } (what: Invalidated<'a>);
    /// To a read that found a value.
    Value = 0x90, "value", { batched: true } (value: Value<'a>);
    /// To a read or a change of lifetime that found nothing, and to a wait in vain.
    Miss = 0x91, "miss", { batched: true };
    /// To a request without a result.
    Done = 0x92, "done", { batched: true } {
        /// Whether an entry existed before and was replaced, deleted or changed.
        was_there: bool => Flag<1>,
        /// To a put that requested it: the revision of the stored entry.
        revision: Option<u64> => IfFlag<2, U64>,
    };
    /// To a batch: one reply for each operation, in order.
    Batch = 0x94, "batch", { batched: false } (replies: BatchReplies<'a>);
    /// To a listing.
    Page = 0x95, "page", { batched: false } {
        /// Where the next page starts; empty on the last one.
        cursor: &'a str => ShortText,
        /// The entries.
        entries: ListedEntries<'a> => ListedEntries<'a>,
    };
    /// To an addition.
    Counted = 0x97, "counted", { batched: false } {
        /// Whether this addition created the counter.
        created: bool => Flag<1>,
        /// The counter's value.
        value: i64 => I64,
    };
    /// To an acquisition from a rate limit: it was allowed.
    RateAcquired = 0x98, "rate acquired", { batched: false } {
        /// How much can still be acquired now.
        left: u64 => U64,
    };
    /// To an acquisition that was refused; nothing was acquired.
    Later = 0x99, "later", { batched: false } {
        /// Milliseconds until a retry may succeed.
        retry_after: u64 => U64,
    };
    /// To a clear.
    Cleared = 0x9a, "cleared", { batched: false } {
        /// The number of entries removed.
        entries: u64 => U64,
    };
    /// To the acquisition or the renewal of a lock: the lease is the caller's.
    Granted = 0xa0, "granted", { batched: false } {
        /// Its fencing token.
        fencing_token: u64 => U64,
        /// Milliseconds until it ends unless it is renewed.
        ends_in: u64 => U64,
    };
    /// To the acquisition of a lock or a look at it: another caller holds it.
    Held = 0xa1, "held", { batched: false } {
        /// The lease's fencing token.
        fencing_token: u64 => U64,
        /// Milliseconds until it ends unless it is renewed.
        ends_in: u64 => U64,
        /// How long it has been held, in milliseconds.
        held_for: u64 => U64,
        /// How many callers are queued.
        queued: u32 => U32,
        /// The holder's display name.
        owner: &'a str => Rest,
    };
    /// To the acquisition of a permit: the caller refills, and stores the value with this permit.
    Permit = 0xa8, "permit", { batched: false } {
        /// The permit's number.
        permit: u64 => U64,
        /// Milliseconds until it expires.
        ends_in: u64 => U64,
    };
    /// To a wait for a key to refill: the caller refills this one, and stores the value with this
    /// permit.
    Wanted = 0xa9, "wanted", { batched: false } {
        /// The permit's number.
        permit: u64 => U64,
        /// Milliseconds until it expires.
        ends_in: u64 => U64,
        /// The key.
        key: &'a str => Rest,
    };
    /// To a request that was refused or failed.
    Failed = 0xff, "failed", { batched: true } {
        /// Whether a write certainly left the origin unchanged.
        unchanged: bool => Flag<1>,
        /// Why, for programs: the code of a kind of failure.
        code: u16 => U16,
        /// A number under which the server's log has more, if the server failed.
        request_id: u64 => U64,
        /// After how long the request may be repeated, in milliseconds.
        retry_after: Option<u64> => IfFlag<2, U64>,
        /// Why, for people.
        detail: &'a str => Rest,
    };
}

impl Reply<'_> {
    /// [`Reply::Done`] without a revision.
    pub const fn done(was_there: bool) -> Self {
        Self::Done { was_there, revision: None }
    }
}

/// The reply to a hello.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Welcome<'a> {
    /// The agreed version.
    pub version: u16,
    /// The maximum size of a body, in bytes.
    pub max_body_bytes: u32,
    /// The maximum number of requests in flight; further ones wait in the connection.
    pub max_in_flight: u32,
    /// The server closes a connection that is idle for this long, in milliseconds.
    pub idle_timeout: u32,
    /// The revision of the topology.
    pub topology: u64,
    /// The nodes' addresses, the active one's first. An empty address is that of the connection
    /// itself.
    pub nodes: Nodes<'a>,
}

impl<'a> Field<'a> for Welcome<'a> {
    type Value = Self;
    const SHAPE: &'static str = "version (2), max body bytes (4), max in flight (4), idle timeout in milliseconds (4), topology revision (8), number of nodes (1), each address (short text)";

    fn read(head: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        Ok(Self {
            version: body.u16("version")?,
            max_body_bytes: body.u32("max body bytes")?,
            max_in_flight: body.u32("max in flight")?,
            idle_timeout: body.u32("idle timeout")?,
            topology: body.u64("topology")?,
            nodes: Nodes::read(head, body, "nodes")?,
        })
    }

    fn write(welcome: &Self, out: &mut Vec<u8>) {
        out.extend_from_slice(&welcome.version.to_le_bytes());
        for number in [welcome.max_body_bytes, welcome.max_in_flight, welcome.idle_timeout] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        out.extend_from_slice(&welcome.topology.to_le_bytes());
        Nodes::write(&welcome.nodes, out);
    }
}

/// The addresses of nodes.
pub type Nodes<'a> = Sequence<'a, &'a str, NodeElement>;

#[doc(hidden)]
pub enum NodeElement {}

impl<'a> Element<'a, &'a str> for NodeElement {
    const SHAPE: &'static str = "number (1), each address (short text)";
    const COUNT: &'static str = "number of nodes";
    const MAX: usize = u8::MAX as usize;
    const WIDE: bool = false;

    fn read(body: &mut &'a [u8]) -> Result<&'a str, WireError> {
        let mut reader = Reader(body);
        let address = reader.short_text("node")?;
        *body = reader.0;
        Ok(address)
    }

    fn write(address: &&'a str, out: &mut Vec<u8>) {
        put_short_text(out, address);
    }
}

/// The scope of an invalidation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Invalidated<'a> {
    /// The entry of a key.
    Key(&'a str),
    /// Every entry with a tag.
    Tag(&'a str),
    /// Every entry of the namespace.
    All,
}

const TAG: u8 = 1;
const ALL: u8 = 2;

impl<'a> Field<'a> for Invalidated<'a> {
    type Value = Self;
    const SHAPE: &'static str = "key, or with flag 1 tag, or with flag 2 nothing (rest)";
    const FLAGS: &'static [FlagName] = &[(TAG, "tag"), (ALL, "all")];

    fn read(head: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        match head.bits {
            0 => Ok(Self::Key(body.rest_text("key")?)),
            TAG => Ok(Self::Tag(body.rest_text("tag")?)),
            ALL => Ok(Self::All),
            _ => Err(head.error()),
        }
    }

    fn write(what: &Self, out: &mut Vec<u8>) {
        match what {
            Self::Key(text) | Self::Tag(text) => out.extend_from_slice(text.as_bytes()),
            Self::All => {}
        }
    }

    fn flags(what: &Self) -> u8 {
        match what {
            Self::Key(_) => 0,
            Self::Tag(_) => TAG,
            Self::All => ALL,
        }
    }
}

/// An entry of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ListedEntry<'a> {
    /// Its key.
    pub key: &'a str,
    /// The size of its value.
    pub value_bytes: u64,
    /// How long ago it was stored, in milliseconds.
    pub age: u64,
    /// Milliseconds until it is stale; 0 or less when it is.
    pub time_left: i64,
    /// Its media type.
    pub media_type: &'a str,
}

/// The entries of a page.
pub type ListedEntries<'a> = Sequence<'a, ListedEntry<'a>, ListedElement>;

#[doc(hidden)]
pub enum ListedElement {}

impl<'a> Element<'a, ListedEntry<'a>> for ListedElement {
    const SHAPE: &'static str = "number (2), for each entry: key (long text), size of the value (8), age in milliseconds (8), milliseconds until it is stale (8, signed), media type (short text)";
    const COUNT: &'static str = "number of entries";
    const MAX: usize = u16::MAX as usize;

    fn read(body: &mut &'a [u8]) -> Result<ListedEntry<'a>, WireError> {
        let mut reader = Reader(body);
        let entry = ListedEntry {
            key: reader.long_text("key")?,
            value_bytes: reader.u64("size")?,
            age: reader.u64("age")?,
            time_left: reader.i64("time left")?,
            media_type: reader.short_text("media type")?,
        };
        *body = reader.0;
        Ok(entry)
    }

    fn write(entry: &ListedEntry<'a>, out: &mut Vec<u8>) {
        put_long_text(out, entry.key);
        out.extend_from_slice(&entry.value_bytes.to_le_bytes());
        out.extend_from_slice(&entry.age.to_le_bytes());
        out.extend_from_slice(&entry.time_left.to_le_bytes());
        put_short_text(out, entry.media_type);
    }
}

/// The replies of a batch: kind, flags, body length, and body of each.
pub type BatchReplies<'a> = Sequence<'a, Reply<'a>, ReplyElement>;

#[doc(hidden)]
pub enum ReplyElement {}

impl<'a> Element<'a, Reply<'a>> for ReplyElement {
    const SHAPE: &'static str =
        "number (2), then for each reply kind (1), flags (1), length (4), body";
    const COUNT: &'static str = "number of replies";
    const MAX: usize = u16::MAX as usize;

    fn read(body: &mut &'a [u8]) -> Result<Reply<'a>, WireError> {
        Reply::read_element(body, "reply")
    }

    fn write(reply: &Reply<'a>, out: &mut Vec<u8>) {
        reply.write_element(out);
    }
}
